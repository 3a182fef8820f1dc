//! The handset's own HTTP protocol, below `/handset/v1`. No operator calls it: a handset proves itself with its key.

use super::ApiState;
use super::problem::{Body, Problem};
use crate::approvals::{Decision, Said, Shown, Taken};
use crate::handset::{self, KeyTrouble, KnownHandset};
use crate::invitations::{self, NewApp, NotProved};
use crate::live::LiveSite;
use crate::records::{DeviceKind, FactorSettings, NewFactor, Opened, PersonRow, StopRow, WaitsFor};
use crate::roster::{person_key, seed_purpose};
use crate::shared::{Event, Shared};
use crate::tls::Caller;
use crate::{clock, metrics};
use axum::extract::{ConnectInfo, FromRequestParts, Path, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::sse::{Event as SseEvent, KeepAlive};
use axum::response::{IntoResponse, Response, Sse};
use axum::routing::{delete, get, post};
use axum::{Json, Router};
use bivector_core::device::Makes;
use bivector_core::site::Invited;
use bivector_core::trace::{Hop, Step, Tone};
use bivector_core::{Moment, totp};
use futures_util::stream::{self, Stream};
use serde::{Deserialize, Serialize};
use std::convert::Infallible;
use std::sync::Arc;
use webauthn_rs::prelude::{PublicKeyCredential, RegisterPublicKeyCredential};

const COOKIE: &str = "bivector_handset";
/// Sent by the page with every change: a page elsewhere cannot set it.
const PAGE_HEADER: &str = "x-bivector-handset";
/// A name for a device has at most so many bytes.
const LABEL: usize = 60;

pub(super) fn router() -> Router<ApiState> {
    Router::new()
        .route("/page", get(page))
        .route("/invitation", post(peek))
        .route("/devices", post(enrol))
        .route("/devices/{id}", delete(remove).put(rename))
        .route("/apps", post(begin_app))
        .route("/apps/code", post(finish_app))
        .route("/challenge", post(challenge))
        .route("/session", post(session).delete(end_session))
        .route("/me", get(me))
        .route("/approval", get(approval))
        .route("/events", get(events))
        .route("/approvals/{id}", post(answer))
        .route("/approvals/{id}/key", post(key_for_approval))
        .route("/keys", post(begin_key).put(finish_key))
        .merge(super::own::router())
        .fallback(super::problem::no_such_route)
        .method_not_allowed_fallback(super::problem::no_such_method)
}

/// The address of whoever calls, for limits.
pub(super) struct Sender(pub(super) String);

impl<S: Send + Sync> FromRequestParts<S> for Sender {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        let caller = parts.extensions.get::<ConnectInfo<Caller>>();
        Ok(Sender(caller.map(|ConnectInfo(caller)| caller.0.ip().to_string()).unwrap_or_default()))
    }
}

impl FromRequestParts<ApiState> for KnownHandset {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        let bearer =
            parts.headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
        let session = match bearer {
            Some(session) => Some(session.trim().to_owned()),
            None => {
                from_the_page(&parts.method, &parts.headers)?;
                cookie(&parts.headers, COOKIE)
            }
        };
        let known = session.and_then(|session| handset::of_session(&state.shared, &session));
        known.ok_or_else(|| Problem::new(StatusCode::UNAUTHORIZED, "session", "this handset has no session", "sign a new challenge"))
    }
}

/// A change with a cookie must come from our own page.
pub(super) fn from_the_page(method: &Method, headers: &HeaderMap) -> Result<(), Problem> {
    if matches!(*method, Method::GET | Method::HEAD) || headers.contains_key(PAGE_HEADER) {
        return Ok(());
    }
    let remedy = format!("send the header `{PAGE_HEADER}`");
    Err(Problem::new(StatusCode::FORBIDDEN, "cross-site", "a change with a session must come from the page", remedy))
}

pub(super) fn cookie(headers: &HeaderMap, name: &str) -> Option<String> {
    let lines = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    lines.flat_map(|line| line.split(';')).find_map(|pair| Some(pair.trim().strip_prefix(name)?.strip_prefix('=')?.to_owned()))
}

