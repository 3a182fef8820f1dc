//! Traces of logins.

use bivector_model::Cause;
use bivector_model::facts::{Facts, LaterRound};
use bivector_model::trace::{Origin, Outcome, Step, Trace};
use bivector_wire::AttributeType;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// One trace with its steps, its cause in words and the remedy.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct TraceView {
    /// The login.
    #[serde(flatten)]
    pub row: TraceRow,
    /// The cause in a sentence.
    pub sentence: Option<String>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// The line of the site file that decided against it, where one did.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<u32>,
    /// That line as it stood in the revision that decided.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line_text: Option<String>,
    /// What the gateway sent of itself and of the connection, such as NAS-Port and Calling-Station-Id.
    #[serde(default)]
    pub device: Vec<DeviceLine>,
    /// Its rounds, where there was more than one: the first request, and the answers to prompts.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub rounds: Vec<RoundView>,
    /// Its steps in order, over all rounds.
    pub steps: Vec<Step>,
}

/// One round of a login.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RoundView {
    /// When it began, in microseconds since the login began.
    pub at_us: u64,
    /// From its request to its answer, in microseconds.
    pub took_us: u64,
    /// How its credential was sent.
    pub method: String,
}

/// An attribute of the request that says where it comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DeviceLine {
    /// Its name.
    pub attribute: String,
    /// Its value.
    pub value: String,
}

/// A trace as listed: everything but its steps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TraceRow {
    /// Its number; later logins have higher ones.
    pub id: u64,
    /// See [`Trace`].
    pub reference: String,
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// Where it came from.
    pub origin: Origin,
    /// The gateway's name.
    pub gateway: String,
    /// The address that sent it.
    pub sender: String,
    /// The chain's name.
    pub chain: String,
    /// The name as it was typed.
    pub typed_name: String,
    /// The login name, once a source knew it; else the typed name in lower case.
    pub login: String,
    /// The person's key, once a source knew it.
    pub person: Option<String>,
    /// The authentication method.
    pub method: String,
    /// The source that knew the person.
    pub source: Option<String>,
    /// How it ended.
    pub outcome: Outcome,
    /// Why, unless it was accepted.
    pub cause: Option<Cause>,
    /// The grant it got.
    pub grant: Option<String>,
    /// The second factor that was given.
    #[serde(default)]
    pub factor: Option<String>,
    /// Why no second factor was asked for, where none was.
    #[serde(default)]
    pub waived: Option<String>,
    /// The revision that decided it.
    pub revision: u64,
}

/// How logins ended.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoginCounts {
    /// Access-Accept.
    pub accepted: u64,
    /// Access-Challenge: they wait at a prompt.
    pub challenged: u64,
    /// Access-Reject.
    pub refused: u64,
    /// No answer.
    pub silent: u64,
}

/// Failures over time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Failures {
    /// When the first span begins, in microseconds since 1970.
    pub since_us: u64,
    /// How long each span is.
    pub span_us: u64,
    /// All logins of each span that has some, by the span's number.
    pub logins: BTreeMap<u64, u64>,
    /// Failures by span, cause and gateway.
    pub failed: Vec<FailedSpan>,
}

/// Failures of one cause at one gateway in one span of time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FailedSpan {
    /// The span's number.
    pub at: u64,
    /// The cause.
    pub cause: String,
    /// The gateway.
    pub gateway: String,
    /// How many.
    pub count: u64,
}

impl TraceRow {
    /// The row of a trace.
    pub fn of(id: u64, trace: Trace) -> Self {
        let key = trace.person.as_deref().and_then(|person| person.split_once(':')).map(|(_, login)| login.to_owned());
        TraceRow {
            id,
            login: key.unwrap_or_else(|| trace.typed_name.to_lowercase()),
            reference: trace.reference,
            began_us: trace.began_us,
            took_us: trace.took_us,
            origin: trace.origin,
            gateway: trace.gateway,
            sender: trace.sender,
            chain: trace.chain,
            typed_name: trace.typed_name,
            person: trace.person,
            method: trace.method,
            source: trace.source,
            outcome: trace.outcome,
            cause: trace.cause,
            grant: trace.grant,
            factor: trace.factor,
            waived: trace.waived,
            revision: trace.revision,
        }
    }
}

impl TraceRow {
    /// The whole trace again.
    pub fn with(self, steps: Vec<Step>, facts: Facts) -> Trace {
        Trace {
            reference: self.reference,
            began_us: self.began_us,
            took_us: self.took_us,
            origin: self.origin,
            gateway: self.gateway,
            sender: self.sender,
            chain: self.chain,
            typed_name: self.typed_name,
            person: self.person,
            method: self.method,
            source: self.source,
            outcome: self.outcome,
            cause: self.cause,
            grant: self.grant,
            factor: self.factor,
            waived: self.waived,
            revision: self.revision,
            steps,
            facts: Box::new(facts),
        }
    }
}

impl RoundView {
    /// All rounds of a login that had more than one.
    pub fn all_of(method: &str, facts: &Facts) -> Vec<Self> {
        let first = RoundView { at_us: 0, took_us: facts.first_took_us.unwrap_or_default(), method: method.to_owned() };
        let view = |round: &LaterRound| RoundView { at_us: round.at_us, took_us: round.took_us, method: round.method.clone() };
        match facts.rounds.is_empty() {
            true => Vec::new(),
            false => std::iter::once(first).chain(facts.rounds.iter().map(view)).collect(),
        }
    }
}

impl DeviceLine {
    /// What the gateway sent of itself.
    pub fn all_of(facts: &Facts) -> Vec<Self> {
        let station = facts.station.iter().map(|station| (u8::from(AttributeType::CallingStationId), station));
        let others = facts.device.iter().map(|(number, value)| (*number, value));
        others
            .chain(station)
            .map(|(number, value)| DeviceLine { attribute: AttributeType::from(number).to_string(), value: value.clone() })
            .collect()
    }
}
