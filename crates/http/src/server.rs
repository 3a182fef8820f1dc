//! HTTP connections: how many there may be, how long each may take, and who is behind them. What is asked over them, `api` knows.
//!
//! A caller who says nothing, or little, costs a file descriptor for some seconds and no more. Descriptors for RADIUS, directories and
//! storage are set aside, so that a flood of connections never stops a login.

use axum::Router;
use axum::body::Body;
use axum::http::Request;
use bivector_engine::tries::address_key;
use bivector_store::metrics;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use ipnet::IpNet;
use rustls::ServerConfig;
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::pin::pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tokio::time::timeout;
use tokio_io_timeout::TimeoutStream;
use tokio_rustls::TlsAcceptor;
use tokio_util::task::TaskTracker;
use tower::ServiceExt;

/// Descriptors that connections never take: RADIUS sockets, connections to directories, upstreams and couriers, the records.
const SET_ASIDE: usize = 512;
/// Connections to one process at most, however many descriptors there are; each holds about 20 KiB.
const MOST: usize = 16_384;
/// Connections from one address, or one network of 64 bits: a browser takes six.
const PER_ADDRESS: usize = 64;
/// TLS handshakes at one time: each costs a millisecond or two of a core.
const HANDSHAKES: usize = 64;
/// Bytes of a request's head.
const HEAD: usize = 32 * 1024;

/// How long a connection may take for what.
#[derive(Debug, Clone, Copy)]
pub struct Timeouts {
    /// The TLS handshake, with the wait for its turn.
    pub handshake: Duration,
    /// The head of a request; also how long a connection stays open without one.
    pub head: Duration,
    /// A part of an answer that the caller does not take.
    pub write: Duration,
}

impl Default for Timeouts {
    fn default() -> Self {
        Timeouts { handshake: Duration::from_secs(5), head: Duration::from_secs(10), write: Duration::from_secs(30) }
    }
}

/// The connections of this process.
#[derive(Debug)]
pub struct Connections {
    open: AtomicUsize,
    most: usize,
    by_address: Mutex<HashMap<String, usize>>,
    handshakes: Semaphore,
    /// Proxies that many callers come through: they are not limited as one.
    proxies: Vec<IpNet>,
}

/// A place among the connections, given up on drop.
#[derive(Debug)]
struct Place {
    connections: Arc<Connections>,
    key: String,
}

impl Connections {
    /// As many as there are descriptors for. `proxies` are those that callers come through.
    pub fn new(proxies: Vec<IpNet>) -> Self {
        Self::at_most(connections_for(descriptors()), proxies)
    }

    fn at_most(most: usize, proxies: Vec<IpNet>) -> Self {
        Connections { open: AtomicUsize::new(0), most, by_address: Mutex::default(), handshakes: Semaphore::new(HANDSHAKES), proxies }
    }

    /// Whether an address is one of the proxies.
    pub fn is_proxy(&self, address: IpAddr) -> bool {
        self.proxies.iter().any(|proxy| proxy.contains(&address.to_canonical()))
    }

    /// How many there are, and how many there may be.
    pub fn figures(&self) -> (usize, usize) {
        (self.open.load(Ordering::Relaxed), self.most)
    }

    fn take(self: &Arc<Self>, address: IpAddr) -> Option<Place> {
        // This machine's own programs and a proxy stand for many, and still leave room for somebody else.
        let many = address.to_canonical().is_loopback() || self.is_proxy(address);
        let own_limit = if many { (self.most * 3 / 4).max(1) } else { PER_ADDRESS.min(self.most) };
        let key = address_key(address);
        if self.open.fetch_add(1, Ordering::Relaxed) >= self.most {
            self.open.fetch_sub(1, Ordering::Relaxed);
            return None;
        }
        let mut by_address = self.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        let own = by_address.entry(key.clone()).or_default();
        *own += 1;
        let place = Place { connections: Arc::clone(self), key };
        let full = *own > own_limit;
        drop(by_address);
        (!full).then_some(place)
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.connections.open.fetch_sub(1, Ordering::Relaxed);
        let mut by_address = self.connections.by_address.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(own) = by_address.get_mut(&self.key) {
            *own -= 1;
            if *own == 0 {
                by_address.remove(&self.key);
            }
        }
    }
}

