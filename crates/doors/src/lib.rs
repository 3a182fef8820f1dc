//! Where Bivector listens: one module for each protocol.

pub mod accounting;
mod eap;
mod holder;
mod knocks;
pub mod radius;

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

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_engine::shared::Shared;
    use bivector_store::records::{Records, Sync};
    use bivector_store::seal::Seal;
    use std::sync::Arc;
    use std::time::Duration;
    use tokio::sync::mpsc;

    #[tokio::test(flavor = "multi_thread")]
    async fn a_packet_that_breaks_its_handling_leaves_the_door_open_for_the_next() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let seal = Arc::new(Seal::load(&folder.path().join("seal.key"), true).unwrap());
        let knocks = Knocks::new(Arc::new(Shared::new(folder.path().to_owned(), records, seal).unwrap()));
        let door = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = door.local_addr().unwrap();
        let (handled, mut seen) = mpsc::unbounded_channel();
        let (stop, stopped) = watch::channel(false);
        let receiving = tokio::spawn(async move {
            receive_all(&door, &knocks, stopped, |datagram, _| {
                assert_ne!(datagram, b"odd", "as it is meant to");
                handled.send(datagram.to_vec()).unwrap();
            })
            .await;
        });
        let gateway = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        for datagram in [&b"first"[..], b"odd", b"second"] {
            gateway.send_to(datagram, address).await.unwrap();
        }
        for wanted in [&b"first"[..], b"second"] {
            let next = tokio::time::timeout(Duration::from_secs(10), seen.recv()).await.unwrap();
            assert_eq!(next.as_deref(), Some(wanted));
        }
        stop.send_replace(true);
        receiving.await.unwrap();
        assert_eq!(seen.recv().await, None, "the door is closed");
    }
}
