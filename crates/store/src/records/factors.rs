//! What devices are at, and wrong codes: read at start, written in one step with whatever decides on it.

use super::people::keep_factor;
use super::remembered::Remembered;
use super::steps::{self, Use, UsedStep, steps_to_keep};
use super::writer::Job;
use super::{Changed, NewFactor, Records, RecordsError};
use crate::lookup::Lookup;
use bivector_core::login::{CodeMark, WrongTry};
use bivector_model::Moment;
use bivector_model::device::Used;
use bivector_site::Lockout;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

/// What a device or list is at.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct DeviceState {
    /// Steps that its clock was off when it was last right.
    pub drift: i64,
    /// The first counter that has not been used; uses of a temporary code.
    pub counter: u64,
    /// A counter far ahead whose code was right, and when, in microseconds since 1970.
    pub ahead: Option<(u64, u64)>,
    /// A bit for each used entry of a list.
    pub used: u64,
    /// When it last let somebody in, in microseconds since 1970.
    pub last_used_us: Option<u64>,
}

/// Wrong codes and PINs of one person since the last right one.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LockRow {
    /// See [`WrongTry::points`].
    pub points: u32,
    /// When the first was typed, in microseconds since 1970.
    pub first_us: u64,
    /// When the last was typed.
    pub last_us: u64,
    /// Until when the person is locked.
    pub locked_until_us: Option<u64>,
    /// The gateway of the last one.
    pub gateway: String,
}

/// What became of a code that was to be marked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Marked {
    /// It is used now; this is what its device is at, where it has one.
    Now(Option<DeviceState>),
    /// It was used before.
    Before,
    /// The person is locked until then.
    Locked(Moment),
}

impl Records {
    /// What all devices are at, by record number.
    pub fn factor_states(&self) -> Result<Lookup<u64, DeviceState>, RecordsError> {
        self.read_now(|connection| {
            let mut statement =
                connection.prepare("SELECT factor, drift, counter, ahead, ahead_us, used, last_used_us FROM factor_states")?;
            // Read first: what is folded in between is then in the rows as well.
            let used = steps::journal(connection)?;
            let states = statement.query_map([], |row| Ok((row.get::<_, i64>(0)? as u64, read_state(row, 1)?)))?;
            let mut states: Lookup<u64, DeviceState> = states.collect::<rusqlite::Result<_>>()?;
            for used in used.into_iter().filter(|used| used.is_used()) {
                let state = states.entry(used.device).or_default();
                if state.last_used_us.is_none_or(|last| last <= used.at_us) {
                    (state.drift, state.last_used_us) = (used.drift, Some(used.at_us));
                }
            }
            Ok(states)
        })
    }

    /// Wrong codes of all people, by the person's key.
    pub fn locks(&self) -> Result<Lookup<String, LockRow>, RecordsError> {
        self.read_now(|connection| {
            let mut statement = connection.prepare("SELECT person, points, first_us, last_us, locked_until_us, gateway FROM locks")?;
            let locks = statement.query_map([], |row| Ok((row.get(0)?, read_lock(row, 1)?)))?;
            locks.collect()
        })
    }

