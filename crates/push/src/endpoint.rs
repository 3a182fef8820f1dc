//! Where messages may be sent: a subscription names an address that a stranger's browser chose.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use thiserror::Error;
use url::{Host, Url};

/// Longest address of a subscription that is kept, in bytes.
const MAX_ENDPOINT: usize = 1024;

/// The push services of the common browsers.
pub const COMMON_SERVICES: &[&str] =
    &["fcm.googleapis.com", "updates.push.services.mozilla.com", "web.push.apple.com", "*.push.apple.com", "*.notify.windows.com"];

/// A push service that a site allows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Service {
    /// This host, over TLS.
    Host(String),
    /// Any host below this domain, over TLS.
    Below(String),
    /// A service on this very machine, named by scheme and port: what a laboratory has.
    Local(String),
}

/// A push service that cannot be allowed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not the host of a push service")]
pub struct ServiceError(pub String);

impl Service {
    /// Reads `push.example.net`, `*.example.net`, or `http://127.0.0.1:8490` for a service on this machine.
    ///
    /// # Errors
    /// [`ServiceError`].
    pub fn read(text: &str) -> Result<Self, ServiceError> {
        let wrong = || ServiceError(text.to_owned());
        if text.contains("://") {
            let url = Url::parse(text).map_err(|_| wrong())?;
            let plain = url.path() == "/" && url.query().is_none() && url.fragment().is_none() && url.username().is_empty();
            return if plain && is_loopback(&url) { Ok(Service::Local(url.origin().ascii_serialization())) } else { Err(wrong()) };
        }
        let (below, host) = text.strip_prefix("*.").map_or((false, text), |host| (true, host));
        let host = match Host::parse(host) {
            Ok(Host::Domain(host)) if !host.contains('*') && host.contains('.') && !is_internal_name(&host) => host,
            _ => return Err(wrong()),
        };
        Ok(if below { Service::Below(host) } else { Service::Host(host) })
    }

    fn admits(&self, url: &Url) -> bool {
        let host = url.host_str().unwrap_or_default();
        match self {
            Service::Host(own) => own == host,
            Service::Below(own) => host.strip_suffix(own).is_some_and(|rest| rest.len() > 1 && rest.ends_with('.')),
            Service::Local(origin) => url.origin().ascii_serialization() == *origin,
        }
    }
}

impl fmt::Display for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Service::Host(host) => f.write_str(host),
            Service::Below(host) => write!(f, "*.{host}"),
            Service::Local(origin) => f.write_str(origin),
        }
    }
}

/// The push services that a site allows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Services(pub Vec<Service>);

impl Default for Services {
    fn default() -> Self {
        Services(COMMON_SERVICES.iter().filter_map(|text| Service::read(text).ok()).collect())
    }
}

/// Why nothing is sent to an address.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EndpointError {
    /// No address.
    #[error("the address is not a URL")]
    NotAUrl,
    /// Too long to be kept.
    #[error("the address has {0} bytes; at most {MAX_ENDPOINT} are kept")]
    TooLong(usize),
    /// Anybody on the way could read and change what is sent.
    #[error("the address begins with `{0}:`; push services are reached over `https:`")]
    NotTls(String),
    /// A name and a password, a port or a fragment.
    #[error("the address has {0}, which push services do not use")]
    Odd(&'static str),
    /// A network of this machine's own.
    #[error("`{0}` is an address inside the own network")]
    Internal(String),
    /// Nobody has allowed it.
    #[error("the push service `{0}` is not allowed on this site")]
    NotAllowed(String),
}

/// An address that messages may be sent to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// The whole address; whoever knows it can send to the device, so it is a secret.
    pub url: String,
    /// Its scheme, host and port: what a token is for, and what limits go by.
    pub origin: String,
    /// Its host, to look up.
    pub host: String,
    /// The entry of the site's list that admits it: metrics have no more labels than that list has entries.
    pub service: String,
    /// Whether the site allows it although it is on this machine.
    pub local: bool,
}

