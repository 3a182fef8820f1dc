//! Certificates of people and devices: who issued them, whether they are revoked, and whose they are.

use crate::status::{Status, Statuses};
use arc_swap::ArcSwap;
use bivector_core::login::VerifiedCertificate;
use bivector_model::Cause;
use bivector_model::text::shown;
use bivector_outbound::trust;
use bivector_site::{Issuer, NameFrom, WhenUnknown};
use bivector_store::clock;
use bivector_store::error::ServiceError;
use futures_util::StreamExt;
use rustls::client::danger::HandshakeSignatureValid;
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, CertificateRevocationListDer, UnixTime};
use rustls::server::WebPkiClientVerifier;
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::{CertificateError, DigitallySignedStruct, DistinguishedName, Error, OtherError, RootCertStore, SignatureScheme};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant, SystemTime};
use thiserror::Error as ThisError;
use x509_parser::certificate::X509Certificate;
use x509_parser::extensions::GeneralName;
use x509_parser::oid_registry::Oid;
use x509_parser::public_key::PublicKey;
use x509_parser::{parse_x509_certificate, parse_x509_crl};

/// Bytes of one revocation list.
const LARGEST_LIST: usize = 32 * 1024 * 1024;
/// How long after a failure the lists are read again.
const RETRY: Duration = Duration::from_secs(60);
/// How long an address may take to deliver a revocation list.
const LIST_PATIENCE: Duration = Duration::from_secs(20);
/// Certificates of one chain.
const LONGEST_CHAIN: usize = 10;
/// The user principal name among the alternative names (1.3.6.1.4.1.311.20.2.3).
const PRINCIPAL: &[u64] = &[1, 3, 6, 1, 4, 1, 311, 20, 2, 3];

/// One issuer, ready to verify.
#[derive(Debug)]
pub struct IssuerState {
    settings: Issuer,
    trusted: ArcSwap<Trusted>,
    data: PathBuf,
    statuses: Option<Statuses>,
    current: ArcSwap<Current>,
    /// When the lists were last read, and whether all of them could be.
    read: Mutex<Option<(Instant, bool)>>,
    /// The last list of each file and address. It counts until it expires, also while a newer one cannot be read.
    known: Mutex<HashMap<String, CertificateRevocationListDer<'static>>>,
}

/// The certificates that are trusted, as their file is now.
#[derive(Debug)]
struct Trusted {
    roots: Arc<RootCertStore>,
    /// When the file was last changed, as far as that was seen.
    changed: Option<SystemTime>,
}

/// What is known of revocation now.
#[derive(Debug)]
struct Current {
    verifier: Arc<dyn ClientCertVerifier>,
    /// Why a list could not be read, if one could not.
    missing: Option<String>,
    /// Lists in use.
    lists: usize,
}

/// What an issuer knows of revocation, for people who look after it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IssuerHealth {
    /// Its name.
    pub name: String,
    /// Lists in use.
    pub lists: usize,
    /// Why one could not be read, if so.
    pub missing: Option<String>,
    /// What its OCSP responder says, if it has one.
    pub responder: Option<ResponderHealth>,
}

/// What an OCSP responder has answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ResponderHealth {
    /// Its address, or where the address comes from.
    pub address: String,
    /// Certificates whose status is known.
    pub known: usize,
    /// Why its last answer could not be used, if so.
    pub failed: Option<String>,
}

fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

fn unusable(issuer: &Issuer, why: String) -> ServiceError {
    ServiceError::Refused {
        what: format!("the certificates that `{}` trusts cannot be used: {why}", issuer.name),
        remedy: format!("put the issuer's certificate into `{}` in the data folder as PEM", issuer.trust),
    }
}

impl IssuerState {
    /// Reads the trusted certificates and the revocation lists that are files. Lists at addresses are read in the background.
    ///
    /// # Errors
    /// The trusted certificates cannot be used.
    pub fn prepare(settings: &Issuer, data: &Path) -> Result<Self, ServiceError> {
        let changed = changed(&data.join(&settings.trust));
        let roots = Arc::new(trust::roots(&settings.name, Some(&settings.trust), data)?);
        let (known, missing) = read_files(settings, data);
        let lists: Vec<_> = known.values().cloned().collect();
        let count = lists.len();
        let verifier = verifier(settings, &roots, lists).map_err(|why| unusable(settings, why))?;
        let waits = settings.lists.iter().find(|list| is_address(list)).map(|list| format!("{list} was not read yet"));
        let current = Current { verifier, missing: missing.or(waits), lists: count };
        let algorithms = provider().signature_verification_algorithms;
        let statuses = settings.responder.clone().map(|responder| Statuses::new(responder, settings.refresh, algorithms));
        Ok(IssuerState {
            settings: settings.clone(),
            trusted: ArcSwap::from_pointee(Trusted { roots, changed }),
            data: data.to_owned(),
            statuses,
            current: ArcSwap::from_pointee(current),
            read: Mutex::new(None),
            known: Mutex::new(known),
        })
    }

