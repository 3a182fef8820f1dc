//! The login machine: one login, decided step by step from facts.
//!
//! # Call contract
//! 1. [`Login::begin`] with an authentic request.
//! 2. Ask [`Login::next`]. It says what to do, and says the same until something new is told:
//!    - [`Next::Ask`]: answer the [`Need`] outside, then tell it with [`Login::learn`]. "No answer" is an answer too.
//!    - [`Next::Wait`]: call [`Login::wake`] when that moment has come.
//!    - [`Next::Decided`]: call [`Login::finish`]; it gives the [`Verdict`] and the trace.
//! 3. `now` never goes back within one login.
//!
//! A fact that nobody asked for ends the login as refused with `unfinished`; it never lets anybody in.

#[cfg(test)]
mod approval_tests;
mod approving;
mod asking;
mod candidate;
mod change;
#[cfg(test)]
mod conversation_tests;
mod enrolling;
#[cfg(test)]
mod exploration_tests;
mod fact;
#[cfg(test)]
mod field_tests;
mod first;
mod granting;
mod guessing;
#[cfg(test)]
mod guessing_tests;
#[cfg(test)]
mod inside_tests;
mod machine;
mod noting;
mod packed;
mod pending;
mod proof;
mod prove;
mod reading;
mod receive;
mod request;
mod resume;
mod rounds;
#[cfg(test)]
mod rounds_tests;
mod rules;
mod second;
#[cfg(test)]
mod second_tests;
#[cfg(test)]
mod tests;
mod upstream;

pub use asking::masked;
pub use fact::*;
pub use machine::{Login, Next, Timer};
pub use packed::{PACKED, pack};
pub use pending::Pending;
pub use proof::{Accept, FirstProved, Granted, RequestAuthentic, Second, SecondProved, SecondWaived};
pub use reading::{Looked, LookedCode, ReadingView, explain_readings, look_at};
pub use request::{Context, Credential, Inside, Proof, Protocol, Request, VerifiedCertificate};
pub use upstream::{Given, HiddenKind, HiddenValue, PassedCredential, UpstreamAnswer, UpstreamAsk};

use bivector_model::cause::Cause;

/// How a login ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// Let in, with everything that had to be proved.
    Accept(Box<Accept>),
    /// Not decided: the person is asked for more.
    Challenge(Challenge),
    /// Not let in.
    Refuse(Refusal),
}

/// A prompt. The answer comes in a new request that carries `state`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Challenge {
    /// What the person reads; none where an upstream gave none.
    pub prompt: Option<String>,
    /// Whether what is typed may be shown while it is: not for codes and passwords (RFC 2869 section 5.10).
    pub echo: bool,
    /// Whether the prompt holds something that must not stand in a trace, such as the key of a new app.
    pub secret: bool,
    /// Leads back to this login, once.
    pub state: Vec<u8>,
    /// RADIUS attributes that an upstream supplied for it, encoded.
    pub attributes: Vec<u8>,
}

/// A refusal. On the wire all look alike; the cause is for the operator.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// Why.
    pub cause: Cause,
    /// What the person at the keyboard reads: the same words for every cause, with the reference of the trace.
    pub message: String,
    /// Whether the person's program may ask for the password anew in the same session, where the method knows such a thing.
    pub may_retry: bool,
    /// RADIUS attributes of an upstream's own refusal that the method needs, encoded.
    pub attributes: Vec<u8>,
}
