//! Many approvals at one time: simulated handsets that enrol by the real protocol, gateways that resend every two seconds, and beside
//! them logins with codes, which must not notice. The service runs as a process of its own, so that its memory is its own.

use super::{LOCAL, SECRET, directory_person, own_password, service_account};
use crate::arguments::Global;
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::people::Imported;
use bivector_api::people::Made;
use bivector_api::site::{AppliedView, ApplyRequest};
use bivector_lab::crowd::{Crowd, Pace, Waiter, log_in};
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use bivector_lab::handset::{Answers, HandsetHabits, RobotHandset};
use bivector_lab::load::{LoadLogin, Measured, logins};
use bivector_lab::push::{PushHabits, RobotSubscription, StandInPush};
use bivector_model::totp::{Settings, code};
use bivector_service::TOKEN_FILE;
use bivector_wire::SharedSecret;
use futures_util::StreamExt;
use futures_util::stream;
use reqwest::Method;
use serde::Serialize;
use std::net::{IpAddr, SocketAddr};
use std::process::{ExitCode, Stdio};
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::{Child, Command};

/// Where the gateway of the other logins sends from.
const OTHER: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(127, 0, 0, 2));
/// People who log in with codes meanwhile.
const CODERS: usize = 400;
const STEPS: i64 = 9;
/// Other logins in flight.
const BESIDE: usize = 4;
/// How long the others are measured, before and during.
const MEASURED: Duration = Duration::from_secs(4);
/// Calls at one time while people are enrolled: fewer than the invitations that one address may have tried in vain.
const CALLS: usize = 8;
const RESEND: Duration = Duration::from_secs(2);
/// Other logins a second: far from what the service can do, so that what they take is not a queue of their own.
const PACED: f64 = 200.0;

#[derive(Debug, Serialize)]
struct Figures {
    approvals: usize,
    waiting_at_once: u64,
    accepted: u64,
    refused: u64,
    silent: u64,
    packets: u64,
    asked: u64,
    joined: u64,
    repeated_answers: u64,
    different_answers: u64,
    resident_mb_before: f64,
    resident_mb_waiting: f64,
    pushed: u64,
    pushed_within_50_ms: u64,
    pushed_within_100_ms: u64,
    push_faults: usize,
    others_p50_us: [u64; 2],
    others_p99_us: [u64; 2],
    others_failed: u64,
}

pub(in crate::commands) async fn run(count: usize, answer_after: Duration, no_sync: bool, global: &Global) -> Result<ExitCode, Failure> {
    let people = (0..count + CODERS).map(directory_person).collect();
    let data = DirectoryData { base: super::BASE.into(), services: vec![service_account()], people };
    let any = SocketAddr::new(LOCAL, 0);
    let directory = StandInDirectory::start(any, &data, Protection::Clear, Duration::ZERO).await.map_err(failed)?;
    let push = StandInPush::start(any, PushHabits::default()).await.map_err(failed)?;
    let world = World::start(count, directory.address(), &push, no_sync).await?;
    output::hint(format!("enrolling {count} simulated handsets, each with a subscription at a push service"));
    let robots = world.enrol(count, &push).await?;
    let resident_mb_before = world.resident_mb();
    let mut codes = world.codes(count);
    let before = world.others(&mut codes).await?;
    let pace = pace_of(count, answer_after);
    let begin_within = pace.begin_within;
    let waiters = (0..count).map(|person| Waiter { name: format!("load{person:05}"), password: own_password(person) }).collect();
    let (secret, radius, began) = (SharedSecret::new(SECRET.as_bytes()), world.radius, Instant::now());
    let crowd = tokio::spawn(async move { log_in(LOCAL, radius, &secret, waiters, pace).await });
    let answering = tokio::spawn(answer_all(robots, began, begin_within, answer_after));
    // Once all have asked and before the first is answered, the others are measured beside them.
    tokio::time::sleep(begin_within + Duration::from_secs(3)).await;
    let (waiting, resident) = (world.figure("bivector_approvals_waiting").await?, world.resident_mb());
    output::hint(format!("{waiting} approvals wait, {resident:.0} MB resident"));
    let during = world.others(&mut codes).await?;
    let resident_mb_waiting = world.resident_mb().max(resident);
    let crowd = crowd.await.map_err(failed)?.map_err(failed)?;
    // Robots that were too late have nothing left to answer.
    answering.abort();
    let how = async |how: &str| world.figure(&format!("bivector_approvals_total{{how=\"{how}\"}}")).await;
    let quantiles = |quantile: f64| [&before, &during].map(|measured| measured.latency.value_at_quantile(quantile));
    let figures = Figures {
        approvals: count,
        waiting_at_once: waiting,
        accepted: crowd.accepted,
        refused: crowd.refused,
        silent: crowd.silent,
        packets: crowd.packets,
        asked: how("asked").await?,
        joined: how("joined").await?,
        repeated_answers: crowd.repeated,
        different_answers: crowd.different + crowd.forged,
        resident_mb_before,
        resident_mb_waiting,
        pushed: world.figure("bivector_push_leave_seconds_count").await?,
        pushed_within_50_ms: world.figure("bivector_push_leave_seconds_bucket{le=\"0.05\"}").await?,
        pushed_within_100_ms: world.figure("bivector_push_leave_seconds_bucket{le=\"0.1\"}").await?,
        push_faults: push.faults().len(),
        others_p50_us: quantiles(0.5),
        others_p99_us: quantiles(0.99),
        others_failed: before.bad + during.bad,
    };
    world.stop().await;
    print(&figures, &crowd, answer_after, global);
    let good = figures.accepted == count as u64
        && figures.asked == count as u64
        && figures.different_answers == 0
        && figures.pushed == count as u64
        && figures.push_faults == 0;
    Ok(ExitCode::from(u8::from(!good)))
}

