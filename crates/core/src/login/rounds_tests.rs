//! Upstreams, cascades, prompts and password changes: several sources, several rounds.

use super::tests::*;
use super::*;
use bivector_model::facts::Resends;
use bivector_model::rule::Groups;
use bivector_model::trace::{Outcome, Tone, Trace};
use bivector_site::{Site, SourceRef};
use bivector_wire::{AttributeType, Code, Message, SharedSecret, hide_password};
use proptest::prelude::*;
use std::sync::Arc;

const UPSTREAM: &str = r#"
[[upstreams]]
name = "oldlight"
servers = ["127.0.0.1:1899"]
secret = "upstream/oldlight"
attributes = { up = ["Calling-Station-Id"], back = ["Filter-Id"] }
groups_from = "Class"
"#;

/// The demo's site with an upstream and other changes.
fn with_upstream(change: &[(&str, &str)]) -> Arc<Site> {
    let upstream = format!("{UPSTREAM}\n[[identity]]");
    let mut all = vec![("[[identity]]", upstream.as_str())];
    all.extend(change);
    site(&all)
}

const FIRST: &str = "first = [\"tidehall\", \"roster\"]         # the roster is asked only for people whom tidehall does not know";

fn given(attributes: &[(AttributeType, &[u8])]) -> Given {
    Given { attributes: attributes.iter().map(|(kind, value)| (*kind, value.to_vec())).collect(), hidden: Vec::new() }
}

fn accept() -> UpstreamAnswer {
    UpstreamAnswer::Accept(given(&[
        (AttributeType::Class, b"control-room"),
        (AttributeType::FilterId, b"from-above"),
        (AttributeType::SessionTimeout, &[0, 0, 0, 9]),
    ]))
}

