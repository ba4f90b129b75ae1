//! A host on which no outpost can run, another processor's or an old one: its plain shell does acts and commands, and units by
//! their manager's command. What takes the outpost – processes of ours, logs, pages, connections – is said to take it.
//!
//! Over the one channel goes a line a request: its number, and a script in base 64. What the script says comes back in pieces
//! under that number. An act is a folder that can be made once only, as everywhere, with its process and its end written down beside it.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader, DuplexStream, Lines},
    sync::{
        Notify,
        mpsc::{UnboundedSender, unbounded_channel},
        oneshot,
    },
    task::AbortHandle,
};
use yantro_core::{
    estate::{CommandsSpec, Rung, RungKind, Service, ServiceRunner, secrecy},
    proof::{Answer, Verdict},
    run::{ActBegun, ActEnd, ActKind},
    sequence::{StepKind, manager_command, manager_kill},
    time::{Span, Timestamp},
};

use crate::{
    acts::recorder::{ActNews, ActRecord, GOES_ON, Recorded},
    links::quoting::shell_word,
    links::wire::{Ask, Hello, PROTOCOL, Said, Told, ToldClaim},
    looks::climb::{Climb, Report},
    looks::look::RawLook,
    looks::procs::ProcessId,
};

/// What the far side runs: it takes nothing that POSIX does not have but `base64`, `head` and `setsid`.
pub(crate) const SERVE: &str = r#"umask 077; d="$HOME/.local/state/yantro-shell"; mkdir -p "$d/acts" || exit 71; command -v base64 >/dev/null && command -v setsid >/dev/null || { echo "base64 and setsid are missing" >&2; exit 74; }; echo "yantro-shell ready"; while read -r n b; do ( s=$(printf %s "$b" | base64 -d) || exit 0; { (eval "$s") </dev/null 2>&1; printf "\n%s" "$?"; } | head -c 200000 | base64 | tr -d "\n" | fold -w 2000 | while read -r p || [ -n "$p" ]; do echo "$n $p"; done; echo "$n ." ) & done"#;

/// Between looks of a climb, and at an act under way.
const PACE: Duration = Duration::from_millis(400);
/// At most this much of an act's output is kept.
const OUTPUT_LIMIT: usize = 64 * 1024;

/// The channel to a plain shell.
pub(crate) struct Sh {
    out: UnboundedSender<String>,
    asked: Mutex<Asked>,
}

#[derive(Default)]
struct Asked {
    next: u64,
    /// What has come so far, and who waits for the whole.
    open: HashMap<u64, (String, oneshot::Sender<(i32, String)>)>,
}

impl Sh {
    pub fn new(out: UnboundedSender<String>) -> Self {
        Self { out, asked: Mutex::default() }
    }

    /// Runs a script there: its exit code, and what it printed. Whoever waits when the channel is lost waits for ever, and is
    /// dropped with it.
    pub async fn run(&self, script: &str) -> (i32, String) {
        let (tell, told) = oneshot::channel();
        {
            let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
            asked.next += 1;
            let number = asked.next;
            asked.open.insert(number, (String::new(), tell));
            // Gone only with the channel.
            let _ = self.out.send(format!("{number} {}\n", STANDARD.encode(script)));
        }
        match told.await {
            Ok(answer) => answer,
            Err(_) => std::future::pending().await,
        }
    }

    /// Takes in a line from the far side.
    pub fn heard(&self, line: &str) {
        let Some((number, piece)) = line.split_once(' ') else { return };
        let Ok(number) = number.parse::<u64>() else { return };
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if piece != "." {
            if let Some((so_far, _)) = asked.open.get_mut(&number) {
                so_far.push_str(piece);
            }
            return;
        }
        let Some((whole, tell)) = asked.open.remove(&number) else { return };
        let text = STANDARD.decode(whole).map(|b| String::from_utf8_lossy(&b).into_owned()).unwrap_or_default();
        let (said, code) = text.rsplit_once('\n').unwrap_or(("", "255"));
        // Nobody may wait for it any more.
        let _ = tell.send((code.trim().parse().unwrap_or(255), said.to_owned()));
    }
}

/// How the host introduces itself.
pub(crate) async fn hello(sh: &Sh) -> Result<Hello, String> {
    let script = "uname -n; id -un; cat /proc/sys/kernel/random/boot_id 2>/dev/null || echo unknown; uname -msr; echo \"$HOME\"; date +%s";
    let (_, said) = sh.run(script).await;
    let lines: Vec<&str> = said.lines().collect();
    let [host, account, boot, system, home, now] = lines.as_slice() else { return Err(format!("its shell says: {said}")) };
    Ok(Hello {
        protocol: PROTOCOL,
        host: (*host).to_owned(),
        account: (*account).to_owned(),
        boot: (*boot).to_owned(),
        system: (*system).to_owned(),
        data: format!("{home}/.local/state/yantro-shell"),
        outputs: format!("{home}/.local/state/yantro-shell/output"),
        now: Timestamp::from_ms(now.parse::<i64>().unwrap_or_default() * 1000),
        pid: 0,
        plain_shell: true,
        hangs_on: BTreeSet::new(),
    })
}

fn takes_outpost(what: &str) -> String {
    format!("{what} takes the outpost, which cannot run on this host")
}

/// Answers what an outpost would be asked.
pub(crate) async fn answer(sh: &Sh, hello: &Hello, sudo: bool, ask: Ask, tell: impl Fn(Value)) -> Result<Value, String> {
    let at = |identity: &str| format!("a=\"$d/acts/\"{}; ", shell_word(identity));
    Ok(match ask {
        Ask::Hello { .. } => json!(hello),
        Ask::Alive {} => {
            let (_, now) = sh.run("date +%s").await;
            json!(Timestamp::from_ms(now.trim().parse::<i64>().unwrap_or_default() * 1000))
        }
        Ask::Look { services } => {
            let looks = futures::future::join_all(services.iter().map(|(service, _)| look(sh, &hello.account, service))).await;
            json!(looks)
        }
        Ask::LookOnce { rung, .. } => match &rung.kind {
            RungKind::Rights { account, command, .. } => json!(rights(sh, hello, sudo, account, command).await),
            kind => json!(look_at(sh, &hello.account, None, kind).await),
        },
        Ask::Act { identity, kind, service, claim, .. } => {
            return act(sh, hello, sudo, &identity, kind, &service, &claim, &tell).await;
        }
        Ask::Recorded { identity } => json!(recorded(sh, hello, &at(&identity)).await),
        Ask::Follow { identity } => {
            follow(sh, hello, &at(&identity), &tell).await;
            Value::Null
        }
        Ask::Burn { identity } => {
            let (code, _) = sh
                .run(&format!(
                    "{}mkdir -p \"${{a%/*}}\" && mkdir \"$a\" 2>/dev/null && : > \"$a/burnt\" || [ -e \"$a/burnt\" ]",
                    at(&identity)
                ))
                .await;
            json!(code == 0)
        }
        Ask::Climb(climb) => {
            climb_by_looks(sh, &hello.account, *climb, &tell).await;
            Value::Null
        }
        Ask::WatchLog { .. } => std::future::pending().await,
        Ask::End { identity } => {
            let _ = sh.run(&format!("{}{} && [ ! -e \"$a/code\" ] && pkill -TERM -s \"$p\"", at(&identity), is_there())).await;
            Value::Null
        }
        Ask::Terms { .. } => json!({}),
        Ask::OwedByFiles { services } => json!(vec![None::<String>; services.len()]),
        Ask::MayActOn { claim } => kept(sh, &claim).await,
        Ask::TakeOver { claim } => {
            let (code, said) = sh.run(&taking_over(&claim.server)).await;
            if code != 0 {
                return Err(format!("which server acts there could not be written down: {}", said.trim()));
            }
            Value::Null
        }
        Ask::Survey {} => return Err(takes_outpost("looking through a host")),
        Ask::OpenLog { .. } | Ask::ReadFrom { .. } | Ask::ReadLog { .. } => return Err(takes_outpost("reading a log")),
    })
}

