//! Messages that leave the service: codes and links by couriers, and push messages. Each delivery has one time limit and one clear outcome;
//! a receiver that is slow or down holds up nobody else's.

pub mod courier;
mod failed;
mod gate;
mod push;
pub mod trust;

pub use gate::Gates;
pub use push::{PushSender, Sent, Wire, in_words};
