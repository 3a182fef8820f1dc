//! The RADIUS door: receive, know the gateway, verify integrity, join a resend to its login, answer.
//!
//! What needs nobody outside is answered where it was received. A login that must wait runs as a task; their number is bounded.

use super::eap::{ConversationState, Conversations, EapReply, Open, Told, message_in};
use super::knocks::{Knocks, guess};
use super::{receive_all, who_holds};
use bivector_core::duplicates::{Arrival, RequestKey, Window};
use bivector_core::login::{Fact, Login, Need, Next, Request};
use bivector_core::radius::{self, Arrival as RequestArrival, Reply};
use bivector_engine::driver::{at_once, drive, mark_code_then};
use bivector_engine::ending;
use bivector_engine::live::{LiveSite, Which};
use bivector_engine::shared::Shared;
use bivector_engine::stage::Stage;
use bivector_model::Cause;
use bivector_model::facts::Resends;
use bivector_model::trace::{Hop, Origin, Outcome, Step, Tone, Trace};
use bivector_store::clock::{self, LoginClock};
use bivector_store::error::ServiceError;
use bivector_store::metrics;
use bivector_store::seal::random;
use bivector_wire::{Authentic, Code, IntegrityPolicy, NotAuthentic, Packet};
use foldhash::fast::RandomState;
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::available_parallelism;
use std::time::{Duration, Instant};
use tokio::net::UdpSocket;
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// Bytes the system may hold for us: the default loses packets from some hundred in flight on.
const RECEIVE_BUFFER: usize = 4 * 1024 * 1024;
/// Replies kept for resends, per socket; each takes about 300 bytes.
const REPLIES_KEPT: usize = 65_536;
/// A dropped packet of a known gateway leaves a trace at most this often, per gateway and reason; all are counted.
const SILENT_TRACE_EVERY: Duration = Duration::from_secs(1);

/// Whoever chooses a key here holds a gateway's secret.
type Replies = Window<Arc<[u8]>, RandomState>;

/// An open socket that logins come in by.
#[derive(Debug)]
pub struct RadiusDoor {
    address: SocketAddr,
    stop: watch::Sender<bool>,
    receiving: Mutex<Vec<JoinHandle<()>>>,
    inner: Arc<Inner>,
}

/// What a rehearsal door is for.
#[derive(Debug)]
pub struct Rehearsed {
    /// The gateway that it stands for.
    pub gateway: String,
    /// The one socket that it hears.
    pub asker: SocketAddr,
    /// The site that decides: the active one, or one that is being proved.
    pub live: Arc<LiveSite>,
    /// What stands in for people and things.
    pub stage: Arc<Stage>,
}

#[derive(Debug)]
pub(super) struct Inner {
    socket: UdpSocket,
    port: u16,
    pub(super) shared: Arc<Shared>,
    replies: Mutex<Replies>,
    silent: Mutex<HashMap<(String, Cause), Instant>>,
    knocks: Knocks,
    /// Logins that are answered at this moment and whose trace is to come.
    concluding: AtomicUsize,
    /// EAP conversations that go on.
    pub(super) conversations: Conversations,
    /// A rehearsal door stands for one gateway, whatever the address, and takes packets from one socket only.
    rehearsed: Option<Rehearsed>,
}

/// A login that is being answered; over on drop, also where that fails.
struct Concluding<'c>(&'c AtomicUsize);

impl<'c> Concluding<'c> {
    fn begin(count: &'c AtomicUsize) -> Self {
        count.fetch_add(1, Ordering::SeqCst);
        Concluding(count)
    }
}

impl Drop for Concluding<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

impl RadiusDoor {
    /// Opens a socket for gateways. Limits are those of the active site at this moment.
    ///
    /// # Errors
    /// [`ServiceError::Listen`] with who holds the address, where that can be known.
    pub fn open(address: SocketAddr, in_flight: usize, kept: Duration, shared: &Arc<Shared>) -> Result<Self, ServiceError> {
        Self::start(address, in_flight, kept, shared, None)
    }

