//! Couriers: codes on their way to people, by an HTTP call or by mail. One delivery has one time limit and one clear outcome.

use crate::failed::unanswered;
use crate::trust::{certificates, client_config};
use bivector_core::login::Sendable;
use bivector_model::Moment;
use bivector_model::prompt::{Text, fill};
use bivector_site::{Carries, Courier, CourierBy, Site};
use bivector_store::error::ServiceError;
use bivector_wire::Secret;
use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use reqwest::header::{HeaderName, HeaderValue};
use std::path::Path;
use std::sync::Mutex;

/// A courier of the site, ready to send.
#[derive(Debug)]
pub struct CourierSource {
    settings: Courier,
    secret: Option<Secret<Vec<u8>>>,
    way: Way,
    /// What became of the last code, and when.
    last: Mutex<Option<Delivery>>,
}

/// A delivery: when, and why not.
pub type Delivery = (Moment, Result<(), String>);

#[derive(Debug)]
enum Way {
    Http(reqwest::Client),
    Smtp(Box<AsyncSmtpTransport<Tokio1Executor>>),
}

impl CourierSource {
    /// Reads the trust file. Nothing is connected yet.
    ///
    /// # Errors
    /// The trust file or the secret cannot be used.
    pub fn prepare(settings: Courier, secret: Option<Secret<Vec<u8>>>, data: &Path) -> Result<Self, ServiceError> {
        let refused = |why: String| ServiceError::Refused {
            what: format!("the courier `{}` cannot be used: {why}", settings.name),
            remedy: "correct it in the site file".into(),
        };
        let way = match &settings.by {
            CourierBy::Http { .. } => {
                let tls = client_config(&settings.name, settings.trust.as_deref(), data)?;
                let client = reqwest::Client::builder()
                    .tls_backend_preconfigured(tls.as_ref().clone())
                    .timeout(settings.patience)
                    .redirect(reqwest::redirect::Policy::none())
                    .no_proxy()
                    .build();
                Way::Http(client.map_err(|error| refused(error.to_string()))?)
            }
            CourierBy::Smtp { server, start_tls, account, .. } => {
                let mut transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&server.host)
                    .port(server.port)
                    .timeout(Some(settings.patience));
                if server.tls || *start_tls {
                    let mut tls = TlsParameters::builder(server.host.clone()).certificate_store(CertificateStore::None);
                    for der in certificates(&settings.name, settings.trust.as_deref(), data)? {
                        let certificate = Certificate::from_der(der.to_vec()).map_err(|error| refused(error.to_string()))?;
                        tls = tls.add_root_certificate(certificate);
                    }
                    let tls = tls.build().map_err(|error| refused(error.to_string()))?;
                    transport = transport.tls(if server.tls { Tls::Wrapper(tls) } else { Tls::Required(tls) });
                }
                if let (Some(account), Some(secret)) = (account, &secret) {
                    let password = String::from_utf8_lossy(secret.expose()).into_owned();
                    transport = transport.credentials(Credentials::new(account.clone(), password));
                }
                Way::Smtp(Box::new(transport.build()))
            }
        };
        Ok(CourierSource { settings, secret, way, last: Mutex::new(None) })
    }

    /// Sends a code.
    ///
    /// # Errors
    /// What was seen, in a sentence without the code, the address and the secret.
    pub async fn send(&self, sendable: &Sendable, code: &Secret<String>, site: &Site) -> Result<(), String> {
        let minutes = site.sending.lasts.as_secs().div_ceil(60).to_string();
        // A voice reads digits one by one.
        let spoken = code.expose().chars().map(String::from).collect::<Vec<_>>().join(" ");
        let shown = if self.settings.carries == Carries::Call { Secret::new(spoken) } else { code.clone() };
        let places = [("code", shown.expose().as_str()), ("site", site.name.as_str()), ("minutes", minutes.as_str())];
        let text = Secret::new(site.texts.say(&sendable.language, Text::Message, &places));
        self.send_text(sendable, code, &text, site.texts.say(&sendable.language, Text::Subject, &places)).await
    }

    /// Sends a text with a code in it.
    ///
    /// # Errors
    /// What was seen, in a sentence without the code, the address and the secret.
    pub async fn send_text(
        &self,
        sendable: &Sendable,
        code: &Secret<String>,
        text: &Secret<String>,
        subject: String,
    ) -> Result<(), String> {
        let outcome = self.deliver(sendable, code, text, subject).await;
        if let Ok(mut last) = self.last.lock() {
            *last = Some((bivector_store::clock::now(), outcome.clone()));
        }
        outcome
    }

    /// What became of the last code.
    pub fn last(&self) -> Option<Delivery> {
        self.last.lock().ok().and_then(|last| last.clone())
    }

    async fn deliver(&self, sendable: &Sendable, code: &Secret<String>, text: &Secret<String>, subject: String) -> Result<(), String> {
        let delivery = async {
            match &self.way {
                Way::Http(client) => self.call(client, sendable, code, text).await,
                Way::Smtp(transport) => self.mail(transport, sendable, subject, text).await,
            }
        };
        let patience = self.settings.patience;
        let slow = || format!("no answer within {} ms", patience.as_millis());
        tokio::time::timeout(patience, delivery).await.map_err(|_| slow())?
    }

    async fn call(
        &self,
        client: &reqwest::Client,
        sendable: &Sendable,
        code: &Secret<String>,
        text: &Secret<String>,
    ) -> Result<(), String> {
        let CourierBy::Http { url, headers, body, content_type } = &self.settings.by else { return Err("it has no URL".into()) };
        let secret = self.secret.as_ref().map(|secret| Secret::new(String::from_utf8_lossy(secret.expose()).into_owned()));
        let secret = secret.unwrap_or_default();
        let filled = |template: &str, escape: fn(&str) -> String| {
            let values = [sendable.to.as_str(), code.expose(), text.expose(), &sendable.name, secret.expose()].map(escape);
            let names = ["to", "code", "text", "name", "secret"];
            let places: Vec<(&str, &str)> = names.into_iter().zip(values.iter().map(String::as_str)).collect();
            Secret::new(fill(template, &places))
        };
        let escape = match content_type.split(';').next().unwrap_or_default().trim() {
            "application/json" => escape_json,
            "application/x-www-form-urlencoded" => escape_url,
            _ => str::to_owned,
        };
        let mut request = client.post(filled(url, escape_url).expose().as_str()).header("content-type", content_type);
        for (name, value) in headers {
            let value = filled(value, str::to_owned);
            let parsed = HeaderName::try_from(name.as_str()).ok().zip(HeaderValue::try_from(value.expose().as_str()).ok());
            let (name, mut value) = parsed.ok_or_else(|| format!("the header `{name}` is not valid"))?;
            value.set_sensitive(true);
            request = request.header(name, value);
        }
        // The status is the answer; a body, however long, is not read.
        let answer = request.body(filled(body, escape).expose().clone()).send().await.map_err(|error| unanswered(&error))?;
        let status = answer.status();
        if status.is_success() { Ok(()) } else { Err(format!("it answered {status}")) }
    }

    async fn mail(
        &self,
        transport: &AsyncSmtpTransport<Tokio1Executor>,
        sendable: &Sendable,
        subject: String,
        text: &Secret<String>,
    ) -> Result<(), String> {
        let CourierBy::Smtp { from, .. } = &self.settings.by else { return Err("it has no mail server".into()) };
        let from = from.parse().map_err(|_| format!("`{from}` is not an email address"))?;
        let to = sendable.to.parse().map_err(|_| "the person's email address is not valid".to_owned())?;
        let message = Message::builder()
            .from(from)
            .to(to)
            .subject(subject)
            .header(ContentType::TEXT_PLAIN)
            .body(text.expose().clone())
            .map_err(|error| format!("the mail cannot be written: {error}"))?;
        transport.send(message).await.map(|_| ()).map_err(|error| {
            let why = std::error::Error::source(&error).map(|source| format!(": {source}")).unwrap_or_default();
            format!("{error}{why}")
        })
    }
}

fn escape_json(text: &str) -> String {
    let quoted = serde_json::Value::String(text.to_owned()).to_string();
    quoted[1..quoted.len() - 1].to_owned()
}

/// All but unreserved characters as `%XX` (RFC 3986 section 2.3).
pub fn escape_url(text: &str) -> String {
    text.bytes().fold(String::new(), |escaped, byte| match byte {
        b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => escaped + std::str::from_utf8(&[byte]).unwrap_or_default(),
        _ => escaped + &format!("%{byte:02X}"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_escaped_for_where_they_stand() {
        assert_eq!(escape_json("a \"quoted\"\n\\line"), "a \\\"quoted\\\"\\n\\\\line");
        assert_eq!(escape_url("+44 20 ä"), "%2B44%2020%20%C3%A4");
    }
}
