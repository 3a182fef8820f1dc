//! Approvals: the person says yes or no on a handset while the login waits. Where the gateway shows prompts, a number ties the
//! handset's question to the screen in front of the person.

use super::asking::{Asking, Choice};
use super::candidate::Candidate;
use super::fact::*;
use super::machine::{Login, State, Station, told};
use super::pending::KeptApproval;
use super::second::{MarkFor, Marking};
use bivector_model::cause::Cause;
use bivector_model::moment::Moment;
use bivector_model::prompt::Text;
use bivector_model::text::shown;
use bivector_model::trace::{Hop, Origin, Tone};
use bivector_site::{Chain, FactorKind, Wake, WhenUnanswered};
use std::sync::Arc;

/// Couriers that wake people of a chain.
fn couriers_of(chain: &Chain) -> impl Iterator<Item = usize> {
    chain.wake.iter().filter_map(|wake| match wake {
        Wake::Courier(index) => Some(*index),
        Wake::Push => None,
    })
}

impl Login {
    /// Asks the handset; the one approval that waits for this person here is joined.
    pub(super) fn ask_handset(&mut self, asking: Asking, with_key: bool) -> State {
        let (Some(chain), shows) = (self.chain(), self.shows_prompts()) else { return self.refuse(Cause::Unfinished, self.last) };
        let person = &asking.person;
        let ask = ApprovalAsk {
            person: person.key.clone(),
            login: shown(&person.login).into_owned(),
            name: shown(&person.name).into_owned(),
            site: self.site.name.clone(),
            gateway: self.gateway_name().to_owned(),
            chain: chain.name.clone(),
            from: self.request.context.station.as_deref().map(|station| shown(station).into_owned()).unwrap_or_default(),
            reference: self.trace.reference.clone(),
            wants_number: chain.match_number && shows,
            with_key,
            joins_without_caller: self.gateway().is_some_and(|gateway| gateway.joins_without_caller),
            on_page: self.request.context.origin == Origin::Page,
            before_password: false,
            reach: couriers_of(chain).filter_map(|index| Some((index, self.reach(index, person)?))).collect(),
            language: person.language.to_string(),
            lasts: chain.second_patience,
        };
        AskingHandset { ask: Arc::new(ask), asking: Box::new(asking) }.into()
    }

    pub(super) fn await_approval(&mut self, asking: Asking, approval: KeptApproval) -> State {
        // Thousands may wait here, for a minute each.
        self.trace.steps.shrink_to_fit();
        AwaitingApproval { approval, asking: Box::new(asking) }.into()
    }

    /// What a person at a prompt types to go on once the number is picked: nothing, or what the screen showed.
    pub(super) fn goes_on(approval: &KeptApproval, text: &str) -> bool {
        text.is_empty() || text.eq_ignore_ascii_case("ok") || approval.number.is_some_and(|number| text == number.to_string())
    }

    fn unanswered(&mut self, mut asking: Asking, approval: KeptApproval, cause: Cause, now: Moment) -> State {
        self.gateway_may_have_left(now);
        let next = self.chain().is_some_and(|chain| chain.when_unanswered == WhenUnanswered::Next);
        (asking.approval, asking.lead) = (None, Some(Text::Unanswered));
        asking.down.push(if approval.with_key { FactorKind::Key } else { FactorKind::Approval });
        if !next || !self.shows_prompts() || self.choices(&asking, now).is_empty() {
            return self.refuse(cause, now);
        }
        self.ask_second(asking, now)
    }

    /// A device that has given up does not hear the answer; its settings say when that is.
    fn gateway_may_have_left(&mut self, now: Moment) {
        let waited = now.since(self.began);
        let Some(patience) = self.gateway().and_then(|gateway| gateway.patience) else { return };
        let waits = patience.wait * patience.tries;
        if waited > waits {
            self.trace.facts.gateway_left = true;
            let said = told!(
                self,
                "{:.1} s have passed, and the gateway waits {} s in total: it has probably given up",
                waited.as_secs_f32(),
                waits.as_secs()
            );
            self.step(Hop::Second, "patience", Tone::Warn, now, said, self.gateway().map(|gateway| gateway.line));
        }
    }

    /// A factor that may not be asked now: another one at a prompt, or no. It never opens the way past the second factor.
    pub(super) fn not_now(&mut self, mut asking: Asking, kind: FactorKind, cause: Cause, said: String, now: Moment) -> State {
        self.step(Hop::Second, "limit", Tone::Warn, now, said, None);
        asking.down.push(kind);
        if !self.shows_prompts() || self.choices(&asking, now).is_empty() {
            return self.refuse(cause, now);
        }
        asking.lead = Some(Text::NoMore);
        self.ask_second(asking, now)
    }

    pub(super) fn shows_prompts(&self) -> bool {
        let gateway = self.gateway().is_some_and(|gateway| gateway.shows_challenges);
        self.request.context.origin == Origin::Page || self.request.known_method().map_or(gateway, |method| method.prompts(gateway))
    }

