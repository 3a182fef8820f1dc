//! People and their factors: listing, changing, importing, taking back.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::people::Change;
use bivector_api::people::Imported;
use bivector_api::people::{Edited, Leavers, Synced};
use bivector_engine::shared::Shared;
use bivector_manage::people::import as import_people;
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{Edit, NotUndone, PersonRow};
use std::collections::BTreeMap;
use std::sync::Arc;

pub(super) use super::person_views::*;
use bivector_api::people::Undoable;

/// A person by source and login name.
pub(super) fn find(shared: &Shared, source: &str, login: &str) -> Result<Arc<PersonRow>, Problem> {
    shared.roster.get(&person_key(source, login)).ok_or_else(|| {
        Problem::not_found(
            format!("unknown person `{login}` of `{source}`"),
            "see `bivector person list`; a directory's people appear once they have a factor",
        )
    })
}

/// People known here, by source and login.
#[utoipa::path(get, operation_id = "people_list", path = "/people", tag = "people", params(PeopleFilter),
    responses((status = 200, body = [bivector_api::people::PersonView])))]
pub(super) async fn list(
    State(state): State<ApiState>,
    _: Operator,
    Query(filter): Query<PeopleFilter>,
) -> Result<Json<Vec<bivector_api::people::PersonView>>, Problem> {
    let (shared, now) = (&state.shared, clock::now());
    let wanted = filter.search.as_deref().map(str::to_lowercase).filter(|search| !search.trim().is_empty());
    let fits = |person: &&Arc<PersonRow>| {
        let found = |search: &String| {
            let of_group = || person.groups.iter().any(|group| group.to_lowercase().contains(search));
            person.login.contains(search) || person.name.to_lowercase().contains(search) || person.source == *search || of_group()
        };
        wanted.as_ref().is_none_or(found)
            && filter.state.is_none_or(|state| crate::api::person_views::person_state(person, shared, now) == state)
    };
    let all = shared.roster.all();
    let found: Vec<&Arc<PersonRow>> = all.iter().filter(fits).take(filter.limit.unwrap_or(usize::MAX)).collect();
    let pushes = super::push_views::pushes(shared, found.iter().map(|person| &***person)).await?;
    Ok(Json(found.into_iter().map(|person| crate::api::person_views::person_view_with(person, shared, &pushes)).collect()))
}

/// How far everybody is on the way to a second factor.
#[utoipa::path(get, operation_id = "people_roll_out", path = "/people/roll-out", tag = "people", responses((status = 200, body = bivector_api::people::RollOut)))]
pub(super) async fn roll_out(State(state): State<ApiState>, _: Operator) -> Json<bivector_api::people::RollOut> {
    let (all, now) = (state.shared.roster.all(), clock::now());
    let mut states = BTreeMap::new();
    for person in &all {
        let state = serde_json::to_value(crate::api::person_views::person_state(person, &state.shared, now));
        let name = state.ok().and_then(|state| state.as_str().map(str::to_owned)).unwrap_or_default();
        *states.entry(name).or_insert(0) += 1;
    }
    Json(bivector_api::people::RollOut { people: all.len(), states })
}

/// Adds a person, or brings one up to date.
#[utoipa::path(put, operation_id = "people_put", path = "/people/{source}/{login}", tag = "people", request_body = PersonRequest,
    params(("source" = String, Path), ("login" = String, Path)),
    responses((status = 200, body = bivector_api::people::PersonView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn put_person(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
    Body(request): Body<PersonRequest>,
) -> Result<Json<bivector_api::people::PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let (shared, live) = (&state.shared, super::handset::live(&state)?);
    let sources: Vec<String> = live.site.directories.iter().map(|directory| directory.name.clone()).collect();
    let known = shared.roster.get(&person_key(&source, &login));
    let person = bivector_manage::people::one(&source, &login, request, known.as_deref(), &sources, &state.shared.hashing)
        .await
        .map_err(|(field, said, remedy)| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "person", format!("`{field}`: {said}"), remedy))?;
    let (source, login, is_new) = (person.source.clone(), person.login.clone(), known.is_none());
    let what = format!("{} {}", person_key(&source, &login), if is_new { "added" } else { "changed" });
    shared.records.change_people(operator.name.clone(), what.clone(), vec![Edit::Keep(Box::new(person))], clock::now()).await?;
    shared.catch_up().await?;
    shared.tell_person(&person_key(&source, &login));
    operator.did(&state, if is_new { "person.add" } else { "person.change" }, what).await?;
    if is_new && let Ok(whom) = bivector_engine::invitations::make_known(shared, &live, &source, &login).await {
        bivector_engine::invitations::welcome(shared, &live, &[whom], &operator.name).await;
    }
    Ok(Json(crate::api::person_views::person_view(&*find(shared, &source, &login)?, shared).await?))
}

