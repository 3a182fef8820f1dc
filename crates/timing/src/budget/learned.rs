//! What real logins have shown: how long gateways really wait, and how long people really take.

use super::PathBudget;
use super::model::Basis;
use super::{micros, said};
use bivector_model::facts::Facts;
use bivector_model::trace::{Origin, Outcome};
use bivector_site::{Gateway, GatewayPatience, Site};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;
use utoipa::ToSchema;

/// From so many on, what was measured counts more than what is assumed.
pub const ENOUGH: u64 = 20;
/// What the time from the request of an approval to a shown notification is listed as, among the times of people.
pub const NOTIFICATION: &str = "notification";
/// A stated wait and a seen one that differ by more than this are told apart.
const DIFFERS: f64 = 0.25;

/// How a gateway resends, as seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct SeenResends {
    /// Logins in which it resent.
    pub logins: u64,
    /// How long it waits per try, in microseconds: the middle one of those seen.
    pub wait_us: u64,
    /// How often it tries; none as long as no login has lasted until it fell silent.
    pub tries: Option<u32>,
    /// Logins that lasted until it had fallen silent.
    pub silent: u64,
}

/// How long people take for something, as seen or assumed; in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeenTimes {
    /// How many were seen; 0 for an assumption.
    pub count: u64,
    /// The quickest of twenty.
    pub least_us: u64,
    /// The middle one.
    pub usual_us: u64,
    /// Nineteen of twenty take no longer.
    pub most_us: u64,
    /// What it rests on.
    pub basis: Basis,
}

/// What was learned from recorded logins.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Learned {
    /// Logins that were looked at.
    pub logins: u64,
    /// Gateways by name.
    pub gateways: BTreeMap<String, SeenResends>,
    /// People by factor: `approval`, `typing`, or a courier's name; and `notification`, how long a push message takes until it is shown.
    pub people: BTreeMap<String, SeenTimes>,
    /// The times themselves, sorted, for the simulation; in milliseconds.
    #[serde(skip)]
    pub times_ms: BTreeMap<String, Vec<u64>>,
    /// Approvals that came after their login had ended.
    pub late_approvals: u64,
    /// Approvals that came when the gateway must have left, by its seen or stated wait.
    pub after_the_gateway: u64,
    /// Logins let in whose session never began, where the gateway tells of sessions.
    pub no_session: u64,
}

/// Gathers what recorded logins show.
#[derive(Debug, Default)]
pub struct Seen {
    logins: u64,
    waits: BTreeMap<String, Vec<u64>>,
    tries: BTreeMap<String, Vec<u32>>,
    people: BTreeMap<String, Vec<u64>>,
    late: u64,
    after: u64,
    no_session: u64,
}

impl Seen {
    /// Takes note of one login. Rehearsed ones show how robots behave, and are left out.
    pub fn add(&mut self, origin: Origin, gateway: &str, outcome: Outcome, facts: &Facts) {
        if origin != Origin::Gateway || outcome == Outcome::Silent {
            return;
        }
        self.logins += 1;
        self.add_round(gateway, facts);
        facts.rounds.iter().for_each(|round| self.add_round(gateway, &round.facts));
    }

    fn add_round(&mut self, gateway: &str, facts: &Facts) {
        if let Some(resends) = facts.resends.filter(|resends| resends.count > 0) {
            let wait = resends.span_us / u64::from(resends.count);
            self.waits.entry(gateway.to_owned()).or_default().push(wait);
            // Silent for much longer than it waits: that was the last try.
            if resends.silent_us * 2 > wait * 3 {
                self.tries.entry(gateway.to_owned()).or_default().push(resends.count + 1);
            }
        }
        if let Some((what, took_ms)) = &facts.person_took {
            self.people.entry(what.clone()).or_default().push(*took_ms);
        }
        if let Some(woken_ms) = facts.woken_ms {
            self.people.entry(NOTIFICATION.to_owned()).or_default().push(woken_ms);
        }
        self.after += u64::from(facts.gateway_left);
    }

    /// Takes note of an approval that came after its login had ended.
    pub fn add_late(&mut self) {
        self.late += 1;
    }

    /// Takes note of a login that was let in and whose session never began.
    pub fn add_no_session(&mut self) {
        self.no_session += 1;
    }

    /// What it comes to.
    pub fn done(self) -> Learned {
        let mut tries = self.tries;
        let gateways = self.waits.into_iter().map(|(gateway, mut waits)| {
            waits.sort_unstable();
            let mut seen = tries.remove(&gateway).unwrap_or_default();
            seen.sort_unstable();
            let resends = SeenResends {
                logins: waits.len() as u64,
                wait_us: waits[waits.len() / 2],
                tries: seen.get(seen.len() / 2).copied(),
                silent: seen.len() as u64,
            };
            (gateway, resends)
        });
        let gateways = gateways.collect();
        let mut times_ms = self.people;
        times_ms.values_mut().for_each(|times| times.sort_unstable());
        let people = times_ms.iter().map(|(what, times)| (what.clone(), SeenTimes::of(times))).collect();
        Learned {
            logins: self.logins,
            gateways,
            people,
            times_ms,
            late_approvals: self.late,
            after_the_gateway: self.after,
            no_session: self.no_session,
        }
    }
}

