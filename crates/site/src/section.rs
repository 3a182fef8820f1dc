//! Walking the parsed TOML: each value is taken by its key with its type and range; what nobody took is an unknown key.

use super::finding::{Finding, Lines, Severity, did_you_mean};
use super::intended::Intended;
use std::cell::RefCell;
use std::collections::{BTreeMap, HashSet};
use std::ops::{Range, RangeInclusive};
use std::time::Duration;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// Gathers findings; shared by all sections of one reading.
#[derive(Debug)]
pub(super) struct Notes<'t> {
    pub(super) lines: Lines<'t>,
    findings: RefCell<Vec<Finding>>,
}

impl<'t> Notes<'t> {
    pub(super) fn new(text: &'t str) -> Self {
        Notes { lines: Lines::new(text), findings: RefCell::new(Vec::new()) }
    }

    pub(super) fn error(&self, code: &str, at: Range<usize>, message: impl Into<String>, remedy: impl Into<String>) {
        self.note(Severity::Error, code, at, message.into(), remedy.into());
    }

    pub(super) fn warn(&self, code: &str, at: Range<usize>, message: impl Into<String>, remedy: impl Into<String>) {
        self.note(Severity::Warning, code, at, message.into(), remedy.into());
    }

    fn note(&self, severity: Severity, code: &str, at: Range<usize>, message: String, remedy: String) {
        self.findings.borrow_mut().push(Finding {
            code: code.to_owned(),
            severity,
            message,
            remedy,
            intended: None,
            span: self.lines.span(at),
        });
    }

    /// All findings, with the intended warnings marked.
    pub(super) fn into_findings(self, intended: &[Intended]) -> Vec<Finding> {
        let mut findings = self.findings.take();
        // Several chains may meet the same thing: it is one finding.
        let mut seen = HashSet::new();
        findings.retain(|finding| seen.insert((finding.code.clone(), finding.span, finding.message.clone())));
        super::intended::apply(intended, &mut findings, &self);
        findings.extend(self.findings.take());
        findings.sort_by_key(|finding| (finding.span.start, finding.severity));
        findings
    }
}

/// A value and its place.
#[derive(Debug, Clone)]
pub(super) struct At<T> {
    pub(super) value: T,
    pub(super) span: Range<usize>,
}

/// An item of a list that may hold texts and tables.
pub(super) enum Item<'d, 'n, 't> {
    Text(At<String>),
    Table(Section<'d, 'n, 't>),
}

/// One table of the document.
pub(super) struct Section<'d, 'n, 't> {
    table: &'d DeTable<'d>,
    pub(super) span: Range<usize>,
    title: String,
    taken: RefCell<Vec<&'static str>>,
    pub(super) notes: &'n Notes<'t>,
}

impl<'d, 'n, 't> Section<'d, 'n, 't> {
    pub(super) fn new(table: &'d DeTable<'d>, span: Range<usize>, title: &str, notes: &'n Notes<'t>) -> Self {
        Section { table, span, title: title.to_owned(), taken: RefCell::new(Vec::new()), notes }
    }

    pub(super) fn line(&self) -> u32 {
        self.notes.lines.line(self.span.start)
    }

    fn take(&self, key: &'static str) -> Option<&'d Spanned<DeValue<'d>>> {
        self.taken.borrow_mut().push(key);
        self.table.get(key)
    }

    fn wrong_type(&self, key: &str, value: &Spanned<DeValue<'d>>, wanted: &str) {
        let seen = value.get_ref().type_str();
        self.notes.error(
            "wrong-type",
            value.span(),
            format!("`{key}` must be {wanted}, not {}", article(seen)),
            format!("write it as {wanted}"),
        );
    }

    pub(super) fn missing(&self, key: &str, example: &str) {
        let message = format!("{} lacks the required key `{key}`", self.title);
        self.notes.error("missing-key", self.span.clone(), message, format!("add it, for example `{key} = {example}`"));
    }

