//! Writing packets: attributes are gathered, then signed once.

use crate::attribute::{push_attribute, push_split, push_vendor};
use crate::dictionary::AttributeType;
use crate::integrity::SharedSecret;
use crate::packet::{Code, HEADER_LENGTH, MAX_PACKET};
use thiserror::Error;

const MESSAGE_AUTHENTICATOR_LENGTH: usize = 18;

/// A packet would be longer than 4096 bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("the packet would have {seen} bytes; at most 4096 are allowed")]
pub struct TooLong {
    /// The length it would have, in bytes.
    pub seen: usize,
}

/// A packet under construction. Its Message-Authenticator is written when it is signed, always as the first attribute.
#[derive(Debug, Clone)]
pub struct Message {
    code: Code,
    body: Vec<u8>,
}

impl Message {
    /// An empty packet.
    pub fn new(code: Code) -> Self {
        Message { code, body: Vec::with_capacity(256) }
    }

    /// The same attributes in a packet of another kind.
    pub fn with_code(&self, code: Code) -> Self {
        Message { code, body: self.body.clone() }
    }

    /// What kind of packet it will be.
    pub fn code(&self) -> Code {
        self.code
    }

    /// Adds one attribute. A value past 253 bytes is split over several attributes of the same kind.
    pub fn push(&mut self, kind: AttributeType, value: &[u8]) {
        if value.is_empty() { push_attribute(&mut self.body, kind, value) } else { push_split(&mut self.body, kind, value) }
    }

    /// Adds a vendor-specific attribute (RFC 2865 section 5.26), split at 247 bytes of value.
    pub fn push_vendor(&mut self, vendor: u32, number: u8, value: &[u8]) {
        push_vendor(&mut self.body, vendor, number, value);
    }

    /// Adds attributes that are encoded already.
    pub fn push_encoded(&mut self, attributes: &[u8]) {
        self.body.extend_from_slice(attributes);
    }

    /// Writes and signs a reply to a request.
    ///
    /// # Errors
    /// [`TooLong`]: nothing is cut off, since a cut attribute could mean something else.
    pub fn sign_reply(&self, identifier: u8, request_authenticator: &[u8; 16], secret: &SharedSecret) -> Result<Vec<u8>, TooLong> {
        let mut packet = self.sign_request(identifier, request_authenticator, secret)?;
        let response = secret.response_authenticator(&packet, request_authenticator);
        packet[4..HEADER_LENGTH].copy_from_slice(&response);
        Ok(packet)
    }

    /// Writes and signs a request that carries `authenticator`.
    ///
    /// # Errors
    /// [`TooLong`].
    pub fn sign_request(&self, identifier: u8, authenticator: &[u8; 16], secret: &SharedSecret) -> Result<Vec<u8>, TooLong> {
        let mut sealed = vec![u8::from(AttributeType::MessageAuthenticator), MESSAGE_AUTHENTICATOR_LENGTH as u8];
        sealed.extend([0; 16]);
        let mut packet = self.write(identifier, authenticator, &sealed)?;
        let seal = secret.seal(&[&packet]);
        packet[HEADER_LENGTH + 2..HEADER_LENGTH + MESSAGE_AUTHENTICATOR_LENGTH].copy_from_slice(&seal);
        Ok(packet)
    }

    /// Writes a reply that only its Response Authenticator proves, as old servers do.
    ///
    /// # Errors
    /// [`TooLong`].
    pub fn unsigned_reply(&self, identifier: u8, request_authenticator: &[u8; 16], secret: &SharedSecret) -> Result<Vec<u8>, TooLong> {
        let mut packet = self.write(identifier, request_authenticator, &[])?;
        let response = secret.response_authenticator(&packet, request_authenticator);
        packet[4..HEADER_LENGTH].copy_from_slice(&response);
        Ok(packet)
    }

    /// Writes an Accounting-Request with its authenticator (RFC 2866 section 3), or a Disconnect-Request or CoA-Request (RFC 5176 section 2.3).
    ///
    /// # Errors
    /// [`TooLong`].
    pub fn accounting_request(&self, identifier: u8, secret: &SharedSecret) -> Result<Vec<u8>, TooLong> {
        self.unsigned_reply(identifier, &[0; 16], secret)
    }

    /// Writes a request without Message-Authenticator, as old gateways do.
    ///
    /// # Errors
    /// [`TooLong`].
    pub fn unsigned_request(&self, identifier: u8, authenticator: &[u8; 16]) -> Result<Vec<u8>, TooLong> {
        self.write(identifier, authenticator, &[])
    }

    fn write(&self, identifier: u8, authenticator: &[u8; 16], first: &[u8]) -> Result<Vec<u8>, TooLong> {
        let length = HEADER_LENGTH + first.len() + self.body.len();
        if length > MAX_PACKET {
            return Err(TooLong { seen: length });
        }
        let mut packet = Vec::with_capacity(length);
        packet.extend([self.code.into(), identifier]);
        packet.extend((length as u16).to_be_bytes());
        packet.extend(authenticator);
        packet.extend(first);
        packet.extend(&self.body);
        Ok(packet)
    }
}

#[cfg(test)]
#[path = "rfc2865_tests.rs"]
mod tests;
