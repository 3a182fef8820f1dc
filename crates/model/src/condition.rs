//! What a rule may ask beside groups and labels: who, by which way, from where and when.

use crate::identity::fits_pattern;
use crate::rule::{Groups, When};
use bivector_wire::AttributeType;
use ipnet::IpNet;
use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;

/// What a gateway says of itself and of the connection: traces record these attributes, and [`Condition::Nas`] may ask for them.
pub const TOLD_BY_GATEWAY: [AttributeType; 11] = [
    AttributeType::NasIpAddress,
    AttributeType::NasPort,
    AttributeType::ServiceType,
    AttributeType::FramedProtocol,
    AttributeType::CalledStationId,
    AttributeType::NasIdentifier,
    AttributeType::NasPortType,
    AttributeType::TunnelClientEndpoint,
    AttributeType::ConnectInfo,
    AttributeType::NasPortId,
    AttributeType::NasIpv6Address,
];

/// One condition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    /// The login name is like one of these, with `*` for any characters.
    Name(Vec<String>),
    /// The name was typed with one of these realms; an empty text stands for names without one.
    Realm(Vec<String>),
    /// One of these sources knows the person.
    Source(Vec<String>),
    /// The credential came by one of these methods.
    Method(Vec<String>),
    /// One of these second factors was given; `none` for none, `waived` for one that was not asked for.
    Factor(Vec<String>),
    /// The person's program is in one of these networks.
    From(Vec<IpNet>),
    /// The login came through one of these gateways.
    Gateway(Vec<String>),
    /// The login is at one of these times, in the site's time zone.
    Hours(Vec<Hours>),
    /// The gateway sent one of these values of an attribute.
    Nas(AttributeType, Vec<String>),
    /// The certificate was issued by one of these issuers.
    Issuer(Vec<String>),
    /// A condition that has a name of its own.
    Named(String, Arc<When>),
    /// None of this.
    Not(Arc<When>),
}

/// Some hours of some days.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hours {
    /// Bit 0 for Monday to bit 6 for Sunday.
    days: u8,
    /// Minutes since midnight. Where the end is not after the beginning, the hours go on until the next day.
    from: u16,
    to: u16,
}

/// A time of the week where the site is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LocalTime {
    /// 0 for Monday to 6 for Sunday.
    pub weekday: u8,
    /// Minutes since midnight.
    pub minute: u16,
}

/// What is known of a login. What is not known is none: then a condition on it counts as `assumed`.
#[derive(Debug, Clone, Default)]
pub struct Circumstances<'c> {
    /// The person's groups.
    pub groups: Option<&'c Groups>,
    /// The gateway's labels.
    pub labels: Option<&'c BTreeMap<String, String>>,
    /// The person's login name.
    pub name: Option<&'c str>,
    /// The realm that was typed; empty for none.
    pub realm: Option<&'c str>,
    /// The source that knows the person.
    pub source: Option<&'c str>,
    /// The method.
    pub method: Option<&'c str>,
    /// The second factor, `none` or `waived`.
    pub factor: Option<&'c str>,
    /// The address of the person's program. Known to be none where the gateway did not tell it.
    pub caller: Option<Option<IpAddr>>,
    /// The gateway's name.
    pub gateway: Option<&'c str>,
    /// The time.
    pub time: Option<LocalTime>,
    /// What the gateway sent of itself, by attribute.
    pub nas: Option<&'c [(u8, String)]>,
    /// The issuer of the certificate; empty for none.
    pub issuer: Option<&'c str>,
    /// What counts where something is not known.
    pub assumed: bool,
}

const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