/// The next round: the answer to a prompt.
fn answer(site: &Site, via: &str, name: &str, text: &[u8], state: &[u8]) -> Request {
    let (secret, authenticator) = (SharedSecret::new(b"s"), [5; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, name.as_bytes());
    message.push(AttributeType::State, state);
    message.push(AttributeType::UserPassword, &hide_password(text, &authenticator, &secret).unwrap());
    read(site, via, &message, &secret, &authenticator, true)
}

fn challenge(verdict: Verdict) -> Challenge {
    let Verdict::Challenge(challenge) = verdict else { panic!("{verdict:?}") };
    challenge
}

fn said(trace: &Trace) -> String {
    trace.steps.iter().map(|step| step.said.as_str()).collect::<Vec<_>>().join("\n")
}

#[test]
fn an_upstream_as_first_source_gets_the_password_without_the_code_and_its_groups_count_in_rules() {
    let site = with_upstream(&[(FIRST, "first = [\"oldlight\"]")]);
    let mut world = World::new();
    world.tokens.insert("oldlight:ines", vec![token()]);
    world.upstream.push_back(accept());
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", format!("barnacle{}", code(0)).as_bytes()));
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    let PassedCredential::Text(text) = &world.asked[0].credential else { panic!() };
    assert_eq!((text.expose().as_slice(), accept.grant()), (b"barnacle".as_slice(), "control-room"));
    let attributes = crate::radius::accept_attributes(&accept);
    let has = |wanted: &[u8]| attributes.windows(wanted.len()).any(|window| window == wanted);
    assert!(has(b"from-above") && !has(&[27, 6, 0, 0, 0, 9]), "only what the site lets back");
    world.upstream.push_back(UpstreamAnswer::Reject(given(&[(AttributeType::ReplyMessage, b"token out of step")])));
    let (_, cause, trace) = world.log_in(&site, "breakwater", "ines", "barnacle");
    assert_eq!(cause, Some(Cause::UpstreamRefused));
    assert!(said(&trace).contains("token out of step"));
}

#[test]
fn an_upstream_as_factor_gets_the_code_once_the_password_is_right() {
    let site = with_upstream(&[("second = [\"totp\"]", "second = [\"oldlight\"]")]);
    let mut world = World::new();
    assert_eq!(world.log_in(&site, "breakwater", "ines", "wrong555555").1, Some(Cause::PasswordWrong));
    assert!(world.asked.is_empty(), "a wrong password asks no upstream");
    world.upstream.push_back(accept());
    let (outcome, _, trace) = world.log_in(&site, "breakwater", "ines", "barnacle555555");
    assert_eq!(outcome, Outcome::Accepted, "{trace:#?}");
    let PassedCredential::Text(text) = &world.asked[0].credential else { panic!() };
    assert_eq!(text.expose(), b"555555");
    assert_eq!(world.log_in(&site, "breakwater", "ines", "barnacle555555").1, Some(Cause::SourceSlow), "silence lets nobody in");
    assert_eq!(world.log_in(&site, "breakwater", "ines", "barnacle").1, Some(Cause::CodeMissing));
}

#[test]
fn an_upstreams_challenge_is_passed_on_and_its_answer_goes_back_to_the_same_server_with_its_state() {
    let site = with_upstream(&[(FIRST, "first = [\"oldlight\"]"), ("second = [\"totp\"]", "second = []"), ("\"password code(6)\", ", "")]);
    let mut world = World::new();
    world
        .upstream
        .push_back(UpstreamAnswer::Challenge { state: b"theirs".to_vec(), given: given(&[(AttributeType::ReplyMessage, b"Next code:")]) });
    world.upstream.push_back(accept());
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let asked = challenge(verdict);
    assert_eq!((asked.prompt.as_deref(), trace.outcome, trace.cause), (Some("Next code:"), Outcome::Challenged, None));
    // The same State for somebody else, then by its owner, then once more.
    let (_, other, _) = world.run(&site, answer(&site, "slipway", "yuki", b"1", b"nonsense"));
    assert_eq!(other.cause, Some(Cause::ChallengeForeign));
    let (verdict, _, _) = world.run(&site, answer(&site, "breakwater", "ines", b"778899", &asked.state));
    assert!(matches!(verdict, Verdict::Accept(_)), "{verdict:?}");
    assert_eq!((world.asked[1].state.as_deref(), world.asked[1].server.as_deref()), (Some(b"theirs".as_slice()), Some("up1")));
    let (_, again, _) = world.run(&site, answer(&site, "breakwater", "ines", b"778899", &asked.state));
    assert_eq!(again.cause, Some(Cause::ChallengeForeign), "a State works once");
}

#[test]
fn a_prompt_belongs_to_one_person_at_one_gateway_and_ends() {
    let site = with_upstream(&[(FIRST, "first = [\"oldlight\"]"), ("second = [\"totp\"]", "second = []"), ("\"password code(6)\", ", "")]);
    for (via, name, late, cause) in [
        ("slipway", "ines", 0, Cause::ChallengeForeign),
        ("breakwater", "yuki", 0, Cause::ChallengeForeign),
        ("breakwater", "ines", 121, Cause::ChallengeExpired),
    ] {
        let mut world = World::new();
        world.upstream.push_back(UpstreamAnswer::Challenge { state: b"t".to_vec(), given: Given::default() });
        let asked = challenge(world.run(&site, request(&site, "breakwater", "ines", b"barnacle")).0);
        world.latency = std::time::Duration::from_secs(late);
        let (_, trace, _) = world.run(&site, answer(&site, via, name, b"1", &asked.state));
        assert_eq!((trace.cause, world.asked.len()), (Some(cause), 1), "{}", said(&trace));
    }
}

#[test]
fn methods_that_we_cannot_read_are_passed_on_untouched_and_only_where_the_chain_takes_them() {
    let site = with_upstream(&[
        (FIRST, "first = [\"oldlight\"]"),
        ("second = [\"totp\"]", "second = []"),
        ("\"password code(6)\", ", ""),
        ("methods = [\"pap\"]", "methods = [\"pap\", \"chap\", \"ms-chap-v2\", \"eap\"]"),
    ]);
    let secret = SharedSecret::new(b"s");
    let response = [&[0, 0, 1, 55, 25, 52][..], &[7; 50]].concat();
    let cases: [(AttributeType, &[u8], &str, usize); 3] = [
        (AttributeType::EapMessage, &[2, 1, 0, 5, 1], "eap", 7),
        (AttributeType::ChapPassword, &[1; 17], "chap", 19 + 18),
        (AttributeType::VendorSpecific, &response, "ms-chap-v2", 58 + 24),
    ];
    for (kind, value, method, length) in cases {
        let mut world = World::new();
        world.upstream.push_back(UpstreamAnswer::Reject(given(&[(AttributeType::EapMessage, &[4, 1, 0, 4])])));
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"ines");
        message.push(kind, value);
        if method == "ms-chap-v2" {
            message.push(kind, &[&[0, 0, 1, 55, 11, 18][..], &[5; 16]].concat());
        }
        let (verdict, trace, _) = world.run(&site, read(&site, "breakwater", &message, &secret, &[4; 16], true));
        let PassedCredential::Untouched(passed) = &world.asked[0].credential else { panic!() };
        assert!(passed.windows(value.len()).any(|window| window == value) && passed.len() == length, "{method}: {passed:x?}");
        assert_eq!(trace.method, method);
        let Verdict::Refuse(refusal) = verdict else { panic!() };
        assert_eq!(refusal.attributes, [79, 6, 4, 1, 0, 4], "the upstream's own refusal reaches the person's program");
    }
}

