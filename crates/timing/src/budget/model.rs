//! How long each stage of a way takes: at least, usually, at worst.
//!
//! The worst case is what the waits allow: a server of a pool that says nothing, then one that takes all of its time. What people take
//! is measured as soon as there is enough of it, and assumed before.

use super::learned::Learned;
use super::path::{How, Way};
use super::{Hop, HopKind, PathBudget, micros};
use bivector_site::{Chain, Directory, FactorKind, GroupSource, Site, SourceRef};
use bivector_wire::eap::{self, EapMethod, Inner};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Assumed of a directory that is well: a search or a bind over a connection that is there.
const ASKED: Takes = Takes { least_us: 300, usual_us: 4_000, worst_us: 0 };
/// Assumed of an upstream that is well.
const UPSTREAM: Takes = Takes { least_us: 1_000, usual_us: 30_000, worst_us: 0 };
/// Assumed of the receiver of codes: the call that hands it over.
const HANDED_OVER: Takes = Takes { least_us: 20_000, usual_us: 400_000, worst_us: 0 };
/// Assumed of one round trip between a person's device and the service.
const TRIP: Takes = Takes { least_us: 1_000, usual_us: 40_000, worst_us: 300_000 };
/// A code that is marked as used, durably.
const MARKED: Takes = Takes { least_us: 100, usual_us: 1_000, worst_us: 50_000 };
/// Checking a kept password: one slow hash.
const HASHED: Takes = Takes { least_us: 10_000, usual_us: 50_000, worst_us: 500_000 };

/// Three times of one stage, in microseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[schema(as = TimeTakes)]
pub struct Takes {
    /// At least.
    pub least_us: u64,
    /// Usually: half take longer.
    pub usual_us: u64,
    /// At worst: no longer than that, or it counts as failed.
    pub worst_us: u64,
}

/// What a figure rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
#[schema(as = TimeBasis)]
pub enum Basis {
    /// The site file says it.
    Stated,
    /// It was seen in real logins.
    Measured,
    /// It is assumed.
    Assumed,
}

/// What kind of stage it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
#[schema(as = TimeStageKind)]
pub enum StageKind {
    /// A first server that does not answer, until the next one is asked.
    FailOver,
    /// Name resolution, connection and TLS.
    Connect,
    /// Finding the person, with groups.
    Search,
    /// Checking the password.
    Password,
    /// An upstream.
    Upstream,
    /// A code of the person's own.
    Code,
    /// Handing a code to a courier.
    Courier,
    /// The person's thumb.
    Approval,
}

/// One stage between request and reply.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = TimeStage)]
pub struct Stage {
    /// What it is.
    pub kind: StageKind,
    /// Whose it is.
    pub name: String,
    /// How long.
    #[serde(flatten)]
    pub takes: Takes,
    /// What its usual time rests on.
    pub basis: Basis,
    /// The setting that bounds it, where one does.
    pub setting: Option<String>,
}

/// Between two rounds: somebody reads, waits for a message, types.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = TimeGap)]
pub struct Gap {
    /// What is done.
    pub name: String,
    /// How long.
    #[serde(flatten)]
    pub takes: Takes,
    /// How long nineteen of twenty take at most, in microseconds.
    pub most_us: u64,
    /// What the usual time rests on.
    pub basis: Basis,
    /// The setting that bounds it.
    pub setting: Option<String>,
}

/// One request and its reply, and what the person does before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = TimeRound)]
pub struct Round {
    /// What the person does before it; nothing before the first.
    pub before: Option<Gap>,
    /// Its stages in order.
    pub stages: Vec<Stage>,
    /// Its stages together.
    #[serde(flatten)]
    pub takes: Takes,
}

impl Round {
    fn of(before: Option<Gap>, stages: Vec<Stage>) -> Self {
        let takes = stages.iter().fold(Takes::default(), |all, stage| all.and(stage.takes));
        Round { before, stages, takes }
    }
}

impl Takes {
    pub(super) fn and(self, other: Takes) -> Takes {
        Takes {
            least_us: self.least_us + other.least_us,
            usual_us: self.usual_us + other.usual_us,
            worst_us: self.worst_us + other.worst_us,
        }
    }

    fn bounded(self, worst_us: u64) -> Takes {
        Takes { least_us: self.least_us.min(worst_us), usual_us: self.usual_us.min(worst_us), worst_us }
    }
}

