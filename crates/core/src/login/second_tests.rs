//! Methods, forms, prompts, couriers, locks: what a person may type, and what lets them in.

use super::tests::*;
use super::*;
use bivector_model::device::{Device, Makes, Used};
use bivector_model::form::Form;
use bivector_model::moment::Moment;
use bivector_model::totp::{Settings, code as count_code};
use bivector_model::trace::{Outcome, Tone, Trace};
use bivector_site::{Site, SourceRef};
use bivector_wire::{
    AttributeType, Code, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, Message, MsChapProof, Secret, SharedSecret, chap_password,
    hide_password, nt_hash,
};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::Duration;

const SECOND: &str = "second = [\"totp\"]\nwhen_unclear = \"code\"";
const FORMS: &str = "forms = [\"password code(6)\", \"password\"]";
const PROMPTS: (&str, &str) = ("client_patience = \"60s\"", "shows_challenges = true");
const METHODS: &str = "methods = [\"pap\"]";
const ROSTER: &str = "first = [\"tidehall\", \"roster\"]";

/// The demo's site with prompts at the staff's gateways, and the staff's second factors.
pub(super) fn prompting(second: &str, more: &[(&str, &str)]) -> Arc<Site> {
    let slipway = ("secret = \"gateway/slipway\"", "secret = \"gateway/slipway\"\nshows_challenges = true");
    let mut change = vec![PROMPTS, slipway, (SECOND, second)];
    change.extend(more);
    site(&change)
}

pub(super) fn challenge(verdict: Verdict, trace: &Trace) -> (String, Vec<u8>) {
    let Verdict::Challenge(challenge) = verdict else { panic!("{trace:#?}") };
    (challenge.prompt.unwrap(), challenge.state)
}

