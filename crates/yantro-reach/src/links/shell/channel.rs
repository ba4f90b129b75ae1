//! The channel to a plain shell: scripts go out under a number, and what they say comes back under it.

use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
};

use base64::{Engine, engine::general_purpose::STANDARD};
use tokio::sync::{mpsc::UnboundedSender, oneshot};

/// What the far side runs: it takes nothing that POSIX does not have but `base64`, `head` and `setsid`.
pub(crate) const SERVE: &str = r#"umask 077; d="$HOME/.local/state/yantro-shell"; mkdir -p "$d/acts" || exit 71; command -v base64 >/dev/null && command -v setsid >/dev/null || { echo "base64 and setsid are missing" >&2; exit 74; }; echo "yantro-shell ready"; while read -r n b; do ( s=$(printf %s "$b" | base64 -d) || exit 0; { (eval "$s") </dev/null 2>&1; printf "\n%s" "$?"; } | head -c 200000 | base64 | tr -d "\n" | fold -w 2000 | while read -r p || [ -n "$p" ]; do echo "$n $p"; done; echo "$n ." ) & done"#;

/// The channel to a plain shell.
pub(super) struct Sh {
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
