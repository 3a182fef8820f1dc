//! One message on the wire: an HTTP request to a push service (RFC 8030 section 5).

use crate::failed::unanswered;
use bivector_push::{Endpoint, MAX_PLAIN, Recipient, encrypt, is_internal};
use bivector_site::Push;
use bivector_store::error::ServiceError;
use bivector_store::seal::random;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::header::RETRY_AFTER;
use reqwest::{Client, Response};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Messages are padded to so many bytes, so that their length tells nothing about the person.
const PADDED: usize = 1024;
/// Bytes of an answer that are read, so that its connection can be used again.
const READ: usize = 4096;
/// Longest time that a push service may ask for by Retry-After.
const LONGEST_PAUSE: Duration = Duration::from_secs(3600);

/// What became of a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sent {
    /// The push service has it.
    Accepted {
        /// How long that took.
        took: Duration,
    },
    /// The push service does not know the handset any more.
    Gone {
        /// 404 or 410.
        status: u16,
        /// How long that took.
        took: Duration,
    },
    /// The push service wants to be left alone.
    Busy {
        /// Its status.
        status: u16,
        /// For how long.
        pause: Duration,
        /// How long the answer took.
        took: Duration,
    },
    /// Another refusal, no answer, or no connection.
    Unanswered {
        /// What was seen.
        seen: String,
        /// Whether the service as such has a problem: others would meet it too.
        of_service: bool,
        /// How long that took.
        took: Duration,
    },
    /// Nothing was sent.
    Failed(String),
}

impl Sent {
    /// Whether the push service has it.
    pub fn is_accepted(&self) -> bool {
        matches!(self, Sent::Accepted { .. })
    }

    /// How long the push service took; nothing if it was not asked.
    pub fn took(&self) -> Duration {
        match self {
            Sent::Accepted { took } | Sent::Gone { took, .. } | Sent::Busy { took, .. } | Sent::Unanswered { took, .. } => *took,
            Sent::Failed(_) => Duration::ZERO,
        }
    }

    /// In one word, for metrics.
    pub fn kind(&self) -> &'static str {
        match self {
            Sent::Accepted { .. } => "accepted",
            Sent::Gone { .. } => "gone",
            Sent::Busy { .. } => "busy",
            Sent::Unanswered { .. } => "failed",
            Sent::Failed(_) => "not-sent",
        }
    }

    /// In a sentence.
    pub fn said(&self, host: &str) -> String {
        match self {
            Sent::Accepted { took } => format!("accepted by {host} after {}", in_words(*took)),
            Sent::Gone { status, .. } => {
                format!("{host} no longer knows this phone ({status}); its page subscribes again when it is opened")
            }
            Sent::Busy { status, pause, .. } => format!("{host} asks to wait {} s ({status})", pause.as_secs()),
            Sent::Unanswered { seen, .. } => format!("{host}: {seen}"),
            Sent::Failed(why) => why.clone(),
        }
    }
}

/// How long something took: tenths of a second, or milliseconds where that would be none.
pub fn in_words(took: Duration) -> String {
    if took < Duration::from_millis(100) { format!("{} ms", took.as_millis()) } else { format!("{:.1} s", took.as_secs_f32()) }
}

/// A message and where it goes.
#[derive(Debug)]
pub struct Wire<'w> {
    /// The address.
    pub endpoint: &'w Endpoint,
    /// The value of the Authorization header.
    pub authorization: &'w str,
    /// How long the push service keeps it.
    pub lasts: Duration,
    /// A newer message with the same topic replaces it.
    pub topic: &'w str,
    /// The handset's keys.
    pub recipient: &'w Recipient,
    /// What it says.
    pub content: &'w [u8],
}

/// The HTTP clients of one revision of the site.
#[derive(Debug)]
pub struct PushSender {
    outside: Client,
    /// For services on this very machine, where the site names one.
    local: Client,
}

/// Resolves names, and leaves out every address inside the own network: a public name may point there.
struct PublicOnly;

impl Resolve for PublicOnly {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
            let public: Vec<_> = found.filter(|address| !is_internal(address.ip())).collect();
            if public.is_empty() {
                return Err(format!("`{}` leads to an address inside the own network", name.as_str()).into());
            }
            Ok(Box::new(public.into_iter()) as Addrs)
        })
    }
}

impl PushSender {
    /// Prepares the clients. Nothing is connected yet.
    ///
    /// # Errors
    /// TLS or the proxy cannot be set up.
    pub fn prepare(push: &Push, data: &Path) -> Result<Self, ServiceError> {
        let refused = |error: reqwest::Error| ServiceError::Refused {
            what: format!("push messages cannot be set up: {error}"),
            remedy: "correct `[push]` in the site file".into(),
        };
        let tls = crate::trust::client_config("push", None, data)?;
        let common = || {
            Client::builder()
                .timeout(push.patience)
                .redirect(reqwest::redirect::Policy::none())
                .no_proxy()
                .pool_idle_timeout(Duration::from_secs(60))
        };
        let mut outside = common().tls_backend_preconfigured(tls.as_ref().clone());
        outside = match &push.proxy {
            // The proxy looks names up, and keeps away from its own network.
            Some(proxy) => outside.proxy(reqwest::Proxy::all(proxy).map_err(refused)?),
            None => outside.dns_resolver(Arc::new(PublicOnly)),
        };
        let local = common().tls_backend_preconfigured(tls.as_ref().clone());
        Ok(PushSender { outside: outside.build().map_err(refused)?, local: local.build().map_err(refused)? })
    }

