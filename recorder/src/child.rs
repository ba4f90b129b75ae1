//! Starts a program and follows it to its end, and a service's whole process tree to the last.

use std::{
    io,
    time::{Duration, Instant},
};

use serde_json::{Value, json};

use crate::{
    act::{Act, c_text, not_written, now_ms, started_at},
    group::Group,
    output::Bounded,
};

/// How long a command that overran its limit has to end by itself.
const GRACE: Duration = Duration::from_secs(2);

/// Stages at which the child can fail before it is the program.
const STAGES: [&str; 4] =
    ["its output file cannot be opened", "its folder cannot be entered", "the account cannot be taken on", "the program cannot be run"];

/// Runs what the order says. A service's output goes straight to its own file, so that it does not
/// hang on this process; a command's output goes through here, to be bounded.
pub fn run(act: &Act, order: &Value, is_service: bool) {
    let spec = Spec::read(order);
    let mut gate = [0i32; 2];
    let mut failed = [0i32; 2];
    let mut out = [0i32; 2];
    unsafe {
        libc::pipe2(gate.as_mut_ptr(), libc::O_CLOEXEC);
        libc::pipe2(failed.as_mut_ptr(), libc::O_CLOEXEC);
        libc::pipe2(out.as_mut_ptr(), libc::O_CLOEXEC);
    }
    // What this process writes is for its own account only; what mask the program gets is ordered.
    unsafe { libc::umask(0o077) };
    // A service's processes are told by it, and ended in it. What a command leaves running is not its own to end.
    let mut group = is_service.then(|| Group::make(&format!("yantro-act-{}-{:x}", std::process::id(), now_ms()))).flatten();
    let mut pid = group.as_ref().map_or(-1, Group::fork);
    if pid < 0 {
        if let Some(unused) = group.take() {
            unused.remove();
        }
        pid = unsafe { libc::fork() };
    }
    if pid < 0 {
        act.ended(json!({ "refused": format!("no process can be made: {}", io::Error::last_os_error()) }));
        return;
    }
    if pid == 0 {
        become_program(&spec, is_service, gate[0], failed[1], out[1], [gate[1], failed[0], out[0]]);
    }
    unsafe {
        libc::close(gate[0]);
        libc::close(failed[1]);
        libc::close(out[1]);
    }
    // Written before the program is let go. If this process ends here, or it cannot be written, the gate closes and the
    // child ends without having become anything.
    let path = group.as_ref().map(|g| g.path.clone());
    if let Err(error) = act.begun(json!({ "pid": pid, "started": started_at(pid), "group": path })) {
        unsafe { libc::close(gate[1]) };
        wait_for(pid);
        group.map(Group::remove);
        return act.ended(json!({ "refused": not_written(&error) }));
    }
    unsafe {
        libc::write(gate[1], [1u8].as_ptr().cast(), 1);
        libc::close(gate[1]);
    }
    let mut why = [0u8; 5];
    let n = unsafe { libc::read(failed[0], why.as_mut_ptr().cast(), why.len()) };
    unsafe { libc::close(failed[0]) };
    if n == 5 {
        let errno = i32::from_ne_bytes([why[1], why[2], why[3], why[4]]);
        let error = io::Error::from_raw_os_error(errno);
        wait_for(pid);
        group.map(Group::remove);
        let what = match (STAGES.get(why[0] as usize), why[0]) {
            (Some(stage), 3) => format!("{stage}: {}: {error}", spec.program.to_string_lossy()),
            (Some(stage), _) => format!("{stage}: {error}"),
            (None, _) => error.to_string(),
        };
        act.ended(json!({ "refused": what }));
        return;
    }
    if is_service {
        unsafe { libc::close(out[0]) };
        act.ended(wait_for(pid));
        // What forked away was handed to us: the tree is gone when no child is left.
        while unsafe { libc::waitpid(-1, std::ptr::null_mut(), 0) } > 0 {}
        group.map(Group::remove);
        act.gone();
    } else {
        follow_command(act, pid, out[0], &spec);
    }
}

