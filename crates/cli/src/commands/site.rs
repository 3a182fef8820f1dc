//! `bivector site …`

use crate::arguments::{Global, Site as SiteCommand};
use crate::client::{Answer, Client};
use crate::failure::Failure;
use crate::{findings, output};
use bivector_api::site::Awaiting;
use bivector_api::site::Revision;
use bivector_api::site::{AppliedView, ApplyRequest, CheckRequest, Checked, CompareRequest, Compared, RestoreRequest};
use bivector_model::trace::Tone;
use bivector_site::{Difference, Known, Severity, Site, reference_markdown};
use reqwest::Method;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;

pub(crate) async fn run(command: SiteCommand, global: &Global) -> Result<ExitCode, Failure> {
    match command {
        SiteCommand::Check { file, offline } => check(&file, offline, global).await,
        SiteCommand::Replay { file, last, chain } => super::replay::run(&file, last, chain, global).await,
        SiteCommand::Apply { file, note, expected, weaker_is_meant, confirm_within, prove, end_sessions } => {
            let text = output::read_file(&file)?;
            let confirm_within_s = confirm_within.as_deref().map(seconds).transpose()?;
            let request = ApplyRequest { text: text.clone(), note, expected, weaker_is_meant, confirm_within_s, prove };
            let applied = put_in_force(&file.display().to_string(), &text, "/site/revisions", &request, global).await?;
            if !end_sessions || applied != ExitCode::SUCCESS {
                return Ok(applied);
            }
            super::session::review(&Client::new(global)?, true, global).await
        }
        SiteCommand::Compare { file, revision, against, lines } => compare(file.as_deref(), revision, against, lines, global).await,
        SiteCommand::Confirm => confirm(global).await,
        SiteCommand::Export { revision } => export(revision, global).await,
        SiteCommand::History => history(global).await,
        SiteCommand::Restore { revision, weaker_is_meant } => {
            let request = RestoreRequest { expected: None, weaker_is_meant };
            put_in_force(&format!("revision {revision}"), "", &format!("/site/revisions/{revision}/restore"), &request, global).await
        }
        SiteCommand::Reference => {
            output::line(reference_markdown().trim_end());
            Ok(ExitCode::SUCCESS)
        }
        SiteCommand::Methods => {
            output::line(bivector_site::matrix::methods_markdown().trim_end());
            Ok(ExitCode::SUCCESS)
        }
    }
}

