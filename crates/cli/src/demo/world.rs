//! The demo's world: two directory servers, the service, gateways; set up through the API as an operator would.

use super::codes::Codes;
use super::{DIRECTORY, EAP, PEOPLE, REHEARSALS, SECRETS, SESSIONS, SITE, UPSTREAM};
use crate::arguments::Demo;
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output::read_hidden;
use bivector_api::people::Imported;
use bivector_api::people::Made;
use bivector_api::people::{ConfirmRequest, InviteRequest, PersonView, Released};
use bivector_api::runs::{RehearsalView, RunRequest};
use bivector_api::site::Revision;
use bivector_api::site::{AppliedView, ApplyRequest};
use bivector_api::status::Status;
use bivector_exchange::{Patience, Request};
use bivector_explain::run::{Run, RunState};
use bivector_lab::badges;
use bivector_lab::certificates::LabIssuer;
use bivector_lab::courier::{CourierHabits, StandInCourier};
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use bivector_lab::gateway::SimulatedGateway;
use bivector_lab::handset::{HandsetError, RobotHandset};
use bivector_lab::online::{OnlineGateway, Requests};
use bivector_lab::push::{PushHabits, RobotSubscription, StandInPush};
use bivector_lab::upstream::{Habits, StandInUpstream};
use bivector_service::TOKEN_FILE;
use bivector_service::{Options, Running, start};
use bivector_wire::{AttributeType, Code, SharedSecret};
use reqwest::Method;
use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tempfile::TempDir;

/// What a directory server of the demo takes for an answer: about what a real one does on a small network.
const DIRECTORY_DELAY: Duration = Duration::from_millis(3);
/// Where the quay's gateway takes requests, as the site says.
const DYNAMIC: u16 = 18_799;
const STOP_LIMIT: Duration = Duration::from_secs(5);

/// Everything that runs.
pub(crate) struct World {
    pub(crate) client: Client,
    pub(crate) codes: Codes,
    pub(crate) passwords: BTreeMap<String, String>,
    running: Running,
    radius: SocketAddr,
    secrets: BTreeMap<String, String>,
    first_directory: Option<StandInDirectory>,
    first_address: SocketAddr,
    _second_directory: StandInDirectory,
    _upstream: StandInUpstream,
    pub(crate) courier: StandInCourier,
    /// Robot handsets, by login name, each with its subscription at the push service.
    pub(crate) handsets: BTreeMap<String, (RobotHandset, RobotSubscription)>,
    _push: StandInPush,
    hardware: HashMap<String, String>,
    data: PathBuf,
    token: String,
    contents: DirectoryData,
    tls: Protection,
    /// The quay's gateway with its sessions.
    online: Option<(Arc<OnlineGateway>, Requests)>,
    /// Removed when the demo ends.
    _folder: Option<TempDir>,
}

impl World {
    /// Starts everything and sets it up.
    pub(crate) async fn start(demo: &Demo) -> Result<Self, Failure> {
        let failed = |error: std::io::Error| Failure::no(format!("no temporary folder: {error}"), "name a folder with `--data`");
        let folder =
            if demo.data.is_none() { Some(tempfile::Builder::new().prefix("bivector-demo-").tempdir().map_err(failed)?) } else { None };
        let data = demo.data.clone().or(folder.as_ref().map(|folder| folder.path().to_owned())).unwrap_or_default();
        let contents = DirectoryData::parse(DIRECTORY).map_err(|error| Failure::no(error.to_string(), ""))?;
        let running = start(Options::new(data.clone(), demo.http)).await?;
        let (first_directory, second_directory, tls) = start_directories(demo.directory, &contents, &data).await?;
        let token = read_hidden(Some(&data.join(TOKEN_FILE)), "")?;
        let client = Client::to(format!("http://{}", running.http), token.clone());
        client.wait(Duration::from_secs(5)).await?;
        let mut secrets: BTreeMap<String, String> = toml::from_str(SECRETS).map_err(|error| Failure::no(error.to_string(), ""))?;
        // A demo that goes on with its own data has its certificates, and the badges are sealed.
        if !data.join("eap.pem").exists() {
            let badges = badges::issue(&data).map_err(|error| Failure::no(error.to_string(), "name another folder with `--data`"))?;
            secrets.extend(badges);
        }
        let servers = [first_directory.address(), second_directory.address()];
        let hardware: HashMap<String, String> = toml::from_str(UPSTREAM).map_err(|error| Failure::no(error.to_string(), ""))?;
        let upstream = start_upstream(&secrets, &hardware).await?;
        let courier = start_courier().await?;
        let push = start_push().await?;
        set_up(&client, &secrets, &site_text(demo.radius, running.http, &servers, upstream.address(), &courier, &push)).await?;
        let handsets = enrol_handsets(&client, &format!("http://{}", running.http), &push).await?;
        let radius = running.radius().await.first().copied().ok_or_else(|| Failure::no("no door is open", ""))?;
        let passwords = contents.people.iter().map(|person| (person.uid.clone(), person.password.clone())).collect();
        Ok(World {
            client,
            codes: Codes::new(PEOPLE),
            passwords,
            running,
            radius,
            secrets,
            first_address: first_directory.address(),
            first_directory: Some(first_directory),
            _second_directory: second_directory,
            _upstream: upstream,
            courier,
            handsets,
            _push: push,
            hardware,
            data,
            token: token.expose().clone(),
            contents,
            tls,
            online: None,
            _folder: folder,
        })
    }

