//! Proving a directory piece by piece: what each piece is, and what its answers mean. Asking is the service's business.

use bivector_model::cause::Cause;
use bivector_model::moment::Moment;
use bivector_model::trace::Tone;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// How far a server's clock may be off before one-time codes and logs suffer.
const SKEW_WARNED: i64 = 5;
/// A certificate that ends this soon is warned about, in days.
const EXPIRY_WARNED: i64 = 30;

/// OID of the control that asks for results page by page (RFC 2696).
const PAGED_RESULTS_OID: &str = "1.2.840.113556.1.4.319";

/// The pieces, in the order in which they are tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Piece {
    /// The server's name resolves.
    Name,
    /// The server takes a connection.
    Connection,
    /// TLS: chain, name, dates, version.
    Tls,
    /// What kind of server it is.
    Kind,
    /// Its clock, where it tells the time.
    Clock,
    /// The service account may sign in.
    Account,
    /// The base is there.
    Base,
    /// How many entries a search may give.
    Limits,
    /// The naming attribute finds a given person.
    Person,
    /// The person's groups can be read.
    Groups,
}

impl Piece {
    /// All pieces in order.
    pub const ALL: &[Piece] = &[
        Piece::Name,
        Piece::Connection,
        Piece::Tls,
        Piece::Kind,
        Piece::Clock,
        Piece::Account,
        Piece::Base,
        Piece::Limits,
        Piece::Person,
        Piece::Groups,
    ];

    /// Its name in tables.
    pub fn word(self) -> &'static str {
        match self {
            Piece::Name => "name",
            Piece::Connection => "connection",
            Piece::Tls => "tls",
            Piece::Kind => "kind",
            Piece::Clock => "clock",
            Piece::Account => "account",
            Piece::Base => "base",
            Piece::Limits => "limits",
            Piece::Person => "person",
            Piece::Groups => "groups",
        }
    }
}

/// One piece of one server, tried.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// Which piece.
    pub piece: Piece,
    /// How it went. A note on a piece that was not reached.
    pub state: Tone,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// What was seen.
    pub said: String,
    /// The cause that logins would be refused with, where it failed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub cause: Option<Cause>,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub remedy: Option<String>,
}

/// What a look at a piece gave, before its time is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// How it went.
    pub state: Tone,
    /// What was seen.
    pub said: String,
    /// The cause, where it failed.
    pub cause: Option<Cause>,
    /// What to do, where that differs from the cause's own remedy.
    pub remedy: Option<String>,
}

impl Seen {
    /// As it should be.
    pub fn good(said: impl Into<String>) -> Self {
        Seen { state: Tone::Good, said: said.into(), cause: None, remedy: None }
    }

    /// Worth knowing.
    pub fn note(said: impl Into<String>) -> Self {
        Seen { state: Tone::Note, ..Seen::good(said) }
    }

    /// Works, but somebody should look.
    pub fn warn(said: impl Into<String>, remedy: impl Into<String>) -> Self {
        Seen { state: Tone::Warn, remedy: Some(remedy.into()), ..Seen::good(said) }
    }

    /// Logins would be refused with this cause.
    pub fn bad(cause: Cause, said: impl Into<String>) -> Self {
        Seen { state: Tone::Bad, cause: Some(cause), ..Seen::good(said) }
    }

    /// With a remedy of its own.
    pub fn and(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    /// As a line, with the time it took.
    pub fn line(self, piece: Piece, took_us: u64) -> Line {
        let remedy = self.remedy.or(self.cause.map(|cause| cause.remedy().to_owned()));
        Line { piece, state: self.state, took_us, said: self.said, cause: self.cause, remedy }
    }
}

/// Attributes of the root entry (RFC 4512 section 5.1), names as the server writes them.
pub type RootEntry = HashMap<String, Vec<String>>;

fn root_value<'r>(root: &'r RootEntry, attribute: &str) -> Option<&'r str> {
    root.iter().find(|(name, _)| name.eq_ignore_ascii_case(attribute)).and_then(|(_, values)| values.first()).map(String::as_str)
}

/// Whether a root entry is one of the Active Directory kind.
pub fn is_active_directory(root: &RootEntry) -> bool {
    root_value(root, "domainControllerFunctionality").is_some() || root_value(root, "defaultNamingContext").is_some()
}

/// Groups whose members may change a whole directory.
const ADMINISTRATORS: &[&str] =
    &["domain admins", "enterprise admins", "administrators", "schema admins", "account operators", "directory administrators", "admins"];

