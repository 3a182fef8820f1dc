//! Marks, and sealed values that are taken once: the tables behind the node's own [`crate::agreement::Agreement`].

use super::{Records, RecordsError};
use crate::agreement::{TOOK, Took};
use bivector_model::Moment;
use rusqlite::{OptionalExtension, Transaction, params};

/// Expired rows that are deleted beside a new one: keeps the tables from growing without a sweep of their own.
const SWEPT_BESIDE: u32 = 4;
/// Marks are swept beside one in so many new ones, as many times over.
const MARKS_SWEPT_EVERY: u8 = 16;

impl Records {
    /// See [`crate::agreement::Agreement::mark`].
    pub(crate) async fn mark(&self, key: Vec<u8>, until: Moment, now: Moment) -> Result<bool, RecordsError> {
        self.write_together(move |transaction| put(transaction, &key, until.micros() as i64, now.micros() as i64)).await
    }

    /// See [`crate::agreement::Agreement::store`].
    pub(crate) async fn store_once(&self, key: Vec<u8>, sealed: Vec<u8>, until: Moment, now: Moment) -> Result<(), RecordsError> {
        self.write_together(move |transaction| {
            transaction
                .prepare_cached(
                    "DELETE FROM challenges WHERE key IN (SELECT key FROM challenges WHERE until_us < ?1 ORDER BY until_us LIMIT ?2)",
                )?
                .execute(params![now.micros() as i64, SWEPT_BESIDE])?;
            let values = params![key, sealed, until.micros() as i64];
            transaction.prepare_cached("INSERT OR REPLACE INTO challenges VALUES (?1, ?2, ?3)")?.execute(values).map(drop)
        })
        .await
    }

    /// See [`crate::agreement::Agreement::take`].
    pub(crate) async fn take_once(&self, key: Vec<u8>, now: Moment) -> Result<Took, RecordsError> {
        self.write_together(move |transaction| {
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
}

/// Puts a mark unless it is there, and from time to time deletes those that have expired.
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
    async fn marks_outlive_a_restart() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Full).unwrap();
        assert!(records.mark(vec![7], Moment::from_secs(1_900_000_000), NOON).await.unwrap());
        records.close().await;
        let records = Records::open(folder.path(), Sync::Full).unwrap();
        assert!(!records.mark(vec![7], NOON, NOON).await.unwrap());
    }

    #[tokio::test]
    async fn marks_that_have_expired_are_deleted_beside_new_ones() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for key in 0..20u8 {
            records.mark(vec![key], Moment::from_secs(10), Moment::from_secs(1)).await.unwrap();
        }
        for key in 100..116u8 {
            records.mark(vec![key], NOON, Moment::from_secs(100)).await.unwrap();
        }
        let left: i64 = records.read(|connection| connection.query_row("SELECT count(*) FROM marks", [], |row| row.get(0))).await.unwrap();
        assert_eq!(left, 16);
    }
}
