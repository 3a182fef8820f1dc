//! Everything about second factors: how codes are read, couriers, what people read, who needs none.

use super::super::check;
use super::super::finding::did_you_mean;
use super::super::section::{At, Item, Section, quoted};
use super::super::{Carries, Courier, CourierBy, Lockout, Passwords, Sending, Server, Waived, Waiver};
use super::SECOND;
use super::parts::read_range;
use bivector_model::device::CodeLimits;
use bivector_model::prompt::{OwnTexts, Text, Texts, strange_places};
use ipnet::IpNet;
use std::collections::BTreeMap;
use std::sync::LazyLock;
use std::time::Duration;

/// What a courier's templates have places for.
const COURIER_PLACES: &[&str] = &["to", "code", "text", "name", "secret"];

/// How second factors are checked, for all chains.
pub(crate) struct Factors {
    pub(crate) codes: CodeLimits,
    pub(crate) sending: Sending,
    pub(crate) lockout: Lockout,
    pub(crate) prompt_lasts: Duration,
    /// Lines of `prompt_lasts` and of `lasts` under `sent`; 0 where they are not written.
    pub(crate) lines: (u32, u32),
}

pub(super) fn read_factors(top: &Section<'_, '_, '_>) -> Factors {
    let (codes, sending, lockout) = Default::default();
    let mut read = Factors { codes, sending, lockout, prompt_lasts: SECOND * 120, lines: (0, 0) };
    let Some(factors) = top.table("factors") else { return read };
    if let Some(totp) = factors.table("totp") {
        read.codes.window = totp.number("window", 0..=10).map_or(read.codes.window, |window| window.value);
        read.codes.drift = totp.number("drift", 0..=100).map_or(read.codes.drift, |drift| drift.value);
        totp.finish();
    }
    if let Some(hotp) = factors.table("hotp") {
        read.codes.look_ahead = hotp.number("look_ahead", 1..=100).map_or(read.codes.look_ahead, |number| number.value);
        let resync = hotp.number("resync", 1..=10_000);
        read.codes.resync = resync.as_ref().map_or(read.codes.resync.max(read.codes.look_ahead), |number| number.value);
        if let Some(resync) = resync.filter(|resync| resync.value < read.codes.look_ahead) {
            let message = format!("`resync` is {}, less than `look_ahead`", resync.value);
            hotp.notes.error("out-of-range", resync.span, message, "set it to more than `look_ahead`, such as 100");
        }
        hotp.finish();
    }
    if let Some(sent) = factors.table("sent") {
        let sending = &mut read.sending;
        sending.digits = sent.number("digits", 6..=10).map_or(sending.digits, |number| number.value as u8);
        if let Some(lasts) = sent.duration("lasts", SECOND * 30..=SECOND * 3600) {
            (sending.lasts, read.lines.1) = (lasts.value, sent.notes.lines.line(lasts.span.start));
        }
        sending.resends = sent.number("resends", 0..=10).map_or(sending.resends, |number| number.value as u8);
        sending.per_person = sent.number("per_person", 1..=1000).map_or(sending.per_person, |number| number.value as u32);
        sending.per_minute = sent.number("per_minute", 1..=100_000).map_or(sending.per_minute, |number| number.value as u32);
        sent.finish();
    }
    if let Some(lockout) = factors.table("lockout") {
        read.lockout.after = lockout.number("after", 1..=100).map_or(read.lockout.after, |number| number.value as u32);
        read.lockout.time = lockout.duration("time", SECOND..=SECOND * 86_400 * 30).map_or(read.lockout.time, |time| time.value);
        lockout.finish();
    }
    if let Some(lasts) = factors.duration("prompt_lasts", SECOND..=SECOND * 3600) {
        (read.prompt_lasts, read.lines.0) = (lasts.value, factors.notes.lines.line(lasts.span.start));
    }
    factors.finish();
    read
}

