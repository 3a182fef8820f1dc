//! Traces: gathered for a moment after the answer, then written many at once, and read by what their chunks hold.

mod chunk;
mod keep;
mod made_up;
mod query;
#[cfg(test)]
mod tests;

pub use chunk::Entry;
pub(super) use chunk::FULL;
pub use keep::{Added, tidy_traces};
pub(super) use keep::{Buffer, append_step, chunks, insert_chunks, insert_replaced, newest, take_over};

use bivector_model::Cause;
use bivector_model::facts::Facts;
use bivector_model::trace::{Origin, Outcome, Step, Trace};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// The newest login of a gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Newest {
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// How it ended.
    pub outcome: Outcome,
    /// Why, unless it was accepted.
    pub cause: Option<Cause>,
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

/// Which traces to list.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct TraceFilter {
    /// A person's login name.
    pub person: Option<String>,
    /// A reference, or the beginning of a login name.
    pub q: Option<String>,
    /// A gateway's name.
    pub gateway: Option<String>,
    /// A chain's name.
    pub chain: Option<String>,
    /// `accepted`, `refused`, `silent`, or `waiting` for logins that wait at a prompt.
    pub outcome: Option<String>,
    /// A cause's slug.
    pub cause: Option<String>,
    /// Only those that this revision decided; 0 for a draft.
    pub revision: Option<u64>,
    /// Only those from `gateway`, `rehearsal` or `page`.
    pub origin: Option<String>,
    /// Whether rehearsed logins are listed; they are if this is left out.
    pub rehearsed: Option<bool>,
    /// Only those that began at or after this, in microseconds since 1970.
    pub since_us: Option<u64>,
    /// Only those that began before this.
    pub until_us: Option<u64>,
    /// Only traces with a number below this: the next page.
    pub before: Option<u64>,
    /// Only traces with a number above this: what is new.
    pub after: Option<u64>,
    /// How many, 1 to 500; 50 if left out.
    pub limit: Option<u32>,
}
