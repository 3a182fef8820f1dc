//! Texts that people type, that operators write and that directories answer.

use bivector_core::login::Pending;
use bivector_engine::handset::{is_signed, read_key};
use bivector_engine::roster::KeptPassword;
use bivector_model::directory::{name_of_dn, read_bind, read_change};
use bivector_model::form::{Form, readings};
use bivector_model::grant::Template;
use bivector_model::identity::{fits_pattern, realm_of};
use bivector_model::prompt::{fill, plain_answer, shorten, strange_places};
use bivector_model::text::{csv_field, is_plain, shown};
use bivector_site::rehearsal::Typed;
use bivector_site::{Known, Site, compare, read_duration};
use bolero::check;

const SITE: &str = include_str!("../../../docs/first-site.toml");

/// Every finding points into the text and says something.
fn read_site(text: &str) -> Option<Site> {
    let (site, findings) = Site::read(text, &Known::default());
    for finding in &findings {
        assert!(!finding.message.is_empty());
        assert!(finding.span.start <= finding.span.end && finding.span.end <= text.len(), "{finding:?}");
    }
    site
}

#[test]
fn site_files() {
    check!().with_type::<String>().for_each(|text| {
        read_site(text);
    });
}

/// A part of a good site file is replaced: most of it still reads, so that what is behind the syntax is reached too.
#[test]
fn damaged_site_files() {
    let whole = read_site(SITE).expect("the example reads");
    check!().with_type::<(u16, u8, String)>().for_each(|(at, length, text)| {
        let edge = |at: usize| (0..=at.min(SITE.len())).rev().find(|at| SITE.is_char_boundary(*at)).unwrap_or(0);
        let (begin, end) = (edge(usize::from(*at) % SITE.len()), edge(usize::from(*at) % SITE.len() + usize::from(*length)));
        if let Some(site) = read_site(&format!("{}{text}{}", &SITE[..begin], &SITE[end..])) {
            compare(&whole, &site);
        }
    });
}

#[test]
fn durations() {
    check!().with_type::<String>().for_each(|text| {
        read_duration(text);
    });
}

#[test]
fn credential_forms() {
    let words = ["totp".to_owned(), "push".to_owned()];
    check!().with_type::<(String, String)>().for_each(|(pattern, typed)| {
        for pattern in [pattern.as_str(), "{password}{code:6}", "{factor},{password}", "{pin}{code}", "{password},{code}"] {
            let Ok(form) = Form::parse(pattern) else { continue };
            for reading in readings(&[form], &words, typed) {
                let ranges = [&reading.password, &reading.code, &reading.pin];
                assert!(ranges.into_iter().flatten().all(|range| typed.get(range.clone()).is_some()), "{pattern} reads {typed:?}");
            }
        }
    });
}

#[test]
fn templates_and_places() {
    check!().with_type::<String>().for_each(|text| {
        let _ = Template::parse(text);
        let _ = Typed::parse(text);
        strange_places(text, &["site"]);
        fill(text, &[("site", "Northmoor")]);
    });
}

#[test]
fn typed_texts() {
    check!().with_type::<(String, u8)>().for_each(|(text, limit)| {
        let limit = usize::from(*limit);
        assert!(shorten(text, limit).len() <= limit.max(3));
        assert!(is_plain(&shown(text)), "{text:?} is shown as {:?}", shown(text));
        plain_answer(text);
        realm_of(text);
        fits_pattern(text, "ines@northmoor.example");
        fits_pattern("*@northmoor.example", text);
    });
}

#[test]
fn fields_of_lists_are_no_formula() {
    check!().with_type::<String>().for_each(|text| {
        let field = csv_field(text);
        assert!(!field.starts_with(['=', '+', '-', '@']) && is_plain(&field), "{field:?}");
    });
}

#[test]
fn answers_of_directories() {
    check!().with_type::<(u32, String, Option<Vec<u8>>)>().for_each(|(code, text, policy)| {
        read_bind(*code, text, policy.as_deref());
        read_change(*code, text, policy.as_deref());
        name_of_dn(text);
    });
}

#[test]
fn damaged_records() {
    check!().for_each(|bytes: &[u8]| {
        Pending::from_sealed(bytes);
        KeptPassword::from_bytes(bytes);
    });
}

#[test]
fn keys_and_signatures_of_handsets() {
    check!().with_type::<(String, Vec<u8>, String)>().for_each(|(key, bytes, signature)| {
        assert!(read_key(key).is_none_or(|key| key.len() == 65));
        assert!(!is_signed(bytes, key, signature));
    });
}
