//! Wrong passwords of people, as they are kept.

use super::{Records, RecordsError};
use rusqlite::params;
use std::collections::HashMap;

/// Wrong passwords about one person since the last right one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct GuessRow {
    /// How many.
    pub wrong: u32,
    /// When the last was typed, in microseconds since 1970.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
}

impl Records {
    /// Wrong passwords of all people, by the person's key.
    pub fn guesses(&self) -> Result<HashMap<String, GuessRow>, RecordsError> {
        self.read_now(|connection| {
            let mut statement = connection.prepare("SELECT person, wrong, last_us, gateway FROM guesses")?;
            let rows = statement.query_map([], |row| {
                Ok((row.get(0)?, GuessRow { wrong: row.get(1)?, last_us: row.get::<_, i64>(2)?.cast_unsigned(), gateway: row.get(3)? }))
            })?;
            rows.collect()
        })
    }

    /// Keeps the wrong passwords about a person. Durable when it returns.
    pub async fn keep_guesses(&self, person: String, row: GuessRow) -> Result<(), RecordsError> {
        self.write_together(move |transaction| {
            let values = params![person, row.wrong, row.last_us.cast_signed(), row.gateway];
            transaction.prepare_cached("INSERT OR REPLACE INTO guesses VALUES (?1, ?2, ?3, ?4)")?.execute(values).map(drop)
        })
        .await
    }

    /// Forgets the wrong passwords about a person; `false` if there were none.
    pub async fn forget_guesses(&self, person: String) -> Result<bool, RecordsError> {
        self.write_together(move |transaction| {
            Ok(transaction.prepare_cached("DELETE FROM guesses WHERE person = ?1")?.execute([person])? == 1)
        })
        .await
    }
}
