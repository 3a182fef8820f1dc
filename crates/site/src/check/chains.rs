//! Things that nothing uses, chains that cannot work, rules that never decide.

use super::super::finding::did_you_mean;
use super::super::read::{DraftCourier, DraftDirectory, DraftGateway, DraftUpstream};
use super::super::section::{At, Notes};
use super::super::{Chain, Directory, Eap, FactorKind, Method, SourceRef, SourceWhen, Waived, WhenSecondIsDown};
use crate::matrix::{self, Never, Skill, Way};
use bivector_model::form::{Form, readings};
use bivector_model::grant::{Grant, GrantValue, Target};
use bivector_model::identity::IdentityRule;
use bivector_model::rule::{Rule, Then, When};
use bivector_wire::AttributeType;
use bivector_wire::eap::EapMethod;
use std::ops::Range;

/// The parts of a site beside its chains, with the places of their names.
pub(crate) struct Parts<'d> {
    pub(crate) gateways: &'d [DraftGateway],
    pub(crate) directories: &'d [DraftDirectory],
    pub(crate) upstreams: &'d [DraftUpstream],
    pub(crate) couriers: &'d [DraftCourier],
    pub(crate) identities: &'d [(At<String>, IdentityRule)],
    pub(crate) grants: &'d [(At<String>, Grant)],
    /// Couriers that bring invitations.
    pub(crate) invites: &'d [usize],
}

/// Things that nothing uses, and chains that cannot work.
pub(crate) fn uses(chains: &[Chain], settings: &Eap, parts: &Parts<'_>, notes: &Notes<'_>) {
    let Parts { gateways, directories, upstreams, couriers, identities, grants, invites } = *parts;
    for (name, gateway, ..) in gateways {
        if gateway.chains.is_empty() {
            let message = format!("no chain accepts logins from `{}`: all are refused", gateway.name);
            notes.warn("unused", name.span.clone(), message, "add it to `gateways` of a chain");
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
    for (index, (name, ..)) in couriers.iter().enumerate() {
        let used = |chain: &Chain| chain.second.contains(&FactorKind::Courier(index));
        unused(name, "courier", chains.iter().any(used) || invites.contains(&index), notes);
    }
    for (index, chain) in chains.iter().enumerate() {
        let asked = directories.iter().enumerate().filter(|(place, _)| chain.asks(SourceRef::Directory(*place)));
        asked.for_each(|(_, (name, directory, _))| whole_names(&chains[index].identity, &name.value, directory, notes));
    }
    for (name, rule) in identities {
        unused(name, "identity rule", chains.iter().any(|chain| chain.identity.name == rule.name), notes);
    }
    for (index, (name, _)) in grants.iter().enumerate() {
        let given = chains.iter().flat_map(|chain| chain.rules.rules()).any(|rule| rule.then == Then::Grant(index));
        unused(name, "grant", given, notes);
    }
    for (index, chain) in chains.iter().enumerate() {
        eap(chain, settings, notes);
        what_goes_together(chain, index, gateways, directories, notes);
        risks(chain, index, gateways, notes);
        cascade(chain, notes);
        let shows = || gateways.iter().any(|(_, gateway, ..)| gateway.shows_challenges && gateway.chains.contains(&index));
        if chain.change_password && !shows() {
            let message = format!("`change_password` of `{}` needs a prompt, but none of its gateways shows prompts", chain.name);
            notes.warn(
                "no-prompt",
                notes.lines.start_of(chain.line),
                message,
                "set `shows_challenges = true` for a gateway that supports Access-Challenge",
            );
        }
    }
}

/// Methods inside EAP against each other and against what TLS needs.
fn eap(chain: &Chain, settings: &Eap, notes: &Notes<'_>) {
    let at = || notes.lines.start_of(chain.line);
    let here: Vec<EapMethod> = chain.methods.iter().filter_map(|method| method.eap()).collect();
    if let Some(method) = here.first().filter(|_| chain.methods.contains(&Method::Eap)) {
        let message = format!("the chain `{}` forwards EAP (`eap`) and also carries it out (`{}`)", chain.name, method.name());
        notes.error("eap-both", at(), message, "use two chains, and select between them with `realms` or different gateways");
    }
    if let Some(method) = here.iter().find(|method| method.has_tunnel() && settings.certificate.is_none()) {
        let message = format!("the chain `{}` accepts `{}`, and there is no server certificate for it", chain.name, method.name());
        let remedy = "set `certificate` and `key` under `[doors.eap]`";
        notes.error("eap-without-certificate", at(), message, remedy);
    }
    if here.contains(&EapMethod::Md5) {
        let message = format!(
            "the chain `{}` accepts `eap-md5`: whoever records a login can guess at the password, and the gateway is not proved",
            chain.name
        );
        notes.warn("weak-method", at(), message, "use a method with a tunnel, such as `eap-ttls-pap`");
    }
}

/// A directory that compares whole names, behind an identity rule that never lets one through.
fn whole_names(rule: &IdentityRule, directory: &str, settings: &Directory, notes: &Notes<'_>) {
    /// Attributes whose values have a realm.
    const WHOLE: [&str; 4] = ["userPrincipalName", "mail", "krbPrincipalName", "eduPersonPrincipalName"];
    let Some(attribute) = settings.login.iter().find(|login| WHOLE.iter().any(|whole| whole.eq_ignore_ascii_case(login))) else { return };
    let at = notes.lines.start_of(if rule.line > 0 { rule.line } else { settings.line });
    let stripped = rule.strip_suffix.iter().find_map(|suffix| suffix.strip_prefix('@'));
    let message = match stripped {
        Some(realm) => format!("`{}` takes `@{realm}` off names, and `{attribute}` of `{directory}` needs it", rule.name),
        None if rule.realms.is_empty() => {
            format!("names with a realm are refused by the identity rule, and `{attribute}` of `{directory}` holds such names")
        }
        None => return,
    };
    let remedy = match stripped {
        Some(realm) => format!("write `realms = [\"{realm}\"]` in the identity rule, and remove it from `strip_suffix`"),
        None => "write the realms of such names in the identity rule, for example `realms = [\"northmoor.example\"]`".to_owned(),
    };
    notes.warn("whole-name-needed", at, message, remedy);
}

fn unused(name: &At<String>, what: &str, used: bool, notes: &Notes<'_>) {
    if !used {
        let message = format!("the {what} `{}` is not used", name.value);
        notes.warn("unused", name.span.clone(), message, "remove it, or reference it where it is needed");
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
                let message = format!("`{text}` in the grant `{}` is not a group listed under `knows` of `{}`", name.value, gateway.value);
                let remedy =
                    did_you_mean(text, knows.iter().map(String::as_str)).unwrap_or_else(|| format!("known there: {}", knows.join(", ")));
                notes.warn("group-not-known", name.span.clone(), message, remedy);
            }
        }
    }
}

