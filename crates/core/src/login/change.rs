//! Changing an expired password while logging in: asked for twice, then set in the directory.

use super::candidate::Candidate;
use super::fact::{Answer, ChangeAnswer, Need};
use super::machine::{Asks, Login, State, Station};
use super::pending::{Kept, KeptSecond, Round};
use super::proof::FirstProved;
use super::request::Credential;
use bivector_model::cause::Cause;
use bivector_model::facts::AnswerFact;
use bivector_model::moment::Moment;
use bivector_model::prompt::Text;
use bivector_model::trace::{Hop, Tone};
use bivector_site::SourceRef;
use bivector_wire::Secret;
use std::sync::Arc;

/// How often a new password may be refused before the login is.
const TRIES: u8 = 3;

/// A person who is being asked for a new password.
#[derive(Debug)]
pub(super) struct Asked {
    pub(super) source: SourceRef,
    pub(super) person: Box<Candidate>,
    pub(super) second: KeptSecond,
    pub(super) old: Secret<String>,
    /// The new one, once it was typed the first time.
    pub(super) new: Option<Secret<String>>,
    pub(super) tries: u8,
}

impl Login {
    /// Whether a person whose password has expired may set a new one now; says which option is missing where not. Only who has given the
    /// second proof is asked.
    pub(super) fn may_change(&mut self, source: SourceRef, cause: Cause, now: Moment) -> bool {
        if !matches!(cause, Cause::PasswordExpired | Cause::PasswordMustChange) {
            return false;
        }
        let (chain, gateway) = (self.chain(), self.gateway());
        let missing = match (source, chain, gateway) {
            (SourceRef::Directory(_), Some(chain), Some(gateway)) => {
                let option = match (chain.change_password, self.shows_prompts()) {
                    (true, true) => return true,
                    (false, true) => format!("`change_password = true` on the chain `{}`", chain.name),
                    (true, false) => format!("`shows_challenges = true` on the gateway `{}`, if it can show prompts", gateway.name),
                    (false, false) => format!(
                        "`change_password = true` on the chain `{}` and `shows_challenges = true` on the gateway `{}`, if it can show prompts",
                        chain.name, gateway.name
                    ),
                };
                (
                    format!("a new password could be asked for here with {option}"),
                    if chain.change_password { gateway.line } else { chain.line },
                )
            }
            (_, Some(chain), _) => (format!("Bivector cannot change passwords of {}", self.site.source_name(source)), chain.line),
            _ => return false,
        };
        self.step(Hop::First, "new password", Tone::Note, now, missing.0, Some(missing.1));
        false
    }

    /// Asks for the new password, for the first or the second time.
    pub(super) fn ask_new_password(&mut self, asked: Asked, why: Option<&str>, now: Moment) -> State {
        let (text, why) = match (&asked.new, why) {
            (None, None) => (Text::NewPassword, ""),
            (None, Some(why)) => (Text::NotTaken, why),
            (Some(_), _) => (Text::NewPasswordAgain, ""),
        };
        let language = self.gateway().map_or("", |gateway| gateway.language.as_str());
        let prompt = self.site.texts.say(language, text, &[("why", why)]);
        self.step(Hop::First, "new password", Tone::Note, now, format!("prompt: \"{prompt}\""), None);
        let round = Round::NewPassword {
            second: asked.second,
            old: Kept::new(&asked.old),
            new: asked.new.as_ref().map(Kept::new),
            tries: asked.tries,
        };
        self.keep(asked.source, asked.person, round, Asks::of(prompt, false), now)
    }

    /// The answer to the prompt.
    pub(super) fn new_password(&mut self, mut asked: Asked, now: Moment) -> State {
        let typed = match &self.request.credential {
            Credential::Text(text) => self.charset_text(text),
            _ => None,
        };
        self.note_answer(AnswerFact::Other);
        let Some(typed) = typed.filter(|typed| !typed.expose().is_empty()) else {
            return self.ask_password_again(asked, "nothing was entered", now);
        };
        match asked.new.take() {
            None => {
                if typed.expose() == asked.old.expose() {
                    return self.ask_password_again(asked, "the new password equals the old one", now);
                }
                asked.new = Some(typed);
                self.ask_new_password(asked, None, now)
            }
            Some(first) if first.expose() != typed.expose() => self.ask_password_again(asked, "the two entries differ", now),
            Some(_) => ChangingPassword { new: typed, asked }.into(),
        }
    }

    fn ask_password_again(&mut self, mut asked: Asked, why: &str, now: Moment) -> State {
        asked.tries += 1;
        asked.new = None;
        if asked.tries >= TRIES {
            self.step(Hop::First, "new password", Tone::Bad, now, format!("stopped after {TRIES} attempts; the last: {why}"), None);
            return self.refuse(Cause::PasswordNotChanged, now);
        }
        self.ask_new_password(asked, Some(why), now)
    }
}

/// The directory is setting the new password.
#[derive(Debug)]
pub(super) struct ChangingPassword {
    new: Secret<String>,
    asked: Asked,
}

impl Station for ChangingPassword {
    type Answer = Answer<ChangeAnswer>;

    fn need(&self, _: &Login) -> Need {
        let Asked { source, person, old, .. } = &self.asked;
        Need::ChangePassword { source: *source, person: Arc::clone(&person.person), old: old.clone(), new: self.new.clone() }
    }

    fn learn(self, login: &mut Login, answer: Answer<ChangeAnswer>, now: Moment) -> State {
        let asked = self.asked;
        login.failed_servers(Hop::First, &answer.failed, login.last);
        let source = login.site.source_name(asked.source).to_owned();
        let line = login.source_line(asked.source);
        let by = answer.server.as_deref().map(|server| format!(" ({server})")).unwrap_or_default();
        match (&answer.value, FirstProved::by_change(asked.source, &answer.value)) {
            (_, Some(first)) => {
                login.step(Hop::First, "new password", Tone::Good, now, format!("{source} accepted the new password{by}"), line);
                login.second_kept(asked.person, first, asked.second, now)
            }
            (ChangeAnswer::NotTaken(why), _) => {
                login.step(Hop::First, "new password", Tone::Warn, now, format!("{source} rejected the new password: {why}{by}"), line);
                let why = why.clone();
                login.ask_password_again(asked, &why, now)
            }
            (ChangeAnswer::Unavailable(why), _) => {
                let said = format!("{source} could not change the password: {}{by}", why.seen);
                login.step(Hop::First, "new password", Tone::Bad, now, said, line);
                login.refuse(Cause::PasswordNotChanged, now)
            }
            (ChangeAnswer::Changed, None) => login.refuse(Cause::Unfinished, now),
        }
    }
}
