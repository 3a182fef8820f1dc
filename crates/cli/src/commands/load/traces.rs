//! How long a page of the trace list takes, out of a million.

use crate::arguments::Global;
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::explain::ReplayRequest;
use bivector_api::traces::TraceRow;
use bivector_core::replay::Replayed;
use bivector_service::Sync;
use bivector_service::TOKEN_FILE;
use bivector_service::{Options, start};
use reqwest::Method;
use serde::Serialize;
use std::net::SocketAddr;
use std::process::ExitCode;
use std::time::{Duration, Instant};

/// Each page is asked for so often; the middle one counts.
const TIMES: usize = 9;

/// Logins that are decided again.
const REPLAYED: u32 = 100_000;

/// What they are decided by.
fn site() -> String {
    "format = 1\nname = \"Load\"\n[doors.radius]\nlisten = [\"127.0.0.1:0\"]\n\
     [[gateways]]\nname = \"breakwater\"\nfrom = [\"192.0.2.10\"]\nsecret = \"gateway/load\"\n\
     [[directories]]\nname = \"tidehall\"\nservers = [\"ldap://127.0.0.1:1\"]\nbase = \"ou=people,dc=northmoor,dc=example\"\n\
     [[identity]]\nname = \"names\"\nstrip_prefix = [\"NORTHMOOR\\\\\"]\n\
     [[chains]]\nname = \"staff\"\ngateways = [\"breakwater\"]\nidentity = \"names\"\nforms = [\"password code(6)\"]\nfirst = [\"tidehall\"]\n\
     second = [\"totp\"]\n[[rules]]\nname = \"crew\"\nchain = \"staff\"\nwhen = { group = \"turbine-crew\" }\ngrant = \"turbine-crew\"\n\
     [[grants]]\nname = \"turbine-crew\"\nreply = [{ attribute = \"Class\", text = \"crew\" }]\n"
        .to_owned()
}

#[derive(Debug, Serialize)]
struct Page {
    filter: String,
    rows: usize,
    p50_us: u64,
    most_us: u64,
}

/// Starts that are measured; the middle one counts.
const STARTS: usize = 7;

/// People of the roster, each with a device and in a group.
fn people(count: u64) -> String {
    let line = |number: u64| {
        let seed = data_encoding::BASE32_NOPAD.encode(&[number.to_be_bytes().as_slice(), b"tidal-seed-xx"].concat()[..20]);
        format!("person{number},roster,Person {number},turbine-crew,{seed},phone,person{number}@northmoor.example\n")
    };
    "login,source,name,groups,totp_seed,totp_label,mail\n".to_owned() + &(0..count).map(line).collect::<String>()
}

/// How long each start takes until the service is ready, in microseconds, sorted.
async fn starts(options: &Options) -> Result<Vec<u64>, Failure> {
    let mut times = Vec::new();
    for _ in 0..STARTS {
        let began = Instant::now();
        let running = start(options.clone()).await?;
        times.push(began.elapsed().as_micros() as u64);
        running.stop(Duration::from_secs(5)).await;
    }
    times.sort_unstable();
    Ok(times)
}

