//! Whether certificates are revoked, as the issuer's OCSP responder says: asked once at the first login, then kept and asked again in the
//! background, so that later logins do not wait.

use crate::ocsp::{Question, Standing};
use bivector_site::Responder;
use bivector_store::clock;
use bivector_store::seal::random;
use futures_util::StreamExt;
use rustls::crypto::WebPkiSupportedAlgorithms;
use rustls::pki_types::CertificateDer;
use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;
use x509_parser::certificate::X509Certificate;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::oid_registry::OID_PKIX_ACCESS_DESCRIPTOR_OCSP;
use x509_parser::parse_x509_certificate;

/// How long a login waits for a responder.
const PATIENCE: Duration = Duration::from_secs(3);
/// How long after a failure a responder is asked again about the same certificate.
const RETRY: Duration = Duration::from_secs(10);
/// Certificates whose status is kept.
const MOST: usize = 50_000;
/// Bytes of one answer.
const LARGEST: usize = 64 * 1024;
/// Questions that wait for one issuer's responder at a time.
const AT_ONCE: usize = 16;
/// Certificates that are asked about again in one round in the background.
const AGAIN: usize = 200;

/// A certificate, by its issuer's key and its serial number.
type Key = (Vec<u8>, Vec<u8>);

/// What is known of one certificate.
#[derive(Debug, Clone)]
struct Known {
    leaf: CertificateDer<'static>,
    /// The last answer that proved itself, when it came, and until when it counts (since 1970).
    said: Option<(Standing, Instant, Option<Duration>)>,
    /// Why the last question has no such answer, and when it was asked.
    failed: Option<(String, Instant)>,
    /// When a login last needed it.
    used: Instant,
}

/// What a login may rely on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Status {
    /// Not revoked, as the responder said this long ago.
    Good(Duration),
    /// Revoked.
    Revoked,
    /// Nothing that counts is known, and why.
    Unknown(String),
}

/// The statuses of one issuer's certificates.
#[derive(Debug)]
pub(crate) struct Statuses {
    responder: Responder,
    refresh: Duration,
    algorithms: WebPkiSupportedAlgorithms,
    known: Mutex<HashMap<Key, Known>>,
    permits: Semaphore,
}

impl Statuses {
    /// Nothing is known yet. What was answered longer than `refresh` ago is asked again.
    pub(crate) fn new(responder: Responder, refresh: Duration, algorithms: WebPkiSupportedAlgorithms) -> Self {
        Statuses { responder, refresh, algorithms, known: Mutex::default(), permits: Semaphore::new(AT_ONCE) }
    }

    fn known(&self) -> MutexGuard<'_, HashMap<Key, Known>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether a login has to ask before its certificate can be judged.
    pub(crate) fn must_ask(&self, leaf: &CertificateDer<'_>, issuer: &[u8]) -> bool {
        let Some(key) = key_of(leaf, issuer) else { return false };
        self.known().get(&key).is_none_or(|known| known.is_due(self.refresh))
    }

    /// Asks the responder about a certificate that `issuer`, a SubjectPublicKeyInfo, has signed. It ends after [`PATIENCE`].
    pub(crate) async fn ask(&self, leaf: &CertificateDer<'_>, issuer: &[u8]) {
        let Some(key) = key_of(leaf, issuer) else { return };
        let answer = tokio::time::timeout(PATIENCE, self.question(leaf, issuer)).await;
        let answer = answer.unwrap_or_else(|_| Err(format!("no answer within {} s", PATIENCE.as_secs())));
        let now = Instant::now();
        let mut known = self.known();
        if !known.contains_key(&key) && known.len() >= MOST {
            let oldest = known.iter().min_by_key(|(_, known)| known.used).map(|(key, _)| key.clone());
            oldest.and_then(|oldest| known.remove(&oldest));
        }
        let own = known.entry(key).or_insert_with(|| Known { leaf: leaf.clone().into_owned(), said: None, failed: None, used: now });
        match answer {
            Ok((standing, until)) => (own.said, own.failed) = (Some((standing, now, until)), None),
            Err(why) => own.failed = Some((why, now)),
        }
    }

    async fn question(&self, leaf: &CertificateDer<'_>, issuer: &[u8]) -> Result<(Standing, Option<Duration>), String> {
        let (address, question) = {
            let (_, parsed) = parse_x509_certificate(leaf).map_err(|error| error.to_string())?;
            let address = match &self.responder {
                Responder::At(address) => address.clone(),
                Responder::InCertificate => address_in(&parsed).ok_or("the certificate names no OCSP responder")?,
            };
            (address, Question::new(&parsed, issuer.to_vec(), random())?)
        };
        let _permit = self.permits.acquire().await.map_err(|error| error.to_string())?;
        let answer = send(&address, question.encode()?).await.map_err(|why| format!("{address}: {why}"))?;
        let now = Duration::from_micros(clock::now().micros());
        let answer = question.read(&answer, now, &self.algorithms).map_err(|why| format!("{address}: {why}"))?;
        Ok((answer.standing, answer.until))
    }