impl Hours {
    /// Reads `Mon-Fri 07:00-19:00`, `Sat,Sun 08:00-12:00` or `22:00-06:00`.
    ///
    /// # Errors
    /// What is wrong, as a clause.
    pub fn parse(text: &str) -> Result<Self, String> {
        let words: Vec<&str> = text.split_whitespace().collect();
        let (days, hours) = match words.as_slice() {
            [hours] => (0x7f, *hours),
            [days, hours] => (read_days(days)?, *hours),
            _ => return Err(format!("`{text}` is not of the form DAYS HOURS")),
        };
        let (from, to) = hours.split_once('-').ok_or_else(|| format!("`{hours}` is no span of hours"))?;
        let (from, to) = (minute(from)?, minute(to)?);
        if from == to {
            return Err(format!("`{hours}` begins when it ends"));
        }
        Ok(Hours { days, from, to })
    }

    /// Whether a time is in them.
    pub fn contain(self, time: LocalTime) -> bool {
        let on = |day: u8| self.days & (1 << (day % 7)) != 0;
        match self.from < self.to {
            true => on(time.weekday) && (self.from..self.to).contains(&time.minute),
            // The hours of yesterday may go on until today.
            false => on(time.weekday) && time.minute >= self.from || on(time.weekday + 6) && time.minute < self.to,
        }
    }

    /// For how many minutes from a time on they go on; none if it is not in them.
    pub fn left(self, time: LocalTime) -> Option<u16> {
        self.contain(time).then(|| (self.to + 1_440 - time.minute) % 1_440)
    }
}

fn read_days(text: &str) -> Result<u8, String> {
    let day = |word: &str| {
        let found = DAYS.iter().position(|day| day.eq_ignore_ascii_case(word));
        found.ok_or_else(|| format!("`{word}` is no day: write Mon, Tue, Wed, Thu, Fri, Sat or Sun"))
    };
    let mut days = 0;
    for part in text.split(',') {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (first, last) = (day(first)?, day(last)?);
        let count = (last + 7 - first) % 7;
        (0..=count).for_each(|step| days |= 1 << ((first + step) % 7));
    }
    Ok(days)
}

fn minute(text: &str) -> Result<u16, String> {
    let wrong = || format!("`{text}` is no time of day: write it as 07:00");
    let (hour, minute) = text.split_once(':').ok_or_else(wrong)?;
    let (hour, minute): (u16, u16) = (hour.parse().map_err(|_| wrong())?, minute.parse().map_err(|_| wrong())?);
    // 24:00 is the end of a day.
    if hour > 24 || minute > 59 || hour == 24 && minute > 0 {
        return Err(wrong());
    }
    Ok(hour * 60 + minute)
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.days != 0x7f {
            let days: Vec<&str> = (0..7).filter(|day| self.days & (1 << day) != 0).map(|day| DAYS[day]).collect();
            write!(f, "{} ", days.join(","))?;
        }
        write!(f, "{:02}:{:02}-{:02}:{:02}", self.from / 60, self.from % 60, self.to / 60, self.to % 60)
    }
}

impl Condition {
    /// Whether it holds; none where that is not known.
    pub fn holds(&self, login: &Circumstances<'_>) -> Option<bool> {
        let one_of = |own: Option<&str>, wanted: &[String]| own.map(|own| wanted.iter().any(|wanted| own.eq_ignore_ascii_case(wanted)));
        match self {
            Condition::Name(patterns) => {
                let name = login.name?.to_lowercase();
                Some(patterns.iter().any(|pattern| fits_pattern(pattern, &name)))
            }
            Condition::Realm(wanted) => one_of(login.realm, wanted),
            Condition::Source(wanted) => one_of(login.source, wanted),
            Condition::Method(wanted) => one_of(login.method, wanted),
            Condition::Factor(wanted) => one_of(login.factor, wanted),
            Condition::Gateway(wanted) => one_of(login.gateway, wanted),
            Condition::Issuer(wanted) => one_of(login.issuer, wanted),
            Condition::From(ranges) => {
                let caller = login.caller?;
                Some(caller.is_some_and(|caller| ranges.iter().any(|range| range.contains(&caller))))
            }
            Condition::Hours(hours) => {
                let time = login.time?;
                Some(hours.iter().any(|hours| hours.contain(time)))
            }
            Condition::Nas(kind, wanted) => {
                let sent = login.nas?.iter().filter(|(own, _)| *own == u8::from(*kind));
                Some(sent.into_iter().any(|(_, value)| wanted.iter().any(|wanted| wanted.eq_ignore_ascii_case(value))))
            }
            Condition::Named(_, when) => when.holds(login),
            Condition::Not(when) => when.holds(login).map(|holds| !holds),
        }
    }

