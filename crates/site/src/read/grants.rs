//! Grants and the attributes they set.

use super::super::finding::did_you_mean;
use super::super::section::{At, Section, quoted};
use bivector_model::grant::{Grant, GrantContext, GrantValue, PLACEHOLDERS, ReplyItem, Target, Template, TemplateError};
use bivector_wire::{AttributeType, MAX_PACKET, Value};
use std::net::IpAddr;

/// Bytes a grant may take: a packet, less its header, Message-Authenticator and room for what is echoed.
const MAX_GRANT: usize = MAX_PACKET - 20 - 18 - 512;

pub(super) fn read_grant(section: Section<'_, '_, '_>) -> Option<(At<String>, Grant)> {
    let name = section.needed_text("name", "\"control-room\"");
    let reply: Vec<ReplyItem> = section.tables("reply", "an attribute of a grant").into_iter().filter_map(read_reply_item).collect();
    let line = section.line();
    let (span, notes) = (section.span.clone(), section.notes);
    section.finish();
    let name = name?;
    let grant = Grant { name: name.value.clone(), reply, line };
    let long = "x".repeat(64);
    let context = GrantContext { login: &long, name: &long, source: &long, gateway: &long, chain: &long };
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

fn read_reply_item(section: Section<'_, '_, '_>) -> Option<ReplyItem> {
    let target = read_target(&section);
    let value = read_value(&section);
    let notes = section.notes;
    let span = section.span.clone();
    section.finish();
    let (target, (value, text)) = (target?, value?);
    let encoded = match (&value, target) {
        (Value::Text(_), Target::Vendor { .. }) => return Some(ReplyItem { target, value: GrantValue::Text(text?) }),
        (Value::Number(number), Target::Vendor { .. }) => number.to_be_bytes().to_vec(),
        (Value::Address(IpAddr::V4(address)), Target::Vendor { .. }) => address.octets().to_vec(),
        (Value::Address(IpAddr::V6(address)), Target::Vendor { .. }) => address.octets().to_vec(),
        (Value::Bytes(bytes), _) => bytes.clone(),
        (_, Target::Standard(kind)) => match value.encode(kind) {
            Ok(_) if text.is_some() => return Some(ReplyItem { target, value: GrantValue::Text(text?) }),
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
    Some(ReplyItem { target, value: GrantValue::Fixed(encoded) })
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
    let given = ["text", "integer", "address", "hex"].iter().filter(|key| section.has(key)).count();
    if given != 1 {
        let message = format!("an attribute needs exactly one value; this one has {given}");
        section.notes.error("missing-key", section.span.clone(), message, "give it `text`, `integer`, `address` or `hex`");
        return None;
    }
    values.pop()
}
