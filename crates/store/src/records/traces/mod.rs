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
use bivector_model::trace::{Origin, Outcome};
use serde::Deserialize;
use utoipa::IntoParams;

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
