//! Regular upkeep: expires data past its limits, removes old items from the bin, and uploaded files that were never imported.

use std::{sync::Arc, time::Duration};

use fenetre_jobs::{Backoff, Next};

use crate::{clock::now, problem::ApiError, state::State, views::retention};

const EVERY: Duration = Duration::from_secs(30);

/// Starts the job. A change of limits wakes it.
///
/// # Errors
/// If there can be no more threads.
pub fn start(state: &Arc<State>) -> std::io::Result<()> {
    let own = Arc::clone(state);
    let step = move |_: &_| tidy(&own).map(|()| Next::Rest(EVERY));
    state.jobs.repeat("upkeep", Backoff { first: EVERY, most: EVERY }, step).map(|_| ())
}

fn tidy(state: &State) -> Result<(), ApiError> {
    let now = now();
    let is_believed = state.clock.look(&state.store)?.is_none();
    if is_believed {
        state.store.retention().expire(now)?;
    }
    state.warnings.report(&retention::warnings_now(state)?);
    for binned in state.store.bin().list()?.into_iter().filter(|_| is_believed) {
        if now.saturating_sub(binned.deleted) > state.limits.bin_retention {
            tracing::info!(what = binned.what, dataset = binned.dataset, "erased from the bin: its time there is over");
            state.store.bin().erase(&binned.id)?;
        }
    }
    state.imports.tidy(&state.store, now)
}
