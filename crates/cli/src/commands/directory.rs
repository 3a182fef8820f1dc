//! `bivector directory …`

use crate::arguments::{Directory as DirectoryCommand, Global};
use crate::client::{Client, Events, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::directories::Health;
use bivector_api::directories::ProbedServer;
use bivector_api::directories::{DirectoryView, ProbeRequest};
use bivector_api::events::Event;
use bivector_model::trace::Tone;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(command: DirectoryCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        DirectoryCommand::List { watch } => {
            // The line of events is taken up first, so that no change falls between the list and it.
            let events = if watch { Some(Events::open(&client).await?) } else { None };
            list(&client.get::<Vec<DirectoryView>>("/directories", &[]).await?, global);
            if let Some(mut events) = events {
                while let Some(data) = events.next("server").await? {
                    print_change(&data, global);
                }
            }
        }
        DirectoryCommand::Probe { name, person } => {
            let path = format!("/directories/{}/probe", encode(&name));
            let probed: Vec<ProbedServer> = client.ask(Method::POST, &path, &[], Some(&ProbeRequest { person })).await?;
            show(&probed, global);
            if !probed.iter().all(ProbedServer::is_well) {
                return Ok(ExitCode::from(1));
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(directories: &[DirectoryView], global: &Global) {
    if global.json {
        return output::json(&directories);
    }
    print_servers("directory", directories.iter().map(|directory| (&directory.name, &directory.servers, &directory.chains)));
    if directories.is_empty() {
        output::line("the active site has no directory");
    }
}

/// Sources of one kind with the state of each server, one line a server.
pub(super) fn print_servers<'v>(kind: &str, sources: impl Iterator<Item = (&'v String, &'v Vec<Health>, &'v Vec<String>)>) {
    let mut table = output::table(&[kind, "server", "state", "since", "details", "last check", "answers", "failed", "chains"]);
    for (name, servers, chains) in sources {
        for (index, server) in servers.iter().enumerate() {
            let first = |text: &str| if index == 0 { text.to_owned() } else { String::new() };
            table.add_row([
                first(name),
                server.server.clone(),
                state(server.state),
                output::when(server.since_us),
                server.said.clone(),
                output::ago(server.checked_us),
                server.answers.to_string(),
                server.failures.to_string(),
                first(&chains.join(", ")),
            ]);
        }
    }
    output::print_table(&table);
}

fn show(probed: &[ProbedServer], global: &Global) {
    if global.json {
        return output::json(&probed);
    }
    for server in probed {
        output::line(output::paint(&server.server, "1"));
        for line in &server.lines {
            let took = if line.took_us == 0 { String::new() } else { output::took(line.took_us) };
            let said = if line.state == Tone::Note { output::paint(&line.said, "2") } else { line.said.clone() };
            output::line(format!("  {} {:<11} {took:>8}  {said}", output::tone(line.state), line.piece.word()));
            if let Some(cause) = line.cause {
                output::line(format!("{:25}cause: {cause}", ""));
            }
            if let Some(remedy) = &line.remedy {
                output::line(format!("{:25}remedy: {remedy}", ""));
            }
        }
        output::line("");
    }
}

fn state(state: Tone) -> String {
    let word = match state {
        Tone::Good => "ok",
        Tone::Note => "unknown",
        Tone::Warn => "degraded",
        Tone::Bad => "down",
    };
    format!("{} {word}", output::tone(state))
}

fn print_change(data: &str, global: &Global) {
    if global.json {
        return output::line(data);
    }
    if let Ok(Event::Server { source, health }) = serde_json::from_str(data) {
        output::line(format!("{}  {source}  {}  {}  {}", output::when(health.since_us), health.server, state(health.state), health.said));
    }
}