#[test]
fn sources_are_chosen_by_name_realm_and_group() {
    let first = r#"first = [{ source = "oldlight", name = "svc-*" }, { source = "roster", realm = "local" }, "tidehall", { source = "oldlight", group = "turbine-crew" }]"#;
    let site = with_upstream(&[
        (FIRST, first),
        ("second = [\"totp\"]", "second = []"),
        ("\"password code(6)\", ", ""),
        ("strip_prefix = [", "strip_prefix = [\"LOCAL\\\\\", "),
    ]);
    let mut world = World::new();
    for (name, source) in [("svc-pump", "oldlight"), ("LOCAL\\sable", "roster"), ("ines", "tidehall"), ("yuki", "oldlight")] {
        world.upstream.push_back(accept());
        let (_, _, trace) = world.log_in(&site, "breakwater", name, "whelk");
        assert_eq!(trace.source.as_deref(), Some(source), "{name}: {}", said(&trace));
    }
    assert_eq!(world.guesses.iter().filter(|(source, _)| *source == SourceRef::Directory(0)).count(), 1, "yuki's password went up only");
}

#[test]
fn an_outage_goes_to_the_next_source_only_where_the_chain_says_so_and_is_never_an_unknown_person() {
    let next = "when_unclear = \"code\"\nwhen_source_is_down = \"next\"";
    let site = site(&[("when_unclear = \"code\"", next)]);
    let mut world = World::new();
    world.down.insert("tidehall");
    let (outcome, _, trace) = world.log_in(&site, "breakwater", "sable", &format!("whelk{}", code(0)));
    assert_eq!(outcome, Outcome::Accepted, "{trace:#?}");
    assert!(trace.steps.iter().any(|step| step.tone == Tone::Warn && step.said.contains("asking the next source")));
    assert_eq!(
        world.log_in(&site, "breakwater", "ines", "barnacle").1,
        Some(Cause::SourceUnreachable),
        "the roster not knowing her proves nothing"
    );
}

#[test]
fn chains_that_share_a_gateway_are_told_apart_by_port_and_realm() {
    let split = |takes: &str| format!("{takes}\nname = \"staff\"");
    let second = "[[chains]]\nname = \"contractors\"\ngateways = [\"lantern\"]";
    let both = "[[chains]]\nname = \"contractors\"\ngateways = [\"lantern\", \"breakwater\"]";
    for (takes, name, chain) in [
        ("ports = [\"18120\"]", "ines", "staff"),
        ("ports = [\"1\"]", "ines", "contractors"),
        ("realms = [\"northmoor.example\"]", "ines@northmoor.example", "staff"),
        ("realms = [\"northmoor.example\"]", "ines", "contractors"),
    ] {
        let site = site(&[("name = \"staff\"", &split(takes)), (second, both)]);
        let (_, _, trace) = World::new().log_in(&site, "breakwater", name, "x");
        assert_eq!(trace.chain, chain, "{takes} {name}");
    }
}

