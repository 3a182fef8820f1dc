//! An upstream as first or second check: what it is asked, and what its answer means.

use super::asking::Asking;
use super::candidate::Candidate;
use super::fact::{Answer, Need, Unavailable};
use super::first::Finding;
use super::guessing::{Settled, SettlingGuess};
use super::machine::{Asks, Login, State, Station};
use super::pending::{KeptSecond, Round, Upstream as KeptUpstream};
use super::proof::{FirstProved, Second, SecondProved};
use super::reading::ChosenCode;
use super::request::Credential;
use bivector_model::cause::Cause;
use bivector_model::moment::Moment;
use bivector_model::rule::Groups;
use bivector_model::trace::{Hop, Tone};
use bivector_site::{FactorKind, NameAs, SourceRef};
use bivector_wire::{AttributeType, Attributes, MICROSOFT, Secret, VendorAttribute, push_attribute};
use serde::{Deserialize, Serialize};

/// A question to an upstream.
#[derive(Debug, Clone)]
pub struct UpstreamAsk {
    /// Its index in the site.
    pub upstream: usize,
    /// The server that must be asked, because only it knows the State; any where there is none.
    pub server: Option<String>,
    /// User-Name.
    pub name: Vec<u8>,
    /// The credential.
    pub credential: PassedCredential,
    /// The upstream's own State, from its challenge.
    pub state: Option<Vec<u8>>,
    /// Further attributes, encoded: those that the site passes up.
    pub attributes: Vec<u8>,
}

/// A credential on its way up.
#[derive(Debug, Clone)]
pub enum PassedCredential {
    /// A text, hidden anew with the upstream's secret.
    Text(Secret<Vec<u8>>),
    /// Attributes that are passed on untouched, encoded.
    Untouched(Vec<u8>),
}

/// What an upstream gave with its answer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Given {
    /// All attributes in order, without State, Proxy-State and the Message-Authenticator.
    pub attributes: Vec<(AttributeType, Vec<u8>)>,
    /// Values that came hidden under a salt, in clear.
    pub hidden: Vec<HiddenValue>,
}

/// A value that travels hidden under a salt and must be hidden anew for the gateway.
#[derive(Debug, Clone)]
pub struct HiddenValue {
    /// Where it stands.
    pub kind: HiddenKind,
    /// The value.
    pub clear: Secret<Vec<u8>>,
}

/// Where a hidden value stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum HiddenKind {
    /// A Microsoft key: 16 to send with, 17 to receive with (RFC 2548 section 2.4).
    MicrosoftKey(u8),
    /// Tunnel-Password with its tag (RFC 2868 section 3.5).
    TunnelPassword(u8),
}

impl PartialEq for HiddenValue {
    fn eq(&self, other: &Self) -> bool {
        self.kind == other.kind && self.clear.expose() == other.clear.expose()
    }
}

impl Eq for HiddenValue {}

/// Answer to a question to an upstream.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UpstreamAnswer {
    /// Access-Accept.
    Accept(Given),
    /// Access-Reject.
    Reject(Given),
    /// Access-Challenge.
    Challenge {
        /// Its State; empty where it gave none.
        state: Vec<u8>,
        /// What else it gave.
        given: Given,
    },
    /// No answer that counts.
    Unavailable(Unavailable),
}

impl Given {
    fn text(&self, wanted: AttributeType) -> Option<String> {
        let text: Vec<u8> = self.attributes.iter().filter(|(kind, _)| *kind == wanted).flat_map(|(_, value)| value.clone()).collect();
        (!text.is_empty()).then(|| String::from_utf8_lossy(&text).into_owned())
    }

    /// Those of these kinds, and what the method itself needs: EAP-Message and Microsoft's answers.
    fn encode(&self, kinds: &[AttributeType]) -> Vec<u8> {
        let mut encoded = Vec::new();
        for (kind, value) in &self.attributes {
            let of_method = *kind == AttributeType::EapMessage
                || *kind == AttributeType::VendorSpecific && VendorAttribute::read_all(value).any(|vendor| vendor.vendor == MICROSOFT);
            if of_method || kinds.contains(kind) {
                push_attribute(&mut encoded, *kind, value);
            }
        }
        encoded
    }

    fn groups(&self, from: Option<AttributeType>) -> Groups {
        let values: Vec<String> = self
            .attributes
            .iter()
            .filter(|(kind, _)| Some(*kind) == from)
            .map(|(_, value)| String::from_utf8_lossy(value).into_owned())
            .collect();
        Groups::new(values.iter().map(String::as_str))
    }
}

