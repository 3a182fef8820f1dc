//! The time budget: whether every hop of a chain waits long enough for the hops behind it, and what to change where it does not.
//!
//! `path` knows the ways through a chain, `model` how long each stage takes, `findings` what breaks, `suggest` the smallest change that
//! mends it, `setting` every wait by a name, `learned` what the wire and the people have shown.

mod findings;
mod learned;
mod model;
mod path;
mod rush;
mod setting;
mod suggest;
#[cfg(test)]
mod tests;

pub use findings::{TimeFinding, Weight};
pub use learned::{ENOUGH, Learned, NOTIFICATION, Seen, SeenResends, SeenTimes};
pub use model::{Basis, Gap, Round, Stage, StageKind, Takes};
pub use path::{How, Way, ways};
pub use rush::{HashCost, Rush, rush};
pub use setting::{Amount, Setting, SettingError, all as settings, of_way};
pub use suggest::{Change, Suggestion, suggest};

use bivector_site::{Advice, Chain, Gateway, Site};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// The margin that everything should nest with, unless another one is asked for: a fifth.
pub const MARGIN: f64 = 0.2;

/// A hop in front of the stages: it waits, and gives up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = TimeHop)]
pub struct Hop {
    /// Its name.
    pub name: String,
    /// `client` or `gateway`.
    pub kind: HopKind,
    /// How long it waits per try, in microseconds.
    pub wait_us: u64,
    /// How often it tries each server.
    pub tries: u32,
    /// How many servers it tries, one after the other.
    pub servers: u32,
    /// How long it waits for its first server, in microseconds; the next one begins the login anew.
    pub patience_us: u64,
    /// What stands behind it at the usual pace.
    pub usual_us: u64,
    /// What stands behind it when everything takes as long as it may.
    pub worst_us: u64,
    /// What is left of its patience in the worst case, as a share of the worst case; below zero if it gives up too early.
    pub margin: f64,
    /// Whether the numbers are stated in the site file or seen on the wire.
    pub basis: Basis,
    /// Its line in the site file.
    pub line: u32,
}

/// What kind of hop it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
#[schema(as = TimeHopKind)]
pub enum HopKind {
    /// The program in front of the person.
    Client,
    /// The gateway.
    Gateway,
}

/// The times of one way through a chain.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PathBudget {
    /// The gateway.
    pub gateway: String,
    /// The method.
    pub method: String,
    /// How the second factor is given, in words.
    pub factor: String,
    /// A stable name of this way, for the simulation.
    pub way: String,
    /// From request to reply, once or several times.
    pub rounds: Vec<Round>,
    /// What waits in front, from the outside in.
    pub hops: Vec<Hop>,
    /// All rounds and what lies between them, at the usual pace.
    pub usual_us: u64,
    /// The same in the worst case.
    pub worst_us: u64,
}

/// The budget of a chain.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ChainBudget {
    /// The chain.
    pub chain: String,
    /// Each way through it, through each of its gateways.
    pub paths: Vec<PathBudget>,
    /// What does not nest, the worst first.
    pub findings: Vec<TimeFinding>,
    /// What the figures rest on, where that is more than the site file.
    pub notes: Vec<String>,
}

/// Works out the budget of a chain, through one gateway or through all that send it logins.
///
/// Nothing where there is no such chain. A chain without a gateway has no paths, and a note says so.
pub fn budget(site: &Site, chain: usize, via: Option<usize>, learned: &Learned) -> Option<ChainBudget> {
    let of = site.chains.get(chain)?;
    let all = ways(site, chain, via);
    let paths: Vec<PathBudget> = all.iter().map(|way| model::path(site, way, learned)).collect();
    let mut notes = learned.notes(site, &paths);
    if paths.is_empty() {
        notes.push("no gateway sends logins to this chain; add one under `gateways`".to_owned());
    }
    for gateway in unstated(site, &all, learned) {
        notes.push(format!(
            "the timeout of `{gateway}` is unknown: set `patience` to the values on the device, or wait until it is learned from retransmissions"
        ));
    }
    let findings = findings::of_chain(site, &all, &paths, learned);
    Some(ChainBudget { chain: of.name.clone(), paths, findings, notes })
}

/// The longest that a gateway may have to wait for one answer of a chain, as far as the site file says.
pub fn slowest(site: &Site, chain: &Chain, gateway: &Gateway) -> Duration {
    let index = |found: Option<usize>| found.unwrap_or(usize::MAX);
    let chain = index(site.chains.iter().position(|of| of.name == chain.name));
    let gateway = index(site.gateways.iter().position(|of| of.name == gateway.name));
    let learned = Learned::default();
    let paths = ways(site, chain, Some(gateway)).into_iter().map(|way| model::path(site, &way, &learned));
    let worst = paths.flat_map(|path| path.rounds).map(|round| round.takes.worst_us).max();
    Duration::from_micros(worst.unwrap_or(0))
}

/// The budgets of all chains, by their place in the site.
pub fn all(site: &Site, learned: &Learned) -> Vec<ChainBudget> {
    (0..site.chains.len()).filter_map(|chain| budget(site, chain, None, learned)).collect()
}

/// Timeouts that do not fit, for the check of a site file: what the budget finds by the file alone.
pub fn advice(site: &Site) -> Vec<Advice> {
    let chains = all(site, &Learned::default()).into_iter();
    let findings = chains.flat_map(|chain| chain.findings).filter(|finding| finding.weight != Weight::Note);
    findings
        .map(|finding| Advice { code: finding.code.to_string(), line: finding.line, message: finding.message, remedy: finding.remedy })
        .collect()
}

fn unstated<'s>(site: &'s Site, all: &[Way], learned: &Learned) -> Vec<&'s str> {
    let mut names: Vec<&str> = Vec::new();
    for way in all {
        let Some(gateway) = site.gateways.get(way.gateway) else { continue };
        if learned.patience(gateway).is_none() && !names.contains(&gateway.name.as_str()) {
            names.push(&gateway.name);
        }
    }
    names
}

/// Microseconds of a duration.
pub(crate) fn micros(duration: Duration) -> u64 {
    u64::try_from(duration.as_micros()).unwrap_or(u64::MAX)
}

/// A time for people to read.
pub(crate) fn said(us: u64) -> String {
    match us {
        0 => "0".to_owned(),
        us if us < 1_000 => format!("{us} µs"),
        us if us < 1_000_000 => format!("{} ms", (us + 500) / 1_000),
        us if us < 120_000_000 => {
            let tenths = (us + 50_000) / 100_000;
            if tenths.is_multiple_of(10) { format!("{} s", tenths / 10) } else { format!("{}.{} s", tenths / 10, tenths % 10) }
        }
        us => format!("{} min {} s", us / 60_000_000, us / 1_000_000 % 60),
    }
}
