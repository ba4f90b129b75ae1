//! The API's calls. Each is a few lines: the engine does the work.

use std::{collections::BTreeMap, time::Duration};

use actix_web::{HttpResponse, web};
use bytes::Bytes;
use futures::stream;
use serde::Deserialize;
use yantro_core::{
    estate::{Severity, vet},
    graph::Toward,
    name::Address,
    run::{Decision, RunId, input::Stamped},
    selection,
};
use yantro_engine::{BeginRequest, BoardView, Engine, EngineError, LoadOutcome, RunView};

use crate::{
    access::{Access, Who},
    openapi,
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
        .route("/relations", web::get().to(relations))
        .route("/plan", web::post().to(plan))
        .route("/runs", web::get().to(runs))
        .route("/runs", web::post().to(begin))
        .route("/runs/{run}", web::get().to(run))
        .route("/runs/{run}/events", web::get().to(run_events))
        .route("/runs/{run}/decisions", web::post().to(decide))
        .route("/acknowledgements", web::post().to(acknowledge))
        .route("/take-overs", web::post().to(take_over))
        .route("/standstill", web::post().to(standstill))
        .route("/audit", web::get().to(audit))
        .route("/logs", web::get().to(logs))
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

/// Reading what is stored may block: not on the threads that serve.
async fn blocking<T: Send + 'static>(f: impl FnOnce() -> Result<T, EngineError> + Send + 'static) -> Result<T, Problem> {
    let outcome =
        web::block(f).await.map_err(|e| Problem::new(500, "internal", "The server has trouble of its own", e.to_string(), "try again"))?;
    Ok(outcome?)
}

async fn board(engine: web::Data<Engine>) -> web::Json<BoardView> {
    web::Json(engine.board())
}

async fn look(engine: web::Data<Engine>) -> web::Json<BoardView> {
    web::Json(engine.look_again().await)
}

async fn estate(engine: web::Data<Engine>) -> Answer<EstateView> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    Ok(web::Json(EstateView { edition: loaded.edition, text: loaded.text.clone() }))
}

async fn vet_text(body: web::Json<EstateText>) -> web::Json<VetOutcome> {
    let vetted = vet(&body.text, &body.folder);
    web::Json(VetOutcome { good: !vetted.faults.iter().any(|f| f.severity == Severity::Error), faults: vetted.faults })
}

async fn load(engine: web::Data<Engine>, who: Who, body: web::Json<EstateText>) -> Answer<LoadOutcome> {
    let EstateText { text, folder, why } = body.into_inner();
    Ok(web::Json(engine.load(text, folder, &who.0, why).await?))
}

#[derive(Deserialize)]
struct Of {
    of: String,
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
    let (plan, _) = engine.plan(&body).await?;
    Ok(web::Json(PlanView { can_begin: plan.can_begin(), says: plan_says(&plan), plan }))
}

async fn begin(engine: web::Data<Engine>, who: Who, body: web::Json<BeginRequest>) -> Answer<RunBegun> {
    Ok(web::Json(RunBegun { id: engine.begin(&body, &who.0).await? }))
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

async fn run(engine: web::Data<Engine>, id: web::Path<u64>) -> Answer<RunView> {
    let id = RunId(*id);
    Ok(web::Json(blocking(move || engine.run(id)).await?))
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
    let DecisionRequest { kind, hold, why } = body.into_inner();
    let id = RunId(*id);
    engine.decide(id, Decision { kind, hold, who: who.0, why }).await?;
    Ok(web::Json(blocking(move || engine.run(id)).await?))
}

async fn acknowledge(engine: web::Data<Engine>, who: Who, body: web::Json<Acknowledgement>) -> Answer<BoardView> {
    let Acknowledgement { address, why } = body.into_inner();
    engine.acknowledge(address, &who.0, &why).await?;
    Ok(web::Json(engine.board()))
}

async fn take_over(engine: web::Data<Engine>, who: Who, body: web::Json<TakeOver>) -> Answer<BoardView> {
    let TakeOver { host, why } = body.into_inner();
    engine.take_over(&host, &who.0, &why).await?;
    Ok(web::Json(engine.board()))
}

async fn standstill(engine: web::Data<Engine>, who: Who, body: web::Json<StandstillRequest>) -> web::Json<BoardView> {
    engine.standstill(body.on, &who.0).await;
    web::Json(engine.board())
}

async fn audit(engine: web::Data<Engine>, page: web::Query<PageOf>) -> Answer<Vec<AuditLine>> {
    let limit = page.limit.unwrap_or(100).clamp(1, 1000);
    let rows = blocking(move || Ok(engine.reader()?.audit(limit)?)).await?;
    Ok(web::Json(rows.into_iter().map(|r| AuditLine { at: r.at, who: r.who, what: r.what, about: r.about, why: r.why }).collect()))
}

async fn sign_in_link(access: web::Data<Access>, who: Who) -> web::Json<SignInLink> {
    web::Json(SignInLink { path: access.link(&who.0) })
}

async fn schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").json(yantro_core::estate::json_schema())
}

