//! Encryption of a message for one subscription (RFC 8291, on the content coding of RFC 8188).

use aes_gcm::aead::{Aead, KeyInit};
use aes_gcm::{Aes128Gcm, Nonce};
use data_encoding::BASE64URL_NOPAD;
use hkdf::Hkdf;
use p256::elliptic_curve::sec1::ToSec1Point;
use p256::{PublicKey, SecretKey, ecdh};
use sha2::Sha256;
use thiserror::Error;

/// Bytes of an uncompressed point.
const POINT: usize = 65;
/// Bytes of the authentication secret of a subscription (RFC 8291 section 3.2).
const AUTH: usize = 16;
/// Bytes of the salt (RFC 8188 section 2.1).
const SALT: usize = 16;
/// Bytes before the ciphertext: salt, record size, length of the key, the sender's key.
const HEADER: usize = SALT + 4 + 1 + POINT;
/// The record size that is stated. A message is one record; push services take 4,096 bytes in all (RFC 8030 section 7.2).
const RECORD: u32 = 4096;
/// Ends the content of the last record, before its padding.
const LAST: u8 = 2;
/// Bytes of the tag of AES-GCM.
const TAG: usize = 16;
/// Bytes of content that fit into a message.
pub const MAX_PLAIN: usize = 4096 - HEADER - TAG - 1;

/// Keys of a subscription that cannot be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum KeyError {
    /// Not base64url without padding.
    #[error("`{0}` is not base64url")]
    Encoding(&'static str),
    /// The public key has another length.
    #[error("`p256dh` has {0} bytes, not 65")]
    PointLength(usize),
    /// The public key is no point of the curve.
    #[error("`p256dh` is not a point of the curve P-256")]
    NotAPoint,
    /// The secret has another length.
    #[error("`auth` has {0} bytes, not 16")]
    AuthLength(usize),
}

/// Whom a message is for: the keys of a subscription.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recipient {
    public: PublicKey,
    auth: [u8; AUTH],
}

impl Recipient {
    /// Reads the keys as a browser gives them: `p256dh` and `auth`, in base64url.
    ///
    /// # Errors
    /// [`KeyError`].
    pub fn read(p256dh: &str, auth: &str) -> Result<Self, KeyError> {
        let decoded =
            |name, text: &str| BASE64URL_NOPAD.decode(text.trim_end_matches('=').as_bytes()).map_err(|_| KeyError::Encoding(name));
        Self::of_bytes(&decoded("p256dh", p256dh)?, &decoded("auth", auth)?)
    }

    /// From the bytes themselves.
    ///
    /// # Errors
    /// [`KeyError`].
    pub fn of_bytes(point: &[u8], auth: &[u8]) -> Result<Self, KeyError> {
        if point.len() != POINT {
            return Err(KeyError::PointLength(point.len()));
        }
        let auth = auth.try_into().map_err(|_| KeyError::AuthLength(auth.len()))?;
        Ok(Recipient { public: PublicKey::from_sec1_bytes(point).map_err(|_| KeyError::NotAPoint)?, auth })
    }
}

/// A message that cannot be encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum EncryptError {
    /// It does not fit.
    #[error("the message has {0} bytes; {MAX_PLAIN} fit")]
    TooLong(usize),
    /// The random bytes are no private key; others will be.
    #[error("these random bytes are no private key")]
    Key,
}

