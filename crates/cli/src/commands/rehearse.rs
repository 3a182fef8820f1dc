//! `bivector rehearse`

use crate::arguments::{Global, Rehearse};
use crate::client::{Answer, Client, Events, encode};
use crate::commands::serve::interrupted;
use crate::failure::Failure;
use crate::output;
use bivector_api::runs::Progress;
use bivector_api::runs::{RehearsalView, RunChanges, RunRequest};
use bivector_explain::run::{LoginResult, Run, RunState};
use reqwest::Method;
use std::io::Write;
use std::process::ExitCode;
use std::time::Duration;

/// How often a run is looked at where its events do not come.
const LOOK: Duration = Duration::from_millis(500);

pub(crate) async fn run(rehearse: Rehearse, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    if let Some(chain) = &rehearse.starter {
        return starter(&client, chain).await;
    }
    if rehearse.list {
        return list(&client, global).await;
    }
    if rehearse.runs {
        return runs(&client, global).await;
    }
    let run: Run = match (&rehearse.name, rehearse.run) {
        (Some(name), _) => perform(&client, name, &rehearse, global).await?,
        (None, Some(id)) => client.get(&format!("/runs/{id}"), &[]).await?,
        (None, None) => return Err(Failure::usage("no rehearsal was named", "see `bivector rehearse --list`")),
    };
    finish(&client, &run, &rehearse, global).await
}

async fn starter(client: &Client, chain: &str) -> Result<ExitCode, Failure> {
    let text = client.text("/rehearsals/starter", &[("chain", chain.to_owned())]).await?;
    output::line(text.trim_end());
    output::hint("\nadd this to the site file, apply it, then run: bivector rehearse NAME");
    Ok(ExitCode::SUCCESS)
}

async fn list(client: &Client, global: &Global) -> Result<ExitCode, Failure> {
    let rehearsals: Vec<RehearsalView> = client.get("/rehearsals", &[]).await?;
    if global.json {
        output::json(&rehearsals);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["rehearsal", "logins", "last run", "result", "decided by", "line"]);
    for rehearsal in &rehearsals {
        let last = rehearsal.last.as_ref();
        table.add_row([
            rehearsal.name.clone(),
            rehearsal.logins.len().to_string(),
            last.map_or("never".to_owned(), |run| output::when(run.began_us)),
            last.map_or(String::new(), result),
            last.map_or(String::new(), Run::decided_by),
            rehearsal.line.to_string(),
        ]);
    }
    output::print_table(&table);
    if rehearsals.is_empty() {
        output::line("the site has no rehearsal; create one with `bivector rehearse --starter CHAIN`");
    }
    Ok(ExitCode::SUCCESS)
}

fn result(run: &Run) -> String {
    format!("{}: {} of {}", run.state.slug(), run.passed, run.total)
}

async fn runs(client: &Client, global: &Global) -> Result<ExitCode, Failure> {
    let runs: Vec<Run> = client.get("/runs", &[]).await?;
    if global.json {
        output::json(&runs);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["run", "rehearsal", "began", "result", "took", "decided by", "by", "without"]);
    for run in &runs {
        table.add_row([
            run.id.to_string(),
            run.rehearsal.clone(),
            output::when(run.began_us),
            result(run),
            output::took(run.took_us),
            run.decided_by(),
            run.operator.clone(),
            run.without.clone().unwrap_or_default(),
        ]);
    }
    output::print_table(&table);
    if runs.is_empty() {
        output::line("no runs yet; see `bivector rehearse --list`");
    }
    Ok(ExitCode::SUCCESS)
}

/// Begins a run and tells each login as it comes out; Ctrl-C ends the run too.
async fn perform(client: &Client, name: &str, rehearse: &Rehearse, global: &Global) -> Result<Run, Failure> {
    let mut events = Events::open(client).await?;
    let request = RunRequest { repeat: Some(rehearse.repeat), parallel: Some(rehearse.parallel) };
    let path = format!("/rehearsals/{}/runs", encode(name));
    let begun: Run = client.ask(Method::POST, &path, &[], Some(&request)).await?;
    let live = !global.json && output::is_terminal();
    let until = async {
        loop {
            let next = tokio::time::timeout(LOOK, events.next("run")).await;
            let progress: Option<Progress> = match next {
                Ok(Ok(Some(data))) => serde_json::from_str(&data).ok().filter(|progress: &Progress| progress.id == begun.id),
                Ok(Err(failure)) => return Err(failure),
                _ => None,
            };
            if let Some(progress) = progress.as_ref().filter(|_| live) {
                tell(progress);
            }
            if progress.as_ref().is_none_or(|progress| progress.state != RunState::Running) {
                let run: Run = client.get(&format!("/runs/{}", begun.id), &[]).await?;
                if run.state != RunState::Running {
                    return Ok(run);
                }
            }
        }
    };
    let run = tokio::select! {
        run = until => run,
        () = interrupted() => {
            let _: Answer<()> = client.call(Method::DELETE, &format!("/runs/{}", begun.id), &[], None::<&()>).await?;
            ended(client, begun.id).await
        }
    };
    if live {
        clear();
    }
    run
}

