//! Push messages that wake handsets (RFC 8030), and what is tried where they do not arrive.
//!
//! [`Approvals`](crate::approvals::Approvals) tells the [`Pusher`] what begins and ends. One task takes that up: it reads which handsets the
//! person has, sends each a message, and tries the chain's next way to wake people when no notification was shown in time. What became of
//! each message is noted with the approval, and the login's trace shows it.

mod keys;
mod look;
mod notes;
mod task;

pub use keys::{PushKey, PushKeys};
pub use look::{PushLook, PushPart, look};
pub use notes::{PushNote, PushSeen};
pub use task::{run, wake_robot};

use crate::live::LiveSite;
use crate::roster::seed_purpose;
use crate::shared::Shared;
use bivector_api::push::PushTested;
use bivector_model::Moment;
use bivector_model::prompt::Text;
use bivector_outbound::{Gates, Sent, Wire};
use bivector_push::{EndpointError, KeyError, Notice, NoticeKind, Recipient};
use bivector_store::agreement::{Allowance, Rate};
use bivector_store::clock;
use bivector_store::records::{FactorRow, NewSubscription, PersonRow, PushNoted, PushRow, RecordsError, Subscribed, person_key};
use bivector_store::seal::hash_token;
use data_encoding::BASE64URL_NOPAD;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Mutex;
use std::time::Duration;
use tokio::sync::{Semaphore, mpsc};

const HOUR: Duration = Duration::from_secs(3600);
/// How long a test message may wait for its handset.
const TEST_LASTS: Duration = Duration::from_secs(600);
/// Longest ticket that is looked at, in bytes of base64url: strangers may send them, and the longest name of a person fits in.
const MAX_TICKET: usize = 4096;
/// What tickets are sealed for.
const TICKETS: &str = "push-ticket";
/// Approvals that wait to be taken up at most; more are shown by open pages only.
const WAITING: usize = 16_384;

/// Reads of subscriptions at the same time.
const READS: usize = 2;

/// What the task is told.
#[derive(Debug)]
pub enum Event {
    /// An approval has begun.
    Begun(u64),
    /// An approval was answered or withdrawn: its notifications go.
    Over {
        /// The approval.
        id: u64,
        /// The person's key.
        person: String,
        /// Handsets that a message was sent to.
        devices: Vec<u64>,
    },
}

/// What all messages of this node share.
#[derive(Debug)]
pub struct Pusher {
    events: mpsc::Sender<Event>,
    taken_up: Mutex<Option<mpsc::Receiver<Event>>>,
    /// Limits and circuit breakers, one for each push service.
    pub gates: Gates,
    /// Keys that messages are signed with.
    pub keys: PushKeys,
    /// What was seen of handsets and is not written down yet.
    seen: Mutex<HashMap<u64, PushNoted>>,
    /// Turns at reading subscriptions: each read at the same time takes a connection and its cache.
    reads: Semaphore,
}

impl Default for Pusher {
    fn default() -> Self {
        let (events, taken_up) = mpsc::channel(WAITING);
        Pusher {
            events,
            taken_up: Mutex::new(Some(taken_up)),
            gates: Gates::default(),
            keys: PushKeys::default(),
            seen: Mutex::default(),
            reads: Semaphore::new(READS),
        }
    }
}

impl Pusher {
    /// Where approvals tell what begins and ends.
    pub fn events(&self) -> mpsc::Sender<Event> {
        self.events.clone()
    }

    /// How some handsets can be woken. Readers take turns.
    ///
    /// # Errors
    /// The records failed.
    pub async fn rows(&self, shared: &Shared, devices: Vec<u64>) -> Result<Vec<PushRow>, RecordsError> {
        let _turn = self.reads.acquire().await;
        shared.records.pushes(devices).await
    }

    fn note(&self, device: u64, change: impl FnOnce(&mut PushNoted)) {
        if let Ok(mut seen) = self.seen.lock() {
            change(seen.entry(device).or_default());
        }
    }

    /// Notes that a handset was heard from.
    pub fn heard(&self, device: u64, now: Moment) {
        self.note(device, |noted| noted.heard = Some(now));
    }

    /// Writes down what was seen of handsets.
    ///
    /// # Errors
    /// The records failed; it is lost then.
    pub async fn write_down(&self, shared: &Shared) -> Result<(), RecordsError> {
        let seen: Vec<(u64, PushNoted)> = self.seen.lock().map(|mut seen| seen.drain().collect()).unwrap_or_default();
        if seen.is_empty() { Ok(()) } else { shared.records.note_pushes(seen).await }
    }
}

