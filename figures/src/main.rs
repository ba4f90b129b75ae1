//! Figures, each beside a reference measured in turn in the same job: medians of several runs, since
//! machines are shared and noisy. Absolute aims are told beside what was measured.

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::{Read, Write},
    os::fd::AsRawFd,
    path::Path,
    process::{Command, Stdio},
    sync::Arc,
    time::{Duration, Instant},
};

use yantro_core::{
    graph::EstateGraph,
    model::{Estate, LogPatterns, Service},
    plan::{
        Request,
        forecast::{Usual, plays::play_all},
        plan,
    },
    proof::{
        Facts, SeenState, Verdict,
        logs::{LogMatcher, LogScan},
    },
    run::{ActKind, Event, RunId, RunSummary, Stamped},
    text::vet,
    words::{
        kinds::{StepKind, Wish},
        name::Address,
        time::Timestamp,
    },
};
use yantro_reach::{ActNews, ActRecord, ActSpec, Climb, Here, ProcessId};
use yantro_store::{Batch, Writer};

/// The middle of several measurements.
fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn timed<T>(f: impl FnOnce() -> T) -> (Duration, T) {
    let began = Instant::now();
    let value = f();
    (began.elapsed(), value)
}

fn tell(what: &str, measured: String, reference: String, aim: &str) {
    println!("| {what} | {measured} | {reference} | {aim} |");
}

fn ms(d: Duration) -> String {
    format!("{:.3} ms", d.as_secs_f64() * 1000.0)
}

fn main() {
    println!("| figure | measured | reference | aim |\n|---|---|---|---|");
    // All of them, or only those named.
    let named: Vec<String> = std::env::args().skip(1).collect();
    let parts: [(&str, fn()); 7] = [
        ("sequences", sequences),
        ("forecasts", forecasts),
        ("logs", logs),
        ("notices", notices),
        ("events", events),
        ("runs", runs),
        ("acts", acts),
    ];
    for (_, part) in parts.iter().filter(|(name, _)| named.is_empty() || named.iter().any(|n| n == name)) {
        part();
    }
}

/// An estate of so many services, each relying on five before it.
fn large(services: usize) -> Estate {
    let small = "[estate]\nname = \"f\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n[service.s]\nhost = \"h\"\nrun_by = \"process\"\n\
                 process = { program = \"/bin/true\" }\nladder = [{ rung = \"port\", port = 1 }]\n";
    let mut estate = vet(small, "/").estate.expect("a sound estate");
    let pattern: Arc<Service> = estate.services.values().next().expect("it has one").clone();
    estate.services.clear();
    // The host's name is shared, as vetting shares it.
    let address = |i: usize| Address { service: format!("s{i:05}").parse().expect("a sound name"), ..pattern.address.clone() };
    for i in 0..services {
        let relies_on = (0..5.min(i))
            .map(|_| yantro_core::model::Relation { any_of: [address(rand::random_range(i.saturating_sub(400)..i))].into(), at_least: 1 })
            .collect();
        estate.services.insert(address(i), Arc::new(Service { address: address(i), relies_on, ..pattern.as_ref().clone() }));
    }
    estate
}

fn sequences() {
    let estate = large(10_000);
    let graph = EstateGraph::new(&estate);
    let usual = Usual::default();
    let all: std::collections::BTreeSet<Address> = estate.services.keys().cloned().collect();
    let down: Facts = all.iter().map(|a| (a.clone(), SeenState::Down)).collect();
    let up: Facts = all.iter().map(|a| (a.clone(), SeenState::Proven)).collect();
    let request = Request::new(Wish::Start, all.clone());
    let whole = median((0..9).map(|_| timed(|| plan(&estate, &graph, &down, &usual, &request)).0).collect());
    // The bare order and layers, by a plain walk over the same relations.
    let numbers: BTreeMap<&Address, usize> = estate.services.keys().enumerate().map(|(i, a)| (a, i)).collect();
    let edges: Vec<Vec<usize>> = estate.services.values().map(|s| s.relies_on_any().map(|a| numbers[a]).collect()).collect();
    let bare = median((0..9).map(|_| timed(|| layers(&edges)).0).collect());
    tell("sequence of 10,000 services, 50,000 relations", ms(whole), format!("bare layers {}", ms(bare)), "20 ms");
    let one = Request::new(Wish::Stop, [all.iter().nth(9_000).expect("there are more").clone()].into());
    let taken = median((0..9).map(|_| timed(|| plan(&estate, &graph, &up, &usual, &one)).0).collect());
    let reach =
        median((0..9).map(|_| timed(|| graph.all(one.chosen.first().expect("one"), yantro_core::graph::Toward::Reliant)).0).collect());
    tell("what one service takes with it", ms(reach), format!("its whole plan {}", ms(taken)), "1 ms");
}

