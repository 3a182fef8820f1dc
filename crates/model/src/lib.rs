//! The values that logins are decided with: what a name, a password field, a code, a rule, a grant, a cause and a trace are.
//!
//! Nothing here does I/O, reads a clock or draws a random number.

pub mod addresses;
pub mod attempts;
pub mod cause;
pub mod condition;
pub mod device;
pub mod directory;
pub mod facts;
pub mod filter;
pub mod form;
pub mod grant;
pub mod identity;
pub mod keeping;
pub mod moment;
pub mod person;
pub mod pool;
pub mod prompt;
pub mod rule;
pub mod text;
pub mod totp;
pub mod trace;

pub use cause::{Cause, Fault};
pub use moment::Moment;
