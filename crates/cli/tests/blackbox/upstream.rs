//! Upstream RADIUS servers as source and as factor, over real sockets.

use super::harness::{Northmoor, Setup, code, ines, outcome};
use bivector_exchange::{Exchange, Request};
use bivector_lab::upstream::{Habits, StandInUpstream};
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, SharedSecret, VendorAttribute, reveal_salted};
use serde_json::Value;
use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::Duration;

const SECRET: &[u8] = b"harbourlight-Vb3kQ9";
const FIRST: &str = "first = [\"tidehall\", \"roster\"]         # the roster is asked only for people whom tidehall does not know";

async fn upstream(right: &[(&str, &str)], habits: Habits) -> StandInUpstream {
    let right: HashMap<String, String> = right.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect();
    StandInUpstream::start(SocketAddr::from(([127, 0, 0, 1], 0)), SECRET, right, habits).await.unwrap()
}

/// The demo's site with an upstream of these servers; `change` is applied after it.
async fn world(servers: &[SocketAddr], more: &str, change: &[(&str, &str)]) -> Northmoor {
    let world = Northmoor::start().await;
    world.service.seal("upstream/oldlight", std::str::from_utf8(SECRET).unwrap()).await;
    let listed: Vec<String> = servers.iter().map(|server| format!("\"{server}\"")).collect();
    let upstream = format!(
        "[[upstreams]]\nname = \"oldlight\"\nservers = [{}]\nsecret = \"upstream/oldlight\"\npatience = {{ wait = \"1500ms\", tries = 1 }}\n{more}\n\n[[identity]]",
        listed.join(", ")
    );
    let site = change.iter().fold(world.site.replacen("[[identity]]", &upstream, 1), |site, (from, to)| {
        assert!(site.contains(from), "{from}");
        site.replacen(from, to, 1)
    });
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 201, "{body}");
    Northmoor { site, ..world }
}

/// Only the upstream decides: it checks the password and asks for more itself.
const ALL_OF_IT: &[(&str, &str)] = &[
    (FIRST, "first = [\"oldlight\"]"),
    ("second = [\"totp\"]", "second = []"),
    ("\"password code(6)\", ", ""),
    ("methods = [\"pap\"]", "methods = [\"pap\", \"chap\", \"ms-chap-v2\", \"eap\"]"),
];
const GROUPS: &str = "groups_from = \"Class\"\nattributes = { up = [\"NAS-Identifier\", \"Calling-Station-Id\"], back = [\"Filter-Id\"] }";

fn attribute(exchange: &Exchange, wanted: AttributeType) -> Option<Vec<u8>> {
    exchange.reply.as_ref()?.attributes.iter().find(|(kind, _)| *kind == wanted).map(|(_, value)| value.clone())
}

