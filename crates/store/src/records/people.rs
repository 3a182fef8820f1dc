//! People and their factors, as they are kept.

use super::{Changed, Records, RecordsError};

use crate::lookup::Lookup;
use bivector_model::Moment;
use bivector_model::device::CodeKind;
use bivector_model::totp::Settings;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde::{Deserialize, Serialize};

/// The key of a person: one per person, whatever was typed.
pub fn person_key(source: &str, login: &str) -> String {
    if !login.is_ascii() {
        return format!("{source}:{}", login.to_lowercase());
    }
    let mut key = String::with_capacity(source.len() + 1 + login.len());
    key.push_str(source);
    key.push(':');
    key.push_str(login);
    key[source.len() + 1..].make_ascii_lowercase();
    key
}

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
    /// Whether the person is suspended.
    pub disabled: bool,
    /// Where codes by mail go, where the source does not say.
    pub mail: Option<String>,
    /// Where codes by text message and voice go, where the source does not say.
    pub phone: Option<String>,
    /// The language that the person reads; empty if not known.
    pub language: String,
    /// The password's text or NT hash, sealed, where it is kept for proofs.
    pub kept: Option<Vec<u8>>,
    /// Factors.
    pub factors: Vec<FactorRow>,
}

/// A factor as kept.
#[derive(Debug, Clone)]
pub struct FactorRow {
    /// Record number, never used again.
    pub id: u64,
    /// What it is.
    pub kind: DeviceKind,
    /// What the person calls it.
    pub label: String,
    /// Its seed, its list of codes, its code or its public key, sealed.
    pub sealed: Vec<u8>,
    /// What was agreed.
    pub settings: FactorSettings,
    /// The hash of its PIN.
    pub pin: Option<String>,
    /// When it was added, in microseconds since 1970.
    pub created_us: u64,
}

/// What a factor is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum DeviceKind {
    /// Something that makes codes, or a list of them.
    Code(CodeKind),
    /// A handset, which approves.
    Handset,
    /// A security key, touched on a handset page.
    Key,
}

impl DeviceKind {
    /// Its name in records, API and command line.
    pub fn name(self) -> &'static str {
        match self {
            DeviceKind::Code(kind) => kind.name(),
            DeviceKind::Handset => "handset",
            DeviceKind::Key => "key",
        }
    }

    /// From its name.
    pub fn named(name: &str) -> Option<Self> {
        let code = CodeKind::ALL.iter().copied().map(DeviceKind::Code);
        code.chain([DeviceKind::Handset, DeviceKind::Key]).find(|kind| kind.name() == name)
    }

    /// The kind of codes, where it makes any.
    pub fn code(self) -> Option<CodeKind> {
        match self {
            DeviceKind::Code(kind) => Some(kind),
            DeviceKind::Handset | DeviceKind::Key => None,
        }
    }
}

impl std::fmt::Display for DeviceKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name())
    }
}

impl From<CodeKind> for DeviceKind {
    fn from(kind: CodeKind) -> Self {
        DeviceKind::Code(kind)
    }
}

/// What was agreed about a factor; each kind uses its own part.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FactorSettings {
    /// Hash, digits and period of codes by time; hash and digits of codes by count.
    #[serde(flatten)]
    pub code: Settings,
    /// The counter that a device by count began with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counter: Option<u64>,
    /// When a temporary code ends, in microseconds since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until_us: Option<u64>,
    /// How often a temporary code may be used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uses: Option<u32>,
    /// Why a temporary code was issued.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Who issued it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub operator: Option<String>,
    /// Set until somebody has confirmed that the factor is the person's; it does not count before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits_for: Option<WaitsFor>,
}

/// What makes a new factor count.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WaitsFor {
    /// An operator, who types this reference: the handset shows it.
    Operator(String),
}

/// A person to keep; an existing one of the same source and login is updated.
#[derive(Debug, Clone, Default)]
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
    /// See [`PersonRow::disabled`]; `None` leaves a known person as they are: nobody who was suspended comes back by being imported again.
    pub disabled: Option<bool>,
    /// See [`PersonRow::mail`].
    pub mail: Option<String>,
    /// See [`PersonRow::phone`].
    pub phone: Option<String>,
    /// See [`PersonRow::language`].
    pub language: String,
    /// See [`PersonRow::kept`]; goes with the password: a new password without it takes an old one out.
    pub kept: Option<Vec<u8>>,
    /// A factor to add; one of the same kind and label is replaced.
    pub factor: Option<NewFactor>,
}

