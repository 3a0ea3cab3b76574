//! The committer: one thread that owns the journal.
//!
//! Batches that wait while a commit is on its way to the disk share the next one. A batch is answered only when its commit is kept as
//! the store's durability says and its points are in the head, so a query after the answer sees them.

use std::{
    convert::Infallible,
    sync::{
        Arc,
        mpsc::{Receiver, RecvTimeoutError, SyncSender},
    },
    time::{Duration, Instant},
};

use fenetre_jobs::{Handle, Job as BackgroundJob};

use super::requests::{Job, Request};
use crate::{
    engine::Engine,
    error::StoreError,
    feed::Position,
    head::Generation,
    ingest::{held, packer::pack},
    journal::Journal,
    missing::inventory,
    options::Durability,
};

/// Points of all batches that one commit takes.
const COMMIT_POINTS: usize = 1_000_000;
const TICK: Duration = Duration::from_millis(500);
const RETRY: Duration = Duration::from_secs(10);

/// Starts the job. It ends when every sender of requests is dropped.
pub fn start(shared: &Arc<Engine>, journal: Journal, requests: Receiver<Request>) -> std::io::Result<Handle> {
    let own = Arc::clone(shared);
    let mut committer =
        Committer { shared: own, journal, packing: None, since: Instant::now(), retry_at: None, unsynced: None, pack_all: Vec::new() };
    shared.jobs.run("committer", move |job| {
        committer.run(job, &requests);
        Ok::<_, Infallible>(())
    })
}

/// A generation that is being packed, and the job that does it.
struct Packing {
    job: Handle,
    generation: Arc<Generation>,
}

struct Committer {
    shared: Arc<Engine>,
    journal: Journal,
    packing: Option<Packing>,
    /// Since when points wait to be packed.
    since: Instant,
    /// When to try again what failed.
    retry_at: Option<Instant>,
    /// Since when commits wait to be brought to stable storage, where not each one is.
    unsynced: Option<Instant>,
    /// Who waits until the generations up to one are packed.
    pack_all: Vec<(u64, SyncSender<Result<(), StoreError>>)>,
}

impl Committer {
    fn run(&mut self, job: &BackgroundJob, requests: &Receiver<Request>) {
        loop {
            job.waits();
            match requests.recv_timeout(self.patience()) {
                Ok(Request::Commit(first)) => {
                    let (batches, other) = gather(first, requests);
                    // A failed commit is answered and logged.
                    let shared = Arc::clone(&self.shared);
                    let _ = job.measured(|| {
                        shared.commits.measured(|| self.commit(batches));
                        Ok::<_, Infallible>(())
                    });
                    other.into_iter().for_each(|request| self.answer(request));
                }
                Ok(other) => self.answer(other),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => break,
            }
            self.sync_when_due();
            self.collect_packing();
            self.start_packing();
        }
        if self.unsynced.is_some() {
            self.sync();
        }
        // The next start compares this with what it reads.
        let last = self.journal.last().and_then(|last| inventory::note_journal(&self.shared.definitions, self.journal.number, last));
        if let Err(error) = last {
            tracing::warn!(%error, "the end of the journal could not be recorded");
        }
        if let Some(packing) = self.packing.take() {
            packing.job.join();
        }
    }

    /// Answers any request.
    fn answer(&mut self, request: Request) {
        match request {
            Request::PackAll(answer) => self.pack_soon(answer),
            Request::Read { after, points, answer } => {
                let is_this_file = after.generation == self.journal.number;
                let read = is_this_file.then(|| self.journal.read_after(after.batch, points)).transpose();
                let arrived = |(batch, journaled)| held::arrived(after.generation, batch, journaled);
                // The reader may be gone.
                let _ = answer.send(read.map(|read| read.map(|batches| batches.into_iter().map(arrived).collect())));
            }
            Request::Commit(job) => self.commit(vec![job]),
        }
    }

    /// Adds a caller that waits for packing. A failed packing is retried at once.
    fn pack_soon(&mut self, answer: SyncSender<Result<(), StoreError>>) {
        if let Some(reason) = self.shared.closed() {
            // The caller may have stopped waiting.
            let _ = answer.send(Err(StoreError::Closed(reason.to_owned())));
            return;
        }
        self.pack_all.push((self.journal.number, answer));
        self.retry_at = None;
    }