fn layers(edges: &[Vec<usize>]) -> Vec<u32> {
    let mut layer = vec![0u32; edges.len()];
    for (i, needs) in edges.iter().enumerate() {
        layer[i] = needs.iter().map(|j| layer[*j] + 1).max().unwrap_or(0);
    }
    layer
}

fn forecasts() {
    let mut estate = large(250);
    estate.limits.at_once = Some(12);
    estate.limits.per_host = Some(12);
    let graph = EstateGraph::new(&estate);
    let up: Facts = estate.services.keys().map(|a| (a.clone(), SeenState::Proven)).collect();
    let request = Request::new(Wish::Restart, estate.services.keys().cloned().collect());
    let steps = plan(&estate, &graph, &up, &Usual::default(), &request).sequence.steps;
    let mut plays = 0;
    let whole = median((0..9).map(|_| timed(|| plays = play_all(&steps, &estate, None).plays).0).collect());
    // One play, its lengths not drawn by chance: what each of the thousands costs at least.
    let one = median((0..9).map(|_| timed(|| once(&steps)).0).collect());
    let ratio = whole.as_secs_f64() / (one.as_secs_f64() * f64::from(plays));
    let what = format!("forecast: {plays} plays of {} steps under limits", steps.len());
    tell(&what, ms(whole), format!("one bare play {}, ratio {ratio:.2}", ms(one)), "200 ms");
    let text: String =
        (0..2_000).map(|i| format!("  {{ title = \"line {i}\", work = [\"/bin/true\"], changes_nothing = true }},\n")).collect();
    let small = "[estate]\nname = \"f\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n";
    let text = format!("{small}[procedure.long]\nsteps = [\n{text}]\n");
    let read = median((0..3).map(|_| timed(|| vet(&text, "/").estate.is_some()).0).collect());
    let estate = vet(&text, "/").estate.expect("a sound estate");
    let graph = EstateGraph::new(&estate);
    let procedure = estate.procedures.values().next().expect("it has one");
    let planned = || {
        let plan =
            yantro_core::plan::procedure::plan(&estate, &graph, &Facts::default(), &Usual::default(), procedure, &Default::default());
        play_all(&plan.sequence.steps, &estate, None).likely_ms
    };
    let whole = median((0..3).map(|_| timed(planned).0).collect());
    tell("a procedure of 2,000 steps: its plan and forecast", ms(whole), format!("read and vetted in {}", ms(read)), "1 s");
}

/// A walk over the graph with the usual lengths, no limits heeded.
fn once(steps: &[yantro_core::plan::Step]) -> u64 {
    let mut ends = vec![0u64; steps.len()];
    for (i, step) in steps.iter().enumerate() {
        ends[i] = step.waits.iter().map(|w| ends[w.step.0 as usize - 1]).max().unwrap_or(0) + step.usual_ms;
    }
    ends.into_iter().max().unwrap_or(0)
}

