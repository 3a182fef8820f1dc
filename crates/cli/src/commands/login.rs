//! `bivector login`

use crate::arguments::{Global, Login};
use crate::client::Client;
use crate::failure::Failure;
use crate::{output, waterfall};
use bivector_api::logins::{ReplyAttribute, Tried, TriedMethod};
use bivector_exchange::{AskError, Asker, Exchange, Patience, Request};
use bivector_wire::{AttributeType, Code, Secret, SharedSecret, in_words, render};
use reqwest::Method;
use std::collections::VecDeque;
use std::net::{IpAddr, SocketAddr};
use std::process::ExitCode;
use std::time::Duration;

/// What is typed at prompts: from the command line, a file, or a person.
pub(super) struct Answers {
    given: VecDeque<String>,
    /// Whether somebody can be asked once these are used up.
    asks: bool,
}

impl Answers {
    pub(super) fn of(login: &Login) -> Result<Self, Failure> {
        let from_file = match &login.answers_file {
            Some(file) => output::read_file(file)?.lines().map(str::to_owned).collect(),
            None => VecDeque::new(),
        };
        let asks = login.answer.is_empty() && login.answers_file.is_none();
        Ok(Answers { given: login.answer.iter().cloned().chain(from_file).collect(), asks })
    }

    /// All that were given, at once.
    pub(super) fn take(&mut self) -> Vec<String> {
        std::mem::take(&mut self.given).into()
    }

    /// The next one; none leaves the prompt unanswered, as a person who walks away does.
    pub(super) fn next(&mut self) -> Result<Option<Secret<String>>, Failure> {
        match self.given.pop_front() {
            Some(answer) => Ok(Some(Secret::new(answer))),
            None if self.asks => output::read_hidden(None, "answer (not shown): ").map(Some),
            None => Ok(None),
        }
    }
}

pub(crate) async fn run(login: Login, global: &Global) -> Result<ExitCode, Failure> {
    match (login.from, login.to) {
        (Some(from), Some(to)) if login.method.0.eap().is_some() => super::eap_login::run(&login, from, to, global).await,
        (Some(from), Some(to)) => as_gateway(&login, from, to, global).await,
        _ if login.persona.is_some() => as_persona(&login, global).await,
        _ => by_service(&login, global).await,
    }
}

/// The service plays the gateway, with the gateway's own secret.
async fn by_service(login: &Login, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let mut answers = Answers::of(login)?;
    let mut typed = output::read_hidden(login.password_file.as_deref(), "password field (not shown): ")?;
    let (method, mut state): (TriedMethod, Option<String>) = (login.method, None);
    // Inside EAP all rounds are one conversation, so its answers go along.
    let at_once: Vec<String> = if method.0.eap().is_some() { answers.take() } else { Vec::new() };
    loop {
        let body = serde_json::json!({
            "person": login.person, "via": login.via, "password": typed.expose(), "state": state, "method": method, "caller": login.caller,
            "answers": at_once, "outer": login.outer,
        });
        let tried: Tried = client.ask(Method::POST, "/logins", &[], Some(&body)).await?;
        show(&tried, global);
        state = tried.state.clone().filter(|_| method.0.eap().is_none());
        match (&state, if state.is_some() { answers.next()? } else { None }) {
            (Some(_), Some(answer)) => typed = answer,
            _ => return Ok(status(&tried)),
        }
    }
}

/// The service plays gateway and person.
async fn as_persona(login: &Login, global: &Global) -> Result<ExitCode, Failure> {
    let answers: Vec<String> = Answers::of(login)?.given.into();
    let body = serde_json::json!({
        "person": login.person, "via": login.via, "persona": login.persona, "typed": login.typed, "answers": answers,
        "handset": login.handset, "method": login.method, "caller": login.caller, "outer": login.outer,
    });
    let tried: Tried = Client::new(global)?.ask(Method::POST, "/logins", &[], Some(&body)).await?;
    show(&tried, global);
    Ok(status(&tried))
}

pub(super) fn show(tried: &Tried, global: &Global) {
    if global.json { output::json(tried) } else { print(tried) }
}

pub(super) fn status(tried: &Tried) -> ExitCode {
    if tried.reply.as_deref() == Some("Access-Accept") { ExitCode::SUCCESS } else { ExitCode::from(1) }
}

