//! `[[issuers]]`: whose certificates may log in.

use super::super::section::{At, Section};
use super::super::{Issuer, NameFrom, Responder, WhenUnknown};
use super::SECOND;
use super::eap::is_in_data_folder;

pub(super) fn read_issuer(section: Section<'_, '_, '_>) -> Option<(At<String>, Issuer)> {
    let name = section.needed_text("name", "\"northmoor-people\"");
    let trust = section.needed_text("trust", "\"people-ca.pem\"").filter(|file| is_in_data_folder(file, &section));
    let name_from = section.choice("name_from", &NameFrom::ALL).unwrap_or_default();
    let of_devices = section.choice("belong_to", &[("people", false), ("devices", true)]).unwrap_or(false);
    let same_person = section.flag("same_person").unwrap_or(true);
    let lists = section.texts("revocation", true).map(|texts| texts.value).unwrap_or_default();
    let lists = lists.into_iter().filter(|text| is_list(text, &section)).map(|text| text.value).collect();
    let responder = section.text("ocsp").and_then(|text| read_responder(&text, &section));
    let unknown = [("refuse", WhenUnknown::Refuse), ("accept", WhenUnknown::Accept)];
    let when_unknown = section.choice("when_unknown", &unknown).unwrap_or_default();
    let refresh = section.duration("refresh", SECOND * 60..=SECOND * 86_400 * 7).map_or(SECOND * 3_600, |time| time.value);
    let key_bits = section.number("key_bits", 1_024..=16_384).map_or(2_048, |bits| bits.value as u32);
    let line = section.line();
    section.finish();
    let (name, trust) = (name?, trust?.value);
    let issuer = Issuer {
        name: name.value.clone(),
        trust,
        name_from,
        of_devices,
        same_person,
        lists,
        responder,
        when_unknown,
        refresh,
        key_bits,
        line,
    };
    Some((name, issuer))
}

/// A file in the data folder, or an address.
fn is_list(text: &At<String>, section: &Section<'_, '_, '_>) -> bool {
    is_address(&text.value) || is_in_data_folder(text, section)
}

fn is_address(text: &str) -> bool {
    text.starts_with("http://") || text.starts_with("https://")
}

fn read_responder(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<Responder> {
    match text.value.as_str() {
        "certificate" => Some(Responder::InCertificate),
        address if is_address(address) && !address.contains(char::is_whitespace) => Some(Responder::At(address.to_owned())),
        other => {
            let message = format!("`{other}` is not an OCSP responder");
            let fix = "write \"certificate\" for the responder that each certificate names, or an address such as \"http://ocsp.northmoor.example\"";
            section.notes.error("bad-address", text.span.clone(), message, fix);
            None
        }
    }
}
