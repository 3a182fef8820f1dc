//! Who sent it: Message-Authenticator (RFC 3579 section 3.2) and Response Authenticator (RFC 2865 section 3).

use crate::dictionary::AttributeType;
use crate::packet::{Code, HEADER_LENGTH, Packet};
use crate::password::{reads_like_text, reveal_password};
use hmac::{Hmac, KeyInit, Mac};
use md5::{Digest, Md5};
use std::fmt;
use subtle::ConstantTimeEq;
use thiserror::Error;
use zeroize::Zeroize;

/// The secret that a gateway and Bivector share, with its keyed hash prepared once.
#[derive(Clone)]
pub struct SharedSecret {
    bytes: Vec<u8>,
    keyed: Hmac<Md5>,
}

impl SharedSecret {
    /// Prepares a secret. Any bytes of any length are taken as they are; nothing is trimmed.
    pub fn new(bytes: &[u8]) -> Self {
        let keyed = <Hmac<Md5> as KeyInit>::new_from_slice(bytes).expect("an HMAC takes a key of any length");
        SharedSecret { bytes: bytes.to_vec(), keyed }
    }

    /// How many bytes it has; what they are, it never tells.
    pub fn length(&self) -> usize {
        self.bytes.len()
    }

    pub(crate) fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// HMAC-MD5 over the pieces of a packet in which the Message-Authenticator is sixteen zeros.
    pub(crate) fn seal(&self, pieces: &[&[u8]]) -> [u8; 16] {
        let mut mac = self.keyed.clone();
        for piece in pieces {
            mac.update(piece);
        }
        mac.finalize().into_bytes().into()
    }

    /// Response Authenticator = MD5(code, identifier, length, request authenticator, attributes, secret).
    pub(crate) fn response_authenticator(&self, packet: &[u8], request_authenticator: &[u8; 16]) -> [u8; 16] {
        let mut hash = Md5::new();
        hash.update(&packet[..4]);
        hash.update(request_authenticator);
        hash.update(&packet[HEADER_LENGTH..]);
        hash.update(&self.bytes);
        hash.finalize().into()
    }
}

impl Drop for SharedSecret {
    fn drop(&mut self) {
        self.bytes.zeroize();
    }
}

impl fmt::Debug for SharedSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("[secret]")
    }
}

/// What a gateway's requests must carry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum IntegrityPolicy {
    /// Every Access-Request carries a Message-Authenticator. The safe default: without it a reply can be forged.
    #[default]
    Required,
    /// Checked where it stands; an Access-Request without EAP may come without.
    WhenPresent,
}

/// Why a packet is not known to be the gateway's own. It is dropped without an answer (RFC 3579 section 3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum NotAuthentic {
    /// There is no Message-Authenticator where one is required.
    #[error("there is no Message-Authenticator")]
    Missing,
    /// The sender computed with another secret.
    #[error("the Message-Authenticator was computed with a different shared secret")]
    SecretDiffers,
    /// The secret is the right one (the password reads well with it), but bytes were changed on the way.
    #[error("the shared secret matches, but the packet was modified after it was signed")]
    Altered,
    /// An Accounting-Request whose authenticator does not fit: another secret, or changed bytes.
    #[error("the Request Authenticator was computed with another shared secret, or the packet was changed")]
    Report,
    /// A reply whose Response Authenticator does not fit.
    #[error("the Response Authenticator does not verify with this request and shared secret")]
    Response,
}

/// A packet whose sender is proved to hold the shared secret, as far as the gateway's policy asks for it.
///
/// Only [`authenticate`], [`authenticate_accounting`] and [`authenticate_reply`] make one; what decides a login takes nothing less.
#[derive(Debug, Clone, Copy)]
pub struct Authentic<'a> {
    packet: Packet<'a>,
    signed: bool,
}

impl<'a> Authentic<'a> {
    /// The packet.
    pub fn packet(&self) -> &Packet<'a> {
        &self.packet
    }

    /// Whether a Message-Authenticator proved it. `false` only under [`IntegrityPolicy::WhenPresent`].
    pub fn is_signed(&self) -> bool {
        self.signed
    }
}

