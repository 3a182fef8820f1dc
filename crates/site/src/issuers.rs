//! Issuers of people's and devices' certificates: what is trusted, which name counts, and how revocation is found out.

use std::time::Duration;

/// Who issues certificates that may log in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Issuer {
    /// Its name.
    pub name: String,
    /// PEM file in the data folder with the certificates that are trusted.
    pub trust: String,
    /// Which name in a certificate says whose it is.
    pub name_from: NameFrom,
    /// Whether the certificates belong to devices; people's otherwise.
    pub of_devices: bool,
    /// Whether a password beside the certificate must be the same person's.
    pub same_person: bool,
    /// Revocation lists: files in the data folder, and `http` or `https` addresses.
    pub lists: Vec<String>,
    /// The OCSP responder that is asked about each certificate, if any.
    pub responder: Option<Responder>,
    /// Whether a certificate whose status is not known is accepted.
    pub when_unknown: WhenUnknown,
    /// How often the lists are read again.
    pub refresh: Duration,
    /// Bits of an RSA key, at least.
    pub key_bits: u32,
    /// Its line.
    pub line: u32,
}

/// Which OCSP responder is asked (RFC 6960).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Responder {
    /// The one that the certificate itself names.
    InCertificate,
    /// The one at this `http` or `https` address.
    At(String),
}

impl Responder {
    /// As in site files.
    pub fn name(&self) -> &str {
        match self {
            Responder::InCertificate => "certificate",
            Responder::At(address) => address,
        }
    }
}

/// The name in a certificate that says whose it is (RFC 5280 section 4.2.1.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum NameFrom {
    /// The user principal name among the alternative names.
    Principal,
    /// The mail address among the alternative names.
    #[default]
    Mail,
    /// The URI among the alternative names.
    Uri,
    /// The common name of the subject.
    CommonName,
}

impl NameFrom {
    /// All, by their names in site files.
    pub const ALL: [(&str, NameFrom); 4] =
        [("principal", NameFrom::Principal), ("mail", NameFrom::Mail), ("uri", NameFrom::Uri), ("common-name", NameFrom::CommonName)];

    /// What it is called in sentences.
    pub fn words(self) -> &'static str {
        match self {
            NameFrom::Principal => "user principal name",
            NameFrom::Mail => "mail address",
            NameFrom::Uri => "URI",
            NameFrom::CommonName => "common name",
        }
    }
}

/// What a certificate of unknown status is worth.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenUnknown {
    /// Nothing.
    #[default]
    Refuse,
    /// As much as one that is not revoked.
    Accept,
}