#[test]
fn a_device_that_calls_itself_otherwise_is_refused_and_a_strange_address_is_noted() {
    let site = site(&[("client_patience = \"60s\"", "identifier = [\"bw-1\", \"bw-2\"]")]);
    let secret = SharedSecret::new(b"s");
    let send = |kind, value: &[u8]| {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"ines");
        message.push(AttributeType::UserPassword, &hide_password(b"x", &[4; 16], &secret).unwrap());
        message.push(kind, value);
        World::new().run(&site, read(&site, "breakwater", &message, &secret, &[4; 16], true)).1
    };
    assert_eq!(send(AttributeType::NasIdentifier, b"bw-9").cause, Some(Cause::DeviceDiffers));
    assert_ne!(send(AttributeType::NasIdentifier, b"bw-2").cause, Some(Cause::DeviceDiffers));
    let trace = send(AttributeType::NasIpAddress, &[127, 0, 0, 12]);
    assert!(said(&trace).contains("NAS-IP-Address is 127.0.0.12, which belongs to lantern"), "{}", said(&trace));
}

#[test]
fn a_gateway_that_writes_latin_1_is_understood_and_one_that_should_not_is_named() {
    let latin = site(&[("client_patience = \"60s\"", "charset = \"latin-1\"")]);
    let mut world = World::new();
    world.people.insert((SourceRef::Directory(0), "björn"), ("smörgås", vec!["control-room"]));
    world.tokens.insert("björn", vec![token()]);
    let bytes = |text: &str| text.chars().map(|c| c as u8).collect::<Vec<u8>>();
    let send = |site: &Arc<Site>, world: &mut World| {
        let (secret, authenticator) = (SharedSecret::new(b"s"), [4; 16]);
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, &bytes("Björn"));
        message.push(AttributeType::UserPassword, &hide_password(&bytes(&format!("smörgås{}", code(0))), &authenticator, &secret).unwrap());
        world.run(site, read(site, "breakwater", &message, &secret, &authenticator, true)).1
    };
    let trace = send(&latin, &mut world);
    assert_eq!((trace.outcome, trace.typed_name.as_str()), (Outcome::Accepted, "Björn"), "{}", said(&trace));
    let trace = send(&site(&[]), &mut world);
    assert_eq!(trace.cause, Some(Cause::NameUnreadable));
    assert!(said(&trace).contains("byte 3 is not valid UTF-8; read as Latin-1 it is `Björn`"), "{}", said(&trace));
}

fn changing() -> Arc<Site> {
    site(&[
        ("client_patience = \"60s\"", "shows_challenges = true"),
        ("when_unclear = \"code\"", "when_unclear = \"code\"\nchange_password = true"),
    ])
}

#[test]
fn an_expired_password_is_changed_at_two_prompts_and_the_login_goes_on_with_the_code_of_before() {
    let (site, mut world) = (changing(), World::new());
    world.expired.insert("ines");
    let asked = challenge(world.run(&site, request(&site, "breakwater", "ines", format!("barnacle{}", code(0)).as_bytes())).0);
    assert_eq!(asked.prompt.as_deref(), Some("Your password has expired. Enter a new password:"));
    let asked = challenge(world.run(&site, answer(&site, "breakwater", "ines", b"short", &asked.state)).0);
    assert_eq!(asked.prompt.as_deref(), Some("Repeat the new password:"));
    let asked = challenge(world.run(&site, answer(&site, "breakwater", "ines", b"short", &asked.state)).0);
    assert_eq!(asked.prompt.as_deref(), Some("Password not accepted: it is too short. Enter another one:"));
    let asked = challenge(world.run(&site, answer(&site, "breakwater", "ines", b"limpet-and-line", &asked.state)).0);
    let (verdict, trace, _) = world.run(&site, answer(&site, "breakwater", "ines", b"limpet-and-line", &asked.state));
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert_eq!((accept.second(), world.changed.len()), (&Second::Proved(SecondProved::by_kept_round(Some(7))), 2));
    assert!(!format!("{trace:?}").contains("limpet") && !format!("{:?}", world.kept).contains("limpet"));
    // The code was marked in the first round, so nobody can use it beside.
    assert_eq!(world.log_in(&site, "slipway", "ines", &format!("barnacle{}", code(0))).1, Some(Cause::PasswordExpired));
}

