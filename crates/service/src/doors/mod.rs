//! Where Bivector listens.

pub mod accounting;
mod holder;
mod knocks;
pub mod radius;
mod reply;

pub use holder::who_holds;
