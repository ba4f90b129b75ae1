//! The outpost: answers the server over one channel, by doing here what the server would do where it runs.

use std::{
    collections::HashMap,
    io::{BufRead, Write},
    path::{Path, PathBuf},
    process::ExitCode,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use futures::{StreamExt, stream};
use serde::Serialize;
use serde_json::{Value, json};
use tokio::{
    runtime::Handle,
    sync::mpsc::{UnboundedSender, unbounded_channel},
    task::AbortHandle,
};
use yantro_core::words::time::Timestamp;

use crate::{
    acts::recorder::{self, ActNews, ActRecord, Recorded},
    here::{ActSpec, Here},
    links::keeper::{Claim, Kept, THIS_HOST},
    links::wire::{Ask, Hello, PROTOCOL, Said, Told, ToldClaim},
    looks::logs::{open_log, read_file, read_log},
    looks::procs::boot_id,
};

/// How this program is told to be a recorder.
pub use crate::acts::recorder::AS_RECORDER;

/// A server that says nothing for so long is gone, though the connection may not know it: it says each second that it is
/// there, and gives a connection up as lost much sooner.
const SILENT_FOR: Duration = Duration::from_secs(60);
/// Looks taken side by side.
const SIDE_BY_SIDE: usize = 16;
/// Acts that ended so long ago are forgotten: whoever gave them has fetched their outcome.
const KEPT_FOR: Duration = Duration::from_secs(30 * 24 * 3600);

/// The program. `--protocol` prints the version of what it speaks; without arguments it serves its channel. That it is a
/// recorder besides is its own affair.
pub fn main(mut args: impl Iterator<Item = String>) -> ExitCode {
    match args.next().as_deref() {
        Some("--protocol") => {
            println!("{PROTOCOL}");
            return ExitCode::SUCCESS;
        }
        Some(other) => {
            eprintln!("yantro's outpost knows no \"{other}\": a Yantro server starts it without arguments, over SSH");
            return ExitCode::from(64);
        }
        None => {}
    }
    // With fewer it does what it can; each look and act that has none left says so.
    let _ = crate::acts::descriptors::take_enough();
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    match runtime {
        Ok(runtime) => {
            serve(runtime.handle());
            // What still looks is not waited for; acts have recorders of their own.
            runtime.shutdown_background();
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("the outpost cannot begin: {error}");
            ExitCode::from(71)
        }
    }
}

/// Serves standard input until it ends. What comes in is read, understood and, where it is an act, claimed by one thread of
/// its own, so that no other has to wake up before an act has arrived; what goes out is written by another.
fn serve(runtime: &Handle) {
    let (out, mut lines_out) = unbounded_channel::<Said>();
    std::thread::spawn(move || {
        let mut stdout = std::io::stdout().lock();
        while let Some(said) = lines_out.blocking_recv() {
            let mut text = said.line();
            // What waits besides goes along: one write, one packet.
            while let Ok(more) = lines_out.try_recv() {
                text.push_str(&more.line());
            }
            if stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush()).is_err() {
                return;
            }
        }
    });
    let _ = out.send(Said::Ready(PROTOCOL));
    let asked: Arc<Mutex<HashMap<u64, AbortHandle>>> = Arc::default();
    let mut here: Option<Arc<Here>> = None;
    let heard = Arc::new(Mutex::new(Instant::now()));
    end_in_silence(runtime, Arc::clone(&heard));
    for line in std::io::stdin().lock().lines() {
        let Ok(line) = line else { break };
        *heard.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
        let (id, ask) = match Told::read(&line) {
            Ok(Told::Ask(id, ask)) => (id, *ask),
            Ok(Told::Leave(of)) => {
                if let Some(task) = asked.lock().unwrap_or_else(PoisonError::into_inner).remove(&of) {
                    task.abort();
                }
                continue;
            }
            Err((id, why)) => {
                let _ = out.send(Said::Answer(id.unwrap_or_default(), Err(why)));
                continue;
            }
        };
        if let Ask::Hello { server, sudo } = &ask {
            let _within = runtime.enter();
            let answer = begin(server, *sudo).map(|(at, hello)| {
                here = Some(at);
                json!(hello)
            });
            let _ = out.send(Said::Answer(id, answer));
            continue;
        }
        if let Ask::Alive {} = &ask {
            let _ = out.send(Said::Answer(id, Ok(json!(Timestamp::from_ms(now_ms())))));
            continue;
        }
        let Some(here) = here.clone() else {
            let _ = out.send(Said::Answer(id, Err("say hello first".to_owned())));
            continue;
        };
        // Claims in the order in which they were made: their counters go up.
        if let Ask::Act { claim, .. } = &ask
            && let Err(kept) = claim.with(|c| here.claim(THIS_HOST, c))
        {
            let _ = out.send(Said::Answer(id, Ok(json!({ "kept": told_kept(&kept) }))));
            continue;
        }
        let (out, done) = (out.clone(), Arc::clone(&asked));
        let task = runtime.spawn(async move {
            let tell = Tell { of: id, out: out.clone() };
            let answer = answer(&here, ask, tell).await;
            done.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
            let _ = out.send(Said::Answer(id, answer));
        });
        asked.lock().unwrap_or_else(PoisonError::into_inner).insert(id, task.abort_handle());
        if task.is_finished() {
            asked.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
        }
    }
}