    /// Opens a rehearsal door on loopback: it stands for one gateway and hears one socket.
    ///
    /// # Errors
    /// [`ServiceError::Listen`].
    pub fn rehearsal(rehearsed: Rehearsed, shared: &Arc<Shared>) -> Result<Self, ServiceError> {
        let loopback = SocketAddr::from(([127, 0, 0, 1], 0));
        Self::start(loopback, 16, Duration::from_secs(30), shared, Some(rehearsed))
    }

    fn start(
        address: SocketAddr,
        in_flight: usize,
        kept: Duration,
        shared: &Arc<Shared>,
        rehearsed: Option<Rehearsed>,
    ) -> Result<Self, ServiceError> {
        let failed = |source: std::io::Error| ServiceError::Listen { protocol: "UDP", address, holder: who_holds("udp", address), source };
        let socket = bind(address).and_then(UdpSocket::from_std).map_err(failed)?;
        let address = socket.local_addr().map_err(failed)?;
        let inner = Arc::new(Inner {
            socket,
            port: address.port(),
            shared: Arc::clone(shared),
            replies: Mutex::new(Window::with_hasher(kept, REPLIES_KEPT, in_flight, RandomState::default())),
            silent: Mutex::new(HashMap::new()),
            knocks: Knocks::new(Arc::clone(shared)),
            concluding: AtomicUsize::new(0),
            conversations: Conversations::default(),
            rehearsed,
        });
        let (stop, stopped) = watch::channel(false);
        // Logins that need nobody are decided where they are received, so that one task would be a bound.
        let receivers = if inner.rehearsed.is_some() { 1 } else { available_parallelism().map_or(1, |cores| cores.get() / 2).clamp(1, 4) };
        let receive = || {
            let (inner, stopped) = (Arc::clone(&inner), stopped.clone());
            tokio::spawn(async move {
                receive_all(&inner.socket, &inner.knocks, stopped, |datagram, sender| inner.receive(datagram, sender)).await;
            })
        };
        let mut tasks: Vec<JoinHandle<()>> = (0..receivers).map(|_| receive()).collect();
        tasks.push(tokio::spawn(Arc::clone(&inner).end_silent(stopped.clone())));
        let receiving = Mutex::new(tasks);
        Ok(RadiusDoor { address, stop, receiving, inner })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Logins not decided yet, and those that are and whose trace is not handed over yet.
    pub fn in_flight(&self) -> usize {
        self.inner.replies.lock().map_or(0, |replies| replies.in_flight()) + self.inner.concluding.load(Ordering::SeqCst)
    }

    /// EAP conversations that are open.
    pub fn conversations(&self) -> usize {
        self.inner.conversations.count()
    }

    /// Stops receiving and closes the socket once the logins in flight have their answer, or after `limit`.
    pub async fn close(&self, limit: Duration) {
        self.stop.send_replace(true);
        let receiving = self.receiving.lock().map(|mut receiving| std::mem::take(&mut *receiving)).unwrap_or_default();
        for one in receiving {
            let _ = one.await;
        }
        let until = Instant::now() + limit;
        while self.in_flight() > 0 && Instant::now() < until {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }
}

pub(super) fn bind(address: SocketAddr) -> std::io::Result<std::net::UdpSocket> {
    let socket = socket2::Socket::new(socket2::Domain::for_address(address), socket2::Type::DGRAM, None)?;
    if address.is_ipv6() {
        socket.set_only_v6(true)?;
    }
    // A smaller buffer only means that more resends are needed.
    let _ = socket.set_recv_buffer_size(RECEIVE_BUFFER);
    socket.set_nonblocking(true)?;
    socket.bind(&address.into())?;
    Ok(socket.into())
}

/// A packet of a known gateway, on its way to a login.
struct Arrived<'p> {
    live: Arc<LiveSite>,
    gateway: usize,
    sender: SocketAddr,
    authentic: Authentic<'p>,
    which: Which,
}

/// What a login that runs as a task needs to be answered.
pub(super) struct Decision {
    pub(super) live: Arc<LiveSite>,
    pub(super) gateway: usize,
    pub(super) which: Which,
    pub(super) clock: LoginClock,
    pub(super) place: Place,
    pub(super) reply_for: Reply,
    /// The conversation that the login came out of, if it did.
    pub(super) eap: Option<Box<Open>>,
}

impl From<Decision> for Round {
    fn from(Decision { gateway, which, clock, place, reply_for, live: _, eap: _ }: Decision) -> Self {
        Round { gateway, which, clock, place, reply_for }
    }
}

/// One packet of a login: what it takes up, and how it is answered.
pub(super) struct Round {
    pub(super) gateway: usize,
    pub(super) which: Which,
    pub(super) clock: LoginClock,
    pub(super) place: Place,
    pub(super) reply_for: Reply,
}

/// What a login takes up while it is undecided: a place among those of its gateway, and one in the retransmission cache. Dropped, it is free
/// again, whatever has ended the login, a panic included; then a resend begins anew.
pub(super) struct Place {
    inner: Arc<Inner>,
    pub(super) live: Arc<LiveSite>,
    gateway: usize,
    pub(super) key: RequestKey,
    /// The EAP conversation that was taken out for it.
    pub(super) conversation: Option<ConversationState>,
}

impl Drop for Place {
    fn drop(&mut self) {
        if let Some(counter) = self.live.in_flight.get(self.gateway) {
            counter.fetch_sub(1, Ordering::Relaxed);
        }
        if std::thread::panicking() {
            metrics::panicked();
            tracing::error!(sender = %self.key.sender, "a login could not be decided; please report what was logged before this");
        }
        if let Some(state) = &self.conversation {
            self.inner.conversations.give_up(state);
        }
        // Nothing happens where it was decided.
        let mut replies = self.inner.replies.lock().unwrap_or_else(PoisonError::into_inner);
        replies.forget(&self.key);
    }
}

impl Inner {
    /// One datagram: everything that can be said without waiting.
    fn receive(self: &Arc<Self>, datagram: &[u8], sender: SocketAddr) {
        let in_force = || self.shared.live.load_full();
        let Some(live) = self.rehearsed.as_ref().map(|rehearsed| Arc::clone(&rehearsed.live)).or_else(in_force) else {
            return metrics::dropped_packet("no-site");
        };
        let Some(gateway) = self.gateway(&live, sender) else {
            // RFC 2865 section 3: a request from a client without a shared secret is dropped in silence.
            return self.drop_packet(&live, datagram, None, sender, Cause::GatewayUnknown, format!("{} bytes", datagram.len()));
        };
        let packet = match Packet::parse(datagram) {
            Ok(packet) => packet,
            Err(error) => return self.drop_packet(&live, datagram, Some(gateway), sender, Cause::PacketMalformed, error.to_string()),
        };
        if !matches!(packet.code(), Code::AccessRequest | Code::StatusServer) {
            // RFC 2865 section 3: an invalid code is dropped in silence.
            let said = format!("{} is not accepted at this door", packet.code());
            return self.drop_packet(&live, datagram, Some(gateway), sender, Cause::PacketMalformed, said);
        }
        let policy = live.site.gateways.get(gateway).map_or(IntegrityPolicy::Required, |gateway| gateway.integrity);
        let Some(secret) = live.secrets.get(gateway) else { return };
        match secret.authenticate(packet, policy) {
            Ok((authentic, which)) => {
                if secret.next.is_some() {
                    self.note_use(&live, gateway, which);
                }
                self.arrive(Arrived { gateway, sender, authentic, which, live: Arc::clone(&live) });
            }
            // RFC 3579 section 3.2: a missing or wrong Message-Authenticator is dropped in silence.
            Err(why) => self.drop_packet(&live, datagram, Some(gateway), sender, cause_of(why), why.to_string()),
        }
    }

