//! People and their factors in memory, as the records hold them: looking one up costs no I/O. Seeds stay sealed until used.

use crate::hashing::{Busy, For, Hashing};
use crate::names::KnownNames;
use bivector_core::login::{
    Factors, FactorsAnswer, Found, PasswordAnswer, PersonAnswer, PinAnswer, SecretAnswer, TrustedDevice, Unavailable,
};
use bivector_model::Cause;
use bivector_model::Moment;
use bivector_model::device::{CodeKind, Device, Makes};
use bivector_model::rule::Groups;
use bivector_store::ServiceError;
use bivector_store::lookup::Lookup;
use bivector_store::records::DeviceState;
use bivector_store::records::{
    Changed, Changes, DeviceKind, FactorRow, Invitation, LockRow, PersonFacts, PersonRow, Records, RecordsError, StopRow, person_key,
};
use bivector_store::seal::Seal;
use bivector_wire::Secret;
use std::collections::HashMap;
use std::hash::BuildHasher;
use std::sync::{Arc, Mutex, OnceLock, RwLock};
use std::time::{Duration, Instant};
use tokio::runtime::RuntimeFlavor;

/// The roster.
#[derive(Debug)]
pub struct Roster {
    people: RwLock<Lookup<String, Known>>,
    states: Mutex<Lookup<u64, DeviceState>>,
    locks: Mutex<Lookup<String, LockRow>>,
    stops: Mutex<HashMap<String, StopRow>>,
    invitations: Mutex<HashMap<String, Invitation>>,
    /// Trusted devices.
    remembered: Mutex<HashMap<TrustedDevice, Moment>>,
    seal: Arc<Seal>,
    hashing: Hashing,
    names: KnownNames,
}

/// A person, and how the roster answers for them where it is the source.
#[derive(Debug)]
struct Known {
    row: Arc<PersonRow>,
    /// Made when it is asked for the first time.
    found: OnceLock<Arc<Found>>,
}

impl Known {
    fn of(row: PersonRow) -> Self {
        Known { row: Arc::new(row), found: OnceLock::new() }
    }

    fn found(&self) -> Option<&Arc<Found>> {
        let row = &self.row;
        let make = || {
            Arc::new(Found {
                key: person_key(ROSTER, &row.login),
                login: row.login.clone(),
                name: row.name.clone(),
                handle: format!("number {}", row.id),
                groups: Groups::new(row.groups.iter().map(String::as_str)),
                mail: row.mail.clone(),
                phone: row.phone.clone(),
                language: row.language.clone(),
            })
        };
        (row.source == ROSTER).then(|| self.found.get_or_init(make))
    }
}

/// The roster's name as a source.
const ROSTER: &str = "roster";

/// How long a code far ahead is remembered for the next one that brings its device back.
const AHEAD_KEPT: Duration = Duration::from_secs(600);

/// What a password that is kept for proofs is sealed for.
pub fn kept_purpose(source: &str, login: &str) -> String {
    format!("kept/{}", person_key(source, login))
}

/// A password as it is kept for proofs.
#[derive(Debug)]
pub enum KeptPassword {
    /// Its text: for CHAP, and for MS-CHAPv2 with a code.
    Text(Secret<String>),
    /// Its NT hash: for MS-CHAPv2.
    NtHash(bivector_wire::NtHash),
}

impl KeptPassword {
    /// Its bytes, to be sealed.
    pub fn to_bytes(&self) -> Secret<Vec<u8>> {
        Secret::new(match self {
            KeptPassword::Text(text) => [b"t", text.expose().as_bytes()].concat(),
            KeptPassword::NtHash(hash) => [b"n", hash.expose().as_slice()].concat(),
        })
    }

    /// From bytes that were sealed.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        match bytes.split_first()? {
            (b't', text) => Some(KeptPassword::Text(Secret::new(String::from_utf8(text.to_vec()).ok()?))),
            (b'n', hash) => Some(KeptPassword::NtHash(Secret::new(hash.try_into().ok()?))),
            _ => None,
        }
    }
}

