//! A simulated gateway's sessions: it reports them, and ends or changes them when it is asked to (RFC 2866, RFC 5176).

use crate::gateway::SimulatedGateway;
use bivector_exchange::{AskError, Reply};
use bivector_wire::{AttributeType, Code, Message, Packet, SharedSecret, authenticate_accounting};
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::net::UdpSocket;

/// Values of Acct-Terminate-Cause that it uses (RFC 2866 section 5.10).
pub const USER_REQUEST: u32 = 1;
const ADMIN_RESET: u32 = 6;
/// Values of Error-Cause (RFC 5176 section 3.5).
const NOT_FOUND: u32 = 503;

/// How it takes requests to end or change sessions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Conduct {
    /// It does what it is asked.
    #[default]
    Obeys,
    /// It refuses with this Error-Cause.
    Refuses(u32),
    /// It says nothing.
    IsSilent,
    /// It answers from another address than the one that was asked.
    AnswersFromElsewhere,
}

/// One session of it.
#[derive(Debug, Clone)]
pub struct Online {
    /// User-Name.
    pub name: String,
    /// Framed-IP-Address.
    pub address: Ipv4Addr,
    /// Calling-Station-Id.
    pub caller: String,
    /// The Class attributes of the accept.
    pub classes: Vec<Vec<u8>>,
    /// Bytes from and to the user so far.
    pub bytes: (u64, u64),
    /// Attributes that a CoA-Request has set.
    pub changed: Vec<(AttributeType, Vec<u8>)>,
    began: Instant,
}

/// A gateway with sessions.
#[derive(Debug)]
pub struct OnlineGateway {
    gateway: SimulatedGateway,
    accounting: SocketAddr,
    conduct: Mutex<Conduct>,
    sessions: Mutex<BTreeMap<String, Online>>,
}

/// A session to keep behind an accept.
#[derive(Debug)]
pub struct Attended<'a> {
    /// The accounting door.
    pub accounting: SocketAddr,
    /// Where requests to end or change the session are taken, if at all.
    pub dynamic: Option<SocketAddr>,
    /// User-Name.
    pub person: &'a str,
    /// The accept that it begins with.
    pub accept: &'a Reply,
    /// The time between two reports.
    pub every: Duration,
}

/// Keeps a session until a request ends it or `left` does, and says what happens.
///
/// # Errors
/// What went wrong, as a clause.
pub async fn attend(
    gateway: SimulatedGateway,
    attended: Attended<'_>,
    left: impl Future<Output = ()>,
    say: impl Fn(String),
) -> Result<(), String> {
    let Attended { accounting, dynamic, person, accept, every } = attended;
    let (secret, id) = (gateway.secret.clone(), format!("lab-{}", std::process::id()));
    let online = OnlineGateway::new(gateway, accounting);
    let mut taking = None;
    if let Some(listen) = dynamic {
        let taken = online.take_requests(listen, secret).await;
        let (address, requests) = taken.map_err(|error| format!("cannot listen on {listen}: {error}"))?;
        say(format!("takes requests on {address}"));
        taking = Some(requests);
    }
    let no = |error: AskError| error.to_string();
    if !online.begin(&id, person, accept, Ipv4Addr::new(203, 0, 113, 1), "").await.map_err(no)? {
        return Err(format!("{accounting} did not confirm the session"));
    }
    say(format!("the session {id} is open; end it with Ctrl-C"));
    let by = if online.stay(&id, every, left).await.map_err(no)? { "the user" } else { "a request" };
    say(format!("the session was ended by {by}"));
    drop(taking);
    Ok(())
}

impl OnlineGateway {
    /// Reports to `accounting`, with the secret of `gateway`.
    pub fn new(gateway: SimulatedGateway, accounting: SocketAddr) -> Arc<Self> {
        Arc::new(OnlineGateway { gateway, accounting, conduct: Mutex::default(), sessions: Mutex::default() })
    }

