//! Gateways, directories and identity rules.

use super::super::check;
use super::super::finding::did_you_mean;
use super::super::section::{At, Section};
use super::super::{
    BindAs, Charset, Directory, DirectoryKind, Gateway, GatewayPatience, GroupSource, NameAs, PasswordFields, PersonAttributes, Pool,
    Reader, Scope, Server, Upstream,
};
use super::SECOND;
use super::second::unknown_language;
use super::sessions::read_dynamic;
use bivector_model::identity::{Case, IdentityRule};
use bivector_model::prompt::Texts;
use bivector_wire::{AttributeType, IntegrityPolicy};
use ipnet::IpNet;
use std::net::IpAddr;
use std::time::Duration;

pub(crate) type DraftGateway = (At<String>, Gateway, Vec<At<IpNet>>, Option<At<String>>);

pub(super) fn read_gateway(section: Section<'_, '_, '_>, texts: &Texts) -> Option<DraftGateway> {
    let name = section.needed_text("name", "\"breakwater\"");
    let (from, hosts) = read_senders(&section);
    let secret = section.needed_text("secret", "\"gateway/breakwater\"");
    let integrity = read_integrity(
        &section,
        "unsigned-requests",
        "requests without Message-Authenticator are accepted from this gateway: an attacker on the network path can forge them (BlastRADIUS)",
        "enable Message-Authenticator on the device, then remove `message_authenticator`",
    );
    let patience = section.table("patience").map(read_gateway_patience);
    let client_patience = section.duration("client_patience", SECOND..=SECOND * 3600).map(|patience| patience.value);
    let identifiers = section.texts("identifier", true).map(plain).unwrap_or_default();
    let labels = section.labels("labels").map(|labels| labels.value).unwrap_or_default();
    let charset = section.choice("charset", &[("utf-8", Charset::Utf8), ("latin-1", Charset::Latin1)]).unwrap_or_default();
    let fields = section.choice("fields", &[("one", PasswordFields::One), ("scrv1", PasswordFields::Packed)]).unwrap_or_default();
    let knows = section.texts("knows", true).map(plain);
    let shows_challenges = section.flag("shows_challenges").unwrap_or(false);
    let shows_refusals = section.flag("shows_refusals");
    let joins_without_caller = section.flag("joins_without_caller").unwrap_or(false);
    let language = section.text("language");
    if let Some(tag) = language.as_ref().filter(|tag| !texts.languages().any(|known| known == tag.value)) {
        unknown_language(tag, texts, &section);
    }
    let prompt_limit = section.number("prompt_limit", 40..=3000).map_or(253, |number| number.value as usize);
    let session_class = section.flag("session_class").unwrap_or(true);
    let dynamic = section.table("dynamic_authorization").and_then(read_dynamic);
    let logins_in_flight = section.number("logins_in_flight", 1..=1_000_000).map_or(4096, |number| number.value as usize);
    let line = section.line();
    section.finish();
    let name = name?;
    let gateway = Gateway {
        name: name.value.clone(),
        from: from.iter().map(|range: &At<IpNet>| range.value).collect(),
        hosts,
        identifiers,
        labels,
        charset,
        fields,
        knows,
        secret: secret.as_ref().map(|secret| secret.value.clone()).unwrap_or_default(),
        integrity,
        patience,
        client_patience,
        shows_challenges,
        shows_refusals,
        joins_without_caller,
        language: language.map(|tag| tag.value).unwrap_or_default(),
        prompt_limit,
        session_class,
        dynamic,
        logins_in_flight,
        chains: Vec::new(),
        line,
    };
    Some((name, gateway, from, secret))
}

/// Addresses and host names that a gateway sends from.
fn read_senders(section: &Section<'_, '_, '_>) -> (Vec<At<IpNet>>, Vec<String>) {
    let (mut from, mut hosts) = (Vec::new(), Vec::new());
    match section.texts("from", true) {
        Some(texts) => texts.value.into_iter().for_each(|text| match is_host_name(&text.value) {
            true => hosts.push(text.value.to_lowercase()),
            false => from.extend(read_range(&text, section)),
        }),
        None if !section.has("from") => section.missing("from", "[\"192.0.2.10/32\"]"),
        None => {}
    }
    (from, hosts)
}

