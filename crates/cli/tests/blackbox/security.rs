//! What an attacker could try through the real doors: each test is an attack, and what keeps it from going through.

use super::harness::{Northmoor, PEOPLE, SECRET, Service, Setup, code, http_client, ines, outcome, site_for, text};
use bivector_exchange::{Exchange, Request};
use bivector_lab::handset::{Answers, RobotHandset};
use bivector_model::totp::{Settings, code as code_at};
use bivector_wire::{
    AttributeType, Code, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, Message, SharedSecret, chap_password, hide_password,
};
use futures_util::stream::{FuturesUnordered, StreamExt};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr, TcpStream, UdpSocket};
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

const PROMPTS: (&str, &str) = ("client_patience = \"60s\"", "shows_challenges = true");
const INES: &str = "barnacle-and-buoy";

async fn cause_of(world: &Northmoor, via: &str, name: &str, text: &str) -> String {
    let (seen, trace) = world.log_in(via, name, text).await;
    if seen == "accept" { seen } else { trace["cause"].as_str().unwrap_or(&seen).to_owned() }
}

/// A login from a device that the gateway names.
async fn from(world: &Northmoor, caller: &str, name: &str, password: &str) -> (Exchange, Value) {
    let mut request = Request::login(name, password.as_bytes());
    request.message.push(AttributeType::CallingStationId, caller.as_bytes());
    let (exchange, local) = world.gateway("breakwater").send(&request).await.unwrap();
    (exchange, world.service.trace_from(local).await)
}

pub(crate) fn client_from(address: &str) -> reqwest::Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder().local_address(address.parse::<IpAddr>().unwrap()).build().unwrap()
}

async fn suspend(world: &Northmoor, login: &str, suspended: bool) {
    let body = json!({ "suspended": suspended });
    let (status, body) = world.service.call("PUT", &format!("/people/tidehall/{login}/suspension"), Some(body)).await;
    assert!(status < 300, "{body}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_suspended_while_a_prompt_is_open_gets_in_by_no_answer_and_changes_nothing() {
    let data = super::harness::DIRECTORY.replacen("uid = \"tomasz\"", "uid = \"tomasz\"\nstate = \"expired\"", 1);
    let change = [PROMPTS, ("when_unclear = \"code\"", "when_unclear = \"code\"\nchange_password = true")];
    let world = Northmoor::with(Setup { directory: &data, change: &change, ..Setup::default() }).await;
    let gateway = world.gateway("breakwater");
    let tomasz = format!("ebb before flood{}", code("tomasz", 0));
    for (name, typed, answers) in [("ines", INES.to_owned(), vec![code("ines", 0)]), ("tomasz", tomasz, vec!["one-new-tide".to_owned(); 2])]
    {
        let (mut exchange, mut local) = gateway.log_in(name, &typed).await.unwrap();
        for (round, answer) in answers.iter().enumerate() {
            assert_eq!(outcome(&exchange), "Access-Challenge", "{:#}", world.service.trace_from(local).await);
            if round + 1 == answers.len() {
                suspend(&world, name, true).await;
            }
            (exchange, local) = gateway.answer(name, answer, &exchange).await.unwrap();
        }
        assert_eq!((outcome(&exchange).as_str(), &world.service.trace_from(local).await["cause"]), ("reject", &json!("person-suspended")));
        suspend(&world, name, false).await;
    }
    let next = format!("one-new-tide{}", code("tomasz", 1));
    assert_eq!(cause_of(&world, "breakwater", "tomasz", &next).await, "password-wrong", "the directory has kept the old password");
    assert_eq!(cause_of(&world, "breakwater", "ines", &format!("{INES}{}", code("ines", 1))).await, "accept");
}

fn owners_sign_in(service: &Service, password: &str) -> Vec<u8> {
    let output = service.cli_with_input(&["operator", "sign-in", "owner", "--password-file", "-"], &format!("{password}\n"));
    assert!(output.status.success(), "{}", text(&output.stderr));
    data_encoding::BASE32_NOPAD.decode(text(&output.stdout).lines().next().unwrap().as_bytes()).unwrap()
}

fn step() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() / 30
}

