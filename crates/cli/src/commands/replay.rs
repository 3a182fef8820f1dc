//! `bivector site replay`

use crate::arguments::Global;
use crate::client::{Answer, Client};
use crate::failure::Failure;
use crate::{findings, output};
use bivector_api::explain::ReplayRequest;
use bivector_core::replay::{Group, Replayed};
use reqwest::Method;
use std::path::Path;
use std::process::ExitCode;

pub(crate) async fn run(file: &Path, last: u32, chain: Option<String>, global: &Global) -> Result<ExitCode, Failure> {
    let text = output::read_file(file)?;
    let request = ReplayRequest { text: text.clone(), last: Some(last), chain };
    let answer: Answer<Replayed> = Client::new(global)?.call(Method::POST, "/site/replay", &[], Some(&request)).await?;
    let replayed = match answer {
        Answer::Good(replayed) => replayed,
        Answer::Refused(problem) if !problem.findings.is_empty() && !global.json => {
            findings::print(&file.display().to_string(), &text, &problem.findings);
            return Ok(ExitCode::from(1));
        }
        Answer::Refused(problem) => return Err(problem.into()),
    };
    match global.json {
        true => output::json(&replayed),
        false => print(&replayed),
    }
    Ok(if replayed.changed.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn print(replayed: &Replayed) {
    output::line(format!("{} logins re-evaluated; {} give the same result", replayed.decided, replayed.same));
    for group in &replayed.changed {
        output::line("");
        output::line(format!("{}  {} → {}", count(group), group.before, output::paint(&group.after, "1")));
        let place = group.line.map(|line| output::paint(&format!("  [line {line}]"), "2")).unwrap_or_default();
        output::line(format!("  {}{place}", group.why));
        output::line(format!("  for example {}", group.examples.join(", ")));
    }
    if !replayed.unknown.is_empty() {
        output::line("\nundetermined, because the trace lacks the data:");
    }
    for group in &replayed.unknown {
        output::line(format!("  {}  {}: {}", count(group), group.before, group.after));
    }
    if !replayed.left.is_empty() {
        output::line("\nnot re-evaluated:");
    }
    for (why, count) in &replayed.left {
        output::line(format!("  {count}  {why}"));
    }
}

fn count(group: &Group) -> String {
    let chain = if group.chain.is_empty() { "no chain" } else { &group.chain };
    let people = if group.people == 1 { "1 person".to_owned() } else { format!("{} people", group.people) };
    format!("{} of {people} in {chain}:", group.count)
}
