//! Checks that look at more than one value: names, uses, overlaps, rules that never match.

mod approvals;
mod chains;
mod issuers;
mod people;
mod rehearsals;
mod twice;

pub(super) use approvals::approvals;
pub(super) use chains::{Parts, ambiguous, shadowed, uses};
pub(super) use issuers::certificates;
pub(super) use people::people;
pub(super) use rehearsals::rehearsals;
pub(super) use twice::twice;

use super::finding::did_you_mean;
use super::read::{Draft, Named};
use super::section::{At, Notes, Section};
use super::{Server, Site};
use bivector_model::device::CodeKind;
use bivector_model::filter::Filter;
use bivector_model::pool::AddressPool;
use bivector_model::rule::When;
use ipnet::IpNet;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// A certificate that ends within this many days is warned about.
const EXPIRY_WARNED: i64 = 30;

/// What the place that runs the check knows beyond the text.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// Names of the sealed secrets; `None` where that cannot be known, as when a file is checked without the service.
    pub sealed: Option<BTreeSet<String>>,
    /// People in the records.
    pub people: Vec<KnownPerson>,
    /// Days until the first certificate of each trust file ends; below zero if it has.
    pub certificates: BTreeMap<String, i64>,
    /// What else looks at a site once it holds together, such as the time budget: its warnings stand among the others.
    pub advisers: Vec<Adviser>,
}

/// Something that looks at a whole site.
pub type Adviser = fn(&Site) -> Vec<Advice>;

/// A warning about a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Advice {
    /// Its stable name.
    pub code: String,
    /// The line of the site file that it is about; 0 for none.
    pub line: u32,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub remedy: String,
}

/// What the advisers say.
pub(super) fn advice(site: &Site, known: &Known, notes: &Notes<'_>) {
    for advice in known.advisers.iter().flat_map(|adviser| adviser(site)) {
        notes.warn(&advice.code, notes.lines.start_of(advice.line.max(1)), advice.message, advice.remedy);
    }
}

/// A person in the records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownPerson {
    /// The source that knows the person.
    pub source: String,
    /// The login name, in lower case.
    pub login: String,
    /// Groups in lower case, where the records hold them.
    pub groups: Vec<String>,
    /// Whether a second factor is enrolled.
    pub has_factor: bool,
}

/// Conditions: their names, and those that no rule uses.
pub(super) fn conditions(named: &[(At<String>, Arc<When>)], used: &BTreeSet<String>, notes: &Notes<'_>) {
    for (at, (name, _)) in named.iter().enumerate() {
        if !used.contains(&name.value) {
            notes.warn(
                "unused",
                name.span.clone(),
                format!("the condition `{}` is not used", name.value),
                "name it under `condition` of a rule, or remove it",
            );
        }
        if named[..at].iter().any(|(earlier, _)| earlier.value == name.value) {
            notes.error("name-twice", name.span.clone(), format!("two conditions are named `{}`", name.value), "rename one of them");
        }
    }
}

/// Filters and pools: their names, ranges that two pools have, and what no grant uses.
pub(super) fn parts_of_grants(
    filters: &[(At<String>, Filter)],
    pools: &[(At<String>, AddressPool)],
    used: &BTreeSet<String>,
    notes: &Notes<'_>,
) {
    let names = filters.iter().map(|(name, _)| ("filter", name)).chain(pools.iter().map(|(name, _)| ("pool", name)));
    let mut seen = BTreeSet::new();
    for (what, name) in names {
        let whole = format!("{what} {}", name.value);
        if !used.contains(&whole) {
            notes.warn(
                "unused",
                name.span.clone(),
                format!("the {what} `{}` is not used", name.value),
                format!("name it under `{what}` of a grant, or remove it"),
            );
        }
        if !seen.insert(whole) {
            notes.error("name-twice", name.span.clone(), format!("two {what}s are named `{}`", name.value), "rename one of them");
        }
    }
    for (at, (name, pool)) in pools.iter().enumerate() {
        let overlap = pools[..at].iter().find_map(|(_, earlier)| {
            let shared =
                pool.ranges.iter().find(|range| earlier.ranges.iter().any(|other| other.contains(*range) || range.contains(other)))?;
            Some((earlier.name.clone(), *shared))
        });
        if let Some((earlier, range)) = overlap {
            let message = format!("`{range}` of the pool `{}` is in the pool `{earlier}` too: an address would be given twice", pool.name);
            notes.error("pools-overlap", name.span.clone(), message, "give each pool ranges of its own");
        }
    }
}

