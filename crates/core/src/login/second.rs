//! Station three: the code, marked as used before anybody gets in by it.

use super::change::Asked;
use super::fact::*;
use super::machine::{AfterMark, Login, State};
use super::pending::{KeptSecond, Round};
use super::proof::{FirstProved, Second, SecondProved, SecondWaived};
use super::reading::ChosenCode;
use super::upstream::{PassedCredential, Role};
use crate::cause::Cause;
use crate::moment::Moment;
use crate::site::Chain;
use crate::totp::VerifiedCode;
use crate::trace::{Hop, Tone};
use bivector_wire::Secret;

impl Login {
    pub(super) fn second(&mut self, person: Box<Found>, first: FirstProved, code: ChosenCode, now: Moment) -> State {
        let code = match code {
            ChosenCode::Verified(code) => return State::Marking { person, code, then: AfterMark::Rules(first) },
            ChosenCode::NotAsked => {
                let waived = SecondWaived::chain_asks_for_none();
                self.step(Hop::Second, "waived", Tone::Warn, now, waived.reason().to_owned(), self.chain().map(|chain| chain.line));
                return self.rules(&person, first, Second::Waived(waived), now);
            }
            ChosenCode::ForUpstream(code) => return self.code_upstream(person, first, &code, now),
            other => other,
        };
        let (cause, said) = code.why_not().unwrap_or((Cause::Unfinished, String::new()));
        self.step(Hop::Second, "code", Tone::Bad, now, said, None);
        self.refuse(cause, now)
    }

    fn code_upstream(&mut self, person: Box<Found>, first: FirstProved, code: &Secret<String>, now: Moment) -> State {
        let Some(upstream) = self.chain().and_then(Chain::code_upstream) else { return self.refuse(Cause::Unfinished, now) };
        let text = PassedCredential::Text(Secret::new(code.expose().clone().into_bytes()));
        let ask = self.ask_upstream(upstream, &person, text);
        State::Upstream { ask, person, role: Role::Second { first } }
    }

    pub(super) fn marked(&mut self, person: Box<Found>, code: VerifiedCode, then: AfterMark, answer: MarkAnswer, now: Moment) -> State {
        let (cause, said) = match (&answer, SecondProved::by_code(&code, &answer)) {
            (_, Some(second)) => {
                let when = match code.offset() {
                    0 => "of this step".to_owned(),
                    offset => format!(
                        "{} {} {}",
                        offset.abs(),
                        if offset.abs() == 1 { "step" } else { "steps" },
                        if offset < 0 { "old" } else { "early" }
                    ),
                };
                self.step(Hop::Second, "code", Tone::Good, now, format!("the code is right ({when}) and is now marked as used"), None);
                return self.after_mark(person, second, then, now);
            }
            (MarkAnswer::Unavailable(why), _) => (why.cause, format!("the code is right but could not be marked as used: {}", why.seen)),
            _ => (Cause::CodeUsed, "the code is right, but it was used before".to_owned()),
        };
        self.step(Hop::Second, "code", Tone::Bad, now, said, None);
        self.refuse(cause, now)
    }

    fn after_mark(&mut self, person: Box<Found>, proved: SecondProved, then: AfterMark, now: Moment) -> State {
        let kept = || proved.token().map_or(KeptSecond::NotAsked, KeptSecond::Proved);
        match then {
            AfterMark::Rules(first) => self.rules(&person, first, Second::Proved(proved), now),
            AfterMark::NewPassword { source, old } => {
                let asked = Asked { source, person, second: kept(), old, new: None, tries: 0 };
                self.ask_new_password(asked, None, now)
            }
            AfterMark::Challenge { upstream, prompt, attributes } => {
                let second = kept();
                self.keep(Round::First { upstream, person, second }, prompt, attributes, now)
            }
        }
    }
}
