//! Requests to the committer: batches to be kept, and packing.

use std::{
    sync::{
        Arc, Mutex,
        mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel},
    },
    time::Duration,
};

use crate::{
    error::StoreError,
    feed::{Arrived, Position},
    journal::entry::Journaled,
};

/// Longest wait for packing.
const PACKING: Duration = Duration::from_secs(120);
/// Maximum number of queued requests; beyond it, callers wait.
const QUEUED: usize = 64;

/// A batch and where its answer goes.
pub struct Job {
    pub journaled: Arc<Journaled>,
    /// The entry as the journal keeps it, encoded by the sender: one thread commits, many encode.
    pub body: Vec<u8>,
    pub answer: SyncSender<Result<(), StoreError>>,
}

/// A request to the committer.
pub enum Request {
    Commit(Job),
    /// Reads batches of the open journal file after a position; none if the position is in another file.
    Read {
        after: Position,
        points: usize,
        answer: SyncSender<Result<Option<Vec<Arrived>>, StoreError>>,
    },
    /// Packs everything committed so far; answered when it is done, or has failed.
    PackAll(SyncSender<Result<(), StoreError>>),
}

/// Sends requests to the committer, which ends once this is closed.
pub struct Requests(Mutex<Option<SyncSender<Request>>>);

impl Requests {
    /// A channel to the committer, and its other end.
    pub fn channel() -> (Self, Receiver<Request>) {
        let (sender, receiver) = sync_channel(QUEUED);
        (Self(Mutex::new(Some(sender))), receiver)
    }

    fn send(&self, request: Request) -> Result<(), StoreError> {
        // The lock is held for the copy alone: sending may wait.
        let sender = self.0.lock().ok().and_then(|sender| sender.clone());
        sender.and_then(|sender| sender.send(request).ok()).ok_or_else(StoreError::stopping)
    }

    /// Commits a batch. Blocks until it is committed or has failed.
    ///
    /// # Errors
    /// Those of the commit, or if the store is stopping.
    pub fn commit(&self, journaled: Arc<Journaled>, body: Vec<u8>) -> Result<(), StoreError> {
        let (answer, answered) = sync_channel(1);
        self.send(Request::Commit(Job { journaled, body, answer }))?;
        answered.recv().map_err(|_| StoreError::stopping())?
    }

    /// Reads batches of the open journal file; none if the position is in another file.
    ///
    /// # Errors
    /// If it cannot be read, or the store is stopping.
    pub fn read_journal(&self, after: Position, points: usize) -> Result<Option<Vec<Arrived>>, StoreError> {
        let (answer, answered) = sync_channel(1);
        self.send(Request::Read { after, points, answer })?;
        answered.recv().map_err(|_| StoreError::stopping())?
    }

    /// Packs everything that was acknowledged so far. Blocks until that is done, up to a limit.
    ///
    /// # Errors
    /// [`StoreError::Unpacked`] if packing fails, [`StoreError::Packing`] if it takes too long, [`StoreError::Closed`] if the store stops before.
    pub fn pack(&self) -> Result<(), StoreError> {
        let (answer, answered) = sync_channel(1);
        self.send(Request::PackAll(answer))?;
        answered.recv_timeout(PACKING).map_err(|error| match error {
            RecvTimeoutError::Timeout => StoreError::Packing { seconds: PACKING.as_secs() },
            RecvTimeoutError::Disconnected => StoreError::stopping(),
        })?
    }

    /// The same, without waiting.
    ///
    /// # Errors
    /// [`StoreError::Closed`] if the store is stopping.
    pub fn pack_soon(&self) -> Result<(), StoreError> {
        self.send(Request::PackAll(sync_channel(1).0))
    }

    /// Ends the committer, after the requests so far.
    pub fn close(&self) {
        if let Ok(mut sender) = self.0.lock() {
            *sender = None;
        }
    }
}
