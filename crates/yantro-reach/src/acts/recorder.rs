//! Gives acts to the recorder, and reads what it wrote down (R21).

use std::{
    collections::BTreeMap,
    ffi::CString,
    io::Write,
    os::unix::{ffi::OsStrExt, fs::DirBuilderExt},
    path::{Path, PathBuf},
    process::Stdio,
};

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    process::Child,
};
use yantro_core::{
    run::{ActBegun, ActEnd},
    words::name::Address,
};

use crate::{
    acts::whole::write_whole,
    looks::procs::{Ours, ProcessId},
};

/// The recorder itself, as built with this crate.
#[cfg(feature = "recorder")]
const BUILT_IN: &[u8] = include_bytes!(env!("YANTRO_RECORDER"));
/// How a program that is a recorder besides is told to be one.
pub const AS_RECORDER: &str = "--record";
/// At most this much of a command's output is kept.
pub(crate) const OUTPUT_LIMIT: u64 = 64 * 1024;

/// A recorder that can be run.
#[derive(Debug, Clone)]
pub(crate) struct Program {
    path: PathBuf,
    args: Vec<&'static str>,
}

/// Puts the recorder that is built in where it can be run from; the same one is used again.
#[cfg(feature = "recorder")]
pub(crate) fn install(folder: &Path) -> std::io::Result<Program> {
    let path = folder.join(named(BUILT_IN));
    if !path.exists() {
        std::fs::create_dir_all(folder)?;
        write_whole(&path, BUILT_IN, 0o755)?;
    }
    Ok(Program { path, args: Vec::new() })
}

/// Puts this program itself there, which is a recorder besides: by one more name of its file where that is this account's own, else
/// as a copy, which nobody else can change. Whatever becomes of the file that it was run from, acts can be given.
pub(crate) fn install_own(folder: &Path) -> std::io::Result<Program> {
    use std::os::unix::fs::MetadataExt;
    let own = Path::new("/proc/self/exe");
    // Which build it is; to read all of it takes longer than to begin.
    let meta = std::fs::metadata(own)?;
    let path = folder.join(named(&(std::env::current_exe()?, meta.len(), meta.ino(), meta.mtime(), meta.mtime_nsec())));
    if !path.exists() {
        std::fs::create_dir_all(folder)?;
        let is_ours = meta.uid() == nix::unistd::geteuid().as_raw();
        let linked = is_ours && std::fs::hard_link(std::fs::read_link(own)?, &path).is_ok();
        if !linked && !path.exists() {
            write_whole(&path, &std::fs::read(own)?, 0o755)?;
        }
    }
    Ok(Program { path, args: vec![AS_RECORDER] })
}

fn named(build: &(impl std::hash::Hash + ?Sized)) -> String {
    use std::hash::{DefaultHasher, Hasher};
    let mut hasher = DefaultHasher::new();
    build.hash(&mut hasher);
    format!("recorder-{:016x}", hasher.finish())
}

/// What the recorder has to tell.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ActNews {
    /// The act has begun: how, and who is beside it.
    Begun(Box<ActBegun>, Box<ActRecord>),
    /// It ended.
    Ended(ActEnd),
    /// Nothing of the service's process tree is left.
    Gone,
    /// This identity was begun before.
    BegunBefore,
    /// Neither a process nor a record is left of it.
    Lost(String),
}

/// What is written down of an act.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Recorded {
    /// There is no folder: it was never begun.
    Nothing,
    /// It was taken out of use before it began, and never begins.
    Burnt,
    /// There is a folder and nothing in it: it may or may not have been about to begin.
    OnlyFolder,
    /// It has begun and not ended.
    Begun(ActRecord),
    /// It ended.
    Ended(Option<ActRecord>, ActEnd),
    /// It was to be ended at its limit, and what it runs could not be: nobody can say what becomes of it.
    GoesOn,
}

/// An act that has begun.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ActRecord {
    /// The process it started.
    pub process: Option<ProcessId>,
    /// The recorder beside it.
    pub recorder: ProcessId,
    /// The control group of this act alone, where it has one: the folder that the kernel shows it as.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<PathBuf>,
    /// How it began: its command, and the log positions taken before it.
    pub begun: Option<ActBegun>,
}

/// Why an act has no outcome that was to be ended and could not be.
pub(crate) const GOES_ON: &str = "it took longer than it may, and what it runs as another account goes on: this one may not end it";