/// A factor to keep.
#[derive(Debug, Clone)]
pub struct NewFactor {
    /// See [`FactorRow::kind`].
    pub kind: DeviceKind,
    /// See [`FactorRow::label`].
    pub label: String,
    /// See [`FactorRow::sealed`].
    pub sealed: Vec<u8>,
    /// See [`FactorRow::settings`].
    pub settings: FactorSettings,
    /// See [`FactorRow::pin`].
    pub pin: Option<String>,
}

/// People of one write that are worth an entry each in the change feed.
const FEW: usize = 64;

impl Records {
    /// All people with their factors, in no order. People and factors are read beside each other: a start waits for them.
    pub fn people(&self) -> Result<Vec<PersonRow>, RecordsError> {
        let (people, factors) = std::thread::scope(|scope| {
            let factors = scope.spawn(|| self.read_now(|connection| read_factors(connection, None)));
            let people = self.read_now(|connection| read_rows(connection, None));
            (people, factors.join().unwrap_or_else(|_| Err(RecordsError("the factors could not be read".into()))))
        });
        Ok(with_factors(people?, factors?))
    }

    /// One person with the factors.
    pub fn person(&self, source: &str, login: &str) -> Result<Option<PersonRow>, RecordsError> {
        self.read_now(|connection| Ok(read_people(connection, Some((source, login)))?.pop()))
    }

    /// Keeps people, all or none.
    pub async fn keep_people(&self, people: Vec<NewPerson>, now: Moment) -> Result<(), RecordsError> {
        let changed = match people.len() {
            0..=FEW => people.iter().map(|person| Changed::Person { source: person.source.clone(), login: person.login.clone() }).collect(),
            _ => vec![Changed::People],
        };
        self.write_people_facts(move |transaction| people.iter().try_for_each(|person| keep(transaction, person, now)), |()| changed).await
    }
}

/// All people, or one, each with the factors.
pub(super) fn read_people(connection: &Connection, only: Option<(&str, &str)>) -> rusqlite::Result<Vec<PersonRow>> {
    let factors = read_factors(connection, only)?;
    Ok(with_factors(read_rows(connection, only)?, factors))
}

type FactorsByPerson = Lookup<u64, Vec<FactorRow>>;

fn with_factors(mut people: Vec<PersonRow>, mut factors: FactorsByPerson) -> Vec<PersonRow> {
    for person in &mut people {
        person.factors = factors.remove(&person.id).unwrap_or_default();
    }
    people
}

/// Reads a text that most rows have in common: the same one is read once.
struct Repeated<T> {
    text: String,
    value: T,
}

impl<T: Clone + Default + serde::de::DeserializeOwned> Repeated<T> {
    fn new() -> Self {
        Repeated { text: String::new(), value: T::default() }
    }

    fn read(&mut self, text: &str) -> T {
        if self.text != text {
            text.clone_into(&mut self.text);
            self.value = serde_json::from_str(text).unwrap_or_default();
        }
        self.value.clone()
    }
}

fn read_factors(connection: &Connection, only: Option<(&str, &str)>) -> rusqlite::Result<FactorsByPerson> {
    let (source, login) = only.unzip();
    let mut factors = FactorsByPerson::default();
    let (of_all, of_one) = (
        "SELECT person, id, kind, label, sealed, settings, created_us, pin FROM factors ORDER BY id",
        "SELECT person, id, kind, label, sealed, settings, created_us, pin FROM factors
         WHERE person IN (SELECT id FROM people WHERE source = ?1 AND login = ?2) ORDER BY id",
    );
    let mut statement = connection.prepare_cached(if only.is_some() { of_one } else { of_all })?;
    let mut rows = if only.is_some() { statement.query(params![source, login])? } else { statement.query([])? };
    let mut settings = Repeated::new();
    while let Some(row) = rows.next()? {
        let Some(kind) = DeviceKind::named(row.get_ref(2)?.as_str()?) else { continue };
        let of_person = factors.entry(row.get::<_, i64>(0)? as u64).or_insert_with(|| Vec::with_capacity(1));
        of_person.push(FactorRow {
            id: row.get::<_, i64>(1)? as u64,
            kind,
            label: row.get(3)?,
            sealed: row.get(4)?,
            settings: settings.read(row.get_ref(5)?.as_str()?),
            created_us: row.get::<_, i64>(6)? as u64,
            pin: row.get(7)?,
        });
    }
    Ok(factors)
}

