//! What is asked of a site: which gateway, chain or name something belongs to.

use super::*;
use bivector_model::condition::LocalTime;
use bivector_model::moment::Moment;
use jiff::Timestamp;

impl Site {
    /// Reads a site file. All findings come back, sorted by place; a site only if none of them is an error.
    pub fn read(text: &str, known: &Known) -> (Option<Site>, Vec<Finding>) {
        read::read(text, known)
    }

    /// The gateway that an address belongs to, by its most specific range.
    pub fn gateway_at(&self, address: IpAddr) -> Option<usize> {
        self.by_address.find(address)
    }

    /// The gateway of a name.
    pub fn gateway_named(&self, name: &str) -> Option<usize> {
        self.gateways.iter().position(|gateway| gateway.name == name)
    }

    /// The chain that takes a login: the first of the gateway's that fits the door's port and the realm of the typed name.
    ///
    /// A rehearsal door stands for any port; `port` is 0 then.
    pub fn chain_for(&self, gateway: usize, port: u16, typed_name: &[u8]) -> Option<usize> {
        let chains = &self.gateways.get(gateway)?.chains;
        let realm = bivector_model::identity::realm_of(&String::from_utf8_lossy(typed_name));
        chains.iter().copied().find(|chain| {
            self.chains
                .get(*chain)
                .is_some_and(|chain| chain.is_for(if port == 0 { *chain.ports.first().unwrap_or(&0) } else { port }, &realm))
        })
    }

    /// Names of the chains that take logins from a gateway.
    pub fn chains_of(&self, gateway: &Gateway) -> Vec<&str> {
        gateway.chains.iter().filter_map(|chain| self.chains.get(*chain)).map(|chain| chain.name.as_str()).collect()
    }

    /// A source's name.
    pub fn source_name(&self, source: SourceRef) -> &str {
        match source {
            SourceRef::Directory(index) => self.directories.get(index).map_or("?", |directory| directory.name.as_str()),
            SourceRef::Upstream(index) => self.upstreams.get(index).map_or("?", |upstream| upstream.name.as_str()),
            SourceRef::Roster => "roster",
        }
    }

    /// A factor's name, as chains list it.
    pub fn factor_name(&self, kind: FactorKind) -> &str {
        match kind {
            FactorKind::Code(kind) => kind.name(),
            FactorKind::Courier(index) => self.couriers.get(index).map_or("?", |courier| courier.name.as_str()),
            FactorKind::Upstream(index) => self.source_name(SourceRef::Upstream(index)),
            FactorKind::Approval => "approval",
            FactorKind::Key => "key",
        }
    }

    /// Where each secret is sent, and how that is protected.
    pub fn destinations(&self) -> BTreeSet<Destination> {
        let to = |secret: &str, place: &str, start_tls: bool, trust: Option<&String>| Destination {
            secret: secret.to_owned(),
            place: place.to_owned(),
            start_tls,
            trust: trust.cloned(),
        };
        let mut sent = BTreeSet::new();
        for directory in &self.directories {
            let Some(reader) = &directory.reader else { continue };
            let servers = directory.servers.iter();
            sent.extend(servers.map(|server| to(&reader.secret, &server.url, directory.start_tls, directory.trust.as_ref())));
        }
        for upstream in &self.upstreams {
            sent.extend(upstream.servers.iter().map(|server| to(&upstream.secret, &server.url, false, None)));
        }
        for courier in &self.couriers {
            let Some(secret) = &courier.secret else { continue };
            sent.insert(match &courier.by {
                CourierBy::Http { url, .. } => to(secret, url, false, courier.trust.as_ref()),
                CourierBy::Smtp { server, start_tls, .. } => to(secret, &server.url, *start_tls, courier.trust.as_ref()),
            });
        }
        sent
    }

    /// A moment as the clocks of the site show it.
    pub fn local_time(&self, now: Moment) -> LocalTime {
        let at = Timestamp::from_microsecond(i64::try_from(now.micros()).unwrap_or(i64::MAX)).unwrap_or_default();
        let at = self.zone.to_datetime(at);
        let weekday = at.weekday().to_monday_zero_offset().unsigned_abs();
        LocalTime { weekday, minute: u16::from(at.hour().unsigned_abs()) * 60 + u16::from(at.minute().unsigned_abs()) }
    }

    /// Names of all secrets that must be sealed for this site to run.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        let readers = self.directories.iter().filter_map(|directory| directory.reader.as_ref()).map(|reader| reader.secret.as_str());
        let upstreams = self.upstreams.iter().map(|upstream| upstream.secret.as_str());
        let couriers = self.couriers.iter().filter_map(|courier| courier.secret.as_deref());
        let personas = self.personas.iter().flat_map(Persona::secrets);
        let dynamic = self.gateways.iter().filter_map(|gateway| gateway.dynamic.as_ref()?.secret.as_deref());
        self.gateways
            .iter()
            .map(|gateway| gateway.secret.as_str())
            .chain(dynamic)
            .chain(readers)
            .chain(upstreams)
            .chain(couriers)
            .chain(personas)
    }
}