/// Whether packets must be signed, with a warning where they need not be.
fn read_integrity(section: &Section<'_, '_, '_>, code: &'static str, warning: &str, remedy: &str) -> IntegrityPolicy {
    let known = [("required", IntegrityPolicy::Required), ("when-present", IntegrityPolicy::WhenPresent)];
    let integrity = section.choice("message_authenticator", &known).unwrap_or_default();
    if integrity == IntegrityPolicy::WhenPresent {
        section.notes.warn(code, section.span.clone(), warning, remedy);
    }
    integrity
}

fn read_gateway_patience(patience: Section<'_, '_, '_>) -> GatewayPatience {
    let wait = patience.duration("wait", Duration::from_millis(100)..=SECOND * 600).map_or(SECOND * 5, |wait| wait.value);
    let tries = patience.number("tries", 1..=20).map_or(3, |tries| tries.value as u32);
    let servers = patience.number("servers", 1..=8).map_or(1, |servers| servers.value as u32);
    patience.finish();
    GatewayPatience { wait, tries, servers }
}

fn plain(texts: At<Vec<At<String>>>) -> Vec<String> {
    texts.value.into_iter().map(|text| text.value).collect()
}

/// A name such as `vpn.northmoor.example`: with a dot, so that a slip of the pen is not looked up, and with a last part that is no number.
fn is_host_name(text: &str) -> bool {
    let sound = |c: char| c.is_ascii_alphanumeric() || "-._".contains(c);
    let last = text.rsplit('.').next().unwrap_or_default();
    text.chars().all(sound) && (text == "localhost" || text.contains('.') && last.starts_with(|c: char| c.is_ascii_alphabetic()))
}

