//! What the writer remembers of what it has written, so that a login asks the file for less.
//!
//! Only jobs of the writer change it, one after the other. Where a commit failed it may hold more than the file does, never less: a
//! code that is neither here nor there was not used.

use rusqlite::Transaction;
use std::collections::{HashMap, HashSet};
use std::sync::{Mutex, MutexGuard, PoisonError};

#[derive(Debug, Default)]
pub(super) struct Remembered {
    held: Mutex<Held>,
}

#[derive(Debug, Default)]
struct Held {
    /// The used steps of devices by time that were used since the start.
    steps: HashMap<u64, Vec<u64>>,
    /// Everybody who may have wrong codes in the file; read at the first question.
    wrong: Option<HashSet<String>>,
}

impl Remembered {
    fn held(&self) -> MutexGuard<'_, Held> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The used steps of a device, if they are remembered.
    pub(super) fn steps(&self, device: u64) -> Option<Vec<u64>> {
        self.held().steps.get(&device).cloned()
    }

    pub(super) fn keep_steps(&self, device: u64, steps: Vec<u64>) {
        self.held().steps.insert(device, steps);
    }

    /// Whether the file may have wrong codes of this person.
    pub(super) fn may_have_been_wrong(&self, transaction: &Transaction<'_>, person: &str) -> rusqlite::Result<bool> {
        let mut held = self.held();
        if let Some(wrong) = &held.wrong {
            return Ok(wrong.contains(person));
        }
        let mut statement = transaction.prepare("SELECT person FROM locks")?;
        let wrong: HashSet<String> = statement.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
        let found = wrong.contains(person);
        held.wrong = Some(wrong);
        Ok(found)
    }

    pub(super) fn note_wrong(&self, person: &str) {
        if let Some(wrong) = &mut self.held().wrong {
            wrong.insert(person.to_owned());
        }
    }

    /// After a commit that failed: what is in the file is looked up again.
    pub(super) fn forget(&self) {
        *self.held() = Held::default();
    }
}
