//! Directories of the site: listed, and proved piece by piece.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, State};
use bivector_api::directories::ProbedServer;
use bivector_api::directories::{DirectoryView, ProbeRequest};
use bivector_api::operators::Role;
use bivector_engine::sources::probe::probe as probe_directory;

/// All directories of the active site.
#[utoipa::path(get, operation_id = "directories_list", path = "/directories", tag = "directories", responses((status = 200, body = [DirectoryView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Json<Vec<DirectoryView>> {
    let live = state.shared.live.load_full();
    let views = live.iter().flat_map(|live| {
        let site = &live.site;
        site.directories.iter().enumerate().map(|(index, directory)| DirectoryView {
            name: directory.name.clone(),
            servers: live.directories.get(index).map(|source| source.health()).unwrap_or_default(),
            base: directory.base.clone(),
            login: directory.login.clone(),
            chains: site
                .chains
                .iter()
                .filter(|chain| chain.asks(bivector_site::SourceRef::Directory(index)))
                .map(|chain| chain.name.clone())
                .collect(),
        })
    });
    Json(views.collect())
}

/// Proves every server of a directory piece by piece. No person's password is involved.
#[utoipa::path(post, operation_id = "directories_probe", path = "/directories/{name}/probe", tag = "directories", params(("name" = String, Path)),
    request_body = ProbeRequest, responses((status = 200, body = [ProbedServer]), (status = 404, body = Problem)))]
pub(super) async fn probe(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<ProbeRequest>,
) -> Result<Json<Vec<ProbedServer>>, Problem> {
    operator.may(Role::Operate)?;
    let live = state.shared.live.load_full();
    let directory = live.as_ref().and_then(|live| live.directories.iter().find(|directory| directory.name() == name)).cloned();
    let Some(directory) = directory else {
        let names: Vec<String> = live.iter().flat_map(|live| &live.directories).map(|directory| directory.name().to_owned()).collect();
        let known = if names.is_empty() { "the active site has none".to_owned() } else { format!("known: {}", names.join(", ")) };
        return Err(Problem::not_found(format!("unknown directory `{name}`"), known));
    };
    Ok(Json(probe_directory(&directory, request.person.as_deref(), &state.shared.data).await))
}