/// Encrypts a message. `private` and `salt` are random and used for this message only; `padded_to` hides how long it is.
///
/// # Errors
/// [`EncryptError`].
pub fn encrypt(plain: &[u8], padded_to: usize, to: &Recipient, private: &[u8; 32], salt: &[u8; SALT]) -> Result<Vec<u8>, EncryptError> {
    if plain.len() > MAX_PLAIN {
        return Err(EncryptError::TooLong(plain.len()));
    }
    let secret = SecretKey::from_slice(private).map_err(|_| EncryptError::Key)?;
    let own = point(&secret.public_key());
    let shared = ecdh::diffie_hellman(secret.to_nonzero_scalar(), to.public.as_affine());
    let keys = Keys::derive(shared.raw_secret_bytes(), &to.auth, &point(&to.public), &own, salt);
    let mut content = Vec::with_capacity(padded_to.max(plain.len()) + 1);
    content.extend(plain);
    content.push(LAST);
    content.resize(content.len().max(padded_to.min(MAX_PLAIN) + 1), 0);
    let mut message = Vec::with_capacity(HEADER + content.len() + TAG);
    message.extend(salt);
    message.extend(RECORD.to_be_bytes());
    message.push(POINT as u8);
    message.extend(own);
    // A key of the right length and a short message cannot fail.
    message.extend(keys.cipher().encrypt(&keys.nonce(), content.as_slice()).map_err(|_| EncryptError::Key)?);
    Ok(message)
}

/// A message that does not open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum DecryptError {
    /// Shorter than a header and a tag.
    #[error("the message has {0} bytes, too few for a header")]
    Short(usize),
    /// More than one record, or a record larger than what a push service takes.
    #[error("the message states records of {0} bytes")]
    Record(u32),
    /// The sender's key is no point of the curve.
    #[error("the sender's key is not a point of the curve P-256")]
    SenderKey,
    /// It is for another subscription, or bytes were changed.
    #[error("the message is for another subscription, or was changed on its way")]
    NotOurs,
    /// No delimiter ends the content.
    #[error("the content does not end as the last record must")]
    Delimiter,
}

/// The receiving side: what a browser keeps of its subscription.
#[derive(Clone)]
pub struct Receiver {
    private: SecretKey,
    auth: [u8; AUTH],
}

impl std::fmt::Debug for Receiver {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("[secret]")
    }
}

impl Receiver {
    /// From random bytes; nothing if these are no private key.
    pub fn new(private: &[u8; 32], auth: [u8; AUTH]) -> Option<Self> {
        Some(Receiver { private: SecretKey::from_slice(private).ok()?, auth })
    }

    /// The public key, in base64url, as a browser tells it under `p256dh`.
    pub fn p256dh(&self) -> String {
        BASE64URL_NOPAD.encode(&point(&self.private.public_key()))
    }

    /// The secret, in base64url, as a browser tells it under `auth`.
    pub fn auth(&self) -> String {
        BASE64URL_NOPAD.encode(&self.auth)
    }
}

/// Opens a message.
///
/// # Errors
/// [`DecryptError`].
pub fn decrypt(message: &[u8], receiver: &Receiver) -> Result<Vec<u8>, DecryptError> {
    let short = || DecryptError::Short(message.len());
    let (header, sealed) = message.split_at_checked(HEADER).filter(|(_, sealed)| sealed.len() > TAG).ok_or_else(short)?;
    let (salt, rest) = header.split_first_chunk::<SALT>().ok_or_else(short)?;
    let (record, rest) = rest.split_first_chunk::<4>().ok_or_else(short)?;
    let record = u32::from_be_bytes(*record);
    if record > RECORD || (record as usize) < sealed.len() {
        return Err(DecryptError::Record(record));
    }
    let [length, theirs @ ..] = rest else { return Err(short()) };
    let sender = PublicKey::from_sec1_bytes(theirs).ok().filter(|_| usize::from(*length) == POINT).ok_or(DecryptError::SenderKey)?;
    let shared = ecdh::diffie_hellman(receiver.private.to_nonzero_scalar(), sender.as_affine());
    let own = point(&receiver.private.public_key());
    let keys = Keys::derive(shared.raw_secret_bytes(), &receiver.auth, &own, &point(&sender), salt);
    let mut content = keys.cipher().decrypt(&keys.nonce(), sealed).map_err(|_| DecryptError::NotOurs)?;
    let end = content.iter().rposition(|byte| *byte != 0).filter(|at| content[*at] == LAST).ok_or(DecryptError::Delimiter)?;
    content.truncate(end);
    Ok(content)
}