    /// Adds a factor to a person, or replaces one of the same kind and label. Its number; none if there is no such person.
    pub async fn add_factor(&self, source: String, login: String, factor: NewFactor, now: Moment) -> Result<Option<u64>, RecordsError> {
        let person = Changed::Person { source: source.clone(), login: login.clone() };
        let add = move |transaction: &Transaction<'_>| match person_number(transaction, &source, &login)? {
            Some(person) => keep_factor(transaction, person, &factor, now).map(Some),
            None => Ok(None),
        };
        self.write_facts(add, |added| if added.is_some() { vec![person] } else { Vec::new() }).await
    }

    /// Takes a factor of a person out; `false` if the person has none with this number.
    pub async fn remove_factor(&self, source: String, login: String, factor: u64) -> Result<bool, RecordsError> {
        let person = Changed::Person { source: source.clone(), login: login.clone() };
        let remove = move |transaction: &Transaction<'_>| {
            let Some(person) = person_number(transaction, &source, &login)? else { return Ok(false) };
            Ok(transaction.execute("DELETE FROM factors WHERE id = ?1 AND person = ?2", params![factor as i64, person])? == 1)
        };
        self.write_people_facts(remove, |removed| if *removed { vec![person] } else { Vec::new() }).await
    }

    /// Changes what was agreed about a factor; `false` if it is gone.
    pub async fn set_settings(&self, factor: u64, settings: super::FactorSettings) -> Result<bool, RecordsError> {
        let settings = serde_json::to_string(&settings).unwrap_or_default();
        self.write_facts_of(factor, move |transaction| {
            Ok(transaction.execute("UPDATE factors SET settings = ?2 WHERE id = ?1", params![factor as i64, settings])? == 1)
        })
        .await
    }

    /// Changes what is sealed of a factor, such as the counter of a security key.
    pub async fn set_sealed(&self, factor: u64, sealed: Vec<u8>) -> Result<bool, RecordsError> {
        self.write_facts_of(factor, move |transaction| {
            Ok(transaction.execute("UPDATE factors SET sealed = ?2 WHERE id = ?1", params![factor as i64, sealed])? == 1)
        })
        .await
    }

    /// Gives a factor another name; `false` if it is gone.
    pub async fn rename_factor(&self, factor: u64, label: String) -> Result<bool, RecordsError> {
        self.write_facts_of(factor, move |transaction| {
            Ok(transaction.execute("UPDATE factors SET label = ?2 WHERE id = ?1", params![factor as i64, label])? == 1)
        })
        .await
    }

    /// Sets the hash of a factor's PIN, or takes it out.
    pub async fn set_pin(&self, factor: u64, pin: Option<String>) -> Result<bool, RecordsError> {
        self.write_facts_of(factor, move |transaction| {
            Ok(transaction.execute("UPDATE factors SET pin = ?2 WHERE id = ?1", params![factor as i64, pin])? == 1)
        })
        .await
    }

    /// Sets what a device is at, as an operator found it out.
    pub async fn set_state(&self, factor: u64, state: DeviceState) -> Result<(), RecordsError> {
        self.write_people(move |transaction| write_state(transaction, factor, &state)).await
    }

    /// Forgets the wrong codes of a person; `false` if there were none.
    pub async fn release(&self, person: String) -> Result<bool, RecordsError> {
        let changed = Changed::person(&person);
        let release = move |transaction: &Transaction<'_>| Ok(transaction.execute("DELETE FROM locks WHERE person = ?1", [person])? == 1);
        self.write_facts(release, |released| if *released { vec![changed] } else { Vec::new() }).await
    }
}

impl Records {
    /// See [`crate::agreement::Agreement::use_code_then`].
    pub(crate) fn use_code_then(&self, mark: CodeMark, now: Moment, then: impl FnOnce(Result<Marked, RecordsError>) + Send + 'static) {
        let remembered = Arc::clone(&self.remembered);
        self.writer.send_soon(Job::new(move |transaction| use_code(transaction, &remembered, &mark, now), then).together());
    }

    /// As [`Records::use_code_then`], awaited.
    pub(super) async fn use_code(&self, mark: CodeMark, now: Moment) -> Result<Marked, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        self.write_together(move |transaction| use_code(transaction, &remembered, &mark, now)).await
    }

    /// See [`crate::agreement::Agreement::count_wrong`].
    pub(crate) async fn count_wrong(&self, wrong: WrongTry, lockout: Lockout, now: Moment) -> Result<LockRow, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        // Before the writer comes to it: a code that is reserved must not pass it by.
        remembered.note_wrong(&wrong.person);
        self.write_together(move |transaction| {
            remembered.note_wrong(&wrong.person);
            count_wrong(transaction, &wrong, lockout, now)
        })
        .await
    }
}

fn use_code(transaction: &Transaction<'_>, remembered: &Remembered, mark: &CodeMark, now: Moment) -> rusqlite::Result<Marked> {
    let at = now.micros() as i64;
    let was_wrong = remembered.may_have_been_wrong(transaction, &mark.person)?;
    let lock: Option<Option<i64>> = match was_wrong {
        true => transaction
            .prepare_cached("SELECT locked_until_us FROM locks WHERE person = ?1")?
            .query_row([&mark.person], |row| row.get(0))
            .optional()?,
        false => None,
    };
    if let Some(until) = lock.flatten().filter(|until| *until > at) {
        return Ok(Marked::Locked(Moment::from_micros(until as u64)));
    }
    let state = match mark.device {
        None => None,
        Some((device, used)) => match use_up(transaction, remembered, device, used, at)? {
            Some(state) => Some(state),
            None => return Ok(Marked::Before),
        },
    };
    if was_wrong {
        transaction.prepare_cached("DELETE FROM locks WHERE person = ?1")?.execute([&mark.person])?;
        remembered.note_right(&mark.person);
    }
    Ok(Marked::Now(state))
}

