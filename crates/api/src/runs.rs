//! Rehearsals and their runs.

use bivector_explain::run::{Run, RunChange, RunState};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How far a run is, without its results.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// Its number.
    pub id: u64,
    /// The rehearsal.
    pub rehearsal: String,
    /// How far it is.
    pub state: RunState,
    /// Logins that it has in all.
    pub total: u32,
    /// Logins that came out as they must.
    pub passed: u32,
    /// Logins that did not.
    pub failed: u32,
    /// What it waits for, where it does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub waits_for: Option<String>,
}

/// A rehearsal of the active site.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearsalView {
    /// Its name.
    pub name: String,
    /// Its logins, by what they show and what must come of them.
    pub logins: Vec<RehearsedView>,
    /// Its line in the site file.
    pub line: u32,
    /// Its newest run, without results.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub last: Option<Run>,
}

/// A login of a rehearsal.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearsedView {
    /// What it shows.
    pub title: String,
    /// The persona.
    pub persona: String,
    /// The gateway.
    pub via: String,
    /// What must come of it.
    pub expected: String,
    /// What is wrong with it on purpose.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub twist: Option<String>,
}

/// How to run a rehearsal.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct RunRequest {
    /// How often the whole list is played; once if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeat: Option<u32>,
    /// Logins at one time, 1 to 64; 8 if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parallel: Option<u32>,
}

/// What changed since an earlier run.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RunChanges {
    /// The earlier run, without results; none where this one is the first that came to its end.
    pub earlier: Option<Run>,
    /// Logins that came out otherwise.
    pub changes: Vec<RunChange>,
}

impl Progress {
    /// Of a run.
    pub fn of(run: &Run) -> Self {
        Progress {
            id: run.id,
            rehearsal: run.rehearsal.clone(),
            state: run.state,
            total: run.total,
            passed: run.passed,
            failed: run.failed,
            waits_for: run.waits_for.clone(),
        }
    }
}
