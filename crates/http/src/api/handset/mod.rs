//! The handset's own HTTP protocol, below `/handset/v1`. No operator calls it: a handset proves itself with its key.

mod answering;
mod enrolling;
mod pushing;

pub(super) use enrolling::{AppCode, not_proved};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::ApiState;
use super::auth::cookie;
use super::guard::Caller;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{FromRequestParts, Path, Query, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_engine::handset::{self, KnownHandset};
use bivector_engine::invitations;
use bivector_engine::live::LiveSite;
use bivector_engine::shared::Shared;
use bivector_model::Moment;
use bivector_model::device::Makes;
use bivector_model::totp;
use bivector_store::clock;
use bivector_store::records::{DeviceKind, PersonRow, WaitsFor};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;

const COOKIE: &str = "bivector_handset";
/// Sent by the page with every change: a page elsewhere cannot set it.
const PAGE_HEADER: &str = "x-bivector-handset";
/// A name for a device has at most so many bytes.
const LABEL: usize = 60;

pub(super) fn router() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(page))
        .routes(routes!(enrolling::peek))
        .routes(routes!(enrolling::enrol))
        .routes(routes!(remove, rename))
        .routes(routes!(enrolling::begin_app))
        .routes(routes!(enrolling::finish_app))
        .routes(routes!(challenge))
        .routes(routes!(session, end_session))
        .routes(routes!(me))
        .routes(routes!(answering::approval))
        .routes(routes!(answering::events))
        .routes(routes!(answering::answer))
        .routes(routes!(answering::key_for_approval))
        .routes(routes!(answering::begin_key, answering::finish_key))
        .routes(routes!(pushing::offer, pushing::subscribe, pushing::unsubscribe))
        .routes(routes!(pushing::test))
        .routes(routes!(pushing::report))
        .merge(super::own::router())
}

impl FromRequestParts<ApiState> for KnownHandset {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        if bearer(&parts.headers).is_none() {
            from_the_page(&parts.method, &parts.headers)?;
        }
        let session = session_in(&parts.headers);
        let known = session.and_then(|session| handset::of_session(&state.shared, &session));
        let known = known
            .ok_or_else(|| Problem::new(StatusCode::UNAUTHORIZED, "session", "this handset has no session", "sign a new challenge"))?;
        state.shared.pusher.heard(known.device.id, clock::now());
        Ok(known)
    }
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "))
}

/// The session that a request carries: as a token, or as the page's cookie.
fn session_in(headers: &HeaderMap) -> Option<String> {
    bearer(headers).map(|session| session.trim().to_owned()).or_else(|| cookie(headers, COOKIE))
}

/// A change with a cookie must come from our own page.
pub(super) fn from_the_page(method: &Method, headers: &HeaderMap) -> Result<(), Problem> {
    if matches!(*method, Method::GET | Method::HEAD) || headers.contains_key(PAGE_HEADER) {
        return Ok(());
    }
    let remedy = format!("send the header `{PAGE_HEADER}`");
    Err(Problem::new(StatusCode::FORBIDDEN, "cross-site", "session-authenticated changes must come from the page", remedy))
}

pub(super) fn set_cookie(caller: &Caller, name: &str, value: &str, seconds: u64) -> String {
    let secure = if caller.secure { "; Secure" } else { "" };
    format!("{name}={value}; Path=/handset; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}")
}

fn wrong(kind: &str, said: impl Into<String>, remedy: impl Into<String>) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, kind, said, remedy)
}

pub(super) fn live(state: &ApiState) -> Result<Arc<LiveSite>, Problem> {
    let none = || Problem::new(StatusCode::SERVICE_UNAVAILABLE, "no-site", "no site is active yet", "come back later");
    state.shared.live.load_full().ok_or_else(none)
}

/// The name of a device as it is kept.
pub(super) fn label(text: &str) -> Result<String, Problem> {
    let label = text.trim();
    if label.is_empty() || label.len() > LABEL || !bivector_model::text::is_plain(label) {
        let said = format!("a name has 1 to {LABEL} bytes and no control characters");
        return Err(wrong("label", said, "choose a short one, such as `phone`"));
    }
    Ok(label.to_owned())
}

/// What a phone that is nobody's yet may know.
#[derive(Serialize, ToSchema)]
struct PageView {
    site: String,
    /// Whether people can sign in to their own page.
    signs_in: bool,
    /// Texts that the site gives for this language, by the English text that each replaces.
    texts: BTreeMap<String, String>,
}

