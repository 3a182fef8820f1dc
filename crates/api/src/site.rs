//! The site file: checked, compared, applied; its revisions and the names of its secrets.

use bivector_explain::run::Run;
use bivector_site::{Difference, Finding};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A site file to check.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct CheckRequest {
    /// The site file.
    pub text: String,
}

/// What the check says.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Checked {
    /// Whether it could be applied.
    pub sound: bool,
    /// Findings in the order of their places.
    pub findings: Vec<Finding>,
}

/// A site file to apply.
#[derive(Debug, Default, Deserialize, Serialize, ToSchema)]
pub struct ApplyRequest {
    /// The site file.
    pub text: String,
    /// What the change is for.
    #[serde(default)]
    pub note: String,
    /// The revision that the change was made from; another active revision stops the apply.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected: Option<u64>,
    /// Whether it may make logging in weaker.
    #[serde(default)]
    pub weaker_is_meant: bool,
    /// Roll back automatically after this many seconds unless confirmed, 10 to 86400.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confirm_within_s: Option<u64>,
    /// A rehearsal of the change that must pass first; until then nobody's login is decided by it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prove: Option<String>,
}

/// Two site files to compare.
#[derive(Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(default)]
pub struct CompareRequest {
    /// The new text; a revision's where that is given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The new revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revision: Option<u64>,
    /// The revision to compare with; the active one if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub against: Option<u64>,
}

/// How two site files differ.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Compared {
    /// The revision that it was compared with.
    pub against: u64,
    /// What differs, in words.
    pub differences: Vec<Difference>,
    /// The same as lines of the files, in unified format.
    pub lines: String,
}

/// What became of an apply.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AppliedView {
    /// The new revision's number.
    pub revision: u64,
    /// Warnings of the check.
    pub findings: Vec<Finding>,
    /// Sources that could not be reached meanwhile, each with what was seen.
    pub unreachable: Vec<String>,
    /// What differs from the revision before.
    pub differences: Vec<Difference>,
    /// When it goes back by itself, in microseconds since 1970, unless confirmed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub until_us: Option<u64>,
    /// The run that proved it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub proved: Option<Run>,
}

/// How to restore.
#[derive(Debug, Default, Deserialize, Serialize, ToSchema)]
#[serde(default)]
pub struct RestoreRequest {
    /// The revision that must be active.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<u64>,
    /// Whether it may make logging in weaker.
    pub weaker_is_meant: bool,
}

/// A revision that waits to be confirmed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Awaiting {
    /// The active revision.
    pub revision: u64,
    /// The one that comes back.
    pub back_to: u64,
    /// When, in microseconds since 1970.
    pub until_us: u64,
}

/// One applied state of the site.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Revision {
    /// Its number, from 1.
    pub number: u64,
    /// When it was applied, in microseconds since 1970.
    pub applied_us: u64,
    /// Who applied it.
    pub operator: String,
    /// What the operator noted.
    pub note: String,
    /// The site file, with its comments. Left out in lists.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub text: Option<String>,
}

/// A sealed secret, without its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SecretRow {
    /// Its name.
    pub name: String,
    /// When it was set, in microseconds since 1970.
    pub set_us: u64,
    /// Who set it.
    pub operator: String,
    /// Since when a next value counts beside it, in microseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub next_us: Option<u64>,
    /// Gateways of the active site that use it, while a next value counts beside it.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub uses: Vec<SecretUse>,
}

/// When a gateway last proved itself with which value of its secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SecretUse {
    /// The gateway.
    pub gateway: String,
    /// With the old value, in microseconds since 1970; not since the next one counts if none.
    pub old_us: Option<u64>,
    /// With the next value.
    pub next_us: Option<u64>,
}
