//! The API's calls. Each is a few lines: the engine does the work.

use std::{sync::Arc, time::Duration};

use actix_web::{HttpResponse, web};
use bytes::Bytes;
use futures::stream;
use serde::Deserialize;
use yantro_core::{
    graph::Toward,
    model::{Launch, launch},
    plan::{Plan, Shown, StepId},
    run::{Decision, RunId, Stamped},
    selection,
    text::{Severity, vet},
    words::name::{HostName, ProcedureName, did_you_mean},
};
use yantro_engine::{
    BeginRequest, BoardView, Comparison, Consequences, Deed, Draft, DraftRequest, EditOutcome, EditRequest, EditionRow, Engine,
    EngineError, HostSurvey, LoadOutcome, LoadRequest, Loaded, ProcedureDifference, Rehearsal, RunForecast, RunView,
};

use crate::{
    access::{Access, Who},
    blocking::blocking,
    follow, openapi,
    problem::Problem,
    stream as events,
    wire::*,
};

type Answer<T> = Result<web::Json<T>, Problem>;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/board", web::get().to(board))
        .route("/look", web::post().to(look))
        .route("/estate", web::get().to(estate))
        .route("/estate", web::post().to(load))
        .route("/estate/vet", web::post().to(vet_text))
        .route("/editions", web::get().to(editions))
        .route("/started-with", web::get().to(started_with))
        .route("/relations", web::get().to(relations))
        .route("/plan", web::post().to(plan))
        .route("/rehearsals", web::post().to(rehearse))
        .route("/procedures", web::get().to(procedures))
        .route("/procedures/{procedure}", web::get().to(procedure))
        .route("/procedures/{procedure}/draft", web::post().to(draft))
        .route("/procedures/{procedure}/editions", web::post().to(edit))
        .route("/procedures/{procedure}/difference", web::get().to(difference))
        .route("/runs", web::get().to(runs))
        .route("/runs", web::post().to(begin))
        .route("/runs/{run}", web::get().to(run))
        .route("/runs/{run}/events", web::get().to(run_events))
        .route("/runs/{run}/report", web::get().to(report))
        .route("/runs/{run}/comparison", web::get().to(comparison))
        .route("/runs/{run}/forecast", web::get().to(run_forecast))
        .route("/runs/{run}/anew", web::get().to(anew))
        .route("/runs/{run}/decisions", web::post().to(decide))
        .route("/runs/{run}/notes", web::post().to(note))
        .route("/runs/{run}/taken", web::post().to(take_on))
        .route("/acknowledgements", web::post().to(acknowledge))
        .route("/take-overs", web::post().to(take_over))
        .route("/tries", web::post().to(reach))
        .route("/found", web::get().to(found))
        .route("/adoptions", web::post().to(adopt))
        .route("/standstill", web::post().to(standstill))
        .route("/consequences", web::post().to(consequences))
        .route("/audit", web::get().to(audit))
        .route("/logs", web::get().to(follow::logs))
        .route("/output", web::get().to(output))
        .route("/events", web::get().to(events::events))
        .route("/sign-in-link", web::post().to(sign_in_link))
        .route("/schema.json", web::get().to(schema))
        .route("/openapi.json", web::get().to(api_description));
}

/// Whatever there is nothing at.
pub async fn not_found(request: actix_web::HttpRequest) -> HttpResponse {
    Problem::new(404, "bad-path", "There is nothing at this path", request.path().to_owned(), "see /api/v1/openapi.json for what there is")
        .response()
}

#[derive(Deserialize)]
struct Since {
    /// What is known already: the board's version, or the number of a run's event.
    since: Option<u64>,
}

async fn board(engine: web::Data<Engine>, known: web::Query<Since>) -> Answer<BoardView> {
    // Of ten thousand services it takes a moment of a processor.
    Ok(web::Json(blocking(move || Ok(engine.board_since(known.since))).await?))
}

async fn look(engine: web::Data<Engine>) -> web::Json<BoardView> {
    web::Json(engine.look_again().await)
}

#[derive(Deserialize)]
struct OfEdition {
    /// The edition; without it, the newest.
    edition: Option<u64>,
}

