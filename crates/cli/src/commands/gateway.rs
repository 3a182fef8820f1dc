//! `bivector gateway …`

use crate::arguments::{Gateway as GatewayCommand, Global, SheetFormat};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::gateways::{GatewayView, RegisterRequest};
use bivector_api::knocks::Knock;
use bivector_api::site::AppliedView;
use bivector_explain::sheet::{Format, Sheet};
use bivector_model::Cause;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(command: GatewayCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        GatewayCommand::List => list(&client.get::<Vec<GatewayView>>("/gateways", &[]).await?, global),
        GatewayCommand::Show { name } => show(&client.get::<Vec<GatewayView>>("/gateways", &[]).await?, &name, global)?,
        GatewayCommand::Handover { name, format } => {
            let sheet: Sheet = client.get(&format!("/gateways/{}/handover", encode(&name)), &[]).await?;
            handover(&sheet, format, global);
        }
        GatewayCommand::Knocks => knocks(&client.get::<Vec<Knock>>("/knocks", &[]).await?, global),
        GatewayCommand::Register { address, gateway } => {
            let path = format!("/gateways/{}/addresses", encode(&gateway));
            let applied: AppliedView = client.ask(Method::POST, &path, &[], Some(&RegisterRequest { address: address.clone() })).await?;
            if global.json {
                output::json(&applied);
            } else {
                output::line(format!("{address} is now assigned to {gateway}; revision {} is active", applied.revision));
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn last(gateway: &GatewayView) -> String {
    gateway.last.as_ref().map_or_else(
        || "never".to_owned(),
        |last| format!("{} {} {}", output::when(last.began_us), output::outcome(last.outcome), last.reference),
    )
}

fn list(gateways: &[GatewayView], global: &Global) {
    if global.json {
        return output::json(&gateways);
    }
    let mut table = output::table(&["gateway", "from", "chain", "signs", "last login"]);
    for gateway in gateways {
        let chain = if gateway.chains.is_empty() { "none: refused".to_owned() } else { gateway.chains.join(", ") };
        let signs = if gateway.must_sign { "must" } else { "may" };
        table.add_row([gateway.name.clone(), gateway.from.join("\n"), chain, signs.to_owned(), last(gateway)]);
    }
    output::print_table(&table);
    if gateways.is_empty() {
        output::line("the active site has no gateway");
    }
}

fn show(gateways: &[GatewayView], name: &str, global: &Global) -> Result<(), Failure> {
    let Some(gateway) = gateways.iter().find(|gateway| gateway.name == name) else {
        let names: Vec<&str> = gateways.iter().map(|gateway| gateway.name.as_str()).collect();
        return Err(Failure::no(format!("unknown gateway `{name}`"), format!("known: {}", names.join(", "))));
    };
    if global.json {
        output::json(gateway);
        return Ok(());
    }
    let waits = gateway.wait_ms.zip(gateway.tries).map_or_else(
        || "not stated in the site file".to_owned(),
        |(wait, tries)| format!("{} s per try, {tries} tries", wait as f64 / 1e3),
    );
    let rows = [
        ("from", gateway.from.join(", ")),
        ("chains", if gateway.chains.is_empty() { "none: its logins are refused".to_owned() } else { gateway.chains.join(", ") }),
        ("labels", gateway.labels.iter().map(|(key, value)| format!("{key} {value}")).collect::<Vec<_>>().join(", ")),
        ("secret", gateway.secret.clone()),
        ("signs", if gateway.must_sign { "must" } else { "may" }.to_owned()),
        ("waits", waits),
        ("last login", last(gateway)),
    ];
    output::line(&gateway.name);
    rows.iter().for_each(|(label, value)| output::line(format!("  {label:<11} {value}")));
    Ok(())
}

fn handover(sheet: &Sheet, format: SheetFormat, global: &Global) {
    if global.json {
        return output::json(sheet);
    }
    let format = match format {
        SheetFormat::Text => Format::Text,
        SheetFormat::Markdown => Format::Markdown,
        SheetFormat::Html => Format::Html,
    };
    output::line(sheet.render(format).trim_end());
}

fn knocks(knocks: &[Knock], global: &Global) {
    if global.json {
        return output::json(&knocks);
    }
    let mut table = output::table(&["sender", "count", "last", "cause", "gateway", "what was seen"]);
    for knock in knocks {
        let gateway = match &knock.guess {
            Some(guess) => format!("{}?", guess.gateway),
            None => knock.gateway.clone(),
        };
        table.add_row([
            knock.sender.clone(),
            knock.count.to_string(),
            output::when(knock.last_us),
            knock.cause.slug().to_owned(),
            gateway,
            knock.said.clone(),
        ]);
    }
    output::print_table(&table);
    for knock in knocks.iter().filter(|knock| knock.cause == Cause::GatewayUnknown) {
        match &knock.guess {
            Some(guess) => output::line(format!(
                "\n{} may be {} with a new address: {}\n  to register it: bivector gateway register {} --as {}",
                knock.sender, guess.gateway, guess.why, knock.sender, guess.gateway
            )),
            None => output::line(format!("\n{} does not match any gateway", knock.sender)),
        }
    }
    if knocks.is_empty() {
        output::line("no knocks");
    }
}