/// Proves a request (Access-Request or Status-Server).
///
/// # Errors
/// [`NotAuthentic`], telling a wrong secret from a changed packet where the password shows which.
pub fn authenticate<'a>(packet: Packet<'a>, secret: &SharedSecret, policy: IntegrityPolicy) -> Result<Authentic<'a>, NotAuthentic> {
    let Some(offset) = packet.message_authenticator() else {
        // RFC 3579 section 3.2: never without it beside EAP-Message; RFC 5997 section 3: nor in Status-Server.
        let must = packet.code() == Code::StatusServer || packet.first(AttributeType::EapMessage).is_some();
        return if must || policy == IntegrityPolicy::Required {
            Err(NotAuthentic::Missing)
        } else {
            Ok(Authentic { packet, signed: false })
        };
    };
    if message_authenticator_fits(&packet, offset, packet.authenticator(), secret) {
        return Ok(Authentic { packet, signed: true });
    }
    Err(if password_reads_well(&packet, secret) { NotAuthentic::Altered } else { NotAuthentic::SecretDiffers })
}

/// Proves an Accounting-Request: its authenticator is made with sixteen zeros in its own place (RFC 2866 section 3). A
/// Message-Authenticator is not needed there; where a device sends one, it must fit too, over the same zeros.
///
/// # Errors
/// [`NotAuthentic::Report`]: another secret, or changed bytes; nothing in it tells which. [`NotAuthentic::Altered`]: its
/// Message-Authenticator does not fit.
pub fn authenticate_accounting<'a>(packet: Packet<'a>, secret: &SharedSecret) -> Result<Authentic<'a>, NotAuthentic> {
    let wanted = secret.response_authenticator(packet.bytes(), &[0; 16]);
    if !bool::from(wanted.ct_eq(packet.authenticator())) {
        return Err(NotAuthentic::Report);
    }
    if packet.message_authenticator().is_some_and(|offset| !message_authenticator_fits(&packet, offset, &[0; 16], secret)) {
        return Err(NotAuthentic::Altered);
    }
    Ok(Authentic { packet, signed: true })
}

/// Proves a reply to the request that carried `request_authenticator`. A reply without Message-Authenticator is refused
/// unless `policy` takes it; one to a request with EAP always is (RFC 3579 section 3.2).
///
/// # Errors
/// [`NotAuthentic`].
pub fn authenticate_reply<'a>(
    packet: Packet<'a>,
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
    policy: IntegrityPolicy,
) -> Result<Authentic<'a>, NotAuthentic> {
    let wanted = secret.response_authenticator(packet.bytes(), request_authenticator);
    if !bool::from(wanted.ct_eq(packet.authenticator())) {
        return Err(NotAuthentic::Response);
    }
    let Some(offset) = packet.message_authenticator() else {
        let must = policy == IntegrityPolicy::Required || packet.first(AttributeType::EapMessage).is_some();
        return if must { Err(NotAuthentic::Missing) } else { Ok(Authentic { packet, signed: false }) };
    };
    if !message_authenticator_fits(&packet, offset, request_authenticator, secret) {
        return Err(NotAuthentic::Altered);
    }
    Ok(Authentic { packet, signed: true })
}

fn message_authenticator_fits(packet: &Packet<'_>, offset: usize, authenticator: &[u8; 16], secret: &SharedSecret) -> bool {
    let bytes = packet.bytes();
    let value = offset + 2;
    let wanted = secret.seal(&[&bytes[..4], authenticator, &bytes[HEADER_LENGTH..value], &[0; 16], &bytes[value + 16..]]);
    bool::from(wanted.ct_eq(&bytes[value..value + 16]))
}

/// With the wrong secret a hidden password turns into noise, so text proves the secret right.
fn password_reads_well(packet: &Packet<'_>, secret: &SharedSecret) -> bool {
    packet
        .first(AttributeType::UserPassword)
        .and_then(|hidden| reveal_password(hidden.value, packet.authenticator(), secret).ok())
        .is_some_and(|password| reads_like_text(password.expose()))
}
