//! Wrong passwords of logins: counted by caller, by caller about a person, and by person, in this order. What is counted about a person
//! outlives a restart.

use crate::tries::address_key;
use bivector_core::login::{Guess, GuessAnswer, GuessCount, Guesser};
use bivector_model::Moment;
use bivector_model::attempts::{Attempts, Ended};
use bivector_site::Passwords;
use bivector_store::metrics;
use bivector_store::records::{GuessRow, Records, RecordsError};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

/// Keys in each table; each takes about 200 bytes.
const CAPACITY: usize = 65_536;

/// Wrong passwords, as logins count them.
#[derive(Debug)]
pub struct Guesses {
    tables: Mutex<Tables>,
    records: Records,
}

#[derive(Debug)]
struct Tables {
    callers: Attempts,
    pairs: Attempts,
    people: Attempts,
    /// What stands in the records, by person.
    kept: HashMap<String, GuessRow>,
}

/// A guess that is being made. One that is dropped counts as a wrong one, here but not in the records: somebody has hung up.
#[derive(Debug)]
pub struct CountedGuess {
    guesses: Arc<Guesses>,
    guess: Arc<Guess>,
    limits: Passwords,
    now: Moment,
    lasting: bool,
    ended: bool,
}

/// Wrong passwords about a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PersonGuesses {
    /// In a row.
    pub wrong: u32,
    /// When the last was typed, in microseconds since 1970.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
    /// Until when no source is asked.
    pub until: Option<Moment>,
}

fn caller_key(caller: &str) -> String {
    caller.parse().map_or_else(|_| caller.to_lowercase(), address_key)
}

fn pair_key(caller: &str, person: &str) -> String {
    format!("{caller}\n{person}")
}

impl Guesses {
    /// Reads what was counted before.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn load(records: &Records) -> Result<Self, RecordsError> {
        let kept = records.guesses()?;
        let mut people = Attempts::new(CAPACITY);
        for (person, row) in &kept {
            people.restore(person, row.wrong, Moment::from_micros(row.last_us), &Passwords::default().of_person());
        }
        let tables = Tables { callers: Attempts::new(CAPACITY), pairs: Attempts::new(CAPACITY), people, kept };
        Ok(Guesses { tables: Mutex::new(tables), records: records.clone() })
    }

    /// Counts a guess before it is made, unless too many were wrong. `lasting` says whether the person is known: made-up names are counted
    /// in memory only, so that nobody fills the records with them.
    pub fn begin(
        self: &Arc<Self>,
        guess: Arc<Guess>,
        limits: Passwords,
        lasting: bool,
        now: Moment,
    ) -> (GuessAnswer, Option<CountedGuess>) {
        let limited = |whose, refused: bivector_model::attempts::Refused| {
            metrics::limited_guess(whose);
            (GuessAnswer::Limited { whose, wrong: refused.wrong, until: refused.until }, None)
        };
        let Ok(mut tables) = self.tables.lock() else {
            return limited(Guesser::Person, bivector_model::attempts::Refused { wrong: 0, until: now });
        };
        let caller = guess.caller.as_deref().map(caller_key);
        if let Some(caller) = &caller {
            let pair = pair_key(caller, &guess.person);
            if let Err(refused) = tables.callers.begin(caller, &limits.of_caller(), now) {
                return limited(Guesser::Caller, refused);
            }
            if let Err(refused) = tables.pairs.begin(&pair, &limits.of_caller_about_person(), now) {
                tables.callers.end(caller, Ended::Uncounted, &limits.of_caller(), now);
                return limited(Guesser::Caller, refused);
            }
        }
        match tables.people.begin(&guess.person, &limits.of_person(), now) {
            Ok(()) => {}
            Err(_) if guess.trusted => tables.people.begin_anyway(&guess.person, &limits.of_person(), now),
            Err(refused) => {
                if let Some(caller) = &caller {
                    tables.callers.end(caller, Ended::Uncounted, &limits.of_caller(), now);
                    tables.pairs.end(&pair_key(caller, &guess.person), Ended::Uncounted, &limits.of_caller_about_person(), now);
                }
                return limited(Guesser::Person, refused);
            }
        }
        (GuessAnswer::MayTry, Some(CountedGuess { guesses: Arc::clone(self), guess, limits, now, lasting, ended: false }))
    }

    /// What is counted about a person.
    pub fn of(&self, person: &str, limits: Passwords, now: Moment) -> Option<PersonGuesses> {
        let tables = self.tables.lock().ok()?;
        let (wrong, until) = tables.people.state(person, &limits.of_person(), now);
        let row = tables.kept.get(person);
        (wrong > 0).then(|| PersonGuesses {
            wrong,
            last_us: row.map_or(0, |row| row.last_us),
            gateway: row.map(|row| row.gateway.clone()).unwrap_or_default(),
            until,
        })
    }

    /// Forgets the wrong passwords about a person, from any caller; `false` if there were none.
    ///
    /// # Errors
    /// The records failed; nothing is forgotten then.
    pub async fn release(&self, person: &str) -> Result<bool, RecordsError> {
        let kept = self.records.forget_guesses(person.to_owned()).await?;
        let Ok(mut tables) = self.tables.lock() else { return Ok(kept) };
        tables.kept.remove(person);
        let ending = format!("\n{person}");
        tables.pairs.forget_where(|pair| pair.ends_with(&ending));
        Ok(tables.people.forget(person) || kept)
    }
}

