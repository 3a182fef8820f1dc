//! What is known of one server of a source: from checks and from logins alike.

use crate::clock;
use bivector_core::Cause;
use bivector_core::login::{Answer, FailedServer, Unavailable};
use bivector_core::site::Pool;
use bivector_core::trace::Tone;
use serde::{Deserialize, Serialize};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use utoipa::ToSchema;

/// A server that could not be reached is asked last until a check finds it well, or for this long should no check come.
const LEFT_ALONE: Duration = Duration::from_secs(60);

/// What is known of a server from checks and from logins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// As it stands in the site file.
    pub server: String,
    /// `good`, `bad`, or `note` before the first look.
    pub state: Tone,
    /// Why, where it is bad.
    pub cause: Option<Cause>,
    /// What was seen.
    pub said: String,
    /// Since when it is so, in microseconds since 1970.
    pub since_us: u64,
    /// When it was looked at last.
    pub checked_us: u64,
    /// Questions of logins that it answered, since the service started.
    pub answers: u64,
    /// Questions of logins that went on to another server, or to none.
    pub failures: u64,
}

/// The state of one server, shared by everybody who asks it.
#[derive(Debug)]
pub(super) struct Standing {
    started: Instant,
    /// Milliseconds after `started` until which the server is asked last; 0 if it is well.
    down_until: AtomicU64,
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
            answers: AtomicU64::new(0),
            failures: AtomicU64::new(0),
            health: Mutex::new(Health {
                server: server.to_owned(),
                state: Tone::Note,
                cause: None,
                said: "not looked at yet".into(),
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
            self.down_until.store((self.started.elapsed() + LEFT_ALONE).as_millis() as u64, Ordering::Relaxed);
        }
    }

    pub(super) fn is_down(&self) -> bool {
        (self.started.elapsed().as_millis() as u64) < self.down_until.load(Ordering::Relaxed)
    }

    /// Notes that it could not be used; asked last from now on.
    pub(super) fn set_down(&self, why: &Unavailable) -> Option<Health> {
        let until = self.started.elapsed() + LEFT_ALONE;
        self.down_until.store(until.as_millis() as u64, Ordering::Relaxed);
        self.note(Tone::Bad, Some(why.cause), &why.seen)
    }

    /// Notes that it answered.
    pub(super) fn set_well(&self) -> Option<Health> {
        self.down_until.store(0, Ordering::Relaxed);
        self.note(Tone::Good, None, "answers")
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

/// One question to the servers of a pool, those that failed lately last; the next only when one could not say.
pub(super) struct Round<'d, M> {
    source: &'d str,
    waiting: std::vec::IntoIter<&'d M>,
    began: Instant,
    over: bool,
    failed: Vec<FailedServer>,
}

/// A server that could not say; `sent` means that the one guess may have reached it, so no other server may get it too.
pub(super) struct Failure {
    pub(super) why: Unavailable,
    pub(super) sent: bool,
}

impl From<Unavailable> for Failure {
    fn from(why: Unavailable) -> Self {
        Failure { why, sent: false }
    }
}

impl<'d, M: Member> Round<'d, M> {
    /// `turn` counts the questions of a balanced pool.
    pub(super) fn new(source: &'d str, servers: &'d [M], pool: Pool, turn: &AtomicUsize) -> Self {
        let first = if pool == Pool::Balance { turn.fetch_add(1, Ordering::Relaxed) % servers.len().max(1) } else { 0 };
        let turned = servers.iter().cycle().skip(first).take(servers.len());
        let (mut order, down): (Vec<_>, Vec<_>) = turned.partition(|server| !server.standing().is_down());
        order.extend(down);
        Round { source, waiting: order.into_iter(), began: Instant::now(), over: false, failed: Vec::new() }
    }

    /// Only the server of this name, where it is still there.
    pub(super) fn only(source: &'d str, servers: &'d [M], url: &str) -> Self {
        let order: Vec<_> = servers.iter().filter(|server| server.url() == url).collect();
        Round { source, waiting: order.into_iter(), began: Instant::now(), over: false, failed: Vec::new() }
    }

    pub(super) fn next(&mut self) -> Option<&'d M> {
        self.began = Instant::now();
        if self.over { None } else { self.waiting.next() }
    }

    pub(super) fn answered<T>(self, server: &M, value: T) -> Answer<T> {
        server.standing().set_well();
        server.standing().answers.fetch_add(1, Ordering::Relaxed);
        Answer { value, server: Some(server.url().to_owned()), failed: self.failed }
    }

    pub(super) fn failed(&mut self, server: &M, failure: Failure, down: bool) {
        let Failure { why, sent } = failure;
        crate::metrics::failed_server(self.source, server.url(), why.cause);
        server.standing().failures.fetch_add(1, Ordering::Relaxed);
        if down {
            server.standing().set_down(&why);
            server.went_down();
        }
        self.over = sent;
        self.failed.push(FailedServer { server: server.url().to_owned(), why, took_us: self.began.elapsed().as_micros() as u64 });
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

#[cfg(test)]
mod tests {
    use super::*;

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
        round.failed(first, Failure::from(why(Cause::SourceUnreachable)), true);
        let second = round.next().unwrap();
        round.failed(second, Failure { why: why(Cause::SourceSlow), sent: true }, false);
        assert!(round.next().is_none(), "the guess is with b now");
        let answer = round.given_up(Some);
        assert_eq!((answer.failed.len(), answer.value.unwrap().cause), (1, Cause::SourceSlow));
        let round = Round::new("source", &servers, Pool::Order, &turn);
        round.answered(&servers[1], ());
        let figures = |server: &Server| server.1.health().map(|health| (health.answers, health.failures, health.state)).unwrap();
        assert_eq!(figures(&servers[0]), (0, 1, Tone::Bad));
        assert_eq!(figures(&servers[1]), (1, 1, Tone::Good));
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
