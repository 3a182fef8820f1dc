//! Load on loopback: workers that each keep one request in flight, bounded in count and time.

use bivector_exchange::{AskError, Asker, Patience, Request};
use bivector_wire::{AttributeType, Code, SharedSecret};
use hdrhistogram::Histogram;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::net::UdpSocket;
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// What a run of load measured.
#[derive(Debug, Clone)]
pub struct Measured {
    /// Answers of the wanted kind.
    pub good: u64,
    /// Other answers, and silence.
    pub bad: u64,
    /// How long it ran.
    pub took: Duration,
    /// Latencies in microseconds.
    pub latency: Histogram<u64>,
}

impl Measured {
    /// Good answers a second.
    pub fn rate(&self) -> f64 {
        self.good as f64 / self.took.as_secs_f64()
    }

    pub(crate) fn new() -> Self {
        Measured { good: 0, bad: 0, took: Duration::ZERO, latency: histogram() }
    }

    /// Counts one answer.
    pub(crate) fn count(&mut self, good: bool, took: Duration) {
        if good {
            self.good += 1
        } else {
            self.bad += 1
        }
        self.latency.saturating_record(took.as_micros() as u64);
    }

    /// Adds up what workers measured.
    pub(crate) async fn gather<E>(workers: Vec<JoinHandle<Result<Measured, E>>>, began: Instant) -> Result<Measured, E> {
        let mut total = Measured::new();
        for worker in workers {
            if let Ok(measured) = worker.await {
                total.add(&measured?);
            }
        }
        total.took = began.elapsed();
        Ok(total)
    }

    fn add(&mut self, other: &Measured) {
        self.good += other.good;
        self.bad += other.bad;
        // Both have the same bounds.
        let _ = self.latency.add(&other.latency);
    }
}

/// Lets so many a second begin, evenly: a thread of its own counts the time, since the runtime's timers wake on whole milliseconds only.
#[derive(Debug, Clone)]
pub(crate) struct Pace(Option<Arc<Semaphore>>);

impl Pace {
    /// Begins now and ends after `limit`; without a rate nobody waits.
    pub(crate) fn start(rate: Option<f64>, limit: Duration) -> Self {
        let Some(rate) = rate.filter(|rate| (1.0..100_000.0).contains(rate)) else { return Pace(None) };
        let turns = Arc::new(Semaphore::new(0));
        let given = Arc::clone(&turns);
        let began = Instant::now();
        let thread = std::thread::Builder::new().name("pace".into()).spawn(move || {
            for turn in 0u32.. {
                let due = Duration::from_secs_f64(f64::from(turn) / rate);
                if due >= limit {
                    break;
                }
                std::thread::sleep(due.saturating_sub(began.elapsed()));
                given.add_permits(1);
            }
            given.close();
        });
        // Without the thread nobody would ever begin.
        Pace(thread.is_ok().then_some(turns))
    }

    /// Waits for a turn; `false` when the time is over: whoever waited then has no turn.
    pub(crate) async fn turn(&self) -> bool {
        let Some(turns) = &self.0 else { return true };
        let Ok(turn) = turns.acquire().await else { return false };
        turn.forget();
        true
    }
}

fn histogram() -> Histogram<u64> {
    Histogram::new_with_bounds(1, 120_000_000, 3).expect("the bounds are in order")
}

/// A login to send.
#[derive(Debug, Clone)]
pub struct LoadLogin {
    /// The name.
    pub name: String,
    /// The password field.
    pub password: String,
}

