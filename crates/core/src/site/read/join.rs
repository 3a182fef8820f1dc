//! From names to indices.

use super::super::check;
use super::super::finding::did_you_mean;
use super::super::section::{At, Notes, quoted};
use super::super::{Chain, Gateway, RadiusDoor, Site, SourceRef};
use super::Draft;
use super::chains::{DraftChain, DraftRule, DraftThen};
use super::parts::{DraftDirectory, DraftGateway};
use crate::addresses::AddressMap;
use crate::grant::Grant;
use crate::rule::{Rule, RuleBook, Then};

/// Turns names into indices. What does not resolve has been, or is here, reported.
pub(super) fn join(draft: Draft, name: String, radius: RadiusDoor, totp_window: u64, notes: &Notes<'_>) -> Option<Site> {
    let Draft { mut gateways, directories, identities, chains, grants, rules } = draft;
    let mut joined: Vec<Chain> = Vec::new();
    for (index, chain) in chains.into_iter().enumerate() {
        for gateway in &chain.gateways {
            claim_gateway(gateway, index, &mut gateways, &joined, &chain.name.value, notes);
        }
        let first = chain.first.iter().filter_map(|source| resolve_source(source, &directories, notes)).collect();
        let identity = chain.identity.as_ref().and_then(|wanted| resolve(wanted, &identities, "identity rule", notes));
        joined.push(Chain {
            name: chain.name.value,
            identity: identity.map(|index| identities[index].1.clone()).unwrap_or_default(),
            methods: chain.methods,
            forms_line: notes.lines.line(chain.forms_span.start),
            forms: chain.forms,
            first,
            second: chain.second,
            when_unclear: chain.when_unclear,
            refusal_pace: chain.refusal_pace,
            rules: RuleBook::default(),
            line: chain.line,
        });
    }
    for rule in rules {
        join_rule(rule, &mut joined, &grants, notes);
    }
    check::uses(&joined, &gateways, &directories, &identities, &grants, notes);
    let gateways: Vec<Gateway> = gateways.into_iter().map(|(_, gateway, _, _)| gateway).collect();
    let ranges = gateways.iter().enumerate().flat_map(|(index, gateway)| gateway.from.iter().map(move |range| (*range, index)));
    let by_address = AddressMap::new(ranges);
    Some(Site {
        name,
        radius,
        directories: directories.into_iter().map(|(_, directory, _)| directory).collect(),
        chains: joined,
        grants: grants.into_iter().map(|(_, grant)| grant).collect(),
        totp_window,
        by_address,
        gateways,
    })
}

fn claim_gateway(wanted: &At<String>, chain: usize, gateways: &mut [DraftGateway], joined: &[Chain], chain_name: &str, notes: &Notes<'_>) {
    let Some(index) = resolve(wanted, gateways, "gateway", notes) else { return };
    let gateway = &mut gateways[index].1;
    match gateway.chain {
        Some(other) => {
            let other = joined.get(other).map_or(chain_name, |chain| chain.name.as_str());
            let message = format!("the gateway `{}` is in the chain `{other}` already", wanted.value);
            notes.error(
                "gateway-in-two-chains",
                wanted.span.clone(),
                message,
                "a gateway belongs to one chain; take it out of one of them",
            );
        }
        None => gateway.chain = Some(chain),
    }
}

fn resolve_source(wanted: &At<String>, directories: &[DraftDirectory], notes: &Notes<'_>) -> Option<SourceRef> {
    if wanted.value == "roster" {
        return Some(SourceRef::Roster);
    }
    let names = || directories.iter().map(|(name, ..)| name.value.as_str()).chain(["roster"]);
    let found = directories.iter().position(|(name, ..)| name.value == wanted.value);
    if found.is_none() {
        let remedy = did_you_mean(&wanted.value, names()).unwrap_or_else(|| format!("known: {}", quoted(&names().collect::<Vec<_>>())));
        notes.error("name-not-found", wanted.span.clone(), format!("there is no source `{}`", wanted.value), remedy);
    }
    found.map(SourceRef::Directory)
}

fn join_rule(rule: DraftRule, chains: &mut [Chain], grants: &[(At<String>, Grant)], notes: &Notes<'_>) {
    let then = rule.then.and_then(|then| match then {
        DraftThen::Refuse(reason) => Some(Then::Refuse(reason)),
        DraftThen::Grant(grant) => resolve(&grant, grants, "grant", notes).map(Then::Grant),
    });
    let Some(wanted) = rule.chain else { return };
    let Some(index) = chains.iter().position(|chain| chain.name == wanted.value) else {
        let remedy = did_you_mean(&wanted.value, chains.iter().map(|chain| chain.name.as_str()));
        notes.error(
            "name-not-found",
            wanted.span,
            format!("there is no chain `{}`", wanted.value),
            remedy.unwrap_or_else(|| "add the chain, or correct the name".to_owned()),
        );
        return;
    };
    let Some(then) = then else { return };
    let rules = &mut chains[index].rules;
    check::shadowed(&rule.when, rules.rules(), rule.name.span.clone(), notes);
    rules.push(Rule { name: rule.name.value, when: rule.when, then, line: rule.line });
}

/// Finds a name among named things, or reports it with the nearest one.
fn resolve<N: Named>(wanted: &At<String>, named: &[N], what: &str, notes: &Notes<'_>) -> Option<usize> {
    let found = named.iter().position(|candidate| candidate.name().value == wanted.value);
    if found.is_none() {
        let remedy = did_you_mean(&wanted.value, named.iter().map(|candidate| candidate.name().value.as_str()));
        let remedy = remedy.unwrap_or_else(|| format!("add the {what}, or correct the name"));
        notes.error("name-not-found", wanted.span.clone(), format!("there is no {what} `{}`", wanted.value), remedy);
    }
    found
}

/// A section that has a name with a place.
pub(in crate::site) trait Named {
    fn name(&self) -> &At<String>;
}

impl<A> Named for (At<String>, A) {
    fn name(&self) -> &At<String> {
        &self.0
    }
}

impl<A, B> Named for (At<String>, A, B) {
    fn name(&self) -> &At<String> {
        &self.0
    }
}

impl<A, B, C> Named for (At<String>, A, B, C) {
    fn name(&self) -> &At<String> {
        &self.0
    }
}

impl Named for DraftChain {
    fn name(&self) -> &At<String> {
        &self.name
    }
}
