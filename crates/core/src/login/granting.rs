//! What a grant hands out beside fixed values: an address of a pool, and a session among those that a person may have.

use super::candidate::Candidate;
use super::fact::{Leased, Need, Reserve, ReserveAnswer};
use super::machine::{Login, State, Station};
use super::proof::{FirstProved, Second};
use bivector_model::cause::Cause;
use bivector_model::grant::{Grant, GrantedItem, Target};
use bivector_model::moment::Moment;
use bivector_model::rule::RulePassed;
use bivector_model::trace::{Hop, Tone};

/// A person whom a rule has let in and whose grant needs something that others may have taken.
#[derive(Debug)]
pub(super) struct Granting {
    pub(super) person: Box<Candidate>,
    pub(super) first: FirstProved,
    pub(super) second: Second,
    pub(super) passed: RulePassed,
}

impl Granting {
    fn grant<'l>(&self, login: &'l Login) -> Option<&'l Grant> {
        login.site.grants.get(self.passed.grant())
    }
}

impl Station for Granting {
    type Answer = ReserveAnswer;

    fn need(&self, login: &Login) -> Need {
        let grant = self.grant(login);
        Need::Reserve(Box::new(Reserve {
            person: self.person.key.clone(),
            gateway: login.gateway_name().to_owned(),
            reference: login.trace.reference.clone(),
            pools: grant.map(|grant| grant.pools.clone()).unwrap_or_default(),
            limit: grant.and_then(|grant| grant.limit),
        }))
    }

    fn learn(self, login: &mut Login, answer: ReserveAnswer, now: Moment) -> State {
        let (line, limit) = self.grant(login).map_or((None, None), |grant| (Some(grant.line), grant.limit));
        let refuse = |login: &mut Login, cause: Cause, said: String| {
            login.step(Hop::Reply, "grant", Tone::Bad, now, said, line);
            login.refuse(cause, now)
        };
        match answer {
            ReserveAnswer::Reserved { leased, open, ends } => {
                if let Some(limit) = limit {
                    let most = limit.most;
                    let said = match ends {
                        Some(session) => format!("{open} sessions are open and {most} may be: the oldest one, session {session}, is ended"),
                        None => format!("{open} sessions are open, and {most} may be"),
                    };
                    login.step(Hop::Reply, "sessions", Tone::Good, now, said, line);
                }
                for one in &leased {
                    let pool = login.site.pools.get(one.pool).map_or("", |pool| pool.name.as_str());
                    let said = format!("`{pool}` gives {}{}", one.text, if one.again { ", as last time" } else { "" });
                    login.step(Hop::Reply, "address", Tone::Good, now, said, line);
                }
                login.accept(self.person, (self.first, self.second, self.passed), leased, now)
            }
            ReserveAnswer::TooMany(open) => {
                let most = limit.map_or(0, |limit| limit.most);
                let said = format!("{open} sessions are open, and {most} may be");
                let of = login.site.grants.get(self.passed.grant()).map_or("", |grant| grant.name.as_str());
                refuse(login, Cause::TooManySessions, format!("{said} with the grant `{of}`"))
            }
            ReserveAnswer::Exhausted(pool) => {
                let pool = login.site.pools.get(pool);
                let (name, size) = pool.map_or(("", 0), |pool| (pool.name.as_str(), pool.size()));
                refuse(login, Cause::PoolExhausted, format!("all {size} addresses of the pool `{name}` are taken"))
            }
            ReserveAnswer::Unavailable(why) => refuse(login, Cause::RecordsUnavailable, why),
        }
    }
}

/// Whether anything has to be reserved for a grant.
pub(super) fn must_reserve(grant: &Grant) -> bool {
    !grant.pools.is_empty() || grant.limit.is_some()
}

/// What is handed out, as attributes of the reply.
pub(super) fn items(leased: Vec<Leased>) -> impl Iterator<Item = GrantedItem> {
    leased.into_iter().map(|one| GrantedItem { target: Target::Standard(one.attribute), value: one.value })
}
