//! Simulated logins and curves.

use crate::arguments::{Budget, Global};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::timing::{SimulateRequest, SimulationLine};
use bivector_site::read_duration;
use bivector_timing::simulate::{Curve, Simulated, curve_csv, curve_svg};
use futures_util::StreamExt;
use std::collections::BTreeMap;
use std::io::Write;
use std::process::ExitCode;

/// Logins that may fail without the answer being no: chance has a hand in it.
const FORGIVEN: f64 = 0.01;
/// Columns of a share.
const BAR: usize = 40;

pub(super) async fn run(
    client: &Client,
    of: &Budget,
    set: BTreeMap<String, String>,
    text: Option<String>,
    global: &Global,
) -> Result<ExitCode, Failure> {
    let how = &of.simulation;
    let share = |per_cent: Option<f64>| per_cent.map(|per_cent| per_cent / 100.0);
    let (usual_s, most_s) = how.people.as_deref().map(people).transpose()?.unzip();
    let request = SimulateRequest {
        via: of.via.clone(),
        way: of.way.clone(),
        logins: of.simulate,
        per_second: how.per_second,
        seed: Some(how.seed),
        set,
        loss: share(how.loss),
        twice: share(how.twice),
        off: share(how.off),
        asleep: share(how.asleep),
        push_refused: share(how.push_refused),
        usual_s,
        most_s,
        trouble: how.trouble.clone(),
        sweep: how.sweep.clone(),
        points: how.sweep.as_ref().map(|_| how.points),
        text,
    };
    match play(client, &of.chain, &request).await? {
        SimulationLine::Simulated(done) => {
            if global.json {
                output::json(&done);
            } else {
                print(&done);
            }
            Ok(ExitCode::from(u8::from(done.share() < 1.0 - FORGIVEN)))
        }
        SimulationLine::Curve(curve) => {
            if let Some(file) = &how.csv {
                output::write_file(file, curve_csv(&curve).as_bytes())?;
            }
            if let Some(file) = &how.svg {
                output::write_file(file, curve_svg(&curve).as_bytes())?;
            }
            if global.json {
                output::json(&curve);
            } else {
                print_curve(&curve);
            }
            Ok(ExitCode::SUCCESS)
        }
        SimulationLine::Problem(problem) => Err((*problem).into()),
        SimulationLine::Progress(_) => Err(Failure::unreachable("the simulation ended without a result", "try it again")),
    }
}

/// Reads `8s,30s`.
fn people(text: &str) -> Result<(f64, f64), Failure> {
    let read = |text: &str| read_duration(text.trim()).map(|time| time.as_secs_f64());
    let both = text.split_once(',').and_then(|(usual, most)| read(usual).zip(read(most)));
    both.ok_or_else(|| Failure::usage(format!("`{text}` is not a pair of times"), "write for example 8s,30s"))
}

/// Plays it, with progress on a terminal; gives the last line.
async fn play(client: &Client, chain: &str, request: &SimulateRequest) -> Result<SimulationLine, Failure> {
    let mut stream = client.post_stream(&format!("/timing/{}/simulation", encode(chain)), request).await?;
    let broken = || Failure::unreachable("the simulation was interrupted", "look at the log of the service, or try it again");
    let (mut kept, mut last) = (Vec::new(), SimulationLine::Progress(0.0));
    while let Some(piece) = stream.next().await {
        kept.extend_from_slice(&piece.map_err(|_| broken())?);
        while let Some(end) = kept.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = kept.drain(..=end).collect();
            last = serde_json::from_slice(&line).map_err(|_| broken())?;
            if let SimulationLine::Progress(share) = &last {
                tell(*share);
            }
        }
    }
    if output::is_terminal() {
        let _ = write!(std::io::stderr(), "\r\u{1b}[K");
    }
    Ok(last)
}

fn tell(share: f64) {
    if output::is_terminal() {
        let filled = (share * BAR as f64) as usize;
        let _ = write!(std::io::stderr(), "\r{}{} {:.0} %", "━".repeat(filled), "─".repeat(BAR - filled.min(BAR)), share * 100.0);
    }
}

fn bar(share: f64) -> String {
    let filled = (share * BAR as f64).round() as usize;
    format!("{}{}", "█".repeat(filled), "░".repeat(BAR - filled.min(BAR)))
}

fn print(done: &Simulated) {
    let per_cent = |count: u64| count as f64 * 100.0 / done.logins.max(1) as f64;
    output::line(format!("{} of {} simulated logins accepted: {:.1} %", done.accepted, done.logins, per_cent(done.accepted)));
    let mut failed: Vec<(&String, &u64)> = done.failed.iter().collect();
    failed.sort_by(|one, other| other.1.cmp(one.1));
    for (cause, count) in failed {
        output::line(format!("  {:>6}  {:.1} %  {cause}", count, per_cent(*count)));
    }
    output::line("");
    let mut table = output::table(&["", ""]);
    let per_login = |count: u64| format!("{:.2}", count as f64 / done.logins.max(1) as f64);
    for (what, value) in [
        ("time to accept, median", output::took(done.p50_us)),
        ("95th percentile", output::took(done.p95_us)),
        ("99th percentile", output::took(done.p99_us)),
        ("approvals asked of handsets, per login", per_login(done.approvals)),
        ("packets at the door, per login", per_login(done.packets)),
        ("retransmissions joined to a login in flight", done.absorbed.to_string()),
        ("retransmissions answered from the reply cache", done.answered_again.to_string()),
        ("logins started", done.begun.to_string()),
        ("questions to directories, per login", per_login(done.directory_questions)),
        ("most in one second", done.directory_peak.to_string()),
        ("virtual time", output::took(done.virtual_us)),
        ("seed", done.seed.to_string()),
    ] {
        table.add_row([what.to_owned(), value]);
    }
    output::print_table(&table);
}

fn print_curve(curve: &Curve) {
    output::line(format!("share of logins accepted, by {} ({})", curve.said, curve.setting));
    for (place, point) in curve.points.iter().enumerate() {
        let mark =
            if curve.knee == Some(place) { output::paint("  ◀ best value: larger values do not help", "1") } else { String::new() };
        let one = &point.simulated;
        output::line(format!(
            "{:>8}  {} {:5.1} %  p50 {:>8}  p95 {:>8}{mark}",
            if curve.in_seconds { output::took((point.at * 1e6) as u64) } else { point.value.clone() },
            output::paint(&bar(point.share), "36"),
            point.share * 100.0,
            output::took(one.p50_us),
            output::took(one.p95_us)
        ));
    }
    if let Some(now) = curve.now {
        let unit = if curve.in_seconds { " s" } else { "" };
        output::line(format!("now {now}{unit}"));
    }
    match curve.knee {
        Some(_) => {}
        None => output::line("no knee: this setting makes no difference in this range"),
    }
}
