//! Changes of people and their factors that can be taken back: each keeps what everybody touched was like before and after.

use super::DeviceState;
use super::factors::{person_number, read_state_of, restore_state};
use super::people::{keep, read_people};
use super::{Changed, NewPerson, PersonRow, Records, RecordsError};
use bivector_api::people::Change;
use bivector_model::Moment;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde::{Deserialize, Serialize};

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
    state: DeviceState,
}

impl Snapshot {
    fn of(person: PersonRow, transaction: &Connection) -> rusqlite::Result<Self> {
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
        self.factors.iter_mut().for_each(|factor| factor.state = DeviceState::default());
        self
    }
}

/// People whose edits are one piece of work for the writer: some milliseconds, after which others have their turn.
const SLICE: usize = 64;
/// What the column `pending` says of a change in slices. Nothing of it counts before the last slice, for people and for the next start.
const MAKING: i64 = 1;
/// The same, of a change that is taken back: the next start ends it.
const TAKING_BACK: i64 = 2;

/// The error of a change that the stop of the service interrupts.
fn stopping() -> RecordsError {
    RecordsError("the service is stopping; nothing of this change is kept".into())
}

/// Who makes a change, what it is, and when.
#[derive(Debug, Clone)]
struct Heading {
    operator: String,
    what: String,
    at: Moment,
}

impl Records {
    /// Makes all edits or none, and keeps how to take them back. Gives the number of the change. Logins go on meanwhile: many edits are
    /// made in slices. A change that has begun goes on if whoever asked for it leaves.
    pub async fn change_people(&self, operator: String, what: String, edits: Vec<Edit>, now: Moment) -> Result<u64, RecordsError> {
        let heading = Heading { operator, what, at: now };
        let records = self.clone();
        let made = tokio::spawn(async move {
            let _turn = records.changing.lock().await;
            let slices = slices_of(edits);
            match <[_; 1]>::try_from(slices) {
                Ok([only]) => {
                    let changed = whom(&only).into_iter().map(|(source, login)| Changed::Person { source, login }).collect();
                    let make = move |transaction: &Transaction<'_>| {
                        let number = begin(transaction, &heading, 0)?;
                        make_slice(transaction, number, &only, now).map(|()| number)
                    };
                    records.write_people_facts(make, |_| changed).await
                }
                Err(slices) => records.change_in_slices(heading, slices).await,
            }
        });
        made.await.map_err(|_| RecordsError("the change has failed; it is taken back by the next start".into()))?
    }

    async fn change_in_slices(&self, heading: Heading, slices: Vec<Vec<Edit>>) -> Result<u64, RecordsError> {
        let at = heading.at;
        let number = self.write_people(move |transaction| begin(transaction, &heading, MAKING)).await?;
        for slice in slices {
            let made = match self.stopping() {
                // What is there by now is taken back by the next start: the stop waits for nobody.
                true => return Err(stopping()),
                false => self.write_people(move |transaction| make_slice(transaction, number, &slice, at)).await,
            };
            if let Err(error) = made {
                self.take_back(number, at).await?;
                let forget =
                    move |transaction: &Transaction<'_>| transaction.execute("DELETE FROM changes WHERE number = ?1", [number as i64]);
                self.write_facts(forget, |_| vec![Changed::People]).await?;
                return Err(error);
            }
        }
        let end =
            move |transaction: &Transaction<'_>| transaction.execute("UPDATE changes SET pending = 0 WHERE number = ?1", [number as i64]);
        self.write_facts(end, |_| vec![Changed::People]).await?;
        Ok(number)
    }

    /// Puts everybody back whom a change touched, in slices.
    async fn take_back(&self, number: u64, now: Moment) -> Result<(), RecordsError> {
        while self.write_people(move |transaction| put_some_back(transaction, number, now)).await? {
            if self.stopping() {
                return Err(RecordsError("the service is stopping; the rest is taken back by the next start".into()));
            }
        }
        Ok(())
    }

    /// Takes a change back, unless somebody whom it touched has been changed since: then nothing is done.
    pub async fn undo_change(&self, number: u64, now: Moment) -> Result<Result<Change, NotUndone>, RecordsError> {
        let records = self.clone();
        let undone = tokio::spawn(async move {
            let _turn = records.changing.lock().await;
            // What logins have used stands in the rows from here on.
            records.write_people(|_| Ok(())).await?;
            let change = match records.read(move |connection| undoable(connection, number)).await? {
                Ok(change) => change,
                Err(why) => return Ok(Err(why)),
            };
            let pending = "UPDATE changes SET pending = ?2 WHERE number = ?1";
            records.write(move |transaction| transaction.execute(pending, params![number as i64, TAKING_BACK])).await?;
            records.take_back(number, now).await?;
            records.write_facts(move |transaction| end_undo(transaction, number, now), |()| vec![Changed::People]).await?;
            Ok(Ok(Change { undone_us: Some(now.micros()), ..change }))
        });
        undone.await.map_err(|_| RecordsError("it failed; the next start takes the rest back".into()))?
    }

    /// The newest changes of people.
    pub async fn people_changes(&self) -> Result<Vec<Change>, RecordsError> {
        self.read(|connection| {
            let mut statement = connection.prepare(
                "SELECT number, at_us, operator, what, people, undone_us FROM changes WHERE pending = 0 ORDER BY number DESC LIMIT 100",
            )?;
            statement.query_map([], read_change)?.collect()
        })
        .await
    }
}

