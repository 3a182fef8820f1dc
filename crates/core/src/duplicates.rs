//! Retransmissions (RFC 5080 section 2.2.2): one login per request, the same bytes for each resend after it.

use bivector_model::facts::Resends;
use bivector_model::moment::Moment;
use bivector_wire::Packet;
use sha2::{Digest, Sha256};
use std::collections::{HashMap, VecDeque};
use std::hash::{BuildHasher, RandomState};
use std::net::SocketAddr;
use std::time::Duration;

/// What makes two packets the same request: all of it. A device that sends an identifier and an authenticator again with another body
/// asks something else, and must not get the answer to what it asked before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestKey {
    /// Address and port it came from.
    pub sender: SocketAddr,
    /// Its identifier.
    pub identifier: u8,
    /// Its Request Authenticator: an identifier used anew comes with a new one.
    pub authenticator: [u8; 16],
    body: [u8; 16],
}

impl RequestKey {
    /// Of a packet.
    pub fn of(packet: &Packet<'_>, sender: SocketAddr) -> Self {
        let digest = Sha256::digest(packet.bytes());
        let body = digest.first_chunk().copied().unwrap_or_default();
        Self::made_up(sender, packet.identifier(), *packet.authenticator(), body)
    }

    /// Of a packet that exists in a simulation only; `body` stands for all of it.
    pub fn made_up(sender: SocketAddr, identifier: u8, authenticator: [u8; 16], body: [u8; 16]) -> Self {
        RequestKey { sender, identifier, authenticator, body }
    }

    fn place(&self) -> Place {
        Place { sender: self.sender, identifier: self.identifier, authenticator: self.authenticator }
    }
}

/// Where requests stand that differ in nothing but their bodies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct Place {
    sender: SocketAddr,
    identifier: u8,
    authenticator: [u8; 16],
}

/// What to do with a packet that arrived.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Arrival<R> {
    /// A request not seen before: decide it, then call [`Window::finish`], or [`Window::forget`] if it is not decided.
    New {
        /// Whether another one had the same sender, identifier and authenticator, which no sound device does.
        conflicts: bool,
    },
    /// Its login is in flight; the packet is absorbed.
    InFlight,
    /// It is decided; send this reply again. `None` where the verdict was silence.
    Finished(Option<R>),
    /// No room: too many logins are in flight.
    Full,
}

#[derive(Debug)]
struct Entry<R> {
    body: [u8; 16],
    progress: Progress<R>,
}

#[derive(Debug)]
enum Progress<R> {
    InFlight { absorbed: u32, first: Moment, last: Moment },
    Finished(Option<R>),
}

/// The request at a place, and further ones with other bodies: hardly ever are there any.
#[derive(Debug)]
struct Slot<R> {
    first: Entry<R>,
    others: Vec<Entry<R>>,
}

impl<R> Slot<R> {
    fn get(&self, body: &[u8; 16]) -> Option<&Entry<R>> {
        std::iter::once(&self.first).chain(&self.others).find(|entry| entry.body == *body)
    }

    fn get_mut(&mut self, body: &[u8; 16]) -> Option<&mut Entry<R>> {
        std::iter::once(&mut self.first).chain(&mut self.others).find(|entry| entry.body == *body)
    }
}

/// The requests of one socket that are in flight or were answered a short while ago.
///
/// Only packets whose integrity is proved may enter, so that a stranger can neither fill it nor fish for replies.
#[derive(Debug)]
pub struct Window<R, S = RandomState> {
    entries: HashMap<Place, Slot<R>, S>,
    finished: VecDeque<(Moment, RequestKey)>,
    kept: Duration,
    capacity: usize,
    in_flight: usize,
    in_flight_limit: usize,
}

impl<R: Clone> Window<R> {
    /// A window that keeps replies for `kept`, at most `capacity` requests of them, and lets `in_flight_limit` be undecided.
    pub fn new(kept: Duration, capacity: usize, in_flight_limit: usize) -> Self {
        Window::with_hasher(kept, capacity, in_flight_limit, RandomState::new())
    }
}