    /// Whether a login name is somebody's here.
    pub(crate) fn knows(&self, login: &str) -> bool {
        self.passwords.contains_key(login) || self.codes.has(login)
    }

    /// What somebody's hardware shows: made up, and always the same.
    pub(crate) fn hardware_code(&self, login: &str) -> &str {
        self.hardware.get(login).map_or("000000", String::as_str)
    }

    /// A gateway of the site as it would be on the network.
    pub(crate) fn gateway(&self, name: &str) -> SimulatedGateway {
        let from: [u8; 4] = match name {
            "breakwater" => [127, 0, 0, 11],
            "lantern" => [127, 0, 0, 12],
            "slipway" => [127, 0, 0, 13],
            "causeway" => [127, 0, 0, 14],
            "quay" => [127, 0, 0, 15],
            // The bastion host, sending from an address that nobody has registered.
            _ => [127, 0, 0, 99],
        };
        let name = if name == "elsewhere" { "slipway" } else { name };
        let secret = self.secrets.get(&format!("gateway/{name}")).map_or("", String::as_str);
        SimulatedGateway {
            name: name.to_owned(),
            from: IpAddr::from(from),
            server: self.radius,
            secret: SharedSecret::new(secret.as_bytes()),
            patience: Patience { wait: Duration::from_secs(5), tries: 2 },
        }
    }

    /// The quay's gateway begins a session for each of a few people who sit there, and takes requests to end them.
    pub(crate) async fn begin_sessions(&mut self) -> Result<(), Failure> {
        let no = |error: String| Failure::no(format!("the quay's gateway: {error}"), "");
        let doors: Status = self.client.get("/status", &[]).await?;
        let Some(accounting) = doors.accounting.first().and_then(|door| door.parse().ok()) else { return Ok(()) };
        let device = self.gateway("quay");
        let (from, secret) = (device.from, device.secret.clone());
        let gateway = OnlineGateway::new(device.clone(), accounting);
        let taking = gateway.take_requests(SocketAddr::new(from, DYNAMIC), secret).await.map_err(|error| no(error.to_string()))?;
        gateway.restart().await.map_err(|error| no(error.to_string()))?;
        for (number, login) in ["tomasz", "yuki", "ines", "pell"].into_iter().enumerate() {
            let caller = format!("203.0.113.{}", 9 + number);
            let mut request = device.sign(Request::login(login, self.passwords.get(login).map_or("", String::as_str).as_bytes()));
            request.message.push(AttributeType::CallingStationId, caller.as_bytes());
            let (exchange, _) = device.send(&request).await.map_err(|error| no(error.to_string()))?;
            let Some(reply) = exchange.reply.filter(|reply| reply.code == Code::AccessAccept) else { continue };
            let address = Ipv4Addr::new(203, 0, 113, 200 + number as u8);
            let id = format!("quay-{number}");
            gateway.begin(&id, login, &reply, address, &caller).await.map_err(|error| no(error.to_string()))?;
        }
        self.online = Some((gateway, taking.1));
        Ok(())
    }

    /// Traffic passes in the quay's sessions.
    pub(crate) async fn go_on_with_sessions(&self, turn: u64) {
        if let Some((gateway, _)) = &self.online
            && let Err(error) = gateway.interim((40_000 + turn * 700, 900_000 + turn * 13_000)).await
        {
            tracing::debug!(%error, "a report of the quay could not be sent");
        }
    }

    /// Ends the first directory server, as if it had died.
    pub(crate) async fn stop_first_directory(&mut self) {
        if let Some(directory) = self.first_directory.take() {
            self.first_address = directory.address();
            directory.stop().await;
        }
    }

    /// Brings the first directory server back where it was.
    pub(crate) async fn restart_first_directory(&mut self) -> Result<(), Failure> {
        if self.first_directory.is_none() {
            let again = StandInDirectory::start(self.first_address, &self.contents, self.tls.clone(), DIRECTORY_DELAY).await;
            self.first_directory = Some(again.map_err(|error| Failure::no(format!("the directory did not come back: {error}"), ""))?);
        }
        Ok(())
    }

