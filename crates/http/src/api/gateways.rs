//! Gateways of the site: listed, handed over, given one more address.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::gateways::{GatewayView, LastLogin, RegisterRequest};
use bivector_api::operators::Role;
use bivector_api::site::AppliedView;
use bivector_explain::sheet::{Sheet, handover as handover_sheet};
use bivector_manage::apply::Change;
use bivector_manage::edit::add_address;
use bivector_site::Gateway;
use bivector_store::records::TraceFilter;
use bivector_wire::IntegrityPolicy;
use std::net::IpAddr;

/// All gateways of the active site, each with its newest login.
#[utoipa::path(get, operation_id = "gateways_list", path = "/gateways", tag = "gateways", responses((status = 200, body = [GatewayView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<GatewayView>>, Problem> {
    let Some(live) = state.shared.live.load_full() else { return Ok(Json(Vec::new())) };
    let mut views = Vec::new();
    for (index, gateway) in live.site.gateways.iter().enumerate() {
        let newest = TraceFilter { gateway: Some(gateway.name.clone()), limit: Some(1), ..TraceFilter::default() };
        let last = state.shared.records.traces(newest).await?.pop();
        views.push(GatewayView {
            name: gateway.name.clone(),
            from: from_of(gateway, &live.resolved(index)),
            chains: live.site.chains_of(gateway).into_iter().map(str::to_owned).collect(),
            labels: gateway.labels.clone(),
            secret: gateway.secret.clone(),
            must_sign: gateway.integrity == IntegrityPolicy::Required,
            wait_ms: gateway.patience.map(|patience| patience.wait.as_millis() as u64),
            tries: gateway.patience.map(|patience| patience.tries),
            last: last.map(|row| LastLogin { began_us: row.began_us, outcome: row.outcome, reference: row.reference }),
        });
    }
    Ok(Json(views))
}

/// Ranges, and host names with what they resolved to.
fn from_of(gateway: &Gateway, resolved: &[IpAddr]) -> Vec<String> {
    let shown = resolved.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    let shown = if resolved.is_empty() { "does not resolve".to_owned() } else { shown };
    let hosts = gateway.hosts.iter().map(|host| format!("{host} ({shown})"));
    gateway.from.iter().map(bivector_model::addresses::show).chain(hosts).collect()
}

/// The sheet of what to enter on the device. The secret is not on it.
#[utoipa::path(get, operation_id = "gateways_handover", path = "/gateways/{name}/handover", tag = "gateways", params(("name" = String, Path)),
    responses((status = 200, body = Sheet), (status = 404, body = Problem)))]
pub(super) async fn handover(State(state): State<ApiState>, _: Operator, Path(name): Path<String>) -> Result<Json<Sheet>, Problem> {
    let live = state.shared.live.load_full();
    let doors = state.doors.addresses().await;
    let sheet = live.as_ref().and_then(|live| handover_sheet(&live.site, live.site.gateway_named(&name)?, &doors));
    sheet.map(Json).ok_or_else(|| no_such_gateway(&state, &name))
}

fn no_such_gateway(state: &ApiState, name: &str) -> Problem {
    let live = state.shared.live.load_full();
    let names: Vec<&str> = live.iter().flat_map(|live| &live.site.gateways).map(|gateway| gateway.name.as_str()).collect();
    let known = if names.is_empty() { "the active site has none".to_owned() } else { format!("known: {}", names.join(", ")) };
    Problem::not_found(format!("unknown gateway `{name}`"), known)
}

/// Adds an address to a gateway: the site file is changed in that place only and applied as a new revision.
#[utoipa::path(post, operation_id = "gateways_register", path = "/gateways/{name}/addresses", tag = "gateways", params(("name" = String, Path)),
    request_body = RegisterRequest, responses((status = 201, body = AppliedView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn register(
    State(state): State<ApiState>,
    operator: Operator,
    Path(name): Path<String>,
    Body(request): Body<RegisterRequest>,
) -> Result<(StatusCode, Json<AppliedView>), Problem> {
    operator.may(Role::Change)?;
    let revision = state.shared.live.load().as_ref().filter(|live| live.site.gateway_named(&name).is_some()).map(|live| live.revision);
    let Some(revision) = revision else { return Err(no_such_gateway(&state, &name)) };
    let current = state.shared.records.revision(revision).await?.and_then(|revision| revision.text).unwrap_or_default();
    let text = add_address(&current, &name, request.address.trim())?;
    let note = format!("{} registered as {name}", request.address.trim());
    // Made from the active revision; another one meanwhile stops it, so that nobody's change is lost.
    let change = Change {
        text,
        operator: operator.name.clone(),
        note: note.clone(),
        expected: Some(revision),
        weaker_is_meant: false,
        while_unconfirmed: false,
        prove: None,
    };
    let applied = state.doors.apply(change, &state.shared).await?;
    operator.did(&state, "gateway.register", note).await?;
    Ok((StatusCode::CREATED, Json(AppliedView::from(applied))))
}
