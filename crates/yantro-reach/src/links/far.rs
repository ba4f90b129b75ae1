//! Another host, reached over SSH: one connection by the system's own client, one channel, and the outpost at its
//! far end. The connection is kept, and made again with growing pauses when it is lost.

mod asks;
mod conn;

use std::{
    collections::{BTreeSet, HashMap},
    process::Stdio,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};

use serde::{Deserialize, Serialize, de::DeserializeOwned};
use tokio::{
    sync::{Notify, Semaphore, mpsc::UnboundedSender, watch},
    task::AbortHandle,
};
use yantro_core::{
    model::{Host, Service, SshSpec},
    run::{ActEnd, ActKind},
    words::{name::HostName, time::Timestamp},
};

use crate::{
    links::{
        hops::{hops_in, hostname_in, may_be_a_host},
        opening::{Opened, ended, open},
        outbox::Outbox,
        trouble::{Trouble, trouble_of},
        wire::{Ask, Hello, Said, Told},
    },
    looks::hung,
};
use conn::{Conn, Lost};

/// Connections opened at once.
static OPENING: Semaphore = Semaphore::const_new(12);
/// How long opening one may take, the program's journey included.
const OPENED_WITHIN: Duration = Duration::from_secs(40);
/// How often a connection is asked whether it lives.
const ALIVE_EVERY: Duration = Duration::from_secs(1);
/// Nothing heard for so long: it is lost.
const LOST_AFTER: Duration = Duration::from_secs(8);
/// How often it is looked whether the files that a way hangs on were written, while it is down.
const FILES_EVERY: Duration = Duration::from_millis(500);
/// The first pause before connecting again, and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(15));
/// A way that goes through more names than these is not followed to its end.
const MOST_HOPS: usize = 64;
/// The longest pause while somebody waits for the host.
const WANTED_PAUSE: Duration = Duration::from_secs(1);
/// An act waits so long for the link before it is given up, as long as it was never sent.
const ACT_WAITS: Duration = Duration::from_secs(10);
/// What was sent and never arrived is given again only within this time, and only while its step has patience left: a
/// run that holds by then must not see it begin.
const GIVEN_AGAIN_WITHIN: Duration = Duration::from_secs(120);
/// A force is given again within this time.
const FORCED_AGAIN_WITHIN: Duration = Duration::from_secs(8);
/// How long a look waits for a connection that is being made for the first time.
const FIRST_WITHIN: Duration = Duration::from_secs(10);
/// How long after it was lost a look waits for it to come back.
const AGAIN_WITHIN: Duration = Duration::from_secs(4);
/// How long looks at a host may take in all.
const LOOKED_WITHIN: Duration = Duration::from_secs(30);

/// How the link to a host stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// Whether it stands.
    pub up: bool,
    /// Since when it is so.
    pub since: Timestamp,
    /// Why it does not stand.
    pub why: Option<String>,
    /// How to mend that.
    pub mend: Option<String>,
    /// How often it was tried in vain since.
    pub tries: u32,
    /// How the far side introduced itself, the last time.
    pub hello: Option<Hello>,
    /// A line there and back, in microseconds.
    pub round_trip_us: Option<u64>,
    /// By how much the host's clock differs from ours, in milliseconds.
    pub clock_ahead_ms: Option<i64>,
}

/// A host does not answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{host} is out of reach: {why}")]
pub struct OutOfReach {
    /// The host.
    pub host: HostName,
    /// Why.
    pub why: String,
}

/// Another host.
pub struct Far {
    host: HostName,
    address: String,
    spec: SshSpec,
    server: String,
    link: watch::Sender<Link>,
    conn: watch::Sender<Option<Arc<Conn>>>,
    wanted: Notify,
    /// Somebody wants it tried at once.
    try_now: Notify,
    keeping: Mutex<Option<AbortHandle>>,
    claims: Mutex<()>,
}

fn now() -> Timestamp {
    Timestamp::from_ms(SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64))
}

fn again_within(kind: ActKind, service: &Service) -> Duration {
    let patience = match kind {
        ActKind::Start | ActKind::Further | ActKind::Work | ActKind::Announce => service.start.patience.0,
        ActKind::Stop | ActKind::Clear | ActKind::Evidence(_) => service.stop.patience.0,
        ActKind::Reload => service.reload.as_ref().map_or(service.start.patience.0, |r| r.patience.0),
        ActKind::Force => FORCED_AGAIN_WITHIN,
    };
    patience.min(GIVEN_AGAIN_WITHIN)
}

fn refused(trouble: Trouble) -> ActEnd {
    ActEnd::Refused { why: trouble.why, mend: trouble.mend }
}

