//! This machine: acts given and looks taken from where Yantro itself runs.

mod prepare;

use std::{
    collections::{BTreeMap, BTreeSet},
    io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, OnceLock},
    time::{Duration, Instant},
};

use serde_json::json;
use yantro_core::{
    model::{Service, ServiceRunner},
    proof::Answer,
    run::{ActEnd, ActKind},
};

use crate::{
    acts::accounts::{self, Account},
    acts::leave::Spares,
    acts::recorder::{self, ActNews, ActRecord, Program, Recorded},
    acts::secrets::Secrets,
    links::keeper::{Claim, Keepers, Kept},
    looks::files::FileEvents,
    looks::procs::{Ours, ProcessId},
    looks::rungs::root_cause,
    looks::tree::Round,
    looks::units::Units,
};

/// Why this machine cannot be worked on.
#[derive(Debug, thiserror::Error)]
pub enum HereError {
    /// The recorder cannot be put in place.
    #[error("the recorder cannot be put into {folder}")]
    Recorder {
        /// The folder.
        folder: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// No HTTP client can be made.
    #[error("no HTTP client can be made for looking at pages")]
    Http(#[from] reqwest::Error),
}

/// The machine that Yantro runs on.
pub struct Here {
    acts: PathBuf,
    outputs: PathBuf,
    recorder: Program,
    /// Recorders for what stays: they have left the server's control group.
    spares: Arc<Spares>,
    /// Made when the first page wants it: it reads all certificates that the system believes, and there may be none.
    verified: OnceLock<reqwest::Client>,
    unverified: reqwest::Client,
    secrets: Arc<Mutex<Secrets>>,
    pub(crate) files: FileEvents,
    pub(crate) ours: Ours,
    keepers: Keepers,
    pub(crate) units: Arc<Units>,
    /// Acts that take another account go through `sudo -n` (an account's outpost, where the estate says so).
    sudo: bool,
}

/// An act to be given.
pub struct ActSpec<'a> {
    /// Its identity on this machine: the folder it is recorded in.
    pub identity: &'a str,
    /// What it does.
    pub kind: ActKind,
    /// To which service.
    pub service: &'a Arc<Service>,
    /// The start that the service runs by now, where one is known.
    pub known: Option<&'a ActRecord>,
}

/// Asks for pages, and follows nothing that they lead to.
fn page_client(verify_tls: bool) -> reqwest::Result<reqwest::Client> {
    reqwest::Client::builder()
        .danger_accept_invalid_certs(!verify_tls)
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        // Who reads a service's own log can tell looks from users.
        .user_agent(concat!("yantro-look/", env!("CARGO_PKG_VERSION")))
        .dns_resolver(Arc::new(accounts::Names))
        .pool_max_idle_per_host(0)
        .build()
}

impl Here {
    /// Prepares this machine, keeping records below `data`. Must be called within a tokio runtime.
    /// Which server acts on a host is written down in `host_records`, the same for all servers here.
    #[cfg(feature = "recorder")]
    pub fn new(data: &Path, host_records: &Path) -> Result<Self, HereError> {
        Self::with(data, host_records, recorder::install)
    }

    /// The same for a program that is a recorder besides.
    pub(crate) fn of_own_program(data: &Path, host_records: &Path) -> Result<Self, HereError> {
        Self::with(data, host_records, recorder::install_own)
    }

    fn with(data: &Path, host_records: &Path, install: fn(&Path) -> io::Result<Program>) -> Result<Self, HereError> {
        let folder = data.join("bin");
        let recorder = install(&folder).map_err(|source| HereError::Recorder { folder, source })?;
        for below in ["acts", "output"] {
            let folder = data.join(below);
            std::fs::create_dir_all(&folder)
                .and_then(|()| keep_from_others(&folder))
                .map_err(|source| HereError::Recorder { folder: folder.clone(), source })?;
        }
        keep_from_others(data).map_err(|source| HereError::Recorder { folder: data.to_path_buf(), source })?;
        // An error means that somebody installed one before: either will do.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let units: Arc<Units> = Arc::default();
        Ok(Self {
            acts: data.join("acts"),
            outputs: data.join("output"),
            spares: Arc::new(Spares::new(recorder.clone(), Arc::clone(&units))),
            recorder,
            verified: OnceLock::new(),
            unverified: page_client(false)?,
            secrets: Arc::default(),
            files: FileEvents::new(),
            ours: Ours::default(),
            keepers: Keepers::new(host_records),
            units,
            sudo: false,
        })
    }

    /// Whether acts as another account go through `sudo -n`.
    pub(crate) fn acts_by_sudo(&self) -> bool {
        self.sudo
    }

