//! A service of its own for each test: own data folder, own ports, ended with the test.

use bivector_exchange::Patience;
use bivector_lab::certificates::LabIssuer;
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use bivector_lab::gateway::SimulatedGateway;
use bivector_model::totp::{self, Settings};
use bivector_wire::{AttributeType, SharedSecret};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tempfile::TempDir;

pub(crate) const DIRECTORY: &str = include_str!("../../../../demo/directory.toml");
pub(crate) const PEOPLE: &str = include_str!("../../../../demo/people.csv");
pub(crate) const SITE: &str = include_str!("../../../../demo/site.toml");
pub(crate) const SECRET: &str = "breakwater-Kq7vX2mTz9";
const BIVECTOR: &str = env!("CARGO_BIN_EXE_bivector");

/// A client for plain HTTP; the library wants a provider for TLS all the same.
pub(crate) fn http_client() -> reqwest::Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::new()
}

/// A running `bivector serve`.
pub(crate) struct Service {
    child: Child,
    pub(crate) data: PathBuf,
    pub(crate) http: SocketAddr,
    pub(crate) token: String,
    pub(crate) log: Arc<Mutex<String>>,
    folder: Option<TempDir>,
}

impl Service {
    pub(crate) fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        let mut service = Service::start_in(&data, &[]);
        service.folder = Some(folder);
        service
    }

    /// Starts on an existing folder.
    pub(crate) fn start_in(data: &Path, more: &[&str]) -> Self {
        let mut command = Command::new(BIVECTOR);
        command.args(["serve", "--http", "127.0.0.1:0", "--data"]).arg(data).args(more);
        Self::spawn(command, data)
    }

    /// Starts on an existing folder, at the address where it was before.
    pub(crate) fn spawn_at(data: &Path, http: SocketAddr) -> Self {
        let mut command = Command::new(BIVECTOR);
        command.args(["serve", "--http", &http.to_string(), "--data"]).arg(data);
        Self::spawn(command, data)
    }

    pub(crate) fn spawn(mut command: Command, data: &Path) -> Self {
        let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let log = Arc::new(Mutex::new(String::new()));
        gather(child.stderr.take().unwrap(), Arc::clone(&log));
        let mut lines = BufReader::new(child.stdout.take().unwrap());
        let mut first = String::new();
        lines.read_line(&mut first).unwrap();
        let Some(http) = first.trim().rsplit("://").next().and_then(|address| address.parse().ok()) else {
            let _ = child.kill();
            let _ = child.wait();
            panic!("the service did not start: {}", log.lock().unwrap());
        };
        gather(lines, Arc::clone(&log));
        let token = std::fs::read_to_string(data.join("operator.token")).unwrap_or_default().trim().to_owned();
        Service { child, data: data.to_owned(), http, token, log, folder: None }
    }

    /// Ends it as a power cut would.
    pub(crate) fn kill(mut self) -> (PathBuf, Option<TempDir>) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        (self.data.clone(), self.folder.take())
    }

    /// Ends it politely and waits.
    pub(crate) fn terminate(&mut self) -> bool {
        Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status().unwrap();
        let until = Instant::now() + Duration::from_secs(10);
        while Instant::now() < until {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.success();
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        false
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Runs the command line against this service.
    pub(crate) fn cli(&self, arguments: &[&str]) -> Output {
        self.cli_with_input(arguments, "")
    }

    pub(crate) fn cli_with_input(&self, arguments: &[&str], input: &str) -> Output {
        let mut child = Command::new(BIVECTOR)
            .args(arguments)
            .env("BIVECTOR_SERVER", format!("http://{}", self.http))
            .env("BIVECTOR_TOKEN", &self.token)
            .env_remove("BIVECTOR_TOKEN_FILE")
            .env("HOME", "/nonexistent")
            .env("COLUMNS", "140")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    /// Standard output of a command that must go well.
    pub(crate) fn run(&self, arguments: &[&str]) -> String {
        let output = self.cli(arguments);
        assert!(output.status.success(), "{arguments:?}: {}{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    }

    /// A call of the API: status and body.
    pub(crate) async fn call(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        let method = reqwest::Method::from_bytes(method.as_bytes()).unwrap();
        let mut request = http_client().request(method, format!("http://{}/api/v1{path}", self.http)).bearer_auth(&self.token);
        if let Some(body) = body {
            request = request.json(&body);
        }
        let response = request.send().await.unwrap();
        let status = response.status().as_u16();
        (status, serde_json::from_slice(&response.bytes().await.unwrap()).unwrap_or(Value::Null))
    }

    pub(crate) async fn get(&self, path: &str) -> Value {
        let (status, body) = self.call("GET", path, None).await;
        assert_eq!(status, 200, "{path}: {body}");
        body
    }

    pub(crate) async fn seal(&self, name: &str, value: &str) {
        let (status, body) = self.call("PUT", "/secrets", Some(json!({ "name": name, "value": value }))).await;
        assert_eq!(status, 204, "{body}");
    }

    pub(crate) async fn apply(&self, text: &str) -> (u16, Value) {
        self.call("POST", "/site/revisions", Some(json!({ "text": text, "weaker_is_meant": true }))).await
    }

    pub(crate) async fn import(&self, csv: &str) {
        let (status, body) = self.call("POST", "/people/import", Some(json!({ "csv": csv }))).await;
        assert_eq!(status, 200, "{body}");
    }

    /// Where the first door listens.
    pub(crate) async fn radius(&self) -> SocketAddr {
        self.get("/status").await["radius"][0].as_str().unwrap().parse().unwrap()
    }

    /// The trace of the login that came from this address, once it is written.
    pub(crate) async fn trace_from(&self, sender: SocketAddr) -> Value {
        for _ in 0..200 {
            let rows = self.get("/traces?limit=100").await;
            let found = rows.as_array().unwrap().iter().find(|row| row["sender"] == sender.to_string().as_str()).cloned();
            if let Some(row) = found {
                return self.get(&format!("/traces/{}", row["reference"].as_str().unwrap())).await;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("no trace from {sender}");
    }

    /// The trace of a login once it waits for no answer any more.
    pub(crate) async fn ended(&self, reference: &str) -> Value {
        for _ in 0..400 {
            let trace = self.get(&format!("/traces/{reference}")).await;
            if trace["outcome"] != "challenged" {
                return trace;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("{reference} still waits");
    }

    /// The newest trace as it is listed, once there is one.
    pub(crate) async fn newest_trace(&self) -> Value {
        for _ in 0..200 {
            if let Some(row) = self.get("/traces?limit=1").await.get(0) {
                return row.clone();
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("no trace");
    }

    /// Whether the log has a text; what was just written may take a moment to be gathered.
    pub(crate) fn log_has(&self, wanted: &str) -> bool {
        let until = Instant::now() + Duration::from_secs(5);
        while !self.log().contains(wanted) && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(10));
        }
        self.log().contains(wanted)
    }

    /// The figures for Prometheus.
    #[allow(dead_code, reason = "for the test that runs by itself")]
    pub(crate) async fn figures(&self) -> String {
        http_client().get(format!("http://{}/metrics", self.http)).send().await.unwrap().text().await.unwrap()
    }

    pub(crate) fn log(&self) -> String {
        self.log.lock().unwrap().clone()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn gather(mut from: impl Read + Send + 'static, into: Arc<Mutex<String>>) {
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok(length @ 1..) = from.read(&mut buffer) {
            into.lock().unwrap().push_str(&String::from_utf8_lossy(&buffer[..length]));
        }
    });
}

pub(crate) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// The whole Northmoor chain with two stand-in directory servers.
pub(crate) struct Northmoor {
    pub(crate) service: Service,
    pub(crate) directories: Vec<StandInDirectory>,
    pub(crate) radius: SocketAddr,
    pub(crate) site: String,
}

/// How the stand-in directory is set up.
pub(crate) struct Setup<'s> {
    pub(crate) directory: &'s str,
    pub(crate) delay: Duration,
    /// Replacements in the site file.
    pub(crate) change: &'s [(&'s str, &'s str)],
}

impl Default for Setup<'_> {
    fn default() -> Self {
        Setup { directory: DIRECTORY, delay: Duration::ZERO, change: &[] }
    }
}

impl Northmoor {
    pub(crate) async fn start() -> Self {
        Self::with(Setup::default()).await
    }

    pub(crate) async fn with(setup: Setup<'_>) -> Self {
        let service = Service::start();
        let data = DirectoryData::parse(setup.directory).unwrap();
        let issuer = LabIssuer::new("test issuer").unwrap();
        std::fs::write(service.data.join("tidehall-ca.pem"), issuer.pem()).unwrap();
        let tls = issuer.server(&["127.0.0.1", "localhost"]).unwrap();
        let mut directories = Vec::new();
        for _ in 0..2 {
            let any = SocketAddr::from(([127, 0, 0, 1], 0));
            directories.push(StandInDirectory::start(any, &data, Protection::Tls(tls.clone()), setup.delay).await.unwrap());
        }
        let site = site_for(free_udp_port(), &[directories[0].address(), directories[1].address()], setup.change);
        seal_all(&service).await;
        let (status, body) = service.apply(&site).await;
        assert_eq!(status, 201, "{body}");
        service.import(PEOPLE).await;
        let radius = service.radius().await;
        Northmoor { service, directories, radius, site }
    }

    pub(crate) fn gateway(&self, name: &str) -> SimulatedGateway {
        gateway(name, self.radius)
    }

    /// Logs in through a gateway; gives the outcome as `accept`, `reject` or `silent`, and the trace.
    pub(crate) async fn log_in(&self, via: &str, name: &str, password: &str) -> (String, Value) {
        let (exchange, local) = self.gateway(via).log_in(name, password).await.unwrap();
        (outcome(&exchange), self.service.trace_from(local).await)
    }
}

/// Seals what the demo's site needs.
pub(crate) async fn seal_all(service: &Service) {
    for (name, value) in [
        ("gateway/breakwater", SECRET),
        ("gateway/lantern", "lantern-p4WsR8nYc3"),
        ("gateway/slipway", "slipway-H6tLd1bGf5"),
        ("directory/tidehall", "reads-the-tide-tables"),
        ("upstream/harbourlight", "harbourlight-Vb3kQ9"),
        ("courier/pager", "pager-Zt5nW8"),
    ] {
        service.seal(name, value).await;
    }
}

/// The demo's site with other addresses and changes. One door on IPv4 and one on IPv6.
pub(crate) fn site_for(port: u16, directories: &[SocketAddr; 2], change: &[(&str, &str)]) -> String {
    let text = SITE
        .replace("127.0.0.1:18120", &format!("127.0.0.1:{port}"))
        .replace("[::1]:18120", &format!("[::1]:{port}"))
        // Nobody listens there, unless a test says otherwise.
        .replace("127.0.0.1:18199", "127.0.0.1:1")
        .replace("127.0.0.1:18636", &directories[0].to_string())
        .replace("127.0.0.1:18637", &directories[1].to_string());
    change.iter().fold(text, |text, (from, to)| {
        assert!(text.contains(from), "the site has no {from}");
        text.replacen(from, to, 1)
    })
}

/// A port that is free on IPv4 and IPv6 now.
pub(crate) fn free_udp_port() -> u16 {
    loop {
        let socket = UdpSocket::bind(("127.0.0.1", 0)).unwrap();
        let port = socket.local_addr().unwrap().port();
        if UdpSocket::bind(("::1", port)).is_ok() {
            return port;
        }
    }
}

pub(crate) fn gateway(name: &str, server: SocketAddr) -> SimulatedGateway {
    let (from, secret) = match name {
        "breakwater" => ([127, 0, 0, 11], SECRET),
        "lantern" => ([127, 0, 0, 12], "lantern-p4WsR8nYc3"),
        "slipway" => ([127, 0, 0, 13], "slipway-H6tLd1bGf5"),
        other => panic!("no gateway {other}"),
    };
    SimulatedGateway {
        name: name.to_owned(),
        from: IpAddr::from(from),
        server,
        secret: SharedSecret::new(secret.as_bytes()),
        patience: Patience { wait: Duration::from_secs(8), tries: 1 },
    }
}

pub(crate) fn outcome(exchange: &bivector_exchange::Exchange) -> String {
    exchange.reply.as_ref().map_or("silent".to_owned(), |reply| match reply.code {
        bivector_wire::Code::AccessAccept => "accept".to_owned(),
        bivector_wire::Code::AccessReject => "reject".to_owned(),
        other => other.to_string(),
    })
}

/// The code of a demo person's token, some steps from now. One step from now stays right over the next change.
pub(crate) fn code(login: &str, offset: i64) -> String {
    let line = PEOPLE.lines().find(|line| line.starts_with(&format!("{login},"))).unwrap();
    code_at(line.split(',').nth(5).unwrap(), offset)
}

/// The code of a seed in Base32, now.
pub(crate) fn code_of(seed: &str) -> String {
    code_at(seed, 0)
}

fn code_at(seed: &str, offset: i64) -> String {
    let seed = data_encoding::BASE32_NOPAD.decode(seed.as_bytes()).unwrap();
    let step = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() / 30;
    totp::code(&seed, step.wrapping_add_signed(offset), Settings::default())
}

/// `barnacle-and-buoy` and the code of now.
pub(crate) fn ines() -> String {
    format!("barnacle-and-buoy{}", code("ines", 0))
}

/// The text of a prompt, or of a refusal.
pub(crate) fn prompt(exchange: &bivector_exchange::Exchange) -> String {
    let attributes = exchange.reply.iter().flat_map(|reply| &reply.attributes);
    let words: Vec<u8> = attributes.filter(|(kind, _)| *kind == AttributeType::ReplyMessage).flat_map(|(_, value)| value.clone()).collect();
    text(&words)
}