/// What the page wants to know.
#[derive(Deserialize, IntoParams)]
struct PageQuery {
    /// The language that the page speaks (RFC 5646).
    #[serde(default)]
    language: String,
}

/// What the page shows before anybody is known.
#[utoipa::path(get, operation_id = "handset_page", path = "/page", tag = "handset", params(PageQuery), security(()),
    responses((status = 200, body = PageView), (status = 401, body = Problem)))]
async fn page(State(state): State<ApiState>, Query(query): Query<PageQuery>) -> Result<Json<PageView>, Problem> {
    let live = live(&state)?;
    let texts = live.site.texts.of_page(&query.language);
    Ok(Json(PageView { site: live.site.name.clone(), signs_in: live.site.handset.chain.is_some(), texts }))
}

/// What the device shows until somebody has confirmed it.
fn shown(waits_for: &WaitsFor) -> String {
    let WaitsFor::Operator(reference) = waits_for;
    invitations::shown_reference(reference)
}

/// Which handset wants a session.
#[derive(Deserialize, ToSchema)]
struct ChallengeRequest {
    person: String,
    device: u64,
}

#[derive(Serialize, ToSchema)]
struct Challenged {
    challenge: String,
}

/// A challenge for a handset to sign.
#[utoipa::path(post, operation_id = "handset_challenge", path = "/challenge", tag = "handset", request_body = ChallengeRequest, security(()),
    responses((status = 200, body = Challenged), (status = 401, body = Problem)))]
async fn challenge(State(state): State<ApiState>, Body(request): Body<ChallengeRequest>) -> Json<Challenged> {
    Json(Challenged { challenge: handset::challenge(&state.shared, &request.person, request.device) })
}

#[derive(Deserialize, ToSchema)]
struct SessionRequest {
    challenge: String,
    /// Over [`handset::session_text`].
    signature: String,
}

#[derive(Serialize, ToSchema)]
struct Begun {
    /// For handsets that send `authorization: Bearer`; the page uses the cookie.
    session: String,
}

/// Begins a session of a handset by a signed challenge.
#[utoipa::path(post, operation_id = "handset_session", path = "/session", tag = "handset", request_body = SessionRequest, security(()),
    responses((status = 200, body = Begun), (status = 401, body = Problem)))]
async fn session(State(state): State<ApiState>, caller: Caller, Body(request): Body<SessionRequest>) -> Result<Response, Problem> {
    let begun = handset::begin_session(&state.shared, &request.challenge, &request.signature);
    let (session, _) = begun.ok_or_else(|| {
        let remedy = "if it keeps happening, the handset was removed; enrol it again";
        Problem::new(StatusCode::UNAUTHORIZED, "session", "unknown handset, or its challenge was not signed", remedy)
    })?;
    let cookie = set_cookie(&caller, COOKIE, &session, 12 * 3600);
    Ok(([(header::SET_COOKIE, cookie)], Json(Begun { session })).into_response())
}

/// Ends the session: it is over then, whoever has copied it, and so is its line of events.
#[utoipa::path(delete, operation_id = "handset_end_session", path = "/session", tag = "handset", security(()),
    responses((status = 204, description = "ends the session"), (status = 401, body = Problem)))]
async fn end_session(State(state): State<ApiState>, caller: Caller, method: Method, headers: HeaderMap) -> Result<Response, Problem> {
    if bearer(&headers).is_none() {
        from_the_page(&method, &headers)?;
    }
    if let Some(session) = session_in(&headers) {
        handset::end_session(&state.shared, &session).await?;
    }
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, set_cookie(&caller, COOKIE, "", 0))]).into_response())
}

/// A code that the page shows.
#[derive(Serialize, ToSchema)]
struct OwnCode {
    label: String,
    code: String,
    /// When the next one comes.
    until_us: u64,
}

/// What a handset shows of itself.
#[derive(Serialize, ToSchema)]
struct Me {
    site: String,
    name: String,
    login: String,
    /// The language that the person reads; empty if not known.
    language: String,
    device: u64,
    label: String,
    /// What an operator must type before this handset counts.
    reference: Option<String>,
    /// Names of the person's security keys.
    keys: Vec<String>,
    /// Whether security keys can be enrolled.
    takes_keys: bool,
    codes: Vec<OwnCode>,
    /// Until when approvals are stopped.
    stopped_until_us: Option<u64>,
    now_us: u64,
}

