//! Traces and knocks.

use super::ApiState;
use super::auth::Operator;
use super::problem::Problem;
use crate::records::{Knock, TraceFilter, TraceRow};
use axum::Json;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use bivector_core::Cause;
use bivector_core::trace::Step;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One trace with its steps, its cause in words and the remedy.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TraceView {
    /// The login.
    #[serde(flatten)]
    pub row: TraceRow,
    /// The cause in a sentence.
    pub sentence: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// Its steps in order.
    pub steps: Vec<Step>,
}

impl TraceView {
    pub(super) fn new(row: TraceRow, steps: Vec<Step>) -> Self {
        TraceView {
            sentence: row.cause.map(|cause| cause.sentence().to_owned()),
            remedy: row.cause.map(|cause| cause.remedy().to_owned()),
            row,
            steps,
        }
    }
}

/// A page of traces, newest first.
#[utoipa::path(get, operation_id = "traces_list", path = "/api/v1/traces", tag = "traces", params(TraceFilter), responses((status = 200, body = [TraceRow]), (status = 400, body = Problem)))]
pub(super) async fn list(
    State(state): State<ApiState>,
    _: Operator,
    filter: Result<Query<TraceFilter>, QueryRejection>,
) -> Result<Json<Vec<TraceRow>>, Problem> {
    let bad = |title: String, remedy: String| Problem::new(StatusCode::BAD_REQUEST, "filter", title, remedy);
    let Query(filter) = filter.map_err(|error| bad(error.body_text(), "see /api/v1/openapi.json".into()))?;
    if let Some(cause) = filter.cause.as_deref().filter(|cause| !Cause::ALL.iter().any(|known| known.slug() == *cause)) {
        let slugs: Vec<&str> = Cause::ALL.iter().map(|cause| cause.slug()).collect();
        return Err(bad(format!("there is no cause `{cause}`"), format!("known: {}", slugs.join(", "))));
    }
    if let Some(outcome) = filter.outcome.as_deref().filter(|outcome| !["accepted", "refused", "silent"].contains(outcome)) {
        return Err(bad(format!("there is no outcome `{outcome}`"), "known: accepted, refused, silent".into()));
    }
    Ok(Json(state.shared.records.traces(filter).await?))
}

/// One trace by its reference.
#[utoipa::path(get, operation_id = "traces_show", path = "/api/v1/traces/{reference}", tag = "traces", params(("reference" = String, Path)),
    responses((status = 200, body = TraceView), (status = 404, body = Problem)))]
pub(super) async fn show(State(state): State<ApiState>, _: Operator, Path(reference): Path<String>) -> Result<Json<TraceView>, Problem> {
    match state.shared.records.trace(reference.clone()).await? {
        Some((row, steps)) => Ok(Json(TraceView::new(row, steps))),
        None => Err(Problem::not_found(format!("there is no trace `{reference}`"), "see `bivector trace list`")),
    }
}

/// Packets that were dropped, by sender and reason, latest first.
#[utoipa::path(get, operation_id = "traces_knocks", path = "/api/v1/knocks", tag = "traces", responses((status = 200, body = [Knock])))]
pub(super) async fn knocks(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<Knock>>, Problem> {
    Ok(Json(state.shared.records.knocks().await?))
}
