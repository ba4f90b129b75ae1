//! What comes to the loop.

use std::sync::Arc;

use tokio::sync::oneshot;
use yantro_core::{
    plan::Shown,
    proof::SeenState,
    run::{Begun, Decision, Divert, Input, RunId},
    words::name::Address,
};
use yantro_store::Edition;

use crate::{error::EngineError, loaded::Loaded};

pub(crate) enum Msg {
    Input { run: RunId, input: Input },
    LookAt(Address),
    Looked(Vec<(Address, SeenState, String)>),
    Begin { begun: Box<Begun>, asked_as: Option<String>, reply: oneshot::Sender<Result<RunId, EngineError>> },
    Replan { run: RunId, begun: Box<Begun>, decision: Decision, reply: oneshot::Sender<Result<(), EngineError>> },
    Decide { run: RunId, decision: Decision, shown: Option<Shown>, reply: oneshot::Sender<Result<(), EngineError>> },
    Remark { run: RunId, input: Input, reply: oneshot::Sender<Result<(), EngineError>> },
    PlanDivert { run: RunId, planned: Result<Divert, String> },
    Load { edition: Box<Edition>, loaded: Arc<Loaded>, reply: oneshot::Sender<Result<(), EngineError>> },
    Acknowledge { address: Address, who: String, why: String, reply: oneshot::Sender<Result<(), EngineError>> },
    Audit { who: String, what: &'static str, about: String, why: String, reply: oneshot::Sender<Result<(), EngineError>> },
    Standstill { on: bool, who: String, shown: Option<Shown>, reply: oneshot::Sender<Result<(), EngineError>> },
}