/// Reads what is written down in an act's folder.
pub fn read(folder: &Path) -> Recorded {
    // A disk that does not answer says nothing of what was begun.
    if folder.try_exists().is_ok_and(|is_there| !is_there) {
        return Recorded::Nothing;
    }
    let json = |name: &str| std::fs::read(folder.join(name)).ok().and_then(|b| serde_json::from_slice::<Value>(&b).ok());
    let begun = json("begun.json").and_then(|v| record(&v));
    match (json("ended.json"), begun) {
        (Some(ended), None) if ended["burnt"] == true => Recorded::Burnt,
        // It was to be ended and was not: what becomes of it nobody can say.
        (Some(ended), _) if ended["goes_on"] == true => Recorded::GoesOn,
        (Some(ended), begun) => Recorded::Ended(begun, end(&ended, folder)),
        (None, Some(begun)) => Recorded::Begun(begun),
        (None, None) => Recorded::OnlyFolder,
    }
}

/// Writes what stands in the place of an act that never begins; it has reached the disk by then.
pub(crate) fn write_burnt(folder: &Path) -> std::io::Result<()> {
    std::fs::DirBuilder::new().mode(0o700).create(folder)?;
    let mut file = std::fs::File::create(folder.join("ended.json"))?;
    file.write_all(json!({ "burnt": true }).to_string().as_bytes())?;
    file.sync_all()?;
    std::fs::File::open(folder)?.sync_all()
}

/// Puts a folder in its place, if nothing is there yet.
///
/// # Errors
/// `AlreadyExists` where something is.
pub(crate) fn put_in_place(beside: &Path, folder: &Path) -> std::io::Result<()> {
    let text = |path: &Path| CString::new(path.as_os_str().as_bytes()).map_err(std::io::Error::other);
    let (from, to) = (text(beside)?, text(folder)?);
    // Sound: both are paths that live as long as the call.
    let put =
        unsafe { libc::syscall(libc::SYS_renameat2, libc::AT_FDCWD, from.as_ptr(), libc::AT_FDCWD, to.as_ptr(), libc::RENAME_NOREPLACE) };
    let error = std::io::Error::last_os_error();
    match error.raw_os_error().filter(|_| put != 0) {
        // A file system that has no such thing: the folder is made empty first, which only one can do.
        Some(libc::EINVAL | libc::ENOSYS) => {
            std::fs::create_dir(folder)?;
            std::fs::rename(beside, folder)?;
        }
        Some(_) => return Err(error),
        None => {}
    }
    // Its place in the run's folder, and that one's in the one above.
    folder.ancestors().skip(1).take(2).try_for_each(|above| std::fs::File::open(above)?.sync_all())
}

/// The references to secrets that an act was given, by name; none where nothing is written down.
pub(crate) fn references(folder: &Path) -> BTreeMap<String, String> {
    let begun = std::fs::read(folder.join("begun.json")).ok().and_then(|b| serde_json::from_slice::<Value>(&b).ok());
    begun.and_then(|b| serde_json::from_value(b["note"]["references"].clone()).ok()).unwrap_or_default()
}

fn record(value: &Value) -> Option<ActRecord> {
    let boot = value["boot"].as_str()?.to_owned();
    let id = |v: &Value| Some(ProcessId { boot: boot.clone(), pid: v["pid"].as_u64()? as u32, started: v["started"].as_u64()? });
    let process = id(value);
    let mut begun: Option<ActBegun> = serde_json::from_value(value["note"].clone()).ok();
    if let (Some(begun), Some(process)) = (&mut begun, &process) {
        begun.pid = Some(process.pid);
    }
    let group = value["group"].as_str().map(PathBuf::from);
    Some(ActRecord { process, recorder: id(&value["recorder"])?, group, begun })
}

fn end(value: &Value, folder: &Path) -> ActEnd {
    let output = || std::fs::read(folder.join("output")).map(|b| String::from_utf8_lossy(&b).into_owned()).unwrap_or_default();
    if let Some(why) = value["refused"].as_str() {
        return ActEnd::Refused { why: why.to_owned(), mend: mend_of(why).to_owned() };
    }
    if value["sent"].as_bool() == Some(true) {
        return ActEnd::Sent;
    }
    if value["timed_out"].as_bool() == Some(true) {
        return ActEnd::TimedOut { output: output() };
    }
    match (value["code"].as_i64(), value["signal"].as_i64()) {
        (Some(code), _) => ActEnd::Exited { code: code as i32, output: output() },
        (None, signal) => ActEnd::Signalled { signal: signal.unwrap_or(0) as i32, output: output() },
    }
}

pub(crate) fn mend_of(why: &str) -> &'static str {
    if why.contains("the program cannot be run") {
        if why.contains("os error 2") { "check that the program is there" } else { "check that the program may be run by this account" }
    } else if why.contains("its folder cannot be entered") {
        "check that the working folder is there and may be entered"
    } else if why.contains("the account cannot be taken on") {
        "the server must run as root to act as another account"
    } else if why.contains("cannot be written down") {
        "make room where the server keeps its data on that host, and try again"
    } else if why.contains("another one than was meant") {
        "look at it anew, and try again"
    } else if why.contains("nobody keeps a manager") {
        "keep one for it (`loginctl enable-linger` as root), let the outpost run as root (`sudo = \"outpost\"`), or let the host's manager run the service"
    } else if why.contains("control group") {
        "give the server's unit Delegate=yes or KillMode=process, or run it where it may leave its control group"
    } else {
        "see what the system said, mend it, and try again"
    }
}

