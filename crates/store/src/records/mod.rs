//! What is kept: one SQLite file, one writer with group commit, readers beside it.
//!
//! What an answer depends on is awaited with [`Records::write`] and is on disk when that returns. What may be lost with the
//! power, such as a trace, is handed over with [`Records::post`] and dropped, counted, when the writer cannot keep up.

mod audit;
mod changes;
mod factors;
mod facts;
mod feed;
mod guesses;
mod health;
mod invitations;
mod knocks;
mod layout;
mod leases;
mod marks;
mod operators;
mod people;
mod pushes;
mod remembered;
mod reserved;
mod revisions;
mod runs;
mod sessions;
mod signins;
mod steps;
mod traces;
mod writer;

pub use audit::Deed;
pub use changes::{Edit, NotUndone};
pub use factors::{DeviceState, LockRow, Marked};
pub use facts::PersonFacts;
pub use feed::{Changed, Changes, Cursor};
pub use guesses::GuessRow;
pub use invitations::{Invitation, NewInvitation, Opened, StopRow};
pub use knocks::insert_knock;
pub use leases::{PoolAsk, ReservedNow, ToReserve};
pub use operators::{OperatorRow, TokenRow};
pub use people::person_key;
pub use people::{DeviceKind, FactorRow, FactorSettings, NewFactor, NewPerson, PersonRow, WaitsFor};
pub use pushes::{NewSubscription, PushKeyRow, PushNoted, PushRow, SUBSCRIPTIONS, Subscribed};
pub use revisions::SealedSecret;
pub use sessions::{SessionChanged, SessionLink};
pub use signins::SignInRow;
pub use traces::TraceFilter;
pub use traces::{Added, Entry, Newest, tidy_traces};

use crate::error::ServiceError;
use bivector_model::Moment;
use bivector_model::trace::Step;
use feed::Feed;
use health::Health;
use remembered::Remembered;
use rusqlite::{Connection, OpenFlags, Transaction};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use traces::Buffer;
use writer::{Around, Job, Writer};

/// Whether a commit waits until the disk has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Sync {
    /// Yes: survives a power cut.
    #[default]
    Full,
    /// No: survives a crash of the service, not of the machine.
    Off,
}

/// A write or a read that failed.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{0}")]
pub struct RecordsError(pub String);

impl From<rusqlite::Error> for RecordsError {
    fn from(error: rusqlite::Error) -> Self {
        RecordsError(error.to_string())
    }
}

/// How the error of a change begins that the stop of the service has interrupted.
const STOPPING: &str = "the service is stopping";

impl From<RecordsError> for ServiceError {
    fn from(error: RecordsError) -> Self {
        match error.0.starts_with(STOPPING) {
            true => ServiceError::Stopping(error.0),
            false => ServiceError::Records(error.0),
        }
    }
}

/// Handle to the records; clones share them.
#[derive(Debug, Clone)]
pub struct Records {
    writer: Arc<Writer>,
    readers: Arc<Readers>,
    /// Traces that are not written yet.
    traces: Arc<Buffer>,
    remembered: Arc<Remembered>,
    /// Changes of people are made one after the other.
    changing: Arc<tokio::sync::Mutex<()>>,
    stopping: Arc<AtomicBool>,
    health: Arc<Health>,
    feed: Arc<Feed>,
}

#[derive(Debug)]
struct Readers {
    path: PathBuf,
    idle: Mutex<Vec<Connection>>,
}

/// The number that traces are counted from where the kept ones cannot be read.
const UNREADABLE_TRACES: u64 = 1 << 48;

/// Connections kept for reading; each holds about 2 MiB of cache.
const IDLE_READERS: usize = 4;

/// Rows of devices that are brought up to date in one job: some milliseconds of the writer's time.
const FOLDED_AT_ONCE: usize = 512;

