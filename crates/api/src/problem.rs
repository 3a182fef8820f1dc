//! Errors as problem details (RFC 9457), each with its remedy.

use bivector_explain::run::Run;
use bivector_site::{Difference, Finding};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong with a call.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The kind of problem, stable.
    #[serde(rename = "type")]
    pub kind: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, in a sentence.
    pub title: String,
    /// What to do about it.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub remedy: String,
    /// Findings of the site check, where that is what is wrong.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub findings: Vec<Finding>,
    /// What makes logging in weaker, where that is what stops a change.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub differences: Vec<Difference>,
    /// The run that did not pass, where that is what stops a change.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub run: Option<Box<Run>>,
}
