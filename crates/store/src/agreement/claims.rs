//! In-memory keys, each with at most one holder at a time.

use bivector_model::Moment;
use std::collections::{BTreeSet, HashMap};
use std::sync::Mutex;

#[derive(Debug, Default)]
struct Inside {
    by_key: HashMap<String, (u64, Moment)>,
    ends: BTreeSet<(Moment, String)>,
}

/// All claims. Expired ones are removed with the next claim.
#[derive(Debug, Default)]
pub(super) struct Claims {
    inside: Mutex<Inside>,
}

impl Claims {
    pub(super) fn claim(&self, key: String, value: u64, until: Moment, now: Moment) -> Result<(), u64> {
        let Ok(mut inside) = self.inside.lock() else { return Err(0) };
        while inside.ends.first().is_some_and(|(end, _)| *end <= now) {
            let Some((_, ended)) = inside.ends.pop_first() else { break };
            inside.by_key.remove(&ended);
        }
        match inside.by_key.get(&key) {
            Some((holder, _)) => Err(*holder),
            None => {
                inside.ends.insert((until, key.clone()));
                inside.by_key.insert(key, (value, until));
                Ok(())
            }
        }
    }

    pub(super) fn release(&self, key: &str, value: u64) {
        let Ok(mut inside) = self.inside.lock() else { return };
        if inside.by_key.get(key).is_some_and(|(holder, _)| *holder == value)
            && let Some((key, (_, until))) = inside.by_key.remove_entry(key)
        {
            inside.ends.remove(&(until, key));
        }
    }
}
