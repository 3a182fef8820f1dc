//! Getting a handset or an app enrolled with an invitation.

use super::super::ApiState;
use super::super::auth::begin_from;
use super::super::guard::Caller;
use super::super::own::BY_FACTOR;
use super::super::problem::{Body, Problem};
use super::{label, live, shown, wrong};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_api::people::NewApp;
use bivector_engine::handset;
use bivector_engine::invitations::{self, NotProved};
use bivector_engine::roster::seed_purpose;
use bivector_engine::shared::Shared;
use bivector_site::Invited;
use bivector_store::agreement::Tally;
use bivector_store::clock;
use bivector_store::records::{DeviceKind, FactorSettings, Invitation, NewFactor, Opened, PersonRow};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;

/// An invitation's code.
#[derive(Deserialize, ToSchema)]
pub(super) struct PeekRequest {
    invitation: String,
}

/// What an invitation is to.
#[derive(Serialize, ToSchema)]
pub(super) struct Peeked {
    site: String,
    name: String,
    factor: Invited,
    until_us: u64,
}

/// Opens an invitation without using it; wrong ones are counted for whoever tries them.
async fn open_invitation(state: &ApiState, caller: &Caller, code: &str) -> Result<(Invitation, Arc<PersonRow>), Problem> {
    let attempt = begin_from(state, Tally::InvitationFrom, caller).await?;
    let opened = state.shared.records.invitation(invitations::hash_code(code), clock::now()).await?;
    if opened != Opened::Unknown {
        attempt.uncounted();
    }
    if let Some((said, remedy)) = invitations::why_not(&opened) {
        let status = if opened == Opened::Unknown { StatusCode::NOT_FOUND } else { StatusCode::GONE };
        return Err(Problem::new(status, "invitation", said, remedy));
    }
    let Opened::Open(invitation) = opened else { return Err(Problem::not_found("there is no such invitation", "ask for a new one")) };
    let person = invitations::invited_person(&state.shared, &invitation).filter(|person| !person.disabled);
    let person = person.ok_or_else(|| Problem::not_found("there is no such invitation", "ask for a new one"))?;
    Ok((invitation, person))
}

/// Whom an invitation is for.
#[utoipa::path(post, operation_id = "handset_peek", path = "/invitation", tag = "handset", request_body = PeekRequest, security(()),
    responses((status = 200, body = Peeked), (status = 401, body = Problem)))]
pub(super) async fn peek(State(state): State<ApiState>, caller: Caller, Body(request): Body<PeekRequest>) -> Result<Json<Peeked>, Problem> {
    let (invitation, person) = open_invitation(&state, &caller, &request.invitation).await?;
    let live = live(&state)?;
    Ok(Json(Peeked { site: live.site.name.clone(), name: person.name.clone(), factor: invitation.factor, until_us: invitation.until_us }))
}

/// A handset to enrol.
#[derive(Deserialize, ToSchema)]
pub(super) struct EnrolRequest {
    invitation: String,
    /// What the person calls it.
    label: String,
    /// Base64url of an uncompressed P-256 point.
    public_key: String,
    /// Over [`handset::enrolment_text`].
    signature: String,
}

/// A handset as it knows itself.
#[derive(Serialize, ToSchema)]
pub(super) struct Enrolled {
    person: String,
    device: u64,
    /// What an operator must type before the handset counts.
    reference: Option<String>,
}

/// Enrols a handset by an invitation.
#[utoipa::path(post, operation_id = "handset_enrol", path = "/devices", tag = "handset", request_body = EnrolRequest, security(()),
    responses((status = 201, body = Enrolled), (status = 401, body = Problem)))]
