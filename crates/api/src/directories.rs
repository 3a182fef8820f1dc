//! Directories and upstreams: their servers, probed and watched.

use bivector_explain::probe::Line;
use bivector_model::Cause;
use bivector_model::trace::Tone;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One server, probed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProbedServer {
    /// As it stands in the site file.
    pub server: String,
    /// Every piece in order.
    pub lines: Vec<Line>,
}

/// What is known of a server from checks and from logins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// As it stands in the site file.
    pub server: String,
    /// `good`, `bad`, or `note` before the first look and while it is slow.
    pub state: Tone,
    /// Why, where it is bad.
    pub cause: Option<Cause>,
    /// What was seen.
    pub said: String,
    /// Since when it is so, in microseconds since 1970.
    pub since_us: u64,
    /// When it was looked at last.
    pub checked_us: u64,
    /// Questions of logins that it answered, since the service started.
    pub answers: u64,
    /// Questions of logins that went on to another server, or to none.
    pub failures: u64,
}

/// A directory of the site.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct DirectoryView {
    /// Its name.
    pub name: String,
    /// Its servers in the order of the site file, with what is known of each.
    pub servers: Vec<Health>,
    /// Where people are.
    pub base: String,
    /// The naming attributes.
    pub login: Vec<String>,
    /// Chains that ask it.
    pub chains: Vec<String>,
}

/// What to probe beyond the directory itself.
#[derive(Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(default)]
pub struct ProbeRequest {
    /// A login name to look for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub person: Option<String>,
}

/// An upstream of the site.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UpstreamView {
    /// Its name.
    pub name: String,
    /// Its servers in the order of the site file, with what is known of each.
    pub servers: Vec<Health>,
    /// Whether its servers are asked for their state.
    pub status_checks: bool,
    /// Name of its sealed secret.
    pub secret: String,
    /// Chains that ask it, as a source or as a factor.
    pub chains: Vec<String>,
}

impl ProbedServer {
    /// Whether logins would get an answer from it.
    pub fn is_well(&self) -> bool {
        !self.lines.iter().any(|line| line.state == Tone::Bad)
    }
}