    /// Reads the revocation lists again when their time has come, and asks again about the certificates of recent logins. A list that cannot
    /// be read makes the status unknown.
    pub async fn refresh(&self) {
        if let Some(statuses) = &self.statuses {
            statuses.refresh().await;
        }
        self.refresh_lists().await;
    }

    /// Reads the trusted certificates again if their file has changed. Gives whether others are trusted now.
    pub fn refresh_trust(&self) -> bool {
        let now = changed(&self.data.join(&self.settings.trust));
        let trusted = self.trusted.load();
        if now.is_none() || now == trusted.changed {
            return false;
        }
        let lists = self.known.lock().map(|known| known.values().cloned().collect()).unwrap_or_default();
        let read = trust::roots(&self.settings.name, Some(&self.settings.trust), &self.data).map_err(|error| error.to_string());
        let read = read.map(Arc::new).and_then(|roots| verifier(&self.settings, &roots, lists).map(|verifier| (roots, verifier)));
        match read {
            Ok((roots, verifier)) => {
                let Current { missing, lists, .. } = &**self.current.load();
                self.current.store(Arc::new(Current { verifier, missing: missing.clone(), lists: *lists }));
                self.trusted.store(Arc::new(Trusted { roots, changed: now }));
                tracing::info!(
                    issuer = self.settings.name,
                    file = self.settings.trust,
                    "the trusted certificates have changed and are in use"
                );
                true
            }
            Err(why) => {
                let roots = Arc::clone(&trusted.roots);
                self.trusted.store(Arc::new(Trusted { roots, changed: now }));
                tracing::warn!(
                    issuer = self.settings.name,
                    why,
                    "the changed trusted certificates cannot be used; those before stay in use"
                );
                false
            }
        }
    }

    async fn refresh_lists(&self) {
        let pause = |complete: bool| if complete { self.settings.refresh } else { self.settings.refresh.min(RETRY) };
        let due = self.read.lock().is_ok_and(|read| read.is_none_or(|(at, complete)| at.elapsed() >= pause(complete)));
        if !due || self.settings.lists.is_empty() {
            return;
        }
        let (mut new, mut missing) = read_files(&self.settings, &self.data);
        for address in self.settings.lists.iter().filter(|list| is_address(list)) {
            match fetch(address).await {
                Ok(list) => drop(new.insert(address.clone(), list)),
                Err(why) => missing = Some(format!("{address}: {why}")),
            }
        }
        let lists: Vec<_> = match self.known.lock() {
            Ok(mut known) => {
                known.extend(new);
                known.values().cloned().collect()
            }
            Err(_) => return,
        };
        let count = lists.len();
        match verifier(&self.settings, &self.trusted.load().roots, lists) {
            Ok(verifier) => self.current.store(Arc::new(Current { verifier, missing: missing.clone(), lists: count })),
            Err(why) => missing = Some(why),
        }
        if let Some(why) = &missing {
            tracing::warn!(issuer = self.settings.name, why, "a revocation list could not be read");
        }
        if let Ok(mut read) = self.read.lock() {
            *read = Some((Instant::now(), missing.is_none()));
        }
    }

    /// What is known of revocation now.
    pub fn health(&self) -> IssuerHealth {
        let current = self.current.load();
        let responder = self.statuses.as_ref().map(|statuses| {
            let (known, failed) = statuses.health();
            ResponderHealth { address: statuses.responder().to_owned(), known, failed }
        });
        IssuerHealth { name: self.settings.name.clone(), lists: current.lists, missing: current.missing.clone(), responder }
    }

