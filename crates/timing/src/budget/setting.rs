//! Every wait of a site by a name, such as `breakwater.wait`: read, changed, and found again in the file.

use super::path::{How, Way};
use super::said;
use bivector_site::{GatewayPatience, Site, SourceRef, read_duration};
use std::fmt;
use std::time::Duration;

/// One wait, or one number of tries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Setting {
    /// What a gateway waits per try; set on the device.
    GatewayWait(usize),
    /// How often a gateway tries; set on the device.
    GatewayTries(usize),
    /// What the person's own program waits; set on the device.
    ClientPatience(usize),
    /// Time limit for a connection to a directory.
    Connect(usize),
    /// Time limit for a directory's answer.
    Answer(usize),
    /// How long a directory's server may keep a question to itself.
    Hedge(usize),
    /// What an upstream is waited for, per try.
    UpstreamWait(usize),
    /// How often an upstream's server is tried.
    UpstreamTries(usize),
    /// What a courier is waited for.
    CourierPatience(usize),
    /// How long an approval may take, by chain.
    SecondPatience(usize),
    /// How long a prompt may be answered.
    PromptsLast,
    /// How long a code that was sent works.
    CodesLast,
}

/// The value of a setting.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Amount {
    /// A time.
    Time(Duration),
    /// A number.
    Count(u32),
}

/// A setting or a value that is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SettingError {
    /// No setting has that name.
    #[error("unknown setting `{name}`")]
    Unknown {
        /// What was written.
        name: String,
        /// Which there are.
        known: Vec<String>,
    },
    /// The value cannot be read, or is out of range.
    #[error("`{value}` is not a valid value for `{name}`; allowed: {allowed}")]
    Value {
        /// The setting.
        name: String,
        /// What was written.
        value: String,
        /// What may be written.
        allowed: String,
    },
}

impl SettingError {
    /// What to do about it.
    pub fn remedy(&self) -> String {
        match self {
            SettingError::Unknown { known, .. } => format!("known here: {}", known.join(", ")),
            SettingError::Value { .. } => "write a time with its unit, such as \"20s\" or \"500ms\", or a whole number of tries".to_owned(),
        }
    }
}

impl Amount {
    /// Reads `20s`, `500ms`, or a whole number.
    pub fn read(text: &str) -> Option<Self> {
        let text = text.trim();
        text.parse().ok().map(Amount::Count).or_else(|| read_duration(text).map(Amount::Time))
    }

    /// As a number: seconds, or tries.
    pub fn number(self) -> f64 {
        match self {
            Amount::Time(time) => time.as_secs_f64(),
            Amount::Count(count) => f64::from(count),
        }
    }

    /// Microseconds; of a number that many.
    pub(super) fn us(self) -> u64 {
        match self {
            Amount::Time(time) => super::micros(time),
            Amount::Count(count) => u64::from(count),
        }
    }

    /// As it is written in a site file, without quotes.
    pub fn written(self) -> String {
        match self {
            Amount::Count(count) => count.to_string(),
            Amount::Time(time) if time.subsec_millis() > 0 => format!("{}ms", time.as_millis()),
            Amount::Time(time) => format!("{}s", time.as_secs()),
        }
    }
}

impl fmt::Display for Amount {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Amount::Time(time) => f.write_str(&said(super::micros(*time))),
            Amount::Count(count) => write!(f, "{count}"),
        }
    }
}

const SECOND: Duration = Duration::from_secs(1);

impl Setting {
    /// The setting of a name. `gateway`, `client` and `chain` stand for those in question.
    ///
    /// # Errors
    /// No setting has that name; the error lists those that there are.
    pub fn named(site: &Site, name: &str, chain: usize, via: Option<usize>) -> Result<Self, SettingError> {
        let near = || of_way(site, chain, via);
        let here = match name {
            "gateway.wait" => via.map(Setting::GatewayWait),
            "gateway.tries" => via.map(Setting::GatewayTries),
            "client.patience" => via.map(Setting::ClientPatience),
            "chain.second_patience" => Some(Setting::SecondPatience(chain)),
            "directory.connect" => near().into_iter().find(|setting| matches!(setting, Setting::Connect(_))),
            "directory.answer" => near().into_iter().find(|setting| matches!(setting, Setting::Answer(_))),
            "directory.hedge" => near().into_iter().find(|setting| matches!(setting, Setting::Hedge(_))),
            "upstream.wait" => near().into_iter().find(|setting| matches!(setting, Setting::UpstreamWait(_))),
            "upstream.tries" => near().into_iter().find(|setting| matches!(setting, Setting::UpstreamTries(_))),
            "courier.patience" => near().into_iter().find(|setting| matches!(setting, Setting::CourierPatience(_))),
            _ => None,
        };
        let found = here.or_else(|| all(site).into_iter().find(|setting| setting.name(site) == name));
        found.ok_or_else(|| SettingError::Unknown {
            name: name.to_owned(),
            known: near().into_iter().map(|setting| setting.name(site)).collect(),
        })
    }

