//! Names in traces. People type a password into the name field by mistake, so a name that nobody is known by is not kept as it was typed,
//! unless it is nearly a known one: then the operator is told which.

use bivector_model::facts::PersonFact;
use bivector_model::text::{shown, unknown_name};
use bivector_model::trace::{Hop, Origin, Step, Tone, Trace};
use bivector_store::lookup::{Lookup, LookupSet};
use bivector_store::seal::Seal;
use data_encoding::HEXLOWER;
use std::collections::{HashSet, VecDeque};
use std::sync::{Arc, Mutex};

/// Names of people whom a source has known lately, besides those whom the records know; each takes about 60 bytes.
const SEEN: usize = 20_000;
/// Names of one beginning and length that are compared with an unknown one.
const COMPARED: usize = 500;

/// Names that people are known by.
#[derive(Debug)]
pub struct KnownNames {
    seal: Arc<Seal>,
    names: Mutex<Names>,
}

#[derive(Debug, Default)]
struct Names {
    /// From the records.
    kept: Index,
    /// From sources, the oldest first.
    seen: VecDeque<String>,
    seen_index: Index,
}

/// Names by their first character and their length in characters.
#[derive(Debug, Default)]
struct Index {
    by_shape: Lookup<(char, usize), LookupSet<String>>,
}

fn shape(name: &str) -> Option<(char, usize)> {
    Some((name.chars().next()?, name.chars().count()))
}

impl Index {
    fn insert(&mut self, name: &str) -> bool {
        shape(name).is_some_and(|shape| self.by_shape.entry(shape).or_default().insert(name.to_owned()))
    }

    fn remove(&mut self, name: &str) {
        if let Some(names) = shape(name).and_then(|shape| self.by_shape.get_mut(&shape)) {
            names.remove(name);
        }
    }

    fn has(&self, name: &str) -> bool {
        shape(name).and_then(|shape| self.by_shape.get(&shape)).is_some_and(|names| names.contains(name))
    }

    /// A name that differs in one slip of the fingers.
    fn near(&self, name: &str) -> Option<String> {
        let (_, length) = shape(name)?;
        // The slip may be in the first two characters.
        let beginnings: HashSet<char> = name.chars().take(2).collect();
        let lengths = length.saturating_sub(1)..=length + 1;
        let shapes = beginnings.into_iter().flat_map(|first| lengths.clone().map(move |length| (first, length)));
        let compared = shapes.filter_map(|shape| self.by_shape.get(&shape)).flatten().take(COMPARED);
        compared.filter(|known| strsim::osa_distance(known, name) == 1).min().cloned()
    }
}

/// A typed name as people are known by it: without domain and realm, in lower case.
fn plain(typed: &str) -> String {
    let name = typed.rsplit(['\\', '/']).next().unwrap_or(typed);
    name.split('@').next().unwrap_or(name).trim().to_lowercase()
}

/// The shortest name that is compared: of two characters, every other name is one slip away.
const SHORTEST: usize = 4;

impl KnownNames {
    /// `seal` makes digests that only this service can make.
    pub fn new(seal: Arc<Seal>) -> Self {
        KnownNames { seal, names: Mutex::default() }
    }

