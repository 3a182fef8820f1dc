//! One login, tried by an operator: a real packet from a simulated gateway through a short-lived rehearsal door.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bivector_api::logins::{LoginRequest, ReplyAttribute, Tried};
use bivector_api::operators::Role;
use bivector_api::traces::TraceRow;
use bivector_doors::radius::{RadiusDoor, Rehearsed};
use bivector_engine::live::LiveSite;
use bivector_engine::stage::Stage;
use bivector_exchange::{Asker, Exchange, Patience, Request};
use bivector_model::trace::Trace;
use bivector_prove::eap::{self, EapPerson};
use bivector_prove::rehearsal::try_persona;
use bivector_site::Method;
use bivector_site::rehearsal::{Expect, HandsetDoes, RehearsedLogin, ShortWaits, Typed};
use bivector_wire::eap::EapMethod;
use bivector_wire::{AttributeType, Code, Message, Secret, in_words, render};
use data_encoding::HEXLOWER;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

/// How long the trace of a login is waited for after its answer; it is made before the answer leaves.
const TRACE_WAIT: Duration = Duration::from_secs(2);

fn failed(error: impl Into<String>) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "login", error, "")
}

/// The active site.
pub(super) fn in_force(state: &ApiState) -> Result<Arc<LiveSite>, Problem> {
    let none = || Problem::not_found("no site is active yet", "apply one with `bivector site apply FILE`");
    state.shared.live.load_full().ok_or_else(none)
}

/// The index of a gateway of the active site.
pub(super) fn gateway_named(live: &LiveSite, name: &str) -> Result<usize, Problem> {
    live.site.gateway_named(name).ok_or_else(|| {
        let names: Vec<&str> = live.site.gateways.iter().map(|gateway| gateway.name.as_str()).collect();
        Problem::not_found(format!("unknown gateway `{name}`"), format!("known: {}", names.join(", ")))
    })
}

/// Tries a login through a gateway's chain, with that gateway's real secret.
#[utoipa::path(post, path = "/logins", tag = "logins", request_body = LoginRequest,
    responses((status = 200, body = Tried), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn log_in(
    State(state): State<ApiState>,
    operator: Operator,
    Body(mut request): Body<LoginRequest>,
) -> Result<Json<Tried>, Problem> {
    let password = Secret::new(std::mem::take(&mut request.password));
    operator.may(Role::Operate)?;
    let live = in_force(&state)?;
    let gateway = gateway_named(&live, &request.via)?;
    if request.persona.is_some() {
        return as_persona(&state, &live, gateway, &request).await;
    }
    let settings = &live.site.gateways[gateway];
    // The asker is bound first, so that the door can be told to hear nobody else.
    let socket = tokio::net::UdpSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0))).await.map_err(|error| failed(error.to_string()))?;
    let asker = socket.local_addr().map_err(|error| failed(error.to_string()))?;
    let (stage, mut traces) = Stage::of_themselves();
    let rehearsed = Rehearsed { gateway: settings.name.clone(), asker, live: Arc::clone(&live), stage: Arc::new(stage) };
    let door = RadiusDoor::rehearsal(rehearsed, &state.shared)?;
    let asker = Asker::over(socket, door.address()).await.map_err(|error| failed(error.to_string()))?;
    let patience = settings
        .patience
        .map_or(Patience { wait: Duration::from_secs(5), tries: 3 }, |patience| Patience { wait: patience.wait, tries: patience.tries });
    let secret = &live.secrets[gateway].current;
    let (exchange, rounds) = match request.method.0.eap() {
        Some(method) => by_eap(&live, gateway, method, &request, &password, (&asker, patience)).await?,
        None => {
            let login = prepared(&request, &password, &settings.name)?;
            (asker.ask(&login, secret, patience).await.map_err(|error| failed(error.to_string()))?, 1)
        }
    };
    // Each round of the login writes its trace anew; the last one holds them all.
    let mut trace = None;
    for _ in 0..rounds {
        let Ok(Some(written)) = tokio::time::timeout(TRACE_WAIT, traces.recv()).await else { break };
        trace = Some(written);
    }
    door.close(Duration::from_secs(1)).await;
    let mut view = tried(&state, exchange, trace).await;
    // The conversation ends with this call, so its State leads nowhere.
    view.state = view.state.filter(|_| request.method.0.eap().is_none());
    Ok(Json(view))
}

/// An EAP login, with all answers to its prompts. Gives its rounds too.
async fn by_eap(
    live: &LiveSite,
    gateway: usize,
    method: EapMethod,
    request: &LoginRequest,
    password: &Secret<String>,
    (asker, patience): (&Asker, Patience),
) -> Result<(Exchange, usize), Problem> {
    let mut extra = Message::new(Code::AccessRequest);
    own_words(&mut extra, request, &live.site.gateways[gateway].name);
    let person = EapPerson {
        method,
        name: &request.person,
        outer: request.outer.as_deref(),
        password: password.expose(),
        again: &request.answers,
        identity: None,
        old_tls: false,
    };
    let mut login = eap::begin(live, person, extra).map_err(failed)?;
    let mut answers = request.answers.iter();
    for rounds in 1.. {
        let mut round = login.go_on(asker, &live.secrets[gateway].current, patience).await.map_err(|error| failed(error.to_string()))?;
        if let Some(ended) = round.ended {
            round.exchange.discarded.push(format!("the peer ended the login: {ended}"));
        }
        if round.same_key == Some(false) {
            round.exchange.discarded.push("the key of the gateway differs from the key of the peer".to_owned());
        }
        match answers.next().filter(|_| round.asks.is_some()) {
            Some(answer) => login.answer(answer).map_err(failed)?,
            None => return Ok((round.exchange, rounds)),
        }
    }
    Err(failed("the login has no end"))
}

