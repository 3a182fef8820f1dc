//! The first check: which source knows the person, and what it says of the password.

use super::asking::{Asking, FirstStands};
use super::candidate::Candidate;
use super::change::Asked;
use super::fact::*;
use super::guessing::{Settled, SettlingGuess};
use super::machine::{AfterMark, Login, State, Station, told};
use super::pending::{KeptSecond, Pending};
use super::proof::{FirstProved, SecondWaived};
use super::reading::{Chosen, ChosenCode, Evidence, choose, choose_packed};
use super::request::Credential;
use super::upstream::{AskingUpstream, KeptCode, PassedCredential, Role};
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
            Some(at) => Finding { at, down: None, again: None }.into(),
            None => {
                let said = "no source of the chain handles this name".to_owned();
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

    /// A later source may check the passwords of a group of this one's people.
    fn take_over(&mut self, source: SourceRef, at: usize, person: Box<Candidate>, now: Moment) -> State {
        let later = self.chain().into_iter().flat_map(|chain| chain.first.iter().enumerate().skip(at + 1));
        let over = later.filter_map(|(index, first)| match &first.when {
            SourceWhen::Group(group) if person.groups.contains(group) => Some((index, first.source, group.clone())),
            _ => None,
        });
        let Some((index, over, group)) = over.into_iter().next() else { return self.identified(source, at, person, now) };
        let said = format!("passwords of members of {group} are checked by {}", self.site.source_name(over));
        self.step(Hop::First, "cascade", Tone::Note, now, said, self.chain().map(|chain| chain.line));
        self.identified(over, index, person, now)
    }

    /// A person is known: the credential is read next, with the person's tokens where the chain takes codes.
    fn identified(&mut self, source: SourceRef, at: usize, person: Box<Candidate>, now: Moment) -> State {
        self.note_person(source, &person);
        if let Err(cause) = self.check_certificate(&person, now) {
            return self.refuse(cause, now);
        }
        // Codes are read for the evidence, and a chain with any second factor asks whether it is locked.
        match self.chain().is_some_and(|chain| !chain.second.is_empty()) {
            true => KnowingFactors { source, at, person }.into(),
            false => self.read_credential(source, at, person, now),
        }
    }

    /// A person's certificate beside a password must be the same person's, unless its issuer says otherwise.
    fn check_certificate(&mut self, person: &Candidate, now: Moment) -> Result<(), Cause> {
        let Some(certificate) = self.certificate().filter(|certificate| certificate.same_person && !certificate.of_device) else {
            return Ok(());
        };
        let read = self.chain().and_then(|chain| chain.identity.read(certificate.name.as_bytes()).ok());
        let same = read.is_some_and(|read| read.name.eq_ignore_ascii_case(&self.name) || read.name.eq_ignore_ascii_case(&person.login));
        if same {
            return Ok(());
        }
        let said = format!("the certificate belongs to `{}`, and the name that was typed to {}", certificate.name, person.key);
        self.step(Hop::First, "certificate", Tone::Bad, now, said, None);
        Err(Cause::CertificatePersonDiffers)
    }

    /// The certificate alone is the first check.
    fn by_certificate(&mut self, source: SourceRef, person: Box<Candidate>, now: Moment) -> State {
        let proved = self.certificate().and_then(|certificate| FirstProved::by_certificate(source, certificate));
        match (proved, source) {
            (Some(first), SourceRef::Directory(_) | SourceRef::Roster) => {
                let code = self.no_code();
                self.second(person, first, code, now)
            }
            (_, SourceRef::Upstream(_)) => self.refuse(Cause::MethodNeedsText, now),
            (None, _) => self.refuse(Cause::CertificateMissing, now),
        }
    }

    /// A session is resumed: the password was checked when it was made. Factors and rules apply as ever.
    fn by_session(&mut self, source: SourceRef, of: &str, person: Box<Candidate>, now: Moment) -> State {
        let line = self.source_line(source);
        match FirstProved::by_session(source, of, &person.person) {
            Some(first) => {
                let said = format!("{} was accepted when the session was made, and resumes it", person.key);
                self.step(Hop::First, "session", Tone::Good, now, said, line);
                let code = self.no_code();
                self.second(person, first, code, now)
            }
            None => {
                let said = format!("the session belongs to {of}, and the name now leads to {}", person.key);
                self.step(Hop::First, "session", Tone::Bad, now, said, line);
                self.refuse(Cause::EapForeign, now)
            }
        }
    }

    pub(super) fn source_line(&self, source: SourceRef) -> Option<u32> {
        match source {
            SourceRef::Directory(index) => self.site.directories.get(index).map(|directory| directory.line),
            SourceRef::Upstream(index) => self.site.upstreams.get(index).map(|upstream| upstream.line),
            SourceRef::Roster => self.chain().map(|chain| chain.line),
        }
    }

    fn read_credential(&mut self, source: SourceRef, at: usize, person: Box<Candidate>, now: Moment) -> State {
        match (&self.request.credential, source) {
            (Credential::Proof { .. }, SourceRef::Upstream(_)) => self.pass_on(source, at, person, now),
            (Credential::Proof { .. }, _) => self.compare_proof(source, person, now),
            (Credential::Certificate, _) => self.by_certificate(source, person, now),
            (Credential::Resumed(of), _) => {
                let of = of.clone();
                self.by_session(source, &of, person, now)
            }
            _ => self.read_password(source, at, person, now),
        }
    }

    /// Keeps what the chain takes of a person's devices.
    pub(super) fn take_factors(&mut self, person: &mut Candidate, answer: FactorsAnswer, now: Moment) -> Result<(), Cause> {
        match answer {
            FactorsAnswer::Known(mut factors) => {
                person.has_any_factor = !factors.devices.is_empty() || factors.handsets > 0;
                if let Some(chain) = self.chain() {
                    factors.devices.retain(|device| chain.takes(device.kind()));
                }
                person.factors = *factors;
                Ok(())
            }
            FactorsAnswer::Unavailable(why) => {
                self.step(Hop::Reading, "factors", Tone::Bad, now, format!("the records could not be read: {}", why.seen), None);
                Err(why.cause)
            }
        }
    }

    /// A new password is asked for only once the second proof is given: whoever has just an old password changes nothing.
    fn before_change(
        &mut self,
        source: SourceRef,
        person: Box<Candidate>,
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
                if let Some(until) = person.locked(now) {
                    return self.refuse_locked(until, now);
                }
                let asking = Asking::standing(FirstStands::Expired { source, old, cause }, person);
                match code {
                    ChosenCode::Word(kind) => self.ask_for(asking, kind, now),
                    _ => self.ask_second(asking, now),
                }
            }
            other => {
                let said = "a new password can be set only with a correct code beside the old password, or at a prompt".to_owned();
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
    fn needs_no_second(&self, person: &Candidate, now: Moment) -> bool {
        let remembered = || self.chain().and_then(|chain| SecondWaived::remembered(chain, &person.factors, now)).is_some();
        self.waiver_for(person).is_some() || remembered()
    }

    /// A text as the gateway's character set has it.
    pub(super) fn charset_text(&self, bytes: &Secret<Vec<u8>>) -> Option<Secret<String>> {
        let charset = self.charset();
        super::request::decode(bytes.expose(), charset).map(Secret::new)
    }

    /// Reads the password field; the person's devices must be known by now, since a code of theirs is the evidence.
    fn read_password(&mut self, source: SourceRef, at: usize, person: Box<Candidate>, now: Moment) -> State {
        let text = match &self.request.credential {
            Credential::Text(bytes) => self.charset_text(bytes),
            _ => None,
        };
        let (Some(text), Some(chain)) = (text, self.chain()) else {
            let said = "the password field is not valid UTF-8; if the device sends Latin-1, set `charset = \"latin-1\"` for its gateway"
                .to_owned();
            self.step(Hop::Reading, "password field", Tone::Bad, now, said, None);
            return self.refuse(Cause::PasswordUnreadable, now);
        };
        let evidence = Evidence { devices: person.devices(), now, limits: self.site.codes };
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
            let said = "not checked: the chain is `code_only`, its gateways check the password".to_owned();
            self.step(Hop::First, "password", Tone::Note, now, said, self.chain().map(|chain| chain.line));
            return self.second(person, first, code, now);
        }
        if guess.expose().is_empty() {
            // Never sent: a bind with a name and no password is no check at all (RFC 4513 section 5.1.2).
            self.step(Hop::First, "password", Tone::Bad, now, "the password is empty; the source was not asked".to_owned(), None);
            return self.refuse(Cause::PasswordMissing, now);
        }
        let SourceRef::Upstream(upstream) = source else {
            return self.guess(CheckingPassword { source, person, guess, code });
        };
        let text = PassedCredential::Text(Secret::new(guess.expose().clone().into_bytes()));
        let ask = self.ask_upstream(upstream, &person, text);
        let role = Role::First { source, at: Some(at), code: KeptCode::Now(code) };
        self.guess(AskingUpstream { ask, person, role })
    }
}

