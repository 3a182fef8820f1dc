//! From names to indices.

use super::super::Eap;
use super::super::check::{self, Known};
use super::super::finding::did_you_mean;
use super::super::section::{At, Notes, quoted};
use super::super::{
    Chain, FactorKind, FactorWord, FirstSource, Gateway, Handset, Newcomers, Passwords, Push, RadiusDoor, SessionKeeping, Site, SourceRef,
    TraceKeeping,
};
use super::Draft;
use super::chains::{DraftChain, DraftRule, DraftThen};
use super::handset::{DraftHandset, join_newcomers};
use super::parts::{DraftDirectory, DraftGateway, DraftUpstream};
use super::push::join_wake;
use super::rehearsals::{DraftRehearsal, join_rehearsal};
use super::second::{DraftCourier, Factors};
use bivector_model::addresses::AddressMap;
use bivector_model::device::CodeKind;
use bivector_model::grant::Grant;
use bivector_model::identity::IdentityRule;
use bivector_model::pool::AddressPool;
use bivector_model::prompt::Texts;
use bivector_model::rule::{Rule, RuleBook, Then};
use jiff::tz::TimeZone;

/// What is not in a list.
pub(super) struct Whole {
    pub(super) name: String,
    pub(super) zone: TimeZone,
    pub(super) radius: RadiusDoor,
    pub(super) factors: Factors,
    pub(super) texts: Texts,
    pub(super) handset: DraftHandset,
    pub(super) push: Push,
    pub(super) eap: Eap,
    pub(super) traces: TraceKeeping,
    pub(super) sessions: SessionKeeping,
    pub(super) pools: Vec<AddressPool>,
    pub(super) passwords: Passwords,
}

/// Turns names into indices. What does not resolve has been, or is here, reported.
pub(super) fn join(draft: Draft, whole: Whole, known: &Known, notes: &Notes<'_>) -> Option<Site> {
    let Draft {
        mut gateways,
        directories,
        upstreams,
        couriers,
        identities,
        issuers,
        chains,
        grants,
        rules,
        newcomers,
        personas,
        rehearsals,
    } = draft;
    let newcomers: Vec<Newcomers> = newcomers.into_iter().map(|draft| join_newcomers(draft, &couriers, notes)).collect();
    let has_address = whole.handset.handset.address.is_some();
    let mut joined: Vec<Chain> = Vec::new();
    for (index, chain) in chains.into_iter().enumerate() {
        claim_gateways(&chain, index, &mut gateways, &joined, notes);
        let issuers = chain.issuers.iter().filter_map(|wanted| resolve(wanted, &issuers, "issuer", notes)).collect();
        let chain = join_chain(chain, &directories, &upstreams, &couriers, &identities, has_address, notes);
        joined.push(Chain { issuers, ..chain });
    }
    for rule in rules {
        join_rule(rule, &mut joined, &grants, notes);
    }
    let parts = check::Parts {
        gateways: &gateways,
        directories: &directories,
        upstreams: &upstreams,
        couriers: &couriers,
        identities: &identities,
        grants: &grants,
        invites: &newcomers.iter().filter_map(|one| one.send_by).collect::<Vec<_>>(),
    };
    check::uses(&joined, &whole.eap, &parts, notes);
    check::certificates(&joined, &whole.eap, &issuers, known, notes);
    let names: Vec<At<String>> = grants.iter().map(|(name, _)| name.clone()).collect();
    check::people(&joined, &directories, &names, known, notes);
    let gateways: Vec<Gateway> = gateways.into_iter().map(|(_, gateway, _, _)| gateway).collect();
    let ranges = gateways.iter().enumerate().flat_map(|(index, gateway)| gateway.from.iter().map(move |range| (*range, index)));
    let by_address = AddressMap::new(ranges);
    let rehearsals = rehearsals.into_iter().map(|draft| join_rehearsal(draft, &personas, &gateways, notes)).collect();
    let handset = join_handset(whole.handset, &joined, notes);
    let site = Site {
        name: whole.name,
        zone: whole.zone,
        radius: whole.radius,
        directories: directories.into_iter().map(|(_, directory, _)| directory).collect(),
        upstreams: upstreams.into_iter().map(|(_, upstream, _)| upstream).collect(),
        chains: joined,
        grants: grants.into_iter().map(|(_, grant)| grant).collect(),
        couriers: couriers.into_iter().map(|(_, courier, _)| courier).collect(),
        codes: whole.factors.codes,
        sending: whole.factors.sending,
        lockout: whole.factors.lockout,
        passwords: whole.passwords,
        prompt_lasts: whole.factors.prompt_lasts,
        factor_lines: whole.factors.lines,
        texts: whole.texts,
        handset,
        push: whole.push,
        eap: whole.eap,
        issuers: issuers.into_iter().map(|(_, issuer)| issuer).collect(),
        newcomers,
        personas: personas.into_iter().map(|(_, persona, _)| persona).collect(),
        rehearsals,
        traces: whole.traces,
        sessions: whole.sessions,
        pools: whole.pools,
        by_address,
        gateways,
    };
    check::advice(&site, known, notes);
    check::approvals(&site, notes);
    check::rehearsals(&site, notes);
    Some(site)
}

