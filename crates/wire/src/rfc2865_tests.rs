//! RFC 2865 section 7 vectors, byte for byte, beside the signing and the checking of both directions.

use super::*;
use crate::{
    IntegrityPolicy, NotAuthentic, Packet, authenticate, authenticate_accounting, authenticate_reply, hide_password, reveal_password,
};

fn bytes(hex: &str) -> Vec<u8> {
    let digits: Vec<u8> = hex.bytes().filter(u8::is_ascii_hexdigit).collect();
    digits.chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap()).collect()
}

/// Section 7.1: user nemo logs in with the password "arctangent"; shared secret "xyzzy5461".
const REQUEST_7_1: &str = "01 00 00 38 0f 40 3f 94 73 97 80 57 bd 83 d5 cb 98 f4 22 7a 01 06 6e 65 6d 6f 02 12 0d be 70 8d 93 d4 13 ce
    31 96 e4 3f 78 2a 0a ee 04 06 c0 a8 01 10 05 06 00 00 00 03";
const ACCEPT_7_1: &str =
    "02 00 00 26 86 fe 22 0e 76 24 ba 2a 10 05 f6 bf 9b 55 e0 b2 06 06 00 00 00 01 0f 06 00 00 00 00 0e 06 c0 a8 01 03";
/// Section 7.2: the CHAP request and its accept.
const REQUEST_7_2_AUTHENTICATOR: &str = "2a ee 86 f0 8d 0d 55 96 9c a5 97 8e 0d 33 67 a2";
const ACCEPT_7_2: &str = "02 01 00 38 15 ef bc 7d ab 26 cf a3 dc 34 d9 c0 3c 86 01 a4 06 06 00 00 00 02 07 06 00 00 00 01 08 06 ff ff ff
    fe 0a 06 00 00 00 02 0d 06 00 00 00 01 0c 06 00 00 05 dc";

#[test]
fn section_7_1_request_reads_as_the_rfc_says() {
    let (raw, secret) = (bytes(REQUEST_7_1), SharedSecret::new(b"xyzzy5461"));
    let packet = Packet::parse(&raw).unwrap();
    assert_eq!((packet.code(), packet.identifier(), packet.text(AttributeType::UserName)), (Code::AccessRequest, 0, Some("nemo")));
    let hidden = packet.first(AttributeType::UserPassword).unwrap().value;
    assert_eq!(reveal_password(hidden, packet.authenticator(), &secret).unwrap().expose(), b"arctangent");
    assert_eq!(hide_password(b"arctangent", packet.authenticator(), &secret).unwrap(), hidden);
    assert_eq!(authenticate(packet, &secret, IntegrityPolicy::Required).unwrap_err(), NotAuthentic::Missing);
    assert!(!authenticate(packet, &secret, IntegrityPolicy::WhenPresent).unwrap().is_signed());
}

#[test]
fn section_7_response_authenticators_come_out_as_the_rfc_prints_them() {
    let secret = SharedSecret::new(b"xyzzy5461");
    for (accept, request_authenticator) in [(ACCEPT_7_1, &bytes(REQUEST_7_1)[4..20]), (ACCEPT_7_2, &bytes(REQUEST_7_2_AUTHENTICATOR)[..])] {
        let accept = bytes(accept);
        let authenticator: [u8; 16] = request_authenticator.try_into().unwrap();
        assert_eq!(secret.response_authenticator(&accept, &authenticator), accept[4..20]);
        // The RFC's replies carry no Message-Authenticator, so they are the right ones and yet not good enough for us.
        assert_eq!(
            authenticate_reply(Packet::parse(&accept).unwrap(), &authenticator, &secret, IntegrityPolicy::Required).unwrap_err(),
            NotAuthentic::Missing
        );
    }
}

#[test]
fn a_signed_reply_proves_itself_and_every_changed_byte_is_noticed() {
    let (secret, authenticator) = (SharedSecret::new(b"breakwater-secret"), [7; 16]);
    let mut message = Message::new(Code::AccessAccept);
    message.push(AttributeType::Class, b"control-room");
    let signed = message.sign_reply(9, &authenticator, &secret).unwrap();
    assert_eq!(signed[20], 80, "Message-Authenticator stands first");
    assert!(authenticate_reply(Packet::parse(&signed).unwrap(), &authenticator, &secret, IntegrityPolicy::Required).unwrap().is_signed());
    for at in 0..signed.len() {
        let mut changed = signed.clone();
        changed[at] ^= 1;
        let noticed = Packet::parse(&changed)
            .map_or(true, |packet| authenticate_reply(packet, &authenticator, &secret, IntegrityPolicy::Required).is_err());
        assert!(noticed, "byte {at} changed unnoticed");
    }
}

