//! Sessions: which login each one comes from, which logins have none, and what ends of itself.

use crate::live::LiveSite;
use crate::shared::Shared;
use bivector_api::events::Event;
use bivector_api::traces::TraceRow;
use bivector_core::login::{Leased, Reserve, ReserveAnswer};
use bivector_model::Moment;
use bivector_model::grant::Beyond;
use bivector_model::pool::AddressPool;
use bivector_model::trace::{NO_SESSION, Outcome, SESSION_BEGAN, Step, Tone, Trace};
use bivector_sessions::{Report, ReportKind};
use bivector_site::SessionKeeping;
use bivector_store::clock;
use bivector_store::metrics;
use bivector_store::records::{PoolAsk, RecordsError, ReservedNow, SessionChanged, SessionLink, ToReserve, TraceFilter};
use std::collections::{HashSet, VecDeque};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;
use tokio::sync::mpsc;

/// Logins that are waited for; more are let go, oldest first. Each takes about 400 bytes.
const WAITING: usize = 10_000;
/// How often it is looked whose time is over.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Sessions that have to make room and whose gateways are yet to be asked.
const TO_END: usize = 1_024;
/// How often open sessions are counted, and what ends of itself is looked for.
const COUNT_EVERY: u64 = 10;
/// How long a lease waits for its session at least.
const SHORTEST: Duration = Duration::from_secs(60);
/// How far the clocks of a gateway and of this machine may differ, where a session is matched by its time.
const SKEW: Duration = Duration::from_secs(5);

/// What is waited for.
#[derive(Debug)]
pub struct Sessions {
    state: Mutex<State>,
    to_end: mpsc::Sender<ToEnd>,
    ends: Mutex<Option<mpsc::Receiver<ToEnd>>>,
}

/// A session that has to make room, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToEnd {
    /// Its number.
    pub session: u64,
    /// Why.
    pub why: String,
}

impl Default for Sessions {
    fn default() -> Self {
        let (to_end, ends) = mpsc::channel(TO_END);
        Sessions { state: Mutex::default(), to_end, ends: Mutex::new(Some(ends)) }
    }
}

#[derive(Debug, Default)]
struct State {
    /// Gateways that have told of a session since the start: of the others silence means nothing.
    tells: HashSet<String>,
    waiting: VecDeque<LetIn>,
}

/// A login that was let in and whose session has yet to begin.
#[derive(Debug, Clone)]
struct LetIn {
    gateway: String,
    /// As typed, in lower case.
    name: String,
    /// Calling-Station-Id; empty if the gateway sent none.
    caller: String,
    /// Whether the gateway had told of a session before: if not, silence means nothing.
    told: bool,
    link: SessionLink,
}

impl LetIn {
    fn is_of(&self, gateway: &str, report: &Report) -> bool {
        let same_caller = self.caller.is_empty() || report.caller.is_empty() || self.caller == report.caller;
        self.gateway == gateway && same_caller && self.name == report.name.to_lowercase()
    }
}

impl Sessions {
    /// A login was let in.
    pub fn let_in(&self, trace: &Trace, now: Moment) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if state.waiting.len() >= WAITING {
            state.waiting.pop_front();
        }
        let told = state.tells.contains(&trace.gateway);
        state.waiting.push_back(LetIn {
            told,
            gateway: trace.gateway.clone(),
            name: trace.typed_name.to_lowercase(),
            caller: trace.facts.station.clone().unwrap_or_default(),
            link: SessionLink {
                reference: trace.reference.clone(),
                accepted: now,
                person: trace.person.clone(),
                chain: trace.chain.clone(),
                grant: trace.grant.clone(),
                factor: trace.factor.clone(),
            },
        });
    }

    /// Whether a gateway has told of a session since the start.
    fn tells(&self, gateway: &str) -> bool {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).tells.contains(gateway)
    }

    /// A gateway told of a session: the login that it comes from is no longer waited for.
    fn told(&self, gateway: &str, report: &Report) -> Option<SessionLink> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if !state.tells.contains(gateway) {
            state.tells.insert(gateway.to_owned());
        }
        if !matches!(report.kind, ReportKind::Start | ReportKind::Interim) {
            return None;
        }
        let at = match &report.reference {
            Some(reference) => state.waiting.iter().position(|one| one.link.reference == *reference),
            None => state.waiting.iter().position(|one| one.is_of(gateway, report)),
        };
        at.and_then(|at| state.waiting.remove(at)).map(|one| one.link)
    }

    /// References of the logins whose session should have begun by now; each is given once.
    fn overdue(&self, within: Duration, now: Moment) -> Vec<String> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let count = state.waiting.iter().take_while(|one| now.since(one.link.accepted) >= within).count();
        let over: Vec<LetIn> = state.waiting.drain(..count).collect();
        over.into_iter().filter(|one| one.told).map(|one| one.link.reference).collect()
    }
}

