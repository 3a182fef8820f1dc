//! The reading tester: how a chain reads a text, without ever saying what is in it.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::readings::{Read, ReadRequest};
use bivector_core::login::{FactorsAnswer, explain_readings};
use bivector_model::device::Device;
use bivector_site::{Chain, Site};
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_wire::Secret;

/// Reads a text as a chain would. Nothing is asked of a source, no code is used up, no wrong one counted.
#[utoipa::path(post, operation_id = "readings", path = "/readings", tag = "logins", request_body = ReadRequest,
    responses((status = 200, body = Read), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn read(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<ReadRequest>,
) -> Result<Json<Read>, Problem> {
    let text = Secret::new(request.text);
    operator.may(Role::Operate)?;
    let live = state.shared.live.load_full();
    let live = live.ok_or_else(|| Problem::not_found("no site is active yet", "apply one with `bivector site apply FILE`"))?;
    let chain = find_chain(&live.site, request.chain.as_deref(), request.via.as_deref())?;
    let (person, devices) = match request.person.as_deref() {
        Some(name) => devices_of(&state, &live.site, chain, name)?,
        None => (None, Vec::new()),
    };
    let readings = explain_readings(chain, &text, &devices, live.site.codes, clock::now());
    let otherwise = readings.is_empty().then(|| "no form fits: the whole text is taken as the password".to_owned());
    Ok(Json(Read {
        chain: chain.name.clone(),
        characters: text.expose().chars().count(),
        forms: chain.forms.iter().map(ToString::to_string).collect(),
        person,
        devices: devices.len(),
        readings,
        otherwise,
    }))
}

fn find_chain<'s>(site: &'s Site, chain: Option<&str>, via: Option<&str>) -> Result<&'s Chain, Problem> {
    let names = |chains: &[&str]| format!("known: {}", chains.join(", "));
    let of_gateway = match via {
        Some(via) => {
            let gateway = site.gateways.iter().find(|gateway| gateway.name == via).ok_or_else(|| {
                let known: Vec<&str> = site.gateways.iter().map(|gateway| gateway.name.as_str()).collect();
                Problem::not_found(format!("unknown gateway `{via}`"), names(&known))
            })?;
            site.chains_of(gateway)
        }
        None => site.chains.iter().map(|chain| chain.name.as_str()).collect(),
    };
    let wanted = match (chain, of_gateway.as_slice()) {
        (Some(chain), known) if known.contains(&chain) => chain,
        (Some(chain), known) => return Err(Problem::not_found(format!("unknown chain `{chain}` here"), names(known))),
        (None, [one]) => one,
        (None, known) => {
            return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "chain", "more than one chain could be meant", names(known)));
        }
    };
    site.chains.iter().find(|chain| chain.name == wanted).ok_or_else(|| Problem::not_found("the chain is gone", names(&of_gateway)))
}

/// The devices that the records know of a name as it would be typed, by the chain's sources in order.
fn devices_of(state: &ApiState, site: &Site, chain: &Chain, typed: &str) -> Result<(Option<String>, Vec<Device>), Problem> {
    let name = chain.identity.read(typed.as_bytes()).map_err(|cause| {
        Problem::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "person",
            format!("`{}`: {}", bivector_model::text::shown(typed), cause.sentence()),
            cause.remedy(),
        )
    })?;
    let keys = chain.first.iter().map(|first| person_key(site.source_name(first.source), &name.name));
    let Some(key) = { keys }.find(|key| state.shared.roster.get(key).is_some()) else { return Ok((None, Vec::new())) };
    let devices = match state.shared.roster.factors(&key, None, clock::now()) {
        FactorsAnswer::Known(factors) => factors.devices.into_iter().filter(|device| chain.takes(device.kind())).collect(),
        FactorsAnswer::Unavailable(why) => {
            return Err(Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "records", why.seen, why.cause.remedy()));
        }
    };
    Ok((Some(key), devices))
}