fn said(trace: &Value) -> String {
    trace["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|step| format!("{}: {}\n", step["what"].as_str().unwrap(), step["said"].as_str().unwrap()))
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstream_checks_the_code_after_the_directory_checked_the_password() {
    let harbourlight = upstream(&[("tomasz", "778899")], Habits::default()).await;
    let world = world(&[harbourlight.address()], GROUPS, &[("second = [\"totp\"]", "second = [\"oldlight\"]")]).await;
    let (seen, trace) = world.log_in("breakwater", "NORTHMOOR\\Tomasz", "ebb before flood778899").await;
    assert_eq!(seen, "accept", "{trace:#}");
    let got = harbourlight.got();
    assert_eq!((got.len(), got[0].name.as_str()), (1, "tomasz"), "asked once, by the name as it was read");
    assert!(got[0].attributes.iter().any(|(kind, value)| *kind == AttributeType::NasIdentifier && value == b"breakwater"), "{got:?}");
    let (_, trace) = world.log_in("breakwater", "tomasz", "ebb before flood000000").await;
    assert_eq!(trace["cause"], "upstream-refused");
    assert!(said(&trace).contains("not today"), "{}", said(&trace));
    assert_eq!(world.log_in("breakwater", "tomasz", "wrong778899").await.1["cause"], "password-wrong");
    assert_eq!(harbourlight.got().len(), 2, "a wrong password asks no upstream");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstream_in_front_gives_groups_and_attributes_and_only_those_that_the_site_lets_through() {
    let harbourlight = upstream(&[("pump", "bilge")], Habits::default()).await;
    let world = world(&[harbourlight.address()], GROUPS, ALL_OF_IT).await;
    let (exchange, local) = world.gateway("breakwater").log_in("pump", "bilge").await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "{:#}", world.service.trace_from(local).await);
    assert_eq!(attribute(&exchange, AttributeType::FilterId).as_deref(), Some(b"from-harbourlight".as_slice()));
    assert_eq!(
        attribute(&exchange, AttributeType::Class).as_deref(),
        Some(b"turbine-crew".as_slice()),
        "by the grant, whose group came from above"
    );
    assert_eq!(attribute(&exchange, AttributeType::ReplyMessage), None);
    let chains = world.service.get("/chains").await;
    let chain = chains.as_array().unwrap().iter().find(|chain| chain["name"] == "staff").unwrap();
    assert!(chain["hops"].as_array().unwrap().iter().any(|hop| hop["name"] == "oldlight" && hop["state"] == "good"), "{chain:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dead_upstream_server_is_left_alone_and_the_next_one_answers() {
    let second = upstream(&[("pump", "bilge")], Habits::default()).await;
    // Takes datagrams and never answers.
    let silent = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let world = world(&[silent.local_addr().unwrap(), second.address()], GROUPS, ALL_OF_IT).await;
    let (seen, trace) = world.log_in("breakwater", "pump", "bilge").await;
    assert_eq!(seen, "accept", "{trace:#}");
    let (seen, trace) = world.log_in("breakwater", "pump", "bilge").await;
    assert!(seen == "accept" && !said(&trace).contains("fail-over"), "{trace:#}");
    let servers = world.service.get("/upstreams").await[1]["servers"].clone();
    assert!(
        servers[0]["state"] == "bad" && servers[0]["cause"] == "source-slow" && servers[1]["answers"].as_u64() >= Some(1),
        "{servers:#}"
    );
    assert!(world.service.run(&["upstream", "list"]).contains("down"));
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_an_upstream_does_wrong_lets_nobody_in_and_is_named() {
    for (habits, cause, part) in [
        (Habits { wrong_secret: true, ..Habits::default() }, "upstream-secret-differs", "Response Authenticator"),
        (Habits { unsigned: true, ..Habits::default() }, "upstream-secret-differs", "no Message-Authenticator"),
        (Habits { from_elsewhere: true, ..Habits::default() }, "source-slow", "no answer within 1500 ms"),
        (Habits { late: Duration::from_millis(2_500), ..Habits::default() }, "source-slow", "no answer within 1500 ms"),
    ] {
        let harbourlight = upstream(&[("pump", "bilge")], habits.clone()).await;
        let world = world(&[harbourlight.address()], GROUPS, ALL_OF_IT).await;
        let (seen, trace) = world.log_in("breakwater", "pump", "bilge").await;
        assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some(cause)), "{habits:?}\n{}", said(&trace));
        assert!(said(&trace).contains(part), "{}", said(&trace));
    }
    // Twice is once; and what comes late harms nobody who comes after.
    let harbourlight = upstream(&[("pump", "bilge")], Habits { twice: true, ..Habits::default() }).await;
    let world = world(&[harbourlight.address()], GROUPS, ALL_OF_IT).await;
    assert_eq!(world.log_in("breakwater", "pump", "bilge").await.0, "accept");
    assert_eq!(world.log_in("breakwater", "pump", "wrong").await.0, "reject", "the second copy of the accept is no answer to this one");
}

#[tokio::test(flavor = "multi_thread")]
async fn replies_without_message_authenticator_count_only_where_the_site_says_so_and_its_own_address_is_used() {
    let harbourlight = upstream(&[("pump", "bilge")], Habits { unsigned: true, ..Habits::default() }).await;
    let more = format!("{GROUPS}\nmessage_authenticator = \"when-present\"\nsource_address = \"127.0.0.53\"");
    let world = world(&[harbourlight.address()], &more, ALL_OF_IT).await;
    assert_eq!(world.log_in("breakwater", "pump", "bilge").await.0, "accept");
    assert_eq!(harbourlight.got()[0].sender.ip().to_string(), "127.0.0.53");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstreams_own_challenge_reaches_the_gateway_and_its_answer_the_upstream() {
    let habits = Habits { challenge: Some("445566".into()), ..Habits::default() };
    let harbourlight = upstream(&[("pump", "bilge")], habits).await;
    let world = world(&[harbourlight.address()], GROUPS, ALL_OF_IT).await;
    let breakwater = world.gateway("breakwater");
    let (asked, local) = breakwater.log_in("pump", "bilge").await.unwrap();
    assert_eq!(outcome(&asked), "Access-Challenge");
    assert_eq!(attribute(&asked, AttributeType::ReplyMessage).as_deref(), Some(b"Next code:".as_slice()));
    assert_ne!(attribute(&asked, AttributeType::State).as_deref(), Some(b"harbourlight-round-two".as_slice()), "its State stays with us");
    assert_eq!(world.service.trace_from(local).await["outcome"], "challenged");
    // Somebody else cannot answer it, at another gateway or by another name; its owner can, once.
    let (foreign, local) = world.gateway("slipway").answer("pump", "445566", &asked).await.unwrap();
    assert_eq!(
        (outcome(&foreign).as_str(), world.service.trace_from(local).await["cause"].as_str()),
        ("reject", Some("challenge-foreign"))
    );
    let (asked, _) = breakwater.log_in("pump", "bilge").await.unwrap();
    let (answered, local) = breakwater.answer("pump", "445566", &asked).await.unwrap();
    assert_eq!(outcome(&answered), "accept", "{:#}", world.service.trace_from(local).await);
    assert_eq!(outcome(&breakwater.answer("pump", "445566", &asked).await.unwrap().0), "reject");
    // The same from the command line, with the answer from a file.
    let folder = tempfile::tempdir().unwrap();
    let answers = folder.path().join("answers");
    std::fs::write(&answers, "445566\n").unwrap();
    let arguments = ["login", "pump", "--via", "breakwater", "--password-file", "-", "--answers-file", answers.to_str().unwrap()];
    let output = world.service.cli_with_input(&arguments, "bilge\n");
    let shown = super::harness::text(&output.stdout);
    assert!(output.status.success() && shown.contains("Access-Challenge") && shown.contains("Access-Accept"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn eap_and_ms_chap_pass_untouched_and_their_keys_are_hidden_anew_for_the_gateway() {
    let harbourlight = upstream(&[("pump", "")], Habits::default()).await;
    let world = world(&[harbourlight.address()], GROUPS, ALL_OF_IT).await;
    let response = [&[0, 0, 1, 55, 25, 52][..], &[7; 50]].concat();
    let eap = [2, 7, 0, 9, 1, b'p', b'u', b'm', b'p'];
    let secret = SharedSecret::new(super::harness::SECRET.as_bytes());
    for (kind, value) in [(AttributeType::EapMessage, eap.as_slice()), (AttributeType::VendorSpecific, response.as_slice())] {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"pump");
        message.push(kind, value);
        if kind == AttributeType::VendorSpecific {
            message.push(kind, &[&[0, 0, 1, 55, 11, 18][..], &[5; 16]].concat());
        }
        let request = Request { message, password: None, signed: true, replies: IntegrityPolicy::Required };
        let prepared = request.prepare(&secret).unwrap();
        let asker = bivector_exchange::Asker::connect("127.0.0.11:0".parse().unwrap(), world.radius).await.unwrap();
        let exchange = asker.ask_prepared(&prepared, &secret, world.gateway("breakwater").patience).await.unwrap();
        assert_eq!(outcome(&exchange), "accept", "{:#}", world.service.trace_from(asker.local().unwrap()).await);
        let got = harbourlight.got();
        let passed = &got.last().unwrap().attributes;
        assert!(passed.iter().any(|(own, bytes)| *own == kind && bytes == value), "{passed:?}");
        let keys: Vec<(u8, Vec<u8>)> = exchange
            .reply
            .unwrap()
            .attributes
            .iter()
            .filter(|(kind, _)| *kind == AttributeType::VendorSpecific)
            .filter_map(|(_, value)| {
                let vendor = VendorAttribute::read_all(value).find(|vendor| vendor.vendor == 311)?;
                Some((vendor.number, reveal_salted(vendor.value, &prepared.authenticator, &secret)?.expose().clone()))
            })
            .collect();
        assert_eq!(keys, [(16, vec![0xa5; 32]), (17, vec![0x5a; 32])]);
    }
    // EAP-Failure of the upstream reaches the person's program too.
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"stranger");
    message.push(AttributeType::EapMessage, &eap);
    let request = Request { message, password: None, signed: true, replies: IntegrityPolicy::Required };
    let (refused, _) = world.gateway("breakwater").send(&request).await.unwrap();
    assert_eq!((outcome(&refused).as_str(), attribute(&refused, AttributeType::EapMessage)), ("reject", Some(vec![4, 7, 0, 4])));
}

/// The policy server before Bivector: here another Bivector, which passes logins on to the one that knows people and codes.
#[tokio::test(flavor = "multi_thread")]
async fn both_orders_work_a_policy_server_may_stand_before_bivector_or_behind_it() {
    let behind =
        Northmoor::with(Setup { change: &[("from = [\"127.0.0.11\", ", "from = [\"127.0.0.54\", \"127.0.0.11\", ")], ..Setup::default() })
            .await;
    let before = Northmoor::start().await;
    before.service.seal("upstream/oldlight", super::harness::SECRET).await;
    let upstream = format!(
        "[[upstreams]]\nname = \"oldlight\"\nservers = [\"{}\"]\nsecret = \"upstream/oldlight\"\nsource_address = \"127.0.0.54\"\n{GROUPS}\n\n[[identity]]",
        behind.radius
    );
    let site = ALL_OF_IT.iter().fold(before.site.replacen("[[identity]]", &upstream, 1), |site, (from, to)| site.replacen(from, to, 1));
    let (status, body) = before.service.apply(&site).await;
    assert_eq!(status, 201, "{body}");
    let (exchange, local) = before.gateway("breakwater").log_in("ines", &ines()).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "{:#}", before.service.trace_from(local).await);
    assert_eq!(attribute(&exchange, AttributeType::FilterId).as_deref(), Some(b"no-ping".as_slice()), "given by the one behind");
    let trace = behind.service.newest_trace().await;
    assert_eq!((trace["gateway"].as_str(), trace["login"].as_str()), (Some("breakwater"), Some("ines")), "{trace:#}");
    let (_, trace) = before.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", -20))).await;
    assert_eq!(trace["cause"], "upstream-refused");
    assert!(said(&trace).contains("Sign-in failed. Reference"), "the reference of the one behind helps to find it there: {}", said(&trace));
}

#[tokio::test(flavor = "multi_thread")]
async fn chains_and_upstreams_are_listed_with_their_state_and_a_dead_one_says_what_to_do() {
    let world = Northmoor::start().await;
    // Nobody listens where the demo's upstream should be.
    for _ in 0..200 {
        if world.service.get("/upstreams").await[0]["servers"][0]["state"] == "bad" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    let listed = world.service.run(&["upstream", "list"]);
    assert!(listed.contains("harbourlight") && listed.contains("nothing is") && listed.contains("hardware codes"), "{listed}");
    let chains = world.service.run(&["chain", "list"]);
    for part in
        ["staff", "hardware codes", "contractors", "breakwater", "no server is available", "remedy: check that the servers are running"]
    {
        assert!(chains.contains(part), "{part}: {chains}");
    }
    let (seen, trace) = world.log_in("lantern", "tomasz@hardware.northmoor.example", "ebb before flood778899").await;
    assert_eq!(
        (seen.as_str(), trace["cause"].as_str(), trace["chain"].as_str()),
        ("reject", Some("source-unreachable"), Some("hardware codes"))
    );
    let (_, trace) = world.log_in("lantern", "pell", "x").await;
    assert_eq!(trace["chain"], "contractors", "other realms go on to the next chain");
}
