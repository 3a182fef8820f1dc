//! Personas and rehearsals: read here; whether a rehearsal can ever pass is for `check::rehearsals`.

use super::super::finding::did_you_mean;
use super::super::section::{At, Notes, Section, quoted};
use super::super::{Gateway, Method};
use super::SECOND;
use crate::rehearsal::{
    Codes, Expect, HandsetDoes, OUTCOMES, OtherCertificate, Persona, Rehearsal, RehearsedLogin, ShortWaits, Twist, Typed,
};
use bivector_model::cause::Cause;
use bivector_model::trace::Outcome;
use bivector_wire::eap::Proves;
use std::ops::Range;
use std::time::Duration;

/// The longest that a rehearsed wait may be.
const LONGEST: Duration = Duration::from_secs(600);
/// Logins of one rehearsal: a run of more is better split, since its list is read by people.
const MAX_LOGINS: usize = 1000;

/// A persona, with the places of its secrets.
pub(crate) type DraftPersona = (At<String>, Persona, Vec<At<String>>);

/// A rehearsal, its names not joined up yet.
pub(crate) struct DraftRehearsal {
    pub(crate) name: At<String>,
    logins: Vec<DraftLogin>,
    line: u32,
}

struct DraftLogin {
    persona: At<String>,
    via: At<String>,
    login: RehearsedLogin,
    titled: bool,
    span: Range<usize>,
}

pub(super) fn read_persona(section: Section<'_, '_, '_>) -> Option<DraftPersona> {
    let name = section.needed_text("name", "\"ines\"");
    let login = section.text("login").map(|login| login.value);
    let password = section.text("password");
    let (token, seed, code) = (section.flag("token").unwrap_or(false), section.text("seed"), section.text("code"));
    let handset = section.flag("handset").unwrap_or(false);
    let certificate = section.text("certificate");
    let line = section.line();
    let given = [token, seed.is_some(), code.is_some()].iter().filter(|given| **given).count();
    if given > 1 {
        let message = "a persona can have only one of `token`, `seed` and `code`";
        section.notes.error("contradiction", section.span.clone(), message, "keep one of them");
    }
    section.finish();
    let secrets = [&password, &seed, &code, &certificate].into_iter().flatten().cloned().collect();
    let codes = match (token, seed, code) {
        (true, ..) => Some(Codes::Robot),
        (_, Some(seed), _) => Some(Codes::Seed(seed.value)),
        (.., code) => code.map(|code| Codes::Fixed(code.value)),
    };
    let name = name?;
    let login = login.unwrap_or_else(|| name.value.clone());
    let (password, certificate) = (password.map(|name| name.value), certificate.map(|name| name.value));
    let persona = Persona { name: name.value.clone(), login, password, codes, handset, certificate, line };
    Some((name, persona, secrets))
}

pub(super) fn read_rehearsal(section: Section<'_, '_, '_>) -> Option<DraftRehearsal> {
    let name = section.needed_text("name", "\"staff\"");
    let logins: Vec<DraftLogin> = section.tables("logins", "a login of a rehearsal").into_iter().filter_map(read_login).collect();
    if !section.has("logins") {
        section.missing("logins", "[{ persona = \"ines\", via = \"breakwater\", type = \"{password}{code}\" }]");
    }
    if logins.len() > MAX_LOGINS {
        let message = format!("the rehearsal has {} logins; the limit is {MAX_LOGINS}", logins.len());
        section.notes.error("too-long", section.span.clone(), message, "split it, or run it with `--repeat`");
    }
    let line = section.line();
    section.finish();
    Some(DraftRehearsal { name: name?, logins, line })
}

fn read_login(section: Section<'_, '_, '_>) -> Option<DraftLogin> {
    let persona = section.needed_text("persona", "\"ines\"");
    let via = section.needed_text("via", "\"breakwater\"");
    let title = section.text("title");
    let typed_name = section.text("name").map(|name| name.value);
    let methods: Vec<(&str, Method)> = Method::ALL.iter().map(|method| (method.name(), *method)).collect();
    let method = section.choice("method", &methods).unwrap_or(Method::Pap);
    let typed = read_first_text(method, &section);
    let answers = section.texts("answers", true).map(|texts| texts.value).unwrap_or_default();
    let answers = answers.iter().filter_map(|text| read_typed(text, &section)).collect();
    let handset = section.text("handset").and_then(|text| read_handset_does(text, &section));
    let twist = section.choice("twist", Twist::ALL);
    let sessions = section.number("sessions", 0..=1_000_000).map_or(0, |number| number.value);
    let waits = section.table("waits").map(|waits| {
        let time = |key| waits.duration(key, SECOND / 10..=LONGEST).map(|time| time.value);
        let read = ShortWaits { prompt: time("prompt"), approval: time("approval") };
        waits.finish();
        read
    });
    let caller = section.text("caller").map(|caller| caller.value);
    let outer = section.text("outer").map(|name| name.value);
    let certificate = section.text("certificate").map(|text| match text.value.as_str() {
        "none" => OtherCertificate::None,
        _ => OtherCertificate::Of(text.value),
    });
    let expect = section.table("expect").map(read_expect).unwrap_or_else(|| Expect {
        outcome: if twist.is_some_and(Twist::is_met_with_silence) { Outcome::Silent } else { Outcome::Accepted },
        ..Expect::default()
    });
    let (line, span) = (section.line(), section.span.clone());
    section.finish();
    let (persona, via) = (persona?, via?);
    let titled = title.is_some();
    let title = title.map_or_else(|| format!("{} via {}", persona.value, via.value), |title| title.value);
    let waits = waits.unwrap_or_default();
    let login = RehearsedLogin {
        title,
        persona: 0,
        typed_name,
        via: 0,
        method,
        typed: typed?,
        answers,
        handset,
        twist,
        waits,
        caller,
        outer,
        certificate,
        sessions,
        expect,
        line,
    };
    Some(DraftLogin { persona, via, login, titled, span })
}

