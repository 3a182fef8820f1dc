//! What is known of one server of a source: from checks and from logins alike.

use bivector_api::directories::Health;
use bivector_core::login::{Answer, FailedServer, Unavailable};
use bivector_model::Cause;
use bivector_model::trace::Tone;
use bivector_site::Pool;
use bivector_store::clock;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use tokio::sync::futures::Notified;

/// A server that could not be reached is asked last until a check finds it well, or for this long should no check come.
const LEFT_ALONE: Duration = Duration::from_secs(60);

/// The state of one server, shared by everybody who asks it.
#[derive(Debug)]
pub(super) struct Standing {
    started: Instant,
    /// Milliseconds after `started` until which the server is asked last; 0 if it is well.
    down_until: AtomicU64,
    /// The same for a server that answers, but slowly: it is asked after those that are quick.
    slow_until: AtomicU64,
    /// Wakes the questions that wait for the server when somebody finds it down.
    found_down: Notify,
    answers: AtomicU64,
    failures: AtomicU64,
    health: Mutex<Health>,
}

impl Standing {
    pub(super) fn new(server: &str) -> Self {
        let now = clock::now().micros();
        Standing {
            started: Instant::now(),
            down_until: AtomicU64::new(0),
            slow_until: AtomicU64::new(0),
            found_down: Notify::new(),
            answers: AtomicU64::new(0),
            failures: AtomicU64::new(0),
            health: Mutex::new(Health {
                server: server.to_owned(),
                state: Tone::Note,
                cause: None,
                said: "not checked yet".into(),
                since_us: now,
                checked_us: now,
                answers: 0,
                failures: 0,
            }),
        }
    }

    /// Takes over what was known of the same server under the revision before: how it is, since when, and the figures.
    pub(super) fn inherit(&self, before: &Standing) {
        if let (Ok(mut health), Some(known)) = (self.health.lock(), before.health()) {
            *health = known;
        }
        self.answers.store(before.answers.load(Ordering::Relaxed), Ordering::Relaxed);
        self.failures.store(before.failures.load(Ordering::Relaxed), Ordering::Relaxed);
        if before.is_down() {
            self.down_until.store(self.later(), Ordering::Relaxed);
        }
        if before.is_slow() {
            self.slow_until.store(self.later(), Ordering::Relaxed);
        }
    }

    /// When a server that is left alone from now on is asked as the others again, should no look come.
    fn later(&self) -> u64 {
        (self.started.elapsed() + LEFT_ALONE).as_millis() as u64
    }

    fn is_before(&self, until: &AtomicU64) -> bool {
        (self.started.elapsed().as_millis() as u64) < until.load(Ordering::Relaxed)
    }

    pub(super) fn is_down(&self) -> bool {
        self.is_before(&self.down_until)
    }

    fn is_slow(&self) -> bool {
        self.is_before(&self.slow_until)
    }

    /// Its place in the order of questions: quick servers before slow ones, and those that are down last.
    fn rank(&self) -> u8 {
        if self.is_down() { 2 } else { u8::from(self.is_slow()) }
    }

    pub(super) fn is_quick(&self) -> bool {
        self.rank() == 0
    }

    /// Notes that it could not be used; asked last from now on, and whoever waits for it waits no longer.
    pub(super) fn set_down(&self, why: &Unavailable) -> Option<Health> {
        self.down_until.store(self.later(), Ordering::Relaxed);
        self.found_down.notify_waiters();
        self.note(Tone::Bad, Some(why.cause), &why.seen)
    }

    /// Notes that it answered later than the next server is asked.
    pub(super) fn set_slow(&self, seen: &str) -> Option<Health> {
        self.slow_until.store(self.later(), Ordering::Relaxed);
        self.down_until.store(0, Ordering::Relaxed);
        self.note(Tone::Note, Some(Cause::SourceSlow), seen)
    }

    /// Notes that it answered.
    pub(super) fn set_well(&self) -> Option<Health> {
        self.down_until.store(0, Ordering::Relaxed);
        self.slow_until.store(0, Ordering::Relaxed);
        self.note(Tone::Good, None, "answers")
    }

    /// Ends when somebody finds it down, from the call on.
    pub(super) fn found_down(&self) -> Notified<'_> {
        self.found_down.notified()
    }

    /// What is known of it.
    pub(super) fn health(&self) -> Option<Health> {
        let health = self.health.lock().ok()?.clone();
        Some(Health { answers: self.answers.load(Ordering::Relaxed), failures: self.failures.load(Ordering::Relaxed), ..health })
    }

    /// Gives the new state where it differs from the one before.
    pub(super) fn note(&self, state: Tone, cause: Option<Cause>, said: &str) -> Option<Health> {
        let mut health = self.health.lock().ok()?;
        let now = clock::now().micros();
        health.checked_us = now;
        if health.state == state && health.cause == cause {
            return None;
        }
        (health.state, health.cause, health.since_us) = (state, cause, now);
        said.clone_into(&mut health.said);
        drop(health);
        self.health()
    }
}

