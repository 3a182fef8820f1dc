//! `bivector doctor`

use crate::arguments::Global;
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_explain::doctor::{Advice, worst};
use bivector_model::trace::Tone;
use std::process::ExitCode;

/// Shows how the service is exposed; exit status 1 where something should be changed.
pub(crate) async fn run(global: &Global) -> Result<ExitCode, Failure> {
    let advice: Vec<Advice> = Client::new(global)?.get("/doctor", &[]).await?;
    let status = if matches!(worst(&advice), Tone::Warn | Tone::Bad) { ExitCode::FAILURE } else { ExitCode::SUCCESS };
    if global.json {
        output::json(&advice);
        return Ok(status);
    }
    for (at, one) in advice.iter().enumerate() {
        let first = at == 0 || advice.get(at - 1).is_some_and(|before| before.topic != one.topic);
        let topic = if first { one.topic.name() } else { "" };
        output::line(format!("{topic:<13}{} {}", output::tone(one.tone), one.said));
        if !one.remedy.is_empty() {
            output::line(format!("{:15}remedy: {}", "", one.remedy));
        }
    }
    let count = |tone: Tone| advice.iter().filter(|one| one.tone == tone).count();
    output::line(format!(
        "\n{} good, {} to know, {} to change, {} to change now",
        count(Tone::Good),
        count(Tone::Note),
        count(Tone::Warn),
        count(Tone::Bad)
    ));
    Ok(status)
}
