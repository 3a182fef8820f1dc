//! Intended warnings: the site file names them one by one, each with its reason. The check still shows them, but no longer counts them.

use super::finding::{Finding, Severity, did_you_mean};
use super::section::{At, Notes, Section};

/// An intended warning, as the site file names it.
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
        section.notes.error("no-reason", reason.span, "`reason` is empty", "say in a few words why the warning is intended");
        return None;
    }
    Some(Intended { warning: warning?, about, reason: reason.value })
}

/// Marks the intended warnings. Each entry stands for exactly one: an entry for none, or for several, is a finding itself.
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
                let message = format!("the check has no warning `{}`{whom}", warning.value);
                let likely = did_you_mean(&warning.value, codes.iter().map(String::as_str).filter(|code| *code != warning.value));
                notes.warn("intended-nothing", warning.span.clone(), message, likely.unwrap_or_else(|| "take the entry out".to_owned()));
            }
            several => {
                let message = format!("the check has {} warnings `{}`, and an entry stands for one", several.len(), warning.value);
                notes.error(
                    "intended-several",
                    warning.span.clone(),
                    message,
                    "add `about`, with the name of the gateway, chain or other table that the intended one lies in",
                );
            }
        }
    }
}
