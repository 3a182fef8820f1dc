//! Explaining: locate, replay, who can get in, rules on made-up people, drills.

use super::ApiState;
use super::auth::Operator;
use super::logins::{gateway_named, in_force};
use super::problem::{Body, Problem};
use super::rehearsals::named;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::explain::{
    DrillRequest, Drilled, ReplayRequest, RuleSaid, RuleTried, RuleTry, Slower, WhoPeople, WhoPerson, WhoRule, WhoView,
};
use bivector_api::logins::TriedMethod;
use bivector_api::operators::Role;
use bivector_api::traces::TraceRow;
use bivector_core::login::{Factors, FactorsAnswer, Found, PersonAnswer};
use bivector_core::replay::{Ending, Recorded, Replayed, Tally, again};
use bivector_engine::live::{LiveSite, known, open_secret};
use bivector_explain::ladder::Ladder;
use bivector_explain::run::{Run, changes};
use bivector_model::Cause;
use bivector_model::Moment;
use bivector_model::condition::{Circumstances, LocalTime};
use bivector_model::facts::Facts;
use bivector_model::identity::realm_of;
use bivector_model::rule::{Decision, Groups, Then};
use bivector_prove::drill::without;
use bivector_prove::locate::{Sought, locate as climb};
use bivector_prove::rehearsal::{Asked, PARALLEL, run};
use bivector_site::{Carries, Chain, FactorKind, Site, SourceRef};
use bivector_store::error::ServiceError;
use bivector_wire::Secret;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::ToSchema;

/// Logins that are decided again at one time.
const REPLAYED_AT_ONCE: u32 = 5_000;
/// Logins that one replay decides, at most.
const MOST_REPLAYED: u32 = 1_000_000;
/// People who are named of each rule where not everybody is asked for.
const NAMED: usize = 20;

pub(super) fn no_chain(site: &Site, wanted: &str) -> Problem {
    let names: Vec<&str> = site.chains.iter().map(|chain| chain.name.as_str()).collect();
    Problem::not_found(format!("unknown chain `{wanted}`"), format!("known: {}", names.join(", ")))
}

/// Whose login to look at.
#[derive(Deserialize, ToSchema)]
pub(super) struct LocateRequest {
    /// The name as it would be typed.
    person: String,
    /// The gateway that it comes through.
    via: String,
    /// What would be typed in the password field; left out, the password is not tried.
    #[serde(default)]
    password: Option<String>,
    /// The persona whose sealed password is used instead.
    #[serde(default)]
    persona: Option<String>,
    /// How the gateway sends the password.
    #[serde(default)]
    method: TriedMethod,
}

/// Looks at the layers behind a login, from the back to the front, and stops at the first that is broken.
#[utoipa::path(post, operation_id = "locate", path = "/locate", tag = "explain", request_body = LocateRequest,
    responses((status = 200, body = Ladder), (status = 404, body = Problem)))]
pub(super) async fn locate(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<LocateRequest>,
) -> Result<Json<Ladder>, Problem> {
    let mut typed = request.password.map(Secret::new);
    operator.may(Role::Operate)?;
    let live = in_force(&state)?;
    let gateway = gateway_named(&live, &request.via)?;
    if let Some(wanted) = &request.persona {
        let persona = live.site.personas.iter().find(|persona| persona.name == *wanted);
        let secret = persona.and_then(|persona| persona.password.clone());
        let secret = secret
            .ok_or_else(|| Problem::not_found(format!("unknown persona `{wanted}` with a password"), "see `personas` of the site"))?;
        let opened = open_secret(&secret, &state.shared.records.sealed_secrets()?, &state.shared.seal)?;
        typed = String::from_utf8(opened.expose().clone()).ok().map(Secret::new);
    }
    let doors = state.doors.addresses().await;
    let sought = Sought { person: request.person, gateway, typed, method: request.method.into() };
    Ok(Json(climb(&state.shared, &live, &doors, &sought).await?))
}

