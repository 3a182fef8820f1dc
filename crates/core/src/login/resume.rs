//! Prompts and their answers: what is kept between two rounds, and how a login goes on.

use super::asking::{Asking, FirstStands};
use super::candidate::{Candidate, Yields};
use super::fact::{FactorsAnswer, Found, KeptAnswer, Need, TakenAnswer, WrongTry};
use super::first::Finding;
use super::machine::{Asks, Login, State, Station};
use super::pending::{KeptAsk, KeptBytes, KeptSecond, Pending, Round, Whose};
use super::proof::{FirstProved, Second, SecondProved};
use super::reading::ChosenCode;
use super::request::Credential;
use super::upstream::{AskingUpstream, KeptCode, PassedCredential, Role};
use super::{Challenge, Verdict};
use bivector_model::cause::Cause;
use bivector_model::facts::AnswerFact;
use bivector_model::moment::Moment;
use bivector_model::trace::{Hop, Outcome, Tone};
use bivector_site::SourceRef;
use std::sync::Arc;

impl Login {
    /// Keeps a round, so that its answer can go on from it. `checked_by` is the source that makes the first check.
    pub(super) fn keep(&mut self, checked_by: SourceRef, person: Box<Candidate>, round: Round, asks: Asks, now: Moment) -> State {
        let until = now.plus(self.site.prompt_lasts);
        self.open_until = Some(until);
        let pending = Pending {
            gateway: self.gateway_name().to_owned(),
            chain: self.chain_name().to_owned(),
            typed_name: self.typed_name(),
            reference: self.trace.reference.clone(),
            until,
            whose: Whose {
                found_by: self.site.source_name(person.found_by).to_owned(),
                checked_by: self.site.source_name(checked_by).to_owned(),
                key: person.key.clone(),
            },
            carried: person.yields.into_carried(),
            round,
        };
        KeepingRound { pending: Box::new(pending), asks }.into()
    }

