//! Sign-ins to the console, and sign-ins of people and handsets that have ended before their time.

use super::{Changed, Records, RecordsError};
use bivector_model::Moment;
use rusqlite::params;
use std::collections::HashSet;

/// A sign-in of an operator as kept; of its cookie only the hash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignInRow {
    /// Hash of what the cookie holds.
    pub hash: Vec<u8>,
    /// The operator.
    pub operator: String,
    /// What it was made with.
    pub by: String,
    /// The address that it was made from.
    pub from: String,
    /// When, in microseconds since 1970.
    pub created_us: u64,
    /// Until when it lasts.
    pub until_us: u64,
}

impl Records {
    /// Sign-ins of operators that have not ended.
    pub fn sign_ins(&self, now: Moment) -> Result<Vec<SignInRow>, RecordsError> {
        self.read_now(|connection| {
            let mut statement =
                connection.prepare("SELECT hash, operator, made_by, made_from, created_us, until_us FROM sign_ins WHERE until_us > ?1")?;
            let rows = statement.query_map([now.micros().cast_signed()], |row| {
                Ok(SignInRow {
                    hash: row.get(0)?,
                    operator: row.get(1)?,
                    by: row.get(2)?,
                    from: row.get(3)?,
                    created_us: row.get::<_, i64>(4)?.cast_unsigned(),
                    until_us: row.get::<_, i64>(5)?.cast_unsigned(),
                })
            })?;
            rows.collect()
        })
    }

    /// Keeps a sign-in, and takes out those that are over.
    pub async fn keep_sign_in(&self, row: SignInRow) -> Result<(), RecordsError> {
        self.write_facts(
            move |transaction| {
                transaction.execute("DELETE FROM sign_ins WHERE until_us <= ?1", [row.created_us.cast_signed()])?;
                let values = params![row.hash, row.operator, row.by, row.from, row.created_us.cast_signed(), row.until_us.cast_signed()];
                transaction.execute("INSERT INTO sign_ins VALUES (?1, ?2, ?3, ?4, ?5, ?6)", values).map(drop)
            },
            |_| vec![Changed::Operators],
        )
        .await
    }

    /// Takes sign-ins out.
    pub async fn forget_sign_ins(&self, hashes: Vec<Vec<u8>>) -> Result<(), RecordsError> {
        self.write_facts(
            move |transaction| {
                hashes.iter().try_for_each(|hash| transaction.execute("DELETE FROM sign_ins WHERE hash = ?1", [hash]).map(drop))
            },
            |_| vec![Changed::Operators],
        )
        .await
    }

    /// Sign-ins of people and handsets that have ended and would still last.
    pub fn ended_sign_ins(&self, now: Moment) -> Result<HashSet<[u8; 16]>, RecordsError> {
        self.read_now(|connection| {
            let mut statement = connection.prepare("SELECT id FROM ended_sign_ins WHERE until_us > ?1")?;
            let ids = statement.query_map([now.micros().cast_signed()], |row| row.get::<_, [u8; 16]>(0))?;
            ids.collect()
        })
    }

    /// Keeps that a sign-in has ended, and takes out what is over.
    pub async fn keep_ended_sign_in(&self, id: [u8; 16], until: Moment, now: Moment) -> Result<(), RecordsError> {
        self.write_facts(
            move |transaction| {
                transaction.execute("DELETE FROM ended_sign_ins WHERE until_us <= ?1", [now.micros().cast_signed()])?;
                transaction
                    .execute("INSERT OR REPLACE INTO ended_sign_ins VALUES (?1, ?2)", params![id, until.micros().cast_signed()])
                    .map(drop)
            },
            |_| vec![Changed::Operators],
        )
        .await
    }
}
