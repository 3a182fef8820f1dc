//! What a login learned from outside, kept with its trace so that it can be decided again. Nothing secret is among it: of what was typed
//! only the lengths of its parts are known, of proofs only what they fitted.

use crate::cause::Cause;
use crate::device::CodeKind;
use crate::person::Found;
use serde::{Deserialize, Serialize, Serializer};
use std::sync::Arc;

/// Everything that one login learned.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Facts {
    /// Local port of the door.
    pub port: u16,
    /// Whether a Message-Authenticator proved the request.
    pub signed: bool,
    /// Whether it answered a prompt of an earlier round.
    pub answers_prompt: bool,
    /// Calling-Station-Id.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub station: Option<String>,
    /// What else the gateway sent of itself and of the connection, such as NAS-Port: the attribute's number and its value as shown.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub device: Vec<(u8, String)>,
    /// What each source said of the name.
    pub people: Vec<(String, PersonFact)>,
    /// What the person has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub factors: Option<FactorFacts>,
    /// How the password field was read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub typed: Option<TypedFact>,
    /// What a proof fitted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proof: Option<ProofFact>,
    /// What a source said of the password, or of the proof's.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub passwords: Vec<(String, CheckFact)>,
    /// Whether the code could be marked as used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mark: Option<CheckFact>,
    /// What came of the approval.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub approval: Option<ApprovalFact>,
    /// What came of each code that was sent, by courier.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sent: Vec<(String, CheckFact)>,
    /// What each upstream said.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub upstreams: Vec<(String, UpstreamFact)>,
    /// How the gateway resent the request until it was answered.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub resends: Option<Resends>,
    /// What the person did (`approval`, `typing`, or the courier whose code was typed), and how long that took, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub person_took: Option<(String, u64)>,
    /// How long it took until a handset showed a notification of the approval, in milliseconds since it was asked for.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub woken_ms: Option<u64>,
    /// Whether the gateway had probably left when the person answered.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub gateway_left: bool,
    /// What was typed at the prompt that this round answers.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub answer: Option<AnswerFact>,
    /// Until when the prompt that the login waits at can be answered, in microseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub open_until_us: Option<u64>,
    /// How long the first round took, in microseconds, where others follow.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_took_us: Option<u64>,
    /// The rounds after the first: each answers a prompt of the one before.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rounds: Vec<LaterRound>,
    /// Rounds in the middle that are not kept, because there were too many.
    #[serde(skip_serializing_if = "is_zero")]
    pub rounds_left_out: u32,
}

fn is_zero(number: &u32) -> bool {
    *number == 0
}

/// A round of a login after the first.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct LaterRound {
    /// When it began, in microseconds since the login began.
    pub at_us: u64,
    /// From its request to its answer, in microseconds.
    pub took_us: u64,
    /// How its credential was sent.
    pub method: String,
    /// What it learned.
    pub facts: Facts,
}

/// What was typed at a prompt.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerFact {
    /// Nothing.
    Nothing,
    /// The code that was sent.
    Sent,
    /// A code of one of the person's devices, with the digits of it and of the PIN before it.
    Own(CodeKind, usize, usize),
    /// A factor, by its name in the site file.
    Factor(String),
    /// A text for an upstream, of so many bytes.
    ForUpstream(usize),
    /// Nothing that counts, of so many bytes.
    Wrong(usize),
    /// A new password, or a code of an app that was being set up: neither can be made up.
    Other,
}

/// How a request was resent while its login was in flight.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Resends {
    /// Packets after the first.
    pub count: u32,
    /// From the first packet to the last, in microseconds.
    pub span_us: u64,
    /// From the last packet to the answer, in microseconds.
    pub silent_us: u64,
}