fn point(key: &PublicKey) -> [u8; POINT] {
    let mut bytes = [0; POINT];
    let encoded = key.to_sec1_point(false);
    // An uncompressed point has just this length.
    bytes.copy_from_slice(encoded.as_bytes());
    bytes
}

/// Key and nonce of the one record (RFC 8291 section 3.4).
struct Keys {
    key: [u8; 16],
    nonce: [u8; 12],
}

impl Keys {
    fn derive(shared: &[u8], auth: &[u8], receiver: &[u8; POINT], sender: &[u8; POINT], salt: &[u8]) -> Self {
        let mut input = [0; 32];
        expand(&Hkdf::new(Some(auth), shared), &[b"WebPush: info\0", receiver, sender], &mut input);
        let from = Hkdf::new(Some(salt), &input);
        let mut keys = Keys { key: [0; 16], nonce: [0; 12] };
        expand(&from, &[b"Content-Encoding: aes128gcm\0"], &mut keys.key);
        expand(&from, &[b"Content-Encoding: nonce\0"], &mut keys.nonce);
        keys
    }

    fn cipher(&self) -> Aes128Gcm {
        Aes128Gcm::new(&self.key.into())
    }

    fn nonce(&self) -> Nonce<aes_gcm::aead::consts::U12> {
        self.nonce.into()
    }
}

