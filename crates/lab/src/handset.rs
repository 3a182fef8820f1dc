//! Robot handsets: they enrol and answer by the real protocol, after a drawn time. Thousands fit into one process: they share one
//! pool of connections, and each is a key, a session and a turn to look.

use crate::push::{RobotSubscription, StandInPush};
use bivector_push::NoticeKind;
use data_encoding::BASE64URL_NOPAD;
use futures_util::StreamExt;
use reqwest::{Client, Method, StatusCode};
use ring::rand::{SecureRandom, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use serde_json::{Value, json};
use std::str::FromStr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::time::sleep;

/// How long a robot waits for a test message.
const TEST_WAIT: Duration = Duration::from_secs(10);

/// What a robot does with an approval.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answers {
    /// Yes; with numbers, the first of them, which is right once in three times.
    Approve,
    /// No.
    Deny,
    /// Not mine.
    NotMe,
    /// Nothing.
    Ignore,
}

impl FromStr for Answers {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        Ok(match text {
            "approve" => Answers::Approve,
            "deny" => Answers::Deny,
            "not-me" => Answers::NotMe,
            "ignore" => Answers::Ignore,
            _ => return Err(format!("`{text}` is none of approve, deny, not-me and ignore")),
        })
    }
}

impl Answers {
    fn word(self) -> &'static str {
        match self {
            Answers::Approve => "approve",
            Answers::Deny => "deny",
            Answers::NotMe => "not-me",
            Answers::Ignore => "ignore",
        }
    }
}

/// How a robot behaves.
#[derive(Debug, Clone, Copy)]
pub struct HandsetHabits {
    /// What it does.
    pub answers: Answers,
    /// How long it takes at least and at most; each time is drawn between the two.
    pub after: (Duration, Duration),
}

