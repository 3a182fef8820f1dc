//! Secrets at rest: sealed with XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha) under a key file that the operator may place elsewhere.

use crate::error::ServiceError;
use bivector_wire::Secret;
use chacha20::{R20, hchacha};
use data_encoding::BASE64;
use ring::aead::{Aad, CHACHA20_POLY1305, LessSafeKey, Nonce, UnboundKey};
use ring::hmac;
use sha2::{Digest, Sha256};
use std::cell::RefCell;
use std::fs;
use std::io::Write;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;
use zeroize::Zeroize;

const PREFIX: &str = "bivector-key-1 ";
const NONCE: usize = 24;
/// Bytes of the nonce that the key of one value is made from; the rest is that value's own nonce.
const FOR_KEY: usize = 16;
const KEY: usize = 32;

/// Seals and opens. What is sealed is bound to what it is for, so that one sealed value cannot stand in for another.
pub struct Seal {
    key: Secret<[u8; KEY]>,
}

impl std::fmt::Debug for Seal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("[seal]")
    }
}

/// A sealed value that does not open: changed, or sealed under another key or for another purpose.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the sealed value does not open with this key file")]
pub struct NotOurs;

impl Seal {
    /// Reads the key file; writes a new one, readable by its owner only, where `create` allows it.
    ///
    /// # Errors
    /// The file is missing, cannot be read, is readable by others, or holds something else.
    pub fn load(path: &Path, create: bool) -> Result<Self, ServiceError> {
        match fs::read_to_string(path) {
            Ok(mut text) => {
                let seal = Self::parse(path, &text);
                text.zeroize();
                let mode = fs::metadata(path).map(|meta| meta.permissions().mode() & 0o777).unwrap_or(0);
                if mode & 0o077 != 0 {
                    let why = format!("others may read it (mode {mode:03o}; run `chmod 600` on it)");
                    return Err(ServiceError::KeyUnreadable { path: path.to_owned(), why });
                }
                seal
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && create => Self::create(path),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(ServiceError::KeyMissing { path: path.to_owned() }),
            Err(source) => Err(ServiceError::File { path: path.to_owned(), doing: "read", source }),
        }
    }

    fn parse(path: &Path, text: &str) -> Result<Self, ServiceError> {
        let unreadable = |why: &str| ServiceError::KeyUnreadable { path: path.to_owned(), why: why.to_owned() };
        let encoded = text.trim().strip_prefix(PREFIX).ok_or_else(|| unreadable("it does not begin as one"))?;
        let key = Secret::new(BASE64.decode(encoded.as_bytes()).map_err(|_| unreadable("its text is damaged"))?);
        let key = key.expose().as_slice().try_into().map_err(|_| unreadable("its key has the wrong length"))?;
        Ok(Seal { key: Secret::new(key) })
    }

    fn create(path: &Path) -> Result<Self, ServiceError> {
        let failed = |source| ServiceError::File { path: path.to_owned(), doing: "written", source };
        let key: Secret<Vec<u8>> = Secret::new(random::<32>().to_vec());
        let text = Secret::new(format!("{PREFIX}{}\n", BASE64.encode(key.expose())));
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(failed)?;
        file.write_all(text.expose().as_bytes()).and_then(|()| file.sync_all()).map_err(failed)?;
        Self::parse(path, text.expose())
    }

    /// Seals `value` for `purpose`.
    pub fn seal(&self, purpose: &str, value: &[u8]) -> Vec<u8> {
        let nonce = random::<NONCE>();
        let (key, own) = self.key_for(&nonce);
        let mut sealed = [nonce.as_slice(), value].concat();
        let tag = key
            .seal_in_place_separate_tag(own, Aad::from(purpose), &mut sealed[NONCE..])
            .expect("a value in memory is short enough to seal");
        sealed.extend_from_slice(tag.as_ref());
        sealed
    }

    /// Opens what was sealed for `purpose`.
    ///
    /// # Errors
    /// [`NotOurs`].
    pub fn open(&self, purpose: &str, sealed: &[u8]) -> Result<Secret<Vec<u8>>, NotOurs> {
        let (nonce, sealed) = sealed.split_first_chunk().ok_or(NotOurs)?;
        let (key, own) = self.key_for(nonce);
        let mut opened = sealed.to_vec();
        let length = key.open_in_place(own, Aad::from(purpose), &mut opened).map_err(|_| NotOurs)?.len();
        opened.truncate(length);
        Ok(Secret::new(opened))
    }

    /// A digest of `value` for `purpose` that nobody without the key file can make (HMAC-SHA-256, RFC 2104).
    pub fn digest(&self, purpose: &str, value: &[u8]) -> [u8; 32] {
        let key = hmac::Key::new(hmac::HMAC_SHA256, self.key.expose());
        let mut context = hmac::Context::with_key(&key);
        [purpose.as_bytes(), b"\0", value].into_iter().for_each(|part| context.update(part));
        context.sign().as_ref().try_into().expect("SHA-256 gives 32 bytes")
    }

    /// The key of one value and its nonce there: sections 2.2 and 2.3 of the draft. What is left is ChaCha20-Poly1305 (RFC 8439).
    fn key_for(&self, nonce: &[u8; NONCE]) -> (LessSafeKey, Nonce) {
        let (for_key, rest) = nonce.split_at(FOR_KEY);
        let for_key: [u8; FOR_KEY] = for_key.try_into().expect("a nonce is longer than that");
        let mut key: [u8; KEY] = hchacha::<R20>(self.key.expose().into(), &for_key.into()).into();
        let unbound = UnboundKey::new(&CHACHA20_POLY1305, &key).expect("the key has the length that the cipher wants");
        key.zeroize();
        let mut own = [0; ring::aead::NONCE_LEN];
        own[ring::aead::NONCE_LEN - rest.len()..].copy_from_slice(rest);
        (LessSafeKey::new(unbound), Nonce::assume_unique_for_key(own))
    }
}

/// So many random decimal digits, each as likely as the others.
pub fn digits(count: u8) -> Secret<String> {
    let mut text = String::with_capacity(usize::from(count));
    while text.len() < usize::from(count) {
        // 250 is the last multiple of ten that fits; what lies beyond would favour the small digits.
        text.extend(random::<16>().into_iter().filter(|byte| *byte < 250).map(|byte| char::from(b'0' + byte % 10)));
    }
    text.truncate(usize::from(count));
    Secret::new(text)
}

/// Random bytes of the system.
pub fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the system's random source works once it has started");
    bytes
}

