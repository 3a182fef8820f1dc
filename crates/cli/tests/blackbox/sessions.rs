//! Sessions: reported by a simulated gateway, connected with their logins, listed, charted, ended and changed (RFC 2866, RFC 5176).

use super::browser::{Driver, press, wait_for};
use super::harness::{Service, text};
use bivector_exchange::{Patience, Reply};
use bivector_lab::gateway::SimulatedGateway;
use bivector_lab::online::{Conduct, OnlineGateway, Requests, USER_REQUEST};
use bivector_wire::{AttributeType, Code, Message, SharedSecret};
use serde_json::Value;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

const SECRET: &str = "slipway-H6tLd1bGf5";
const PASSWORD: &str = "kelp and cordage";
const ADDRESS: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 77);

const SITE: &str = r#"
format = 1
name = "Northmoor"

[doors.radius]
listen = ["127.0.0.1:PORT"]
accounting = ["127.0.0.1:DOOR2"]
session_within = "5s"

[[gateways]]
name = "slipway"
from = ["127.0.0.1"]
secret = "gateway/slipway"
MORE

[[chains]]
name = "mesh"
gateways = ["slipway"]
methods = ["pap"]
forms = ["password"]
first = ["roster"]
second = []

[[rules]]
name = "everybody"
chain = "mesh"
grant = "mesh"

[[grants]]
name = "mesh"
reply = [{ attribute = "Class", text = "mesh" }, { attribute = "Session-Timeout", integer = 3600 }]
"#;

/// A service, and a gateway that reports its sessions and takes requests.
struct World {
    service: Service,
    gateway: Arc<OnlineGateway>,
    device: SimulatedGateway,
    site: String,
    _requests: Requests,
}

fn device(server: SocketAddr) -> SimulatedGateway {
    SimulatedGateway {
        name: "slipway".into(),
        from: Ipv4Addr::LOCALHOST.into(),
        server,
        secret: SharedSecret::new(SECRET.as_bytes()),
        patience: Patience { wait: Duration::from_secs(5), tries: 2 },
    }
}

impl World {
    async fn start(more: &str) -> Self {
        Self::on(Service::start(), more).await
    }

    async fn on(service: Service, more: &str) -> Self {
        service.seal("gateway/slipway", SECRET).await;
        // The gateway listens before the site knows where.
        let nowhere = SocketAddr::from(([127, 0, 0, 1], 9));
        let early = OnlineGateway::new(device(nowhere), nowhere);
        let (listens, requests) = early.take_requests(([127, 0, 0, 1], 0).into(), SharedSecret::new(SECRET.as_bytes())).await.unwrap();
        drop(requests);
        let (port, reports) = (super::harness::free_udp_port().to_string(), super::harness::free_udp_port().to_string());
        let site = SITE.replace("PORT", &port).replace("DOOR2", &reports);
        let site = site.replace("MORE", &format!("dynamic_authorization = {{ to = \"{listens}\" }}\n{more}"));
        let (status, body) = service.apply(&site).await;
        assert_eq!(status, 201, "{body:#}");
        service
            .import(&format!(
                "login,source,name,password,groups\nodile,roster,Odile Skerry,{PASSWORD},\nwren,roster,Wren Kittow,{PASSWORD},\n"
            ))
            .await;
        let device = device(service.radius().await);
        let door = service.get("/status").await["accounting"][0].as_str().unwrap().parse().unwrap();
        let gateway = OnlineGateway::new(device.clone(), door);
        let secret = SharedSecret::new(SECRET.as_bytes());
        let (_, requests) = gateway.take_requests(listens, secret).await.unwrap();
        World { service, gateway, device, site, _requests: requests }
    }

    /// Logs somebody in and begins the session. Gives the reference.
    async fn connect(&self, id: &str, name: &str) -> String {
        let (exchange, from) = self.device.log_in(name, PASSWORD).await.unwrap();
        let reply: Reply = exchange.reply.unwrap();
        assert_eq!(reply.code, Code::AccessAccept);
        let trace = self.service.trace_from(from).await;
        assert!(self.gateway.begin(id, name, &reply, ADDRESS, "198.51.100.7").await.unwrap(), "the report is confirmed");
        trace["reference"].as_str().unwrap().to_owned()
    }

