//! Changes of people and their factors that can be taken back: each keeps what everybody touched was like before and after.

use super::factors::{person_number, read_state_of, restore_state};
use super::people::{keep, read_people};
use super::{FactorState, NewPerson, PersonRow, Records, RecordsError};
use bivector_core::Moment;
use rusqlite::{OptionalExtension, Transaction, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One thing to do to one person.
#[derive(Debug, Clone)]
pub enum Edit {
    /// Add the person, or bring what is known of them up to date.
    Keep(Box<NewPerson>),
    /// Keep the person out, or let them in again.
    Suspend {
        /// The source that knows the person.
        source: String,
        /// The login name there.
        login: String,
        /// Whether to keep out.
        suspended: bool,
    },
    /// Forget the person with all factors.
    Remove {
        /// The source that knows the person.
        source: String,
        /// The login name there.
        login: String,
    },
    /// Take a factor out.
    RemoveFactor {
        /// The source that knows the person.
        source: String,
        /// The login name there.
        login: String,
        /// Its record number.
        factor: u64,
    },
    /// Give a factor another name.
    RenameFactor {
        /// The source that knows the person.
        source: String,
        /// The login name there.
        login: String,
        /// Its record number.
        factor: u64,
        /// The new name.
        label: String,
    },
}

impl Edit {
    fn whom(&self) -> (&str, &str) {
        match self {
            Edit::Keep(person) => (&person.source, &person.login),
            Edit::Suspend { source, login, .. }
            | Edit::Remove { source, login }
            | Edit::RemoveFactor { source, login, .. }
            | Edit::RenameFactor { source, login, .. } => (source, login),
        }
    }
}

/// A change as listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// Its number.
    pub number: u64,
    /// When, in microseconds since 1970.
    pub at_us: u64,
    /// Who did it.
    pub operator: String,
    /// What was done, in a few words.
    pub what: String,
    /// How many people it touched.
    pub people: u32,
    /// When it was taken back, if it was.
    pub undone_us: Option<u64>,
}

/// Why a change could not be taken back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotUndone {
    /// There is no such change.
    Missing,
    /// It was taken back before.
    Before(u64),
    /// These people have been changed since.
    ChangedSince(Vec<String>),
}

/// A person as they were, to be put back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Snapshot {
    id: u64,
    source: String,
    login: String,
    name: String,
    password: Option<String>,
    groups: Vec<String>,
    disabled: bool,
    mail: Option<String>,
    phone: Option<String>,
    language: String,
    kept: Option<Vec<u8>>,
    factors: Vec<SnapshotFactor>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct SnapshotFactor {
    id: u64,
    kind: String,
    label: String,
    sealed: Vec<u8>,
    settings: super::FactorSettings,
    pin: Option<String>,
    created_us: u64,
    state: FactorState,
}

impl Snapshot {
    fn of(person: PersonRow, transaction: &Transaction<'_>) -> rusqlite::Result<Self> {
        let factors = person.factors.into_iter().map(|factor| {
            Ok(SnapshotFactor {
                state: read_state_of(transaction, factor.id)?,
                id: factor.id,
                kind: factor.kind.name().to_owned(),
                label: factor.label,
                sealed: factor.sealed,
                settings: factor.settings,
                pin: factor.pin,
                created_us: factor.created_us,
            })
        });
        Ok(Snapshot {
            factors: factors.collect::<rusqlite::Result<_>>()?,
            id: person.id,
            source: person.source,
            login: person.login,
            name: person.name,
            password: person.password,
            groups: person.groups,
            disabled: person.disabled,
            mail: person.mail,
            phone: person.phone,
            language: person.language,
            kept: person.kept,
        })
    }

    /// Without what logins change by themselves.
    fn settled(mut self) -> Self {
        self.factors.iter_mut().for_each(|factor| factor.state = FactorState::default());
        self
    }
}

