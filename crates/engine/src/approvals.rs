//! Approvals that wait for their answer, and those that ended lately.
//!
//! What nodes have to agree on goes through the [`Agreement`]: that a person has one approval at a time, how many may be asked for, and the
//! answer, which the first to publish it decides. What the handset is shown is kept by the node that asks.

use crate::push::{Event, PushNote, PushSeen};
use bivector_api::approvals::{Decision, Shown, Waiting};
use bivector_core::login::{ApprovalAnswer, ApprovalAsk, ApprovalSent, Approved};
use bivector_model::Moment;
use bivector_site::Handset;
use bivector_store::agreement::{Agreement, Allowance, Rate, in_background};
use bivector_store::metrics;
use bivector_store::records::RecordsError;
use bivector_store::seal::hash_token;
use futures_util::FutureExt;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{broadcast, mpsc};

const HOUR: Duration = Duration::from_secs(3600);
/// How long an approval is known after its end, so that a late answer learns how late it is.
const KEPT: Duration = Duration::from_secs(600);
/// Ended approvals that are known at most; each takes some 300 bytes.
const ENDED: usize = 20_000;
/// Numbers to pick from.
const CHOICES: usize = 3;
/// What is noted of the messages for one approval, at most.
const NOTES: usize = 64;
/// Logins that may wait for one approval: those of a device that moves from server to server, and a few more.
const MOST_JOINED: usize = 8;
/// Questions in an hour that come before the password is known to be right: a stranger may bring them about.
const BEFORE_PASSWORD: u32 = 3;

fn shown_of(ask: &ApprovalAsk, id: u64, numbers: &[u8], requests: u32, asked: Moment, until: Moment) -> Shown {
    Shown {
        id: format!("{id:016x}"),
        site: ask.site.clone(),
        name: ask.name.clone(),
        login: ask.login.clone(),
        gateway: ask.gateway.clone(),
        from: ask.from.clone(),
        at_us: asked.micros(),
        until_us: until.micros(),
        numbers: numbers.to_vec(),
        with_key: ask.with_key,
        requests,
        asked_us: vec![asked.micros()],
        before_password: ask.before_password,
    }
}

fn text_of(shown: &Shown) -> Arc<str> {
    serde_json::to_string(shown).unwrap_or_default().into()
}

/// An answer whose signature is verified.
#[derive(Debug, Clone)]
pub struct Said {
    /// What the person says.
    pub decision: Decision,
    /// The number that was picked.
    pub number: Option<u8>,
    /// Record number of the handset.
    pub handset: u64,
    /// What the person calls it.
    pub device: String,
    /// The security key that proved it.
    pub key: Option<String>,
}

/// What became of an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Taken {
    /// It decided.
    Decided {
        /// Whether it was a yes with the right number.
        approved: bool,
        /// What the handset was shown.
        ask: Box<ApprovalAsk>,
    },
    /// Its time was over, by so much.
    Late {
        /// By how much.
        by: Duration,
        /// References of the logins that waited.
        references: Vec<String>,
    },
    /// Another handset, or the same one, has answered before.
    Before,
    /// Something else was shown than what waits now: another login has joined it meanwhile.
    Changed,
    /// The login needs it no more: another factor was given.
    Withdrawn,
    /// There is no such approval of this person.
    Unknown,
}

/// What a person's handsets hear. Each hears only of its own person: ten thousand listen at one time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Told {
    /// What waits has changed.
    Approval,
    /// Something about the person's devices has.
    Device,
}

#[derive(Debug)]
struct Pending {
    ask: ApprovalAsk,
    shown: Arc<str>,
    number: Option<u8>,
    asked: Moment,
    until: Moment,
    /// Logins that wait for it, by reference: one, and those that joined.
    references: Vec<String>,
    /// The answer, once this node knows it.
    answer: Option<ApprovalAnswer>,
    /// Until when the person has stopped approvals: nobody is asked then, and whoever waits only waits.
    stopped: Option<Moment>,
    /// What was seen of the messages for it.
    notes: Vec<PushNote>,
}

