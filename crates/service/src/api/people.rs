//! People and their factors.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use crate::clock;
use crate::edits::{Edited, Leavers, Synced};
use crate::people::{Imported, import as import_people};
use crate::records::{Change, Edit, FactorRow, NotUndone, PersonRow, Role};
use crate::roster::{Roster, person_key};
use crate::shared::Shared;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use bivector_core::Moment;
use bivector_core::device::Makes;
use bivector_core::login::{SecretAnswer, WrongTry, masked};
use bivector_core::site::Invited;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::{IntoParams, ToSchema};

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
    /// How far the person is on the way to a second factor.
    pub state: PersonState,
    /// The newest invitation.
    pub invitation: Option<InvitationView>,
    /// Approvals that are stopped.
    pub stop: Option<StopView>,
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

/// An invitation, without its code.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationView {
    /// What it is to.
    pub factor: Invited,
    /// When it was made, in microseconds since 1970.
    pub created_us: u64,
    /// Until when it may be used.
    pub until_us: u64,
    /// Whether that is over.
    pub expired: bool,
    /// When it was used.
    pub used_us: Option<u64>,
    /// Where it was sent, mostly hidden.
    pub sent_to: Option<String>,
    /// Who made it.
    pub operator: String,
}

/// Approvals that are stopped, since the person said that a login was not theirs.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct StopView {
    /// When the person said so, in microseconds since 1970.
    pub at_us: u64,
    /// Until when they are stopped.
    pub until_us: u64,
    /// The gateway of that login.
    pub gateway: String,
    /// Where it came from.
    pub from: String,
    /// Its reference.
    pub reference: String,
}

/// How far a person is on the way to a second factor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PersonState {
    /// Nothing has happened yet.
    NotYet,
    /// An invitation is open.
    Invited,
    /// The last invitation has expired unused.
    Expired,
    /// A new device waits until an operator confirms it.
    Waiting,
    /// There is a factor that no login has used yet.
    Enrolled,
    /// A login has used a factor.
    Proven,
    /// Too many wrong codes have locked the person, or approvals are stopped.
    Locked,
    /// Kept out.
    Suspended,
}

/// How many people are how far.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RollOut {
    /// People known here.
    pub people: usize,
    /// Of them, by state: `not-yet`, `invited`, `expired`, `waiting`, `enrolled`, `proven`, `locked`, `suspended`.
    pub states: BTreeMap<String, usize>,
}

/// A person to add, or to bring up to date. What is not given stays.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PersonRequest {
    /// The name for display.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Groups, for people of the roster.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
    /// Where codes by mail go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// Where codes by text message and voice go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phone: Option<String>,
    /// The language that the person reads.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// A password, for people of the roster.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
}

/// Whether to keep a person out.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Suspension {
    /// Whether to keep out.
    pub suspended: bool,
}

/// A list of changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EditRequest {
    /// A CSV file with a header: `login`, `action`, `source`, `factor`, `value`.
    pub csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    pub preview: bool,
}

/// A directory's group to match.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SyncRequest {
    /// The directory.
    pub directory: String,
    /// The group, by name or whole DN.
    pub group: String,
    /// What happens to people known here who are not in it.
    #[serde(default)]
    pub leavers: Leavers,
    /// Whether to look only.
    #[serde(default)]
    pub preview: bool,
}

/// A change that was taken back.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// The change.
    pub change: Change,
}

/// Which people are listed.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct PeopleFilter {
    /// Part of the login name, the name for display, the source or a group.
    search: Option<String>,
    /// Only people who are this far.
    state: Option<PersonState>,
    /// At most so many; all if not given.
    limit: Option<usize>,
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
    /// It does not count before an operator has confirmed it, or a right code has.
    Waiting,
    /// Its secret does not open with this key file.
    Unreadable,
}

/// A factor, without its seed and codes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorView {
    /// Its number.
    pub id: u64,
    /// `totp`, `hotp`, `recovery`, `temporary`, `handset` or `key`.
    pub kind: String,
    /// What the person calls it.
    pub label: String,
    /// How it is.
    pub state: FactorState,
    /// Digits of a code; none where it makes no codes.
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
            digits: match factor.kind.code() {
                Some(_) => device.as_ref().map_or(factor.settings.code.digits, bivector_core::device::Device::digits),
                None => 0,
            },
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
        if factor.settings.waits_for.is_some() {
            view.state = FactorState::Waiting;
            return view;
        }
        if factor.kind.code().is_none() {
            let opens = roster.opened(person, factor).is_some();
            view.state = if opens { FactorState::Ready } else { FactorState::Unreadable };
            return view;
        }
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

