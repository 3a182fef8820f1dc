//! `bivector chain …`

use crate::arguments::{Chain as ChainCommand, Global};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::chains::{ChainView, HopKind, HopView};
use bivector_model::trace::Tone;
use std::process::ExitCode;

pub(crate) async fn run(command: ChainCommand, global: &Global) -> Result<ExitCode, Failure> {
    let ChainCommand::List = command;
    let chains: Vec<ChainView> = Client::new(global)?.get("/chains", &[]).await?;
    if global.json {
        output::json(&chains);
        return Ok(ExitCode::SUCCESS);
    }
    for chain in &chains {
        let counts = &chain.logins;
        let today = format!(
            "last 24 h: {} accepted, {} refused, {} waiting, {} silent",
            counts.accepted, counts.refused, counts.challenged, counts.silent
        );
        output::line(format!("{}  {}", output::paint(&chain.name, "1"), output::paint(&today, "2")));
        chain.hops.iter().for_each(print_hop);
        output::line("");
    }
    if chains.is_empty() {
        output::line("no site is active yet; try `bivector site apply FILE`");
    }
    Ok(ExitCode::SUCCESS)
}

fn print_hop(hop: &HopView) {
    let kind = match hop.kind {
        HopKind::Gateway => "gateway",
        HopKind::Reading => "reading",
        HopKind::Source => "first",
        HopKind::Factor => "second",
        HopKind::Rules => "rules",
    };
    output::line(format!("  {kind:<8} {} {:<18} {}", output::tone(hop.state), hop.name, hop.said));
    if hop.state == Tone::Good {
        return;
    }
    if let Some(remedy) = &hop.remedy {
        output::line(format!("{:13}remedy: {remedy}", ""));
    }
}
