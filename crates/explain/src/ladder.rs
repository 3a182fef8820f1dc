//! Locating: the layers behind a login from the back to the front, as a ladder that is climbed until a rung breaks.

use crate::probe::{Piece, Seen};
use bivector_model::cause::Cause;
use bivector_model::condition::Circumstances;
use bivector_model::rule::{Decision, Groups, RuleBook, Then};
use bivector_model::trace::Tone;
use bivector_site::{Chain, Gateway, Site};
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};
use utoipa::ToSchema;

/// The layers, in the order in which they are tried: from the back of the chain to its front.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Layer {
    /// The gateway leads to a chain, and the name can be read there.
    Chain,
    /// The name of a source's server resolves.
    Name,
    /// The server takes a connection.
    Connection,
    /// TLS with it.
    Tls,
    /// The service account.
    Account,
    /// The base.
    Base,
    /// The person's entry.
    Person,
    /// The person's groups.
    Groups,
    /// The password.
    Password,
    /// A second factor of the person.
    Factor,
    /// Clocks: the person's device's, the directory's, ours.
    Clock,
    /// The person's handset.
    Handset,
    /// Push messages to the person's handsets.
    Push,
    /// What carries codes.
    Courier,
    /// Another server that checks codes.
    Upstream,
    /// The rules.
    Rule,
    /// The grant.
    Grant,
    /// The authentication method.
    Method,
    /// Certificates of EAP: the service's own, and whether those of people can be checked.
    Certificate,
    /// The gateway's shared secret.
    Secret,
    /// The address that the gateway sends from.
    Sender,
    /// The door that hears it.
    Door,
    /// The waits.
    Waits,
}

impl Layer {
    /// All of them in order.
    pub const ALL: &[Layer] = &[
        Layer::Chain,
        Layer::Name,
        Layer::Connection,
        Layer::Tls,
        Layer::Account,
        Layer::Base,
        Layer::Person,
        Layer::Groups,
        Layer::Password,
        Layer::Factor,
        Layer::Clock,
        Layer::Handset,
        Layer::Push,
        Layer::Courier,
        Layer::Upstream,
        Layer::Rule,
        Layer::Grant,
        Layer::Method,
        Layer::Certificate,
        Layer::Secret,
        Layer::Sender,
        Layer::Door,
        Layer::Waits,
    ];

    /// Its name in tables.
    pub fn word(self) -> &'static str {
        match self {
            Layer::Chain => "chain",
            Layer::Name => "name",
            Layer::Connection => "connection",
            Layer::Tls => "tls",
            Layer::Account => "account",
            Layer::Base => "base",
            Layer::Person => "person",
            Layer::Groups => "groups",
            Layer::Password => "password",
            Layer::Factor => "factor",
            Layer::Clock => "clock",
            Layer::Handset => "handset",
            Layer::Push => "push",
            Layer::Courier => "courier",
            Layer::Upstream => "upstream",
            Layer::Rule => "rule",
            Layer::Grant => "grant",
            Layer::Method => "method",
            Layer::Certificate => "certificate",
            Layer::Secret => "secret",
            Layer::Sender => "sender",
            Layer::Door => "door",
            Layer::Waits => "waits",
        }
    }

    /// The layer of a piece of a directory; none for pieces that no login needs.
    pub fn of(piece: Piece) -> Option<Self> {
        Some(match piece {
            Piece::Name => Layer::Name,
            Piece::Connection => Layer::Connection,
            Piece::Tls => Layer::Tls,
            Piece::Account => Layer::Account,
            Piece::Base => Layer::Base,
            Piece::Person => Layer::Person,
            Piece::Groups => Layer::Groups,
            Piece::Clock => Layer::Clock,
            Piece::Kind | Piece::Limits => return None,
        })
    }
}

/// One layer, tried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rung {
    /// Which layer.
    pub layer: Layer,
    /// What it is about, such as a source's name.
    pub about: String,
    /// How it is. A note on a layer that this login does not need.
    pub state: Tone,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// What was seen.
    pub said: String,
    /// The cause that the login would be refused with, where it is broken.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub cause: Option<Cause>,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub remedy: Option<String>,
    /// Its line in the site file.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<u32>,
}

/// The ladder of one login.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Ladder {
    /// The name as it was typed.
    pub person: String,
    /// The gateway.
    pub via: String,
    /// The chain that takes the login.
    pub chain: String,
    /// The layers that were tried; the last one is the broken one, if one is.
    pub rungs: Vec<Rung>,
    /// The broken layer.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub broken: Option<Layer>,
    /// Layers in front of it that were not tried.
    pub not_tried: Vec<Layer>,
}

