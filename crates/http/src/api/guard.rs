//! What every request passes before its handler, and every answer after it: who calls and by which way, which host is meant, and headers
//! that keep answers out of caches.

use super::ApiState;
use super::auth::Operator;
use super::problem::Problem;
use crate::server::{Connection, Connections};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::convert::Infallible;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

/// Who calls.
#[derive(Debug, Clone, Copy)]
pub(super) struct Caller {
    /// The address of whoever sits at the other end, behind a proxy that is trusted too.
    pub address: IpAddr,
    /// Whether it is encrypted on the whole way, as far as is known.
    pub secure: bool,
    /// Whether only this machine's own programs can have sent it.
    pub local: bool,
}

impl Caller {
    /// What a trusted proxy says of the caller counts (RFC 7239), and what anybody else says does not.
    fn of(connection: &Connection, headers: &HeaderMap, connections: &Connections) -> Self {
        let peer = connection.peer.ip().to_canonical();
        let direct = Caller { address: peer, secure: connection.tls, local: connection.on_loopback };
        if !connections.is_proxy(peer) {
            return direct;
        }
        let lines = headers.get_all(header::FORWARDED).iter().filter_map(|line| line.to_str().ok());
        let elements: Vec<&str> = lines.flat_map(|line| line.split(',')).collect();
        // Each proxy adds itself at the end; the first from there that is none of ours is the caller.
        let mut caller = Caller { local: false, ..direct };
        for element in elements.into_iter().rev() {
            let Some(address) = parameter(element, "for").and_then(|node| node_address(&node)) else { break };
            caller.address = address;
            caller.secure = parameter(element, "proto").is_some_and(|proto| proto.eq_ignore_ascii_case("https"));
            if !connections.is_proxy(address) {
                break;
            }
        }
        caller
    }

    /// The address for logs, limits and the audit.
    pub(super) fn text(&self) -> String {
        self.address.to_string()
    }
}

fn parameter(element: &str, wanted: &str) -> Option<String> {
    let pairs = element.split(';').filter_map(|pair| pair.trim().split_once('='));
    pairs.into_iter().find(|(name, _)| name.trim().eq_ignore_ascii_case(wanted)).map(|(_, value)| value.trim().trim_matches('"').to_owned())
}

/// `192.0.2.60`, `192.0.2.60:4711`, `[2001:db8::1]` or `[2001:db8::1]:4711` (RFC 7239 section 6).
fn node_address(node: &str) -> Option<IpAddr> {
    let bare = node.strip_prefix('[').and_then(|rest| rest.split_once(']')).map(|(address, _)| address);
    let address = bare.unwrap_or(node);
    let address = address.parse::<IpAddr>().ok().or_else(|| Some(node.parse::<SocketAddr>().ok()?.ip()));
    address.map(|address| address.to_canonical())
}

impl<S: Send + Sync> FromRequestParts<S> for Caller {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        Ok(Caller::in_parts(parts))
    }
}

impl Caller {
    /// Every request has one by then; without, it is nobody to be trusted.
    pub(super) fn in_parts(parts: &Parts) -> Self {
        let nobody = Caller { address: IpAddr::V4(Ipv4Addr::UNSPECIFIED), secure: false, local: false };
        parts.extensions.get::<Caller>().copied().unwrap_or(nobody)
    }
}

/// Whoever may see figures and the description of the API: any operator, and this machine's own programs.
pub(super) struct Insider;

impl FromRequestParts<ApiState> for Insider {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        if Caller::in_parts(parts).local {
            return Ok(Insider);
        }
        Operator::from_request_parts(parts, state).await.map(|_| Insider)
    }
}