pub(super) fn set_cookie(state: &ApiState, name: &str, value: &str, seconds: u64) -> String {
    let secure = if state.tls { "; Secure" } else { "" };
    format!("{name}={value}; Path=/handset; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}")
}

fn wrong(kind: &str, said: impl Into<String>, remedy: impl Into<String>) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, kind, said, remedy)
}

pub(super) fn live(state: &ApiState) -> Result<Arc<LiveSite>, Problem> {
    let none = || Problem::new(StatusCode::SERVICE_UNAVAILABLE, "no-site", "no site is in force yet", "come back later");
    state.shared.live.load_full().ok_or_else(none)
}

/// The name of a device as it is kept.
pub(super) fn label(text: &str) -> Result<String, Problem> {
    let label = text.trim();
    if label.is_empty() || label.len() > LABEL || label.chars().any(char::is_control) {
        let said = format!("a name has 1 to {LABEL} bytes and no control characters");
        return Err(wrong("label", said, "choose a short one, such as `phone`"));
    }
    Ok(label.to_owned())
}

/// What a phone that is nobody's yet may know.
#[derive(Serialize)]
struct PageView {
    site: String,
    /// Whether people can sign in to their own page.
    signs_in: bool,
}

async fn page(State(state): State<ApiState>) -> Result<Json<PageView>, Problem> {
    let live = live(&state)?;
    Ok(Json(PageView { site: live.site.name.clone(), signs_in: live.site.handset.chain.is_some() }))
}

/// An invitation's code.
#[derive(Deserialize)]
struct PeekRequest {
    invitation: String,
}

/// What an invitation is to.
#[derive(Serialize)]
struct Peeked {
    site: String,
    name: String,
    factor: Invited,
    until_us: u64,
}

/// Opens an invitation without using it; wrong ones are counted for whoever tries them.
async fn open_invitation(state: &ApiState, sender: &Sender, code: &str) -> Result<(crate::records::Invitation, Arc<PersonRow>), Problem> {
    let key = format!("invitation/{}", sender.0);
    if !crate::operators::may_try_often(&state.guesses, &key) {
        let remedy = "wait five minutes";
        return Err(Problem::new(StatusCode::TOO_MANY_REQUESTS, "too-many", "too many invitations were tried from this address", remedy));
    }
    let opened = state.shared.records.invitation(invitations::hash_code(code), clock::now()).await?;
    crate::operators::note(&state.guesses, &key, opened != Opened::Unknown);
    if let Some((said, remedy)) = invitations::why_not(&opened) {
        let status = if opened == Opened::Unknown { StatusCode::NOT_FOUND } else { StatusCode::GONE };
        return Err(Problem::new(status, "invitation", said, remedy));
    }
    let Opened::Open(invitation) = opened else { return Err(Problem::not_found("there is no such invitation", "ask for a new one")) };
    let person = invitations::invited_person(&state.shared, &invitation).filter(|person| !person.disabled);
    let person = person.ok_or_else(|| Problem::not_found("there is no such invitation", "ask for a new one"))?;
    Ok((invitation, person))
}

async fn peek(State(state): State<ApiState>, sender: Sender, Body(request): Body<PeekRequest>) -> Result<Json<Peeked>, Problem> {
    let (invitation, person) = open_invitation(&state, &sender, &request.invitation).await?;
    let live = live(&state)?;
    Ok(Json(Peeked { site: live.site.name.clone(), name: person.name.clone(), factor: invitation.factor, until_us: invitation.until_us }))
}

/// A handset to enrol.
#[derive(Deserialize)]
struct EnrolRequest {
    invitation: String,
    /// What the person calls it.
    label: String,
    /// Base64url of an uncompressed P-256 point.
    public_key: String,
    /// Over [`handset::enrolment_text`].
    signature: String,
}

/// A handset as it knows itself.
#[derive(Serialize)]
struct Enrolled {
    person: String,
    device: u64,
    /// What an operator must type before the handset counts.
    reference: Option<String>,
}