impl Ladder {
    /// An empty one.
    pub fn new(person: &str, via: &str) -> Self {
        Ladder {
            person: person.to_owned(),
            via: via.to_owned(),
            chain: String::new(),
            rungs: Vec::new(),
            broken: None,
            not_tried: Vec::new(),
        }
    }

    /// Adds a rung; `false` if it is broken, and nothing in front of it is to be tried.
    pub fn climb(&mut self, layer: Layer, about: &str, seen: Seen, took_us: u64, line: Option<u32>) -> bool {
        let broken = seen.state == Tone::Bad;
        let remedy = seen.remedy.or(seen.cause.map(|cause| cause.remedy().to_owned()));
        let (state, said, cause) = (seen.state, seen.said, seen.cause);
        self.rungs.push(Rung { layer, about: about.to_owned(), state, took_us, said, cause, remedy, line });
        if broken {
            self.broken = Some(layer);
            self.not_tried = Layer::ALL.iter().copied().filter(|other| *other > layer).collect();
        }
        !broken
    }
}

/// What the rules say of somebody; where a rule further down would let them in, that is said too.
pub fn judge_rules(rules: &RuleBook, known: &Circumstances<'_>, site: &Site, login: &str) -> (Seen, Option<u32>) {
    let none = Groups::default();
    let groups = known.groups.unwrap_or(&none);
    let grant_of = |then: &Then| match then {
        Then::Grant(grant) => site.grants.get(*grant).map(|grant| grant.name.as_str()),
        Then::Refuse(_) => None,
    };
    let mine = groups.names().join(", ");
    let mine = if mine.is_empty() { "none".to_owned() } else { mine };
    match rules.decide_for(known) {
        Decision::Passed(_, rule) => {
            let grant = grant_of(&rule.then).unwrap_or("?");
            (Seen::good(format!("`{}` assigns `{grant}` to {}", rule.name, rule.when)), Some(rule.line))
        }
        Decision::Refused(rule, reason) => {
            let later = rules.rules().iter().filter(|later| later.line > rule.line);
            let mut later =
                later.filter(|later| later.when.misses_for(known).is_none()).filter_map(|later| Some((later, grant_of(&later.then)?)));
            let said = format!("`{}` in line {} refuses {login}: {reason}", rule.name, rule.line);
            let seen = match later.next() {
                Some((later, grant)) => Seen::bad(
                    Cause::RuleRefused,
                    format!("{said}; `{}` in line {}, which comes later, would assign `{grant}`", later.name, later.line),
                )
                .and(format!("the first matching rule decides: move `{}` before `{}` if it should win", later.name, rule.name)),
                None => Seen::bad(Cause::RuleRefused, said),
            };
            (seen, Some(rule.line))
        }
        Decision::NoRule => {
            let count = rules.rules().len();
            let seen = Seen::bad(Cause::NoRule, format!("none of the {count} rules matches {login}, whose groups are: {mine}"));
            let known: Vec<&str> = rules.rules().iter().flat_map(|rule| &rule.when.groups).map(String::as_str).collect();
            (seen.and(format!("add a rule for one of those groups; existing rules cover: {}", known.join(", "))), None)
        }
    }
}

/// Whether the gateway waits as long as the chain may take.
pub fn judge_waits(site: &Site, chain: &Chain, gateway: &Gateway) -> Seen {
    let slowest = bivector_timing::budget::slowest(site, chain, gateway);
    let Some(patience) = gateway.patience else {
        return Seen::warn(
            format!("the timeout of {} is unknown; the chain may take {:.1} s", gateway.name, slowest.as_secs_f64()),
            "set `patience` of the gateway to the values configured on the device",
        );
    };
    let waits = patience.first();
    let said = format!(
        "{} waits {:.1} s ({} × {:.1} s); the chain may take {:.1} s",
        gateway.name,
        waits.as_secs_f64(),
        patience.tries,
        patience.wait.as_secs_f64(),
        slowest.as_secs_f64()
    );
    if waits < slowest {
        return Seen { state: Tone::Bad, cause: None, ..Seen::good(said) }.and(format!(
            "set the device to wait {:.0} s or more in total, or shorten the chain's timeouts",
            slowest.as_secs_f64().ceil()
        ));
    }
    match gateway.client_patience {
        Some(client) if client < slowest => Seen {
            state: Tone::Bad,
            ..Seen::good(format!(
                "the client program gives up after {:.0} s; the chain may take {:.1} s",
                client.as_secs_f64(),
                slowest.as_secs_f64()
            ))
        }
        .and("raise the client's timeout, or shorten the chain's timeouts"),
        _ => Seen::good(said),
    }
}