/// Whose handset it is, and their devices.
#[utoipa::path(get, operation_id = "handset_me", path = "/me", tag = "handset", security(()),
    responses((status = 200, body = Me), (status = 401, body = Problem)))]
async fn me(State(state): State<ApiState>, handset: KnownHandset) -> Result<Json<Me>, Problem> {
    let (shared, live, now) = (&state.shared, live(&state)?, clock::now());
    let reference = handset.device.settings.waits_for.as_ref().map(shown);
    let confirmed = reference.is_none();
    let shows = live.site.handset.shows_code && confirmed;
    Ok(Json(Me {
        site: live.site.name.clone(),
        name: handset.person.name.clone(),
        login: handset.person.login.clone(),
        language: handset.person.language.clone(),
        device: handset.device.id,
        label: handset.device.label.clone(),
        reference,
        keys: handset::keys(shared, &handset.person).into_iter().map(|key| key.label).collect(),
        takes_keys: live.site.handset.address.is_some(),
        codes: if shows { own_codes(shared, &handset.person, now) } else { Vec::new() },
        // Whoever has only an invitation, somebody else's perhaps, does not learn what the person has said.
        stopped_until_us: shared.roster.stop_of(&handset.key, now).map(|stop| stop.until_us).filter(|_| confirmed),
        now_us: now.micros(),
    }))
}

/// The person's codes by time, where the site wants them shown.
fn own_codes(shared: &Shared, person: &PersonRow, now: Moment) -> Vec<OwnCode> {
    let ready = person.factors.iter().filter(|factor| factor.settings.waits_for.is_none());
    let code = |factor| {
        let device = shared.roster.device(person, factor, now)?;
        let Makes::ByTime { seed, settings, drift } = &device.makes else { return None };
        let step = now.secs() / u64::from(settings.period.max(1));
        let code = totp::code(seed.expose(), step.saturating_add_signed(*drift), *settings);
        let until_us = (step + 1) * u64::from(settings.period) * 1_000_000;
        Some(OwnCode { label: device.label.clone(), code, until_us })
    };
    ready.filter_map(code).collect()
}

#[derive(Deserialize, ToSchema)]
pub(super) struct Renamed {
    pub(super) label: String,
}

/// A handset may take itself out, and no other: what else the person has is removed on the page that the person signs in to.
#[utoipa::path(delete, operation_id = "handset_remove", path = "/devices/{id}", tag = "handset", security(()), params(("id" = u64, Path)),
    responses((status = 204, description = "removes a device of the person"), (status = 401, body = Problem)))]
async fn remove(State(state): State<ApiState>, handset: KnownHandset, Path(id): Path<u64>) -> Result<StatusCode, Problem> {
    only_itself(&handset, id)?;
    let (source, login) = (handset.person.source.clone(), handset.person.login.clone());
    state.shared.records.remove_factor(source.clone(), login.clone(), id).await?;
    state.shared.catch_up().await?;
    state.shared.tell_person(&handset.key);
    Ok(StatusCode::NO_CONTENT)
}

/// Renames a device of the person.
#[utoipa::path(put, operation_id = "handset_rename", path = "/devices/{id}", tag = "handset", request_body = Renamed, security(()), params(("id" = u64, Path)),
    responses((status = 204, description = "renames a device of the person"), (status = 401, body = Problem)))]
async fn rename(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Path(id): Path<u64>,
    Body(request): Body<Renamed>,
) -> Result<StatusCode, Problem> {
    only_itself(&handset, id)?;
    let label = invitations::free_label(&handset.person, DeviceKind::Handset, &label(&request.label)?);
    state.shared.records.rename_factor(id, label).await?;
    state.shared.catch_up().await?;
    state.shared.tell_person(&handset.key);
    Ok(StatusCode::NO_CONTENT)
}

/// A handset that nobody has confirmed yet may do no more than show its reference.
fn is_confirmed(handset: &KnownHandset) -> Result<(), Problem> {
    if handset.device.settings.waits_for.is_none() {
        return Ok(());
    }
    let remedy = "read its reference to an operator";
    Err(Problem::new(StatusCode::FORBIDDEN, "unconfirmed", "this handset is not confirmed yet", remedy))
}

fn only_itself(handset: &KnownHandset, id: u64) -> Result<(), Problem> {
    let itself = handset.device.id == id;
    if itself { Ok(()) } else { Err(Problem::not_found("that is not this handset", "sign in to your own page to change other devices")) }
}