impl Records {
    /// Opens the records in `folder`, bringing their layout up to date.
    ///
    /// # Errors
    /// The file cannot be used, or a newer version wrote it.
    pub fn open(folder: &Path, sync: Sync) -> Result<Self, ServiceError> {
        let path = folder.join("records.db");
        let failed = |error: rusqlite::Error| ServiceError::Records(format!("`{}`: {error}", path.display()));
        let health = Arc::new(Health::default());
        let mut connection = Connection::open(&path).map_err(failed)?;
        prepare(&connection, sync).map_err(failed)?;
        layout::bring_up_to_date(&mut connection, &path)?;
        changes::end_interrupted(&mut connection, crate::clock::now()).map_err(failed)?;
        // Traces are worth less than logins: where they cannot be read, new ones are numbered far behind all that there can be.
        let newest = traces::newest(&connection).unwrap_or_else(|error| {
            health.checked(Some(format!("trace_chunks: {error}")));
            UNREADABLE_TRACES
        });
        let traces = Arc::new(Buffer::new(newest));
        let checkpointer = Connection::open(&path).map_err(failed)?;
        let remembered = Arc::new(Remembered::default());
        let feed = Arc::new(Feed::open(&connection).map_err(failed)?);
        let around = Around { remembered: Arc::clone(&remembered), health: Arc::clone(&health), feed: Arc::clone(&feed) };
        let writer = Arc::new(Writer::start(connection, checkpointer, around));
        let readers = Arc::new(Readers { path, idle: Mutex::new(Vec::new()) });
        Ok(Records { writer, readers, traces, remembered, changing: Arc::default(), stopping: Arc::default(), health, feed })
    }

    /// Whether they can be written and are sound.
    pub fn health(&self) -> &Health {
        &self.health
    }

    /// Makes sure that something can be written, if the last commit failed.
    ///
    /// # Errors
    /// Nothing can be written.
    pub async fn try_to_write(&self) -> Result<(), RecordsError> {
        let Some(why) = self.health.failing() else { return Ok(()) };
        // Anybody may ask whether the service is ready: only some of the questions are worth a write.
        if !self.health.may_try() {
            return Err(RecordsError(why));
        }
        // As much as a login may need: a disk with room for a few bytes is full all the same.
        let probe = "INSERT INTO meta VALUES ('write-probe', randomblob(16384)) ON CONFLICT (key) DO UPDATE SET value = excluded.value";
        self.write(move |transaction| transaction.execute(probe, [])).await.map(|_| ())
    }

    /// Reads the whole file through and notes what is wrong with it. Takes a second or more for a large one, aside from logins.
    pub async fn check_all(&self) {
        let found = self.read(|connection| connection.query_row("PRAGMA quick_check(1)", [], |row| row.get::<_, String>(0))).await;
        self.health.checked(match found {
            Ok(said) if said == "ok" => None,
            Ok(said) => Some(said),
            Err(error) => Some(error.0),
        });
    }

    /// Tells changes that take long that they must end now.
    pub fn stop_changes(&self) {
        self.stopping.store(true, Ordering::Relaxed);
    }

    /// Whether what takes long must end now.
    pub fn stopping(&self) -> bool {
        self.stopping.load(Ordering::Relaxed)
    }

    /// Hands a trace over, which is written with others by the next [`Records::write_traces`].
    pub fn add_trace(&self, entry: Entry) -> Added {
        self.traces.add(entry)
    }

    /// The number of a trace that is not written.
    pub fn skip_trace(&self) -> u64 {
        self.traces.number()
    }

    /// Writes the traces that wait, soon; `after` gets them once they are committed.
    pub async fn write_traces(&self, after: impl FnOnce(Vec<Entry>) + Send + 'static) {
        // One after the other, so that what is handed over next comes behind them.
        let _turn = self.traces.turn().await;
        let entries = self.traces.take();
        let mut chunks = Vec::new();
        for some in entries.chunks(traces::FULL) {
            chunks.extend(traces::chunks(some));
            // Thousands of logins may end at once, and others go on meanwhile.
            tokio::task::yield_now().await;
        }
        let replaced: Vec<u64> = entries.iter().filter_map(|entry| entry.replaces).collect();
        let buffer = Arc::clone(&self.traces);
        let job = Job::new(
            move |transaction| {
                traces::insert_chunks(transaction, &chunks)?;
                if replaced.is_empty() { Ok(()) } else { traces::insert_replaced(transaction, &replaced) }
            },
            move |result: Result<(), RecordsError>| {
                buffer.written(entries.len());
                match result {
                    Ok(()) => after(entries),
                    Err(error) => {
                        tracing::debug!(%error, "traces could not be written");
                        buffer.keep_unwritten(entries);
                    }
                }
            },
        );
        // They wait as long as the records are behind; the buffer's bound drops those that come meanwhile.
        if self.writer.send(job.together()).await.is_err() {
            tracing::debug!("the records are closed already");
        }
    }