/// Robots, push service and directory share this machine: faster, and they are what is measured.
fn pace_of(count: usize, answer_after: Duration) -> Pace {
    let begin_within = Duration::from_secs_f64((count as f64 / 500.0).max(0.5));
    Pace { begin_within, resend_every: RESEND, patience: answer_after + begin_within + Duration::from_secs(25) }
}

fn failed(error: impl std::fmt::Display) -> Failure {
    Failure::no(error.to_string(), "check this machine's resource limits")
}

/// Every robot is woken by push, shows that, and answers once its time has come; without a message it looks by itself.
async fn answer_all(robots: Vec<(RobotHandset, RobotSubscription)>, began: Instant, begin_within: Duration, after: Duration) {
    let count = robots.len().max(1);
    let habits = HandsetHabits { answers: Answers::Approve, after: (Duration::ZERO, Duration::ZERO) };
    let each = robots.into_iter().enumerate().map(|(index, (robot, subscription))| async move {
        let asked = begin_within.mul_f64(index as f64 / count as f64);
        let woken = tokio::time::timeout_at((began + asked + after).into(), subscription.next()).await;
        if let Ok(Some(notice)) = woken
            && let Err(error) = robot.report(&notice.ticket, "shown").await
        {
            tracing::debug!(%error, "a robot could not report");
        }
        tokio::time::sleep((began + asked + after).saturating_duration_since(Instant::now())).await;
        for _ in 0..20 {
            match robot.waiting().await {
                Ok(Some(shown)) => match robot.act(&shown, habits).await {
                    Ok(_) => return,
                    Err(error) => tracing::debug!(%error, "a robot's answer was refused"),
                },
                Ok(None) => tokio::time::sleep(Duration::from_millis(500)).await,
                Err(error) => tracing::debug!(%error, "a robot could not look"),
            }
        }
    });
    // Each is a future of its own; they are polled together without a task each.
    let _: Vec<()> = stream::iter(each).buffer_unordered(count).collect().await;
}

/// The service in a process of its own.
struct World {
    child: Child,
    http: SocketAddr,
    radius: SocketAddr,
    client: Client,
    calls: reqwest::Client,
    _folder: tempfile::TempDir,
}

