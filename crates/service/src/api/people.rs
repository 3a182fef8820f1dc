//! People and their factors.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use crate::clock;
use crate::people::{Imported, import as import_people};
use crate::records::{FactorRow, PersonRow, Role};
use crate::roster::{Roster, person_key};
use crate::shared::Shared;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_core::Moment;
use bivector_core::device::Makes;
use bivector_core::login::{SecretAnswer, WrongTry, masked};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;

/// A person, without anything secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// The login name.
    pub login: String,
    /// The source that knows the person.
    pub source: String,
    /// The name for display.
    pub name: String,
    /// Groups kept here, for people of the roster.
    pub groups: Vec<String>,
    /// Whether the person is kept out.
    pub disabled: bool,
    /// Whether a password is kept here.
    pub has_password: bool,
    /// What is kept of it for methods that prove it: `text`, `nt-hash` or nothing.
    pub keeps: Option<String>,
    /// Where codes by mail go, mostly hidden; none where only the source knows it.
    pub mail: Option<String>,
    /// Where codes by text message and voice go, mostly hidden; none where only the source knows it.
    pub phone: Option<String>,
    /// The language that the person reads; empty if not known here.
    pub language: String,
    /// Wrong codes since the last right one.
    pub lock: Option<LockView>,
    /// Factors.
    pub factors: Vec<FactorView>,
}

/// Wrong codes and PINs of a person since the last right one.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LockView {
    /// How many.
    pub wrong: u32,
    /// How many lock.
    pub after: u32,
    /// When the first was typed, in microseconds since 1970.
    pub first_us: u64,
    /// When the last was typed.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
    /// Until when the person is locked, if so.
    pub locked_until_us: Option<u64>,
}

/// What became of a person's wrong codes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Released {
    /// The person's key.
    pub person: String,
    /// Whether there were any to forget.
    pub released: bool,
}

/// How a factor is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FactorState {
    /// It can be used.
    Ready,
    /// All its codes are used.
    UsedUp,
    /// Its time is over.
    Ended,
    /// Its secret does not open with this key file.
    Unreadable,
}

/// A factor, without its seed and codes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorView {
    /// Its number.
    pub id: u64,
    /// `totp`, `hotp`, `recovery` or `temporary`.
    pub kind: String,
    /// What the person calls it.
    pub label: String,
    /// How it is.
    pub state: FactorState,
    /// Digits of a code.
    pub digits: u8,
    /// Seconds that a code by time lives.
    pub period: Option<u32>,
    /// Seconds that its clock was off when it was last right; negative is late.
    pub drift_seconds: Option<i64>,
    /// The next counter of a device by count.
    pub counter: Option<u64>,
    /// Codes of a list, or uses of a temporary code, that are left.
    pub left: Option<u32>,
    /// When a temporary code ends, in microseconds since 1970.
    pub until_us: Option<u64>,
    /// Why a temporary code was issued.
    pub reason: Option<String>,
    /// Who issued it.
    pub operator: Option<String>,
    /// Whether a PIN was set for it.
    pub has_pin: bool,
    /// When it was added, in microseconds since 1970.
    pub created_us: u64,
    /// When it last let somebody in.
    pub last_used_us: Option<u64>,
}

/// People to import.
#[derive(Deserialize, ToSchema)]
pub struct ImportRequest {
    /// A CSV file with a header.
    csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    preview: bool,
}

impl FactorView {
    pub(super) fn of(person: &PersonRow, factor: &FactorRow, roster: &Roster, now: Moment) -> Self {
        let device = roster.device(person, factor, now);
        let at = roster.state(factor);
        let mut view = FactorView {
            id: factor.id,
            kind: factor.kind.to_string(),
            label: factor.label.clone(),
            state: FactorState::Unreadable,
            digits: device.as_ref().map_or(factor.settings.code.digits, bivector_core::device::Device::digits),
            period: None,
            drift_seconds: None,
            counter: None,
            left: None,
            until_us: factor.settings.until_us,
            reason: factor.settings.reason.clone(),
            operator: factor.settings.operator.clone(),
            has_pin: factor.pin.is_some(),
            created_us: factor.created_us,
            last_used_us: at.last_used_us,
        };
        let Some(device) = device else { return view };
        match &device.makes {
            Makes::ByTime { settings, drift, .. } => {
                (view.period, view.drift_seconds) = (Some(settings.period), Some(drift * i64::from(settings.period)));
            }
            Makes::ByCount { counter, .. } => view.counter = Some(*counter),
            Makes::List { codes, used } => view.left = Some(codes.expose().len() as u32 - used.count_ones()),
            Makes::Issued { left, .. } => view.left = Some(*left),
        }
        view.state = match &device.makes {
            _ if device.can_be_used(now) => FactorState::Ready,
            Makes::Issued { until, .. } if now > *until => FactorState::Ended,
            _ => FactorState::UsedUp,
        };
        view
    }
}