/// A subscription as it is kept, encrypted with its device.
#[derive(Serialize, Deserialize)]
struct Kept {
    endpoint: String,
    p256dh: String,
    auth: String,
}

/// A subscription that a handset brings.
#[derive(Debug, Clone)]
pub struct Subscription {
    /// The address of the push service for this handset.
    pub endpoint: String,
    /// The handset's public key, in base64url.
    pub p256dh: String,
    /// The handset's secret, in base64url.
    pub auth: String,
    /// The signing key that it was made with, in base64url.
    pub key: String,
}

/// Why a subscription is not taken.
#[derive(Debug, thiserror::Error)]
pub enum NotSubscribed {
    /// Its address.
    #[error(transparent)]
    Endpoint(#[from] EndpointError),
    /// Its keys.
    #[error(transparent)]
    Keys(#[from] KeyError),
    /// It was made with a signing key that is not in use any more.
    #[error("the subscription was made with another signing key than this service has")]
    OldKey,
    /// Another person's handset has the same address.
    #[error("this browser is already the handset of another person")]
    Claimed,
    /// The person has too many.
    #[error("this person's handsets have as many subscriptions as one person may have")]
    TooMany,
    /// The handset was removed meanwhile.
    #[error("the handset is gone")]
    Gone,
    /// The records failed.
    #[error("{0}")]
    Records(#[from] RecordsError),
}

/// Keeps the subscription of a handset. It counts once the person has confirmed a test message.
///
/// # Errors
/// [`NotSubscribed`].
pub async fn subscribe(
    shared: &Shared,
    live: &LiveSite,
    person: &PersonRow,
    device: u64,
    subscription: Subscription,
    now: Moment,
) -> Result<(), NotSubscribed> {
    let Subscription { endpoint, p256dh, auth, key } = subscription;
    let read = live.site.push.services.endpoint(&endpoint)?;
    Recipient::read(&p256dh, &auth)?;
    let key = shared.pusher.keys.known(shared, &key).await?.ok_or(NotSubscribed::OldKey)?;
    let kept = serde_json::to_vec(&Kept { endpoint: read.url.clone(), p256dh, auth }).unwrap_or_default();
    let new = NewSubscription {
        device,
        service: read.origin,
        endpoint: hash_token(&read.url).to_vec(),
        sealed: shared.seal.seal(&seed_purpose(&person.source, &person.login), &kept),
        key: key.id,
    };
    match shared.records.subscribe(new, now).await? {
        Subscribed::Kept => Ok(()),
        Subscribed::Claimed => Err(NotSubscribed::Claimed),
        Subscribed::TooMany => Err(NotSubscribed::TooMany),
        Subscribed::Gone => Err(NotSubscribed::Gone),
    }
}

/// What a ticket proves: that this message arrived at this handset.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Ticket {
    /// The approval; 0 for a test.
    id: u64,
    device: u64,
    person: String,
    until: Moment,
}

/// What a handset reports of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Reported {
    /// A notification is shown.
    Shown,
    /// The person has opened it.
    Opened,
}

/// Takes a report by its ticket; `false` if the ticket is not of this service or too old. Opening a test confirms that push works.
///
/// # Errors
/// The records failed.
pub async fn report(shared: &Shared, ticket: &str, reported: Reported, now: Moment) -> Result<bool, RecordsError> {
    let Some(ticket) = open_ticket(shared, ticket).filter(|ticket| ticket.until > now) else { return Ok(false) };
    let device = ticket.device;
    shared.pusher.note(device, |noted| (noted.heard, noted.shown) = (Some(now), Some(now)));
    if ticket.id != 0 {
        shared.approvals.note(ticket.id, PushNote::new(Some(device), PushSeen::of(reported), now));
    } else if reported == Reported::Opened && shared.records.push_confirmed(device, now).await? {
        shared.tell_person(&ticket.person);
    }
    Ok(true)
}

fn open_ticket(shared: &Shared, text: &str) -> Option<Ticket> {
    if text.len() > MAX_TICKET {
        return None;
    }
    let sealed = BASE64URL_NOPAD.decode(text.as_bytes()).ok()?;
    serde_json::from_slice(shared.seal.open(TICKETS, &sealed).ok()?.expose()).ok()
}

fn make_ticket(shared: &Shared, ticket: &Ticket) -> String {
    BASE64URL_NOPAD.encode(&shared.seal.seal(TICKETS, &serde_json::to_vec(ticket).unwrap_or_default()))
}

/// One message on its way to a handset.
struct Message<'m> {
    person: &'m PersonRow,
    device: &'m FactorRow,
    row: &'m PushRow,
    notice: Notice,
    /// How long the push service keeps it.
    lasts: Duration,
    /// A newer message with the same topic replaces it.
    topic: &'static str,
}