impl Services {
    /// Reads the address of a subscription.
    ///
    /// # Errors
    /// [`EndpointError`].
    pub fn endpoint(&self, text: &str) -> Result<Endpoint, EndpointError> {
        if text.len() > MAX_ENDPOINT {
            return Err(EndpointError::TooLong(text.len()));
        }
        let url = Url::parse(text).map_err(|_| EndpointError::NotAUrl)?;
        let host = url.host_str().ok_or(EndpointError::NotAUrl)?.to_owned();
        let local = self.0.iter().any(|service| matches!(service, Service::Local(_)) && service.admits(&url));
        let odd = [
            (!url.username().is_empty() || url.password().is_some(), "a name or password"),
            (url.fragment().is_some(), "a fragment"),
            (url.port().is_some() && !local, "a port"),
        ];
        if url.scheme() != "https" && !local {
            return Err(EndpointError::NotTls(url.scheme().to_owned()));
        }
        if let Some((_, what)) = odd.into_iter().find(|(odd, _)| *odd) {
            return Err(EndpointError::Odd(what));
        }
        let inside = match url.host() {
            Some(Host::Domain(name)) => is_internal_name(name),
            Some(Host::Ipv4(address)) => is_internal(address.into()),
            Some(Host::Ipv6(address)) => is_internal(address.into()),
            None => true,
        };
        if inside && !local {
            return Err(EndpointError::Internal(host));
        }
        let Some(service) = self.0.iter().find(|service| service.admits(&url)).map(ToString::to_string) else {
            return Err(EndpointError::NotAllowed(host));
        };
        Ok(Endpoint { url: url.to_string(), origin: url.origin().ascii_serialization(), host, service, local })
    }
}

fn is_loopback(url: &Url) -> bool {
    match url.host() {
        Some(Host::Domain(name)) => name == "localhost",
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        None => false,
    }
}

/// Names that only mean something inside a network (RFC 6762, 8375, 9476), or nothing at all.
fn is_internal_name(name: &str) -> bool {
    let name = name.trim_end_matches('.').to_ascii_lowercase();
    let last = name.rsplit('.').next().unwrap_or_default();
    !name.contains('.') || ["localhost", "local", "internal", "intranet", "lan", "corp", "home", "arpa", "invalid", "alt"].contains(&last)
}

/// Whether an address belongs to no public host: loopback, private and link-local networks, and what is reserved (RFC 6890).
pub fn is_internal(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => is_internal_v4(address),
        IpAddr::V6(address) => is_internal_v6(address),
    }
}

fn is_internal_v4(address: Ipv4Addr) -> bool {
    let [a, b, c, _] = address.octets();
    address.is_private()
        || address.is_loopback()
        || address.is_link_local()
        || address.is_multicast()
        || address.is_documentation()
        || a == 0
        || a >= 240
        // Shared address space (RFC 6598), IETF protocol assignments, benchmarks (RFC 2544).
        || (a == 100 && (64..128).contains(&b))
        || (a == 192 && b == 0 && c == 0)
        || (a == 198 && (b == 18 || b == 19))
}

