//! The accounting door: gateways tell that a session began or ended (RFC 2866). Each report is answered once it is proved; what it says
//! is only held against the logins that were let in.

use super::knocks::Knocks;
use super::radius::bind;
use super::{receive_all, who_holds};
use bivector_engine::shared::Shared;
use bivector_model::Cause;
use bivector_store::error::ServiceError;
use bivector_store::metrics;
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, NotAuthentic, Packet};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use tokio::net::UdpSocket;
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// Acct-Status-Type of a session that is there: it begins, or an interim report tells of it (RFC 2866 section 5.1).
const HAS_BEGUN: [u32; 2] = [1, 3];

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
        let inner = Inner { socket, shared: Arc::clone(shared), knocks: Knocks::new(Arc::clone(shared)) };
        let (stop, stopped) = watch::channel(false);
        let receiving = tokio::spawn(async move {
            receive_all(&inner.socket, &inner.knocks, stopped, |datagram, sender| inner.receive(datagram, sender)).await;
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
    fn receive(&self, datagram: &[u8], sender: SocketAddr) {
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
        if packet.code() == Code::AccountingRequest {
            let number = packet.first(AttributeType::AcctStatusType).and_then(|status| <[u8; 4]>::try_from(status.value).ok());
            let name = packet.text(AttributeType::UserName).unwrap_or_default();
            metrics::accounting(number.map(u32::from_be_bytes));
            self.shared.sessions.told(&gateway.name, name, number.is_some_and(|number| HAS_BEGUN.contains(&u32::from_be_bytes(number))));
        }
        let mut message = Message::new(Code::AccountingResponse);
        for state in packet.attributes().filter(|attribute| attribute.kind == AttributeType::ProxyState) {
            message.push(AttributeType::ProxyState, state.value);
        }
        // Message-Authenticator has no place in accounting (RFC 3579 section 3.2 is about logins), but belongs to Status-Server (RFC 5997).
        let (identifier, authenticator, secret) = (packet.identifier(), packet.authenticator(), secret.of(which));
        let reply = match packet.code() {
            Code::StatusServer => message.sign_reply(identifier, authenticator, secret),
            _ => message.unsigned_reply(identifier, authenticator, secret),
        };
        if let Ok(bytes) = reply
            && let Err(error) = self.socket.try_send_to(&bytes, sender)
        {
            tracing::debug!(%error, %sender, "an accounting response could not be sent");
        }
    }
}
