//! Chains and the state of what they consist of.

use crate::directories::Health;
use crate::traces::LoginCounts;
use bivector_model::trace::Tone;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A chain, hop by hop.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ChainView {
    /// Its name.
    pub name: String,
    /// Its line in the site file.
    pub line: u32,
    /// Its hops from left to right.
    pub hops: Vec<HopView>,
    /// Logins of the last 24 hours, among the newest 20,000.
    pub logins: LoginCounts,
}

/// Where a hop is in the chain.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum HopKind {
    /// A device that sends logins.
    Gateway,
    /// How name and credential are read.
    Reading,
    /// A source of the first check.
    Source,
    /// A second factor.
    Factor,
    /// Who may pass.
    Rules,
}

/// One hop.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct HopView {
    /// Where it is.
    pub kind: HopKind,
    /// Its name.
    pub name: String,
    /// How it is.
    pub state: Tone,
    /// Why it is so, in a sentence.
    pub said: String,
    /// Since when, in microseconds since 1970, where that is known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub since_us: Option<u64>,
    /// What to do about it, where something is to be done.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub remedy: Option<String>,
    /// What it is, line by line.
    pub details: Vec<String>,
    /// Its servers, where it has some.
    pub servers: Vec<Health>,
    /// How long it waits or is waited for at most, in milliseconds, where that is known.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub wait_ms: Option<u64>,
    /// Its line in the site file.
    pub line: u32,
}
