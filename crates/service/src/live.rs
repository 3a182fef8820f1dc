//! The site that is in force, with what it needs to run: secrets opened, directories ready. Swapped as a whole at apply.

use crate::error::ServiceError;
use crate::records::Records;
use crate::seal::Seal;
use crate::sources::directory::DirectorySource;
use bivector_core::site::{Known, Site};
use bivector_wire::{Secret, SharedSecret};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;

/// One revision of the site, ready to decide logins.
#[derive(Debug)]
pub struct LiveSite {
    /// Its number.
    pub revision: u64,
    /// The site.
    pub site: Arc<Site>,
    /// Shared secrets, by gateway.
    pub secrets: Vec<SharedSecret>,
    /// Logins in flight, by gateway.
    pub in_flight: Vec<AtomicUsize>,
    /// Directories, by index in the site.
    pub directories: Vec<Arc<DirectorySource>>,
}

/// What a secret is sealed for.
pub fn secret_purpose(name: &str) -> String {
    format!("secret/{name}")
}

/// What the site check may know here.
///
/// # Errors
/// The records cannot be read.
pub fn known(records: &Records) -> Result<Known, ServiceError> {
    Ok(Known { sealed: Some(records.sealed_secrets()?.into_keys().collect::<BTreeSet<_>>()) })
}

impl LiveSite {
    /// Opens the secrets and the trust files of a site. Nothing is connected yet.
    ///
    /// # Errors
    /// A secret does not open, or a trust file cannot be read.
    pub fn prepare(site: Site, revision: u64, records: &Records, seal: &Seal, data: &Path) -> Result<Self, ServiceError> {
        let sealed = records.sealed_secrets()?;
        let open = |name: &str| open_secret(name, &sealed, seal);
        let secrets = site
            .gateways
            .iter()
            .map(|gateway| open(&gateway.secret).map(|secret| SharedSecret::new(secret.expose())))
            .collect::<Result<Vec<_>, _>>()?;
        let directories = site
            .directories
            .iter()
            .map(|directory| {
                let password = directory.reader.as_ref().map(|reader| open(&reader.secret)).transpose()?;
                DirectorySource::prepare(directory.clone(), password, data).map(Arc::new)
            })
            .collect::<Result<Vec<_>, _>>()?;
        let in_flight = site.gateways.iter().map(|_| AtomicUsize::new(0)).collect();
        Ok(LiveSite { revision, site: Arc::new(site), secrets, in_flight, directories })
    }
}

fn open_secret(name: &str, sealed: &BTreeMap<String, Vec<u8>>, seal: &Seal) -> Result<Secret<Vec<u8>>, ServiceError> {
    let refused = |what: String| ServiceError::Refused { what, remedy: format!("run `bivector secret set {name}`") };
    let sealed = sealed.get(name).ok_or_else(|| refused(format!("no secret is sealed under `{name}`")))?;
    seal.open(&secret_purpose(name), sealed).map_err(|error| refused(format!("the secret `{name}`: {error}")))
}