async fn estate(engine: web::Data<Engine>, of: web::Query<OfEdition>) -> Answer<EstateView> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    Ok(web::Json(match of.edition {
        Some(edition) => EstateView { edition, text: blocking(move || engine.text_of(edition)).await? },
        None => EstateView { edition: loaded.edition, text: loaded.text.clone() },
    }))
}

async fn editions(engine: web::Data<Engine>, page: web::Query<PageOf>) -> Answer<Vec<EditionRow>> {
    let limit = page.limit.unwrap_or(50).clamp(1, 500);
    Ok(web::Json(blocking(move || engine.editions(limit)).await?))
}

async fn vet_text(engine: web::Data<Engine>, body: web::Json<EstateText>) -> web::Json<VetOutcome> {
    let vetted = vet(&body.text, &body.folder).by(&body.text, engine.clock().now());
    web::Json(VetOutcome { good: !vetted.faults.iter().any(|f| f.severity == Severity::Error), faults: vetted.faults })
}

async fn load(engine: web::Data<Engine>, who: Who, body: web::Json<EstateText>) -> Answer<LoadOutcome> {
    let EstateText { text, folder, why, over_edits } = body.into_inner();
    Ok(web::Json(engine.load(LoadRequest { text, folder, why, over_edits }, &who.0).await?))
}

#[derive(Deserialize)]
struct Of {
    of: String,
}

async fn started_with(engine: web::Data<Engine>, of: web::Query<Of>) -> Answer<Vec<Launch>> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let words: Vec<String> = of.of.split(',').map(str::to_owned).collect();
    let chosen = selection::resolve(&loaded.estate, &loaded.graph, &words, &[]).map_err(EngineError::from)?;
    let mut all: Vec<Launch> = chosen.iter().filter_map(|a| launch(&loaded.estate, &loaded.text, a)).collect();
    for sourced in all.iter_mut().flat_map(|l| l.command.iter_mut().chain(l.env.values_mut())) {
        sourced.value = engine.mask(&sourced.value);
    }
    Ok(web::Json(all))
}

async fn relations(engine: web::Data<Engine>, of: web::Query<Of>) -> Answer<Relations> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let chosen = selection::resolve(&loaded.estate, &loaded.graph, std::slice::from_ref(&of.of), &[]).map_err(EngineError::from)?;
    let address = match chosen.into_iter().collect::<Vec<_>>().as_slice() {
        [one] => one.clone(),
        several => {
            let copies = several.to_vec();
            return Err(EngineError::from(selection::SelectionError::SeveralCopies { name: of.of.clone(), copies }).into());
        }
    };
    Ok(web::Json(Relations {
        relies_on: loaded.graph.beside(&address, Toward::Needed),
        needs: loaded.graph.all(&address, Toward::Needed),
        reliant: loaded.graph.beside(&address, Toward::Reliant),
        takes_with_it: loaded.graph.all(&address, Toward::Reliant),
        address,
    }))
}

async fn plan(engine: web::Data<Engine>, body: web::Json<BeginRequest>) -> Answer<PlanView> {
    let (plan, loaded) = engine.plan_to_show(&body).await?;
    let at_once = body.at_once.map(Into::into);
    planned(engine, plan, loaded, at_once).await
}

/// A plan with its forecast, which takes a moment of a processor.
async fn planned(engine: web::Data<Engine>, plan: Plan, loaded: Arc<Loaded>, at_once: Option<u32>) -> Answer<PlanView> {
    let view = blocking(move || {
        let forecast = engine.foretold(&plan.sequence.steps, &loaded, at_once);
        let digest = engine.shows(Shown::of(&plan, loaded.edition));
        Ok(PlanView { digest, can_begin: plan.can_begin(), says: plan_says(&plan), plan, forecast })
    });
    Ok(web::Json(view.await?))
}

async fn begin(engine: web::Data<Engine>, who: Who, body: web::Json<BeginRequest>) -> Answer<RunBegun> {
    Ok(web::Json(RunBegun { id: engine.begin(&body, &who.0).await? }))
}

/// What a run that holds since things changed would do now: its digest goes with the decision to resume it.
async fn anew(engine: web::Data<Engine>, id: web::Path<u64>) -> Answer<PlanView> {
    let (plan, loaded) = engine.anew(RunId(*id)).await?;
    planned(engine, plan, loaded, None).await
}

