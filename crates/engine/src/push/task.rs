//! The task that wakes people: it sends messages as approvals begin, tries the next way in time, and takes notifications back.

use super::{Event, Message, PushNote, PushSeen, Ticket, make_ticket, may_send, send};
use crate::live::LiveSite;
use crate::shared::Shared;
use crate::stage::HANDSET;
use bivector_core::login::{ApprovalAsk, Sendable, masked};
use bivector_model::Moment;
use bivector_model::prompt::Text;
use bivector_push::{Buttons, Notice, NoticeKind, Receiver, Recipient, check_authorization, decrypt, encrypt};
use bivector_site::Wake;
use bivector_site::rehearsal::SimulatedPhone;
use bivector_store::records::{DeviceKind, FactorRow, PersonRow, PushRow, SUBSCRIPTIONS};
use bivector_store::seal::random;
use bivector_store::{clock, metrics};
use bivector_wire::Secret;
use std::collections::BTreeMap;
use std::sync::{Arc, Weak};
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::{Instant, sleep_until};

/// Approvals that are being prepared at the same time. What is ready to be sent waits at the gate of its push service, so that a slow one
/// holds up nobody else.
const AT_ONCE: usize = 256;
/// How often what was seen of handsets is written down.
const WRITE_EVERY: Duration = Duration::from_secs(5);
/// The topic of messages about approvals: a newer one replaces an older one that has not arrived.
const TOPIC: &str = "sign-in";
/// How long a message may take that takes a notification back.
const OVER_LASTS: Duration = Duration::from_secs(60);
const FAR: Duration = Duration::from_secs(3600);

/// Wakes people until the service ends.
pub async fn run(shared: Weak<Shared>) {
    let taken = shared.upgrade().and_then(|shared| shared.pusher.taken_up.lock().ok()?.take());
    let Some(mut events) = taken else { return };
    let turns = Arc::new(Semaphore::new(AT_ONCE));
    // When the next way is tried, with the approval and the place of that way in the chain's list.
    let mut later: BTreeMap<(Instant, u64), usize> = BTreeMap::new();
    let (next_ways, mut told) = tokio::sync::mpsc::unbounded_channel::<(Instant, u64, usize)>();
    let mut write = tokio::time::interval(WRITE_EVERY);
    loop {
        let due = later.first_key_value().map_or_else(|| Instant::now() + FAR, |((at, _), _)| *at);
        let work = tokio::select! {
            event = events.recv() => match event {
                Some(Event::Begun(id)) => Work::Wake(id, 0),
                Some(Event::Over { id, person, devices }) => Work::TakeBack(id, person, devices),
                None => return,
            },
            next = told.recv() => {
                if let Some((at, id, way)) = next {
                    later.insert((at, id), way);
                }
                continue;
            }
            () = sleep_until(due) => match later.pop_first() {
                Some(((_, id), way)) => Work::Wake(id, way),
                None => continue,
            },
            _ = write.tick() => {
                let Some(shared) = shared.upgrade() else { return };
                if let Err(error) = shared.pusher.write_down(&shared).await {
                    tracing::warn!(%error, "what was seen of handsets could not be written down");
                }
                continue;
            }
        };
        let (Some(shared), Ok(turn)) = (shared.upgrade(), Arc::clone(&turns).acquire_owned().await) else { return };
        let next_ways = next_ways.clone();
        tokio::spawn(async move {
            match work {
                Work::TakeBack(id, person, devices) => take_back(&shared, id, &person, devices, turn).await,
                Work::Wake(id, way) => {
                    if let Some((at, way)) = Box::pin(wake(&shared, id, way, turn)).await {
                        let _ = next_ways.send((at, id, way));
                    }
                }
            }
        });
    }
}

/// What the task has to do for an approval.
enum Work {
    /// Wake its person in the way that has this place in the chain's list.
    Wake(u64, usize),
    /// Take its notifications back from these handsets of this person.
    TakeBack(u64, String, Vec<u64>),
}

