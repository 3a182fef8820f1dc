//! The API's client.

use crate::arguments::Global;
use crate::failure::Failure;
use crate::settings::Settings;
use bivector_api::problem::Problem;
use bivector_model::text::{is_plain, shown};
use bivector_wire::Secret;
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use reqwest::{Method, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::path::Path;
use std::time::Duration;

/// Speaks to one service as one operator.
#[derive(Debug, Clone)]
pub(crate) struct Client {
    http: reqwest::Client,
    server: String,
    token: Secret<String>,
}

/// An answer: the expected one, or a refusal with its body.
pub(crate) enum Answer<T> {
    /// As expected.
    Good(T),
    /// Not; the status and the problem.
    Refused(Problem),
}

/// The service's address, and what calls it without an operator's token, as people's handsets do.
///
/// # Errors
/// The client's file or that of the issuers cannot be read.
pub(crate) fn as_a_handset(global: &Global) -> Result<(String, reqwest::Client), Failure> {
    let (server, ca) = crate::settings::server(global)?;
    let http = http(&server, ca.as_deref())?;
    Ok((server, http))
}

fn http(server: &str, ca: Option<&Path>) -> Result<reqwest::Client, Failure> {
    if !server.starts_with("https://") {
        return Ok(reqwest::Client::new());
    }
    let built = reqwest::Client::builder().tls_certs_only(issuers(ca)?).build();
    built.map_err(|error| Failure::usage(format!("TLS cannot be set up: {error}"), "please report it"))
}

impl Client {
    /// From flags, environment and file.
    ///
    /// # Errors
    /// No token is known.
    pub(crate) fn new(global: &Global) -> Result<Self, Failure> {
        let settings = Settings::find(global)?;
        let http = http(&settings.server, settings.ca.as_deref())?;
        Ok(Client { http, server: settings.server, token: settings.token })
    }

    /// To a service whose address and token are known.
    pub(crate) fn to(server: String, token: Secret<String>) -> Self {
        Client { http: reqwest::Client::new(), server, token }
    }

    async fn send<B: Serialize>(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, String)],
        body: Option<&B>,
    ) -> Result<Response, Failure> {
        let mut request = self.http.request(method, format!("{}/api/v1{path}", self.server)).bearer_auth(self.token.expose());
        if !query.is_empty() {
            request = request.query(query);
        }
        if let Some(body) = body {
            request = request.json(body);
        }
        request.send().await.map_err(|error| self.unreachable(&error))
    }

    fn unreachable(&self, error: &reqwest::Error) -> Failure {
        let why = if error.is_connect() { "nothing is listening there".to_owned() } else { error.without_url_text() };
        Failure::unreachable(
            format!("cannot reach the service at {}: {why}", self.server),
            "start it with `bivector serve`, or give its address with `--server URL`",
        )
    }

    /// A call with its answer, refusals apart.
    ///
    /// # Errors
    /// The service could not be reached, or its answer cannot be read.
    pub(crate) async fn call<B: Serialize, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, String)],
        body: Option<&B>,
    ) -> Result<Answer<T>, Failure> {
        let response = self.send(method, path, query, body).await?;
        let status = response.status();
        let text = response.bytes().await.map_err(|error| self.unreachable(&error))?;
        let strange = || {
            Failure::unreachable(
                format!("cannot parse the answer from {} (status {status})", self.server),
                "check that `--server` points to a Bivector service of the same version",
            )
        };
        if status.is_success() {
            let text: &[u8] = if status == StatusCode::NO_CONTENT { b"null" } else { &text };
            return read(text, !path.starts_with("/site")).map(Answer::Good).map_err(|_| strange());
        }
        serde_json::from_slice(&text).map(Answer::Refused).map_err(|_| strange())
    }

    /// A call whose refusal is a failure.
    ///
    /// # Errors
    /// As [`Client::call`], and every refusal.
    pub(crate) async fn ask<B: Serialize, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, String)],
        body: Option<&B>,
    ) -> Result<T, Failure> {
        match self.call(method, path, query, body).await? {
            Answer::Good(answer) => Ok(answer),
            Answer::Refused(problem) => Err(problem.into()),
        }
    }

    /// Reads something.
    ///
    /// # Errors
    /// As [`Client::ask`].
    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, Failure> {
        self.ask(Method::GET, path, query, None::<&()>).await
    }

    /// The raw body of a POST, whatever its status: for answers that are no problem although they say no.
    ///
    /// # Errors
    /// The service could not be reached.
    pub(crate) async fn post_raw<B: Serialize>(&self, path: &str, body: &B) -> Result<(StatusCode, Vec<u8>), Failure> {
        let response = self.send(Method::POST, path, &[], Some(body)).await?;
        let status = response.status();
        let bytes = response.bytes().await.map_err(|error| self.unreachable(&error))?;
        Ok((status, bytes.to_vec()))
    }

    /// The stream of events; gives the open response.
    ///
    /// # Errors
    /// As [`Client::ask`].
    pub(crate) async fn events(&self) -> Result<Response, Failure> {
        let response = self.send(Method::GET, "/events", &[], None::<&()>).await?;
        if response.status().is_success() {
            return Ok(response);
        }
        let problem: Problem = response.json().await.map_err(|error| self.unreachable(&error))?;
        Err(problem.into())
    }

    /// The body of an answer as it comes.
    ///
    /// # Errors
    /// As [`Client::ask`].
    pub(crate) async fn stream(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<BoxStream<'static, reqwest::Result<bytes::Bytes>>, Failure> {
        let response = self.send(Method::GET, path, query, None::<&()>).await?;
        if response.status().is_success() {
            return Ok(response.bytes_stream().boxed());
        }
        let problem: Problem = response.json().await.map_err(|error| self.unreachable(&error))?;
        Err(problem.into())
    }

    /// The body of a POST's answer as it comes.
    ///
    /// # Errors
    /// As [`Client::ask`].
    pub(crate) async fn post_stream<B: Serialize>(
        &self,
        path: &str,
        body: &B,
    ) -> Result<BoxStream<'static, reqwest::Result<bytes::Bytes>>, Failure> {
        let response = self.send(Method::POST, path, &[], Some(body)).await?;
        if response.status().is_success() {
            return Ok(response.bytes_stream().boxed());
        }
        let problem: Problem = response.json().await.map_err(|error| self.unreachable(&error))?;
        Err(problem.into())
    }

    /// An answer that is plain text.
    ///
    /// # Errors
    /// As [`Client::ask`].
    pub(crate) async fn text(&self, path: &str, query: &[(&str, String)]) -> Result<String, Failure> {
        let mut stream = self.stream(path, query).await?;
        let mut text = Vec::new();
        while let Some(chunk) = stream.next().await {
            text.extend_from_slice(&chunk.map_err(|error| self.unreachable(&error))?);
        }
        Ok(String::from_utf8_lossy(&text).into_owned())
    }

    /// Waits until the service is ready, at most for `limit`.
    ///
    /// # Errors
    /// It is not, in time.
    pub(crate) async fn wait(&self, limit: Duration) -> Result<(), Failure> {
        let until = tokio::time::Instant::now() + limit;
        loop {
            match self.http.get(format!("{}/healthz", self.server)).send().await {
                Ok(response) if response.status().is_success() => return Ok(()),
                Err(error) if tokio::time::Instant::now() >= until => return Err(self.unreachable(&error)),
                _ => tokio::time::sleep(Duration::from_millis(20)).await,
            }
        }
    }
}

