//! Station three: the code, marked as used before anybody gets in by it.

use super::fact::*;
use super::machine::{Login, State};
use super::proof::{FirstProved, Second, SecondProved, SecondWaived};
use super::reading::ChosenCode;
use crate::cause::Cause;
use crate::moment::Moment;
use crate::totp::VerifiedCode;
use crate::trace::{Hop, Tone};

impl Login {
    pub(super) fn second(&mut self, person: Box<Found>, first: FirstProved, code: ChosenCode, now: Moment) -> State {
        let (cause, said) = match code {
            ChosenCode::Verified(code) => return State::Marking { person, first, code },
            ChosenCode::NotAsked => {
                let waived = SecondWaived::chain_asks_for_none();
                self.step(Hop::Second, "waived", Tone::Warn, now, waived.reason().to_owned(), self.chain().map(|chain| chain.line));
                return self.rules(&person, first, Second::Waived(waived), now);
            }
            ChosenCode::NotEnrolled => (Cause::NotEnrolled, format!("{} has no second factor yet", person.login)),
            ChosenCode::Missing => (Cause::CodeMissing, "no code was typed behind the password".to_owned()),
            ChosenCode::Wrong => (Cause::CodeWrong, "the code is none of this person's".to_owned()),
            ChosenCode::Drifted { seconds } => {
                let side = if seconds < 0 { "old" } else { "early" };
                let allowed = self.site.totp_window;
                (Cause::CodeDrifted, format!("the code is {} s {side}; {allowed} steps to each side are allowed", seconds.abs()))
            }
        };
        self.step(Hop::Second, "code", Tone::Bad, now, said, None);
        self.refuse(cause, now)
    }

    pub(super) fn marked(&mut self, person: Box<Found>, first: FirstProved, code: VerifiedCode, answer: MarkAnswer, now: Moment) -> State {
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
                return self.rules(&person, first, Second::Proved(second), now);
            }
            (MarkAnswer::Unavailable(why), _) => (why.cause, format!("the code is right but could not be marked as used: {}", why.seen)),
            _ => (Cause::CodeUsed, "the code is right, but it was used before".to_owned()),
        };
        self.step(Hop::Second, "code", Tone::Bad, now, said, None);
        self.refuse(cause, now)
    }
}
