//! What every handler shares.

use std::{path::PathBuf, sync::Arc};

use fenetre_core::time::Nanos;
use fenetre_store::Store;
use tokio::sync::Semaphore;

use crate::{
    arrivals::Arrivals, backups::Backups, budget::Budget, config::CallLimits, imports::Imports, problem::Problem, tail::Tail, upkeep::Alarm,
    warnings::Warnings,
};

/// The service's state.
pub struct State {
    pub store: Store,
    pub limits: CallLimits,
    /// The configuration file, if there is one.
    pub config_file: Option<PathBuf>,
    pub arrivals: Arrivals,
    /// Bytes of bodies that are being taken.
    pub bodies: Budget,
    pub backups: Backups,
    pub imports: Imports,
    /// Who watches what arrives.
    pub tail: Tail,
    pub started: Nanos,
    /// Limits that were told of.
    pub warnings: Warnings,
    /// Calls for upkeep before its time.
    pub upkeep: Alarm,
    /// So many queries and pushes work at once; the others wait.
    pub workers: Semaphore,
}

impl State {
    /// What is kept has changed: upkeep looks at once.
    pub fn upkeep_is_due(&self) {
        self.upkeep.ring();
    }
}

/// The state, as handlers take it.
pub type Shared = actix_web::web::Data<State>;

/// The wall clock, read here and nowhere below.
pub fn now() -> Nanos {
    // The range of an instant ends in 2262.
    Nanos::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(Nanos::MAX)
}

/// Runs blocking work on a thread of its own, when one is free.
pub async fn blocking<T: Send + 'static>(state: &Shared, work: impl FnOnce(&State) -> Result<T, Problem> + Send + 'static) -> Result<T, Problem> {
    let _free = state.workers.acquire().await.map_err(|error| Problem::internal(&error))?;
    let state: Arc<State> = state.clone().into_inner();
    actix_web::web::block(move || work(&state)).await.map_err(|error| Problem::internal(&error))?
}