/// Ends the outpost once nothing was heard for too long: a link that was cut leaves it a channel that nobody closes.
/// `YANTRO_OUTPOST_SILENCE`, in milliseconds, makes it less patient, for trying that.
fn end_in_silence(runtime: &Handle, heard: Arc<Mutex<Instant>>) {
    let silence = std::env::var("YANTRO_OUTPOST_SILENCE").ok().and_then(|s| s.parse().ok()).map_or(SILENT_FOR, Duration::from_millis);
    runtime.spawn(async move {
        loop {
            let silent = heard.lock().unwrap_or_else(PoisonError::into_inner).elapsed();
            let Some(left) = silence.checked_sub(silent).filter(|l| !l.is_zero()) else { break };
            tokio::time::sleep(left).await;
        }
        // Acts have recorders of their own: nothing else is lost.
        std::process::exit(0);
    });
}

/// The host's wall clock. `YANTRO_OUTPOST_CLOCK`, in seconds, makes one that is off: the clock of a namespace cannot be
/// moved, and what a wrong one does has to be tried all the same.
fn now_ms() -> i64 {
    let skew: i64 = std::env::var("YANTRO_OUTPOST_CLOCK").ok().and_then(|s| s.parse().ok()).unwrap_or(0);
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64) + skew * 1000
}

/// Tells about one request.
#[derive(Clone)]
struct Tell {
    of: u64,
    out: UnboundedSender<Said>,
}

impl Tell {
    fn tell(&self, what: &impl Serialize) {
        // Nobody listens any longer: the channel is gone, and we are about to end.
        let _ = self.out.send(Said::Tell(self.of, json!(what)));
    }
}