impl PersonView {
    pub(super) fn of(person: &PersonRow, shared: &Shared) -> Self {
        let now = clock::now();
        let after = shared.live.load().as_ref().map_or(0, |live| live.site.lockout.after);
        let lock = shared.roster.lock_of(&person_key(&person.source, &person.login), now);
        let keeps = || match shared.roster.kept(&person.login) {
            SecretAnswer::Text(_) => Some("text".to_owned()),
            SecretAnswer::NtHash(_) => Some("nt-hash".to_owned()),
            _ => None,
        };
        PersonView {
            login: person.login.clone(),
            source: person.source.clone(),
            name: person.name.clone(),
            groups: person.groups.clone(),
            disabled: person.disabled,
            has_password: person.password.is_some(),
            keeps: person.kept.as_ref().and_then(|_| keeps()),
            mail: person.mail.as_deref().map(masked),
            phone: person.phone.as_deref().map(masked),
            language: person.language.clone(),
            lock: lock.map(|lock| LockView {
                wrong: lock.points / WrongTry::CODE,
                after,
                first_us: lock.first_us,
                last_us: lock.last_us,
                gateway: lock.gateway,
                locked_until_us: lock.locked_until_us,
            }),
            factors: person.factors.iter().map(|factor| FactorView::of(person, factor, &shared.roster, now)).collect(),
        }
    }
}

/// A person by source and login name.
pub(super) fn find(shared: &Shared, source: &str, login: &str) -> Result<Arc<PersonRow>, Problem> {
    shared.roster.get(&person_key(source, login)).ok_or_else(|| {
        Problem::not_found(
            format!("nobody called `{login}` of `{source}` is known here"),
            "see `bivector person list`; a directory's people appear once they have a factor",
        )
    })
}

/// All people known here, by source and login.
#[utoipa::path(get, operation_id = "people_list", path = "/api/v1/people", tag = "people", responses((status = 200, body = [PersonView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Json<Vec<PersonView>> {
    Json(state.shared.roster.all().iter().map(|person| PersonView::of(person, &state.shared)).collect())
}

/// The people of a login name, one for each source that knows it.
#[utoipa::path(get, operation_id = "people_show", path = "/api/v1/people/{login}", tag = "people", params(("login" = String, Path)),
    responses((status = 200, body = [PersonView]), (status = 404, body = Problem)))]
pub(super) async fn show(State(state): State<ApiState>, _: Operator, Path(login): Path<String>) -> Result<Json<Vec<PersonView>>, Problem> {
    let all = state.shared.roster.all();
    let found: Vec<_> =
        all.iter().filter(|person| person.login.eq_ignore_ascii_case(&login)).map(|person| PersonView::of(person, &state.shared)).collect();
    if found.is_empty() {
        return Err(Problem::not_found(
            format!("nobody called `{login}` is known here"),
            "see `bivector person list`; a directory's people appear once they have a factor",
        ));
    }
    Ok(Json(found))
}

/// Forgets the wrong codes of a person, and with them a lock.
#[utoipa::path(post, operation_id = "people_release", path = "/api/v1/people/{source}/{login}/release", tag = "people",
    params(("source" = String, Path), ("login" = String, Path)), responses((status = 200, body = Released)))]
pub(super) async fn release(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
) -> Result<Json<Released>, Problem> {
    operator.may(Role::Operate)?;
    let key = person_key(&source, &login);
    // A directory's person may be locked without being known here.
    let released = state.shared.records.release(key.clone()).await?;
    state.shared.roster.note_lock(&key, None);
    if released {
        operator.did(&state, "person.release", key).await?;
    }
    Ok(Json(Released { person: person_key(&source, &login), released }))
}

/// Imports people from CSV: all of them, or none if a line is wrong.
#[utoipa::path(post, operation_id = "people_import", path = "/api/v1/people/import", tag = "people", request_body = ImportRequest,
    responses((status = 200, body = Imported), (status = 422, body = Imported, description = "lines are wrong; nothing was kept")))]
pub(super) async fn import(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<ImportRequest>,
) -> Result<(StatusCode, Json<Imported>), Problem> {
    operator.may(Role::Operate)?;
    let imported = import_people(&request.csv, request.preview, &state.shared).await?;
    if imported.errors.is_empty() && !request.preview {
        operator.did(&state, "people.import", format!("{} lines", request.csv.lines().count().saturating_sub(1))).await?;
    }
    let status = if imported.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, Json(imported)))
}
