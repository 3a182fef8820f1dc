//! Proof values. An [`Accept`] consumes one of each, and only what checked a thing can make its proof.

use super::fact::{AddAnswer, Approved, ChangeAnswer, Factors, Found, MarkAnswer, PasswordAnswer, TrustedDevice};
use super::pending::{Pending, Round};
use super::prove::Match;
use super::request::{Protocol, VerifiedCertificate};
use super::upstream::{HiddenValue, UpstreamAnswer};
use bivector_model::cause::Cause;
use bivector_model::device::VerifiedCode;
use bivector_model::directory::Notice;
use bivector_model::grant::GrantedItem;
use bivector_model::moment::Moment;
use bivector_model::rule::RulePassed;
use bivector_site::{Chain, Site, SourceRef, Waiver, WhenNotEnrolled, WhenSecondIsDown};
use bivector_wire::{Authentic, MsChapProved};
use std::sync::Arc;

/// The request came by a way that the site has opened, and from whom that way is for. Each protocol has a constructor of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestAuthentic {
    signed: bool,
    protocol: Protocol,
}

impl RequestAuthentic {
    /// From a RADIUS packet whose integrity was proved, as far as its gateway's policy asks for it.
    pub fn by_radius(request: &Authentic<'_>) -> Self {
        RequestAuthentic { signed: request.is_signed(), protocol: Protocol::Radius }
    }

    /// For somebody at the page for people: only where the site opens it. Such a login takes the chain that the site names there.
    pub fn by_page(site: &Site) -> Option<Self> {
        site.handset.chain.map(|_| RequestAuthentic { signed: true, protocol: Protocol::Page })
    }

    /// Whether its content is proved too: by a Message-Authenticator, or because it never left the service.
    pub fn is_signed(&self) -> bool {
        self.signed
    }

