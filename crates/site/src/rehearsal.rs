//! Rehearsals: which logins are tried, what is typed in them, what must come of each, and how what came is compared with that.

use crate::Method;
use bivector_model::cause::Cause;
use bivector_model::trace::Outcome;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::time::Duration;
use utoipa::ToSchema;

/// A person that exists for rehearsals. What it knows is sealed; what it holds may be played by the run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Persona {
    /// Its name in rehearsals.
    pub name: String,
    /// What it types as its name.
    pub login: String,
    /// Name of the sealed password.
    pub password: Option<String>,
    /// What shows its codes.
    pub codes: Option<Codes>,
    /// Whether a simulated handset answers for it.
    pub handset: bool,
    /// Name of the secret with its certificate and key as PEM.
    pub certificate: Option<String>,
    /// Its line in the site file.
    pub line: u32,
}

/// What shows a persona's codes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Codes {
    /// A token that the run itself plays: known to the logins of rehearsals only.
    Robot,
    /// The seed of an enrolled device, by the name of the secret: base32, six digits every thirty seconds.
    Seed(String),
    /// A code that never changes, as old hardware behind an upstream has it, by the name of the secret.
    Fixed(String),
}

impl Persona {
    /// Names of its sealed secrets.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        let codes = match &self.codes {
            Some(Codes::Seed(name) | Codes::Fixed(name)) => Some(name.as_str()),
            _ => None,
        };
        self.password.as_deref().into_iter().chain(codes)
    }
}

/// A list of logins with what must come of each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rehearsal {
    /// Its name.
    pub name: String,
    /// The logins, in the order in which they are told.
    pub logins: Vec<RehearsedLogin>,
    /// Its line in the site file.
    pub line: u32,
}

/// One login of a rehearsal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RehearsedLogin {
    /// What it shows, in a few words; unique in its rehearsal.
    pub title: String,
    /// Index of the persona in the site.
    pub persona: usize,
    /// What is typed as the name, where that is not the persona's own.
    pub typed_name: Option<String>,
    /// The gateway that it comes through, by its index in the site.
    pub via: usize,
    /// How the credential is sent.
    pub method: Method,
    /// What is typed in the password field.
    pub typed: Typed,
    /// What is typed at each prompt.
    pub answers: Vec<Typed>,
    /// What the simulated handset does.
    pub handset: Option<HandsetDoes>,
    /// What is wrong with it on purpose.
    pub twist: Option<Twist>,
    /// Waits of the site that are shorter in this login, so that nobody has to sit them out.
    pub waits: ShortWaits,
    /// The address of the person's own program, as the gateway would tell it.
    pub caller: Option<String>,
    /// The identity outside the tunnel of an EAP method, where it is not the name.
    pub outer: Option<String>,
    /// Whose certificate the device shows, where it is not the persona's own.
    pub certificate: Option<OtherCertificate>,
    /// Sessions that the person has already, for the limit of the grant.
    pub sessions: u64,
    /// What must come of it.
    pub expect: Expect,
    /// Its line in the site file.
    pub line: u32,
}

/// A certificate that is not the persona's own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OtherCertificate {
    /// None is shown.
    None,
    /// That of another persona, by its name.
    Of(String),
}

/// Waits that are shorter in one rehearsed login than in the site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ShortWaits {
    /// How long a prompt may be answered.
    pub prompt: Option<Duration>,
    /// How long an approval may take.
    pub approval: Option<Duration>,
}

/// A text with placeholders for values that only the run knows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Typed {
    /// Its parts in order.
    pub parts: Vec<TypedPart>,
}

/// A part of what is typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TypedPart {
    /// As it stands.
    Text(String),
    /// The persona's password.
    Password,
    /// A password that is not the persona's.
    WrongPassword,
    /// The code that counts now, or so many codes later.
    Code(u8),
    /// A code that is none of the persona's.
    WrongCode,
    /// The code that a courier has just carried to the persona.
    Sent,
}

/// A text that cannot be typed, and why.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct TypedError(String);

