//! Limits on wrong passwords, what passes them, and refusals that take as long as a check.

use super::tests::*;
use super::*;
use bivector_model::trace::{Origin, Outcome, Trace};
use bivector_site::{Site, SourceRef};
use bivector_wire::{
    AttributeType, Code, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP_RESPONSE, MS_CHAP2_RESPONSE, Message, SharedSecret, chap_password,
    hide_password,
};
use std::sync::Arc;
use std::time::Duration;

const SECOND: &str = "second = [\"totp\"]\nwhen_unclear = \"code\"";
const TIDEHALL: SourceRef = SourceRef::Directory(0);

fn with_second(second: &str) -> Arc<Site> {
    site(&[(SECOND, &format!("second = [{second}]\nwhen_unclear = \"code\""))])
}

/// A request of Ines' through breakwater, from a caller, with more attributes.
fn from(site: &Site, text: &str, more: impl FnOnce(&mut Message, &SharedSecret, &[u8; 16])) -> Request {
    let (secret, authenticator) = (SharedSecret::new(b"s"), [4; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"ines");
    message.push(AttributeType::CallingStationId, b"198.51.100.7");
    message.push(AttributeType::UserPassword, &hide_password(text.as_bytes(), &authenticator, &secret).unwrap());
    more(&mut message, &secret, &authenticator);
    read(site, "breakwater", &message, &secret, &authenticator, true)
}

fn plain(site: &Site, text: &str) -> Request {
    from(site, text, |_, _, _| {})
}

fn said(trace: &Trace) -> String {
    trace.steps.iter().map(|step| format!("{}: {}", step.what, step.said)).collect::<Vec<_>>().join("\n")
}

#[test]
fn every_guess_is_counted_before_a_source_is_asked_and_told_how_it_ended() {
    let (site, mut world) = (site(&[]), World::new());
    world.run(&site, plain(&site, &format!("mussel{}", code(0))));
    world.run(&site, plain(&site, &format!("barnacle{}", code(0))));
    assert_eq!(world.ended, [false, true]);
    let guess = Guess { person: "ines".into(), caller: Some("198.51.100.7".into()), gateway: "breakwater".into(), trusted: false };
    assert_eq!(world.begun, [guess.clone(), guess]);
    world.down.insert("tidehall");
    world.run(&site, plain(&site, "barnacle"));
    assert_eq!((world.begun.len(), world.ended.len()), (2, 2), "an outage is no guess");
}

#[test]
fn a_limited_person_is_refused_without_asking_and_a_trusted_device_passes() {
    let site = with_second("\"totp\"]\nremember = \"8h\"\nwaive = [");
    let mut world = World { limited_guesses: Some(Guesser::Person), ..World::new() };
    let (_, trace, _) = world.run(&site, plain(&site, &format!("barnacle{}", code(0))));
    assert_eq!((trace.cause, world.guesses.len()), (Some(Cause::PasswordLimited), 0), "{}", said(&trace));
    assert!(said(&trace).contains("10 wrong passwords came for this person; no source is asked for another 60 s"), "{}", said(&trace));
    let station = TrustedDevice { person: "ines".into(), gateway: "breakwater".into(), caller: "198.51.100.7".into() };
    world.remembered.insert(station, NOON.plus(Duration::from_secs(600)));
    let (verdict, trace, _) = world.run(&site, plain(&site, &format!("barnacle{}", code(0))));
    assert!(matches!(verdict, Verdict::Accept(_)), "{}", said(&trace));
    world.limited_guesses = Some(Guesser::Caller);
    let (_, trace, _) = world.run(&site, plain(&site, &format!("barnacle{}", code(1))));
    assert_eq!(trace.cause, Some(Cause::CallerLimited), "a trusted device does not pass the limit of its own address");
}

#[test]
fn a_yes_on_the_own_handset_passes_the_limit_and_is_the_second_factor_too() {
    let site = with_second("\"approval\", \"totp\"");
    let yes = ApprovalAnswer::Approved(Approved { handset: 31, device: "phone".into(), key: None, took: Duration::from_secs(4) });
    for (says, typed, outcome, cause) in [
        (yes.clone(), "barnacle".to_owned(), Outcome::Accepted, None),
        (yes.clone(), format!("barnacle{}", code(0)), Outcome::Accepted, None),
        (yes, "mussel".to_owned(), Outcome::Refused, Some(Cause::PasswordWrong)),
        (ApprovalAnswer::Denied("no".into()), "barnacle".to_owned(), Outcome::Refused, Some(Cause::PasswordLimited)),
        (ApprovalAnswer::Disowned("phone".into()), "barnacle".to_owned(), Outcome::Refused, Some(Cause::PasswordLimited)),
    ] {
        let mut world = World { handsets: (1, 0), handset_says: says, limited_guesses: Some(Guesser::Person), ..World::new() };
        let (_, trace, _) = world.run(&site, plain(&site, &typed));
        assert_eq!((trace.outcome, trace.cause), (outcome, cause), "{typed}: {}", said(&trace));
        assert_eq!(world.approvals.iter().map(|ask| ask.before_password).collect::<Vec<_>>(), [true], "one approval, and no second one");
        assert!(world.wrong.is_empty(), "a no before the password is known to be right locks nobody");
    }
    let mut world = World { handsets: (1, 0), limited_guesses: Some(Guesser::Caller), ..World::new() };
    world.run(&site, plain(&site, "barnacle"));
    assert!(world.approvals.is_empty(), "a caller with too many wrong passwords buzzes no phone");
}

#[test]
fn a_name_that_nobody_has_is_refused_after_as_many_checks_as_a_wrong_password() {
    let site = site(&[]);
    let asked = |name: &str, text: &str| {
        let mut world = World::new();
        let (_, _, took) = world.run(&site, request(&site, "breakwater", name, text.as_bytes()));
        (world.guesses.len(), world.pretended, took)
    };
    assert_eq!(asked("ines", "mussel123456").1, Vec::<Vec<SourceRef>>::new(), "its own check was made");
    assert_eq!(asked("sable", "mussel123456").1, [[TIDEHALL]], "the roster has checked one, and the directory none");
    assert_eq!(asked("nobody", "mussel123456").1, [[TIDEHALL, SourceRef::Roster]]);
    for empty in ["", "123456"] {
        assert_eq!((asked("ines", empty).0, asked("ines", empty).1.len(), asked("nobody", empty).1.len()), (0, 1, 1), "{empty}");
    }
    let mut world = World { suspended: ["ines"].into(), ..World::new() };
    world.log_in(&site, "breakwater", "ines", "barnacle");
    assert_eq!(world.pretended.len(), 1);
    let mut world = World { down: ["tidehall"].into(), ..World::new() };
    world.log_in(&site, "breakwater", "ines", "barnacle");
    assert!(world.pretended.is_empty(), "a server that is down is not asked once more");
}

#[test]
fn made_up_names_are_counted_as_known_ones_are() {
    let (site, mut world) = (site(&[]), World::new());
    world.log_in(&site, "breakwater", "nobody", "mussel");
    assert_eq!((world.begun[0].person.as_str(), world.ended.as_slice()), ("?nobody", &[false][..]));
    world.limited_guesses = Some(Guesser::Person);
    let (_, cause, _) = world.log_in(&site, "breakwater", "nobody", "mussel");
    assert_eq!((cause, world.pretended.len()), (Some(Cause::PersonUnknown), 1), "no check for a known name now, and none for this");
}

#[test]
fn a_rehearsal_pretends_nothing() {
    let (site, mut world) = (site(&[]), World::new());
    let mut rehearsed = request(&site, "breakwater", "nobody", b"mussel");
    rehearsed.context.origin = Origin::Rehearsal;
    world.run(&site, rehearsed);
    assert!(world.pretended.is_empty());
}

#[test]
fn several_credentials_in_one_request_are_refused_and_all_named() {
    type More = fn(&mut Message, &SharedSecret, &[u8; 16]);
    let cases: [(&str, More); 4] = [
        ("User-Password, CHAP-Password", |message, _, authenticator| {
            message.push(AttributeType::ChapPassword, &chap_password(1, b"barnacle", authenticator));
        }),
        ("User-Password, EAP-Message", |message, _, _| message.push(AttributeType::EapMessage, &[2, 1, 0, 5, 1])),
        ("User-Password, MS-CHAP2-Response", |message, _, _| {
            message.push_vendor(MICROSOFT, MS_CHAP_CHALLENGE, &[1; 16]);
            message.push_vendor(MICROSOFT, MS_CHAP2_RESPONSE, &[0; 50]);
        }),
        ("User-Password, MS-CHAP-Response, MS-CHAP2-Response, 2 times MS-CHAP-Challenge", |message, _, _| {
            // All in one attribute (RFC 2865 section 5.26).
            let one = |number: u8, value: &[u8]| [&[number, value.len() as u8 + 2], value].concat();
            let all = [
                one(MS_CHAP_CHALLENGE, &[1; 16]),
                one(MS_CHAP_CHALLENGE, &[2; 16]),
                one(MS_CHAP_RESPONSE, &[0; 50]),
                one(MS_CHAP2_RESPONSE, &[0; 50]),
            ];
            message.push(AttributeType::VendorSpecific, &[&MICROSOFT.to_be_bytes()[..], &all.concat()].concat());
        }),
    ];
    for (names, more) in cases {
        let (site, mut world) = (site(&[]), World::new());
        let (_, trace, _) = world.run(&site, from(&site, &format!("barnacle{}", code(0)), more));
        assert_eq!((trace.cause, world.guesses.len()), (Some(Cause::CredentialSeveral), 0), "{names}");
        assert!(said(&trace).contains(names), "{}", said(&trace));
    }
}

#[test]
fn no_time_of_a_refusal_tells_a_known_name_from_an_unknown_one_with_a_slow_directory() {
    let site = site(&[]);
    for latency in [3, 90, 180, 240, 700] {
        let mut world = World { latency: Duration::from_millis(latency), ..World::new() };
        let took = |world: &mut World, name: &str| world.run(&site, request(&site, "breakwater", name, b"mussel123456")).2;
        let (known, unknown) = (took(&mut world, "ines"), took(&mut world, "nobody"));
        // In this world each question takes as long, those to our own records too; only questions outside count.
        let steps = |took: Duration| took.as_millis() / 250;
        assert!(steps(known).abs_diff(steps(unknown)) <= u128::from(latency * 2 / 250) + 1, "{latency}: {known:?} {unknown:?}");
        assert!(known.as_millis().is_multiple_of(250) && unknown.as_millis().is_multiple_of(250));
    }
}
