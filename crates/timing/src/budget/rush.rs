//! Many logins that begin at the same moment, as at the start of a shift: how long they queue, and how many get their answer too late.

use super::{HopKind, Learned, PathBudget, StageKind, said};
use bivector_site::{Site, SourceRef};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What checking a local password costs here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HashCost {
    /// One hash, in microseconds of a core.
    pub each_us: u64,
    /// Hashes at one time.
    pub at_once: u32,
}

/// What becomes of logins that all begin at one moment, through one gateway.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rush {
    /// The gateway.
    pub gateway: String,
    /// How many logins.
    pub logins: u32,
    /// The source in which they queue: it checks the passwords.
    pub source: String,
    /// How many are checked at one time.
    pub at_once: u32,
    /// What one check takes, in microseconds.
    pub each_us: u64,
    /// When half of them have their answer, in microseconds.
    pub half_us: u64,
    /// When the last one would have its answer, in microseconds.
    pub last_us: u64,
    /// How long the gateway waits, in microseconds; nothing if that is not known.
    pub patience_us: Option<u64>,
    /// Logins whose gateway has given up before their answer.
    pub lost: u32,
    /// What helps; empty where nobody is lost.
    pub remedy: String,
}

/// The rush of a chain through each of its gateways, or through one: in the source where logins queue longest. The time that people take
/// for prompts and approvals is left out.
pub fn rush(site: &Site, chain: usize, via: Option<usize>, learned: &Learned, logins: u32, hash: HashCost) -> Vec<Rush> {
    let Some(of) = site.chains.get(chain) else { return Vec::new() };
    let sources = of.first.iter().filter_map(|first| match first.source {
        SourceRef::Roster if of.code_only => None,
        SourceRef::Roster => Some(("roster".to_owned(), hash.at_once, hash.each_us)),
        SourceRef::Directory(index) => site.directories.get(index).map(|directory| {
            // A search and a bind, by the first server alone: the others stand by.
            (directory.name.clone(), directory.connections as u32, 2 * DIRECTORY_US)
        }),
        SourceRef::Upstream(_) => None,
    });
    let waits = |at_once: u32, each_us: u64| u64::from(logins.div_ceil(at_once.max(1))) * each_us;
    let Some((source, at_once, each_us)) = sources.max_by_key(|(_, at_once, each_us)| waits(*at_once, *each_us)) else { return Vec::new() };
    let budget = super::budget(site, chain, via, learned);
    let mut rushes: Vec<Rush> = Vec::new();
    for path in budget.into_iter().flat_map(|budget| budget.paths) {
        if rushes.iter().any(|known| known.gateway == path.gateway) {
            continue;
        }
        let beside = beside_us(&path);
        let patience_us = path.hops.iter().find(|hop| hop.kind == HopKind::Gateway).map(|hop| hop.patience_us).filter(|us| *us > 0);
        let in_time = patience_us.map_or(u64::MAX, |us| us.saturating_sub(beside) / each_us.max(1)).saturating_mul(u64::from(at_once));
        let lost = u64::from(logins).saturating_sub(in_time) as u32;
        let (half_us, last_us) = (waits(at_once, each_us) / 2 + beside, waits(at_once, each_us) + beside);
        let remedy = match (lost, source.as_str()) {
            (0, _) => String::new(),
            (_, "roster") => format!(
                "let the gateway wait {}, or lower `passes` or `memory_mib` under `[passwords.hash]` (weaker if the records are stolen), or use more cores",
                said(last_us)
            ),
            _ => format!("let the gateway wait {}, or raise `connections` of {source}", said(last_us)),
        };
        rushes.push(Rush {
            gateway: path.gateway,
            logins,
            source: source.clone(),
            at_once,
            each_us,
            half_us,
            last_us,
            patience_us,
            lost,
            remedy,
        });
    }
    rushes
}

/// Assumed of a directory in a rush: one answer.
const DIRECTORY_US: u64 = 3_000;

/// What a login usually takes beside the check of the password.
fn beside_us(path: &PathBudget) -> u64 {
    let stages = path.rounds.first().into_iter().flat_map(|round| &round.stages);
    stages.filter(|stage| matches!(stage.kind, StageKind::Code | StageKind::Connect)).map(|stage| stage.takes.usual_us).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_site::Known;

    const DEMO: &str = include_str!("../../../../demo/site.toml");

    fn rushed(from: &str, to: &str, logins: u32, hash: HashCost) -> Rush {
        assert!(DEMO.contains(from));
        let site = Site::read(&DEMO.replacen(from, to, 1), &Known::default()).0.unwrap();
        let chain = site.chains.iter().position(|chain| chain.name == "staff").unwrap();
        let via = site.gateway_named("breakwater");
        rush(&site, chain, via, &Learned::default(), logins, hash).remove(0)
    }

    #[test]
    fn local_users_of_a_rush_wait_for_cores_and_are_lost_where_the_gateway_leaves_first() {
        let (from, to) = ("first = [\"tidehall\", \"roster\"]", "first = [\"roster\"]");
        let two = HashCost { each_us: 25_000, at_once: 2 };
        let seen = rushed(from, to, 600, two);
        assert_eq!((seen.source.as_str(), seen.last_us / 100_000, seen.lost), ("roster", 75, 0), "7.5 s of 15 s: {seen:?}");
        let seen = rushed(from, to, 2_000, two);
        assert!((700..900).contains(&seen.lost) && seen.remedy.contains("25") && seen.remedy.contains("[passwords.hash]"), "{seen:?}");
        let seen = rushed(from, to, 2_000, HashCost { at_once: 8, ..two });
        assert_eq!((seen.lost, seen.remedy.as_str()), (0, ""));
    }

    #[test]
    fn people_of_a_directory_wait_for_its_connections() {
        let quick = "patience = { connect = \"1s\", answer = \"2s\" }";
        let seen = rushed(quick, quick, 6_000, HashCost { each_us: 1, at_once: 1 });
        assert_eq!((seen.source.as_str(), seen.at_once), ("tidehall", 16));
        let slow = rushed(quick, &format!("connections = 1\n{quick}"), 6_000, HashCost { each_us: 1, at_once: 1 });
        assert!(slow.lost > 0 && slow.remedy.contains("raise `connections` of tidehall"), "{slow:?}");
    }
}