pub(super) fn answer_from(via: &str, site: &Site, name: &str, text: &str, state: &[u8]) -> Request {
    let (secret, authenticator) = (SharedSecret::new(b"s"), [5; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, name.as_bytes());
    message.push(AttributeType::State, state);
    message.push(AttributeType::UserPassword, &hide_password(text.as_bytes(), &authenticator, &secret).unwrap());
    read(site, via, &message, &secret, &authenticator, true)
}

/// Logs in with a password and then with each answer; gives all prompts and how it ended.
fn dialog(world: &mut World, site: &Arc<Site>, name: &str, texts: &[&str]) -> (Vec<String>, Outcome, Option<Cause>, Trace) {
    let mut prompts = Vec::new();
    let (mut verdict, mut trace, _) = world.run(site, request(site, "breakwater", name, texts[0].as_bytes()));
    for text in &texts[1..] {
        let (prompt, state) = challenge(verdict, &trace);
        prompts.push(prompt);
        (verdict, trace, _) = world.run(site, answer_from("breakwater", site, name, text, &state));
    }
    if let Verdict::Challenge(challenge) = verdict {
        prompts.push(challenge.prompt.unwrap());
    }
    (prompts, trace.outcome, trace.cause, trace)
}

#[test]
fn password_and_code_are_asked_in_two_dialogs_and_answers_are_read_as_they_were_meant() {
    let site = prompting(SECOND, &[(FORMS, "forms = [\"password\"]")]);
    for typed in [code(0), format!(" {} {} ", &code(0)[..3], &code(0)[3..]), code(0).replace('1', "１")] {
        let (prompts, outcome, cause, trace) = dialog(&mut World::new(), &site, "ines", &["barnacle", &typed]);
        assert_eq!(
            (prompts, outcome, cause),
            (vec!["Enter the code from phone:".to_owned()], Outcome::Accepted, None),
            "{typed}: {trace:#?}"
        );
    }
    let (prompts, _, cause, _) = dialog(&mut World::new(), &site, "yuki", &["swell204813", "000000", "", "111111"]);
    assert_eq!(cause, Some(Cause::CodeWrong), "three tries");
    assert_eq!(prompts[1], "Das war nicht richtig. Code von phone:", "in the person's own language");
    let (_, _, cause, _) = dialog(&mut World::new(), &site, "odo", &["limpet77"]);
    assert_eq!(cause, Some(Cause::NotEnrolled));
}

#[test]
fn a_person_with_several_factors_chooses_by_number_or_word_or_just_types_a_code() {
    let site = prompting("second = [\"totp\", \"pager\", \"post\"]\nwhen_unclear = \"plain\"", &[]);
    let list = "Enter a code, or the number of an option:\n1 code from phone\n2 text message to …18\n3 email to i…@northmoor.example";
    for (answers, sent) in [
        (vec!["barnacle", "2", SENT], vec![0]),
        (vec!["barnacle", "３", SENT], vec![1]),
        (vec!["barnacle", "Text", SENT], vec![0]),
        (vec!["barnacle", "post", "808 123"], vec![1]),
        (vec!["barnacle", "2", "3", SENT], vec![0, 1]),
        (vec!["barnacle", &code(0)], vec![]),
        (vec!["barnacle", "1", &code(1)], vec![]),
        (vec!["barnacle", "2", &code(1)], vec![0]),
    ] {
        let mut world = World::new();
        let (prompts, outcome, _, trace) = dialog(&mut world, &site, "ines", &answers);
        assert_eq!((prompts[0].as_str(), outcome), (list, Outcome::Accepted), "{answers:?}: {trace:#?}");
        assert_eq!(world.sent.iter().map(|sent| sent.courier).collect::<Vec<_>>(), sent);
    }
    let first = prompting("second = [\"post\", \"totp\"]\nwhen_several = \"first\"", &[]);
    let (prompts, outcome, ..) = dialog(&mut World::new(), &first, "ines", &["barnacle", SENT]);
    assert_eq!((prompts[0].as_str(), outcome), ("We sent a code to i…@northmoor.example. Enter it here:", Outcome::Accepted));
}

#[test]
fn a_word_behind_the_password_chooses_the_courier() {
    let form = (FORMS, "forms = [\"password code(6)\", \"password ' ' factor\", \"password\"]");
    let site = prompting("second = [\"totp\", \"pager\"]\nwords = { pager = [\"sms\", \"text\"] }", &[form]);
    let mut world = World::new();
    let (prompts, outcome, ..) = dialog(&mut world, &site, "ines", &["barnacle SMS", SENT]);
    assert_eq!((prompts[0].as_str(), outcome), ("We sent a code to …18. Enter it here:", Outcome::Accepted));
    assert_eq!(world.guesses[0].1, "barnacle");
    assert_eq!(dialog(&mut World::new(), &site, "yuki", &["swell204813 text"]).2, Some(Cause::FactorUnreachable), "yuki has no number");
}

#[test]
fn a_courier_that_fails_or_is_limited_does_what_the_chain_says_and_a_limit_never_opens_the_way() {
    let with = |rest: &str| prompting(&format!("second = [\"pager\", \"totp\"]\nwhen_several = \"first\"\n{rest}"), &[]);
    let down = || World { courier_down: [0].into(), ..World::new() };
    assert_eq!(dialog(&mut down(), &with(""), "ines", &["barnacle"]).2, Some(Cause::CourierFailed));
    let (prompts, outcome, ..) = dialog(&mut down(), &with("when_second_is_down = \"next\""), "ines", &["barnacle", &code(0)]);
    assert_eq!((prompts[0].as_str(), outcome), ("The code could not be sent. Enter the code from phone:", Outcome::Accepted));
    let first_only = with("when_second_is_down = \"first-only\"");
    let (verdict, trace, _) = down().run(&first_only, request(&first_only, "breakwater", "ines", b"barnacle"));
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert!(matches!(accept.second(), Second::Waived(waived) if waived.is_down()));
    assert!(trace.steps.iter().any(|step| step.tone == Tone::Warn && step.said.contains("the second factor is unavailable")));
    let mut limited = World { limited: true, tokens: Default::default(), ..World::new() };
    assert_eq!(dialog(&mut limited, &first_only, "ines", &["barnacle"]).2, Some(Cause::CourierLimit));
    let (_, _, cause, trace) = dialog(
        &mut World::new(),
        &prompting("second = [\"pager\"]", &[(FORMS, "forms = [\"password\"]")]),
        "ines",
        &["barnacle", "1", "1", "1"],
    );
    assert_eq!(cause, Some(Cause::CourierLimit), "two more in one login: {trace:#?}");
}

#[test]
fn a_code_that_was_sent_ends_and_is_nobody_elses() {
    let site = prompting(
        "second = [\"post\"]",
        &[(FORMS, "forms = [\"password\"]"), ("[[identity]]", "[factors.sent]\nlasts = \"30s\"\n[[identity]]")],
    );
    let mut world = World::new();
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let (_, state) = challenge(verdict, &trace);
    let kept = world.kept[&state].clone();
    world.now = NOON.plus(Duration::from_secs(60));
    let (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "ines", SENT, &state));
    assert!(challenge(verdict, &trace).0.contains("mail to"), "offered again");
    world.now = NOON;
    for (via, name) in [("slipway", "ines"), ("breakwater", "yuki")] {
        world.kept.insert(state.clone(), kept.clone());
        let (_, trace, _) = world.run(&site, answer_from(via, &site, name, SENT, &state));
        assert_eq!(trace.cause, Some(Cause::ChallengeForeign), "{via} {name}");
    }
}

