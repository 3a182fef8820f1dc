//! What a login learns is noted beside its trace, without anything secret, so that it can be decided again under another site.

use super::fact::*;
use super::machine::{Login, State};
use super::reading::{Chosen, ChosenCode};
use super::upstream::UpstreamAnswer;
use bivector_model::cause::Cause;
use bivector_model::device::Near;
use bivector_model::facts::*;
use bivector_model::form::Reading;
use bivector_wire::AttributeType;
use std::sync::Arc;

/// Digits at the end of a password that a form could take for a code; fewer are of no interest and are not told.
const CODE_DIGITS: usize = 6;

impl Login {
    /// Notes an answer before the machine goes on with it.
    pub(super) fn note_fact(&mut self, fact: &Fact) {
        let source = |source| self.site.source_name(source).to_owned();
        let facts = &mut self.trace.facts;
        match (&self.state, fact) {
            (State::Finding(station), Fact::Person(answer)) => {
                let asked = self.chain.and_then(|chain| self.site.chains.get(chain)?.first.get(station.at));
                if let Some(first) = asked {
                    facts.people.push((source(first.source), person_fact(&answer.value)));
                }
            }
            (State::KnowingFactors(_) | State::Returning(_), Fact::Factors(FactorsAnswer::Known(known))) => {
                facts.factors = Some(factor_facts(known));
            }
            (State::CheckingPassword(station), Fact::Password(answer)) => {
                facts.passwords.push((source(station.source), password_fact(&answer.value)));
            }
            (State::ComparingProof(station), Fact::Secret(answer)) => {
                let noted = match &answer.value {
                    SecretAnswer::Text(_) | SecretAnswer::NtHash(_) => CheckFact::Right,
                    SecretAnswer::NotKept => CheckFact::Refused(Cause::PasswordNotKept),
                    SecretAnswer::Unavailable(why) => CheckFact::Down(why.cause),
                };
                facts.passwords.push((source(station.source), noted));
            }
            (State::Marking(_), Fact::Mark(answer)) => {
                facts.mark = Some(match answer {
                    MarkAnswer::Marked => CheckFact::Right,
                    MarkAnswer::UsedBefore => CheckFact::Wrong,
                    MarkAnswer::Locked(_) => CheckFact::Refused(Cause::FactorLocked),
                    MarkAnswer::Unavailable(why) => CheckFact::Down(why.cause),
                });
            }
            (State::AskingHandset(_), Fact::ApprovalSent(answer)) => match answer {
                ApprovalSent::Sent { .. } => {}
                ApprovalSent::Limited(_) => facts.approval = Some(ApprovalFact::NotAsked(Cause::ApprovalBusy)),
                ApprovalSent::Stopped(_) => facts.approval = Some(ApprovalFact::NotAsked(Cause::ApprovalStopped)),
                ApprovalSent::Unavailable(why) => facts.approval = Some(ApprovalFact::NotAsked(why.cause)),
            },
            (State::AwaitingApproval(_), Fact::Approval(answer)) => {
                facts.approval = Some(match answer {
                    ApprovalAnswer::Approved(approved) => ApprovalFact::Approved(approved.took.as_millis() as u64),
                    ApprovalAnswer::Denied(_) => ApprovalFact::Denied,
                    ApprovalAnswer::Disowned(_) => ApprovalFact::Disowned,
                    ApprovalAnswer::Unanswered(_) => ApprovalFact::Unanswered,
                    ApprovalAnswer::Stopped(_) => ApprovalFact::NotAsked(Cause::ApprovalStopped),
                });
            }
            (State::SendingCode(station), Fact::Sent(answer)) => {
                let courier = self.site.couriers.get(station.sendable.courier).map(|courier| courier.name.clone()).unwrap_or_default();
                let noted = match answer {
                    SendAnswer::Sent(_) => CheckFact::Right,
                    SendAnswer::Limited(_) => CheckFact::Refused(Cause::CourierLimit),
                    SendAnswer::Unavailable(why) => CheckFact::Down(why.cause),
                };
                facts.sent.push((courier, noted));
            }
            (State::AskingUpstream(station), Fact::Upstream(answer)) => {
                let upstream = self.site.upstreams.get(station.ask.upstream).map(|upstream| upstream.name.clone()).unwrap_or_default();
                facts.upstreams.push((upstream, upstream_fact(&answer.value)));
            }
            _ => {}
        }
    }

