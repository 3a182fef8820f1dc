//! `bivector read`: the reading tester.

use crate::arguments::{Global, Read as ReadArguments};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::readings::Read;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(arguments: ReadArguments, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let text = output::read_hidden(arguments.text_file.as_deref(), "what would be typed (not shown): ")?;
    let body = serde_json::json!({
        "chain": arguments.chain, "via": arguments.via, "person": arguments.person, "text": text.expose(),
    });
    let read: Read = client.ask(Method::POST, "/readings", &[], Some(&body)).await?;
    if global.json {
        output::json(&read);
    } else {
        print(&read);
    }
    Ok(if read.readings.iter().any(|reading| reading.counts) { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn print(read: &Read) {
    let whose = match (&read.person, read.devices) {
        (Some(person), devices) => format!("{devices} {} of {person} as evidence", if devices == 1 { "device" } else { "devices" }),
        (None, _) => "nobody's devices as evidence".to_owned(),
    };
    let characters = if read.characters == 1 { "1 character".to_owned() } else { format!("{} characters", read.characters) };
    output::line(format!("{characters}, read by the chain {}, with {whose}", read.chain));
    let mut table = output::table(&["", "form", "password", "PIN", "code", "factor", "why"]);
    let part = |length: Option<usize>| length.map(|length| length.to_string()).unwrap_or_default();
    for reading in &read.readings {
        table.add_row([
            if reading.counts { "counts" } else { "" }.to_owned(),
            reading.form.clone(),
            part(reading.password),
            part(reading.pin),
            part(reading.code),
            reading.factor.clone().unwrap_or_default(),
            reading.why.clone().unwrap_or_default(),
        ]);
    }
    output::print_table(&table);
    if let Some(otherwise) = &read.otherwise {
        output::line(otherwise);
    }
}
