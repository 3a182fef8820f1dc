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

mod fact;
mod first;
mod machine;
mod proof;
mod reading;
mod receive;
mod request;
mod rules;
mod second;
#[cfg(test)]
mod tests;

pub use fact::{Answer, CodeMark, Fact, FailedServer, Found, MarkAnswer, Need, PasswordAnswer, PersonAnswer, TokensAnswer, Unavailable};
pub use machine::{Login, Next, Timer};
pub use proof::{Accept, FirstProved, RequestAuthentic, Second, SecondProved, SecondWaived};
pub use request::{Credential, Request};

use crate::cause::Cause;

/// How a login ends.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// Let in, with everything that had to be proved.
    Accept(Box<Accept>),
    /// Not let in.
    Refuse(Refusal),
}

/// A refusal. On the wire all look alike; the cause is for the operator.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// Why.
    pub cause: Cause,
    /// What the person at the keyboard reads: the same words for every cause, with the reference of the trace.
    pub message: String,
}