#[test]
fn whoever_types_only_an_expired_password_is_asked_for_the_code_and_then_for_a_new_one() {
    let (site, mut world) = (changing(), World::new());
    world.expired.insert("ines");
    let asked = challenge(world.run(&site, request(&site, "breakwater", "ines", b"barnacle")).0);
    assert_eq!(asked.prompt.as_deref(), Some("Enter the code from phone:"));
    let asked = challenge(world.run(&site, answer(&site, "breakwater", "ines", b"000000", &asked.state)).0);
    assert_eq!(
        (asked.prompt.as_deref(), world.wrong.len()),
        (Some("That was not correct. Enter the code from phone:"), 1),
        "a wrong code leads nowhere"
    );
    let right = code(0);
    let asked = challenge(world.run(&site, answer(&site, "breakwater", "ines", right.as_bytes(), &asked.state)).0);
    assert_eq!((asked.prompt.as_deref(), asked.echo), (Some("Your password has expired. Enter a new password:"), false));
    let asked = challenge(world.run(&site, answer(&site, "breakwater", "ines", b"limpet-and-line", &asked.state)).0);
    let (verdict, trace, _) = world.run(&site, answer(&site, "breakwater", "ines", b"limpet-and-line", &asked.state));
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert_eq!((accept.second(), trace.factor.as_deref()), (&Second::Proved(SecondProved::by_kept_round(Some(7))), Some("totp")));
    assert!(!format!("{:?}", world.kept).contains("barnacle"), "the old password is kept sealed and unseen");
}

#[test]
fn a_refusal_for_an_expired_password_names_the_option_that_is_missing() {
    const SHOWS: (&str, &str) = ("client_patience = \"60s\"", "shows_challenges = true");
    const CHANGES: (&str, &str) = ("when_unclear = \"code\"", "when_unclear = \"code\"\nchange_password = true");
    for (changes, wanted) in [
        (vec![], "`change_password = true` on the chain `staff` and `shows_challenges = true` on the gateway `breakwater`"),
        (vec![SHOWS], "with `change_password = true` on the chain `staff`"),
        (vec![CHANGES], "with `shows_challenges = true` on the gateway `breakwater`"),
    ] {
        let (site, mut world) = (site(&changes), World::new());
        world.expired.insert("ines");
        let trace = world.run(&site, request(&site, "breakwater", "ines", format!("barnacle{}", code(0)).as_bytes())).1;
        assert_eq!(trace.cause, Some(Cause::PasswordExpired));
        assert!(said(&trace).contains(wanted), "{}", said(&trace));
    }
    let (site, mut world) = (changing(), World::new());
    world.expired.insert("ines");
    world.tokens.clear();
    let trace = world.run(&site, request(&site, "breakwater", "ines", b"barnacle")).1;
    assert_eq!(trace.cause, Some(Cause::PasswordExpired));
    assert!(said(&trace).contains("only with a second factor that we check ourselves"), "{}", said(&trace));
}