/// Ends what a crash or a stop has interrupted: a change that was being made is taken back, and so is the rest of one that was being taken
/// back. At the start, before anybody asks.
pub(super) fn end_interrupted(connection: &mut Connection, now: Moment) -> rusqlite::Result<()> {
    let interrupted: Vec<(i64, i64, String)> = connection
        .prepare("SELECT number, pending, what FROM changes WHERE pending <> 0 ORDER BY number DESC")?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?
        .collect::<rusqlite::Result<_>>()?;
    for (number, pending, what) in interrupted {
        tracing::warn!(number, what, "a change of people was interrupted; it is taken back");
        let transaction = connection.transaction()?;
        while put_some_back(&transaction, number as u64, now)? {}
        match pending {
            MAKING => drop(transaction.execute("DELETE FROM changes WHERE number = ?1", [number])?),
            _ => end_undo(&transaction, number as u64, now)?,
        }
        transaction.commit()?;
    }
    Ok(())
}

/// Edits by slices, those of one person in the same one.
fn slices_of(mut edits: Vec<Edit>) -> Vec<Vec<Edit>> {
    edits.sort_by(|one, other| one.whom().cmp(&other.whom()));
    let mut slices = vec![Vec::new()];
    let mut whom: Option<(String, String)> = None;
    let mut people = 0;
    for edit in edits {
        let (source, login) = edit.whom();
        if whom.as_ref().is_none_or(|(known, name)| (known.as_str(), name.as_str()) != (source, login)) {
            whom = Some((source.to_owned(), login.to_owned()));
            people += 1;
            if people > SLICE {
                slices.push(Vec::new());
                people = 1;
            }
        }
        if let Some(slice) = slices.last_mut() {
            slice.push(edit);
        }
    }
    slices
}

fn begin(transaction: &Transaction<'_>, heading: &Heading, pending: i64) -> rusqlite::Result<u64> {
    transaction.execute(
        "INSERT INTO changes (at_us, operator, what, people, pending) VALUES (?1, ?2, ?3, 0, ?4)",
        params![heading.at.micros() as i64, heading.operator, heading.what, pending],
    )?;
    Ok(transaction.last_insert_rowid() as u64)
}

/// The people that edits are about, by source and login.
fn whom(edits: &[Edit]) -> Vec<(String, String)> {
    let mut whom: Vec<_> = edits.iter().map(Edit::whom).map(|(source, login)| (source.to_owned(), login.to_owned())).collect();
    whom.sort_unstable();
    whom.dedup();
    whom
}

