//! Rehearsals under way: how far each is, and what they have typed of enrolled devices. What plays them is a crate of its own.

use bivector_explain::run::Run;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use tokio::sync::{OwnedMutexGuard, watch};

/// Steps around now whose codes count for sure.
const WINDOW: u64 = 1;
/// Seconds before the end of a step from which on the one before it is no longer typed: it may be too old when it arrives.
const TOO_LATE: u64 = 26;
/// Before the names of people in what rehearsed logins count and lock.
pub const STAGES: &str = "rehearsal/";

/// Runs under way.
#[derive(Debug, Default)]
pub struct Runs {
    /// Those that have not ended, by number.
    pub active: Mutex<HashMap<u64, Arc<Active>>>,
    /// What they have typed of enrolled devices.
    pub typed: Typed,
}

/// A run that has not ended.
#[derive(Debug)]
pub struct Active {
    /// How far it is.
    pub run: Mutex<Run>,
    /// Ends it after the logins that are on their way.
    pub stop: watch::Sender<bool>,
}

impl Runs {
    /// A run under way, as far as it is.
    pub fn under_way(&self, id: u64) -> Option<Run> {
        let active = self.active.lock().ok()?.get(&id).cloned()?;
        active.run.lock().ok().map(|run| run.clone())
    }

    /// All runs under way, without their results.
    pub fn all(&self) -> Vec<Run> {
        let active: Vec<Arc<Active>> = self.active.lock().map(|active| active.values().cloned().collect()).unwrap_or_default();
        let plain = |active: Arc<Active>| active.run.lock().ok().map(|run| Run { results: Vec::new(), ..run.clone() });
        active.into_iter().filter_map(plain).collect()
    }

    /// Ends a run after the logins that are on their way; `false` if it is not under way.
    pub fn interrupt(&self, id: u64) -> bool {
        let Some(active) = self.active.lock().ok().and_then(|active| active.get(&id).cloned()) else { return false };
        active.stop.send_replace(true);
        true
    }
}

/// What rehearsals have typed of enrolled devices, by the secret of their seed. Codes go forward only: one that is older than the newest used
/// one of its device is refused.
#[derive(Debug, Default)]
pub struct Typed {
    newest: Mutex<HashMap<String, u64>>,
    turns: Mutex<HashMap<String, Arc<tokio::sync::Mutex<()>>>>,
}

impl Typed {
    /// Takes the next step that counts, and types the one `later` steps after it; none while all that count are typed.
    pub fn take(&self, name: &str, later: u64, now: u64, period: u64) -> Option<u64> {
        let (step, into) = (now / period, now % period);
        let mut newest = self.newest.lock().ok()?;
        let typed = newest.get(name).copied();
        let older = (into < TOO_LATE).then(|| step.saturating_sub(WINDOW));
        let next = older.into_iter().chain([step, step + WINDOW]).find(|step| typed.is_none_or(|typed| *step > typed))?;
        newest.insert(name.to_owned(), next + later);
        Some(next + later)
    }

    /// The turn of one login with a device: two at once could overtake each other, and the older code would be refused.
    pub async fn turn(&self, name: &str) -> Option<OwnedMutexGuard<()>> {
        let turn = Arc::clone(self.turns.lock().ok()?.entry(name.to_owned()).or_default());
        Some(turn.lock_owned().await)
    }
}
