//! Warnings that somebody has meant: named one by one in the site file, each with its reason. They are shown still, and warn no more.

use super::finding::{Finding, Severity, did_you_mean};
use super::section::{At, Notes, Section};

/// A warning that is meant, as the site file names it.
#[derive(Debug)]
pub(super) struct Intended {
    /// The warning's code.
    warning: At<String>,
    /// What it is about: the name of the gateway, chain or other table that it lies in, or a name that its message has. Not needed where
    /// the code is enough.
    about: Option<At<String>>,
    reason: String,
}

pub(super) fn read_intended(section: Section<'_, '_, '_>) -> Option<Intended> {
    let warning = section.needed_text("warning", "\"unsigned-requests\"");
    let about = section.text("about");
    let reason = section.needed_text("reason", "\"the portal cannot sign before its next update\"");
    section.finish();
    let reason = reason?;
    if reason.value.trim().is_empty() {
        section.notes.error("no-reason", reason.span, "`reason` is empty", "say in a few words why the warning is meant");
        return None;
    }
    Some(Intended { warning: warning?, about, reason: reason.value })
}

/// Marks the warnings that are meant. Each entry is for exactly one: an entry for none, or for several, is a finding itself.
pub(super) fn apply(entries: &[Intended], findings: &mut [Finding], notes: &Notes<'_>) {
    for Intended { warning, about, reason } in entries {
        let named = |finding: &Finding, name: &str| {
            notes.lines.owner(finding.span.line) == Some(name) || finding.message.contains(&format!("`{name}`"))
        };
        let is_about = |finding: &Finding| about.as_ref().is_none_or(|about| named(finding, &about.value));
        let fits = |finding: &&mut Finding| finding.severity == Severity::Warning && finding.code == warning.value && is_about(finding);
        let codes: Vec<String> = findings.iter().filter(|one| one.severity == Severity::Warning).map(|one| one.code.clone()).collect();
        let mut meant: Vec<&mut Finding> = findings.iter_mut().filter(fits).collect();
        match meant.as_mut_slice() {
            [one] => one.intended = Some(reason.clone()),
            [] => {
                let whom = about.as_ref().map(|about| format!(" about `{}`", about.value)).unwrap_or_default();
                let message = format!("there is no warning `{}`{whom} (any more)", warning.value);
                let likely = did_you_mean(&warning.value, codes.iter().map(String::as_str).filter(|code| *code != warning.value));
                notes.warn("intended-nothing", warning.span.clone(), message, likely.unwrap_or_else(|| "take the entry out".to_owned()));
            }
            several => {
                let message = format!("{} warnings `{}` are there; an entry is for one", several.len(), warning.value);
                notes.error(
                    "intended-several",
                    warning.span.clone(),
                    message,
                    "add `about`, with the name of the gateway, chain or other table that the one which is meant lies in",
                );
            }
        }
    }
}
