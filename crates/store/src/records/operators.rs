//! Operators with their roles, tokens (hashes only) and console passwords, and small values of the records themselves.

use super::{Changed, Records, RecordsError};
use bivector_api::operators::Role;
use bivector_model::Moment;
use rusqlite::{OptionalExtension, Row, params};

/// An operator as kept.
#[derive(Debug, Clone)]
pub struct OperatorRow {
    /// The name.
    pub name: String,
    /// What the operator may do.
    pub role: Role,
    /// Hash of the console password, where one is set.
    pub password: Option<String>,
    /// Sealed seed of the console's one-time code.
    pub seed: Option<Vec<u8>>,
    /// When the operator was added, in microseconds since 1970.
    pub created_us: u64,
}

/// An operator's token as kept.
#[derive(Debug, Clone)]
pub struct TokenRow {
    /// Hash of the token.
    pub hash: Vec<u8>,
    /// Whose it is.
    pub operator: String,
    /// What it is for.
    pub label: String,
}

impl Records {
    /// Adds an operator. Gives `false` where there is one of that name.
    pub async fn add_operator(&self, name: String, role: Role, now: Moment) -> Result<bool, RecordsError> {
        self.write_facts(
            move |transaction| {
                let added = transaction.execute(
                    "INSERT OR IGNORE INTO operators VALUES (?1, ?2, NULL, NULL, ?3)",
                    params![name, role.word(), now.micros() as i64],
                )?;
                Ok(added == 1)
            },
            |done| if *done { vec![Changed::Operators] } else { Vec::new() },
        )
        .await
    }

    /// Gives an operator another role, or takes the operator out. Gives `false`, and changes nothing, where nobody would own the service then.
    pub async fn change_operator(&self, name: String, role: Option<Role>) -> Result<bool, RecordsError> {
        self.write_facts(
            move |transaction| {
                let others: i64 =
                    transaction.query_row("SELECT count(*) FROM operators WHERE role = 'own' AND name <> ?1", [&name], |row| row.get(0))?;
                if others == 0 && role != Some(Role::Own) {
                    return Ok(false);
                }
                match role {
                    Some(role) => transaction.execute("UPDATE operators SET role = ?2 WHERE name = ?1", params![name, role.word()])?,
                    None => transaction.execute("DELETE FROM operators WHERE name = ?1", [name])?,
                };
                Ok(true)
            },
            |done| if *done { vec![Changed::Operators] } else { Vec::new() },
        )
        .await
    }

    /// Sets an operator's console password and the seed of the code beside it.
    pub async fn set_sign_in(&self, name: String, password: String, seed: Vec<u8>) -> Result<(), RecordsError> {
        self.write_facts(
            move |transaction| {
                transaction.execute("UPDATE operators SET password = ?2, seed = ?3 WHERE name = ?1", params![name, password, seed])?;
                Ok(())
            },
            |_| vec![Changed::Operators],
        )
        .await
    }

    /// Adds a token. Gives `false` where the operator has one of that label.
    pub async fn add_token(&self, token: TokenRow, now: Moment) -> Result<bool, RecordsError> {
        self.write_facts(
            move |transaction| {
                let added = transaction.execute(
                    "INSERT OR IGNORE INTO tokens VALUES (?1, ?2, ?3, ?4)",
                    params![token.hash, token.operator, token.label, now.micros() as i64],
                )?;
                Ok(added == 1)
            },
            |done| if *done { vec![Changed::Operators] } else { Vec::new() },
        )
        .await
    }

    /// Takes a token out. Gives `false` where there is none.
    pub async fn drop_token(&self, operator: String, label: String) -> Result<bool, RecordsError> {
        self.write_facts(
            move |transaction| {
                Ok(transaction.execute("DELETE FROM tokens WHERE operator = ?1 AND label = ?2", params![operator, label])? == 1)
            },
            |done| if *done { vec![Changed::Operators] } else { Vec::new() },
        )
        .await
    }

    /// All operators by name.
    pub fn operators(&self) -> Result<Vec<OperatorRow>, RecordsError> {
        self.read_now(|connection| {
            let row = |row: &Row<'_>| {
                Ok(OperatorRow {
                    name: row.get(0)?,
                    role: Role::read(&row.get::<_, String>(1)?),
                    password: row.get(2)?,
                    seed: row.get(3)?,
                    created_us: row.get::<_, i64>(4)? as u64,
                })
            };
            connection.prepare("SELECT name, role, password, seed, created_us FROM operators ORDER BY name")?.query_map([], row)?.collect()
        })
    }

    /// All tokens.
    pub fn tokens(&self) -> Result<Vec<TokenRow>, RecordsError> {
        self.read_now(|connection| {
            let row = |row: &Row<'_>| Ok(TokenRow { hash: row.get(0)?, operator: row.get(1)?, label: row.get(2)? });
            connection.prepare("SELECT hash, operator, label FROM tokens ORDER BY created_us")?.query_map([], row)?.collect()
        })
    }

    /// A value kept under a key.
    pub fn meta(&self, key: &'static str) -> Result<Option<Vec<u8>>, RecordsError> {
        self.read_now(|connection| connection.query_row("SELECT value FROM meta WHERE key = ?1", [key], |row| row.get(0)).optional())
    }

    /// Keeps a value under a key; `None` takes it out.
    pub async fn set_meta(&self, key: &'static str, value: Option<Vec<u8>>) -> Result<(), RecordsError> {
        self.write(move |transaction| match value {
            Some(value) => transaction.execute("INSERT OR REPLACE INTO meta VALUES (?1, ?2)", params![key, value]).map(|_| ()),
            None => transaction.execute("DELETE FROM meta WHERE key = ?1", [key]).map(|_| ()),
        })
        .await
    }
}
