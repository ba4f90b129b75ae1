//! The system's socket table: who listens where. Looking never connects.

use std::{
    collections::BTreeMap,
    fs,
    net::{IpAddr, Ipv4Addr, Ipv6Addr},
};

/// A listening socket.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Listener {
    /// The local address; unspecified for any.
    pub ip: IpAddr,
    /// The port.
    pub port: u16,
    /// The socket's inode, by which its holder is found.
    pub inode: u64,
}

/// All listening TCP sockets at one moment.
#[derive(Debug, Default)]
pub struct SocketTable {
    by_port: BTreeMap<u16, Vec<Listener>>,
}

impl SocketTable {
    /// Reads the table once, for all ports.
    pub fn read() -> std::io::Result<Self> {
        let mut table = Self::default();
        for line in fs::read_to_string("/proc/net/tcp")?.lines().skip(1) {
            table.take(line);
        }
        // A machine without IPv6 has no such table.
        for line in fs::read_to_string("/proc/net/tcp6").unwrap_or_default().lines().skip(1) {
            table.take(line);
        }
        Ok(table)
    }

    fn take(&mut self, line: &str) {
        let mut fields = line.split_ascii_whitespace();
        let (Some(local), Some(state)) = (fields.nth(1), fields.nth(1)) else { return };
        if state != "0A" {
            return;
        }
        let Some(inode) = fields.nth(5).and_then(|i| i.parse().ok()) else { return };
        let Some((ip, port)) = local.split_once(':') else { return };
        let (Some(ip), Ok(port)) = (address(ip), u16::from_str_radix(port, 16)) else { return };
        self.by_port.entry(port).or_default().push(Listener { ip, port, inode });
    }

    /// Everybody who listens, by port.
    pub fn all(&self) -> impl Iterator<Item = &Listener> {
        self.by_port.values().flatten()
    }

    /// Who listens on a port at an address. A socket for any address counts.
    pub fn listening(&self, port: u16, on: Option<IpAddr>) -> Vec<Listener> {
        let all = self.by_port.get(&port).map(Vec::as_slice).unwrap_or_default();
        all.iter().copied().filter(|l| on.is_none_or(|ip| l.ip == ip || l.ip.is_unspecified())).collect()
    }
}

/// Words of four bytes in the machine's own order, as the kernel prints them.
fn address(hex: &str) -> Option<IpAddr> {
    let word = |i: usize| u32::from_str_radix(hex.get(i * 8..i * 8 + 8)?, 16).ok().map(u32::to_ne_bytes);
    match hex.len() {
        8 => Some(IpAddr::V4(Ipv4Addr::from(word(0)?))),
        32 => {
            let mut bytes = [0u8; 16];
            for i in 0..4 {
                bytes[i * 4..i * 4 + 4].copy_from_slice(&word(i)?);
            }
            let ip = Ipv6Addr::from(bytes);
            Some(ip.to_ipv4_mapped().map_or(IpAddr::V6(ip), IpAddr::V4))
        }
        _ => None,
    }
}

/// Which of these processes holds a socket.
pub fn holder(inode: u64, among: &[u32]) -> Option<u32> {
    let wanted = format!("socket:[{inode}]");
    among.iter().copied().find(|pid| {
        fs::read_dir(format!("/proc/{pid}/fd"))
            .into_iter()
            .flatten()
            .flatten()
            .any(|fd| fs::read_link(fd.path()).is_ok_and(|l| l.as_os_str() == wanted.as_str()))
    })
}

/// Which process of the whole machine holds a socket: slow, for naming a stranger.
pub fn any_holder(inode: u64) -> Option<u32> {
    let all: Vec<u32> =
        fs::read_dir("/proc").into_iter().flatten().flatten().filter_map(|e| e.file_name().to_str()?.parse().ok()).collect();
    holder(inode, &all)
}

#[cfg(test)]
mod tests {
    use std::net::TcpListener;

    use super::*;

    #[test]
    fn a_listener_and_its_holder_are_found_without_connecting() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let found = SocketTable::read().unwrap().listening(port, Some("127.0.0.1".parse().unwrap()));
        assert_eq!(found.len(), 1);
        assert_eq!(holder(found[0].inode, &[std::process::id()]), Some(std::process::id()));
        assert!(SocketTable::read().unwrap().listening(port, Some("127.0.0.9".parse().unwrap())).is_empty());
    }
}
