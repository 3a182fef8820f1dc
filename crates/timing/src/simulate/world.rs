//! The world of a simulation: one queue of events in virtual time. Gateways send, resend, move on and give up as devices do; the door
//! joins resends to their login with the service's own window; each login is decided by the service's own machine.

use super::Simulated;
use super::answers::{Behind, Belongings, at_the_prompt};
use super::cast::Cast;
use super::draw::Draw;
use super::setting::{Plan, PlanError};
use crate::budget::micros;
use bivector_core::duplicates::{Arrival, RequestKey, Window};
use bivector_core::login::{Fact, Login, Next, Request, Verdict};
use bivector_model::cause::Cause;
use bivector_model::moment::Moment;
use bivector_model::trace::Outcome;
use foldhash::fast::FixedState;
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use std::collections::{BinaryHeap, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

/// When the first login begins: any moment after the devices' birth does.
const BEGIN_US: u64 = 1_800_000_000_000_000;
/// How many logins go by between two looks whether somebody wants it ended.
const LOOK_EVERY: u64 = 256;

/// Somebody, by their place among [`World::people`]. Events are kept small: they are moved about more than anything else here.
type Who = u32;
/// A login in flight, by its place among [`World::slots`].
type Slot = u32;

/// Something that happens.
#[derive(Debug, Clone, Copy)]
enum Event {
    /// Somebody begins.
    Begins(Who),
    /// A packet of a request reaches the door.
    Arrives { person: Who, request: u32 },
    /// An answer from behind is there.
    Learns { slot: Slot },
    /// A refusal leaves.
    Wakes { slot: Slot },
    /// The reply reaches the gateway.
    Replied { person: Who, request: u32, reply: Reply },
    /// The gateway's timer for a try ends.
    Tries { person: Who, request: u32 },
    /// The person's own program gives up.
    Leaves { person: Who },
    /// The person has typed the answer to a prompt.
    Answers { person: Who },
}

/// A reply, as the gateway sees it: what it is, and of a refusal the cause, of a challenge its place.
#[derive(Debug, Clone, Copy)]
enum Reply {
    Accept,
    Challenge(u32),
    Refuse(Cause),
}

/// An event and when it happens. Of two at one moment the one that was planned first comes first.
#[derive(Debug, Clone, Copy)]
struct Planned {
    at_us: u64,
    number: u64,
    event: Event,
}

impl Planned {
    fn order(&self) -> u128 {
        u128::from(self.at_us) << 64 | u128::from(self.number)
    }
}

impl PartialEq for Planned {
    fn eq(&self, other: &Self) -> bool {
        self.order() == other.order()
    }
}

impl Eq for Planned {}

impl PartialOrd for Planned {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Planned {
    /// The other way round: the earliest is the greatest, as a heap gives it first.
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        other.order().cmp(&self.order())
    }
}

/// What is to come. Timers that are all as long stand in order by themselves, and most of them end for nothing: they need no heap.
/// Of the rest nearly everything is about to happen; what is far off, such as an answer of a person, waits in a heap of its own, so
/// that the one in use stays small.
#[derive(Debug, Default)]
struct Agenda {
    near: BinaryHeap<Planned>,
    far: BinaryHeap<Planned>,
    tries: VecDeque<Planned>,
    clients: VecDeque<Planned>,
    number: u64,
}

/// From how far off an event waits among the far ones, in microseconds.
const FAR_US: u64 = 500_000;

impl Agenda {
    fn plan(&mut self, now_us: u64, at_us: u64, event: Event) {
        self.number += 1;
        let planned = Planned { at_us, number: self.number, event };
        match event {
            Event::Tries { .. } => self.tries.push_back(planned),
            Event::Leaves { .. } => self.clients.push_back(planned),
            _ if at_us > now_us + FAR_US => self.far.push(planned),
            _ => self.near.push(planned),
        }
    }

    fn next(&mut self) -> Option<Planned> {
        let order = |planned: Option<&Planned>| planned.map_or(u128::MAX, Planned::order);
        let (near, far) = (order(self.near.peek()), order(self.far.peek()));
        let (tries, clients) = (order(self.tries.front()), order(self.clients.front()));
        let timer = tries.min(clients);
        match near.min(far) {
            first if first < timer && first == near => self.near.pop(),
            first if first < timer => self.far.pop(),
            _ if tries < clients => self.tries.pop_front(),
            _ => self.clients.pop_front(),
        }
    }
}

/// Somebody who logs in.
#[derive(Debug)]
struct Person {
    began_us: u64,
    own: Belongings,
    /// The number of the present request; older ones are forgotten by the gateway.
    request: u32,
    tries: u32,
    server: u32,
    sent: Option<Arc<Request>>,
    /// State and text of the answer to a prompt.
    answer: Option<(u32, String)>,
    over: bool,
}

/// A login in flight.
struct Running {
    login: Login,
    person: Who,
    key: RequestKey,
    request: u32,
    fact: Option<Fact>,
}

struct World<'p> {
    plan: &'p Plan,
    cast: Cast,
    behind: Behind,
    rng: SmallRng,
    agenda: Agenda,
    people: Vec<Person>,
    slots: Vec<Option<Box<Running>>>,
    free: Vec<Slot>,
    door: Window<Reply, FixedState>,
    delay: Draw,
    done: Simulated,
    times: Vec<u64>,
    /// Logins that have ended, well or not.
    ended: u64,
    client_us: Option<u64>,
    now_us: u64,
    per_gateway: usize,
}