/// A source is being asked whether it knows the name.
#[derive(Debug)]
pub(super) struct Finding {
    /// Its place in the chain's list.
    pub(super) at: usize,
    /// Why a source before it could not answer.
    pub(super) down: Option<Cause>,
    /// The prompt that this request answers: the person is looked up again.
    pub(super) again: Option<Box<Pending>>,
}

impl Station for Finding {
    type Answer = Answer<PersonAnswer>;

    fn need(&self, login: &Login) -> Need {
        let source = login.chain().and_then(|chain| chain.first.get(self.at)).map_or(SourceRef::Roster, |first| first.source);
        Need::FindPerson { source, name: login.name.clone() }
    }

    fn learn(self, login: &mut Login, answer: Answer<PersonAnswer>, now: Moment) -> State {
        let Some(source) = login.chain().and_then(|chain| chain.first.get(self.at)).map(|first| first.source) else {
            return login.refuse(Cause::Unfinished, now);
        };
        login.failed_servers(Hop::First, &answer.failed, login.last);
        let next = login.next_source(self.at + 1);
        let cause = login.say_found(source, &answer, next.is_some() && login.goes_on_when_down(), now);
        match (answer.value, cause, next) {
            (_, Some(cause), _) => login.refuse(cause, now),
            (PersonAnswer::Found(person), None, _) => match self.again {
                Some(pending) => login.found_again(pending, person, source, self.down, now),
                None => login.take_over(source, self.at, Candidate::new(person, source, self.down), now),
            },
            _ if self.again.is_some() => login.refuse(self.down.unwrap_or(Cause::PersonUnknown), now),
            (PersonAnswer::Unavailable(why), None, Some(at)) => {
                Finding { at, down: Some(self.down.unwrap_or(why.cause)), again: None }.into()
            }
            (_, None, Some(at)) => Finding { at, ..self }.into(),
            // An outage before is never taken for "no such person": the one who was down may have known the name.
            (_, None, None) => login.refuse(self.down.unwrap_or(Cause::PersonUnknown), now),
        }
    }
}

