//! What can go wrong, and how to mend it.

use std::path::PathBuf;

use yantro_core::{
    plan::{Plan, StepId, procedure::AnswerFault},
    run::{Refusal, RunId},
    selection::SelectionError,
    text::{Fault, written::EditFault},
    words::name::{Address, HostName, ProcedureName},
};
use yantro_reach::HereError;
use yantro_store::StoreError;

/// What can go wrong with a request.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// No estate is loaded.
    #[error("no estate is loaded yet")]
    NoEstate,
    /// The estate has faults.
    #[error("the estate has {} error{}", .0.len(), if .0.len() == 1 { "" } else { "s" })]
    Faults(Vec<Fault>),
    /// What was chosen cannot be resolved.
    #[error(transparent)]
    Selection(#[from] SelectionError),
    /// The plan has obstacles, or asks for something to be said in so many words.
    #[error("this cannot be begun as it is")]
    NotAsItIs(Box<Plan>),
    /// No run found anything up that could be brought back.
    #[error("{0}")]
    AsFound(String),
    /// Nothing can be an act of this name.
    #[error("\"{0}\" is no name of an act")]
    NoAct(String),
    /// There is no such procedure.
    #[error("there is no procedure \"{name}\"")]
    NoProcedure {
        /// What was asked for.
        name: String,
        /// What could have been meant.
        near: String,
    },
    /// A text cannot be edited so.
    #[error(transparent)]
    Edit(#[from] EditFault),
    /// A procedure was edited by another meanwhile.
    #[error("{procedure} was changed meanwhile, by {who}: edition {edition}")]
    EditedMeanwhile {
        /// The procedure.
        procedure: ProcedureName,
        /// By whom.
        who: String,
        /// The edition that has it.
        edition: u64,
    },
    /// There is no such edition.
    #[error("there is no edition {0}")]
    NoEdition(u64),
    /// A file would undo what was edited here.
    #[error("this file does not have what was edited here: {}", .0.join(", "))]
    WouldUndo(Vec<String>),
    /// Answers are missing, or are none.
    #[error("{}", .0.iter().map(|f| f.why.as_str()).collect::<Vec<_>>().join("; "))]
    Answers(Vec<AnswerFault>),
    /// There is no such line.
    #[error("there is no line {line}: the procedure has {lines}")]
    NoLine {
        /// The line.
        line: u32,
        /// How many there are.
        lines: usize,
    },
    /// There is no such window.
    #[error("there is no window \"{name}\"")]
    NoWindow {
        /// What was asked for.
        name: String,
        /// What could have been meant.
        near: String,
    },
    /// The window is not open.
    #[error("the window {title} is not open now")]
    WindowShut {
        /// What people call it.
        title: String,
        /// When it opens.
        opens: String,
    },
    /// There is no such step.
    #[error("there is no step {step}: the plan has {steps}")]
    NoStep {
        /// The step.
        step: StepId,
        /// How many there are.
        steps: usize,
    },
    /// There is no such run.
    #[error("there is no run {0}")]
    NoRun(RunId),
    /// The decision does not fit.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// An override names what is not in the run.
    #[error("{0} is overridden, and is not acted on by this run")]
    StrayOverride(Address),
    /// An override of what only the host's manager knows.
    #[error("{0} is run by its host's manager: environment and arguments are its unit's")]
    UnitOverride(Address),
    /// What is written for one run does not fit its service.
    #[error("what is put over {address} for this run does not fit: {}", .faults.iter().map(|f| f.message.as_str()).collect::<Vec<_>>().join("; "))]
    BadOverride {
        /// The service.
        address: Address,
        /// What is wrong.
        faults: Vec<Fault>,
    },
    /// A step that is tried again can only be given what needs no vetting.
    #[error("a step is tried again with other environment, arguments or patience, and no other settings")]
    NoWrittenChange,
    /// The store failed.
    #[error("the store could not be read")]
    Store(#[from] StoreError),
    /// This machine cannot be worked on.
    #[error("this machine cannot be worked on")]
    Here(#[from] HereError),
    /// Another server has the data folder (R35).
    #[error("another server has the data folder {0}")]
    Taken(PathBuf),
    /// The data folder cannot be used.
    #[error("the data folder {folder} cannot be used")]
    Data {
        /// The folder.
        folder: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// A host is not this server's to act on (R35).
    #[error("{host} must not be acted on by this server: {why}")]
    HostKept {
        /// The host.
        host: HostName,
        /// Why.
        why: String,
    },
    /// There is no such host.
    #[error("there is no host {0} in the estate")]
    NoHost(HostName),
    /// A host does not answer.
    #[error("host {0} is out of reach")]
    OutOfReach(HostName),
    /// A host could not be looked through.
    #[error("{host} could not be looked through: {why}")]
    NoSurvey {
        /// The host.
        host: HostName,
        /// Why.
        why: String,
    },
    /// A host has no such unit.
    #[error("there is no {unit} on that host")]
    NoUnit {
        /// What was named.
        unit: String,
        /// What may have been meant.
        hint: String,
    },
    /// There is nothing to acknowledge.
    #[error("no forbidden line is held against {0}")]
    NothingAgainst(Address),
    /// A reason is needed.
    #[error("{0} needs a reason")]
    NoReason(&'static str),
    /// The newest edition does not vet any more.
    #[error("edition {edition} of the estate, the newest, cannot be used by this version: {why}")]
    EstateUnusable {
        /// The edition.
        edition: u64,
        /// The first thing that is wrong with it.
        why: String,
    },
    /// What would be begun is not what was shown.
    #[error("it would come out otherwise than shown: {}", .difference.join("; "))]
    Otherwise {
        /// How it differs, in sentences.
        difference: Vec<String>,
        /// The plan as it comes out now.
        plan: Option<Box<Plan>>,
    },
    /// More would be done than was shown.
    #[error("it would do otherwise than shown: {}", .difference.join("; "))]
    DoneOtherwise {
        /// How it differs, in sentences.
        difference: Vec<String>,
    },
    /// No procedure can take over as it is.
    #[error("{procedure} cannot take over: {why}")]
    CannotDivert {
        /// The procedure.
        procedure: ProcedureName,
        /// Why.
        why: String,
    },
    /// Things changed since a run was confirmed, and what it would do now was not confirmed.
    #[error("run {run} needs services that are another's: {behind}")]
    Behind {
        /// The run.
        run: RunId,
        /// Whose.
        behind: String,
    },
    /// Events cannot be stored.
    #[error("it cannot be stored, and nothing was begun or changed: {0}")]
    NotStored(String),
    /// What it is asked for as is no identity.
    #[error("an identity to be asked for under has 1 to 100 characters")]
    BadIdentity,
    /// More is asked than can be taken in.
    #[error("the server has more to do than it can take in at present")]
    Busy,
    /// Everything is at a standstill.
    #[error("everything is at a standstill, by {0}")]
    Standstill(String),
}

impl EngineError {
    /// How to mend it.
    pub fn hint(&self) -> String {
        match self {
            EngineError::NoEstate => "load one: yantro load ESTATE.toml".to_owned(),
            EngineError::Faults(_) => "mend each fault and load it again".to_owned(),
            EngineError::Selection(e) => e.hint(),
            EngineError::NotAsItIs(_) => "see the obstacles, and say what is asked in so many words".to_owned(),
            EngineError::NoProcedure { near, .. } => near.clone(),
            EngineError::NoAct(_) => {
                "acts are named in the services' descriptions; units have re-read, at-boot-on and at-boot-off".to_owned()
            }
            EngineError::Edit(fault) => fault.mend.clone(),
            EngineError::EditedMeanwhile { procedure, .. } => {
                format!("see what changed (yantro difference {procedure}), and make your change on that")
            }
            EngineError::NoEdition(_) => "see the editions there are: yantro editions".to_owned(),
            EngineError::WouldUndo(_) => {
                "bring the edits into the file (yantro estate prints the whole), or load it over them with --over-edits".to_owned()
            }
            EngineError::Answers(faults) => faults.iter().map(|f| f.mend.as_str()).collect::<Vec<_>>().join("; "),
            EngineError::AsFound(_) => "name a run by its number, as-found-by:12, or a procedure that was carried out".to_owned(),
            EngineError::NoLine { .. } => "see the procedure for its lines".to_owned(),
            EngineError::NoWindow { near, .. } => near.clone(),
            EngineError::WindowShut { opens, .. } => format!("it opens {opens}; begin it then, or without the window"),
            EngineError::NoStep { .. } => "see the plan for its steps".to_owned(),
            EngineError::NoRun(_) => "see the list of runs".to_owned(),
            EngineError::Refused(r) => r.hint().to_owned(),
            EngineError::UnitOverride(_) => "change the unit and have it re-read, or leave the override out".to_owned(),
            EngineError::StrayOverride(_) => "choose it too, or leave the override out".to_owned(),
            EngineError::BadOverride { faults, .. } => faults.iter().map(|f| f.mend.as_str()).collect::<Vec<_>>().join("; "),
            EngineError::NoWrittenChange => "put it into the estate, or begin a run with it".to_owned(),
            EngineError::Store(_) => "see the server's log; is the disk full or the file damaged?".to_owned(),
            EngineError::Here(_) | EngineError::Data { .. } => "see that the data folder may be written".to_owned(),
            EngineError::Taken(_) => "stop the other server, or give this one a data folder of its own".to_owned(),
            EngineError::HostKept { host, .. } => {
                format!("end the other server, or if it is gone for good: yantro take-over {host} --why …")
            }
            EngineError::NoSurvey { .. } => "see the board for how the host is reached".to_owned(),
            EngineError::NoUnit { hint, .. } => hint.clone(),
            EngineError::OutOfReach(_) => "see the board for why, and how to mend it".to_owned(),
            EngineError::NoHost(_) => "see the board for the hosts there are".to_owned(),
            EngineError::NothingAgainst(_) => "see the board for what ails it".to_owned(),
            EngineError::NoReason(_) => "say why, for those who read the record".to_owned(),
            EngineError::EstateUnusable { .. } => {
                "mend the file (yantro estate prints it, yantro vet FILE tells all faults) and load it again".to_owned()
            }
            EngineError::Otherwise { .. } => "look at it as it comes out now, and begin that".to_owned(),
            EngineError::DoneOtherwise { .. } => {
                "look at what it would do now, and agree to that; hold the run first where it moves on meanwhile: yantro hold RUN"
                    .to_owned()
            }
            EngineError::CannotDivert { .. } => "mend that first, or have another procedure take over".to_owned(),
            EngineError::Behind { .. } => "wait until they are free, or give this run up".to_owned(),
            EngineError::NotStored(_) => "see that the disk has room; then ask again".to_owned(),
            EngineError::BadIdentity => "make up another, at random, for each thing that is asked for".to_owned(),
            EngineError::Busy => "ask again in a moment".to_owned(),
            EngineError::Standstill(_) => "lift the standstill first: yantro standstill off".to_owned(),
        }
    }
}
