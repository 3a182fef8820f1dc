//! A crowd of logins that wait for somebody: each keeps resending the very same packet, as a gateway does, until it is answered, and
//! twice more after that.

use bivector_exchange::{AskError, Request};
use bivector_wire::{Code, IntegrityPolicy, Packet, SharedSecret, authenticate_reply};
use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};
use tokio::net::UdpSocket;
use tokio::time::timeout;

/// Logins of one socket: an identifier has one byte, and only one request of each may be open.
pub const PER_SOCKET: usize = 250;
/// Resends after the answer, to see that they get the same bytes.
const AFTER: u32 = 2;

/// What became of a crowd.
#[derive(Debug, Clone, Default)]
pub struct Crowd {
    /// Logins that were accepted.
    pub accepted: u64,
    /// Logins that were refused.
    pub refused: u64,
    /// Logins without any answer in time.
    pub silent: u64,
    /// Packets that were sent.
    pub packets: u64,
    /// Answers beside the first of each login.
    pub repeated: u64,
    /// Of them, those with other bytes than the first.
    pub different: u64,
    /// Answers that did not verify.
    pub forged: u64,
    /// Microseconds from the first packet of each login to its answer.
    pub latencies: Vec<u64>,
}

impl Crowd {
    fn add(&mut self, other: Crowd) {
        self.accepted += other.accepted;
        self.refused += other.refused;
        self.silent += other.silent;
        self.packets += other.packets;
        self.repeated += other.repeated;
        self.different += other.different;
        self.forged += other.forged;
        self.latencies.extend(other.latencies);
    }
}

/// One login of the crowd.
#[derive(Debug, Clone)]
pub struct Waiter {
    /// The name.
    pub name: String,
    /// What is typed.
    pub password: String,
}

/// How a crowd behaves.
#[derive(Debug, Clone, Copy)]
pub struct Pace {
    /// Over how long the first packets are spread.
    pub begin_within: Duration,
    /// Between two packets of one login.
    pub resend_every: Duration,
    /// When it gives up.
    pub patience: Duration,
}

struct Open {
    bytes: Vec<u8>,
    authenticator: [u8; 16],
    sent: Instant,
    next: Instant,
    answer: Option<Vec<u8>>,
    after: u32,
}

/// Logs everybody in, and waits until all are answered or given up.
///
/// # Errors
/// A socket cannot be opened, or a request cannot be built.
pub async fn log_in(from: IpAddr, server: SocketAddr, secret: &SharedSecret, waiters: Vec<Waiter>, pace: Pace) -> Result<Crowd, AskError> {
    let groups = waiters.len().div_ceil(PER_SOCKET).max(1);
    let mut tasks = Vec::new();
    for (index, group) in waiters.chunks(PER_SOCKET).enumerate() {
        let begin = pace.begin_within.mul_f64(index as f64 / groups as f64);
        let within = pace.begin_within.div_f64(groups as f64);
        let (group, secret) = (group.to_vec(), secret.clone());
        tasks.push(tokio::spawn(async move {
            tokio::time::sleep(begin).await;
            one_socket(from, server, &secret, group, Pace { begin_within: within, ..pace }).await
        }));
    }
    let mut all = Crowd::default();
    for task in tasks {
        if let Ok(crowd) = task.await {
            all.add(crowd?);
        }
    }
    Ok(all)
}

async fn one_socket(from: IpAddr, server: SocketAddr, secret: &SharedSecret, group: Vec<Waiter>, pace: Pace) -> Result<Crowd, AskError> {
    let socket = UdpSocket::bind((from, 0)).await.map_err(AskError::from)?;
    socket.connect(server).await.map_err(AskError::from)?;
    let (mut open, mut crowd, count) = (HashMap::new(), Crowd::default(), group.len().max(1));
    let began = Instant::now();
    for (index, waiter) in group.into_iter().enumerate() {
        let mut prepared = Request::login(&waiter.name, waiter.password.as_bytes()).prepare(secret)?;
        // One identifier each: prepared anew until it is a free one.
        while open.contains_key(&prepared.identifier) {
            prepared = Request::login(&waiter.name, waiter.password.as_bytes()).prepare(secret)?;
        }
        let next = began + pace.begin_within.mul_f64(index as f64 / count as f64);
        let waiting = Open { bytes: prepared.bytes, authenticator: prepared.authenticator, sent: next, next, answer: None, after: 0 };
        open.insert(prepared.identifier, waiting);
    }
    let mut buffer = [0; bivector_wire::MAX_PACKET];
    let end = began + pace.patience;
    while Instant::now() < end && open.values().any(|one| one.after <= AFTER) {
        let now = Instant::now();
        for one in open.values_mut().filter(|one| one.next <= now && one.after <= AFTER) {
            // A full buffer loses the packet, as a network would.
            let _: io::Result<usize> = socket.try_send(&one.bytes);
            crowd.packets += 1;
            one.next += pace.resend_every;
            if one.answer.is_some() {
                one.after += 1;
            }
        }
        let due = open.values().filter(|one| one.after <= AFTER).map(|one| one.next).min().unwrap_or(end).min(end);
        let wait = due.saturating_duration_since(Instant::now());
        if let Ok(Ok(length)) = timeout(wait, socket.recv(&mut buffer)).await {
            heard(&buffer[..length], secret, &mut open, &mut crowd, pace);
        }
    }
    crowd.silent = open.values().filter(|one| one.answer.is_none()).count() as u64;
    Ok(crowd)
}

fn heard(bytes: &[u8], secret: &SharedSecret, open: &mut HashMap<u8, Open>, crowd: &mut Crowd, pace: Pace) {
    let Ok(packet) = Packet::parse(bytes) else { return crowd.forged += 1 };
    let Some(one) = open.get_mut(&packet.identifier()) else { return crowd.forged += 1 };
    if let Some(first) = &one.answer {
        crowd.repeated += 1;
        crowd.different += u64::from(first.as_slice() != bytes);
        return;
    }
    if authenticate_reply(packet, &one.authenticator, secret, IntegrityPolicy::Required).is_err() {
        return crowd.forged += 1;
    }
    match packet.code() {
        Code::AccessAccept => crowd.accepted += 1,
        _ => crowd.refused += 1,
    }
    crowd.latencies.push(one.sent.elapsed().as_micros() as u64);
    one.answer = Some(bytes.to_vec());
    one.next = Instant::now() + pace.resend_every / 4;
}