/// Decides recorded logins again under a site file. Nothing is sent, asked or changed.
#[utoipa::path(post, operation_id = "site_replay", path = "/site/replay", tag = "explain", request_body = ReplayRequest,
    responses((status = 200, body = Replayed), (status = 422, body = Problem)))]
pub(super) async fn replay(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<ReplayRequest>,
) -> Result<Json<Replayed>, Problem> {
    operator.may(Role::Operate)?;
    let (site, findings) = Site::read(&request.text, &known(&state.shared.records, &state.shared.roster, &state.shared.data)?);
    let site = Arc::new(site.ok_or(ServiceError::Site(findings))?);
    let mut left = request.last.unwrap_or(1000).clamp(1, MOST_REPLAYED);
    let (mut tally, mut before) = (Tally::default(), None);
    while left > 0 {
        let (rows, lowest) = state.shared.records.recorded(request.chain.clone(), before, left.min(REPLAYED_AT_ONCE)).await?;
        let Some(lowest) = lowest else { break };
        left -= rows.len() as u32;
        before = Some(lowest);
        let site = Arc::clone(&site);
        // Deciding takes the processor for itself, so it stays away from the threads that serve.
        tally = tokio::task::spawn_blocking(move || {
            for (row, facts) in rows {
                if let Some(recorded) = recorded(row, facts) {
                    tally.add(&recorded, again(&site, &recorded));
                }
            }
            tally
        })
        .await
        .map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "replay", "the replay was stopped", ""))?;
    }
    Ok(Json(tally.done()))
}

fn recorded(row: TraceRow, facts: Option<Facts>) -> Option<Recorded> {
    Some(Recorded {
        began: Moment::from_micros(row.began_us),
        sender: row.sender.parse().ok()?,
        ending: Ending::new(row.outcome, row.cause, row.grant, row.waived.is_some()),
        reference: row.reference,
        origin: row.origin,
        gateway: row.gateway,
        chain: row.chain,
        typed_name: row.typed_name,
        login: row.login,
        method: row.method,
        facts,
    })
}

/// How many people to name.
#[derive(Debug, Clone, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub(super) struct WhoFilter {
    /// Everybody.
    all: bool,
}

/// The people whom each rule of a chain admits, how many have a factor, who is left out and why.
#[utoipa::path(get, operation_id = "chains_who", path = "/chains/{name}/who", tag = "explain", params(("name" = String, Path), WhoFilter),
    responses((status = 200, body = WhoView), (status = 404, body = Problem)))]
pub(super) async fn who(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    axum::extract::Query(filter): axum::extract::Query<WhoFilter>,
) -> Result<Json<WhoView>, Problem> {
    operator.may(Role::Operate)?;
    let live = in_force(&state)?;
    let at = live.site.chains.iter().position(|chain| chain.name == name).ok_or_else(|| no_chain(&live.site, &name))?;
    let chain = &live.site.chains[at];
    let (people, unknown) = everybody(&state, &live, chain).await;
    let gateways: Vec<_> = live.site.gateways.iter().filter(|gateway| gateway.chains.contains(&at)).collect();
    let mut rules = who_rules(&live.site, chain, &gateways);
    let mut left_out = WhoPeople::default();
    for (source, person) in &people {
        let view = who_person(&state, chain, &live.site, source, person);
        // A rule by labels decides for some gateways only: the person stands at each rule that decides for one of them.
        let mut lines: Vec<Option<u32>> = gateways
            .iter()
            .map(|gateway| match chain.rules.decide(&person.groups, &gateway.labels) {
                Decision::Passed(_, rule) | Decision::Refused(rule, _) => Some(rule.line),
                Decision::NoRule => None,
            })
            .collect();
        lines.sort_unstable();
        lines.dedup();
        for line in lines {
            let found = line.and_then(|line| rules.iter_mut().find(|rule| rule.line == line));
            add_person(found.map_or(&mut left_out, |rule| &mut rule.people), &view, filter.all);
        }
    }
    Ok(Json(WhoView { chain: name, rules, left_out, unknown }))
}

