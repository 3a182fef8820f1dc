//! How sessions are kept, and how a gateway is told to end one.

use std::net::SocketAddr;
use std::time::Duration;

/// How sessions are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionKeeping {
    /// How long a session may be silent before it counts as lost.
    pub lost_after: Duration,
    /// How many at most; each takes about 1 KiB on disk. Open ones are never removed.
    pub count: u64,
    /// How long after their end at most; none for as long as there is room.
    pub time: Option<Duration>,
}

impl Default for SessionKeeping {
    fn default() -> Self {
        SessionKeeping { lost_after: Duration::from_secs(86_400), count: 1_000_000, time: None }
    }
}

/// Where a gateway takes requests to end or change a session (RFC 5176).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DynamicAuthorization {
    /// Its address and port.
    pub to: SocketAddr,
    /// Name of the sealed secret, where it is not that of its logins.
    pub secret: Option<String>,
    /// Its line.
    pub line: u32,
}
