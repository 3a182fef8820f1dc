//! Sheets: what somebody else has to enter or type, worked out from the site. Written once, rendered in four ways.

use crate::grant::GrantValue;
use crate::rule::Then;
use crate::site::{Chain, Charset, Gateway, Site};
use bivector_wire::{IntegrityPolicy, render};
use serde::{Deserialize, Serialize};
use std::fmt::Write;
use std::net::SocketAddr;
use utoipa::ToSchema;

/// A sheet: sections of labelled lines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sheet {
    /// What it is and for whom.
    pub title: String,
    /// Its sections in order.
    pub sections: Vec<Section>,
}

/// A section of a sheet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Section {
    /// Its heading.
    pub title: String,
    /// Its lines.
    pub rows: Vec<Row>,
}

/// A line of a sheet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Row {
    /// What it is about.
    pub label: String,
    /// What to enter.
    pub value: String,
}

/// How a sheet is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Plain text.
    Text,
    /// Markdown.
    Markdown,
    /// A whole HTML page.
    Html,
}

fn section(title: &str, rows: Vec<(&str, String)>) -> Section {
    Section { title: title.to_owned(), rows: rows.into_iter().map(|(label, value)| Row { label: label.to_owned(), value }).collect() }
}

/// What to enter on a gateway. `doors` is where RADIUS is received. The secret itself is not on it: only its name.
pub fn handover(site: &Site, gateway: usize, doors: &[SocketAddr]) -> Option<Sheet> {
    let gateway = site.gateways.get(gateway)?;
    let chains: Vec<&Chain> = gateway.chains.iter().filter_map(|chain| site.chains.get(*chain)).collect();
    let servers: Vec<String> = doors.iter().map(|door| format!("{} port {}", door.ip(), door.port())).collect();
    let signed = match gateway.integrity {
        IntegrityPolicy::Required => "on: requests without it get no answer",
        IntegrityPolicy::WhenPresent => "on if the device can; it is served without too, which is weaker",
    };
    let mut device = vec![
        ("protocol", "RADIUS over UDP, authentication".to_owned()),
        ("server", servers.join("; ")),
        ("shared secret", format!("the one sealed as {}; handed over apart from this sheet", gateway.secret)),
        ("method", methods(&chains)),
        ("Message-Authenticator", signed.to_owned()),
        ("sends from", gateway.from.iter().map(crate::addresses::show).chain(gateway.hosts.iter().cloned()).collect::<Vec<_>>().join(", ")),
    ];
    if !site.radius.accounting.is_empty() {
        let servers: Vec<String> = site.radius.accounting.iter().map(|door| format!("{} port {}", door.ip(), door.port())).collect();
        device.push(("accounting server", format!("{}; with the same secret, start and stop", servers.join("; "))));
    }
    if gateway.shows_challenges {
        device.push(("prompts", "on: it shows the Reply-Message of an Access-Challenge and sends the answer with its State".to_owned()));
    }
    if !gateway.identifiers.is_empty() {
        device.push(("NAS-Identifier", gateway.identifiers.join(" or ")));
    }
    let charset = match gateway.charset {
        Charset::Utf8 => "UTF-8",
        Charset::Latin1 => "Latin-1 (ISO 8859-1), as stated in the site file",
    };
    device.push(("text", charset.to_owned()));
    device.push(match gateway.patience {
        Some(patience) => {
            ("waits", format!("{} s per try, {} tries (as stated in the site file)", patience.wait.as_secs_f64(), patience.tries))
        }
        None => (
            "waits",
            format!("{} s per try, 3 tries: longer than the slowest source and factor take", advised_wait(site, &chains, gateway)),
        ),
    });
    let mut sections = vec![section("On the device", device)];
    for chain in &chains {
        let name = if chains.len() > 1 { format!(" ({})", chain.name) } else { String::new() };
        sections.push(section(&format!("What people type{name}"), typing(chain, gateway.shows_challenges)));
        sections.push(section(&format!("What comes back on Access-Accept{name}"), grants(site, chain)));
    }
    if chains.is_empty() {
        sections.push(section("Not in use yet", vec![("chain", "no chain takes logins from this gateway".to_owned())]));
    }
    sections.push(section(
        "To prove it",
        vec![
            ("here", format!("bivector login PERSON --via {}", gateway.name)),
            ("then", format!("bivector trace follow --gateway {}", gateway.name)),
        ],
    ));
    Some(Sheet { title: format!("{}: handover of {}", site.name, gateway.name), sections })
}

