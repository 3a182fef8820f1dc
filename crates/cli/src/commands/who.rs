//! `bivector who`

use crate::arguments::{Global, Who};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::explain::{WhoPeople, WhoView};
use std::process::ExitCode;

pub(crate) async fn run(who: Who, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let view: WhoView = client.get(&format!("/chains/{}/who", encode(&who.chain)), &[("all", who.all.to_string())]).await?;
    if global.json {
        output::json(&view);
        return Ok(ExitCode::SUCCESS);
    }
    for rule in &view.rules {
        let does = rule.grant.as_ref().map_or("refused".to_owned(), |grant| format!("admitted with {grant}"));
        let gateways = if rule.gateways.is_empty() { String::new() } else { format!(" through {}", rule.gateways.join(", ")) };
        let place = output::paint(&format!("  [line {}]", rule.line), "2");
        output::line(format!("{}: {} are {does}{gateways}{place}", output::paint(&rule.name, "1"), rule.when));
        print(&rule.people);
    }
    output::line(format!("{}: no rule matches them", output::paint("left out", "1")));
    print(&view.left_out);
    for unknown in &view.unknown {
        output::line(format!("! {unknown}"));
    }
    Ok(ExitCode::SUCCESS)
}

fn print(people: &WhoPeople) {
    let noun = if people.count == 1 { "person" } else { "people" };
    output::line(format!("  {} {noun}, {} with a second factor that the chain accepts", people.count, people.with_factor));
    let mut table = output::table(&["", "login", "name", "source", "factors", "but"]);
    for person in &people.named {
        table.add_row([
            " ".to_owned(),
            person.login.clone(),
            person.name.clone(),
            person.source.clone(),
            person.factors.join(", "),
            person.but.clone().unwrap_or_default(),
        ]);
    }
    if !people.named.is_empty() {
        output::print_table(&table);
    }
    if people.count > people.named.len() as u64 {
        output::line(format!("  and {} more; `--all` lists them", people.count - people.named.len() as u64));
    }
    output::line("");
}
