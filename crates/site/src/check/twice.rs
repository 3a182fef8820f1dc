//! The same value meant twice but written differently.

use super::super::read::Draft;
use super::super::section::{At, Notes};
use std::collections::HashMap;

/// Servers, ranges and groups that stand twice in different spelling.
pub(crate) fn twice(draft: &Draft, notes: &Notes<'_>) {
    for (name, directory, _) in &draft.directories {
        let servers =
            directory.servers.iter().map(|server| (format!("{}:{}", server.host.to_lowercase(), server.port), server.url.clone()));
        report(servers, name, "server", notes);
    }
    for (name, upstream, _) in &draft.upstreams {
        let servers = upstream.servers.iter().map(|server| (format!("{}:{}", server.host.to_lowercase(), server.port), server.url.clone()));
        report(servers, name, "server", notes);
    }
    for (name, _, from, _) in &draft.gateways {
        report(from.iter().map(|range| (range.value.trunc().to_string(), range.value.to_string())), name, "address", notes);
    }
    groups(draft, notes);
}

fn report(values: impl Iterator<Item = (String, String)>, at: &At<String>, what: &str, notes: &Notes<'_>) {
    let mut seen: HashMap<String, String> = HashMap::new();
    for (meaning, written) in values {
        if let Some(before) = seen.insert(meaning, written.clone()) {
            let message = format!("`{}` lists the same {what} twice, as `{before}` and `{written}`", at.value);
            notes.warn("meant-twice", at.span.clone(), message, "remove one of them");
        }
    }
}

/// `control-room` and `Control Room` are two groups to a directory; seldom is that meant.
fn groups(draft: &Draft, notes: &Notes<'_>) {
    let mut seen: HashMap<String, &str> = HashMap::new();
    for rule in &draft.rules {
        for group in &rule.when.groups {
            let meaning: String = group.chars().filter(|c| c.is_alphanumeric() || *c == '=' || *c == ',').collect();
            match seen.get(&meaning) {
                Some(before) if *before != group => {
                    let message = format!("`{group}` and `{before}` differ only in punctuation");
                    notes.warn("meant-twice", rule.name.span.clone(), message, "use the same spelling if they are the same group");
                }
                Some(_) => {}
                None => {
                    seen.insert(meaning, group);
                }
            }
        }
    }
}
