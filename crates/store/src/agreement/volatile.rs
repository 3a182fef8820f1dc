//! The agreement in memory alone, as plainly as it can be written: what tests compare other implementations with.

use super::claims::Claims;
use super::rates::Rates;
use super::topics::Topics;
use super::{Agreement, Allowance, Answer, AttemptCount, AttemptRefused, Counted, Rate, Reserved, Tally, Then, Took};
use crate::records::DeviceState;
use crate::records::{LockRow, Marked};
use bivector_core::login::{CodeMark, WrongTry};
use bivector_model::Moment;
use bivector_model::attempts::{Attempts, Ended};
use bivector_model::device::Used;
use bivector_site::Lockout;
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

#[derive(Debug, Default)]
struct Inside {
    marks: HashSet<Vec<u8>>,
    /// Used steps by device.
    steps: HashMap<u64, HashSet<u64>>,
    /// Reserved steps, each with the number of its reservation.
    reserved: HashMap<(u64, u64), u64>,
    reservations: u64,
    locks: HashMap<String, LockRow>,
    attempts: HashMap<Tally, Attempts>,
    lasting: HashMap<String, (u64, String)>,
    stored: HashMap<Vec<u8>, Vec<u8>>,
    taken: HashSet<Vec<u8>>,
}

/// The agreement in memory: it has codes by time only, and of every device.
#[derive(Debug, Clone, Default)]
pub struct Volatile {
    inside: Arc<Mutex<Inside>>,
    rates: Arc<Rates>,
    topics: Arc<Topics>,
    claims: Arc<Claims>,
}

impl Inside {
    /// Whether a step or a newer one was used; a reservation is no use.
    fn is_spent(&self, device: u64, step: u64) -> bool {
        self.steps.get(&device).is_some_and(|used| used.iter().any(|other| *other >= step))
    }

    fn use_code(&mut self, mark: &CodeMark, now: Moment) -> Marked {
        if let Some(until) = self.locks.get(&mark.person).and_then(|lock| lock.locked_until_us).filter(|until| *until > now.micros()) {
            return Marked::Locked(Moment::from_micros(until));
        }
        let state = match mark.device {
            Some((device, Used::Step { step, drift, .. })) => {
                if self.is_spent(device, step) {
                    return Marked::Before;
                }
                self.reserved.remove(&(device, step));
                self.steps.entry(device).or_default().insert(step);
                Some(DeviceState { drift, last_used_us: Some(now.micros()), ..DeviceState::default() })
            }
            _ => None,
        };
        self.locks.remove(&mark.person);
        Marked::Now(state)
    }

    fn table(&mut self, tally: Tally) -> &mut Attempts {
        self.attempts.entry(tally).or_insert_with(|| Attempts::new(tally.capacity()))
    }

    fn end(&mut self, place: &Counted, ended: Ended, now: Moment) -> AttemptCount {
        let (wrong, until) = self.table(place.tally).end(&place.key, ended, &place.limit, now);
        if let Some(gateway) = &place.lasting {
            match ended {
                Ended::Wrong => drop(self.lasting.insert(place.key.clone(), (now.micros(), gateway.clone()))),
                Ended::Right => drop(self.lasting.remove(&place.key)),
                Ended::Uncounted => {}
            }
        }
        AttemptCount { wrong, until, last_us: now.micros(), gateway: place.lasting.clone().unwrap_or_default() }
    }
}

impl Volatile {
    fn inside(&self) -> MutexGuard<'_, Inside> {
        self.inside.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn ready<'a, T: Send + 'a>(value: T) -> Answer<'a, T> {
    Box::pin(std::future::ready(Ok(value)))
}

#[derive(Debug)]
struct Held {
    agreement: Volatile,
    place: (u64, u64),
    number: Option<u64>,
}

impl Reserved for Held {
    fn is_for(&self, mark: &CodeMark) -> bool {
        matches!(mark.device, Some((device, Used::Step { step, .. })) if (device, step) == self.place)
    }

    fn commit(self: Box<Self>, mark: CodeMark, now: Moment) -> Answer<'static, Marked> {
        ready(self.agreement.inside().use_code(&mark, now))
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let mut inside = self.agreement.inside();
        if self.number.is_some() && inside.reserved.get(&self.place).copied() == self.number {
            inside.reserved.remove(&self.place);
        }
    }
}