pub(super) fn read_range(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<At<IpNet>> {
    let range = text.value.parse::<IpNet>().ok().or_else(|| text.value.parse::<IpAddr>().ok().map(IpNet::from));
    let Some(range) = range else {
        let message = format!("`{}` is not an address or range", text.value);
        section.notes.error(
            "bad-address",
            text.span.clone(),
            message,
            "write an address or a range: \"192.0.2.10\", \"192.0.2.0/24\", \"2001:db8::/64\"",
        );
        return None;
    };
    if range.trunc() != range {
        let message = format!("`{}` has host bits set", text.value);
        section.notes.error(
            "bad-address",
            text.span.clone(),
            message,
            format!("write `{}` for the whole range or `{}` for the single address", range.trunc(), range.addr()),
        );
    }
    Some(At { value: range, span: text.span.clone() })
}

pub(crate) type DraftDirectory = (At<String>, Directory, Option<At<String>>);

pub(super) fn read_directory(section: Section<'_, '_, '_>) -> Option<DraftDirectory> {
    let name = section.needed_text("name", "\"tidehall\"");
    let servers = read_servers(&section);
    let start_tls = section.flag("start_tls").unwrap_or(false);
    warn_about_clear_text(&section, &servers, start_tls);
    let trust = section.text("trust").map(|trust| trust.value);
    let kinds = [("auto", DirectoryKind::Auto), ("generic", DirectoryKind::Generic), ("active-directory", DirectoryKind::ActiveDirectory)];
    let kind = section.choice("kind", &kinds).unwrap_or_default();
    let pool = read_pool(&section);
    let bind_as = read_bind_as(&section);
    let base = section.needed_text("base", "\"ou=people,dc=northmoor,dc=example\"");
    let scope = section.choice("scope", &[("subtree", Scope::Subtree), ("one-level", Scope::OneLevel)]).unwrap_or(Scope::Subtree);
    let logins = section.texts("login", true).map(|logins| logins.value).unwrap_or_default();
    let mut login: Vec<String> = logins.into_iter().map(|login| check::attribute_name(login, &section)).collect();
    if login.is_empty() {
        login.push(if kind == DirectoryKind::ActiveDirectory { "sAMAccountName" } else { "uid" }.to_owned());
    }
    let mut reader_secret = None;
    let reader = section.table("reader").and_then(|reader| {
        let dn = reader.needed_text("dn", "\"cn=bivector,ou=services,dc=northmoor,dc=example\"");
        reader_secret = reader.needed_text("secret", "\"directory/tidehall\"");
        reader.finish();
        Some(Reader { dn: dn?.value, secret: reader_secret.as_ref()?.value.clone() })
    });
    let groups = section.table("groups").map_or_else(
        || GroupSource::Attribute { attribute: "memberOf".to_owned(), nested: kind == DirectoryKind::ActiveDirectory },
        |groups| read_groups(groups, kind == DirectoryKind::ActiveDirectory),
    );
    let attributes = section.table("attributes").map(read_person_attributes).unwrap_or_default();
    let (connect_patience, answer_patience, hedge) = read_directory_patience(&section);
    let connections = section.number("connections", 1..=256).map_or(16, |number| number.value as usize);
    let line = section.line();
    section.finish();
    let name = name?;
    let directory = Directory {
        name: name.value.clone(),
        servers,
        pool,
        kind,
        bind_as,
        start_tls,
        trust,
        base: base?.value,
        scope,
        login,
        reader,
        groups,
        attributes,
        connect_patience,
        answer_patience,
        hedge,
        connections,
        line,
    };
    Some((name, directory, reader_secret))
}

/// How long a directory may take to connect and to answer, and when a second server is asked beside the first.
fn read_directory_patience(section: &Section<'_, '_, '_>) -> (Duration, Duration, Duration) {
    let (mut connect, mut answer, mut hedge) = (SECOND * 2, SECOND * 4, None);
    if let Some(patience) = section.table("patience") {
        let range = || Duration::from_millis(50)..=SECOND * 60;
        connect = patience.duration("connect", range()).map_or(connect, |wait| wait.value);
        answer = patience.duration("answer", range()).map_or(answer, |wait| wait.value);
        hedge = patience.duration("hedge", Duration::from_millis(50)..=answer).map(|wait| wait.value);
        patience.finish();
    }
    (connect, answer, hedge.unwrap_or((SECOND / 2).min(answer / 2)))
}

fn read_servers(section: &Section<'_, '_, '_>) -> Vec<Server> {
    let Some(texts) = section.texts("servers", true) else {
        if !section.has("servers") {
            section.missing("servers", "[\"ldaps://dir1.northmoor.example\"]");
        }
        return Vec::new();
    };
    if texts.value.is_empty() {
        section.notes.error("empty", texts.span.clone(), "`servers` is empty", "write for example \"ldaps://dir1.northmoor.example\"");
    }
    texts.value.iter().filter_map(|text| read_server(text, section)).collect()
}

fn read_server(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<Server> {
    let server = check::split_server(&text.value);
    if server.is_none() {
        let message = format!("`{}` is not a valid LDAP server URL", text.value);
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
            "passwords are sent unencrypted to this directory's `ldap://` servers",
            "use `ldaps://`, or set `start_tls = true`",
        );
    }
    if start_tls && servers.iter().any(|server| server.tls) {
        section.notes.error(
            "start-tls",
            section.span.clone(),
            "`start_tls` applies to `ldap://` only; `ldaps://` already uses TLS",
            "remove `start_tls`, or use `ldap://`",
        );
    }
}

fn read_pool(section: &Section<'_, '_, '_>) -> Pool {
    section.choice("pool", &[("order", Pool::Order), ("balance", Pool::Balance)]).unwrap_or_default()
}

fn read_bind_as(section: &Section<'_, '_, '_>) -> BindAs {
    let Some(bind) = section.table("bind_as") else { return BindAs::Dn };
    let (principal, domain) = (bind.text("principal"), bind.text("domain"));
    bind.finish();
    match (principal, domain) {
        (Some(realm), None) => BindAs::Principal(realm.value.trim_start_matches('@').to_owned()),
        (None, Some(domain)) => BindAs::DomainName(domain.value.trim_end_matches('\\').to_owned()),
        _ => {
            let remedy = "write `{ principal = \"northmoor.example\" }` or `{ domain = \"NORTHMOOR\" }`; leave it out to bind by DN";
            section.notes.error("missing-key", bind.span.clone(), "`bind_as` needs either `principal` or `domain`", remedy);
            BindAs::Dn
        }
    }
}

pub(crate) type DraftUpstream = (At<String>, Upstream, Option<At<String>>);

pub(super) fn read_upstream(section: Section<'_, '_, '_>) -> Option<DraftUpstream> {
    let name = section.needed_text("name", "\"harbourlight\"");
    let servers = read_upstream_servers(&section);
    let pool = read_pool(&section);
    let secret = section.needed_text("secret", "\"upstream/harbourlight\"");
    let source_address = section.text("source_address").and_then(|text| {
        let address = text.value.parse().ok();
        if address.is_none() {
            let message = format!("`{}` is not an IP address", text.value);
            section.notes.error("bad-address", text.span, message, "write an IPv4 or IPv6 address of this machine");
        }
        address
    });
    let (mut wait, mut tries) = (SECOND * 3, 2);
    if let Some(patience) = section.table("patience") {
        wait = patience.duration("wait", Duration::from_millis(50)..=SECOND * 600).map_or(wait, |wait| wait.value);
        tries = patience.number("tries", 1..=20).map_or(tries, |tries| tries.value as u32);
        patience.finish();
    }
    let (up, back) = section.table("attributes").map(read_passed_attributes).unwrap_or_default();
    let name_as = section.choice("name_as", &[("read", NameAs::Read), ("typed", NameAs::Typed)]).unwrap_or_default();
    let groups_from = section.text("groups_from").and_then(|text| read_attribute(&text, &section));
    let integrity = read_integrity(
        &section,
        "unsigned-replies",
        "replies without Message-Authenticator are accepted from this upstream: an attacker on the network path can forge an Access-Accept",
        "enable Message-Authenticator on the upstream, then remove `message_authenticator`",
    );
    let status_checks = section.flag("status_checks").unwrap_or(true);
    let line = section.line();
    section.finish();
    let name = name?;
    let upstream = Upstream {
        name: name.value.clone(),
        servers,
        pool,
        secret: secret.as_ref().map(|secret| secret.value.clone()).unwrap_or_default(),
        source_address,
        wait,
        tries,
        up,
        back,
        name_as,
        groups_from,
        integrity,
        status_checks,
        line,
    };
    Some((name, upstream, secret))
}

fn read_upstream_servers(section: &Section<'_, '_, '_>) -> Vec<Server> {
    match section.texts("servers", true) {
        Some(texts) if texts.value.is_empty() => {
            section.notes.error("empty", texts.span, "`servers` is empty", "write for example \"192.0.2.50:1812\"");
            Vec::new()
        }
        Some(texts) => texts.value.iter().filter_map(|text| read_upstream_server(text, section)).collect(),
        None => {
            if !section.has("servers") {
                section.missing("servers", "[\"192.0.2.50:1812\"]");
            }
            Vec::new()
        }
    }
}

/// Attributes that are passed to an upstream, and back from it.
fn read_passed_attributes(attributes: Section<'_, '_, '_>) -> (Vec<AttributeType>, Vec<AttributeType>) {
    let list = |key| attributes.texts(key, true).map(|texts| read_attributes(texts, &attributes)).unwrap_or_default();
    let lists = (list("up"), list("back"));
    attributes.finish();
    lists
}

fn read_upstream_server(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<Server> {
    let server = check::split_host(&text.value, 1812).map(|(host, port)| Server { url: text.value.clone(), tls: false, host, port });
    if server.is_none() {
        let message = format!("`{}` is not a valid RADIUS server address", text.value);
        section.notes.error(
            "bad-server",
            text.span.clone(),
            message,
            "use an address or host name, optionally with a port: \"192.0.2.50:1812\"",
        );
    }
    server
}

fn read_attributes(texts: At<Vec<At<String>>>, section: &Section<'_, '_, '_>) -> Vec<AttributeType> {
    texts.value.iter().filter_map(|text| read_attribute(text, section)).collect()
}

/// An attribute that may travel between gateway and upstream: none of the protocol's own.
fn read_attribute(text: &At<String>, section: &Section<'_, '_, '_>) -> Option<AttributeType> {
    let Some(kind) = AttributeType::by_name(&text.value) else {
        let names = AttributeType::ALL.iter().filter_map(|kind| kind.name());
        let remedy = did_you_mean(&text.value, names).unwrap_or_else(|| "use an attribute name from the IANA registry".to_owned());
        section.notes.error("unknown-attribute", text.span.clone(), format!("unknown attribute `{}`", text.value), remedy);
        return None;
    };
    let credential = matches!(
        kind,
        AttributeType::UserName
            | AttributeType::UserPassword
            | AttributeType::ChapPassword
            | AttributeType::ChapChallenge
            | AttributeType::EapMessage
            | AttributeType::State
            | AttributeType::MessageAuthenticator
            | AttributeType::ProxyState
    );
    if credential {
        let message = format!("{kind} is handled by the protocol and cannot be listed");
        section.notes.error("protocol-attribute", text.span.clone(), message, "remove it");
        return None;
    }
    Some(kind)
}

fn read_groups(section: Section<'_, '_, '_>, nested_by_default: bool) -> GroupSource {
    let nested = section.flag("nested").unwrap_or(nested_by_default);
    let from = section.text("from").map_or_else(|| "memberOf".to_owned(), |from| check::attribute_name(from, &section));
    let source = if from == "search" {
        let base = section.needed_text("base", "\"ou=groups,dc=northmoor,dc=example\"").map(|base| base.value).unwrap_or_default();
        let member = section.text("member").map_or_else(|| "member".to_owned(), |member| check::attribute_name(member, &section));
        GroupSource::Search { base, member, nested }
    } else {
        GroupSource::Attribute { attribute: from, nested }
    };
    section.finish();
    source
}

fn read_person_attributes(section: Section<'_, '_, '_>) -> PersonAttributes {
    let usual = PersonAttributes::default();
    let named = |key| section.text(key).map(|text| check::attribute_name(text, &section));
    let attributes = PersonAttributes {
        mail: named("mail").unwrap_or(usual.mail),
        phone: named("phone").unwrap_or(usual.phone),
        language: named("language").unwrap_or(usual.language),
        nt_hash: named("nt_hash"),
    };
    section.finish();
    attributes
}

pub(super) fn read_identity(section: Section<'_, '_, '_>) -> Option<(At<String>, IdentityRule)> {
    let name = section.needed_text("name", "\"northmoor-names\"");
    let list = |key| {
        section.texts(key, true).map(|texts| texts.value.into_iter().map(|text| text.value).filter(|text| !text.is_empty()).collect())
    };
    let strip_prefix = list("strip_prefix").unwrap_or_default();
    let strip_suffix = list("strip_suffix").unwrap_or_default();
    let realms: Vec<String> = list("realms").unwrap_or_default();
    let realms = realms.into_iter().map(|realm| realm.trim_start_matches('@').to_lowercase()).collect();
    let case = section.choice("case", &[("lower", Case::Lower), ("keep", Case::Keep)]).unwrap_or_default();
    let aliases = section.labels("aliases").map(|aliases| aliases.value).unwrap_or_default();
    let aliases = aliases.into_iter().map(|(alias, name)| (alias.to_lowercase(), name)).collect();
    let line = section.line();
    section.finish();
    let name = name?;
    let rule = IdentityRule { name: name.value.clone(), strip_prefix, strip_suffix, realms, case, aliases, line };
    Some((name, rule))
}
