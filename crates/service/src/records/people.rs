//! People and their factors, as they are kept.

use super::{Records, RecordsError};
use bivector_core::Moment;
use bivector_core::totp::Settings;
use rusqlite::{Transaction, params};

/// A person as kept.
#[derive(Debug, Clone)]
pub struct PersonRow {
    /// Record number.
    pub id: u64,
    /// The source that knows the person: a directory's name, or `roster`.
    pub source: String,
    /// The login name there, in lower case.
    pub login: String,
    /// The name for display.
    pub name: String,
    /// The password's hash, for people of the roster.
    pub password: Option<String>,
    /// Groups, for people of the roster.
    pub groups: Vec<String>,
    /// Whether the person is kept out.
    pub disabled: bool,
    /// Factors.
    pub factors: Vec<FactorRow>,
}

/// A factor as kept.
#[derive(Debug, Clone)]
pub struct FactorRow {
    /// Record number, never used again.
    pub id: u64,
    /// `totp`.
    pub kind: String,
    /// What the person calls it.
    pub label: String,
    /// The seed, sealed.
    pub sealed: Vec<u8>,
    /// What was agreed with the device.
    pub settings: Settings,
    /// When it was added, in microseconds since 1970.
    pub created_us: u64,
}

/// A person to keep; an existing one of the same source and login is updated.
#[derive(Debug, Clone)]
pub struct NewPerson {
    /// See [`PersonRow::source`].
    pub source: String,
    /// See [`PersonRow::login`].
    pub login: String,
    /// See [`PersonRow::name`].
    pub name: String,
    /// See [`PersonRow::password`]; `None` keeps an existing one.
    pub password: Option<String>,
    /// See [`PersonRow::groups`].
    pub groups: Vec<String>,
    /// See [`PersonRow::disabled`].
    pub disabled: bool,
    /// A factor to add; one with the same label is replaced.
    pub factor: Option<NewFactor>,
}

/// A factor to keep.
#[derive(Debug, Clone)]
pub struct NewFactor {
    /// See [`FactorRow::label`].
    pub label: String,
    /// See [`FactorRow::sealed`].
    pub sealed: Vec<u8>,
    /// See [`FactorRow::settings`].
    pub settings: Settings,
}

impl Records {
    /// All people with their factors.
    pub(crate) fn people(&self) -> Result<Vec<PersonRow>, RecordsError> {
        self.read_now(|connection| {
            let mut factors: std::collections::HashMap<u64, Vec<FactorRow>> = std::collections::HashMap::new();
            let mut statement =
                connection.prepare("SELECT person, id, kind, label, sealed, settings, created_us FROM factors ORDER BY id")?;
            let mut rows = statement.query([])?;
            while let Some(row) = rows.next()? {
                let settings: String = row.get(5)?;
                factors.entry(row.get::<_, i64>(0)? as u64).or_default().push(FactorRow {
                    id: row.get::<_, i64>(1)? as u64,
                    kind: row.get(2)?,
                    label: row.get(3)?,
                    sealed: row.get(4)?,
                    settings: serde_json::from_str(&settings).unwrap_or_default(),
                    created_us: row.get::<_, i64>(6)? as u64,
                });
            }
            connection
                .prepare("SELECT id, source, login, name, password, groups, disabled FROM people ORDER BY source, login")?
                .query_map([], |row| {
                    let id = row.get::<_, i64>(0)? as u64;
                    let groups: String = row.get(5)?;
                    Ok(PersonRow {
                        id,
                        source: row.get(1)?,
                        login: row.get(2)?,
                        name: row.get(3)?,
                        password: row.get(4)?,
                        groups: serde_json::from_str(&groups).unwrap_or_default(),
                        disabled: row.get(6)?,
                        factors: factors.remove(&id).unwrap_or_default(),
                    })
                })?
                .collect()
        })
    }

    /// Keeps people, all or none.
    pub(crate) async fn keep_people(&self, people: Vec<NewPerson>, now: Moment) -> Result<(), RecordsError> {
        self.write(move |transaction| people.iter().try_for_each(|person| keep(transaction, person, now))).await
    }
}

fn keep(transaction: &Transaction<'_>, person: &NewPerson, now: Moment) -> rusqlite::Result<()> {
    let groups = serde_json::to_string(&person.groups).unwrap_or_else(|_| "[]".into());
    let now = now.micros() as i64;
    let id: i64 = transaction.query_row(
        "INSERT INTO people (source, login, name, password, groups, disabled, created_us) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
         ON CONFLICT (source, login) DO UPDATE SET name = excluded.name, password = coalesce(excluded.password, password),
         groups = excluded.groups, disabled = excluded.disabled RETURNING id",
        params![person.source, person.login, person.name, person.password, groups, person.disabled, now],
        |row| row.get(0),
    )?;
    let Some(factor) = &person.factor else { return Ok(()) };
    let settings = serde_json::to_string(&factor.settings).unwrap_or_default();
    // The number of a replaced factor is kept: codes used with it stay used if the seed is the same.
    let updated = transaction.execute(
        "UPDATE factors SET sealed = ?3, settings = ?4 WHERE person = ?1 AND kind = 'totp' AND label = ?2",
        params![id, factor.label, factor.sealed, settings],
    )?;
    if updated == 0 {
        transaction.execute(
            "INSERT INTO factors (person, kind, label, sealed, settings, created_us) VALUES (?1, 'totp', ?2, ?3, ?4, ?5)",
            params![id, factor.label, factor.sealed, settings, now],
        )?;
    }
    Ok(())
}