    /// How long to wait for the next batch.
    fn patience(&self) -> Duration {
        let tick = if self.pack_all.is_empty() { TICK } else { Duration::from_millis(5) };
        match (self.unsynced, self.shared.options.durability) {
            (Some(since), Durability::Interval(every)) => every.saturating_sub(since.elapsed()).min(tick),
            _ => tick,
        }
    }

    fn commit(&mut self, jobs: Vec<Job>) {
        let committed = match self.refusal() {
            Some(refusal) => Err(refusal),
            None => self.journal.commit(jobs.iter().map(|job| (job.journaled.dataset, job.body.as_slice()))),
        };
        let last = match committed {
            Ok(last) => last,
            Err(error) => {
                self.note_failure(&error);
                let mut first = Some(error);
                for job in jobs {
                    let error = first.take().unwrap_or_else(|| self.repeat());
                    let _ = job.answer.send(Err(error));
                }
                return;
            }
        };
        if self.shared.options.durability != Durability::Each {
            self.unsynced.get_or_insert_with(Instant::now);
        }
        let mut head = self.shared.head.write();
        if head.growing().buffers.read().points() == 0 {
            self.since = Instant::now();
        }
        head.append(jobs.iter().map(|job| &*job.journaled));
        drop(head);
        self.shared.ring.add(self.journal.number, last, jobs.iter().map(|job| Arc::clone(&job.journaled)).collect());
        for job in jobs {
            // The points stay, also if the caller no longer waits.
            let _ = job.answer.send(Ok(()));
        }
    }

    fn refusal(&self) -> Option<StoreError> {
        if let Some(reason) = self.shared.closed() {
            return Some(StoreError::Closed(reason.to_owned()));
        }
        if let Some(refusal) = self.touches_reserve() {
            return Some(refusal);
        }
        let bytes = self.shared.head.read().bytes();
        (bytes >= self.shared.options.most_bytes()).then_some(StoreError::Busy { bytes })
    }

    /// Expiry looks at the volume now and then, this at every commit: below half of the reserve nothing more is taken, whatever may go yet.
    fn touches_reserve(&self) -> Option<StoreError> {
        let volume = self.shared.volume()?;
        let is_touched = volume.free < volume.reserve / 2 || (self.shared.is_full() && volume.free < volume.reserve);
        is_touched.then_some(StoreError::Reserve { free_mb: volume.free / 1_000_000, reserve_mb: volume.reserve / 1_000_000 })
    }

    /// After a failed sync nobody knows what is on the disk: only a restart, which reads it back, can tell.
    fn note_failure(&mut self, error: &StoreError) {
        if matches!(error, StoreError::Busy { .. } | StoreError::Closed(_) | StoreError::Reserve { .. }) {
            return;
        }
        tracing::error!(%error, "a batch could not be written to the journal");
        if !matches!(error, StoreError::Full { .. }) {
            self.shared.close(format!("the journal failed ({error}). Check the disk, then restart the service"));
            // What is in the failed file is not packed any more.
            self.fail_waiters(error);
        }
    }

    /// The failure of a commit for another batch that shared it.
    fn repeat(&self) -> StoreError {
        let busy = || StoreError::Busy { bytes: self.shared.head.read().bytes() };
        match (self.shared.closed(), self.touches_reserve()) {
            (Some(reason), _) => StoreError::Closed(reason.to_owned()),
            (None, Some(reserve)) => reserve,
            (None, None) if self.refusal().is_some() => busy(),
            (None, None) => StoreError::Full { path: self.journal.path() },
        }
    }

    fn sync_when_due(&mut self) {
        if let (Some(since), Durability::Interval(every)) = (self.unsynced, self.shared.options.durability)
            && since.elapsed() >= every
        {
            self.sync();
        }
    }

    fn sync(&mut self) {
        self.unsynced = None;
        if let Err(error) = self.journal.sync() {
            self.note_failure(&error);
        }
    }