impl Agreement for Volatile {
    fn mark(&self, key: Vec<u8>, _until: Moment, _now: Moment) -> Answer<'_, bool> {
        ready(self.inside().marks.insert(key))
    }

    fn use_code_then(&self, mark: CodeMark, now: Moment, then: Then<Marked>) {
        let marked = self.inside().use_code(&mark, now);
        then(Ok(marked));
    }

    fn reserve(&self, person: &str, (device, used): (u64, Used), _now: Moment) -> Option<Box<dyn Reserved>> {
        let Used::Step { step, .. } = used else { return None };
        let mut inside = self.inside();
        let free = !inside.locks.contains_key(person) && !inside.is_spent(device, step) && !inside.reserved.contains_key(&(device, step));
        inside.reservations += 1;
        let number = free.then_some(inside.reservations);
        if let Some(number) = number {
            inside.reserved.insert((device, step), number);
        }
        drop(inside);
        Some(Box::new(Held { agreement: self.clone(), place: (device, step), number }))
    }

    fn count_wrong(&self, wrong: WrongTry, lockout: Lockout, now: Moment) -> Answer<'_, LockRow> {
        let mut inside = self.inside();
        let known = inside.locks.remove(&wrong.person).filter(|lock| lock.locked_until_us.is_none_or(|until| until > now.micros()));
        let mut lock = known.unwrap_or_else(|| LockRow { first_us: now.micros(), ..LockRow::default() });
        lock.points += wrong.points;
        (lock.last_us, lock.gateway) = (now.micros(), wrong.gateway);
        if lock.locked_until_us.is_none() && lock.points >= lockout.after * WrongTry::CODE {
            lock.locked_until_us = Some(now.plus(lockout.time).micros());
        }
        inside.locks.insert(wrong.person, lock.clone());
        ready(lock)
    }

    fn begin_attempt(&self, places: &[Counted], now: Moment) -> Answer<'_, Result<(), AttemptRefused>> {
        let mut inside = self.inside();
        for (at, place) in places.iter().enumerate() {
            let begun = inside.table(place.tally).begin(&place.key, &place.limit, now);
            match begun {
                Ok(()) => {}
                Err(_) if place.anyway => inside.table(place.tally).begin_anyway(&place.key, &place.limit, now),
                Err(refused) => {
                    for begun in &places[..at] {
                        inside.end(begun, Ended::Uncounted, now);
                    }
                    return ready(Err(AttemptRefused { tally: place.tally, refused }));
                }
            }
        }
        ready(Ok(()))
    }

    fn end_attempt(&self, places: Vec<(Counted, Ended)>, now: Moment) -> Answer<'_, Vec<AttemptCount>> {
        let mut inside = self.inside();
        ready(places.iter().map(|(place, ended)| inside.end(place, *ended, now)).collect())
    }

    fn attempts(&self, place: &Counted, now: Moment) -> AttemptCount {
        let mut inside = self.inside();
        let (wrong, until) = inside.table(place.tally).state(&place.key, &place.limit, now);
        let (last_us, gateway) = inside.lasting.get(&place.key).cloned().unwrap_or_default();
        AttemptCount { wrong, until, last_us, gateway }
    }

    fn forget_attempts_about(&self, person: &str) -> Answer<'_, bool> {
        let mut inside = self.inside();
        let ending = format!("\n{person}");
        inside.table(Tally::PasswordsFromAbout).forget_where(|pair| pair.ends_with(&ending));
        let lasted = inside.lasting.remove(person).is_some();
        ready(inside.table(Tally::PasswordsAbout).forget(person) || lasted)
    }

    fn spend(&self, allowances: Vec<Allowance>, now: Moment) -> Answer<'_, Result<(), Rate>> {
        ready(self.rates.spend(&allowances, now))
    }

    fn store(&self, key: Vec<u8>, sealed: Vec<u8>, _until: Moment, _now: Moment) -> Answer<'_, ()> {
        self.inside().stored.insert(key, sealed);
        ready(())
    }

    fn take(&self, key: Vec<u8>, _now: Moment) -> Answer<'_, Took> {
        let mut inside = self.inside();
        let took = match inside.stored.remove(&key) {
            Some(value) => Took::Value(value),
            None if inside.taken.contains(&key) => Took::Before,
            None => Took::Never,
        };
        if took != Took::Never {
            inside.taken.insert(key);
        }
        ready(took)
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
