//! An engine in a folder of its own, with a small estate that is played six hundred times as fast.

use std::time::{Duration, Instant, SystemTime};

use tempfile::TempDir;
use yantro_core::{
    proof::SeenState,
    run::{Decision, DecisionKind, RunId, RunState, StepState},
    words::{kinds::Wish, name::Address, time::Timestamp},
};
use yantro_engine::{BeginRequest, Engine, EngineError, LoadRequest, Options, RunView};

/// Two quays: a database, what takes bookings on it, and boards beside them.
pub const ESTATE: &str = include_str!("played.toml");

pub struct World {
    folder: TempDir,
    pub engine: Engine,
}

impl World {
    /// With the estate loaded and everything on it looked at.
    pub async fn begun() -> Self {
        let world = Self::bare().await;
        world.load(ESTATE).await.unwrap();
        world.until("all is looked at", |e| e.board().services.iter().all(|r| r.seen.state != SeenState::Unknown).then_some(())).await;
        world
    }

    /// The same with another estate.
    pub async fn of(text: &str) -> Self {
        let world = Self::bare().await;
        world.load(text).await.unwrap();
        world.until("all is looked at", |e| e.board().services.iter().all(|r| r.seen.state != SeenState::Unknown).then_some(())).await;
        world
    }

    pub async fn bare() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let engine = started(&folder, false).await.unwrap();
        Self { folder, engine }
    }

    /// The names of the records that this machine keeps of who acts on its hosts.
    pub fn records(&self) -> Vec<String> {
        let all = std::fs::read_dir(self.folder.path().join("hosts")).unwrap();
        all.map(|e| e.unwrap().file_name().into_string().unwrap()).collect()
    }

    /// What there is under a name in the data folder.
    pub fn in_data(&self, name: &str) -> Option<std::fs::Metadata> {
        std::fs::metadata(self.folder.path().join("data").join(name)).ok()
    }

    /// Another server that wants the same folder.
    pub async fn another(&self) -> Result<Engine, EngineError> {
        started(&self.folder, false).await
    }

    pub async fn load(&self, text: &str) -> Result<yantro_engine::LoadOutcome, EngineError> {
        self.engine.load(LoadRequest { text: text.to_owned(), folder: "/e".to_owned(), ..LoadRequest::default() }, "maren").await
    }

    /// Waits until something is so.
    pub async fn until<T>(&self, what: &str, so: impl Fn(&Engine) -> Option<T>) -> T {
        let began = Instant::now();
        loop {
            if let Some(found) = so(&self.engine) {
                return found;
            }
            assert!(
                began.elapsed() < Duration::from_secs(60),
                "never: {what}: {:?} {:?}",
                self.engine.board().services.iter().map(|r| (r.address.to_string(), r.seen.state, r.seen.says.clone())).collect::<Vec<_>>(),
                self.engine
                    .board()
                    .open_runs
                    .iter()
                    .map(|r| (r.id, self.engine.run(r.id).map(|v| (v.state, v.held_because)).ok()))
                    .collect::<Vec<_>>()
            );
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }

    pub async fn begin(&self, wish: Wish, of: &str) -> RunId {
        self.engine.begin(&request(wish, of), "maren").await.unwrap()
    }

    /// The run, once it is in one of these states, and that is stored: it is shown a moment before.
    pub async fn is(&self, run: RunId, states: &[RunState]) -> RunView {
        self.until(&format!("run {run} is {states:?}"), |e| e.run(run).ok().filter(|r| states.contains(&r.state) && is_stored(e, r))).await
    }

    pub async fn plays(&self, wish: Wish, of: &str) -> RunView {
        let run = self.begin(wish, of).await;
        self.is(run, &[RunState::Finished, RunState::Held]).await
    }

    /// Begins a procedure and waits until it asks.
    pub async fn asking(&self, procedure: &str) -> RunView {
        let run = self.engine.begin(&BeginRequest::of_procedure(procedure), "maren").await.unwrap();
        self.until("it asks", |e| e.run(run).ok().filter(asks)).await
    }

    /// Answers what a run asks with yes.
    pub async fn answers(&self, asking: &RunView) {
        let question = asking.steps.iter().find(|s| matches!(s.now.state, StepState::Asking { .. })).unwrap().planned.id;
        self.decide(asking, DecisionKind::Answer { step: question, value: "yes".into() }, None).await.unwrap();
    }

    pub fn state(&self, address: &str) -> SeenState {
        let address: Address = address.parse().unwrap();
        self.engine.board().services.iter().find(|r| r.address == address).map(|r| r.seen.state).unwrap_or_default()
    }

    pub async fn decide(&self, run: &RunView, kind: DecisionKind, why: Option<&str>) -> Result<(), EngineError> {
        let decision = Decision { kind, hold: run.hold, who: "tove".to_owned(), why: why.map(str::to_owned) };
        self.engine.decide(run.id, decision, None).await
    }
}

/// With a procedure that asks before its one step.
pub fn with_dusk(step: &str) -> String {
    format!("{ESTATE}[procedure.dusk]\nsteps = [{{ question = {{ asks = \"Is the last boat in?\" }} }}, {step}]\n")
}

fn asks(run: &RunView) -> bool {
    run.steps.iter().any(|s| matches!(s.now.state, StepState::Asking { .. }))
}

pub fn is_stored(engine: &Engine, run: &RunView) -> bool {
    engine.reader().unwrap().events_of(run.id).unwrap().len() as u64 >= run.events
}

pub async fn started(folder: &TempDir, looking_only: bool) -> Result<Engine, EngineError> {
    Engine::start(&folder.path().join("data"), Options { looking_only, host_records: folder.path().join("hosts") }).await
}

pub fn request(wish: Wish, of: &str) -> BeginRequest {
    BeginRequest::of_services(wish, of.split_whitespace())
}

/// Midnight of today as an estate says it.
pub fn today() -> String {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap();
    let now = Timestamp::from_ms(now.as_millis().try_into().unwrap()).to_string();
    format!("{}T00:00", &now[..10])
}