    fn start_packing(&mut self) {
        if self.packing.is_some() || self.retry_at.is_some_and(|at| at > Instant::now()) {
            return;
        }
        let (frozen, points, is_enough) = {
            let head = self.shared.head.read();
            let growing = head.growing().buffers.read();
            let is_enough = self.shared.options.is_enough_to_pack(growing.points(), growing.bytes(), growing.points_a_piece());
            (head.oldest_frozen().cloned(), growing.points(), is_enough)
        };
        let is_asked = self.pack_all.iter().any(|(number, _)| *number >= self.journal.number);
        let is_due = is_enough || self.since.elapsed() >= self.shared.options.pack_after || is_asked;
        let frozen = match frozen {
            Some(frozen) => frozen,
            None if points > 0 && is_due && self.shared.closed().is_none() => match self.freeze() {
                Ok(frozen) => frozen,
                Err(error) => {
                    tracing::error!(%error, "a new journal file could not be created; the current one is still used");
                    self.retry_later(&error);
                    return;
                }
            },
            None => return self.answer_packed(if points == 0 { self.journal.number } else { self.journal.number - 1 }),
        };
        let (shared, work) = (Arc::clone(&self.shared), Arc::clone(&frozen));
        match self.shared.jobs.run("packer", move |_| pack(&shared, &work)) {
            Ok(job) => self.packing = Some(Packing { job, generation: frozen }),
            Err(error) => {
                tracing::error!(%error, "packing could not be started");
                self.retry_later(&error);
            }
        }
    }

    /// Begins the next journal file and the next generation.
    fn freeze(&mut self) -> Result<Arc<Generation>, StoreError> {
        self.shared.definitions.set_generation(self.journal.number + 1)?;
        self.journal.rotate()?;
        inventory::note_journal(&self.shared.definitions, self.journal.number, 0)?;
        self.shared.ring.begin(Position { generation: self.journal.number, batch: 0 });
        self.unsynced = None;
        self.since = Instant::now();
        let mut head = self.shared.head.write();
        head.freeze(self.journal.number);
        // It was frozen just now, so it is there.
        Ok(head.oldest_frozen().map_or_else(|| Arc::clone(head.growing()), Arc::clone))
    }

    /// Checks whether packing is done; if it failed, it is retried later, and the points stay in memory and journal.
    fn collect_packing(&mut self) {
        let Some(Packing { job, generation }) = self.packing.take_if(|packing| packing.job.is_finished()) else { return };
        self.retry_at = None;
        let figures = job.figures();
        if figures.steps > 0 {
            return self.answer_packed(generation.number);
        }
        let error = figures.last_error.map_or_else(|| "packing stopped unexpectedly".to_owned(), |(error, _)| error);
        let points = generation.buffers.read().points();
        tracing::error!(points, "packing failed; next attempt in {} s", RETRY.as_secs());
        self.retry_later(&error);
    }

    /// Schedules another attempt, and reports the failure to the callers that wait.
    fn retry_later(&mut self, error: &dyn std::fmt::Display) {
        self.retry_at = Some(Instant::now() + RETRY);
        self.fail_waiters(error);
    }

    fn fail_waiters(&mut self, error: &dyn std::fmt::Display) {
        for (_, answer) in self.pack_all.drain(..) {
            // The caller may have stopped waiting.
            let _ = answer.send(Err(StoreError::Unpacked(error.to_string())));
        }
    }

    /// Tells those who wait for generations up to this one.
    fn answer_packed(&mut self, number: u64) {
        self.pack_all.extract_if(.., |(wanted, _)| *wanted <= number).for_each(|(_, answer)| {
            let _ = answer.send(Ok(()));
        });
    }
}

/// The batches that wait, up to what one commit takes, and who asked for packing after them.
fn gather(first: Job, requests: &Receiver<Request>) -> (Vec<Job>, Option<Request>) {
    let mut points = first.journaled.entry.points();
    let mut gathered = vec![first];
    while points < COMMIT_POINTS {
        match requests.try_recv() {
            Ok(Request::Commit(job)) => {
                points += job.journaled.entry.points();
                gathered.push(job);
            }
            Ok(other) => return (gathered, Some(other)),
            Err(_) => break,
        }
    }
    (gathered, None)
}