/// The stages and hops of one way.
pub(super) fn path(site: &Site, way: &Way, learned: &Learned) -> PathBudget {
    let (chain, gateway) = (&site.chains[way.chain], &site.gateways[way.gateway]);
    let mut rounds = rounds(site, chain, way.how, learned);
    if let (Some(first), Some(method)) = (rounds.first_mut(), way.method.eap()) {
        first.before = Some(conversation(method));
    }
    let whole = rounds.iter().fold(Takes::default(), |all, round| {
        let gap = round.before.as_ref().map_or(Takes::default(), |gap| Takes { worst_us: gap.most_us, ..gap.takes });
        all.and(gap).and(round.takes)
    });
    let slowest = |of: fn(&Takes) -> u64| rounds.iter().map(|round| of(&round.takes)).max().unwrap_or(0);
    let mut hops = Vec::new();
    let hop = |kind, wait_us: u64, tries: u32, servers: u32, (usual_us, worst_us): (u64, u64), basis| {
        let patience_us = wait_us * u64::from(tries);
        let margin = patience_us as f64 / worst_us.max(1) as f64 - 1.0;
        let margin = (margin * 1000.0).round() / 1000.0;
        Hop {
            name: gateway.name.clone(),
            kind,
            wait_us,
            tries,
            servers,
            patience_us,
            usual_us,
            worst_us,
            margin,
            basis,
            line: gateway.line,
        }
    };
    if let Some(patience) = gateway.client_patience {
        hops.push(hop(HopKind::Client, micros(patience), 1, 1, (whole.usual_us, whole.worst_us), Basis::Stated));
    }
    if let Some((patience, basis)) = learned.patience(gateway) {
        let behind = (slowest(|takes| takes.usual_us), slowest(|takes| takes.worst_us));
        hops.push(hop(HopKind::Gateway, micros(patience.wait), patience.tries, patience.servers, behind, basis));
    }
    PathBudget {
        gateway: gateway.name.clone(),
        method: way.method.name().to_owned(),
        factor: way.how.said(site),
        way: way.how.slug(site),
        rounds,
        hops,
        usual_us: whole.usual_us,
        worst_us: whole.worst_us,
    }
}

/// Round trips between the person's device and the service before the credential arrives, and after it until the end. Each takes as long
/// as the network between them, which nothing here knows; certificates of usual length in packets of usual size.
fn round_trips(method: EapMethod) -> u64 {
    match (method.outer(), method.inner()) {
        (eap::MS_CHAP_V2, _) => 2,
        (eap::GTC | eap::MD5, _) => 1,
        (eap::TLS, _) => 5,
        (eap::TTLS, Inner::Eap(eap::MS_CHAP_V2)) => 6,
        (eap::TTLS, Inner::Eap(_)) => 5,
        (eap::TTLS, _) => 4,
        (_, Inner::Eap(eap::MS_CHAP_V2)) => 8,
        _ => 7,
    }
}

/// What EAP does before the login is decided.
fn conversation(method: EapMethod) -> Gap {
    let trips = round_trips(method);
    let each = |took_us: u64| trips * took_us;
    let takes = Takes { least_us: each(TRIP.least_us), usual_us: each(TRIP.usual_us), worst_us: each(TRIP.worst_us) };
    let name = format!("EAP, {trips} {}", if trips == 1 { "round trip" } else { "round trips" });
    Gap { name, takes, most_us: takes.worst_us, basis: Basis::Assumed, setting: None }
}

fn rounds(site: &Site, chain: &Chain, how: How, learned: &Learned) -> Vec<Round> {
    let first = first(site, chain);
    let search_again = || first.iter().filter(|stage| stage.kind != StageKind::Password).cloned().collect::<Vec<_>>();
    let code = Stage { kind: StageKind::Code, name: "code".into(), takes: MARKED, basis: Basis::Assumed, setting: None };
    let with = |mut stages: Vec<Stage>, more: Stage| {
        stages.push(more);
        stages
    };
    let prompted = |what: &str| gap(learned, what, micros(site.prompt_lasts), Some("prompts.last".to_owned()));
    match how {
        How::None => vec![Round::of(None, first)],
        How::Typed(_) => vec![Round::of(None, with(first, code))],
        How::Prompted(_) => {
            vec![Round::of(None, first.clone()), Round::of(Some(prompted("typing")), with(search_again(), code))]
        }
        How::Upstream(index) => vec![Round::of(None, with(first, upstream(site, index)))],
        How::UpstreamPrompted(index) => {
            vec![Round::of(None, first.clone()), Round::of(Some(prompted("typing")), with(search_again(), upstream(site, index)))]
        }
        How::Courier(index) => {
            let (name, patience) = site.couriers.get(index).map_or(("", 0), |courier| (courier.name.as_str(), micros(courier.patience)));
            let handed = Stage {
                kind: StageKind::Courier,
                name: name.to_owned(),
                takes: HANDED_OVER.bounded(patience),
                basis: Basis::Assumed,
                setting: Some(format!("{name}.patience")),
            };
            let (lasts, setting) = match site.sending.lasts < site.prompt_lasts {
                true => (site.sending.lasts, "codes.last"),
                false => (site.prompt_lasts, "prompts.last"),
            };
            let gap = gap(learned, name, micros(lasts), Some(setting.to_owned()));
            vec![Round::of(None, with(first.clone(), handed)), Round::of(Some(gap), with(search_again(), code))]
        }
        How::Approval => {
            let seen = learned.people("approval");
            let longest = micros(chain.second_patience);
            let approval = Stage {
                kind: StageKind::Approval,
                name: "handset".into(),
                takes: Takes { least_us: seen.least_us, usual_us: seen.usual_us, worst_us: 0 }.bounded(longest),
                basis: seen.basis,
                setting: Some(format!("{}.second_patience", chain.name)),
            };
            vec![Round::of(None, with(first, approval))]
        }
        How::Number => {
            let patience = micros(chain.second_patience).min(micros(site.prompt_lasts));
            let setting =
                if chain.second_patience <= site.prompt_lasts { format!("{}.second_patience", chain.name) } else { "prompts.last".into() };
            let gap = gap(learned, "approval", patience, Some(setting));
            vec![Round::of(None, first.clone()), Round::of(Some(gap), search_again())]
        }
    }
}