    /// Whether what is started here goes on when this program ends.
    pub(crate) fn outlives(&self) -> Answer {
        match self.spares.can_leave() {
            Ok(how) => Answer::holds(how),
            Err(why) => Answer::not_yet(format!("{why}: {}", recorder::mend_of(&why))),
        }
    }

    /// Where acts are written down.
    pub(crate) fn acts_folder(&self) -> &Path {
        &self.acts
    }

    /// What asks for a page at this address.
    ///
    /// # Errors
    /// In words: whom it is to believe cannot be found out.
    pub(crate) fn http(&self, url: &str, verify_tls: bool) -> Result<&reqwest::Client, String> {
        if !verify_tls || url.starts_with("http:") {
            return Ok(&self.unverified);
        }
        if let Some(client) = self.verified.get() {
            return Ok(client);
        }
        let made =
            page_client(true).map_err(|e| format!("the certificates that this machine believes cannot be read: {}", root_cause(&e)))?;
        Ok(self.verified.get_or_init(|| made))
    }

    pub(crate) fn shared_secrets(&self) -> Arc<Mutex<Secrets>> {
        Arc::clone(&self.secrets)
    }

    pub(crate) fn secrets(&self) -> MutexGuard<'_, Secrets> {
        self.secrets.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// The text with every known secret replaced by its reference.
    pub fn mask(&self, text: &str) -> String {
        self.secrets().mask(text)
    }

    /// Acts that take another account are given through `sudo -n` from now on.
    pub fn with_sudo(mut self) -> Self {
        self.sudo = !nix::unistd::geteuid().is_root();
        self
    }

    /// Says whether a host of this network address may be acted on by this server (R35).
    pub fn may_act_on(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        self.keepers.check(address, claim)
    }

    /// Claims a host for an act of this server.
    pub fn claim(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        self.keepers.claim(address, claim)
    }

    /// Takes a host over from the server that acted there before.
    pub fn take_over(&self, address: &str, claim: &Claim<'_>) -> Result<(), Kept> {
        self.keepers.take_over(address, claim)
    }

    /// Posts a text to a page, and says the status that it answered.
    pub async fn post(&self, url: &str, content_type: &str, body: String) -> Result<u16, String> {
        let asked = self
            .http(url, true)?
            .post(url)
            .header("content-type", content_type)
            .header("user-agent", concat!("yantro/", env!("CARGO_PKG_VERSION")))
            .timeout(Duration::from_secs(8))
            .body(body)
            .send()
            .await;
        asked.map(|answer| answer.status().as_u16()).map_err(|error| root_cause(&error))
    }

    /// Where a service's own output goes.
    pub fn output_of(&self, service: &Service) -> PathBuf {
        self.outputs.join(Self::output_name(service))
    }

    /// What the file of a service's own output is called.
    pub fn output_name(service: &Service) -> String {
        format!("{}.log", service.address.to_string().replace('/', "_"))
    }

    /// The folder of services' own output.
    pub fn outputs(&self) -> &Path {
        &self.outputs
    }

    /// Every log of a service: its files, and its own output where Yantro starts it.
    pub fn logs_of(&self, service: &Service) -> Vec<String> {
        let own = match &service.runner {
            ServiceRunner::Process(_) => Some(self.output_of(service).display().to_string()),
            ServiceRunner::Systemd(s) => Some(s.journal()),
            ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => None,
        };
        service.logs.iter().cloned().chain(own).collect()
    }

    /// What is written down of an act, secrets masked: what it was given is known again by the references in its record.
    pub fn recorded(&self, identity: &str) -> Recorded {
        let folder = self.acts.join(identity);
        match recorder::read(&folder) {
            Recorded::Ended(record, end) => {
                self.learn(&recorder::references(&folder));
                Recorded::Ended(record, self.masked_end(end))
            }
            other => other,
        }
    }

    /// Learns what references stand for, so that it is masked in whatever is read from now on.
    pub(crate) fn learn(&self, env: &BTreeMap<String, String>) {
        if !env.is_empty() {
            self.secrets().learn(env);
        }
    }

    fn masked_end(&self, end: ActEnd) -> ActEnd {
        masked_end(&self.secrets(), end)
    }