fn runs() {
    let dir = tempfile::tempdir().expect("a folder can be made");
    let path = dir.path().join("yantro.db");
    let mut writer = Writer::open(&path).expect("a store can be made");
    let row = |id: u64| RunSummary {
        id: RunId(id),
        state: "finished".into(),
        title: format!("restart quay-1/fares-db, night {id}"),
        who: "maren".into(),
        began_at: Timestamp::from_ms(id as i64),
        ended_at: Some(Timestamp::from_ms(id as i64 + 40_000)),
        steps: 26,
        steps_ended: 26,
    };
    writer.commit(&Batch { runs: (1..=10_000).map(row).collect(), ..Batch::default() }).expect("there is room");
    let list = || yantro_store::Reader::open(&path).and_then(|r| r.runs(Some(RunId(5_000)), 50)).map_or(0, |r| r.len());
    let measured = median((0..25).map(|_| timed(list).0).collect());
    let opened = median((0..25).map(|_| timed(|| yantro_store::Reader::open(&path).is_ok()).0).collect());
    tell("a page of 10,000 past runs", ms(measured), format!("opening the store {}", ms(opened)), "50 ms");
}

fn logs() {
    let dir = tempfile::tempdir().expect("a folder can be made");
    let path = dir.path().join("log");
    let mut file = std::io::BufWriter::new(File::create(&path).expect("a file can be made"));
    let size = 1 << 30;
    let (mut written, mut i) = (0usize, 0u64);
    while written < size {
        i += 1;
        let line = if i.is_multiple_of(900_000) {
            format!("2026-11-23T02:41:09.312Z ERROR manifest refused for crossing {i}\n")
        } else {
            format!("2026-11-23T02:41:07.{:03}Z INFO booking BSF-{i:08} seat held for 12 minutes on lane {}\n", i % 1000, i % 7)
        };
        file.write_all(line.as_bytes()).expect("there is room");
        written += line.len();
    }
    file.flush().expect("there is room");
    drop(file);
    let patterns = LogPatterns {
        must_see: ["ready for connections", "connected to fares-db", r"listening on \S+:\d+"].map(str::to_owned).to_vec(),
        must_not_see: ["ERROR", "FATAL", "panicked at", r"out of (memory|space)", "assertion failed"].map(str::to_owned).to_vec(),
        overlook: vec![],
    };
    let ours = || {
        let mut scan = LogScan::new(Arc::new(LogMatcher::new(&patterns).expect("sound patterns")));
        let mut file = File::open(&path).expect("it was made above");
        let mut buffer = vec![0u8; 32 * 1024];
        loop {
            let n = file.read(&mut buffer).expect("it can be read");
            if n == 0 {
                break;
            }
            scan.push(&buffer[..n]);
        }
        scan.count().forbidden[0]
    };
    ours(); // Into the page cache, for both alike.
    let rg = || {
        let mut command = Command::new("rg");
        command.args(["--no-mmap", "-c", "-j1"]);
        for p in patterns.must_see.iter().chain(&patterns.must_not_see) {
            command.args(["-e", p]);
        }
        command.arg(&path).stdout(Stdio::null()).status().is_ok_and(|s| s.success())
    };
    let (mut mine, mut theirs) = (Vec::new(), Vec::new());
    let has_rg = rg();
    for _ in 0..5 {
        mine.push(timed(ours).0);
        if has_rg {
            theirs.push(timed(rg).0);
        }
    }
    let speed = |d: Duration| size as f64 / d.as_secs_f64() / 1e9;
    let mine = median(mine);
    let reference = if has_rg {
        let theirs = median(theirs);
        format!("ripgrep {:.2} GB/s, ratio {:.2}", speed(theirs), speed(mine) / speed(theirs))
    } else {
        "ripgrep is not installed".to_owned()
    };
    tell("log verification, 8 patterns, 1 GB", format!("{:.2} GB/s", speed(mine)), reference, "0.95 of ripgrep");
}

