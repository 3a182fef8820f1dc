//! People without any factor: kept out, let in until a date, or given an authenticator app within the login itself.

use super::asking::{Asking, FirstStands};
use super::fact::*;
use super::machine::{Login, State, Station};
use super::proof::{Second, SecondProved, SecondWaived};
use bivector_model::cause::Cause;
use bivector_model::device::{CodeKind, Device, Makes};
use bivector_model::moment::Moment;
use bivector_model::prompt::Text;
use bivector_model::totp::Settings;
use bivector_model::trace::{Hop, Origin, Tone};
use bivector_site::WhenNotEnrolled;
use bivector_wire::Secret;
use data_encoding::BASE32_NOPAD;

impl Login {
    /// What the chain says of somebody who could give none of its factors.
    pub(super) fn not_enrolled(&mut self, asking: Asking, now: Moment) -> State {
        let first = match asking.first {
            FirstStands::Proved(first) => first,
            FirstStands::Expired { cause, .. } => {
                let said =
                    "a new password is asked for only with a second factor that we check ourselves, and the person has none of the chain's"
                        .to_owned();
                self.step(Hop::Second, "factors", Tone::Bad, now, said, self.chain().map(|chain| chain.line));
                return self.refuse(cause, now);
            }
        };
        let line = self.chain().map(|chain| chain.line);
        // Somebody with a factor that this chain does not take is no newcomer: a password alone must not add another one.
        let newcomer = !asking.person.has_any_factor && asking.down.is_empty();
        let what = self.chain().map(|chain| chain.when_not_enrolled).filter(|_| newcomer).unwrap_or_default();
        match what {
            // Their own page is where people get one: it goes on from this very refusal.
            _ if self.request.context.origin == Origin::Page => self.refuse(Cause::NotEnrolled, now),
            WhenNotEnrolled::LetInUntil(until) if now < until => {
                let waived = self.chain().and_then(|chain| SecondWaived::not_enrolled_yet(chain, now));
                match waived {
                    Some(waived) => self.waive(asking.person, first, waived, line, now),
                    None => self.refuse(Cause::NotEnrolled, now),
                }
            }
            WhenNotEnrolled::Enrol if self.shows_prompts() => {
                let said = "the person has no second factor; this login sets one up".to_owned();
                self.step(Hop::Second, "factors", Tone::Note, now, said, line);
                MakingSeed { asking: Box::new(Asking { first: FirstStands::Proved(first), ..asking }) }.into()
            }
            _ => {
                let said = "the person has no second factor that the chain accepts".to_owned();
                self.step(Hop::Second, "factors", Tone::Bad, now, said, line);
                self.refuse(Cause::NotEnrolled, now)
            }
        }
    }

    /// Shows the key of a new authenticator app. It stands on the person's screen only, never in the trace.
    pub(super) fn show_seed(&mut self, asking: Asking, now: Moment) -> State {
        let Some(seed) = &asking.seed else { return self.refuse(Cause::Unfinished, now) };
        let key = Secret::new(grouped(&BASE32_NOPAD.encode(seed.expose())));
        let site = self.site.name.clone();
        let said = self.say(&asking.person, Text::Enrol, &[("key", key.expose()), ("site", &site)]);
        self.put(asking, said, false, now)
    }

    /// A code of the new app: only a right one makes it count.
    pub(super) fn first_code(&mut self, asking: Asking, seed: Secret<Vec<u8>>, text: &str, now: Moment) -> State {
        let makes = Makes::ByTime { seed: seed.clone(), settings: Settings::default(), drift: 0 };
        let device = Device { id: 0, label: String::new(), has_pin: false, makes };
        match device.verify(text, now, &self.site.codes) {
            Some(code) => {
                let added = NewDevice { person: asking.person.key.clone(), name: asking.person.name.clone(), seed, used: code.used() };
                AddingDevice { device: Box::new(added), asking: Box::new(asking) }.into()
            }
            None => {
                let said = "the answer is not a valid code of the new app".to_owned();
                self.step(Hop::Second, "answer", Tone::Bad, now, said, None);
                self.ask_again(asking, Cause::CodeWrong, now)
            }
        }
    }
}

/// The seed of a new app is being made.
#[derive(Debug)]
pub(super) struct MakingSeed {
    asking: Box<Asking>,
}

impl Station for MakingSeed {
    type Answer = Secret<Vec<u8>>;

    fn need(&self, _: &Login) -> Need {
        Need::NewSeed
    }

    fn learn(self, login: &mut Login, seed: Secret<Vec<u8>>, now: Moment) -> State {
        login.show_seed(Asking { seed: Some(seed), ..*self.asking }, now)
    }
}

/// A new app, whose first code was right, is being kept.
#[derive(Debug)]
pub(super) struct AddingDevice {
    device: Box<NewDevice>,
    asking: Box<Asking>,
}

impl Station for AddingDevice {
    type Answer = AddAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::AddDevice(self.device.clone())
    }

    fn learn(self, login: &mut Login, answer: AddAnswer, now: Moment) -> State {
        let asking = self.asking;
        match (SecondProved::by_enrolment(&answer), answer) {
            (Some(proved), _) => {
                let said = "the app's first code is correct; it is now the person's second factor".to_owned();
                login.step(Hop::Second, "enrolled", Tone::Good, now, said, None);
                login.trace.factor = Some(CodeKind::Totp.name().to_owned());
                match asking.first.proved() {
                    Ok(first) => login.rules(asking.person, first, Second::Proved(proved), now),
                    Err(cause) => login.refuse(cause, now),
                }
            }
            (None, AddAnswer::EnrolledMeanwhile) => {
                login.step(
                    Hop::Second,
                    "enrolled",
                    Tone::Bad,
                    now,
                    "the person has enrolled another factor meanwhile; this one is not added".to_owned(),
                    None,
                );
                login.refuse(Cause::NotEnrolled, now)
            }
            (None, AddAnswer::Unavailable(why)) => {
                login.step(Hop::Second, "enrolled", Tone::Bad, now, format!("the app could not be stored: {}", why.seen), None);
                login.refuse(why.cause, now)
            }
            (None, AddAnswer::Added(_)) => login.refuse(Cause::Unfinished, now),
        }
    }
}

/// In groups of four, as people read it off a screen.
fn grouped(key: &str) -> String {
    key.as_bytes().chunks(4).map(|chunk| String::from_utf8_lossy(chunk)).collect::<Vec<_>>().join(" ")
}
