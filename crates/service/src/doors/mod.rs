//! Where Bivector listens.

pub mod accounting;
mod holder;
mod knocks;
pub mod radius;
mod reply;

pub use holder::who_holds;

use knocks::{KNOCKS_EVERY, Knocks};
use std::net::SocketAddr;
use std::panic::{AssertUnwindSafe, catch_unwind};
use tokio::net::UdpSocket;
use tokio::sync::watch;

/// One datagram more than a packet may have, so that a longer one is seen to be too long.
const DATAGRAM: usize = 4097;

/// Hands every datagram over as it comes, and writes the knocks now and then, until the door is closed.
async fn receive_all(socket: &UdpSocket, knocks: &Knocks, mut stopped: watch::Receiver<bool>, each: impl Fn(&[u8], SocketAddr)) {
    let mut buffer = vec![0; DATAGRAM];
    let mut sweep = tokio::time::interval(KNOCKS_EVERY);
    loop {
        let received = tokio::select! {
            received = socket.recv_from(&mut buffer) => received,
            _ = sweep.tick() => {
                knocks.flush();
                continue;
            }
            _ = stopped.wait_for(|stopped| *stopped) => return knocks.flush(),
        };
        match received {
            // Logins are decided in there; whatever one of them may bring up, the door stays open for the others.
            Ok((length, sender)) => {
                if catch_unwind(AssertUnwindSafe(|| each(&buffer[..length], sender))).is_err() {
                    tracing::error!(%sender, "a packet could not be handled; please report what was logged before this");
                }
            }
            // An answer of ours met a closed port; the next packet is another matter.
            Err(error) => tracing::debug!(%error, "receiving failed"),
        }
    }
}
