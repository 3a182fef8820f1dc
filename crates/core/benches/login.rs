//! What one login costs without its outside: packet, reading, code, rules, the whole machine.

#![allow(missing_docs, clippy::unwrap_used, clippy::panic, reason = "a benchmark")]

use bivector_core::Moment;
use bivector_core::form::{Form, readings};
use bivector_core::login::*;
use bivector_core::rule::{Decision, Groups, Rule, RuleBook, Then, When};
use bivector_core::site::{Known, Site};
use bivector_core::totp::{Settings, Token};
use bivector_core::trace::Origin;
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, Packet, Secret, SharedSecret, authenticate, hide_password};
use criterion::{Criterion, criterion_group, criterion_main};
use std::collections::BTreeMap;
use std::hint::black_box;
use std::sync::Arc;

const SITE: &str = include_str!("../../../demo/site.toml");
const NOW: Moment = Moment::from_secs(1_800_000_000);

fn token() -> Token {
    Token { id: 7, label: "token".into(), seed: Secret::new(b"12345678901234567890".to_vec()), settings: Settings::default() }
}

fn packet(secret: &SharedSecret) -> Vec<u8> {
    let code = token().code(NOW.secs() / 30);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"NORTHMOOR\\ines");
    message.push(AttributeType::UserPassword, &hide_password(format!("barnacle-and-buoy{code}").as_bytes(), &[4; 16], secret).unwrap());
    message.push(AttributeType::NasIdentifier, b"breakwater");
    message.sign_request(1, &[4; 16], secret).unwrap()
}

fn fact(need: &Need) -> Fact {
    match need {
        Need::FindPerson { .. } => Fact::Person(Answer::ours(PersonAnswer::Found(Box::new(Found {
            key: "tidehall:ines".into(),
            login: "ines".into(),
            name: "Ines Okafor".into(),
            handle: "uid=ines,ou=people,dc=northmoor,dc=example".into(),
            groups: Groups::new(["cn=control-room,ou=groups,dc=northmoor,dc=example"]),
        })))),
        Need::Tokens { .. } => Fact::Tokens(TokensAnswer::Tokens(vec![token()])),
        Need::CheckPassword { .. } => Fact::Password(Answer::ours(PasswordAnswer::Right)),
        Need::MarkCode(_) => Fact::Mark(MarkAnswer::Marked),
        other => unreachable!("this login asks for nothing else: {other:?}"),
    }
}

/// The demo's site with a thousand more gateways and a thousand more rules before those that matter.
fn crowded() -> Site {
    let gateways: String = (0..1000)
        .map(|n| format!("[[gateways]]\nname = \"g{n}\"\nfrom = [\"10.{}.{}.7\"]\nsecret = \"gateway/breakwater\"\n", n / 250, n % 250))
        .collect();
    let rules: String = (0..1000)
        .map(|n| format!("[[rules]]\nname = \"r{n}\"\nchain = \"staff\"\nwhen = {{ group = \"nobody-{n}\" }}\nrefuse = \"x\"\n"))
        .collect();
    let (before, after) = SITE.split_once("[[rules]]").unwrap();
    Site::read(&format!("{before}{gateways}{rules}[[rules]]{after}"), &Known::default()).0.unwrap()
}

fn whole(bytes: &[u8], site: &Arc<Site>, secret: &SharedSecret) -> Vec<u8> {
    let gateway = site.gateway_at("127.0.0.11".parse().unwrap()).unwrap();
    let packet = Packet::parse(bytes).unwrap();
    let authentic = authenticate(packet, secret, IntegrityPolicy::Required).unwrap();
    let request = Request::read(
        &authentic,
        secret,
        Arrival { gateway, sender: "127.0.0.11:4000".parse().unwrap(), port: 0, origin: Origin::Gateway },
    );
    let mut login = Login::begin(Arc::clone(site), request, "REFERENC".into(), 1, NOW);
    while let Next::Ask(need) = login.next() {
        login.learn(fact(&need), NOW);
    }
    let (Verdict::Accept(accept), _trace) = login.finish(0, NOW) else { panic!("accepted") };
    let mut message = Message::new(Code::AccessAccept);
    message.push_encoded(accept.attributes());
    message.sign_reply(1, packet.authenticator(), secret).unwrap()
}

fn benches(c: &mut Criterion) {
    let secret = SharedSecret::new(b"breakwater-Kq7vX2mTz9");
    let bytes = packet(&secret);
    let site = Arc::new(Site::read(SITE, &Known::default()).0.unwrap());
    c.bench_function("parse a request", |b| b.iter(|| Packet::parse(black_box(&bytes)).unwrap().attributes().count()));
    c.bench_function("parse and verify a request", |b| {
        b.iter(|| authenticate(Packet::parse(black_box(&bytes)).unwrap(), &secret, IntegrityPolicy::Required).unwrap().is_signed())
    });
    c.bench_function("parse, verify, decide password and code, sign", |b| b.iter(|| whole(black_box(&bytes), &site, &secret)));
    let crowded = Arc::new(crowded());
    c.bench_function("the same beside 1000 more gateways and rules", |b| b.iter(|| whole(black_box(&bytes), &crowded, &secret)));
    let forms: Vec<Form> = ["password code(6)", "password ',' code(6)", "password"].map(|pattern| Form::parse(pattern).unwrap()).into();
    c.bench_function("read a password field in three forms", |b| b.iter(|| readings(&forms, black_box("barnacle-and-buoy123456")).len()));
    let (token, code) = (token(), token().code(NOW.secs() / 30));
    c.bench_function("verify a code of now", |b| b.iter(|| token.verify(black_box(&code), NOW, 1)));
    let rules: RuleBook = (0..1000)
        .map(|index| Rule { name: format!("r{index}"), when: When::any_group(vec![format!("g{index}")]), then: Then::Grant(0), line: 1 })
        .collect();
    let labels = BTreeMap::from([("kind".to_owned(), "vpn".to_owned())]);
    let groups = Groups::new(["g999", "control-room", "turbine-crew"]);
    c.bench_function("the last of 1000 rules", |b| b.iter(|| matches!(black_box(&rules).decide(&groups, &labels), Decision::Passed(..))));
}

criterion_group!(all, benches);
criterion_main!(all);
