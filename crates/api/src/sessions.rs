//! Sessions.

use bivector_sessions::{Ended, Traffic};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A session of a gateway.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionRow {
    /// Its number; later sessions have higher ones.
    pub id: u64,
    /// The gateway.
    pub gateway: String,
    /// The gateway's own name for it (Acct-Session-Id).
    pub session: String,
    /// The name that it is under.
    pub name: String,
    /// The person's key, once its login is known.
    pub person: Option<String>,
    /// The reference of the login that it came from.
    pub reference: Option<String>,
    /// The chain of that login.
    pub chain: Option<String>,
    /// The grant of that login.
    pub grant: Option<String>,
    /// The second factor of that login.
    pub factor: Option<String>,
    /// The addresses and prefixes that the user has.
    pub addresses: Vec<String>,
    /// Where the user comes from (Calling-Station-Id).
    pub caller: String,
    /// What the user called (Called-Station-Id).
    pub called: String,
    /// The port of the gateway.
    pub port: String,
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// When the gateway last told of it, in microseconds since 1970.
    pub heard_us: u64,
    /// When it ended, in microseconds since 1970; none while it goes on.
    pub ended_us: Option<u64>,
    /// How it ended.
    pub ended: Option<Ended>,
    /// Why it ended, in words.
    pub why: Option<String>,
    /// What went over the line.
    pub traffic: Traffic,
    /// Something in the gateway's reports that cannot be right.
    pub odd: Option<String>,
    /// Who asked the gateway to end it, and why.
    pub asked: Option<String>,
}

/// A page of sessions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SessionPage {
    /// The sessions, newest first.
    pub sessions: Vec<SessionRow>,
    /// What to give as `before` for the next page; none on the last one.
    pub next: Option<u64>,
}

/// Which sessions are wanted. All conditions must hold.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SessionFilter {
    /// `open`, `ended` or `lost`; all otherwise.
    #[serde(default)]
    pub state: Option<String>,
    /// A gateway's name.
    #[serde(default)]
    pub gateway: Option<String>,
    /// A person's key, or the name that the session is under.
    #[serde(default)]
    pub person: Option<String>,
    /// An address that the user has.
    #[serde(default)]
    pub address: Option<String>,
    /// The reference of a login.
    #[serde(default)]
    pub reference: Option<String>,
    /// Began at or after this moment, in microseconds since 1970.
    #[serde(default)]
    pub since_us: Option<u64>,
    /// Began before this moment, in microseconds since 1970.
    #[serde(default)]
    pub until_us: Option<u64>,
    /// Only numbers below this one.
    #[serde(default)]
    pub before: Option<u64>,
    /// How many; 100 unless said otherwise, 1,000 at most.
    #[serde(default)]
    pub limit: Option<u32>,
}

/// How many sessions there were over time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionChart {
    /// The moment of the first figure, in microseconds since 1970.
    pub since_us: u64,
    /// The time between two figures, in microseconds.
    pub span_us: u64,
    /// Open sessions at each moment.
    pub open: Vec<u64>,
    /// Sessions that began since the moment before.
    pub began: Vec<u64>,
    /// Sessions that ended since the moment before.
    pub ended: Vec<u64>,
}

/// What a gateway answered when it was asked to end or change a session (RFC 5176).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionAnswer {
    /// The session's number.
    pub session: u64,
    /// Whether the gateway did it.
    pub done: bool,
    /// What the gateway answered, in words.
    pub said: String,
    /// How often it was asked.
    pub tries: u32,
    /// How long the answer took, in microseconds.
    pub took_us: u64,
}

/// A pool, and how much of it is taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PoolView {
    /// Its name.
    pub name: String,
    /// Its ranges.
    pub ranges: Vec<String>,
    /// How many addresses or prefixes it can hand out.
    pub size: u64,
    /// How many are taken now.
    pub taken: u64,
}

/// Which open sessions the rules of the active site no longer admit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionReview {
    /// Sessions that were looked at.
    pub looked_at: u64,
    /// Those that would get no session now.
    pub not_admitted: Vec<ReviewedSession>,
    /// Those of which it is not known, each with the reason: they go on.
    pub unknown: Vec<ReviewedSession>,
}

/// One session that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReviewedSession {
    /// Its number.
    pub session: u64,
    /// The person's key.
    pub person: String,
    /// The gateway.
    pub gateway: String,
    /// Why.
    pub why: String,
    /// What the gateway answered, if it was asked to end it.
    pub answer: Option<SessionAnswer>,
}

/// Whether sessions that are no longer admitted are to end.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ReviewRequest {
    /// Ends them.
    #[serde(default)]
    pub end: bool,
}

/// Why a session is to end.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct EndRequest {
    /// The reason, for the audit and for the session.
    #[serde(default)]
    pub reason: String,
}
