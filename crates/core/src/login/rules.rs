//! Station four: who may pass, and what the reply carries.

use super::Verdict;
use super::candidate::{Candidate, Yields};
use super::fact::Leased;
use super::granting::{self, Granting, must_reserve};
use super::machine::{Login, State, told};
use super::proof::{Accept, FirstProved, Granted, Second};
use bivector_model::cause::Cause;
use bivector_model::condition::Circumstances;
use bivector_model::grant::{GrantContext, GrantedItem, Target};
use bivector_model::moment::Moment;
use bivector_model::rule::{Decision, RulePassed};
use bivector_model::trace::{Hop, Outcome, Tone};
use bivector_sessions::class_of;
use bivector_site::Chain;
use bivector_wire::AttributeType;
use std::collections::BTreeMap;
use std::sync::Arc;

impl Login {
    pub(super) fn rules(&mut self, person: Box<Candidate>, first: FirstProved, second: Second, now: Moment) -> State {
        let site = Arc::clone(&self.site);
        let Some(chain) = self.chain.and_then(|chain| site.chains.get(chain)) else { return self.refuse(Cause::ChainMissing, now) };
        let none = BTreeMap::new();
        let labels = site.gateways.get(self.request.context.gateway).map_or(&none, |gateway| &gateway.labels);
        let decision = match chain.rules.asks_more() {
            true => self.decide_by_all(chain, (&person, &first, &second), labels, now),
            false => chain.rules.decide(&person.groups, labels),
        };
        match decision {
            Decision::Refused(rule, reason) => {
                let said = format!("the rule `{}` refuses {}: {reason}", rule.name, person.login);
                self.step(Hop::Rules, "rule", Tone::Bad, now, said, Some(rule.line));
                self.refuse(Cause::RuleRefused, now)
            }
            Decision::NoRule => {
                let groups = person.groups.names().join(", ");
                let said = format!(
                    "none of the {} rules matches; groups of {}: {}",
                    chain.rules.rules().len(),
                    person.login,
                    if groups.is_empty() { "none" } else { &groups }
                );
                self.step(Hop::Rules, "rule", Tone::Bad, now, said, Some(chain.line));
                self.refuse(Cause::NoRule, now)
            }
            Decision::Passed(passed, rule) => {
                let Some(grant) = site.grants.get(passed.grant()) else { return self.refuse(Cause::Unfinished, now) };
                self.step(
                    Hop::Rules,
                    "rule",
                    Tone::Good,
                    now,
                    told!(self, "the rule `{}` assigns the grant `{}`", rule.name, grant.name),
                    Some(rule.line),
                );
                if must_reserve(grant) {
                    return Granting { person, first, second, passed }.into();
                }
                self.accept(person, (first, second, passed), Vec::new(), now)
            }
        }
    }

    /// The first rule that fits, where rules ask for more than groups and labels.
    fn decide_by_all<'c>(
        &self,
        chain: &'c Chain,
        (person, first, second): (&Candidate, &FirstProved, &Second),
        labels: &BTreeMap<String, String>,
        now: Moment,
    ) -> Decision<'c> {
        let context = &self.request.context;
        let nas = context.device();
        let issuer = self.request.inside.as_ref().and_then(|inside| inside.certificate.as_ref()).map_or("", |one| one.issuer.as_str());
        let factor = match second {
            Second::Waived(_) if chain.second.is_empty() => Some("none"),
            Second::Waived(_) => Some("waived"),
            // A simulated login notes none.
            Second::Proved(_) => self.trace.factor.as_deref(),
        };
        chain.rules.decide_for(&Circumstances {
            groups: Some(&person.groups),
            labels: Some(labels),
            name: Some(&person.login),
            realm: Some(&self.realm),
            source: Some(self.site.source_name(first.source())),
            method: Some(self.request.method()),
            factor,
            caller: Some(context.caller()),
            gateway: Some(self.gateway_name()),
            time: Some(self.site.local_time(now)),
            nas: Some(&nas),
            issuer: Some(issuer),
            assumed: self.quiet,
        })
    }

    /// Lets somebody in, with what their grant sets and what was reserved for them.
    pub(super) fn accept(
        &mut self,
        person: Box<Candidate>,
        (first, second, passed): (FirstProved, Second, RulePassed),
        leased: Vec<Leased>,
        now: Moment,
    ) -> State {
        let site = Arc::clone(&self.site);
        let chain = self.chain.and_then(|chain| site.chains.get(chain));
        let (Some(chain), Some(grant)) = (chain, site.grants.get(passed.grant())) else { return self.refuse(Cause::Unfinished, now) };
        let context = GrantContext {
            login: &person.login,
            name: &person.name,
            source: site.source_name(first.source()),
            gateway: self.gateway_name(),
            chain: &chain.name,
            groups: &person.groups,
        };
        let mut items = grant.fill(&context);
        items.extend(granting::items(leased));
        // After those of the grant: many gateways look at the first Class only.
        let gateway = site.gateways.get(self.request.context.gateway);
        if !site.radius.accounting.is_empty() && gateway.is_some_and(|gateway| gateway.session_class) {
            let target = Target::Standard(AttributeType::Class);
            items.push(GrantedItem { target, value: class_of(&self.trace.reference) });
        }
        let remember = chain.remember.and_then(|lasts| Some((self.station(&person.key)?, now.plus(lasts))));
        let Candidate { person, yields: Yields { attributes, hidden, keys, notice, .. }, .. } = *person;
        let given = Granted { person, grant: grant.name.clone(), items, attributes, hidden, keys, notice };
        let targets = || grant.reply.iter().map(|item| item.target.to_string()).collect::<Vec<_>>().join(", ");
        let sets = told!(self, "`{}` sets {}", grant.name, if grant.reply.is_empty() { "nothing".to_owned() } else { targets() });
        self.step(Hop::Reply, "grant", Tone::Good, now, sets, Some(grant.line));
        self.trace.outcome = Outcome::Accepted;
        self.trace.grant = self.noted(&grant.name);
        State::Decided(Verdict::Accept(Box::new(Accept::new(self.request.proof, (first, second, passed), given, remember))))
    }
}
