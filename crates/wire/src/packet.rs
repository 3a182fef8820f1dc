//! A datagram whose lengths add up. Nothing here says who sent it; see `integrity` for that.

use crate::dictionary::AttributeType;
use thiserror::Error;

/// Bytes before the first attribute: code, identifier, length, authenticator (RFC 2865 section 3).
pub const HEADER_LENGTH: usize = 20;
/// The longest packet, in bytes (RFC 2865 section 3).
pub const MAX_PACKET: usize = 4096;

/// What kind of packet it is (RFC 2865 section 3, RFC 5997 for Status-Server).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Code {
    /// A login asks to be let in.
    AccessRequest,
    /// The login is let in.
    AccessAccept,
    /// The login is refused.
    AccessReject,
    /// A session reports (RFC 2866).
    AccountingRequest,
    /// The report was taken (RFC 2866).
    AccountingResponse,
    /// The login must answer a prompt.
    AccessChallenge,
    /// "Are you alive?" (RFC 5997).
    StatusServer,
    /// A gateway is to end a session (RFC 5176).
    DisconnectRequest,
    /// The session has ended.
    DisconnectAck,
    /// The session has not ended.
    DisconnectNak,
    /// A gateway is to change a session (RFC 5176).
    CoaRequest,
    /// The session has changed.
    CoaAck,
    /// The session has not changed.
    CoaNak,
    /// Any other number, kept.
    Unknown(u8),
}

impl From<u8> for Code {
    fn from(number: u8) -> Self {
        match number {
            1 => Code::AccessRequest,
            2 => Code::AccessAccept,
            3 => Code::AccessReject,
            4 => Code::AccountingRequest,
            5 => Code::AccountingResponse,
            11 => Code::AccessChallenge,
            12 => Code::StatusServer,
            40 => Code::DisconnectRequest,
            41 => Code::DisconnectAck,
            42 => Code::DisconnectNak,
            43 => Code::CoaRequest,
            44 => Code::CoaAck,
            45 => Code::CoaNak,
            other => Code::Unknown(other),
        }
    }
}

impl From<Code> for u8 {
    fn from(code: Code) -> u8 {
        match code {
            Code::AccessRequest => 1,
            Code::AccessAccept => 2,
            Code::AccessReject => 3,
            Code::AccountingRequest => 4,
            Code::AccountingResponse => 5,
            Code::AccessChallenge => 11,
            Code::StatusServer => 12,
            Code::DisconnectRequest => 40,
            Code::DisconnectAck => 41,
            Code::DisconnectNak => 42,
            Code::CoaRequest => 43,
            Code::CoaAck => 44,
            Code::CoaNak => 45,
            Code::Unknown(other) => other,
        }
    }
}

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Code::AccessRequest => f.write_str("Access-Request"),
            Code::AccessAccept => f.write_str("Access-Accept"),
            Code::AccessReject => f.write_str("Access-Reject"),
            Code::AccountingRequest => f.write_str("Accounting-Request"),
            Code::AccountingResponse => f.write_str("Accounting-Response"),
            Code::AccessChallenge => f.write_str("Access-Challenge"),
            Code::StatusServer => f.write_str("Status-Server"),
            Code::DisconnectRequest => f.write_str("Disconnect-Request"),
            Code::DisconnectAck => f.write_str("Disconnect-ACK"),
            Code::DisconnectNak => f.write_str("Disconnect-NAK"),
            Code::CoaRequest => f.write_str("CoA-Request"),
            Code::CoaAck => f.write_str("CoA-ACK"),
            Code::CoaNak => f.write_str("CoA-NAK"),
            Code::Unknown(other) => write!(f, "code {other}"),
        }
    }
}

/// Why a datagram is no packet. RFC 2865 section 3 wants it dropped without an answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum Malformed {
    /// Fewer bytes than a header.
    #[error("{seen} bytes; a RADIUS packet has at least 20")]
    TooShort {
        /// Bytes that arrived.
        seen: usize,
    },
    /// The length field and the datagram do not go together.
    #[error("the length field is {stated}, but {seen} bytes arrived; it must be 20 to 4096 and not exceed the datagram")]
    Length {
        /// The length field.
        stated: usize,
        /// Bytes that arrived.
        seen: usize,
    },
    /// An attribute's length is below 2 or runs past the end.
    #[error("attribute {kind} at offset {offset} has length {length}; it must be at least 2 and fit the remaining {left} bytes")]
    AttributeLength {
        /// The attribute.
        kind: AttributeType,
        /// Offset of the attribute in the packet, in bytes.
        offset: usize,
        /// Its length field.
        length: usize,
        /// Bytes from the offset to the end of the packet.
        left: usize,
    },
    /// An attribute stands twice that may stand once only (RFC 2865 section 5.44, RFC 3579 section 3.3).
    #[error("attribute {kind} is repeated at offset {offset}; only one is allowed")]
    Repeated {
        /// The attribute.
        kind: AttributeType,
        /// Offset of the second one.
        offset: usize,
    },
    /// A Message-Authenticator that is not 16 bytes long (RFC 3579 section 3.2).
    #[error("the value of attribute {kind} at offset {offset} has {seen} bytes, not {wanted}")]
    ValueLength {
        /// The attribute.
        kind: AttributeType,
        /// Offset of the attribute.
        offset: usize,
        /// Length of its value.
        seen: usize,
        /// What the standard wants.
        wanted: usize,
    },
}