/// Passes a request on, if it is meant for this service.
pub(super) async fn guard(State(state): State<ApiState>, mut request: Request, next: Next) -> Response {
    let path = request.uri().path().to_owned();
    if let Some(connection) = request.extensions().get::<Connection>() {
        let caller = Caller::of(connection, request.headers(), &state.connections);
        request.extensions_mut().insert(caller);
    }
    let mut response = match strange_host(&state, request.headers()) {
        Some(problem) => problem.into_response(),
        None => next.run(request).await,
    };
    let headers = response.headers_mut();
    if ["/api/", "/handset/v1/", "/metrics", "/healthz", "/readyz"].iter().any(|kept| path.starts_with(kept)) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    if state.tls {
        headers.insert(header::STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=31536000"));
    }
    response
}

/// A request that a browser was tricked into: a page elsewhere may have its own name lead to this machine, and only the name tells.
fn strange_host(state: &ApiState, headers: &HeaderMap) -> Option<Problem> {
    let host = headers.get(header::HOST)?.to_str().unwrap_or_default();
    let name = host_name(host);
    let is_address = name.parse::<IpAddr>().is_ok();
    let live = state.shared.live.load();
    let page = live.as_ref().and_then(|live| live.site.handset.address.as_deref()).map(|address| host_name(address_host(address)));
    let known = is_address
        || name.eq_ignore_ascii_case("localhost")
        || page.is_some_and(|page| page.eq_ignore_ascii_case(name))
        || state.names.iter().any(|own| is_name(own, name));
    let title = || format!("`{}` is no name of this service", bivector_model::text::shown(host));
    (!known).then(|| {
        Problem::new(
            StatusCode::MISDIRECTED_REQUEST,
            "host",
            title(),
            "start the service with `--name NAME` for each name that leads to it",
        )
    })
}

/// The host of a URL.
fn address_host(address: &str) -> &str {
    let after = address.split_once("://").map_or(address, |(_, rest)| rest);
    after.split('/').next().unwrap_or(after)
}

/// A host without its port.
fn host_name(host: &str) -> &str {
    if let Some((address, _)) = host.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        return address;
    }
    host.rsplit_once(':').filter(|(_, port)| port.bytes().all(|byte| byte.is_ascii_digit())).map_or(host, |(name, _)| name)
}

/// Whether a name is one that a certificate or the operator gives; `*.example` stands for one label (RFC 6125 section 6.4.3).
fn is_name(own: &str, name: &str) -> bool {
    match own.strip_prefix("*.") {
        Some(domain) => name.split_once('.').is_some_and(|(label, rest)| !label.is_empty() && rest.eq_ignore_ascii_case(domain)),
        None => own.eq_ignore_ascii_case(name),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn caller(peer: &str, forwarded: &[&str], tls: bool) -> (String, bool, bool) {
        let connections = Connections::new(vec!["203.0.113.0/24".parse().unwrap(), "127.0.0.1/32".parse().unwrap()]);
        let mut headers = HeaderMap::new();
        for line in forwarded {
            headers.append(header::FORWARDED, line.parse().unwrap());
        }
        let peer: IpAddr = peer.parse().unwrap();
        let connection = Connection { peer: SocketAddr::new(peer, 4000), on_loopback: peer.is_loopback(), tls };
        let caller = Caller::of(&connection, &headers, &connections);
        (caller.text(), caller.secure, caller.local)
    }

    #[test]
    fn only_trusted_proxies_say_who_calls() {
        let forged = "for=192.0.2.60;proto=https";
        assert_eq!(caller("198.51.100.7", &[forged], false), ("198.51.100.7".into(), false, false), "anybody may send the header");
        assert_eq!(caller("203.0.113.9", &[forged], false), ("192.0.2.60".into(), true, false));
        assert_eq!(
            caller("203.0.113.9", &["for=10.9.9.9;proto=https, for=198.51.100.7;proto=http"], false),
            ("198.51.100.7".into(), false, false),
            "what the caller itself has put before counts nothing"
        );
        assert_eq!(
            caller("127.0.0.1", &["for=\"[2001:db8::1]:4711\";proto=https", "for=203.0.113.4"], false),
            ("2001:db8::1".into(), true, false),
            "through two proxies"
        );
        assert_eq!(caller("127.0.0.1", &[], false), ("127.0.0.1".into(), false, false), "behind a proxy on this machine nobody is local");
        assert_eq!(caller("203.0.113.9", &["for=unknown;proto=https"], true), ("203.0.113.9".into(), true, false));
        assert_eq!(caller("127.0.0.2", &[], false), ("127.0.0.2".into(), false, true));
    }

    #[test]
    fn hosts_are_compared_without_ports_and_wildcards_stand_for_one_label() {
        for (host, name) in
            [("localhost:18180", "localhost"), ("[::1]:8080", "::1"), ("127.0.0.1", "127.0.0.1"), ("a.example", "a.example")]
        {
            assert_eq!(host_name(host), name);
        }
        assert_eq!(host_name(address_host("https://in.northmoor.example:8443/x")), "in.northmoor.example");
        assert!(is_name("*.northmoor.example", "IN.northmoor.example") && !is_name("*.northmoor.example", "a.b.northmoor.example"));
        assert!(!is_name("*.northmoor.example", "northmoor.example") && is_name("In.northmoor.example", "in.northmoor.example"));
    }
}
