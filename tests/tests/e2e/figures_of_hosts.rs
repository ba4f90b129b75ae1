//! Figures that take other hosts, real or played: `scripts/figures`. Told, never judged: machines are shared.

use std::{
    collections::BTreeMap,
    fmt::Write as _,
    io::{BufRead, BufReader, Write},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::{Arc, Mutex},
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};

use nix::sys::inotify::{AddWatchFlags, InitFlags, Inotify};

use yantro_e2e::{Server, wait_until};
use yantro_lab::{Host, Lab, Spec};

use crate::far::{self, connected, raise};

fn median(all: &mut [f64]) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

fn resident_mb(server: &Server) -> u64 {
    let text = std::fs::read_to_string(format!("/proc/{}/status", server.pid())).unwrap();
    text.lines().find(|l| l.starts_with("VmRSS")).unwrap().split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

fn instant_ms(text: &str) -> i64 {
    text.parse::<chrono::DateTime<chrono::Utc>>().unwrap().timestamp_millis()
}

/// Seconds since 1970, from a line of the server's log.
fn logged_at(line: &str) -> f64 {
    let at = line.split_whitespace().next().unwrap().parse::<chrono::DateTime<chrono::Utc>>().unwrap();
    at.timestamp_micros() as f64 / 1e6
}

/// So many services on one host, each relying on the one before it.
fn chain(lab: &Lab, pier: &Host, length: usize) -> String {
    let mut more = String::new();
    for i in 0..length {
        let needs = if i == 0 { String::new() } else { format!("\"s{}\"", i - 1) };
        let _ = write!(
            more,
            "[service.s{i}]\nlike = \"ferry\"\nhost = \"pier\"\nvalues = {{ port = {} }}\nrelies_on = [{needs}]\nexpected = \"either\"\nsteady = \"60ms\"\n",
            5100 + i
        );
    }
    far::estate(lab, &[pier], &more).replace("300ms", "60ms")
}

/// A line there and back over an SSH channel that is open already: one after another, or each after a pause, as acts are.
fn bare_lines(lab: &Lab, host: &Host, pause: Duration) -> f64 {
    let mut ssh = Command::new("ssh")
        .args(["-T", "-o", "BatchMode=yes", "-i"])
        .arg(lab.file("key"))
        .arg("-o")
        .arg(format!("UserKnownHostsFile={}", lab.file("known_hosts").display()))
        .arg(format!("root@{}", host.address()))
        .arg("exec cat")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let (mut to, mut from) = (ssh.stdin.take().unwrap(), BufReader::new(ssh.stdout.take().unwrap()));
    let line = format!("{}\n", "x".repeat(300));
    let mut took: Vec<f64> = (0..60)
        .map(|_| {
            std::thread::sleep(pause);
            let (began, mut back) = (Instant::now(), String::new());
            to.write_all(line.as_bytes()).unwrap();
            from.read_line(&mut back).unwrap();
            began.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    drop(to);
    let _ = ssh.wait();
    median(&mut took[20..])
}

/// One durable append, in the same way.
fn bare_appends(server: &Server, pause: Duration) -> f64 {
    let mut file = std::fs::File::options().create(true).append(true).open(server.folder().join("appended")).unwrap();
    let line = vec![b'x'; 300];
    let mut took: Vec<f64> = (0..60)
        .map(|_| {
            std::thread::sleep(pause);
            let began = Instant::now();
            file.write_all(&line).unwrap();
            file.sync_data().unwrap();
            began.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    median(&mut took)
}

/// Notes when each act's folder is made below a host's records, in seconds since 1970, as long as there is anything to see.
fn note_acts(records: &Path, made: &Mutex<BTreeMap<u64, f64>>) {
    let run = || -> Option<PathBuf> {
        let of = |at: &Path| std::fs::read_dir(at).into_iter().flatten().flatten().map(|e| e.path()).collect::<Vec<_>>();
        of(records).iter().flat_map(|server| of(&server.join("acts"))).find(|p| p.is_dir())
    };
    // Its first act makes the run's folder.
    let began = Instant::now();
    let run = loop {
        match run() {
            Some(run) => break run,
            None if began.elapsed() > Duration::from_secs(60) => return,
            None => std::thread::sleep(Duration::from_millis(1)),
        }
    };
    let inotify = Inotify::init(InitFlags::empty()).unwrap();
    inotify.add_watch(&run, AddWatchFlags::IN_CREATE | AddWatchFlags::IN_MOVED_TO | AddWatchFlags::IN_DELETE_SELF).unwrap();
    while let Ok(events) = inotify.read_events() {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs_f64();
        for event in events {
            if event.mask.contains(AddWatchFlags::IN_DELETE_SELF) {
                return;
            }
            let act = event.name.and_then(|n| n.to_str()?.strip_prefix("act-")?.parse().ok());
            if let Some(act) = act {
                made.lock().unwrap().entry(act).or_insert(now);
            }
        }
    }
}

/// Notes when acts arrive at a host, in seconds since 1970: whoever takes one in there first takes its turn at the record
/// of who acts on the host.
fn note_arrivals(hosts: &Path, arrived: &Mutex<Vec<f64>>) {
    let inotify = Inotify::init(InitFlags::empty()).unwrap();
    inotify.add_watch(hosts, AddWatchFlags::IN_OPEN | AddWatchFlags::IN_DELETE_SELF).unwrap();
    while let Ok(events) = inotify.read_events() {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs_f64();
        for event in events {
            if event.mask.contains(AddWatchFlags::IN_DELETE_SELF) {
                return;
            }
            if event.name.is_some_and(|n| n.to_string_lossy().ends_with(".lock")) {
                arrived.lock().unwrap().push(now);
            }
        }
    }
}

#[test]
#[ignore = "measures: scripts/figures"]
fn from_proven_to_given_on_another_host() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    // Safety: the figures are measured one after the other.
    unsafe { std::env::set_var("YANTRO_LOG", "warn,yantro_engine::work=trace") };
    let server = Server::with_estate(&chain(&lab, &pier, 40));
    unsafe { std::env::remove_var("YANTRO_LOG") };
    connected(&server, "pier");
    let folders: Arc<Mutex<BTreeMap<u64, f64>>> = Arc::default();
    let made = Arc::clone(&folders);
    let acts = lab.file("pier").join("up/var/lib/yantro");
    let arrivals: Arc<Mutex<Vec<f64>>> = Arc::default();
    let (hosts, arrived) = (acts.join("hosts"), Arc::clone(&arrivals));
    std::thread::spawn(move || note_acts(&acts, &made));
    std::thread::spawn(move || note_arrivals(&hosts, &arrived));
    let run = server.begin(&["start", "s39"]);
    let view = server.run_is(run, &["finished", "held"]);
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    // When each was proven, from the server's log; when the next act's folder was made there, by who looks on.
    let log = server.read("server.log");
    let ended: BTreeMap<u64, f64> = log
        .lines()
        .filter(|l| l.contains("step ended"))
        .filter_map(|l| Some((l.split("step=").nth(1)?.split_whitespace().next()?.parse().ok()?, logged_at(l))))
        .collect();
    let begun_at = |act: u64| folders.lock().unwrap().get(&act).copied();
    let steps = view["steps"].as_array().unwrap();
    // One after another, the acts arrive in the order of their numbers.
    let mut acts: Vec<u64> = steps.iter().filter_map(|s| s["now"]["acts"][0]["act"].as_u64()).collect();
    acts.sort_unstable();
    let arrivals = arrivals.lock().unwrap().clone();
    assert_eq!(arrivals.len(), acts.len(), "each act takes its turn once");
    let given_at: BTreeMap<u64, f64> = acts.into_iter().zip(arrivals).collect();
    let (mut took, mut began) = (Vec::new(), Vec::new());
    for pair in steps.windows(2) {
        let act = pair[1]["now"]["acts"][0]["act"].as_u64();
        let before = pair[0]["planned"]["id"].as_u64().and_then(|id| ended.get(&id));
        if let (Some(act), Some(before)) = (act, before) {
            took.push((given_at[&act] - before) * 1e3);
            began.extend(begun_at(act).map(|at| (at - before) * 1e3));
        }
    }
    assert!(took.len() > 30, "{} of {}; {} acts made, {} steps ended", took.len(), steps.len(), folders.lock().unwrap().len(), ended.len());
    let at_once = (bare_lines(&lab, &pier, Duration::ZERO), bare_appends(&server, Duration::ZERO));
    // What has rested is slower, and so is what it is held against.
    let pause = Duration::from_millis(60);
    let (line, append) = (bare_lines(&lab, &pier, pause), bare_appends(&server, pause));
    let (given, begun) = (median(&mut took), median(&mut began));
    println!(
        "| from proven to the next act's being given to another host | {given:.2} ms | a bare line there and back {line:.2} ms, a durable append {append:.2} ms, each after a pause as here, ratio {:.2}; one after another {:.2} and {:.2} ms, ratio {:.2} | 2 |",
        given / (line + append),
        at_once.0,
        at_once.1,
        given / (at_once.0 + at_once.1)
    );
    println!("| the same, to its recorder's folder there | {begun:.2} ms | the same, ratio {:.2} | – |", begun / (line + append));
    // How soon what was ready was noticed: by the service's own record, and by the last rung before it has to stay so.
    let mut late: Vec<f64> = Vec::new();
    for step in steps {
        let name = step["planned"]["address"].as_str().unwrap().split('/').nth(1).unwrap();
        let record = pier.ok(&["cat", &format!("/var/log/ferry/{name}.record")]);
        let ready = record.lines().find(|l| l.starts_with("ready")).and_then(|l| l.split(' ').nth(2)?.parse::<i64>().ok());
        let rungs = step["now"]["acts"][0]["rungs"].as_array().unwrap();
        let seen = rungs.iter().map(|r| instant_ms(r["at"].as_str().unwrap())).max();
        late.extend(ready.zip(seen).map(|(r, s)| (s - r) as f64));
    }
    let (middle, most) = (median(&mut late), late[late.len() - 1]);
    println!("| ready on another host, to its rung | {middle:.0} ms | the worst of {}: {most:.0} ms | 25 ms |", late.len());
}

/// Forty systems under one kernel watch more than it lets one account watch by default.
struct MoreWatches(String);

const WATCHES: &str = "/proc/sys/fs/inotify/max_user_instances";

impl MoreWatches {
    fn let_be() -> Self {
        let before = std::fs::read_to_string(WATCHES).unwrap();
        let _ = std::fs::write(WATCHES, "2048");
        Self(before)
    }
}

impl Drop for MoreWatches {
    fn drop(&mut self) {
        let _ = std::fs::write(WATCHES, &self.0);
    }
}

#[test]
#[ignore = "measures: scripts/figures"]
fn forty_hosts_connected_and_seen() {
    let Some(lab) = Lab::raise() else { return };
    let _more = MoreWatches::let_be();
    let names: Vec<String> = (0..40).map(|i| format!("quay{i:02}")).collect();
    let hosts: Vec<Host> = names.iter().enumerate().map(|(i, n)| lab.host(n, 11 + i as u8, &Spec::default())).collect();
    let mut text = "[estate]\nname = \"Forty quays\"\nstands_for = \"test\"\n".to_owned();
    for host in &hosts {
        let _ = write!(
            text,
            "[host.{n}]\nreach = \"ssh\"\naddress = \"{}\"\nssh = {{ account = \"root\", key = \"{}\", known_hosts = \"{}\" }}\n\
             [service.journal-{n}]\nhost = \"{n}\"\nrun_by = \"systemd\"\nunit = \"systemd-journald\"\nexpected = \"either\"\n",
            host.address(),
            lab.file("key").display(),
            lab.file("known_hosts").display(),
            n = host.name()
        );
    }
    let mut server = Server::with_estate(&text);
    let all_seen = |server: &Server| {
        let board = server.get("/board");
        let linked = board["hosts"].as_array()?.iter().filter(|h| h["link"]["up"] == true).count();
        let seen = board["services"].as_array()?.iter().filter(|r| r["seen"]["state"] == "proven").count();
        (linked == 40 && seen == 40).then_some(())
    };
    wait_until("all is seen", || all_seen(&server));
    server.kill();
    // Again with the outpost there already, as from the second time on.
    let began = Instant::now();
    server.start(&[]);
    wait_until("all is seen again", || all_seen(&server));
    println!("| 40 hosts, from the server's start to all connected and seen | {:.1} s | – | 10 s |", began.elapsed().as_secs_f64());
}

#[test]
#[ignore = "measures: scripts/figures"]
fn a_log_of_a_gigabyte_verified_over_there() {
    let Some(lab) = Lab::raise() else { return };
    let pier = raise(&lab, "pier", 11);
    // What it writes between its start and its being ready is a gigabyte of its log.
    let talks = "#!/bin/sh\nyes 'INFO 2026-11-25T02:40:00Z passenger boarded lane 3 ticket 000000000000 sailing 0240 quay 1' | head -c 1000000000 > /var/log/ferry/loud.log\n\
                 echo 'ready for connections' >> /var/log/ferry/loud.log\nexec sleep 600\n";
    pier.ok(&["sh", "-c", &format!("cat > /opt/ferry/loud <<'END'\n{talks}END\nchmod 755 /opt/ferry/loud; : > /var/log/ferry/loud.log")]);
    let more = "[service.loud]\nhost = \"pier\"\nrun_by = \"process\"\nprocess = { program = \"/opt/ferry/loud\" }\nlogs = [\"/var/log/ferry/loud.log\"]\n\
                start = { must_see = [\"ready for connections\"], must_not_see = [\"ERROR\", \"FATAL\"], patience = \"5m\" }\nstop = { patience = \"30s\" }\n";
    let server = Server::with_estate(&far::estate(&lab, &[&pier], more));
    connected(&server, "pier");
    let bytes = || -> u64 {
        let of = |what: &str| std::fs::read_to_string(format!("/sys/class/net/{}/statistics/{what}", pier.link())).unwrap();
        of("rx_bytes").trim().parse::<u64>().unwrap() + of("tx_bytes").trim().parse::<u64>().unwrap()
    };
    let (before, began) = (bytes(), Instant::now());
    let run = server.begin(&["start", "loud"]);
    wait_until("it is proven", || {
        let state = server.get(&format!("/runs/{run}"))["state"].clone();
        assert_ne!(state, "held", "{}", server.get(&format!("/runs/{run}"))["held_because"]);
        (state == "finished").then_some(())
    });
    let size = pier.ok(&["stat", "-c", "%s", "/var/log/ferry/loud.log"]).trim().parse::<u64>().unwrap();
    println!(
        "| a log of {:.2} GB verified on its host, over the wire both ways | {} kB | in {:.1} s, its being written included | 1 MB |",
        size as f64 / 1e9,
        (bytes() - before) / 1000,
        began.elapsed().as_secs_f64()
    );
}

/// From an input to the frame that shows it.
const PAINTED: &str = r#"
    const [what, done] = [arguments[0], arguments[arguments.length - 1]];
    const told = performance.now();
    if (what === 'find') { const f = document.querySelector('main input[type=search]'); f.value = f.value ? '' : 'gate-1' + Math.floor(told % 10); f.dispatchEvent(new Event('input', { bubbles: true })); }
    if (what === 'scroll') document.querySelector('main').scrollTop += 4000;
    if (what === 'table') [...document.querySelectorAll('main button')].find((b) => ['Table', 'Score'].includes(b.textContent.trim()) && b.getAttribute('aria-pressed') === 'false').click();
    requestAnimationFrame(() => { const c = new MessageChannel(); c.port1.onmessage = () => done(performance.now() - told); c.port2.postMessage(0); });
"#;

#[tokio::test(flavor = "multi_thread")]
#[ignore = "measures: scripts/figures"]
async fn the_whole_coast_played() {
    let text = crate::simulated::large(2000);
    let server = tokio::task::block_in_place(|| Server::with_estate(&text));
    let mut known: BTreeMap<String, String> = BTreeMap::new();
    let mut version = 0;
    // The oldest row, and how far the server's memory went.
    let (mut oldest, mut memory) = (0i64, 0u64);
    let mut look = |server: &Server| {
        let board = server.get(&format!("/board?since={version}"));
        for row in board["services"].as_array().into_iter().flatten() {
            known.insert(row["address"].as_str().unwrap().to_owned(), row["seen"]["state"].as_str().unwrap().to_owned());
        }
        version = board["version"].as_u64().unwrap_or(0);
        let age = instant_ms(board["as_of"].as_str().unwrap()) - instant_ms(board["looked_at"].as_str().unwrap());
        oldest = oldest.max(if known.values().any(|s| s == "unknown") { 0 } else { age });
        memory = memory.max(resident_mb(server));
        (known.len(), known.values().filter(|s| *s == "proven").count(), oldest, memory)
    };
    let began = Instant::now();
    tokio::task::block_in_place(|| wait_until("all is seen", || (look(&server).1 == 10_000).then_some(())));
    println!(
        "| 10,000 services on 2,000 simulated hosts, all seen | {:.1} s after loading | {} MB resident | 300 MB |",
        began.elapsed().as_secs_f64(),
        resident_mb(&server)
    );
    let browser = crate::browser::Browser::open(1280, 800).await;
    let measure = async |what: &str| -> String {
        let Some(browser) = &browser else { return "no browser here".to_owned() };
        let mut all = Vec::new();
        for _ in 0..15 {
            let took: f64 = browser.driver.execute_async(PAINTED, vec![serde_json::json!(what)]).await.unwrap().convert().unwrap();
            all.push(took);
        }
        let middle = median(&mut all);
        format!("{middle:.0} ms, most {:.0} ms", all[all.len() - 1])
    };
    let go = async |path: &str, text: &str| {
        let Some(browser) = &browser else { return };
        browser.driver.goto(format!("{}{path}", server.base())).await.unwrap();
        browser.see(text).await;
    };
    if let Some(browser) = &browser {
        browser.sign_in(&server).await;
    }
    for (path, text, what) in [("/", "quay-0000", "find"), ("/", "quay-0000", "scroll"), ("/hosts", "quay-0000", "find")] {
        go(path, text).await;
        println!("| console with 10,000 services at rest, {path} {what}: input to paint | {} | – | 100 ms |", measure(what).await);
    }
    let began = Instant::now();
    let run = tokio::task::block_in_place(|| server.begin(&["restart", "*"]));
    println!("| a restart of all 10,000: planned and begun | {:.1} s | – | – |", began.elapsed().as_secs_f64());
    go("/", "quay-0000").await;
    println!("| the same while it runs, / find: input to paint | {} | – | 100 ms |", measure("find").await);
    go(&format!("/runs/{run}"), "of 20000 steps").await;
    println!("| the same while it runs, its score and table: input to paint | {} | – | 100 ms |", measure("table").await);
    let ended = tokio::task::block_in_place(|| {
        let began = Instant::now();
        loop {
            let (_, _, oldest, memory) = look(&server);
            let state = server.get("/runs?limit=1")["runs"][0].clone();
            if state["state"].is_string() && state["state"] != "running" {
                break (state, oldest, memory);
            }
            assert!(began.elapsed() < Duration::from_secs(900), "{state}");
            std::thread::sleep(Duration::from_millis(500));
        }
    });
    let (state, oldest, memory) = ended;
    let held = tokio::task::block_in_place(|| server.get(&format!("/runs/{run}?since=1"))["held_because"].to_string());
    assert_eq!(state["state"], "finished", "{}", &held[..held.len().min(2000)]);
    println!(
        "| a restart of all 10,000, {} | {:.0} s | oldest state seen {:.1} s, memory at most {memory} MB | 30 s, 300 MB |",
        state["state"].as_str().unwrap_or_default(),
        began.elapsed().as_secs_f64(),
        oldest as f64 / 1e3
    );
    if let Some(browser) = browser {
        browser.close().await;
    }
    tokio::task::block_in_place(|| drop(server));
}