    /// Adds a step to a trace that is written, or will be by a job that was handed over before.
    pub fn add_step(&self, reference: String, step: Step) {
        self.post(move |transaction| traces::append_step(transaction, &reference, &step), || {});
    }

    /// Runs `job` in the next commit and waits until it is durable.
    ///
    /// # Errors
    /// The job's own, or the commit's. Nothing of a failed job stays.
    pub async fn write<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, RecordsError> {
        self.hand_over(job, false).await
    }

    /// As [`Records::write`], for jobs that read or change people and factors: all that logins have used stands in the rows then.
    pub(super) async fn write_people<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        self.write(move |transaction| {
            remembered.fold_all(transaction)?;
            job(transaction)
        })
        .await
    }

    /// Brings some of the rows up to date that lag behind what logins have used; whether there is more to do.
    ///
    /// # Errors
    /// They could not be written; nothing is lost.
    pub async fn fold_steps(&self, now: Moment) -> Result<bool, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        self.write_together(move |transaction| remembered.fold(transaction, FOLDED_AT_ONCE, now.micros())).await
    }

    /// As [`Records::write`], for jobs of every login, which fail only when the disk does: cheaper, but a failure is everybody's in the
    /// same commit.
    pub(super) async fn write_together<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, RecordsError> {
        self.hand_over(job, true).await
    }

    async fn hand_over<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
        together: bool,
    ) -> Result<T, RecordsError> {
        let (tell, told) = tokio::sync::oneshot::channel();
        let job = Job::new(job, move |result| {
            // Nobody waits any more when the asker has gone; the write stands all the same.
            let _ = tell.send(result);
        });
        self.writer.send(if together { job.together() } else { job }).await?;
        told.await.map_err(|_| writer::stopped())?
    }

    /// Hands a job over without waiting; `after` runs once it is committed. Gives `false` where it was dropped.
    pub fn post(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<()> + Send + 'static,
        after: impl FnOnce() + Send + 'static,
    ) -> bool {
        let job = Job::new(job, move |result: Result<(), RecordsError>| match result {
            Ok(()) => after(),
            Err(error) => tracing::debug!(%error, "a record could not be written"),
        });
        self.writer.try_send(job.together())
    }

    /// Runs `query` on a reading connection, aside from the async threads.
    ///
    /// # Errors
    /// The query's.
    pub async fn read<T: Send + 'static>(
        &self,
        query: impl FnOnce(&Connection) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let readers = Arc::clone(&self.readers);
        tokio::task::spawn_blocking(move || readers.run(query)).await.map_err(|_| RecordsError("the reader was stopped".into()))?
    }

    /// As [`Records::read`], on this thread: for the start only.
    ///
    /// # Errors
    /// The query's.
    pub fn read_now<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, RecordsError> {
        self.readers.run(query)
    }

    /// Waits until everything handed over so far is written, then stops the writer.
    pub async fn close(&self) {
        self.write_traces(drop).await;
        if let Err(error) = self.write_people(|_| Ok(())).await {
            tracing::debug!(%error, "used codes are folded by the next start");
        }
        let writer = Arc::clone(&self.writer);
        let _ = tokio::task::spawn_blocking(move || writer.stop()).await;
    }
}

impl Readers {
    fn run<T>(&self, query: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, RecordsError> {
        let idle = self.idle.lock().map_or(None, |mut idle| idle.pop());
        let connection = match idle {
            Some(connection) => connection,
            None => Connection::open_with_flags(&self.path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX)?,
        };
        // One state of the records for all statements of a query, whatever is tidied meanwhile.
        let transaction = connection.unchecked_transaction()?;
        let result = query(&transaction)?;
        transaction.finish()?;
        if let Ok(mut idle) = self.idle.lock()
            && idle.len() < IDLE_READERS
        {
            idle.push(connection);
        }
        Ok(result)
    }
}

fn prepare(connection: &Connection, sync: Sync) -> rusqlite::Result<()> {
    connection.busy_timeout(Duration::from_secs(5))?;
    // More than the writer has different ones, so that none is parsed twice.
    connection.set_prepared_statement_cache_capacity(64);
    connection.pragma_update(None, "journal_mode", "WAL")?;
    connection.pragma_update(None, "synchronous", if sync == Sync::Full { "FULL" } else { "OFF" })?;
    connection.pragma_update(None, "foreign_keys", "ON")?;
    // Checkpoints run aside (see `writer`), so that no commit pays for one.
    connection.pragma_update(None, "wal_autocheckpoint", 0)
}
