//! A stand-in directory: LDAP over real sockets (RFC 4511), with TLS, StartTLS and the password-policy control.

pub use crate::entries::{AccountState, DataError, DirectoryData, DirectoryPerson, ServiceAccount};

use crate::entries::{Entries, person_dn};
use futures_util::{SinkExt, StreamExt};
use ldap3_proto::LdapCodec;
use ldap3_proto::control::LdapControl;
use ldap3_proto::proto::{
    LdapBindCred, LdapBindRequest, LdapBindResponse, LdapExtendedRequest, LdapExtendedResponse, LdapMsg, LdapOp, LdapPartialAttribute,
    LdapResult, LdapResultCode, LdapSearchRequest, LdapSearchResultEntry, LdapSearchScope,
};
use rustls::ServerConfig;
use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::{JoinHandle, JoinSet};
use tokio_rustls::TlsAcceptor;
use tokio_util::codec::Framed;

const START_TLS: &str = "1.3.6.1.4.1.1466.20037";
const PASSWORD_POLICY: &str = "1.3.6.1.4.1.42.2.27.8.5.1";

/// How connections are protected.
#[derive(Clone)]
pub enum Protection {
    /// Not at all.
    Clear,
    /// In clear until StartTLS is asked for.
    StartTls(Arc<ServerConfig>),
    /// From the first byte.
    Tls(Arc<ServerConfig>),
}

/// A running stand-in. Dropped, it stops and closes all connections.
#[derive(Debug)]
pub struct StandInDirectory {
    address: SocketAddr,
    accepting: JoinHandle<()>,
    guesses: Arc<Mutex<HashMap<String, u32>>>,
    pace: watch::Sender<Pace>,
}

/// How long each answer takes; nothing while it is silent.
type Pace = Option<Duration>;

struct Contents {
    entries: Entries,
    passwords: HashMap<String, (String, AccountState)>,
    services: HashMap<String, String>,
    pace: watch::Receiver<Pace>,
    guesses: Arc<Mutex<HashMap<String, u32>>>,
}

impl StandInDirectory {
    /// Starts one on `address` (port 0 for any); each answer takes `delay`.
    ///
    /// # Errors
    /// The socket's.
    pub async fn start(address: SocketAddr, data: &DirectoryData, protection: Protection, delay: Duration) -> io::Result<Self> {
        let listener = TcpListener::bind(address).await?;
        let address = listener.local_addr()?;
        let guesses = Arc::new(Mutex::new(HashMap::new()));
        let passwords =
            data.people.iter().map(|person| (person_dn(&data.base, &person.uid).to_lowercase(), (person.password.clone(), person.state)));
        let (pace, listening) = watch::channel(Some(delay));
        let contents = Arc::new(Contents {
            entries: Entries::new(data),
            passwords: passwords.collect(),
            services: data.services.iter().map(|service| (service.dn.to_lowercase(), service.password.clone())).collect(),
            pace: listening,
            guesses: Arc::clone(&guesses),
        });
        let accepting = tokio::spawn(accept(listener, contents, protection));
        Ok(StandInDirectory { address, accepting, guesses, pace })
    }

    /// Lets each answer take this long from now on.
    pub fn answers_after(&self, delay: Duration) {
        self.pace.send_replace(Some(delay));
    }

    /// Takes connections and questions from now on, and answers none until it is told how long answers take.
    pub fn falls_silent(&self) {
        self.pace.send_replace(None);
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// How many passwords have come for a person, right or wrong, answered or not.
    pub fn guesses(&self, uid: &str) -> u32 {
        let start = format!("uid={},", uid.to_lowercase());
        self.guesses.lock().map_or(0, |guesses| guesses.iter().filter(|(dn, _)| dn.starts_with(&start)).map(|(_, count)| count).sum())
    }

    /// Stops it and closes all connections, as a server that dies.
    pub async fn stop(mut self) {
        self.accepting.abort();
        let _ = (&mut self.accepting).await;
    }
}

impl Drop for StandInDirectory {
    fn drop(&mut self) {
        self.accepting.abort();
    }
}

async fn accept(listener: TcpListener, contents: Arc<Contents>, protection: Protection) {
    // Dropped with this task, so that its connections end with it.
    let mut connections = JoinSet::new();
    loop {
        tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok((stream, _)) => {
                    connections.spawn(connection(stream, Arc::clone(&contents), protection.clone()));
                }
                Err(error) => tracing::debug!(%error, "the stand-in could not accept"),
            },
            Some(_) = connections.join_next() => {}
        }
    }
}