impl Pending {
    /// What somebody's words come to.
    fn judge(&self, said: Said, now: Moment) -> ApprovalAnswer {
        let right = said.number == self.number;
        let on = format!("on “{}”", said.device);
        match said.decision {
            Decision::Approve if right => ApprovalAnswer::Approved(Approved {
                handset: said.handset,
                device: said.device,
                key: said.key,
                took: now.since(self.asked),
            }),
            Decision::Approve => ApprovalAnswer::Denied(format!("the wrong number was picked {on}")),
            Decision::Deny => ApprovalAnswer::Denied(format!("denied {on} after {:.1} s", now.since(self.asked).as_secs_f32())),
            Decision::NotMe => ApprovalAnswer::Disowned(said.device),
        }
    }

    /// Says on the handset that the approval is for one more request. What was signed before does not count any more.
    fn show_again(&mut self, now: Moment) {
        if let Ok(mut shown) = serde_json::from_str::<Shown>(&self.shown) {
            shown.requests = self.references.len() as u32;
            shown.asked_us.push(now.micros());
            self.shown = text_of(&shown);
        }
    }
}

#[derive(Debug)]
struct Ended {
    person: String,
    at: Moment,
    references: Vec<String>,
    notes: Vec<PushNote>,
    why: End,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum End {
    /// With what: the round behind a prompt may come to ask only now.
    Answered(ApprovalAnswer),
    Expired,
    Withdrawn,
}

#[derive(Debug, Default)]
struct Hub {
    pending: HashMap<u64, Pending>,
    by_person: HashMap<String, u64>,
    ended: HashMap<u64, Ended>,
    /// By their ends: chains have different patience, so that a later approval may end before an earlier one.
    order: BTreeSet<(Moment, u64)>,
    listeners: HashMap<String, broadcast::Sender<Told>>,
}

/// All approvals of this node.
#[derive(Debug)]
pub struct Approvals {
    hub: Mutex<Hub>,
    agreement: Arc<dyn Agreement>,
    /// Told what begins and ends, so that handsets are woken.
    events: mpsc::Sender<Event>,
}

/// How an approval has ended, as nodes publish it.
#[derive(Debug, Serialize, Deserialize)]
enum Published {
    Answered(ApprovalAnswer),
    Withdrawn,
}

impl Published {
    fn bytes(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap_or_default()
    }
}

/// Before the key of a person who has one approval at a time.
const WAITS: &str = "approval/";

/// The topic under which it is published that a person disowned a question before the password, and until when none is asked.
fn disowned(person: &str) -> u64 {
    let hash = hash_token(&format!("disowned/{person}"));
    hash.first_chunk().map_or(0, |bytes| u64::from_be_bytes(*bytes))
}

impl Approvals {
    /// Through this agreement; `events` is told what begins and ends.
    pub fn new(agreement: Arc<dyn Agreement>, events: mpsc::Sender<Event>) -> Self {
        Approvals { hub: Mutex::default(), agreement, events }
    }

    /// Tells what begins or ends. Nobody waits for it: without a free place, only an open page shows the approval.
    fn announce(&self, person: &str, id: u64, event: Event) {
        // The robots of rehearsals are woken by the rehearsal.
        if !person.starts_with(crate::runs::STAGES) && self.events.try_send(event).is_err() {
            let seen = PushSeen::NotSent("too many approvals wait to be sent".into());
            self.note(id, PushNote::new(None, seen, bivector_store::clock::now()));
        }
    }

    /// An approval that waits: what is asked, since when, and until when.
    pub fn asked(&self, id: u64) -> Option<(ApprovalAsk, Moment, Moment)> {
        let hub = self.hub.lock().ok()?;
        let pending = hub.pending.get(&id).filter(|pending| pending.answer.is_none() && pending.stopped.is_none())?;
        Some((pending.ask.clone(), pending.asked, pending.until))
    }

