//! Start and stop of the service.

use bivector_api::operators::Role;
use bivector_doors::who_holds;
use bivector_engine::shared::Shared;
use bivector_http::api::{self, ApiState, Exposure, Serves};
use bivector_http::server::{self, Connections, Timeouts, descriptors};
use bivector_http::tls::{names_of, server_config};
use bivector_manage::apply::Doors;
use bivector_manage::confirm;
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_store::folder::{TOKEN_FILE, take_folder};
use bivector_store::metrics;
use bivector_store::records::{Records, Sync, TokenRow};
use bivector_store::seal::{Seal, hash_token, random};
use bivector_wire::Secret;
use data_encoding::HEXLOWER;
use ipnet::IpNet;
use rustix::fs::Mode;
use std::fs::{self, File};
use std::io::{ErrorKind, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::signal::unix::SignalKind;
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// Name of the operator that the first start makes.
pub const FIRST_OPERATOR: &str = "owner";

/// What in the records shows that a key file is theirs.
const SEAL_CHECK: &str = "seal-check";

/// How to start.
#[derive(Debug, Clone)]
pub struct Options {
    /// Folder of records, key and trust files; made if it is missing.
    pub data: PathBuf,
    /// The key file; `seal.key` in the data folder if not given.
    pub key_file: Option<PathBuf>,
    /// Where API and console listen: loopback only, unless over TLS.
    pub http: SocketAddr,
    /// Where the handset page listens, apart from API and console; beside them if not given.
    pub phones: Option<SocketAddr>,
    /// Certificate and key of both, as PEM files.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// Names that lead here, besides those of the certificate and of the site's handset page.
    pub names: Vec<String>,
    /// Proxies whose word on who calls is taken (RFC 7239).
    pub proxies: Vec<IpNet>,
    /// Whether commits wait for the disk.
    pub sync: Sync,
    /// A file that the backup touches when it has copied the data folder.
    pub backup_stamp: Option<PathBuf>,
}

impl Options {
    /// With a data folder, and API, console and handset page at one address.
    pub fn new(data: PathBuf, http: SocketAddr) -> Self {
        Options {
            data,
            key_file: None,
            http,
            phones: None,
            tls: None,
            names: Vec::new(),
            proxies: Vec::new(),
            sync: Sync::Full,
            backup_stamp: None,
        }
    }
}

/// A running service.
#[derive(Debug)]
pub struct Running {
    /// Where API and console listen.
    pub http: SocketAddr,
    /// Where the handset page listens, if that is apart.
    pub phones: Option<SocketAddr>,
    /// Whether that is over TLS.
    pub encrypted: bool,
    /// The active revision, if there is one.
    pub revision: Option<u64>,
    /// Why the newest revision could not be activated; the API runs all the same, so that it can be mended.
    pub problem: Option<ServiceError>,
    /// Where the first operator's token was written, at the very first start.
    pub new_token_file: Option<PathBuf>,
    shared: Arc<Shared>,
    doors: Arc<Doors>,
    stop: watch::Sender<bool>,
    serving: Vec<JoinHandle<()>>,
    _lock: File,
}

/// Starts the service.
///
/// # Errors
/// Whatever keeps it from working, with its remedy.
pub async fn start(options: Options) -> Result<Running, ServiceError> {
    metrics::install();
    only_loopback_in_clear(&options)?;
    let tls = options.tls.as_ref().map(|(certificate, key)| server_config(certificate, key)).transpose()?;
    // Whatever is written from now on is for nobody else, the records' files included.
    rustix::process::umask(Mode::from_bits_truncate(0o077));
    let descriptors = descriptors();
    let lock = take_folder(&options.data)?;
    // A file that grows beyond its limit is an error of the write then, and does not end the process.
    let file_size = SignalKind::from_raw(rustix::process::Signal::XFSZ.as_raw());
    let _ = tokio::signal::unix::signal(file_size);
    let key_path = options.key_file.clone().unwrap_or_else(|| options.data.join("seal.key"));
    let (records, seal) = open_records(&options, &key_path).await?;
    let new_token_file = first_operator(&options.data, &records).await?;
    records.end_lost_runs().await?;
    let shared = Arc::new(Shared::new(options.data.clone(), records, seal)?);
    let listener = listen(options.http).await?;
    let http = listener.local_addr().map_err(|error| ServiceError::Records(error.to_string()))?;
    let phones = match options.phones {
        Some(address) => Some(listen(address).await?),
        None => None,
    };
    let phones_at = phones.as_ref().and_then(|phones| phones.local_addr().ok());
    let doors = Arc::new(Doors::default());
    let (revision, problem) = match doors.restore_newest(&shared).await {
        Ok(revision) => (revision, None),
        Err(error @ ServiceError::Listen { .. }) => return Err(error),
        Err(error) => (None, Some(error)),
    };
    metrics::records_writable(true);
    begin_upkeep(&shared);
    let (stop, stopped) = watch::channel(false);
    confirm::take_up(&doors, &shared)?;
    let exposure = exposure_of(&options, http, phones_at, descriptors, &key_path);
    let connections = Arc::new(Connections::new(options.proxies.clone()));
    let state = ApiState::new(Arc::clone(&shared), Arc::clone(&doors), Arc::clone(&connections), exposure, stopped.clone())?;
    tokio::spawn(crate::upkeep::follow(Arc::downgrade(&shared), Arc::downgrade(&doors), state.clone()));
    let encrypted = tls.is_some();
    let serve = |listener, serves| {
        let router = api::router(state.clone(), serves);
        tokio::spawn(server::serve(listener, router, tls.clone(), Arc::clone(&connections), Timeouts::default(), stopped.clone()))
    };
    let serving = match phones {
        None => vec![serve(listener, Serves::Everything)],
        Some(phones) => vec![serve(listener, Serves::Operators), serve(phones, Serves::Phones)],
    };
    Ok(Running { http, phones: phones_at, encrypted, revision, problem, new_token_file, shared, doors, stop, serving, _lock: lock })
}

fn only_loopback_in_clear(options: &Options) -> Result<(), ServiceError> {
    let open = [Some(options.http), options.phones].into_iter().flatten().find(|address| !address.ip().is_loopback());
    match open.filter(|_| options.tls.is_none()) {
        Some(address) => Err(ServiceError::NotLoopback(address)),
        None => Ok(()),
    }
}

/// Opens the records and the key file that belongs to them. Records that are gone beside their key are not begun anew.
async fn open_records(options: &Options, key_path: &Path) -> Result<(Records, Arc<Seal>), ServiceError> {
    let lost = || ServiceError::RecordsLost { key: key_path.to_owned(), records: options.data.join("records.db") };
    let has_key = key_path.exists();
    // Looked at before it is opened: SQLite would begin a new file, and take what is left of the old one for its own.
    if has_key && fs::metadata(options.data.join("records.db")).map_or(0, |meta| meta.len()) == 0 {
        return Err(lost());
    }
    let records = Records::open(&options.data, options.sync)?;
    if has_key && records.meta(SEAL_CHECK)?.is_none() && records.operators()?.is_empty() {
        return Err(lost());
    }
    let seal = Arc::new(open_seal(key_path, &records).await?);
    Ok((records, seal))
}

/// Begins what goes on beside logins until the service ends.
fn begin_upkeep(shared: &Arc<Shared>) {
    // Nobody's login needs it, and with many people it takes a while.
    let learning = Arc::clone(shared);
    drop(tokio::task::spawn_blocking(move || learning.roster.learn_names()));
    tokio::spawn(crate::upkeep::prune(Arc::downgrade(shared)));
    tokio::spawn(crate::upkeep::check(Arc::downgrade(shared)));
    tokio::spawn(crate::upkeep::expire_prompts(Arc::downgrade(shared)));
    tokio::spawn(bivector_engine::sessions::watch(Arc::downgrade(shared)));
    tokio::spawn(bivector_manage::sessions::watch(Arc::downgrade(shared)));
    tokio::spawn(bivector_engine::push::run(Arc::downgrade(shared)));
}

/// How the service listens, for the API and whoever reviews it.
fn exposure_of(options: &Options, http: SocketAddr, phones: Option<SocketAddr>, descriptors: usize, key_path: &Path) -> Exposure {
    let certificate = options.tls.as_ref().map(|(certificate, _)| certificate.clone());
    let mut names = options.names.clone();
    names.extend(certificate.iter().flat_map(|certificate| names_of(certificate)));
    let beside = |key: PathBuf| options.data.canonicalize().is_ok_and(|data| key.starts_with(data));
    Exposure {
        operators: Some(http),
        phones,
        tls: certificate,
        names,
        proxies: options.proxies.clone(),
        descriptors,
        key_beside_records: key_path.canonicalize().is_ok_and(beside),
        waits_for_disk: options.sync == Sync::Full,
        backup_stamp: options.backup_stamp.clone(),
    }
}

async fn listen(address: SocketAddr) -> Result<TcpListener, ServiceError> {
    let failed = |source| ServiceError::Listen { protocol: "TCP", address, holder: who_holds("tcp", address), source };
    TcpListener::bind(address).await.map_err(failed)
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
        self.shared.records.stop_changes();
        self.doors.close(limit).await;
        self.stop.send_replace(true);
        if tokio::time::timeout(Duration::from_secs(2), futures_util::future::join_all(self.serving)).await.is_err() {
            tracing::debug!("an API connection was still open at the end");
        }
        self.shared.write_waiting();
        self.shared.records.close().await;
    }
}

/// Opens the key file and makes sure that it is the one that belongs to these records.
async fn open_seal(path: &Path, records: &Records) -> Result<Seal, ServiceError> {
    let check = records.meta(SEAL_CHECK)?;
    let seal = Seal::load(path, check.is_none())?;
    match check {
        Some(sealed) => seal.open(SEAL_CHECK, &sealed).map(|_| ()).map_err(|_| ServiceError::KeyDiffers { path: path.to_owned() })?,
        None => records.set_meta(SEAL_CHECK, Some(seal.seal(SEAL_CHECK, SEAL_CHECK.as_bytes()))).await?,
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
