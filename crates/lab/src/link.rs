//! A network that loses packets: a relay between a gateway and a door, which lets through all but every so-manieth of each direction.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use tokio::net::UdpSocket;
use tokio::task::JoinHandle;

/// A running relay; ends when dropped.
#[derive(Debug)]
pub struct LossyLink {
    address: SocketAddr,
    lost: Arc<AtomicU64>,
    task: JoinHandle<()>,
}

impl LossyLink {
    /// Relays what arrives at a free port of loopback to `door`, sent on from `gateway`, and the replies back. Of each direction the
    /// `one_of`th packet is lost, and every `one_of`th after it; 0 loses none.
    ///
    /// # Errors
    /// No socket can be opened.
    pub async fn start(gateway: IpAddr, door: SocketAddr, one_of: u64) -> io::Result<Self> {
        let front = Arc::new(UdpSocket::bind(("127.0.0.1", 0)).await?);
        let address = front.local_addr()?;
        let lost = Arc::new(AtomicU64::new(0));
        let task = tokio::spawn(relay(front, gateway, door, one_of, Arc::clone(&lost)));
        Ok(LossyLink { address, lost, task })
    }

    /// Where a gateway sends to.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Packets that were lost.
    pub fn lost(&self) -> u64 {
        self.lost.load(Ordering::Relaxed)
    }
}

impl Drop for LossyLink {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Counts packets of one direction.
struct Sieve {
    one_of: u64,
    seen: AtomicU64,
    lost: Arc<AtomicU64>,
}

impl Sieve {
    fn lets_through(&self) -> bool {
        let number = self.seen.fetch_add(1, Ordering::Relaxed) + 1;
        let loses = self.one_of > 0 && number.is_multiple_of(self.one_of);
        if loses {
            self.lost.fetch_add(1, Ordering::Relaxed);
        }
        !loses
    }
}

async fn relay(front: Arc<UdpSocket>, gateway: IpAddr, door: SocketAddr, one_of: u64, lost: Arc<AtomicU64>) {
    let sieve = |lost: &Arc<AtomicU64>| Arc::new(Sieve { one_of, seen: AtomicU64::new(0), lost: Arc::clone(lost) });
    let (there, back) = (sieve(&lost), sieve(&lost));
    // A socket for each sender, so that the door tells them apart as it would without a relay.
    let mut behind: HashMap<SocketAddr, (Arc<UdpSocket>, JoinHandle<()>)> = HashMap::new();
    let mut buffer = [0; bivector_wire::MAX_PACKET];
    while let Ok((length, sender)) = front.recv_from(&mut buffer).await {
        let socket = match behind.entry(sender) {
            Entry::Occupied(known) => Arc::clone(&known.get().0),
            Entry::Vacant(place) => {
                let Ok(socket) = UdpSocket::bind((gateway, 0)).await else { continue };
                let socket = Arc::new(socket);
                let replies = tokio::spawn(replies(Arc::clone(&socket), Arc::clone(&front), sender, Arc::clone(&back)));
                place.insert((Arc::clone(&socket), replies));
                socket
            }
        };
        if there.lets_through() {
            // What cannot be sent is lost, as on a network.
            let _ = socket.send_to(&buffer[..length], door).await;
        }
    }
    behind.into_values().for_each(|(_, task)| task.abort());
}

async fn replies(behind: Arc<UdpSocket>, front: Arc<UdpSocket>, to: SocketAddr, sieve: Arc<Sieve>) {
    let mut buffer = [0; bivector_wire::MAX_PACKET];
    while let Ok((length, _)) = behind.recv_from(&mut buffer).await {
        if sieve.lets_through() {
            let _ = front.send_to(&buffer[..length], to).await;
        }
    }
}
