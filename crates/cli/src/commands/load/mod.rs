//! `bivector lab load`: what this machine can do, measured in one run so that the figures may be compared.
//!
//! Servers in turn, round by round: a bare UDP echo; the packet path alone (parse, verify, decide, sign) with canned facts and no
//! records, without codes and with them; and the whole service, with codes alone and with password and code against the stand-in
//! directory.

mod approvals;
mod eap;
mod slapd;
mod traces;

pub(super) use approvals::run as run_with_approvals;
pub(super) use eap::run as run_with_eap;
pub(super) use slapd::run as run_with_slapd;
pub(super) use traces::run as run_with_traces;

use crate::arguments::Global;
use crate::client::Client;
use crate::failure::Failure;
use crate::output;
use bivector_api::people::Imported;
use bivector_api::site::{AppliedView, ApplyRequest};
use bivector_core::login::{
    Answer, Fact, Factors, FactorsAnswer, Found, GuessAnswer, GuessCount, Login, MarkAnswer, Need, Next, PasswordAnswer, PersonAnswer,
    Verdict,
};
use bivector_core::radius::{self, Arrival, Reply};
use bivector_exchange::Request;
use bivector_lab::directory::{DirectoryData, DirectoryPerson, Protection, ServiceAccount, StandInDirectory};
use bivector_lab::load::{LoadLogin, Measured, datagrams, logins};
use bivector_model::Moment;
use bivector_model::device::Device;
use bivector_model::facts::Resends;
use bivector_model::rule::Groups;
use bivector_model::totp::{Settings, code};
use bivector_model::trace::Origin;
use bivector_service::Sync;
use bivector_service::TOKEN_FILE;
use bivector_service::{Options, Running, start};
use bivector_site::{Known, Site};
use bivector_wire::{IntegrityPolicy, Packet, Secret, SharedSecret, authenticate};
use rand::SeedableRng;
use rand::rngs::SmallRng;
use rand::seq::SliceRandom;
use reqwest::Method;
use serde::Serialize;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tempfile::TempDir;

const SECRET: &str = "load-secret";
const LOCAL: IpAddr = IpAddr::V4(Ipv4Addr::LOCALHOST);
/// Steps to each side whose codes are typed: a few, as people's clocks have them. The site's window is wider, so that none drifts out
/// during the run.
const STEPS: i64 = 2;
/// Logins a second that are prepared for; more are not reached on two cores.
const PREPARED: u64 = 20_000;
/// The realm of people whose gateway has checked the password itself.
const CODES: &str = "@codes";
/// Its chain.
const CODE_CHAIN: &str = "[[identity]]\nname = \"codes\"\nstrip_suffix = [\"@codes\"]\n\
    [[chains]]\nname = \"codes\"\ngateways = [\"load\"]\nrealms = [\"codes\"]\nidentity = \"codes\"\ncode_only = true\n\
    forms = [\"code(6)\"]\nfirst = [\"roster\"]\nsecond = [\"totp\"]\n\
    [[rules]]\nname = \"all codes\"\nchain = \"codes\"\ngrant = \"load\"\n";
/// Logins a second that are prepared for a server without records.
const BARE_PREPARED: u64 = 100_000;
/// People in one list: two lines each, of the hundred thousand that one may have.
const IMPORTED_AT_ONCE: usize = 40_000;
/// Bytes that the system may hold for a bare server.
const RECEIVE_BUFFER: usize = 4 * 1024 * 1024;
/// In flight while latency is looked at without queues.
const CALM: usize = 4;

/// Figures of one kind of server.
#[derive(Debug, Serialize)]
struct Figures {
    server: &'static str,
    rate: f64,
    to_echo: f64,
    p50_us: u64,
    p99_us: u64,
    failed: u64,
}

/// What one kind of server does of another's logins a second: medians over the rounds.
#[derive(Debug, Serialize)]
struct Shares {
    code_only_to_no_records: f64,
    traces_cost_code_only: f64,
    traces_cost_password_and_code: f64,
}

