//! `bivector secret …`

use crate::arguments::{Global, Secret as SecretCommand};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::site::SecretRow;
use bivector_wire::Secret;
use reqwest::Method;
use std::path::Path;
use std::process::ExitCode;

/// Length of a generated secret: 32 characters of 32 are 160 bits.
const GENERATED: usize = 32;

pub(crate) async fn run(command: SecretCommand, global: &Global) -> Result<ExitCode, Failure> {
    match command {
        SecretCommand::Set { name, file, generate } => set(&name, file.as_deref(), generate, global).await,
        SecretCommand::List => list(global).await,
        SecretCommand::Rotate { name, file } => rotate(&name, file.as_deref(), global).await,
        SecretCommand::Retire { name, anyway } => {
            let body = serde_json::json!({ "anyway": anyway });
            let path = format!("/secrets/{}/retire", encode(&name));
            Client::new(global)?.ask::<_, ()>(Method::POST, &path, &[], Some(&body)).await?;
            Ok(done(&format!("the old value of {name} is retired; only the new one is accepted"), global))
        }
        SecretCommand::Forget { name } => {
            Client::new(global)?.ask::<_, ()>(Method::DELETE, &format!("/secrets/{}", encode(&name)), &[], None::<&()>).await?;
            Ok(done(&format!("{name} is deleted"), global))
        }
    }
}

async fn set(name: &str, file: Option<&Path>, generate: bool, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let value = if generate { generated() } else { output::read_hidden(file, &format!("value of {name} (not shown): "))? };
    let body = serde_json::json!({ "name": name, "value": value.expose() });
    client.ask::<_, ()>(Method::PUT, "/secrets", &[], Some(&body)).await?;
    match (generate, global.json) {
        (true, true) => output::json(&body),
        (true, false) => output::line(format!("{}\nsealed as {name}; it is not shown again", value.expose())),
        (false, true) => output::json(&serde_json::json!({ "name": name })),
        (false, false) => output::line(format!("sealed as {name}")),
    }
    Ok(ExitCode::SUCCESS)
}

async fn rotate(name: &str, file: Option<&Path>, global: &Global) -> Result<ExitCode, Failure> {
    let value = if file.is_some() { output::read_hidden(file, "")? } else { generated() };
    let body = serde_json::json!({ "value": value.expose() });
    Client::new(global)?.ask::<_, ()>(Method::PUT, &format!("/secrets/{}/next", encode(name)), &[], Some(&body)).await?;
    match (file, global.json) {
        (None, true) => output::json(&serde_json::json!({ "name": name, "value": value.expose() })),
        (None, false) => {
            output::line(format!("{}\n{name} now accepts this value as well as the old one; it is not shown again", value.expose()))
        }
        (Some(_), true) => output::json(&serde_json::json!({ "name": name })),
        (Some(_), false) => output::line(format!("the new value of {name} is accepted alongside the old one")),
    }
    if !global.json {
        output::hint(format!(
            " next: enter it on the device; `bivector secret list` shows who still uses the old value; finish with `bivector secret retire {name}`"
        ));
    }
    Ok(ExitCode::SUCCESS)
}

fn done(what: &str, global: &Global) -> ExitCode {
    if global.json {
        output::json(&serde_json::json!({ "done": what }));
    } else {
        output::line(what);
    }
    ExitCode::SUCCESS
}

/// Characters that look like no other one, so that a secret can be typed on a device.
fn generated() -> Secret<String> {
    const ALPHABET: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz23456789-";
    let bytes = bivector_service::random::<GENERATED>();
    let text: String = bytes.iter().map(|byte| char::from(ALPHABET[usize::from(byte % 32)])).collect();
    // A hyphen at an end gets lost when a device's page is copied from.
    Secret::new(text.trim_matches('-').to_owned())
}

async fn list(global: &Global) -> Result<ExitCode, Failure> {
    let secrets: Vec<SecretRow> = Client::new(global)?.get("/secrets", &[]).await?;
    if global.json {
        output::json(&secrets);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["secret", "set", "by"]);
    for secret in &secrets {
        table.add_row([secret.name.clone(), output::when(secret.set_us), secret.operator.clone()]);
    }
    output::print_table(&table);
    let when = |at: Option<u64>| at.map_or("not yet".to_owned(), output::when);
    for secret in secrets.iter().filter(|secret| secret.next_us.is_some()) {
        output::line(format!("\n{} has two values since {}", secret.name, when(secret.next_us)));
        for one in &secret.uses {
            let old = if one.old_us > one.next_us {
                "uses the old value"
            } else if one.next_us.is_some() {
                "uses the new value"
            } else {
                "not seen since"
            };
            output::line(format!("  {:<16} {old} (old: {}; new: {})", one.gateway, when(one.old_us), when(one.next_us)));
        }
    }
    if secrets.is_empty() {
        output::line("no secrets sealed yet; start with `bivector secret set gateway/breakwater`");
    }
    Ok(ExitCode::SUCCESS)
}
