//! `bivector push …`

use crate::arguments::{Global, Push as PushCommand};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::push::PushKeyView;
use reqwest::Method;
use serde_json::Value;
use std::process::ExitCode;

pub(crate) async fn run(command: PushCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let keys: Vec<PushKeyView> = match command {
        PushCommand::Keys => client.get("/push/keys", &[]).await?,
        PushCommand::NewKey => client.ask::<Value, _>(Method::POST, "/push/keys", &[], None).await?,
    };
    if global.json {
        output::json(&keys);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["public key", "made", "used by", "state"]);
    for key in &keys {
        let handsets = format!("{} {}", key.handsets, if key.handsets == 1 { "handset" } else { "handsets" });
        // Its beginning tells keys apart; the whole is in the JSON output.
        let short = format!("{}…", key.public.chars().take(16).collect::<String>());
        table.add_row([short, output::when(key.made_us), handsets, if key.current { "current" } else { "old" }.to_owned()]);
    }
    output::print_table(&table);
    match keys.iter().any(|key| !key.current && key.handsets > 0) {
        _ if keys.is_empty() => output::line("no key yet; one is made when the first handset subscribes"),
        true => output::line("handsets with an old key take over the current one when their page is next opened"),
        false => {}
    }
    Ok(ExitCode::SUCCESS)
}