/// All of it, for programs.
#[derive(Debug, Serialize)]
struct Report<'a> {
    servers: &'a [Figures],
    shares: Shares,
}

pub(crate) async fn run(seconds: u64, parallel: usize, rounds: u64, no_sync: bool, global: &Global) -> Result<ExitCode, Failure> {
    let limit = Duration::from_secs(seconds);
    let failed = |error: String| Failure::no(error, "check this machine's resource limits");
    let datagram = Request::login("load00000", b"barnacle-and-buoy123456")
        .prepare(&SharedSecret::new(SECRET.as_bytes()))
        .map_err(|error| failed(error.to_string()))?
        .bytes;
    let people = (PREPARED * seconds * rounds).div_ceil(2 * STEPS as u64 + 1) as usize;
    let data = DirectoryData { base: BASE.into(), services: vec![service_account()], people: (0..people).map(directory_person).collect() };
    let any = SocketAddr::new(LOCAL, 0);
    let directory =
        StandInDirectory::start(any, &data, Protection::Clear, Duration::ZERO).await.map_err(|error| failed(error.to_string()))?;
    let world = World::start(people, &[directory.address()], no_sync).await?;
    let mut measured = Measurements::default();
    let mut prepared = Prepared { waiting: logins_of(people, own_password, ""), codes: logins_of(people, |_| String::new(), CODES) };
    let load = Load { seconds, parallel, limit, datagram };
    for _ in 0..rounds {
        load.without_records(&mut measured, &mut prepared).await.map_err(failed)?;
        load.of_the_service(&mut measured, &mut prepared, &world).await.map_err(failed)?;
    }
    world.running.stop(Duration::from_secs(5)).await;
    // What lies seconds apart may differ by a factor of two for reasons outside: only ratios within a round mean anything.
    let shares = Shares {
        code_only_to_no_records: ratio(&measured.code_only, &measured.bare_codes),
        traces_cost_code_only: 1.0 - ratio(&measured.code_only, &measured.untraced_codes),
        traces_cost_password_and_code: 1.0 - ratio(&measured.whole, &measured.untraced),
    };
    let base = median(&measured.echo).0;
    let all = [
        ("udp echo", &measured.echo),
        ("packet path alone", &measured.bare),
        ("code only, no records", &measured.bare_codes),
        ("code only", &measured.code_only),
        ("code only, no traces", &measured.untraced_codes),
        ("password and code", &measured.whole),
        ("password and code, no traces", &measured.untraced),
        ("the same, 4 in flight", &measured.calm),
    ]
    .map(|(server, measured)| figures(server, measured, base));
    if global.json {
        output::json(&Report { servers: &all, shares })
    } else {
        print(&all, &shares, parallel, rounds, no_sync)
    }
    Ok(ExitCode::from(u8::from(all.iter().any(|figures| figures.rate == 0.0))))
}

/// What each round has measured.
#[derive(Debug, Default)]
struct Measurements {
    echo: Vec<Measured>,
    bare: Vec<Measured>,
    bare_codes: Vec<Measured>,
    code_only: Vec<Measured>,
    untraced_codes: Vec<Measured>,
    whole: Vec<Measured>,
    untraced: Vec<Measured>,
    calm: Vec<Measured>,
}

/// Logins that are prepared and not sent yet: each code counts once.
struct Prepared {
    waiting: Vec<LoadLogin>,
    codes: Vec<LoadLogin>,
}

/// How much is sent, and how.
struct Load {
    seconds: u64,
    parallel: usize,
    limit: Duration,
    datagram: Vec<u8>,
}

