//! The active site, with what it needs to run: secrets opened, directories ready. Swapped as a whole at apply.

use crate::roster::Roster;
use crate::sources::certificate_days;
use crate::sources::directory::DirectorySource;
use crate::sources::upstream::UpstreamSource;
use arc_swap::ArcSwap;
use bivector_certificates::EapServer;
use bivector_outbound::PushSender;
use bivector_outbound::courier::CourierSource;
use bivector_site::{Gateway, Known, KnownPerson, Site};
use bivector_store::error::ServiceError;
use bivector_store::records::{Records, SealedSecret};
use bivector_store::seal::Seal;
use bivector_wire::{
    AttributeType, Authentic, IntegrityPolicy, NotAuthentic, Packet, Secret, SharedSecret, authenticate, authenticate_accounting,
    reads_like_text, reveal_password,
};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// One revision of the site, ready to decide logins.
#[derive(Debug)]
pub struct LiveSite {
    /// Its number.
    pub revision: u64,
    /// The site.
    pub site: Arc<Site>,
    /// Shared secrets, by gateway.
    pub secrets: Vec<GatewaySecret>,
    /// Shared secrets for requests to end or change sessions, by gateway; none for gateways that take none.
    pub dynamic: Vec<Option<SharedSecret>>,
    /// Logins in flight, by gateway.
    pub in_flight: Vec<AtomicUsize>,
    /// Directories, by index in the site.
    pub directories: Vec<Arc<DirectorySource>>,
    /// Upstreams, by index in the site.
    pub upstreams: Vec<Arc<UpstreamSource>>,
    /// Couriers, by index in the site.
    pub couriers: Vec<Arc<CourierSource>>,
    /// Clients for push messages.
    pub push: Arc<PushSender>,
    /// Certificate and settings of EAP.
    pub eap: Arc<EapServer>,
    /// Addresses of the gateways' host names, as they resolved last.
    resolved: ArcSwap<HashMap<IpAddr, usize>>,
}

/// A gateway's secret, and the next one while it is being changed over.
#[derive(Debug, Clone)]
pub struct GatewaySecret {
    /// The one in use.
    pub current: SharedSecret,
    /// The one that will be; both count until the old one is retired.
    pub next: Option<SharedSecret>,
    /// What packets have shown of it.
    pub seen: Arc<SecretSeen>,
}

/// What packets of a gateway have shown of its secret, since the site came into force.
#[derive(Debug, Default)]
pub struct SecretSeen {
    proved: AtomicBool,
    noise: AtomicUsize,
}

/// Packets in a row that reveal as noise before the secret is doubted that others have proved.
pub const DOUBTED: usize = 3;

impl SecretSeen {
    /// A signed packet, or a password that somebody got in by.
    pub fn prove(&self) {
        if !self.proved.load(Ordering::Relaxed) || self.noise.load(Ordering::Relaxed) > 0 {
            self.proved.store(true, Ordering::Relaxed);
            self.noise.store(0, Ordering::Relaxed);
        }
    }

    /// A password that reveals as noise.
    pub fn doubt(&self) {
        self.noise.fetch_add(1, Ordering::Relaxed);
    }

    /// Whether one more packet that reveals as noise says nothing about the secret.
    pub fn is_proved(&self) -> bool {
        self.proved.load(Ordering::Relaxed) && self.noise.load(Ordering::Relaxed) < DOUBTED
    }
}

/// Which of a gateway's secrets a request was made with. Its reply is made with the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Which {
    /// The one in use.
    Current,
    /// The next one.
    Next,
}

impl GatewaySecret {
    /// One of the two.
    pub fn of(&self, which: Which) -> &SharedSecret {
        match which {
            Which::Next => self.next.as_ref().unwrap_or(&self.current),
            Which::Current => &self.current,
        }
    }

    /// Proves a request with the secret in use, or else with the next one.
    ///
    /// # Errors
    /// Neither fits; the reason is about the one in use.
    pub fn authenticate<'p>(&self, packet: Packet<'p>, policy: IntegrityPolicy) -> Result<(Authentic<'p>, Which), NotAuthentic> {
        let Some(next) = &self.next else { return authenticate(packet, &self.current, policy).map(|proved| (proved, Which::Current)) };
        match authenticate(packet, &self.current, policy) {
            Ok(proved) if proved.is_signed() => Ok((proved, Which::Current)),
            // Nothing is proved by a request that is not signed: the secret with which its password reads as text is taken.
            Ok(proved) => {
                let reads = |secret| {
                    let hidden = packet.first(AttributeType::UserPassword)?;
                    reveal_password(hidden.value, packet.authenticator(), secret).ok().map(|text| reads_like_text(text.expose()))
                };
                let which = if reads(&self.current) == Some(false) && reads(next) == Some(true) { Which::Next } else { Which::Current };
                Ok((proved, which))
            }
            Err(why) => authenticate(packet, next, policy).map(|proved| (proved, Which::Next)).map_err(|_| why),
        }
    }
}

