//! The password field: all forms are tried, and evidence that costs nothing outside says which reading counts.

use super::noting::typed_fact;
use super::packed::PACKED;
use super::pending::{Kept, KeptSecond};
use bivector_model::cause::Cause;
use bivector_model::device::{CodeLimits, Device, Near, VerifiedCode};
use bivector_model::facts::TypedFact;
use bivector_model::form::{Form, Reading, readings};
use bivector_model::moment::Moment;
use bivector_model::trace::Tone;
use bivector_site::{Chain, FactorKind, WhenUnclear};
use bivector_wire::Secret;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The reading that counts: the one guess for the source, and what became of the code.
#[derive(Debug)]
pub(super) struct Chosen {
    pub(super) guess: Secret<String>,
    pub(super) code: ChosenCode,
    pub(super) tone: Tone,
    /// Names lengths and the form, never contents.
    pub(super) said: String,
    pub(super) noted: TypedFact,
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
    /// It is right; not marked as used yet. With the PIN before it.
    Verified(VerifiedCode, Option<Secret<String>>),
    /// It is the person's, but may not be used.
    Near(Near),
    /// It is none of the person's.
    Wrong,
    /// An upstream has to say.
    ForUpstream(Secret<String>),
    /// A word for another factor was typed.
    Word(FactorKind),
}

impl KeptSecond {
    /// What the next round has to know of a code that is not marked as used.
    pub(super) fn from_code(code: ChosenCode) -> Self {
        match code {
            // Nothing was typed that could be right or wrong: it is asked for once the first check is over.
            ChosenCode::NotAsked | ChosenCode::Missing | ChosenCode::NotEnrolled | ChosenCode::Word(_) => KeptSecond::NotAsked,
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
            ChosenCode::Verified(..) | ChosenCode::NotAsked | ChosenCode::ForUpstream(_) => return None,
            ChosenCode::NotEnrolled => (Cause::NotEnrolled, "the person has no second factor yet".to_owned()),
            ChosenCode::Missing => (Cause::CodeMissing, "no code was entered after the password".to_owned()),
            ChosenCode::Word(_) => (Cause::CodeMissing, "the code must be entered at a prompt".to_owned()),
            ChosenCode::Wrong => (Cause::CodeWrong, "the code matches no device of this person".to_owned()),
            ChosenCode::Near(near) => near_said(near),
        })
    }
}

/// What a code that is nearly right means.
pub(super) fn near_said(near: &Near) -> (Cause, String) {
    match near {
        Near::Drifted(seconds) => {
            let side = if *seconds < 0 { "old" } else { "early" };
            (Cause::CodeDrifted, format!("the code is {} s {side}, outside the accepted window", seconds.abs()))
        }
        Near::Ahead { counter, .. } => (
            Cause::CodeDrifted,
            format!("the code has the device's counter {counter}, too far ahead; the next code would resynchronise it"),
        ),
        Near::Used => (Cause::CodeUsed, "the code is valid but has already been used".to_owned()),
        Near::Ended => (Cause::CodeEnded, "the temporary code has expired".to_owned()),
    }
}

/// Who looks at a text: what the person has, and how generously codes are read.
pub(super) struct Evidence<'e> {
    pub(super) devices: &'e [Device],
    pub(super) now: Moment,
    pub(super) limits: CodeLimits,
}

impl Evidence<'_> {
    pub(super) fn verify(&self, code: &str) -> Option<VerifiedCode> {
        self.devices.iter().find_map(|device| device.verify(code, self.now, &self.limits))
    }

    pub(super) fn near(&self, code: &str) -> Option<Near> {
        self.devices.iter().find_map(|device| device.near(code, self.now, &self.limits))
    }

    /// A code of one of the devices, with the bytes that its PIN takes before it where the device has one.
    pub(super) fn own_code(&self, text: &str, pins: bool) -> Option<(usize, VerifiedCode)> {
        self.devices.iter().find_map(|device| {
            let cut = if pins && device.has_pin { text.len().checked_sub(usize::from(device.digits()))? } else { 0 };
            let (_, code) = text.split_at_checked(cut)?;
            Some((cut, device.verify(code, self.now, &self.limits)?))
        })
    }

    /// Whether a device makes codes of so many digits.
    fn has_digits(&self, digits: usize) -> bool {
        self.devices.iter().any(|device| usize::from(device.digits()) == digits)
    }
}

/// Which reading counts, and why.
struct Choice {
    at: usize,
    code: Option<VerifiedCode>,
    why: &'static str,
}

