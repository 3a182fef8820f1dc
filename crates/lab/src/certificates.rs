//! Certificates for stand-ins: an issuer made on the spot, and server certificates from it.

use rcgen::{
    BasicConstraints, Certificate, CertificateParams, CertificateRevocationListParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer,
    KeyIdMethod, KeyPair, KeyUsagePurpose, RevocationReason, RevokedCertParams, SanType, SerialNumber, date_time_ymd,
};
use rustls::ServerConfig;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use std::sync::Arc;
use thiserror::Error;

/// A certificate that could not be made.
#[derive(Debug, Error)]
#[error("a certificate could not be made: {0}")]
pub struct CertificateError(String);

impl From<rcgen::Error> for CertificateError {
    fn from(error: rcgen::Error) -> Self {
        CertificateError(error.to_string())
    }
}

impl From<rustls::Error> for CertificateError {
    fn from(error: rustls::Error) -> Self {
        CertificateError(error.to_string())
    }
}

/// Whom a certificate is for.
#[derive(Debug, Clone, Copy)]
pub struct LabPerson<'p> {
    /// Common name.
    pub name: &'p str,
    /// Mail address among the alternative names, if any.
    pub mail: Option<&'p str>,
    /// Serial number.
    pub serial: u64,
    /// When it is valid.
    pub valid: LabValidity,
    /// Whether it is for servers instead of for logging in.
    pub for_servers: bool,
}

/// When a certificate is valid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LabValidity {
    /// For many years before and after now.
    Now,
    /// It has expired.
    Past,
    /// It is not valid yet.
    Future,
}

/// Certificate and key as PEM.
#[derive(Debug, Clone)]
pub struct LabCertificate {
    /// The certificate.
    pub certificate: String,
    /// Its key.
    pub key: String,
}

/// An issuer that exists for this run only.
pub struct LabIssuer {
    issuer: Issuer<'static, KeyPair>,
    pem: String,
}

impl LabIssuer {
    /// Makes one.
    ///
    /// # Errors
    /// No key could be made.
    pub fn new(name: &str) -> Result<Self, CertificateError> {
        let mut params = CertificateParams::new(Vec::new())?;
        params.distinguished_name.push(DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let key = KeyPair::generate()?;
        let pem = params.self_signed(&key)?.pem();
        Ok(LabIssuer { issuer: Issuer::new(params, key), pem })
    }

    /// Its certificate, for trust files.
    pub fn pem(&self) -> &str {
        &self.pem
    }

    /// Its key as PEM, for a stand-in that answers in its name.
    pub fn key_pem(&self) -> String {
        self.issuer.key().serialize_pem()
    }

    /// TLS settings of a server with these names or addresses.
    ///
    /// # Errors
    /// A name that no certificate can carry.
    pub fn server(&self, names: &[&str]) -> Result<Arc<ServerConfig>, CertificateError> {
        let (certificate, key) = self.issue(names)?;
        serve(certificate, &key)
    }

    /// Certificate and key of a server as PEM, for a directory that reads them from files.
    ///
    /// # Errors
    /// A name that no certificate can carry.
    pub fn server_pem(&self, names: &[&str]) -> Result<(String, String), CertificateError> {
        let (certificate, key) = self.issue(names)?;
        Ok((certificate.pem(), key.serialize_pem()))
    }

    /// Certificate and key of a person or device as PEM, for logging in: one with the mail address `name`.
    ///
    /// # Errors
    /// A name that no certificate can carry.
    pub fn person_pem(&self, person: &LabPerson<'_>) -> Result<LabCertificate, CertificateError> {
        let mut params = CertificateParams::new(Vec::new())?;
        if let Some(mail) = person.mail {
            params.subject_alt_names = vec![SanType::Rfc822Name(mail.try_into()?)];
        }
        params.distinguished_name.push(DnType::CommonName, person.name);
        params.extended_key_usages =
            vec![if person.for_servers { ExtendedKeyUsagePurpose::ServerAuth } else { ExtendedKeyUsagePurpose::ClientAuth }];
        params.serial_number = Some(SerialNumber::from(person.serial));
        (params.not_before, params.not_after) = match person.valid {
            LabValidity::Now => (date_time_ymd(2020, 1, 1), date_time_ymd(2090, 1, 1)),
            LabValidity::Past => (date_time_ymd(2020, 1, 1), date_time_ymd(2021, 1, 1)),
            LabValidity::Future => (date_time_ymd(2080, 1, 1), date_time_ymd(2090, 1, 1)),
        };
        let key = KeyPair::generate()?;
        let certificate = params.signed_by(&key, &self.issuer)?;
        Ok(LabCertificate { certificate: certificate.pem(), key: key.serialize_pem() })
    }

    /// A revocation list as PEM with these serial numbers; current for many years.
    ///
    /// # Errors
    /// It could not be signed.
    pub fn revocation_list(&self, serials: &[u64]) -> Result<String, CertificateError> {
        let revoked = serials.iter().map(|serial| RevokedCertParams {
            serial_number: SerialNumber::from(*serial),
            revocation_time: date_time_ymd(2024, 1, 1),
            reason_code: Some(RevocationReason::KeyCompromise),
            invalidity_date: None,
        });
        let params = CertificateRevocationListParams {
            this_update: date_time_ymd(2024, 1, 1),
            next_update: date_time_ymd(2090, 1, 1),
            crl_number: SerialNumber::from(1_u64),
            issuing_distribution_point: None,
            revoked_certs: revoked.collect(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        Ok(params.signed_by(&self.issuer)?.pem()?)
    }

    /// TLS settings of a server whose certificate ended years ago.
    ///
    /// # Errors
    /// A name that no certificate can carry.
    pub fn expired_server(&self, names: &[&str]) -> Result<Arc<ServerConfig>, CertificateError> {
        let key = KeyPair::generate()?;
        let mut params = parameters(names)?;
        params.not_before = date_time_ymd(2020, 1, 1);
        params.not_after = date_time_ymd(2021, 1, 1);
        serve(params.signed_by(&key, &self.issuer)?, &key)
    }

    fn issue(&self, names: &[&str]) -> Result<(Certificate, KeyPair), CertificateError> {
        let key = KeyPair::generate()?;
        Ok((parameters(names)?.signed_by(&key, &self.issuer)?, key))
    }
}

fn parameters(names: &[&str]) -> Result<CertificateParams, CertificateError> {
    Ok(CertificateParams::new(names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>())?)
}

fn serve(certificate: Certificate, key: &KeyPair) -> Result<Arc<ServerConfig>, CertificateError> {
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
    let config = ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_single_cert(vec![certificate.der().clone()], key)?;
    Ok(Arc::new(config))
}
