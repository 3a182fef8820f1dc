//! The long-running service: doors that receive, sources that are asked, records that are kept, and the HTTP API.
//!
//! A login's way: [`doors`] → `bivector_core::login` ⇄ [`driver`] (sources, roster, records) → reply → trace. What decides is
//! in `bivector-core`; here is only what reaches outside.

pub mod api;
pub mod apply;
pub mod approvals;
pub mod clock;
pub mod confirm;
pub mod console;
mod conversations;
pub mod doctor;
pub mod doors;
pub mod drill;
pub mod driver;
pub mod edit;
pub mod edits;
mod ending;
pub mod error;
pub mod guesses;
pub mod handset;
pub mod hashing;
pub mod http;
pub mod invitations;
mod learned;
pub mod live;
pub mod locate;
mod lookup;
pub mod metrics;
pub mod names;
pub mod operators;
pub mod people;
mod prune;
pub mod records;
pub mod rehearsal;
pub mod roster;
pub mod seal;
pub mod sendings;
pub mod serve;
pub mod sessions;
pub mod shared;
pub mod signins;
pub mod sources;
pub mod tls;
pub mod tries;

pub use error::ServiceError;
pub use serve::{Options, Running, start};
