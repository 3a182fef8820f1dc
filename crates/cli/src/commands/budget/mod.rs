//! `bivector budget`

mod picture;
mod simulation;

use crate::arguments::{Budget, Global};
use crate::client::{Answer, Client, encode};
use crate::failure::Failure;
use crate::{findings, output};
use bivector_api::timing::{DraftRequest, DraftView, SettingView, TimingRequest, TimingView};
use bivector_timing::budget::{Rush, Suggestion, TimeFinding, Weight};
use reqwest::Method;
use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;

pub(crate) async fn run(of: Budget, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let set = values(&of.set)?;
    let text = of.file.as_deref().map(output::read_file).transpose()?;
    if of.simulate.is_some() || of.simulation.sweep.is_some() {
        return simulation::run(&client, &of, set, text, global).await;
    }
    let request =
        TimingRequest { via: of.via.clone(), set: set.clone(), margin: Some(of.margin / 100.0), text: text.clone(), rush: of.rush };
    let answer: Answer<TimingView> = client.call(Method::POST, &format!("/timing/{}", encode(&of.chain)), &[], Some(&request)).await?;
    let view = match (answer, &of.file) {
        (Answer::Good(view), _) => view,
        (Answer::Refused(problem), Some(file)) if !problem.findings.is_empty() && !global.json => {
            findings::print(&file.display().to_string(), &text.unwrap_or_default(), &problem.findings);
            return Ok(ExitCode::from(1));
        }
        (Answer::Refused(problem), _) => return Err(problem.into()),
    };
    if let Some(file) = &of.draft {
        // What is tried is what the suggestion begins from.
        let mut drafted = set;
        if of.suggest || drafted.is_empty() {
            drafted.extend(suggested(&view.suggestion));
        }
        write_draft(&client, &of.chain, drafted, file).await?;
    }
    if global.json {
        output::json(&view);
    } else if of.rush.is_some() {
        print_rush(&view.rush);
    } else if of.settings {
        print_settings(&view.settings);
    } else if of.suggest {
        print_suggestion(&view.suggestion);
    } else {
        print(&view, &of);
    }
    if of.rush.is_some() {
        return Ok(ExitCode::from(u8::from(view.rush.iter().any(|rush| rush.lost > 0))));
    }
    let bad = view.budget.findings.iter().any(|finding| finding.weight != Weight::Note);
    Ok(ExitCode::from(u8::from(bad)))
}

/// Reads `NAME=VALUE`.
fn values(set: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    let read = |text: &String| {
        let (name, value) = text.split_once('=').ok_or_else(|| {
            Failure::usage(
                format!("`{text}` is not a setting"),
                "write NAME=VALUE, for example breakwater.wait=20s; `--settings` lists the names",
            )
        })?;
        Ok((name.trim().to_owned(), value.trim().to_owned()))
    };
    set.iter().map(read).collect()
}

fn suggested(suggestion: &Suggestion) -> BTreeMap<String, String> {
    suggestion.changes.iter().map(|change| (change.setting.clone(), change.to.clone())).collect()
}

async fn write_draft(client: &Client, chain: &str, set: BTreeMap<String, String>, file: &Path) -> Result<(), Failure> {
    let path = format!("/timing/{}/draft", encode(chain));
    let draft: DraftView = client.ask(Method::POST, &path, &[], Some(&DraftRequest { set })).await?;
    output::write_file(file, draft.text.as_bytes())?;
    output::hint(format!("the site file with these values is in {}; nothing is applied", file.display()));
    for device in &draft.on_devices {
        output::hint(format!("to enter on the device: {device}"));
    }
    output::hint(format!("next: bivector site compare {0}, then bivector site apply {0}", file.display()));
    Ok(())
}