    /// Keys that are known here, but have no place beside another one.
    pub(super) fn out_of_place(&self, keys: &[&'static str], why: &str) {
        for key in keys {
            if let Some(value) = self.take(key) {
                let message = format!("`{key}` does not apply here: {why}");
                self.notes.error("contradiction", value.span(), message, "remove it");
            }
        }
    }

    pub(super) fn has(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    pub(super) fn text(&self, key: &'static str) -> Option<At<String>> {
        let value = self.take(key)?;
        let text = as_text(value);
        if text.is_none() {
            self.wrong_type(key, value, "a quoted string");
        }
        text
    }

    pub(super) fn needed_text(&self, key: &'static str, example: &str) -> Option<At<String>> {
        if !self.has(key) {
            self.take(key);
            self.missing(key, example);
            return None;
        }
        let text = self.text(key)?;
        if text.value.is_empty() {
            self.notes.error("empty", text.span, format!("`{key}` is empty"), format!("set it, for example `{key} = {example}`"));
            return None;
        }
        Some(text)
    }

    /// A list of strings; a single string counts as a list of one if `single` is set.
    pub(super) fn texts(&self, key: &'static str, single: bool) -> Option<At<Vec<At<String>>>> {
        let value = self.take(key)?;
        if let (true, Some(text)) = (single, as_text(value)) {
            return Some(At { span: text.span.clone(), value: vec![text] });
        }
        let Some(array) = value.get_ref().as_array() else {
            self.wrong_type(key, value, "a list of strings");
            return None;
        };
        let mut texts = Vec::new();
        for item in array.iter() {
            match as_text(item) {
                Some(text) => texts.push(text),
                None => self.wrong_type(key, item, "a list of strings"),
            }
        }
        Some(At { value: texts, span: value.span() })
    }

    /// A list in which each item is a text or a table.
    pub(super) fn items(&self, key: &'static str, each: &str) -> Vec<Item<'d, 'n, 't>> {
        let Some(value) = self.take(key) else { return Vec::new() };
        if let Some(text) = as_text(value) {
            return vec![Item::Text(text)];
        }
        let Some(array) = value.get_ref().as_array() else {
            self.wrong_type(key, value, "a list of strings and tables");
            return Vec::new();
        };
        let mut items = Vec::new();
        for item in array.iter() {
            match (as_text(item), item.get_ref().as_table()) {
                (Some(text), _) => items.push(Item::Text(text)),
                (None, Some(table)) => items.push(Item::Table(Section::new(table, item.span(), each, self.notes))),
                (None, None) => self.wrong_type(key, item, "a list of strings and tables"),
            }
        }
        items
    }

    /// A table whose keys the operator chooses, each with a text.
    pub(super) fn labels(&self, key: &'static str) -> Option<At<BTreeMap<String, String>>> {
        let value = self.take(key)?;
        let Some(table) = value.get_ref().as_table() else {
            self.wrong_type(key, value, "a table of strings, for example `{ kind = \"vpn\" }`");
            return None;
        };
        let mut labels = BTreeMap::new();
        for (name, value) in table.iter() {
            match as_text(value) {
                Some(text) => {
                    labels.insert(name.get_ref().to_string(), text.value);
                }
                None => self.wrong_type(name.get_ref(), value, "a quoted string"),
            }
        }
        Some(At { value: labels, span: value.span() })
    }

    /// A table whose keys the operator chooses, each with a text or a list of strings.
    pub(super) fn lists(&self, key: &'static str) -> Vec<(At<String>, Vec<At<String>>)> {
        let Some(value) = self.take(key) else { return Vec::new() };
        let Some(table) = value.get_ref().as_table() else {
            self.wrong_type(key, value, "a table of strings or lists of strings");
            return Vec::new();
        };
        let mut lists = Vec::new();
        for (name, value) in table.iter() {
            let texts = match value.get_ref().as_array() {
                Some(array) => array.iter().map(as_text).collect(),
                None => as_text(value).map(|text| vec![text]),
            };
            match texts {
                Some(texts) => lists.push((At { value: name.get_ref().to_string(), span: name.span() }, texts)),
                None => self.wrong_type(name.get_ref(), value, "a text or a list of strings"),
            }
        }
        lists
    }

    /// A table of tables whose keys the operator chooses.
    pub(super) fn named_tables(&self, key: &'static str) -> Vec<(At<String>, Section<'d, 'n, 't>)> {
        let Some(value) = self.take(key) else { return Vec::new() };
        let Some(table) = value.get_ref().as_table() else {
            self.wrong_type(key, value, "a table of tables");
            return Vec::new();
        };
        let mut tables = Vec::new();
        for (name, value) in table.iter() {
            match value.get_ref().as_table() {
                Some(inner) => {
                    let title = format!("`{key}.{}`", name.get_ref());
                    let section = Section::new(inner, value.span(), &title, self.notes);
                    tables.push((At { value: name.get_ref().to_string(), span: name.span() }, section));
                }
                None => self.wrong_type(name.get_ref(), value, "a table"),
            }
        }
        tables
    }

    pub(super) fn flag(&self, key: &'static str) -> Option<bool> {
        let value = self.take(key)?;
        let flag = value.get_ref().as_bool();
        if flag.is_none() {
            self.wrong_type(key, value, "`true` or `false`");
        }
        flag
    }

    pub(super) fn number(&self, key: &'static str, range: RangeInclusive<u64>) -> Option<At<u64>> {
        let value = self.take(key)?;
        let Some(integer) = value.get_ref().as_integer() else {
            self.wrong_type(key, value, "an integer");
            return None;
        };
        let number = u64::from_str_radix(&integer.as_str().replace('_', ""), integer.radix()).ok().filter(|number| range.contains(number));
        if number.is_none() {
            let message = format!("`{key}` is {}; the allowed range is {} to {}", integer.as_str(), range.start(), range.end());
            self.notes.error("out-of-range", value.span(), message, "use a number within the range");
        }
        number.map(|number| At { value: number, span: value.span() })
    }

    pub(super) fn duration(&self, key: &'static str, range: RangeInclusive<Duration>) -> Option<At<Duration>> {
        let text = self.text(key)?;
        let Some(duration) = read_duration(&text.value) else {
            let message = format!("`{}` is not a duration", text.value);
            self.notes.error(
                "bad-duration",
                text.span,
                message,
                "use a number with a unit, for example \"250ms\", \"20s\", \"5m\" or \"1h\"",
            );
            return None;
        };
        if !range.contains(&duration) {
            let message = format!("`{key}` is {}; the allowed range is {} to {}", text.value, show(*range.start()), show(*range.end()));
            self.notes.error("out-of-range", text.span, message, "choose a duration in the range");
            return None;
        }
        Some(At { value: duration, span: text.span })
    }

    pub(super) fn choice<T: Copy>(&self, key: &'static str, choices: &[(&str, T)]) -> Option<T> {
        let text = self.text(key)?;
        let found = choices.iter().find(|(word, _)| *word == text.value).map(|(_, value)| *value);
        if found.is_none() {
            let words: Vec<&str> = choices.iter().map(|(word, _)| *word).collect();
            let remedy = did_you_mean(&text.value, words.iter().copied()).unwrap_or_else(|| "use one of the allowed values".to_owned());
            let message = format!("`{key}` is `{}`; allowed: {}", text.value, quoted(&words));
            self.notes.error("not-a-choice", text.span, message, remedy);
        }
        found
    }

    pub(super) fn table(&self, key: &'static str) -> Option<Section<'d, 'n, 't>> {
        let value = self.take(key)?;
        let Some(table) = value.get_ref().as_table() else {
            self.wrong_type(key, value, "a table");
            return None;
        };
        Some(Section::new(table, value.span(), &format!("`{key}`"), self.notes))
    }

    /// The tables of an array such as `[[gateways]]`.
    pub(super) fn tables(&self, key: &'static str, each: &str) -> Vec<Section<'d, 'n, 't>> {
        let Some(value) = self.take(key) else { return Vec::new() };
        let Some(array) = value.get_ref().as_array() else {
            self.wrong_type(key, value, &format!("a list of tables, written `[[{key}]]`"));
            return Vec::new();
        };
        let mut sections = Vec::new();
        for item in array.iter() {
            match item.get_ref().as_table() {
                Some(table) => sections.push(Section::new(table, item.span(), each, self.notes)),
                None => self.wrong_type(key, item, "a list of tables"),
            }
        }
        sections
    }

    /// Reports every key that nobody took.
    pub(super) fn finish(&self) {
        let taken = self.taken.borrow();
        for (key, _) in self.table.iter() {
            let name = key.get_ref().as_ref();
            if taken.contains(&name) {
                continue;
            }
            let allowed = quoted(&taken);
            let hint = did_you_mean(name, taken.iter().copied()).unwrap_or_else(|| format!("allowed keys: {allowed}"));
            self.notes.error("unknown-key", key.span(), format!("unknown key `{name}` in {}", self.title), hint);
        }
    }
}

fn as_text(value: &Spanned<DeValue<'_>>) -> Option<At<String>> {
    value.get_ref().as_str().map(|text| At { value: text.to_owned(), span: value.span() })
}

fn article(type_name: &str) -> String {
    let article = if type_name.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
    format!("{article} {type_name}")
}

pub(super) fn quoted(words: &[&str]) -> String {
    words.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ")
}

/// Reads `250ms`, `20s`, `5m`, `1h`, `2d`; nothing else is a duration.
pub fn read_duration(text: &str) -> Option<Duration> {
    let unit_at = text.find(|character: char| !character.is_ascii_digit())?;
    let (number, unit) = text.split_at(unit_at);
    let number: u64 = number.parse().ok()?;
    let millis = match unit.trim() {
        "ms" => 1,
        "s" => 1_000,
        "m" => 60_000,
        "h" => 3_600_000,
        "d" => 86_400_000,
        _ => return None,
    };
    number.checked_mul(millis).map(Duration::from_millis)
}

/// Writes a duration as the site file would.
pub(super) fn show(duration: Duration) -> String {
    match duration.as_millis() {
        millis if millis % 1000 != 0 => format!("{millis}ms"),
        millis if millis % 3_600_000 == 0 && millis > 0 => format!("{}h", millis / 3_600_000),
        millis => format!("{}s", millis / 1000),
    }
}
