//! The one place where errors become HTTP: RFC 9457 problem details.

use actix_web::{HttpResponse, ResponseError, http::StatusCode};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use yantro_core::{
    plan::{Plan, procedure::AnswerFault},
    run::Refusal,
    text::Fault,
};
use yantro_engine::EngineError;

/// What went wrong, for the caller.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct Problem {
    /// A stable name for this kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// What it is, the same for every problem of this kind.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What it is this time, with the values.
    pub detail: String,
    /// What to do about it.
    pub hint: String,
    /// The faults of an estate, where it is about one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub faults: Vec<Fault>,
    /// What is wrong with the answers to a procedure's questions, where it is about them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<AnswerFault>,
    /// The plan, where it cannot be begun as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<Box<Plan>>,
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.title, self.detail)
    }
}

impl Problem {
    /// A problem.
    pub fn new(status: u16, kind: &str, title: &str, detail: impl Into<String>, hint: impl Into<String>) -> Self {
        Self {
            kind: format!("urn:yantro:problem:{kind}"),
            title: title.to_owned(),
            status,
            detail: detail.into(),
            hint: hint.into(),
            faults: Vec::new(),
            answers: Vec::new(),
            plan: None,
        }
    }

    /// As an HTTP answer.
    pub fn response(&self) -> HttpResponse {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        HttpResponse::build(status).content_type("application/problem+json").body(serde_json::to_string(self).unwrap_or_default())
    }
}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }
    fn error_response(&self) -> HttpResponse {
        self.response()
    }
}

impl From<EngineError> for Problem {
    fn from(error: EngineError) -> Self {
        let (status, kind, title) = match &error {
            EngineError::NoEstate => (409, "no-estate", "No estate is loaded"),
            EngineError::Faults(_) => (422, "estate-faults", "The estate has faults"),
            EngineError::Selection(_) => (422, "selection", "What was chosen cannot be resolved"),
            EngineError::NotAsItIs(_) => (409, "not-as-it-is", "This cannot be begun as it is"),
            EngineError::NoProcedure { .. } => (404, "no-procedure", "There is no such procedure"),
            EngineError::Edit(_) => (422, "bad-edit", "The text cannot be edited so"),
            EngineError::EditedMeanwhile { .. } => (409, "edited-meanwhile", "Somebody else changed it meanwhile"),
            EngineError::NoEdition(_) => (404, "no-edition", "There is no such edition"),
            EngineError::WouldUndo(_) => (409, "would-undo", "This would undo what was edited here"),
            EngineError::Answers(_) => (422, "answers", "The procedure's questions are not answered"),
            EngineError::NoAct(_) => (422, "no-act", "There is no such act"),
            EngineError::AsFound(_) => (422, "as-found", "Nothing was found up"),
            EngineError::NoLine { .. } | EngineError::NoStep { .. } => (422, "no-step", "There is no such step"),
            EngineError::NoWindow { .. } => (404, "no-window", "There is no such window"),
            EngineError::WindowShut { .. } => (409, "window-shut", "The window is not open"),
            EngineError::NoRun(_) => (404, "no-run", "There is no such run"),
            EngineError::Refused(Refusal::Stale { .. }) => (409, "stale-decision", "The decision answers a hold that is over"),
            EngineError::Refused(Refusal::NoReason { .. }) => (422, "no-reason", "A reason is needed"),
            EngineError::Refused(_) => (409, "refused", "The run does not take this now"),
            EngineError::UnitOverride(_) => (422, "unit-override", "An override cannot reach a unit"),
            EngineError::StrayOverride(_) => (422, "stray-override", "An override is not part of this run"),
            EngineError::BadOverride { .. } | EngineError::NoWrittenChange => (422, "bad-override", "An override does not fit"),
            EngineError::NoReason(_) => (422, "no-reason", "A reason is needed"),
            EngineError::NoSurvey { .. } => (409, "no-survey", "The host cannot be looked through"),
            EngineError::NoUnit { .. } => (404, "no-unit", "There is no such unit"),
            EngineError::OutOfReach(_) => (409, "out-of-reach", "The host does not answer"),
            EngineError::NoHost(_) => (404, "no-host", "There is no such host"),
            EngineError::NothingAgainst(_) => (409, "nothing-against", "There is nothing to acknowledge"),
            EngineError::HostKept { .. } => (409, "host-kept", "The host is not this server's to act on"),
            EngineError::EstateUnusable { .. } => (409, "estate-unusable", "The newest edition cannot be used"),
            EngineError::Otherwise { .. } => (409, "otherwise", "It would come out otherwise than shown"),
            EngineError::DoneOtherwise { .. } => (409, "otherwise", "It would do otherwise than shown"),
            EngineError::CannotDivert { .. } => (409, "cannot-divert", "This procedure cannot take over now"),
            EngineError::Behind { .. } => (409, "behind", "Another run has what it needs"),
            EngineError::NotStored(_) => (503, "not-stored", "Events cannot be stored"),
            EngineError::BadIdentity => (422, "bad-identity", "This is no identity"),
            EngineError::Busy => (503, "busy", "The server has too much to do"),
            EngineError::Standstill(_) => (409, "standstill", "Everything is at a standstill"),
            EngineError::Store(_) | EngineError::Here(_) | EngineError::Taken(_) | EngineError::Data { .. } => {
                (500, "internal", "The server has trouble of its own")
            }
        };
        let mut detail = error.to_string();
        if status == 500 {
            // Internals go to the log, not to the caller.
            tracing::error!(error = ?error, "a request failed");
        } else if let EngineError::NotAsItIs(plan) = &error {
            let why: Vec<&str> = plan.obstacles.iter().map(|o| o.why.as_str()).collect();
            if !why.is_empty() {
                detail = why.join("; ");
            }
        }
        let mut problem = Problem::new(status, kind, title, detail, error.hint());
        match error {
            EngineError::Faults(faults) => problem.faults = faults,
            EngineError::NotAsItIs(plan) | EngineError::Otherwise { plan: Some(plan), .. } => problem.plan = Some(plan),
            EngineError::Answers(faults) => problem.answers = faults,
            _ => {}
        }
        problem
    }
}

