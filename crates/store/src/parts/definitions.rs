//! Changes of the catalogue: datasets, metrics, tags and their names.

use std::collections::BTreeMap;

use fenetre_core::{
    model::{DatasetDefinition, MetricDefinition, MetricId, MetricTraits, TagDefinition},
    rollup::Rules,
    time::Nanos,
};

use crate::{engine::Engine, error::StoreError, ingest::requests::Requests, parts::rollups::Rollups};

/// Changes of the catalogue: datasets, metrics, tags and their names.
#[derive(Clone, Copy)]
pub struct CatalogueChanges<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) requests: &'s Requests,
}

impl CatalogueChanges<'_> {
    /// Adds a dataset, or changes its definition. Returns whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name or zone.
    pub fn put_dataset(&self, name: &str, definition: &DatasetDefinition) -> Result<bool, StoreError> {
        self.engine.definitions.put_dataset(name, definition)
    }

    /// Defines a metric, before or after its first point. Returns whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name, or if its values would become of another kind.
    pub fn put_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        Ok(self.put_metrics(dataset, vec![(name.to_owned(), definition)], false)?.contains(&true))
    }

    /// The same, with another unit for points whose values stay: they were in that unit all along.
    ///
    /// # Errors
    /// As for [`Self::put_metric`].
    pub fn relabel_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        Ok(self.put_metrics(dataset, vec![(name.to_owned(), definition)], true)?.contains(&true))
    }

    /// Moves a metric to the bin, and gives its name and a definition to another one.
    pub(crate) fn exchange_metric(
        &self,
        dataset: &str,
        name: &str,
        other: &str,
        definition: &MetricDefinition,
        now: Nanos,
    ) -> Result<(), StoreError> {
        self.engine.definitions.exchange_metric(dataset, name, other, definition, now)
    }

    /// Checks definitions of metrics against their points.
    ///
    /// # Errors
    /// As for [`Self::put_metrics`].
    pub fn check_metrics(&self, dataset: &str, metrics: &[(String, MetricDefinition)]) -> Result<(), StoreError> {
        self.engine.definitions.check_metrics(dataset, metrics, false).map(drop)
    }

    /// Defines metrics, all of them or none. Returns which are new.
    ///
    /// # Errors
    /// As for one; nothing is changed then.
    pub fn put_metrics(&self, dataset: &str, metrics: Vec<(String, MetricDefinition)>, relabels: bool) -> Result<Vec<bool>, StoreError> {
        let names: Vec<String> = metrics.iter().map(|(name, _)| name.clone()).collect();
        let rules = |store: &Self| -> Vec<Option<MetricTraits>> {
            let catalogue = store.engine.catalogue.read();
            let found = catalogue.dataset(dataset);
            names.iter().map(|name| found.and_then(|dataset| dataset.metric(name)).map(MetricTraits::of)).collect()
        };
        let before = rules(self);
        let done = self.engine.definitions.put_metrics(dataset, metrics, relabels)?;
        let after = rules(self);
        for (name, (before, after)) in names.iter().zip(before.into_iter().zip(after)) {
            if let (Some(before), Some(after)) = (before, after)
                && Rules::of(&before, false) != Rules::of(&after, false)
            {
                Rollups { engine: self.engine, requests: self.requests }.remake(dataset, name)?;
            }
        }
        Ok(done)
    }

    /// Defines a tag. Returns whether it was undefined.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad key or pattern.
    pub fn put_tag(&self, dataset: &str, key: &str, definition: TagDefinition) -> Result<bool, StoreError> {
        self.engine.definitions.put_tag(dataset, key, definition)
    }

    /// Renames a dataset; ids and points stay, and the old name still works.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a name that is bad or taken.
    pub fn rename_dataset(&self, old: &str, name: &str) -> Result<(), StoreError> {
        self.engine.definitions.rename_dataset(old, name)
    }

    /// Renames a metric, likewise.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::Definition`].
    pub fn rename_metric(&self, dataset: &str, old: &str, name: &str) -> Result<(), StoreError> {
        self.engine.definitions.rename_metric(dataset, old, name)
    }

    /// Renames a tag in all series of a dataset, likewise.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::Definition`].
    pub fn rename_tag(&self, dataset: &str, old: &str, key: &str) -> Result<(), StoreError> {
        self.engine.definitions.rename_tag(dataset, old, key)
    }

    /// Removes an old name: `noun` is `dataset`, `metric` or `tag`, and `dataset` is none for the first. Returns whether it
    /// existed.
    ///
    /// # Errors
    /// [`StoreError::NoDataset`].
    pub fn forget_old_name(&self, noun: &str, dataset: Option<&str>, name: &str) -> Result<bool, StoreError> {
        self.engine.definitions.forget_old_name(noun, dataset, name)
    }

    /// Points of each metric that its thinning has seen, and those of them that stayed.
    ///
    /// # Errors
    /// If the catalogue cannot be read.
    pub fn savings(&self) -> Result<BTreeMap<MetricId, (u64, u64)>, StoreError> {
        self.engine.definitions.savings()
    }
}