/// Whether another server acts there (R35). Where that cannot be read, nobody may say that none does.
async fn kept(sh: &Sh, claim: &ToldClaim) -> Value {
    match sh.run(WHO_ACTS).await {
        (0, other) => kept_by(&other, claim),
        (_, said) => json!({ "says": format!("which server acts there cannot be read: {}", said.trim()), "doubts": false }),
    }
}

fn kept_by(other: &str, claim: &ToldClaim) -> Value {
    if other.is_empty() || other == claim.server {
        return Value::Null;
    }
    json!({ "says": format!("another server acts there ({other})"), "doubts": false })
}

/// Which server acts there; nothing where none ever did.
const WHO_ACTS: &str = "f=\"$d/acting-server\"; if [ -e \"$f\" ] || [ -L \"$f\" ]; then cat \"$f\"; elif [ ! -d \"$d\" ] || [ ! -x \"$d\" ]; then echo \"$d cannot be entered\"; false; fi";

/// Claims the host, as far as nobody has: of two that do so at once one does, and the file is whole or not there. It prints who has
/// it, and fails where it cannot be written.
fn claiming(server: &str) -> String {
    format!(
        "f=\"$d/acting-server\"; if [ ! -e \"$f\" ]; then printf %s {} > \"$f.$$\" && sync && {{ ln \"$f.$$\" \"$f\" 2>/dev/null; rm -f \"$f.$$\"; }}; fi; cat \"$f\"",
        shell_word(server)
    )
}

/// Takes it over from whoever had it.
fn taking_over(server: &str) -> String {
    format!("f=\"$d/acting-server\"; printf %s {} > \"$f.$$\" && sync && mv -f \"$f.$$\" \"$f\" && sync", shell_word(server))
}

// ---- looks ----

async fn look(sh: &Sh, account: &str, service: &Service) -> RawLook {
    let runs = match &service.runner {
        ServiceRunner::Systemd(_) => Some(RungKind::Manager),
        ServiceRunner::Commands(c) if !c.state.is_empty() => Some(RungKind::State),
        _ => None,
    };
    let runs = match runs {
        Some(kind) => {
            let answer = look_at(sh, account, Some(service), &kind).await;
            match answer.verdict {
                Verdict::Holds => Some(true),
                Verdict::Against | Verdict::NotYet => Some(is_between(&kind, &answer)),
                Verdict::CouldNotLook => None,
            }
        }
        None => None,
    };
    let mut rungs = Vec::new();
    for rung in &service.ladder {
        let answer = look_at(sh, account, Some(service), &rung.kind).await;
        let holds = answer.verdict == Verdict::Holds;
        rungs.push(answer);
        if !holds {
            break;
        }
    }
    RawLook { runs, main: None, manager: None, rungs, total: service.ladder.len() }
}

/// What stands in place of an output that may show a secret.
const WITHHELD: &str = "its output is withheld: it was given a secret, and a plain shell cannot mask it";

/// Whether a command is given a secret, whose value only its host knows.
fn has_secret(env: &BTreeMap<String, String>, to_the_letter: &BTreeSet<String>) -> bool {
    env.iter().any(|(name, value)| !to_the_letter.contains(name) && (value.starts_with("file:") || value.starts_with("env:")))
}

/// A command with its folder and environment, and nothing else of the account's own but where programs are, the language, a home
/// and the zone; a reference is resolved there, by the shell, and is in no argument. What came from outside is taken to the
/// letter, whatever it looks like.
fn in_place(words: &[String], dir: &str, env: &BTreeMap<String, String>, to_the_letter: &BTreeSet<String>) -> String {
    let mut script = format!("cd {} || {{ echo \"the folder cannot be entered\"; exit 126; }}; ", shell_word(dir));
    for (name, value) in env.iter().filter(|(name, _)| is_variable(name)) {
        let unread = format!("|| {{ echo \"the secret of {name} cannot be read\"; exit 126; }}");
        script += &match (value.strip_prefix("file:"), value.strip_prefix("env:")) {
            _ if to_the_letter.contains(name) => format!("export {name}={}; ", shell_word(value)),
            (Some(path), _) => format!("{name}=\"$(cat {} 2>/dev/null)\" {unread}; export {name}; ", shell_word(path)),
            (_, Some(of)) if is_variable(of) => format!("[ -n \"${{{of}+set}}\" ] {unread}; export {name}=\"${{{of}}}\"; "),
            _ => format!("export {name}={}; ", shell_word(value)),
        };
    }
    // `a` and `d` are the script's own.
    let kept: String = env.keys().filter(|name| is_variable(name)).map(|name| format!("|{name}")).collect();
    script += &format!(
        "for v in $(env | sed -n 's/^\\([A-Za-z_][A-Za-z0-9_]*\\)=.*/\\1/p'); do case \"$v\" in a|d|PATH|LANG|HOME|TZ{kept}) ;; *) unset \"$v\";; esac; done; "
    );
    script + &words.iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" ")
}

/// What a look by command prints last, with its exit code, when it ended by itself: one that was ended at its limit did not.
const ENDED: &str = "yantro-ended ";

/// The words by which a command is run as another account, keeping what it is given.
fn as_account(user: &str, env: &BTreeMap<String, String>) -> Vec<String> {
    let names: Vec<&str> = env.keys().map(String::as_str).filter(|name| is_variable(name)).collect();
    let kept = (!names.is_empty()).then(|| format!("--preserve-env={}", names.join(",")));
    ["sudo", "-n", "-u", user].map(str::to_owned).into_iter().chain(kept).chain(["--".to_owned()]).collect()
}

