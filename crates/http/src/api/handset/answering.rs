//! Approvals on a handset, and the security keys that prove them.

use super::super::ApiState;
use super::super::problem::{Body, Problem};
use super::{is_confirmed, label, live, session_in, wrong};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Sse;
use axum::response::sse::{Event as SseEvent, KeepAlive};
use bivector_api::approvals::{Decision, Shown};
use bivector_api::events::Event;
use bivector_core::login::ApprovalAsk;
use bivector_engine::approvals::{Said, Taken, Told};
use bivector_engine::handset::{
    self, KeyTrouble, KnownHandset, begin_adding_key, begin_proving_with_key, finish_adding_key, finish_proving_with_key,
};
use bivector_engine::invitations;
use bivector_engine::live::LiveSite;
use bivector_engine::roster::seed_purpose;
use bivector_engine::shared::Shared;
use bivector_model::trace::{LATE_ANSWER, Step};
use bivector_store::records::person_key;
use bivector_store::records::{DeviceKind, FactorSettings, NewFactor, StopRow};
use bivector_store::{clock, metrics};
use futures_util::stream::{self, Stream};
use serde::{Deserialize, Serialize};
use std::convert::Infallible;
use std::sync::Arc;
use tokio::sync::broadcast::error::RecvError;
use utoipa::ToSchema;
use webauthn_rs::prelude::{PublicKeyCredential, RegisterPublicKeyCredential};

/// What waits for the person, as the text that is signed.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Waiting {
    #[schema(value_type = Option<String>)]
    shown: Option<Arc<str>>,
    now_us: u64,
}

fn waiting(state: &ApiState, handset: &KnownHandset) -> Waiting {
    let now = clock::now();
    // A handset that nobody has confirmed yet is asked nothing.
    let counts = handset.device.settings.waits_for.is_none();
    Waiting { shown: state.shared.approvals.waiting(&handset.key, now).filter(|_| counts), now_us: now.micros() }
}

/// What waits for an answer.
#[utoipa::path(get, operation_id = "handset_approval", path = "/approval", tag = "handset", security(()),
    responses((status = 200, body = Waiting), (status = 401, body = Problem)))]
pub(super) async fn approval(State(state): State<ApiState>, handset: KnownHandset) -> Json<Waiting> {
    Json(waiting(&state, &handset))
}

/// What waits now, then each change of it; `device` when something about the person's own devices has changed.
#[utoipa::path(get, operation_id = "handset_events", path = "/events", tag = "handset", security(()),
    responses((status = 200, body = String), (status = 401, body = Problem)))]
pub(super) async fn events(
    State(state): State<ApiState>,
    handset: KnownHandset,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<SseEvent, Infallible>>>, Problem> {
    let session = session_in(&headers).unwrap_or_default();
    let broken = || Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "service", "the list of approvals is broken", "poll instead");
    let heard = state.shared.approvals.listen(&handset.key).ok_or_else(broken)?;
    let first = to_event(&waiting(&state, &handset));
    let begun = (state, session, heard, Some(first));
    let stream = stream::unfold(begun, async |(state, session, mut heard, first)| {
        if let Some(first) = first {
            return Some((Ok(first), (state, session, heard, None)));
        }
        let mut stopped = state.stopped.clone();
        let told = tokio::select! {
            told = heard.recv() => told,
            _ = stopped.wait_for(|stopped| *stopped) => return None,
        };
        // None once the session has ended, or the handset was removed.
        let handset = handset::of_session(&state.shared, &session)?;
        let event = match told {
            Err(RecvError::Closed) => return None,
            Ok(Told::Device) => SseEvent::default().event("device").data("{}"),
            // Whoever fell behind is told what waits now, which is all that counts.
            Ok(Told::Approval) | Err(RecvError::Lagged(_)) => to_event(&waiting(&state, &handset)),
        };
        Some((Ok(event), (state, session, heard, None)))
    });
    Ok(Sse::new(stream).keep_alive(KeepAlive::default()))
}

fn to_event(waiting: &Waiting) -> SseEvent {
    SseEvent::default().event("approval").data(serde_json::to_string(waiting).unwrap_or_default())
}

