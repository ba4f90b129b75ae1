//! What is told to everyone who looks on, made into bytes once for all of them.

use std::sync::Arc;

use bytes::Bytes;
use serde::Serialize;
use tokio::sync::broadcast;

use crate::identity::Place;

/// What a message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Topic {
    /// An event of a run: it has a place in the stream and can be asked for again.
    Run,
    /// How things stand changed: ask for the board again.
    Board,
    /// A new edition.
    Edition,
    /// What the listener last heard of is not of this stream: ask for everything again.
    Anew,
    /// The server itself: standstill, trouble with storing.
    Server,
}

impl Topic {
    /// The name in the stream.
    pub fn name(self) -> &'static str {
        match self {
            Topic::Run => "run",
            Topic::Board => "board",
            Topic::Edition => "edition",
            Topic::Anew => "anew",
            Topic::Server => "server",
        }
    }
}

/// One message, as it goes over the wire.
#[derive(Debug, Clone)]
pub struct Published {
    /// Its place in the stream, where it has one.
    pub id: Option<i64>,
    /// The whole server-sent event.
    pub wire: Bytes,
}

impl Published {
    /// Makes the bytes.
    pub fn new(topic: Topic, place: Option<Place>, body: &impl Serialize) -> Self {
        let body = serde_json::to_string(body).expect("our own types have text keys only");
        let id_line = place.as_ref().map_or_else(String::new, |place| format!("id: {place}\n"));
        let id = place.map(|place| place.event);
        Self { id, wire: Bytes::from(format!("{id_line}event: {}\ndata: {body}\n\n", topic.name())) }
    }
}

/// Tells everyone.
#[derive(Clone)]
pub(crate) struct Publisher(broadcast::Sender<Arc<Published>>);

impl Publisher {
    pub fn new() -> Self {
        // Who falls further behind than this is cut off, and catches up from the store.
        Self(broadcast::channel(4096).0)
    }
    pub fn tell(&self, message: Published) {
        // Nobody looking on is no error.
        let _ = self.0.send(Arc::new(message));
    }
    pub fn listen(&self) -> broadcast::Receiver<Arc<Published>> {
        self.0.subscribe()
    }
}
