//! `bivector trace …`

use crate::arguments::{Global, Trace, TraceFilter};
use crate::client::{Client, Events};
use crate::failure::Failure;
use crate::{output, waterfall};
use bivector_service::api::TraceView;
use bivector_service::records::TraceRow;
use std::process::ExitCode;
use std::time::Duration;
use tokio::time::Instant;

pub(crate) async fn run(command: Trace, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        Trace::List { filter, limit } => list(&client, &filter, limit, global).await,
        Trace::Show { reference } => show(&client, &reference, global).await,
        Trace::Follow { filter, duration, count } => follow(&client, &filter, duration.as_deref(), count, global).await,
    }
}

fn query(filter: &TraceFilter) -> Vec<(&'static str, String)> {
    let pairs = [
        ("person", &filter.person),
        ("gateway", &filter.gateway),
        ("chain", &filter.chain),
        ("outcome", &filter.outcome),
        ("cause", &filter.cause),
    ];
    pairs.into_iter().filter_map(|(key, value)| value.clone().map(|value| (key, value))).collect()
}

async fn list(client: &Client, filter: &TraceFilter, limit: u32, global: &Global) -> Result<ExitCode, Failure> {
    let mut query = query(filter);
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
        output::line("no trace fits; try fewer filters");
    }
    Ok(ExitCode::SUCCESS)
}

fn cells(row: &TraceRow) -> [String; 8] {
    [
        row.reference.clone(),
        output::when(row.began_us),
        if row.login.is_empty() { "?".to_owned() } else { row.login.clone() },
        row.gateway.clone(),
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
    let limit = duration
        .map(|text| read_duration(text).ok_or_else(|| Failure::usage(format!("`{text}` is no time"), "write for example 30s, 10m or 1h")))
        .transpose()?;
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
    same(&filter.person, &row.login)
        && same(&filter.gateway, &row.gateway)
        && same(&filter.chain, &row.chain)
        && same(&filter.outcome, row.outcome.slug())
        && same(&filter.cause, row.cause.map_or("", |cause| cause.slug()))
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

fn read_duration(text: &str) -> Option<Duration> {
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit())?);
    let seconds = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        _ => return None,
    };
    number.parse::<u64>().ok()?.checked_mul(seconds).map(Duration::from_secs)
}