#[test]
fn a_second_round_looks_the_person_up_again() {
    let site = prompting(SECOND, &[]);
    let mut world = World::new();
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let (_, state) = challenge(verdict, &trace);
    let kept = world.kept.get(&state).unwrap();
    assert!(kept.to_bytes().expose().len() <= 200, "it fits into a State: {}", kept.to_bytes().expose().len());
    world.people.remove(&(SourceRef::Directory(0), "ines"));
    let (_, trace, _) = world.run(&site, answer_from("breakwater", &site, "ines", &code(0), &state));
    assert_eq!(trace.cause, Some(Cause::PersonUnknown));
}

fn device(id: u64, has_pin: bool, makes: Makes) -> Vec<Device> {
    vec![Device { id, label: "list".into(), has_pin, makes }]
}

fn by_count(ahead: Option<u64>, digits: u8) -> Makes {
    Makes::ByCount { seed: Secret::new(SEED.to_vec()), settings: Settings { digits, ..Settings::default() }, counter: 5, ahead }
}

#[test]
fn codes_by_count_recovery_codes_and_temporary_ones_count_where_the_chain_takes_them() {
    let all = site(&[
        (SECOND, "second = [\"totp\", \"hotp\", \"recovery\", \"temporary\"]"),
        (FORMS, "forms = [\"password code(6..10)\", \"password\"]"),
    ]);
    let list = Makes::List { codes: Secret::new(vec!["1111100000".into()]), used: 0 };
    let issued = |until| Makes::Issued { code: Secret::new("12345678".into()), until: Moment::from_secs(until), left: 1 };
    for (makes, typed, cause) in [
        (by_count(None, 6), count_code(SEED, 5, Settings::default()), None),
        (by_count(None, 6), count_code(SEED, 4, Settings::default()), Some(Cause::CodeUsed)),
        (by_count(None, 6), count_code(SEED, 40, Settings::default()), Some(Cause::CodeDrifted)),
        (by_count(Some(40), 6), count_code(SEED, 41, Settings::default()), None),
        (list.clone(), "1111100000".to_owned(), None),
        (issued(1_900_000_000), "12345678".to_owned(), None),
        (issued(1_700_000_000), "12345678".to_owned(), Some(Cause::CodeEnded)),
    ] {
        let mut world = World::new();
        world.tokens.insert("ines", device(9, false, makes));
        let (_, seen, trace) = world.log_in(&all, "breakwater", "ines", &format!("barnacle{typed}"));
        assert_eq!(seen, cause, "{typed}: {trace:#?}");
        if cause == Some(Cause::CodeDrifted) {
            assert_eq!(world.ahead, Some((9, 40)), "kept for the next one");
        }
        if cause.is_none() {
            let repeated = world.log_in(&all, "breakwater", "ines", &format!("barnacle{typed}")).1;
            assert_eq!(repeated, Some(Cause::CodeUsed));
        }
    }
    let mut world = World::new();
    world.tokens.insert("ines", device(9, false, list));
    assert_eq!(world.log_in(&site(&[]), "breakwater", "ines", "barnacle1111100000").1, Some(Cause::PasswordWrong), "not a factor there");
}

#[test]
fn a_device_by_count_that_ran_ahead_is_brought_back_at_the_prompt_and_a_wrong_clock_is_not_asked_to_wait() {
    let site = prompting("second = [\"totp\", \"hotp\"]\nwhen_unclear = \"plain\"", &[]);
    let count = |counter| count_code(SEED, counter, Settings::default());
    let mut world = World::new();
    world.tokens.insert("ines", device(9, false, by_count(None, 6)));
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let (_, state) = challenge(verdict, &trace);
    let (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "ines", &count(40), &state));
    let (prompt, state) = challenge(verdict, &trace);
    assert_eq!(prompt, "Almost. Wait for the next code from list and enter it:");
    world.tokens.insert("ines", device(9, false, by_count(world.ahead.map(|(_, counter)| counter), 6)));
    let (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "ines", &count(41), &state));
    assert!(matches!(verdict, Verdict::Accept(_)), "{trace:#?}");
    let (prompts, _, cause, _) = dialog(&mut World::new(), &site, "ines", &["barnacle", &code(9)]);
    assert_eq!((prompts[1].as_str(), cause), ("That was not correct. Enter the code from phone:", None));
}