/// One attribute, borrowed from its packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Attribute<'a> {
    /// Which attribute.
    pub kind: AttributeType,
    /// Its value, 0 to 253 bytes.
    pub value: &'a [u8],
    /// Where it begins in the packet, in bytes.
    pub offset: usize,
}

/// A datagram whose lengths add up: the header is whole and the attributes fill the rest exactly.
#[derive(Debug, Clone, Copy)]
pub struct Packet<'a> {
    bytes: &'a [u8],
    authenticator: &'a [u8; 16],
    message_authenticator: Option<usize>,
}

impl<'a> Packet<'a> {
    /// Reads the frame of a datagram. Bytes past the length field are padding and ignored (RFC 2865 section 3).
    ///
    /// # Errors
    /// [`Malformed`] names the attribute and the offset.
    pub fn parse(datagram: &'a [u8]) -> Result<Self, Malformed> {
        let seen = datagram.len();
        let Some((header, _)) = datagram.split_first_chunk::<HEADER_LENGTH>() else {
            return Err(Malformed::TooShort { seen });
        };
        let stated = usize::from(u16::from_be_bytes([header[2], header[3]]));
        if !(HEADER_LENGTH..=MAX_PACKET).contains(&stated) || stated > seen {
            return Err(Malformed::Length { stated, seen });
        }
        let bytes = &datagram[..stated];
        let Some(authenticator) = bytes[4..].first_chunk::<16>() else {
            return Err(Malformed::TooShort { seen });
        };
        let message_authenticator = check_attributes(bytes)?;
        Ok(Packet { bytes, authenticator, message_authenticator })
    }

    /// What kind of packet it is.
    pub fn code(&self) -> Code {
        Code::from(self.bytes[0])
    }

    /// Matches a reply to its request.
    pub fn identifier(&self) -> u8 {
        self.bytes[1]
    }

    /// Request or Response Authenticator, as it stands.
    pub fn authenticator(&self) -> &'a [u8; 16] {
        self.authenticator
    }

    /// The whole packet without padding.
    pub fn bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// Offset of the Message-Authenticator attribute, if there is one.
    pub fn message_authenticator(&self) -> Option<usize> {
        self.message_authenticator
    }

    /// All attributes in order.
    pub fn attributes(&self) -> Attributes<'a> {
        Attributes { bytes: self.bytes, at: HEADER_LENGTH }
    }

    /// The first attribute of a kind.
    pub fn first(&self, kind: AttributeType) -> Option<Attribute<'a>> {
        self.attributes().find(|attribute| attribute.kind == kind)
    }

    /// The text of the first attribute of a kind, where it is UTF-8.
    pub fn text(&self, kind: AttributeType) -> Option<&'a str> {
        self.first(kind).and_then(|attribute| std::str::from_utf8(attribute.value).ok())
    }

    /// The joined values of all attributes of a kind: how EAP-Message travels (RFC 3579 section 3.1).
    pub fn joined(&self, kind: AttributeType) -> Vec<u8> {
        self.attributes().filter(|attribute| attribute.kind == kind).flat_map(|attribute| attribute.value.to_vec()).collect()
    }
}

/// Walks the attributes once; gives the offset of the Message-Authenticator.
fn check_attributes(bytes: &[u8]) -> Result<Option<usize>, Malformed> {
    let mut single = [false; 256];
    let mut message_authenticator = None;
    let mut offset = HEADER_LENGTH;
    while offset < bytes.len() {
        let kind = AttributeType::from(bytes[offset]);
        let left = bytes.len() - offset;
        let length = bytes.get(offset + 1).copied().map_or(0, usize::from);
        if length < 2 || length > left {
            return Err(Malformed::AttributeLength { kind, offset, length, left });
        }
        let seen_before = &mut single[usize::from(bytes[offset])];
        if *seen_before && kind.at_most_once() {
            return Err(Malformed::Repeated { kind, offset });
        }
        *seen_before = true;
        if kind == AttributeType::MessageAuthenticator {
            if length != 18 {
                return Err(Malformed::ValueLength { kind, offset, seen: length - 2, wanted: 16 });
            }
            message_authenticator = Some(offset);
        }
        offset += length;
    }
    Ok(message_authenticator)
}

/// Iterator over a packet's attributes.
#[derive(Debug, Clone)]
pub struct Attributes<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Attributes<'a> {
    /// Reads attributes that are encoded without a packet's header.
    pub fn encoded(bytes: &'a [u8]) -> Self {
        Attributes { bytes, at: 0 }
    }
}

impl<'a> Iterator for Attributes<'a> {
    type Item = Attribute<'a>;

    fn next(&mut self) -> Option<Attribute<'a>> {
        let rest = self.bytes.get(self.at..)?;
        let (&kind, &length) = (rest.first()?, rest.get(1)?);
        let value = rest.get(2..usize::from(length))?;
        let offset = self.at;
        self.at += usize::from(length);
        Some(Attribute { kind: AttributeType::from(kind), value, offset })
    }
}

#[cfg(test)]
#[path = "packet_tests.rs"]
mod tests;
