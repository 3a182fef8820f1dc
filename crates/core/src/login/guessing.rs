//! Guesses at passwords. Each is counted before a source is asked, so that many at once are worth no more than one after the other.
//!
//! Somebody with too many wrong guesses is refused for a growing time without asking the source. A stranger could bring that about for
//! anybody whose name is known, so a trusted device, or a yes on the person's own handset, passes the limit. A refusal must not tell by
//! its time whether the name is known either: where no password was checked, one that nobody has is checked instead.

use super::candidate::Candidate;
use super::fact::*;
use super::first::CheckingPassword;
use super::machine::{Login, State, Station, told};
use super::prove::ComparingProof;
use super::request::{Credential, Proof};
use super::second::MarkFor;
use super::upstream::AskingUpstream;
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
    /// It is refused, with attributes of an upstream's own refusal.
    Refuse { cause: Cause, attributes: Vec<u8> },
}

impl Settled {
    /// It is refused.
    pub(super) fn refuse(cause: Cause) -> Self {
        Settled::Refuse { cause, attributes: Vec::new() }
    }
}

/// What a guess is made by, once it is counted.
#[derive(Debug)]
pub(super) enum Guarded {
    /// A source checks the password.
    Password(CheckingPassword),
    /// A source says what it keeps of the password, and the proof is compared with that.
    Proof(ComparingProof),
    /// An upstream checks the password.
    Upstream(AskingUpstream),
    /// Nobody of this name is known: a password that nobody has is checked.
    Nobody(CheckingNobody),
}

impl From<CheckingPassword> for Guarded {
    fn from(station: CheckingPassword) -> Self {
        Guarded::Password(station)
    }
}

impl From<ComparingProof> for Guarded {
    fn from(station: ComparingProof) -> Self {
        Guarded::Proof(station)
    }
}

impl From<AskingUpstream> for Guarded {
    fn from(station: AskingUpstream) -> Self {
        Guarded::Upstream(station)
    }
}

impl Guarded {
    fn go_on(self) -> State {
        match self {
            Guarded::Password(station) => station.into(),
            Guarded::Proof(station) => station.into(),
            Guarded::Upstream(station) => station.into(),
            Guarded::Nobody(station) => station.into(),
        }
    }

    fn person(&mut self) -> Option<&mut Candidate> {
        match self {
            Guarded::Password(station) => Some(&mut station.person),
            Guarded::Proof(station) => Some(&mut station.person),
            Guarded::Upstream(station) => Some(&mut station.person),
            Guarded::Nobody(_) => None,
        }
    }
}

impl Login {
    /// Counts a guess at a person's password before it is made.
    pub(super) fn guess(&self, then: impl Into<Guarded>) -> State {
        let mut then = then.into();
        let last = self.last;
        let known = then.person().map(|person| (person.key.clone(), person.factors.remembered_until.is_some_and(|until| until > last)));
        let (person, trusted) = known.unwrap_or_else(|| (format!("?{}", self.name), false));
        let guess = Guess { person, caller: self.request.context.station.clone(), gateway: self.gateway_name().to_owned(), trusted };
        CountingGuess { guess: Arc::new(guess), then }.into()
    }