/// What the site says of handsets, with its chain resolved.
fn join_handset(draft: DraftHandset, chains: &[Chain], notes: &Notes<'_>) -> Handset {
    let DraftHandset { mut handset, chain } = draft;
    handset.chain = chain.and_then(|wanted| {
        let found = chains.iter().position(|chain| chain.name == wanted.value);
        if found.is_none() {
            let names: Vec<&str> = chains.iter().map(|chain| chain.name.as_str()).collect();
            not_found(&wanted, "chain", &names, notes);
        }
        found
    });
    handset
}

/// A chain with its sources, factors and words resolved; its rules come later.
fn join_chain(
    chain: DraftChain,
    directories: &[DraftDirectory],
    upstreams: &[DraftUpstream],
    couriers: &[DraftCourier],
    identities: &[(At<String>, IdentityRule)],
    has_address: bool,
    notes: &Notes<'_>,
) -> Chain {
    let source = |(wanted, when)| Some(FirstSource { source: resolve_source(&wanted, directories, upstreams, notes)?, when });
    let first = chain.first.iter().cloned().filter_map(source).collect();
    let second: Vec<FactorKind> = chain.second.iter().filter_map(|wanted| resolve_factor(wanted, couriers, upstreams, notes)).collect();
    let words = factor_words(&chain, &second, couriers, upstreams, notes);
    let spelt: Vec<String> = words.iter().map(|word| word.word.clone()).collect();
    if chain.when_unclear.is_none() {
        check::ambiguous(&chain.forms, &spelt, chain.forms_span.clone(), notes);
    }
    let asks_handsets = second.iter().any(|kind| kind.is_on_handset());
    let wake = join_wake(chain.approvals.wake.as_ref(), asks_handsets, has_address, couriers, notes);
    let identity = chain.identity.as_ref().and_then(|wanted| resolve(wanted, identities, "identity rule", notes));
    Chain {
        name: chain.name.value,
        identity: identity.map(|index| identities[index].1.clone()).unwrap_or_default(),
        methods: chain.methods,
        issuers: Vec::new(),
        forms_line: notes.lines.line(chain.forms_span.start),
        forms: chain.forms,
        ports: chain.ports,
        realms: chain.realms,
        first,
        when_source_is_down: chain.when_source_is_down,
        change_password: chain.change_password,
        second,
        words,
        spelt,
        when_several: chain.when_several,
        when_second_is_down: chain.when_second_is_down,
        second_patience: chain.approvals.patience,
        match_number: chain.approvals.match_number,
        wake,
        wake_after: chain.approvals.wake_after,
        when_unanswered: chain.approvals.when_unanswered,
        when_not_enrolled: chain.approvals.when_not_enrolled,
        remember: chain.approvals.remember,
        waive: chain.waive,
        code_only: chain.code_only,
        retry: chain.retry,
        when_unclear: chain.when_unclear.unwrap_or_default(),
        refusal_pace: chain.refusal_pace,
        rules: RuleBook::default(),
        line: chain.line,
    }
}

/// Gives the chain its gateways: those that it names, and those with its labels.
fn claim_gateways(chain: &DraftChain, index: usize, gateways: &mut [DraftGateway], joined: &[Chain], notes: &Notes<'_>) {
    for wanted in &chain.gateways {
        if let Some(found) = resolve(wanted, gateways, "gateway", notes) {
            claim(&mut gateways[found].1, index, chain, &wanted.span, joined, notes);
        }
    }
    let Some(labels) = &chain.labels else { return };
    let mut found = 0;
    for (_, gateway, ..) in gateways.iter_mut() {
        if labels.value.iter().all(|(key, value)| gateway.labels.get(key) == Some(value)) && !gateway.chains.contains(&index) {
            found += 1;
            claim(gateway, index, chain, &labels.span, joined, notes);
        }
    }
    if found == 0 {
        notes.warn(
            "unused",
            labels.span.clone(),
            "no gateway matches these labels",
            "add the labels to a gateway, or list gateways under `gateways`",
        );
    }
}

/// Two chains may share a gateway where ports or realms tell them apart.
fn claim(gateway: &mut Gateway, index: usize, chain: &DraftChain, at: &std::ops::Range<usize>, joined: &[Chain], notes: &Notes<'_>) {
    let covers = |earlier: &&Chain| {
        let ports = earlier.ports.is_empty() || !chain.ports.is_empty() && chain.ports.iter().all(|port| earlier.ports.contains(port));
        let realms =
            earlier.realms.is_empty() || !chain.realms.is_empty() && chain.realms.iter().all(|realm| earlier.realms.contains(realm));
        ports && realms
    };
    if let Some(earlier) = gateway.chains.iter().filter_map(|index| joined.get(*index)).find(covers) {
        let message =
            format!("the gateway `{}` already belongs to the chain `{}`, which accepts all its logins", gateway.name, earlier.name);
        notes.error(
            "gateway-in-two-chains",
            at.clone(),
            message,
            "separate the chains by `ports` or `realms`, or remove the gateway from one",
        );
        return;
    }
    if !gateway.chains.contains(&index) {
        gateway.chains.push(index);
    }
}

