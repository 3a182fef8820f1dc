//! Approvals: what a handset is shown, and what waits.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a person sees of an approval, and signs. The handset signs these very bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Shown {
    /// The approval, as sixteen hex digits.
    pub id: String,
    /// Where it is a login to.
    pub site: String,
    /// Who is logging in: the name for display.
    pub name: String,
    /// The login name.
    pub login: String,
    /// Through which gateway.
    pub gateway: String,
    /// From where, as the gateway tells it; empty if it does not.
    pub from: String,
    /// When it was asked, in microseconds since 1970 by the service's clock.
    pub at_us: u64,
    /// Until when it can be answered.
    pub until_us: u64,
    /// The numbers to pick from; the right one stands on the person's screen. Empty where the gateway shows none.
    pub numbers: Vec<u8>,
    /// Whether a security key must prove the answer.
    pub with_key: bool,
    /// How many requests a yes lets in: more than one if the same caller has asked again.
    #[serde(default = "one")]
    pub requests: u32,
    /// When each of these requests came, in microseconds since 1970 by the service's clock.
    #[serde(default)]
    pub asked_us: Vec<u64>,
    /// Whether the password has not been checked yet: too many wrong ones were typed for the person, and a yes lets this one be tried.
    #[serde(default)]
    pub before_password: bool,
}

fn one() -> u32 {
    1
}

/// What the person says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Decision {
    /// Yes.
    Approve,
    /// No.
    Deny,
    /// Not the person's own login.
    NotMe,
}

/// A login that waits for somebody's approval.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Waiting {
    /// References of the logins that wait for it: one, and those that joined. Their traces come when they end.
    pub references: Vec<String>,
    /// The person's key.
    pub person: String,
    /// The name for display.
    pub name: String,
    /// Through which gateway.
    pub gateway: String,
    /// The chain.
    pub chain: String,
    /// From where, as the gateway tells it; empty if it does not.
    pub from: String,
    /// When it was asked, in microseconds since 1970.
    pub asked_us: u64,
    /// Until when it can be answered.
    pub until_us: u64,
    /// Whether a security key must prove the answer.
    pub with_key: bool,
    /// Whether a handset of the person is connected now.
    pub heard: bool,
}