/// What makes an account more than a reader, by its groups and the mark that Active Directory sets on privileged ones.
pub fn judge_rank(attributes: &RootEntry) -> Option<String> {
    let groups = attributes.iter().filter(|(name, _)| name.eq_ignore_ascii_case("memberOf")).flat_map(|(_, values)| values);
    let names = groups.map(|group| bivector_model::directory::name_of_dn(group));
    let high = names.filter(|name| ADMINISTRATORS.contains(&name.to_lowercase().as_str())).map(|name| format!("a member of {name}"));
    let marked = root_value(attributes, "adminCount")
        .filter(|count| *count != "0")
        .map(|_| "marked as privileged in the directory (adminCount)".to_owned());
    high.chain(marked).next()
}

/// What kind of server it is, by what its root entry shows.
pub fn judge_kind(root: &RootEntry) -> Seen {
    let contexts =
        root.iter().find(|(name, _)| name.eq_ignore_ascii_case("namingContexts")).map(|(_, values)| values.join(", ")).unwrap_or_default();
    let holds = if contexts.is_empty() { String::new() } else { format!(", holds {contexts}") };
    let kind = if is_active_directory(root) {
        "Active Directory or compatible".to_owned()
    } else if let Some(vendor) = root_value(root, "vendorName") {
        format!("{vendor} directory")
    } else if root.iter().any(|(name, values)| {
        name.eq_ignore_ascii_case("objectClass") && values.iter().any(|class| class.eq_ignore_ascii_case("OpenLDAProotDSE"))
    }) {
        "OpenLDAP".to_owned()
    } else if root.is_empty() {
        return Seen::note("the root DSE is not readable, so the server type is unknown");
    } else {
        "unknown directory server".to_owned()
    };
    let pages = if root.values().flatten().any(|value| value == PAGED_RESULTS_OID) { ", supports paged results" } else { "" };
    let policy = root.values().flatten().any(|value| value == bivector_model::directory::PASSWORD_POLICY_OID);
    let tells = if policy {
        "supports the password policy control (gives the reason for a refused bind)"
    } else {
        "no password policy control (gives no reason for a refused bind)"
    };
    Seen::good(format!("{kind}{holds}; {tells}{pages}"))
}

/// The server's clock against ours.
pub fn judge_clock(root: &RootEntry, now: Moment) -> Seen {
    let Some(text) = root_value(root, "currentTime") else { return Seen::note("the server does not report its time") };
    let Some(theirs) = generalized_time(text) else { return Seen::note(format!("the server's time `{text}` cannot be read")) };
    let skew = theirs as i64 - now.secs() as i64;
    let side = if skew < 0 { "behind" } else { "ahead of" };
    match skew.abs() {
        0..=SKEW_WARNED => Seen::good("the server's clock agrees with ours"),
        off => Seen::warn(
            format!("the server's clock is {off} s {side} ours"),
            "synchronise both with the same NTP server; one-time codes depend on ours",
        ),
    }
}

/// How long a certificate is good still. Times are seconds since 1970.
pub fn judge_dates(not_before: i64, not_after: i64, now: Moment) -> Result<String, Seen> {
    let now = now.secs() as i64;
    let days = (not_after - now).div_euclid(86_400);
    let untrusted = |said: String| Seen::bad(Cause::SourceTlsUntrusted, said);
    if now < not_before {
        return Err(untrusted(format!("the certificate is not valid for another {} days", (not_before - now) / 86_400 + 1))
            .and("check the clock of this machine"));
    }
    match days {
        ..0 => Err(untrusted(format!("the certificate expired {} days ago", -days)).and("renew the server's certificate")),
        0..EXPIRY_WARNED => Err(Seen::warn(format!("the certificate expires in {days} days"), "renew the server's certificate")),
        _ => Ok(format!("valid for {days} days")),
    }
}

/// Seconds since 1970 of a generalized time in UTC such as `20261123101500.0Z` (RFC 4517 section 3.3.13).
pub fn generalized_time(text: &str) -> Option<u64> {
    let digits = text.strip_suffix('Z')?.split('.').next()?;
    if digits.len() != 14 || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let part = |from: usize, to: usize| digits[from..to].parse::<i64>().ok();
    let (year, month, day) = (part(0, 4)?, part(4, 6)?, part(6, 8)?);
    let (hour, minute, second) = (part(8, 10)?, part(10, 12)?, part(12, 14)?);
    if !(1970..=9999).contains(&year) || !(1..=12).contains(&month) || !(1..=31).contains(&day) || hour > 23 || minute > 59 || second > 60 {
        return None;
    }
    // Days from civil date: years begin in March, so that the leap day is the last of them.
    let year = if month <= 2 { year - 1 } else { year };
    let day_of_year = (153 * (month + if month > 2 { -3 } else { 9 }) + 2) / 5 + day - 1;
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let days = era * 146_097 + year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year - 719_468;
    u64::try_from(days * 86_400 + hour * 3600 + minute * 60 + second).ok()
}