    /// Notes what was seen of a message; the same thing of the same handset once. Of an approval that is over nothing is noted.
    pub fn note(&self, id: u64, note: PushNote) {
        let Ok(mut hub) = self.hub.lock() else { return };
        let Some(pending) = hub.pending.get_mut(&id) else { return };
        let known = pending.notes.iter().any(|known| known.device == note.device && known.seen == note.seen);
        if !known && pending.notes.len() < NOTES {
            let after = note.at.since(pending.asked);
            match note.seen {
                PushSeen::Shown => metrics::push_seen("shown", after),
                PushSeen::Opened => metrics::push_seen("opened", after),
                _ => {}
            }
            pending.notes.push(PushNote { after, ..note });
        }
    }

    /// Whether a handset shows it: by a notification, or because its page is open.
    pub fn is_shown(&self, id: u64) -> bool {
        let Ok(hub) = self.hub.lock() else { return false };
        let Some(pending) = hub.pending.get(&id) else { return false };
        let listens = || hub.listeners.get(&pending.ask.person).is_some_and(|sender| sender.receiver_count() > 0);
        pending.notes.iter().any(|note| matches!(note.seen, PushSeen::Shown | PushSeen::Opened)) || listens()
    }

    /// Whose approval it is, and what was seen of the messages for it.
    pub fn notes(&self, id: u64) -> Option<(String, Vec<PushNote>)> {
        let hub = self.hub.lock().ok()?;
        let pending = hub.pending.get(&id).map(|pending| (&pending.ask.person, &pending.notes));
        let (person, notes) = pending.or_else(|| hub.ended.get(&id).map(|ended| (&ended.person, &ended.notes)))?;
        let mut notes = notes.clone();
        notes.sort_by_key(|note| note.at);
        Some((person.clone(), notes))
    }

    /// Asks the person, or joins what waits for the same person at the same gateway from the same place. `random` is new each time.
    pub async fn ask(&self, ask: ApprovalAsk, limits: &Handset, random: [u8; 16], now: Moment) -> ApprovalSent {
        if let Some(joined) = self.join(&ask, now) {
            return joined;
        }
        if let Err(limited) = self.spend(&ask, limits, now).await {
            return ApprovalSent::Limited(limited);
        }
        let id = u64::from_be_bytes(random[..8].try_into().unwrap_or_default());
        match self.agreement.claim(format!("{WAITS}{}", ask.person), id, now.plus(ask.lasts), now).await {
            Ok(Ok(())) => self.begin(ask, id, &random, now),
            // Another login of the same person was faster, here or at another node.
            Ok(Err(_)) => self.join(&ask, now).unwrap_or_else(|| {
                ApprovalSent::Limited("another approval of this person waits for its answer, through another node".into())
            }),
            Err(error) => ApprovalSent::Limited(error.to_string()),
        }
    }

    /// Joins the approval of the person that waits, or is refused because of it; nothing where none waits.
    fn join(&self, ask: &ApprovalAsk, now: Moment) -> Option<ApprovalSent> {
        let Ok(mut hub) = self.hub.lock() else { return Some(ApprovalSent::Limited("the list of approvals is broken".into())) };
        self.expire(&mut hub, now);
        let (id, waiting) = hub.by_person.get(&ask.person).copied().and_then(|id| Some((id, hub.pending.get_mut(&id)?)))?;
        // Where nothing says that both come from the same place, somebody who knows the password could ride on the person's own login.
        let same_caller = waiting.ask.from == ask.from && (!ask.from.is_empty() || ask.joins_without_caller);
        let same = same_caller
            && waiting.ask.gateway == ask.gateway
            && waiting.ask.with_key == ask.with_key
            && waiting.ask.before_password == ask.before_password;
        // Without the number on its screen a login must not ride on one that is matched by it.
        if same && waiting.number.is_some() == ask.wants_number && waiting.references.len() < MOST_JOINED {
            let sent = ApprovalSent::Sent { id, number: waiting.number, joined: true, until: waiting.until };
            waiting.references.push(ask.reference.clone());
            waiting.show_again(now);
            hub.tell(&ask.person, Told::Approval);
            return Some(sent);
        }
        Some(ApprovalSent::Limited(format!("another approval of this person is open, through {}", waiting.ask.gateway)))
    }

