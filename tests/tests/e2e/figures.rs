//! Figures that take a whole server: `scripts/figures`. Told, never judged: machines are shared.

use std::{collections::BTreeMap, fmt::Write as _, io::Read, time::Instant};

use yantro_e2e::{Server, wait_until};

/// An estate of 300 real processes in 12 layers, ready 0.2 to 2 s after their start.
fn layered() -> (String, Vec<Vec<usize>>) {
    let mut text = String::from(
        "[estate]\nname = \"Layers\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\naddress = \"NET.1\"\n[like.l]\nhost = \"h\"\nrun_by = \"process\"\n\
         process = { program = \"./stand-in\", args = [\"--name\", \"{service}\", \"--listen\", \"{address}:{port}\", \"--ready-after\", \"{ready}\", \"--log\", \"{dir}/logs/{service}.log\", \"--record\", \"{dir}/{service}.record\"] }\n\
         logs = [\"logs/{service}.log\"]\nladder = [{ rung = \"port\", port = \"{port}\" }]\nstart = { must_see = [\"ready for connections\"], patience = \"60s\" }\nstop = { force = \"allow\" }\n",
    );
    let mut needs: Vec<Vec<usize>> = Vec::new();
    for i in 0..300usize {
        let layer = i / 25;
        let below: Vec<usize> = if layer == 0 { vec![] } else { (0..3).map(|_| (layer - 1) * 25 + rand::random_range(0..25)).collect() };
        let list: Vec<String> = below.iter().map(|j| format!("\"s{j}\"")).collect();
        let ready = rand::random_range(200..2000);
        let _ = write!(
            text,
            "[service.s{i}]\nlike = \"l\"\nvalues = {{ port = {}, ready = \"{ready}ms\" }}\nrelies_on = [{}]\n",
            6000 + i,
            list.join(", ")
        );
        needs.push(below);
    }
    (text, needs)
}

#[test]
#[ignore = "measures: scripts/figures"]
fn run_length_over_the_ideal() {
    let (text, needs) = layered();
    let server = Server::with_estate(&text);
    let run = server.begin(&["start", "*"]);
    // Asked for in short, and not often: whoever measures should not be what is measured.
    wait_until("the run ended", || {
        std::thread::sleep(std::time::Duration::from_millis(250));
        let state = server.get("/runs?limit=1")["runs"][0]["state"].clone();
        (state != "running").then_some(state)
    });
    let view = server.get(&format!("/runs/{run}"));
    assert_eq!(view["state"], "finished", "{}", view["held_because"]);
    // What each took by its own record, from its start to its being ready.
    let took: Vec<i64> = (0..300)
        .map(|i| {
            let record = server.read(&format!("s{i}.record"));
            let at = |what: &str| {
                record
                    .lines()
                    .find(|l| l.starts_with(what))
                    .and_then(|l| l.split(' ').nth(2))
                    .and_then(|t| t.parse::<i64>().ok())
                    .unwrap_or(0)
            };
            at("ready") - at("start")
        })
        .collect();
    let mut ends: BTreeMap<usize, i64> = BTreeMap::new();
    for i in 0..300 {
        let after = needs[i].iter().map(|j| ends[j]).max().unwrap_or(0);
        ends.insert(i, after + took[i]);
    }
    let ideal = *ends.values().max().unwrap();
    let ms = |v: &serde_json::Value| chrono_ms(v.as_str().unwrap());
    let steps = view["steps"].as_array().unwrap();
    let first = steps.iter().map(|s| ms(&s["now"]["began_at"])).min().unwrap();
    let last = steps.iter().map(|s| ms(&s["now"]["ended_at"])).max().unwrap();
    println!(
        "| start of 300 processes in 12 layers | {} ms | longest path by their own records {ideal} ms, ratio {:.3} | 1.02 |",
        last - first,
        (last - first) as f64 / ideal as f64
    );
}

