//! The audit: every change with who, from where and what, each row chained to the one before by its hash.

use super::{Records, RecordsError};
use crate::seal::Seal;
use bivector_api::audit::{AuditRow, AuditVerdict};
use bivector_model::Moment;
use rusqlite::{Connection, OptionalExtension, Row, params};
use sha2::{Digest, Sha256};
use std::sync::Arc;

/// Key of the sealed head, and what it is sealed for: whoever cuts the newest rows off cannot make another.
const HEAD: &str = "audit-head";

/// Something to write into the audit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deed {
    /// Who.
    pub operator: String,
    /// From which address.
    pub sender: String,
    /// What was done.
    pub what: &'static str,
    /// To what.
    pub detail: String,
}

impl Records {
    /// Writes a row.
    pub async fn add_deed(&self, deed: Deed, seal: Arc<Seal>, now: Moment) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            let last: Option<(i64, Vec<u8>)> = transaction
                .query_row("SELECT number, hash FROM audit ORDER BY number DESC LIMIT 1", [], |row| Ok((row.get(0)?, row.get(1)?)))
                .optional()?;
            let (number, before) = last.map_or((1, Vec::new()), |(number, hash)| (number + 1, hash));
            let at = now.micros() as i64;
            let hash = chained(&before, number, at, [&deed.operator, &deed.sender, deed.what, &deed.detail]);
            transaction.execute(
                "INSERT INTO audit VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![number, at, deed.operator, deed.sender, deed.what, deed.detail, hash],
            )?;
            let head = seal.seal(HEAD, &[number.to_be_bytes().as_slice(), &hash].concat());
            transaction.execute("INSERT OR REPLACE INTO meta VALUES (?1, ?2)", params![HEAD, head])?;
            Ok(())
        })
        .await
    }

    /// Rows, newest first.
    pub async fn audit(&self, before: Option<u64>, limit: u32) -> Result<Vec<AuditRow>, RecordsError> {
        self.read(move |connection| {
            connection
                .prepare(
                    "SELECT number, at_us, operator, sender, what, detail, hash FROM audit WHERE number < ?1 ORDER BY number DESC LIMIT ?2",
                )?
                .query_map(params![before.map_or(i64::MAX, |before| before as i64), limit], audit_row)?
                .collect()
        })
        .await
    }

    /// Computes the chain anew and compares.
    pub async fn verify_audit(&self, seal: Arc<Seal>) -> Result<AuditVerdict, RecordsError> {
        self.read(move |connection| verify(connection, &seal)).await
    }
}

fn verify(connection: &Connection, seal: &Seal) -> rusqlite::Result<AuditVerdict> {
    let (mut before, mut rows, mut broken) = (Vec::new(), 0, None);
    let mut statement = connection.prepare("SELECT number, at_us, operator, sender, what, detail, hash FROM audit ORDER BY number")?;
    let mut found = statement.query([])?;
    while let Some(row) = found.next()? {
        let number: i64 = row.get(0)?;
        rows += 1;
        let texts: [String; 4] = [row.get(2)?, row.get(3)?, row.get(4)?, row.get(5)?];
        let hash: Vec<u8> = row.get(6)?;
        if broken.is_none() && number != rows {
            broken = Some(format!("row {rows} is missing"));
        }
        if broken.is_none() && chained(&before, number, row.get(1)?, texts.each_ref().map(String::as_str)) != hash {
            broken = Some(format!("row {number} was changed, or one before it"));
        }
        before = hash;
    }
    let sealed: Option<Vec<u8>> = connection.query_row("SELECT value FROM meta WHERE key = ?1", [HEAD], |row| row.get(0)).optional()?;
    let head = sealed.and_then(|sealed| seal.open(HEAD, &sealed).ok()).map(|head| head.expose().clone()).unwrap_or_default();
    if broken.is_none() && rows > 0 && head != [rows.to_be_bytes().as_slice(), &before].concat() {
        broken = Some(format!("rows behind {rows} were cut off, or the newest one was replaced"));
    }
    Ok(AuditVerdict { rows: rows as u64, head: hex(&before), broken })
}

/// Lengths stand before the texts, so that no two rows give the same bytes.
fn chained(before: &[u8], number: i64, at: i64, texts: [&str; 4]) -> Vec<u8> {
    let mut hash = Sha256::new().chain_update(before).chain_update(number.to_be_bytes()).chain_update(at.to_be_bytes());
    for text in texts {
        hash = hash.chain_update((text.len() as u64).to_be_bytes()).chain_update(text);
    }
    hash.finalize().to_vec()
}

fn hex(bytes: &[u8]) -> String {
    data_encoding::HEXLOWER.encode(bytes)
}

fn audit_row(row: &Row<'_>) -> rusqlite::Result<AuditRow> {
    Ok(AuditRow {
        number: row.get::<_, i64>(0)? as u64,
        at_us: row.get::<_, i64>(1)? as u64,
        operator: row.get(2)?,
        sender: row.get(3)?,
        what: row.get(4)?,
        detail: row.get(5)?,
        hash: hex(&row.get::<_, Vec<u8>>(6)?),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::Sync;

    #[tokio::test(flavor = "multi_thread")]
    async fn a_changed_a_missing_and_a_cut_off_row_are_each_found() {
        let damages = [
            ("UPDATE audit SET detail = 'revision 9' WHERE number = 2", Some("row 2 was changed")),
            ("DELETE FROM audit WHERE number = 2", Some("row 2 is missing")),
            ("DELETE FROM audit WHERE number = 3", Some("rows behind 2 were cut off")),
            ("UPDATE audit SET operator = operator || sender, sender = '' WHERE number = 1", Some("row 1 was changed")),
            ("SELECT 1", None),
        ];
        for (damage, wanted) in damages {
            let folder = tempfile::tempdir().unwrap();
            let seal = Arc::new(Seal::load(&folder.path().join("seal.key"), true).unwrap());
            let records = Records::open(folder.path(), Sync::Off).unwrap();
            for number in 1..=3 {
                let deed =
                    Deed { operator: "owner".into(), sender: "127.0.0.1".into(), what: "site.apply", detail: format!("revision {number}") };
                records.add_deed(deed, Arc::clone(&seal), Moment::from_secs(number)).await.unwrap();
            }
            records.write(move |transaction| transaction.execute_batch(damage)).await.unwrap();
            let verdict = records.verify_audit(seal).await.unwrap();
            assert_eq!(verdict.broken.as_deref().map(|why| why.split(',').next().unwrap_or_default()), wanted, "{damage}: {verdict:?}");
        }
    }
}
