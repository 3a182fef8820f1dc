//! Runs logins: `bivector_core::login` says what it needs, and [`driver`] answers from sources, people in memory, approvals and the records.
//! No protocol is known here: doors bring requests, and [`ending`] does what follows every verdict.

pub mod approvals;
pub mod conversations;
pub mod driver;
pub mod ending;
pub mod guesses;
pub mod handset;
pub mod hashing;
pub mod invitations;
pub mod learned;
pub mod live;
pub mod names;
pub mod push;
pub mod roster;
pub mod runs;
pub mod sessions;
pub mod shared;
pub mod signins;
pub mod sources;
pub mod stage;
pub mod tries;
