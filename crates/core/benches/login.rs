//! What one login costs without its outside: packet, reading, code, rules, the whole machine.

#![allow(missing_docs, clippy::unwrap_used, clippy::panic, reason = "a benchmark")]

use bivector_core::login::*;
use bivector_core::radius::{self, Arrival, Reply};
use bivector_model::Moment;
use bivector_model::device::{CodeLimits, Device, Makes};
use bivector_model::facts::Resends;
use bivector_model::form::{Form, readings};
use bivector_model::rule::{Decision, Groups, Rule, RuleBook, Then, When};
use bivector_model::totp::{Settings, code};
use bivector_model::trace::Origin;
use bivector_site::{Known, Site};
use bivector_wire::{
    AttributeType, ChapProof, Code, IntegrityPolicy, Message, MsChapProof, Packet, Secret, SharedSecret, authenticate, chap_password,
    hide_password, nt_hash,
};
use criterion::{Criterion, criterion_group, criterion_main};
use std::collections::BTreeMap;
use std::hint::black_box;
use std::sync::Arc;

const SITE: &str = include_str!("../../../demo/site.toml");
const NOW: Moment = Moment::from_secs(1_800_000_000);

const SEED: &[u8] = b"12345678901234567890";

fn device() -> Device {
    Device::by_time(7, "phone", Secret::new(SEED.to_vec()), Settings::default())
}

fn packet(secret: &SharedSecret) -> Vec<u8> {
    let code = code(SEED, NOW.secs() / 30, Settings::default());
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"NORTHMOOR\\ines");
    message.push(AttributeType::UserPassword, &hide_password(format!("barnacle-and-buoy{code}").as_bytes(), &[4; 16], secret).unwrap());
    message.push(AttributeType::NasIdentifier, b"breakwater");
    message.sign_request(1, &[4; 16], secret).unwrap()
}

fn fact(need: &Need) -> Fact {
    match need {
        Need::FindPerson { .. } => Fact::Person(Answer::ours(PersonAnswer::Found(Arc::new(Found {
            key: "tidehall:ines".into(),
            login: "ines".into(),
            name: "Ines Okafor".into(),
            handle: "uid=ines,ou=people,dc=northmoor,dc=example".into(),
            groups: Groups::new(["cn=control-room,ou=groups,dc=northmoor,dc=example"]),
            ..Found::default()
        })))),
        Need::Factors { .. } => Fact::Factors(FactorsAnswer::Known(Box::new(Factors { devices: vec![device()], ..Factors::default() }))),
        Need::CheckPassword { .. } => Fact::Password(Answer::ours(PasswordAnswer::Right)),
        Need::MarkCode(_) => Fact::Mark(MarkAnswer::Marked),
        Need::BeginGuess(_) => Fact::Guess(GuessAnswer::MayTry),
        Need::EndGuess { .. } => Fact::GuessEnded(GuessCount::default()),
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
    let sender = "127.0.0.11:4000".parse().unwrap();
    let arrival = Arrival { gateway, sender, port: 0, origin: Origin::Gateway, secret_proved: false };
    let request = radius::read(&authentic, secret, arrival);
    let mut login = Login::begin(Arc::clone(site), request, "REFERENC".into(), 1, NOW);
    while let Next::Ask(need) = login.next() {
        login.learn(fact(&need), NOW);
    }
    let (verdict, mut trace) = login.finish(Resends::default(), NOW);
    assert!(matches!(verdict, Verdict::Accept(_)), "accepted");
    Reply::to(&authentic).encode(&verdict, &mut trace, secret, || [0; 16]).unwrap()
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
    c.bench_function("read a password field in three forms", |b| {
        b.iter(|| readings(&forms, &[], black_box("barnacle-and-buoy123456")).len())
    });
    let words = ["text", "mail"].map(str::to_owned);
    let many: Vec<Form> = ["password pin(4..6) code(6..8)", "password ' ' factor", "password"].map(|one| Form::parse(one).unwrap()).into();
    c.bench_function("read a password field in forms with ranges, a PIN and words", |b| {
        b.iter(|| readings(&many, &words, black_box("barnacle-and-buoy471112345678")).len())
    });
    let (device, limits, now_code) = (device(), CodeLimits::default(), code(SEED, NOW.secs() / 30, Settings::default()));
    c.bench_function("verify a code by time", |b| b.iter(|| device.verify(black_box(&now_code), NOW, &limits)));
    let makes = Makes::ByCount { seed: Secret::new(SEED.to_vec()), settings: Settings::default(), counter: 5, ahead: None };
    let (by_count, next) = (Device { makes, ..device.clone() }, code(SEED, 5, Settings::default()));
    c.bench_function("verify a code by count", |b| b.iter(|| by_count.verify(black_box(&next), NOW, &limits)));
    let chap = ChapProof::read(&chap_password(1, b"barnacle-and-buoy", &[4; 16]), &[4; 16]).unwrap();
    c.bench_function("verify a CHAP proof", |b| b.iter(|| black_box(&chap).proves(b"barnacle-and-buoy")));
    let hash = nt_hash("barnacle-and-buoy");
    let (_, ms_chap) = MsChapProof::answer(1, b"ines", &hash, [4; 16], [5; 16]);
    c.bench_function("verify an MS-CHAPv2 proof and make its keys", |b| b.iter(|| black_box(&ms_chap).proves(b"ines", &hash).is_some()));
    let rules: RuleBook = (0..1000)
        .map(|index| Rule { name: format!("r{index}"), when: When::any_group(vec![format!("g{index}")]), then: Then::Grant(0), line: 1 })
        .collect();
    let labels = BTreeMap::from([("kind".to_owned(), "vpn".to_owned())]);
    let groups = Groups::new(["g999", "control-room", "turbine-crew"]);
    c.bench_function("the last of 1000 rules", |b| b.iter(|| matches!(black_box(&rules).decide(&groups, &labels), Decision::Passed(..))));
}

criterion_group!(all, benches);
criterion_main!(all);
