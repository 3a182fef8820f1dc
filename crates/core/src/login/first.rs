//! Station two: which source knows the person, and what it says of the password.

use super::fact::*;
use super::machine::{Login, State};
use super::proof::FirstProved;
use super::reading::{Chosen, ChosenCode, choose};
use super::request::Credential;
use crate::cause::Cause;
use crate::moment::Moment;
use crate::site::SourceRef;
use crate::totp::Token;
use crate::trace::{Hop, Step, Tone};
use bivector_wire::Secret;

impl Login {
    pub(super) fn failed_servers(&mut self, failed: &[FailedServer], asked: Moment) {
        let mut at_us = asked.since(self.began).as_micros() as u64;
        for server in failed {
            let said = format!("{} did not answer: {}; asking the next server", server.server, server.why.seen);
            self.trace.steps.push(Step {
                hop: Hop::First,
                what: "fail-over".into(),
                tone: Tone::Warn,
                at_us,
                took_us: server.took_us,
                said,
                line: None,
            });
            at_us += server.took_us;
        }
    }

    pub(super) fn found(&mut self, name: String, at: usize, answer: Answer<PersonAnswer>, now: Moment) -> State {
        let Some(source) = self.chain().and_then(|chain| chain.first.get(at)).copied() else { return self.refuse(Cause::Unfinished, now) };
        let source_name = self.site.source_name(source).to_owned();
        self.failed_servers(&answer.failed, self.last);
        let by = answer.server.as_deref().map(|server| format!(" ({server})")).unwrap_or_default();
        let (tone, said, cause) = match &answer.value {
            PersonAnswer::Found(person) => (Tone::Good, format!("{source_name} knows {} as {}{by}", person.login, person.handle), None),
            PersonAnswer::NoSuchPerson => (Tone::Note, format!("{source_name} knows nobody called `{name}`{by}"), None),
            PersonAnswer::Ambiguous { count } => {
                (Tone::Bad, format!("{source_name} has {count} entries for `{name}`{by}"), Some(Cause::PersonAmbiguous))
            }
            PersonAnswer::Refused(cause) => (Tone::Bad, format!("{source_name}: {}", cause.sentence()), Some(*cause)),
            PersonAnswer::Unavailable(why) => (Tone::Bad, format!("{source_name} could not say: {}", why.seen), Some(why.cause)),
        };
        let line = self.source_line(source);
        self.step(Hop::First, "find person", tone, now, said, line);
        match (answer.value, cause) {
            (_, Some(cause)) => self.refuse(cause, now),
            (PersonAnswer::Found(person), None) => {
                self.trace.person = Some(person.key.clone());
                self.trace.source = Some(source_name);
                if self.chain().is_some_and(|chain| chain.second.is_empty()) {
                    self.read_password(source, person, &[], now)
                } else {
                    State::Tokens { source, person }
                }
            }
            _ if self.chain().is_some_and(|chain| at + 1 < chain.first.len()) => State::Finding { name, at: at + 1 },
            _ => self.refuse(Cause::PersonUnknown, now),
        }
    }

    pub(super) fn source_line(&self, source: SourceRef) -> Option<u32> {
        match source {
            SourceRef::Directory(index) => self.site.directories.get(index).map(|directory| directory.line),
            SourceRef::Roster => self.chain().map(|chain| chain.line),
        }
    }

    pub(super) fn tokens(&mut self, source: SourceRef, person: Box<Found>, answer: TokensAnswer, now: Moment) -> State {
        match answer {
            TokensAnswer::Tokens(tokens) => self.read_password(source, person, &tokens, now),
            TokensAnswer::Unavailable(why) => {
                self.step(Hop::Reading, "tokens", Tone::Bad, now, format!("the records could not be read: {}", why.seen), None);
                self.refuse(why.cause, now)
            }
        }
    }

    pub(super) fn password(
        &mut self,
        source: SourceRef,
        person: Box<Found>,
        code: ChosenCode,
        answer: Answer<PasswordAnswer>,
        now: Moment,
    ) -> State {
        self.failed_servers(&answer.failed, self.last);
        let source_name = self.site.source_name(source).to_owned();
        let by = answer.server.as_deref().map(|server| format!(" ({server})")).unwrap_or_default();
        let (tone, said, cause) = match &answer.value {
            PasswordAnswer::Right => (Tone::Good, format!("{source_name} says the password is right{by}"), None),
            PasswordAnswer::Wrong => (Tone::Bad, format!("{source_name} says the password is wrong{by}"), Some(Cause::PasswordWrong)),
            PasswordAnswer::Refused(cause) => (Tone::Bad, format!("{source_name}: {}{by}", cause.sentence()), Some(*cause)),
            PasswordAnswer::Unavailable(why) => (Tone::Bad, format!("{source_name} could not say: {}{by}", why.seen), Some(why.cause)),
        };
        let line = self.source_line(source);
        self.step(Hop::First, "password", tone, now, said, line);
        match (cause, FirstProved::by_password(source, &answer.value)) {
            (None, Some(first)) => self.second(person, first, code, now),
            (cause, _) => self.refuse(cause.unwrap_or(Cause::Unfinished), now),
        }
    }

    /// Reads the password field; a factor that the chain asks for must be known by now, since its code is the evidence.
    pub(super) fn read_password(&mut self, source: SourceRef, person: Box<Found>, tokens: &[Token], now: Moment) -> State {
        let text = match &self.request.credential {
            Credential::Pap(bytes) => String::from_utf8(bytes.expose().clone()).ok().map(Secret::new),
            _ => None,
        };
        let (Some(text), Some(chain)) = (text, self.chain()) else {
            self.step(Hop::Reading, "password field", Tone::Bad, now, "the text is not UTF-8".to_owned(), None);
            return self.refuse(Cause::PasswordUnreadable, now);
        };
        let (chosen, tone, said) = choose(chain, &text, tokens, now, self.site.totp_window);
        let line = Some(chain.forms_line);
        self.step(Hop::Reading, "password field", tone, now, said, line);
        if chosen.guess.expose().is_empty() {
            // Never sent: a bind with a name and no password is no check at all (RFC 4513 section 5.1.2).
            self.step(Hop::First, "password", Tone::Bad, now, "the password is empty; nothing was asked of the source".to_owned(), None);
            return self.refuse(Cause::PasswordMissing, now);
        }
        let Chosen { guess, code } = chosen;
        State::Password { source, person, guess, code }
    }
}
