//! Text from outside, made fit for terminals, logs, pages and spreadsheets. Everything that a stranger can choose goes through here.

use std::borrow::Cow;
use std::fmt::Write;

/// Characters that change how others are shown, or that nobody sees: marks of direction (Unicode UAX #9), joiners, tags, separators.
fn is_invisible(character: char) -> bool {
    matches!(
        character,
        '\u{ad}'
            | '\u{61c}'
            | '\u{180e}'
            | '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}'
            | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}'
            | '\u{e0000}'..='\u{e007f}'
    )
}

/// Text as it may be shown in one line: control characters, marks of direction and invisible characters are written as `\u{…}`.
///
/// Shown text may be passed in again: nothing changes then.
pub fn shown(text: &str) -> Cow<'_, str> {
    // Nearly all text is plain ASCII, and all text of a login comes through here.
    if text.bytes().all(|byte| matches!(byte, b' '..=b'~')) {
        return Cow::Borrowed(text);
    }
    let odd = |character: char| character.is_control() || is_invisible(character);
    if !text.chars().any(odd) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for character in text.chars() {
        if odd(character) {
            let _ = write!(shown, "\\u{{{:x}}}", u32::from(character));
        } else {
            shown.push(character);
        }
    }
    Cow::Owned(shown)
}

/// Whether a text may be shown as it is: for names and labels that somebody chooses.
pub fn is_plain(text: &str) -> bool {
    matches!(shown(text), Cow::Borrowed(_))
}

/// Text as one field of a CSV file: shown as by [`shown`], and never a formula, whatever program opens it.
pub fn csv_field(text: &str) -> Cow<'_, str> {
    match shown(text) {
        field if field.starts_with(['=', '+', '-', '@']) => Cow::Owned(format!("'{field}")),
        field => field,
    }
}

/// A name that nobody is known by, as a trace may keep it: it could be a password that was typed into the wrong field. The first two
/// characters, the length in characters, and a digest that only this service can make, so that the same text is recognised again.
pub fn unknown_name(name: &str, digest: &str) -> String {
    let first: String = name.chars().take(2).collect();
    let count = name.chars().count();
    format!("{}… ({count} {}, {digest})", shown(&first), if count == 1 { "character" } else { "characters" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_steers_a_terminal_or_turns_text_around_is_written_out() {
        for (text, wanted) in [
            ("ines", "ines"),
            ("Zoë Ólafsdóttir", "Zoë Ólafsdóttir"),
            ("a\u{1b}[31mb", "a\\u{1b}[31mb"),
            ("line\nbreak\r\t", "line\\u{a}break\\u{d}\\u{9}"),
            ("gpj.\u{202e}exe", "gpj.\\u{202e}exe"),
            ("\u{9b}31m", "\\u{9b}31m"),
            ("in\u{200b}es", "in\\u{200b}es"),
        ] {
            assert_eq!(shown(text), wanted);
        }
    }

    #[test]
    fn a_spreadsheet_takes_no_field_for_a_formula() {
        for (text, wanted) in [
            ("=HYPERLINK(1)", "'=HYPERLINK(1)"),
            ("+44 20", "'+44 20"),
            ("-1", "'-1"),
            ("@SUM", "'@SUM"),
            ("ines", "ines"),
            ("\t=1", "\\u{9}=1"),
        ] {
            assert_eq!(csv_field(text), wanted);
        }
    }

    #[test]
    fn an_unknown_name_keeps_too_little_to_be_a_password() {
        assert_eq!(unknown_name("barnacle-and-buoy", "7f3a"), "ba… (17 characters, 7f3a)");
        assert_eq!(unknown_name("\u{1b}x", "7f3a"), "\\u{1b}x… (2 characters, 7f3a)");
    }

    proptest! {
        #[test]
        fn nothing_shown_is_a_control_character_and_showing_twice_changes_nothing(text in ".{0,60}|[\\x00-\\x1f\\x7f-\\u{9f}\\u{2028}-\\u{2069}a-z]{0,40}") {
            let once = shown(&text).into_owned();
            prop_assert!(!once.chars().any(|c| c.is_control() || is_invisible(c)));
            prop_assert_eq!(shown(&once), once.as_str());
            prop_assert!(!csv_field(&text).starts_with(['=', '+', '-', '@', '\t', '\r']));
        }
    }
}
