//! Invitations, stopped approvals and remembered devices, as they are kept.

use super::DeviceState;
use super::factors::{person_number, use_up};
use super::people::{keep, keep_factor, read_people};
use super::{Changed, NewFactor, NewPerson, Records, RecordsError};
use bivector_core::login::TrustedDevice;
use bivector_model::Moment;
use bivector_model::device::Used;
use bivector_site::Invited;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use std::collections::HashMap;
use std::sync::Arc;

/// An invitation as kept; of its code only the hash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// Record number.
    pub id: u64,
    /// The person's key.
    pub person: String,
    /// What it is to.
    pub factor: Invited,
    /// When it was made, in microseconds since 1970.
    pub created_us: u64,
    /// Until when it may be used.
    pub until_us: u64,
    /// Who made it.
    pub operator: String,
    /// Where it was sent, mostly hidden; none where it was handed over on screen.
    pub sent_to: Option<String>,
    /// When it was used.
    pub used_us: Option<u64>,
}

/// An invitation to keep.
#[derive(Debug, Clone)]
pub struct NewInvitation {
    /// The person's key.
    pub person: String,
    /// What it is to.
    pub factor: Invited,
    /// The hash of its code.
    pub hash: Vec<u8>,
    /// Until when it may be used.
    pub until: Moment,
    /// Who makes it.
    pub operator: String,
    /// Where it is sent, mostly hidden.
    pub sent_to: Option<String>,
}

/// What a code of an invitation leads to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Opened {
    /// It may be used.
    Open(Invitation),
    /// Its time is over since then.
    Expired(Moment),
    /// It was used before, or a newer one has taken its place.
    Used,
    /// There is none.
    Unknown,
}

/// Approvals of a person that are stopped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StopRow {
    /// When the person said "that was not me", in microseconds since 1970.
    pub at_us: u64,
    /// Until when.
    pub until_us: u64,
    /// The gateway of the login that was not theirs.
    pub gateway: String,
    /// Where it came from.
    pub caller: String,
    /// Its reference.
    pub reference: String,
}

const COLUMNS: &str = "id, person, factor, created_us, until_us, operator, sent_to, used_us";

impl Records {
    /// Keeps an invitation; earlier ones of the same person to the same factor end. Gives its number.
    pub async fn invite(&self, new: NewInvitation, now: Moment) -> Result<u64, RecordsError> {
        let changed = Changed::person(&new.person);
        let invite = move |transaction: &Transaction<'_>| {
            withdraw(transaction, &new.person, Some(new.factor))?;
            transaction.execute(
                "INSERT INTO invitations (person, factor, hash, created_us, until_us, operator, sent_to) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![new.person, new.factor.name(), new.hash, now.micros() as i64, new.until.micros() as i64, new.operator, new.sent_to],
            )?;
            Ok(transaction.last_insert_rowid() as u64)
        };
        self.write_facts(invite, |_| vec![changed]).await
    }

    /// Ends the invitations of a person that are still open; how many there were.
    pub async fn withdraw_invitations(&self, person: String) -> Result<usize, RecordsError> {
        let changed = Changed::person(&person);
        self.write_facts(
            move |transaction| withdraw(transaction, &person, None),
            |ended| if *ended > 0 { vec![changed] } else { Vec::new() },
        )
        .await
    }

    /// The newest invitation of each person that was not withdrawn, used or not.
    pub fn invitations(&self) -> Result<HashMap<String, Invitation>, RecordsError> {
        self.read_now(|connection| {
            let mut statement = connection.prepare(&format!("SELECT {COLUMNS} FROM invitations WHERE withdrawn = 0 ORDER BY id"))?;
            let rows = statement.query_map([], read_invitation)?;
            rows.map(|row| row.map(|row| (row.person.clone(), row))).collect()
        })
    }

    /// Approvals that are stopped, by the person's key.
    pub fn stops(&self) -> Result<HashMap<String, StopRow>, RecordsError> {
        self.read_now(|connection| {
            let mut statement = connection.prepare("SELECT person, at_us, until_us, gateway, caller, reference FROM stops")?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, read_stop(row)?)))?;
            rows.collect()
        })
    }

    /// Devices that are remembered.
    pub fn remembered(&self, now: Moment) -> Result<HashMap<TrustedDevice, Moment>, RecordsError> {
        self.read_now(|connection| Ok(devices(connection, None, now)?.into_iter().collect()))
    }

    /// Remembers a device. Not awaited: a device that is forgotten by a crash gives its factor once more.
    pub fn remember(&self, station: TrustedDevice, until: Moment, now: Moment) {
        let feed = std::sync::Arc::clone(&self.feed);
        self.post(
            move |transaction| {
                feed.add(transaction, &Changed::person(&station.person))?;
                transaction.prepare_cached("DELETE FROM remembered WHERE until_us < ?1")?.execute([now.micros() as i64])?;
                transaction.prepare_cached("INSERT OR REPLACE INTO remembered VALUES (?1, ?2, ?3, ?4)")?.execute(params![
                    station.person,
                    station.gateway,
                    station.caller,
                    until.micros() as i64
                ])?;
                Ok(())
            },
            || {},
        );
    }

    /// Forgets the devices of a person, and lets approvals go on; whether there was anything.
    pub async fn forget_devices(&self, person: String) -> Result<bool, RecordsError> {
        let changed = Changed::person(&person);
        let forget = move |transaction: &Transaction<'_>| {
            let stops = transaction.execute("DELETE FROM stops WHERE person = ?1", [&person])?;
            let devices = transaction.execute("DELETE FROM remembered WHERE person = ?1", [&person])?;
            Ok(stops + devices > 0)
        };
        self.write_facts(forget, |any| if *any { vec![changed] } else { Vec::new() }).await
    }

    /// Looks an invitation up by the hash of its code, without using it.
    pub async fn invitation(&self, hash: Vec<u8>, now: Moment) -> Result<Opened, RecordsError> {
        self.write(move |transaction| look_up(transaction, &hash, now)).await
    }
}