/// Which check an upstream makes.
#[derive(Debug)]
pub(super) enum Role {
    First { source: SourceRef, at: Option<usize>, code: KeptCode },
    Second { first: FirstProved },
}

/// The code that came beside a password for an upstream, in this round or the one before.
#[derive(Debug)]
pub(super) enum KeptCode {
    Now(ChosenCode),
    Before(KeptSecond),
}

impl Login {
    /// A question with the attributes that the site passes up.
    pub(super) fn ask_upstream(&self, upstream: usize, person: &Candidate, credential: PassedCredential) -> Box<UpstreamAsk> {
        let settings = self.site.upstreams.get(upstream);
        let name = match settings.map(|settings| settings.name_as) {
            Some(NameAs::Typed) => self.request.typed_name.clone(),
            _ => person.login.clone().into_bytes(),
        };
        let mut attributes = Vec::new();
        if let Some(settings) = settings {
            Attributes::encoded(&self.request.context.attributes)
                .filter(|attribute| settings.up.contains(&attribute.kind))
                .for_each(|attribute| push_attribute(&mut attributes, attribute.kind, attribute.value));
        }
        Box::new(UpstreamAsk { upstream, server: None, name, credential, state: None, attributes })
    }

    /// The first check by an upstream for a method that tells us no text.
    pub(super) fn pass_on(&mut self, source: SourceRef, at: usize, person: Box<Candidate>, now: Moment) -> State {
        let (SourceRef::Upstream(upstream), Credential::Proof { attributes, proof }) = (source, &self.request.credential) else {
            return self.refuse(Cause::MethodNotInChain, now);
        };
        let ask = self.ask_upstream(upstream, &person, PassedCredential::Untouched(attributes.clone()));
        let eap = match proof {
            super::request::Proof::Eap => format!("; it is only forwarded, and the peer {}", self.request.peer_wants()),
            _ => String::new(),
        };
        let said = format!("the {} credential is forwarded to {} unchanged{eap}", proof.method().name(), self.site.source_name(source));
        self.step(Hop::Reading, "method", Tone::Good, now, said, None);
        let role = Role::First { source, at: Some(at), code: KeptCode::Now(self.no_code()) };
        self.guess(AskingUpstream { ask, person, role })
    }

    fn upstream_accepts(&mut self, person: Box<Candidate>, role: Role, answer: &UpstreamAnswer, now: Moment) -> State {
        match role {
            Role::First { source, code, .. } => match (FirstProved::by_upstream(source, answer), code) {
                (Some(first), KeptCode::Now(code)) => self.second(person, first, code, now),
                (Some(first), KeptCode::Before(second)) => self.second_kept(person, first, second, now),
                (None, _) => self.refuse(Cause::Unfinished, now),
            },
            Role::Second { first } => match SecondProved::by_upstream(answer) {
                Some(second) => {
                    self.trace.factor = self.trace.facts.upstreams.last().map(|(upstream, _)| upstream.clone());
                    self.rules(person, first, Second::Proved(second), now)
                }
                None => self.refuse(Cause::Unfinished, now),
            },
        }
    }

    /// Passes an upstream's challenge on, with a State of our own that leads back to its.
    fn pass_challenge(
        &mut self,
        upstream: KeptUpstream,
        person: Box<Candidate>,
        role: Role,
        given: &Given,
        back: &[AttributeType],
        now: Moment,
    ) -> State {
        let attributes = given.encode(back);
        let own = given.attributes.iter().find(|(kind, _)| *kind == AttributeType::Prompt).map(|(_, value)| value.as_slice());
        // Without a word of the upstream's own it is taken for a code.
        let echo = own == Some(&[0, 0, 0, 1]);
        let prompt = given.text(AttributeType::ReplyMessage).filter(|_| !back.contains(&AttributeType::ReplyMessage));
        if self.request.inside.is_some() && !self.shows_prompts() {
            let said =
                "the upstream asks for a further answer, and the method ends after one text: use one that can ask, such as `eap-ttls-gtc`";
            self.step(Hop::Second, "challenge", Tone::Bad, now, said.to_owned(), None);
            return self.refuse(Cause::CodeMissing, now);
        }
        let asks = Asks { prompt, echo, secret: false, attributes };
        match role {
            Role::First { source, code: KeptCode::Now(ChosenCode::Verified(code, pin)), .. } => {
                self.use_code(person, code, pin, super::machine::AfterMark::Challenge { source, upstream, asks }, now)
            }
            Role::First { source, code, .. } => {
                let second = match code {
                    KeptCode::Before(second) => second,
                    KeptCode::Now(code) => KeptSecond::from_code(code),
                };
                self.keep(source, person, Round::First { upstream, second }, asks, now)
            }
            Role::Second { first } => self.keep(first.source(), person, Round::Second { upstream }, asks, now),
        }
    }
}