    /// The key that verified a certificate, as a SubjectPublicKeyInfo. None if no path leads to a trusted certificate.
    fn signer(&self, leaf: &CertificateDer<'_>, rest: &[CertificateDer<'_>], now: UnixTime) -> Option<Vec<u8>> {
        let leaf = webpki::EndEntityCert::try_from(leaf).ok()?;
        let algorithms = provider().signature_verification_algorithms.all;
        let trusted = self.trusted.load();
        let path = leaf.verify_for_usage(algorithms, &trusted.roots.roots, rest, now, webpki::KeyUsage::client_auth(), None, None).ok()?;
        Some(path.issuer_spki().to_vec())
    }

    /// Whether the responder says that a certificate is not revoked, in words for the trace; nothing if there is no responder.
    fn status(&self, leaf: &CertificateDer<'_>, rest: &[CertificateDer<'_>], now: UnixTime) -> Result<String, (Cause, String)> {
        let Some(statuses) = &self.statuses else { return Ok(String::new()) };
        let status = match self.signer(leaf, rest, now) {
            Some(signer) => statuses.status(leaf, &signer),
            None => Status::Unknown("the certificate has no path to its issuer".to_owned()),
        };
        match (status, self.settings.when_unknown) {
            (Status::Good(age), _) => Ok(format!("; not revoked, as the OCSP responder said {} s ago", age.as_secs())),
            (Status::Revoked, _) => Err((
                Cause::CertificateRevoked,
                format!("the OCSP responder of `{}` says that the certificate is revoked", self.settings.name),
            )),
            (Status::Unknown(why), WhenUnknown::Accept) => Ok(format!("; accepted although its status is not known: {why}")),
            (Status::Unknown(why), WhenUnknown::Refuse) => Err((Cause::CertificateRevocationUnknown, why)),
        }
    }

    fn verify(&self, leaf: &CertificateDer<'_>, rest: &[CertificateDer<'_>], now: UnixTime) -> Result<ClientCertVerified, Error> {
        let current = self.current.load();
        let verified = current.verifier.verify_client_cert(leaf, rest, now)?;
        // Without a list nothing is looked up at all, so its absence has to be noticed here.
        let unknown = current.missing.is_some() && current.lists == 0 && self.settings.when_unknown == WhenUnknown::Refuse;
        match unknown {
            true => Err(Error::InvalidCertificate(CertificateError::UnknownRevocationStatus)),
            false => Ok(verified),
        }
    }

    /// What the certificate says of its owner.
    fn identify(&self, leaf: &CertificateDer<'_>) -> Result<VerifiedCertificate, (Cause, String)> {
        let Ok((_, parsed)) = parse_x509_certificate(leaf) else {
            return Err((Cause::CertificateUntrusted, "the certificate cannot be read".to_owned()));
        };
        if let Some(bits) = rsa_bits(&parsed).filter(|bits| *bits < self.settings.key_bits) {
            let said = format!("the certificate's RSA key has {bits} bits; `{}` requires {}", self.settings.name, self.settings.key_bits);
            return Err((Cause::CertificatePurpose, said));
        }
        let from = self.settings.name_from;
        let name = name_in(&parsed, from).filter(|name| !name.is_empty());
        let Some(name) = name else {
            let said = format!("the certificate for {} has no {}, which `{}` requires", subject(&parsed), from.words(), self.settings.name);
            return Err((Cause::CertificateNameMissing, said));
        };
        if name.chars().any(char::is_control) {
            let said = format!("the {} in the certificate contains a control character", from.words());
            return Err((Cause::CertificateNameMissing, said));
        }
        let whose = if self.settings.of_devices { "a device" } else { "a person" };
        let said = format!(
            "certificate of {whose}, {} `{}`, issued by `{}`, serial {}, valid until {}",
            from.words(),
            shown(&name),
            self.settings.name,
            parsed.raw_serial_as_string(),
            parsed.validity().not_after.to_rfc2822().unwrap_or_default()
        );
        Ok(VerifiedCertificate {
            issuer: self.settings.name.clone(),
            name,
            of_device: self.settings.of_devices,
            same_person: self.settings.same_person,
            said,
        })
    }
}

fn changed(file: &Path) -> Option<SystemTime> {
    std::fs::metadata(file).and_then(|file| file.modified()).ok()
}

fn now() -> UnixTime {
    UnixTime::since_unix_epoch(Duration::from_micros(clock::now().micros()))
}

fn is_address(list: &str) -> bool {
    list.starts_with("http://") || list.starts_with("https://")
}

/// The lists that are files, and why one could not be read.
fn read_files(settings: &Issuer, data: &Path) -> (HashMap<String, CertificateRevocationListDer<'static>>, Option<String>) {
    let (mut lists, mut missing) = (HashMap::new(), None);
    for file in settings.lists.iter().filter(|list| !is_address(list)) {
        let path = data.join(file);
        let small = std::fs::metadata(&path).map(|file| file.len() <= LARGEST_LIST as u64);
        let read = match small {
            Ok(true) => std::fs::read(&path).map_err(|error| error.to_string()).and_then(|bytes| parse_list(&bytes)),
            Ok(false) => Err(format!("it has more than {} MiB", LARGEST_LIST >> 20)),
            Err(error) => Err(error.to_string()),
        };
        match read {
            Ok(list) => drop(lists.insert(file.clone(), list)),
            Err(why) => missing = Some(format!("{file}: {why}")),
        }
    }
    (lists, missing)
}

