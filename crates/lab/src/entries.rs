//! What a stand-in directory holds, and how filters match it.

use ldap3_proto::proto::{LdapFilter, LdapPartialAttribute, LdapSearchResultEntry, LdapSearchScope};
use serde::Deserialize;
use std::collections::HashMap;
use thiserror::Error;

/// The contents of a directory, as in `demo/directory.toml`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DirectoryData {
    /// The suffix that it serves.
    pub base: String,
    /// Service accounts.
    #[serde(default)]
    pub services: Vec<ServiceAccount>,
    /// People.
    #[serde(default)]
    pub people: Vec<DirectoryPerson>,
}

/// An account that may search.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceAccount {
    /// Its DN.
    pub dn: String,
    /// Its password.
    pub password: String,
}

/// A person.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DirectoryPerson {
    /// The login name.
    pub uid: String,
    /// The name for display.
    pub name: String,
    /// The password.
    pub password: String,
    /// Names of groups.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Whether the account may be used.
    #[serde(default)]
    pub state: AccountState,
    /// The address for mail; made of the login name if not given.
    #[serde(default)]
    pub mail: Option<String>,
    /// The telephone number.
    #[serde(default)]
    pub mobile: Option<String>,
    /// The language that the person reads, by its tag.
    #[serde(default)]
    pub language: Option<String>,
}

/// Whether an account may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AccountState {
    /// It may.
    #[default]
    Normal,
    /// Locked after too many wrong passwords.
    Locked,
    /// The password has expired.
    Expired,
    /// The password must be changed first.
    MustChange,
}

