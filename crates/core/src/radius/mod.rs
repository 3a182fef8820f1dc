//! Logins over RADIUS: an Access-Request read as a request of the login machine, and the machine's answer written as a message.
//!
//! The machine itself ([`crate::login`]) knows nothing of packets; a test holds that it does not use this module. No sockets here: the door
//! that receives and sends is the service's.

mod read;
mod reply;
#[cfg(test)]
mod tests;

pub use read::{Arrival, read};
pub use reply::EapAnswer;
pub use reply::Reply;
#[cfg(test)]
pub(crate) use reply::accept_attributes;
