//! Sources for the first check that are outside this process.

mod change;
pub mod directory;
mod handshake;
mod members;
mod pool;
pub mod probe;
mod standing;
mod trouble;
pub mod upstream;

pub use bivector_outbound::trust::{certificate_days, days_of};