/// A look by command: ended with its whole group at its limit, as timeout(1) does; of one that is given a secret only the exit code
/// leaves its host.
fn look_in_place(words: &[String], of: &LooksAs<'_>, within: Span) -> String {
    let withheld =
        if has_secret(of.env, of.to_the_letter) { format!(" > /dev/null 2>&1; c=$?; echo \"{WITHHELD}\"") } else { "; c=$?".to_owned() };
    let seconds = within.0.as_secs().max(1).to_string();
    let script = format!("\"$@\"{withheld}; printf '\\n{ENDED}%s' \"$c\"");
    let mut all: Vec<String> = ["timeout", "-s", "KILL", &seconds, "sh", "-c", &script, "sh"].map(str::to_owned).to_vec();
    all.extend(of.user.map(|user| as_account(user, of.env)).unwrap_or_default());
    all.extend(words.iter().cloned());
    // However much it prints, its end is what is wanted.
    format!("({}) 2>&1 | tail -c 4096", in_place(&all, of.dir, of.env, of.to_the_letter))
}

/// Where, with what and as whom the commands of a service look.
struct LooksAs<'s> {
    dir: &'s str,
    env: &'s BTreeMap<String, String>,
    to_the_letter: &'s BTreeSet<String>,
    user: Option<&'s str>,
}

/// What a process is, whatever others have its number by now: that, its start and the boot, as far as the system tells.
const WHO: &str = "$(cut -d' ' -f22 \"/proc/$p/stat\" 2>/dev/null) $(cat /proc/sys/kernel/random/boot_id 2>/dev/null)";

/// Whether what stands beside the act of folder `$a` is there still: it sets `$p`.
fn is_there() -> String {
    format!(
        "p=$(cat \"$a/pid\" 2>/dev/null); [ -n \"$p\" ] && kill -0 \"$p\" 2>/dev/null && [ \"{WHO}\" = \"$(cat \"$a/who\" 2>/dev/null)\" ]"
    )
}

/// What is left in a session but for whoever leads it: of a command that was ended at its limit and does not heed that, or that
/// runs as another account behind a `sudo` that was ended. It is ended by force as far as that may be, and what goes on is written down:
/// an act whose end could not be forced is no end.
const ENDS_WHOLE: &str = "left() { for q in $(pgrep -s \"$p\"); do g=$(ps -o pgid= -p \"$q\" | tr -d ' '); [ -z \"$g\" ] || [ \"$g\" = \"$p\" ] || echo \"$q\"; done; }; \
    if [ \"$c\" = 124 ] || [ \"$c\" = 137 ]; then for q in $(left); do kill -KILL \"$q\" 2>/dev/null; done; i=0; \
    while [ -n \"$(left)\" ] && [ $i -lt 20 ]; do sleep 0.1; i=$((i+1)); done; [ -z \"$(left)\" ] || : > \"$0/goes-on\"; fi; ";

/// What is run beside an act, in its folder: its end is written under another name first, and so is there whole or not at all.
fn beside(is_withheld: bool) -> String {
    let (before, into) =
        if is_withheld { (format!("echo \"{WITHHELD}\" > \"$0/output\"; "), "/dev/null") } else { (String::new(), "$0/output") };
    format!(
        "p=$$; echo \"{WHO}\" > \"$0/who\"; echo $$ > \"$0/pid\"; {before}\"$@\" > \"{into}\" 2>&1 < /dev/null; c=$?; {ENDS_WHOLE}echo $c > \"$0/code.new\"; mv \"$0/code.new\" \"$0/code\""
    )
}

