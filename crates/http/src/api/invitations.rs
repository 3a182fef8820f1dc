//! Inviting people, and confirming that a new device is theirs.

use super::ApiState;
use super::auth::Operator;
use super::handset::{label, live};
use super::people::find;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::people::Made;
use bivector_api::people::PersonView;
use bivector_api::people::{ConfirmRequest, InviteRequest, RenameRequest};
use bivector_engine::invitations::{self as service, NotInvited};
use bivector_engine::tries::seconds_until;
use bivector_site::Invited;
use bivector_store::agreement::Tally;
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{DeviceKind, Edit, FactorRow, FactorSettings, WaitsFor};

pub(super) fn not_invited(why: NotInvited) -> Problem {
    let (status, kind, remedy) = match &why {
        NotInvited::Nobody(..) => (StatusCode::NOT_FOUND, "not-found", "check the spelling, or add the person with `bivector person add`"),
        NotInvited::SourceDown(_) => (StatusCode::CONFLICT, "source-down", "try again once the source answers"),
        NotInvited::NoCourier(_) => {
            (StatusCode::UNPROCESSABLE_ENTITY, "courier", "name a courier of the site, or hand the invitation over")
        }
        NotInvited::NoAddress(_) => (StatusCode::UNPROCESSABLE_ENTITY, "no-address", "add it to the person, or hand the invitation over"),
        NotInvited::NotSent(_) => (StatusCode::CONFLICT, "not-sent", "check the courier, or hand over the invitation yourself"),
        NotInvited::NoSite => (StatusCode::CONFLICT, "no-site", "apply one with `bivector site apply FILE`"),
        NotInvited::Records(_) | NotInvited::Service(_) => (StatusCode::INTERNAL_SERVER_ERROR, "service", "look at the service's log"),
    };
    Problem::new(status, kind, why.to_string(), remedy)
}

