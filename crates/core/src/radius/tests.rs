use super::*;
use crate::login::{Challenge, Credential, Refusal, Verdict};
use bivector_model::Cause;
use bivector_model::trace::{Origin, Outcome, Trace};
use bivector_wire::{
    AttributeType, Attributes, Authentic, Code, IntegrityPolicy, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, Message, MsChapProof,
    Packet, SharedSecret, authenticate, hide_password, nt_hash,
};

const AUTHENTICATOR: [u8; 16] = [4; 16];

fn secret() -> SharedSecret {
    SharedSecret::new(b"a-secret-of-breakwater")
}

fn packet(fill: impl FnOnce(&mut Message)) -> Vec<u8> {
    let mut message = Message::new(Code::AccessRequest);
    fill(&mut message);
    message.sign_request(9, &AUTHENTICATOR, &secret()).unwrap()
}

fn authentic(bytes: &[u8]) -> Authentic<'_> {
    authenticate(Packet::parse(bytes).unwrap(), &secret(), IntegrityPolicy::Required).unwrap()
}

fn arrival() -> Arrival {
    Arrival { gateway: 0, sender: "192.0.2.7:4000".parse().unwrap(), port: 1812, origin: Origin::Gateway, secret_proved: false }
}

fn trace() -> Trace {
    let outcome = Outcome::Refused;
    Trace { reference: "REF".into(), outcome, cause: Some(Cause::PasswordWrong), ..Trace::default() }
}

fn refusal(attributes: &[u8]) -> Verdict {
    Verdict::Refuse(Refusal {
        cause: Cause::PasswordWrong,
        message: "Sign-in failed. Reference REF".into(),
        may_retry: true,
        attributes: attributes.to_vec(),
    })
}

/// The attributes of an answer, once its code and signature are found right.
fn answered(request: &[u8], verdict: &Verdict, code: Code) -> Vec<(AttributeType, Vec<u8>)> {
    let bytes = Reply::to(&authentic(request)).encode(verdict, &mut trace(), &secret(), || [0xab; 16]).unwrap();
    let packet = Packet::parse(&bytes).unwrap();
    assert_eq!((packet.code(), packet.identifier()), (code, 9));
    packet.attributes().map(|attribute| (attribute.kind, attribute.value.to_vec())).collect()
}

fn value(attributes: &[(AttributeType, Vec<u8>)], wanted: AttributeType) -> Option<&[u8]> {
    attributes.iter().find(|(kind, _)| *kind == wanted).map(|(_, value)| value.as_slice())
}

#[test]
fn a_request_keeps_what_came_beside_the_password_and_reveals_the_password_itself() {
    let bytes = packet(|message| {
        message.push(AttributeType::UserName, b"ines");
        message.push(AttributeType::UserPassword, &hide_password(b"barnacle", &AUTHENTICATOR, &secret()).unwrap());
        message.push(AttributeType::State, b"w123");
        message.push(AttributeType::CallingStationId, b" 198.51.100.7 ");
    });
    let request = read(&authentic(&bytes), &secret(), arrival());
    let Credential::Text(text) = &request.credential else { panic!("{request:?}") };
    assert_eq!((text.expose().as_slice(), request.typed_name.as_slice()), (&b"barnacle"[..], &b"ines"[..]));
    assert_eq!((request.state.as_deref(), request.context.station.as_deref()), (Some(&b"w123"[..]), Some("198.51.100.7")));
    assert_eq!(request.context.caller(), Some("198.51.100.7".parse().unwrap()));
    assert_eq!(Attributes::encoded(&request.context.attributes).count(), 5, "with the Message-Authenticator");
}

#[test]
fn a_refusal_has_its_words_and_the_proxies_marks_in_their_order() {
    let bytes = packet(|message| {
        message.push(AttributeType::UserName, b"ines");
        message.push(AttributeType::ProxyState, b"first");
        message.push(AttributeType::ProxyState, b"second");
    });
    let reply = answered(&bytes, &refusal(&[]), Code::AccessReject);
    assert_eq!(value(&reply, AttributeType::ReplyMessage), Some(&b"Sign-in failed. Reference REF"[..]));
    let marks: Vec<&[u8]> =
        reply.iter().filter(|(kind, _)| *kind == AttributeType::ProxyState).map(|(_, value)| value.as_slice()).collect();
    assert_eq!(marks, [&b"first"[..], b"second"], "RFC 2865 section 5.33");
}

#[test]
fn a_refused_ms_chap_response_gets_its_error_with_a_new_challenge() {
    let (response, _) = MsChapProof::answer(7, b"ines", &nt_hash("barnacle"), AUTHENTICATOR, [9; 16]);
    let bytes = packet(|message| {
        message.push(AttributeType::UserName, b"ines");
        message.push_vendor(MICROSOFT, MS_CHAP_CHALLENGE, &AUTHENTICATOR);
        message.push_vendor(MICROSOFT, MS_CHAP2_RESPONSE, &response);
    });
    let reply = answered(&bytes, &refusal(&[]), Code::AccessReject);
    let error = String::from_utf8_lossy(value(&reply, AttributeType::VendorSpecific).unwrap()).into_owned();
    assert!(error.contains("\u{7}E=691 R=1 C=ABAB") && error.contains("Sign-in failed"), "RFC 2548 section 2.1.5: {error}");
}

#[test]
fn a_refused_eap_response_gets_a_failure_with_its_identifier_and_no_words() {
    let bytes = packet(|message| {
        message.push(AttributeType::UserName, b"ines");
        message.push(AttributeType::EapMessage, &[2, 7, 0, 7, 3, 21, 25]);
    });
    let reply = answered(&bytes, &refusal(&[]), Code::AccessReject);
    assert_eq!(value(&reply, AttributeType::EapMessage), Some(&[4, 7, 0, 4][..]));
    assert_eq!(value(&reply, AttributeType::ReplyMessage), None, "RFC 3579 section 2.6.5");
    let own = answered(&bytes, &refusal(&[79, 6, 4, 1, 0, 4]), Code::AccessReject);
    assert_eq!(value(&own, AttributeType::EapMessage), Some(&[4, 1, 0, 4][..]), "an upstream's own refusal counts more");
}

#[test]
fn a_challenge_carries_its_state_and_says_whether_what_is_typed_may_be_shown() {
    let bytes = packet(|message| message.push(AttributeType::UserName, b"ines"));
    let challenge = Challenge { prompt: Some("Code:".into()), echo: false, secret: false, state: b"wXYZ".to_vec(), attributes: Vec::new() };
    let reply = answered(&bytes, &Verdict::Challenge(challenge.clone()), Code::AccessChallenge);
    assert_eq!(value(&reply, AttributeType::State), Some(&b"wXYZ"[..]));
    assert_eq!(value(&reply, AttributeType::Prompt), Some(&[0, 0, 0, 0][..]), "RFC 2869 section 5.10");
    let upstream = Challenge { attributes: vec![76, 6, 0, 0, 0, 1], ..challenge };
    let reply = answered(&bytes, &Verdict::Challenge(upstream), Code::AccessChallenge);
    let prompts: Vec<_> = reply.iter().filter(|(kind, _)| *kind == AttributeType::Prompt).collect();
    assert_eq!(prompts, [&(AttributeType::Prompt, vec![0, 0, 0, 1])], "the upstream's own word, once");
}
