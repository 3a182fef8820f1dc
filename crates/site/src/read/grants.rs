//! Grants and the attributes they set.

use super::super::finding::did_you_mean;
use super::super::section::{At, Section, quoted};
use super::SECOND;
use super::parts::read_range;
use bivector_model::filter::{Filter, FilterSent, read_line};
use bivector_model::grant::{
    Beyond, Grant, GrantContext, GrantValue, PLACEHOLDERS, ReplyItem, SessionLimit, Target, Template, TemplateError,
};
use bivector_model::pool::{AddressPool, Gives};
use bivector_model::rule::Groups;
use bivector_wire::{AttributeType, MAX_PACKET, Value};
use ipnet::IpNet;
use std::cell::RefCell;
use std::collections::BTreeSet;
use std::net::IpAddr;

/// Bytes a grant may take: a packet, less its header, Message-Authenticator and room for what is echoed.
const MAX_GRANT: usize = MAX_PACKET - 20 - 18 - 512;

/// What grants refer to by name, and what of it they use.
pub(super) struct GrantParts<'d> {
    pub(super) filters: &'d [(At<String>, Filter)],
    pub(super) pools: &'d [(At<String>, AddressPool)],
    pub(super) used: RefCell<BTreeSet<String>>,
}

pub(super) fn read_grant(section: Section<'_, '_, '_>, parts: &GrantParts<'_>) -> Option<(At<String>, Grant)> {
    let name = section.needed_text("name", "\"control-room\"");
    let mut reply: Vec<ReplyItem> = section.tables("reply", "an attribute of a grant").into_iter().filter_map(read_reply_item).collect();
    if let Some(filter) = section.text("filter").and_then(|name| named(&name, parts.filters, "filter", &section)) {
        parts.used.borrow_mut().insert(format!("filter {}", filter.name));
        reply.extend(filter_items(filter));
    }
    let pools = section.texts("pool", true).map(|names| names.value).unwrap_or_default();
    let pools = pools.iter().filter_map(|name| {
        let pool = named(name, parts.pools, "pool", &section)?;
        parts.used.borrow_mut().insert(format!("pool {}", pool.name));
        parts.pools.iter().position(|(_, own)| own.name == pool.name)
    });
    let pools = pools.collect();
    let limit = section.table("sessions").map(read_limit);
    let line = section.line();
    let (span, notes) = (section.span.clone(), section.notes);
    section.finish();
    let name = name?;
    let grant = Grant { name: name.value.clone(), reply, pools, limit, line };
    let long = "x".repeat(64);
    let context = GrantContext { login: &long, name: &long, source: &long, gateway: &long, chain: &long, groups: &Groups::default() };
    let length = grant.encode(&context).len();
    if length > MAX_GRANT {
        notes.error(
            "too-long",
            span,
            format!("this grant's attributes need {length} bytes; a reply has room for {MAX_GRANT}"),
            "remove or shorten attributes",
        );
    }
    Some((name, grant))
}

/// How many sessions a person may have.
fn read_limit(section: Section<'_, '_, '_>) -> SessionLimit {
    let most = section.number("most", 1..=1_000_000);
    if most.is_none() && !section.has("most") {
        section.missing("most", "1");
    }
    let beyond = section.choice("beyond", &[("refuse", Beyond::Refuse), ("end-oldest", Beyond::EndOldest)]).unwrap_or(Beyond::Refuse);
    section.finish();
    SessionLimit { most: most.map_or(1, |most| most.value as u32), beyond }
}

/// What a name refers to; says so where there is no such thing.
fn named<'d, T>(name: &At<String>, all: &'d [(At<String>, T)], what: &str, section: &Section<'_, '_, '_>) -> Option<&'d T> {
    let found = all.iter().find(|(own, _)| own.value == name.value).map(|(_, one)| one);
    if found.is_none() {
        let hint = did_you_mean(&name.value, all.iter().map(|(own, _)| own.value.as_str()));
        let remedy = hint.unwrap_or_else(|| format!("add a `[[{what}s]]` table of that name"));
        section.notes.error("name-not-found", name.span.clone(), format!("no {what} is named `{}`", name.value), remedy);
    }
    found
}