/// Makes edits and keeps what their people were like before and after.
fn make_slice(transaction: &Transaction<'_>, number: u64, edits: &[Edit], now: Moment) -> rusqlite::Result<()> {
    let whom = whom(edits);
    let before = whom.iter().map(|(source, login)| snapshot(transaction, source, login)).collect::<rusqlite::Result<Vec<_>>>()?;
    edits.iter().try_for_each(|edit| make(transaction, edit, now))?;
    for ((source, login), before) in whom.iter().zip(before) {
        let after = snapshot(transaction, source, login)?;
        let text = |snapshot: Option<Snapshot>| snapshot.map(|snapshot| serde_json::to_string(&snapshot).unwrap_or_default());
        transaction.prepare_cached("INSERT INTO changed_people VALUES (?1, ?2, ?3, ?4)")?.execute(params![
            number as i64,
            crate::records::person_key(source, login),
            text(before),
            text(after)
        ])?;
    }
    transaction.execute("UPDATE changes SET people = people + ?2 WHERE number = ?1", params![number as i64, whom.len() as i64])?;
    Ok(())
}

/// Somebody whom a change touched: the key, and what they were like before and after it.
type Touched = (String, Option<Snapshot>, Option<Snapshot>);

fn touched(connection: &Connection, number: u64, most: i64) -> rusqlite::Result<Vec<Touched>> {
    let mut rows =
        connection.prepare_cached("SELECT person, before, after FROM changed_people WHERE change = ?1 ORDER BY person LIMIT ?2")?;
    let rows = rows.query_map([number as i64, most], |row| {
        let read = |at: usize| row.get::<_, Option<String>>(at).map(|text| text.and_then(|text| serde_json::from_str(&text).ok()));
        Ok((row.get::<_, String>(0)?, read(1)?, read(2)?))
    })?;
    rows.collect()
}

/// Puts some people back whom a change touched; whether it has touched more. What was put back is not kept any longer.
fn put_some_back(transaction: &Transaction<'_>, number: u64, now: Moment) -> rusqlite::Result<bool> {
    let some = touched(transaction, number, SLICE as i64)?;
    for (key, before, after) in &some {
        if let Some((source, login)) = key.split_once(':') {
            put_back(transaction, source, login, before.as_ref(), after.as_ref(), now)?;
        }
        transaction.prepare_cached("DELETE FROM changed_people WHERE change = ?1 AND person = ?2")?.execute(params![number as i64, key])?;
    }
    Ok(!some.is_empty())
}

fn end_undo(transaction: &Transaction<'_>, number: u64, now: Moment) -> rusqlite::Result<()> {
    let ended = "UPDATE changes SET undone_us = ?2, pending = 0 WHERE number = ?1";
    transaction.execute(ended, params![number as i64, now.micros() as i64]).map(|_| ())
}

