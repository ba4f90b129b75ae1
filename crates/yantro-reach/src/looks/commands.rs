//! Commands that look: given what an act of the same service is given, as the same account, and ended whole when their time is
//! over.

use std::{collections::BTreeMap, process::Stdio, time::Duration};

use tokio::io::{AsyncRead, AsyncReadExt};

use crate::acts::{accounts::Account, descriptors};

/// At most so much of what a look prints is read; what comes after it is let go.
const PRINTED: u64 = 1024 * 1024;

/// What every command is given of the environment of this program, and nothing else of it: where programs are, the language, a
/// home, the zone.
pub(crate) fn clean_env() -> BTreeMap<String, String> {
    ["PATH", "LANG", "HOME", "TZ"].iter().filter_map(|k| Some(((*k).to_owned(), std::env::var(k).ok()?))).collect()
}

/// What is another account's own in the environment of what is run as it.
pub(crate) fn env_of(account: &Account) -> [(String, String); 3] {
    let own = |name: &str, value: &String| (name.to_owned(), value.clone());
    [own("HOME", &account.home), own("USER", &account.name), own("LOGNAME", &account.name)]
}

/// A command that looks.
pub(crate) struct LookingCommand<'l> {
    /// Program and arguments.
    pub words: &'l [String],
    /// Its folder.
    pub dir: &'l str,
    /// What it is given besides the clean environment.
    pub env: BTreeMap<String, String>,
    /// The account that it is run as, where that is another one, and its groups.
    pub account: Option<(Account, Vec<u32>)>,
    /// How long it may take.
    pub within: Duration,
}

/// What it came to.
pub(crate) struct CameTo {
    /// Its exit code; none where a signal ended it.
    pub code: Option<i32>,
    /// What it printed to its standard output.
    pub printed: String,
}

/// A command's whole group, ended when this is dropped before the command ended.
struct Group(Option<i32>);

impl Drop for Group {
    fn drop(&mut self) {
        if let Some(group) = self.0 {
            // Its leader is not reaped yet: the number is nobody else's.
            let _ = nix::sys::signal::killpg(nix::unistd::Pid::from_raw(group), nix::sys::signal::Signal::SIGKILL);
        }
    }
}

async fn read(from: Option<impl AsyncRead + Unpin>) -> String {
    let Some(mut from) = from else { return String::new() };
    let mut text = Vec::new();
    // Broken off is what was read of it.
    let _ = (&mut from).take(PRINTED).read_to_end(&mut text).await;
    let _ = tokio::io::copy(&mut from, &mut tokio::io::sink()).await;
    String::from_utf8_lossy(&text).into_owned()
}

