//! What is simulated.

use super::draw::Times;
use crate::budget::{ENOUGH, How, Learned, SeenTimes, Way};
use bivector_site::{GatewayPatience, Site};
use std::sync::Arc;
use std::time::Duration;

/// Logins of one simulation at most.
pub(super) const MOST_LOGINS: u64 = 20_000_000;

/// The network between gateway and door, each way.
#[derive(Debug, Clone, PartialEq)]
pub struct Link {
    /// How long a packet takes.
    pub delay: Times,
    /// The share of packets that are lost, 0 to 1.
    pub loss: f64,
    /// The share of packets that arrive twice, 0 to 1.
    pub twice: f64,
}

impl Default for Link {
    fn default() -> Self {
        Link { delay: Times::LogNormal { usual_us: 2_000, most_us: 8_000 }, loss: 0.0, twice: 0.0 }
    }
}

/// What happens to the first server of every directory.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Trouble {
    /// Nothing.
    None,
    /// From then on it refuses connections.
    Dies {
        /// When, after the first login.
        after: Duration,
    },
    /// From then on it takes connections and says nothing.
    Hangs {
        /// When, after the first login.
        after: Duration,
    },
    /// From then on all servers answer so many times slower.
    Slows {
        /// When, after the first login.
        after: Duration,
        /// How many times.
        times: f64,
    },
}

/// A simulation.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The site.
    pub site: Arc<Site>,
    /// How people come in.
    pub way: Way,
    /// How many.
    pub logins: u64,
    /// How many begin in a second, on average.
    pub per_second: f64,
    /// Makes it repeatable.
    pub seed: u64,
    /// What the gateway waits.
    pub patience: GatewayPatience,
    /// The network.
    pub link: Link,
    /// How long a directory takes for an answer.
    pub directory: Times,
    /// What happens to it.
    pub trouble: Trouble,
    /// How long people take: to answer the handset, or to type a code.
    pub people: Times,
    /// Where phones are.
    pub phones: Phones,
}

/// Where phones are that are asked for an approval, as shares of 0 to 1; all others are at hand.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Phones {
    /// Off, or left at home: nobody answers.
    pub off: f64,
    /// Asleep: a push message is shown later than usual.
    pub asleep: f64,
    /// How much later, for half of those that are asleep, and for nineteen of twenty.
    pub asleep_for: (Duration, Duration),
    /// Without permission to show notifications: only the chain's next way wakes the person.
    pub refused: f64,
}

impl Default for Phones {
    fn default() -> Self {
        Phones { off: 0.0, asleep: 0.0, asleep_for: (Duration::from_secs(8), Duration::from_secs(40)), refused: 0.0 }
    }
}

/// A plan that cannot be played.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct PlanError {
    /// What is wrong.
    pub what: String,
    /// What to do about it.
    pub remedy: String,
}

impl PlanError {
    pub(super) fn new(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        PlanError { what: what.into(), remedy: remedy.into() }
    }
}

/// What is assumed of a gateway that nobody has said anything about.
const UNSTATED: GatewayPatience = GatewayPatience { wait: Duration::from_secs(5), tries: 3, servers: 1 };

impl Plan {
    /// A plan for one way through a chain, with what is known of its times, and a thousand logins.
    pub fn of(site: Arc<Site>, way: Way, learned: &Learned) -> Self {
        let gateway = site.gateways.get(way.gateway);
        let patience = gateway.and_then(|gateway| learned.patience(gateway)).map_or(UNSTATED, |(patience, _)| patience);
        let what = match way.how {
            How::Approval | How::Number => "approval".to_owned(),
            How::Courier(index) => site.couriers.get(index).map_or(String::new(), |courier| courier.name.clone()),
            _ => "typing".to_owned(),
        };
        let people = match learned.times_ms.get(&what) {
            Some(times) if times.len() as u64 >= ENOUGH => Times::Measured(times.clone().into()),
            _ => {
                let SeenTimes { usual_us, most_us, .. } = learned.people(&what);
                Times::LogNormal { usual_us, most_us }
            }
        };
        Plan {
            site,
            way,
            logins: 1_000,
            per_second: 20.0,
            seed: 1,
            patience,
            link: Link::default(),
            directory: Times::LogNormal { usual_us: 4_000, most_us: 20_000 },
            trouble: Trouble::None,
            people,
            phones: Phones::default(),
        }
    }

    /// Whether it can be played.
    ///
    /// # Errors
    /// What is wrong with it, and the remedy.
    pub fn check(&self) -> Result<(), PlanError> {
        if self.logins == 0 || self.logins > MOST_LOGINS {
            return Err(PlanError::new(
                format!("{} logins cannot be simulated", self.logins),
                format!("simulate 1 to {MOST_LOGINS} logins"),
            ));
        }
        if !(self.per_second > 0.0 && self.per_second <= 1_000_000.0) {
            return Err(PlanError::new(
                format!("{} logins a second cannot be simulated", self.per_second),
                "write a rate above 0, up to 1000000 a second",
            ));
        }
        for (share, what) in [
            (self.link.loss, "loss"),
            (self.link.twice, "duplication"),
            (self.phones.off, "handsets off"),
            (self.phones.asleep, "handsets asleep"),
            (self.phones.refused, "handsets without notifications"),
        ] {
            if !(0.0..=1.0).contains(&share) {
                return Err(PlanError::new(format!("{share} is not a share for {what}"), "write a share from 0 to 1, such as 0.02"));
            }
        }
        if let Trouble::Slows { times, .. } = self.trouble
            && !(times.is_finite() && times >= 1.0)
        {
            return Err(PlanError::new(format!("a directory cannot be {times} times slower"), "write a number of 1 or more"));
        }
        for (times, what) in [(&self.people, "people"), (&self.directory, "the directory"), (&self.link.delay, "the network")] {
            if times.is_empty() {
                return Err(PlanError::new(
                    format!("the distribution for {what} has no data"),
                    "leave it out to use the assumed one, or measure some logins first",
                ));
            }
        }
        if self.patience.tries == 0 || self.patience.wait.is_zero() {
            return Err(PlanError::new("the gateway never waits for an answer", "give it at least one try and a wait"));
        }
        Ok(())
    }
}
