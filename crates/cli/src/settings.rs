//! Where the service is and who asks: from flags, then the environment, then a small file.

use crate::arguments::Global;
use crate::failure::Failure;
use bivector_wire::Secret;
use serde::Deserialize;
use std::path::{Path, PathBuf};

const DEFAULT_SERVER: &str = "http://127.0.0.1:18180";

/// `bivector/client.toml` in the user's configuration folder.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct ClientFile {
    server: Option<String>,
    token_file: Option<PathBuf>,
    ca: Option<PathBuf>,
}

/// What a client needs.
#[derive(Debug)]
pub(crate) struct Settings {
    pub(crate) server: String,
    pub(crate) token: Secret<String>,
    /// Issuers of the service's certificate.
    pub(crate) ca: Option<PathBuf>,
}

impl Settings {
    /// Gathers them.
    ///
    /// # Errors
    /// No token is known, or a file cannot be read.
    pub(crate) fn find(global: &Global) -> Result<Self, Failure> {
        let file = read_client_file()?;
        let (server, ca) = place(global, &file);
        let token_file = global.token_file.clone().or(file.token_file);
        let token = match (std::env::var("BIVECTOR_TOKEN"), token_file) {
            (_, Some(path)) if global.token_file.is_some() => read_token(&path)?,
            (Ok(token), _) if !token.is_empty() => Secret::new(token),
            (_, Some(path)) => read_token(&path)?,
            _ => {
                let remedy = "use `--token-file FILE` or set BIVECTOR_TOKEN_FILE; the service wrote the first token to `operator.token` in its data folder";
                return Err(Failure::usage("no operator token given", remedy));
            }
        };
        Ok(Settings { ca, server, token })
    }
}

/// Where the service is and who issued its certificate, for what needs no token.
///
/// # Errors
/// The file cannot be read.
pub(crate) fn server(global: &Global) -> Result<(String, Option<PathBuf>), Failure> {
    Ok(place(global, &read_client_file()?))
}

fn place(global: &Global, file: &ClientFile) -> (String, Option<PathBuf>) {
    let server = global.server.clone().or_else(|| file.server.clone()).unwrap_or_else(|| DEFAULT_SERVER.to_owned());
    (server.trim_end_matches('/').to_owned(), global.ca.clone().or_else(|| file.ca.clone()))
}

fn read_token(path: &Path) -> Result<Secret<String>, Failure> {
    let text = std::fs::read_to_string(path).map_err(|error| {
        Failure::usage(format!("the token file `{}` cannot be read: {error}", path.display()), "name another one with `--token-file`")
    })?;
    Ok(Secret::new(text.trim().to_owned()))
}

fn read_client_file() -> Result<ClientFile, Failure> {
    let folder = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| Path::new(&home).join(".config")));
    let Some(path) = folder.map(|folder| folder.join("bivector/client.toml")) else { return Ok(ClientFile::default()) };
    match std::fs::read_to_string(&path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(ClientFile::default()),
        Err(error) => Err(Failure::usage(format!("`{}` cannot be read: {error}", path.display()), "correct or remove it")),
        Ok(text) => toml::from_str(&text).map_err(|error| {
            Failure::usage(format!("`{}`: {}", path.display(), error.message()), "allowed keys: `server`, `token_file` and `ca`")
        }),
    }
}
