//! Everything that is kept: the records (one SQLite file), secrets encrypted at rest, and what all parts of the service share: its clock, its
//! errors and its figures.

pub mod agreement;
pub mod clock;
pub mod error;
pub mod folder;
pub mod lookup;
pub mod metrics;
pub mod records;
pub mod seal;

pub use error::ServiceError;
