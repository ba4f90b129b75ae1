//! Runs, board and locks: turns the core's orders into acts and looks, and feeds back what happened.
//!
//! One loop decides and stores; tasks around it act and look. The loop takes whatever has come in,
//! lets the machines decide, commits their events in one transaction, and only then carries out the
//! orders. It decides nothing about runs itself.

mod agreed;
mod ask;
mod clock;
mod editions;
mod ended;
mod engine;
mod error;
mod hands;
mod identity;
mod inbox;
mod loaded;
mod messages;
mod standing;
mod start;
mod told;
mod turn;

pub use ask::{
    deeds::{Consequences, Deed},
    rehearsing::{Rehearsal, rehearse},
    requests::{BeginRequest, Doing},
};
pub use clock::Clock;
pub use editions::{
    Draft, DraftForecast, DraftRequest, EditOutcome, EditRequest, EditionRow, LoadOutcome, LoadRequest, ProcedureDifference,
    adoption::HostSurvey,
};
pub use ended::{ENDED, end_on_panic, end_process, is_ending};
pub use engine::{Engine, Options};
pub use error::EngineError;
pub use identity::Place;
pub use loaded::Loaded;
pub use standing::board::{BoardRow, BoardView, HostRow};
pub use told::{
    acts::ActMark,
    comparison::{Beside, Comparison, EarlierRun, Took},
    forecast::{RunForecast, SlowStep, WindowView},
    publish::{Published, Topic},
    report::{Found, Report, ReportStep},
    view::{NoteView, PreflightView, RunView, StepView},
};