/// Whether a shell takes this as the name of a variable, and as nothing else.
fn is_variable(name: &str) -> bool {
    let mut chars = name.chars();
    chars.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_') && chars.all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// A look, as a shell takes it.
struct Look {
    script: String,
    /// Exit codes by which it holds.
    holds: Vec<i32>,
    /// Exit codes by which it is not yet.
    not_yet: Vec<i32>,
    /// How long it may take.
    within: Duration,
    /// Whether it is a command of somebody's, which says at its end how it ended.
    is_command: bool,
}

/// What the system itself is asked may hang, too: on a network's files, say.
const ASKED_WITHIN: Duration = Duration::from_secs(10);

/// A look by whoever came in as `account`.
fn look_of(account: &str, service: Option<&Service>, kind: &RungKind) -> Option<Look> {
    let (none, no_names) = (BTreeMap::new(), BTreeSet::new());
    // Who is not root looks as itself: what sudo allows it is acts.
    let of = match service.map(|s| &s.runner) {
        Some(ServiceRunner::Commands(c)) => LooksAs {
            dir: &c.dir,
            env: &c.env,
            to_the_letter: &c.to_the_letter,
            user: c.user.as_deref().filter(|user| account == "root" && *user != account),
        },
        _ => LooksAs { dir: "/", env: &none, to_the_letter: &no_names, user: None },
    };
    let by_command = |words: &[String], holds: &[i32], not_yet: &[i32], within: Span| {
        let script = look_in_place(words, &of, within);
        // What is ended at its limit is given a moment for that.
        Some(Look { script, holds: holds.to_vec(), not_yet: not_yet.to_vec(), within: within.0 + Duration::from_secs(5), is_command: true })
    };
    let asking = |script: String, holds: i32, not_yet: i32| {
        Some(Look { script, holds: vec![holds], not_yet: vec![not_yet], within: ASKED_WITHIN, is_command: false })
    };
    let plain = |script: String| asking(script, 0, 1);
    match kind {
        RungKind::Command { command, holds, not_yet, within } => by_command(command, holds, not_yet, *within),
        RungKind::State => match service.map(|s| &s.runner) {
            Some(ServiceRunner::Commands(c)) => by_command(&c.state, &c.state_up, &c.state_down, c.within),
            _ => None,
        },
        RungKind::Manager => match service.map(|s| &s.runner) {
            // Its word counts, not its exit code: by that a unit on its way down is down already.
            Some(ServiceRunner::Systemd(s)) => asking(
                format!(
                    "s=$(systemctl is-active -- {} 2>&1); echo \"$s\"; \
                     case \"$s\" in active) exit 0;; inactive|failed|unknown) exit 3;; {}) exit 3;; *) exit 1;; esac",
                    shell_word(&s.unit),
                    BETWEEN.join("|")
                ),
                0,
                3,
            ),
            _ => None,
        },
        RungKind::Booted => plain("systemctl is-system-running | grep -E 'running|degraded'".to_owned()),
        RungKind::File { path, since_start: false, newer_than: None, at_least: None } => plain(there(path)),
        RungKind::Mount { path } => plain(format!("grep -F {} /proc/mounts", shell_word(&format!(" {path} ")))),
        RungKind::Program { program } => plain(format!("command -v {}", shell_word(program))),
        RungKind::Account { account } => plain(format!("id {}", shell_word(account))),
        RungKind::Owner { path, account } => {
            plain(format!("o=$(stat -c %U {}) || exit 2; [ \"$o\" = {} ]", shell_word(path), shell_word(account)))
        }
        RungKind::Room { path, bytes } => {
            plain(format!("[ \"$(df -Pk {} | tail -n 1 | tr -s ' ' | cut -d' ' -f4)\" -ge {} ]", shell_word(path), bytes.div_ceil(1024)))
        }
        RungKind::Unit { unit } => plain(format!(
            "s=$(systemctl show --property=LoadState --value -- {0}); [ \"$s\" = loaded ] || {{ echo \"{0} is not loaded: $s\"; exit 1; }}",
            shell_word(unit)
        )),
        // Each act leads a session of its own there; what else would end it the shell cannot tell.
        RungKind::Outlives => plain("true".to_owned()),
        RungKind::Records { bytes, .. } => {
            plain(format!("[ \"$(df -Pk \"$d\" | tail -n 1 | tr -s ' ' | cut -d' ' -f4)\" -ge {} ]", bytes.div_ceil(1024)))
        }
        RungKind::Port { port, on: None, .. } => plain(listens(*port)),
        RungKind::PortFree { port, on: None } => plain(listens(*port) + "; [ $? -ne 0 ]"),
        _ => None,
    }
}

/// The manager's words for a unit that is neither up nor down.
const BETWEEN: [&str; 5] = ["activating", "deactivating", "reloading", "refreshing", "maintenance"];

/// Whether the manager says of its unit that it is on its way: not proven, and not down either.
fn is_between(kind: &RungKind, answer: &Answer) -> bool {
    *kind == RungKind::Manager && BETWEEN.contains(&answer.says.as_str())
}

/// What a look after a stop comes to: it must find nothing (R15).
fn gone(kind: &RungKind, answer: Answer) -> Answer {
    match answer.verdict {
        Verdict::Holds => Answer::not_yet(format!("still so: {}", answer.says)),
        Verdict::NotYet | Verdict::Against if is_between(kind, &answer) => answer,
        Verdict::NotYet | Verdict::Against => Answer::holds(format!("gone: {}", answer.says)),
        Verdict::CouldNotLook => answer,
    }
}

/// Whether anything listens on a port, by the system's socket table; 0A is LISTEN. Without it nobody can say.
fn listens(port: u16) -> String {
    format!("cat /proc/net/tcp > /dev/null || exit 2; cat /proc/net/tcp /proc/net/tcp6 2>/dev/null | grep -iqE ':{port:04X} 0+:0000 0A'")
}

/// Whether a file is there: that there is none is told from not being let look.
fn there(path: &str) -> String {
    format!(
        "s=$(LC_ALL=C ls -ld {} 2>&1) && {{ echo \"$s\"; exit 0; }}; echo \"$s\"; case \"$s\" in *'No such file'*|*'Not a directory'*) exit 1;; *) exit 2;; esac",
        shell_word(path)
    )
}

async fn look_at(sh: &Sh, account: &str, service: Option<&Service>, kind: &RungKind) -> Answer {
    let Some(look) = look_of(account, service, kind) else { return Answer::could_not(takes_outpost(&kind.says())) };
    match tokio::time::timeout(look.within, sh.run(&look.script)).await {
        Ok((code, printed)) => answer_of(kind, code, &printed, &look),
        Err(_) => Answer::could_not(format!("{}: its shell did not answer within {}", kind.says(), Span(look.within))),
    }
}

/// What a look's script came to: its exit code, and a line that it printed.
fn answer_of(kind: &RungKind, code: i32, printed: &str, look: &Look) -> Answer {
    let (code, line) = match look.is_command {
        true => {
            let ended = printed.rsplit_once(ENDED).and_then(|(before, code)| Some((before, code.trim().parse::<i32>().ok()?)));
            let Some((before, code)) = ended else {
                let last = printed.lines().rev().find(|l| !l.trim().is_empty()).map(|l| format!(": {}", l.trim())).unwrap_or_default();
                return Answer::could_not(format!("{} did not end by itself in its time{last}", kind.says()));
            };
            (code, before.lines().rev().find(|l| !l.trim().is_empty()))
        }
        false => (code, printed.lines().next()),
    };
    let line = line.unwrap_or_default().trim();
    let says = if line.is_empty() { format!("{}: exit code {code}, by the plain shell", kind.says()) } else { line.to_owned() };
    match code {
        c if look.holds.contains(&c) => Answer::holds(says),
        c if look.not_yet.contains(&c) => Answer::not_yet(says),
        _ => Answer::could_not(format!("exit code {code}: {says}")),
    }
}

/// Whether this account may give a command as another one; `sudo -n -l` only lists.
async fn rights(sh: &Sh, hello: &Hello, sudo: bool, account: &str, command: &[String]) -> Answer {
    let own = &hello.account;
    if own == "root" || own == account {
        return Answer::holds(format!("it is {own} itself"));
    }
    if !sudo && command.first().is_some_and(|c| c == "systemctl") {
        return Answer::holds(format!("what its manager lets {own} do cannot be asked by a plain shell"));
    }
    let words: Vec<String> = command.iter().map(|w| shell_word(w)).collect();
    let (code, _) = sh.run(&format!("sudo -n -l -u {} -- {} > /dev/null 2>&1", shell_word(account), words.join(" "))).await;
    match code {
        0 => Answer::holds(format!("sudo lets {own} do it as {account}")),
        _ => Answer::not_yet(format!(
            "sudo does not let {own} do it as {account}: allow `{}` there, with NOPASSWD, in /etc/sudoers.d/yantro",
            command.join(" ")
        )),
    }
}

/// Climbs by looking again and again, until left.
async fn climb_by_looks(sh: &Sh, account: &str, climb: Climb, tell: &impl Fn(Value)) {
    let rungs = climb.service.ladder_of(climb.kind);
    let look = async |rung: &Rung| {
        let answer = look_at(sh, account, Some(&climb.service), &rung.kind).await;
        if climb.kind == StepKind::Stop { gone(&rung.kind, answer) } else { answer }
    };
    let (mut at, mut last): (usize, Option<(usize, Answer)>) = (climb.from, None);
    loop {
        // All below is looked at again once the last was climbed.
        let from = if at >= rungs.len() { 0 } else { at };
        for (i, rung) in rungs.iter().enumerate().skip(from) {
            let answer = look(rung).await;
            let holds = answer.verdict == Verdict::Holds;
            let is_news = if i < at { !holds } else { last.as_ref() != Some(&(i, answer.clone())) };
            if is_news {
                tell(json!(Report { rung: i as u32, answer: answer.clone(), logs: Vec::new() }));
            }
            if !holds {
                (at, last) = (i, Some((i, answer)));
                break;
            }
            at = at.max(i + 1);
        }
        tokio::time::sleep(PACE).await;
    }
}

// ---- acts ----

/// What an act's command is, where and as whom, and how long it may take.
struct Prepared<'s> {
    words: Vec<String>,
    dir: &'s str,
    env: BTreeMap<String, String>,
    to_the_letter: BTreeSet<String>,
    user: Option<String>,
    within: Span,
}

