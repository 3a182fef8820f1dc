//! Station three: the second check. A code is marked as used before anybody gets in by it, and a wrong one is counted.

use super::asking::Asking;
use super::candidate::Candidate;
use super::change::Asked;
use super::fact::*;
use super::machine::{AfterMark, Login, State, Station};
use super::pending::{KeptSecond, Round};
use super::proof::{FirstProved, Second, SecondProved, SecondWaived};
use super::reading::ChosenCode;
use super::upstream::{AskingUpstream, PassedCredential, Role};
use bivector_model::cause::Cause;
use bivector_model::device::{CodeKind, Near, Used, VerifiedCode};
use bivector_model::identity::fits_pattern;
use bivector_model::moment::Moment;
use bivector_model::trace::{Hop, Tone};
use bivector_site::{Chain, Waived, Waiver};
use bivector_wire::Secret;

impl Login {
    pub(super) fn second(&mut self, mut person: Box<Candidate>, first: FirstProved, code: ChosenCode, now: Moment) -> State {
        let line = self.chain().map(|chain| chain.line);
        if let Some(waived) = self.chain().and_then(SecondWaived::chain_asks_for_none) {
            return self.waive(person, first, waived, line, now);
        }
        if let ChosenCode::Verified(code, pin) = code {
            return self.use_code(person, code, pin, AfterMark::Rules(first), now);
        }
        if let Some(waiver) = self.waiver_for(&person) {
            return self.waive(person, first, SecondWaived::by_waiver(&waiver), Some(waiver.line), now);
        }
        if let Some(until) = person.locked(now) {
            return self.refuse_locked(until, now);
        }
        if let Some(waived) = self.chain().and_then(|chain| SecondWaived::remembered(chain, &person.factors, now)) {
            return self.waive(person, first, waived, line, now);
        }
        if matches!(code, ChosenCode::Missing | ChosenCode::NotEnrolled)
            && let Some(proof) = self.passed_second(&mut person)
        {
            return Marking { person, proof, then: AfterMark::Rules(first) }.into();
        }
        let cause_and_said = code.why_not();
        match code {
            ChosenCode::ForUpstream(code) => self.code_upstream(person, first, &code, now),
            ChosenCode::Word(kind) => self.ask_for(Asking::new(first, person), kind, now),
            ChosenCode::Missing | ChosenCode::NotEnrolled => self.ask_second(Asking::new(first, person), now),
            ChosenCode::Wrong | ChosenCode::Near(_) => {
                let (cause, said) = cause_and_said.unwrap_or((Cause::Unfinished, String::new()));
                self.step(Hop::Second, "code", Tone::Bad, now, said, None);
                let ahead = match code {
                    ChosenCode::Near(Near::Ahead { device, counter }) => Some((device, counter)),
                    _ => None,
                };
                self.count_wrong(&person, cause, WrongTry::CODE, ahead, None, now)
            }
            // A chain with a factor asks for it, whatever was read.
            ChosenCode::NotAsked | ChosenCode::Verified(..) => self.refuse(Cause::Unfinished, now),
        }
    }

    pub(super) fn waive(
        &mut self,
        person: Box<Candidate>,
        first: FirstProved,
        waived: SecondWaived,
        line: Option<u32>,
        now: Moment,
    ) -> State {
        let said = format!("second factor not required: {}", waived.reason());
        self.trace.waived = Some(waived.reason().to_owned());
        self.step(Hop::Second, "waived", Tone::Warn, now, said, line);
        self.rules(person, first, Second::Waived(waived), now)
    }

    /// The waiver of the chain that is for this login, if one is.
    pub(super) fn waiver_for(&self, person: &Found) -> Option<Waiver> {
        let is_for = |waiver: &&Waiver| match &waiver.who {
            Waived::Network(ranges) => {
                self.request.context.caller().is_some_and(|caller| ranges.iter().any(|range| range.contains(&caller)))
            }
            Waived::Group(groups) => groups.iter().any(|group| person.groups.contains(group)),
            Waived::Person(patterns) => patterns.iter().any(|pattern| fits_pattern(pattern, &person.login.to_lowercase())),
        };
        self.chain()?.waive.iter().find(is_for).cloned()
    }

    pub(super) fn refuse_locked(&mut self, until: Moment, now: Moment) -> State {
        let left = until.since(now).as_secs().div_ceil(60);
        let said = format!("too many wrong codes or PINs: locked for another {left} min, or until an operator unlocks it");
        self.step(Hop::Second, "locked", Tone::Bad, now, said, None);
        self.refuse(Cause::FactorLocked, now)
    }