/// A server of a pool.
pub(super) trait Member {
    fn url(&self) -> &str;
    fn standing(&self) -> &Standing;
    /// Called when it is found down by a login.
    fn went_down(&self) {}
}

/// Hands what is known of servers over to those of the same name.
pub(super) fn inherit_all<M: Member>(servers: &[M], before: &[M]) {
    for server in servers {
        if let Some(before) = before.iter().find(|before| before.url() == server.url()) {
            server.standing().inherit(before.standing());
        }
    }
}

/// One question to the servers of a pool: quick ones first, those that failed lately last.
pub(super) struct Round<'d, M> {
    source: &'d str,
    waiting: std::vec::IntoIter<&'d M>,
    /// An answer that takes longer is slow.
    hedge: Duration,
    over: bool,
    failed: Vec<FailedServer>,
}

/// A server that could not say.
pub(super) struct Failure {
    pub(super) why: Unavailable,
    /// The one guess may have reached it, so no other server may get it too.
    pub(super) sent: bool,
    /// It says nothing about the server: nobody could ask it, or somebody else has noted it already.
    pub(super) ours: bool,
}

impl From<Unavailable> for Failure {
    fn from(why: Unavailable) -> Self {
        Failure { why, sent: false, ours: false }
    }
}

impl<'d, M: Member> Round<'d, M> {
    /// `turn` counts the questions of a balanced pool.
    pub(super) fn new(source: &'d str, servers: &'d [M], pool: Pool, turn: &AtomicUsize) -> Self {
        let first = if pool == Pool::Balance { turn.fetch_add(1, Ordering::Relaxed) % servers.len().max(1) } else { 0 };
        let mut order: Vec<_> = servers.iter().cycle().skip(first).take(servers.len()).collect();
        order.sort_by_key(|server| server.standing().rank());
        Round { source, waiting: order.into_iter(), hedge: Duration::MAX, over: false, failed: Vec::new() }
    }

    /// Only the server of this name, where it is still there.
    pub(super) fn only(source: &'d str, servers: &'d [M], url: &str) -> Self {
        let order: Vec<_> = servers.iter().filter(|server| server.url() == url).collect();
        Round { source, waiting: order.into_iter(), hedge: Duration::MAX, over: false, failed: Vec::new() }
    }

    /// Answers that take longer than this count as slow.
    pub(super) fn hedged_after(self, hedge: Duration) -> Self {
        Round { hedge, ..self }
    }

    pub(super) fn next(&mut self) -> Option<&'d M> {
        if self.over { None } else { self.waiting.next() }
    }

    pub(super) fn has_more(&self) -> bool {
        !self.over && self.waiting.len() > 0
    }

    pub(super) fn answered<T>(self, server: &M, value: T, began: Instant) -> Answer<T> {
        let (standing, took) = (server.standing(), began.elapsed());
        let changed = if took > self.hedge { standing.set_slow(&slow(took)) } else { standing.set_well() };
        told(self.source, changed);
        standing.answers.fetch_add(1, Ordering::Relaxed);
        Answer { value, server: Some(server.url().to_owned()), failed: self.failed }
    }

    pub(super) fn failed(&mut self, server: &M, failure: Failure, down: bool, began: Instant) {
        let Failure { why, sent, ours: _ } = failure;
        if down {
            told(self.source, server.standing().set_down(&why));
            server.went_down();
        }
        self.over = sent;
        self.gave_nothing(server, why, began);
    }

    /// Another server answered first, although it was asked later.
    pub(super) fn overtaken(&mut self, server: &M, began: Instant) {
        let seen = slow(began.elapsed());
        told(self.source, server.standing().set_slow(&seen));
        self.gave_nothing(server, Unavailable { cause: Cause::SourceSlow, seen }, began);
    }

    fn gave_nothing(&mut self, server: &M, why: Unavailable, began: Instant) {
        bivector_store::metrics::failed_server(self.source, server.url(), why.cause);
        server.standing().failures.fetch_add(1, Ordering::Relaxed);
        self.failed.push(FailedServer { server: server.url().to_owned(), why, took_us: began.elapsed().as_micros() as u64 });
    }

    /// No server could say: the last one's reason is the answer's, the others stay as steps.
    pub(super) fn given_up<T>(mut self, unavailable: fn(Unavailable) -> T) -> Answer<T> {
        let why = match self.failed.pop() {
            Some(last) => Unavailable { cause: last.why.cause, seen: format!("{}: {}", last.server, last.why.seen) },
            None => Unavailable { cause: Cause::SourceUnreachable, seen: "it has no such server".into() },
        };
        Answer { value: unavailable(why), server: None, failed: self.failed }
    }
}

fn slow(took: Duration) -> String {
    format!("no answer within {} ms", took.as_millis())
}