/// What the device is at once the code is used; nothing if it was used before.
pub(super) fn use_up(
    transaction: &Transaction<'_>,
    remembered: &Remembered,
    device: u64,
    used: Used,
    at: i64,
) -> rusqlite::Result<Option<DeviceState>> {
    if let Used::Step { step, until, drift } = used {
        let used = UsedStep { device, step, drift, until_us: until.micros(), at_us: at.cast_unsigned() };
        return match remembered.use_step(transaction, used)? {
            Use::Now(state) => Ok(Some(state)),
            Use::Before => Ok(None),
            Use::NoDevice => {
                // A mark that ends by itself.
                let key = [b"totp".as_slice(), &device.to_be_bytes(), &step.to_be_bytes()].concat();
                Ok(super::marks::put(transaction, &key, until.micros() as i64, at)?.then_some(used.state()))
            }
        };
    }
    let mut state = state_of(transaction, device)?;
    match used {
        Used::Step { .. } => return Ok(None),
        // A handset that was removed while it was asked says nothing any more.
        Used::Approval if settings_of(transaction, device)?.is_none_or(|settings| settings.waits_for.is_some()) => return Ok(None),
        Used::Approval => {}
        Used::Counter(counter) if counter < state.counter => return Ok(None),
        Used::Counter(counter) => (state.counter, state.ahead) = (counter + 1, None),
        Used::Entry(entry) if state.used >> entry & 1 == 1 => return Ok(None),
        Used::Entry(entry) => state.used |= 1 << entry,
        Used::Turn => {
            // Removed meanwhile: none is left.
            let Some(settings) = settings_of(transaction, device)? else { return Ok(None) };
            if state.counter >= u64::from(settings.uses.unwrap_or(1)) {
                return Ok(None);
            }
            state.counter += 1;
        }
    }
    state.last_used_us = Some(at as u64);
    write_state(transaction, device, &state)?;
    Ok(Some(state))
}

/// Takes over the marks of layouts before the eighth, which had one for each used code of a device by time.
pub(super) fn take_over_steps(transaction: &Transaction<'_>) -> rusqlite::Result<()> {
    let mut statement = transaction.prepare("SELECT key FROM marks WHERE length(key) = 20 AND substr(key, 1, 4) = CAST('totp' AS BLOB)")?;
    let keys: Vec<Vec<u8>> = statement.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
    let mut steps: HashMap<u64, Vec<u64>> = HashMap::new();
    let number = |bytes: &[u8]| bytes.try_into().map_or(0, u64::from_be_bytes);
    for key in keys {
        steps.entry(number(&key[4..12])).or_default().push(number(&key[12..20]));
    }
    let mut insert = transaction.prepare("INSERT INTO used_steps VALUES (?1, ?2)")?;
    steps.iter().try_for_each(|(device, steps)| insert.execute(params![*device as i64, steps_to_keep(steps)]).map(|_| ()))
}

fn count_wrong(transaction: &Transaction<'_>, wrong: &WrongTry, lockout: Lockout, now: Moment) -> rusqlite::Result<LockRow> {
    let at = now.micros();
    let known = read_lock_of(transaction, &wrong.person)?;
    // A lock that is over leaves nothing behind.
    let known = known.filter(|lock| lock.locked_until_us.is_none_or(|until| until > at));
    let mut lock = known.unwrap_or_else(|| LockRow { first_us: at, ..LockRow::default() });
    lock.points = lock.points.saturating_add(wrong.points);
    (lock.last_us, lock.gateway) = (at, wrong.gateway.clone());
    if lock.locked_until_us.is_none() && lock.points >= lockout.after.saturating_mul(WrongTry::CODE) {
        lock.locked_until_us = Some(now.plus(lockout.time).micros());
    }
    transaction.prepare_cached("INSERT OR REPLACE INTO locks VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?.execute(params![
        wrong.person,
        lock.points,
        lock.first_us as i64,
        lock.last_us as i64,
        lock.locked_until_us.map(|until| until as i64),
        lock.gateway
    ])?;
    if let Some((device, counter)) = wrong.ahead {
        let state = DeviceState { ahead: Some((counter, at)), ..state_of(transaction, device)? };
        write_state(transaction, device, &state)?;
    }
    Ok(lock)
}