/// A filter as attributes of the reply.
fn filter_items(filter: &Filter) -> Vec<ReplyItem> {
    let standard = |kind, bytes: Vec<u8>| ReplyItem { target: Target::Standard(kind), value: GrantValue::Fixed(bytes) };
    match filter.sent {
        FilterSent::ByName => vec![standard(AttributeType::FilterId, filter.name.clone().into_bytes())],
        FilterSent::AsRules => vec![standard(AttributeType::NasFilterRule, filter.joined())],
        FilterSent::ByLine { vendor, number } => {
            let line = |line: &String| ReplyItem {
                target: Target::Vendor { vendor, number },
                value: GrantValue::Fixed(line.clone().into_bytes()),
            };
            filter.lines.iter().map(line).collect()
        }
    }
}

pub(super) fn read_filter(section: Section<'_, '_, '_>) -> Option<(At<String>, Filter)> {
    let name = section.needed_text("name", "\"turbines-only\"");
    let by_line = section.table("vendor").map(|vendor| {
        let numbers = (vendor.number("id", 1..=u64::from(u32::MAX >> 8)), vendor.number("number", 1..=255));
        for (key, found) in [("id", &numbers.0), ("number", &numbers.1)] {
            if found.is_none() && !vendor.has(key) {
                vendor.missing(key, "1");
            }
        }
        vendor.finish();
        FilterSent::ByLine { vendor: numbers.0.map_or(0, |id| id.value as u32), number: numbers.1.map_or(0, |number| number.value as u8) }
    });
    let sent = section.choice("send", &[("name", FilterSent::ByName), ("rules", FilterSent::AsRules)]);
    let mut lines = Vec::new();
    for line in section.texts("lines", false).map(|lines| lines.value).unwrap_or_default() {
        match read_line(&line.value) {
            Ok(read) => lines.push(read),
            Err(why) => section.notes.error(
                "bad-filter",
                line.span,
                format!("`{}`: {why}", line.value),
                "write for example \"permit in ip from assigned to 10.20.0.0/16\"",
            ),
        }
    }
    let sent = by_line.or(sent).unwrap_or(FilterSent::ByName);
    if sent != FilterSent::ByName && lines.is_empty() && !section.has("lines") {
        section.missing("lines", "[\"permit in ip from assigned to 10.20.0.0/16\"]");
    }
    let line = section.line();
    section.finish();
    let name = name?;
    Some((name.clone(), Filter { name: name.value, lines, sent, line }))
}

pub(super) fn read_pool(section: Section<'_, '_, '_>) -> Option<(At<String>, AddressPool)> {
    let name = section.needed_text("name", "\"turbine-crew\"");
    let texts = section.texts("ranges", true);
    if texts.is_none() && !section.has("ranges") {
        section.missing("ranges", "[\"203.0.113.64/26\"]");
    }
    let ranges: Vec<At<IpNet>> =
        texts.map(|texts| texts.value).unwrap_or_default().iter().filter_map(|text| read_range(text, &section)).collect();
    let length = section.number("length", 1..=128).map_or(64, |length| length.value as u8);
    let kinds = [("addresses", Gives::Addresses), ("prefixes", Gives::Prefixes(length)), ("delegated-prefixes", Gives::Delegated(length))];
    let gives = section.choice("gives", &kinds).unwrap_or(Gives::Addresses);
    let lasts = section.duration("lasts", SECOND * 60..=SECOND * 86_400 * 30).map_or(SECOND * 86_400, |lasts| lasts.value);
    for range in &ranges {
        let wrong = match (gives, range.value) {
            (Gives::Prefixes(_) | Gives::Delegated(_), IpNet::V4(_)) => Some("prefixes are of IPv6".to_owned()),
            (Gives::Prefixes(length) | Gives::Delegated(length), IpNet::V6(net)) if net.prefix_len() > length => {
                Some(format!("it is smaller than a prefix of {length} bits"))
            }
            _ if ranges.first().is_some_and(|first| first.value.addr().is_ipv4() != range.value.addr().is_ipv4()) => {
                Some("a pool is of IPv4 or of IPv6".to_owned())
            }
            _ => None,
        };
        if let Some(wrong) = wrong {
            let message = format!("`{}` does not fit the pool: {wrong}", range.value);
            section.notes.error("bad-address", range.span.clone(), message, "make two pools, or correct the range");
        }
    }
    let line = section.line();
    section.finish();
    let name = name?;
    let ranges = ranges.into_iter().map(|range| range.value).collect();
    Some((name.clone(), AddressPool { name: name.value, ranges, gives, lasts, line }))
}

