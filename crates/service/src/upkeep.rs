//! What the service does by itself now and then: the bin is emptied of what was in it for long enough, and files that nobody imports go.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread::JoinHandle,
    time::Duration,
};

use crate::{
    problem::Problem,
    state::{State, now},
};

const EVERY: Duration = Duration::from_secs(600);

/// The thread that does it.
pub struct Upkeep {
    thread: JoinHandle<()>,
    stop: Arc<AtomicBool>,
}

impl Upkeep {
    /// Starts it.
    ///
    /// # Errors
    /// Where there can be no more threads.
    pub fn start(state: &Arc<State>) -> std::io::Result<Self> {
        let stop = Arc::new(AtomicBool::new(false));
        let (state, told) = (Arc::clone(state), Arc::clone(&stop));
        let work = move || {
            while !told.load(Ordering::Relaxed) {
                if let Err(error) = tidy(&state) {
                    tracing::error!(%error, "upkeep failed, and is tried again later");
                }
                std::thread::park_timeout(EVERY);
            }
        };
        Ok(Self { thread: std::thread::Builder::new().name("upkeep".into()).spawn(work)?, stop })
    }

    /// Ends it, after what it is at.
    pub fn end(self) {
        self.stop.store(true, Ordering::Relaxed);
        self.thread.thread().unpark();
        let _ = self.thread.join();
    }
}

fn tidy(state: &State) -> Result<(), Problem> {
    let now = now();
    for binned in state.store.bin()? {
        if now.saturating_sub(binned.deleted) > state.limits.bin_keeps {
            tracing::info!(what = binned.what, dataset = binned.dataset, "erased from the bin, where it was for long enough");
            state.store.erase_binned(&binned.id)?;
        }
    }
    state.imports.tidy(&state.store, now)
}
