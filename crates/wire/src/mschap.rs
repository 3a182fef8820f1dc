//! MS-CHAPv2 (RFC 2759), how RADIUS carries it (RFC 2548 section 2.3), and the keys it gives (RFC 3079 section 3).

use crate::Secret;
use des::Des;
use des::cipher::{Array, BlockCipherEncrypt, KeyInit};
use md4::Md4;
use sha1::{Digest, Sha1};
use subtle::ConstantTimeEq;
use thiserror::Error;

/// Vendor number under which the attributes and keys travel.
pub const MICROSOFT: u32 = 311;
/// MS-CHAP-Response, of version 1 (RFC 2548 section 2.1.3).
pub const MS_CHAP_RESPONSE: u8 = 1;
/// MS-CHAP-Error (RFC 2548 section 2.1.5).
pub const MS_CHAP_ERROR: u8 = 2;
/// MS-CHAP-Challenge (RFC 2548 section 2.1.2).
pub const MS_CHAP_CHALLENGE: u8 = 11;
/// MS-CHAP2-Response (RFC 2548 section 2.3.2).
pub const MS_CHAP2_RESPONSE: u8 = 25;
/// MS-CHAP2-Success (RFC 2548 section 2.3.3).
pub const MS_CHAP2_SUCCESS: u8 = 26;

/// Bytes of MS-CHAP2-Response: identifier, flags, peer challenge, 8 reserved, NT response.
const RESPONSE: usize = 50;

/// An NT hash: MD4 over the password in UTF-16. Whoever has it can log in with it, so it is a secret.
pub type NtHash = Secret<[u8; 16]>;

/// A proof of a password's NT hash: both challenges and the response.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MsChapProof {
    identifier: u8,
    authenticator_challenge: [u8; 16],
    peer_challenge: [u8; 16],
    response: [u8; 24],
    /// The name that was hashed, where it is not the one that was typed.
    name: Option<Vec<u8>>,
}

/// Attributes that make no proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum MsChapError {
    /// MS-CHAP2-Response has another length.
    #[error("MS-CHAP2-Response has {0} bytes; it always has 50")]
    Response(usize),
    /// MS-CHAP-Challenge is missing.
    #[error("MS-CHAP2-Response came without MS-CHAP-Challenge")]
    NoChallenge,
    /// MS-CHAP-Challenge has another length.
    #[error("MS-CHAP-Challenge has {0} bytes; it has 16 for MS-CHAPv2")]
    Challenge(usize),
}

/// What a proof that fits gives.
#[derive(Debug, Clone)]
pub struct MsChapProved {
    /// The value of MS-CHAP2-Success: it shows the device that we know the password too.
    pub success: Vec<u8>,
    /// The value of MS-MPPE-Send-Key: what the device decrypts with.
    pub send_key: Secret<Vec<u8>>,
    /// The value of MS-MPPE-Recv-Key: what the device encrypts with.
    pub receive_key: Secret<Vec<u8>>,
}

impl PartialEq for MsChapProved {
    fn eq(&self, other: &Self) -> bool {
        self.success == other.success
            && self.send_key.expose() == other.send_key.expose()
            && self.receive_key.expose() == other.receive_key.expose()
    }
}

impl Eq for MsChapProved {}

impl MsChapProof {
    /// Reads the values of MS-CHAP2-Response and MS-CHAP-Challenge.
    ///
    /// # Errors
    /// [`MsChapError`] names what is missing or has the wrong length.
    pub fn read(response: &[u8], challenge: Option<&[u8]>) -> Result<Self, MsChapError> {
        if response.len() != RESPONSE {
            return Err(MsChapError::Response(response.len()));
        }
        let challenge = challenge.ok_or(MsChapError::NoChallenge)?;
        let authenticator_challenge = challenge.try_into().map_err(|_| MsChapError::Challenge(challenge.len()))?;
        let (mut peer_challenge, mut nt_response) = ([0; 16], [0; 24]);
        peer_challenge.copy_from_slice(&response[2..18]);
        nt_response.copy_from_slice(&response[26..]);
        Ok(MsChapProof { identifier: response[0], authenticator_challenge, peer_challenge, response: nt_response, name: None })
    }

    /// The value of MS-CHAP2-Response that a device sends for a password.
    pub fn answer(
        identifier: u8,
        name: &[u8],
        hash: &NtHash,
        authenticator_challenge: [u8; 16],
        peer_challenge: [u8; 16],
    ) -> ([u8; RESPONSE], Self) {
        let response = nt_response(&authenticator_challenge, &peer_challenge, name, hash);
        let mut value = [0; RESPONSE];
        value[0] = identifier;
        value[2..18].copy_from_slice(&peer_challenge);
        value[26..].copy_from_slice(&response);
        (value, MsChapProof { identifier, authenticator_challenge, peer_challenge, response, name: None })
    }

