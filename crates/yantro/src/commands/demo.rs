//! `yantro demo`: the server with an estate of real processes, in a folder of its own.

use std::{
    fs,
    os::unix::{fs::PermissionsExt, process::CommandExt},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
};

use yantro_core::words::{Expected, kinds::Wish};
use yantro_engine::{BeginRequest, Engine, EngineError, LoadRequest, Options};

use super::serve::{begin, bind, failed, log_to_stderr, runtime, told_to_stop};
use crate::{
    Global,
    client::who,
    exit::{Exit, Failure, Outcome},
    say::{Say, Tint, tinted},
};

/// The estate of Brannock Sound Ferries, who do not exist.
const ESTATE: &str = include_str!("../../../../demo/estate.toml");

/// The made-up patch that its night works with.
const PATCH: &str = include_str!("../../../../demo/patch-fares");

/// The made-up keeper that brings one service back.
const KEEPER: &str = include_str!("../../../../demo/keeper");

/// Run the server with a demo estate of real processes.
#[derive(clap::Args)]
pub struct Demo {
    /// Where to listen.
    #[arg(long, default_value = "127.0.0.1:8400")]
    listen: String,
    /// The folder to use (default: a new one, removed at the end).
    #[arg(long)]
    folder: Option<PathBuf>,
    /// The first three numbers of the loopback addresses its hosts have.
    #[arg(long, default_value = "127.0.2")]
    net: String,
    /// Leave everything down instead of starting it.
    #[arg(long)]
    down: bool,
}

fn put(path: &Path, text: &str) -> Result<(), Failure> {
    fs::write(path, text).map_err(|e| Failure::own(format!("{} cannot be written: {e}", path.display()), "is there room?"))
}

/// Lays out the demo's folder: the estate, the stand-in program, places for logs and trouble.
fn lay_out(folder: &Path, net: &str) -> Result<String, Failure> {
    let own = std::env::current_exe().map_err(|e| Failure::own(e.to_string(), ""))?;
    let stand_in = own.with_file_name("yantro-stand-in");
    if !stand_in.exists() {
        return Err(Failure::own(format!("there is no {}", stand_in.display()), "build it too: cargo build, or use scripts/demo"));
    }
    for below in ["bin", "logs", "trouble", "backup"] {
        fs::create_dir_all(folder.join(below)).map_err(|e| Failure::own(format!("{} cannot be made: {e}", folder.display()), ""))?;
    }
    let link = folder.join("bin/stand-in");
    if !link.exists() {
        std::os::unix::fs::symlink(&stand_in, &link).map_err(|e| Failure::own(format!("{} cannot be made: {e}", link.display()), ""))?;
    }
    for (name, text) in [("bin/patch-fares", PATCH), ("bin/keeper", KEEPER)] {
        let program = folder.join(name);
        put(&program, text)?;
        fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).map_err(|e| Failure::own(e.to_string(), ""))?;
    }
    put(&folder.join("fares-db.version"), "14.2\n")?;
    put(&folder.join("backup/fares-db.dump"), "made-up fares, as of this evening\n")?;
    let text = ESTATE.replace("127.0.2.", &format!("{net}."));
    put(&folder.join("estate.toml"), &text)?;
    Ok(text)
}

/// What somebody else looks after: the demo itself starts it, so that Yantro only watches.
fn somebody_elses(folder: &Path, net: &str) -> Result<Child, Failure> {
    let log = fs::File::create(folder.join("logs/tide-gauge.log")).map_err(|e| Failure::own(e.to_string(), ""))?;
    Command::new(folder.join("bin/stand-in"))
        .args(["--name", "tide-gauge", "--listen", &format!("{net}.4:9600"), "--ready-after", "200ms"])
        .stdin(Stdio::null())
        .stdout(log)
        .stderr(Stdio::null())
        .spawn()
        .map_err(|e| Failure::own(format!("the tide gauge cannot be started: {e}"), ""))
}