    /// What the handset of somebody with too many wrong guesses is asked, if the chain takes approvals and there is a handset.
    fn pass_ask(&self, guess: &Guess, person: &Candidate) -> Option<ApprovalAsk> {
        let chain = self.chain()?;
        let approves = chain.second.contains(&FactorKind::Approval) && person.factors.handsets > 0;
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
            // A stranger brings it about: no message is sent for it.
            reach: Vec::new(),
            language: person.language.to_string(),
            lasts: chain.second_patience,
        })
    }

    /// The yes that passed the limit is the second factor too, where an ordinary approval would be asked for the same way.
    pub(super) fn passed_second(&self, person: &mut Candidate) -> Option<MarkFor> {
        let chain = self.chain()?;
        let same = chain.second.contains(&FactorKind::Approval) && !(chain.match_number && self.shows_prompts());
        let approved = person.passed.take_if(|_| same)?;
        Some(MarkFor::Approved { approved, with_key: false })
    }

    /// A check of a password that nobody has, in place of the one that a refusal for this cause has left out; nothing where none is due.
    pub(super) fn pretend(&mut self, cause: Cause) -> Option<State> {
        use Cause::*;
        let looked_up = matches!(cause, PersonUnknown | PersonAmbiguous | PersonSuspended | PasswordMissing | PasswordUnreadable);
        // An account that its entry says is locked was not bound.
        let unbound = self.checks.by.is_none() && matches!(cause, AccountDisabled | AccountLocked);
        let due = looked_up || unbound || cause == PasswordWrong;
        let stranger = self.request.context.origin != Origin::Rehearsal && self.request.state.is_none();
        if !due || !stranger || std::mem::replace(&mut self.checks.pretended, true) {
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
        match self.checks.by {
            // A directory's people are the many; what the roster would add is less than a step of the pace.
            Some(SourceRef::Directory(_)) => sources.clear(),
            Some(checked) => sources.retain(|source| *source != checked),
            None => {}
        }
        if sources.is_empty() {
            return None;
        }
        let checking = CheckingNobody { sources, text, cause };
        // Names that nobody has are counted like those that somebody has: they must not differ in when the checks end.
        Some(if cause == Cause::PersonUnknown { self.guess(Guarded::Nobody(checking)) } else { checking.into() })
    }
}

/// A guess at a password is being counted, before it is made.
#[derive(Debug)]
pub(super) struct CountingGuess {
    guess: Arc<Guess>,
    then: Guarded,
}

impl Station for CountingGuess {
    type Answer = GuessAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::BeginGuess(Arc::clone(&self.guess))
    }

    fn learn(self, login: &mut Login, answer: GuessAnswer, now: Moment) -> State {
        let CountingGuess { guess, mut then } = self;
        let (whose, wrong, until) = match answer {
            GuessAnswer::MayTry => return then.go_on(),
            GuessAnswer::Limited { whose, wrong, until } => (whose, wrong, until),
        };
        if let Guarded::Nobody(checking) = &then {
            // Nobody of this name is known, and a known name would not be checked any more now.
            let cause = checking.cause;
            login.checks.pretended = true;
            return login.refuse(cause, now);
        }
        let seconds = until.since(now).as_secs_f32().ceil();
        let (cause, whom) = match whose {
            Guesser::Person => (Cause::PasswordLimited, "for this person".to_owned()),
            Guesser::Caller => (Cause::CallerLimited, format!("from {}", shown(guess.caller.as_deref().unwrap_or("this caller")))),
        };
        let said = format!("{wrong} wrong passwords came {whom}; no source is asked for another {seconds} s");
        // A login asks the handset once, whatever is said of the guess after its yes.
        let person = then.person().filter(|person| whose == Guesser::Person && person.passed.is_none());
        match person.and_then(|person| login.pass_ask(&guess, person)) {
            Some(ask) => {
                login.step(Hop::First, "guesses", Tone::Warn, now, format!("{said}, unless the person's handset says yes"), None);
                AskingToPass { ask: Arc::new(ask), guess, then }.into()
            }
            None => {
                login.step(Hop::First, "guesses", Tone::Bad, now, said, None);
                login.refuse(cause, now)
            }
        }
    }
}

/// The handset of somebody with too many wrong guesses is being asked whether this one may be made.
#[derive(Debug)]
pub(super) struct AskingToPass {
    ask: Arc<ApprovalAsk>,
    guess: Arc<Guess>,
    then: Guarded,
}

impl Station for AskingToPass {
    type Answer = ApprovalSent;

    fn need(&self, _: &Login) -> Need {
        Need::SendApproval(Arc::clone(&self.ask))
    }