    /// The words for an approval in a list.
    pub(super) fn handset_option(with_key: bool) -> Text {
        if with_key { Text::OptionKey } else { Text::OptionApproval }
    }

    /// What the handset could be asked for: nothing without one, and no key where none is enrolled.
    pub(super) fn handset_choice(person: &Candidate, kind: FactorKind) -> Option<Choice> {
        match kind {
            FactorKind::Approval if person.factors.handsets > 0 => Some(Choice::Handset { with_key: false }),
            FactorKind::Key if person.factors.handsets > 0 && person.factors.keys > 0 => Some(Choice::Handset { with_key: true }),
            _ => None,
        }
    }
}

/// The handset is being asked.
#[derive(Debug)]
pub(super) struct AskingHandset {
    ask: Arc<ApprovalAsk>,
    asking: Box<Asking>,
}

impl Station for AskingHandset {
    type Answer = ApprovalSent;

    fn need(&self, _: &Login) -> Need {
        Need::SendApproval(Arc::clone(&self.ask))
    }

    fn learn(self, login: &mut Login, answer: ApprovalSent, now: Moment) -> State {
        let AskingHandset { ask, mut asking } = self;
        let kind = if ask.with_key { FactorKind::Key } else { FactorKind::Approval };
        let line = login.chain().map(|chain| chain.line);
        match answer {
            ApprovalSent::Sent { id, number, joined, until } => {
                let proof = if ask.with_key { ", with the security key" } else { "" };
                let said = match joined {
                    true => told!(login, "joined an approval that is already open; the handset is not asked again"),
                    false => {
                        told!(login, "approval requested on the handset{proof}; {} s to answer", until.since(now).as_secs_f32().round())
                    }
                };
                login.step(Hop::Second, "approval", Tone::Good, now, said, line);
                let kept = KeptApproval { id, number, with_key: ask.with_key };
                asking.approval = Some(kept);
                match number {
                    Some(_) if login.shows_prompts() => login.prompt(*asking, now),
                    _ => login.await_approval(*asking, kept),
                }
            }
            ApprovalSent::Limited(said) => login.not_now(*asking, kind, Cause::ApprovalBusy, said, now),
            ApprovalSent::Stopped(until) => {
                let minutes = until.since(now).as_secs().div_ceil(60);
                let said = format!("the person reported a login that was not theirs: no approvals for another {minutes} min");
                login.not_now(*asking, kind, Cause::ApprovalStopped, said, now)
            }
            ApprovalSent::Unavailable(why) => {
                login.step(
                    Hop::Second,
                    "approval",
                    Tone::Warn,
                    now,
                    format!("the approval could not be sent to the handset: {}", why.seen),
                    line,
                );
                login.second_is_down(*asking, kind, why.cause, now)
            }
        }
    }
}

/// The person's answer on the handset is awaited.
#[derive(Debug)]
pub(super) struct AwaitingApproval {
    approval: KeptApproval,
    asking: Box<Asking>,
}

impl Station for AwaitingApproval {
    type Answer = ApprovalAnswer;

    fn need(&self, _: &Login) -> Need {
        Need::AwaitApproval { id: self.approval.id, person: self.asking.person.key.clone() }
    }

    fn learn(self, login: &mut Login, answer: ApprovalAnswer, now: Moment) -> State {
        let AwaitingApproval { approval, asking } = self;
        let bad = |login: &mut Login, said: String| login.step(Hop::Second, "approval", Tone::Bad, now, said, None);
        match answer {
            ApprovalAnswer::Approved(approved) => {
                let how = match &approved.key {
                    Some(key) => told!(login, "with the security key “{key}” on “{}”", approved.device),
                    None => told!(login, "on “{}”", approved.device),
                };
                login.trace.facts.person_took = Some(("approval".to_owned(), approved.took.as_millis() as u64));
                let said = told!(login, "approved {how} after {:.1} s", approved.took.as_secs_f32());
                login.step(Hop::Second, "approval", Tone::Good, now, said, None);
                login.gateway_may_have_left(now);
                let then = asking.first.after_mark();
                let proof = MarkFor::Approved { approved, with_key: approval.with_key };
                Marking { person: asking.person, proof, then }.into()
            }
            ApprovalAnswer::Denied(said) => {
                bad(login, said);
                login.count_wrong(&asking.person, Cause::ApprovalDenied, WrongTry::CODE, None, None, now)
            }
            ApprovalAnswer::Disowned(device) => {
                bad(login, format!("“that was not me” on “{device}”; approvals are stopped for this person and operators get a notice"));
                login.refuse(Cause::ApprovalDisowned, now)
            }
            ApprovalAnswer::Unanswered(said) => {
                bad(login, said);
                login.unanswered(*asking, approval, Cause::ApprovalUnanswered, now)
            }
            ApprovalAnswer::Stopped(until) => {
                let minutes = until.since(now).as_secs().div_ceil(60);
                bad(
                    login,
                    format!("nobody was asked: the person has stopped approvals for another {minutes} min, and the page does not tell"),
                );
                login.unanswered(*asking, approval, Cause::ApprovalStopped, now)
            }
        }
    }
}