#[test]
fn a_pin_stands_before_the_code_and_a_device_that_has_one_needs_it() {
    let pins = site(&[(FORMS, "forms = [\"password pin(4..6) code(6)\", \"password code(6)\", \"password\"]")]);
    let mut world = World::new();
    world.tokens.insert("ines", vec![Device { has_pin: true, ..token() }]);
    world.pins.insert(7, "4711");
    for (text, cause) in [
        (format!("barnacle4711{}", code(0)), None),
        (format!("barnacle4712{}", code(1)), Some(Cause::PinWrong)),
        (format!("barnacle{}", code(1)), Some(Cause::PinMissing)),
    ] {
        let seen = world.log_in(&pins, "breakwater", "ines", &text);
        assert_eq!(seen.1, cause, "{text}: {:#?}", seen.2);
    }
    assert_eq!(world.beside, [None; 3], "the PIN comes before the mark");
    assert_eq!(world.wrong["ines"], WrongTry::CODE);
    let two = prompting(SECOND, &[(FORMS, "forms = [\"password pin(4) code(6)\", \"password\"]")]);
    let (prompts, outcome, ..) = dialog(&mut world, &two, "ines", &["barnacle", &format!("4711{}", code(1))]);
    assert_eq!((prompts[0].as_str(), outcome), ("Enter your PIN followed by the code from phone:", Outcome::Accepted));
}

#[test]
fn wrong_codes_lock_the_person_under_every_name_and_gateway_and_strangers_lock_nobody() {
    let site = site(&[]);
    let mut world = World::new();
    for _ in 0..20 {
        assert_eq!(world.log_in(&site, "breakwater", "ines", "mussel000000").1, Some(Cause::PasswordWrong));
    }
    assert_eq!(world.locked_until, None, "who does not know the password counts for nothing");
    for (via, name) in [
        ("breakwater", "ines"),
        ("slipway", "NORTHMOOR\\Ines"),
        ("breakwater", "ines@northmoor.example"),
        ("slipway", "INES"),
        ("breakwater", "ines"),
    ] {
        assert_eq!(world.log_in(&site, via, name, "barnacle000000").1, Some(Cause::CodeWrong));
    }
    let (_, cause, trace) = world.log_in(&site, "slipway", "ines", &format!("barnacle{}", code(0)));
    assert_eq!(cause, Some(Cause::FactorLocked));
    assert!(trace.steps.iter().any(|step| step.said.contains("locked for another 15 min")), "{trace:#?}");
    assert!(world.used.is_empty(), "a right code is not used up by a login that is refused");
    assert!(world.beside.iter().all(Option::is_none), "neither a wrong code nor one of somebody locked is begun with");
    world.locked_until = None;
    for password in ["mussel", "barnacle"] {
        world.log_in(&site, "slipway", "ines", &format!("{password}{}", code(0)));
        assert!(matches!(world.beside.last(), Some(Some((7, Used::Step { .. })))), "the mark may begin beside the password");
    }
}

