//! A lab of real hosts on one machine: namespaces with their own network address, files, process table, journal, SSH
//! server, and a real systemd as their first process. Needs root.
//!
//! Every host sees this machine's files through an overlay of its own. A lab has a bridge and a network 10.77.N.0/24
//! of its own, which never leaves the machine.

pub mod controller;
pub mod ferry;

use std::{
    fs::{self, File},
    io,
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

/// What makes the namespaces a host. What stands in capitals between `@` is put in.
const INIT: &str = include_str!("init.sh");
/// Hosts must not share control groups: the manager of each would have its units in those of the others. Whoever runs this is
/// put into groups of the host's own, where there are such, and becomes the program that follows.
const INTO_GROUPS: &str = "n=$1; shift; for g in systemd unified pids devices freezer blkio cpu cpuacct; do \
    d=/sys/fs/cgroup/$g/$n; mkdir -p $d 2>/dev/null && echo $$ > $d/cgroup.procs; done 2>/dev/null; exec \"$@\"";
/// Takes them away again.
const OUT_OF_GROUPS: &str = "find /sys/fs/cgroup/*/$1 -depth -type d -exec rmdir {} + 2>/dev/null";
/// How long a host may take to come up, on a machine with much else to do.
const UP_WITHIN: Duration = Duration::from_secs(60);

/// A link's name is free again once the kernel took the network down that it led to.
const LINK_WITHIN: Duration = Duration::from_secs(30);

/// What a host needs of this machine; each with the package that has it on Debian.
const NEEDED: &[(&str, &str)] = &[
    ("/usr/lib/systemd/systemd", "systemd"),
    ("/usr/sbin/sshd", "openssh-server"),
    ("/usr/bin/ssh", "openssh-client"),
    ("/usr/bin/dbus-daemon", "dbus"),
    ("/usr/bin/unshare", "util-linux"),
    ("/usr/bin/nsenter", "util-linux"),
];

/// A lab. Its hosts end with it.
pub struct Lab {
    dir: tempfile::TempDir,
    number: u8,
    names: Mutex<Vec<String>>,
    /// Held while the number is ours.
    _turn: File,
}

/// How a host is made.
#[derive(Debug, Clone, Default)]
pub struct Spec {
    /// Files put there before it is first turned on: path from the root, mode, text.
    pub files: Vec<(String, u32, String)>,
    /// Programs of this machine put there: from, and to where.
    pub programs: Vec<(PathBuf, String)>,
    /// Services of its manager that come up at boot, beside its SSH server.
    pub enable: Vec<String>,
    /// Services that are not to run there, whatever the machine has installed.
    pub mask: Vec<String>,
    /// A shell script run there before its first boot: accounts, folders.
    pub prepare: String,
}

/// One host of a lab.
pub struct Host<'l> {
    lab: &'l Lab,
    machine: Arc<Machine>,
    number: u8,
}

/// What a host is without its lab: what gets power and loses it.
pub struct Machine {
    name: String,
    dir: PathBuf,
    netns: String,
    outer: Mutex<Option<Child>>,
}

fn run(words: &[&str]) -> io::Result<Output> {
    let (program, args) = words.split_first().expect("a program is named");
    Command::new(program).args(args).stdin(Stdio::null()).output()
}