/// People without their factors.
fn read_rows(connection: &Connection, only: Option<(&str, &str)>) -> rusqlite::Result<Vec<PersonRow>> {
    let (source, login) = only.unzip();
    // Two statements: one that could mean either would look at everybody to find one, and changes look at each of thousands.
    let (of_all, of_one) = (
        "SELECT id, source, login, name, password, groups, disabled, mail, phone, language, kept FROM people",
        "SELECT id, source, login, name, password, groups, disabled, mail, phone, language, kept FROM people WHERE source = ?1 AND login = ?2",
    );
    let mut statement = connection.prepare_cached(if only.is_some() { of_one } else { of_all })?;
    let mut groups = Repeated::new();
    let read = |row: &rusqlite::Row<'_>| {
        Ok(PersonRow {
            id: row.get::<_, i64>(0)? as u64,
            source: row.get(1)?,
            login: row.get(2)?,
            name: row.get(3)?,
            password: row.get(4)?,
            groups: groups.read(row.get_ref(5)?.as_str()?),
            disabled: row.get(6)?,
            mail: row.get(7)?,
            phone: row.get(8)?,
            language: row.get(9)?,
            kept: row.get(10)?,
            factors: Vec::new(),
        })
    };
    match only.is_some() {
        true => statement.query_map(params![source, login], read)?.collect(),
        false => statement.query_map([], read)?.collect(),
    }
}

pub(super) fn keep(transaction: &Transaction<'_>, person: &NewPerson, now: Moment) -> rusqlite::Result<()> {
    let groups = serde_json::to_string(&person.groups).unwrap_or_else(|_| "[]".into());
    let id: i64 = transaction.query_row(
        "INSERT INTO people (source, login, name, password, groups, disabled, created_us, mail, phone, language, kept)
         VALUES (?1, ?2, ?3, ?4, ?5, coalesce(?6, 0), ?7, ?8, ?9, ?10, ?11)
         ON CONFLICT (source, login) DO UPDATE SET name = excluded.name, password = coalesce(excluded.password, password),
         groups = excluded.groups, disabled = coalesce(?6, disabled), mail = coalesce(excluded.mail, mail), phone = coalesce(excluded.phone, phone),
         language = excluded.language, kept = CASE WHEN excluded.password IS NULL THEN kept ELSE excluded.kept END RETURNING id",
        params![
            person.source,
            person.login,
            person.name,
            person.password,
            groups,
            person.disabled,
            now.micros() as i64,
            person.mail,
            person.phone,
            person.language,
            person.kept
        ],
        |row| row.get(0),
    )?;
    person.factor.as_ref().map_or(Ok(()), |factor| keep_factor(transaction, id, factor, now).map(|_| ()))
}

/// The number of a replaced factor is kept: codes used with it stay used if the seed is the same.
pub(super) fn keep_factor(transaction: &Transaction<'_>, person: i64, factor: &NewFactor, now: Moment) -> rusqlite::Result<u64> {
    let settings = serde_json::to_string(&factor.settings).unwrap_or_default();
    let replaced: Option<i64> = transaction
        .query_row(
            "UPDATE factors SET sealed = ?4, settings = ?5, pin = coalesce(?6, pin) WHERE person = ?1 AND kind = ?2 AND label = ?3 RETURNING id",
            params![person, factor.kind.name(), factor.label, factor.sealed, settings, factor.pin],
            |row| row.get(0),
        )
        .optional()?;
    let id = match replaced {
        Some(id) => id,
        None => {
            transaction.execute(
                "INSERT INTO factors (person, kind, label, sealed, settings, created_us, pin) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![person, factor.kind.name(), factor.label, factor.sealed, settings, now.micros() as i64, factor.pin],
            )?;
            transaction.last_insert_rowid()
        }
    };
    // A device by time goes on with what is known of its clock; everything else begins anew.
    if factor.kind != DeviceKind::Code(CodeKind::Totp) {
        transaction.execute("DELETE FROM factor_states WHERE factor = ?1", [id])?;
    }
    Ok(id as u64)
}