pub(super) async fn enrol(
    State(state): State<ApiState>,
    caller: Caller,
    Body(request): Body<EnrolRequest>,
) -> Result<(StatusCode, Json<Enrolled>), Problem> {
    let (shared, wanted) = (&state.shared, label(&request.label)?);
    let key = handset::read_key(&request.public_key)
        .ok_or_else(|| wrong("public-key", "the public key is no P-256 point", "send 65 bytes in base64url, beginning with 4"))?;
    let text = handset::enrolment_text(&request.invitation, &request.public_key, &request.label);
    if !handset::is_signed(&key, &text, &request.signature) {
        return Err(wrong("signature", "the signature is not of this key over this enrolment", "see docs/handset-protocol.md"));
    }
    let (invitation, person) = open_invitation(&state, &caller, &request.invitation).await?;
    if invitation.factor != Invited::Approval {
        return Err(wrong("invitation", "this invitation is to an authenticator app", "open it as a link"));
    }
    let live = live(&state)?;
    let (kind, sealed) = (DeviceKind::Handset, shared.seal.seal(&seed_purpose(&person.source, &person.login), &key));
    // Whoever has given a factor already is proved better than by a comparison.
    let waits_for = if invitation.operator == BY_FACTOR { None } else { invitations::waits_for(&live.site) };
    let settings = FactorSettings { waits_for, ..FactorSettings::default() };
    let reference = settings.waits_for.as_ref().map(shown);
    let label = invitations::free_label(&person, kind, &wanted);
    let factor = NewFactor { kind, label, sealed, settings, pin: None };
    let (opened, id) = shared.records.use_invitation(invitations::hash_code(&request.invitation), factor, clock::now()).await?;
    let Some(device) = id else { return Err(used_meanwhile(&opened)) };
    enrolled(shared, &invitation).await?;
    tracing::info!(person = invitation.person, device, waits = reference.is_some(), "a handset was enrolled");
    Ok((StatusCode::CREATED, Json(Enrolled { person: invitation.person, device, reference })))
}

fn used_meanwhile(opened: &Opened) -> Problem {
    let (said, remedy) = invitations::why_not(opened).unwrap_or(("the person is gone", "ask for a new one"));
    Problem::new(StatusCode::GONE, "invitation", said, remedy)
}

/// Takes over what came of an invitation.
async fn enrolled(shared: &Shared, invitation: &Invitation) -> Result<(), Problem> {
    shared.catch_up().await?;
    shared.tell_person(&invitation.person);
    Ok(())
}

/// Begins to set up an authenticator app by an invitation.
#[utoipa::path(post, operation_id = "handset_begin_app", path = "/apps", tag = "handset", request_body = PeekRequest, security(()),
    responses((status = 200, body = NewApp), (status = 401, body = Problem)))]
pub(super) async fn begin_app(
    State(state): State<ApiState>,
    caller: Caller,
    Body(request): Body<PeekRequest>,
) -> Result<Json<NewApp>, Problem> {
    let (invitation, person) = open_invitation(&state, &caller, &request.invitation).await?;
    if invitation.factor != Invited::Totp {
        return Err(wrong("invitation", "this invitation is to a handset", "open it as a link"));
    }
    Ok(Json(invitations::begin_app(&state.shared, &live(&state)?.site, &person)))
}

/// The first code of an app.
#[derive(Deserialize, ToSchema)]
pub(in crate::api) struct AppCode {
    #[serde(default)]
    pub(in crate::api) invitation: String,
    pub(in crate::api) ticket: String,
    pub(in crate::api) code: String,
    #[serde(default)]
    pub(in crate::api) label: Option<String>,
}

pub(in crate::api) fn not_proved(why: NotProved) -> Problem {
    let remedy = match why {
        NotProved::Code => "wait for the next code and look at the phone's clock",
        _ => "begin again",
    };
    wrong("code", why.to_string(), remedy)
}

/// Proves the app by its first code.
#[utoipa::path(post, operation_id = "handset_finish_app", path = "/apps/code", tag = "handset", request_body = AppCode, security(()),
    responses((status = 201, description = "proves the app by its first code"), (status = 401, body = Problem)))]
pub(super) async fn finish_app(State(state): State<ApiState>, caller: Caller, Body(request): Body<AppCode>) -> Result<StatusCode, Problem> {
    let (shared, live) = (&state.shared, live(&state)?);
    let (invitation, person) = open_invitation(&state, &caller, &request.invitation).await?;
    let wanted = label(request.label.as_deref().unwrap_or("app"))?;
    let app = invitations::prove_app(shared, &live, &person, &request.ticket, &request.code).map_err(not_proved)?;
    let factor = invitations::app_factor(&person, app.sealed, &wanted);
    let hash = invitations::hash_code(&request.invitation);
    let (opened, added) = shared.records.use_invitation_to_app(hash, factor, app.used, clock::now()).await?;
    let Some((id, at)) = added else { return Err(used_meanwhile(&opened)) };
    enrolled(shared, &invitation).await?;
    shared.roster.note_state(id, at);
    Ok(StatusCode::CREATED)
}