async fn api_description() -> HttpResponse {
    HttpResponse::Ok().content_type("application/vnd.oai.openapi+json;version=3.1").json(openapi::document())
}

#[derive(Deserialize)]
struct LogsOf {
    /// Selections, with commas between.
    of: String,
    lines: Option<usize>,
    #[serde(default)]
    follow: bool,
}

/// Follows the logs of several services together, each line with its service.
async fn logs(engine: web::Data<Engine>, asked: web::Query<LogsOf>) -> Result<HttpResponse, Problem> {
    let loaded = engine.loaded().ok_or(EngineError::NoEstate)?;
    let words: Vec<String> = asked.of.split(',').map(str::to_owned).collect();
    let chosen = selection::resolve(&loaded.estate, &loaded.graph, &words, &[]).map_err(EngineError::from)?;
    let mut first: Vec<FollowedLine> = Vec::new();
    let mut follows = Vec::new();
    let mut at: BTreeMap<String, Address> = BTreeMap::new();
    for address in chosen {
        for path in engine.logs_of(&loaded.estate.services[&address]) {
            match yantro_reach::LogFollow::new(&path, asked.lines.unwrap_or(20)) {
                Ok((follow, lines)) => {
                    first.extend(lines.into_iter().map(|l| FollowedLine {
                        address: address.clone(),
                        source: l.source,
                        text: engine.mask(&l.text),
                        unreadable: false,
                    }));
                    at.insert(path, address.clone());
                    follows.push(follow);
                }
                Err(error) => {
                    let text = format!("this log may not be read: {error}");
                    first.push(FollowedLine { address: address.clone(), source: path, text, unreadable: true });
                }
            }
        }
    }
    if !asked.follow {
        return Ok(HttpResponse::Ok().json(first));
    }
    let line = |l: &FollowedLine| format!("event: line\ndata: {}\n\n", serde_json::to_string(l).unwrap_or_default());
    let first: String = first.iter().map(line).collect();
    let tail = stream::unfold((follows, at, Some(first), 0u32), move |(mut follows, at, first, mut quiet)| {
        let engine = engine.clone();
        async move {
            if let Some(first) = first {
                return Some((Ok::<_, std::io::Error>(Bytes::from(format!("retry: 1000\n\n{first}"))), (follows, at, None, 0)));
            }
            loop {
                let mut text = String::new();
                for follow in &mut follows {
                    for l in follow.poll().unwrap_or_default() {
                        if let Some(address) = at.get(&l.source) {
                            text += &line(&FollowedLine {
                                address: address.clone(),
                                source: l.source,
                                text: engine.mask(&l.text),
                                unreadable: false,
                            });
                        }
                    }
                }
                quiet += 1;
                if text.is_empty() && quiet >= 50 {
                    text = ": quiet\n\n".to_owned();
                }
                if !text.is_empty() {
                    return Some((Ok(Bytes::from(text)), (follows, at, None, 0)));
                }
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
        }
    });
    Ok(HttpResponse::Ok().content_type("text/event-stream").insert_header(("cache-control", "no-store")).streaming(tail))
}
