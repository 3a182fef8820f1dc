//! Rehearsals: begun, looked at while they go on, compared, reported; and first ones written from the site.

use super::ApiState;
use super::auth::Operator;
use super::explain::no_chain;
use super::logins::in_force;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_api::operators::Role;
use bivector_api::runs::{RehearsalView, RehearsedView, RunChanges, RunRequest};
use bivector_core::login::{PasswordAnswer, PersonAnswer};
use bivector_engine::live::LiveSite;
use bivector_engine::shared::Shared;
use bivector_explain::run::{Run, changes};
use bivector_explain::starter::{Cast, starter};
use bivector_prove::rehearsal::{Asked, MOST_PARALLEL, PARALLEL, begin};
use bivector_site::SourceRef;
use bivector_site::rehearsal::{Persona, Rehearsal};
use bivector_wire::Secret;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Times that a run may repeat its list.
const MOST_REPEATS: u32 = 10_000;
/// Runs that are listed.
const LISTED: u32 = 50;

/// Which runs to list.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub(super) struct RunFilter {
    /// Of this rehearsal only.
    pub rehearsal: Option<String>,
}

/// Which run to compare with.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub(super) struct Against {
    /// Its number; the newest run of the same rehearsal before this one that came to its end, if left out.
    pub run: Option<u64>,
}

/// Which report to make.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub(super) struct ReportAs {
    /// `html`, `json` or `junit`.
    pub format: Option<String>,
}

/// For which chain to write a rehearsal.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct StarterOf {
    /// The chain's name.
    pub chain: String,
}

/// The rehearsals of the active site.
#[utoipa::path(get, operation_id = "rehearsals_list", path = "/rehearsals", tag = "rehearsals", responses((status = 200, body = [RehearsalView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<RehearsalView>>, Problem> {
    let Some(live) = state.shared.live.load_full() else { return Ok(Json(Vec::new())) };
    let mut views = Vec::new();
    for rehearsal in &live.site.rehearsals {
        let last = state.shared.records.runs(Some(rehearsal.name.clone()), 1).await?.pop();
        let last = last.map(|last| state.shared.runs.under_way(last.id).map(|run| Run { results: Vec::new(), ..run }).unwrap_or(last));
        views.push(view(rehearsal, &live, last));
    }
    Ok(Json(views))
}

fn view(rehearsal: &Rehearsal, live: &LiveSite, last: Option<Run>) -> RehearsalView {
    let site = &live.site;
    let logins = rehearsal.logins.iter().map(|login| RehearsedView {
        title: login.title.clone(),
        persona: site.personas.get(login.persona).map(|persona| persona.name.clone()).unwrap_or_default(),
        via: site.gateways.get(login.via).map(|gateway| gateway.name.clone()).unwrap_or_default(),
        expected: login.expect.said(),
        twist: login.twist.map(|twist| twist.word().to_owned()),
    });
    RehearsalView { name: rehearsal.name.clone(), logins: logins.collect(), line: rehearsal.line, last }
}

/// A rehearsal by its name, or why there is none.
pub(super) fn named(live: &LiveSite, name: &str) -> Result<Rehearsal, Problem> {
    live.site.rehearsals.iter().find(|rehearsal| rehearsal.name == name).cloned().ok_or_else(|| {
        let names: Vec<&str> = live.site.rehearsals.iter().map(|rehearsal| rehearsal.name.as_str()).collect();
        let remedy = match names.is_empty() {
            true => "`bivector rehearse --starter CHAIN` writes a first one; put it into the site file".to_owned(),
            false => format!("known: {}", names.join(", ")),
        };
        Problem::not_found(format!("unknown rehearsal `{name}`"), remedy)
    })
}

