//! A stand-in push service (RFC 8030): it checks what the standards want of a message, keeps it as long as its TTL says, replaces it by its
//! topic, and delivers it to robot handsets, which decrypt it as a browser does.

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use bivector_push::{Notice, Receiver, check_authorization, decrypt};
use data_encoding::BASE64URL_NOPAD;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::net::TcpListener;
use tokio::sync::Notify;
use tokio::task::JoinHandle;
use tokio::time::Instant;

/// The longest message that is taken, in bytes (RFC 8030 section 7.2).
const MAX_MESSAGE: usize = 4096;
/// Messages that wait for one handset at most.
const KEPT: usize = 16;

/// What the service answers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum PushAnswers {
    /// 201, and delivers.
    #[default]
    Deliver,
    /// This status, and delivers nothing: 404, 410, 500.
    Status(u16),
    /// 429 with so many seconds under Retry-After.
    Busy(u64),
    /// 201 with so many bytes of text.
    Talk(usize),
    /// A redirect to itself.
    Redirect,
    /// Nothing at all.
    Silent,
}

/// How the service behaves.
#[derive(Debug, Clone, Copy, Default)]
pub struct PushHabits {
    /// What it answers.
    pub answers: PushAnswers,
    /// How much later it delivers: phones in a pocket are not woken at once.
    pub delay: Duration,
}

/// A message that has come, as its headers say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushMessage {
    /// The handset's name at this service.
    pub endpoint: String,
    /// How long it is kept, in seconds.
    pub ttl: u64,
    /// Its urgency.
    pub urgency: String,
    /// Its topic.
    pub topic: String,
    /// The contact of the sender.
    pub contact: String,
    /// How long after 1970 it came.
    pub at: Duration,
    /// Its bytes, encrypted.
    pub body: Bytes,
}

#[derive(Debug, Default)]
struct Inbox {
    /// The key that the handset has subscribed with.
    key: String,
    waiting: Vec<(Instant, Instant, PushMessage)>,
    arrived: Arc<Notify>,
}

#[derive(Debug, Default)]
struct Inside {
    boxes: HashMap<String, Inbox>,
    habits: PushHabits,
    seen: Vec<PushMessage>,
    faults: Vec<String>,
    count: u64,
}

/// A running push service. Dropped, it stops.
#[derive(Debug)]
pub struct StandInPush {
    address: SocketAddr,
    inside: Arc<Mutex<Inside>>,
    task: JoinHandle<()>,
}

impl Drop for StandInPush {
    fn drop(&mut self) {
        self.task.abort();
    }
}

#[derive(Debug, Clone)]
struct Post {
    inside: Arc<Mutex<Inside>>,
    origin: String,
}

impl StandInPush {
    /// Starts it (port 0 for any).
    ///
    /// # Errors
    /// A socket's.
    pub async fn start(address: SocketAddr, habits: PushHabits) -> io::Result<Self> {
        let listener = TcpListener::bind(address).await?;
        let address = listener.local_addr()?;
        let inside = Arc::new(Mutex::new(Inside { habits, ..Inside::default() }));
        let post_state = Post { inside: Arc::clone(&inside), origin: format!("http://{address}") };
        let router = Router::new().route("/send/{endpoint}", post(take)).layer(DefaultBodyLimit::max(MAX_MESSAGE)).with_state(post_state);
        let task = tokio::spawn(async move {
            if let Err(error) = axum::serve(listener, router).await {
                tracing::debug!(%error, "the push service stopped");
            }
        });
        Ok(StandInPush { address, inside, task })
    }

