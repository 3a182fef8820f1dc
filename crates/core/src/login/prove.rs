//! Proofs that do not tell the password: CHAP and MS-CHAPv2, compared with what a source keeps of it.

use super::candidate::Candidate;
use super::fact::{Answer, Need, SecretAnswer};
use super::guessing::{Settled, SettlingGuess};
use super::machine::{Login, State, Station};
use super::proof::FirstProved;
use super::reading::ChosenCode;
use super::request::{Credential, Proof};
use bivector_model::cause::Cause;
use bivector_model::device::VerifiedCode;
use bivector_model::facts::ProofFact;
use bivector_model::form::Form;
use bivector_model::moment::Moment;
use bivector_model::trace::{Hop, Tone};
use bivector_site::SourceRef;
use bivector_site::matrix::{self, Skill};
use bivector_wire::{MsChapProved, NtHash, Secret, nt_hash};
use std::sync::Arc;

/// A proof that fits: the code that was part of it, if one was, and what the device gets for it.
#[derive(Debug)]
pub(super) struct Match {
    code: Option<VerifiedCode>,
    gives: Option<Box<MsChapProved>>,
}

/// What is kept of a password.
enum Kept {
    Text(Secret<String>),
    NtHash(NtHash),
}

impl Login {
    /// What follows where no code was typed, or none could be.
    pub(super) fn no_code(&self) -> ChosenCode {
        match self.chain() {
            Some(chain) if !chain.second.is_empty() => ChosenCode::Missing,
            _ => ChosenCode::NotAsked,
        }
    }

    /// A proof for somebody whom we know: what the source keeps of the password is asked for, if it can keep anything that helps.
    pub(super) fn compare_proof(&mut self, source: SourceRef, person: Box<Candidate>, now: Moment) -> State {
        let (Some(chain), Some(method)) = (self.chain(), self.request.known_method()) else {
            return self.refuse(Cause::Unfinished, now);
        };
        let (line, code_only) = (Some(chain.line), chain.code_only);
        if let Err(never) = matrix::first(method, Skill::in_site(&self.site, chain, source)) {
            let said = format!("{}; options: {}", never.why, never.remedies.join(", or "));
            self.step(Hop::First, "method", Tone::Bad, now, said, line);
            return self.refuse(Cause::MethodNeedsText, now);
        }
        match code_only {
            true => self.proved(source, person, &Kept::Text(Secret::default()), String::new(), now),
            false => self.guess(ComparingProof { source, person }),
        }
    }

    /// Compares the proof with the password alone, and with the password and each live code.
    fn proved(&mut self, source: SourceRef, mut person: Box<Candidate>, kept: &Kept, with: String, now: Moment) -> State {
        let line = self.source_line(source);
        let (matched, tried) = self.compare(&person, kept, now);
        self.trace.facts.proof = Some(match &matched {
            None => ProofFact::Nothing,
            Some(Match { code: None, .. }) => ProofFact::Password,
            Some(Match { code: Some(code), .. }) => ProofFact::WithCode(code.kind()),
        });
        let Some(matched) = matched else {
            let said = format!("the response matches none of the {tried} candidates tried{with}");
            self.step(Hop::First, "proof", Tone::Bad, now, said, line);
            let code_only = self.chain().is_some_and(|chain| chain.code_only);
            let (cause, points) = match code_only {
                true => (Cause::CodeWrong, super::WrongTry::CODE),
                false => (Cause::PasswordWrong, super::WrongTry::PROOF),
            };
            // Only where codes are part of the proof could somebody who knows the password guess at them here.
            let counts = tried > 1 || code_only;
            return match (code_only, counts) {
                (true, _) => self.count_wrong(&person, cause, points, None, None, now),
                (false, true) => {
                    let counting = self.count_wrong(&person, cause, points, None, None, now);
                    SettlingGuess { right: false, then: Settled::State(Box::new(counting)) }.into()
                }
                (false, false) => SettlingGuess { right: false, then: Settled::refuse(cause) }.into(),
            };
        };
        let what = if matched.code.is_some() { "password and code" } else { "the password" };
        self.step(Hop::First, "proof", Tone::Good, now, format!("the response matches {what} ({tried} candidates tried{with})"), line);
        let first = FirstProved::by_match(source, &matched);
        if let Some(gives) = matched.gives {
            person.yields.keys = Some(gives);
        }
        let code = matched.code.map_or_else(|| self.no_code(), |code| ChosenCode::Verified(code, None));
        let next = self.second(person, first, code, now);
        if self.chain().is_some_and(|chain| chain.code_only) {
            return next;
        }
        SettlingGuess { right: true, then: Settled::State(Box::new(next)) }.into()
    }

