//! Time as the computation sees it.

use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A point in time, in microseconds since 1970-01-01 UTC, as its driver tells it.
///
/// Within one login it never goes back: the service adds monotonic time to the wall clock read at the login's start, and the
/// simulation has a clock of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, Default)]
#[serde(transparent)]
pub struct Moment(u64);

impl Moment {
    /// From microseconds since 1970.
    pub const fn from_micros(micros: u64) -> Self {
        Moment(micros)
    }

    /// From seconds since 1970.
    pub const fn from_secs(secs: u64) -> Self {
        Moment(secs * 1_000_000)
    }

    /// Microseconds since 1970.
    pub const fn micros(self) -> u64 {
        self.0
    }

    /// Whole seconds since 1970.
    pub const fn secs(self) -> u64 {
        self.0 / 1_000_000
    }

    /// This much later.
    pub fn plus(self, duration: Duration) -> Self {
        Moment(self.0.saturating_add(u64::try_from(duration.as_micros()).unwrap_or(u64::MAX)))
    }

    /// How long since `earlier`; zero if that is later.
    pub fn since(self, earlier: Moment) -> Duration {
        Duration::from_micros(self.0.saturating_sub(earlier.0))
    }
}
