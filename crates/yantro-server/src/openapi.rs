//! The API's description: OpenAPI 3.1, made from the types that go over the wire.

use schemars::{JsonSchema, SchemaGenerator, generate::SchemaSettings};
use serde_json::{Map, Value, json};
use yantro_core::{model::Launch, run::Stamped, words::time::Timestamp};
use yantro_engine::{
    BeginRequest, BoardView, Comparison, Consequences, Deed, Draft, DraftRequest, EditOutcome, EditRequest, EditionRow, HostSurvey,
    LoadOutcome, ProcedureDifference, Rehearsal, Report, RunForecast, RunView,
};

use crate::{problem::Problem, wire::*};

/// The whole description.
pub fn document() -> Value {
    let mut settings = SchemaSettings::draft2020_12();
    settings.definitions_path = "/components/schemas".into();
    settings.meta_schema = None;
    let mut g = settings.into_generator();
    let mut paths = Map::new();
    let mut add = |method: &str,
                   path: &str,
                   name: &str,
                   summary: &str,
                   query: &[(&str, &str, bool)],
                   body: Option<Value>,
                   answer: Value| {
        let mut parameters: Vec<Value> = query
            .iter()
            .map(|(name, kind, required)| json!({ "name": name, "in": "query", "required": required, "schema": { "type": kind } }))
            .collect();
        if path.contains("{run}") {
            parameters.push(json!({ "name": "run", "in": "path", "required": true, "schema": { "type": "integer" } }));
        }
        if path.contains("{procedure}") {
            parameters.push(json!({ "name": "procedure", "in": "path", "required": true, "schema": { "type": "string" } }));
        }
        let problem = json!({ "description": "What went wrong.", "content": { "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } } });
        let mut call = json!({
            "operationId": name, "summary": summary, "parameters": parameters,
            "responses": { "200": answer, "default": problem },
        });
        if let Some(body) = body {
            call["requestBody"] = json!({ "required": true, "content": { "application/json": { "schema": body } } });
        }
        paths.entry(format!("/api/v1{path}")).or_insert_with(|| json!({}))[method] = call;
    };
    let page: &[(&str, &str, bool)] = &[("before", "integer", false), ("limit", "integer", false)];
    let of: &[(&str, &str, bool)] = &[("of", "string", true)];
    let logs: &[(&str, &str, bool)] =
        &[("of", "string", true), ("lines", "integer", false), ("follow", "boolean", false), ("run", "integer", false)];
    let since: &[(&str, &str, bool)] = &[("since", "integer", false)];
    let says = "How everything stands; with the version of an earlier answer as `since`, what is new.";
    add("get", "/board", "board", says, since, None, ok::<BoardView>(&mut g));
    add("post", "/look", "look", "Look at everything once more.", &[], None, ok::<BoardView>(&mut g));
    let edition: &[(&str, &str, bool)] = &[("edition", "integer", false)];
    add("get", "/estate", "estate", "The loaded estate, or an earlier edition of it.", edition, None, ok::<EstateView>(&mut g));
    let limit: &[(&str, &str, bool)] = &[("limit", "integer", false)];
    add("get", "/editions", "editions", "The newest editions of the estate.", limit, None, ok::<Vec<EditionRow>>(&mut g));
    let text = of_type::<EstateText>(&mut g);
    add("post", "/estate", "load", "Load an estate as a new edition.", &[], Some(text.clone()), ok::<LoadOutcome>(&mut g));
    add("post", "/estate/vet", "vet", "Find all faults of an estate, and load nothing.", &[], Some(text), ok::<VetOutcome>(&mut g));
    add("get", "/relations", "relations", "What a service relies on, and what relies on it.", of, None, ok::<Relations>(&mut g));
    let says = "What services will really be started with, and where each value is written.";
    add("get", "/started-with", "startedWith", says, of, None, ok::<Vec<Launch>>(&mut g));
    let request = of_type::<BeginRequest>(&mut g);
    add(
        "post",
        "/plan",
        "plan",
        "Work out what a wish, a procedure or a further act comes to, and touch nothing.",
        &[],
        Some(request.clone()),
        ok::<PlanView>(&mut g),
    );
    let fails: &[(&str, &str, bool)] = &[("fails", "integer", false)];
    let says = "Rehearse it, and touch nothing; with `fails`, what if that step failed.";
    add("post", "/rehearsals", "rehearse", says, fails, Some(request.clone()), ok::<Rehearsal>(&mut g));
    add("get", "/procedures", "procedures", "The procedures of the estate.", &[], None, ok::<Vec<ProcedureSummary>>(&mut g));
    add("get", "/procedures/{procedure}", "procedure", "A procedure in full.", &[], None, ok::<ProcedureView>(&mut g));
    let tried = of_type::<DraftRequest>(&mut g);
    let says = "Try a change of a procedure: its text, its faults, its difference and its forecast. Nothing is kept.";
    add("post", "/procedures/{procedure}/draft", "draft", says, &[], Some(tried), ok::<Draft>(&mut g));
    let kept = of_type::<EditRequest>(&mut g);
    let says = "Keep a change of a procedure as a new edition; without a text, take the procedure out.";
    add("post", "/procedures/{procedure}/editions", "edit", says, &[], Some(kept), ok::<EditOutcome>(&mut g));
    let between: &[(&str, &str, bool)] = &[("from", "integer", false), ("to", "integer", false), ("with", "string", false)];
    let says = "A procedure beside itself in another edition, or beside another; without a query, its last change.";
    add("get", "/procedures/{procedure}/difference", "difference", says, between, None, ok::<ProcedureDifference>(&mut g));
    add("get", "/runs", "runs", "The newest runs.", page, None, ok::<RunPage>(&mut g));
    add("post", "/runs", "begin", "Begin a run of it.", &[], Some(request), ok::<RunBegun>(&mut g));
    let says = "A run in full; with the number of an event as `since`, only the steps that changed after it.";
    add("get", "/runs/{run}", "run", says, since, None, ok::<RunView>(&mut g));
    add("get", "/runs/{run}/events", "runEvents", "All that happened in a run.", &[], None, ok::<Vec<Stamped>>(&mut g));
    let says = "What a run that holds since things changed would do now; its digest goes with the decision to resume it.";
    add("get", "/runs/{run}/anew", "anew", says, &[], None, ok::<PlanView>(&mut g));
    let decision = of_type::<DecisionRequest>(&mut g);
    add("post", "/runs/{run}/decisions", "decide", "Take a decision on a run.", &[], Some(decision), ok::<RunView>(&mut g));
    let says = "How a run is forecast to go on; with `steps` false without each step and service.";
    add("get", "/runs/{run}/forecast", "runForecast", says, &[("steps", "boolean", false)], None, ok::<RunForecast>(&mut g));
    let form: &[(&str, &str, bool)] = &[("as", "string", false)];
    let says = "The report of a run; `as` is json, markdown, csv or junit.";
    add("get", "/runs/{run}/report", "report", says, form, None, ok::<Report>(&mut g));
    let with: &[(&str, &str, bool)] = &[("with", "integer", false)];
    let says = "A run beside another, step by step; without `with`, beside the last earlier one of its kind.";
    add("get", "/runs/{run}/comparison", "comparison", says, with, None, ok::<Comparison>(&mut g));
    let note = of_type::<NoteRequest>(&mut g);
    add("post", "/runs/{run}/notes", "note", "Write a note on a run, ended or not.", &[], Some(note), ok::<RunView>(&mut g));
    add("post", "/runs/{run}/taken", "takeOn", "Say that you have a run from now on.", &[], None, ok::<RunView>(&mut g));
    let known = of_type::<Acknowledgement>(&mut g);
    let says = "Take a forbidden log line as known: it no longer keeps its service ailing.";
    add("post", "/acknowledgements", "acknowledge", says, &[], Some(known), ok::<BoardView>(&mut g));
    let taken = of_type::<TakeOver>(&mut g);
    let says = "Act on a host from now on, in the place of another server.";
    add("post", "/take-overs", "takeOver", says, &[], Some(taken), ok::<BoardView>(&mut g));
    let tried = of_type::<ReachRequest>(&mut g);
    let says = "Try hosts that are out of reach at once; the answer comes once each was tried.";
    add("post", "/tries", "reach", says, &[], Some(tried), ok::<BoardView>(&mut g));
    let on: &[(&str, &str, bool)] = &[("on", "string", true), ("describe", "string", false)];
    let says = "Look through a host for what could be described; with `describe`, how these units would be.";
    add("get", "/found", "found", says, on, None, ok::<HostSurvey>(&mut g));
    let adopted = of_type::<Adoption>(&mut g);
    let says = "Describe units of a host as services of the estate, in a new edition.";
    add("post", "/adoptions", "adopt", says, &[], Some(adopted), ok::<LoadOutcome>(&mut g));
    let standstill = of_type::<StandstillRequest>(&mut g);
    add("post", "/standstill", "standstill", "Hold everything, or let it go on.", &[], Some(standstill), ok::<BoardView>(&mut g));
    let deed = of_type::<Deed>(&mut g);
    let says =
        "What a decision, lifting the standstill or taking over a host would do now, and touch nothing; its digest goes with the deed.";
    add("post", "/consequences", "consequences", says, &[], Some(deed), ok::<Consequences>(&mut g));
    add("get", "/audit", "audit", "The audit trail.", page, None, ok::<Vec<AuditLine>>(&mut g));
    add(
        "get",
        "/logs",
        "logs",
        "The logs of services together; with `follow`, as server-sent events named `line`; with `run`, from its first act on.",
        logs,
        None,
        ok::<Vec<FollowedLine>>(&mut g),
    );
    add("post", "/sign-in-link", "signInLink", "A link for signing in to the console, good once.", &[], None, ok::<SignInLink>(&mut g));
    let bytes = json!({ "description": "Bytes as they are written.", "content": { "application/octet-stream": { "schema": { "type": "string" } } } });
    add("get", "/output", "output", "A service's own output from now on, as it is written.", of, None, bytes);
    let stream = json!({ "description": "Server-sent events: run, board, edition, server, anew. Give `Last-Event-ID` to have what was missed.", "content": { "text/event-stream": { "schema": { "type": "string" } } } });
    add("get", "/events", "events", "Whatever happens.", &[], None, stream);
    of_type::<Problem>(&mut g);
    of_type::<Timestamp>(&mut g);
    json!({
        "openapi": "3.1.0",
        "info": { "title": "Yantro", "version": "1", "description": "Plans and runs stop, start and restart sequences across dependent services. Every error is an RFC 9457 problem." },
        "paths": paths,
        "components": {
            "schemas": g.take_definitions(true),
            "securitySchemes": { "token": { "type": "http", "scheme": "bearer" } },
        },
        "security": [{ "token": [] }],
    })
}

fn of_type<T: JsonSchema>(g: &mut SchemaGenerator) -> Value {
    g.subschema_for::<T>().to_value()
}

fn ok<T: JsonSchema>(g: &mut SchemaGenerator) -> Value {
    json!({ "description": "Done.", "content": { "application/json": { "schema": of_type::<T>(g) } } })
}
