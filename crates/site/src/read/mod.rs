//! From text to site: each section is read on its own, then names are joined up. Everything wrong is reported at once.

mod chains;
mod conditions;
mod eap;
mod grants;
mod handset;
mod issuers;
mod join;
mod parts;
mod push;
mod rehearsals;
mod second;
mod sessions;

pub(super) use join::Named;
pub(super) use parts::{DraftDirectory, DraftGateway, DraftUpstream};
pub(super) use second::DraftCourier;

use super::check::{self, Known};
use super::finding::{Finding, Severity};
use super::intended::read_intended;
use super::section::{At, Notes, Section};
use super::{Eap, Issuer, RadiusDoor, Site, TraceKeeping};
use bivector_model::grant::Grant;
use bivector_model::identity::IdentityRule;
use chains::{DraftChain, DraftRule, read_chain, read_rule};
use conditions::Conditions;
use eap::read_eap;
use grants::{GrantParts, read_filter, read_grant, read_pool};
use handset::{DraftNewcomers, read_handset, read_newcomers};
use issuers::read_issuer;
use jiff::tz::TimeZone;
use join::{Whole, join};
use parts::{read_directory, read_gateway, read_identity, read_upstream};
use push::read_push;
use rehearsals::{DraftPersona, DraftRehearsal, read_persona, read_rehearsal};
use second::{read_courier, read_factors, read_passwords, read_texts};
use sessions::read_sessions;
use std::cell::RefCell;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use toml::de::DeTable;

/// Longest site file that is read, in bytes: 1,000 gateways and 1,000 rules take about 400 KB.
const MAX_SITE: usize = 8 * 1024 * 1024;
const SECOND: Duration = Duration::from_secs(1);

/// Everything that was read, with the places of its names.
pub(super) struct Draft {
    pub(super) gateways: Vec<DraftGateway>,
    pub(super) directories: Vec<DraftDirectory>,
    pub(super) upstreams: Vec<DraftUpstream>,
    pub(super) couriers: Vec<DraftCourier>,
    pub(super) identities: Vec<(At<String>, IdentityRule)>,
    pub(super) issuers: Vec<(At<String>, Issuer)>,
    pub(super) chains: Vec<DraftChain>,
    pub(super) grants: Vec<(At<String>, Grant)>,
    pub(super) rules: Vec<DraftRule>,
    pub(super) newcomers: Vec<DraftNewcomers>,
    pub(super) personas: Vec<DraftPersona>,
    pub(super) rehearsals: Vec<DraftRehearsal>,
}

pub(super) fn read(text: &str, known: &Known) -> (Option<Site>, Vec<Finding>) {
    let notes = Notes::new(text);
    if text.len() > MAX_SITE {
        notes.error("too-long", 0..0, format!("the site file has {} bytes; the limit is {MAX_SITE}", text.len()), "split the site");
        return (None, notes.into_findings(&[]));
    }
    let (document, errors) = DeTable::parse_recoverable(text);
    for error in &errors {
        let span = error.span().unwrap_or(0..0);
        notes.error("syntax", span, format!("invalid TOML: {}", error.message()), "see toml.io for the syntax");
    }
    let top = Section::new(document.get_ref(), 0..0, "the site file", &notes);
    let intended: Vec<_> = top.tables("intended", "a warning that is meant").into_iter().filter_map(read_intended).collect();
    let site = read_document(&top, known, errors.is_empty());
    drop(top);
    let findings = notes.into_findings(&intended);
    let sound = !findings.iter().any(|finding| finding.severity == Severity::Error);
    (site.filter(|_| sound), findings)
}

fn read_document(top: &Section<'_, '_, '_>, known: &Known, whole: bool) -> Option<Site> {
    match top.number("format", 0..=u64::from(u32::MAX)) {
        Some(format) if format.value != 1 => {
            top.notes.error(
                "format",
                format.span,
                format!("unsupported format {}; this version reads format 1", format.value),
                "set `format = 1`",
            );
        }
        None if !top.has("format") && whole => top.missing("format", "1"),
        _ => {}
    }
    let name = top.text("name").map_or_else(|| "unnamed".to_owned(), |name| name.value);
    let zone = read_zone(top);
    let (radius, eap) = read_doors(top, whole);
    let factors = read_factors(top);
    let passwords = read_passwords(top);
    let texts = read_texts(top);
    let (traces, sessions) = (read_traces(top), read_sessions(top));
    let filters: Vec<_> = top.tables("filters", "a filter").into_iter().filter_map(read_filter).collect();
    let pools: Vec<_> = top.tables("pools", "a pool").into_iter().filter_map(read_pool).collect();
    let conditions = Conditions::read(top.tables("conditions", "a condition"));
    let parts = GrantParts { filters: &filters, pools: &pools, used: RefCell::default() };
    let draft = Draft {
        gateways: top.tables("gateways", "a gateway").into_iter().filter_map(|section| read_gateway(section, &texts)).collect(),
        directories: top.tables("directories", "a directory").into_iter().filter_map(read_directory).collect(),
        upstreams: top.tables("upstreams", "an upstream").into_iter().filter_map(read_upstream).collect(),
        couriers: top.tables("couriers", "a courier").into_iter().filter_map(read_courier).collect(),
        identities: top.tables("identity", "an identity rule").into_iter().filter_map(read_identity).collect(),
        issuers: top.tables("issuers", "an issuer").into_iter().filter_map(read_issuer).collect(),
        chains: top.tables("chains", "a chain").into_iter().filter_map(read_chain).collect(),
        rules: top.tables("rules", "a rule").into_iter().filter_map(|section| read_rule(section, &conditions)).collect(),
        grants: top.tables("grants", "a grant").into_iter().filter_map(|section| read_grant(section, &parts)).collect(),
        newcomers: top.tables("newcomers", "a `newcomers` table").into_iter().filter_map(read_newcomers).collect(),
        personas: top.tables("personas", "a persona").into_iter().filter_map(read_persona).collect(),
        rehearsals: top.tables("rehearsals", "a rehearsal").into_iter().filter_map(read_rehearsal).collect(),
    };
    let (handset, push) = (read_handset(top), read_push(top));
    top.finish();
    if !whole {
        return None;
    }
    check::conditions(&conditions.named, &conditions.used.borrow(), top.notes);
    check::parts_of_grants(&filters, &pools, &parts.used.borrow(), top.notes);
    check::names(&draft, known, top.notes);
    check::twice(&draft, top.notes);
    join(
        draft,
        Whole {
            name,
            zone,
            radius: radius?,
            eap,
            factors,
            texts,
            handset,
            push,
            traces,
            sessions,
            pools: pools.into_iter().map(|(_, pool)| pool).collect(),
            passwords,
        },
        known,
        top.notes,
    )
}