struct Spec {
    program: std::ffi::CString,
    args: Vec<std::ffi::CString>,
    env: Vec<std::ffi::CString>,
    dir: std::ffi::CString,
    output: std::ffi::CString,
    user: Option<(u32, u32, Vec<u32>)>,
    limit: Option<Duration>,
    output_limit: usize,
    mask: Vec<(String, String)>,
    /// See umask(2).
    umask: libc::mode_t,
    /// How many descriptors it may have, where those are not as many as this process may.
    descriptors: Option<libc::rlim_t>,
}

impl Spec {
    fn read(order: &Value) -> Self {
        let list = |key: &str| order[key].as_array().into_iter().flatten().filter_map(Value::as_str).map(c_text).collect::<Vec<_>>();
        let user = &order["user"];
        Self {
            program: c_text(order["program"].as_str().unwrap_or_default()),
            args: list("args"),
            env: list("env"),
            dir: c_text(order["dir"].as_str().unwrap_or("/")),
            output: c_text(order["output"].as_str().unwrap_or("/dev/null")),
            user: user["uid"].as_u64().map(|uid| {
                let groups = user["groups"].as_array().into_iter().flatten().filter_map(Value::as_u64).map(|g| g as u32).collect();
                (uid as u32, user["gid"].as_u64().unwrap_or(uid) as u32, groups)
            }),
            limit: order["limit_ms"].as_u64().map(Duration::from_millis),
            umask: order["umask"].as_u64().unwrap_or(0o022) as libc::mode_t & 0o777,
            descriptors: order["descriptors"].as_u64(),
            output_limit: order["output_limit"].as_u64().unwrap_or(65_536) as usize,
            mask: order["mask"]
                .as_array()
                .into_iter()
                .flatten()
                .filter_map(|pair| Some((pair[0].as_str()?.to_owned(), pair[1].as_str()?.to_owned())))
                .collect(),
        }
    }
}

/// In the child: never returns. Only system calls from here on.
fn become_program(spec: &Spec, is_service: bool, gate: i32, failed: i32, out: i32, close: [i32; 3]) -> ! {
    let argv: Vec<*const libc::c_char> =
        std::iter::once(spec.program.as_ptr()).chain(spec.args.iter().map(|a| a.as_ptr())).chain([std::ptr::null()]).collect();
    let envp: Vec<*const libc::c_char> = spec.env.iter().map(|e| e.as_ptr()).chain([std::ptr::null()]).collect();
    let fail = |stage: u8| -> ! {
        let errno = io::Error::last_os_error().raw_os_error().unwrap_or(0).to_ne_bytes();
        let message = [stage, errno[0], errno[1], errno[2], errno[3]];
        unsafe {
            libc::write(failed, message.as_ptr().cast(), message.len());
            libc::_exit(127)
        }
    };
    unsafe {
        for fd in close {
            libc::close(fd);
        }
        libc::setsid();
        let mut go = [0u8; 1];
        if libc::read(gate, go.as_mut_ptr().cast(), 1) != 1 {
            libc::_exit(126);
        }
        let null = libc::open(c"/dev/null".as_ptr(), libc::O_RDONLY);
        libc::dup2(null, 0);
        let output = if is_service {
            let fd = libc::open(spec.output.as_ptr(), libc::O_WRONLY | libc::O_APPEND | libc::O_CREAT | libc::O_CLOEXEC, 0o600);
            if fd < 0 {
                fail(0);
            }
            fd
        } else {
            out
        };
        libc::dup2(output, 1);
        libc::dup2(output, 2);
        if libc::chdir(spec.dir.as_ptr()) != 0 {
            fail(1);
        }
        if let Some((uid, gid, groups)) = &spec.user
            && (libc::setgroups(groups.len(), groups.as_ptr()) != 0 || libc::setgid(*gid) != 0 || libc::setuid(*uid) != 0)
        {
            fail(2);
        }
        if let Some(soft) = spec.descriptors {
            let mut limit = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
            if libc::getrlimit(libc::RLIMIT_NOFILE, &mut limit) == 0 {
                limit.rlim_cur = soft.min(limit.rlim_max);
                libc::setrlimit(libc::RLIMIT_NOFILE, &limit);
            }
        }
        libc::umask(spec.umask);
        libc::signal(libc::SIGPIPE, libc::SIG_DFL);
        libc::execve(spec.program.as_ptr(), argv.as_ptr(), envp.as_ptr());
        fail(3)
    }
}

