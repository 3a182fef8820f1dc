//! The service's side of EAP: its certificate, which is read again when it changes, and the settings of each chain.

use crate::issuers::{ChainVerifier, IssuerState};
use arc_swap::ArcSwap;
use bivector_eap::{Sessions, Settings};
use bivector_exchange::eap::Trust;
use bivector_site::{EapCertificate, Site};
use bivector_store::error::ServiceError;
use bivector_wire::eap::EapMethod;
use rustls::ServerConfig;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::version::{TLS12, TLS13};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::SystemTime;

/// The name that challenges carry.
const SERVER: &str = "bivector";

/// Everything that EAP needs beside the login machine.
#[derive(Debug, Default)]
pub struct EapServer {
    /// By index of the chain; none for chains without EAP methods.
    plans: Vec<Option<Plan>>,
    prepared: ArcSwap<Prepared>,
    certificate: Option<Arc<Certificate>>,
    issuers: Vec<Arc<IssuerState>>,
    sessions: Option<Arc<Sessions>>,
    fragment: usize,
    tls12: bool,
}

/// What the site says of one chain.
#[derive(Debug)]
struct Plan {
    methods: Vec<EapMethod>,
    /// Indexes of its issuers.
    issuers: Vec<usize>,
    resumes: bool,
}

/// What conversations use, by index of the chain. It is made anew when the certificates change that an issuer trusts.
#[derive(Debug, Default)]
struct Prepared {
    settings: Vec<Option<Arc<Settings>>>,
    /// None for chains that accept no certificates.
    verifiers: Vec<Option<Arc<ChainVerifier>>>,
}

/// The server's certificate and key, as their files are now.
#[derive(Debug)]
struct Certificate {
    files: (PathBuf, PathBuf),
    current: ArcSwap<CertifiedKey>,
    /// When the files were last changed, as far as that was seen.
    changed: Mutex<Option<(SystemTime, SystemTime)>>,
}

impl ResolvesServerCert for Certificate {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.current.load_full())
    }
}

impl EapServer {
    /// Reads the certificate and puts together what each chain accepts.
    ///
    /// # Errors
    /// The certificate or its key cannot be used.
    pub fn prepare(site: &Site, data: &Path) -> Result<Self, ServiceError> {
        let plan = |chain: &bivector_site::Chain| {
            let methods: Vec<EapMethod> = chain.methods.iter().filter_map(|method| method.eap()).collect();
            (!methods.is_empty()).then(|| Plan { methods, issuers: chain.issuers.clone(), resumes: resumes(chain) })
        };
        let plans: Vec<_> = site.chains.iter().map(plan).collect();
        if plans.iter().all(Option::is_none) {
            return Ok(EapServer::default());
        }
        let certificate = site.eap.certificate.as_ref().map(|files| Certificate::read(files, data)).transpose()?.map(Arc::new);
        let issuers = site.issuers.iter().map(|issuer| IssuerState::prepare(issuer, data).map(Arc::new)).collect::<Result<Vec<_>, _>>()?;
        let server = EapServer {
            plans,
            prepared: ArcSwap::default(),
            certificate,
            issuers,
            sessions: site.eap.resume.map(|_| Arc::new(Sessions::new(site.eap.conversations * 4))),
            fragment: site.eap.fragment,
            tls12: site.eap.tls12,
        };
        server.prepared.store(Arc::new(server.put_together()?));
        Ok(server)
    }

    fn put_together(&self) -> Result<Prepared, ServiceError> {
        let shown = self.certificate.as_ref().map(|certificate| name_of(&certificate.current.load())).unwrap_or_default();
        let mut prepared = Prepared::default();
        for plan in &self.plans {
            let Some(plan) = plan else {
                prepared.settings.push(None);
                prepared.verifiers.push(None);
                continue;
            };
            let own: Vec<_> = plan.issuers.iter().filter_map(|index| self.issuers.get(*index).cloned()).collect();
            let verifier = (!own.is_empty()).then(|| Arc::new(ChainVerifier::new(own)));
            let tls = self.certificate.as_ref().map(|certificate| tls(certificate, verifier.clone(), self.tls12)).transpose()?;
            prepared.settings.push(Some(Arc::new(Settings {
                methods: plan.methods.clone(),
                tls,
                certificate: shown.clone(),
                asks_certificate: verifier.is_some(),
                fragment: self.fragment,
                server: SERVER.to_owned(),
                sessions: self.sessions.clone().filter(|_| plan.resumes),
            })));
            prepared.verifiers.push(verifier);
        }
        Ok(prepared)
    }

    /// What conversations of a chain may do; none if the chain carries out no EAP method.
    pub fn settings(&self, chain: usize) -> Option<Arc<Settings>> {
        self.prepared.load().settings.get(chain)?.clone()
    }

    /// Who judges the certificates that peers show to a chain; none if the chain asks for none.
    pub fn verifier(&self, chain: usize) -> Option<Arc<ChainVerifier>> {
        self.prepared.load().verifiers.get(chain)?.clone()
    }

    /// What the issuers know of revocation.
    pub fn issuers(&self) -> &[Arc<IssuerState>] {
        &self.issuers
    }

    /// What a rehearsed peer trusts: the certificate of the service itself. None if there is none.
    pub fn trust(&self) -> Option<Trust> {
        let current = self.certificate.as_ref()?.current.load();
        Some(Trust::Exactly(current.cert.first()?.clone()))
    }

