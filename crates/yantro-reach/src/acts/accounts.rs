//! Accounts and host names as this host knows them, asked in ways that a statically linked program may: the C
//! library's own lookups load libraries of the host, which need not fit the one that was linked.

use std::{fs, io, net::SocketAddr, process::Command};

use reqwest::dns::{Addrs, Name, Resolve, Resolving};

use crate::looks::gone::unless_gone;

/// An account of this host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Account {
    pub name: String,
    pub uid: u32,
    pub gid: u32,
    /// Its home.
    pub home: String,
}

fn parse(line: &str) -> Option<Account> {
    let mut fields = line.split(':');
    let name = fields.next()?.to_owned();
    let (uid, gid) = (fields.nth(1)?.parse().ok()?, fields.next()?.parse().ok()?);
    let home = fields.nth(1).unwrap_or("/").to_owned();
    Some(Account { name, uid, gid, home })
}

/// What `getent` ends with where there is no such key: getent(1).
const NO_SUCH_KEY: i32 = 2;

/// Files first; what comes from elsewhere (a directory service, say) is asked of the host's own `getent`, where it has one.
fn find(key: &str, is_it: impl Fn(&Account) -> bool) -> io::Result<Option<Account>> {
    let text = unless_gone(fs::read_to_string("/etc/passwd"))?.unwrap_or_default();
    if let Some(found) = text.lines().filter_map(parse).find(|a| is_it(a)) {
        return Ok(Some(found));
    }
    let Some(out) = unless_gone(Command::new("getent").args(["passwd", key]).output())? else { return Ok(None) };
    match out.status.code() {
        Some(0) => Ok(String::from_utf8_lossy(&out.stdout).lines().next().and_then(parse).filter(|a| is_it(a))),
        Some(NO_SUCH_KEY) => Ok(None),
        _ => Err(io::Error::other(format!("getent passwd {key}: {}", out.status))),
    }
}

impl Account {
    /// The account of a name; none where there is none.
    ///
    /// # Errors
    /// Nobody can say: the list cannot be read, or what answers for accounts does not.
    pub fn named(name: &str) -> io::Result<Option<Self>> {
        find(name, |a| a.name == name)
    }

    /// The account of a number.
    ///
    /// # Errors
    /// As [`Account::named`].
    pub fn of_uid(uid: u32) -> io::Result<Option<Self>> {
        find(&uid.to_string(), |a| a.uid == uid)
    }

    /// The account of a name, with its groups.
    ///
    /// # Errors
    /// As for each of these.
    pub fn with_groups(name: &str) -> io::Result<Option<(Self, Vec<u32>)>> {
        let Some(account) = Self::named(name)? else { return Ok(None) };
        let groups = account.groups()?;
        Ok(Some((account, groups)))
    }

    /// What an account is called, as far as that can be said.
    pub fn called(uid: u32) -> String {
        Self::of_uid(uid).ok().flatten().map_or_else(|| format!("uid {uid}"), |a| a.name)
    }

    /// Every group it is in, its own first.
    ///
    /// # Errors
    /// Nobody can say: nothing is run in fewer than it has.
    pub fn groups(&self) -> io::Result<Vec<u32>> {
        let listed = Command::new("id").args(["-G", &self.name]).output()?;
        if !listed.status.success() {
            return Err(io::Error::other(format!("id -G {}: {}", self.name, listed.status)));
        }
        let text = String::from_utf8_lossy(&listed.stdout).into_owned();
        let others = text.split_whitespace().filter_map(|g| g.parse::<u32>().ok()).filter(|g| *g != self.gid);
        Ok(std::iter::once(self.gid).chain(others).collect())
    }
}

/// A name for which this host has no address, for whatever reason: nothing can be asked there.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct NotKnown(pub(crate) String);

/// The addresses of a host name: as it stands where it is one, else as this host's `getent` finds it. Its error is a [`NotKnown`].
pub(crate) async fn addresses(name: &str, port: u16) -> std::io::Result<Vec<SocketAddr>> {
    if let Ok(ip) = name.trim_matches(['[', ']']).parse::<std::net::IpAddr>() {
        return Ok(vec![SocketAddr::new(ip, port)]);
    }
    let mut getent = tokio::process::Command::new("getent");
    // Whoever asks waits for so long, and a resolver may take longer.
    let out = getent.args(["ahosts", name]).stdin(std::process::Stdio::null()).kill_on_drop(true).output().await;
    let out = out.map_err(|e| std::io::Error::other(NotKnown(format!("{name} cannot be looked up: getent cannot be run: {e}"))))?;
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let mut found: Vec<SocketAddr> =
        text.lines().filter_map(|l| l.split_whitespace().next()?.parse().ok()).map(|ip| SocketAddr::new(ip, port)).collect();
    found.dedup();
    if found.is_empty() { Err(std::io::Error::other(NotKnown(format!("{name} is not known here")))) } else { Ok(found) }
}

/// The same for pages.
pub(crate) struct Names;

impl Resolve for Names {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found = addresses(name.as_str(), 0).await?;
            Ok(Box::new(found.into_iter()) as Addrs)
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn an_account_is_found_by_name_and_by_number() {
        let root = Account::named("root").unwrap().unwrap();
        assert_eq!((root.uid, Account::of_uid(0).unwrap()), (0, Some(root.clone())));
        assert!(root.groups().unwrap().contains(&0));
        assert_eq!(Account::named("no-such-account-here").unwrap(), None);
        let unknown = Account { name: "no-such-account-here".to_owned(), ..root };
        assert!(unknown.groups().is_err(), "nobody can say which groups it is in");
    }

    #[rstest]
    #[case::an_address("127.0.9.1", "127.0.9.1:80")]
    #[case::the_other_kind("[::1]", "[::1]:80")]
    #[case::a_name("localhost", "127.0.0.1:80")]
    #[tokio::test]
    async fn names_become_addresses(#[case] name: &str, #[case] wanted: &str) {
        let found = addresses(name, 80).await.unwrap();
        // Which kind a name has here is this host's affair.
        assert!(found.iter().any(|a| a.to_string() == wanted || name == "localhost" && a.ip().is_loopback()), "{found:?}");
    }

    #[tokio::test]
    async fn a_name_that_nobody_knows_says_so() {
        assert!(addresses("nowhere.invalid", 80).await.unwrap_err().to_string().contains("nowhere.invalid is not known here"));
    }
}
