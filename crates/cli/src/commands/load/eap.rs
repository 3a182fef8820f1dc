//! `bivector lab load --eap`: EAP-TTLS logins beside bare TLS handshakes with the same certificate, full and resumed, and what handshakes
//! cost the logins beside them.

use super::{BASE, LOCAL, SECRET, directory_person, own_password, service_account};
use crate::arguments::Global;
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::site::{AppliedView, ApplyRequest};
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use bivector_lab::eap_load::{EapLoad, EapPace};
use bivector_lab::load::{LoadLogin, Measured, logins};
use bivector_service::{Options, Running, Sync, TOKEN_FILE, start};
use bivector_wire::SharedSecret;
use reqwest::Method;
use serde::Serialize;
use std::net::SocketAddr;
use std::process::ExitCode;
use std::time::Duration;

/// People who log in, in turns.
const PEOPLE: usize = 500;
/// Handshakes a second beside other logins.
const BESIDE: u64 = 200;
/// Logins a second whose latency is looked at.
const CALM: f64 = 500.0;

/// Medians over the rounds.
#[derive(Debug, Serialize)]
struct Report {
    bare_handshakes_per_s: f64,
    full_logins_per_s: f64,
    resumed_logins_per_s: f64,
    full_to_bare: f64,
    resumed_to_full: f64,
    failed: u64,
    /// Logins by PAP, alone and with handshakes beside them.
    others_per_s: [f64; 2],
    others_p99_us: [u64; 2],
    handshakes_beside_per_s: f64,
}

struct World {
    running: Running,
    radius: SocketAddr,
    load: EapLoad,
    _directory: StandInDirectory,
    _folder: tempfile::TempDir,
}

fn failed(error: impl std::fmt::Display) -> Failure {
    Failure::no(error.to_string(), "check this machine's resource limits")
}

fn site_text(directory: SocketAddr) -> String {
    format!(
        "format = 1\nname = \"Load\"\n[doors.radius]\nlisten = [\"127.0.0.1:0\"]\n\
         [doors.eap]\ncertificate = \"eap.pem\"\nkey = \"eap-key.pem\"\nresume = \"1h\"\nfragment = 1400\n\
         [[gateways]]\nname = \"load\"\nfrom = [\"127.0.0.0/8\"]\nsecret = \"gateway/load\"\n\
         [[directories]]\nname = \"tidehall\"\nservers = [\"ldap://{directory}\"]\nbase = \"ou=people,{BASE}\"\n\
         reader = {{ dn = \"cn=bivector,ou=services,{BASE}\", secret = \"directory/load\" }}\nconnections = 32\n\
         [[chains]]\nname = \"load\"\ngateways = [\"load\"]\nmethods = [\"eap-ttls-pap\", \"pap\"]\nforms = [\"password\"]\n\
         first = [\"tidehall\"]\nsecond = []\n\
         [[rules]]\nname = \"all\"\nchain = \"load\"\ngrant = \"load\"\n[[grants]]\nname = \"load\"\n"
    )
}

impl World {
    async fn start(no_sync: bool) -> Result<Self, Failure> {
        let data =
            DirectoryData { base: BASE.into(), services: vec![service_account()], people: (0..PEOPLE).map(directory_person).collect() };
        let any = SocketAddr::new(LOCAL, 0);
        let directory = StandInDirectory::start(any, &data, Protection::Clear, Duration::ZERO).await.map_err(failed)?;
        let folder = tempfile::tempdir().map_err(failed)?;
        let load = EapLoad::new(folder.path()).map_err(failed)?;
        let sync = if no_sync { Sync::Off } else { Sync::Full };
        let running = start(Options { sync, ..Options::new(folder.path().to_owned(), any) }).await?;
        let token = output::read_hidden(Some(&folder.path().join(TOKEN_FILE)), "")?;
        let client = Client::to(format!("http://{}", running.http), token);
        for name in ["gateway/load", "directory/load"] {
            client.ask::<_, ()>(Method::PUT, "/secrets", &[], Some(&serde_json::json!({ "name": name, "value": SECRET }))).await?;
        }
        let request = ApplyRequest { text: site_text(directory.address()), ..ApplyRequest::default() };
        client.ask::<_, AppliedView>(Method::POST, "/site/revisions", &[], Some(&request)).await?;
        let radius = running.radius().await.first().copied().ok_or_else(|| failed("no door is open"))?;
        Ok(World { running, radius, load, _directory: directory, _folder: folder })
    }

