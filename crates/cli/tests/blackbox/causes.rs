//! The catalogue of causes against the real door: each comes out of a login that a real device could send.

use super::harness::{Northmoor, Setup, code, ines, outcome};
use bivector_exchange::Request;
use bivector_lab::courier::{CourierHabits, StandInCourier};
use bivector_model::Cause;
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message};
use std::time::Duration;

/// Causes that no packet may ever lead to.
const NEVER: &[Cause] = &[Cause::Unfinished];

#[test]
fn every_cause_of_the_catalogue_is_wanted_of_a_login_somewhere_in_these_tests() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/blackbox");
    let files = std::fs::read_dir(folder).unwrap().flatten().filter(|file| file.path().extension().is_some_and(|kind| kind == "rs"));
    let all: String = files.map(|file| std::fs::read_to_string(file.path()).unwrap()).collect();
    let parts: std::collections::HashSet<&str> = all.split(|c: char| !c.is_ascii_alphanumeric() && c != '-').collect();
    let missing: Vec<&Cause> = Cause::ALL.iter().filter(|cause| !NEVER.contains(cause) && !parts.contains(cause.slug())).collect();
    assert!(missing.is_empty(), "{missing:?}");
}

fn request(attributes: &[(AttributeType, &[u8])]) -> Request {
    let mut message = Message::new(Code::AccessRequest);
    attributes.iter().for_each(|(kind, value)| message.push(*kind, value));
    Request { message, password: None, signed: true, replies: IntegrityPolicy::Required }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_device_gets_wrong_in_a_packet_is_named() {
    let change = [
        ("client_patience = \"60s\"", "identifier = \"breakwater\""),
        ("gateways = [\"breakwater\", \"slipway\"]", "gateways = [\"breakwater\"]"),
        ("methods = [\"pap\"]", "methods = [\"pap\", \"chap\"]"),
        ("{ attribute = \"Class\", text = \"control-room\" }", &format!("{{ attribute = \"Class\", text = \"{}\" }}", "c".repeat(240))),
    ];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let breakwater = world.gateway("breakwater");
    let cause = async |via: &str, request: &Request| {
        let (exchange, local) = world.gateway(via).send(request).await.unwrap();
        assert_eq!(outcome(&exchange), "reject");
        world.service.trace_from(local).await["cause"].as_str().unwrap().to_owned()
    };
    let mut elsewhere = Request::login("ines", b"x");
    elsewhere.message.push(AttributeType::NasIdentifier, b"another box");
    let mut crowded = Request::login("ines", ines().as_bytes());
    (0..15).for_each(|_| crowded.message.push(AttributeType::ProxyState, &[7; 253]));
    crowded.message.push(AttributeType::ProxyState, &[7; 130]);
    for (via, request, wanted) in [
        ("breakwater", elsewhere, "device-differs"),
        ("slipway", Request::login("ines", b"x"), "chain-missing"),
        ("breakwater", Request::chap("ines", b"barnacle-and-buoy").unwrap(), "method-needs-text"),
        ("breakwater", request(&[(AttributeType::UserName, b"ines")]), "credential-missing"),
        ("breakwater", request(&[(AttributeType::UserName, b"ines"), (AttributeType::UserPassword, &[1; 17])]), "credential-unreadable"),
        ("breakwater", request(&[(AttributeType::UserName, b"ines"), (AttributeType::ChapPassword, &[1; 16])]), "credential-unreadable"),
        ("breakwater", Request::login("", b"x"), "name-missing"),
        ("breakwater", crowded, "reply-too-long"),
    ] {
        assert_eq!(cause(via, &request).await, wanted);
    }
    let (exchange, _) = breakwater.log_in("ines", &format!("barnacle-and-buoy{}", code("ines", 1))).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "and the same person gets in with a sound packet");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_person_gets_wrong_at_a_prompt_is_named() {
    let any = "127.0.0.1:0".parse().unwrap();
    let courier = StandInCourier::start(any, any, CourierHabits::default()).await.unwrap();
    let (http, smtp) = (courier.http().to_string(), courier.smtp().to_string());
    let data = super::harness::DIRECTORY.replacen("uid = \"tomasz\"", "uid = \"tomasz\"\nstate = \"expired\"", 1);
    let change = [
        ("127.0.0.1:18480", http.as_str()),
        ("127.0.0.1:18025", &smtp),
        ("[[identity]]", "[factors]\nprompt_lasts = \"1s\"\nsent = { per_person = 1 }\n[[identity]]"),
        ("client_patience = \"60s\"", "shows_challenges = true"),
        ("when_unclear = \"code\"", "when_unclear = \"code\"\nchange_password = true"),
        ("second = [\"totp\", \"recovery\", \"temporary\", \"pager\", \"post\"]", "second = [\"pager\", \"post\"]"),
        ("forms = [\"password code(6)\", \"password ' ' factor\", \"password\"]", "forms = [\"password ' ' factor\", \"password\"]"),
    ];
    let world = Northmoor::with(Setup { directory: &data, change: &change, ..Setup::default() }).await;
    let ended = async |via: &str, name: &str, texts: &[&str], wait: Duration| {
        let gateway = world.gateway(via);
        let (mut exchange, mut local) = gateway.log_in(name, texts[0]).await.unwrap();
        for text in &texts[1..] {
            assert_eq!(outcome(&exchange), "Access-Challenge", "{:#}", world.service.trace_from(local).await);
            tokio::time::sleep(wait).await;
            (exchange, local) = gateway.answer(name, text, &exchange).await.unwrap();
        }
        assert_eq!(outcome(&exchange), "reject");
        world.service.trace_from(local).await["cause"].as_str().unwrap().to_owned()
    };
    let tomasz = format!("ebb before flood{}", code("tomasz", 0));
    let (soon, late) = (Duration::ZERO, Duration::from_millis(1300));
    assert_eq!(ended("breakwater", "tomasz", &[&tomasz, "one-tide", "other-tide", "a", "b", "c", "d"], soon).await, "password-not-changed");
    assert_eq!(ended("breakwater", "ines", &["barnacle-and-buoy", &code("ines", 0)], late).await, "challenge-expired");
    let (exchange, local) = world.gateway("lantern").log_in("pell", "sounding-line").await.unwrap();
    assert_eq!(outcome(&exchange), "Access-Challenge");
    let reference = world.service.trace_from(local).await["reference"].as_str().unwrap().to_owned();
    assert_eq!(ended("lantern", "yuki", &["swell204813 sms"], soon).await, "factor-unreachable");
    assert_eq!(ended("lantern", "pell", &["sounding-line mail", "mail", "text"], soon).await, "courier-limit");
    // Nobody has answered that one meanwhile.
    let ended = world.service.ended(&reference).await;
    assert_eq!((&ended["outcome"], &ended["cause"]), (&"refused".into(), &"prompt-unanswered".into()), "{ended:#}");
}
