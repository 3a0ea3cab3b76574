//! The job for tokens and certificates: it detects changes by other processes, and stores counts of use.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use fenetre_access::registry::SESSION_UNUSED;
use fenetre_jobs::{Backoff, Next};

use crate::{clock::now, problem::ApiError, state::State};

/// A token that was revoked elsewhere works at most this long.
const EVERY: Duration = Duration::from_millis(500);
/// Counts are written this often.
const WRITTEN: Duration = Duration::from_secs(60);

/// Starts the job.
///
/// # Errors
/// If there can be no more threads.
pub fn start(state: &Arc<State>) -> std::io::Result<()> {
    let own = Arc::clone(state);
    let mut written = Instant::now();
    let step = move |_: &_| {
        let is_time = written.elapsed() >= WRITTEN;
        look(&own, is_time)?;
        if is_time {
            written = Instant::now();
        }
        Ok::<_, ApiError>(Next::Rest(EVERY))
    };
    state.jobs.repeat("access", Backoff { first: EVERY, most: Duration::from_secs(5) }, step).map(|_| ())
}

fn look(state: &State, is_time: bool) -> Result<(), ApiError> {
    let registry = &state.gate.registry;
    registry.refresh()?;
    write_refusals(state)?;
    let now = now();
    if let Some(certificate) = &state.certificate {
        certificate.refresh(now, false);
    }
    if is_time {
        registry.keep_uses()?;
        registry.records().prune(now.saturating_sub(SESSION_UNUSED), now.saturating_sub(state.changes_keep))?;
    }
    Ok(())
}

fn write_refusals(state: &State) -> Result<(), ApiError> {
    state.gate.refusals.take().iter().try_for_each(|change| state.gate.registry.records().record(change)).map_err(ApiError::from)
}

/// Writes down what was counted, at the end of the service.
pub fn finish(state: &State) {
    if let Err(error) = write_refusals(state).and_then(|()| Ok(state.gate.registry.keep_uses()?)) {
        tracing::error!(%error, "the use of tokens could not be written");
    }
}