    fn learn(self, login: &mut Login, answer: ApprovalSent, now: Moment) -> State {
        let why = match answer {
            ApprovalSent::Sent { id, until, .. } => {
                let seconds = until.since(now).as_secs_f32().round();
                let said = told!(login, "the handset is asked before the password is checked; {seconds} s to answer");
                login.step(Hop::First, "approval", Tone::Note, now, said, None);
                return AwaitingPass { id, guess: self.guess, then: self.then }.into();
            }
            ApprovalSent::Limited(said) => said,
            ApprovalSent::Stopped(_) => "the person has stopped approvals".to_owned(),
            ApprovalSent::Unavailable(why) => why.seen,
        };
        login.step(Hop::First, "approval", Tone::Bad, now, format!("the handset is not asked: {why}"), None);
        login.refuse(Cause::PasswordLimited, now)
    }
}

/// The answer of that handset is awaited.
#[derive(Debug)]
pub(super) struct AwaitingPass {
    id: u64,
    guess: Arc<Guess>,
    then: Guarded,
}

impl Station for AwaitingPass {
    type Answer = ApprovalAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::AwaitApproval { id: self.id, person: self.guess.person.clone() }
    }

    fn learn(mut self, login: &mut Login, answer: ApprovalAnswer, now: Moment) -> State {
        let said = match answer {
            ApprovalAnswer::Approved(approved) => {
                let said = format!("a yes on “{}”: the password is checked all the same", approved.device);
                login.step(Hop::First, "approval", Tone::Good, now, said, None);
                if let Some(person) = self.then.person() {
                    person.passed = Some(approved);
                }
                Arc::make_mut(&mut self.guess).trusted = true;
                return CountingGuess { guess: self.guess, then: self.then }.into();
            }
            ApprovalAnswer::Denied(said) | ApprovalAnswer::Unanswered(said) => said,
            ApprovalAnswer::Stopped(_) => "the person has stopped approvals".to_owned(),
            ApprovalAnswer::Disowned(device) => format!("“{device}” says: that was not me"),
        };
        login.step(Hop::First, "approval", Tone::Bad, now, said, None);
        login.refuse(Cause::PasswordLimited, now)
    }
}

/// It is being noted what a counted guess was, before the login goes on or is refused.
#[derive(Debug)]
pub(super) struct SettlingGuess {
    pub(super) right: bool,
    pub(super) then: Settled,
}

impl Station for SettlingGuess {
    type Answer = GuessCount;

    fn need(&self, _: &Login) -> Need {
        Need::EndGuess { right: self.right }
    }

    fn learn(self, login: &mut Login, count: GuessCount, now: Moment) -> State {
        if !self.right && count.wrong > 0 {
            let said = match count.until {
                Some(until) => format!(
                    "{} wrong passwords in a row: no source is asked about this person for {} s",
                    count.wrong,
                    until.since(now).as_secs_f32().ceil()
                ),
                None => format!("{} wrong in a row; {} make the person wait", count.wrong, login.site.passwords.after),
            };
            let tone = if count.until.is_some() { Tone::Warn } else { Tone::Note };
            login.step(Hop::First, "count", tone, now, said, None);
        }
        match self.then {
            Settled::State(state) => *state,
            Settled::Refuse { cause, attributes } if attributes.is_empty() => login.refuse(cause, now),
            Settled::Refuse { cause, attributes } => login.refuse_with(cause, attributes, now),
        }
    }
}

/// A password that nobody has is being checked, in place of the check that a refusal has left out.
#[derive(Debug)]
pub(super) struct CheckingNobody {
    sources: Vec<SourceRef>,
    text: bool,
    cause: Cause,
}

impl Station for CheckingNobody {
    type Answer = ();

    fn need(&self, _: &Login) -> Need {
        Need::CheckNobody { sources: self.sources.clone(), text: self.text }
    }

    fn learn(self, login: &mut Login, (): (), now: Moment) -> State {
        match self.cause {
            cause @ Cause::PersonUnknown => SettlingGuess { right: false, then: Settled::refuse(cause) }.into(),
            cause => login.refuse(cause, now),
        }
    }
}