fn gap(learned: &Learned, what: &str, worst_us: u64, setting: Option<String>) -> Gap {
    let seen = learned.people(what);
    let name = match what {
        "typing" => "typing the code".to_owned(),
        "approval" => "picking the number on the handset".to_owned(),
        courier => format!("{courier} and typing"),
    };
    let takes = Takes { least_us: seen.least_us, usual_us: seen.usual_us, worst_us: 0 }.bounded(worst_us);
    Gap { name, takes, most_us: seen.most_us.min(worst_us), basis: seen.basis, setting }
}

/// The first check: the chain's slowest source, since any of them may be the one that knows the person.
fn first(site: &Site, chain: &Chain) -> Vec<Stage> {
    let of = |source: SourceRef| match source {
        SourceRef::Directory(index) => {
            site.directories.get(index).map_or(Vec::new(), |directory| directory_stages(directory, chain.code_only))
        }
        SourceRef::Upstream(index) => vec![upstream(site, index)],
        SourceRef::Roster => {
            let takes = if chain.code_only { Takes::default() } else { HASHED };
            vec![Stage { kind: StageKind::Password, name: "roster".into(), takes, basis: Basis::Assumed, setting: None }]
        }
    };
    let worst = |stages: &Vec<Stage>| stages.iter().map(|stage| stage.takes.worst_us).sum::<u64>();
    chain.first.iter().map(|first| of(first.source)).max_by_key(worst).unwrap_or_default()
}

fn directory_stages(directory: &Directory, code_only: bool) -> Vec<Stage> {
    let (connect, answer) = (micros(directory.connect_patience), micros(directory.answer_patience));
    let stage = |kind, takes, key: &str| Stage {
        kind,
        name: directory.name.clone(),
        takes,
        basis: Basis::Assumed,
        setting: Some(format!("{}.{key}", directory.name)),
    };
    let mut stages = Vec::new();
    if directory.servers.len() > 1 {
        // The first login that finds a server silent asks the next one after this wait, and those that come later ask that one at once.
        let takes = micros(directory.hedge).min(answer.max(connect));
        stages.push(stage(StageKind::FailOver, Takes { worst_us: takes, ..Takes::default() }, "hedge"));
    }
    stages.push(stage(StageKind::Connect, Takes { worst_us: connect, ..Takes::default() }, "connect"));
    let searches_more = matches!(directory.groups, GroupSource::Search { .. } | GroupSource::Attribute { nested: true, .. });
    let searched = ASKED.bounded(answer);
    stages.push(stage(StageKind::Search, if searches_more { searched.and(searched) } else { searched }, "answer"));
    if !code_only {
        stages.push(stage(StageKind::Password, ASKED.bounded(answer), "answer"));
    }
    stages
}

fn upstream(site: &Site, index: usize) -> Stage {
    let name = site.factor_name(FactorKind::Upstream(index)).to_owned();
    let worst = site
        .upstreams
        .get(index)
        .map_or(0, |upstream| micros(upstream.wait) * u64::from(upstream.tries) * upstream.servers.len().max(1) as u64);
    let setting = Some(format!("{name}.wait"));
    Stage { kind: StageKind::Upstream, name, takes: UPSTREAM.bounded(worst), basis: Basis::Assumed, setting }
}
