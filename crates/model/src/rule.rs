//! Who may pass: the first rule that fits decides.

use crate::condition::{Circumstances, Condition};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;

/// Whom a rule is about. Without a condition it is about everybody who got this far.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct When {
    /// Members of at least one of these groups, by the group's name or its whole DN, in lower case; empty for all.
    pub groups: Vec<String>,
    /// Logins through gateways with all of these labels.
    pub labels: BTreeMap<String, String>,
    /// What else must hold.
    pub more: Vec<Condition>,
}

impl When {
    /// Members of at least one of these groups, in lower case.
    pub fn any_group(groups: Vec<String>) -> Self {
        When { groups, ..When::default() }
    }

    fn fits_labels(&self, labels: &BTreeMap<String, String>) -> bool {
        self.labels.iter().all(|(key, value)| labels.get(key) == Some(value))
    }

    /// Whether it is about somebody in these groups, through a gateway with these labels.
    pub fn meets(&self, groups: &Groups, labels: &BTreeMap<String, String>) -> bool {
        (self.groups.is_empty() || self.groups.iter().any(|group| groups.contains(group))) && self.fits_labels(labels)
    }

    /// Why it is not; nothing where it is.
    pub fn misses(&self, groups: &Groups, labels: &BTreeMap<String, String>) -> Option<String> {
        if !self.groups.is_empty() && !self.groups.iter().any(|group| groups.contains(group)) {
            return Some(format!("not in {}", self.groups.join(" or ")));
        }
        let wrong = self.labels.iter().find(|(key, value)| labels.get(*key) != Some(value));
        wrong.map(|(key, value)| match labels.get(key) {
            Some(own) => format!("the gateway's {key} is {own}, not {value}"),
            None => format!("the gateway has no label {key}"),
        })
    }

    /// Whether all of it holds; none where that is not known.
    pub fn holds(&self, login: &Circumstances<'_>) -> Option<bool> {
        let groups = match (self.groups.is_empty(), login.groups) {
            (true, _) => Some(true),
            (false, None) => None,
            (false, Some(own)) => Some(self.groups.iter().any(|group| own.contains(group))),
        };
        let labels = match (self.labels.is_empty(), login.labels) {
            (true, _) => Some(true),
            (false, None) => None,
            (false, Some(own)) => Some(self.fits_labels(own)),
        };
        let mut all = Some(true);
        for one in [groups, labels].into_iter().chain(self.more.iter().map(|one| one.holds(login))) {
            match one {
                Some(false) => return Some(false),
                None => all = None,
                Some(true) => {}
            }
        }
        all
    }

    /// Why it does not hold; nothing where it does.
    pub fn misses_for(&self, login: &Circumstances<'_>) -> Option<String> {
        let none = (Groups::default(), BTreeMap::new());
        let (groups, labels) = (login.groups.unwrap_or(&none.0), login.labels.unwrap_or(&none.1));
        let plain = When { groups: self.groups.clone(), labels: self.labels.clone(), more: Vec::new() };
        let missed = if plain.holds(login).unwrap_or(login.assumed) { None } else { plain.misses(groups, labels) };
        missed.or_else(|| self.more.iter().find_map(|one| one.misses(login)))
    }

    /// Whether everything that fits `other` fits this too, as far as that can be told.
    pub fn covers(&self, other: &When) -> bool {
        if !self.more.iter().all(|one| other.more.contains(one)) {
            return false;
        }
        let groups = self.groups.is_empty() || !other.groups.is_empty() && other.groups.iter().all(|group| self.groups.contains(group));
        groups && self.fits_labels(&other.labels)
    }
}

impl fmt::Display for When {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.groups.as_slice() {
            [] => f.write_str("everybody")?,
            groups => write!(f, "members of {}", groups.join(" or "))?,
        }
        for (at, (key, value)) in self.labels.iter().enumerate() {
            write!(f, "{}{key} {value}", if at == 0 { " through a gateway with " } else { " and " })?;
        }
        for one in &self.more {
            write!(f, ", {one}")?;
        }
        Ok(())
    }
}

/// What a rule says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Then {
    /// Let in, with the grant of this index in the site.
    Grant(usize),
    /// Keep out, for this reason.
    Refuse(String),
}

/// A rule of a chain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rule {
    /// Its name.
    pub name: String,
    /// Whom it is about.
    pub when: When,
    /// What it says.
    pub then: Then,
    /// Its line in the site file.
    pub line: u32,
}

