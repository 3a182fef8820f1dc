use super::*;
use crate::{Message, SharedSecret};
use proptest::prelude::*;

fn frame(attributes: &[u8]) -> Vec<u8> {
    let mut bytes = vec![1, 7, 0, 0];
    bytes.extend([9; 16]);
    bytes.extend(attributes);
    let length = bytes.len() as u16;
    bytes[2..4].copy_from_slice(&length.to_be_bytes());
    bytes
}

#[test]
fn each_way_of_being_malformed_is_named_with_its_place() {
    let cases: [(Vec<u8>, &str); 7] = [
        (vec![], "0 bytes; a RADIUS packet has at least 20"),
        (vec![1; 19], "19 bytes; a RADIUS packet has at least 20"),
        (
            [&[1, 1, 0, 19][..], &[0; 16]].concat(),
            "the length field is 19, but 20 bytes arrived; it must be 20 to 4096 and not exceed the datagram",
        ),
        (
            [&[1, 1, 16, 1][..], &[0; 5000]].concat(),
            "the length field is 4097, but 5004 bytes arrived; it must be 20 to 4096 and not exceed the datagram",
        ),
        (frame(&[1, 1]), "attribute User-Name at offset 20 has length 1; it must be at least 2 and fit the remaining 2 bytes"),
        (
            frame(&[1, 3, b'x', 2, 40]),
            "attribute User-Password at offset 23 has length 40; it must be at least 2 and fit the remaining 2 bytes",
        ),
        (frame(&[80, 3, 1]), "the value of attribute Message-Authenticator at offset 20 has 1 bytes, not 16"),
    ];
    for (bytes, wanted) in cases {
        assert_eq!(Packet::parse(&bytes).unwrap_err().to_string(), wanted);
    }
    let twice = frame(&[1, 3, b'a', 1, 3, b'b']);
    assert_eq!(Packet::parse(&twice).unwrap_err().to_string(), "attribute User-Name is repeated at offset 23; only one is allowed");
}

#[test]
fn unknown_and_empty_attributes_are_kept_and_padding_is_ignored() {
    let mut bytes = frame(&[250, 4, 1, 2, 18, 2]);
    bytes.extend([0xff; 30]);
    let packet = Packet::parse(&bytes).unwrap();
    let seen: Vec<_> = packet.attributes().map(|a| (u8::from(a.kind), a.value.to_vec(), a.offset)).collect();
    assert_eq!(seen, [(250, vec![1, 2], 20), (18, vec![], 24)]);
    assert_eq!(packet.first(AttributeType::Unknown(250)).unwrap().kind.to_string(), "Attribute-250");
}

proptest! {
    #[test]
    fn any_bytes_give_a_packet_or_a_reason_but_no_panic(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
        if let Ok(packet) = Packet::parse(&bytes) {
            let length: usize = packet.attributes().map(|a| a.value.len() + 2).sum();
            prop_assert_eq!(length + HEADER_LENGTH, packet.bytes().len());
        }
    }

    #[test]
    fn a_frame_with_any_attribute_bytes_is_walked_to_its_end(attributes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let bytes = frame(&attributes);
        if let Ok(packet) = Packet::parse(&bytes) {
            prop_assert_eq!(packet.attributes().map(|a| a.value.len() + 2).sum::<usize>(), attributes.len());
        }
    }

    #[test]
    fn what_is_encoded_is_read_back(values in proptest::collection::vec((81u8..=255, proptest::collection::vec(any::<u8>(), 0..=253)), 0..12)) {
        let secret = SharedSecret::new(b"s");
        let mut message = Message::new(Code::AccessAccept);
        for (kind, value) in &values { message.push(AttributeType::from(*kind), value); }
        let bytes = message.sign_reply(3, &[5; 16], &secret).unwrap();
        let packet = Packet::parse(&bytes).unwrap();
        let back: Vec<_> = packet.attributes().skip(1).map(|a| (u8::from(a.kind), a.value.to_vec())).collect();
        prop_assert_eq!(back, values);
    }
}
