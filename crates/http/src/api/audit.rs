//! The audit: every change with who, from where and what.

use super::ApiState;
use super::auth::Operator;
use super::problem::Problem;
use axum::Json;
use axum::extract::{Query, State};
use bivector_api::audit::{AuditRow, AuditVerdict};
use bivector_api::operators::Role;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;

/// Which rows.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub(super) struct AuditFilter {
    /// Only rows with a number below this: the next page.
    before: Option<u64>,
    /// How many, 1 to 500; 100 if left out.
    limit: Option<u32>,
}

/// Rows of the audit, newest first.
#[utoipa::path(get, operation_id = "audit_list", path = "/audit", tag = "audit", params(AuditFilter),
    responses((status = 200, body = [AuditRow]), (status = 403, body = Problem)))]
pub(super) async fn list(
    State(state): State<ApiState>,
    operator: Operator,
    Query(filter): Query<AuditFilter>,
) -> Result<Json<Vec<AuditRow>>, Problem> {
    operator.may(Role::Own)?;
    let limit = filter.limit.unwrap_or(100).clamp(1, 500);
    Ok(Json(state.shared.records.audit(filter.before, limit).await?))
}

/// Computes the chain of the audit anew.
#[utoipa::path(get, operation_id = "audit_verify", path = "/audit/verdict", tag = "audit",
    responses((status = 200, body = AuditVerdict), (status = 403, body = Problem)))]
pub(super) async fn verify(State(state): State<ApiState>, operator: Operator) -> Result<Json<AuditVerdict>, Problem> {
    operator.may(Role::Own)?;
    Ok(Json(state.shared.records.verify_audit(Arc::clone(&state.shared.seal)).await?))
}