/// MiB that hashes may take at the same time before the check warns.
const HASH_MEMORY: u64 = 1024;

pub(super) fn read_passwords(top: &Section<'_, '_, '_>) -> Passwords {
    let mut read = Passwords::default();
    let Some(passwords) = top.table("passwords") else { return read };
    read.after = passwords.number("after", 2..=1000).map_or(read.after, |number| number.value as u32);
    read.per_caller = passwords.number("per_caller", 2..=100_000).map_or(read.per_caller, |number| number.value as u32);
    read.wait = passwords.duration("wait", SECOND..=SECOND * 3600).map_or(read.wait, |wait| wait.value);
    let longest = passwords.duration("longest", SECOND..=SECOND * 86_400 * 7);
    read.longest = longest.as_ref().map_or(read.longest.max(read.wait), |longest| longest.value);
    if let Some(longest) = longest.filter(|longest| longest.value < read.wait) {
        let message = "`longest` is shorter than `wait`, the first wait".to_owned();
        passwords.notes.error("out-of-range", longest.span, message, "set it to `wait` or more, such as \"1h\"");
    }
    if let Some(hash) = passwords.table("hash") {
        let usual = read.hash;
        read.hash.memory_mib = hash.number("memory_mib", 8..=1024).map_or(usual.memory_mib, |number| number.value as u32);
        read.hash.passes = hash.number("passes", 1..=20).map_or(usual.passes, |number| number.value as u32);
        read.hash.at_once = hash.number("at_once", 2..=256).map(|number| number.value as u32);
        // As much as sign-ins and logins of strangers may take up at one time.
        let most = u64::from(read.hash.memory_mib) * u64::from(read.hash.at_once.unwrap_or(2));
        if most > HASH_MEMORY {
            let message = format!("hashes of passwords may take {most} MiB at the same time");
            hash.notes.warn(
                "hash-memory",
                hash.span.clone(),
                message,
                "lower `memory_mib` or `at_once`, unless the machine has that much to spare",
            );
        }
        hash.finish();
    }
    passwords.finish();
    read
}

pub(super) fn read_texts(top: &Section<'_, '_, '_>) -> Texts {
    let language = top.text("language");
    let mut texts = Texts { fallback: language.as_ref().map(|tag| tag.value.clone()).unwrap_or_default(), ..Texts::default() };
    for (tag, section) in top.named_tables("texts") {
        let mut own = OwnTexts::new();
        for text in Text::ALL {
            let Some(template) = section.text(text.key()) else { continue };
            allowed_places(&template, text.places(), &section);
            own.insert(*text, template.value);
        }
        let page = read_page(&section);
        section.finish();
        if !page.is_empty() {
            texts.page.insert(tag.value.clone(), page);
        }
        texts.own.insert(tag.value, own);
    }
    if let Some(tag) = language.filter(|tag| !texts.languages().any(|known| known == tag.value)) {
        unknown_language(&tag, &texts, top);
    }
    texts
}

/// What the handset page says, by its English text, which is the key in the page's own list.
static PAGE: LazyLock<BTreeMap<String, Vec<String>>> =
    LazyLock::new(|| serde_json::from_str(include_str!("../../../../console/src/handset/messages.json")).unwrap_or_default());

/// Texts of the handset page: each stands for an English one, with the same places.
fn read_page(section: &Section<'_, '_, '_>) -> BTreeMap<String, String> {
    let mut page = BTreeMap::new();
    for (english, mut texts) in section.lists("page") {
        let (Some(text), true) = (texts.pop(), texts.is_empty()) else { continue };
        if !PAGE.contains_key(&english.value) {
            let message = format!("the handset page has no text `{}`", english.value);
            let remedy = did_you_mean(&english.value, PAGE.keys().map(String::as_str));
            let remedy = remedy.unwrap_or_else(|| "write the English text exactly as the page shows it".to_owned());
            section.notes.error("name-not-found", english.span, message, remedy);
            continue;
        }
        let places: Vec<&str> = english.value.split('{').skip(1).filter_map(|rest| rest.split('}').next()).collect();
        allowed_places(&text, &places, section);
        page.insert(english.value, text.value);
    }
    page
}