/// Plays a plan to its end. `go_on` is asked now and then with how many logins have ended; where it says no, nothing is given.
///
/// # Errors
/// The plan cannot be played.
pub fn simulate(plan: &Plan, mut go_on: impl FnMut(u64) -> bool) -> Result<Option<Simulated>, PlanError> {
    plan.check()?;
    let mut world = World::new(plan)?;
    world.plan_event(BEGIN_US, Event::Begins(0));
    let mut ended = 0;
    while let Some(Planned { at_us, event, .. }) = world.agenda.next() {
        world.now_us = at_us;
        world.happens(event);
        if world.ended / LOOK_EVERY != ended / LOOK_EVERY && !go_on(world.ended) {
            return Ok(None);
        }
        ended = world.ended;
    }
    Ok(Some(world.results()))
}

impl<'p> World<'p> {
    fn new(plan: &'p Plan) -> Result<Self, PlanError> {
        let cast = Cast::new(plan)?;
        let gateway = &plan.site.gateways[plan.way.gateway];
        Ok(World {
            cast,
            behind: Behind::new(plan, BEGIN_US),
            rng: SmallRng::seed_from_u64(plan.seed),
            agenda: Agenda::default(),
            people: Vec::with_capacity(plan.logins.min(1 << 20) as usize),
            slots: Vec::new(),
            free: Vec::new(),
            door: Window::with_hasher(plan.site.radius.replies_kept, 1 << 16, plan.site.radius.logins_in_flight, FixedState::default()),
            delay: plan.link.delay.ready(),
            done: Simulated { logins: plan.logins, seed: plan.seed, ..Simulated::default() },
            times: Vec::with_capacity(plan.logins.min(1 << 20) as usize),
            ended: 0,
            client_us: gateway.client_patience.map(micros),
            now_us: BEGIN_US,
            per_gateway: gateway.logins_in_flight,
            plan,
        })
    }

    fn plan_event(&mut self, at_us: u64, event: Event) {
        self.agenda.plan(self.now_us, at_us, event);
    }

    fn now(&self) -> Moment {
        Moment::from_micros(self.now_us)
    }

    fn happens(&mut self, event: Event) {
        match event {
            Event::Begins(person) => self.begins(person),
            Event::Arrives { person, request } => self.arrives(person, request),
            Event::Learns { slot } => {
                let Some(running) = self.slots[slot as usize].as_mut() else { return };
                if let Some(fact) = running.fact.take() {
                    running.login.learn(fact, Moment::from_micros(self.now_us));
                }
                self.drive(slot);
            }
            Event::Wakes { slot } => {
                let Some(running) = self.slots[slot as usize].as_mut() else { return };
                running.login.wake(Moment::from_micros(self.now_us));
                self.drive(slot);
            }
            Event::Replied { person, request, reply } => self.replied(person, request, reply),
            Event::Tries { person, request } => self.tries(person, request),
            Event::Leaves { person } => self.ends(person, "client-gave-up"),
            Event::Answers { person } => self.answers(person),
        }
    }

