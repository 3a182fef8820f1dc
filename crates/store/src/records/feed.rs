//! The change feed: every durable fact that views in memory follow, in the order in which it was committed.
//!
//! Whoever changes a fact adds an entry to the feed in the same transaction. Once the transaction is committed, the number of its newest
//! entry is published, and every view reads what it has not applied yet. No view assumes that it made all changes itself.

use super::{Records, RecordsError, person_key};
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::watch;

/// Entries that are kept. A view that lags further behind reads everything again.
const KEPT: u64 = 20_000;

/// What kind of fact has changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Changed {
    /// One person: the record, factors, invitation, stopped approvals or trusted devices.
    Person {
        /// The source.
        source: String,
        /// The login name in that source, in lower case.
        login: String,
    },
    /// More people than are worth an entry each.
    People,
    /// Operators, their tokens or their console sign-ins.
    Operators,
    /// Sealed secrets.
    Secrets,
    /// A new revision of the site.
    Revision,
}

impl Changed {
    /// One person, by key (see [`person_key`]).
    pub(super) fn person(key: &str) -> Self {
        match key.split_once(':') {
            Some((source, login)) => Changed::Person { source: source.to_owned(), login: login.to_owned() },
            None => Changed::People,
        }
    }

    fn kind(&self) -> &'static str {
        match self {
            Changed::Person { .. } => "person",
            Changed::People => "people",
            Changed::Operators => "operators",
            Changed::Secrets => "secrets",
            Changed::Revision => "revision",
        }
    }

    fn key(&self) -> String {
        match self {
            Changed::Person { source, login } => person_key(source, login),
            _ => String::new(),
        }
    }

    fn read(kind: &str, key: &str) -> Self {
        match kind {
            "person" => Changed::person(key),
            "operators" => Changed::Operators,
            "secrets" => Changed::Secrets,
            "revision" => Changed::Revision,
            // Also what a later version may add: reading too much is safe.
            _ => Changed::People,
        }
    }
}

/// What was committed after a sequence number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changes {
    /// The newest sequence number; the next question begins there.
    pub newest: u64,
    /// What changed, oldest first, each fact once.
    pub changed: Vec<Changed>,
    /// Whether entries are missing because they are older than those that are kept: everything must be read again.
    pub incomplete: bool,
}

/// The publishing side of the feed.
#[derive(Debug)]
pub(super) struct Feed {
    newest: watch::Sender<u64>,
    /// Whether the open transaction has added entries.
    touched: AtomicBool,
}

impl Feed {
    pub(super) fn open(connection: &Connection) -> rusqlite::Result<Self> {
        Ok(Feed { newest: watch::Sender::new(newest(connection)?), touched: AtomicBool::new(false) })
    }

    /// Adds an entry within a transaction.
    pub(super) fn add(&self, transaction: &Transaction<'_>, changed: &Changed) -> rusqlite::Result<()> {
        let entry = params![changed.kind(), changed.key()];
        transaction.prepare_cached("INSERT INTO feed (kind, key) VALUES (?1, ?2)")?.execute(entry)?;
        let oldest = transaction.last_insert_rowid() - KEPT.cast_signed();
        transaction.prepare_cached("DELETE FROM feed WHERE sequence <= ?1")?.execute([oldest])?;
        self.touched.store(true, Ordering::Relaxed);
        Ok(())
    }

    /// After a commit, or after it failed: publishes the newest committed entry.
    pub(super) fn publish(&self, connection: &Connection) {
        if !self.touched.swap(false, Ordering::Relaxed) {
            return;
        }
        match newest(connection) {
            Ok(newest) => drop(self.newest.send_replace(newest)),
            // The next entry publishes this one too.
            Err(error) => tracing::warn!(%error, "the change feed could not be read"),
        }
    }
}

/// The number of the newest entry there has been; 0 before the first.
fn newest(connection: &Connection) -> rusqlite::Result<u64> {
    let newest: Option<i64> =
        connection.query_row("SELECT seq FROM sqlite_sequence WHERE name = 'feed'", [], |row| row.get(0)).optional()?;
    Ok(newest.unwrap_or(0).cast_unsigned())
}

impl Records {
    /// The sequence number of the newest committed change. It covers every write that has returned.
    pub fn newest_change(&self) -> u64 {
        *self.feed.newest.borrow()
    }

    /// Is told whenever [`Records::newest_change`] grows.
    pub fn watch_changes(&self) -> watch::Receiver<u64> {
        self.feed.newest.subscribe()
    }

