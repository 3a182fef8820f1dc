//! What can keep the service from starting or a change from being made.

use bivector_explain::run::Run;
use bivector_site::{Difference, Finding};
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use thiserror::Error;

/// An error with its place; [`ServiceError::remedy`] says what to do.
#[derive(Debug, Error)]
pub enum ServiceError {
    /// The data folder cannot be used.
    #[error("the data folder `{path}` cannot be used: {source}")]
    DataFolder {
        /// The folder.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// A file cannot be read or written.
    #[error("`{path}` cannot be {doing}: {source}")]
    File {
        /// The file.
        path: PathBuf,
        /// Read or written.
        doing: &'static str,
        /// What the system said.
        source: io::Error,
    },
    /// Secrets were sealed, and their key is gone.
    #[error("secrets are sealed in the records, but the key file `{path}` is missing")]
    KeyMissing {
        /// Where it should be.
        path: PathBuf,
    },
    /// The key file is another one.
    #[error("the key file `{path}` does not open the secrets in the records")]
    KeyDiffers {
        /// Where it is.
        path: PathBuf,
    },
    /// The key file holds something else.
    #[error("`{path}` is not a key file: {why}")]
    KeyUnreadable {
        /// Where it is.
        path: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// The key file is there, and the records are not.
    #[error("the key file `{key}` belongs to records that are gone: `{records}` is missing or empty")]
    RecordsLost {
        /// Where the key is.
        key: PathBuf,
        /// Where the records should be.
        records: PathBuf,
    },
    /// The records come from a later version.
    #[error("the records in `{path}` were written by a newer version (layout {seen}; this one knows up to {known})")]
    RecordsNewer {
        /// The file.
        path: PathBuf,
        /// Its layout.
        seen: u32,
        /// The newest layout known here.
        known: u32,
    },
    /// Another service runs on this data folder.
    #[error("another service is running on the data folder `{path}`")]
    InUse {
        /// The folder.
        path: PathBuf,
    },
    /// The records failed.
    #[error("database error: {0}")]
    Records(String),
    /// The service is stopping; says what became of what was asked.
    #[error("{0}")]
    Stopping(String),
    /// An address cannot be listened on.
    #[error("cannot listen on {protocol} {address}: {source}{}", holder.as_deref().map(|who| format!("; in use by {who}")).unwrap_or_default())]
    Listen {
        /// `UDP` or `TCP`.
        protocol: &'static str,
        /// The address.
        address: SocketAddr,
        /// What the system said.
        source: io::Error,
        /// The process that holds it, where that can be known.
        holder: Option<String>,
    },
    /// The API may be on loopback only.
    #[error("the API would listen on {0}, which is not loopback, without a certificate")]
    NotLoopback(SocketAddr),
    /// The site has errors.
    #[error("the site has {} {}", .0.len(), if .0.len() == 1 { "finding" } else { "findings" })]
    Site(Vec<Finding>),
    /// A directory or a courier of the site cannot be used as it is configured.
    #[error("`{directory}` cannot be used: {why}")]
    Directory {
        /// Its name.
        directory: String,
        /// What was seen.
        why: String,
        /// What to do.
        remedy: String,
    },
    /// The site was changed by somebody else meanwhile.
    #[error("the active revision is {current}, not {expected}: another change was applied meanwhile")]
    RevisionMoved {
        /// The revision now.
        current: u64,
        /// The revision that the change was made from.
        expected: u64,
    },
    /// The change makes logging in weaker, and nobody said that this is meant.
    #[error("the change weakens login security: {}", .0.iter().map(|one| format!("{}: {}", one.about, one.said)).collect::<Vec<_>>().join("; "))]
    Weaker(Vec<Difference>),
    /// The rehearsal of a change did not pass.
    #[error("the change was not activated: {} of {} logins of the rehearsal `{}` did not give the expected result", .0.total - .0.passed, .0.total, .0.rehearsal)]
    NotProved(Box<Run>),
    /// The active revision waits to be confirmed.
    #[error("revision {revision} is awaiting confirmation; otherwise it is rolled back to {back_to}")]
    Unconfirmed {
        /// The active revision.
        revision: u64,
        /// The one that comes back.
        back_to: u64,
    },
    /// Something else that cannot be.
    #[error("{what}")]
    Refused {
        /// What is wrong.
        what: String,
        /// What to do.
        remedy: String,
    },
}

/// What to do about records that are damaged.
pub const RESTORE: &str = "stop the service and restore the data folder from the last backup; codes that were used since then count as \
    unused, so lock or re-enrol whom that matters for";

/// Whether SQLite's words mean that the file itself is damaged, and not that there is no room or no right.
fn is_damage(said: &str) -> bool {
    ["malformed", "not a database", "database corruption", "file is encrypted"].iter().any(|sign| said.contains(sign))
}

impl ServiceError {
    /// What to do about it.
    pub fn remedy(&self) -> String {
        match self {
            ServiceError::DataFolder { .. } => "choose a folder that this user can write to, with `--data`".into(),
            ServiceError::File { .. } => "check that the file exists and that this user may use it".into(),
            ServiceError::KeyMissing { path } => format!(
                "restore the key file to `{}`, or give its path with `--key-file`; without it the sealed secrets are lost and must be set again in a new data folder",
                path.display()
            ),
            ServiceError::KeyDiffers { .. } => "use the key file that belongs to this data folder".into(),
            ServiceError::KeyUnreadable { .. } => "use the file that the first start wrote; it holds one line".into(),
            ServiceError::RecordsNewer { .. } => "start the newer version; nothing was changed".into(),
            ServiceError::InUse { .. } => "stop the other service, or use another folder with `--data`".into(),
            ServiceError::RecordsLost { key, records } => format!(
                "restore `{}` from the last backup, with the `-wal` file beside it if there is one; only for a new service, move the key file \
                 `{}` and what is left in the data folder away",
                records.display(),
                key.display()
            ),
            ServiceError::Stopping(_) => "send it again once the service runs".into(),
            ServiceError::Records(said) if is_damage(said) => RESTORE.into(),
            ServiceError::Records(_) => "check the data folder's free space and permissions".into(),
            ServiceError::Listen { .. } => "stop the process that uses the address, or choose another address".into(),
            ServiceError::NotLoopback(_) => {
                "use an address such as 127.0.0.1:18180, or give a certificate with `--tls-certificate` and `--tls-key`".into()
            }
            ServiceError::Site(_) => "correct the site file; `bivector site check FILE` shows each place".into(),
            ServiceError::Directory { remedy, .. } | ServiceError::Refused { remedy, .. } => remedy.clone(),
            ServiceError::Weaker(_) => "if this is intended, apply it with `--weaker-is-meant`".into(),
            ServiceError::NotProved(run) => {
                format!("the active site is unchanged; `bivector rehearse --run {}` shows the differences", run.id)
            }
            ServiceError::Unconfirmed { back_to, .. } => {
                format!("confirm it with `bivector site confirm`, or roll back now with `bivector site restore {back_to}`")
            }
            ServiceError::RevisionMoved { .. } => "review the changes with `bivector site history`, then apply again".into(),
        }
    }
}