/// Reports a language that nothing is written in.
pub(super) fn unknown_language(tag: &At<String>, texts: &Texts, section: &Section<'_, '_, '_>) {
    let known: Vec<&str> = texts.languages().collect();
    let message = format!("no texts exist for the language `{}`", tag.value);
    let remedy = format!("use one of {}, or add `[texts.{}]` with your own texts", quoted(&known), tag.value);
    section.notes.error("not-a-choice", tag.span.clone(), message, remedy);
}

fn allowed_places(template: &At<String>, allowed: &[&str], section: &Section<'_, '_, '_>) {
    for strange in strange_places(&template.value, allowed) {
        let known: Vec<String> = allowed.iter().map(|place| format!("`{{{place}}}`")).collect();
        let remedy =
            if known.is_empty() { "this text takes no placeholders".to_owned() } else { format!("known here: {}", known.join(", ")) };
        section.notes.error("bad-template", template.span.clone(), format!("`{{{strange}}}` is not a placeholder of this text"), remedy);
    }
}

pub(crate) type DraftCourier = (At<String>, Courier, Option<At<String>>);

pub(super) fn read_courier(section: Section<'_, '_, '_>) -> Option<DraftCourier> {
    let name = section.needed_text("name", "\"pager\"");
    if !section.has("carries") {
        section.missing("carries", "\"text\"");
    }
    let carries = section.choice("carries", &Carries::ALL.iter().map(|one| (one.name(), *one)).collect::<Vec<_>>());
    let by = match (section.text("url"), section.text("server")) {
        (Some(url), None) => {
            section.out_of_place(&["from", "start_tls", "account"], "it applies to mail servers, and this courier has a `url`");
            read_http(url, &section)
        }
        (None, Some(server)) => {
            section.out_of_place(&["headers", "body", "content_type"], "it applies to HTTP, and this courier has a `server`");
            read_smtp(&server, &section)
        }
        _ => {
            let message = "a courier needs either a `url` (HTTP) or a `server` (SMTP)";
            section.notes.error("missing-key", section.span.clone(), message, "give it one of the two, such as `url = \"https://…\"`");
            None
        }
    };
    let secret = section.text("secret");
    let trust = section.text("trust").map(|trust| trust.value);
    let patience = section.duration("patience", Duration::from_millis(100)..=SECOND * 60).map_or(SECOND * 5, |patience| patience.value);
    let line = section.line();
    section.finish();
    let name = name?;
    let secret_name = secret.as_ref().map(|secret| secret.value.clone());
    let courier = Courier { name: name.value.clone(), carries: carries?, by: by?, secret: secret_name, trust, patience, line };
    Some((name, courier, secret))
}

fn read_http(url: At<String>, section: &Section<'_, '_, '_>) -> Option<CourierBy> {
    let local = |rest: &str| ["127.0.0.1", "localhost", "[::1]"].iter().any(|host| rest.starts_with(host));
    match url.value.split_once("://") {
        Some(("https", rest)) if !rest.is_empty() => {}
        Some(("http", rest)) if !rest.is_empty() => {
            if !local(rest) {
                section.notes.warn(
                    "clear-text",
                    url.span.clone(),
                    "codes are sent unencrypted to this courier: anyone on the network path can read them",
                    "use `https://`",
                );
            }
        }
        _ => {
            section.notes.error("bad-server", url.span, format!("`{}` is not a valid URL", url.value), "write `https://NAME/PATH`");
            return None;
        }
    }
    let template = |key| section.text(key).inspect(|text| allowed_places(text, COURIER_PLACES, section));
    allowed_places(&url, COURIER_PLACES, section);
    let headers = section.labels("headers").map(|headers| headers.value.into_iter().collect()).unwrap_or_default();
    let content_type = section.text("content_type").map_or_else(|| "application/json".to_owned(), |text| text.value);
    let body = template("body").map_or_else(|| "{\"to\": \"{to}\", \"text\": \"{text}\"}".to_owned(), |text| text.value);
    Some(CourierBy::Http { url: url.value, headers, body, content_type })
}

