//! Which push services may be asked, and what wakes the people of a chain.

use super::super::section::{At, Notes, Section};
use super::super::{Push, Wake};
use super::SECOND;
use super::join::not_found;
use super::second::DraftCourier;
use bivector_push::{Service, Services};

const DAY: std::time::Duration = std::time::Duration::from_secs(86_400);

/// What `wake` may name besides couriers.
const PUSH: &str = "push";

pub(super) fn read_push(top: &Section<'_, '_, '_>) -> Push {
    let mut push = Push::default();
    let Some(section) = top.table("push") else { return push };
    if let Some(texts) = section.texts("services", true) {
        if texts.value.is_empty() {
            let remedy = "list hosts of push services, or take the key out for those of the common browsers";
            section.notes.error("empty", texts.span, "`services` is empty", remedy);
        }
        push.services = Services(texts.value.iter().filter_map(|text| read_service(text, &section)).collect());
    }
    push.contact = section.text("contact").and_then(|text| read_contact(&text, &section));
    push.proxy = section.text("proxy").and_then(|text| read_proxy(&text, &section));
    push.patience = section.duration("patience", SECOND..=SECOND * 30).map_or(push.patience, |time| time.value);
    push.per_person = section.number("per_person", 1..=1000).map_or(push.per_person, |number| number.value as u32);
    push.key_lasts = section.duration("key_lasts", DAY..=DAY * 3650).map_or(push.key_lasts, |time| time.value);
    section.finish();
    push
}

fn read_service(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<Service> {
    let read = Service::read(&text.value);
    if let Err(error) = &read {
        let remedy = "write a host such as \"push.example.net\" or \"*.example.net\"; \
                      only a service on this machine is written as \"http://127.0.0.1:PORT\"";
        section.notes.error("bad-address", text.span.clone(), error.to_string(), remedy);
    }
    read.ok()
}

/// RFC 8292 section 2.1.
fn read_contact(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<String> {
    let is_mail = text.value.strip_prefix("mailto:").is_some_and(|mail| mail.contains('@') && !mail.contains([' ', '<', '>']));
    let is_page = text.value.starts_with("https://") && text.value.len() > "https://".len() && !text.value.contains(' ');
    if is_mail || is_page {
        return Some(text.value.clone());
    }
    let message = format!("`{}` is not an address at which somebody can be reached", text.value);
    section.notes.error("bad-address", text.span.clone(), message, "write \"mailto:NAME@DOMAIN\" or an `https://` address");
    None
}

fn read_proxy(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<String> {
    let rest = text.value.strip_prefix("http://").map(|rest| rest.trim_end_matches('/'));
    if let Some(rest) = rest.filter(|rest| !rest.is_empty() && !rest.contains(['/', '@', ' ', '?', '#'])) {
        return Some(format!("http://{rest}"));
    }
    // A password must not be shown again.
    let message = match text.value.contains('@') {
        true => "`proxy` has a name or password, which are not supported".to_owned(),
        false => format!("`{}` is not the address of an HTTP proxy", text.value),
    };
    section.notes.error("bad-address", text.span.clone(), message, "write \"http://HOST:PORT\", without a name and password");
    None
}

/// What wakes people, by name: `push` and couriers, each once. Without the key it is push, where the handset page has an address.
pub(super) fn join_wake(
    wanted: Option<&At<Vec<At<String>>>>,
    asks_handsets: bool,
    has_address: bool,
    couriers: &[DraftCourier],
    notes: &Notes<'_>,
) -> Vec<Wake> {
    let Some(wanted) = wanted else { return if asks_handsets && has_address { vec![Wake::Push] } else { Vec::new() } };
    if !asks_handsets {
        let message = "`wake` applies to chains with approvals, and this one has none";
        notes.error("contradiction", wanted.span.clone(), message, "add `approval` to `second`, or remove `wake`");
    }
    let mut wake = Vec::new();
    for name in &wanted.value {
        let found = match name.value.as_str() {
            PUSH => Some(Wake::Push),
            other => couriers.iter().position(|(own, ..)| own.value == other).map(Wake::Courier),
        };
        match found {
            Some(one) if wake.contains(&one) => {
                notes.error("repeated", name.span.clone(), format!("`{}` is listed twice", name.value), "remove one of them");
            }
            Some(_) if !has_address => {
                let message = format!("`{}` leads people to the handset page, but `address` is not set", name.value);
                notes.error("wake-without-address", name.span.clone(), message, "set `address = \"https://NAME\"` under `[handset]`");
            }
            Some(one) => wake.push(one),
            None => {
                let names: Vec<&str> = [PUSH].into_iter().chain(couriers.iter().map(|(own, ..)| own.value.as_str())).collect();
                not_found(name, "way to wake people", &names, notes);
            }
        }
    }
    wake
}