    /// Its name.
    pub fn name(self, site: &Site) -> String {
        let (_, owner, key) = self.place(site);
        format!("{owner}.{key}")
    }

    /// The list of the site file that it stands in, whose, and its key there.
    pub fn place(self, site: &Site) -> (&'static str, String, &'static str) {
        let gateway = |index: usize| site.gateways.get(index).map_or(String::new(), |gateway| gateway.name.clone());
        let directory = |index: usize| site.directories.get(index).map_or(String::new(), |directory| directory.name.clone());
        let upstream = |index: usize| site.upstreams.get(index).map_or(String::new(), |upstream| upstream.name.clone());
        match self {
            Setting::GatewayWait(index) => ("gateways", gateway(index), "wait"),
            Setting::GatewayTries(index) => ("gateways", gateway(index), "tries"),
            Setting::ClientPatience(index) => ("gateways", gateway(index), "client_patience"),
            Setting::Connect(index) => ("directories", directory(index), "connect"),
            Setting::Answer(index) => ("directories", directory(index), "answer"),
            Setting::Hedge(index) => ("directories", directory(index), "hedge"),
            Setting::UpstreamWait(index) => ("upstreams", upstream(index), "wait"),
            Setting::UpstreamTries(index) => ("upstreams", upstream(index), "tries"),
            Setting::CourierPatience(index) => {
                ("couriers", site.couriers.get(index).map_or(String::new(), |courier| courier.name.clone()), "patience")
            }
            Setting::SecondPatience(index) => {
                ("chains", site.chains.get(index).map_or(String::new(), |chain| chain.name.clone()), "second_patience")
            }
            Setting::PromptsLast => ("factors", "prompts".to_owned(), "last"),
            Setting::CodesLast => ("factors", "codes".to_owned(), "last"),
        }
    }

    /// The gateway that it is a setting of.
    pub fn gateway(self) -> Option<usize> {
        match self {
            Setting::GatewayWait(index) | Setting::GatewayTries(index) | Setting::ClientPatience(index) => Some(index),
            _ => None,
        }
    }

    /// Its line in the site file; 0 where it has none of its own.
    pub fn line(self, site: &Site) -> u32 {
        match self {
            Setting::GatewayWait(index) | Setting::GatewayTries(index) | Setting::ClientPatience(index) => {
                site.gateways.get(index).map_or(0, |gateway| gateway.line)
            }
            Setting::Connect(index) | Setting::Answer(index) | Setting::Hedge(index) => {
                site.directories.get(index).map_or(0, |directory| directory.line)
            }
            Setting::UpstreamWait(index) | Setting::UpstreamTries(index) => site.upstreams.get(index).map_or(0, |upstream| upstream.line),
            Setting::CourierPatience(index) => site.couriers.get(index).map_or(0, |courier| courier.line),
            Setting::SecondPatience(index) => site.chains.get(index).map_or(0, |chain| chain.line),
            Setting::PromptsLast => site.factor_lines.0,
            Setting::CodesLast => site.factor_lines.1,
        }
    }

