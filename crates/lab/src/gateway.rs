//! A simulated gateway: real packets from an address of its own, resends as configured, replies checked.

use bivector_exchange::{AskError, Asker, Exchange, Patience, Prepared, Request};
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, Packet, SharedSecret, authenticate_reply};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::net::UdpSocket;
use tokio::time::{Instant, timeout_at};

/// A gateway.
#[derive(Debug, Clone)]
pub struct SimulatedGateway {
    /// Sent as NAS-Identifier.
    pub name: String,
    /// The address it sends from.
    pub from: IpAddr,
    /// Where it sends to.
    pub server: SocketAddr,
    /// Its shared secret.
    pub secret: SharedSecret,
    /// How it resends.
    pub patience: Patience,
}

/// What came back when a request was sent twice at once and again later.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resent {
    /// Answers to the two requests that were sent at once.
    pub first_answers: usize,
    /// Whether the later resend got the very same bytes.
    pub same_bytes_later: bool,
    /// The first answer.
    pub exchange: Exchange,
}

impl SimulatedGateway {
    fn request(&self, name: &str, password: &str) -> Request {
        self.sign(Request::login(name, password.as_bytes()))
    }

    /// Puts in a request what the device says of itself.
    pub fn sign(&self, mut request: Request) -> Request {
        request.message.push(AttributeType::NasIdentifier, self.name.as_bytes());
        if let IpAddr::V4(address) = self.from {
            request.message.push(AttributeType::NasIpAddress, &address.octets());
        }
        request
    }

    /// Sends a login and waits as patiently as configured. Gives the exchange and the address that was sent from.
    ///
    /// # Errors
    /// [`AskError`]; silence is no error.
    pub async fn log_in(&self, name: &str, password: &str) -> Result<(Exchange, SocketAddr), AskError> {
        self.send(&self.request(name, password)).await
    }

    /// Answers a challenge: the same name, the answer as the password, and the challenge's State.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn answer(&self, name: &str, text: &str, challenge: &Exchange) -> Result<(Exchange, SocketAddr), AskError> {
        let mut request = self.request(name, text);
        let attributes = challenge.reply.iter().flat_map(|reply| &reply.attributes);
        attributes.filter(|(kind, _)| *kind == AttributeType::State).for_each(|(kind, value)| request.message.push(*kind, value));
        self.send(&request).await
    }

    /// Sends a request that is made up already.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn send(&self, request: &Request) -> Result<(Exchange, SocketAddr), AskError> {
        let asker = Asker::connect(SocketAddr::new(self.from, 0), self.server).await?;
        let exchange = asker.ask(request, &self.secret, self.patience).await?;
        Ok((exchange, asker.local()?))
    }

    /// Asks whether the server is alive (RFC 5997).
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn status(&self) -> Result<Exchange, AskError> {
        let asker = Asker::connect(SocketAddr::new(self.from, 0), self.server).await?;
        asker.ask(&Request::status(), &self.secret, self.patience).await
    }

    /// Tells the accounting door at `server` that a session of somebody begins (`status` 1) or ends (2); gives whether that was confirmed.
    ///
    /// # Errors
    /// [`AskError`]; silence is no error.
    pub async fn account(&self, server: SocketAddr, name: &str, session: &str, status: u32) -> Result<bool, AskError> {
        let mut message = Message::new(Code::AccountingRequest);
        message.push(AttributeType::AcctStatusType, &status.to_be_bytes());
        message.push(AttributeType::UserName, name.as_bytes());
        message.push(AttributeType::AcctSessionId, session.as_bytes());
        self.report(server, message).await
    }

    /// Sends a report to the accounting door at `server`; gives whether it was confirmed.
    ///
    /// # Errors
    /// [`AskError`]; silence is no error.
    pub async fn report(&self, server: SocketAddr, mut message: Message) -> Result<bool, AskError> {
        let socket = UdpSocket::bind(SocketAddr::new(self.from, 0)).await?;
        socket.connect(server).await?;
        message.push(AttributeType::NasIdentifier, self.name.as_bytes());
        let bytes = message.accounting_request(1, &self.secret)?;
        let authenticator = <[u8; 16]>::try_from(&bytes[4..20]).unwrap_or_default();
        for _ in 0..self.patience.tries {
            socket.send(&bytes).await?;
            let (answers, _) = collect(&socket, self.patience.wait, Duration::ZERO).await;
            let confirmed = answers.iter().any(|answer| {
                let packet = Packet::parse(answer).ok().filter(|packet| packet.code() == Code::AccountingResponse);
                packet.is_some_and(|packet| authenticate_reply(packet, &authenticator, &self.secret, IntegrityPolicy::WhenPresent).is_ok())
            });
            if confirmed {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Sends a login twice at once, as an impatient gateway, and once more after its answer.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn log_in_resending(&self, name: &str, password: &str) -> Result<(Resent, SocketAddr), AskError> {
        let socket = UdpSocket::bind(SocketAddr::new(self.from, 0)).await?;
        socket.connect(self.server).await?;
        let prepared = self.request(name, password).prepare(&self.secret)?;
        socket.send(&prepared.bytes).await?;
        socket.send(&prepared.bytes).await?;
        let (answers, took) = collect(&socket, self.patience.wait, Duration::from_millis(400)).await;
        let local = socket.local_addr()?;
        socket.send(&prepared.bytes).await?;
        let (later, _) = collect(&socket, self.patience.wait, Duration::ZERO).await;
        let same_bytes_later = !answers.is_empty() && later.first() == answers.first();
        let exchange = self.read(&prepared, &answers, took);
        Ok((Resent { first_answers: answers.len(), same_bytes_later, exchange }, local))
    }

    fn read(&self, prepared: &Prepared, answers: &[Vec<u8>], took: Duration) -> Exchange {
        let mut exchange = Exchange { reply: None, sends: 2, took, discarded: Vec::new(), refused: false };
        if let Some(first) = answers.first() {
            match bivector_exchange::read_reply(first, prepared, &self.secret) {
                Ok(reply) => exchange.reply = Some(reply),
                Err(reason) => exchange.discarded.push(reason),
            }
        }
        exchange
    }
}

/// Everything that comes until `wait` is over, or for `after` once something came; and when the first came.
async fn collect(socket: &UdpSocket, wait: Duration, after: Duration) -> (Vec<Vec<u8>>, Duration) {
    let began = Instant::now();
    let (mut until, mut first) = (began + wait, wait);
    let mut answers = Vec::new();
    let mut buffer = vec![0; bivector_wire::MAX_PACKET];
    while let Ok(Ok(length)) = timeout_at(until, socket.recv(&mut buffer)).await {
        if answers.is_empty() {
            first = began.elapsed();
            until = Instant::now() + after;
        }
        answers.push(buffer[..length].to_vec());
    }
    (answers, first)
}
