//! The handset page, what newcomers get, and what a chain says of approvals and of people without a factor.

use super::super::finding::did_you_mean;
use super::super::section::{At, Section, quoted};
use super::super::{ConfirmedBy, Handset, Invited, Newcomers, WhenNotEnrolled, WhenUnanswered};
use super::SECOND;
use super::second::DraftCourier;
use bivector_model::moment::Moment;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::time::Duration;

/// The handset page, and the name of the chain that signs people in to it.
pub(crate) struct DraftHandset {
    pub(crate) handset: Handset,
    pub(crate) chain: Option<At<String>>,
}

/// What newcomers get, and the name of the courier that tells them.
pub(crate) struct DraftNewcomers {
    pub(crate) newcomers: Newcomers,
    pub(crate) send_by: Option<At<String>>,
}

/// What a chain says of approvals and of people without a factor.
pub(crate) struct Approvals {
    pub(crate) patience: Duration,
    pub(crate) match_number: bool,
    pub(crate) wake: Option<At<Vec<At<String>>>>,
    pub(crate) wake_after: Duration,
    pub(crate) when_unanswered: WhenUnanswered,
    pub(crate) when_not_enrolled: WhenNotEnrolled,
    pub(crate) remember: Option<Duration>,
}

pub(super) fn read_handset(top: &Section<'_, '_, '_>) -> DraftHandset {
    let mut handset = Handset::default();
    let Some(section) = top.table("handset") else { return DraftHandset { handset, chain: None } };
    handset.address = section.text("address").and_then(|address| read_address(&address, &section));
    let chain = section.text("chain");
    handset.shows_code = section.flag("shows_code").unwrap_or(handset.shows_code);
    let confirmed = [("operator", ConfirmedBy::Operator), ("invitation", ConfirmedBy::Invitation)];
    handset.confirmed_by = section.choice("confirmed_by", &confirmed).unwrap_or_default();
    let time = |key, range, otherwise| section.duration(key, range).map_or(otherwise, |time: At<Duration>| time.value);
    handset.invitation_lasts = time("invitation_lasts", SECOND * 60..=SECOND * 86_400 * 30, handset.invitation_lasts);
    handset.stop = time("stop", SECOND * 60..=SECOND * 86_400 * 30, handset.stop);
    handset.per_person = section.number("per_person", 1..=1000).map_or(handset.per_person, |number| number.value as u32);
    section.finish();
    DraftHandset { handset, chain }
}

/// Browsers keep keys by the page's origin, and security keys need a name and TLS; loopback may do without.
fn read_address(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<String> {
    let address = text.value.trim_end_matches('/');
    let wrong = |message: String| {
        section.notes.error(
            "bad-address",
            text.span.clone(),
            message,
            "write `https://NAME`, with a port if it is not 443 and without a path",
        );
    };
    let Some((scheme, rest)) = address.split_once("://") else {
        wrong(format!("`{}` is not a valid page address", text.value));
        return None;
    };
    let local = rest == "localhost" || rest.starts_with("localhost:");
    match scheme {
        _ if rest.is_empty() || rest.contains(['/', '?', '#', '@', ' ']) => wrong(format!("`{}` is not a valid page address", text.value)),
        "https" => return Some(address.to_owned()),
        "http" if local => return Some(address.to_owned()),
        "http" => wrong("phones store keys only for pages served over TLS".to_owned()),
        _ => wrong(format!("`{scheme}` is not a supported scheme")),
    }
    None
}

pub(super) fn read_newcomers(section: Section<'_, '_, '_>) -> Option<DraftNewcomers> {
    let group = section.needed_text("group", "\"turbine-crew\"");
    let factors: Vec<(&str, Invited)> = Invited::ALL.iter().map(|one| (one.name(), *one)).collect();
    if !section.has("factor") {
        section.missing("factor", "\"approval\"");
    }
    let factor = section.choice("factor", &factors);
    let send_by = section.text("send_by");
    let line = section.line();
    section.finish();
    let newcomers = Newcomers { group: group?.value.to_lowercase(), factor: factor?, send_by: None, line };
    Some(DraftNewcomers { newcomers, send_by })
}

/// The courier of an invitation, or a finding.
pub(super) fn join_newcomers(draft: DraftNewcomers, couriers: &[DraftCourier], notes: &super::super::section::Notes<'_>) -> Newcomers {
    let DraftNewcomers { mut newcomers, send_by } = draft;
    let Some(wanted) = send_by else { return newcomers };
    newcomers.send_by = couriers.iter().position(|(name, ..)| name.value == wanted.value);
    if newcomers.send_by.is_none() {
        let names: Vec<&str> = couriers.iter().map(|(name, ..)| name.value.as_str()).collect();
        let remedy = did_you_mean(&wanted.value, names.iter().copied()).unwrap_or_else(|| format!("known: {}", quoted(&names)));
        notes.error("name-not-found", wanted.span, format!("unknown courier `{}`", wanted.value), remedy);
    }
    newcomers
}

pub(super) fn read_approvals(section: &Section<'_, '_, '_>) -> Approvals {
    let patience = section.duration("second_patience", SECOND * 5..=SECOND * 600).map_or(SECOND * 45, |patience| patience.value);
    let match_number = section.flag("match_number").unwrap_or(true);
    let wake = section.texts("wake", true);
    let wake_after = section.duration("wake_after", SECOND..=SECOND * 60).map_or(SECOND * 8, |after| after.value);
    let unanswered = [("refuse", WhenUnanswered::Refuse), ("next", WhenUnanswered::Next)];
    let when_unanswered = section.choice("when_unanswered", &unanswered).unwrap_or_default();
    let remember = section.duration("remember", SECOND * 60..=SECOND * 86_400 * 90).map(|remember| remember.value);
    let when_not_enrolled = read_not_enrolled(section);
    Approvals { patience, match_number, wake, wake_after, when_unanswered, when_not_enrolled, remember }
}

fn read_not_enrolled(section: &Section<'_, '_, '_>) -> WhenNotEnrolled {
    #[derive(Clone, Copy)]
    enum Word {
        Refuse,
        Enrol,
        LetIn,
    }
    let words = [("refuse", Word::Refuse), ("enrol", Word::Enrol), ("let-in", Word::LetIn)];
    let word = section.choice("when_not_enrolled", &words).unwrap_or(Word::Refuse);
    if !matches!(word, Word::LetIn) {
        section.out_of_place(&["let_in_until"], "it applies only to `when_not_enrolled = \"let-in\"`");
    }
    match word {
        Word::Refuse => WhenNotEnrolled::Refuse,
        Word::Enrol => WhenNotEnrolled::Enrol,
        Word::LetIn => match section.text("let_in_until") {
            Some(text) => match end_of_day(&text.value) {
                Some(until) => WhenNotEnrolled::LetInUntil(until),
                None => {
                    let message = format!("`{}` is not a date", text.value);
                    section.notes.error("bad-date", text.span, message, "write year, month and day, such as \"2027-03-31\"");
                    WhenNotEnrolled::Refuse
                }
            },
            None => {
                section.missing("let_in_until", "\"2027-03-31\"");
                WhenNotEnrolled::Refuse
            }
        },
    }
}

/// The end of a day (UTC).
fn end_of_day(text: &str) -> Option<Moment> {
    let next = text.parse::<Date>().ok()?.tomorrow().ok()?;
    let at = next.to_zoned(TimeZone::UTC).ok()?.timestamp().as_second();
    u64::try_from(at).ok().map(Moment::from_secs)
}