    /// Notes with which value of its secret a gateway comes, while two count.
    fn note_use(&self, live: &LiveSite, gateway: usize, which: Which) {
        let (Some(gateway), Ok(mut rotations)) = (live.site.gateways.get(gateway), self.shared.rotations.lock()) else { return };
        let uses = rotations.entry(gateway.name.clone()).or_default();
        let now = Some(clock::now().micros());
        match which {
            Which::Current => uses.0 = now,
            Which::Next => uses.1 = now,
        }
    }

    fn gateway(&self, live: &LiveSite, sender: SocketAddr) -> Option<usize> {
        match &self.rehearsed {
            Some(rehearsed) => live.site.gateway_named(&rehearsed.gateway).filter(|_| rehearsed.asker == sender),
            None => live.gateway_at(sender.ip()),
        }
    }

    fn arrive(self: &Arc<Self>, arrived: Arrived<'_>) {
        let packet = arrived.authentic.packet();
        let Some(secret) = arrived.live.secrets.get(arrived.gateway).map(|secret| secret.of(arrived.which)) else { return };
        let reply_for = Reply::to(&arrived.authentic);
        if packet.code() == Code::StatusServer {
            metrics::status();
            if let Some(bytes) = reply_for.alive(secret) {
                self.send(&bytes, arrived.sender);
            }
            return;
        }
        let key = RequestKey::of(packet, arrived.sender);
        let arrival = self.replies.lock().map(|mut replies| replies.arrive(key, clock::now()));
        match arrival {
            Ok(Arrival::New { conflicts }) => {
                if conflicts {
                    metrics::conflicting_request();
                }
                self.begin(arrived, key, reply_for);
            }
            Ok(Arrival::InFlight) => metrics::resend("absorbed"),
            Ok(Arrival::Finished(reply)) => {
                metrics::resend("answered again");
                if let Some(reply) = reply {
                    self.send(&reply, arrived.sender);
                }
            }
            Ok(Arrival::Full) | Err(_) => {
                let said = "the door's limit of concurrent logins is reached".to_owned();
                self.drop_packet(&arrived.live, packet.bytes(), Some(arrived.gateway), arrived.sender, Cause::Overloaded, said);
            }
        }
    }

