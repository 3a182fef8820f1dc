//! What a login begins with: an authentic Access-Request, read.

use super::proof::RequestAuthentic;
use crate::site::{Charset, Method};
use crate::text::shown;
use crate::trace::Origin;
use bivector_wire::{
    Attribute, AttributeType, Authentic, ChapProof, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP_RESPONSE, MS_CHAP2_RESPONSE, MsChapProof, Packet,
    Secret, SharedSecret, VendorAttribute, push_attribute, reveal_password,
};
use std::net::{IpAddr, SocketAddr};

/// The credential that the gateway sent.
#[derive(Debug, Clone)]
pub enum Credential {
    /// The text of the password field.
    Pap(Secret<Vec<u8>>),
    /// A proof of the password that does not tell it.
    Proof {
        /// Its attributes, encoded, as an upstream gets them.
        attributes: Vec<u8>,
        /// What it says.
        proof: Proof,
    },
    /// A method that this version does not take, by its name in site files.
    Other(&'static str),
    /// Attributes of a method that do not add up, and how.
    Unreadable(Method, String),
    /// Several, which the RFCs forbid; their names.
    Several(Vec<String>),
    /// None.
    None,
}

/// A proof of a password.
#[derive(Debug, Clone)]
pub enum Proof {
    /// CHAP.
    Chap(ChapProof),
    /// MS-CHAPv2.
    MsChapV2(Box<MsChapProof>),
    /// Something inside EAP that only an upstream can read.
    Eap,
}

impl Proof {
    /// The method that it belongs to.
    pub fn method(&self) -> Method {
        match self {
            Proof::Chap(_) => Method::Chap,
            Proof::MsChapV2(_) => Method::MsChapV2,
            Proof::Eap => Method::Eap,
        }
    }
}

impl Credential {
    /// The method, unless there is none that this version takes.
    pub fn known_method(&self) -> Option<Method> {
        match self {
            Credential::Pap(_) => Some(Method::Pap),
            Credential::Proof { proof, .. } => Some(proof.method()),
            Credential::Unreadable(method, _) => Some(*method),
            Credential::Other(_) | Credential::Several(_) | Credential::None => None,
        }
    }

    /// The method's name in site files and traces.
    pub fn method(&self) -> &'static str {
        match self {
            Credential::Other(name) => name,
            Credential::Several(_) => "several",
            Credential::None => "none",
            known => known.known_method().map_or("none", Method::name),
        }
    }
}

/// What OpenSSH's server passes to PAM in place of the password of somebody who has no account on its machine, repeated or cut to the length
/// of what was typed.
const NO_ACCOUNT: &[u8] = b"\x08\n\r\x7fINCORRECT";

/// Whether a password is that placeholder.
pub(super) fn is_placeholder(text: &[u8]) -> bool {
    !text.is_empty() && text.iter().zip(NO_ACCOUNT.iter().cycle()).all(|(typed, junk)| typed == junk)
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
    /// The address of the person's own program, where the gateway tells it in Calling-Station-Id.
    pub caller: Option<IpAddr>,
    /// Calling-Station-Id as it came: the person's own device.
    pub station: Option<String>,
    /// What was typed in a second field, where the gateway packs two in its password field.
    pub(super) second_field: Option<Secret<Vec<u8>>>,
    /// Whether other packets of the gateway have shown that both have the same secret.
    pub(super) secret_proved: bool,
    pub(super) random: [u8; 16],
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
    /// Whether other packets of the gateway have shown that both have the same secret.
    pub secret_proved: bool,
    /// Bytes that nobody can foresee: the challenge of a further MS-CHAPv2 try.
    pub random: [u8; 16],
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
        let Arrival { gateway, sender, port, origin, secret_proved, random } = arrival;
        let station = packet.text(AttributeType::CallingStationId).map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
        let caller = station.as_ref().and_then(|text| text.parse().ok());
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
            caller,
            station,
            second_field: None,
            secret_proved,
            random,
        }
    }

    /// Whether a Message-Authenticator proved it.
    pub fn is_signed(&self) -> bool {
        self.proof.is_signed()
    }

    /// What the peer of an EAP request says of the method that it wants.
    pub(super) fn peer_wants(&self) -> String {
        let joined = Packet::parse(&self.packet).map(|packet| packet.joined(AttributeType::EapMessage)).unwrap_or_default();
        bivector_wire::eap::wanted(&joined)
    }

    /// What else the gateway says of itself and of the connection: attribute numbers and values as shown.
    pub(super) fn device(&self) -> Vec<(u8, String)> {
        Packet::parse(&self.packet).map(|packet| device(&packet)).unwrap_or_default()
    }

    /// The typed name for people to read, whatever its bytes are.
    pub fn readable_name(&self, charset: Charset) -> String {
        decode(&self.typed_name, charset).unwrap_or_else(|| String::from_utf8_lossy(&self.typed_name).into_owned())
    }
}

/// What a packet says of the device that sent it and of the connection behind that, the first of each kind.
fn device(packet: &Packet<'_>) -> Vec<(u8, String)> {
    const KEPT: [AttributeType; 8] = [
        AttributeType::NasIpAddress,
        AttributeType::NasPort,
        AttributeType::ServiceType,
        AttributeType::CalledStationId,
        AttributeType::NasIdentifier,
        AttributeType::ConnectInfo,
        AttributeType::NasPortId,
        AttributeType::NasIpv6Address,
    ];
    let mut told: Vec<(u8, String)> = Vec::new();
    for attribute in packet.attributes().filter(|attribute| KEPT.contains(&attribute.kind)) {
        let number = attribute.kind.into();
        if !told.iter().any(|(known, _)| *known == number) {
            let (_, value) = bivector_wire::render(attribute.kind, attribute.value);
            told.push((number, shown(&value).into_owned()));
        }
    }
    told
}