async fn enrol(
    State(state): State<ApiState>,
    sender: Sender,
    Body(request): Body<EnrolRequest>,
) -> Result<(StatusCode, Json<Enrolled>), Problem> {
    let (shared, wanted) = (&state.shared, label(&request.label)?);
    let key = handset::read_key(&request.public_key)
        .ok_or_else(|| wrong("public-key", "the public key is no P-256 point", "send 65 bytes in base64url, beginning with 4"))?;
    let text = handset::enrolment_text(&request.invitation, &request.public_key, &request.label);
    if !handset::is_signed(&key, &text, &request.signature) {
        return Err(wrong("signature", "the signature is not of this key over this enrolment", "see docs/handset-protocol.md"));
    }
    let (invitation, person) = open_invitation(&state, &sender, &request.invitation).await?;
    if invitation.factor != Invited::Approval {
        return Err(wrong("invitation", "this invitation is to an authenticator app", "open it as a link"));
    }
    let live = live(&state)?;
    let (kind, sealed) = (DeviceKind::Handset, shared.seal.seal(&seed_purpose(&person.source, &person.login), &key));
    // Whoever has given a factor already is proved better than by a comparison.
    let waits_for = if invitation.operator == super::own::BY_FACTOR { None } else { invitations::waits_for(&live.site) };
    let settings = FactorSettings { waits_for, ..FactorSettings::default() };
    let reference = settings.waits_for.as_ref().map(shown);
    let label = invitations::free_label(&person, kind, &wanted);
    let factor = NewFactor { kind, label, sealed, settings, pin: None };
    let (opened, id) = shared.agreement.use_invitation(invitations::hash_code(&request.invitation), factor, clock::now()).await?;
    let Some(device) = id else { return Err(used_meanwhile(&opened)) };
    enrolled(shared, &person, &invitation)?;
    tracing::info!(person = invitation.person, device, waits = reference.is_some(), "a handset was enrolled");
    Ok((StatusCode::CREATED, Json(Enrolled { person: invitation.person, device, reference })))
}

/// What the device shows until somebody has confirmed it.
fn shown(waits_for: &WaitsFor) -> String {
    let WaitsFor::Operator(reference) = waits_for;
    invitations::shown_reference(reference)
}

fn used_meanwhile(opened: &Opened) -> Problem {
    let (said, remedy) = invitations::why_not(opened).unwrap_or(("the person is gone", "ask for a new one"));
    Problem::new(StatusCode::GONE, "invitation", said, remedy)
}

/// Takes a used invitation and what came of it over into what is known.
fn enrolled(shared: &Shared, person: &PersonRow, invitation: &crate::records::Invitation) -> Result<(), Problem> {
    shared.roster.refresh_person(&shared.records, &person.source, &person.login)?;
    let used = crate::records::Invitation { used_us: Some(clock::now().micros()), ..invitation.clone() };
    shared.roster.note_invitation(&invitation.person, Some(used));
    shared.tell_person(&invitation.person);
    Ok(())
}

async fn begin_app(State(state): State<ApiState>, sender: Sender, Body(request): Body<PeekRequest>) -> Result<Json<NewApp>, Problem> {
    let (invitation, person) = open_invitation(&state, &sender, &request.invitation).await?;
    if invitation.factor != Invited::Totp {
        return Err(wrong("invitation", "this invitation is to a handset", "open it as a link"));
    }
    Ok(Json(invitations::begin_app(&state.shared, &live(&state)?.site, &person)))
}

/// The first code of an app.
#[derive(Deserialize)]
pub(super) struct AppCode {
    #[serde(default)]
    pub(super) invitation: String,
    pub(super) ticket: String,
    pub(super) code: String,
    #[serde(default)]
    pub(super) label: Option<String>,
}

pub(super) fn not_proved(why: NotProved) -> Problem {
    let remedy = match why {
        NotProved::Code => "wait for the next code and look at the phone's clock",
        _ => "begin again",
    };
    wrong("code", why.to_string(), remedy)
}