    /// Counts one more question; the error says which limit it would exceed.
    async fn spend(&self, ask: &ApprovalAsk, limits: &Handset, now: Moment) -> Result<(), String> {
        // Whoever types wrong passwords must not use up what the person's own logins may ask for.
        let (rate, most) = match ask.before_password {
            true => (Rate::ApprovalsBeforePassword, BEFORE_PASSWORD),
            false => (Rate::Approvals, limits.per_person),
        };
        if ask.before_password && self.has_disowned(&ask.person, now).await {
            return Err("the person has said that such a request was not theirs; none is shown for an hour".into());
        }
        let allowance = Allowance { rate, key: ask.person.clone(), most, period: HOUR };
        match self.agreement.spend(vec![allowance], now).await {
            Ok(Ok(())) => Ok(()),
            Ok(Err(_)) => Err(format!("{most} approvals were asked for lately, as many as are allowed within an hour")),
            Err(error) => Err(error.to_string()),
        }
    }

    /// Whether the person has disowned a question before the password within the last hour.
    async fn has_disowned(&self, person: &str, now: Moment) -> bool {
        // What is there is given at once; nothing is waited for.
        let said = self.agreement.published(disowned(person)).now_or_never().and_then(Result::ok);
        said.and_then(|until| until.first_chunk().map(|bytes| u64::from_be_bytes(*bytes))).is_some_and(|until| until > now.micros())
    }

    fn begin(&self, ask: ApprovalAsk, id: u64, random: &[u8; 16], now: Moment) -> ApprovalSent {
        let person = ask.person.clone();
        let sent = self.keep(ask, id, random, now);
        if matches!(sent, ApprovalSent::Sent { .. }) {
            self.announce(&person, id, Event::Begun(id));
        }
        sent
    }

    fn keep(&self, ask: ApprovalAsk, id: u64, random: &[u8; 16], now: Moment) -> ApprovalSent {
        let Ok(mut hub) = self.hub.lock() else { return ApprovalSent::Limited("the list of approvals is broken".into()) };
        let numbers = draw(&random[8..]);
        let until = now.plus(ask.lasts);
        let number = ask.wants_number.then_some(numbers[usize::from(random[15]) % CHOICES]);
        let shown = text_of(&shown_of(&ask, id, if ask.wants_number { &numbers } else { &[] }, 1, now, until));
        let person = ask.person.clone();
        let references = vec![ask.reference.clone()];
        hub.pending
            .insert(id, Pending { ask, shown, number, asked: now, until, references, answer: None, stopped: None, notes: Vec::new() });
        hub.by_person.insert(person.clone(), id);
        hub.order.insert((until, id));
        hub.tell(&person, Told::Approval);
        ApprovalSent::Sent { id, number, joined: false, until }
    }

    /// Begins what looks like an approval to whoever waits for it, for a person who has stopped them. No handset hears of it, and nothing
    /// is counted.
    pub fn pretend(&self, ask: ApprovalAsk, random: [u8; 16], stopped: Moment, now: Moment) -> ApprovalSent {
        let Ok(mut hub) = self.hub.lock() else { return ApprovalSent::Limited("the list of approvals is broken".into()) };
        self.expire(&mut hub, now);
        let (id, numbers) = (u64::from_be_bytes(random[..8].try_into().unwrap_or_default()), draw(&random[8..]));
        let until = now.plus(ask.lasts);
        let number = ask.wants_number.then_some(numbers[usize::from(random[15]) % CHOICES]);
        let pending = Pending {
            shown: "".into(),
            number,
            asked: now,
            until,
            references: vec![ask.reference.clone()],
            answer: None,
            stopped: Some(stopped),
            notes: Vec::new(),
            ask,
        };
        hub.pending.insert(id, pending);
        hub.order.insert((until, id));
        ApprovalSent::Sent { id, number, joined: false, until }
    }

