//! The agreement of a single node. State that must survive a crash is in its records, the rest in memory.

use super::claims::Claims;
use super::rates::Rates;
use super::topics::Topics;
use super::{Agreement, Allowance, Answer, AttemptCount, AttemptRefused, Counted, Rate, Reserved, Tally, Then, Took};
use crate::records::{GuessRow, LockRow, Marked, Records, RecordsError};
use bivector_core::login::{CodeMark, WrongTry};
use bivector_model::Moment;
use bivector_model::attempts::{Attempts, Ended};
use bivector_model::device::Used;
use bivector_site::{Lockout, Passwords};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

/// One table per kind of attempt, so that a flood of one kind does not push out the others.
#[derive(Debug)]
struct Tables {
    by_tally: [Attempts; Tally::COUNT],
    /// Wrong passwords about people as they stand in the records.
    kept: HashMap<String, GuessRow>,
}

impl Tables {
    fn of(&mut self, tally: Tally) -> &mut Attempts {
        &mut self.by_tally[tally as usize]
    }

    fn begin(&mut self, places: &[Counted], now: Moment) -> Result<(), AttemptRefused> {
        for (at, place) in places.iter().enumerate() {
            let table = self.of(place.tally);
            match table.begin(&place.key, &place.limit, now) {
                Ok(()) => {}
                Err(_) if place.anyway => table.begin_anyway(&place.key, &place.limit, now),
                Err(refused) => {
                    for begun in &places[..at] {
                        self.of(begun.tally).end(&begun.key, Ended::Uncounted, &begun.limit, now);
                    }
                    return Err(AttemptRefused { tally: place.tally, refused });
                }
            }
        }
        Ok(())
    }

    /// Ends an attempt in one place; gives its count and what is to be written.
    fn end(&mut self, place: &Counted, ended: Ended, now: Moment) -> (AttemptCount, Option<Write>) {
        let (wrong, until) = self.of(place.tally).end(&place.key, ended, &place.limit, now);
        let count = AttemptCount { wrong, until, last_us: now.micros(), gateway: place.lasting.clone().unwrap_or_default() };
        let write = place.lasting.as_ref().and_then(|gateway| match ended {
            Ended::Right => self.kept.remove(&place.key).map(|_| Write::Forget(place.key.clone())),
            Ended::Wrong => {
                let row = GuessRow { wrong, last_us: now.micros(), gateway: gateway.clone() };
                self.kept.insert(place.key.clone(), row.clone());
                Some(Write::Keep(place.key.clone(), row))
            }
            Ended::Uncounted => None,
        });
        (count, write)
    }
}

/// What is to be written of a count.
enum Write {
    Forget(String),
    Keep(String, GuessRow),
}

/// The agreement of a single node.
#[derive(Debug)]
pub struct Embedded {
    records: Records,
    attempts: Mutex<Tables>,
    rates: Rates,
    topics: Topics,
    claims: Claims,
}

impl Embedded {
    /// Over these records.
    ///
    /// # Errors
    /// They cannot be read.
    pub fn open(records: Records) -> Result<Self, RecordsError> {
        let kept = records.guesses()?;
        const TALLIES: [Tally; Tally::COUNT] = [
            Tally::PasswordsFrom,
            Tally::PasswordsFromAbout,
            Tally::PasswordsAbout,
            Tally::ConsoleFrom,
            Tally::ConsoleAs,
            Tally::ConsoleCode,
            Tally::PageFrom,
            Tally::InvitationFrom,
            Tally::Confirmation,
        ];
        let mut tables = Tables { by_tally: TALLIES.map(|tally| Attempts::new(tally.capacity())), kept };
        let limit = Passwords::default().of_person();
        for (person, row) in &tables.kept {
            tables.by_tally[Tally::PasswordsAbout as usize].restore(person, row.wrong, Moment::from_micros(row.last_us), &limit);
        }
        Ok(Embedded {
            records,
            attempts: Mutex::new(tables),
            rates: Rates::default(),
            topics: Topics::default(),
            claims: Claims::default(),
        })
    }
}

/// The result of an in-memory operation.
fn ready<'a, T: Send + 'a>(value: T) -> Answer<'a, T> {
    Box::pin(std::future::ready(Ok(value)))
}

/// The tables of attempts are locked by nobody for long, and a panic in between leaves them unusable.
fn broken() -> RecordsError {
    RecordsError("the counters of wrong attempts cannot be used; restart the service".into())
}