pub(crate) async fn run(count: u64, many: Option<u64>, global: &Global) -> Result<ExitCode, Failure> {
    let failed = |error: String| Failure::no(error, "check this machine's resource limits");
    let folder = tempfile::tempdir().map_err(|error| failed(error.to_string()))?;
    let any = SocketAddr::new(super::LOCAL, 0);
    let options = Options { sync: Sync::Off, ..Options::new(folder.path().to_owned(), any) };
    let running = start(options.clone()).await?;
    let client = Client::to(format!("http://{}", running.http), output::read_hidden(Some(&folder.path().join(TOKEN_FILE)), "")?);
    let sealed = serde_json::json!({ "name": "gateway/load", "value": super::SECRET });
    client.ask::<_, ()>(Method::PUT, "/secrets", &[], Some(&sealed)).await?;
    let began = Instant::now();
    running.make_up_traces(count).await?;
    let written = began.elapsed();
    let some: Vec<TraceRow> = client.get("/traces", &[("limit", "1".to_owned())]).await?;
    let newest = some.first().ok_or_else(|| failed("no trace was written".to_owned()))?;
    let old: Vec<TraceRow> = client.get("/traces", &[("limit", "1".to_owned()), ("before", (count / 50 + 2).to_string())]).await?;
    let old = old.first().ok_or_else(|| failed("no old trace was written".to_owned()))?;
    let pages = pages(&client, filters(count, newest, old)).await?;
    let began = Instant::now();
    let request = ReplayRequest { text: site(), last: Some(REPLAYED.min(count as u32)), chain: None };
    let replayed: Replayed = client.ask(Method::POST, "/site/replay", &[], Some(&request)).await?;
    let replay_us = began.elapsed().as_micros() as u64;
    let mut imported = None;
    if let Some(many) = many {
        let began = Instant::now();
        let body = serde_json::json!({ "csv": people(many) });
        client.ask::<_, serde_json::Value>(Method::POST, "/people/import", &[], Some(&body)).await?;
        imported = Some((many, began.elapsed().as_micros() as u64));
    }
    running.stop(Duration::from_secs(5)).await;
    let ready = if many.is_some() { starts(&options).await? } else { Vec::new() };
    if global.json {
        output::json(&pages);
        return Ok(ExitCode::SUCCESS);
    }
    output::line(format!("{count} traces, written in {}", output::took(written.as_micros() as u64)));
    print_pages(&pages);
    if let (Some((many, import_us)), Some(usual), Some(longest)) = (imported, ready.get(STARTS / 2), ready.last()) {
        let (usual, longest) = (output::took(*usual), output::took(*longest));
        output::line(format!(
            "{many} people imported in {}; with them and the traces a start is ready after {usual}, at most {longest}",
            output::took(import_us)
        ));
    }
    output::line(format!("{} of them decided again under another site file in {}", replayed.decided, output::took(replay_us)));
    Ok(ExitCode::SUCCESS)
}

/// A question to the list of traces.
type Filter = Vec<(&'static str, String)>;

/// What is asked of the list.
fn filters(count: u64, newest: &TraceRow, old: &TraceRow) -> Vec<Filter> {
    let one = |key: &'static str, value: &str| vec![(key, value.to_owned())];
    vec![
        vec![],
        vec![("before", (count / 2).to_string())],
        one("person", "person123"),
        one("q", "person12"),
        one("q", &old.reference),
        one("gateway", "lantern"),
        one("cause", "code-wrong"),
        one("outcome", "refused"),
        one("origin", "rehearsal"),
        vec![("person", "person123".to_owned()), ("cause", "code-wrong".to_owned())],
        vec![("revision", (1 + count / 200_000).to_string())],
        vec![("until_us", (newest.began_us - count * 500).to_string())],
        one("person", "nobody-of-that-name"),
        vec![("gateway", "lantern".to_owned()), ("cause", "factor-locked".to_owned())],
    ]
}

/// Asks for a page with each filter, so many times.
async fn pages(client: &Client, filters: Vec<Filter>) -> Result<Vec<Page>, Failure> {
    let mut pages = Vec::new();
    for filter in filters {
        let mut times = Vec::new();
        let mut rows = 0;
        for _ in 0..TIMES {
            let began = Instant::now();
            let page: Vec<TraceRow> = client.get("/traces", &filter).await?;
            times.push(began.elapsed().as_micros() as u64);
            rows = page.len();
        }
        times.sort_unstable();
        let said: Vec<String> = filter.iter().map(|(key, value)| format!("{key}={value}")).collect();
        let filter = if said.is_empty() { "none".to_owned() } else { said.join(" ") };
        pages.push(Page { filter, rows, p50_us: times[TIMES / 2], most_us: times[TIMES - 1] });
    }
    Ok(pages)
}

fn print_pages(pages: &[Page]) {
    let mut table = output::table(&["filter", "rows", "p50", "longest"]);
    for page in pages {
        table.add_row([page.filter.clone(), page.rows.to_string(), output::took(page.p50_us), output::took(page.most_us)]);
    }
    output::print_table(&table);
    output::line(format!("\nat the API on loopback, each {TIMES} times"));
}