#[derive(Deserialize)]
struct Fails {
    /// The step to play as failing.
    fails: Option<u32>,
}

async fn rehearse(engine: web::Data<Engine>, fails: web::Query<Fails>, body: web::Json<BeginRequest>) -> Answer<Rehearsal> {
    Ok(web::Json(engine.rehearse(&body, fails.fails.map(StepId)).await?))
}

fn named(engine: &Engine, text: &str) -> Result<ProcedureName, Problem> {
    let near = || {
        let loaded = engine.loaded();
        let names: Vec<String> = loaded.iter().flat_map(|l| l.estate.procedures.keys().map(ToString::to_string)).collect();
        did_you_mean(text, names.iter().map(String::as_str))
    };
    let known = |n: &ProcedureName| engine.loaded().is_some_and(|l| l.estate.procedures.contains_key(n));
    let found = text.parse().ok().filter(known);
    found.ok_or_else(|| EngineError::NoProcedure { name: text.to_owned(), near: near() }.into())
}

async fn procedures(engine: web::Data<Engine>) -> Answer<Vec<ProcedureSummary>> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let all = loaded.estate.procedures.values().map(|p| ProcedureSummary {
        name: p.name.clone(),
        title: p.title.clone(),
        purpose: p.purpose.clone(),
        lines: p.lines.len() as u32,
        asks: p.questions.keys().cloned().collect(),
    });
    Ok(web::Json(all.collect()))
}

async fn procedure(engine: web::Data<Engine>, name: web::Path<String>) -> Answer<ProcedureView> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let procedure = loaded.estate.procedures[&named(&engine, &name)?].clone();
    let says = procedure.lines.iter().map(|l| l.says()).collect();
    Ok(web::Json(ProcedureView { edition: loaded.edition, procedure, says }))
}

/// A name for a procedure, whether there is one of it or not.
fn a_name(text: &str) -> Result<ProcedureName, Problem> {
    text.parse().map_err(|e: yantro_core::words::name::NameError| {
        Problem::new(422, "bad-name", "This cannot be a name", e.to_string(), "use letters, digits, \"-\" and \"_\"")
    })
}

async fn draft(engine: web::Data<Engine>, name: web::Path<String>, body: web::Json<DraftRequest>) -> Answer<Draft> {
    let name = a_name(&name)?;
    Ok(web::Json(blocking(move || engine.draft(&name, &body)).await?))
}

async fn edit(engine: web::Data<Engine>, who: Who, name: web::Path<String>, body: web::Json<EditRequest>) -> Answer<EditOutcome> {
    Ok(web::Json(engine.edit(&a_name(&name)?, body.into_inner(), &who.0).await?))
}

#[derive(Deserialize)]
struct Between {
    /// The edition of the first; without it, the one before the last change.
    from: Option<u64>,
    /// The edition of the second; without it, the newest.
    to: Option<u64>,
    /// Another procedure, as the second.
    with: Option<ProcedureName>,
}

async fn difference(engine: web::Data<Engine>, name: web::Path<String>, between: web::Query<Between>) -> Answer<ProcedureDifference> {
    let name = a_name(&name)?;
    let Between { from, to, with } = between.into_inner();
    Ok(web::Json(blocking(move || engine.difference(&name, from, to, with.as_ref())).await?))
}

#[derive(Deserialize)]
struct ForecastOf {
    /// Whether each step and service is told, too: by default it is.
    steps: Option<bool>,
}

async fn run_forecast(engine: web::Data<Engine>, id: web::Path<u64>, of: web::Query<ForecastOf>) -> Answer<Arc<RunForecast>> {
    let id = RunId(*id);
    let forecast = blocking(move || engine.forecast(id)).await?;
    Ok(web::Json(if of.steps == Some(false) { Arc::new(forecast.in_all()) } else { forecast }))
}

#[derive(Deserialize)]
struct ReportAs {
    /// json, markdown, csv or junit.
    #[serde(rename = "as")]
    form: Option<String>,
}

