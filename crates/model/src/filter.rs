//! Packet filters that grants send: lines in the form of RFC 6733 section 4.3.1, which NAS-Filter-Rule carries (RFC 4849).

use std::net::IpAddr;

/// A filter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filter {
    /// Its name.
    pub name: String,
    /// Its lines, checked, each with single spaces.
    pub lines: Vec<String>,
    /// How it is sent.
    pub sent: FilterSent,
    /// Its line in the site file.
    pub line: u32,
}

/// How a filter is sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FilterSent {
    /// By its name, in Filter-Id: the gateway has the lines.
    ByName,
    /// Its lines, in NAS-Filter-Rule.
    AsRules,
    /// Its lines, each in an attribute of a vendor.
    ByLine {
        /// The vendor's private enterprise number.
        vendor: u32,
        /// The vendor's attribute number.
        number: u8,
    },
}

impl Filter {
    /// The value of NAS-Filter-Rule: the lines, with a zero byte between them. It is cut into attributes wherever it has to be
    /// (RFC 4849 section 2).
    pub fn joined(&self) -> Vec<u8> {
        self.lines.join("\0").into_bytes()
    }
}

/// Reads one line. Gives it with single spaces.
///
/// # Errors
/// What is wrong, as a clause that names the word.
pub fn read_line(line: &str) -> Result<String, String> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let mut rest = words.iter().copied();
    let mut next = |what: &str| rest.next().ok_or_else(|| format!("{what} is missing"));
    match next("`permit` or `deny`")? {
        "permit" | "deny" => {}
        other => return Err(format!("`{other}` is neither `permit` nor `deny`")),
    }
    match next("the direction")? {
        "in" | "out" => {}
        other => return Err(format!("`{other}` is no direction: write `in` (from the user) or `out` (to the user)")),
    }
    protocol(next("the protocol")?)?;
    if next("`from`")? != "from" {
        return Err("`from` is missing after the protocol".to_owned());
    }
    let words: Vec<&str> = rest.collect();
    let to = words.iter().position(|word| *word == "to").ok_or("`to` is missing")?;
    place(&words[..to], "source")?;
    // Options follow the destination and its ports.
    let after = &words[to + 1..];
    let options = after.iter().position(|word| is_option(word)).unwrap_or(after.len());
    place(&after[..options], "destination")?;
    let mut options = after[options..].iter();
    while let Some(option) = options.next() {
        match *option {
            "frag" | "established" | "setup" => {}
            "ipoptions" | "tcpoptions" | "tcpflags" | "icmptypes" => {
                options.next().ok_or_else(|| format!("`{option}` needs a list behind it"))?;
            }
            other => return Err(format!("`{other}` is no option")),
        }
    }
    Ok(line.split_whitespace().collect::<Vec<_>>().join(" "))
}

fn is_option(word: &str) -> bool {
    ["frag", "established", "setup", "ipoptions", "tcpoptions", "tcpflags", "icmptypes"].contains(&word)
}

fn protocol(word: &str) -> Result<(), String> {
    let named = ["ip", "tcp", "udp", "icmp", "icmp6", "ipv6-icmp", "gre", "esp", "ah", "sctp"].contains(&word);
    match named || word.parse::<u8>().is_ok() {
        true => Ok(()),
        false => Err(format!("`{word}` is no protocol: write `ip` for all, a name such as `tcp`, or a number")),
    }
}

/// An address with its mask, and ports.
fn place(words: &[&str], what: &str) -> Result<(), String> {
    let (address, ports) = match words {
        [] => return Err(format!("the {what} is missing")),
        [address] => (*address, None),
        [address, ports] => (*address, Some(*ports)),
        [_, _, other, ..] => return Err(format!("`{other}` after the {what} is neither an address nor an option")),
    };
    let bare = address.strip_prefix('!').unwrap_or(address);
    let sound = match bare {
        "any" | "assigned" => true,
        _ => match bare.split_once('/') {
            Some((address, bits)) => {
                let most = address.parse::<IpAddr>().map(|address| if address.is_ipv4() { 32 } else { 128 });
                most.is_ok_and(|most| bits.parse::<u8>().is_ok_and(|bits| bits <= most))
            }
            None => bare.parse::<IpAddr>().is_ok(),
        },
    };
    if !sound {
        return Err(format!(
            "`{address}` is no {what}: write `any`, `assigned` (the user's own address), or an address such as 192.0.2.0/24"
        ));
    }
    for port in ports.iter().flat_map(|ports| ports.split(',')) {
        let numbers: Result<Vec<u16>, _> = port.split('-').map(str::parse).collect();
        let sound =
            numbers.is_ok_and(|numbers| matches!(numbers.as_slice(), [_]) || matches!(numbers.as_slice(), [low, high] if low <= high));
        if !sound {
            return Err(format!("`{port}` is no port: write numbers and ranges such as 22,443,8000-8080"));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_as_gateways_know_them_are_read() {
        for line in [
            "permit in ip from assigned to 10.20.0.0/16",
            "permit  out tcp from 10.20.0.0/16 22,443,8000-8080 to assigned established",
            "deny in udp from any to !192.0.2.1 53",
            "deny out 47 from 2001:db8::/32 to any frag",
            "permit in icmp from any to any icmptypes 0,8",
        ] {
            let read = read_line(line).unwrap();
            assert!(!read.contains("  ") && read_line(&read).as_ref() == Ok(&read), "{line}");
        }
    }

    #[test]
    fn what_is_wrong_is_named() {
        for (line, said) in [
            ("", "`permit` or `deny` is missing"),
            ("allow in ip from any to any", "`allow` is neither"),
            ("permit both ip from any to any", "`both` is no direction"),
            ("permit in foo from any to any", "`foo` is no protocol"),
            ("permit in ip any to any", "`from` is missing"),
            ("permit in ip from any", "`to` is missing"),
            ("permit in ip from any to", "the destination is missing"),
            ("permit in ip from 10.0.0.0/33 to any", "`10.0.0.0/33` is no source"),
            ("permit in tcp from any to any 80-22", "`80-22` is no port"),
            ("permit in tcp from any 99999 to any", "`99999` is no port"),
            ("permit in ip from any to any 22 please", "`please` after the destination"),
            ("permit in icmp from any to any icmptypes", "`icmptypes` needs a list"),
        ] {
            let error = read_line(line).unwrap_err();
            assert!(error.contains(said), "{line}: {error}");
        }
    }

    proptest! {
        #[test]
        fn any_line_is_read_or_refused(line in "\\PC{0,80}", words in proptest::collection::vec("permit|deny|in|out|ip|tcp|from|to|any|22|10.0.0.0/8|frag", 0..12)) {
            let _ = read_line(&line);
            let _ = read_line(&words.join(" "));
        }
    }
}