fn read_reply_item(section: Section<'_, '_, '_>) -> Option<ReplyItem> {
    let target = read_target(&section);
    let tag = section.number("tag", 1..=31).map(|tag| tag.value as u8);
    if let Some(by_group) = read_by_group(&section) {
        section.finish();
        let value = by_group?;
        return Some(ReplyItem { target: target?, value: tagged(tag, value) });
    }
    let value = read_value(&section);
    let notes = section.notes;
    let span = section.span.clone();
    section.finish();
    let (target, (value, text)) = (target?, value?);
    let item = |value| Some(ReplyItem { target, value: tagged(tag, value) });
    let encoded = match (&value, target) {
        (Value::Text(_), Target::Vendor { .. }) => return item(GrantValue::Text(text?)),
        (Value::Number(number), Target::Vendor { .. }) => number.to_be_bytes().to_vec(),
        (Value::Address(IpAddr::V4(address)), Target::Vendor { .. }) => address.octets().to_vec(),
        (Value::Address(IpAddr::V6(address)), Target::Vendor { .. }) => address.octets().to_vec(),
        (Value::Bytes(bytes), _) => bytes.clone(),
        (_, Target::Standard(kind)) => match value.encode(kind) {
            Ok(_) if text.is_some() => return item(GrantValue::Text(text?)),
            Ok(bytes) => bytes,
            Err(error) => {
                notes.error(
                    "wrong-type",
                    span,
                    error.to_string(),
                    "use the value type that the attribute requires: `text`, `integer`, `address` or `hex`",
                );
                return None;
            }
        },
    };
    item(GrantValue::Fixed(encoded))
}

fn tagged(tag: Option<u8>, value: GrantValue) -> GrantValue {
    match tag {
        Some(tag) => GrantValue::Tagged(tag, Box::new(value)),
        None => value,
    }
}

/// Texts by group, where the attribute has those: nothing inside if they cannot be read.
fn read_by_group(section: &Section<'_, '_, '_>) -> Option<Option<GrantValue>> {
    let is_there = section.has("by_group");
    let tables = section.tables("by_group", "a text for a group");
    let otherwise = section.text("otherwise");
    if !is_there {
        if let Some(otherwise) = otherwise {
            section.notes.error("contradiction", otherwise.span, "`otherwise` belongs to `by_group`", "use `text` for everybody");
        }
        return None;
    }
    let template = |text: &At<String>| match Template::parse(&text.value) {
        Ok(template) => Some(template),
        Err(error) => {
            section.notes.error("bad-template", text.span.clone(), error.to_string(), format!("known: {}", quoted(PLACEHOLDERS)));
            None
        }
    };
    let one = |table: Section<'_, '_, '_>| {
        let (group, text) = (table.needed_text("group", "\"turbine-crew\""), table.needed_text("text", "\"42\""));
        table.finish();
        Some((group?.value.to_lowercase(), template(&text?)?))
    };
    let groups: Option<Vec<_>> = tables.into_iter().map(one).collect();
    let otherwise = otherwise.map(|text| template(&text));
    Some(match (groups, otherwise) {
        (Some(groups), None) => Some(GrantValue::ByGroup { groups, otherwise: None }),
        (Some(groups), Some(Some(otherwise))) => Some(GrantValue::ByGroup { groups, otherwise: Some(otherwise) }),
        _ => None,
    })
}

