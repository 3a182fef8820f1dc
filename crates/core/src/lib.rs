//! The computation of Bivector: what a site means and how a login is decided.
//!
//! Nothing here does I/O, reads a clock or draws a random number: time comes in as [`Moment`], answers from outside as
//! [`login::Fact`]s. The service and the simulation drive the same [`login::Login`]. Bytes are in `bivector-wire`; sockets,
//! directories and records are in `bivector-service`.

pub mod addresses;
pub mod attempts;
pub mod budget;
pub mod cause;
pub mod device;
pub mod directory;
pub mod doctor;
pub mod duplicates;
pub mod facts;
pub mod form;
pub mod grant;
pub mod identity;
pub mod ladder;
pub mod login;
pub mod matrix;
pub mod moment;
pub mod probe;
pub mod prompt;
pub mod radius;
pub mod rehearsal;
pub mod replay;
pub mod rule;
pub mod run;
pub mod sheet;
pub mod simulate;
pub mod site;
pub mod starter;
pub mod text;
pub mod totp;
pub mod trace;

pub use cause::{Cause, Fault};
pub use moment::Moment;
