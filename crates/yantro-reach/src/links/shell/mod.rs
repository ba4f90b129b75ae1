//! A host on which no outpost can run, another processor's or an old one: its plain shell does acts and commands, and units by
//! their manager's command. What takes the outpost – processes of ours, logs, pages, connections – is said to take it.
//!
//! Over the one channel goes a line a request: its number, and a script in base 64. What the script says comes back in pieces
//! under that number. An act is a folder that can be made once only, as everywhere, with its process and its end written down beside it.

mod acts;
mod channel;
mod claims;
mod given;
mod looks;
mod own;

use std::{collections::HashMap, sync::Arc};

use serde_json::{Value, json};
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, AsyncWrite, AsyncWriteExt, BufReader, DuplexStream, Lines},
    sync::{Notify, mpsc::unbounded_channel},
    task::AbortHandle,
};
use yantro_core::{model::RungKind, words::time::Timestamp};

use self::{
    acts::{act, follow, is_there, recorded},
    channel::Sh,
    claims::{kept, taking_over},
    given::takes_outpost,
    looks::{climb_by_looks, look, look_at, rights},
};
use crate::links::{
    quoting::shell_word,
    wire::{Ask, Hello, PROTOCOL, Said, Told},
};

pub(crate) use channel::SERVE;

/// How the host introduces itself.
async fn hello(sh: &Sh) -> Result<Hello, String> {
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
        hangs_on: own::units(sh).await,
    })
}

/// Answers what an outpost would be asked.
async fn answer(sh: &Sh, hello: &Hello, sudo: bool, ask: Ask, tell: impl Fn(Value)) -> Result<Value, String> {
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
        Ask::Terms { units } => json!(own::terms(sh, &units).await),
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
    use std::{
        collections::{BTreeMap, BTreeSet},
        time::Duration,
    };

    use rstest::rstest;
    use yantro_core::words::time::Span;

    use super::{
        acts::beside,
        given::{has_secret, in_place, trying::sh},
        looks::{ENDED, LooksAs, look_in_place},
    };

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
}
