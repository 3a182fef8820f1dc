//! Prompts and their answers: what is kept between two rounds, and how a login goes on.

use super::asking::Asking;
use super::fact::{Found, KeptAnswer, TakenAnswer, WrongTry};
use super::machine::{Login, State};
use super::pending::{Carried, KeptAsk, KeptBytes, KeptSecond, Pending, Round};
use super::proof::{FirstProved, Second, SecondProved};
use super::reading::ChosenCode;
use super::request::Credential;
use super::upstream::{HiddenValue, KeptCode, PassedCredential, Role};
use super::{Challenge, Verdict};
use crate::cause::Cause;
use crate::moment::Moment;
use crate::site::{FactorKind, SourceRef};
use crate::trace::{Hop, Outcome, Tone};
use std::sync::Arc;

impl Login {
    /// Keeps a round, so that its answer can go on from it.
    pub(super) fn keep(&mut self, round: Round, prompt: Option<String>, attributes: Vec<u8>, now: Moment) -> State {
        let pending = Pending {
            gateway: self.gateway_name().to_owned(),
            chain: self.chain_name().to_owned(),
            typed_name: self.typed_name(),
            reference: self.trace.reference.clone(),
            until: now.plus(self.site.prompt_lasts),
            carried: self.carry(),
            round,
        };
        State::Keeping { pending: Box::new(pending), prompt, attributes }
    }

    /// What checks gave so far; in the last round it goes into the reply.
    fn carry(&mut self) -> Carried {
        let (attributes, hidden) = std::mem::take(&mut self.given);
        let hidden = hidden.iter().map(|value| (value.kind, KeptBytes::new(&value.clear))).collect();
        Carried { notice: self.notice.take(), attributes, hidden }
    }

    pub(super) fn kept(&mut self, prompt: Option<String>, attributes: Vec<u8>, answer: KeptAnswer, now: Moment) -> State {
        match answer {
            KeptAnswer::Kept(state) => {
                self.trace.outcome = Outcome::Challenged;
                State::Decided(Verdict::Challenge(Challenge { prompt, state, attributes }))
            }
            KeptAnswer::Unavailable(why) => {
                self.step(Hop::Reply, "challenge", Tone::Bad, now, format!("the prompt could not be kept: {}", why.seen), None);
                self.refuse(why.cause, now)
            }
        }
    }

    /// Goes on from the round before.
    pub(super) fn taken(&mut self, answer: TakenAnswer, now: Moment) -> State {
        let pending = match answer {
            TakenAnswer::Taken(pending) => pending,
            TakenAnswer::Used => {
                let said = "the prompt of this State was answered before".to_owned();
                return self.not_resumed(Cause::ChallengeUsed, said, now);
            }
            TakenAnswer::NotThere => {
                let said = "no prompt of ours waits for this State".to_owned();
                return self.not_resumed(Cause::ChallengeForeign, said, now);
            }
            TakenAnswer::Unavailable(why) => return self.not_resumed(why.cause, why.seen, now),
        };
        if pending.until < now {
            return self.not_resumed(Cause::ChallengeExpired, format!("the prompt of {} was answered too late", pending.reference), now);
        }
        if pending.gateway != self.gateway_name() || pending.typed_name != self.typed_name() || pending.chain != self.chain_name() {
            let said = format!("the prompt was for `{}` through {} and {}", pending.typed_name, pending.gateway, pending.chain);
            return self.not_resumed(Cause::ChallengeForeign, said, now);
        }
        let said = format!("the answer to the prompt of {}", pending.reference);
        self.step(Hop::Reading, "resumed", Tone::Good, now, said, None);
        let Carried { notice, attributes, hidden } = &pending.carried;
        self.notice = *notice;
        let hidden = hidden.iter().map(|(kind, clear)| HiddenValue { kind: *kind, clear: clear.open() }).collect();
        self.given = (attributes.clone(), hidden);
        self.resume(&pending, now)
    }

    /// Notes how long the person took for the answer. Approvals tell their own time.
    fn note_typing(&mut self, pending: &Pending, kept: &KeptAsk, now: Moment) {
        if kept.approval.is_some() || kept.seed.is_some() {
            return;
        }
        let asked_us = pending.until.micros().saturating_sub(self.site.prompt_lasts.as_micros() as u64);
        let what = kept.sent.as_ref().map_or("typing".to_owned(), |sent| sent.courier.clone());
        self.trace.facts.person_took = Some((what, now.micros().saturating_sub(asked_us) / 1_000));
    }

    fn not_resumed(&mut self, cause: Cause, said: String, now: Moment) -> State {
        self.step(Hop::Reading, "prompt", Tone::Bad, now, said, None);
        self.refuse(cause, now)
    }

    fn resume(&mut self, pending: &Pending, now: Moment) -> State {
        match &pending.round {
            Round::First { upstream, person, second } => {
                let Some(index) = self.upstream_named(&upstream.name) else { return self.gone(&upstream.name, now) };
                let source = SourceRef::Upstream(index);
                self.note_person(source, person);
                let role = Role::First { source, at: None, code: KeptCode::Before(second.clone()) };
                self.answer_upstream(index, upstream, person, role, now)
            }
            Round::Second { upstream, source, person } => {
                let (Some(index), Some(source)) = (self.upstream_named(&upstream.name), self.source_named(source)) else {
                    return self.gone(&upstream.name, now);
                };
                self.note_person(source, person);
                let first = FirstProved::by_kept_round(source, pending);
                self.answer_upstream(index, upstream, person, Role::Second { first }, now)
            }
            Round::Ask(kept) => {
                self.note_typing(pending, kept, now);
                self.find_again(kept, now)
            }
            Round::NewPassword { source, person, second, old, new, tries } => {
                let Some(source) = self.source_named(source) else { return self.gone(source, now) };
                self.note_person(source, person);
                let asked = super::change::Asked {
                    source,
                    person: person.clone(),
                    second: second.clone(),
                    old: old.open(),
                    new: new.as_ref().map(super::pending::Kept::open),
                    tries: *tries,
                };
                self.new_password(asked, now)
            }
        }
    }

