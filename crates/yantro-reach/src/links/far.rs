//! Another host, reached over SSH: one connection by the system's own client, one channel, and the outpost at its
//! far end. The connection is kept, and made again with growing pauses when it is lost.

use std::{
    collections::{BTreeMap, HashMap},
    process::Stdio,
    sync::{
        Arc, LazyLock, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};

use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;
use sha2::{Digest, Sha256};
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, AsyncReadExt, AsyncWriteExt, BufReader},
    process::Child,
    sync::{
        Notify, Semaphore,
        mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel},
        watch,
    },
    task::AbortHandle,
};
use yantro_core::{
    estate::{Host, Rung, Service, SshSpec, Sudo},
    name::HostName,
    proof::{Answer, UnitTerms, Verdict},
    run::{ActEnd, ActKind, LogMark},
    sequence::StepKind,
    survey::Survey,
    time::Timestamp,
};

use crate::{
    acts::recorder::{ActNews, Recorded},
    links::outbox::Outbox,
    links::quoting::shell_word,
    links::shell::{self, Incoming, Outgoing},
    links::wire::{Ask, Hello, PROTOCOL, Said, Started, Told, ToldClaim},
    looks::climb::{Climb, Report},
    looks::hung,
    looks::logs::{LogFollow, LogLine},
    looks::look::RawLook,
};

/// The processor that the outpost was built for.
const OUTPOST_FOR: &str = std::env::consts::ARCH;
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

/// The outpost that is carried, with its hash.
struct Carried {
    program: std::borrow::Cow<'static, [u8]>,
    hash: String,
}

/// A release has it built in; other builds have it beside them.
#[cfg(carries_outpost)]
fn program() -> Result<std::borrow::Cow<'static, [u8]>, Trouble> {
    Ok(std::borrow::Cow::Borrowed(include_bytes!(env!("YANTRO_OUTPOST"))))
}

#[cfg(not(carries_outpost))]
fn program() -> Result<std::borrow::Cow<'static, [u8]>, Trouble> {
    let exe = std::env::current_exe().unwrap_or_default();
    let found = exe.ancestors().skip(1).take(2).map(|dir| dir.join("yantro-outpost")).find(|p| p.is_file());
    found.and_then(|p| std::fs::read(p).ok()).map(std::borrow::Cow::Owned).ok_or_else(|| Trouble {
        why: "this build of Yantro has no outpost beside it".to_owned(),
        mend: "build it too: `cargo build --workspace --bins`".to_owned(),
    })
}

fn carried() -> Result<&'static Carried, Trouble> {
    static CARRIED: LazyLock<Result<Carried, Trouble>> = LazyLock::new(|| {
        let program = program()?;
        let hash = Sha256::digest(&program).iter().map(|b| format!("{b:02x}")).collect();
        Ok(Carried { program, hash })
    });
    CARRIED.as_ref().map_err(Clone::clone)
}

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

/// What is wrong with a link, and how to mend it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    /// What.
    pub why: String,
    /// How to mend it.
    pub mend: String,
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

/// A connection that stands.
struct Conn {
    out: Outbox,
    asked: Mutex<Option<HashMap<u64, UnboundedSender<Heard>>>>,
    next: AtomicU64,
    heard_at: Mutex<Instant>,
}

enum Heard {
    Tell(Value),
    Answer(Result<Value, String>),
}

/// A request that goes on. Dropped before its answer, it is broken off.
struct Asked {
    conn: Arc<Conn>,
    id: u64,
    heard: UnboundedReceiver<Heard>,
    answered: bool,
}

/// The connection was lost.
#[derive(Debug)]
struct Lost;

impl Conn {
    fn ask(self: &Arc<Self>, ask: Ask) -> Asked {
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let (tell, heard) = unbounded_channel();
        let stands = self.asked.lock().unwrap_or_else(PoisonError::into_inner).as_mut().map(|asked| asked.insert(id, tell)).is_some();
        if stands {
            self.out.say(&Told::Ask(id, Box::new(ask)).line());
        }
        Asked { conn: Arc::clone(self), id, heard, answered: false }
    }

    fn take(&self, said: Said) {
        *self.heard_at.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(asked) = asked.as_mut() else { return };
        match said {
            Said::Tell(of, what) => {
                if let Some(who) = asked.get(&of) {
                    let _ = who.send(Heard::Tell(what));
                }
            }
            Said::Answer(of, answer) => {
                if let Some(who) = asked.remove(&of) {
                    let _ = who.send(Heard::Answer(answer));
                }
            }
            Said::Ready(_) => {}
        }
    }

