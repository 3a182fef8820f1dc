//! `bivector lab …`

use super::load;
use super::serve::interrupted;
use crate::arguments::{Global, Lab};
use crate::failure::Failure;
use crate::{demo, output};
use bivector_exchange::{Exchange, Patience};
use bivector_lab::certificates::LabIssuer;
use bivector_lab::courier::{Arrived, CourierHabits, StandInCourier};
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use bivector_lab::gateway::SimulatedGateway;
use bivector_lab::handset::{Answers, HandsetError, HandsetHabits, RobotHandset};
use bivector_lab::online::{self, Attended};
use bivector_lab::upstream::{Habits, StandInUpstream};
use bivector_wire::{Code, SharedSecret, render};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;
use tokio::sync::mpsc;

pub(crate) async fn run(command: Lab, global: &Global) -> Result<ExitCode, Failure> {
    match command {
        Lab::Directory { data, listen, tls, delay } => directory(data.as_deref(), listen, tls.as_deref(), delay).await,
        Lab::Upstream { listen, secret_file, data } => upstream(listen, &secret_file, data.as_deref()).await,
        Lab::Courier { http, read: true, .. } => arrived(http, global).await,
        Lab::Courier { http, smtp, status, delay, .. } => {
            let habits = CourierHabits { status, delay: Duration::from_millis(delay), ..CourierHabits::default() };
            let failed = |error| Failure::no(format!("cannot listen: {error}"), "choose other addresses with `--http` and `--smtp`");
            let running = StandInCourier::start(http, smtp, habits).await.map_err(failed)?;
            output::line(format!("calls on http://{}, mail on smtp://{}", running.http(), running.smtp()));
            output::line(format!("what arrives: bivector lab courier --read --http {}", running.http()));
            interrupted().await;
            Ok(ExitCode::SUCCESS)
        }
        Lab::Handset { invitation_file, label, answers, number, least, most } => {
            let asks = number == "ask" && answers == "approve";
            if asks && invitation_file == Path::new("-") {
                let remedy = "put the invitation into a file, or add `--number first`";
                return Err(Failure::usage("standard input cannot give both the invitation and the numbers of approvals", remedy));
            }
            handset(&invitation_file, &label, &answers, (least, most), asks, global).await
        }
        Lab::Gateway { person, from, radius, secret_file, password_file, wait, tries, accounting, dynamic, every } => {
            let secret = output::read_hidden(Some(&secret_file), "")?;
            let password = output::read_hidden(password_file.as_deref(), "password field (not shown): ")?;
            let gateway = SimulatedGateway {
                name: "lab".into(),
                from,
                server: radius,
                secret: SharedSecret::new(secret.expose().as_bytes()),
                patience: Patience { wait: Duration::from_secs_f64(wait.clamp(0.05, 600.0)), tries },
            };
            let (exchange, _) = gateway.log_in(&person, password.expose()).await.map_err(|error| Failure::no(error.to_string(), ""))?;
            let printed = print_exchange(&exchange, global);
            match (accounting, exchange.reply.filter(|reply| reply.code == Code::AccessAccept)) {
                (Some(accounting), Some(accept)) => {
                    let every = Duration::from_secs(every);
                    let attended = Attended { accounting, dynamic, person: &person, accept: &accept, every };
                    let ended = online::attend(gateway, attended, interrupted(), output::line).await;
                    let remedy = "check the addresses, and `accounting` under `[doors.radius]`";
                    ended.map(|()| ExitCode::SUCCESS).map_err(|error| Failure::no(error, remedy))
                }
                _ => Ok(printed),
            }
        }
        Lab::Load { approvals: Some(count), answer_after, no_sync, .. } => {
            load::run_with_approvals(count as usize, Duration::from_secs(answer_after), no_sync, global).await
        }
        Lab::Load { seconds, parallel, rounds, no_sync, eap: true, .. } => {
            load::run_with_eap(seconds, parallel as usize, rounds, no_sync, global).await
        }
        Lab::Load { traces: Some(count), people, .. } => load::run_with_traces(count, people, global).await,
        Lab::Load { seconds, rounds, no_sync, slapd: true, hashed, .. } => {
            load::run_with_slapd(seconds, rounds, no_sync, hashed, global).await
        }
        Lab::Load { seconds, parallel, rounds, no_sync, slapd: false, .. } => {
            load::run(seconds, parallel as usize, rounds, no_sync, global).await
        }
    }
}

