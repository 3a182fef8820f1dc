//! The accounting door: gateways tell what becomes of sessions (RFC 2866). A report is answered once what it says is on disk.

use super::knocks::Knocks;
use super::radius::bind;
use super::{receive_all, who_holds};
use bivector_engine::shared::Shared;
use bivector_model::Cause;
use bivector_sessions::Report;
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_store::metrics;
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, NotAuthentic, Packet, TooLong};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use tokio::net::UdpSocket;
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinHandle;

/// Reports that are being written; a gateway sends those that find no place again.
const IN_FLIGHT: usize = 2_048;

/// An open socket that reports of sessions come in by.
#[derive(Debug)]
pub struct AccountingDoor {
    address: SocketAddr,
    stop: watch::Sender<bool>,
    receiving: Mutex<Option<JoinHandle<()>>>,
}

struct Inner {
    socket: UdpSocket,
    shared: Arc<Shared>,
    knocks: Knocks,
    places: Arc<Semaphore>,
}

impl AccountingDoor {
    /// Opens a socket for gateways.
    ///
    /// # Errors
    /// [`ServiceError::Listen`] with who holds the address, where that can be known.
    pub fn open(address: SocketAddr, shared: &Arc<Shared>) -> Result<Self, ServiceError> {
        let failed = |source: std::io::Error| ServiceError::Listen { protocol: "UDP", address, holder: who_holds("udp", address), source };
        let socket = bind(address).and_then(UdpSocket::from_std).map_err(failed)?;
        let address = socket.local_addr().map_err(failed)?;
        let (knocks, places) = (Knocks::new(Arc::clone(shared)), Arc::new(Semaphore::new(IN_FLIGHT)));
        let inner = Arc::new(Inner { socket, shared: Arc::clone(shared), knocks, places });
        let (stop, stopped) = watch::channel(false);
        let receiving = tokio::spawn(async move {
            receive_all(&inner.socket, &inner.knocks, stopped, |datagram, sender| inner.receive(datagram, sender)).await;
            // What was received is answered before the door counts as closed.
            let _ = inner.places.acquire_many(IN_FLIGHT as u32).await;
        });
        Ok(AccountingDoor { address, stop, receiving: Mutex::new(Some(receiving)) })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Stops receiving and closes the socket. A report that was received is answered by then.
    pub async fn close(&self) {
        self.stop.send_replace(true);
        let receiving = self.receiving.lock().ok().and_then(|mut receiving| receiving.take());
        if let Some(receiving) = receiving {
            let _ = receiving.await;
        }
    }
}

impl Inner {
    /// One datagram. A report that comes again says the same, so nothing is kept for resends.
    fn receive(self: &Arc<Self>, datagram: &[u8], sender: SocketAddr) {
        let Some(live) = self.shared.live.load_full() else { return metrics::dropped_packet("no-site") };
        let drop_packet = |cause: Cause, gateway: &str, said: String| {
            metrics::dropped_packet(cause.slug());
            self.knocks.add(sender.ip(), cause, gateway, &said, || None);
        };
        let Some((index, gateway)) = live.gateway_at(sender.ip()).and_then(|index| Some((index, live.site.gateways.get(index)?))) else {
            // RFC 2866 section 3: as with logins, a client without a shared secret gets silence.
            return drop_packet(Cause::GatewayUnknown, "", format!("{} bytes at the accounting door", datagram.len()));
        };
        let packet = match Packet::parse(datagram) {
            Ok(packet) => packet,
            Err(error) => return drop_packet(Cause::PacketMalformed, &gateway.name, error.to_string()),
        };
        let Some(secret) = live.secrets.get(index) else { return };
        let proved = match packet.code() {
            Code::AccountingRequest => secret.authenticate_accounting(packet),
            Code::StatusServer => secret.authenticate(packet, IntegrityPolicy::Required),
            other => {
                return drop_packet(Cause::PacketMalformed, &gateway.name, format!("{other} is not accepted at the accounting door"));
            }
        };
        let (authentic, which) = match proved {
            Ok(proved) => proved,
            Err(why) => {
                let cause = if why == NotAuthentic::Altered { Cause::PacketAltered } else { Cause::SecretDiffers };
                return drop_packet(cause, &gateway.name, format!("accounting request: {why}"));
            }
        };
        let packet = authentic.packet();
        let mut message = Message::new(Code::AccountingResponse);
        for state in packet.attributes().filter(|attribute| attribute.kind == AttributeType::ProxyState) {
            message.push(AttributeType::ProxyState, state.value);
        }
        // Message-Authenticator has no place in accounting (RFC 3579 section 3.2 is about logins), but belongs to Status-Server (RFC 5997).
        let (identifier, authenticator, secret) = (packet.identifier(), packet.authenticator(), secret.of(which));
        if packet.code() == Code::StatusServer {
            return self.reply(message.sign_reply(identifier, authenticator, secret), sender);
        }
        let reply = message.unsigned_reply(identifier, authenticator, secret);
        let number = packet.first(AttributeType::AcctStatusType).and_then(|status| <[u8; 4]>::try_from(status.value).ok());
        metrics::accounting(number.map(u32::from_be_bytes));
        let report = match Report::read(packet, clock::now()) {
            Ok(report) => report,
            Err(error) => {
                // It says nothing that could be kept, and would be sent for ever if nobody answered.
                self.knocks.add(sender.ip(), Cause::PacketMalformed, &gateway.name, &error.to_string(), || None);
                return self.reply(reply, sender);
            }
        };
        let Ok(place) = Arc::clone(&self.places).try_acquire_owned() else { return metrics::accounting_dropped() };
        let (inner, gateway) = (Arc::clone(self), gateway.name.clone());
        tokio::spawn(async move {
            let written = inner.shared.session_reported(&gateway, report).await;
            match written {
                Ok(()) => inner.reply(reply, sender),
                Err(error) => {
                    metrics::accounting_dropped();
                    tracing::debug!(%error, gateway, "a report of a session could not be written; the gateway has to send it again");
                }
            }
            drop(place);
        });
    }

    fn reply(&self, reply: Result<Vec<u8>, TooLong>, sender: SocketAddr) {
        if let Ok(bytes) = reply
            && let Err(error) = self.socket.try_send_to(&bytes, sender)
        {
            tracing::debug!(%error, %sender, "an accounting response could not be sent");
        }
    }
}