    /// The same proof, made for a name of its own: EAP-MSCHAPv2 carries one beside the identity.
    pub fn hashed_for(mut self, name: &[u8]) -> Self {
        self.name = (!name.is_empty()).then(|| name.to_vec());
        self
    }

    /// The identifier of the exchange, which success and error carry too.
    pub fn identifier(&self) -> u8 {
        self.identifier
    }

    /// Compares with an NT hash. `name` is as it was typed; a device may have hashed it with its domain or without (RFC 2759
    /// section 8.2 wants it without), so both are tried.
    pub fn proves(&self, name: &[u8], hash: &NtHash) -> Option<MsChapProved> {
        let name = self.name.as_deref().unwrap_or(name);
        let plain = name.iter().rposition(|byte| *byte == b'\\').map_or(name, |at| &name[at + 1..]);
        let fits =
            |name: &&[u8]| bool::from(nt_response(&self.authenticator_challenge, &self.peer_challenge, name, hash).ct_eq(&self.response));
        let name = [plain, name].into_iter().find(fits)?;
        let hash_hash = md4(hash.expose());
        let master = master_key(&hash_hash, &self.response);
        let mut success = vec![self.identifier];
        success.extend(self.authenticator_response(name, &hash_hash).into_bytes());
        Some(MsChapProved {
            success,
            send_key: Secret::new(session_key(&master, true).to_vec()),
            receive_key: Secret::new(session_key(&master, false).to_vec()),
        })
    }

    /// RFC 2759 section 8.7.
    fn authenticator_response(&self, name: &[u8], hash_hash: &[u8; 16]) -> String {
        let digest = Sha1::new()
            .chain_update(hash_hash)
            .chain_update(self.response)
            .chain_update(b"Magic server to client signing constant")
            .finalize();
        let challenge = challenge_hash(&self.peer_challenge, &self.authenticator_challenge, name);
        let digest =
            Sha1::new().chain_update(digest).chain_update(challenge).chain_update(b"Pad to make it do more than one iteration").finalize();
        digest.iter().fold("S=".to_owned(), |text, byte| text + &format!("{byte:02X}"))
    }
}

/// The value of MS-CHAP-Error (RFC 2548 section 2.1.5, RFC 2759 section 6): always 691, so that it tells nothing about the cause.
pub fn ms_chap_error(identifier: u8, may_retry: bool, challenge: [u8; 16], message: &str) -> Vec<u8> {
    let challenge = challenge.iter().fold(String::new(), |text, byte| text + &format!("{byte:02X}"));
    let mut value = vec![identifier];
    value.extend(format!("E=691 R={} C={challenge} V=3 M={message}", u8::from(may_retry)).into_bytes());
    value
}

/// The NT hash of a password (RFC 2759 section 8.3).
pub fn nt_hash(password: &str) -> NtHash {
    let text = Secret::new(password.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>());
    Secret::new(md4(text.expose()))
}

fn md4(bytes: &[u8]) -> [u8; 16] {
    Md4::digest(bytes).into()
}

/// RFC 2759 section 8.2.
fn challenge_hash(peer: &[u8; 16], authenticator: &[u8; 16], name: &[u8]) -> [u8; 8] {
    let digest = Sha1::new().chain_update(peer).chain_update(authenticator).chain_update(name).finalize();
    let mut challenge = [0; 8];
    challenge.copy_from_slice(&digest[..8]);
    challenge
}

/// RFC 2759 sections 8.1 and 8.5.
fn nt_response(authenticator: &[u8; 16], peer: &[u8; 16], name: &[u8], hash: &NtHash) -> [u8; 24] {
    let challenge = challenge_hash(peer, authenticator, name);
    let mut key = [0; 21];
    key[..16].copy_from_slice(hash.expose());
    let mut response = [0; 24];
    for (part, out) in key.chunks_exact(7).zip(response.chunks_exact_mut(8)) {
        let mut block = Array::from(challenge);
        Des::new(&Array::from(spread(part))).encrypt_block(&mut block);
        out.copy_from_slice(&block);
    }
    zeroize::Zeroize::zeroize(&mut key);
    response
}

/// Seven bytes become the eight of a DES key; its parity bits are not looked at (RFC 2759 section 8.6).
fn spread(key: &[u8]) -> [u8; 8] {
    let bits = key.iter().fold(0u64, |bits, byte| bits << 8 | u64::from(*byte));
    std::array::from_fn(|at| ((bits >> (49 - 7 * at)) as u8 & 0x7f) << 1)
}