    /// The protocol that it came in by.
    pub fn protocol(&self) -> Protocol {
        self.protocol
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

    /// Only from a proof that fits what the source keeps of the password.
    pub(super) fn by_match(source: SourceRef, _matched: &Match) -> Self {
        FirstProved { source }
    }

    /// Only from a certificate of a person that was verified.
    pub(super) fn by_certificate(source: SourceRef, certificate: &VerifiedCertificate) -> Option<Self> {
        (!certificate.of_device).then_some(FirstProved { source })
    }

    /// Only where a session is resumed in which the same person was accepted before.
    pub(super) fn by_session(source: SourceRef, of: &str, person: &Found) -> Option<Self> {
        (of == person.key).then_some(FirstProved { source })
    }

    /// Only where the site says that the chain's gateways check passwords themselves.
    pub(super) fn by_gateway(source: SourceRef, chain: &Chain) -> Option<Self> {
        chain.code_only.then_some(FirstProved { source })
    }

    /// Only from an upstream's verified accept.
    pub(super) fn by_upstream(source: SourceRef, answer: &UpstreamAnswer) -> Option<Self> {
        matches!(answer, UpstreamAnswer::Accept(_)).then_some(FirstProved { source })
    }

    /// Only from the answer that the old password was taken and a new one set.
    pub(super) fn by_change(source: SourceRef, answer: &ChangeAnswer) -> Option<Self> {
        matches!(answer, ChangeAnswer::Changed).then_some(FirstProved { source })
    }

    /// Proved in a round before, which our own seal has kept: not where that round was about the first check itself.
    pub(super) fn by_kept_round(source: SourceRef, pending: &Pending) -> Option<Self> {
        let proved = match &pending.round {
            Round::Second { .. } => true,
            Round::Ask(kept) => kept.expired.is_none(),
            Round::First { .. } | Round::NewPassword { .. } => false,
        };
        proved.then_some(FirstProved { source })
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
    /// Record number of the device; none where the code was sent, or an upstream checked it.
    device: Option<u64>,
}

impl SecondProved {
    /// Only from a code that verified and was marked as used for the first time.
    pub(super) fn by_code(code: &VerifiedCode, mark: &MarkAnswer) -> Option<Self> {
        matches!(mark, MarkAnswer::Marked).then_some(SecondProved { device: Some(code.device()) })
    }

    /// Only from a code that equals the one sent, once the person is found not locked.
    pub(super) fn by_sent(equals: bool, mark: &MarkAnswer) -> Option<Self> {
        (equals && matches!(mark, MarkAnswer::Marked)).then_some(SecondProved { device: None })
    }

    /// Only from a verified yes of the handset, with a security key where one was asked for, of somebody who is not locked.
    pub(super) fn by_approval(approved: &Approved, with_key: bool, mark: &MarkAnswer) -> Option<Self> {
        let proved = !with_key || approved.key.is_some();
        (proved && matches!(mark, MarkAnswer::Marked)).then_some(SecondProved { device: Some(approved.handset) })
    }

    /// Only from a new device that is kept with its first code marked as used.
    pub(super) fn by_enrolment(answer: &AddAnswer) -> Option<Self> {
        match answer {
            AddAnswer::Added(device) => Some(SecondProved { device: Some(*device) }),
            _ => None,
        }
    }

    /// Only from an upstream's verified accept.
    pub(super) fn by_upstream(answer: &UpstreamAnswer) -> Option<Self> {
        matches!(answer, UpstreamAnswer::Accept(_)).then_some(SecondProved { device: None })
    }

    /// Proved and marked in the previous round; our encrypted State carries that.
    pub(super) fn by_kept_round(device: Option<u64>) -> Self {
        SecondProved { device }
    }

    /// Record number of the device; none where the code was sent, or an upstream checked it.
    pub fn device(&self) -> Option<u64> {
        self.device
    }
}

/// No second factor is asked for. Visible in every trace.
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct SecondWaived {
    reason: String,
    down: bool,
}

impl SecondWaived {
    /// The chain lists no factor.
    pub(super) fn chain_asks_for_none(chain: &Chain) -> Option<Self> {
        chain.second.is_empty().then(|| SecondWaived { reason: "the chain requires no second factor".to_owned(), down: false })
    }

    /// A waiver of the site is for this login.
    pub(super) fn by_waiver(waiver: &Waiver) -> Self {
        SecondWaived { reason: waiver.reason.clone(), down: false }
    }

    /// The chain remembers devices for a time, and this one is remembered.
    pub(super) fn remembered(chain: &Chain, factors: &Factors, now: Moment) -> Option<Self> {
        let until = factors.remembered_until.filter(|until| *until > now && chain.remember.is_some())?;
        let minutes = until.since(now).as_secs().div_ceil(60);
        let reason = format!("this device is remembered on this gateway for another {minutes} min");
        Some(SecondWaived { reason, down: false })
    }

    /// The person has none, and the chain lets such people in until a date.
    pub(super) fn not_enrolled_yet(chain: &Chain, now: Moment) -> Option<Self> {
        let WhenNotEnrolled::LetInUntil(until) = chain.when_not_enrolled else { return None };
        let days = until.since(now).as_secs().div_ceil(86_400);
        let reason = format!(
            "the person has none yet, and the chain admits such people for another {days} {}",
            if days == 1 { "day" } else { "days" }
        );
        (now < until).then_some(SecondWaived { reason, down: false })
    }

    /// The factor cannot be asked for, and the site says that the first check is enough then.
    pub(super) fn factor_is_down(chain: &Chain, cause: Cause) -> Option<Self> {
        let allowed = chain.when_second_is_down == WhenSecondIsDown::FirstOnly;
        allowed.then(|| SecondWaived {
            reason: format!("the second factor is unavailable ({cause}), and the chain then accepts the first check alone"),
            down: true,
        })
    }

    /// Why.
    pub fn reason(&self) -> &str {
        &self.reason
    }

    /// Whether it is because the factor was down: somebody should hear of it.
    pub fn is_down(&self) -> bool {
        self.down
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
/// let accept = bivector_core::login::Accept { remember: None };
/// ```
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct Accept {
    request: RequestAuthentic,
    first: FirstProved,
    second: Second,
    rule: RulePassed,
    given: Granted,
    remember: Option<(TrustedDevice, Moment)>,
}

/// What a login gets, whatever protocol carries it.
#[derive(Debug, PartialEq, Eq, Clone)]
pub struct Granted {
    /// Who it is.
    pub person: Arc<Found>,
    /// The grant's name.
    pub grant: String,
    /// What the grant sets, filled in.
    pub items: Vec<GrantedItem>,
    /// RADIUS attributes that an upstream supplied, encoded.
    pub attributes: Vec<u8>,
    /// Values that an upstream supplied under a salt, in clear: keys and tunnel passwords.
    pub hidden: Vec<HiddenValue>,
    /// What a proof of the password has yielded.
    pub keys: Option<Box<MsChapProved>>,
    /// What the person should read beside.
    pub notice: Option<Notice>,
}

impl Accept {
    /// Consumes the proofs.
    pub(super) fn new(
        request: RequestAuthentic,
        (first, second, rule): (FirstProved, Second, RulePassed),
        given: Granted,
        remember: Option<(TrustedDevice, Moment)>,
    ) -> Self {
        // Only what was really given is remembered; a waiver never makes the next one.
        let remember = remember.filter(|_| matches!(second, Second::Proved(_)));
        Accept { request, first, second, rule, given, remember }
    }

    /// The person's device and until when it needs no second factor on this gateway.
    pub fn remember(&self) -> Option<&(TrustedDevice, Moment)> {
        self.remember.as_ref()
    }

    /// Who it is.
    pub fn person(&self) -> &Found {
        &self.given.person
    }

    /// The grant's name.
    pub fn grant(&self) -> &str {
        &self.given.grant
    }

    /// What the grant sets, filled in, in its order.
    pub fn items(&self) -> &[GrantedItem] {
        &self.given.items
    }

    /// RADIUS attributes that an upstream supplied, encoded.
    pub fn attributes(&self) -> &[u8] {
        &self.given.attributes
    }

    /// Values that travel hidden under a salt, in clear: keys and tunnel passwords that an upstream supplied.
    pub fn hidden(&self) -> &[HiddenValue] {
        &self.given.hidden
    }

    /// What a proof of the password has yielded: the answer that shows the device that we know it too, and keys.
    pub fn keys(&self) -> Option<&MsChapProved> {
        self.given.keys.as_deref()
    }

    /// What the person should read beside, such as that the password expires soon.
    pub fn notice(&self) -> Option<Notice> {
        self.given.notice
    }

    /// How the second check went.
    pub fn second(&self) -> &Second {
        &self.second
    }
}