fn wait_for(pid: i32) -> Value {
    let mut status = 0;
    loop {
        // Orphans that were handed to us end here too, and are of no interest.
        let ended = unsafe { libc::waitpid(-1, &mut status, 0) };
        if ended == pid {
            return told(status);
        }
        if ended < 0 && io::Error::last_os_error().raw_os_error() != Some(libc::EINTR) {
            return json!({ "refused": "its end was not seen" });
        }
    }
}

fn told(status: i32) -> Value {
    if libc::WIFEXITED(status) { json!({ "code": libc::WEXITSTATUS(status) }) } else { json!({ "signal": libc::WTERMSIG(status) }) }
}

/// Reads a command's output until it ended, and ends it at its limit.
fn follow_command(act: &Act, pid: i32, out: i32, spec: &Spec) {
    let pidfd = unsafe { libc::syscall(libc::SYS_pidfd_open, pid, 0) } as i32;
    let mut output = Bounded::new(&act.output_path(), spec.output_limit, spec.mask.clone());
    let began = Instant::now();
    let mut limit = spec.limit;
    let mut timed_out = false;
    let mut buffer = [0u8; 8192];
    let mut open = true;
    loop {
        let left = limit.map_or(-1, |l| l.saturating_sub(began.elapsed()).as_millis().min(i32::MAX as u128) as i32);
        let mut fds = [
            libc::pollfd { fd: pidfd, events: libc::POLLIN, revents: 0 },
            libc::pollfd { fd: if open { out } else { -1 }, events: libc::POLLIN, revents: 0 },
        ];
        let n = unsafe { libc::poll(fds.as_mut_ptr(), 2, left) };
        if fds[1].revents != 0 {
            let n = unsafe { libc::read(out, buffer.as_mut_ptr().cast(), buffer.len()) };
            if n > 0 {
                output.push(&buffer[..n as usize]);
            } else {
                open = false;
            }
            continue;
        }
        if fds[0].revents != 0 {
            break;
        }
        if n == 0 {
            // The whole group of the command: it leads a session of its own.
            let signal = if timed_out { libc::SIGKILL } else { libc::SIGTERM };
            unsafe { libc::kill(-pid, signal) };
            limit = if timed_out { None } else { Some(began.elapsed() + GRACE) };
            timed_out = true;
        }
    }
    let mut end = wait_for(pid);
    output.finish();
    if timed_out {
        end["timed_out"] = json!(true);
        if !ends_whole(pid) {
            // Another account's, behind a `sudo` that was ended: what becomes of it nobody here can say.
            end["goes_on"] = json!(true);
        }
    }
    act.ended(end);
    if open {
        read_on(out);
    }
}

/// Ends what is left of a command's group, and says whether nothing of it is left at all: what forked away from it, and what
/// runs as another account behind a `sudo` that was ended, was handed to us, and may not be ours to end.
fn ends_whole(group: i32) -> bool {
    let began = Instant::now();
    let mut is_empty = false;
    while began.elapsed() < GRACE {
        // Once nobody is in it its number may be another group's.
        if !is_empty {
            let killed = unsafe { libc::kill(-group, libc::SIGKILL) };
            is_empty = killed != 0 && io::Error::last_os_error().raw_os_error() == Some(libc::ESRCH);
        }
        loop {
            match unsafe { libc::waitpid(-1, std::ptr::null_mut(), libc::WNOHANG) } {
                0 => break,
                n if n > 0 => {}
                _ => return true,
            }
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    false
}

/// What a command left behind still writes where the command did: with nobody reading there it would be ended by its next line
/// (SIGPIPE). It is read until every writer has closed; whatever ended meanwhile was handed to us, and is reaped.
fn read_on(out: i32) {
    let mut buffer = [0u8; 8192];
    loop {
        let mut fds = [libc::pollfd { fd: out, events: libc::POLLIN, revents: 0 }];
        let n = unsafe { libc::poll(fds.as_mut_ptr(), 1, 60_000) };
        if n > 0 {
            let n = unsafe { libc::read(out, buffer.as_mut_ptr().cast(), buffer.len()) };
            let interrupted = n < 0 && io::Error::last_os_error().raw_os_error() == Some(libc::EINTR);
            if n <= 0 && !interrupted {
                return;
            }
        }
        while unsafe { libc::waitpid(-1, std::ptr::null_mut(), libc::WNOHANG) } > 0 {}
    }
}
