//! What does not nest: each with its numbers, the line or the device it is set on, and the value to set.

use super::learned::Learned;
use super::model::{Stage, StageKind};
use super::path::Way;
use super::setting::{Amount, Setting};
use super::suggest::roomy;
use super::{HopKind, MARGIN, PathBudget, said};
use bivector_site::Site;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
#[schema(as = TimeWeight)]
pub enum Weight {
    /// Logins fail by it that could succeed.
    Breaks,
    /// Some will, on a bad day.
    Risks,
    /// It costs something, or is good to know.
    Note,
}

/// One finding of the budget.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TimeFinding {
    /// A stable name for this kind of finding.
    pub code: String,
    /// How much it matters.
    pub weight: Weight,
    /// The gateway that it is about; empty where it concerns all.
    pub gateway: String,
    /// The way that shows it most, as in [`PathBudget::way`]; empty where it concerns all.
    pub way: String,
    /// What is wrong, with its numbers.
    pub message: String,
    /// What to set, and where.
    pub remedy: String,
    /// The line of the site file; 0 where there is none.
    pub line: u32,
    /// The setting to change, by name.
    pub setting: Option<String>,
    /// What to set it to, as it is written.
    pub value: Option<String>,
    /// Whether that is entered on a device.
    pub on_device: bool,
}

/// Everything that does not nest in a chain, the worst first.
pub(super) fn of_chain(site: &Site, ways: &[Way], paths: &[PathBudget], learned: &Learned) -> Vec<TimeFinding> {
    let mut all: Vec<TimeFinding> = Vec::new();
    let mut gateways: Vec<usize> = ways.iter().map(|way| way.gateway).collect();
    gateways.dedup();
    for gateway in gateways {
        let of = ways.iter().zip(paths).filter(|(way, _)| way.gateway == gateway).collect();
        all.extend(Through { site, gateway, paths: of, learned }.findings());
    }
    if let Some(way) = ways.first() {
        all.extend(people(site, way.chain, ways, learned));
    }
    all.sort_by_key(|finding| finding.weight);
    all
}

/// The paths of a chain through one gateway.
struct Through<'s> {
    site: &'s Site,
    gateway: usize,
    paths: Vec<(&'s Way, &'s PathBudget)>,
    learned: &'s Learned,
}

/// What a finding says beside its code and weight.
struct Saying {
    way: String,
    message: String,
    set: Option<(Setting, Amount)>,
    otherwise: String,
}