pub(crate) async fn sign_in(client: &reqwest::Client, service: &Service, body: &Value) -> (u16, String) {
    let response = client.post(format!("http://{}/api/v1/session", service.http)).json(body).send().await.unwrap();
    let cookie = response.headers().get("set-cookie").map(|cookie| cookie.to_str().unwrap().split(';').next().unwrap().to_owned());
    (response.status().as_u16(), cookie.unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread")]
async fn hundreds_of_console_codes_at_once_are_worth_no_more_than_a_few_and_bounded_in_memory() {
    let service = Service::start();
    let seed = owners_sign_in(&service, "slack-water-at-six");
    let right = code_at(&seed, step(), Settings::default());
    let client = http_client();
    let typed = |code: String| {
        let (client, url) = (client.clone(), format!("http://{}/api/v1/session", service.http));
        let body = json!({ "name": "owner", "password": "slack-water-at-six", "code": code });
        async move { client.post(url).json(&body).send().await.unwrap().status().as_u16() }
    };
    let began = Instant::now();
    let wrong = (0..300).map(|number| format!("{number:06}")).filter(|code| *code != right).take(299);
    let mut all: FuturesUnordered<_> = wrong.map(typed).collect();
    // Connections overtake one another: the right code leaves when the first have been turned away, and most are under way still.
    let mut seen: Vec<u16> = all.by_ref().take(30).collect().await;
    all.push(typed(right));
    seen.extend(all.collect::<Vec<u16>>().await);
    let count = |wanted: u16| seen.iter().filter(|status| **status == wanted).count();
    assert_eq!((seen.len(), count(204)), (300, 0), "{seen:?}");
    assert!(count(429) >= 270 && count(401) <= 20, "{seen:?}");
    assert!(began.elapsed() < Duration::from_secs(20), "most were refused without a hash");
}

#[tokio::test(flavor = "multi_thread")]
async fn strangers_with_many_names_or_addresses_lock_no_operator_out() {
    let service = Service::start();
    let seed = owners_sign_in(&service, "slack-water-at-six");
    // One address, many names; then the operator's name from several addresses.
    let stranger = client_from("127.0.0.77");
    let mut seen = Vec::new();
    for number in 0..60 {
        let body = json!({ "name": format!("made-up-{number}"), "password": "x", "code": "000000" });
        seen.push(sign_in(&stranger, &service, &body).await.0);
    }
    assert!(seen.ends_with(&[429; 30]), "the address waits: {seen:?}");
    for address in ["127.0.0.78", "127.0.0.79"] {
        for _ in 0..8 {
            sign_in(&client_from(address), &service, &json!({ "name": "owner", "password": "x", "code": "000000" })).await;
        }
    }
    let own = client_from("127.0.0.2");
    let with = |password: &str, code: &str| json!({ "name": "owner", "password": password, "code": code });
    assert_eq!(sign_in(&own, &service, &with("slack-water-at-six", "000000")).await.0, 429, "the name waits");
    let right = code_at(&seed, step(), Settings::default());
    assert_eq!(sign_in(&own, &service, &with("slack-water-at-six", &right)).await.0, 204, "but not for whoever has the code");
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_passwords_about_one_person_are_limited_over_all_gateways_without_asking_the_source() {
    let world = Northmoor::with(Setup { change: &[("[[identity]]", "[passwords]\nafter = 6\n[[identity]]")], ..Setup::default() }).await;
    let answers = async || {
        let servers = world.service.get("/directories").await[0]["servers"].clone();
        servers.as_array().unwrap().iter().map(|server| server["answers"].as_u64().unwrap()).sum::<u64>()
    };
    for number in 0..6 {
        let via = if number % 2 == 0 { "breakwater" } else { "slipway" };
        assert_eq!(cause_of(&world, via, "ines", &format!("guess-{number}")).await, "password-wrong");
    }
    let before = answers().await;
    assert_eq!(cause_of(&world, "breakwater", "NORTHMOOR\\Ines", "guess").await, "password-limited");
    assert_eq!(cause_of(&world, "slipway", "ines", &ines()).await, "password-limited", "the right one is not looked at either");
    assert_eq!(answers().await - before, 2, "each was looked up, and no password was checked");
    assert_eq!(cause_of(&world, "breakwater", "tomasz", &format!("ebb before flood{}", code("tomasz", 0))).await, "accept");
    let person = &world.service.get("/people/ines").await[0];
    assert_eq!((&person["passwords"]["wrong"], &person["state"]), (&json!(6), &json!("locked")), "{person:#}");
    let shown = world.service.run(&["person", "show", "ines"]);
    assert!(shown.contains("passwords not checked until") && shown.contains("6 wrong passwords in a row"), "{shown}");
    // It outlives a restart, and an operator ends it.
    let Northmoor { mut service, directories: _directories, radius, .. } = world;
    assert!(service.terminate());
    let service = Service::start_in(&service.data.clone(), &[]);
    let gateway = super::harness::gateway("breakwater", radius);
    let (exchange, local) = gateway.log_in("ines", &ines()).await.unwrap();
    assert_eq!((outcome(&exchange).as_str(), &service.trace_from(local).await["cause"]), ("reject", &json!("password-limited")));
    assert!(service.run(&["factor", "release", "ines"]).contains("ines"));
    assert_eq!(outcome(&gateway.log_in("ines", &ines()).await.unwrap().0), "accept");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_caller_is_stopped_before_the_person_is_and_others_go_on() {
    let world = Northmoor::with(Setup { change: &[("[[identity]]", "[passwords]\nafter = 6\n[[identity]]")], ..Setup::default() }).await;
    for number in 0..5 {
        let (_, trace) = from(&world, "203.0.113.66", "ines", &format!("guess-{number}")).await;
        let wanted = if number < 3 { "password-wrong" } else { "caller-limited" };
        assert_eq!(trace["cause"], wanted, "{number}: {trace:#}");
    }
    let (exchange, trace) = from(&world, "198.51.100.7", "ines", &ines()).await;
    assert_eq!(outcome(&exchange), "accept", "{trace:#}");
}

/// A handset of somebody, with a session.
async fn robot(world: &Northmoor, login: &str) -> RobotHandset {
    let (status, made) = world.service.call("POST", &format!("/people/tidehall/{login}/invitation"), Some(json!({}))).await;
    assert_eq!(status, 201, "{made}");
    let server = format!("http://{}", world.service.http);
    let mut robot = RobotHandset::enrol(&http_client(), &server, made["code"].as_str().unwrap(), "phone").await.unwrap();
    robot.begin().await.unwrap();
    robot
}

pub(crate) const APPROVAL: (&str, &str) = (
    "second = [\"totp\"]\nwhen_unclear = \"code\"",
    "second = [\"approval\", \"totp\"]\nsecond_patience = \"10s\"\nwhen_unclear = \"code\"",
);
pub(crate) const INVITED: (&str, &str) = ("shows_code = true", "confirmed_by = \"invitation\"");

async fn asked(robot: &RobotHandset) -> String {
    for _ in 0..500 {
        if let Some(shown) = robot.waiting().await.unwrap() {
            return shown;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("the source was not asked");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_yes_on_the_own_handset_lets_the_password_be_tried_although_strangers_have_guessed() {
    let change = [APPROVAL, INVITED, ("[[identity]]", "[passwords]\nafter = 4\n[[identity]]")];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let phone = robot(&world, "ines").await;
    for number in 0..4 {
        assert_eq!(cause_of(&world, "breakwater", "ines", &format!("guess-{number}")).await, "password-wrong");
    }
    let gateway = world.gateway("breakwater");
    let login = tokio::spawn(async move { gateway.log_in("ines", INES).await.unwrap() });
    let shown = asked(&phone).await;
    assert_eq!(serde_json::from_str::<Value>(&shown).unwrap()["before_password"], true, "the handset says that nothing is proved yet");
    assert_eq!(phone.answer(&shown, Answers::Approve, None).await.unwrap(), "approved");
    let (exchange, local) = login.await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!((outcome(&exchange).as_str(), &trace["factor"]), ("accept", &json!("approval")), "{trace:#}");
    for number in 0..4 {
        assert_eq!(cause_of(&world, "breakwater", "ines", &format!("guess-{number}")).await, "password-wrong", "all are forgotten by it");
    }
    let gateway = world.gateway("breakwater");
    let login = tokio::spawn(async move { gateway.log_in("ines", "another-guess").await.unwrap() });
    let shown = asked(&phone).await;
    assert_eq!(phone.answer(&shown, Answers::NotMe, None).await.unwrap(), "denied");
    let (_, local) = login.await.unwrap();
    assert_eq!(world.service.trace_from(local).await["cause"], "password-limited");
    assert_eq!(world.service.get("/people/ines").await[0]["stop"], Value::Null, "nobody who knows but a name stops a person's approvals");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_login_from_nowhere_joins_no_approval_unless_the_site_allows_it() {
    for (allowed, wanted) in [(false, "approval-busy"), (true, "accept")] {
        let joins = ("client_patience = \"60s\"", if allowed { "joins_without_caller = true" } else { "client_patience = \"61s\"" });
        let world = Northmoor::with(Setup { change: &[APPROVAL, INVITED, joins], ..Setup::default() }).await;
        let phone = robot(&world, "ines").await;
        let gateway = world.gateway("breakwater");
        let first = tokio::spawn({
            let gateway = gateway.clone();
            async move { gateway.log_in("ines", INES).await.unwrap() }
        });
        asked(&phone).await;
        let second = tokio::spawn(async move { gateway.log_in("ines", INES).await.unwrap() });
        if allowed {
            for _ in 0..500 {
                let requests = serde_json::from_str::<Value>(&asked(&phone).await).unwrap()["requests"].clone();
                if requests == 2 {
                    break;
                }
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        } else {
            let (_, local) = second.await.unwrap();
            assert_eq!(world.service.trace_from(local).await["cause"], wanted);
            assert_eq!(serde_json::from_str::<Value>(&asked(&phone).await).unwrap()["requests"], 1);
            continue;
        }
        let shown = asked(&phone).await;
        phone.answer(&shown, Answers::Approve, None).await.unwrap();
        assert_eq!((outcome(&first.await.unwrap().0).as_str(), outcome(&second.await.unwrap().0).as_str()), (wanted, wanted));
        let checked = world.service.cli_with_input(&["site", "check", "-"], &world.site);
        assert!(
            text(&checked.stderr).contains("joins-without-caller") || text(&checked.stdout).contains("joins-without-caller"),
            "{checked:?}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn several_credentials_in_one_request_are_refused_and_named() {
    let world = Northmoor::with(Setup { change: &[("methods = [\"pap\"]", "methods = [\"pap\", \"chap\"]")], ..Setup::default() }).await;
    let with = |more: &dyn Fn(&mut Message)| {
        let mut request = Request::login("ines", ines().as_bytes());
        more(&mut request.message);
        request
    };
    let chap = with(&|message| message.push(AttributeType::ChapPassword, &chap_password(1, b"x", &[7; 16])));
    let microsoft = with(&|message| {
        // Both in one attribute (RFC 2865 section 5.26).
        let one = |number: u8, value: &[u8]| [&[number, value.len() as u8 + 2], value].concat();
        let both = [one(MS_CHAP_CHALLENGE, &[1; 16]), one(MS_CHAP2_RESPONSE, &[0; 50])].concat();
        message.push(AttributeType::VendorSpecific, &[&MICROSOFT.to_be_bytes()[..], &both].concat());
    });
    let eap = with(&|message| message.push(AttributeType::EapMessage, &[2, 1, 0, 5, 1]));
    for (request, names) in
        [(chap, "User-Password, CHAP-Password"), (microsoft, "User-Password, MS-CHAP2-Response"), (eap, "User-Password, EAP-Message")]
    {
        let (exchange, local) = world.gateway("breakwater").send(&request).await.unwrap();
        let trace = world.service.trace_from(local).await;
        assert_eq!((outcome(&exchange).as_str(), &trace["cause"]), ("reject", &json!("credential-several")));
        assert!(trace["steps"].to_string().contains(names), "{trace:#}");
    }
    assert_eq!(cause_of(&world, "breakwater", "ines", &ines()).await, "accept", "none of them has used the code up");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_identifier_and_authenticator_used_again_with_another_body_get_an_answer_of_their_own() {
    let world = Northmoor::start().await;
    let (secret, authenticator) = (SharedSecret::new(SECRET.as_bytes()), [42; 16]);
    let packet = |password: &str| {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"ines");
        message.push(AttributeType::UserPassword, &hide_password(password.as_bytes(), &authenticator, &secret).unwrap());
        message.sign_request(9, &authenticator, &secret).unwrap()
    };
    let socket = UdpSocket::bind("127.0.0.11:0").unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let ask = |packet: &[u8]| {
        let mut buffer = [0; 4096];
        socket.send_to(packet, world.radius).unwrap();
        let length = socket.recv(&mut buffer).unwrap();
        buffer[..length].to_vec()
    };
    let (right, wrong) = (packet(&ines()), packet("mussel"));
    let accepted = ask(&right);
    assert_eq!(accepted[0], 2, "Access-Accept");
    assert_eq!(ask(&wrong)[0], 3, "the accept of one request is not the answer to another");
    assert_eq!(ask(&right), accepted, "a resend gets the same bytes");
    assert!(world.service.figures().await.contains("bivector_requests_conflicting_total 1"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_that_is_older_than_the_last_used_one_lets_nobody_in() {
    let world = Northmoor::start().await;
    let with = |offset: i64| format!("{INES}{}", code("ines", offset));
    let (older, newer) = (with(0), with(1));
    assert_eq!(cause_of(&world, "breakwater", "ines", &newer).await, "accept");
    assert_eq!(cause_of(&world, "slipway", "ines", &older).await, "code-used");
}

fn idle(service: &Service, count: usize) -> Vec<TcpStream> {
    (0..count).filter_map(|_| TcpStream::connect_timeout(&service.http, Duration::from_secs(2)).ok()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn idle_callers_stop_no_login_and_are_hung_up_on() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    // As few files as many systems allow a service.
    let mut command = std::process::Command::new("sh");
    command.args(["-c", "ulimit -n 1024; exec \"$0\" serve --http 127.0.0.1:0 --data \"$1\"", env!("CARGO_BIN_EXE_bivector")]).arg(&data);
    let service = Service::spawn(command, &data);
    let directory = bivector_lab::directory::DirectoryData::parse(super::harness::DIRECTORY).unwrap();
    let issuer = bivector_lab::certificates::LabIssuer::new("test issuer").unwrap();
    std::fs::write(data.join("tidehall-ca.pem"), issuer.pem()).unwrap();
    let tls = issuer.server(&["127.0.0.1", "localhost"]).unwrap();
    let protection = bivector_lab::directory::Protection::Tls(tls);
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let tidehall = bivector_lab::directory::StandInDirectory::start(any, &directory, protection, Duration::ZERO).await.unwrap();
    super::harness::seal_all(&service).await;
    let (status, body) = service.apply(&site_for(super::harness::free_udp_port(), &[tidehall.address(); 2], &[])).await;
    assert_eq!(status, 201, "{body}");
    service.import(PEOPLE).await;
    let mut held = idle(&service, 1_100);
    // Nothing of a login is connected yet, and everything it needs can be.
    let gateway = super::harness::gateway("breakwater", service_radius(&data, &service).await);
    let (exchange, _) = gateway.log_in("ines", &ines()).await.unwrap();
    assert_eq!(outcome(&exchange), "accept");
    let mut byte = [0; 1];
    let first = held.first_mut().unwrap();
    first.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    assert!(matches!(first.read(&mut byte), Ok(0) | Err(_)), "whoever says nothing is hung up on");
    drop(held);
    let until = Instant::now() + Duration::from_secs(20);
    while service_is_away(&service).await && Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(service.figures().await.contains("bivector_http_connections_refused_total"));
}

async fn service_is_away(service: &Service) -> bool {
    http_client().get(format!("http://{}/healthz", service.http)).send().await.is_err()
}

/// Where the door listens, from the site file: the API may be full of strangers.
async fn service_radius(data: &std::path::Path, _: &Service) -> SocketAddr {
    let records = rusqlite::Connection::open(data.join("records.db")).unwrap();
    let text: String = records.query_row("SELECT text FROM revisions ORDER BY number DESC LIMIT 1", [], |row| row.get(0)).unwrap();
    let listen = text.lines().find(|line| line.starts_with("listen")).unwrap();
    listen.split('"').nth(1).unwrap().parse().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_sends_no_large_body_and_no_slow_one() {
    let service = Service::start();
    let big = vec![b' '; 1024 * 1024];
    for path in ["/api/v1/session", "/api/v1/people/import", "/handset/v1/own/session", "/handset/v1/invitation"] {
        let sent =
            http_client().post(format!("http://{}{path}", service.http)).header("content-type", "application/json").body(big.clone());
        match sent.send().await {
            Ok(response) => assert!(matches!(response.status().as_u16(), 401 | 403 | 413), "{path}: {}", response.status()),
            // Hung up on while it was still sending.
            Err(error) => assert!(error.is_request() || error.is_body(), "{path}: {error}"),
        }
    }
    let mut slow = TcpStream::connect(service.http).unwrap();
    let host = service.http;
    write!(slow, "POST /api/v1/session HTTP/1.1\r\nhost: {host}\r\ncontent-type: application/json\r\ncontent-length: 60\r\n\r\n{{")
        .unwrap();
    slow.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let mut answer = [0; 12];
    slow.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"HTTP/1.1 408");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_listener_for_phones_knows_nothing_of_the_api_and_figures_need_a_token_elsewhere() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start_in(&folder.path().join("data"), &["--phones", "127.0.0.1:0", "--proxy", "127.0.0.9"]);
    let until = Instant::now() + Duration::from_secs(5);
    while !service.log().contains("handset page") && Instant::now() < until {
        std::thread::sleep(Duration::from_millis(10));
    }
    let line = service.log().lines().find(|line| line.starts_with("handset page")).unwrap().to_owned();
    let phones = line.rsplit("://").next().unwrap().trim_end_matches("/handset").to_owned();
    let status = async |url: String| http_client().get(url).bearer_auth(&service.token).send().await.unwrap().status().as_u16();
    for (path, at_phones, at_operators) in [
        ("/api/v1/status", 404, 200),
        ("/api/v1/openapi.json", 404, 200),
        ("/metrics", 404, 200),
        ("/", 404, 200),
        ("/handset", 200, 404),
        ("/handset/v1/page", 503, 404),
        ("/healthz", 200, 200),
    ] {
        assert_eq!(status(format!("http://{phones}{path}")).await, at_phones, "{path}");
        assert_eq!(status(format!("http://{}{path}", service.http)).await, at_operators, "{path}");
    }
    // Through a proxy on this machine nobody is local.
    let proxied = client_from("127.0.0.9");
    for path in ["/metrics", "/api/v1/openapi.json"] {
        let url = format!("http://{}{path}", service.http);
        assert_eq!(proxied.get(&url).header("forwarded", "for=198.51.100.7").send().await.unwrap().status(), 401, "{path}");
        assert_eq!(http_client().get(&url).send().await.unwrap().status(), 200, "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_refusal_by_the_gateways_limit_the_same_packet_is_taken_as_soon_as_there_is_room() {
    let change = [("client_patience = \"60s\"", "logins_in_flight = 1")];
    let world = Northmoor::with(Setup { change: &change, delay: Duration::from_millis(300), ..Setup::default() }).await;
    let secret = SharedSecret::new(SECRET.as_bytes());
    let first = Request::login("tomasz", format!("ebb before flood{}", code("tomasz", 0)).as_bytes()).prepare(&secret).unwrap().bytes;
    let second = Request::login("ines", ines().as_bytes()).prepare(&secret).unwrap().bytes;
    let sockets = [UdpSocket::bind("127.0.0.11:0").unwrap(), UdpSocket::bind("127.0.0.11:0").unwrap()];
    sockets.iter().for_each(|socket| socket.set_read_timeout(Some(Duration::from_millis(400))).unwrap());
    let mut buffer = [0; 4096];
    sockets[0].send_to(&first, world.radius).unwrap();
    sockets[1].send_to(&second, world.radius).unwrap();
    assert!(sockets[1].recv(&mut buffer).is_err(), "there was no room");
    let mut length = None;
    for _ in 0..20 {
        sockets[1].send_to(&second, world.radius).unwrap();
        length = sockets[1].recv(&mut buffer).ok();
        if length.is_some() {
            break;
        }
    }
    assert!(length.is_some(), "a retry is decided");
    assert_eq!(buffer[0], 2, "Access-Accept");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_time_of_a_refusal_tells_no_known_name_from_an_unknown_one() {
    let world = Northmoor::with(Setup { delay: Duration::from_millis(180), ..Setup::default() }).await;
    let steps = |trace: &Value| (trace["took_us"].as_u64().unwrap() + 20_000) / 250_000;
    world.log_in("breakwater", "tomasz", "warms-the-connections-up").await;
    let (_, known) = world.log_in("breakwater", "ines", "mussel").await;
    let (_, unknown) = world.log_in("breakwater", "zebedee", "mussel").await;
    assert_eq!((known["cause"].as_str(), unknown["cause"].as_str()), (Some("password-wrong"), Some("person-unknown")));
    // Two steps where the machine is idle; a busy one may take longer, for both alike.
    let (known, unknown) = (steps(&known), steps(&unknown));
    assert!(known.min(unknown) >= 2 && known.abs_diff(unknown) <= 1, "both have asked the directory twice: {known} {unknown}");
    // In the roster, while many are checked at once: both wait for their turn.
    let alone = (
        "first = [\"tidehall\", \"roster\"]         # the roster is asked only for people whom tidehall does not know",
        "first = [\"roster\"]",
    );
    let world = Northmoor::with(Setup { change: &[alone], ..Setup::default() }).await;
    let one = async |name: String| {
        let (_, trace) = world.log_in("breakwater", &name, "mussel").await;
        let checked = trace["took_us"].as_u64().unwrap() % 250_000;
        // How late somebody wakes depends on the machine; thirty that leave whenever they are done would not all be so early.
        assert!(checked < 200_000, "refusals leave at multiples of the pace: {trace:#}");
        trace["took_us"].as_u64().unwrap() / 250_000
    };
    // One wrong password of each: the limits are another matter.
    let known: Vec<String> = (0..15).map(|number| format!("local-{number}")).collect();
    let csv = known
        .iter()
        .fold("login,source,name,password\n".to_owned(), |csv, login| format!("{csv}{login},roster,Local,whelk-at-low-water\n"));
    world.service.import(&csv).await;
    // In turn, so that neither is in front of the other in the queue.
    let names = known.into_iter().enumerate().flat_map(|(number, known)| [known, format!("stranger-{number}")]);
    let took = futures_util::future::join_all(names.map(one)).await;
    let middle = |first: usize| {
        let mut took: Vec<u64> = took.iter().copied().skip(first).step_by(2).collect();
        took.sort_unstable();
        took[7]
    };
    assert!(middle(0).abs_diff(middle(1)) <= 1, "{took:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_in_the_name_field_is_not_kept_and_a_slip_of_the_fingers_is_named() {
    let world = Northmoor::start().await;
    let (_, trace) = world.log_in("breakwater", "Barnacle-and-Buoy", "ines").await;
    assert!(trace["typed_name"].as_str().unwrap().starts_with("Ba… (17 characters, "), "{trace:#}");
    assert!(!trace.to_string().to_lowercase().contains("barnacle"), "{trace:#}");
    let found = world.service.get("/traces?person=Barnacle-and-Buoy").await;
    assert_eq!(found.as_array().unwrap().len(), 1, "whoever knows what was typed finds it all the same");
    let (_, trace) = world.log_in("breakwater", "inse", "mussel").await;
    assert_eq!(trace["typed_name"], "inse");
    assert!(trace["steps"].to_string().contains("did the person mean `ines`?"), "{trace:#}");
    let (_, trace) = world.log_in("breakwater", "a\u{1b}[31m\u{202e}b", "mussel").await;
    let shown = trace.to_string();
    assert!(!shown.contains("\\u001b") && !shown.contains('\u{202e}'), "{shown}");
    let listed = world.service.run(&["trace", "list"]);
    assert!(!listed.contains('\u{1b}') && !listed.contains('\u{202e}'), "{listed:?}");
    assert!(!world.service.log().to_lowercase().contains("barnacle"));
    let (status, _) = world.service.apply(&format!("{}\n[traces]\nkeep_unknown_names = true\n", world.site)).await;
    assert_eq!(status, 201);
    assert_eq!(world.log_in("breakwater", "Barnacle-and-Buoy", "ines").await.1["typed_name"], "Barnacle-and-Buoy");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_takes_no_address_that_the_api_would_refuse() {
    let world = Northmoor::start().await;
    for (field, value) in [
        ("mail", "no address"),
        ("mail", "a@b@c.example"),
        ("mail", "ines@x.example\tbcc"),
        ("phone", "12"),
        ("phone", "+44 20 7946 0018 ext"),
        ("phone", "call me"),
    ] {
        let (status, body) = world.service.call("PUT", "/people/roster/wren", Some(json!({ "name": "Wren", field: value }))).await;
        assert_eq!(status, 422, "{field} {value}: {body}");
        let csv = format!("login,source,name,{field}\nwren,roster,Wren,\"{value}\"\n");
        let (status, body) = world.service.call("POST", "/people/import", Some(json!({ "csv": csv }))).await;
        assert_eq!((status, body["errors"][0]["column"].as_str()), (422, Some(field)), "{field} {value}: {body}");
    }
    for (field, value) in [("mail", "wren@northmoor.example"), ("phone", "+44 20 7946 0018"), ("phone", "(020) 7946-0018")] {
        world.service.import(&format!("login,source,name,{field}\nwren,roster,Wren,{value}\n")).await;
        assert_eq!(world.service.call("PUT", "/people/roster/wren", Some(json!({ field: value }))).await.0, 200, "{value}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_own_page_limits_guesses_per_address_and_per_person_over_all_addresses() {
    let world = Northmoor::with(Setup { change: &[("[[identity]]", "[passwords]\nafter = 20\n[[identity]]")], ..Setup::default() }).await;
    let url = format!("http://{}/handset/v1/own/session", world.service.http);
    let sign_in = async |client: reqwest::Client, password: String| {
        let body = json!({ "name": "ines", "password": password });
        client.post(&url).header("x-bivector-handset", "1").json(&body).send().await.unwrap().status().as_u16()
    };
    let client = client_from("127.0.0.77");
    let all = (0..100).map(|number| sign_in(client.clone(), format!("guess-{number}")));
    let seen = futures_util::future::join_all(all).await;
    let refused = seen.iter().filter(|status| **status == 401).count();
    assert!(refused <= 10 && seen.iter().filter(|status| **status == 429).count() >= 90, "{seen:?}");
    for address in 80..90 {
        for number in 0..4 {
            sign_in(client_from(&format!("127.0.0.{address}")), format!("guess-{number}")).await;
        }
    }
    let newest = world.service.get("/traces?limit=1&cause=password-limited").await;
    assert_eq!(newest.as_array().unwrap().len(), 1, "the person is protected over all addresses");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_doctor_says_what_is_exposed_and_what_to_change_as_text_and_as_json() {
    let world = Northmoor::start().await;
    let stamp = world.service.data.join("backup-stamp");
    let output = world.service.cli(&["doctor"]);
    let said = text(&output.stdout);
    assert_eq!(output.status.code(), Some(1), "{said}");
    for wanted in [
        "listeners",
        "files",
        "certificates",
        "secrets",
        "limits",
        "clock",
        "descriptors",
        "backups",
        "remedy: start the service with `--phones",
    ] {
        assert!(said.contains(wanted), "{wanted}: {said}");
    }
    let Northmoor { mut service, directories: _directories, .. } = world;
    assert!(service.terminate());
    std::fs::write(&stamp, "").unwrap();
    let data = service.data.clone();
    let service = Service::start_in(&data, &["--phones", "127.0.0.1:0", "--backup-stamp", stamp.to_str().unwrap()]);
    std::fs::set_permissions(data.join("tidehall-ca.pem"), std::fs::Permissions::from_mode(0o644)).unwrap();
    let advice: Value = serde_json::from_str(&text(&service.cli(&["--json", "doctor"]).stdout)).unwrap();
    let of = |topic: &str| advice.as_array().unwrap().iter().filter(|one| one["topic"] == topic).cloned().collect::<Vec<_>>();
    assert!(of("backups").iter().all(|one| one["tone"] == "good"), "{advice:#}");
    assert!(of("files").iter().any(|one| one["tone"] == "bad" && one["said"].as_str().unwrap().contains("tidehall-ca.pem")), "{advice:#}");
    assert!(of("listeners").iter().any(|one| one["said"].as_str().unwrap().contains("a listener of their own")), "{advice:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_own_page_does_not_tell_that_approvals_are_stopped() {
    let change = [APPROVAL, INVITED, ("second_patience = \"10s\"", "second_patience = \"5s\"")];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let phone = robot(&world, "ines").await;
    let url = format!("http://{}/handset/v1/own/session", world.service.http);
    // At the page a number is shown; whoever has the password and waits sees the same, asked or not.
    let sign_in = async || {
        let post = async |body: Value| {
            let sent = http_client().post(&url).header("x-bivector-handset", "1").json(&body).send().await.unwrap();
            (sent.status().as_u16(), sent.json::<Value>().await.unwrap())
        };
        let (status, mut said) = post(json!({ "name": "ines", "password": INES })).await;
        assert_eq!(status, 200, "{said}");
        if said["prompt"].as_str().unwrap().starts_with("Enter a code") {
            said = post(json!({ "name": "ines", "password": "1", "state": said["state"] })).await.1;
        }
        let prompt = said["prompt"].as_str().unwrap().chars().filter(|c| !c.is_ascii_digit()).collect::<String>();
        let (status, said) = post(json!({ "name": "ines", "password": "", "state": said["state"] })).await;
        let title = said["prompt"].as_str().map(str::to_owned).unwrap_or_default();
        (prompt, status, title)
    };
    let unanswered = sign_in().await;
    let gateway = world.gateway("breakwater");
    let login = tokio::spawn(async move { gateway.log_in("ines", INES).await.unwrap() });
    let shown = asked(&phone).await;
    assert_eq!(phone.answer(&shown, Answers::NotMe, None).await.unwrap(), "stopped");
    login.await.unwrap();
    assert_eq!(sign_in().await, unanswered, "it looks as if nobody had answered");
    let told = async {
        while world.service.get("/traces?origin=page&cause=approval-stopped").await.as_array().unwrap().is_empty() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(5), told).await.expect("the operator is told");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flood_of_sign_ins_from_many_addresses_is_turned_away_and_delays_no_local_login() {
    let alone = (
        "first = [\"tidehall\", \"roster\"]         # the roster is asked only for people whom tidehall does not know",
        "first = [\"roster\"]",
    );
    let world = Northmoor::with(Setup { change: &[alone], ..Setup::default() }).await;
    let url = format!("http://{}/api/v1/session", world.service.http);
    let flood = (0..450u16).map(|number| {
        let (client, url) = (client_from(&format!("127.0.1.{}", number % 45 + 1)), url.clone());
        let body = json!({ "name": format!("made-up-{number}"), "password": "x", "code": "000000" });
        tokio::spawn(async move { client.post(url).json(&body).send().await.map(|response| response.status().as_u16()) })
    });
    let flood: Vec<_> = flood.collect();
    let (seen, trace) = world.log_in("breakwater", "sable", &format!("whelk-at-low-water{}", code("sable", 0))).await;
    assert_eq!(seen, "accept", "{trace:#}");
    assert!(trace["took_us"].as_u64().unwrap() < 5_000_000, "a login has a place of its own: {trace:#}");
    let mut turned_away = 0;
    for one in flood {
        turned_away += usize::from(one.await.unwrap().is_ok_and(|status| status == 429));
    }
    assert!(turned_away > 300, "{turned_away} of 450");
    let status = std::fs::read_to_string(format!("/proc/{}/status", world.service.pid())).unwrap();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap().trim().trim_end_matches(" kB").parse::<u64>().unwrap();
    assert!(peak < 600 * 1024, "{peak} KiB: each hash takes 19 MiB, and two are made at a time");
}

#[tokio::test(flavor = "multi_thread")]
async fn invitations_tried_at_once_are_worth_no_more_than_a_few() {
    let world = Northmoor::start().await;
    let url = format!("http://{}/handset/v1/invitation", world.service.http);
    let client = client_from("127.0.0.77");
    let all =
        (0..100).map(|number| {
            let (client, url) = (client.clone(), url.clone());
            async move {
                client.post(url).json(&json!({ "invitation": format!("AAAA-BBBB-{number:04}") })).send().await.unwrap().status().as_u16()
            }
        });
    let seen = futures_util::future::join_all(all).await;
    let count = |wanted: u16| seen.iter().filter(|status| **status == wanted).count();
    assert!(count(404) <= 10 && count(429) >= 90, "{seen:?}");
    let other = client_from("127.0.0.78").post(&url).json(&json!({ "invitation": "AAAA-BBBB-CCCC" })).send().await.unwrap();
    assert_eq!(other.status(), 404, "somebody else's address may still try");
}
