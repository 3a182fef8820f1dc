//! The password field: all forms are tried, and evidence that costs nothing outside says which reading counts.

use super::pending::{Kept, KeptSecond};
use crate::cause::Cause;
use crate::form::{Form, Reading, readings};
use crate::moment::Moment;
use crate::site::{Chain, WhenUnclear};
use crate::totp::{Token, VerifiedCode};
use crate::trace::Tone;
use bivector_wire::Secret;

/// The reading that counts: the one guess for the source, and what became of the code.
#[derive(Debug)]
pub(super) struct Chosen {
    pub(super) guess: Secret<String>,
    pub(super) code: ChosenCode,
}

/// What became of the code.
#[derive(Debug)]
pub(super) enum ChosenCode {
    /// The chain asks for none.
    NotAsked,
    /// The person has nothing that could make one.
    NotEnrolled,
    /// None was typed.
    Missing,
    /// It is right; not marked as used yet.
    Verified(VerifiedCode),
    /// It is the person's, from another time.
    Drifted { seconds: i64, allowed: u64 },
    /// It is none of the person's.
    Wrong,
    /// An upstream has to say.
    ForUpstream(Secret<String>),
}

impl KeptSecond {
    /// What the next round has to know of a code that is not marked as used.
    pub(super) fn from_code(code: ChosenCode) -> Self {
        match code {
            ChosenCode::NotAsked => KeptSecond::NotAsked,
            ChosenCode::ForUpstream(code) => KeptSecond::ForUpstream(Kept::new(&code)),
            other => other
                .why_not()
                .map_or(KeptSecond::Refused(Cause::Unfinished, String::new()), |(cause, said)| KeptSecond::Refused(cause, said)),
        }
    }
}

impl ChosenCode {
    /// Why it lets nobody in, unless it may.
    pub(super) fn why_not(&self) -> Option<(Cause, String)> {
        Some(match self {
            ChosenCode::Verified(_) | ChosenCode::NotAsked | ChosenCode::ForUpstream(_) => return None,
            ChosenCode::NotEnrolled => (Cause::NotEnrolled, "the person has no second factor yet".to_owned()),
            ChosenCode::Missing => (Cause::CodeMissing, "no code was typed behind the password".to_owned()),
            ChosenCode::Wrong => (Cause::CodeWrong, "the code is none of this person's".to_owned()),
            ChosenCode::Drifted { seconds, allowed } => {
                let side = if *seconds < 0 { "old" } else { "early" };
                (Cause::CodeDrifted, format!("the code is {} s {side}; {allowed} steps to each side are allowed", seconds.abs()))
            }
        })
    }
}

/// Chooses a reading. The sentence names lengths and the form, never contents.
pub(super) fn choose(chain: &Chain, text: &Secret<String>, tokens: &[Token], now: Moment, window: u64) -> (Chosen, Tone, String) {
    let text = text.expose().as_str();
    let all = readings(&chain.forms, text);
    let asked = !chain.second.is_empty();
    let proven = all.iter().find_map(|reading| verified(reading, text, tokens, now, window).map(|code| (reading, code)));
    if let Some((reading, code)) = proven {
        let said = format!("{}: the code verifies", describe(reading, &chain.forms));
        return (chosen(reading, text, ChosenCode::Verified(code)), Tone::Good, said);
    }
    // Without a token nobody has typed a code, so the whole text is the password.
    let here = chain.takes_codes();
    let plain_first = !asked || here && tokens.is_empty() || chain.when_unclear == WhenUnclear::Plain;
    let preferred = all.iter().find(|reading| reading.code.is_none() == plain_first).or(all.first());
    let Some(reading) = preferred else {
        let whole = Chosen { guess: Secret::new(text.to_owned()), code: if asked { ChosenCode::Missing } else { ChosenCode::NotAsked } };
        return (
            whole,
            Tone::Note,
            format!("{} characters fit none of {} forms; taken as the password", text.chars().count(), chain.forms.len()),
        );
    };
    let code = match &reading.code {
        _ if !asked => ChosenCode::NotAsked,
        _ if here && tokens.is_empty() => ChosenCode::NotEnrolled,
        None => ChosenCode::Missing,
        Some(range) if !here => ChosenCode::ForUpstream(Secret::new(text[range.clone()].to_owned())),
        Some(range) => refuted(&text[range.clone()], tokens, now, window),
    };
    let others = if all.len() > 1 { format!(" ({} readings, none with a code that verifies)", all.len()) } else { String::new() };
    let tone = if asked { Tone::Note } else { Tone::Good };
    (chosen(reading, text, code), tone, format!("{}{others}", describe(reading, &chain.forms)))
}

fn chosen(reading: &Reading, text: &str, code: ChosenCode) -> Chosen {
    Chosen { guess: Secret::new(text[reading.password.clone()].to_owned()), code }
}

fn verified(reading: &Reading, text: &str, tokens: &[Token], now: Moment, window: u64) -> Option<VerifiedCode> {
    let code = &text[reading.code.clone()?];
    tokens.iter().find_map(|token| token.verify(code, now, window))
}

/// Why a code that did not verify did not.
fn refuted(code: &str, tokens: &[Token], now: Moment, window: u64) -> ChosenCode {
    let drifted = tokens.iter().find_map(|token| token.drift(code, now, window));
    drifted.map_or(ChosenCode::Wrong, |seconds| ChosenCode::Drifted { seconds, allowed: window })
}

fn describe(reading: &Reading, forms: &[Form]) -> String {
    let form = forms.get(reading.form).map(Form::to_string).unwrap_or_default();
    match &reading.code {
        Some(code) => format!("read as `{form}`, {} bytes and {} digits", reading.password.len(), code.len()),
        None => format!("read as `{form}`, {} bytes and no code", reading.password.len()),
    }
}
