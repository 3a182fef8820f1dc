//! Sources for the first check that are outside this process.

pub mod directory;
mod handshake;
mod pool;
pub mod probe;
mod trouble;
mod trust;

pub use pool::Health;
