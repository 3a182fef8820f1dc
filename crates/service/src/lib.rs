//! Puts the service together: start, stop, upkeep.

pub mod serve;
mod upkeep;

pub use bivector_store::ServiceError;
pub use serve::{Options, Running, start};