fn prepared<'s>(service: &'s Service, kind: ActKind, sudo: bool) -> Result<Prepared<'s>, String> {
    let (start, stop) = (service.start.patience, service.stop.patience);
    let within = if matches!(kind, ActKind::Stop | ActKind::Clear | ActKind::Force | ActKind::Evidence(_)) { stop } else { start };
    let root = || sudo.then(|| "root".to_owned());
    let bare = |words: Vec<String>, user| Prepared { words, dir: "/", env: BTreeMap::new(), to_the_letter: BTreeSet::new(), user, within };
    let prepared = match (&service.runner, kind) {
        (_, ActKind::Evidence(n)) => bare(service.stop.evidence.get(n as usize).cloned().unwrap_or_default(), None),
        (ServiceRunner::Systemd(s), ActKind::Start) => bare(manager_command("start", &s.unit), root()),
        (ServiceRunner::Systemd(s), ActKind::Stop | ActKind::Clear) => bare(manager_command("stop", &s.unit), root()),
        (ServiceRunner::Systemd(s), ActKind::Reload) => bare(manager_command("reload", &s.unit), root()),
        (ServiceRunner::Systemd(s), ActKind::Force) => bare(manager_kill(&s.unit), root()),
        (ServiceRunner::Host(h), ActKind::Stop | ActKind::Clear) => {
            bare(if h.reboots { h.reboot.clone() } else { h.shut_down.clone() }, root())
        }
        (ServiceRunner::Commands(c), kind) => {
            let CommandsSpec { start, stop, force, reload, dir, env, to_the_letter, user, within, .. } = c;
            let words = match kind {
                ActKind::Stop | ActKind::Clear => stop,
                ActKind::Force => force,
                ActKind::Reload => reload,
                _ => start,
            };
            Prepared {
                words: words.clone(),
                dir,
                env: env.clone(),
                to_the_letter: to_the_letter.clone(),
                user: user.clone(),
                within: *within,
            }
        }
        _ => return Err(takes_outpost("a process that Yantro itself starts and knows again")),
    };
    if prepared.words.is_empty() { Err("the estate has no command for that".to_owned()) } else { Ok(prepared) }
}

fn of_process(boot: &str, pid: u32, started: u64, begun: Option<ActBegun>) -> ActRecord {
    let process = ProcessId { boot: boot.to_owned(), pid, started };
    ActRecord { process: Some(process.clone()), recorder: process, group: None, begun }
}

#[allow(clippy::too_many_arguments, reason = "the parts of one request")]
async fn act(
    sh: &Sh,
    hello: &Hello,
    sudo: bool,
    identity: &str,
    kind: ActKind,
    service: &Service,
    claim: &ToldClaim,
    tell: &impl Fn(Value),
) -> Result<Value, String> {
    let kept = kept(sh, claim).await;
    if !kept.is_null() {
        return Ok(json!({ "kept": kept }));
    }
    let Prepared { mut words, dir, env, to_the_letter, user, within } = prepared(service, kind, sudo)?;
    let begun = ActBegun {
        env: env.iter().map(|(name, value)| (name.clone(), secrecy::shown(name, value))).collect(),
        to_the_letter: to_the_letter.clone(),
        command: words.clone(),
        dir: dir.to_owned(),
        user: user.clone().unwrap_or_else(|| hello.account.clone()),
        pid: None,
        started: None,
        marks: BTreeMap::new(),
        boot: None,
    };
    if let Some(user) = user.filter(|u| *u != hello.account) {
        words.splice(0..0, as_account(&user, &env));
    }
    let limited = format!("{}s", within.0.as_secs().max(1));
    let mut all = vec!["setsid".to_owned(), "sh".to_owned(), "-c".to_owned(), beside(has_secret(&env, &to_the_letter)), "@ACT@".to_owned()];
    // What does not heed its limit is ended by force, so that the act has an end.
    all.extend(["timeout".to_owned(), "-k".to_owned(), "5".to_owned(), limited]);
    // What is written down of it is for this account only; what it makes itself is not.
    all.extend(["sh", "-c", "umask \"$0\"; exec \"$@\"", &format!("{:03o}", service.runner.umask())].map(str::to_owned));
    all.extend(words);
    let script = format!(
        "a=\"$d/acts/\"{}; o=$({}); [ \"$o\" = {} ] || {{ echo \"kept $o\"; exit 0; }}; mkdir -p \"${{a%/*}}\"; mkdir \"$a\" 2>/dev/null || {{ echo before; exit 0; }}; \
         printf %s {} > \"$a/note\"; sync; {} >/dev/null 2>&1 & \
         i=0; while [ ! -s \"$a/pid\" ] && [ $i -lt 50 ]; do sleep 0.1; i=$((i+1)); done; echo begun \"$(cat \"$a/pid\")\"",
        shell_word(identity),
        claiming(&claim.server),
        shell_word(&claim.server),
        shell_word(&json!(begun).to_string()),
        in_place(&all, dir, &env, &to_the_letter).replace("'@ACT@'", "\"$a\""),
    );
    let (_, said) = sh.run(&script).await;
    let pid = said.trim().strip_prefix("begun ").and_then(|p| p.trim().parse::<u32>().ok());
    if let Some(other) = said.trim().strip_prefix("kept ") {
        let kept = kept_by(other, claim);
        let unwritten = || json!({ "says": "which server acts there cannot be written down", "doubts": false });
        return Ok(json!({ "kept": if kept.is_null() { unwritten() } else { kept } }));
    }
    match (said.trim(), pid) {
        ("before", _) => tell(json!(ActNews::BegunBefore)),
        (_, Some(pid)) => {
            let begun = ActBegun { pid: Some(pid), ..begun };
            tell(json!(ActNews::Begun(Box::new(begun.clone()), Box::new(of_process(&hello.boot, pid, 0, Some(begun))))));
            follow(sh, hello, &format!("a=\"$d/acts/\"{}; ", shell_word(identity)), tell).await;
        }
        (other, None) => {
            let why = format!("its shell could not begin it: {other}");
            tell(json!(ActNews::Ended(ActEnd::Refused { why, mend: "see what its shell says, mend it, and try again".to_owned() })));
        }
    }
    Ok(Value::Null)
}

/// What is written down of an act; `at` sets its folder.
async fn recorded(sh: &Sh, hello: &Hello, at: &str) -> Recorded {
    let script = format!(
        "{at}[ -d \"$a\" ] || {{ echo nothing; exit 0; }}; [ ! -e \"$a/burnt\" ] || {{ echo burnt; exit 0; }}; [ ! -e \"$a/goes-on\" ] || {{ echo goes-on; exit 0; }}; cat \"$a/note\" 2>/dev/null; echo; p=$(cat \"$a/pid\" 2>/dev/null); \
         if [ -e \"$a/code\" ]; then echo \"ended $(cat \"$a/code\") $p $(cat \"$a/who\" 2>/dev/null)\"; head -c {OUTPUT_LIMIT} \"$a/output\"; \
         elif [ -n \"$p\" ]; then {there} && echo \"alive 0 $p $(cat \"$a/who\")\" || echo \"gone 0 $p $(cat \"$a/who\" 2>/dev/null)\"; else echo folder; fi",
        there = is_there()
    );
    let (_, said) = sh.run(&script).await;
    let mut lines = said.splitn(3, '\n');
    let note = lines.next().unwrap_or_default();
    if note == "nothing" {
        return Recorded::Nothing;
    }
    if note == "burnt" {
        return Recorded::Burnt;
    }
    if note == "goes-on" {
        return Recorded::GoesOn;
    }
    let begun: Option<ActBegun> = serde_json::from_str(note).ok();
    let words: Vec<&str> = lines.next().unwrap_or_default().split_whitespace().collect();
    let output = lines.next().unwrap_or_default().to_owned();
    let pid = words.get(2).and_then(|p| p.parse::<u32>().ok());
    let (started, boot) = (words.get(3).and_then(|s| s.parse::<u64>().ok()), words.get(4));
    let record = |pid: u32| {
        let boot = boot.map_or_else(|| hello.boot.clone(), |b| (*b).to_owned());
        of_process(&boot, pid, started.unwrap_or_default(), begun.map(|b| ActBegun { pid: Some(pid), ..b }))
    };
    match (words.first().copied(), pid) {
        (Some("ended"), pid) => {
            let code = words.get(1).and_then(|c| c.parse::<i32>().ok()).unwrap_or(255);
            let end = if code == 124 { ActEnd::TimedOut { output } } else { ActEnd::Exited { code, output } };
            Recorded::Ended(pid.map(record), end)
        }
        (Some("alive" | "gone"), Some(pid)) => Recorded::Begun(record(pid)),
        _ => Recorded::OnlyFolder,
    }
}

