//! Sources for the first check that are outside this process.

pub mod directory;
mod pool;
mod trouble;
mod trust;
