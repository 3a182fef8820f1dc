//! `bivector rule …`

use crate::arguments::{Circumstances, Global, Rule};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::explain::{RuleTried, RuleTry};
use bivector_model::trace::Tone;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(rule: Rule, global: &Global) -> Result<ExitCode, Failure> {
    let Rule::Try { chain, group, via, person, circumstances } = rule;
    let Circumstances { name, source, method, factor, caller, at } = circumstances;
    let request = RuleTry { chain, groups: group, via, person, caller, method, factor, source, name, at };
    let tried: RuleTried = Client::new(global)?.ask(Method::POST, "/rules/try", &[], Some(&request)).await?;
    if global.json {
        output::json(&tried);
    } else {
        let groups = if tried.groups.is_empty() { "no group".to_owned() } else { tried.groups.join(", ") };
        output::line(format!("a user in {groups}\n"));
        for rule in &tried.rules {
            let mark = output::tone(if rule.decided { Tone::Good } else { Tone::Note });
            let place = output::paint(&format!("  [line {}]", rule.line), "2");
            output::line(format!("  {mark} {:<32} {}{place}", rule.name, rule.said));
        }
        output::line(match (&tried.grant, tried.cause) {
            (Some(grant), _) => format!("\nadmitted with {grant}"),
            (None, cause) => format!("\nrefused: {}", cause.map_or("", |cause| cause.sentence())),
        });
    }
    Ok(if tried.grant.is_some() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}