/// Keeps a person out at once, or lets them in again.
#[utoipa::path(put, operation_id = "people_suspend", path = "/people/{source}/{login}/suspension", tag = "people", request_body = bivector_api::people::Suspension,
    params(("source" = String, Path), ("login" = String, Path)), responses((status = 200, body = bivector_api::people::PersonView), (status = 404, body = Problem)))]
pub(super) async fn suspend(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
    Body(request): Body<bivector_api::people::Suspension>,
) -> Result<Json<bivector_api::people::PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let shared = &state.shared;
    if shared.roster.get(&person_key(&source, &login)).is_none() {
        let live = super::handset::live(&state)?;
        bivector_engine::invitations::make_known(shared, &live, &source, &login).await.map_err(super::invitations::not_invited)?;
    }
    let person = find(shared, &source, &login)?;
    let (source, login) = (person.source.clone(), person.login.clone());
    let what = if request.suspended { "person.suspend" } else { "person.lift" };
    let said = format!("{} {}", person_key(&source, &login), if request.suspended { "suspended" } else { "let in again" });
    let edit = Edit::Suspend { source: source.clone(), login: login.clone(), suspended: request.suspended };
    shared.records.change_people(operator.name.clone(), said, vec![edit], clock::now()).await?;
    shared.catch_up().await?;
    shared.tell_person(&person_key(&source, &login));
    operator.did(&state, what, person_key(&source, &login)).await?;
    Ok(Json(crate::api::person_views::person_view(&*find(shared, &source, &login)?, shared).await?))
}

/// Forgets a person with all factors. Can be taken back.
#[utoipa::path(delete, operation_id = "people_remove", path = "/people/{source}/{login}", tag = "people",
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
    shared.catch_up().await?;
    shared.tell_person(&key);
    let (ending, of) = (Arc::clone(shared), key.clone());
    tokio::spawn(async move { bivector_manage::sessions::end_all_of(&ending, &of, "ended because the person was removed").await });
    operator.did(&state, "person.remove", what).await?;
    Ok(Json(Undoable { change }))
}

/// Compares people with a directory's group and brings them up to date.
#[utoipa::path(post, operation_id = "people_sync", path = "/people/sync", tag = "people", request_body = bivector_api::people::SyncRequest,
    responses((status = 200, body = Synced), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn sync(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<bivector_api::people::SyncRequest>,
) -> Result<Json<Synced>, Problem> {
    operator.may(Role::Operate)?;
    let live = super::handset::live(&state)?;
    let bivector_api::people::SyncRequest { directory, group, leavers, preview } = request;
    if !live.directories.iter().any(|source| source.name() == directory) {
        let known: Vec<&str> = live.directories.iter().map(|source| source.name()).collect();
        return Err(Problem::not_found(format!("unknown directory `{directory}`"), format!("known: {}", known.join(", "))));
    }
    let synced = bivector_manage::edits::sync(&directory, &group, leavers, preview, &operator.name, &state.shared, &live).await?;
    let synced = synced.map_err(|why| {
        Problem::new(StatusCode::CONFLICT, "source-down", format!("{directory} could not answer: {}", why.seen), why.cause.remedy())
    })?;
    if synced.members == 0 && !preview && leavers != Leavers::Keep {
        let said = format!("the group `{group}` of {directory} is empty; nothing was changed");
        return Err(Problem::new(
            StatusCode::CONFLICT,
            "group-empty",
            said,
            "check the group name; an empty result usually means a wrong name",
        ));
    }
    if synced.change.is_some() {
        let what = format!("{group} of {directory}: {} joined, {} left", synced.joined.len(), synced.left.len());
        operator.did(&state, "people.sync", what).await?;
    }
    Ok(Json(synced))
}

/// Makes a list of changes of people and factors: all of them, or none if a line is wrong.
#[utoipa::path(post, operation_id = "people_edit", path = "/people/edits", tag = "people", request_body = bivector_api::people::EditRequest,
    responses((status = 200, body = Edited), (status = 422, body = Edited, description = "lines are wrong; nothing was done")))]
pub(super) async fn edit(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<bivector_api::people::EditRequest>,
) -> Result<(StatusCode, Json<Edited>), Problem> {
    operator.may(Role::Operate)?;
    let live = super::handset::live(&state)?;
    let edited = bivector_manage::edits::edit(&request.csv, request.preview, &operator.name, &state.shared, &live).await?;
    if edited.errors.is_empty() && !request.preview {
        operator.did(&state, "people.edit", format!("{} lines", edited.lines.len())).await?;
    }
    let status = if edited.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, Json(edited)))
}

