//! Things that nothing uses, chains that cannot work, rules that never decide.

use super::super::finding::did_you_mean;
use super::super::read::{DraftDirectory, DraftGateway, DraftUpstream};
use super::super::section::{At, Notes, show};
use super::super::{Chain, FactorKind, Method, SourceRef, SourceWhen};
use crate::form::{Form, readings};
use crate::grant::{Grant, GrantValue, Target};
use crate::identity::IdentityRule;
use crate::rule::{Rule, Then, When};
use bivector_wire::AttributeType;
use std::ops::Range;

/// Things that nothing uses, and chains that cannot work.
pub(in crate::site) fn uses(
    chains: &[Chain],
    gateways: &[DraftGateway],
    directories: &[DraftDirectory],
    upstreams: &[DraftUpstream],
    identities: &[(At<String>, IdentityRule)],
    grants: &[(At<String>, Grant)],
    notes: &Notes<'_>,
) {
    for (name, gateway, ..) in gateways {
        if gateway.chains.is_empty() {
            let message = format!("no chain takes logins from `{}`: they are all refused", gateway.name);
            notes.warn("unused", name.span.clone(), message, "name it under `gateways` of a chain");
        }
        if let Some(knows) = &gateway.knows {
            known_groups(name, knows, gateway.chains.iter().filter_map(|chain| chains.get(*chain)), grants, notes);
        }
    }
    for (index, (name, ..)) in directories.iter().enumerate() {
        unused(name, "directory", chains.iter().any(|chain| chain.asks(SourceRef::Directory(index))), notes);
    }
    for (index, (name, ..)) in upstreams.iter().enumerate() {
        let used = |chain: &Chain| chain.asks(SourceRef::Upstream(index)) || chain.second.contains(&FactorKind::Upstream(index));
        unused(name, "upstream", chains.iter().any(used), notes);
    }
    for (name, rule) in identities {
        unused(name, "identity rule", chains.iter().any(|chain| chain.identity.name == rule.name), notes);
    }
    for (index, (name, _)) in grants.iter().enumerate() {
        let given = chains.iter().flat_map(|chain| chain.rules.rules()).any(|rule| rule.then == Then::Grant(index));
        unused(name, "grant", given, notes);
    }
    for (index, chain) in chains.iter().enumerate() {
        forms_and_factors(chain, notes);
        methods(chain, notes);
        cascade(chain, notes);
        let shows = || gateways.iter().any(|(_, gateway, ..)| gateway.shows_challenges && gateway.chains.contains(&index));
        if chain.change_password && !shows() {
            let message =
                format!("`change_password` of `{}` asks for the new password, but none of its gateways shows prompts", chain.name);
            notes.warn("no-prompt", notes.lines.start_of(chain.line), message, "set `shows_challenges = true` on a gateway that can");
        }
    }
}

/// A gateway that gives up before the chain behind it has had its time tries in vain; the person then logs in twice.
pub(in crate::site) fn waits(site: &super::super::Site, notes: &Notes<'_>) {
    for gateway in &site.gateways {
        let Some(patience) = gateway.patience else { continue };
        let waits = patience.wait * patience.tries;
        for chain in gateway.chains.iter().filter_map(|chain| site.chains.get(*chain)) {
            let needs = chain.slowest(site);
            if needs > waits {
                let message = format!(
                    "`{}` gives up after {}, and the chain `{}` behind it may take {} when a server is down",
                    gateway.name,
                    show(waits),
                    chain.name,
                    show(needs)
                );
                let remedy = format!("let the device wait {} in all, or lower `patience` of the sources", show(needs));
                notes.warn("waits-do-not-nest", notes.lines.start_of(gateway.line), message, remedy);
            }
        }
    }
}

fn unused(name: &At<String>, what: &str, used: bool, notes: &Notes<'_>) {
    if !used {
        let message = format!("nothing uses the {what} `{}`", name.value);
        notes.warn("unused", name.span.clone(), message, "take it out, or name it where it belongs");
    }
}

/// The texts of grants that reach a gateway which has a list of the groups that it knows.
fn known_groups<'c>(
    gateway: &At<String>,
    knows: &[String],
    chains: impl Iterator<Item = &'c Chain>,
    grants: &[(At<String>, Grant)],
    notes: &Notes<'_>,
) {
    let given = chains.flat_map(|chain| chain.rules.rules()).filter_map(|rule| match rule.then {
        Then::Grant(grant) => grants.get(grant),
        Then::Refuse(_) => None,
    });
    let mut seen = std::collections::BTreeSet::new();
    for (name, grant) in given {
        for item in &grant.reply {
            let names_group = matches!(item.target, Target::Standard(AttributeType::Class | AttributeType::FilterId));
            let GrantValue::Text(template) = &item.value else { continue };
            let Some(text) = template.plain().filter(|text| names_group && !knows.iter().any(|group| group == text)) else { continue };
            if seen.insert((name.span.start, text)) {
                let message = format!("`{text}` in the grant `{}` is none of the groups that `{}` knows", name.value, gateway.value);
                let remedy =
                    did_you_mean(text, knows.iter().map(String::as_str)).unwrap_or_else(|| format!("known there: {}", knows.join(", ")));
                notes.warn("group-not-known", name.span.clone(), message, remedy);
            }
        }
    }
}