/// Runs a command of this machine that must succeed.
fn must(words: &[&str]) -> String {
    let out = run(words).unwrap_or_else(|e| panic!("{}: {e}", words.join(" ")));
    assert!(out.status.success(), "{}: {}", words.join(" "), String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// Why no lab can be raised here, where that is so.
pub fn hindrance() -> Option<String> {
    if unsafe { libc::geteuid() } != 0 {
        return Some("it takes root".to_owned());
    }
    NEEDED.iter().find(|(path, _)| !Path::new(path).exists()).map(|(path, package)| format!("{path} is missing: install {package}"))
}

impl Lab {
    /// A lab in a folder of its own, with a key that its hosts let in. `None` where there can be none, with a line that
    /// says why.
    pub fn raise() -> Option<Self> {
        if let Some(why) = hindrance() {
            eprintln!("no lab can be raised here ({why}): this is left out");
            return None;
        }
        let dir = tempfile::Builder::new().prefix("yantro-lab-").tempdir_in("/var/tmp").expect("a folder can be made");
        let (turn, number) = (1..=250u8)
            .find_map(|n| {
                let file = File::options().create(true).truncate(false).write(true).open(format!("/run/yantro-lab-{n}.lock")).ok()?;
                file.try_lock().ok().map(|()| (file, n))
            })
            .expect("one of 250 networks is free");
        let lab = Self { dir, number, names: Mutex::default(), _turn: turn };
        // What an earlier lab left when it was killed.
        let _ = run(&["ip", "link", "del", &lab.bridge()]);
        // Root without the right to make networks, in a container say.
        let made = run(&["ip", "link", "add", &lab.bridge(), "type", "bridge"]);
        if !made.as_ref().is_ok_and(|out| out.status.success()) {
            let why = made.map_or_else(|e| e.to_string(), |out| String::from_utf8_lossy(&out.stderr).trim().to_owned());
            eprintln!("no lab can be raised here (its network cannot be made: {why}): this is left out");
            return None;
        }
        must(&["ip", "addr", "add", &format!("{}/24", lab.address(1)), "dev", &lab.bridge()]);
        must(&["ip", "link", "set", &lab.bridge(), "up"]);
        must(&["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "lab", "-f", &lab.file("key").display().to_string()]);
        Some(lab)
    }

    fn bridge(&self) -> String {
        format!("ylab{}", self.number)
    }

    /// The address of a number in the lab's network; 1 is this machine.
    pub fn address(&self, number: u8) -> String {
        format!("10.77.{}.{number}", self.number)
    }

    /// A file in the lab's folder. `key` logs in everywhere as root; `known_hosts` has every host's key.
    pub fn file(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// Makes a host and turns it on; returns when its manager is through with booting and SSH answers.
    pub fn host(&self, name: &str, number: u8, spec: &Spec) -> Host<'_> {
        let machine = Machine {
            name: name.to_owned(),
            dir: self.dir.path().join(name),
            netns: format!("yl{}-{name}", self.number),
            outer: Mutex::default(),
        };
        let host = Host { lab: self, machine: Arc::new(machine), number };
        for below in ["up", "work", "root"] {
            fs::create_dir_all(host.dir().join(below)).expect("a folder can be made");
        }
        for (path, mode, text) in &spec.files {
            let at = host.dir().join("up").join(path.trim_start_matches('/'));
            fs::create_dir_all(at.parent().expect("files are in folders")).expect("a folder can be made");
            fs::write(&at, text).expect("there is room");
            fs::set_permissions(&at, std::os::unix::fs::PermissionsExt::from_mode(*mode)).expect("it is ours");
        }
        for (from, to) in &spec.programs {
            let at = host.dir().join("up").join(to.trim_start_matches('/'));
            fs::create_dir_all(at.parent().expect("files are in folders")).expect("a folder can be made");
            fs::copy(from, &at).expect("there is room");
        }
        fs::write(host.dir().join("prepare"), &spec.prepare).expect("there is room");
        let list = |words: &[String]| words.join(" ");
        let init = INIT
            .replace("@DIR@", &host.dir().display().to_string())
            .replace("@NAME@", name)
            .replace("@KEY@", &self.file("key.pub").display().to_string())
            .replace("@MASK@", &list(&spec.mask))
            .replace("@ENABLE@", &list(&spec.enable));
        fs::write(host.dir().join("init"), init).expect("there is room");
        self.names.lock().unwrap_or_else(PoisonError::into_inner).push(name.to_owned());
        let (netns, link) = (host.netns(), host.link());
        // What an earlier lab left when it was killed. Its link goes first, and by its name: the kernel takes the links of
        // a network away only some time after it was deleted.
        let _ = run(&["ip", "link", "del", &link]);
        let _ = run(&["ip", "netns", "del", &netns]);
        must(&["ip", "netns", "add", &netns]);
        until(&format!("{link} is a link of this lab"), LINK_WITHIN, || {
            let made = run(&["ip", "link", "add", &link, "type", "veth", "peer", "name", "eth0", "netns", &netns]).expect("ip is there");
            let why = String::from_utf8_lossy(&made.stderr);
            assert!(made.status.success() || why.contains("File exists"), "{link}: {why}");
            made.status.success().then_some(())
        });
        must(&["ip", "link", "set", &link, "master", &self.bridge(), "up"]);
        must(&["ip", "-n", &netns, "addr", "replace", &format!("{}/24", host.address()), "dev", "eth0"]);
        must(&["ip", "-n", &netns, "link", "set", "lo", "up"]);
        must(&["ip", "-n", &netns, "link", "set", "eth0", "up"]);
        host.on();
        let keys = fs::read_to_string(host.dir().join("up/etc/ssh/ssh_host_ed25519_key.pub")).expect("its SSH server has keys");
        let mut known = fs::read_to_string(self.file("known_hosts")).unwrap_or_default();
        known.push_str(&format!("{} {keys}", host.address()));
        fs::write(self.file("known_hosts"), known).expect("there is room");
        host
    }
}

impl Drop for Lab {
    fn drop(&mut self) {
        let _ = run(&["ip", "link", "del", &self.bridge()]);
    }
}

/// Waits until something is so.
///
/// # Panics
///
/// When it is not so in time.
pub fn until<T>(what: &str, within: Duration, mut is_so: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(so) = is_so() {
            return so;
        }
        assert!(began.elapsed() < within, "waited in vain until {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

impl Machine {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether it has power and something runs on it.
    pub fn is_on(&self) -> bool {
        let mut outer = self.outer.lock().unwrap_or_else(PoisonError::into_inner);
        outer.as_mut().is_some_and(|o| o.try_wait().is_ok_and(|s| s.is_none()))
    }

    /// Gives it power, unless it has; returns at once.
    pub fn power_on(&self) {
        let mut outer = self.outer.lock().unwrap_or_else(PoisonError::into_inner);
        if outer.as_mut().is_some_and(|o| o.try_wait().is_ok_and(|s| s.is_none())) {
            return;
        }
        self.card_is(true);
        let console = File::create(self.dir.join("console")).expect("there is room");
        let child = Command::new("sh")
            .args(["-c", INTO_GROUPS, "group", &self.netns, "nsenter"])
            .arg(format!("--net=/run/netns/{}", self.netns))
            .args(["unshare", "--pid", "--fork", "--mount", "--uts", "--ipc", "--cgroup", "--kill-child", "bash"])
            .arg(self.dir.join("init"))
            .stdin(Stdio::null())
            .stdout(console.try_clone().expect("a file can be shared"))
            .stderr(console)
            .spawn()
            .expect("nsenter is there");
        *outer = Some(child);
    }

    /// Its first process, where it is on.
    pub fn pid1(&self) -> Option<i32> {
        let outer = self.outer.lock().unwrap_or_else(PoisonError::into_inner).as_ref()?.id();
        child_of(outer)
    }

    /// Pulls the plug.
    pub fn cut_power(&self) {
        if let Some(pid1) = self.pid1() {
            unsafe { libc::kill(pid1, libc::SIGKILL) };
        }
        if let Some(mut outer) = self.outer.lock().unwrap_or_else(PoisonError::into_inner).take() {
            let _ = outer.wait();
        }
        self.card_is(false);
    }

    /// A network card without power answers nobody.
    fn card_is(&self, on: bool) {
        let _ = run(&["ip", "-n", &self.netns, "link", "set", "eth0", if on { "up" } else { "down" }]);
    }

    /// Presses its power button for a moment: its manager shuts it down.
    pub fn ask_to_shut_down(&self) {
        if let Some(pid1) = self.pid1() {
            // What systemd(1) takes for a power-off, as a button's event would have it.
            unsafe { libc::kill(pid1, libc::SIGRTMIN() + 4) };
        }
    }

    /// How its first process ended, once it has: `true` where it asked for a reboot, `false` where it turned itself off.
    /// The kernel tells the two apart by the signal that ends a namespace's first process.
    pub fn ended(&self) -> Option<bool> {
        let mut outer = self.outer.lock().unwrap_or_else(PoisonError::into_inner);
        let status = outer.as_mut()?.try_wait().ok()??;
        *outer = None;
        self.card_is(false);
        use std::os::unix::process::ExitStatusExt;
        // `unshare` ends as what it waited for did, or says so by its exit code.
        Some(status.signal() == Some(libc::SIGHUP) || status.code() == Some(128 + libc::SIGHUP))
    }
}

impl std::ops::Deref for Host<'_> {
    type Target = Machine;
    fn deref(&self) -> &Machine {
        &self.machine
    }
}

impl Host<'_> {
    /// What of it a power controller has in hand.
    pub fn machine(&self) -> Arc<Machine> {
        Arc::clone(&self.machine)
    }

    fn dir(&self) -> PathBuf {
        self.machine.dir.clone()
    }

    fn netns(&self) -> String {
        self.machine.netns.clone()
    }

    /// This machine's end of its link.
    pub fn link(&self) -> String {
        format!("yl{}v{}", self.lab.number, self.number)
    }

    /// Its network address.
    pub fn address(&self) -> String {
        self.lab.address(self.number)
    }

    /// Turns it on, unless it is; returns once its manager is through with booting and its SSH server answers.
    pub fn on(&self) {
        self.power_on();
        until(&format!("{} is up: {}", self.name, self.dir().join("console").display()), UP_WITHIN, || {
            let state = self.run(&["systemctl", "is-system-running"]);
            let state = String::from_utf8_lossy(&state.stdout).into_owned();
            ["running", "degraded"].contains(&state.trim()).then_some(())
        });
        until(&format!("{} answers on SSH", self.name), UP_WITHIN, || {
            let to = format!("{}:22", self.address()).parse().expect("an address");
            std::net::TcpStream::connect_timeout(&to, Duration::from_secs(1)).ok()
        });
    }

    /// Cuts it off from the network, or lets it back.
    pub fn link_is(&self, up: bool) {
        must(&["ip", "link", "set", &self.link(), if up { "up" } else { "down" }]);
    }

    /// A command to be run on it, past the network.
    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new("nsenter");
        // Without a first process it cannot be entered, and `nsenter` says so.
        command.args(["-t", &self.pid1().unwrap_or(0).to_string(), "-a"]).args(words).stdin(Stdio::null());
        command
    }

    /// Runs something on it, past the network.
    pub fn run(&self, words: &[&str]) -> Output {
        self.command(words).output().expect("nsenter is there")
    }

    /// Runs something that must succeed, and gives what it printed.
    pub fn ok(&self, words: &[&str]) -> String {
        let out = self.run(words);
        assert!(
            out.status.success(),
            "{}: {}: {}{}",
            self.name,
            words.join(" "),
            String::from_utf8_lossy(&out.stdout),
            String::from_utf8_lossy(&out.stderr)
        );
        String::from_utf8_lossy(&out.stdout).into_owned()
    }
}

impl Drop for Host<'_> {
    fn drop(&mut self) {
        self.cut_power();
        let _ = run(&["sh", "-c", OUT_OF_GROUPS, "group", &self.netns()]);
        let _ = run(&["ip", "link", "del", &self.link()]);
        let _ = run(&["ip", "netns", "del", &self.netns()]);
    }
}

fn child_of(pid: u32) -> Option<i32> {
    let text = fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).ok()?;
    text.split_whitespace().filter_map(|p| p.parse::<i32>().ok()).find(|child| {
        // The shell of the init script becomes the manager: only then is it the host's first process.
        fs::read_to_string(format!("/proc/{child}/comm")).is_ok_and(|c| c.trim() == "systemd")
    })
}