/// The rules of a chain, with nobody at them yet.
fn who_rules(site: &Site, chain: &Chain, gateways: &[&bivector_site::Gateway]) -> Vec<WhoRule> {
    chain
        .rules
        .rules()
        .iter()
        .map(|rule| WhoRule {
            name: rule.name.clone(),
            when: rule.when.to_string(),
            grant: match rule.then {
                Then::Grant(grant) => site.grants.get(grant).map(|grant| grant.name.clone()),
                Then::Refuse(_) => None,
            },
            line: rule.line,
            gateways: match rule.when.labels.is_empty() {
                true => Vec::new(),
                false => {
                    let has = |gateway: &&&bivector_site::Gateway| {
                        rule.when.labels.iter().all(|(key, value)| gateway.labels.get(key) == Some(value))
                    };
                    gateways.iter().filter(has).map(|gateway| gateway.name.clone()).collect()
                }
            },
            people: WhoPeople::default(),
        })
        .collect()
}

/// Counts a person at a rule, and names them where there is room or everybody is asked for.
fn add_person(people: &mut WhoPeople, view: &WhoPerson, all: bool) {
    people.count += 1;
    people.with_factor += u64::from(!view.factors.is_empty());
    if all || people.named.len() < NAMED {
        people.named.push(view.clone());
    }
}

/// Everybody whom the sources of a chain know; a person known to an earlier source is not asked of a later one.
async fn everybody(state: &ApiState, live: &LiveSite, chain: &Chain) -> (Vec<(String, Found)>, Vec<String>) {
    let (mut people, mut unknown): (BTreeMap<String, (String, Found)>, _) = (BTreeMap::new(), Vec::new());
    for first in &chain.first {
        let name = live.site.source_name(first.source).to_owned();
        let found = match first.source {
            SourceRef::Roster => {
                let own = state.shared.roster.all();
                let own = own.iter().filter(|person| person.source == "roster").map(|person| Found {
                    key: format!("roster:{}", person.login),
                    login: person.login.clone(),
                    name: person.name.clone(),
                    handle: String::new(),
                    groups: Groups::new(person.groups.iter().map(String::as_str)),
                    mail: person.mail.clone(),
                    phone: person.phone.clone(),
                    language: person.language.clone(),
                });
                own.collect()
            }
            SourceRef::Directory(index) => match live.directories.get(index) {
                Some(directory) => match directory.everybody().await.value {
                    Ok(found) => found,
                    Err(why) => {
                        unknown.push(format!("{name}: {}", why.seen));
                        continue;
                    }
                },
                None => continue,
            },
            SourceRef::Upstream(_) => {
                unknown.push(format!("{name} is an upstream; its people cannot be listed"));
                continue;
            }
        };
        for person in found {
            people.entry(person.login.to_lowercase()).or_insert_with(|| (name.clone(), person));
        }
    }
    (people.into_values().collect(), unknown)
}

