//! Sealed secrets: set, changed over, listed by name; a value never comes back out.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::secrets::{NextRequest, SecretRequest};
use bivector_api::site::{SecretRow, SecretUse};
use bivector_engine::live::secret_purpose;
use bivector_store::clock;
use bivector_wire::Secret;
use serde::Deserialize;
use utoipa::ToSchema;

/// How to retire the old value.
#[derive(Debug, Default, Deserialize, ToSchema)]
#[serde(default)]
pub(super) struct RetireRequest {
    /// Whether also while a gateway has not been seen with the next value.
    anyway: bool,
}

/// Names of all sealed secrets, and who still uses the old value of one that is being changed over.
#[utoipa::path(get, operation_id = "secrets_list", path = "/secrets", tag = "secrets", responses((status = 200, body = [SecretRow])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<SecretRow>>, Problem> {
    let mut rows = state.shared.records.secrets().await?;
    for row in rows.iter_mut().filter(|row| row.next_us.is_some()) {
        row.uses = uses(&state, &row.name);
    }
    Ok(Json(rows))
}

/// The gateways of the active site that use a secret, with when they last came with which value.
fn uses(state: &ApiState, secret: &str) -> Vec<SecretUse> {
    let rotations = state.shared.rotations.lock().map(|rotations| rotations.clone()).unwrap_or_default();
    let last = |gateway: &String| rotations.get(gateway).copied().unwrap_or_default();
    let gateways = gateways_with(state, secret).into_iter();
    gateways.map(|gateway| (last(&gateway), gateway)).map(|((old_us, next_us), gateway)| SecretUse { gateway, old_us, next_us }).collect()
}

/// Seals a secret, replacing an older one of that name. Logins use it at once.
#[utoipa::path(put, operation_id = "secrets_set", path = "/secrets", tag = "secrets", request_body = SecretRequest,
    responses((status = 204, description = "sealed"), (status = 403, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<SecretRequest>,
) -> Result<StatusCode, Problem> {
    let value = Secret::new(request.value);
    operator.may(Role::Change)?;
    let sound = |c: char| c.is_ascii_alphanumeric() || "-_./".contains(c);
    if request.name.is_empty() || request.name.len() > 100 || !request.name.chars().all(sound) {
        return Err(refused("a secret's name has 1 to 100 letters, digits and `-_./`", "choose a name such as `gateway/breakwater`"));
    }
    check_value(&value)?;
    let sealed = state.shared.seal.seal(&secret_purpose(&request.name), value.expose().as_bytes());
    state.shared.records.set_secret(request.name.clone(), sealed, operator.name.clone(), clock::now()).await?;
    state.doors.follow(&state.shared).await?;
    operator.did(&state, "secret.set", request.name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Seals the next value of a gateway's secret. Until the old one is retired both count.
#[utoipa::path(put, operation_id = "secrets_next", path = "/secrets/{name}/next", tag = "secrets", params(("name" = String, Path)),
    request_body = NextRequest, responses((status = 204, description = "both count now"), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn next(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<NextRequest>,
) -> Result<StatusCode, Problem> {
    let value = Secret::new(request.value);
    operator.may(Role::Change)?;
    check_value(&value)?;
    if uses(&state, &name).is_empty() {
        return Err(refused(format!("no gateway of the active site uses `{name}`"), "set it at once with `bivector secret set`"));
    }
    let sealed = state.shared.seal.seal(&secret_purpose(&name), value.expose().as_bytes());
    if !state.shared.records.set_next_secret(name.clone(), sealed, clock::now()).await? {
        return Err(no_such(&name));
    }
    if let Ok(mut rotations) = state.shared.rotations.lock() {
        gateways_with(&state, &name).iter().for_each(|gateway| {
            rotations.remove(gateway);
        });
    }
    state.doors.follow(&state.shared).await?;
    operator.did(&state, "secret.rotate", name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Retires the old value of a secret: the next one takes its place.
#[utoipa::path(post, operation_id = "secrets_retire", path = "/secrets/{name}/retire", tag = "secrets", params(("name" = String, Path)),
    request_body = RetireRequest, responses((status = 204, description = "only the new value counts"), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn retire(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<RetireRequest>,
) -> Result<StatusCode, Problem> {
    operator.may(Role::Change)?;
    let waiting: Vec<String> =
        uses(&state, &name).into_iter().filter(|one| one.next_us.is_none() || one.next_us < one.old_us).map(|one| one.gateway).collect();
    if !waiting.is_empty() && !request.anyway {
        let who = waiting.join(", ");
        return Err(Problem::new(
            StatusCode::CONFLICT,
            "secret-in-use",
            format!("the old value of `{name}` is still in use: {who} has not used the new value, or used the old one since"),
            "enter the new value on the device and let it send a login; or retire the old one with `--anyway`",
        ));
    }
    if !state.shared.records.retire_secret(name.clone(), operator.name.clone(), clock::now()).await? {
        return Err(Problem::not_found(format!("no rotation of `{name}` is in progress"), "start one with `bivector secret rotate`"));
    }
    state.doors.follow(&state.shared).await?;
    operator.did(&state, "secret.retire", name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets a secret that the active site does not name.
#[utoipa::path(delete, operation_id = "secrets_forget", path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)),
    responses((status = 204, description = "forgotten"), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn forget(State(state): State<ApiState>, operator: Operator, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    operator.may(Role::Change)?;
    if state.shared.live.load().as_ref().is_some_and(|live| live.site.secrets().any(|used| used == name)) {
        return Err(Problem::new(
            StatusCode::CONFLICT,
            "secret-in-use",
            format!("`{name}` is used by the active site"),
            "remove it from the site first; earlier revisions that use it can then no longer be restored",
        ));
    }
    if !state.shared.records.forget_secret(name.clone()).await? {
        return Err(no_such(&name));
    }
    operator.did(&state, "secret.forget", name).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn gateways_with(state: &ApiState, name: &str) -> Vec<String> {
    let live = state.shared.live.load_full();
    live.iter().flat_map(|live| &live.site.gateways).filter(|gateway| gateway.secret == name).map(|gateway| gateway.name.clone()).collect()
}

fn check_value(value: &Secret<String>) -> Result<(), Problem> {
    let text = value.expose();
    if text.is_empty() || text.len() > 1024 {
        return Err(refused(format!("the value has {} bytes; allowed: 1 to 1024", text.len()), "give another value"));
    }
    if text.trim() != text {
        return Err(refused("the value starts or ends with white space, which device interfaces do not show", "remove it on both sides"));
    }
    Ok(())
}

fn refused(title: impl Into<String>, remedy: &str) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "secret", title, remedy)
}

fn no_such(name: &str) -> Problem {
    Problem::not_found(format!("no secret is sealed under `{name}`"), "see `bivector secret list`")
}
