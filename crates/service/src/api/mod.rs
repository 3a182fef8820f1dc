//! The HTTP API. Command line and console use nothing else.

mod auth;
mod directories;
mod events;
mod gateways;
mod logins;
mod people;
mod problem;
mod secrets;
mod site;
mod status;
mod traces;

use auth::Schemes;

pub use auth::SessionRequest;
pub use directories::{DirectoryView, ProbeRequest};
pub use gateways::{GatewayView, LastLogin, RegisterRequest};
pub use logins::{LoginRequest, ReplyAttribute, Tried};
pub use people::{FactorView, ImportRequest, PersonView};
pub use problem::Problem;
pub use secrets::SecretRequest;
pub use site::{AppliedView, ApplyRequest, CheckRequest, Checked};
pub use status::Status;
pub use traces::TraceView;

use crate::apply::Doors;
use crate::error::ServiceError;
use crate::shared::Shared;
use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::{get, post};
use std::collections::HashMap;
use std::sync::Arc;
use tokio::sync::watch;
use utoipa::OpenApi;

/// The largest body that is read, in bytes: a site file of 8 MiB as JSON.
const MAX_BODY: usize = 20 * 1024 * 1024;

/// What handlers share.
#[derive(Debug, Clone)]
pub struct ApiState {
    pub(super) shared: Arc<Shared>,
    pub(super) doors: Arc<Doors>,
    /// Operators by the hash of their token.
    operators: Arc<HashMap<Vec<u8>, String>>,
    /// Turns true when the service stops, so that streams end.
    stopped: watch::Receiver<bool>,
}

impl ApiState {
    /// Reads the operators.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn new(shared: Arc<Shared>, doors: Arc<Doors>, stopped: watch::Receiver<bool>) -> Result<Self, ServiceError> {
        let operators = shared.records.operators()?.into_iter().map(|(name, hash)| (hash, name)).collect();
        Ok(ApiState { shared, doors, operators: Arc::new(operators), stopped })
    }
}

/// The description of the API.
#[derive(OpenApi)]
#[openapi(
    info(title = "Bivector", description = "Runs, proves and explains login chains."),
    paths(
        status::status, auth::sign_in, auth::sign_out, site::current, site::check, site::apply, site::history, site::revision,
        secrets::list, secrets::set, people::list, people::show, people::import, logins::log_in, directories::list, directories::probe, traces::list, traces::show,
        traces::knocks, events::events
    ),
    components(schemas(crate::shared::Event)),
    security(("token" = [])),
    modifiers(&Schemes)
)]
struct Description;

/// The API's description as JSON, as served and as kept in `docs/openapi.json`.
pub fn description() -> String {
    Description::openapi().to_pretty_json().unwrap_or_default()
}

/// All routes: API, health, figures, console.
pub fn router(state: ApiState) -> Router {
    let api = Router::new()
        .route("/status", get(status::status))
        .route("/session", post(auth::sign_in).delete(auth::sign_out))
        .route("/site", get(site::current))
        .route("/site/check", post(site::check))
        .route("/site/revisions", get(site::history).post(site::apply))
        .route("/site/revisions/{number}", get(site::revision))
        .route("/secrets", get(secrets::list).put(secrets::set))
        .route("/people", get(people::list))
        .route("/people/import", post(people::import))
        .route("/people/{login}", get(people::show))
        .route("/gateways", get(gateways::list))
        .route("/gateways/{name}/handover", get(gateways::handover))
        .route("/gateways/{name}/addresses", post(gateways::register))
        .route("/directories", get(directories::list))
        .route("/directories/{name}/probe", post(directories::probe))
        .route("/logins", post(logins::log_in))
        .route("/traces", get(traces::list))
        .route("/traces/{reference}", get(traces::show))
        .route("/knocks", get(traces::knocks))
        .route("/events", get(events::events))
        .route("/openapi.json", get(async || ([("content-type", "application/json")], description())))
        .fallback(problem::no_such_route)
        .method_not_allowed_fallback(problem::no_such_method);
    Router::new()
        .nest("/api/v1", api)
        .route("/healthz", get(async || "ok\n"))
        .route("/readyz", get(status::ready))
        .route("/metrics", get(async || ([("content-type", "text/plain; version=0.0.4")], crate::metrics::render())))
        .fallback(crate::console::serve)
        .layer(DefaultBodyLimit::max(MAX_BODY))
        .with_state(state)
}
