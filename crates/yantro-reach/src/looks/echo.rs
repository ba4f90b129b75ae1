//! One ICMP echo and its answer (RFC 792).

use std::{
    io,
    net::Ipv4Addr,
    os::fd::{AsRawFd, FromRawFd, OwnedFd},
    time::Duration,
};

/// The Internet checksum (RFC 1071).
fn checksum(packet: &[u8; 16]) -> u16 {
    let sum: u32 = packet.chunks(2).map(|w| u32::from(u16::from_be_bytes([w[0], w[1]]))).sum();
    !((sum & 0xffff) + (sum >> 16)) as u16
}

/// One ICMP echo and its answer.
pub(crate) fn echo(to: Ipv4Addr, within: Duration) -> io::Result<bool> {
    let unprivileged = unsafe { libc::socket(libc::AF_INET, libc::SOCK_DGRAM | libc::SOCK_CLOEXEC, libc::IPPROTO_ICMP) };
    let (raw, fd) = if unprivileged >= 0 {
        (false, unprivileged)
    } else {
        (true, unsafe { libc::socket(libc::AF_INET, libc::SOCK_RAW | libc::SOCK_CLOEXEC, libc::IPPROTO_ICMP) })
    };
    if fd < 0 {
        return Err(io::Error::last_os_error());
    }
    let fd = unsafe { OwnedFd::from_raw_fd(fd) };
    let mark = std::process::id() as u16;
    let mut packet = [8u8, 0, 0, 0, (mark >> 8) as u8, mark as u8, 0, 1, b'y', b'a', b'n', b't', b'r', b'o', 0, 0];
    let sum = checksum(&packet);
    packet[2..4].copy_from_slice(&sum.to_be_bytes());
    let mut address: libc::sockaddr_in = unsafe { std::mem::zeroed() };
    address.sin_family = libc::AF_INET as u16;
    address.sin_addr.s_addr = u32::from_ne_bytes(to.octets());
    let timeout = libc::timeval { tv_sec: within.as_secs() as i64, tv_usec: i64::from(within.subsec_micros()) };
    unsafe {
        libc::setsockopt(fd.as_raw_fd(), libc::SOL_SOCKET, libc::SO_RCVTIMEO, (&raw const timeout).cast(), size_of_val(&timeout) as u32);
        let sent = libc::sendto(
            fd.as_raw_fd(),
            packet.as_ptr().cast(),
            packet.len(),
            0,
            (&raw const address).cast(),
            size_of_val(&address) as u32,
        );
        if sent < 0 {
            return Err(io::Error::last_os_error());
        }
    }
    let began = std::time::Instant::now();
    let mut buffer = [0u8; 256];
    while began.elapsed() < within {
        let mut from: libc::sockaddr_in = unsafe { std::mem::zeroed() };
        let mut len = size_of_val(&from) as u32;
        let n = unsafe { libc::recvfrom(fd.as_raw_fd(), buffer.as_mut_ptr().cast(), buffer.len(), 0, (&raw mut from).cast(), &mut len) };
        if n < 0 {
            let error = io::Error::last_os_error();
            return if error.kind() == io::ErrorKind::WouldBlock { Ok(false) } else { Err(error) };
        }
        let skip = if raw { usize::from(buffer[0] & 0x0f) * 4 } else { 0 };
        // An echo's answer, from whom we asked.
        if buffer.get(skip) == Some(&0) && from.sin_addr.s_addr == address.sin_addr.s_addr {
            return Ok(true);
        }
    }
    Ok(false)
}
