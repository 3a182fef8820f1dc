//! Guesses at passwords. Each is counted before a source is asked, so that many at once are worth no more than one after the other.
//!
//! Somebody with too many wrong guesses is refused for a growing time without asking the source. A stranger could bring that about for
//! anybody whose name is known, so a trusted device, or a yes on the person's own handset, passes the limit. A refusal must not tell by
//! its time whether the name is known either: where no password was checked, one that nobody has is checked instead.

use super::fact::*;
use super::machine::{Login, State, told};
use super::request::{Credential, Proof};
use super::second::MarkFor;
use bivector_model::cause::Cause;
use bivector_model::moment::Moment;
use bivector_model::text::shown;
use bivector_model::trace::{Hop, Origin, Tone};
use bivector_site::{FactorKind, SourceRef};
use std::sync::Arc;

/// What follows once a guess is settled.
#[derive(Debug)]
pub(super) enum Settled {
    /// The login goes on.
    State(Box<State>),
    /// It is refused.
    Refuse(Cause),
}

impl Login {
    /// Counts a guess at a person's password before `then` makes it.
    pub(super) fn guess(&self, person: &Found, then: State) -> State {
        let trusted = self.factors.remembered_until.is_some_and(|until| until > self.last);
        self.guess_as(person.key.clone(), trusted, then)
    }

    fn guess_as(&self, person: String, trusted: bool, then: State) -> State {
        let guess = Guess { person, caller: self.request.context.station.clone(), gateway: self.gateway_name().to_owned(), trusted };
        State::Guessing { guess: Arc::new(guess), then: Box::new(then) }
    }

    pub(super) fn guess_counted(&mut self, guess: Arc<Guess>, then: Box<State>, answer: GuessAnswer, now: Moment) -> State {
        let (whose, wrong, until) = match answer {
            GuessAnswer::MayTry => return *then,
            GuessAnswer::Limited { whose, wrong, until } => (whose, wrong, until),
        };
        if let State::Pretending { cause, .. } = *then {
            // Nobody of this name is known, and a known name would not be checked any more now.
            self.pretended = true;
            return self.refuse(cause, now);
        }
        let seconds = until.since(now).as_secs_f32().ceil();
        let (cause, whom) = match whose {
            Guesser::Person => (Cause::PasswordLimited, "for this person".to_owned()),
            Guesser::Caller => (Cause::CallerLimited, format!("from {}", shown(guess.caller.as_deref().unwrap_or("this caller")))),
        };
        let said = format!("{wrong} wrong passwords came {whom}; no source is asked for another {seconds} s");
        // A login asks the handset once, whatever is said of the guess after its yes.
        match self.pass_ask(&guess).filter(|_| whose == Guesser::Person && self.passed.is_none()) {
            Some(ask) => {
                self.step(Hop::First, "guesses", Tone::Warn, now, format!("{said}, unless the person's handset says yes"), None);
                State::SendingPass { ask: Arc::new(ask), guess, then }
            }
            None => {
                self.step(Hop::First, "guesses", Tone::Bad, now, said, None);
                self.refuse(cause, now)
            }
        }
    }

    /// What the handset of somebody with too many wrong guesses is asked, if the chain takes approvals and there is a handset.
    fn pass_ask(&self, guess: &Guess) -> Option<ApprovalAsk> {
        let chain = self.chain()?;
        let approves = chain.second.contains(&FactorKind::Approval) && self.factors.handsets > 0;
        let typed = shown(&self.name).into_owned();
        approves.then(|| ApprovalAsk {
            person: guess.person.clone(),
            login: typed.clone(),
            name: typed,
            site: self.site.name.clone(),
            gateway: self.gateway_name().to_owned(),
            chain: chain.name.clone(),
            from: shown(self.request.context.station.as_deref().unwrap_or_default()).into_owned(),
            reference: self.trace.reference.clone(),
            wants_number: false,
            with_key: false,
            joins_without_caller: false,
            on_page: self.request.context.origin == Origin::Page,
            before_password: true,
            lasts: chain.second_patience,
        })
    }

    pub(super) fn pass_sent(&mut self, guess: Arc<Guess>, then: Box<State>, answer: ApprovalSent, now: Moment) -> State {
        let why = match answer {
            ApprovalSent::Sent { id, until, .. } => {
                let seconds = until.since(now).as_secs_f32().round();
                let said = told!(self, "the handset is asked before the password is checked; {seconds} s to answer");
                self.step(Hop::First, "approval", Tone::Note, now, said, None);
                return State::AwaitingPass { id, guess, then };
            }
            ApprovalSent::Limited(said) => said,
            ApprovalSent::Stopped(_) => "the person has stopped approvals".to_owned(),
            ApprovalSent::Unavailable(why) => why.seen,
        };
        self.step(Hop::First, "approval", Tone::Bad, now, format!("the handset is not asked: {why}"), None);
        self.refuse(Cause::PasswordLimited, now)
    }