    /// People come by themselves: the time between two is drawn.
    fn begins(&mut self, person: Who) {
        if u64::from(person) + 1 < self.plan.logins {
            let gap = -(1.0 - self.rng.random::<f64>()).ln() / self.plan.per_second;
            self.plan_event(self.now_us + (gap * 1_000_000.0) as u64, Event::Begins(person + 1));
        }
        self.people.push(Person {
            began_us: self.now_us,
            own: Belongings::default(),
            request: 0,
            tries: 0,
            server: 0,
            sent: None,
            answer: None,
            over: false,
        });
        if let Some(client_us) = self.client_us {
            self.plan_event(self.now_us + client_us, Event::Leaves { person });
        }
        self.send_anew(person);
    }

    /// The gateway sends a new request: the first one, one to its next server, or the answer to a prompt.
    fn send_anew(&mut self, person: Who) {
        let now = self.now();
        let sent = match self.people[person as usize].answer.take() {
            Some((state, text)) => self.cast.answer(state.to_be_bytes().to_vec(), &text).map(Arc::new),
            None => self.cast.request(now),
        };
        let of = &mut self.people[person as usize];
        (of.sent, of.request, of.tries) = (sent, of.request + 1, 0);
        self.send(person);
    }

    /// The gateway sends its request, once more.
    fn send(&mut self, person: Who) {
        let of = &mut self.people[person as usize];
        of.tries += 1;
        let request = of.request;
        self.travels(Event::Arrives { person, request });
        self.plan_event(self.now_us + micros(self.plan.patience.wait), Event::Tries { person, request });
    }

    /// A packet on the network: lost, late, or twice.
    fn travels(&mut self, event: Event) {
        let link = &self.plan.link;
        if link.twice > 0.0 && self.rng.random::<f64>() < link.twice {
            let at = self.now_us + self.delay.draw(&mut self.rng) * 2;
            self.plan_event(at, event);
        }
        if link.loss > 0.0 && self.rng.random::<f64>() < link.loss {
            return;
        }
        let at = self.now_us + self.delay.draw(&mut self.rng);
        self.plan_event(at, event);
    }

    fn tries(&mut self, person: Who, request: u32) {
        let patience = self.plan.patience;
        let of = &mut self.people[person as usize];
        if of.over || of.request != request || of.sent.is_none() {
            return;
        }
        if of.tries < patience.tries {
            return self.send(person);
        }
        of.server += 1;
        if of.server < patience.servers {
            // Another server knows nothing of the first one's prompts and packets: the login begins anew there.
            return self.send_anew(person);
        }
        self.ends(person, "gateway-gave-up");
    }

    /// As [`bivector_core::duplicates`] wants it: the same bytes from the same place are one request.
    fn key(&self, person: Who, request: u32) -> RequestKey {
        let mut authenticator = [0; 16];
        authenticator[..8].copy_from_slice(&u64::from(person).to_be_bytes());
        authenticator[8..12].copy_from_slice(&request.to_be_bytes());
        let port = 1024 + (person % 60_000) as u16;
        RequestKey::made_up(SocketAddr::new(IpAddr::from([127, 0, 0, 1]), port), person as u8, authenticator, [0; 16])
    }

    fn arrives(&mut self, person: Who, request: u32) {
        self.done.packets += 1;
        let key = self.key(person, request);
        match self.door.arrive(key, self.now()) {
            Arrival::New { .. } => {
                // A late packet of a request that the gateway has forgotten would begin a login for nobody; devices send none as late.
                let Some(sent) = self.people[person as usize].sent.clone().filter(|_| self.people[person as usize].request == request)
                else {
                    return self.door.finish(key, None, self.now());
                };
                if self.door.in_flight() > self.per_gateway {
                    return self.door.finish(key, None, self.now());
                }
                self.done.begun += 1;
                let login = Login::begin_quietly(self.plan.site.clone(), Some(self.plan.way.chain), sent, self.now());
                let running = Box::new(Running { login, person, key, request, fact: None });
                let slot = self.free.pop().unwrap_or_else(|| {
                    self.slots.push(None);
                    (self.slots.len() - 1) as Slot
                });
                self.slots[slot as usize] = Some(running);
                self.drive(slot);
            }
            Arrival::InFlight => self.done.absorbed += 1,
            Arrival::Finished(Some(reply)) => {
                self.done.answered_again += 1;
                self.travels(Event::Replied { person, request, reply });
            }
            Arrival::Finished(None) | Arrival::Full => {}
        }
    }