impl GatewaySecret {
    /// Proves a report of a session with the secret in use, or else with the next one.
    ///
    /// # Errors
    /// Neither fits.
    pub fn authenticate_accounting<'p>(&self, packet: Packet<'p>) -> Result<(Authentic<'p>, Which), NotAuthentic> {
        let current = authenticate_accounting(packet, &self.current).map(|proved| (proved, Which::Current));
        match &self.next {
            Some(next) => current.or_else(|why| authenticate_accounting(packet, next).map(|proved| (proved, Which::Next)).map_err(|_| why)),
            None => current,
        }
    }
}

/// What a secret is sealed for.
pub fn secret_purpose(name: &str) -> String {
    format!("secret/{name}")
}

/// What the site check may know here.
///
/// # Errors
/// The records cannot be read.
pub fn known(records: &Records, roster: &Roster, data: &Path) -> Result<Known, ServiceError> {
    let people = roster.all();
    let people = people.iter().map(|person| KnownPerson {
        source: person.source.clone(),
        login: person.login.clone(),
        groups: person.groups.iter().map(|group| group.to_lowercase()).collect(),
        has_factor: !person.factors.is_empty(),
    });
    Ok(Known {
        sealed: Some(records.sealed_secrets()?.into_keys().collect::<BTreeSet<_>>()),
        people: people.collect(),
        certificates: certificate_days(data),
        advisers: vec![bivector_timing::budget::advice],
    })
}

impl LiveSite {
    /// Opens the secrets and the trust files of a site. Nothing is connected yet.
    ///
    /// # Errors
    /// A secret does not open, or a trust file cannot be read.
    pub fn prepare(site: Site, revision: u64, records: &Records, seal: &Seal, data: &Path) -> Result<Self, ServiceError> {
        let sealed = records.sealed_secrets()?;
        let open = |name: &str| open_secret(name, &sealed, seal);
        let shared = |name: &str| open(name).map(|secret| SharedSecret::new(secret.expose()));
        let secrets = site
            .gateways
            .iter()
            .map(|gateway| {
                let next = sealed.get(&gateway.secret).and_then(|secret| secret.next.as_ref());
                let next = next.and_then(|next| seal.open(&secret_purpose(&gateway.secret), next).ok());
                Ok(GatewaySecret {
                    current: shared(&gateway.secret)?,
                    next: next.map(|next| SharedSecret::new(next.expose())),
                    seen: Arc::default(),
                })
            })
            .collect::<Result<Vec<_>, ServiceError>>()?;
        let dynamic = site.gateways.iter().map(|gateway| {
            let secret = gateway.dynamic.as_ref().map(|dynamic| dynamic.secret.as_deref().unwrap_or(&gateway.secret));
            secret.map(shared).transpose()
        });
        let dynamic = dynamic.collect::<Result<Vec<_>, ServiceError>>()?;
        let upstreams = site
            .upstreams
            .iter()
            .map(|upstream| Ok(Arc::new(UpstreamSource::prepare(upstream.clone(), shared(&upstream.secret)?))))
            .collect::<Result<Vec<_>, ServiceError>>()?;
        let directories = site
            .directories
            .iter()
            .map(|directory| {
                let password = directory.reader.as_ref().map(|reader| open(&reader.secret)).transpose()?;
                DirectorySource::prepare(directory.clone(), password, data).map(Arc::new)
            })
            .collect::<Result<Vec<_>, _>>()?;
        let couriers = site
            .couriers
            .iter()
            .map(|courier| CourierSource::prepare(courier.clone(), courier.secret.as_deref().map(open).transpose()?, data).map(Arc::new))
            .collect::<Result<Vec<_>, _>>()?;
        let in_flight = site.gateways.iter().map(|_| AtomicUsize::new(0)).collect();
        let push = Arc::new(PushSender::prepare(&site.push, data)?);
        let eap = Arc::new(EapServer::prepare(&site, data)?);
        Ok(LiveSite {
            revision,
            site: Arc::new(site),
            secrets,
            dynamic,
            in_flight,
            directories,
            upstreams,
            couriers,
            push,
            eap,
            resolved: ArcSwap::default(),
        })
    }

    /// The same with another reading of the site: sources and secrets are shared, so only what concerns nobody outside may differ.
    pub fn with_site(&self, site: Site) -> Self {
        LiveSite {
            revision: self.revision,
            secrets: self.secrets.clone(),
            dynamic: self.dynamic.clone(),
            in_flight: site.gateways.iter().map(|_| AtomicUsize::new(0)).collect(),
            directories: self.directories.clone(),
            upstreams: self.upstreams.clone(),
            couriers: self.couriers.clone(),
            push: Arc::clone(&self.push),
            eap: Arc::clone(&self.eap),
            resolved: ArcSwap::from(self.resolved.load_full()),
            site: Arc::new(site),
        }
    }

