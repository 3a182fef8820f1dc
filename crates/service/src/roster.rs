//! People and their factors in memory, as the records hold them: looking one up costs no I/O. Seeds stay sealed until used.

use crate::records::{FactorRow, PersonRow, Records};
use crate::seal::Seal;
use arc_swap::ArcSwap;
use argon2::Argon2;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use bivector_core::Cause;
use bivector_core::login::{Found, PasswordAnswer, PersonAnswer, TokensAnswer, Unavailable};
use bivector_core::rule::Groups;
use bivector_core::totp::Token;
use bivector_wire::Secret;
use std::collections::HashMap;
use std::sync::Arc;
use tokio::sync::Semaphore;

/// Password checks at one time: each takes a core for some milliseconds and 19 MiB.
const CHECKS: usize = 2;

/// The roster.
#[derive(Debug)]
pub struct Roster {
    people: ArcSwap<HashMap<String, Arc<PersonRow>>>,
    seal: Arc<Seal>,
    checks: Semaphore,
}

/// The key of a person: one per person, whatever was typed.
pub fn person_key(source: &str, login: &str) -> String {
    format!("{source}:{}", login.to_lowercase())
}

/// What a factor's seed is sealed for.
pub fn seed_purpose(source: &str, login: &str) -> String {
    format!("seed/{}", person_key(source, login))
}

impl Roster {
    /// Reads the people from the records.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn load(records: &Records, seal: Arc<Seal>) -> Result<Self, crate::ServiceError> {
        let roster = Roster { people: ArcSwap::default(), seal, checks: Semaphore::new(CHECKS) };
        roster.refresh(records)?;
        Ok(roster)
    }

    /// Reads them again, after a change.
    ///
    /// # Errors
    /// The records cannot be read; the people known so far stay.
    pub fn refresh(&self, records: &Records) -> Result<(), crate::ServiceError> {
        let people = records.people()?.into_iter().map(|person| (person_key(&person.source, &person.login), Arc::new(person)));
        self.people.store(Arc::new(people.collect()));
        Ok(())
    }

    /// All people, by source and login.
    pub fn all(&self) -> Vec<Arc<PersonRow>> {
        let mut all: Vec<_> = self.people.load().values().cloned().collect();
        all.sort_by(|a, b| (&a.source, &a.login).cmp(&(&b.source, &b.login)));
        all
    }

    fn get(&self, key: &str) -> Option<Arc<PersonRow>> {
        self.people.load().get(key).cloned()
    }

    /// Answers a search in the roster itself.
    pub fn find(&self, name: &str) -> PersonAnswer {
        match self.get(&person_key("roster", name)) {
            None => PersonAnswer::NoSuchPerson,
            Some(person) if person.disabled => PersonAnswer::Refused(Cause::AccountDisabled),
            Some(person) => PersonAnswer::Found(Box::new(Found {
                key: person_key("roster", &person.login),
                login: person.login.clone(),
                name: person.name.clone(),
                handle: format!("number {}", person.id),
                groups: Groups::new(person.groups.iter().map(String::as_str)),
            })),
        }
    }

    /// Checks a password of somebody in the roster, aside from the packet path.
    pub async fn check(&self, login: &str, guess: Secret<String>) -> PasswordAnswer {
        let Some(hash) = self.get(&person_key("roster", login)).and_then(|person| person.password.clone()) else {
            return PasswordAnswer::Wrong;
        };
        let unavailable = |seen: &str| PasswordAnswer::Unavailable(Unavailable { cause: Cause::Unfinished, seen: seen.to_owned() });
        let Ok(_turn) = self.checks.acquire().await else { return unavailable("the service is stopping") };
        match verify_password(Some(hash), guess).await {
            Some(true) => PasswordAnswer::Right,
            Some(false) => PasswordAnswer::Wrong,
            None => unavailable("the password's hash in the roster cannot be read; set the password again"),
        }
    }

    /// The tokens of a person of any source.
    pub fn tokens(&self, key: &str) -> TokensAnswer {
        let Some(person) = self.get(key) else { return TokensAnswer::Tokens(Vec::new()) };
        let purpose = seed_purpose(&person.source, &person.login);
        let open = |factor: &FactorRow| {
            let seed = self.seal.open(&purpose, &factor.sealed).ok()?;
            Some(Token { id: factor.id, label: factor.label.clone(), seed, settings: factor.settings })
        };
        match person.factors.iter().map(open).collect() {
            Some(tokens) => TokensAnswer::Tokens(tokens),
            None => TokensAnswer::Unavailable(Unavailable {
                cause: Cause::RecordsUnavailable,
                seen: "a seed does not open with this key file".into(),
            }),
        }
    }
}

/// Compares a password with a kept hash, aside from the packet path. Without a hash it takes as long and is never right.
pub async fn verify_password(hash: Option<String>, guess: Secret<String>) -> Option<bool> {
    /// Of a password that nobody has.
    const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$bm9ib2R5LWF0LWFsbA$6eHS3zNhnTeTqJ0eWTXYvU0oW6dpUgHtUy0eYzlvVaE";
    let known = hash.is_some();
    let checked = tokio::task::spawn_blocking(move || {
        let hash = hash.unwrap_or_else(|| NOBODY.to_owned());
        let hash = PasswordHash::new(&hash).ok()?;
        Some(Argon2::default().verify_password(guess.expose().as_bytes(), &hash).is_ok())
    });
    checked.await.ok().flatten().map(|right| right && known)
}

/// Hashes a password for keeping (argon2id).
///
/// # Errors
/// The password is too long to hash.
pub fn hash_password(password: &Secret<String>) -> Result<String, String> {
    let salt = SaltString::encode_b64(&crate::seal::random::<16>()).map_err(|error| error.to_string())?;
    Argon2::default().hash_password(password.expose().as_bytes(), &salt).map(|hash| hash.to_string()).map_err(|error| error.to_string())
}
