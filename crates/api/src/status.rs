//! The state of the service.

use crate::operators::Role;
use crate::site::Awaiting;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The service in short.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the program.
    pub version: String,
    /// Name of the site; empty before the first apply.
    pub site: String,
    /// The active revision; 0 before the first apply.
    pub revision: u64,
    /// Who asks.
    pub operator: String,
    /// What the one who asks may do.
    pub role: Role,
    /// A revision that waits to be confirmed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub confirm: Option<Awaiting>,
    /// Where RADIUS is received.
    pub radius: Vec<String>,
    /// Where reports of sessions are received.
    #[serde(default)]
    pub accounting: Vec<String>,
    /// Names of the gateways.
    pub gateways: Vec<String>,
    /// Names of the chains.
    pub chains: Vec<String>,
    /// People known here.
    pub people: usize,
}
