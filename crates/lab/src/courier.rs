//! Stand-in receivers of couriers: one that takes HTTP calls as a message service would, one that takes mail. Both remember what came.

use axum::Router;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{Method, StatusCode};
use axum::response::{IntoResponse, Response};
use rustls::ServerConfig;
use serde::{Deserialize, Serialize};
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

/// Messages that are remembered; the oldest make room.
const KEPT: usize = 1000;
/// The longest body or mail that is read, in bytes.
const MAX_MESSAGE: usize = 64 * 1024;

/// How the receivers behave.
#[derive(Debug, Clone)]
pub struct CourierHabits {
    /// The status of every HTTP answer.
    pub status: u16,
    /// What the answer carries, in bytes.
    pub answer_bytes: usize,
    /// How much later they answer.
    pub delay: Duration,
    /// Take a connection and then say nothing.
    pub hang: bool,
}

impl Default for CourierHabits {
    fn default() -> Self {
        CourierHabits { status: 200, answer_bytes: 16, delay: Duration::ZERO, hang: false }
    }
}

/// A message that came.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Arrived {
    /// `http` or `mail`.
    pub by: String,
    /// Whom it is for, as far as it says.
    pub to: String,
    /// What it says.
    pub text: String,
    /// The value of the Authorization header, for HTTP; what AUTH PLAIN gave, in base64, for mail.
    pub authorization: Option<String>,
    /// When it came, in microseconds since 1970.
    pub at_us: u64,
}

/// Running receivers. Dropped, they stop.
#[derive(Debug)]
pub struct StandInCourier {
    http: SocketAddr,
    smtp: SocketAddr,
    inbox: Inbox,
    tasks: Vec<JoinHandle<()>>,
}

#[derive(Debug, Clone)]
struct Inbox {
    arrived: Arc<Mutex<Vec<Arrived>>>,
    habits: Arc<Mutex<CourierHabits>>,
}

impl StandInCourier {
    /// Starts both receivers (port 0 for any), both in clear.
    ///
    /// # Errors
    /// A socket's.
    pub async fn start(http: SocketAddr, smtp: SocketAddr, habits: CourierHabits) -> io::Result<Self> {
        Self::start_with(http, smtp, habits, None).await
    }

    /// The same, with mail taken over TLS from the first byte.
    ///
    /// # Errors
    /// A socket's.
    pub async fn start_with(http: SocketAddr, smtp: SocketAddr, habits: CourierHabits, tls: Option<Arc<ServerConfig>>) -> io::Result<Self> {
        let (web, mail) = (TcpListener::bind(http).await?, TcpListener::bind(smtp).await?);
        let (http, smtp) = (web.local_addr()?, mail.local_addr()?);
        let inbox = Inbox { arrived: Arc::default(), habits: Arc::new(Mutex::new(habits)) };
        let router = Router::new().fallback(take_call).with_state(inbox.clone());
        let calls = tokio::spawn(async move {
            if let Err(error) = axum::serve(web, router).await {
                tracing::debug!(%error, "the receiver of calls stopped");
            }
        });
        let mails = tokio::spawn(take_mails(mail, inbox.clone(), tls));
        Ok(StandInCourier { http, smtp, inbox, tasks: vec![calls, mails] })
    }

    /// Where it takes HTTP calls. `GET /arrived` there lists what came.
    pub fn http(&self) -> SocketAddr {
        self.http
    }

    /// Where it takes mail.
    pub fn smtp(&self) -> SocketAddr {
        self.smtp
    }

    /// Behaves otherwise from now on.
    pub fn behave(&self, habits: CourierHabits) {
        if let Ok(mut own) = self.inbox.habits.lock() {
            *own = habits;
        }
    }

    /// What came, oldest first.
    pub fn arrived(&self) -> Vec<Arrived> {
        self.inbox.list()
    }
}

impl Drop for StandInCourier {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

impl Inbox {
    fn list(&self) -> Vec<Arrived> {
        self.arrived.lock().map(|arrived| arrived.clone()).unwrap_or_default()
    }