fn who_person(state: &ApiState, chain: &Chain, site: &Site, source: &str, person: &Found) -> WhoPerson {
    let now = bivector_store::clock::now();
    let mut person = person.clone();
    let suspended = !state.shared.roster.complete(&mut person);
    let factors = match state.shared.roster.factors(&person.key, None, now) {
        FactorsAnswer::Known(factors) => *factors,
        FactorsAnswer::Unavailable(_) => Factors::default(),
    };
    let own = chain.second.iter().filter_map(|kind| match kind {
        FactorKind::Code(kind) => {
            factors.devices.iter().any(|device| device.kind() == *kind && device.can_be_used(now)).then(|| kind.name())
        }
        FactorKind::Approval => (factors.handsets > 0).then_some("approval"),
        FactorKind::Key => (factors.handsets > 0 && factors.keys > 0).then_some("key"),
        FactorKind::Courier(index) => site.couriers.get(*index).and_then(|courier| {
            let reached = if courier.carries == Carries::Mail { &person.mail } else { &person.phone };
            reached.is_some().then_some(courier.name.as_str())
        }),
        FactorKind::Upstream(_) => Some(site.factor_name(*kind)),
    });
    let own: Vec<String> = own.map(str::to_owned).collect();
    let locked = factors.locked_until.filter(|until| *until > now);
    let but = match () {
        () if suspended => Some("suspended here"),
        () if locked.is_some() => Some("locked after wrong codes"),
        () if own.is_empty() && !chain.second.is_empty() => Some("no second factor that the chain accepts"),
        () => None,
    };
    WhoPerson {
        groups: person.groups.names().into_iter().map(str::to_owned).collect(),
        login: person.login,
        name: person.name,
        source: source.to_owned(),
        factors: own,
        but: but.map(str::to_owned),
    }
}

/// Evaluates a made-up login and explains every rule.
#[utoipa::path(post, operation_id = "rules_try", path = "/rules/try", tag = "explain", request_body = RuleTry,
    responses((status = 200, body = RuleTried), (status = 404, body = Problem)))]
pub(super) async fn try_rules(
    State(state): State<ApiState>,
    _: Operator,
    Body(request): Body<RuleTry>,
) -> Result<Json<RuleTried>, Problem> {
    let live = in_force(&state)?;
    let chain = live.site.chains.iter().find(|chain| chain.name == request.chain).ok_or_else(|| no_chain(&live.site, &request.chain))?;
    let labels = match &request.via {
        Some(via) => live.site.gateways[gateway_named(&live, via)?].labels.clone(),
        None => BTreeMap::new(),
    };
    let groups = match &request.person {
        Some(person) => groups_of(&state, &live, chain, person).await?,
        None => Groups::new(request.groups.iter().map(String::as_str)),
    };
    let typed = request.name.as_ref().or(request.person.as_ref());
    let read = typed.map(|typed| (realm_of(typed), chain.identity.read(typed.as_bytes()).map_or_else(|_| typed.clone(), |read| read.name)));
    let time = match &request.at {
        Some(at) => local_time(at)?,
        None => live.site.local_time(bivector_store::clock::now()),
    };
    let caller = match &request.caller {
        Some(caller) => Some(Some(caller.parse().map_err(|_| bad_circumstance(caller, "an IP address"))?)),
        None => None,
    };
    let login = Circumstances {
        groups: Some(&groups),
        labels: request.via.as_ref().map(|_| &labels),
        name: read.as_ref().map(|(_, name)| name.as_str()),
        realm: read.as_ref().map(|(realm, _)| realm.as_str()),
        source: request.source.as_deref(),
        method: request.method.as_deref(),
        factor: request.factor.as_deref(),
        caller,
        gateway: request.via.as_deref(),
        time: Some(time),
        // What is not made up is assumed to fit.
        assumed: true,
        ..Circumstances::default()
    };
    let decision = chain.rules.decide_for(&login);
    let decided = match &decision {
        Decision::Passed(_, rule) | Decision::Refused(rule, _) => Some(rule.line),
        Decision::NoRule => None,
    };
    let rules = chain.rules.rules().iter().map(|rule| {
        let says = match &rule.then {
            Then::Grant(grant) => format!("assigns `{}`", live.site.grants.get(*grant).map_or("?", |grant| grant.name.as_str())),
            Then::Refuse(reason) => format!("refuses: {reason}"),
        };
        let said = match rule.when.misses_for(&login) {
            Some(why) => format!("does not match: {why}"),
            None if decided == Some(rule.line) => format!("decides: {says}"),
            None => format!("would match ({says}), but an earlier rule decides"),
        };
        RuleSaid { name: rule.name.clone(), line: rule.line, decided: decided == Some(rule.line), said }
    });
    let rules = rules.collect();
    let (grant, cause) = match decision {
        Decision::Passed(passed, _) => (live.site.grants.get(passed.grant()).map(|grant| grant.name.clone()), None),
        Decision::Refused(..) => (None, Some(Cause::RuleRefused)),
        Decision::NoRule => (None, Some(Cause::NoRule)),
    };
    Ok(Json(RuleTried { groups: groups.names().into_iter().map(str::to_owned).collect(), grant, cause, rules }))
}

