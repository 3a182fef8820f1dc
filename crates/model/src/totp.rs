//! One-time codes by time (RFC 6238) and by count (RFC 4226): the numbers alone. Whose they are is in [`crate::device`].

use crate::moment::Moment;
use hmac::{Hmac, KeyInit, Mac};
use serde::{Deserialize, Serialize};
use thiserror::Error;
use utoipa::ToSchema;

/// The hash of a code's HMAC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema, Default)]
#[serde(rename_all = "kebab-case")]
pub enum Algorithm {
    /// SHA-1, what nearly every app expects.
    #[default]
    Sha1,
    /// SHA-256.
    Sha256,
    /// SHA-512.
    Sha512,
}

/// What device and server have agreed on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Settings {
    /// The hash.
    pub algorithm: Algorithm,
    /// Digits of a code, 6 to 8.
    pub digits: u8,
    /// Seconds that a code lives, 15 to 300; 30 is usual.
    pub period: u32,
}

impl Default for Settings {
    fn default() -> Self {
        Settings { algorithm: Algorithm::Sha1, digits: 6, period: 30 }
    }
}

/// Settings that no code can be made with.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SettingsError {
    /// Digits out of range.
    #[error("{0} digits; 6 to 8 are allowed")]
    Digits(u8),
    /// Period out of range.
    #[error("a period of {0} s; 15 to 300 s are allowed")]
    Period(u32),
    /// A seed that is too short to be safe (RFC 4226 section 4 wants 128 bits).
    #[error("a seed of {0} bytes; at least 16 are needed")]
    Seed(usize),
}

impl Settings {
    /// Checks the ranges.
    ///
    /// # Errors
    /// [`SettingsError`] names what is out of range.
    pub fn check(&self, seed: &[u8]) -> Result<(), SettingsError> {
        match self {
            _ if !(6..=8).contains(&self.digits) => Err(SettingsError::Digits(self.digits)),
            _ if !(15..=300).contains(&self.period) => Err(SettingsError::Period(self.period)),
            _ if seed.len() < 16 => Err(SettingsError::Seed(seed.len())),
            _ => Ok(()),
        }
    }

    /// The step that `now` lies in.
    pub fn step_at(&self, now: Moment) -> u64 {
        now.secs() / u64::from(self.period.max(1))
    }
}

/// The code of a step or a counter, with leading zeros (RFC 4226 section 5.3).
pub fn code(seed: &[u8], step: u64, settings: Settings) -> String {
    let message = step.to_be_bytes();
    let digest = match settings.algorithm {
        Algorithm::Sha1 => digest::<Hmac<sha1::Sha1>>(seed, &message),
        Algorithm::Sha256 => digest::<Hmac<sha2::Sha256>>(seed, &message),
        Algorithm::Sha512 => digest::<Hmac<sha2::Sha512>>(seed, &message),
    };
    // Dynamic truncation, RFC 4226 section 5.3.
    let at = usize::from(digest.last().copied().unwrap_or(0) & 0x0f);
    let number = digest[at..at + 4].iter().fold(0u32, |number, byte| number << 8 | u32::from(*byte)) & 0x7fff_ffff;
    let digits = usize::from(settings.digits.min(9));
    format!("{:0digits$}", number % 10u32.pow(digits as u32))
}

fn digest<M: Mac + KeyInit>(seed: &[u8], message: &[u8]) -> Vec<u8> {
    let mut mac = <M as KeyInit>::new_from_slice(seed).expect("an HMAC takes a key of any length");
    mac.update(message);
    mac.finalize().into_bytes().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rfc_6238_appendix_b() {
        let seed = b"1234567890".repeat(7);
        let columns = [(Algorithm::Sha1, &seed[..20]), (Algorithm::Sha256, &seed[..32]), (Algorithm::Sha512, &seed[..64])];
        let rows = [
            (59, ["94287082", "46119246", "90693936"]),
            (1_111_111_109, ["07081804", "68084774", "25091201"]),
            (1_111_111_111, ["14050471", "67062674", "99943326"]),
            (1_234_567_890, ["89005924", "91819424", "93441116"]),
            (2_000_000_000, ["69279037", "90698825", "38618901"]),
            (20_000_000_000, ["65353130", "77737706", "47863826"]),
        ];
        for (seconds, codes) in rows {
            for ((algorithm, seed), wanted) in columns.iter().zip(codes) {
                let settings = Settings { algorithm: *algorithm, digits: 8, period: 30 };
                assert_eq!(code(seed, settings.step_at(Moment::from_secs(seconds)), settings), wanted);
            }
        }
    }

    #[test]
    fn rfc_4226_appendix_d() {
        let codes = ["755224", "287082", "359152", "969429", "338314", "254676", "287922", "162583", "399871", "520489"];
        for (count, wanted) in codes.into_iter().enumerate() {
            assert_eq!(code(b"12345678901234567890", count as u64, Settings::default()), wanted);
        }
    }
}
