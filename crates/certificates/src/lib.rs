//! Certificates of EAP: the service's own, whose issuers it trusts, which of people's certificates are revoked, and whose they are.

mod issuers;
#[cfg(test)]
mod issuers_tests;
mod server;

pub use issuers::{ChainVerifier, IssuerHealth, IssuerState};
pub use server::EapServer;