impl Far {
    /// Begins to keep a connection. `changed` hears whenever the link comes or goes.
    pub(crate) fn keep(name: &HostName, host: &Host, server: &str, changed: UnboundedSender<HostName>) -> Option<Arc<Self>> {
        let first = Link {
            up: false,
            since: now(),
            why: Some("not connected yet".to_owned()),
            mend: None,
            tries: 0,
            hello: None,
            round_trip_us: None,
            clock_ahead_ms: None,
        };
        let far = Arc::new(Self {
            host: name.clone(),
            address: host.address.clone(),
            spec: host.ssh.clone()?,
            server: server.to_owned(),
            link: watch::Sender::new(first),
            conn: watch::Sender::new(None),
            wanted: Notify::new(),
            try_now: Notify::new(),
            keeping: Mutex::default(),
            claims: Mutex::default(),
        });
        let task = tokio::spawn(Arc::clone(&far).keep_on(changed));
        *far.keeping.lock().unwrap_or_else(PoisonError::into_inner) = Some(task.abort_handle());
        Some(far)
    }

    /// Whether it is this host, reached in this way.
    pub(crate) fn is(&self, host: &Host) -> bool {
        self.address == host.address && host.ssh.as_ref() == Some(&self.spec)
    }

    /// The address that it is come to at, as the estate has it.
    pub(crate) fn address(&self) -> &str {
        &self.address
    }

    /// Lets the connection go, for good.
    pub(crate) fn leave(&self) {
        if let Some(task) = self.keeping.lock().unwrap_or_else(PoisonError::into_inner).take() {
            task.abort();
        }
        if let Some(conn) = self.conn.send_replace(None) {
            conn.lost();
        }
    }

    /// How the link stands.
    pub fn link(&self) -> Link {
        self.link.borrow().clone()
    }

    async fn keep_on(self: Arc<Self>, changed: UnboundedSender<HostName>) {
        let mut pause = PAUSES.0;
        // Found out anew by each server: an outpost that fits may be installed meanwhile.
        let unfit = AtomicBool::new(false);
        loop {
            let was_fit = !unfit.load(Ordering::Relaxed);
            let files = self.files().await;
            let opening = OPENING.acquire().await;
            let opened = match tokio::time::timeout(OPENED_WITHIN, open(&self.address, &self.spec, &self.server, &unfit)).await {
                Ok(opened) => opened,
                Err(_) => Err(Trouble {
                    why: format!("nothing answers within {} s", OPENED_WITHIN.as_secs()),
                    mend: format!("see what `ssh {}` does", self.address),
                }),
            };
            drop(opening);
            let trouble = match opened {
                Ok(opened) => {
                    pause = PAUSES.0;
                    self.serve(opened, &changed).await
                }
                // At once by its plain shell.
                Err(_) if was_fit && unfit.load(Ordering::Relaxed) => continue,
                Err(trouble) => trouble,
            };
            tracing::info!(host = %self.host, why = %trouble.why, "not connected");
            let was_up = self.link.borrow().up;
            self.link.send_modify(|link| {
                link.since = if link.up { now() } else { link.since };
                link.tries = if link.up { 0 } else { link.tries + 1 };
                link.up = false;
                link.why = Some(trouble.why.clone());
                link.mend = Some(trouble.mend.clone());
            });
            if was_up || self.link.borrow().tries <= 1 {
                let _ = changed.send(self.host.clone());
            }
            // Those who wait shorten the pause, but never to nothing; who asks in so many words, or has mended something, does.
            let least = pause.min(WANTED_PAUSE);
            let paused = async {
                tokio::time::sleep(least).await;
                tokio::select! {
                    () = tokio::time::sleep(pause - least) => {}
                    () = self.wanted.notified() => {}
                }
            };
            let is_at_once = tokio::select! {
                () = paused => false,
                () = self.try_now.notified() => true,
                () = self.files_change(files) => true,
            };
            pause = if is_at_once { PAUSES.0 } else { (pause * 2).min(PAUSES.1) };
        }
    }

