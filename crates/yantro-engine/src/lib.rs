//! Runs, board and locks: turns the core's orders into acts and looks, and feeds back what happened.
//!
//! One loop decides and stores; tasks around it act and look. The loop takes whatever has come in,
//! lets the machines decide, commits their events in one transaction, and only then carries out the
//! orders. It decides nothing about runs itself.

mod acts;
mod board;
mod clock;
mod deeds;
mod editions;
mod ended;
mod engine;
mod error;
mod hands;
mod identity;
mod inbox;
mod locks;
mod of_hosts;
mod orders;
mod publish;
mod rehearse;
mod remembered;
mod report;
mod storage;
mod view;
mod work;

pub use acts::ActMark;
pub use board::{BoardRow, BoardView, HostRow};
pub use clock::Clock;
pub use deeds::{Consequences, Deed};
pub use editions::{Draft, DraftForecast, DraftRequest, EditOutcome, EditRequest, EditionRow, LoadRequest, ProcedureDifference};
pub use ended::{ENDED, end_on_panic, end_process, is_ending};
pub use engine::{ActRequest, BeginRequest, Engine, HostSurvey, LoadOutcome, Loaded, Options, ProcedureRequest};
pub use error::EngineError;
pub use publish::{Published, Topic};
pub use rehearse::{Rehearsal, RunForecast, SlowStep, WindowView, rehearse};
pub use report::{Beside, Comparison, EarlierRun, Found, Report, ReportStep, Took};
pub use view::{NoteView, PreflightView, RunSummary, RunView, StepView};
