//! `bivector login`

use crate::arguments::{Global, Login};
use crate::client::Client;
use crate::failure::Failure;
use crate::{output, waterfall};
use bivector_service::api::Tried;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(login: Login, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let password = output::read_hidden(login.password_file.as_deref(), "password field (not shown): ")?;
    let body = serde_json::json!({ "person": login.person, "via": login.via, "password": password.expose() });
    let tried: Tried = client.ask(Method::POST, "/logins", &[], Some(&body)).await?;
    if global.json {
        output::json(&tried);
    } else {
        print(&tried);
    }
    Ok(if tried.reply.as_deref() == Some("Access-Accept") { ExitCode::SUCCESS } else { ExitCode::from(1) })
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
