//! `bivector trace …`

use crate::arguments::{Global, Trace, TraceFilter};
use crate::client::{Client, Events};
use crate::failure::Failure;
use crate::{output, waterfall};
use bivector_api::approvals::Waiting;
use bivector_api::traces::TraceView;
use bivector_api::traces::{Failures, TraceRow};
use bivector_site::read_duration;
use futures_util::StreamExt;
use jiff::Timestamp;
use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;
use tokio::time::Instant;

/// Spans of a chart: as many as fit beside the names.
const SPANS: u64 = 60;

pub(crate) async fn run(command: Trace, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        Trace::List { filter, limit } => list(&client, &filter, limit, global).await,
        Trace::Show { reference } => show(&client, &reference, global).await,
        Trace::Waiting => waiting(&client, global).await,
        Trace::Follow { filter, duration, count } => follow(&client, &filter, duration.as_deref(), count, global).await,
        Trace::Export { filter, output } => download(&client, "/traces/export", &query(&filter)?, output.as_deref()).await,
        Trace::Chart { last, gateway } => chart(&client, &last, gateway, global).await,
    }
}

fn query(filter: &TraceFilter) -> Result<Vec<(&'static str, String)>, Failure> {
    let number = filter.revision.map(|revision| revision.to_string());
    let at = |when: &Option<String>| when.as_deref().map(moment).transpose();
    let pairs = [
        ("person", filter.person.clone()),
        ("gateway", filter.gateway.clone()),
        ("chain", filter.chain.clone()),
        ("outcome", filter.outcome.clone()),
        ("cause", filter.cause.clone()),
        ("revision", number),
        ("origin", filter.origin.clone()),
        ("since_us", at(&filter.since)?),
        ("until_us", at(&filter.until)?),
    ];
    Ok(pairs.into_iter().filter_map(|(key, value)| value.map(|value| (key, value))).collect())
}

/// A time such as `2h` ago, or a date, in microseconds since 1970.
pub(super) fn moment(text: &str) -> Result<String, Failure> {
    let now = Timestamp::now();
    if let Some(ago) = read_duration(text) {
        return Ok(now.as_microsecond().saturating_sub(ago.as_micros() as i64).to_string());
    }
    let zoned = || text.parse::<jiff::civil::DateTime>().ok()?.to_zoned(jiff::tz::TimeZone::system()).ok().map(|at| at.timestamp());
    let at = text.parse::<Timestamp>().ok().or_else(zoned);
    at.map(|at| at.as_microsecond().to_string())
        .ok_or_else(|| Failure::usage(format!("`{text}` is not a time"), "write for example 2h, 7d, 2026-11-23 or 2026-11-23T08:00Z"))
}

async fn list(client: &Client, filter: &TraceFilter, limit: u32, global: &Global) -> Result<ExitCode, Failure> {
    let mut query = query(filter)?;
    query.push(("limit", limit.to_string()));
    let rows: Vec<TraceRow> = client.get("/traces", &query).await?;
    if global.json {
        output::json(&rows);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["reference", "when", "person", "via", "outcome", "cause", "grant", "took"]);
    for row in &rows {
        table.add_row(cells(row));
    }
    output::print_table(&table);
    if rows.is_empty() {
        output::line("no matching traces; try fewer filters");
    }
    Ok(ExitCode::SUCCESS)
}

async fn waiting(client: &Client, global: &Global) -> Result<ExitCode, Failure> {
    let all: Vec<Waiting> = client.get("/waiting", &[]).await?;
    if global.json {
        output::json(&all);
        return Ok(ExitCode::SUCCESS);
    }
    let now = Timestamp::now().as_microsecond() as u64;
    let mut table = output::table(&["reference", "person", "via", "chain", "from", "asked", "left", "handset"]);
    for one in &all {
        table.add_row([
            one.references.join(", "),
            one.person.clone(),
            one.gateway.clone(),
            one.chain.clone(),
            one.from.clone(),
            output::when(one.asked_us),
            output::took(one.until_us.saturating_sub(now)),
            if one.heard { "listens" } else { "does not listen" }.to_owned(),
        ]);
    }
    output::print_table(&table);
    if all.is_empty() {
        output::line("no login waits for anybody's approval");
    }
    Ok(ExitCode::SUCCESS)
}

fn cells(row: &TraceRow) -> [String; 8] {
    let rehearsed = if row.origin == bivector_model::trace::Origin::Rehearsal { " (rehearsal)" } else { "" };
    [
        row.reference.clone(),
        output::when(row.began_us),
        if row.login.is_empty() { "?".to_owned() } else { row.login.clone() },
        format!("{}{rehearsed}", row.gateway),
        output::outcome(row.outcome),
        row.cause.map(|cause| cause.slug().to_owned()).unwrap_or_default(),
        row.grant.clone().unwrap_or_default(),
        output::took(row.took_us),
    ]
}

async fn show(client: &Client, reference: &str, global: &Global) -> Result<ExitCode, Failure> {
    let clean: String = reference.chars().filter(char::is_ascii_alphanumeric).collect();
    let view: TraceView = client.get(&format!("/traces/{clean}"), &[]).await?;
    if global.json {
        output::json(&view)
    } else {
        waterfall::print(&view)
    }
    Ok(ExitCode::SUCCESS)
}