    /// Waits for the answer, or until the time is over.
    pub async fn wait(&self, id: u64, person: &str, clock: &bivector_store::clock::LoginClock) -> ApprovalAnswer {
        let watched = self.hub.lock().ok().and_then(|hub| {
            let pending = hub.pending.get(&id).filter(|pending| pending.ask.person == person)?;
            Some((pending.asked, pending.until, pending.stopped))
        });
        let Some((asked, until, stopped)) = watched else { return self.ended_before(id, person) };
        let published = tokio::time::timeout_at(clock.instant(until).into(), self.agreement.published(id)).await;
        // Whether it was in time, what is there then tells.
        match published.ok().and_then(Result::ok).and_then(|value| serde_json::from_slice(&value).ok()) {
            Some(Published::Answered(answer)) => return answer,
            Some(Published::Withdrawn) => {}
            None => {
                if let Ok(mut hub) = self.hub.lock() {
                    self.end(&mut hub, id, until, End::Expired);
                }
            }
        }
        if let Some(stopped) = stopped {
            return ApprovalAnswer::Stopped(stopped);
        }
        ApprovalAnswer::Unanswered(format!("nobody answered within {} s", until.since(asked).as_secs_f32().round()))
    }

    /// The decision of a prompt's approval that ended before the prompt was answered.
    fn ended_before(&self, id: u64, person: &str) -> ApprovalAnswer {
        let hub = self.hub.lock().ok();
        let why = hub.and_then(|hub| hub.ended.get(&id).filter(|ended| ended.person == person).map(|ended| ended.why.clone()));
        ApprovalAnswer::Unanswered(match why {
            Some(End::Answered(answer)) => return answer,
            Some(End::Expired) => "nobody answered in time".into(),
            Some(End::Withdrawn) => "the approval was withdrawn".into(),
            None => "the approval no longer exists; the service may have restarted".into(),
        })
    }

    /// Takes an answer to what was shown as `signed`. Of any number at once exactly one decides.
    ///
    /// # Errors
    /// It could not be agreed on; nothing is decided.
    pub async fn answer(&self, id: u64, person: &str, signed: &str, said: Said, now: Moment) -> Result<Taken, RecordsError> {
        let (not_me, own) = (said.decision == Decision::NotMe, said.handset);
        let (answer, ask, until) = match self.look(id, person, signed, said, now) {
            Ok(looked) => looked,
            Err(taken) => return Ok(taken),
        };
        // A prompt's second round may ask for it as late as a late answer does.
        let kept = until.plus(KEPT);
        if !self.agreement.publish(id, Published::Answered(answer.clone()).bytes(), kept, now).await? {
            return Ok(Taken::Before);
        }
        if not_me && ask.before_password {
            let until = now.plus(HOUR);
            self.agreement.publish(disowned(person), until.micros().to_be_bytes().to_vec(), until, now).await?;
        }
        let approved = matches!(answer, ApprovalAnswer::Approved(_));
        self.decided(id, person, answer, now);
        // The handset that has answered has taken its own notification away.
        self.take_back(id, person, Some(own));
        Ok(Taken::Decided { approved, ask: Box::new(ask) })
    }

    /// What an answer would decide, and until when it counts; or why it does not count.
    fn look(&self, id: u64, person: &str, signed: &str, said: Said, now: Moment) -> Result<(ApprovalAnswer, ApprovalAsk, Moment), Taken> {
        let Ok(mut hub) = self.hub.lock() else { return Err(Taken::Unknown) };
        self.expire(&mut hub, now);
        let Some(pending) = hub.pending.get(&id).filter(|pending| pending.ask.person == person) else {
            let ended = hub.ended.get(&id).filter(|ended| ended.person == person);
            return Err(match ended {
                None => Taken::Unknown,
                Some(ended) => match ended.why {
                    End::Answered(_) => Taken::Before,
                    End::Withdrawn => Taken::Withdrawn,
                    End::Expired => Taken::Late { by: now.since(ended.at), references: ended.references.clone() },
                },
            });
        };
        if pending.answer.is_some() {
            return Err(Taken::Before);
        }
        // Whatever the order in which others end: this one's own time counts.
        if pending.until <= now {
            return Err(Taken::Late { by: now.since(pending.until), references: pending.references.clone() });
        }
        if *pending.shown != *signed {
            return Err(Taken::Changed);
        }
        Ok((pending.judge(said, now), pending.ask.clone(), pending.until))
    }