/// Connecting, asking and failing over once, with a second to spare.
fn methods(chains: &[&Chain]) -> String {
    let mut names: Vec<&str> = Vec::new();
    for method in chains.iter().flat_map(|chain| &chain.methods) {
        let name = method.spoken().trim_start_matches("an ").trim_start_matches("a ");
        if !names.contains(&name) {
            names.push(name);
        }
    }
    if names.is_empty() { "PAP".to_owned() } else { names.join(" or ") }
}

fn advised_wait(site: &Site, chains: &[&Chain], gateway: &Gateway) -> u64 {
    chains.iter().map(|chain| crate::budget::slowest(site, chain, gateway)).max().unwrap_or_default().as_secs_f64().ceil() as u64 + 1
}

fn typing(chain: &Chain, prompts: bool) -> Vec<(&'static str, String)> {
    let mut rows = vec![("name", name_example(chain))];
    let asked = !chain.second.is_empty();
    let handset = chain.asks_handsets();
    for form in chain.forms.iter().filter(|form| (form.has_code() || form.has_factor()) == asked || prompts || handset) {
        let example = form.examples(&chain.spelt).into_iter().next().unwrap_or_default();
        let then = match asked && !form.has_code() {
            true if handset && prompts => "; the handset is asked, and the prompt shows a number to pick there",
            true if handset => "; the handset is asked",
            true => "; the code is asked for at a prompt",
            false => "",
        };
        rows.push(("password field", format!("{example} (read as `{form}`{then})")));
    }
    rows
}

fn name_example(chain: &Chain) -> String {
    let mut ways = vec!["ines".to_owned()];
    ways.extend(chain.identity.strip_prefix.iter().map(|prefix| format!("{prefix}ines")));
    ways.extend(chain.identity.strip_suffix.iter().map(|suffix| format!("ines{suffix}")));
    // A chain that is told apart by realms takes no other names.
    ways.retain(|name| chain.realms.is_empty() || chain.realms.contains(&crate::identity::realm_of(name)));
    ways.join(" or ")
}

fn grants(site: &Site, chain: &Chain) -> Vec<(&'static str, String)> {
    let rules = chain.rules.rules().iter().filter_map(|rule| match rule.then {
        Then::Grant(grant) => site.grants.get(grant).map(|grant| (rule, grant)),
        Then::Refuse(_) => None,
    });
    let rows: Vec<_> = rules
        .map(|(rule, grant)| {
            let who = &rule.when;
            let attributes: Vec<String> = grant.reply.iter().map(|item| format!("{} = {}", item.target, shown(item))).collect();
            let attributes = if attributes.is_empty() { "no attributes".to_owned() } else { attributes.join(", ") };
            ("for", format!("{who}: {attributes}"))
        })
        .collect();
    if rows.is_empty() { vec![("nobody", "no rule lets anybody in".to_owned())] } else { rows }
}

fn shown(item: &crate::grant::ReplyItem) -> String {
    match (&item.value, item.target) {
        (GrantValue::Text(template), _) => template.to_string(),
        (GrantValue::Fixed(bytes), crate::grant::Target::Standard(kind)) => render(kind, bytes).1,
        (GrantValue::Fixed(bytes), crate::grant::Target::Vendor { .. }) => {
            bytes.iter().fold("0x".to_owned(), |hex, byte| hex + &format!("{byte:02x}"))
        }
    }
}

