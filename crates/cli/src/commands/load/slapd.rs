//! `bivector lab load --slapd`: the whole chain against a real OpenLDAP server, beside what that server does by itself.

use super::{BASE, CONNECTIONS, LOCAL, SECRET, STEPS, World, directory_person, median, ratio, service_account};
use crate::arguments::Global;
use crate::failure::Failure;
use crate::output;
use bivector_exchange::AskError;
use bivector_lab::directory::DirectoryPerson;
use bivector_lab::load::{Measured, Processors, logins};
use bivector_lab::slapd::RealDirectory;
use bivector_wire::SharedSecret;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

/// In flight while latency at half load is looked at: enough to keep the pace.
const PACED: usize = 16;
/// Of half load, what asks the directory itself at the same time.
const DIRECT: f64 = 0.25;
/// Waited for a login at most when a server has died, before the measurement counts as failed.
const SLOWEST: Duration = Duration::from_secs(6);

/// Logins a second that are prepared for; more are not reached with a directory behind them.
const PREPARED: u64 = 10_000;
/// The same at half load.
const PREPARED_CALM: u64 = 2_500;

/// What was measured.
#[derive(Debug, Serialize)]
struct Report {
    connections: usize,
    raw_binds_per_s: f64,
    raw_searches_and_binds_per_s: f64,
    logins_per_s: f64,
    to_raw_binds: f64,
    to_raw_searches_and_binds: f64,
    half_load_per_s: f64,
    raw_p50_us: u64,
    raw_p99_us: u64,
    login_p50_us: u64,
    login_p99_us: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    stolen: Option<f64>,
    fail_over: FailOver,
}

/// What logins noticed when the first of two servers was ended under load.
#[derive(Debug, Serialize)]
struct FailOver {
    accepted: u64,
    not_accepted: u64,
    in_flight: usize,
    slowest_ms: u64,
}

pub(crate) async fn run(seconds: u64, rounds: u64, no_sync: bool, hashed: bool, global: &Global) -> Result<ExitCode, Failure> {
    let failed = |error: std::io::Error| Failure::no(format!("OpenLDAP cannot be measured: {error}"), "install it with `make setup`");
    let asked = |error: AskError| Failure::no(error.to_string(), "check this machine's resource limits");
    let limit = Duration::from_secs(seconds);
    let folder = tempfile::tempdir().map_err(failed)?;
    let calm = 2 * seconds * rounds;
    let count = (PREPARED * seconds * (rounds + 1) + PREPARED_CALM * calm).div_ceil(2 * STEPS as u64 + 1) as usize;
    let people = people(count);
    let start = |name: &str| start_one(&folder.path().join(name), &people, hashed).map_err(failed);
    let (first, second) = (start("first")?, start("second")?);
    let world = World::start(count, &[first.address(), second.address()], no_sync).await?;
    let mut waiting = super::logins_of(count, |_| SHARED_PASSWORD.to_owned(), "");
    let mut next = |count: u64| super::take_first(&mut waiting, count as usize);
    let secret = SharedSecret::new(SECRET.as_bytes());
    let send = async |batch, parallel, limit, rate| logins(LOCAL, world.radius, &secret, batch, parallel, limit, rate).await;
    let service = service_account();
    let (mut raw, mut both, mut whole) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..rounds {
        raw.push(first.binds(&people, CONNECTIONS, limit).await.map_err(failed)?);
        both.push(first.searches_and_binds(&people, CONNECTIONS, limit, &service, f64::MAX).await.map_err(failed)?);
        whole.push(send(next(PREPARED * seconds), CONNECTIONS, limit, None).await.map_err(asked)?);
    }
    let (to_raw_binds, to_raw_searches_and_binds) = (ratio(&whole, &raw), ratio(&whole, &both));
    let (raw, both, rate) = (median(&raw).0, median(&both).0, median(&whole).0);
    let half = rate / 2.0;
    // Both at the same time: what a machine gives changes from one second to the next, and the directory answers whoever asks alike.
    let longer = Duration::from_secs(calm);
    let before = Processors::now();
    let (alone, paced) = tokio::join!(
        first.searches_and_binds(&people, PACED, longer, &service, half * DIRECT),
        send(next(PREPARED_CALM * calm), PACED, longer, Some(half * (1.0 - DIRECT))),
    );
    let stolen = before.and_then(|before| Some(Processors::now()?.stolen_since(before)));
    let (alone, paced) = (alone.map_err(failed)?, paced.map_err(asked)?);
    let last = send(next(PREPARED * seconds), CONNECTIONS, limit, Some(half));
    let fail_over = dies_midway(first, limit, last).await.map_err(asked)?;
    world.running.stop(Duration::from_secs(5)).await;
    let ((raw_p50_us, raw_p99_us), (login_p50_us, login_p99_us)) = (quantiles(&alone), quantiles(&paced));
    let report = Report {
        connections: CONNECTIONS,
        raw_binds_per_s: raw,
        raw_searches_and_binds_per_s: both,
        logins_per_s: rate,
        to_raw_binds,
        to_raw_searches_and_binds,
        half_load_per_s: half,
        raw_p50_us,
        raw_p99_us,
        login_p50_us,
        login_p99_us,
        stolen,
        fail_over,
    };
    if global.json {
        output::json(&report)
    } else {
        print(&report, rounds, hashed)
    }
    Ok(ExitCode::from(u8::from(Duration::from_millis(report.fail_over.slowest_ms) > SLOWEST)))
}