/// Random bytes of the system, fetched many at a time: for what each login needs, and no key hangs on.
pub fn quick_random<const N: usize>() -> [u8; N] {
    thread_local! {
        static FETCHED: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
    }
    FETCHED.with_borrow_mut(|fetched| {
        if fetched.len() < N {
            *fetched = random::<FETCHED_AT_ONCE>().to_vec();
        }
        let rest = fetched.len().saturating_sub(N);
        let taken = <[u8; N]>::try_from(fetched.split_at(rest).1);
        fetched[rest..].zeroize();
        fetched.truncate(rest);
        taken.unwrap_or_else(|_| random())
    })
}

/// Bytes that a thread fetches for [`quick_random`].
const FETCHED_AT_ONCE: usize = 1024;

/// What is kept of an operator's token. A token has 256 random bits, so a plain hash is enough.
pub fn hash_token(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sealed_value_opens_only_for_its_purpose_and_unchanged() {
        let folder = tempfile::tempdir().unwrap();
        let seal = Seal::load(&folder.path().join("seal.key"), true).unwrap();
        let sealed = seal.seal("secret/gateway/breakwater", b"tide");
        assert_eq!(seal.open("secret/gateway/breakwater", &sealed).unwrap().expose(), b"tide");
        assert_eq!(seal.open("secret/gateway/lantern", &sealed).unwrap_err(), NotOurs);
        for at in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            assert!(seal.open("secret/gateway/breakwater", &changed).is_err());
        }
        assert!(seal.open("x", &[1, 2, 3]).is_err());
    }

    /// Appendix A.3.1 of the draft: what was sealed by any other program with the same key opens here.
    #[test]
    fn the_published_example_opens() {
        let hex = |text: &str| data_encoding::HEXLOWER.decode(text.as_bytes()).unwrap();
        let key = hex("808182838485868788898a8b8c8d8e8f909192939495969798999a9b9c9d9e9f");
        let seal = Seal { key: Secret::new(key.try_into().unwrap()) };
        let sealed = hex(concat!(
            "404142434445464748494a4b4c4d4e4f5051525354555657",
            "bd6d179d3e83d43b9576579493c0e939572a1700252bfaccbed2902c21396cbb",
            "731c7f1b0b4aa6440bf3a82f4eda7e39ae64c6708c54c216cb96b72e1213b452",
            "2f8c9ba40db5d945b11b69b982c1bb9e3f3fac2bc369488f76b2383565d3fff9",
            "21f9664c97637da9768812f615c68b13b52ec0875924c1c7987947deafd8780acf49",
        ));
        let (nonce, text) = sealed.split_first_chunk().unwrap();
        let (key, own) = seal.key_for(nonce);
        let (mut text, for_what) = (text.to_vec(), hex("50515253c0c1c2c3c4c5c6c7"));
        let opened = key.open_in_place(own, Aad::from(for_what), &mut text).unwrap();
        assert!(opened.starts_with(b"Ladies and Gentlemen of the class of '99: If I could offer you only one tip"));
    }

    #[test]
    fn a_key_file_is_kept_private_and_never_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("seal.key");
        assert!(matches!(Seal::load(&path, false), Err(ServiceError::KeyMissing { .. })));
        let sealed = Seal::load(&path, true).unwrap().seal("p", b"v");
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(Seal::load(&path, true).unwrap().open("p", &sealed).is_ok());
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        assert!(Seal::load(&path, true).unwrap_err().to_string().contains("chmod 600"));
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
        fs::write(&path, "something else").unwrap();
        assert!(matches!(Seal::load(&path, true), Err(ServiceError::KeyUnreadable { .. })));
    }
}