impl Records {
    /// Makes all edits or none, and keeps how to take them back. Gives the number of the change.
    pub(crate) async fn change_people(&self, operator: String, what: String, edits: Vec<Edit>, now: Moment) -> Result<u64, RecordsError> {
        self.write_people(move |transaction| {
            let mut whom: Vec<(String, String)> =
                edits.iter().map(Edit::whom).map(|(source, login)| (source.into(), login.into())).collect();
            whom.sort_unstable();
            whom.dedup();
            let before = whom.iter().map(|(source, login)| snapshot(transaction, source, login)).collect::<rusqlite::Result<Vec<_>>>()?;
            edits.iter().try_for_each(|edit| make(transaction, edit, now))?;
            transaction.execute(
                "INSERT INTO changes (at_us, operator, what, people) VALUES (?1, ?2, ?3, ?4)",
                params![now.micros() as i64, operator, what, whom.len() as i64],
            )?;
            let number = transaction.last_insert_rowid();
            for ((source, login), before) in whom.iter().zip(before) {
                let after = snapshot(transaction, source, login)?;
                let text = |snapshot: Option<Snapshot>| snapshot.map(|snapshot| serde_json::to_string(&snapshot).unwrap_or_default());
                transaction.prepare_cached("INSERT INTO changed_people VALUES (?1, ?2, ?3, ?4)")?.execute(params![
                    number,
                    crate::roster::person_key(source, login),
                    text(before),
                    text(after)
                ])?;
            }
            Ok(number as u64)
        })
        .await
    }

    /// Takes a change back, unless somebody whom it touched has been changed since: then nothing is done.
    pub(crate) async fn undo_change(&self, number: u64, now: Moment) -> Result<Result<Change, NotUndone>, RecordsError> {
        self.write_people(move |transaction| {
            let Some(change) = changes(transaction, Some(number))?.pop() else { return Ok(Err(NotUndone::Missing)) };
            if let Some(at) = change.undone_us {
                return Ok(Err(NotUndone::Before(at)));
            }
            let mut rows = transaction.prepare("SELECT person, before, after FROM changed_people WHERE change = ?1 ORDER BY person")?;
            let rows = rows.query_map([number as i64], |row| {
                let read = |at: usize| row.get::<_, Option<String>>(at).map(|text| text.and_then(|text| serde_json::from_str(&text).ok()));
                Ok((row.get::<_, String>(0)?, read(1)?, read(2)?))
            })?;
            let touched = rows.collect::<rusqlite::Result<Vec<(String, Option<Snapshot>, Option<Snapshot>)>>>()?;
            let mut since = Vec::new();
            for (key, _, after) in &touched {
                let Some((source, login)) = key.split_once(':') else { continue };
                let is = snapshot(transaction, source, login)?;
                if is.map(Snapshot::settled) != after.clone().map(Snapshot::settled) {
                    since.push(key.clone());
                }
            }
            if !since.is_empty() {
                return Ok(Err(NotUndone::ChangedSince(since)));
            }
            for (key, before, after) in &touched {
                let Some((source, login)) = key.split_once(':') else { continue };
                put_back(transaction, source, login, before.as_ref(), after.as_ref(), now)?;
            }
            transaction.execute("UPDATE changes SET undone_us = ?2 WHERE number = ?1", params![number as i64, now.micros() as i64])?;
            Ok(Ok(Change { undone_us: Some(now.micros()), ..change }))
        })
        .await
    }

    /// The newest changes of people.
    pub(crate) async fn people_changes(&self) -> Result<Vec<Change>, RecordsError> {
        self.read(|connection| {
            let mut statement = connection
                .prepare("SELECT number, at_us, operator, what, people, undone_us FROM changes ORDER BY number DESC LIMIT 100")?;
            statement.query_map([], read_change)?.collect()
        })
        .await
    }
}

fn changes(transaction: &Transaction<'_>, number: Option<u64>) -> rusqlite::Result<Vec<Change>> {
    let mut statement = transaction
        .prepare("SELECT number, at_us, operator, what, people, undone_us FROM changes WHERE number = ?1 ORDER BY number DESC")?;
    statement.query_map(params![number.map(|number| number as i64)], read_change)?.collect()
}

fn read_change(row: &rusqlite::Row<'_>) -> rusqlite::Result<Change> {
    Ok(Change {
        number: row.get::<_, i64>(0)? as u64,
        at_us: row.get::<_, i64>(1)? as u64,
        operator: row.get(2)?,
        what: row.get(3)?,
        people: row.get(4)?,
        undone_us: row.get::<_, Option<i64>>(5)?.map(|at| at as u64),
    })
}