fn forms_and_factors(chain: &Chain, notes: &Notes<'_>) {
    let at = notes.lines.start_of(chain.line);
    let forms_at = notes.lines.start_of(chain.forms_line);
    let has_code = chain.forms.iter().any(Form::has_code);
    if !chain.second.is_empty() && !chain.forms.is_empty() && !has_code {
        let message = format!("the chain `{}` asks for a code, but none of its forms has a place for one", chain.name);
        notes.error("form-without-code", forms_at.clone(), message, "add the form `password code(6)`");
    }
    if chain.second.is_empty() && has_code {
        let message = format!("a form of the chain `{}` has a code, but nothing checks it", chain.name);
        notes.error("code-unchecked", forms_at, message, "set `second = [\"totp\"]`, or take the form out");
    }
    if chain.second.len() > 1 {
        let message = format!("the chain `{}` lists {} second factors; this version takes one", chain.name, chain.second.len());
        notes.error("one-factor", at.clone(), message, "keep one of them");
    }
    if !chain.rules.rules().iter().any(|rule| matches!(rule.then, Then::Grant(_))) {
        let message = format!("no rule of the chain `{}` lets anybody in", chain.name);
        notes.warn("nobody-gets-in", at, message, "add a `[[rules]]` with a `grant` for it");
    }
}

/// Why a method cannot work with a source: the one place that knows, for the check, the machine and the pages.
pub(crate) fn method_with_source(method: Method, source: SourceRef) -> Result<(), &'static str> {
    match (method, source) {
        (Method::Pap, _) | (_, SourceRef::Upstream(_)) => Ok(()),
        (Method::Chap, _) => Err("it proves the password without telling it, and this source cannot give us the text to compare with"),
        (Method::MsChapV2, _) => Err("it proves the password's NT hash, and this source cannot give us that hash"),
        (Method::Eap, _) => Err("its inner method is not ended here; only an upstream can"),
    }
}

fn methods(chain: &Chain, notes: &Notes<'_>) {
    let at = || notes.lines.start_of(chain.line);
    for method in chain.methods.iter().filter(|method| !method.gives_text()) {
        for first in &chain.first {
            if let Err(why) = method_with_source(*method, first.source) {
                let message = format!("the chain `{}` takes {}, but one of its sources cannot check it: {why}", chain.name, method.name());
                notes.error(
                    "method-impossible",
                    at(),
                    message,
                    "take the method out, or give it a chain of its own whose only source is an upstream",
                );
                break;
            }
        }
        if !chain.second.is_empty() {
            let message = format!("{} has no room for a code, and the chain `{}` asks for one", method.name(), chain.name);
            notes.error(
                "method-impossible",
                at(),
                message,
                "let the upstream ask for the second factor and set `second = []`, or take the method out",
            );
        }
    }
}

/// Sources by group need a directory before them, and everything behind an unconditional upstream is never asked.
fn cascade(chain: &Chain, notes: &Notes<'_>) {
    let at = || notes.lines.start_of(chain.line);
    for (index, first) in chain.first.iter().enumerate() {
        let before = &chain.first[..index];
        if let SourceWhen::Group(group) = &first.when {
            if !matches!(first.source, SourceRef::Upstream(_)) {
                let message = format!("only an upstream can take over the password check of the group `{group}`");
                notes.error("cascade", at(), message, "name an upstream, or choose by `name` or `realm`");
            } else if !before.iter().any(|first| matches!(first.source, SourceRef::Directory(_) | SourceRef::Roster)) {
                let message = format!("nothing before it in `first` can tell who is in `{group}`");
                notes.error("cascade", at(), message, "list a directory or the roster before it");
            }
        }
        let ends =
            |earlier: &super::super::FirstSource| matches!(earlier.source, SourceRef::Upstream(_)) && earlier.when == SourceWhen::Always;
        if !matches!(first.when, SourceWhen::Group(_))
            && before.iter().any(ends)
            && chain.when_source_is_down == super::super::WhenDown::Refuse
        {
            let message =
                format!("`first` of `{}` has a source that is never asked: an upstream before it answers for every name", chain.name);
            notes.warn("never-asked", at(), message, "give the upstream a `name`, `realm` or `group`, or put it last");
        }
    }
}

/// Forms that read one text in two ways: the chain should say which one counts when no code verifies.
pub(in crate::site) fn ambiguous(forms: &[Form], at: Range<usize>, notes: &Notes<'_>) {
    let Some(example) = forms.iter().map(Form::example).find(|example| readings(forms, example).len() > 1) else { return };
    let ways: Vec<String> =
        readings(forms, &example).iter().filter_map(|reading| forms.get(reading.form)).map(|form| format!("`{form}`")).collect();
    let message =
        format!("`{example}` can be read as {}; a code that verifies decides, and else the first with a code", ways.join(" and as "));
    notes.warn(
        "two-readings",
        at,
        message,
        "say which counts: `when_unclear = \"code\"`, or `\"plain\"` where passwords may end in digits",
    );
}

/// Warns about a rule that an earlier one takes everything from.
pub(in crate::site) fn shadowed(when: &When, earlier: &[Rule], at: Range<usize>, notes: &Notes<'_>) {
    if let Some(rule) = earlier.iter().find(|rule| rule.when.covers(when)) {
        let message = format!("this rule never decides: `{}` in line {} takes everybody it is about", rule.name, rule.line);
        notes.warn("never-matches", at, message, "move it up, or take it out");
    }
}