    pub(super) fn pass_answered(&mut self, mut guess: Arc<Guess>, then: Box<State>, answer: ApprovalAnswer, now: Moment) -> State {
        let said = match answer {
            ApprovalAnswer::Approved(approved) => {
                let said = format!("a yes on “{}”: the password is checked all the same", approved.device);
                self.step(Hop::First, "approval", Tone::Good, now, said, None);
                self.passed = Some(approved);
                Arc::make_mut(&mut guess).trusted = true;
                return State::Guessing { guess, then };
            }
            ApprovalAnswer::Denied(said) | ApprovalAnswer::Unanswered(said) => said,
            ApprovalAnswer::Stopped(_) => "the person has stopped approvals".to_owned(),
            ApprovalAnswer::Disowned(device) => format!("“{device}” says: that was not me"),
        };
        self.step(Hop::First, "approval", Tone::Bad, now, said, None);
        self.refuse(Cause::PasswordLimited, now)
    }

    /// The yes that passed the limit is the second factor too, where an ordinary approval would be asked for the same way.
    pub(super) fn passed_second(&mut self) -> Option<MarkFor> {
        let chain = self.chain()?;
        let same = chain.second.contains(&FactorKind::Approval) && !(chain.match_number && self.shows_prompts());
        let approved = self.passed.take_if(|_| same)?;
        Some(MarkFor::Approved { approved, with_key: false })
    }

    /// Says what a counted guess was, before the login goes on or is refused.
    pub(super) fn settle(&mut self, right: bool, then: Settled) -> State {
        State::Settling { right, then }
    }

    pub(super) fn settled(&mut self, right: bool, then: Settled, count: GuessCount, now: Moment) -> State {
        if !right && count.wrong > 0 {
            let said = match count.until {
                Some(until) => format!(
                    "{} wrong passwords in a row: no source is asked about this person for {} s",
                    count.wrong,
                    until.since(now).as_secs_f32().ceil()
                ),
                None => format!("{} wrong in a row; {} make the person wait", count.wrong, self.site.passwords.after),
            };
            let tone = if count.until.is_some() { Tone::Warn } else { Tone::Note };
            self.step(Hop::First, "count", tone, now, said, None);
        }
        match then {
            Settled::State(state) => *state,
            Settled::Refuse(cause) => self.refuse(cause, now),
        }
    }

    /// A check of a password that nobody has, in place of the one that a refusal for this cause has left out; nothing where none is due.
    pub(super) fn pretend(&mut self, cause: Cause) -> Option<State> {
        use Cause::*;
        let looked_up = matches!(cause, PersonUnknown | PersonAmbiguous | PersonSuspended | PasswordMissing | PasswordUnreadable);
        // An account that its entry says is locked was not bound.
        let unbound = self.checked.is_none() && matches!(cause, AccountDisabled | AccountLocked);
        let due = looked_up || unbound || cause == PasswordWrong;
        let stranger = self.request.context.origin != Origin::Rehearsal && self.request.state.is_none();
        if !due || !stranger || std::mem::replace(&mut self.pretended, true) {
            return None;
        }
        let text = match &self.request.credential {
            Credential::Text(_) => true,
            Credential::Proof { proof: Proof::Chap(_) | Proof::MsChapV2(_), .. } => false,
            _ => return None,
        };
        let chain = self.chain().filter(|chain| !chain.code_only)?;
        let first = |wanted: fn(&SourceRef) -> bool| chain.first.iter().map(|first| first.source).find(wanted);
        let kinds = [first(|source| matches!(source, SourceRef::Directory(_))), first(|source| matches!(source, SourceRef::Roster))];
        let mut sources: Vec<SourceRef> = kinds.into_iter().flatten().collect();
        match self.checked {
            // A directory's people are the many; what the roster would add is less than a step of the pace.
            Some(SourceRef::Directory(_)) => sources.clear(),
            Some(checked) => sources.retain(|source| *source != checked),
            None => {}
        }
        if sources.is_empty() {
            return None;
        }
        let pretending = State::Pretending { sources, text, cause };
        // Names that nobody has are counted like those that somebody has: they must not differ in when the checks end.
        Some(if cause == PersonUnknown { self.guess_as(format!("?{}", self.name), false, pretending) } else { pretending })
    }

    pub(super) fn pretended(&mut self, cause: Cause, now: Moment) -> State {
        match cause {
            Cause::PersonUnknown => self.settle(false, Settled::Refuse(cause)),
            _ => self.refuse(cause, now),
        }
    }
}