impl Through<'_> {
    fn findings(&self) -> Vec<TimeFinding> {
        let mut all = Vec::new();
        all.extend(self.gateway_gives_up());
        all.extend(self.client_gives_up());
        all.extend(self.client_before_gateway());
        all.extend(self.moves_while_pending());
        all.extend(self.fail_over());
        all.extend(self.resends_for_nothing());
        all.extend(self.seen_otherwise());
        all
    }

    fn name(&self) -> &str {
        &self.site.gateways[self.gateway].name
    }

    fn finding(&self, code: &str, weight: Weight, saying: Saying) -> TimeFinding {
        written(self.site, code, weight, self.name().to_owned(), saying, self.site.gateways[self.gateway].line)
    }

    /// The path whose slowest round is slowest, with what waits in front.
    fn slowest_round(&self, of: impl Fn(&Way) -> bool) -> Option<(&Way, &PathBudget, &super::Hop)> {
        let with_hop = self
            .paths
            .iter()
            .filter(|(way, _)| of(way))
            .filter_map(|(way, path)| path.hops.iter().find(|hop| hop.kind == HopKind::Gateway).map(|hop| (*way, *path, hop)));
        with_hop.max_by_key(|(.., hop)| hop.worst_us)
    }

    fn wait_for(&self, needed_us: u64, tries: u32) -> (Setting, Amount) {
        (Setting::GatewayWait(self.gateway), roomy(needed_us / u64::from(tries.max(1)), MARGIN))
    }

    fn gateway_gives_up(&self) -> Vec<TimeFinding> {
        let mut all = Vec::new();
        for handset in [false, true] {
            let Some((way, path, hop)) = self.slowest_round(|way| (way.how == super::How::Approval) == handset) else { continue };
            if hop.worst_us <= hop.patience_us {
                continue;
            }
            let set = self.wait_for(hop.worst_us, hop.tries);
            let waits = format!("`{}` gives up after {} ({} × {})", self.name(), said(hop.patience_us), hop.tries, said(hop.wait_us));
            let slowest = slowest_stage(path);
            let (code, weight, message) = if handset {
                let longest = slowest.map_or(0, |stage| stage.takes.worst_us);
                (
                    "approval-outlives-front",
                    Weight::Breaks,
                    format!("an approval may take {}, but {waits}: later answers have no effect", said(longest)),
                )
            } else {
                let most = slowest.map_or(String::new(), |stage| format!(", {} of it {}", said(stage.takes.worst_us), stage.said()));
                (
                    "waits-do-not-nest",
                    Weight::Risks,
                    format!("{waits}, but the chain `{}` may take {} ({}){most}", self.chain(way), said(hop.worst_us), path.factor),
                )
            };
            let lower = if code == "approval-outlives-front" { "`second_patience` of the chain" } else { "`patience` of the sources" };
            all.push(self.finding(
                code,
                weight,
                Saying { way: path.way.clone(), message, set: Some(set), otherwise: format!("or lower {lower}") },
            ));
        }
        all
    }

    fn chain(&self, way: &Way) -> &str {
        &self.site.chains[way.chain].name
    }

    fn client_gives_up(&self) -> Option<TimeFinding> {
        let with_hop =
            self.paths.iter().filter_map(|(_, path)| path.hops.iter().find(|hop| hop.kind == HopKind::Client).map(|hop| (*path, hop)));
        let (path, hop) = with_hop.max_by_key(|(_, hop)| hop.worst_us).filter(|(_, hop)| hop.worst_us > hop.patience_us)?;
        let weight = if hop.usual_us > hop.patience_us { Weight::Breaks } else { Weight::Risks };
        let message = format!(
            "the client of `{}` gives up after {}, but a login ({}) usually takes {}, at worst {}",
            self.name(),
            said(hop.patience_us),
            path.factor,
            said(hop.usual_us),
            said(hop.worst_us)
        );
        let set = (Setting::ClientPatience(self.gateway), roomy(hop.worst_us, MARGIN));
        Some(self.finding("client-gives-up", weight, Saying { way: path.way.clone(), message, set: Some(set), otherwise: String::new() }))
    }

    fn client_before_gateway(&self) -> Option<TimeFinding> {
        let gateway = &self.site.gateways[self.gateway];
        let client = gateway.client_patience?;
        let (patience, _) = self.learned.patience(gateway)?;
        if client >= patience.whole() {
            return None;
        }
        let message = format!(
            "the client of `{}` gives up after {}, before the gateway does ({}): the gateway's later retries are useless",
            gateway.name,
            said(super::micros(client)),
            said(super::micros(patience.whole()))
        );
        let set = (Setting::ClientPatience(self.gateway), roomy(super::micros(patience.whole()), 0.0));
        Some(self.finding(
            "client-before-gateway",
            Weight::Risks,
            Saying { way: String::new(), message, set: Some(set), otherwise: "or reduce the gateway's number of tries".into() },
        ))
    }

    fn moves_while_pending(&self) -> Option<TimeFinding> {
        let (patience, _) = self.learned.patience(&self.site.gateways[self.gateway])?;
        let (_, path, hop) = self.slowest_round(|way| way.how.asks_handset() || matches!(way.how, super::How::Upstream(_)))?;
        if patience.servers < 2 || hop.usual_us.max(hop.worst_us) <= hop.patience_us {
            return None;
        }
        let message = format!(
            "`{}` fails over to its next server after {} while {} may still be pending (up to {}): the login starts over there",
            self.name(),
            said(hop.patience_us),
            slowest_stage(path).map_or("the second factor".to_owned(), Stage::said),
            said(hop.worst_us)
        );
        let saying = Saying { way: path.way.clone(), message, set: Some(self.wait_for(hop.worst_us, hop.tries)), otherwise: String::new() };
        Some(self.finding("moves-while-pending", Weight::Breaks, saying))
    }

    fn fail_over(&self) -> Vec<TimeFinding> {
        let Some((_, path, hop)) = self.slowest_round(|way| way.how != super::How::Approval).or_else(|| self.slowest_round(|_| true))
        else {
            return Vec::new();
        };
        let over = path.rounds.iter().flat_map(|round| &round.stages).find(|stage| stage.kind == StageKind::FailOver);
        let Some(over) = over else { return Vec::new() };
        let takes = over.takes.worst_us;
        let directory = self.site.directories.iter().position(|directory| directory.name == over.name);
        let set = |us: u64| {
            Some((Setting::Hedge(directory?), Amount::Time(Duration::from_micros(us / 100_000 * 100_000).max(Duration::from_millis(100)))))
        };
        if takes >= hop.patience_us {
            let message = format!(
                "where a first server of {} takes connections and says nothing, the next one is asked after {} only, and `{}` gives up after {}: the logins until then fail",
                over.name,
                said(takes),
                self.name(),
                said(hop.patience_us)
            );
            let saying = Saying { way: path.way.clone(), message, set: set(hop.patience_us / 3), otherwise: String::new() };
            return vec![self.finding("fail-over-outlasts-gateway", Weight::Breaks, saying)];
        }
        if takes > hop.wait_us {
            let message = format!(
                "the next server of {} is asked after {}, and `{}` resends after {}: logins that find the first one silent are sent again meanwhile",
                over.name,
                said(takes),
                self.name(),
                said(hop.wait_us)
            );
            let weight = if hop.tries == 1 { Weight::Breaks } else { Weight::Risks };
            let saying = Saying { way: path.way.clone(), message, set: set(hop.wait_us), otherwise: String::new() };
            return vec![self.finding("fail-over-longer-than-a-try", weight, saying)];
        }
        Vec::new()
    }

    fn resends_for_nothing(&self) -> Option<TimeFinding> {
        let slowest =
            self.paths.iter().filter_map(|(_, path)| path.hops.iter().find(|hop| hop.kind == HopKind::Gateway).map(|hop| (*path, hop)));
        let (path, hop) = slowest.max_by_key(|(_, hop)| hop.usual_us).filter(|(_, hop)| hop.usual_us > hop.wait_us)?;
        let times = (hop.usual_us / hop.wait_us.max(1)).min(u64::from(hop.tries.saturating_sub(1)));
        let message = format!(
            "`{}` retransmits every {}, but a login ({}) usually takes {}: {times} needless retransmissions each (they join the login)",
            self.name(),
            said(hop.wait_us),
            path.factor,
            said(hop.usual_us)
        );
        let all = hop.wait_us * u64::from(hop.tries);
        let wait = roomy(hop.usual_us, 0.0);
        let tries = (all / wait.us().max(1)).max(1);
        let noun = if tries == 1 { "try" } else { "tries" };
        let otherwise = format!("with {tries} {noun}, the total wait stays the same");
        let saying = Saying { way: path.way.clone(), message, set: Some((Setting::GatewayWait(self.gateway), wait)), otherwise };
        Some(self.finding("resends-for-nothing", Weight::Note, saying))
    }

    fn seen_otherwise(&self) -> Option<TimeFinding> {
        let gateway = &self.site.gateways[self.gateway];
        let message = self.learned.difference(gateway)?;
        let seen = self.learned.gateways.get(&gateway.name)?;
        let value = match self.learned.patience(gateway) {
            Some((patience, _)) if Some(patience) != gateway.patience => Amount::Time(patience.wait),
            _ => Amount::Time(Duration::from_millis(seen.wait_us / 1_000)),
        };
        let saying = Saying {
            way: String::new(),
            message,
            set: Some((Setting::GatewayWait(self.gateway), value)),
            otherwise: "check the device: one of the two values is wrong".into(),
        };
        Some(self.finding("seen-otherwise", Weight::Risks, saying))
    }
}