async fn check(file: &Path, offline: bool, global: &Global) -> Result<ExitCode, Failure> {
    let text = output::read_file(file)?;
    let alone = || {
        let findings = Site::read(&text, &Known { advisers: vec![bivector_timing::budget::advice], ..Known::default() }).1;
        Checked { sound: !findings.iter().any(|finding| finding.severity == Severity::Error), findings }
    };
    let asked = async { Client::new(global)?.ask(Method::POST, "/site/check", &[], Some(&CheckRequest { text: text.clone() })).await };
    let checked = match offline {
        true => alone(),
        false => match asked.await {
            Ok(checked) => checked,
            // Whoever names a service means that one; otherwise a file can be checked before there is any.
            Err(failure) if failure.asked_nobody() && global.server.is_none() && global.token_file.is_none() => {
                let why = failure.message().to_owned();
                output::hint(format!(
                    " note: checked without a service ({why}): which secrets are sealed and what lies in the data folder is not known"
                ));
                alone()
            }
            Err(failure) => return Err(failure),
        },
    };
    if global.json {
        output::json(&checked);
    } else {
        findings::print(&file.display().to_string(), &text, &checked.findings);
    }
    Ok(if checked.sound { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// A time such as `90s` or `10m`, in seconds.
fn seconds(text: &str) -> Result<u64, Failure> {
    bivector_site::read_duration(text)
        .map(|duration| duration.as_secs())
        .ok_or_else(|| Failure::usage(format!("`{text}` is not a duration"), "write a number with its unit, such as 90s, 10m or 1h"))
}

async fn compare(
    file: Option<&Path>,
    revision: Option<u64>,
    against: Option<u64>,
    lines: bool,
    global: &Global,
) -> Result<ExitCode, Failure> {
    let text = file.map(output::read_file).transpose()?;
    let request = CompareRequest { text: text.clone(), revision, against };
    let answer: Answer<Compared> = Client::new(global)?.call(Method::POST, "/site/compare", &[], Some(&request)).await?;
    let compared = match answer {
        Answer::Good(compared) => compared,
        Answer::Refused(problem) if !problem.findings.is_empty() && !global.json => {
            let title = file.map(|file| file.display().to_string()).unwrap_or_default();
            findings::print(&title, &text.unwrap_or_default(), &problem.findings);
            return Ok(ExitCode::from(1));
        }
        Answer::Refused(problem) => return Err(problem.into()),
    };
    if global.json {
        output::json(&compared);
        return Ok(ExitCode::SUCCESS);
    }
    print_differences(&compared.differences);
    match compared.differences.iter().filter(|one| one.weaker).count() {
        _ if compared.differences.is_empty() => output::line(format!("no differences from revision {}", compared.against)),
        0 => {}
        _ => output::line("\nthis change weakens authentication; if that is intended, apply it with `--weaker-is-meant`"),
    }
    if lines && !compared.lines.is_empty() {
        output::line("");
        compared.lines.lines().for_each(print_diff_line);
    }
    Ok(ExitCode::SUCCESS)
}

fn print_differences(differences: &[Difference]) {
    let mut about = "";
    for one in differences {
        if one.about != about {
            about = &one.about;
            output::line(output::paint(about, "1"));
        }
        let mark = output::tone(if one.weaker { Tone::Bad } else { Tone::Note });
        let weaker = if one.weaker { "weaker: " } else { "" };
        let line = one.line.map(|line| output::paint(&format!("  [line {line}]"), "2")).unwrap_or_default();
        output::line(format!("  {mark} {weaker}{}{line}", one.said));
    }
}

fn print_diff_line(line: &str) {
    let colour = match line.chars().next() {
        Some('+') => "36",
        Some('-') => "33",
        Some('@') => "2",
        _ => "0",
    };
    output::line(output::paint(line, colour));
}

async fn confirm(global: &Global) -> Result<ExitCode, Failure> {
    let confirmed: Awaiting = Client::new(global)?.ask(Method::POST, "/site/confirm", &[], None::<&()>).await?;
    if global.json {
        output::json(&confirmed);
    } else {
        output::line(format!("revision {} is confirmed", confirmed.revision));
    }
    Ok(ExitCode::SUCCESS)
}

async fn put_in_force<R: Serialize>(title: &str, text: &str, path: &str, request: &R, global: &Global) -> Result<ExitCode, Failure> {
    let answer: Answer<AppliedView> = Client::new(global)?.call(Method::POST, path, &[], Some(request)).await?;
    match answer {
        Answer::Good(applied) => {
            if global.json {
                output::json(&applied);
                return Ok(ExitCode::SUCCESS);
            }
            if !applied.findings.is_empty() && !text.is_empty() {
                findings::print(title, text, &applied.findings);
            }
            for source in &applied.unreachable {
                output::line(format!("warning: {source}"));
            }
            print_differences(&applied.differences);
            if let Some(run) = &applied.proved {
                output::line(format!(
                    "rehearsal {} passed: {} of {} logins as expected (run {})",
                    run.rehearsal, run.passed, run.total, run.id
                ));
            }
            output::line(format!("revision {} is active", applied.revision));
            if let Some(until) = applied.until_us {
                let until = output::when(until);
                output::line(format!("it is rolled back at {until} unless you run `bivector site confirm`"));
            }
            Ok(ExitCode::SUCCESS)
        }
        Answer::Refused(problem) if !problem.findings.is_empty() && !global.json => {
            findings::print(title, text, &problem.findings);
            Ok(ExitCode::from(1))
        }
        Answer::Refused(problem) if !problem.differences.is_empty() && !global.json => {
            print_differences(&problem.differences);
            Err(Failure::no("not applied: the change weakens login security", problem.remedy))
        }
        Answer::Refused(problem) if problem.run.is_some() && !global.json => {
            problem.run.iter().for_each(|run| super::rehearse::print(run));
            Err(Failure::no(problem.title, problem.remedy))
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
