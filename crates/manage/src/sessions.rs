//! Ending and changing sessions: by an operator, and of themselves when somebody is suspended.

use bivector_api::sessions::{SessionAnswer, SessionFilter, SessionRow};
use bivector_engine::live::LiveSite;
use bivector_engine::shared::Shared;
use bivector_exchange::Patience;
use bivector_exchange::dynamic::{Action, DynamicSaid, ask};
use bivector_model::grant::{GrantContext, encode};
use bivector_store::clock;
use bivector_store::records::{Changed, Changes, Cursor, RecordsError, person_key};
use bivector_store::seal::random;
use bivector_wire::{AttributeType, Code, Message};
use futures_util::StreamExt;
use std::net::Ipv4Addr;
use std::sync::{Arc, Weak};
use std::time::Duration;
use thiserror::Error;

/// How patiently a gateway is asked: RFC 5176 leaves it to us, and an operator waits.
const PATIENCE: Patience = Patience { wait: Duration::from_secs(2), tries: 3 };
/// Gateways that are asked at a time, where many sessions are to end.
const AT_ONCE: usize = 16;
/// Sessions of one person that are ended.
const OF_ONE: u32 = 1_000;

/// Why a gateway was not asked.
#[derive(Debug, Error)]
pub enum NotAsked {
    /// There is no site, or the gateway is gone from it.
    #[error("the gateway `{0}` is not in the active site")]
    NoGateway(String),
    /// The gateway takes no such requests.
    #[error("the gateway `{0}` takes no requests to end or change sessions")]
    TakesNone(String),
    /// The grant of the session is gone.
    #[error("the grant `{0}` of the session is not in the active site")]
    NoGrant(String),
    /// The session has ended.
    #[error("the session has ended already")]
    Ended,
    /// The request could not be sent.
    #[error("{0}")]
    Failed(String),
    /// The records.
    #[error(transparent)]
    Records(#[from] RecordsError),
}

impl NotAsked {
    /// What would help.
    pub fn remedy(&self) -> &'static str {
        match self {
            NotAsked::NoGateway(_) => "choose a session of a gateway that is in the site",
            NotAsked::TakesNone(_) => {
                "switch Disconnect and CoA (RFC 5176) on at the gateway, and set `dynamic_authorization` for it in the site"
            }
            NotAsked::NoGrant(_) => "end the session instead, so that the person logs in anew",
            NotAsked::Ended => "see `bivector session list --state open`",
            NotAsked::Failed(_) => "check the address under `dynamic_authorization`",
            NotAsked::Records(_) => "see the service's log",
        }
    }
}

/// Asks the gateway to end a session. `asked` says who wants that and why.
///
/// # Errors
/// [`NotAsked`]. A refusal of the gateway is none.
pub async fn end(shared: &Shared, session: &SessionRow, asked: &str) -> Result<SessionAnswer, NotAsked> {
    let live = shared.live.load_full().ok_or_else(|| NotAsked::NoGateway(session.gateway.clone()))?;
    if session.ended_us.is_some() {
        return Err(NotAsked::Ended);
    }
    // Before the gateway acts on it: its own report may be faster than its answer.
    shared.records.session_asked(session.id, asked.to_owned()).await?;
    let answer = request(&live, session, Action::Disconnect, identify(session)).await?;
    Ok(answer)
}

/// Sends what the grant of a session sets in the active site, so that it takes effect without a new login.
///
/// # Errors
/// As with [`end`].
pub async fn change(shared: &Shared, session: &SessionRow) -> Result<SessionAnswer, NotAsked> {
    let live = shared.live.load_full().ok_or_else(|| NotAsked::NoGateway(session.gateway.clone()))?;
    if session.ended_us.is_some() {
        return Err(NotAsked::Ended);
    }
    let name = session.grant.clone().unwrap_or_default();
    let grant = live.site.grants.iter().find(|grant| grant.name == name).ok_or(NotAsked::NoGrant(name))?;
    let person = session.person.clone().unwrap_or_default();
    let (source, login) = person.split_once(':').unwrap_or(("", session.name.as_str()));
    let known = shared.roster.get(&person);
    let context = GrantContext {
        login,
        name: known.as_ref().map_or(login, |person| person.name.as_str()),
        source,
        gateway: &session.gateway,
        chain: session.chain.as_deref().unwrap_or_default(),
    };
    let mut message = identify(session);
    message.push_encoded(&encode(&grant.fill(&context)));
    request(&live, session, Action::Change, message).await
}