/// An upstream is being asked.
#[derive(Debug)]
pub(super) struct AskingUpstream {
    pub(super) ask: Box<UpstreamAsk>,
    pub(super) person: Box<Candidate>,
    pub(super) role: Role,
}

impl Station for AskingUpstream {
    type Answer = Answer<UpstreamAnswer>;

    fn need(&self, _: &Login) -> Need {
        Need::AskUpstream(self.ask.clone())
    }

    fn learn(self, login: &mut Login, answer: Answer<UpstreamAnswer>, now: Moment) -> State {
        let AskingUpstream { ask, mut person, role } = self;
        let name = login.site.source_name(SourceRef::Upstream(ask.upstream)).to_owned();
        let settings = login.site.upstreams.get(ask.upstream).cloned();
        let (line, hop) = (settings.as_ref().map(|settings| settings.line), role.hop());
        login.failed_servers(hop, &answer.failed, login.last);
        let by = answer.server.as_deref().map(|server| format!(" ({server})")).unwrap_or_default();
        let back = settings.as_ref().map(|settings| settings.back.clone()).unwrap_or_default();
        let words = |given: &Given| given.text(AttributeType::ReplyMessage).map(|text| format!(": \"{text}\"")).unwrap_or_default();
        match &answer.value {
            UpstreamAnswer::Accept(given) => {
                login.step(hop, "upstream", Tone::Good, now, format!("{name} answered Access-Accept{by}{}", words(given)), line);
                person.yields.attributes.extend(given.encode(&back));
                person.yields.hidden.extend(given.hidden.iter().cloned());
                // What a directory knows of the person counts more than what an upstream says beside.
                if person.groups.names().is_empty() {
                    person.take_groups(given.groups(settings.and_then(|settings| settings.groups_from)));
                }
                let first = matches!(role, Role::First { .. });
                let next = login.upstream_accepts(person, role, &answer.value, now);
                if first { SettlingGuess { right: true, then: Settled::State(Box::new(next)) }.into() } else { next }
            }
            UpstreamAnswer::Reject(given) => {
                login.step(hop, "upstream", Tone::Bad, now, format!("{name} answered Access-Reject{by}{}", words(given)), line);
                let (cause, attributes) = (Cause::UpstreamRefused, given.encode(&[]));
                match role {
                    Role::First { .. } => SettlingGuess { right: false, then: Settled::Refuse { cause, attributes } }.into(),
                    Role::Second { .. } => login.refuse_with(cause, attributes, now),
                }
            }
            UpstreamAnswer::Challenge { state, given } => {
                login.step(hop, "upstream", Tone::Note, now, format!("{name} answered Access-Challenge{by}{}", words(given)), line);
                let upstream = KeptUpstream { name, server: answer.server.clone().unwrap_or_default(), state: state.clone() };
                login.pass_challenge(upstream, person, role, given, &back, now)
            }
            UpstreamAnswer::Unavailable(why) => {
                let said = format!("{name} could not answer: {}", why.seen);
                login.upstream_is_down(ask.upstream, person, role, why.cause, (said, line), now)
            }
        }
    }
}

impl Login {
    /// Goes on where an upstream could not answer: with the next source, without the second factor as the chain says, or not at all.
    fn upstream_is_down(
        &mut self,
        upstream: usize,
        person: Box<Candidate>,
        role: Role,
        cause: Cause,
        (said, line): (String, Option<u32>),
        now: Moment,
    ) -> State {
        let hop = role.hop();
        match role {
            Role::Second { first } => {
                self.step(hop, "upstream", Tone::Warn, now, said, line);
                self.second_is_down(Asking::new(first, person), FactorKind::Upstream(upstream), cause, now)
            }
            Role::First { at, .. } => match at.and_then(|at| self.next_source(at + 1)).filter(|_| self.goes_on_when_down()) {
                Some(at) => {
                    self.step(hop, "upstream", Tone::Warn, now, said, line);
                    Finding { at, down: Some(person.down.unwrap_or(cause)), again: None }.into()
                }
                None => {
                    self.step(hop, "upstream", Tone::Bad, now, said, line);
                    self.refuse(cause, now)
                }
            },
        }
    }
}

impl Role {
    fn hop(&self) -> Hop {
        match self {
            Role::First { .. } => Hop::First,
            Role::Second { .. } => Hop::Second,
        }
    }
}