    async fn eap(&self, pace: EapPace) -> Result<(u64, u64), Failure> {
        let who = |device: usize| (format!("load{:05}", device % PEOPLE), own_password(device % PEOPLE));
        self.load.logins(self.radius, &SharedSecret::new(SECRET.as_bytes()), who, pace).await.map_err(failed)
    }

    async fn others(&self, limit: Duration, rate: Option<f64>) -> Result<Measured, Failure> {
        let people = (0..PEOPLE).cycle().take(200_000);
        let list = people.map(|person| LoadLogin { name: format!("load{person:05}"), password: own_password(person) }).collect();
        logins(LOCAL, self.radius, &SharedSecret::new(SECRET.as_bytes()), list, 16, limit, rate).await.map_err(failed)
    }
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or_default()
}

pub(crate) async fn run(seconds: u64, parallel: usize, rounds: u64, no_sync: bool, global: &Global) -> Result<ExitCode, Failure> {
    let world = World::start(no_sync).await?;
    let limit = Duration::from_secs(seconds);
    let per_s = |count: u64| count as f64 / limit.as_secs_f64();
    let (mut bare, mut full, mut resumed, mut beside, mut bad) = (Vec::new(), Vec::new(), Vec::new(), Vec::new(), 0);
    let mut others = [(Vec::new(), Vec::new()), (Vec::new(), Vec::new())];
    for _ in 0..rounds {
        let load = world.load.clone();
        bare.push(tokio::task::spawn_blocking(move || load.bare_rate(limit)).await.map_err(failed)?);
        for (resumes, into) in [(false, &mut full), (true, &mut resumed)] {
            let (good, others) = world.eap(EapPace { limit, parallel, resumes, rate: None }).await?;
            into.push(per_s(good));
            bad += others;
        }
        for (at, with_handshakes) in [false, true].into_iter().enumerate() {
            let handshakes = async {
                match with_handshakes {
                    true => world.eap(EapPace { limit: limit * 2, parallel: 16, resumes: false, rate: Some(BESIDE) }).await,
                    false => Ok((0, 0)),
                }
            };
            let measure = async { Ok((world.others(limit, None).await?, world.others(limit, Some(CALM)).await?)) };
            let ((most, calm), (good, _)) = tokio::try_join!(measure, handshakes)?;
            others[at].0.push(most.rate());
            others[at].1.push(calm.latency.value_at_quantile(0.99) as f64);
            if with_handshakes {
                beside.push(per_s(good) / 2.0);
            }
        }
    }
    world.running.stop(Duration::from_secs(5)).await;
    let ratio = |over: &[f64], under: &[f64]| median(over.iter().zip(under).map(|(over, under)| over / under).collect());
    let [(alone, alone_p99), (with, with_p99)] = others;
    let report = Report {
        full_to_bare: ratio(&full, &bare),
        resumed_to_full: ratio(&resumed, &full),
        bare_handshakes_per_s: median(bare),
        full_logins_per_s: median(full),
        resumed_logins_per_s: median(resumed),
        failed: bad,
        others_per_s: [median(alone), median(with)],
        others_p99_us: [median(alone_p99) as u64, median(with_p99) as u64],
        handshakes_beside_per_s: median(beside),
    };
    if global.json {
        output::json(&report);
    } else {
        print(&report);
    }
    Ok(ExitCode::SUCCESS)
}

fn print(report: &Report) {
    let line = |what: &str, said: String| output::line(format!("{what:<44} {said}"));
    line("bare TLS handshakes, both sides in memory", format!("{:>8.0}/s", report.bare_handshakes_per_s));
    line("EAP-TTLS/PAP logins, full", format!("{:>8.0}/s   {:.0} % of bare", report.full_logins_per_s, report.full_to_bare * 100.0));
    line("EAP-TTLS/PAP logins, resumed", format!("{:>8.0}/s   {:.1} times full", report.resumed_logins_per_s, report.resumed_to_full));
    let [alone, with] = report.others_per_s;
    let [alone_p99, with_p99] = report.others_p99_us;
    line("PAP logins alone", format!("{alone:>8.0}/s   p99 {alone_p99} µs at {CALM:.0}/s"));
    line(
        &format!("PAP logins, with {:.0} handshakes a second", report.handshakes_beside_per_s),
        format!("{with:>8.0}/s   p99 {with_p99} µs at {CALM:.0}/s"),
    );
    if report.failed > 0 {
        line("logins that failed", report.failed.to_string());
    }
}