fn site_text(directory: SocketAddr, count: usize, http: SocketAddr, push: &StandInPush) -> String {
    let (page, push) = (http.port(), push.origin());
    let most = (count * 2).max(1000);
    format!(
        "format = 1\nname = \"Load\"\n[doors.radius]\nlisten = [\"127.0.0.1:0\"]\nlogins_in_flight = {most}\n[factors.totp]\nwindow = 10\n\
         [handset]\nconfirmed_by = \"invitation\"\naddress = \"http://localhost:{page}\"\n\
         [push]\nservices = [\"{push}\"]\ncontact = \"mailto:load@northmoor.example\"\n\
         [[gateways]]\nname = \"load\"\nfrom = [\"127.0.0.1\"]\nsecret = \"gateway/load\"\nlogins_in_flight = {most}\n\
         patience = {{ wait = \"2s\", tries = 20 }}\n\
         [[gateways]]\nname = \"other\"\nfrom = [\"{OTHER}\"]\nsecret = \"gateway/load\"\n\
         [[directories]]\nname = \"tidehall\"\nservers = [\"ldap://{directory}\"]\nbase = \"ou=people,dc=northmoor,dc=example\"\n\
         reader = {{ dn = \"cn=bivector,ou=services,dc=northmoor,dc=example\", secret = \"directory/load\" }}\n\
         [[chains]]\nname = \"approvals\"\ngateways = [\"load\"]\nforms = [\"password\"]\nfirst = [\"tidehall\"]\nsecond = [\"approval\"]\nsecond_patience = \"90s\"\n\
         [[chains]]\nname = \"codes\"\ngateways = [\"other\"]\nforms = [\"password code(6)\"]\nfirst = [\"tidehall\"]\nsecond = [\"totp\"]\n\
         [[rules]]\nname = \"all\"\nchain = \"approvals\"\ngrant = \"load\"\n[[rules]]\nname = \"all codes\"\nchain = \"codes\"\ngrant = \"load\"\n\
         [[grants]]\nname = \"load\"\nreply = [{{ attribute = \"Class\", text = \"load\" }}]\n"
    )
}

impl World {
    async fn start(count: usize, directory: SocketAddr, push: &StandInPush, no_sync: bool) -> Result<Self, Failure> {
        let folder = tempfile::tempdir().map_err(failed)?;
        let own = std::env::current_exe().map_err(failed)?;
        let mut command = Command::new(own);
        command.args(["serve", "--http", "127.0.0.1:0", "--data"]).arg(folder.path());
        if no_sync {
            command.arg("--no-sync");
        }
        let mut child =
            command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).kill_on_drop(true).spawn().map_err(failed)?;
        let stdout = child.stdout.take().ok_or_else(|| failed("the service has no output"))?;
        let mut lines = BufReader::new(stdout).lines();
        let first = lines.next_line().await.map_err(failed)?.unwrap_or_default();
        let http: SocketAddr = first
            .trim()
            .rsplit("://")
            .next()
            .and_then(|text| text.parse().ok())
            .ok_or_else(|| failed(format!("the service did not start: {first}")))?;
        // Whatever else it says is read, so that it never waits for a reader.
        tokio::spawn(async move { while let Ok(Some(_)) = lines.next_line().await {} });
        let token = output::read_hidden(Some(&folder.path().join(TOKEN_FILE)), "")?;
        let client = Client::to(format!("http://{http}"), token);
        for name in ["gateway/load", "directory/load"] {
            client.ask::<_, ()>(Method::PUT, "/secrets", &[], Some(&serde_json::json!({ "name": name, "value": SECRET }))).await?;
        }
        let request = ApplyRequest { text: site_text(directory, count, http, push), ..ApplyRequest::default() };
        client.ask::<_, AppliedView>(Method::POST, "/site/revisions", &[], Some(&request)).await?;
        let csv = (count..count + CODERS).fold("login,source,totp_seed\n".to_owned(), |csv, person| {
            let seed = data_encoding::BASE32_NOPAD.encode(super::seed(person).as_bytes());
            csv + format!("load{person:05},tidehall,{seed}\n").as_str()
        });
        client.ask::<_, Imported>(Method::POST, "/people/import", &[], Some(&serde_json::json!({ "csv": csv }))).await?;
        let status: serde_json::Value = client.get("/status", &[]).await?;
        let radius = status["radius"][0].as_str().and_then(|text| text.parse().ok()).ok_or_else(|| failed("no door is open"))?;
        Ok(World { child, http, radius, client, calls: reqwest::Client::new(), _folder: folder })
    }

    /// Invites and enrols, each by the calls that people's own handsets make.
    async fn enrol(&self, count: usize, push: &StandInPush) -> Result<Vec<(RobotHandset, RobotSubscription)>, Failure> {
        let server = format!("http://{}", self.http);
        let each = (0..count).map(|person| {
            let (server, client, calls) = (&server, &self.client, &self.calls);
            async move {
                let path = format!("/people/tidehall/load{person:05}/invitation");
                let made: Made = client.ask(Method::POST, &path, &[], Some(&serde_json::json!({}))).await?;
                let mut robot = RobotHandset::enrol(calls, server, &made.code, "robot").await.map_err(failed)?;
                robot.begin().await.map_err(failed)?;
                let subscription = robot.subscribe(push).await.map_err(failed)?;
                Ok::<_, Failure>((robot, subscription))
            }
        });
        let robots: Vec<Result<_, Failure>> = stream::iter(each).buffered(CALLS).collect().await;
        robots.into_iter().collect()
    }

    /// Logins with codes, each code once.
    fn codes(&self, from: usize) -> Vec<LoadLogin> {
        let step = super::seconds_now() / 30;
        let login = |offset: i64, person: usize| LoadLogin {
            name: format!("load{person:05}"),
            password: own_password(person)
                + code(super::seed(person).as_bytes(), step.wrapping_add_signed(offset), Settings::default()).as_str(),
        };
        (-STEPS..=STEPS).flat_map(|offset| (from..from + CODERS).map(move |person| login(offset, person))).collect()
    }

    /// What logins with codes take, a few in flight.
    async fn others(&self, codes: &mut Vec<LoadLogin>) -> Result<Measured, Failure> {
        let some = super::take_first(codes, STEPS as usize * CODERS);
        let secret = SharedSecret::new(SECRET.as_bytes());
        logins(OTHER, self.radius, &secret, some, BESIDE, MEASURED, Some(PACED)).await.map_err(failed)
    }

    /// Memory that the service has in hand, in MB.
    fn resident_mb(&self) -> f64 {
        let status = self.child.id().and_then(|id| std::fs::read_to_string(format!("/proc/{id}/status")).ok()).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
        let kilobytes: f64 = line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0.0);
        kilobytes / 1024.0
    }

    /// One of the service's own figures.
    async fn figure(&self, name: &str) -> Result<u64, Failure> {
        let page = self.calls.get(format!("http://{}/metrics", self.http)).send().await.map_err(failed)?.text().await.map_err(failed)?;
        let line = page.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' '));
        Ok(line.and_then(|value| value.trim().parse::<f64>().ok()).unwrap_or(0.0) as u64)
    }

    async fn stop(mut self) {
        // It holds nothing that outlives the run.
        let _ = self.child.kill().await;
    }
}