    /// Why it does not hold; none where it does.
    pub fn misses(&self, login: &Circumstances<'_>) -> Option<String> {
        if self.holds(login).unwrap_or(login.assumed) {
            return None;
        }
        let is = |what: &str, own: Option<&str>, wanted: &[String]| match own {
            Some("") | None => format!("there is no {what}, and it must be {}", wanted.join(" or ")),
            Some(own) => format!("the {what} is {own}, not {}", wanted.join(" or ")),
        };
        Some(match self {
            Condition::Name(wanted) => is("name", login.name, wanted),
            Condition::Realm(wanted) => is("realm", login.realm, wanted),
            Condition::Source(wanted) => is("source", login.source, wanted),
            Condition::Method(wanted) => is("method", login.method, wanted),
            Condition::Factor(wanted) => is("second factor", login.factor, wanted),
            Condition::Gateway(wanted) => is("gateway", login.gateway, wanted),
            Condition::Issuer(wanted) => is("certificate's issuer", login.issuer, wanted),
            Condition::From(_) => match login.caller.flatten() {
                Some(caller) => format!("{caller} is not {self}"),
                None => format!("the gateway told no address of the caller, which must be {self}"),
            },
            Condition::Hours(_) => match login.time {
                Some(time) => {
                    let day = DAYS.get(usize::from(time.weekday)).copied().unwrap_or_default();
                    format!("it is {day} {:02}:{:02}, not {self}", time.minute / 60, time.minute % 60)
                }
                None => format!("not {self}"),
            },
            Condition::Nas(kind, wanted) => {
                let sent = login.nas.unwrap_or_default().iter().find(|(own, _)| *own == u8::from(*kind));
                is(&kind.to_string(), sent.map(|(_, value)| value.as_str()), wanted)
            }
            Condition::Named(name, when) => format!("not `{name}`: {}", when.misses_for(login).unwrap_or_default()),
            Condition::Not(when) => format!("it is {when}, which it must not be"),
        })
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |words: &[String]| words.iter().map(|word| if word.is_empty() { "none" } else { word }).collect::<Vec<_>>().join(" or ");
        match self {
            Condition::Name(words) => write!(f, "named like {}", list(words)),
            Condition::Realm(words) => write!(f, "with the realm {}", list(words)),
            Condition::Source(words) => write!(f, "known to {}", list(words)),
            Condition::Method(words) => write!(f, "by {}", list(words)),
            Condition::Factor(words) => write!(f, "with the second factor {}", list(words)),
            Condition::Gateway(words) => write!(f, "through {}", list(words)),
            Condition::Issuer(words) => write!(f, "with a certificate of {}", list(words)),
            Condition::From(ranges) => {
                write!(f, "from {}", ranges.iter().map(crate::addresses::show).collect::<Vec<_>>().join(" or "))
            }
            Condition::Hours(hours) => write!(f, "at {}", hours.iter().map(ToString::to_string).collect::<Vec<_>>().join(" or ")),
            Condition::Nas(kind, words) => write!(f, "with {kind} {}", list(words)),
            Condition::Named(name, _) => write!(f, "as `{name}` says"),
            Condition::Not(when) => write!(f, "but not {when}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(weekday: u8, hour: u16, minute: u16) -> LocalTime {
        LocalTime { weekday, minute: hour * 60 + minute }
    }

    #[test]
    fn hours_are_read_and_may_cross_midnight() {
        let day = Hours::parse("Mon-Fri 07:00-19:00").unwrap();
        assert!(day.contain(at(0, 7, 0)) && !day.contain(at(0, 19, 0)) && !day.contain(at(5, 12, 0)));
        let night = Hours::parse("Fri 22:00-06:00").unwrap();
        assert!(night.contain(at(4, 23, 0)) && night.contain(at(5, 5, 59)) && !night.contain(at(4, 5, 0)) && !night.contain(at(5, 22, 0)));
        assert_eq!((night.left(at(4, 23, 0)), night.left(at(5, 7, 0))), (Some(420), None));
        assert!(Hours::parse("Sun 00:00-24:00").unwrap().contain(at(6, 23, 59)));
        assert_eq!(Hours::parse("Fri-Mon 08:00-12:00").unwrap().to_string(), "Mon,Fri,Sat,Sun 08:00-12:00");
        for (text, said) in [
            ("", "not of the form"),
            ("Mon 7-19", "no time of day"),
            ("Moon 07:00-19:00", "`Moon` is no day"),
            ("07:00-07:00", "begins when it ends"),
            ("07:00", "no span"),
            ("25:00-26:00", "no time of day"),
        ] {
            assert!(Hours::parse(text).unwrap_err().contains(said), "{text}");
        }
    }

    #[test]
    fn what_is_not_known_is_assumed_also_behind_not() {
        let night = Condition::Hours(vec![Hours::parse("22:00-06:00").unwrap()]);
        let not = Condition::Not(Arc::new(When { more: vec![night.clone()], ..When::default() }));
        for assumed in [true, false] {
            let nothing = Circumstances { assumed, ..Circumstances::default() };
            assert_eq!((night.holds(&nothing), not.holds(&nothing)), (None, None));
            assert_eq!(not.misses(&nothing).is_none(), assumed);
        }
        let noon = Circumstances { time: Some(at(0, 12, 0)), ..Circumstances::default() };
        assert_eq!((night.holds(&noon), not.holds(&noon)), (Some(false), Some(true)));
        assert_eq!(night.misses(&noon).unwrap(), "it is Mon 12:00, not at 22:00-06:00");
    }

    #[test]
    fn a_caller_that_is_not_told_is_in_no_network() {
        let abroad = Condition::From(vec!["198.51.100.0/24".parse().unwrap()]);
        let from =
            |caller: Option<&str>| Circumstances { caller: Some(caller.map(|caller| caller.parse().unwrap())), ..Circumstances::default() };
        assert_eq!(abroad.holds(&from(Some("198.51.100.7"))), Some(true));
        assert_eq!((abroad.holds(&from(None)), abroad.holds(&Circumstances::default())), (Some(false), None));
        assert!(abroad.misses(&from(None)).unwrap().contains("told no address"));
    }

    #[test]
    fn attributes_of_the_gateway_and_names_are_compared_in_any_case() {
        let nas = [(u8::from(AttributeType::NasPortType), "Virtual".to_owned())];
        let login = Circumstances { nas: Some(&nas), name: Some("V.Sund"), ..Circumstances::default() };
        assert_eq!(Condition::Nas(AttributeType::NasPortType, vec!["virtual".into()]).holds(&login), Some(true));
        assert_eq!(Condition::Nas(AttributeType::ServiceType, vec!["x".into()]).holds(&login), Some(false));
        assert_eq!(Condition::Name(vec!["v.*".into()]).holds(&login), Some(true));
    }

    proptest! {
        #[test]
        fn any_text_is_hours_or_is_refused(text in "\\PC{0,30}", from in 0_u16..1440, to in 0_u16..1440, day in 0_u8..7, minute in 0_u16..1440) {
            let _ = Hours::parse(&text);
            let text = format!("{:02}:{:02}-{:02}:{:02}", from / 60, from % 60, to / 60, to % 60);
            if let Ok(hours) = Hours::parse(&text) {
                let inside = if from < to { (from..to).contains(&minute) } else { minute >= from || minute < to };
                prop_assert_eq!(hours.contain(LocalTime { weekday: day, minute }), inside);
            }
        }
    }
}