impl ToldClaim {
    pub(crate) fn with<T>(&self, f: impl FnOnce(&Claim<'_>) -> T) -> T {
        let own = |s: &str| self.sessions.iter().any(|o| o == s);
        let counter = self.counter;
        f(&Claim { server: &self.server, session: &self.session, is_own_session: &own, counter: &|| counter, data: Path::new(&self.data) })
    }
}

fn told_kept(kept: &Kept) -> Value {
    json!({ "says": kept.to_string(), "doubts": kept.doubts_the_store(), "mend": kept.mend() })
}

fn begin(server: &str, sudo: bool) -> Result<(Arc<Here>, Hello), String> {
    if !server.chars().all(|c| c.is_ascii_alphanumeric()) || server.is_empty() {
        return Err("a server's identity is letters and digits".to_owned());
    }
    let root = nix::unistd::geteuid().is_root();
    let common = PathBuf::from("/var/lib/yantro");
    let home = std::env::var("HOME").map(PathBuf::from);
    let own = match std::env::var("XDG_STATE_HOME") {
        Ok(state) if !root => PathBuf::from(state).join("yantro"),
        _ if root => common.clone(),
        _ => home
            .map_err(|_| "the account has no home folder to keep records in; set XDG_STATE_HOME".to_owned())?
            .join(".local/state/yantro"),
    };
    let data = own.join(server);
    // Who acts on this host is everybody's affair; without rights there, this account's alone.
    let may =
        |folder: &Path| std::fs::create_dir_all(folder).is_ok() && nix::unistd::access(folder, nix::unistd::AccessFlags::W_OK).is_ok();
    let records = Some(common.join("hosts")).filter(|c| may(c)).unwrap_or_else(|| own.join("hosts"));
    std::fs::create_dir_all(&data).map_err(|e| format!("{} cannot be made: {e}", data.display()))?;
    let here = Here::of_own_program(&data, &records).map_err(|e| {
        let source = std::error::Error::source(&e).map(|s| format!(": {s}")).unwrap_or_default();
        format!("{e}{source}")
    })?;
    let here = if sudo { here.with_sudo() } else { here };
    forget_old(&data.join("acts"));
    let uts = nix::sys::utsname::uname().map_err(|e| e.to_string())?;
    let text = |s: &std::ffi::OsStr| s.to_string_lossy().into_owned();
    let hello = Hello {
        protocol: PROTOCOL,
        host: text(uts.nodename()),
        account: crate::here::own_account(),
        boot: boot_id().to_owned(),
        system: format!("{} {} {}", text(uts.machine()), text(uts.sysname()), text(uts.release())),
        outputs: here.outputs().display().to_string(),
        data: data.display().to_string(),
        now: Timestamp::from_ms(now_ms()),
        pid: std::process::id(),
        plain_shell: false,
        hangs_on: crate::looks::own::known_units(),
    };
    Ok((Arc::new(here), hello))
}

/// Takes away what was written down of acts that ended long ago.
fn forget_old(acts: &Path) {
    let folders = |at: &Path| std::fs::read_dir(at).into_iter().flatten().flatten().map(|e| e.path()).collect::<Vec<_>>();
    for run in folders(acts) {
        for act in folders(&run) {
            let written = std::fs::metadata(act.join("ended.json")).and_then(|m| m.modified());
            let is_old = written.is_ok_and(|w| w.elapsed().is_ok_and(|age| age > KEPT_FOR));
            // What forked away from it is followed still: its recorder is all that knows what is the service's.
            let is_followed = || Ask::started_of(&recorder::read(&act)).is_some_and(|r| r.recorder.is_alive());
            if is_old && !is_followed() {
                let _ = std::fs::remove_dir_all(&act);
            }
        }
        // Only an empty one goes.
        let _ = std::fs::remove_dir(&run);
    }
}

/// The record of the act that started a service.
fn started(here: &Here, identity: Option<&String>) -> Option<ActRecord> {
    Ask::started_of(&here.recorded(identity?))
}

/// So much of a line that does not end is held back at most.
const LONGEST_HALF: usize = 64 * 1024;

async fn answer(here: &Here, ask: Ask, tell: Tell) -> Result<Value, String> {
    Ok(match ask {
        Ask::Hello { .. } | Ask::Alive {} => Value::Null,
        Ask::Look { services } => {
            let round = here.round();
            let round = &round;
            let looks = stream::iter(services).map(|(service, by)| async move {
                let known = started(here, by.as_ref());
                here.look(&service, known.as_ref(), round).await
            });
            json!(looks.buffered(SIDE_BY_SIDE).collect::<Vec<_>>().await)
        }
        Ask::LookOnce { host, rung } => json!(here.look_once(&host, &rung, &here.round()).await),
        Ask::Act { identity, kind, service, started: by, .. } => {
            let known = started(here, by.as_ref());
            let (news_in, mut news) = unbounded_channel::<ActNews>();
            let spec = ActSpec { identity: &identity, kind, service: &service, known: known.as_ref() };
            let given = here
                .act(spec, move |n| {
                    let _ = news_in.send(n);
                })
                .await;
            if let Err(end) = given {
                tell.tell(&ActNews::Ended(end));
            }
            while let Some(n) = news.recv().await {
                tell.tell(&n);
            }
            Value::Null
        }
        Ask::Recorded { identity } => json!(here.recorded(&identity)),
        Ask::Follow { identity } => {
            let (news_in, mut news) = unbounded_channel::<ActNews>();
            match here.recorded(&identity) {
                Recorded::Begun(record) => {
                    here.follow(&identity, record, move |n| {
                        let _ = news_in.send(n);
                    })
                    .await;
                    while let Some(n) = news.recv().await {
                        tell.tell(&n);
                    }
                }
                Recorded::Ended(_, end) => tell.tell(&ActNews::Ended(end)),
                Recorded::GoesOn => tell.tell(&ActNews::Lost(recorder::GOES_ON.to_owned())),
                Recorded::OnlyFolder | Recorded::Nothing | Recorded::Burnt => {
                    tell.tell(&ActNews::Lost("no record of it is left there".to_owned()))
                }
            }
            Value::Null
        }
        Ask::Burn { identity } => json!(here.burn(&identity)?),
        Ask::Climb(climb) => {
            let climb = *climb;
            let teller = tell.clone();
            here.climb(climb, move |report| teller.tell(&report)).await;
            Value::Null
        }
        Ask::WatchLog { service, kind, marks } => json!(here.watch_log(&service, kind, &marks).await),
        Ask::End { identity } => {
            if let Recorded::Begun(record) = here.recorded(&identity) {
                here.end_trees(&[record]).await;
            }
            Value::Null
        }
        Ask::Survey {} => json!(here.survey().await?),
        Ask::Terms { units } => json!(here.terms(&units).await),
        Ask::OwedByFiles { services } => {
            let owed: Vec<Option<String>> = services.iter().map(|(s, at, pid)| here.owed_by_files(s, *at, *pid)).collect();
            json!(owed)
        }
        Ask::MayActOn { claim } => claim.with(|c| here.may_act_on(THIS_HOST, c)).map_or_else(|kept| told_kept(&kept), |()| Value::Null),
        Ask::TakeOver { claim } => claim.with(|c| here.take_over(THIS_HOST, c)).map_or_else(|kept| told_kept(&kept), |()| Value::Null),
        Ask::OpenLog { path, since, lines } => {
            let (follow, mut lines) = open_log(&path, since, lines).await?;
            lines.iter_mut().for_each(|l| l.text = here.mask(&l.text));
            json!((follow, lines))
        }
        Ask::ReadFrom { path, from } => {
            let (end, text) = read_file(&path, from).await?;
            // Whole lines only: half a secret is not known for one.
            let whole = text.rfind('\n').map_or(0, |at| at + 1);
            let cut = if whole == 0 && text.len() > LONGEST_HALF { text.len() } else { whole };
            json!((end - (text.len() - cut) as u64, here.mask(&text[..cut])))
        }
        Ask::ReadLog { follow } => {
            let (follow, mut lines) = read_log(follow).await?;
            lines.iter_mut().for_each(|l| l.text = here.mask(&l.text));
            json!((follow, lines))
        }
    })
}

#[cfg(test)]
mod tests {
    use std::time::{Duration, SystemTime};