/// Wrong codes of a person.
pub(super) fn read_lock_of(connection: &Connection, person: &str) -> rusqlite::Result<Option<LockRow>> {
    connection
        .prepare_cached("SELECT points, first_us, last_us, locked_until_us, gateway FROM locks WHERE person = ?1")?
        .query_row([person], |row| read_lock(row, 0))
        .optional()
}

pub(super) fn read_state_of(transaction: &Connection, factor: u64) -> rusqlite::Result<DeviceState> {
    state_of(transaction, factor)
}

/// Puts back what a factor was at.
pub(super) fn restore_state(transaction: &Transaction<'_>, factor: u64, state: &DeviceState) -> rusqlite::Result<()> {
    write_state(transaction, factor, state)
}

fn state_of(transaction: &Connection, device: u64) -> rusqlite::Result<DeviceState> {
    let known = transaction
        .prepare_cached("SELECT drift, counter, ahead, ahead_us, used, last_used_us FROM factor_states WHERE factor = ?1")?
        .query_row([device as i64], |row| read_state(row, 0))
        .optional()?;
    if let Some(known) = known {
        return Ok(known);
    }
    // Not used yet: a device by count begins where it was enrolled.
    let settings = settings_of(transaction, device)?.unwrap_or_default();
    Ok(DeviceState { counter: settings.counter.unwrap_or(0), ..DeviceState::default() })
}

fn settings_of(transaction: &Connection, device: u64) -> rusqlite::Result<Option<super::FactorSettings>> {
    let settings: Option<String> = transaction
        .prepare_cached("SELECT settings FROM factors WHERE id = ?1")?
        .query_row([device as i64], |row| row.get(0))
        .optional()?;
    Ok(settings.map(|text| serde_json::from_str(&text).unwrap_or_default()))
}

/// Writes what a device is at, but for its used steps; nothing where the factor was removed meanwhile.
fn write_state(transaction: &Transaction<'_>, device: u64, state: &DeviceState) -> rusqlite::Result<()> {
    transaction
        .prepare_cached(
            "INSERT INTO factor_states (factor, drift, counter, ahead, ahead_us, used, last_used_us)
             SELECT id, ?2, ?3, ?4, ?5, ?6, ?7 FROM factors WHERE id = ?1
             ON CONFLICT (factor) DO UPDATE SET drift = excluded.drift, counter = excluded.counter, ahead = excluded.ahead,
                 ahead_us = excluded.ahead_us, used = excluded.used, last_used_us = excluded.last_used_us",
        )?
        .execute(params![
            device as i64,
            state.drift,
            state.counter as i64,
            state.ahead.map(|(counter, _)| counter as i64),
            state.ahead.map(|(_, at)| at as i64),
            state.used as i64,
            state.last_used_us.map(|at| at as i64)
        ])
        .map(|_| ())
}

fn read_state(row: &rusqlite::Row<'_>, from: usize) -> rusqlite::Result<DeviceState> {
    let number = |at: usize| row.get::<_, Option<i64>>(from + at).map(|value| value.map(|value| value as u64));
    Ok(DeviceState {
        drift: row.get(from)?,
        counter: number(1)?.unwrap_or(0),
        ahead: number(2)?.zip(number(3)?),
        used: number(4)?.unwrap_or(0),
        last_used_us: number(5)?,
    })
}

fn read_lock(row: &rusqlite::Row<'_>, from: usize) -> rusqlite::Result<LockRow> {
    Ok(LockRow {
        points: row.get(from)?,
        first_us: row.get::<_, i64>(from + 1)? as u64,
        last_us: row.get::<_, i64>(from + 2)? as u64,
        locked_until_us: row.get::<_, Option<i64>>(from + 3)?.map(|until| until as u64),
        gateway: row.get(from + 4)?,
    })
}

pub(super) fn person_number(transaction: &Transaction<'_>, source: &str, login: &str) -> rusqlite::Result<Option<i64>> {
    transaction.query_row("SELECT id FROM people WHERE source = ?1 AND login = ?2", params![source, login], |row| row.get(0)).optional()
}

#[cfg(test)]
#[path = "factors_tests.rs"]
pub(super) mod tests;