/// The newest changes of people and factors.
#[utoipa::path(get, operation_id = "people_changes", path = "/people/changes", tag = "people", responses((status = 200, body = [Change])))]
pub(super) async fn changes(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<Change>>, Problem> {
    Ok(Json(state.shared.records.people_changes().await?))
}

/// Takes a change of people and factors back, unless somebody whom it touched has been changed since.
#[utoipa::path(post, operation_id = "people_undo", path = "/people/changes/{number}/undo", tag = "people", params(("number" = u64, Path)),
    responses((status = 200, body = bivector_api::people::Undone), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn undo(
    State(state): State<ApiState>,
    operator: Operator,
    Path(number): Path<u64>,
) -> Result<Json<bivector_api::people::Undone>, Problem> {
    operator.may(Role::Operate)?;
    let conflict = |kind: &str, said: String, remedy: &str| Problem::new(StatusCode::CONFLICT, kind, said, remedy);
    let change = state.shared.records.undo_change(number, clock::now()).await?.map_err(|why| match why {
        NotUndone::Missing => Problem::not_found(format!("there is no change {number}"), "see `bivector person changes`"),
        NotUndone::Before(_) => conflict("undone", format!("change {number} has already been undone"), "there is nothing to do"),
        NotUndone::ChangedSince(people) => {
            let said = format!("changed since: {}", people.iter().take(10).cloned().collect::<Vec<_>>().join(", "));
            conflict("changed-since", said, "undo the later changes first, or edit these people by hand")
        }
    })?;
    state.shared.catch_up().await?;
    operator.did(&state, "people.undo", format!("{number}: {}", change.what)).await?;
    Ok(Json(bivector_api::people::Undone { change }))
}

/// The people of a login name, one for each source that knows it.
#[utoipa::path(get, operation_id = "people_show", path = "/people/{login}", tag = "people", params(("login" = String, Path)),
    responses((status = 200, body = [bivector_api::people::PersonView]), (status = 404, body = Problem)))]
pub(super) async fn show(
    State(state): State<ApiState>,
    _: Operator,
    Path(login): Path<String>,
) -> Result<Json<Vec<bivector_api::people::PersonView>>, Problem> {
    let all = state.shared.roster.all();
    let named = all.iter().filter(|person| person.login.eq_ignore_ascii_case(&login));
    let pushes = super::push_views::pushes(&state.shared, named.clone().map(|person| &**person)).await?;
    let found: Vec<_> = named.map(|person| crate::api::person_views::person_view_with(person, &state.shared, &pushes)).collect();
    if found.is_empty() {
        return Err(Problem::not_found(
            format!("unknown person `{login}`"),
            "see `bivector person list`; a directory's people appear once they have a factor",
        ));
    }
    Ok(Json(found))
}

/// Forgets the wrong codes of a person, and with them a lock; lets approvals go on; forgets remembered devices.
#[utoipa::path(post, operation_id = "people_release", path = "/people/{source}/{login}/release", tag = "people",
    params(("source" = String, Path), ("login" = String, Path)), responses((status = 200, body = bivector_api::people::Released)))]
pub(super) async fn release(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): Path<(String, String)>,
) -> Result<Json<bivector_api::people::Released>, Problem> {
    operator.may(Role::Operate)?;
    let key = person_key(&source, &login);
    // A directory's person may be locked without being known here.
    let released = bivector_manage::edits::release(&state.shared, &key).await?;
    if released {
        operator.did(&state, "person.release", key).await?;
    }
    Ok(Json(bivector_api::people::Released { person: person_key(&source, &login), released }))
}

/// Imports people from CSV: all of them, or none if a line is wrong.
#[utoipa::path(post, operation_id = "people_import", path = "/people/import", tag = "people", request_body = bivector_api::people::ImportRequest,
    responses((status = 200, body = Imported), (status = 422, body = Imported, description = "lines are wrong; nothing was kept")))]
pub(super) async fn import(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<bivector_api::people::ImportRequest>,
) -> Result<(StatusCode, Json<Imported>), Problem> {
    operator.may(Role::Operate)?;
    let imported = import_people(&request.csv, request.preview, &operator.name, &state.shared).await?;
    if imported.errors.is_empty() && !request.preview {
        operator.did(&state, "people.import", format!("{} lines", request.csv.lines().count().saturating_sub(1))).await?;
    }
    let status = if imported.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, Json(imported)))
}