/// The names of all credentials in a packet, if there are more than may be: User-Password or CHAP-Password (RFC 2865 section 4.1), nothing
/// beside EAP-Message (RFC 3579 section 3.3), one response of MS-CHAP with one challenge (RFC 2548 section 2.3).
fn several_credentials(packet: &Packet<'_>) -> Option<Vec<String>> {
    const NAMES: [&str; 6] =
        ["User-Password", "CHAP-Password", "EAP-Message", "MS-CHAP-Response", "MS-CHAP2-Response", "MS-CHAP-Challenge"];
    let mut counts = [0_usize; NAMES.len()];
    for attribute in packet.attributes() {
        match attribute.kind {
            AttributeType::UserPassword => counts[0] += 1,
            AttributeType::ChapPassword => counts[1] += 1,
            // One message is often split over several attributes.
            AttributeType::EapMessage => counts[2] = 1,
            AttributeType::VendorSpecific => {
                for own in VendorAttribute::read_all(attribute.value).filter(|own| own.vendor == MICROSOFT) {
                    match own.number {
                        MS_CHAP_RESPONSE => counts[3] += 1,
                        MS_CHAP2_RESPONSE => counts[4] += 1,
                        MS_CHAP_CHALLENGE => counts[5] += 1,
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
    let [credentials @ .., challenges] = counts;
    if credentials.iter().sum::<usize>() <= 1 && challenges <= 1 {
        return None;
    }
    // One challenge belongs to a response and is no credential by itself.
    counts[5] = if challenges > 1 { challenges } else { 0 };
    let named = NAMES.into_iter().zip(counts).filter(|(_, count)| *count > 0);
    Some(named.map(|(name, count)| if count == 1 { name.to_owned() } else { format!("{count} times {name}") }).collect())
}

/// Microsoft's own attributes in a packet (RFC 2548).
fn microsoft_in<'p>(packet: &Packet<'p>) -> impl Iterator<Item = VendorAttribute<'p>> {
    packet
        .attributes()
        .filter(|attribute| attribute.kind == AttributeType::VendorSpecific)
        .flat_map(|attribute| VendorAttribute::read_all(attribute.value))
        .filter(|vendor| vendor.vendor == MICROSOFT)
}

fn read_credential(packet: &Packet<'_>, secret: &SharedSecret) -> Credential {
    if let Some(names) = several_credentials(packet) {
        return Credential::Several(names);
    }
    if let Some(hidden) = packet.first(AttributeType::UserPassword) {
        // Somebody has pressed Enter at a prompt, and the gateway sends that as a password of no bytes.
        if hidden.value.is_empty() && packet.first(AttributeType::State).is_some() {
            return Credential::Pap(Secret::default());
        }
        return match reveal_password(hidden.value, packet.authenticator(), secret) {
            Ok(text) => Credential::Pap(text),
            Err(error) => Credential::Unreadable(Method::Pap, error.to_string()),
        };
    }
    let of = |wanted: &dyn Fn(&Attribute<'_>) -> bool| {
        let mut attributes = Vec::new();
        packet.attributes().filter(|attribute| wanted(attribute)).for_each(|one| push_attribute(&mut attributes, one.kind, one.value));
        attributes
    };
    let kind_is = |wanted: AttributeType| move |attribute: &Attribute<'_>| attribute.kind == wanted;
    if packet.first(AttributeType::EapMessage).is_some() {
        return Credential::Proof { attributes: of(&kind_is(AttributeType::EapMessage)), proof: Proof::Eap };
    }
    if let Some(password) = packet.first(AttributeType::ChapPassword) {
        let mut attributes = of(&|one| matches!(one.kind, AttributeType::ChapPassword | AttributeType::ChapChallenge));
        let challenge = packet.first(AttributeType::ChapChallenge).map(|challenge| challenge.value);
        if challenge.is_none() {
            // RFC 2865 section 5.3: without the attribute the Request Authenticator is the challenge, and ours will be another one.
            push_attribute(&mut attributes, AttributeType::ChapChallenge, packet.authenticator());
        }
        return match ChapProof::read(password.value, challenge.unwrap_or(packet.authenticator())) {
            Ok(proof) => Credential::Proof { attributes, proof: Proof::Chap(proof) },
            Err(error) => Credential::Unreadable(Method::Chap, error.to_string()),
        };
    }
    let microsoft: Vec<VendorAttribute<'_>> = microsoft_in(packet).collect();
    let value = |number: u8| microsoft.iter().find(|vendor| vendor.number == number).map(|vendor| vendor.value);
    match value(MS_CHAP2_RESPONSE) {
        Some(response) => match MsChapProof::read(response, value(MS_CHAP_CHALLENGE)) {
            Ok(proof) => {
                let is_ours = |attribute: &Attribute<'_>| {
                    attribute.kind == AttributeType::VendorSpecific
                        && VendorAttribute::read_all(attribute.value).any(|vendor| vendor.vendor == MICROSOFT)
                };
                Credential::Proof { attributes: of(&is_ours), proof: Proof::MsChapV2(Box::new(proof)) }
            }
            Err(error) => Credential::Unreadable(Method::MsChapV2, error.to_string()),
        },
        None if microsoft.is_empty() => Credential::None,
        None => Credential::Other("ms-chap"),
    }
}
