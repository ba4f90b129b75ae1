//! The store as the loop writes to it: commits are durable when they are answered.

use std::{
    path::Path,
    sync::{Mutex, MutexGuard, PoisonError},
};

use tokio::runtime::{Handle, RuntimeFlavor};
use yantro_store::{Batch, StoreError, Writer};

/// The one that writes. Only the loop commits, so nobody waits for a turn.
pub(crate) struct Storage {
    writer: Mutex<Writer>,
}

impl Storage {
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        Ok(Self { writer: Mutex::new(Writer::open(path)?) })
    }

    fn writer(&self) -> MutexGuard<'_, Writer> {
        self.writer.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Commits a batch, where the loop is: to have another thread do it takes longer than to do it.
    pub fn commit(&self, batch: &Batch) -> Result<Vec<i64>, StoreError> {
        let commit = || self.writer().commit(batch);
        match Handle::current().runtime_flavor() {
            // What else waits for this thread is taken on by another meanwhile.
            RuntimeFlavor::MultiThread => tokio::task::block_in_place(commit),
            _ => commit(),
        }
    }

    /// See [`Writer::limit_pages`].
    pub fn limit_pages(&self, more: Option<u32>) {
        if let Err(error) = self.writer().limit_pages(more) {
            tracing::warn!(%error, "the limit could not be set");
        }
    }
}
