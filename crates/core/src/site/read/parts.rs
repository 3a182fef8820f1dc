//! Gateways, directories and identity rules.

use super::super::check;
use super::super::section::{At, Section};
use super::super::{Directory, Gateway, GatewayPatience, GroupSource, Reader, Scope, Server};
use super::SECOND;
use crate::identity::{Case, IdentityRule};
use bivector_wire::IntegrityPolicy;
use ipnet::IpNet;
use std::net::IpAddr;
use std::time::Duration;

pub(in crate::site) type DraftGateway = (At<String>, Gateway, Vec<At<IpNet>>, Option<At<String>>);

pub(super) fn read_gateway(section: Section<'_, '_, '_>) -> Option<DraftGateway> {
    let name = section.needed_text("name", "\"breakwater\"");
    let from = match section.texts("from", true) {
        Some(texts) => texts.value.into_iter().filter_map(|text| read_range(&text, &section)).collect(),
        None => {
            if !section.has("from") {
                section.missing("from", "[\"192.0.2.10/32\"]");
            }
            Vec::new()
        }
    };
    let secret = section.needed_text("secret", "\"gateway/breakwater\"");
    let integrity =
        section.choice("message_authenticator", &[("required", IntegrityPolicy::Required), ("when-present", IntegrityPolicy::WhenPresent)]);
    if integrity == Some(IntegrityPolicy::WhenPresent) {
        section.notes.warn(
            "unsigned-requests",
            section.span.clone(),
            "this gateway may send requests without Message-Authenticator: whoever can write to the network between can forge them",
            "switch Message-Authenticator on at the device, then take `message_authenticator` out",
        );
    }
    let patience = section.table("patience").map(|patience| {
        let wait = patience.duration("wait", Duration::from_millis(100)..=SECOND * 600).map_or(SECOND * 5, |wait| wait.value);
        let tries = patience.number("tries", 1..=20).map_or(3, |tries| tries.value as u32);
        patience.finish();
        GatewayPatience { wait, tries }
    });
    let client_patience = section.duration("client_patience", SECOND..=SECOND * 3600).map(|patience| patience.value);
    let shows_challenges = section.flag("shows_challenges").unwrap_or(false);
    let logins_in_flight = section.number("logins_in_flight", 1..=1_000_000).map_or(4096, |number| number.value as usize);
    let line = section.line();
    section.finish();
    let name = name?;
    let gateway = Gateway {
        name: name.value.clone(),
        from: from.iter().map(|range: &At<IpNet>| range.value).collect(),
        secret: secret.as_ref().map(|secret| secret.value.clone()).unwrap_or_default(),
        integrity: integrity.unwrap_or_default(),
        patience,
        client_patience,
        shows_challenges,
        logins_in_flight,
        chain: None,
        line,
    };
    Some((name, gateway, from, secret))
}