async fn follow(
    client: &Client,
    filter: &TraceFilter,
    duration: Option<&str>,
    count: Option<u64>,
    global: &Global,
) -> Result<ExitCode, Failure> {
    let limit = duration.map(span).transpose()?;
    let until = limit.map(|limit| Instant::now() + limit);
    let mut events = Events::open(client).await?;
    let mut seen = 0;
    while count.is_none_or(|count| seen < count) {
        let next = events.next("trace");
        let data = match until {
            Some(until) => match tokio::time::timeout_at(until, next).await {
                Ok(data) => data?,
                Err(_) => break,
            },
            None => next.await?,
        };
        if let Some(row) = data.and_then(|data| serde_json::from_str(&data).ok()).filter(|row| fits(filter, row)) {
            print_followed(client, &row, filter, global).await?;
            seen += 1;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn fits(filter: &TraceFilter, row: &TraceRow) -> bool {
    let same = |wanted: &Option<String>, seen: &str| wanted.as_ref().is_none_or(|wanted| wanted.eq_ignore_ascii_case(seen));
    let origin = serde_json::to_value(row.origin).ok().and_then(|origin| origin.as_str().map(str::to_owned)).unwrap_or_default();
    same(&filter.person, &row.login)
        && same(&filter.gateway, &row.gateway)
        && same(&filter.chain, &row.chain)
        && same(&filter.outcome, row.outcome.slug())
        && same(&filter.cause, row.cause.map_or("", |cause| cause.slug()))
        && same(&filter.origin, &origin)
        && filter.revision.is_none_or(|revision| revision == row.revision)
}

/// Of one person the whole story, of everybody one line each.
async fn print_followed(client: &Client, row: &TraceRow, filter: &TraceFilter, global: &Global) -> Result<(), Failure> {
    if global.json {
        output::line(serde_json::to_string(row).unwrap_or_default());
    } else if filter.person.is_some() {
        waterfall::print(&client.get(&format!("/traces/{}", row.reference), &[]).await?);
        output::line("");
    } else {
        output::line(cells(row).join("  "));
    }
    Ok(())
}

pub(super) fn span(text: &str) -> Result<Duration, Failure> {
    read_duration(text).ok_or_else(|| Failure::usage(format!("`{text}` is not a time"), "write for example 30s, 10m, 1h or 7d"))
}

/// Writes what the service sends as it comes, so that a million rows need no memory here.
pub(super) async fn download(client: &Client, path: &str, query: &[(&str, String)], file: Option<&Path>) -> Result<ExitCode, Failure> {
    let mut stream = client.stream(path, query).await?;
    let failed =
        |error: std::io::Error| Failure::no(format!("the export could not be written: {error}"), "choose another file with `--output`");
    let mut out: Box<dyn Write> = match file {
        Some(path) => Box::new(std::io::BufWriter::new(std::fs::File::create(path).map_err(failed)?)),
        None => Box::new(std::io::stdout()),
    };
    while let Some(chunk) = stream.next().await {
        let chunk = chunk.map_err(|error| Failure::unreachable(format!("the service ended the export: {error}"), "try again"))?;
        match out.write_all(&chunk) {
            // A reader that has seen enough, such as `head`, ends it.
            Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => return Ok(ExitCode::SUCCESS),
            written => written.map_err(failed)?,
        }
    }
    out.flush().map_err(failed)?;
    Ok(ExitCode::SUCCESS)
}

async fn chart(client: &Client, last: &str, gateway: Option<String>, global: &Global) -> Result<ExitCode, Failure> {
    let last = span(last)?.as_secs().max(SPANS);
    let mut query = vec![("last_s", last.to_string()), ("span_s", (last / SPANS).max(1).to_string())];
    query.extend(gateway.map(|gateway| ("gateway", gateway)));
    let failures: Failures = client.get("/traces/failures", &query).await?;
    if global.json {
        output::json(&failures);
        return Ok(ExitCode::SUCCESS);
    }
    print_chart(&failures, last);
    Ok(ExitCode::SUCCESS)
}

/// One row for each cause at each gateway, as heights over time; then all logins.
fn print_chart(failures: &Failures, last: u64) {
    let spans = (last * 1_000_000).div_ceil(failures.span_us.max(1)) as usize;
    let mut rows: BTreeMap<(String, String), Vec<u64>> = BTreeMap::new();
    for failed in &failures.failed {
        let row = rows.entry((failed.cause.clone(), failed.gateway.clone())).or_insert_with(|| vec![0; spans]);
        if let Some(place) = row.get_mut(failed.at as usize) {
            *place += failed.count;
        }
    }
    let mut rows: Vec<_> = rows.into_iter().collect();
    rows.sort_by_key(|(_, row)| std::cmp::Reverse(row.iter().sum::<u64>()));
    let highest = rows.iter().flat_map(|(_, row)| row).copied().max().unwrap_or(1).max(1);
    output::line(format!(
        "{}  to  {}\n",
        output::when(failures.since_us),
        output::when(failures.since_us + failures.span_us * spans as u64)
    ));
    for ((cause, gateway), row) in &rows {
        let bars: String = row.iter().map(|count| height(*count, highest)).collect();
        output::line(format!("{cause:<22} {gateway:<12} ▏{}▕ {}", output::paint(&bars, "33"), row.iter().sum::<u64>()));
    }
    let all: Vec<u64> = (0..spans as u64).map(|at| failures.logins.get(&at).copied().unwrap_or(0)).collect();
    let most = all.iter().copied().max().unwrap_or(1).max(1);
    let bars: String = all.iter().map(|count| height(*count, most)).collect();
    output::line(format!("{:<22} {:<12} ▏{}▕ {}", "all logins", "", output::paint(&bars, "36"), all.iter().sum::<u64>()));
    let noun = |count: u64, one: &str| if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") };
    let (failed, logins) = (noun(highest, "failure"), noun(most, "login"));
    output::line(format!("\nfull bar: {failed} (or {logins}) per {}", output::span(failures.span_us)));
}

pub(super) fn height(count: u64, highest: u64) -> char {
    const HEIGHTS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    HEIGHTS[if count == 0 { 0 } else { (count * 8).div_ceil(highest).clamp(1, 8) as usize }]
}