    use super::*;
    use crate::looks::procs::ProcessId;

    /// Acts of long ago are forgotten, but for those whose recorder still follows what they left running.
    #[test]
    fn a_daemon_that_forked_away_is_not_forgotten_however_old_its_start_is() {
        let dir = tempfile::tempdir().unwrap();
        let mut gone = std::process::Command::new("true").spawn().unwrap();
        let of_gone = ProcessId::of(gone.id()).unwrap();
        gone.wait().unwrap();
        let of_gone = of_gone.map_or(1, |p| p.started);
        let own = ProcessId::of(std::process::id()).unwrap().unwrap();
        let begun = |pid: u32, started: u64| {
            let id = json!({ "pid": pid, "started": started });
            json!({ "boot": boot_id(), "pid": 1, "started": 1, "recorder": id }).to_string()
        };
        let written = |name: &str, begun: String, age: Duration| {
            let act = dir.path().join("3").join(name);
            std::fs::create_dir_all(&act).unwrap();
            std::fs::write(act.join("begun.json"), begun).unwrap();
            std::fs::write(act.join("ended.json"), "{\"code\":0}").unwrap();
            let ended = std::fs::File::options().write(true).open(act.join("ended.json")).unwrap();
            ended.set_modified(SystemTime::now() - age).unwrap();
        };
        let old = KEPT_FOR + Duration::from_secs(60);
        written("over", begun(gone.id(), of_gone), old);
        written("followed", begun(own.pid, own.started), old);
        written("young", begun(gone.id(), of_gone), Duration::from_secs(60));
        forget_old(dir.path());
        let left = |name: &str| dir.path().join("3").join(name).exists();
        assert_eq!((left("over"), left("followed"), left("young")), (false, true, true));
    }
}
