//! `bivector drill`

use crate::arguments::{Drill, Fails, Global};
use crate::client::Client;
use crate::commands::rehearse;
use crate::failure::Failure;
use crate::output;
use bivector_api::explain::{DrillRequest, Drilled};
use bivector_explain::run::RunState;
use reqwest::Method;
use std::process::ExitCode;

pub(crate) async fn run(drill: Drill, global: &Global) -> Result<ExitCode, Failure> {
    let fails = match drill.fails {
        Fails::Closed => bivector_api::explain::Fails::Closed,
        Fails::Silent => bivector_api::explain::Fails::Silent,
    };
    let request = DrillRequest { member: drill.member.clone(), rehearsal: drill.with, fails };
    let drilled: Drilled = Client::new(global)?.ask(Method::POST, "/drills", &[], Some(&request)).await?;
    if global.json {
        output::json(&drilled);
    } else {
        rehearse::print(&drilled.without);
        output::line(format!(
            "\nwith {}: {} of {} as expected (run {})",
            drill.member, drilled.with.passed, drilled.with.total, drilled.with.id
        ));
        for change in &drilled.changes {
            output::line(format!("  {}: {} → {}", change.title, change.was, change.is));
        }
        for slower in &drilled.slower {
            output::line(format!("  {}: {} → {}", slower.title, output::took(slower.with_us), output::took(slower.without_us)));
        }
        if drilled.changes.is_empty() && drilled.slower.is_empty() {
            output::line("  no effect on logins");
        }
        output::line("real logins were not affected; nothing has to be restored");
    }
    Ok(if drilled.without.state == RunState::Passed { ExitCode::SUCCESS } else { ExitCode::from(1) })
}
