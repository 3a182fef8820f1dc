//! An Access-Request, read as the request of a login.

use crate::login::{Context, Credential, Proof, Request, RequestAuthentic};
use bivector_model::trace::Origin;
use bivector_site::Method;
use bivector_wire::{
    Attribute, AttributeType, Authentic, ChapProof, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP_RESPONSE, MS_CHAP2_RESPONSE, MsChapProof, Packet,
    Secret, SharedSecret, VendorAttribute, push_attribute, reveal_password,
};
use std::net::SocketAddr;

/// How a packet came in.
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
}

/// Bytes before the attributes of a packet (RFC 2865 section 3).
const HEADER: usize = 20;

/// Reads an authentic request. `secret` reveals the password field.
pub fn read(authentic: &Authentic<'_>, secret: &SharedSecret, arrival: Arrival) -> Request {
    let packet = authentic.packet();
    let Arrival { gateway, sender, port, origin, secret_proved } = arrival;
    let station = packet.text(AttributeType::CallingStationId).map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
    let context = Context {
        gateway,
        sender,
        origin,
        port,
        length: packet.bytes().len(),
        station,
        secret_proved,
        attributes: packet.bytes().get(HEADER..).unwrap_or_default().to_vec(),
    };
    let state = packet.first(AttributeType::State).map(|state| state.value.to_vec());
    let typed_name = packet.first(AttributeType::UserName).map(|name| name.value.to_vec()).unwrap_or_default();
    Request::new(RequestAuthentic::by_radius(authentic), typed_name, read_credential(packet, secret), state, context)
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
            return Credential::Text(Secret::default());
        }
        return match reveal_password(hidden.value, packet.authenticator(), secret) {
            Ok(text) => Credential::Text(text),
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
