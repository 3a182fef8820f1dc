//! Chains as their hops, each with its live state: what the eye needs on one page.

use super::ApiState;
use super::auth::Operator;
use super::problem::Problem;
use axum::Json;
use axum::extract::State;
use bivector_api::chains::{ChainView, HopKind, HopView};
use bivector_api::directories::Health;
use bivector_engine::live::LiveSite;
use bivector_model::device::CodeKind;
use bivector_model::trace::{Outcome, Tone};
use bivector_site::{Chain, CourierBy, FactorKind, FirstSource, Site, SourceRef, SourceWhen};
use bivector_store::clock;
use bivector_store::records::Newest;
use std::collections::HashMap;

/// All chains of the active site.
#[utoipa::path(get, operation_id = "chains_list", path = "/chains", tag = "chains", responses((status = 200, body = [ChainView]), (status = 500, body = Problem)))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<ChainView>>, Problem> {
    let Some(live) = state.shared.live.load_full() else { return Ok(Json(Vec::new())) };
    let day_ago = clock::now().micros().saturating_sub(86_400_000_000);
    let mut counts = state.shared.records.login_counts(day_ago).await?;
    let newest = state.shared.records.newest_by_gateway().await?;
    let view = |(index, chain): (usize, &Chain)| ChainView {
        name: chain.name.clone(),
        line: chain.line,
        hops: hops(index, chain, &live, &newest),
        logins: counts.remove(&chain.name).unwrap_or_default(),
    };
    Ok(Json(live.site.chains.iter().enumerate().map(view).collect()))
}

fn hops(index: usize, chain: &Chain, live: &LiveSite, newest: &HashMap<String, Newest>) -> Vec<HopView> {
    let site = &live.site;
    let gateways = site.gateways.iter().filter(|gateway| gateway.chains.contains(&index)).map(|gateway| {
        let last = newest.get(&gateway.name);
        let (state, said, cause) = match last {
            None => (Tone::Note, "no login received from it yet".to_owned(), None),
            Some(Newest { outcome: Outcome::Silent, cause: Some(cause), .. }) => {
                (Tone::Bad, format!("last packet was dropped: {}", cause.sentence()), Some(*cause))
            }
            Some(_) => (Tone::Good, "receiving logins".to_owned(), None),
        };
        let from = gateway.from.iter().map(bivector_model::addresses::show).chain(gateway.hosts.iter().cloned());
        let mut details = vec![format!("from {}", from.collect::<Vec<_>>().join(", "))];
        details.extend(gateway.labels.iter().map(|(key, value)| format!("{key}: {value}")));
        HopView {
            since_us: last.map(|last| last.began_us),
            remedy: cause.map(|cause| cause.remedy().to_owned()),
            wait_ms: gateway.patience.map(|patience| patience.wait.as_millis() as u64 * u64::from(patience.tries)),
            ..hop(HopKind::Gateway, &gateway.name, state, said, details, gateway.line)
        }
    });
    let mut hops: Vec<HopView> = gateways.collect();
    hops.push(reading(chain));
    hops.extend(chain.first.iter().map(|first| source(first, chain, live)));
    hops.extend(chain.second.iter().map(|kind| factor(*kind, chain, live)));
    if chain.second.is_empty() {
        let said = "no second factor required".to_owned();
        hops.push(hop(HopKind::Factor, "none", Tone::Warn, said, Vec::new(), chain.line));
    }
    hops.push(rules(chain, site));
    hops
}

fn hop(kind: HopKind, name: &str, state: Tone, said: String, details: Vec<String>, line: u32) -> HopView {
    HopView { kind, name: name.to_owned(), state, said, since_us: None, remedy: None, details, servers: Vec::new(), wait_ms: None, line }
}

fn reading(chain: &Chain) -> HopView {
    let methods: Vec<&str> = chain.methods.iter().map(|method| method.name()).collect();
    let mut details: Vec<String> = chain.forms.iter().map(|form| format!("form {form}")).collect();
    details.extend((!chain.realms.is_empty()).then(|| format!("realms {}", chain.realms.join(", "))));
    details.extend(
        (!chain.ports.is_empty()).then(|| format!("ports {}", chain.ports.iter().map(u16::to_string).collect::<Vec<_>>().join(", "))),
    );
    let name = if chain.identity.name.is_empty() { "name unchanged" } else { &chain.identity.name };
    hop(HopKind::Reading, name, Tone::Good, methods.join(", "), details, chain.forms_line)
}

fn source(first: &FirstSource, chain: &Chain, live: &LiveSite) -> HopView {
    let site = &live.site;
    let name = site.source_name(first.source);
    let when = match &first.when {
        SourceWhen::Always => None,
        SourceWhen::Name(pattern) => Some(format!("names matching {pattern}")),
        SourceWhen::Realm(realm) => Some(format!("realm {realm}")),
        SourceWhen::Group(group) => Some(format!("members of {group}")),
    };
    let details = when.into_iter().collect();
    match first.source {
        SourceRef::Directory(index) => {
            let servers = live.directories.get(index).map(|source| source.health()).unwrap_or_default();
            let settings = site.directories.get(index);
            let wait = settings.map(|one| (one.connect_patience + one.answer_patience * 2).as_millis() as u64);
            pooled(HopKind::Source, name, servers, details, wait, settings.map_or(chain.line, |one| one.line))
        }
        SourceRef::Upstream(index) => upstream(HopKind::Source, index, details, live),
        SourceRef::Roster => hop(HopKind::Source, name, Tone::Good, "Bivector's own records".into(), details, chain.line),
    }
}