impl Login {
    /// Says whether a source knows the person; gives the cause where the login ends with that.
    fn say_found(&mut self, source: SourceRef, answer: &Answer<PersonAnswer>, goes_on: bool, now: Moment) -> Option<Cause> {
        let site = Arc::clone(&self.site);
        let source_name = site.source_name(source);
        let by = answer.server.as_deref().map(|server| told!(self, " ({server})")).unwrap_or_default();
        let (tone, said, cause) = match &answer.value {
            PersonAnswer::Found(person) => (Tone::Good, told!(self, "{source_name} found {} as {}{by}", person.login, person.handle), None),
            PersonAnswer::NoSuchPerson => (Tone::Note, format!("{source_name} has no entry for `{}`{by}", self.name), None),
            PersonAnswer::Ambiguous { count } => {
                (Tone::Bad, format!("{source_name} has {count} entries for `{}`{by}", self.name), Some(Cause::PersonAmbiguous))
            }
            PersonAnswer::Refused(cause) => (Tone::Bad, format!("{source_name}: {}", cause.sentence()), Some(*cause)),
            PersonAnswer::Unavailable(why) if goes_on => {
                (Tone::Warn, format!("{source_name} could not answer: {}; asking the next source", why.seen), None)
            }
            PersonAnswer::Unavailable(why) => (Tone::Bad, format!("{source_name} could not answer: {}", why.seen), Some(why.cause)),
        };
        // An upstream knows nobody by name, so its "known" carries no information.
        if !(matches!(source, SourceRef::Upstream(_)) && tone == Tone::Good) {
            self.step(Hop::First, "find person", tone, now, said, self.source_line(source));
        }
        cause
    }
}

