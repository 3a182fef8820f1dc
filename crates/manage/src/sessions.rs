//! Ending and changing sessions: by an operator, and of themselves when somebody is suspended.

use bivector_api::sessions::{ReviewedSession, SessionAnswer, SessionFilter, SessionReview, SessionRow};
use bivector_core::login::PersonAnswer;
use bivector_engine::driver::find;
use bivector_engine::live::LiveSite;
use bivector_engine::sessions::ToEnd;
use bivector_engine::shared::Shared;
use bivector_exchange::Patience;
use bivector_exchange::dynamic::{Action, DynamicSaid, ask};
use bivector_model::condition::Circumstances;
use bivector_model::grant::{GrantContext, encode};
use bivector_model::rule::{Decision, Groups};
use bivector_site::{Chain, SourceRef};
use bivector_store::clock;
use bivector_store::records::{Changed, Changes, Cursor, RecordsError, person_key};
use bivector_store::seal::random;
use bivector_wire::{AttributeType, Code, Message};
use futures_util::StreamExt;
use std::collections::HashMap;
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
    let chain = live.site.chains.iter().find(|chain| Some(&chain.name) == session.chain.as_ref());
    let groups = match chain {
        Some(chain) => groups_of(shared, &live, chain, &person).await.unwrap_or_default(),
        None => Groups::default(),
    };
    let context = GrantContext {
        login,
        name: known.as_ref().map_or(login, |person| person.name.as_str()),
        source,
        gateway: &session.gateway,
        chain: session.chain.as_deref().unwrap_or_default(),
        groups: &groups,
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

/// Looks which open sessions the rules of the active site no longer admit, and ends them if that is wanted.
///
/// # Errors
/// The records cannot be read.
pub async fn review(shared: &Shared, end_them: bool, asked: &str) -> Result<SessionReview, RecordsError> {
    let Some(live) = shared.live.load_full() else { return Ok(SessionReview::default()) };
    let mut review = SessionReview::default();
    let mut known: HashMap<(String, String), Result<Groups, Standing>> = HashMap::new();
    let mut filter = SessionFilter { state: Some("open".to_owned()), limit: Some(OF_ONE), ..SessionFilter::default() };
    loop {
        let page = shared.records.sessions(filter.clone()).await?;
        let Some(last) = page.last().map(|row| row.id) else { break };
        filter.before = Some(last);
        for session in page {
            review.looked_at += 1;
            let standing = standing(shared, &live, &session, &mut known).await;
            let (list, why) = match standing {
                Standing::Admitted => continue,
                Standing::NotAdmitted(why) => (&mut review.not_admitted, why),
                Standing::Unknown(why) => (&mut review.unknown, why),
            };
            let person = session.person.clone().unwrap_or_else(|| session.name.clone());
            list.push(ReviewedSession { session: session.id, person, gateway: session.gateway.clone(), why, answer: None });
        }
    }
    if end_them {
        let answers = futures_util::stream::iter(review.not_admitted.iter_mut()).for_each_concurrent(AT_ONCE, |one| async move {
            let Ok(Some(session)) = shared.records.session(one.session).await else { return };
            let answer = end(shared, &session, &format!("{asked}: {}", one.why)).await;
            one.answer = Some(answer.unwrap_or_else(|error| SessionAnswer {
                session: session.id,
                done: false,
                said: error.to_string(),
                tries: 0,
                took_us: 0,
            }));
        });
        answers.await;
    }
    Ok(review)
}

/// What the active site says of somebody who has a session.
#[derive(Debug, Clone)]
enum Standing {
    Admitted,
    NotAdmitted(String),
    Unknown(String),
}

async fn standing(
    shared: &Shared,
    live: &LiveSite,
    session: &SessionRow,
    known: &mut HashMap<(String, String), Result<Groups, Standing>>,
) -> Standing {
    let (Some(person), Some(chain)) = (&session.person, &session.chain) else {
        return Standing::Unknown("the login that it came from is not known".to_owned());
    };
    let Some(chain) = live.site.chains.iter().find(|own| own.name == *chain) else {
        return Standing::NotAdmitted(format!("the chain `{chain}` is gone"));
    };
    let Some(gateway) = live.site.gateways.iter().find(|own| own.name == session.gateway) else {
        return Standing::NotAdmitted("the gateway is gone from the site".to_owned());
    };
    let key = (person.clone(), chain.name.clone());
    if !known.contains_key(&key) {
        known.insert(key.clone(), groups_of(shared, live, chain, person).await);
    }
    let groups = match known.get(&key) {
        Some(Ok(groups)) => groups,
        Some(Err(standing)) => return standing.clone(),
        None => return Standing::Unknown(String::new()),
    };
    let (source, login) = person.split_once(':').unwrap_or(("", person));
    // Nobody is disconnected for what is not known, such as the method, or for the hour, which was right when they logged in.
    let login = Circumstances {
        groups: Some(groups),
        labels: Some(&gateway.labels),
        name: Some(login),
        source: Some(source),
        factor: session.factor.as_deref(),
        caller: session.caller.parse().ok().map(Some),
        gateway: Some(&gateway.name),
        ..Circumstances::default()
    };
    match chain.rules.decide_surely(&login) {
        Some(Decision::Passed(..)) => Standing::Admitted,
        Some(Decision::Refused(rule, reason)) => Standing::NotAdmitted(format!("the rule `{}` refuses: {reason}", rule.name)),
        Some(Decision::NoRule) => Standing::NotAdmitted("no rule matches".to_owned()),
        None => Standing::Unknown("the rules ask for more than is known of the session".to_owned()),
    }
}

/// The person's groups now, by the source that the login's key names.
async fn groups_of(shared: &Shared, live: &LiveSite, chain: &Chain, person: &str) -> Result<Groups, Standing> {
    let (source, login) = person.split_once(':').unwrap_or(("", person));
    let first = chain.first.iter().find(|first| live.site.source_name(first.source) == source);
    let Some(first) = first else { return Err(Standing::NotAdmitted(format!("the chain no longer asks `{source}`"))) };
    if matches!(first.source, SourceRef::Upstream(_)) {
        return Err(Standing::Unknown("the groups are known to the upstream only".to_owned()));
    }
    match find(first.source, login, live, &shared.roster).await.value {
        PersonAnswer::Found(person) => Ok(person.groups.clone()),
        PersonAnswer::NoSuchPerson => Err(Standing::NotAdmitted(format!("`{source}` no longer knows the person"))),
        PersonAnswer::Refused(cause) => Err(Standing::NotAdmitted(cause.sentence().to_owned())),
        PersonAnswer::Ambiguous { .. } => Err(Standing::Unknown(format!("`{source}` has several people of that name"))),
        PersonAnswer::Unavailable(why) => Err(Standing::Unknown(format!("{source}: {}", why.seen))),
    }
}

/// Ends the sessions of whoever is suspended, until the service ends.
pub async fn watch(shared: Weak<Shared>) {
    let Some(mut changes) = shared.upgrade().map(|shared| shared.records.watch_changes()) else { return };
    let cursor = Cursor::at(*changes.borrow_and_update());
    let Some(mut ends) = shared.upgrade().and_then(|shared| shared.sessions.take_ends()) else { return };
    loop {
        tokio::select! {
            changed = changes.changed() => if changed.is_err() { return },
            to_end = ends.recv() => {
                let (Some(to_end), Some(shared)) = (to_end, shared.upgrade()) else { return };
                tokio::spawn(async move { make_room(&shared, &to_end).await });
                continue;
            }
        }
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

/// Ends a session for another one of the same person.
async fn make_room(shared: &Shared, to_end: &ToEnd) {
    let Ok(Some(session)) = shared.records.session(to_end.session).await else { return };
    match end(shared, &session, &to_end.why).await {
        Ok(answer) if answer.done => {}
        Ok(answer) => tracing::warn!(session = session.id, said = answer.said, "a session did not make room"),
        Err(error) => tracing::warn!(session = session.id, %error, "a session did not make room"),
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
