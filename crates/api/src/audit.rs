//! The audit.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One row of the audit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditRow {
    /// Its number, from 1 without a gap.
    pub number: u64,
    /// When, in microseconds since 1970.
    pub at_us: u64,
    /// Who.
    pub operator: String,
    /// From which address.
    pub sender: String,
    /// What was done, such as `site.apply`.
    pub what: String,
    /// To what, in a sentence. Never a secret.
    pub detail: String,
    /// Its hash over itself and the row before, in hex.
    pub hash: String,
}

/// Whether the audit is whole.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AuditVerdict {
    /// Rows that were looked at.
    pub rows: u64,
    /// The hash of the newest row, to be noted elsewhere.
    pub head: String,
    /// What is wrong, with the row where it begins; nothing if it is whole.
    pub broken: Option<String>,
}