#[test]
fn a_code_guessed_beside_an_expired_password_or_an_upstreams_prompt_is_counted_too() {
    let changing = prompting("second = [\"totp\"]\nwhen_unclear = \"code\"\nchange_password = true", &[]);
    let mut world = World { expired: ["ines"].into(), ..World::new() };
    assert_eq!(world.log_in(&changing, "breakwater", "ines", "barnacle000000").1, Some(Cause::PasswordExpired));
    assert_eq!(world.wrong["ines"], WrongTry::CODE);
    let behind = prompting("second = [\"totp\"]\nwhen_unclear = \"code\"", &[(ROSTER, "first = [\"harbourlight\"]")]);
    let asks = || UpstreamAnswer::Challenge { state: vec![1], given: Given::default() };
    let groups = |world: &mut World| {
        world.upstream.push_back(asks());
        world.upstream.push_back(UpstreamAnswer::Accept(Given::default()));
        world.tokens.insert("harbourlight:ines", vec![token()]);
    };
    let begin = |world: &mut World, text: &str| {
        let (verdict, trace, _) = world.run(&behind, request(&behind, "breakwater", "ines", text.as_bytes()));
        let Verdict::Challenge(challenge) = verdict else { panic!("{trace:#?}") };
        world.run(&behind, answer_from("breakwater", &behind, "ines", "445566", &challenge.state))
    };
    let mut world = World::new();
    groups(&mut world);
    assert_eq!(begin(&mut world, "barnacle000000").1.cause, Some(Cause::CodeWrong));
    assert_eq!(world.wrong["harbourlight:ines"], WrongTry::CODE);
    groups(&mut world);
    let (verdict, trace, _) = begin(&mut world, "barnacle");
    assert_eq!(challenge(verdict, &trace).0, "Enter the code from phone:", "our own prompt follows the upstream's");
}

#[test]
fn waivers_let_in_whom_they_name_with_their_reason_and_nobody_else() {
    let waive = "second = [\"totp\"]\nwhen_unclear = \"plain\"\nwaive = [{ network = \"192.0.2.0/28\", reason = \"the control room's own desks\" }, { group = \"turbine-crew\", reason = \"on the boat\" }, { person = \"sab*\", reason = \"test account\" }]";
    let site = site(&[(SECOND, waive)]);
    let at = |site: &Site, name: &str, password: &str, caller: &str| {
        let (secret, authenticator) = (SharedSecret::new(b"s"), [4; 16]);
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, name.as_bytes());
        message.push(AttributeType::UserPassword, &hide_password(password.as_bytes(), &authenticator, &secret).unwrap());
        message.push(AttributeType::CallingStationId, caller.as_bytes());
        read(site, "breakwater", &message, &secret, &authenticator, true)
    };
    for (name, password, caller, reason) in [
        ("ines", "barnacle", "192.0.2.7", Some("the control room's own desks")),
        ("ines", "barnacle", "198.51.100.7", None),
        ("ines", "barnacle", "00-00-5E-00-53-01", None),
        ("yuki", "swell204813", "198.51.100.7", Some("on the boat")),
        ("sable", "whelk", "", Some("test account")),
    ] {
        let (verdict, trace, _) = World::new().run(&site, at(&site, name, password, caller));
        let waived = match &verdict {
            Verdict::Accept(accept) => match accept.second() {
                Second::Waived(waived) => Some(waived.reason().to_owned()),
                Second::Proved(_) => panic!(),
            },
            _ => None,
        };
        assert_eq!(waived.as_deref(), reason, "{name} at {caller}: {trace:#?}");
        assert_eq!(trace.steps.iter().any(|step| step.what == "waived" && step.tone == Tone::Warn), reason.is_some());
    }
    let (_, trace, _) = World::new().run(&site, at(&site, "ines", "mussel", "192.0.2.7"));
    assert_eq!(trace.cause, Some(Cause::PasswordWrong));
}

#[test]
fn a_code_only_chain_asks_no_source_for_a_password_and_counts_wrong_codes() {
    let site = site(&[(FORMS, "forms = [\"code(6)\"]"), (SECOND, "second = [\"totp\"]\ncode_only = true")]);
    let mut world = World::new();
    assert_eq!(world.log_in(&site, "breakwater", "ines", &code(0)).0, Outcome::Accepted);
    assert_eq!(world.log_in(&site, "breakwater", "ines", "000000").1, Some(Cause::CodeWrong));
    assert_eq!(world.log_in(&site, "breakwater", "ines", "barnacle").1, Some(Cause::CodeMissing));
    assert_eq!((world.guesses.len(), world.wrong["ines"]), (0, WrongTry::CODE));
    assert_eq!(world.log_in(&site, "breakwater", "nobody", &code(0)).1, Some(Cause::PersonUnknown));
}