fn expand(from: &Hkdf<Sha256>, info: &[&[u8]], into: &mut [u8]) {
    // Fails only for more than 255 hashes.
    let _ = from.expand_multi_info(info, into);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn bytes<const N: usize>(text: &str) -> [u8; N] {
        BASE64URL_NOPAD.decode(text.as_bytes()).unwrap().try_into().unwrap()
    }

    /// The example of RFC 8291 section 5, with the keys of its appendix A.
    const PLAIN: &[u8] = b"When I grow up, I want to be a watermelon";
    const SENDER: &str = "yfWPiYE-n46HLnH0KqZOF1fJJU3MYrct3AELtAQ-oRw";
    const RECEIVER: &str = "q1dXpw3UpT5VOmu_cf_v6ih07Aems3njxI-JWgLcM94";
    const RECEIVER_PUBLIC: &str = "BCVxsr7N_eNgVRqvHtD0zTZsEc6-VV-JvLexhqUzORcxaOzi6-AYWXvTBHm4bjyPjs7Vd8pZGH6SRpkNtoIAiw4";
    const SECRET: &str = "BTBZMqHH6r4Tts7J_aSIgg";
    const SALT_USED: &str = "DGv6ra1nlYgDCS1FRnbzlw";
    const MESSAGE: &str = "DGv6ra1nlYgDCS1FRnbzlwAAEABBBP4z9KsN6nGRTbVYI_c7VJSPQTBtkgcy27mlmlMoZIIgDll6e3vCYLocInmYWAmS6TlzAC8wEqKK6PBru3jl7A_yl95bQpu6cVPTpK4Mqgkf1CXztLVBSt2Ks3oZwbuwXPXLWyouBWLVWGNWQexSgSxsj_Qulcy4a-fN";

    fn receiver() -> Receiver {
        Receiver::new(&bytes(RECEIVER), bytes(SECRET)).unwrap()
    }

    fn recipient() -> Recipient {
        Recipient::read(&receiver().p256dh(), &receiver().auth()).unwrap()
    }

    #[test]
    fn the_example_of_the_standard_is_encrypted_byte_for_byte() {
        assert_eq!(receiver().p256dh(), RECEIVER_PUBLIC);
        let message = encrypt(PLAIN, 0, &recipient(), &bytes(SENDER), &bytes(SALT_USED)).unwrap();
        assert_eq!(BASE64URL_NOPAD.encode(&message), MESSAGE);
    }

    #[test]
    fn the_example_of_the_standard_is_decrypted() {
        let message = BASE64URL_NOPAD.decode(MESSAGE.as_bytes()).unwrap();
        assert_eq!(decrypt(&message, &receiver()).unwrap(), PLAIN);
    }

    #[test]
    fn padding_hides_the_length() {
        let lengths = [0, 1, 41, 200].map(|length| {
            let message = encrypt(&vec![b'x'; length], 256, &recipient(), &bytes(SENDER), &bytes(SALT_USED)).unwrap();
            assert_eq!(decrypt(&message, &receiver()).unwrap().len(), length);
            message.len()
        });
        assert_eq!(lengths, [HEADER + 257 + TAG; 4]);
    }

    #[test]
    fn the_longest_message_has_4096_bytes_and_a_longer_one_is_refused() {
        let longest = encrypt(&[b'x'; MAX_PLAIN], 0, &recipient(), &bytes(SENDER), &bytes(SALT_USED)).unwrap();
        assert_eq!(longest.len(), 4096);
        let refused = encrypt(&[b'x'; MAX_PLAIN + 1], 0, &recipient(), &bytes(SENDER), &bytes(SALT_USED)).unwrap_err();
        assert_eq!(refused.to_string(), "the message has 3994 bytes; 3993 fit");
    }

    #[test]
    fn keys_of_the_wrong_length_or_off_the_curve_are_refused() {
        let good = receiver();
        let read = |point: &str, auth: &str| Recipient::read(point, auth).unwrap_err().to_string();
        assert_eq!(read("BCVxsr7N", &good.auth()), "`p256dh` has 6 bytes, not 65");
        assert_eq!(read(&good.p256dh(), "BTBZMqHH"), "`auth` has 6 bytes, not 16");
        assert_eq!(read("not base64!", &good.auth()), "`p256dh` is not base64url");
        let off = BASE64URL_NOPAD.encode(&[&[4][..], &[7; 64]].concat());
        assert_eq!(read(&off, &good.auth()), "`p256dh` is not a point of the curve P-256");
        // Some browsers pad.
        assert!(Recipient::read(&format!("{}=", good.p256dh()), &format!("{}==", good.auth())).is_ok());
    }

    #[test]
    fn a_message_for_somebody_else_does_not_open() {
        let message = BASE64URL_NOPAD.decode(MESSAGE.as_bytes()).unwrap();
        let other = Receiver::new(&[7; 32], bytes(SECRET)).unwrap();
        assert_eq!(decrypt(&message, &other), Err(DecryptError::NotOurs));
        let other = Receiver::new(&bytes(RECEIVER), [7; AUTH]).unwrap();
        assert_eq!(decrypt(&message, &other), Err(DecryptError::NotOurs));
    }

    #[test]
    fn secrets_are_not_shown() {
        assert_eq!(format!("{:?}", receiver()), "[secret]");
    }

    proptest! {
        #[test]
        fn what_is_encrypted_is_what_comes_out(plain in proptest::collection::vec(any::<u8>(), 0..600), pad in 0_usize..700, salt: [u8; 16]) {
            let message = encrypt(&plain, pad, &recipient(), &bytes(SENDER), &salt).unwrap();
            prop_assert_eq!(decrypt(&message, &receiver()).unwrap(), plain);
        }

        #[test]
        fn a_changed_bit_is_noticed(at in 0_usize..144, bit in 0_u8..8) {
            let mut message = BASE64URL_NOPAD.decode(MESSAGE.as_bytes()).unwrap();
            let at = at % message.len();
            message[at] ^= 1 << bit;
            // The stated record size may be another one that the message fits into.
            if !(16..20).contains(&at) {
                prop_assert!(decrypt(&message, &receiver()).is_err());
            }
        }

        #[test]
        fn any_bytes_are_refused_without_a_panic(message in proptest::collection::vec(any::<u8>(), 0..200)) {
            prop_assert!(decrypt(&message, &receiver()).is_err());
        }
    }
}