fn read_smtp(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<CourierBy> {
    let server = split_mail_server(&text.value);
    if server.is_none() {
        let message = format!("`{}` is not a valid mail server address", text.value);
        let remedy = "write `smtps://NAME`, or `smtp://NAME` with `start_tls = true`, either with a port if it is not the usual one";
        section.notes.error("bad-server", text.span.clone(), message, remedy);
    }
    let start_tls = section.flag("start_tls").unwrap_or(false);
    let from = section.needed_text("from", "\"sign-in@northmoor.example\"");
    if let Some(from) = from.as_ref().filter(|from| !from.value.contains('@')) {
        section.notes.error("bad-address", from.span.clone(), format!("`{}` is not an email address", from.value), "write NAME@DOMAIN");
    }
    let account = section.text("account").map(|account| account.value);
    let server = server?;
    let local = ["127.0.0.1", "localhost", "::1"].contains(&server.host.as_str());
    if !server.tls && !start_tls && !local {
        section.notes.warn(
            "clear-text",
            text.span.clone(),
            "codes are sent unencrypted to this mail server: anyone on the network path can read them",
            "use `smtps://`, or set `start_tls = true`",
        );
    }
    Some(CourierBy::Smtp { server, start_tls, from: from?.value, account })
}

fn split_mail_server(url: &str) -> Option<Server> {
    let (tls, rest) = match url.split_once("://")? {
        ("smtp", rest) => (false, rest),
        ("smtps", rest) => (true, rest),
        _ => return None,
    };
    let (host, port) = check::split_host(rest.strip_suffix('/').unwrap_or(rest), if tls { 465 } else { 25 })?;
    Some(Server { url: url.to_owned(), tls, host, port })
}

/// Who needs no second factor: tables, each with a reason.
pub(super) fn read_waivers(section: &Section<'_, '_, '_>) -> Vec<Waiver> {
    let items = section.items("waive", "an entry of `waive`");
    items
        .into_iter()
        .filter_map(|item| match item {
            Item::Table(table) => read_waiver(&table),
            Item::Text(text) => {
                let example = "write `{ network = \"192.0.2.0/24\", reason = \"the control room's own network\" }`";
                section.notes.error("wrong-type", text.span, "an entry of `waive` must be a table", example);
                None
            }
        })
        .collect()
}

fn read_waiver(table: &Section<'_, '_, '_>) -> Option<Waiver> {
    let lower = |texts: At<Vec<At<String>>>| texts.value.into_iter().map(|text| text.value.to_lowercase()).collect::<Vec<_>>();
    let network = table.texts("network", true);
    let (group, person) = (table.texts("group", true).map(lower), table.texts("person", true).map(lower));
    let reason = table.needed_text("reason", "\"the control room's own network\"");
    let line = table.line();
    table.finish();
    let who = match (network, group, person) {
        (Some(ranges), None, None) => {
            let ranges: Vec<IpNet> = ranges.value.iter().filter_map(|text| read_range(text, table)).map(|range| range.value).collect();
            Waived::Network(ranges)
        }
        (None, Some(groups), None) if !groups.is_empty() => Waived::Group(groups),
        (None, None, Some(people)) if !people.is_empty() => Waived::Person(people),
        _ => {
            let message = "an entry of `waive` needs exactly one of `network`, `group` and `person`";
            table.notes.error("contradiction", table.span.clone(), message, "keep one; add a separate entry for each of the others");
            return None;
        }
    };
    Some(Waiver { who, reason: reason?.value, line })
}