async fn directory(data: Option<&Path>, listen: SocketAddr, tls: Option<&Path>, delay: u64) -> Result<ExitCode, Failure> {
    let text = data.map_or_else(|| Ok(demo::DIRECTORY.to_owned()), output::read_file)?;
    let data = DirectoryData::parse(&text).map_err(|error| Failure::usage(error.to_string(), "see demo/directory.toml"))?;
    let protection = match tls {
        None => Protection::Clear,
        Some(path) => {
            let made = LabIssuer::new("Bivector lab")
                .and_then(|issuer| issuer.server(&["localhost", "127.0.0.1", "::1"]).map(|server| (issuer, server)));
            let (issuer, server) = made.map_err(|error| Failure::no(error.to_string(), ""))?;
            std::fs::write(path, issuer.pem())
                .map_err(|error| Failure::usage(format!("`{}` cannot be written: {error}", path.display()), "name another file"))?;
            Protection::Tls(server)
        }
    };
    let failed = |error| Failure::no(format!("cannot listen on {listen}: {error}"), "choose another address with `--listen`");
    let running = StandInDirectory::start(listen, &data, protection, Duration::from_millis(delay)).await.map_err(failed)?;
    output::line(format!("directory {} on {}", data.base, running.address()));
    interrupted().await;
    Ok(ExitCode::SUCCESS)
}

async fn upstream(listen: SocketAddr, secret_file: &Path, data: Option<&Path>) -> Result<ExitCode, Failure> {
    let secret = output::read_hidden(Some(secret_file), "")?;
    let text = data.map_or_else(|| Ok(demo::UPSTREAM.to_owned()), output::read_file)?;
    let right: HashMap<String, String> = toml::from_str(&text)
        .map_err(|error| Failure::usage(format!("the upstream's data cannot be read: {error}"), "see demo/upstream.toml"))?;
    let failed = |error| Failure::no(format!("cannot listen on {listen}: {error}"), "choose another address with `--listen`");
    let running = StandInUpstream::start(listen, secret.expose().as_bytes(), right, Habits::default()).await.map_err(failed)?;
    output::line(format!("upstream on {}", running.address()));
    interrupted().await;
    Ok(ExitCode::SUCCESS)
}

/// A simulated handset, from its invitation on.
async fn handset(
    invitation: &Path,
    label: &str,
    answers: &str,
    after: (f64, f64),
    asks: bool,
    global: &Global,
) -> Result<ExitCode, Failure> {
    let answers: Answers = answers.parse().map_err(|error: String| Failure::usage(error, "choose one of them with `--answers`"))?;
    let bounded = |seconds: f64| Duration::from_secs_f64(seconds.clamp(0.0, 600.0));
    let habits = HandsetHabits { answers, after: (bounded(after.0), bounded(after.1)) };
    let invitation = output::read_hidden(Some(invitation), "")?;
    let (server, http) = crate::client::as_a_handset(global)?;
    let no = |error: HandsetError| Failure::no(error.to_string(), "see `bivector factor invite`");
    let mut robot = RobotHandset::enrol(&http, &server, invitation.expose().trim(), label).await.map_err(no)?;
    robot.begin().await.map_err(no)?;
    output::line(format!("enrolled for {} as “{label}”, number {}", robot.person, robot.device));
    if let Some(reference) = &robot.reference {
        output::line(format!("it counts once an operator has typed its reference: {reference}"));
    }
    let mut typed = if asks { typed_lines() } else { mpsc::channel(1).1 };
    let answering = async {
        let mut last = String::new();
        loop {
            let Ok(shown) = robot.next().await else {
                tokio::time::sleep(Duration::from_secs(1)).await;
                continue;
            };
            if shown == last {
                tokio::time::sleep(Duration::from_millis(200)).await;
                continue;
            }
            let numbers = numbers_of(&shown);
            let acted = match asks && !numbers.is_empty() {
                true => match asked_number(&mut typed, &numbers).await {
                    Some(number) => robot.answer(&shown, habits.answers, Some(number)).await.map(Some),
                    None => Ok(None),
                },
                false => robot.act(&shown, habits).await,
            };
            let said = match acted {
                Ok(Some(outcome)) => outcome,
                Ok(None) => "ignored".to_owned(),
                Err(error) => error.to_string(),
            };
            output::line(format!("{said}: {shown}"));
            last = shown;
        }
    };
    tokio::select! {
        () = answering => {}
        () = interrupted() => {}
    }
    Ok(ExitCode::SUCCESS)
}

