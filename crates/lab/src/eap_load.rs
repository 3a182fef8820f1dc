//! Devices that log in by EAP for a load measurement, and bare TLS handshakes to compare them with.

use crate::certificates::{CertificateError, LabIssuer};
use bivector_exchange::eap::{EapLogin, PeerSettings, Trust, peer_tls};
use bivector_exchange::{AskError, Asker, Patience};
use bivector_wire::eap::EapMethod;
use bivector_wire::{Code, Message, Secret, SharedSecret};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, ClientConnection, Connection, RootCertStore, ServerConfig, ServerConnection};
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::thread::available_parallelism;
use std::time::{Duration, Instant};
use thiserror::Error;

/// The name in the server's certificate.
const SERVER: &str = "causeway.northmoor.example";

/// Why the devices could not be set up.
#[derive(Debug, Error)]
pub enum EapLoadError {
    /// A certificate could not be made.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// TLS could not be set up.
    #[error(transparent)]
    Tls(#[from] rustls::Error),
    /// A PEM text of ours could not be read.
    #[error("a certificate could not be read: {0}")]
    Pem(#[from] rustls::pki_types::pem::Error),
    /// A file could not be written, or no socket could be opened.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// A request could not be sent.
    #[error(transparent)]
    Ask(#[from] AskError),
}

/// Both sides of a bare handshake.
type Sides = (Arc<ServerConfig>, Arc<ClientConfig>);

/// Devices that trust one server, and the same certificate for bare handshakes.
#[derive(Debug, Clone)]
pub struct EapLoad {
    roots: RootCertStore,
    bare: Sides,
}

/// How many devices log in, and how.
#[derive(Debug, Clone, Copy)]
pub struct EapPace {
    /// For how long.
    pub limit: Duration,
    /// Devices at once.
    pub parallel: usize,
    /// Whether they resume their sessions.
    pub resumes: bool,
    /// Logins a second of all of them; as many as they can if none.
    pub rate: Option<u64>,
}

/// Who logs in: the name and the password of a number.
pub type Credentials = fn(usize) -> (String, String);

impl EapLoad {
    /// Issues a certificate and writes it into the data folder of the service, as `eap.pem` and `eap-key.pem`.
    ///
    /// # Errors
    /// [`EapLoadError`].
    pub fn new(data: &Path) -> Result<Self, EapLoadError> {
        let (roots, bare) = certificates(data)?;
        Ok(EapLoad { roots, bare })
    }

    /// EAP-TTLS/PAP logins. Gives those that were accepted, and the others.
    ///
    /// # Errors
    /// [`EapLoadError`]; silence is none.
    pub async fn logins(
        &self,
        server: SocketAddr,
        secret: &SharedSecret,
        who: Credentials,
        pace: EapPace,
    ) -> Result<(u64, u64), EapLoadError> {
        let mut devices = Vec::new();
        for device in 0..pace.parallel {
            let tls = match pace.resumes {
                true => peer_tls(Trust::Issuers(self.roots.clone()), None, false)?,
                false => without_sessions(&self.roots)?,
            };
            let asker = Asker::connect(SocketAddr::from(([127, 0, 0, 1], 0)), server).await?;
            let pause = pace.rate.map(|rate| Duration::from_secs_f64(pace.parallel as f64 / rate as f64));
            devices.push(tokio::spawn(device_logs_in(who(device), asker, secret.clone(), tls, pace.limit, pause)));
        }
        let mut total = (0, 0);
        for device in devices {
            let (good, bad) = device.await.unwrap_or_default();
            total = (total.0 + good, total.1 + bad);
        }
        Ok(total)
    }

    /// Bare handshakes a second: both sides in memory, on every processor.
    pub fn bare_rate(&self, limit: Duration) -> f64 {
        bare_rate(&self.bare, limit)
    }
}

/// Certificate and key for the service, and both sides of a bare handshake with them.
fn certificates(data: &Path) -> Result<(RootCertStore, Sides), EapLoadError> {
    let issuer = LabIssuer::new("load issuer")?;
    let (certificate, key) = issuer.server_pem(&[SERVER])?;
    std::fs::write(data.join("eap.pem"), &certificate)?;
    std::fs::write(data.join("eap-key.pem"), &key)?;
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(issuer.pem().as_bytes())?)?;
    let chain = vec![CertificateDer::from_pem_slice(certificate.as_bytes())?];
    let key = PrivateKeyDer::from_pem_slice(key.as_bytes())?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    let mut server = builder.with_no_client_auth().with_single_cert(chain, key)?;
    server.send_tls13_tickets = 0;
    Ok((roots.clone(), (Arc::new(server), without_sessions(&roots)?)))
}

/// A client that never resumes.
fn without_sessions(roots: &RootCertStore) -> Result<Arc<ClientConfig>, EapLoadError> {
    let mut client = (*peer_tls(Trust::Issuers(roots.clone()), None, false)?).clone();
    client.resumption = rustls::client::Resumption::disabled();
    Ok(Arc::new(client))
}

async fn device_logs_in(
    (name, password): (String, String),
    asker: Asker,
    secret: SharedSecret,
    tls: Arc<ClientConfig>,
    limit: Duration,
    pause: Option<Duration>,
) -> (u64, u64) {
    let (began, patience) = (Instant::now(), Patience { wait: Duration::from_secs(3), tries: 2 });
    let (mut good, mut bad) = (0, 0);
    let mut pace = pause.map(tokio::time::interval);
    while began.elapsed() < limit {
        if let Some(pace) = &mut pace {
            pace.tick().await;
        }
        let settings = PeerSettings {
            method: EapMethod::TtlsPap,
            name: name.clone().into_bytes(),
            outer: Some(b"anonymous".to_vec()),
            password: Secret::new(password.clone().into_bytes()),
            again: Vec::new(),
            tls: Some(Arc::clone(&tls)),
            server: SERVER.to_owned(),
            fragment: 1400,
            old_tls: false,
        };
        let round = EapLogin::new(settings, Message::new(Code::AccessRequest)).go_on(&asker, &secret, patience).await;
        match round.ok().and_then(|round| round.exchange.reply).is_some_and(|reply| reply.code == Code::AccessAccept) {
            true => good += 1,
            false => bad += 1,
        }
    }
    (good, bad)
}

/// Handshakes in memory, both sides, on every processor.
fn bare_rate((server, client): &Sides, limit: Duration) -> f64 {
    let one = move |server: Arc<ServerConfig>, client: Arc<ClientConfig>| {
        let began = Instant::now();
        let mut count = 0_u64;
        while began.elapsed() < limit && handshake(&server, &client).is_some() {
            count += 1;
        }
        count
    };
    let threads: Vec<_> = (0..available_parallelism().map_or(1, usize::from))
        .map(|_| {
            let (server, client) = (Arc::clone(server), Arc::clone(client));
            std::thread::spawn(move || one(server, client))
        })
        .collect();
    threads.into_iter().filter_map(|thread| thread.join().ok()).sum::<u64>() as f64 / limit.as_secs_f64()
}

fn handshake(server: &Arc<ServerConfig>, client: &Arc<ClientConfig>) -> Option<()> {
    let mut server = Connection::Server(ServerConnection::new(Arc::clone(server)).ok()?);
    let mut client = Connection::Client(ClientConnection::new(Arc::clone(client), ServerName::try_from(SERVER).ok()?).ok()?);
    while server.is_handshaking() || client.is_handshaking() {
        carry(&mut client, &mut server)?;
        carry(&mut server, &mut client)?;
    }
    Some(())
}

fn carry(from: &mut Connection, to: &mut Connection) -> Option<()> {
    let mut bytes = Vec::new();
    while from.wants_write() {
        from.write_tls(&mut bytes).ok()?;
    }
    let mut rest = bytes.as_slice();
    while !rest.is_empty() {
        to.read_tls(&mut rest).ok()?;
        to.process_new_packets().ok()?;
    }
    Some(())
}
