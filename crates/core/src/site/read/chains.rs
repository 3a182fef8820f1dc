//! Chains and their rules, before names are joined up.

use super::super::finding::did_you_mean;
use super::super::section::{At, Section};
use super::super::{FactorKind, Method, WhenUnclear};
use super::SECOND;
use crate::form::Form;
use crate::rule::When;
use std::ops::Range;
use std::time::Duration;

/// A chain before its names are joined up.
pub(in crate::site) struct DraftChain {
    pub(in crate::site) name: At<String>,
    pub(in crate::site) gateways: Vec<At<String>>,
    pub(in crate::site) identity: Option<At<String>>,
    pub(in crate::site) methods: Vec<Method>,
    pub(in crate::site) forms: Vec<Form>,
    pub(in crate::site) forms_span: Range<usize>,
    pub(in crate::site) first: Vec<At<String>>,
    pub(in crate::site) second: Vec<FactorKind>,
    pub(in crate::site) when_unclear: WhenUnclear,
    pub(in crate::site) refusal_pace: Duration,
    pub(in crate::site) line: u32,
}

/// A rule before its names are joined up.
pub(super) struct DraftRule {
    pub(in crate::site) name: At<String>,
    pub(in crate::site) chain: Option<At<String>>,
    pub(in crate::site) when: When,
    pub(in crate::site) then: Option<DraftThen>,
    pub(in crate::site) line: u32,
}

pub(super) enum DraftThen {
    Grant(At<String>),
    Refuse(String),
}

pub(super) fn read_chain(section: Section<'_, '_, '_>) -> Option<DraftChain> {
    let name = section.needed_text("name", "\"staff\"");
    let gateways = needed_list(&section, "gateways", "[\"breakwater\"]");
    let identity = section.text("identity");
    let methods = section.texts("methods", true).map_or_else(|| vec![Method::Pap], |texts| read_methods(texts, &section));
    let (forms, forms_span) = read_forms(&section);
    let first = needed_list(&section, "first", "[\"tidehall\", \"roster\"]");
    let second = read_second(&section);
    let when_unclear = section.choice("when_unclear", &[("code", WhenUnclear::Code), ("plain", WhenUnclear::Plain)]).unwrap_or_default();
    let pace = section.duration("refusal_pace", Duration::ZERO..=SECOND * 5);
    if let Some(pace) = pace.as_ref().filter(|pace| pace.value.is_zero()) {
        section.notes.warn(
            "refusal-pace",
            pace.span.clone(),
            "refusals leave as soon as they are decided, so their time tells an unknown name from a wrong password",
            "set `refusal_pace` to more than a directory's usual answer time, such as \"250ms\"",
        );
    }
    let line = section.line();
    section.finish();
    Some(DraftChain {
        name: name?,
        gateways,
        identity,
        methods,
        forms,
        forms_span,
        first,
        second,
        when_unclear,
        refusal_pace: pace.map_or(Duration::from_millis(250), |pace| pace.value),
        line,
    })
}

fn needed_list(section: &Section<'_, '_, '_>, key: &'static str, example: &str) -> Vec<At<String>> {
    match section.texts(key, true) {
        Some(texts) if texts.value.is_empty() => {
            section.notes.error("empty", texts.span, format!("`{key}` is empty"), format!("write for example `{key} = {example}`"));
            Vec::new()
        }
        Some(texts) => texts.value,
        None => {
            if !section.has(key) {
                section.missing(key, example);
            }
            Vec::new()
        }
    }
}

fn read_methods(texts: At<Vec<At<String>>>, section: &Section<'_, '_, '_>) -> Vec<Method> {
    let mut methods = Vec::new();
    for text in texts.value {
        match text.value.as_str() {
            "pap" => methods.push(Method::Pap),
            other => {
                let message = format!("the method `{other}` is not served by this version");
                section.notes.error("not-a-choice", text.span, message, "use `pap`");
            }
        }
    }
    methods
}

fn read_forms(section: &Section<'_, '_, '_>) -> (Vec<Form>, Range<usize>) {
    let Some(texts) = section.texts("forms", true) else {
        if !section.has("forms") {
            section.missing("forms", "[\"password code(6)\", \"password\"]");
        }
        return (Vec::new(), section.span.clone());
    };
    let mut forms = Vec::new();
    for text in texts.value {
        match Form::parse(&text.value) {
            Ok(form) if forms.contains(&form) => {
                section.notes.error("repeated", text.span, format!("the form `{form}` stands twice"), "take one of them out");
            }
            Ok(form) => forms.push(form),
            // The pattern begins one byte behind the opening quote.
            Err(errors) => errors.into_iter().for_each(|error| {
                let start = (text.span.start + 1 + error.span.start).min(text.span.end);
                let end = (text.span.start + 1 + error.span.end).min(text.span.end);
                section.notes.error("bad-form", start..end, error.message, "a form is a list of fields, such as `password code(6)`");
            }),
        }
    }
    (forms, texts.span)
}

fn read_second(section: &Section<'_, '_, '_>) -> Vec<FactorKind> {
    let Some(texts) = section.texts("second", true) else {
        if !section.has("second") {
            section.missing("second", "[\"totp\"]");
        }
        return Vec::new();
    };
    if texts.value.is_empty() {
        section.notes.warn(
            "no-second",
            texts.span.clone(),
            "this chain asks for no second factor: the password alone lets people in",
            "set `second = [\"totp\"]`",
        );
    }
    let mut kinds = Vec::new();
    for text in texts.value {
        match text.value.as_str() {
            "totp" => kinds.push(FactorKind::Totp),
            other => {
                let message = format!("the factor `{other}` is not served by this version");
                section.notes.error(
                    "not-a-choice",
                    text.span,
                    message,
                    did_you_mean(other, ["totp"]).unwrap_or_else(|| "use `totp`".to_owned()),
                );
            }
        }
    }
    kinds
}

pub(super) fn read_rule(section: Section<'_, '_, '_>) -> Option<DraftRule> {
    let name = section.needed_text("name", "\"control room\"");
    let chain = section.needed_text("chain", "\"staff\"");
    let when = section.table("when").map_or(When::Everybody, |when| {
        let groups =
            when.texts("group", true).map(|texts| texts.value.into_iter().map(|text| text.value.to_lowercase()).collect::<Vec<_>>());
        if groups.as_ref().is_none_or(Vec::is_empty) {
            when.notes.error(
                "empty",
                when.span.clone(),
                "`when` names no group",
                "write `when = { group = \"control-room\" }`, or leave `when` out to mean everybody",
            );
        }
        when.finish();
        When::AnyGroup(groups.unwrap_or_default())
    });
    let (grant, refuse) = (section.text("grant"), section.text("refuse"));
    let then = match (grant, refuse) {
        (Some(grant), None) => Some(DraftThen::Grant(grant)),
        (None, Some(reason)) => Some(DraftThen::Refuse(reason.value)),
        (Some(_), Some(refuse)) => {
            section.notes.error("contradiction", refuse.span, "a rule either grants or refuses", "take `grant` or `refuse` out");
            None
        }
        (None, None) => {
            if !section.has("grant") && !section.has("refuse") {
                section.missing("grant", "\"control-room\"");
            }
            None
        }
    };
    let line = section.line();
    section.finish();
    Some(DraftRule { name: name?, chain, when, then, line })
}
