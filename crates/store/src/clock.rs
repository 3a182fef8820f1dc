//! The service's clock: wall time for meaning, monotonic time within a login.

use bivector_model::Moment;
use std::time::{Instant, SystemTime, UNIX_EPOCH};

/// The wall clock.
pub fn now() -> Moment {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Moment::from_micros(u64::try_from(since.as_micros()).unwrap_or(u64::MAX))
}

/// A clock that starts at wall time and then never goes back, for one login.
#[derive(Debug, Clone, Copy)]
pub struct LoginClock {
    wall: Moment,
    started: Instant,
}

impl LoginClock {
    /// Starts now.
    pub fn start() -> Self {
        LoginClock { wall: now(), started: Instant::now() }
    }

    /// The login's time now.
    pub fn now(&self) -> Moment {
        self.wall.plus(self.started.elapsed())
    }

    /// The instant of a moment, for sleeping.
    pub fn instant(&self, moment: Moment) -> Instant {
        self.started + moment.since(self.wall)
    }
}