/// A proof of a text, as a device would send it.
fn prove(site: &Site, method: &str, name: &str, text: &str) -> Request {
    let (secret, authenticator) = (SharedSecret::new(b"s"), [4; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, name.as_bytes());
    match method {
        "chap" => message.push(AttributeType::ChapPassword, &chap_password(7, text.as_bytes(), &authenticator)),
        "chap-challenge" => {
            message.push(AttributeType::ChapPassword, &chap_password(7, text.as_bytes(), b"a-challenge"));
            message.push(AttributeType::ChapChallenge, b"a-challenge");
        }
        _ => {
            let (value, _) = MsChapProof::answer(3, name.as_bytes(), &nt_hash(text), [8; 16], [9; 16]);
            message.push_vendor(MICROSOFT, MS_CHAP_CHALLENGE, &[8; 16]);
            message.push_vendor(MICROSOFT, MS_CHAP2_RESPONSE, &value);
        }
    }
    read(site, "breakwater", &message, &secret, &authenticator, true)
}

#[test]
fn chap_and_ms_chap_prove_password_and_live_code_against_what_the_roster_keeps() {
    let methods = (METHODS, "methods = [\"pap\", \"chap\", \"ms-chap-v2\"]\nretry = true");
    let site = prompting("second = [\"totp\"]", &[methods, (ROSTER, "first = [\"roster\"]")]);
    let both = format!("whelk{}", code(0));
    for (method, text, keeps, outcome, cause) in [
        ("chap", both.as_str(), Keeps::Text, Outcome::Accepted, None),
        ("chap-challenge", &both, Keeps::Text, Outcome::Accepted, None),
        ("ms-chap-v2", &both, Keeps::Text, Outcome::Accepted, None),
        ("chap", "whelk", Keeps::Text, Outcome::Challenged, None),
        ("ms-chap-v2", "whelk", Keeps::NtHash, Outcome::Challenged, None),
        ("ms-chap-v2", &both, Keeps::NtHash, Outcome::Refused, Some(Cause::PasswordWrong)),
        ("chap", "whelk", Keeps::Nothing, Outcome::Refused, Some(Cause::PasswordNotKept)),
        ("chap", "mussel", Keeps::Text, Outcome::Refused, Some(Cause::PasswordWrong)),
    ] {
        let mut world = World { keeps, ..World::new() };
        let (verdict, trace, _) = world.run(&site, prove(&site, method, "sable", text));
        assert_eq!((trace.outcome, trace.cause), (outcome, cause), "{method} {text}: {trace:#?}");
        assert!(world.guesses.is_empty());
        match verdict {
            Verdict::Accept(accept) if method == "ms-chap-v2" => {
                assert!(accept.keys().unwrap().success.windows(2).any(|window| window == b"S="), "the success string");
            }
            Verdict::Refuse(refusal) if method == "ms-chap-v2" => assert!(refusal.may_retry, "{refusal:?}"),
            Verdict::Challenge(challenge) => {
                let (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "sable", &code(0), &challenge.state));
                let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
                assert_eq!(accept.keys().is_some(), method == "ms-chap-v2", "the keys outlive the prompt");
            }
            _ => {}
        }
    }
    let mut world = World { keeps: Keeps::Text, ..World::new() };
    for _ in 0..49 {
        world.run(&site, prove(&site, "ms-chap-v2", "sable", "whelk000000"));
    }
    assert_eq!(world.locked_until, None);
    world.run(&site, prove(&site, "ms-chap-v2", "sable", "whelk000000"));
    assert!(world.locked_until.is_some(), "who knows the password cannot try all codes");
}

#[test]
fn a_proof_of_the_password_alone_goes_on_to_the_handset_and_its_keys_come_with_the_accept() {
    let methods = (METHODS, "methods = [\"pap\", \"ms-chap-v2\"]");
    let forms = (FORMS, "forms = [\"password\"]");
    for prompts in [false, true] {
        let second = "second = [\"approval\"]\nwhen_several = \"first\"";
        let site = match prompts {
            true => prompting(second, &[methods, forms, (ROSTER, "first = [\"roster\"]")]),
            false => site(&[(SECOND, second), methods, forms, (ROSTER, "first = [\"roster\"]")]),
        };
        let approved = Approved { handset: 31, device: "phone".into(), key: None, took: Duration::from_secs(3) };
        let mut world = World { keeps: Keeps::NtHash, handsets: (1, 0), handset_says: ApprovalAnswer::Approved(approved), ..World::new() };
        world.tokens.clear();
        let (mut verdict, mut trace, _) = world.run(&site, prove(&site, "ms-chap-v2", "sable", "whelk"));
        if prompts {
            let (prompt, state) = challenge(verdict, &trace);
            assert!(prompt.starts_with("Choose 47"), "{prompt}");
            (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "sable", "", &state));
        }
        let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
        assert_eq!((accept.keys().is_some(), world.approvals.len()), (true, 1), "both keys, and one approval");
        let (_, trace, _) = world.run(&site, prove(&site, "ms-chap-v2", "sable", "mussel"));
        assert_eq!((trace.cause, world.approvals.len()), (Some(Cause::PasswordWrong), 1), "a wrong proof asks nobody");
    }
}

