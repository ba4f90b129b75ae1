//! The outpost at the end of a channel: a line each way, as a server has it.

use std::{
    io::{BufRead, BufReader, Write},
    process::{Child, ChildStdin, ChildStdout, Command, Stdio},
    time::Instant,
};

use rstest::rstest;
use serde_json::{Value, json};

struct Outpost {
    child: Child,
    to: Option<ChildStdin>,
    from: BufReader<ChildStdout>,
}

impl Outpost {
    /// Begun, and ready to be spoken to. It gives up a silent server after so many milliseconds.
    fn begun(silence_ms: &str) -> Self {
        Self::begun_with(&[("YANTRO_OUTPOST_SILENCE", silence_ms)])
    }

    fn begun_with(env: &[(&str, &str)]) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_yantro-outpost"))
            .envs(env.iter().copied())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (to, from) = (child.stdin.take(), BufReader::new(child.stdout.take().unwrap()));
        let mut outpost = Self { child, to, from };
        assert_eq!(outpost.says()["method"], "ready");
        outpost
    }

    fn told(&mut self, line: &str) {
        writeln!(self.to.as_mut().unwrap(), "{line}").unwrap();
    }

    fn says(&mut self) -> Value {
        let mut line = String::new();
        self.from.read_line(&mut line).unwrap();
        serde_json::from_str(&line).unwrap_or_else(|e| panic!("{e}: {line}"))
    }
}

impl Drop for Outpost {
    fn drop(&mut self) {
        // One that ended by itself is only waited for.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

const ALIVE: &str = r#"{"jsonrpc":"2.0","id":7,"method":"alive","params":{}}"#;

#[test]
fn it_says_its_version_and_what_it_does_not_know() {
    let of = |argument: &str| Command::new(env!("CARGO_BIN_EXE_yantro-outpost")).arg(argument).output().unwrap();
    let version = of("--protocol");
    assert!(version.status.success() && String::from_utf8_lossy(&version.stdout).trim().parse::<u32>().is_ok());
    let unknown = of("--dance");
    assert_eq!(unknown.status.code(), Some(64));
    assert!(String::from_utf8_lossy(&unknown.stderr).contains("knows no \"--dance\""));
}

/// Whatever comes in is answered, and the next is, too.
#[rstest]
#[case::no_json("what?", 0, "no JSON")]
#[case::without_an_id(r#"{"jsonrpc":"2.0","method":"survey","params":{}}"#, 0, "a request has an id")]
#[case::of_no_kind_it_knows(r#"{"jsonrpc":"2.0","id":3,"method":"dance","params":{}}"#, 3, "not understood")]
#[case::with_something_else_in_it(r#"{"jsonrpc":"2.0","id":4,"method":"recorded","params":{"identity":5}}"#, 4, "not understood")]
#[case::before_the_hello(r#"{"jsonrpc":"2.0","id":5,"method":"survey","params":{}}"#, 5, "say hello first")]
#[case::of_a_server_without_a_name(
    r#"{"jsonrpc":"2.0","id":6,"method":"hello","params":{"server":"../x","sudo":false}}"#,
    6,
    "letters and digits"
)]
fn what_cannot_be_done_is_answered(#[case] line: &str, #[case] id: u64, #[case] says: &str) {
    let mut outpost = Outpost::begun("60000");
    outpost.told(line);
    let answer = outpost.says();
    assert_eq!(answer["id"], id);
    assert!(answer["error"]["message"].as_str().unwrap().contains(says), "{answer}");
    outpost.told(ALIVE);
    assert_eq!(outpost.says()["id"], 7);
}

#[test]
fn it_says_that_it_is_alive_by_its_own_clock() {
    let mut outpost = Outpost::begun("60000");
    outpost.told(ALIVE);
    let answer = outpost.says();
    assert_eq!(answer["jsonrpc"], "2.0");
    assert!(answer["result"].as_str().unwrap().starts_with("20"), "{answer}");
    // What is left that was never asked is no matter.
    outpost.told(&json!({ "jsonrpc": "2.0", "method": "leave", "params": { "of": 99 } }).to_string());
    outpost.told(ALIVE);
    assert_eq!(outpost.says()["id"], 7);
}

/// A host need not have certificates of anybody: only pages that ask for them would.
#[test]
fn it_serves_on_a_host_without_certificates() {
    let home = tempfile::tempdir().unwrap();
    let at = home.path().to_str().unwrap();
    let nowhere = [("SSL_CERT_FILE", "/nowhere/all.pem"), ("SSL_CERT_DIR", "/nowhere"), ("XDG_STATE_HOME", at), ("HOME", at)];
    let mut outpost = Outpost::begun_with(&nowhere);
    let server = format!("certless{}", std::process::id());
    outpost.told(&json!({ "jsonrpc": "2.0", "id": 1, "method": "hello", "params": { "server": server, "sudo": false } }).to_string());
    let answer = outpost.says();
    let data = std::path::PathBuf::from(answer["result"]["data"].as_str().unwrap_or_else(|| panic!("{answer}")));
    assert!(data.ends_with(&server));
    // Root's is none of the test's own folders.
    std::fs::remove_dir_all(&data).unwrap();
}

#[test]
fn it_ends_with_its_channel() {
    let mut outpost = Outpost::begun("60000");
    outpost.to = None;
    assert!(outpost.child.wait().unwrap().success());
}

/// A link that was cut leaves a channel that nobody closes.
#[test]
fn it_ends_once_nothing_is_heard_any_longer() {
    let mut outpost = Outpost::begun("400");
    let began = Instant::now();
    // As long as somebody speaks it stays.
    while began.elapsed().as_millis() < 1_000 {
        outpost.told(ALIVE);
        assert_eq!(outpost.says()["id"], 7);
    }
    let ended = outpost.child.wait().unwrap();
    assert!(ended.success() && began.elapsed().as_millis() >= 1_400, "{ended}");
}
