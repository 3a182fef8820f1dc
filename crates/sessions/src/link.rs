//! The Class attribute that leads from a session back to its login. Gateways return it in every report (RFC 2865 section 5.25).

use bivector_wire::{AttributeType, Packet};

/// Begins our own Class, so that it is told from a grant's.
const MARK: &[u8] = b"bivector:";
/// Characters of a reference.
const REFERENCE: usize = 8;

/// The value of Class for a login.
pub fn class_of(reference: &str) -> Vec<u8> {
    [MARK, reference.as_bytes()].concat()
}

/// The reference of the login that a report's Class leads to, if it has one of ours.
pub fn reference_in(packet: &Packet<'_>) -> Option<String> {
    let classes = packet.attributes().filter(|attribute| attribute.kind == AttributeType::Class);
    let mut references = classes.filter_map(|class| std::str::from_utf8(class.value.strip_prefix(MARK)?).ok());
    references
        .find(|reference| reference.len() == REFERENCE && reference.bytes().all(|byte| byte.is_ascii_alphanumeric()))
        .map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_wire::{Code, Message, SharedSecret};

    #[test]
    fn our_own_class_leads_back_and_no_other_does() {
        let found = |classes: &[&[u8]]| {
            let mut message = Message::new(Code::AccountingRequest);
            classes.iter().for_each(|class| message.push(AttributeType::Class, class));
            let bytes = message.accounting_request(1, &SharedSecret::new(b"x")).unwrap();
            reference_in(&Packet::parse(&bytes).unwrap())
        };
        assert_eq!(found(&[b"control-room", &class_of("C27S2K9A")]).as_deref(), Some("C27S2K9A"));
        for none in [&b"control-room"[..], b"bivector:", b"bivector:C27S2K9", b"bivector:C27S2K9\xff", b"bivector:../../..", b""] {
            assert_eq!(found(&[none]), None);
        }
    }
}