impl Sessions {
    /// The sessions that have to make room, for whoever asks the gateways; given once.
    pub fn take_ends(&self) -> Option<mpsc::Receiver<ToEnd>> {
        self.ends.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl Shared {
    /// Reserves what a grant hands out.
    pub async fn reserve(&self, ask: Reserve, live: &LiveSite, now: Moment) -> ReserveAnswer {
        let pools: Vec<&AddressPool> = ask.pools.iter().filter_map(|index| live.site.pools.get(*index)).collect();
        let within = live.site.radius.session_within;
        // Of a gateway that tells of no sessions nobody knows when one ends.
        let reported = self.sessions.tells(&ask.gateway);
        let to_reserve = ToReserve {
            person: ask.person.clone(),
            gateway: ask.gateway,
            reference: ask.reference,
            pools: pools
                .iter()
                .map(|pool| PoolAsk {
                    name: pool.name.clone(),
                    size: pool.size(),
                    lasts: if reported { within.max(SHORTEST) } else { pool.lasts },
                })
                .collect(),
            limit: ask.limit.map(|limit| (limit.most, limit.beyond == Beyond::EndOldest)),
            within,
        };
        match self.records.reserve_grant(to_reserve, now).await {
            Ok(ReservedNow::Reserved { places, open, ends }) => {
                if let Some(session) = ends {
                    let why = "ended to make room for a new session of the same person".to_owned();
                    if self.sessions.to_end.try_send(ToEnd { session, why }).is_err() {
                        tracing::warn!(session, person = ask.person, "a session should make room, and its gateway cannot be asked now");
                    }
                }
                let leased = ask.pools.iter().zip(&pools).zip(places);
                let leased = leased.filter_map(|((index, pool), (place, again))| leased_of(*index, pool, place, again)).collect();
                ReserveAnswer::Reserved { leased, open, ends }
            }
            Ok(ReservedNow::TooMany(open)) => ReserveAnswer::TooMany(open),
            Ok(ReservedNow::Exhausted(position)) => ReserveAnswer::Exhausted(ask.pools.get(position).copied().unwrap_or_default()),
            Err(error) => ReserveAnswer::Unavailable(error.to_string()),
        }
    }

    /// Takes a report of a gateway. What it says is durable when this returns.
    ///
    /// # Errors
    /// It could not be written: the gateway must not be told that it was.
    pub async fn session_reported(self: &Arc<Self>, gateway: &str, report: Report) -> Result<(), RecordsError> {
        let waited = self.sessions.told(gateway, &report);
        if matches!(report.kind, ReportKind::On | ReportKind::Off) {
            return self.records.gateway_restarted(gateway.to_owned(), report.at).await;
        }
        let changed = self.records.report_session(gateway.to_owned(), report.clone()).await?;
        if changed.unlinked && (waited.is_some() || changed.is_new || report.kind == ReportKind::Start) {
            let (shared, gateway) = (Arc::clone(self), gateway.to_owned());
            // The gateway need not wait for this.
            tokio::spawn(async move { shared.link(&gateway, &report, &changed, waited).await });
        } else if changed.grown != 0 {
            self.tell_session(changed.id, gateway);
        }
        Ok(())
    }

    /// Connects a session with its login, in both directions.
    async fn link(&self, gateway: &str, report: &Report, changed: &SessionChanged, waited: Option<SessionLink>) {
        let link = match waited {
            Some(link) => Some(link),
            None => self.login_of(gateway, report).await,
        };
        if let Some(link) = link {
            self.add_step(link.reference.clone(), session_began(changed.id, report, link.accepted));
            if let Err(error) = self.records.link_session(changed.id, link).await {
                tracing::debug!(%error, "a session could not be connected with its login");
            }
        }
        self.tell_session(changed.id, gateway);
    }

    /// The login of a session that was not waited for, as after a restart of the service: by our Class, or by name and time.
    async fn login_of(&self, gateway: &str, report: &Report) -> Option<SessionLink> {
        if let Some(reference) = &report.reference {
            let (row, ..) = self.trace(reference).await.ok()??;
            return (row.gateway == gateway && row.outcome == Outcome::Accepted).then(|| link_of(row));
        }
        if report.name.is_empty() {
            return None;
        }
        let began = report.at.micros().saturating_sub(report.lasted.unwrap_or_default().as_micros() as u64);
        let within = self.live.load().as_ref().map(|live| live.site.radius.session_within).unwrap_or_default();
        let filter = TraceFilter {
            gateway: Some(gateway.to_owned()),
            person: Some(report.name.to_lowercase()),
            outcome: Some(Outcome::Accepted.slug().to_owned()),
            since_us: Some(began.saturating_sub((within + SKEW).as_micros() as u64)),
            limit: Some(1),
            ..TraceFilter::default()
        };
        let row = self.records.traces(filter).await.ok()?.into_iter().next()?;
        (row.began_us <= began + SKEW.as_micros() as u64).then(|| link_of(row))
    }

    fn tell_session(&self, id: u64, gateway: &str) {
        // Nobody listening is no error.
        let _ = self.events.send(Event::Session { id, gateway: gateway.to_owned() });
    }
}

fn leased_of(index: usize, pool: &AddressPool, place: u64, again: bool) -> Option<Leased> {
    let slot = pool.slot(place)?;
    Some(Leased { pool: index, text: slot.text, again, attribute: slot.attribute, value: slot.value })
}

/// What a rehearsed login would get: the first of each pool. It takes nobody's address and ends nobody's session.
pub fn rehearsed(ask: &Reserve, live: &LiveSite, open: u64) -> ReserveAnswer {
    match ask.limit {
        Some(limit) if open >= u64::from(limit.most) && limit.beyond == Beyond::Refuse => ReserveAnswer::TooMany(open),
        _ => {
            let first = |index: &usize| leased_of(*index, live.site.pools.get(*index)?, 0, false);
            ReserveAnswer::Reserved { leased: ask.pools.iter().filter_map(first).collect(), open, ends: None }
        }
    }
}

fn link_of(row: TraceRow) -> SessionLink {
    SessionLink {
        accepted: Moment::from_micros(row.began_us + row.took_us),
        reference: row.reference,
        person: row.person,
        chain: row.chain,
        grant: row.grant,
        factor: row.factor,
    }
}

/// What the login's trace says of its session.
fn session_began(id: u64, report: &Report, accepted: Moment) -> Step {
    let after = report.at.since(accepted);
    let addresses = if report.addresses.is_empty() { String::new() } else { format!(", address {}", report.addresses.join(" and ")) };
    let said = format!("session {id} began {} s after the accept; the gateway calls it `{}`{addresses}", after.as_secs(), report.session);
    Step { tone: Tone::Good, ..Step::afterwards(SESSION_BEGAN, after, said) }
}

/// Until the service ends: writes into the trace of each login whose session did not come up that it did not, ends the sessions of gateways
/// that have restarted and those that are lost, and removes old ones.
pub async fn watch(shared: Weak<Shared>) {
    let mut pace = tokio::time::interval(LOOK_EVERY);
    let mut round = 0_u64;
    loop {
        pace.tick().await;
        let Some(shared) = shared.upgrade() else { return };
        let Some((within, keeping)) = shared.live.load().as_ref().map(|live| (live.site.radius.session_within, live.site.sessions)) else {
            continue;
        };
        for reference in shared.sessions.overdue(within, clock::now()) {
            let said = format!(
                "accepted, but no Accounting-Start arrived within {} s: the session did not come up, or the packet was lost",
                within.as_secs()
            );
            shared.add_step(reference, Step::afterwards(NO_SESSION, within, said));
        }
        if let Err(error) = tidy(&shared, keeping, round.is_multiple_of(COUNT_EVERY)).await {
            tracing::debug!(%error, "sessions could not be tidied");
        }
        round += 1;
    }
}

/// One slice of what ends of itself, so that logins do not wait behind it.
async fn tidy(shared: &Shared, keeping: SessionKeeping, count: bool) -> Result<(), RecordsError> {
    let before = |now: Moment, span: Duration| Moment::from_micros(now.micros().saturating_sub(span.as_micros() as u64));
    let now = clock::now();
    // A gateway may have a million sessions: some thousands are ended in each round.
    for _ in 0..10 {
        let (ended, more) = shared.records.end_stale_sessions(before(now, keeping.lost_after)).await?;
        if ended > 0 {
            shared.tell_session(0, "");
        }
        if !more {
            break;
        }
    }
    if count {
        for _ in 0..10 {
            if !shared.records.tidy_sessions(keeping.count, keeping.time.map(|time| before(now, time))).await? {
                break;
            }
        }
        metrics::open_sessions(shared.records.open_sessions().await?);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    const MINUTE: Duration = Duration::from_secs(60);

    fn trace(gateway: &str, name: &str, reference: &str, caller: &str) -> Trace {
        let mut trace = Trace { gateway: gateway.into(), typed_name: name.into(), reference: reference.into(), ..Trace::default() };
        trace.facts.station = Some(caller.to_owned()).filter(|caller| !caller.is_empty());
        trace
    }

    fn report(kind: ReportKind, name: &str, reference: Option<&str>, caller: &str) -> Report {
        Report {
            kind,
            session: "1".into(),
            name: name.into(),
            reference: reference.map(str::to_owned),
            addresses: Vec::new(),
            caller: caller.into(),
            called: String::new(),
            port: String::new(),
            at: Moment::from_secs(1),
            lasted: None,
            traffic: None,
            cause: None,
            odd: None,
        }
    }

    #[test]
    fn only_gateways_that_tell_of_sessions_are_waited_for_and_each_login_is_named_once() {
        let (sessions, at) = (Sessions::default(), Moment::from_secs);
        sessions.let_in(&trace("lantern", "pell", "A", ""), at(0));
        assert_eq!(sessions.overdue(MINUTE, at(100)), Vec::<String>::new(), "nothing is known of lantern's sessions");
        sessions.told("breakwater", &report(ReportKind::Start, "somebody", None, ""));
        for (name, reference) in [("Ines", "B"), ("ines", "C"), ("yuki", "D")] {
            sessions.let_in(&trace("breakwater", name, reference, ""), at(1));
        }
        let found = sessions.told("breakwater", &report(ReportKind::Start, "INES", None, ""));
        assert_eq!(found.map(|link| link.reference).as_deref(), Some("B"), "the oldest of that name");
        assert_eq!(sessions.told("breakwater", &report(ReportKind::Stop, "yuki", None, "")), None);
        assert_eq!(sessions.overdue(MINUTE, at(60)), Vec::<String>::new(), "not yet");
        assert_eq!(sessions.overdue(MINUTE, at(61)), ["C", "D"], "the end of a session begins none");
        assert_eq!(sessions.overdue(MINUTE, at(99)), Vec::<String>::new());
    }

    #[test]
    fn our_class_and_the_caller_tell_logins_of_one_name_apart() {
        let sessions = Sessions::default();
        sessions.told("breakwater", &report(ReportKind::Start, "x", None, ""));
        for (reference, caller) in [("A", "192.0.2.1"), ("B", "192.0.2.2"), ("C", "192.0.2.3")] {
            sessions.let_in(&trace("breakwater", "ines", reference, caller), Moment::from_secs(1));
        }
        let found = |reference, caller| {
            sessions.told("breakwater", &report(ReportKind::Start, "ines", reference, caller)).map(|link| link.reference)
        };
        assert_eq!(found(None, "192.0.2.2").as_deref(), Some("B"));
        assert_eq!(found(Some("C"), "").as_deref(), Some("C"));
        assert_eq!(found(Some("C"), ""), None, "it has its session");
    }

    #[test]
    fn what_is_waited_for_is_bounded() {
        let sessions = Sessions::default();
        sessions.told("breakwater", &report(ReportKind::Stop, "x", None, ""));
        (0..WAITING + 5).for_each(|number| sessions.let_in(&trace("breakwater", "x", &number.to_string(), ""), Moment::from_secs(1)));
        let overdue = sessions.overdue(MINUTE, Moment::from_secs(100));
        assert_eq!((overdue.len(), overdue[0].as_str()), (WAITING, "5"));
    }
}