    /// Looks the person up again, where the source can be asked: somebody who was suspended meanwhile stays out.
    fn find_again(&mut self, kept: &KeptAsk, now: Moment) -> State {
        if let Some(person) = &kept.person {
            return self.found_again(kept.clone(), person.clone(), now);
        }
        let source = self.source_named(&kept.found_by);
        let at = self.chain().and_then(|chain| chain.first.iter().position(|first| Some(first.source) == source));
        let Some(at) = at else { return self.gone(&kept.found_by, now) };
        self.resuming = Some(Box::new(kept.clone()));
        self.find_at(at, now)
    }

    pub(super) fn found_again(&mut self, kept: KeptAsk, person: Arc<Found>, now: Moment) -> State {
        let Some(source) = self.source_named(&kept.checked_by) else { return self.gone(&kept.checked_by, now) };
        self.note_person(source, &person);
        if person.key != kept.key {
            let said = format!("the prompt was for {}, and the name now leads to {}", kept.key, person.key);
            return self.not_resumed(Cause::ChallengeForeign, said, now);
        }
        let factor = |name: &String| self.chain()?.second.iter().copied().find(|kind| self.site.factor_name(*kind) == name);
        let asking = Asking {
            first: FirstProved::by_kept_ask(source, &kept),
            person,
            sendings: kept.sendings,
            tries: kept.tries,
            upstream: kept.upstream.as_deref().and_then(|name| self.upstream_named(name)),
            down: kept.down.iter().filter_map(factor).collect(),
            sent: kept.sent,
            approval: kept.approval,
            seed: kept.seed.as_ref().map(KeptBytes::open),
            lead: None,
            nearly: false,
        };
        State::FactorsAgain { asking: Box::new(asking), answers: true }
    }

    fn gone(&mut self, name: &str, now: Moment) -> State {
        self.not_resumed(Cause::ChallengeForeign, format!("`{name}` is no longer part of the site"), now)
    }

    fn upstream_named(&self, name: &str) -> Option<usize> {
        self.site.upstreams.iter().position(|upstream| upstream.name == name)
    }

    fn source_named(&self, name: &str) -> Option<SourceRef> {
        let directory = self.site.directories.iter().position(|directory| directory.name == name).map(SourceRef::Directory);
        let upstream = || self.upstream_named(name).map(SourceRef::Upstream);
        directory.or_else(upstream).or((name == "roster").then_some(SourceRef::Roster))
    }

    pub(super) fn note_person(&mut self, source: SourceRef, person: &Found) {
        self.trace.person = self.noted(&person.key);
        self.trace.source = self.noted(self.site.source_name(source));
    }

    fn answer_upstream(&mut self, index: usize, kept: &super::pending::Upstream, person: &Arc<Found>, role: Role, now: Moment) -> State {
        let credential = match &self.request.credential {
            Credential::Pap(text) => PassedCredential::Text(text.clone()),
            Credential::Proof { attributes, .. } => PassedCredential::Untouched(attributes.clone()),
            _ => return self.refuse(Cause::CredentialMissing, now),
        };
        let mut ask = self.ask_upstream(index, person, credential);
        ask.server = Some(kept.server.clone());
        ask.state = Some(kept.state.clone());
        State::Upstream { ask, person: Arc::clone(person), role }
    }

    /// The second check, as far as the round before had come.
    pub(super) fn second_kept(&mut self, person: Arc<Found>, first: FirstProved, second: KeptSecond, now: Moment) -> State {
        match second {
            // The person's devices, and whether they are locked, are not known in this round yet.
            KeptSecond::NotAsked if self.chain().is_some_and(|chain| !chain.second.is_empty()) => {
                State::FactorsAgain { asking: Box::new(Asking::new(first, person)), answers: false }
            }
            KeptSecond::NotAsked => self.second(person, first, ChosenCode::NotAsked, now),
            KeptSecond::Proved(device) => {
                self.step(
                    Hop::Second,
                    "code",
                    Tone::Good,
                    now,
                    "the code was right in the round before and is marked as used".into(),
                    None,
                );
                let proved = SecondProved::by_kept_round(device);
                let codes = self.chain().into_iter().flat_map(|chain| &chain.second).find_map(|kind| match kind {
                    FactorKind::Code(kind) => Some(kind.name()),
                    _ => None,
                });
                self.trace.factor = codes.map(str::to_owned);
                self.rules(&person, first, Second::Proved(proved), now)
            }
            KeptSecond::Refused(cause, said) => {
                self.step(Hop::Second, "code", Tone::Bad, now, said, None);
                self.count_wrong(&person, cause, WrongTry::CODE, None, None, now)
            }
            KeptSecond::ForUpstream(code) => self.second(person, first, ChosenCode::ForUpstream(code.open()), now),
        }
    }
}
