//! What the writer remembers of what it has written, so that a login asks the file for less.
//!
//! Only the writer changes it: its jobs, one after the other, and what it does around them.

use super::RecordsError;
use super::steps::{Steps, Use, UsedStep};
use crate::lookup::LookupSet;
use rusqlite::Transaction;
use std::sync::{Mutex, MutexGuard, PoisonError};

#[derive(Debug, Default)]
pub(super) struct Remembered {
    inside: Mutex<Inside>,
}

#[derive(Debug, Default)]
struct Inside {
    /// Used codes of devices by time.
    steps: Steps,
    /// Everybody who may have wrong codes in the file, or whose wrong one is on its way there.
    wrong: LookupSet<String>,
    /// Whether that holds all of the file; it is read at the first question.
    wrong_is_read: bool,
}

impl Remembered {
    fn inside(&self) -> MutexGuard<'_, Inside> {
        self.inside.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Uses a code up; see [`Steps::use_up`].
    pub(super) fn use_step(&self, transaction: &Transaction<'_>, used: UsedStep) -> rusqlite::Result<Use> {
        self.inside().steps.use_up(transaction, used)
    }

    /// Holds a code; see [`Steps::hold`].
    pub(super) fn reserve_step(&self, transaction: &Transaction<'_>, used: UsedStep) -> rusqlite::Result<Option<u64>> {
        self.inside().steps.hold(transaction, used)
    }

    /// Ends a hold, by which the code is its holder's to use; not if the person has been wrong or has used a newer code meanwhile, as far as
    /// is known without the file. See [`Steps::end_reservation`].
    pub(super) fn end_reservation(&self, used: UsedStep, number: u64, person: &str) -> bool {
        let mut inside = self.inside();
        let place = (used.device, used.step);
        !inside.wrong.contains(person) && !inside.steps.is_outdated(place) && inside.steps.end_reservation(place, number)
    }

    /// Notes that a code which was held is used; see [`Steps::settle`].
    pub(super) fn note_used(&self, transaction: &Transaction<'_>, used: UsedStep) -> rusqlite::Result<()> {
        self.inside().steps.settle(transaction, used)
    }

    /// Gives a code back, if that hold of it has not ended.
    pub(super) fn release(&self, transaction: &Transaction<'_>, used: UsedStep, number: u64) -> rusqlite::Result<()> {
        let steps = &mut self.inside().steps;
        match steps.end_reservation((used.device, used.step), number) {
            true => steps.settle(transaction, used.given_back()),
            false => Ok(()),
        }
    }

    /// Before a part of a transaction that may be taken back, and before its end: writes down what jobs have gathered.
    pub(super) fn write_down(&self, transaction: &Transaction<'_>) -> Result<(), RecordsError> {
        Ok(self.inside().steps.write_down(transaction)?)
    }

    /// Brings some rows of devices up to date; whether there is more to do. See [`Steps::fold`].
    pub(super) fn fold(&self, transaction: &Transaction<'_>, at_most: usize, now_us: u64) -> rusqlite::Result<bool> {
        self.inside().steps.fold(transaction, at_most, now_us)
    }

    /// Brings all rows of devices up to date.
    pub(super) fn fold_all(&self, transaction: &Transaction<'_>) -> rusqlite::Result<()> {
        self.inside().steps.fold_all(transaction)
    }

    /// Whether the file may have wrong codes of this person.
    pub(super) fn may_have_been_wrong(&self, transaction: &Transaction<'_>, person: &str) -> rusqlite::Result<bool> {
        let mut inside = self.inside();
        if !inside.wrong_is_read {
            let mut statement = transaction.prepare("SELECT person FROM locks")?;
            let wrong: Vec<String> = statement.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
            inside.wrong.extend(wrong);
            inside.wrong_is_read = true;
        }
        Ok(inside.wrong.contains(person))
    }

    pub(super) fn note_wrong(&self, person: &str) {
        self.inside().wrong.insert(person.to_owned());
    }

    /// Nothing of this person's is left.
    pub(super) fn note_right(&self, person: &str) {
        self.inside().wrong.remove(person);
    }

    /// After one job was taken back: what is in the file is looked up again.
    pub(super) fn forget_job(&self) {
        let mut inside = self.inside();
        inside.steps.forget_job();
        inside.wrong_is_read = false;
    }

    /// After a commit failed: what is in the file is looked up again.
    pub(super) fn forget(&self) {
        let mut inside = self.inside();
        inside.steps.forget();
        inside.wrong_is_read = false;
    }
}
