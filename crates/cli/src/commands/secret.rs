//! `bivector secret …`

use crate::arguments::{Global, Secret as SecretCommand};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_service::records::SecretRow;
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

/// Characters that look like no other one, so that a secret can be typed on a device.
fn generated() -> Secret<String> {
    const ALPHABET: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz23456789-";
    let bytes = bivector_service::seal::random::<GENERATED>();
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
    if secrets.is_empty() {
        output::line("nothing is sealed yet; try `bivector secret set gateway/breakwater`");
    }
    Ok(ExitCode::SUCCESS)
}