/// An answer to an approval.
#[derive(Deserialize, ToSchema)]
pub(super) struct AnswerRequest {
    decision: Decision,
    /// The number that was picked.
    #[serde(default)]
    number: Option<u8>,
    /// Over [`handset::answer_text`].
    signature: String,
    /// What the security key said, where one must prove the answer.
    #[serde(default)]
    #[schema(value_type = Option<serde_json::Value>)]
    key: Option<PublicKeyCredential>,
}

/// What an answer did.
#[derive(Serialize, ToSchema)]
pub(super) struct Answered {
    /// `approved`, `denied` or `stopped`.
    outcome: &'static str,
    said: String,
}

fn approval_id(text: &str) -> Result<u64, Problem> {
    let id = (text.len() == 16).then(|| u64::from_str_radix(text, 16).ok()).flatten();
    id.ok_or_else(|| Problem::not_found("this approval does not exist", "it may be over"))
}

/// Answers an approval.
#[utoipa::path(post, operation_id = "handset_answer", path = "/approvals/{id}", tag = "handset", request_body = AnswerRequest, security(()), params(("id" = String, Path)),
    responses((status = 200, body = Answered), (status = 401, body = Problem)))]
pub(super) async fn answer(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Path(id): Path<String>,
    Body(request): Body<AnswerRequest>,
) -> Result<Json<Answered>, Problem> {
    let (shared, id, live) = (&state.shared, approval_id(&id)?, live(&state)?);
    is_confirmed(&handset)?;
    let shown = shared.approvals.shown(id, &handset.key);
    let mut key = None;
    if let Some(shown) = &shown {
        let public = shared.roster.opened(&handset.person, &handset.device);
        let decision = serde_json::to_value(request.decision).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default();
        let text = handset::answer_text(&decision, request.number, shown);
        if !public.is_some_and(|public| handset::is_signed(public.expose(), &text, &request.signature)) {
            metrics::approval("signature-wrong");
            tracing::warn!(person = handset.key, device = handset.device.id, "an answer's signature does not verify");
            let said = "the signature does not match this handset and the approval shown";
            return Err(Problem::new(StatusCode::FORBIDDEN, "signature", said, "reload the page and answer again"));
        }
        let needs_key = serde_json::from_str::<Shown>(shown).is_ok_and(|shown| shown.with_key);
        if needs_key && request.decision == Decision::Approve {
            key = Some(prove_with_key(&state, &live, &handset, id, request.key.as_ref()).await?);
        }
    }
    let said =
        Said { decision: request.decision, number: request.number, handset: handset.device.id, device: handset.device.label.clone(), key };
    let taken = shared.approvals.answer(id, &handset.key, shown.as_deref().unwrap_or_default(), said, clock::now()).await?;
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
    let (key, kept) = finish_proving_with_key(&state.shared, &live.site, handset, id, answer).await.map_err(|why| key_problem(&why))?;
    if let Some(kept) = kept {
        let sealed = state.shared.seal.seal(&seed_purpose(&handset.person.source, &handset.person.login), &kept);
        state.shared.records.set_sealed(key.id, sealed).await?;
        state.shared.catch_up().await?;
    }
    Ok(key.label)
}

