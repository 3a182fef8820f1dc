//! Checks that look at more than one value: names, uses, overlaps, rules that never match.

use super::finding::did_you_mean;
use super::read::{Draft, Named};
use super::read::{DraftDirectory, DraftGateway};
use super::section::{At, Notes, Section};
use super::{Chain, Server, SourceRef};
use crate::grant::Grant;
use crate::identity::IdentityRule;
use crate::rule::{Rule, Then, When};
use ipnet::IpNet;
use std::collections::{BTreeSet, HashMap};
use std::ops::Range;

/// What the place that runs the check knows beyond the text.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// Names of the sealed secrets; `None` where that cannot be known, as when a file is checked without the service.
    pub sealed: Option<BTreeSet<String>>,
}

/// Names that stand twice, ranges that overlap, secrets that are not sealed.
pub(super) fn names(draft: &Draft, known: &Known, notes: &Notes<'_>) {
    unique(&draft.gateways, "gateway", notes);
    unique(&draft.directories, "directory", notes);
    unique(&draft.identities, "identity rule", notes);
    unique(&draft.chains, "chain", notes);
    unique(&draft.grants, "grant", notes);
    if let Some((name, ..)) = draft.directories.iter().find(|(name, ..)| name.value == "roster") {
        notes.error("reserved-name", name.span.clone(), "`roster` is Bivector's own source", "give the directory another name");
    }
    overlaps(draft, notes);
    let secrets = draft.gateways.iter().filter_map(|(.., secret)| secret.as_ref());
    for secret in secrets.chain(draft.directories.iter().filter_map(|(.., secret)| secret.as_ref())) {
        sealed(secret, known, notes);
    }
}

fn unique<N: Named>(named: &[N], what: &str, notes: &Notes<'_>) {
    let mut seen: HashMap<&str, u32> = HashMap::new();
    for name in named.iter().map(Named::name) {
        if let Some(line) = seen.insert(&name.value, notes.lines.line(name.span.start)) {
            let message = format!("there is a {what} `{}` already, in line {line}", name.value);
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
                let message = format!("`{}` belongs to the gateway `{other}` too", range.value);
                notes.error("address-overlap", range.span.clone(), message, "give each gateway addresses of its own");
            }
        }
    }
    for (name, _, from, _) in &draft.gateways {
        for range in from {
            let around =
                wider(range.value).find_map(|wide| owners.get(&wide).filter(|other| **other != name.value).map(|other| (wide, *other)));
            if let Some((wide, other)) = around {
                let message = format!("`{}` lies inside `{wide}` of the gateway `{other}`; the narrower range wins", range.value);
                notes.warn("address-overlap", range.span.clone(), message, "leave it, if that is meant");
            }
        }
    }
}

fn wider(range: IpNet) -> impl Iterator<Item = IpNet> {
    (0..range.prefix_len()).rev().filter_map(move |length| IpNet::new(range.addr(), length).ok().map(|wide| wide.trunc()))
}

fn sealed(secret: &At<String>, known: &Known, notes: &Notes<'_>) {
    let Some(sealed) = &known.sealed else { return };
    if !sealed.contains(&secret.value) {
        let hint = did_you_mean(&secret.value, sealed.iter().map(String::as_str)).map(|hint| format!("; {hint}")).unwrap_or_default();
        let message = format!("no secret is sealed under `{}`", secret.value);
        notes.error("secret-not-sealed", secret.span.clone(), message, format!("run `bivector secret set {}`{hint}", secret.value));
    }
}

/// Things that nothing uses, and chains that cannot work.
pub(super) fn uses(
    chains: &[Chain],
    gateways: &[DraftGateway],
    directories: &[DraftDirectory],
    identities: &[(At<String>, IdentityRule)],
    grants: &[(At<String>, Grant)],
    notes: &Notes<'_>,
) {
    for (name, gateway, ..) in gateways.iter().filter(|(_, gateway, ..)| gateway.chain.is_none()) {
        let message = format!("no chain takes logins from `{}`: they are all refused", gateway.name);
        notes.warn("unused", name.span.clone(), message, "name it under `gateways` of a chain");
    }
    for (index, (name, ..)) in directories.iter().enumerate() {
        unused(name, "directory", chains.iter().any(|chain| chain.first.contains(&SourceRef::Directory(index))), notes);
    }
    for (name, rule) in identities {
        unused(name, "identity rule", chains.iter().any(|chain| chain.identity.name == rule.name), notes);
    }
    for (index, (name, _)) in grants.iter().enumerate() {
        let given = chains.iter().flat_map(|chain| chain.rules.rules()).any(|rule| rule.then == Then::Grant(index));
        unused(name, "grant", given, notes);
    }
    chains.iter().for_each(|chain| workable(chain, notes));
}

fn unused(name: &At<String>, what: &str, used: bool, notes: &Notes<'_>) {
    if !used {
        notes.warn(
            "unused",
            name.span.clone(),
            format!("nothing uses the {what} `{}`", name.value),
            "take it out, or name it where it belongs",
        );
    }
}

fn workable(chain: &Chain, notes: &Notes<'_>) {
    let at = notes.lines.start_of(chain.line);
    let forms_at = notes.lines.start_of(chain.forms_line);
    let has_code = chain.forms.iter().any(|form| form.has_code());
    if !chain.second.is_empty() && !chain.forms.is_empty() && !has_code {
        let message = format!("the chain `{}` asks for a code, but none of its forms has a place for one", chain.name);
        notes.error("form-without-code", forms_at.clone(), message, "add the form `password code(6)`");
    }
    if chain.second.is_empty() && has_code {
        let message = format!("a form of the chain `{}` has a code, but nothing checks it", chain.name);
        notes.error("code-unchecked", forms_at, message, "set `second = [\"totp\"]`, or take the form out");
    }
    if !chain.rules.rules().iter().any(|rule| matches!(rule.then, Then::Grant(_))) {
        let message = format!("no rule of the chain `{}` lets anybody in", chain.name);
        notes.warn("nobody-gets-in", at, message, "add a `[[rules]]` with a `grant` for it");
    }
}

/// Warns about a rule that an earlier one takes everything from.
pub(super) fn shadowed(when: &When, earlier: &[Rule], at: Range<usize>, notes: &Notes<'_>) {
    let takes_all = |rule: &&Rule| match (&rule.when, when) {
        (When::Everybody, _) => true,
        (When::AnyGroup(_), When::Everybody) => false,
        (When::AnyGroup(theirs), When::AnyGroup(mine)) => mine.iter().all(|group| theirs.contains(group)),
    };
    if let Some(rule) = earlier.iter().find(takes_all) {
        let message = format!("this rule never decides: `{}` in line {} takes everybody it is about", rule.name, rule.line);
        notes.warn("never-matches", at, message, "move it up, or take it out");
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
            format!("`{}` is no attribute name", text.value),
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
    let default = if tls { 636 } else { 389 };
    let (host, port) = match rest.strip_prefix('[') {
        Some(v6) => {
            let (host, after) = v6.split_once(']')?;
            (host, after.strip_prefix(':').map_or(Some(default), |port| port.parse().ok())?)
        }
        None => match rest.split_once(':') {
            Some((host, port)) => (host, port.parse().ok()?),
            None => (rest, default),
        },
    };
    let sound = !host.is_empty() && host.chars().all(|c| c.is_alphanumeric() || ".-:_".contains(c));
    sound.then(|| Server { url: url.to_owned(), tls, host: host.to_owned(), port })
}
