//! Sessions of gateways.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::body::Body as Stream;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_api::operators::Role;
use bivector_api::sessions::{
    EndRequest, PoolView, ReviewRequest, SessionAnswer, SessionChart, SessionFilter, SessionPage, SessionReview, SessionRow,
};
use bivector_manage::sessions::{self, NotAsked};
use bivector_store::clock;
use futures_util::stream;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Rows of a page, and of an export at once.
const PAGE: (u32, u32) = (100, 1_000);
/// Moments of a chart, at most.
const MOST_SPANS: u64 = 400;
/// Bytes of a reason.
const LONGEST_REASON: usize = 200;

fn bad(title: String, remedy: &str) -> Problem {
    Problem::new(StatusCode::BAD_REQUEST, "filter", title, remedy.to_owned())
}

fn checked(filter: Result<Query<SessionFilter>, QueryRejection>) -> Result<SessionFilter, Problem> {
    let Query(filter) = filter.map_err(|error| bad(error.body_text(), "see /api/v1/openapi.json"))?;
    match filter.state.as_deref() {
        None | Some("open" | "ended" | "lost") => Ok(filter),
        Some(other) => Err(bad(format!("unknown state `{other}`"), "known: open, ended, lost")),
    }
}

fn unknown(id: u64) -> Problem {
    Problem::not_found(format!("there is no session {id}"), "see `bivector session list`")
}

/// A page of sessions, newest first.
#[utoipa::path(get, operation_id = "sessions_list", path = "/sessions", tag = "sessions", params(SessionFilter),
    responses((status = 200, body = SessionPage), (status = 400, body = Problem)))]
pub(super) async fn list(
    State(state): State<ApiState>,
    _: Operator,
    filter: Result<Query<SessionFilter>, QueryRejection>,
) -> Result<Json<SessionPage>, Problem> {
    let mut filter = checked(filter)?;
    let wanted = filter.limit.unwrap_or(PAGE.0).clamp(1, PAGE.1);
    filter.limit = Some(wanted);
    let rows = state.shared.records.sessions(filter).await?;
    let next = rows.last().filter(|_| rows.len() == wanted as usize).map(|row| row.id);
    Ok(Json(SessionPage { sessions: rows, next }))
}

/// All sessions that fit, as JSON lines, newest first.
#[utoipa::path(get, operation_id = "sessions_export", path = "/sessions/export", tag = "sessions", params(SessionFilter),
    responses((status = 200, body = String, content_type = "application/x-ndjson"), (status = 400, body = Problem)))]
pub(super) async fn export(
    State(state): State<ApiState>,
    _: Operator,
    filter: Result<Query<SessionFilter>, QueryRejection>,
) -> Result<Response, Problem> {
    let filter = SessionFilter { limit: Some(PAGE.1), ..checked(filter)? };
    let lines = stream::unfold(Some(filter), move |filter| {
        let shared = Arc::clone(&state.shared);
        async move {
            let filter = filter?;
            let rows = match shared.records.sessions(filter.clone()).await {
                Ok(rows) => rows,
                Err(error) => return Some((Err(std::io::Error::other(error.to_string())), None)),
            };
            let next = rows.last().map(|row| SessionFilter { before: Some(row.id), ..filter });
            let mut text = Vec::new();
            for row in rows {
                // Writing JSON into memory does not fail.
                let _ = serde_json::to_writer(&mut text, &row);
                text.push(b'\n');
            }
            // The first empty page ends it.
            next.as_ref()?;
            Some((Ok(text), next))
        }
    });
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], Stream::from_stream(lines)).into_response())
}

/// What a chart of sessions is about.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ChartOf {
    /// How far back, in seconds.
    last_s: u64,
    /// The time between two figures, in seconds.
    span_s: u64,
    /// One gateway only.
    #[serde(default)]
    gateway: Option<String>,
}

/// Open sessions over time.
#[utoipa::path(get, operation_id = "sessions_chart", path = "/sessions/chart", tag = "sessions", params(ChartOf),
    responses((status = 200, body = SessionChart), (status = 400, body = Problem)))]
pub(super) async fn chart(
    State(state): State<ApiState>,
    _: Operator,
    of: Result<Query<ChartOf>, QueryRejection>,
) -> Result<Json<SessionChart>, Problem> {
    let Query(of) = of.map_err(|error| bad(error.body_text(), "see /api/v1/openapi.json"))?;
    let count = of.last_s.checked_div(of.span_s).unwrap_or_default();
    if count == 0 || count > MOST_SPANS || of.last_s > 3650 * 86_400 {
        return Err(bad(format!("{} s in spans of {} s", of.last_s, of.span_s), "choose at most 400 spans within ten years"));
    }
    let chart = state.shared.records.session_chart(clock::now(), of.span_s * 1_000_000, count + 1, of.gateway).await?;
    Ok(Json(chart))
}