fn read_range(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<At<IpNet>> {
    let range = text.value.parse::<IpNet>().ok().or_else(|| text.value.parse::<IpAddr>().ok().map(IpNet::from));
    let Some(range) = range else {
        let message = format!("`{}` is no address range", text.value);
        section.notes.error(
            "bad-address",
            text.span.clone(),
            message,
            "write an address or a range: \"192.0.2.10\", \"192.0.2.0/24\", \"2001:db8::/64\"",
        );
        return None;
    };
    if range.trunc() != range {
        let message = format!("`{}` has bits set behind its prefix", text.value);
        section.notes.error(
            "bad-address",
            text.span.clone(),
            message,
            format!("write `{}` for the range or `{}` for the one address", range.trunc(), range.addr()),
        );
    }
    Some(At { value: range, span: text.span.clone() })
}

pub(in crate::site) type DraftDirectory = (At<String>, Directory, Option<At<String>>);

pub(super) fn read_directory(section: Section<'_, '_, '_>) -> Option<DraftDirectory> {
    let name = section.needed_text("name", "\"tidehall\"");
    let servers = read_servers(&section);
    let start_tls = section.flag("start_tls").unwrap_or(false);
    warn_about_clear_text(&section, &servers, start_tls);
    let trust = section.text("trust").map(|trust| trust.value);
    section.choice("kind", &[("auto", ()), ("generic", ())]);
    let base = section.needed_text("base", "\"ou=people,dc=northmoor,dc=example\"");
    let scope = section.choice("scope", &[("subtree", Scope::Subtree), ("one-level", Scope::OneLevel)]).unwrap_or(Scope::Subtree);
    let login = section.text("login").map_or_else(|| "uid".to_owned(), |login| check::attribute_name(login, &section));
    let mut reader_secret = None;
    let reader = section.table("reader").and_then(|reader| {
        let dn = reader.needed_text("dn", "\"cn=bivector,ou=services,dc=northmoor,dc=example\"");
        reader_secret = reader.needed_text("secret", "\"directory/tidehall\"");
        reader.finish();
        Some(Reader { dn: dn?.value, secret: reader_secret.as_ref()?.value.clone() })
    });
    let groups = section.table("groups").map_or_else(|| GroupSource::Attribute("memberOf".to_owned()), read_groups);
    let (mut connect_patience, mut answer_patience) = (SECOND * 2, SECOND * 4);
    if let Some(patience) = section.table("patience") {
        let range = || Duration::from_millis(50)..=SECOND * 60;
        connect_patience = patience.duration("connect", range()).map_or(connect_patience, |wait| wait.value);
        answer_patience = patience.duration("answer", range()).map_or(answer_patience, |wait| wait.value);
        patience.finish();
    }
    let connections = section.number("connections", 1..=256).map_or(16, |number| number.value as usize);
    let line = section.line();
    section.finish();
    let name = name?;
    let directory = Directory {
        name: name.value.clone(),
        servers,
        start_tls,
        trust,
        base: base?.value,
        scope,
        login,
        reader,
        groups,
        connect_patience,
        answer_patience,
        connections,
        line,
    };
    Some((name, directory, reader_secret))
}

fn read_servers(section: &Section<'_, '_, '_>) -> Vec<Server> {
    let Some(texts) = section.texts("servers", true) else {
        if !section.has("servers") {
            section.missing("servers", "[\"ldaps://dir1.northmoor.example\"]");
        }
        return Vec::new();
    };
    if texts.value.is_empty() {
        section.notes.error(
            "empty",
            texts.span.clone(),
            "`servers` names no server",
            "write for example \"ldaps://dir1.northmoor.example\"",
        );
    }
    texts.value.iter().filter_map(|text| read_server(text, section)).collect()
}

fn read_server(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<Server> {
    let server = check::split_server(&text.value);
    if server.is_none() {
        let message = format!("`{}` is no directory server", text.value);
        section.notes.error(
            "bad-server",
            text.span.clone(),
            message,
            "write `ldaps://NAME`, `ldap://NAME` or either with a port, such as \"ldaps://dir1.northmoor.example:636\"",
        );
    }
    server
}

fn warn_about_clear_text(section: &Section<'_, '_, '_>, servers: &[Server], start_tls: bool) {
    if !start_tls && servers.iter().any(|server| !server.tls) {
        section.notes.warn(
            "clear-text",
            section.span.clone(),
            "passwords travel unencrypted to `ldap://` servers of this directory",
            "use `ldaps://`, or set `start_tls = true`",
        );
    }
    if start_tls && servers.iter().any(|server| server.tls) {
        section.notes.error(
            "start-tls",
            section.span.clone(),
            "`start_tls` goes with `ldap://`; `ldaps://` is TLS already",
            "take one of them out",
        );
    }
}

fn read_groups(section: Section<'_, '_, '_>) -> GroupSource {
    let from = section.text("from").map_or_else(|| "memberOf".to_owned(), |from| check::attribute_name(from, &section));
    let source = if from == "search" {
        let base = section.needed_text("base", "\"ou=groups,dc=northmoor,dc=example\"").map(|base| base.value).unwrap_or_default();
        let member = section.text("member").map_or_else(|| "member".to_owned(), |member| check::attribute_name(member, &section));
        GroupSource::Search { base, member }
    } else {
        GroupSource::Attribute(from)
    };
    section.finish();
    source
}

pub(super) fn read_identity(section: Section<'_, '_, '_>) -> Option<(At<String>, IdentityRule)> {
    let name = section.needed_text("name", "\"northmoor-names\"");
    let list = |key| {
        section.texts(key, true).map(|texts| texts.value.into_iter().map(|text| text.value).filter(|text| !text.is_empty()).collect())
    };
    let strip_prefix = list("strip_prefix").unwrap_or_default();
    let strip_suffix = list("strip_suffix").unwrap_or_default();
    let case = section.choice("case", &[("lower", Case::Lower), ("keep", Case::Keep)]).unwrap_or_default();
    let line = section.line();
    section.finish();
    let name = name?;
    let rule = IdentityRule { name: name.value.clone(), strip_prefix, strip_suffix, case, line };
    Some((name, rule))
}
