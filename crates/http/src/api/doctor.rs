//! How the service is exposed, and what to do about it.

use super::ApiState;
use super::auth::Operator;
use super::problem::Problem;
use axum::Json;
use axum::extract::State;
use bivector_api::operators::Role;
use bivector_explain::doctor::Advice;

/// Reviews listeners, files, certificates, settings, secrets, limits, the clock, descriptors and backups. Nothing is changed.
#[utoipa::path(get, path = "/doctor", tag = "status", responses((status = 200, body = [Advice]), (status = 403, body = Problem)))]
pub(super) async fn doctor(State(state): State<ApiState>, operator: Operator) -> Result<Json<Vec<Advice>>, Problem> {
    operator.may(Role::Operate)?;
    let operators = state.operators.load_full();
    Ok(Json(crate::doctor::review(&state.shared, &operators, &state.connections, &state.exposure).await?))
}
