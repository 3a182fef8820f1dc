//! `bivector upstream …`

use super::directory::state;
use crate::arguments::{Global, Upstream as UpstreamCommand};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_service::api::UpstreamView;
use std::process::ExitCode;

pub(crate) async fn run(command: UpstreamCommand, global: &Global) -> Result<ExitCode, Failure> {
    let UpstreamCommand::List = command;
    let upstreams: Vec<UpstreamView> = Client::new(global)?.get("/upstreams", &[]).await?;
    if global.json {
        output::json(&upstreams);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["upstream", "server", "state", "since", "what was seen", "looked at", "answers", "failed", "chains"]);
    for upstream in &upstreams {
        for (index, server) in upstream.servers.iter().enumerate() {
            let first = |text: &str| if index == 0 { text.to_owned() } else { String::new() };
            table.add_row([
                first(&upstream.name),
                server.server.clone(),
                state(server.state),
                output::when(server.since_us),
                server.said.clone(),
                output::ago(server.checked_us),
                server.answers.to_string(),
                server.failures.to_string(),
                first(&upstream.chains.join(", ")),
            ]);
        }
    }
    output::print_table(&table);
    if upstreams.is_empty() {
        output::line("the site in force has no upstream");
    }
    Ok(ExitCode::SUCCESS)
}
