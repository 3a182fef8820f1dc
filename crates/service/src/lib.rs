//! Puts the service together: start, stop, upkeep.

pub mod serve;
mod upkeep;

pub use bivector_doors::who_holds;
pub use bivector_http::api::description;
pub use bivector_store::ServiceError;
pub use bivector_store::folder::TOKEN_FILE;
pub use bivector_store::metrics::render as figures;
pub use bivector_store::records::Sync;
pub use bivector_store::seal::random;
pub use serve::{Options, Running, start};
