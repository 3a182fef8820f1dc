//! What all parts of the service share.

use crate::approvals::Approvals;
use crate::conversations::Conversations;
use crate::guesses::Guesses;
use crate::hashing::Hashing;
use crate::live::LiveSite;
use crate::roster::Roster;
use crate::signins::SignIns;
use crate::tries::Tries;
use arc_swap::ArcSwapOption;
use bivector_api::events::Event;
use bivector_api::knocks::Knock;
use bivector_api::traces::TraceRow;
use bivector_model::Moment;
use bivector_model::facts::Facts;
use bivector_model::trace::{Outcome, Step, Trace};
use bivector_store::ServiceError;
use bivector_store::agreement::{Agreement, Embedded};
use bivector_store::clock;
use bivector_store::records::{Added, Cursor, Deed, Entry, Records, RecordsError};
use bivector_store::seal::Seal;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::broadcast;

/// Events that a slow listener may fall behind before it misses some.
const EVENTS_KEPT: usize = 1024;
/// How long traces are gathered, to be written as one: nobody notices it, and a busy service writes hundreds at once.
const GATHERED: Duration = Duration::from_millis(10);

/// Logins that began so long before a start may still be waiting; those before it are looked for once the service runs.
const JUST_NOW: Duration = Duration::from_secs(3600);

/// When a gateway last came with the old and with the next value of its secret, in microseconds since 1970.
pub type LastUse = (Option<u64>, Option<u64>);

/// The service's own state.
#[derive(Debug)]
pub struct Shared {
    /// Where the data is.
    pub data: PathBuf,
    /// The active site; none before the first apply.
    pub live: ArcSwapOption<LiveSite>,
    /// Records.
    pub records: Records,
    /// What nodes would have to agree on.
    pub agreement: Arc<dyn Agreement>,
    /// The seal.
    pub seal: Arc<Seal>,
    /// People and factors.
    pub roster: Roster,
    /// How far people in memory have followed the change feed.
    followed: Cursor,
    /// Wrong passwords of logins.
    pub guesses: Guesses,
    /// Attempts of strangers over HTTP.
    pub tries: Tries,
    /// Sign-ins over HTTP.
    pub sign_ins: Arc<SignIns>,
    /// The pool for slow hashes.
    pub hashing: Hashing,
    /// Approvals that wait.
    pub approvals: Approvals,
    /// Push messages to handsets.
    pub pusher: crate::push::Pusher,
    /// Logins between two rounds.
    pub conversations: Conversations,
    /// Rehearsals under way.
    pub runs: crate::runs::Runs,
    /// Logins whose session has yet to begin.
    pub sessions: crate::sessions::Sessions,
    /// What recorded logins have shown.
    pub learned: crate::learned::LearnedCache,
    /// Event line.
    pub events: broadcast::Sender<Event>,
    /// When each gateway last proved itself with the old and with the next value of its secret; only while both count.
    pub rotations: Mutex<HashMap<String, LastUse>>,
    /// Whether traces are written down; only a measurement of what that costs says no.
    pub writes_traces: AtomicBool,
}