/// Wakes the person of an approval in one way; when to try the next, and which.
async fn wake(shared: &Shared, id: u64, way: usize, turn: OwnedSemaphorePermit) -> Option<(Instant, usize)> {
    let (ask, asked, until) = shared.approvals.asked(id)?;
    let live = shared.live.load_full()?;
    let chain = live.site.chains.iter().find(|chain| chain.name == ask.chain)?;
    if way > 0 && shared.approvals.is_shown(id) {
        return None;
    }
    let person = shared.roster.get(&ask.person)?;
    let sent = match *chain.wake.get(way)? {
        Wake::Push => push(shared, &live, &person, &ask, id, (asked, until), turn).await,
        Wake::Courier(courier) => {
            // Couriers have their own limits.
            drop(turn);
            carry(shared, &live, courier, &ask, id).await
        }
    };
    chain.wake.get(way + 1)?;
    let now = Instant::now();
    let passed = clock::now().since(asked);
    Some((if sent { now + chain.wake_after.saturating_sub(passed) } else { now }, way + 1))
}

/// Sends a message to each handset of the person; whether one was accepted. The turn is over once it is known what to send.
async fn push(
    shared: &Shared,
    live: &LiveSite,
    person: &PersonRow,
    ask: &ApprovalAsk,
    id: u64,
    (asked, until): (Moment, Moment),
    turn: OwnedSemaphorePermit,
) -> bool {
    let not_sent = |why: &str| {
        shared.approvals.note(id, PushNote::new(None, PushSeen::NotSent(why.into()), clock::now()));
        false
    };
    let mut handsets = reachable(shared, person).await;
    if handsets.is_empty() {
        return not_sent("none of this person's phones can be woken by push");
    }
    match may_send(shared, live, &ask.person, handsets.len(), clock::now()).await {
        Ok(0) => return not_sent("too many messages were sent to this person lately"),
        Ok(allowed) => handsets.truncate(allowed),
        Err(error) => return not_sent(&error.to_string()),
    }
    drop(turn);
    let one = async |(device, row): &(FactorRow, PushRow)| {
        let now = clock::now();
        let notice = approval_notice(shared, live, ask, id, device.id, until);
        let lasts = Duration::from_secs(until.since(now).as_secs().max(1));
        metrics::push_leaves(now.since(asked));
        let sent = send(shared, live, Message { person, device, row, notice, lasts, topic: TOPIC }).await;
        // When it left: a quick phone reports before the push service has answered.
        let left = Moment::from_micros(clock::now().micros().saturating_sub(sent.took().as_micros() as u64));
        let seen = match sent.is_accepted() {
            true => PushSeen::Accepted(sent.took()),
            false => PushSeen::NotSent(sent.said(super::bare_host(&row.service)).into()),
        };
        shared.approvals.note(id, PushNote::new(Some(device.id), seen, left));
        sent.is_accepted()
    };
    futures_util::future::join_all(handsets.iter().map(one)).await.contains(&true)
}

/// Handsets that have subscribed, those that were heard from last first.
async fn reachable(shared: &Shared, person: &PersonRow) -> Vec<(FactorRow, PushRow)> {
    let own = person.factors.iter().filter(|factor| factor.kind == DeviceKind::Handset && factor.settings.waits_for.is_none());
    let rows = shared.pusher.rows(shared, own.clone().map(|factor| factor.id).collect()).await.unwrap_or_default();
    let mut found: Vec<_> = rows
        .into_iter()
        .filter(|row| row.sealed.is_some())
        .filter_map(|row| Some((own.clone().find(|factor| factor.id == row.device)?.clone(), row)))
        .collect();
    found.sort_by_key(|(_, row)| std::cmp::Reverse(row.heard_us.max(row.since_us)));
    found.truncate(SUBSCRIPTIONS);
    found
}