/// Reads an answer. Texts in it come from gateways, directories and people, and go to a terminal: what steers one is written out. A site
/// file is left as it is.
fn read<T: DeserializeOwned>(text: &[u8], shows: bool) -> serde_json::Result<T> {
    let mut value: Value = serde_json::from_slice(text)?;
    if shows {
        make_plain(&mut value);
    }
    serde_json::from_value(value)
}

fn make_plain(value: &mut Value) {
    match value {
        Value::String(text) if !is_plain(text) => {
            // Prompts and tables have lines of their own.
            *text = text.split('\n').map(shown).collect::<Vec<_>>().join("\n");
        }
        Value::Array(values) => values.iter_mut().for_each(make_plain),
        Value::Object(values) => values.values_mut().for_each(make_plain),
        _ => {}
    }
}

/// Where Debian keeps the usual issuers.
const USUAL_ISSUERS: &str = "/etc/ssl/certs/ca-certificates.crt";

/// The issuers that the service's certificate may come from.
fn issuers(ca: Option<&Path>) -> Result<Vec<reqwest::Certificate>, Failure> {
    let path = ca.unwrap_or(Path::new(USUAL_ISSUERS));
    let refused = |why: String| Failure::usage(format!("`{}` {why}", path.display()), "give the CA's PEM file with `--ca`");
    let pem = std::fs::read(path).map_err(|error| refused(format!("cannot be read: {error}")))?;
    reqwest::Certificate::from_pem_bundle(&pem).map_err(|error| refused(format!("is not valid PEM: {error}")))
}

/// A name as one piece of a path.
pub(crate) fn encode(name: &str) -> String {
    name.bytes()
        .map(
            |byte| {
                if byte.is_ascii_alphanumeric() || b"-_.".contains(&byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }
            },
        )
        .collect()
}

/// The line of events, read event by event.
pub(crate) struct Events {
    stream: BoxStream<'static, reqwest::Result<bytes::Bytes>>,
    waiting: String,
}

impl Events {
    /// Takes the line up.
    ///
    /// # Errors
    /// As [`Client::ask`].
    pub(crate) async fn open(client: &Client) -> Result<Self, Failure> {
        Ok(Events { stream: client.events().await?.bytes_stream().boxed(), waiting: String::new() })
    }

    /// The data of the next event of a name. May be dropped while it waits; nothing is lost then.
    ///
    /// # Errors
    /// The service ended the line.
    pub(crate) async fn next(&mut self, name: &str) -> Result<Option<String>, Failure> {
        loop {
            while let Some(at) = self.waiting.find("\n\n") {
                let event: String = self.waiting.drain(..at + 2).collect();
                let named = event.lines().any(|line| line.strip_prefix("event: ") == Some(name));
                if let Some(data) = event.lines().find_map(|line| line.strip_prefix("data: ")).filter(|_| named) {
                    return Ok(Some(data.to_owned()));
                }
            }
            match self.stream.next().await {
                Some(Ok(chunk)) => self.waiting.push_str(&String::from_utf8_lossy(&chunk)),
                _ => return Err(Failure::unreachable("the service ended the stream", "start it again, then follow again")),
            }
        }
    }
}

trait WithoutUrl {
    fn without_url_text(&self) -> String;
}

impl WithoutUrl for reqwest::Error {
    fn without_url_text(&self) -> String {
        let mut current: &dyn std::error::Error = self;
        while let Some(source) = current.source() {
            current = source;
        }
        current.to_string()
    }
}
