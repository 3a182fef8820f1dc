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
mod readings;
mod rehearsals;
mod secrets;
mod site;
mod status;
mod timing;
mod traces;
mod upstreams;

use auth::Schemes;
use guard::Insider;

pub use auth::SessionRequest;
pub use bivector_store::records::LoginCounts;
pub use chains::{ChainView, HopKind, HopView};
pub use directories::{DirectoryView, ProbeRequest};
pub use explain::{DrillRequest, Drilled, ReplayRequest, RuleSaid, RuleTried, RuleTry, Slower, WhoPeople, WhoPerson, WhoRule, WhoView};
pub use factors::{AddedFactor, FactorRequest, PinRequest, ResyncRequest};
pub use gateways::{GatewayView, LastLogin, RegisterRequest};
pub use invitations::{ConfirmRequest, InviteRequest, RenameRequest};
pub use logins::{LoginRequest, ReplyAttribute, Tried, TriedMethod};
pub use operators::{NewSignIn, NewToken, OperatorRequest, OperatorView, RoleRequest, SignInView, TokenRequest};
pub use people::{
    EditRequest, FactorState, FactorView, GuessesView, ImportRequest, InvitationView, LockView, PersonRequest, PersonState, PersonView,
    Released, RollOut, StopView, Suspension, SyncRequest, Undoable, Undone,
};
pub use problem::Problem;
pub use readings::{Read, ReadRequest};
pub use rehearsals::{RehearsalView, RehearsedView, RunChanges, RunRequest};
pub use secrets::{NextRequest, SecretRequest};
pub use site::{AppliedView, ApplyRequest, CheckRequest, Checked, CompareRequest, Compared, RestoreRequest};
pub use status::Status;
pub use timing::{DraftRequest, DraftView, SettingView, SimulateRequest, SimulationLine, TimingRequest, TimingView};
pub use traces::TraceView;
pub use upstreams::UpstreamView;

use crate::operators::Operators;
use crate::server::Connections;
use arc_swap::ArcSwap;
use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::{delete, get, post, put};
use bivector_engine::handset::KeyRounds;
use bivector_engine::shared::Shared;
use bivector_engine::signins::SignIns;
use bivector_engine::tries::Tries;
use bivector_manage::apply::Doors;
use bivector_store::error::ServiceError;
use ipnet::IpNet;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use tokio::sync::{Semaphore, watch};
use utoipa::OpenApi;

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
    /// What strangers have tried.
    pub tries: Arc<Tries>,
    /// Rounds with security keys.
    pub keys: Arc<KeyRounds>,
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
        let operators = Operators::load(&shared.records)?;
        Ok(ApiState {
            sign_ins: Arc::clone(&shared.sign_ins),
            shared,
            doors,
            operators: Arc::new(ArcSwap::from_pointee(operators)),
            tries: Arc::default(),
            keys: Arc::default(),
            simulations: Arc::new(Semaphore::new(1)),
            connections,
            names: exposure.names.iter().cloned().collect(),
            tls: exposure.tls.is_some(),
            exposure: Arc::new(exposure),
            stopped,
        })
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
    paths(
        status::status, doctor::doctor, auth::sign_in, auth::sign_out, site::current, site::check, site::apply, site::history, site::revision, site::compare_site,
        site::confirm_change, site::restore, secrets::list, secrets::set, secrets::next, secrets::retire, secrets::forget, operators::list,
        operators::add, operators::set_role, operators::remove, operators::token, operators::drop_token, operators::set_sign_in,
        operators::sessions, operators::end_sessions, operators::end_session, audit::list,
        audit::verify, chains::list, gateways::list, gateways::handover, gateways::register, upstreams::list, people::list, people::show, people::import, people::release,
        people::roll_out, people::put_person, people::suspend, people::remove, people::sync, people::edit, people::changes, people::undo,
        invitations::invite, invitations::withdraw, invitations::confirm, invitations::rename, factors::add,
        factors::remove, factors::pin, factors::resync, readings::read, logins::log_in, rehearsals::list, rehearsals::run, rehearsals::runs, rehearsals::show, rehearsals::interrupt,
        rehearsals::compare, rehearsals::report, rehearsals::write_starter, directories::list, directories::probe, traces::list, traces::waiting, traces::show, traces::export,
        traces::failures, explain::locate, explain::replay, explain::who, explain::try_rules, explain::drill, timing::budgets, timing::show, timing::draft, timing::simulation,
        traces::knocks, events::events
    ),
    components(schemas(bivector_engine::shared::Event)),
    security(("token" = [])),
    modifiers(&Schemes)
)]
struct Description;

/// The API's description as JSON, as served and as kept in `docs/openapi.json`.
pub fn description() -> String {
    Description::openapi().to_pretty_json().unwrap_or_default()
}

/// The routes of a listener.
pub fn router(state: ApiState, serves: Serves) -> Router {
    let health = Router::new().route("/healthz", get(async || "ok\n"));
    let phones = || Router::new().nest("/handset/v1", handset::router());
    let served = match serves {
        Serves::Everything => health.merge(operators_routes()).merge(phones()).fallback(crate::console::serve),
        Serves::Operators => health.merge(operators_routes()).fallback(crate::console::serve_operators),
        Serves::Phones => health.merge(phones()).fallback(crate::console::serve_phones),
    };
    let guarded = axum::middleware::from_fn_with_state(state.clone(), guard::guard);
    served.layer(DefaultBodyLimit::max(BODY)).layer(guarded).with_state(state)
}

