//! The site: current text, check, apply, history.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use crate::apply::{Applied, Change};
use crate::live::known;
use crate::records::Revision;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_core::site::{Finding, Severity, Site};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A site file to check.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct CheckRequest {
    /// The site file.
    pub text: String,
}

/// What the check says.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Checked {
    /// Whether it could be applied.
    pub sound: bool,
    /// Findings in the order of their places.
    pub findings: Vec<Finding>,
}

/// A site file to apply.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct ApplyRequest {
    /// The site file.
    pub text: String,
    /// What the change is for.
    #[serde(default)]
    pub note: String,
    /// The revision that the change was made from; another one in force stops the apply.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected: Option<u64>,
}

/// What became of an apply.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AppliedView {
    /// The new revision's number.
    pub revision: u64,
    /// Warnings of the check.
    pub findings: Vec<Finding>,
    /// Sources that could not be reached meanwhile, each with what was seen.
    pub unreachable: Vec<String>,
}

impl From<Applied> for AppliedView {
    fn from(applied: Applied) -> Self {
        AppliedView { revision: applied.revision, findings: applied.findings, unreachable: applied.unreachable }
    }
}

/// The site file in force, with its comments.
#[utoipa::path(get, operation_id = "site_current", path = "/api/v1/site", tag = "site", responses((status = 200, body = Revision), (status = 404, body = Problem)))]
pub(super) async fn current(State(state): State<ApiState>, _: Operator) -> Result<Json<Revision>, Problem> {
    let number = state.shared.live.load().as_ref().map_or(0, |live| live.revision);
    find(&state, number).await
}

/// One revision with its text.
#[utoipa::path(get, operation_id = "site_revision", path = "/api/v1/site/revisions/{number}", tag = "site", params(("number" = u64, Path)),
    responses((status = 200, body = Revision), (status = 404, body = Problem)))]
pub(super) async fn revision(State(state): State<ApiState>, _: Operator, Path(number): Path<u64>) -> Result<Json<Revision>, Problem> {
    find(&state, number).await
}

async fn find(state: &ApiState, number: u64) -> Result<Json<Revision>, Problem> {
    match state.shared.records.revision(number).await? {
        Some(revision) => Ok(Json(revision)),
        None if number == 0 => Err(Problem::not_found("no site is in force yet", "apply one with `bivector site apply FILE`")),
        None => Err(Problem::not_found(format!("there is no revision {number}"), "see `bivector site history`")),
    }
}

/// All revisions, newest first, without their texts.
#[utoipa::path(get, operation_id = "site_history", path = "/api/v1/site/revisions", tag = "site", responses((status = 200, body = [Revision])))]
pub(super) async fn history(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<Revision>>, Problem> {
    Ok(Json(state.shared.records.revisions().await?))
}

/// Checks a site file. Nothing is changed.
#[utoipa::path(post, operation_id = "site_check", path = "/api/v1/site/check", tag = "site", request_body = CheckRequest, responses((status = 200, body = Checked)))]
pub(super) async fn check(State(state): State<ApiState>, _: Operator, Body(request): Body<CheckRequest>) -> Result<Json<Checked>, Problem> {
    let findings = Site::read(&request.text, &known(&state.shared.records)?).1;
    Ok(Json(Checked { sound: !findings.iter().any(|finding| finding.severity == Severity::Error), findings }))
}

/// Checks a site file and puts it in force as a new revision.
#[utoipa::path(post, operation_id = "site_apply", path = "/api/v1/site/revisions", tag = "site", request_body = ApplyRequest,
    responses((status = 201, body = AppliedView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn apply(
    State(state): State<ApiState>,
    Operator(operator): Operator,
    Body(request): Body<ApplyRequest>,
) -> Result<(StatusCode, Json<AppliedView>), Problem> {
    let change = Change { text: request.text, operator, note: request.note, expected: request.expected };
    let applied = state.doors.apply(change, &state.shared).await?;
    Ok((StatusCode::CREATED, Json(applied.into())))
}