fn bad_circumstance(text: &str, what: &str) -> Problem {
    let status = axum::http::StatusCode::UNPROCESSABLE_ENTITY;
    Problem::new(status, "circumstance", format!("`{text}` is not {what}"), "see `bivector rule try --help`".to_owned())
}

/// A time of the week from a date with a time.
fn local_time(text: &str) -> Result<LocalTime, Problem> {
    let at: jiff::civil::DateTime = text.parse().map_err(|_| bad_circumstance(text, "a time such as 2026-12-01T22:30"))?;
    let weekday = at.weekday().to_monday_zero_offset().unsigned_abs();
    Ok(LocalTime { weekday, minute: u16::from(at.hour().unsigned_abs()) * 60 + u16::from(at.minute().unsigned_abs()) })
}

async fn groups_of(state: &ApiState, live: &LiveSite, chain: &Chain, person: &str) -> Result<Groups, Problem> {
    let name = chain.identity.read(person.as_bytes()).map_or_else(|_| person.to_owned(), |read| read.name);
    let mut down = Vec::new();
    for first in &chain.first {
        match bivector_engine::driver::find(first.source, &name, live, &state.shared.roster).await.value {
            PersonAnswer::Found(person) => return Ok(person.groups.clone()),
            PersonAnswer::Unavailable(why) => down.push(format!("{}: {}", live.site.source_name(first.source), why.seen)),
            _ => {}
        }
    }
    let remedy = if down.is_empty() { "pass `groups` instead".to_owned() } else { down.join("; ") };
    Err(Problem::not_found(format!("no source of the chain knows `{person}`"), remedy))
}

/// Runs a rehearsal with and without a pool member. Nobody else's logins are without it.
#[utoipa::path(post, operation_id = "drills_run", path = "/drills", tag = "explain", request_body = DrillRequest,
    responses((status = 200, body = Drilled), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn drill(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<DrillRequest>,
) -> Result<Json<Drilled>, Problem> {
    operator.may(Role::Operate)?;
    let live = in_force(&state)?;
    let rehearsal = named(&live, &request.rehearsal)?;
    let (drilled, stump) = without(&live, &request.member, request.fails, &state.shared)?;
    let asked = |live: Arc<LiveSite>, without: Option<String>| Asked {
        rehearsal: rehearsal.clone(),
        live,
        draft: false,
        operator: operator.name.clone(),
        repeat: 1,
        parallel: PARALLEL,
        without,
    };
    let with = run(&state.shared, asked(Arc::clone(&live), None)).await?;
    let missing = run(&state.shared, asked(Arc::new(drilled), Some(request.member.clone()))).await?;
    drop(stump);
    operator.did(&state, "drill", format!("{} without {}, run {}", request.rehearsal, request.member, missing.id)).await?;
    let changes = changes(&with, &missing);
    let took = |run: &Run, title: &str| {
        run.results.iter().find(|result| result.title == title).and_then(|result| Some(result.seen.as_ref()?.took_us))
    };
    let slower = missing.results.iter().filter_map(|result| {
        let (before, now) = (took(&with, &result.title)?, took(&missing, &result.title)?);
        (now > before + 250_000).then(|| Slower { title: result.title.clone(), with_us: before, without_us: now })
    });
    let slower = slower.collect();
    Ok(Json(Drilled { with, without: missing, changes, slower }))
}
