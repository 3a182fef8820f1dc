//! Findings that need the people in the records: rules that take in nearly everybody, a service account that is a person.

use super::super::read::DraftDirectory;
use super::super::section::{At, Notes};
use super::super::{Chain, SourceRef};
use super::{Known, KnownPerson};
use bivector_model::directory::name_of_dn;
use bivector_model::rule::{Rule, Then};

/// A rule that lets in this part of the people known, or more, is worth a look; so are few people at all.
const NEARLY_ALL: f64 = 0.9;
const TOO_FEW: usize = 5;

/// Compares the site with the people in the records.
pub(crate) fn people(chains: &[Chain], directories: &[DraftDirectory], grants: &[At<String>], known: &Known, notes: &Notes<'_>) {
    for (name, directory, _) in directories {
        let Some(reader) = &directory.reader else { continue };
        let account = name_of_dn(&reader.dn).to_lowercase();
        if known.people.iter().any(|person| person.source == name.value && person.login == account) {
            let message = format!("the service account of `{}` is also registered as a person: {account}", name.value);
            notes.warn(
                "account-is-person",
                name.span.clone(),
                message,
                "use the service account for nothing else; people should log in with their own accounts",
            );
        }
    }
    for chain in chains {
        let sources: Vec<&str> = chain
            .first
            .iter()
            .filter_map(|first| match first.source {
                SourceRef::Directory(index) => directories.get(index).map(|(name, ..)| name.value.as_str()),
                SourceRef::Roster => Some("roster"),
                SourceRef::Upstream(_) => None,
            })
            .collect();
        let people: Vec<&KnownPerson> = known.people.iter().filter(|person| sources.contains(&person.source.as_str())).collect();
        for rule in chain.rules.rules() {
            wide(rule, chain, &people, grants, notes);
        }
    }
}

fn wide(rule: &Rule, chain: &Chain, people: &[&KnownPerson], grants: &[At<String>], notes: &Notes<'_>) {
    let Then::Grant(grant) = rule.then else { return };
    // Groups are known here for people of the roster only; a directory tells them at login.
    let in_rule = |person: &&&KnownPerson| {
        rule.when.groups.is_empty() || person.source == "roster" && person.groups.iter().any(|group| rule.when.groups.contains(group))
    };
    let within: Vec<_> = people.iter().filter(in_rule).collect();
    let judged = if rule.when.groups.is_empty() { people.len() } else { people.iter().filter(|person| person.source == "roster").count() };
    if judged < TOO_FEW || (within.len() as f64) < NEARLY_ALL * judged as f64 {
        return;
    }
    let with_factor = within.iter().filter(|person| person.has_factor).count();
    let grant = grants.get(grant).map_or("", |name| name.value.as_str());
    let message = format!(
        "the rule `{}` of `{}` assigns `{grant}` to {} of {judged} known people; {with_factor} of them have a second factor",
        rule.name,
        chain.name,
        within.len()
    );
    notes.warn("takes-in-all", notes.lines.start_of(rule.line), message, "restrict the rule to a group, unless everybody is intended");
}
