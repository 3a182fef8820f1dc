//! What stands in for people and things in one rehearsed login: a robot's token and handset, and a count of wrong codes of its own.
//!
//! Everything here is known to the logins of one rehearsal door only. Outside of it a robot's code is nobody's, and a person whom a
//! rehearsal has locked is not locked.

use crate::roster::Roster;
use bivector_api::traces::TraceRow;
use bivector_core::login::*;
use bivector_model::Moment;
use bivector_model::device::{Device, Used};
use bivector_model::trace::Trace;
use bivector_wire::Secret;
use std::sync::Arc;
use std::sync::Mutex;
use tokio::sync::mpsc;

/// Record numbers of robots' tokens begin here: no record has one.
pub const ROBOTS: u64 = 1 << 62;
/// Record number of a simulated handset.
pub const HANDSET: u64 = ROBOTS - 1;

/// What a robot holds for a persona.
#[derive(Debug, Default)]
pub struct Robot {
    /// The login name of the person whom it is for, in lower case.
    pub login: String,
    /// A token.
    pub token: Option<Device>,
    /// Whether it has a handset.
    pub handset: bool,
    /// Sessions that the person has already, for the limit of a grant.
    pub sessions: u64,
}

/// The stage of one rehearsed login.
#[derive(Debug)]
pub struct Stage {
    /// What persons are called here, for counts, locks and approvals: before their own key.
    name: String,
    robot: Robot,
    /// The person, once the machine asked for factors.
    person: Mutex<Option<String>>,
    sent: Mutex<Option<Secret<String>>>,
    traces: mpsc::UnboundedSender<(TraceRow, Trace)>,
}

/// The traces of a stage's logins, as they end.
pub type Traces = mpsc::UnboundedReceiver<(TraceRow, Trace)>;

impl Stage {
    /// Sets it up. `name` is no other stage's.
    pub fn new(name: String, robot: Robot) -> (Self, Traces) {
        let (traces, told) = mpsc::unbounded_channel();
        let stage = Stage { name, robot, person: Mutex::default(), sent: Mutex::default(), traces };
        (stage, told)
    }

    /// A stage on which people are themselves: an operator's own try, which counts and asks as any login does.
    pub fn of_themselves() -> (Self, Traces) {
        Self::new(String::new(), Robot::default())
    }

    /// Sessions that the person has already.
    pub(crate) fn sessions(&self) -> u64 {
        self.robot.sessions
    }

    /// A person's key on this stage.
    fn key(&self, person: &str) -> String {
        if self.name.is_empty() { person.to_owned() } else { format!("{}/{person}", self.name) }
    }

    /// The key of the person who logs in, on this stage; none before the machine asked for factors.
    pub fn person(&self) -> Option<String> {
        self.person.lock().ok()?.as_deref().map(|person| self.key(person))
    }

    /// The code that a courier has carried last.
    pub fn sent(&self) -> Option<Secret<String>> {
        self.sent.lock().ok()?.clone()
    }

    /// Hands over a trace. Nobody waiting for it any more is no error.
    pub fn tell(&self, row: TraceRow, trace: Trace) {
        let _ = self.traces.send((row, trace));
    }

    /// Answers what a robot has to, and gives everything else back, with the person's name of this stage where it would leave a mark.
    pub fn play(&self, need: Need) -> Result<Fact, Need> {
        Err(match need {
            // What a rehearsal gets wrong on purpose keeps nobody waiting.
            Need::BeginGuess(_) => return Ok(Fact::Guess(GuessAnswer::MayTry)),
            Need::EndGuess { .. } => return Ok(Fact::GuessEnded(GuessCount::default())),
            Need::Factors { person, station } => {
                if let Ok(mut known) = self.person.lock() {
                    *known = Some(person.clone());
                }
                Need::Factors { person, station }
            }
            Need::CountWrong(mut wrong) => {
                wrong.person = self.key(&wrong.person);
                Need::CountWrong(wrong)
            }
            // Its mark is made under the name of this stage, behind the password.
            Need::CheckPassword { source, person, guess, .. } => Need::CheckPassword { source, person, guess, code: None },
            Need::MarkCode(mut mark) => {
                mark.person = self.key(&mark.person);
                // A simulated handset is in no record, so there is nothing to look at whether it is there still.
                mark.device = mark.device.filter(|device| *device != (HANDSET, Used::Approval));
                Need::MarkCode(mark)
            }
            Need::SendApproval(mut ask) => {
                Arc::make_mut(&mut ask).person = self.key(&ask.person);
                Need::SendApproval(ask)
            }
            Need::AwaitApproval { id, person } => Need::AwaitApproval { id, person: self.key(&person) },
            Need::SendCode(mut sendable) => {
                sendable.person = self.key(&sendable.person);
                Need::SendCode(sendable)
            }
            // A rehearsal enrols nobody.
            Need::AddDevice(_) if !self.name.is_empty() => return Ok(Fact::Added(AddAnswer::Added(ROBOTS))),
            other => other,
        })
    }

    /// Adds what the robot holds to what the records know.
    pub fn hear(&self, mut fact: Fact, roster: &Roster, now: Moment) -> Fact {
        match &mut fact {
            Fact::Factors(FactorsAnswer::Known(known)) => {
                let person = self.person.lock().ok().and_then(|person| person.clone()).unwrap_or_default();
                let here = roster.lock_of(&self.key(&person), now).and_then(|lock| lock.locked_until_us).map(Moment::from_micros);
                known.locked_until = known.locked_until.max(here);
                let own = person.split_once(':').is_some_and(|(_, login)| login.eq_ignore_ascii_case(&self.robot.login));
                if own {
                    known.devices.extend(self.robot.token.clone());
                    if self.robot.handset {
                        // Nobody's phone rings for a rehearsal.
                        known.handsets = 1;
                    }
                }
            }
            Fact::Sent(SendAnswer::Sent(sent)) => {
                if let Ok(mut last) = self.sent.lock() {
                    *last = Some(sent.code.clone());
                }
            }
            _ => {}
        }
        fact
    }
}