async fn report(engine: web::Data<Engine>, id: web::Path<u64>, form: web::Query<ReportAs>) -> Result<HttpResponse, Problem> {
    let id = RunId(*id);
    let report = blocking(move || engine.report(id)).await?;
    let mut answer = HttpResponse::Ok();
    Ok(match form.form.as_deref().unwrap_or("json") {
        "json" => answer.json(report),
        "markdown" => answer.content_type("text/markdown; charset=utf-8").body(report.markdown()),
        "csv" => answer.content_type("text/csv; charset=utf-8").body(report.csv()),
        "junit" => answer.content_type("application/xml").body(report.junit()),
        other => {
            let detail = format!("there is no report as \"{other}\"");
            return Err(Problem::new(
                422,
                "bad-query",
                "The request's query cannot be read",
                detail,
                "ask for json, markdown, csv or junit",
            ));
        }
    })
}

#[derive(Deserialize)]
struct With {
    /// The other run.
    with: Option<u64>,
}

async fn comparison(engine: web::Data<Engine>, id: web::Path<u64>, with: web::Query<With>) -> Answer<Comparison> {
    let (id, with) = (RunId(*id), with.with.map(RunId));
    Ok(web::Json(blocking(move || engine.compare(id, with)).await?))
}

async fn note(engine: web::Data<Engine>, who: Who, id: web::Path<u64>, body: web::Json<NoteRequest>) -> Answer<RunView> {
    let id = RunId(*id);
    engine.note(id, &who.0, &body.text).await?;
    Ok(web::Json(blocking(move || engine.run(id)).await?))
}

async fn take_on(engine: web::Data<Engine>, who: Who, id: web::Path<u64>) -> Answer<RunView> {
    let id = RunId(*id);
    engine.take_on(id, &who.0).await?;
    Ok(web::Json(blocking(move || engine.run(id)).await?))
}

#[derive(Deserialize)]
struct PageOf {
    before: Option<u64>,
    limit: Option<u32>,
}

async fn runs(engine: web::Data<Engine>, page: web::Query<PageOf>) -> Answer<RunPage> {
    let limit = page.limit.unwrap_or(50).clamp(1, 500);
    let before = page.before.map(RunId);
    let runs = blocking(move || engine.runs(before, limit)).await?;
    let next = (runs.len() == limit as usize).then(|| runs.last().map(|r| r.id)).flatten();
    Ok(web::Json(RunPage { runs, next }))
}

async fn run(engine: web::Data<Engine>, id: web::Path<u64>, known: web::Query<Since>) -> Answer<RunView> {
    let id = RunId(*id);
    Ok(web::Json(blocking(move || engine.run_since(id, known.since)).await?))
}

async fn run_events(engine: web::Data<Engine>, id: web::Path<u64>) -> Answer<Vec<Stamped>> {
    let id = RunId(*id);
    let events = blocking(move || {
        let events = engine.reader()?.events_of(id)?;
        if events.is_empty() { Err(EngineError::NoRun(id)) } else { Ok(events) }
    });
    Ok(web::Json(events.await?))
}

async fn decide(engine: web::Data<Engine>, who: Who, id: web::Path<u64>, body: web::Json<DecisionRequest>) -> Answer<RunView> {
    let DecisionRequest { kind, hold, shown, why } = body.into_inner();
    let id = RunId(*id);
    engine.decide(id, Decision { kind, hold, who: who.0, why }, shown.as_deref()).await?;
    Ok(web::Json(blocking(move || engine.run(id)).await?))
}

/// What a deed would do: its digest goes with it.
async fn consequences(engine: web::Data<Engine>, who: Who, body: web::Json<Deed>) -> Answer<Consequences> {
    Ok(web::Json(engine.consequences(&body, &who.0).await?))
}

async fn acknowledge(engine: web::Data<Engine>, who: Who, body: web::Json<Acknowledgement>) -> Answer<BoardView> {
    let Acknowledgement { address, why } = body.into_inner();
    engine.acknowledge(address, &who.0, &why).await?;
    Ok(web::Json(engine.board()))
}

async fn reach(engine: web::Data<Engine>, body: web::Json<ReachRequest>) -> Answer<BoardView> {
    Ok(web::Json(engine.reach(&body.hosts).await?))
}

async fn take_over(engine: web::Data<Engine>, who: Who, body: web::Json<TakeOver>) -> Answer<BoardView> {
    let TakeOver { host, why, shown } = body.into_inner();
    engine.take_over(&host, &who.0, &why, shown.as_deref()).await?;
    Ok(web::Json(engine.board()))
}