/// PEM or DER.
fn parse_list(bytes: &[u8]) -> Result<CertificateRevocationListDer<'static>, String> {
    let list = match bytes.starts_with(b"-----") {
        true => CertificateRevocationListDer::from_pem_slice(bytes).map_err(|error| error.to_string())?,
        false => CertificateRevocationListDer::from(bytes.to_vec()),
    };
    match parse_x509_crl(&list) {
        Ok(([], _)) => Ok(list),
        Ok((_, _)) => Err("something follows the revocation list".to_owned()),
        Err(_) => Err("it is not a revocation list".to_owned()),
    }
}

async fn fetch(address: &str) -> Result<CertificateRevocationListDer<'static>, String> {
    let load = async {
        let client =
            reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().build().map_err(|error| error.to_string())?;
        let response = client.get(address).send().await.map_err(|error| error.without_url().to_string())?;
        if !response.status().is_success() {
            return Err(format!("the answer is {}", response.status()));
        }
        parse_list(&read_body(response, LARGEST_LIST).await?)
    };
    tokio::time::timeout(LIST_PATIENCE, load).await.unwrap_or_else(|_| Err(format!("no answer within {} s", LIST_PATIENCE.as_secs())))
}

/// The body of an answer, if it is not larger than `most` bytes.
pub(crate) async fn read_body(response: reqwest::Response, most: usize) -> Result<Vec<u8>, String> {
    let (mut body, mut pieces) = (Vec::new(), response.bytes_stream());
    while let Some(piece) = pieces.next().await {
        body.extend_from_slice(&piece.map_err(|error| error.without_url().to_string())?);
        if body.len() > most {
            return Err(match most >> 20 {
                0 => format!("it has more than {} KiB", most >> 10),
                mebibytes => format!("it has more than {mebibytes} MiB"),
            });
        }
    }
    Ok(body)
}

fn verifier(
    settings: &Issuer,
    roots: &Arc<RootCertStore>,
    lists: Vec<CertificateRevocationListDer<'static>>,
) -> Result<Arc<dyn ClientCertVerifier>, String> {
    let builder = WebPkiClientVerifier::builder_with_provider(Arc::clone(roots), provider()).allow_unauthenticated();
    let builder = match lists.is_empty() {
        true => builder,
        false => {
            let builder = builder.with_crls(lists).only_check_end_entity_revocation();
            match settings.when_unknown {
                WhenUnknown::Accept => builder.allow_unknown_revocation_status(),
                WhenUnknown::Refuse => builder.enforce_revocation_expiration(),
            }
        }
    };
    builder.build().map(|verifier| verifier as Arc<dyn ClientCertVerifier>).map_err(|error| error.to_string())
}

/// Bits of the certificate's RSA key; none for other keys.
fn rsa_bits(certificate: &X509Certificate<'_>) -> Option<u32> {
    match certificate.public_key().parsed() {
        Ok(PublicKey::RSA(key)) => u32::try_from(key.key_size()).ok(),
        _ => None,
    }
}

fn subject(certificate: &X509Certificate<'_>) -> String {
    shown(&certificate.subject().to_string()).into_owned()
}

fn name_in(certificate: &X509Certificate<'_>, from: NameFrom) -> Option<String> {
    if from == NameFrom::CommonName {
        return certificate.subject().iter_common_name().next()?.as_str().ok().map(str::to_owned);
    }
    let names = certificate.subject_alternative_name().ok().flatten()?;
    names.value.general_names.iter().find_map(|name| match (name, from) {
        (GeneralName::RFC822Name(mail), NameFrom::Mail) => Some((*mail).to_owned()),
        (GeneralName::URI(uri), NameFrom::Uri) => Some((*uri).to_owned()),
        (GeneralName::OtherName(kind, value), NameFrom::Principal) if is_principal(kind) => utf8_in(value),
        _ => None,
    })
}

fn is_principal(kind: &Oid<'_>) -> bool {
    kind.iter().is_some_and(|parts| parts.eq(PRINCIPAL.iter().copied()))
}

