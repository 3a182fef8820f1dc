//! A stand-in upstream: an old RADIUS server that checks codes, with the habits that such servers have.

use bivector_wire::{
    AttributeType, Code, IntegrityPolicy, MAX_PACKET, Message, Packet, SharedSecret, authenticate, hide_salted, reveal_password,
};
use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::net::UdpSocket;
use tokio::task::JoinHandle;

/// Vendor number of Microsoft's attributes (RFC 2548).
const MICROSOFT: u32 = 311;
/// What its challenges carry.
const STATE: &[u8] = b"harbourlight-round-two";

/// How it behaves.
#[derive(Debug, Clone, Default)]
pub struct Habits {
    /// Asks everybody for a second text, this one, before it accepts.
    pub challenge: Option<String>,
    /// Answers this much later.
    pub late: Duration,
    /// Answers twice.
    pub twice: bool,
    /// Signs its answers with another secret.
    pub wrong_secret: bool,
    /// Answers from another port.
    pub from_elsewhere: bool,
    /// Leaves the Message-Authenticator out.
    pub unsigned: bool,
}

/// A request that it got.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Got {
    /// User-Name.
    pub name: String,
    /// Where it came from.
    pub sender: SocketAddr,
    /// All attributes in order.
    pub attributes: Vec<(AttributeType, Vec<u8>)>,
}

/// A running stand-in. Dropped, it stops.
#[derive(Debug)]
pub struct StandInUpstream {
    address: SocketAddr,
    answering: JoinHandle<()>,
    got: Arc<Mutex<Vec<Got>>>,
}

struct Contents {
    secret: SharedSecret,
    /// What is right for whom.
    right: HashMap<String, String>,
    habits: Habits,
    got: Arc<Mutex<Vec<Got>>>,
}

impl StandInUpstream {
    /// Starts one on `address` (port 0 for any). `right` is what each name's User-Password must be; a name that stands in it with
    /// an empty text is let in by any other method.
    ///
    /// # Errors
    /// The socket's.
    pub async fn start(address: SocketAddr, secret: &[u8], right: HashMap<String, String>, habits: Habits) -> io::Result<Self> {
        let socket = UdpSocket::bind(address).await?;
        let address = socket.local_addr()?;
        let got = Arc::new(Mutex::new(Vec::new()));
        let contents = Contents { secret: SharedSecret::new(secret), right, habits, got: Arc::clone(&got) };
        let answering = tokio::spawn(answer_all(socket, contents));
        Ok(StandInUpstream { address, answering, got })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The logins that it got, resends included.
    pub fn got(&self) -> Vec<Got> {
        self.got.lock().map(|got| got.clone()).unwrap_or_default()
    }
}

impl Drop for StandInUpstream {
    fn drop(&mut self) {
        self.answering.abort();
    }
}

async fn answer_all(socket: UdpSocket, contents: Contents) {
    let (socket, contents) = (Arc::new(socket), Arc::new(contents));
    let mut buffer = vec![0; MAX_PACKET];
    loop {
        let Ok((length, sender)) = socket.recv_from(&mut buffer).await else { continue };
        let datagram = buffer[..length].to_vec();
        let (socket, contents) = (Arc::clone(&socket), Arc::clone(&contents));
        tokio::spawn(async move {
            let Some(reply) = contents.answer(&datagram, sender) else { return };
            tokio::time::sleep(contents.habits.late).await;
            if contents.habits.from_elsewhere {
                if let Ok(other) = UdpSocket::bind(SocketAddr::new(sender.ip(), 0)).await {
                    let _ = other.send_to(&reply, sender).await;
                }
                return;
            }
            let times = if contents.habits.twice { 2 } else { 1 };
            for _ in 0..times {
                let _ = socket.send_to(&reply, sender).await;
            }
        });
    }
}

impl Contents {
    fn answer(&self, datagram: &[u8], sender: SocketAddr) -> Option<Vec<u8>> {
        let packet = Packet::parse(datagram).ok()?;
        authenticate(packet, &self.secret, IntegrityPolicy::Required).ok()?;
        if packet.code() == Code::StatusServer {
            return self.sign(Message::new(Code::AccessAccept), &packet);
        }
        let name = packet.text(AttributeType::UserName)?.to_owned();
        let attributes = packet.attributes().map(|attribute| (attribute.kind, attribute.value.to_vec())).collect();
        self.got.lock().ok()?.push(Got { name: name.clone(), sender, attributes });
        let typed = packet
            .first(AttributeType::UserPassword)
            .and_then(|hidden| reveal_password(hidden.value, packet.authenticator(), &self.secret).ok());
        let typed = typed.map(|text| String::from_utf8_lossy(text.expose()).into_owned());
        let answers_prompt = packet.first(AttributeType::State).is_some_and(|state| state.value == STATE);
        let right = match (&self.habits.challenge, answers_prompt) {
            (Some(second), true) => typed.as_ref() == Some(second),
            _ => self.right.get(&name).is_some_and(|right| right.is_empty() || typed.as_ref() == Some(right)),
        };
        let eap = packet.first(AttributeType::EapMessage).is_some();
        let code = match (right, &self.habits.challenge) {
            (false, _) => Code::AccessReject,
            (true, Some(_)) if !answers_prompt => Code::AccessChallenge,
            (true, _) => Code::AccessAccept,
        };
        self.sign(self.reply(code, eap, &packet), &packet)
    }

    fn reply(&self, code: Code, eap: bool, packet: &Packet<'_>) -> Message {
        let mut message = Message::new(code);
        match code {
            Code::AccessAccept => {
                message.push(AttributeType::Class, b"turbine-crew");
                message.push(AttributeType::FilterId, b"from-harbourlight");
                message.push(AttributeType::ReplyMessage, b"welcome");
                if eap {
                    message.push(AttributeType::EapMessage, &[3, 7, 0, 4]);
                }
                // What an accept of MS-CHAPv2 or EAP carries: keys, hidden for whoever asked.
                for (number, byte) in [(16, 0xa5), (17, 0x5a)] {
                    if let Some(hidden) = hide_salted(&[byte; 32], [number, 1], packet.authenticator(), &self.secret) {
                        message.push_vendor(MICROSOFT, number, &hidden);
                    }
                }
            }
            Code::AccessChallenge => {
                message.push(AttributeType::State, STATE);
                message.push(AttributeType::ReplyMessage, b"Next code:");
                if eap {
                    message.push(AttributeType::EapMessage, &[1, 8, 0, 6, 4, 1]);
                }
            }
            _ => {
                message.push(AttributeType::ReplyMessage, b"not today");
                if eap {
                    message.push(AttributeType::EapMessage, &[4, 7, 0, 4]);
                }
            }
        }
        for state in packet.attributes().filter(|attribute| attribute.kind == AttributeType::ProxyState) {
            message.push(AttributeType::ProxyState, state.value);
        }
        message
    }

    fn sign(&self, message: Message, packet: &Packet<'_>) -> Option<Vec<u8>> {
        let other = SharedSecret::new(b"somebody else's secret");
        let secret = if self.habits.wrong_secret { &other } else { &self.secret };
        if self.habits.unsigned {
            return message.unsigned_reply(packet.identifier(), packet.authenticator(), secret).ok();
        }
        message.sign_reply(packet.identifier(), packet.authenticator(), secret).ok()
    }
}