impl Typed {
    /// Places that may stand in braces.
    pub const PLACES: &'static str = "`{password}`, `{wrong-password}`, `{code}`, `{code+1}`, `{wrong}`, `{sent}`";

    /// Reads a text; `{{` and `}}` stand for the braces themselves.
    ///
    /// # Errors
    /// A place that does not exist, or a brace without its partner.
    pub fn parse(text: &str) -> Result<Self, TypedError> {
        let (mut parts, mut plain, mut rest) = (Vec::new(), String::new(), text);
        while let Some(at) = rest.find(['{', '}']) {
            plain.push_str(&rest[..at]);
            let brace = &rest[at..=at];
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix(brace) {
                plain.push_str(brace);
                rest = after;
                continue;
            }
            if brace == "}" {
                return Err(TypedError("unmatched `}`; write `}}` for a literal brace".to_owned()));
            }
            let unclosed = || TypedError("a `{` is not closed; write `{{` for a brace itself".to_owned());
            let (place, after) = rest.split_once('}').ok_or_else(unclosed)?;
            if !plain.is_empty() {
                parts.push(TypedPart::Text(std::mem::take(&mut plain)));
            }
            parts.push(
                TypedPart::named(place)
                    .ok_or_else(|| TypedError(format!("`{{{place}}}` is not a placeholder; known: {}", Self::PLACES)))?,
            );
            rest = after;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            parts.push(TypedPart::Text(plain));
        }
        Ok(Typed { parts })
    }

    /// Whether a part stands in it.
    pub fn has(&self, is: impl Fn(&TypedPart) -> bool) -> bool {
        self.parts.iter().any(is)
    }

    /// The text, each part filled in by `fill`; nothing if one cannot be.
    pub fn fill(&self, mut fill: impl FnMut(&TypedPart) -> Option<String>) -> Option<String> {
        self.parts.iter().map(|part| if let TypedPart::Text(text) = part { Some(text.clone()) } else { fill(part) }).collect()
    }
}

impl TypedPart {
    fn named(place: &str) -> Option<Self> {
        Some(match place {
            "password" => TypedPart::Password,
            "wrong-password" => TypedPart::WrongPassword,
            "code" => TypedPart::Code(0),
            "code+1" => TypedPart::Code(1),
            "wrong" => TypedPart::WrongCode,
            "sent" => TypedPart::Sent,
            _ => return None,
        })
    }

    /// Whether it needs the persona's codes.
    pub fn needs_codes(&self) -> bool {
        matches!(self, TypedPart::Code(_))
    }
}

/// What a simulated handset does with an approval.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HandsetDoes {
    /// Its answer; none is silence.
    pub answer: Option<HandsetAnswer>,
    /// After how long, once it shows the approval.
    pub after: Duration,
    /// Where the phone is.
    pub phone: SimulatedPhone,
}

/// How a simulated phone comes to show an approval.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SimulatedPhone {
    /// Its page is open.
    #[default]
    Open,
    /// It is in a pocket, and shows a push message after so long.
    Asleep(Duration),
    /// It is in a pocket and shows no push messages: the person does not allow them.
    PushRefused,
}

/// An answer of a simulated handset.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HandsetAnswer {
    /// Yes, with the number that the gateway shows, if it shows one.
    Approve,
    /// Yes, with another number than the gateway shows.
    WrongNumber,
    /// No.
    Deny,
}

impl HandsetDoes {
    /// How it is written.
    pub const WAYS: &'static str = "\"approve\", \"deny\", \"ignore\", \"wrong-number\", or \"approve after 3s\"; for a phone in a pocket, \
                                    \"asleep 3s, approve\" or \"push refused, approve\"";

    /// How long passes until the person answers, as far as the phone and the person make it.
    pub fn holds(&self) -> Duration {
        match self.phone {
            SimulatedPhone::Asleep(asleep) => asleep + self.after,
            SimulatedPhone::Open | SimulatedPhone::PushRefused => self.after,
        }
    }