fn print(figures: &Figures, crowd: &Crowd, after: Duration, global: &Global) {
    if global.json {
        return output::json(figures);
    }
    let mut table = output::table(&["approvals at once", "", ""]);
    let mut row = |what: &str, value: String, said: String| {
        table.add_row([what.to_owned(), value, said]);
    };
    row("waiting", figures.waiting_at_once.to_string(), format!("each answered {} s after it was asked", after.as_secs()));
    row(
        "accepted",
        figures.accepted.to_string(),
        format!("of {}; {} refused, {} without an answer", figures.approvals, figures.refused, figures.silent),
    );
    row(
        "asked of handsets",
        figures.asked.to_string(),
        format!("by {} packets, resent every {} s; {} joined", figures.packets, RESEND.as_secs(), figures.joined),
    );
    row(
        "answers to resends",
        figures.repeated_answers.to_string(),
        format!("{} with other bytes than the first", figures.different_answers),
    );
    let share = |within: u64| format!("{:.2} %", 100.0 * within as f64 / figures.pushed.max(1) as f64);
    row(
        "push messages",
        figures.pushed.to_string(),
        format!(
            "{} left within 50 ms of the request, {} within 100 ms; {} faults",
            share(figures.pushed_within_50_ms),
            share(figures.pushed_within_100_ms),
            figures.push_faults
        ),
    );
    row("resident", format!("{:.0} MB", figures.resident_mb_waiting), format!("{:.0} MB before", figures.resident_mb_before));
    let took = |values: [u64; 2]| format!("{} before, {} beside", output::took(values[0]), output::took(values[1]));
    row("other logins, p50", took(figures.others_p50_us), format!("{} not accepted", figures.others_failed));
    row("other logins, p99", took(figures.others_p99_us), String::new());
    output::print_table(&table);
    let mut latencies = crowd.latencies.clone();
    latencies.sort_unstable();
    if let (Some(least), Some(most)) = (latencies.first(), latencies.last()) {
        output::line(format!(
            "\na login took {} to {}; load, robots, directory and service share this machine",
            output::took(*least),
            output::took(*most)
        ));
    }
}
