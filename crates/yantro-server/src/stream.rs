//! The event stream: what was missed since `Last-Event-ID` first, then whatever happens.

use std::{sync::Arc, time::Duration};

use actix_web::{HttpRequest, HttpResponse, web};
use bytes::Bytes;
use futures::{Stream, StreamExt, stream};
use tokio::sync::broadcast;
use yantro_engine::{Engine, Place, Published, Topic};

use crate::problem::Problem;

/// Told while nothing happens, so that a cut stream is noticed.
const QUIET: Duration = Duration::from_secs(10);
/// Missed events are read back in pieces.
const PIECE: u32 = 500;

/// `GET /api/v1/events`
pub async fn events(request: HttpRequest, engine: web::Data<Engine>) -> Result<HttpResponse, Problem> {
    let last = request.headers().get("last-event-id").and_then(|v| v.to_str().ok());
    // Listening begins before reading back, so that nothing falls in between.
    let live = engine.listen();
    let engine = engine.into_inner();
    let here = engine.here();
    // What is no place of this stream is of another store, or of one that was restored since: what that knows is told anew.
    let place = last.and_then(Place::read).filter(|place| engine.knows(place));
    let is_stray = last.is_some() && place.is_none();
    let (missed, upto) = match place.map(|place| place.event) {
        Some(last) => {
            let reading = Arc::clone(&engine);
            web::block(move || read_back(&reading, last))
                .await
                .map_err(|e| Problem::new(500, "internal", "The server has trouble of its own", e.to_string(), "try again"))??
        }
        None => (Vec::new(), i64::MIN),
    };
    let hello = Bytes::from_static(b"retry: 1000\nevent: hello\ndata: {}\n\n");
    // Without a place from here on it would come back with the stray one.
    let anew = is_stray.then(|| Published::new(Topic::Anew, Some(here), &serde_json::json!({})).wire);
    let all = stream::iter(std::iter::once(hello).chain(anew).chain(missed)).chain(follow(live, upto, QUIET)).map(Ok::<_, std::io::Error>);
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-store"))
        .insert_header(("x-accel-buffering", "no"))
        .streaming(all))
}

/// Everything after a place in the stream, and the last place read.
fn read_back(engine: &Engine, mut last: i64) -> Result<(Vec<Bytes>, i64), Problem> {
    let reader = engine.reader()?;
    let mut missed = Vec::new();
    loop {
        let piece = reader.events_after(last, PIECE).map_err(yantro_engine::EngineError::from)?;
        for event in &piece {
            let body =
                serde_json::json!({ "run": event.run, "no": event.stamped.no, "at": event.stamped.at, "event": event.stamped.event });
            missed.push(Published::new(Topic::Run, Some(engine.place(event.id)), &body).wire);
            last = event.id;
        }
        if piece.len() < PIECE as usize {
            return Ok((missed, last));
        }
    }
}

/// What is told from after a place on; `quiet` is how long nothing may happen before that is told.
fn follow(live: broadcast::Receiver<Arc<Published>>, upto: i64, quiet: Duration) -> impl Stream<Item = Bytes> {
    stream::unfold(live, move |mut live| async move {
        loop {
            match tokio::time::timeout(quiet, live.recv()).await {
                Ok(Ok(message)) => {
                    if message.id.is_some_and(|id| id <= upto) {
                        continue; // Read back already.
                    }
                    return Some((message.wire.clone(), live));
                }
                // Too far behind: the stream ends, and the client comes back with its last place.
                Ok(Err(broadcast::error::RecvError::Lagged(_) | broadcast::error::RecvError::Closed)) => return None,
                Err(_) => return Some((Bytes::from_static(b"event: quiet\ndata: {}\n\n"), live)),
            }
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(id: i64) -> Arc<Published> {
        Arc::new(Published::new(Topic::Run, Place::read(&format!("a-{id}")), &serde_json::json!({ "no": id })))
    }

    async fn told(live: broadcast::Receiver<Arc<Published>>, upto: i64) -> Vec<String> {
        follow(live, upto, QUIET).map(|b| String::from_utf8_lossy(&b).into_owned()).collect().await
    }

    #[tokio::test]
    async fn what_was_read_back_is_not_told_twice() {
        let (sender, live) = broadcast::channel(16);
        for id in 1..=4 {
            sender.send(message(id)).unwrap();
        }
        drop(sender);
        let told = told(live, 2).await;
        assert_eq!(told.len(), 2);
        assert!(told[0].starts_with("id: a-3\nevent: run\ndata: {") && told[0].ends_with("\n\n"), "{}", told[0]);
        assert!(told[1].starts_with("id: a-4\n"));
    }

    #[tokio::test]
    async fn who_reads_too_slowly_is_cut_off_and_not_told_with_gaps() {
        let (sender, live) = broadcast::channel(2);
        for id in 1..=9 {
            sender.send(message(id)).unwrap();
        }
        assert!(told(live, 0).await.is_empty(), "it comes back with its last place, and reads the store");
    }

    #[tokio::test]
    async fn what_has_no_place_is_told_whatever_was_read_back() {
        let (sender, live) = broadcast::channel(16);
        sender.send(Arc::new(Published::new(Topic::Board, None, &serde_json::json!({})))).unwrap();
        drop(sender);
        assert_eq!(told(live, i64::MAX).await, ["event: board\ndata: {}\n\n"]);
    }

    #[tokio::test]
    async fn while_nothing_happens_that_is_told() {
        let (_sender, live) = broadcast::channel::<Arc<Published>>(16);
        let mut all = Box::pin(follow(live, 0, Duration::from_millis(1)));
        assert_eq!(all.next().await.unwrap(), "event: quiet\ndata: {}\n\n");
    }
}
