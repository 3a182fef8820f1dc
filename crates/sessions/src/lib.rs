//! Sessions as gateways report them: what a report says, what it means for a session, and why a session ended (RFC 2866, RFC 2869).
//!
//! Nothing here has a socket, a store or a clock.

mod ended;
mod link;
mod report;
mod session;

pub use ended::{Ended, cause_in_words};
pub use link::{class_of, reference_in};
pub use report::{Report, ReportError, ReportKind, Traffic};
pub use session::{Session, Taken};