impl PersonState {
    fn of(person: &PersonRow, shared: &Shared, now: Moment) -> Self {
        let key = person_key(&person.source, &person.login);
        let counts = |factor: &&FactorRow| factor.settings.waits_for.is_none();
        let locked = shared.roster.lock_of(&key, now).is_some_and(|lock| lock.locked_until_us.is_some());
        let invitation = || shared.roster.invitation_of(&key).filter(|invitation| invitation.used_us.is_none());
        match () {
            () if person.disabled => PersonState::Suspended,
            () if locked || shared.roster.stop_of(&key, now).is_some() => PersonState::Locked,
            () if person.factors.iter().filter(counts).any(|factor| shared.roster.state(factor).last_used_us.is_some()) => {
                PersonState::Proven
            }
            () if person.factors.iter().any(|factor| counts(&factor)) => PersonState::Enrolled,
            () if !person.factors.is_empty() => PersonState::Waiting,
            () => match invitation() {
                Some(invitation) if invitation.until_us < now.micros() => PersonState::Expired,
                Some(_) => PersonState::Invited,
                None => PersonState::NotYet,
            },
        }
    }
}

impl PersonView {
    pub(super) fn of(person: &PersonRow, shared: &Shared) -> Self {
        let now = clock::now();
        let after = shared.live.load().as_ref().map_or(0, |live| live.site.lockout.after);
        let key = person_key(&person.source, &person.login);
        let lock = shared.roster.lock_of(&key, now);
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
            state: PersonState::of(person, shared, now),
            invitation: shared.roster.invitation_of(&key).map(|invitation| InvitationView {
                factor: invitation.factor,
                created_us: invitation.created_us,
                until_us: invitation.until_us,
                expired: invitation.until_us < now.micros(),
                used_us: invitation.used_us,
                sent_to: invitation.sent_to,
                operator: invitation.operator,
            }),
            stop: shared.roster.stop_of(&key, now).map(|stop| StopView {
                at_us: stop.at_us,
                until_us: stop.until_us,
                gateway: stop.gateway,
                from: stop.caller,
                reference: stop.reference,
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

/// People known here, by source and login.
#[utoipa::path(get, operation_id = "people_list", path = "/api/v1/people", tag = "people", params(PeopleFilter),
    responses((status = 200, body = [PersonView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator, Query(filter): Query<PeopleFilter>) -> Json<Vec<PersonView>> {
    let (shared, now) = (&state.shared, clock::now());
    let wanted = filter.search.as_deref().map(str::to_lowercase).filter(|search| !search.trim().is_empty());
    let fits = |person: &&Arc<PersonRow>| {
        let found = |search: &String| {
            let of_group = || person.groups.iter().any(|group| group.to_lowercase().contains(search));
            person.login.contains(search) || person.name.to_lowercase().contains(search) || person.source == *search || of_group()
        };
        wanted.as_ref().is_none_or(found) && filter.state.is_none_or(|state| PersonState::of(person, shared, now) == state)
    };
    let all = shared.roster.all();
    Json(all.iter().filter(fits).take(filter.limit.unwrap_or(usize::MAX)).map(|person| PersonView::of(person, shared)).collect())
}

/// How far everybody is on the way to a second factor.
#[utoipa::path(get, operation_id = "people_roll_out", path = "/api/v1/people/roll-out", tag = "people", responses((status = 200, body = RollOut)))]
pub(super) async fn roll_out(State(state): State<ApiState>, _: Operator) -> Json<RollOut> {
    let (all, now) = (state.shared.roster.all(), clock::now());
    let mut states = BTreeMap::new();
    for person in &all {
        let state = serde_json::to_value(PersonState::of(person, &state.shared, now));
        let name = state.ok().and_then(|state| state.as_str().map(str::to_owned)).unwrap_or_default();
        *states.entry(name).or_insert(0) += 1;
    }
    Json(RollOut { people: all.len(), states })
}

/// Adds a person, or brings one up to date.
#[utoipa::path(put, operation_id = "people_put", path = "/api/v1/people/{source}/{login}", tag = "people", request_body = PersonRequest,
    params(("source" = String, Path), ("login" = String, Path)),
    responses((status = 200, body = PersonView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn put_person(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
    Body(request): Body<PersonRequest>,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let (shared, live) = (&state.shared, super::handset::live(&state)?);
    let sources: Vec<String> = live.site.directories.iter().map(|directory| directory.name.clone()).collect();
    let known = shared.roster.get(&person_key(&source, &login));
    let person = crate::people::one(&source, &login, request, known.as_deref(), &sources)
        .await
        .map_err(|(field, said, remedy)| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "person", format!("`{field}`: {said}"), remedy))?;
    let (source, login, is_new) = (person.source.clone(), person.login.clone(), known.is_none());
    let what = format!("{} {}", person_key(&source, &login), if is_new { "added" } else { "changed" });
    shared.records.change_people(operator.name.clone(), what.clone(), vec![Edit::Keep(Box::new(person))], clock::now()).await?;
    shared.roster.refresh_person(&shared.records, &source, &login)?;
    shared.tell_person(&person_key(&source, &login));
    operator.did(&state, if is_new { "person.add" } else { "person.change" }, what).await?;
    if is_new && let Ok(whom) = crate::invitations::make_known(shared, &live, &source, &login).await {
        crate::invitations::welcome(shared, &live, &[whom], &operator.name).await;
    }
    Ok(Json(PersonView::of(&*find(shared, &source, &login)?, shared)))
}

/// Keeps a person out at once, or lets them in again.
#[utoipa::path(put, operation_id = "people_suspend", path = "/api/v1/people/{source}/{login}/suspension", tag = "people", request_body = Suspension,
    params(("source" = String, Path), ("login" = String, Path)), responses((status = 200, body = PersonView), (status = 404, body = Problem)))]
pub(super) async fn suspend(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
    Body(request): Body<Suspension>,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let shared = &state.shared;
    if shared.roster.get(&person_key(&source, &login)).is_none() {
        let live = super::handset::live(&state)?;
        crate::invitations::make_known(shared, &live, &source, &login).await.map_err(super::invitations::not_invited)?;
    }
    let person = find(shared, &source, &login)?;
    let (source, login) = (person.source.clone(), person.login.clone());
    let what = if request.suspended { "person.suspend" } else { "person.lift" };
    let said = format!("{} {}", person_key(&source, &login), if request.suspended { "suspended" } else { "let in again" });
    let edit = Edit::Suspend { source: source.clone(), login: login.clone(), suspended: request.suspended };
    shared.records.change_people(operator.name.clone(), said, vec![edit], clock::now()).await?;
    shared.roster.refresh_person(&shared.records, &source, &login)?;
    shared.tell_person(&person_key(&source, &login));
    operator.did(&state, what, person_key(&source, &login)).await?;
    Ok(Json(PersonView::of(&*find(shared, &source, &login)?, shared)))
}

/// Forgets a person with all factors. Can be taken back.
#[utoipa::path(delete, operation_id = "people_remove", path = "/api/v1/people/{source}/{login}", tag = "people",
    params(("source" = String, Path), ("login" = String, Path)), responses((status = 200, body = Undoable), (status = 404, body = Problem)))]
pub(super) async fn remove(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
) -> Result<Json<Undoable>, Problem> {
    operator.may(Role::Operate)?;
    let (shared, person) = (&state.shared, find(&state.shared, &source, &login)?);
    let key = person_key(&person.source, &person.login);
    let what = format!("{key} removed, with {} factors", person.factors.len());
    let edit = Edit::Remove { source: person.source.clone(), login: person.login.clone() };
    let change = shared.records.change_people(operator.name.clone(), what.clone(), vec![edit], clock::now()).await?;
    shared.roster.refresh_person(&shared.records, &person.source, &person.login)?;
    shared.roster.note_invitation(&key, None);
    shared.tell_person(&key);
    operator.did(&state, "person.remove", what).await?;
    Ok(Json(Undoable { change }))
}

/// Something that can be taken back.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Undoable {
    /// Under this number.
    pub change: u64,
}

/// Compares people with a directory's group and brings them up to date.
#[utoipa::path(post, operation_id = "people_sync", path = "/api/v1/people/sync", tag = "people", request_body = SyncRequest,
    responses((status = 200, body = Synced), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn sync(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<SyncRequest>,
) -> Result<Json<Synced>, Problem> {
    operator.may(Role::Operate)?;
    let live = super::handset::live(&state)?;
    let SyncRequest { directory, group, leavers, preview } = request;
    if !live.directories.iter().any(|source| source.name() == directory) {
        let known: Vec<&str> = live.directories.iter().map(|source| source.name()).collect();
        return Err(Problem::not_found(format!("there is no directory `{directory}`"), format!("known: {}", known.join(", "))));
    }
    let synced = crate::edits::sync(&directory, &group, leavers, preview, &operator.name, &state.shared, &live).await?;
    let synced = synced.map_err(|why| {
        Problem::new(StatusCode::CONFLICT, "source-down", format!("{directory} could not say: {}", why.seen), why.cause.remedy())
    })?;
    if synced.members == 0 && !preview && leavers != Leavers::Keep {
        // Nothing was changed by it either, as long as nobody is left out by mistake: an empty group is most often a wrong name.
        tracing::warn!(group, "a sync found nobody in the group");
    }
    if synced.change.is_some() {
        let what = format!("{group} of {directory}: {} joined, {} left", synced.joined.len(), synced.left.len());
        operator.did(&state, "people.sync", what).await?;
    }
    Ok(Json(synced))
}

/// Makes a list of changes of people and factors: all of them, or none if a line is wrong.
#[utoipa::path(post, operation_id = "people_edit", path = "/api/v1/people/edits", tag = "people", request_body = EditRequest,
    responses((status = 200, body = Edited), (status = 422, body = Edited, description = "lines are wrong; nothing was done")))]
pub(super) async fn edit(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<EditRequest>,
) -> Result<(StatusCode, Json<Edited>), Problem> {
    operator.may(Role::Operate)?;
    let live = super::handset::live(&state)?;
    let edited = crate::edits::edit(&request.csv, request.preview, &operator.name, &state.shared, &live).await?;
    if edited.errors.is_empty() && !request.preview {
        operator.did(&state, "people.edit", format!("{} lines", edited.lines.len())).await?;
    }
    let status = if edited.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, Json(edited)))
}

