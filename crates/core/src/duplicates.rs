//! Retransmissions (RFC 5080 section 2.2.2): one login per request, the same bytes for each resend after it.

use crate::facts::Resends;
use crate::moment::Moment;
use std::collections::{HashMap, VecDeque};
use std::hash::{BuildHasher, RandomState};
use std::net::SocketAddr;
use std::time::Duration;

/// What makes two packets the same request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct RequestKey {
    /// Address and port it came from.
    pub sender: SocketAddr,
    /// Its identifier.
    pub identifier: u8,
    /// Its Request Authenticator: an identifier used anew comes with a new one.
    pub authenticator: [u8; 16],
}

/// What to do with a packet that arrived.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Arrival<R> {
    /// A request not seen before: decide it, then call [`Window::finish`].
    New,
    /// Its login is in flight; the packet is absorbed.
    InFlight,
    /// It is decided; send this reply again. `None` where the verdict was silence.
    Finished(Option<R>),
    /// No room: too many logins are in flight.
    Full,
}

#[derive(Debug)]
enum Entry<R> {
    InFlight { absorbed: u32, first: Moment, last: Moment },
    Finished(Option<R>),
}

/// The requests of one socket that are in flight or were answered a short while ago.
///
/// Only packets whose integrity is proved may enter, so that a stranger can neither fill it nor fish for replies.
#[derive(Debug)]
pub struct Window<R, S = RandomState> {
    entries: HashMap<RequestKey, Entry<R>, S>,
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
        match self.entries.get_mut(&key) {
            Some(Entry::InFlight { absorbed, last, .. }) => {
                *absorbed += 1;
                *last = now;
                Arrival::InFlight
            }
            Some(Entry::Finished(reply)) => Arrival::Finished(reply.clone()),
            None if self.in_flight >= self.in_flight_limit => Arrival::Full,
            None => {
                self.in_flight += 1;
                self.entries.insert(key, Entry::InFlight { absorbed: 0, first: now, last: now });
                Arrival::New
            }
        }
    }

    /// What the login has absorbed so far.
    pub fn absorbed(&self, key: &RequestKey, now: Moment) -> Resends {
        match self.entries.get(key) {
            Some(Entry::InFlight { absorbed, first, last }) => {
                Resends { count: *absorbed, span_us: last.since(*first).as_micros() as u64, silent_us: now.since(*last).as_micros() as u64 }
            }
            _ => Resends::default(),
        }
    }

    /// Keeps the reply of a decided request for its resends.
    pub fn finish(&mut self, key: RequestKey, reply: Option<R>, now: Moment) {
        if let Some(entry) = self.entries.get_mut(&key)
            && matches!(entry, Entry::InFlight { .. })
        {
            *entry = Entry::Finished(reply);
            self.in_flight -= 1;
            self.finished.push_back((now.plus(self.kept), key));
            while self.finished.len() > self.capacity {
                self.forget_oldest();
            }
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
            self.entries.remove(&key);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(identifier: u8, authenticator: u8) -> RequestKey {
        RequestKey { sender: "127.0.0.11:4000".parse().unwrap(), identifier, authenticator: [authenticator; 16] }
    }

    #[test]
    fn a_resend_is_absorbed_in_flight_and_answered_with_the_same_reply_after() {
        let mut window = Window::new(Duration::from_secs(30), 10, 10);
        let now = Moment::from_secs(100);
        assert_eq!(window.arrive(key(1, 1), now), Arrival::New);
        assert_eq!(window.arrive(key(1, 1), Moment::from_secs(103)), Arrival::InFlight);
        let resends = window.absorbed(&key(1, 1), Moment::from_secs(107));
        assert_eq!((resends.count, resends.span_us, resends.silent_us), (1, 3_000_000, 4_000_000));
        window.finish(key(1, 1), Some("reply"), now);
        assert_eq!(window.arrive(key(1, 1), now), Arrival::Finished(Some("reply")));
        assert_eq!(window.arrive(key(1, 2), now), Arrival::New, "the same identifier with a new authenticator is a new login");
        assert_eq!(window.arrive(key(1, 1), Moment::from_secs(131)), Arrival::New, "after the time it is forgotten");
    }

    #[test]
    fn memory_is_bounded_by_capacity_and_by_the_limit_in_flight() {
        let mut window = Window::new(Duration::from_secs(30), 2, 3);
        let now = Moment::from_secs(100);
        for identifier in 0..3 {
            assert_eq!(window.arrive(key(identifier, 0), now), Arrival::New);
        }
        assert_eq!(window.arrive(key(3, 0), now), Arrival::Full);
        for identifier in 0..3 {
            window.finish(key(identifier, 0), Some(identifier), now);
        }
        assert_eq!((window.in_flight(), window.entries.len()), (0, 2));
        assert_eq!(window.arrive(key(0, 0), now), Arrival::New, "the oldest reply made room");
    }
}
