//! Sheets: what somebody else has to enter or type, worked out from the site. Written once, rendered in four ways.

use bivector_model::grant::{GrantValue, ReplyItem, Target};
use bivector_model::rule::Then;
use bivector_site::{Chain, Charset, FactorKind, Gateway, PasswordFields, Site};
use bivector_wire::{IntegrityPolicy, MICROSOFT, render};
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
    let device = on_the_device(site, gateway, &chains, doors);
    let mut sections = vec![section("On the device", device)];
    for chain in &chains {
        let name = if chains.len() > 1 { format!(" ({})", chain.name) } else { String::new() };
        sections.push(section(&format!("What people type{name}"), typing(chain, gateway.shows_challenges)));
        sections.push(section(&format!("Attributes in Access-Accept{name}"), grants(site, chain)));
    }
    if chains.is_empty() {
        sections.push(section("Not in use yet", vec![("chain", "no chain takes logins from this gateway".to_owned())]));
    }
    sections.push(section(
        "How to test",
        vec![
            ("here", format!("bivector login PERSON --via {}", gateway.name)),
            ("then", format!("bivector trace follow --gateway {}", gateway.name)),
        ],
    ));
    Some(Sheet { title: format!("{}: settings for {}", site.name, gateway.name), sections })
}

/// What to enter on the device itself.
fn on_the_device(site: &Site, gateway: &Gateway, chains: &[&Chain], doors: &[SocketAddr]) -> Vec<(&'static str, String)> {
    let servers: Vec<String> = doors.iter().map(|door| format!("{} port {}", door.ip(), door.port())).collect();
    let signed = match gateway.integrity {
        IntegrityPolicy::Required => "required: requests without it are not answered",
        IntegrityPolicy::WhenPresent => "enable it if the device supports it; requests without it are accepted, which is less secure",
    };
    let mut device = vec![
        ("protocol", "RADIUS over UDP, authentication".to_owned()),
        ("server", servers.join("; ")),
        ("shared secret", format!("the secret sealed as {}; passed on separately from this sheet", gateway.secret)),
        ("method", methods(chains)),
        ("Message-Authenticator", signed.to_owned()),
        (
            "sends from",
            gateway.from.iter().map(bivector_model::addresses::show).chain(gateway.hosts.iter().cloned()).collect::<Vec<_>>().join(", "),
        ),
    ];
    if !site.radius.accounting.is_empty() {
        let servers: Vec<String> = site.radius.accounting.iter().map(|door| format!("{} port {}", door.ip(), door.port())).collect();
        let reports = "with the same secret: start, stop and interim reports; any interval will do, every few minutes is usual";
        device.push(("accounting server", format!("{}; {reports}", servers.join("; "))));
        if gateway.session_class {
            let said = "return every Class attribute of the Access-Accept in the reports: the last one leads from a session to its login";
            device.push(("Class", said.to_owned()));
        }
    }
    if let Some(dynamic) = &gateway.dynamic {
        let secret = dynamic.secret.as_ref().map_or("the same secret".to_owned(), |secret| format!("the secret sealed as {secret}"));
        let said = format!("accept Disconnect-Request and CoA-Request (RFC 5176) at {} from this server, with {secret}", dynamic.to);
        device.push(("ending sessions", said));
    }
    if gateway.fields == PasswordFields::Packed {
        let said = "two: the client has a second field for the code, and sends both as SCRV1 (answers to prompts as CRV1)";
        device.push(("password fields", said.to_owned()));
    }
    if gateway.shows_challenges {
        device.push(("prompts", "on: show the Reply-Message of an Access-Challenge and return the answer with its State".to_owned()));
    }
    device.push(("refusals", refusals_shown(gateway)));
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
            format!("{} s per try, 3 tries: longer than the slowest source and factor can take", advised_wait(site, chains, gateway)),
        ),
    });
    device
}

/// What becomes of the text of a refusal.
fn refusals_shown(gateway: &Gateway) -> String {
    match gateway.shows_refusals {
        Some(true) => {
            "shown to the person with a reference such as K7MPQ2XB; `bivector trace show REFERENCE` has the whole story".to_owned()
        }
        Some(false) => {
            format!(
                "not shown, and neither is the reference: find a login by its name with `bivector trace list --gateway {}`",
                gateway.name
            )
        }
        None => "carry a text with a reference. Whether the device shows it is not stated: log in with a wrong password, and write \
                 `shows_refusals` into the site file"
            .to_owned(),
    }
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
    chains.iter().map(|chain| bivector_timing::budget::slowest(site, chain, gateway)).max().unwrap_or_default().as_secs_f64().ceil() as u64
        + 1
}