#[test]
fn nobody_changes_a_password_without_the_code_or_with_two_that_differ_three_times() {
    let (site, mut world) = (changing(), World::new());
    world.expired.insert("ines");
    assert_eq!(world.log_in(&site, "breakwater", "ines", "barnacle000000").1, Some(Cause::PasswordExpired));
    assert_eq!(
        world.log_in(&site, "slipway", "ines", &format!("barnacle{}", code(0))).1,
        Some(Cause::PasswordExpired),
        "slipway shows no prompts"
    );
    let mut state = challenge(world.run(&site, request(&site, "breakwater", "ines", format!("barnacle{}", code(1)).as_bytes())).0).state;
    for text in ["first-new-one", "another-one", "", "barnacle"] {
        let (verdict, trace, _) = world.run(&site, answer(&site, "breakwater", "ines", text.as_bytes(), &state));
        match verdict {
            Verdict::Challenge(asked) => state = asked.state,
            _ => assert_eq!(trace.cause, Some(Cause::PasswordNotChanged)),
        }
    }
    assert!(world.changed.is_empty());
}

#[test]
fn a_directorys_warning_reaches_the_person_and_the_trace() {
    let site = site(&[]);
    let request = request(&site, "breakwater", "ines", format!("barnacle{}", code(0)).as_bytes());
    let mut login = Login::begin(Arc::clone(&site), request, "R".into(), 1, NOON);
    let found = Found { key: "ines".into(), login: "ines".into(), groups: Groups::new(["control-room"]), ..Found::default() };
    login.learn(Fact::Person(Answer::ours(PersonAnswer::Found(Arc::new(found)))), NOON);
    login.learn(Fact::Factors(FactorsAnswer::Known(Box::new(Factors { devices: vec![token()], ..Factors::default() }))), NOON);
    login.learn(Fact::Guess(GuessAnswer::MayTry), NOON);
    login.learn(Fact::Password(Answer::ours(PasswordAnswer::RightBut(bivector_model::directory::Notice::Grace(1)))), NOON);
    login.learn(Fact::GuessEnded(GuessCount::default()), NOON);
    login.learn(Fact::Mark(MarkAnswer::Marked), NOON);
    let (verdict, trace) = login.finish(Resends::default(), NOON);
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert!(accept.notice().unwrap().to_string().contains("one more grace login is left"));
    assert!(trace.steps.iter().any(|step| step.tone == Tone::Warn && step.said.contains("expired")));
}

proptest! {
    /// Whatever directory, records and upstream say in whatever order of good and bad, an accept needs every one of them to be good,
    /// and no round asks a source for more than one guess.
    #[test]
    fn an_accept_over_an_upstream_needs_every_answer_to_be_good(
        upstream_first: bool, answers in proptest::collection::vec(0u8..4, 1..4), right: bool, typed in "[0-9]{6}|",
    ) {
        let site = match upstream_first {
            true => with_upstream(&[(FIRST, "first = [\"oldlight\"]"), ("second = [\"totp\"]", "second = []"), ("\"password code(6)\", ", "")]),
            false => with_upstream(&[("second = [\"totp\"]", "second = [\"oldlight\"]")]),
        };
        let mut world = World::new();
        let said = |answer: &u8| match answer {
            0 => accept(),
            1 => UpstreamAnswer::Reject(Given::default()),
            2 => UpstreamAnswer::Challenge { state: vec![7], given: Given::default() },
            _ => UpstreamAnswer::Unavailable(Unavailable { cause: Cause::SourceSlow, seen: String::new() }),
        };
        world.upstream = answers.iter().map(said).collect();
        let password = if right { "barnacle" } else { "mussel" };
        let mut verdict = world.run(&site, request(&site, "breakwater", "ines", format!("{password}{typed}").as_bytes())).0;
        let mut rounds = 1;
        while let Verdict::Challenge(asked) = &verdict {
            rounds += 1;
            verdict = world.run(&site, answer(&site, "breakwater", "ines", b"123456", &asked.state)).0;
        }
        // By hand: a challenge asks again, anything but an accept after it ends the login.
        let first_that_ends = answers.iter().find(|answer| **answer != 2);
        let asked_at_all = upstream_first || right && !typed.is_empty();
        let wanted = asked_at_all && first_that_ends == Some(&0);
        prop_assert_eq!(matches!(verdict, Verdict::Accept(_)), wanted, "{:?} after {} rounds", verdict, rounds);
        prop_assert!(world.guesses.len() <= 1 && world.asked.len() <= rounds);
        prop_assert!(world.kept.is_empty(), "every prompt was taken");
    }

    #[test]
    fn a_state_of_anybodys_making_never_goes_on_with_a_login(state in proptest::collection::vec(any::<u8>(), 0..40)) {
        let site = with_upstream(&[]);
        let mut world = World::new();
        let (verdict, trace, _) = world.run(&site, answer(&site, "breakwater", "ines", format!("barnacle{}", code(0)).as_bytes(), &state));
        prop_assert!(matches!(verdict, Verdict::Refuse(_)));
        prop_assert_eq!(trace.cause, Some(Cause::ChallengeForeign));
    }
}

