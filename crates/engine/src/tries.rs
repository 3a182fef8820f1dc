//! Limits on what strangers may try over HTTP: sign-ins of operators, sign-ins of people to their own pages, invitations. Each attempt is
//! counted before anything is awaited, first for the address that it comes from and only then for the name.

use bivector_model::Moment;
use bivector_model::attempts::{Attempts, Ended, Limit, Refused};
use bivector_store::clock;
use std::net::IpAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// Keys in one table; each takes about 200 bytes.
const CAPACITY: usize = 16_384;

const fn limit(free: u32, wait: u64) -> Limit {
    Limit { free, wait: Duration::from_secs(wait), longest: Duration::from_secs(900), forget: Duration::from_secs(3600) }
}

/// What is tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tried {
    /// A sign-in to the console, by address. Several operators may share one.
    ConsoleFrom,
    /// A sign-in to the console, by name.
    ConsoleAs,
    /// A code that is to pass the limit of its name, by name: with enough addresses somebody could try all of them.
    ConsoleCode,
    /// A sign-in to somebody's own page, by address. Many people may share one.
    PageFrom,
    /// An invitation, by address.
    InvitationFrom,
    /// A reference that an operator types to confirm a device, by device.
    Confirmation,
}

impl Tried {
    fn limit(self) -> Limit {
        match self {
            Tried::ConsoleFrom => limit(20, 30),
            Tried::ConsoleAs => limit(5, 30),
            // One in two thousand that any of so many is right; and two dozen addresses at least must join to use them up.
            Tried::ConsoleCode => limit(500, 900),
            Tried::PageFrom | Tried::InvitationFrom | Tried::Confirmation => limit(10, 60),
        }
    }
}

/// Attempts of each kind in a table of its own, so that a flood of one kind is none of the others'.
#[derive(Debug)]
pub struct Tries {
    tables: [Mutex<Attempts>; 6],
}

impl Default for Tries {
    fn default() -> Self {
        Tries { tables: std::array::from_fn(|_| Mutex::new(Attempts::new(CAPACITY))) }
    }
}

/// An attempt that has begun. It counts as a wrong one unless it is told otherwise, also where whoever made it hangs up.
#[derive(Debug)]
#[must_use = "an attempt that is dropped counts as a wrong one"]
pub struct Attempt {
    tries: Arc<Tries>,
    what: Tried,
    key: String,
    ended: Ended,
}

impl Tries {
    fn table<T>(&self, what: Tried, with: impl FnOnce(&mut Attempts) -> T) -> Option<T> {
        self.tables[what as usize].lock().ok().map(|mut table| with(&mut table))
    }

    /// Begins an attempt.
    ///
    /// # Errors
    /// Too many were wrong.
    pub fn begin(self: &Arc<Self>, what: Tried, key: &str) -> Result<Attempt, Refused> {
        let now = clock::now();
        let begun = self.table(what, |table| table.begin(key, &what.limit(), now));
        begun.unwrap_or(Err(Refused { wrong: 0, until: now }))?;
        Ok(self.attempt(what, key))
    }

    /// Begins an attempt that passes the limit for another reason.
    pub fn begin_anyway(self: &Arc<Self>, what: Tried, key: &str) -> Attempt {
        self.table(what, |table| table.begin_anyway(key, &what.limit(), clock::now()));
        self.attempt(what, key)
    }

    fn attempt(self: &Arc<Self>, what: Tried, key: &str) -> Attempt {
        Attempt { tries: Arc::clone(self), what, key: key.to_owned(), ended: Ended::Wrong }
    }
}

impl Attempt {
    /// It was right: those before it are forgotten.
    pub fn right(mut self) {
        self.ended = Ended::Right;
    }

    /// It was right, or neither: it does not count, and says nothing about those before it.
    pub fn uncounted(mut self) {
        self.ended = Ended::Uncounted;
    }
}

impl Drop for Attempt {
    fn drop(&mut self) {
        let (what, ended) = (self.what, self.ended);
        self.tries.table(what, |table| table.end(&self.key, ended, &what.limit(), clock::now()));
    }
}

/// What an address is counted under: itself, or its network of 64 bits, since one subscriber has all of that (RFC 6177).
pub fn address_key(address: IpAddr) -> String {
    match address.to_canonical() {
        IpAddr::V4(address) => address.to_string(),
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            format!("{a:x}:{b:x}:{c:x}:{d:x}::/64")
        }
    }
}

/// How many seconds are left until then, at least one.
pub fn seconds_until(until: Moment) -> u64 {
    until.since(clock::now()).as_secs() + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_attempt_that_is_given_up_counts_and_one_that_was_right_resets() {
        let tries = Arc::new(Tries::default());
        for _ in 0..5 {
            drop(tries.begin(Tried::ConsoleAs, "owner").unwrap());
        }
        assert!(tries.begin(Tried::ConsoleAs, "owner").is_err());
        assert!(tries.begin(Tried::ConsoleAs, "harbour-master").is_ok());
        tries.begin_anyway(Tried::ConsoleAs, "owner").right();
        assert!(tries.begin(Tried::ConsoleAs, "owner").is_ok());
    }

    #[test]
    fn one_subscribers_addresses_are_counted_together() {
        let key = |text: &str| address_key(text.parse().unwrap());
        assert_eq!(key("2001:db8:1:2::1"), key("2001:db8:1:2:ffff::9"));
        assert_ne!(key("2001:db8:1:2::1"), key("2001:db8:1:3::1"));
        assert_eq!(key("::ffff:198.51.100.7"), "198.51.100.7");
    }
}