/// What a factor's seed, list or code is sealed for.
pub fn seed_purpose(source: &str, login: &str) -> String {
    format!("seed/{}", person_key(source, login))
}

impl Roster {
    /// Reads the people from the records.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn load(records: &Records, seal: Arc<Seal>) -> Result<Self, ServiceError> {
        let roster = Roster {
            people: RwLock::default(),
            states: Mutex::default(),
            locks: Mutex::default(),
            stops: Mutex::default(),
            invitations: Mutex::default(),
            remembered: Mutex::default(),
            names: KnownNames::new(Arc::clone(&seal)),
            seal,
            hashing: Hashing::default(),
        };
        roster.read_all(records)?;
        Ok(roster)
    }

    /// Takes over who is known by which name: what a login by a name that nobody has is compared with.
    pub fn learn_names(&self) {
        if let Ok(people) = self.people.read() {
            self.names.take_over(people.values().map(|person| person.row.login.as_str()));
        }
    }

    /// Applies what has changed in the records.
    ///
    /// # Errors
    /// The records cannot be read; the people known so far stay.
    pub(crate) async fn follow(&self, records: &Records, changes: &Changes) -> Result<(), ServiceError> {
        let everybody = changes.incomplete || changes.changed.contains(&Changed::People);
        if everybody {
            // With a hundred thousand people it takes a while, in which other threads take over this one's tasks.
            match tokio::runtime::Handle::current().runtime_flavor() {
                RuntimeFlavor::MultiThread => tokio::task::block_in_place(|| self.read_all(records))?,
                _ => self.read_all(records)?,
            }
            self.learn_names();
            return Ok(());
        }
        for changed in &changes.changed {
            if let Changed::Person { source, login } = changed {
                self.apply(source, login, records.facts_of(source, login).await?);
            }
        }
        Ok(())
    }

    /// Takes over what the records hold of one person.
    fn apply(&self, source: &str, login: &str, facts: PersonFacts) {
        let key = person_key(source, login);
        if facts.person.is_some() {
            self.names.note(&login.to_lowercase());
        }
        if let Ok(mut states) = self.states.lock() {
            // What logins have changed since is newer here than there.
            for (factor, state) in facts.states {
                states.entry(factor).or_insert(state);
            }
        }
        if let Ok(mut stops) = self.stops.lock() {
            put(&mut *stops, &key, facts.stop);
        }
        if let Ok(mut invitations) = self.invitations.lock() {
            put(&mut *invitations, &key, facts.invitation);
        }
        if let (Ok(mut locks), None) = (self.locks.lock(), facts.lock) {
            locks.remove(&key);
        }
        if let Ok(mut remembered) = self.remembered.lock() {
            remembered.retain(|station, _| station.person != key);
            remembered.extend(facts.devices);
        }
        if let Ok(mut people) = self.people.write() {
            match facts.person {
                Some(person) => drop(people.insert(key, Known::of(person))),
                None => drop(people.remove(&key)),
            }
        }
    }

    fn read_all(&self, records: &Records) -> Result<(), ServiceError> {
        let (people, states) = std::thread::scope(|scope| {
            let states = scope.spawn(|| records.factor_states());
            let people = records.people();
            (people, states.join().unwrap_or_else(|_| Err(RecordsError("the devices could not be read".into()))))
        });
        let (people, states) = (people?, states?);
        let mut known: Lookup<String, Known> = Lookup::with_capacity_and_hasher(people.len(), Default::default());
        known.extend(people.into_iter().map(|person| (person_key(&person.source, &person.login), Known::of(person))));
        let people = known;
        if let Ok(mut known) = self.people.write() {
            *known = people;
        }
        let locks = records.locks()?;
        let (stops, invitations) = (records.stops()?, records.invitations()?);
        let remembered = records.remembered(bivector_store::clock::now())?;
        if let Ok(mut known) = self.stops.lock() {
            *known = stops;
        }
        if let Ok(mut known) = self.remembered.lock() {
            *known = remembered;
        }
        if let Ok(mut known) = self.invitations.lock() {
            *known = invitations;
        }
        if let Ok(mut known) = self.states.lock() {
            *known = states;
        }
        if let Ok(mut known) = self.locks.lock() {
            *known = locks;
        }
        Ok(())
    }

    /// The newest invitation of a person, used or not.
    pub fn invitation_of(&self, key: &str) -> Option<Invitation> {
        self.invitations.lock().ok().and_then(|known| known.get(key).cloned())
    }

    /// Stopped approvals of a person, unless the stop is over.
    pub fn stop_of(&self, key: &str, now: Moment) -> Option<StopRow> {
        self.stops.lock().ok().and_then(|known| known.get(key).cloned()).filter(|stop| stop.until_us > now.micros())
    }

    /// Remembers a person's device.
    pub fn note_remembered(&self, station: TrustedDevice, until: Moment, now: Moment) {
        if let Ok(mut known) = self.remembered.lock() {
            known.retain(|_, until| *until > now);
            known.insert(station, until);
        }
    }

    /// A person's factor by number, wherever it is: of handset and key only the number is known at first.
    pub fn owner_of(&self, factor: u64) -> Option<(Arc<PersonRow>, FactorRow)> {
        let people = self.people.read().ok()?;
        people.values().find_map(|person| {
            let factor = person.row.factors.iter().find(|own| own.id == factor)?;
            Some((Arc::clone(&person.row), factor.clone()))
        })
    }

    /// What is sealed of a factor.
    pub fn opened(&self, person: &PersonRow, factor: &FactorRow) -> Option<Secret<Vec<u8>>> {
        self.seal.open(&seed_purpose(&person.source, &person.login), &factor.sealed).ok()
    }

    /// What a device is at.
    pub fn state(&self, factor: &FactorRow) -> DeviceState {
        let known = self.states.lock().ok().and_then(|states| states.get(&factor.id).copied());
        known.unwrap_or_else(|| DeviceState { counter: factor.settings.counter.unwrap_or(0), ..DeviceState::default() })
    }

    /// Takes over what the records now hold of a device.
    pub fn note_state(&self, device: u64, state: DeviceState) {
        if let Ok(mut states) = self.states.lock() {
            states.insert(device, state);
        }
    }

    /// Remembers a code far ahead of its device, as the records do.
    pub fn note_ahead(&self, key: &str, device: u64, counter: u64, now: Moment) {
        let Some(person) = self.get(key) else { return };
        let Some(factor) = person.factors.iter().find(|factor| factor.id == device) else { return };
        let state = DeviceState { ahead: Some((counter, now.micros())), ..self.state(factor) };
        self.note_state(device, state);
    }

    /// Wrong codes of a person, unless a lock that came of them is over.
    pub fn lock_of(&self, key: &str, now: Moment) -> Option<LockRow> {
        let lock = self.locks.lock().ok().and_then(|locks| locks.get(key).cloned())?;
        (lock.locked_until_us.is_none_or(|until| until > now.micros())).then_some(lock)
    }

    /// Takes over what the records now hold of a person's wrong codes; nothing once they are forgotten.
    pub fn note_lock(&self, key: &str, lock: Option<LockRow>) {
        if let Ok(mut locks) = self.locks.lock() {
            match lock {
                Some(lock) => drop(locks.insert(key.to_owned(), lock)),
                None => drop(locks.remove(key)),
            }
        }
    }

    /// Forgets wrong codes that were counted under names with this beginning.
    pub fn forget_locks(&self, beginning: &str) {
        if let Ok(mut locks) = self.locks.lock() {
            locks.retain(|person, _| !person.starts_with(beginning));
        }
    }

    /// All people, by source and login.
    pub fn all(&self) -> Vec<Arc<PersonRow>> {
        let mut all: Vec<_> =
            self.people.read().map(|people| people.values().map(|person| Arc::clone(&person.row)).collect()).unwrap_or_default();
        all.sort_by(|a, b| (&a.source, &a.login).cmp(&(&b.source, &b.login)));
        all
    }

    /// A person by key.
    pub fn get(&self, key: &str) -> Option<Arc<PersonRow>> {
        self.people.read().ok().and_then(|people| people.get(key).map(|person| Arc::clone(&person.row)))
    }

    /// Answers a search in the roster itself.
    pub fn find(&self, name: &str) -> PersonAnswer {
        let Ok(people) = self.people.read() else { return PersonAnswer::NoSuchPerson };
        match people.get(&person_key(ROSTER, name)).and_then(|person| Some((&person.row, person.found()?))) {
            None => PersonAnswer::NoSuchPerson,
            Some((row, _)) if row.disabled => PersonAnswer::Refused(Cause::PersonSuspended),
            Some((_, found)) => PersonAnswer::Found(Arc::clone(found)),
        }
    }

    /// Somebody whom only an upstream knows, unless an operator has suspended them here.
    pub fn of_upstream(&self, upstream: &str, name: &str) -> PersonAnswer {
        match self.get(&person_key(upstream, name)) {
            Some(person) if person.disabled => PersonAnswer::Refused(Cause::PersonSuspended),
            _ => PersonAnswer::Found(Arc::new(Found::of_upstream(upstream, name))),
        }
    }

    /// Names that people are known by.
    pub fn names(&self) -> &KnownNames {
        &self.names
    }

    /// The pool in which passwords and PINs are checked.
    pub fn hashing(&self) -> &Hashing {
        &self.hashing
    }

    /// Checks a password of somebody in the roster, aside from the packet path. Somebody without a password takes as long.
    /// It is not looked at if its turn comes after `until`.
    pub async fn check(&self, login: &str, guess: Secret<String>, until: Option<Instant>) -> PasswordAnswer {
        let hash = self.get(&person_key(ROSTER, login)).and_then(|person| person.password.clone());
        match self.hashing.verify(hash, guess, For::Login, until).await {
            Ok(Some(true)) => PasswordAnswer::Right,
            Ok(Some(false)) => PasswordAnswer::Wrong,
            Ok(None) => PasswordAnswer::Unavailable(unreadable("the password's hash in the roster cannot be read; set the password again")),
            Err(busy) => PasswordAnswer::Unavailable(overloaded(busy)),
        }
    }

    /// Checks a password that nobody has: it takes as long as somebody's.
    pub async fn check_nobody(&self, until: Option<Instant>) {
        let _ = self.hashing.verify(None, Secret::new("nobody".to_owned()), For::Login, until).await;
    }

    /// Fills in what a directory did not say of a person and the records know; `false` if an operator has suspended the person here.
    pub fn complete(&self, person: &mut Found) -> bool {
        let Some(kept) = self.get(&person.key) else { return true };
        person.mail = person.mail.take().or_else(|| kept.mail.clone());
        person.phone = person.phone.take().or_else(|| kept.phone.clone());
        if person.language.is_empty() {
            person.language = kept.language.clone();
        }
        !kept.disabled
    }

    /// What is kept of a roster person's password for proofs.
    pub fn kept(&self, login: &str) -> SecretAnswer {
        let Some(person) = self.get(&person_key(ROSTER, login)) else { return SecretAnswer::NotKept };
        let Some(sealed) = &person.kept else { return SecretAnswer::NotKept };
        let opened = self.seal.open(&kept_purpose(&person.source, &person.login), sealed).ok();
        match opened.and_then(|bytes| KeptPassword::from_bytes(bytes.expose())) {
            Some(KeptPassword::Text(text)) => SecretAnswer::Text(text),
            Some(KeptPassword::NtHash(hash)) => SecretAnswer::NtHash(hash),
            None => SecretAnswer::Unavailable(does_not_open()),
        }
    }

    /// Checks the PIN of a device, aside from the packet path.
    pub async fn check_pin(&self, key: &str, device: u64, guess: Secret<String>, until: Option<Instant>) -> PinAnswer {
        let person = self.get(key);
        let pin = person.and_then(|person| person.factors.iter().find(|factor| factor.id == device).and_then(|factor| factor.pin.clone()));
        match self.hashing.verify(pin, guess, For::Login, until).await {
            Ok(Some(true)) => PinAnswer::Right,
            Ok(Some(false)) => PinAnswer::Wrong,
            Ok(None) => PinAnswer::Unavailable(unreadable("the PIN's hash cannot be read; set the PIN again")),
            Err(busy) => PinAnswer::Unavailable(overloaded(busy)),
        }
    }

    /// Devices and lists of a person of any source, and whether the person is locked.
    pub fn factors(&self, key: &str, station: Option<&TrustedDevice>, now: Moment) -> FactorsAnswer {
        let locked_until = self.lock_of(key, now).and_then(|lock| lock.locked_until_us).map(Moment::from_micros);
        let remembered_until = station.and_then(|station| self.remembered.lock().ok()?.get(station).copied());
        let known = Factors { locked_until, remembered_until, ..Factors::default() };
        let Some(person) = self.get(key) else { return FactorsAnswer::Known(Box::new(known)) };
        let ready = || person.factors.iter().filter(|factor| factor.settings.waits_for.is_none());
        let of_kind = |kind: DeviceKind| ready().filter(|factor| factor.kind == kind).count() as u32;
        let codes = ready().filter(|factor| factor.kind.code().is_some());
        let devices: Option<Vec<Device>> = codes.map(|factor| self.device(&person, factor, now)).collect();
        match devices {
            Some(devices) => FactorsAnswer::Known(Box::new(Factors {
                devices,
                handsets: of_kind(DeviceKind::Handset),
                keys: of_kind(DeviceKind::Key),
                ..known
            })),
            None => FactorsAnswer::Unavailable(does_not_open()),
        }
    }

    /// A factor that makes codes, with its secrets opened; nothing if they do not open.
    pub fn device(&self, person: &PersonRow, factor: &FactorRow, now: Moment) -> Option<Device> {
        let kind = factor.kind.code()?;
        let opened = self.opened(person, factor)?;
        let (state, settings) = (self.state(factor), &factor.settings);
        let text = || String::from_utf8(opened.expose().clone()).ok();
        let makes = match kind {
            CodeKind::Totp => Makes::ByTime { seed: opened, settings: settings.code, drift: state.drift },
            CodeKind::Hotp => {
                let fresh = |(_, at): &(u64, u64)| Moment::from_micros(*at).plus(AHEAD_KEPT) > now;
                let ahead = state.ahead.filter(fresh).map(|(counter, _)| counter);
                Makes::ByCount { seed: opened, settings: settings.code, counter: state.counter, ahead }
            }
            CodeKind::Recovery => Makes::List { codes: Secret::new(text()?.split(' ').map(str::to_owned).collect()), used: state.used },
            CodeKind::Temporary => Makes::Issued {
                code: Secret::new(text()?),
                until: Moment::from_micros(settings.until_us.unwrap_or(0)),
                left: settings.uses.unwrap_or(1).saturating_sub(u32::try_from(state.counter).unwrap_or(u32::MAX)),
            },
        };
        Some(Device { id: factor.id, label: factor.label.clone(), has_pin: factor.pin.is_some(), makes })
    }
}

/// Sets what a map holds under a key, or takes it out.
fn put<V, S: BuildHasher>(map: &mut HashMap<String, V, S>, key: &str, value: Option<V>) {
    match value {
        Some(value) => drop(map.insert(key.to_owned(), value)),
        None => drop(map.remove(key)),
    }
}

fn unreadable(seen: &str) -> Unavailable {
    Unavailable { cause: Cause::Unfinished, seen: seen.to_owned() }
}

fn overloaded(busy: Busy) -> Unavailable {
    Unavailable { cause: Cause::Overloaded, seen: busy.to_string() }
}

fn does_not_open() -> Unavailable {
    Unavailable { cause: Cause::RecordsUnavailable, seen: "what is sealed does not open with this key file".into() }
}
