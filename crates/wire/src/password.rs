//! User-Password hiding (RFC 2865 section 5.2).

use crate::integrity::SharedSecret;
use crate::secret::Secret;
use md5::{Digest, Md5};
use thiserror::Error;

/// The longest password that the hiding can carry, in bytes.
pub const MAX_PASSWORD: usize = 128;

/// Why a password could not be hidden or revealed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum HiddenPasswordError {
    /// More than 128 bytes.
    #[error("the password has {seen} bytes; at most 128 can be sent")]
    TooLong {
        /// Its length in bytes.
        seen: usize,
    },
    /// The hidden value is not made of one to eight blocks.
    #[error("a hidden password of {seen} bytes cannot be read; it must be 16 to 128 bytes in steps of 16")]
    Blocks {
        /// Length of the value in bytes.
        seen: usize,
    },
}

/// Hides a password of 0 to 128 bytes; gives 16 to 128 bytes.
///
/// # Errors
/// [`HiddenPasswordError::TooLong`].
pub fn hide_password(password: &[u8], authenticator: &[u8; 16], secret: &SharedSecret) -> Result<Vec<u8>, HiddenPasswordError> {
    if password.len() > MAX_PASSWORD {
        return Err(HiddenPasswordError::TooLong { seen: password.len() });
    }
    let mut hidden = password.to_vec();
    hidden.resize(password.len().max(1).next_multiple_of(16), 0);
    let mut previous = *authenticator;
    for block in hidden.chunks_exact_mut(16) {
        mask(block, &previous, secret);
        previous.copy_from_slice(block);
    }
    Ok(hidden)
}

/// Reveals a hidden password; the padding at its end is taken off, a NUL in its middle is kept.
///
/// # Errors
/// [`HiddenPasswordError::Blocks`].
pub fn reveal_password(hidden: &[u8], authenticator: &[u8; 16], secret: &SharedSecret) -> Result<Secret<Vec<u8>>, HiddenPasswordError> {
    if hidden.is_empty() || hidden.len() > MAX_PASSWORD || !hidden.len().is_multiple_of(16) {
        return Err(HiddenPasswordError::Blocks { seen: hidden.len() });
    }
    let mut clear = hidden.to_vec();
    let mut previous = *authenticator;
    for (block, cipher) in clear.chunks_exact_mut(16).zip(hidden.chunks_exact(16)) {
        mask(block, &previous, secret);
        previous.copy_from_slice(cipher);
    }
    let length = clear.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    clear.truncate(length);
    Ok(Secret::new(clear))
}

/// Whether revealed bytes look like something a person typed: UTF-8 without control characters.
///
/// Sixteen bytes revealed with a wrong secret pass by accident less than once in ten thousand times, and are then refused
/// as a wrong password anyway.
pub fn reads_like_text(bytes: &[u8]) -> bool {
    std::str::from_utf8(bytes).is_ok_and(|text| !text.chars().any(char::is_control))
}

fn mask(block: &mut [u8], previous: &[u8; 16], secret: &SharedSecret) {
    let mut hash = Md5::new();
    hash.update(secret.bytes());
    hash.update(previous);
    let key: [u8; 16] = hash.finalize().into();
    for (byte, key) in block.iter_mut().zip(key) {
        *byte ^= key;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lengths_that_no_gateway_may_send_are_refused() {
        let secret = SharedSecret::new(b"xyzzy5461");
        for seen in [0, 1, 15, 17, 144] {
            assert_eq!(reveal_password(&vec![0; seen], &[0; 16], &secret).unwrap_err(), HiddenPasswordError::Blocks { seen });
        }
        assert_eq!(
            hide_password(&[b'a'; 129], &[0; 16], &secret).unwrap_err().to_string(),
            "the password has 129 bytes; at most 128 can be sent"
        );
    }

    #[test]
    fn a_wrong_secret_turns_text_into_noise() {
        let noise = (0u8..200)
            .filter(|n| {
                let hidden = hide_password(b"barnacle-and-buoy", &[*n; 16], &SharedSecret::new(b"right")).unwrap();
                !reads_like_text(reveal_password(&hidden, &[*n; 16], &SharedSecret::new(b"wrong")).unwrap().expose())
            })
            .count();
        assert_eq!(noise, 200);
    }

    proptest! {
        #[test]
        fn any_password_up_to_128_bytes_comes_back(password in proptest::collection::vec(any::<u8>(), 0..=128), authenticator: [u8; 16], secret in proptest::collection::vec(any::<u8>(), 0..80)) {
            let secret = SharedSecret::new(&secret);
            let hidden = hide_password(&password, &authenticator, &secret).unwrap();
            let mut wanted = password.clone();
            while wanted.last() == Some(&0) { wanted.pop(); }
            let revealed = reveal_password(&hidden, &authenticator, &secret).unwrap();
            prop_assert_eq!(revealed.expose(), &wanted);
        }
    }
}