    /// Serves a connection until it is lost, and says why it was.
    async fn serve(&self, opened: Opened, changed: &UnboundedSender<HostName>) -> Trouble {
        let Opened { mut child, stdin, mut lines, stderr, hello } = opened;
        let conn = Arc::new(Conn {
            out: Outbox::new(stdin),
            asked: Mutex::new(Some(HashMap::new())),
            // 0 was the hello.
            next: AtomicU64::new(1),
            heard_at: Mutex::new(Instant::now()),
        });
        let ahead = hello.now.as_ms() - now().as_ms();
        self.link.send_modify(|link| {
            *link = Link {
                up: true,
                since: now(),
                why: None,
                mend: None,
                tries: 0,
                hello: Some(hello),
                round_trip_us: None,
                clock_ahead_ms: Some(ahead),
            };
        });
        self.conn.send_replace(Some(Arc::clone(&conn)));
        let _ = changed.send(self.host.clone());
        let writing = async {
            let _ = conn.out.serve().await;
            // What is read says why.
            std::future::pending::<()>().await;
        };
        let reading = async {
            loop {
                match lines.next_line().await {
                    Ok(Some(line)) => {
                        if let Some(said) = Said::read(&line) {
                            conn.take(said);
                        }
                    }
                    Ok(None) | Err(_) => return,
                }
            }
        };
        let living = async {
            loop {
                let asked = Instant::now();
                let answer = conn.ask(Ask::Alive {}).answer::<Timestamp>();
                tokio::pin!(answer);
                loop {
                    tokio::select! {
                        answer = &mut answer => {
                            if let Ok(Ok(there)) = answer {
                                let took = asked.elapsed();
                                let ahead = there.as_ms() + took.as_millis() as i64 / 2 - now().as_ms();
                                self.link.send_modify(|l| {
                                    l.round_trip_us = Some(took.as_micros() as u64);
                                    l.clock_ahead_ms = Some(ahead);
                                });
                            }
                            break;
                        }
                        () = tokio::time::sleep(ALIVE_EVERY) => {
                            // Where much comes over a slow link the answer takes long: the far side hears us all the same.
                            conn.out.say(&Told::Leave(0).line());
                            if conn.heard_at.lock().unwrap_or_else(PoisonError::into_inner).elapsed() >= LOST_AFTER {
                                return;
                            }
                        }
                    }
                }
                tokio::time::sleep(ALIVE_EVERY).await;
            }
        };
        let silent = tokio::select! {
            () = writing => false,
            () = reading => false,
            () = living => true,
        };
        self.conn.send_replace(None);
        conn.lost();
        if silent {
            let _ = child.start_kill();
            let _ = child.wait().await;
            return Trouble {
                why: format!("nothing was heard from it for {} s", LOST_AFTER.as_secs()),
                mend: "see whether the host is on, and its network".to_owned(),
            };
        }
        let code = ended(&mut child).await;
        trouble_of(&self.address, &self.spec, code, &stderr.lock().unwrap_or_else(PoisonError::into_inner)).unwrap_or(Trouble {
            why: "the connection was ended".to_owned(),
            mend: "nothing to mend as long as it comes back; else see the host's own log of its SSH server".to_owned(),
        })
    }

    /// Tries it at once, and says how the link stands after that.
    pub(crate) async fn try_now(&self) -> Link {
        let mut link = self.link.subscribe();
        let before = link.borrow_and_update().clone();
        if before.up {
            return before;
        }
        self.try_now.notify_one();
        let tried = async {
            loop {
                let is = link.borrow_and_update().clone();
                if is.up || is.tries != before.tries || link.changed().await.is_err() {
                    return;
                }
            }
        };
        // An attempt that goes on for longer is told by the link, whenever it ends.
        let _ = tokio::time::timeout(OPENED_WITHIN + WANTED_PAUSE, tried).await;
        self.link()
    }

    /// When the files that the way to it hangs on were written: a key that is added, a host's that is known by now.
    async fn files(&self) -> Vec<Option<SystemTime>> {
        let home = std::env::var("HOME").unwrap_or_default();
        let own = |named: &Option<String>, usual: &str| named.clone().unwrap_or_else(|| format!("{home}/.ssh/{usual}"));
        let paths = [
            own(&self.spec.key, "id_ed25519"),
            own(&self.spec.known_hosts, "known_hosts"),
            own(&self.spec.config, "config"),
            "/etc/ssh/ssh_known_hosts".to_owned(),
        ];
        let read = move || paths.iter().map(|p| std::fs::metadata(p).and_then(|m| m.modified()).ok()).collect();
        // What lies on something that hangs is taken for unchanged.
        hung::asking("the files of its way", hung::WITHIN, read).await.unwrap_or_default()
    }

    async fn files_change(&self, before: Vec<Option<SystemTime>>) {
        loop {
            tokio::time::sleep(FILES_EVERY).await;
            let now = self.files().await;
            if !now.is_empty() && !before.is_empty() && now != before {
                return;
            }
        }
    }

    fn out_of_reach(&self) -> OutOfReach {
        OutOfReach { host: self.host.clone(), why: self.link.borrow().why.clone().unwrap_or_else(|| "the link was lost".to_owned()) }
    }