/// RFC 3079 section 3.4.
fn master_key(hash_hash: &[u8; 16], response: &[u8; 24]) -> [u8; 16] {
    let digest = Sha1::new().chain_update(hash_hash).chain_update(response).chain_update(b"This is the MPPE Master Key").finalize();
    let mut key = [0; 16];
    key.copy_from_slice(&digest[..16]);
    key
}

/// RFC 3079 section 3.4, on the server's side: 128 bits to send with or to receive with.
fn session_key(master: &[u8; 16], send: bool) -> [u8; 16] {
    let magic: &[u8; 84] = match send {
        true => b"On the client side, this is the receive key; on the server side, it is the send key.",
        false => b"On the client side, this is the send key; on the server side, it is the receive key.",
    };
    let digest = Sha1::new().chain_update(master).chain_update([0; 40]).chain_update(magic).chain_update([0xf2; 40]).finalize();
    let mut key = [0; 16];
    key.copy_from_slice(&digest[..16]);
    key
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn bytes<const N: usize>(text: &str) -> [u8; N] {
        let hex: Vec<u8> = text
            .split_whitespace()
            .collect::<String>()
            .as_bytes()
            .chunks(2)
            .map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap())
            .collect();
        hex.try_into().unwrap()
    }

    fn rfc_proof() -> MsChapProof {
        MsChapProof {
            identifier: 1,
            authenticator_challenge: bytes("5B 5D 7C 7D 7B 3F 2F 3E 3C 2C 60 21 32 26 26 28"),
            peer_challenge: bytes("21 40 23 24 25 5E 26 2A 28 29 5F 2B 3A 33 7C 7E"),
            response: bytes("82 30 9E CD 8D 70 8B 5E A0 8F AA 39 81 CD 83 54 42 33 11 4A 3D 85 D6 DF"),
            name: None,
        }
    }

    #[test]
    fn rfc_2759_section_9_2() {
        let hash = nt_hash("clientPass");
        assert_eq!(hash.expose(), &bytes::<16>("44 EB BA 8D 53 12 B8 D6 11 47 44 11 F5 69 89 AE"));
        let proof = rfc_proof();
        assert_eq!(challenge_hash(&proof.peer_challenge, &proof.authenticator_challenge, b"User"), bytes("D0 2E 43 86 BC E9 12 26"));
        assert_eq!(nt_response(&proof.authenticator_challenge, &proof.peer_challenge, b"User", &hash), proof.response);
        assert_eq!(md4(hash.expose()), bytes("41 C0 0C 58 4B D2 D9 1C 40 17 A2 A1 2F A5 9F 3F"));
        let proved = proof.proves(b"NORTHMOOR\\User", &hash).unwrap();
        assert_eq!(&proved.success[1..], b"S=407A5589115FD0D6209F510FE9C04566932CDA56");
        assert!(proof.proves(b"User", &nt_hash("clientpass")).is_none() && proof.proves(b"Other", &hash).is_none());
    }

    #[test]
    fn rfc_3079_section_3_5_3() {
        let proof = rfc_proof();
        let master = master_key(&md4(nt_hash("clientPass").expose()), &proof.response);
        assert_eq!(master, bytes("FD EC E3 71 7A 8C 83 8C B3 88 E5 27 AE 3C DD 31"));
        // The sample there is the sender's key of the server.
        assert_eq!(session_key(&master, true), bytes("8B 7C DC 14 9B 99 3A 1B A1 18 CB 15 3F 56 DC CB"));
    }

    #[test]
    fn wrong_lengths_and_a_missing_challenge_are_named() {
        assert_eq!(MsChapProof::read(&[0; 49], Some(&[0; 16])).unwrap_err(), MsChapError::Response(49));
        assert_eq!(MsChapProof::read(&[0; 50], None).unwrap_err(), MsChapError::NoChallenge);
        assert_eq!(MsChapProof::read(&[0; 50], Some(&[0; 8])).unwrap_err(), MsChapError::Challenge(8));
        assert_eq!(ms_chap_error(9, true, [0xab; 16], "x"), b"\x09E=691 R=1 C=ABABABABABABABABABABABABABABABAB V=3 M=x");
    }

    proptest! {
        #[test]
        fn what_a_device_answers_is_proved_by_the_same_password_only(
            password in "\\PC{1,20}", other in "\\PC{1,20}", name in "[a-z\\\\]{1,12}", ours: [u8; 16], theirs: [u8; 16],
        ) {
            prop_assume!(password != other);
            let (value, sent) = MsChapProof::answer(3, name.as_bytes(), &nt_hash(&password), ours, theirs);
            let proof = MsChapProof::read(&value, Some(&ours)).unwrap();
            prop_assert_eq!(&proof, &sent);
            prop_assert!(proof.proves(name.as_bytes(), &nt_hash(&password)).is_some());
            prop_assert!(proof.proves(name.as_bytes(), &nt_hash(&other)).is_none());
        }
    }
}