/// The text of an explicitly tagged UTF8String: `[0] { UTF8String }`.
fn utf8_in(value: &[u8]) -> Option<String> {
    let (_, outer) = x509_parser::der_parser::parse_der(value).ok()?;
    let text = match outer.as_slice() {
        Ok(inner) => x509_parser::der_parser::parse_der(inner).ok()?.1.as_str().ok()?.to_owned(),
        Err(_) => outer.as_str().ok()?.to_owned(),
    };
    Some(text)
}

/// Verifies certificates in TLS handshakes against the issuers of one chain.
#[derive(Debug)]
pub struct ChainVerifier {
    issuers: Vec<Arc<IssuerState>>,
    subjects: Vec<DistinguishedName>,
    provider: Arc<CryptoProvider>,
}

/// A chain of certificates that is too long.
#[derive(Debug, ThisError)]
#[error("the peer sent {0} certificates; {LONGEST_CHAIN} are allowed")]
struct LongChain(usize);

impl ChainVerifier {
    /// For these issuers.
    pub fn new(issuers: Vec<Arc<IssuerState>>) -> Self {
        let subjects = issuers.iter().flat_map(|issuer| issuer.trusted.load().roots.subjects()).collect();
        ChainVerifier { issuers, subjects, provider: provider() }
    }

    /// Whose certificate it is, after a handshake that may have been resumed: everything is verified anew.
    ///
    /// # Errors
    /// The cause, and what was seen.
    pub fn identify(&self, chain: &[CertificateDer<'static>]) -> Result<VerifiedCertificate, (Cause, String)> {
        let Some((leaf, rest)) = chain.split_first() else {
            return Err((Cause::CertificateMissing, "the peer sent no certificate".to_owned()));
        };
        let now = now();
        let issuer = self.issuer_of(leaf, rest, now).map_err(|error| {
            let failed = bivector_eap::certificate_failed(&error);
            (failed.cause, failed.said)
        })?;
        let status = issuer.status(leaf, rest, now)?;
        let mut found = issuer.identify(leaf)?;
        found.said.push_str(&status);
        Ok(found)
    }

    /// Whether an OCSP responder has to be asked before [`ChainVerifier::identify`] can judge.
    pub fn must_ask(&self, chain: &[CertificateDer<'static>]) -> bool {
        self.question(chain).is_some_and(|(statuses, leaf, signer)| statuses.must_ask(leaf, &signer))
    }

    /// Asks the OCSP responder of the issuer that accepts a certificate, if it has one. It ends after a few seconds, whatever happens.
    pub async fn ask(&self, chain: &[CertificateDer<'static>]) {
        if let Some((statuses, leaf, signer)) = self.question(chain) {
            statuses.ask(leaf, &signer).await;
        }
    }

    fn question<'q>(&'q self, chain: &'q [CertificateDer<'static>]) -> Option<(&'q Statuses, &'q CertificateDer<'static>, Vec<u8>)> {
        let (leaf, rest) = chain.split_first()?;
        if self.issuers.iter().all(|issuer| issuer.statuses.is_none()) {
            return None;
        }
        let now = now();
        let issuer = self.issuer_of(leaf, rest, now).ok()?;
        Some((issuer.statuses.as_ref()?, leaf, issuer.signer(leaf, rest, now)?))
    }

    /// The issuer that accepts a certificate. Where none does, the reason of one that knows its issuer is given.
    fn issuer_of(&self, leaf: &CertificateDer<'_>, rest: &[CertificateDer<'_>], now: UnixTime) -> Result<&IssuerState, Error> {
        if rest.len() >= LONGEST_CHAIN {
            return Err(Error::InvalidCertificate(CertificateError::Other(OtherError(Arc::new(LongChain(rest.len() + 1))))));
        }
        let mut refused = Error::InvalidCertificate(CertificateError::UnknownIssuer);
        for issuer in &self.issuers {
            match issuer.verify(leaf, rest, now) {
                Ok(_) => return Ok(issuer),
                Err(Error::InvalidCertificate(CertificateError::UnknownIssuer)) => {}
                Err(error) => refused = error,
            }
        }
        Err(refused)
    }
}

impl ClientCertVerifier for ChainVerifier {
    fn offer_client_auth(&self) -> bool {
        true
    }

    fn client_auth_mandatory(&self) -> bool {
        // A missing certificate has a cause of its own, which is found after the handshake.
        false
    }

    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &self.subjects
    }

    fn verify_client_cert(
        &self,
        leaf: &CertificateDer<'_>,
        rest: &[CertificateDer<'_>],
        now: UnixTime,
    ) -> Result<ClientCertVerified, Error> {
        self.issuer_of(leaf, rest, now).map(|_| ClientCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
