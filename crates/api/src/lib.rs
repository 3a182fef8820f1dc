//! The types that the API and its clients share: requests and answers, nothing else.
//!
//! They hold no secrets but those that a request brings or an answer gives once, and no behaviour beyond reading themselves from what the
//! decision crates know.

pub mod approvals;
pub mod audit;
pub mod chains;
pub mod directories;
pub mod events;
pub mod explain;
pub mod gateways;
pub mod knocks;
pub mod logins;
pub mod operators;
pub mod people;
pub mod problem;
pub mod push;
pub mod readings;
pub mod runs;
pub mod secrets;
pub mod sessions;
pub mod site;
pub mod status;
pub mod timing;
pub mod traces;