/// What operators and their programs ask for.
fn operators_routes() -> Router<ApiState> {
    let api = Router::new()
        .route("/status", get(status::status))
        .route("/doctor", get(doctor::doctor))
        .route("/session", post(auth::sign_in).delete(auth::sign_out))
        .route("/site", get(site::current))
        .route("/site/check", post(site::check).layer(big()))
        .route("/site/revisions", get(site::history).post(site::apply).layer(big()))
        .route("/site/compare", post(site::compare_site).layer(big()))
        .route("/site/confirm", post(site::confirm_change))
        .route("/site/revisions/{number}", get(site::revision))
        .route("/site/revisions/{number}/restore", post(site::restore))
        .route("/secrets", get(secrets::list).put(secrets::set))
        .route("/secrets/{name}", delete(secrets::forget))
        .route("/secrets/{name}/next", put(secrets::next))
        .route("/secrets/{name}/retire", post(secrets::retire))
        .route("/operators", get(operators::list).post(operators::add))
        .route("/operators/{name}", put(operators::set_role).delete(operators::remove))
        .route("/operators/{name}/tokens", post(operators::token))
        .route("/operators/{name}/tokens/{label}", delete(operators::drop_token))
        .route("/operators/{name}/sign-in", put(operators::set_sign_in))
        .route("/operators/{name}/sessions", get(operators::sessions).delete(operators::end_sessions))
        .route("/operators/{name}/sessions/{id}", delete(operators::end_session))
        .route("/audit", get(audit::list))
        .route("/audit/verdict", get(audit::verify))
        .route("/chains", get(chains::list))
        .route("/upstreams", get(upstreams::list))
        .route("/people", get(people::list))
        .route("/people/import", post(people::import).layer(big()))
        .route("/people/edits", post(people::edit).layer(big()))
        .route("/people/sync", post(people::sync).layer(big()))
        .route("/people/roll-out", get(people::roll_out))
        .route("/people/changes", get(people::changes))
        .route("/people/changes/{number}/undo", post(people::undo))
        .route("/people/{source}/{login}", put(people::put_person).delete(people::remove))
        .route("/people/{source}/{login}/suspension", put(people::suspend))
        .route("/people/{source}/{login}/invitation", post(invitations::invite).delete(invitations::withdraw))
        .route("/people/{login}", get(people::show))
        .route("/people/{source}/{login}/release", post(people::release))
        .route("/people/{source}/{login}/factors", post(factors::add))
        .route("/people/{source}/{login}/factors/{id}", delete(factors::remove).put(invitations::rename))
        .route("/people/{source}/{login}/factors/{id}/confirm", post(invitations::confirm))
        .route("/people/{source}/{login}/factors/{id}/pin", put(factors::pin))
        .route("/people/{source}/{login}/factors/{id}/resync", post(factors::resync))
        .route("/readings", post(readings::read).layer(big()))
        .route("/gateways", get(gateways::list))
        .route("/gateways/{name}/handover", get(gateways::handover))
        .route("/gateways/{name}/addresses", post(gateways::register))
        .route("/directories", get(directories::list))
        .route("/directories/{name}/probe", post(directories::probe))
        .route("/logins", post(logins::log_in))
        .route("/rehearsals", get(rehearsals::list))
        .route("/rehearsals/starter", get(rehearsals::write_starter))
        .route("/rehearsals/{name}/runs", post(rehearsals::run).layer(big()))
        .route("/runs", get(rehearsals::runs))
        .route("/runs/{id}", get(rehearsals::show).delete(rehearsals::interrupt))
        .route("/runs/{id}/changes", get(rehearsals::compare))
        .route("/runs/{id}/report", get(rehearsals::report))
        .route("/traces", get(traces::list))
        .route("/traces/export", get(traces::export))
        .route("/traces/failures", get(traces::failures))
        .route("/traces/{reference}", get(traces::show))
        .route("/locate", post(explain::locate))
        .route("/site/replay", post(explain::replay).layer(big()))
        .route("/chains/{name}/who", get(explain::who))
        .route("/rules/try", post(explain::try_rules).layer(big()))
        .route("/drills", post(explain::drill))
        .route("/timing", get(timing::budgets))
        .route("/timing/{chain}", post(timing::show).layer(big()))
        .route("/timing/{chain}/draft", post(timing::draft).layer(big()))
        .route("/timing/{chain}/simulation", post(timing::simulation).layer(big()))
        .route("/waiting", get(traces::waiting))
        .route("/knocks", get(traces::knocks))
        .route("/events", get(events::events))
        .route("/openapi.json", get(async |_: Insider| ([("content-type", "application/json")], description())))
        .fallback(problem::no_such_route)
        .method_not_allowed_fallback(problem::no_such_method);
    Router::new().nest("/api/v1", api).route("/readyz", get(status::ready)).route("/metrics", get(status::metrics))
}