/// What the chain lists against what can be had with it: its methods, forms and factors, at each of its gateways.
fn what_goes_together(chain: &Chain, index: usize, gateways: &[DraftGateway], directories: &[DraftDirectory], notes: &Notes<'_>) {
    let (at, forms_at) = (notes.lines.start_of(chain.line), notes.lines.start_of(chain.forms_line));
    if !chain.rules.rules().iter().any(|rule| matches!(rule.then, Then::Grant(_))) {
        let message = format!("no rule of the chain `{}` assigns a grant, so nobody can log in", chain.name);
        notes.warn("nobody-gets-in", at.clone(), message, "add a rule with a `grant`");
    }
    if chain.first.is_empty() {
        return;
    }
    let nt_hash = |index: usize| directories.get(index).is_some_and(|(_, directory, _)| matrix::shows_nt_hash(directory));
    let own = || gateways.iter().filter(|(_, gateway, ..)| gateway.chains.contains(&index));
    let prompts = own().any(|(_, gateway, ..)| gateway.shows_challenges);
    let ways = matrix::ways(chain, &nt_hash, prompts);
    methods_fit(chain, &ways, &nt_hash, (&at, &forms_at), notes);
    forms_fit(chain, &nt_hash, &forms_at, notes);
    factors_fit(chain, &ways, (&at, &forms_at), notes);
    for (name, gateway, ..) in own().filter(|(_, gateway, ..)| prompts && !gateway.shows_challenges) {
        if let Some(never) = all_never(&matrix::ways(chain, &nt_hash, false)) {
            let message = format!("nobody can log in to `{}` through `{}`: {}", chain.name, gateway.name, never.why);
            notes.error("gateway-impossible", name.span.clone(), message, either(&never, "or move the gateway to its own chain"));
        }
    }
}

/// Whether a directory shows NT hashes.
type ShowsNtHash<'a> = dyn Fn(usize) -> bool + 'a;