impl<R: Clone, S: BuildHasher> Window<R, S> {
    /// The same with another hasher: where nobody chooses the keys, a quick one will do.
    pub fn with_hasher(kept: Duration, capacity: usize, in_flight_limit: usize, hasher: S) -> Self {
        Window { entries: HashMap::with_hasher(hasher), finished: VecDeque::new(), kept, capacity, in_flight: 0, in_flight_limit }
    }

    /// Takes note of a packet.
    pub fn arrive(&mut self, key: RequestKey, now: Moment) -> Arrival<R> {
        self.forget_old(now);
        let slot = self.entries.get_mut(&key.place());
        let conflicts = slot.is_some();
        match slot.and_then(|slot| slot.get_mut(&key.body)).map(|entry| &mut entry.progress) {
            Some(Progress::InFlight { absorbed, last, .. }) => {
                *absorbed += 1;
                *last = now;
                Arrival::InFlight
            }
            Some(Progress::Finished(reply)) => Arrival::Finished(reply.clone()),
            None if self.in_flight >= self.in_flight_limit => Arrival::Full,
            None => {
                self.in_flight += 1;
                let entry = Entry { body: key.body, progress: Progress::InFlight { absorbed: 0, first: now, last: now } };
                match self.entries.entry(key.place()) {
                    std::collections::hash_map::Entry::Occupied(mut slot) => slot.get_mut().others.push(entry),
                    std::collections::hash_map::Entry::Vacant(place) => drop(place.insert(Slot { first: entry, others: Vec::new() })),
                }
                Arrival::New { conflicts }
            }
        }
    }

    /// What the login has absorbed so far.
    pub fn absorbed(&self, key: &RequestKey, now: Moment) -> Resends {
        match self.entry(key).map(|entry| &entry.progress) {
            Some(Progress::InFlight { absorbed, first, last }) => {
                Resends { count: *absorbed, span_us: last.since(*first).as_micros() as u64, silent_us: now.since(*last).as_micros() as u64 }
            }
            _ => Resends::default(),
        }
    }

    /// Keeps the reply of a decided request for its resends.
    pub fn finish(&mut self, key: RequestKey, reply: Option<R>, now: Moment) {
        let entry = self.entries.get_mut(&key.place()).and_then(|slot| slot.get_mut(&key.body));
        if let Some(entry) = entry.filter(|entry| matches!(entry.progress, Progress::InFlight { .. })) {
            entry.progress = Progress::Finished(reply);
            self.in_flight -= 1;
            self.finished.push_back((now.plus(self.kept), key));
            while self.finished.len() > self.capacity {
                self.forget_oldest();
            }
        }
    }

    /// Forgets a request that is in flight and will not be decided: its next resend begins anew.
    pub fn forget(&mut self, key: &RequestKey) {
        if self.entry(key).is_some_and(|entry| matches!(entry.progress, Progress::InFlight { .. })) {
            self.in_flight -= 1;
            self.remove(key);
        }
    }

    fn entry(&self, key: &RequestKey) -> Option<&Entry<R>> {
        self.entries.get(&key.place())?.get(&key.body)
    }

    fn remove(&mut self, key: &RequestKey) {
        let Some(slot) = self.entries.get_mut(&key.place()) else { return };
        if slot.first.body != key.body {
            slot.others.retain(|entry| entry.body != key.body);
        } else if let Some(next) = slot.others.pop() {
            slot.first = next;
        } else {
            self.entries.remove(&key.place());
        }
    }

    /// Logins not decided yet.
    pub fn in_flight(&self) -> usize {
        self.in_flight
    }

    fn forget_old(&mut self, now: Moment) {
        while self.finished.front().is_some_and(|(until, _)| *until <= now) {
            self.forget_oldest();
        }
    }