fn snapshot(transaction: &Transaction<'_>, source: &str, login: &str) -> rusqlite::Result<Option<Snapshot>> {
    let person = read_people(transaction, Some((source, login)))?.pop();
    person.map(|person| Snapshot::of(person, transaction)).transpose()
}

fn make(transaction: &Transaction<'_>, edit: &Edit, now: Moment) -> rusqlite::Result<()> {
    match edit {
        Edit::Keep(person) => keep(transaction, person, now)?,
        Edit::Suspend { source, login, suspended } => {
            transaction.execute("UPDATE people SET disabled = ?3 WHERE source = ?1 AND login = ?2", params![source, login, suspended])?;
        }
        Edit::Remove { source, login } => remove(transaction, source, login)?,
        Edit::RemoveFactor { source, login, factor } => {
            let Some(person) = person_number(transaction, source, login)? else { return Ok(()) };
            transaction.execute("DELETE FROM factors WHERE id = ?1 AND person = ?2", params![*factor as i64, person])?;
        }
        Edit::RenameFactor { factor, label, .. } => {
            transaction.execute("UPDATE factors SET label = ?2 WHERE id = ?1", params![*factor as i64, label])?;
        }
    }
    Ok(())
}

fn remove(transaction: &Transaction<'_>, source: &str, login: &str) -> rusqlite::Result<()> {
    let key = crate::roster::person_key(source, login);
    transaction.execute("DELETE FROM people WHERE source = ?1 AND login = ?2", params![source, login])?;
    transaction.execute("UPDATE invitations SET withdrawn = 1 WHERE person = ?1 AND used_us IS NULL", [&key])?;
    transaction.execute("DELETE FROM remembered WHERE person = ?1", [&key])?;
    Ok(())
}

fn put_back(
    transaction: &Transaction<'_>,
    source: &str,
    login: &str,
    before: Option<&Snapshot>,
    after: Option<&Snapshot>,
    now: Moment,
) -> rusqlite::Result<()> {
    let Some(was) = before else { return remove(transaction, source, login) };
    let groups = serde_json::to_string(&was.groups).unwrap_or_else(|_| "[]".into());
    let created: Option<i64> =
        transaction.query_row("SELECT created_us FROM people WHERE id = ?1", [was.id as i64], |row| row.get(0)).optional()?;
    transaction.execute(
        "INSERT INTO people (id, source, login, name, password, groups, disabled, created_us, mail, phone, language, kept)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)
         ON CONFLICT (id) DO UPDATE SET name = excluded.name, password = excluded.password, groups = excluded.groups,
         disabled = excluded.disabled, mail = excluded.mail, phone = excluded.phone, language = excluded.language, kept = excluded.kept",
        params![
            was.id as i64,
            was.source,
            was.login,
            was.name,
            was.password,
            groups,
            was.disabled,
            created.unwrap_or(now.micros() as i64),
            was.mail,
            was.phone,
            was.language,
            was.kept
        ],
    )?;
    let added = after.into_iter().flat_map(|after| &after.factors).filter(|factor| !was.factors.iter().any(|old| old.id == factor.id));
    for factor in added {
        transaction.execute("DELETE FROM factors WHERE id = ?1", [factor.id as i64])?;
    }
    for factor in &was.factors {
        let settings = serde_json::to_string(&factor.settings).unwrap_or_default();
        let kept = transaction.execute(
            "UPDATE factors SET label = ?2, sealed = ?3, settings = ?4, pin = ?5 WHERE id = ?1",
            params![factor.id as i64, factor.label, factor.sealed, settings, factor.pin],
        )?;
        if kept == 0 {
            transaction.execute(
                "INSERT INTO factors (id, person, kind, label, sealed, settings, created_us, pin) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                params![
                    factor.id as i64,
                    was.id as i64,
                    factor.kind,
                    factor.label,
                    factor.sealed,
                    settings,
                    factor.created_us as i64,
                    factor.pin
                ],
            )?;
            // What it was at, so that a code used before its removal stays used.
            restore_state(transaction, factor.id, &factor.state)?;
        }
    }
    Ok(())
}
