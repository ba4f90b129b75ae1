//! A small real application service, for the demo and the tests.
//!
//! It takes a while to be ready, listens, refuses to work while what it needs is away, writes a
//! plausible log, stops gracefully, and misbehaves on request. What it is asked to do wrong stands
//! in a file that it reads at its start: `never-ready`, `ready-late 20s`, `forbidden-line`,
//! `crash-after 3s`, `ignore-stop`.

use std::{
    fs::{File, OpenOptions},
    io::{Read, Write},
    net::{SocketAddr, TcpListener, TcpStream},
    path::PathBuf,
    process::exit,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU32, Ordering},
        mpsc,
    },
    thread,
    time::{Duration, Instant, SystemTime},
};

use clap::Parser;
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};

/// A stand-in for an application service.
#[derive(Parser)]
struct Args {
    /// What it is called in its log and on its page.
    #[arg(long, required_unless_present = "ask", default_value = "")]
    name: String,
    /// Where it listens.
    #[arg(long, required_unless_present = "ask", default_value = "127.0.0.1:0")]
    listen: SocketAddr,
    /// Ask a running one something, such as `http://127.0.2.1:5672/drain`, and end.
    #[arg(long)]
    ask: Option<String>,
    /// How many messages wait in it: `/drain` works them off and takes no new ones, `/resume` takes them again.
    #[arg(long, default_value_t = 0)]
    waiting: u32,
    /// What it cannot work without.
    #[arg(long)]
    needs: Vec<SocketAddr>,
    /// How long it takes to be ready.
    #[arg(long, default_value = "500ms", value_parser = humantime::parse_duration)]
    ready_after: Duration,
    /// How long it takes to stop.
    #[arg(long, default_value = "100ms", value_parser = humantime::parse_duration)]
    stop_after: Duration,
    /// Its log; without one, its output.
    #[arg(long)]
    log: Option<PathBuf>,
    /// Where each start and stop is recorded, a line each.
    #[arg(long)]
    record: Option<PathBuf>,
    /// The file that says what to do wrong.
    #[arg(long)]
    trouble: Option<PathBuf>,
    /// What it says once ready.
    #[arg(long, default_value = "ready for connections")]
    ready_line: String,
    /// What it talks about while it works, now and then.
    #[arg(long)]
    chatter: Vec<String>,
    /// How often it does.
    #[arg(long, default_value = "7s", value_parser = humantime::parse_duration)]
    chatter_every: Duration,
}

#[derive(Clone, Default, PartialEq)]
enum Trouble {
    #[default]
    None,
    NeverReady,
    ReadyLate(Duration),
    ForbiddenLine,
    CrashAfter(Duration),
    IgnoreStop,
}

fn trouble(path: Option<&PathBuf>) -> Trouble {
    let text = path.and_then(|p| std::fs::read_to_string(p).ok()).unwrap_or_default();
    let mut words = text.split_whitespace();
    let word = words.next().unwrap_or_default();
    let time = words.next().and_then(|w| humantime::parse_duration(w).ok());
    match word {
        "never-ready" => Trouble::NeverReady,
        "ready-late" => Trouble::ReadyLate(time.unwrap_or(Duration::from_secs(20))),
        "forbidden-line" => Trouble::ForbiddenLine,
        "crash-after" => Trouble::CrashAfter(time.unwrap_or(Duration::from_secs(3))),
        "ignore-stop" => Trouble::IgnoreStop,
        _ => Trouble::None,
    }
}

struct Log(Mutex<Option<File>>);

impl Log {
    fn open(path: Option<&PathBuf>) -> Self {
        let file = path.map(|path| {
            OpenOptions::new().append(true).create(true).open(path).unwrap_or_else(|e| {
                eprintln!("cannot open {}: {e}", path.display());
                exit(2)
            })
        });
        Self(Mutex::new(file))
    }
    fn line(&self, text: &str) {
        let line = format!("{} {text}\n", humantime::format_rfc3339_millis(SystemTime::now()));
        let mut file = self.0.lock().expect("nobody panics with the log in hand");
        // A full disk does not stop a service.
        let _ = match file.as_mut() {
            Some(file) => file.write_all(line.as_bytes()),
            None => std::io::stdout().write_all(line.as_bytes()),
        };
    }
}

fn record(path: Option<&PathBuf>, what: &str) {
    let Some(path) = path else { return };
    let ms = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |d| d.as_millis());
    if let Ok(mut file) = OpenOptions::new().append(true).create(true).open(path) {
        let _ = file.write_all(format!("{what} {} {ms}\n", std::process::id()).as_bytes());
    }
}

