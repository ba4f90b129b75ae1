//! Opening a channel to a host: the system's own SSH client, the outpost found there or carried there, or its plain shell.

use std::{
    borrow::Cow,
    process::Stdio,
    sync::{
        Arc, LazyLock, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use sha2::{Digest, Sha256};
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, AsyncReadExt, AsyncWriteExt, BufReader},
    process::Child,
};
use yantro_core::{model::SshSpec, words::Sudo};

use crate::{
    links::quoting::shell_word,
    links::shell::{self, Incoming, Outgoing},
    links::trouble::{Trouble, trouble_of},
    links::wire::{Ask, Hello, PROTOCOL, Said, Told},
};

/// The processor that the outpost was built for.
const OUTPOST_FOR: &str = std::env::consts::ARCH;

/// The outpost that is carried, with its hash, in each form that it can be carried in: the smallest first, of which the far side
/// takes the first that it has a program for.
struct Carried {
    forms: Vec<Form>,
    hash: String,
}

struct Form {
    /// The program that unpacks it, called with `-dc`; none for what is carried as it is.
    by: Option<&'static str>,
    bytes: Cow<'static, [u8]>,
}

/// A release has it built in, packed. What else may be wanted of it is made once, when first a host is opened.
#[cfg(carries_outpost)]
fn forms() -> Result<(Vec<u8>, Vec<Form>), Trouble> {
    use std::io::Read;
    let packed: &'static [u8] = include_bytes!(env!("YANTRO_OUTPOST"));
    let mut program = Vec::new();
    let unpacked = liblzma::read::XzDecoder::new(packed).read_to_end(&mut program);
    unpacked.map_err(|e| Trouble {
        why: format!("the outpost that is carried cannot be unpacked: {e}"),
        mend: "install Yantro anew".to_owned(),
    })?;
    let forms = vec![Form { by: Some("xz"), bytes: packed.into() }, gzipped(&program), plain(&program)];
    Ok((program, forms))
}

/// Other builds have it beside them, large and near: packing it would take longer than carrying it.
#[cfg(not(carries_outpost))]
fn forms() -> Result<(Vec<u8>, Vec<Form>), Trouble> {
    let exe = std::env::current_exe().unwrap_or_default();
    let found = exe.ancestors().skip(1).take(2).map(|dir| dir.join("yantro-outpost")).find(|p| p.is_file());
    let program = found.and_then(|p| std::fs::read(p).ok()).ok_or_else(|| Trouble {
        why: "this build of Yantro has no outpost beside it".to_owned(),
        mend: "build it too: `cargo build --workspace --bins`".to_owned(),
    })?;
    let forms = vec![plain(&program)];
    Ok((program, forms))
}

fn plain(program: &[u8]) -> Form {
    Form { by: None, bytes: program.to_vec().into() }
}

/// For hosts without xz(1); every system has this one.
#[cfg(any(carries_outpost, test))]
fn gzipped(program: &[u8]) -> Form {
    use std::io::Write;
    let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    let bytes = writer.write_all(program).and_then(|()| writer.finish()).unwrap_or_default();
    Form { by: Some("gzip"), bytes: bytes.into() }
}

impl Carried {
    fn of((program, forms): (Vec<u8>, Vec<Form>)) -> Self {
        let hash = Sha256::digest(&program).iter().map(|b| format!("{b:02x}")).collect();
        Self { forms, hash }
    }

    /// The form that the far side asks for by the name of what unpacks it.
    fn wanted(&self, by: &str) -> Option<&Form> {
        self.forms.iter().find(|form| form.by.unwrap_or(AS_IT_IS) == by)
    }
}

/// What the far side says that it wants where it has nothing to unpack with.
const AS_IT_IS: &str = "as-it-is";

fn carried() -> Result<&'static Carried, Trouble> {
    static CARRIED: LazyLock<Result<Carried, Trouble>> = LazyLock::new(|| forms().map(Carried::of));
    CARRIED.as_ref().map_err(Clone::clone)
}

/// A connection as it was opened.
pub(super) struct Opened {
    pub(super) child: Child,
    pub(super) stdin: Outgoing,
    pub(super) lines: Incoming,
    pub(super) stderr: Arc<Mutex<String>>,
    pub(super) hello: Hello,
}

