//! Secrets at rest: sealed with XChaCha20-Poly1305 under a key file that the operator may place elsewhere.

use crate::error::ServiceError;
use bivector_wire::Secret;
use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{KeyInit, XChaCha20Poly1305, XNonce};
use data_encoding::BASE64;
use sha2::{Digest, Sha256};
use std::cell::RefCell;
use std::fs;
use std::io::Write;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;
use zeroize::Zeroize;

const PREFIX: &str = "bivector-key-1 ";
const NONCE: usize = 24;

/// Seals and opens. What is sealed is bound to what it is for, so that one sealed value cannot stand in for another.
pub struct Seal {
    cipher: XChaCha20Poly1305,
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
        let cipher = XChaCha20Poly1305::new_from_slice(key.expose()).map_err(|_| unreadable("its key has the wrong length"))?;
        Ok(Seal { cipher })
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
        let payload = Payload { msg: value, aad: purpose.as_bytes() };
        let sealed = self.cipher.encrypt(XNonce::from_slice(&nonce), payload).expect("a value in memory is short enough to seal");
        [nonce.as_slice(), &sealed].concat()
    }

    /// Opens what was sealed for `purpose`.
    ///
    /// # Errors
    /// [`NotOurs`].
    pub fn open(&self, purpose: &str, sealed: &[u8]) -> Result<Secret<Vec<u8>>, NotOurs> {
        let (nonce, sealed) = sealed.split_at_checked(NONCE).ok_or(NotOurs)?;
        let payload = Payload { msg: sealed, aad: purpose.as_bytes() };
        self.cipher.decrypt(XNonce::from_slice(nonce), payload).map(Secret::new).map_err(|_| NotOurs)
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