/// Each method of the chain, against its sources.
fn methods_fit(chain: &Chain, ways: &[Way], nt_hash: &ShowsNtHash<'_>, (at, forms_at): (&Range<usize>, &Range<usize>), notes: &Notes<'_>) {
    for method in &chain.methods {
        let of_method: Vec<Way> = ways.iter().copied().filter(|way| way.method == *method).collect();
        if let Some(never) = all_never(&of_method) {
            let message = format!("the chain `{}` can never accept {} login: {}", chain.name, method.spoken(), never.why);
            notes.error(
                code_for(&never, "method-impossible"),
                place_for(&never, at, forms_at),
                message,
                either(&never, "or remove the method"),
            );
            continue;
        }
        for source in &chain.first {
            let Err(never) = matrix::first(*method, Skill::of(chain, source.source, nt_hash)) else { continue };
            let message =
                format!("the chain `{}` accepts {}, but it does not work with all its sources: {}", chain.name, method.name(), never.why);
            notes.warn("method-partly", at.clone(), message, either(&never, "or keep it, if these people use another method"));
            break;
        }
    }
}

/// Each form of the chain, against its methods and gateways.
fn forms_fit(chain: &Chain, nt_hash: &ShowsNtHash<'_>, forms_at: &Range<usize>, notes: &Notes<'_>) {
    // A plain form beside one with a code is right without prompts too: it tells a missing code from a wrong password.
    let best_ways = matrix::ways(chain, nt_hash, true);
    for (form, shape) in chain.forms.iter().map(|form| (form, matrix::Shape::of(form))) {
        let of_form: Vec<Way> =
            best_ways.iter().copied().filter(|way| way.shape == shape && matrix::first(way.method, way.skill).is_ok()).collect();
        if let Some(never) = all_never(&of_form).filter(|_| !of_form.is_empty()) {
            let message = format!("the form `{form}` of the chain `{}` can never be used: {}", chain.name, never.why);
            notes.error(code_for(&never, "form-impossible"), forms_at.clone(), message, either(&never, ""));
        } else if form.has_factor() && chain.words.is_empty() {
            let message = format!("the form `{form}` has a factor word field, but no factor of `{}` has a word", chain.name);
            notes.error("form-impossible", forms_at.clone(), message, "add a courier or `approval` to `second`, or remove the form");
        }
    }
}

/// Each second factor of the chain, against what can ask for it.
fn factors_fit(chain: &Chain, ways: &[Way], (at, forms_at): (&Range<usize>, &Range<usize>), notes: &Notes<'_>) {
    for kind in &chain.second {
        let of_factor: Vec<Way> = ways
            .iter()
            .copied()
            .filter(|way| way.second == matrix::Second::of(*kind))
            .filter(|way| matrix::first(way.method, way.skill).and_then(|_| matrix::reading(way.method, way.skill, way.shape)).is_ok())
            .collect();
        if let Some(never) = all_never(&of_factor).filter(|_| !of_factor.is_empty()) {
            let message = format!("one of the second factors of the chain `{}` can never be used: {}", chain.name, never.why);
            notes.error(code_for(&never, "factor-impossible"), place_for(&never, at, forms_at), message, either(&never, ""));
            break;
        }
    }
}

/// Why none of these ways works, unless one does; the reason of the one that came furthest.
fn all_never(ways: &[Way]) -> Option<Never> {
    let far = |way: &Way| {
        let first = matrix::first(way.method, way.skill).map(|_| ());
        let reading = || matrix::reading(way.method, way.skill, way.shape).map(|_| ());
        let second = || matrix::second(way.method, way.shape, way.second, way.prompts).map(|_| ());
        first
            .map_err(|never| (0, never))
            .and_then(|()| reading().map_err(|never| (1, never)))
            .and_then(|()| second().map_err(|never| (2, never)))
    };
    let mut furthest: Option<(u8, Never)> = None;
    for way in ways {
        match far(way) {
            Ok(()) => return None,
            Err(found) if furthest.as_ref().is_none_or(|(level, _)| found.0 > *level) => furthest = Some(found),
            Err(_) => {}
        }
    }
    furthest.map(|(_, never)| never)
}

fn either(never: &Never, last: &str) -> String {
    let said = match never.remedies {
        [one] => (*one).to_owned(),
        many => format!("either {}", many.join(", or ")),
    };
    if last.is_empty() { said } else { format!("{said}; {last}") }
}

