//! The asking side of RADIUS: one exchange with its resends and its verified answer (RFC 2865 section 2, RFC 5080 section 2.2.1).
//!
//! Used by rehearsal logins and by the lab's gateways alike. What is asked is built with `bivector-wire`; who answers is not
//! this crate's business.

pub mod dynamic;
pub mod eap;

use bivector_wire::{
    AttributeType, Code, IntegrityPolicy, MAX_PACKET, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, Message, MsChapProof, Packet,
    Secret, SharedSecret, TooLong, authenticate_reply, chap_password, hide_password, nt_hash,
};
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
    /// Whether its answer must carry one.
    pub replies: IntegrityPolicy,
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
    /// Whether its answer must carry a Message-Authenticator.
    pub replies: IntegrityPolicy,
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
    /// Whether the system said that nothing listens there.
    pub refused: bool,
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
        Request { message, password: Some(Secret::new(password.to_vec())), signed: true, replies: IntegrityPolicy::Required }
    }

    /// An Access-Request for a login that proves its password by CHAP.
    ///
    /// # Errors
    /// The system gave no random bytes.
    pub fn chap(name: &str, password: &[u8]) -> Result<Self, AskError> {
        let mut random = [0; 17];
        getrandom::fill(&mut random).map_err(|_| AskError::Random)?;
        let [identifier, challenge @ ..] = random;
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, name.as_bytes());
        message.push(AttributeType::ChapPassword, &chap_password(identifier, password, &challenge));
        message.push(AttributeType::ChapChallenge, &challenge);
        Ok(Request { message, password: None, signed: true, replies: IntegrityPolicy::Required })
    }

    /// An Access-Request for a login that proves its password by MS-CHAPv2.
    ///
    /// # Errors
    /// The system gave no random bytes.
    pub fn ms_chap_v2(name: &str, password: &str) -> Result<Self, AskError> {
        let (mut ours, mut theirs) = ([0; 16], [0; 16]);
        getrandom::fill(&mut ours).and_then(|()| getrandom::fill(&mut theirs)).map_err(|_| AskError::Random)?;
        let (response, _) = MsChapProof::answer(1, name.as_bytes(), &nt_hash(password), ours, theirs);
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, name.as_bytes());
        message.push_vendor(MICROSOFT, MS_CHAP_CHALLENGE, &ours);
        message.push_vendor(MICROSOFT, MS_CHAP2_RESPONSE, &response);
        Ok(Request { message, password: None, signed: true, replies: IntegrityPolicy::Required })
    }

    /// An Access-Request that begins EAP with the person's name (RFC 3579 section 2.1).
    pub fn eap_start(name: &str) -> Self {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, name.as_bytes());
        // A response of type identity (RFC 3748 section 5.1): code 2, identifier 1, length, type 1, the name.
        let length = u16::try_from(name.len() + 5).unwrap_or(u16::MAX).to_be_bytes();
        message.push(AttributeType::EapMessage, &[&[2, 1, length[0], length[1], 1], name.as_bytes()].concat());
        Request { message, password: None, signed: true, replies: IntegrityPolicy::Required }
    }

    /// "Are you alive?" (RFC 5997).
    pub fn status() -> Self {
        Request { message: Message::new(Code::StatusServer), password: None, signed: true, replies: IntegrityPolicy::Required }
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
        Ok(Prepared { bytes, identifier, authenticator, replies: self.replies })
    }
}

/// A socket that asks one server, from one local address.
#[derive(Debug)]
pub struct Asker {
    socket: UdpSocket,
    /// Whether a closed port ends the exchange: where another server can be asked, waiting helps nobody.
    eager: bool,
}

impl Asker {
    /// Binds `local` (port 0 for any) and connects to `server`, so that nobody else's packets arrive.
    ///
    /// # Errors
    /// The socket's.
    pub async fn connect(local: SocketAddr, server: SocketAddr) -> io::Result<Self> {
        let socket = UdpSocket::bind(local).await?;
        socket.connect(server).await?;
        Ok(Asker { socket, eager: false })
    }

    /// Asks over a socket that is bound already, so that the server can be told of its address first.
    ///
    /// # Errors
    /// The socket's.
    pub async fn over(socket: UdpSocket, server: SocketAddr) -> io::Result<Self> {
        socket.connect(server).await?;
        Ok(Asker { socket, eager: false })
    }