/// Invites a person; an earlier invitation to the same factor ends. The code is told this once.
#[utoipa::path(post, operation_id = "people_invite", path = "/people/{source}/{login}/invitation", tag = "people",
    request_body = InviteRequest, params(("source" = String, Path), ("login" = String, Path)),
    responses((status = 201, body = Made), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn invite(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
    Body(request): Body<InviteRequest>,
) -> Result<(StatusCode, Json<Made>), Problem> {
    operator.may(Role::Operate)?;
    let live = live(&state)?;
    let whom = service::make_known(&state.shared, &live, &source, &login).await.map_err(not_invited)?;
    let template = live.site.newcomers.iter().find(|template| whom.groups.contains(&template.group));
    let factor = request.factor.or(template.map(|template| template.factor)).unwrap_or(Invited::Approval);
    let named = |name: &str| live.site.couriers.iter().position(|courier| courier.name == name);
    let send_by = match &request.send_by {
        Some(name) => Some(named(name).ok_or_else(|| {
            let known: Vec<&str> = live.site.couriers.iter().map(|courier| courier.name.as_str()).collect();
            Problem::new(
                StatusCode::UNPROCESSABLE_ENTITY,
                "courier",
                format!("unknown courier `{name}`"),
                format!("known: {}", known.join(", ")),
            )
        })?),
        None => None,
    };
    let made = service::invite(&state.shared, &live, &whom, factor, send_by, &operator.name).await.map_err(not_invited)?;
    let sent = made.sent_to.as_ref().map(|to| format!(", sent to {to}")).unwrap_or_default();
    operator.did(&state, "person.invite", format!("{} to {}{sent}", made.person, factor.name())).await?;
    Ok((StatusCode::CREATED, Json(made)))
}

/// Ends a person's open invitation.
#[utoipa::path(delete, operation_id = "people_withdraw", path = "/people/{source}/{login}/invitation", tag = "people",
    params(("source" = String, Path), ("login" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn withdraw(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    operator.may(Role::Operate)?;
    let key = person_key(&source, &login);
    if state.shared.records.withdraw_invitations(key.clone()).await? == 0 {
        return Err(Problem::not_found(format!("{key} has no open invitation"), "see `bivector person show`"));
    }
    state.shared.catch_up().await?;
    state.shared.tell_person(&key);
    operator.did(&state, "person.invite.withdraw", key).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Confirms that a new handset is the person's: the operator types the reference that it shows.
#[utoipa::path(post, operation_id = "factors_confirm", path = "/people/{source}/{login}/factors/{id}/confirm", tag = "people",
    request_body = ConfirmRequest, params(("source" = String, Path), ("login" = String, Path), ("id" = u64, Path)),
    responses((status = 200, body = PersonView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn confirm(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login, id)): Path<(String, String, u64)>,
    Body(request): Body<ConfirmRequest>,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let (shared, person) = (&state.shared, find(&state.shared, &source, &login)?);
    let reference_of = |factor: &FactorRow| factor.settings.waits_for.as_ref().map(|WaitsFor::Operator(own)| own.clone());
    // Without a number: the one that shows this reference, or else any that waits, to say that it shows another.
    let waiting = || person.factors.iter().filter(|factor| factor.settings.waits_for.is_some());
    let shows = |factor: &&FactorRow| reference_of(factor).is_some_and(|own| service::is_reference(&request.reference, &own));
    let factor = match id {
        0 => waiting().find(shows).or_else(|| waiting().next()),
        id => person.factors.iter().find(|factor| factor.id == id),
    };
    let factor =
        factor.ok_or_else(|| Problem::not_found(format!("{login} has no device awaiting confirmation"), "see `bivector factor list`"))?;
    let Some(reference) = reference_of(factor) else {
        return Err(Problem::new(
            StatusCode::CONFLICT,
            "confirmed",
            format!("“{}” is already confirmed", factor.label),
            "there is nothing to confirm",
        ));
    };
    let key = person_key(&source, &login);
    let attempt = state.shared.tries.begin(Tally::Confirmation, &factor.id.to_string()).await?.map_err(|refused| {
        let remedy = format!("wait {} seconds, and let the person read it out again", seconds_until(refused.until));
        Problem::new(StatusCode::TOO_MANY_REQUESTS, "too-many", "too many wrong references for this device", remedy)
    })?;
    let right = service::is_reference(&request.reference, &reference);
    if right {
        attempt.right();
    } else {
        drop(attempt);
        operator.did(&state, "factor.confirm.refused", format!("{key} “{}”: another reference was typed", factor.label)).await?;
        let said =
            format!("the reference does not match “{}”: if the person read it out correctly, this is not their device", factor.label);
        return Err(Problem::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "reference",
            said,
            "compare again; if it still differs, remove the device",
        ));
    }
    shared.records.set_settings(factor.id, FactorSettings { waits_for: None, ..factor.settings.clone() }).await?;
    shared.catch_up().await?;
    shared.tell_person(&key);
    operator.did(&state, "factor.confirm", format!("{key} “{}”", factor.label)).await?;
    Ok(Json(crate::api::person_views::person_view(&*find(shared, &source, &login)?, shared).await?))
}

/// Gives a factor another name.
#[utoipa::path(put, operation_id = "factors_rename", path = "/people/{source}/{login}/factors/{id}", tag = "people",
    request_body = RenameRequest, params(("source" = String, Path), ("login" = String, Path), ("id" = u64, Path)),
    responses((status = 200, body = PersonView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn rename(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login, id)): Path<(String, String, u64)>,
    Body(request): Body<RenameRequest>,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let (shared, person) = (&state.shared, find(&state.shared, &source, &login)?);
    let factor = person.factors.iter().find(|factor| factor.id == id);
    let factor =
        factor.ok_or_else(|| Problem::not_found(format!("{login} has no factor with the number {id}"), "see `bivector factor list`"))?;
    let wanted = label(&request.label)?;
    let kind: DeviceKind = factor.kind;
    if person.factors.iter().any(|other| other.kind == kind && other.label == wanted && other.id != id) {
        let said = format!("{login} has another {kind} called “{wanted}”");
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "label", said, "choose another name"));
    }
    let what = format!("{}: {kind} “{}” is now called “{wanted}”", person_key(&source, &login), factor.label);
    let edit = Edit::RenameFactor { source: person.source.clone(), login: person.login.clone(), factor: id, label: wanted };
    shared.records.change_people(operator.name.clone(), what.clone(), vec![edit], clock::now()).await?;
    shared.catch_up().await?;
    operator.did(&state, "factor.rename", what).await?;
    Ok(Json(crate::api::person_views::person_view(&*find(shared, &source, &login)?, shared).await?))
}