#[derive(Default)]
struct State {
    ready: AtomicBool,
    waiting: AtomicU32,
    draining: AtomicBool,
    missing: Mutex<Vec<SocketAddr>>,
}

enum Happening {
    Stop,
    Reload,
    Crash,
}

fn main() {
    let args = Arc::new(Args::parse());
    if let Some(url) = &args.ask {
        exit(ask(url));
    }
    let log = Arc::new(Log::open(args.log.as_ref()));
    let trouble = trouble(args.trouble.as_ref());
    record(args.record.as_ref(), "start");
    log.line(&format!("{} starting, process {}", args.name, std::process::id()));
    let state = Arc::new(State::default());
    state.waiting.store(args.waiting, Ordering::Relaxed);
    let (tell, happenings) = mpsc::channel();
    let mut signals = Signals::new([SIGTERM, SIGINT, SIGHUP]).expect("signals can be watched");
    let teller = tell.clone();
    thread::spawn(move || {
        for signal in &mut signals {
            let _ = teller.send(if signal == SIGHUP { Happening::Reload } else { Happening::Stop });
        }
    });
    {
        let (args, log, state, trouble) = (Arc::clone(&args), Arc::clone(&log), Arc::clone(&state), trouble.clone());
        thread::spawn(move || get_ready(&args, &log, &state, &trouble));
    }
    if let Trouble::CrashAfter(after) = trouble {
        thread::spawn(move || {
            thread::sleep(after);
            let _ = tell.send(Happening::Crash);
        });
    }
    let mut said = 0;
    loop {
        match happenings.recv_timeout(args.chatter_every) {
            Ok(Happening::Stop) if trouble == Trouble::IgnoreStop => log.line("stop asked for, still busy with a transfer"),
            Ok(Happening::Stop) => break,
            Ok(Happening::Reload) => log.line("configuration read again"),
            Ok(Happening::Crash) => {
                log.line("FATAL assertion failed: queue depth went negative");
                record(args.record.as_ref(), "crash");
                exit(70);
            }
            Err(_) => {
                if state.ready.load(Ordering::Relaxed) && !args.chatter.is_empty() {
                    log.line(&args.chatter[said % args.chatter.len()]);
                    said += 1;
                }
            }
        }
    }
    log.line("stopping, letting open work end");
    state.ready.store(false, Ordering::Relaxed);
    thread::sleep(args.stop_after);
    log.line("stopped");
    record(args.record.as_ref(), "stop");
}

fn get_ready(args: &Arc<Args>, log: &Arc<Log>, state: &Arc<State>, trouble: &Trouble) {
    // It listens a while before it is ready, as real ones do.
    thread::sleep(args.ready_after / 3);
    let listener = TcpListener::bind(args.listen).unwrap_or_else(|e| {
        log.line(&format!("FATAL cannot listen on {}: {e}", args.listen));
        exit(71)
    });
    log.line(&format!("listening on {}", args.listen));
    {
        let (args, log, state) = (Arc::clone(args), Arc::clone(log), Arc::clone(state));
        thread::spawn(move || serve(&listener, &args, &log, &state));
    }
    if *trouble == Trouble::ForbiddenLine {
        thread::sleep(args.ready_after / 3);
        log.line("ERROR manifest refused: reader key is older than the newest timetable");
        log.line("giving up");
        record(args.record.as_ref(), "crash");
        exit(1);
    }
    let began = Instant::now();
    let wait = match trouble {
        Trouble::ReadyLate(late) => *late,
        _ => args.ready_after * 2 / 3,
    };
    loop {
        look_for_needs(args, log, state);
        let missing = !state.missing.lock().expect("nobody panics with it in hand").is_empty();
        if !missing && began.elapsed() >= wait && *trouble != Trouble::NeverReady {
            break;
        }
        thread::sleep(Duration::from_millis(20).min(args.ready_after / 4 + Duration::from_millis(1)));
    }
    state.ready.store(true, Ordering::Relaxed);
    record(args.record.as_ref(), "ready");
    log.line(&format!("{} {}", args.name, args.ready_line));
    loop {
        thread::sleep(Duration::from_millis(500));
        look_for_needs(args, log, state);
    }
}