    /// Runs the site's rehearsals, with all directory servers back.
    pub(crate) async fn rehearse(&mut self) -> Result<Vec<Run>, Failure> {
        self.restart_first_directory().await?;
        let mut runs = Vec::new();
        let rehearsals: Vec<RehearsalView> = self.client.get("/rehearsals", &[]).await?;
        for rehearsal in rehearsals {
            let path = format!("/rehearsals/{}/runs", encode(&rehearsal.name));
            let mut run: Run = self.client.ask(Method::POST, &path, &[], Some(&RunRequest::default())).await?;
            while run.state == RunState::Running {
                tokio::time::sleep(Duration::from_millis(50)).await;
                run = self.client.get(&format!("/runs/{}", run.id), &[]).await?;
            }
            runs.push(run);
        }
        Ok(runs)
    }

    pub(crate) fn server(&self) -> String {
        format!("http://{}", self.running.http)
    }

    /// Where a phone on this machine would look: security keys want a name.
    pub(crate) fn handset_page(&self) -> String {
        format!("http://localhost:{}/handset", self.running.http.port())
    }

    pub(crate) fn token_file(&self) -> PathBuf {
        self.data.join(TOKEN_FILE)
    }

    pub(crate) fn radius(&self) -> SocketAddr {
        self.radius
    }

    pub(crate) fn code_now(&self, login: &str) -> String {
        self.codes.now(login)
    }

    /// Opens the console signed in. What stands behind `#` is never sent over the network.
    pub(crate) fn console_link(&self) -> String {
        format!("{}/#token={}", self.server(), self.token)
    }

    pub(crate) async fn stop(self) {
        self.running.stop(STOP_LIMIT).await;
    }
}

async fn start_directories(
    first: SocketAddr,
    contents: &DirectoryData,
    data: &Path,
) -> Result<(StandInDirectory, StandInDirectory, Protection), Failure> {
    let no = |error: String| Failure::no(error, "choose another address with `--directory`");
    let issuer = LabIssuer::new("Northmoor demo issuer").map_err(|error| no(error.to_string()))?;
    let tls = issuer.server(&["localhost", "127.0.0.1", "::1", "dir1.northmoor.example"]).map_err(|error| no(error.to_string()))?;
    let trust = data.join("tidehall-ca.pem");
    std::fs::write(&trust, issuer.pem())
        .map_err(|error| Failure::no(format!("`{}` cannot be written: {error}", trust.display()), "name another folder with `--data`"))?;
    let second = SocketAddr::new(first.ip(), if first.port() == 0 { 0 } else { first.port().saturating_add(1) });
    let protection = Protection::Tls(tls);
    let mut started = Vec::new();
    for address in [first, second] {
        let failed = |error| no(format!("the directory cannot listen on {address}: {error}{}", held_by(address)));
        started.push(StandInDirectory::start(address, contents, protection.clone(), DIRECTORY_DELAY).await.map_err(failed)?);
    }
    let (Some(second), Some(first)) = (started.pop(), started.pop()) else { return Err(no("two directory servers are needed".into())) };
    Ok((first, second, protection))
}

/// The old server that checks hardware codes, on any free port.
async fn start_upstream(secrets: &BTreeMap<String, String>, hardware: &HashMap<String, String>) -> Result<StandInUpstream, Failure> {
    let secret = secrets.get("upstream/harbourlight").map_or("", String::as_str);
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    StandInUpstream::start(any, secret.as_bytes(), hardware.clone(), Habits::default())
        .await
        .map_err(|error| Failure::no(format!("the upstream cannot listen: {error}"), "look at the loopback addresses of this machine"))
}

/// The receivers of codes, on any free ports.
async fn start_courier() -> Result<StandInCourier, Failure> {
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    StandInCourier::start(any, any, CourierHabits::default()).await.map_err(|error| {
        Failure::no(format!("the receivers of codes cannot listen: {error}"), "look at the loopback addresses of this machine")
    })
}

/// The push service, on any free port.
async fn start_push() -> Result<StandInPush, Failure> {
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    StandInPush::start(any, PushHabits::default())
        .await
        .map_err(|error| Failure::no(format!("the push service cannot listen: {error}"), "look at the loopback addresses of this machine"))
}

/// The port for reports of sessions beside the one for logins.
fn reports_of(radius: SocketAddr) -> u16 {
    if radius.port() == 0 { 0 } else { radius.port().wrapping_add(1) }
}

