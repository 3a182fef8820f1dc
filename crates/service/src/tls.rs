//! The API over TLS: handshakes run beside each other and within a time limit, so that a slow caller keeps nobody waiting.

use crate::error::ServiceError;
use axum::extract::connect_info::Connected;
use axum::serve::{IncomingStream, Listener};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// How long a handshake may take.
const HANDSHAKE: Duration = Duration::from_secs(5);
/// Callers that are taken up at one time.
const WAITING: usize = 64;

/// The address that calls.
#[derive(Debug, Clone, Copy)]
pub struct Caller(pub SocketAddr);

impl Connected<IncomingStream<'_, TcpListener>> for Caller {
    fn connect_info(stream: IncomingStream<'_, TcpListener>) -> Self {
        Caller(*stream.remote_addr())
    }
}

impl Connected<IncomingStream<'_, TlsListener>> for Caller {
    fn connect_info(stream: IncomingStream<'_, TlsListener>) -> Self {
        Caller(*stream.remote_addr())
    }
}

/// Takes connections whose handshake is done.
#[derive(Debug)]
pub struct TlsListener {
    address: SocketAddr,
    ready: mpsc::Receiver<(TlsStream<TcpStream>, SocketAddr)>,
}

impl TlsListener {
    /// Takes over a listening socket.
    ///
    /// # Errors
    /// The socket has no address.
    pub fn start(listener: TcpListener, config: Arc<ServerConfig>) -> io::Result<Self> {
        let address = listener.local_addr()?;
        let (done, ready) = mpsc::channel(WAITING);
        tokio::spawn(take_all(listener, TlsAcceptor::from(config), done));
        Ok(TlsListener { address, ready })
    }
}

async fn take_all(listener: TcpListener, acceptor: TlsAcceptor, done: mpsc::Sender<(TlsStream<TcpStream>, SocketAddr)>) {
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = done.closed() => return,
        };
        let Ok((stream, caller)) = accepted else {
            // Out of files for the moment, say; the next try is another matter.
            tokio::time::sleep(Duration::from_millis(50)).await;
            continue;
        };
        let (acceptor, done) = (acceptor.clone(), done.clone());
        tokio::spawn(async move {
            match timeout(HANDSHAKE, acceptor.accept(stream)).await {
                Ok(Ok(stream)) => {
                    let _ = done.send((stream, caller)).await;
                }
                Ok(Err(error)) => tracing::debug!(%error, %caller, "a handshake failed"),
                Err(_) => tracing::debug!(%caller, "a handshake took too long"),
            }
        });
    }
}

impl Listener for TlsListener {
    type Io = TlsStream<TcpStream>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        match self.ready.recv().await {
            Some(accepted) => accepted,
            None => std::future::pending().await,
        }
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        Ok(self.address)
    }
}

/// Reads certificate and key from PEM files.
///
/// # Errors
/// One of them cannot be used.
pub fn server_config(certificate: &Path, key: &Path) -> Result<Arc<ServerConfig>, ServiceError> {
    let refused = |path: &Path, why: String| ServiceError::Refused {
        what: format!("`{}` {why}", path.display()),
        remedy: "give the certificate with its issuers, and its key, each as a PEM file that this user may read".into(),
    };
    let chain: Result<Vec<_>, _> = CertificateDer::pem_file_iter(certificate).and_then(Iterator::collect);
    let chain = chain.map_err(|error| refused(certificate, format!("is no certificate: {error}")))?;
    let private = PrivateKeyDer::from_pem_file(key).map_err(|error| refused(key, format!("is no key: {error}")))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, private))
        .map_err(|error| refused(certificate, format!("cannot be used with `{}`: {error}", key.display())))?;
    Ok(Arc::new(config))
}