fn print_rush(rushes: &[Rush]) {
    let mut table = output::table(&[
        "through",
        "logins",
        "queue at",
        "at once",
        "each takes",
        "half answered",
        "all answered",
        "gateway waits",
        "too late",
    ]);
    for rush in rushes {
        table.add_row([
            rush.gateway.clone(),
            rush.logins.to_string(),
            rush.source.clone(),
            rush.at_once.to_string(),
            output::took(rush.each_us),
            output::took(rush.half_us),
            output::took(rush.last_us),
            rush.patience_us.map_or("not known".to_owned(), output::took),
            rush.lost.to_string(),
        ]);
    }
    output::print_table(&table);
    for rush in rushes.iter().filter(|rush| rush.lost > 0) {
        output::line(format!("{}: {}", rush.gateway, rush.remedy));
    }
    if rushes.is_empty() {
        output::line("logins of this chain do not queue in Bivector: an upstream or the gateway checks the passwords");
    }
}

fn print_settings(settings: &[SettingView]) {
    let mut table = output::table(&["setting", "value", "allowed", "set on", "what it is"]);
    for setting in settings {
        let unit = if setting.in_seconds { " s" } else { "" };
        let value = if setting.value.is_empty() { "not known".to_owned() } else { setting.value.clone() };
        let place = if setting.on_device { "the device" } else { "the site file" };
        table.add_row([
            setting.name.clone(),
            value,
            format!("{} to {}{unit}", setting.least, setting.most),
            place.to_owned(),
            setting.said.clone(),
        ]);
    }
    output::print_table(&table);
}

fn print_suggestion(suggestion: &Suggestion) {
    let margin = (suggestion.margin * 100.0).round();
    if suggestion.changes.is_empty() && suggestion.left.is_empty() {
        return output::line(format!("every timeout is already long enough, with a margin of {margin} %"));
    }
    for left in &suggestion.left {
        output::line(format!("{} {left}", output::paint("✕", "31")));
    }
    if suggestion.changes.is_empty() {
        return output::line(format!("no change makes every timeout long enough with a margin of {margin} %"));
    }
    output::line(format!("smallest change that makes every timeout long enough, with a margin of {margin} %:"));
    let mut table = output::table(&["", "setting", "now", "then", "what it is", "where"]);
    for change in &suggestion.changes {
        let place =
            if change.on_device { format!("on the device, and of `{}` in the site file", change.owner) } else { "in the site file".into() };
        let from = if change.from.is_empty() { "not stated" } else { &change.from };
        let row = ["→", &change.setting, from, &output::paint(&change.to, "1"), &change.said, &place];
        table.add_row(row.map(str::to_owned));
    }
    output::print_table(&table);
    output::line("\n`--draft FILE` writes the site file with these values");
}

fn print(view: &TimingView, of: &Budget) {
    let budget = &view.budget;
    let mut table = output::table(&["through", "way", "usually", "at worst", "gateway waits", "margin", "client waits", "margin"]);
    for path in &budget.paths {
        let mut row = vec![
            path.gateway.clone(),
            if path.method == "pap" { path.way.clone() } else { format!("{} ({})", path.way, path.method) },
            output::took(path.usual_us),
            output::took(path.worst_us),
        ];
        row.extend(picture::waits(path));
        table.add_row(row);
    }
    if !budget.paths.is_empty() {
        output::print_table(&table);
    }
    for path in picture::chosen(&budget.paths, of.way.as_deref()) {
        output::line("");
        picture::draw(path);
    }
    for finding in &budget.findings {
        print_finding(finding);
    }
    if budget.findings.is_empty() && !budget.paths.is_empty() {
        output::line("\nall timeouts fit");
    }
    for note in &budget.notes {
        output::line(format!("{} {note}", output::paint("·", "2")));
    }
    if !view.suggestion.changes.is_empty() {
        output::line(format!("\n`bivector budget {} --suggest` suggests changes", budget.chain));
    }
}

fn print_finding(finding: &TimeFinding) {
    let mark = match finding.weight {
        Weight::Breaks => output::paint("✕", "31"),
        Weight::Risks => output::paint("!", "33"),
        Weight::Note => output::paint("·", "2"),
    };
    output::line(format!("\n{mark} {}: {}", output::paint(&finding.code, "1"), finding.message));
    let place = if finding.line > 0 { output::paint(&format!("  [line {}]", finding.line), "2") } else { String::new() };
    output::line(format!("  remedy: {}{place}", finding.remedy));
}