/// The newest changes of people and factors.
#[utoipa::path(get, operation_id = "people_changes", path = "/api/v1/people/changes", tag = "people", responses((status = 200, body = [Change])))]
pub(super) async fn changes(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<Change>>, Problem> {
    Ok(Json(state.shared.records.people_changes().await?))
}

/// Takes a change of people and factors back, unless somebody whom it touched has been changed since.
#[utoipa::path(post, operation_id = "people_undo", path = "/api/v1/people/changes/{number}/undo", tag = "people", params(("number" = u64, Path)),
    responses((status = 200, body = Undone), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn undo(State(state): State<ApiState>, operator: Operator, Path(number): Path<u64>) -> Result<Json<Undone>, Problem> {
    operator.may(Role::Operate)?;
    let conflict = |kind: &str, said: String, remedy: &str| Problem::new(StatusCode::CONFLICT, kind, said, remedy);
    let change = state.shared.records.undo_change(number, clock::now()).await?.map_err(|why| match why {
        NotUndone::Missing => Problem::not_found(format!("there is no change {number}"), "see `bivector person changes`"),
        NotUndone::Before(_) => conflict("undone", format!("change {number} was taken back before"), "there is nothing to do"),
        NotUndone::ChangedSince(people) => {
            let said = format!("changed since: {}", people.iter().take(10).cloned().collect::<Vec<_>>().join(", "));
            conflict("changed-since", said, "take the later changes back first, or change these people by hand")
        }
    })?;
    state.shared.roster.refresh(&state.shared.records)?;
    operator.did(&state, "people.undo", format!("{number}: {}", change.what)).await?;
    Ok(Json(Undone { change }))
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

/// Forgets the wrong codes of a person, and with them a lock; lets approvals go on; forgets remembered devices.
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
    let released = crate::edits::release(&state.shared, &key).await?;
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
    let imported = import_people(&request.csv, request.preview, &operator.name, &state.shared).await?;
    if imported.errors.is_empty() && !request.preview {
        operator.did(&state, "people.import", format!("{} lines", request.csv.lines().count().saturating_sub(1))).await?;
    }
    let status = if imported.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, Json(imported)))
}
