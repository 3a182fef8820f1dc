//! Findings of the site check on a terminal: each with its place in the text and its remedy.

use crate::output;
use bivector_site::{Finding, Severity};
use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, SourceCode};
use std::fmt;

/// One finding as a diagnostic.
#[derive(Debug)]
struct Shown<'f> {
    finding: &'f Finding,
    source: &'f NamedSource<String>,
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.finding.message)
    }
}

impl std::error::Error for Shown<'_> {}

impl Diagnostic for Shown<'_> {
    fn code<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        Some(Box::new(&self.finding.code))
    }

    fn severity(&self) -> Option<miette::Severity> {
        Some(match self.finding.severity {
            Severity::Error => miette::Severity::Error,
            Severity::Warning => miette::Severity::Warning,
        })
    }

    fn help<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        Some(Box::new(&self.finding.remedy))
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        Some(self.source)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let span = self.finding.span;
        // A table's span may be many lines long; its first is enough to find it.
        let length = self.source.inner().get(span.start..span.end).and_then(|text| text.lines().next()).map_or(0, str::len);
        Some(Box::new(std::iter::once(LabeledSpan::new(None, span.start, length))))
    }
}

/// Prints all findings and a closing line.
pub fn print(file: &str, text: &str, findings: &[Finding]) {
    let theme = if output::colour() { GraphicalTheme::unicode() } else { GraphicalTheme::unicode_nocolor() };
    let handler =
        GraphicalReportHandler::new_themed(theme).with_width(output::width().min(140)).with_context_lines(1).without_syntax_highlighting();
    let source = NamedSource::new(file, text.to_owned());
    let (intended, open): (Vec<_>, Vec<_>) = findings.iter().partition(|finding| finding.intended.is_some());
    for finding in &open {
        let mut shown = String::new();
        // Writing into a string does not fail.
        let _ = handler.render_report(&mut shown, &Shown { finding, source: &source });
        output::line(format!("{}\n", shown.trim_end()));
    }
    let errors = findings.iter().filter(|finding| finding.severity == Severity::Error).count();
    for finding in &intended {
        let reason = finding.intended.as_deref().unwrap_or_default();
        output::line(output::paint(
            &format!("intended: {}, line {}: {} ({reason})", finding.code, finding.span.line, finding.message),
            "2",
        ));
    }
    let warnings = open.len() - errors;
    let count = |number: usize, word: &str| format!("{number} {word}{}", if number == 1 { "" } else { "s" });
    output::line(match (errors, warnings) {
        (0, 0) => format!("{file}: valid"),
        (0, _) => format!("{file}: valid, with {}", count(warnings, "warning")),
        _ => format!("{file}: {} and {}; it cannot be applied", count(errors, "error"), count(warnings, "warning")),
    });
}
