//! `bivector audit …`

use crate::arguments::{Audit as AuditCommand, Global};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::audit::{AuditRow, AuditVerdict};
use std::process::ExitCode;

pub(crate) async fn run(command: AuditCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        AuditCommand::List { limit } => {
            let rows: Vec<AuditRow> = client.get("/audit", &[("limit", limit.to_string())]).await?;
            list(&rows, global);
            Ok(ExitCode::SUCCESS)
        }
        AuditCommand::Verify => Ok(verdict(&client.get("/audit/verdict", &[]).await?, global)),
    }
}

fn list(rows: &[AuditRow], global: &Global) {
    if global.json {
        return output::json(&rows);
    }
    let mut table = output::table(&["row", "when", "operator", "from", "what", "to what"]);
    for row in rows {
        table.add_row([
            row.number.to_string(),
            output::when(row.at_us),
            row.operator.clone(),
            row.sender.clone(),
            row.what.clone(),
            row.detail.clone(),
        ]);
    }
    output::print_table(&table);
    if rows.is_empty() {
        output::line("no changes yet");
    }
}

fn verdict(verdict: &AuditVerdict, global: &Global) -> ExitCode {
    if global.json {
        output::json(verdict);
    } else {
        match &verdict.broken {
            None => output::line(format!(
                "{} the audit log is intact: {} rows, head {}",
                output::tone(bivector_model::trace::Tone::Good),
                verdict.rows,
                verdict.head
            )),
            Some(why) => output::line(format!("{} the audit log is not intact: {why}", output::tone(bivector_model::trace::Tone::Bad))),
        }
    }
    ExitCode::from(u8::from(verdict.broken.is_some()))
}
