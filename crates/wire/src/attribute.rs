//! Values of attributes: encoding by data type, splitting, and rendering for people.

use crate::dictionary::{AttributeType, DataType};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use thiserror::Error;

/// The longest value of one attribute, in bytes.
const MAX_VALUE: usize = 253;
/// The longest value of one vendor-specific attribute inside attribute 26, in bytes.
const MAX_VENDOR_VALUE: usize = 247;

/// A value before it is encoded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// UTF-8 text.
    Text(String),
    /// A number of 32 bits, or the seconds of a time.
    Number(u32),
    /// An address.
    Address(IpAddr),
    /// Bytes as they are.
    Bytes(Vec<u8>),
}

/// A value that an attribute cannot hold.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{kind} holds {wanted}, not {seen}")]
pub struct AttributeError {
    /// The attribute.
    pub kind: AttributeType,
    /// What it holds.
    pub wanted: &'static str,
    /// What was given.
    pub seen: &'static str,
}

impl Value {
    /// The bytes of this value as `kind` wants them.
    ///
    /// # Errors
    /// [`AttributeError`] where the data types do not go together.
    pub fn encode(&self, kind: AttributeType) -> Result<Vec<u8>, AttributeError> {
        let data_type = kind.data_type();
        match (self, data_type) {
            (Value::Bytes(bytes), _) => Ok(bytes.clone()),
            (Value::Text(text), DataType::Text | DataType::Octets) => Ok(text.as_bytes().to_vec()),
            (Value::Number(number), DataType::Integer | DataType::Time) => Ok(number.to_be_bytes().to_vec()),
            (Value::Address(IpAddr::V4(address)), DataType::Ipv4) => Ok(address.octets().to_vec()),
            (Value::Address(IpAddr::V6(address)), DataType::Ipv6) => Ok(address.octets().to_vec()),
            _ => Err(AttributeError { kind, wanted: data_type.describe(), seen: self.describe() }),
        }
    }

    fn describe(&self) -> &'static str {
        match self {
            Value::Text(_) => "text",
            Value::Number(_) => "a number",
            Value::Address(IpAddr::V4(_)) => "an IPv4 address",
            Value::Address(IpAddr::V6(_)) => "an IPv6 address",
            Value::Bytes(_) => "bytes",
        }
    }
}

/// A vendor-specific attribute (RFC 2865 section 5.26), borrowed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct VendorAttribute<'a> {
    /// The vendor's private enterprise number.
    pub vendor: u32,
    /// The vendor's own attribute number.
    pub number: u8,
    /// The value, as bytes.
    pub value: &'a [u8],
}

impl<'a> VendorAttribute<'a> {
    /// Reads the value of attribute 26 where it follows the recommended layout: one vendor attribute or several, one behind the other
    /// (RFC 2865 section 5.26). Nothing where the lengths do not add up: then the vendor has a layout of its own.
    pub fn read_all(value: &'a [u8]) -> impl Iterator<Item = Self> + Clone {
        let (vendor, all) = value.split_first_chunk::<4>().map_or((0, &[][..]), |(vendor, all)| (u32::from_be_bytes(*vendor), all));
        let next = |rest: &'a [u8]| {
            let (&number, &length) = (rest.first()?, rest.get(1)?);
            let (own, rest) = rest.split_at_checked(usize::from(length))?;
            Some((number, own.get(2..)?, rest))
        };
        let mut check = all;
        while let Some((_, _, rest)) = next(check) {
            check = rest;
        }
        let sound = if check.is_empty() { all } else { &[] };
        std::iter::successors(next(sound), move |(_, _, rest)| next(rest)).map(move |(number, value, _)| VendorAttribute {
            vendor,
            number,
            value,
        })
    }
}

