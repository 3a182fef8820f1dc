//! Which issuers a directory's certificate may come from.

use crate::error::ServiceError;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// Where Debian keeps the usual issuers.
const USUAL_ISSUERS: &str = "/etc/ssl/certs/ca-certificates.crt";

/// The issuers of a trust file (relative to the data folder), or the usual ones.
pub(super) fn roots(directory: &str, trust: Option<&str>, data: &Path) -> Result<RootCertStore, ServiceError> {
    let path = data.join(trust.unwrap_or(USUAL_ISSUERS));
    let refused = |why: String| ServiceError::Directory {
        directory: directory.to_owned(),
        why: format!("the trust file `{}` {why}", path.display()),
        remedy: "put the issuer's certificate there as PEM, or name another file under `trust`".into(),
    };
    let mut roots = RootCertStore::empty();
    if trust.is_some() || path.exists() {
        for certificate in CertificateDer::pem_file_iter(&path).map_err(|error| refused(format!("cannot be read: {error}")))? {
            let certificate = certificate.map_err(|error| refused(format!("is damaged: {error}")))?;
            roots.add(certificate).map_err(|error| refused(format!("holds a certificate that cannot be used: {error}")))?;
        }
        if roots.is_empty() {
            return Err(refused("holds no certificate".into()));
        }
    }
    Ok(roots)
}

/// The TLS settings of a directory.
pub(super) fn client_config(directory: &str, trust: Option<&str>, data: &Path) -> Result<Arc<ClientConfig>, ServiceError> {
    let roots = roots(directory, trust, data)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| ServiceError::Refused { what: format!("TLS cannot be set up: {error}"), remedy: "please report it".into() })?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(Arc::new(config))
}

/// Days until the first certificate of each PEM file in the data folder ends. A file that cannot be read is left out: the apply says so.
pub fn certificate_days(data: &Path) -> BTreeMap<String, i64> {
    let files = std::fs::read_dir(data).into_iter().flatten().flatten().map(|entry| entry.path());
    let pem = files.filter(|path| path.extension().is_some_and(|extension| extension == "pem"));
    let now = crate::clock::now().secs() as i64;
    pem.filter_map(|path| {
        let name = path.file_name()?.to_str()?.to_owned();
        let ends = CertificateDer::pem_file_iter(&path).ok()?.flatten().filter_map(|der| {
            let (_, certificate) = x509_parser::parse_x509_certificate(&der).ok()?;
            Some(certificate.validity().not_after.timestamp())
        });
        ends.min().map(|end| (name, (end - now).div_euclid(86_400)))
    })
    .collect()
}