    /// Begins a login. The limits on logins in flight bound the number of tasks.
    fn begin(self: &Arc<Self>, arrived: Arrived<'_>, key: RequestKey, reply_for: Reply) {
        let Arrived { live, gateway, sender, authentic, which } = arrived;
        let (Some(counter), Some(settings), Some(secret)) =
            (live.in_flight.get(gateway), live.site.gateways.get(gateway), live.secrets.get(gateway))
        else {
            return;
        };
        let before = counter.fetch_add(1, Ordering::Relaxed);
        let place = Place { inner: Arc::clone(self), live: Arc::clone(&live), gateway, key, conversation: None };
        if before >= settings.logins_in_flight {
            // Nothing of it stays: a retry may be decided as soon as there is room.
            drop(place);
            return self.drop_packet(
                &live,
                authentic.packet().bytes(),
                Some(gateway),
                sender,
                Cause::Overloaded,
                "the gateway's limit of concurrent logins is reached".into(),
            );
        }
        let clock = LoginClock::start();
        let port = if self.rehearsed.is_some() { 0 } else { self.port };
        let origin = self.origin();
        if authentic.is_signed() {
            secret.seen.prove();
        }
        let secret_proved = secret.seen.is_proved();
        let arrival = RequestArrival { gateway, sender, port, origin, secret_proved };
        let request = radius::read(&authentic, secret.of(which), arrival);
        let round = Round { gateway, which, clock, place, reply_for };
        match message_in(authentic.packet()) {
            Some(message) => self.eap_packet(live, authentic.packet(), &message, request, round),
            None => self.begin_login(live, request, round, None),
        }
    }

    pub(super) fn begin_login(self: &Arc<Self>, live: Arc<LiveSite>, request: Request, round: Round, eap: Option<Box<Open>>) {
        let Round { gateway, which, clock, place, reply_for } = round;
        let login = Box::new(Login::begin(Arc::clone(&live.site), request, ending::reference(), live.revision, clock.now()));
        let decision = Box::new(Decision { live, gateway, which, clock, place, reply_for, eap });
        if self.rehearsed.is_some() {
            drop(tokio::spawn(Arc::clone(self).decide(login, decision)));
        } else {
            self.go_on(login, decision);
        }
    }

