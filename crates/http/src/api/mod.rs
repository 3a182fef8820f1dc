//! The HTTP API. Command line and console use nothing else.

mod audit;
mod auth;
mod chains;
mod directories;
mod doctor;
mod events;
mod explain;
mod factors;
mod gateways;
mod guard;
mod handset;
mod invitations;
mod logins;
mod operators;
mod own;
mod people;
mod person_views;
mod problem;
mod push_views;
mod pushes;
mod readings;
mod rehearsals;
mod secrets;
mod sessions;
mod site;
mod status;
mod timing;
mod traces;
mod upstreams;

use auth::Schemes;
use guard::Insider;

pub use problem::Problem;

use crate::operators::Operators;
use crate::server::Connections;
use arc_swap::ArcSwap;
use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::get;
use bivector_engine::shared::Shared;
use bivector_engine::signins::SignIns;
use bivector_manage::apply::Doors;
use bivector_store::error::ServiceError;
use bivector_store::records::{Changed, Changes, Cursor};
use ipnet::IpNet;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use tokio::sync::{Semaphore, watch};
use utoipa::OpenApi;
use utoipa_axum::router::{OpenApiRouter, UtoipaMethodRouterExt};
use utoipa_axum::routes;

/// The largest body that is read, in bytes.
const BODY: usize = 64 * 1024;
/// The largest body of a route that takes a whole site or a list of people, in bytes: a site file of 8 MiB as JSON. Only operators may send
/// one: it is read once their sign-in is checked.
const BIG_BODY: usize = 20 * 1024 * 1024;

/// For routes that take a whole site or a list of people.
fn big() -> DefaultBodyLimit {
    DefaultBodyLimit::max(BIG_BODY)
}

/// What handlers share.
#[derive(Debug, Clone)]
pub struct ApiState {
    /// The state of the service.
    pub shared: Arc<Shared>,
    /// The doors that are open.
    pub doors: Arc<Doors>,
    /// Who may call.
    pub operators: Arc<ArcSwap<Operators>>,
    /// How far the operators in memory have followed the change feed.
    followed: Arc<Cursor>,
    /// Whose turn it is to simulate.
    simulations: Arc<Semaphore>,
    /// Sign-ins over HTTP.
    pub sign_ins: Arc<SignIns>,
    /// Connections that there are.
    pub connections: Arc<Connections>,
    /// Names of this service that may be asked for.
    names: Arc<[String]>,
    /// Whether it is served over TLS of its own.
    pub tls: bool,
    /// How it listens, for whoever reviews it.
    pub exposure: Arc<Exposure>,
    /// Turns true when the service stops, so that streams end.
    stopped: watch::Receiver<bool>,
}

impl ApiState {
    /// Reads the operators.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn new(
        shared: Arc<Shared>,
        doors: Arc<Doors>,
        connections: Arc<Connections>,
        exposure: Exposure,
        stopped: watch::Receiver<bool>,
    ) -> Result<Self, ServiceError> {
        let followed = shared.records.newest_change();
        let operators = Operators::load(&shared.records)?;
        Ok(ApiState {
            sign_ins: Arc::clone(&shared.sign_ins),
            shared,
            doors,
            operators: Arc::new(ArcSwap::from_pointee(operators)),
            followed: Arc::new(Cursor::at(followed)),
            simulations: Arc::new(Semaphore::new(1)),
            connections,
            names: exposure.names.iter().cloned().collect(),
            tls: exposure.tls.is_some(),
            exposure: Arc::new(exposure),
            stopped,
        })
    }

    /// Turns true when the service stops.
    pub fn stopped(&self) -> watch::Receiver<bool> {
        self.stopped.clone()
    }

    /// Brings operators, tokens and sign-ins in memory up to date with everything that was committed before this call.
    ///
    /// # Errors
    /// The records cannot be read; the next call tries again.
    pub async fn follow(&self) -> Result<(), ServiceError> {
        let apply = async |changes: &Changes| {
            if changes.incomplete || changes.changed.contains(&Changed::Operators) {
                let operators = Arc::new(Operators::load(&self.shared.records)?);
                self.operators.store(Arc::clone(&operators));
                self.sign_ins.end_programs(|hash| operators.has_token(hash));
            }
            Ok::<(), ServiceError>(())
        };
        self.followed.catch_up(&self.shared.records, apply).await?;
        Ok(self.sign_ins.follow().await?)
    }
}

/// How the service listens.
#[derive(Debug, Clone, Default)]
pub struct Exposure {
    /// Where API and console listen.
    pub operators: Option<SocketAddr>,
    /// Where the handset page listens, if that is apart.
    pub phones: Option<SocketAddr>,
    /// The certificate file.
    pub tls: Option<PathBuf>,
    /// Names that may be asked for.
    pub names: Vec<String>,
    /// Proxies that are trusted.
    pub proxies: Vec<IpNet>,
    /// Descriptors that this process may have.
    pub descriptors: usize,
    /// Whether the key file lies in the data folder.
    pub key_beside_records: bool,
    /// Whether commits wait for the disk.
    pub waits_for_disk: bool,
    /// A file that a backup touches.
    pub backup_stamp: Option<PathBuf>,
}

/// What a listener serves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Serves {
    /// Everything: there is but one.
    Everything,
    /// What operators need.
    Operators,
    /// What phones need, and nothing of the API.
    Phones,
}

/// The description of the API.
#[derive(OpenApi)]
#[openapi(
    info(title = "Bivector", description = "Runs, proves and explains login chains."),
    components(schemas(bivector_api::events::Event)),
    security(("token" = [])),
    modifiers(&Schemes)
)]
struct Description;