async fn finish_app(State(state): State<ApiState>, sender: Sender, Body(request): Body<AppCode>) -> Result<StatusCode, Problem> {
    let (shared, live) = (&state.shared, live(&state)?);
    let (invitation, person) = open_invitation(&state, &sender, &request.invitation).await?;
    let wanted = label(request.label.as_deref().unwrap_or("app"))?;
    let app = invitations::prove_app(shared, &live, &person, &request.ticket, &request.code).map_err(not_proved)?;
    let factor = invitations::app_factor(&person, app.sealed, &wanted);
    let hash = invitations::hash_code(&request.invitation);
    let (opened, added) = shared.agreement.use_invitation_to_app(hash, factor, app.used, clock::now()).await?;
    let Some((id, at)) = added else { return Err(used_meanwhile(&opened)) };
    enrolled(shared, &person, &invitation)?;
    shared.roster.note_state(id, at);
    Ok(StatusCode::CREATED)
}

/// Which handset wants a session.
#[derive(Deserialize)]
struct ChallengeRequest {
    person: String,
    device: u64,
}

#[derive(Serialize)]
struct Challenged {
    challenge: String,
}

async fn challenge(State(state): State<ApiState>, Body(request): Body<ChallengeRequest>) -> Json<Challenged> {
    Json(Challenged { challenge: handset::challenge(&state.shared, &request.person, request.device) })
}

#[derive(Deserialize)]
struct SessionRequest {
    challenge: String,
    /// Over [`handset::session_text`].
    signature: String,
}

#[derive(Serialize)]
struct Begun {
    /// For handsets that send `authorization: Bearer`; the page uses the cookie.
    session: String,
}

async fn session(State(state): State<ApiState>, Body(request): Body<SessionRequest>) -> Result<Response, Problem> {
    let begun = handset::begin_session(&state.shared, &request.challenge, &request.signature);
    let (session, _) = begun.ok_or_else(|| {
        let remedy = "if it repeats, the handset was removed: enrol it again";
        Problem::new(StatusCode::UNAUTHORIZED, "session", "the handset is not known here, or did not sign its challenge", remedy)
    })?;
    let cookie = set_cookie(&state, COOKIE, &session, 12 * 3600);
    Ok(([(header::SET_COOKIE, cookie)], Json(Begun { session })).into_response())
}

async fn end_session(State(state): State<ApiState>) -> Response {
    (StatusCode::NO_CONTENT, [(header::SET_COOKIE, set_cookie(&state, COOKIE, "", 0))]).into_response()
}

/// A code that the page shows.
#[derive(Serialize)]
struct OwnCode {
    label: String,
    code: String,
    /// When the next one comes.
    until_us: u64,
}

