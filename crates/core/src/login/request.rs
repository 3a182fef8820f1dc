//! What a login begins with: an authentic Access-Request, read.

use super::proof::RequestAuthentic;
use super::upstream::MICROSOFT;
use crate::site::{Charset, Method};
use crate::trace::Origin;
use bivector_wire::{
    Attribute, AttributeType, Authentic, HiddenPasswordError, Packet, Secret, SharedSecret, VendorAttribute, push_attribute,
    reveal_password,
};
use std::net::SocketAddr;

/// The credential that the gateway sent.
#[derive(Debug, Clone)]
pub enum Credential {
    /// The text of the password field.
    Pap(Secret<Vec<u8>>),
    /// A proof of the password that only an upstream can check: its attributes, encoded, as they are to be passed on.
    Proof {
        /// Which method.
        method: Method,
        /// The attributes that make it up.
        attributes: Vec<u8>,
    },
    /// A method that this version does not take, by its name in site files.
    Other(&'static str),
    /// A password field that cannot be revealed.
    Unreadable(HiddenPasswordError),
    /// None.
    None,
}

impl Credential {
    /// The method's name in site files and traces.
    pub fn method(&self) -> &'static str {
        match self {
            Credential::Pap(_) | Credential::Unreadable(_) => "pap",
            Credential::Proof { method, .. } => method.name(),
            Credential::Other(name) => name,
            Credential::None => "none",
        }
    }
}

/// An Access-Request, read as far as a login needs it.
#[derive(Debug, Clone)]
pub struct Request {
    pub(super) proof: RequestAuthentic,
    /// Index of the gateway in the site.
    pub gateway: usize,
    /// Where it came from.
    pub sender: SocketAddr,
    /// Gateway or rehearsal.
    pub origin: Origin,
    /// Bytes of the packet.
    pub length: usize,
    /// Local port of the door that it came in by; 0 for a rehearsal door.
    pub port: u16,
    /// The packet itself; its password is still hidden.
    pub packet: Vec<u8>,
    /// State, where it answers a prompt.
    pub state: Option<Vec<u8>>,
    /// User-Name as it came.
    pub typed_name: Vec<u8>,
    /// The credential.
    pub credential: Credential,
}

/// How a request came in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Arrival {
    /// Index of the gateway in the site.
    pub gateway: usize,
    /// The address that sent it.
    pub sender: SocketAddr,
    /// Local port of the door; 0 for a rehearsal door, which stands for any.
    pub port: u16,
    /// Gateway or rehearsal.
    pub origin: Origin,
}

/// A text in a character set. Latin-1 has a character for every byte.
pub(super) fn decode(bytes: &[u8], charset: Charset) -> Option<String> {
    match charset {
        Charset::Utf8 => std::str::from_utf8(bytes).ok().map(str::to_owned),
        Charset::Latin1 => Some(bytes.iter().map(|byte| char::from(*byte)).collect()),
    }
}

impl Request {
    /// Reads a proved request. `secret` reveals the password field.
    pub fn read(authentic: &Authentic<'_>, secret: &SharedSecret, arrival: Arrival) -> Self {
        let packet = authentic.packet();
        let Arrival { gateway, sender, port, origin } = arrival;
        Request {
            proof: RequestAuthentic::new(authentic),
            gateway,
            sender,
            origin,
            port,
            length: packet.bytes().len(),
            state: packet.first(AttributeType::State).map(|state| state.value.to_vec()),
            typed_name: packet.first(AttributeType::UserName).map(|name| name.value.to_vec()).unwrap_or_default(),
            credential: read_credential(packet, secret),
            packet: packet.bytes().to_vec(),
        }
    }

    /// Whether a Message-Authenticator proved it.
    pub fn is_signed(&self) -> bool {
        self.proof.is_signed()
    }

    /// The typed name for people to read, whatever its bytes are.
    pub fn readable_name(&self, charset: Charset) -> String {
        decode(&self.typed_name, charset).unwrap_or_else(|| String::from_utf8_lossy(&self.typed_name).into_owned())
    }
}

fn read_credential(packet: &Packet<'_>, secret: &SharedSecret) -> Credential {
    if let Some(hidden) = packet.first(AttributeType::UserPassword) {
        return match reveal_password(hidden.value, packet.authenticator(), secret) {
            Ok(text) => Credential::Pap(text),
            Err(error) => Credential::Unreadable(error),
        };
    }
    let of = |wanted: &dyn Fn(&Attribute<'_>) -> bool| {
        let mut attributes = Vec::new();
        packet.attributes().filter(|attribute| wanted(attribute)).for_each(|one| push_attribute(&mut attributes, one.kind, one.value));
        attributes
    };
    let kind_is = |wanted: AttributeType| move |attribute: &Attribute<'_>| attribute.kind == wanted;
    if packet.first(AttributeType::EapMessage).is_some() {
        return Credential::Proof { method: Method::Eap, attributes: of(&kind_is(AttributeType::EapMessage)) };
    }
    if packet.first(AttributeType::ChapPassword).is_some() {
        let mut attributes = of(&|one| matches!(one.kind, AttributeType::ChapPassword | AttributeType::ChapChallenge));
        if packet.first(AttributeType::ChapChallenge).is_none() {
            // RFC 2865 section 5.3: without the attribute the Request Authenticator is the challenge, and ours will be another one.
            push_attribute(&mut attributes, AttributeType::ChapChallenge, packet.authenticator());
        }
        return Credential::Proof { method: Method::Chap, attributes };
    }
    let microsoft = |attribute: &Attribute<'_>| {
        let vendor = (attribute.kind == AttributeType::VendorSpecific).then(|| VendorAttribute::read(attribute.value)).flatten();
        vendor.filter(|vendor| vendor.vendor == MICROSOFT).map(|vendor| vendor.number)
    };
    let numbers: Vec<u8> = packet.attributes().filter_map(|attribute| microsoft(&attribute)).collect();
    match numbers.as_slice() {
        [] => Credential::None,
        // MS-CHAP2-Response (RFC 2548 section 2.3.2).
        numbers if numbers.contains(&25) => {
            Credential::Proof { method: Method::MsChapV2, attributes: of(&|attribute| microsoft(attribute).is_some()) }
        }
        _ => Credential::Other("ms-chap"),
    }
}