    /// Tells on, with every secret that is known here masked: nothing leaves this machine with one in it.
    fn masking(&self, tell: impl Fn(ActNews) + Send + 'static) -> impl Fn(ActNews) + Send + 'static {
        let secrets = Arc::clone(&self.secrets);
        move |news| {
            let known = |end| masked_end(&secrets.lock().unwrap_or_else(std::sync::PoisonError::into_inner), end);
            tell(match news {
                ActNews::Ended(end) => ActNews::Ended(known(end)),
                other => other,
            });
        }
    }

    /// Takes an identity out of use, so that no act ever begins under it, and says whether none had begun: an act's
    /// folder is made once only, by whoever comes first. Asked for twice, it is out of use twice.
    pub fn burn(&self, identity: &str) -> Result<bool, String> {
        let folder = self.acts.join(identity);
        if let Some(parent) = folder.parent() {
            std::fs::create_dir_all(parent).map_err(|e| format!("{} cannot be made: {e}", parent.display()))?;
        }
        // Made whole beside it and put in its place at once: whoever ends in between leaves nothing that could be read otherwise.
        let beside = folder.with_extension(format!("burnt-{}", std::process::id()));
        let _ = std::fs::remove_dir_all(&beside);
        let burnt = recorder::write_burnt(&beside).and_then(|()| recorder::put_in_place(&beside, &folder));
        match burnt {
            Ok(()) => Ok(true),
            Err(error) => {
                let _ = std::fs::remove_dir_all(&beside);
                match error.kind() {
                    io::ErrorKind::AlreadyExists => Ok(recorder::read(&folder) == Recorded::Burnt),
                    _ => Err(format!("{} cannot be made: {error}", folder.display())),
                }
            }
        }
    }

    /// Gives an act. News come in order: begun, ended, and for a start at last that all is gone.
    ///
    /// An error means that it was not given at all.
    pub async fn act(&self, spec: ActSpec<'_>, tell: impl Fn(ActNews) + Send + 'static) -> Result<(), ActEnd> {
        let tell = self.masking(tell);
        let prepared = self.prepare(&spec).await?;
        let folder = self.acts.join(spec.identity);
        if let Some(parent) = folder.parent()
            && let Err(error) = std::fs::create_dir_all(parent).and_then(|()| keep_from_others(parent))
        {
            return Err(refused(format!("the act's folder cannot be made: {error}"), "check the server's data folder"));
        }
        let mut order = prepared.order;
        order["folder"] = json!(folder);
        order["note"] = json!(prepared.begun);
        order["umask"] = json!(spec.service.runner.umask());
        order["descriptors"] = json!(crate::acts::descriptors::given());
        // The references, and not what they stand for: so it is known again what to mask in its output.
        order["note"]["references"] = json!(references_of(spec.service));
        let started = (spec.kind == ActKind::Start).then(|| (self.ours.clone(), spec.service.address.clone()));
        let child = if prepared.stays {
            let taken = self.spares.take(spec.service.address.to_string()).await;
            let taken = taken.map_err(|why| {
                let mend = recorder::mend_of(&why);
                refused(why, mend)
            })?;
            order["leave_to"] = json!(taken.leave_to);
            taken.child
        } else {
            recorder::spawn(&self.recorder)
                .map_err(|error| refused(format!("the recorder cannot be run: {error}"), "check the server's data folder"))?
        };
        match &service_unit(spec.service) {
            Some(unit) if matches!(spec.kind, ActKind::Start | ActKind::Stop | ActKind::Reload) => {
                let tell = self.with_managers_reason(unit.clone(), tell);
                recorder::give(child, order, folder, started, tell).await;
            }
            _ => recorder::give(child, order, folder, started, tell).await,
        }
        Ok(())
    }

    /// Tells on; where the manager's command failed, with what the manager says of the unit at its end.
    fn with_managers_reason(&self, unit: String, tell: impl Fn(ActNews) + Send + 'static) -> impl Fn(ActNews) + Send + 'static {
        let (units, (news_in, mut news)) = (Arc::clone(&self.units), tokio::sync::mpsc::unbounded_channel());
        tokio::spawn(async move {
            while let Some(one) = news.recv().await {
                let told = match one {
                    ActNews::Ended(ActEnd::Exited { code, output }) if code != 0 => {
                        let word = units.look(&unit).await.map(|seen| seen.word);
                        let reason = match word {
                            _ if output.lines().any(|l| l.starts_with("sudo:")) => {
                                let said = output.lines().rev().find(|l| l.starts_with("sudo:")).unwrap_or_default();
                                format!("\n{said}; allow the command in /etc/sudoers.d on the host, as docs/hosts.md has it\n")
                            }
                            Ok(word)
                                if word.active != "active"
                                    && (word.active == "failed" || word.load != "loaded" || word.result != "success") =>
                            {
                                let (why, mend) = word.failure();
                                format!("\n{why}; {mend}\n")
                            }
                            // Its own command said it all.
                            _ => String::new(),
                        };
                        ActNews::Ended(ActEnd::Exited { code, output: output + &reason })
                    }
                    other => other,
                };
                tell(told);
            }
        });
        move |one| {
            // The task above lives as long as we do.
            let _ = news_in.send(one);
        }
    }

    /// Ends the process trees of recorded starts: asked first, by force after two seconds. Only
    /// processes whose identity is the recorded one, and what is below their recorders.
    pub async fn end_trees(&self, records: &[ActRecord]) {
        for (signal, rounds) in [(nix::sys::signal::Signal::SIGTERM, 100), (nix::sys::signal::Signal::SIGKILL, 100)] {
            let send = |to_whom: &dyn Fn(u32)| {
                for record in records {
                    let main = record.process.as_ref().filter(|p| p.is_alive()).map(|p| p.pid);
                    // What cannot be read now is read again before the next signal.
                    let read = |found: io::Result<Vec<u32>>| found.unwrap_or_default();
                    let recorder = Some(&record.recorder).filter(|r| r.is_alive());
                    let below = recorder.map(|r| read(crate::looks::procs::below(r.pid))).unwrap_or_default();
                    let group = record.group.as_deref().filter(|_| record.recorder.is_of_this_boot());
                    let forked = group.map(|group| read(crate::looks::procs::members(group))).unwrap_or_default();
                    main.into_iter().chain(below).chain(forked).for_each(to_whom);
                }
            };
            send(&|pid| {
                // One that ended meanwhile is what is wanted.
                let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid as i32), signal);
            });
            for _ in 0..rounds {
                if !records.iter().any(|r| r.recorder.is_alive() || r.process.as_ref().is_some_and(ProcessId::is_alive)) {
                    return;
                }
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        }
    }

    /// Follows an act that an earlier server gave.
    pub async fn follow(&self, identity: &str, begun: ActRecord, tell: impl Fn(ActNews) + Send + 'static) {
        let folder = self.acts.join(identity);
        self.learn(&recorder::references(&folder));
        recorder::follow(folder, begun, self.masking(tell)).await;
    }

    /// A round of looks. Tables of a moment ago will do.
    pub fn round(&self) -> Round {
        Round::new(self.ours.clone(), self.shared_secrets(), None)
    }

    /// A round that believes no table older than this moment: something was told just now.
    pub fn round_from_now(&self) -> Round {
        Round::new(self.ours.clone(), self.shared_secrets(), Some(Instant::now()))
    }
}

fn masked_end(secrets: &Secrets, end: ActEnd) -> ActEnd {
    match end {
        ActEnd::Exited { code, output } => ActEnd::Exited { code, output: secrets.mask(&output) },
        ActEnd::Signalled { signal, output } => ActEnd::Signalled { signal, output: secrets.mask(&output) },
        ActEnd::TimedOut { output } => ActEnd::TimedOut { output: secrets.mask(&output) },
        end @ (ActEnd::Sent | ActEnd::Refused { .. }) => end,
    }
}

static NO_NAMES: BTreeSet<String> = BTreeSet::new();

/// The environment of a service that refers to secrets.
pub(crate) fn references_of(service: &Service) -> BTreeMap<String, String> {
    let (env, to_the_letter) = match &service.runner {
        ServiceRunner::Process(p) => (&p.env, &NO_NAMES),
        ServiceRunner::Commands(c) => (&c.env, &c.to_the_letter),
        _ => return BTreeMap::new(),
    };
    let refers = |v: &str| v.starts_with("env:") || v.starts_with("file:");
    env.iter().filter(|(k, v)| refers(v) && !to_the_letter.contains(*k)).map(|(k, v)| (k.clone(), v.clone())).collect()
}

/// Takes from everybody else what this folder lets them do, and leaves its group to look at most.
fn keep_from_others(folder: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let mode = std::fs::metadata(folder)?.permissions().mode() & 0o7777;
    let kept = mode & 0o750;
    if kept != mode { std::fs::set_permissions(folder, std::fs::Permissions::from_mode(kept)) } else { Ok(()) }
}

fn service_unit(service: &Service) -> Option<String> {
    match &service.runner {
        ServiceRunner::Systemd(s) => Some(s.unit.clone()),
        _ => None,
    }
}

fn refused(why: String, mend: &str) -> ActEnd {
    ActEnd::Refused { why, mend: mend.to_owned() }
}

/// The account that this program runs as.
pub(crate) fn own_account() -> String {
    let uid = nix::unistd::geteuid().as_raw();
    Account::of_uid(uid).ok().flatten().map_or_else(|| uid.to_string(), |a| a.name)
}
