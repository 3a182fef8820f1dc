//! Operators: who may call and what they may do.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use crate::operators::operator_purpose;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::operators::{NewSignIn, NewToken, OperatorRequest, OperatorView, RoleRequest, SignInView, TokenRequest};
use bivector_engine::signins::SignedInBy;
use bivector_store::clock;
use bivector_store::records::TokenRow;
use bivector_store::seal::{hash_token, random};
use bivector_wire::Secret;
use data_encoding::{BASE32_NOPAD, HEXLOWER};
use serde::Deserialize;
use utoipa::ToSchema;

/// The shortest console password, in characters.
const SHORTEST: usize = 12;

/// A console password to set.
#[derive(Deserialize, ToSchema)]
pub(super) struct SignInRequest {
    /// At least twelve characters.
    password: String,
}

/// All operators.
#[utoipa::path(get, operation_id = "operators_list", path = "/operators", tag = "operators", responses((status = 200, body = [OperatorView]), (status = 403, body = Problem)))]
pub(super) async fn list(State(state): State<ApiState>, operator: Operator) -> Result<Json<Vec<OperatorView>>, Problem> {
    operator.may(Role::Own)?;
    let operators = state.operators.load();
    let view = |row: &bivector_store::records::OperatorRow| OperatorView {
        name: row.name.clone(),
        role: row.role,
        signs_in: row.password.is_some() && row.seed.is_some(),
        tokens: operators.labels.get(&row.name).cloned().unwrap_or_default(),
        created_us: row.created_us,
    };
    Ok(Json(operators.all().into_iter().map(view).collect()))
}

