//! `bivector session …`

use super::trace::{download, height, moment, span};
use crate::arguments::{Global, Session, SessionFilter};
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::sessions::{EndRequest, PoolView, ReviewRequest, SessionAnswer, SessionChart, SessionPage, SessionReview, SessionRow};
use reqwest::Method;
use std::process::ExitCode;

/// Figures of a chart: as many as fit beside the words.
const SPANS: u64 = 60;
/// Sessions of one person that are ended with one command.
const OF_ONE: u32 = 1_000;

pub(crate) async fn run(command: Session, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        Session::List { filter, limit } => list(&client, &filter, limit, global).await,
        Session::Show { number } => show(&client, number, global).await,
        Session::End { numbers, person, reason } => end(&client, numbers, person, reason, global).await,
        Session::Review { end } => review(&client, end, global).await,
        Session::Pools => pools(&client, global).await,
        Session::Change { number } => {
            let answer: SessionAnswer = client.ask(Method::POST, &format!("/sessions/{number}/change"), &[], None::<&()>).await?;
            Ok(told(&[answer], global))
        }
        Session::Export { filter, output } => download(&client, "/sessions/export", &query(&filter)?, output.as_deref()).await,
        Session::Chart { last, gateway } => chart(&client, &last, gateway, global).await,
    }
}

fn query(filter: &SessionFilter) -> Result<Vec<(&'static str, String)>, Failure> {
    let at = |when: &Option<String>| when.as_deref().map(moment).transpose();
    let pairs = [
        ("state", filter.state.clone()),
        ("gateway", filter.gateway.clone()),
        ("person", filter.person.clone()),
        ("address", filter.address.clone()),
        ("reference", filter.reference.clone()),
        ("since_us", at(&filter.since)?),
        ("until_us", at(&filter.until)?),
    ];
    Ok(pairs.into_iter().filter_map(|(key, value)| value.map(|value| (key, value))).collect())
}

async fn list(client: &Client, filter: &SessionFilter, limit: u32, global: &Global) -> Result<ExitCode, Failure> {
    let mut query = query(filter)?;
    query.push(("limit", limit.to_string()));
    let page: SessionPage = client.get("/sessions", &query).await?;
    if global.json {
        output::json(&page);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["session", "began", "person", "via", "address", "lasted", "in", "out", "state"]);
    for row in &page.sessions {
        table.add_row([
            row.id.to_string(),
            output::when(row.began_us),
            whose(row),
            row.gateway.clone(),
            row.addresses.join(" "),
            lasted(row),
            output::bytes(row.traffic.bytes_in),
            output::bytes(row.traffic.bytes_out),
            state(row),
        ]);
    }
    output::print_table(&table);
    match (page.sessions.is_empty(), page.next) {
        (true, _) => output::line("no matching sessions; gateways have to send accounting reports (see `bivector gateway handover`)"),
        (false, Some(_)) => output::hint("there are more; raise `--limit` or use filters"),
        (false, None) => {}
    }
    Ok(ExitCode::SUCCESS)
}

async fn show(client: &Client, number: u64, global: &Global) -> Result<ExitCode, Failure> {
    let row: SessionRow = client.get(&format!("/sessions/{number}"), &[]).await?;
    if global.json {
        output::json(&row);
        return Ok(ExitCode::SUCCESS);
    }
    output::line(format!("session {}  {}  {} via {}", row.id, state(&row), whose(&row), row.gateway));
    let traffic = row.traffic;
    let packets = |bytes: u64, packets: u64| match packets {
        0 => output::bytes(bytes),
        packets => format!("{} in {packets} packets", output::bytes(bytes)),
    };
    let ended = row.ended_us.map(|at| format!("{}: {}", output::when(at), row.why.as_deref().unwrap_or_default()));
    let login = row.reference.as_ref().map(|reference| format!("{reference} (bivector trace show {reference})"));
    let lines = [
        ("began", Some(output::when(row.began_us))),
        ("last heard of", Some(output::when(row.heard_us))),
        ("lasted", Some(lasted(&row))),
        ("ended", ended),
        ("from the user", Some(packets(traffic.bytes_in, traffic.packets_in))),
        ("to the user", Some(packets(traffic.bytes_out, traffic.packets_out))),
        ("address", Some(row.addresses.join(", "))),
        ("caller", Some(row.caller.clone())),
        ("called", Some(row.called.clone())),
        ("port", Some(row.port.clone())),
        ("name at the gateway", Some(row.name.clone())),
        ("gateway calls it", Some(row.session.clone())),
        ("login", login),
        ("chain", row.chain.clone()),
        ("grant", row.grant.clone()),
        ("second factor", row.factor.clone()),
        ("asked to end", row.asked.clone().filter(|_| row.ended_us.is_none())),
        ("odd", row.odd.clone()),
    ];
    for (label, value) in lines {
        if let Some(value) = value.filter(|value| !value.is_empty()) {
            output::line(format!("  {label:<20} {value}"));
        }
    }
    Ok(ExitCode::SUCCESS)
}

async fn end(client: &Client, numbers: Vec<u64>, person: Option<String>, reason: String, global: &Global) -> Result<ExitCode, Failure> {
    let numbers = match person {
        None => numbers,
        Some(person) => {
            let query = [("person", person.clone()), ("state", "open".to_owned()), ("limit", OF_ONE.to_string())];
            let page: SessionPage = client.get("/sessions", &query).await?;
            if page.sessions.is_empty() {
                return Err(Failure::no(format!("{person} has no open session"), "see `bivector session list --state open`"));
            }
            page.sessions.into_iter().map(|row| row.id).collect()
        }
    };
    let mut answers = Vec::new();
    for number in numbers {
        let request = EndRequest { reason: reason.clone() };
        let answer: SessionAnswer = client.ask(Method::POST, &format!("/sessions/{number}/end"), &[], Some(&request)).await?;
        answers.push(answer);
    }
    Ok(told(&answers, global))
}

