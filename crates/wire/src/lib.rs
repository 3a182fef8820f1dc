//! RADIUS bytes and their meaning (RFC 2865, 2869, 3579, 5080, 5997).
//!
//! Decoding is staged, cheapest refusal first: a datagram becomes a [`Packet`] when its lengths add up, and an
//! [`Authentic`] packet when its integrity is proved with the sender's shared secret. What a login means is decided in
//! `bivector-core`; sockets are in `bivector-exchange` and `bivector-service`. Nothing here reads a clock, draws a random
//! number or touches a socket.

mod attribute;
mod dictionary;
mod integrity;
mod packet;
mod password;
mod reply;
mod salted;
mod secret;

pub use attribute::{AttributeError, Value, VendorAttribute, push_attribute, push_split, push_vendor, render};
pub use dictionary::{AttributeType, DataType};
pub use integrity::{Authentic, IntegrityPolicy, NotAuthentic, SharedSecret, authenticate, authenticate_reply};
pub use packet::{Attribute, Attributes, Code, HEADER_LENGTH, MAX_PACKET, Malformed, Packet};
pub use password::{HiddenPasswordError, MAX_PASSWORD, hide_password, reads_like_text, reveal_password};
pub use reply::{Message, TooLong};
pub use salted::{MAX_SALTED, hide_salted, reveal_salted};
pub use secret::Secret;