/// Adds an operator, with a first token.
#[utoipa::path(post, operation_id = "operators_add", path = "/operators", tag = "operators", request_body = OperatorRequest,
    responses((status = 201, body = NewToken), (status = 403, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<OperatorRequest>,
) -> Result<(StatusCode, Json<NewToken>), Problem> {
    operator.may(Role::Own)?;
    let sound = |c: char| c.is_ascii_alphanumeric() || "-_.@".contains(c);
    if request.name.is_empty() || request.name.len() > 64 || !request.name.chars().all(sound) {
        return Err(refused("an operator's name has 1 to 64 letters, digits and `-_.@`", "choose another name"));
    }
    if !state.shared.records.add_operator(request.name.clone(), request.role, clock::now()).await? {
        return Err(taken(format!("there is an operator `{}` already", request.name)));
    }
    let token = make_token(&state, &request.name, "first").await?;
    operator.did(&state, "operator.add", format!("{} with the role {}", request.name, request.role.word())).await?;
    Ok((StatusCode::CREATED, Json(token)))
}

/// Gives an operator another role.
#[utoipa::path(put, operation_id = "operators_role", path = "/operators/{name}", tag = "operators", params(("name" = String, Path)), request_body = RoleRequest,
    responses((status = 204, description = "changed"), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn set_role(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<RoleRequest>,
) -> Result<StatusCode, Problem> {
    change(&state, &operator, name, Some(request.role)).await
}

/// Takes an operator out, with all tokens and sessions.
#[utoipa::path(delete, operation_id = "operators_remove", path = "/operators/{name}", tag = "operators", params(("name" = String, Path)),
    responses((status = 204, description = "taken out"), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn remove(State(state): State<ApiState>, operator: Operator, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    change(&state, &operator, name, None).await
}

async fn change(state: &ApiState, operator: &Operator, name: String, role: Option<Role>) -> Result<StatusCode, Problem> {
    operator.may(Role::Own)?;
    known(state, &name)?;
    if !state.shared.records.change_operator(name.clone(), role).await? {
        return Err(taken(format!("`{name}` is the last operator with the role `own`")));
    }
    state.follow().await?;
    if role.is_none() {
        state.sign_ins.end_all(&name).await?;
    }
    match role {
        Some(role) => operator.did(state, "operator.role", format!("{name} has the role {} now", role.word())).await?,
        None => operator.did(state, "operator.remove", name).await?,
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a further token. Operators make their own; those with the role `own` make anybody's.
#[utoipa::path(post, operation_id = "operators_token", path = "/operators/{name}/tokens", tag = "operators", params(("name" = String, Path)),
    request_body = TokenRequest, responses((status = 201, body = NewToken), (status = 403, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn token(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<TokenRequest>,
) -> Result<(StatusCode, Json<NewToken>), Problem> {
    own_or_owner(&operator, &name)?;
    known(&state, &name)?;
    let label = request.label.trim();
    if label.is_empty() || label.len() > 64 || !bivector_model::text::is_plain(label) {
        return Err(refused("a token's label has 1 to 64 characters", "say what it is for, such as `backup script`"));
    }
    let token = make_token(&state, &name, label).await?;
    operator.did(&state, "operator.token", format!("a token of {name} for {label}")).await?;
    Ok((StatusCode::CREATED, Json(token)))
}

/// Takes a token out.
#[utoipa::path(delete, operation_id = "operators_drop_token", path = "/operators/{name}/tokens/{label}", tag = "operators",
    params(("name" = String, Path), ("label" = String, Path)), responses((status = 204, description = "taken out"), (status = 404, body = Problem)))]
pub(super) async fn drop_token(
    State(state): State<ApiState>,
    operator: Operator,
    Path((name, label)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    own_or_owner(&operator, &name)?;
    if !state.shared.records.drop_token(name.clone(), label.clone()).await? {
        return Err(Problem::not_found(format!("{name} has no token `{label}`"), "see `bivector operator list`"));
    }
    state.follow().await?;
    state.sign_ins.end_token(&name, &label).await?;
    operator.did(&state, "operator.drop-token", format!("the token of {name} for {label}")).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sets a console password and a new seed for the codes beside it.
#[utoipa::path(put, operation_id = "operators_sign_in", path = "/operators/{name}/sign-in", tag = "operators", params(("name" = String, Path)),
    request_body = SignInRequest, responses((status = 200, body = NewSignIn), (status = 403, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn set_sign_in(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<SignInRequest>,
) -> Result<Json<NewSignIn>, Problem> {
    let password = Secret::new(request.password);
    own_or_owner(&operator, &name)?;
    known(&state, &name)?;
    if password.expose().chars().count() < SHORTEST {
        return Err(refused(format!("a console password has at least {SHORTEST} characters"), "take a longer one"));
    }
    let hash = state.shared.hashing.hash(password).await?.map_err(|error| refused(error, "take another password"))?;
    let seed = Secret::new(random::<20>().to_vec());
    let sealed = state.shared.seal.seal(&operator_purpose(&name), seed.expose());
    state.shared.records.set_sign_in(name.clone(), hash, sealed).await?;
    state.follow().await?;
    state.sign_ins.end_all(&name).await?;
    operator.did(&state, "operator.sign-in", format!("a new password and code of {name}")).await?;
    let seed = BASE32_NOPAD.encode(seed.expose());
    let link = format!("otpauth://totp/Bivector:{name}?secret={seed}&issuer=Bivector&period=30&digits=6&algorithm=SHA1");
    Ok(Json(NewSignIn { seed, link }))
}

/// An operator's sign-ins to the console that have not ended. Operators see their own; those with the role `own` see anybody's.
#[utoipa::path(get, operation_id = "operators_sessions", path = "/operators/{name}/sessions", tag = "operators", params(("name" = String, Path)),
    responses((status = 200, body = [SignInView]), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn sessions(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
) -> Result<Json<Vec<SignInView>>, Problem> {
    own_or_owner(&operator, &name)?;
    known(&state, &name)?;
    let own = match &operator.by {
        SignedInBy::Console(hash) => Some(hash.clone()),
        SignedInBy::Token(_) => None,
    };
    let view = |seen: bivector_engine::signins::Seen| SignInView {
        current: own.as_ref() == Some(&seen.row.hash),
        id: seen.id,
        by: seen.row.by,
        from: seen.row.from,
        created_us: seen.row.created_us,
        last_used_us: seen.last_used_us,
        until_us: seen.row.until_us,
    };
    Ok(Json(state.sign_ins.of(&name).into_iter().map(view).collect()))
}

/// Ends all of an operator's sign-ins to the console.
#[utoipa::path(delete, operation_id = "operators_end_sessions", path = "/operators/{name}/sessions", tag = "operators",
    params(("name" = String, Path)), responses((status = 204, description = "ended"), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn end_sessions(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    own_or_owner(&operator, &name)?;
    known(&state, &name)?;
    let count = state.sign_ins.end_all(&name).await?;
    operator.did(&state, "operator.end-sessions", format!("{count} of {name}")).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Ends one of an operator's sign-ins to the console, with its event streams.
#[utoipa::path(delete, operation_id = "operators_end_session", path = "/operators/{name}/sessions/{id}", tag = "operators",
    params(("name" = String, Path), ("id" = String, Path)),
    responses((status = 204, description = "ended"), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn end_session(
    State(state): State<ApiState>,
    operator: Operator,
    Path((name, id)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    own_or_owner(&operator, &name)?;
    known(&state, &name)?;
    if !state.sign_ins.end_one(&name, &id).await? {
        let said = format!("{name} has no such sign-in; it may have ended");
        return Err(Problem::not_found(said, format!("see `bivector operator sessions {name}`")));
    }
    operator.did(&state, "operator.end-sessions", format!("one of {name}")).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn make_token(state: &ApiState, name: &str, label: &str) -> Result<NewToken, Problem> {
    let token = format!("bvt_{}", HEXLOWER.encode(&random::<32>()));
    let row = TokenRow { hash: hash_token(&token), operator: name.to_owned(), label: label.to_owned() };
    if !state.shared.records.add_token(row, clock::now()).await? {
        return Err(taken(format!("{name} has a token `{label}` already")));
    }
    state.follow().await?;
    Ok(NewToken { token })
}

fn known(state: &ApiState, name: &str) -> Result<(), Problem> {
    let operators = state.operators.load();
    if operators.role(name).is_some() {
        return Ok(());
    }
    let names: Vec<&str> = operators.all().into_iter().map(|row| row.name.as_str()).collect();
    Err(Problem::not_found(format!("unknown operator `{name}`"), format!("known: {}", names.join(", "))))
}

fn own_or_owner(operator: &Operator, name: &str) -> Result<(), Problem> {
    if operator.name == name { Ok(()) } else { operator.may(Role::Own) }
}

fn refused(title: impl Into<String>, remedy: &str) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "operator", title, remedy)
}

fn taken(title: String) -> Problem {
    Problem::new(StatusCode::CONFLICT, "operator", title, "see `bivector operator list`")
}
