//! Logins that an operator tries.

use crate::traces::TraceView;
use bivector_site::Method;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A login to try.
#[derive(Deserialize, ToSchema)]
pub struct LoginRequest {
    /// The name as it would be typed; a persona's own if left out.
    #[serde(default)]
    pub person: String,
    /// The gateway that it comes through.
    pub via: String,
    /// What would be typed in the password field, or at a prompt.
    #[serde(default)]
    pub password: String,
    /// The persona of the site whose sealed password and robots are used instead.
    #[serde(default)]
    pub persona: Option<String>,
    /// What the persona types, with placeholders as in a rehearsal; `{password}{code}` or `{password}` if left out.
    #[serde(default)]
    pub typed: Option<String>,
    /// What the persona types at each prompt, with placeholders as in a rehearsal; inside EAP, what anybody types.
    #[serde(default)]
    pub answers: Vec<String>,
    /// What the persona's simulated handset does, such as `approve after 3s`.
    #[serde(default)]
    pub handset: Option<String>,
    /// The state of the prompt that this answers, as it came back.
    #[serde(default)]
    pub state: Option<String>,
    /// How the password is sent: as text, or as a proof of it. Answers to prompts go as text.
    #[serde(default)]
    pub method: TriedMethod,
    /// The address of the person's own program, as the gateway would tell it in Calling-Station-Id.
    #[serde(default)]
    pub caller: Option<String>,
    /// With an EAP method: the identity outside the tunnel; the name if left out.
    #[serde(default)]
    pub outer: Option<String>,
}

/// A method that can be tried from here, by its name in site files. `eap` is only begun: what goes on inside it is between the person's
/// device and an upstream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(value_type = String, example = "eap-ttls-pap")]
pub struct TriedMethod(pub Method);

impl Default for TriedMethod {
    fn default() -> Self {
        TriedMethod(Method::Pap)
    }
}

impl std::str::FromStr for TriedMethod {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        let names = || Method::ALL.iter().map(|method| method.name()).collect::<Vec<_>>().join(", ");
        let found = Method::ALL.iter().find(|method| method.name() == name);
        found.map(|method| TriedMethod(*method)).ok_or_else(|| format!("unknown method `{name}`; known: {}", names()))
    }
}

impl Serialize for TriedMethod {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0.name())
    }
}

impl<'de> Deserialize<'de> for TriedMethod {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let name = String::deserialize(deserializer)?;
        name.parse().map_err(serde::de::Error::custom)
    }
}

/// An attribute of the reply, as a person reads it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ReplyAttribute {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
    /// What it means to the gateway, where the standard says so.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub means: Option<String>,
}

/// What came of a tried login.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Tried {
    /// `Access-Accept`, `Access-Reject`, or nothing where the gateway would have given up.
    pub reply: Option<String>,
    /// What a prompt's answer must carry, where the reply is Access-Challenge.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub state: Option<String>,
    /// All attributes of the reply.
    pub attributes: Vec<ReplyAttribute>,
    /// How often the request was sent.
    pub sends: u32,
    /// From the first send to the answer, in microseconds.
    pub took_us: u64,
    /// Answers that did not count, each with the reason.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub discarded: Vec<String>,
    /// The trace, if there is one.
    pub trace: Option<TraceView>,
}

impl From<TriedMethod> for Method {
    fn from(method: TriedMethod) -> Self {
        method.0
    }
}
