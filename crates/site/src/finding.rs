//! What the site check says, as data: rendered for terminal, JSON and console from this one shape.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// The site cannot be applied.
    Error,
    /// It can, but somebody should have meant it.
    Warning,
}

/// A place in the site file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
pub struct Span {
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
    /// Line of the first byte, from 1.
    pub line: u32,
    /// Column of the first byte in characters, from 1.
    pub column: u32,
}

/// One finding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// A stable name for this kind of finding.
    pub code: String,
    /// How bad it is.
    pub severity: Severity,
    /// What is wrong, with what was seen and what is allowed.
    pub message: String,
    /// What to do about it.
    pub remedy: String,
    /// The reason that the site file gives for this warning, where it says that it is intended.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub intended: Option<String>,
    /// Where.
    #[serde(flatten)]
    pub span: Span,
}

impl Finding {
    /// Whether it is a warning, and not an intended one.
    pub fn warns(&self) -> bool {
        self.severity == Severity::Warning && self.intended.is_none()
    }
}

/// Where each line of a text begins.
#[derive(Debug)]
pub(super) struct Lines<'t> {
    text: &'t str,
    starts: Vec<usize>,
}

impl<'t> Lines<'t> {
    pub(super) fn new(text: &'t str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        Lines { text, starts }
    }

    pub(super) fn line(&self, offset: usize) -> u32 {
        self.starts.partition_point(|start| *start <= offset) as u32
    }

    /// The first line's worth of a table, for findings about the whole of it.
    pub(super) fn start_of(&self, line: u32) -> std::ops::Range<usize> {
        let start = self.starts.get(line as usize - 1).copied().unwrap_or(0);
        let end = self.text[start..].find('\n').map_or(self.text.len(), |length| start + length);
        start..end
    }

    /// The `name` of the list item that a line stands in.
    pub(super) fn owner(&self, line: u32) -> Option<&'t str> {
        let lines: Vec<&str> = self.text.lines().collect();
        let is_header = |text: &&str| text.trim_start().starts_with("[[");
        let header = lines.get(..line as usize)?.iter().rposition(is_header)?;
        let own = lines.get(header + 1..)?.iter().take_while(|text| !is_header(text));
        own.filter_map(|text| text.trim().strip_prefix("name")?.trim_start().strip_prefix('=')?.trim().strip_prefix('"')?.split('"').next())
            .next()
    }

    pub(super) fn span(&self, range: std::ops::Range<usize>) -> Span {
        let line = self.line(range.start);
        let start = self.starts[line as usize - 1];
        let column = self.text.get(start..range.start).map_or(1, |before| before.chars().count() + 1) as u32;
        Span { start: range.start, end: range.end.max(range.start), line, column }
    }
}

/// The nearest of `candidates` to a misspelt `word`, as a remedy's first words.
pub(super) fn did_you_mean<'c>(word: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<String> {
    candidates
        .into_iter()
        .map(|candidate| (strsim::jaro_winkler(&word.to_lowercase(), &candidate.to_lowercase()), candidate))
        .filter(|(likeness, _)| *likeness > 0.75)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, candidate)| format!("did you mean `{candidate}`?"))
}