fn language_of(live: &LiveSite, ask: &ApprovalAsk) -> String {
    if ask.language.is_empty() { live.site.texts.fallback.clone() } else { ask.language.clone() }
}

fn approval_notice(shared: &Shared, live: &LiveSite, ask: &ApprovalAsk, id: u64, device: u64, until: Moment) -> Notice {
    let language = language_of(live, ask);
    let say = |text, places: &[(&str, &str)]| live.site.texts.say(&language, text, places);
    let nowhere = say(Text::PushFromUnknown, &[]);
    let from = if ask.from.is_empty() { nowhere.as_str() } else { ask.from.as_str() };
    let places = [("name", ask.name.as_str()), ("login", ask.login.as_str()), ("gateway", ask.gateway.as_str()), ("from", from)];
    let ticket = Ticket { id, device, person: ask.person.clone(), until: until.plus(OVER_LASTS) };
    Notice {
        kind: NoticeKind::Approval,
        id: format!("{id:016x}"),
        ticket: make_ticket(shared, &ticket),
        title: say(Text::PushTitle, &[("site", &ask.site)]),
        body: say(Text::PushBody, &places),
        buttons: Some(Buttons { open: say(Text::PushOpen, &[]), deny: say(Text::PushDeny, &[]) }),
        language,
        until_us: until.micros(),
        now_us: clock::now().micros(),
    }
}

/// Sends a message with a link to the approval by a courier; whether it was sent.
async fn carry(shared: &Shared, live: &LiveSite, courier: usize, ask: &ApprovalAsk, id: u64) -> bool {
    let note = |said: String, sent: bool| {
        shared.approvals.note(id, PushNote::new(None, PushSeen::Instead(said.into(), sent), clock::now()));
        sent
    };
    let Some((source, settings)) = live.couriers.get(courier).zip(live.site.couriers.get(courier)) else { return false };
    let to = ask.reach.iter().find(|(own, _)| *own == courier).map(|(_, to)| to);
    let name = &settings.name;
    let Some(to) = to else {
        let why = if ask.before_password { "the password is not checked yet" } else { "the person has no address for it" };
        return note(format!("no message by `{name}`: {why}"), false);
    };
    match crate::driver::may_send(&ask.person, &live.site.sending, shared, clock::now()).await {
        Ok(None) => {}
        Ok(Some(limit)) => return note(format!("no message by `{name}`: {limit}"), false),
        Err(error) => return note(format!("no message by `{name}`: {error}"), false),
    }
    let language = language_of(live, ask);
    let address = live.site.handset.address.as_deref().unwrap_or_default();
    let link = format!("{address}/handset/request/{id:016x}");
    let places = [("site", ask.site.as_str()), ("gateway", ask.gateway.as_str()), ("link", link.as_str())];
    let text = Secret::new(live.site.texts.say(&language, Text::WakeMessage, &places));
    let subject = live.site.texts.say(&language, Text::WakeSubject, &[("site", &ask.site)]);
    let sendable = Sendable { courier, person: ask.person.clone(), to: to.clone(), name: ask.name.clone(), language };
    let sent = source.send_text(&sendable, &Secret::new(String::new()), &text, subject).await;
    match sent {
        Ok(()) => note(format!("a message with a link was sent to {} by `{name}`", masked(to)), true),
        Err(seen) => note(format!("the message by `{name}` could not be sent: {seen}"), false),
    }
}

