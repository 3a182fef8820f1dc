//! Web Push: which push services may be asked, what is sent to them, and how it is encrypted and signed (RFC 8030, 8188, 8291, 8292).
//!
//! The mathematics comes from maintained packages; this crate says in which order the standards want it. Nothing here opens a socket,
//! reads a clock or draws a random number.

mod endpoint;
mod message;
mod notice;
mod vapid;

pub use endpoint::{COMMON_SERVICES, Endpoint, EndpointError, Service, ServiceError, Services, is_internal};
pub use message::{DecryptError, EncryptError, KeyError, MAX_PLAIN, Receiver, Recipient, decrypt, encrypt};
pub use notice::{Buttons, Notice, NoticeKind};
pub use vapid::{Claims, SigningKey, TokenError, authorization, check_authorization};