    /// What it is, in words.
    pub fn said(self, site: &Site) -> String {
        let (_, owner, _) = self.place(site);
        match self {
            Setting::GatewayWait(_) => format!("timeout per try of {owner}"),
            Setting::GatewayTries(_) => format!("number of tries of {owner}"),
            Setting::ClientPatience(_) => format!("timeout of the client of {owner}"),
            Setting::Connect(_) => format!("the time limit for connecting to {owner}"),
            Setting::Answer(_) => format!("time limit for an answer from {owner}"),
            Setting::Hedge(_) => format!("how long one server of {owner} may keep a search to itself"),
            Setting::UpstreamWait(_) => format!("timeout per try to {owner}"),
            Setting::UpstreamTries(_) => format!("tries per server of {owner}"),
            Setting::CourierPatience(_) => format!("timeout for {owner}"),
            Setting::SecondPatience(_) => format!("time limit for an approval in {owner}"),
            Setting::PromptsLast => "lifetime of a prompt".to_owned(),
            Setting::CodesLast => "lifetime of a sent code".to_owned(),
        }
    }

    /// Whether it is entered on a device; the site file then only says what is set there.
    pub fn on_device(self) -> bool {
        matches!(self, Setting::GatewayWait(_) | Setting::GatewayTries(_) | Setting::ClientPatience(_))
    }

    /// The range that the site file allows.
    pub fn range(self) -> (Amount, Amount) {
        let time = |least: Duration, most: Duration| (Amount::Time(least), Amount::Time(most));
        let tenth = Duration::from_millis(100);
        match self {
            Setting::GatewayWait(_) => time(tenth, SECOND * 600),
            Setting::GatewayTries(_) | Setting::UpstreamTries(_) => (Amount::Count(1), Amount::Count(20)),
            Setting::ClientPatience(_) => time(SECOND, SECOND * 3600),
            Setting::Connect(_) | Setting::Answer(_) => time(tenth, SECOND * 60),
            Setting::Hedge(_) => time(tenth / 2, SECOND * 60),
            Setting::UpstreamWait(_) => time(tenth / 2, SECOND * 600),
            Setting::CourierPatience(_) => time(tenth, SECOND * 60),
            Setting::SecondPatience(_) => time(SECOND * 5, SECOND * 600),
            Setting::PromptsLast => time(SECOND, SECOND * 3600),
            Setting::CodesLast => time(SECOND * 30, SECOND * 3600),
        }
    }

    /// Its value; none where the site file says nothing.
    pub fn get(self, site: &Site) -> Option<Amount> {
        let time = |time: Duration| Some(Amount::Time(time));
        match self {
            Setting::GatewayWait(index) => time(site.gateways.get(index)?.patience?.wait),
            Setting::GatewayTries(index) => Some(Amount::Count(site.gateways.get(index)?.patience?.tries)),
            Setting::ClientPatience(index) => time(site.gateways.get(index)?.client_patience?),
            Setting::Connect(index) => time(site.directories.get(index)?.connect_patience),
            Setting::Answer(index) => time(site.directories.get(index)?.answer_patience),
            Setting::Hedge(index) => time(site.directories.get(index)?.hedge),
            Setting::UpstreamWait(index) => time(site.upstreams.get(index)?.wait),
            Setting::UpstreamTries(index) => Some(Amount::Count(site.upstreams.get(index)?.tries)),
            Setting::CourierPatience(index) => time(site.couriers.get(index)?.patience),
            Setting::SecondPatience(index) => time(site.chains.get(index)?.second_patience),
            Setting::PromptsLast => time(site.prompt_lasts),
            Setting::CodesLast => time(site.sending.lasts),
        }
    }

    /// The same site with another value.
    ///
    /// # Errors
    /// The value is of the wrong kind or out of the range that the site file allows.
    pub fn set(self, site: &mut Site, amount: Amount) -> Result<(), SettingError> {
        let (least, most) = self.range();
        let fits = std::mem::discriminant(&least) == std::mem::discriminant(&amount) && (least..=most).contains(&amount);
        if !fits {
            let allowed = format!("{} to {}", least.written(), most.written());
            return Err(SettingError::Value { name: self.name(site), value: amount.written(), allowed });
        }
        self.put(site, amount);
        Ok(())
    }