/// What keeps a robot from going on.
#[derive(Debug, thiserror::Error)]
pub enum HandsetError {
    /// The service could not be reached.
    #[error("the service could not be reached: {0}")]
    Unreachable(#[from] reqwest::Error),
    /// It said no.
    #[error("{status}: {said}")]
    Refused {
        /// The status.
        status: StatusCode,
        /// What it said.
        said: String,
    },
    /// Its answer could not be read, or no key could be made.
    #[error("{0}")]
    Strange(&'static str),
}

/// A handset that is enrolled.
#[derive(Debug)]
pub struct RobotHandset {
    server: String,
    http: Client,
    key: EcdsaKeyPair,
    /// The person's key.
    pub person: String,
    /// Its record number.
    pub device: u64,
    /// What an operator must type before it counts.
    pub reference: Option<String>,
    session: String,
}

/// Texts that are signed, as the protocol has them.
fn enrolment_text(invitation: &str, public_key: &str, label: &str) -> String {
    format!("bivector handset enrol 1\n{invitation}\n{public_key}\n{label}")
}

/// An answer as it is signed: decision, number and all that was shown.
fn answer_text(decision: &str, number: Option<u64>, shown: &str) -> String {
    format!("bivector handset answer 1\n{decision}\n{}\n{shown}", number.map(|number| number.to_string()).unwrap_or_default())
}

async fn call(http: &Client, method: Method, url: String, session: &str, body: Option<Value>) -> Result<Value, HandsetError> {
    let mut request = http.request(method, url);
    if !session.is_empty() {
        request = request.bearer_auth(session);
    }
    if let Some(body) = body {
        request = request.json(&body);
    }
    let answer = request.send().await?;
    let status = answer.status();
    let body: Value = serde_json::from_slice(&answer.bytes().await?).unwrap_or(Value::Null);
    match status.is_success() {
        true => Ok(body),
        false => Err(HandsetError::Refused { status, said: body["title"].as_str().unwrap_or_default().to_owned() }),
    }
}

impl RobotHandset {
    /// Makes a key and enrols with an invitation at a service such as `http://127.0.0.1:18080`.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn enrol(http: &Client, server: &str, invitation: &str, label: &str) -> Result<Self, HandsetError> {
        let random = SystemRandom::new();
        let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random);
        let key = made.and_then(|made| {
            EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, made.as_ref(), &random).map_err(|_| ring::error::Unspecified)
        });
        let key = key.map_err(|_| HandsetError::Strange("no key could be made"))?;
        let public = BASE64URL_NOPAD.encode(key.public_key().as_ref());
        let mut robot = RobotHandset {
            server: server.trim_end_matches('/').to_owned(),
            http: http.clone(),
            key,
            person: String::new(),
            device: 0,
            reference: None,
            session: String::new(),
        };
        let signature = robot.sign(&enrolment_text(invitation, &public, label))?;
        let body = json!({ "invitation": invitation, "label": label, "public_key": public, "signature": signature });
        let enrolled = robot.call(Method::POST, "/devices", Some(body)).await?;
        robot.person = enrolled["person"].as_str().ok_or(HandsetError::Strange("the enrolment names no person"))?.to_owned();
        robot.device = enrolled["device"].as_u64().ok_or(HandsetError::Strange("the enrolment names no device"))?;
        robot.reference = enrolled["reference"].as_str().map(str::to_owned);
        Ok(robot)
    }

    /// Begins a session: signs what the service asks it to.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn begin(&mut self) -> Result<(), HandsetError> {
        let asked = json!({ "person": self.person, "device": self.device });
        let challenge = self.call(Method::POST, "/challenge", Some(asked)).await?;
        let challenge = challenge["challenge"].as_str().unwrap_or_default();
        let signature = self.sign(&format!("bivector handset session 1\n{challenge}"))?;
        let begun = self.call(Method::POST, "/session", Some(json!({ "challenge": challenge, "signature": signature }))).await?;
        self.session = begun["session"].as_str().ok_or(HandsetError::Strange("no session came back"))?.to_owned();
        Ok(())
    }

    /// The session that it has begun, as it is sent with each call; empty before.
    pub fn session(&self) -> &str {
        &self.session
    }

    fn sign(&self, text: &str) -> Result<String, HandsetError> {
        let signed = self.key.sign(&SystemRandom::new(), text.as_bytes()).map_err(|_| HandsetError::Strange("nothing could be signed"))?;
        Ok(BASE64URL_NOPAD.encode(signed.as_ref()))
    }

    async fn call(&self, method: Method, path: &str, body: Option<Value>) -> Result<Value, HandsetError> {
        call(&self.http, method, format!("{}/handset/v1{path}", self.server), &self.session, body).await
    }

    /// What the handset knows of itself.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn me(&self) -> Result<Value, HandsetError> {
        self.call(Method::GET, "/me", None).await
    }

    /// What waits, as the text that is signed.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn waiting(&self) -> Result<Option<String>, HandsetError> {
        let waiting = self.call(Method::GET, "/approval", None).await?;
        Ok(waiting["shown"].as_str().map(str::to_owned))
    }

    /// Waits for the next approval over the line of events.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn next(&self) -> Result<String, HandsetError> {
        let request = self.http.get(format!("{}/handset/v1/events", self.server)).bearer_auth(&self.session);
        let mut stream = request.send().await?.error_for_status()?.bytes_stream();
        let mut seen = String::new();
        while let Some(chunk) = stream.next().await {
            seen.push_str(&String::from_utf8_lossy(&chunk?));
            while let Some(end) = seen.find("\n\n") {
                let event: String = seen.drain(..end + 2).collect();
                let data = event.lines().find_map(|line| line.strip_prefix("data: ")).unwrap_or_default();
                let data: Value = serde_json::from_str(data).unwrap_or(Value::Null);
                if let Some(shown) = data["shown"].as_str() {
                    return Ok(shown.to_owned());
                }
            }
        }
        Err(HandsetError::Strange("the service ended the line of events"))
    }

    /// Answers what was shown.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn answer(&self, shown: &str, answers: Answers, number: Option<u64>) -> Result<String, HandsetError> {
        let signature = self.sign(&answer_text(answers.word(), number, shown))?;
        self.answer_signed(shown, answers, number, &signature).await
    }

    /// Answers with a signature of somebody's choice, to see it refused.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn answer_signed(&self, shown: &str, answers: Answers, number: Option<u64>, signature: &str) -> Result<String, HandsetError> {
        let read: Value = serde_json::from_str(shown).unwrap_or(Value::Null);
        let id = read["id"].as_str().ok_or(HandsetError::Strange("what is shown has no number"))?;
        let body = json!({ "decision": answers.word(), "number": number, "signature": signature });
        let answered = self.call(Method::POST, &format!("/approvals/{id}"), Some(body)).await?;
        Ok(answered["outcome"].as_str().unwrap_or_default().to_owned())
    }

    /// The signature that would go with an answer.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub fn signature(&self, shown: &str, answers: Answers, number: Option<u64>) -> Result<String, HandsetError> {
        self.sign(&answer_text(answers.word(), number, shown))
    }

    /// Answers one approval as the habits say, and gives what came of it; nothing where it is ignored.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn act(&self, shown: &str, habits: HandsetHabits) -> Result<Option<String>, HandsetError> {
        sleep(drawn(habits.after)).await;
        if habits.answers == Answers::Ignore {
            return Ok(None);
        }
        let read: Value = serde_json::from_str(shown).unwrap_or(Value::Null);
        let number = (habits.answers == Answers::Approve).then(|| read["numbers"][0].as_u64()).flatten();
        self.answer(shown, habits.answers, number).await.map(Some)
    }
}