/// Milliseconds of the day of an RFC 3339 instant in UTC: runs here do not cross midnight.
pub(crate) fn chrono_ms(text: &str) -> i64 {
    let time = text.split('T').nth(1).unwrap().trim_end_matches('Z');
    let mut parts = time.split([':', '.']).map(|p| p.parse::<i64>().unwrap());
    let mut next = || parts.next().unwrap();
    ((next() * 60 + next()) * 60 + next()) * 1000 + next()
}

#[test]
#[ignore = "measures: scripts/figures"]
fn at_rest_with_the_demo() {
    let server = Server::demo();
    let pid = server.pid();
    let stat = |field: usize| -> u64 {
        let text = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
        text.rsplit_once(')').unwrap().1.split_whitespace().nth(field).unwrap().parse().unwrap()
    };
    let resident = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let resident = resident.lines().find(|l| l.starts_with("VmRSS")).unwrap().split_whitespace().nth(1).unwrap().to_owned();
    let (before, began) = (stat(11) + stat(12), Instant::now());
    std::thread::sleep(std::time::Duration::from_secs(20));
    let share = (stat(11) + stat(12) - before) as f64 / 100.0 / began.elapsed().as_secs_f64();
    println!("| at rest with the demo | {resident} kB resident, {:.2} % of a core | – | 40 MB, 1 % |", share * 100.0);
}

#[test]
#[ignore = "measures: scripts/figures"]
fn from_start_to_answering() {
    let mut server = Server::bare();
    let mut times: Vec<u128> = (0..5)
        .map(|_| {
            server.kill();
            let began = Instant::now();
            server.start(&[]);
            began.elapsed().as_millis()
        })
        .collect();
    times.sort_unstable();
    println!("| from start to answering | {} ms | looked at every 20 ms | 300 ms |", times[2]);
}

#[test]
#[ignore = "measures: scripts/figures"]
fn a_thousand_subscribers() {
    let server = Server::bare();
    let base = server.base();
    let address = base.trim_start_matches("http://").to_owned();
    let mut streams: Vec<std::net::TcpStream> = (0..1000)
        .map(|_| {
            let mut stream = std::net::TcpStream::connect(&address).unwrap();
            let request = format!("GET /api/v1/events HTTP/1.1\r\nhost: {address}\r\nauthorization: Bearer {}\r\n\r\n", server.token());
            std::io::Write::write_all(&mut stream, request.as_bytes()).unwrap();
            stream
        })
        .collect();
    let read_until = |stream: &mut std::net::TcpStream, mark: &str| {
        let mut text = String::new();
        let mut buffer = [0u8; 4096];
        while !text.contains(mark) {
            let n = stream.read(&mut buffer).unwrap();
            assert!(n > 0, "the stream ended");
            text.push_str(&String::from_utf8_lossy(&buffer[..n]));
        }
    };
    streams.iter_mut().for_each(|s| read_until(s, "event: hello"));
    let resident = || -> u64 {
        let text = std::fs::read_to_string(format!("/proc/{}/status", server.pid())).unwrap();
        text.lines().find(|l| l.starts_with("VmRSS")).unwrap().split_whitespace().nth(1).unwrap().parse().unwrap()
    };
    let with = resident();
    let mut times: Vec<u128> = (0..7)
        .map(|i| {
            let began = Instant::now();
            server.post("/standstill", &serde_json::json!({ "on": i % 2 == 0 }));
            streams.iter_mut().for_each(|s| read_until(s, "event: server"));
            began.elapsed().as_micros()
        })
        .collect();
    times.sort_unstable();
    // The reference: one message written to as many plain sockets and read from them.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let mut pairs: Vec<(std::net::TcpStream, std::net::TcpStream)> =
        (0..1000).map(|_| (std::net::TcpStream::connect(listener.local_addr().unwrap()).unwrap(), listener.accept().unwrap().0)).collect();
    let mut raw: Vec<u128> = (0..7)
        .map(|_| {
            let began = Instant::now();
            for (_, out) in &mut pairs {
                std::io::Write::write_all(out, b"event: server\ndata: {}\n\n").unwrap();
            }
            pairs.iter_mut().for_each(|(s, _)| read_until(s, "event: server"));
            began.elapsed().as_micros()
        })
        .collect();
    raw.sort_unstable();
    drop(streams);
    println!(
        "| an event at the last of 1,000 subscribers, from the call that caused it | {:.1} ms | raw writes and reads {:.1} ms, ratio {:.2} | 1.5 |\n| memory with 1,000 subscribers | {with} kB resident | – | 20 KiB each |",
        times[3] as f64 / 1000.0,
        raw[3] as f64 / 1000.0,
        times[3] as f64 / raw[3] as f64
    );
}