/// Appends one attribute. The caller keeps `value` to 253 bytes; longer ones are cut by [`push_split`], never here.
pub fn push_attribute(body: &mut Vec<u8>, kind: AttributeType, value: &[u8]) {
    debug_assert!(value.len() <= MAX_VALUE, "split before pushing");
    body.extend([kind.into(), (value.len() + 2) as u8]);
    body.extend(value);
}

/// Appends a value over as many attributes as it needs (RFC 3579 section 3.1 for EAP-Message; text likewise).
///
/// Text is cut between characters, so that each piece stays valid UTF-8.
pub fn push_split(body: &mut Vec<u8>, kind: AttributeType, value: &[u8]) {
    let mut rest = value;
    while !rest.is_empty() {
        let mut cut = rest.len().min(MAX_VALUE);
        if cut < rest.len() && kind.data_type() == DataType::Text {
            while cut > MAX_VALUE - 3 && (rest[cut] & 0xC0) == 0x80 {
                cut -= 1;
            }
        }
        let (piece, after) = rest.split_at(cut);
        push_attribute(body, kind, piece);
        rest = after;
    }
}

/// Appends a vendor-specific attribute, in several if its value is longer than 247 bytes.
pub fn push_vendor(body: &mut Vec<u8>, vendor: u32, number: u8, value: &[u8]) {
    for piece in value.chunks(MAX_VENDOR_VALUE) {
        body.extend([AttributeType::VendorSpecific.into(), (piece.len() + 8) as u8]);
        body.extend(vendor.to_be_bytes());
        body.extend([number, (piece.len() + 2) as u8]);
        body.extend(piece);
    }
}

/// Name and value of an attribute as a person reads them; hidden ones stay hidden.
pub fn render(kind: AttributeType, value: &[u8]) -> (String, String) {
    if kind == AttributeType::VendorSpecific {
        let all: Vec<VendorAttribute<'_>> = VendorAttribute::read_all(value).collect();
        match all.as_slice() {
            [] => {}
            [one] => return (format!("Vendor-{}-{}", one.vendor, one.number), text_or_hex(one.value)),
            [first, ..] => {
                let shown = all.iter().map(|one| format!("{}: {}", one.number, text_or_hex(one.value))).collect::<Vec<_>>().join(", ");
                return (format!("Vendor-{}", first.vendor), shown);
            }
        }
    }
    if let Some(shown) = render_tagged(kind, value).or_else(|| render_prefix(kind, value)) {
        return (kind.to_string(), shown);
    }
    let shown = match (kind.data_type(), value.len()) {
        (DataType::Hidden, _) => "[secret]".to_owned(),
        (DataType::Ipv4, 4) => Ipv4Addr::from([value[0], value[1], value[2], value[3]]).to_string(),
        (DataType::Ipv6, 16) => value.first_chunk::<16>().map_or_else(String::new, |octets| Ipv6Addr::from(*octets).to_string()),
        (DataType::Integer | DataType::Time, 4) => u32::from_be_bytes([value[0], value[1], value[2], value[3]]).to_string(),
        // RFC 4849 section 2: rules, with a zero byte between them.
        (DataType::Text, _) if kind == AttributeType::NasFilterRule => {
            text_or_hex(&value.split(|byte| *byte == 0).collect::<Vec<_>>().join(&b" / "[..]))
        }
        // A prompt may have several lines; here it has one.
        (DataType::Text, _) => match std::str::from_utf8(value).map(|text| text.lines().collect::<Vec<_>>().join(" / ")) {
            Ok(text) => text_or_hex(text.as_bytes()),
            Err(_) => hex(value),
        },
        (DataType::Octets, _) => text_or_hex(value),
        _ => hex(value),
    };
    (kind.to_string(), shown)
}

