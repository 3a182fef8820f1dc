//! Proof values. An [`Accept`] consumes one of each, and only what checked a thing can make its proof.

use super::fact::{ChangeAnswer, MarkAnswer, PasswordAnswer};
use super::pending::Pending;
use super::upstream::{HiddenValue, UpstreamAnswer};
use crate::rule::RulePassed;
use crate::site::SourceRef;
use crate::totp::VerifiedCode;
use bivector_wire::Authentic;

/// The request came from its gateway, as far as the gateway's policy asks for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestAuthentic {
    signed: bool,
}

impl RequestAuthentic {
    /// From a packet whose integrity was proved.
    pub fn new(request: &Authentic<'_>) -> Self {
        RequestAuthentic { signed: request.is_signed() }
    }

    /// Whether a Message-Authenticator proved it.
    pub fn is_signed(&self) -> bool {
        self.signed
    }
}

/// A source has confirmed the password.
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct FirstProved {
    source: SourceRef,
}

impl FirstProved {
    /// Only from the answer that the password is right.
    pub(super) fn by_password(source: SourceRef, answer: &PasswordAnswer) -> Option<Self> {
        matches!(answer, PasswordAnswer::Right | PasswordAnswer::RightBut(_)).then_some(FirstProved { source })
    }

    /// Only from an upstream's verified accept.
    pub(super) fn by_upstream(source: SourceRef, answer: &UpstreamAnswer) -> Option<Self> {
        matches!(answer, UpstreamAnswer::Accept(_)).then_some(FirstProved { source })
    }

    /// Only from the answer that the old password was taken and a new one set.
    pub(super) fn by_change(source: SourceRef, answer: &ChangeAnswer) -> Option<Self> {
        matches!(answer, ChangeAnswer::Changed).then_some(FirstProved { source })
    }

    /// Proved in the round before, which our own seal has kept.
    pub(super) fn by_kept_round(source: SourceRef, _round: &Pending) -> Self {
        FirstProved { source }
    }

    /// The source that confirmed it.
    pub fn source(&self) -> SourceRef {
        self.source
    }
}

/// The second check, or the reason why there was none.
#[derive(Debug, PartialEq, Eq, Clone)]
pub enum Second {
    /// It was given.
    Proved(SecondProved),
    /// It was not asked for.
    Waived(SecondWaived),
}

/// A second factor has been given.
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct SecondProved {
    /// Record number of the token; none where an upstream checked the code.
    token: Option<u64>,
}

impl SecondProved {
    /// Only from a code that verified and was marked as used for the first time.
    pub(super) fn by_code(code: &VerifiedCode, mark: &MarkAnswer) -> Option<Self> {
        matches!(mark, MarkAnswer::Marked).then_some(SecondProved { token: Some(code.token()) })
    }

    /// Only from an upstream's verified accept.
    pub(super) fn by_upstream(answer: &UpstreamAnswer) -> Option<Self> {
        matches!(answer, UpstreamAnswer::Accept(_)).then_some(SecondProved { token: None })
    }

    /// Proved and marked in the round before, which our own seal has kept.
    pub(super) fn by_kept_round(token: u64) -> Self {
        SecondProved { token: Some(token) }
    }

    /// Record number of the token; none where an upstream checked the code.
    pub fn token(&self) -> Option<u64> {
        self.token
    }
}

/// The chain does not ask for a second factor. Visible in every trace.
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct SecondWaived {
    reason: &'static str,
}

impl SecondWaived {
    /// The chain lists no factor.
    pub(super) fn chain_asks_for_none() -> Self {
        SecondWaived { reason: "the chain asks for no second factor" }
    }

    /// Why.
    pub fn reason(&self) -> &'static str {
        self.reason
    }
}

/// A login that may pass: request, first and second check and rule are proved.
///
/// The fields are private and each proof is made by the module that checked it, so an accept that nobody proved does not
/// compile:
/// ```compile_fail
/// use bivector_core::login::{Accept, FirstProved};
/// let first = FirstProved { source: bivector_core::site::SourceRef::Roster };
/// ```
/// ```compile_fail
/// let accept = bivector_core::login::Accept { grant: String::new(), attributes: Vec::new() };
/// ```
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct Accept {
    request: RequestAuthentic,
    first: FirstProved,
    second: Second,
    rule: RulePassed,
    grant: String,
    attributes: Vec<u8>,
    hidden: Vec<HiddenValue>,
}

impl Accept {
    /// Consumes the proofs. `attributes` are the grant's and those that an upstream gave, encoded; `hidden` are to be hidden anew.
    pub(super) fn new(
        request: RequestAuthentic,
        (first, second, rule): (FirstProved, Second, RulePassed),
        grant: String,
        attributes: Vec<u8>,
        hidden: Vec<HiddenValue>,
    ) -> Self {
        Accept { request, first, second, rule, grant, attributes, hidden }
    }

    /// Values that travel hidden under a salt, in clear: keys and tunnel passwords that an upstream gave.
    pub fn hidden(&self) -> &[HiddenValue] {
        &self.hidden
    }

    /// The grant's name.
    pub fn grant(&self) -> &str {
        &self.grant
    }

    /// The grant's attributes, encoded.
    pub fn attributes(&self) -> &[u8] {
        &self.attributes
    }

    /// How the second check went.
    pub fn second(&self) -> &Second {
        &self.second
    }
}