/// The API's description as JSON, as served and as kept in `docs/openapi.json`: made from the routes themselves.
pub fn description() -> String {
    let mut whole = Description::openapi();
    for (at, routes) in [(API, operators_routes()), (HANDSET, handset::router())] {
        let (_, described) = routes.split_for_parts();
        whole = whole.nest(at, described);
    }
    whole.to_pretty_json().unwrap_or_default()
}

/// Where the API of operators begins, and the protocol of handsets.
const API: &str = "/api/v1";
const HANDSET: &str = "/handset/v1";

/// Routes below a path, with answers in the API's own form for what is not there.
fn nested(at: &str, routes: OpenApiRouter<ApiState>) -> Router<ApiState> {
    let (routes, _) = routes.split_for_parts();
    Router::new().nest(at, routes.fallback(problem::no_such_route).method_not_allowed_fallback(problem::no_such_method))
}

/// The routes of a listener.
pub fn router(state: ApiState, serves: Serves) -> Router {
    let health = Router::new().route("/healthz", get(async || "ok\n"));
    let phones = || nested(HANDSET, handset::router());
    let operators = || nested(API, operators_routes()).route("/readyz", get(status::ready)).route("/metrics", get(status::metrics));
    let served = match serves {
        Serves::Everything => health.merge(operators()).merge(phones()).fallback(crate::console::serve),
        Serves::Operators => health.merge(operators()).fallback(crate::console::serve_operators),
        Serves::Phones => health.merge(phones()).fallback(crate::console::serve_phones),
    };
    let guarded = axum::middleware::from_fn_with_state(state.clone(), guard::guard);
    served.layer(DefaultBodyLimit::max(BODY)).layer(guarded).with_state(state)
}

/// What operators and their programs ask for.
fn operators_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(status::status))
        .routes(routes!(doctor::doctor))
        .routes(routes!(auth::sign_in, auth::sign_out))
        .routes(routes!(site::reference))
        .routes(routes!(site::current))
        .routes(routes!(site::check).layer(big()))
        .routes(routes!(site::history, site::apply).layer(big()))
        .routes(routes!(site::compare_site).layer(big()))
        .routes(routes!(site::confirm_change))
        .routes(routes!(site::revision))
        .routes(routes!(site::restore))
        .routes(routes!(secrets::list, secrets::set))
        .routes(routes!(secrets::forget))
        .routes(routes!(secrets::next))
        .routes(routes!(secrets::retire))
        .routes(routes!(operators::list, operators::add))
        .routes(routes!(operators::set_role, operators::remove))
        .routes(routes!(operators::token))
        .routes(routes!(operators::drop_token))
        .routes(routes!(operators::set_sign_in))
        .routes(routes!(operators::sessions, operators::end_sessions))
        .routes(routes!(operators::end_session))
        .routes(routes!(audit::list))
        .routes(routes!(audit::verify))
        .routes(routes!(chains::list))
        .routes(routes!(upstreams::list))
        .routes(routes!(people::list))
        .routes(routes!(people::import).layer(big()))
        .routes(routes!(people::edit).layer(big()))
        .routes(routes!(people::sync).layer(big()))
        .routes(routes!(people::roll_out))
        .routes(routes!(people::changes))
        .routes(routes!(people::undo))
        .routes(routes!(people::put_person, people::remove))
        .routes(routes!(people::suspend))
        .routes(routes!(invitations::invite, invitations::withdraw))
        .routes(routes!(people::show))
        .routes(routes!(people::release))
        .routes(routes!(factors::add))
        .routes(routes!(factors::remove, invitations::rename))
        .routes(routes!(invitations::confirm))
        .routes(routes!(factors::pin))
        .routes(routes!(factors::resync))
        .routes(routes!(pushes::test))
        .routes(routes!(pushes::keys, pushes::new_key))
        .routes(routes!(readings::read).layer(big()))
        .routes(routes!(gateways::list))
        .routes(routes!(gateways::handover))
        .routes(routes!(gateways::register))
        .routes(routes!(directories::list))
        .routes(routes!(directories::probe))
        .routes(routes!(logins::log_in))
        .routes(routes!(rehearsals::list))
        .routes(routes!(rehearsals::write_starter))
        .routes(routes!(rehearsals::run).layer(big()))
        .routes(routes!(rehearsals::runs))
        .routes(routes!(rehearsals::show, rehearsals::interrupt))
        .routes(routes!(rehearsals::compare))
        .routes(routes!(rehearsals::report))
        .routes(routes!(traces::list))
        .routes(routes!(traces::export))
        .routes(routes!(traces::failures))
        .routes(routes!(traces::show))
        .routes(routes!(sessions::list))
        .routes(routes!(sessions::export))
        .routes(routes!(sessions::chart))
        .routes(routes!(sessions::review))
        .routes(routes!(sessions::pools))
        .routes(routes!(sessions::show))
        .routes(routes!(sessions::end))
        .routes(routes!(sessions::change))
        .routes(routes!(explain::locate))
        .routes(routes!(explain::replay).layer(big()))
        .routes(routes!(explain::who))
        .routes(routes!(explain::try_rules).layer(big()))
        .routes(routes!(explain::drill))
        .routes(routes!(timing::budgets))
        .routes(routes!(timing::show).layer(big()))
        .routes(routes!(timing::draft).layer(big()))
        .routes(routes!(timing::simulation).layer(big()))
        .routes(routes!(traces::waiting))
        .routes(routes!(traces::knocks))
        .routes(routes!(events::events))
        .route("/openapi.json", get(async |_: Insider| ([("content-type", "application/json")], description())))
}

#[cfg(test)]
mod route_tests;
