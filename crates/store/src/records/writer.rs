//! The one writer: takes jobs from a bounded queue and commits as many as wait together.

use super::RecordsError;
use super::feed::Feed;
use super::health::Health;
use super::remembered::Remembered;
use rusqlite::{Connection, Transaction};
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::{SendError, TrySendError};

/// Jobs that may wait; each takes a few hundred bytes.
const QUEUE: usize = 16_384;
/// The part of the queue that is kept free for jobs that somebody waits for.
const KEPT_FREE: usize = QUEUE / 4;
/// Jobs in one commit at most.
const BATCH: usize = 512;
/// How often the checkpoint runs.
const CHECKPOINT_EVERY: Duration = Duration::from_secs(1);

type Outcome = Box<dyn FnOnce(Result<(), RecordsError>) + Send>;
/// Whom to tell of a commit, and what.
type Told = (Vec<Outcome>, Result<(), RecordsError>);
/// Gets the transaction, or the reason why there is none; gives its own result and whom to tell after the commit.
type Run = Box<dyn FnOnce(Result<&Transaction<'_>, RecordsError>) -> (Result<(), RecordsError>, Outcome) + Send>;

/// One piece of work for the writer.
pub(super) struct Job {
    run: Run,
    /// Whether it gets a savepoint of its own.
    alone: bool,
}

impl fmt::Debug for Job {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.debug_struct("Job").field("alone", &self.alone).finish_non_exhaustive()
    }
}

impl Job {
    /// `run` does it; `after` is told the result once it is committed, or why it is not.
    pub(super) fn new<T: Send + 'static>(
        run: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
        after: impl FnOnce(Result<T, RecordsError>) + Send + 'static,
    ) -> Self {
        let run: Run =
            Box::new(move |transaction| match transaction.and_then(|transaction| run(transaction).map_err(RecordsError::from)) {
                Ok(value) => (Ok(()), Box::new(move |committed: Result<(), RecordsError>| after(committed.map(|()| value)))),
                Err(error) => {
                    let told = error.clone();
                    (Err(error), Box::new(move |_| after(Err(told))))
                }
            });
        Job { run, alone: true }
    }

    /// Tells whoever waits that the writer has stopped.
    fn refuse(self) {
        let why = stopped();
        let (_, outcome) = (self.run)(Err(why.clone()));
        outcome(Err(why));
    }

    /// A job that fails only when the disk does: it gets no savepoint, which would copy every page that it touches. Should it fail all
    /// the same, nothing of its commit is kept, and all are told.
    pub(super) fn together(self) -> Self {
        Job { alone: false, ..self }
    }
}

/// Why nothing can be written any more.
pub(super) fn stopped() -> RecordsError {
    RecordsError("the writer has stopped".into())
}

/// What the writer keeps up to date around each commit.
#[derive(Debug, Clone)]
pub(super) struct Around {
    pub(super) remembered: Arc<Remembered>,
    pub(super) health: Arc<Health>,
    pub(super) feed: Arc<Feed>,
}

#[derive(Debug)]
pub(super) struct Writer {
    queue: Mutex<Option<mpsc::Sender<Job>>>,
    /// Done with the next commit.
    beside: Arc<Mutex<Vec<Job>>>,
    threads: Mutex<Vec<JoinHandle<()>>>,
    stopping: Arc<AtomicBool>,
}

impl Writer {
    pub(super) fn start(connection: Connection, checkpointer: Connection, around: Around) -> Self {
        let (sender, receiver) = mpsc::channel(QUEUE);
        let stopping = Arc::new(AtomicBool::new(false));
        let stop = Arc::clone(&stopping);
        let tell = teller();
        let beside = Arc::new(Mutex::new(Vec::new()));
        let lying = Arc::clone(&beside);
        let threads = vec![
            std::thread::Builder::new().name("records".into()).spawn(move || {
                write_all(connection, &around, receiver, &lying, tell);
            }),
            std::thread::Builder::new().name("checkpoint".into()).spawn(move || checkpoint(&checkpointer, &stop)),
        ];
        let threads = threads.into_iter().filter_map(Result::ok).collect();
        Writer { queue: Mutex::new(Some(sender)), beside, threads: Mutex::new(threads), stopping }
    }

    fn sender(&self) -> Option<mpsc::Sender<Job>> {
        self.queue.lock().ok().and_then(|queue| queue.clone())
    }

    pub(super) async fn send(&self, job: Job) -> Result<(), RecordsError> {
        self.sender().ok_or_else(stopped)?.send(job).await.map_err(|_| stopped())
    }

    pub(super) fn try_send(&self, job: Job) -> bool {
        self.sender().is_some_and(|sender| sender.capacity() > KEPT_FREE && sender.try_send(job).is_ok())
    }

