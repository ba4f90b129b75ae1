//! The looks of single rungs: each asks one thing of this machine, and answers whether it holds.

use std::{
    net::{IpAddr, SocketAddr},
    path::Path,
    time::Duration,
};

use yantro_core::{
    model::{RungKind, Service, ServiceRunner},
    proof::{Answer, Verdict},
    words::time::Timestamp,
};

use crate::{
    acts::accounts::{Account, NotKnown, addresses},
    looks::{
        echo,
        procs::{self, in_path},
        sockets::{self, SocketTable},
        tree::{Round, Tree},
    },
};

pub(crate) fn root_cause(error: &(dyn std::error::Error + 'static)) -> String {
    let mut at = error;
    while let Some(source) = at.source() {
        at = source;
    }
    at.to_string()
}

/// What came instead of an answer, as an answer: whoever should give it is not there yet, unless nobody was asked, since this machine
/// has no address to ask at, or lacks itself what asking takes (R14).
pub(crate) fn unanswered(says: String, error: &(dyn std::error::Error + 'static)) -> Answer {
    let all = std::iter::successors(Some(error), |e| e.source());
    let asked = all.filter_map(|e| e.downcast_ref::<std::io::Error>()).all(|e| {
        let has_address = !e.get_ref().is_some_and(|inner| inner.is::<NotKnown>());
        has_address && !e.raw_os_error().is_some_and(|code| LACKS.contains(&code))
    });
    if asked { Answer::not_yet(says) } else { Answer::could_not(says) }
}

/// What a machine that cannot ask says: of descriptors, memory, ports of its own, and what its own rules forbid it.
const LACKS: [i32; 7] = [libc::EMFILE, libc::ENFILE, libc::ENOMEM, libc::ENOBUFS, libc::EADDRNOTAVAIL, libc::EACCES, libc::EPERM];

/// That nothing listens, and where it was looked for if something listens on that port elsewhere.
fn nobody_listens(table: &SocketTable, port: u16, on: Option<IpAddr>) -> String {
    let mut elsewhere: Vec<String> = table.listening(port, None).iter().map(|l| l.ip.to_string()).collect();
    elsewhere.sort();
    elsewhere.dedup();
    match on {
        Some(on) if !elsewhere.is_empty() => {
            format!("nothing listens on port {port} at {on}, where it is looked for; something does at {} only", elsewhere.join(" and "))
        }
        _ => format!("nothing listens on port {port}"),
    }
}

/// Who holds a socket, in words: a process of an earlier start of ours is no stranger, and is told as what it is.
fn who_holds(inode: u64, round: &Round) -> std::io::Result<(Option<u32>, String)> {
    let holder = sockets::any_holder(inode)?;
    let named = holder.map_or("a process that cannot be seen".to_owned(), |pid| {
        let of_ours = match round.ours(pid) {
            Some(address) => format!(", which Yantro started as {address}"),
            None if procs::is_below_a_recorder(pid) => ", which Yantro started".to_owned(),
            None => String::new(),
        };
        format!("{} (process {pid}{of_ours})", procs::name(pid))
    });
    Ok((holder, named))
}

pub(crate) fn port_answer(port: u16, on: Option<&str>, held_by_any: bool, service: &Service, tree: &Tree, round: &Round) -> Answer {
    let table = match round.sockets() {
        Ok(table) => table,
        Err(error) => return Answer::could_not(format!("the socket table cannot be read: {error}")),
    };
    let on: Option<IpAddr> = on.and_then(|a| a.parse().ok());
    let found = table.listening(port, on);
    let Some(first) = found.first() else { return Answer::not_yet(nobody_listens(table, port, on)) };
    let held = |why: String| Answer::could_not(format!("port {port} is held, and it cannot be said by whom: {why}"));
    for listener in &found {
        match tree.holder(listener.inode) {
            Ok(Some(pid)) => return Answer::holds(format!("process {pid} listens on {port}")),
            // Who is not known to be it is not known to be another either.
            Err(why) if !held_by_any => return held(why),
            Ok(None) | Err(_) => {}
        }
    }
    // Before a stranger is named, the table is read anew: this one may be a moment old.
    let now = match SocketTable::read() {
        Ok(table) => table.listening(port, on),
        Err(why) => return held(why.to_string()),
    };
    let Some(first) = now.iter().find(|l| l.inode == first.inode) else {
        return Answer::not_yet(format!("nothing listens on port {port} yet"));
    };
    let (holder, named) = match who_holds(first.inode, round) {
        Ok(found) => found,
        Err(_) if held_by_any => (None, "a process that cannot be read".to_owned()),
        Err(why) => return held(why.to_string()),
    };
    let is_own = match &service.runner {
        ServiceRunner::Process(p) => !p.program.is_empty(),
        ServiceRunner::Systemd(_) => true,
        ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => false,
    };
    if holder.is_none() && is_own && !held_by_any && !nix::unistd::geteuid().is_root() {
        return Answer::could_not(format!(
            "port {port} is held, and this account may not see by whom: let the outpost run as root, or write `held_by_any = true`"
        ));
    }
    if held_by_any || !is_own {
        Answer::holds(format!("port {port} held by {named}"))
    } else {
        Answer::against(format!("port {port} is held by {named}, which is not {}", service.address))
    }
}

/// The host and port that a page is asked at.
pub(crate) fn target_of(url: &str) -> Option<(String, u16)> {
    let url = reqwest::Url::parse(url).ok()?;
    Some((url.host_str()?.trim_start_matches('[').trim_end_matches(']').to_owned(), url.port_or_known_default()?))
}

/// An answer that came from this machine is a proof only where the service's own process gave it: who holds the port is asked
/// for. What stands in front of a service on purpose is said by a `port` rung with `held_by_any`.
pub(crate) fn by_itself(answer: Answer, to: &str, port: u16, service: &Service, tree: &Tree, round: &Round) -> Answer {
    let is_own = match &service.runner {
        ServiceRunner::Process(p) => !p.program.is_empty(),
        ServiceRunner::Systemd(_) => true,
        ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => false,
    };
    let by_any = service.ladder.iter().any(|r| matches!(&r.kind, RungKind::Port { port: p, held_by_any: true, .. } if *p == port));
    let ip = if to.eq_ignore_ascii_case("localhost") { Some(IpAddr::from([127, 0, 0, 1])) } else { to.parse().ok() };
    let Some(ip) = ip.filter(|ip| is_own && !by_any && is_local(ip)) else { return answer };
    let held = port_answer(port, Some(&ip.to_string()), false, service, tree, round);
    match held.verdict {
        Verdict::Against => Answer::against(format!("{}, but {}", answer.says, held.says)),
        Verdict::CouldNotLook => held,
        // It was there a moment ago: whoever answered is gone, or is none of this machine's.
        Verdict::Holds | Verdict::NotYet => answer,
    }
}

/// Whether an address is one of this machine's own.
pub(crate) fn is_local(ip: &IpAddr) -> bool {
    if ip.is_loopback() {
        return true;
    }
    let own = nix::ifaddrs::getifaddrs().into_iter().flatten().filter_map(|i| i.address);
    own.into_iter().any(|a| match ip {
        IpAddr::V4(ip) => a.as_sockaddr_in().is_some_and(|s| s.ip() == *ip),
        IpAddr::V6(ip) => a.as_sockaddr_in6().is_some_and(|s| s.ip() == *ip),
    })
}

pub(crate) async fn connect(to: &str, port: u16) -> Answer {
    let found = match known_within(Duration::from_secs(3), to, port).await {
        Ok(found) => found,
        Err(why) => return Answer::could_not(why),
    };
    match tokio::time::timeout(Duration::from_secs(3), tokio::net::TcpStream::connect(found.as_slice())).await {
        Ok(Ok(_)) => Answer::holds(format!("{to}:{port} accepts")),
        Ok(Err(error)) => unanswered(format!("{to}:{port}: {error}"), &error),
        Err(_) => Answer::not_yet(format!("{to}:{port}: no answer within 3s")),
    }
}

/// The addresses of a host name, where they are known in a time.
///
/// # Errors
/// In words: they are not known.
pub(crate) async fn known_within(within: Duration, name: &str, port: u16) -> Result<Vec<SocketAddr>, String> {
    match tokio::time::timeout(within, addresses(name, port)).await {
        Ok(found) => found.map_err(|e| e.to_string()),
        Err(_) => Err(format!("{name} was looked up for {}, and is not known yet", yantro_core::words::time::Span(within))),
    }
}

/// An ICMP echo over the unprivileged socket where that is allowed, else over a raw one.
pub(crate) async fn ping(to: &str) -> Answer {
    let Ok(ip) = to.parse::<std::net::Ipv4Addr>() else { return Answer::could_not(format!("{to} is no IPv4 address")) };
    match tokio::task::spawn_blocking(move || echo::echo(ip, Duration::from_secs(1))).await {
        Ok(Ok(true)) => Answer::holds(format!("{to} answers")),
        Ok(Ok(false)) => Answer::not_yet(format!("{to} does not answer within 1s")),
        Ok(Err(error)) => Answer::could_not(format!("a ping cannot be sent: {error}")),
        Err(_) => Answer::could_not("the ping was broken off"),
    }
}

pub(crate) fn room(path: &str, wanted: u64) -> Answer {
    match nix::sys::statvfs::statvfs(path) {
        Ok(stat) => {
            let free = stat.blocks_available() * stat.fragment_size();
            let says = format!("{} MB free on {path}", free / 1_000_000);
            if free >= wanted {
                Answer::holds(says)
            } else {
                Answer::not_yet(format!("{says}, and {} MB are wanted", wanted.div_ceil(1_000_000)))
            }
        }
        Err(nix::errno::Errno::ENOENT) => Answer::not_yet(format!("no {path}")),
        Err(error) => Answer::could_not(format!("{path}: {error}")),
    }
}

pub(crate) fn owner(path: &str, account: &str) -> Answer {
    use std::os::unix::fs::MetadataExt;
    let meta = match std::fs::metadata(path) {
        Ok(meta) => meta,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Answer::not_yet(format!("no {path}")),
        Err(error) => return Answer::could_not(format!("{path}: {error}")),
    };
    let is = match Account::of_uid(meta.uid()) {
        Ok(of_it) => of_it.map_or_else(|| format!("uid {}", meta.uid()), |u| u.name),
        Err(error) => return Answer::could_not(format!("who {path} belongs to (uid {}): {error}", meta.uid())),
    };
    if is == account { Answer::holds(format!("{path} belongs to {is}")) } else { Answer::not_yet(format!("{path} belongs to {is}")) }
}

pub(crate) fn port_free(port: u16, on: Option<&str>, round: &Round) -> Answer {
    let table = match round.sockets() {
        Ok(table) => table,
        Err(error) => return Answer::could_not(format!("the socket table cannot be read: {error}")),
    };
    match table.listening(port, on.and_then(|a| a.parse().ok())).first() {
        None => Answer::holds(format!("port {port} is free")),
        Some(held) => {
            let named = who_holds(held.inode, round).map_or_else(|why| format!("somebody: {why}"), |(_, named)| named);
            Answer::not_yet(format!("port {port} is held by {named}"))
        }
    }
}

pub(crate) fn program_there(program: &str) -> Answer {
    let path = std::env::var("PATH").unwrap_or_else(|_| "/usr/local/bin:/usr/bin:/bin".to_owned());
    let Some(found) = in_path(program, &path) else { return Answer::not_yet(format!("there is no program {program}")) };
    match nix::unistd::access(found.as_str(), nix::unistd::AccessFlags::X_OK) {
        Ok(()) if Path::new(&found).is_file() => Answer::holds(format!("{found} may be run")),
        Ok(()) => Answer::not_yet(format!("{found} is no file")),
        Err(_) => Answer::not_yet(format!("{found} may not be run")),
    }
}

pub(crate) fn file(path: &str, since: Option<Timestamp>, newer_than: Option<Duration>, at_least: Option<u64>) -> Answer {
    if newer_than.is_some() || at_least.is_some() {
        return file_as(path, newer_than, at_least);
    }
    match std::fs::metadata(path) {
        Ok(meta) => {
            let written = meta
                .modified()
                .ok()
                .and_then(|m| m.duration_since(std::time::UNIX_EPOCH).ok())
                .map(|d| Timestamp::from_ms(d.as_millis() as i64));
            match (since, written) {
                (Some(since), Some(written)) if written < since => Answer::not_yet(format!("{path} is from before the start")),
                _ => Answer::holds(format!("{path} is there")),
            }
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Answer::not_yet(format!("no {path}")),
        Err(error) => Answer::could_not(format!("{path}: {error}")),
    }
}

/// A file as it should be: young enough, large enough.
pub(crate) fn file_as(path: &str, newer_than: Option<Duration>, at_least: Option<u64>) -> Answer {
    let meta = match std::fs::metadata(path) {
        Ok(meta) => meta,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Answer::not_yet(format!("no {path}")),
        Err(error) => return Answer::could_not(format!("{path}: {error}")),
    };
    if let Some(wanted) = at_least.filter(|wanted| meta.len() < *wanted) {
        return Answer::not_yet(format!("{path} has {} bytes, and {wanted} are wanted", meta.len()));
    }
    // Written in the future, by a clock that was set: as young as can be.
    let age = meta.modified().ok().and_then(|m| m.elapsed().ok()).unwrap_or_default();
    let told = yantro_core::words::time::Span(Duration::from_secs(age.as_secs()));
    match newer_than {
        Some(limit) if age > limit => Answer::not_yet(format!("{path} was written {told} ago")),
        _ => Answer::holds(format!("{path} was written {told} ago")),
    }
}

pub(crate) fn mount(path: &str) -> Answer {
    let table = match std::fs::read_to_string("/proc/self/mountinfo") {
        Ok(table) => table,
        Err(error) => return Answer::could_not(format!("the mounts cannot be read: {error}")),
    };
    let wanted = Path::new(path);
    let there = table.lines().filter_map(|l| l.split_ascii_whitespace().nth(4)).any(|at| Path::new(&at.replace("\\040", " ")) == wanted);
    if there { Answer::holds(format!("{path} is mounted")) } else { Answer::not_yet(format!("nothing is mounted at {path}")) }
}

#[cfg(test)]
mod tests {
    use std::io::{Error, ErrorKind};

    use rstest::rstest;

    use super::*;

    /// What a client says that could not connect, with the reason below.
    #[derive(Debug, thiserror::Error)]
    #[error("no answer")]
    struct NoAnswer(#[source] Error);

    /// R14: who was not asked did not answer.
    #[rstest]
    #[case::refused(Error::from_raw_os_error(libc::ECONNREFUSED), Verdict::NotYet)]
    #[case::no_way_there(Error::from_raw_os_error(libc::EHOSTUNREACH), Verdict::NotYet)]
    #[case::broken_off(ErrorKind::UnexpectedEof.into(), Verdict::NotYet)]
    #[case::no_descriptor_left(Error::from_raw_os_error(libc::EMFILE), Verdict::CouldNotLook)]
    #[case::no_port_of_ours_left(Error::from_raw_os_error(libc::EADDRNOTAVAIL), Verdict::CouldNotLook)]
    #[case::forbidden_here(Error::from_raw_os_error(libc::EPERM), Verdict::CouldNotLook)]
    #[case::no_address(Error::other(NotKnown("pier is not known here".to_owned())), Verdict::CouldNotLook)]
    #[case::of_others(Error::other("pier is not known here"), Verdict::NotYet)]
    fn an_error_of_this_machine_says_nothing_of_who_was_to_answer(#[case] error: Error, #[case] verdict: Verdict) {
        assert_eq!(unanswered("pier:80".to_owned(), &NoAnswer(error)), Answer { verdict, says: "pier:80".to_owned() });
    }
}