fn key_problem(why: &KeyTrouble) -> Problem {
    let remedy = match why {
        KeyTrouble::NoAddress => "an operator sets `address` under `[handset]`",
        KeyTrouble::Records(error) => return Problem::from(bivector_store::records::RecordsError(error.clone())),
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
    let conflict = |kind: &str, said: String| Err(Problem::new(StatusCode::CONFLICT, kind, said, "if it was your login, start it again"));
    let ask = match taken {
        Taken::Decided { approved: true, .. } => {
            metrics::approval("approved");
            return Ok(Json(Answered { outcome: "approved", said: "approved".into() }));
        }
        Taken::Decided { ask, .. } => ask,
        Taken::Late { by, references } => {
            metrics::approval("late");
            note_late(shared, handset, decision, by, references);
            return conflict("late", format!("too late: the login ended {:.1} s ago", by.as_secs_f32()));
        }
        Taken::Before => return conflict("answered", "this was already answered, here or on another of your devices".into()),
        Taken::Changed => {
            let said = "another sign-in of the same device has joined this one: look again";
            return Err(Problem::new(StatusCode::CONFLICT, "changed", said, "answer what is shown now"));
        }
        Taken::Withdrawn => return conflict("withdrawn", "no longer needed: the login used another factor".into()),
        Taken::Unknown => return Err(Problem::not_found("this approval does not exist", "it may be over")),
    };
    if ask.before_password && decision == Decision::NotMe {
        // Nobody has shown the right password, so nothing is stopped; this question just does not come again for an hour.
        metrics::approval("denied");
        return Ok(Json(Answered { outcome: "denied", said: "noted; you are not asked like this again for an hour".into() }));
    }
    if decision != Decision::NotMe {
        metrics::approval("denied");
        let said = if decision == Decision::Approve { "wrong number: denied" } else { "denied" };
        return Ok(Json(Answered { outcome: "denied", said: said.into() }));
    }
    disowned(shared, live, handset, &ask).await
}

/// The person says that a login was not theirs: approvals are stopped, and a notice is raised.
async fn disowned(shared: &Shared, live: &LiveSite, handset: &KnownHandset, ask: &ApprovalAsk) -> Result<Json<Answered>, Problem> {
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
    shared.records.stop_approvals(handset.key.clone(), stop).await?;
    shared.catch_up().await?;
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
    Ok(Json(Answered { outcome: "stopped", said: format!("reported. You will not be asked for {minutes} min. Change your password now") }))
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
        shared.add_step(reference, Step::afterwards(LATE_ANSWER, by, said.clone()));
    }
}

/// What a security key has to prove for an approval.
#[utoipa::path(post, operation_id = "handset_key_for_approval", path = "/approvals/{id}/key", tag = "handset", security(()), params(("id" = String, Path)),
    responses((status = 200, body = serde_json::Value), (status = 401, body = Problem)))]
pub(super) async fn key_for_approval(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Path(id): Path<String>,
) -> Result<Json<serde_json::Value>, Problem> {
    let id = approval_id(&id)?;
    if state.shared.approvals.shown(id, &handset.key).is_none() {
        return Err(Problem::not_found("this approval does not exist", "it may be over"));
    }
    let options = begin_proving_with_key(&state.shared, &live(&state)?.site, &handset, id).await.map_err(|why| key_problem(&why))?;
    Ok(Json(serde_json::to_value(options).unwrap_or_default()))
}

/// Begins to add a security key.
#[utoipa::path(post, operation_id = "handset_begin_key", path = "/keys", tag = "handset", security(()),
    responses((status = 200, body = serde_json::Value), (status = 401, body = Problem)))]
pub(super) async fn begin_key(State(state): State<ApiState>, handset: KnownHandset) -> Result<Json<serde_json::Value>, Problem> {
    is_confirmed(&handset)?;
    let options = begin_adding_key(&state.shared, &live(&state)?.site, &handset).await.map_err(|why| key_problem(&why))?;
    Ok(Json(serde_json::to_value(options).unwrap_or_default()))
}

#[derive(Deserialize, ToSchema)]
pub(super) struct NewKey {
    label: String,
    #[schema(value_type = serde_json::Value)]
    credential: RegisterPublicKeyCredential,
}

/// Adds a security key.
#[utoipa::path(put, operation_id = "handset_finish_key", path = "/keys", tag = "handset", request_body = NewKey, security(()),
    responses((status = 201, description = "adds a security key"), (status = 401, body = Problem)))]
pub(super) async fn finish_key(
    State(state): State<ApiState>,
    handset: KnownHandset,
    Body(request): Body<NewKey>,
) -> Result<StatusCode, Problem> {
    let (shared, wanted) = (&state.shared, label(&request.label)?);
    let kept = finish_adding_key(shared, &live(&state)?.site, &handset, &request.credential).await.map_err(|why| key_problem(&why))?;
    let (source, login) = (handset.person.source.clone(), handset.person.login.clone());
    let (kind, sealed) = (DeviceKind::Key, shared.seal.seal(&seed_purpose(&source, &login), &kept));
    let label = invitations::free_label(&handset.person, kind, &wanted);
    let factor = NewFactor { kind, label, sealed, settings: FactorSettings::default(), pin: None };
    shared.records.add_factor(source.clone(), login.clone(), factor, clock::now()).await?;
    shared.catch_up().await?;
    shared.tell_person(&person_key(&source, &login));
    Ok(StatusCode::CREATED)
}
