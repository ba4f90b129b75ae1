//! Which server acts on a host: written down on the host itself, so that two servers, or a server
//! and one restored from a copy of its store, never act on it beside each other (R35).

use std::{
    collections::HashMap,
    fs::{self, File},
    io,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use serde::{Deserialize, Serialize};

use crate::acts::whole::write_whole;

/// What a host keeps of the server that acts on it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keeper {
    /// The server's identity, made with its store.
    pub server: String,
    /// The time its store was last served from: a copy of the store does not know it.
    pub session: String,
    /// How far its record of events had come. An older store has not come so far.
    pub counter: i64,
    /// Where it keeps its data, for people.
    pub data: PathBuf,
}

/// Who wants to act, with all it takes to tell it from others.
#[derive(Clone, Copy)]
pub struct Claim<'a> {
    /// The server's identity.
    pub server: &'a str,
    /// This session.
    pub session: &'a str,
    /// Whether a session was one of this store's own.
    pub is_own_session: &'a (dyn Fn(&str) -> bool + Sync),
    /// How far its record of events has come by now. Asked after the host's record was read: an act
    /// beside this one may have moved both on meanwhile.
    pub counter: &'a (dyn Fn() -> i64 + Sync),
    /// Where it keeps its data.
    pub data: &'a Path,
}

/// Why a host must not be acted on.
#[derive(Debug, thiserror::Error)]
pub enum Kept {
    /// Another server acts there.
    #[error("another server acts there: the one with its data in {}", .0.display())]
    ByAnother(PathBuf),
    /// A server with a copy of this store acted there.
    #[error("a copy of this server's store has acted there since, from {}", .0.display())]
    ByACopy(PathBuf),
    /// This store is older than what was done there with it.
    #[error("more was done there than this store knows of: it was restored from an older copy")]
    OlderStore,
    /// The record cannot be read or written.
    #[error("the host's record of who acts there, {}, cannot be used: {source}", path.display())]
    Unusable {
        /// The record.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
}

impl Kept {
    /// How to mend it; none where it takes somebody's word that the host is this server's now.
    pub fn mend(&self) -> Option<String> {
        let Kept::Unusable { path, source } = self else { return None };
        let path = path.display();
        match source.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
                Some(format!("make room on the file system of {path}, and try again"))
            }
            io::ErrorKind::ReadOnlyFilesystem => Some(format!("see why the file system of {path} can only be read, and try again")),
            io::ErrorKind::PermissionDenied => Some(format!("let the account that Yantro has there write {path}")),
            io::ErrorKind::WouldBlock => Some(format!("see what keeps it (`fuser {path}`), and try again")),
            _ => None,
        }
    }

    /// Whether it shows that the store itself is not the newest: then only looking is safe.
    pub fn doubts_the_store(&self) -> bool {
        matches!(self, Kept::ByACopy(_) | Kept::OlderStore)
    }
}

/// How long a turn is waited for.
const TURN_WITHIN: Duration = Duration::from_secs(2);

/// The record that servers keep here which reach this machine from elsewhere.
pub(crate) const THIS_HOST: &str = "this-host";

