//! A folder, a machine to touch, and services made from text.

use std::{
    collections::BTreeMap,
    io::{Read, Write},
    net::{SocketAddr, TcpListener},
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};
use yantro_core::{
    model::Service,
    run::{ActEnd, ActKind, LogMark},
    text::vet,
    words::{kinds::StepKind, time::Timestamp},
};
use yantro_reach::{ActNews, ActRecord, ActSpec, Climb, Here, Report, mark_logs};

/// Waited for whatever has to come.
pub const PATIENCE: Duration = Duration::from_secs(20);

pub struct World {
    pub here: Arc<Here>,
    dir: tempfile::TempDir,
}

impl World {
    /// Must be called within a runtime.
    pub fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let here = Here::new(&dir.path().join("data"), &dir.path().join("hosts")).unwrap();
        Self { here: Arc::new(here), dir }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub fn folder(&self) -> &Path {
        self.dir.path()
    }

    /// The only service of an estate with this body; `DIR` in it is the folder.
    pub fn service(&self, body: &str) -> Arc<Service> {
        let text = format!(
            "[estate]\nname = \"Reach\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\naddress = \"127.0.0.1\"\n[service.gate]\nhost = \"quay\"\n{}",
            body.replace("DIR", &self.dir.path().display().to_string())
        );
        let vetted = vet(&text, &self.dir.path().display().to_string());
        let faults: Vec<String> = vetted.faults.iter().map(|f| f.message.clone()).collect();
        let estate = vetted.estate.unwrap_or_else(|| panic!("{faults:?}\n{text}"));
        estate.services.into_values().next().unwrap()
    }

    /// A service that is run by `sh -c SCRIPT`.
    pub fn script(&self, script: &str, more: &str) -> Arc<Service> {
        self.service(&format!(
            "run_by = \"process\"\nprocess = {{ program = \"/bin/sh\", args = [\"-c\", '''{script}'''] }}\nladder = [{{ rung = \"process\" }}]\n{more}\n"
        ))
    }

    /// Gives an act; its news.
    pub async fn act(
        &self,
        identity: &str,
        kind: ActKind,
        service: &Arc<Service>,
        known: Option<&ActRecord>,
    ) -> Result<UnboundedReceiver<ActNews>, ActEnd> {
        let (teller, told) = unbounded_channel();
        self.here.act(ActSpec { identity, kind, service, known }, move |news| drop(teller.send(news))).await?;
        Ok(told)
    }

    /// Starts a service; the record of the start, and the news that follow.
    pub async fn started(&self, identity: &str, service: &Arc<Service>) -> (ActRecord, UnboundedReceiver<ActNews>) {
        let mut news = self.act(identity, ActKind::Start, service, None).await.expect("it can be started");
        match next(&mut news).await {
            ActNews::Begun(_, record) => (*record, news),
            other => panic!("it did not begin: {other:?}"),
        }
    }

    /// Climbs in the background; its reports.
    pub fn climb(&self, service: &Arc<Service>, kind: StepKind, known: Option<ActRecord>, marks: BTreeMap<String, LogMark>) -> Climbing {
        let (teller, reports) = unbounded_channel();
        let (here, service) = (Arc::clone(&self.here), Arc::clone(service));
        let task = tokio::spawn(async move {
            let climb = Climb { service, kind, from: 0, known, old: None, marks, since: Timestamp::from_ms(0) };
            here.climb(climb, move |report| drop(teller.send(report))).await;
        });
        Climbing { reports, task }
    }

    pub fn marks(&self, service: &Arc<Service>) -> BTreeMap<String, LogMark> {
        mark_logs(&self.here.logs_of(service))
    }

    pub fn append(&self, name: &str, text: &str) {
        let mut file = std::fs::OpenOptions::new().append(true).create(true).open(self.path(name)).unwrap();
        file.write_all(text.as_bytes()).unwrap();
    }
}

pub struct Climbing {
    reports: UnboundedReceiver<Report>,
    task: tokio::task::JoinHandle<()>,
}

impl Climbing {
    /// The next report that is as wanted; what was reported before it is let pass.
    pub async fn until(&mut self, what: &str, wanted: impl Fn(&Report) -> bool) -> Report {
        let found = tokio::time::timeout(PATIENCE, async {
            let mut passed = Vec::new();
            loop {
                match self.reports.recv().await {
                    Some(report) if wanted(&report) => return report,
                    Some(report) => passed.push(report.answer.says),
                    None => panic!("the climb ended without {what}: {passed:?}"),
                }
            }
        });
        found.await.unwrap_or_else(|_| panic!("waited for {what}"))
    }
}

impl Drop for Climbing {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// The next piece of news.
pub async fn next(news: &mut UnboundedReceiver<ActNews>) -> ActNews {
    tokio::time::timeout(PATIENCE, news.recv()).await.expect("news come in time").expect("there is more to tell")
}

/// How an act ended.
pub async fn ended(news: &mut UnboundedReceiver<ActNews>) -> ActEnd {
    loop {
        if let ActNews::Ended(end) = next(news).await {
            return end;
        }
    }
}

/// Waits for a condition.
pub async fn until(what: &str, condition: impl Fn() -> bool) {
    let began = Instant::now();
    while !condition() {
        assert!(began.elapsed() < PATIENCE, "waited for {what}");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// A small page server; each path answers with its status and body. `/slow` never answers.
pub fn pages(all: &'static [(&'static str, u16, &'static str)]) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let mut buffer = [0u8; 2048];
                let n = stream.read(&mut buffer).unwrap_or(0);
                let asked = String::from_utf8_lossy(&buffer[..n]).into_owned();
                let path = asked.split(' ').nth(1).unwrap_or_default();
                if path == "/slow" {
                    std::thread::sleep(PATIENCE);
                }
                let (status, body) = all.iter().find(|(p, ..)| *p == path).map_or((404, "no such page"), |(_, s, b)| (*s, *b));
                let _ = write!(stream, "HTTP/1.1 {status} x\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}", body.len());
            });
        }
    });
    address
}
