//! No test goes on for ever: one that outlasts its limit is named, with what its server was doing, and ends all.

use std::{
    fs,
    io::Write,
    path::PathBuf,
    sync::{Mutex, Once},
    thread,
    time::{Duration, Instant},
};

/// How long one test may take; the scripts that go on for long say more in `YANTRO_TEST_MINUTES`.
const LIMIT: Duration = Duration::from_secs(15 * 60);

/// The exit code of the tests when one of them outlasted its limit.
const OUTLASTED: i32 = 124;

/// Tests that go on, each by its number.
static GOING: Mutex<Vec<Going>> = Mutex::new(Vec::new());

struct Going {
    id: u64,
    test: String,
    since: Instant,
    folder: PathBuf,
}

/// Counts one test as going on, until it is dropped.
pub struct Limited(u64);

impl Limited {
    /// Counts the test of this thread, whose server is in this folder.
    pub fn here(folder: PathBuf) -> Self {
        static WATCH: Once = Once::new();
        WATCH.call_once(|| drop(thread::spawn(watch)));
        let test = thread::current().name().unwrap_or("a thread without a name").to_owned();
        let mut going = GOING.lock().unwrap_or_else(|e| e.into_inner());
        let id = going.iter().map(|g| g.id + 1).max().unwrap_or(0);
        going.push(Going { id, test, since: Instant::now(), folder });
        Self(id)
    }
}

impl Drop for Limited {
    fn drop(&mut self) {
        GOING.lock().unwrap_or_else(|e| e.into_inner()).retain(|g| g.id != self.0);
    }
}

fn limit() -> Duration {
    let minutes = std::env::var("YANTRO_TEST_MINUTES").ok().and_then(|m| m.parse().ok());
    minutes.map_or(LIMIT, |m: u64| Duration::from_secs(m * 60))
}

fn watch() {
    let limit = limit();
    loop {
        thread::sleep(Duration::from_secs(5));
        let going = GOING.lock().unwrap_or_else(|e| e.into_inner());
        if !going.iter().any(|g| g.since.elapsed() > limit) {
            continue;
        }
        // Straight to the descriptor: what a test prints is kept back until it ends, and this one does not.
        let mut out = std::io::stderr();
        for test in going.iter().filter(|g| g.since.elapsed() > limit) {
            let _ = writeln!(
                out,
                "\n{} goes on for {:?}, longer than {limit:?}; what it left:\n{}",
                test.test,
                test.since.elapsed(),
                left(test)
            );
        }
        for pid in going.iter().flat_map(|g| crate::processes_with(&g.folder.display().to_string())) {
            unsafe { libc::kill(pid, libc::SIGKILL) };
        }
        std::process::exit(OUTLASTED);
    }
}

/// The end of its server's log, its processes, and how its last run stands.
fn left(test: &Going) -> String {
    let log = fs::read_to_string(test.folder.join("server.log")).unwrap_or_default();
    let mut lines: Vec<&str> = log.lines().rev().take(30).collect();
    lines.reverse();
    let processes = crate::processes_with(&test.folder.display().to_string());
    let processes: Vec<String> =
        processes.into_iter().map(|pid| format!("{pid} {}", crate::command_line(pid).replace('\0', " "))).collect();
    format!("{}\n{}\n{}", lines.join("\n"), processes.join("\n"), runs(test))
}

fn runs(test: &Going) -> String {
    let read = |name: &str| fs::read_to_string(test.folder.join("data").join(name)).unwrap_or_default().trim().to_owned();
    let client = reqwest::blocking::Client::builder()
        .no_proxy()
        .tls_certs_only([])
        .timeout(Duration::from_secs(10))
        .build()
        .expect("a client can be made");
    let ask = client.get(format!("{}/api/v1/runs", read("address").lines().next().unwrap_or_default())).bearer_auth(read("token"));
    match ask.send().and_then(reqwest::blocking::Response::text) {
        Ok(text) => text.chars().take(4000).collect(),
        Err(trouble) => format!("its server does not tell its runs: {trouble}"),
    }
}