/// What leads a gateway to the session (RFC 5176 section 3).
fn identify(session: &SessionRow) -> Message {
    let mut message = Message::new(Code::DisconnectRequest);
    if !session.name.is_empty() {
        message.push(AttributeType::UserName, session.name.as_bytes());
    }
    message.push(AttributeType::AcctSessionId, session.session.as_bytes());
    if let Some(address) = session.addresses.iter().find_map(|address| address.parse::<Ipv4Addr>().ok()) {
        message.push(AttributeType::FramedIpAddress, &address.octets());
    }
    if !session.caller.is_empty() {
        message.push(AttributeType::CallingStationId, session.caller.as_bytes());
    }
    let now = u32::try_from(clock::now().secs()).unwrap_or(u32::MAX);
    message.push(AttributeType::EventTimestamp, &now.to_be_bytes());
    message
}

async fn request(live: &LiveSite, session: &SessionRow, action: Action, message: Message) -> Result<SessionAnswer, NotAsked> {
    let index = live.site.gateways.iter().position(|gateway| gateway.name == session.gateway);
    let index = index.ok_or_else(|| NotAsked::NoGateway(session.gateway.clone()))?;
    let dynamic = live.site.gateways.get(index).and_then(|gateway| gateway.dynamic.as_ref());
    let (Some(dynamic), Some(Some(secret))) = (dynamic, live.dynamic.get(index)) else {
        return Err(NotAsked::TakesNone(session.gateway.clone()));
    };
    let [identifier] = random::<1>();
    let answer = ask(dynamic.to, secret, action, &message, identifier, PATIENCE).await;
    let answer = answer.map_err(|error| NotAsked::Failed(error.to_string()))?;
    Ok(SessionAnswer {
        session: session.id,
        done: answer.said == DynamicSaid::Done,
        said: answer.said.in_words(dynamic.to),
        tries: answer.tries,
        took_us: answer.took.as_micros() as u64,
    })
}

/// Ends all open sessions of a person. Sessions of gateways that take no such requests go on, and are told.
///
/// # Errors
/// The records cannot be read.
pub async fn end_all_of(shared: &Shared, person: &str, asked: &str) -> Result<Vec<SessionAnswer>, RecordsError> {
    let filter =
        SessionFilter { person: Some(person.to_owned()), state: Some("open".to_owned()), limit: Some(OF_ONE), ..SessionFilter::default() };
    let sessions = shared.records.sessions(filter).await?;
    let answers = futures_util::stream::iter(sessions).map(|session| async move {
        match end(shared, &session, asked).await {
            Ok(answer) => answer,
            Err(error) => SessionAnswer { session: session.id, done: false, said: error.to_string(), tries: 0, took_us: 0 },
        }
    });
    let answers: Vec<SessionAnswer> = answers.buffer_unordered(AT_ONCE).collect().await;
    for answer in &answers {
        tracing::info!(person, session = answer.session, done = answer.done, said = answer.said, asked, "a session was to end");
    }
    Ok(answers)
}

/// Ends the sessions of whoever is suspended, until the service ends.
pub async fn watch(shared: Weak<Shared>) {
    let Some(mut changes) = shared.upgrade().map(|shared| shared.records.watch_changes()) else { return };
    let cursor = Cursor::at(*changes.borrow_and_update());
    while changes.changed().await.is_ok() {
        let Some(shared) = shared.upgrade() else { return };
        let apply = async |changes: &Changes| {
            // People in memory have to be as new as the change.
            if shared.catch_up().await.is_ok() {
                end_of_suspended(&shared, changes).await?;
            }
            Ok::<(), RecordsError>(())
        };
        if let Err(error) = cursor.catch_up(&shared.records, apply).await {
            tracing::debug!(%error, "sessions of suspended people could not be looked for");
        }
    }
}

async fn end_of_suspended(shared: &Arc<Shared>, changes: &Changes) -> Result<(), RecordsError> {
    let many = changes.incomplete || changes.changed.contains(&Changed::People);
    let people: Vec<String> = match many {
        true => shared.records.people_in_sessions().await?,
        false => changes
            .changed
            .iter()
            .filter_map(|changed| match changed {
                Changed::Person { source, login } => Some(person_key(source, login)),
                _ => None,
            })
            .collect(),
    };
    for person in people.into_iter().filter(|person| shared.roster.get(person).is_some_and(|row| row.disabled)) {
        let shared = Arc::clone(shared);
        tokio::spawn(async move { end_all_of(&shared, &person, "ended because the person was suspended").await });
    }
    Ok(())
}
