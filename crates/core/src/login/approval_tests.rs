//! Approvals on the handset, people without a factor, devices that are remembered.

use super::tests::*;
use super::*;
use bivector_model::moment::Moment;
use bivector_model::trace::{Origin, Outcome, Trace};
use bivector_site::{Known, Site};
use bivector_wire::{AttributeType, Code, Message, SharedSecret, hide_password};
use std::sync::Arc;
use std::time::Duration;

const SECOND: &str = "second = [\"totp\"]\nwhen_unclear = \"code\"";
const PROMPTS: (&str, &str) = ("client_patience = \"60s\"", "shows_challenges = true");

fn staff(second: &str, more: &[(&str, &str)]) -> Arc<Site> {
    let second = format!("second = [{second}]\nwhen_unclear = \"code\"");
    let change: Vec<(&str, &str)> = [(SECOND, second.as_str())].into_iter().chain(more.iter().copied()).collect();
    site(&change)
}

fn yes(key: Option<&str>) -> ApprovalAnswer {
    let key = key.map(str::to_owned);
    ApprovalAnswer::Approved(Approved { handset: 31, device: "Ines' phone".into(), key, took: Duration::from_secs(4) })
}

/// A login through breakwater, from the person's own device.
fn from(site: &Site, text: &str, state: Option<&[u8]>, origin: Origin) -> Request {
    let (secret, authenticator) = (SharedSecret::new(b"s"), [4; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"ines");
    message.push(AttributeType::CallingStationId, b"198.51.100.7");
    message.push(AttributeType::UserPassword, &hide_password(text.as_bytes(), &authenticator, &secret).unwrap());
    if let Some(state) = state {
        message.push(AttributeType::State, state);
    }
    let mut request = read(site, "breakwater", &message, &secret, &authenticator, true);
    request.context.origin = origin;
    request
}

fn ask(world: &mut World, site: &Arc<Site>, text: &str, state: Option<&[u8]>) -> (Verdict, Trace) {
    let (verdict, trace, _) = world.run(site, from(site, text, state, Origin::Gateway));
    (verdict, trace)
}

fn prompt(verdict: Verdict, trace: &Trace) -> (String, Vec<u8>) {
    let Verdict::Challenge(challenge) = verdict else { panic!("{trace:#?}") };
    (challenge.prompt.unwrap(), challenge.state)
}

fn with_handset(says: ApprovalAnswer) -> World {
    let mut world = World { handsets: (1, 1), handset_says: says, ..World::new() };
    world.tokens.clear();
    world
}

#[test]
fn a_login_without_prompts_waits_for_the_handset_and_each_answer_has_its_outcome() {
    let site = staff("\"approval\"", &[]);
    let cases = [
        (yes(None), Outcome::Accepted, None, 0),
        (ApprovalAnswer::Denied("denied on “phone”".into()), Outcome::Refused, Some(Cause::ApprovalDenied), WrongTry::CODE),
        (ApprovalAnswer::Disowned("phone".into()), Outcome::Refused, Some(Cause::ApprovalDisowned), 0),
        (ApprovalAnswer::Unanswered("nobody".into()), Outcome::Refused, Some(Cause::ApprovalUnanswered), 0),
    ];
    for (says, outcome, cause, points) in cases {
        let mut world = with_handset(says);
        let (_, trace) = ask(&mut world, &site, "barnacle", None);
        assert_eq!((trace.outcome, trace.cause), (outcome, cause), "{trace:#?}");
        assert_eq!(world.wrong.get("ines").copied().unwrap_or(0), points, "a denial counts as a wrong code does");
        let shown = &world.approvals[0];
        assert_eq!((shown.gateway.as_str(), shown.from.as_str(), shown.wants_number), ("breakwater", "198.51.100.7", false));
    }
    let (_, trace) = ask(&mut with_handset(yes(None)), &site, "wrong", None);
    assert_eq!(trace.cause, Some(Cause::PasswordWrong), "a wrong password never buzzes a phone");
}

#[test]
fn a_gateway_with_prompts_shows_the_number_and_goes_on_when_nothing_is_typed() {
    let site = staff("\"approval\", \"totp\"", &[PROMPTS, ("shows_challenges = true", "shows_challenges = true")]);
    for typed in ["", "ok", "47"] {
        let mut world = with_handset(yes(None));
        let (verdict, trace) = ask(&mut world, &site, "barnacle", None);
        let (said, state) = prompt(verdict, &trace);
        assert_eq!(said, "Choose 47 on your phone, then continue here without entering anything.");
        let (_, trace) = ask(&mut world, &site, typed, Some(&state));
        assert_eq!((trace.outcome, world.approvals.len()), (Outcome::Accepted, 1), "{trace:#?}");
    }
    let mut world = with_handset(yes(None));
    world.tokens = [("ines", vec![token()])].into();
    let site = staff(
        "\"approval\", \"totp\"",
        &[PROMPTS, ("gateways = [\"breakwater\", \"slipway\"]", "gateways = [\"breakwater\", \"slipway\"]\nwhen_several = \"first\"")],
    );
    let (verdict, trace) = ask(&mut world, &site, "barnacle", None);
    let (_, state) = prompt(verdict, &trace);
    let (_, trace) = ask(&mut world, &site, &code(0), Some(&state));
    assert_eq!((trace.outcome, world.withdrawn), (Outcome::Accepted, vec![9]), "a code in its place takes the approval back: {trace:#?}");
}

#[test]
fn an_approval_that_must_be_proved_with_a_key_is_worth_nothing_without_it() {
    let site = staff("\"key\"", &[]);
    for (says, outcome) in [(yes(Some("yellow key")), Outcome::Accepted), (yes(None), Outcome::Refused)] {
        let mut world = with_handset(says);
        let (_, trace) = ask(&mut world, &site, "barnacle", None);
        assert_eq!(trace.outcome, outcome, "{trace:#?}");
        assert!(world.approvals[0].with_key);
    }
    let mut world = World { handsets: (1, 0), ..with_handset(yes(None)) };
    assert_eq!(ask(&mut world, &site, "barnacle", None).1.cause, Some(Cause::NotEnrolled), "a handset without a key");
}

#[test]
fn when_nobody_answers_or_no_more_may_be_asked_the_next_factor_is_asked_for() {
    let more = [
        PROMPTS,
        (
            "gateways = [\"breakwater\", \"slipway\"]",
            "gateways = [\"breakwater\", \"slipway\"]\nwhen_several = \"first\"\nwhen_unanswered = \"next\"\nmatch_number = false",
        ),
    ];
    let site = staff("\"approval\", \"totp\"", &more);
    let mut world = with_handset(ApprovalAnswer::Unanswered("nobody".into()));
    world.tokens = [("ines", vec![token()])].into();
    let (verdict, trace) = ask(&mut world, &site, "barnacle", None);
    let (said, state) = prompt(verdict, &trace);
    assert_eq!(said, "There was no answer from your phone. Enter the code from phone:");
    assert_eq!(ask(&mut world, &site, &code(0), Some(&state)).1.outcome, Outcome::Accepted);
    let limits = [
        (ApprovalSent::Limited("one waits".into()), Cause::ApprovalBusy),
        (ApprovalSent::Stopped(NOON.plus(Duration::from_secs(60))), Cause::ApprovalStopped),
    ];
    for (limit, cause) in limits {
        let mut world = with_handset(yes(None));
        world.approval_limit = Some(limit);
        assert_eq!(ask(&mut world, &site, "barnacle", None).1.cause, Some(cause), "nothing else to ask for");
        world.tokens = [("ines", vec![token()])].into();
        let (verdict, trace) = ask(&mut world, &site, "barnacle", None);
        assert!(prompt(verdict, &trace).0.ends_with("Enter the code from phone:"));
    }
}

#[test]
fn people_without_a_factor_are_refused_or_let_in_until_a_date_or_set_one_up() {
    let staff_line = "gateways = [\"breakwater\", \"slipway\"]";
    let until = |date: &str| format!("{staff_line}\nwhen_not_enrolled = \"let-in\"\nlet_in_until = \"{date}\"");
    // Noon of the tests is 2027-01-15.
    for (date, outcome) in [("2027-01-15", Outcome::Accepted), ("2027-01-14", Outcome::Refused)] {
        let site = staff("\"totp\"", &[(staff_line, &until(date))]);
        let mut world = World { handsets: (0, 0), ..with_handset(yes(None)) };
        let (verdict, trace) = ask(&mut world, &site, "barnacle", None);
        assert_eq!(trace.outcome, outcome, "{trace:#?}");
        if let Verdict::Accept(accept) = verdict {
            assert!(matches!(accept.second(), Second::Waived(_)), "it never counts as proved");
        }
    }
    let enrol = format!("{staff_line}\nwhen_not_enrolled = \"enrol\"");
    let site = staff("\"totp\"", &[PROMPTS, (staff_line, &enrol)]);
    let mut world = World { handsets: (0, 0), ..with_handset(yes(None)) };
    let (verdict, first) = ask(&mut world, &site, "barnacle", None);
    let (said, state) = prompt(verdict, &first);
    assert!(said.contains("GEZD GNBV"), "{said}");
    assert!(!format!("{first:?}").contains("GEZD"), "the key never stands in a trace");
    let (verdict, trace) = ask(&mut world, &site, "000000", Some(&state));
    let (_, state) = prompt(verdict, &trace);
    assert!(world.added.is_empty(), "nothing is kept before a right code");
    assert_eq!(ask(&mut world, &site, &code(0), Some(&state)).1.outcome, Outcome::Accepted);
    assert_eq!((world.added.len(), world.added[0].person.as_str()), (1, "ines"));
    let mut world = World { handsets: (1, 0), ..with_handset(yes(None)) };
    assert_eq!(
        ask(&mut world, &site, "barnacle", None).1.cause,
        Some(Cause::NotEnrolled),
        "a password alone adds nothing to a person with a factor"
    );
}

#[test]
fn a_remembered_device_needs_no_second_factor_on_its_gateway_but_in_rehearsals_it_does() {
    let staff_line = "gateways = [\"breakwater\", \"slipway\"]";
    let site = staff("\"totp\"", &[(staff_line, &format!("{staff_line}\nremember = \"8h\""))]);
    let mut world = World::new();
    let (verdict, _) = ask(&mut world, &site, &format!("barnacle{}", code(0)), None);
    let Verdict::Accept(accept) = verdict else { panic!() };
    let (station, until) = accept.remember().unwrap().clone();
    assert!(until >= NOON.plus(Duration::from_secs(8 * 3600)));
    world.remembered.insert(station, until);
    let (verdict, trace) = ask(&mut world, &site, "barnacle", None);
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert!(matches!(accept.second(), Second::Waived(_)) && accept.remember().is_none(), "being remembered does not renew itself");
    let (_, trace, _) = world.run(&site, from(&site, "barnacle", None, Origin::Rehearsal));
    assert_eq!(trace.cause, Some(Cause::CodeMissing), "a rehearsal proves the factor");
    world.now = Moment::from_micros(until.micros() + 1);
    assert_eq!(ask(&mut world, &site, "barnacle", None).1.cause, Some(Cause::CodeMissing), "has expired");
}

#[test]
fn mistakes_about_approvals_in_a_site_file_are_named() {
    let text = include_str!("../../../../demo/site.toml");
    let cases = [
        ("address = \"http://localhost:18080\"", "", "key-without-address"),
        ("second = [\"totp\"]", "second = [\"totp\"]\nlet_in_until = \"2027-01-01\"", "contradiction"),
        ("second = [\"totp\"]", "second = [\"totp\"]\nwhen_not_enrolled = \"let-in\"", "missing-key"),
        ("second = [\"totp\"]", "second = [\"totp\"]\nwhen_not_enrolled = \"let-in\"\nlet_in_until = \"31.12.\"", "bad-date"),
        ("second = [\"totp\"]", "second = [\"totp\"]\nwhen_not_enrolled = \"let-in\"\nlet_in_until = \"2027-01-01\"", "lets-in"),
        ("second = [\"totp\"]", "second = [\"approval\"]\nwhen_not_enrolled = \"enrol\"", "enrol-without-totp"),
        ("http://localhost:18080", "http://login.northmoor.example", "bad-address"),
        ("http://localhost:18080", "https://login.northmoor.example/x", "bad-address"),
        ("chain = \"staff\"  ", "chain = \"stuff\"  ", "name-not-found"),
        ("[[grants]]", "[[newcomers]]\ngroup = \"turbine-crew\"\nfactor = \"totp\"\nsend_by = \"pst\"\n\n[[grants]]", "name-not-found"),
    ];
    for (from, to, code) in cases {
        let (_, findings) = Site::read(&text.replacen(from, to, 1), &Known::default());
        assert!(findings.iter().any(|finding| finding.code == code && !finding.remedy.is_empty()), "{to}: {findings:#?}");
    }
}