    /// Ends an exchange as soon as the system says that nothing listens there.
    pub fn eager(mut self) -> Self {
        self.eager = true;
        self
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
        let mut exchange = Exchange { reply: None, sends: 0, took: Duration::ZERO, discarded: Vec::new(), refused: false };
        let mut buffer = vec![0; MAX_PACKET];
        while exchange.sends < patience.tries.max(1) && exchange.reply.is_none() && !(self.eager && exchange.refused) {
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
                    exchange.refused = true;
                    if !self.eager {
                        tokio::time::sleep_until(until).await;
                    }
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
    let authentic = authenticate_reply(packet, &prepared.authenticator, secret, prepared.replies).map_err(|error| error.to_string())?;
    let packet = authentic.packet();
    let attributes = packet.attributes().filter(|attribute| attribute.kind != AttributeType::MessageAuthenticator);
    Ok(Reply {
        code: packet.code(),
        attributes: attributes.map(|attribute| (attribute.kind, attribute.value.to_vec())).collect(),
        bytes: packet.bytes().to_vec(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECRET: &[u8] = b"breakwater-secret";

    /// What a server sends back for one request.
    type Answer = fn(&[u8]) -> Vec<Vec<u8>>;

    fn patience(tries: u32) -> Patience {
        Patience { wait: Duration::from_millis(120), tries }
    }

    /// A server that answers the requests it gets in order, each as told; an empty answer is silence.
    async fn server(answers: Vec<Answer>) -> (SocketAddr, tokio::task::JoinHandle<Vec<Vec<u8>>>) {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = socket.local_addr().unwrap();
        let seen = tokio::spawn(async move {
            let mut seen = Vec::new();
            for answer in answers {
                let mut buffer = [0; MAX_PACKET];
                let (length, from) = socket.recv_from(&mut buffer).await.unwrap();
                for reply in answer(&buffer[..length]) {
                    socket.send_to(&reply, from).await.unwrap();
                }
                seen.push(buffer[..length].to_vec());
            }
            seen
        });
        (address, seen)
    }

    fn accept_with(request: &[u8], secret: &[u8], identifier_off: u8) -> Vec<u8> {
        let packet = Packet::parse(request).unwrap();
        let mut message = Message::new(Code::AccessAccept);
        message.push(AttributeType::Class, b"control-room");
        message.sign_reply(packet.identifier().wrapping_add(identifier_off), packet.authenticator(), &SharedSecret::new(secret)).unwrap()
    }

    async fn ask(answers: Vec<Answer>, tries: u32) -> (Exchange, Vec<Vec<u8>>) {
        let (address, seen) = server(answers).await;
        let asker = Asker::connect("127.0.0.1:0".parse().unwrap(), address).await.unwrap();
        let exchange = asker.ask(&Request::login("ines", b"barnacle"), &SharedSecret::new(SECRET), patience(tries)).await.unwrap();
        (exchange, seen.await.unwrap())
    }

    #[tokio::test]
    async fn silence_is_met_with_the_same_bytes_again_until_patience_ends() {
        let (exchange, seen) = ask(vec![|_| vec![], |_| vec![], |request| vec![accept_with(request, SECRET, 0)]], 3).await;
        assert_eq!((exchange.sends, exchange.reply.map(|reply| reply.code)), (3, Some(Code::AccessAccept)));
        assert!(seen.windows(2).all(|pair| pair[0] == pair[1]));
        let (exchange, _) = ask(vec![|_| vec![], |_| vec![]], 2).await;
        assert_eq!((exchange.sends, exchange.reply), (2, None));
    }

    #[tokio::test]
    async fn answers_that_do_not_prove_themselves_are_discarded_with_their_reason_and_the_right_one_still_counts() {
        let (exchange, _) = ask(
            vec![|request| {
                let right = accept_with(request, SECRET, 0);
                let mut changed = right.clone();
                changed[25] ^= 1;
                vec![b"noise".to_vec(), accept_with(request, b"another", 0), accept_with(request, SECRET, 1), changed, right]
            }],
            1,
        )
        .await;
        let reply = exchange.reply.unwrap();
        assert_eq!(reply.attributes, [(AttributeType::Class, b"control-room".to_vec())]);
        assert_eq!(exchange.discarded.len(), 4, "{:?}", exchange.discarded);
        assert!(exchange.discarded[1].contains("Response Authenticator") && exchange.discarded[2].contains("identifier"));
    }

    #[tokio::test]
    async fn a_closed_port_and_a_password_that_is_too_long_are_told() {
        let closed = UdpSocket::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        let asker = Asker::connect("127.0.0.1:0".parse().unwrap(), closed).await.unwrap();
        let exchange = asker.ask(&Request::status(), &SharedSecret::new(SECRET), patience(1)).await.unwrap();
        assert_eq!((exchange.reply, exchange.discarded), (None, vec!["nothing listens there".to_owned()]));
        let long = Request::login("ines", &[b'x'; 129]).prepare(&SharedSecret::new(SECRET));
        assert!(matches!(long, Err(AskError::Password(_))));
    }
}
