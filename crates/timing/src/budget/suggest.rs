//! The smallest set of changes after which every timeout is long enough with the wanted margin.
//!
//! What is set in front of the chain follows from what is behind: whoever still waits too short must wait longer. So only the settings
//! behind the gateways are searched through, subset by subset, small ones first: each gets the least value that is asked of it, then
//! gateways and clients get what is left to ask for, and the smallest change of all wins. Of two as small, the one that changes less behind
//! the gateways: a source that is given less time makes other logins fail.

use super::learned::Learned;
use super::path::{How, Way};
use super::setting::{Amount, Setting};
use super::{HopKind, micros, model};
use bivector_site::Site;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// Settings behind the gateways that are changed at most.
const MOST: usize = 3;
/// Settings behind the gateways that are looked at.
const CANDIDATES: usize = 10;
/// What a source must be given at least, however tight it gets.
const LEAST_PATIENCE: u64 = 300_000;

/// One change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = TimeChange)]
pub struct Change {
    /// The setting, by name.
    pub setting: String,
    /// What it is, in words.
    pub said: String,
    /// Its value now, as it is written; empty where the site file says nothing.
    pub from: String,
    /// The value to set, as it is written.
    pub to: String,
    /// Whether it is entered on a device.
    pub on_device: bool,
    /// Whose it is: the gateway for devices.
    pub owner: String,
}

/// What to change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Suggestion {
    /// The margin that was wanted, as a share.
    pub margin: f64,
    /// The changes; none where all is well.
    pub changes: Vec<Change>,
    /// What no change of this size mends, in sentences.
    pub left: Vec<String>,
}

/// Works out what to change so that every way of a chain nests with a margin.
pub fn suggest(site: &Site, chain: usize, via: Option<usize>, learned: &Learned, margin: f64) -> Suggestion {
    let mut work = site.clone();
    // What was seen is what counts: as if it were stated.
    for gateway in &mut work.gateways {
        gateway.patience = learned.patience(gateway).map(|(patience, _)| patience);
    }
    let plain = Learned { gateways: Default::default(), ..learned.clone() };
    let ways = super::ways(&work, chain, via);
    let mut search = Search { ways, learned: &plain, margin, work };
    if let Some(changed) = search.smallest(chain, via) {
        let changes = changed.into_iter().map(|(setting, to)| change(site, setting, to)).collect();
        return Suggestion { margin, changes, left: Vec::new() };
    }
    let left = search.asks().into_iter().map(|ask| ask.said(&search.work)).collect();
    Suggestion { margin, changes: Vec::new(), left }
}

fn change(site: &Site, setting: Setting, to: Amount) -> Change {
    Change {
        setting: setting.name(site),
        said: setting.said(site),
        from: setting.get(site).map(Amount::written).unwrap_or_default(),
        to: to.written(),
        on_device: setting.on_device(),
        owner: setting.place(site).1,
    }
}

/// Something that must hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Ask {
    /// The gateway must wait this long for its first server.
    Gateway(usize, u64),
    /// The program in front of it must wait this long.
    Client(usize, u64),
    /// The setting must be this long for people.
    People(Setting, u64),
}

impl Ask {
    /// The setting of the gateway that it is asked of.
    fn gateway(self) -> Option<Setting> {
        if let Ask::Gateway(index, _) = self { Some(Setting::GatewayWait(index)) } else { None }
    }

    /// The setting of the program in front that it is asked of.
    fn client(self) -> Option<Setting> {
        if let Ask::Client(index, _) = self { Some(Setting::ClientPatience(index)) } else { None }
    }

    fn said(self, site: &Site) -> String {
        let (who, us) = match self {
            Ask::Gateway(index, us) => (format!("`{}`", site.gateways[index].name), us),
            Ask::Client(index, us) => (format!("the client of `{}`", site.gateways[index].name), us),
            Ask::People(setting, us) => (setting.said(site), us),
        };
        format!("{who} would have to be {}", super::said(us))
    }
}

struct Search<'l> {
    ways: Vec<Way>,
    learned: &'l Learned,
    margin: f64,
    work: Site,
}

