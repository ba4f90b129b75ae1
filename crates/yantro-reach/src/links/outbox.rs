//! What goes out over a channel: written at once by whoever has something to say, so that nobody else has to wake up for
//! it; where the channel takes no more, what is left waits in order.

use std::{
    future::poll_fn,
    io,
    pin::Pin,
    sync::{Mutex, MutexGuard, PoisonError},
    task::{Context, Poll, Waker, ready},
};

use bytes::{Buf, BytesMut};
use tokio::{io::AsyncWrite, sync::Notify};

use crate::links::shell::Outgoing;

/// The near end of a channel.
pub(crate) struct Outbox {
    state: Mutex<State>,
    more: Notify,
}

struct State {
    to: Outgoing,
    waiting: BytesMut,
}

impl State {
    fn write(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        while !self.waiting.is_empty() {
            let written = ready!(Pin::new(&mut self.to).poll_write(cx, &self.waiting))?;
            if written == 0 {
                return Poll::Ready(Err(io::ErrorKind::WriteZero.into()));
            }
            self.waiting.advance(written);
        }
        Poll::Ready(Ok(()))
    }
}

impl Outbox {
    pub fn new(to: Outgoing) -> Self {
        Self { state: Mutex::new(State { to, waiting: BytesMut::new() }), more: Notify::new() }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Says something, after all that was said before.
    pub fn say(&self, text: &str) {
        let mut state = self.state();
        let is_first = state.waiting.is_empty();
        state.waiting.extend_from_slice(text.as_bytes());
        // Whoever writes what waits is woken for the rest, and finds out what is wrong with the channel.
        if !is_first || !matches!(state.write(&mut Context::from_waker(Waker::noop())), Poll::Ready(Ok(()))) {
            self.more.notify_one();
        }
    }

    /// Writes what waits, as long as the channel stands.
    pub async fn serve(&self) -> io::Error {
        loop {
            self.more.notified().await;
            if let Err(error) = poll_fn(|cx| self.state().write(cx)).await {
                return error;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use tokio::io::{AsyncReadExt, duplex};

    use super::*;

    /// Whatever the channel takes at once, all arrives, in order.
    #[rstest]
    #[case::all_at_once(1 << 20)]
    #[case::a_few_lines(100)]
    #[case::a_byte_at_a_time(1)]
    #[tokio::test]
    async fn what_is_said_arrives_in_order(#[case] room: usize) {
        let (near, mut far) = duplex(room);
        let outbox = Outbox::new(Box::new(near));
        let lines: Vec<String> = (0..200).map(|i| format!("line {i}\n")).collect();
        let whole = lines.concat();
        let mut read = vec![0u8; whole.len()];
        let heard = async {
            for (i, line) in lines.iter().enumerate() {
                outbox.say(line);
                if i % 50 == 0 {
                    tokio::task::yield_now().await;
                }
            }
            far.read_exact(&mut read).await.unwrap();
        };
        tokio::select! {
            () = heard => {}
            error = outbox.serve() => panic!("{error}"),
        }
        assert_eq!(String::from_utf8(read).unwrap(), whole);
    }

    /// Where there is room nobody has to be woken.
    #[tokio::test]
    async fn what_there_is_room_for_is_written_at_once() {
        let (near, mut far) = duplex(64);
        let outbox = Outbox::new(Box::new(near));
        outbox.say("one\n");
        let mut read = [0u8; 4];
        far.read_exact(&mut read).await.unwrap();
        assert_eq!(&read, b"one\n");
    }

    #[tokio::test]
    async fn a_channel_that_is_gone_is_told() {
        let (near, far) = duplex(64);
        drop(far);
        let outbox = Outbox::new(Box::new(near));
        outbox.say("anybody?\n");
        assert_eq!(outbox.serve().await.kind(), io::ErrorKind::BrokenPipe);
    }
}
