//! The store's own thread: commits are durable when they are answered.

use std::{path::Path, sync::mpsc, thread};

use tokio::sync::oneshot;
use yantro_store::{Batch, StoreError, Writer};

type Answer = (Batch, Result<Vec<i64>, StoreError>);

/// Hands batches to the thread that writes.
pub(crate) struct Storage {
    jobs: mpsc::Sender<Job>,
}

enum Job {
    Commit(Box<Batch>, oneshot::Sender<Answer>),
    Limit(Option<u32>),
}

impl Storage {
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let mut writer = Writer::open(path)?;
        let (jobs, inbox) = mpsc::channel::<Job>();
        thread::Builder::new()
            .name("store".to_owned())
            .spawn(move || {
                for job in inbox {
                    match job {
                        Job::Commit(batch, answer) => {
                            let outcome = writer.commit(&batch);
                            // The engine is gone only when the server ends.
                            let _ = answer.send((*batch, outcome));
                        }
                        Job::Limit(pages) => {
                            if let Err(error) = writer.limit_pages(pages) {
                                tracing::warn!(%error, "the limit could not be set");
                            }
                        }
                    }
                }
            })
            .expect("a thread can be made when the server starts");
        Ok(Self { jobs })
    }

    /// Commits a batch; it comes back, so that it can be tried again.
    pub async fn commit(&self, batch: Batch) -> Answer {
        let (answer, answered) = oneshot::channel();
        self.jobs.send(Job::Commit(Box::new(batch), answer)).expect("the store's thread lives as long as its sender");
        answered.await.expect("the store's thread answers every job")
    }

    /// See [`Writer::limit_pages`].
    pub fn limit_pages(&self, more: Option<u32>) {
        self.jobs.send(Job::Limit(more)).expect("the store's thread lives as long as its sender");
    }
}
