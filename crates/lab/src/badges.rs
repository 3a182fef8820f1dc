//! The certificates of the demo's EAP chains: the server's own, badges of people, and a revocation list. Issued anew at each start.

use crate::certificates::{CertificateError, LabIssuer, LabPerson, LabValidity};
use std::io;
use std::path::Path;
use thiserror::Error;

/// The name of the server in its certificate.
pub const SERVER: &str = "causeway.northmoor.example";
/// Serial number of the badge that was reported lost.
const LOST: u64 = 66;

/// Why the certificates could not be issued.
#[derive(Debug, Error)]
pub enum BadgeError {
    /// A certificate could not be made.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// A file could not be written.
    #[error("a certificate could not be written: {0}")]
    Io(#[from] io::Error),
}

/// Writes the files of the site into the data folder. Gives the badges as PEM, by the names of their secrets.
///
/// # Errors
/// [`BadgeError`].
pub fn issue(data: &Path) -> Result<Vec<(String, String)>, BadgeError> {
    let (server, badges, elsewhere) =
        (LabIssuer::new("Northmoor server issuer")?, LabIssuer::new("Northmoor badges")?, LabIssuer::new("Elsewhere")?);
    let (certificate, key) = server.server_pem(&[SERVER])?;
    for (file, text) in [
        ("eap.pem", certificate),
        ("eap-key.pem", key),
        ("eap-ca.pem", server.pem().to_owned()),
        ("badges-ca.pem", badges.pem().to_owned()),
        ("badges.crl", badges.revocation_list(&[LOST])?),
    ] {
        std::fs::write(data.join(file), text)?;
    }
    let ines =
        LabPerson { name: "Ines Okafor", mail: Some("ines@northmoor.example"), serial: 7, valid: LabValidity::Now, for_servers: false };
    let badge =
        |issuer: &LabIssuer, person: LabPerson<'_>| issuer.person_pem(&person).map(|made| (made.certificate + &made.key).trim().to_owned());
    Ok(vec![
        ("persona/ines-badge".to_owned(), badge(&badges, ines)?),
        ("persona/lost-badge".to_owned(), badge(&badges, LabPerson { serial: LOST, ..ines })?),
        ("persona/old-badge".to_owned(), badge(&badges, LabPerson { serial: 8, valid: LabValidity::Past, ..ines })?),
        ("persona/foreign-badge".to_owned(), badge(&elsewhere, ines)?),
    ])
}
