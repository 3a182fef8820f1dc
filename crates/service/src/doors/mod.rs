//! Where Bivector listens.

mod holder;
mod knocks;
pub mod radius;
mod reply;

pub use holder::who_holds;
