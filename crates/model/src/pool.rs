//! Pools of addresses and prefixes that grants hand out.

use bivector_wire::AttributeType;
use ipnet::IpNet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

/// Most that a pool hands out, however large its ranges are.
pub const LARGEST: u64 = 1 << 24;

/// What a pool hands out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gives {
    /// Single addresses: Framed-IP-Address (RFC 2865 section 5.8) or Framed-IPv6-Address (RFC 6911).
    Addresses,
    /// Prefixes of this length for the link: Framed-IPv6-Prefix (RFC 3162 section 2.3).
    Prefixes(u8),
    /// Prefixes of this length to be delegated: Delegated-IPv6-Prefix (RFC 4818).
    Delegated(u8),
}

/// A pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AddressPool {
    /// Its name.
    pub name: String,
    /// What it is made of, all of one family.
    pub ranges: Vec<IpNet>,
    /// What it hands out.
    pub gives: Gives,
    /// How long a lease lasts whose session is not reported.
    pub lasts: Duration,
    /// Its line in the site file.
    pub line: u32,
}

/// One address or prefix of a pool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slot {
    /// In words.
    pub text: String,
    /// The attribute that carries it.
    pub attribute: AttributeType,
    /// The attribute's value.
    pub value: Vec<u8>,
}

impl AddressPool {
    /// How many it can hand out, [`LARGEST`] at most.
    pub fn size(&self) -> u64 {
        self.ranges.iter().fold(0_u64, |sum, range| sum.saturating_add(self.count(range))).min(LARGEST)
    }

    fn count(&self, range: &IpNet) -> u64 {
        let bits = |length: u8| 1_u64.checked_shl(u32::from(length)).unwrap_or(LARGEST).min(LARGEST);
        match (self.gives, range) {
            // The first and the last address of a network are its own and that of all its hosts.
            (Gives::Addresses, IpNet::V4(net)) => match 32 - net.prefix_len() {
                free @ 0..=1 => bits(free),
                free => bits(free) - 2,
            },
            (Gives::Addresses, IpNet::V6(net)) => match 128 - net.prefix_len() {
                0 => 1,
                // The first address of a network is its routers'.
                free => bits(free) - 1,
            },
            (Gives::Prefixes(length) | Gives::Delegated(length), IpNet::V6(net)) => bits(length.saturating_sub(net.prefix_len())),
            (Gives::Prefixes(_) | Gives::Delegated(_), IpNet::V4(_)) => 0,
        }
    }

    /// What stands at a place, counted from 0 over all ranges.
    pub fn slot(&self, mut place: u64) -> Option<Slot> {
        for range in &self.ranges {
            let count = self.count(range);
            if place < count {
                return self.in_range(range, place);
            }
            place -= count;
        }
        None
    }

    fn in_range(&self, range: &IpNet, place: u64) -> Option<Slot> {
        Some(match (self.gives, range) {
            (Gives::Addresses, IpNet::V4(net)) => {
                let first = u32::from(net.network()) + u32::from(net.prefix_len() < 31);
                let address = Ipv4Addr::from(first.checked_add(u32::try_from(place).ok()?)?);
                Slot { text: address.to_string(), attribute: AttributeType::FramedIpAddress, value: address.octets().to_vec() }
            }
            (Gives::Addresses, IpNet::V6(net)) => {
                let first = u128::from(net.network()) + u128::from(net.prefix_len() < 128);
                let address = Ipv6Addr::from(first + u128::from(place));
                Slot { text: address.to_string(), attribute: AttributeType::FramedIpv6Address, value: address.octets().to_vec() }
            }
            (Gives::Prefixes(length), IpNet::V6(net)) => {
                prefix_slot(u128::from(net.network()), length, place, AttributeType::FramedIpv6Prefix)?
            }
            (Gives::Delegated(length), IpNet::V6(net)) => {
                prefix_slot(u128::from(net.network()), length, place, AttributeType::DelegatedIpv6Prefix)?
            }
            (Gives::Prefixes(_) | Gives::Delegated(_), IpNet::V4(_)) => return None,
        })
    }

    /// Whether an address is of this pool.
    pub fn holds(&self, address: IpAddr) -> bool {
        self.ranges.iter().any(|range| range.contains(&address))
    }
}

/// Reserved byte, length in bits, and as many bytes as that needs.
fn prefix_slot(network: u128, length: u8, place: u64, attribute: AttributeType) -> Option<Slot> {
    let step = u128::from(place).checked_shl(u32::from(128_u8.checked_sub(length)?)).unwrap_or(0);
    let prefix = Ipv6Addr::from(network + step);
    let bytes = usize::from(length.div_ceil(8));
    let value = [&[0, length][..], &prefix.octets()[..bytes]].concat();
    Some(Slot { text: format!("{prefix}/{length}"), attribute, value })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    fn pool(ranges: &[&str], gives: Gives) -> AddressPool {
        let ranges = ranges.iter().map(|range| range.parse().unwrap()).collect();
        AddressPool { name: "crew".into(), ranges, gives, lasts: Duration::from_secs(60), line: 1 }
    }

    #[test]
    fn a_network_keeps_its_own_address_and_that_of_all_hosts() {
        let own = pool(&["203.0.113.64/29", "192.0.2.7/32"], Gives::Addresses);
        let all: Vec<_> = (0..own.size()).map(|place| own.slot(place).unwrap().text).collect();
        assert_eq!((all.len(), all[0].as_str(), all[5].as_str(), all[6].as_str()), (7, "203.0.113.65", "203.0.113.70", "192.0.2.7"));
        assert_eq!(own.slot(7), None);
        assert_eq!(own.slot(0).unwrap().value, [203, 0, 113, 65]);
        assert_eq!(pool(&["192.0.2.6/31"], Gives::Addresses).size(), 2);
    }

    #[test]
    fn prefixes_are_written_with_their_length() {
        let own = pool(&["2001:db8:10::/60"], Gives::Prefixes(64));
        assert_eq!((own.size(), own.slot(15).unwrap().text.as_str()), (16, "2001:db8:10:f::/64"));
        assert_eq!(own.slot(1).unwrap().value, [0, 64, 0x20, 1, 0x0d, 0xb8, 0, 0x10, 0, 1]);
        let delegated = pool(&["2001:db8:20::/48"], Gives::Delegated(56)).slot(255).unwrap();
        assert_eq!((delegated.attribute, delegated.text.as_str()), (AttributeType::DelegatedIpv6Prefix, "2001:db8:20:ff00::/56"));
        assert_eq!(pool(&["2001:db8::/32"], Gives::Prefixes(64)).size(), LARGEST);
    }

    proptest! {
        #[test]
        fn no_place_is_handed_out_twice(length in 20_u8..=32, more in 20_u8..=32) {
            let own = pool(&[&format!("10.0.0.0/{length}"), &format!("10.128.0.0/{more}")], Gives::Addresses);
            let shown = own.size().min(2_000);
            let all: BTreeSet<_> = (0..shown).map(|place| own.slot(place).unwrap().text).collect();
            prop_assert_eq!(all.len() as u64, shown);
            prop_assert!(own.slot(own.size()).is_none());
        }
    }
}
