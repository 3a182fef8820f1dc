//! One-time codes by time (RFC 6238 over RFC 4226).

use crate::moment::Moment;
use bivector_wire::Secret;
use hmac::{Hmac, KeyInit, Mac};
use serde::{Deserialize, Serialize};
use std::time::Duration;
use subtle::ConstantTimeEq;
use thiserror::Error;
use utoipa::ToSchema;

/// How far around the window a wrong code is looked for, in steps, to tell a wrong clock from a wrong code.
const DRIFT_SEARCH: u64 = 40;
/// A used code stays marked this long after it could last have worked, in case the clock is set back.
const MARK_KEPT: Duration = Duration::from_secs(24 * 3600);

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

/// A person's time-based token.
#[derive(Debug, Clone)]
pub struct Token {
    /// Its record number: what a used code is marked under.
    pub id: u64,
    /// What the person calls it.
    pub label: String,
    /// The shared key.
    pub seed: Secret<Vec<u8>>,
    /// What was agreed.
    pub settings: Settings,
}

/// A code that was right for a token at a step. Only [`Token::verify`] makes one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VerifiedCode {
    token: u64,
    step: u64,
    period: u32,
    offset: i64,
}

impl VerifiedCode {
    /// The record number of the token.
    pub fn token(&self) -> u64 {
        self.token
    }

    /// The step it belongs to.
    pub fn step(&self) -> u64 {
        self.step
    }

    /// Steps between the code and now: negative is an older code.
    pub fn offset(&self) -> i64 {
        self.offset
    }

    /// Until when its mark must be kept.
    pub fn marked_until(&self, window: u64) -> Moment {
        Moment::from_secs((self.step + window + 1) * u64::from(self.period)).plus(MARK_KEPT)
    }
}

impl Token {
    /// The code of a step, with leading zeros.
    pub fn code(&self, step: u64) -> String {
        code(self.seed.expose(), step, self.settings)
    }

    /// Checks a typed code at `now`, `window` steps to each side, nearest step first.
    pub fn verify(&self, typed: &str, now: Moment, window: u64) -> Option<VerifiedCode> {
        let (step, offset) = self.find(typed, now, 0, window)?;
        Some(VerifiedCode { token: self.id, step, period: self.settings.period, offset })
    }

    /// Looks for a code outside the window, some minutes around: seconds between its time and now, negative if it is older.
    pub fn drift(&self, typed: &str, now: Moment, window: u64) -> Option<i64> {
        let (_, offset) = self.find(typed, now, window + 1, window + DRIFT_SEARCH)?;
        Some(offset * i64::from(self.settings.period))
    }

    fn find(&self, typed: &str, now: Moment, from: u64, to: u64) -> Option<(u64, i64)> {
        if typed.len() != usize::from(self.settings.digits) {
            return None;
        }
        let current = self.settings.step_at(now);
        let fits = |step: &u64| bool::from(self.code(*step).as_bytes().ct_eq(typed.as_bytes()));
        steps_around(current, from, to).find(fits).map(|step| (step, step as i64 - current as i64))
    }
}

/// The steps at distance `from..=to` of `current`, nearest first, older before newer.
fn steps_around(current: u64, from: u64, to: u64) -> impl Iterator<Item = u64> {
    (from..=to).flat_map(move |distance| {
        let newer = (distance > 0).then_some(current + distance);
        current.checked_sub(distance).into_iter().chain(newer)
    })
}

fn code(seed: &[u8], step: u64, settings: Settings) -> String {
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

    fn token(algorithm: Algorithm, seed: &[u8], digits: u8) -> Token {
        Token { id: 1, label: "token".into(), seed: Secret::new(seed.to_vec()), settings: Settings { algorithm, digits, period: 30 } }
    }

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
            for ((algorithm, seed), code) in columns.iter().zip(codes) {
                let token = token(*algorithm, seed, 8);
                let now = Moment::from_secs(seconds);
                assert_eq!(token.code(token.settings.step_at(now)), code);
                assert!(token.verify(code, now, 0).is_some());
            }
        }
    }

    #[test]
    fn a_code_is_right_inside_the_window_drifted_around_it_and_wrong_beyond() {
        let token = token(Algorithm::Sha1, b"12345678901234567890", 6);
        let now = Moment::from_secs(1_700_000_010);
        let current = token.settings.step_at(now);
        for (offset, right, drifted) in
            [(0i64, true, false), (-1, true, false), (1, true, false), (-2, false, true), (41, false, true), (-42, false, false)]
        {
            let step = current.wrapping_add_signed(offset);
            let code = token.code(step);
            assert_eq!(token.verify(&code, now, 1).map(|code| (code.step(), code.offset())), right.then_some((step, offset)));
            assert_eq!(token.drift(&code, now, 1), drifted.then_some(offset * 30), "offset {offset}");
        }
        for typed in ["", "12345", "1234567", "abcdef", "１２３４５６"] {
            assert!(token.verify(typed, now, 1).is_none() && token.drift(typed, now, 1).is_none());
        }
    }

    #[test]
    fn the_first_step_of_time_has_no_step_before_it() {
        let token = token(Algorithm::Sha1, b"12345678901234567890", 6);
        assert_eq!(token.verify(&token.code(1), Moment::from_secs(0), 1).map(|code| code.offset()), Some(1));
    }
}