#[test]
fn a_proof_that_no_source_can_compare_is_refused_with_what_would_help() {
    let site = site(&[(METHODS, "methods = [\"pap\", \"chap\", \"ms-chap-v2\"]")]);
    let (_, trace, _) = World::new().run(&site, prove(&site, "ms-chap-v2", "ines", "barnacle"));
    assert_eq!(trace.cause, Some(Cause::MethodNeedsText));
    assert!(trace.steps.iter().any(|step| step.said.contains("switch the gateway to PAP")), "{trace:#?}");
    let secret = SharedSecret::new(b"s");
    for (number, value, part) in [(25, &[0u8; 49][..], "always has 50"), (25, &[0; 50], "without MS-CHAP-Challenge")] {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"sable");
        message.push_vendor(MICROSOFT, number, value);
        let (_, trace, _) = World::new().run(&site, read(&site, "breakwater", &message, &secret, &[4; 16], true));
        assert_eq!(trace.cause, Some(Cause::CredentialUnreadable));
        assert!(trace.steps.iter().any(|step| step.said.contains(part)), "{trace:#?}");
    }
}

#[test]
fn the_reading_tester_shows_lengths_and_which_reading_counts_and_why() {
    let site = site(&[(FORMS, "forms = [\"password code(6..8)\", \"password\"]")]);
    let chain = site.chains.iter().find(|chain| chain.name == "staff").unwrap();
    let shown = |text: &str, devices: &[Device]| explain_readings(chain, &Secret::new(text.to_owned()), devices, site.codes, NOON);
    let seen = shown("tide12345678", &[token()]);
    let lengths: Vec<_> = seen.iter().map(|one| (one.password, one.code, one.counts)).collect();
    assert_eq!(lengths, [(Some(4), Some(8), false), (Some(5), Some(7), false), (Some(6), Some(6), true), (Some(12), None, false)]);
    assert!(seen[2].why.as_deref().unwrap().contains("`when_unclear` is `code`"));
    let proven = shown(&format!("Strömung{}", code(0)), &[token()]);
    let counts = proven.iter().find(|one| one.counts).unwrap();
    assert_eq!((counts.password, counts.code, counts.why.as_deref()), (Some(8), Some(6), Some("the code is valid")));
    assert!(!format!("{proven:?}").contains("Ström"));
}

proptest! {
    /// Whatever is typed at whatever prompt: without a right code nobody gets in, and nothing panics.
    #[test]
    fn no_answers_without_a_right_code_let_anybody_in(answers in proptest::collection::vec("[0-9 ]{0,7}|[a-z]{0,6}|\\PC{0,12}", 1..5)) {
        let site = prompting("second = [\"totp\", \"pager\", \"post\"]", &[]);
        let mut world = World::new();
        let (mut verdict, mut trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
        for text in answers {
            let Verdict::Challenge(challenge) = verdict else { break };
            let right = [code(-1), code(0), code(1), SENT.to_owned()];
            prop_assume!(!right.contains(&bivector_model::prompt::plain_answer(&text)));
            (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "ines", &text, &challenge.state));
        }
        prop_assert!(!matches!(verdict, Verdict::Accept(_)), "{:#?}", trace);
    }

    /// The one guess is a part of what was typed, whatever the forms.
    #[test]
    fn at_most_one_guess_goes_out_and_it_is_a_part_of_the_text(text in "[a-z0-9,]{1,20}", pick in proptest::sample::subsequence(vec!["password code(6..8)", "code(6) password", "password ',' code(6)", "password"], 1..4)) {
        let forms: Vec<String> = pick.iter().map(|form| format!("\"{form}\"")).collect();
        prop_assume!(pick.iter().any(|form| Form::parse(form).unwrap().has_code()));
        let site = site(&[(FORMS, &format!("forms = [{}]", forms.join(", ")))]);
        let mut world = World::new();
        world.log_in(&site, "breakwater", "ines", &text);
        prop_assert!(world.guesses.len() <= 1);
        prop_assert!(world.guesses.iter().all(|(_, guess)| text.contains(guess.as_str())));
    }
}
