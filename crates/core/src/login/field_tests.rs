//! Password fields that hold something other than one typed password: packed fields, placeholders, empty answers.

use super::packed::pack;
use super::tests::*;
use super::*;
use bivector_model::trace::{Outcome, Trace};
use bivector_site::Site;
use bivector_wire::{AttributeType, Code, Message, SharedSecret};
use std::sync::Arc;

const SECRET_LINE: &str = "secret = \"gateway/breakwater\"";

fn said(trace: &Trace) -> String {
    trace.steps.iter().map(|step| step.said.as_str()).collect::<Vec<_>>().join("\n")
}

/// The demo's site with two fields in the staff gateway's one.
fn packing() -> Arc<Site> {
    site(&[(SECRET_LINE, &format!("{SECRET_LINE}\nfields = \"scrv1\""))])
}

#[test]
fn two_packed_fields_are_password_and_code_where_the_gateway_packs_them() {
    let (site, mut world) = (packing(), World::new());
    let (outcome, cause, trace) = world.log_in(&site, "breakwater", "ines", &pack("barnacle", &code(0)));
    assert_eq!((outcome, cause), (Outcome::Accepted, None), "{}", said(&trace));
    assert_eq!(world.guesses.iter().map(|(_, text)| text.as_str()).collect::<Vec<_>>(), ["barnacle"]);
    for (text, wanted) in [
        (pack("barnacle", "000000"), Cause::CodeWrong),
        (pack("wrong", &code(1)), Cause::PasswordWrong),
        (pack("barnacle", ""), Cause::CodeMissing),
        (pack("", &code(1)), Cause::PasswordMissing),
        // One field is still read as one.
        (format!("barnacle{}", code(-5)), Cause::CodeDrifted),
    ] {
        let (_, cause, trace) = world.log_in(&site, "breakwater", "ines", &text);
        assert_eq!(cause, Some(wanted), "{text}: {}", said(&trace));
        assert!(!said(&trace).contains("barnacle"), "{}", said(&trace));
    }
    assert_eq!(world.log_in(&site, "breakwater", "ines", &format!("barnacle{}", code(1))).0, Outcome::Accepted);
    // A password with digits at its end is not cut where the code has a field of its own.
    world.guesses.clear();
    world.log_in(&site, "breakwater", "ines", &pack("barnacle123456", &code(2)));
    assert!(world.guesses.iter().all(|(_, text)| text == "barnacle123456"), "{:?}", world.guesses);
}

#[test]
fn a_packed_field_never_reaches_a_directory_as_a_password() {
    for text in [pack("barnacle", &code(0)), "SCRV1:".to_owned(), "CRV1::state::123456".to_owned()] {
        let (site, mut world) = (site(&[]), World::new());
        let (_, cause, trace) = world.log_in(&site, "breakwater", "ines", &text);
        assert_eq!((cause, world.guesses.len()), (Some(Cause::FieldsNotRead), 0), "{text}");
        assert!(said(&trace).contains("CRV1") && said(&trace).contains("fields = \"scrv1\""), "{}", said(&trace));
        assert!(Cause::FieldsNotRead.remedy().contains("fields = \"scrv1\""));
    }
    let (site, mut world) = (packing(), World::new());
    let (_, cause, trace) = world.log_in(&site, "breakwater", "ines", "SCRV1:not base64:MTIz");
    assert_eq!((cause, world.guesses.len()), (Some(Cause::CredentialUnreadable), 0));
    assert!(said(&trace).contains("two base64 texts"), "{}", said(&trace));
}

#[test]
fn the_answer_to_a_prompt_may_be_packed_with_its_state() {
    let site =
        site(&[("client_patience = \"60s\"", "shows_challenges = true"), (SECRET_LINE, &format!("{SECRET_LINE}\nfields = \"scrv1\""))]);
    let mut world = World::new();
    let (verdict, _, _) = world.run(&site, request(&site, "breakwater", "ines", pack("barnacle", "").as_bytes()));
    let Verdict::Challenge(challenge) = verdict else { panic!("{verdict:?}") };
    let text = [b"CRV1::".as_slice(), &challenge.state, b"::", code(0).as_bytes()].concat();
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", &text));
    assert!(matches!(verdict, Verdict::Accept(_)), "{}", said(&trace));
}

