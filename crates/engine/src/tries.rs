//! Limits on what strangers may try over HTTP: sign-ins of operators, sign-ins of people to their own pages, invitations. Each attempt is
//! counted before anything is awaited, first for the address that it comes from and only then for the name.

use bivector_model::Moment;
use bivector_model::attempts::{Ended, Limit, Refused};
use bivector_store::agreement::{Agreement, Counted, Tally, in_background};
use bivector_store::clock;
use bivector_store::records::RecordsError;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

const fn limit(free: u32, wait: u64) -> Limit {
    Limit { free, wait: Duration::from_secs(wait), longest: Duration::from_secs(900), forget: Duration::from_secs(3600) }
}

/// How many of these attempts may be wrong.
fn limit_of(what: Tally) -> Limit {
    match what {
        Tally::ConsoleFrom => limit(20, 30),
        Tally::ConsoleAs => limit(5, 30),
        // One in two thousand that any of so many is right; and two dozen addresses at least must join to use them up.
        Tally::ConsoleCode => limit(500, 900),
        _ => limit(10, 60),
    }
}

/// Attempts of strangers over HTTP.
#[derive(Debug, Clone)]
pub struct Tries {
    agreement: Arc<dyn Agreement>,
}

/// An attempt that has begun. It counts as a wrong one unless it is told otherwise, also where whoever made it hangs up.
#[derive(Debug)]
#[must_use = "an attempt that is dropped counts as a wrong one"]
pub struct Attempt {
    agreement: Arc<dyn Agreement>,
    place: Counted,
    ended: Ended,
}

impl Tries {
    /// Counted through this agreement.
    pub fn new(agreement: Arc<dyn Agreement>) -> Self {
        Tries { agreement }
    }

    /// Begins an attempt; the outer error is the records' own.
    ///
    /// # Errors
    /// Too many were wrong, or it could not be counted.
    pub async fn begin(&self, what: Tally, key: &str) -> Result<Result<Attempt, Refused>, RecordsError> {
        self.begin_at(Counted::new(what, key, limit_of(what))).await
    }

    /// Begins an attempt that passes the limit for another reason.
    ///
    /// # Errors
    /// It could not be counted.
    pub async fn begin_anyway(&self, what: Tally, key: &str) -> Result<Result<Attempt, Refused>, RecordsError> {
        self.begin_at(Counted { anyway: true, ..Counted::new(what, key, limit_of(what)) }).await
    }

    async fn begin_at(&self, place: Counted) -> Result<Result<Attempt, Refused>, RecordsError> {
        let begun = self.agreement.begin_attempt(std::slice::from_ref(&place), clock::now()).await?;
        Ok(begun
            .map(|()| Attempt { agreement: Arc::clone(&self.agreement), place, ended: Ended::Wrong })
            .map_err(|refused| refused.refused))
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
        let place = (self.place.clone(), self.ended);
        in_background(&self.agreement, move |agreement| agreement.end_attempt(vec![place], clock::now()));
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
    use bivector_store::agreement::Volatile;

    #[tokio::test]
    async fn an_attempt_that_is_given_up_counts_and_one_that_was_right_resets() {
        let tries = Tries::new(Arc::new(Volatile::default()));
        let begin = async |name: &str| tries.begin(Tally::ConsoleAs, name).await.unwrap();
        for _ in 0..5 {
            drop(begin("owner").await.unwrap());
        }
        assert!(begin("owner").await.is_err());
        assert!(begin("harbour-master").await.is_ok());
        tries.begin_anyway(Tally::ConsoleAs, "owner").await.unwrap().unwrap().right();
        assert!(begin("owner").await.is_ok());
    }

    #[test]
    fn one_subscribers_addresses_are_counted_together() {
        let key = |text: &str| address_key(text.parse().unwrap());
        assert_eq!(key("2001:db8:1:2::1"), key("2001:db8:1:2:ffff::9"));
        assert_ne!(key("2001:db8:1:2::1"), key("2001:db8:1:3::1"));
        assert_eq!(key("::ffff:198.51.100.7"), "198.51.100.7");
    }
}