/// Runs a recorder, which waits for its order.
pub(crate) fn spawn(program: &Program) -> std::io::Result<Child> {
    tokio::process::Command::new(&program.path)
        .args(&program.args)
        .env_clear()
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(false)
        .spawn()
}

/// Gives an order to a recorder and follows it; news go to `tell` in order.
///
/// Returns once the act has begun or could not; following goes on by itself.
/// What a start leaves running is noted as its service's while we have not heard of its end.
pub(crate) async fn give(
    mut child: Child,
    order: Value,
    folder: PathBuf,
    starts: Option<(Ours, Address)>,
    tell: impl Fn(ActNews) + Send + 'static,
) {
    let recorder_pid = child.id();
    if let (Some((ours, address)), Some(pid)) = (&starts, recorder_pid) {
        ours.add(pid, address);
    }
    let mut stdin = child.stdin.take().expect("piped above");
    let written = stdin.write_all(order.to_string().as_bytes()).await;
    drop(stdin);
    if let Err(error) = written {
        tracing::warn!(%error, "the order did not reach the recorder");
    }
    let mut lines = BufReader::new(child.stdout.take().expect("piped above")).lines();
    tokio::spawn(async move {
        let forget = |pid: Option<u32>| {
            if let (Some((ours, _)), Some(pid)) = (&starts, pid) {
                ours.remove(pid);
            }
        };
        let (mut ended, mut main) = (false, None);
        while let Ok(Some(line)) = lines.next_line().await {
            let Ok(news) = serde_json::from_str::<Value>(&line) else { continue };
            if let Some(begun) = news.get("begun") {
                if let Some(record) = record(begun)
                    && let Some(how) = record.begun.clone()
                {
                    main = record.process.as_ref().map(|p| p.pid);
                    if let (Some((ours, address)), Some(pid)) = (&starts, main) {
                        ours.add(pid, address);
                    }
                    tell(ActNews::Begun(Box::new(how), Box::new(record)));
                }
            } else if let Some(value) = news.get("ended") {
                ended = true;
                forget(main.take());
                if value["goes_on"] == true {
                    tell(ActNews::Lost(GOES_ON.to_owned()));
                } else {
                    tell(ActNews::Ended(end(value, &folder)));
                }
            } else if news.get("gone").is_some() {
                tell(ActNews::Gone);
            }
        }
        forget(main.take());
        // The number is the recorder's own until it is waited for.
        forget(recorder_pid);
        let status = child.wait().await;
        if status.as_ref().is_ok_and(|s| s.code() == Some(17)) {
            tell(ActNews::BegunBefore);
        } else if !ended {
            // Somebody ended the recorder. What it wrote down is all there is.
            match read(&folder) {
                Recorded::Ended(_, end) => tell(ActNews::Ended(end)),
                _ => tell(ActNews::Lost("the recorder beside it was ended".to_owned())),
            }
        }
    });
}

/// Follows an act that an earlier server gave: awaits its end as it is written down.
pub(crate) async fn follow(folder: PathBuf, begun: ActRecord, tell: impl Fn(ActNews) + Send + 'static) {
    tokio::spawn(async move {
        // The main one where it is known, else the recorder.
        begun.process.as_ref().unwrap_or(&begun.recorder).ended().await;
        // The record is written a moment after the end.
        for _ in 0..200 {
            match read(&folder) {
                Recorded::Ended(_, end) => return tell(ActNews::Ended(end)),
                Recorded::GoesOn => return tell(ActNews::Lost(GOES_ON.to_owned())),
                _ => {}
            }
            if !begun.recorder.is_alive() && !matches!(read(&folder), Recorded::Ended(..)) {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
        match read(&folder) {
            Recorded::Ended(_, end) => tell(ActNews::Ended(end)),
            _ => tell(ActNews::Lost("neither its process nor a record of its end is left".to_owned())),
        }
    });
}

/// A signal to exactly these processes; all of a control group's, where one is named, at one stroke.
pub(crate) fn signal_order(folder: &Path, signal: i32, targets: &[ProcessId], group: Option<&Path>) -> Value {
    let targets: Vec<Value> = targets.iter().map(|t| json!({ "pid": t.pid, "started": t.started })).collect();
    json!({ "folder": folder, "do": "signal", "signal": signal, "targets": targets, "group": group })
}
