//! `bivector directory …`

use crate::arguments::{Directory as DirectoryCommand, Global};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_core::trace::Tone;
use bivector_service::api::{DirectoryView, ProbeRequest};
use bivector_service::sources::probe::ProbedServer;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(command: DirectoryCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        DirectoryCommand::List => list(&client.get::<Vec<DirectoryView>>("/directories", &[]).await?, global),
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
    let mut table = output::table(&["directory", "servers", "base", "login", "chains"]);
    for directory in directories {
        table.add_row([
            directory.name.clone(),
            directory.servers.join("\n"),
            directory.base.clone(),
            directory.login.clone(),
            directory.chains.join(", "),
        ]);
    }
    output::print_table(&table);
    if directories.is_empty() {
        output::line("the site in force has no directory");
    }
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
