//! Which issuers the certificate of a directory or a courier may come from.

use bivector_store::error::ServiceError;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// Where Debian keeps the usual issuers.
const USUAL_ISSUERS: &str = "/etc/ssl/certs/ca-certificates.crt";

/// The certificates of a trust file (relative to the data folder), or those of the usual issuers.
pub fn certificates(owner: &str, trust: Option<&str>, data: &Path) -> Result<Vec<CertificateDer<'static>>, ServiceError> {
    let path = data.join(trust.unwrap_or(USUAL_ISSUERS));
    if trust.is_none() && !path.exists() {
        return Ok(Vec::new());
    }
    let refused = |why: String| unusable(owner, &path, &why);
    let found = CertificateDer::pem_file_iter(&path).map_err(|error| refused(format!("cannot be read: {error}")))?;
    let found = found.collect::<Result<Vec<_>, _>>().map_err(|error| refused(format!("is damaged: {error}")))?;
    if found.is_empty() { Err(refused("holds no certificate".into())) } else { Ok(found) }
}

fn unusable(owner: &str, path: &Path, why: &str) -> ServiceError {
    ServiceError::Directory {
        directory: owner.to_owned(),
        why: format!("the trust file `{}` {why}", path.display()),
        remedy: "put the issuer's certificate there as PEM, or name another file under `trust`".into(),
    }
}

/// The issuers of a trust file, or the usual ones.
pub fn roots(owner: &str, trust: Option<&str>, data: &Path) -> Result<RootCertStore, ServiceError> {
    let mut roots = RootCertStore::empty();
    for certificate in certificates(owner, trust, data)? {
        let refused = |error| {
            unusable(owner, &data.join(trust.unwrap_or(USUAL_ISSUERS)), &format!("holds a certificate that cannot be used: {error}"))
        };
        roots.add(certificate).map_err(refused)?;
    }
    Ok(roots)
}

/// The TLS settings of a directory or a courier.
pub fn client_config(directory: &str, trust: Option<&str>, data: &Path) -> Result<Arc<ClientConfig>, ServiceError> {
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
    pem.filter_map(|path| Some((path.file_name()?.to_str()?.to_owned(), days_of(&path)?))).collect()
}

/// Days until the first of the certificates in a PEM file ends; negative once it has.
pub fn days_of(path: &Path) -> Option<i64> {
    let now = bivector_store::clock::now().secs() as i64;
    let ends = CertificateDer::pem_file_iter(path).ok()?.flatten().filter_map(|der| {
        let (_, certificate) = x509_parser::parse_x509_certificate(&der).ok()?;
        Some(certificate.validity().not_after.timestamp())
    });
    ends.min().map(|end| (end - now).div_euclid(86_400))
}
