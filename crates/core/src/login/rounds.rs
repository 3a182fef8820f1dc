//! A login of several rounds is one login: its rounds share a reference and a trace.

use super::machine::Login;
use super::pending::Pending;
use bivector_model::facts::{AnswerFact, LaterRound};
use bivector_model::moment::Moment;
use bivector_model::trace::{Hop, Outcome, Step, Tone, Trace};
use std::time::Duration;

/// What a step says that begins a further round.
const RESUMED: &str = "resumed";

fn in_words(time: Duration) -> String {
    if time < Duration::from_secs(1) { format!("{} ms", time.as_millis()) } else { format!("{:.1} s", time.as_secs_f64()) }
}

impl Login {
    /// Takes up the trace of the rounds before.
    pub(super) fn join(&mut self, before: Option<Box<Trace>>, pending: &Pending, now: Moment) {
        self.trace.reference.clone_from(&pending.reference);
        let Some(mut before) = before.filter(|before| !self.quiet && before.reference == pending.reference) else {
            let said = "an answer to a prompt; the rounds before are not on record".to_owned();
            self.step(Hop::Reading, RESUMED, Tone::Good, now, said, None);
            return;
        };
        before.leave_out_the_middle();
        self.opened = Moment::from_micros(before.began_us).min(self.began);
        let offset = self.began.since(self.opened).as_micros() as u64;
        let own = std::mem::take(&mut self.trace.steps);
        let waited = Duration::from_micros(offset.saturating_sub(before.took_us));
        self.trace.steps = before.steps;
        self.trace.steps.push(Step {
            hop: Hop::Gateway,
            what: "waiting".into(),
            tone: Tone::Note,
            at_us: before.took_us.min(offset),
            took_us: waited.as_micros() as u64,
            said: format!("the prompt was answered after {}", in_words(waited)),
            line: None,
        });
        self.trace.steps.extend(own.into_iter().map(|step| Step { at_us: step.at_us + offset, ..step }));
        (self.trace.began_us, self.trace.method) = (before.began_us, before.method);
        let round = before.facts.rounds.len() + before.facts.rounds_left_out as usize + 2;
        self.earlier = Some(before.facts);
        self.step(Hop::Reading, RESUMED, Tone::Good, now, format!("round {round}: the answer to the prompt"), None);
    }

    /// Notes what was typed at a prompt, as far as it may be told.
    pub(super) fn note_answer(&mut self, answer: AnswerFact) {
        if !self.quiet {
            self.trace.facts.answer = Some(answer);
        }
    }

    /// Puts what this round learned behind what the rounds before it did.
    pub(super) fn join_facts(&mut self, now: Moment) {
        if self.quiet {
            return;
        }
        let took_us = now.since(self.began).as_micros() as u64;
        let open_until_us = self.open_until.filter(|_| self.trace.outcome == Outcome::Challenged).map(Moment::micros);
        match self.earlier.take() {
            None => self.trace.facts.first_took_us = open_until_us.map(|_| took_us),
            Some(earlier) => {
                let facts = std::mem::replace(&mut self.trace.facts, earlier);
                let method = self.request.method().to_owned();
                let at_us = self.began.since(self.opened).as_micros() as u64;
                self.trace.facts.rounds.push(LaterRound { at_us, took_us, method, facts: *facts });
            }
        }
        self.trace.facts.open_until_us = open_until_us;
    }
}
