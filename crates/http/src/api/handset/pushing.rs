//! Push messages to this handset: the page subscribes, the person confirms a test, and the service worker reports what it shows.

use super::super::ApiState;
use super::super::problem::{Body, Problem};
use super::super::push_views::{is_offered, view};
use super::{is_confirmed, live, wrong};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_api::push::{PushState, PushTested, PushView};
use bivector_engine::handset::KnownHandset;
use bivector_engine::push::{self, NotSubscribed, Reported, Subscription};
use bivector_store::clock;
use bivector_store::records::PushRow;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How this handset can be woken.
#[derive(Serialize, ToSchema)]
pub(super) struct PushOffer {
    /// Whether the site wakes handsets by push at all.
    offered: bool,
    /// The public key to subscribe with, as an uncompressed point of P-256 in base64url; empty if push is not offered.
    key: String,
    /// The public key that the handset has subscribed with, if any: where it is another one, the handset subscribes again.
    subscribed_with: Option<String>,
    /// How it is.
    push: PushView,
}

/// How this handset can be woken, and the key to subscribe with.
#[utoipa::path(get, operation_id = "handset_push", path = "/push", tag = "handset", security(()),
    responses((status = 200, body = PushOffer), (status = 401, body = Problem)))]
pub(super) async fn offer(State(state): State<ApiState>, handset: KnownHandset) -> Result<Json<PushOffer>, Problem> {
    Ok(Json(of(&state, &handset).await?))
}

async fn of(state: &ApiState, handset: &KnownHandset) -> Result<PushOffer, Problem> {
    let (shared, live) = (&state.shared, live(state)?);
    let id = handset.device.id;
    let row = shared.pusher.rows(shared, vec![id]).await?.pop().unwrap_or_else(|| PushRow::none(id));
    let push = view(&row);
    if !is_offered(&live.site) {
        return Ok(PushOffer { offered: false, key: String::new(), subscribed_with: None, push });
    }
    let key = shared.pusher.keys.current(shared, live.site.push.key_lasts).await?.public;
    let subscribed_with = match row.sealed {
        Some(_) => shared.pusher.keys.by_id(shared, row.key).await?.map(|key| key.public),
        None => None,
    };
    Ok(PushOffer { offered: true, key, subscribed_with, push })
}

/// A subscription as the browser gives it (W3C Push API).
#[derive(Deserialize, ToSchema)]
pub(super) struct SubscribeRequest {
    /// The address of the push service for this handset.
    endpoint: String,
    /// The handset's public key: an uncompressed point of P-256 in base64url.
    p256dh: String,
    /// The handset's secret: 16 bytes in base64url.
    auth: String,
    /// The service's public key that it was made with.
    key: String,
}

/// Takes a subscription, and sends a test message to it, unless the handset has confirmed one before.
#[utoipa::path(put, operation_id = "handset_subscribe", path = "/push", tag = "handset", request_body = SubscribeRequest, security(()),
    responses((status = 200, body = PushTested), (status = 401, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn subscribe(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Body(request): Body<SubscribeRequest>,
) -> Result<Json<PushTested>, Problem> {
    let (shared, live) = (&state.shared, live(&state)?);
    is_confirmed(&handset)?;
    let SubscribeRequest { endpoint, p256dh, auth, key } = request;
    let subscription = Subscription { endpoint, p256dh, auth, key };
    let kept = push::subscribe(shared, &live, &handset.person, handset.device.id, subscription, clock::now()).await;
    kept.map_err(not_subscribed)?;
    shared.tell_person(&handset.key);
    let row = shared.pusher.rows(shared, vec![handset.device.id]).await?.pop();
    if row.is_some_and(|row| row.state == PushState::Ready) {
        let said = "this phone has confirmed a notification before".to_owned();
        return Ok(Json(PushTested { accepted: true, said, took_ms: 0 }));
    }
    Ok(Json(push::test(shared, &live, &handset.person, &handset.device).await?))
}

fn not_subscribed(why: NotSubscribed) -> Problem {
    let said = why.to_string();
    match why {
        NotSubscribed::Endpoint(_) => {
            wrong("endpoint", said, "an operator lists the push service under `services` of `[push]`, if it is meant")
        }
        NotSubscribed::Keys(_) => wrong("keys", said, "send the subscription's keys as the browser gives them"),
        NotSubscribed::OldKey => wrong("key", said, "subscribe again with the key that `GET /push` gives"),
        NotSubscribed::Claimed => Problem::new(StatusCode::CONFLICT, "claimed", said, "unsubscribe in this browser, then subscribe again"),
        NotSubscribed::TooMany => Problem::new(StatusCode::CONFLICT, "too-many", said, "remove phones that are no longer used"),
        NotSubscribed::Gone => Problem::not_found(said, "set the phone up again"),
        NotSubscribed::Records(error) => error.into(),
    }
}

/// Why push does not work on this handset.
#[derive(Deserialize, ToSchema)]
pub(super) struct UnsubscribeRequest {
    /// `refused`, `unsupported` or `ended`.
    state: PushState,
}

/// Notes why this handset cannot be woken, and forgets its subscription.
#[utoipa::path(delete, operation_id = "handset_unsubscribe", path = "/push", tag = "handset", request_body = UnsubscribeRequest, security(()),
    responses((status = 204, description = "forgets the subscription"), (status = 401, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn unsubscribe(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Body(request): Body<UnsubscribeRequest>,
) -> Result<StatusCode, Problem> {
    if !matches!(request.state, PushState::Refused | PushState::Unsupported | PushState::Ended) {
        return Err(wrong("state", "a handset says `refused`, `unsupported` or `ended`", "send one of them"));
    }
    state.shared.records.push_ended(handset.device.id, request.state, String::new(), clock::now()).await?;
    state.shared.tell_person(&handset.key);
    Ok(StatusCode::NO_CONTENT)
}

/// Sends a test message to this handset.
#[utoipa::path(post, operation_id = "handset_push_test", path = "/push/test", tag = "handset", security(()),
    responses((status = 200, body = PushTested), (status = 401, body = Problem)))]
pub(super) async fn test(State(state): State<ApiState>, handset: KnownHandset) -> Result<Json<PushTested>, Problem> {
    is_confirmed(&handset)?;
    Ok(Json(push::test(&state.shared, &*live(&state)?, &handset.person, &handset.device).await?))
}

/// What a handset has done with a message.
#[derive(Deserialize, ToSchema)]
pub(super) struct ReportRequest {
    /// The ticket that came with the message.
    ticket: String,
    /// What was done.
    seen: Reported,
}

/// Takes the report that a message was shown or opened. The ticket proves the handset: a service worker may have no session.
#[utoipa::path(post, operation_id = "handset_push_report", path = "/push/report", tag = "handset", request_body = ReportRequest, security(()),
    responses((status = 204, description = "takes the report"), (status = 410, body = Problem)))]
pub(super) async fn report(State(state): State<ApiState>, Body(request): Body<ReportRequest>) -> Result<StatusCode, Problem> {
    match push::report(&state.shared, &request.ticket, request.seen, clock::now()).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(Problem::new(StatusCode::GONE, "ticket", "this ticket is not of this service, or too old", "ignore it")),
    }
}