    /// Everybody who waits hears that it is lost.
    fn lost(&self) {
        *self.asked.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

impl Asked {
    async fn next(&mut self) -> Result<Heard, Lost> {
        let heard = self.heard.recv().await.ok_or(Lost)?;
        self.answered |= matches!(heard, Heard::Answer(_));
        Ok(heard)
    }

    async fn answer<T: DeserializeOwned>(mut self) -> Result<Result<T, String>, Lost> {
        loop {
            if let Heard::Answer(answer) = self.next().await? {
                return Ok(answer.and_then(|v| serde_json::from_value(v).map_err(|e| format!("not understood: {e}"))));
            }
        }
    }
}

impl Drop for Asked {
    fn drop(&mut self) {
        if !self.answered {
            if let Some(asked) = self.conn.asked.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                asked.remove(&self.id);
            }
            self.conn.out.say(&Told::Leave(self.id).line());
        }
    }
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

    /// The hosts that the SSH client goes through to come there, as its own configuration has it.
    pub(crate) async fn goes_through(&self) -> Result<Vec<String>, String> {
        let mut ssh = tokio::process::Command::new("ssh");
        ssh.arg("-G");
        if let Some(config) = &self.spec.config {
            ssh.args(["-F", config]);
        }
        if let Some(account) = &self.spec.account {
            ssh.args(["-l", account]);
        }
        ssh.arg("--").arg(self.spec.to.as_deref().unwrap_or(&self.address)).stdin(Stdio::null()).stderr(Stdio::null());
        let out = match tokio::time::timeout(Duration::from_secs(5), ssh.kill_on_drop(true).output()).await {
            Ok(Ok(out)) if out.status.success() => out,
            Ok(Ok(out)) => {
                let said = String::from_utf8_lossy(&out.stderr).lines().last().unwrap_or("nothing").trim().to_owned();
                return Err(format!("ssh -G says: {said}"));
            }
            Ok(Err(e)) => return Err(format!("ssh cannot be run: {e}")),
            Err(_) => return Err("ssh -G does not answer".to_owned()),
        };
        Ok(hops_in(&String::from_utf8_lossy(&out.stdout)))
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

    /// Looks at services, each with the identity of the act that started it.
    pub(crate) async fn look(&self, services: Vec<(Arc<Service>, Option<String>)>) -> Result<Vec<RawLook>, OutOfReach> {
        self.once(Ask::Look { services }).await?.map_err(|why| OutOfReach { host: self.host.clone(), why })
    }

    /// Looks once at something that is no service's.
    pub(crate) async fn look_once(&self, rung: &Rung) -> Answer {
        match self.once(Ask::LookOnce { host: self.host.clone(), rung: rung.clone() }).await {
            Ok(Ok(answer)) => answer,
            Ok(Err(why)) => Answer::could_not(why),
            Err(out) => Answer::could_not(out.to_string()),
        }
    }

    /// What is written down of an act; waits for the link.
    pub(crate) async fn recorded(&self, identity: &str) -> Recorded {
        loop {
            match self.surely(|| Ask::Recorded { identity: identity.to_owned() }).await {
                Ok(recorded) => return recorded,
                Err(why) => {
                    tracing::warn!(host = %self.host, %why, "an act's record could not be asked for");
                    tokio::time::sleep(WANTED_PAUSE).await;
                }
            }
        }
    }

    /// Takes an act's identity out of use there, and says whether it had not begun; waits for the link.
    pub(crate) async fn burn(&self, identity: &str) -> Result<bool, String> {
        self.surely(|| Ask::Burn { identity: identity.to_owned() }).await
    }

    /// Ends what an act started; waits for the link.
    pub(crate) async fn end(&self, identity: &str) {
        let _ = self.surely::<Value>(|| Ask::End { identity: identity.to_owned() }).await;
    }

    /// Gives an act and follows it to its end, over any loss of the link: what was sent is looked for before it is
    /// given again, under the same identity, which the far side lets begin only once.
    pub(crate) async fn act(
        &self,
        identity: &str,
        kind: ActKind,
        service: &Arc<Service>,
        started: Option<String>,
        claim: impl Fn() -> ToldClaim,
        tell: impl Fn(ActNews) + Send + Sync + 'static,
    ) -> Result<(), ActEnd> {
        let (asked_at, mut sent, mut begun) = (Instant::now(), false, false);
        loop {
            let conn = if sent {
                self.connected().await
            } else {
                match tokio::time::timeout(ACT_WAITS, self.connected()).await {
                    Ok(conn) => conn,
                    Err(_) => {
                        let out = self.out_of_reach();
                        let mend = self.link.borrow().mend.clone().unwrap_or_else(|| "see that the host answers, and try again".to_owned());
                        return Err(refused(Trouble { why: format!("{out}; nothing was given"), mend }));
                    }
                }
            };
            if sent {
                let Ok(recorded) = conn.ask(Ask::Recorded { identity: identity.to_owned() }).answer::<Recorded>().await else { continue };
                match recorded.map_err(|why| refused(Trouble { why, mend: "see the host's own log".to_owned() }))? {
                    Recorded::Nothing if asked_at.elapsed() > again_within(kind, service) => {
                        // Too late to be given now; and what may still be on its way must not arrive either.
                        match self.surely::<bool>(|| Ask::Burn { identity: identity.to_owned() }).await {
                            Ok(true) => {
                                let why =
                                    format!("the link to {} was lost before it arrived there, for too long; it was not given", self.host);
                                return Err(refused(Trouble { why, mend: "try again".to_owned() }));
                            }
                            _ => continue,
                        }
                    }
                    Recorded::Nothing => {}
                    Recorded::Burnt => {
                        let why = "it was taken out of use before it began".to_owned();
                        return Err(refused(Trouble { why, mend: "try again".to_owned() }));
                    }
                    Recorded::OnlyFolder => {
                        tokio::time::sleep(Duration::from_millis(100)).await;
                        if let Ok(Ok(Recorded::OnlyFolder)) =
                            conn.ask(Ask::Recorded { identity: identity.to_owned() }).answer::<Recorded>().await
                            && asked_at.elapsed() > Duration::from_secs(5)
                        {
                            tell(ActNews::Lost(
                                "it was about to begin when the link was lost, and nothing more is written down".to_owned(),
                            ));
                            return Ok(());
                        }
                        continue;
                    }
                    Recorded::Begun(record) => {
                        if let Some(how) = record.begun.clone().filter(|_| !begun) {
                            begun = true;
                            tell(ActNews::Begun(Box::new(how), Box::new(record)));
                        }
                        if self.follow_now(&conn, identity, &tell).await.is_ok() {
                            return Ok(());
                        }
                        continue;
                    }
                    Recorded::Ended(record, end) => {
                        if let Some(record) = record
                            && let Some(how) = record.begun.clone().filter(|_| !begun)
                        {
                            tell(ActNews::Begun(Box::new(how), Box::new(record)));
                        }
                        tell(ActNews::Ended(end));
                        return Ok(());
                    }
                }
            }
            sent = true;
            let mut asked = {
                // Counters go up in the order in which they are sent.
                let _turn = self.claims.lock().unwrap_or_else(PoisonError::into_inner);
                conn.ask(Ask::Act {
                    identity: identity.to_owned(),
                    kind,
                    service: Arc::clone(service),
                    started: started.clone(),
                    claim: claim(),
                })
            };
            let mut ended = false;
            loop {
                match asked.next().await {
                    Ok(Heard::Tell(what)) => {
                        let Ok(news) = serde_json::from_value::<ActNews>(what) else { continue };
                        begun |= matches!(news, ActNews::Begun(..));
                        ended |= matches!(news, ActNews::Ended(_) | ActNews::Lost(_));
                        tell(news);
                    }
                    Ok(Heard::Answer(Ok(answer))) => {
                        if let Some(kept) = answer.get("kept") {
                            let why = kept["says"].as_str().unwrap_or_default().to_owned();
                            let mend =
                                kept["mend"].as_str().map_or_else(|| format!("yantro take-over {} --why …", self.host), str::to_owned);
                            return Err(refused(Trouble { why, mend }));
                        }
                        return Ok(());
                    }
                    Ok(Heard::Answer(Err(why))) => {
                        return Err(refused(Trouble { why, mend: "see what the host said, mend it, and try again".to_owned() }));
                    }
                    Err(Lost) if ended => return Ok(()),
                    Err(Lost) => break,
                }
            }
        }
    }

    async fn follow_now(&self, conn: &Arc<Conn>, identity: &str, tell: &impl Fn(ActNews)) -> Result<(), Lost> {
        let mut asked = conn.ask(Ask::Follow { identity: identity.to_owned() });
        loop {
            match asked.next().await? {
                Heard::Tell(what) => {
                    if let Ok(news) = serde_json::from_value::<ActNews>(what) {
                        tell(news);
                    }
                }
                Heard::Answer(_) => return Ok(()),
            }
        }
    }

    /// Follows an act that an earlier server gave, over any loss of the link.
    pub(crate) async fn follow(&self, identity: &str, tell: impl Fn(ActNews) + Send + Sync + 'static) {
        loop {
            let conn = self.connected().await;
            if self.follow_now(&conn, identity, &tell).await.is_ok() {
                return;
            }
        }
    }

    /// Climbs until dropped, over any loss of the link.
    pub(crate) async fn climb(&self, mut climb: Climb, mut report: impl FnMut(Report)) {
        let rungs = climb.service.ladder_of(climb.kind).len();
        let since = climb.since;
        loop {
            let conn = match self.now_connected() {
                Ok(conn) => conn,
                Err(out) => {
                    let rung = climb.from.min(rungs.saturating_sub(1)) as u32;
                    report(Report { rung, answer: Answer::could_not(out.to_string()), logs: Vec::new() });
                    self.connected().await
                }
            };
            // What a file's time is held against is the host's own clock.
            climb.since = self.by_its_clock(since);
            let mut asked = conn.ask(Ask::Climb(Box::new(climb.clone())));
            loop {
                match asked.next().await {
                    Ok(Heard::Tell(what)) => {
                        let Ok(told) = serde_json::from_value::<Report>(what) else { continue };
                        climb.from = told.rung as usize + usize::from(told.answer.verdict == Verdict::Holds);
                        report(told);
                    }
                    Ok(Heard::Answer(Ok(_))) => return,
                    Ok(Heard::Answer(Err(why))) => {
                        let rung = climb.from.min(rungs.saturating_sub(1)) as u32;
                        return report(Report { rung, answer: Answer::could_not(why), logs: Vec::new() });
                    }
                    Err(Lost) => break,
                }
            }
        }
    }

    /// One of our instants as the host's clock had it.
    fn by_its_clock(&self, at: Timestamp) -> Timestamp {
        Timestamp::from_ms(at.as_ms() + self.link.borrow().clock_ahead_ms.unwrap_or_default())
    }

    /// Watches the logs of an act for forbidden lines, over any loss of the link.
    pub(crate) async fn watch_log(&self, service: &Arc<Service>, kind: StepKind, marks: &BTreeMap<String, LogMark>) -> Option<Report> {
        let ask = || Ask::WatchLog { service: Arc::clone(service), kind, marks: marks.clone() };
        self.surely::<Option<Report>>(ask).await.ok().flatten()
    }

    /// Looks through the host.
    pub(crate) async fn survey(&self) -> Result<Survey, String> {
        self.once(Ask::Survey {}).await.map_err(|e| e.to_string())?
    }

    /// On what terms the host's manager acts on units.
    pub(crate) async fn terms(&self, units: Vec<String>) -> BTreeMap<String, UnitTerms> {
        self.once(Ask::Terms { units }).await.ok().and_then(Result::ok).unwrap_or_default()
    }

    /// Why services' restarts are owed by what lies on disk; nothing where the host does not answer.
    pub(crate) async fn owed_by_files(&self, services: Vec<Started>) -> Vec<Option<String>> {
        let services = services.into_iter().map(|(s, at, pid)| (s, self.by_its_clock(at), pid)).collect();
        match self.once(Ask::OwedByFiles { services }).await {
            Ok(Ok(owed)) => owed,
            _ => Vec::new(),
        }
    }

    /// Why this server must not act there; `None` where it may, or where that cannot be asked now.
    pub(crate) async fn kept(&self, claim: ToldClaim) -> Option<(String, bool)> {
        let kept: Value = self.once(Ask::MayActOn { claim }).await.ok()?.ok()?;
        Some((kept["says"].as_str()?.to_owned(), kept["doubts"].as_bool()?))
    }

    /// Takes the host over.
    pub(crate) async fn take_over(&self, claim: ToldClaim) -> Result<(), String> {
        let kept: Value = self.once(Ask::TakeOver { claim }).await.map_err(|e| e.to_string())??;
        kept["says"].as_str().map_or(Ok(()), |says| Err(says.to_owned()))
    }

    /// Opens a log for a reader.
    pub(crate) async fn open_log(&self, path: &str, since: Option<LogMark>, lines: usize) -> Result<(LogFollow, Vec<LogLine>), String> {
        self.once(Ask::OpenLog { path: path.to_owned(), since, lines }).await.map_err(|e| e.to_string())?
    }

    /// What a file has from a position on.
    pub(crate) async fn read_from(&self, path: &str, from: Option<u64>) -> Result<(u64, String), String> {
        self.once(Ask::ReadFrom { path: path.to_owned(), from }).await.map_err(|e| e.to_string())?
    }

    /// Reads on.
    pub(crate) async fn read_log(&self, follow: LogFollow) -> Result<(LogFollow, Vec<LogLine>), String> {
        self.once(Ask::ReadLog { follow }).await.map_err(|e| e.to_string())?
    }
}

impl Drop for Far {
    fn drop(&mut self) {
        self.leave();
    }
}

/// The host of a jump: `account@host:port`, or `ssh://…`.
/// The machines that a client's settings come through, as `ssh -G` prints them: those of `ProxyJump`, and whatever a
/// `ProxyCommand` names.
fn hops_in(settings: &str) -> Vec<String> {
    let jumps = settings.lines().filter_map(|l| l.strip_prefix("proxyjump ")).flat_map(|j| j.split(','));
    let words = settings.lines().filter_map(|l| l.strip_prefix("proxycommand ")).flat_map(str::split_whitespace);
    jumps.chain(words).filter(|word| *word != "none").map(hop).collect()
}

fn hop(jump: &str) -> String {
    let jump = jump.trim().trim_start_matches("ssh://");
    let host = jump.rsplit_once('@').map_or(jump, |(_, h)| h);
    match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or(rest).to_owned(),
        None => host.split(':').next().unwrap_or(host).to_owned(),
    }
}

/// A connection as it was opened.
struct Opened {
    child: Child,
    stdin: Outgoing,
    lines: Incoming,
    stderr: Arc<Mutex<String>>,
    hello: Hello,
}

/// What the account's shell does on the far side. An outpost that is installed there comes first; else the one of this
/// build in the account's cache folder, which is carried over where it is missing, and believed by its hash only.
fn script(spec: &SshSpec, carried: &Carried) -> String {
    let sudo = match spec.sudo {
        Some(Sudo::Outpost) => "sudo -n -- ",
        Some(Sudo::Acts) | None => "",
    };
    let installed = spec.outpost.as_deref().map_or_else(|| "/usr/local/lib/yantro/outpost".to_owned(), str::to_owned);
    let (want, size) = (&carried.hash, carried.program.len());
    let inner = format!(
        r#"umask 077; i={installed}; if [ -x "$i" ] && [ "$("$i" --protocol 2>/dev/null)" = {PROTOCOL} ]; then exec {sudo}"$i"; fi; d="${{XDG_CACHE_HOME:-$HOME/.cache}}/yantro"; f="$d/outpost-{want}"; is() {{ [ -x "$1" ] && [ "$(sha256sum < "$1" | cut -d" " -f1)" = {want} ]; }}; if ! is "$f"; then echo "yantro-outpost need $(uname -sm)"; mkdir -p "$d" || exit 71; head -c {size} > "$f.$$" || {{ rm -f "$f.$$"; exit 72; }}; chmod 700 "$f.$$"; is "$f.$$" || {{ rm -f "$f.$$"; exit 73; }}; mv "$f.$$" "$f" || exit 72; fi; exec {sudo}"$f""#,
        installed = shell_word(&installed),
    );
    format!("exec sh -c {}", shell_word(&inner))
}

/// A channel that the SSH client opened, to whatever runs at its far end.
struct Channel {
    child: Child,
    stdin: Outgoing,
    lines: Incoming,
    stderr: Arc<Mutex<String>>,
}

impl Channel {
    /// Why nothing came of it, from what was said.
    async fn not_opened(&mut self, address: &str, spec: &SshSpec) -> (Option<i32>, Trouble) {
        let code = ended(&mut self.child).await;
        // What it said comes over another pipe.
        tokio::time::sleep(Duration::from_millis(20)).await;
        let said = self.stderr.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let trouble = trouble_of(address, spec, code, &said).unwrap_or(Trouble {
            why: format!("the outpost did not begin{}", said.lines().last().map(|l| format!(": {l}")).unwrap_or_default()),
            mend: format!("see what `ssh {address}` does"),
        });
        (code, trouble)
    }
}

/// Has the SSH client run something there.
fn channel(address: &str, spec: &SshSpec, remote: &str) -> Result<Channel, Trouble> {
    let mut ssh = tokio::process::Command::new("ssh");
    // People's own configuration holds; what is set here is what it must not change: keys of hosts are checked, nobody
    // is asked for anything, and the connection is ours alone.
    ssh.args(["-T", "-x", "-a"]);
    for option in [
        "BatchMode=yes",
        "StrictHostKeyChecking=yes",
        "ControlMaster=no",
        "ControlPath=none",
        "ClearAllForwardings=yes",
        "PermitLocalCommand=no",
        "EscapeChar=none",
        "ConnectTimeout=10",
    ] {
        ssh.args(["-o", option]);
    }
    if let Some(config) = &spec.config {
        ssh.args(["-F", config]);
    }
    if let Some(known) = &spec.known_hosts {
        // Several files may stand there, apart by blanks: ssh_config(5).
        ssh.args(["-o", &format!("UserKnownHostsFile=\"{}\"", known.replace('%', "%%"))]);
    }
    if let Some(key) = &spec.key {
        ssh.args(["-o", "IdentitiesOnly=yes", "-i", key]);
    }
    if let Some(port) = spec.port {
        ssh.args(["-p", &port.to_string()]);
    }
    if let Some(account) = &spec.account {
        ssh.args(["-l", account]);
    }
    ssh.arg("--").arg(spec.to.as_deref().unwrap_or(address)).arg(remote);
    let spawned = ssh.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0).kill_on_drop(true).spawn();
    let mut child = spawned.map_err(|e| Trouble {
        why: format!("the SSH client cannot be run: {e}"),
        mend: "install OpenSSH's client where Yantro runs (Debian: openssh-client)".to_owned(),
    })?;
    let stdin: Outgoing = Box::new(child.stdin.take().expect("piped above"));
    let stdout: Box<dyn AsyncRead + Send + Unpin> = Box::new(child.stdout.take().expect("piped above"));
    let lines = BufReader::new(stdout).lines();
    let stderr: Arc<Mutex<String>> = Arc::default();
    let heard = Arc::clone(&stderr);
    let mut errors = child.stderr.take().expect("piped above");
    tokio::spawn(async move {
        let mut buffer = [0u8; 4096];
        while let Ok(n @ 1..) = errors.read(&mut buffer).await {
            let mut heard = heard.lock().unwrap_or_else(PoisonError::into_inner);
            heard.push_str(&String::from_utf8_lossy(&buffer[..n]));
            // The end says most.
            let cut = heard.len().saturating_sub(8192);
            if cut > 0 {
                let from = (cut..heard.len()).find(|i| heard.is_char_boundary(*i)).unwrap_or(heard.len());
                heard.drain(..from);
            }
        }
    });
    Ok(Channel { child, stdin, lines, stderr })
}