impl Demo {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        log_to_stderr();
        yantro_engine::end_on_panic();
        let listener = bind(&self.listen)?;
        let own_folder = self.folder.is_none();
        let folder = match &self.folder {
            Some(folder) => folder.clone(),
            None => std::env::temp_dir().join(format!("yantro-demo-{}", std::process::id())),
        };
        fs::create_dir_all(&folder)
            .map_err(|e| Failure::own(format!("{} cannot be made: {e}", folder.display()), "name another with --folder"))?;
        let folder = fs::canonicalize(&folder).map_err(|e| Failure::own(e.to_string(), ""))?;
        let text = lay_out(&folder, &self.net)?;
        let mut gauge = somebody_elses(&folder, &self.net)?;
        let mut keeper = kept(&folder, &self.net)?;
        let data = folder.join("data");
        let who = who(global);
        // The demo's hosts are its own: what they keep goes with them.
        let options = Options { looking_only: false, host_records: folder.join("hosts") };
        let outcome = runtime().block_on(async {
            let running = begin(&data, listener, options, &who).await?;
            let handle = running.server.handle();
            let server = tokio::spawn(running.server);
            let engine = running.engine;
            let why = Some("the demo".to_owned());
            match engine.load(LoadRequest { text, folder: folder.display().to_string(), why, over_edits: false }, &who).await {
                Ok(_) => {}
                Err(EngineError::WouldUndo(edited)) => {
                    let edited: Vec<String> = edited.iter().map(ToString::to_string).collect();
                    say.talk(format!("The estate stays as it was edited here: {}", edited.join(", ")));
                }
                Err(error) => return Err(failed(&error)),
            }
            say.talk(format!("{}, made up, runs in {}", tinted(Tint::Strong, "Brannock Sound Ferries"), folder.display()));
            say.talk(format!("\n  Open the console, once:   {}", tinted(Tint::Strong, &running.link)));
            say.talk(format!("  In another terminal:      {}", tinted(Tint::Strong, format!("export YANTRO_DATA={}", data.display()))));
            say.talk("                            yantro board\n");
            if !self.down {
                start_all(&engine, &who).await?;
            }
            say.talk("Ctrl-C ends the demo and everything it started.");
            told_to_stop().await;
            say.talk("\nEnding the demo: taking its services down …");
            take_down(&engine).await;
            handle.stop(false).await;
            let _ = server.await;
            Ok(Exit::Good)
        });
        // Ours, by its own handle.
        let _ = gauge.kill();
        let _ = gauge.wait();
        // The keeper with what it keeps: a group of its own.
        let _ = nix::sys::signal::killpg(nix::unistd::Pid::from_raw(keeper.id() as i32), nix::sys::signal::Signal::SIGKILL);
        let _ = keeper.wait();
        if own_folder {
            let _ = fs::remove_dir_all(&folder);
        }
        outcome
    }
}

/// What the harbour's keeper keeps up: the keeper and its service are a process group of their own.
fn kept(folder: &Path, net: &str) -> Result<Child, Failure> {
    let own = |below: &str| folder.join(below).display().to_string();
    Command::new(folder.join("bin/keeper"))
        .arg(folder.join("bin/stand-in"))
        .args(["--name", "fog-horn", "--listen", &format!("{net}.3:9700"), "--ready-after", "400ms", "--stop-after", "150ms"])
        .args(["--log", &own("logs/fog-horn.log"), "--trouble", &own("trouble/fog-horn")])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
        .map_err(|e| Failure::own(format!("the keeper cannot be run: {e}"), ""))
}

/// Brings up what is expected to be up.
async fn start_all(engine: &Engine, who: &str) -> Result<(), Failure> {
    let Some(loaded) = engine.loaded() else { return Ok(()) };
    let services = loaded.estate.services.values().filter(|s| s.expected == Expected::Up && s.hands_off.is_none());
    let of = services.map(|s| s.address.to_string());
    let request = BeginRequest { why: Some("the demo begins".to_owned()), ..BeginRequest::of_services(Wish::Start, of) };
    engine.begin(&request, who).await.map_err(|e| failed(&e))?;
    Ok(())
}

/// Ends the demo's own processes, by the identities recorded when they were started.
async fn take_down(engine: &Engine) {
    engine.end_all_started().await;
}
