//! `yantro serve` and `sign-in`.

use std::{
    io::IsTerminal as _,
    net::{IpAddr, TcpListener},
    path::{Path, PathBuf},
};

use yantro_engine::{Engine, EngineError, Options};
use yantro_server::{Access, server, wire::SignInLink};

use crate::{
    Global,
    client::{Client, data_folder, wait_for, who, write_address},
    exit::{Exit, Failure, Outcome},
    say::Say,
};

/// Run the server.
#[derive(clap::Args)]
pub struct Serve {
    /// Where to listen; only loopback addresses so far.
    #[arg(long, default_value = "127.0.0.1:8400")]
    listen: String,
    /// Only look, never act: every run is held from the first.
    #[arg(long)]
    looking_only: bool,
    /// Where hosts reached from here keep which server acts on them: one folder for all servers of a
    /// machine (default: /var/lib/yantro/hosts for root, else ~/.local/state/yantro/hosts).
    #[arg(long, env = "YANTRO_HOST_RECORDS", value_name = "FOLDER")]
    host_records: Option<PathBuf>,
}

/// One folder for all servers of a machine that this account may run.
fn default_host_records() -> PathBuf {
    if nix::unistd::geteuid().is_root() {
        return PathBuf::from("/var/lib/yantro/hosts");
    }
    let home = std::env::var_os("HOME").map_or_else(|| PathBuf::from("/var/tmp"), PathBuf::from);
    home.join(".local/state/yantro/hosts")
}

/// Print a link for signing in to the console, good once.
#[derive(clap::Args)]
pub struct SignIn;

impl SignIn {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let link: SignInLink = wait_for(client.post("/sign-in-link", &()))?;
        say.line(format!("{}{}", client.base(), link.path));
        Ok(Exit::Good)
    }
}

/// Binds, or says why not.
pub fn bind(listen: &str) -> Result<TcpListener, Failure> {
    let host = listen.rsplit_once(':').map_or(listen, |(h, _)| h).trim_start_matches('[').trim_end_matches(']');
    let is_loopback = host == "localhost" || host.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback());
    if !is_loopback {
        return Err(Failure::own(
            format!("{listen} is no loopback address, and nobody is let in from another machine yet"),
            "listen on 127.0.0.1:8400, and reach it from elsewhere through an SSH tunnel",
        ));
    }
    TcpListener::bind(listen).map_err(|e| {
        Failure::own(format!("{listen} cannot be listened on: {e}"), "is another server running? choose another port with --listen")
    })
}

pub fn failed(error: &EngineError) -> Failure {
    let cause = std::error::Error::source(error).map_or(String::new(), |s| format!(": {s}"));
    Failure::own(format!("{error}{cause}"), error.hint())
}

/// A server that answers: its engine, and the future it runs by.
pub struct Running {
    pub engine: Engine,
    pub server: actix_web::dev::Server,
    pub base: String,
    pub link: String,
}

/// Starts a server on a data folder.
pub async fn begin(data: &Path, listener: TcpListener, options: Options, who: &str) -> Result<Running, Failure> {
    if let Err(error) = yantro_reach::take_enough_descriptors() {
        eprintln!("no more files and connections may be open at once than by default: {error}");
    }
    let engine = Engine::start(data, options).await.map_err(|e| failed(&e))?;
    let access = Access::open(data).map_err(|e| Failure::own(e.to_string(), "see that the data folder may be written"))?;
    let base = format!("http://{}", listener.local_addr().map_err(|e| Failure::own(e.to_string(), ""))?);
    let link = format!("{base}{}", access.link(who));
    let server = server(engine.clone(), access, listener).map_err(|e| Failure::own(format!("the server cannot be made: {e}"), ""))?;
    write_address(data, &base)
        .map_err(|e| Failure::own(format!("the address cannot be written down: {e}"), "see that the data folder may be written"))?;
    Ok(Running { engine, server, base, link })
}

/// A large plan takes a hundred times what a server at rest has, for a moment: few pools of memory to break up, and what is free
/// in them given back. Elsewhere than with the GNU library the system's own way stands.
#[cfg(all(target_os = "linux", target_env = "gnu"))]
fn be_sparing_with_memory() {
    // Safety: both only change how memory is kept, and may be called at any time.
    unsafe { libc::mallopt(libc::M_ARENA_MAX, 2) };
    std::thread::spawn(|| {
        loop {
            std::thread::sleep(std::time::Duration::from_secs(5));
            unsafe { libc::malloc_trim(0) };
        }
    });
}

#[cfg(not(all(target_os = "linux", target_env = "gnu")))]
fn be_sparing_with_memory() {}

/// A runtime of several threads: the engine looks and acts beside serving.
pub fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime can be made")
}

pub fn log_to_stderr() {
    let filter = tracing_subscriber::EnvFilter::try_from_env("YANTRO_LOG").unwrap_or_else(|_| "warn,yantro=info".into());
    // Colours are for a screen: a log file is read by other programs.
    let ansi = std::io::stderr().is_terminal();
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_ansi(ansi).init();
}

/// Awaits whatever ends a server.
pub async fn told_to_stop() {
    use tokio::signal::unix::{SignalKind, signal};
    let mut term = signal(SignalKind::terminate()).expect("signals can be watched");
    let mut int = signal(SignalKind::interrupt()).expect("signals can be watched");
    tokio::select! {
        _ = term.recv() => {}
        _ = int.recv() => {}
    }
    yantro_engine::is_ending();
}

impl Serve {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        log_to_stderr();
        yantro_engine::end_on_panic();
        be_sparing_with_memory();
        let listener = bind(&self.listen)?;
        let data = data_folder(global);
        let options = Options { looking_only: self.looking_only, host_records: self.host_records.unwrap_or_else(default_host_records) };
        let runtime = runtime();
        runtime.block_on(async {
            let running = begin(&data, listener, options, &who(global)).await?;
            say.talk(format!("Yantro answers at {}", running.base));
            say.talk(format!("Sign in to the console, once: {}", running.link));
            let handle = running.server.handle();
            let server = tokio::spawn(running.server);
            told_to_stop().await;
            say.talk("Ending. What runs goes on running, and runs are picked up at the next start.");
            handle.stop(false).await;
            let _ = server.await;
            Ok(Exit::Good)
        })
    }
}
