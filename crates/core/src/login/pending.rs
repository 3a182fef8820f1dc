//! What a login keeps between a challenge and its answer. The service seals it; nothing else may make one.

use super::fact::Found;
use crate::cause::Cause;
use crate::moment::Moment;
use bivector_wire::Secret;
use serde::{Deserialize, Serialize};

/// A login that waits for the answer to a prompt. Bound to gateway and person; sources by name, so that it outlives a new revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pending {
    pub(super) gateway: String,
    pub(super) chain: String,
    pub(super) typed_name: String,
    /// Reference of the round before, for the trace.
    pub(super) reference: String,
    pub(super) until: Moment,
    pub(super) round: Round,
}

/// What the answer is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Round {
    /// An upstream asks, as the first check.
    First { upstream: Upstream, person: Box<Found>, second: KeptSecond },
    /// An upstream asks, as the second.
    Second { upstream: Upstream, source: String, person: Box<Found> },
    /// The person sets a new password.
    NewPassword { source: String, person: Box<Found>, second: KeptSecond, old: Kept, new: Option<Kept>, tries: u8 },
}

/// An upstream's own challenge.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Upstream {
    pub(super) name: String,
    /// The server that asks; only it knows its State.
    pub(super) server: String,
    pub(super) state: Vec<u8>,
}

/// How far the second check is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum KeptSecond {
    NotAsked,
    /// A code of this token was right and is marked as used.
    Proved(u64),
    /// It will be refused for this.
    Refused(Cause, String),
    /// An upstream has yet to check this.
    ForUpstream(Kept),
}

/// A secret on its way into the seal.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Kept(String);

impl Kept {
    pub(super) fn new(secret: &Secret<String>) -> Self {
        Kept(secret.expose().clone())
    }

    pub(super) fn open(&self) -> Secret<String> {
        Secret::new(self.0.clone())
    }
}

impl std::fmt::Debug for Kept {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("[secret]")
    }
}

impl Drop for Kept {
    fn drop(&mut self) {
        zeroize::Zeroize::zeroize(&mut self.0);
    }
}

impl Pending {
    /// When its answer no longer counts.
    pub fn until(&self) -> Moment {
        self.until
    }

    /// Its bytes, to be sealed at once: they hold passwords.
    pub fn to_bytes(&self) -> Secret<Vec<u8>> {
        Secret::new(serde_json::to_vec(self).unwrap_or_default())
    }

    /// From bytes that a seal of our own has kept; from nowhere else.
    pub fn from_sealed(bytes: &[u8]) -> Option<Self> {
        serde_json::from_slice(bytes).ok()
    }
}
