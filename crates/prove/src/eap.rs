//! EAP logins that are tried or rehearsed: the peer is set up against the service's own certificate.

use bivector_engine::live::LiveSite;
use bivector_exchange::eap::{EapLogin, Identity, PeerSettings, peer_tls};
use bivector_wire::eap::EapMethod;
use bivector_wire::{Message, Secret};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

/// Who logs in by EAP, and how.
#[derive(Debug)]
pub struct EapPerson<'p> {
    /// The method that the peer accepts.
    pub method: EapMethod,
    /// The name as it would be typed.
    pub name: &'p str,
    /// The identity outside the tunnel; the name if none.
    pub outer: Option<&'p str>,
    /// What is typed first.
    pub password: &'p str,
    /// What is typed where MS-CHAPv2 lets another password be tried.
    pub again: &'p [String],
    /// The person's certificate.
    pub identity: Option<Identity>,
    /// Whether the device offers no TLS version from 1.2 on.
    pub old_tls: bool,
}

/// A certificate chain and its key in one PEM text.
///
/// # Errors
/// What is missing or damaged.
pub fn identity(pem: &str) -> Result<Identity, String> {
    let chain: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem.as_bytes()).collect();
    let chain = chain.map_err(|error| format!("the persona's certificate is damaged: {error}"))?;
    if chain.is_empty() {
        return Err("the persona's secret holds no certificate; seal certificate and key as PEM".to_owned());
    }
    let key = PrivateKeyDer::from_pem_slice(pem.as_bytes()).map_err(|error| format!("the persona's key cannot be used: {error}"))?;
    Ok((chain, key))
}

/// Begins an EAP login. `extra` holds what the gateway says of itself.
///
/// # Errors
/// The method needs a tunnel, and the site has no certificate for it; or the person's certificate cannot be used.
pub fn begin(live: &LiveSite, person: EapPerson<'_>, extra: Message) -> Result<EapLogin, String> {
    let tls = match (live.eap.trust(), person.method.has_tunnel()) {
        (Some(trust), true) => Some(peer_tls(trust, person.identity, false).map_err(|error| format!("the person's certificate: {error}"))?),
        (None, true) => {
            return Err(format!("`{}` needs a server certificate: set `certificate` under `[doors.eap]`", person.method.name()));
        }
        (_, false) => None,
    };
    let settings = PeerSettings {
        method: person.method,
        name: person.name.as_bytes().to_vec(),
        outer: person.outer.map(|name| name.as_bytes().to_vec()),
        password: Secret::new(person.password.as_bytes().to_vec()),
        again: person.again.iter().map(|text| Secret::new(text.as_bytes().to_vec())).collect(),
        tls,
        server: "localhost".to_owned(),
        fragment: live.site.eap.fragment,
        old_tls: person.old_tls,
    };
    Ok(EapLogin::new(settings, extra))
}
