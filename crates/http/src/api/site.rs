//! The site: current text, check, apply, history.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::site::Awaiting;
use bivector_api::site::Revision;
use bivector_api::site::{AppliedView, ApplyRequest, CheckRequest, Checked, CompareRequest, Compared, RestoreRequest};
use bivector_engine::live::known;
use bivector_manage::apply::Change;
use bivector_manage::confirm::{await_confirmation, awaiting, confirm};
use bivector_model::text::shown;
use bivector_site::{Known, Severity, Site, compare};
use bivector_store::clock;
use bivector_store::error::ServiceError;
use std::time::Duration;

/// The active site file, with its comments.
#[utoipa::path(get, operation_id = "site_current", path = "/site", tag = "site", responses((status = 200, body = Revision), (status = 404, body = Problem)))]
pub(super) async fn current(State(state): State<ApiState>, _: Operator) -> Result<Json<Revision>, Problem> {
    let number = state.shared.live.load().as_ref().map_or(0, |live| live.revision);
    find(&state, number).await
}

/// The reference of the site file: every section and key, as Markdown.
#[utoipa::path(get, operation_id = "site_reference", path = "/site/reference", tag = "site",
    responses((status = 200, body = String, content_type = "text/markdown")))]
pub(super) async fn reference(_: Operator) -> impl axum::response::IntoResponse {
    ([(axum::http::header::CONTENT_TYPE, "text/markdown; charset=utf-8")], bivector_site::reference_markdown())
}

/// One revision with its text.
#[utoipa::path(get, operation_id = "site_revision", path = "/site/revisions/{number}", tag = "site", params(("number" = u64, Path)),
    responses((status = 200, body = Revision), (status = 404, body = Problem)))]
pub(super) async fn revision(State(state): State<ApiState>, _: Operator, Path(number): Path<u64>) -> Result<Json<Revision>, Problem> {
    find(&state, number).await
}

async fn find(state: &ApiState, number: u64) -> Result<Json<Revision>, Problem> {
    match state.shared.records.revision(number).await? {
        Some(revision) => Ok(Json(revision)),
        None if number == 0 => Err(Problem::not_found("no site is active yet", "apply one with `bivector site apply FILE`")),
        None => Err(Problem::not_found(format!("there is no revision {number}"), "see `bivector site history`")),
    }
}