/// The value that [`render`] shows like this, of attributes without tags and tables; none if there is no such value.
pub fn read_shown(kind: AttributeType, shown: &str) -> Option<Vec<u8>> {
    match kind.data_type() {
        DataType::Ipv4 => Some(shown.parse::<Ipv4Addr>().ok()?.octets().to_vec()),
        DataType::Ipv6 => Some(shown.parse::<Ipv6Addr>().ok()?.octets().to_vec()),
        DataType::Integer | DataType::Time => Some(shown.parse::<u32>().ok()?.to_be_bytes().to_vec()),
        DataType::Text | DataType::Octets => Some(shown.as_bytes().to_vec()),
        DataType::Vendor | DataType::Hidden => None,
    }
}

/// The value of a tunnel attribute and its tag, if it has one (RFC 2868 section 3).
fn render_tagged(kind: AttributeType, value: &[u8]) -> Option<String> {
    use AttributeType as A;
    let (tag @ 1..=0x1f, rest) = value.split_first()? else { return None };
    let shown = match (kind, rest) {
        (A::TunnelType | A::TunnelMediumType | A::TunnelPreference, [high, middle, low]) => {
            u32::from_be_bytes([0, *high, *middle, *low]).to_string()
        }
        (
            A::TunnelClientEndpoint
            | A::TunnelServerEndpoint
            | A::TunnelPrivateGroupId
            | A::TunnelAssignmentId
            | A::TunnelClientAuthId
            | A::TunnelServerAuthId,
            rest,
        ) => text_or_hex(rest),
        _ => return None,
    };
    Some(format!("{shown} (tag {tag})"))
}

/// An IPv6 prefix (RFC 3162 section 2.3, RFC 4818 section 3).
fn render_prefix(kind: AttributeType, value: &[u8]) -> Option<String> {
    let (AttributeType::FramedIpv6Prefix | AttributeType::DelegatedIpv6Prefix, [_, length @ 0..=128, prefix @ ..]) = (kind, value) else {
        return None;
    };
    let mut octets = [0; 16];
    octets.get_mut(..prefix.len())?.copy_from_slice(prefix);
    Some(format!("{}/{length}", Ipv6Addr::from(octets)))
}

fn text_or_hex(value: &[u8]) -> String {
    match std::str::from_utf8(value) {
        Ok(text) if !text.chars().any(char::is_control) => text.to_owned(),
        _ => hex(value),
    }
}

