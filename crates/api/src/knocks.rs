//! Packets that got no answer, by sender and reason.

use bivector_model::Cause;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Packets from one sender that were dropped for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Knock {
    /// The address, without port.
    pub sender: String,
    /// Why they were dropped.
    pub cause: Cause,
    /// The gateway of that address, if it has one.
    pub gateway: String,
    /// How many.
    pub count: u64,
    /// First time, in microseconds since 1970.
    pub first_us: u64,
    /// Last time.
    pub last_us: u64,
    /// What was seen the last time.
    pub said: String,
    /// The gateway it may be, with the reason, if the packet gives one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub guess: Option<Guess>,
}

/// Which gateway an unknown sender may be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Guess {
    /// The gateway's name.
    pub gateway: String,
    /// Why.
    pub why: String,
}