/// Follows an act to its end.
async fn follow(sh: &Sh, hello: &Hello, at: &str, tell: &impl Fn(Value)) {
    let mut gone = 0;
    loop {
        match recorded(sh, hello, at).await {
            Recorded::Ended(_, end) => return tell(json!(ActNews::Ended(end))),
            Recorded::Begun(_) => {
                let (code, _) = sh.run(&format!("{at}{}", is_there())).await;
                gone = if code == 0 { 0 } else { gone + 1 };
            }
            Recorded::GoesOn => return tell(json!(ActNews::Lost(GOES_ON.to_owned()))),
            Recorded::Nothing | Recorded::OnlyFolder | Recorded::Burnt => gone += 1,
        }
        // Its end is written down a moment after it.
        if gone > 3 {
            return tell(json!(ActNews::Lost("neither its process nor its end is there any more".to_owned())));
        }
        tokio::time::sleep(PACE).await;
    }
}

/// What comes in over the channel, and what goes out.
pub(crate) type Incoming = Lines<BufReader<Box<dyn AsyncRead + Send + Unpin>>>;
pub(crate) type Outgoing = Box<dyn AsyncWrite + Send + Unpin>;

/// Begins on a channel at whose far end [`SERVE`] runs: what comes back speaks like an outpost, and ends with the channel.
pub(crate) async fn begin(mut to: Outgoing, mut from: Incoming, sudo: bool) -> Result<(Hello, Outgoing, Incoming), String> {
    let (out, mut scripts) = unbounded_channel::<String>();
    let sh = Arc::new(Sh::new(out));
    let ended = Arc::new(Notify::new());
    let (heard, over) = (Arc::clone(&sh), Arc::clone(&ended));
    tokio::spawn(async move {
        let writing = async {
            while let Some(line) = scripts.recv().await {
                if to.write_all(line.as_bytes()).await.is_err() || to.flush().await.is_err() {
                    break;
                }
            }
        };
        let reading = async {
            while let Ok(Some(line)) = from.next_line().await {
                heard.heard(&line);
            }
        };
        tokio::select! {
            () = writing => {}
            () = reading => {}
        }
        over.notify_one();
    });
    let hello = hello(&sh).await?;
    let (ours, theirs) = tokio::io::duplex(256 * 1024);
    let (read, write) = tokio::io::split(ours);
    let as_outpost = Arc::new(Shell { sh, hello: hello.clone(), sudo });
    tokio::spawn(async move {
        tokio::select! {
            () = as_outpost.serve(theirs) => {}
            () = ended.notified() => {}
        }
    });
    let read: Box<dyn AsyncRead + Send + Unpin> = Box::new(read);
    Ok((hello, Box::new(write), BufReader::new(read).lines()))
}

/// A shell that is asked as an outpost is.
struct Shell {
    sh: Arc<Sh>,
    hello: Hello,
    sudo: bool,
}