impl Load {
    /// Echo, the packet path alone, and logins whose codes no records keep.
    async fn without_records(&self, measured: &mut Measurements, prepared: &mut Prepared) -> Result<(), String> {
        let text = |error: std::io::Error| error.to_string();
        let (parallel, limit) = (self.parallel, self.limit);
        let server = Bare::start(echo_back).map_err(text)?;
        measured.echo.push(datagrams(server.address, &self.datagram, parallel, limit).await.map_err(text)?);
        drop(server);
        let path = PacketPath::new();
        let server = Bare::start(move |datagram, sender| path.answer(datagram, sender)).map_err(text)?;
        measured.bare.push(datagrams(server.address, &self.datagram, parallel, limit).await.map_err(text)?);
        drop(server);
        let path = PacketPath::with_codes();
        let server = Bare::start(move |datagram, sender| path.answer(datagram, sender)).map_err(text)?;
        // Without records no code is ever used up: the same few may come again and again.
        let count = (PREPARED * self.seconds) as usize / 2;
        let step = (count / 1000).max(1);
        let few: Vec<LoadLogin> = prepared.codes.iter().take(count).step_by(step).cloned().collect();
        let again = few.iter().cycle().take((BARE_PREPARED * self.seconds) as usize).cloned().collect();
        let secret = SharedSecret::new(SECRET.as_bytes());
        let seen = logins(LOCAL, server.address, &secret, again, parallel, limit, None).await;
        measured.bare_codes.push(seen.map_err(|error| error.to_string())?);
        Ok(())
    }

    /// The service itself. One half with traces written down and one without, right after each other: only their ratio means anything.
    async fn of_the_service(&self, measured: &mut Measurements, prepared: &mut Prepared, world: &World) -> Result<(), String> {
        let secret = SharedSecret::new(SECRET.as_bytes());
        let measure = async |batch, parallel| {
            logins(LOCAL, world.radius, &secret, batch, parallel, self.limit, None).await.map_err(|error| error.to_string())
        };
        let halves = |mut batch: Vec<LoadLogin>| {
            let count = batch.len() / 2;
            (take_first(&mut batch, count), batch)
        };
        let count = (PREPARED * self.seconds) as usize;
        let (traced, untraced) = halves(take_first(&mut prepared.codes, count));
        measured.code_only.push(measure(traced, self.parallel).await?);
        world.running.write_traces(false);
        measured.untraced_codes.push(measure(untraced, self.parallel).await?);
        world.running.write_traces(true);
        let (few, batch) = split(take_first(&mut prepared.waiting, count));
        let (traced, untraced) = halves(batch);
        measured.whole.push(measure(traced, self.parallel).await?);
        world.running.write_traces(false);
        measured.untraced.push(measure(untraced, self.parallel).await?);
        world.running.write_traces(true);
        measured.calm.push(measure(few, CALM).await?);
        Ok(())
    }
}

fn print(all: &[Figures], shares: &Shares, parallel: usize, rounds: u64, no_sync: bool) {
    let mut table = output::table(&["server", "answers/s", "to echo", "p50", "p99", "not accepted"]);
    for figures in all {
        let ratio = format!("{:.2}", figures.to_echo);
        let (p50, p99) = (output::took(figures.p50_us), output::took(figures.p99_us));
        table.add_row([figures.server.to_owned(), format!("{:.0}", figures.rate), ratio, p50, p99, figures.failed.to_string()]);
    }
    output::print_table(&table);
    let share = shares.code_only_to_no_records;
    output::line(format!("\ncode only, with used codes durable and traces kept: {share:.2} of the same without records"));
    for (kind, cost) in [("code only", shares.traces_cost_code_only), ("password and code", shares.traces_cost_password_and_code)] {
        output::line(format!("{kind}: keeping traces costs {:.0} % of the logins a second", cost * 100.0));
    }
    output::line(format!("traces that could not be kept: {}", dropped_traces()));
    let sync = if no_sync { "without waiting for the disk" } else { "each commit on the disk" };
    output::line(format!(
        "{parallel} in flight, median of {rounds} alternating rounds, shares within each; records {sync}; load, service and directory share \
         this machine"
    ));
}

/// The logins of one round, for a few and for many in flight.
fn split(mut batch: Vec<LoadLogin>) -> (Vec<LoadLogin>, Vec<LoadLogin>) {
    let few = batch.split_off(batch.len() * 2 / 3);
    (few, batch)
}