async fn connection(stream: TcpStream, contents: Arc<Contents>, protection: Protection) {
    let _ = stream.set_nodelay(true);
    contents.while_silent().await;
    let ended = match protection {
        Protection::Clear => talk(stream, &contents, false).await.map(|_| ()),
        Protection::Tls(config) => over_tls(stream, config, &contents).await,
        Protection::StartTls(config) => match talk(stream, &contents, true).await {
            Ok(Some(stream)) => over_tls(stream, config, &contents).await,
            other => other.map(|_| ()),
        },
    };
    if let Err(error) = ended {
        tracing::debug!(%error, "a connection to the stand-in ended");
    }
}

async fn over_tls(stream: TcpStream, config: Arc<ServerConfig>, contents: &Contents) -> io::Result<()> {
    let stream = TlsAcceptor::from(config).accept(stream).await?;
    talk(stream, contents, false).await.map(|_| ())
}

/// Answers until the other side leaves; gives the stream back where TLS is to begin on it.
async fn talk<S: AsyncRead + AsyncWrite + Unpin>(stream: S, contents: &Contents, may_start_tls: bool) -> io::Result<Option<S>> {
    let mut framed = Framed::new(stream, LdapCodec::default());
    let mut may_search = false;
    while let Some(message) = framed.next().await {
        let message = message?;
        if let LdapOp::BindRequest(bind) = &message.op {
            contents.note_guess(bind);
        }
        contents.wait().await;
        match message.op {
            LdapOp::BindRequest(bind) => {
                let (response, controls) = contents.bind(&bind, &message.ctrl, &mut may_search);
                framed.send(LdapMsg { msgid: message.msgid, op: LdapOp::BindResponse(response), ctrl: controls }).await?;
            }
            LdapOp::SearchRequest(search) => {
                let (entries, done) = contents.search(&search, may_search);
                for entry in entries {
                    framed.feed(LdapMsg { msgid: message.msgid, op: LdapOp::SearchResultEntry(entry), ctrl: Vec::new() }).await?;
                }
                framed.send(LdapMsg { msgid: message.msgid, op: LdapOp::SearchResultDone(done), ctrl: Vec::new() }).await?;
            }
            LdapOp::ExtendedRequest(request) => {
                let starts = may_start_tls && request.name == START_TLS;
                let response = extended(&request, starts);
                framed.send(LdapMsg { msgid: message.msgid, op: LdapOp::ExtendedResponse(response), ctrl: Vec::new() }).await?;
                if starts {
                    return Ok(Some(framed.into_inner()));
                }
            }
            LdapOp::UnbindRequest => return Ok(None),
            LdapOp::AbandonRequest(_) => {}
            _ => {
                let response = LdapExtendedResponse {
                    res: result(LdapResultCode::UnwillingToPerform, "this stand-in only binds and searches"),
                    name: None,
                    value: None,
                };
                framed.send(LdapMsg { msgid: message.msgid, op: LdapOp::ExtendedResponse(response), ctrl: Vec::new() }).await?;
            }
        }
    }
    Ok(None)
}

fn extended(request: &LdapExtendedRequest, starts_tls: bool) -> LdapExtendedResponse {
    let res =
        if starts_tls { result(LdapResultCode::Success, "") } else { result(LdapResultCode::ProtocolError, "unknown extended operation") };
    LdapExtendedResponse { res, name: Some(request.name.clone()), value: None }
}

fn result(code: LdapResultCode, message: &str) -> LdapResult {
    LdapResult { code, matcheddn: String::new(), message: message.to_owned(), referral: Vec::new() }
}

impl Contents {
    /// Waits until it speaks again; gives how long an answer takes.
    async fn while_silent(&self) -> Duration {
        let mut pace = self.pace.clone();
        let speaks = pace.wait_for(Option::is_some).await;
        speaks.ok().and_then(|delay| *delay).unwrap_or_default()
    }

    /// Waits as long as an answer takes.
    async fn wait(&self) {
        let delay = self.while_silent().await;
        if !delay.is_zero() {
            tokio::time::sleep(delay).await;
        }
    }