/// The numbers of an approval; none where nothing is to be picked.
fn numbers_of(shown: &str) -> Vec<u64> {
    let read: serde_json::Value = serde_json::from_str(shown).unwrap_or_default();
    read["numbers"].as_array().into_iter().flatten().filter_map(serde_json::Value::as_u64).collect()
}

/// Lines of standard input. They are read by a thread of their own, so that the command can end while it waits for one.
fn typed_lines() -> mpsc::Receiver<String> {
    let (send, lines) = mpsc::channel(16);
    std::thread::spawn(move || std::io::stdin().lines().map_while(Result::ok).try_for_each(|line| send.blocking_send(line)));
    lines
}

/// The number that stands on the person's screen, as somebody types it; none once there is no more input.
async fn asked_number(typed: &mut mpsc::Receiver<String>, numbers: &[u64]) -> Option<u64> {
    let known = numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    loop {
        output::line(format!("which number does the screen show: {known}?"));
        let line = typed.recv().await?;
        match line.trim().parse().ok().filter(|number| numbers.contains(number)) {
            Some(number) => return Some(number),
            None => output::line("type one of them"),
        }
    }
}

/// What arrived at receivers that run.
async fn arrived(http: SocketAddr, global: &Global) -> Result<ExitCode, Failure> {
    let failed = |error: reqwest::Error| {
        Failure::unreachable(format!("no receiver answers at {http}: {error}"), "start one with `bivector lab courier`")
    };
    let answer = reqwest::get(format!("http://{http}/arrived")).await.map_err(failed)?;
    let arrived: Vec<Arrived> = answer.json().await.map_err(failed)?;
    if global.json {
        output::json(&arrived);
        return Ok(ExitCode::SUCCESS);
    }
    let mut table = output::table(&["time", "by", "to", "text"]);
    for one in &arrived {
        table.add_row([&output::when(one.at_us), &one.by, &one.to, &one.text]);
    }
    output::print_table(&table);
    if arrived.is_empty() {
        output::line("nothing arrived yet");
    }
    Ok(ExitCode::SUCCESS)
}

fn print_exchange(exchange: &Exchange, global: &Global) -> ExitCode {
    let attributes: Vec<(String, String)> =
        exchange.reply.iter().flat_map(|reply| &reply.attributes).map(|(kind, value)| render(*kind, value)).collect();
    let reply = exchange.reply.as_ref().map(|reply| reply.code.to_string());
    if global.json {
        output::json(&serde_json::json!({
            "reply": reply, "attributes": attributes, "sends": exchange.sends, "took_us": exchange.took.as_micros() as u64, "discarded": exchange.discarded,
        }));
    } else {
        let took = output::took(exchange.took.as_micros() as u64);
        output::line(format!("{} after {took}, {} sent", reply.as_deref().unwrap_or("no answer"), exchange.sends));
        attributes.iter().for_each(|(name, value)| output::line(format!("  {name:<20} {value}")));
        exchange.discarded.iter().for_each(|reason| output::line(format!("  discarded: {reason}")));
    }
    let accepted = exchange.reply.as_ref().is_some_and(|reply| reply.code == Code::AccessAccept);
    ExitCode::from(u8::from(!accepted))
}