    /// Hands a job over now if there is room, or else as soon as there is; whoever asked is told in any case.
    pub(super) fn send_soon(&self, job: Job) {
        let Some(sender) = self.sender() else { return job.refuse() };
        match sender.try_send(job) {
            Ok(()) => {}
            Err(TrySendError::Closed(job)) => job.refuse(),
            Err(TrySendError::Full(job)) => match Handle::try_current() {
                Ok(handle) => drop(handle.spawn(async move {
                    if let Err(SendError(job)) = sender.send(job).await {
                        job.refuse();
                    }
                })),
                Err(_) => job.refuse(),
            },
        }
    }

    /// Lays a job beside the queue that nobody waits for: it is done with the next commit that there is, and is none of its own.
    pub(super) fn with_the_next(&self, job: Job) {
        if let Ok(mut beside) = self.beside.lock() {
            beside.push(job);
        }
    }

    pub(super) fn stop(&self) {
        self.stopping.store(true, Ordering::Relaxed);
        if let Ok(mut queue) = self.queue.lock() {
            *queue = None;
        }
        let threads = self.threads.lock().map(|mut threads| std::mem::take(&mut *threads)).unwrap_or_default();
        for thread in threads {
            // A writer that panicked has said so; there is nothing left to wait for.
            let _ = thread.join();
        }
    }
}

/// Outcomes that one task tells: what hangs on them may be the rest of a login each.
const TOLD_TOGETHER: usize = 32;

fn tell((outcomes, committed): Told) {
    for outcome in outcomes {
        // Whoever is told may go on with a login there; it must not take the others with it.
        if catch_unwind(AssertUnwindSafe(|| outcome(committed.clone()))).is_err() {
            tracing::error!("what was to come after a commit has failed");
        }
    }
}

/// Tells the outcomes of a commit. Beside async tasks it is some of them that do it, so that the writer wakes one and not hundreds, and
/// goes on with the next commit.
fn teller() -> Box<dyn FnMut(Told) + Send> {
    let Ok(handle) = Handle::try_current() else { return Box::new(tell) };
    let (sender, mut receiver) = mpsc::unbounded_channel::<Told>();
    handle.spawn(async move {
        while let Some((mut outcomes, committed)) = receiver.recv().await {
            while outcomes.len() > TOLD_TOGETHER {
                let some = (outcomes.split_off(outcomes.len() - TOLD_TOGETHER), committed.clone());
                tokio::spawn(async move { tell(some) });
            }
            tell((outcomes, committed));
        }
    });
    // Where the tasks are gone, so are those that waited.
    Box::new(move |told| drop(sender.send(told)))
}

fn write_all(
    mut connection: Connection,
    around: &Around,
    mut queue: mpsc::Receiver<Job>,
    beside: &Mutex<Vec<Job>>,
    mut tell: impl FnMut(Told),
) {
    let lying = || beside.lock().map(|mut beside| std::mem::take(&mut *beside)).unwrap_or_default();
    while let Some(first) = queue.blocking_recv() {
        let mut batch = vec![first];
        while batch.len() < BATCH
            && let Ok(job) = queue.try_recv()
        {
            batch.push(job);
        }
        batch.extend(lying());
        tell(commit(&mut connection, around, batch));
    }
    let last = lying();
    if !last.is_empty() {
        tell(commit(&mut connection, around, last));
    }
    if let Err(error) = connection.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)") {
        tracing::warn!(%error, "the last checkpoint failed; the next start does it");
    }
}

fn commit(connection: &mut Connection, around: &Around, batch: Vec<Job>) -> Told {
    let Around { remembered, health, feed } = around;
    let mut outcomes = Vec::with_capacity(batch.len());
    // An empty commit succeeds on a full disk too.
    let changed = |connection: &Connection| connection.query_row("SELECT total_changes()", [], |row| row.get::<_, i64>(0)).ok();
    let before = health.failing().map(|_| changed(connection));
    let committed = run(connection, remembered, batch, &mut outcomes);
    match &committed {
        Err(error) => {
            remembered.forget();
            health.failed(error);
        }
        Ok(()) if before.is_some_and(|before| before != changed(connection)) => health.wrote(),
        Ok(()) => {}
    }
    feed.publish(connection);
    (outcomes, committed)
}

fn run(connection: &mut Connection, remembered: &Remembered, batch: Vec<Job>, outcomes: &mut Vec<Outcome>) -> Result<(), RecordsError> {
    let (transaction, mut broken) = match connection.transaction() {
        Ok(transaction) => (Some(transaction), None),
        Err(error) => (None, Some(RecordsError::from(error))),
    };
    for job in batch {
        let result = run_one(transaction.as_ref(), remembered, &broken, job, outcomes);
        // A savepoint that cannot be set or released means that SQLite has rolled the whole transaction back, as on a full disk.
        broken = broken.or(result.err());
    }
    match (transaction, broken) {
        (Some(transaction), None) => {
            remembered.write_down(&transaction)?;
            Ok(transaction.commit()?)
        }
        (_, broken) => Err(broken.unwrap_or_else(|| RecordsError("no transaction".into()))),
    }
}