    async fn sessions(&self, query: &str) -> Vec<Value> {
        self.service.get(&format!("/sessions?{query}")).await["sessions"].as_array().unwrap().clone()
    }

    /// The one session that has ended, once there is one.
    async fn ended(&self) -> Value {
        for _ in 0..250 {
            if let Some(row) = self.sessions("state=ended").await.first() {
                return row.clone();
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("no session has ended");
    }

    /// The newest session, once it is as wanted.
    async fn newest(&self, wanted: impl Fn(&Value) -> bool) -> Value {
        for _ in 0..250 {
            if let Some(row) = self.sessions("limit=1").await.first().filter(|row| wanted(row)) {
                return row.clone();
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("{:#}", Value::from(self.sessions("limit=1").await));
    }
}

fn is_open(row: &Value) -> bool {
    row["ended_us"].is_null()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_leads_to_its_login_and_the_login_to_its_session() {
    let world = World::start("").await;
    world.gateway.restart().await.unwrap();
    let reference = world.connect("4f-1", "odile").await;
    let row = world.newest(|row| row["reference"] == reference.as_str() && row["person"] == "roster:odile").await;
    assert_eq!((row["grant"].as_str(), row["chain"].as_str(), row["caller"].as_str()), (Some("mesh"), Some("mesh"), Some("198.51.100.7")));
    assert_eq!(row["addresses"][0], "192.0.2.77");
    let said = "began 0 s after the accept; the gateway calls it `4f-1`, address 192.0.2.77";
    let mut trace = Value::Null;
    for _ in 0..250 {
        trace = world.service.get(&format!("/traces/{reference}")).await;
        if trace.to_string().contains(said) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert!(trace.to_string().contains(said), "{trace:#}");
    world.gateway.interim((5_000_000_000, 1_500)).await.unwrap();
    assert!(world.gateway.end("4f-1", USER_REQUEST).await.unwrap());
    let row = world.newest(|row| !is_open(row)).await;
    assert_eq!(row["why"], "the user disconnected");
    assert_eq!((row["traffic"]["bytes_in"].as_u64(), row["traffic"]["bytes_out"].as_u64()), (Some(5_000_000_000), Some(1_500)));
    let number = row["id"].to_string();
    let shown = world.service.run(&["session", "show", &number]);
    for part in [
        "roster:odile via slipway",
        "the user disconnected",
        "5.0 GB",
        "1.5 kB",
        &format!("{reference} (bivector trace show"),
        "192.0.2.77",
    ] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let listed = world.service.run(&["session", "list", "--person", "roster:odile", "--state", "ended", "--since", "1h"]);
    assert!(listed.contains("roster:odile") && listed.contains("○ the user disconnected"), "{listed}");
    let exported = world.service.run(&["session", "export", "--reference", &reference.to_lowercase()]);
    assert_eq!(exported.lines().count(), 1, "{exported}");
    assert!(world.service.run(&["session", "chart", "--last", "1h"]).contains("0 now"));
    let chart = world.service.get("/sessions/chart?last_s=600&span_s=10").await;
    assert_eq!(
        (chart["open"].as_array().unwrap().len(), chart["began"].as_array().unwrap().iter().filter_map(Value::as_u64).sum::<u64>()),
        (61, 1)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_gets_no_class_of_ours_has_its_sessions_matched_by_name() {
    let world = World::start("session_class = false").await;
    let reference = world.connect("4f-2", "odile").await;
    let row = world.newest(|row| row["person"] == "roster:odile").await;
    assert_eq!(row["reference"], reference.as_str(), "the login of that name");
    let (exchange, _) = world.device.log_in("odile", PASSWORD).await.unwrap();
    let classes = exchange.reply.unwrap().attributes.into_iter().filter(|(kind, _)| *kind == AttributeType::Class);
    assert_eq!(classes.map(|(_, value)| text(&value)).collect::<Vec<_>>(), ["mesh"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_restarts_has_no_sessions_of_before() {
    let world = World::start("").await;
    for (id, name) in [("a", "odile"), ("b", "wren")] {
        world.connect(id, name).await;
    }
    assert_eq!(world.sessions("state=open").await.len(), 2);
    assert!(world.gateway.restart().await.unwrap());
    let row = world.newest(|row| !is_open(row)).await;
    assert_eq!(row["why"], "the gateway restarted");
    assert!(world.sessions("state=open").await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_is_ended_from_here_and_says_by_whom() {
    let world = World::start("").await;
    world.connect("4f-3", "odile").await;
    let number = world.newest(|row| row["person"] == "roster:odile").await["id"].to_string();
    for (conduct, said) in [
        (Conduct::Refuses(504), "it cannot end this session (Error-Cause 504)"),
        (Conduct::IsSilent, "no answer from 127.0.0.1"),
        (Conduct::AnswersFromElsewhere, "no answer from 127.0.0.1"),
    ] {
        world.gateway.behave(conduct);
        let output = world.service.cli(&["session", "end", &number, "--reason", "maintenance"]);
        let shown = text(&output.stdout);
        assert!(output.status.code() == Some(1) && shown.contains(said), "{conduct:?}: {shown}{}", text(&output.stderr));
        if conduct == Conduct::AnswersFromElsewhere {
            // It was ended all the same; only its word did not count.
            continue;
        }
        assert!(is_open(&world.newest(|_| true).await), "{conduct:?}");
    }
    world.gateway.behave(Conduct::Obeys);
    world.connect("4f-4", "wren").await;
    let number = world.newest(|row| row["person"] == "roster:wren").await["id"].to_string();
    let said = world.service.run(&["session", "end", &number, "--reason", "maintenance"]);
    assert!(said.contains("✓") && said.contains("the gateway did it (1 try"), "{said}");
    let row = world.newest(|row| !is_open(row)).await;
    assert_eq!(row["why"], "ended by owner: maintenance (an administrator ended it)");
    let again = world.service.cli(&["session", "end", &number]);
    assert!(text(&again.stderr).contains("has ended already"), "{}", text(&again.stderr));
    let audit = world.service.run(&["audit", "list", "--limit", "5"]);
    assert!(audit.contains("session.end"), "{audit}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_grant_is_sent_to_a_session_that_is_open() {
    let world = World::start("").await;
    world.connect("4f-5", "odile").await;
    let number = world.newest(|row| row["person"] == "roster:odile").await["id"].to_string();
    let shorter = world.site.replace("integer = 3600", "integer = 600");
    assert_eq!(world.service.apply(&shorter).await.0, 201);
    let said = world.service.run(&["session", "change", &number]);
    assert!(said.contains("the gateway did it"), "{said}");
    let changed = world.gateway.open()["4f-5"].changed.clone();
    assert!(changed.contains(&(AttributeType::SessionTimeout, 600_u32.to_be_bytes().to_vec())), "{changed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_is_suspended_or_removed_is_disconnected() {
    let world = World::start("").await;
    for (id, name, command) in [("a", "odile", &["person", "suspend", "odile"][..]), ("b", "wren", &["person", "remove", "wren", "--yes"])]
    {
        world.connect(id, name).await;
        world.newest(|row| row["person"] == format!("roster:{name}").as_str()).await;
        world.service.run(command);
        let row = world.newest(|row| !is_open(row) && row["session"] == id).await;
        assert!(row["why"].as_str().unwrap().starts_with("ended because the person was "), "{row:#}");
        assert!(!world.gateway.open().contains_key(id));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn reports_that_cannot_be_right_are_answered_or_not_and_break_nothing() {
    let world = World::start("").await;
    let door = world.service.get("/status").await["accounting"][0].as_str().unwrap().parse().unwrap();
    let stranger = SimulatedGateway {
        secret: SharedSecret::new(b"another"),
        patience: Patience { wait: Duration::from_millis(200), tries: 1 },
        ..device(door)
    };
    assert!(!stranger.account(door, "odile", "x", 1).await.unwrap(), "a wrong authenticator is not answered");
    let report = async |attributes: &[(AttributeType, &[u8])]| {
        let mut message = Message::new(Code::AccountingRequest);
        attributes.iter().for_each(|(kind, value)| message.push(*kind, value));
        world.device.report(door, message).await.unwrap()
    };
    let (start, stop, id) = ([0, 0, 0, 1], [0, 0, 0, 2], AttributeType::AcctSessionId);
    assert!(report(&[]).await, "what says nothing is answered, or else it would come for ever");
    assert!(report(&[(AttributeType::AcctStatusType, &start)]).await, "without a name of the session");
    assert!(world.sessions("").await.is_empty());
    // A stop without a start, with a clock of 1970.
    assert!(report(&[(AttributeType::AcctStatusType, &stop), (id, b"lone"), (AttributeType::EventTimestamp, &[0, 0, 0, 9])]).await);
    let row = world.newest(|row| row["session"] == "lone").await;
    assert!(!is_open(&row) && row["odd"].as_str().unwrap().contains("clock is wrong"), "{row:#}");
    // Two starts with one name: the second is about somebody else.
    for name in [&b"odile"[..], b"wren"] {
        assert!(report(&[(AttributeType::AcctStatusType, &start), (id, b"twice"), (AttributeType::UserName, name)]).await);
    }
    let rows = world.sessions("gateway=slipway").await;
    let whys: Vec<_> = rows.iter().filter(|row| row["session"] == "twice").map(|row| row["why"].as_str()).collect();
    assert_eq!(whys, [None, Some("the gateway used its identifier for another session")]);
    for (query, status) in [("state=gone", 400), ("limit=x", 400), ("before=5&limit=100000", 200)] {
        assert_eq!(world.service.call("GET", &format!("/sessions?{query}"), None).await.0, status, "{query}");
    }
    assert_eq!(world.service.call("GET", "/sessions/999", None).await.0, 404);
    let log = world.service.log();
    assert!(!log.contains(SECRET) && !log.contains("panicked"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_confirmed_survives_a_power_cut() {
    let mut service = Service::start();
    let (mut confirmed, mut folders) = (Vec::new(), Vec::new());
    for round in 0..5 {
        let world = World::on(service, "").await;
        let reporting = async {
            for number in 0.. {
                let id = format!("{round}-{number}");
                let door = world.device.clone();
                let accounting = world.service.get("/status").await["accounting"][0].as_str().unwrap().parse().unwrap();
                if door.account(accounting, "odile", &id, 1).await.unwrap() {
                    confirmed.push(id);
                }
            }
        };
        // It is cut off in the midst of it.
        let _ = tokio::time::timeout(Duration::from_millis(400), reporting).await;
        let (data, folder) = world.service.kill();
        folders.extend(folder);
        service = Service::start_in(&data, &[]);
    }
    assert!(confirmed.len() > 20, "{}", confirmed.len());
    let rows = service.get("/sessions?limit=1000").await;
    let known: Vec<_> = rows["sessions"].as_array().unwrap().iter().filter_map(|row| row["session"].as_str()).collect();
    let lost: Vec<_> = confirmed.iter().filter(|id| !known.contains(&id.as_str())).collect();
    assert!(lost.is_empty(), "{lost:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_sessions_and_disconnects_one() {
    let world = World::start("").await;
    let reference = world.connect("4f-6", "odile").await;
    world.newest(|row| row["person"] == "roster:odile").await;
    let driver = Driver::start();
    let page = driver.open().await;
    page.goto(format!("http://{}/sessions#token={}", world.service.http, world.service.token)).await.unwrap();
    let row = wait_for(&page, "[data-testid=session]", "odile").await;
    assert!(row.text().await.unwrap().contains("● Open"));
    wait_for(&page, "[data-testid=session-chart]", "1 now").await;
    row.click().await.unwrap();
    let panel = wait_for(&page, "[data-testid=session-panel]", &reference).await;
    assert!(panel.text().await.unwrap().contains("192.0.2.77"));
    let mut wrong = Vec::new();
    super::accessibility::look(&page, "a session", &mut wrong).await;
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    press(&page, "Disconnect").await;
    wait_for(&page, "[data-testid=session-panel]", "ended by owner").await;
    wait_for(&page, "[data-testid=session]", "ended by owner").await;
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_disconnected_for_what_is_not_known_of_a_session() {
    let world = World::start("").await;
    for (id, name) in [("a", "odile"), ("b", "wren")] {
        world.connect(id, name).await;
        world.newest(|row| row["person"] == format!("roster:{name}").as_str()).await;
    }
    // The address of the user is known, the method is not.
    let rule = |when: &str| {
        format!("[[rules]]\nname = \"others\"\nchain = \"mesh\"\nwhen = {{ not = {{ {when} }} }}\nrefuse = \"others\"\n\n[[rules]]")
    };
    for (when, refused, unknown) in [("from = \"198.51.100.0/24\"", 0, 0), ("from = \"192.0.2.0/24\"", 2, 0), ("method = \"pap\"", 0, 2)] {
        let (status, body) = world.service.apply(&world.site.replacen("[[rules]]", &rule(when), 1)).await;
        assert_eq!(status, 201, "{body:#}");
        let said = text(&world.service.cli(&["session", "review"]).stdout);
        assert!(said.contains(&format!("the rules no longer admit {refused}, and {unknown} are not known")), "{when}: {said}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_ends_the_sessions_that_its_rules_no_longer_admit_where_that_is_asked_for() {
    let world = World::start("").await;
    for (id, name) in [("a", "odile"), ("b", "wren")] {
        world.connect(id, name).await;
        world.newest(|row| row["person"] == format!("roster:{name}").as_str()).await;
    }
    world.service.import("login,source,name,groups\nwren,roster,Wren Kittow,harbour\n").await;
    let narrower = world.site.replace("chain = \"mesh\"\ngrant", "chain = \"mesh\"\nwhen = { group = \"harbour\" }\ngrant");
    let file = world.service.data.join("narrower.toml");
    std::fs::write(&file, narrower).unwrap();
    let file = file.to_str().unwrap();
    assert!(world.service.run(&["session", "review"]).contains("2 open sessions looked at; the rules no longer admit 0"));
    let said = world.service.run(&["site", "apply", file, "--end-sessions"]);
    assert!(said.contains("roster:odile via slipway: no rule matches; the gateway did it"), "{said}");
    assert!(said.contains("the rules no longer admit 1, and 0 are not known"), "{said}");
    let row = world.newest(|_| true).await;
    assert!(is_open(&row) && row["person"] == "roster:wren", "{row:#}");
    let ended = world.ended().await;
    assert_eq!(ended["why"], "ended by owner: no rule matches (an administrator ended it)");
}

/// A world whose grant has more than fixed values.
async fn granting(grant: &str, tables: &str) -> World {
    let world = World::start("").await;
    let plain = "grant = \"mesh\"\n\n[[grants]]\nname = \"mesh\"";
    let site = world.site.replace(plain, &format!("grant = \"mesh\"\n\n{tables}\n[[grants]]\nname = \"mesh\"\n{grant}"));
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 201, "{body:#}");
    // From now on it is known to tell of its sessions.
    world.gateway.restart().await.unwrap();
    World { site, ..world }
}

async fn cause(world: &World, name: &str) -> Value {
    let (_, from) = world.device.log_in(name, PASSWORD).await.unwrap();
    world.service.trace_from(from).await["cause"].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_of_a_pool_is_given_once_and_is_free_when_its_session_ends() {
    let pools = "[[pools]]\nname = \"one\"\nranges = [\"203.0.113.80/32\"]\n";
    let world = granting("pool = \"one\"", pools).await;
    world.connect("a", "odile").await;
    assert_eq!(world.gateway.open()["a"].address, Ipv4Addr::new(203, 0, 113, 80));
    assert!(world.service.run(&["session", "pools"]).contains("100 %"));
    assert_eq!(cause(&world, "wren").await, "pool-exhausted");
    world.gateway.end("a", USER_REQUEST).await.unwrap();
    world.newest(|row| !is_open(row)).await;
    world.connect("b", "wren").await;
    assert_eq!(world.gateway.open()["b"].address, Ipv4Addr::new(203, 0, 113, 80));
    assert_eq!(world.newest(|row| row["person"] == "roster:wren").await["addresses"][0], "203.0.113.80");
    let overlapping = world.site.replace("[[pools]]", "[[pools]]\nname = \"two\"\nranges = [\"203.0.113.64/26\"]\n\n[[pools]]");
    let (status, body) = world.service.apply(&overlapping).await;
    assert!(status == 422 && body.to_string().contains("pools-overlap"), "{body:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_has_as_many_sessions_as_the_grant_allows_and_the_oldest_makes_room_where_it_says_so() {
    let world = granting("sessions = { most = 1 }", "").await;
    world.connect("a", "odile").await;
    assert_eq!(cause(&world, "odile").await, "too-many-sessions");
    world.connect("b", "wren").await;
    let roomy = world.site.replace("most = 1", "most = 1, beyond = \"end-oldest\"");
    assert_eq!(world.service.apply(&roomy).await.0, 201);
    world.connect("c", "odile").await;
    for _ in 0..250 {
        if !world.gateway.open().contains_key("a") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert_eq!(world.gateway.open().into_keys().collect::<Vec<_>>(), ["b", "c"]);
    let ended = world.ended().await;
    assert!(ended["why"].as_str().unwrap().starts_with("ended to make room for a new session"), "{ended:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_grant_sends_a_filter_tagged_values_and_what_depends_on_the_group() {
    let lines = "lines = [\"permit in ip from assigned to 10.20.0.0/16\", \"deny in ip from any to any\"]";
    let world = granting("filter = \"harbour\"", &format!("[[filters]]\nname = \"harbour\"\nsend = \"rules\"\n{lines}\n")).await;
    let more = "{ attribute = \"Tunnel-Type\", integer = 13, tag = 1 }, \
                { attribute = \"Tunnel-Private-Group-ID\", by_group = [{ group = \"harbour\", text = \"42\" }], otherwise = \"7\", tag = 1 }, \
                { attribute = \"Framed-IPv6-Prefix\", prefix = \"2001:db8:10::/64\" }, ";
    let site = world.site.replace("reply = [", &format!("reply = [{more}"));
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 201, "{body:#}");
    world.service.import("login,source,name,groups\nwren,roster,Wren Kittow,harbour\n").await;
    for (name, group) in [("odile", &b"\x017"[..]), ("wren", b"\x0142")] {
        let reply = world.device.log_in(name, PASSWORD).await.unwrap().0.reply.unwrap();
        let of = |wanted| {
            let values = reply.attributes.iter().filter(move |(kind, _)| *kind == wanted);
            values.map(|(_, value)| value.clone()).collect::<Vec<_>>()
        };
        assert_eq!(of(AttributeType::TunnelType), [[1, 0, 0, 13]]);
        assert_eq!(of(AttributeType::TunnelPrivateGroupId), [group], "{name}");
        assert_eq!(of(AttributeType::FramedIpv6Prefix), [[0, 64, 0x20, 1, 0x0d, 0xb8, 0, 0x10, 0, 0]]);
        let joined = b"permit in ip from assigned to 10.20.0.0/16\0deny in ip from any to any".to_vec();
        assert_eq!(of(AttributeType::NasFilterRule), [joined]);
    }
    for (from, to, said) in [
        ("permit in ip from assigned", "permit in ip form assigned", "`from` is missing after the protocol"),
        ("filter = \"harbour\"", "filter = \"harbor\"", "did you mean `harbour`?"),
    ] {
        let (status, body) = world.service.apply(&site.replace(from, to)).await;
        assert!(status == 422 && body.to_string().contains(said), "{body:#}");
    }
    let long: Vec<_> = (0..4_000).map(|port| format!("\"permit in tcp from assigned to 10.20.0.0/16 {port}\"")).collect();
    let (status, body) = world.service.apply(&site.replace("\"deny in ip from any to any\"", &long.join(", "))).await;
    assert!(status == 422 && body.to_string().contains("this grant's attributes need"), "{status}");
}
