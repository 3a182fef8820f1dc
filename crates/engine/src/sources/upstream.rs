//! An upstream RADIUS server as a source or a factor: asked as a gateway would ask it, its answers proved before they count.

use super::standing::{Failure, Member, Round, Standing, inherit_all};
use bivector_api::directories::Health;
use bivector_core::login::{Answer, Given, HiddenKind, HiddenValue, PassedCredential, Unavailable, UpstreamAnswer, UpstreamAsk};
use bivector_exchange::{Asker, Exchange, Patience, Prepared, Request};
use bivector_model::Cause;
use bivector_model::trace::Tone;
use bivector_site::{Server, Upstream};
use bivector_wire::{AttributeType, Code, Message, Secret, SharedSecret, VendorAttribute, reveal_salted};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::atomic::AtomicUsize;
use std::time::Instant;

/// Vendor number of Microsoft's attributes (RFC 2548).
const MICROSOFT: u32 = 311;

/// An upstream of the site.
#[derive(Debug)]
pub struct UpstreamSource {
    settings: Upstream,
    secret: SharedSecret,
    servers: Vec<UpstreamServer>,
    turn: AtomicUsize,
}

#[derive(Debug)]
struct UpstreamServer {
    server: Server,
    standing: Standing,
}

impl Member for UpstreamServer {
    fn url(&self) -> &str {
        &self.server.url
    }

    fn standing(&self) -> &Standing {
        &self.standing
    }
}

impl UpstreamSource {
    /// Nothing is sent yet.
    pub fn prepare(settings: Upstream, secret: SharedSecret) -> Self {
        let servers = settings.servers.iter().map(|server| UpstreamServer { standing: Standing::new(&server.url), server: server.clone() });
        UpstreamSource { servers: servers.collect(), settings, secret, turn: AtomicUsize::new(0) }
    }

    /// Its name in the site.
    pub fn name(&self) -> &str {
        &self.settings.name
    }

    /// Takes over what was known of its servers under the revision before.
    pub fn inherit(&self, before: &UpstreamSource) {
        inherit_all(&self.servers, &before.servers);
    }

    /// Whether it is asked for its state.
    pub fn has_status_checks(&self) -> bool {
        self.settings.status_checks
    }

    /// Asks a server as if it had never failed.
    pub fn assume_well(&self, url: &str) {
        let servers = self.servers.iter().filter(|server| server.url() == url);
        servers.for_each(|server| drop(server.standing().set_well()));
    }

    /// What is known of its servers, in the order of the site file.
    pub fn health(&self) -> Vec<Health> {
        self.servers.iter().filter_map(|server| server.standing.health()).collect()
    }

    /// Asks every server once whether it is alive (RFC 5997); gives those whose state changed.
    pub async fn look(&self) -> Vec<Health> {
        if !self.settings.status_checks {
            return Vec::new();
        }
        let looks = self.servers.iter().map(async |server| {
            let patience = Patience { wait: self.settings.wait, tries: 1 };
            match self.exchange(&server.server, &self.status(), patience).await {
                Ok(_) => server.standing.set_well(),
                // It speaks, with another secret: no reason to leave it alone, since every login will say so.
                Err(why) if why.cause == Cause::UpstreamSecretDiffers => server.standing.note(Tone::Bad, Some(why.cause), &why.seen),
                Err(why) => server.standing.set_down(&why),
            }
        });
        futures_util::future::join_all(looks).await.into_iter().flatten().collect()
    }

    /// Asks a login's question.
    pub async fn ask(&self, ask: &UpstreamAsk) -> Answer<UpstreamAnswer> {
        let request = self.request(ask);
        let patience = Patience { wait: self.settings.wait, tries: self.settings.tries };
        let mut round = match &ask.server {
            Some(server) => Round::only(&self.settings.name, &self.servers, server),
            None => Round::new(&self.settings.name, &self.servers, self.settings.pool, &self.turn),
        };
        while let Some(server) = round.next() {
            let began = Instant::now();
            match self.exchange(&server.server, &request, patience).await {
                Ok(answer) => return round.answered(server, answer, began),
                Err(why) => {
                    let down = why.cause != Cause::UpstreamSecretDiffers && why.cause != Cause::Unfinished;
                    round.failed(server, Failure::from(why), down, began);
                }
            }
        }
        round.given_up(UpstreamAnswer::Unavailable)
    }

    fn status(&self) -> Request {
        Request { replies: self.settings.integrity, ..Request::status() }
    }