    /// What was committed after `sequence`.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn changes_after(&self, sequence: u64) -> Result<Changes, RecordsError> {
        self.read(move |connection| changes_after(connection, sequence)).await
    }

    /// As [`Records::write`], for jobs that change facts which views in memory follow: `changed` says which, given the job's result.
    pub(super) async fn write_facts<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
        changed: impl FnOnce(&T) -> Vec<Changed> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let feed = Arc::clone(&self.feed);
        self.write(move |transaction| {
            let value = job(transaction)?;
            changed(&value).iter().try_for_each(|changed| feed.add(transaction, changed))?;
            Ok(value)
        })
        .await
    }

    /// As [`Records::write_facts`], for jobs that read or change people and factors (see [`Records::write_people`]).
    pub(super) async fn write_people_facts<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
        changed: impl FnOnce(&T) -> Vec<Changed> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        let job = move |transaction: &Transaction<'_>| {
            remembered.fold_all(transaction)?;
            job(transaction)
        };
        self.write_facts(job, changed).await
    }

    /// As [`Records::write_facts`], for a fact of the person whose factor has this number; nothing is added if there is no such factor.
    pub(super) async fn write_facts_of<T: Send + 'static>(
        &self,
        factor: u64,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let feed = Arc::clone(&self.feed);
        self.write(move |transaction| {
            let owner = "SELECT source, login FROM people JOIN factors ON factors.person = people.id WHERE factors.id = ?1";
            let person = |row: &rusqlite::Row<'_>| Ok(Changed::Person { source: row.get(0)?, login: row.get(1)? });
            let owner = transaction.prepare_cached(owner)?.query_row([factor.cast_signed()], person).optional()?;
            let value = job(transaction)?;
            owner.map_or(Ok(()), |owner| feed.add(transaction, &owner))?;
            Ok(value)
        })
        .await
    }
}

fn changes_after(connection: &Connection, sequence: u64) -> rusqlite::Result<Changes> {
    let newest = newest(connection)?;
    let mut statement = connection.prepare_cached("SELECT sequence, kind, key FROM feed WHERE sequence > ?1 ORDER BY sequence")?;
    let entry = |row: &rusqlite::Row<'_>| Ok((row.get::<_, i64>(0)?.cast_unsigned(), row.get::<_, String>(1)?, row.get::<_, String>(2)?));
    let entries: Vec<(u64, String, String)> = statement.query_map([sequence.cast_signed()], entry)?.collect::<rusqlite::Result<_>>()?;
    let incomplete = sequence < newest && entries.first().is_none_or(|(first, ..)| *first != sequence + 1);
    let mut changed: Vec<Changed> = Vec::new();
    let mut seen = std::collections::HashSet::new();
    for (_, kind, key) in entries {
        if seen.insert((kind.clone(), key.clone())) {
            changed.push(Changed::read(&kind, &key));
        }
    }
    Ok(Changes { newest, changed, incomplete })
}

/// How far a view has followed the feed. One caller at a time applies changes; the others wait and find them applied.
#[derive(Debug, Default)]
pub struct Cursor {
    applied: tokio::sync::Mutex<u64>,
}

impl Cursor {
    /// A view that was read when this was the newest change. Take the number before reading, so that nothing falls between.
    pub fn at(sequence: u64) -> Self {
        Cursor { applied: tokio::sync::Mutex::new(sequence) }
    }

    /// The view was read anew when this was the newest change.
    pub async fn skip_to(&self, sequence: u64) {
        let mut applied = self.applied.lock().await;
        *applied = sequence.max(*applied);
    }

    /// Brings a view up to date with everything that was committed before this call. `apply` gets what has changed; where it fails, the
    /// same changes come again with the next call.
    ///
    /// # Errors
    /// The records cannot be read, or `apply` has failed.
    pub async fn catch_up<E: From<RecordsError>>(
        &self,
        records: &Records,
        apply: impl AsyncFnOnce(&Changes) -> Result<(), E>,
    ) -> Result<(), E> {
        let wanted = records.newest_change();
        let mut applied = self.applied.lock().await;
        if *applied >= wanted {
            return Ok(());
        }
        let changes = records.changes_after(*applied).await?;
        apply(&changes).await?;
        *applied = changes.newest;
        Ok(())
    }
}

#[cfg(test)]
#[path = "feed_tests.rs"]
mod tests;