    /// The first text that the proof fits, and how many were compared.
    fn compare(&self, person: &Candidate, kept: &Kept, now: Moment) -> (Option<Match>, usize) {
        let Some(chain) = self.chain() else { return (None, 0) };
        let mut tried = 0;
        let mut fits = |candidate: &Kept, code: Option<VerifiedCode>| {
            tried += 1;
            let gives = self.fits(candidate)?;
            Some(Match { code, gives })
        };
        let alone = |form: &Form| form.has_password() && !form.has_code() && !form.has_factor();
        if !chain.code_only
            && (chain.forms.is_empty() || chain.forms.iter().any(alone))
            && let Some(found) = fits(kept, None)
        {
            return (Some(found), tried);
        }
        if let Kept::Text(password) = kept {
            let forms: Vec<_> = chain.forms.iter().filter(|form| form.has_code() && !form.has_pin()).collect();
            for (code, verified) in person.devices().iter().flat_map(|device| device.live(now, &self.site.codes)) {
                for text in forms.iter().filter_map(|form| form.compose(password.expose(), &code)) {
                    if let Some(found) = fits(&Kept::Text(Secret::new(text)), Some(verified.clone())) {
                        return (Some(found), tried);
                    }
                }
            }
        }
        (None, tried)
    }

    /// Whether the request's proof fits; with what MS-CHAPv2 gives for it.
    fn fits(&self, kept: &Kept) -> Option<Option<Box<MsChapProved>>> {
        let Credential::Proof { proof, .. } = &self.request.credential else { return None };
        match (proof, kept) {
            (Proof::Chap(proof), Kept::Text(text)) => proof.proves(text.expose().as_bytes()).then_some(None),
            (Proof::MsChapV2(proof), Kept::Text(text)) => {
                proof.proves(&self.request.typed_name, &nt_hash(text.expose())).map(|gives| Some(Box::new(gives)))
            }
            (Proof::MsChapV2(proof), Kept::NtHash(hash)) => proof.proves(&self.request.typed_name, hash).map(|gives| Some(Box::new(gives))),
            _ => None,
        }
    }
}

/// A source is being asked what it keeps of a password, to compare the proof with.
#[derive(Debug)]
pub(super) struct ComparingProof {
    pub(super) source: SourceRef,
    pub(super) person: Box<Candidate>,
}

impl Station for ComparingProof {
    type Answer = Answer<SecretAnswer>;

    fn need(&self, _: &Login) -> Need {
        Need::Kept { source: self.source, person: Arc::clone(&self.person.person) }
    }

    fn learn(self, login: &mut Login, answer: Answer<SecretAnswer>, now: Moment) -> State {
        let ComparingProof { source, person } = self;
        login.failed_servers(Hop::First, &answer.failed, login.last);
        login.checks.by = Some(source);
        let (name, line) = (login.site.source_name(source).to_owned(), login.source_line(source));
        let by = answer.server.as_deref().map(|server| format!(" ({server})")).unwrap_or_default();
        let kept = match answer.value {
            SecretAnswer::Text(text) => Kept::Text(text),
            SecretAnswer::NtHash(hash) => Kept::NtHash(hash),
            SecretAnswer::NotKept => {
                let said = format!("{name} stores no password of {} that this method can be checked against{by}", person.login);
                login.step(Hop::First, "password", Tone::Bad, now, said, line);
                return login.refuse(Cause::PasswordNotKept, now);
            }
            SecretAnswer::Unavailable(why) => {
                login.step(Hop::First, "password", Tone::Bad, now, format!("{name} could not answer: {}{by}", why.seen), line);
                return login.refuse(why.cause, now);
            }
        };
        login.proved(source, person, &kept, format!(" with the password stored in {name}{by}"), now)
    }
}