impl CountedGuess {
    fn end(&mut self, ended: Ended, now: Moment) -> GuessCount {
        if std::mem::replace(&mut self.ended, true) {
            return GuessCount::default();
        }
        let Ok(mut tables) = self.guesses.tables.lock() else { return GuessCount::default() };
        let (guess, limits) = (&self.guess, &self.limits);
        if let Some(caller) = guess.caller.as_deref().map(caller_key) {
            // A right password says nothing of what else the same caller has tried.
            let callers = if ended == Ended::Right { Ended::Uncounted } else { ended };
            tables.callers.end(&caller, callers, &limits.of_caller(), now);
            tables.pairs.end(&pair_key(&caller, &guess.person), ended, &limits.of_caller_about_person(), now);
        }
        let (wrong, until) = tables.people.end(&guess.person, ended, &limits.of_person(), now);
        GuessCount { wrong, until }
    }

    /// The password was right, or wrong. What is counted about a person is durable when this returns.
    pub async fn settle(mut self, right: bool, now: Moment) -> GuessCount {
        let count = self.end(if right { Ended::Right } else { Ended::Wrong }, now);
        let person = self.guess.person.clone();
        if !self.lasting {
            return count;
        }
        let row = GuessRow { wrong: count.wrong, last_us: now.micros(), gateway: self.guess.gateway.clone() };
        let was_kept = match self.guesses.tables.lock() {
            Ok(mut tables) if right => tables.kept.remove(&person).is_some(),
            Ok(mut tables) => tables.kept.insert(person.clone(), row.clone()).is_some(),
            Err(_) => true,
        };
        let written = match right {
            true if was_kept => self.guesses.records.forget_guesses(person).await.map(drop),
            true => Ok(()),
            false => {
                if count.until.is_some() {
                    tracing::warn!(
                        person,
                        gateway = row.gateway,
                        wrong = row.wrong,
                        "too many wrong passwords: the source is not asked for a while"
                    );
                }
                self.guesses.records.keep_guesses(person, row).await
            }
        };
        if let Err(error) = written {
            // It is counted in memory all the same.
            tracing::warn!(%error, "a wrong password could not be written down");
        }
        count
    }

    /// The login has ended and nothing was said of the password.
    pub fn uncounted(mut self, now: Moment) {
        self.end(Ended::Uncounted, now);
    }
}

