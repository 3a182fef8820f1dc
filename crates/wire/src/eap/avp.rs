//! The attribute-value pairs of EAP-TTLS (RFC 5281 section 10.1): those of Diameter, each padded to four bytes.

use crate::Secret;
use thiserror::Error;

/// User-Name.
pub const USER_NAME: u32 = 1;
/// User-Password; padded with zero bytes (RFC 5281 section 11.2.5).
pub const USER_PASSWORD: u32 = 2;
/// CHAP-Password.
pub const CHAP_PASSWORD: u32 = 3;
/// Reply-Message.
pub const REPLY_MESSAGE: u32 = 18;
/// CHAP-Challenge.
pub const CHAP_CHALLENGE: u32 = 60;
/// EAP-Message, not cut into pieces.
pub const EAP_MESSAGE: u32 = 79;

/// The value that follows has a vendor number.
const VENDOR: u8 = 0x80;
/// A receiver that does not know the attribute must refuse.
const MANDATORY: u8 = 0x40;
/// Attributes that one message may carry.
const MOST: usize = 64;

/// One attribute, borrowed from its message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Avp<'a> {
    /// Its number.
    pub code: u32,
    /// Its vendor; 0 for the RADIUS attributes.
    pub vendor: u32,
    /// Whether a receiver that does not know it must refuse.
    pub mandatory: bool,
    /// Its value.
    pub value: &'a [u8],
}

/// Attributes that do not add up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum AvpError {
    /// The header or value goes beyond the end.
    #[error("the attribute at byte {at} claims {claimed} bytes, and {left} are left")]
    Length {
        /// Where it begins.
        at: usize,
        /// What its length field says.
        claimed: usize,
        /// How many bytes there are.
        left: usize,
    },
    /// There are more than may be.
    #[error("there are more than {MOST} attributes in one message")]
    Many,
}

/// Reads all attributes of a message.
///
/// # Errors
/// [`AvpError`] says where the lengths do not add up.
pub fn read_all(bytes: &[u8]) -> Result<Vec<Avp<'_>>, AvpError> {
    let mut all = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        if all.len() == MOST {
            return Err(AvpError::Many);
        }
        let rest = &bytes[at..];
        let wrong = |claimed| AvpError::Length { at, claimed, left: rest.len() };
        let [c0, c1, c2, c3, flags, l0, l1, l2, body @ ..] = rest else { return Err(wrong(8)) };
        let claimed = u32::from_be_bytes([0, *l0, *l1, *l2]) as usize;
        let header = if flags & VENDOR != 0 { 12 } else { 8 };
        let value = rest.get(header..claimed).ok_or(wrong(claimed))?;
        let vendor = match body {
            [v0, v1, v2, v3, ..] if header == 12 => u32::from_be_bytes([*v0, *v1, *v2, *v3]),
            _ => 0,
        };
        all.push(Avp { code: u32::from_be_bytes([*c0, *c1, *c2, *c3]), vendor, mandatory: flags & MANDATORY != 0, value });
        // The padding of the last one may be missing.
        at += claimed.next_multiple_of(4);
    }
    Ok(all)
}

/// Appends one attribute with its padding.
pub fn push(body: &mut Vec<u8>, code: u32, vendor: u32, value: &[u8]) {
    let header = if vendor == 0 { 8 } else { 12 };
    let length = (header + value.len()) as u32;
    body.extend(code.to_be_bytes());
    body.push(MANDATORY | if vendor == 0 { 0 } else { VENDOR });
    body.extend(&length.to_be_bytes()[1..]);
    if vendor != 0 {
        body.extend(vendor.to_be_bytes());
    }
    body.extend(value);
    body.resize(body.len() + value.len().next_multiple_of(4) - value.len(), 0);
}

/// The password that a User-Password value holds, without its padding.
pub fn password(value: &[u8]) -> Secret<Vec<u8>> {
    let end = value.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    Secret::new(value[..end].to_vec())
}

/// A User-Password value: padded to 16 bytes, so that its length tells little.
pub fn padded(password: &[u8]) -> Secret<Vec<u8>> {
    let mut value = password.to_vec();
    value.resize(password.len().max(1).next_multiple_of(16), 0);
    Secret::new(value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_name_and_a_password_as_a_peer_sends_them() {
        let mut body = Vec::new();
        push(&mut body, USER_NAME, 0, b"ines");
        push(&mut body, USER_PASSWORD, 0, padded(b"barnacle").expose());
        push(&mut body, 26, 311, &[1, 2, 3]);
        assert_eq!(&body[..12], &[0, 0, 0, 1, 0x40, 0, 0, 12, b'i', b'n', b'e', b's']);
        let all = read_all(&body).unwrap();
        assert_eq!(all[0], Avp { code: 1, vendor: 0, mandatory: true, value: b"ines" });
        assert_eq!(password(all[1].value).expose(), b"barnacle");
        assert_eq!((all[2].code, all[2].vendor, all[2].value), (26, 311, &[1, 2, 3][..]));
        assert_eq!(body.len() % 4, 0);
    }

    #[test]
    fn a_length_beyond_the_end_or_below_the_header_names_its_place() {
        let mut body = Vec::new();
        push(&mut body, USER_NAME, 0, b"ines");
        let whole = body.len();
        body.extend([0, 0, 0, 2, 0x40, 0xff, 0xff, 0xff, 1]);
        assert_eq!(read_all(&body), Err(AvpError::Length { at: whole, claimed: 0xff_ffff, left: 9 }));
        assert_eq!(read_all(&[0, 0, 0, 2, 0x40, 0, 0, 4]), Err(AvpError::Length { at: 0, claimed: 4, left: 8 }));
        let many = (0..65).fold(Vec::new(), |mut body, _| {
            push(&mut body, USER_NAME, 0, b"");
            body
        });
        assert_eq!(read_all(&many), Err(AvpError::Many));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            if let Ok(all) = read_all(&bytes) {
                prop_assert!(all.iter().all(|avp| avp.value.len() <= bytes.len()));
            }
        }

        #[test]
        fn what_is_pushed_is_read_back(values in proptest::collection::vec((any::<u32>(), any::<u32>(), proptest::collection::vec(any::<u8>(), 0..40)), 0..20)) {
            let mut body = Vec::new();
            values.iter().for_each(|(code, vendor, value)| push(&mut body, *code, *vendor, value));
            let read: Vec<_> = read_all(&body).unwrap().iter().map(|avp| (avp.code, avp.vendor, avp.value.to_vec())).collect();
            prop_assert_eq!(read, values);
        }
    }
}