    /// Goes on with a login as far as memory can tell. One that must wait for anybody becomes a task, but for a code that is being marked:
    /// it goes on from there when its commit is done.
    fn go_on(self: &Arc<Self>, mut login: Box<Login>, decision: Box<Decision>) {
        let clock = decision.clock;
        while let Next::Ask(need) = login.next() {
            let now = clock.now();
            match at_once(need, &decision.live, &self.shared, now) {
                Ok(fact) => login.learn(fact, now),
                Err(Need::MarkCode(mark)) => {
                    let inner = Arc::clone(self);
                    return mark_code_then(mark, &self.shared, now, move |answer| {
                        login.learn(Fact::Mark(answer), clock.now());
                        inner.go_on(login, decision);
                    });
                }
                // Its task asks for the same again.
                Err(_) => break,
            }
        }
        if matches!(login.next(), Next::Decided) {
            self.conclude(login, *decision);
        } else {
            drop(tokio::spawn(Arc::clone(self).decide(login, decision)));
        }
    }

    async fn decide(self: Arc<Self>, mut login: Box<Login>, decision: Box<Decision>) {
        #[cfg(test)]
        tests::break_down();
        drive(&mut login, &decision.live, &self.shared, &decision.clock, self.stage()).await;
        self.conclude(login, *decision);
    }

    /// Answers a login that is decided, and keeps its trace.
    fn conclude(&self, login: Box<Login>, mut decision: Decision) {
        match decision.eap.take() {
            None => self.answer(login, decision, None),
            Some(open) => match self.tell_result(login, open, decision.clock.now()) {
                Told::Now(login, reply) => self.answer(login, decision, Some(reply)),
                Told::First { packet, state } => self.send_eap(&packet, &state, decision.into()),
            },
        }
    }

    /// The last packet of a round that ends a login, or asks for more.
    pub(super) fn answer(&self, login: Box<Login>, decision: Decision, eap: Option<EapReply>) {
        let Decision { live, gateway, which, clock, place, reply_for, eap: _ } = decision;
        let key = place.key;
        // A stop waits for the trace of whoever has an answer.
        let _concluding = Concluding::begin(&self.concluding);
        let absorbed = self.replies.lock().map_or_else(|_| Resends::default(), |replies| replies.absorbed(&key, clock.now()));
        let (verdict, mut trace) = login.finish(absorbed, clock.now());
        let secret = live.secrets.get(gateway).map(|secret| secret.of(which));
        let encode = |secret| match &eap {
            Some(EapReply::Asks { packet, state }) => reply_for.eap_request(packet, state, secret),
            Some(EapReply::Last(answer)) => reply_for.encode_eap(&verdict, answer, &mut trace, secret, random),
            None => reply_for.encode(&verdict, &mut trace, secret, random),
        };
        let bytes: Option<Arc<[u8]>> = secret.and_then(encode).map(Arc::from);
        self.finish(key, bytes.clone());
        if let Some(bytes) = &bytes {
            self.send(bytes, key.sender);
        }
        drop(place);
        if let Some(secret) = live.secrets.get(gateway) {
            match trace.cause {
                None if trace.outcome == Outcome::Accepted => secret.seen.prove(),
                Some(Cause::SecretDiffers) => secret.seen.doubt(),
                Some(Cause::PasswordUnreadable) if trace.person.is_none() => secret.seen.doubt(),
                _ => {}
            }
        }
        ending::finish(&verdict, trace, &self.shared, self.stage(), clock.now());
    }

    pub(super) fn stage(&self) -> Option<&Stage> {
        self.rehearsed.as_ref().map(|rehearsed| &*rehearsed.stage)
    }

    fn origin(&self) -> Origin {
        if self.rehearsed.is_some() { Origin::Rehearsal } else { Origin::Gateway }
    }

    pub(super) fn finish(&self, key: RequestKey, reply: Option<Arc<[u8]>>) {
        if let Ok(mut replies) = self.replies.lock() {
            replies.finish(key, reply, clock::now());
            metrics::in_flight(replies.in_flight());
        }
    }