    fn forget_oldest(&mut self) {
        if let Some((_, key)) = self.finished.pop_front() {
            self.remove(&key);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(identifier: u8, authenticator: u8) -> RequestKey {
        RequestKey { sender: "127.0.0.11:4000".parse().unwrap(), identifier, authenticator: [authenticator; 16], body: [0; 16] }
    }

    const NEW: Arrival<&str> = Arrival::New { conflicts: false };

    #[test]
    fn another_body_under_the_same_identifier_and_authenticator_is_another_request() {
        let mut window = Window::new(Duration::from_secs(30), 10, 10);
        let now = Moment::from_secs(100);
        let (one, other) = (key(1, 1), RequestKey { body: [9; 16], ..key(1, 1) });
        assert_eq!(window.arrive(one, now), NEW);
        assert_eq!(window.arrive(other, now), Arrival::New { conflicts: true });
        window.finish(one, Some("for one"), now);
        assert_eq!(window.arrive(other, now), Arrival::InFlight, "the answer to one is none for the other");
        window.finish(other, Some("for the other"), now);
        assert_eq!(
            (window.arrive(one, now), window.arrive(other, now)),
            (Arrival::Finished(Some("for one")), Arrival::Finished(Some("for the other")))
        );
        assert_eq!(window.arrive(one, Moment::from_secs(131)), NEW);
        assert_eq!((window.in_flight(), window.entries.len()), (1, 1));
    }

    #[test]
    fn a_request_that_is_not_decided_leaves_nothing_behind() {
        let mut window = Window::new(Duration::from_secs(30), 10, 1);
        let now = Moment::from_secs(100);
        assert_eq!(window.arrive(key(1, 1), now), NEW);
        window.forget(&key(1, 1));
        window.forget(&key(1, 1));
        assert_eq!((window.in_flight(), window.arrive(key(1, 1), now)), (0, NEW));
        window.finish(key(1, 1), Some("reply"), now);
        window.forget(&key(1, 1));
        assert_eq!(window.arrive(key(1, 1), now), Arrival::Finished(Some("reply")), "what is decided stays so");
    }

    #[test]
    fn a_resend_is_absorbed_in_flight_and_answered_with_the_same_reply_after() {
        let mut window = Window::new(Duration::from_secs(30), 10, 10);
        let now = Moment::from_secs(100);
        assert_eq!(window.arrive(key(1, 1), now), NEW);
        assert_eq!(window.arrive(key(1, 1), Moment::from_secs(103)), Arrival::InFlight);
        let resends = window.absorbed(&key(1, 1), Moment::from_secs(107));
        assert_eq!((resends.count, resends.span_us, resends.silent_us), (1, 3_000_000, 4_000_000));
        window.finish(key(1, 1), Some("reply"), now);
        assert_eq!(window.arrive(key(1, 1), now), Arrival::Finished(Some("reply")));
        assert_eq!(window.arrive(key(1, 2), now), NEW, "the same identifier with a new authenticator is a new login");
        assert_eq!(window.arrive(key(1, 1), Moment::from_secs(131)), NEW, "after the time it is forgotten");
    }

    #[test]
    fn memory_is_bounded_by_capacity_and_by_the_limit_in_flight() {
        let mut window = Window::new(Duration::from_secs(30), 2, 3);
        let now = Moment::from_secs(100);
        for identifier in 0..3 {
            assert_eq!(window.arrive(key(identifier, 0), now), Arrival::New { conflicts: false });
        }
        assert_eq!(window.arrive(key(3, 0), now), Arrival::Full);
        for identifier in 0..3 {
            window.finish(key(identifier, 0), Some(identifier), now);
        }
        assert_eq!((window.in_flight(), window.entries.len()), (0, 2));
        assert_eq!(window.arrive(key(0, 0), now), Arrival::New { conflicts: false }, "the oldest reply made room");
    }
}
