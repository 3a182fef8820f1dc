//! Whether the records can be written, and whether they are sound. Told once when it changes, not with every commit.

use super::RecordsError;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// How often it is tried whether the records can be written again.
const TRIED_EVERY: Duration = Duration::from_millis(500);

/// What is known of the records.
#[derive(Debug, Default)]
pub struct Health {
    /// Why the last commit failed; nothing while commits succeed.
    failing: Mutex<Option<String>>,
    /// When a write was last tried to see whether one succeeds again.
    tried: Mutex<Option<Instant>>,
    /// What the last check of the whole file has found.
    damage: Mutex<Option<String>>,
}

impl Health {
    /// Why nothing can be written at this moment.
    pub fn failing(&self) -> Option<String> {
        self.failing.lock().ok().and_then(|failing| failing.clone())
    }

    /// Whether it is time to try a write again. It counts as tried from then on, whatever comes of it.
    pub(super) fn may_try(&self) -> bool {
        let Ok(mut tried) = self.tried.lock() else { return false };
        let now = Instant::now();
        let may = tried.is_none_or(|last| now.duration_since(last) >= TRIED_EVERY);
        if may {
            *tried = Some(now);
        }
        may
    }

    /// A commit failed.
    pub(super) fn failed(&self, error: &RecordsError) {
        let Ok(mut failing) = self.failing.lock() else { return };
        crate::metrics::records_writable(false);
        if failing.replace(error.0.clone()).is_none() {
            tracing::error!(
                %error,
                "the records cannot be written: a commit failed. Logins that depend on a record are refused until that is mended; look at \
                 the free space and the rights of the data folder"
            );
        }
    }

    /// A commit succeeded that has written something.
    pub(super) fn wrote(&self) {
        if let Ok(mut failing) = self.failing.lock()
            && failing.take().is_some()
        {
            crate::metrics::records_writable(true);
            tracing::info!("the records can be written again");
        }
    }

    /// What was found wrong with the file, in SQLite's words.
    pub fn damage(&self) -> Option<String> {
        self.damage.lock().ok().and_then(|damage| damage.clone())
    }

    /// What a check of the whole file has found; nothing if it is sound.
    pub(super) fn checked(&self, found: Option<String>) {
        let Ok(mut damage) = self.damage.lock() else { return };
        crate::metrics::records_damaged(found.is_some());
        if let Some(found) = found.as_ref().filter(|found| damage.as_ref() != Some(*found)) {
            tracing::error!(found, "the records are damaged; {}", crate::error::RESTORE);
        }
        *damage = found;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_who_ask_at_once_bring_about_one_write() {
        let health = Health::default();
        assert_eq!((0..100).filter(|_| health.may_try()).count(), 1);
    }

    #[test]
    fn a_failure_stays_until_something_was_written() {
        let health = Health::default();
        health.wrote();
        assert_eq!(health.failing(), None);
        health.failed(&RecordsError("database or disk is full".into()));
        health.failed(&RecordsError("disk I/O error".into()));
        assert_eq!(health.failing().as_deref(), Some("disk I/O error"));
        health.wrote();
        assert_eq!(health.failing(), None);
    }
}
