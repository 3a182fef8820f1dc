//! The same simulation for one value after the other: the curve of success against a wait, and where it bends.

use super::setting::{Plan, PlanError};
use super::{Simulated, simulate};
use crate::budget::{Amount, Setting};
use bivector_site::Site;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use utoipa::ToSchema;

/// Logins a second that one may count on, at the least, for an estimate.
const PLAYED_PER_SECOND: u64 = 50_000;
/// A sweep that would take longer is refused.
const LONGEST: Duration = Duration::from_secs(600);
/// How near the best share the knee is.
const NEAR: f64 = 0.01;

/// Values to go through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SweepPlan {
    /// What is changed.
    pub setting: Setting,
    /// The first value.
    pub from: Amount,
    /// The last one.
    pub to: Amount,
    /// How many values, both ends among them.
    pub points: u32,
}

/// One value and what came of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = CurvePoint)]
pub struct Point {
    /// The value, as it is written.
    pub value: String,
    /// The value in seconds, or as a number of tries.
    pub at: f64,
    /// The share of logins that were let in.
    pub share: f64,
    /// Everything about them.
    pub simulated: Simulated,
}

/// A curve.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Curve {
    /// The setting, by name.
    pub setting: String,
    /// What it is, in words.
    pub said: String,
    /// Whether values are seconds; else they are numbers.
    pub in_seconds: bool,
    /// The value that the site has now, as in [`Point::at`].
    pub now: Option<f64>,
    /// The values in order.
    pub points: Vec<Point>,
    /// The place of the least value that gives nearly as much as the best one: what more of it costs brings nothing.
    pub knee: Option<usize>,
}

impl SweepPlan {
    /// Reads `NAME=FROM..TO`.
    ///
    /// # Errors
    /// It is not written so, no setting has that name, or the values are out of its range.
    pub fn read(text: &str, site: &Site, chain: usize, via: Option<usize>, points: u32) -> Result<Self, PlanError> {
        let shape = || PlanError::new(format!("`{text}` is not a sweep"), "write it as NAME=FROM..TO, for example gateway.wait=5s..90s");
        let (name, range) = text.split_once('=').ok_or_else(shape)?;
        let (from, to) = range.split_once("..").ok_or_else(shape)?;
        let setting = Setting::named(site, name.trim(), chain, via).map_err(|error| PlanError::new(error.to_string(), error.remedy()))?;
        let (from, to) = Amount::read(from).zip(Amount::read(to)).ok_or_else(shape)?;
        if !(2..=200).contains(&points) {
            return Err(PlanError::new(format!("{points} points are no curve"), "ask for 2 to 200 points"));
        }
        for value in [from, to] {
            setting.set(&mut site.clone(), value).map_err(|error| PlanError::new(error.to_string(), error.remedy()))?;
        }
        if from >= to {
            return Err(PlanError::new(format!("`{range}` goes nowhere"), "write the smaller value first"));
        }
        Ok(SweepPlan { setting, from, to, points })
    }

    /// How long it will take at the least, on one core.
    pub fn estimate(&self, logins: u64) -> Duration {
        Duration::from_millis(logins.saturating_mul(u64::from(self.points)).saturating_mul(1_000) / PLAYED_PER_SECOND)
    }

    /// Whether it can be played in reasonable time.
    ///
    /// # Errors
    /// It would take too long; the error says how long.
    pub fn within(&self, logins: u64) -> Result<(), PlanError> {
        let estimate = self.estimate(logins);
        if estimate <= LONGEST {
            return Ok(());
        }
        Err(PlanError::new(
            format!("{logins} logins for each of {} values would take some {} minutes", self.points, estimate.as_secs().div_ceil(60)),
            "simulate fewer logins: a thousand tell the share to two points",
        ))
    }

    /// The values, evenly spread; numbers of tries one by one where there are as few.
    pub fn values(&self) -> Vec<Amount> {
        let (from, to) = (self.from.number(), self.to.number());
        let mut values: Vec<Amount> = (0..self.points)
            .map(|place| {
                let value = from + (to - from) * f64::from(place) / f64::from(self.points - 1);
                match self.from {
                    Amount::Count(_) => Amount::Count(value.round() as u32),
                    // To tenths, where a tenth is little.
                    Amount::Time(_) if value >= 2.0 => Amount::Time(Duration::from_millis((value * 10.0).round() as u64 * 100)),
                    Amount::Time(_) => Amount::Time(Duration::from_millis((value * 1_000.0).round() as u64)),
                }
            })
            .collect();
        values.dedup();
        values
    }
}

/// Plays a plan for each value of a sweep. `go_on` is asked now and then with the share that is done; where it says no, nothing is given.
///
/// # Errors
/// The plan cannot be played, or would take too long: then the error says how long.
pub fn sweep(plan: &Plan, along: &SweepPlan, mut go_on: impl FnMut(f64) -> bool) -> Result<Option<Curve>, PlanError> {
    along.within(plan.logins)?;
    let values = along.values();
    let mut points = Vec::with_capacity(values.len());
    for (place, value) in values.iter().enumerate() {
        let plan = with(plan, along.setting, *value)?;
        let share = |ended: u64| (place as f64 + ended as f64 / plan.logins as f64) / values.len() as f64;
        let Some(simulated) = simulate(&plan, |ended| go_on(share(ended)))? else { return Ok(None) };
        points.push(Point { value: value.written(), at: value.number(), share: simulated.share(), simulated });
        if !go_on((place + 1) as f64 / values.len() as f64) {
            return Ok(None);
        }
    }
    Ok(Some(Curve {
        setting: along.setting.name(&plan.site),
        said: along.setting.said(&plan.site),
        in_seconds: matches!(along.from, Amount::Time(_)),
        now: along.setting.get(&plan.site).map(Amount::number),
        knee: knee(&points),
        points,
    }))
}

/// The same plan with another value of one setting.
fn with(plan: &Plan, setting: Setting, value: Amount) -> Result<Plan, PlanError> {
    let mut site = (*plan.site).clone();
    setting.set(&mut site, value).map_err(|error| PlanError::new(error.to_string(), error.remedy()))?;
    let mut plan = plan.clone();
    match (setting, value) {
        (Setting::GatewayWait(gateway), Amount::Time(wait)) if gateway == plan.way.gateway => plan.patience.wait = wait,
        (Setting::GatewayTries(gateway), Amount::Count(tries)) if gateway == plan.way.gateway => plan.patience.tries = tries,
        _ => {}
    }
    plan.site = Arc::new(site);
    Ok(plan)
}

/// The place of the least value whose share is within a hundredth of the best one; none where all are alike or nobody gets in.
pub fn knee(points: &[Point]) -> Option<usize> {
    let best = points.iter().map(|point| point.share).fold(0.0, f64::max);
    let worst = points.iter().map(|point| point.share).fold(1.0, f64::min);
    if best <= 0.0 || best - worst < NEAR {
        return None;
    }
    points.iter().position(|point| point.share >= best - NEAR)
}
