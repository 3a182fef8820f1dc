//! How the service is.

use super::ApiState;
use super::auth::Operator;
use super::guard::Insider;
use super::problem::Problem;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_api::status::Status;
use bivector_manage::confirm::awaiting;

/// How the service is.
#[utoipa::path(get, path = "/status", tag = "status", responses((status = 200, body = Status), (status = 401, body = Problem)))]
pub(super) async fn status(State(state): State<ApiState>, operator: Operator) -> Json<Status> {
    let live = state.shared.live.load_full();
    let site = live.as_ref().map(|live| &live.site);
    Json(Status {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        site: site.map(|site| site.name.clone()).unwrap_or_default(),
        revision: live.as_ref().map_or(0, |live| live.revision),
        role: operator.role,
        confirm: awaiting(&state.shared).ok().flatten(),
        operator: operator.name,
        radius: state.doors.addresses().await.iter().map(ToString::to_string).collect(),
        accounting: state.doors.accounting().await.iter().map(ToString::to_string).collect(),
        gateways: site.map(|site| site.gateways.iter().map(|gateway| gateway.name.clone()).collect()).unwrap_or_default(),
        chains: site.map(|site| site.chains.iter().map(|chain| chain.name.clone()).collect()).unwrap_or_default(),
        people: state.shared.roster.all().len(),
    })
}

/// The service's figures, as Prometheus reads them.
pub(super) async fn metrics(State(state): State<ApiState>, _: Insider) -> impl axum::response::IntoResponse {
    bivector_store::metrics::approvals_waiting(state.shared.approvals.count());
    ([("content-type", "text/plain; version=0.0.4")], bivector_store::metrics::render())
}

/// Whether logins can be decided.
pub(super) async fn ready(State(state): State<ApiState>) -> (StatusCode, &'static str) {
    if state.shared.live.load().is_none() {
        return (StatusCode::SERVICE_UNAVAILABLE, "no site is active; apply one with `bivector site apply`\n");
    }
    if let Err(error) = state.shared.records.try_to_write().await {
        tracing::debug!(%error, "not ready");
        return (
            StatusCode::SERVICE_UNAVAILABLE,
            "the records cannot be written, so logins are refused; look at the free space of the data folder\n",
        );
    }
    match state.shared.records.read(|connection| connection.query_row("SELECT 1", [], |_| Ok(()))).await {
        Ok(()) => (StatusCode::OK, "ready\n"),
        Err(_) => (StatusCode::SERVICE_UNAVAILABLE, "the records cannot be read\n"),
    }
}