fn read_target(section: &Section<'_, '_, '_>) -> Option<Target> {
    let attribute = section.text("attribute");
    let vendor = section.number("vendor", 1..=u64::from(u32::MAX >> 8));
    let number = section.number("number", 1..=255);
    match (attribute, vendor, number) {
        (Some(attribute), None, None) => {
            let Some(kind) = AttributeType::by_name(&attribute.value) else {
                let names = AttributeType::ALL.iter().filter_map(|kind| kind.name());
                let remedy = did_you_mean(&attribute.value, names)
                    .unwrap_or_else(|| "use an attribute name from the IANA registry, or `vendor` and `number`".to_owned());
                section.notes.error("unknown-attribute", attribute.span, format!("unknown attribute `{}`", attribute.value), remedy);
                return None;
            };
            if !kind.settable_in_grant() {
                section.notes.error(
                    "protocol-attribute",
                    attribute.span,
                    format!("{kind} is handled by the protocol; a grant cannot set it"),
                    "remove it",
                );
                return None;
            }
            Some(Target::Standard(kind))
        }
        (None, Some(vendor), Some(number)) => Some(Target::Vendor { vendor: vendor.value as u32, number: number.value as u8 }),
        _ => {
            let message = "an attribute needs either `attribute`, or `vendor` and `number`";
            section.notes.error(
                "missing-key",
                section.span.clone(),
                message,
                "write `attribute = \"Class\"`, or `vendor = 32473, number = 1`",
            );
            None
        }
    }
}

fn read_value(section: &Section<'_, '_, '_>) -> Option<(Value, Option<Template>)> {
    let mut values = Vec::new();
    if let Some(text) = section.text("text") {
        let template = Template::parse(&text.value).map_err(|error| {
            let remedy = match &error {
                TemplateError::Unknown(name) => did_you_mean(name, PLACEHOLDERS.iter().copied()),
                TemplateError::Unclosed => None,
            };
            let remedy = remedy.unwrap_or_else(|| format!("known: {}", quoted(PLACEHOLDERS)));
            section.notes.error("bad-template", text.span.clone(), error.to_string(), remedy);
        });
        if text.value.is_empty() {
            section.notes.error("empty", text.span, "the attribute's `text` is empty", "take the attribute out");
        }
        values.push((Value::Text(text.value), template.ok()));
    }
    if let Some(number) = section.number("integer", 0..=u64::from(u32::MAX)) {
        values.push((Value::Number(number.value as u32), None));
    }
    if let Some(address) = section.text("address") {
        match address.value.parse() {
            Ok(parsed) => values.push((Value::Address(parsed), None)),
            Err(_) => section.notes.error(
                "bad-address",
                address.span,
                format!("`{}` is not an IP address", address.value),
                "write an IPv4 or IPv6 address",
            ),
        }
    }
    if let Some(prefix) = section.text("prefix") {
        match prefix.value.parse::<ipnet::Ipv6Net>() {
            Ok(net) => {
                let bytes = usize::from(net.prefix_len().div_ceil(8));
                values.push((Value::Bytes([&[0, net.prefix_len()], &net.network().octets()[..bytes]].concat()), None));
            }
            Err(_) => section.notes.error(
                "bad-address",
                prefix.span,
                format!("`{}` is not an IPv6 prefix", prefix.value),
                "write a prefix such as \"2001:db8:10::/64\"",
            ),
        }
    }
    if let Some(hex) = section.text("hex") {
        match data_encoding::HEXLOWER_PERMISSIVE.decode(hex.value.as_bytes()) {
            Ok(bytes) if !bytes.is_empty() => values.push((Value::Bytes(bytes), None)),
            _ => section.notes.error(
                "bad-hex",
                hex.span,
                format!("`{}` is not a hex string", hex.value),
                "write pairs of hex digits, such as \"0a1b2c\"",
            ),
        }
    }
    let given = ["text", "integer", "address", "prefix", "hex"].iter().filter(|key| section.has(key)).count();
    if given != 1 {
        let message = format!("an attribute needs exactly one value; this one has {given}");
        section.notes.error(
            "missing-key",
            section.span.clone(),
            message,
            "give it `text`, `integer`, `address`, `prefix`, `hex` or `by_group`",
        );
        return None;
    }
    values.pop()
}