/// What is kept of somebody: everything but where they are reached, of which only stands that it was there.
fn without_contact<S: Serializer>(person: &Arc<Found>, serializer: S) -> Result<S::Ok, S::Error> {
    if person.mail.is_none() && person.phone.is_none() {
        return person.serialize(serializer);
    }
    let there = |value: &Option<String>| value.as_ref().map(|_| "not kept".to_owned());
    Found { mail: there(&person.mail), phone: there(&person.phone), ..(**person).clone() }.serialize(serializer)
}

/// What a source said of a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PersonFact {
    /// It knows the person; of mail and phone only that there is one.
    Found(#[serde(serialize_with = "without_contact")] Arc<Found>),
    /// It knows nobody of that name.
    Nobody,
    /// So many.
    Several(usize),
    /// It knows the person, who may not come in.
    Refused(Cause),
    /// It could not say.
    Down(Cause),
}

/// What the records knew of a person's factors.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct FactorFacts {
    /// Devices and lists: kind, digits, whether a PIN is set.
    pub devices: Vec<(CodeKind, u8, bool)>,
    /// Handsets.
    pub handsets: u32,
    /// Security keys.
    pub keys: u32,
    /// Whether wrong codes had locked the person.
    pub locked: bool,
    /// Whether the device that the person sat at was remembered.
    pub remembered: bool,
}

/// How the password field was read, by lengths.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct TypedFact {
    /// The form that counted; empty where none fitted.
    pub form: String,
    /// Bytes of the password.
    pub password: usize,
    /// Whether the password itself ends in so many digits that a form could take them for a code.
    pub tail: usize,
    /// Digits of the PIN.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pin: Option<usize>,
    /// Digits of the code.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<usize>,
    /// The factor word.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub word: Option<String>,
    /// What the code was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub verdict: Option<CodeFact>,
}

/// What a typed code was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CodeFact {
    /// A live one of the person's, by what kind of device.
    Right(CodeKind),
    /// One of the person's, but of another time; so many seconds off.
    Drifted(i64),
    /// One of the person's that had been used, or had ended.
    Spent,
    /// None of the person's.
    Wrong,
}

/// What a proof fitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProofFact {
    /// The password alone.
    Password,
    /// The password with a live code of this kind behind it.
    WithCode(CodeKind),
    /// Nothing that was compared.
    Nothing,
}

/// A yes, a no or an outage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CheckFact {
    /// Yes.
    Right,
    /// No.
    Wrong,
    /// No, for this reason.
    Refused(Cause),
    /// It could not be told.
    Down(Cause),
}

/// What came of an approval.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ApprovalFact {
    /// Yes, after so many milliseconds.
    Approved(u64),
    /// No.
    Denied,
    /// "That was not me".
    Disowned,
    /// Silence.
    Unanswered,
    /// It could not be asked.
    NotAsked(Cause),
}

/// What an upstream said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum UpstreamFact {
    /// Yes; the attributes that it gave and that may be kept, by number.
    Accepted(Vec<(u8, Vec<u8>)>),
    /// No.
    Refused,
    /// It asked for more.
    Challenged,
    /// It could not be asked.
    Down(Cause),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_mail_and_phone_only_that_they_were_there_is_written_down() {
        let ines = Found { key: "tidehall:ines".into(), mail: Some("ines@northmoor.example".into()), ..Found::default() };
        let written = serde_json::to_string(&PersonFact::Found(Arc::new(ines.clone()))).unwrap();
        assert!(written.contains("tidehall:ines") && !written.contains("northmoor.example"), "{written}");
        let PersonFact::Found(read) = serde_json::from_str(&written).unwrap() else { panic!("{written}") };
        assert_eq!((read.mail.is_some(), read.phone.is_some()), (true, false));
        let unreachable = Found { mail: None, ..ines };
        let written = serde_json::to_string(&PersonFact::Found(Arc::new(unreachable.clone()))).unwrap();
        assert_eq!(serde_json::from_str::<PersonFact>(&written).unwrap(), PersonFact::Found(Arc::new(unreachable)));
    }
}
