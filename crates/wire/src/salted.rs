//! Values that are hidden with a salt: Tunnel-Password (RFC 2868 section 3.5), MS-MPPE keys (RFC 2548 section 2.4.2).

use crate::integrity::SharedSecret;
use crate::secret::Secret;
use md5::{Digest, Md5};

/// The longest value that a vendor-specific attribute can carry hidden, in bytes.
pub const MAX_SALTED: usize = 239;

/// Hides up to 239 bytes under a salt, which stands in front of what comes back. The salt's first bit is set here.
///
/// `authenticator` is the one of the request that is answered. Longer values are refused with `None`.
pub fn hide_salted(clear: &[u8], salt: [u8; 2], authenticator: &[u8; 16], secret: &SharedSecret) -> Option<Vec<u8>> {
    if clear.len() > MAX_SALTED {
        return None;
    }
    let salt = [salt[0] | 0x80, salt[1]];
    let mut hidden = vec![clear.len() as u8];
    hidden.extend(clear);
    hidden.resize(hidden.len().next_multiple_of(16), 0);
    let mut key = first_key(&salt, authenticator, secret);
    for block in hidden.chunks_exact_mut(16) {
        xor(block, &key);
        key = next_key(block, secret);
    }
    Some([salt.as_slice(), &hidden].concat())
}

/// Reveals what [`hide_salted`] hid; `None` where the value cannot be one, as with another secret.
pub fn reveal_salted(hidden: &[u8], authenticator: &[u8; 16], secret: &SharedSecret) -> Option<Secret<Vec<u8>>> {
    let (salt, hidden) = hidden.split_first_chunk::<2>()?;
    if hidden.is_empty() || !hidden.len().is_multiple_of(16) {
        return None;
    }
    let mut clear = hidden.to_vec();
    let mut key = first_key(salt, authenticator, secret);
    for (block, cipher) in clear.chunks_exact_mut(16).zip(hidden.chunks_exact(16)) {
        xor(block, &key);
        key = next_key(cipher, secret);
    }
    let length = usize::from(*clear.first()?);
    let value = clear.get(1..=length)?.to_vec();
    Some(Secret::new(value))
}

fn first_key(salt: &[u8; 2], authenticator: &[u8; 16], secret: &SharedSecret) -> [u8; 16] {
    Md5::new().chain_update(secret.bytes()).chain_update(authenticator).chain_update(salt).finalize().into()
}

fn next_key(cipher: &[u8], secret: &SharedSecret) -> [u8; 16] {
    Md5::new().chain_update(secret.bytes()).chain_update(cipher).finalize().into()
}

fn xor(block: &mut [u8], key: &[u8; 16]) {
    block.iter_mut().zip(key).for_each(|(byte, key)| *byte ^= key);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_key_is_padded_to_whole_blocks_behind_its_salt_and_length() {
        let secret = SharedSecret::new(b"radsec");
        let hidden = hide_salted(&[7; 32], [0x01, 0x02], &[9; 16], &secret).unwrap();
        assert_eq!((hidden.len(), &hidden[..2]), (2 + 48, &[0x81, 0x02][..]));
        // The first block by hand: MD5(secret, authenticator, salt) over length and the first fifteen bytes.
        let key: [u8; 16] = Md5::digest([b"radsec".as_slice(), &[9; 16], &[0x81, 0x02]].concat()).into();
        assert_eq!(hidden[2], 32 ^ key[0]);
        assert!(hidden[3..18].iter().zip(&key[1..]).all(|(byte, key)| *byte == 7 ^ key));
        assert!(hide_salted(&[0; 240], [0; 2], &[0; 16], &secret).is_none());
    }

    proptest! {
        #[test]
        fn any_value_comes_back_with_the_same_secret_and_request(clear in proptest::collection::vec(any::<u8>(), 0..=MAX_SALTED), salt: [u8; 2], authenticator: [u8; 16]) {
            let secret = SharedSecret::new(b"breakwater");
            let hidden = hide_salted(&clear, salt, &authenticator, &secret).unwrap();
            let revealed = reveal_salted(&hidden, &authenticator, &secret).unwrap();
            prop_assert_eq!(revealed.expose(), &clear);
        }

        #[test]
        fn no_bytes_of_a_server_break_the_reading(hidden in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = reveal_salted(&hidden, &[3; 16], &SharedSecret::new(b"x"));
        }
    }
}
