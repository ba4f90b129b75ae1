//! A connection that stands: requests go out under a number, and what is told of them comes back under it.

use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Instant,
};

use serde::de::DeserializeOwned;
use serde_json::Value;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::links::{
    outbox::Outbox,
    wire::{Ask, Said, Told},
};

/// A connection that stands.
pub(super) struct Conn {
    pub(super) out: Outbox,
    pub(super) asked: Mutex<Option<HashMap<u64, UnboundedSender<Heard>>>>,
    pub(super) next: AtomicU64,
    pub(super) heard_at: Mutex<Instant>,
}

pub(super) enum Heard {
    Tell(Value),
    Answer(Result<Value, String>),
}

/// A request that goes on. Dropped before its answer, it is broken off.
pub(super) struct Asked {
    conn: Arc<Conn>,
    id: u64,
    heard: UnboundedReceiver<Heard>,
    answered: bool,
}

/// The connection was lost.
#[derive(Debug)]
pub(super) struct Lost;

impl Conn {
    pub(super) fn ask(self: &Arc<Self>, ask: Ask) -> Asked {
        let id = self.next.fetch_add(1, Ordering::Relaxed);
        let (tell, heard) = unbounded_channel();
        let stands = self.asked.lock().unwrap_or_else(PoisonError::into_inner).as_mut().map(|asked| asked.insert(id, tell)).is_some();
        if stands {
            self.out.say(&Told::Ask(id, Box::new(ask)).line());
        }
        Asked { conn: Arc::clone(self), id, heard, answered: false }
    }

    pub(super) fn take(&self, said: Said) {
        *self.heard_at.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(asked) = asked.as_mut() else { return };
        match said {
            Said::Tell(of, what) => {
                if let Some(who) = asked.get(&of) {
                    let _ = who.send(Heard::Tell(what));
                }
            }
            Said::Answer(of, answer) => {
                if let Some(who) = asked.remove(&of) {
                    let _ = who.send(Heard::Answer(answer));
                }
            }
            Said::Ready(_) => {}
        }
    }

    /// Everybody who waits hears that it is lost.
    pub(super) fn lost(&self) {
        *self.asked.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

impl Asked {
    pub(super) async fn next(&mut self) -> Result<Heard, Lost> {
        let heard = self.heard.recv().await.ok_or(Lost)?;
        self.answered |= matches!(heard, Heard::Answer(_));
        Ok(heard)
    }

    pub(super) async fn answer<T: DeserializeOwned>(mut self) -> Result<Result<T, String>, Lost> {
        loop {
            if let Heard::Answer(answer) = self.next().await? {
                return Ok(answer.and_then(|v| serde_json::from_value(v).map_err(|e| format!("not understood: {e}"))));
            }
        }
    }
}

impl Drop for Asked {
    fn drop(&mut self) {
        if !self.answered {
            if let Some(asked) = self.conn.asked.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                asked.remove(&self.id);
            }
            self.conn.out.say(&Told::Leave(self.id).line());
        }
    }
}
