//! The committer: one thread that owns the journal.
//!
//! Batches that wait while a commit is on its way to the disk share the next one. A batch is answered only when its commit is on
//! stable storage and its points are in the head, so whoever asks after the answer sees them.

use std::{
    path::PathBuf,
    sync::{
        Arc,
        mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel},
    },
    thread::JoinHandle,
    time::{Duration, Instant},
};

use crate::{
    error::StoreError,
    head::Buffers,
    journal::{Entry, Journal},
    packer::pack_frozen,
    shared::Shared,
};

/// A batch and where its answer goes.
pub struct Job {
    pub entry: Entry,
    pub answer: SyncSender<Result<(), StoreError>>,
}

/// Points of all batches that one commit takes.
const COMMIT_POINTS: usize = 1_000_000;
const TICK: Duration = Duration::from_millis(500);
const RETRY: Duration = Duration::from_secs(10);

/// Starts the thread. It ends when every sender of jobs is gone.
pub fn start(shared: Arc<Shared>, journal: Journal, older: Vec<PathBuf>, jobs: Receiver<Job>) -> std::io::Result<JoinHandle<()>> {
    let committer = Committer { shared, journal, older, packing: None, unpacked: None, since: Instant::now(), retry_at: None, failed: None };
    std::thread::Builder::new().name("committer".into()).spawn(move || committer.run(&jobs))
}

struct Committer {
    shared: Arc<Shared>,
    journal: Journal,
    /// Files before the one that is written to, whose points are in the growing buffers.
    older: Vec<PathBuf>,
    packing: Option<Packing>,
    /// What packing failed on, and when to try again.
    unpacked: Option<(Arc<Buffers>, Vec<PathBuf>, Instant)>,
    /// Since when points wait to be packed.
    since: Instant,
    retry_at: Option<Instant>,
    /// Why the journal can no longer be trusted.
    failed: Option<String>,
}

struct Packing {
    thread: JoinHandle<Result<(), StoreError>>,
    frozen: Arc<Buffers>,
    journals: Vec<PathBuf>,
}

impl Committer {
    fn run(mut self, jobs: &Receiver<Job>) {
        loop {
            match jobs.recv_timeout(TICK) {
                Ok(job) => self.commit(gather(job, jobs)),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => break,
            }
            self.collect_packing();
            self.start_packing();
        }
        if let Some(packing) = self.packing.take() {
            let _ = packing.thread.join();
        }
    }

    fn commit(&mut self, jobs: Vec<Job>) {
        let committed = self.refusal().map_or_else(
            || {
                let entries: Vec<&Entry> = jobs.iter().map(|job| &job.entry).collect();
                self.journal.commit(&entries)
            },
            Err,
        );
        if let Err(error) = committed {
            self.note_failure(&error);
            let told = error.to_string();
            let mut first = Some(error);
            for job in jobs {
                let error = first.take().unwrap_or_else(|| repeat(&self.shared, &told));
                let _ = job.answer.send(Err(error));
            }
            return;
        }
        let mut head = self.shared.head.write();
        if head.active.points() == 0 {
            self.since = Instant::now();
        }
        for Job { entry, .. } in &jobs {
            entry.stretches.iter().for_each(|stretch| head.active.append(entry.dataset, stretch));
        }
        drop(head);
        for job in jobs {
            // Whoever does not wait any more has its points kept all the same.
            let _ = job.answer.send(Ok(()));
        }
    }

    fn refusal(&self) -> Option<StoreError> {
        if let Some(reason) = &self.failed {
            return Some(StoreError::Closed(reason.clone()));
        }
        let waiting = self.shared.head.read().points();
        (waiting >= self.shared.options.most_points).then_some(StoreError::Busy { waiting })
    }

    /// After a failed sync nobody knows what is on the disk: only a restart, which reads it back, can tell.
    fn note_failure(&mut self, error: &StoreError) {
        tracing::error!(%error, "a batch could not be written to the journal");
        if matches!(error, StoreError::Sqlite { .. } | StoreError::Damaged { .. }) {
            self.failed = Some(format!("the journal failed ({error}). Look at the disk, then start the service again"));
        }
    }

    fn start_packing(&mut self) {
        if let Some((frozen, journals, _)) = self.unpacked.take_if(|(_, _, at)| *at <= Instant::now()) {
            return self.spawn_packing(frozen, journals);
        }
        let points = self.shared.head.read().active.points();
        let due = points >= self.shared.options.pack_points || (points > 0 && self.since.elapsed() >= self.shared.options.pack_after);
        if self.packing.is_some() || !due || self.retry_at.is_some_and(|at| at > Instant::now()) || self.shared.head.read().frozen.is_some() {
            return;
        }
        let current = self.journal.path();
        if let Err(error) = self.journal.rotate() {
            tracing::error!(%error, "a new journal file could not be begun; the old one goes on");
            self.retry_at = Some(Instant::now() + RETRY);
            return;
        }
        let mut journals = std::mem::take(&mut self.older);
        journals.push(current);
        let frozen = self.shared.head.write().freeze();
        self.since = Instant::now();
        self.spawn_packing(frozen, journals);
    }

    fn spawn_packing(&mut self, frozen: Arc<Buffers>, journals: Vec<PathBuf>) {
        let (shared, work, files) = (Arc::clone(&self.shared), Arc::clone(&frozen), journals.clone());
        let spawned = std::thread::Builder::new().name("packer".into()).spawn(move || pack_frozen(&shared, &work, &files));
        match spawned {
            Ok(thread) => self.packing = Some(Packing { thread, frozen, journals }),
            Err(error) => {
                tracing::error!(%error, "packing could not be started");
                self.unpacked = Some((frozen, journals, Instant::now() + RETRY));
            }
        }
    }

    /// Looks whether packing is done; where it failed, it is tried again after a while, and the points stay where they are.
    fn collect_packing(&mut self) {
        if !self.packing.as_ref().is_some_and(|packing| packing.thread.is_finished()) {
            return;
        }
        let Some(Packing { thread, frozen, journals }) = self.packing.take() else { return };
        let outcome = thread.join().unwrap_or_else(|_| Err(StoreError::Closed("packing stopped unexpectedly".to_owned())));
        if let Err(error) = outcome {
            tracing::error!(%error, points = frozen.points(), "packing failed, and is tried again in {} s", RETRY.as_secs());
            self.unpacked = Some((frozen, journals, Instant::now() + RETRY));
        }
    }
}

/// The batches that wait, up to what one commit takes.
fn gather(first: Job, jobs: &Receiver<Job>) -> Vec<Job> {
    let mut points = first.entry.points();
    let mut gathered = vec![first];
    while points < COMMIT_POINTS {
        let Ok(job) = jobs.try_recv() else { break };
        points += job.entry.points();
        gathered.push(job);
    }
    gathered
}

/// The same failure for another batch of the commit.
fn repeat(shared: &Shared, told: &str) -> StoreError {
    if told.starts_with("the disk is full") { StoreError::Full { path: shared.files.journals() } } else { StoreError::Closed(told.to_owned()) }
}

/// A channel for batches, and its other end.
pub fn channel() -> (SyncSender<Job>, Receiver<Job>) {
    sync_channel(256)
}