/// Input to paint in the editor of a procedure with 2,000 steps, and how long its forecast takes to follow.
#[tokio::test(flavor = "multi_thread")]
#[ignore = "measures: scripts/figures"]
async fn editing_a_procedure_of_2000_steps() {
    use thirtyfour::prelude::*;
    let Some(browser) = crate::browser::Browser::open(1280, 800).await else { return };
    let mut text = crate::quick::estate(&[]) + "[procedure.long]\ntitle = \"A long night\"\n";
    for i in 0..500 {
        let _ = write!(
            text,
            "\n# Round {i}.\n[[procedure.long.steps]]\nstop = [\"boards\"]\n\n[[procedure.long.steps]]\ntitle = \"Work {i}\"\nwork = [\"/bin/true\", \"{i}\"]\nchanges_nothing = true\n\
             \n[[procedure.long.steps]]\nstart = [\"boards\"]\n\n[[procedure.long.steps]]\npause = \"1s\"\n"
        );
    }
    let server = tokio::task::block_in_place(|| Server::with_estate(&text));
    browser.sign_in(&server).await;
    browser.driver.goto(format!("{}/procedures/long/edit", server.base())).await.unwrap();
    browser.see(" steps").await;
    // From the input to the frame that shows it, and to the forecast that follows.
    const MEASURE: &str = r#"
        const [what, done] = [arguments[0], arguments[arguments.length - 1]];
        const list = document.querySelector('[role=listbox]');
        const status = document.querySelector('main [role=status]');
        const key = (key, more) => list.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, ...more }));
        const field = () => [...document.querySelectorAll('label')].find((l) => l.firstElementChild?.textContent === 'Title' ).querySelector('input');
        const told = performance.now();
        if (what === 'move') key('ArrowDown', { altKey: true });
        if (what === 'choose') key('ArrowDown');
        if (what === 'remove') key('Delete');
        if (what === 'form') { const f = field(); f.value = 'Another ' + told; f.dispatchEvent(new Event('change', { bubbles: true })); }
        requestAnimationFrame(() => { const c = new MessageChannel(); c.port1.onmessage = () => {
            const painted = performance.now() - told;
            const look = () => { if (status.dataset.at !== before) done([painted, performance.now() - told]); else requestAnimationFrame(look); };
            if (what === 'choose') done([painted, painted]); else look();
        }; c.port2.postMessage(0); });
        const before = status.dataset.at;
    "#;
    browser.driver.query(By::Id("step-2")).first().await.unwrap().click().await.unwrap();
    let mut told = String::new();
    for what in ["choose", "move", "form", "remove"] {
        let (mut painted, mut followed) = (Vec::new(), Vec::new());
        for _ in 0..15 {
            let took = browser.driver.execute_async(MEASURE, vec![serde_json::json!(what)]).await.unwrap();
            let took: [f64; 2] = took.convert().unwrap();
            painted.push(took[0]);
            followed.push(took[1]);
        }
        let middle = |all: &mut Vec<f64>| {
            all.sort_by(f64::total_cmp);
            (all[all.len() / 2], all[all.len() - 1])
        };
        let ((p, p_most), (f, f_most)) = (middle(&mut painted), middle(&mut followed));
        let _ = writeln!(told, "| editor of 2,000 steps, {what}: input to paint | {p:.0} ms, most {p_most:.0} ms | | 100 ms |");
        if what != "choose" {
            let _ = writeln!(told, "| the same: forecast follows | {f:.0} ms, most {f_most:.0} ms | | 1 s |");
        }
    }
    println!("{told}");
    browser.close().await;
    tokio::task::block_in_place(|| drop(server));
}

