//! Gateways and their newest logins.

use bivector_model::trace::Outcome;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A gateway of the site.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct GatewayView {
    /// Its name.
    pub name: String,
    /// Where its packets come from.
    pub from: Vec<String>,
    /// The chains that take its logins, in the order in which they are tried.
    pub chains: Vec<String>,
    /// What kind of device it is and where.
    pub labels: BTreeMap<String, String>,
    /// Name of its sealed secret.
    pub secret: String,
    /// Whether it must sign its requests.
    pub must_sign: bool,
    /// How long it waits per try, in milliseconds, where the site file says so.
    pub wait_ms: Option<u64>,
    /// How often it tries.
    pub tries: Option<u32>,
    /// Its newest login.
    pub last: Option<LastLogin>,
}

/// The newest login of a gateway.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LastLogin {
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// How it ended.
    pub outcome: Outcome,
    /// Its trace.
    pub reference: String,
}

/// An address to add.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct RegisterRequest {
    /// An address, or a range.
    pub address: String,
}