    /// Reads `approve`, `deny after 3s`, `ignore`, and the same after `asleep 3s, ` or `push refused, `.
    pub fn parse(text: &str) -> Option<Self> {
        let (phone, text) = match text.split_once(',') {
            Some((phone, text)) => (Some(phone.trim()), text.trim()),
            // A phone in a pocket approves once it is woken.
            None if text.starts_with("asleep ") || text == "push refused" => (Some(text), "approve"),
            None => (None, text),
        };
        let phone = match phone {
            None => SimulatedPhone::Open,
            Some("push refused") => SimulatedPhone::PushRefused,
            Some(phone) => SimulatedPhone::Asleep(crate::read_duration(phone.strip_prefix("asleep ")?.trim())?),
        };
        let (word, after) = match text.split_once(" after ") {
            Some((word, after)) => (word, crate::read_duration(after.trim())?),
            None => (text, Duration::ZERO),
        };
        let answer = match word.trim() {
            "approve" => Some(HandsetAnswer::Approve),
            "wrong-number" => Some(HandsetAnswer::WrongNumber),
            "deny" => Some(HandsetAnswer::Deny),
            "ignore" if after.is_zero() => None,
            _ => return None,
        };
        Some(HandsetDoes { answer, after, phone })
    }
}

/// What is wrong with a rehearsed login on purpose.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Twist {
    /// It is signed with another secret than the gateway's.
    WrongSecret,
    /// It comes from an address that is no gateway's.
    Stranger,
    /// It is sent again, as a new login with the same text, once the first was accepted; the second counts.
    SameAgain,
    /// Its prompt is answered after it has ended.
    LateAnswer,
    /// Its prompt is answered under another name.
    ForeignAnswer,
    /// As many wrong codes come before it as lock somebody.
    Locked,
    /// Its device offers no TLS version from 1.2 on.
    OldTls,
}

impl Twist {
    /// All of them, with their words in site files.
    pub const ALL: &'static [(&'static str, Twist)] = &[
        ("wrong-secret", Twist::WrongSecret),
        ("stranger", Twist::Stranger),
        ("same-again", Twist::SameAgain),
        ("late-answer", Twist::LateAnswer),
        ("foreign-answer", Twist::ForeignAnswer),
        ("locked", Twist::Locked),
        ("old-tls", Twist::OldTls),
    ];

    /// Its word in site files.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, twist)| *twist == self).map_or("", |(word, _)| word)
    }

    /// Whether a prompt must come first.
    pub fn needs_prompt(self) -> bool {
        matches!(self, Twist::LateAnswer | Twist::ForeignAnswer)
    }

    /// Whether nothing is answered, as the standard wants it.
    pub fn is_met_with_silence(self) -> bool {
        matches!(self, Twist::WrongSecret | Twist::Stranger)
    }
}

/// What must come of a login. What is not given may be anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expect {
    /// How it ends.
    pub outcome: Outcome,
    /// Why, where it does not end in an accept.
    pub cause: Option<Cause>,
    /// The grant.
    pub grant: Option<String>,
    /// Attributes that the reply carries, by name and value.
    pub attributes: Vec<(String, String)>,
    /// Attributes that it does not carry.
    pub absent: Vec<String>,
    /// The second factor that let the person in.
    pub factor: Option<String>,
    /// The source that knew the person.
    pub source: Option<String>,
    /// The longest that it may take, from the first packet to the last answer, without the robots' own waits.
    pub within: Option<Duration>,
}

impl Default for Expect {
    fn default() -> Self {
        Expect {
            outcome: Outcome::Accepted,
            cause: None,
            grant: None,
            attributes: Vec::new(),
            absent: Vec::new(),
            factor: None,
            source: None,
            within: None,
        }
    }
}

/// The words for outcomes in expectations.
pub const OUTCOMES: &[(&str, Outcome)] =
    &[("accept", Outcome::Accepted), ("refuse", Outcome::Refused), ("challenge", Outcome::Challenged), ("silence", Outcome::Silent)];