/// Whether an open door can hear a gateway: on a port of the chain, of its kind of address, and not on loopback for somebody outside.
pub fn judge_doors(open: &[SocketAddr], chain: &Chain, gateway: &Gateway) -> Seen {
    let ours: Vec<&SocketAddr> = open.iter().filter(|door| chain.ports.is_empty() || chain.ports.contains(&door.port())).collect();
    let shown = |doors: &[&SocketAddr]| doors.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let all: Vec<&SocketAddr> = open.iter().collect();
    let bad = |said: String, remedy: String| Seen { state: Tone::Bad, ..Seen::good(said) }.and(remedy);
    if open.is_empty() {
        return bad("no RADIUS port is open".to_owned(), "check `bivector site history` and re-apply the site".to_owned());
    }
    if ours.is_empty() {
        let ports = chain.ports.iter().map(u16::to_string).collect::<Vec<_>>().join(", ");
        return bad(
            format!("the chain accepts logins only on the ports {ports}; open doors: {}", shown(&all)),
            "add that port under `listen`, or remove `ports` from the chain".to_owned(),
        );
    }
    let hears = |door: &&SocketAddr, from: IpAddr| door.is_ipv4() == from.is_ipv4() && (!door.ip().is_loopback() || from.is_loopback());
    let heard = |from: IpAddr| ours.iter().any(|door| hears(door, from));
    let from: Vec<IpAddr> = gateway.from.iter().map(|range| range.addr()).collect();
    if !from.is_empty() && gateway.hosts.is_empty() && !from.iter().any(|from| heard(*from)) {
        return bad(
            format!("{} sends from {}, which cannot reach the open doors {}", gateway.name, from[0], shown(&ours)),
            "listen on an address that the gateway can reach, or on all addresses: \"0.0.0.0:1812\" or \"[::]:1812\"".to_owned(),
        );
    }
    Seen::good(format!("open doors: {}", shown(&ours)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn in_groups(groups: &Groups) -> Circumstances<'_> {
        Circumstances { groups: Some(groups), assumed: true, ..Circumstances::default() }
    }

    use bivector_site::Known;

    const SITE: &str = include_str!("../../../demo/site.toml");

    fn site(change: (&str, &str)) -> Site {
        assert!(SITE.contains(change.0), "{}", change.0);
        Site::read(&SITE.replacen(change.0, change.1, 1), &Known::default()).0.unwrap()
    }

    fn chain<'s>(site: &'s Site, name: &str) -> &'s Chain {
        site.chains.iter().find(|chain| chain.name == name).unwrap()
    }

    #[test]
    fn a_rule_that_comes_too_late_is_named_with_the_one_before_it() {
        let site = site(("# VPN for staff", "#"));
        let (seen, _) =
            judge_rules(&chain(&site, "staff").rules, &in_groups(&Groups::new(["turbine-crew", "remote-suspended"])), &site, "noor");
        assert_eq!((seen.state, seen.cause), (Tone::Bad, Some(Cause::RuleRefused)));
        assert!(seen.remedy.unwrap().contains("move `turbine crew` before `suspended people stay out`"));
        let (seen, _) = judge_rules(&chain(&site, "staff").rules, &in_groups(&Groups::new(["harbour"])), &site, "kit");
        assert!(seen.said.contains("harbour") && seen.remedy.unwrap().contains("control-room"));
    }

    #[test]
    fn a_door_that_a_gateway_cannot_reach_counts_as_closed() {
        let plain = site(("# VPN for staff", "#"));
        let (staff, gateway) = (chain(&plain, "staff"), &plain.gateways[0]);
        let judge = |doors: &[&str]| judge_doors(&doors.iter().map(|door| door.parse().unwrap()).collect::<Vec<_>>(), staff, gateway).state;
        assert_eq!(judge(&["127.0.0.1:18120"]), Tone::Good, "one of its addresses is on loopback");
        assert_eq!((judge(&[]), judge(&["[::1]:18120"])), (Tone::Bad, Tone::Bad));
        let outside = site(("from = [\"127.0.0.11\", ", "from = ["));
        let seen = judge_doors(&["127.0.0.1:18120".parse().unwrap()], chain(&outside, "staff"), &outside.gateways[0]);
        assert!(seen.state == Tone::Bad && seen.said.contains("192.0.2.10"), "{seen:?}");
    }

    #[test]
    fn waits_that_do_not_nest_break_the_ladder() {
        let site = site(("patience = { wait = \"5s\", tries = 3 }", "patience = { wait = \"1s\", tries = 1 }"));
        let seen = judge_waits(&site, chain(&site, "staff"), &site.gateways[0]);
        assert!(seen.state == Tone::Bad && seen.remedy.unwrap().contains("wait 6 s or more"), "{}", seen.said);
    }
}