    /// A code that verified: its PIN is checked where one is needed, then it is marked as used.
    pub(super) fn use_code(
        &mut self,
        person: Box<Candidate>,
        code: VerifiedCode,
        pin: Option<Secret<String>>,
        then: AfterMark,
        now: Moment,
    ) -> State {
        if let Some(until) = person.locked(now) {
            return self.refuse_locked(until, now);
        }
        let needed = self.needs_pin(&code);
        match pin {
            Some(pin) if needed => CheckingPin { person, code, pin, then }.into(),
            None if !needed => Marking { person, proof: MarkFor::Code(code), then }.into(),
            typed => {
                let said = match typed {
                    Some(_) => "a PIN was entered, but none is set for this device",
                    None => "the code is correct, but the device's PIN was not entered",
                };
                self.step(Hop::Second, "pin", Tone::Bad, now, said.to_owned(), None);
                self.refuse(Cause::PinMissing, now)
            }
        }
    }

    fn needs_pin(&self, code: &VerifiedCode) -> bool {
        code.has_pin() && self.chain().is_some_and(Chain::asks_for_pins)
    }

    /// What is marked as used right after the password, if that is right.
    pub(super) fn marked_next(&self, person: &Candidate, code: &ChosenCode) -> Option<(u64, Used)> {
        let ChosenCode::Verified(code, None) = code else { return None };
        let next =
            !self.needs_pin(code) && person.locked(self.last).is_none() && !self.chain().is_some_and(|chain| chain.second.is_empty());
        next.then(|| (code.device(), code.used()))
    }

    /// Counts a wrong try before the person learns that it was one; then asks again, or refuses.
    pub(super) fn count_wrong(
        &mut self,
        person: &Found,
        cause: Cause,
        points: u32,
        ahead: Option<(u64, u64)>,
        then: Option<Box<Asking>>,
        now: Moment,
    ) -> State {
        let wrong = WrongTry { person: person.key.clone(), points, ahead, gateway: self.gateway_name().to_owned() };
        // Said once the answer is there; the time until then is the count's.
        self.last = now;
        CountingWrong { wrong: Box::new(wrong), cause, then }.into()
    }

    pub(super) fn code_upstream(&mut self, person: Box<Candidate>, first: FirstProved, code: &Secret<String>, now: Moment) -> State {
        let Some(upstream) = self.chain().and_then(Chain::code_upstream) else { return self.refuse(Cause::Unfinished, now) };
        let text = PassedCredential::Text(Secret::new(code.expose().clone().into_bytes()));
        let ask = self.ask_upstream(upstream, &person, text);
        AskingUpstream { ask, person, role: Role::Second { first } }.into()
    }

    fn after_mark(&mut self, person: Box<Candidate>, proved: SecondProved, then: AfterMark, now: Moment) -> State {
        let kept = || KeptSecond::Proved { factor: self.trace.factor.clone().unwrap_or_default(), device: proved.device() };
        match then {
            AfterMark::Rules(first) => self.rules(person, first, Second::Proved(proved), now),
            AfterMark::NewPassword { source, old } => {
                let second = kept();
                let asked = Asked { source, person, second, old, new: None, tries: 0 };
                self.ask_new_password(asked, None, now)
            }
            AfterMark::Challenge { source, upstream, asks } => {
                let second = kept();
                self.keep(source, person, Round::First { upstream, second }, asks, now)
            }
        }
    }
}

/// A code has verified, and the PIN before it is being checked.
#[derive(Debug)]
pub(super) struct CheckingPin {
    pub(super) person: Box<Candidate>,
    pub(super) code: VerifiedCode,
    pub(super) pin: Secret<String>,
    pub(super) then: AfterMark,
}

impl Station for CheckingPin {
    type Answer = PinAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::CheckPin { person: self.person.key.clone(), device: self.code.device(), guess: self.pin.clone() }
    }

    fn learn(self, login: &mut Login, answer: PinAnswer, now: Moment) -> State {
        match answer {
            PinAnswer::Right => {
                login.step(Hop::Second, "pin", Tone::Good, now, "the PIN is correct".to_owned(), None);
                Marking { person: self.person, proof: MarkFor::Code(self.code), then: self.then }.into()
            }
            PinAnswer::Wrong => {
                login.step(Hop::Second, "pin", Tone::Bad, now, "the code is correct, but the PIN is wrong".to_owned(), None);
                login.count_wrong(&self.person, Cause::PinWrong, WrongTry::CODE, None, None, now)
            }
            PinAnswer::Unavailable(why) => {
                login.step(Hop::Second, "pin", Tone::Bad, now, format!("the PIN could not be checked: {}", why.seen), None);
                login.refuse(why.cause, now)
            }
        }
    }
}

/// A wrong try is being counted. Then the person is asked again, or refused.
#[derive(Debug)]
pub(super) struct CountingWrong {
    wrong: Box<WrongTry>,
    cause: Cause,
    then: Option<Box<Asking>>,
}