#[test]
fn a_wrong_secret_is_told_from_a_changed_packet() {
    let (secret, authenticator) = (SharedSecret::new(b"right"), [3; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"ines");
    message.push(AttributeType::UserPassword, &hide_password("barnacle über 123456".as_bytes(), &authenticator, &secret).unwrap());
    let mut signed = message.sign_request(1, &authenticator, &secret).unwrap();
    let check =
        |bytes: &[u8], secret: &SharedSecret| authenticate(Packet::parse(bytes).unwrap(), secret, IntegrityPolicy::Required).map(|_| ());
    assert_eq!(check(&signed, &secret), Ok(()));
    assert_eq!(check(&signed, &SharedSecret::new(b"right ")), Err(NotAuthentic::SecretDiffers));
    let name = signed.windows(4).position(|w| w == b"ines").unwrap();
    signed[name] = b'I';
    assert_eq!(check(&signed, &secret), Err(NotAuthentic::Altered));
}

#[test]
fn a_packet_of_4097_bytes_is_refused_and_4096_are_sent() {
    let secret = SharedSecret::new(b"s");
    let mut message = Message::new(Code::AccessAccept);
    for _ in 0..15 {
        message.push(AttributeType::ReplyMessage, &[b'x'; 253]);
    }
    message.push(AttributeType::ReplyMessage, &[b'x'; 4096 - 20 - 18 - 15 * 255 - 2]);
    assert_eq!(message.sign_reply(0, &[0; 16], &secret).unwrap().len(), 4096);
    message.push(AttributeType::Class, b"");
    assert_eq!(message.sign_reply(0, &[0; 16], &secret).unwrap_err(), TooLong { seen: 4098 });
}

#[test]
fn long_text_is_split_at_253_and_vendor_values_at_247() {
    let mut message = Message::new(Code::AccessAccept);
    message.push(AttributeType::EapMessage, &[b'e'; 600]);
    message.push_vendor(32473, 1, &[b'v'; 300]);
    let signed = message.sign_reply(0, &[0; 16], &SharedSecret::new(b"s")).unwrap();
    let packet = Packet::parse(&signed).unwrap();
    let lengths: Vec<_> = packet.attributes().skip(1).map(|a| a.value.len()).collect();
    assert_eq!(lengths, [253, 253, 94, 253, 59]);
    assert_eq!(packet.joined(AttributeType::EapMessage), vec![b'e'; 600]);
}

#[test]
fn a_reply_without_message_authenticator_counts_only_where_that_is_allowed_and_never_with_eap() {
    let (secret, authenticator) = (SharedSecret::new(b"breakwater-secret"), [7; 16]);
    let mut message = Message::new(Code::AccessAccept);
    message.push(AttributeType::Class, b"control-room");
    let proved = |bytes: &[u8], policy| {
        authenticate_reply(Packet::parse(bytes).unwrap(), &authenticator, &secret, policy).map(|proved| proved.is_signed())
    };
    let plain = message.unsigned_reply(9, &authenticator, &secret).unwrap();
    assert_eq!(proved(&plain, IntegrityPolicy::WhenPresent), Ok(false));
    assert_eq!(proved(&plain, IntegrityPolicy::Required), Err(NotAuthentic::Missing));
    message.push(AttributeType::EapMessage, &[3, 1, 0, 4]);
    let eap = message.unsigned_reply(9, &authenticator, &secret).unwrap();
    assert_eq!(proved(&eap, IntegrityPolicy::WhenPresent), Err(NotAuthentic::Missing));
    for at in 0..plain.len() {
        let mut changed = plain.clone();
        changed[at] ^= 1;
        let noticed = Packet::parse(&changed)
            .map_or(true, |packet| authenticate_reply(packet, &authenticator, &secret, IntegrityPolicy::WhenPresent).is_err());
        assert!(noticed, "byte {at} changed unnoticed");
    }
}

/// RFC 2866 section 3, with the MD5 reckoned by another program: a session of ines begins; shared secret "breakwater".
const REPORT: &str = "04 09 00 24 a1 2f 67 fb 00 bc 15 e3 dd 8c 4d 79 3a 3f 40 72 28 06 00 00 00 01 01 06 69 6e 65 73 2c 04 73 31";
const CONFIRMED: &str = "05 09 00 14 4c 1f 50 fe 8b e7 fb d4 5f 9c 74 0f cf 4e 3e 0f";

#[test]
fn rfc_2866_section_3_reports_are_proved_and_confirmed() {
    let (report, secret) = (bytes(REPORT), SharedSecret::new(b"breakwater"));
    let mut message = Message::new(Code::AccountingRequest);
    message.push(AttributeType::AcctStatusType, &[0, 0, 0, 1]);
    message.push(AttributeType::UserName, b"ines");
    message.push(AttributeType::AcctSessionId, b"s1");
    assert_eq!(message.accounting_request(9, &secret).unwrap(), report);
    let packet = Packet::parse(&report).unwrap();
    assert!(authenticate_accounting(packet, &secret).is_ok());
    assert_eq!(authenticate_accounting(packet, &SharedSecret::new(b"another")).unwrap_err(), NotAuthentic::Report);
    let mut changed = report.clone();
    changed[31] ^= 1;
    assert!(authenticate_accounting(Packet::parse(&changed).unwrap(), &secret).is_err());
    let confirmed = Message::new(Code::AccountingResponse).unsigned_reply(9, packet.authenticator(), &secret).unwrap();
    assert_eq!(confirmed, bytes(CONFIRMED));
}

#[test]
fn a_message_authenticator_in_a_report_must_fit_too() {
    let secret = SharedSecret::new(b"breakwater");
    let mut message = Message::new(Code::AccountingRequest);
    message.push(AttributeType::MessageAuthenticator, &[0; 16]);
    message.push(AttributeType::AcctStatusType, &[0, 0, 0, 1]);
    // Made over sixteen zeros in place of the authenticator and of itself; the authenticator is made last, over all.
    let unsealed = message.accounting_request(9, &secret).unwrap();
    let seal = secret.seal(&[&unsealed[..4], &[0; 16], &unsealed[20..]]);
    for (value, wanted) in [(seal, None), ([7; 16], Some(NotAuthentic::Altered))] {
        let mut message = Message::new(Code::AccountingRequest);
        message.push(AttributeType::MessageAuthenticator, &value);
        message.push(AttributeType::AcctStatusType, &[0, 0, 0, 1]);
        let report = message.accounting_request(9, &secret).unwrap();
        assert_eq!(authenticate_accounting(Packet::parse(&report).unwrap(), &secret).err(), wanted);
    }
}
