//! Which gateway an address belongs to: the most specific range wins.

use ipnet::IpNet;
use std::collections::HashMap;
use std::net::IpAddr;

/// A range as people write it: a single address without its prefix length.
pub fn show(range: &IpNet) -> String {
    if range.prefix_len() == range.max_prefix_len() { range.addr().to_string() } else { range.to_string() }
}

/// A map from address ranges to values. Looking up costs one hash per prefix length in use, however many ranges there are.
#[derive(Debug, Clone)]
pub struct AddressMap<T> {
    ranges: HashMap<IpNet, T>,
    lengths_v4: Vec<u8>,
    lengths_v6: Vec<u8>,
}

impl<T: Copy> AddressMap<T> {
    /// Builds the map. Of two equal ranges the later one counts; the site check refuses them beforehand.
    pub fn new(ranges: impl IntoIterator<Item = (IpNet, T)>) -> Self {
        let ranges: HashMap<IpNet, T> = ranges.into_iter().map(|(range, value)| (range.trunc(), value)).collect();
        let lengths = |v4: bool| {
            let mut lengths: Vec<u8> = ranges.keys().filter(|range| range.addr().is_ipv4() == v4).map(IpNet::prefix_len).collect();
            lengths.sort_unstable_by(|a, b| b.cmp(a));
            lengths.dedup();
            lengths
        };
        AddressMap { lengths_v4: lengths(true), lengths_v6: lengths(false), ranges }
    }

    /// The value of the most specific range that holds `address`. An IPv4 address written as IPv6 is taken as IPv4.
    pub fn find(&self, address: IpAddr) -> Option<T> {
        let address = address.to_canonical();
        let lengths = if address.is_ipv4() { &self.lengths_v4 } else { &self.lengths_v6 };
        lengths.iter().find_map(|length| {
            let range = IpNet::new(address, *length).ok()?.trunc();
            self.ranges.get(&range).copied()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_most_specific_range_wins_in_both_families() {
        let map = AddressMap::new(
            [("192.0.2.0/24", 1), ("192.0.2.10/32", 2), ("0.0.0.0/0", 3), ("2001:db8::/32", 4), ("2001:db8::7/128", 5)]
                .map(|(range, value)| (range.parse().unwrap(), value)),
        );
        for (address, wanted) in [
            ("192.0.2.10", Some(2)),
            ("192.0.2.11", Some(1)),
            ("198.51.100.1", Some(3)),
            ("::ffff:192.0.2.10", Some(2)),
            ("2001:db8::7", Some(5)),
            ("2001:db8:1::1", Some(4)),
            ("2001:db9::1", None),
        ] {
            assert_eq!(map.find(address.parse().unwrap()), wanted, "{address}");
        }
    }
}
