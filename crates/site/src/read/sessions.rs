//! `[sessions]`, and what gateways do with sessions.

use super::super::section::Section;
use super::super::{DynamicAuthorization, SessionKeeping};
use super::{SECOND, read_listen};

/// RFC 5176 section 3.
const PORT: u16 = 3799;

pub(super) fn read_sessions(top: &Section<'_, '_, '_>) -> SessionKeeping {
    let usual = SessionKeeping::default();
    let Some(section) = top.table("sessions") else { return usual };
    let keeping = SessionKeeping {
        lost_after: section.duration("lost_after", SECOND * 60..=SECOND * 86_400 * 30).map_or(usual.lost_after, |time| time.value),
        count: section.number("count", 1_000..=20_000_000).map_or(usual.count, |count| count.value),
        time: section.duration("time", SECOND * 86_400..=SECOND * 86_400 * 3650).map(|time| time.value),
    };
    section.finish();
    keeping
}

pub(super) fn read_dynamic(section: Section<'_, '_, '_>) -> Option<DynamicAuthorization> {
    let to = section.needed_text("to", "\"192.0.2.10:3799\"").and_then(|to| read_listen(&to, PORT, &section));
    let secret = section.text("secret").map(|secret| secret.value);
    let line = section.line();
    section.finish();
    Some(DynamicAuthorization { to: to?, secret, line })
}