/// Prints what gateways answered; success if all did what they were asked for.
fn told(answers: &[SessionAnswer], global: &Global) -> ExitCode {
    if global.json {
        output::json(&answers);
    } else {
        for answer in answers {
            let mark = if answer.done { output::paint("✓", "36") } else { output::paint("✕", "31") };
            let tries = if answer.tries == 1 { "1 try".to_owned() } else { format!("{} tries", answer.tries) };
            output::line(format!("{mark} session {}: {} ({tries}, {})", answer.session, answer.said, output::took(answer.took_us)));
        }
    }
    if answers.iter().all(|answer| answer.done) { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}

/// Sessions that the rules no longer admit, and what became of them.
pub(super) async fn review(client: &Client, end: bool, global: &Global) -> Result<ExitCode, Failure> {
    let review: SessionReview = client.ask(Method::POST, "/sessions/review", &[], Some(&ReviewRequest { end })).await?;
    if global.json {
        output::json(&review);
    } else {
        for one in &review.not_admitted {
            let became = match &one.answer {
                None => "goes on".to_owned(),
                Some(answer) => answer.said.clone(),
            };
            output::line(format!(
                "{} session {} of {} via {}: {}; {became}",
                output::paint("✕", "31"),
                one.session,
                one.person,
                one.gateway,
                one.why
            ));
        }
        for one in &review.unknown {
            output::line(format!(
                "{} session {} of {} via {}: not known: {}",
                output::paint("·", "2"),
                one.session,
                one.person,
                one.gateway,
                one.why
            ));
        }
        let (looked_at, count) = (review.looked_at, review.not_admitted.len());
        output::line(format!(
            "{looked_at} open sessions looked at; the rules no longer admit {count}, and {} are not known",
            review.unknown.len()
        ));
        if count > 0 && !end {
            output::hint("end them with `bivector session review --end`");
        }
    }
    let all = review.not_admitted.iter().all(|one| one.answer.as_ref().is_some_and(|answer| answer.done));
    Ok(if all { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

async fn pools(client: &Client, global: &Global) -> Result<ExitCode, Failure> {
    let pools: Vec<PoolView> = client.get("/sessions/pools", &[]).await?;
    if global.json {
        output::json(&pools);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["pool", "ranges", "taken", "of", ""]);
    for pool in &pools {
        let share = pool.taken * 100 / pool.size.max(1);
        let warns = if share >= 90 { output::paint(&format!("! {share} %"), "33") } else { format!("{share} %") };
        table.add_row([pool.name.clone(), pool.ranges.join(" "), pool.taken.to_string(), pool.size.to_string(), warns]);
    }
    output::print_table(&table);
    if pools.is_empty() {
        output::line("the active site has no pools");
    }
    Ok(ExitCode::SUCCESS)
}

async fn chart(client: &Client, last: &str, gateway: Option<String>, global: &Global) -> Result<ExitCode, Failure> {
    let last = span(last)?.as_secs().max(SPANS);
    let each = (last / SPANS).max(1);
    let mut query = vec![("last_s", (each * SPANS).to_string()), ("span_s", each.to_string())];
    query.extend(gateway.map(|gateway| ("gateway", gateway)));
    let chart: SessionChart = client.get("/sessions/chart", &query).await?;
    if global.json {
        output::json(&chart);
        return Ok(ExitCode::SUCCESS);
    }
    let until = chart.since_us + chart.span_us * (chart.open.len() as u64).saturating_sub(1);
    output::line(format!("{}  to  {}\n", output::when(chart.since_us), output::when(until)));
    for (label, figures, colour) in [("open", &chart.open, "36"), ("began", &chart.began, "34"), ("ended", &chart.ended, "33")] {
        let highest = figures.iter().copied().max().unwrap_or_default();
        let bars: String = figures.iter().map(|figure| height(*figure, highest.max(1))).collect();
        let said = match label {
            "open" => format!("{} now, {highest} at most", figures.last().copied().unwrap_or_default()),
            _ => format!("{} in all", figures.iter().sum::<u64>()),
        };
        output::line(format!("{label:<8} ▏{}▕ {said}", output::paint(&bars, colour)));
    }
    output::line(format!("\none column: {}", output::span(chart.span_us)));
    Ok(ExitCode::SUCCESS)
}

fn whose(row: &SessionRow) -> String {
    match &row.person {
        Some(person) => person.clone(),
        None if row.name.is_empty() => "?".to_owned(),
        None => row.name.clone(),
    }
}

fn state(row: &SessionRow) -> String {
    match (row.ended_us, &row.asked, &row.why) {
        (None, None, _) => output::paint("● open", "36"),
        (None, Some(_), _) => output::paint("◐ was asked to end", "34"),
        (Some(_), _, why) => format!("○ {}", why.as_deref().unwrap_or("ended")),
    }
}

/// Until its end, or until it was last heard of.
fn lasted(row: &SessionRow) -> String {
    let now = jiff::Timestamp::now().as_microsecond() as u64;
    output::clock(row.ended_us.unwrap_or(now).saturating_sub(row.began_us))
}