/// The person's factors are being looked up.
#[derive(Debug)]
pub(super) struct KnowingFactors {
    source: SourceRef,
    at: usize,
    person: Box<Candidate>,
}

impl Station for KnowingFactors {
    type Answer = FactorsAnswer;

    fn need(&self, login: &Login) -> Need {
        Need::Factors { person: self.person.key.clone(), station: login.station(&self.person.key) }
    }

    fn learn(mut self, login: &mut Login, answer: FactorsAnswer, now: Moment) -> State {
        match login.take_factors(&mut self.person, answer, now) {
            Ok(()) => login.read_credential(self.source, self.at, self.person, now),
            Err(cause) => login.refuse(cause, now),
        }
    }
}

/// A source is checking the password.
#[derive(Debug)]
pub(super) struct CheckingPassword {
    pub(super) source: SourceRef,
    pub(super) person: Box<Candidate>,
    pub(super) guess: Secret<String>,
    pub(super) code: ChosenCode,
}

impl Station for CheckingPassword {
    type Answer = Answer<PasswordAnswer>;

    fn need(&self, login: &Login) -> Need {
        Need::CheckPassword {
            source: self.source,
            person: Arc::clone(&self.person.person),
            guess: self.guess.clone(),
            code: login.marked_next(&self.person, &self.code),
        }
    }

    fn learn(self, login: &mut Login, answer: Answer<PasswordAnswer>, now: Moment) -> State {
        let CheckingPassword { source, mut person, guess, code } = self;
        login.failed_servers(Hop::First, &answer.failed, login.last);
        let site = Arc::clone(&login.site);
        let source_name = site.source_name(source);
        let by = answer.server.as_deref().map(|server| told!(login, " ({server})")).unwrap_or_default();
        let (tone, said, cause) = match &answer.value {
            PasswordAnswer::Right => (Tone::Good, told!(login, "{source_name} accepted the password{by}"), None),
            PasswordAnswer::RightBut(notice) => {
                person.yields.notice = Some(*notice);
                (Tone::Warn, format!("{source_name} accepted the password; {notice}{by}"), None)
            }
            PasswordAnswer::Wrong => (Tone::Bad, format!("{source_name} rejected the password{by}"), Some(Cause::PasswordWrong)),
            PasswordAnswer::Refused(cause) => (Tone::Bad, format!("{source_name}: {}{by}", cause.sentence()), Some(*cause)),
            PasswordAnswer::Unavailable(why) => (Tone::Bad, format!("{source_name} could not answer: {}{by}", why.seen), Some(why.cause)),
        };
        login.step(Hop::First, "password", tone, now, said, login.source_line(source));
        login.checks.by = Some(source);
        let next = match (cause, FirstProved::by_password(source, &answer.value)) {
            (None, Some(first)) => Settled::State(Box::new(login.second(person, first, code, now))),
            (Some(cause), _) if login.may_change(source, cause, now) => {
                Settled::State(Box::new(login.before_change(source, person, guess, code, cause, now)))
            }
            (cause, _) => Settled::refuse(cause.unwrap_or(Cause::Unfinished)),
        };
        match (&answer.value, next) {
            // An outage tells nothing about the password.
            (PasswordAnswer::Unavailable(_), Settled::Refuse { cause, .. }) => login.refuse(cause, now),
            (value, next) => SettlingGuess { right: value.is_right(), then: next }.into(),
        }
    }
}
