//! The certificate of API, console and handset page.

use bivector_store::error::ServiceError;
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::path::Path;
use std::sync::Arc;
use x509_parser::extensions::GeneralName;
use x509_parser::parse_x509_certificate;

/// The DNS names that a certificate is for (RFC 5280 section 4.2.1.6).
pub fn names_of(certificate: &Path) -> Vec<String> {
    let first = CertificateDer::pem_file_iter(certificate).ok().and_then(|mut chain| chain.next()?.ok());
    let Some(der) = first else { return Vec::new() };
    let Ok((_, parsed)) = parse_x509_certificate(&der) else { return Vec::new() };
    let names = parsed.subject_alternative_name().ok().flatten().map(|names| names.value.general_names.clone()).unwrap_or_default();
    names
        .into_iter()
        .filter_map(|name| match name {
            GeneralName::DNSName(name) => Some(name.to_owned()),
            _ => None,
        })
        .collect()
}

/// Reads certificate and key from PEM files.
///
/// # Errors
/// One of them cannot be used.
pub fn server_config(certificate: &Path, key: &Path) -> Result<Arc<ServerConfig>, ServiceError> {
    let refused = |path: &Path, why: String| ServiceError::Refused {
        what: format!("`{}` {why}", path.display()),
        remedy: "give the certificate with its issuers, and its key, each as a PEM file that this user may read".into(),
    };
    let chain: Result<Vec<_>, _> = CertificateDer::pem_file_iter(certificate).and_then(Iterator::collect);
    let chain = chain.map_err(|error| refused(certificate, format!("is not a certificate: {error}")))?;
    let private = PrivateKeyDer::from_pem_file(key).map_err(|error| refused(key, format!("is not a key: {error}")))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, private))
        .map_err(|error| refused(certificate, format!("cannot be used with `{}`: {error}", key.display())))?;
    Ok(Arc::new(config))
}