    pub(super) fn send(&self, bytes: &[u8], to: SocketAddr) {
        // A full send buffer loses the packet as a network would; the gateway's resend gets the same bytes.
        if let Err(error) = self.socket.try_send_to(bytes, to) {
            tracing::debug!(%error, %to, "a reply could not be sent");
            metrics::dropped_packet("send-failed");
        }
    }

    /// Counts a packet that gets no answer; for a known gateway it also leaves a trace, a few a second at most.
    fn drop_packet(&self, live: &LiveSite, datagram: &[u8], gateway: Option<usize>, sender: SocketAddr, cause: Cause, said: String) {
        metrics::dropped_packet(cause.slug());
        let name = gateway.and_then(|gateway| live.site.gateways.get(gateway)).map(|gateway| gateway.name.clone()).unwrap_or_default();
        if self.rehearsed.is_some() {
            // Nobody knocked: the run sent it on purpose, and wants to hear of it.
            return ending::keep(self.silent_trace(live, gateway, sender, cause, said), &self.shared, self.stage());
        }
        let guess = || if gateway.is_none() { guess(datagram, live) } else { None };
        self.knocks.add(sender.ip(), cause, &name, &said, guess);
        if gateway.is_some() && self.may_trace(&name, cause) {
            let trace = self.silent_trace(live, gateway, sender, cause, said);
            metrics::login(&trace);
            ending::keep(trace, &self.shared, None);
        }
    }

    fn may_trace(&self, gateway: &str, cause: Cause) -> bool {
        let Ok(mut silent) = self.silent.lock() else { return false };
        let key = (gateway.to_owned(), cause);
        let may = silent.get(&key).is_none_or(|last| last.elapsed() >= SILENT_TRACE_EVERY);
        if may {
            silent.insert(key, Instant::now());
        }
        may
    }

    fn silent_trace(&self, live: &LiveSite, gateway: Option<usize>, sender: SocketAddr, cause: Cause, said: String) -> Trace {
        let settings = gateway.and_then(|gateway| live.site.gateways.get(gateway));
        let chain = settings.and_then(|settings| settings.chains.first()).and_then(|chain| live.site.chains.get(*chain));
        let step = |what: &'static str, tone, said| Step {
            hop: Hop::Gateway,
            what: what.into(),
            tone,
            at_us: 0,
            took_us: 0,
            said,
            line: settings.map(|settings| settings.line),
        };
        Trace {
            reference: ending::reference(),
            began_us: clock::now().micros(),
            took_us: 0,
            origin: self.origin(),
            gateway: settings.map(|settings| settings.name.clone()).unwrap_or_default(),
            sender: sender.to_string(),
            chain: chain.map(|chain| chain.name.clone()).unwrap_or_default(),
            typed_name: String::new(),
            person: None,
            method: "none".into(),
            source: None,
            outcome: Outcome::Silent,
            cause: Some(cause),
            grant: None,
            factor: None,
            waived: None,
            facts: Box::default(),
            revision: live.revision,
            steps: vec![
                step("request", Tone::Bad, said),
                step("silence", Tone::Note, "no answer is sent: the packet is silently discarded".into()),
            ],
        }
    }
}