fn is_local(name: &str) -> bool {
    name.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

/// The records of hosts that are reached from here.
#[derive(Debug, Clone)]
pub(crate) struct Keepers {
    folder: PathBuf,
    /// By the record's lock.
    own_turns: Arc<Mutex<HashMap<PathBuf, Arc<OwnTurn>>>>,
}

/// Claims of this very process to one machine, which are many where many acts are given at once. They wait for each other here and
/// never for the lock, which is another process's to keep them from; and one record written stands for all who came before it was.
#[derive(Debug, Default)]
struct OwnTurn {
    /// How many have come.
    came: AtomicU64,
    last: Mutex<Option<Claimed>>,
}

/// A record that was written.
#[derive(Debug)]
struct Claimed {
    /// Of those who came, the last that had come before it was.
    up_to: u64,
    address: String,
    server: String,
    session: String,
}

impl Claimed {
    fn stands_for(&self, came: u64, address: &str, claim: &Claim<'_>) -> bool {
        came <= self.up_to && self.address == address && self.server == claim.server && self.session == claim.session
    }
}

impl Keepers {
    pub fn new(folder: &Path) -> Self {
        Self { folder: folder.to_path_buf(), own_turns: Arc::default() }
    }

    fn path(&self, address: &str) -> PathBuf {
        self.folder.join(format!("{}.json", address.replace('/', "_")))
    }

    fn read(&self, address: &str) -> Result<Option<Keeper>, Kept> {
        let path = self.path(address);
        let unusable = |source| Kept::Unusable { path: path.clone(), source };
        match fs::read(&path) {
            Ok(bytes) => serde_json::from_slice(&bytes).map(Some).map_err(|e| unusable(e.into())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(unusable(error)),
        }
    }

    /// The other names under which the same machine is acted on: from elsewhere by its own name, from itself by its
    /// loopback addresses, each of which stands for a host of its own.
    fn other_names(&self, address: &str) -> Vec<String> {
        if is_local(address) {
            return vec![THIS_HOST.to_owned()];
        }
        if address != THIS_HOST {
            return Vec::new();
        }
        let files = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let names = files.filter_map(|f| Some(f.file_name().to_str()?.strip_suffix(".json")?.to_owned()));
        names.filter(|n| is_local(n)).collect()
    }

    /// Says whether a host may be acted on; changes nothing.
    pub fn check(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        for name in self.other_names(address) {
            if let Some(keeper) = self.read(&name)?.filter(|k| k.server != claim.server) {
                return Err(Kept::ByAnother(keeper.data));
            }
        }
        match self.read(address)? {
            Some(keeper) if keeper.server != claim.server => Err(Kept::ByAnother(keeper.data)),
            Some(keeper) if !(claim.is_own_session)(&keeper.session) => Err(Kept::ByACopy(keeper.data)),
            Some(keeper) if keeper.counter > (claim.counter)() => Err(Kept::OlderStore),
            _ => Ok(()),
        }
    }

    /// Claims a host for an act: checked and written as one, beside whoever else tries.
    pub fn claim(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        let own = self.own_turn(address);
        let came = own.came.fetch_add(1, Ordering::SeqCst) + 1;
        let mut last = own.last.lock().unwrap_or_else(PoisonError::into_inner);
        // Its counter is stored before an act is given, and was read when the record was written: none that came is above it.
        if last.as_ref().is_some_and(|l| l.stands_for(came, address, claim)) {
            return Ok(());
        }
        let up_to = own.came.load(Ordering::SeqCst);
        let _turn = self.turn(address)?;
        self.check(address, claim)?;
        self.write(address, claim)?;
        let (server, session) = (claim.server.to_owned(), claim.session.to_owned());
        *last = Some(Claimed { up_to, address: address.to_owned(), server, session });
        Ok(())
    }

    fn own_turn(&self, address: &str) -> Arc<OwnTurn> {
        let mut all = self.own_turns.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(all.entry(self.lock_path(address)).or_default())
    }

    /// Takes a host over from whoever acted there before.
    pub fn take_over(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        let own = self.own_turn(address);
        let mut last = own.last.lock().unwrap_or_else(PoisonError::into_inner);
        *last = None;
        let _turn = self.turn(address)?;
        for name in self.other_names(address) {
            // Whoever acted under it finds the new record when it next wants to act.
            // One that cannot be read lets nobody act: it is taken over too.
            if self.read(&name).map_or(true, |k| k.is_some_and(|k| k.server != claim.server)) {
                self.write(&name, claim)?;
            }
        }
        self.write(address, claim)
    }

    /// All names of one machine take turns together.
    fn lock_path(&self, address: &str) -> PathBuf {
        self.path(if is_local(address) { THIS_HOST } else { address }).with_extension("lock")
    }

    fn turn(&self, address: &str) -> Result<File, Kept> {
        let path = self.lock_path(address);
        let lock = || {
            fs::create_dir_all(&self.folder)?;
            let no_link = nix::fcntl::OFlag::O_NOFOLLOW.bits();
            let file = File::options().create(true).truncate(false).write(true).custom_flags(no_link).open(&path)?;
            let began = Instant::now();
            // Whoever has its turn keeps it for a moment only, unless it is stopped there, or is none of ours: many hang on this.
            loop {
                match file.try_lock() {
                    Ok(()) => return Ok(file),
                    Err(fs::TryLockError::WouldBlock) if began.elapsed() < TURN_WITHIN => std::thread::sleep(Duration::from_millis(2)),
                    Err(fs::TryLockError::WouldBlock) => {
                        return Err(io::Error::new(io::ErrorKind::WouldBlock, "another process keeps its lock"));
                    }
                    Err(fs::TryLockError::Error(error)) => return Err(error),
                }
            }
        };
        lock().map_err(|source| Kept::Unusable { path: path.clone(), source })
    }

    fn write(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        let path = self.path(address);
        let keeper = Keeper {
            server: claim.server.to_owned(),
            session: claim.session.to_owned(),
            counter: (claim.counter)(),
            data: claim.data.to_path_buf(),
        };
        // Another account's server must be able to read who acts there.
        let written = serde_json::to_vec(&keeper).map_err(io::Error::from).and_then(|bytes| write_whole(&path, &bytes, 0o644));
        written.map_err(|source| Kept::Unusable { path, source })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A server that was served in these sessions, the last of which is now.
    struct Server<'a> {
        id: &'a str,
        sessions: &'a [&'a str],
        counter: i64,
    }

    impl Server<'_> {
        fn with<T>(&self, f: impl FnOnce(&Claim<'_>) -> T) -> T {
            let own = |s: &str| self.sessions.contains(&s);
            let session = self.sessions.last().unwrap();
            f(&Claim { server: self.id, session, is_own_session: &own, counter: &|| self.counter, data: Path::new("/srv/yantro") })
        }
        fn acts(&self, keepers: &Keepers) -> Result<(), Kept> {
            self.with(|c| keepers.claim("127.0.9.1", c))
        }
    }

    #[rstest]
    #[case::the_same_server_goes_on(("a", &["1"][..], 5), ("a", &["1"][..], 6), "")]
    #[case::started_again(("a", &["1"][..], 5), ("a", &["1", "2"][..], 5), "")]
    #[case::another_server(("a", &["1"][..], 5), ("b", &["9"][..], 50), "another server acts there")]
    #[case::the_copy_acted_and_the_first_comes_back(("a", &["1", "2"][..], 5), ("a", &["1", "3"][..], 50), "a copy of this server's store")]
    #[case::restored_from_an_older_copy(("a", &["1"][..], 50), ("a", &["1", "2"][..], 40), "older copy")]
    fn who_may_act_on_a_host(#[case] before: (&str, &[&str], i64), #[case] now: (&str, &[&str], i64), #[case] refused: &str) {
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        Server { id: before.0, sessions: before.1, counter: before.2 }.acts(&keepers).unwrap();
        let server = Server { id: now.0, sessions: now.1, counter: now.2 };
        match server.acts(&keepers) {
            Ok(()) => assert_eq!(refused, ""),
            Err(kept) => {
                assert!(!refused.is_empty() && kept.to_string().contains(refused), "{kept}");
                // Taken over by name, it acts; and whoever acted before no longer does.
                server.with(|c| keepers.take_over("127.0.9.1", c)).unwrap();
                server.acts(&keepers).unwrap();
                assert!(Server { id: before.0, sessions: before.1, counter: 1_000 }.acts(&keepers).is_err());
            }
        }
    }

    #[test]
    fn a_record_that_cannot_be_read_lets_nobody_act() {
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        fs::write(dir.path().join("127.0.9.1.json"), "{ half").unwrap();
        let server = Server { id: "a", sessions: &["1"], counter: 1 };
        let refused = server.acts(&keepers).unwrap_err();
        assert!(refused.to_string().contains("127.0.9.1.json") && !refused.doubts_the_store(), "{refused}");
    }

    /// Torn by a power cut under an earlier version: whoever takes the host over acts.
    #[rstest]
    #[case::its_own("127.0.9.1", "127.0.9.1")]
    #[case::under_another_name("127.0.0.1", THIS_HOST)]
    fn a_torn_record_is_taken_over(#[case] torn: &str, #[case] acted_on: &str) {
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        fs::write(dir.path().join(format!("{torn}.json")), "").unwrap();
        let server = Server { id: "a", sessions: &["1"], counter: 1 };
        assert!(server.with(|c| keepers.claim(acted_on, c)).is_err());
        server.with(|c| keepers.take_over(acted_on, c)).unwrap();
        server.with(|c| keepers.claim(acted_on, c)).unwrap();
    }

    /// A lock that is never let go of holds up nobody for ever.
    #[test]
    fn a_lock_that_is_kept_is_told_and_not_waited_for() {
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        let kept = File::create(dir.path().join("127.0.9.1.lock")).unwrap();
        kept.lock().unwrap();
        let server = Server { id: "a", sessions: &["1"], counter: 1 };
        // Its loopback addresses take turns under the machine's own name.
        let kept_too = File::create(dir.path().join(format!("{THIS_HOST}.lock"))).unwrap();
        kept_too.lock().unwrap();
        let refused = server.acts(&keepers).unwrap_err();
        assert!(refused.to_string().contains("another process keeps its lock"), "{refused}");
        assert!(refused.mend().unwrap().contains("fuser"));
    }

    /// A host is taken over from another server, and not for want of room.
    #[rstest]
    #[case::full(io::ErrorKind::StorageFull, Some("make room"))]
    #[case::read_only(io::ErrorKind::ReadOnlyFilesystem, Some("can only be read"))]
    #[case::forbidden(io::ErrorKind::PermissionDenied, Some("let the account"))]
    #[case::torn(io::ErrorKind::UnexpectedEof, None)]
    fn what_keeps_a_record_from_being_used_has_its_own_mend(#[case] kind: io::ErrorKind, #[case] mend: Option<&str>) {
        let kept = Kept::Unusable { path: "/var/lib/yantro/hosts/this-host.json".into(), source: kind.into() };
        assert_eq!(kept.mend().is_some(), mend.is_some());
        assert!(kept.mend().is_none_or(|m| m.contains(mend.unwrap_or_default()) && m.contains("this-host.json")));
        assert!(Kept::ByAnother("/srv/yantro".into()).mend().is_none());
    }

    /// Acts are given side by side, each once its own event is stored.
    #[test]
    fn acts_side_by_side_do_not_take_each_other_for_an_older_store() {
        use std::sync::atomic::AtomicI64;
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        let stored = AtomicI64::new(0);
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    for _ in 0..200 {
                        stored.fetch_add(1, Ordering::SeqCst);
                        let claim = Claim {
                            server: "a",
                            session: "1",
                            is_own_session: &|s| s == "1",
                            counter: &|| stored.load(Ordering::SeqCst),
                            data: Path::new("/srv/yantro"),
                        };
                        let own = stored.load(Ordering::SeqCst);
                        keepers.claim("127.0.9.1", &claim).unwrap();
                        // By whichever write, the host knows of a store as new as this one.
                        let kept = keepers.read("127.0.9.1").unwrap().unwrap();
                        assert!(kept.counter >= own, "{} and {own}", kept.counter);
                        keepers.check("127.0.9.1", &claim).unwrap();
                    }
                });
            }
        });
    }

    /// One server on the machine itself, one that reaches it from elsewhere.
    #[rstest]
    #[case::from_itself_first("127.0.0.1", THIS_HOST)]
    #[case::from_elsewhere_first(THIS_HOST, "127.0.0.1")]
    fn a_machine_has_one_server_from_wherever_it_is_reached(#[case] first: &str, #[case] second: &str) {
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        let (a, b) = (Server { id: "a", sessions: &["1"], counter: 9 }, Server { id: "b", sessions: &["2"], counter: 1 });
        a.with(|c| keepers.claim(first, c)).unwrap();
        let refused = b.with(|c| keepers.claim(second, c)).unwrap_err();
        assert!(refused.to_string().contains("another server acts there"), "{refused}");
        b.with(|c| keepers.take_over(second, c)).unwrap();
        b.with(|c| keepers.claim(second, c)).unwrap();
        assert!(a.with(|c| keepers.claim(first, c)).is_err());
        // The same server may reach it both ways; what gives power is kept apart.
        b.with(|c| keepers.claim(first, c)).unwrap();
        a.with(|c| keepers.claim("power of 02:00:5e:10:00:01", c)).unwrap();
    }

    #[test]
    fn each_host_has_a_record_of_its_own() {
        let dir = tempfile::tempdir().unwrap();
        let keepers = Keepers::new(dir.path());
        let (a, b) = (Server { id: "a", sessions: &["1"], counter: 1 }, Server { id: "b", sessions: &["2"], counter: 1 });
        a.with(|c| keepers.claim("127.0.9.1", c)).unwrap();
        b.with(|c| keepers.claim("127.0.9.2", c)).unwrap();
        assert!(b.with(|c| keepers.check("127.0.9.1", c)).is_err());
    }
}