/// How long after something became so a climb says so.
fn notices() {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime can be made");
    let told = |times: Vec<Duration>| {
        let worst = times.iter().max().copied().unwrap_or_default();
        (ms(median(times)), format!("the worst of 40: {}", ms(worst)))
    };
    let rungs: [(&str, &str, &str); 3] = [
        ("a line written, to its verdict", "", "1 ms median"),
        ("a file made, to its rung", "{ rung = \"file\", path = \"made\" }", "25 ms"),
        ("a port opened, to its rung", "{ rung = \"port\", port = PORT }", "25 ms"),
    ];
    for (what, rung, aim) in rungs {
        let times = (0..40).map(|_| runtime.block_on(noticed(rung))).collect();
        let (median, worst) = told(times);
        tell(what, median, worst, aim);
    }
}

/// Climbs a ladder of one rung, or of a log line where there is none, and makes it so after a while.
async fn noticed(rung: &str) -> Duration {
    let dir = tempfile::tempdir().expect("a folder can be made");
    let here = Here::new(dir.path(), &dir.path().join("hosts")).expect("the recorder can be put there");
    // Free a moment ago: nobody else takes it in this short while.
    let port = std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port is free").port();
    let (ladder, must_see) = match rung {
        "" => ("{ rung = \"mount\", path = \"/proc\" }".to_owned(), "start = { must_see = [\"ready for connections\"] }"),
        rung => (rung.replace("PORT", &port.to_string()), ""),
    };
    let text = format!(
        "[estate]\nname = \"f\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n[service.s]\nhost = \"h\"\nrun_by = \"process\"\n\
         process = {{ program = \"/bin/true\" }}\nlogs = [\"log\"]\nladder = [{ladder}]\n{must_see}\n"
    );
    let estate = vet(&text, &dir.path().display().to_string()).estate.expect("a sound estate");
    let service = Arc::clone(estate.services.values().next().expect("it has one"));
    let log = dir.path().join("log");
    fs::write(&log, "starting\n").expect("there is room");
    let marks = yantro_reach::mark_logs(&here.logs_of(&service));
    let (teller, mut told) = tokio::sync::mpsc::unbounded_channel();
    // This very process stands in for the service, so that it holds the port itself.
    let own = ProcessId::of(std::process::id()).expect("it can be read").expect("it runs");
    let known = Some(ActRecord { process: Some(own.clone()), recorder: own, group: None, begun: None });
    let climbed = tokio::spawn(async move {
        let last = service.ladder_of(StepKind::Start).len() as u32 - 1;
        let climb = Climb { service, kind: StepKind::Start, from: 0, known, old: None, marks, since: Timestamp::from_ms(0) };
        here.climb(climb, move |report| {
            if report.rung == last && report.answer.verdict == Verdict::Holds {
                let _ = teller.send(Instant::now());
            }
        })
        .await;
    });
    // Long enough for the climb to stand before its rung, and at no fixed beat of it.
    tokio::time::sleep(Duration::from_millis(120 + rand::random_range(0..60))).await;
    let began = Instant::now();
    let kept = if rung.contains("port") {
        Some(std::net::TcpListener::bind(("127.0.0.1", port)).expect("the port is free"))
    } else if rung.contains("file") {
        fs::write(dir.path().join("made"), "").expect("there is room");
        None
    } else {
        let mut log = fs::OpenOptions::new().append(true).open(&log).expect("it was made above");
        log.write_all(b"fares-db ready for connections\n").expect("there is room");
        None
    };
    let at = told.recv().await.expect("a climb goes on until it is dropped");
    climbed.abort();
    drop(kept);
    at - began
}

