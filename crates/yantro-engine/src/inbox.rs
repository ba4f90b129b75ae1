//! What comes to the loop: bounded, so that a loop which falls behind is known and not a memory that fills.

use std::sync::{
    Arc,
    atomic::{AtomicUsize, Ordering},
};

use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::{ended::end_process, error::EngineError};

/// So much may wait before people are asked to come again.
const FOR_PEOPLE: usize = 20_000;
/// So much may wait at all: news of acts and looks are never thrown away, and with so many of them the loop has stopped taking
/// them in. A server that is started anew asks hosts for what it missed.
const AT_MOST: usize = 1_000_000;

/// Where the loop is told things.
pub(crate) struct Inbox<M> {
    to: UnboundedSender<M>,
    waiting: Arc<AtomicUsize>,
}

/// What the loop takes them from.
pub(crate) struct Messages<M> {
    from: UnboundedReceiver<M>,
    waiting: Arc<AtomicUsize>,
}

/// An inbox and its other end.
pub(crate) fn inbox<M>() -> (Inbox<M>, Messages<M>) {
    let (to, from) = unbounded_channel();
    let waiting = Arc::new(AtomicUsize::new(0));
    (Inbox { to, waiting: Arc::clone(&waiting) }, Messages { from, waiting })
}

// By hand: a message need not be one that can be copied.
impl<M> Clone for Inbox<M> {
    fn clone(&self) -> Self {
        Self { to: self.to.clone(), waiting: Arc::clone(&self.waiting) }
    }
}

impl<M> Inbox<M> {
    /// News: taken in whatever else waits.
    pub fn tell(&self, msg: M) {
        let waiting = self.waiting.fetch_add(1, Ordering::Relaxed);
        if waiting >= AT_MOST {
            end_process(&format!("{waiting} messages wait for the loop, which does not take them in"));
        }
        // The loop is gone only when the server ends.
        let _ = self.to.send(msg);
    }

    /// What somebody asks for: refused where too much waits already.
    pub fn ask(&self, msg: M) -> Result<(), EngineError> {
        if self.waiting.load(Ordering::Relaxed) >= FOR_PEOPLE {
            return Err(EngineError::Busy);
        }
        self.tell(msg);
        Ok(())
    }
}

impl<M> Messages<M> {
    /// The next; `None` once nobody tells anything any more.
    pub async fn recv(&mut self) -> Option<M> {
        let msg = self.from.recv().await;
        self.waiting.fetch_sub(usize::from(msg.is_some()), Ordering::Relaxed);
        msg
    }

    /// The next, where one waits.
    pub fn try_recv(&mut self) -> Option<M> {
        let msg = self.from.try_recv().ok();
        self.waiting.fetch_sub(usize::from(msg.is_some()), Ordering::Relaxed);
        msg
    }

    /// Whether nothing waits.
    pub fn is_empty(&self) -> bool {
        self.from.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn people_are_asked_to_come_again_where_too_much_waits() {
        let (inbox, mut messages) = inbox();
        for _ in 0..FOR_PEOPLE {
            inbox.tell("looked");
        }
        assert!(matches!(inbox.ask("looked"), Err(EngineError::Busy)));
        inbox.tell("looked");
        let mut taken = 0;
        while messages.try_recv().is_some() {
            taken += 1;
        }
        assert_eq!((taken, messages.is_empty()), (FOR_PEOPLE + 1, true), "news are taken in all the same");
        inbox.ask("looked").unwrap();
        assert!(messages.recv().await.is_some());
    }
}
