//! Rollup policies of datasets, and their levels.

use fenetre_core::{
    model::{DatasetId, RollupPolicy},
    time::{Nanos, TimeRange},
};

use crate::{
    engine::Engine,
    error::StoreError,
    ingest::requests::Requests,
    levels::{self, LevelLoss},
    rollup::{self, LevelState},
};

/// Rollup policies of datasets, and their levels.
#[derive(Clone, Copy)]
pub struct Rollups<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) requests: &'s Requests,
}

impl Rollups<'_> {
    /// Sets which metrics of a dataset are rolled up, and into which levels. A policy with other metrics than before starts over.
    ///
    /// # Errors
    /// [`StoreError::Definition`] if it is invalid.
    pub fn put(&self, dataset: &str, name: &str, policy: &RollupPolicy) -> Result<bool, StoreError> {
        policy.check().map_err(|error| StoreError::Definition(error.to_string()))?;
        let (id, before) = self.engine.definitions.put_rollup(dataset, name, Some(policy))?;
        if let (Some(before), Some(rollups)) = (&before, self.engine.rollups.of(self.engine, id)?) {
            if levels::makes_anew(before, policy) {
                rollups.forget(name, || self.engine.wait_for_readers())?;
            } else {
                let widths: Vec<String> = policy.levels.iter().map(|level| level.width.to_string()).collect();
                rollups.keep_levels(name, &widths, || self.engine.wait_for_readers())?;
            }
        }
        // Windows are made of packed points; this does not wait for them.
        self.requests.pack_soon()?;
        self.engine.jobs.wake();
        Ok(before.is_none())
    }

    /// What would be lost for good if a rollup policy changed or was dropped, because the points have expired.
    ///
    /// # Errors
    /// If files fail.
    pub fn losses(&self, dataset: &str, name: &str, after: Option<&RollupPolicy>) -> Result<Vec<LevelLoss>, StoreError> {
        let Some(id) = self.engine.catalogue.read().dataset(dataset).map(|dataset| dataset.id) else { return Ok(Vec::new()) };
        self.engine
            .rollups
            .of(self.engine, id)?
            .map_or(Ok(Vec::new()), |rollups| rollups.losses(name, after, |metric| self.engine.floors.of(&self.engine.trims, id, metric)))
    }

    /// Deletes a rollup policy and its windows.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn remove(&self, dataset: &str, name: &str) -> Result<(), StoreError> {
        let opened = {
            let id = self.engine.catalogue.read().dataset(dataset).map(|dataset| dataset.id);
            id.map(|id| self.engine.rollups.of(self.engine, id)).transpose()?.flatten()
        };
        let (_, before) = self.engine.definitions.put_rollup(dataset, name, None)?;
        if before.is_none() {
            return Err(StoreError::Missing(format!("the dataset `{dataset}` has no rollup policy `{name}`")));
        }
        opened.map_or(Ok(()), |rollups| rollups.forget(name, || self.engine.wait_for_readers()))
    }

    /// Resumes or stops backfilling of a dataset's levels.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if it has no policies.
    pub fn fill(&self, dataset: DatasetId, go_on: bool) -> Result<(), StoreError> {
        let rollups = self.engine.rollups.of(self.engine, dataset)?;
        let rollups =
            rollups.ok_or_else(|| StoreError::Missing("the dataset has no rollup policies: make one with `fenetre rollup set`".to_owned()))?;
        rollups.stop_filling(!go_on);
        self.engine.jobs.wake();
        Ok(())
    }

    /// Works on a dataset's rollups until they are complete as of an instant. Everything acknowledged is packed first.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn run(&self, dataset: DatasetId, now: Nanos) -> Result<(), StoreError> {
        self.requests.pack()?;
        while rollup::turn(self.engine, dataset, now, true)? {}
        Ok(())
    }

    /// Progress of a dataset's rollups, and the state of each level.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn state(&self, dataset: DatasetId) -> Result<(levels::RollupStatus, Vec<LevelState>), StoreError> {
        rollup::level_states(self.engine, dataset)
    }

    /// Marks the windows of a metric, which were made by earlier rules, as out of date.
    pub(crate) fn remake(&self, dataset: &str, metric: &str) -> Result<(), StoreError> {
        let found = {
            let catalogue = self.engine.catalogue.read();
            catalogue.dataset(dataset).and_then(|dataset| Some((dataset.id, dataset.metric(metric)?.id)))
        };
        let Some((dataset, metric)) = found else { return Ok(()) };
        match self.engine.rollups.of(self.engine, dataset)? {
            Some(rollups) => rollups.mark(self.engine.series_of(dataset, metric).into_iter(), TimeRange::ALL),
            None => Ok(()),
        }
    }
}