/// The groups of a person, folded for comparing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Groups(BTreeSet<String>);

impl Groups {
    /// From names or DNs; a DN counts under its whole text and under its first name.
    pub fn new<'g>(names: impl IntoIterator<Item = &'g str>) -> Self {
        let mut folded = BTreeSet::new();
        for name in names {
            if name.contains('=') {
                folded.insert(crate::directory::name_of_dn(name).to_lowercase());
            }
            folded.insert(name.to_lowercase());
        }
        Groups(folded)
    }

    /// Whether a group, given in lower case, is among them.
    pub fn contains(&self, group: &str) -> bool {
        self.0.contains(group)
    }

    /// The plain names, for a step's text.
    pub fn names(&self) -> Vec<&str> {
        self.0.iter().map(String::as_str).filter(|name| !name.contains('=')).collect()
    }
}

/// A rule has let the person in. Only [`RuleBook::decide`] makes one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RulePassed {
    grant: usize,
}

impl RulePassed {
    /// Index of the grant in the site.
    pub fn grant(&self) -> usize {
        self.grant
    }
}

/// The rules of a chain in order. Deciding costs one look-up per group of the person, however many rules there are.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RuleBook {
    rules: Vec<Rule>,
    /// The rules about each group, in order.
    by_group: HashMap<String, Vec<usize>>,
    /// The rules about everybody.
    everybody: Vec<usize>,
    asks_more: bool,
}

impl RuleBook {
    /// Adds a rule behind the others.
    pub fn push(&mut self, rule: Rule) {
        let index = self.rules.len();
        if rule.when.groups.is_empty() {
            self.everybody.push(index);
        }
        for group in &rule.when.groups {
            self.by_group.entry(group.clone()).or_default().push(index);
        }
        self.asks_more |= !rule.when.more.is_empty();
        self.rules.push(rule);
    }

    /// Whether a rule asks for more than groups and labels.
    pub fn asks_more(&self) -> bool {
        self.asks_more
    }

    /// The rules in order.
    pub fn rules(&self) -> &[Rule] {
        &self.rules
    }

    /// Finds the first rule that fits a person's groups and a gateway's labels. What else rules ask is assumed to hold.
    pub fn decide(&self, groups: &Groups, labels: &BTreeMap<String, String>) -> Decision<'_> {
        self.decide_for(&Circumstances { groups: Some(groups), labels: Some(labels), assumed: true, ..Circumstances::default() })
    }

    /// Finds the first rule that fits a login.
    pub fn decide_for(&self, login: &Circumstances<'_>) -> Decision<'_> {
        let none = Groups::default();
        let groups = login.groups.unwrap_or(&none);
        let fits = |index: &&usize| self.rules.get(**index).is_some_and(|rule| rule.when.holds(login).unwrap_or(login.assumed));
        let by_group = groups.0.iter().filter_map(|group| self.by_group.get(group)?.iter().find(fits));
        let first = by_group.chain(self.everybody.iter().find(fits)).min();
        first.and_then(|index| self.rules.get(*index)).map_or(Decision::NoRule, Rule::decision)
    }

    /// What the rules say of a login whatever may be true of what is not known of it; none if they could both admit and refuse it.
    pub fn decide_surely(&self, login: &Circumstances<'_>) -> Option<Decision<'_>> {
        let admits = |decision: Decision<'_>| matches!(decision, Decision::Passed(..));
        let mut first = None;
        for rule in &self.rules {
            let holds = rule.when.holds(login);
            if holds == Some(false) {
                continue;
            }
            let found = *first.get_or_insert(rule.decision());
            if admits(found) != admits(rule.decision()) {
                return None;
            }
            if holds == Some(true) {
                return Some(found);
            }
        }
        match first {
            Some(found) => (!admits(found)).then_some(found),
            None => Some(Decision::NoRule),
        }
    }
}

impl Rule {
    fn decision(&self) -> Decision<'_> {
        match &self.then {
            Then::Grant(grant) => Decision::Passed(RulePassed { grant: *grant }, self),
            Then::Refuse(reason) => Decision::Refused(self, reason),
        }
    }
}

impl FromIterator<Rule> for RuleBook {
    fn from_iter<I: IntoIterator<Item = Rule>>(rules: I) -> Self {
        let mut book = RuleBook::default();
        rules.into_iter().for_each(|rule| book.push(rule));
        book
    }
}