    /// The connection, where it stands. One that is being made for the first time, or was lost a moment ago, is waited
    /// for a while: a look that is a little later says more than that the host is out of reach.
    async fn settled(&self) -> Result<Arc<Conn>, OutOfReach> {
        let began = Instant::now();
        let settles = |link: &Link| match &link.hello {
            None => link.tries == 0 && began.elapsed() < FIRST_WITHIN,
            Some(_) => now().since(link.since) < AGAIN_WITHIN,
        };
        while self.conn.borrow().is_none() && settles(&self.link.borrow()) {
            self.wanted.notify_one();
            let mut link = self.link.subscribe();
            let _ = tokio::time::timeout(Duration::from_millis(50), link.changed()).await;
        }
        self.now_connected()
    }

    fn now_connected(&self) -> Result<Arc<Conn>, OutOfReach> {
        self.conn.borrow().clone().ok_or_else(|| self.out_of_reach())
    }

    /// The boot that it answers from, where it does so at once; an end of the connection that nobody has heard of yet
    /// does not count.
    pub(crate) async fn answers(&self, within: Duration) -> Option<String> {
        let Some(conn) = self.conn.borrow().clone() else {
            self.wanted.notify_one();
            return None;
        };
        let asked = conn.ask(Ask::Alive {}).answer::<Timestamp>();
        tokio::time::timeout(within, asked).await.ok()?.ok()?.ok()?;
        self.link.borrow().hello.as_ref().map(|h| h.boot.clone())
    }

    /// The machines that the way to this host goes through, by all that they are called: as the client's configuration names them, and
    /// what it says of each of those itself, which may be another name for another, and have a way of its own.
    pub(crate) async fn goes_through(&self) -> Result<BTreeSet<String>, String> {
        let to = self.spec.to.as_deref().unwrap_or(&self.address);
        let mut called = BTreeSet::new();
        let mut queue = hops_in(&self.settings_for(to, self.spec.account.as_deref()).await?);
        while let Some(hop) = queue.pop() {
            if !called.insert(hop.clone()) || !may_be_a_host(&hop) {
                continue;
            }
            if called.len() > MOST_HOPS {
                return Err("its way goes through too many".to_owned());
            }
            let settings = self.settings_for(&hop, None).await?;
            queue.extend(hops_in(&settings));
            called.extend(hostname_in(&settings));
        }
        Ok(called)
    }

    /// What the client's configuration says of a name, as `ssh -G` prints it.
    async fn settings_for(&self, name: &str, account: Option<&str>) -> Result<String, String> {
        let mut ssh = tokio::process::Command::new("ssh");
        ssh.arg("-G");
        if let Some(config) = &self.spec.config {
            ssh.args(["-F", config]);
        }
        if let Some(account) = account {
            ssh.args(["-l", account]);
        }
        ssh.arg("--").arg(name).stdin(Stdio::null());
        match tokio::time::timeout(Duration::from_secs(5), ssh.kill_on_drop(true).output()).await {
            Ok(Ok(out)) if out.status.success() => Ok(String::from_utf8_lossy(&out.stdout).into_owned()),
            Ok(Ok(out)) => {
                let said = String::from_utf8_lossy(&out.stderr).lines().last().unwrap_or("nothing").trim().to_owned();
                Err(format!("ssh -G says: {said}"))
            }
            Ok(Err(e)) => Err(format!("ssh cannot be run: {e}")),
            Err(_) => Err("ssh -G does not answer".to_owned()),
        }
    }

    /// Whether it is called so: by its name, by its address, or as the client knows it.
    pub(crate) fn is_called(&self, text: &str) -> bool {
        self.host.as_str() == text.to_ascii_lowercase() || self.address == text || self.spec.to.as_deref() == Some(text)
    }

    /// Waits for the link, however long.
    async fn connected(&self) -> Arc<Conn> {
        let mut conn = self.conn.subscribe();
        loop {
            if let Some(conn) = conn.borrow_and_update().clone() {
                return conn;
            }
            self.wanted.notify_one();
            // The sender lives as long as we do.
            let _ = tokio::time::timeout(WANTED_PAUSE, conn.changed()).await;
        }
    }

    async fn once<T: DeserializeOwned>(&self, ask: Ask) -> Result<Result<T, String>, OutOfReach> {
        loop {
            let conn = self.settled().await?;
            match tokio::time::timeout(LOOKED_WITHIN, conn.ask(ask.clone()).answer()).await {
                Ok(Ok(answer)) => return Ok(answer),
                Ok(Err(Lost)) => {}
                Err(_) => return Ok(Err(format!("{} did not answer within {} s", self.host, LOOKED_WITHIN.as_secs()))),
            }
        }
    }

    /// Asks as often as the link is lost, until there is an answer.
    async fn surely<T: DeserializeOwned>(&self, ask: impl Fn() -> Ask) -> Result<T, String> {
        loop {
            if let Ok(answer) = self.connected().await.ask(ask()).answer().await {
                return answer;
            }
        }
    }
}

impl Drop for Far {
    fn drop(&mut self) {
        self.leave();
    }
}
