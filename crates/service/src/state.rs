//! State that all handlers share.

use std::{path::PathBuf, sync::Arc, time::Instant};

use fenetre_core::time::Nanos;
use fenetre_flows::{intake::Intake, sinks::supervisor::Sinks, supervisor::Sources};
use fenetre_jobs::Jobs;
use fenetre_store::Store;

use crate::{
    access::gate::Gate,
    backups::Backups,
    clock::ClockWatch,
    config::CallLimits,
    http::{
        budget::Budget,
        lanes::{Lane, Lanes, MAX_WAIT, Turn},
    },
    imports::Imports,
    problem::ApiError,
    tls::certificate::Certificate,
    warnings::Warnings,
};

/// The service's state.
pub struct State {
    pub store: Arc<Store>,
    /// How points get into it.
    pub intake: Arc<Intake>,
    /// Sources, which fetch points automatically.
    pub sources: Sources,
    /// Sinks, which send points continuously.
    pub sinks: Sinks,
    /// Who may do what.
    pub gate: Gate,
    /// The certificate, if the service speaks TLS.
    pub certificate: Option<Arc<Certificate>>,
    /// Changes are kept in their record for this time, in nanoseconds.
    pub changes_keep: Nanos,
    pub limits: CallLimits,
    /// The configuration file, if there is one.
    pub config_file: Option<PathBuf>,
    /// Bytes of bodies that are being taken.
    pub bodies: Budget,
    pub backups: Backups,
    pub imports: Imports,
    pub started: Nanos,
    /// Checks the wall clock.
    pub clock: ClockWatch,
    /// Warnings that were logged.
    pub warnings: Warnings,
    /// Work in the background.
    pub jobs: Jobs,
    /// Where calls wait for each other.
    pub lanes: Lanes,
}

impl State {
    /// Limits have changed: upkeep runs at once.
    pub fn upkeep_is_due(&self) {
        self.jobs.wake();
    }
}

/// The state, as handlers take it.
pub type AppState = actix_web::web::Data<State>;

/// Runs blocking work among small calls.
pub async fn blocking<T: Send + 'static>(state: &AppState, work: impl FnOnce(&State) -> Result<T, ApiError> + Send + 'static) -> Result<T, ApiError> {
    in_lane(state, &state.lanes.records, work).await
}

/// Runs blocking work that looks at many files.
pub async fn blocking_long<T: Send + 'static>(
    state: &AppState,
    work: impl FnOnce(&State) -> Result<T, ApiError> + Send + 'static,
) -> Result<T, ApiError> {
    in_lane(state, &state.lanes.long_calls, work).await
}

/// Runs blocking work of a lane.
pub async fn in_lane<T: Send + 'static>(
    state: &AppState,
    lane: &Lane,
    work: impl FnOnce(&State) -> Result<T, ApiError> + Send + 'static,
) -> Result<T, ApiError> {
    let turn = lane.enter(Instant::now() + MAX_WAIT).await?;
    in_turn(state, turn, work).await
}

/// Runs blocking work on a thread of its own. The turn is the work's: it lasts as long, even where nobody waits for the outcome any more.
pub async fn in_turn<T: Send + 'static>(
    state: &AppState,
    turn: Turn,
    work: impl FnOnce(&State) -> Result<T, ApiError> + Send + 'static,
) -> Result<T, ApiError> {
    let state: Arc<State> = state.clone().into_inner();
    let work = move || {
        let done = work(&state);
        drop(turn);
        done
    };
    actix_web::web::block(work).await.map_err(|error| ApiError::internal(&error))?
}
