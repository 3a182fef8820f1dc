//! Drills: a rehearsal without a pool member. Only the rehearsal's own site is without it, so everybody else's logins go on as they are,
//! and there is nothing to put back, however the drill ends.

use bivector_api::explain::Fails;
use bivector_engine::live::LiveSite;
use bivector_engine::shared::Shared;
use bivector_site::{CourierBy, Server, Site};
use bivector_store::error::ServiceError;
use std::net::{SocketAddr, TcpListener, UdpSocket};

/// What stands where the member was; it holds the address until the drill is over.
#[derive(Debug)]
pub struct Stump {
    _tcp: Option<TcpListener>,
    _udp: Option<UdpSocket>,
}

/// The active site, with one member failing.
///
/// # Errors
/// There is no such member, or the site cannot be prepared.
pub fn without(live: &LiveSite, member: &str, fails: Fails, shared: &Shared) -> Result<(LiveSite, Stump), ServiceError> {
    let mut site: Site = (*live.site).clone();
    let broken = |error: std::io::Error| ServiceError::Records(format!("no address for the drill: {error}"));
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let (tcp, udp) = (TcpListener::bind(any).map_err(broken)?, UdpSocket::bind(any).map_err(broken)?);
    let (tcp_at, udp_at) = (tcp.local_addr().map_err(broken)?, udp.local_addr().map_err(broken)?);
    let mut taken = 0;
    let mut members = Vec::new();
    let mut take = |server: &mut Server, at: SocketAddr| {
        members.push(server.url.clone());
        if server.url == member || format!("{}:{}", server.host, server.port) == member {
            // Its name in traces stays; only what answers there is gone.
            (server.host, server.port) = (at.ip().to_string(), at.port());
            taken += 1;
        }
    };
    site.directories.iter_mut().flat_map(|directory| &mut directory.servers).for_each(|server| take(server, tcp_at));
    site.upstreams.iter_mut().flat_map(|upstream| &mut upstream.servers).for_each(|server| take(server, udp_at));
    for courier in &mut site.couriers {
        members.push(courier.name.clone());
        if courier.name != member {
            continue;
        }
        taken += 1;
        match &mut courier.by {
            CourierBy::Http { url, .. } => *url = format!("http://{tcp_at}/"),
            CourierBy::Smtp { server, .. } => (server.host, server.port) = (tcp_at.ip().to_string(), tcp_at.port()),
        }
    }
    if taken == 0 {
        return Err(ServiceError::Refused {
            what: format!("unknown server or courier `{member}`"),
            remedy: format!("known: {}", members.join(", ")),
        });
    }
    let stump = match fails {
        // A listener that is gone leaves a closed port; nobody is given the same one so soon.
        Fails::Closed => Stump { _tcp: None, _udp: None },
        Fails::Silent => Stump { _tcp: Some(tcp), _udp: Some(udp) },
    };
    let without = LiveSite::prepare(site, live.revision, &shared.records, &shared.seal, &shared.data)?;
    // What is known of the other members stays known. This one has only just failed, and nobody knows it yet.
    without.inherit(live);
    without.directories.iter().for_each(|directory| directory.assume_well(member));
    without.upstreams.iter().for_each(|upstream| upstream.assume_well(member));
    Ok((without, stump))
}