/// Raises the limit of open files as far as this process may; gives what it is then.
pub fn descriptors() -> usize {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let wanted = limit.maximum.unwrap_or(u64::MAX).min((MOST + SET_ASIDE) as u64 * 2);
    let current = limit.current.unwrap_or(u64::MAX);
    if current >= wanted {
        return usize::try_from(current).unwrap_or(usize::MAX);
    }
    match setrlimit(Resource::Nofile, Rlimit { current: Some(wanted), maximum: limit.maximum }) {
        Ok(()) => wanted as usize,
        Err(_) => current as usize,
    }
}

/// Connections that so many descriptors leave room for.
fn connections_for(descriptors: usize) -> usize {
    let left = if descriptors >= 2 * SET_ASIDE { descriptors - SET_ASIDE } else { descriptors / 2 };
    left.clamp(8, MOST)
}

/// What is known of a connection; handlers find it beside the request.
#[derive(Debug, Clone, Copy)]
pub struct Connection {
    /// Who has connected: a caller, or a proxy.
    pub peer: SocketAddr,
    /// Whether it came in on a listener that only this machine reaches.
    pub on_loopback: bool,
    /// Whether it is encrypted, here.
    pub tls: bool,
}

/// Takes connections until the service stops, and then waits for those that are in the middle of something.
pub async fn serve(
    listener: TcpListener,
    router: Router,
    tls: Option<Arc<ServerConfig>>,
    connections: Arc<Connections>,
    timeouts: Timeouts,
    mut stopped: watch::Receiver<bool>,
) {
    let on_loopback = listener.local_addr().is_ok_and(|address| address.ip().to_canonical().is_loopback());
    let tracker = TaskTracker::new();
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stopped.wait_for(|stopped| *stopped) => break,
        };
        let Ok((stream, peer)) = accepted else {
            // Out of files for the moment, say; the next try is another matter.
            tokio::time::sleep(Duration::from_millis(50)).await;
            continue;
        };
        let Some(place) = connections.take(peer.ip()) else {
            metrics::refused_connection();
            tracing::debug!(%peer, "a connection too many");
            continue;
        };
        let (router, tls, connections, stopped) = (router.clone(), tls.clone(), Arc::clone(&connections), stopped.clone());
        let connection = Connection { peer, on_loopback, tls: tls.is_some() };
        tracker.spawn(async move {
            let _place = place;
            match tls {
                None => talk(stream, router, connection, timeouts, stopped).await,
                Some(config) => {
                    if let Some(stream) = handshake(stream, config, &connections.handshakes, timeouts.handshake, peer).await {
                        talk(stream, router, connection, timeouts, stopped).await;
                    }
                }
            }
        });
    }
    tracker.close();
    tracker.wait().await;
}

async fn handshake(
    stream: TcpStream,
    config: Arc<ServerConfig>,
    turns: &Semaphore,
    limit: Duration,
    peer: SocketAddr,
) -> Option<tokio_rustls::server::TlsStream<TcpStream>> {
    let handshake = async {
        let _turn = turns.acquire().await.ok()?;
        match TlsAcceptor::from(config).accept(stream).await {
            Ok(stream) => Some(stream),
            Err(error) => {
                tracing::debug!(%error, %peer, "a handshake failed");
                None
            }
        }
    };
    timeout(limit, handshake).await.unwrap_or_default()
}