impl SeenTimes {
    fn of(sorted_ms: &[u64]) -> Self {
        let at = |share: usize| sorted_ms.get((sorted_ms.len() * share / 100).min(sorted_ms.len() - 1)).map_or(0, |ms| ms * 1_000);
        SeenTimes { count: sorted_ms.len() as u64, least_us: at(5), usual_us: at(50), most_us: at(95), basis: Basis::Measured }
    }

    const fn assumed(least: u64, usual: u64, most: u64) -> Self {
        SeenTimes { count: 0, least_us: least * 1_000_000, usual_us: usual * 1_000_000, most_us: most * 1_000_000, basis: Basis::Assumed }
    }
}

impl Learned {
    /// How long people take for something: measured if there are [`ENOUGH`], else assumed.
    pub fn people(&self, what: &str) -> SeenTimes {
        match self.people.get(what) {
            Some(seen) if seen.count >= ENOUGH => *seen,
            _ => match what {
                // Finding the phone, reading, pressing.
                "approval" => SeenTimes::assumed(3, 10, 25),
                "typing" => SeenTimes::assumed(4, 12, 30),
                NOTIFICATION => SeenTimes::assumed(1, 2, 10),
                // The message's own way besides.
                _ => SeenTimes::assumed(8, 20, 60),
            },
        }
    }

    /// What a gateway waits: as seen if that is known well enough, else as stated.
    pub fn patience(&self, gateway: &Gateway) -> Option<(GatewayPatience, Basis)> {
        let seen = self.gateways.get(&gateway.name).filter(|seen| seen.logins >= ENOUGH && seen.silent * 2 >= ENOUGH);
        let stated = gateway.patience;
        match (seen, stated) {
            (Some(SeenResends { wait_us, tries: Some(tries), .. }), _) => {
                // Timers of devices are round; what is measured is a little more.
                let wait = Duration::from_micros(*wait_us);
                let servers = stated.map_or(1, |stated| stated.servers);
                match stated.filter(|stated| !differs(stated.wait, wait) && stated.tries == *tries) {
                    Some(stated) => Some((stated, Basis::Stated)),
                    None => Some((GatewayPatience { wait: rounded(wait), tries: *tries, servers }, Basis::Measured)),
                }
            }
            (_, Some(stated)) => Some((stated, Basis::Stated)),
            _ => None,
        }
    }

    /// How what was seen of a gateway differs from what the site file says, in a sentence.
    pub fn difference(&self, gateway: &Gateway) -> Option<String> {
        let (seen, stated) = (self.gateways.get(&gateway.name).filter(|seen| seen.logins >= ENOUGH)?, gateway.patience?);
        let wait = Duration::from_micros(seen.wait_us);
        let tries = seen.tries.filter(|_| seen.silent * 2 >= ENOUGH);
        let other_wait = differs(stated.wait, wait);
        let other_tries = tries.is_some_and(|tries| tries != stated.tries);
        let tried = tries.map_or(String::new(), |tries| format!(", {tries} tries"));
        (other_wait || other_tries).then(|| {
            format!(
                "`{}` retransmits after {}{tried} (measured in {} logins), but the site file says {}, {} tries",
                gateway.name,
                said(seen.wait_us),
                seen.logins,
                said(micros(stated.wait)),
                stated.tries
            )
        })
    }

    pub(super) fn notes(&self, site: &Site, paths: &[PathBudget]) -> Vec<String> {
        let mut notes = Vec::new();
        for gateway in &site.gateways {
            let concerns = paths.iter().any(|path| path.gateway == gateway.name);
            if let Some((patience, Basis::Measured)) = self.patience(gateway).filter(|_| concerns) {
                notes.push(format!(
                    "timeout of `{}`, learned from its retransmissions: {} per try, {} tries",
                    gateway.name,
                    said(micros(patience.wait)),
                    patience.tries
                ));
            }
        }
        for (what, seen) in self.people.iter().filter(|(_, seen)| seen.count >= ENOUGH) {
            notes.push(format!(
                "time people take for {what}, measured in {} logins: median {}, 95th percentile {}",
                seen.count,
                said(seen.usual_us),
                said(seen.most_us)
            ));
        }
        if self.late_approvals > 0 {
            notes.push(format!("{} approvals arrived after their login had ended", self.late_approvals));
        }
        if self.after_the_gateway > 0 {
            notes.push(format!("{} approvals arrived after the gateway had probably given up", self.after_the_gateway));
        }
        if self.no_session > 0 {
            notes.push(format!("{} logins were accepted, but no session started in time", self.no_session));
        }
        notes
    }
}

fn differs(stated: Duration, seen: Duration) -> bool {
    let (stated, seen) = (stated.as_secs_f64(), seen.as_secs_f64());
    (seen - stated).abs() > stated * DIFFERS
}

/// To tenths of a second below ten seconds, to whole seconds above.
fn rounded(wait: Duration) -> Duration {
    let ms = wait.as_millis() as u64;
    let step = if ms < 10_000 { 100 } else { 1_000 };
    Duration::from_millis(((ms + step / 2) / step * step).max(step))
}
