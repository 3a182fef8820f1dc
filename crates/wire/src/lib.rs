//! RADIUS bytes and their meaning (RFC 2548, 2759, 2865, 2869, 3079, 3579, 5080, 5997).
//!
//! Decoding is staged, cheapest refusal first: a datagram becomes a [`Packet`] when its lengths add up, and an
//! [`Authentic`] packet when its integrity is proved with the sender's shared secret. What a login means is decided in
//! `bivector-core`; sockets are in `bivector-exchange` and `bivector-service`. Nothing here reads a clock, draws a random
//! number or touches a socket.

mod attribute;
mod chap;
mod dictionary;
pub mod eap;
mod integrity;
mod mschap;
mod packet;
mod password;
mod reply;
mod salted;
mod secret;
mod words;

pub use attribute::{AttributeError, Value, VendorAttribute, push_attribute, push_split, push_vendor, read_shown, render};
pub use chap::{ChapError, ChapProof, chap_password};
pub use dictionary::{AttributeType, DataType};
pub use integrity::{Authentic, IntegrityPolicy, NotAuthentic, SharedSecret, authenticate, authenticate_accounting, authenticate_reply};
pub use mschap::{
    MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP_ERROR, MS_CHAP_RESPONSE, MS_CHAP2_RESPONSE, MS_CHAP2_SUCCESS, MsChapError, MsChapProof,
    MsChapProved, NtHash, ms_chap_error, nt_hash,
};
pub use packet::{Attribute, Attributes, Code, HEADER_LENGTH, MAX_PACKET, Malformed, Packet};
pub use password::{HiddenPasswordError, MAX_PASSWORD, hide_password, reads_like_text, reveal_password};
pub use reply::{Message, TooLong};
pub use salted::{MAX_SALTED, hide_salted, reveal_salted};
pub use secret::Secret;
pub use words::in_words;
