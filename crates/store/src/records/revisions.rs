//! Revisions of the site, and sealed secrets.

use super::{Changed, Records, RecordsError};
use bivector_api::site::{Revision, SecretRow};
use bivector_model::Moment;
use rusqlite::{OptionalExtension, Row, params};
use std::collections::BTreeMap;

/// A secret, still sealed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SealedSecret {
    /// The value in use.
    pub current: Vec<u8>,
    /// The value that will be, while both count.
    pub next: Option<Vec<u8>>,
}

impl Records {
    /// Keeps a revision and gives its number.
    pub async fn add_revision(&self, text: String, operator: String, note: String, now: Moment) -> Result<u64, RecordsError> {
        self.write_facts(
            move |transaction| {
                transaction.execute(
                    "INSERT INTO revisions (applied_us, operator, note, text) VALUES (?1, ?2, ?3, ?4)",
                    params![now.micros() as i64, operator, note, text],
                )?;
                Ok(transaction.last_insert_rowid() as u64)
            },
            |_| vec![Changed::Revision],
        )
        .await
    }

    /// The newest revision, if there is one.
    pub fn newest_revision(&self) -> Result<Option<Revision>, RecordsError> {
        self.read_now(|connection| {
            connection
                .query_row("SELECT number, applied_us, operator, note, text FROM revisions ORDER BY number DESC LIMIT 1", [], revision)
                .optional()
        })
    }

    /// All revisions, newest first, without their texts.
    pub async fn revisions(&self) -> Result<Vec<Revision>, RecordsError> {
        self.read(|connection| {
            connection
                .prepare("SELECT number, applied_us, operator, note, NULL FROM revisions ORDER BY number DESC LIMIT 1000")?
                .query_map([], revision)?
                .collect()
        })
        .await
    }

    /// One revision with its text.
    pub async fn revision(&self, number: u64) -> Result<Option<Revision>, RecordsError> {
        self.read(move |connection| {
            connection
                .query_row("SELECT number, applied_us, operator, note, text FROM revisions WHERE number = ?1", [number as i64], revision)
                .optional()
        })
        .await
    }

    /// Keeps a sealed secret, replacing an older one of that name.
    pub async fn set_secret(&self, name: String, sealed: Vec<u8>, operator: String, now: Moment) -> Result<(), RecordsError> {
        self.write_facts(
            move |transaction| {
                transaction.execute(
                    "INSERT OR REPLACE INTO secrets VALUES (?1, ?2, ?3, ?4, NULL, NULL)",
                    params![name, sealed, now.micros() as i64, operator],
                )?;
                Ok(())
            },
            |_| vec![Changed::Secrets],
        )
        .await
    }

    /// Keeps the next value of a secret beside the one in use. Gives `false` where there is no such secret.
    pub async fn set_next_secret(&self, name: String, sealed: Vec<u8>, now: Moment) -> Result<bool, RecordsError> {
        self.write_facts(
            move |transaction| {
                let changed = transaction
                    .execute("UPDATE secrets SET next = ?2, next_us = ?3 WHERE name = ?1", params![name, sealed, now.micros() as i64])?;
                Ok(changed == 1)
            },
            |done| if *done { vec![Changed::Secrets] } else { Vec::new() },
        )
        .await
    }

    /// Retires the value in use: the next one takes its place. Gives `false` where there is no next one.
    pub async fn retire_secret(&self, name: String, operator: String, now: Moment) -> Result<bool, RecordsError> {
        self.write_facts(move |transaction| {
            let changed = transaction.execute(
                "UPDATE secrets SET sealed = next, next = NULL, next_us = NULL, set_us = ?2, operator = ?3 WHERE name = ?1 AND next IS NOT NULL",
                params![name, now.micros() as i64, operator],
            )?;
            Ok(changed == 1)
        }, |done| if *done { vec![Changed::Secrets] } else { Vec::new() })
        .await
    }

    /// Forgets a secret. Gives `false` where there is none of that name.
    pub async fn forget_secret(&self, name: String) -> Result<bool, RecordsError> {
        self.write_facts(
            move |transaction| Ok(transaction.execute("DELETE FROM secrets WHERE name = ?1", params![name])? == 1),
            |done| if *done { vec![Changed::Secrets] } else { Vec::new() },
        )
        .await
    }

    /// All sealed secrets by name, still sealed.
    pub fn sealed_secrets(&self) -> Result<BTreeMap<String, SealedSecret>, RecordsError> {
        self.read_now(|connection| {
            let row = |row: &Row<'_>| Ok((row.get(0)?, SealedSecret { current: row.get(1)?, next: row.get(2)? }));
            connection.prepare("SELECT name, sealed, next FROM secrets")?.query_map([], row)?.collect()
        })
    }

    /// Names of all sealed secrets.
    pub async fn secrets(&self) -> Result<Vec<SecretRow>, RecordsError> {
        self.read(|connection| {
            let row = |row: &Row<'_>| {
                Ok(SecretRow {
                    name: row.get(0)?,
                    set_us: row.get::<_, i64>(1)? as u64,
                    operator: row.get(2)?,
                    next_us: row.get::<_, Option<i64>>(3)?.map(|at| at as u64),
                    uses: Vec::new(),
                })
            };
            connection.prepare("SELECT name, set_us, operator, next_us FROM secrets ORDER BY name")?.query_map([], row)?.collect()
        })
        .await
    }
}

fn revision(row: &Row<'_>) -> rusqlite::Result<Revision> {
    Ok(Revision {
        number: row.get::<_, i64>(0)? as u64,
        applied_us: row.get::<_, i64>(1)? as u64,
        operator: row.get(2)?,
        note: row.get(3)?,
        text: row.get(4)?,
    })
}