    /// Drives a login as far as it comes without waiting.
    fn drive(&mut self, slot: Slot) {
        loop {
            let Some(running) = self.slots[slot as usize].as_mut() else { return };
            match running.login.next() {
                Next::Ask(need) => {
                    let own = &mut self.people[running.person as usize].own;
                    let known = (&self.cast.found, &self.cast.factors);
                    let (fact, at_us) = self.behind.answer(need, self.now_us, self.plan, own, known, (&mut self.done, &mut self.rng));
                    if at_us <= self.now_us {
                        running.login.learn(fact, Moment::from_micros(self.now_us));
                        continue;
                    }
                    running.fact = Some(fact);
                    return self.plan_event(at_us, Event::Learns { slot });
                }
                Next::Wait(until, _) => return self.plan_event(until.micros().max(self.now_us), Event::Wakes { slot }),
                Next::Decided => return self.decided(slot),
            }
        }
    }

    fn decided(&mut self, slot: Slot) {
        let Some(running) = self.slots[slot as usize].take() else { return };
        let Running { login, person, key, request, .. } = *running;
        self.free.push(slot);
        let (verdict, trace) = login.finish(self.door.absorbed(&key, self.now()), self.now());
        let reply = match verdict {
            Verdict::Accept(_) => Reply::Accept,
            Verdict::Challenge(challenge) => Reply::Challenge(<[u8; 4]>::try_from(challenge.state).map_or(u32::MAX, u32::from_be_bytes)),
            Verdict::Refuse(refusal) => Reply::Refuse(trace.cause.unwrap_or(refusal.cause)),
        };
        debug_assert!(trace.outcome != Outcome::Silent, "a login that began is answered");
        self.door.finish(key, Some(reply), self.now());
        self.travels(Event::Replied { person, request, reply });
    }

    fn replied(&mut self, person: Who, request: u32, reply: Reply) {
        let of = &mut self.people[person as usize];
        if of.over || of.request != request || of.sent.is_none() {
            return;
        }
        match reply {
            Reply::Accept => {
                of.over = true;
                of.sent = None;
                self.times.push(self.now_us - of.began_us);
                self.ended += 1;
            }
            Reply::Refuse(cause) => self.ends(person, cause.slug()),
            Reply::Challenge(state) => {
                // The gateway waits for the person now, not for us.
                of.sent = None;
                let code = |at_us: u64| self.cast.code(Moment::from_micros(at_us));
                let (at_us, text) = at_the_prompt(self.plan, &self.behind.people, &of.own, code, self.now_us, &mut self.rng);
                of.answer = Some((state, text));
                self.plan_event(at_us, Event::Answers { person });
            }
        }
    }

    fn answers(&mut self, person: Who) {
        if !self.people[person as usize].over {
            self.people[person as usize].server = 0;
            self.send_anew(person);
        }
    }

    /// Not let in, for this reason.
    fn ends(&mut self, person: Who, why: &str) {
        let of = &mut self.people[person as usize];
        if of.over {
            return;
        }
        (of.over, of.sent) = (true, None);
        self.ended += 1;
        match self.done.failed.get_mut(why) {
            Some(count) => *count += 1,
            None => drop(self.done.failed.insert(why.to_owned(), 1)),
        }
    }

    fn results(mut self) -> Simulated {
        self.times.sort_unstable();
        let at = |share: f64| self.times.get(((self.times.len() as f64 * share) as usize).min(self.times.len().saturating_sub(1))).copied();
        Simulated {
            accepted: self.times.len() as u64,
            p50_us: at(0.50).unwrap_or(0),
            p95_us: at(0.95).unwrap_or(0),
            p99_us: at(0.99).unwrap_or(0),
            virtual_us: self.now_us - BEGIN_US,
            ..self.done
        }
    }
}
