//! How a login is decided. Nothing here does I/O, reads a clock or draws a random number: time comes in as a
//! [`Moment`](bivector_model::Moment), answers from outside as [`login::Fact`]s. The service and the simulation drive the same
//! [`login::Login`].

pub mod duplicates;
pub mod login;
pub mod radius;
pub mod replay;
