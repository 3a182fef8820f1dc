//! Certificates of EAP: the service's own, whose issuers it trusts, which of people's certificates are revoked, and whose they are.

mod issuers;
#[cfg(test)]
mod issuers_tests;
mod ocsp;
#[cfg(test)]
mod ocsp_tests;
mod server;
mod status;

pub use issuers::{ChainVerifier, IssuerHealth, IssuerState, ResponderHealth};
pub use server::EapServer;
