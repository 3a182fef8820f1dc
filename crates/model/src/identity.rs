//! How a typed name becomes the name that a source is asked for.

use crate::cause::Cause;
use std::collections::BTreeMap;

/// The longest name that is looked up, in bytes.
const MAX_NAME: usize = 253;

/// What happens with upper and lower case.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Case {
    /// Names are folded to lower case.
    #[default]
    Lower,
    /// Names are left as typed.
    Keep,
}

/// An identity rule of the site.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct IdentityRule {
    /// Its name.
    pub name: String,
    /// Prefixes that are taken off, in any case.
    pub strip_prefix: Vec<String>,
    /// Suffixes that are taken off, in any case.
    pub strip_suffix: Vec<String>,
    /// Realms that belong to a name, in lower case: `i.okafor@northmoor.example` is looked up whole.
    pub realms: Vec<String>,
    /// What happens with case.
    pub case: Case,
    /// Other names of people, in lower case, each with the name that sources know.
    pub aliases: BTreeMap<String, String>,
    /// Its line in the site file.
    pub line: u32,
}

/// A name that was read, and what was taken off it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadName {
    /// The name to look up.
    pub name: String,
    /// The prefix or suffix that was taken off.
    pub stripped: Option<String>,
    /// The alias that it was typed as, where it was one.
    pub alias: Option<String>,
}

impl IdentityRule {
    /// Reads a typed name.
    ///
    /// # Errors
    /// [`Cause::NameMissing`], [`Cause::NameUnreadable`] or [`Cause::NameRealmUnknown`].
    pub fn read(&self, typed: &[u8]) -> Result<ReadName, Cause> {
        let text = std::str::from_utf8(typed).map_err(|_| Cause::NameUnreadable)?;
        if text.trim().is_empty() {
            return Err(Cause::NameMissing);
        }
        if text.len() > MAX_NAME || has_unsafe(text) {
            return Err(Cause::NameUnreadable);
        }
        let (rest, stripped) = self.strip(text);
        // What is left of a realm names a place that is not ours; guessing would let `ines@elsewhere` be our ines.
        let whole = || rest.split_once('@').is_some_and(|(name, realm)| !name.is_empty() && self.realms.contains(&realm.to_lowercase()));
        if rest.contains('\\') || (rest.contains('@') && !whole()) {
            return Err(Cause::NameRealmUnknown);
        }
        if rest.is_empty() {
            return Err(Cause::NameMissing);
        }
        let lower = rest.to_lowercase();
        let meant = self.aliases.get(&lower).cloned();
        let name = match self.case {
            Case::Lower => lower,
            Case::Keep => rest.to_owned(),
        };
        let alias = meant.is_some().then(|| name.clone());
        Ok(ReadName { name: meant.unwrap_or(name), stripped: stripped.map(str::to_owned), alias })
    }

    fn strip<'t>(&self, text: &'t str) -> (&'t str, Option<&'t str>) {
        for prefix in &self.strip_prefix {
            if let Some(head) = text.get(..prefix.len())
                && head.eq_ignore_ascii_case(prefix)
            {
                return (&text[prefix.len()..], Some(head));
            }
        }
        for suffix in &self.strip_suffix {
            if let Some(at) = text.len().checked_sub(suffix.len())
                && let Some(tail) = text.get(at..)
                && tail.eq_ignore_ascii_case(suffix)
            {
                return (&text[..at], Some(tail));
            }
        }
        (text, None)
    }
}

/// The realm or domain that a typed name carries, in lower case: `ines@northmoor.example` and `NORTHMOOR\\ines` have one.
pub fn realm_of(typed: &str) -> String {
    let domain = typed.split_once('\\').map(|(domain, _)| domain);
    domain.or_else(|| typed.rsplit_once('@').map(|(_, realm)| realm)).unwrap_or_default().to_lowercase()
}

/// Whether a name fits a pattern in which `*` stands for any text. Both are compared as they are.
pub fn fits_pattern(pattern: &str, name: &str) -> bool {
    let mut pieces = pattern.split('*');
    let Some(rest) = pieces.next().and_then(|first| name.strip_prefix(first)) else { return false };
    let mut pieces: Vec<&str> = pieces.collect();
    let Some(last) = pieces.pop() else { return rest.is_empty() };
    let mut rest = rest;
    for piece in pieces {
        let Some(at) = rest.find(piece) else { return false };
        rest = &rest[at + piece.len()..];
    }
    rest.ends_with(last)
}