fn held_by(address: SocketAddr) -> String {
    bivector_service::who_holds("tcp", address).map(|who| format!("; it is held by {who}")).unwrap_or_default()
}

/// The demo's site file with the addresses of this run.
fn site_text(
    radius: SocketAddr,
    http: SocketAddr,
    directories: &[SocketAddr; 2],
    upstream: SocketAddr,
    courier: &StandInCourier,
    push: &StandInPush,
) -> String {
    let listen = if radius.ip() == IpAddr::from([127, 0, 0, 1]) && radius.port() != 0 {
        format!("\"{radius}\", \"[::1]:{}\"", radius.port())
    } else {
        format!("\"{radius}\"")
    };
    let text = format!("{SITE}\n{REHEARSALS}\n{EAP}\n{SESSIONS}");
    let accounting = format!("[doors.radius]\naccounting = [\"{}\"]", SocketAddr::new(radius.ip(), reports_of(radius)));
    text.replacen("[doors.radius]", &accounting, 1)
        .replacen("\"127.0.0.1:18120\", \"[::1]:18120\"", &listen, 1)
        .replacen("http://localhost:18080", &format!("http://localhost:{}", http.port()), 1)
        .replacen("127.0.0.1:18636", &directories[0].to_string(), 1)
        .replacen("127.0.0.1:18637", &directories[1].to_string(), 1)
        .replacen("127.0.0.1:18199", &upstream.to_string(), 1)
        .replacen("http://127.0.0.1:18490", &push.origin(), 1)
        .replacen("127.0.0.1:18480", &courier.http().to_string(), 1)
        .replacen("127.0.0.1:18025", &courier.smtp().to_string(), 1)
}

/// Ines and Yuki have handsets, which an operator has confirmed and which push wakes; Odo has an open invitation. A demo that goes on with its own data
/// enrols new ones: the keys of the old ones are gone.
async fn enrol_handsets(
    client: &Client,
    server: &str,
    push: &StandInPush,
) -> Result<BTreeMap<String, (RobotHandset, RobotSubscription)>, Failure> {
    let no = |error: HandsetError| Failure::no(format!("a simulated handset: {error}"), "");
    let invite = async |login: &str| -> Result<Made, Failure> {
        client.ask(Method::POST, &format!("/people/tidehall/{login}/invitation"), &[], Some(&InviteRequest::default())).await
    };
    let mut handsets = BTreeMap::new();
    for login in ["ines", "yuki"] {
        let known: PersonView = person(client, login).await?;
        for old in known.factors.iter().filter(|factor| factor.kind == "handset") {
            let path = format!("/people/tidehall/{login}/factors/{}", old.id);
            client.ask::<(), PersonView>(Method::DELETE, &path, &[], None).await?;
        }
        client.ask::<(), Released>(Method::POST, &format!("/people/tidehall/{login}/release"), &[], None).await?;
        let made = invite(login).await?;
        let mut handset = RobotHandset::enrol(&reqwest::Client::new(), server, &made.code, "phone").await.map_err(no)?;
        let path = format!("/people/tidehall/{login}/factors/{}/confirm", handset.device);
        let reference = handset.reference.clone().unwrap_or_default();
        client.ask::<_, PersonView>(Method::POST, &path, &[], Some(&ConfirmRequest { reference })).await?;
        handset.begin().await.map_err(no)?;
        let subscription = handset.subscribe(push).await.map_err(no)?;
        handsets.insert(login.to_owned(), (handset, subscription));
    }
    invite("odo").await?;
    Ok(handsets)
}

async fn person(client: &Client, login: &str) -> Result<PersonView, Failure> {
    let known: Vec<PersonView> = client.get(&format!("/people/{login}"), &[]).await?;
    known.into_iter().next().ok_or_else(|| Failure::no(format!("{login} is not known"), ""))
}

/// What an operator does on the first day: seal, apply, import.
async fn set_up(client: &Client, secrets: &BTreeMap<String, String>, site: &str) -> Result<(), Failure> {
    for (name, value) in secrets {
        let body = serde_json::json!({ "name": name, "value": value });
        client.ask::<_, ()>(Method::PUT, "/secrets", &[], Some(&body)).await?;
    }
    let current = client.get::<Revision>("/site", &[]).await.ok().and_then(|revision| revision.text);
    if current.as_deref() != Some(site) {
        let request = ApplyRequest { text: site.to_owned(), note: "the demo's site".into(), ..ApplyRequest::default() };
        client.ask::<_, AppliedView>(Method::POST, "/site/revisions", &[], Some(&request)).await?;
    }
    let people = serde_json::json!({ "csv": PEOPLE });
    client.ask::<_, Imported>(Method::POST, "/people/import", &[], Some(&people)).await?;
    Ok(())
}