fn events() {
    let dir = tempfile::tempdir().expect("a folder can be made");
    let mut writer = Writer::open(&dir.path().join("db")).expect("a database can be made");
    let mut bare = File::create(dir.path().join("bare")).expect("a file can be made");
    let row = |steps_ended| RunSummary {
        id: RunId(1),
        state: "running".into(),
        title: "restart quay-1/fares-db".into(),
        who: "maren".into(),
        began_at: Timestamp::from_ms(1),
        ended_at: None,
        steps: 26,
        steps_ended,
    };
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for no in 1..=300u64 {
        let event = Event::RungClimbed { step: yantro_core::plan::StepId(7), rung: 1, says: "process 48121 listens on 7412".into() };
        let stamped = Stamped { no, at: Timestamp::from_ms(1000), event };
        let batch = Batch { events: vec![(RunId(1), stamped)], runs: vec![row(no as u32)], ..Batch::default() };
        ours.push(timed(|| writer.commit(&batch).expect("it can be stored")).0);
        let line = [b'x'; 300];
        theirs.push(
            timed(|| {
                bare.write_all(&line).expect("there is room");
                unsafe { libc::fdatasync(bare.as_raw_fd()) }
            })
            .0,
        );
    }
    let (ours, theirs) = (median(ours), median(theirs));
    let ratio = ours.as_secs_f64() / theirs.as_secs_f64();
    tell("one event with its run's state, durable", ms(ours), format!("bare append and fdatasync {}, ratio {ratio:.2}", ms(theirs)), "3.5");
}

fn acts() {
    let dir = tempfile::tempdir().expect("a folder can be made");
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime can be made");
    let _within = runtime.enter();
    let here = Here::new(dir.path(), &dir.path().join("hosts")).expect("the recorder can be put there");
    let text = "[estate]\nname = \"f\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n[service.s]\nhost = \"h\"\nrun_by = \"commands\"\n\
                commands = { start = [\"/bin/sleep\", \"0.001\"], stop = [\"/bin/true\"], state = [\"/bin/true\"] }\n";
    let estate = vet(text, "/").estate.expect("a sound estate");
    let service = estate.services.values().next().expect("it has one");
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for i in 0..60 {
        let identity = format!("figures/act-{i}");
        ours.push(
            timed(|| {
                runtime.block_on(async {
                    let (teller, mut told) = tokio::sync::mpsc::unbounded_channel();
                    let spec = ActSpec { identity: &identity, kind: ActKind::Start, service, known: None };
                    here.act(spec, move |news| _ = teller.send(news)).await.expect("it can be given");
                    while let Some(news) = told.recv().await {
                        if matches!(news, ActNews::Ended(_)) {
                            break;
                        }
                    }
                });
            })
            .0,
        );
        theirs.push(timed(|| Command::new("/bin/sleep").arg("0.001").status().expect("it can be run")).0);
    }
    let (ours, theirs) = (median(ours), median(theirs));
    let ratio = ours.as_secs_f64() / theirs.as_secs_f64();
    tell(
        "an act of a program that runs 1 ms, through the recorder",
        ms(ours),
        format!("bare start and wait {}, ratio {ratio:.2}", ms(theirs)),
        "3",
    );
    recorder_memory(dir.path(), &runtime, &here);
}

/// What a recorder holds of its own while its service runs.
fn recorder_memory(dir: &Path, runtime: &tokio::runtime::Runtime, here: &Here) {
    let text = "[estate]\nname = \"f\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n[service.s]\nhost = \"h\"\nrun_by = \"process\"\n\
                process = { program = \"/bin/sleep\", args = [\"5\"] }\nladder = [{ rung = \"process\" }]\n";
    let estate = vet(text, &dir.display().to_string()).estate.expect("a sound estate");
    let service = estate.services.values().next().expect("it has one");
    runtime.block_on(async {
        let (teller, mut told) = tokio::sync::mpsc::unbounded_channel();
        let spec = ActSpec { identity: "figures/sleep", kind: ActKind::Start, service, known: None };
        here.act(spec, move |news| _ = teller.send(news)).await.expect("it can be given");
        while let Some(news) = told.recv().await {
            if let ActNews::Begun(_, record) = news {
                let maps = fs::read_to_string(format!("/proc/{}/smaps_rollup", record.recorder.pid)).unwrap_or_default();
                let of = |key: &str| {
                    maps.lines().find(|l| l.starts_with(key)).and_then(|l| l.split_whitespace().nth(1)).unwrap_or("?").to_owned()
                };
                let own = format!("{} kB of its own", of("Anonymous:"));
                tell("a recorder's memory", own, format!("{} kB resident with its program text", of("Rss:")), "1 MB");
                here.end_trees(&[*record]).await;
                break;
            }
        }
    });
}
