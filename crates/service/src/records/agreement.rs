//! What several nodes would have to agree on, behind one narrow interface. This node keeps it in its own records.

use super::{Records, RecordsError};
use bivector_core::Moment;
use rusqlite::params;

/// Atomic operations on shared marks. Nothing else in the service may keep such state on its own.
#[derive(Debug, Clone)]
pub struct Agreement {
    records: Records,
}

/// Marks that have ended and are taken out beside a new one: keeps the table from growing without a sweep of its own.
const SWEPT_BESIDE: u32 = 4;

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
        self.records
            .write(move |transaction| {
                transaction
                    .prepare_cached(
                        "DELETE FROM marks WHERE key IN (SELECT key FROM marks WHERE until_us < ?1 ORDER BY until_us LIMIT ?2)",
                    )?
                    .execute(params![now.micros() as i64, SWEPT_BESIDE])?;
                let put = transaction
                    .prepare_cached("INSERT OR IGNORE INTO marks VALUES (?1, ?2)")?
                    .execute(params![key, until.micros() as i64])?;
                Ok(put == 1)
            })
            .await
    }
}
