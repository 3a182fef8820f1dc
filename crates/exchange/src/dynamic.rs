//! Requests to a gateway to end or change a session (RFC 5176).

use crate::{AskError, Patience};
use bivector_wire::{AttributeType, Code, IntegrityPolicy, MAX_PACKET, Message, Packet, SharedSecret, authenticate_reply};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;
use tokio::net::UdpSocket;
use tokio::time::{Instant, timeout_at};

/// What a gateway is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// To end the session (Disconnect-Request).
    Disconnect,
    /// To change what the session may do (CoA-Request).
    Change,
}

/// How it answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DynamicAnswer {
    /// What it said.
    pub said: DynamicSaid,
    /// How often it was asked.
    pub tries: u32,
    /// From the first request to the end.
    pub took: Duration,
}

/// What a gateway said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DynamicSaid {
    /// It has done it (ACK).
    Done,
    /// It has not (NAK), with its Error-Cause if it gave one (RFC 5176 section 3.5).
    Refused(Option<u32>),
    /// Nothing that counts.
    Nothing,
    /// The system said that nothing listens there.
    NobodyListens,
}

impl DynamicSaid {
    /// In words, with what would help.
    pub fn in_words(self, to: SocketAddr) -> String {
        match self {
            DynamicSaid::Done => "the gateway did it".to_owned(),
            DynamicSaid::Refused(cause) => format!("the gateway refused: {}", error_cause_in_words(cause)),
            DynamicSaid::Nothing => {
                format!(
                    "no answer from {to}: check that the gateway takes such requests from here, with this secret, and answers from that address"
                )
            }
            DynamicSaid::NobodyListens => {
                format!("nothing listens at {to}: switch such requests on at the gateway, or correct `dynamic_authorization`")
            }
        }
    }
}

/// A value of Error-Cause in words (RFC 5176 section 3.5, RFC 5580 section 4.5, RFC 6911 and IANA's registry).
pub fn error_cause_in_words(cause: Option<u32>) -> String {
    let said = match cause {
        None => "it gave no reason",
        Some(201) => "what was left of the session was removed",
        Some(401) => "it does not support an attribute of the request",
        Some(402) => "it misses an attribute that it needs to find the session",
        Some(403) => "it does not recognise itself in the request",
        Some(404) => "it finds the request malformed",
        Some(405) => "it does not support the requested service",
        Some(406) => "it does not support an extension in the request",
        Some(407) => "it finds a value of the request wrong",
        Some(501) => "its administrator does not allow it",
        Some(502) => "it cannot pass the request on",
        Some(503) => "it has no such session",
        Some(504) => "it cannot end this session",
        Some(505) => "a proxy on the way could not pass the request on",
        Some(506) => "it lacks resources",
        Some(507) => "it has begun to do it and has not finished",
        Some(508) => "the request fits several sessions",
        Some(509) => "it wants to know the place first",
        Some(other) => return format!("Error-Cause {other}, which has no name here"),
    };
    match cause {
        Some(number) => format!("{said} (Error-Cause {number})"),
        None => said.to_owned(),
    }
}

/// Asks a gateway. `attributes` identify the session and, for a change, say what is to change. The same bytes are sent again while nothing
/// comes; answers from other addresses do not count.
///
/// # Errors
/// [`AskError`]. A refusal and silence are none.
pub async fn ask(
    to: SocketAddr,
    secret: &SharedSecret,
    action: Action,
    attributes: &Message,
    identifier: u8,
    patience: Patience,
) -> Result<DynamicAnswer, AskError> {
    let (code, done, refused) = match action {
        Action::Disconnect => (Code::DisconnectRequest, Code::DisconnectAck, Code::DisconnectNak),
        Action::Change => (Code::CoaRequest, Code::CoaAck, Code::CoaNak),
    };
    let any: IpAddr = if to.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
    let socket = UdpSocket::bind(SocketAddr::new(any, 0)).await?;
    socket.connect(to).await?;
    let bytes = attributes.with_code(code).accounting_request(identifier, secret)?;
    let authenticator = <[u8; 16]>::try_from(&bytes[4..20]).unwrap_or_default();
    let began = Instant::now();
    let mut buffer = [0; MAX_PACKET];
    for tries in 1..=patience.tries.max(1) {
        if socket.send(&bytes).await.is_err() {
            return Ok(DynamicAnswer { said: DynamicSaid::NobodyListens, tries, took: began.elapsed() });
        }
        let until = Instant::now() + patience.wait;
        loop {
            let length = match timeout_at(until, socket.recv(&mut buffer)).await {
                Err(_) => break,
                Ok(Ok(length)) => length,
                Ok(Err(_)) => return Ok(DynamicAnswer { said: DynamicSaid::NobodyListens, tries, took: began.elapsed() }),
            };
            let Ok(packet) = Packet::parse(&buffer[..length]) else { continue };
            if packet.identifier() != identifier {
                continue;
            }
            let Ok(proved) = authenticate_reply(packet, &authenticator, secret, IntegrityPolicy::WhenPresent) else { continue };
            let packet = proved.packet();
            let cause = packet.first(AttributeType::ErrorCause).and_then(|cause| <[u8; 4]>::try_from(cause.value).ok());
            let said = match packet.code() {
                code if code == done => DynamicSaid::Done,
                code if code == refused => DynamicSaid::Refused(cause.map(u32::from_be_bytes)),
                _ => continue,
            };
            return Ok(DynamicAnswer { said, tries, took: began.elapsed() });
        }
    }
    Ok(DynamicAnswer { said: DynamicSaid::Nothing, tries: patience.tries.max(1), took: began.elapsed() })
}