/// Names that stand twice, ranges that overlap, secrets that are not sealed.
pub(super) fn names(draft: &Draft, known: &Known, notes: &Notes<'_>) {
    unique(&draft.gateways, "gateway", notes);
    unique(&draft.directories, "directory", notes);
    unique(&draft.upstreams, "upstream", notes);
    unique(&draft.couriers, "courier", notes);
    unique(&draft.issuers, "issuer", notes);
    unique(&draft.identities, "identity rule", notes);
    unique(&draft.chains, "chain", notes);
    unique(&draft.grants, "grant", notes);
    unique(&draft.personas, "persona", notes);
    unique(&draft.rehearsals, "rehearsal", notes);
    sources(draft, notes);
    overlaps(draft, notes);
    let secrets = draft.gateways.iter().filter_map(|(.., secret)| secret.as_ref());
    secrets.clone().for_each(|secret| no_others(secret, "a gateway", notes));
    draft.personas.iter().flat_map(|(.., secrets)| secrets).for_each(|secret| no_others(secret, "a persona", notes));
    draft
        .directories
        .iter()
        .filter_map(|(.., secret)| secret.as_ref())
        .for_each(|secret| only_own(secret, "directory/", "a directory", notes));
    draft
        .upstreams
        .iter()
        .filter_map(|(.., secret)| secret.as_ref())
        .for_each(|secret| only_own(secret, "upstream/", "an upstream", notes));
    draft.couriers.iter().filter_map(|(.., secret)| secret.as_ref()).for_each(|secret| only_own(secret, "courier/", "a courier", notes));
    for secret in secrets.chain(draft.directories.iter().filter_map(|(.., secret)| secret.as_ref())) {
        sealed(secret, known, notes);
    }
    draft.upstreams.iter().filter_map(|(.., secret)| secret.as_ref()).for_each(|secret| sealed(secret, known, notes));
    for dynamic in draft.gateways.iter().filter_map(|(_, gateway, ..)| gateway.dynamic.as_ref()) {
        let secret = dynamic.secret.clone().map(|value| At { value, span: notes.lines.start_of(dynamic.line) });
        if let Some(secret) = secret {
            no_others(&secret, "a gateway", notes);
            sealed(&secret, known, notes);
        }
    }
    draft.couriers.iter().filter_map(|(.., secret)| secret.as_ref()).for_each(|secret| sealed(secret, known, notes));
    draft.personas.iter().flat_map(|(.., secrets)| secrets).for_each(|secret| sealed(secret, known, notes));
    for (name, directory, _) in &draft.directories {
        let Some((trust, days)) = directory.trust.as_ref().and_then(|trust| known.certificates.get_key_value(trust)) else { continue };
        if *days < EXPIRY_WARNED {
            let when = if *days < 0 { format!("expired {} days ago", -days) } else { format!("expires in {days} days") };
            let message = format!("a CA certificate in `{trust}` (trusted by `{}`) {when}", name.value);
            notes.warn("certificate-ends", name.span.clone(), message, "add the CA's new certificate to that file");
        }
    }
}

/// A source is named in one list, whatever its kind.
fn sources(draft: &Draft, notes: &Notes<'_>) {
    let directories = draft.directories.iter().map(|(name, ..)| name);
    let mut taken: HashMap<&str, &str> = CodeKind::ALL.iter().map(|kind| (kind.name(), "a factor")).collect();
    taken.insert("roster", "Bivector's own source");
    for name in directories.clone() {
        if let Some(what) = taken.get(name.value.as_str()) {
            let message = format!("the name `{}` is reserved: {what}", name.value);
            notes.error("reserved-name", name.span.clone(), message, "give the directory another name");
        }
    }
    taken.extend(directories.map(|name| (name.value.as_str(), "a directory already")));
    let upstreams = draft.upstreams.iter().map(|(name, ..)| (name, "upstream"));
    for (name, what) in upstreams.chain(draft.couriers.iter().map(|(name, ..)| (name, "courier"))) {
        if let Some(taken) = taken.insert(&name.value, if what == "upstream" { "an upstream already" } else { "a courier already" })
            && !taken.starts_with(&format!("a {what}"))
            && !taken.starts_with(&format!("an {what}"))
        {
            notes.error(
                "reserved-name",
                name.span.clone(),
                format!("the name `{}` is reserved: {taken}", name.value),
                format!("give the {what} another name"),
            );
        }
    }
}

fn unique<N: Named>(named: &[N], what: &str, notes: &Notes<'_>) {
    let mut seen: HashMap<&str, u32> = HashMap::new();
    for name in named.iter().map(Named::name) {
        if let Some(line) = seen.insert(&name.value, notes.lines.line(name.span.start)) {
            let message = format!("the {what} `{}` is already defined in line {line}", name.value);
            notes.error("name-twice", name.span.clone(), message, "give one of them another name");
        }
    }
}