fn typing(chain: &Chain, prompts: bool) -> Vec<(&'static str, String)> {
    let mut rows = vec![("name", name_example(chain))];
    let asked = !chain.second.is_empty();
    let handset = chain.asks_handsets();
    for form in chain.forms.iter().filter(|form| (form.has_code() || form.has_factor()) == asked || prompts || handset) {
        let example = form.examples(&chain.spelt).into_iter().next().unwrap_or_default();
        let then = match asked && !form.has_code() {
            true if handset && prompts => "; approval on the handset, with the number shown in the prompt",
            true if handset => "; the handset is asked",
            true => "; the code is entered at a prompt",
            false => "",
        };
        rows.push(("password field", format!("{example} (read as `{form}`{then})")));
    }
    if handset {
        rows.push(("with a token", with_token(chain, prompts)));
    }
    rows
}

/// What somebody who has a token and no handset meets on a chain that asks handsets.
fn with_token(chain: &Chain, prompts: bool) -> String {
    let takes_codes = chain.second.iter().any(|kind| matches!(kind, FactorKind::Code(_)));
    let typed = chain.forms.iter().find(|form| form.has_code()).and_then(|form| form.examples(&chain.spelt).into_iter().next());
    match (takes_codes, prompts, typed) {
        (false, ..) => "not taken here: people who have only a token are refused as not enrolled, and need a handset".to_owned(),
        (true, _, Some(example)) => format!("type {example}; no handset is asked then"),
        (true, true, None) => {
            "type the password alone; a prompt asks for the code, or lists code and handset for those who have both".to_owned()
        }
        (true, false, None) => "cannot be used through this device: no form has a code, and it shows no prompt".to_owned(),
    }
}

fn name_example(chain: &Chain) -> String {
    let mut ways = vec!["ines".to_owned()];
    ways.extend(chain.identity.strip_prefix.iter().map(|prefix| format!("{prefix}ines")));
    ways.extend(chain.identity.strip_suffix.iter().map(|suffix| format!("ines{suffix}")));
    // A chain that is told apart by realms takes no other names.
    ways.retain(|name| chain.realms.is_empty() || chain.realms.contains(&bivector_model::identity::realm_of(name)));
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
            let attributes: Vec<String> = grant.reply.iter().map(reply_in_words).collect();
            let pools = grant.pools.iter().filter_map(|index| site.pools.get(*index));
            let attributes: Vec<String> =
                attributes.into_iter().chain(pools.map(|pool| format!("an address of the pool {}", pool.name))).collect();
            let attributes = if attributes.is_empty() { "no attributes".to_owned() } else { attributes.join(", ") };
            ("for", format!("{who}: {attributes}"))
        })
        .collect();
    if rows.is_empty() { vec![("nobody", "no rule grants access".to_owned())] } else { rows }
}

/// An attribute with its value. A vendor's own is told by its numbers, which any device's dictionary has.
fn reply_in_words(item: &ReplyItem) -> String {
    match (&item.value, item.target) {
        (GrantValue::Tagged(tag, value), target) => {
            format!("{} (tag {tag})", reply_in_words(&ReplyItem { target, value: (**value).clone() }))
        }
        (GrantValue::ByGroup { groups, otherwise }, target) => {
            let mut texts: Vec<String> = groups.iter().map(|(group, text)| format!("{text} for {group}")).collect();
            texts.extend(otherwise.as_ref().map(|text| format!("otherwise {text}")));
            format!("{target} = {}", texts.join(", "))
        }
        (GrantValue::Text(template), Target::Standard(kind)) => format!("{kind} = {template}"),
        (GrantValue::Fixed(bytes), Target::Standard(kind)) => format!("{kind} = {}", render(kind, bytes).1),
        (GrantValue::Text(template), Target::Vendor { vendor, number }) => {
            format!("{}, the text {template}", vendors_own(vendor, number))
        }
        (GrantValue::Fixed(bytes), Target::Vendor { vendor, number }) => {
            let hex = bytes.iter().fold("0x".to_owned(), |hex, byte| hex + &format!("{byte:02x}"));
            format!("{}, {} ({hex})", vendors_own(vendor, number), of_length(bytes))
        }
    }
}

fn vendors_own(vendor: u32, number: u8) -> String {
    let name = if vendor == MICROSOFT { " (Microsoft)" } else { "" };
    format!("Vendor-Specific (26) of vendor {vendor}{name}: its attribute {number}")
}

