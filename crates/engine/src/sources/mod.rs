//! Sources for the first check that are outside this process.

mod change;
pub mod courier;
pub mod directory;
mod handshake;
mod members;
mod pool;
pub mod probe;
mod standing;
mod trouble;
pub(crate) mod trust;
pub mod upstream;

pub use trust::{certificate_days, days_of};