    /// Notes the answer of an approval. With a prompt, the round that waits for it has yet to come: the decision is kept until then, but
    /// nobody joins any more.
    fn decided(&self, id: u64, person: &str, answer: ApprovalAnswer, now: Moment) {
        let Ok(mut hub) = self.hub.lock() else { return };
        match hub.pending.get_mut(&id) {
            Some(pending) => pending.answer = Some(answer),
            // It was taken back in the same moment, and the answer came first.
            None => {
                let (references, notes) = (Vec::new(), Vec::new());
                drop(hub.ended.insert(id, Ended { person: person.to_owned(), at: now, references, notes, why: End::Answered(answer) }))
            }
        }
        if hub.by_person.get(person) == Some(&id) {
            hub.by_person.remove(person);
        }
        self.release(person, id);
        hub.tell(person, Told::Approval);
    }

    fn release(&self, person: &str, id: u64) {
        let key = format!("{WAITS}{person}");
        in_background(&self.agreement, move |agreement| agreement.release(key, id));
    }

    /// Takes an approval back that is no longer needed.
    pub fn withdraw(&self, id: u64, now: Moment) {
        self.withdraw_if(id, now, |_| true);
    }

    /// Takes an approval back whose login has ended before its answer, unless another login waits for it too.
    pub fn abandon(&self, id: u64, now: Moment) {
        self.withdraw_if(id, now, |pending| pending.references.len() <= 1);
    }

    fn withdraw_if(&self, id: u64, now: Moment, wanted: impl FnOnce(&Pending) -> bool) {
        let person = self.hub.lock().ok().and_then(|mut hub| {
            let person = hub.pending.get(&id).filter(|pending| wanted(pending))?.ask.person.clone();
            self.end(&mut hub, id, now, End::Withdrawn);
            Some(person)
        });
        if let Some(person) = person {
            self.take_back(id, &person, None);
        }
    }

    /// Has the notifications of an approval taken back, except on the handset that has answered.
    fn take_back(&self, id: u64, person: &str, except: Option<u64>) {
        let accepted = |note: &PushNote| matches!(note.seen, PushSeen::Accepted(_)).then_some(note.device).flatten();
        let devices: Vec<u64> =
            self.notes(id).iter().flat_map(|(_, notes)| notes).filter_map(accepted).filter(|device| Some(*device) != except).collect();
        if !devices.is_empty() {
            self.announce(person, id, Event::Over { id, person: person.to_owned(), devices });
        }
    }

    /// What waits for a person: at most one approval.
    pub fn waiting(&self, person: &str, now: Moment) -> Option<Arc<str>> {
        let mut hub = self.hub.lock().ok()?;
        self.expire(&mut hub, now);
        hub.by_person.get(person).and_then(|id| hub.pending.get(id)).map(|pending| Arc::clone(&pending.shown))
    }

    /// All that wait, the oldest first, at most so many. Also those of people who have stopped approvals: their logins wait too.
    pub fn all_waiting(&self, now: Moment, most: usize) -> Vec<Waiting> {
        let Ok(mut hub) = self.hub.lock() else { return Vec::new() };
        self.expire(&mut hub, now);
        // The robots of rehearsals are left out: nobody's thumb is waited for.
        let people = hub.by_person.iter().filter(|(person, _)| !person.starts_with(crate::runs::STAGES));
        let mut waiting: Vec<&Pending> = people.filter_map(|(_, id)| hub.pending.get(id)).collect();
        waiting.sort_by_key(|pending| pending.asked);
        waiting.into_iter().take(most).map(|pending| hub.as_waiting(pending)).collect()
    }

    /// What a person was shown of an approval that is known still.
    pub fn shown(&self, id: u64, person: &str) -> Option<Arc<str>> {
        let hub = self.hub.lock().ok()?;
        hub.pending.get(&id).filter(|pending| pending.ask.person == person).map(|pending| Arc::clone(&pending.shown))
    }

