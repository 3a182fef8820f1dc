//! `bivector locate`

use crate::arguments::{Global, Locate};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_explain::ladder::{Ladder, Layer};
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(locate: Locate, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let asks = locate.persona.is_none() && !locate.without_password;
    let typed = match asks {
        true => Some(output::read_hidden(locate.password_file.as_deref(), "password field (not shown): ")?),
        false => None,
    };
    let body = serde_json::json!({
        "person": locate.person, "via": locate.via, "password": typed.as_ref().map(|typed| typed.expose()), "persona": locate.persona,
        "method": locate.method,
    });
    let ladder: Ladder = client.ask(Method::POST, "/locate", &[], Some(&body)).await?;
    if global.json {
        output::json(&ladder);
    } else {
        print(&ladder);
    }
    Ok(if ladder.broken.is_some() { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

fn print(ladder: &Ladder) {
    let to = if ladder.chain.is_empty() { String::new() } else { format!(" → {}", ladder.chain) };
    output::line(format!("{} via {}{to}, from the source to the gateway\n", ladder.person, ladder.via));
    for rung in &ladder.rungs {
        let place = rung.line.map(|line| output::paint(&format!("  [line {line}]"), "2")).unwrap_or_default();
        let about = if rung.about.is_empty() { String::new() } else { format!("{}: ", rung.about) };
        output::line(format!(
            "  {} {:<10} {:>8}  {about}{}{place}",
            output::tone(rung.state),
            rung.layer.word(),
            output::took(rung.took_us),
            rung.said
        ));
        if rung.state != bivector_model::trace::Tone::Good {
            if let Some(cause) = rung.cause {
                output::line(format!("{:25}{}", "", output::paint(cause.slug(), "1")));
            }
            if let Some(remedy) = &rung.remedy {
                output::line(format!("{:25}remedy: {remedy}", ""));
            }
        }
    }
    match ladder.broken {
        Some(layer) => {
            let rest: Vec<&str> = ladder.not_tried.iter().map(|layer| layer.word()).collect();
            let rest = if rest.is_empty() { String::new() } else { format!("; not tried: {}", rest.join(", ")) };
            output::line(format!("\nfailed at: {}{rest}", output::paint(layer.word(), "1")));
        }
        None if ladder.rungs.iter().any(|rung| rung.layer == Layer::Waits) => output::line("\nno problem found"),
        None => output::line("\nno problem found in the layers tested"),
    }
}
