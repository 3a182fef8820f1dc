//! TLS sessions that may be resumed. Only sessions of accepted logins are kept, each with whose it was, in memory and bounded.

use bivector_model::moment::Moment;
use bivector_wire::eap::EapMethod;
use rustls::server::StoresServerSessions;
use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use zeroize::Zeroizing;

/// Whose session it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionOf {
    /// The method of the login that it was made in.
    pub method: EapMethod,
    /// The name inside the tunnel.
    pub name: Vec<u8>,
    /// The key of the person who was accepted.
    pub person: String,
}

/// The sessions of one site.
#[derive(Debug)]
pub struct Sessions {
    most: usize,
    kept: Mutex<Kept>,
}

#[derive(Default)]
struct Kept {
    by_key: HashMap<Vec<u8>, Session>,
    /// Keys in the order in which they were kept.
    order: VecDeque<Vec<u8>>,
}

impl std::fmt::Debug for Kept {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} sessions", self.by_key.len())
    }
}

struct Session {
    secret: Zeroizing<Vec<u8>>,
    of: SessionOf,
    until: Moment,
}

fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Sessions {
    /// Keeps at most so many. Each takes about 1 KiB, more with a certificate of the peer.
    pub fn new(most: usize) -> Self {
        Sessions { most, kept: Mutex::default() }
    }

    /// How many are kept.
    pub fn count(&self) -> usize {
        held(&self.kept).by_key.len()
    }

    fn keep(&self, key: Vec<u8>, session: Session) {
        let mut kept = held(&self.kept);
        if kept.by_key.insert(key.clone(), session).is_none() {
            kept.order.push_back(key);
        }
        if kept.order.len() > self.most * 2 {
            // Tickets that were used leave their keys behind.
            let Kept { by_key, order } = &mut *kept;
            order.retain(|key| by_key.contains_key(key));
        }
        while kept.by_key.len() > self.most {
            let Some(oldest) = kept.order.pop_front() else { break };
            kept.by_key.remove(&oldest);
        }
    }

    /// A session that is not over, and whose it is. It is taken out if it may be used once only.
    fn find(&self, key: &[u8], now: Moment, once: bool) -> Option<(Vec<u8>, SessionOf)> {
        let mut kept = held(&self.kept);
        let session = kept.by_key.get(key)?;
        let found = (session.until > now).then(|| (session.secret.to_vec(), session.of.clone()));
        if once || found.is_none() {
            kept.by_key.remove(key);
        }
        found
    }
}

/// What a handshake made: its key and its secret.
type Made = (Vec<u8>, Zeroizing<Vec<u8>>);

/// The sessions as one conversation sees them: what it makes is kept only once its login is accepted.
#[derive(Debug)]
pub(crate) struct OwnSessions {
    shared: Arc<Sessions>,
    began: Moment,
    made: Mutex<Vec<Made>>,
    used: Mutex<Option<SessionOf>>,
}

impl OwnSessions {
    pub(crate) fn new(shared: Arc<Sessions>, began: Moment) -> Self {
        OwnSessions { shared, began, made: Mutex::default(), used: Mutex::default() }
    }

    /// Keeps what the handshake made.
    pub(crate) fn commit(&self, of: &SessionOf, until: Moment) {
        for (key, secret) in std::mem::take(&mut *held(&self.made)) {
            self.shared.keep(key, Session { secret, of: of.clone(), until });
        }
    }

    /// Whose session the handshake has resumed.
    pub(crate) fn used(&self) -> Option<SessionOf> {
        held(&self.used).clone()
    }

    fn look(&self, key: &[u8], once: bool) -> Option<Vec<u8>> {
        let (secret, of) = self.shared.find(key, self.began, once)?;
        *held(&self.used) = Some(of);
        Some(secret)
    }
}

impl StoresServerSessions for OwnSessions {
    fn put(&self, key: Vec<u8>, value: Vec<u8>) -> bool {
        held(&self.made).push((key, Zeroizing::new(value)));
        true
    }

    fn get(&self, key: &[u8]) -> Option<Vec<u8>> {
        self.look(key, false)
    }

    fn take(&self, key: &[u8]) -> Option<Vec<u8>> {
        self.look(key, true)
    }

    fn can_cache(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(name: &str) -> SessionOf {
        SessionOf { method: EapMethod::TtlsPap, name: name.into(), person: format!("roster:{name}") }
    }

    #[test]
    fn a_session_is_found_only_after_its_login_was_accepted_and_until_its_time_is_over() {
        let at = Moment::from_micros;
        let shared = Arc::new(Sessions::new(2));
        let own = OwnSessions::new(Arc::clone(&shared), at(10));
        assert!(own.put(b"key".to_vec(), b"secret".to_vec()));
        assert_eq!(OwnSessions::new(Arc::clone(&shared), at(10)).get(b"key"), None, "nobody was accepted");
        own.commit(&of("ines"), at(100));
        let next = OwnSessions::new(Arc::clone(&shared), at(50));
        assert_eq!((next.get(b"key").as_deref(), next.used()), (Some(&b"secret"[..]), Some(of("ines"))));
        assert_eq!(OwnSessions::new(Arc::clone(&shared), at(100)).get(b"key"), None, "its time is over");
        assert_eq!(shared.count(), 0);
    }

    #[test]
    fn a_ticket_is_used_once_and_the_oldest_makes_room() {
        let at = Moment::from_micros;
        let shared = Arc::new(Sessions::new(2));
        for key in [b"one", b"two", b"six"] {
            let own = OwnSessions::new(Arc::clone(&shared), at(1));
            own.put(key.to_vec(), key.to_vec());
            own.commit(&of("ines"), at(100));
        }
        let own = OwnSessions::new(Arc::clone(&shared), at(1));
        assert_eq!((own.take(b"one"), own.take(b"two").is_some(), own.take(b"two")), (None, true, None));
        assert!(!format!("{shared:?}").contains("six"), "secrets are not shown");
    }
}