/// The time zone of the site, in which its hours are meant.
fn read_zone(top: &Section<'_, '_, '_>) -> TimeZone {
    let Some(text) = top.text("time_zone") else { return TimeZone::UTC };
    TimeZone::get(&text.value).unwrap_or_else(|_| {
        let message = format!("`{}` is not a time zone that this machine knows", text.value);
        top.notes.error("bad-time-zone", text.span, message, "write a name of the IANA time zone database, such as \"Europe/Oslo\"");
        TimeZone::UTC
    })
}

fn read_traces(top: &Section<'_, '_, '_>) -> TraceKeeping {
    let mut keeping = TraceKeeping::default();
    let Some(section) = top.table("traces") else { return keeping };
    keeping.count = section.number("count", 1_000..=20_000_000).map_or(keeping.count, |count| count.value);
    keeping.time = section.duration("time", SECOND * 86_400..=SECOND * 86_400 * 3650).map(|time| time.value);
    keeping.keep_unknown_names = section.flag("keep_unknown_names").unwrap_or(false);
    section.finish();
    keeping
}

fn read_doors(top: &Section<'_, '_, '_>, whole: bool) -> (Option<RadiusDoor>, Eap) {
    let Some(doors) = top.table("doors") else {
        if whole && !top.has("doors") {
            top.missing("[doors.radius]", "{ listen = [\"127.0.0.1:1812\"] }");
        }
        return (None, Eap::default());
    };
    let radius = doors.table("radius").and_then(read_radius_door);
    let eap = doors.table("eap").map(|section| read_eap(&section)).unwrap_or_default();
    if !doors.has("radius") {
        doors.missing("radius", "{ listen = [\"127.0.0.1:1812\"] }");
    }
    doors.finish();
    (radius, eap)
}

fn read_radius_door(door: Section<'_, '_, '_>) -> Option<RadiusDoor> {
    let mut listen = Vec::new();
    match door.texts("listen", true) {
        Some(texts) if texts.value.is_empty() => {
            door.notes.error("empty", texts.span, "`listen` is empty", "write for example `listen = [\"127.0.0.1:1812\"]`");
        }
        Some(texts) => listen.extend(texts.value.into_iter().filter_map(|text| read_listen(&text, 1812, &door))),
        None if !door.has("listen") => door.missing("listen", "[\"127.0.0.1:1812\"]"),
        None => {}
    }
    let logins_in_flight = door.number("logins_in_flight", 1..=1_000_000).map_or(8192, |number| number.value as usize);
    let replies_kept = door.duration("replies_kept", SECOND..=SECOND * 300).map_or(SECOND * 30, |kept| kept.value);
    let accounting = door.texts("accounting", true).map(|texts| texts.value).unwrap_or_default();
    let accounting: Vec<SocketAddr> = accounting.iter().filter_map(|text| read_listen(text, 1813, &door)).collect();
    if let Some(both) = accounting.iter().find(|address| address.port() != 0 && listen.contains(address)) {
        let message = format!("`{both}` is listed for both authentication and accounting");
        door.notes.error("address-twice", door.span.clone(), message, "use different ports; 1812 and 1813 are standard");
    }
    let session_within = door.duration("session_within", SECOND..=SECOND * 600).map_or(SECOND * 60, |within| within.value);
    door.finish();
    Some(RadiusDoor { listen, accounting, session_within, logins_in_flight, replies_kept })
}

fn read_listen(text: &At<String>, port: u16, door: &Section<'_, '_, '_>) -> Option<SocketAddr> {
    let address = text.value.parse().ok().or_else(|| text.value.parse::<IpAddr>().ok().map(|address| SocketAddr::new(address, port)));
    if address.is_none() {
        let message = format!("`{}` is not a valid listen address", text.value);
        door.notes.error(
            "bad-address",
            text.span.clone(),
            message,
            "write an IP address and a port: \"192.0.2.1:1812\" or \"[2001:db8::1]:1812\"",
        );
    }
    address
}