/// Two mistakes are common enough to have a name of their own.
fn code_for(never: &Never, otherwise: &'static str) -> &'static str {
    match never.why {
        why if why.contains("nothing checks it") => "code-unchecked",
        why if why.starts_with("no form has a place") => "form-without-code",
        _ => otherwise,
    }
}

fn place_for(never: &Never, chain: &Range<usize>, forms: &Range<usize>) -> Range<usize> {
    if never.why.contains("form") { forms.clone() } else { chain.clone() }
}

/// Choices of a chain that make it weaker than people may think.
fn risks(chain: &Chain, index: usize, gateways: &[DraftGateway], notes: &Notes<'_>) {
    let at = || notes.lines.start_of(chain.line);
    if chain.code_only {
        let message = format!("the chain `{}` does not check passwords: anyone its gateways let through needs only a code", chain.name);
        notes.warn("code-only", at(), message, "make sure that every one of its gateways checks the password itself, before the code");
    }
    if chain.when_second_is_down == WhenSecondIsDown::FirstOnly && !chain.second.is_empty() {
        let message = format!("when the second factor of `{}` is unavailable, the password alone is enough to log in", chain.name);
        notes.warn(
            "first-only",
            at(),
            message,
            "set `when_second_is_down = \"next\"` and add a second factor that does not depend on the same system",
        );
    }
    for waiver in &chain.waive {
        let wide = matches!(&waiver.who, Waived::Network(ranges) if ranges.iter().any(|range| range.prefix_len() == 0))
            || matches!(&waiver.who, Waived::Person(people) if people.iter().any(|person| person == "*"));
        if wide {
            let message = format!("`waive` of `{}` exempts everybody from the second factor ({})", chain.name, waiver.reason);
            notes.warn("waives-all", notes.lines.start_of(waiver.line), message, "restrict it to the intended networks, groups or people");
        }
        if let Waived::Network(_) = waiver.who {
            let unsigned = gateways.iter().any(|(_, gateway, ..)| {
                gateway.chains.contains(&index) && gateway.integrity == bivector_wire::IntegrityPolicy::WhenPresent
            });
            if unsigned {
                let message = format!("`waive` of `{}` relies on an address that an unsigned (forgeable) request can contain", chain.name);
                notes.warn(
                    "waives-unsigned",
                    notes.lines.start_of(waiver.line),
                    message,
                    "require Message-Authenticator from every gateway of the chain",
                );
            }
        }
    }
    for word in &chain.words {
        let ends = chain.forms.iter().any(Form::has_factor);
        if !ends && chain.forms.iter().any(Form::has_code) && word.word.bytes().all(|byte| byte.is_ascii_digit()) {
            let message = format!("the factor word `{}` is a number and can be confused with an answer at a prompt", word.word);
            notes.warn("word-is-number", at(), message, "use a word that contains letters");
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
                let message = format!("only an upstream can be chosen by `group` (`{group}`)");
                notes.error("cascade", at(), message, "name an upstream, or choose by `name` or `realm`");
            } else if !before.iter().any(|first| matches!(first.source, SourceRef::Directory(_) | SourceRef::Roster)) {
                let message = format!("no earlier source in `first` reports who is in `{group}`");
                notes.error("cascade", at(), message, "list a directory or the roster first");
            }
        }
        let ends =
            |earlier: &super::super::FirstSource| matches!(earlier.source, SourceRef::Upstream(_)) && earlier.when == SourceWhen::Always;
        if !matches!(first.when, SourceWhen::Group(_))
            && before.iter().any(ends)
            && chain.when_source_is_down == super::super::WhenDown::Refuse
        {
            let message = format!("a source in `first` of `{}` is never asked: an earlier upstream handles every name", chain.name);
            notes.warn("never-asked", at(), message, "give the upstream a `name`, `realm` or `group`, or put it last");
        }
    }
}

/// Forms that read one text in two ways: the chain should say which one counts when nothing speaks for one of them.
pub(crate) fn ambiguous(forms: &[Form], words: &[String], at: Range<usize>, notes: &Notes<'_>) {
    // A factor word is evidence by itself.
    let unclear = |example: &String| {
        let all = readings(forms, words, example);
        (all.len() > 1 && !all.iter().any(|reading| reading.factor.is_some())).then_some(all)
    };
    let mut examples = forms.iter().flat_map(|form| form.examples(words));
    let Some((example, found)) = examples.find_map(|example| unclear(&example).map(|found| (example, found))) else { return };
    let mut ways: Vec<String> = found.iter().filter_map(|reading| forms.get(reading.form)).map(|form| format!("`{form}`")).collect();
    ways.dedup();
    let ways = if ways.len() == 1 { format!("{} in {} ways", ways[0], found.len()) } else { ways.join(" and as ") };
    let message = format!("`{example}` can be read as {ways}; a valid code decides, otherwise the first form with a code is used");
    notes.warn("two-readings", at, message, "set `when_unclear = \"code\"`, or `\"plain\"` if passwords may end in digits");
}

/// Warns about a rule that an earlier one takes everything from.
pub(crate) fn shadowed(when: &When, earlier: &[Rule], at: Range<usize>, notes: &Notes<'_>) {
    if let Some(rule) = earlier.iter().find(|rule| rule.when.covers(when)) {
        let message = format!("this rule can never match: `{}` in line {} already matches everybody it covers", rule.name, rule.line);
        notes.warn("never-matches", at, message, "move it up, or remove it");
    }
}