impl Records {
    /// Uses an invitation up and adds the factor that came of it, in one step: of any number at once exactly one gets it.
    ///
    /// # Errors
    /// It could not be written. Then nothing was used up.
    pub async fn use_invitation(&self, hash: Vec<u8>, factor: NewFactor, now: Moment) -> Result<(Opened, Option<u64>), RecordsError> {
        self.write_facts(move |transaction| use_invitation(transaction, &hash, &factor, now), |(opened, id)| whose(opened, id.is_some()))
            .await
    }

    /// Keeps an app that a person without a factor has set up, with its first code used, in one step. Its number and what it is at;
    /// nothing where the person has a factor already.
    ///
    /// # Errors
    /// It could not be written. Then nobody gets in by it.
    pub async fn enrol(
        &self,
        person: NewPerson,
        factor: NewFactor,
        used: Used,
        now: Moment,
    ) -> Result<Option<(u64, DeviceState)>, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        let changed = Changed::Person { source: person.source.clone(), login: person.login.clone() };
        self.write_facts(
            move |transaction| {
                let has = |transaction: &Transaction<'_>| {
                    let known = read_people(transaction, Some((&person.source, &person.login)))?.pop();
                    Ok::<_, rusqlite::Error>(known.map(|known| known.factors.iter().any(|factor| factor.settings.waits_for.is_none())))
                };
                match has(transaction)? {
                    Some(true) => return Ok(None),
                    Some(false) => {}
                    None => keep(transaction, &person, now)?,
                }
                let Some(number) = person_number(transaction, &person.source, &person.login)? else { return Ok(None) };
                let id = keep_factor(transaction, number, &factor, now)?;
                Ok(use_up(transaction, &remembered, id, used, now.micros() as i64)?.map(|state| (id, state)))
            },
            |_| vec![changed],
        )
        .await
    }

    /// Uses an invitation to an app up and keeps the app, with its first code used. What the invitation led to; number and state.
    ///
    /// # Errors
    /// It could not be written. Then nothing was used up.
    pub async fn use_invitation_to_app(
        &self,
        hash: Vec<u8>,
        factor: NewFactor,
        used: Used,
        now: Moment,
    ) -> Result<(Opened, Option<(u64, DeviceState)>), RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        self.write_facts(
            move |transaction| {
                let (opened, id) = use_invitation(transaction, &hash, &factor, now)?;
                let Some(id) = id else { return Ok((opened, None)) };
                Ok((opened, use_up(transaction, &remembered, id, used, now.micros() as i64)?.map(|state| (id, state))))
            },
            |(opened, added)| whose(opened, added.is_some()),
        )
        .await
    }

    /// Keeps an app of somebody who is known, with its first code used. Its number and what it is at; nothing if the person is gone.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn add_app(
        &self,
        source: String,
        login: String,
        factor: NewFactor,
        used: Used,
        now: Moment,
    ) -> Result<Option<(u64, DeviceState)>, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        let changed = Changed::Person { source: source.clone(), login: login.clone() };
        self.write_facts(
            move |transaction| {
                let Some(number) = person_number(transaction, &source, &login)? else { return Ok(None) };
                let id = keep_factor(transaction, number, &factor, now)?;
                Ok(use_up(transaction, &remembered, id, used, now.micros() as i64)?.map(|state| (id, state)))
            },
            |_| vec![changed],
        )
        .await
    }

    /// Stops approvals of a person. Durable when it returns.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn stop_approvals(&self, person: String, stop: StopRow) -> Result<(), RecordsError> {
        let changed = Changed::person(&person);
        self.write_facts(
            move |transaction| {
                transaction.execute(
                    "INSERT OR REPLACE INTO stops VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                    params![person, stop.at_us as i64, stop.until_us as i64, stop.gateway, stop.caller, stop.reference],
                )?;
                Ok(())
            },
            |()| vec![changed],
        )
        .await
    }
}