impl RobotHandset {
    /// Subscribes at a push service, takes the test message and confirms it, as a person does who sets up a phone. A phone that has
    /// confirmed one before gets none.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn subscribe(&self, push: &StandInPush) -> Result<RobotSubscription, HandsetError> {
        let offer = self.call(Method::GET, "/push", None).await?;
        let key = offer["key"].as_str().filter(|key| !key.is_empty()).ok_or(HandsetError::Strange("the site offers no push"))?;
        let subscription = push.subscribe(key).map_err(|_| HandsetError::Strange("no key could be made"))?;
        self.call(Method::PUT, "/push", Some(subscription.request())).await?;
        if self.push().await?["push"]["state"] == "ready" {
            return Ok(subscription);
        }
        let test = tokio::time::timeout(TEST_WAIT, subscription.next()).await.ok().flatten();
        let test = test.filter(|notice| notice.kind == NoticeKind::Test).ok_or(HandsetError::Strange("no test message came"))?;
        self.report(&test.ticket, "shown").await?;
        self.report(&test.ticket, "opened").await?;
        Ok(subscription)
    }

    /// What the service says of push to this handset.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn push(&self) -> Result<Value, HandsetError> {
        self.call(Method::GET, "/push", None).await
    }

    /// Brings a subscription of somebody's choice, to see what becomes of it.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn bring(&self, subscription: Value) -> Result<Value, HandsetError> {
        self.call(Method::PUT, "/push", Some(subscription)).await
    }

    /// Says why push does not work: `refused`, `unsupported` or `ended`.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn give_up_push(&self, state: &str) -> Result<(), HandsetError> {
        self.call(Method::DELETE, "/push", Some(json!({ "state": state }))).await.map(drop)
    }

    /// Reports a message by its ticket, without a session: `shown` or `opened`.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn report(&self, ticket: &str, seen: &str) -> Result<(), HandsetError> {
        let url = format!("{}/handset/v1/push/report", self.server);
        call(&self.http, Method::POST, url, "", Some(json!({ "ticket": ticket, "seen": seen }))).await.map(drop)
    }

    /// Waits for the next approval by push, as a phone in a pocket does: shows it, opens it, and reads what is to be signed. Without a
    /// message it waits for ever.
    ///
    /// # Errors
    /// [`HandsetError`].
    pub async fn woken(&self, subscription: &RobotSubscription) -> Result<String, HandsetError> {
        loop {
            let notice = subscription.next().await.ok_or(HandsetError::Strange("the push service has forgotten the handset"))?;
            if notice.kind != NoticeKind::Approval {
                continue;
            }
            self.report(&notice.ticket, "shown").await?;
            self.report(&notice.ticket, "opened").await?;
            if let Some(shown) = self.waiting().await? {
                return Ok(shown);
            }
        }
    }
}

/// What robots have done.
#[derive(Debug, Default)]
pub struct Tally {
    /// Approvals that were seen.
    pub seen: AtomicU64,
    /// Of them, answered as meant.
    pub answered: AtomicU64,
    /// Answers that were refused: too late, or answered before.
    pub refused: AtomicU64,
}

/// Lets a robot look every so often, and answer what it finds, until it is dropped. For crowds: no connection is held meanwhile.
pub async fn look(robot: &RobotHandset, habits: HandsetHabits, every: Duration, tally: &Tally) {
    let mut last = String::new();
    loop {
        sleep(drawn((every / 2, every * 3 / 2))).await;
        let Ok(Some(shown)) = robot.waiting().await else { continue };
        if shown == last {
            continue;
        }
        tally.seen.fetch_add(1, Ordering::Relaxed);
        match robot.act(&shown, habits).await {
            Ok(Some(_)) => tally.answered.fetch_add(1, Ordering::Relaxed),
            Ok(None) => 0,
            Err(_) => tally.refused.fetch_add(1, Ordering::Relaxed),
        };
        last = shown;
    }
}

/// A time between two.
fn drawn((least, most): (Duration, Duration)) -> Duration {
    let mut bytes = [0; 4];
    let part = match SystemRandom::new().fill(&mut bytes) {
        Ok(()) => f64::from(u32::from_le_bytes(bytes)) / f64::from(u32::MAX),
        Err(_) => 0.5,
    };
    least + most.saturating_sub(least).mul_f64(part)
}
