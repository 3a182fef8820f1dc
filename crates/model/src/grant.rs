//! What a login gets: the reply's attributes, with a few texts filled in from the login.

use crate::rule::Groups;
use bivector_wire::{AttributeType, push_split, push_vendor};
use std::fmt;

/// Names that may stand in braces in a text.
pub const PLACEHOLDERS: &[&str] = &["person.login", "person.name", "person.source", "gateway.name", "chain.name"];

/// A grant of the site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// Its name.
    pub name: String,
    /// Attributes of the reply, in order.
    pub reply: Vec<ReplyItem>,
    /// Pools that an address or a prefix is taken from, by index in the site.
    pub pools: Vec<usize>,
    /// How many sessions a person may have at a time; none for as many as there are.
    pub limit: Option<SessionLimit>,
    /// Its line in the site file.
    pub line: u32,
}

/// How many sessions a person may have at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionLimit {
    /// The most.
    pub most: u32,
    /// What happens to a login beyond that.
    pub beyond: Beyond,
}

/// What happens to a login of somebody who has as many sessions as may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beyond {
    /// It is refused.
    Refuse,
    /// The oldest session is ended for it.
    EndOldest,
}

/// One attribute of a grant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplyItem {
    /// Where the value goes.
    pub target: Target,
    /// The value.
    pub value: GrantValue,
}

/// One attribute of a grant, filled in for a login.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GrantedItem {
    /// Where the value goes.
    pub target: Target,
    /// The value's bytes.
    pub value: Vec<u8>,
}

/// Encodes attributes in their order; long texts take several (RFC 2865 section 5).
pub fn encode(items: &[GrantedItem]) -> Vec<u8> {
    // Enough for most attributes: it grows by itself where they are longer.
    let mut body = Vec::with_capacity(items.len() * 24);
    for item in items {
        match item.target {
            Target::Standard(kind) => push_split(&mut body, kind, &item.value),
            Target::Vendor { vendor, number } => push_vendor(&mut body, vendor, number, &item.value),
        }
    }
    body
}

/// A standard attribute or a vendor's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target {
    /// By its registered name.
    Standard(AttributeType),
    /// A vendor's own, by number.
    Vendor {
        /// The vendor's private enterprise number.
        vendor: u32,
        /// The vendor's attribute number.
        number: u8,
    },
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Target::Standard(kind) => kind.fmt(f),
            Target::Vendor { vendor, number } => write!(f, "Vendor-{vendor}-{number}"),
        }
    }
}

/// A value that is encoded already, or a text to fill in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GrantValue {
    /// Encoded bytes.
    Fixed(Vec<u8>),
    /// A text with placeholders.
    Text(Template),
    /// The text of the first of these groups that the person is in, in lower case, or else the last one.
    ByGroup {
        /// Groups with their texts, in order.
        groups: Vec<(String, Template)>,
        /// For everybody else; none leaves the attribute out.
        otherwise: Option<Template>,
    },
    /// A value with a tag in front of it, for tunnel attributes (RFC 2868 section 3).
    Tagged(u8, Box<GrantValue>),
}

impl GrantValue {
    /// Its bytes for one login; none if the attribute is left out.
    fn fill(&self, context: &GrantContext<'_>) -> Option<Vec<u8>> {
        Some(match self {
            GrantValue::Fixed(bytes) => bytes.clone(),
            GrantValue::Text(template) => template.fill(context).into_bytes(),
            GrantValue::ByGroup { groups, otherwise } => {
                let own = groups.iter().find(|(group, _)| context.groups.contains(group)).map(|(_, text)| text);
                own.or(otherwise.as_ref())?.fill(context).into_bytes()
            }
            // A tagged number has three bytes of its own (RFC 2868 section 3.1); a text keeps all of its.
            GrantValue::Tagged(tag, value) => match (&**value, value.fill(context)?) {
                (GrantValue::Fixed(_), bytes) if bytes.len() == 4 => [&[*tag], &bytes[1..]].concat(),
                (_, bytes) => [&[*tag], bytes.as_slice()].concat(),
            },
        })
    }
}

/// A text with placeholders such as `{person.login}`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Placeholder(usize),
}

impl Template {
    /// Its text, where it has no placeholders.
    pub fn plain(&self) -> Option<&str> {
        match self.parts.as_slice() {
            [Part::Text(text)] => Some(text),
            _ => None,
        }
    }
}

/// A placeholder that does not exist, or a brace without its partner.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// Not in [`PLACEHOLDERS`].
    #[error("`{{{0}}}` is not a known placeholder")]
    Unknown(String),
    /// A `{` without `}`.
    #[error("unclosed `{{`; write `{{{{` for a literal brace")]
    Unclosed,
}

/// What placeholders are filled from.
#[derive(Debug, Clone, Copy)]
pub struct GrantContext<'c> {
    /// The person's login name, as the source gave it.
    pub login: &'c str,
    /// The person's name for display.
    pub name: &'c str,
    /// The source that knew the person.
    pub source: &'c str,
    /// The gateway's name.
    pub gateway: &'c str,
    /// The chain's name.
    pub chain: &'c str,
    /// The person's groups.
    pub groups: &'c Groups,
}