/// Whose fact has changed where an invitation led to something.
fn whose(opened: &Opened, led_to_something: bool) -> Vec<Changed> {
    match opened {
        Opened::Open(invitation) if led_to_something => vec![Changed::person(&invitation.person)],
        _ => Vec::new(),
    }
}

fn use_invitation(transaction: &Transaction<'_>, hash: &[u8], factor: &NewFactor, now: Moment) -> rusqlite::Result<(Opened, Option<u64>)> {
    let opened = look_up(transaction, hash, now)?;
    let Opened::Open(invitation) = &opened else { return Ok((opened, None)) };
    let whom = invitation.person.split_once(':');
    let person = whom.map(|(source, login)| person_number(transaction, source, login)).transpose()?.flatten();
    let Some(person) = person else { return Ok((Opened::Unknown, None)) };
    transaction.execute("UPDATE invitations SET used_us = ?2 WHERE id = ?1", params![invitation.id as i64, now.micros() as i64])?;
    let id = keep_factor(transaction, person, factor, now)?;
    Ok((opened, Some(id)))
}

fn withdraw(transaction: &Transaction<'_>, person: &str, factor: Option<Invited>) -> rusqlite::Result<usize> {
    transaction.execute(
        "UPDATE invitations SET withdrawn = 1 WHERE person = ?1 AND (?2 IS NULL OR factor = ?2) AND used_us IS NULL AND withdrawn = 0",
        params![person, factor.map(Invited::name)],
    )
}

fn look_up(transaction: &Transaction<'_>, hash: &[u8], now: Moment) -> rusqlite::Result<Opened> {
    let found: Option<(Invitation, bool)> = transaction
        .query_row(&format!("SELECT {COLUMNS}, withdrawn FROM invitations WHERE hash = ?1"), [hash], |row| {
            Ok((read_invitation(row)?, row.get(8)?))
        })
        .optional()?;
    Ok(match found {
        None => Opened::Unknown,
        Some((invitation, withdrawn)) if withdrawn || invitation.used_us.is_some() => Opened::Used,
        Some((invitation, _)) if invitation.until_us < now.micros() => Opened::Expired(Moment::from_micros(invitation.until_us)),
        Some((invitation, _)) => Opened::Open(invitation),
    })
}

/// The newest invitation of a person that was not withdrawn.
pub(super) fn read_invitation_of(connection: &Connection, person: &str) -> rusqlite::Result<Option<Invitation>> {
    let newest = format!("SELECT {COLUMNS} FROM invitations WHERE person = ?1 AND withdrawn = 0 ORDER BY id DESC LIMIT 1");
    connection.prepare_cached(&newest)?.query_row([person], read_invitation).optional()
}

/// Stopped approvals of a person.
pub(super) fn read_stop_of(connection: &Connection, person: &str) -> rusqlite::Result<Option<StopRow>> {
    let stop = "SELECT person, at_us, until_us, gateway, caller, reference FROM stops WHERE person = ?1";
    connection.prepare_cached(stop)?.query_row([person], read_stop).optional()
}

fn read_stop(row: &rusqlite::Row<'_>) -> rusqlite::Result<StopRow> {
    let number = |at: usize| row.get::<_, i64>(at).map(i64::cast_unsigned);
    Ok(StopRow { at_us: number(1)?, until_us: number(2)?, gateway: row.get(3)?, caller: row.get(4)?, reference: row.get(5)? })
}

/// Trusted devices of one person, or of everybody.
pub(super) fn devices(connection: &Connection, person: Option<&str>, now: Moment) -> rusqlite::Result<Vec<(TrustedDevice, Moment)>> {
    let mut statement = connection
        .prepare_cached("SELECT person, gateway, caller, until_us FROM remembered WHERE until_us > ?1 AND (?2 IS NULL OR person = ?2)")?;
    let rows = statement.query_map(params![now.micros().cast_signed(), person], |row| {
        let station = TrustedDevice { person: row.get(0)?, gateway: row.get(1)?, caller: row.get(2)? };
        Ok((station, Moment::from_micros(row.get::<_, i64>(3)?.cast_unsigned())))
    })?;
    rows.collect()
}

fn read_invitation(row: &rusqlite::Row<'_>) -> rusqlite::Result<Invitation> {
    let factor: String = row.get(2)?;
    Ok(Invitation {
        id: row.get::<_, i64>(0)? as u64,
        person: row.get(1)?,
        factor: Invited::ALL.iter().copied().find(|known| known.name() == factor).unwrap_or(Invited::Approval),
        created_us: row.get::<_, i64>(3)? as u64,
        until_us: row.get::<_, i64>(4)? as u64,
        operator: row.get(5)?,
        sent_to: row.get(6)?,
        used_us: row.get::<_, Option<i64>>(7)?.map(|at| at as u64),
    })
}