/// What a handset shows of itself.
#[derive(Serialize)]
struct Me {
    site: String,
    name: String,
    login: String,
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

async fn me(State(state): State<ApiState>, handset: KnownHandset) -> Result<Json<Me>, Problem> {
    let (shared, live, now) = (&state.shared, live(&state)?, clock::now());
    let reference = handset.device.settings.waits_for.as_ref().map(shown);
    let shows = live.site.handset.shows_code && reference.is_none();
    Ok(Json(Me {
        site: live.site.name.clone(),
        name: handset.person.name.clone(),
        login: handset.person.login.clone(),
        device: handset.device.id,
        label: handset.device.label.clone(),
        reference,
        keys: handset::keys(shared, &handset.person).into_iter().map(|key| key.label).collect(),
        takes_keys: live.site.handset.address.is_some(),
        codes: if shows { own_codes(shared, &handset.person, now) } else { Vec::new() },
        stopped_until_us: shared.roster.stop_of(&handset.key, now).map(|stop| stop.until_us),
        now_us: now.micros(),
    }))
}

/// The person's codes by time, of devices without a PIN.
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

/// What waits for the person, as the text that is signed.
#[derive(Debug, Serialize)]
struct Waiting {
    shown: Option<Arc<str>>,
    now_us: u64,
}

fn waiting(state: &ApiState, handset: &KnownHandset) -> Waiting {
    let now = clock::now();
    // A handset that nobody has confirmed yet is asked nothing.
    let counts = handset.device.settings.waits_for.is_none();
    Waiting { shown: state.shared.approvals.waiting(&handset.key, now).filter(|_| counts), now_us: now.micros() }
}

async fn approval(State(state): State<ApiState>, handset: KnownHandset) -> Json<Waiting> {
    Json(waiting(&state, &handset))
}

/// What waits now, then each change of it; `device` when something about the person's own devices has changed.
async fn events(State(state): State<ApiState>, handset: KnownHandset) -> Sse<impl Stream<Item = Result<SseEvent, Infallible>>> {
    let heard = state.shared.approvals.listen(&handset.key);
    let shared_events = state.shared.events.subscribe();
    let first = to_event(&waiting(&state, &handset));
    let begun = (state, handset, heard, shared_events, Some(first));
    let stream = stream::unfold(begun, async |(state, handset, mut heard, mut events, first)| {
        if let Some(first) = first {
            return Some((Ok(first), (state, handset, heard, events, None)));
        }
        let mut stopped = state.stopped.clone();
        let event = loop {
            let changed = async {
                match &mut heard {
                    Some(heard) => heard.recv().await.is_ok_and(|()| true),
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                _ = changed => break to_event(&waiting(&state, &current(&state, &handset)?)),
                event = events.recv() => match event {
                    Ok(Event::Person { person }) if person == handset.key => break SseEvent::default().event("device").data("{}"),
                    Err(tokio::sync::broadcast::error::RecvError::Closed) => return None,
                    _ => {}
                },
                _ = stopped.wait_for(|stopped| *stopped) => return None,
            }
        };
        Some((Ok(event), (state, handset, heard, events, None)))
    });
    Sse::new(stream).keep_alive(KeepAlive::default())
}

/// The handset as it is now; none once it was removed.
fn current(state: &ApiState, handset: &KnownHandset) -> Option<KnownHandset> {
    let person = state.shared.roster.get(&handset.key).filter(|person| !person.disabled)?;
    let device = person.factors.iter().find(|factor| factor.id == handset.device.id)?.clone();
    Some(KnownHandset { person, key: handset.key.clone(), device })
}

fn to_event(waiting: &Waiting) -> SseEvent {
    SseEvent::default().event("approval").data(serde_json::to_string(waiting).unwrap_or_default())
}

/// An answer to an approval.
#[derive(Deserialize)]
struct AnswerRequest {
    decision: Decision,
    /// The number that was picked.
    #[serde(default)]
    number: Option<u8>,
    /// Over [`handset::answer_text`].
    signature: String,
    /// What the security key said, where one must prove the answer.
    #[serde(default)]
    key: Option<PublicKeyCredential>,
}

/// What an answer did.
#[derive(Serialize)]
struct Answered {
    /// `approved`, `denied` or `stopped`.
    outcome: &'static str,
    said: String,
}

fn approval_id(text: &str) -> Result<u64, Problem> {
    let id = (text.len() == 16).then(|| u64::from_str_radix(text, 16).ok()).flatten();
    id.ok_or_else(|| Problem::not_found("there is no such approval", "it may be over"))
}

async fn answer(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Path(id): Path<String>,
    Body(request): Body<AnswerRequest>,
) -> Result<Json<Answered>, Problem> {
    let (shared, id, live) = (&state.shared, approval_id(&id)?, live(&state)?);
    if handset.device.settings.waits_for.is_some() {
        return Err(Problem::new(
            StatusCode::FORBIDDEN,
            "unconfirmed",
            "this handset is not confirmed yet",
            "read its reference to an operator",
        ));
    }
    let shown = shared.approvals.shown(id, &handset.key);
    let mut key = None;
    if let Some(shown) = &shown {
        let public = shared.roster.opened(&handset.person, &handset.device);
        let decision = serde_json::to_value(request.decision).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default();
        let text = handset::answer_text(&decision, request.number, shown);
        if !public.is_some_and(|public| handset::is_signed(public.expose(), &text, &request.signature)) {
            metrics::approval("signature-wrong");
            tracing::warn!(person = handset.key, device = handset.device.id, "an answer's signature does not verify");
            let said = "the signature is not of this handset over what was shown";
            return Err(Problem::new(StatusCode::FORBIDDEN, "signature", said, "reload the page and answer again"));
        }
        let needs_key = serde_json::from_str::<Shown>(shown).is_ok_and(|shown| shown.with_key);
        if needs_key && request.decision == Decision::Approve {
            key = Some(prove_with_key(&state, &live, &handset, id, request.key.as_ref()).await?);
        }
    }
    let said =
        Said { decision: request.decision, number: request.number, handset: handset.device.id, device: handset.device.label.clone(), key };
    let taken = shared.approvals.answer(id, &handset.key, said, clock::now());
    after_answer(&state, &live, &handset, request.decision, taken).await
}

async fn prove_with_key(
    state: &ApiState,
    live: &LiveSite,
    handset: &KnownHandset,
    id: u64,
    answer: Option<&PublicKeyCredential>,
) -> Result<String, Problem> {
    let answer = answer.ok_or_else(|| wrong("key", "this login must be proved with a security key", "touch the key"))?;
    let (key, kept) = state.keys.finish_proving(&state.shared, &live.site, handset, id, answer).map_err(|why| key_problem(&why))?;
    if let Some(kept) = kept {
        let sealed = state.shared.seal.seal(&seed_purpose(&handset.person.source, &handset.person.login), &kept);
        state.shared.records.set_sealed(key.id, sealed).await?;
        state.shared.roster.refresh_person(&state.shared.records, &handset.person.source, &handset.person.login)?;
    }
    Ok(key.label)
}

fn key_problem(why: &KeyTrouble) -> Problem {
    let remedy = match why {
        KeyTrouble::NoAddress => "an operator sets `address` under `[handset]`",
        KeyTrouble::NoKey => "add a security key on this page first",
        KeyTrouble::NoRound | KeyTrouble::Wrong(_) => "try again",
    };
    Problem::new(StatusCode::FORBIDDEN, "key", why.to_string(), remedy)
}

async fn after_answer(
    state: &ApiState,
    live: &LiveSite,
    handset: &KnownHandset,
    decision: Decision,
    taken: Taken,
) -> Result<Json<Answered>, Problem> {
    let shared = &state.shared;
    let conflict = |kind: &str, said: String| Err(Problem::new(StatusCode::CONFLICT, kind, said, "begin the login again if it was yours"));
    let ask = match taken {
        Taken::Decided { approved: true, .. } => {
            metrics::approval("approved");
            return Ok(Json(Answered { outcome: "approved", said: "approved".into() }));
        }
        Taken::Decided { ask, .. } => ask,
        Taken::Late { by, references } => {
            metrics::approval("late");
            note_late(shared, handset, decision, by, references);
            return conflict("late", format!("too late by {:.1} s: the login has ended", by.as_secs_f32()));
        }
        Taken::Before => return conflict("answered", "this was answered before, here or on another of your devices".into()),
        Taken::Withdrawn => return conflict("withdrawn", "the login went on without it: another factor was given".into()),
        Taken::Unknown => return Err(Problem::not_found("there is no such approval", "it may be over")),
    };
    if decision != Decision::NotMe {
        metrics::approval("denied");
        let said = if decision == Decision::Approve { "that is not the number on the screen: denied" } else { "denied" };
        return Ok(Json(Answered { outcome: "denied", said: said.into() }));
    }
    metrics::approval("disowned");
    let now = clock::now();
    let until = now.plus(live.site.handset.stop);
    let stop = StopRow {
        at_us: now.micros(),
        until_us: until.micros(),
        gateway: ask.gateway.clone(),
        caller: ask.from.clone(),
        reference: ask.reference.clone(),
    };
    shared.agreement.stop(handset.key.clone(), stop.clone()).await?;
    shared.roster.note_stop(&handset.key, Some(stop));
    tracing::warn!(person = handset.key, gateway = ask.gateway, from = ask.from, "says that a login was not theirs: approvals are stopped");
    let notice = Event::Notice {
        person: handset.key.clone(),
        gateway: ask.gateway.clone(),
        from: ask.from.clone(),
        reference: ask.reference.clone(),
    };
    // Nobody listening is no error.
    let _ = shared.events.send(notice);
    shared.tell_person(&handset.key);
    let minutes = live.site.handset.stop.as_secs().div_ceil(60);
    Ok(Json(Answered { outcome: "stopped", said: format!("noted; no login can ask you for {minutes} min. Change your password") }))
}

/// Writes a late answer under the logins that it was for.
fn note_late(shared: &Shared, handset: &KnownHandset, decision: Decision, by: std::time::Duration, references: Vec<String>) {
    let what = match decision {
        Decision::Approve => "approved",
        Decision::Deny => "denied",
        Decision::NotMe => "“that was not me” said",
    };
    let said = format!("{what} on “{}”, {:.1} s too late: the login had ended", handset.device.label, by.as_secs_f32());
    for reference in references {
        let step = Step {
            hop: Hop::Reply,
            what: "late answer".into(),
            tone: Tone::Warn,
            at_us: by.as_micros() as u64,
            took_us: 0,
            said: said.clone(),
            line: None,
        };
        shared.add_step(reference, step);
    }
}

async fn key_for_approval(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Path(id): Path<String>,
) -> Result<Json<serde_json::Value>, Problem> {
    let id = approval_id(&id)?;
    if state.shared.approvals.shown(id, &handset.key).is_none() {
        return Err(Problem::not_found("there is no such approval", "it may be over"));
    }
    let options = state.keys.begin_proving(&state.shared, &live(&state)?.site, &handset, id).map_err(|why| key_problem(&why))?;
    Ok(Json(serde_json::to_value(options).unwrap_or_default()))
}

async fn begin_key(State(state): State<ApiState>, handset: KnownHandset) -> Result<Json<serde_json::Value>, Problem> {
    if handset.device.settings.waits_for.is_some() {
        return Err(Problem::new(
            StatusCode::FORBIDDEN,
            "unconfirmed",
            "this handset is not confirmed yet",
            "read its reference to an operator",
        ));
    }
    let options = state.keys.begin_adding(&state.shared, &live(&state)?.site, &handset).map_err(|why| key_problem(&why))?;
    Ok(Json(serde_json::to_value(options).unwrap_or_default()))
}

#[derive(Deserialize)]
struct NewKey {
    label: String,
    credential: RegisterPublicKeyCredential,
}

async fn finish_key(State(state): State<ApiState>, handset: KnownHandset, Body(request): Body<NewKey>) -> Result<StatusCode, Problem> {
    let (shared, wanted) = (&state.shared, label(&request.label)?);
    let kept = state.keys.finish_adding(&live(&state)?.site, &handset, &request.credential).map_err(|why| key_problem(&why))?;
    let (source, login) = (handset.person.source.clone(), handset.person.login.clone());
    let (kind, sealed) = (DeviceKind::Key, shared.seal.seal(&seed_purpose(&source, &login), &kept));
    let label = invitations::free_label(&handset.person, kind, &wanted);
    let factor = NewFactor { kind, label, sealed, settings: FactorSettings::default(), pin: None };
    shared.records.add_factor(source.clone(), login.clone(), factor, clock::now()).await?;
    shared.roster.refresh_person(&shared.records, &source, &login)?;
    shared.tell_person(&person_key(&source, &login));
    Ok(StatusCode::CREATED)
}

#[derive(Deserialize)]
pub(super) struct Renamed {
    pub(super) label: String,
}

/// A handset may take itself out, and no other: what else the person has is removed on the page that the person signs in to.
async fn remove(State(state): State<ApiState>, handset: KnownHandset, Path(id): Path<u64>) -> Result<StatusCode, Problem> {
    only_itself(&handset, id)?;
    let (source, login) = (handset.person.source.clone(), handset.person.login.clone());
    state.shared.records.remove_factor(source.clone(), login.clone(), id).await?;
    state.shared.roster.refresh_person(&state.shared.records, &source, &login)?;
    state.shared.tell_person(&handset.key);
    Ok(StatusCode::NO_CONTENT)
}

async fn rename(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Path(id): Path<u64>,
    Body(request): Body<Renamed>,
) -> Result<StatusCode, Problem> {
    only_itself(&handset, id)?;
    let label = invitations::free_label(&handset.person, DeviceKind::Handset, &label(&request.label)?);
    state.shared.records.rename_factor(id, label).await?;
    state.shared.roster.refresh_person(&state.shared.records, &handset.person.source, &handset.person.login)?;
    state.shared.tell_person(&handset.key);
    Ok(StatusCode::NO_CONTENT)
}

fn only_itself(handset: &KnownHandset, id: u64) -> Result<(), Problem> {
    let itself = handset.device.id == id;
    if itself { Ok(()) } else { Err(Problem::not_found("that is not this handset", "sign in to your own page to change other devices")) }
}