fn slowest_stage(path: &PathBudget) -> Option<&Stage> {
    path.rounds.iter().flat_map(|round| &round.stages).max_by_key(|stage| stage.takes.worst_us)
}

impl Stage {
    /// What it is, in words.
    pub fn said(&self) -> String {
        let name = &self.name;
        match self.kind {
            StageKind::FailOver => format!("{name}: first server not answering"),
            StageKind::Connect => format!("connecting to {name}"),
            StageKind::Search => format!("{name}'s search"),
            StageKind::Password => format!("{name}'s answer to the password"),
            StageKind::Upstream => format!("{name}'s answer"),
            StageKind::Code => "marking the code".to_owned(),
            StageKind::Courier => format!("handing the code to {name}"),
            StageKind::Approval => "the approval".to_owned(),
        }
    }
}

/// Waits that are shorter than people.
fn people(site: &Site, chain: usize, ways: &[Way], learned: &Learned) -> Vec<TimeFinding> {
    let mut all: Vec<TimeFinding> = Vec::new();
    let mut add = |code: &str, setting: Setting, what: &str, limit: u64, also: u64| {
        let seen = learned.people(what);
        let needs = seen.most_us + also;
        if limit >= needs || all.iter().any(|finding: &TimeFinding| finding.code == code) {
            return;
        }
        let basis = match seen.count {
            0 => "assumed".to_owned(),
            count => format!("measured in {count} logins"),
        };
        let message = format!(
            "{} expires after {}, but 5 % of people need longer than {} for {} ({basis})",
            match setting {
                Setting::SecondPatience(_) => "an approval",
                Setting::CodesLast => "a sent code",
                _ => "a prompt",
            },
            said(limit),
            said(needs),
            match what {
                "approval" => "finding the phone and answering".to_owned(),
                "typing" => "typing a code".to_owned(),
                courier => format!("getting the code of {courier} and typing it"),
            }
        );
        let saying = Saying { way: String::new(), message, set: Some((setting, roomy(needs, 0.0))), otherwise: String::new() };
        all.push(written(site, code, Weight::Risks, String::new(), saying, setting.line(site)));
    };
    let prompt = super::micros(site.prompt_lasts);
    for way in ways {
        match way.how {
            super::How::Approval | super::How::Number => {
                let patience = super::micros(site.chains[chain].second_patience);
                add("approval-too-short", Setting::SecondPatience(chain), "approval", patience, 0);
            }
            super::How::Prompted(_) | super::How::UpstreamPrompted(_) => add("prompt-too-short", Setting::PromptsLast, "typing", prompt, 0),
            super::How::Courier(index) => {
                let Some(courier) = site.couriers.get(index) else { continue };
                add("prompt-too-short", Setting::PromptsLast, &courier.name, prompt, 0);
                let delivery = super::micros(courier.patience);
                add("code-ends-first", Setting::CodesLast, &courier.name, super::micros(site.sending.lasts), delivery);
            }
            super::How::None | super::How::Typed(_) | super::How::Upstream(_) => {}
        }
    }
    all
}