    fn sessions(&self) -> MutexGuard<'_, BTreeMap<String, Online>> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes how it takes requests.
    pub fn behave(&self, conduct: Conduct) {
        *self.conduct.lock().unwrap_or_else(PoisonError::into_inner) = conduct;
    }

    /// Its open sessions.
    pub fn open(&self) -> BTreeMap<String, Online> {
        self.sessions().clone()
    }

    /// Begins a session after an accept. The address is the accept's, or else `address`. Gives whether the report was confirmed.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn begin(&self, id: &str, name: &str, accept: &Reply, address: Ipv4Addr, caller: &str) -> Result<bool, AskError> {
        let of = |wanted| accept.attributes.iter().filter(move |(kind, _)| *kind == wanted).map(|(_, value)| value.clone());
        let granted = of(AttributeType::FramedIpAddress).find_map(|value| <[u8; 4]>::try_from(value).ok()).map(Ipv4Addr::from);
        let session = Online {
            name: name.to_owned(),
            address: granted.unwrap_or(address),
            caller: caller.to_owned(),
            classes: of(AttributeType::Class).collect(),
            bytes: (0, 0),
            changed: Vec::new(),
            began: Instant::now(),
        };
        self.sessions().insert(id.to_owned(), session.clone());
        self.report(id, &session, 1, None).await
    }

    /// Lets traffic pass in all sessions, and reports it.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn interim(&self, more: (u64, u64)) -> Result<(), AskError> {
        let all: Vec<(String, Online)> = {
            let mut sessions = self.sessions();
            for session in sessions.values_mut() {
                session.bytes = (session.bytes.0 + more.0, session.bytes.1 + more.1);
            }
            sessions.iter().map(|(id, session)| (id.clone(), session.clone())).collect()
        };
        for (id, session) in all {
            self.report(&id, &session, 3, None).await?;
        }
        Ok(())
    }

    /// Ends a session for this reason. Gives whether the report was confirmed; false if there is no such session.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn end(&self, id: &str, cause: u32) -> Result<bool, AskError> {
        let Some(session) = self.sessions().remove(id) else { return Ok(false) };
        self.report(id, &session, 2, Some(cause)).await
    }

    /// Reports a session again and again, until a request ends it or `left` does. Gives whether it was `left`.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn stay(&self, id: &str, every: Duration, left: impl Future<Output = ()>) -> Result<bool, AskError> {
        let going = async {
            while self.sessions().contains_key(id) {
                tokio::time::sleep(every).await;
                self.interim((10_000, 200_000)).await?;
            }
            Ok(())
        };
        tokio::select! {
            ended = going => ended.map(|()| false),
            () = left => self.end(id, USER_REQUEST).await.map(|_| true),
        }
    }

    /// Forgets all sessions and reports that it has started again.
    ///
    /// # Errors
    /// [`AskError`].
    pub async fn restart(&self) -> Result<bool, AskError> {
        self.sessions().clear();
        let mut message = Message::new(Code::AccountingRequest);
        message.push(AttributeType::AcctStatusType, &7_u32.to_be_bytes());
        self.gateway.report(self.accounting, message).await
    }

    async fn report(&self, id: &str, session: &Online, status: u32, cause: Option<u32>) -> Result<bool, AskError> {
        let mut message = Message::new(Code::AccountingRequest);
        let number = |number: u64| (number as u32).to_be_bytes();
        message.push(AttributeType::AcctStatusType, &status.to_be_bytes());
        message.push(AttributeType::AcctSessionId, id.as_bytes());
        message.push(AttributeType::UserName, session.name.as_bytes());
        message.push(AttributeType::FramedIpAddress, &session.address.octets());
        if !session.caller.is_empty() {
            message.push(AttributeType::CallingStationId, session.caller.as_bytes());
        }
        session.classes.iter().for_each(|class| message.push(AttributeType::Class, class));
        if status != 1 {
            message.push(AttributeType::AcctSessionTime, &number(session.began.elapsed().as_secs()));
            message.push(AttributeType::AcctInputOctets, &number(session.bytes.0));
            message.push(AttributeType::AcctInputGigawords, &number(session.bytes.0 >> 32));
            message.push(AttributeType::AcctOutputOctets, &number(session.bytes.1));
            message.push(AttributeType::AcctOutputGigawords, &number(session.bytes.1 >> 32));
        }
        if let Some(cause) = cause {
            message.push(AttributeType::AcctTerminateCause, &cause.to_be_bytes());
        }
        self.gateway.report(self.accounting, message).await
    }

    /// Takes requests at `listen` until it is dropped. Gives where it listens.
    ///
    /// # Errors
    /// It cannot listen there.
    pub async fn take_requests(self: &Arc<Self>, listen: SocketAddr, secret: SharedSecret) -> std::io::Result<(SocketAddr, Requests)> {
        let socket = UdpSocket::bind(listen).await?;
        let address = socket.local_addr()?;
        let gateway = Arc::clone(self);
        let task = tokio::spawn(async move {
            let mut buffer = [0; 4096];
            loop {
                let Ok((length, sender)) = socket.recv_from(&mut buffer).await else {
                    tokio::time::sleep(Duration::from_millis(10)).await;
                    continue;
                };
                if let Some((reply, ended)) = gateway.answer(&buffer[..length], &secret) {
                    let elsewhere = gateway.conduct() == Conduct::AnswersFromElsewhere;
                    let from = if elsewhere { UdpSocket::bind("127.0.0.1:0").await.ok() } else { None };
                    let _ = from.as_ref().unwrap_or(&socket).send_to(&reply, sender).await;
                    if let Some(id) = ended {
                        let gateway = Arc::clone(&gateway);
                        tokio::spawn(async move { gateway.end(&id, ADMIN_RESET).await });
                    }
                }
            }
        });
        Ok((address, Requests(task)))
    }

    fn conduct(&self) -> Conduct {
        *self.conduct.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The answer to a request, and the session that ends with it.
    fn answer(&self, bytes: &[u8], secret: &SharedSecret) -> Option<(Vec<u8>, Option<String>)> {
        let proved = authenticate_accounting(Packet::parse(bytes).ok()?, secret).ok()?;
        let packet = proved.packet();
        let (done, refused) = match packet.code() {
            Code::DisconnectRequest => (Code::DisconnectAck, Code::DisconnectNak),
            Code::CoaRequest => (Code::CoaAck, Code::CoaNak),
            _ => return None,
        };
        let id = packet.text(AttributeType::AcctSessionId).unwrap_or_default().to_owned();
        let cause = match self.conduct() {
            Conduct::IsSilent => return None,
            Conduct::Refuses(cause) => Some(cause),
            _ if !self.sessions().contains_key(&id) => Some(NOT_FOUND),
            _ => None,
        };
        let mut reply = Message::new(if cause.is_some() { refused } else { done });
        if let Some(cause) = cause {
            reply.push(AttributeType::ErrorCause, &cause.to_be_bytes());
        }
        let ends = packet.code() == Code::DisconnectRequest && cause.is_none();
        if packet.code() == Code::CoaRequest && cause.is_none() {
            let named = [
                AttributeType::AcctSessionId,
                AttributeType::UserName,
                AttributeType::FramedIpAddress,
                AttributeType::CallingStationId,
                AttributeType::EventTimestamp,
            ];
            let set = packet.attributes().filter(|attribute| !named.contains(&attribute.kind));
            let set = set.map(|attribute| (attribute.kind, attribute.value.to_vec())).collect();
            self.sessions().entry(id.clone()).and_modify(|session| session.changed = set);
        }
        let reply = reply.unsigned_reply(packet.identifier(), packet.authenticator(), secret).ok()?;
        Some((reply, ends.then_some(id)))
    }
}

/// Ends the taking of requests when it is dropped.
#[derive(Debug)]
pub struct Requests(tokio::task::JoinHandle<()>);

impl Drop for Requests {
    fn drop(&mut self) {
        self.0.abort();
    }
}
