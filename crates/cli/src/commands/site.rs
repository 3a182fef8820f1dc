//! `bivector site …`

use crate::arguments::{Global, Site as SiteCommand};
use crate::client::{Answer, Client};
use crate::failure::Failure;
use crate::{findings, output};
use bivector_core::site::{Known, Severity, Site, reference_markdown};
use bivector_service::api::{AppliedView, ApplyRequest, CheckRequest, Checked};
use bivector_service::records::Revision;
use reqwest::Method;
use std::path::Path;
use std::process::ExitCode;

pub(crate) async fn run(command: SiteCommand, global: &Global) -> Result<ExitCode, Failure> {
    match command {
        SiteCommand::Check { file, offline } => check(&file, offline, global).await,
        SiteCommand::Apply { file, note, expected } => apply(&file, note, expected, global).await,
        SiteCommand::Export { revision } => export(revision, global).await,
        SiteCommand::History => history(global).await,
        SiteCommand::Restore { revision } => restore(revision, global).await,
        SiteCommand::Reference => {
            output::line(reference_markdown().trim_end());
            Ok(ExitCode::SUCCESS)
        }
    }
}

async fn check(file: &Path, offline: bool, global: &Global) -> Result<ExitCode, Failure> {
    let text = output::read_file(file)?;
    let checked = if offline {
        let findings = Site::read(&text, &Known::default()).1;
        Checked { sound: !findings.iter().any(|finding| finding.severity == Severity::Error), findings }
    } else {
        let asked = async { Client::new(global)?.ask(Method::POST, "/site/check", &[], Some(&CheckRequest { text: text.clone() })).await };
        asked.await.inspect_err(|_| {
            output::hint(" note: `--offline` checks the file without a service; which secrets are sealed is then not known")
        })?
    };
    if global.json {
        output::json(&checked);
    } else {
        findings::print(&file.display().to_string(), &text, &checked.findings);
    }
    Ok(if checked.sound { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

async fn apply(file: &Path, note: String, expected: Option<u64>, global: &Global) -> Result<ExitCode, Failure> {
    let text = output::read_file(file)?;
    put_in_force(&file.display().to_string(), text, note, expected, global).await
}

async fn restore(number: u64, global: &Global) -> Result<ExitCode, Failure> {
    let earlier: Revision = Client::new(global)?.get(&format!("/site/revisions/{number}"), &[]).await?;
    put_in_force(&format!("revision {number}"), earlier.text.unwrap_or_default(), format!("restored revision {number}"), None, global).await
}

async fn put_in_force(title: &str, text: String, note: String, expected: Option<u64>, global: &Global) -> Result<ExitCode, Failure> {
    let request = ApplyRequest { text: text.clone(), note, expected };
    let answer: Answer<AppliedView> = Client::new(global)?.call(Method::POST, "/site/revisions", &[], Some(&request)).await?;
    match answer {
        Answer::Good(applied) => {
            if global.json {
                output::json(&applied);
                return Ok(ExitCode::SUCCESS);
            }
            if !applied.findings.is_empty() {
                findings::print(title, &text, &applied.findings);
            }
            for source in &applied.unreachable {
                output::line(format!("warning: {source}"));
            }
            output::line(format!("revision {} is in force", applied.revision));
            Ok(ExitCode::SUCCESS)
        }
        Answer::Refused(problem) if !problem.findings.is_empty() && !global.json => {
            findings::print(title, &text, &problem.findings);
            Ok(ExitCode::from(1))
        }
        Answer::Refused(problem) if global.json => {
            output::json(&problem);
            Ok(ExitCode::from(1))
        }
        Answer::Refused(problem) => Err(problem.into()),
    }
}

async fn export(revision: Option<u64>, global: &Global) -> Result<ExitCode, Failure> {
    let path = revision.map_or_else(|| "/site".to_owned(), |number| format!("/site/revisions/{number}"));
    let revision: Revision = Client::new(global)?.get(&path, &[]).await?;
    if global.json {
        output::json(&revision);
    } else {
        output::line(revision.text.unwrap_or_default().trim_end_matches('\n'));
    }
    Ok(ExitCode::SUCCESS)
}

async fn history(global: &Global) -> Result<ExitCode, Failure> {
    let revisions: Vec<Revision> = Client::new(global)?.get("/site/revisions", &[]).await?;
    if global.json {
        output::json(&revisions);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["revision", "applied", "by", "note"]);
    for revision in &revisions {
        table.add_row([revision.number.to_string(), output::when(revision.applied_us), revision.operator.clone(), revision.note.clone()]);
    }
    output::print_table(&table);
    if revisions.is_empty() {
        output::line("no site was applied yet; try `bivector site apply FILE`");
    }
    Ok(ExitCode::SUCCESS)
}