    /// Its address as a site lists it, such as `http://127.0.0.1:8490`.
    pub fn origin(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Behaves otherwise from now on.
    pub fn behave(&self, habits: PushHabits) {
        lock(&self.inside).habits = habits;
    }

    /// Messages that were taken, the oldest first.
    pub fn seen(&self) -> Vec<PushMessage> {
        lock(&self.inside).seen.clone()
    }

    /// How many messages were taken.
    pub fn count(&self) -> u64 {
        lock(&self.inside).count
    }

    /// What was wrong with messages that were not taken.
    pub fn faults(&self) -> Vec<String> {
        lock(&self.inside).faults.clone()
    }

    /// Subscribes a handset with the service's key, as a browser does; what it keeps of that.
    ///
    /// # Errors
    /// No random numbers.
    pub fn subscribe(&self, key: &str) -> io::Result<RobotSubscription> {
        let (private, auth, name) = (drawn::<32>()?, drawn::<16>()?, drawn::<12>()?);
        let receiver = Receiver::new(&private, auth).ok_or_else(|| io::Error::other("these random bytes are no private key"))?;
        let name = BASE64URL_NOPAD.encode(&name);
        let arrived = Arc::new(Notify::new());
        let own = Inbox { key: key.to_owned(), waiting: Vec::new(), arrived: Arc::clone(&arrived) };
        lock(&self.inside).boxes.insert(name.clone(), own);
        let endpoint = format!("{}/send/{name}", self.origin());
        Ok(RobotSubscription { endpoint, name, receiver, key: key.to_owned(), inside: Arc::clone(&self.inside), arrived })
    }

    /// Forgets a handset: its messages are answered with 410 from now on.
    pub fn forget(&self, subscription: &RobotSubscription) {
        lock(&self.inside).boxes.remove(&subscription.name);
    }
}

fn lock(inside: &Mutex<Inside>) -> MutexGuard<'_, Inside> {
    inside.lock().unwrap_or_else(PoisonError::into_inner)
}

fn drawn<const N: usize>() -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    ring::rand::SecureRandom::fill(&ring::rand::SystemRandom::new(), &mut bytes).map_err(|_| io::Error::other("no random numbers"))?;
    Ok(bytes)
}

/// What a robot handset keeps of its subscription.
#[derive(Debug)]
pub struct RobotSubscription {
    /// The address to send to.
    pub endpoint: String,
    name: String,
    receiver: Receiver,
    key: String,
    inside: Arc<Mutex<Inside>>,
    arrived: Arc<Notify>,
}

impl RobotSubscription {
    /// As the handset protocol takes it.
    pub fn request(&self) -> Value {
        json!({ "endpoint": self.endpoint, "p256dh": self.receiver.p256dh(), "auth": self.receiver.auth(), "key": self.key })
    }

    /// The next message, decrypted, once it is delivered.
    pub async fn next(&self) -> Option<Notice> {
        loop {
            let (found, due) = {
                let mut inside = lock(&self.inside);
                let own = inside.boxes.get_mut(&self.name)?;
                let now = Instant::now();
                own.waiting.retain(|(_, ends, _)| *ends > now);
                let at = own.waiting.iter().position(|(due, ..)| *due <= now);
                (at.map(|at| own.waiting.remove(at).2), own.waiting.iter().map(|(due, ..)| *due).min())
            };
            if let Some(message) = found {
                match decrypt(&message.body, &self.receiver).ok().and_then(|plain| Notice::read(&plain)) {
                    Some(notice) => return Some(notice),
                    None => lock(&self.inside).faults.push("a message does not decrypt".into()),
                }
                continue;
            }
            match due {
                Some(due) => tokio::select! {
                    () = tokio::time::sleep_until(due) => {}
                    () = self.arrived.notified() => {}
                },
                None => self.arrived.notified().await,
            }
        }
    }
}

async fn take(State(post): State<Post>, Path(endpoint): Path<String>, headers: HeaderMap, body: Bytes) -> Response {
    let answers = lock(&post.inside).habits.answers;
    match answers {
        PushAnswers::Silent => std::future::pending::<()>().await,
        PushAnswers::Status(status) => return StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR).into_response(),
        PushAnswers::Busy(seconds) => return (StatusCode::TOO_MANY_REQUESTS, [("retry-after", seconds.to_string())]).into_response(),
        PushAnswers::Redirect => return (StatusCode::FOUND, [("location", post.origin)]).into_response(),
        PushAnswers::Deliver | PushAnswers::Talk(_) => {}
    }
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let mut inside = lock(&post.inside);
    match keep(&mut inside, &post.origin, endpoint, &headers, body, now) {
        Ok(()) => {}
        Err((status, fault)) => {
            inside.faults.push(fault);
            return status.into_response();
        }
    }
    match answers {
        PushAnswers::Talk(bytes) => (StatusCode::CREATED, Body::from(vec![b'.'; bytes])).into_response(),
        _ => StatusCode::CREATED.into_response(),
    }
}

