//! `bivector login`

use crate::arguments::{Global, Login, LoginMethod};
use crate::client::Client;
use crate::failure::Failure;
use crate::{output, waterfall};
use bivector_service::api::{Tried, TriedMethod};
use bivector_wire::Secret;
use reqwest::Method;
use std::collections::VecDeque;
use std::process::ExitCode;

pub(crate) async fn run(login: Login, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let password = output::read_hidden(login.password_file.as_deref(), "password field (not shown): ")?;
    let mut answers = match &login.answers_file {
        Some(file) => output::read_file(file)?.lines().map(str::to_owned).collect::<VecDeque<_>>(),
        None => VecDeque::new(),
    };
    let method = match login.method {
        LoginMethod::Pap => TriedMethod::Pap,
        LoginMethod::Chap => TriedMethod::Chap,
        LoginMethod::MsChapV2 => TriedMethod::MsChapV2,
    };
    let (mut typed, mut state) = (password, None);
    loop {
        let body = serde_json::json!({
            "person": login.person, "via": login.via, "password": typed.expose(), "state": state, "method": method, "caller": login.caller,
        });
        let tried: Tried = client.ask(Method::POST, "/logins", &[], Some(&body)).await?;
        if global.json {
            output::json(&tried);
        } else {
            print(&tried);
        }
        state.clone_from(&tried.state);
        if state.is_none() {
            return Ok(if tried.reply.as_deref() == Some("Access-Accept") { ExitCode::SUCCESS } else { ExitCode::from(1) });
        }
        typed = match answers.pop_front() {
            Some(answer) => Secret::new(answer),
            // A file that has run out leaves the prompt unanswered, as a person who walks away does.
            None if login.answers_file.is_some() => return Ok(ExitCode::from(1)),
            None => output::read_hidden(None, "answer (not shown): ")?,
        };
    }
}

fn print(tried: &Tried) {
    let times = if tried.sends == 1 { "once".to_owned() } else { format!("{} times", tried.sends) };
    match &tried.reply {
        Some(reply) => output::line(format!("{reply} after {} (sent {times})", output::took(tried.took_us))),
        None => output::line(format!("no answer; sent {times}, gave up after {}", output::took(tried.took_us))),
    }
    for attribute in &tried.attributes {
        output::line(format!("  {:<20} {}", attribute.name, attribute.value));
    }
    output::line("");
    match &tried.trace {
        Some(trace) => waterfall::print(trace),
        None => output::line("the trace was not there in time; see `bivector trace list`"),
    }
}