fn is_internal_v6(address: Ipv6Addr) -> bool {
    // An address of version 4 in one of version 6, in any of the ways (RFC 4291, 6052, 3056).
    if let Some(inner) = address.to_ipv4_mapped() {
        return is_internal_v4(inner);
    }
    let parts = address.segments();
    let last = Ipv4Addr::from_bits(u32::from(parts[6]) << 16 | u32::from(parts[7]));
    match parts {
        [0, 0, 0, 0, 0, 0, ..] => true,
        [0x64, 0xff9b, 0, 0, 0, 0, ..] => is_internal_v4(last),
        [0x2002, high, low, ..] => is_internal_v4(Ipv4Addr::from_bits(u32::from(high) << 16 | u32::from(low))),
        // Everything but global unicast, and its documentation range.
        [first, second, ..] => first & 0xe000 != 0x2000 || (first == 0x2001 && second == 0xdb8) || (first == 0x3fff && second < 0x1000),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn services(texts: &[&str]) -> Services {
        Services(texts.iter().map(|text| Service::read(text).unwrap()).collect())
    }

    fn refused(text: &str) -> String {
        services(&["push.example.net", "*.push.example.org"]).endpoint(text).unwrap_err().to_string()
    }

    #[test]
    fn addresses_of_allowed_services_are_taken() {
        let services = services(&["push.example.net", "*.push.example.org"]);
        let endpoint = services.endpoint("https://push.example.net/send/abc?x=1").unwrap();
        assert_eq!(endpoint.origin, "https://push.example.net");
        assert_eq!((endpoint.host.as_str(), endpoint.local), ("push.example.net", false));
        assert_eq!(endpoint.service, "push.example.net");
        assert_eq!(services.endpoint("https://eu1.push.example.org/a").unwrap().service, "*.push.example.org");
        // Names are compared in lower case and in ASCII.
        assert!(services.endpoint("https://PUSH.example.net/a").is_ok());
    }

    #[test]
    fn the_common_services_are_allowed_by_default() {
        let services = Services::default();
        assert_eq!(services.0.len(), COMMON_SERVICES.len());
        assert!(services.endpoint("https://updates.push.services.mozilla.com/wpush/v2/x").is_ok());
        assert!(services.endpoint("https://wns2-by3p.notify.windows.com/w/?token=x").is_ok());
        assert!(services.endpoint("https://push.example.net/x").is_err());
    }

    #[test]
    fn every_way_into_the_own_network_is_refused() {
        assert_eq!(refused("http://push.example.net/a"), "the address begins with `http:`; push services are reached over `https:`");
        for inside in
            ["127.0.0.1", "10.0.0.1", "192.168.1.1", "169.254.169.254", "[::1]", "[fd00::1]", "[fe80::1]", "0.0.0.0", "[::ffff:10.0.0.1]"]
        {
            assert!(refused(&format!("https://{inside}/a")).ends_with("is an address inside the own network"), "{inside}");
        }
        for inside in ["localhost", "intranet", "push.local", "push.internal", "push.lan", "push.corp."] {
            assert!(refused(&format!("https://{inside}/a")).ends_with("is an address inside the own network"), "{inside}");
        }
        // Other ways to write 127.0.0.1.
        for inside in ["2130706433", "0x7f.1", "0177.0.0.1"] {
            assert_eq!(refused(&format!("https://{inside}/a")), "`127.0.0.1` is an address inside the own network");
        }
    }

    #[test]
    fn services_that_nobody_allowed_are_refused_however_they_are_written() {
        assert_eq!(refused("https://evil.example/a"), "the push service `evil.example` is not allowed on this site");
        for other in ["push.example.net.evil.example", "evilpush.example.net", "push.example.org", ".push.example.org"] {
            assert!(services(&["push.example.net", "*.push.example.org"]).endpoint(&format!("https://{other}/a")).is_err(), "{other}");
        }
        assert_eq!(
            refused("https://push.example.net@evil.example/a"),
            "the address has a name or password, which push services do not use"
        );
        assert_eq!(refused("https://push.example.net:8443/a"), "the address has a port, which push services do not use");
        assert_eq!(refused("https://push.example.net/a#b"), "the address has a fragment, which push services do not use");
        assert_eq!(refused("push.example.net"), "the address is not a URL");
        assert_eq!(refused("data:text/plain,x"), "the address is not a URL");
        assert!(refused(&format!("https://push.example.net/{}", "x".repeat(1024))).contains("at most 1024 are kept"));
    }

    #[test]
    fn a_service_on_this_machine_is_allowed_by_its_whole_address_only() {
        let services = services(&["http://127.0.0.1:8490"]);
        assert!(services.endpoint("http://127.0.0.1:8490/send/abc").unwrap().local);
        assert!(services.endpoint("http://127.0.0.1:8491/send/abc").is_err());
        assert!(services.endpoint("https://127.0.0.1:8490/send/abc").is_err());
        assert!(services.endpoint("http://localhost:8490/send/abc").is_err());
    }

    #[test]
    fn what_a_site_may_allow_is_a_public_name_or_this_machine() {
        for (text, wanted) in [
            ("push.example.net", "push.example.net"),
            ("*.Example.NET", "*.example.net"),
            ("http://localhost:8490/", "http://localhost:8490"),
        ] {
            assert_eq!(Service::read(text).unwrap().to_string(), wanted);
        }
        for wrong in
            ["*", "net", "localhost", "10.0.0.1", "https://push.example.net", "http://10.0.0.1:80", "push.local", "a b", "", "*.*.net"]
        {
            assert_eq!(Service::read(wrong), Err(ServiceError(wrong.to_owned())), "{wrong}");
        }
    }

    #[test]
    fn public_addresses_are_not_internal() {
        for public in ["8.8.8.8", "100.63.0.1", "198.20.0.1", "2600::1", "2002:808:808::1", "64:ff9b::808:808", "::ffff:8.8.8.8"] {
            assert!(!is_internal(public.parse().unwrap()), "{public}");
        }
        for own in [
            "100.64.0.1",
            "192.0.2.1",
            "198.18.0.1",
            "255.255.255.255",
            "224.0.0.1",
            "2001:db8::1",
            "ff02::1",
            "2002:7f00:1::",
            "64:ff9b::a00:1",
            "::",
            "::7f00:1",
        ] {
            assert!(is_internal(own.parse().unwrap()), "{own}");
        }
    }
}
