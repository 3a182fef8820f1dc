//! Start and stop of the service.

use crate::api;
use crate::apply::Doors;
use crate::clock;
use crate::confirm;
use crate::doors::who_holds;
use crate::error::ServiceError;
use crate::metrics;
use crate::records::{Records, Role, Sync, TokenRow};
use crate::roster::Roster;
use crate::seal::{Seal, hash_token, random};
use crate::shared::Shared;
use crate::tls::{Caller, TlsListener, server_config};
use bivector_wire::Secret;
use data_encoding::HEXLOWER;
use std::fs::{self, File};
use std::io::{ErrorKind, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// Name of the operator that the first start makes.
pub const FIRST_OPERATOR: &str = "owner";
/// File in the data folder with the first operator's token.
pub const TOKEN_FILE: &str = "operator.token";

/// How to start.
#[derive(Debug, Clone)]
pub struct Options {
    /// Folder of records, key and trust files; made if it is missing.
    pub data: PathBuf,
    /// The key file; `seal.key` in the data folder if not given.
    pub key_file: Option<PathBuf>,
    /// Where API and console listen: loopback only, unless over TLS.
    pub http: SocketAddr,
    /// Certificate and key of the API, as PEM files.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// Whether commits wait for the disk.
    pub sync: Sync,
}

/// A running service.
#[derive(Debug)]
pub struct Running {
    /// Where API and console listen.
    pub http: SocketAddr,
    /// Whether that is over TLS.
    pub encrypted: bool,
    /// The revision in force, if there is one.
    pub revision: Option<u64>,
    /// Why the newest revision could not be put in force; the API runs all the same, so that it can be mended.
    pub problem: Option<ServiceError>,
    /// Where the first operator's token was written, at the very first start.
    pub new_token_file: Option<PathBuf>,
    shared: Arc<Shared>,
    doors: Arc<Doors>,
    stop: watch::Sender<bool>,
    serving: JoinHandle<std::io::Result<()>>,
    _lock: File,
}

/// Starts the service.
///
/// # Errors
/// Whatever keeps it from working, with its remedy.
pub async fn start(options: Options) -> Result<Running, ServiceError> {
    metrics::install();
    if !options.http.ip().is_loopback() && options.tls.is_none() {
        return Err(ServiceError::NotLoopback(options.http));
    }
    let tls = options.tls.as_ref().map(|(certificate, key)| server_config(certificate, key)).transpose()?;
    let lock = take_folder(&options.data)?;
    let records = Records::open(&options.data, options.sync)?;
    let key_path = options.key_file.clone().unwrap_or_else(|| options.data.join("seal.key"));
    let seal = Arc::new(open_seal(&key_path, &records).await?);
    let new_token_file = first_operator(&options.data, &records).await?;
    let roster = Roster::load(&records, Arc::clone(&seal))?;
    records.end_lost_runs().await?;
    let shared = Arc::new(Shared::new(options.data.clone(), records, seal, roster));
    let listener = TcpListener::bind(options.http).await.map_err(|source| ServiceError::Listen {
        protocol: "TCP",
        address: options.http,
        holder: who_holds("tcp", options.http),
        source,
    })?;
    let http = listener.local_addr().map_err(|error| ServiceError::Records(error.to_string()))?;
    let doors = Arc::new(Doors::default());
    let (revision, problem) = match doors.restore_newest(&shared).await {
        Ok(revision) => (revision, None),
        Err(error @ ServiceError::Listen { .. }) => return Err(error),
        Err(error) => (None, Some(error)),
    };
    tokio::spawn(crate::prune::prune(Arc::downgrade(&shared)));
    tokio::spawn(crate::sessions::watch(Arc::downgrade(&shared)));
    let (stop, stopped) = watch::channel(false);
    confirm::take_up(&doors, &shared)?;
    let router = api::router(api::ApiState::new(Arc::clone(&shared), Arc::clone(&doors), tls.is_some(), stopped.clone())?);
    let encrypted = tls.is_some();
    let serving = tokio::spawn(async move {
        let mut stopped = stopped;
        let until = async move {
            let _ = stopped.wait_for(|stopped| *stopped).await;
        };
        let callers = router.into_make_service_with_connect_info::<Caller>();
        match tls {
            Some(config) => axum::serve(TlsListener::start(listener, config)?, callers).with_graceful_shutdown(until).await,
            None => axum::serve(listener, callers).with_graceful_shutdown(until).await,
        }
    });
    Ok(Running { http, encrypted, revision, problem, new_token_file, shared, doors, stop, serving, _lock: lock })
}

impl Running {
    /// Where the doors listen.
    pub async fn radius(&self) -> Vec<SocketAddr> {
        self.doors.addresses().await
    }

    /// Whether traces are written down from now on: for measuring what that costs.
    pub fn write_traces(&self, write: bool) {
        self.shared.writes_traces.store(write, Ordering::Relaxed);
    }

    /// Writes so many made-up traces, as thousands of logins of some hundred people would leave them: for measuring how they are read.
    ///
    /// # Errors
    /// They could not be written.
    pub async fn make_up_traces(&self, count: u64) -> Result<(), ServiceError> {
        Ok(self.shared.records.make_up_traces(count).await?)
    }

    /// Stops receiving, lets the logins in flight end, writes everything down. Takes `limit` at most for the logins.
    pub async fn stop(self, limit: Duration) {
        self.doors.close(limit).await;
        self.stop.send_replace(true);
        if tokio::time::timeout(Duration::from_secs(2), self.serving).await.is_err() {
            tracing::debug!("an API connection was still open at the end");
        }
        self.shared.records.close().await;
    }
}

/// Makes the data folder and locks it, so that two services never write to one.
fn take_folder(data: &Path) -> Result<File, ServiceError> {
    let failed = |source| ServiceError::DataFolder { path: data.to_owned(), source };
    fs::create_dir_all(data).map_err(failed)?;
    let lock = fs::OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(data.join("lock")).map_err(failed)?;
    match lock.try_lock() {
        Ok(()) => Ok(lock),
        Err(fs::TryLockError::WouldBlock) => Err(ServiceError::InUse { path: data.to_owned() }),
        Err(fs::TryLockError::Error(source)) => Err(failed(source)),
    }
}

/// Opens the key file and makes sure that it is the one that belongs to these records.
async fn open_seal(path: &Path, records: &Records) -> Result<Seal, ServiceError> {
    const CHECK: &str = "seal-check";
    let check = records.meta(CHECK)?;
    let seal = Seal::load(path, check.is_none())?;
    match check {
        Some(sealed) => seal.open(CHECK, &sealed).map(|_| ()).map_err(|_| ServiceError::KeyDiffers { path: path.to_owned() })?,
        None => records.set_meta(CHECK, Some(seal.seal(CHECK, CHECK.as_bytes()))).await?,
    }
    Ok(seal)
}

/// At the very first start: makes an operator and writes the token to a file that only this user can read.
async fn first_operator(data: &Path, records: &Records) -> Result<Option<PathBuf>, ServiceError> {
    if !records.operators()?.is_empty() {
        return Ok(None);
    }
    let path = data.join(TOKEN_FILE);
    let token = Secret::new(format!("bvt_{}", HEXLOWER.encode(&random::<32>())));
    let failed = |source| ServiceError::File { path: path.clone(), doing: "written", source };
    match fs::remove_file(&path) {
        Err(error) if error.kind() != ErrorKind::NotFound => return Err(failed(error)),
        _ => {}
    }
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(failed)?;
    file.write_all(token.expose().as_bytes()).and_then(|()| file.write_all(b"\n")).and_then(|()| file.sync_all()).map_err(failed)?;
    records.add_operator(FIRST_OPERATOR.to_owned(), Role::Own, clock::now()).await?;
    let row = TokenRow { hash: hash_token(token.expose()), operator: FIRST_OPERATOR.to_owned(), label: "first".to_owned() };
    records.add_token(row, clock::now()).await?;
    Ok(Some(path))
}
