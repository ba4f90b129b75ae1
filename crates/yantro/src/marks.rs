//! The marks and words of states, the same as in the console as far as text goes.

use comfy_table::{Cell, Table, presets};
use yantro_core::{
    proof::{Seen, SeenState},
    run::{RunState, StepEnd, StepState},
};

use crate::say::{Tint, tinted};

/// The dial of a state: how far it has climbed, in one sign.
pub fn dial(seen: &Seen) -> &'static str {
    match seen.state {
        SeenState::Unknown => "·",
        SeenState::Down => "○",
        SeenState::Proven => "◉",
        SeenState::Ailing => "⊖",
        SeenState::OutOfReach => "◌",
        SeenState::Rising | SeenState::Sinking => match (seen.rungs_climbed * 4).checked_div(seen.rungs.max(1)).unwrap_or(0) {
            0 => "◯",
            1 => "◔",
            2 => "◑",
            _ => "◕",
        },
    }
}

/// The tint of a state.
pub fn tint(state: SeenState, differs: bool) -> Tint {
    match state {
        SeenState::Proven => Tint::Good,
        SeenState::Rising | SeenState::Sinking => Tint::Moving,
        SeenState::Ailing => Tint::Ailing,
        SeenState::Down if differs => Tint::Alarm,
        SeenState::Down | SeenState::Unknown => Tint::Rest,
        SeenState::OutOfReach => Tint::Unreach,
    }
}

/// The tint of a run's state.
pub fn run_tint(state: RunState) -> Tint {
    match state {
        RunState::Queued => Tint::Rest,
        RunState::Running | RunState::PuttingBack => Tint::Moving,
        RunState::Held => Tint::Alarm,
        RunState::Finished => Tint::Good,
        RunState::FinishedWithExceptions | RunState::PutBack => Tint::Ailing,
        RunState::PutBackInPart | RunState::GivenUp | RunState::Refused => Tint::Alarm,
    }
}

/// A step's mark, word and tint.
pub fn step(state: &StepState) -> (&'static str, Tint) {
    match state {
        StepState::Waiting => ("·", Tint::Rest),
        StepState::Pausing { .. } => ("‖", Tint::Rest),
        StepState::Acting { .. } => ("▸", Tint::Moving),
        StepState::Proving { .. } => ("◑", Tint::Moving),
        StepState::Asking { .. } => ("?", Tint::Alarm),
        StepState::Failed { .. } | StepState::OutcomeUnknown { .. } => ("✗", Tint::Alarm),
        StepState::Ended(StepEnd::Done) => ("◉", Tint::Good),
        StepState::Ended(StepEnd::Unneeded) => ("○", Tint::Rest),
        StepState::Ended(StepEnd::PassedOver { .. } | StepEnd::NotBegun) => ("–", Tint::Ailing),
        StepState::Ended(StepEnd::Vouched { .. }) => ("☞", Tint::Ailing),
    }
}

/// A plain aligned table.
pub fn table(head: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header(head.iter().map(|h| Cell::new(tinted(Tint::Rest, h))));
    table
}

/// A table as lines, without the blanks at their ends.
pub fn lines(table: &Table) -> String {
    table.lines().map(|l| l.trim_end().strip_prefix(' ').unwrap_or_default().to_owned()).collect::<Vec<_>>().join("\n")
}

/// How long ago, in short.
pub fn age(ms: i64) -> String {
    match ms.max(0) / 1000 {
        0 => "now".to_owned(),
        s @ 1..100 => format!("{s} s"),
        s @ 100..6000 => format!("{} min", s / 60),
        s => format!("{} h", s / 3600),
    }
}

/// The time of day, where the terminal is.
pub fn clock(at: yantro_core::words::time::Timestamp) -> String {
    at.to_chrono().with_timezone(&chrono::Local).format("%H:%M:%S").to_string()
}

/// A point in time to the millisecond, in the zone of the one who looks, which it names: acts and a journal's lines stand one below
/// the other, and beside lines of files with times of their own.
pub fn moment(at: yantro_core::words::time::Timestamp) -> String {
    at.to_chrono().with_timezone(&chrono::Local).format("%Y-%m-%d %H:%M:%S%.3f %:z").to_string()
}

/// A point in time with its day, in the zone of the one who looks.
pub fn day_and_clock(at: yantro_core::words::time::Timestamp) -> String {
    at.to_chrono().with_timezone(&chrono::Local).format("%d %b %H:%M:%S").to_string()
}

/// A point in time with its day and the zone of the one who looks: heads what follows with times of the day alone.
pub fn day_and_clock_in_zone(at: yantro_core::words::time::Timestamp) -> String {
    at.to_chrono().with_timezone(&chrono::Local).format("%d %b %H:%M:%S %:z").to_string()
}