    /// Notes how the password field was read.
    pub(super) fn note_reading(&mut self, chosen: &Chosen) {
        self.trace.facts.typed = Some(chosen.noted.clone());
    }
}

fn person_fact(answer: &PersonAnswer) -> PersonFact {
    match answer {
        PersonAnswer::Found(person) => PersonFact::Found(Arc::clone(person)),
        PersonAnswer::NoSuchPerson => PersonFact::Nobody,
        PersonAnswer::Ambiguous { count } => PersonFact::Several(*count),
        PersonAnswer::Refused(cause) => PersonFact::Refused(*cause),
        PersonAnswer::Unavailable(why) => PersonFact::Down(why.cause),
    }
}

fn factor_facts(known: &Factors) -> FactorFacts {
    FactorFacts {
        devices: known.devices.iter().map(|device| (device.kind(), device.digits(), device.has_pin)).collect(),
        handsets: known.handsets,
        keys: known.keys,
        locked: known.locked_until.is_some(),
        remembered: known.remembered_until.is_some(),
    }
}

fn password_fact(answer: &PasswordAnswer) -> CheckFact {
    match answer {
        PasswordAnswer::Right | PasswordAnswer::RightBut(_) => CheckFact::Right,
        PasswordAnswer::Wrong => CheckFact::Wrong,
        PasswordAnswer::Refused(cause) => CheckFact::Refused(*cause),
        PasswordAnswer::Unavailable(why) => CheckFact::Down(why.cause),
    }
}

fn upstream_fact(answer: &UpstreamAnswer) -> UpstreamFact {
    match answer {
        // A vendor's attributes may hold keys; they are not kept.
        UpstreamAnswer::Accept(given) => UpstreamFact::Accepted(
            given
                .attributes
                .iter()
                .filter(|(kind, _)| !matches!(kind, AttributeType::VendorSpecific | AttributeType::TunnelPassword))
                .map(|(kind, value)| (u8::from(*kind), value.clone()))
                .collect(),
        ),
        UpstreamAnswer::Reject(_) => UpstreamFact::Refused,
        UpstreamAnswer::Challenge { .. } => UpstreamFact::Challenged,
        UpstreamAnswer::Unavailable(why) => UpstreamFact::Down(why.cause),
    }
}

/// How a text was read, and the reading that counts.
pub(super) fn typed_fact(text: &str, form: String, reading: Option<&Reading>, word: Option<&String>, code: &ChosenCode) -> TypedFact {
    let password = reading.map_or(Some(0..text.len()), |reading| reading.password.clone());
    let tail = password
        .clone()
        .and_then(|range| text.get(range))
        .map_or(0, |password| password.bytes().rev().take_while(u8::is_ascii_digit).count());
    TypedFact {
        form,
        password: password.map_or(0, |range| range.len()),
        tail: if tail >= CODE_DIGITS { tail } else { 0 },
        pin: reading.and_then(|reading| reading.pin.as_ref()).map(ExactSizeIterator::len),
        code: reading.and_then(|reading| reading.code.as_ref()).map(ExactSizeIterator::len),
        word: word.cloned(),
        verdict: match code {
            ChosenCode::Verified(code, _) => Some(CodeFact::Right(code.kind())),
            ChosenCode::Near(Near::Drifted(seconds)) => Some(CodeFact::Drifted(*seconds)),
            ChosenCode::Near(_) => Some(CodeFact::Spent),
            ChosenCode::Wrong | ChosenCode::NotEnrolled | ChosenCode::ForUpstream(_) => Some(CodeFact::Wrong),
            ChosenCode::NotAsked | ChosenCode::Missing | ChosenCode::Word(_) => None,
        },
    }
}
