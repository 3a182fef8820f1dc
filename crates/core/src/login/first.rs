//! Station two: which source knows the person, and what it says of the password.

use super::asking::{Asking, FirstStands};
use super::change::Asked;
use super::fact::*;
use super::guessing::Settled;
use super::machine::{AfterMark, Login, State, told};
use super::pending::KeptSecond;
use super::proof::{FirstProved, SecondWaived};
use super::reading::{Chosen, ChosenCode, Evidence, choose, choose_packed};
use super::request::Credential;
use super::upstream::{KeptCode, PassedCredential, Role};
use bivector_model::cause::Cause;
use bivector_model::identity::fits_pattern;
use bivector_model::moment::Moment;
use bivector_model::text::shown;
use bivector_model::trace::{Hop, Step, Tone};
use bivector_site::{FirstSource, SourceRef, SourceWhen, WhenDown};
use bivector_wire::Secret;
use std::sync::Arc;

impl Login {
    pub(super) fn failed_servers(&mut self, hop: Hop, failed: &[FailedServer], asked: Moment) {
        let mut at_us = asked.since(self.began).as_micros() as u64;
        for server in failed {
            let said = format!("{} did not answer: {}; asking the next server", server.server, shown(&server.why.seen));
            self.trace.steps.push(Step {
                hop,
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

    /// The first source of the chain that is for this login.
    pub(super) fn find_first(&mut self, now: Moment) -> State {
        match self.next_source(0) {
            Some(at) => self.find_at(at),
            None => {
                let said = "no source of the chain is for this name".to_owned();
                self.step(Hop::First, "find person", Tone::Bad, now, said, self.chain().map(|chain| chain.line));
                self.refuse(Cause::PersonUnknown, now)
            }
        }
    }

    /// The next source, from a place in the chain's list on, that is asked about this name.
    pub(super) fn next_source(&self, from: usize) -> Option<usize> {
        let for_us = |first: &FirstSource| match &first.when {
            SourceWhen::Always => true,
            SourceWhen::Name(pattern) => fits_pattern(pattern, &self.name.to_lowercase()),
            SourceWhen::Realm(realm) => *realm == self.realm,
            SourceWhen::Group(_) => false,
        };
        let sources = &self.chain()?.first;
        (from..sources.len()).find(|at| sources.get(*at).is_some_and(for_us))
    }

    pub(super) fn goes_on_when_down(&self) -> bool {
        self.chain().is_some_and(|chain| chain.when_source_is_down == WhenDown::Next)
    }

    /// Asks a source. An upstream knows nobody by name; of its people the records know whether an operator has suspended them.
    pub(super) fn find_at(&mut self, at: usize) -> State {
        State::Finding { at }
    }

    pub(super) fn found(&mut self, at: usize, answer: Answer<PersonAnswer>, now: Moment) -> State {
        let Some(source) = self.chain().and_then(|chain| chain.first.get(at)).map(|first| first.source) else {
            return self.refuse(Cause::Unfinished, now);
        };
        let site = Arc::clone(&self.site);
        let source_name = site.source_name(source);
        self.failed_servers(Hop::First, &answer.failed, self.last);
        let next = self.next_source(at + 1);
        let goes_on = next.is_some() && self.goes_on_when_down();
        let by = answer.server.as_deref().map(|server| told!(self, " ({server})")).unwrap_or_default();
        let (tone, said, cause) = match &answer.value {
            PersonAnswer::Found(person) => (Tone::Good, told!(self, "{source_name} knows {} as {}{by}", person.login, person.handle), None),
            PersonAnswer::NoSuchPerson => (Tone::Note, format!("{source_name} knows nobody called `{}`{by}", self.name), None),
            PersonAnswer::Ambiguous { count } => {
                (Tone::Bad, format!("{source_name} has {count} entries for `{}`{by}", self.name), Some(Cause::PersonAmbiguous))
            }
            PersonAnswer::Refused(cause) => (Tone::Bad, format!("{source_name}: {}", cause.sentence()), Some(*cause)),
            PersonAnswer::Unavailable(why) if goes_on => {
                (Tone::Warn, format!("{source_name} could not say: {}; the next source is asked", why.seen), None)
            }
            PersonAnswer::Unavailable(why) => (Tone::Bad, format!("{source_name} could not say: {}", why.seen), Some(why.cause)),
        };
        let line = self.source_line(source);
        if !(matches!(source, SourceRef::Upstream(_)) && tone == Tone::Good) {
            self.step(Hop::First, "find person", tone, now, said, line);
        }
        match (answer.value, cause, next) {
            (_, Some(cause), _) => self.refuse(cause, now),
            (PersonAnswer::Found(person), None, _) => {
                self.found_by = Some(source);
                match self.resuming.take() {
                    Some(pending) => self.found_again(pending, person, now),
                    None => self.take_over(source, at, person, now),
                }
            }
            _ if self.resuming.is_some() => self.refuse(self.down.unwrap_or(Cause::PersonUnknown), now),
            (PersonAnswer::Unavailable(why), None, Some(next)) => {
                self.down.get_or_insert(why.cause);
                self.find_at(next)
            }
            (_, None, Some(next)) => self.find_at(next),
            // An outage before is never taken for "no such person": the one who was down may have known the name.
            (_, None, None) => self.refuse(self.down.unwrap_or(Cause::PersonUnknown), now),
        }
    }

    /// A later source may check the passwords of a group of this one's people.
    fn take_over(&mut self, source: SourceRef, at: usize, person: Arc<Found>, now: Moment) -> State {
        let later = self.chain().into_iter().flat_map(|chain| chain.first.iter().enumerate().skip(at + 1));
        let over = later.filter_map(|(index, first)| match &first.when {
            SourceWhen::Group(group) if person.groups.contains(group) => Some((index, first.source, group.clone())),
            _ => None,
        });
        let Some((index, over, group)) = over.into_iter().next() else { return self.identified(source, at, person, now) };
        let said = format!("members of {group} are checked by {}", self.site.source_name(over));
        self.step(Hop::First, "cascade", Tone::Note, now, said, self.chain().map(|chain| chain.line));
        self.identified(over, index, person, now)
    }

    /// A person is known: the credential is read next, with the person's tokens where the chain takes codes.
    fn identified(&mut self, source: SourceRef, at: usize, person: Arc<Found>, now: Moment) -> State {
        self.note_person(source, &person);
        // Codes are read for the evidence, and a chain with any second factor asks whether it is locked.
        match self.chain().is_some_and(|chain| !chain.second.is_empty()) {
            true => State::Factors { source, at, person },
            false => self.read_credential(source, at, person, now),
        }
    }

    pub(super) fn source_line(&self, source: SourceRef) -> Option<u32> {
        match source {
            SourceRef::Directory(index) => self.site.directories.get(index).map(|directory| directory.line),
            SourceRef::Upstream(index) => self.site.upstreams.get(index).map(|upstream| upstream.line),
            SourceRef::Roster => self.chain().map(|chain| chain.line),
        }
    }

    fn read_credential(&mut self, source: SourceRef, at: usize, person: Arc<Found>, now: Moment) -> State {
        match (&self.request.credential, source) {
            (Credential::Proof { .. }, SourceRef::Upstream(_)) => self.pass_on(source, at, person, now),
            (Credential::Proof { .. }, _) => self.compare_proof(source, person, now),
            _ => self.read_password(source, at, person, now),
        }
    }

    pub(super) fn factors_known(&mut self, source: SourceRef, at: usize, person: Arc<Found>, answer: FactorsAnswer, now: Moment) -> State {
        match self.take_factors(answer, now) {
            Ok(()) => self.read_credential(source, at, person, now),
            Err(cause) => self.refuse(cause, now),
        }
    }

    /// Keeps what the chain takes of a person's devices.
    pub(super) fn take_factors(&mut self, answer: FactorsAnswer, now: Moment) -> Result<(), Cause> {
        match answer {
            FactorsAnswer::Known(mut factors) => {
                self.has_any_factor = !factors.devices.is_empty() || factors.handsets > 0;
                if let Some(chain) = self.chain() {
                    factors.devices.retain(|device| chain.takes(device.kind()));
                }
                self.factors = *factors;
                Ok(())
            }
            FactorsAnswer::Unavailable(why) => {
                self.step(Hop::Reading, "factors", Tone::Bad, now, format!("the records could not be read: {}", why.seen), None);
                Err(why.cause)
            }
        }
    }

    pub(super) fn password(
        &mut self,
        source: SourceRef,
        person: Arc<Found>,
        guess: &Secret<String>,
        code: ChosenCode,
        answer: Answer<PasswordAnswer>,
        now: Moment,
    ) -> State {
        self.failed_servers(Hop::First, &answer.failed, self.last);
        let site = Arc::clone(&self.site);
        let source_name = site.source_name(source);
        let by = answer.server.as_deref().map(|server| told!(self, " ({server})")).unwrap_or_default();
        let (tone, said, cause) = match &answer.value {
            PasswordAnswer::Right => (Tone::Good, told!(self, "{source_name} says the password is right{by}"), None),
            PasswordAnswer::RightBut(notice) => {
                self.notice = Some(*notice);
                (Tone::Warn, format!("{source_name} says the password is right; {notice}{by}"), None)
            }
            PasswordAnswer::Wrong => (Tone::Bad, format!("{source_name} says the password is wrong{by}"), Some(Cause::PasswordWrong)),
            PasswordAnswer::Refused(cause) => (Tone::Bad, format!("{source_name}: {}{by}", cause.sentence()), Some(*cause)),
            PasswordAnswer::Unavailable(why) => (Tone::Bad, format!("{source_name} could not say: {}{by}", why.seen), Some(why.cause)),
        };
        let line = self.source_line(source);
        self.step(Hop::First, "password", tone, now, said, line);
        self.checked = Some(source);
        let next = match (cause, FirstProved::by_password(source, &answer.value)) {
            (None, Some(first)) => Settled::State(Box::new(self.second(person, first, code, now))),
            (Some(cause), _) if self.may_change(source, cause, now) => {
                Settled::State(Box::new(self.before_change(source, person, guess.clone(), code, cause, now)))
            }
            (cause, _) => Settled::Refuse(cause.unwrap_or(Cause::Unfinished)),
        };
        match (&answer.value, next) {
            // An outage says nothing of the password.
            (PasswordAnswer::Unavailable(_), Settled::Refuse(cause)) => self.refuse(cause, now),
            (value, next) => self.settle(value.is_right(), next),
        }
    }

    /// A new password is asked for only once the second proof is given: whoever has just an old password changes nothing.
    fn before_change(
        &mut self,
        source: SourceRef,
        person: Arc<Found>,
        old: Secret<String>,
        code: ChosenCode,
        cause: Cause,
        now: Moment,
    ) -> State {
        match code {
            ChosenCode::Verified(code, pin) => self.use_code(person, code, pin, AfterMark::NewPassword { source, old }, now),
            ChosenCode::NotAsked => {
                let asked = Asked { source, person, second: KeptSecond::NotAsked, old, new: None, tries: 0 };
                self.ask_new_password(asked, None, now)
            }
            ChosenCode::Missing | ChosenCode::NotEnrolled | ChosenCode::Word(_) if self.needs_no_second(&person, now) => {
                let asked = Asked { source, person, second: KeptSecond::NotAsked, old, new: None, tries: 0 };
                self.ask_new_password(asked, None, now)
            }
            ChosenCode::Missing | ChosenCode::NotEnrolled | ChosenCode::Word(_) => {
                if let Some(until) = self.locked(now) {
                    return self.refuse_locked(until, now);
                }
                let asking = Asking::standing(FirstStands::Expired { source, old, cause }, person);
                match code {
                    ChosenCode::Word(kind) => self.ask_for(asking, kind, now),
                    _ => self.ask_second(asking, now),
                }
            }
            other => {
                let said = "a new password is asked for only with a right code beside the old one, or at a prompt".to_owned();
                self.step(Hop::Second, "code", Tone::Note, now, said, None);
                match other {
                    // A right code would have led on, so a wrong one is a guess like any other.
                    ChosenCode::Wrong | ChosenCode::Near(_) => self.count_wrong(&person, cause, WrongTry::CODE, None, None, now),
                    _ => self.refuse(cause, now),
                }
            }
        }
    }

    /// Whether the person would get in by the first check alone.
    fn needs_no_second(&self, person: &Found, now: Moment) -> bool {
        let remembered = || self.chain().and_then(|chain| SecondWaived::remembered(chain, &self.factors, now)).is_some();
        self.waiver_for(person).is_some() || remembered()
    }

    /// A text as the gateway's character set has it.
    pub(super) fn charset_text(&self, bytes: &Secret<Vec<u8>>) -> Option<Secret<String>> {
        let charset = self.charset();
        super::request::decode(bytes.expose(), charset).map(Secret::new)
    }

    /// Reads the password field; the person's devices must be known by now, since a code of theirs is the evidence.
    fn read_password(&mut self, source: SourceRef, at: usize, person: Arc<Found>, now: Moment) -> State {
        let text = match &self.request.credential {
            Credential::Text(bytes) => self.charset_text(bytes),
            _ => None,
        };
        let (Some(text), Some(chain)) = (text, self.chain()) else {
            let said = "the text is not UTF-8; a device that writes Latin-1 needs `charset = \"latin-1\"` on its gateway".to_owned();
            self.step(Hop::Reading, "password field", Tone::Bad, now, said, None);
            return self.refuse(Cause::PasswordUnreadable, now);
        };
        let evidence = Evidence { devices: self.own_devices(), now, limits: self.site.codes };
        let chosen = match self.request.second_field.as_ref().map(|field| self.charset_text(field).unwrap_or_default()) {
            Some(second) => choose_packed(chain, &text, &second, &evidence),
            None => choose(chain, &text, &evidence, self.quiet),
        };
        let (line, checked_before) = (Some(chain.forms_line), FirstProved::by_gateway(source, chain));
        if !self.quiet {
            self.note_reading(&chosen);
        }
        let Chosen { guess, code, tone, said, .. } = chosen;
        self.step(Hop::Reading, "password field", tone, now, said, line);
        if let Some(first) = checked_before {
            let said = "not checked here: the chain is `code_only`, its gateways check passwords themselves".to_owned();
            self.step(Hop::First, "password", Tone::Note, now, said, self.chain().map(|chain| chain.line));
            return self.second(person, first, code, now);
        }
        if guess.expose().is_empty() {
            // Never sent: a bind with a name and no password is no check at all (RFC 4513 section 5.1.2).
            self.step(Hop::First, "password", Tone::Bad, now, "the password is empty; nothing was asked of the source".to_owned(), None);
            return self.refuse(Cause::PasswordMissing, now);
        }
        let SourceRef::Upstream(upstream) = source else {
            return self.guess(&Arc::clone(&person), State::Password { source, person, guess, code });
        };
        let text = PassedCredential::Text(Secret::new(guess.expose().clone().into_bytes()));
        let ask = self.ask_upstream(upstream, &person, text);
        let role = Role::First { source, at: Some(at), code: KeptCode::Now(code) };
        self.guess(&Arc::clone(&person), State::Upstream { ask, person, role })
    }
}