fn choice(chain: &Chain, all: &[Reading], text: &str, evidence: &Evidence<'_>) -> Option<Choice> {
    let verified = |(at, reading): (usize, &Reading)| {
        let code = evidence.verify(&text[reading.code.clone()?])?;
        Some(Choice { at, code: Some(code), why: "the code is valid" })
    };
    if let Some(proven) = all.iter().enumerate().find_map(verified) {
        return Some(proven);
    }
    if let Some(at) = all.iter().position(|reading| reading.factor.is_some()) {
        return Some(Choice { at, code: None, why: "it contains a factor word of the chain" });
    }
    // Without a device nobody has typed a code, so the whole text is the password.
    let no_device = chain.takes_codes() && evidence.devices.is_empty() && chain.code_upstream().is_none() && !chain.code_only;
    let asked = !chain.second.is_empty();
    let (plain_first, why) = match () {
        () if all.len() == 1 => (true, "it is the only possible reading"),
        () if !asked => (true, "the chain requires no second factor"),
        () if no_device => (true, "the person has no device, so it cannot contain a code"),
        () if chain.when_unclear == WhenUnclear::Plain => (true, "no code is valid, and `when_unclear` is `plain`"),
        () => (false, "no code is valid, and `when_unclear` is `code`"),
    };
    let preferred = |own_digits: bool| {
        all.iter().position(|reading| match &reading.code {
            None => plain_first,
            Some(code) => !plain_first && (!own_digits || evidence.has_digits(code.len())),
        })
    };
    let at = preferred(true).or_else(|| preferred(false)).or((!all.is_empty()).then_some(0))?;
    Some(Choice { at, code: None, why })
}

/// Chooses a reading. Where nobody will read it, what is said and noted of it is left out.
pub(super) fn choose(chain: &Chain, text: &Secret<String>, evidence: &Evidence<'_>, quiet: bool) -> Chosen {
    let text = text.expose().as_str();
    let all = readings(&chain.forms, &chain.spelt, text);
    let asked = !chain.second.is_empty();
    let Some(Choice { at, code, why }) = choice(chain, &all, text, evidence) else {
        let said = format!("{} characters match none of {} forms; treated as the password", text.chars().count(), chain.forms.len());
        let code = if asked { ChosenCode::Missing } else { ChosenCode::NotAsked };
        let noted = typed_fact(text, String::new(), None, None, &code);
        return Chosen { guess: Secret::new(text.to_owned()), code, tone: Tone::Note, said, noted };
    };
    let reading = &all[at];
    let part = |range: &Option<std::ops::Range<usize>>| range.clone().map(|range| Secret::new(text[range].to_owned()));
    let tone = if code.is_some() || !asked || reading.factor.is_some() { Tone::Good } else { Tone::Note };
    let word = reading.factor.and_then(|word| chain.words.get(word)).map(|word| word.means);
    let code = match (code, &reading.code) {
        (Some(code), _) => ChosenCode::Verified(code, part(&reading.pin)),
        _ if !asked => ChosenCode::NotAsked,
        (None, None) => word.map_or(ChosenCode::Missing, ChosenCode::Word),
        (None, Some(range)) => refuted(chain, &text[range.clone()], evidence),
    };
    if quiet {
        let (said, noted) = (String::new(), TypedFact::default());
        return Chosen { guess: part(&reading.password).unwrap_or_default(), code, tone, said, noted };
    }
    let others = if all.len() > 1 { format!(" ({} readings; {why})", all.len()) } else { String::new() };
    let sure = if matches!(code, ChosenCode::Verified(..)) && all.len() == 1 { ": the code is valid" } else { "" };
    let said = format!("{}{sure}{others}", describe(reading, &chain.forms));
    let form = chain.forms.get(reading.form).map(Form::to_string).unwrap_or_default();
    let noted = typed_fact(text, form, Some(reading), reading.factor.and_then(|word| chain.spelt.get(word)), &code);
    Chosen { guess: part(&reading.password).unwrap_or_default(), code, tone, said, noted }
}

/// Reads a password and what was typed in a field of its own beside it: a code, a PIN and a code, or a factor word.
pub(super) fn choose_packed(chain: &Chain, password: &Secret<String>, answer: &Secret<String>, evidence: &Evidence<'_>) -> Chosen {
    let (first, second) = (password.expose().as_str(), answer.expose().trim());
    let text = Secret::new(format!("{first}{second}"));
    let mut reading = Reading { password: Some(0..first.len()), ..Reading::default() };
    let word = chain.words.iter().position(|word| word.word.eq_ignore_ascii_case(second));
    let own = evidence.own_code(second, chain.asks_for_pins());
    let (code, held) = match (own, word.zip(word.and_then(|at| chain.words.get(at)))) {
        _ if chain.second.is_empty() => (ChosenCode::NotAsked, "the second is not asked for"),
        _ if second.is_empty() => (ChosenCode::Missing, "the second is empty"),
        (Some((cut, code)), _) => {
            let pin = (cut > 0).then(|| Secret::new(second.get(..cut).unwrap_or_default().to_owned()));
            reading.pin = (cut > 0).then(|| first.len()..first.len() + cut);
            reading.code = Some(first.len() + cut..text.expose().len());
            (ChosenCode::Verified(code, pin), "the second is a code, which verifies")
        }
        (None, Some((at, word))) => {
            reading.factor = Some(at);
            (ChosenCode::Word(word.means), "the second is a factor word")
        }
        (None, None) => {
            reading.code = Some(first.len()..text.expose().len());
            (refuted(chain, second, evidence), "the second is not a code that verifies")
        }
    };
    let noted = typed_fact(text.expose(), PACKED.to_owned(), Some(&reading), reading.factor.and_then(|word| chain.spelt.get(word)), &code);
    let said = format!("two fields, packed as {PACKED}: {} bytes and {}; {held}", first.len(), second.len());
    Chosen { guess: Secret::new(first.to_owned()), code, tone: Tone::Good, said, noted }
}

