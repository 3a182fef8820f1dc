//! Operators and their tokens (hashes only), and small values of the records themselves.

use super::{Records, RecordsError};
use bivector_core::Moment;
use rusqlite::{OptionalExtension, params};

impl Records {
    /// Adds an operator, or gives one a new token.
    pub(crate) async fn set_operator(&self, name: String, token_hash: Vec<u8>, now: Moment) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            transaction.execute("INSERT OR REPLACE INTO operators VALUES (?1, ?2, ?3)", params![name, token_hash, now.micros() as i64])?;
            Ok(())
        })
        .await
    }

    /// All operators: name and hash of the token.
    pub(crate) fn operators(&self) -> Result<Vec<(String, Vec<u8>)>, RecordsError> {
        self.read_now(|connection| {
            connection.prepare("SELECT name, token_hash FROM operators")?.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect()
        })
    }

    /// A value kept under a key.
    pub(crate) fn meta(&self, key: &'static str) -> Result<Option<Vec<u8>>, RecordsError> {
        self.read_now(|connection| connection.query_row("SELECT value FROM meta WHERE key = ?1", [key], |row| row.get(0)).optional())
    }

    /// Keeps a value under a key.
    pub(crate) async fn set_meta(&self, key: &'static str, value: Vec<u8>) -> Result<(), RecordsError> {
        self.write(move |transaction| transaction.execute("INSERT OR REPLACE INTO meta VALUES (?1, ?2)", params![key, value]).map(|_| ()))
            .await
    }
}