/// A body that cannot be read.
pub fn bad_body(error: &actix_web::error::JsonPayloadError) -> Problem {
    let status = if matches!(
        error,
        actix_web::error::JsonPayloadError::OverflowKnownLength { .. } | actix_web::error::JsonPayloadError::Overflow { .. }
    ) {
        413
    } else {
        422
    };
    Problem::new(
        status,
        "bad-body",
        "The request's body cannot be read",
        error.to_string(),
        "see /api/v1/openapi.json for what is expected",
    )
}

/// A query that cannot be read.
pub fn bad_query(error: &actix_web::error::QueryPayloadError) -> Problem {
    Problem::new(422, "bad-query", "The request's query cannot be read", error.to_string(), "see /api/v1/openapi.json for what is expected")
}

/// A path that cannot be read.
pub fn bad_path(error: &actix_web::error::PathError) -> Problem {
    Problem::new(404, "bad-path", "There is nothing at this path", error.to_string(), "see /api/v1/openapi.json for what there is")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use yantro_core::run::RunId;
    use yantro_store::StoreError;

    use super::*;

    #[rstest]
    #[case::nothing_loaded(EngineError::NoEstate, 409, "no-estate", "no estate is loaded")]
    #[case::a_run_that_is_not_there(EngineError::NoRun(RunId(77)), 404, "no-run", "77")]
    #[case::a_host_that_is_not_there(EngineError::NoHost("pier".parse().unwrap()), 404, "no-host", "pier")]
    #[case::an_edition_that_is_not_there(EngineError::NoEdition(9), 404, "no-edition", "9")]
    #[case::a_procedure_that_is_not_there(EngineError::NoProcedure { name: "dusk".into(), near: "dawn".into() }, 404, "no-procedure", "dusk")]
    #[case::a_unit_that_is_not_there(EngineError::NoUnit { unit: "tides.service".into(), hint: "look through the host to see what it runs".into() }, 404, "no-unit", "tides.service")]
    #[case::a_window_that_is_not_there(EngineError::NoWindow { name: "sunday".into(), near: "the estate has: saturday".into() }, 404, "no-window", "sunday")]
    #[case::a_window_that_is_shut(EngineError::WindowShut { title: "Sunday night".into(), opens: "at 22:00".into() }, 409, "window-shut", "Sunday night")]
    #[case::a_line_too_far(EngineError::NoLine { line: 9, lines: 4 }, 422, "no-step", "there is no line 9: the procedure has 4")]
    #[case::no_act_of_that_name(EngineError::NoAct("dance?".into()), 422, "no-act", "dance?")]
    #[case::nothing_found_up(EngineError::AsFound("run 3 found nothing up".into()), 422, "as-found", "run 3")]
    #[case::a_decision_too_late(EngineError::Refused(Refusal::Stale { by: "tove decided: resume".into() }), 409, "stale-decision", "tove")]
    #[case::no_reason(EngineError::NoReason("to acknowledge"), 422, "no-reason", "to acknowledge needs a reason")]
    #[case::beside_the_run(EngineError::StrayOverride("quay-1/db".parse().unwrap()), 422, "stray-override", "quay-1/db")]
    #[case::of_a_unit(EngineError::UnitOverride("quay-1/db".parse().unwrap()), 422, "unit-override", "its unit's")]
    #[case::anothers_host(EngineError::HostKept { host: "pier".parse().unwrap(), why: "another server acts there".into() }, 409, "host-kept", "another server")]
    #[case::out_of_reach(EngineError::OutOfReach("pier".parse().unwrap()), 409, "out-of-reach", "pier")]
    #[case::edited_meanwhile(EngineError::EditedMeanwhile { procedure: "dawn".parse().unwrap(), who: "tove".into(), edition: 4 }, 409, "edited-meanwhile", "by tove: edition 4")]
    #[case::would_undo(EngineError::WouldUndo(vec!["dawn".into()]), 409, "would-undo", "dawn")]
    #[case::at_a_standstill(EngineError::Standstill("tove".into()), 409, "standstill", "by tove")]
    #[case::otherwise_than_shown(EngineError::Otherwise { difference: vec!["new: stop quay-1/db".into()], plan: None }, 409, "otherwise", "new: stop quay-1/db")]
    #[case::no_longer_vets(EngineError::EstateUnusable { edition: 4, why: "no such key".into() }, 409, "estate-unusable", "edition 4")]
    #[case::does_otherwise(EngineError::DoneOtherwise { difference: vec!["new: start quay-1/db".into()] }, 409, "otherwise", "new: start quay-1/db")]
    #[case::cannot_take_over(EngineError::CannotDivert { procedure: "desk".parse().unwrap(), why: "quay-1 is out of reach".into() }, 409, "cannot-divert", "quay-1 is out of reach")]
    #[case::behind_another(EngineError::Behind { run: RunId(7), behind: "run 3".into() }, 409, "behind", "run 3")]
    #[case::no_room(EngineError::NotStored("the disk is full".into()), 503, "not-stored", "the disk is full")]
    #[case::too_much(EngineError::Busy, 503, "busy", "more to do")]
    #[case::nothing_against_it(EngineError::NothingAgainst("quay-1/db".parse().unwrap()), 409, "nothing-against", "quay-1/db")]
    fn errors_say_what_where_and_how_to_mend_it(#[case] error: EngineError, #[case] status: u16, #[case] kind: &str, #[case] says: &str) {
        let problem = Problem::from(error);
        assert_eq!((problem.status, problem.kind), (status, format!("urn:yantro:problem:{kind}")));
        assert!(problem.detail.contains(says), "{}", problem.detail);
        assert!(!problem.title.is_empty() && !problem.hint.is_empty(), "{} has no mend", problem.title);
    }

    /// What is wrong inside goes to the log, and no word of it to the caller.
    #[test]
    fn the_servers_own_trouble_is_not_told_in_full() {
        let source = serde_json::from_str::<u32>("torn").unwrap_err();
        let problem = Problem::from(EngineError::Store(StoreError::Unreadable { what: "run 4 in /srv/yantro/yantro.db".into(), source }));
        assert_eq!(problem.status, 500);
        let text = serde_json::to_string(&problem).unwrap();
        assert!(!text.contains("/srv/yantro") && !text.contains("torn"), "{text}");
    }

    #[test]
    fn it_goes_out_as_problem_details() {
        let response = Problem::new(404, "no-run", "There is no such run", "there is no run 77", "see `yantro runs`").response();
        assert_eq!(response.status(), 404);
        assert_eq!(response.headers().get("content-type").unwrap(), "application/problem+json");
        // A status that is none is the server's own trouble.
        assert_eq!(Problem::new(7, "odd", "Odd", "", "").response().status(), 500);
    }
}