/// What a code is that did not verify here.
fn refuted(chain: &Chain, code: &str, evidence: &Evidence<'_>) -> ChosenCode {
    match evidence.near(code) {
        Some(near) => ChosenCode::Near(near),
        None if chain.code_upstream().is_some() => ChosenCode::ForUpstream(Secret::new(code.to_owned())),
        None if evidence.devices.is_empty() => ChosenCode::NotEnrolled,
        None => ChosenCode::Wrong,
    }
}

fn describe(reading: &Reading, forms: &[Form]) -> String {
    let form = forms.get(reading.form).map(Form::to_string).unwrap_or_default();
    let mut parts = Vec::new();
    if let Some(password) = &reading.password {
        parts.push(format!("{} bytes", password.len()));
    }
    if let Some(pin) = &reading.pin {
        parts.push(format!("a PIN of {}", pin.len()));
    }
    match &reading.code {
        Some(code) => parts.push(format!("{} digits", code.len())),
        None if reading.factor.is_some() => parts.push("a factor word".to_owned()),
        None => parts.push("no code".to_owned()),
    }
    format!("read as `{form}`, {}", parts.join(" and "))
}

/// What a text is, looked at without anything being used up.
#[derive(Debug)]
pub struct Looked {
    /// The one guess at the password; empty where the chain's forms have none.
    pub guess: Secret<String>,
    /// How it is read.
    pub said: String,
    /// Whether a code in it is one of the person's that counts now.
    pub code: LookedCode,
}

/// What a code is, looked at without being used up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LookedCode {
    /// A live one; whether it was used before is not looked at.
    Right,
    /// None was typed, or none is asked for here.
    None,
    /// Somebody else has to say.
    Elsewhere,
    /// It would be refused for this reason.
    Refused(Cause, String),
}

/// Looks at a text as the machine would, and uses nothing up.
pub fn look_at(chain: &Chain, text: &Secret<String>, devices: &[Device], limits: CodeLimits, now: Moment) -> Looked {
    let Chosen { guess, code, said, .. } = choose(chain, text, &Evidence { devices, now, limits }, false);
    let code = match &code {
        ChosenCode::Verified(..) => LookedCode::Right,
        ChosenCode::ForUpstream(_) => LookedCode::Elsewhere,
        ChosenCode::NotAsked | ChosenCode::Missing | ChosenCode::NotEnrolled | ChosenCode::Word(_) => LookedCode::None,
        ChosenCode::Near(_) | ChosenCode::Wrong => {
            let (cause, said) = code.why_not().unwrap_or((Cause::CodeWrong, String::new()));
            LookedCode::Refused(cause, said)
        }
    };
    Looked { guess, said, code }
}

/// One reading of a text, with lengths in place of contents.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReadingView {
    /// The form.
    pub form: String,
    /// Characters of the password, if the form has one.
    pub password: Option<usize>,
    /// Digits of the PIN, if the form has one.
    pub pin: Option<usize>,
    /// Digits of the code, if the form has one.
    pub code: Option<usize>,
    /// The factor that its word chooses.
    pub factor: Option<String>,
    /// Whether this reading counts.
    pub counts: bool,
    /// Why it does.
    pub why: Option<String>,
}

/// All readings of a text by a chain's forms, and which one counts for somebody with these devices.
pub fn explain_readings(chain: &Chain, text: &Secret<String>, devices: &[Device], limits: CodeLimits, now: Moment) -> Vec<ReadingView> {
    let text = text.expose().as_str();
    let all = readings(&chain.forms, &chain.spelt, text);
    let chosen = choice(chain, &all, text, &Evidence { devices, now, limits });
    let view = |(at, reading): (usize, &Reading)| {
        let counts = chosen.as_ref().filter(|chosen| chosen.at == at);
        ReadingView {
            form: chain.forms.get(reading.form).map(Form::to_string).unwrap_or_default(),
            password: reading.password.clone().map(|range| text[range].chars().count()),
            pin: reading.pin.as_ref().map(ExactSizeIterator::len),
            code: reading.code.as_ref().map(ExactSizeIterator::len),
            factor: reading.factor.and_then(|word| chain.spelt.get(word)).cloned(),
            counts: counts.is_some(),
            why: counts.map(|chosen| chosen.why.to_owned()),
        }
    };
    all.iter().enumerate().map(view).collect()
}