fn look_for_needs(args: &Args, log: &Log, state: &State) {
    let missing: Vec<SocketAddr> =
        args.needs.iter().copied().filter(|n| TcpStream::connect_timeout(n, Duration::from_millis(300)).is_err()).collect();
    let mut known = state.missing.lock().expect("nobody panics with it in hand");
    if *known != missing {
        for need in missing.iter().filter(|m| !known.contains(m)) {
            log.line(&format!("WARN lost {need}, waiting for it"));
        }
        for need in known.iter().filter(|k| !missing.contains(k)) {
            log.line(&format!("connected to {need}"));
        }
        *known = missing;
    }
}

/// Asks a running one for a page; the exit code says whether it answered well.
fn ask(url: &str) -> i32 {
    let rest = url.trim_start_matches("http://");
    let (host, path) = rest.split_once('/').unwrap_or((rest, ""));
    let asked = || -> std::io::Result<String> {
        let mut stream = TcpStream::connect(host)?;
        stream.set_read_timeout(Some(Duration::from_secs(5)))?;
        stream.write_all(format!("POST /{path} HTTP/1.1\r\nhost: {host}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").as_bytes())?;
        let mut text = String::new();
        stream.read_to_string(&mut text)?;
        Ok(text)
    };
    match asked() {
        Ok(text) => {
            println!("{}", text.split("\r\n\r\n").nth(1).unwrap_or_default().trim());
            i32::from(!text.starts_with("HTTP/1.1 200"))
        }
        Err(error) => {
            eprintln!("{url}: {error}");
            2
        }
    }
}

fn serve(listener: &TcpListener, args: &Arc<Args>, log: &Arc<Log>, state: &Arc<State>) {
    for stream in listener.incoming().flatten() {
        let (args, log, state) = (Arc::clone(args), Arc::clone(log), Arc::clone(state));
        thread::spawn(move || answer(stream, &args, &log, &state));
    }
}

/// A request as far as it is needed: its path, and its body.
fn request(stream: &mut TcpStream) -> Option<(String, String)> {
    let mut bytes = Vec::new();
    let mut piece = [0u8; 4096];
    loop {
        let n = stream.read(&mut piece).ok().filter(|n| *n > 0)?;
        bytes.extend_from_slice(&piece[..n]);
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let Some((head, body)) = text.split_once("\r\n\r\n") else { continue };
        let length = head.lines().find_map(|l| l.to_ascii_lowercase().strip_prefix("content-length:")?.trim().parse::<usize>().ok());
        if body.len() >= length.unwrap_or(0) || bytes.len() > 65_536 {
            return Some((head.split(' ').nth(1).unwrap_or("/").to_owned(), body.to_owned()));
        }
    }
}

/// What it is told or asked for, besides its health.
fn heed(path: &str, body: &str, log: &Arc<Log>, state: &Arc<State>) {
    match path {
        "/drain" if !state.draining.swap(true, Ordering::Relaxed) => {
            log.line("draining: no new messages are taken");
            let (log, state) = (Arc::clone(log), Arc::clone(state));
            thread::spawn(move || {
                while state.waiting.load(Ordering::Relaxed) > 0 {
                    thread::sleep(Duration::from_millis(20));
                    state.waiting.fetch_sub(1, Ordering::Relaxed);
                }
                log.line("drained");
            });
        }
        "/resume" => {
            state.draining.store(false, Ordering::Relaxed);
            log.line("taking messages again");
        }
        "/told" => log.line(&format!("told: {body}")),
        _ => {}
    }
}

/// One request, one answer: enough of HTTP for a health page.
fn answer(mut stream: TcpStream, args: &Args, log: &Arc<Log>, state: &Arc<State>) {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(5)));
    let Some((path, body)) = request(&mut stream) else { return };
    heed(&path, &body, log, state);
    let missing = state.missing.lock().expect("nobody panics with it in hand").clone();
    let (status, word) = if !missing.is_empty() {
        let list: Vec<String> = missing.iter().map(ToString::to_string).collect();
        ("503 Service Unavailable", format!("waiting for {}", list.join(", ")))
    } else if state.ready.load(Ordering::Relaxed) {
        ("200 OK", "ready".to_owned())
    } else {
        ("503 Service Unavailable", "still starting".to_owned())
    };
    let waiting = state.waiting.load(Ordering::Relaxed);
    let body = format!("{{\"service\":\"{}\",\"state\":\"{word}\",\"waiting\":{waiting}}}\n", args.name);
    let head =
        format!("HTTP/1.1 {status}\r\ncontent-type: application/json\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", body.len());
    let _ = stream.write_all(format!("{head}{body}").as_bytes());
}