    /// Whether a handset of a person is connected now.
    pub fn is_heard(&self, person: &str) -> bool {
        self.hub.lock().is_ok_and(|hub| hub.listeners.get(person).is_some_and(|sender| sender.receiver_count() > 0))
    }

    /// How many approvals wait.
    pub fn count(&self) -> usize {
        self.hub.lock().map_or(0, |hub| hub.by_person.len())
    }

    /// Tells a person's handsets that something about the person's devices has changed.
    pub fn tell_device(&self, person: &str) {
        if let Ok(hub) = self.hub.lock() {
            hub.tell(person, Told::Device);
        }
    }

    /// Hears of changes of what waits for a person, and of the person's devices.
    pub fn listen(&self, person: &str) -> Option<broadcast::Receiver<Told>> {
        let mut hub = self.hub.lock().ok()?;
        hub.listeners.retain(|_, sender| sender.receiver_count() > 0);
        Some(hub.listeners.entry(person.to_owned()).or_insert_with(|| broadcast::Sender::new(4)).subscribe())
    }
}

impl Hub {
    fn as_waiting(&self, pending: &Pending) -> Waiting {
        let ask = &pending.ask;
        Waiting {
            references: pending.references.clone(),
            person: ask.person.clone(),
            name: ask.name.clone(),
            gateway: ask.gateway.clone(),
            chain: ask.chain.clone(),
            from: ask.from.clone(),
            asked_us: pending.asked.micros(),
            until_us: pending.until.micros(),
            with_key: ask.with_key,
            heard: self.listeners.get(&ask.person).is_some_and(|sender| sender.receiver_count() > 0),
        }
    }

    fn tell(&self, person: &str, told: Told) {
        if let Some(sender) = self.listeners.get(person) {
            // Nobody listening is no error.
            let _ = sender.send(told);
        }
    }
}

impl Approvals {
    /// Ends what is over, and forgets what ended long ago. Each approval costs its own two steps, whoever pays for them.
    fn expire(&self, hub: &mut Hub, now: Moment) {
        while let Some((until, id)) = hub.order.first().copied() {
            if until > now {
                break;
            }
            hub.order.pop_first();
            self.end(hub, id, until, End::Expired);
        }
        if hub.ended.len() > ENDED {
            hub.ended.retain(|_, ended| now.since(ended.at) < KEPT);
        }
        // Still too many: a flood; a late answer then learns only that nothing is known of it.
        if hub.ended.len() > ENDED {
            hub.ended.clear();
        }
    }

    fn end(&self, hub: &mut Hub, id: u64, at: Moment, why: End) {
        let Some(pending) = hub.pending.remove(&id) else { return };
        hub.order.remove(&(pending.until, id));
        let person = pending.ask.person;
        if hub.by_person.get(&person) == Some(&id) {
            hub.by_person.remove(&person);
            self.release(&person, id);
        }
        if why == End::Withdrawn && pending.answer.is_none() {
            let (value, until) = (Published::Withdrawn.bytes(), pending.until.plus(KEPT));
            in_background(&self.agreement, move |agreement| agreement.publish(id, value, until, at));
        }
        let why = pending.answer.map_or(why, End::Answered);
        if pending.stopped.is_none() {
            hub.tell(&person, Told::Approval);
        }
        hub.ended.insert(id, Ended { person, at, references: pending.references, notes: pending.notes, why });
    }
}

/// Different numbers of two digits.
fn draw(random: &[u8]) -> [u8; CHOICES] {
    let mut numbers = [0; CHOICES];
    let mut drawn = 0;
    for step in 0.. {
        let byte = random.get(step % random.len().max(1)).copied().unwrap_or_default();
        let number = 10 + byte.wrapping_add((step / random.len().max(1)) as u8 * 37) % 90;
        if !numbers[..drawn].contains(&number) {
            numbers[drawn] = number;
            drawn += 1;
            if drawn == CHOICES {
                break;
            }
        }
    }
    numbers
}

#[cfg(test)]
mod tests;