fn written(site: &Site, code: &str, weight: Weight, gateway: String, saying: Saying, line: u32) -> TimeFinding {
    let remedy = match &saying.set {
        Some((setting, amount)) => {
            let at = match setting.line(site) {
                0 => "in the site file".to_owned(),
                line if setting.on_device() => format!("on the device and in line {line} of the site file"),
                line => format!("in line {line} of the site file"),
            };
            let (_, owner, key) = setting.place(site);
            let more = if saying.otherwise.is_empty() { String::new() } else { format!("; {}", saying.otherwise) };
            let what = match setting {
                Setting::PromptsLast => "`factors.prompt_lasts`".to_owned(),
                Setting::CodesLast => "`factors.sent.lasts`".to_owned(),
                _ => format!("`{key}` of `{owner}`"),
            };
            format!("set {what} to {amount}, {at}{more}")
        }
        None => saying.otherwise.clone(),
    };
    TimeFinding {
        code: code.to_owned(),
        weight,
        gateway,
        way: saying.way,
        message: saying.message,
        remedy,
        line: saying.set.as_ref().map(|(setting, _)| setting.line(site)).filter(|line| *line > 0).unwrap_or(line),
        setting: saying.set.as_ref().map(|(setting, _)| setting.name(site)),
        value: saying.set.as_ref().map(|(_, amount)| amount.written()),
        on_device: saying.set.as_ref().is_some_and(|(setting, _)| setting.on_device()),
    }
}
