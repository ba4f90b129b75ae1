//! One question for all who ask it at the same time.

use std::{sync::Arc, time::Instant};

use tokio::sync::Mutex;

/// The answer to a question that many ask at once and that takes a while to be answered. Nobody is given an answer to what was asked
/// before they came: so it is as fresh as if each had asked alone, and however many ask at once, it is asked twice at most.
pub(crate) struct Together<T> {
    last: Mutex<Option<(Instant, Arc<T>)>>,
}

impl<T> Default for Together<T> {
    fn default() -> Self {
        Together { last: Mutex::new(None) }
    }
}

impl<T> Together<T> {
    /// The answer, what `ask` comes to, which is begun unless somebody else asks for it after this call.
    pub(crate) async fn answer(&self, ask: impl Future<Output = T>) -> Arc<T> {
        let came = Instant::now();
        let mut last = self.last.lock().await;
        if let Some((asked, answer)) = &*last
            && *asked >= came
        {
            return answer.clone();
        }
        let asked = Instant::now();
        let answer = Arc::new(ask.await);
        *last = Some((asked, answer.clone()));
        answer
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU32, Ordering};

    use futures::future::join_all;

    use super::*;

    #[tokio::test]
    async fn many_who_ask_at_once_ask_twice_at_most_and_nobody_hears_of_before() {
        let (together, asked) = (Together::default(), AtomicU32::new(0));
        let one = async || {
            let before = asked.load(Ordering::SeqCst);
            let answer = together
                .answer(async {
                    let this = asked.fetch_add(1, Ordering::SeqCst) + 1;
                    tokio::task::yield_now().await;
                    this
                })
                .await;
            assert!(*answer > before, "asked as number {answer} is not after the {before} that were asked before");
        };
        join_all((0..40).map(|_| one())).await;
        assert_eq!(asked.load(Ordering::SeqCst), 2);
        one().await;
        assert_eq!(asked.load(Ordering::SeqCst), 3, "what comes later is asked anew");
    }

    #[tokio::test]
    async fn one_who_goes_away_while_asking_leaves_the_question_to_the_next() {
        let together = Together::default();
        let gone = together.answer(async { std::future::pending::<u32>().await });
        assert!(futures::poll!(Box::pin(gone)).is_pending());
        assert_eq!(*together.answer(async { 2 }).await, 2);
    }
}