/// Lets the first server die in the middle of a run.
async fn dies_midway(
    mut first: RealDirectory,
    limit: Duration,
    run: impl Future<Output = Result<Measured, AskError>>,
) -> Result<FailOver, AskError> {
    let dying = tokio::spawn(async move {
        tokio::time::sleep(limit / 2).await;
        first.stop();
    });
    let seen = run.await?;
    let _ = dying.await;
    Ok(FailOver { accepted: seen.good, not_accepted: seen.bad, in_flight: CONNECTIONS, slowest_ms: seen.latency.max() / 1000 })
}

/// The usual time of an answer and the longest but for one in a hundred, in microseconds.
fn quantiles(measured: &Measured) -> (u64, u64) {
    (measured.latency.value_at_quantile(0.5), measured.latency.value_at_quantile(0.99))
}

/// One password for all: its hash is computed once.
const SHARED_PASSWORD: &str = "pw-shared-";

fn people(count: usize) -> Vec<DirectoryPerson> {
    let person = |person| DirectoryPerson { groups: Vec::new(), password: SHARED_PASSWORD.to_owned(), ..person };
    (0..count).map(directory_person).map(person).collect()
}

fn start_one(folder: &Path, people: &[DirectoryPerson], hashed: bool) -> std::io::Result<RealDirectory> {
    RealDirectory::start(folder, BASE, &[service_account()], people, hashed)
}

fn print(report: &Report, rounds: u64, hashed: bool) {
    let mut table = output::table(&["over 32 connections", "a second", "of raw binds"]);
    for (what, rate) in [
        ("binds, nobody between", report.raw_binds_per_s),
        ("search and bind, nobody between", report.raw_searches_and_binds_per_s),
        ("logins with password and code", report.logins_per_s),
    ] {
        table.add_row([what.to_owned(), format!("{rate:.0}"), format!("{:.2}", rate / report.raw_binds_per_s.max(1.0))]);
    }
    output::print_table(&table);
    output::line(format!(
        "\nat half load, {:.0} a second, one in {:.0} of them asked of the directory directly, at the same time",
        report.half_load_per_s,
        1.0 / DIRECT
    ));
    let mut table = output::table(&["", "p50", "p99"]);
    let added = |login: u64, raw: u64| output::took(login.saturating_sub(raw));
    table.add_row(["search and bind, nobody between".to_owned(), output::took(report.raw_p50_us), output::took(report.raw_p99_us)]);
    table.add_row(["login".to_owned(), output::took(report.login_p50_us), output::took(report.login_p99_us)]);
    table.add_row(["added".to_owned(), added(report.login_p50_us, report.raw_p50_us), added(report.login_p99_us, report.raw_p99_us)]);
    output::print_table(&table);
    if let Some(stolen) = report.stolen.filter(|stolen| *stolen >= 0.005) {
        output::line(format!("meanwhile the host of this machine took {:.0} % of its processors' time for others", stolen * 100.0));
    }
    let fail_over = &report.fail_over;
    output::line(format!(
        "\nfirst of two servers ended under load: {} accepted, {} not ({} were in flight at most), the slowest after {} ms",
        fail_over.accepted, fail_over.not_accepted, fail_over.in_flight, fail_over.slowest_ms
    ));
    let kept = if hashed { "under a slow hash" } else { "in clear" };
    output::line(format!("passwords kept {kept}; median of {rounds} alternating rounds; load, service and directory share this machine"));
}