    /// Sends a message.
    pub async fn send(&self, wire: Wire<'_>) -> Sent {
        let Some(body) = encrypted(&wire) else { return Sent::Failed("the message is too long".into()) };
        let client = if wire.endpoint.local { &self.local } else { &self.outside };
        let request = client
            .post(&wire.endpoint.url)
            .header("authorization", wire.authorization)
            .header("content-encoding", "aes128gcm")
            .header("content-type", "application/octet-stream")
            .header("ttl", wire.lasts.as_secs())
            .header("urgency", "high")
            .header("topic", wire.topic)
            .body(body);
        let began = Instant::now();
        match request.send().await {
            Ok(answer) => read(answer, began).await,
            Err(error) => Sent::Unanswered { seen: unanswered(&error), of_service: true, took: began.elapsed() },
        }
    }
}

/// Encrypts with fresh keys; random bytes are hardly ever no private key.
fn encrypted(wire: &Wire<'_>) -> Option<Vec<u8>> {
    (wire.content.len() <= MAX_PLAIN).then_some(())?;
    (0..8).find_map(|_| encrypt(wire.content, PADDED, wire.recipient, &random(), &random()).ok())
}

async fn read(mut answer: Response, began: Instant) -> Sent {
    let took = began.elapsed();
    let status = answer.status().as_u16();
    let pause = answer.headers().get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.trim().parse().ok()).map(Duration::from_secs);
    // A short answer is read, so that the connection stays usable; a long one costs its connection and nothing else.
    if answer.content_length().is_some_and(|length| length <= READ as u64) {
        let mut seen = 0;
        while let Ok(Some(chunk)) = answer.chunk().await {
            seen += chunk.len();
            if seen > READ {
                break;
            }
        }
    }
    let refused = |seen: String, of_service| Sent::Unanswered { seen, of_service, took };
    match status {
        200..=299 => Sent::Accepted { took },
        404 | 410 => Sent::Gone { status, took },
        429 | 503 => Sent::Busy { status, pause: pause.unwrap_or(Duration::from_secs(10)).min(LONGEST_PAUSE), took },
        300..=399 => refused(format!("it redirects elsewhere ({status}), which is not followed"), true),
        401 | 403 => refused(format!("it does not accept this service's signature ({status}); the phone must subscribe again"), false),
        413 => refused("the message is too long for it (413)".into(), false),
        500..=599 => refused(format!("it failed ({status})"), true),
        _ => refused(format!("it answered {status}"), false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_push::{Receiver, Service, Services, decrypt};
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    fn receiver() -> Receiver {
        Receiver::new(&[7; 32], [9; 16]).unwrap()
    }

    /// Sends one message to a service that answers with these bytes; what it was sent, and what became of it.
    async fn send_to(answer: impl Into<Vec<u8>>) -> (Vec<u8>, Sent) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let origin = format!("http://{}", listener.local_addr().unwrap());
        let answer = answer.into();
        let served = tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let (mut seen, mut buffer) = (Vec::new(), [0; 4096]);
            loop {
                let length = stream.read(&mut buffer).await.unwrap();
                seen.extend(&buffer[..length]);
                let end = seen.windows(4).position(|four| four == b"\r\n\r\n");
                if length == 0 || end.is_some_and(|end| seen.len() - end - 4 >= 86 + PADDED + 17) {
                    break;
                }
            }
            let _ = stream.write_all(&answer).await;
            if answer.is_empty() {
                std::future::pending::<()>().await;
            }
            seen
        });
        let push =
            Push { services: Services(vec![Service::read(&origin).unwrap()]), patience: Duration::from_millis(300), ..Push::default() };
        let sender = PushSender::prepare(&push, Path::new("/nonexistent")).unwrap();
        let endpoint = push.services.endpoint(&format!("{origin}/send/abc")).unwrap();
        let recipient = Recipient::read(&receiver().p256dh(), &receiver().auth()).unwrap();
        let wire = Wire {
            endpoint: &endpoint,
            authorization: "vapid t=a, k=b",
            lasts: Duration::from_secs(45),
            topic: "sign-in",
            recipient: &recipient,
            content: b"hello",
        };
        let sent = sender.send(wire).await;
        let seen = if sent.took() < push.patience { served.await.unwrap() } else { Vec::new() };
        (seen, sent)
    }

    async fn said(answer: &str) -> (&'static str, String) {
        let (_, sent) = send_to(answer).await;
        (sent.kind(), sent.said("push.example.net"))
    }

    #[tokio::test]
    async fn a_message_carries_its_time_its_urgency_and_its_topic_and_only_the_handset_reads_it() {
        let (seen, sent) = send_to("HTTP/1.1 201 Created\r\ncontent-length: 0\r\n\r\n").await;
        assert!(sent.is_accepted());
        let end = seen.windows(4).position(|four| four == b"\r\n\r\n").unwrap();
        let head = String::from_utf8(seen[..end].to_vec()).unwrap();
        for line in [
            "POST /send/abc HTTP/1.1",
            "ttl: 45",
            "urgency: high",
            "topic: sign-in",
            "content-encoding: aes128gcm",
            "authorization: vapid t=a, k=b",
        ] {
            assert!(head.contains(line), "{line} is missing in {head}");
        }
        assert_eq!(decrypt(&seen[end + 4..], &receiver()).unwrap(), b"hello");
    }

    #[tokio::test]
    async fn every_answer_has_its_meaning() {
        let empty = |status: &str| format!("HTTP/1.1 {status}\r\ncontent-length: 0\r\n\r\n");
        assert_eq!(said(&empty("410 Gone")).await.0, "gone");
        assert_eq!(said(&empty("404 Not Found")).await.0, "gone");
        assert_eq!(
            said("HTTP/1.1 429 Slow\r\nretry-after: 7\r\ncontent-length: 0\r\n\r\n").await,
            ("busy", "push.example.net asks to wait 7 s (429)".into())
        );
        assert_eq!(
            said("HTTP/1.1 429 Slow\r\nretry-after: 86400\r\ncontent-length: 0\r\n\r\n").await.1,
            "push.example.net asks to wait 3600 s (429)"
        );
        assert_eq!(said(&empty("503 Busy")).await.1, "push.example.net asks to wait 10 s (503)");
        let redirect = "HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\n\r\n";
        assert_eq!(said(redirect).await, ("failed", "push.example.net: it redirects elsewhere (302), which is not followed".into()));
        assert_eq!(
            said(&empty("403 Forbidden")).await.1,
            "push.example.net: it does not accept this service's signature (403); the phone must subscribe again"
        );
        assert_eq!(said(&empty("500 Oops")).await.1, "push.example.net: it failed (500)");
        assert_eq!(said("nonsense\r\n\r\n").await.0, "failed");
    }

    #[tokio::test]
    async fn silence_and_an_endless_answer_end_in_time() {
        assert_eq!(said("").await, ("failed", "push.example.net: no answer in time".into()));
        let long = [b"HTTP/1.1 201 Created\r\ncontent-length: 10000000\r\n\r\n".as_slice(), &vec![b'.'; 100_000]].concat();
        assert!(send_to(long).await.1.is_accepted(), "what it says at length is not read");
    }

    #[test]
    fn a_quick_answer_did_not_take_nothing() {
        assert_eq!(in_words(Duration::from_millis(7)), "7 ms");
        assert_eq!(in_words(Duration::from_millis(210)), "0.2 s");
    }

    #[tokio::test]
    async fn a_name_that_leads_inside_is_not_connected_to() {
        let error = PublicOnly.resolve("localhost".parse().unwrap()).await.err().unwrap();
        assert_eq!(error.to_string(), "`localhost` leads to an address inside the own network");
    }

    #[tokio::test]
    async fn messages_leave_through_the_proxy_of_the_site_which_looks_the_name_up() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let proxy = format!("http://{}", listener.local_addr().unwrap());
        let asked = tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let (mut seen, mut buffer) = (Vec::new(), [0; 1024]);
            while !seen.windows(4).any(|four| four == b"\r\n\r\n") {
                let length = stream.read(&mut buffer).await.unwrap();
                seen.extend(&buffer[..length]);
            }
            stream.write_all(b"HTTP/1.1 403 Forbidden\r\ncontent-length: 0\r\n\r\n").await.unwrap();
            String::from_utf8(seen).unwrap()
        });
        let services = Services(vec![Service::read("push.example.net").unwrap()]);
        let push = Push { services, proxy: Some(proxy), patience: Duration::from_secs(5), ..Push::default() };
        let sender = PushSender::prepare(&push, Path::new("/nonexistent")).unwrap();
        let endpoint = push.services.endpoint("https://push.example.net/send/abc").unwrap();
        let recipient = Recipient::read(&receiver().p256dh(), &receiver().auth()).unwrap();
        let wire = Wire {
            endpoint: &endpoint,
            authorization: "vapid t=a, k=b",
            lasts: Duration::from_secs(45),
            topic: "sign-in",
            recipient: &recipient,
            content: b"hello",
        };
        let sent = sender.send(wire).await;
        let asked = asked.await.unwrap();
        assert!(asked.starts_with("CONNECT push.example.net:443 HTTP/1.1\r\n"), "{asked}");
        assert!(!asked.contains("send/abc") && !asked.contains("vapid"), "the proxy learns the host only: {asked}");
        assert!(sent.said("push.example.net").starts_with("push.example.net: no connection"), "{sent:?}");
        assert!(!sent.said("push.example.net").contains("send/abc"));
    }
}
