//! Knocks: packets that got no answer, by sender and reason.

use super::{Records, RecordsError};
use bivector_api::knocks::Knock;
use rusqlite::{Row, Transaction, params};
use serde::de::DeserializeOwned;

/// Senders and causes of knocks that are kept.
const KNOCKS_KEPT: u32 = 10_000;

impl Records {
    /// All knocks, latest first.
    pub async fn knocks(&self) -> Result<Vec<Knock>, RecordsError> {
        self.read(|connection| {
            connection
                .prepare(
                    "SELECT sender, cause, gateway, count, first_us, last_us, said, guess FROM knocks ORDER BY last_us DESC LIMIT 1000",
                )?
                .query_map([], |row| {
                    Ok(Knock {
                        sender: row.get(0)?,
                        cause: word(row, 1)?,
                        gateway: row.get(2)?,
                        count: row.get::<_, i64>(3)? as u64,
                        first_us: row.get::<_, i64>(4)? as u64,
                        last_us: row.get::<_, i64>(5)? as u64,
                        said: row.get(6)?,
                        guess: row.get::<_, Option<String>>(7)?.and_then(|guess| serde_json::from_str(&guess).ok()),
                    })
                })?
                .collect()
        })
        .await
    }
}

/// Counts a knock.
pub fn insert_knock(transaction: &Transaction<'_>, knock: &Knock) -> rusqlite::Result<()> {
    transaction
        .prepare_cached(
            "INSERT INTO knocks VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8) ON CONFLICT (sender, cause) DO UPDATE SET
             count = count + excluded.count, last_us = excluded.last_us, said = excluded.said, gateway = excluded.gateway, guess = coalesce(excluded.guess, guess)",
        )?
        .execute(params![
            knock.sender,
            knock.cause.slug(),
            knock.gateway,
            knock.count as i64,
            knock.first_us as i64,
            knock.last_us as i64,
            knock.said,
            knock.guess.as_ref().and_then(|guess| serde_json::to_string(guess).ok()),
        ])?;
    // Addresses can be made up, so their number has a bound; the ones not seen for longest go first.
    transaction
        .prepare_cached("DELETE FROM knocks WHERE last_us < (SELECT last_us FROM knocks ORDER BY last_us DESC LIMIT 1 OFFSET ?1)")?
        .execute([KNOCKS_KEPT])?;
    Ok(())
}

/// Reads an enum by the name that JSON gives it.
fn word<T: DeserializeOwned>(row: &Row<'_>, column: usize) -> rusqlite::Result<T> {
    let text: String = row.get(column)?;
    serde_json::from_value(serde_json::Value::String(text))
        .map_err(|error| rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(error)))
}
