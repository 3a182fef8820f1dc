//! The simulation: thousands of logins in virtual time through the very same login machine and duplicate handling that serve.
//!
//! `setting` says what is simulated, `draw` how long things take, `cast` who logs in and what is typed, `world` plays it event by event,
//! `answers` stands in for sources, handsets and couriers, `sweep` does it for one value after the other. Nothing here decides a login.

mod answers;
mod cast;
mod chart;
mod draw;
mod setting;
mod sweep;
#[cfg(test)]
mod tests;
mod world;

pub use chart::{curve_csv, curve_svg};
pub use draw::Times;
pub use setting::{Link, Phones, Plan, PlanError, Trouble};
pub use sweep::{Curve, Point, SweepPlan, knee, sweep};
pub use world::simulate;

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What came of simulated logins.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Simulated {
    /// Logins that people began.
    pub logins: u64,
    /// Logins that ended in the person being let in, as the person saw it.
    pub accepted: u64,
    /// Why the others were not, by cause: the catalogue's, `gateway-gave-up`, or `client-gave-up`.
    pub failed: BTreeMap<String, u64>,
    /// How long it took to be let in, in microseconds: half were quicker.
    pub p50_us: u64,
    /// Nineteen of twenty were quicker.
    pub p95_us: u64,
    /// Ninety-nine of a hundred were quicker.
    pub p99_us: u64,
    /// Approvals that handsets were asked for.
    pub approvals: u64,
    /// Requests that joined an approval which waited already.
    pub joined: u64,
    /// Packets that reached the door.
    pub packets: u64,
    /// Packets that were absorbed while their login was in flight.
    pub absorbed: u64,
    /// Packets that got the answer of before again.
    pub answered_again: u64,
    /// Logins that the machine began: more than people began where gateways move to another server.
    pub begun: u64,
    /// Questions to directories: searches and binds.
    pub directory_questions: u64,
    /// The most questions to directories in one second.
    pub directory_peak: u64,
    /// Virtual time from the first login to the end of the last, in microseconds.
    pub virtual_us: u64,
    /// The seed: with it the very same logins come again.
    pub seed: u64,
}

impl Simulated {
    /// The share of logins that were let in.
    pub fn share(&self) -> f64 {
        if self.logins == 0 { 0.0 } else { self.accepted as f64 / self.logins as f64 }
    }

    /// Approvals that were asked for, for each login.
    pub fn approvals_per_login(&self) -> f64 {
        if self.logins == 0 { 0.0 } else { self.approvals as f64 / self.logins as f64 }
    }
}
