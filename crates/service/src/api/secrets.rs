//! Sealed secrets: set and listed by name; a value never comes back out.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use crate::clock;
use crate::live::secret_purpose;
use crate::records::SecretRow;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_wire::Secret;
use serde::Deserialize;
use utoipa::ToSchema;

/// A secret to seal.
#[derive(Deserialize, ToSchema)]
pub struct SecretRequest {
    /// Its name, such as `gateway/breakwater`.
    name: String,
    /// Its value.
    value: String,
}

/// Names of all sealed secrets.
#[utoipa::path(get, operation_id = "secrets_list", path = "/api/v1/secrets", tag = "secrets", responses((status = 200, body = [SecretRow])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<SecretRow>>, Problem> {
    Ok(Json(state.shared.records.secrets().await?))
}

/// Seals a secret, replacing an older one of that name. Logins use it at once.
#[utoipa::path(put, operation_id = "secrets_set", path = "/api/v1/secrets", tag = "secrets", request_body = SecretRequest,
    responses((status = 204, description = "sealed"), (status = 422, body = Problem)))]
pub(super) async fn set(
    State(state): State<ApiState>,
    Operator(operator): Operator,
    Body(request): Body<SecretRequest>,
) -> Result<StatusCode, Problem> {
    let value = Secret::new(request.value);
    let refused = |title: String, remedy: &str| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "secret", title, remedy);
    let sound = |c: char| c.is_ascii_alphanumeric() || "-_./".contains(c);
    if request.name.is_empty() || request.name.len() > 100 || !request.name.chars().all(sound) {
        return Err(refused(
            "a secret's name has 1 to 100 letters, digits and `-_./`".into(),
            "choose a name such as `gateway/breakwater`",
        ));
    }
    let text = value.expose();
    if text.is_empty() || text.len() > 1024 {
        return Err(refused(format!("the value has {} bytes; 1 to 1024 are allowed", text.len()), "give another value"));
    }
    if text.trim() != text {
        return Err(refused(
            "the value begins or ends with white space, which devices show as nothing".into(),
            "take it off on both sides",
        ));
    }
    let sealed = state.shared.seal.seal(&secret_purpose(&request.name), text.as_bytes());
    state.shared.records.set_secret(request.name, sealed, operator, clock::now()).await?;
    state.doors.refresh(&state.shared).await?;
    Ok(StatusCode::NO_CONTENT)
}
