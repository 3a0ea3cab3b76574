//! What the service does by itself now and then: what is older or more than is kept goes, the bin is emptied of what was in it for long
//! enough, and files that nobody imports go.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    thread::JoinHandle,
    time::Duration,
};

use crate::{clock::now, problem::ApiError, state::State, views::retention};

const EVERY: Duration = Duration::from_secs(30);

/// The thread that does it.
pub struct Upkeep {
    thread: JoinHandle<()>,
    stop: Arc<AtomicBool>,
    state: Arc<State>,
}

impl Upkeep {
    /// Starts it.
    ///
    /// # Errors
    /// Where there can be no more threads.
    pub fn start(state: &Arc<State>) -> std::io::Result<Self> {
        let stop = Arc::new(AtomicBool::new(false));
        let (all, state, told) = (Arc::clone(state), Arc::clone(state), Arc::clone(&stop));
        let work = move || {
            while !told.load(Ordering::Relaxed) {
                if let Err(error) = tidy(&state) {
                    tracing::error!(%error, "upkeep failed, and is tried again later");
                }
                state.upkeep.wait(EVERY);
            }
        };
        Ok(Self { thread: std::thread::Builder::new().name("upkeep".into()).spawn(work)?, stop, state: all })
    }

    /// Ends it, after what it is at.
    pub fn end(self) {
        self.stop.store(true, Ordering::Relaxed);
        self.state.upkeep.ring();
        let _ = self.thread.join();
    }
}

fn tidy(state: &State) -> Result<(), ApiError> {
    let now = now();
    let is_believed = state.clock.look(&state.store)?.is_none();
    if is_believed {
        state.store.expire(now)?;
    }
    state.warnings.report(&retention::warnings_now(state)?);
    for binned in state.store.bin()?.into_iter().filter(|_| is_believed) {
        if now.saturating_sub(binned.deleted) > state.limits.bin_retention {
            tracing::info!(what = binned.what, dataset = binned.dataset, "erased from the bin, where it was for long enough");
            state.store.erase_binned(&binned.id)?;
        }
    }
    state.imports.tidy(&state.store, now)
}
