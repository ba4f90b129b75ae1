//! Figures of many real commands at once: `scripts/figures`. Told, never judged: machines are shared.

use std::{
    fmt::Write as _,
    io::Read,
    process::Command,
    sync::mpsc::RecvTimeoutError,
    time::{Duration, Instant},
};

use yantro_e2e::Server;

use crate::figures::chrono_ms;

const SERVICES: usize = 400;
const RANKS: usize = 22;

/// What each of 400 services takes, in milliseconds, and what it relies on: a graph of 22 ranks, drawn by a seed.
fn drawn(seed: u64) -> Vec<(u64, Vec<usize>)> {
    use rand::{RngExt as _, SeedableRng as _};
    let mut random = rand::rngs::StdRng::seed_from_u64(seed);
    let rank = |i: usize| i * RANKS / SERVICES;
    (0..SERVICES)
        .map(|i| {
            let below: Vec<usize> = (0..i).filter(|j| rank(*j) + 1 == rank(i)).collect();
            let mut needs: Vec<usize> = Vec::new();
            if !below.is_empty() {
                needs = (0..3).map(|_| below[random.random_range(0..below.len())]).collect();
                needs.sort_unstable();
                needs.dedup();
            }
            (random.random_range(100..1500), needs)
        })
        .collect()
}

/// The longest path, in milliseconds.
fn longest(all: &[(u64, Vec<usize>)]) -> u64 {
    let mut ends: Vec<u64> = Vec::new();
    for (takes, needs) in all {
        ends.push(needs.iter().map(|j| ends[*j]).max().unwrap_or(0) + takes);
    }
    ends.into_iter().max().unwrap_or(0)
}

fn command_of(takes: u64, file: &str) -> String {
    format!("sleep {}.{:03}; : > {file}", takes / 1000, takes % 1000)
}

fn estate_of(all: &[(u64, Vec<usize>)]) -> String {
    let mut text = String::from(
        "[estate]\nname = \"Many\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\naddress = \"NET.1\"\n[like.sh]\nhost = \"h\"\nrun_by = \"commands\"\n",
    );
    for (i, (takes, needs)) in all.iter().enumerate() {
        let needs: Vec<String> = needs.iter().map(|j| format!("\"s{j}\"")).collect();
        let file = format!("{{dir}}/made/s{i}");
        let _ = write!(
            text,
            "[service.s{i}]\nlike = \"sh\"\nrelies_on = [{}]\ncommands = {{ start = [\"/bin/sh\", \"-c\", \"{}\"], stop = [\"/bin/rm\", \"-f\", \"{file}\"], state = [\"/usr/bin/test\", \"-e\", \"{file}\"] }}\n\
             ladder = [{{ rung = \"file\", path = \"{file}\" }}]\n",
            needs.join(", "),
            command_of(*takes, &file)
        );
    }
    text
}

fn makefile_of(all: &[(u64, Vec<usize>)]) -> String {
    let mut text = format!("all: {}\n", (0..all.len()).map(|i| format!("by-make/s{i}")).collect::<Vec<_>>().join(" "));
    for (i, (takes, needs)) in all.iter().enumerate() {
        let needs: Vec<String> = needs.iter().map(|j| format!("by-make/s{j}")).collect();
        let _ = write!(text, "by-make/s{i}: {}\n\t@{}\n", needs.join(" "), command_of(*takes, &format!("by-make/s{i}")));
    }
    text
}

/// The processor time of a process, in seconds.
fn processor_of(pid: i32) -> f64 {
    let text = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    let fields: Vec<&str> = text.rsplit_once(')').map_or("", |(_, rest)| rest).split_whitespace().collect();
    let ticks = |i: usize| fields.get(i).and_then(|f| f.parse::<u64>().ok()).unwrap_or(0);
    (ticks(11) + ticks(12)) as f64 / 100.0
}

#[test]
#[ignore = "measures: scripts/figures"]
fn four_hundred_shell_commands_over_the_longest_path() {
    let all = drawn(7);
    let ideal = longest(&all) as f64;
    let server = Server::with_estate(&estate_of(&all));
    std::fs::create_dir_all(server.folder().join("made")).unwrap();
    std::fs::create_dir_all(server.folder().join("by-make")).unwrap();
    // A console that is open reads the events of all runs.
    let address = server.base().trim_start_matches("http://").to_owned();
    let mut stream = std::net::TcpStream::connect(&address).unwrap();
    let request = format!("GET /api/v1/events HTTP/1.1\r\nhost: {address}\r\nauthorization: Bearer {}\r\n\r\n", server.token());
    std::io::Write::write_all(&mut stream, request.as_bytes()).unwrap();
    std::thread::spawn(move || while stream.read(&mut [0u8; 65536]).is_ok_and(|n| n > 0) {});

    let began = Instant::now();
    let child = server.spawn(&["start", "*", "--yes"]);
    let pid = child.id() as i32;
    let (done, waits) = std::sync::mpsc::channel::<()>();
    let watcher = std::thread::spawn(move || {
        let mut watched: f64 = 0.0;
        while waits.recv_timeout(Duration::from_millis(50)) == Err(RecvTimeoutError::Timeout) {
            watched = watched.max(processor_of(pid));
        }
        watched
    });
    let before = processor_of(server.pid());
    let output = child.wait_with_output().unwrap();
    let took = began.elapsed().as_secs_f64() * 1000.0;
    drop(done);
    let of_watcher = watcher.join().unwrap();
    let of_server = processor_of(server.pid()) - before;
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let view = server.get("/runs/1");
    let at = |v: &serde_json::Value| chrono_ms(v.as_str().unwrap_or_default());
    let steps = view["steps"].as_array().unwrap();
    let first = steps.iter().map(|s| at(&s["now"]["began_at"])).min().unwrap();
    let last = steps.iter().map(|s| at(&s["now"]["ended_at"])).max().unwrap();

    std::fs::write(server.folder().join("Makefile"), makefile_of(&all)).unwrap();
    let began = Instant::now();
    let made = Command::new("make").arg("-j400").arg("-s").current_dir(server.folder()).status().unwrap();
    let by_make = began.elapsed().as_secs_f64() * 1000.0;
    assert!(made.success());
    println!(
        "| start of 400 shell commands in 22 ranks, watched, from the call on | {:.3} of the longest path ({:.3} between its first begin and its last end), processor: server {of_server:.1} s, command line {of_watcher:.2} s | make -j400 {:.3} | 1.02 |",
        took / ideal,
        (last - first) as f64 / ideal,
        by_make / ideal
    );
}