/// What came of a login.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Seen {
    /// How it ended, as the gateway sees it.
    pub outcome: Outcome,
    /// Why, unless it was accepted.
    pub cause: Option<Cause>,
    /// The grant.
    pub grant: Option<String>,
    /// Attributes of the reply, as people read them: name and value.
    pub attributes: Vec<SeenAttribute>,
    /// The second factor that was given, or why none was asked for.
    pub factor: Option<String>,
    /// Whether the second factor was really given.
    pub factor_given: bool,
    /// The source that knew the person.
    pub source: Option<String>,
    /// From the first packet to the last answer, in microseconds, without the robots' own waits.
    pub took_us: u64,
}

/// An attribute of a reply, as people read it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeenAttribute {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// Something that came otherwise than it must.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Mismatch {
    /// What it is about: `outcome`, `cause`, `grant`, an attribute's name, `factor`, `source`, `time`.
    pub what: String,
    /// What must come.
    pub wanted: String,
    /// What came.
    pub seen: String,
}

impl fmt::Display for Mismatch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: expected {}, got {}", self.what, self.wanted, self.seen)
    }
}

impl Expect {
    /// How it ends, in the words of the site file.
    pub fn said(&self) -> String {
        let word = OUTCOMES.iter().find(|(_, outcome)| *outcome == self.outcome).map_or("", |(word, _)| word);
        match (&self.cause, &self.grant) {
            (Some(cause), _) => format!("{word}: {cause}"),
            (None, Some(grant)) => format!("{word} with {grant}"),
            (None, None) => word.to_owned(),
        }
    }

