//! `when` of rules, and `[[conditions]]` that several rules share.

use super::super::finding::did_you_mean;
use super::super::section::{At, Section};
use super::parts::read_range;
use bivector_model::condition::{Condition, Hours, TOLD_BY_GATEWAY};
use bivector_model::rule::When;
use bivector_wire::AttributeType;
use std::cell::RefCell;
use std::collections::BTreeSet;
use std::sync::Arc;

/// How deep `not` may stand in `not`.
const DEEPEST: u8 = 4;

/// Conditions by name, and which of them are used.
#[derive(Default)]
pub(super) struct Conditions {
    pub(super) named: Vec<(At<String>, Arc<When>)>,
    pub(super) used: RefCell<BTreeSet<String>>,
}

impl Conditions {
    /// Reads `[[conditions]]`. One may use those before it.
    pub(super) fn read(tables: Vec<Section<'_, '_, '_>>) -> Self {
        let mut all = Conditions::default();
        for section in tables {
            let name = section.needed_text("name", "\"office hours\"");
            let when = section.table("when").map(|when| read_when(when, &all, 0));
            if when.is_none() && !section.has("when") {
                section.missing("when", "{ hours = \"Mon-Fri 07:00-19:00\" }");
            }
            section.finish();
            if let (Some(name), Some(when)) = (name, when) {
                all.named.push((name, Arc::new(when)));
            }
        }
        all
    }
}

/// What a rule asks.
pub(super) fn read_when(when: Section<'_, '_, '_>, known: &Conditions, depth: u8) -> When {
    let groups = when.texts("group", true).map(|texts| texts.value.into_iter().map(|text| text.value.to_lowercase()).collect::<Vec<_>>());
    let labels = when.labels("label").map(|labels| labels.value).unwrap_or_default();
    let mut more = read_conditions(&when, known);
    if let Some(not) = when.table("not") {
        if depth >= DEEPEST {
            when.notes.error(
                "contradiction",
                not.span.clone(),
                "`not` stands in `not` too often",
                "name the inner part with `[[conditions]]`",
            );
        } else {
            more.push(Condition::Not(Arc::new(read_when(not, known, depth + 1))));
        }
    }
    let groups = groups.unwrap_or_default();
    if groups.is_empty() && labels.is_empty() && more.is_empty() {
        when.notes.error(
            "empty",
            when.span.clone(),
            "`when` has no condition",
            "write for example `when = { group = \"control-room\" }`, or omit `when` to match everybody",
        );
    }
    when.finish();
    When { groups, labels, more }
}

fn read_conditions(when: &Section<'_, '_, '_>, known: &Conditions) -> Vec<Condition> {
    let mut all = Vec::new();
    let texts = |key: &'static str| {
        let texts: Vec<String> = when.texts(key, true)?.value.into_iter().map(|text| text.value).collect();
        (!texts.is_empty()).then_some(texts)
    };
    let lower = |texts: Vec<String>| texts.into_iter().map(|text| text.to_lowercase()).collect();
    all.extend(texts("name").map(|names| Condition::Name(lower(names))));
    all.extend(texts("realm").map(Condition::Realm));
    all.extend(texts("source").map(Condition::Source));
    all.extend(texts("method").map(Condition::Method));
    all.extend(texts("factor").map(Condition::Factor));
    all.extend(texts("gateway").map(Condition::Gateway));
    all.extend(texts("issuer").map(Condition::Issuer));
    if let Some(ranges) = when.texts("from", true) {
        all.push(Condition::From(ranges.value.iter().filter_map(|text| Some(read_range(text, when)?.value)).collect()));
    }
    if let Some(hours) = when.texts("hours", true) {
        let read = hours.value.into_iter().filter_map(|text| match Hours::parse(&text.value) {
            Ok(hours) => Some(hours),
            Err(why) => {
                when.notes.error("bad-hours", text.span, why, "write for example \"Mon-Fri 07:00-19:00\"");
                None
            }
        });
        all.push(Condition::Hours(read.collect()));
    }
    for (name, values) in when.lists("nas") {
        let values = values.into_iter().map(|value| value.value).collect();
        match AttributeType::by_name(&name.value).filter(|kind| TOLD_BY_GATEWAY.contains(kind)) {
            Some(kind) => all.push(Condition::Nas(kind, values)),
            None => {
                let names = TOLD_BY_GATEWAY.iter().filter_map(|kind| kind.name());
                let remedy = did_you_mean(&name.value, names.clone())
                    .unwrap_or_else(|| format!("use one of {}", names.collect::<Vec<_>>().join(", ")));
                let what = format!("`{}` is not an attribute that a condition can ask for", name.value);
                when.notes.error("unknown-attribute", name.span, what, remedy);
            }
        }
    }
    for name in when.texts("condition", true).map(|names| names.value).unwrap_or_default() {
        match known.named.iter().find(|(own, _)| own.value == name.value) {
            Some((own, condition)) => {
                known.used.borrow_mut().insert(own.value.clone());
                all.push(Condition::Named(own.value.clone(), Arc::clone(condition)));
            }
            None => {
                let hint = did_you_mean(&name.value, known.named.iter().map(|(own, _)| own.value.as_str()));
                let remedy = hint.unwrap_or_else(|| "add a `[[conditions]]` table of that name, before those that use it".to_owned());
                when.notes.error("name-not-found", name.span, format!("no condition is named `{}`", name.value), remedy);
            }
        }
    }
    all
}
