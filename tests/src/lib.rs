//! What the end-to-end tests stand on: the built program in a folder of its own, on loopback
//! addresses of its own, ended with everything it started when the test ends.

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    sync::atomic::{AtomicU32, Ordering},
    time::{Duration, Instant},
};

use serde_json::Value;

mod limit;

/// How long a condition is waited for before a test fails: generous, since machines are shared.
pub const PATIENCE: Duration = Duration::from_secs(100);

/// A program built beside this test.
pub fn program(name: &str) -> PathBuf {
    let own = std::env::current_exe().expect("a test has a path");
    let path = own.parent().and_then(Path::parent).expect("target/debug/deps/test").join(name);
    assert!(path.exists(), "{} is not built: run scripts/test, or cargo build first", path.display());
    path
}

/// Loopback addresses that no other test has: the first three numbers.
pub fn own_net() -> String {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let n = std::process::id().wrapping_mul(7).wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed));
    format!("127.{}.{}", 50 + n / 250 % 150, 1 + n % 250)
}

/// Waits for a condition, and fails with what it was waiting for.
pub fn wait_until<T>(what: &str, mut condition: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(value) = condition() {
            return value;
        }
        assert!(began.elapsed() < PATIENCE, "waited {PATIENCE:?} for this: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A server in a folder of its own.
pub struct Server {
    child: Option<Child>,
    dir: tempfile::TempDir,
    /// The first three numbers of its hosts' addresses.
    pub net: String,
    http: reqwest::blocking::Client,
    is_demo: bool,
    _limited: limit::Limited,
}

impl Server {
    /// A server with nothing loaded.
    pub fn bare() -> Self {
        let mut server = Self::prepared(false);
        server.start(&[]);
        server
    }

    /// A server with an estate; `NET` in it stands for the test's own addresses.
    pub fn with_estate(text: &str) -> Self {
        let server = Self::bare();
        server.put("estate.toml", &text.replace("NET", &server.net));
        let loaded = server.cli(&["load", &server.path("estate.toml")]);
        assert!(loaded.status.success(), "{}", told(&loaded));
        server
    }

    /// The demo, brought up.
    pub fn demo() -> Self {
        let mut server = Self::prepared(true);
        let folder = server.path("demo");
        let net = server.net.clone();
        let mut command = server.command();
        command.args(["demo", "--listen", "127.0.0.1:0", "--folder", &folder, "--net", &net]);
        server.child = Some(command.stderr(Stdio::null()).spawn().expect("the program can be run"));
        server.await_answer();
        wait_until("the demo is up", || {
            let run = server.get("/runs/1");
            assert_ne!(run["state"], "held", "the demo does not come up: {}", run["held_because"]);
            (run["state"] == "finished").then_some(())
        });
        server
    }

    fn prepared(is_demo: bool) -> Self {
        let dir = tempfile::Builder::new().prefix("yantro-e2e-").tempdir().expect("a folder can be made");
        fs::create_dir_all(dir.path().join("logs")).expect("a folder can be made");
        fs::create_dir_all(dir.path().join("trouble")).expect("a folder can be made");
        let link = dir.path().join("stand-in");
        std::os::unix::fs::symlink(program("yantro-stand-in"), link).expect("a link can be made");
        // One may be installed already: either will do.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let http = reqwest::blocking::Client::builder().no_proxy().tls_certs_only([]).build().expect("a client can be made");
        let _limited = limit::Limited::here(dir.path().to_owned());
        Self { child: None, dir, net: own_net(), http, is_demo, _limited }
    }

    /// The folder of the test.
    pub fn folder(&self) -> &Path {
        self.dir.path()
    }

    /// A path in the test's folder.
    pub fn path(&self, name: &str) -> String {
        self.dir.path().join(name).display().to_string()
    }

    /// Writes a file into the test's folder.
    pub fn put(&self, name: &str, text: &str) {
        fs::write(self.dir.path().join(name), text).expect("the folder can be written");
    }

    /// Reads a file of the test's folder; empty where there is none.
    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.dir.path().join(name)).unwrap_or_default()
    }

    /// The server's data folder.
    pub fn data(&self) -> PathBuf {
        if self.is_demo { self.dir.path().join("demo/data") } else { self.dir.path().join("data") }
    }

    /// Asks a service of the test, or of the demo, to misbehave from its next start on.
    pub fn trouble(&self, service: &str, what: Option<&str>) {
        let folder = if self.is_demo { self.dir.path().join("demo/trouble") } else { self.dir.path().join("trouble") };
        let path = folder.join(service);
        match what {
            Some(what) => fs::write(path, what).expect("the folder can be written"),
            None => drop(fs::remove_file(path)),
        }
    }

    fn command(&self) -> Command {
        let mut command = Command::new(program("yantro"));
        command.env("YANTRO_HOST_RECORDS", self.dir.path().join("hosts"));
        command.env("YANTRO_DATA", self.data()).env("YANTRO_WHO", "maren").env_remove("NO_COLOR").stdin(Stdio::null());
        command
    }

    /// Starts the server, and waits until it answers.
    pub fn start(&mut self, more: &[&str]) {
        self.start_with(more, &[]);
    }

    /// Starts the server with at most so many descriptors, unless it takes more, and waits until it answers.
    pub fn start_with_descriptors(&mut self, soft: u64) {
        use std::os::unix::process::CommandExt as _;
        self.start_as(&[], |command| {
            // Sound: only system calls, on memory that is its own.
            unsafe {
                command.pre_exec(move || {
                    let mut limit = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
                    libc::getrlimit(libc::RLIMIT_NOFILE, &raw mut limit);
                    limit.rlim_cur = soft;
                    if libc::setrlimit(libc::RLIMIT_NOFILE, &raw const limit) == 0 { Ok(()) } else { Err(std::io::Error::last_os_error()) }
                });
            }
        });
    }

    /// Starts the server in an environment with these besides, and waits until it answers.
    pub fn start_with(&mut self, more: &[&str], env: &[(&str, &str)]) {
        self.start_as(more, |command| _ = command.envs(env.iter().copied()));
    }

    fn start_as(&mut self, more: &[&str], prepare: impl FnOnce(&mut Command)) {
        let _ = fs::remove_file(self.data().join("address"));
        let log =
            fs::OpenOptions::new().append(true).create(true).open(self.dir.path().join("server.log")).expect("the folder can be written");
        let mut command = self.command();
        command.arg("serve").args(more);
        prepare(&mut command);
        if !more.contains(&"--listen") {
            command.args(["--listen", "127.0.0.1:0"]);
        }
        self.child = Some(command.stderr(log).stdout(Stdio::null()).spawn().expect("the program can be run"));
        self.await_answer();
    }

    fn await_answer(&mut self) {
        wait_until("the server answers", || {
            if let Some(status) = self.child.as_mut().and_then(|c| c.try_wait().ok().flatten()) {
                let log = fs::read_to_string(self.dir.path().join("server.log")).unwrap_or_default();
                let from = log.len().saturating_sub(2000);
                panic!("the server ended by itself ({status}): {}", String::from_utf8_lossy(&log.as_bytes()[from..]));
            }
            self.try_get("/board").map(drop)
        });
    }

    /// The server's process id.
    pub fn pid(&self) -> i32 {
        self.child.as_ref().expect("it runs").id() as i32
    }

    /// Ends the server at once, as a power cut would; what it started goes on.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// Runs a command that goes on, its output to be read.
    pub fn spawn(&self, args: &[&str]) -> Child {
        self.command().args(args).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("the program can be run")
    }

    /// Runs a command of the command line.
    pub fn cli(&self, args: &[&str]) -> Output {
        self.command().args(args).output().expect("the program can be run")
    }

    /// Runs a command in an environment with these besides.
    pub fn cli_with(&self, args: &[&str], env: &[(&str, &str)]) -> Output {
        self.command().args(args).envs(env.iter().copied()).output().expect("the program can be run")
    }

    /// Runs a command that must go well, and gives what it printed.
    pub fn ok(&self, args: &[&str]) -> String {
        let output = self.cli(args);
        assert!(output.status.success(), "yantro {}: {}", args.join(" "), told(&output));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Runs a command that must end with this exit code, and gives all it printed.
    pub fn exits(&self, code: i32, args: &[&str]) -> String {
        let output = self.cli(args);
        assert_eq!(output.status.code(), Some(code), "yantro {}: {}", args.join(" "), told(&output));
        told(&output)
    }

    /// The server's address.
    pub fn base(&self) -> String {
        fs::read_to_string(self.data().join("address")).unwrap_or_default().lines().next().unwrap_or_default().to_owned()
    }

    /// The server's token.
    pub fn token(&self) -> String {
        fs::read_to_string(self.data().join("token")).unwrap_or_default().trim().to_owned()
    }

    fn try_get(&self, path: &str) -> Option<Value> {
        let base = self.base();
        if base.is_empty() {
            return None;
        }
        self.http.get(format!("{base}/api/v1{path}")).bearer_auth(self.token()).send().ok()?.json().ok()
    }

    /// Asks the API.
    pub fn get(&self, path: &str) -> Value {
        self.try_get(path).unwrap_or(Value::Null)
    }

    /// Sends something to the API; the status and the answer.
    pub fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let request = self.http.post(format!("{}/api/v1{path}", self.base())).bearer_auth(self.token()).header("x-yantro-who", "maren");
        let answer = request.json(body).send().expect("the server answers");
        (answer.status().as_u16(), answer.json().unwrap_or(Value::Null))
    }

    /// A plain HTTP client, for trying what is refused.
    pub fn http(&self) -> &reqwest::blocking::Client {
        &self.http
    }

    /// The state of one service on the board.
    pub fn state(&self, address: &str) -> String {
        let board = self.get("/board");
        let row = board["services"].as_array().into_iter().flatten().find(|r| r["address"] == address);
        row.map(|r| r["seen"]["state"].as_str().unwrap_or_default().to_owned()).unwrap_or_default()
    }

    /// Waits until a run is in one of these states, and gives its view.
    pub fn run_is(&self, run: u64, states: &[&str]) -> Value {
        let began = Instant::now();
        loop {
            let view = self.get(&format!("/runs/{run}"));
            if states.iter().any(|s| view["state"] == *s) {
                return view;
            }
            if began.elapsed() > PATIENCE {
                let steps = view["steps"].as_array().into_iter().flatten();
                let open: Vec<String> = steps
                    .filter(|s| !["ended", "waiting"].contains(&s["now"]["state"].as_str().unwrap_or_default()))
                    .map(|s| format!("{}: {}", s["says"], s["now"]))
                    .collect();
                panic!("run {run} is not {} but {}: {}\n{}", states.join(" or "), view["state"], view["held_because"], open.join("\n"));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Begins a run without watching it, and gives its number.
    pub fn begin(&self, args: &[&str]) -> u64 {
        let mut all = args.to_vec();
        all.extend(["--yes", "--unwatched", "--json"]);
        let text = self.ok(&all);
        serde_json::from_str::<Value>(&text).expect("JSON was asked for")["id"].as_u64().expect("a run has a number")
    }

    /// The lines that the stand-ins of this test recorded: `start`, `ready`, `stop` or `crash`, and the process.
    pub fn records(&self, name: &str) -> Vec<String> {
        self.read(&format!("{name}.record")).lines().map(|l| l.split(' ').next().unwrap_or_default().to_owned()).collect()
    }

    /// Processes of this test's stand-ins, known by the test's folder in their command lines.
    pub fn stand_ins(&self) -> Vec<i32> {
        let mut all = processes_with(&self.dir.path().display().to_string());
        all.retain(|pid| command_line(*pid).contains("stand-in"));
        all
    }
}

fn command_line(pid: i32) -> String {
    String::from_utf8_lossy(&fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default()).into_owned()
}

/// Processes whose command line has this in it: a path that only the test knows.
pub fn processes_with(mark: &str) -> Vec<i32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    let pids = entries.filter_map(|e| e.file_name().to_str()?.parse::<i32>().ok());
    pids.filter(|pid| command_line(*pid).contains(mark)).collect()
}

/// What a command printed, for messages.
pub fn told(output: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
}

/// A command at a terminal: what is typed into it, and what it shows.
pub struct AtTerminal {
    child: Child,
    keys: fs::File,
    shown: std::sync::mpsc::Receiver<String>,
    all: String,
}

impl AtTerminal {
    /// Waits until it shows this, and gives all that it has shown so far.
    pub fn shows(&mut self, text: &str) -> String {
        wait_until(&format!("the terminal shows \"{text}\""), || {
            self.all.extend(self.shown.try_iter());
            self.all.contains(text).then(|| self.all.clone())
        })
    }

    /// Types a line.
    pub fn types(&mut self, line: &str) {
        use std::io::Write;
        writeln!(self.keys, "{line}").expect("the terminal is open");
    }

    /// Its process.
    pub fn pid(&self) -> i32 {
        self.child.id() as i32
    }

    /// Waits until it ends: its exit code, and all that it showed.
    pub fn ends(mut self) -> (Option<i32>, String) {
        let status = wait_until("the command ends", || self.child.try_wait().ok().flatten());
        while let Ok(text) = self.shown.recv_timeout(Duration::from_millis(300)) {
            self.all += &text;
        }
        (status.code(), std::mem::take(&mut self.all))
    }
}

impl Drop for AtTerminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Server {
    /// Runs a command at a terminal, as a person would.
    pub fn at_terminal(&self, args: &[&str]) -> AtTerminal {
        use std::os::fd::{FromRawFd, OwnedFd};
        let (mut ours, mut theirs) = (0, 0);
        let size = libc::winsize { ws_row: 40, ws_col: 140, ws_xpixel: 0, ws_ypixel: 0 };
        // Sound: both descriptors are made by the call and belong to nobody else.
        let (keys, theirs) = unsafe {
            assert_eq!(libc::openpty(&mut ours, &mut theirs, std::ptr::null_mut(), std::ptr::null(), &size), 0, "a terminal can be made");
            (fs::File::from(OwnedFd::from_raw_fd(ours)), OwnedFd::from_raw_fd(theirs))
        };
        let end = || Stdio::from(theirs.try_clone().expect("a descriptor can be doubled"));
        let mut command = self.command();
        let child = command.args(args).stdin(end()).stdout(end()).stderr(end()).spawn().expect("the program can be run");
        drop((command, theirs));
        let (told, shown) = std::sync::mpsc::channel();
        let mut from = keys.try_clone().expect("a descriptor can be doubled");
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            // Its end is an error once nobody has the other side open.
            while let Ok(n @ 1..) = std::io::Read::read(&mut from, &mut buffer) {
                if told.send(String::from_utf8_lossy(&buffer[..n]).into_owned()).is_err() {
                    return;
                }
            }
        });
        AtTerminal { child, keys, shown, all: String::new() }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            // Asked first: the demo takes its services down.
            unsafe { libc::kill(child.id() as i32, libc::SIGTERM) };
            let began = Instant::now();
            while began.elapsed() < Duration::from_secs(15) && child.try_wait().is_ok_and(|s| s.is_none()) {
                std::thread::sleep(Duration::from_millis(20));
            }
            let _ = child.kill();
            let _ = child.wait();
        }
        for pid in self.stand_ins() {
            unsafe { libc::kill(pid, libc::SIGKILL) };
        }
    }
}
