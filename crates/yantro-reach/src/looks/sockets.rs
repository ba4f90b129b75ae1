//! The system's socket table: who listens where. Looking never connects.

use std::{
    collections::BTreeMap,
    fs, io,
    net::{IpAddr, Ipv4Addr, Ipv6Addr},
};

use netlink_packet_core::{NLM_F_DUMP, NLM_F_REQUEST, NetlinkHeader, NetlinkMessage, NetlinkPayload};
use netlink_packet_sock_diag::{
    SockDiagMessage,
    constants::{AF_INET, AF_INET6, IPPROTO_TCP},
    inet::{ExtensionFlags, InetRequest, SocketId, StateFlags},
};
use netlink_sys::{Socket, SocketAddr, protocols::NETLINK_SOCK_DIAG};

use crate::looks::{gone::unless_gone, procs::all_pids};

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
    /// Reads the table once, for all ports. The kernel is asked for listeners only: beside tens of thousands of connections,
    /// which the table of the file system all has, that is nothing. Where it cannot be asked so, that table is read.
    pub fn read() -> std::io::Result<Self> {
        let mut table = Self::default();
        for (family, file) in [(AF_INET, "/proc/net/tcp"), (AF_INET6, "/proc/net/tcp6")] {
            match listeners(family) {
                Ok(found) => found.into_iter().for_each(|l| table.add(l)),
                Err(_) => table.read_file(file, family == AF_INET6)?,
            }
        }
        Ok(table)
    }

    /// Reads the file system's table of one family. A machine without IPv6 has none of that.
    fn read_file(&mut self, file: &str, may_be_missing: bool) -> std::io::Result<()> {
        let read = fs::read_to_string(file);
        // Only what is not there has nobody in it.
        let text = if may_be_missing { unless_gone(read)? } else { Some(read?) };
        text.iter().flat_map(|text| text.lines().skip(1)).for_each(|line| self.take(line));
        Ok(())
    }

    fn add(&mut self, listener: Listener) {
        self.by_port.entry(listener.port).or_default().push(listener);
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
        self.add(Listener { ip, port, inode });
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

/// Who listens, by the kernel's own answer: sock_diag(7).
fn listeners(family: u8) -> io::Result<Vec<Listener>> {
    let mut socket = Socket::new(NETLINK_SOCK_DIAG)?;
    socket.bind_auto()?;
    socket.connect(&SocketAddr::new(0, 0))?;
    let request = InetRequest {
        family,
        protocol: IPPROTO_TCP,
        extensions: ExtensionFlags::empty(),
        states: StateFlags::LISTEN,
        socket_id: if family == AF_INET { SocketId::new_v4() } else { SocketId::new_v6() },
    };
    let mut header = NetlinkHeader::default();
    header.flags = NLM_F_REQUEST | NLM_F_DUMP;
    let mut packet = NetlinkMessage::new(header, SockDiagMessage::InetRequest(request).into());
    packet.finalize();
    let mut bytes = vec![0; packet.buffer_len()];
    packet.serialize(&mut bytes);
    socket.send(&bytes, 0)?;
    let mut found = Vec::new();
    loop {
        let (answer, _) = socket.recv_from_full()?;
        let mut rest = answer.as_slice();
        while !rest.is_empty() {
            let message = NetlinkMessage::<SockDiagMessage>::deserialize(rest).map_err(io::Error::other)?;
            // Messages are aligned to four bytes: netlink(7).
            let length = (message.header.length as usize).next_multiple_of(4).clamp(4, rest.len());
            rest = &rest[length..];
            match message.payload {
                NetlinkPayload::Done(_) => return Ok(found),
                NetlinkPayload::Error(error) => return Err(error.to_io()),
                NetlinkPayload::InnerMessage(SockDiagMessage::InetResponse(one)) => {
                    let of = &one.header.socket_id;
                    let ip = match of.source_address {
                        IpAddr::V6(ip) => ip.to_ipv4_mapped().map_or(IpAddr::V6(ip), IpAddr::V4),
                        ip => ip,
                    };
                    found.push(Listener { ip, port: of.source_port, inode: u64::from(one.header.inode) });
                }
                _ => {}
            }
        }
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

/// Which of these processes holds a socket. What another account's process holds is not seen, and it is none of them.
///
/// # Errors
/// What one of them holds cannot be read otherwise, and no other of them holds it.
pub fn holder(inode: u64, among: &[u32]) -> io::Result<Option<u32>> {
    let wanted = format!("socket:[{inode}]");
    let mut unread = None;
    for pid in among {
        let held = match fs::read_dir(format!("/proc/{pid}/fd")) {
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => None,
            read => unless_gone(read).unwrap_or_else(|error| {
                unread = Some(error);
                None
            }),
        };
        if held.into_iter().flatten().flatten().any(|fd| fs::read_link(fd.path()).is_ok_and(|l| l.as_os_str() == wanted.as_str())) {
            return Ok(Some(*pid));
        }
    }
    unread.map_or(Ok(None), Err)
}

/// Which process of the whole machine holds a socket: slow, for naming a stranger.
///
/// # Errors
/// As [`holder`].
pub fn any_holder(inode: u64) -> io::Result<Option<u32>> {
    holder(inode, &all_pids()?)
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
        assert_eq!(holder(found[0].inode, &[std::process::id()]).unwrap(), Some(std::process::id()));
        assert!(SocketTable::read().unwrap().listening(port, Some("127.0.0.9".parse().unwrap())).is_empty());
    }

    /// Beside many connections it takes a fraction of what reading all of them does.
    #[test]
    fn connections_are_not_gone_through_for_listeners() {
        let (_, hard) = nix::sys::resource::getrlimit(nix::sys::resource::Resource::RLIMIT_NOFILE).unwrap();
        nix::sys::resource::setrlimit(nix::sys::resource::Resource::RLIMIT_NOFILE, hard, hard).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let at = listener.local_addr().unwrap();
        let open: Vec<_> = (0..1500).map(|_| (std::net::TcpStream::connect(at).unwrap(), listener.accept().unwrap())).collect();
        let times = |read: &dyn Fn()| {
            let began = std::time::Instant::now();
            (0..20).for_each(|_| read());
            began.elapsed()
        };
        let by_file = times(&|| SocketTable::default().read_file("/proc/net/tcp", false).unwrap());
        let asked = times(&|| drop(listeners(AF_INET).unwrap()));
        drop(open);
        assert!(asked * 3 < by_file, "asked in {asked:?}, read in {by_file:?}");
    }

    /// Both ways to the table say the same of who listens here, on either kind of address.
    #[test]
    fn the_kernels_answer_is_the_file_systems_table() {
        let held = ["127.0.0.1:0", "0.0.0.0:0", "[::1]:0", "[::]:0"].map(|at| TcpListener::bind(at).ok());
        let ports: Vec<u16> = held.iter().flatten().map(|l| l.local_addr().unwrap().port()).collect();
        let mut read = SocketTable::default();
        read.read_file("/proc/net/tcp", false).unwrap();
        read.read_file("/proc/net/tcp6", true).unwrap();
        let asked: Vec<Listener> = [AF_INET, AF_INET6].iter().flat_map(|family| listeners(*family).unwrap()).collect();
        for port in ports {
            let of = |all: Vec<Listener>| all.into_iter().filter(|l| l.port == port).collect::<Vec<_>>();
            assert_eq!(of(asked.clone()), read.listening(port, None), "port {port}");
        }
    }
}