/// Keeps a message, if it is as the standards want it.
fn keep(
    inside: &mut Inside,
    origin: &str,
    endpoint: String,
    headers: &HeaderMap,
    body: Bytes,
    now: Duration,
) -> Result<(), (StatusCode, String)> {
    let header = |name: &str| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
    let bad = |fault: &str| (StatusCode::BAD_REQUEST, fault.to_owned());
    let habits = inside.habits;
    let own = inside.boxes.get_mut(&endpoint).ok_or((StatusCode::GONE, "nobody has this address".to_owned()))?;
    let (key, claims) =
        check_authorization(&header("authorization"), origin, now.as_secs()).map_err(|error| (StatusCode::FORBIDDEN, error.to_string()))?;
    if key != own.key {
        return Err((StatusCode::FORBIDDEN, "signed with another key than the handset has subscribed with".into()));
    }
    if !claims.sub.starts_with("mailto:") && !claims.sub.starts_with("https:") {
        return Err(bad("the token names no contact"));
    }
    if header("content-encoding") != "aes128gcm" {
        return Err(bad("the content encoding is not aes128gcm"));
    }
    let ttl: u64 = header("ttl").parse().map_err(|_| bad("there is no TTL"))?;
    let topic = header("topic");
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_';
    if topic.len() > 32 || !topic.bytes().all(plain) {
        return Err(bad("the topic is longer than 32 characters, or not of the base64url alphabet"));
    }
    let urgency = header("urgency");
    let message = PushMessage { endpoint, ttl, urgency, topic, contact: claims.sub, at: now, body };
    if !message.topic.is_empty() {
        own.waiting.retain(|(_, _, other)| other.topic != message.topic);
    }
    if own.waiting.len() >= KEPT {
        own.waiting.remove(0);
    }
    let at = Instant::now();
    own.waiting.push((at + habits.delay, at + Duration::from_secs(ttl.max(1)), message.clone()));
    own.arrived.notify_one();
    inside.count += 1;
    if inside.seen.len() < 1000 {
        inside.seen.push(message);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_push::{Claims, NoticeKind, Recipient, SigningKey, authorization, encrypt};

    fn key() -> SigningKey {
        SigningKey::from_bytes(&[7; 32]).unwrap()
    }

    fn notice(id: &str) -> Notice {
        Notice {
            kind: NoticeKind::Approval,
            id: id.into(),
            ticket: String::new(),
            title: String::new(),
            body: String::new(),
            language: String::new(),
            buttons: None,
            until_us: 0,
            now_us: 0,
        }
    }

    /// Sends as the product does; with what is changed on purpose.
    async fn send(push: &StandInPush, to: &RobotSubscription, id: &str, change: impl FnOnce(&mut HeaderMap)) -> u16 {
        let request = to.request();
        let recipient = Recipient::read(request["p256dh"].as_str().unwrap(), request["auth"].as_str().unwrap()).unwrap();
        let body = encrypt(&notice(id).bytes(), 0, &recipient, &drawn().unwrap(), &drawn().unwrap()).unwrap();
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs();
        let claims = Claims { aud: push.origin(), exp: now + 60, sub: "mailto:lab@northmoor.example".into() };
        let mut headers = HeaderMap::new();
        headers.insert("authorization", authorization(&key(), &claims).parse().unwrap());
        headers.insert("content-encoding", "aes128gcm".parse().unwrap());
        headers.insert("ttl", "45".parse().unwrap());
        headers.insert("topic", "sign-in".parse().unwrap());
        headers.insert("urgency", "high".parse().unwrap());
        change(&mut headers);
        let client = reqwest::Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        client.post(&to.endpoint).headers(headers).body(body).send().await.unwrap().status().as_u16()
    }

    async fn start() -> StandInPush {
        let _ = rustls::crypto::ring::default_provider().install_default();
        StandInPush::start(SocketAddr::from(([127, 0, 0, 1], 0)), PushHabits::default()).await.unwrap()
    }

    #[tokio::test]
    async fn a_good_message_is_delivered_to_its_handset_only() {
        let push = start().await;
        let (own, other) = (push.subscribe(&key().public()).unwrap(), push.subscribe(&key().public()).unwrap());
        assert_eq!(send(&push, &own, "A", |_| {}).await, 201);
        assert_eq!(own.next().await.unwrap().id, "A");
        let nothing = tokio::time::timeout(Duration::from_millis(50), other.next()).await;
        assert!(nothing.is_err());
        let seen = push.seen();
        assert_eq!((seen[0].ttl, seen[0].urgency.as_str(), seen[0].contact.as_str()), (45, "high", "mailto:lab@northmoor.example"));
    }

    #[tokio::test]
    async fn a_newer_message_of_the_same_topic_replaces_one_that_waits() {
        let push = start().await;
        let own = push.subscribe(&key().public()).unwrap();
        send(&push, &own, "A", |_| {}).await;
        send(&push, &own, "B", |_| {}).await;
        assert_eq!(own.next().await.unwrap().id, "B");
        assert!(tokio::time::timeout(Duration::from_millis(50), own.next()).await.is_err());
        assert_eq!(push.count(), 2);
    }

    #[tokio::test]
    async fn what_the_standards_forbid_is_refused_with_its_reason() {
        let push = start().await;
        let own = push.subscribe(&key().public()).unwrap();
        let foreign = push.subscribe("BA1Hxzyi1RUM1b5wjxsn7nGxAszw2u61m164i3MrAIxHF6YK5h4SDYic-dRuU_RCPCfA5aq9ojSwk5Y2EmClBPs").unwrap();
        assert_eq!(send(&push, &own, "A", |headers| drop(headers.remove("ttl"))).await, 400);
        assert_eq!(send(&push, &own, "A", |headers| drop(headers.remove("authorization"))).await, 403);
        assert_eq!(send(&push, &own, "A", |headers| drop(headers.insert("topic", "a topic".parse().unwrap()))).await, 400);
        assert_eq!(send(&push, &own, "A", |headers| drop(headers.insert("content-encoding", "gzip".parse().unwrap()))).await, 400);
        assert_eq!(send(&push, &foreign, "A", |_| {}).await, 403);
        push.forget(&own);
        assert_eq!(send(&push, &own, "A", |_| {}).await, 410);
        assert_eq!(push.faults().len(), 6, "{:?}", push.faults());
        assert!(own.next().await.is_none(), "a forgotten handset hears nothing");
    }

    #[tokio::test]
    async fn it_answers_as_it_is_told() {
        let push = start().await;
        let own = push.subscribe(&key().public()).unwrap();
        for (answers, status) in [
            (PushAnswers::Status(410), 410),
            (PushAnswers::Status(500), 500),
            (PushAnswers::Busy(7), 429),
            (PushAnswers::Redirect, 302),
            (PushAnswers::Talk(100_000), 201),
        ] {
            push.behave(PushHabits { answers, ..PushHabits::default() });
            assert_eq!(send(&push, &own, "A", |_| {}).await, status, "{answers:?}");
        }
    }

    #[tokio::test]
    async fn a_phone_that_sleeps_hears_later() {
        let push = start().await;
        let own = push.subscribe(&key().public()).unwrap();
        push.behave(PushHabits { delay: Duration::from_millis(120), ..PushHabits::default() });
        let began = Instant::now();
        send(&push, &own, "A", |_| {}).await;
        own.next().await.unwrap();
        assert!(began.elapsed() >= Duration::from_millis(100));
    }
}