fn cause_of(why: NotAuthentic) -> Cause {
    match why {
        NotAuthentic::Missing => Cause::IntegrityMissing,
        NotAuthentic::SecretDiffers | NotAuthentic::Report => Cause::SecretDiffers,
        NotAuthentic::Altered | NotAuthentic::Response => Cause::PacketAltered,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_engine::live::secret_purpose;
    use bivector_site::{Known, Site};
    use bivector_store::records::{Records, Sync};
    use bivector_store::seal::Seal;
    use bivector_wire::{AttributeType, Message, SharedSecret, hide_password};
    use std::sync::atomic::AtomicBool;

    static BREAKS: AtomicBool = AtomicBool::new(false);

    /// Stands for a mistake of ours somewhere in a login.
    pub(super) fn break_down() {
        assert!(!BREAKS.swap(false, Ordering::SeqCst), "as it is meant to");
    }

    const SITE: &str = r#"
format = 1
[doors.radius]
listen = ["127.0.0.1:0"]
[[gateways]]
name = "breakwater"
from = ["127.0.0.1"]
secret = "gateway/breakwater"
logins_in_flight = 1
[[chains]]
name = "staff"
gateways = ["breakwater"]
methods = ["pap", "eap-gtc"]
forms = ["password"]
first = ["roster"]
second = []
[[rules]]
name = "everybody"
chain = "staff"
grant = "all"
[[grants]]
name = "all"
"#;

    #[tokio::test(flavor = "multi_thread")]
    async fn a_login_that_breaks_down_gives_its_place_back_and_a_resend_begins_anew() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let seal = Arc::new(Seal::load(&folder.path().join("seal.key"), true).unwrap());
        let sealed = seal.seal(&secret_purpose("gateway/breakwater"), b"a-secret-of-breakwater");
        records.set_secret("gateway/breakwater".into(), sealed, "owner".into(), clock::now()).await.unwrap();
        let site = Site::read(SITE, &Known::default());
        let site = site.0.unwrap_or_else(|| panic!("{:?}", site.1));
        let live = Arc::new(LiveSite::prepare(site, 1, &records, &seal, folder.path()).unwrap());
        let shared = Arc::new(Shared::new(folder.path().to_owned(), records, seal).unwrap());
        shared.live.store(Some(Arc::clone(&live)));
        let door = RadiusDoor::open("127.0.0.1:0".parse().unwrap(), 1, Duration::from_secs(30), &shared).unwrap();
        let secret = SharedSecret::new(b"a-secret-of-breakwater");
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"nobody");
        message.push(AttributeType::UserPassword, &hide_password(b"mussel", &[7; 16], &secret).unwrap());
        let packet = message.sign_request(1, &[7; 16], &secret).unwrap();
        let gateway = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        BREAKS.store(true, Ordering::SeqCst);
        gateway.send_to(&packet, door.address()).await.unwrap();
        let free = async || {
            let held = || door.in_flight() > 0 || live.in_flight[0].load(Ordering::SeqCst) > 0 || door.inner.conversations.count() > 0;
            while BREAKS.load(Ordering::SeqCst) || held() {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        tokio::time::timeout(Duration::from_secs(10), free()).await.expect("nothing of it stays");
        let mut reply = [0; 4096];
        gateway.send_to(&packet, door.address()).await.unwrap();
        let answered = tokio::time::timeout(Duration::from_secs(10), gateway.recv(&mut reply)).await;
        assert_eq!((answered.unwrap().is_ok(), reply[0]), (true, 3), "the same packet is decided the second time");
        // The same inside EAP: the conversation is gone too.
        let eap = |identifier: u8, response: &[u8], state: &[u8]| {
            let mut message = Message::new(Code::AccessRequest);
            message.push(AttributeType::UserName, b"nobody");
            message.push(AttributeType::EapMessage, response);
            if !state.is_empty() {
                message.push(AttributeType::State, state);
            }
            message.sign_request(identifier, &[identifier; 16], &secret).unwrap()
        };
        gateway.send_to(&eap(2, b"\x02\x01\x00\x0b\x01nobody", &[]), door.address()).await.unwrap();
        let length = gateway.recv(&mut reply).await.unwrap();
        let challenge = Packet::parse(&reply[..length]).unwrap();
        let (asked, state) = (message_in(&challenge).unwrap(), challenge.first(AttributeType::State).unwrap().value.to_vec());
        assert_eq!((asked[4], door.inner.conversations.count()), (bivector_wire::eap::GTC, 1));
        let typed = eap(3, &bivector_wire::eap::response(asked[1], bivector_wire::eap::GTC, b"mussel"), &state);
        BREAKS.store(true, Ordering::SeqCst);
        gateway.send_to(&typed, door.address()).await.unwrap();
        tokio::time::timeout(Duration::from_secs(10), free()).await.expect("nothing of it stays");
        door.close(Duration::from_secs(1)).await;
    }
}