#[cfg(test)]
mod tests {
    use super::*;

    const PATIENCE: Patience = Patience { wait: Duration::from_millis(100), tries: 3 };

    fn message() -> Message {
        let mut message = Message::new(Code::DisconnectRequest);
        message.push(AttributeType::AcctSessionId, b"4f-1");
        message
    }

    /// A gateway that lets the first requests pass unanswered and then answers with this.
    async fn gateway(
        silent: usize,
        code: Code,
        cause: Option<u32>,
        secret: &'static [u8],
    ) -> (SocketAddr, tokio::task::JoinHandle<Vec<Vec<u8>>>) {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = socket.local_addr().unwrap();
        let task = tokio::spawn(async move {
            let mut heard = Vec::new();
            let mut buffer = [0; 4096];
            loop {
                let (length, from) = socket.recv_from(&mut buffer).await.unwrap();
                heard.push(buffer[..length].to_vec());
                if heard.len() > silent {
                    let packet = Packet::parse(&buffer[..length]).unwrap();
                    let mut reply = Message::new(code);
                    if let Some(cause) = cause {
                        reply.push(AttributeType::ErrorCause, &cause.to_be_bytes());
                    }
                    let reply = reply.unsigned_reply(packet.identifier(), packet.authenticator(), &SharedSecret::new(secret)).unwrap();
                    socket.send_to(&reply, from).await.unwrap();
                    if secret == b"breakwater" {
                        return heard;
                    }
                }
            }
        });
        (address, task)
    }

    #[tokio::test]
    async fn a_request_is_sent_again_unchanged_until_it_is_answered() {
        let secret = SharedSecret::new(b"breakwater");
        let (to, heard) = gateway(1, Code::DisconnectAck, None, b"breakwater").await;
        let answer = ask(to, &secret, Action::Disconnect, &message(), 7, PATIENCE).await.unwrap();
        assert_eq!((answer.said, answer.tries), (DynamicSaid::Done, 2));
        let heard = heard.await.unwrap();
        assert_eq!(heard[0], heard[1], "with the same identifier and authenticator");
        let packet = Packet::parse(&heard[0]).unwrap();
        assert_eq!(u8::from(packet.code()), 40);
        assert!(bivector_wire::authenticate_accounting(packet, &secret).is_ok(), "RFC 5176 section 2.3");
    }

    #[tokio::test]
    async fn a_refusal_tells_its_reason_and_an_answer_with_another_secret_is_none() {
        let secret = SharedSecret::new(b"breakwater");
        let (to, _) = gateway(0, Code::CoaNak, Some(503), b"breakwater").await;
        let answer = ask(to, &secret, Action::Change, &message(), 7, PATIENCE).await.unwrap();
        assert_eq!(answer.said, DynamicSaid::Refused(Some(503)));
        assert!(answer.said.in_words(to).contains("has no such session"));
        let (to, _) = gateway(0, Code::DisconnectAck, None, b"another").await;
        let answer = ask(to, &secret, Action::Disconnect, &message(), 7, PATIENCE).await.unwrap();
        assert_eq!((answer.said, answer.tries), (DynamicSaid::Nothing, 3));
    }

    #[tokio::test]
    async fn where_nobody_listens_that_is_told() {
        let closed = UdpSocket::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        let answer = ask(closed, &SharedSecret::new(b"x"), Action::Disconnect, &message(), 7, PATIENCE).await.unwrap();
        assert_eq!(answer.said, DynamicSaid::NobodyListens);
    }
}
