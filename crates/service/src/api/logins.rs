//! One login, tried by an operator: a real packet from a simulated gateway through a short-lived rehearsal door.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use super::traces::TraceView;
use crate::doors::radius::RadiusDoor;
use crate::records::Role;
use crate::shared::Event;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_exchange::{Asker, Exchange, Patience, Request};
use bivector_wire::{AttributeType, Code, Secret, render};
use data_encoding::HEXLOWER;
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use std::time::Duration;
use tokio::sync::broadcast;
use utoipa::ToSchema;

/// How long the trace of a login is waited for after its answer.
const TRACE_WAIT: Duration = Duration::from_secs(2);

/// A login to try.
#[derive(Deserialize, ToSchema)]
pub struct LoginRequest {
    /// The name as it would be typed.
    person: String,
    /// The gateway that it comes through.
    via: String,
    /// What would be typed in the password field, or at a prompt.
    password: String,
    /// The state of the prompt that this answers, as it came back.
    #[serde(default)]
    state: Option<String>,
    /// How the password is sent: as text, or as a proof of it. Answers to prompts go as text.
    #[serde(default)]
    method: TriedMethod,
    /// The address of the person's own program, as the gateway would tell it in Calling-Station-Id.
    #[serde(default)]
    caller: Option<String>,
}

/// A method that can be tried from here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TriedMethod {
    /// The text.
    #[default]
    Pap,
    /// A CHAP proof.
    Chap,
    /// An MS-CHAPv2 proof.
    MsChapV2,
}

/// An attribute of the reply, as a person reads it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ReplyAttribute {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// What came of a tried login.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// `Access-Accept`, `Access-Reject`, or nothing where the gateway would have given up.
    pub reply: Option<String>,
    /// What a prompt's answer must carry, where the reply is Access-Challenge.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub state: Option<String>,
    /// All attributes of the reply.
    pub attributes: Vec<ReplyAttribute>,
    /// How often the request was sent.
    pub sends: u32,
    /// From the first send to the answer, in microseconds.
    pub took_us: u64,
    /// The trace, if it was kept in time.
    pub trace: Option<TraceView>,
}

/// Tries a login through a gateway's chain, with that gateway's real secret.
#[utoipa::path(post, path = "/api/v1/logins", tag = "logins", request_body = LoginRequest,
    responses((status = 200, body = Tried), (status = 404, body = Problem)))]
pub(super) async fn log_in(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<LoginRequest>,
) -> Result<Json<Tried>, Problem> {
    let password = Secret::new(request.password);
    operator.may(Role::Operate)?;
    let live = state
        .shared
        .live
        .load_full()
        .ok_or_else(|| Problem::not_found("no site is in force yet", "apply one with `bivector site apply FILE`"))?;
    let gateway = live.site.gateway_named(&request.via).ok_or_else(|| {
        let names: Vec<&str> = live.site.gateways.iter().map(|gateway| gateway.name.as_str()).collect();
        Problem::not_found(format!("there is no gateway `{}`", request.via), format!("known: {}", names.join(", ")))
    })?;
    let (settings, secret) = (&live.site.gateways[gateway], &live.secrets[gateway].current);
    let failed = |error: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "login", error, "");
    // The asker is bound first, so that the door can be told to hear nobody else.
    let waiting = tokio::net::UdpSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0))).await.map_err(|error| failed(error.to_string()))?;
    let local = waiting.local_addr().map_err(|error| failed(error.to_string()))?;
    let door = RadiusDoor::rehearsal(&settings.name, local, &state.shared)?;
    let mut events = state.shared.events.subscribe();
    drop(waiting);
    let asker = Asker::connect(local, door.address()).await.map_err(|error| failed(error.to_string()))?;
    let method = if request.state.is_some() { TriedMethod::Pap } else { request.method };
    let login = match method {
        TriedMethod::Pap => Ok(Request::login(&request.person, password.expose().as_bytes())),
        TriedMethod::Chap => Request::chap(&request.person, password.expose().as_bytes()),
        TriedMethod::MsChapV2 => Request::ms_chap_v2(&request.person, password.expose()),
    };
    let mut login = login.map_err(|error| failed(error.to_string()))?;
    if let Some(caller) = request.caller.as_deref().filter(|caller| !caller.is_empty()) {
        login.message.push(AttributeType::CallingStationId, caller.as_bytes());
    }
    login.message.push(AttributeType::NasIdentifier, settings.name.as_bytes());
    if let Some(state) = request.state.as_deref() {
        let state = HEXLOWER.decode(state.as_bytes()).map_err(|_| failed("`state` is none that came back from here".into()))?;
        login.message.push(AttributeType::State, &state);
    }
    let patience = settings
        .patience
        .map_or(Patience { wait: Duration::from_secs(5), tries: 3 }, |patience| Patience { wait: patience.wait, tries: patience.tries });
    let exchange = asker.ask(&login, secret, patience).await.map_err(|error| failed(error.to_string()))?;
    let trace = find_trace(&state, &mut events, local).await;
    door.close(Duration::from_secs(1)).await;
    Ok(Json(tried(exchange, trace)))
}

async fn find_trace(state: &ApiState, events: &mut broadcast::Receiver<Event>, sender: SocketAddr) -> Option<TraceView> {
    let sender = sender.to_string();
    let row = tokio::time::timeout(TRACE_WAIT, async {
        loop {
            match events.recv().await {
                Ok(Event::Trace(row)) if row.sender == sender => return Some(row),
                Ok(_) | Err(broadcast::error::RecvError::Lagged(_)) => {}
                Err(broadcast::error::RecvError::Closed) => return None,
            }
        }
    });
    let row = row.await.ok().flatten()?;
    let (row, steps) = state.shared.records.trace(row.reference).await.ok().flatten()?;
    Some(TraceView::new(row, steps))
}

fn tried(exchange: Exchange, trace: Option<TraceView>) -> Tried {
    let state = exchange.reply.iter().filter(|reply| reply.code == Code::AccessChallenge).flat_map(|reply| &reply.attributes);
    let state = state.clone().find(|(kind, _)| *kind == AttributeType::State).map(|(_, value)| HEXLOWER.encode(value));
    let attributes = exchange.reply.iter().flat_map(|reply| &reply.attributes).map(|(kind, value)| {
        let (name, value) = render(*kind, value);
        ReplyAttribute { name, value }
    });
    Tried {
        attributes: attributes.collect(),
        state,
        reply: exchange.reply.map(|reply| reply.code.to_string()),
        sends: exchange.sends,
        took_us: exchange.took.as_micros() as u64,
        trace,
    }
}
