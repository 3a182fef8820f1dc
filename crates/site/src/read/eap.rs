//! How EAP is carried out: certificate, versions and limits.

use super::super::section::{At, Section};
use super::super::{Eap, EapCertificate};
use super::SECOND;

pub(super) fn read_eap(section: &Section<'_, '_, '_>) -> Eap {
    let usual = Eap::default();
    let (certificate, key) = (read_file("certificate", section), read_file("key", section));
    let certificate = match (certificate, key) {
        (Some(certificate), Some(key)) => Some(EapCertificate { certificate: certificate.value, key: key.value }),
        (None, None) => None,
        (Some(_), None) => missing("key", "eap-key.pem", section),
        (None, Some(_)) => missing("certificate", "eap.pem", section),
    };
    let eap = Eap {
        certificate,
        tls12: section.choice("tls", &[("1.2", true), ("1.3", false)]).unwrap_or(usual.tls12),
        fragment: section.number("fragment", 200..=1_400).map_or(usual.fragment, |number| number.value as usize),
        conversations: section.number("conversations", 16..=100_000).map_or(usual.conversations, |number| number.value as usize),
        idle: section.duration("idle", SECOND * 10..=SECOND * 600).map_or(usual.idle, |time| time.value),
        resume: section.duration("resume", SECOND * 60..=SECOND * 86_400).map(|time| time.value),
        line: section.line(),
    };
    section.finish();
    eap
}

fn missing(key: &'static str, example: &str, section: &Section<'_, '_, '_>) -> Option<EapCertificate> {
    section.missing(key, &format!("\"{example}\""));
    None
}

/// A file in the data folder, by a path that does not leave it.
fn read_file(key: &'static str, section: &Section<'_, '_, '_>) -> Option<At<String>> {
    section.text(key).filter(|text| is_in_data_folder(text, section))
}

/// Whether a file is named by a path that does not leave the data folder; says so if not.
pub(super) fn is_in_data_folder(text: &At<String>, section: &Section<'_, '_, '_>) -> bool {
    let leaves = text.value.starts_with('/') || text.value.split('/').any(|part| part == "..");
    if text.value.is_empty() || leaves {
        let message = format!("`{}` is not a file in the data folder", text.value);
        section.notes.error("bad-file", text.span.clone(), message, "write a path relative to the data folder, for example \"eap.pem\"");
        return false;
    }
    true
}