impl Shared {
    /// Puts the state together.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn new(data: PathBuf, records: Records, seal: Arc<Seal>) -> Result<Self, ServiceError> {
        // Before anything is read: what changes from here on comes by the feed.
        let followed = records.newest_change();
        let roster = Roster::load(&records, Arc::clone(&seal))?;
        let agreement: Arc<dyn Agreement> = Arc::new(Embedded::open(records.clone())?);
        let conversations = Conversations::default();
        let pusher = crate::push::Pusher::default();
        let since = clock::now().micros().saturating_sub(JUST_NOW.as_micros() as u64);
        conversations.restore_all(&records, Moment::from_micros(since));
        Ok(Shared {
            followed: Cursor::at(followed),
            guesses: Guesses::new(Arc::clone(&agreement)),
            tries: Tries::new(Arc::clone(&agreement)),
            approvals: Approvals::new(Arc::clone(&agreement), pusher.events()),
            pusher,
            agreement,
            sign_ins: Arc::new(SignIns::load(&records)?),
            hashing: roster.hashing().clone(),
            data,
            live: ArcSwapOption::empty(),
            records,
            seal,
            roster,
            conversations,
            runs: crate::runs::Runs::default(),
            sessions: crate::sessions::Sessions::default(),
            learned: crate::learned::LearnedCache::default(),
            events: broadcast::Sender::new(EVENTS_KEPT),
            rotations: Mutex::new(HashMap::new()),
            writes_traces: AtomicBool::new(true),
        })
    }

    /// Brings people, factors, invitations, stopped approvals and trusted devices in memory up to date with everything that was committed
    /// before this call.
    ///
    /// # Errors
    /// The records cannot be read; what is known so far stays, and the next call tries again.
    pub async fn catch_up(&self) -> Result<(), ServiceError> {
        self.followed.catch_up(&self.records, async |changes| self.roster.follow(&self.records, changes).await).await
    }

    /// Keeps a trace and tells the listeners once it can be read. Dropped, and counted, if the records cannot keep up.
    ///
    /// Gives its number.
    pub fn keep_trace(&self, trace: Trace) -> u64 {
        if !self.writes_traces.load(Ordering::Relaxed) {
            return self.records.skip_trace();
        }
        let mut trace = trace;
        let (of_upstream, keep) = self.live.load().as_ref().map_or((false, false), |live| {
            let of_upstream =
                trace.source.as_ref().is_some_and(|source| live.site.upstreams.iter().any(|upstream| upstream.name == *source));
            (of_upstream, live.site.traces.keep_unknown_names)
        });
        self.roster.names().guard(&mut trace, of_upstream, keep);
        if trace.facts.open_until_us.is_some() { self.keep_waiting(trace) } else { self.keep_ended(trace) }
    }

    /// Keeps the trace of a login that waits at a prompt: the first time in the records too, later in memory only.
    fn keep_waiting(&self, trace: Trace) -> u64 {
        let (id, evicted) = match self.conversations.goes_on(&trace) {
            Some(known) => known,
            None => {
                let id = self.write_trace(Entry::of(0, trace.clone()));
                (id, self.conversations.begin(id, trace))
            }
        };
        if let Some((before, trace)) = evicted {
            let reference = trace.reference.clone();
            let facts = trace.facts.clone();
            let id = self.write_trace(Entry { replaces: Some(before), ..Entry::of(0, *trace) });
            self.conversations.ended(&reference);
            self.conversations.restore(id, reference, &facts);
        }
        id
    }

    /// Keeps the trace of a login that has ended, in the place of what was kept of it while it waited at prompts.
    fn keep_ended(&self, trace: Trace) -> u64 {
        let facts = &trace.facts;
        let waited = facts.answers_prompt || facts.first_took_us.is_some() || !facts.rounds.is_empty();
        let replaces = if waited { self.conversations.ended(&trace.reference) } else { None };
        self.write_trace(Entry { replaces, ..Entry::of(0, trace) })
    }

    /// Keeps the trace of a login that has ended, in the place of the one with this number.
    pub fn keep_in_place_of(&self, replaces: u64, trace: Trace) {
        self.write_trace(Entry { replaces: Some(replaces), ..Entry::of(0, trace) });
    }

    /// Writes down what is known of logins that wait at a prompt, before the service ends.
    pub fn write_waiting(&self) {
        for (before, trace) in self.conversations.unwritten() {
            self.write_trace(Entry { replaces: Some(before), ..Entry::of(0, *trace) });
        }
    }

    /// The trace of a login, with its number: in memory or in the records.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn trace(&self, reference: &str) -> Result<Option<(TraceRow, Vec<Step>, Option<Facts>)>, RecordsError> {
        let reference = reference.to_uppercase();
        match self.conversations.find(&reference) {
            Some((id, trace)) => {
                let (steps, facts) = (trace.steps.clone(), *trace.facts.clone());
                Ok(Some((TraceRow::of(id, *trace), steps, Some(facts))))
            }
            None => self.records.trace(reference).await,
        }
    }

    /// Brings a row up to date that the records hold of a login which waits at a later prompt by now.
    pub fn as_it_stands(&self, row: &mut TraceRow) {
        if row.outcome == Outcome::Challenged
            && let Some((id, trace)) = self.conversations.find(&row.reference)
        {
            *row = TraceRow::of(id, *trace);
        }
    }

    /// The trace of the rounds before, once the answer to a prompt has come.
    pub async fn rounds_before(&self, reference: &str) -> Option<Box<Trace>> {
        if let Some(trace) = self.conversations.answered(reference, clock::now()) {
            return Some(trace);
        }
        let (row, steps, facts) = self.records.trace(reference.to_owned()).await.ok().flatten()?;
        (row.outcome == Outcome::Challenged).then(|| Box::new(row.with(steps, facts.unwrap_or_default())))
    }

    /// Hands a trace to the writer and gives its number.
    fn write_trace(&self, entry: Entry) -> u64 {
        match self.records.add_trace(entry) {
            Added::First(id) => {
                let (records, events) = (self.records.clone(), self.events.clone());
                tokio::spawn(async move {
                    tokio::time::sleep(GATHERED).await;
                    records.write_traces(move |entries| tell_traces(&events, entries)).await;
                });
                id
            }
            Added::Joined(id) => id,
            Added::Dropped(id) => {
                bivector_store::metrics::dropped_trace();
                id
            }
        }
    }

    /// Writes into the audit what an operator did. Called once it is done.
    ///
    /// # Errors
    /// It could not be written; what was done stands.
    pub async fn audit(&self, deed: Deed) -> Result<(), RecordsError> {
        tracing::info!(operator = deed.operator, what = deed.what, detail = deed.detail, "changed");
        self.records.add_deed(deed, Arc::clone(&self.seal), clock::now()).await
    }

    /// Adds a step to a trace that is kept already, for what came after its end.
    pub fn add_step(&self, reference: String, step: Step) {
        if self.conversations.add_step(&reference, &step) {
            return;
        }
        let (records, events) = (self.records.clone(), self.events.clone());
        tokio::spawn(async move {
            // The trace itself may wait still.
            records.write_traces(move |entries| tell_traces(&events, entries)).await;
            records.add_step(reference, step);
        });
    }

    /// Tells the listeners that a person's factors have changed.
    pub fn tell_person(&self, person: &str) {
        self.approvals.tell_device(person);
        // Nobody listening is no error.
        let _ = self.events.send(Event::Person { person: person.to_owned() });
    }

    /// Counts a knock and tells the listeners.
    pub fn keep_knock(&self, knock: Knock) {
        let event = Event::Knock(knock.clone());
        let events = self.events.clone();
        self.records.post(
            move |transaction| bivector_store::records::insert_knock(transaction, &knock),
            move || {
                let _ = events.send(event);
            },
        );
    }
}

fn tell_traces(events: &broadcast::Sender<Event>, entries: Vec<Entry>) {
    if events.receiver_count() == 0 {
        return;
    }
    for entry in entries {
        // The last listener may have gone meanwhile.
        let _ = events.send(Event::Trace(Box::new(entry.row)));
    }
}