/// The change of this number, if it can be taken back.
fn undoable(connection: &Connection, number: u64) -> rusqlite::Result<Result<Change, NotUndone>> {
    let select = "SELECT number, at_us, operator, what, people, undone_us FROM changes WHERE number = ?1 AND pending = 0";
    let Some(change) = connection.query_row(select, [number as i64], read_change).optional()? else { return Ok(Err(NotUndone::Missing)) };
    if let Some(at) = change.undone_us {
        return Ok(Err(NotUndone::Before(at)));
    }
    let mut since = Vec::new();
    for (key, _, after) in touched(connection, number, -1)? {
        let Some((source, login)) = key.split_once(':') else { continue };
        if snapshot(connection, source, login)?.map(Snapshot::settled) != after.map(Snapshot::settled) {
            since.push(key);
        }
    }
    Ok(if since.is_empty() { Ok(change) } else { Err(NotUndone::ChangedSince(since)) })
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

fn snapshot(transaction: &Connection, source: &str, login: &str) -> rusqlite::Result<Option<Snapshot>> {
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
    let key = crate::records::person_key(source, login);
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
    was.factors.iter().try_for_each(|factor| put_factor_back(transaction, was.id, factor))
}

/// Puts one factor back as it was.
fn put_factor_back(transaction: &Transaction<'_>, person: u64, factor: &SnapshotFactor) -> rusqlite::Result<()> {
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
                person as i64,
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
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::Sync;
    use crate::records::factors::tests::NOON;
    use std::path::Path;
    use std::sync::atomic::{AtomicUsize, Ordering};

    fn open(folder: &Path) -> Records {
        Records::open(folder, Sync::Off).unwrap()
    }

    /// People enough for many slices.
    fn everybody() -> Vec<Edit> {
        let person = |number: usize| NewPerson { source: "tidehall".into(), login: format!("p{number:04}"), ..NewPerson::default() };
        (0..SLICE * 12).map(|number| Edit::Keep(Box::new(person(number)))).collect()
    }

    async fn change(records: &Records, edits: Vec<Edit>) -> Result<u64, RecordsError> {
        records.change_people("owner".into(), "import".into(), edits, NOON).await
    }

    async fn count(records: &Records, table: &'static str) -> i64 {
        records.read(move |connection| connection.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0))).await.unwrap()
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn others_have_their_turn_between_the_slices_of_a_large_change_and_nothing_is_listed_before_its_end() {
        let folder = tempfile::tempdir().unwrap();
        let records = open(folder.path());
        let turns = AtomicUsize::new(0);
        let others = async {
            loop {
                let listed = records.people_changes().await.unwrap();
                assert!(listed.iter().all(|change| change.people as usize == SLICE * 12), "listed before its end: {listed:?}");
                records.write(|_| Ok(())).await.unwrap();
                turns.fetch_add(1, Ordering::Relaxed);
            }
        };
        tokio::select! {
            made = change(&records, everybody()) => assert_eq!(made.unwrap(), 1),
            () = others => {}
        }
        assert!(turns.load(Ordering::Relaxed) >= 5, "{turns:?}");
        assert_eq!(records.people_changes().await.unwrap()[0].people as usize, SLICE * 12);
        let again = records.undo_change(1, NOON).await.unwrap().unwrap();
        assert_eq!(
            (again.undone_us, count(&records, "people").await, count(&records, "changed_people").await),
            (Some(NOON.micros()), 0, 0)
        );
        assert_eq!(records.undo_change(1, NOON).await.unwrap(), Err(NotUndone::Before(NOON.micros())));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_large_change_that_fails_in_its_last_slice_leaves_nothing_behind() {
        let folder = tempfile::tempdir().unwrap();
        let records = open(folder.path());
        let last = format!("p{:04}", SLICE * 12 - 1);
        let trap = format!(
            "CREATE TRIGGER trap BEFORE INSERT ON people WHEN new.login = '{last}' BEGIN SELECT RAISE(ABORT, 'as it is meant to'); END"
        );
        records.write(move |transaction| transaction.execute_batch(&trap)).await.unwrap();
        assert!(change(&records, everybody()).await.unwrap_err().0.contains("as it is meant to"));
        for table in ["people", "changes", "changed_people"] {
            assert_eq!(count(&records, table).await, 0, "{table}");
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_change_that_a_stop_or_a_crash_interrupts_is_as_if_it_had_never_begun() {
        let folder = tempfile::tempdir().unwrap();
        let records = open(folder.path());
        let heading = Heading { operator: "owner".into(), what: "import".into(), at: NOON };
        let first = slices_of(everybody()).remove(0);
        let half = move |transaction: &Transaction<'_>| make_slice(transaction, begin(transaction, &heading, MAKING)?, &first, NOON);
        records.write_people(half).await.unwrap();
        assert_eq!(count(&records, "people").await as usize, SLICE);
        records.close().await;
        let records = open(folder.path());
        assert_eq!((count(&records, "people").await, count(&records, "changes").await), (0, 0));
        records.stop_changes();
        let said = change(&records, everybody()).await.unwrap_err().0;
        assert!(said.contains("stopping") && said.contains("nothing of this change is kept"), "{said}");
        records.close().await;
        let records = open(folder.path());
        assert_eq!((count(&records, "people").await, count(&records, "changes").await), (0, 0));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn an_undo_that_is_interrupted_is_ended_by_the_next_start() {
        let folder = tempfile::tempdir().unwrap();
        let records = open(folder.path());
        change(&records, everybody()).await.unwrap();
        records.stop_changes();
        assert!(records.undo_change(1, NOON).await.unwrap_err().0.contains("by the next start"));
        assert_ne!(count(&records, "people").await, 0);
        records.close().await;
        let records = open(folder.path());
        assert_eq!(count(&records, "people").await, 0);
        assert!(records.people_changes().await.unwrap()[0].undone_us.is_some());
    }

    #[test]
    fn edits_of_one_person_are_in_one_slice() {
        let mut edits = everybody();
        edits.extend(everybody());
        let slices = slices_of(edits);
        assert!(slices.iter().all(|slice| slice.len() == 2 * SLICE) && slices.len() == 12);
        assert_eq!(slices_of(Vec::new()).len(), 1);
    }
}