    /// Takes over who is in the records.
    pub fn take_over<'n>(&self, logins: impl Iterator<Item = &'n str>) {
        let mut kept = Index::default();
        for login in logins {
            kept.insert(&login.to_lowercase());
        }
        if let Ok(mut names) = self.names.lock() {
            names.kept = kept;
        }
    }

    /// Notes somebody whom a source knows.
    pub fn note(&self, login: &str) {
        let Ok(mut names) = self.names.lock() else { return };
        let names = &mut *names;
        if names.kept.has(login) || !names.seen_index.insert(login) {
            return;
        }
        names.seen.push_back(login.to_owned());
        if names.seen.len() > SEEN
            && let Some(oldest) = names.seen.pop_front()
        {
            names.seen_index.remove(&oldest);
        }
    }

    /// Whether somebody is known by a name, or by one that is nearly it.
    fn look_up(&self, name: &str) -> Known {
        let Ok(names) = self.names.lock() else { return Known::Not };
        if names.kept.has(name) || names.seen_index.has(name) {
            return Known::Exactly;
        }
        if name.chars().count() < SHORTEST {
            return Known::Not;
        }
        names.kept.near(name).or_else(|| names.seen_index.near(name)).map_or(Known::Not, Known::Nearly)
    }

    fn digest(&self, name: &str) -> String {
        HEXLOWER.encode(&self.seal.digest("unknown name", name.as_bytes())[..4])
    }

    /// A name for a log, where it may be somebody's password.
    pub fn loggable(&self, name: &str, is_known: bool) -> String {
        if is_known { shown(name).into_owned() } else { unknown_name(name, &self.digest(name)) }
    }

    /// A name as traces have it: what an operator looks for may be a name that nobody is known by.
    pub fn as_kept(&self, typed: &str) -> String {
        match self.look_up(&plain(typed)) {
            Known::Not => unknown_name(typed, &self.digest(&plain(typed))),
            Known::Exactly | Known::Nearly(_) => typed.to_owned(),
        }
    }

    /// Takes out of a trace what may be a password in the wrong field. `keep` is what the site says of that.
    pub fn guard(&self, trace: &mut Trace, of_upstream: bool, keep: bool) {
        if trace.origin == Origin::Rehearsal {
            return;
        }
        let by_source = trace.person.as_deref().and_then(|key| key.split_once(':')).map(|(_, login)| login.to_owned());
        // An upstream knows whomever it is asked about, until it has accepted somebody.
        let known = by_source.filter(|_| !of_upstream || trace.cause.is_none());
        if let Some(login) = known {
            return self.note(&login);
        }
        let typed = trace.typed_name.clone();
        let name = plain(&typed);
        if typed.is_empty() || keep {
            return;
        }
        let is_somebody = |fact: &PersonFact| matches!(fact, PersonFact::Found(_) | PersonFact::Several(_) | PersonFact::Refused(_));
        if !of_upstream && trace.facts.people.iter().any(|(_, fact)| is_somebody(fact)) {
            return self.note(&name);
        }
        match self.look_up(&name) {
            Known::Exactly => {}
            Known::Nearly(near) => {
                let said = format!("nobody is known as `{}`; did the person mean `{near}`?", shown(&name));
                let at_us = trace.took_us;
                trace.steps.push(Step { hop: Hop::Reading, what: "near".into(), tone: Tone::Note, at_us, took_us: 0, said, line: None });
            }
            Known::Not => {
                let kept = unknown_name(&typed, &self.digest(&name));
                for step in &mut trace.steps {
                    // As typed, and as it was looked up.
                    for form in [typed.as_str(), &name] {
                        step.said = step.said.replace(&format!("`{form}`"), &format!("`{kept}`"));
                        step.said = step.said.replace(&format!(" {form} "), &format!(" {kept} "));
                    }
                }
                if trace.person.is_some() {
                    trace.person = None;
                }
                trace.typed_name = kept;
            }
        }
    }
}

#[derive(Debug, PartialEq, Eq)]
enum Known {
    Exactly,
    Nearly(String),
    Not,
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_model::Cause;
    use bivector_model::trace::Outcome;

    fn names() -> KnownNames {
        let folder = tempfile::tempdir().unwrap();
        let names = KnownNames::new(Arc::new(Seal::load(&folder.path().join("seal.key"), true).unwrap()));
        names.take_over(["ines", "tomasz", "Sable"].into_iter());
        names
    }