    /// As [`Setting::set`], for values that are known to fit.
    pub(super) fn put(self, site: &mut Site, amount: Amount) {
        let (time, count) = match amount {
            Amount::Time(time) => (time, 1),
            Amount::Count(count) => (SECOND, count),
        };
        let stated = |patience: Option<GatewayPatience>| patience.unwrap_or(GatewayPatience { wait: SECOND * 5, tries: 3, servers: 1 });
        match self {
            Setting::GatewayWait(index) => site.gateways.get_mut(index).into_iter().for_each(|gateway| {
                gateway.patience = Some(GatewayPatience { wait: time, ..stated(gateway.patience) });
            }),
            Setting::GatewayTries(index) => site.gateways.get_mut(index).into_iter().for_each(|gateway| {
                gateway.patience = Some(GatewayPatience { tries: count, ..stated(gateway.patience) });
            }),
            Setting::ClientPatience(index) => {
                site.gateways.get_mut(index).into_iter().for_each(|gateway| gateway.client_patience = Some(time))
            }
            Setting::Connect(index) => site.directories.get_mut(index).into_iter().for_each(|own| own.connect_patience = time),
            Setting::Answer(index) => site.directories.get_mut(index).into_iter().for_each(|own| own.answer_patience = time),
            Setting::Hedge(index) => site.directories.get_mut(index).into_iter().for_each(|own| own.hedge = time),
            Setting::UpstreamWait(index) => site.upstreams.get_mut(index).into_iter().for_each(|own| own.wait = time),
            Setting::UpstreamTries(index) => site.upstreams.get_mut(index).into_iter().for_each(|own| own.tries = count),
            Setting::CourierPatience(index) => site.couriers.get_mut(index).into_iter().for_each(|own| own.patience = time),
            Setting::SecondPatience(index) => site.chains.get_mut(index).into_iter().for_each(|own| own.second_patience = time),
            Setting::PromptsLast => site.prompt_lasts = time,
            Setting::CodesLast => site.sending.lasts = time,
        }
    }
}

/// Every setting of a site.
pub fn all(site: &Site) -> Vec<Setting> {
    let gateways = (0..site.gateways.len())
        .flat_map(|index| [Setting::GatewayWait(index), Setting::GatewayTries(index), Setting::ClientPatience(index)]);
    let directories =
        (0..site.directories.len()).flat_map(|index| [Setting::Connect(index), Setting::Answer(index), Setting::Hedge(index)]);
    let upstreams = (0..site.upstreams.len()).flat_map(|index| [Setting::UpstreamWait(index), Setting::UpstreamTries(index)]);
    let couriers = (0..site.couriers.len()).map(Setting::CourierPatience);
    let chains = (0..site.chains.len()).map(Setting::SecondPatience);
    gateways.chain(directories).chain(upstreams).chain(couriers).chain(chains).chain([Setting::PromptsLast, Setting::CodesLast]).collect()
}

/// The settings that matter to a chain through one gateway, or through all of its gateways, from the outside in.
pub fn of_way(site: &Site, chain: usize, via: Option<usize>) -> Vec<Setting> {
    let ways: Vec<Way> = super::ways(site, chain, via);
    let of_upstream = |index: usize| vec![Setting::UpstreamWait(index), Setting::UpstreamTries(index)];
    let in_front = ways
        .iter()
        .flat_map(|way| [Setting::ClientPatience(way.gateway), Setting::GatewayWait(way.gateway), Setting::GatewayTries(way.gateway)]);
    let sources = site.chains.get(chain).into_iter().flat_map(|chain| &chain.first).flat_map(|first| match first.source {
        SourceRef::Directory(index) => vec![Setting::Connect(index), Setting::Answer(index), Setting::Hedge(index)],
        SourceRef::Upstream(index) => of_upstream(index),
        SourceRef::Roster => Vec::new(),
    });
    let factors = ways.iter().flat_map(|way| match way.how {
        How::None | How::Typed(_) => Vec::new(),
        How::Prompted(_) => vec![Setting::PromptsLast],
        How::Upstream(index) => of_upstream(index),
        How::UpstreamPrompted(index) => [of_upstream(index), vec![Setting::PromptsLast]].concat(),
        How::Courier(index) => vec![Setting::CourierPatience(index), Setting::CodesLast, Setting::PromptsLast],
        How::Approval => vec![Setting::SecondPatience(chain)],
        How::Number => vec![Setting::SecondPatience(chain), Setting::PromptsLast],
    });
    let mut found: Vec<Setting> = Vec::new();
    for setting in in_front.chain(sources).chain(factors) {
        if !found.contains(&setting) {
            found.push(setting);
        }
    }
    found
}