/// A change that a login noticed; looks tell of theirs themselves.
fn told(source: &str, changed: Option<Health>) {
    if let Some(health) = changed {
        tracing::info!(source, server = health.server, state = ?health.state, said = health.said, "a login found a server changed");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::pin::pin;

    struct Server(&'static str, Standing);

    impl Member for Server {
        fn url(&self) -> &str {
            self.0
        }

        fn standing(&self) -> &Standing {
            &self.1
        }
    }

    fn servers() -> Vec<Server> {
        ["a", "b", "c"].map(|name| Server(name, Standing::new(name))).into()
    }

    fn why(cause: Cause) -> Unavailable {
        Unavailable { cause, seen: "seen".into() }
    }

    fn order(servers: &[Server], pool: Pool, turn: &AtomicUsize) -> String {
        let mut round = Round::new("source", servers, pool, turn);
        std::iter::from_fn(|| round.next()).map(|server| server.0).collect()
    }

    #[test]
    fn a_pool_is_asked_in_order_or_in_turn_and_those_that_are_down_last() {
        let (servers, turn) = (servers(), AtomicUsize::new(0));
        assert_eq!([order(&servers, Pool::Order, &turn), order(&servers, Pool::Order, &turn)], ["abc", "abc"]);
        let turns: Vec<String> = (0..4).map(|_| order(&servers, Pool::Balance, &turn)).collect();
        assert_eq!(turns, ["abc", "bca", "cab", "abc"]);
        servers[0].1.set_down(&why(Cause::SourceUnreachable));
        assert_eq!(order(&servers, Pool::Order, &turn), "bca");
        servers[0].1.set_well();
        assert_eq!(order(&servers, Pool::Order, &turn), "abc");
        let mut only = Round::only("source", &servers, "c");
        assert_eq!((only.next().map(|server| server.0), only.next().is_none()), (Some("c"), true));
        assert!(Round::only("source", &servers, "gone").next().is_none());
    }

    #[test]
    fn a_question_that_may_have_arrived_goes_to_no_other_server_and_figures_count_both_ends() {
        let (servers, turn) = (servers(), AtomicUsize::new(0));
        let mut round = Round::new("source", &servers, Pool::Order, &turn);
        let first = round.next().unwrap();
        round.failed(first, Failure::from(why(Cause::SourceUnreachable)), true, Instant::now());
        let second = round.next().unwrap();
        round.failed(second, Failure { sent: true, ..why(Cause::SourceSlow).into() }, false, Instant::now());
        assert!(round.next().is_none(), "the guess is with b now");
        let answer = round.given_up(Some);
        assert_eq!((answer.failed.len(), answer.value.unwrap().cause), (1, Cause::SourceSlow));
        let round = Round::new("source", &servers, Pool::Order, &turn);
        round.answered(&servers[1], (), Instant::now());
        let figures = |server: &Server| server.1.health().map(|health| (health.answers, health.failures, health.state)).unwrap();
        assert_eq!(figures(&servers[0]), (0, 1, Tone::Bad));
        assert_eq!(figures(&servers[1]), (1, 1, Tone::Good));
    }

    #[test]
    fn a_slow_server_is_asked_before_one_that_is_down_and_after_quick_ones_until_it_is_quick() {
        let (servers, turn) = (servers(), AtomicUsize::new(0));
        let hedge = Duration::from_millis(500);
        let long_ago = Instant::now().checked_sub(Duration::from_millis(800)).unwrap();
        let round = || Round::new("source", &servers, Pool::Order, &turn).hedged_after(hedge);
        servers[1].1.set_down(&why(Cause::SourceSlow));
        let mut overtaken = round();
        let first = overtaken.next().unwrap();
        overtaken.overtaken(first, long_ago);
        let answer = overtaken.answered(&servers[2], (), Instant::now());
        assert_eq!((answer.failed[0].server.as_str(), answer.failed[0].why.cause), ("a", Cause::SourceSlow));
        assert_eq!(order(&servers, Pool::Order, &turn), "cab");
        round().answered(&servers[0], (), long_ago);
        assert_eq!(order(&servers, Pool::Order, &turn), "cab", "an answer that comes late makes nobody quick");
        round().answered(&servers[0], (), Instant::now());
        assert_eq!(order(&servers, Pool::Order, &turn), "acb");
    }

    #[tokio::test]
    async fn whoever_waits_for_a_server_hears_when_another_finds_it_down() {
        let servers = servers();
        let (mut here, mut elsewhere) = (pin!(servers[0].1.found_down()), pin!(servers[1].1.found_down()));
        servers[0].1.set_down(&why(Cause::SourceSlow));
        assert!(futures_util::poll!(&mut here).is_ready() && futures_util::poll!(&mut elsewhere).is_pending());
    }

    #[test]
    fn what_is_known_of_a_server_outlives_a_change_of_the_site() {
        let (before, after) = (servers(), servers());
        before[2].1.set_down(&why(Cause::SourceTlsUntrusted));
        before[1].1.set_well();
        inherit_all(&after, &before);
        assert!(after[2].1.is_down() && !after[1].1.is_down());
        assert_eq!(after[2].1.health(), before[2].1.health());
        assert_eq!(order(&after, Pool::Order, &AtomicUsize::new(0)), "abc");
        assert_eq!(after[0].1.note(Tone::Good, None, "answers").map(|health| health.state), Some(Tone::Good), "a change is told");
        assert_eq!(after[0].1.note(Tone::Good, None, "answers"), None, "and no change is not");
    }
}