fn resolve_source(
    wanted: &At<String>,
    directories: &[DraftDirectory],
    upstreams: &[DraftUpstream],
    notes: &Notes<'_>,
) -> Option<SourceRef> {
    if wanted.value == "roster" {
        return Some(SourceRef::Roster);
    }
    let directory = directories.iter().position(|(name, ..)| name.value == wanted.value).map(SourceRef::Directory);
    let found = directory.or_else(|| upstreams.iter().position(|(name, ..)| name.value == wanted.value).map(SourceRef::Upstream));
    if found.is_none() {
        let upstreams = upstreams.iter().map(|(name, ..)| name.value.as_str());
        let names: Vec<&str> = directories.iter().map(|(name, ..)| name.value.as_str()).chain(upstreams).chain(["roster"]).collect();
        not_found(wanted, "source", &names, notes);
    }
    found
}

fn find_factor(name: &str, couriers: &[DraftCourier], upstreams: &[DraftUpstream]) -> Option<FactorKind> {
    let code = CodeKind::ALL.iter().find(|kind| kind.name() == name).map(|kind| FactorKind::Code(*kind));
    let handset = || [("approval", FactorKind::Approval), ("key", FactorKind::Key)].into_iter().find(|(own, _)| *own == name);
    let courier = || couriers.iter().position(|(own, ..)| own.value == name).map(FactorKind::Courier);
    let upstream = || upstreams.iter().position(|(own, ..)| own.value == name).map(FactorKind::Upstream);
    code.or_else(|| handset().map(|(_, kind)| kind)).or_else(courier).or_else(upstream)
}

fn resolve_factor(wanted: &At<String>, couriers: &[DraftCourier], upstreams: &[DraftUpstream], notes: &Notes<'_>) -> Option<FactorKind> {
    let found = find_factor(&wanted.value, couriers, upstreams);
    if found.is_none() {
        let codes = CodeKind::ALL.iter().map(|kind| kind.name()).chain(["approval", "key"]);
        let couriers = couriers.iter().map(|(name, ..)| name.value.as_str());
        let names: Vec<&str> = codes.chain(couriers).chain(upstreams.iter().map(|(name, ..)| name.value.as_str())).collect();
        not_found(wanted, "factor", &names, notes);
    }
    found
}

/// The words by which people choose a factor: the site's own spelling, and for couriers without one what they carry codes by.
fn factor_words(
    chain: &DraftChain,
    second: &[FactorKind],
    couriers: &[DraftCourier],
    upstreams: &[DraftUpstream],
    notes: &Notes<'_>,
) -> Vec<FactorWord> {
    let mut words: Vec<FactorWord> = Vec::new();
    for (factor, spelt) in &chain.words {
        let means = find_factor(&factor.value, couriers, upstreams).filter(|kind| second.contains(kind));
        let Some(means) = means.filter(|kind| matches!(kind, FactorKind::Courier(_)) || kind.is_on_handset()) else {
            let message = format!("`{}` is not a courier or approval listed under `second` of this chain", factor.value);
            notes.error("name-not-found", factor.span.clone(), message, "words can select only couriers and approvals; add it to `second`");
            continue;
        };
        for word in spelt {
            if words.iter().any(|other| other.word.eq_ignore_ascii_case(&word.value)) || word.value.is_empty() {
                let message = format!("the word `{}` is empty or used for two factors", word.value);
                notes.error("repeated", word.span.clone(), message, "give each factor its own words");
            } else {
                words.push(FactorWord { word: word.value.clone(), means });
            }
        }
    }
    for kind in second {
        let word = match kind {
            FactorKind::Courier(index) => couriers.get(*index).map(|(_, courier, _)| courier.carries.name()),
            FactorKind::Approval => Some("approve"),
            FactorKind::Key => Some("key"),
            FactorKind::Code(_) | FactorKind::Upstream(_) => None,
        };
        let Some(word) = word else { continue };
        if !words.iter().any(|other| other.means == *kind || other.word.eq_ignore_ascii_case(word)) {
            words.push(FactorWord { word: word.to_owned(), means: *kind });
        }
    }
    words
}

pub(super) fn not_found(wanted: &At<String>, what: &str, names: &[&str], notes: &Notes<'_>) {
    let remedy = did_you_mean(&wanted.value, names.iter().copied()).unwrap_or_else(|| format!("known: {}", quoted(names)));
    notes.error("name-not-found", wanted.span.clone(), format!("unknown {what} `{}`", wanted.value), remedy);
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
            format!("unknown chain `{}`", wanted.value),
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
        notes.error("name-not-found", wanted.span.clone(), format!("unknown {what} `{}`", wanted.value), remedy);
    }
    found
}

/// A section that has a name with a place.
pub(crate) trait Named {
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

impl Named for DraftRehearsal {
    fn name(&self) -> &At<String> {
        &self.name
    }
}

impl Named for DraftChain {
    fn name(&self) -> &At<String> {
        &self.name
    }
}