/// From the service's own figures.
fn dropped_traces() -> u64 {
    let figures = bivector_service::figures();
    let line = figures.lines().find_map(|line| line.strip_prefix("bivector_traces_dropped_total "));
    line.and_then(|count| count.parse().ok()).unwrap_or(0)
}

fn median(measured: &[Measured]) -> (f64, usize) {
    let mut order: Vec<(f64, usize)> = measured.iter().enumerate().map(|(index, measured)| (measured.rate(), index)).collect();
    order.sort_by(|a, b| a.0.total_cmp(&b.0));
    order.get(order.len() / 2).copied().unwrap_or((0.0, 0))
}

/// The median of what each round says of the two.
fn ratio(one: &[Measured], other: &[Measured]) -> f64 {
    let mut ratios: Vec<f64> = one.iter().zip(other).map(|(one, other)| one.rate() / other.rate().max(1.0)).collect();
    ratios.sort_by(f64::total_cmp);
    ratios.get(ratios.len() / 2).copied().unwrap_or(0.0)
}

fn figures(server: &'static str, measured: &[Measured], echo: f64) -> Figures {
    let (rate, index) = median(measured);
    let latency = measured.get(index).map(|measured| (measured.latency.value_at_quantile(0.5), measured.latency.value_at_quantile(0.99)));
    let (p50_us, p99_us) = latency.unwrap_or_default();
    Figures { server, rate, to_echo: rate / echo.max(1.0), p50_us, p99_us, failed: measured.iter().map(|measured| measured.bad).sum() }
}

/// A server of one thread that answers each datagram as `answer` says.
struct Bare {
    address: SocketAddr,
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Bare {
    fn start(mut answer: impl FnMut(&[u8], SocketAddr) -> Option<Vec<u8>> + Send + 'static) -> std::io::Result<Self> {
        let socket = UdpSocket::bind((LOCAL, 0))?;
        // As much as the service has: a packet that is lost costs the asker two seconds.
        socket2::SockRef::from(&socket).set_recv_buffer_size(RECEIVE_BUFFER)?;
        socket.set_read_timeout(Some(Duration::from_millis(50)))?;
        let address = socket.local_addr()?;
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = Arc::clone(&stop);
        let thread = std::thread::Builder::new().name("bare".into()).spawn(move || {
            let mut buffer = [0; bivector_wire::MAX_PACKET];
            while !stopped.load(Ordering::Relaxed) {
                if let Ok((length, sender)) = socket.recv_from(&mut buffer)
                    && let Some(reply) = answer(&buffer[..length], sender)
                {
                    // A lost answer is seen by the asker.
                    let _ = socket.send_to(&reply, sender);
                }
            }
        })?;
        Ok(Bare { address, stop, thread: Some(thread) })
    }
}

impl Drop for Bare {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn echo_back(datagram: &[u8], _: SocketAddr) -> Option<Vec<u8>> {
    Some(datagram.to_vec())
}

/// Parse, verify, decide, sign: the real login machine, with facts that are always right and no records.
struct PacketPath {
    site: Arc<Site>,
    secret: SharedSecret,
    codes: bool,
}

impl PacketPath {
    /// The same cryptography as a code-only chain: each person's code is reckoned and compared.
    fn with_codes() -> Self {
        let (site, _) = Site::read(&site_text(&[SocketAddr::new(LOCAL, 1)], "[\"tidehall\"]"), &Known::default());
        let site = Arc::new(site.expect("the site of this measurement is sound"));
        PacketPath { site, secret: SharedSecret::new(SECRET.as_bytes()), codes: true }
    }

    fn new() -> Self {
        let text = site_text(&[SocketAddr::new(LOCAL, 1)], "[\"roster\"]")
            .replace(CODE_CHAIN, "")
            .replace("second = [\"totp\"]", "second = []")
            .replace("\"password code(6)\"", "\"password\"");
        let (site, _) = Site::read(&text, &Known::default());
        let site = Arc::new(site.expect("the site of this measurement is sound"));
        PacketPath { site, secret: SharedSecret::new(SECRET.as_bytes()), codes: false }
    }