    fn keep(&self, by: &str, to: String, text: String, authorization: Option<String>) {
        let at_us = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_micros() as u64;
        if let Ok(mut arrived) = self.arrived.lock() {
            if arrived.len() >= KEPT {
                arrived.remove(0);
            }
            arrived.push(Arrived { by: by.to_owned(), to, text, authorization, at_us });
        }
    }

    fn habits(&self) -> CourierHabits {
        self.habits.lock().map(|habits| habits.clone()).unwrap_or_default()
    }
}

async fn take_call(State(inbox): State<Inbox>, request: Request) -> Response {
    if request.method() == Method::GET {
        return axum::Json(inbox.list()).into_response();
    }
    let authorization = request.headers().get("authorization").and_then(|value| value.to_str().ok()).map(str::to_owned);
    let Ok(bytes) = axum::body::to_bytes(request.into_body(), MAX_MESSAGE).await else {
        return StatusCode::PAYLOAD_TOO_LARGE.into_response();
    };
    let body = String::from_utf8_lossy(&bytes).into_owned();
    let json: Option<serde_json::Value> = serde_json::from_str(&body).ok();
    let field = |name: &str| json.as_ref().and_then(|json| json.get(name)).and_then(|value| value.as_str()).map(str::to_owned);
    let habits = inbox.habits();
    if habits.hang {
        std::future::pending::<()>().await;
    }
    tokio::time::sleep(habits.delay).await;
    if habits.status < 300 {
        inbox.keep("http", field("to").unwrap_or_default(), field("text").unwrap_or(body), authorization);
    }
    let status = StatusCode::from_u16(habits.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    (status, Body::from(vec![b'.'; habits.answer_bytes])).into_response()
}

async fn take_mails(listener: TcpListener, inbox: Inbox, tls: Option<Arc<ServerConfig>>) {
    while let Ok((stream, _)) = listener.accept().await {
        let (inbox, tls) = (inbox.clone(), tls.clone());
        tokio::spawn(async move {
            let taken = match tls {
                None => take_mail(stream, &inbox).await,
                Some(tls) => match TlsAcceptor::from(tls).accept(stream).await {
                    Ok(stream) => take_mail(stream, &inbox).await,
                    Err(error) => Err(error),
                },
            };
            if let Err(error) = taken {
                tracing::debug!(%error, "a mail connection broke");
            }
        });
    }
}

/// As much of RFC 5321 as one client needs to hand a mail over.
async fn take_mail<S: AsyncRead + AsyncWrite + Unpin>(stream: S, inbox: &Inbox) -> io::Result<()> {
    let habits = inbox.habits();
    if habits.hang {
        std::future::pending::<()>().await;
    }
    tokio::time::sleep(habits.delay).await;
    let mut stream = BufReader::new(stream);
    stream.write_all(b"220 lab.northmoor.example stand-in\r\n").await?;
    let (mut to, mut line, mut account) = (String::new(), String::new(), None);
    loop {
        line.clear();
        if stream.read_line(&mut line).await? == 0 {
            return Ok(());
        }
        let command = line.trim_end().to_ascii_uppercase();
        let answer: &[u8] = match command.split([' ', ':']).next().unwrap_or_default() {
            "EHLO" => b"250-lab.northmoor.example\r\n250 AUTH PLAIN\r\n",
            "HELO" => b"250 lab.northmoor.example\r\n",
            "AUTH" => {
                account = line.split_whitespace().nth(2).map(str::to_owned);
                b"235 welcome\r\n"
            }
            "MAIL" | "RSET" | "NOOP" => b"250 ok\r\n",
            "RCPT" => {
                to = line.split_once('<').and_then(|(_, rest)| rest.split_once('>')).map(|(to, _)| to.to_owned()).unwrap_or_default();
                b"250 ok\r\n"
            }
            "DATA" if habits.status >= 300 => b"554 not taken\r\n",
            "DATA" => {
                stream.write_all(b"354 go on\r\n").await?;
                let text = read_mail(&mut stream).await?;
                inbox.keep("mail", to.clone(), text, account.clone());
                b"250 taken\r\n"
            }
            "QUIT" => {
                stream.write_all(b"221 bye\r\n").await?;
                return Ok(());
            }
            _ => b"502 not known\r\n",
        };
        stream.write_all(answer).await?;
    }
}

/// The text of a mail up to the line with a single dot, headers left out.
async fn read_mail<S: AsyncRead + Unpin>(stream: &mut BufReader<S>) -> io::Result<String> {
    let (mut text, mut line) = (String::new(), String::new());
    loop {
        line.clear();
        if stream.read_line(&mut line).await? == 0 || line.trim_end() == "." || text.len() > MAX_MESSAGE {
            let body = text.split_once("\r\n\r\n").map_or(text.as_str(), |(_, body)| body);
            return Ok(body.trim().to_owned());
        }
        text.push_str(&line);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::AsyncReadExt;
    use tokio::net::TcpStream;

    async fn courier(habits: CourierHabits) -> StandInCourier {
        let any = SocketAddr::from(([127, 0, 0, 1], 0));
        StandInCourier::start(any, any, habits).await.unwrap()
    }

    /// Says some lines over a connection, one after the other; what was answered to each.
    async fn talk(to: SocketAddr, lines: &[&str]) -> Vec<String> {
        let mut stream = BufReader::new(TcpStream::connect(to).await.unwrap());
        let mut answers = Vec::new();
        for line in std::iter::once(&"").chain(lines) {
            if !line.is_empty() {
                stream.write_all(format!("{line}\r\n").as_bytes()).await.unwrap();
            }
            loop {
                let mut answer = String::new();
                stream.read_line(&mut answer).await.unwrap();
                let last = answer.as_bytes().get(3) != Some(&b'-');
                if last {
                    answers.push(answer.trim_end().to_owned());
                    break;
                }
            }
        }
        answers
    }

    async fn post(to: SocketAddr, body: &str) -> String {
        let mut stream = TcpStream::connect(to).await.unwrap();
        let request = format!(
            "POST /messages HTTP/1.1\r\nhost: lab\r\nauthorization: Bearer t\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
            body.len()
        );
        stream.write_all(request.as_bytes()).await.unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).await.unwrap();
        answer.lines().next().unwrap_or_default().to_owned()
    }

    #[tokio::test]
    async fn a_mail_is_taken_with_its_receiver_and_text_and_without_its_headers() {
        let courier = courier(CourierHabits::default()).await;
        let answers = talk(
            courier.smtp(),
            &[
                "EHLO here",
                "MAIL FROM:<a@northmoor.example>",
                "RCPT TO:<ines@northmoor.example>",
                "DATA",
                "Subject: code\r\n\r\nYour code is 123456\r\n.",
                "NONSENSE",
                "QUIT",
            ],
        )
        .await;
        let codes: Vec<&str> = answers.iter().map(|answer| &answer[..3]).collect();
        assert_eq!(codes, ["220", "250", "250", "250", "354", "250", "502", "221"]);
        let arrived = courier.arrived();
        assert_eq!((arrived[0].by.as_str(), arrived[0].to.as_str()), ("mail", "ines@northmoor.example"));
        assert_eq!(arrived[0].text, "Your code is 123456");
    }

    #[tokio::test]
    async fn a_call_is_remembered_with_its_authorization_unless_it_is_refused() {
        let courier = courier(CourierHabits::default()).await;
        assert_eq!(post(courier.http(), r#"{"to":"+46","text":"Your code is 1"}"#).await, "HTTP/1.1 200 OK");
        let arrived = courier.arrived().pop().unwrap();
        assert_eq!(
            (arrived.to.as_str(), arrived.text.as_str(), arrived.authorization.as_deref()),
            ("+46", "Your code is 1", Some("Bearer t"))
        );
        courier.behave(CourierHabits { status: 503, ..CourierHabits::default() });
        assert_eq!(post(courier.http(), "{}").await, "HTTP/1.1 503 Service Unavailable");
        assert_eq!(courier.arrived().len(), 1);
    }

    #[tokio::test]
    async fn the_oldest_messages_make_room() {
        let courier = courier(CourierHabits::default()).await;
        for number in 0..KEPT + 5 {
            courier.inbox.keep("http", String::new(), number.to_string(), None);
        }
        let arrived = courier.arrived();
        assert_eq!((arrived.len(), arrived[0].text.as_str()), (KEPT, "5"));
    }
}