/// Begins a run. It goes on by itself; `run` events tell how far it is.
#[utoipa::path(post, operation_id = "rehearsals_run", path = "/rehearsals/{name}/runs", tag = "rehearsals", params(("name" = String, Path)),
    request_body = RunRequest, responses((status = 202, body = Run), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn run(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<RunRequest>,
) -> Result<(StatusCode, Json<Run>), Problem> {
    operator.may(Role::Operate)?;
    let live = in_force(&state)?;
    let rehearsal = named(&live, &name)?;
    let (repeat, parallel) = (request.repeat.unwrap_or(1), request.parallel.unwrap_or(PARALLEL));
    if !(1..=MOST_REPEATS).contains(&repeat) || !(1..=MOST_PARALLEL).contains(&parallel) {
        let title = format!("`repeat` is {repeat} and `parallel` is {parallel}; allowed: 1 to {MOST_REPEATS} and 1 to {MOST_PARALLEL}");
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "rehearsal", title, "choose numbers in the range"));
    }
    let asked = Asked { rehearsal, live, draft: false, operator: operator.name.clone(), repeat, parallel, without: None };
    let id = begin(&state.shared, asked).await?;
    operator.did(&state, "rehearsal.run", format!("{name}, run {id}")).await?;
    Ok((StatusCode::ACCEPTED, Json(find(&state, id).await?)))
}

/// A run by its number, as far as it is.
async fn find(state: &ApiState, id: u64) -> Result<Run, Problem> {
    if let Some(run) = state.shared.runs.under_way(id) {
        return Ok(run);
    }
    let none = || Problem::not_found(format!("there is no run {id}"), "see `bivector rehearse --runs`");
    state.shared.records.run(id).await?.ok_or_else(none)
}

/// Runs, newest first, without their results.
#[utoipa::path(get, operation_id = "runs_list", path = "/runs", tag = "rehearsals", params(RunFilter), responses((status = 200, body = [Run])))]
pub(super) async fn runs(State(state): State<ApiState>, _: Operator, Query(filter): Query<RunFilter>) -> Result<Json<Vec<Run>>, Problem> {
    let under_way = state.shared.runs.all();
    let mut runs = state.shared.records.runs(filter.rehearsal, LISTED).await?;
    for run in &mut runs {
        if let Some(now) = under_way.iter().find(|now| now.id == run.id) {
            *run = now.clone();
        }
    }
    Ok(Json(runs))
}

/// One run, with everything that came of it so far.
#[utoipa::path(get, operation_id = "runs_show", path = "/runs/{id}", tag = "rehearsals", params(("id" = u64, Path)),
    responses((status = 200, body = Run), (status = 404, body = Problem)))]
pub(super) async fn show(State(state): State<ApiState>, _: Operator, Path(id): Path<u64>) -> Result<Json<Run>, Problem> {
    Ok(Json(find(&state, id).await?))
}

/// Ends a run under way. What came of its logins so far is kept.
#[utoipa::path(delete, operation_id = "runs_interrupt", path = "/runs/{id}", tag = "rehearsals", params(("id" = u64, Path)),
    responses((status = 204, description = "it ends"), (status = 404, body = Problem)))]
pub(super) async fn interrupt(State(state): State<ApiState>, operator: Operator, Path(id): Path<u64>) -> Result<StatusCode, Problem> {
    operator.may(Role::Operate)?;
    match state.shared.runs.interrupt(id) {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(Problem::not_found(format!("run {id} is not in progress"), "see `bivector rehearse --runs`")),
    }
}

/// What changed since an earlier run.
#[utoipa::path(get, operation_id = "runs_changes", path = "/runs/{id}/changes", tag = "rehearsals", params(("id" = u64, Path), Against),
    responses((status = 200, body = RunChanges), (status = 404, body = Problem)))]
pub(super) async fn compare(
    State(state): State<ApiState>,
    _: Operator,
    Path(id): Path<u64>,
    Query(against): Query<Against>,
) -> Result<Json<RunChanges>, Problem> {
    let later = find(&state, id).await?;
    let earlier = match against.run {
        Some(earlier) => Some(find(&state, earlier).await?),
        None => state.shared.records.run_before(later.rehearsal.clone(), id).await?,
    };
    let changes = earlier.as_ref().map(|earlier| changes(earlier, &later)).unwrap_or_default();
    Ok(Json(RunChanges { earlier: earlier.map(|earlier| Run { results: Vec::new(), ..earlier }), changes }))
}

/// A dated report of a run.
#[utoipa::path(get, operation_id = "runs_report", path = "/runs/{id}/report", tag = "rehearsals", params(("id" = u64, Path), ReportAs),
    responses((status = 200, description = "HTML, JSON, or XML for pipelines that read JUnit's"), (status = 404, body = Problem), (status = 400, body = Problem)))]
