//! What several nodes would have to agree on, behind one narrow interface. This node keeps it in its own records.

use super::{Records, RecordsError};
use bivector_model::Moment;
use rusqlite::{OptionalExtension, Transaction, params};

/// Atomic operations on shared marks. Nothing else in the service may keep such state on its own.
#[derive(Debug, Clone)]
pub struct Agreement {
    pub(super) records: Records,
}

/// What has ended and is taken out beside something new: keeps the tables from growing without a sweep of their own.
const SWEPT_BESIDE: u32 = 4;
/// Marks are swept beside one in so many new ones, as many times over.
const MARKS_SWEPT_EVERY: u8 = 16;

impl Agreement {
    /// Over these records.
    pub fn new(records: Records) -> Self {
        Agreement { records }
    }

    /// Puts `key` unless it is there already; `true` if it was put. Durable when it returns; kept at least until `until`.
    ///
    /// A key that has ended but is still there counts as there: for used codes that errs on the safe side.
    ///
    /// # Errors
    /// The mark could not be written. Then nothing may be decided on it.
    pub async fn put_if_absent(&self, key: Vec<u8>, until: Moment, now: Moment) -> Result<bool, RecordsError> {
        self.records.write_together(move |transaction| put(transaction, &key, until.micros() as i64, now.micros() as i64)).await
    }

    /// Keeps a sealed value under `key` until it is taken once, or until `until`. Durable when it returns.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn keep(&self, key: Vec<u8>, sealed: Vec<u8>, until: Moment, now: Moment) -> Result<(), RecordsError> {
        self.records
            .write_together(move |transaction| {
                transaction
                    .prepare_cached(
                        "DELETE FROM challenges WHERE key IN (SELECT key FROM challenges WHERE until_us < ?1 ORDER BY until_us LIMIT ?2)",
                    )?
                    .execute(params![now.micros() as i64, SWEPT_BESIDE])?;
                transaction.prepare_cached("INSERT OR IGNORE INTO challenges VALUES (?1, ?2, ?3)")?.execute(params![
                    key,
                    sealed,
                    until.micros() as i64
                ])?;
                Ok(())
            })
            .await
    }

    /// Takes what was kept under `key`: of any number of takers exactly one gets it.
    ///
    /// # Errors
    /// The records could not say.
    pub async fn take(&self, key: Vec<u8>, now: Moment) -> Result<Took, RecordsError> {
        self.records
            .write_together(move |transaction| {
                let kept: Option<(Vec<u8>, i64)> = transaction
                    .prepare_cached("DELETE FROM challenges WHERE key = ?1 RETURNING sealed, until_us")?
                    .query_row(params![key], |row| Ok((row.get(0)?, row.get(1)?)))
                    .optional()?;
                let mark = [TOOK, key.as_slice()].concat();
                if let Some((sealed, until)) = kept {
                    put(transaction, &mark, until, now.micros() as i64)?;
                    return Ok(Took::Value(sealed));
                }
                let before = transaction.prepare_cached("SELECT 1 FROM marks WHERE key = ?1")?.exists(params![mark])?;
                Ok(if before { Took::Before } else { Took::Never })
            })
            .await
    }

    /// Notes that something with this name was taken; `false` if it was before. Kept until `until`.
    ///
    /// # Errors
    /// The records could not say.
    pub async fn take_once(&self, name: &[u8], until: Moment, now: Moment) -> Result<bool, RecordsError> {
        self.put_if_absent([TOOK, name].concat(), until, now).await
    }
}

/// What a taker finds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Took {
    /// This was kept.
    Value(Vec<u8>),
    /// Somebody took it before.
    Before,
    /// Nothing was ever kept there, or so long ago that nothing is left of it.
    Never,
}

/// Before the name of what was taken.
const TOOK: &[u8] = b"took";

/// Puts a mark unless it is there, and from time to time takes out those that have ended.
pub(super) fn put(transaction: &Transaction<'_>, key: &[u8], until_us: i64, now_us: i64) -> rusqlite::Result<bool> {
    // Keys end in steps of time or in random bytes, so about one in so many does it.
    if key.last().is_none_or(|last| last.is_multiple_of(MARKS_SWEPT_EVERY)) {
        transaction
            .prepare_cached("DELETE FROM marks WHERE key IN (SELECT key FROM marks WHERE until_us < ?1 ORDER BY until_us LIMIT ?2)")?
            .execute(params![now_us, SWEPT_BESIDE * u32::from(MARKS_SWEPT_EVERY)])?;
    }
    Ok(transaction.prepare_cached("INSERT OR IGNORE INTO marks VALUES (?1, ?2)")?.execute(params![key, until_us])? == 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::Sync;

    const NOON: Moment = Moment::from_secs(1_800_000_000);

    #[tokio::test(flavor = "multi_thread")]
    async fn of_a_hundred_at_once_exactly_one_puts_the_mark() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Full).unwrap();
        let agreement = Agreement::new(records.clone());
        let tries: Vec<_> = (0..100)
            .map(|_| agreement.clone())
            .map(|agreement| {
                tokio::spawn(async move { agreement.put_if_absent(vec![7], Moment::from_secs(1_900_000_000), NOON).await.unwrap() })
            })
            .collect();
        let mut put = 0;
        for one in tries {
            put += usize::from(one.await.unwrap());
        }
        assert_eq!(put, 1);
        records.close().await;
        let records = Records::open(folder.path(), Sync::Full).unwrap();
        assert!(!Agreement::new(records).put_if_absent(vec![7], NOON, NOON).await.unwrap(), "it is still there after a restart");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_is_kept_is_taken_by_one_and_only_once() {
        let folder = tempfile::tempdir().unwrap();
        let agreement = Agreement::new(Records::open(folder.path(), Sync::Off).unwrap());
        agreement.keep(vec![1], b"sealed".to_vec(), NOON, NOON).await.unwrap();
        let (one, two) = tokio::join!(agreement.take(vec![1], NOON), agreement.take(vec![1], NOON));
        let taken = [one.unwrap(), two.unwrap()];
        assert!(taken.contains(&Took::Value(b"sealed".to_vec())) && taken.contains(&Took::Before), "{taken:?}");
        assert_eq!(agreement.take(vec![2], NOON).await.unwrap(), Took::Never);
    }

    #[tokio::test]
    async fn marks_that_have_ended_are_taken_out_beside_new_ones() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let agreement = Agreement::new(records.clone());
        for key in 0..20u8 {
            agreement.put_if_absent(vec![key], Moment::from_secs(10), Moment::from_secs(1)).await.unwrap();
        }
        for key in 100..116u8 {
            agreement.put_if_absent(vec![key], NOON, Moment::from_secs(100)).await.unwrap();
        }
        let left: i64 = records.read(|connection| connection.query_row("SELECT count(*) FROM marks", [], |row| row.get(0))).await.unwrap();
        assert_eq!(left, 16);
    }
}