    fn answer(&self, datagram: &[u8], sender: SocketAddr) -> Option<Vec<u8>> {
        let packet = Packet::parse(datagram).ok()?;
        let authentic = authenticate(packet, &self.secret, IntegrityPolicy::Required).ok()?;
        let arrival = Arrival { gateway: 0, sender, port: 0, origin: Origin::Gateway, secret_proved: false };
        let request = radius::read(&authentic, &self.secret, arrival);
        let now = if self.codes { Moment::from_secs(seconds_now()) } else { Moment::from_secs(1_800_000_000) };
        let mut login = Login::begin(Arc::clone(&self.site), request, String::new(), 1, now);
        while let Next::Ask(need) = login.next() {
            login.learn(canned(&need), now);
        }
        let (verdict, mut trace) = login.finish(Resends::default(), now);
        let accepted = matches!(verdict, Verdict::Accept(_));
        accepted.then(|| Reply::to(&authentic).encode(&verdict, &mut trace, &self.secret, || [0; 16])).flatten()
    }
}

fn canned(need: &Need) -> Fact {
    match need {
        Need::FindPerson { name, .. } => {
            let groups = Groups::new(["load"]);
            let found =
                Found { key: name.clone(), login: name.clone(), name: name.clone(), handle: name.clone(), groups, ..Found::default() };
            Fact::Person(Answer::ours(PersonAnswer::Found(Arc::new(found))))
        }
        Need::Factors { person, .. } => {
            let number = person.trim_start_matches("load").parse().unwrap_or(0);
            let device = Device::by_time(0, "", Secret::new(seed(number).into_bytes()), Settings::default());
            Fact::Factors(FactorsAnswer::Known(Box::new(Factors { devices: vec![device], ..Factors::default() })))
        }
        Need::CheckPassword { .. } => Fact::Password(Answer::ours(PasswordAnswer::Right)),
        Need::BeginGuess(_) => Fact::Guess(GuessAnswer::MayTry),
        Need::EndGuess { .. } => Fact::GuessEnded(GuessCount::default()),
        Need::MarkCode(_) => Fact::Mark(MarkAnswer::Marked),
        // The site that is measured asks for none of these; a fact that does not fit ends the login, and the figures show it.
        _ => Fact::Mark(MarkAnswer::Marked),
    }
}

/// The whole service with its directory.
struct World {
    running: Running,
    radius: SocketAddr,
    _folder: TempDir,
}

/// Suffix of the directories that are measured.
const BASE: &str = "dc=northmoor,dc=example";
/// Connections for checking passwords, per server.
const CONNECTIONS: usize = 32;

fn service_account() -> ServiceAccount {
    ServiceAccount { dn: format!("cn=bivector,ou=services,{BASE}"), password: SECRET.into() }
}

fn site_text(directories: &[SocketAddr], first: &str) -> String {
    let servers = directories.iter().map(|directory| format!("\"ldap://{directory}\"")).collect::<Vec<_>>().join(", ");
    format!(
        "format = 1\nname = \"Load\"\n[doors.radius]\nlisten = [\"127.0.0.1:0\"]\n[factors.totp]\nwindow = 10\ndrift = 0\n\
         [[gateways]]\nname = \"load\"\nfrom = [\"127.0.0.0/8\"]\nsecret = \"gateway/load\"\n\
         [[directories]]\nname = \"tidehall\"\nservers = [{servers}]\nbase = \"ou=people,dc=northmoor,dc=example\"\n\
         reader = {{ dn = \"cn=bivector,ou=services,dc=northmoor,dc=example\", secret = \"directory/load\" }}\nconnections = {CONNECTIONS}\n\
         {CODE_CHAIN}[[chains]]\nname = \"load\"\ngateways = [\"load\"]\nforms = [\"password code(6)\"]\nfirst = {first}\nsecond = [\"totp\"]\n\
         [[rules]]\nname = \"all\"\nchain = \"load\"\ngrant = \"load\"\n[[grants]]\nname = \"load\"\nreply = [{{ attribute = \"Class\", text = \"load\" }}]\n"
    )
}

fn seed(person: usize) -> String {
    format!("load person {person:08}")
}

impl World {
    async fn start(people: usize, directories: &[SocketAddr], no_sync: bool) -> Result<Self, Failure> {
        let failed = |error: String| Failure::no(error, "check this machine's resource limits");
        let folder = tempfile::tempdir().map_err(|error| failed(error.to_string()))?;
        let any = SocketAddr::new(LOCAL, 0);
        let sync = if no_sync { Sync::Off } else { Sync::Full };
        let running = start(Options { sync, ..Options::new(folder.path().to_owned(), any) }).await?;
        let token = output::read_hidden(Some(&folder.path().join(TOKEN_FILE)), "")?;
        let client = Client::to(format!("http://{}", running.http), token);
        for name in ["gateway/load", "directory/load"] {
            client.ask::<_, ()>(Method::PUT, "/secrets", &[], Some(&serde_json::json!({ "name": name, "value": SECRET }))).await?;
        }
        let request = ApplyRequest { text: site_text(directories, "[\"tidehall\"]"), ..ApplyRequest::default() };
        client.ask::<_, AppliedView>(Method::POST, "/site/revisions", &[], Some(&request)).await?;
        for first in (0..people).step_by(IMPORTED_AT_ONCE) {
            let csv = (first..people.min(first + IMPORTED_AT_ONCE)).fold("login,source,totp_seed\n".to_owned(), |csv, person| {
                let seed = data_encoding::BASE32_NOPAD.encode(seed(person).as_bytes());
                csv + format!("load{person:05},tidehall,{seed}\nload{person:05},roster,{seed}\n").as_str()
            });
            client.ask::<_, Imported>(Method::POST, "/people/import", &[], Some(&serde_json::json!({ "csv": csv }))).await?;
        }
        let radius = running.radius().await.first().copied().ok_or_else(|| failed("no door is open".into()))?;
        Ok(World { running, radius, _folder: folder })
    }
}

fn seconds_now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs()
}

/// Takes so many logins off the front: a person's codes count in their order only.
fn take_first(waiting: &mut Vec<LoadLogin>, count: usize) -> Vec<LoadLogin> {
    let rest = waiting.split_off(count.min(waiting.len()));
    std::mem::replace(waiting, rest)
}

/// How many people take turns: far more than are in flight, so that nobody's next code overtakes the one before.
const TURNS: usize = 2_000;

/// Every code of a few steps of everybody, each once and each person's in their order. Each part of them costs as much as any other: some
/// people type all their codes before others begin.
fn logins_of(people: usize, password: fn(usize) -> String, suffix: &str) -> Vec<LoadLogin> {
    let step = seconds_now() / 30;
    let seeds: Vec<String> = (0..people).map(seed).collect();
    let mut order: Vec<usize> = (0..people).collect();
    order.shuffle(&mut SmallRng::seed_from_u64(1));
    let login = |person: usize, offset: i64| LoadLogin {
        name: format!("load{person:05}{suffix}"),
        password: password(person) + code(seeds[person].as_bytes(), step.wrapping_add_signed(offset), Settings::default()).as_str(),
    };
    let turns = |turn: &[usize]| (-STEPS..=STEPS).flat_map(|offset| turn.iter().map(move |person| (*person, offset))).collect::<Vec<_>>();
    order.chunks(TURNS).flat_map(turns).map(|(person, offset)| login(person, offset)).collect()
}

fn own_password(person: usize) -> String {
    format!("pw-{person}-")
}

fn directory_person(person: usize) -> DirectoryPerson {
    DirectoryPerson {
        uid: format!("load{person:05}"),
        name: format!("Load {person}"),
        password: own_password(person),
        groups: vec!["load".into()],
        state: Default::default(),
        mail: None,
        mobile: None,
        language: None,
    }
}