impl Shell {
    async fn serve(self: Arc<Self>, channel: DuplexStream) {
        let (read, mut write) = tokio::io::split(channel);
        let (say, mut says) = unbounded_channel::<Said>();
        let mut lines = BufReader::new(read).lines();
        let mut open: HashMap<u64, AbortHandle> = HashMap::new();
        loop {
            tokio::select! {
                Some(said) = says.recv() => {
                    if let Said::Answer(id, _) = &said {
                        open.remove(id);
                    }
                    if write.write_all(said.line().as_bytes()).await.is_err() {
                        break;
                    }
                }
                line = lines.next_line() => {
                    let Ok(Some(line)) = line else { break };
                    match Told::read(&line) {
                        Ok(Told::Ask(id, ask)) => {
                            let (shell, say) = (Arc::clone(&self), say.clone());
                            let task = tokio::spawn(async move {
                                let tell = |what| drop(say.send(Said::Tell(id, what)));
                                let answer = answer(&shell.sh, &shell.hello, shell.sudo, *ask, tell).await;
                                drop(say.send(Said::Answer(id, answer)));
                            });
                            open.insert(id, task.abort_handle());
                        }
                        Ok(Told::Leave(of)) => {
                            if let Some(task) = open.remove(&of) {
                                task.abort();
                            }
                        }
                        // We are spoken to by ourselves.
                        Err((_, why)) => tracing::warn!(%why, "a request to a plain shell cannot be read"),
                    }
                }
            }
        }
        open.into_values().for_each(|task| task.abort());
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use rstest::rstest;

    use super::*;

    /// A unit's state as its manager words it; exit codes as systemctl(1) has them, which are 3 for all that is not active.
    #[rstest]
    #[case::up("active", 0, Verdict::Holds, Verdict::NotYet)]
    #[case::down("inactive", 3, Verdict::NotYet, Verdict::Holds)]
    #[case::failed("failed", 3, Verdict::NotYet, Verdict::Holds)]
    #[case::no_such_unit("inactive", 4, Verdict::NotYet, Verdict::Holds)]
    #[case::on_its_way_up("activating", 3, Verdict::NotYet, Verdict::NotYet)]
    #[case::on_its_way_down("deactivating", 3, Verdict::NotYet, Verdict::NotYet)]
    #[case::taking_its_settings("reloading", 0, Verdict::NotYet, Verdict::NotYet)]
    #[case::no_manager("Failed to connect to bus: Host is down", 1, Verdict::CouldNotLook, Verdict::CouldNotLook)]
    #[case::a_word_of_later_days("thawing", 3, Verdict::CouldNotLook, Verdict::CouldNotLook)]
    fn a_unit_on_its_way_is_neither_up_nor_down(#[case] word: &str, #[case] code: i32, #[case] up: Verdict, #[case] down: Verdict) {
        let text = "[estate]\nname = \"Reach\"\nstands_for = \"test\"\n[host.quay]\nreach = \"here\"\n[service.gate]\nhost = \"quay\"\n\
                    run_by = \"systemd\"\nunit = \"gate.service\"\n";
        let service = yantro_core::estate::vet(text, "/").estate.unwrap().services.into_values().next().unwrap();
        let dir = tempfile::tempdir().unwrap();
        let manager = dir.path().join("systemctl");
        std::fs::write(&manager, format!("#!/bin/sh\necho '{word}'\nexit {code}\n")).unwrap();
        std::fs::set_permissions(&manager, std::fs::Permissions::from_mode(0o700)).unwrap();
        let look = look_of("root", Some(&service), &RungKind::Manager).unwrap();
        let path = format!("{}:/usr/bin:/bin", dir.path().display());
        let ran = std::process::Command::new("/bin/sh").args(["-c", &look.script]).env("PATH", path).output().unwrap();
        let printed = String::from_utf8_lossy(&ran.stdout);
        let answer = answer_of(&RungKind::Manager, ran.status.code().unwrap(), &printed, &look);
        assert_eq!(answer.verdict, up, "{answer:?}");
        assert_eq!(gone(&RungKind::Manager, answer.clone()).verdict, down, "{answer:?}");
        assert_eq!(is_between(&RungKind::Manager, &answer), up == Verdict::NotYet && down == Verdict::NotYet);
    }

    fn sh(script: &str, args: &[&str]) -> (i32, String) {
        let ran = std::process::Command::new("/bin/sh").args(["-c", script]).args(args).output().unwrap();
        (ran.status.code().unwrap(), format!("{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr)))
    }

    /// A plain shell masks nothing: what was given a secret keeps its output on its host.
    #[rstest]
    #[case::a_secret(|file: &str| format!("file:{file}"), true)]
    #[case::a_value(|_: &str| "a plain canary".to_owned(), false)]
    fn the_output_of_what_is_given_a_secret_is_withheld(#[case] value: fn(&str) -> String, #[case] is_withheld: bool) {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("secret");
        std::fs::write(&file, "a canary\n").unwrap();
        let env = BTreeMap::from([("KEY".to_owned(), value(&file.display().to_string()))]);
        let words = ["sh", "-c", "echo \"out $KEY\"; echo \"err $KEY\" >&2; [ -n \"$KEY\" ] && exit 3"].map(str::to_owned);
        let none = BTreeSet::new();
        let as_it_is = LooksAs { dir: "/", env: &env, to_the_letter: &none, user: None };
        let (_, printed) = sh(&look_in_place(&words, &as_it_is, Span(Duration::from_secs(10))), &[]);
        assert!(printed.ends_with(&format!("{ENDED}3")), "{printed}");
        assert_eq!(printed.contains("canary"), !is_withheld, "{printed}");
        assert_eq!(printed.contains("withheld"), is_withheld, "{printed}");

        let act = dir.path().display().to_string();
        let ran = format!("{} \"$@\"", in_place(&["sh".into(), "-c".into(), beside(is_withheld), act], "/", &env, &BTreeSet::new()));
        sh(&ran, &["sh", &words[0], &words[1], &words[2]]);
        let output = std::fs::read_to_string(dir.path().join("output")).unwrap();
        assert_eq!((output.contains("canary"), output.contains("withheld")), (!is_withheld, is_withheld), "{output}");
        assert_eq!(std::fs::read_to_string(dir.path().join("code")).unwrap().trim(), "3");
        assert_eq!(has_secret(&env, &BTreeSet::new()), is_withheld);
        assert!(!has_secret(&env, &BTreeSet::from(["KEY".to_owned()])), "what came from outside is no reference");
    }

    /// A number is another process's after a reboot, and after enough others: what has it is not what stands beside the act.
    #[test]
    fn what_stands_beside_an_act_is_not_taken_for_another_of_its_number() {
        let dir = tempfile::tempdir().unwrap();
        let act = dir.path().display().to_string();
        let beside = beside(false);
        let mut child = std::process::Command::new("/bin/sh").args(["-c", &beside, &act, "sleep", "30.0531"]).spawn().unwrap();
        let there = || sh(&format!("a={}; {}", shell_word(&act), is_there()), &[]).0 == 0;
        let who = dir.path().join("who");
        while !dir.path().join("pid").exists() {
            std::thread::yield_now();
        }
        let is = std::fs::read_to_string(&who).unwrap();
        assert!(there(), "{is}");
        std::fs::write(&who, is.replacen(char::is_numeric, "9", 1) + "9").unwrap();
        assert!(!there(), "another boot, another start");
        std::fs::write(&who, &is).unwrap();
        assert!(there());
        let _ = std::process::Command::new("pkill").args(["-P", &child.id().to_string()]).status();
        child.wait().unwrap();
        assert!(!there());
    }

    /// A command that does not heed its limit, nor what it began, is ended by force; and whatever cannot be is no end.
    #[rstest]
    #[case::ended("trap '' TERM; (trap '' TERM; sleep MARK; sleep MARK) & wait; sleep MARK", "", "137", false)]
    #[case::what_it_began("(trap '' TERM; sleep MARK; sleep MARK) & wait", "", "124", false)]
    #[case::what_may_not_be_ended("(trap '' TERM; exec sleep MARK) & wait", "kill() { :; }; ", "124", true)]
    #[case::a_daemon_that_it_started("setsid sh -c 'sleep MARK' & exit 124", "", "124", false)]
    fn an_act_that_is_ended_at_its_limit_is_ended_whole(
        #[case] script: &str,
        #[case] before: &str,
        #[case] code: &str,
        #[case] goes_on: bool,
    ) {
        let mark = format!("32.{}{}", std::process::id(), script.len() + before.len());
        let dir = tempfile::tempdir().unwrap();
        let act = dir.path().display().to_string();
        let words = [
            "setsid",
            "-w",
            "sh",
            "-c",
            &format!("{before}{}", beside(false)),
            &act,
            "timeout",
            "-k",
            "1",
            "1",
            "sh",
            "-c",
            &script.replace("MARK", &mark),
        ];
        let all: Vec<String> = words.iter().map(|w| shell_word(w)).collect();
        sh(&all.join(" "), &[]);
        assert_eq!(std::fs::read_to_string(dir.path().join("code")).unwrap().trim(), code);
        assert_eq!(dir.path().join("goes-on").exists(), goes_on);
        let left = || !std::process::Command::new("pgrep").args(["-f", &format!("sleep {mark}")]).output().unwrap().stdout.is_empty();
        assert_eq!(left(), goes_on || script.contains("setsid"));
        let _ = std::process::Command::new("pkill").args(["-KILL", "-f", &format!("sleep {mark}")]).status();
    }

    /// A command is not run without the secret that it was to be given.
    #[rstest]
    #[case::no_file("file:/nowhere/secret")]
    #[case::no_variable("env:YANTRO_TEST_UNSET")]
    fn a_secret_that_cannot_be_read_is_said(#[case] reference: &str) {
        let env = BTreeMap::from([("KEY".to_owned(), reference.to_owned())]);
        let (code, printed) = sh(&in_place(&["echo".into(), "ran".into()], "/", &env, &BTreeSet::new()), &[]);
        assert_eq!((code, printed.trim()), (126, "the secret of KEY cannot be read"));
    }

    fn by_command(words: &[&str], not_yet: Vec<i32>) -> (RungKind, Look) {
        let command = words.iter().map(|w| (*w).to_owned()).collect();
        let kind = RungKind::Command { command, holds: vec![0], not_yet, within: Span(Duration::from_secs(1)) };
        let look = look_of("root", None, &kind).unwrap();
        (kind, look)
    }

    /// The exit codes of whatever ends a look at its limit are none of its own, whichever those are.
    #[rstest]
    #[case::up("echo lit; exit 0", Verdict::Holds, "lit")]
    #[case::not_yet("echo out; exit 124", Verdict::NotYet, "out")]
    #[case::by_a_signal_of_its_own("echo hit; kill -9 $$", Verdict::NotYet, "")]
    #[case::its_time_is_over("echo slow; sleep MARK", Verdict::CouldNotLook, "slow")]
    #[case::it_does_not_heed_its_limit("trap '' TERM; echo deaf; sleep MARK; sleep MARK", Verdict::CouldNotLook, "deaf")]
    #[case::undeclared("echo what; exit 7", Verdict::CouldNotLook, "exit code 7: what")]
    #[case::it_prints_much("yes | head -c 300000; echo much; exit 0", Verdict::Holds, "much")]
    #[case::what_it_is_not_given("echo \"of:$YANTRO_TEST_OF_SHELLS:it\"; [ -n \"$HOME\" ]", Verdict::Holds, "of::it")]
    fn a_look_by_command_is_taken_at_its_own_word(#[case] script: &str, #[case] verdict: Verdict, #[case] says: &str) {
        use std::sync::atomic::{AtomicU32, Ordering};
        static CASE: AtomicU32 = AtomicU32::new(0);
        // Told from what others have sleeping.
        let mark = format!("31.{}{}", std::process::id(), CASE.fetch_add(1, Ordering::Relaxed));
        let (kind, look) = by_command(&["sh", "-c", &script.replace("MARK", &mark)], vec![1, 124, 137]);
        let began = std::time::Instant::now();
        let ran = std::process::Command::new("/bin/sh").args(["-c", &look.script]).env("YANTRO_TEST_OF_SHELLS", "the account's").output();
        let ran = ran.unwrap();
        let answer = answer_of(&kind, ran.status.code().unwrap(), &String::from_utf8_lossy(&ran.stdout), &look);
        assert!(answer.verdict == verdict && answer.says.contains(says), "{answer:?} of {}", look.script);
        assert!(began.elapsed() < Duration::from_secs(20));
        let left = std::process::Command::new("pgrep").args(["-f", &format!("sleep {mark}")]).output().unwrap();
        // Its limit ends its whole group.
        assert!(left.stdout.is_empty() || verdict != Verdict::CouldNotLook, "{}", String::from_utf8_lossy(&left.stdout));
    }

    /// "It is not there" and "it cannot be looked for" are two things, and so are "nothing listens" and "nobody can say".
    #[rstest]
    #[case::there("/etc", Verdict::Holds)]
    #[case::not_there("/etc/nowhere-at-all", Verdict::NotYet)]
    #[case::below_a_file("/etc/passwd/below", Verdict::NotYet)]
    fn a_file_that_is_not_there_is_told_from_one_that_cannot_be_looked_for(#[case] path: &str, #[case] verdict: Verdict) {
        let kind = RungKind::File { path: path.to_owned(), since_start: false, newer_than: None, at_least: None };
        let look = look_of("root", None, &kind).unwrap();
        let (code, printed) = sh(&look.script, &[]);
        assert_eq!(answer_of(&kind, code, &printed, &look).verdict, verdict, "{printed}");
    }

    /// The system's own programs, in places of their own.
    fn with_programs(dir: &std::path::Path, programs: &[(&str, &str)], script: &str) -> (i32, String) {
        for (name, text) in programs {
            std::fs::write(dir.join(name), format!("#!/bin/sh\n{text}\n")).unwrap();
            std::fs::set_permissions(dir.join(name), std::fs::Permissions::from_mode(0o700)).unwrap();
        }
        let path = format!("{}:/usr/bin:/bin", dir.display());
        let ran = std::process::Command::new("/bin/sh").args(["-c", script]).env("PATH", path).output().unwrap();
        (ran.status.code().unwrap(), String::from_utf8_lossy(&ran.stdout).into_owned())
    }

    #[rstest]
    #[case::a_file(RungKind::File { path: "/x".into(), since_start: false, newer_than: None, at_least: None }, "ls", "echo 'ls: /x: Permission denied'; exit 2")]
    #[case::a_port(RungKind::Port { port: 7010, on: None, held_by_any: true }, "cat", "exit 1")]
    #[case::a_free_port(RungKind::PortFree { port: 7010, on: None }, "cat", "exit 1")]
    #[case::an_owner(RungKind::Owner { path: "/x".into(), account: "root".into() }, "stat", "exit 1")]
    fn what_cannot_be_looked_at_is_neither(#[case] kind: RungKind, #[case] program: &str, #[case] does: &str) {
        let dir = tempfile::tempdir().unwrap();
        let look = look_of("root", None, &kind).unwrap();
        let (code, printed) = with_programs(dir.path(), &[(program, does)], &look.script);
        assert_eq!(answer_of(&kind, code, &printed, &look).verdict, Verdict::CouldNotLook, "{code} {printed}");
    }

    /// Of two servers that claim a host at once one has it, and what cannot be read is not taken for nobody's.
    #[test]
    fn a_host_is_claimed_by_one_and_never_by_guess() {
        let dir = tempfile::tempdir().unwrap();
        let d = shell_word(&dir.path().display().to_string());
        let run = |script: &str| sh(&format!("d={d}; {script}"), &[]);
        assert_eq!(run(WHO_ACTS), (0, String::new()));
        let all: Vec<(i32, String)> = std::thread::scope(|scope| {
            let claims: Vec<_> = (0..8).map(|n| scope.spawn(move || claiming(&format!("server-{n}")))).map(|c| c.join().unwrap()).collect();
            let run = &run;
            let running: Vec<_> = claims.into_iter().map(|c| scope.spawn(move || run(&c))).collect();
            running.into_iter().map(|r| r.join().unwrap()).collect()
        });
        assert!(all[0].1.starts_with("server-") && all.iter().all(|one| one == &all[0]), "{all:?}");
        assert_eq!(run(WHO_ACTS), all[0]);
        assert_eq!(run(&taking_over("server-9")).0, 0);
        assert_eq!(run(&claiming("server-1")).1, "server-9");
        // A link that leads nowhere is there, and cannot be read.
        std::fs::remove_file(dir.path().join("acting-server")).unwrap();
        std::os::unix::fs::symlink("nowhere", dir.path().join("acting-server")).unwrap();
        assert_ne!(run(WHO_ACTS).0, 0);
        assert_ne!(run(&claiming("server-1")).1, "server-1");
    }
}