fn factor(kind: FactorKind, chain: &Chain, live: &LiveSite) -> HopView {
    match kind {
        FactorKind::Code(kind) => {
            let codes = live.site.codes;
            let said = match kind {
                CodeKind::Totp => {
                    format!("TOTP, window ±{} {}", codes.window, if codes.window == 1 { "step" } else { "steps" })
                }
                CodeKind::Hotp => format!("HOTP, look-ahead {}", codes.look_ahead),
                CodeKind::Recovery => "recovery codes, single use".to_owned(),
                CodeKind::Temporary => "temporary codes issued by an operator".to_owned(),
            };
            hop(HopKind::Factor, kind.name(), Tone::Good, said, Vec::new(), chain.line)
        }
        FactorKind::Courier(index) => {
            let Some(courier) = live.site.couriers.get(index) else {
                return hop(HopKind::Factor, "?", Tone::Note, String::new(), Vec::new(), chain.line);
            };
            let by = match &courier.by {
                CourierBy::Http { url, .. } => url.split(['?', '{']).next().unwrap_or_default().to_owned(),
                CourierBy::Smtp { server, .. } => server.url.clone(),
            };
            let last = live.couriers.get(index).map(|source| source.last()).unwrap_or_default();
            let (state, said) = match last {
                None => (Tone::Note, "nothing sent yet".to_owned()),
                Some((at, Ok(()))) => (Tone::Good, format!("accepted the last code {} s ago", clock::now().since(at).as_secs())),
                Some((at, Err(why))) => {
                    (Tone::Bad, format!("failed to send the last code {} s ago: {why}", clock::now().since(at).as_secs()))
                }
            };
            let details = vec![format!("codes by {}", courier.carries.name()), by];
            let wait_ms = Some(courier.patience.as_millis() as u64);
            HopView { wait_ms, ..hop(HopKind::Factor, &courier.name, state, said, details, courier.line) }
        }
        FactorKind::Approval | FactorKind::Key => {
            let with_key = kind == FactorKind::Key;
            let mut says = vec![format!("the user must answer within {} s", chain.second_patience.as_secs())];
            if with_key {
                says.push("with a security key".to_owned());
            }
            if chain.match_number {
                says.push("with the number that the gateway shows, where it shows prompts".to_owned());
            }
            let wait_ms = Some(chain.second_patience.as_millis() as u64);
            let said = "asks on the person's handset page".to_owned();
            HopView { wait_ms, ..hop(HopKind::Factor, live.site.factor_name(kind), Tone::Good, said, says, chain.line) }
        }
        FactorKind::Upstream(index) => upstream(HopKind::Factor, index, vec!["checks the code".into()], live),
    }
}

fn upstream(kind: HopKind, index: usize, details: Vec<String>, live: &LiveSite) -> HopView {
    let settings = live.site.upstreams.get(index);
    let servers = live.upstreams.get(index).map(|source| source.health()).unwrap_or_default();
    let wait = settings.map(|one| (one.wait * one.tries).as_millis() as u64);
    pooled(kind, settings.map_or("?", |one| one.name.as_str()), servers, details, wait, settings.map_or(0, |one| one.line))
}

/// A hop with servers is as well as logins are: good while all answer, to be looked at while one does, bad when none does.
fn pooled(kind: HopKind, name: &str, servers: Vec<Health>, details: Vec<String>, wait_ms: Option<u64>, line: u32) -> HopView {
    let bad: Vec<&Health> = servers.iter().filter(|server| server.state == Tone::Bad).collect();
    let unknown = servers.iter().filter(|server| server.state == Tone::Note).count();
    let (state, said) = match (bad.first(), bad.len()) {
        (None, _) if unknown == servers.len() => (Tone::Note, "not checked yet".to_owned()),
        (None, _) => (Tone::Good, format!("{} of {} servers available", servers.len() - unknown, servers.len())),
        (Some(first), count) if count < servers.len() => (Tone::Warn, format!("{}: {}", first.server, first.said)),
        (Some(first), _) => (Tone::Bad, format!("no server is available; {}: {}", first.server, first.said)),
    };
    let remedy = bad.first().and_then(|server| server.cause).map(|cause| cause.remedy().to_owned());
    let since_us = bad.first().or(servers.first().as_ref()).map(|server| server.since_us);
    HopView { since_us, remedy, servers, wait_ms, ..hop(kind, name, state, said, details, line) }
}

fn rules(chain: &Chain, site: &Site) -> HopView {
    use bivector_model::rule::Then;
    let details = chain.rules.rules().iter().map(|rule| match &rule.then {
        Then::Grant(grant) => {
            format!("{}: {} gets {}", rule.name, rule.when, site.grants.get(*grant).map_or("?", |grant| grant.name.as_str()))
        }
        Then::Refuse(reason) => format!("{}: {} refused ({reason})", rule.name, rule.when),
    });
    let details: Vec<String> = details.collect();
    let lets_in = chain.rules.rules().iter().any(|rule| matches!(rule.then, Then::Grant(_)));
    let (state, said) = match lets_in {
        true => (Tone::Good, format!("{} {}; the first match decides", details.len(), if details.len() == 1 { "rule" } else { "rules" })),
        false => (Tone::Warn, "no rule grants access".to_owned()),
    };
    hop(HopKind::Rules, "rules", state, said, details, chain.line)
}