/// This machine is the gateway: its own packets, over the network, with the shared secret from a file. The service's API is not needed.
async fn as_gateway(login: &Login, from: IpAddr, to: SocketAddr, global: &Global) -> Result<ExitCode, Failure> {
    let secret = output::read_hidden(login.secret_file.as_deref(), "shared secret (not shown): ")?;
    let secret = SharedSecret::new(secret.expose().as_bytes());
    let mut answers = Answers::of(login)?;
    let mut typed = output::read_hidden(login.password_file.as_deref(), "password field (not shown): ")?;
    let no = |error: AskError| Failure::no(error.to_string(), "check that the address given with `--from` is one of this machine");
    let asker = Asker::connect(SocketAddr::new(from, 0), to).await.map_err(|error| no(error.into()))?;
    let mut state: Option<Vec<u8>> = None;
    loop {
        let mut request = match (login.method.0, &state) {
            (bivector_site::Method::Pap, _) | (_, Some(_)) => Request::login(&login.person, typed.expose().as_bytes()),
            (bivector_site::Method::Chap, None) => Request::chap(&login.person, typed.expose().as_bytes()).map_err(no)?,
            (bivector_site::Method::MsChapV2, None) => Request::ms_chap_v2(&login.person, typed.expose()).map_err(no)?,
            (_, None) => Request::eap_start(&login.person),
        };
        request.message.push(AttributeType::NasIdentifier, login.via.as_bytes());
        if let IpAddr::V4(address) = from {
            request.message.push(AttributeType::NasIpAddress, &address.octets());
        }
        if let Some(caller) = login.caller {
            request.message.push(AttributeType::CallingStationId, caller.to_string().as_bytes());
        }
        if let Some(state) = &state {
            request.message.push(AttributeType::State, state);
        }
        let exchange = asker.ask(&request, &secret, Patience { wait: Duration::from_secs(5), tries: 3 }).await.map_err(no)?;
        let (tried, next) = seen(exchange);
        show(&tried, global);
        state = next;
        match (&state, if state.is_some() { answers.next()? } else { None }) {
            (Some(_), Some(answer)) => typed = answer,
            _ => return Ok(status(&tried)),
        }
    }
}

/// What a gateway sees of an answer, and the State that the next round must carry.
pub(super) fn seen(exchange: Exchange) -> (Tried, Option<Vec<u8>>) {
    let reply = exchange.reply.as_ref();
    let asks = reply.is_some_and(|reply| reply.code == Code::AccessChallenge);
    let attributes: Vec<(AttributeType, Vec<u8>)> = reply.map(|reply| reply.attributes.clone()).unwrap_or_default();
    let state = attributes.iter().find(|(kind, _)| asks && *kind == AttributeType::State).map(|(_, value)| value.clone());
    let shown = attributes.iter().map(|(kind, value)| {
        let means = in_words(*kind, value);
        let (name, value) = render(*kind, value);
        ReplyAttribute { name, value, means }
    });
    let tried = Tried {
        reply: reply.map(|reply| reply.code.to_string()),
        state: None,
        attributes: shown.collect(),
        sends: exchange.sends,
        took_us: exchange.took.as_micros() as u64,
        discarded: exchange.discarded.clone(),
        trace: None,
    };
    (tried, state)
}

fn print(tried: &Tried) {
    let times = if tried.sends == 1 { "once".to_owned() } else { format!("{} times", tried.sends) };
    match &tried.reply {
        Some(reply) => output::line(format!("{reply} after {} (sent {times})", output::took(tried.took_us))),
        None => output::line(format!("no answer; sent {times}, gave up after {}", output::took(tried.took_us))),
    }
    let width = tried.attributes.iter().map(|attribute| attribute.value.chars().count()).max().unwrap_or(0).min(44);
    for attribute in &tried.attributes {
        let means = attribute.means.as_ref().map(|means| output::paint(&format!("  {means}"), "2")).unwrap_or_default();
        output::line(format!("  {:<20} {:<width$}{means}", attribute.name, attribute.value).trim_end());
    }
    for discarded in &tried.discarded {
        output::line(format!("  discarded: {discarded}"));
    }
    match &tried.trace {
        Some(trace) => {
            output::line("");
            waterfall::print(trace);
        }
        None if tried.reply.is_none() => {
            output::line(
                "an unknown sender or a wrong secret gets no answer; on the service, check `bivector gateway knocks` and `bivector trace list`",
            );
        }
        None => output::line("details are on the service: run `bivector trace show` with the reference, or `bivector trace list`"),
    }
}