/// A request whose password field is hidden and empty, as gateways send it when somebody presses Enter.
fn pressed_enter(site: &Site, state: &[u8]) -> Request {
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"ines");
    message.push(AttributeType::State, state);
    message.push(AttributeType::UserPassword, b"");
    read(site, "breakwater", &message, &SharedSecret::new(b"s"), &[6; 16], true)
}

#[test]
fn a_password_of_no_bytes_with_a_state_is_an_empty_answer() {
    let site = site(&[("client_patience = \"60s\"", "shows_challenges = true")]);
    let mut world = World::new();
    let (verdict, _, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let Verdict::Challenge(challenge) = verdict else { panic!("{verdict:?}") };
    let (verdict, trace, _) = world.run(&site, pressed_enter(&site, &challenge.state));
    assert!(matches!(verdict, Verdict::Challenge(_)), "asked again: {}", said(&trace));
    assert!(said(&trace).contains("nothing was entered"), "{}", said(&trace));
}

#[test]
fn prompts_for_codes_and_passwords_are_not_echoed_and_menus_are() {
    let forms = ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password pin(4) code(6)\", \"password\"]");
    let menu = ("second = [\"totp\"]", "second = [\"totp\", \"pager\"]");
    let shows = ("client_patience = \"60s\"", "shows_challenges = true");
    for (change, echo) in [(vec![shows], false), (vec![shows, menu], true), (vec![shows, menu, forms], false)] {
        let (site, mut world) = (site(&change), World::new());
        let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
        let Verdict::Challenge(challenge) = verdict else { panic!("{}", said(&trace)) };
        assert_eq!(challenge.echo, echo, "{:?}", challenge.prompt);
    }
}

#[test]
fn the_placeholder_of_an_ssh_server_is_no_guess_whatever_its_length() {
    for typed in 1..40 {
        let text: Vec<u8> = b"\x08\n\r\x7fINCORRECT".iter().copied().cycle().take(typed).collect();
        let (site, mut world) = (site(&[]), World::new());
        let (_, trace, _) = world.run(&site, request(&site, "breakwater", "ines", &text));
        assert_eq!((trace.cause, world.guesses.len()), (Some(Cause::DeviceAccountMissing), 0), "{typed}");
    }
}

#[test]
fn a_password_that_is_noise_does_not_blame_a_secret_that_other_packets_prove() {
    let site = site(&[(SECRET_LINE, &format!("{SECRET_LINE}\nmessage_authenticator = \"when-present\""))]);
    for (proved, wanted) in [(false, Cause::SecretDiffers), (true, Cause::PasswordUnreadable)] {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"ines");
        message.push(AttributeType::UserPassword, &[0xfe; 16]);
        let mut request = read(&site, "breakwater", &message, &SharedSecret::new(b"s"), &[8; 16], false);
        request.context.secret_proved = proved;
        let (_, trace, _) = World::new().run(&site, request);
        assert_eq!(trace.cause, Some(wanted), "{}", said(&trace));
    }
}

#[test]
fn the_trace_of_a_refused_eap_request_says_that_the_chain_accepts_none_and_what_the_peer_wants() {
    let (site, mut world) = (site(&[]), World::new());
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"ines");
    // A Nak that asks for TTLS or PEAP.
    message.push(AttributeType::EapMessage, &[2, 7, 0, 7, 3, 21, 25]);
    let (verdict, trace, _) = world.run(&site, read(&site, "breakwater", &message, &SharedSecret::new(b"s"), &[4; 16], true));
    assert_eq!(trace.cause, Some(Cause::MethodNotInChain));
    assert!(
        said(&trace).contains("no EAP method is among them") && said(&trace).contains("EAP-TTLS (21) or PEAP (25)"),
        "{}",
        said(&trace)
    );
    assert!(matches!(verdict, Verdict::Refuse(_)), "{verdict:?}");
}