/// What the gateway says of itself and of the person's place.
fn own_words(message: &mut Message, request: &LoginRequest, gateway: &str) {
    if let Some(caller) = request.caller.as_deref().filter(|caller| !caller.is_empty()) {
        message.push(AttributeType::CallingStationId, caller.as_bytes());
    }
    message.push(AttributeType::NasIdentifier, gateway.as_bytes());
}

fn prepared(request: &LoginRequest, password: &Secret<String>, gateway: &str) -> Result<Request, Problem> {
    let method = if request.state.is_some() { Method::Pap } else { request.method.0 };
    let login = match method {
        Method::Pap => Ok(Request::login(&request.person, password.expose().as_bytes())),
        Method::Chap => Request::chap(&request.person, password.expose().as_bytes()),
        Method::MsChapV2 => Request::ms_chap_v2(&request.person, password.expose()),
        Method::Eap | Method::EapOf(_) => Ok(Request::eap_start(&request.person)),
    };
    let mut login = login.map_err(|error| failed(error.to_string()))?;
    own_words(&mut login.message, request, gateway);
    if let Some(state) = request.state.as_deref() {
        let state = HEXLOWER.decode(state.as_bytes()).map_err(|_| failed("`state` is none that came back from here"))?;
        login.message.push(AttributeType::State, &state);
    }
    Ok(login)
}

/// A login of a persona: its answers are typed within the one call.
async fn as_persona(state: &ApiState, live: &Arc<LiveSite>, via: usize, request: &LoginRequest) -> Result<Json<Tried>, Problem> {
    let wanted = request.persona.as_deref().unwrap_or_default();
    let Some(persona) = live.site.personas.iter().position(|persona| persona.name == wanted) else {
        let names: Vec<&str> = live.site.personas.iter().map(|persona| persona.name.as_str()).collect();
        return Err(Problem::not_found(format!("unknown persona `{wanted}`"), format!("known: {}", names.join(", "))));
    };
    let with_codes = live.site.personas[persona].codes.is_some();
    let parse = |text: &str| Typed::parse(text).map_err(|error| failed(error.to_string()));
    let typed = parse(request.typed.as_deref().unwrap_or(if with_codes { "{password}{code}" } else { "{password}" }))?;
    let handset = match request.handset.as_deref() {
        Some(text) => Some(HandsetDoes::parse(text).ok_or_else(|| failed(format!("`{text}` is nothing that a handset does")))?),
        None => None,
    };
    let login = RehearsedLogin {
        title: String::new(),
        persona,
        typed_name: Some(request.person.clone()).filter(|name| !name.is_empty()),
        via,
        method: request.method.into(),
        typed,
        answers: request.answers.iter().map(|text| parse(text)).collect::<Result<_, _>>()?,
        handset,
        twist: None,
        waits: ShortWaits::default(),
        caller: request.caller.clone().filter(|caller| !caller.is_empty()),
        outer: request.outer.clone(),
        sessions: 0,
        certificate: None,
        expect: Expect::default(),
        line: 0,
    };
    let done = try_persona(&state.shared, live, &login).await.map_err(failed)?;
    let mut view = tried(state, done.exchange, done.trace).await;
    view.took_us = done.took.as_micros() as u64;
    Ok(Json(view))
}

async fn tried(state: &ApiState, exchange: Exchange, trace: Option<(TraceRow, Trace)>) -> Tried {
    let asked = exchange.reply.iter().filter(|reply| reply.code == Code::AccessChallenge).flat_map(|reply| &reply.attributes);
    let asked = asked.clone().find(|(kind, _)| *kind == AttributeType::State).map(|(_, value)| HEXLOWER.encode(value));
    let attributes = exchange.reply.iter().flat_map(|reply| &reply.attributes).map(|(kind, value)| {
        let means = in_words(*kind, value);
        let (name, value) = render(*kind, value);
        ReplyAttribute { name, value, means }
    });
    let attributes = attributes.collect();
    let trace = match trace {
        Some((row, trace)) => Some(crate::api::traces::trace_view(&state.shared, row, trace.steps, Some(&trace.facts)).await),
        None => None,
    };
    Tried {
        attributes,
        state: asked,
        reply: exchange.reply.map(|reply| reply.code.to_string()),
        sends: exchange.sends,
        took_us: exchange.took.as_micros() as u64,
        discarded: exchange.discarded,
        trace,
    }
}