    /// Everything that came otherwise.
    pub fn differences(&self, seen: &Seen) -> Vec<Mismatch> {
        let mut found = Vec::new();
        let mut differs = |what: &str, wanted: &str, seen: &str| {
            found.push(Mismatch { what: what.to_owned(), wanted: wanted.to_owned(), seen: seen.to_owned() });
        };
        if self.outcome != seen.outcome {
            differs("outcome", self.outcome.slug(), seen.outcome.slug());
        }
        // An accept without a cause that was not even accepted says why in the same breath.
        let cause = seen.cause.map_or("none", Cause::slug);
        if self.cause.map_or(self.outcome != seen.outcome && seen.cause.is_some(), |wanted| seen.cause != Some(wanted)) {
            differs("cause", self.cause.map_or("none", Cause::slug), cause);
        }
        if self.outcome != seen.outcome {
            // What an accept would carry is no news then.
            return found;
        }
        let mut same = |what: &str, wanted: &Option<String>, seen: &Option<String>| {
            if let Some(wanted) = wanted
                && seen.as_ref() != Some(wanted)
            {
                differs(what, wanted, seen.as_deref().unwrap_or("none"));
            }
        };
        same("grant", &self.grant, &seen.grant);
        same("source", &self.source, &seen.source);
        if let Some(wanted) = &self.factor {
            // A second factor that was not really asked for never counts as proven.
            if seen.factor.as_ref() != Some(wanted) || !seen.factor_given {
                differs("factor", wanted, seen.factor.as_deref().unwrap_or("none"));
            }
        }
        for (name, wanted) in &self.attributes {
            let values: Vec<&str> = seen.attributes.iter().filter(|seen| seen.name == *name).map(|seen| seen.value.as_str()).collect();
            if !values.contains(&wanted.as_str()) {
                differs(name, wanted, &if values.is_empty() { "nothing".to_owned() } else { values.join(", ") });
            }
        }
        for name in &self.absent {
            if let Some(seen) = seen.attributes.iter().find(|seen| seen.name == *name) {
                differs(name, "nothing", &seen.value);
            }
        }
        if let Some(within) = self.within
            && u128::from(seen.took_us) > within.as_micros()
        {
            differs("time", &format!("within {:.1} s", within.as_secs_f64()), &format!("{:.1} s", seen.took_us as f64 / 1e6));
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn seen() -> Seen {
        Seen {
            outcome: Outcome::Accepted,
            cause: None,
            grant: Some("control-room".into()),
            attributes: [("Class", "control-room"), ("Filter-Id", "no-ping")]
                .map(|(name, value)| SeenAttribute { name: name.into(), value: value.into() })
                .to_vec(),
            factor: Some("totp".into()),
            factor_given: true,
            source: Some("tidehall".into()),
            took_us: 3_000_000,
        }
    }

    #[test]
    fn each_expectation_that_is_not_met_is_told_with_what_was_seen() {
        let met = Expect {
            grant: Some("control-room".into()),
            attributes: vec![("Class".into(), "control-room".into())],
            absent: vec!["Session-Timeout".into()],
            factor: Some("totp".into()),
            source: Some("tidehall".into()),
            within: Some(Duration::from_secs(3)),
            ..Expect::default()
        };
        assert_eq!(met.differences(&seen()), []);
        let missed = Expect {
            outcome: Outcome::Accepted,
            cause: Some(Cause::CodeUsed),
            grant: Some("survey".into()),
            attributes: vec![("Class".into(), "survey".into()), ("Session-Timeout".into(), "60".into())],
            absent: vec!["Filter-Id".into()],
            factor: Some("approval".into()),
            source: Some("roster".into()),
            within: Some(Duration::from_secs(2)),
        };
        let told: Vec<String> = missed.differences(&seen()).iter().map(ToString::to_string).collect();
        assert_eq!(
            told,
            [
                "cause: expected code-used, got none",
                "grant: expected survey, got control-room",
                "source: expected roster, got tidehall",
                "factor: expected approval, got totp",
                "Class: expected survey, got control-room",
                "Session-Timeout: expected 60, got nothing",
                "Filter-Id: expected nothing, got no-ping",
                "time: expected within 2.0 s, got 3.0 s",
            ]
        );
    }

    #[test]
    fn another_outcome_is_told_with_its_cause_and_nothing_beside_it() {
        let expect = Expect { grant: Some("survey".into()), within: Some(Duration::from_millis(1)), ..Expect::default() };
        let refused = Seen { outcome: Outcome::Refused, cause: Some(Cause::CodeUsed), ..seen() };
        let told: Vec<String> = expect.differences(&refused).iter().map(ToString::to_string).collect();
        assert_eq!(told, ["outcome: expected accepted, got refused", "cause: expected none, got code-used"]);
    }

    #[test]
    fn a_factor_that_was_only_remembered_proves_nothing() {
        let expect = Expect { factor: Some("totp".into()), ..Expect::default() };
        assert_eq!(expect.differences(&Seen { factor_given: false, ..seen() }).len(), 1);
        assert_eq!(expect.differences(&seen()), []);
    }

    #[test]
    fn what_is_typed_has_its_places_and_mistakes_in_it_are_named() {
        let typed = Typed::parse("{password},{{x}}{code+1}").unwrap();
        let wanted = [TypedPart::Password, TypedPart::Text(",{x}".into()), TypedPart::Code(1)];
        assert_eq!(typed.parts, wanted);
        assert_eq!(typed.fill(|part| part.needs_codes().then(|| "123456".to_owned()).or(Some("kelp".into()))).unwrap(), "kelp,{x}123456");
        assert_eq!(typed.fill(|part| (!part.needs_codes()).then(String::new)), None);
        for wrong in ["{pasword}", "{password", "a}b", "{}"] {
            assert!(Typed::parse(wrong).is_err(), "{wrong}");
        }
        for (text, after) in [("approve", 0), ("deny after 3s", 3), ("wrong-number after 1s", 1)] {
            assert_eq!(HandsetDoes::parse(text).unwrap().after, Duration::from_secs(after));
        }
        assert_eq!(HandsetDoes::parse("ignore").unwrap().answer, None);
        assert!(HandsetDoes::parse("approve in a while").is_none() && HandsetDoes::parse("approve after soon").is_none());
    }

    proptest! {
        #[test]
        fn any_text_can_be_typed_or_is_refused_and_plain_text_stays_as_it_is(text in "[{}a-z+0-9 ,-]{0,30}") {
            if let Ok(typed) = Typed::parse(&text) {
                prop_assert!(typed.fill(|_| Some("x".into())).is_some());
            }
            let doubled = text.replace('{', "{{").replace('}', "}}");
            prop_assert_eq!(Typed::parse(&doubled).unwrap().fill(|_| None).unwrap(), text);
        }
    }
}