impl LookingCommand<'_> {
    /// Runs it.
    ///
    /// # Errors
    /// In words: it cannot be run, or did not end in its time.
    pub async fn run(self) -> Result<CameTo, String> {
        let Some((program, args)) = self.words.split_first() else { return Err("there is no command".to_owned()) };
        let mut command = tokio::process::Command::new(program);
        command.args(args).current_dir(self.dir).env_clear().envs(clean_env());
        command.envs(self.account.iter().flat_map(|(account, _)| env_of(account))).envs(self.env);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true).process_group(0);
        if let Some(account) = self.account {
            let (Account { uid, gid, .. }, groups) = account;
            // Sound: only system calls, on memory that is its own.
            unsafe {
                command.pre_exec(move || {
                    let done = libc::setgroups(groups.len(), groups.as_ptr()) == 0 && libc::setgid(gid) == 0 && libc::setuid(uid) == 0;
                    if done { Ok(()) } else { Err(std::io::Error::last_os_error()) }
                });
            }
        }
        let mut child = command.spawn().map_err(|error| match std::fs::metadata(self.dir) {
            // What the system says of a missing folder reads as if it were the program.
            Err(of_folder) => format!("{program} cannot be run in {}: {of_folder}", self.dir),
            Ok(_) => format!("{program} cannot be run: {error}"),
        })?;
        // Not before it begins: that would take copying this whole program for each look.
        child.id().inspect(|pid| descriptors::give_back(*pid));
        let mut group = Group(child.id().map(|id| id as i32));
        let (out, err) = (child.stdout.take(), child.stderr.take());
        let ended = async { tokio::join!(read(out), read(err), child.wait()) };
        match tokio::time::timeout(self.within, ended).await {
            Err(_) => Err(format!("{program} did not end within {}", yantro_core::words::time::Span(self.within))),
            Ok((_, _, Err(error))) => Err(format!("{program} cannot be followed: {error}")),
            Ok((printed, _, Ok(status))) => {
                group.0 = None;
                Ok(CameTo { code: status.code(), printed })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::{collections::BTreeMap, time::Instant};

    use super::*;

    fn look(words: &[String], account: Option<(Account, Vec<u32>)>, within: Duration) -> LookingCommand<'_> {
        LookingCommand { words, dir: "/", env: BTreeMap::from([("LANE".to_owned(), "A".to_owned())]), account, within }
    }

    fn words(script: &str) -> Vec<String> {
        ["/bin/sh", "-c", script].map(str::to_owned).to_vec()
    }

    #[tokio::test]
    async fn it_has_what_an_act_has_and_nothing_of_the_servers() {
        // Sound: no other thread of this test reads it under this name.
        unsafe { std::env::set_var("YANTRO_TEST_OF_LOOKS", "secret") };
        let seen = look(&words("echo \"$LANE:$YANTRO_TEST_OF_LOOKS:$PATH\"; exit 3"), None, Duration::from_secs(10)).run().await.unwrap();
        assert_eq!(seen.code, Some(3));
        assert_eq!(seen.printed.trim(), format!("A::{}", std::env::var("PATH").unwrap()));
    }

    #[tokio::test]
    async fn it_is_run_as_the_account_of_its_service() {
        if !nix::unistd::geteuid().is_root() {
            return;
        }
        let nobody = Account::named("nobody").unwrap().unwrap();
        let (groups, home) = (nobody.groups().unwrap(), nobody.home.clone());
        let words = words("id -un; id -G; echo $HOME $USER $LOGNAME");
        let seen = look(&words, Some((nobody, groups)), Duration::from_secs(10)).run().await.unwrap();
        assert_eq!(seen.printed.lines().nth(2), Some(format!("{home} nobody nobody").as_str()), "its own, and not the server's");
        assert_eq!(seen.printed.lines().next(), Some("nobody"));
        assert!(!seen.printed.lines().nth(1).unwrap().split(' ').any(|g| g == "0"), "{}", seen.printed);
    }

    #[rstest::rstest]
    #[case::no_program("/nowhere/look", "/", "/nowhere/look cannot be run: No such file")]
    #[case::no_folder("/bin/true", "/nowhere/at/all", "/bin/true cannot be run in /nowhere/at/all: No such file")]
    #[tokio::test]
    async fn what_keeps_it_from_being_run_is_told_as_what_it_is(#[case] program: &str, #[case] dir: &str, #[case] says: &str) {
        let words = [program.to_owned()];
        let look = LookingCommand { words: &words, dir, env: BTreeMap::new(), account: None, within: Duration::from_secs(10) };
        let why = look.run().await.err().unwrap();
        assert!(why.starts_with(says), "{why}");
    }

    /// A look that overruns leaves nothing running, whatever it had begun.
    #[tokio::test]
    async fn what_it_began_ends_with_it() {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path().join("pid").display().to_string();
        let script = format!("sleep 30.0413 & echo $! > {at}; wait");
        let began = Instant::now();
        let why = look(&words(&script), None, Duration::from_millis(300)).run().await.err().unwrap();
        assert!(why.contains("did not end within"), "{why}");
        assert!(began.elapsed() < Duration::from_secs(10));
        let pid: u32 = std::fs::read_to_string(&at).unwrap().trim().parse().unwrap();
        while crate::looks::procs::stat(pid).unwrap().is_some_and(|s| s.state != 'Z') {
            assert!(began.elapsed() < Duration::from_secs(10), "process {pid} goes on");
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }
}