async fn talk(
    stream: impl AsyncRead + AsyncWrite + Send + 'static,
    router: Router,
    connection: Connection,
    timeouts: Timeouts,
    mut stopped: watch::Receiver<bool>,
) {
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(timeouts.write));
    let answer = service_fn(move |mut request: Request<Incoming>| {
        request.extensions_mut().insert(connection);
        router.clone().oneshot(request.map(Body::new))
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(timeouts.head).max_buf_size(HEAD);
    let mut talking = pin!(builder.serve_connection(TokioIo::new(Box::pin(stream)), answer));
    let stop = async { drop(stopped.wait_for(|stopped| *stopped).await) };
    let ended = tokio::select! {
        ended = talking.as_mut() => ended,
        () = stop => {
            talking.as_mut().graceful_shutdown();
            talking.as_mut().await
        }
    };
    if let Err(error) = ended {
        tracing::debug!(%error, peer = %connection.peer, "a connection ended early");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::routing::{get, post};
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    const QUICK: Timeouts =
        Timeouts { handshake: Duration::from_millis(200), head: Duration::from_millis(200), write: Duration::from_millis(500) };

    async fn start(most: usize) -> (SocketAddr, Arc<Connections>, watch::Sender<bool>) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let connections = Arc::new(Connections::at_most(most, Vec::new()));
        let (stop, stopped) = watch::channel(false);
        let big = "x".repeat(64 * 1024 * 1024);
        let router = Router::new()
            .route("/", get(async || "here\n"))
            .route("/big", get(async move || big))
            .route("/post", post(async |body: String| body));
        tokio::spawn(serve(listener, router, None, Arc::clone(&connections), QUICK, stopped));
        (address, connections, stop)
    }

    async fn ends(stream: &mut TcpStream) -> Vec<u8> {
        let mut all = Vec::new();
        timeout(Duration::from_secs(10), stream.read_to_end(&mut all)).await.expect("the service ends it").unwrap_or(0);
        all
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn callers_who_say_nothing_little_or_nothing_more_are_hung_up_on() {
        let (address, connections, _stop) = start(16).await;
        for sent in [&b""[..], b"GET / HTTP/1.1\r\nhost: x\r\nx-slow: ", b"GET / HTTP/1.1\r\nhost: x\r\n\r\n"] {
            let mut stream = TcpStream::connect(address).await.unwrap();
            stream.write_all(sent).await.unwrap();
            let answer = ends(&mut stream).await;
            assert_eq!(answer.ends_with(b"here\n"), sent.ends_with(b"\r\n\r\n"), "{}", String::from_utf8_lossy(&answer));
        }
        let mut greedy = TcpStream::connect(address).await.unwrap();
        greedy.write_all(b"GET /big HTTP/1.1\r\nhost: x\r\n\r\n").await.unwrap();
        let freed = async {
            while connections.figures().0 > 0 {
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        };
        timeout(Duration::from_secs(10), freed).await.expect("whoever takes no answer holds no place");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn one_address_leaves_room_for_others_and_places_come_back() {
        let connections = Arc::new(Connections::at_most(200, vec!["203.0.113.0/24".parse().unwrap()]));
        let take = |address: &str| connections.take(address.parse().unwrap());
        let held: Vec<_> = (0..500).filter_map(|_| take("198.51.100.7")).collect();
        assert_eq!(held.len(), PER_ADDRESS);
        let net: Vec<_> = (0..500).filter_map(|number| take(&format!("2001:db8::{number:x}"))).collect();
        assert_eq!(net.len(), PER_ADDRESS, "one subscriber has many addresses");
        let proxied: Vec<_> = (0..500).filter_map(|_| take("203.0.113.9")).collect();
        assert_eq!(proxied.len(), 200 - 2 * PER_ADDRESS, "a proxy stands for many, up to the whole");
        assert!(take("192.0.2.1").is_none());
        drop(held);
        assert!(take("192.0.2.1").is_some());
        drop((net, proxied));
        assert_eq!((connections.figures().0, connections.by_address.lock().unwrap().len()), (0, 0));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_is_in_the_middle_of_something_is_answered_when_the_service_stops() {
        let (address, connections, stop) = start(16).await;
        let mut stream = TcpStream::connect(address).await.unwrap();
        stream.write_all(b"POST /post HTTP/1.1\r\nhost: x\r\ncontent-length: 4\r\n\r\nti").await.unwrap();
        let begun = async {
            while connections.figures().0 == 0 {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        timeout(Duration::from_secs(5), begun).await.unwrap();
        tokio::time::sleep(Duration::from_millis(50)).await;
        stop.send_replace(true);
        stream.write_all(b"de").await.unwrap();
        assert!(ends(&mut stream).await.ends_with(b"tide"));
    }

    #[test]
    fn descriptors_are_set_aside_for_what_logins_need() {
        for (descriptors, wanted) in [(64, 32), (1_024, 512), (4_096, 3_584), (1_048_576, MOST), (10, 8)] {
            assert_eq!(connections_for(descriptors), wanted);
        }
    }
}