/// The DN one level up; none at the top.
pub fn parent_dn(dn: &str) -> Option<&str> {
    let mut escaped = false;
    for (at, character) in dn.char_indices() {
        match character {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            ',' => return Some(dn[at + 1..].trim_start()),
            _ => {}
        }
    }
    None
}

/// Fills in the pieces that were not reached, so that every probe has the same lines.
pub fn complete(mut lines: Vec<Line>, person_given: bool) -> Vec<Line> {
    for piece in Piece::ALL {
        if lines.iter().any(|line| line.piece == *piece) {
            continue;
        }
        let about_person = matches!(piece, Piece::Person | Piece::Groups);
        let said = if about_person && !person_given { "not tested: no person was given" } else { "not reached" };
        lines.push(Seen::note(said).line(*piece, 0));
    }
    lines.sort_by_key(|line| line.piece);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NOON: Moment = Moment::from_secs(1_795_428_900);

    fn root(pairs: &[(&str, &str)]) -> RootEntry {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), vec![(*value).to_owned()])).collect()
    }

    #[test]
    fn times_of_servers_are_read_to_the_second() {
        for (text, seconds) in [
            ("19700101000000Z", Some(0)),
            ("20000229235959.0Z", Some(951_868_799)),
            ("20261123101500.0Z", Some(1_795_428_900)),
            ("21000301000000Z", Some(4_107_542_400)),
            ("20261123101500", None),
            ("20261323101500Z", None),
            ("19691231235959Z", None),
            ("2026112310150Z", None),
        ] {
            assert_eq!(generalized_time(text), seconds, "{text}");
        }
    }

    #[test]
    fn a_clock_that_is_off_is_warned_about_with_its_side() {
        let judge = |time: &str| judge_clock(&root(&[("CurrentTime", time)]), NOON);
        assert_eq!(judge("20261123101503.0Z").state, Tone::Good);
        assert!(judge("20261123101400.0Z").said.contains("60 s behind ours"));
        assert!(judge("20261123102500.0Z").said.contains("600 s ahead of ours"));
        assert_eq!(judge_clock(&root(&[]), NOON).state, Tone::Note);
    }

    #[test]
    fn certificates_are_judged_by_their_days() {
        let day = 86_400;
        let now = NOON.secs() as i64;
        assert_eq!(judge_dates(now - day, now + 90 * day, NOON), Ok("valid for 90 days".to_owned()));
        assert_eq!(judge_dates(now - day, now + 10 * day, NOON).unwrap_err().state, Tone::Warn);
        assert!(judge_dates(now - 9 * day, now - day, NOON).unwrap_err().said.contains("expired 1 days ago"));
        assert_eq!(judge_dates(now + day, now + 9 * day, NOON).unwrap_err().cause, Some(Cause::SourceTlsUntrusted));
    }

    #[test]
    fn kinds_are_told_by_the_root_entry() {
        assert!(judge_kind(&root(&[("defaultNamingContext", "dc=northmoor,dc=example")])).said.contains("Active Directory"));
        assert!(judge_kind(&root(&[("objectClass", "OpenLDAProotDSE")])).said.contains("OpenLDAP"));
        assert!(
            judge_kind(&root(&[("supportedControl", bivector_model::directory::PASSWORD_POLICY_OID)]))
                .said
                .ends_with("; supports the password policy control (gives the reason for a refused bind)")
        );
        assert_eq!(judge_kind(&root(&[])).state, Tone::Note);
    }

    #[test]
    fn every_probe_has_the_same_lines_in_order() {
        let lines = complete(
            vec![Seen::bad(Cause::SourceUnreachable, "refused").line(Piece::Connection, 5), Seen::good("x").line(Piece::Name, 1)],
            true,
        );
        assert_eq!(lines.iter().map(|line| line.piece).collect::<Vec<_>>(), Piece::ALL);
        assert_eq!((lines[1].remedy.as_deref(), lines[2].said.as_str()), (Some(Cause::SourceUnreachable.remedy()), "not reached"));
        assert_eq!((parent_dn("ou=a\\,b,dc=c"), parent_dn("dc=c")), (Some("dc=c"), None));
    }

    proptest! {
        #[test]
        fn any_text_is_a_time_or_not_and_any_dn_ends_upwards(text in "\\PC{0,30}") {
            let _ = generalized_time(&text);
            let mut dn = text.as_str();
            while let Some(parent) = parent_dn(dn) { prop_assert!(parent.len() < dn.len()); dn = parent; }
        }
    }
}