/// Sends `logins` once each, `parallel` in flight, each from a socket of its own, and wants each accepted. With a `rate`, so many a
/// second at most.
///
/// # Errors
/// A socket's.
pub async fn logins(
    from: IpAddr,
    server: SocketAddr,
    secret: &SharedSecret,
    logins: Vec<LoadLogin>,
    parallel: usize,
    limit: Duration,
    rate: Option<f64>,
) -> Result<Measured, AskError> {
    only_loopback(server)?;
    let logins = Arc::new(logins);
    let next = Arc::new(AtomicUsize::new(0));
    let mut askers = Vec::new();
    for _ in 0..parallel.max(1) {
        askers.push(Asker::connect(SocketAddr::new(from, 0), server).await?);
    }
    let began = Instant::now();
    let pace = Pace::start(rate, limit);
    let mut workers = Vec::new();
    for asker in askers {
        let (logins, next, secret, pace) = (Arc::clone(&logins), Arc::clone(&next), secret.clone(), pace.clone());
        workers.push(tokio::spawn(async move {
            let mut measured = Measured::new();
            let patience = Patience { wait: Duration::from_secs(2), tries: 3 };
            while began.elapsed() < limit && pace.turn().await {
                let turn = next.fetch_add(1, Ordering::Relaxed);
                let Some(login) = logins.get(turn) else { break };
                let mut request = Request::login(&login.name, login.password.as_bytes());
                request.message.push(AttributeType::NasIdentifier, b"load");
                let exchange = asker.ask(&request, &secret, patience).await?;
                measured.count(exchange.reply.is_some_and(|reply| reply.code == Code::AccessAccept), exchange.took);
            }
            Ok::<_, AskError>(measured)
        }));
    }
    Measured::gather(workers, began).await
}

/// Sends the same prepared datagram again and again from `parallel` sockets and counts what comes back: for an echo or a bare server.
///
/// # Errors
/// A socket's.
pub async fn datagrams(server: SocketAddr, datagram: &[u8], parallel: usize, limit: Duration) -> io::Result<Measured> {
    only_loopback(server)?;
    let began = Instant::now();
    let answered = Arc::new(AtomicU64::new(0));
    let mut workers = Vec::new();
    for _ in 0..parallel.max(1) {
        let socket = UdpSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0))).await?;
        socket.connect(server).await?;
        let (datagram, answered) = (datagram.to_vec(), Arc::clone(&answered));
        workers.push(tokio::spawn(async move {
            let mut latency = histogram();
            let mut buffer = [0; bivector_wire::MAX_PACKET];
            while began.elapsed() < limit {
                let sent = Instant::now();
                socket.send(&datagram).await?;
                if let Ok(received) = tokio::time::timeout(Duration::from_secs(1), socket.recv(&mut buffer)).await {
                    received?;
                    answered.fetch_add(1, Ordering::Relaxed);
                    latency.saturating_record(sent.elapsed().as_micros() as u64);
                }
            }
            Ok::<_, io::Error>(latency)
        }));
    }
    let mut total = Measured::new();
    for worker in workers {
        if let Ok(latency) = worker.await {
            let _ = total.latency.add(latency?);
        }
    }
    total.took = began.elapsed();
    total.good = answered.load(Ordering::Relaxed);
    Ok(total)
}

/// The processors' time of a machine that is a guest of another one.
#[derive(Debug, Clone, Copy)]
pub struct Processors {
    stolen: u64,
    all: u64,
}

impl Processors {
    /// What they have done until now; `None` where the system does not tell.
    pub fn now() -> Option<Self> {
        let text = std::fs::read_to_string("/proc/stat").ok()?;
        let ticks: Vec<u64> = text.lines().next()?.split_whitespace().skip(1).map_while(|ticks| ticks.parse().ok()).collect();
        // Before it: user, nice, system, idle, waiting, interrupts of two kinds. Behind it: guests of ours, who are counted as user.
        Some(Processors { stolen: *ticks.get(7)?, all: ticks.iter().take(8).sum() })
    }

    /// The part of the time since `before` that the host gave to others while work was waiting here.
    pub fn stolen_since(self, before: Self) -> f64 {
        self.stolen.saturating_sub(before.stolen) as f64 / self.all.saturating_sub(before.all).max(1) as f64
    }
}

/// Load goes to this machine only.
fn only_loopback(server: SocketAddr) -> io::Result<()> {
    if server.ip().is_loopback() {
        Ok(())
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidInput, "load is sent to loopback addresses only"))
    }
}