/// What fixed bytes are, as far as their length tells.
fn of_length(bytes: &[u8]) -> String {
    match <[u8; 4]>::try_from(bytes) {
        Ok(four) => format!("the number {}, in 4 bytes", u32::from_be_bytes(four)),
        Err(_) => format!("{} bytes", bytes.len()),
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
    use bivector_site::Known;

    const SITE: &str = include_str!("../../../demo/site.toml");

    fn sheet(gateway: &str) -> Sheet {
        let site = Site::read(SITE, &Known::default()).0.unwrap();
        handover(&site, site.gateway_named(gateway).unwrap(), &["192.0.2.1:1812".parse().unwrap()]).unwrap()
    }

    #[test]
    fn a_handover_sheet_says_what_to_enter_and_what_comes_back() {
        let text = sheet("breakwater").render(Format::Text);
        for wanted in [
            "Northmoor Tidal: settings for breakwater",
            "192.0.2.1 port 1812",
            "the secret sealed as gateway/breakwater; passed on separately from this sheet",
            "5 s per try, 3 tries",
            "ines or NORTHMOOR\\ines or ines@northmoor.example",
            "(read as `password code(6)`)",
            "members of control-room: Class = control-room, Filter-Id = no-ping, Session-Timeout = 28800, Vendor-Specific (26) of vendor 32473: its attribute 1, the text {person.login}",
            "Whether the device shows it is not stated",
        ] {
            assert!(text.contains(wanted), "{wanted} in\n{text}");
        }
        assert!(
            sheet("slipway").render(Format::Text).contains("52 s per try, 3 tries: longer than the slowest source and factor can take")
        );
    }

    #[test]
    fn a_handover_sheet_says_what_tokens_reports_refusals_and_two_fields_come_to() {
        let sheet = |gateway: &str, changes: &[(&str, &str)]| {
            let text = changes.iter().fold(SITE.to_owned(), |text, (from, to)| {
                assert!(text.contains(from), "{from}");
                text.replacen(from, to, 1)
            });
            let site = Site::read(&text, &Known::default()).0.unwrap();
            handover(&site, site.gateway_named(gateway).unwrap(), &[]).unwrap().render(Format::Text)
        };
        const APPROVALS: (&str, &str) = ("second = [\"approval\", \"key\"]", "second = [\"approval\", \"totp\"]");
        const FORMS: (&str, &str) = (
            "forms = [\"password ' ' factor\", \"password\"]\nfirst",
            "forms = [\"password code(6)\", \"password\"]\nwhen_unclear = \"plain\"\nfirst",
        );
        for (gateway, changes, wanted) in [
            ("slipway", vec![], "not taken here: people who have only a token are refused"),
            ("slipway", vec![APPROVALS], "cannot be used through this device: no form has a code"),
            ("lantern", vec![APPROVALS], "type the password alone; a prompt asks for the code"),
            ("slipway", vec![APPROVALS, FORMS], "no handset is asked then"),
            ("lantern", vec![("labels = { kind = \"portal\" }", "shows_refusals = true")], "shown to the person with a reference"),
            ("lantern", vec![("labels = { kind = \"portal\" }", "shows_refusals = false")], "not shown, and neither is the reference"),
            ("lantern", vec![("labels = { kind = \"portal\" }", "fields = \"scrv1\"")], "sends both as SCRV1"),
            ("lantern", vec![("[doors.radius]", "[doors.radius]\naccounting = [\"127.0.0.1:18130\"]")], "start, stop and interim reports"),
            (
                "breakwater",
                vec![("vendor = 32473, number = 1, text = \"{person.login}\"", "vendor = 311, number = 7, integer = 4")],
                "of vendor 311 (Microsoft): its attribute 7, the number 4, in 4 bytes",
            ),
        ] {
            let text = sheet(gateway, &changes);
            assert!(text.contains(wanted), "{wanted} in\n{text}");
        }
    }

    #[test]
    fn text_is_escaped_for_where_it_stands() {
        let sheet = Sheet { title: "a <b> & \"c\"".into(), sections: vec![section("s|s", vec![("l", "x|y\\z<script>".into())])] };
        assert!(sheet.render(Format::Markdown).contains("| l | x\\|y\\\\z<script> |"));
        let html = sheet.render(Format::Html);
        assert!(html.contains("<h1>a &lt;b&gt; &amp; &quot;c&quot;</h1>") && !html.contains("<script>"));
    }
}