/// One session.
#[utoipa::path(get, operation_id = "sessions_show", path = "/sessions/{id}", tag = "sessions", params(("id" = u64, Path)),
    responses((status = 200, body = SessionRow), (status = 404, body = Problem)))]
pub(super) async fn show(State(state): State<ApiState>, _: Operator, Path(id): Path<u64>) -> Result<Json<SessionRow>, Problem> {
    state.shared.records.session(id).await?.map(Json).ok_or_else(|| unknown(id))
}

/// Asks the gateway to end a session, and tells what it answered.
#[utoipa::path(post, operation_id = "sessions_end", path = "/sessions/{id}/end", tag = "sessions", params(("id" = u64, Path)), request_body = EndRequest,
    responses((status = 200, body = SessionAnswer), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn end(
    State(state): State<ApiState>,
    operator: Operator,
    Path(id): Path<u64>,
    Body(request): Body<EndRequest>,
) -> Result<Json<SessionAnswer>, Problem> {
    operator.may(Role::Operate)?;
    if request.reason.len() > LONGEST_REASON || request.reason.chars().any(char::is_control) {
        return Err(bad("the reason is too long, or has control characters".to_owned(), "write one line of at most 200 bytes"));
    }
    let session = state.shared.records.session(id).await?.ok_or_else(|| unknown(id))?;
    let why = if request.reason.is_empty() { String::new() } else { format!(": {}", request.reason) };
    let asked = format!("ended by {}{why}", operator.name);
    let answer = sessions::end(&state.shared, &session, &asked).await.map_err(not_asked)?;
    operator.did(&state, "session.end", format!("{} of {} at {}{why}: {}", id, session.name, session.gateway, answer.said)).await?;
    Ok(Json(answer))
}

/// The pools of the active site, and how much of each is taken.
#[utoipa::path(get, operation_id = "sessions_pools", path = "/sessions/pools", tag = "sessions", responses((status = 200, body = [PoolView])))]
pub(super) async fn pools(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<PoolView>>, Problem> {
    let Some(live) = state.shared.live.load_full() else { return Ok(Json(Vec::new())) };
    let taken = state.shared.records.pool_use(clock::now()).await?;
    let view = |pool: &bivector_model::pool::AddressPool| PoolView {
        name: pool.name.clone(),
        ranges: pool.ranges.iter().map(ToString::to_string).collect(),
        size: pool.size(),
        taken: taken.iter().find(|(name, _)| *name == pool.name).map_or(0, |(_, taken)| *taken),
    };
    Ok(Json(live.site.pools.iter().map(view).collect()))
}

/// Looks which open sessions the rules of the active site no longer admit, and ends them if that is wanted.
#[utoipa::path(post, operation_id = "sessions_review", path = "/sessions/review", tag = "sessions", request_body = ReviewRequest,
    responses((status = 200, body = SessionReview)))]
pub(super) async fn review(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<ReviewRequest>,
) -> Result<Json<SessionReview>, Problem> {
    operator.may(Role::Operate)?;
    let asked = format!("ended by {}", operator.name);
    let review = sessions::review(&state.shared, request.end, &asked).await?;
    if request.end {
        let ended = review.not_admitted.iter().filter(|one| one.answer.as_ref().is_some_and(|answer| answer.done)).count();
        let said = format!("{ended} of {} sessions that are no longer admitted", review.not_admitted.len());
        operator.did(&state, "session.review", said).await?;
    }
    Ok(Json(review))
}

/// Sends what the grant of a session sets now, and tells what the gateway answered.
#[utoipa::path(post, operation_id = "sessions_change", path = "/sessions/{id}/change", tag = "sessions", params(("id" = u64, Path)),
    responses((status = 200, body = SessionAnswer), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn change(State(state): State<ApiState>, operator: Operator, Path(id): Path<u64>) -> Result<Json<SessionAnswer>, Problem> {
    operator.may(Role::Operate)?;
    let session = state.shared.records.session(id).await?.ok_or_else(|| unknown(id))?;
    let answer = sessions::change(&state.shared, &session).await.map_err(not_asked)?;
    operator.did(&state, "session.change", format!("{} of {} at {}: {}", id, session.name, session.gateway, answer.said)).await?;
    Ok(Json(answer))
}

fn not_asked(error: NotAsked) -> Problem {
    let remedy = error.remedy().to_owned();
    Problem::new(StatusCode::CONFLICT, "not-asked", error.to_string(), remedy)
}