/// The put-back of the demo's full stop beside the longest path of what its services take by their own logs.
#[test]
#[ignore = "measures: scripts/figures"]
fn put_back_of_a_full_stop_over_the_ideal() {
    let server = Server::demo();
    let run = server.begin(&["stop", "*", "--except", "tide-gauge", "--below-keep-up", "gates"]);
    // Taken back while the very last one stops: what is in flight is finished first.
    wait_until("the last stop is under way", || {
        let view = server.get(&format!("/runs/{run}"));
        let step = view["steps"].as_array()?.iter().find(|s| s["planned"]["address"] == "quay-1/fares-db").cloned()?;
        (step["now"]["state"] != "waiting").then_some(())
    });
    server.ok(&["put-back", "--yes", &run.to_string(), "--why", "to measure it"]);
    let view = server.run_is(run, &["put-back", "put-back-in-part", "held", "finished"]);
    assert_eq!(view["state"], "put-back", "{}", view["held_because"]);
    let back: Vec<&serde_json::Value> = view["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|s| s["planned"]["part"] == "put-back" && s["planned"]["kind"] == "start")
        .collect();
    let mut ends: BTreeMap<String, i64> = BTreeMap::new();
    let mut left: Vec<String> = back.iter().map(|s| s["planned"]["address"].as_str().unwrap().to_owned()).collect();
    assert!(left.len() >= 12, "{left:?}");
    // From the log: what the process took to be ready; from the estate: how long it must stay so, and the pause.
    let own = |address: &str| {
        let (host, service) = address.split_once('/').unwrap();
        let name = match service.split_once('.') {
            Some(("gate-check", copy)) => format!("gate-{host}-{copy}"),
            _ if service == "boards" => format!("boards-{host}"),
            _ => service.to_owned(),
        };
        let log = server.read(&format!("demo/logs/{name}.log"));
        let at = |what: &str| chrono_ms(log.lines().rev().find(|l| l.contains(what)).unwrap().split(' ').next().unwrap());
        let steady = if ["fares-db", "tide-cache", "post-queue"].contains(&service) { 300 } else { 400 };
        let pause = if service.starts_with("gate-check") { 200 } else { 0 };
        at("ready for connections") - at(" starting, process") + steady + pause
    };
    // No more than two gates are worked on at once: the ideal keeps to that too.
    let mut hands_free = [0i64; 2];
    while !left.is_empty() {
        let before = left.len();
        left.retain(|address| {
            let relies = server.get(&format!("/relations?of={address}"))["relies_on"].clone();
            let needs: Vec<&str> = relies.as_array().unwrap().iter().filter_map(|r| r.as_str()).collect();
            if needs.iter().any(|n| !ends.contains_key(*n)) {
                return true;
            }
            let mut after = needs.iter().map(|n| ends[*n]).max().unwrap_or(0);
            if address.contains("gate-check") {
                hands_free.sort_unstable();
                after = after.max(hands_free[0]);
                hands_free[0] = after + own(address);
            }
            ends.insert(address.clone(), after + own(address));
            false
        });
        assert!(left.len() < before, "{left:?} wait for what is not put back");
    }
    let ideal = *ends.values().max().unwrap();
    let ms = |v: &serde_json::Value| chrono_ms(v.as_str().unwrap());
    let took =
        back.iter().map(|s| ms(&s["now"]["ended_at"])).max().unwrap() - back.iter().map(|s| ms(&s["now"]["began_at"])).min().unwrap();
    println!(
        "| put-back of the demo's full stop | {took} ms | longest path by their own logs {ideal} ms, ratio {:.3} | 1.05 |",
        took as f64 / ideal as f64
    );
}