impl Station for CountingWrong {
    type Answer = CountAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::CountWrong(self.wrong.clone())
    }

    fn learn(self, login: &mut Login, answer: CountAnswer, now: Moment) -> State {
        let after = login.site.lockout.after;
        let locked = match answer {
            CountAnswer::Counted { wrong, locked_until: None } => {
                if wrong > 0 {
                    login.step(Hop::Second, "count", Tone::Note, now, format!("{wrong} wrong codes in a row; {after} cause a lock"), None);
                }
                false
            }
            CountAnswer::Counted { wrong, locked_until: Some(until) } => {
                let minutes = until.since(now).as_secs().div_ceil(60);
                let said = format!("{wrong} wrong codes in a row: this person's codes are locked for {minutes} min");
                login.step(Hop::Second, "locked", Tone::Warn, now, said, None);
                true
            }
            CountAnswer::Unavailable(why) => {
                login.step(Hop::Second, "count", Tone::Warn, now, format!("the wrong attempt could not be recorded: {}", why.seen), None);
                // A guess that is not counted must not be followed by another one.
                return login.refuse(self.cause, now);
            }
        };
        match self.then {
            Some(asking) if !locked => login.ask_again(*asking, self.cause, now),
            _ => login.refuse(self.cause, now),
        }
    }
}

/// A second factor is being marked as used.
#[derive(Debug)]
pub(super) struct Marking {
    pub(super) person: Box<Candidate>,
    pub(super) proof: MarkFor,
    pub(super) then: AfterMark,
}

impl Station for Marking {
    type Answer = MarkAnswer;

    fn need(&self, _: &Login) -> Need {
        let withdraw = self.person.waiting_approval;
        Need::MarkCode(CodeMark { person: self.person.key.clone(), device: self.proof.device(), withdraw })
    }

    fn learn(self, login: &mut Login, answer: MarkAnswer, now: Moment) -> State {
        let Marking { person, proof, then } = self;
        let (cause, said) = match (&answer, proof.proved(&answer)) {
            (_, Some(second)) => {
                login.trace.factor = login.noted(proof.factor());
                if !login.quiet
                    && let Some(said) = proof.said()
                {
                    login.step(Hop::Second, "code", Tone::Good, now, said, None);
                }
                return login.after_mark(person, second, then, now);
            }
            (MarkAnswer::Unavailable(why), _) => (why.cause, format!("the code is correct but could not be marked as used: {}", why.seen)),
            (MarkAnswer::Locked(until), _) => return login.refuse_locked(*until, now),
            _ => (Cause::CodeUsed, "the code is correct, but it, or a newer one of the same device, has already been used".to_owned()),
        };
        login.step(Hop::Second, "code", Tone::Bad, now, said, None);
        login.refuse(cause, now)
    }
}

/// What is marked: a code of a device, or that a code which was sent has come back.
#[derive(Debug)]
pub(super) enum MarkFor {
    Code(VerifiedCode),
    Sent { equals: bool, courier: String },
    Approved { approved: Approved, with_key: bool },
}

impl MarkFor {
    /// What the records are to mark.
    pub(super) fn device(&self) -> Option<(u64, Used)> {
        match self {
            MarkFor::Code(code) => Some((code.device(), code.used())),
            MarkFor::Approved { approved, .. } => Some((approved.handset, Used::Approval)),
            MarkFor::Sent { .. } => None,
        }
    }

    /// The factor's name, as chains list it.
    fn factor(&self) -> &str {
        match self {
            MarkFor::Code(code) => code.kind().name(),
            MarkFor::Sent { courier, .. } => courier,
            MarkFor::Approved { with_key: true, .. } => "key",
            MarkFor::Approved { .. } => "approval",
        }
    }

    fn proved(&self, answer: &MarkAnswer) -> Option<SecondProved> {
        match self {
            MarkFor::Code(code) => SecondProved::by_code(code, answer),
            MarkFor::Sent { equals, .. } => SecondProved::by_sent(*equals, answer),
            MarkFor::Approved { approved, with_key } => SecondProved::by_approval(approved, *with_key, answer),
        }
    }

    /// What is said of it, unless it has been said.
    fn said(&self) -> Option<String> {
        match self {
            MarkFor::Code(code) => Some(MarkFor::code_said(code)),
            MarkFor::Sent { .. } => Some("the sent code is correct".to_owned()),
            MarkFor::Approved { .. } => None,
        }
    }

    fn code_said(code: &VerifiedCode) -> String {
        let (count, side) = (code.offset().abs(), if code.offset() < 0 { "old" } else { "early" });
        match code.kind() {
            CodeKind::Totp if count == 0 => "the code is correct (current time step) and is now marked as used".to_owned(),
            CodeKind::Totp => {
                format!("the code is correct ({count} {} {side}) and is now marked as used", if count == 1 { "step" } else { "steps" })
            }
            CodeKind::Hotp if count == 0 => "the code is correct (the device's next counter) and is now marked as used".to_owned(),
            CodeKind::Hotp => format!("the code is correct ({count} skipped); it and all earlier ones are now marked as used"),
            CodeKind::Recovery => "the recovery code is correct and is now marked as used".to_owned(),
            CodeKind::Temporary => "the temporary code is correct; this use is counted".to_owned(),
        }
    }
}
