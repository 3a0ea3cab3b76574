//! The running or latest backup: its progress and its job.

use std::sync::Arc;

use fenetre_jobs::Handle;
use fenetre_store::{BackupProgress, BackupReport, StoreError};
use fenetre_wire::backup::{BackupStage, BackupState};
use parking_lot::Mutex;

/// The latest backup.
#[derive(Default)]
pub struct Backups(Mutex<Option<Arc<Run>>>);

/// One backup, from its beginning on.
pub struct Run {
    state: Mutex<BackupState>,
    job: Mutex<Option<Handle>>,
}

impl Run {
    /// Its state.
    pub fn state(&self) -> BackupState {
        self.state.lock().clone()
    }

    /// The job that makes it.
    pub fn set_job(&self, job: Handle) {
        *self.job.lock() = Some(job);
    }

    /// Asks it to stop between two files.
    pub fn stop(&self) {
        self.job.lock().iter().for_each(Handle::stop);
    }

    /// Records its progress.
    pub fn progress(&self, progress: BackupProgress) {
        let mut state = self.state.lock();
        (state.done, state.files, state.bytes) = (progress.done as u64, progress.files as u64, progress.bytes);
    }

    /// Records its result.
    pub fn end(&self, outcome: Result<BackupReport, StoreError>) {
        let mut state = self.state.lock();
        match outcome {
            Ok(report) => {
                tracing::info!(to = state.to, copied = report.copied, kept = report.kept, bytes = report.bytes, "backup done");
                state.stage = BackupStage::Done;
                // The progress counts partitions; the result counts the files of rollups and the catalogue as well.
                state.files = (report.copied + report.kept) as u64;
                state.done = state.files;
                (state.kept, state.bytes, state.points) = (report.kept as u64, report.bytes, report.points);
                if !report.damaged.is_empty() {
                    tracing::error!(files = report.damaged.join(", "), "these files are damaged and not in the backup");
                }
                state.damaged = report.damaged;
            }
            Err(StoreError::Stopped) => state.stage = BackupStage::Stopped,
            Err(error) => {
                tracing::error!(to = state.to, %error, "backup failed");
                state.stage = BackupStage::Failed;
                state.failure = Some(error.to_string());
            }
        }
    }
}

impl Backups {
    /// Starts a backup, unless one is running; returns its state.
    pub fn begin(&self, to: String) -> Result<Arc<Run>, BackupState> {
        let mut latest = self.0.lock();
        if let Some(other) = latest.as_ref().map(|run| run.state()).filter(|other| other.stage == BackupStage::Running) {
            return Err(other);
        }
        let state =
            BackupState { to, stage: BackupStage::Running, done: 0, files: 0, kept: 0, bytes: 0, points: 0, damaged: Vec::new(), failure: None };
        let run = Arc::new(Run { state: Mutex::new(state), job: Mutex::default() });
        *latest = Some(Arc::clone(&run));
        Ok(run)
    }

    /// The latest one, if there was any.
    pub fn latest(&self) -> Option<Arc<Run>> {
        self.0.lock().clone()
    }
}
