//! Trims: points of metrics with a shorter limit than their dataset are taken out of partitions that stay.
//!
//! Once a trim is recorded, no new query sees its points. When earlier queries have ended, the points move to the bin. So no query sees half of a
//! trim, even if the move is interrupted. Points that arrive after the move are seen. A record stays while its points can be restored; after they are
//! erased, until a later trim of the metric is erased too.

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    catalogue::Catalogue,
    model::{DatasetId, MetricId, SeriesId},
    time::Nanos,
};
use parking_lot::RwLock;
use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{
        definitions::{Definitions, SharedCatalogue},
        documents::{Document, DocumentKind},
    },
    error::StoreError,
};

/// A trim.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trim {
    pub dataset: u32,
    pub metric: u32,
    /// First instant that is kept.
    pub until: Nanos,
    /// Its points are erased.
    pub is_erased: bool,
    /// Its points were moved out of the partitions. Records of earlier versions lack this; nearly all of theirs were.
    #[serde(default = "moved")]
    pub is_moved: bool,
}

fn moved() -> bool {
    true
}

impl Document for Trim {
    const KIND: DocumentKind = DocumentKind::Trim;
}

impl Trim {
    fn is_of(&self, other: &Self) -> bool {
        (self.dataset, self.metric) == (other.dataset, other.metric)
    }
}

/// First instants from which queries see trimmed series.
#[derive(Debug, Default)]
pub struct TrimmedRanges(BTreeMap<DatasetId, Vec<(Vec<SeriesId>, Nanos)>>);

impl TrimmedRanges {
    /// First visible instant of each series; none if all of them are visible from the beginning.
    pub fn of(&self, dataset: DatasetId, series: &[SeriesId]) -> Option<Vec<Nanos>> {
        let trimmed = self.0.get(&dataset)?;
        let from = |id: &SeriesId| trimmed.iter().find(|(series, _)| series.binary_search(id).is_ok()).map_or(Nanos::MIN, |(_, from)| *from);
        let found: Vec<Nanos> = series.iter().map(from).collect();
        found.iter().any(|from| *from > Nanos::MIN).then_some(found)
    }
}

/// All trims.
#[derive(Default)]
pub struct Trims {
    all: RwLock<BTreeMap<String, Trim>>,
    hidden: RwLock<Arc<TrimmedRanges>>,
}

/// Where trims are recorded.
pub struct TrimRecords<'s> {
    pub definitions: &'s Definitions,
    pub catalogue: &'s SharedCatalogue,
    pub now: Nanos,
}

impl Trims {
    pub fn open(definitions: &Definitions, catalogue: &Catalogue) -> Result<Self, StoreError> {
        let all: BTreeMap<String, Trim> = definitions.documents()?.into_iter().map(|kept| (kept.name, kept.body)).collect();
        let hidden = RwLock::new(Arc::new(hidden(&all, catalogue)));
        Ok(Self { all: RwLock::new(all), hidden })
    }

    /// First visible instants for queries that begin now.
    pub fn hidden(&self) -> Arc<TrimmedRanges> {
        Arc::clone(&self.hidden.read())
    }

    /// First instant of a metric that no trim has removed.
    pub fn floor(&self, dataset: DatasetId, metric: MetricId) -> Nanos {
        let all = self.all.read();
        all.values().filter(|trim| (trim.dataset, trim.metric) == (dataset.0, metric.0)).map(|trim| trim.until).max().unwrap_or(Nanos::MIN)
    }

    /// Metrics of a dataset that were trimmed.
    pub fn metrics(&self, dataset: DatasetId) -> Vec<MetricId> {
        let mut found: Vec<MetricId> = self.all.read().values().filter(|trim| trim.dataset == dataset.0).map(|trim| MetricId(trim.metric)).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Trims whose points are not all moved yet.
    pub fn unfinished(&self) -> Vec<(String, Trim)> {
        self.all.read().iter().filter(|(_, trim)| !trim.is_moved).map(|(id, trim)| (id.clone(), *trim)).collect()
    }

    /// The trim of an id in the bin.
    pub fn get(&self, id: &str) -> Option<Trim> {
        self.all.read().get(id).copied()
    }

    /// Records a trim on stable storage: no query that begins after this sees its points.
    pub fn note(&self, records: &TrimRecords<'_>, id: &str, trim: Trim) -> Result<(), StoreError> {
        records.definitions.put_document(id, &trim, records.now)?;
        self.all.write().insert(id.to_owned(), trim);
        self.reload(records.catalogue);
        Ok(())
    }

    /// Records that the points of an id were moved.
    pub fn note_moved(&self, records: &TrimRecords<'_>, id: &str) -> Result<(), StoreError> {
        self.get(id).map_or(Ok(()), |trim| self.note(records, id, Trim { is_moved: true, ..trim }))
    }

    /// Removes the record of an id: its points were restored, or never moved.
    pub fn forget(&self, records: &TrimRecords<'_>, id: &str) -> Result<(), StoreError> {
        if self.all.write().remove(id).is_some() {
            records.definitions.remove_document::<Trim>(id)?;
            self.reload(records.catalogue);
        }
        Ok(())
    }

    /// Records that the points of an id are erased: earlier trims of the metric need no record any more.
    pub fn erase(&self, records: &TrimRecords<'_>, id: &str) -> Result<(), StoreError> {
        let Some(trim) = self.get(id) else { return Ok(()) };
        self.note(records, id, Trim { is_erased: true, ..trim })?;
        let is_behind = |(known, of): &(&String, &Trim)| *known != id && of.is_erased && of.is_of(&trim) && of.until <= trim.until;
        let behind: Vec<String> = self.all.read().iter().filter(is_behind).map(|(known, _)| known.clone()).collect();
        behind.iter().try_for_each(|known| self.forget(records, known))
    }

    fn reload(&self, catalogue: &SharedCatalogue) {
        let looked = hidden(&self.all.read(), &catalogue.read());
        *self.hidden.write() = Arc::new(looked);
    }
}

fn hidden(all: &BTreeMap<String, Trim>, catalogue: &Catalogue) -> TrimmedRanges {
    let mut from: BTreeMap<(u32, u32), Nanos> = BTreeMap::new();
    for trim in all.values().filter(|trim| !trim.is_moved) {
        let known = from.entry((trim.dataset, trim.metric)).or_insert(trim.until);
        *known = trim.until.max(*known);
    }
    let mut hidden = TrimmedRanges::default();
    for ((dataset, metric), until) in from {
        let home = catalogue.dataset_by_id(DatasetId(dataset));
        if let Some((home, metric)) = home.and_then(|home| Some((home, home.metric_by_id(MetricId(metric))?))) {
            hidden.0.entry(DatasetId(dataset)).or_default().push((home.series_with_parts(metric), until));
        }
    }
    hidden
}
