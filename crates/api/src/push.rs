//! How handsets can be woken by push messages.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whether a handset can be woken by push.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PushState {
    /// Nothing was set up.
    #[default]
    None,
    /// The handset has subscribed; the person has not confirmed a test notification yet.
    Untested,
    /// The person has confirmed a test notification.
    Ready,
    /// The person does not allow notifications.
    Refused,
    /// The browser cannot receive push messages.
    Unsupported,
    /// The push service no longer knows the handset, or the handset has unsubscribed.
    Ended,
}

impl PushState {
    /// All of them.
    pub const ALL: [PushState; 6] =
        [PushState::None, PushState::Untested, PushState::Ready, PushState::Refused, PushState::Unsupported, PushState::Ended];

    /// Its name in records, API and command line.
    pub fn name(self) -> &'static str {
        match self {
            PushState::None => "none",
            PushState::Untested => "untested",
            PushState::Ready => "ready",
            PushState::Refused => "refused",
            PushState::Unsupported => "unsupported",
            PushState::Ended => "ended",
        }
    }

    /// From its name; what a later version may add counts as none.
    pub fn named(name: &str) -> Self {
        Self::ALL.into_iter().find(|state| state.name() == name).unwrap_or_default()
    }
}

/// How a handset can be woken, for operators.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushView {
    /// Whether it can be.
    pub state: PushState,
    /// What that means, and what to do about it if it cannot.
    pub said: String,
    /// The push service, by host; none without a subscription.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub service: Option<String>,
    /// When the handset was last heard from, in microseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub heard_us: Option<u64>,
    /// When the last message was sent, in microseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub sent_us: Option<u64>,
    /// What the push service said to it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub result: Option<String>,
    /// When the handset last showed a notification, in microseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub shown_us: Option<u64>,
}

/// What became of a test message.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushTested {
    /// Whether the push service has accepted it.
    pub accepted: bool,
    /// What was seen, in a sentence.
    pub said: String,
    /// Milliseconds that the push service took to answer.
    pub took_ms: u64,
}

/// The key that messages are signed with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PushKeyView {
    /// The public key, as an uncompressed point of P-256 in base64url.
    pub public: String,
    /// When it was made, in microseconds since 1970.
    pub made_us: u64,
    /// Whether it is the one that phones subscribe with now.
    pub current: bool,
    /// Handsets that have subscribed with it.
    pub handsets: usize,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn states_come_back_by_their_names() {
        for state in PushState::ALL {
            assert_eq!(PushState::named(state.name()), state);
            assert_eq!(serde_json::to_string(&state).unwrap(), format!("\"{}\"", state.name()));
        }
        assert_eq!(PushState::named("later"), PushState::None);
    }
}
