//! EAP inside RADIUS logins: the server's side of a conversation, and a peer for rehearsals and tests (RFC 3748, 5216, 5281, 9190, 9427).
//!
//! A [`Conversation`] carries out one method with the person's device and yields a credential. It decides nothing: what the credential
//! is worth is decided by the login machine, which is told of it by the door. Nothing here has a socket, a clock or a timer. TLS comes
//! from `rustls`, which gets and gives bytes here; it is the one thing in this crate that draws random numbers.
//!
//! # Call contract
//! 1. [`Conversation::begin`] with the identity that the gateway sent; it gives the first request for the peer.
//! 2. [`Conversation::receive`] with each response. [`Turn`] says what to do: send a request, decide a credential, or end.
//! 3. After [`Turn::Decide`], one of [`Conversation::ask`], [`Conversation::accept`] and [`Conversation::refuse`]. Each gives a further
//!    request for the peer, or none if the conversation can end at once.
//! 4. A response to the request before the last one is a duplicate: the last request is given again.

mod basic;
mod describe;
mod framing;
mod inner;
mod peap;
mod peer;
mod server;
mod sessions;
mod tls;
mod ttls;
mod tunneled;

#[cfg(test)]
mod conversation_tests;

pub use peer::{Peer, PeerSettings, PeerTurn};
pub use server::{Conversation, Ended, Given, GivenCredential, Note, Settings, Turn};
pub use sessions::{SessionOf, Sessions};
pub use tls::{alert_in_words, failed as certificate_failed};

use bivector_model::Cause;
use bivector_wire::Secret;

/// The key that both sides share after a method with keys: 64 bytes (RFC 3748 section 7.10).
pub type Msk = Secret<Vec<u8>>;

/// Bytes of the Master Session Key.
pub const MSK: usize = 64;

/// Why a conversation cannot go on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failed {
    /// The cause.
    pub cause: Cause,
    /// What was seen, for the trace.
    pub said: String,
}

impl Failed {
    pub(crate) fn new(cause: Cause, said: impl Into<String>) -> Self {
        Failed { cause, said: said.into() }
    }

    pub(crate) fn malformed(said: impl Into<String>) -> Self {
        Failed::new(Cause::EapMalformed, said)
    }
}

/// Fills a buffer with bytes that nobody can foresee.
pub type Random<'r> = &'r mut dyn FnMut(&mut [u8]);