fn hex(value: &[u8]) -> String {
    value.iter().fold("0x".to_owned(), |shown, byte| shown + &format!("{byte:02x}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_prompt_of_several_lines_is_shown_in_one_and_noise_as_hex() {
        let shown = |text: &[u8]| render(AttributeType::ReplyMessage, text).1;
        assert_eq!(shown(b"Choose:\n1 phone\n2 mail"), "Choose: / 1 phone / 2 mail");
        assert_eq!((shown(b"a\0b"), shown(b"\xff")), ("0x610062".to_owned(), "0xff".to_owned()));
    }

    #[test]
    fn what_is_shown_can_be_read_back() {
        for (kind, shown) in [
            (AttributeType::NasIpAddress, "192.0.2.1"),
            (AttributeType::NasIpv6Address, "2001:db8::1"),
            (AttributeType::NasPortType, "5"),
            (AttributeType::ConnectInfo, "54 Mbps"),
            (AttributeType::TunnelClientEndpoint, "198.51.100.7"),
        ] {
            assert_eq!(render(kind, &read_shown(kind, shown).unwrap()).1, shown);
        }
        assert_eq!((read_shown(AttributeType::NasPort, "x"), read_shown(AttributeType::UserPassword, "[secret]")), (None, None));
    }

    #[test]
    fn tags_and_prefixes_are_shown_as_people_write_them() {
        let shown = |kind, value: &[u8]| render(kind, value).1;
        assert_eq!(shown(AttributeType::TunnelType, &[1, 0, 0, 13]), "13 (tag 1)");
        assert_eq!(shown(AttributeType::TunnelType, &[0, 0, 0, 13]), "13");
        assert_eq!(shown(AttributeType::TunnelPrivateGroupId, b"\x02survey"), "survey (tag 2)");
        assert_eq!(shown(AttributeType::TunnelPrivateGroupId, b"survey"), "survey");
        assert_eq!(shown(AttributeType::DelegatedIpv6Prefix, &[0, 32, 0x20, 0x01, 0x0d, 0xb8]), "2001:db8::/32");
        assert_eq!(shown(AttributeType::FramedIpv6Prefix, &[0; 30]), format!("0x{}", "00".repeat(30)));
    }

    #[test]
    fn the_rules_of_a_filter_are_shown_one_after_another() {
        let shown = |rules: &[u8]| render(AttributeType::NasFilterRule, rules).1;
        assert_eq!(
            shown(b"permit in ip from any to any\0deny in ip from any to any"),
            "permit in ip from any to any / deny in ip from any to any"
        );
        assert_eq!(shown(b"permit\n"), "0x7065726d69740a");
    }

    #[test]
    fn values_are_encoded_by_the_type_of_their_attribute() {
        let cases = [
            (Value::Text("ops".into()), AttributeType::Class, b"ops".to_vec()),
            (Value::Number(28_800), AttributeType::SessionTimeout, vec![0, 0, 0x70, 0x80]),
            (Value::Address("192.0.2.7".parse().unwrap()), AttributeType::FramedIpAddress, vec![192, 0, 2, 7]),
            (Value::Bytes(vec![1, 2]), AttributeType::FramedIpv6Prefix, vec![1, 2]),
        ];
        for (value, kind, wanted) in cases {
            assert_eq!(value.encode(kind).unwrap(), wanted);
        }
        let wrong = Value::Text("soon".into()).encode(AttributeType::SessionTimeout).unwrap_err();
        assert_eq!(wrong.to_string(), "Session-Timeout holds a number, not text");
    }

    #[test]
    fn split_text_stays_utf8_in_every_piece() {
        let text = "ü".repeat(300);
        let mut body = Vec::new();
        push_split(&mut body, AttributeType::ReplyMessage, text.as_bytes());
        assert_eq!((body[1], body[254 + 1]), (254, 254), "252 bytes of whole characters in each full piece");
        assert!(std::str::from_utf8(&body[2..254]).is_ok());
    }

    #[test]
    fn several_vendor_attributes_in_one_attribute_are_all_read_and_lengths_that_do_not_add_up_give_none() {
        let value = [&32473u32.to_be_bytes()[..], &[1, 6], b"ines", &[2, 2], &[3, 3, 9]].concat();
        let read: Vec<_> = VendorAttribute::read_all(&value).map(|one| (one.vendor, one.number, one.value.to_vec())).collect();
        assert_eq!(read, [(32473, 1, b"ines".to_vec()), (32473, 2, vec![]), (32473, 3, vec![9])]);
        assert_eq!(render(AttributeType::VendorSpecific, &value), ("Vendor-32473".into(), "1: ines, 2: , 3: 0x09".into()));
        for broken in [&value[..value.len() - 1], &[&value[..], &[1]].concat(), &value[..4], &value[..2], &[0, 0, 126, 217, 1, 1]] {
            assert_eq!(VendorAttribute::read_all(broken).count(), 0, "{broken:?}");
        }
    }

    #[test]
    fn rendering_names_vendors_by_number_and_hides_passwords() {
        let mut body = Vec::new();
        push_vendor(&mut body, 32473, 1, b"ines");
        assert_eq!(render(AttributeType::VendorSpecific, &body[2..]), ("Vendor-32473-1".into(), "ines".into()));
        assert_eq!(render(AttributeType::UserPassword, b"0123456789abcdef").1, "[secret]");
        assert_eq!(render(AttributeType::NasIpAddress, &[192, 0, 2, 10]).1, "192.0.2.10");
        assert_eq!(render(AttributeType::Unknown(250), &[0, 255]), ("Attribute-250".into(), "0x00ff".into()));
    }
}
