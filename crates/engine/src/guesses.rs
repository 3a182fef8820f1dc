//! Wrong passwords of logins: counted by caller, by caller about a person, and by person, in this order. What is counted about a person
//! outlives a restart.

use crate::tries::address_key;
use bivector_core::login::{Guess, GuessAnswer, GuessCount, Guesser};
use bivector_model::Moment;
use bivector_model::attempts::Ended;
use bivector_site::Passwords;
use bivector_store::agreement::{Agreement, Counted, Tally, in_background};
use bivector_store::metrics;
use bivector_store::records::RecordsError;
use std::sync::Arc;

/// Wrong passwords, as logins count them.
#[derive(Debug, Clone)]
pub struct Guesses {
    agreement: Arc<dyn Agreement>,
}

/// A guess that is being made. One that is dropped counts as a wrong one, here but not in the records: somebody has hung up.
#[derive(Debug)]
pub struct CountedGuess {
    agreement: Arc<dyn Agreement>,
    person: String,
    gateway: String,
    /// Where it is counted, the person last.
    places: Vec<Counted>,
    now: Moment,
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
    /// Counted through this agreement.
    pub fn new(agreement: Arc<dyn Agreement>) -> Self {
        Guesses { agreement }
    }

    /// Counts a guess before it is made, unless too many were wrong. `lasting` says whether the person is known: made-up names are counted
    /// in memory only, so that nobody fills the records with them.
    pub async fn begin(&self, guess: Arc<Guess>, limits: Passwords, lasting: bool, now: Moment) -> (GuessAnswer, Option<CountedGuess>) {
        let mut places = Vec::with_capacity(3);
        if let Some(caller) = guess.caller.as_deref().map(caller_key) {
            let pair = pair_key(&caller, &guess.person);
            places.push(Counted::new(Tally::PasswordsFrom, caller, limits.of_caller()));
            places.push(Counted::new(Tally::PasswordsFromAbout, pair, limits.of_caller_about_person()));
        }
        places.push(Counted {
            anyway: guess.trusted,
            lasting: lasting.then(|| guess.gateway.clone()),
            ..Counted::new(Tally::PasswordsAbout, guess.person.clone(), limits.of_person())
        });
        let (whose, wrong, until) = match self.agreement.begin_attempt(&places, now).await {
            Ok(Ok(())) => {
                let (person, gateway) = (guess.person.clone(), guess.gateway.clone());
                let counted = CountedGuess { agreement: Arc::clone(&self.agreement), person, gateway, places, now };
                return (GuessAnswer::MayTry, Some(counted));
            }
            Ok(Err(refused)) if refused.tally == Tally::PasswordsAbout => (Guesser::Person, refused.refused.wrong, refused.refused.until),
            Ok(Err(refused)) => (Guesser::Caller, refused.refused.wrong, refused.refused.until),
            // What cannot be counted may not be tried.
            Err(_) => (Guesser::Person, 0, now),
        };
        metrics::limited_guess(whose);
        (GuessAnswer::Limited { whose, wrong, until }, None)
    }

    /// What is counted about a person.
    pub fn of(&self, person: &str, limits: Passwords, now: Moment) -> Option<PersonGuesses> {
        let count = self.agreement.attempts(&Counted::new(Tally::PasswordsAbout, person, limits.of_person()), now);
        (count.wrong > 0).then_some(PersonGuesses {
            wrong: count.wrong,
            last_us: count.last_us,
            gateway: count.gateway,
            until: count.until,
        })
    }

    /// Forgets the wrong passwords about a person, from any caller; `false` if there were none.
    ///
    /// # Errors
    /// The records failed; nothing is forgotten then.
    pub async fn release(&self, person: &str) -> Result<bool, RecordsError> {
        self.agreement.forget_attempts_about(person).await
    }
}