    /// Takes over what was known of sources under the revision before, so that a dead server stays left alone and lights do not flicker.
    pub fn inherit(&self, before: &LiveSite) {
        for source in &self.directories {
            before.directories.iter().filter(|one| one.name() == source.name()).for_each(|one| source.inherit(one));
        }
        for source in &self.upstreams {
            before.upstreams.iter().filter(|one| one.name() == source.name()).for_each(|one| source.inherit(one));
        }
        let same = |index: usize| {
            let name = &before.site.gateways.get(index)?.name;
            self.site.gateway_named(name).filter(|now| self.site.gateways.get(*now).is_some_and(|gateway| !gateway.hosts.is_empty()))
        };
        let known = before.resolved.load();
        self.resolved.store(Arc::new(known.iter().filter_map(|(address, index)| Some((*address, same(*index)?))).collect()));
    }

    /// The gateway of an address: by its ranges, or by a host name that resolves to it.
    pub fn gateway_at(&self, address: IpAddr) -> Option<usize> {
        self.site.gateway_at(address).or_else(|| self.resolved.load().get(&address.to_canonical()).copied())
    }

    /// Resolves the gateways' host names. A name that does not resolve now keeps its addresses of before.
    pub async fn resolve_gateways(&self) {
        let of = |(index, gateway): (usize, &Gateway)| gateway.hosts.iter().map(|host| (index, host.clone())).collect::<Vec<_>>();
        let names: Vec<(usize, String)> = self.site.gateways.iter().enumerate().flat_map(of).collect();
        let mut all = HashMap::new();
        for (index, host) in names {
            match tokio::net::lookup_host((host.as_str(), 0)).await {
                Ok(found) => all.extend(found.map(|address| (address.ip().to_canonical(), index))),
                Err(error) => {
                    tracing::warn!(host, %error, "a gateway's host name does not resolve; its addresses of before are kept");
                    all.extend(
                        self.resolved.load().iter().filter(|(_, owner)| **owner == index).map(|(address, owner)| (*address, *owner)),
                    );
                }
            }
        }
        self.resolved.store(Arc::new(all));
    }

    /// The addresses that a gateway's host names resolved to.
    pub fn resolved(&self, gateway: usize) -> Vec<IpAddr> {
        let mut addresses: Vec<IpAddr> =
            self.resolved.load().iter().filter(|(_, owner)| **owner == gateway).map(|(address, _)| *address).collect();
        addresses.sort_unstable();
        addresses
    }
}

/// Decrypts a named secret.
///
/// # Errors
/// It is not set, or the key file does not open it.
pub fn open_secret(name: &str, sealed: &BTreeMap<String, SealedSecret>, seal: &Seal) -> Result<Secret<Vec<u8>>, ServiceError> {
    let refused = |what: String| ServiceError::Refused { what, remedy: format!("run `bivector secret set {name}`") };
    let sealed = sealed.get(name).ok_or_else(|| refused(format!("no secret is sealed under `{name}`")))?;
    seal.open(&secret_purpose(name), &sealed.current).map_err(|error| refused(format!("the secret `{name}`: {error}")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_wire::{Code, Message, hide_password};

    fn request(secret: &SharedSecret, signed: bool) -> Vec<u8> {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserPassword, &hide_password(b"barnacle-and-buoy", &[4; 16], secret).unwrap());
        if signed { message.sign_request(1, &[4; 16], secret).unwrap() } else { message.unsigned_request(1, &[4; 16]).unwrap() }
    }

    #[test]
    fn while_two_values_count_the_one_that_proves_a_request_or_reads_its_password_is_taken() {
        let (old, new) = (SharedSecret::new(b"old-value"), SharedSecret::new(b"new-value"));
        let both = GatewaySecret { current: old.clone(), next: Some(new.clone()), seen: Arc::default() };
        for (secret, which) in [(&old, Which::Current), (&new, Which::Next)] {
            for (signed, policy) in [(true, IntegrityPolicy::Required), (false, IntegrityPolicy::WhenPresent)] {
                let bytes = request(secret, signed);
                let (proved, seen) = both.authenticate(Packet::parse(&bytes).unwrap(), policy).unwrap();
                assert_eq!((proved.is_signed(), seen), (signed, which));
            }
        }
        let stranger = request(&SharedSecret::new(b"another"), true);
        assert_eq!(
            both.authenticate(Packet::parse(&stranger).unwrap(), IntegrityPolicy::Required).unwrap_err(),
            NotAuthentic::SecretDiffers
        );
        let unsigned = request(&old, false);
        assert_eq!(both.authenticate(Packet::parse(&unsigned).unwrap(), IntegrityPolicy::Required).unwrap_err(), NotAuthentic::Missing);
        let one = GatewaySecret { current: old, next: None, seen: Arc::default() };
        assert!(one.authenticate(Packet::parse(&request(&new, true)).unwrap(), IntegrityPolicy::Required).is_err(), "retired is retired");
    }
}
