//! What a login keeps between a challenge and its answer. The service seals it; nothing else may make one.

use super::upstream::HiddenKind;
use bivector_model::cause::Cause;
use bivector_model::directory::Notice;
use bivector_model::moment::Moment;
use bivector_model::rule::Groups;
use bivector_wire::Secret;
use serde::{Deserialize, Serialize};

/// A login that waits for the answer to a prompt. Bound to gateway and person; sources by name, so that it outlives a new revision.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pending {
    pub(super) gateway: String,
    pub(super) chain: String,
    pub(super) typed_name: String,
    /// The login's reference.
    pub(super) reference: String,
    pub(super) until: Moment,
    pub(super) whose: Whose,
    pub(super) carried: Carried,
    pub(super) round: Round,
}

/// Whose login it is. Every round looks the person up again, so nothing more than this is kept of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Whose {
    /// The source that knew the person, by name.
    pub(super) found_by: String,
    /// The source that makes the first check, by name.
    pub(super) checked_by: String,
    /// The person's key; nobody else may answer.
    pub(super) key: String,
}

/// What earlier checks gave for the reply.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub(super) struct Carried {
    pub(super) notice: Option<Notice>,
    pub(super) attributes: Vec<u8>,
    /// Values to be hidden anew: what they are, and themselves.
    pub(super) hidden: Vec<(HiddenKind, KeptBytes)>,
    /// Groups that an upstream named.
    pub(super) groups: Groups,
    /// What a proof of the password has yielded: the value that shows that we know it, the key to send with, and to receive with.
    pub(super) keys: Option<(Vec<u8>, KeptBytes, KeptBytes)>,
}

/// What the answer is for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Round {
    /// An upstream asks, as the first check.
    First { upstream: Upstream, second: KeptSecond },
    /// An upstream asks, as the second.
    Second { upstream: Upstream },
    /// A second factor is asked for by us.
    Ask(Box<KeptAsk>),
    /// The person sets a new password.
    NewPassword { second: KeptSecond, old: Kept, new: Option<Kept>, tries: u8 },
}

/// How far a prompt of ours for a second factor is. Short, so that it fits into a State.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct KeptAsk {
    pub(super) sent: Option<KeptSent>,
    /// Codes that were sent in this login.
    pub(super) sendings: u8,
    pub(super) tries: u8,
    /// An upstream that gets what is typed, by name.
    pub(super) upstream: Option<String>,
    /// Factors that were down, by name.
    pub(super) down: Vec<String>,
    /// An approval that waits on the handset.
    pub(super) approval: Option<KeptApproval>,
    /// The seed of an app that is being set up.
    pub(super) seed: Option<KeptBytes>,
    /// The password that has expired, if that is why the factor is asked for.
    pub(super) expired: Option<KeptExpired>,
}

/// A password that the directory knows and that has expired.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct KeptExpired {
    pub(super) old: Kept,
    pub(super) cause: Cause,
}

/// An approval that waits on the handset. Only the round that asked for it, or joined it, knows its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct KeptApproval {
    pub(super) id: u64,
    /// The number that the gateway shows.
    pub(super) number: Option<u8>,
    pub(super) with_key: bool,
}

/// A code that was sent and is to be typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct KeptSent {
    /// The courier, by name.
    pub(super) courier: String,
    pub(super) code: Kept,
    pub(super) to: String,
    pub(super) until: Moment,
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
    /// This factor was proved and marked as used, with this device where it is one of ours.
    Proved {
        factor: String,
        device: Option<u64>,
    },
    /// It will be refused for this.
    Refused(Cause, String),
    /// An upstream has yet to check this.
    ForUpstream(Kept),
}

/// Secret bytes on their way into the seal.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct KeptBytes(Vec<u8>);

impl KeptBytes {
    pub(super) fn new(secret: &Secret<Vec<u8>>) -> Self {
        KeptBytes(secret.expose().clone())
    }

    pub(super) fn open(&self) -> Secret<Vec<u8>> {
        Secret::new(self.0.clone())
    }
}

impl std::fmt::Debug for KeptBytes {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("[secret]")
    }
}

impl Drop for KeptBytes {
    fn drop(&mut self) {
        zeroize::Zeroize::zeroize(&mut self.0);
    }
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
    /// The login's reference.
    pub fn reference(&self) -> &str {
        &self.reference
    }

    /// When its answer no longer counts.
    pub fn until(&self) -> Moment {
        self.until
    }

    /// Its bytes, to be sealed at once: they hold passwords.
    pub fn to_bytes(&self) -> Secret<Vec<u8>> {
        Secret::new(postcard::to_stdvec(self).unwrap_or_default())
    }

    /// From bytes that a seal of our own has kept; from nowhere else.
    pub fn from_sealed(bytes: &[u8]) -> Option<Self> {
        postcard::from_bytes(bytes).ok()
    }
}
