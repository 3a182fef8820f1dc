//! What is told about a site and its logins, from facts that were gathered elsewhere.

pub mod doctor;
pub mod ladder;
pub mod probe;
pub mod run;
pub mod sheet;
pub mod starter;