/// Encrypts, signs and sends a message, and notes what became of it with its handset.
async fn send(shared: &Shared, live: &LiveSite, message: Message<'_>) -> Sent {
    let Message { person, device, row, notice, lasts, topic } = message;
    let opened = row.sealed.as_ref().and_then(|sealed| {
        let plain = shared.seal.open(&seed_purpose(&person.source, &person.login), sealed).ok()?;
        serde_json::from_slice::<Kept>(plain.expose()).ok()
    });
    let Some(kept) = opened else { return Sent::Failed("the handset has no subscription".into()) };
    let endpoint = match live.site.push.services.endpoint(&kept.endpoint) {
        Ok(endpoint) => endpoint,
        // The site has changed since the handset subscribed.
        Err(error) => return Sent::Failed(error.to_string()),
    };
    let Ok(recipient) = Recipient::read(&kept.p256dh, &kept.auth) else { return Sent::Failed("the handset's keys are damaged".into()) };
    let authorization = match shared.pusher.keys.authorization(shared, live, row.key, &endpoint.origin).await {
        Ok(Some(authorization)) => authorization,
        Ok(None) => return Sent::Failed("the signing key of this subscription is gone".into()),
        Err(error) => return Sent::Failed(error.to_string()),
    };
    let wire = Wire { endpoint: &endpoint, authorization: &authorization, lasts, topic, recipient: &recipient, content: &notice.bytes() };
    let sent = shared.pusher.gates.pass(&endpoint.origin, live.push.send(wire)).await;
    let now = clock::now();
    let host = endpoint.host.as_str();
    bivector_store::metrics::push(&endpoint.service, sent.kind(), sent.took());
    shared.pusher.note(device.id, |noted| noted.sent = Some((now, sent.said(host))));
    if let Sent::Gone { status, .. } = sent {
        let why = format!("the push service no longer knows this phone ({status})");
        let sealed = row.sealed.clone().unwrap_or_default();
        if let Err(error) = shared.records.push_gone(device.id, sealed, why, now).await {
            tracing::warn!(%error, "the end of a subscription could not be written down");
        }
        shared.tell_person(&person_key(&person.source, &person.login));
    }
    sent
}

/// Sends a test message to a handset, which its person confirms by opening it.
///
/// # Errors
/// The records failed.
pub async fn test(shared: &Shared, live: &LiveSite, person: &PersonRow, device: &FactorRow) -> Result<PushTested, RecordsError> {
    let not_sent = |said: &str| Ok(PushTested { accepted: false, said: said.to_owned(), took_ms: 0 });
    let Some(row) = shared.pusher.rows(shared, vec![device.id]).await?.pop().filter(|row| row.sealed.is_some()) else {
        return not_sent("the phone has not subscribed to push messages; opening its page sets them up");
    };
    let now = clock::now();
    let key = person_key(&person.source, &person.login);
    if may_send(shared, live, &key, 1, now).await? == 0 {
        return not_sent("too many messages were sent to this person lately");
    }
    let language = person.language.as_str();
    let say = |text, places: &[(&str, &str)]| live.site.texts.say(language, text, places);
    let until = now.plus(TEST_LASTS);
    let notice = Notice {
        kind: NoticeKind::Test,
        id: String::new(),
        ticket: make_ticket(shared, &Ticket { id: 0, device: device.id, person: key, until }),
        title: say(Text::PushTestTitle, &[("site", &live.site.name)]),
        body: say(Text::PushTestBody, &[]),
        language: language.to_owned(),
        buttons: None,
        until_us: until.micros(),
        now_us: now.micros(),
    };
    let sent = send(shared, live, Message { person, device, row: &row, notice, lasts: TEST_LASTS, topic: "test" }).await;
    shared.pusher.write_down(shared).await?;
    let host = bare_host(&row.service).to_owned();
    Ok(PushTested { accepted: sent.is_accepted(), said: sent.said(&host), took_ms: sent.took().as_millis() as u64 })
}

/// The host of an origin.
pub fn bare_host(origin: &str) -> &str {
    origin.split_once("://").map_or(origin, |(_, host)| host)
}

/// Counts messages to a person before they are sent; how many of them are allowed.
async fn may_send(shared: &Shared, live: &LiveSite, person: &str, messages: usize, now: Moment) -> Result<usize, RecordsError> {
    for counted in 0..messages {
        let own = Allowance { rate: Rate::Pushes, key: person.to_owned(), most: live.site.push.per_person, period: HOUR };
        if shared.agreement.spend(vec![own], now).await?.is_err() {
            return Ok(counted);
        }
    }
    Ok(messages)
}