/// A plain shell in the place of an outpost that cannot run there.
async fn open_shell(address: &str, spec: &SshSpec) -> Result<Opened, Trouble> {
    let mut channel = channel(address, spec, &format!("exec sh -c {}", shell_word(shell::SERVE)))?;
    loop {
        let Ok(Some(line)) = channel.lines.next_line().await else { return Err(channel.not_opened(address, spec).await.1) };
        if line.trim() == "yantro-shell ready" {
            break;
        }
    }
    let Channel { child, stdin, lines, stderr } = channel;
    let begun = shell::begin(stdin, lines, spec.sudo.is_some()).await;
    let (hello, stdin, lines) = begun
        .map_err(|why| Trouble { why: format!("its plain shell cannot be used: {why}"), mend: format!("see what `ssh {address}` does") })?;
    Ok(Opened { child, stdin, lines, stderr, hello })
}

/// Opens a connection. `unfit` says whether the outpost is known not to run there, and is set where that is found out.
async fn open(address: &str, spec: &SshSpec, server: &str, unfit: &AtomicBool) -> Result<Opened, Trouble> {
    if unfit.load(Ordering::Relaxed) {
        return open_shell(address, spec).await;
    }
    let carried = carried()?;
    let mut channel = channel(address, spec, &script(spec, carried))?;
    let not_opened = async |channel: &mut Channel| -> Trouble {
        let (code, trouble) = channel.not_opened(address, spec).await;
        // Neither its processor nor its library takes it; a shell says so by these codes.
        let said = channel.stderr.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let is_unfit =
            said.contains("Exec format error") || said.contains("cannot execute") || (code == Some(127) && said.contains("outpost"));
        unfit.fetch_or(is_unfit, Ordering::Relaxed);
        trouble
    };
    loop {
        let Ok(Some(line)) = channel.lines.next_line().await else { return Err(not_opened(&mut channel).await) };
        if let Some(Said::Ready(protocol)) = Said::read(&line) {
            if protocol != PROTOCOL {
                return Err(Trouble {
                    why: format!("the outpost there speaks version {protocol}, and this server version {PROTOCOL}"),
                    mend: "install this version's outpost there, or take the installed one away".to_owned(),
                });
            }
            break;
        }
        if let Some(system) = line.strip_prefix("yantro-outpost need ") {
            if system.trim() != format!("Linux {OUTPOST_FOR}") {
                unfit.store(true, Ordering::Relaxed);
                return Err(Trouble {
                    why: format!("the outpost that is carried runs on Linux {OUTPOST_FOR}, and this host is {}", system.trim()),
                    mend: "build the outpost there (`cargo build --release` in outpost/), and install it as /usr/local/lib/yantro/outpost"
                        .to_owned(),
                });
            }
            if channel.stdin.write_all(&carried.program).await.is_err() || channel.stdin.flush().await.is_err() {
                return Err(not_opened(&mut channel).await);
            }
        }
    }
    let hello = Told::Ask(0, Box::new(Ask::Hello { server: server.to_owned(), sudo: spec.sudo == Some(Sudo::Acts) }));
    if channel.stdin.write_all(hello.line().as_bytes()).await.is_err() {
        return Err(not_opened(&mut channel).await);
    }
    loop {
        let Ok(Some(line)) = channel.lines.next_line().await else { return Err(not_opened(&mut channel).await) };
        match Said::read(&line) {
            Some(Said::Answer(0, Ok(answer))) => {
                let hello = serde_json::from_value(answer).map_err(|e| Trouble {
                    why: format!("the outpost there is not understood: {e}"),
                    mend: "install this version's outpost there, or take the installed one away".to_owned(),
                })?;
                let Channel { child, stdin, lines, stderr } = channel;
                return Ok(Opened { child, stdin, lines, stderr, hello });
            }
            Some(Said::Answer(0, Err(why))) => {
                return Err(Trouble { why: format!("the outpost there cannot begin: {why}"), mend: "mend that on the host".to_owned() });
            }
            _ => {}
        }
    }
}