#[derive(Deserialize)]
struct FoundOn {
    /// The host.
    on: HostName,
    /// Units to be described, with commas between.
    describe: Option<String>,
}

async fn found(engine: web::Data<Engine>, asked: web::Query<FoundOn>) -> Answer<HostSurvey> {
    let chosen: Vec<String> = asked.describe.iter().flat_map(|d| d.split(',')).filter(|u| !u.is_empty()).map(str::to_owned).collect();
    Ok(web::Json(engine.survey(&asked.on, &chosen).await?))
}

async fn adopt(engine: web::Data<Engine>, who: Who, body: web::Json<Adoption>) -> Answer<LoadOutcome> {
    let Adoption { host, units, why } = body.into_inner();
    Ok(web::Json(engine.adopt(&host, &units, why, &who.0).await?))
}

async fn standstill(engine: web::Data<Engine>, who: Who, body: web::Json<StandstillRequest>) -> Answer<BoardView> {
    engine.standstill(body.on, &who.0, body.shown.as_deref()).await?;
    Ok(web::Json(engine.board()))
}

async fn audit(engine: web::Data<Engine>, page: web::Query<PageOf>) -> Answer<Vec<AuditLine>> {
    let limit = page.limit.unwrap_or(100).clamp(1, 1000);
    let rows = blocking(move || Ok(engine.reader()?.audit(limit)?)).await?;
    Ok(web::Json(rows.into_iter().map(|r| AuditLine { at: r.at, who: r.who, what: r.what, about: r.about, why: r.why }).collect()))
}

/// How often a service's own output is looked at for more.
const OUTPUT_AGAIN: Duration = Duration::from_millis(30);
/// How long half a line is waited on before it is passed on.
const HALF_LINE: Duration = Duration::from_millis(100);

/// A service's own output from now on, as it is written: plain bytes, known secrets masked.
async fn output(engine: web::Data<Engine>, of: web::Query<Of>) -> Result<HttpResponse, Problem> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let chosen = selection::resolve(&loaded.estate, &loaded.graph, std::slice::from_ref(&of.of), &[]).map_err(EngineError::from)?;
    let service = chosen.first().map(|a| &loaded.estate.services[a]).ok_or(EngineError::NoEstate)?;
    let host = service.address.host.clone();
    let path = engine.output_of(service).ok_or_else(|| EngineError::OutOfReach(host.clone()))?;
    let at = engine.read_from(&host, &path, None).await.map_or(0, |(end, _)| end);
    let of = (host, path);
    let tail = stream::unfold((engine, of, at, Vec::<u8>::new(), Duration::ZERO), |(engine, of, mut at, mut held, mut quiet)| async move {
        loop {
            // What cannot be read now is tried again.
            let (end, more) = engine.read_from(&of.0, &of.1, Some(at)).await.unwrap_or((at, String::new()));
            at = end;
            quiet = if more.is_empty() { quiet + OUTPUT_AGAIN } else { Duration::ZERO };
            held.extend(more.into_bytes());
            // Whole lines go at once. Half a line, such as a prompt, goes when nothing more comes of it.
            let whole = held.iter().rposition(|b| *b == b'\n').map_or(0, |n| n + 1);
            let ready = if quiet >= HALF_LINE { held.len() } else { whole };
            if ready > 0 {
                let text = engine.mask(&String::from_utf8_lossy(&held[..ready]));
                held.drain(..ready);
                return Some((Ok::<_, std::io::Error>(Bytes::from(text)), (engine, of, at, held, quiet)));
            }
            tokio::time::sleep(OUTPUT_AGAIN).await;
        }
    });
    Ok(HttpResponse::Ok().content_type("application/octet-stream").insert_header(("cache-control", "no-store")).streaming(tail))
}

/// What a file has from a place on, at most a piece of it; nothing where it is not there yet.
async fn sign_in_link(access: web::Data<Access>, who: Who) -> web::Json<SignInLink> {
    web::Json(SignInLink { path: access.link(&who.0) })
}

async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").json(yantro_core::text::json_schema())
}

async fn api_description() -> HttpResponse {
    HttpResponse::Ok().content_type("application/vnd.oai.openapi+json;version=3.1").json(openapi::document())
}