/// Wakes the simulated phone of a rehearsal in the ways of its chain: a push message is encrypted, signed, checked and decrypted as on the
/// real way, and shown when the phone wakes; a message by courier is really sent. Whether the phone was woken in time.
pub async fn wake_robot(shared: &Shared, live: &LiveSite, id: u64, phone: SimulatedPhone) -> bool {
    let Some((ask, _, until)) = shared.approvals.asked(id) else { return false };
    let Some(chain) = live.site.chains.iter().find(|chain| chain.name == ask.chain) else { return false };
    for (place, way) in chain.wake.iter().enumerate() {
        match (way, phone) {
            (_, SimulatedPhone::Open) => return true,
            (Wake::Push, SimulatedPhone::PushRefused) => {
                let seen = PushSeen::NotSent("it does not allow notifications".into());
                shared.approvals.note(id, PushNote::new(Some(HANDSET), seen, clock::now()));
            }
            (Wake::Push, SimulatedPhone::Asleep(asleep)) => {
                let seen = match prove_push(shared, live, &ask, id, until).await {
                    Ok(took) => PushSeen::Accepted(took),
                    Err(why) => PushSeen::NotSent(why.into()),
                };
                let accepted = seen.is_good();
                shared.approvals.note(id, PushNote::new(Some(HANDSET), seen, clock::now()));
                let left = Duration::from_micros(until.micros().saturating_sub(clock::now().micros()));
                let patience = if place + 1 < chain.wake.len() { chain.wake_after.min(left) } else { left };
                tokio::time::sleep(asleep.min(patience)).await;
                if accepted && asleep <= patience {
                    shared.approvals.note(id, PushNote::new(Some(HANDSET), PushSeen::Shown, clock::now()));
                    return true;
                }
            }
            (Wake::Courier(courier), _) => {
                if carry(shared, live, *courier, &ask, id).await {
                    return true;
                }
            }
        }
    }
    false
}

/// Makes a push message for a simulated phone, and does with it what push service and browser would; how long that took.
async fn prove_push(shared: &Shared, live: &LiveSite, ask: &ApprovalAsk, id: u64, until: Moment) -> Result<Duration, String> {
    const SERVICE: &str = "https://push.invalid";
    let began = Instant::now();
    let broken = |what: &str| format!("the simulated push message is broken: {what}");
    let phone = Receiver::new(&random(), random()).ok_or_else(|| broken("no key"))?;
    let recipient = Recipient::read(&phone.p256dh(), &phone.auth()).map_err(|error| broken(&error.to_string()))?;
    let key = shared.pusher.keys.current(shared, live.site.push.key_lasts).await.map_err(|error| error.to_string())?;
    let signed = shared.pusher.keys.authorization(shared, live, key.id, SERVICE).await.map_err(|error| error.to_string())?;
    let signed = signed.ok_or_else(|| broken("its signing key is gone"))?;
    check_authorization(&signed, SERVICE, clock::now().secs()).map_err(|error| broken(&error.to_string()))?;
    let notice = approval_notice(shared, live, ask, id, HANDSET, until);
    let message = encrypt(&notice.bytes(), 0, &recipient, &random(), &random()).map_err(|error| broken(&error.to_string()))?;
    let seen = decrypt(&message, &phone).map_err(|error| broken(&error.to_string()))?;
    match Notice::read(&seen) {
        Some(seen) if seen == notice => Ok(began.elapsed()),
        _ => Err(broken("it reads differently")),
    }
}

/// Takes the notifications of an approval back that needs no answer any more.
async fn take_back(shared: &Shared, id: u64, person: &str, devices: Vec<u64>, turn: OwnedSemaphorePermit) {
    let Some((live, person)) = shared.live.load_full().zip(shared.roster.get(person)) else { return };
    let notice = |now: Moment| Notice {
        kind: NoticeKind::Over,
        id: format!("{id:016x}"),
        ticket: String::new(),
        title: String::new(),
        body: String::new(),
        language: String::new(),
        buttons: None,
        until_us: now.plus(OVER_LASTS).micros(),
        now_us: now.micros(),
    };
    let rows = shared.pusher.rows(shared, devices).await.unwrap_or_default();
    drop(turn);
    for row in rows {
        let Some(device) = person.factors.iter().find(|factor| factor.id == row.device) else { continue };
        let now = clock::now();
        send(shared, &live, Message { person: &person, device, row: &row, notice: notice(now), lasts: OVER_LASTS, topic: TOPIC }).await;
    }
}
