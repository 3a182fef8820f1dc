//! CHAP as RADIUS carries it (RFC 2865 section 5.3, RFC 1994 section 4.1).

use md5::{Digest, Md5};
use subtle::ConstantTimeEq;
use thiserror::Error;

/// Bytes of a CHAP-Password: the identifier and an MD5 digest.
const LENGTH: usize = 17;
/// Bytes that a CHAP-Challenge has at least; shorter ones prove nothing worth having.
const MIN_CHALLENGE: usize = 5;

/// A proof of a password: the challenge, and what the device answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChapProof {
    identifier: u8,
    digest: [u8; 16],
    challenge: Vec<u8>,
}

/// Attributes that make no proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ChapError {
    /// CHAP-Password has another length.
    #[error("CHAP-Password has {0} bytes; it always has 17")]
    Length(usize),
    /// CHAP-Challenge is too short.
    #[error("CHAP-Challenge has {0} bytes; at least 5 are needed")]
    Challenge(usize),
}

impl ChapProof {
    /// Reads the value of CHAP-Password; `challenge` is CHAP-Challenge, or the Request Authenticator where there is none.
    ///
    /// # Errors
    /// [`ChapError`] names what has the wrong length.
    pub fn read(password: &[u8], challenge: &[u8]) -> Result<Self, ChapError> {
        let [identifier, digest @ ..] = password else { return Err(ChapError::Length(0)) };
        let digest = <[u8; 16]>::try_from(digest).map_err(|_| ChapError::Length(password.len()))?;
        if challenge.len() < MIN_CHALLENGE {
            return Err(ChapError::Challenge(challenge.len()));
        }
        Ok(ChapProof { identifier: *identifier, digest, challenge: challenge.to_vec() })
    }

    /// Whether it proves this password.
    pub fn proves(&self, password: &[u8]) -> bool {
        digest(self.identifier, password, &self.challenge).ct_eq(&self.digest).into()
    }
}

/// The value of CHAP-Password that a device sends.
pub fn chap_password(identifier: u8, password: &[u8], challenge: &[u8]) -> [u8; LENGTH] {
    let mut value = [identifier; LENGTH];
    value[1..].copy_from_slice(&digest(identifier, password, challenge));
    value
}

fn digest(identifier: u8, password: &[u8], challenge: &[u8]) -> [u8; 16] {
    Md5::new().chain_update([identifier]).chain_update(password).chain_update(challenge).finalize().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_proof_fits_its_password_and_challenge_only() {
        let value = chap_password(7, b"barnacle", b"sixteen-bytes-ok");
        let proof = ChapProof::read(&value, b"sixteen-bytes-ok").unwrap();
        assert!(proof.proves(b"barnacle") && !proof.proves(b"mussel"));
        assert!(!ChapProof::read(&value, b"another-challeng").unwrap().proves(b"barnacle"));
        // MD5 over 7, "barnacle" and the challenge, reckoned elsewhere.
        let by_hand: [u8; 16] = Md5::digest(b"\x07barnaclesixteen-bytes-ok").into();
        assert_eq!(value[1..], by_hand);
    }

    #[test]
    fn wrong_lengths_are_named() {
        assert_eq!(ChapProof::read(&[], b"12345").unwrap_err(), ChapError::Length(0));
        assert_eq!(ChapProof::read(&[1; 16], b"12345").unwrap_err(), ChapError::Length(16));
        assert_eq!(ChapProof::read(&[1; 17], b"1234").unwrap_err(), ChapError::Challenge(4));
    }
}