    /// Counts a password that has come for a person.
    fn note_guess(&self, bind: &LdapBindRequest) {
        let dn = bind.dn.to_lowercase();
        let guess = matches!(&bind.cred, LdapBindCred::Simple(password) if !password.is_empty());
        if guess
            && !self.services.contains_key(&dn)
            && let Ok(mut guesses) = self.guesses.lock()
        {
            *guesses.entry(dn).or_default() += 1;
        }
    }

    fn bind(&self, bind: &LdapBindRequest, controls: &[LdapControl], may_search: &mut bool) -> (LdapBindResponse, Vec<LdapControl>) {
        *may_search = false;
        let dn = bind.dn.to_lowercase();
        let LdapBindCred::Simple(password) = &bind.cred else {
            return (response(LdapResultCode::AuthMethodNotSupported), Vec::new());
        };
        if dn.is_empty() && password.is_empty() {
            return (response(LdapResultCode::Success), Vec::new());
        }
        if password.is_empty() {
            // RFC 4513 section 5.1.2: a name without a password is refused, so that nobody takes it for a check.
            return (response(LdapResultCode::UnwillingToPerform), Vec::new());
        }
        if let Some(own) = self.services.get(&dn) {
            *may_search = own == password;
            return (response(if *may_search { LdapResultCode::Success } else { LdapResultCode::InvalidCredentials }), Vec::new());
        }
        let (right, state) = self.passwords.get(&dn).map_or((false, AccountState::Normal), |(own, state)| (own == password, *state));
        // As a real directory: the plain result is the same for every refusal, and the policy control tells why.
        let (code, policy) = match (right, state) {
            (_, AccountState::Locked) => (LdapResultCode::InvalidCredentials, Some(1)),
            (false, _) => (LdapResultCode::InvalidCredentials, None),
            (true, AccountState::Expired) => (LdapResultCode::InvalidCredentials, Some(0)),
            (true, AccountState::MustChange) => (LdapResultCode::Success, Some(2)),
            (true, AccountState::Normal) => (LdapResultCode::Success, None),
        };
        let asked = controls.iter().any(is_policy_request);
        let told = policy.filter(|_| asked).map(|error| LdapControl::Unknown {
            oid: PASSWORD_POLICY.to_owned(),
            criticality: false,
            value: Some(vec![0x30, 3, 0x81, 1, error]),
        });
        (response(code), told.into_iter().collect())
    }

    fn search(&self, search: &LdapSearchRequest, may_search: bool) -> (Vec<LdapSearchResultEntry>, LdapResult) {
        if search.base.is_empty() && search.scope == LdapSearchScope::Base {
            return (vec![self.root()], result(LdapResultCode::Success, ""));
        }
        if !may_search {
            return (Vec::new(), result(LdapResultCode::InsufficentAccessRights, "sign in as a service account first"));
        }
        if !self.entries.has(&search.base) {
            return (Vec::new(), result(LdapResultCode::NoSuchObject, ""));
        }
        let found = self.entries.search(&search.base, &search.scope, &search.filter);
        let limit = usize::try_from(search.sizelimit).ok().filter(|limit| *limit > 0).unwrap_or(usize::MAX);
        let code = if found.len() > limit { LdapResultCode::SizeLimitExceeded } else { LdapResultCode::Success };
        (found.into_iter().take(limit).map(|entry| entry.result(&search.attrs)).collect(), result(code, ""))
    }

    fn root(&self) -> LdapSearchResultEntry {
        let attribute = |name: &str, value: &str| LdapPartialAttribute { atype: name.to_owned(), vals: vec![value.as_bytes().to_vec()] };
        let attributes = vec![
            attribute("namingContexts", self.entries.suffix()),
            attribute("supportedLDAPVersion", "3"),
            attribute("supportedControl", PASSWORD_POLICY),
            attribute("supportedExtension", START_TLS),
            attribute("vendorName", "Stand-in"),
        ];
        LdapSearchResultEntry { dn: String::new(), attributes }
    }
}

fn is_policy_request(control: &LdapControl) -> bool {
    match control {
        LdapControl::PasswordPolicyRequest { .. } => true,
        LdapControl::Unknown { oid, .. } => oid == PASSWORD_POLICY,
        _ => false,
    }
}

fn response(code: LdapResultCode) -> LdapBindResponse {
    LdapBindResponse { res: result(code, ""), saslcreds: None }
}