impl Sheet {
    /// Writes the sheet.
    pub fn render(&self, format: Format) -> String {
        match format {
            Format::Text => self.text(),
            Format::Markdown => self.markdown(),
            Format::Html => self.html(),
        }
    }

    fn text(&self) -> String {
        let width = self.sections.iter().flat_map(|section| &section.rows).map(|row| row.label.chars().count()).max().unwrap_or(0);
        let mut out = format!("{}\n", self.title);
        for section in &self.sections {
            // Writing into a string does not fail.
            let _ = write!(out, "\n{}\n", section.title);
            for row in &section.rows {
                let _ = writeln!(out, "  {:width$}  {}", row.label, row.value);
            }
        }
        out
    }

    fn markdown(&self) -> String {
        let cell = |text: &str| text.replace('\\', "\\\\").replace('|', "\\|");
        let mut out = format!("# {}\n", self.title);
        for section in &self.sections {
            let _ = write!(out, "\n## {}\n\n| | |\n| --- | --- |\n", section.title);
            for row in &section.rows {
                let _ = writeln!(out, "| {} | {} |", cell(&row.label), cell(&row.value));
            }
        }
        out
    }

    fn html(&self) -> String {
        let escape = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;");
        let title = escape(&self.title);
        let mut out = format!(
            "<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\"><title>{title}</title>\n<style>body{{font:15px/1.5 system-ui,sans-serif;max-width:46rem;margin:2rem auto;padding:0 1rem}}\
             table{{border-collapse:collapse;width:100%}}td{{border-top:1px solid #ccc;padding:.3rem .6rem;vertical-align:top}}td:first-child{{width:12rem;color:#555}}</style>\n<h1>{title}</h1>\n"
        );
        for section in &self.sections {
            let _ = write!(out, "<h2>{}</h2>\n<table>\n", escape(&section.title));
            for row in &section.rows {
                let _ = writeln!(out, "<tr><td>{}</td><td>{}</td></tr>", escape(&row.label), escape(&row.value));
            }
            out.push_str("</table>\n");
        }
        out.push_str("</html>\n");
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::Known;

    const SITE: &str = include_str!("../../../demo/site.toml");

    fn sheet(gateway: &str) -> Sheet {
        let site = Site::read(SITE, &Known::default()).0.unwrap();
        handover(&site, site.gateway_named(gateway).unwrap(), &["192.0.2.1:1812".parse().unwrap()]).unwrap()
    }

    #[test]
    fn a_handover_sheet_says_what_to_enter_and_what_comes_back() {
        let text = sheet("breakwater").render(Format::Text);
        for wanted in [
            "Northmoor Tidal: handover of breakwater",
            "192.0.2.1 port 1812",
            "the one sealed as gateway/breakwater; handed over apart from this sheet",
            "5 s per try, 3 tries",
            "ines or NORTHMOOR\\ines or ines@northmoor.example",
            "(read as `password code(6)`)",
            "members of control-room: Class = control-room, Filter-Id = no-ping, Session-Timeout = 28800, Vendor-32473-1 = {person.login}",
        ] {
            assert!(text.contains(wanted), "{wanted} in\n{text}");
        }
        assert!(sheet("slipway").render(Format::Text).contains("52 s per try, 3 tries: longer than the slowest source and factor take"));
    }

    #[test]
    fn text_is_escaped_for_where_it_stands() {
        let sheet = Sheet { title: "a <b> & \"c\"".into(), sections: vec![section("s|s", vec![("l", "x|y\\z<script>".into())])] };
        assert!(sheet.render(Format::Markdown).contains("| l | x\\|y\\\\z<script> |"));
        let html = sheet.render(Format::Html);
        assert!(html.contains("<h1>a &lt;b&gt; &amp; &quot;c&quot;</h1>") && !html.contains("<script>"));
    }
}