/// All revisions, newest first, without their texts.
#[utoipa::path(get, operation_id = "site_history", path = "/site/revisions", tag = "site", responses((status = 200, body = [Revision])))]
pub(super) async fn history(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<Revision>>, Problem> {
    Ok(Json(state.shared.records.revisions().await?))
}

/// Checks a site file. Nothing is changed.
#[utoipa::path(post, operation_id = "site_check", path = "/site/check", tag = "site", request_body = CheckRequest, responses((status = 200, body = Checked)))]
pub(super) async fn check(State(state): State<ApiState>, _: Operator, Body(request): Body<CheckRequest>) -> Result<Json<Checked>, Problem> {
    let findings = Site::read(&request.text, &known(&state.shared.records, &state.shared.roster, &state.shared.data)?).1;
    Ok(Json(Checked { sound: !findings.iter().any(|finding| finding.severity == Severity::Error), findings }))
}

/// Checks a site file and puts it active as a new revision.
#[utoipa::path(post, operation_id = "site_apply", path = "/site/revisions", tag = "site", request_body = ApplyRequest,
    responses((status = 201, body = AppliedView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn apply(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<ApplyRequest>,
) -> Result<(StatusCode, Json<AppliedView>), Problem> {
    operator.may(Role::Change)?;
    let before = state.shared.live.load().as_ref().map(|live| live.revision);
    let refused = |title: &str, remedy: &str| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "confirm", title, remedy);
    let within = request.confirm_within_s;
    if within.is_some_and(|seconds| !(10..=86_400).contains(&seconds)) {
        return Err(refused("the confirmation time must be 10 seconds to 24 hours", "choose a time in the range"));
    }
    if within.is_some() && before.is_none() {
        return Err(refused("there is no earlier revision to roll back to", "apply the first one without waiting for a confirmation"));
    }
    keeps_secrets(&state, &operator, &request.text).await?;
    let change = Change {
        text: request.text,
        operator: operator.name.clone(),
        note: request.note.clone(),
        expected: request.expected,
        weaker_is_meant: request.weaker_is_meant,
        while_unconfirmed: false,
        prove: request.prove,
    };
    let mut applied = AppliedView::from(state.doors.apply(change, &state.shared).await?);
    let weaker = if applied.differences.iter().any(|one| one.weaker) { ", weaker and meant so" } else { "" };
    let note = if request.note.is_empty() { String::new() } else { format!(": {}", request.note) };
    operator.did(&state, "site.apply", format!("revision {}{weaker}{note}", applied.revision)).await?;
    if let Some((seconds, back_to)) = within.zip(before) {
        let until_us = clock::now().plus(Duration::from_secs(seconds)).micros();
        let waiting = Awaiting { revision: applied.revision, back_to, until_us };
        await_confirmation(&state.doors, &state.shared, waiting).await?;
        applied.until_us = Some(until_us);
    }
    Ok((StatusCode::CREATED, Json(applied)))
}

/// Whoever may change the site must not learn a secret by having it sent elsewhere. Where a secret that somebody else has sealed would be
/// sent to a new place, only an owner may apply that.
async fn keeps_secrets(state: &ApiState, operator: &Operator, text: &str) -> Result<(), Problem> {
    if operator.role >= Role::Own {
        return Ok(());
    }
    // A text that cannot be read is refused later, with its findings.
    let Some(site) = Site::read(text, &Known::default()).0 else { return Ok(()) };
    let before = state.shared.live.load().as_ref().map(|live| live.site.destinations()).unwrap_or_default();
    let sealed = state.shared.records.secrets().await?;
    let others = |name: &str| sealed.iter().any(|secret| secret.name == name && secret.operator != operator.name);
    let moved = site.destinations().into_iter().find(|to| others(&to.secret) && !before.contains(to));
    let Some(to) = moved else { return Ok(()) };
    let title = format!("this would send the secret `{}` to `{}`, where or as it was not sent before", to.secret, shown(&to.place));
    Err(Problem::new(
        StatusCode::FORBIDDEN,
        "secret-moves",
        title,
        "let an operator with the role `own` apply it, or seal a secret of your own for it",
    ))
}

/// Says that the active revision stays.
#[utoipa::path(post, operation_id = "site_confirm", path = "/site/confirm", tag = "site", responses((status = 200, body = Awaiting), (status = 422, body = Problem)))]
pub(super) async fn confirm_change(State(state): State<ApiState>, operator: Operator) -> Result<Json<Awaiting>, Problem> {
    operator.may(Role::Change)?;
    let waiting = confirm(&state.shared).await?;
    operator.did(&state, "site.confirm", format!("revision {}", waiting.revision)).await?;
    Ok(Json(waiting))
}

/// Restores an earlier revision as a new one.
#[utoipa::path(post, operation_id = "site_restore", path = "/site/revisions/{number}/restore", tag = "site", params(("number" = u64, Path)),
    request_body = RestoreRequest, responses((status = 201, body = AppliedView), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn restore(
    State(state): State<ApiState>,
    operator: Operator,
    Path(number): Path<u64>,
    Body(request): Body<RestoreRequest>,
) -> Result<(StatusCode, Json<AppliedView>), Problem> {
    operator.may(Role::Change)?;
    let Json(revision) = find(&state, number).await?;
    keeps_secrets(&state, &operator, revision.text.as_deref().unwrap_or_default()).await?;
    let waiting = awaiting(&state.shared)?;
    let goes_back = waiting.as_ref().is_some_and(|waiting| waiting.back_to == number);
    let change = Change {
        text: revision.text.unwrap_or_default(),
        operator: operator.name.clone(),
        note: format!("restored revision {number}"),
        expected: request.expected,
        weaker_is_meant: request.weaker_is_meant || goes_back,
        while_unconfirmed: true,
        prove: None,
    };
    let applied = AppliedView::from(state.doors.apply(change, &state.shared).await?);
    if waiting.is_some() {
        confirm(&state.shared).await?;
    }
    operator.did(&state, "site.restore", format!("revision {} is revision {number} again", applied.revision)).await?;
    Ok((StatusCode::CREATED, Json(applied)))
}

/// Says what differs between two site files, in words and in lines. Nothing is changed.
#[utoipa::path(post, operation_id = "site_compare", path = "/site/compare", tag = "site", request_body = CompareRequest,
    responses((status = 200, body = Compared), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn compare_site(
    State(state): State<ApiState>,
    _: Operator,
    Body(request): Body<CompareRequest>,
) -> Result<Json<Compared>, Problem> {
    let in_force = state.shared.live.load().as_ref().map_or(0, |live| live.revision);
    let against = request.against.unwrap_or(in_force);
    let text_of = async |number: u64| find(&state, number).await.map(|Json(revision)| revision.text.unwrap_or_default());
    let old = text_of(against).await?;
    let new = match (request.text, request.revision) {
        (Some(text), _) => text,
        (None, Some(number)) => text_of(number).await?,
        (None, None) => {
            let title = "nothing was given to compare";
            return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "body", title, "send `text` or `revision`"));
        }
    };
    let known = known(&state.shared.records, &state.shared.roster, &state.shared.data)?;
    let read = |text: &str, known: &Known| {
        let (site, findings) = Site::read(text, known);
        site.ok_or(ServiceError::Site(findings))
    };
    // An old revision may name secrets that are forgotten by now; that is no difference.
    let old_site = read(&old, &Known::default())?;
    let lines = similar::TextDiff::from_lines(&old, &new)
        .unified_diff()
        .context_radius(2)
        .header(&format!("revision {against}"), "new")
        .to_string();
    Ok(Json(Compared { against, differences: compare(&old_site, &read(&new, &known)?), lines }))
}