impl Template {
    /// Reads a text. `{{` and `}}` stand for the braces themselves.
    ///
    /// # Errors
    /// [`TemplateError`].
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            plain.push_str(&rest[..at]);
            let brace = &rest[at..at + 1];
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix(brace) {
                plain.push_str(brace);
                rest = after;
            } else if brace == "{" {
                let (name, after) = rest.split_once('}').ok_or(TemplateError::Unclosed)?;
                let known = PLACEHOLDERS.iter().position(|placeholder| *placeholder == name);
                parts.push(Part::Text(std::mem::take(&mut plain)));
                parts.push(Part::Placeholder(known.ok_or_else(|| TemplateError::Unknown(name.to_owned()))?));
                rest = after;
            } else {
                plain.push('}');
            }
        }
        plain.push_str(rest);
        parts.push(Part::Text(plain));
        Ok(Template { parts })
    }

    /// Fills the placeholders in.
    pub fn fill(&self, context: &GrantContext<'_>) -> String {
        let values = [context.login, context.name, context.source, context.gateway, context.chain];
        self.parts
            .iter()
            .map(|part| match part {
                Part::Text(text) => text.as_str(),
                Part::Placeholder(index) => values.get(*index).copied().unwrap_or_default(),
            })
            .collect()
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.parts.iter().try_for_each(|part| match part {
            Part::Text(text) => f.write_str(text),
            Part::Placeholder(index) => write!(f, "{{{}}}", PLACEHOLDERS.get(*index).copied().unwrap_or_default()),
        })
    }
}

impl Grant {
    /// What it sets for one login, in its order.
    pub fn fill(&self, context: &GrantContext<'_>) -> Vec<GrantedItem> {
        let filled = self.reply.iter().filter_map(|item| Some(GrantedItem { target: item.target, value: item.value.fill(context)? }));
        filled.collect()
    }

    /// Its attributes for one login, encoded.
    pub fn encode(&self, context: &GrantContext<'_>) -> Vec<u8> {
        encode(&self.fill(context))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn nobody() -> &'static Groups {
        static NONE: std::sync::LazyLock<Groups> = std::sync::LazyLock::new(Groups::default);
        &NONE
    }

    fn context() -> GrantContext<'static> {
        GrantContext { login: "ines", name: "Ines Okafor", source: "tidehall", gateway: "breakwater", chain: "staff", groups: nobody() }
    }

    #[test]
    fn a_value_may_depend_on_the_group_and_carry_a_tag() {
        let text = |text: &str| Template::parse(text).unwrap();
        let by_group = |otherwise| GrantValue::ByGroup { groups: vec![("crew".into(), text("42"))], otherwise };
        let crew = Groups::new(["CN=Crew,DC=northmoor"]);
        let member = GrantContext { groups: &crew, ..context() };
        assert_eq!(by_group(None).fill(&member), Some(b"42".to_vec()));
        assert_eq!((by_group(None).fill(&context()), by_group(Some(text("7"))).fill(&context())), (None, Some(b"7".to_vec())));
        assert_eq!(GrantValue::Tagged(1, Box::new(by_group(None))).fill(&member), Some(b"\x0142".to_vec()));
        let number = GrantValue::Tagged(1, Box::new(GrantValue::Fixed(vec![0, 0, 0, 13])));
        assert_eq!(number.fill(&context()), Some(vec![1, 0, 0, 13]), "Tunnel-Type VLAN");
    }

    #[test]
    fn texts_are_filled_in_and_double_braces_stay() {
        let template = Template::parse("{{x}} {person.login}@{gateway.name} via {chain.name}, {person.source}: {person.name}").unwrap();
        assert_eq!(template.fill(&context()), "{x} ines@breakwater via staff, tidehall: Ines Okafor");
        assert_eq!(Template::parse("{person.lgin}").unwrap_err(), TemplateError::Unknown("person.lgin".into()));
        assert_eq!(Template::parse("a { b").unwrap_err(), TemplateError::Unclosed);
    }

    #[test]
    fn a_grant_encodes_standard_and_vendor_attributes_in_order() {
        let grant = Grant {
            name: "g".into(),
            line: 1,
            pools: Vec::new(),
            limit: None,
            reply: vec![
                ReplyItem { target: Target::Standard(AttributeType::SessionTimeout), value: GrantValue::Fixed(vec![0, 0, 0, 60]) },
                ReplyItem {
                    target: Target::Vendor { vendor: 32473, number: 1 },
                    value: GrantValue::Text(Template::parse("{person.login}").unwrap()),
                },
            ],
        };
        assert_eq!(grant.encode(&context()), [&[27, 6, 0, 0, 0, 60, 26, 12, 0, 0, 0x7e, 0xd9, 1, 6][..], b"ines"].concat());
    }

    proptest! {
        #[test]
        fn a_text_without_braces_is_itself_and_any_text_is_read_or_refused(text in "\\PC{0,40}") {
            let doubled = text.replace('{', "{{").replace('}', "}}");
            prop_assert_eq!(Template::parse(&doubled).unwrap().fill(&context()), text.clone());
            let _ = Template::parse(&text);
        }

        #[test]
        fn a_grant_of_any_length_is_made_of_whole_attributes(text in "\\PC{0,900}", vendor: bool) {
            let target = if vendor { Target::Vendor { vendor: 32473, number: 1 } } else { Target::Standard(AttributeType::ReplyMessage) };
            let grant = Grant { name: "g".into(), line: 1, pools: Vec::new(), limit: None, reply: vec![ReplyItem { target, value: GrantValue::Fixed(text.clone().into_bytes()) }] };
            let body = grant.encode(&context());
            let (mut at, mut value) = (0, Vec::<u8>::new());
            while at < body.len() {
                let length = usize::from(body[at + 1]);
                value.extend(&body[at + if vendor { 8 } else { 2 }..at + length]);
                at += length;
            }
            prop_assert_eq!(value, text.into_bytes());
        }
    }
}