impl Search<'_> {
    /// The settings behind the gateways, what is changed rather first.
    fn behind(&self, chain: usize, via: Option<usize>) -> Vec<Setting> {
        let mut all = super::of_way(&self.work, chain, via);
        all.retain(|setting| !setting.on_device());
        all.sort_by_key(|setting| match setting {
            Setting::PromptsLast | Setting::CodesLast => 0,
            Setting::SecondPatience(_) => 1,
            Setting::Answer(_) => 2,
            Setting::Connect(_) => 3,
            _ => 4,
        });
        all.truncate(CANDIDATES);
        all
    }

    /// The smallest change after which nothing is asked any more; none where there is none.
    fn smallest(&mut self, chain: usize, via: Option<usize>) -> Option<Vec<(Setting, Amount)>> {
        let behind = self.behind(chain, via);
        let mut best: Option<Vec<(Setting, Amount)>> = None;
        for size in 0..=MOST.min(behind.len()) {
            // One that changes so much behind the gateways is no smaller.
            if best.as_ref().is_some_and(|best| best.len() <= size) {
                break;
            }
            let mut at: Vec<usize> = (0..size).collect();
            loop {
                let chosen: Vec<Setting> = at.iter().filter_map(|index| behind.get(*index)).copied().collect();
                let found = self.solve(&chosen).filter(|found| best.as_ref().is_none_or(|best| found.len() < best.len()));
                best = found.or(best);
                let Some(place) = (0..size).rev().find(|place| at[*place] < behind.len() - size + place) else { break };
                at[place] += 1;
                for later in place + 1..size {
                    at[later] = at[later - 1] + 1;
                }
            }
        }
        best
    }

    /// Gives each of these settings the value that is asked of it, and then gateways and clients theirs; nothing if that does not do.
    fn solve(&mut self, chosen: &[Setting]) -> Option<Vec<(Setting, Amount)>> {
        let mut before: Vec<(Setting, Amount)> = Vec::new();
        let mut sound = chosen.iter().all(|setting| self.change(*setting, &mut before));
        for in_front in [Ask::gateway, Ask::client] {
            for setting in self.asks().iter().filter_map(|ask| in_front(*ask)) {
                // Several ways may ask the same of one device.
                sound = sound && (before.iter().any(|(known, _)| *known == setting) || self.change(setting, &mut before));
            }
        }
        let done = sound && self.asks().is_empty();
        let values = before.iter().filter_map(|(setting, _)| Some((*setting, setting.get(&self.work)?))).collect();
        for (setting, value) in before.into_iter().rev() {
            setting.put(&mut self.work, value);
        }
        done.then_some(values)
    }

    /// Gives a setting the value that is asked of it, and notes the one before; `false` where nothing can be asked of it.
    fn change(&mut self, setting: Setting, before: &mut Vec<(Setting, Amount)>) -> bool {
        let (Some(now), Some(value)) = (setting.get(&self.work), self.value_for(setting)) else { return false };
        setting.put(&mut self.work, value);
        before.push((setting, now));
        value != now
    }

    /// The value that the present asks want of a setting; none where it cannot help.
    fn value_for(&self, setting: Setting) -> Option<Amount> {
        let asks = self.asks();
        let needed = |wanted: fn(&Ask) -> Option<(usize, u64)>, of: usize| {
            asks.iter().filter_map(wanted).filter(|(index, _)| *index == of).map(|(_, us)| us).max()
        };
        let gateway = |ask: &Ask| if let Ask::Gateway(index, us) = ask { Some((*index, *us)) } else { None };
        let client = |ask: &Ask| if let Ask::Client(index, us) = ask { Some((*index, *us)) } else { None };
        let value = match setting {
            Setting::GatewayWait(index) => {
                let tries = self.work.gateways.get(index)?.patience?.tries;
                roomy(needed(gateway, index)?.div_ceil(u64::from(tries.max(1))), 0.0)
            }
            Setting::GatewayTries(index) => {
                let wait = micros(self.work.gateways.get(index)?.patience?.wait);
                Amount::Count(u32::try_from(needed(gateway, index)?.div_ceil(wait.max(1))).ok()?)
            }
            Setting::ClientPatience(index) => roomy(needed(client, index)?, 0.0),
            Setting::PromptsLast | Setting::CodesLast | Setting::SecondPatience(_) => {
                let for_people = asks.iter().filter_map(|ask| match ask {
                    Ask::People(of, us) if *of == setting => Some(*us),
                    _ => None,
                });
                match for_people.max() {
                    Some(us) => roomy(us, 0.0),
                    None => self.lowered(setting, &asks)?,
                }
            }
            _ => self.lowered(setting, &asks)?,
        };
        let (least, most) = setting.range();
        (least..=most).contains(&value).then_some(value)
    }

    /// A lower value of a setting behind the gateways, so that what is asked of them is what they have; none where people or a source
    /// would get too little.
    fn lowered(&self, setting: Setting, asks: &[Ask]) -> Option<Amount> {
        let Amount::Time(now) = setting.get(&self.work)? else { return None };
        // How much too long, without the margin on top, and how often the setting counts in it.
        let too_long = asks.iter().filter_map(|ask| match ask {
            Ask::Gateway(index, us) => {
                let patience = self.work.gateways.get(*index)?.patience?;
                let has = micros(patience.wait) * u64::from(patience.tries);
                Some(((us.saturating_sub(has)) as f64 / (1.0 + self.margin)) as u64)
            }
            _ => None,
        });
        let too_long = too_long.max()?;
        let times = match setting {
            Setting::Answer(_) => 2,
            Setting::UpstreamWait(index) => u64::from(self.work.upstreams.get(index)?.tries),
            _ => 1,
        };
        let value = micros(now).checked_sub(too_long.div_ceil(times.max(1)))?;
        let least = match setting {
            Setting::SecondPatience(_) => self.learned.people("approval").most_us,
            Setting::PromptsLast | Setting::CodesLast => return None,
            _ => LEAST_PATIENCE,
        };
        let step = if value < 5_000_000 { 100_000 } else { 1_000_000 };
        let value = value / step * step;
        (value >= least).then(|| Amount::Time(Duration::from_micros(value)))
    }

    /// What is not met yet.
    fn asks(&self) -> Vec<Ask> {
        let mut asks = Vec::new();
        let with_margin = |us: u64| (us as f64 * (1.0 + self.margin)).ceil() as u64;
        for way in &self.ways {
            let path = model::path(&self.work, way, self.learned);
            for hop in &path.hops {
                let needs = with_margin(hop.worst_us);
                if hop.patience_us < needs {
                    asks.push(match hop.kind {
                        HopKind::Gateway => Ask::Gateway(way.gateway, needs),
                        HopKind::Client => Ask::Client(way.gateway, needs),
                    });
                }
            }
            let gateway = &self.work.gateways[way.gateway];
            if let (Some(client), Some(patience)) = (gateway.client_patience, gateway.patience)
                && client < patience.whole()
            {
                asks.push(Ask::Client(way.gateway, micros(patience.whole())));
            }
            let people = |what: &str| self.learned.people(what).most_us;
            let mut for_people = |setting: Setting, needs: u64| {
                if setting.get(&self.work).is_some_and(|has| has.us() < needs) {
                    asks.push(Ask::People(setting, needs));
                }
            };
            match way.how {
                How::Approval | How::Number => for_people(Setting::SecondPatience(way.chain), people("approval")),
                How::Prompted(_) | How::UpstreamPrompted(_) => for_people(Setting::PromptsLast, people("typing")),
                How::Courier(index) => {
                    let Some(courier) = self.work.couriers.get(index) else { continue };
                    for_people(Setting::PromptsLast, people(&courier.name));
                    for_people(Setting::CodesLast, people(&courier.name) + micros(courier.patience));
                }
                How::None | How::Typed(_) | How::Upstream(_) => {}
            }
        }
        asks
    }
}

/// A round value that is at least this long with a margin.
pub(super) fn roomy(us: u64, margin: f64) -> Amount {
    let us = (us as f64 * (1.0 + margin)).ceil() as u64;
    let step = match us {
        us if us <= 2_000_000 => 100_000,
        us if us <= 30_000_000 => 1_000_000,
        _ => 5_000_000,
    };
    Amount::Time(Duration::from_micros(us.div_ceil(step) * step))
}