pub(super) async fn report(
    State(state): State<ApiState>,
    _: Operator,
    Path(id): Path<u64>,
    Query(wanted): Query<ReportAs>,
) -> Result<Response, Problem> {
    let run = find(&state, id).await?;
    let (kind, end, text) = match wanted.format.as_deref().unwrap_or("html") {
        "html" => ("text/html; charset=utf-8", "html", run.html()),
        "json" => ("application/json", "json", serde_json::to_string_pretty(&run).unwrap_or_default()),
        "junit" => ("application/xml", "xml", run.junit()),
        other => {
            let title = format!("unknown report format `{other}`");
            return Err(Problem::new(StatusCode::BAD_REQUEST, "report", title, "known: html, json, junit"));
        }
    };
    let name = format!("attachment; filename=\"rehearsal-{id}.{end}\"");
    Ok(([(header::CONTENT_TYPE, kind.to_owned()), (header::CONTENT_DISPOSITION, name)], text).into_response())
}

/// A first rehearsal for a chain, written from the site: to be put into the site file.
#[utoipa::path(get, operation_id = "rehearsals_starter", path = "/rehearsals/starter", tag = "rehearsals", params(StarterOf),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404, body = Problem)))]
pub(super) async fn write_starter(
    State(state): State<ApiState>,
    operator: Operator,
    Query(of): Query<StarterOf>,
) -> Result<String, Problem> {
    operator.may(Role::Operate)?;
    let live = in_force(&state)?;
    let Some(chain) = live.site.chains.iter().position(|chain| chain.name == of.chain) else {
        return Err(no_chain(&live.site, &of.chain));
    };
    if live.site.personas.is_empty() {
        let remedy = "add `[[personas]]` to the site file, for example `name = \"ines\"`, `password = \"persona/ines\"`, `token = true`";
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "rehearsal", "the site has no persona that can log in", remedy));
    }
    let mut cast = Vec::new();
    for (index, persona) in live.site.personas.iter().enumerate() {
        cast.push(look_up(index, persona, chain, &live, &state.shared).await);
    }
    Ok(starter(&live.site, chain, &cast))
}

/// What the sources of a chain know of a persona, and whether its right password would be taken.
async fn look_up(index: usize, persona: &Persona, chain: usize, live: &LiveSite, shared: &Shared) -> Cast {
    let password = password_of(persona, shared);
    let digits = |password: &Secret<String>| password.expose().bytes().rev().take_while(u8::is_ascii_digit).count() >= 6;
    let mut cast = Cast { persona: index, known: None, refused: None, digits_behind: password.as_ref().is_some_and(digits) };
    let Some(chain) = live.site.chains.get(chain) else { return cast };
    let name = chain.identity.read(persona.login.as_bytes()).map_or_else(|_| persona.login.clone(), |read| read.name);
    let name = name.split('@').next().unwrap_or(&name).to_owned();
    for first in &chain.first {
        let source = live.site.source_name(first.source).to_owned();
        match bivector_engine::driver::find(first.source, &name, live, &shared.roster).await.value {
            PersonAnswer::Found(person) => {
                if let Some(password) = password.clone()
                    && let SourceRef::Directory(at) = first.source
                    && let Some(directory) = live.directories.get(at)
                    && let PasswordAnswer::Refused(cause) = directory.check(&person, &password).await.value
                {
                    cast.refused = Some(cause.slug());
                }
                cast.known = Some((source, Arc::unwrap_or_clone(person)));
                return cast;
            }
            PersonAnswer::Refused(cause) => {
                cast.refused = Some(cause.slug());
                return cast;
            }
            PersonAnswer::NoSuchPerson | PersonAnswer::Ambiguous { .. } | PersonAnswer::Unavailable(_) => {}
        }
    }
    cast
}

fn password_of(persona: &Persona, shared: &Shared) -> Option<Secret<String>> {
    let sealed = shared.records.sealed_secrets().ok()?;
    let bytes = bivector_engine::live::open_secret(persona.password.as_deref()?, &sealed, &shared.seal).ok()?;
    String::from_utf8(bytes.expose().clone()).ok().map(Secret::new)
}