impl Agreement for Embedded {
    fn mark(&self, key: Vec<u8>, until: Moment, now: Moment) -> Answer<'_, bool> {
        Box::pin(self.records.mark(key, until, now))
    }

    fn use_code_then(&self, mark: CodeMark, now: Moment, then: Then<Marked>) {
        self.records.use_code_then(mark, now, then);
    }

    fn reserve(&self, person: &str, code: (u64, Used), now: Moment) -> Option<Box<dyn Reserved>> {
        self.records.reserve(person, code, now).map(|reserved| Box::new(reserved) as Box<dyn Reserved>)
    }

    fn count_wrong(&self, wrong: WrongTry, lockout: Lockout, now: Moment) -> Answer<'_, LockRow> {
        Box::pin(self.records.count_wrong(wrong, lockout, now))
    }

    fn begin_attempt(&self, places: &[Counted], now: Moment) -> Answer<'_, Result<(), AttemptRefused>> {
        let begun = self.attempts.lock().map(|mut tables| tables.begin(places, now)).map_err(|_| broken());
        Box::pin(std::future::ready(begun))
    }

    fn end_attempt(&self, places: Vec<(Counted, Ended)>, now: Moment) -> Answer<'_, Vec<AttemptCount>> {
        let Ok(mut tables) = self.attempts.lock() else { return Box::pin(std::future::ready(Err(broken()))) };
        let (counts, writes): (Vec<_>, Vec<_>) = places.iter().map(|(place, ended)| tables.end(place, *ended, now)).unzip();
        drop(tables);
        let writes: Vec<Write> = writes.into_iter().flatten().collect();
        if writes.is_empty() {
            return ready(counts);
        }
        Box::pin(async move {
            for write in writes {
                let written = match write {
                    Write::Forget(person) => self.records.forget_guesses(person).await.map(drop),
                    Write::Keep(person, row) => self.records.keep_guesses(person, row).await,
                };
                if let Err(error) = written {
                    // It is counted in memory all the same.
                    tracing::warn!(%error, "a wrong password could not be written down");
                }
            }
            Ok(counts)
        })
    }

    fn attempts(&self, place: &Counted, now: Moment) -> AttemptCount {
        let Ok(mut tables) = self.attempts.lock() else { return AttemptCount::default() };
        let (wrong, until) = tables.of(place.tally).state(&place.key, &place.limit, now);
        let row = tables.kept.get(&place.key).filter(|_| place.tally == Tally::PasswordsAbout);
        AttemptCount {
            wrong,
            until,
            last_us: row.map_or(0, |row| row.last_us),
            gateway: row.map(|row| row.gateway.clone()).unwrap_or_default(),
        }
    }

    fn forget_attempts_about(&self, person: &str) -> Answer<'_, bool> {
        let person = person.to_owned();
        Box::pin(async move {
            let kept = self.records.forget_guesses(person.clone()).await?;
            let mut tables = self.attempts.lock().map_err(|_| broken())?;
            tables.kept.remove(&person);
            let ending = format!("\n{person}");
            tables.of(Tally::PasswordsFromAbout).forget_where(|pair| pair.ends_with(&ending));
            Ok(tables.of(Tally::PasswordsAbout).forget(&person) || kept)
        })
    }

    fn spend(&self, allowances: Vec<Allowance>, now: Moment) -> Answer<'_, Result<(), Rate>> {
        ready(self.rates.spend(&allowances, now))
    }

    fn store(&self, key: Vec<u8>, sealed: Vec<u8>, until: Moment, now: Moment) -> Answer<'_, ()> {
        Box::pin(self.records.store_once(key, sealed, until, now))
    }

    fn take(&self, key: Vec<u8>, now: Moment) -> Answer<'_, Took> {
        Box::pin(self.records.take_once(key, now))
    }

    fn claim(&self, key: String, value: u64, until: Moment, now: Moment) -> Answer<'_, Result<(), u64>> {
        ready(self.claims.claim(key, value, until, now))
    }

    fn release(&self, key: String, value: u64) -> Answer<'_, ()> {
        self.claims.release(&key, value);
        ready(())
    }

    fn publish(&self, topic: u64, value: Vec<u8>, until: Moment, now: Moment) -> Answer<'_, bool> {
        ready(self.topics.publish(topic, value, until, now))
    }

    fn published(&self, topic: u64) -> Answer<'_, Arc<[u8]>> {
        Box::pin(async move { Ok(self.topics.published(topic).await) })
    }
}