/// A data file that cannot be read.
#[derive(Debug, Error)]
#[error("the directory's data cannot be read: {0}")]
pub struct DataError(#[from] toml::de::Error);

impl DirectoryData {
    /// Reads a data file.
    ///
    /// # Errors
    /// [`DataError`] with line and column.
    pub fn parse(text: &str) -> Result<Self, DataError> {
        Ok(toml::from_str(text)?)
    }
}

/// One entry.
#[derive(Debug, Clone)]
pub(crate) struct Entry {
    dn: String,
    attributes: Vec<(&'static str, Vec<String>)>,
}

/// All entries by their DN in lower case, with people by login name beside.
#[derive(Debug)]
pub(crate) struct Entries {
    base: String,
    all: HashMap<String, Entry>,
    by_uid: HashMap<String, String>,
}

impl Entries {
    pub(crate) fn new(data: &DirectoryData) -> Self {
        let base = &data.base;
        let mut entries = Entries { base: base.to_lowercase(), all: HashMap::new(), by_uid: HashMap::new() };
        entries.add(base.clone(), vec![("objectClass", vec!["domain".into()])]);
        for unit in ["people", "groups", "services"] {
            entries.add(format!("ou={unit},{base}"), vec![("objectClass", vec!["organizationalUnit".into()]), ("ou", vec![unit.into()])]);
        }
        for service in &data.services {
            entries.add(service.dn.clone(), vec![("objectClass", vec!["applicationProcess".into()])]);
        }
        let mut members: HashMap<&str, Vec<String>> = HashMap::new();
        for person in &data.people {
            let dn = person_dn(base, &person.uid);
            for group in &person.groups {
                members.entry(group).or_default().push(dn.clone());
            }
            let groups = person.groups.iter().map(|group| group_dn(base, group)).collect();
            entries.by_uid.insert(person.uid.to_lowercase(), dn.to_lowercase());
            entries.add(
                dn,
                vec![
                    ("objectClass", vec!["inetOrgPerson".into()]),
                    ("uid", vec![person.uid.clone()]),
                    ("cn", vec![person.name.clone()]),
                    ("mail", vec![person.mail.clone().unwrap_or_else(|| format!("{}@northmoor.example", person.uid))]),
                    ("mobile", person.mobile.iter().cloned().collect()),
                    ("preferredLanguage", person.language.iter().cloned().collect()),
                    ("memberOf", groups),
                ],
            );
        }
        for (group, members) in members {
            let attributes = vec![("objectClass", vec!["groupOfNames".into()]), ("cn", vec![group.to_owned()]), ("member", members)];
            entries.add(group_dn(base, group), attributes);
        }
        entries
    }

    fn add(&mut self, dn: String, attributes: Vec<(&'static str, Vec<String>)>) {
        self.all.insert(dn.to_lowercase(), Entry { dn, attributes });
    }

    pub(crate) fn has(&self, dn: &str) -> bool {
        self.all.contains_key(&dn.to_lowercase())
    }

    /// Entries that a search finds.
    pub(crate) fn search(&self, base: &str, scope: &LdapSearchScope, filter: &LdapFilter) -> Vec<&Entry> {
        let base = base.to_lowercase();
        let fits = |entry: &&Entry| in_scope(&entry.dn.to_lowercase(), &base, scope) && entry.matches(filter);
        // Looked up, since a directory too has an index for what everybody searches by.
        if let LdapFilter::Equality(attribute, value) = filter
            && attribute.eq_ignore_ascii_case("uid")
        {
            return self.by_uid.get(&value.to_lowercase()).and_then(|dn| self.all.get(dn)).into_iter().filter(fits).collect();
        }
        self.all.values().filter(fits).collect()
    }

    pub(crate) fn suffix(&self) -> &str {
        &self.base
    }
}

impl Entry {
    fn matches(&self, filter: &LdapFilter) -> bool {
        let values =
            |attribute: &str| self.attributes.iter().find(|(name, _)| name.eq_ignore_ascii_case(attribute)).map(|(_, values)| values);
        match filter {
            LdapFilter::And(all) => all.iter().all(|filter| self.matches(filter)),
            LdapFilter::Or(any) => any.iter().any(|filter| self.matches(filter)),
            LdapFilter::Not(filter) => !self.matches(filter),
            LdapFilter::Present(attribute) => values(attribute).is_some(),
            LdapFilter::Equality(attribute, value) => {
                values(attribute).is_some_and(|values| values.iter().any(|own| own.eq_ignore_ascii_case(value)))
            }
            _ => false,
        }
    }

    pub(crate) fn result(&self, wanted: &[String]) -> LdapSearchResultEntry {
        let all = wanted.is_empty() || wanted.iter().any(|name| name == "*");
        let shown = self
            .attributes
            .iter()
            .filter(|(name, _)| all && *name != "memberOf" || wanted.iter().any(|wanted| wanted.eq_ignore_ascii_case(name)));
        let attributes = shown.map(|(name, values)| LdapPartialAttribute {
            atype: (*name).to_owned(),
            vals: values.iter().map(|value| value.as_bytes().to_vec()).collect(),
        });
        LdapSearchResultEntry { dn: self.dn.clone(), attributes: attributes.collect() }
    }
}

/// A person's DN.
pub(crate) fn person_dn(base: &str, uid: &str) -> String {
    format!("uid={uid},ou=people,{base}")
}

fn group_dn(base: &str, group: &str) -> String {
    format!("cn={group},ou=groups,{base}")
}

fn in_scope(dn: &str, base: &str, scope: &LdapSearchScope) -> bool {
    let Some(above) = dn.strip_suffix(base) else { return false };
    let depth = above.matches(',').count();
    match scope {
        LdapSearchScope::Base => above.is_empty(),
        LdapSearchScope::OneLevel => depth == 1,
        _ => above.is_empty() || above.ends_with(','),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DATA: &str = include_str!("../../../demo/directory.toml");
    const BASE: &str = "dc=northmoor,dc=example";

    fn entries() -> Entries {
        Entries::new(&DirectoryData::parse(DATA).unwrap())
    }

    fn found(base: &str, scope: LdapSearchScope, filter: LdapFilter) -> Vec<String> {
        let entries = entries();
        let mut names: Vec<String> = entries.search(base, &scope, &filter).iter().map(|entry| entry.dn.clone()).collect();
        names.sort();
        names
    }

    fn equals(attribute: &str, value: &str) -> LdapFilter {
        LdapFilter::Equality(attribute.into(), value.into())
    }

    #[test]
    fn a_data_file_that_cannot_be_read_says_where() {
        let error = DirectoryData::parse("base = \"dc=example\"\n[[people]]\nuid = \"ines\"\nnmae = \"Ines\"\n").unwrap_err().to_string();
        assert!(error.starts_with("the directory's data cannot be read:") && error.contains("line 4") && error.contains("nmae"), "{error}");
    }

    #[test]
    fn people_are_found_by_their_login_name_whatever_its_case() {
        let people = format!("ou=people,{BASE}");
        assert_eq!(found(&people, LdapSearchScope::Subtree, equals("uid", "INES")), [format!("uid=ines,{people}")]);
        assert_eq!(found(&people, LdapSearchScope::Subtree, equals("UID", "ines")), [format!("uid=ines,{people}")]);
        assert_eq!(found(&people, LdapSearchScope::Subtree, equals("uid", "nobody")), Vec::<String>::new());
        assert_eq!(found(&format!("ou=groups,{BASE}"), LdapSearchScope::Subtree, equals("uid", "ines")), Vec::<String>::new());
    }

    #[test]
    fn a_scope_is_a_base_one_level_or_everything_below() {
        let any = || LdapFilter::Present("objectClass".into());
        let people = format!("ou=people,{BASE}");
        assert_eq!(found(&people, LdapSearchScope::Base, any()), std::slice::from_ref(&people));
        let level = found(&people, LdapSearchScope::OneLevel, any());
        assert!(level.iter().all(|dn| dn.starts_with("uid=")) && level.len() > 5, "{level:?}");
        assert_eq!(found(&people, LdapSearchScope::Subtree, any()).len(), level.len() + 1);
        assert_eq!(found("dc=elsewhere", LdapSearchScope::Subtree, any()), Vec::<String>::new());
    }

    #[test]
    fn filters_are_joined_and_turned_round() {
        let crew = || equals("memberOf", &format!("cn=turbine-crew,ou=groups,{BASE}"));
        let all = found(BASE, LdapSearchScope::Subtree, crew());
        assert!(all.contains(&format!("uid=tomasz,ou=people,{BASE}")), "{all:?}");
        let both = LdapFilter::And(vec![crew(), equals("cn", "Tomasz Brandt")]);
        assert_eq!(found(BASE, LdapSearchScope::Subtree, both).len(), 1);
        let either = LdapFilter::Or(vec![equals("cn", "Ines Okafor"), equals("cn", "Tomasz Brandt")]);
        assert_eq!(found(BASE, LdapSearchScope::Subtree, either).len(), 2);
        let neither = LdapFilter::And(vec![equals("objectClass", "inetOrgPerson"), LdapFilter::Not(Box::new(crew()))]);
        let others = found(BASE, LdapSearchScope::Subtree, neither);
        assert!(others.contains(&format!("uid=ines,ou=people,{BASE}")) && others.iter().all(|dn| !all.contains(dn)), "{others:?}");
    }

    #[test]
    fn groups_list_their_members_and_people_their_groups_only_if_asked() {
        let entries = entries();
        let group = entries.search(BASE, &LdapSearchScope::Subtree, &equals("cn", "control-room"));
        let members = group[0].result(&[]).attributes.into_iter().find(|attribute| attribute.atype == "member").unwrap();
        assert_eq!(members.vals, [format!("uid=ines,ou=people,{BASE}").into_bytes()]);
        let ines = entries.search(BASE, &LdapSearchScope::Subtree, &equals("uid", "ines"))[0];
        let shown = |wanted: &[&str]| -> Vec<String> {
            let wanted: Vec<String> = wanted.iter().map(|name| (*name).to_owned()).collect();
            ines.result(&wanted).attributes.into_iter().map(|attribute| attribute.atype).collect()
        };
        assert!(!shown(&[]).contains(&"memberOf".to_owned()), "as an operational attribute");
        assert_eq!(shown(&["memberof", "CN"]), ["cn", "memberOf"]);
        assert!(shown(&["*", "memberOf"]).len() > 5);
    }

    #[test]
    fn an_address_for_mail_is_made_of_the_login_name_where_none_is_given() {
        let data = DirectoryData::parse(&format!(
            "base = \"{BASE}\"\n[[people]]\nuid = \"ines\"\nname = \"Ines\"\npassword = \"x\"\n[[people]]\nuid = \"yuki\"\nname = \"Yuki\"\npassword = \"x\"\nmail = \"y@northmoor.example\"\n"
        ));
        let entries = Entries::new(&data.unwrap());
        for (uid, mail) in [("ines", "ines@northmoor.example"), ("yuki", "y@northmoor.example")] {
            let found = entries.search(BASE, &LdapSearchScope::Subtree, &equals("mail", mail));
            assert_eq!(found[0].dn, person_dn(BASE, uid));
        }
        assert!(entries.has(&person_dn(BASE, "INES")) && !entries.has("uid=nobody") && entries.suffix() == BASE);
    }
}