    /// What is known of a certificate now.
    pub(crate) fn status(&self, leaf: &CertificateDer<'_>, issuer: &[u8]) -> Status {
        let now = Duration::from_micros(clock::now().micros());
        let mut known = self.known();
        let Some(own) = key_of(leaf, issuer).and_then(|key| known.get_mut(&key)) else {
            return Status::Unknown("the OCSP responder was not asked".to_owned());
        };
        own.used = Instant::now();
        match (own.said, &own.failed) {
            // A certificate that was revoked stays so, whatever else is not known.
            (Some((Standing::Revoked, ..)), _) => Status::Revoked,
            (Some((Standing::Good, at, until)), _) if own.counts(now, until, self.refresh) => Status::Good(at.elapsed()),
            (Some((Standing::Unknown, ..)), None) => Status::Unknown("the OCSP responder does not know the certificate".to_owned()),
            (_, Some((why, _))) => Status::Unknown(why.clone()),
            (_, None) => Status::Unknown("the answer of the OCSP responder has expired".to_owned()),
        }
    }

    /// Asks again about the certificates of recent logins whose answer is getting old.
    pub(crate) async fn refresh(&self) {
        let due: Vec<(Key, CertificateDer<'static>)> = {
            let known = self.known();
            let due = |known: &&Known| known.used.elapsed() < self.refresh * 2 && known.is_due(self.refresh / 2);
            let due = known.iter().filter(|(_, known)| due(known)).take(AGAIN);
            due.map(|((issuer, serial), known)| ((issuer.clone(), serial.clone()), known.leaf.clone())).collect()
        };
        futures_util::stream::iter(due).for_each_concurrent(4, |((issuer, _), leaf)| async move { self.ask(&leaf, &issuer).await }).await;
    }

    /// How many certificates are known, and why the responder's newest answer could not be used, if so.
    pub(crate) fn health(&self) -> (usize, Option<String>) {
        let known = self.known();
        let newest = known.values().filter_map(|known| known.failed.as_ref()).max_by_key(|(_, at)| *at);
        let answered = known.values().filter_map(|known| known.said.map(|(_, at, _)| at)).max();
        let failed = newest.filter(|(_, at)| answered.is_none_or(|answered| answered < *at)).map(|(why, _)| why.clone());
        (known.len(), failed)
    }

    /// Whom it asks, in words.
    pub(crate) fn responder(&self) -> &str {
        match &self.responder {
            Responder::At(address) => address,
            Responder::InCertificate => "the responder that the certificate names",
        }
    }
}

impl Known {
    /// Whether it is to be asked again: its answer is older than `age`, or the last question failed some time ago.
    fn is_due(&self, age: Duration) -> bool {
        match (&self.failed, &self.said) {
            (Some((_, at)), _) => at.elapsed() >= RETRY,
            (None, Some((_, at, _))) => at.elapsed() >= age,
            (None, None) => true,
        }
    }

    /// Whether a good answer still counts: until the time that it says, or for two rounds if it says none.
    fn counts(&self, now: Duration, until: Option<Duration>, refresh: Duration) -> bool {
        match (until, self.said) {
            (Some(until), _) => now < until,
            (None, Some((_, at, _))) => at.elapsed() < refresh * 2,
            (None, None) => false,
        }
    }
}

fn key_of(leaf: &CertificateDer<'_>, issuer: &[u8]) -> Option<Key> {
    let (_, parsed) = parse_x509_certificate(leaf).ok()?;
    Some((issuer.to_vec(), parsed.raw_serial().to_vec()))
}

/// The responder that a certificate names (RFC 5280 section 4.2.2.1).
fn address_in(certificate: &X509Certificate<'_>) -> Option<String> {
    let access = certificate.extensions().iter().find_map(|extension| match extension.parsed_extension() {
        ParsedExtension::AuthorityInfoAccess(access) => Some(access),
        _ => None,
    })?;
    access.accessdescs.iter().filter(|one| one.access_method == OID_PKIX_ACCESS_DESCRIPTOR_OCSP).find_map(|one| match one.access_location {
        GeneralName::URI(uri) if uri.starts_with("http://") || uri.starts_with("https://") => Some(uri.to_owned()),
        _ => None,
    })
}

async fn send(address: &str, request: Vec<u8>) -> Result<Vec<u8>, String> {
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().build();
    let client = client.map_err(|error| error.to_string())?;
    let asked = client.post(address).header("content-type", "application/ocsp-request").body(request);
    let response = asked.send().await.map_err(|error| error.without_url().to_string())?;
    if !response.status().is_success() {
        return Err(format!("the answer is {}", response.status()));
    }
    crate::issuers::read_body(response, LARGEST).await
}
