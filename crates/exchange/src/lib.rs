//! The asking side of RADIUS: one exchange with its resends and its verified answer (RFC 2865 section 2, RFC 5080 section 2.2.1).
//!
//! Used by rehearsal logins and by the lab's gateways alike. What is asked is built with `bivector-wire`; who answers is not
//! this crate's business.

use bivector_wire::{AttributeType, Code, MAX_PACKET, Message, Packet, Secret, SharedSecret, TooLong, authenticate_reply, hide_password};
use std::io;
use std::net::SocketAddr;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::net::UdpSocket;
use tokio::time::timeout_at;

/// How long an asker waits and how often it tries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Patience {
    /// Wait per try.
    pub wait: Duration,
    /// Tries in all, at least one.
    pub tries: u32,
}

/// A request to send: attributes, and the password that is hidden for it.
#[derive(Debug, Clone)]
pub struct Request {
    /// Access-Request or Status-Server with its attributes, without password.
    pub message: Message,
    /// The text of the password field.
    pub password: Option<Secret<Vec<u8>>>,
    /// Whether a Message-Authenticator is sent.
    pub signed: bool,
}

/// A request as bytes, with what its answer is checked against.
#[derive(Debug, Clone)]
pub struct Prepared {
    /// The datagram.
    pub bytes: Vec<u8>,
    /// Its identifier.
    pub identifier: u8,
    /// Its Request Authenticator.
    pub authenticator: [u8; 16],
}

/// A verified answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reply {
    /// What kind of packet it is.
    pub code: Code,
    /// Its attributes in order, less the Message-Authenticator.
    pub attributes: Vec<(AttributeType, Vec<u8>)>,
    /// The datagram.
    pub bytes: Vec<u8>,
}

/// How an exchange ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exchange {
    /// The answer; none if the asker gave up.
    pub reply: Option<Reply>,
    /// How often the request was sent.
    pub sends: u32,
    /// From the first send to the end.
    pub took: Duration,
    /// Answers that did not count, each with the reason.
    pub discarded: Vec<String>,
}

/// Why a request could not be asked.
#[derive(Debug, Error)]
pub enum AskError {
    /// It does not fit into a packet.
    #[error(transparent)]
    TooLong(#[from] TooLong),
    /// The password does not fit.
    #[error(transparent)]
    Password(#[from] bivector_wire::HiddenPasswordError),
    /// The socket refused.
    #[error("the request could not be sent: {0}")]
    Io(#[from] io::Error),
    /// The system gave no random bytes.
    #[error("the system gave no random bytes")]
    Random,
}

impl Request {
    /// An Access-Request for a login with a text password (PAP).
    pub fn login(name: &str, password: &[u8]) -> Self {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, name.as_bytes());
        Request { message, password: Some(Secret::new(password.to_vec())), signed: true }
    }

    /// "Are you alive?" (RFC 5997).
    pub fn status() -> Self {
        Request { message: Message::new(Code::StatusServer), password: None, signed: true }
    }

    /// Turns it into bytes with a fresh identifier and authenticator.
    ///
    /// # Errors
    /// [`AskError`] if it does not fit.
    pub fn prepare(&self, secret: &SharedSecret) -> Result<Prepared, AskError> {
        let mut random = [0; 17];
        getrandom::fill(&mut random).map_err(|_| AskError::Random)?;
        let [identifier, authenticator @ ..] = random;
        let mut message = self.message.clone();
        if let Some(password) = &self.password {
            message.push(AttributeType::UserPassword, &hide_password(password.expose(), &authenticator, secret)?);
        }
        let bytes = if self.signed {
            message.sign_request(identifier, &authenticator, secret)?
        } else {
            message.unsigned_request(identifier, &authenticator)?
        };
        Ok(Prepared { bytes, identifier, authenticator })
    }
}

/// A socket that asks one server, from one local address.
#[derive(Debug)]
pub struct Asker {
    socket: UdpSocket,
}

impl Asker {
    /// Binds `local` (port 0 for any) and connects to `server`, so that nobody else's packets arrive.
    ///
    /// # Errors
    /// The socket's.
    pub async fn connect(local: SocketAddr, server: SocketAddr) -> io::Result<Self> {
        let socket = UdpSocket::bind(local).await?;
        socket.connect(server).await?;
        Ok(Asker { socket })
    }

    /// The address that the server sees.
    ///
    /// # Errors
    /// The socket's.
    pub fn local(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// Sends a request and waits for its verified answer; resends the same bytes after each wait.
    ///
    /// # Errors
    /// [`AskError`]. Silence is no error.
    pub async fn ask(&self, request: &Request, secret: &SharedSecret, patience: Patience) -> Result<Exchange, AskError> {
        self.ask_prepared(&request.prepare(secret)?, secret, patience).await
    }

    /// As [`Asker::ask`], with bytes that are ready.
    ///
    /// # Errors
    /// [`AskError::Io`].
    pub async fn ask_prepared(&self, prepared: &Prepared, secret: &SharedSecret, patience: Patience) -> Result<Exchange, AskError> {
        let began = Instant::now();
        let mut exchange = Exchange { reply: None, sends: 0, took: Duration::ZERO, discarded: Vec::new() };
        let mut buffer = vec![0; MAX_PACKET];
        while exchange.sends < patience.tries.max(1) && exchange.reply.is_none() {
            match self.socket.send(&prepared.bytes).await {
                // A closed port reported for an earlier try; this try goes on, as over a network that reports nothing.
                Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => {}
                other => {
                    other?;
                }
            }
            exchange.sends += 1;
            self.listen(prepared, secret, tokio::time::Instant::now() + patience.wait, &mut buffer, &mut exchange).await?;
        }
        exchange.took = began.elapsed();
        Ok(exchange)
    }

    async fn listen(
        &self,
        prepared: &Prepared,
        secret: &SharedSecret,
        until: tokio::time::Instant,
        buffer: &mut [u8],
        exchange: &mut Exchange,
    ) -> io::Result<()> {
        loop {
            let length = match timeout_at(until, self.socket.recv(buffer)).await {
                Err(_) => return Ok(()),
                Ok(Err(error)) if error.kind() == io::ErrorKind::ConnectionRefused => {
                    exchange.discarded.push("nothing listens there".to_owned());
                    tokio::time::sleep_until(until).await;
                    return Ok(());
                }
                Ok(received) => received?,
            };
            match read_reply(&buffer[..length], prepared, secret) {
                Ok(reply) => {
                    exchange.reply = Some(reply);
                    return Ok(());
                }
                Err(reason) => exchange.discarded.push(reason),
            }
        }
    }
}

/// Reads an answer to `prepared`: it must carry its identifier and prove itself with the secret.
///
/// # Errors
/// Why it does not count.
pub fn read_reply(datagram: &[u8], prepared: &Prepared, secret: &SharedSecret) -> Result<Reply, String> {
    let packet = Packet::parse(datagram).map_err(|error| error.to_string())?;
    if packet.identifier() != prepared.identifier {
        return Err(format!("an answer with identifier {} to a request with {}", packet.identifier(), prepared.identifier));
    }
    let authentic = authenticate_reply(packet, &prepared.authenticator, secret).map_err(|error| error.to_string())?;
    let packet = authentic.packet();
    let attributes = packet.attributes().filter(|attribute| attribute.kind != AttributeType::MessageAuthenticator);
    Ok(Reply {
        code: packet.code(),
        attributes: attributes.map(|attribute| (attribute.kind, attribute.value.to_vec())).collect(),
        bytes: packet.bytes().to_vec(),
    })
}
