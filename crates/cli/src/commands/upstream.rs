//! `bivector upstream …`

use super::directory::print_servers;
use crate::arguments::{Global, Upstream as UpstreamCommand};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::directories::UpstreamView;
use std::process::ExitCode;

pub(crate) async fn run(command: UpstreamCommand, global: &Global) -> Result<ExitCode, Failure> {
    let UpstreamCommand::List = command;
    let upstreams: Vec<UpstreamView> = Client::new(global)?.get("/upstreams", &[]).await?;
    if global.json {
        output::json(&upstreams);
        return Ok(ExitCode::SUCCESS);
    }
    print_servers("upstream", upstreams.iter().map(|upstream| (&upstream.name, &upstream.servers, &upstream.chains)));
    if upstreams.is_empty() {
        output::line("the active site has no upstream");
    }
    Ok(ExitCode::SUCCESS)
}
