//! Chains and their rules, before names are joined up.

use super::super::finding::did_you_mean;
use super::super::section::{At, Item, Section, quoted};
use super::super::{Method, SourceWhen, Waiver, WhenDown, WhenSecondIsDown, WhenSeveral, WhenUnclear};
use super::SECOND;
use super::conditions::{Conditions, read_when};
use super::handset::{Approvals, read_approvals};
use super::second::read_waivers;
use bivector_model::form::Form;
use bivector_model::rule::When;
use std::collections::BTreeMap;
use std::ops::Range;
use std::time::Duration;

/// A chain before its names are joined up.
pub(crate) struct DraftChain {
    pub(crate) name: At<String>,
    pub(crate) gateways: Vec<At<String>>,
    /// Takes the gateways that have all of these labels, too.
    pub(crate) labels: Option<At<BTreeMap<String, String>>>,
    pub(crate) ports: Vec<u16>,
    pub(crate) realms: Vec<String>,
    pub(crate) identity: Option<At<String>>,
    pub(crate) methods: Vec<Method>,
    pub(crate) issuers: Vec<At<String>>,
    pub(crate) forms: Vec<Form>,
    pub(crate) forms_span: Range<usize>,
    pub(crate) first: Vec<(At<String>, SourceWhen)>,
    pub(crate) when_source_is_down: WhenDown,
    pub(crate) change_password: bool,
    /// Names of factors: kinds of codes, couriers, upstreams.
    pub(crate) second: Vec<At<String>>,
    /// Words for factors: the factor's name, and how people write it.
    pub(crate) words: Vec<(At<String>, Vec<At<String>>)>,
    pub(crate) when_several: WhenSeveral,
    pub(crate) when_second_is_down: WhenSecondIsDown,
    pub(crate) approvals: Approvals,
    pub(crate) waive: Vec<Waiver>,
    pub(crate) code_only: bool,
    pub(crate) retry: bool,
    pub(crate) when_unclear: Option<WhenUnclear>,
    pub(crate) refusal_pace: Duration,
    pub(crate) line: u32,
}

/// A rule before its names are joined up.
pub(crate) struct DraftRule {
    pub(crate) name: At<String>,
    pub(crate) chain: Option<At<String>>,
    pub(crate) when: When,
    pub(crate) then: Option<DraftThen>,
    pub(crate) line: u32,
}

pub(crate) enum DraftThen {
    Grant(At<String>),
    Refuse(String),
}

pub(super) fn read_chain(section: Section<'_, '_, '_>) -> Option<DraftChain> {
    let name = section.needed_text("name", "\"staff\"");
    let labels = section.labels("labels");
    let gateways = needed_list(&section, "gateways", "[\"breakwater\"]", labels.is_none());
    let ports = section.texts("ports", true).map(|texts| read_ports(texts, &section)).unwrap_or_default();
    let realms = section.texts("realms", true).map(|texts| texts.value.into_iter().map(|text| text.value.to_lowercase()).collect());
    let identity = section.text("identity");
    let methods = section.texts("methods", true).map_or_else(|| vec![Method::Pap], |texts| read_methods(texts, &section));
    let (forms, forms_span) = read_forms(&section, methods.iter().any(|method| method.gives_text()));
    let issuers = section.texts("issuers", true).map(|texts| texts.value).unwrap_or_default();
    let code_only = section.flag("code_only").unwrap_or(false);
    let first = read_first(&section, code_only);
    let when_source_is_down =
        section.choice("when_source_is_down", &[("refuse", WhenDown::Refuse), ("next", WhenDown::Next)]).unwrap_or_default();
    let change_password = section.flag("change_password").unwrap_or(false);
    let second = read_second(&section);
    let words = section.lists("words");
    let when_several = section.choice("when_several", &[("list", WhenSeveral::List), ("first", WhenSeveral::First)]).unwrap_or_default();
    let downs = [("refuse", WhenSecondIsDown::Refuse), ("next", WhenSecondIsDown::Next), ("first-only", WhenSecondIsDown::FirstOnly)];
    let when_second_is_down = section.choice("when_second_is_down", &downs).unwrap_or_default();
    let approvals = read_approvals(&section);
    let waive = read_waivers(&section);
    let retry = section.flag("retry").unwrap_or(false);
    let when_unclear = section.choice("when_unclear", &[("code", WhenUnclear::Code), ("plain", WhenUnclear::Plain)]);
    let pace = section.duration("refusal_pace", Duration::ZERO..=SECOND * 5);
    if let Some(pace) = pace.as_ref().filter(|pace| pace.value.is_zero()) {
        section.notes.warn(
            "refusal-pace",
            pace.span.clone(),
            "refusals are sent immediately, so their timing reveals whether a login name exists",
            "set `refusal_pace` above your directory's usual response time, for example \"250ms\"",
        );
    }
    let line = section.line();
    section.finish();
    Some(DraftChain {
        name: name?,
        gateways,
        labels,
        ports,
        realms: realms.unwrap_or_default(),
        identity,
        methods,
        issuers,
        forms,
        forms_span,
        first,
        when_source_is_down,
        change_password,
        second,
        words,
        when_several,
        when_second_is_down,
        approvals,
        waive,
        code_only,
        retry,
        when_unclear,
        refusal_pace: pace.map_or(Duration::from_millis(250), |pace| pace.value),
        line,
    })
}