    /// Reads certificates and revocation lists again if they have changed or their time has come. Conversations that have begun keep the one they saw.
    pub async fn refresh(&self) {
        let renewed = self.certificate.as_ref().is_some_and(|certificate| certificate.refresh());
        // Every issuer is looked at.
        let retrusted = self.issuers.iter().filter(|issuer| issuer.refresh_trust()).count();
        if renewed || retrusted > 0 {
            match self.put_together() {
                Ok(prepared) => self.prepared.store(Arc::new(prepared)),
                Err(error) => tracing::warn!(%error, "changed certificates cannot be used; those before stay in use"),
            }
        }
        for issuer in &self.issuers {
            issuer.refresh().await;
        }
    }
}

impl Certificate {
    fn read(files: &EapCertificate, data: &Path) -> Result<Self, ServiceError> {
        let files = (data.join(&files.certificate), data.join(&files.key));
        let key = certified(&files.0, &files.1)?;
        let changed = Mutex::new(modified(&files));
        Ok(Certificate { files, current: ArcSwap::from_pointee(key), changed })
    }

    /// Whether another certificate is in use now.
    fn refresh(&self) -> bool {
        let now = modified(&self.files);
        let Ok(mut changed) = self.changed.lock() else { return false };
        if now.is_none() || *changed == now {
            return false;
        }
        *changed = now;
        match certified(&self.files.0, &self.files.1) {
            Ok(key) => {
                self.current.store(Arc::new(key));
                tracing::info!(file = %self.files.0.display(), "the certificate for EAP has changed and is in use");
                true
            }
            Err(error) => {
                tracing::warn!(%error, "the changed certificate for EAP cannot be used; the one before stays in use");
                false
            }
        }
    }
}

fn modified((certificate, key): &(PathBuf, PathBuf)) -> Option<(SystemTime, SystemTime)> {
    let of = |path: &Path| std::fs::metadata(path).and_then(|file| file.modified()).ok();
    Some((of(certificate)?, of(key)?))
}

fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::ring::default_provider())
}

fn certified(certificate: &Path, key: &Path) -> Result<CertifiedKey, ServiceError> {
    let refused = |path: &Path, why: String| ServiceError::Refused {
        what: format!("`{}` {why}", path.display()),
        remedy:
            "set `certificate` and `key` under `[doors.eap]` to PEM files in the data folder: the certificate with its issuers, and its key"
                .into(),
    };
    let chain: Result<Vec<_>, _> = CertificateDer::pem_file_iter(certificate).and_then(Iterator::collect);
    let chain = chain.map_err(|error| refused(certificate, format!("is not a certificate: {error}")))?;
    let private = PrivateKeyDer::from_pem_file(key).map_err(|error| refused(key, format!("is not a key: {error}")))?;
    let key_shown = key.display().to_string();
    CertifiedKey::from_der(chain, private, &provider())
        .map_err(|error| refused(certificate, format!("cannot be used with `{key_shown}`: {error}")))
}

fn tls(certificate: &Arc<Certificate>, verifier: Option<Arc<ChainVerifier>>, tls12: bool) -> Result<Arc<ServerConfig>, ServiceError> {
    let versions: &[&rustls::SupportedProtocolVersion] = if tls12 { &[&TLS12, &TLS13] } else { &[&TLS13] };
    let refused =
        |error: rustls::Error| ServiceError::Refused { what: format!("TLS cannot be set up: {error}"), remedy: "please report it".into() };
    let builder = ServerConfig::builder_with_provider(provider()).with_protocol_versions(versions).map_err(refused)?;
    let certificate: Arc<dyn ResolvesServerCert> = Arc::clone(certificate) as _;
    let mut config = match verifier {
        Some(verifier) => builder.with_client_cert_verifier(verifier).with_cert_resolver(certificate),
        None => builder.with_no_client_auth().with_cert_resolver(certificate),
    };
    // Sessions are resumed only where each conversation keeps its own; see `bivector_eap::Sessions`.
    config.session_storage = Arc::new(rustls::server::NoServerSessionStorage {});
    config.send_tls13_tickets = 0;
    Ok(Arc::new(config))
}

/// Whether a session of the chain may be resumed: a code cannot be asked for in one, and an upstream may have asked for a factor of its own.
fn resumes(chain: &bivector_site::Chain) -> bool {
    let by_upstream = chain.first.iter().any(|first| matches!(first.source, bivector_site::SourceRef::Upstream(_)));
    !by_upstream && (chain.second.is_empty() || chain.second.iter().any(|kind| kind.is_on_handset()))
}

/// What a certificate is called: its first name, else its subject.
fn name_of(key: &CertifiedKey) -> String {
    let Some(first) = key.cert.first() else { return String::new() };
    let Ok((_, parsed)) = x509_parser::parse_x509_certificate(first) else { return String::new() };
    let names = parsed.subject_alternative_name().ok().flatten();
    let dns = names.and_then(|names| {
        names.value.general_names.iter().find_map(|name| match name {
            x509_parser::extensions::GeneralName::DNSName(name) => Some((*name).to_owned()),
            _ => None,
        })
    });
    dns.unwrap_or_else(|| parsed.subject().to_string())
}