impl Drop for CountedGuess {
    fn drop(&mut self) {
        self.end(Ended::Wrong, self.now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_store::records::Sync;
    use std::time::Duration;

    const NOON: Moment = Moment::from_secs(1_800_000_000);

    fn limits() -> Passwords {
        Passwords { after: 4, per_caller: 6, ..Passwords::default() }
    }

    fn guess(person: &str, caller: Option<&str>, trusted: bool) -> Arc<Guess> {
        Arc::new(Guess { person: person.into(), caller: caller.map(str::to_owned), gateway: "breakwater".into(), trusted })
    }

    fn open() -> (tempfile::TempDir, Records, Arc<Guesses>) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let guesses = Arc::new(Guesses::load(&records).unwrap());
        (folder, records, guesses)
    }

    async fn wrong(guesses: &Arc<Guesses>, person: &str, caller: Option<&str>) -> Option<Guesser> {
        match guesses.begin(guess(person, caller, false), limits(), !person.starts_with('?'), NOON) {
            (GuessAnswer::MayTry, Some(begun)) => {
                begun.settle(false, NOON).await;
                None
            }
            (GuessAnswer::Limited { whose, .. }, None) => Some(whose),
            other => panic!("{other:?}"),
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn one_caller_never_makes_a_person_wait_and_many_do() {
        let (_folder, _records, guesses) = open();
        let ines = "tidehall:ines";
        assert_eq!(wrong(&guesses, ines, Some("198.51.100.7")).await, None);
        assert_eq!(wrong(&guesses, ines, Some("198.51.100.7")).await, None);
        for _ in 0..50 {
            assert_eq!(wrong(&guesses, ines, Some("198.51.100.7")).await, Some(Guesser::Caller));
        }
        assert_eq!(guesses.of(ines, limits(), NOON).unwrap().wrong, 2, "what was refused is not counted about the person");
        assert_eq!(wrong(&guesses, ines, Some("203.0.113.9")).await, None);
        assert_eq!(wrong(&guesses, ines, Some("203.0.113.9")).await, None);
        assert_eq!(wrong(&guesses, ines, Some("192.0.2.77")).await, Some(Guesser::Person));
        let (passes, begun) = guesses.begin(guess(ines, Some("192.0.2.77"), true), limits(), true, NOON);
        assert_eq!(passes, GuessAnswer::MayTry);
        begun.unwrap().settle(true, NOON).await;
        assert_eq!(wrong(&guesses, ines, Some("192.0.2.77")).await, None, "the right password has ended the wait");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_caller_who_tries_one_password_on_everybody_waits_too() {
        let (_folder, _records, guesses) = open();
        for number in 0..6 {
            assert_eq!(wrong(&guesses, &format!("tidehall:p{number}"), Some("198.51.100.7")).await, None);
        }
        assert_eq!(wrong(&guesses, "tidehall:p7", Some("198.51.100.7")).await, Some(Guesser::Caller));
        assert_eq!(wrong(&guesses, "tidehall:p7", Some("198.51.100.8")).await, None);
        assert_eq!(wrong(&guesses, "tidehall:p8", None).await, None, "a gateway that names no caller is none itself");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn guesses_at_once_count_before_they_are_made_and_outages_do_not_count() {
        let (_folder, _records, guesses) = open();
        let begun: Vec<_> = (0..100).filter_map(|_| guesses.begin(guess("roster:sable", None, false), limits(), true, NOON).1).collect();
        assert_eq!(begun.len(), 4);
        begun.into_iter().for_each(|one| one.uncounted(NOON));
        assert_eq!(guesses.of("roster:sable", limits(), NOON), None);
        let (_, hung_up) = guesses.begin(guess("roster:sable", None, false), limits(), true, NOON);
        drop(hung_up);
        assert_eq!(guesses.of("roster:sable", limits(), NOON).unwrap().wrong, 1, "whoever hangs up has guessed");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_is_counted_about_a_person_outlives_a_restart_until_it_is_released() {
        let (folder, records, guesses) = open();
        for _ in 0..5 {
            wrong(&guesses, "roster:sable", None).await;
            wrong(&guesses, "?nobody", None).await;
        }
        records.close().await;
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let guesses = Arc::new(Guesses::load(&records).unwrap());
        assert_eq!(guesses.of("?nobody", limits(), NOON), None, "made-up names leave nothing in the records");
        let known = guesses.of("roster:sable", limits(), NOON).unwrap();
        assert_eq!((known.wrong, known.gateway.as_str(), known.until), (4, "breakwater", Some(NOON.plus(Duration::from_secs(60)))));
        assert!(guesses.release("roster:sable").await.unwrap() && !guesses.release("roster:sable").await.unwrap());
        assert_eq!(wrong(&guesses, "roster:sable", None).await, None);
    }
}
