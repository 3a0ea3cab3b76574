//! From when on the points of datasets and metrics are all there: what was dropped before, by age or by size, is not.

use std::collections::BTreeMap;

use fenetre_core::{
    model::{DatasetId, MetricId, SeriesId},
    time::Nanos,
};
use parking_lot::RwLock;

use crate::{definitions::Definitions, error::StoreError, records::Document, shared::Shared};

/// The sort of documents that say up to when a dataset's points were erased.
const ERASED: &str = "erased-until";

/// Up to when points are gone, of each dataset.
#[derive(Default)]
pub struct Floors {
    /// For good.
    erased: RwLock<BTreeMap<DatasetId, Nanos>>,
    /// In the bin, from where they may come back.
    binned: RwLock<BTreeMap<DatasetId, Nanos>>,
}

/// From when on the points of each series of a dataset are all there.
pub struct SeriesFloors {
    dataset: Nanos,
    /// Series of metrics that were trimmed, in order.
    own: Vec<(Vec<SeriesId>, Nanos)>,
}

impl SeriesFloors {
    /// Of a series.
    pub fn of(&self, id: SeriesId) -> Nanos {
        self.own.iter().filter(|(series, _)| series.binary_search(&id).is_ok()).map(|(_, floor)| *floor).fold(self.dataset, Nanos::max)
    }
}

fn erased(definitions: &Definitions) -> Result<BTreeMap<DatasetId, Nanos>, StoreError> {
    let read = |document: Document| Some((DatasetId(document.name.parse().ok()?), document.body.parse().ok()?));
    Ok(definitions.documents(ERASED)?.into_iter().filter_map(read).collect())
}

/// Notes on stable storage that points up to an instant are erased for good.
pub fn note_erased(definitions: &Definitions, dataset: DatasetId, until: Nanos) -> Result<(), StoreError> {
    if erased(definitions)?.get(&dataset).is_some_and(|known| *known >= until) {
        return Ok(());
    }
    definitions.put_document(ERASED, &Document { name: dataset.0.to_string(), body: until.to_string(), changed: 0 })
}

impl Floors {
    pub fn open(definitions: &Definitions) -> Result<Self, StoreError> {
        let floors = Self::default();
        *floors.erased.write() = erased(definitions)?;
        *floors.binned.write() = crate::expiry::binned_until(definitions)?;
        Ok(floors)
    }

    /// Of a dataset.
    pub fn of_dataset(&self, dataset: DatasetId) -> Nanos {
        let of = |map: &RwLock<BTreeMap<DatasetId, Nanos>>| map.read().get(&dataset).copied().unwrap_or(Nanos::MIN);
        of(&self.erased).max(of(&self.binned))
    }

    /// Of a metric, which may have been trimmed.
    pub fn of(&self, shared: &Shared, dataset: DatasetId, metric: MetricId) -> Nanos {
        self.of_dataset(dataset).max(shared.trims.floor(dataset, metric))
    }

    /// Of every series of a dataset.
    pub fn of_series(&self, shared: &Shared, dataset: DatasetId) -> SeriesFloors {
        let own = shared.trims.metrics(dataset).into_iter();
        let own = own.map(|metric| (crate::expiry::series_of(shared, dataset, metric), self.of(shared, dataset, metric))).collect();
        SeriesFloors { dataset: self.of_dataset(dataset), own }
    }

    /// Points up to an instant were erased for good.
    pub fn erase(&self, definitions: &Definitions, dataset: DatasetId, until: Nanos) -> Result<(), StoreError> {
        let mut erased = self.erased.write();
        note_erased(definitions, dataset, until)?;
        let known = erased.entry(dataset).or_insert(Nanos::MIN);
        *known = until.max(*known);
        Ok(())
    }

    /// What is in the bin has changed.
    pub fn look_again(&self, definitions: &Definitions) -> Result<(), StoreError> {
        *self.binned.write() = crate::expiry::binned_until(definitions)?;
        Ok(())
    }
}