fn read_handset_does(text: At<String>, section: &Section<'_, '_, '_>) -> Option<HandsetDoes> {
    let does = HandsetDoes::parse(&text.value);
    if does.is_none() {
        let message = format!("`{}` is not a handset action", text.value);
        section.notes.error("not-a-choice", text.span, message, format!("write {}", HandsetDoes::WAYS));
    }
    does
}

/// What is typed first. With a certificate nothing is.
fn read_first_text(method: Method, section: &Section<'_, '_, '_>) -> Option<Typed> {
    match (section.text("type"), method.proves()) {
        (Some(text), _) => read_typed(&text, section),
        (None, Some(Proves::Certificate)) if !section.has("type") => Some(Typed { parts: Vec::new() }),
        (None, _) if section.has("type") => None,
        (None, _) => {
            section.missing("type", "\"{password}{code}\"");
            None
        }
    }
}

fn read_typed(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<Typed> {
    match Typed::parse(&text.value) {
        Ok(typed) => Some(typed),
        Err(error) => {
            section.notes.error("bad-template", text.span.clone(), error.to_string(), format!("placeholders: {}", Typed::PLACES));
            None
        }
    }
}

fn read_expect(section: Section<'_, '_, '_>) -> Expect {
    let cause = section.text("cause").and_then(|text| {
        let found = Cause::ALL.iter().copied().find(|cause| cause.slug() == text.value);
        if found.is_none() {
            let remedy = did_you_mean(&text.value, Cause::ALL.iter().map(|cause| cause.slug()));
            let remedy = remedy.unwrap_or_else(|| "see the causes in the guide".to_owned());
            section.notes.error("name-not-found", text.span, format!("unknown cause `{}`", text.value), remedy);
        }
        found
    });
    let by_cause = if cause.is_some_and(Cause::is_silent) { Outcome::Silent } else { Outcome::Refused };
    let outcome = section.choice("outcome", OUTCOMES).unwrap_or(if cause.is_some() { by_cause } else { Outcome::Accepted });
    let text = |key| section.text(key).map(|text: At<String>| text.value);
    let (grant, factor, source) = (text("grant"), text("factor"), text("source"));
    let listed = section.texts("attributes", true).map(|texts| texts.value).unwrap_or_default();
    let attributes = listed.into_iter().filter_map(|text| {
        let pair = text.value.split_once('=').map(|(name, value)| (name.trim().to_owned(), value.trim().to_owned()));
        if pair.is_none() {
            let message = format!("`{}` is not of the form NAME = VALUE", text.value);
            section.notes.error("wrong-type", text.span.clone(), message, "write it as \"Class = control-room\"");
        }
        pair
    });
    let attributes = attributes.collect();
    let absent = section.texts("absent", true).map(|texts| texts.value.into_iter().map(|text| text.value).collect()).unwrap_or_default();
    let within = section.duration("within", Duration::from_millis(1)..=LONGEST).map(|within| within.value);
    section.finish();
    Expect { outcome, cause, grant, attributes, absent, factor, source, within }
}

/// Joins up the names of a rehearsal. A login whose names do not exist is reported and left out.
pub(super) fn join_rehearsal(draft: DraftRehearsal, personas: &[DraftPersona], gateways: &[Gateway], notes: &Notes<'_>) -> Rehearsal {
    let mut logins: Vec<RehearsedLogin> = Vec::new();
    for DraftLogin { persona, via, mut login, titled, span } in draft.logins {
        let find = |wanted: &At<String>, names: Vec<&str>, what: &str| {
            let found = names.iter().position(|name| *name == wanted.value);
            if found.is_none() {
                let remedy = did_you_mean(&wanted.value, names.iter().copied()).unwrap_or_else(|| format!("known: {}", quoted(&names)));
                notes.error("name-not-found", wanted.span.clone(), format!("unknown {what} `{}`", wanted.value), remedy);
            }
            found
        };
        let found = (
            find(&persona, personas.iter().map(|(name, ..)| name.value.as_str()).collect(), "persona"),
            find(&via, gateways.iter().map(|gateway| gateway.name.as_str()).collect(), "gateway"),
        );
        let (Some(persona), Some(via)) = found else { continue };
        (login.persona, login.via) = (persona, via);
        let alike = |title: &str, logins: &[RehearsedLogin]| logins.iter().any(|other| other.title == title);
        if titled && alike(&login.title, &logins) {
            let message = format!("two logins of `{}` have the title `{}`", draft.name.value, login.title);
            notes.error("name-twice", span, message, "use unique titles; runs are compared by title");
        }
        let plain = login.title.clone();
        for number in 2.. {
            if titled || !alike(&login.title, &logins) {
                break;
            }
            login.title = format!("{plain} ({number})");
        }
        logins.push(login);
    }
    Rehearsal { name: draft.name.value, logins, line: draft.line }
}