/// Waits until a run that was interrupted has come to its end.
async fn ended(client: &Client, id: u64) -> Result<Run, Failure> {
    loop {
        let run: Run = client.get(&format!("/runs/{id}"), &[]).await?;
        if run.state != RunState::Running {
            return Ok(run);
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// One line that is written over, on a terminal.
fn tell(progress: &Progress) {
    let done = progress.passed + progress.failed;
    let filled = (done as usize * 24).checked_div(progress.total.max(1) as usize).unwrap_or(0);
    let bar = format!("{}{}", "━".repeat(filled), "╌".repeat(24 - filled));
    let failed = if progress.failed > 0 { format!(", {} not as expected", progress.failed) } else { String::new() };
    let waits = progress.waits_for.as_ref().map(|what| format!("; waiting for {what}")).unwrap_or_default();
    let mut out = std::io::stdout();
    let _ = write!(out, "\r\u{1b}[2K{bar} {done} of {}{failed}{waits}", progress.total);
    let _ = out.flush();
}

fn clear() {
    let mut out = std::io::stdout();
    let _ = write!(out, "\r\u{1b}[2K");
    let _ = out.flush();
}

/// Prints a run, writes its files, and says by the exit status how it went.
async fn finish(client: &Client, run: &Run, rehearse: &Rehearse, global: &Global) -> Result<ExitCode, Failure> {
    let against = rehearse.against.map(|run| ("run", run.to_string()));
    let path = format!("/runs/{}/changes", run.id);
    let changes: RunChanges = client.get(&path, &against.into_iter().collect::<Vec<_>>()).await?;
    if global.json {
        output::json(run);
    } else {
        print(run);
        print_changes(&changes);
    }
    if let Some(file) = &rehearse.junit {
        output::write_file(file, run.junit().as_bytes())?;
    }
    if let Some(file) = &rehearse.report {
        let as_json = file.extension().is_some_and(|end| end.eq_ignore_ascii_case("json"));
        output::write_file(file, if as_json { serde_json::to_string_pretty(run).unwrap_or_default() } else { run.html() }.as_bytes())?;
    }
    Ok(if run.state == RunState::Passed { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

pub(crate) fn print(run: &Run) {
    let many = run.results.len() > 200;
    let mut table = output::table(&["", "login", "via", "came", "took", "traces"]);
    for result in run.results.iter().filter(|result| !many || !result.passed()) {
        table.add_row(row(result));
    }
    output::print_table(&table);
    let differing: Vec<&LoginResult> = run.results.iter().filter(|result| !result.passed()).collect();
    if !differing.is_empty() {
        output::line("");
    }
    for result in differing {
        let place = if result.line > 0 { format!("  [line {}]", result.line) } else { String::new() };
        output::line(format!("{} {}{}", output::paint("✕", "31"), output::paint(&result.title, "1"), output::paint(&place, "2")));
        match &result.error {
            Some(error) => output::line(format!("    {error}")),
            None => result.differences.iter().for_each(|difference| output::line(format!("    {difference}"))),
        }
        if let Some(reference) = result.references.last() {
            output::line(format!("    bivector trace show {reference}"));
        }
    }
    let state = match run.state {
        RunState::Interrupted => "; interrupted",
        _ => "",
    };
    let without = run.without.as_ref().map(|member| format!(", without {member}")).unwrap_or_default();
    output::line(format!(
        "\n{}: {} of {} logins as expected{state} in {} (run {}, {}{without})",
        run.rehearsal,
        run.passed,
        run.total,
        output::took(run.took_us),
        run.id,
        run.decided_by()
    ));
}

fn row(result: &LoginResult) -> [String; 6] {
    let mark = if result.passed() { output::paint("✓", "36") } else { output::paint("✕", "31") };
    let turn = if result.turn > 1 { format!(" ({})", result.turn) } else { String::new() };
    [
        mark,
        format!("{}{turn}", result.title),
        result.via.clone(),
        result.came(),
        result.seen.as_ref().map_or(String::new(), |seen| output::took(seen.took_us)),
        result.references.join(" "),
    ]
}

fn print_changes(compared: &RunChanges) {
    let Some(earlier) = &compared.earlier else { return };
    if compared.changes.is_empty() {
        return output::line(format!("nothing changed since run {}", earlier.id));
    }
    output::line(format!("\nsince run {} ({}, {}):", earlier.id, earlier.decided_by(), output::when(earlier.began_us)));
    for change in &compared.changes {
        let mark = match (change.passed_then, change.passes_now) {
            (true, false) => output::paint("✕", "31"),
            (false, true) => output::paint("✓", "36"),
            _ => "·".to_owned(),
        };
        output::line(format!("  {mark} {}: {} → {}", change.title, change.was, change.is));
    }
}