    fn trace(typed: &str, person: Option<&str>) -> Trace {
        let step = |said: String| Step { hop: Hop::Reading, what: "name".into(), tone: Tone::Good, at_us: 0, took_us: 0, said, line: None };
        Trace {
            reference: "R".into(),
            began_us: 0,
            took_us: 9,
            origin: Origin::Gateway,
            gateway: "breakwater".into(),
            sender: "127.0.0.11:4000".into(),
            chain: "staff".into(),
            typed_name: typed.into(),
            person: person.map(str::to_owned),
            method: "pap".into(),
            source: None,
            outcome: Outcome::Refused,
            cause: Some(Cause::PersonUnknown),
            grant: None,
            factor: None,
            waived: None,
            revision: 1,
            steps: vec![
                step(format!("`{typed}` is looked up as `{}`", plain(typed))),
                step(format!("tidehall has no person `{}`", plain(typed))),
            ],
            facts: Box::default(),
        }
    }

    fn guarded(names: &KnownNames, typed: &str) -> Trace {
        let mut trace = trace(typed, None);
        names.guard(&mut trace, false, false);
        trace
    }

    #[test]
    fn a_password_in_the_name_field_is_neither_in_the_name_nor_in_any_step() {
        for typed in ["Barnacle-and-Buoy", "NORTHMOOR\\barnacle-and-buoy", "barnacle-and-buoy@northmoor.example"] {
            let trace = guarded(&names(), typed);
            let all = format!("{trace:?}").to_lowercase();
            assert!(!all.contains("barnacle"), "{all}");
            assert!(trace.typed_name.starts_with(&typed[..2]) && trace.typed_name.contains("characters"), "{}", trace.typed_name);
        }
        let (one, other) = (names(), names());
        let kept = |names: &KnownNames| guarded(names, "barnacle-and-buoy").typed_name;
        assert_eq!(kept(&one), kept(&one), "the same text is recognised again");
        assert_ne!(kept(&one), kept(&other), "and by nobody without the key");
    }

    #[test]
    fn a_name_with_one_slip_is_kept_and_the_known_one_suggested() {
        for (typed, near) in
            [("inse", "ines"), ("nies", "ines"), ("ine", ""), ("inez", "ines"), ("tomas", "tomasz"), ("NORTHMOOR\\tomazs", "tomasz")]
        {
            let trace = guarded(&names(), typed);
            let suggested = trace.steps.iter().any(|step| step.said.contains(&format!("mean `{near}`")));
            assert_eq!((suggested, trace.typed_name == typed), (!near.is_empty(), !near.is_empty()), "{typed}: {trace:?}");
        }
        assert_eq!(guarded(&names(), "sable").typed_name, "sable", "a known name whose source could not be asked");
    }

    #[test]
    fn a_name_whose_account_is_disabled_is_a_known_one() {
        let names = names();
        let mut refused = trace("ravi", None);
        refused.facts.people.push(("tidehall".into(), PersonFact::Refused(Cause::AccountDisabled)));
        names.guard(&mut refused, false, false);
        assert_eq!((refused.typed_name.as_str(), names.look_up("ravi")), ("ravi", Known::Exactly));
    }

    #[test]
    fn whom_a_source_has_known_is_known_from_then_on_and_the_site_may_keep_all() {
        let names = names();
        let mut known = Trace { cause: None, ..trace("pell", Some("tidehall:pell")) };
        names.guard(&mut known, false, false);
        assert_eq!(names.look_up("pell"), Known::Exactly);
        let mut kept = trace("barnacle-and-buoy", None);
        names.guard(&mut kept, false, true);
        assert_eq!(kept.typed_name, "barnacle-and-buoy");
        let mut guess = trace("barnacle-and-buoy", Some("harbourlight:barnacle-and-buoy"));
        names.guard(&mut guess, true, false);
        assert!(guess.person.is_none() && !guess.typed_name.contains("barnacle"), "an upstream knows whomever it is asked about");
    }

    #[test]
    fn what_is_remembered_of_sources_is_bounded() {
        let names = names();
        (0..SEEN + 50).for_each(|number| names.note(&format!("person-{number}")));
        let inside = names.names.lock().unwrap();
        let indexed: usize = inside.seen_index.by_shape.values().map(HashSet::len).sum();
        assert_eq!((inside.seen.len(), indexed), (SEEN, SEEN));
    }
}