fn needed_list(section: &Section<'_, '_, '_>, key: &'static str, example: &str, needed: bool) -> Vec<At<String>> {
    match section.texts(key, true) {
        Some(texts) if texts.value.is_empty() => {
            section.notes.error("empty", texts.span, format!("`{key}` is empty"), format!("write for example `{key} = {example}`"));
            Vec::new()
        }
        Some(texts) => texts.value,
        None => {
            if needed && !section.has(key) {
                section.missing(key, example);
            }
            Vec::new()
        }
    }
}

fn read_ports(texts: At<Vec<At<String>>>, section: &Section<'_, '_, '_>) -> Vec<u16> {
    let read = |text: At<String>| {
        let port = text.value.parse().ok().filter(|port| *port > 0);
        if port.is_none() {
            section.notes.error(
                "bad-port",
                text.span,
                format!("`{}` is not a port number", text.value),
                "write the port of a door as a string, for example \"1812\"",
            );
        }
        port
    };
    texts.value.into_iter().filter_map(read).collect()
}

fn read_methods(texts: At<Vec<At<String>>>, section: &Section<'_, '_, '_>) -> Vec<Method> {
    let mut methods = Vec::new();
    for text in texts.value {
        match Method::ALL.iter().find(|method| method.name() == text.value) {
            Some(method) => methods.push(*method),
            None => {
                let names: Vec<&str> = Method::ALL.iter().map(|method| method.name()).collect();
                let remedy = did_you_mean(&text.value, names.iter().copied()).unwrap_or_else(|| format!("known: {}", quoted(&names)));
                section.notes.error("not-a-choice", text.span, format!("unsupported authentication method `{}`", text.value), remedy);
            }
        }
    }
    methods
}

/// Sources in order: a name, or a table with a name and whom the source is for.
fn read_first(section: &Section<'_, '_, '_>, code_only: bool) -> Vec<(At<String>, SourceWhen)> {
    let items = section.items("first", "a source of a chain");
    if items.is_empty() {
        let example = "[\"tidehall\", \"roster\"]";
        let empty = |message: &str, remedy: String| section.notes.error("empty", section.span.clone(), message, remedy);
        match (code_only, section.has("first")) {
            (true, _) => empty(
                "`first` names no source, and a `code_only` chain needs one too: it knows the people and their groups",
                format!("write for example `first = {example}`; no password is sent there"),
            ),
            (false, true) => empty("`first` is empty", format!("write for example `first = {example}`")),
            (false, false) => section.missing("first", example),
        }
    }
    items
        .into_iter()
        .filter_map(|item| match item {
            Item::Text(name) => Some((name, SourceWhen::Always)),
            Item::Table(table) => read_conditional(&table),
        })
        .collect()
}

fn read_conditional(table: &Section<'_, '_, '_>) -> Option<(At<String>, SourceWhen)> {
    let source = table.needed_text("source", "\"harbourlight\"");
    let lower = |text: Option<At<String>>| text.map(|text| text.value.to_lowercase());
    let (name, realm, group) = (lower(table.text("name")), lower(table.text("realm")), lower(table.text("group")));
    table.finish();
    let when = match (name, realm, group) {
        (Some(pattern), None, None) => SourceWhen::Name(pattern),
        (None, Some(realm), None) => SourceWhen::Realm(realm.trim_start_matches('@').trim_end_matches('\\').to_owned()),
        (None, None, Some(group)) => SourceWhen::Group(group),
        (None, None, None) => SourceWhen::Always,
        _ => {
            let message = "a source can have only one of `name`, `realm` and `group`";
            table.notes.error("contradiction", table.span.clone(), message, "keep one, or list the source once for each");
            return None;
        }
    };
    Some((source?, when))
}

fn read_forms(section: &Section<'_, '_, '_>, needed: bool) -> (Vec<Form>, Range<usize>) {
    let Some(texts) = section.texts("forms", true) else {
        if needed && !section.has("forms") {
            section.missing("forms", "[\"password code(6)\", \"password\"]");
        }
        return (Vec::new(), section.span.clone());
    };
    let mut forms = Vec::new();
    for text in texts.value {
        match Form::parse(&text.value) {
            Ok(form) if forms.contains(&form) => {
                section.notes.error("repeated", text.span, format!("the form `{form}` is listed twice"), "remove one of them");
            }
            Ok(form) => forms.push(form),
            // The pattern begins one byte behind the opening quote.
            Err(errors) => errors.into_iter().for_each(|error| {
                let start = (text.span.start + 1 + error.span.start).min(text.span.end);
                let end = (text.span.start + 1 + error.span.end).min(text.span.end);
                section.notes.error(
                    "bad-form",
                    start..end,
                    error.message,
                    "write a form as a list of fields, for example `password code(6)`",
                );
            }),
        }
    }
    (forms, texts.span)
}

fn read_second(section: &Section<'_, '_, '_>) -> Vec<At<String>> {
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
            "this chain requires no second factor: passing the first check is enough to log in",
            "set `second = [\"totp\"]`, unless an upstream asks for one itself",
        );
    }
    texts.value
}

pub(super) fn read_rule(section: Section<'_, '_, '_>, conditions: &Conditions) -> Option<DraftRule> {
    let name = section.needed_text("name", "\"control room\"");
    let chain = section.needed_text("chain", "\"staff\"");
    let when = section.table("when").map(|when| read_when(when, conditions, 0)).unwrap_or_default();
    let (grant, refuse) = (section.text("grant"), section.text("refuse"));
    let then = match (grant, refuse) {
        (Some(grant), None) => Some(DraftThen::Grant(grant)),
        (None, Some(reason)) => Some(DraftThen::Refuse(reason.value)),
        (Some(_), Some(refuse)) => {
            section.notes.error("contradiction", refuse.span, "a rule cannot have both `grant` and `refuse`", "remove one of them");
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
