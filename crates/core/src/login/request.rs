//! What a login begins with: an authentic Access-Request, read.

use super::proof::RequestAuthentic;
use crate::trace::Origin;
use bivector_wire::{AttributeType, Authentic, HiddenPasswordError, Secret, SharedSecret, reveal_password};
use std::net::SocketAddr;

/// The credential that the gateway sent.
#[derive(Debug, Clone)]
pub enum Credential {
    /// The text of the password field.
    Pap(Secret<Vec<u8>>),
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
    /// User-Name as it came.
    pub typed_name: Vec<u8>,
    /// The credential.
    pub credential: Credential,
}

/// Vendor number under which MS-CHAP attributes travel (RFC 2548).
const MICROSOFT: u32 = 311;

impl Request {
    /// Reads a proved request. `secret` reveals the password field.
    pub fn read(authentic: &Authentic<'_>, secret: &SharedSecret, gateway: usize, sender: SocketAddr, origin: Origin) -> Self {
        let packet = authentic.packet();
        let credential = if let Some(hidden) = packet.first(AttributeType::UserPassword) {
            match reveal_password(hidden.value, packet.authenticator(), secret) {
                Ok(text) => Credential::Pap(text),
                Err(error) => Credential::Unreadable(error),
            }
        } else if packet.first(AttributeType::ChapPassword).is_some() {
            Credential::Other("chap")
        } else if packet.first(AttributeType::EapMessage).is_some() {
            Credential::Other("eap")
        } else if has_ms_chap(authentic) {
            Credential::Other("ms-chap")
        } else {
            Credential::None
        };
        Request {
            proof: RequestAuthentic::new(authentic),
            gateway,
            sender,
            origin,
            length: packet.bytes().len(),
            typed_name: packet.first(AttributeType::UserName).map(|name| name.value.to_vec()).unwrap_or_default(),
            credential,
        }
    }

    /// Whether a Message-Authenticator proved it.
    pub fn is_signed(&self) -> bool {
        self.proof.is_signed()
    }
}

fn has_ms_chap(authentic: &Authentic<'_>) -> bool {
    authentic
        .packet()
        .attributes()
        .filter(|attribute| attribute.kind == AttributeType::VendorSpecific)
        .any(|attribute| attribute.value.starts_with(&MICROSOFT.to_be_bytes()))
}