    fn request(&self, ask: &UpstreamAsk) -> Request {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, &ask.name);
        let password = match &ask.credential {
            PassedCredential::Text(text) => Some(text.clone()),
            PassedCredential::Untouched(attributes) => {
                message.push_encoded(attributes);
                None
            }
        };
        if let Some(state) = ask.state.as_ref().filter(|state| !state.is_empty()) {
            message.push(AttributeType::State, state);
        }
        message.push_encoded(&ask.attributes);
        Request { message, password, signed: true, replies: self.settings.integrity }
    }

    async fn exchange(&self, server: &Server, request: &Request, patience: Patience) -> Result<UpstreamAnswer, Unavailable> {
        let failed = |cause: Cause, seen: String| Unavailable { cause, seen };
        let resolved = tokio::net::lookup_host((server.host.as_str(), server.port)).await.map(|mut found| found.next());
        let address = match resolved {
            Ok(Some(address)) => address,
            Ok(None) => return Err(failed(Cause::SourceNameUnresolved, format!("`{}` has no address", server.host))),
            Err(error) => return Err(failed(Cause::SourceNameUnresolved, format!("`{}` does not resolve: {error}", server.host))),
        };
        let any: IpAddr = if address.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let local = SocketAddr::new(self.settings.source_address.unwrap_or(any), 0);
        let asker = Asker::connect(local, address).await.map_err(|error| {
            let from = self.settings.source_address.map(|own| format!(" from {own}")).unwrap_or_default();
            failed(Cause::SourceUnreachable, format!("requests cannot be sent{from}: {error}"))
        })?;
        // A request that does not fit is the login's own trouble, not the server's.
        let prepared = request.prepare(&self.secret).map_err(|error| failed(Cause::Unfinished, error.to_string()))?;
        let exchange = asker
            .eager()
            .ask_prepared(&prepared, &self.secret, patience)
            .await
            .map_err(|error| failed(Cause::SourceUnreachable, error.to_string()))?;
        read_answer(exchange, &prepared, &self.secret, patience)
    }
}

fn read_answer(exchange: Exchange, prepared: &Prepared, secret: &SharedSecret, patience: Patience) -> Result<UpstreamAnswer, Unavailable> {
    let Some(reply) = exchange.reply else {
        let (cause, seen) = match exchange.discarded.last() {
            _ if exchange.refused => (Cause::SourceUnreachable, "port unreachable: nothing is listening there".to_owned()),
            Some(why) => (Cause::UpstreamSecretDiffers, format!("{} replies were discarded; the last: {why}", exchange.discarded.len())),
            None => {
                let waited = format!("no answer within {} ms, {} tries", patience.wait.as_millis(), patience.tries);
                (Cause::SourceSlow, waited)
            }
        };
        return Err(Unavailable { cause, seen });
    };
    let (mut given, mut state) = (Given::default(), Vec::new());
    for (kind, value) in reply.attributes.into_iter().flat_map(|(kind, value)| one_each(kind, value)) {
        match (kind, hidden_value(kind, &value, prepared, secret)) {
            (_, Some(hidden)) => given.hidden.push(hidden),
            (AttributeType::State, _) => state = value,
            (AttributeType::ProxyState, _) => {}
            _ => given.attributes.push((kind, value)),
        }
    }
    match reply.code {
        Code::AccessAccept => Ok(UpstreamAnswer::Accept(given)),
        Code::AccessReject => Ok(UpstreamAnswer::Reject(given)),
        Code::AccessChallenge => Ok(UpstreamAnswer::Challenge { state, given }),
        other => {
            Err(Unavailable { cause: Cause::SourceAnswerUnusable, seen: format!("{other} is not a valid reply to an Access-Request") })
        }
    }
}

/// Several of Microsoft's attributes in one (RFC 2865 section 5.26) as one each: some are hidden for us, and must be read apart.
fn one_each(kind: AttributeType, value: Vec<u8>) -> Vec<(AttributeType, Vec<u8>)> {
    let own: Vec<VendorAttribute<'_>> = match kind {
        AttributeType::VendorSpecific => VendorAttribute::read_all(&value).filter(|vendor| vendor.vendor == MICROSOFT).collect(),
        _ => Vec::new(),
    };
    if own.len() < 2 {
        return vec![(kind, value)];
    }
    let alone = |vendor: &VendorAttribute<'_>| {
        let length = (vendor.value.len() + 2) as u8;
        (kind, [&MICROSOFT.to_be_bytes()[..], &[vendor.number, length], vendor.value].concat())
    };
    own.iter().map(alone).collect()
}

/// A value that was hidden for us and has to be hidden anew for the gateway.
fn hidden_value(kind: AttributeType, value: &[u8], prepared: &Prepared, secret: &SharedSecret) -> Option<HiddenValue> {
    let reveal = |hidden: &[u8]| reveal_salted(hidden, &prepared.authenticator, secret);
    let made = |kind, clear: Secret<Vec<u8>>| HiddenValue { kind, clear };
    match kind {
        AttributeType::TunnelPassword => {
            let (tag, hidden) = value.split_first()?;
            reveal(hidden).map(|clear| made(HiddenKind::TunnelPassword(*tag), clear))
        }
        AttributeType::VendorSpecific => {
            let vendor =
                VendorAttribute::read_all(value).next().filter(|vendor| vendor.vendor == MICROSOFT && matches!(vendor.number, 16 | 17))?;
            reveal(vendor.value).map(|clear| made(HiddenKind::MicrosoftKey(vendor.number), clear))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_that_an_upstream_packs_into_one_attribute_are_read_apart() {
        let several = [&MICROSOFT.to_be_bytes()[..], &[16, 4, 1, 2], &[17, 3, 9]].concat();
        let alone = one_each(AttributeType::VendorSpecific, several);
        let read: Vec<_> = alone
            .iter()
            .flat_map(|(_, value)| VendorAttribute::read_all(value))
            .map(|vendor| (vendor.number, vendor.value.to_vec()))
            .collect();
        assert_eq!((alone.len(), read), (2, vec![(16, vec![1, 2]), (17, vec![9])]));
        let other = [&32473u32.to_be_bytes()[..], &[1, 3, 7], &[2, 3, 8]].concat();
        assert_eq!(
            one_each(AttributeType::VendorSpecific, other.clone()),
            [(AttributeType::VendorSpecific, other)],
            "passed on as it came"
        );
    }
}