/// What the account's shell does on the far side. An outpost that is installed there comes first; else the one of this
/// build in the account's cache folder, which is carried over where it is missing, and believed by its hash only.
fn script(spec: &SshSpec, carried: &Carried) -> String {
    let sudo = match spec.sudo {
        Some(Sudo::Outpost) => "sudo -n -- ",
        Some(Sudo::Acts) | None => "",
    };
    let installed = spec.outpost.as_deref().map_or_else(|| "/usr/local/lib/yantro/outpost".to_owned(), str::to_owned);
    let want = &carried.hash;
    // The first that is there: what it is called, how many bytes come, and how they are unpacked.
    let choices: String = carried
        .forms
        .iter()
        .map(|form| match (form.by, form.bytes.len()) {
            (Some(by), size) => format!("if command -v {by} >/dev/null 2>&1; then u={by} n={size}; by() {{ {by} -dc; }}; el"),
            (None, size) => format!("se u={AS_IT_IS} n={size}; by() {{ cat; }}; fi"),
        })
        .collect();
    // Where nothing can be packed at all there is nothing to choose.
    let choices = choices.strip_prefix("se ").map_or_else(|| choices.clone(), |only| only.trim_end_matches("; fi").to_owned());
    let inner = format!(
        r#"umask 077; i={installed}; if [ -x "$i" ] && [ "$("$i" --protocol 2>/dev/null)" = {PROTOCOL} ]; then exec {sudo}"$i"; fi; d="${{XDG_CACHE_HOME:-$HOME/.cache}}/yantro"; f="$d/outpost-{want}"; is() {{ [ -x "$1" ] && [ "$(sha256sum < "$1" | cut -d" " -f1)" = {want} ]; }}; if ! is "$f"; then {choices}; echo "yantro-outpost need $u $(uname -sm)"; mkdir -p "$d" || exit 71; head -c $n | by > "$f.$$" || {{ rm -f "$f.$$"; exit 72; }}; chmod 700 "$f.$$"; is "$f.$$" || {{ rm -f "$f.$$"; exit 73; }}; mv "$f.$$" "$f" || exit 72; fi; exec {sudo}"$f""#,
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
pub(super) async fn open_shell(address: &str, spec: &SshSpec) -> Result<Opened, Trouble> {
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
pub(super) async fn open(address: &str, spec: &SshSpec, server: &str, unfit: &AtomicBool) -> Result<Opened, Trouble> {
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
        if let Some((by, system)) = line.strip_prefix("yantro-outpost need ").and_then(|l| l.split_once(' ')) {
            if system.trim() != format!("Linux {OUTPOST_FOR}") {
                unfit.store(true, Ordering::Relaxed);
                return Err(Trouble {
                    why: format!("the outpost that is carried runs on Linux {OUTPOST_FOR}, and this host is {}", system.trim()),
                    mend: "build the outpost there (`cargo build --release` in outpost/), and install it as /usr/local/lib/yantro/outpost"
                        .to_owned(),
                });
            }
            let Some(form) = carried.wanted(by) else { continue };
            if channel.stdin.write_all(&form.bytes).await.is_err() || channel.stdin.flush().await.is_err() {
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

pub(super) async fn ended(child: &mut Child) -> Option<i32> {
    match tokio::time::timeout(Duration::from_secs(2), child.wait()).await {
        Ok(status) => status.ok().and_then(|s| s.code()),
        Err(_) => {
            let _ = child.start_kill();
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn what_the_far_shell_does_is_one_word_to_any_shell() {
        let carried = Carried { forms: vec![plain(b"x")], hash: "00ff".into() };
        let text = script(&SshSpec { outpost: Some("/opt/it's here".into()), ..SshSpec::default() }, &carried);
        let echoed = std::process::Command::new("sh").args(["-c", &text.replacen("exec sh -c", "printf %s", 1)]).output().unwrap();
        let inner = String::from_utf8(echoed.stdout).unwrap();
        assert!(inner.contains(r"'/opt/it'\''s here'") && inner.ends_with(r#""$f""#), "{inner}");
    }

    /// The far shell itself, with only so many programs to be found there, takes what it can unpack and runs it.
    #[rstest]
    #[case::the_smallest(&["xz", "gzip"], "xz")]
    #[case::what_there_is(&["gzip"], "gzip")]
    #[case::nothing_to_unpack_with(&[], AS_IT_IS)]
    fn it_is_carried_in_the_smallest_form_that_can_be_unpacked_there(#[case] there: &[&str], #[case] wanted: &str) {
        use std::{io::Write, os::unix::fs::symlink};
        let home = tempfile::tempdir().unwrap();
        let path = home.path().join("bin");
        std::fs::create_dir(&path).unwrap();
        let found = |name: &str| crate::looks::procs::in_path(name, "/usr/local/bin:/usr/bin:/bin").unwrap();
        for name in ["sh", "head", "cat", "chmod", "mv", "rm", "mkdir", "uname", "sha256sum", "cut"].iter().chain(there) {
            symlink(found(name), path.join(name)).unwrap();
        }
        // Long enough to be packed, and telling that it runs.
        let program = format!("#!/bin/sh\n# {}\necho it runs; cat\n", "the same again, ".repeat(500)).into_bytes();
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 9);
        xz.write_all(&program).unwrap();
        let xz = Form { by: Some("xz"), bytes: xz.finish().unwrap().into() };
        let forms = vec![xz, gzipped(&program), plain(&program)];
        let carried = Carried::of((program, forms));
        let mut far = std::process::Command::new(found("sh"))
            .args(["-c", &script(&SshSpec { outpost: Some("/nowhere".into()), ..SshSpec::default() }, &carried)])
            .env_clear()
            .env("HOME", home.path())
            .env("PATH", &path)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = std::io::BufRead::lines(std::io::BufReader::new(far.stdout.take().unwrap()));
        let asked = lines.next().unwrap().unwrap();
        let by = asked.split(' ').nth(2).unwrap_or_default();
        assert_eq!(by, wanted, "{asked}");
        let mut into = far.stdin.take().unwrap();
        into.write_all(&carried.wanted(by).unwrap().bytes).unwrap();
        // What comes behind it is the program's own.
        into.write_all(b"and what is said to it\n").unwrap();
        drop(into);
        let told: Vec<String> = lines.map_while(Result::ok).collect();
        assert_eq!(told, ["it runs", "and what is said to it"]);
        assert!(far.wait().unwrap().success());
    }
}