/// What somebody who is asked something may have become meanwhile, and why the answer to the prompt is refused then.
type Change = (&'static str, fn(&mut World), Cause);

fn meanwhile() -> [Change; 3] {
    [
        (
            "suspended",
            |world| {
                world.suspended.insert("ines");
            },
            Cause::PersonSuspended,
        ),
        ("deleted from the directory", |world| world.people.retain(|(_, name), _| *name != "ines"), Cause::PersonUnknown),
        ("locked", |world| world.locked_until = Some(NOON.plus(std::time::Duration::from_secs(900))), Cause::FactorLocked),
    ]
}

#[test]
fn whoever_is_suspended_deleted_or_locked_while_a_prompt_is_open_does_not_get_in_by_any_kind_of_round() {
    let first = with_upstream(&[(FIRST, "first = [\"tidehall\", { source = \"oldlight\", group = \"control-room\" }]")]);
    let second = with_upstream(&[("second = [\"totp\"]", "second = [\"oldlight\"]")]);
    let asks = site(&[("client_patience = \"60s\"", "shows_challenges = true")]);
    let changes = changing();
    let challenges = || UpstreamAnswer::Challenge { state: b"theirs".to_vec(), given: Given::default() };
    for (became, become_it, cause) in meanwhile() {
        for (round, site, typed, answered) in [
            ("an upstream's first check", &first, format!("barnacle{}", code(0)), "778899".to_owned()),
            ("an upstream's second check", &second, "barnacle555555".to_owned(), "778899".to_owned()),
            ("our own prompt", &asks, "barnacle".to_owned(), code(0)),
            ("a new password", &changes, format!("barnacle{}", code(0)), "new-barnacle".to_owned()),
        ] {
            let mut world = World::new();
            world.expired.extend((round == "a new password").then_some("ines"));
            world.upstream.extend([challenges(), accept()]);
            let asked = challenge(world.run(site, request(site, "breakwater", "ines", typed.as_bytes())).0);
            become_it(&mut world);
            let before = world.asked.len();
            let (verdict, trace, _) = world.run(site, answer(site, "breakwater", "ines", answered.as_bytes(), &asked.state));
            assert!(matches!(verdict, Verdict::Refuse(_)), "{became} during {round}: {trace:#?}");
            assert_eq!(trace.cause, Some(cause), "{became} during {round}");
            assert_eq!((world.asked.len(), world.changed.len()), (before, 0), "nobody is asked and nothing is changed any more");
        }
    }
}

#[test]
fn somebody_whom_only_an_upstream_knows_is_kept_out_once_suspended() {
    let site = with_upstream(&[(FIRST, "first = [\"oldlight\"]"), ("second = [\"totp\"]", "second = []"), ("\"password code(6)\", ", "")]);
    let mut world = World::new();
    world.upstream.push_back(UpstreamAnswer::Challenge { state: b"theirs".to_vec(), given: Given::default() });
    let asked = challenge(world.run(&site, request(&site, "breakwater", "ines", b"barnacle")).0);
    world.suspended.insert("ines");
    let (_, trace, _) = world.run(&site, answer(&site, "breakwater", "ines", b"778899", &asked.state));
    assert_eq!((trace.cause, world.asked.len()), (Some(Cause::PersonSuspended), 1));
    assert_eq!(world.log_in(&site, "breakwater", "ines", "barnacle").1, Some(Cause::PersonSuspended));
}