async fn ended(child: &mut Child) -> Option<i32> {
    match tokio::time::timeout(Duration::from_secs(2), child.wait()).await {
        Ok(status) => status.ok().and_then(|s| s.code()),
        Err(_) => {
            let _ = child.start_kill();
            None
        }
    }
}

/// A path as a word of a shell, as it is where that means nothing to one.
fn quoted(path: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+@:".contains(c);
    if path.chars().all(plain) { path.to_owned() } else { shell_word(path) }
}

/// What the SSH client, the shell or `sudo` said, in words, with the mend.
fn trouble_of(address: &str, spec: &SshSpec, code: Option<i32>, said: &str) -> Option<Trouble> {
    let to = spec.to.as_deref().unwrap_or(address);
    let account = spec.account.as_deref().map_or_else(|| "the account".to_owned(), |a| format!("account {a}"));
    let has = |text: &str| said.contains(text);
    // The file that is really asked, and the name that it has the key under: both can be pasted.
    let known = spec.known_hosts.as_deref().map_or_else(|| "~/.ssh/known_hosts".to_owned(), quoted);
    let named = spec.port.filter(|p| *p != 22).map_or_else(|| to.to_owned(), |port| format!("'[{to}]:{port}'"));
    let at = spec.port.filter(|p| *p != 22).map_or_else(String::new, |port| format!("-p {port} "));
    let scan = format!("ssh-keyscan {at}{to} >> {known}");
    let trouble = |why: String, mend: String| Some(Trouble { why, mend });
    if has("REMOTE HOST IDENTIFICATION HAS CHANGED") {
        return trouble(
            "its host key is not the one that is known: it was made anew, or somebody stands in between".to_owned(),
            format!(
                "compare its fingerprint on the host's own console; only where it is right, `ssh-keygen -f {known} -R {named}` and add the new one: `{scan}`"
            ),
        );
    }
    if has("Host key verification failed") || has("host key is known for") {
        return trouble(
            "its host key is not known yet".to_owned(),
            format!("compare its fingerprint on the host's own console, then add it: `{scan}`"),
        );
    }
    if has("Permission denied") {
        return trouble(
            format!("it accepts no key of ours for {account}"),
            "put the public key into that account's authorized_keys; see that the private one, or an agent that has it, is there"
                .to_owned(),
        );
    }
    if has("sudo:") {
        let last = said.lines().rev().find(|l| l.contains("sudo:")).unwrap_or_default();
        return trouble(
            format!("sudo is refused to {account}: {}", last.trim_start_matches("sudo:").trim()),
            "allow it without a password for the outpost, by a file in /etc/sudoers.d; docs/hosts.md has one".to_owned(),
        );
    }
    if has("No space left on device") || matches!(code, Some(72)) {
        return trouble(
            "its disk is full: the outpost cannot be put there".to_owned(),
            "make room in the account's cache folder".to_owned(),
        );
    }
    if matches!(code, Some(71)) {
        return trouble(
            "the account's cache folder cannot be made".to_owned(),
            "give the account a home folder that it may write to, or install the outpost there".to_owned(),
        );
    }
    if matches!(code, Some(73)) {
        return trouble("the outpost did not arrive whole".to_owned(), "it is carried again by itself".to_owned());
    }
    if has("Exec format error") || has("cannot execute binary") || code == Some(126) {
        return trouble(
            "the outpost cannot be run there: another processor, or a file system that lets nothing run".to_owned(),
            "install one that fits as /usr/local/lib/yantro/outpost".to_owned(),
        );
    }
    for (text, why) in [
        ("Connection refused", "nothing answers on its SSH port"),
        ("No route to host", "there is no way to it"),
        ("Network is unreachable", "there is no way to it"),
        ("timed out", "it does not answer"),
        ("Could not resolve hostname", "its name is not known here"),
        ("Connection reset", "it ended the connection"),
        ("Connection closed", "it ended the connection"),
    ] {
        if has(text) {
            return trouble(format!("{why} ({to})"), "see whether the host is on, its SSH server, and the way there".to_owned());
        }
    }
    let last = said.lines().rev().find(|l| !l.trim().is_empty())?;
    trouble(last.trim().to_owned(), format!("see what `ssh {to}` says"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::changed_key(
        "@@@ WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED! @@@\nHost key verification failed.",
        Some(255),
        "host key is not the one that is known",
        "ssh-keygen -f '/etc/yantro/known hosts' -R '[10.77.0.11]:2222'` and add the new one: `ssh-keyscan -p 2222 10.77.0.11 >> '/etc/yantro/known hosts'`"
    )]
    #[case::unknown_key(
        "No ED25519 host key is known for 10.77.0.11 and you have requested strict checking.\nHost key verification failed.",
        Some(255),
        "not known yet",
        "ssh-keyscan -p 2222 10.77.0.11 >> '/etc/yantro/known hosts'"
    )]
    #[case::key(
        "yantro@10.77.0.11: Permission denied (publickey).",
        Some(255),
        "accepts no key of ours for account yantro",
        "authorized_keys"
    )]
    #[case::sudo("sudo: a password is required", Some(1), "sudo is refused to account yantro: a password is required", "sudoers.d")]
    #[case::disk("head: error writing 'standard output': No space left on device", Some(72), "disk is full", "make room")]
    #[case::off("ssh: connect to host 10.77.0.11 port 22: No route to host", Some(255), "no way to it", "on")]
    #[case::processor("sh: 1: /x/outpost: Exec format error", Some(126), "another processor", "install one that fits")]
    #[case::else_what_it_said("one\nsomething odd\n\n", Some(255), "something odd", "ssh 10.77.0.11")]
    fn trouble_is_told_with_its_mend(#[case] said: &str, #[case] code: Option<i32>, #[case] why: &str, #[case] mend: &str) {
        let known_hosts = Some("/etc/yantro/known hosts".into());
        let spec = SshSpec { account: Some("yantro".into()), port: Some(2222), known_hosts, ..SshSpec::default() };
        let trouble = trouble_of("10.77.0.11", &spec, code, said).unwrap();
        assert!(trouble.why.contains(why) && trouble.mend.contains(mend), "{trouble:?}");
    }

    #[rstest]
    #[case::none("user root\nproxyjump none\nport 22\n", &[])]
    #[case::one("proxyjump maren@harbour:2222\n", &["harbour"])]
    #[case::two("proxyjump ssh://quay,[fd00::2]:22\n", &["quay", "fd00::2"])]
    #[case::by_a_command("proxycommand ssh -W %h:%p maren@harbour\n", &["ssh", "-W", "%h", "harbour"])]
    fn the_machines_come_through_are_told(#[case] settings: &str, #[case] hops: &[&str]) {
        assert_eq!(hops_in(settings), hops);
    }

    #[test]
    fn what_the_far_shell_does_is_one_word_to_any_shell() {
        let carried = Carried { program: b"x".as_slice().into(), hash: "00ff".into() };
        let text = script(&SshSpec { outpost: Some("/opt/it's here".into()), ..SshSpec::default() }, &carried);
        let echoed = std::process::Command::new("sh").args(["-c", &text.replacen("exec sh -c", "printf %s", 1)]).output().unwrap();
        let inner = String::from_utf8(echoed.stdout).unwrap();
        assert!(inner.contains(r"'/opt/it'\''s here'") && inner.ends_with(r#""$f""#), "{inner}");
    }
}