/// What the rules say.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision<'r> {
    /// Let in by this rule.
    Passed(RulePassed, &'r Rule),
    /// Kept out by this rule.
    Refused(&'r Rule, &'r str),
    /// Nothing fits: refused.
    NoRule,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rule(groups: &[u8], then: Then) -> Rule {
        let when = When::any_group(groups.iter().map(|g| format!("g{g}")).collect());
        Rule { name: "r".into(), when, then, line: 1 }
    }

    #[test]
    fn what_is_not_known_leaves_a_decision_open_only_where_it_matters() {
        let by_name = |name: &str, then| {
            let mut rule = rule(&[], then);
            rule.when.more.push(Condition::Name(vec![name.into()]));
            rule
        };
        let refuse = || Then::Refuse("no".into());
        let book = |rules: Vec<Rule>| rules.into_iter().collect::<RuleBook>();
        let (known, unknown) = (Circumstances { name: Some("ines"), ..Circumstances::default() }, Circumstances::default());
        let admits = |rules: &RuleBook, login| rules.decide_surely(login).map(|decision| matches!(decision, Decision::Passed(..)));
        let rules = book(vec![by_name("pell", refuse()), rule(&[], Then::Grant(1))]);
        assert_eq!((admits(&rules, &known), admits(&rules, &unknown)), (Some(true), None));
        let rules = book(vec![by_name("pell", Then::Grant(1)), rule(&[], Then::Grant(2))]);
        assert_eq!(admits(&rules, &unknown), Some(true), "either rule admits");
        let rules = book(vec![by_name("pell", Then::Grant(1))]);
        assert_eq!((admits(&rules, &known), admits(&rules, &unknown)), (Some(false), None), "otherwise no rule fits");
        assert_eq!(admits(&book(vec![by_name("pell", refuse())]), &unknown), Some(false));
    }

    #[test]
    fn a_rule_with_labels_is_only_about_logins_through_such_gateways() {
        let vpn = BTreeMap::from([("kind".to_owned(), "vpn".to_owned())]);
        let mut first = rule(&[1], Then::Refuse("not by vpn".into()));
        first.when.labels.clone_from(&vpn);
        let rules: RuleBook = [first.clone(), rule(&[1], Then::Grant(7))].into_iter().collect();
        let groups = Groups::new(["g1"]);
        assert!(matches!(rules.decide(&groups, &vpn), Decision::Refused(..)));
        assert!(matches!(rules.decide(&groups, &BTreeMap::new()), Decision::Passed(passed, _) if passed.grant() == 7));
        assert_eq!(first.when.to_string(), "members of g1 through a gateway with kind vpn");
        assert!(When::default().covers(&first.when) && !first.when.covers(&When::any_group(vec!["g1".into()])));
    }

    #[test]
    fn groups_match_by_name_and_by_dn_in_any_case() {
        let groups = Groups::new(["CN=Control-Room,OU=groups,DC=northmoor,DC=example", "Local"]);
        for name in ["control-room", "cn=control-room,ou=groups,dc=northmoor,dc=example", "local"] {
            assert!(groups.contains(name), "{name}");
        }
        assert_eq!(groups.names(), ["control-room", "local"]);
    }

    proptest! {
        // The oracle is a table: one column a rule, one row a group; the leftmost column with a mark decides.
        #[test]
        fn the_first_rule_that_fits_decides_as_in_a_table(
            columns in proptest::collection::vec((proptest::collection::vec(0u8..4, 0..3), any::<bool>()), 0..6),
            mine in proptest::collection::btree_set(0u8..4, 0..4),
        ) {
            let rules: RuleBook = columns.iter().enumerate()
                .map(|(at, (groups, refuse))| rule(groups, if *refuse { Then::Refuse(at.to_string()) } else { Then::Grant(at) })).collect();
            let names: Vec<String> = mine.iter().map(|g| format!("g{g}")).collect();
            let mut table = Vec::new();
            for (at, (groups, refuse)) in columns.iter().enumerate() {
                if groups.is_empty() { table.push((at, *refuse)); }
                for group in groups { if mine.contains(group) { table.push((at, *refuse)); } }
            }
            let seen = match rules.decide(&Groups::new(names.iter().map(String::as_str)), &BTreeMap::new()) {
                Decision::Passed(passed, _) => Some((passed.grant(), false)),
                Decision::Refused(_, reason) => Some((reason.parse().unwrap(), true)),
                Decision::NoRule => None,
            };
            prop_assert_eq!(seen, table.into_iter().min());
        }
    }
}