impl CountedGuess {
    /// How the attempt has ended in each place.
    fn ending(&mut self, ended: Ended, lasting: bool) -> Vec<(Counted, Ended)> {
        let places = std::mem::take(&mut self.places).into_iter();
        let ending = places.map(|place| {
            // A right password says nothing of what else the same caller has tried.
            let own = if ended == Ended::Right && place.tally == Tally::PasswordsFrom { Ended::Uncounted } else { ended };
            (Counted { lasting: place.lasting.filter(|_| lasting), ..place }, own)
        });
        ending.collect()
    }

    /// The password was right, or wrong. What is counted about a person is durable when this returns.
    pub async fn settle(mut self, right: bool, now: Moment) -> GuessCount {
        let ending = self.ending(if right { Ended::Right } else { Ended::Wrong }, true);
        let counts = self.agreement.end_attempt(ending, now).await;
        let Some(count) = counts.ok().and_then(|mut counts| counts.pop()) else { return GuessCount::default() };
        let lasts = !count.gateway.is_empty();
        if !right && lasts && count.until.is_some() {
            tracing::warn!(
                person = self.person,
                gateway = self.gateway,
                wrong = count.wrong,
                "too many wrong passwords: the source is not asked for a while"
            );
        }
        GuessCount { wrong: count.wrong, until: count.until }
    }

    /// The login has ended and nothing was said of the password.
    pub fn uncounted(mut self, now: Moment) {
        self.end_soon(Ended::Uncounted, now);
    }

    fn end_soon(&mut self, ended: Ended, now: Moment) {
        let ending = self.ending(ended, false);
        if !ending.is_empty() {
            in_background(&self.agreement, move |agreement| agreement.end_attempt(ending, now));
        }
    }
}

impl Drop for CountedGuess {
    fn drop(&mut self) {
        let now = self.now;
        self.end_soon(Ended::Wrong, now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_store::agreement::Embedded;
    use bivector_store::records::{Records, Sync};
    use std::time::Duration;

    const NOON: Moment = Moment::from_secs(1_800_000_000);

    fn limits() -> Passwords {
        Passwords { after: 4, per_caller: 6, ..Passwords::default() }
    }

    fn guess(person: &str, caller: Option<&str>, trusted: bool) -> Arc<Guess> {
        Arc::new(Guess { person: person.into(), caller: caller.map(str::to_owned), gateway: "breakwater".into(), trusted })
    }

    fn open() -> (tempfile::TempDir, Records, Guesses) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let guesses = Guesses::new(Arc::new(Embedded::open(records.clone()).unwrap()));
        (folder, records, guesses)
    }

    async fn wrong(guesses: &Guesses, person: &str, caller: Option<&str>) -> Option<Guesser> {
        match guesses.begin(guess(person, caller, false), limits(), !person.starts_with('?'), NOON).await {
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
        let (passes, begun) = guesses.begin(guess(ines, Some("192.0.2.77"), true), limits(), true, NOON).await;
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
        let mut begun = Vec::new();
        for _ in 0..100 {
            begun.extend(guesses.begin(guess("roster:sable", None, false), limits(), true, NOON).await.1);
        }
        assert_eq!(begun.len(), 4);
        begun.into_iter().for_each(|one| one.uncounted(NOON));
        assert_eq!(guesses.of("roster:sable", limits(), NOON), None);
        let (_, hung_up) = guesses.begin(guess("roster:sable", None, false), limits(), true, NOON).await;
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
        let guesses = Guesses::new(Arc::new(Embedded::open(records.clone()).unwrap()));
        assert_eq!(guesses.of("?nobody", limits(), NOON), None, "made-up names leave nothing in the records");
        let known = guesses.of("roster:sable", limits(), NOON).unwrap();
        assert_eq!((known.wrong, known.gateway.as_str(), known.until), (4, "breakwater", Some(NOON.plus(Duration::from_secs(60)))));
        assert!(guesses.release("roster:sable").await.unwrap() && !guesses.release("roster:sable").await.unwrap());
        assert_eq!(wrong(&guesses, "roster:sable", None).await, None);
    }
}