fn has_unsafe(text: &str) -> bool {
    if text.is_ascii() { text.bytes().any(|byte| byte.is_ascii_control()) } else { text.chars().any(is_unsafe) }
}

/// Characters that make a name look like another one or break a log line: controls and marks that change direction.
fn is_unsafe(character: char) -> bool {
    character.is_control() || matches!(character, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn northmoor() -> IdentityRule {
        IdentityRule {
            name: "northmoor-names".into(),
            strip_prefix: vec!["NORTHMOOR\\".into()],
            strip_suffix: vec!["@northmoor.example".into()],
            realms: vec!["tidal.northmoor.example".into()],
            ..Default::default()
        }
    }

    #[test]
    fn prefix_suffix_and_case_lead_to_one_name() {
        for typed in ["ines", "Ines", "NORTHMOOR\\ines", "northmoor\\INES", "ines@northmoor.example", "Ines@Northmoor.Example"] {
            assert_eq!(northmoor().read(typed.as_bytes()).unwrap().name, "ines", "{typed}");
        }
    }

    #[test]
    fn an_alias_leads_to_the_name_that_sources_know() {
        let mut rule = northmoor();
        rule.aliases.insert("i.okafor".into(), "ines".into());
        for typed in ["I.Okafor", "NORTHMOOR\\i.okafor", "i.okafor@northmoor.example"] {
            let read = rule.read(typed.as_bytes()).unwrap();
            assert_eq!((read.name.as_str(), read.alias.as_deref()), ("ines", Some("i.okafor")));
        }
        assert_eq!(rule.read(b"ines").unwrap().alias, None);
    }

    #[test]
    fn a_realm_that_belongs_to_names_stays_and_others_do_not_pass_for_it() {
        let read = |typed: &str| northmoor().read(typed.as_bytes()).map(|read| read.name);
        assert_eq!(read("I.Okafor@Tidal.Northmoor.example"), Ok("i.okafor@tidal.northmoor.example".into()));
        assert_eq!(read("NORTHMOOR\\i.okafor@tidal.northmoor.example"), Ok("i.okafor@tidal.northmoor.example".into()));
        for typed in
            ["@tidal.northmoor.example", "a@b@tidal.northmoor.example", "OTHER\\a@tidal.northmoor.example", "a@northmoor.example.org"]
        {
            assert_eq!(read(typed), Err(Cause::NameRealmUnknown), "{typed}");
        }
    }

    #[test]
    fn foreign_realms_and_unreadable_names_are_refused_with_their_cause() {
        let long = "x".repeat(254);
        let cases: [(&[u8], Cause); 9] = [
            (b"ines@elsewhere.example", Cause::NameRealmUnknown),
            (b"ELSEWHERE\\ines", Cause::NameRealmUnknown),
            (b"NORTHMOOR\\ines@northmoor.example", Cause::NameRealmUnknown),
            (b"", Cause::NameMissing),
            (b"  ", Cause::NameMissing),
            (b"@northmoor.example", Cause::NameMissing),
            (b"in\0es", Cause::NameUnreadable),
            (b"in\xffes", Cause::NameUnreadable),
            (long.as_bytes(), Cause::NameUnreadable),
        ];
        for (typed, cause) in cases {
            assert_eq!(northmoor().read(typed).unwrap_err(), cause, "{:?}", String::from_utf8_lossy(typed));
        }
        assert_eq!(northmoor().read("in\u{202e}es".as_bytes()).unwrap_err(), Cause::NameUnreadable);
    }

    #[test]
    fn realms_and_patterns_are_read_from_names() {
        for (typed, realm) in [("ines", ""), ("Ines@Northmoor.Example", "northmoor.example"), ("NORTHMOOR\\ines", "northmoor")] {
            assert_eq!(realm_of(typed), realm);
        }
        for (pattern, name, fits) in [
            ("svc-*", "svc-pump", true),
            ("svc-*", "ines", false),
            ("*", "", true),
            ("a*b*c", "axxbc", true),
            ("a*a", "a", false),
            ("ines", "ines", true),
        ] {
            assert_eq!(fits_pattern(pattern, name), fits, "{pattern} {name}");
        }
    }

    proptest! {
        #[test]
        fn what_is_read_never_carries_a_realm_or_a_control_character(typed in proptest::collection::vec(any::<u8>(), 0..60)) {
            if let Ok(read) = northmoor().read(&typed) {
                prop_assert!(!read.name.is_empty() && !read.name.contains(['@', '\\']) && !read.name.chars().any(is_unsafe));
            }
        }
    }
}