    /// Why a round that was kept may not go on here and now, if so.
    fn is_not_this(&self, pending: &Pending, now: Moment) -> Option<(Cause, String)> {
        if pending.until < now {
            return Some((Cause::ChallengeExpired, format!("the prompt of {} expired before it was answered", pending.reference)));
        }
        if pending.gateway != self.gateway_name() || pending.typed_name != self.typed_name() || pending.chain != self.chain_name() {
            let said = format!("the prompt belongs to `{}`, gateway {} and chain {}", pending.typed_name, pending.gateway, pending.chain);
            return Some((Cause::ChallengeForeign, said));
        }
        None
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

    /// Looks the person up again before anything is decided or changed: somebody who was suspended, locked, removed or deleted while the
    /// prompt was open does not go on.
    fn find_again(&mut self, pending: Box<Pending>, now: Moment) -> State {
        let found_by = &pending.whose.found_by;
        let source = self.source_named(found_by);
        let at = self.chain().and_then(|chain| chain.first.iter().position(|first| Some(first.source) == source));
        let Some(at) = at else { return self.gone(found_by, now) };
        Finding { at, down: None, again: Some(pending) }.into()
    }

    pub(super) fn found_again(
        &mut self,
        pending: Box<Pending>,
        person: Arc<Found>,
        found_by: SourceRef,
        down: Option<Cause>,
        now: Moment,
    ) -> State {
        let Some(source) = self.source_named(&pending.whose.checked_by) else { return self.gone(&pending.whose.checked_by, now) };
        self.note_person(source, &person);
        if person.key != pending.whose.key {
            let said = format!("the prompt was for {}, but the name now resolves to {}", pending.whose.key, person.key);
            return self.not_resumed(Cause::ChallengeForeign, said, now);
        }
        let mut person = Candidate::new(person, found_by, down);
        person.yields = Yields::from_carried(&pending.carried);
        person.take_groups(pending.carried.groups.clone());
        match self.chain().is_some_and(|chain| !chain.second.is_empty()) {
            true => Returning { pending, person }.into(),
            false => self.go_on(source, *pending, person, now),
        }
    }

    /// Goes on with the round, now that its person is known to be in good standing.
    fn go_on(&mut self, source: SourceRef, pending: Pending, person: Box<Candidate>, now: Moment) -> State {
        let first = FirstProved::by_kept_round(source, &pending);
        match pending.round {
            Round::First { upstream, second } => {
                let Some(index) = self.upstream_named(&upstream.name) else { return self.gone(&upstream.name, now) };
                let role = Role::First { source, at: None, code: KeptCode::Before(second) };
                self.answer_upstream(index, &upstream, person, role, now)
            }
            Round::Second { upstream } => match (self.upstream_named(&upstream.name), first) {
                (Some(index), Some(first)) => self.answer_upstream(index, &upstream, person, Role::Second { first }, now),
                (None, _) => self.gone(&upstream.name, now),
                (_, None) => self.refuse(Cause::Unfinished, now),
            },
            Round::Ask(kept) => {
                let expired = kept.expired.as_ref();
                let expired = expired.map(|kept| FirstStands::Expired { source, old: kept.old.open(), cause: kept.cause });
                match first.map(FirstStands::Proved).or(expired) {
                    Some(first) => {
                        let asking = self.asking_again(first, *kept, person);
                        self.answered(asking, now)
                    }
                    None => self.refuse(Cause::Unfinished, now),
                }
            }
            Round::NewPassword { second, old, new, tries } => {
                let (old, new) = (old.open(), new.as_ref().map(super::pending::Kept::open));
                self.new_password(super::change::Asked { source, person, second, old, new, tries }, now)
            }
        }
    }

    fn asking_again(&self, first: FirstStands, kept: KeptAsk, person: Box<Candidate>) -> Asking {
        let factor = |name: &String| self.chain()?.second.iter().copied().find(|kind| self.site.factor_name(*kind) == name);
        Asking {
            first,
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
        }
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

    fn answer_upstream(&mut self, index: usize, kept: &super::pending::Upstream, person: Box<Candidate>, role: Role, now: Moment) -> State {
        let credential = match &self.request.credential {
            Credential::Text(text) => PassedCredential::Text(text.clone()),
            Credential::Proof { attributes, .. } => PassedCredential::Untouched(attributes.clone()),
            _ => return self.refuse(Cause::CredentialMissing, now),
        };
        if let PassedCredential::Text(text) = &credential {
            self.note_answer(AnswerFact::ForUpstream(text.expose().len()));
        }
        let mut ask = self.ask_upstream(index, &person, credential);
        ask.server = Some(kept.server.clone());
        ask.state = Some(kept.state.clone());
        let first = matches!(role, Role::First { .. });
        let asking = AskingUpstream { ask, person, role };
        if first { self.guess(asking) } else { asking.into() }
    }

    /// The second check, as far as the round before had come.
    pub(super) fn second_kept(&mut self, person: Box<Candidate>, first: FirstProved, second: KeptSecond, now: Moment) -> State {
        match second {
            KeptSecond::NotAsked if self.chain().is_some_and(|chain| !chain.second.is_empty()) => {
                self.second(person, first, ChosenCode::Missing, now)
            }
            KeptSecond::NotAsked => self.second(person, first, ChosenCode::NotAsked, now),
            KeptSecond::Proved { factor, device } => {
                let said = format!("{factor} was proved in a round before and is marked as used");
                self.step(Hop::Second, "code", Tone::Good, now, said, None);
                let proved = SecondProved::by_kept_round(device);
                self.trace.factor = Some(factor);
                self.rules(person, first, Second::Proved(proved), now)
            }
            KeptSecond::Refused(cause, said) => {
                self.step(Hop::Second, "code", Tone::Bad, now, said, None);
                self.count_wrong(&person, cause, WrongTry::CODE, None, None, now)
            }
            KeptSecond::ForUpstream(code) => self.second(person, first, ChosenCode::ForUpstream(code.open()), now),
        }
    }
}

/// The round before is being looked up by the State that came.
#[derive(Debug)]
pub(super) struct Resuming {
    pub(super) state: Vec<u8>,
}

impl Station for Resuming {
    type Answer = TakenAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::TakeChallenge { state: self.state.clone() }
    }

    fn learn(self, login: &mut Login, answer: TakenAnswer, now: Moment) -> State {
        let (pending, before) = match answer {
            TakenAnswer::Taken { pending, before } => (pending, before),
            TakenAnswer::Used => {
                let said = "the prompt for this State has already been answered".to_owned();
                return login.not_resumed(Cause::ChallengeUsed, said, now);
            }
            TakenAnswer::NotThere => {
                let said = "no open prompt has this State".to_owned();
                return login.not_resumed(Cause::ChallengeForeign, said, now);
            }
            TakenAnswer::Unavailable(why) => return login.not_resumed(why.cause, why.seen, now),
        };
        if let Some((cause, said)) = login.is_not_this(&pending, now) {
            return login.not_resumed(cause, said, now);
        }
        login.join(before, &pending, now);
        if let Round::Ask(kept) = &pending.round {
            login.note_typing(&pending, kept, now);
        }
        login.find_again(pending, now)
    }
}

/// The person's factors are being looked up in a later round. A lock that came meanwhile counts for every kind of round.
#[derive(Debug)]
pub(super) struct Returning {
    pending: Box<Pending>,
    person: Box<Candidate>,
}

impl Station for Returning {
    type Answer = FactorsAnswer;

    fn need(&self, login: &Login) -> Need {
        Need::Factors { person: self.person.key.clone(), station: login.station(&self.person.key) }
    }

    fn learn(self, login: &mut Login, answer: FactorsAnswer, now: Moment) -> State {
        let Returning { pending, mut person } = self;
        if let Err(cause) = login.take_factors(&mut person, answer, now) {
            return login.refuse(cause, now);
        }
        if let Some(until) = person.locked(now) {
            return login.refuse_locked(until, now);
        }
        match login.source_named(&pending.whose.checked_by) {
            Some(source) => login.go_on(source, *pending, person, now),
            None => login.gone(&pending.whose.checked_by, now),
        }
    }
}

/// What the next round needs is being kept, before the prompt leaves.
#[derive(Debug)]
pub(super) struct KeepingRound {
    pending: Box<Pending>,
    asks: Asks,
}

impl Station for KeepingRound {
    type Answer = KeptAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::KeepChallenge(self.pending.clone())
    }

    fn learn(self, login: &mut Login, answer: KeptAnswer, now: Moment) -> State {
        match answer {
            KeptAnswer::Kept(state) => {
                login.trace.outcome = Outcome::Challenged;
                let Asks { prompt, echo, secret, attributes } = self.asks;
                State::Decided(Verdict::Challenge(Challenge { prompt, echo, secret, state, attributes }))
            }
            KeptAnswer::Unavailable(why) => {
                login.step(Hop::Reply, "challenge", Tone::Bad, now, format!("the prompt's state could not be stored: {}", why.seen), None);
                login.refuse(why.cause, now)
            }
        }
    }
}
