//! Logins that were let in and whose session has yet to begin. A gateway that tells of sessions and says nothing of one has let somebody
//! in who never came up: the login was fine, and the person is not on.

use crate::shared::Shared;
use bivector_model::trace::{NO_SESSION, Step};
use bivector_store::clock;
use std::collections::{HashSet, VecDeque};
use std::sync::{Mutex, Weak};
use std::time::Duration;

/// Logins that are waited for; more are let go, oldest first. Each takes about 150 bytes.
const WAITING: usize = 10_000;
/// How often it is looked whose time is over.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// What is waited for.
#[derive(Debug, Default)]
pub struct Sessions {
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    /// Gateways that have told of a session since the start: of the others silence means nothing.
    tells: HashSet<String>,
    waiting: VecDeque<Waiting>,
}

#[derive(Debug)]
struct Waiting {
    gateway: String,
    name: String,
    reference: String,
    since_us: u64,
}

impl Sessions {
    /// A login was let in.
    pub fn let_in(&self, gateway: &str, name: &str, reference: &str, now_us: u64) {
        let Ok(mut state) = self.state.lock() else { return };
        if !state.tells.contains(gateway) {
            return;
        }
        if state.waiting.len() >= WAITING {
            state.waiting.pop_front();
        }
        let (gateway, name, reference) = (gateway.to_owned(), name.to_lowercase(), reference.to_owned());
        state.waiting.push_back(Waiting { gateway, name, reference, since_us: now_us });
    }

    /// A gateway told of a session; where it has begun, the oldest login of that name is no longer waited for.
    pub fn told(&self, gateway: &str, name: &str, has_begun: bool) {
        let Ok(mut state) = self.state.lock() else { return };
        if !state.tells.contains(gateway) {
            state.tells.insert(gateway.to_owned());
        }
        let name = name.to_lowercase();
        if has_begun && let Some(at) = state.waiting.iter().position(|one| one.gateway == gateway && one.name == name) {
            state.waiting.remove(at);
        }
    }

    /// References of the logins whose session should have begun by now; each is given once.
    fn overdue(&self, within: Duration, now_us: u64) -> Vec<String> {
        let Ok(mut state) = self.state.lock() else { return Vec::new() };
        let limit_us = now_us.saturating_sub(within.as_micros() as u64);
        let count = state.waiting.iter().take_while(|one| one.since_us <= limit_us).count();
        state.waiting.drain(..count).map(|one| one.reference).collect()
    }
}

/// Writes into the trace of each login whose session did not come up that it did not, until the service ends.
pub async fn watch(shared: Weak<Shared>) {
    let mut pace = tokio::time::interval(LOOK_EVERY);
    loop {
        pace.tick().await;
        let Some(shared) = shared.upgrade() else { return };
        let Some(within) = shared.live.load().as_ref().map(|live| live.site.radius.session_within) else { continue };
        for reference in shared.sessions.overdue(within, clock::now().micros()) {
            let said = format!(
                "accepted, but no Accounting-Start arrived within {} s: the session did not come up, or the packet was lost",
                within.as_secs()
            );
            shared.add_step(reference, Step::afterwards(NO_SESSION, within, said));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MINUTE: Duration = Duration::from_secs(60);

    #[test]
    fn only_gateways_that_tell_of_sessions_are_waited_for_and_each_login_is_named_once() {
        let sessions = Sessions::default();
        sessions.let_in("lantern", "pell", "A", 0);
        assert_eq!(sessions.overdue(MINUTE, 100_000_000), Vec::<String>::new(), "nothing is known of lantern's sessions");
        sessions.told("breakwater", "somebody", true);
        for (name, reference) in [("Ines", "B"), ("ines", "C"), ("yuki", "D")] {
            sessions.let_in("breakwater", name, reference, 1_000_000);
        }
        sessions.told("breakwater", "INES", true);
        sessions.told("breakwater", "yuki", false);
        assert_eq!(sessions.overdue(MINUTE, 60_000_000), Vec::<String>::new(), "not yet");
        assert_eq!(sessions.overdue(MINUTE, 61_000_000), ["C", "D"], "the end of a session begins none");
        assert_eq!(sessions.overdue(MINUTE, 99_000_000), Vec::<String>::new());
    }

    #[test]
    fn what_is_waited_for_is_bounded() {
        let sessions = Sessions::default();
        sessions.told("breakwater", "x", true);
        (0..WAITING + 5).for_each(|number| sessions.let_in("breakwater", "x", &number.to_string(), 1));
        let overdue = sessions.overdue(MINUTE, 100_000_000);
        assert_eq!((overdue.len(), overdue[0].as_str()), (WAITING, "5"));
    }
}
