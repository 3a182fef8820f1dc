//! Test messages to handsets, and the keys that messages are signed with.

use super::ApiState;
use super::auth::Operator;
use super::people::find;
use super::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::push::{PushKeyView, PushTested};
use bivector_engine::push;
use bivector_store::records::{DeviceKind, person_key};

/// Sends a test message to a handset; its person confirms it by opening the notification.
#[utoipa::path(post, operation_id = "push_test", path = "/people/{source}/{login}/factors/{id}/push-test", tag = "people",
    params(("source" = String, Path), ("login" = String, Path), ("id" = u64, Path)),
    responses((status = 200, body = PushTested), (status = 404, body = Problem)))]
pub(super) async fn test(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login, id)): Path<(String, String, u64)>,
) -> Result<Json<PushTested>, Problem> {
    operator.may(Role::Operate)?;
    let shared = &state.shared;
    let person = find(shared, &source, &login)?;
    let handset = person.factors.iter().find(|factor| factor.id == id && factor.kind == DeviceKind::Handset);
    let none = || Problem::not_found(format!("factor {id} is not a handset of this person"), "see `bivector factor list`");
    let handset = handset.ok_or_else(none)?;
    let tested = push::test(shared, &*super::handset::live(&state)?, &person, handset).await?;
    operator.did(&state, "push.test", format!("{} “{}”: {}", person_key(&source, &login), handset.label, tested.said)).await?;
    Ok(Json(tested))
}

/// Keys that messages are signed with, the newest first.
#[utoipa::path(get, operation_id = "push_keys", path = "/push/keys", tag = "push", responses((status = 200, body = [PushKeyView])))]
pub(super) async fn keys(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<PushKeyView>>, Problem> {
    Ok(Json(views(&state).await?))
}

/// Makes a new key. Handsets take it over when their page is next opened; until then the old one signs for them.
#[utoipa::path(post, operation_id = "push_new_key", path = "/push/keys", tag = "push",
    responses((status = 201, body = [PushKeyView]), (status = 403, body = Problem)))]
pub(super) async fn new_key(State(state): State<ApiState>, operator: Operator) -> Result<(StatusCode, Json<Vec<PushKeyView>>), Problem> {
    operator.may(Role::Own)?;
    let key = state.shared.pusher.keys.replace(&state.shared).await?;
    operator.did(&state, "push.new-key", format!("signing key {}", key.id)).await?;
    Ok((StatusCode::CREATED, Json(views(&state).await?)))
}

async fn views(state: &ApiState) -> Result<Vec<PushKeyView>, Problem> {
    let rows = state.shared.records.all_pushes().await?;
    let keys = state.shared.pusher.keys.all(&state.shared).await?;
    let newest = keys.first().map(|key| key.id);
    let view = |key: push::PushKey| PushKeyView {
        made_us: key.made.micros(),
        current: Some(key.id) == newest,
        handsets: rows.iter().filter(|row| row.key == key.id && row.sealed.is_some()).count(),
        public: key.public,
    };
    Ok(keys.into_iter().map(view).collect())
}