/// Runs a job inside a savepoint of its own where it wants one, so that a job that fails takes nothing of the others with it.
fn run_one(
    transaction: Option<&Transaction<'_>>,
    remembered: &Remembered,
    broken: &Option<RecordsError>,
    job: Job,
    outcomes: &mut Vec<Outcome>,
) -> Result<(), RecordsError> {
    let begun = match (transaction, broken.as_ref()) {
        (Some(transaction), None) if job.alone => remembered
            .write_down(transaction)
            .and_then(|()| step(transaction, "SAVEPOINT job").map_err(RecordsError::from))
            .map(|()| transaction),
        (Some(transaction), None) => Ok(transaction),
        (_, why) => Err(why.cloned().unwrap_or_else(|| RecordsError("no transaction".into()))),
    };
    let (result, outcome) = (job.run)(begun.clone());
    outcomes.push(outcome);
    let transaction = begun?;
    if !job.alone {
        return result;
    }
    if result.is_err() {
        remembered.forget_job();
        step(transaction, "ROLLBACK TO job")?;
    }
    Ok(step(transaction, "RELEASE job")?)
}

/// Runs a statement that is needed for every job, parsed once.
fn step(transaction: &Transaction<'_>, statement: &str) -> rusqlite::Result<()> {
    transaction.prepare_cached(statement)?.execute([]).map(|_| ())
}

/// Moves the log into the file aside from the writer, so that no commit has to wait for it.
fn checkpoint(connection: &Connection, stop: &AtomicBool) {
    let step = Duration::from_millis(100);
    let mut waited = Duration::ZERO;
    while !stop.load(Ordering::Relaxed) {
        std::thread::sleep(step);
        waited += step;
        if waited >= CHECKPOINT_EVERY {
            waited = Duration::ZERO;
            if let Err(error) = connection.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(())) {
                tracing::debug!(%error, "a checkpoint did not run; the next one will");
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::records::{Records, Sync};

    #[tokio::test(flavor = "multi_thread")]
    async fn a_job_that_fails_takes_nothing_of_its_commit_with_it() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Full).unwrap();
        let good = |key: u8| records.write(move |transaction| transaction.execute("INSERT INTO marks VALUES (?1, 1)", [vec![key]]));
        let bad = records.write(|transaction| {
            transaction.execute("INSERT INTO marks VALUES (x'63', 1)", [])?;
            transaction.execute("INSERT INTO no_such_table VALUES (1)", [])
        });
        let (first, failed, second) = tokio::join!(good(1), bad, good(2));
        assert!(first.is_ok() && second.is_ok());
        assert!(failed.unwrap_err().to_string().contains("no_such_table"));
        let keys: Vec<Vec<u8>> = records
            .read(|connection| connection.prepare("SELECT key FROM marks ORDER BY key")?.query_map([], |row| row.get(0))?.collect())
            .await
            .unwrap();
        assert_eq!(keys, [vec![1], vec![2]]);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_nobody_waits_for_gives_way_when_the_writer_cannot_keep_up() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let (open, gate) = std::sync::mpsc::channel::<()>();
        // Holds the writer until everything is handed over.
        assert!(records.post(move |_| gate.recv().map_err(|_| rusqlite::Error::InvalidQuery), || {}));
        let handed: Vec<bool> = (0..20_000).map(|_| records.post(|_| Ok(()), || {})).collect();
        assert!(handed[0] && !handed[19_999], "the queue has a bound, and room is kept for what is waited for");
        let waited = records.write(|_| Ok(7));
        open.send(()).unwrap();
        assert_eq!(waited.await.unwrap(), 7);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_fails_after_a_commit_keeps_nobody_else_from_hearing_of_it() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for turn in 0..3u32 {
            records.post(|_| Ok(()), || panic!("as it is meant to"));
            assert_eq!(records.write(move |_| Ok(turn)).await.unwrap(), turn);
        }
    }

    #[tokio::test]
    async fn after_the_end_a_write_is_refused_and_what_was_handed_over_is_there() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for key in 0..100u8 {
            records.post(move |transaction| transaction.execute("INSERT INTO marks VALUES (?1, 1)", [vec![key]]).map(|_| ()), || {});
        }
        records.close().await;
        assert!(records.write(|_| Ok(())).await.is_err());
        let again = Records::open(folder.path(), Sync::Off).unwrap();
        let kept: i64 = again.read_now(|connection| connection.query_row("SELECT count(*) FROM marks", [], |row| row.get(0))).unwrap();
        assert_eq!(kept, 100);
    }
}
