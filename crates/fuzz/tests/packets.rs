//! Datagrams and attributes that anybody can send.

use bivector_core::radius::{Arrival, Reply, read};
use bivector_exchange::{Request, read_reply};
use bivector_model::trace::Origin;
use bivector_wire::{
    AttributeType, ChapProof, HEADER_LENGTH, IntegrityPolicy, MAX_PASSWORD, MsChapProof, Packet, SharedSecret, VendorAttribute,
    authenticate, authenticate_accounting, eap, hide_password, hide_salted, render, reveal_password, reveal_salted,
};
use bolero::check;
use std::net::SocketAddr;

const SECRET: &[u8] = b"breakwater-secret";
const AUTHENTICATOR: [u8; 16] = [9; 16];

/// A packet with the right lengths around any attributes: random bytes alone hardly ever get past the header.
fn framed(code: u8, attributes: &[u8]) -> Vec<u8> {
    let mut bytes = vec![code, 7];
    bytes.extend(((HEADER_LENGTH + attributes.len()) as u16).to_be_bytes());
    bytes.extend(AUTHENTICATOR);
    bytes.extend(attributes);
    bytes
}

/// Any bytes as attributes whose lengths add up: each piece says its type and how much of the rest it takes.
fn tiled(bytes: &[u8]) -> Vec<u8> {
    let mut attributes = Vec::new();
    let mut rest = bytes;
    while let [kind, length, after @ ..] = rest {
        let (value, after) = after.split_at(usize::from(*length).min(253).min(after.len()));
        attributes.extend([*kind, value.len() as u8 + 2]);
        attributes.extend(value);
        rest = after;
    }
    attributes.truncate(4096 - HEADER_LENGTH);
    attributes
}

fn arrival() -> Arrival {
    let sender = SocketAddr::from(([192, 0, 2, 1], 1645));
    Arrival { gateway: 0, sender, port: 1812, origin: Origin::Gateway, secret_proved: true }
}

/// What a door does with a datagram, up to the request of a login and the reply that says the service is alive.
fn receive(bytes: &[u8]) {
    let Ok(packet) = Packet::parse(bytes) else { return };
    let secret = SharedSecret::new(SECRET);
    let length: usize = packet.attributes().map(|attribute| attribute.value.len() + 2).sum();
    assert_eq!(length + HEADER_LENGTH, packet.bytes().len());
    for attribute in packet.attributes() {
        render(attribute.kind, attribute.value);
        let claimed: usize = VendorAttribute::read_all(attribute.value).map(|own| own.value.len()).sum();
        assert!(claimed <= attribute.value.len());
    }
    for policy in [IntegrityPolicy::Required, IntegrityPolicy::WhenPresent] {
        if let Ok(authentic) = authenticate(packet, &secret, policy) {
            let request = read(&authentic, &secret, arrival());
            assert!(!format!("{request:?}").contains("breakwater-secret"));
            Reply::to(&authentic).alive(&secret);
        }
    }
    assert!(authenticate_accounting(packet, &secret).is_err(), "nobody guesses an authenticator");
}

#[test]
fn datagrams() {
    check!().for_each(receive);
}

#[test]
fn access_requests() {
    check!().for_each(|bytes: &[u8]| {
        receive(&framed(1, bytes));
        receive(&framed(1, &tiled(bytes)));
    });
}

#[test]
fn other_requests() {
    check!().with_type::<(u8, Vec<u8>)>().for_each(|(code, bytes)| receive(&framed(*code, &tiled(bytes))));
}

#[test]
fn replies() {
    let secret = SharedSecret::new(SECRET);
    let prepared = Request::login("ines", b"tide-table").prepare(&secret).unwrap();
    check!().for_each(|bytes: &[u8]| {
        let answers = [bytes.to_vec(), framed(2, &tiled(bytes)), framed(11, &tiled(bytes))];
        for answer in answers {
            assert!(read_reply(&answer, &prepared, &secret).is_err(), "nobody guesses a Response Authenticator");
        }
    });
}

#[test]
fn eap_messages() {
    check!().for_each(|bytes: &[u8]| assert!(!eap::wanted(bytes).is_empty()));
}

#[test]
fn hidden_passwords() {
    let secret = SharedSecret::new(SECRET);
    check!().for_each(|bytes: &[u8]| {
        let _ = reveal_password(bytes, &AUTHENTICATOR, &secret);
        if bytes.len() <= MAX_PASSWORD && bytes.last() != Some(&0) {
            let hidden = hide_password(bytes, &AUTHENTICATOR, &secret).unwrap();
            assert_eq!(reveal_password(&hidden, &AUTHENTICATOR, &secret).unwrap().expose(), bytes);
        }
    });
}

#[test]
fn salted_values() {
    let secret = SharedSecret::new(SECRET);
    check!().with_type::<([u8; 2], Vec<u8>)>().for_each(|(salt, bytes)| {
        reveal_salted(bytes, &AUTHENTICATOR, &secret);
        if let Some(hidden) = hide_salted(bytes, [salt[0] | 0x80, salt[1]], &AUTHENTICATOR, &secret) {
            assert_eq!(reveal_salted(&hidden, &AUTHENTICATOR, &secret).unwrap().expose(), bytes);
        }
    });
}

#[test]
fn proofs_by_challenge() {
    check!().with_type::<(Vec<u8>, Vec<u8>)>().for_each(|(response, challenge)| {
        if let Ok(proof) = ChapProof::read(response, challenge) {
            assert!(!proof.proves(b"tide-table"));
        }
        for challenge in [None, Some(challenge.as_slice())] {
            let _ = MsChapProof::read(response, challenge);
        }
    });
}

#[test]
fn attribute_values_are_shown_without_control_characters() {
    check!().with_type::<(u8, Vec<u8>)>().for_each(|(kind, value)| {
        let (name, shown) = render(AttributeType::from(*kind), value);
        assert!(!format!("{name} {shown}").chars().any(char::is_control), "{name} {shown:?}");
    });
}