/// Two gateways with the same range cannot be told apart; a range inside another one may be meant.
fn overlaps(draft: &Draft, notes: &Notes<'_>) {
    let mut owners: HashMap<IpNet, &str> = HashMap::new();
    for (name, _, from, _) in &draft.gateways {
        for range in from {
            if let Some(other) = owners.insert(range.value.trunc(), &name.value).filter(|other| *other != name.value) {
                let message = format!("`{}` is also assigned to the gateway `{other}`", range.value);
                notes.error("address-overlap", range.span.clone(), message, "assign each address to one gateway only");
            }
        }
    }
    for (name, _, from, _) in &draft.gateways {
        for range in from {
            let around =
                wider(range.value).find_map(|wide| owners.get(&wide).filter(|other| **other != name.value).map(|other| (wide, *other)));
            if let Some((wide, other)) = around {
                let message = format!("`{}` is inside `{wide}` of the gateway `{other}`; the more specific range wins", range.value);
                notes.warn("address-overlap", range.span.clone(), message, "keep it if this is intended");
            }
        }
    }
}

fn wider(range: IpNet) -> impl Iterator<Item = IpNet> {
    (0..range.prefix_len()).rev().filter_map(move |length| IpNet::new(range.addr(), length).ok().map(|wide| wide.trunc()))
}

/// Beginnings of names of secrets that are sent to somebody: each kind only sends its own, so that no courier carries out the password of a
/// directory.
const SENT: &[&str] = &["courier/", "directory/", "upstream/"];

fn only_own(secret: &At<String>, own: &str, whose: &str, notes: &Notes<'_>) {
    if secret.value.starts_with(own) {
        return;
    }
    let name = secret.value.rsplit('/').next().unwrap_or_default();
    let message = format!("{whose} sends `{}`, and may only send secrets whose names begin with `{own}`", secret.value);
    notes.error("foreign-secret", secret.span.clone(), message, format!("seal it as `{own}{name}` with `bivector secret set {own}{name}`"));
}

fn no_others(secret: &At<String>, whose: &str, notes: &Notes<'_>) {
    if let Some(other) = SENT.iter().find(|other| secret.value.starts_with(**other)) {
        let message = format!("{whose} uses `{}`, a secret of another kind: names that begin with `{other}` are not for it", secret.value);
        notes.error("foreign-secret", secret.span.clone(), message, "give it a secret of its own".to_owned());
    }
}

fn sealed(secret: &At<String>, known: &Known, notes: &Notes<'_>) {
    let Some(sealed) = &known.sealed else { return };
    if !sealed.contains(&secret.value) {
        let hint = did_you_mean(&secret.value, sealed.iter().map(String::as_str)).map(|hint| format!("; {hint}")).unwrap_or_default();
        let message = format!("the secret `{}` has not been sealed", secret.value);
        notes.error("secret-not-sealed", secret.span.clone(), message, format!("run `bivector secret set {}`{hint}", secret.value));
    }
}

/// An attribute's name must be one, or it would change the search.
pub(super) fn attribute_name(text: At<String>, section: &Section<'_, '_, '_>) -> String {
    let sound = text.value.starts_with(|c: char| c.is_ascii_alphabetic())
        && text.value.chars().all(|c| c.is_ascii_alphanumeric() || "-;.".contains(c));
    if !sound {
        section.notes.error(
            "bad-attribute-name",
            text.span,
            format!("`{}` is not an LDAP attribute name", text.value),
            "write letters, digits and hyphens, such as \"uid\"",
        );
    }
    text.value
}

/// Reads `ldap://host[:port]` or `ldaps://host[:port]`.
pub(super) fn split_server(url: &str) -> Option<Server> {
    let (tls, rest) = match url.split_once("://")? {
        ("ldap", rest) => (false, rest),
        ("ldaps", rest) => (true, rest),
        _ => return None,
    };
    let rest = rest.strip_suffix('/').unwrap_or(rest);
    let (host, port) = split_host(rest, if tls { 636 } else { 389 })?;
    Some(Server { url: url.to_owned(), tls, host, port })
}

/// Reads `host[:port]`, with an IPv6 address in brackets.
pub(super) fn split_host(text: &str, default: u16) -> Option<(String, u16)> {
    let (host, port) = match text.strip_prefix('[') {
        Some(v6) => {
            let (host, after) = v6.split_once(']')?;
            (host, after.strip_prefix(':').map_or(Some(default), |port| port.parse().ok())?)
        }
        None => match text.split_once(':') {
            Some((host, port)) => (host, port.parse().ok()?),
            None => (text, default),
        },
    };
    let sound = !host.is_empty() && host.chars().all(|c| c.is_alphanumeric() || ".-:_".contains(c));
    sound.then(|| (host.to_owned(), port))
}
