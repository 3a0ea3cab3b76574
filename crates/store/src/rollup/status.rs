//! State of the levels of rollup policies.

use fenetre_core::{
    catalogue::FIRST_PART,
    model::DatasetId,
    time::{Nanos, Span, TimeRange},
};

use crate::{
    changes::Change,
    engine::Engine,
    error::StoreError,
    levels::{RollupStatus, resolve_policies},
    read::windows::first_point,
};

/// State of a level of a rollup policy.
#[derive(Clone, Debug)]
pub struct LevelState {
    /// Of which policy.
    pub policy: String,
    /// Width of its windows.
    pub width: Span,
    /// How long it is kept.
    pub keep_for: Option<Span>,
    /// The time it covers; from the beginning of time if no earlier points exist.
    pub covered: Option<TimeRange>,
    /// The dataset's first packed point.
    pub first: Option<Nanos>,
    /// Points of its series that are not packed yet; windows are computed from packed points.
    pub waiting: u64,
    /// Time ranges of series to be rebuilt.
    pub out_of_date: u64,
    /// Series that it is made of.
    pub series: u64,
    /// Windows in it.
    pub windows: u64,
    /// Bytes of its files.
    pub bytes: u64,
}

/// Progress of a dataset's rollups, and the state of each level.
pub fn level_states(shared: &Engine, dataset: DatasetId) -> Result<(RollupStatus, Vec<LevelState>), StoreError> {
    let Some(rollups) = shared.rollups.of(shared, dataset)? else { return Ok((RollupStatus::default(), Vec::new())) };
    let state = rollups.state();
    let taken = resolve_policies(&shared.catalogue.read(), dataset);
    let first = first_point(shared, dataset)?;
    let snapshot = shared.snapshot();
    let mut levels = Vec::new();
    for policy in &taken {
        let whole = || policy.series.iter().filter(|(id, _)| id.0 < FIRST_PART);
        let waiting: usize = whole().map(|(id, _)| snapshot.count(*id, TimeRange::ALL)).sum();
        for level in &policy.levels {
            let covered = state.levels.get(&level.key).copied();
            let changes = policy.series.iter().flat_map(|(id, _)| state.changes.of(*id));
            let meets = |change: &&Change| covered.is_some_and(|covered| change.range.start < covered.end && covered.start < change.range.end);
            levels.push(LevelState {
                policy: policy.name.clone(),
                width: level.level.width(),
                keep_for: level.keep_for,
                covered,
                first,
                waiting: waiting as u64,
                out_of_date: changes.filter(meets).count() as u64,
                series: whole().count() as u64,
                windows: rollups.windows_of(level)?,
                bytes: rollups.level_bytes(&level.key),
            });
        }
    }
    Ok((rollups.status(), levels))
}
