//! Exit codes, one documented list, and errors that carry theirs.

use yantro_server::problem::Problem;

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Exit {
    /// As wished for.
    Good = 0,
    /// The server refused, or something failed.
    Failed = 1,
    /// The estate has errors.
    Faults = 3,
    /// It was not confirmed.
    NotConfirmed = 4,
    /// The run is held and waits for a decision, or asks something.
    Held = 5,
    /// The run ended otherwise than finished.
    NotFinished = 6,
    /// There is no server to talk to: nothing was sent.
    NoServer = 7,
    /// It was watched no longer, by Ctrl-C or since what it says could not be written: the run goes on.
    Unwatched = 8,
    /// It was sent, and no answer came: it may have been carried out.
    Unanswered = 9,
}

/// The list, as `yantro --help` shows it.
pub const HELP: &str = "Exit codes: 0 as wished for, 1 refused or failed, 2 wrong usage, 3 the estate has errors,
4 not confirmed, 5 the run is held or asks, 6 the run ended otherwise than finished, 7 no server,
8 no longer watched, the run goes on, 9 sent and not answered: it may have been carried out";

impl From<Exit> for std::process::ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

/// What can go wrong with a command.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The server said no.
    #[error("{}", .0.detail)]
    Problem(Box<Problem>),
    /// There is no server.
    #[error("no server answers: {why}")]
    NoServer {
        /// What was tried.
        why: String,
        /// What to do.
        hint: String,
    },
    /// The server was asked for something that changes things, and no answer came.
    #[error("it was sent, and no answer came: it may have been carried out ({why})")]
    Unanswered {
        /// What happened on the way.
        why: String,
        /// What to do.
        hint: String,
    },
    /// Something of this command's own.
    #[error("{what}")]
    Own {
        /// What failed.
        what: String,
        /// What to do.
        hint: String,
        /// How the command ends.
        exit: Exit,
    },
}

impl Failure {
    /// A failure of this command's own.
    pub fn own(what: impl Into<String>, hint: impl Into<String>) -> Self {
        Failure::Own { what: what.into(), hint: hint.into(), exit: Exit::Failed }
    }
    /// Something that was sent and got no answer.
    pub fn unanswered(why: impl Into<String>) -> Self {
        Failure::Unanswered { why: why.into(), hint: "see how it stands before you ask again: yantro runs, yantro board".to_owned() }
    }
    /// What to do about it.
    pub fn hint(&self) -> &str {
        match self {
            Failure::Problem(p) => &p.hint,
            Failure::NoServer { hint, .. } | Failure::Unanswered { hint, .. } | Failure::Own { hint, .. } => hint,
        }
    }
    /// How the command ends.
    pub fn exit(&self) -> Exit {
        match self {
            Failure::Problem(p) if !p.faults.is_empty() => Exit::Faults,
            Failure::Problem(_) => Exit::Failed,
            Failure::NoServer { .. } => Exit::NoServer,
            Failure::Unanswered { .. } => Exit::Unanswered,
            Failure::Own { exit, .. } => *exit,
        }
    }
}

/// What a command comes to.
pub type Outcome = Result<Exit, Failure>;
