//! Where Bivector listens.

mod holder;
pub mod radius;
mod reply;

pub use holder::who_holds;
