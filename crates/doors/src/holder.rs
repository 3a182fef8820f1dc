//! Who holds a port that we cannot have, as far as the system tells.

use std::fs;
use std::net::SocketAddr;

/// The process that listens on `address` (`tcp` or `udp`), as `name (process 123)`.
pub fn who_holds(protocol: &str, address: SocketAddr) -> Option<String> {
    let inode = [protocol.to_owned(), format!("{protocol}6")].iter().find_map(|table| inode_of(table, address.port()))?;
    let wanted = format!("socket:[{inode}]");
    let processes = fs::read_dir("/proc").ok()?;
    for process in processes.flatten() {
        let pid = process.file_name().to_string_lossy().into_owned();
        if !pid.bytes().all(|byte| byte.is_ascii_digit()) {
            continue;
        }
        let Ok(files) = fs::read_dir(process.path().join("fd")) else { continue };
        if files.flatten().any(|file| fs::read_link(file.path()).is_ok_and(|target| target.to_string_lossy() == wanted)) {
            let name = fs::read_to_string(process.path().join("comm")).unwrap_or_default();
            return Some(format!("{} (process {pid})", name.trim()));
        }
    }
    None
}

/// The inode of the socket that is bound to a local port.
fn inode_of(table: &str, port: u16) -> Option<String> {
    let text = fs::read_to_string(format!("/proc/net/{table}")).ok()?;
    text.lines().skip(1).find_map(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let (_, local_port) = fields.get(1)?.rsplit_once(':')?;
        let listens = !table.starts_with("tcp") || *fields.get(3)? == "0A";
        (listens && u16::from_str_radix(local_port, 16).ok()? == port).then(|| fields.get(9).map(|inode| (*inode).to_owned()))?
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{TcpListener, UdpSocket};

    #[test]
    fn whoever_holds_a_port_is_named_with_its_process() {
        let own = format!("(process {})", std::process::id());
        let tcp = TcpListener::bind("127.0.0.1:0").unwrap();
        let udp = UdpSocket::bind("127.0.0.1:0").unwrap();
        for (protocol, address) in [("tcp", tcp.local_addr().unwrap()), ("udp", udp.local_addr().unwrap())] {
            let holder = who_holds(protocol, address).unwrap();
            assert!(holder.ends_with(&own), "{holder}");
        }
        let address = tcp.local_addr().unwrap();
        drop(tcp);
        assert_eq!(who_holds("tcp", address), None);
    }
}
