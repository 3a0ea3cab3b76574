//! From which instant on all points of datasets and metrics are kept, given what expired, was deleted or lost.

use std::collections::BTreeMap;

use fenetre_core::{
    model::{DatasetId, MetricId, SeriesId},
    time::{Nanos, TimeRange},
};
use parking_lot::RwLock;
use serde::{Deserialize, Serialize};

use crate::{
    catalogue::{
        definitions::{Definitions, SharedCatalogue, series_of},
        documents::{Document, DocumentKind, Kept},
    },
    error::StoreError,
    missing::trims::Trims,
};

/// Adjacent partitions that were dropped: their time span, and the part of it that had points.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dropped {
    /// First instant of the partitions, and first instant after them.
    pub span: (Nanos, Nanos),
    /// First point, and first instant after the last.
    pub points: (Nanos, Nanos),
}

/// Time ranges of one dataset in order; adjacent ones are merged.
type Stretches = Vec<Dropped>;

fn add(stretches: &mut Stretches, dropped: Dropped) {
    stretches.push(dropped);
    stretches.sort_unstable_by_key(|one| one.span);
    stretches.dedup_by(|next, one| {
        let touch = next.span.0 <= one.span.1;
        if touch {
            one.span.1 = one.span.1.max(next.span.1);
            one.points = (one.points.0.min(next.points.0), one.points.1.max(next.points.1));
        }
        touch
    });
}

/// Time ranges without points, by dataset.
#[derive(Default)]
pub struct RetainedFrom {
    /// Erased permanently.
    erased: RwLock<BTreeMap<DatasetId, Stretches>>,
    /// In the bin, or lost with their file: these points can return.
    missing: RwLock<BTreeMap<DatasetId, Stretches>>,
}

/// First instants from which all points of each series are kept.
pub struct SeriesRetainedFrom {
    dataset: Nanos,
    /// Series of metrics that were trimmed, in order.
    own: Vec<(Vec<SeriesId>, Nanos)>,
}

impl SeriesRetainedFrom {
    /// Of a series.
    pub fn of(&self, id: SeriesId) -> Nanos {
        self.own.iter().filter(|(series, _)| series.binary_search(&id).is_ok()).map(|(_, floor)| *floor).fold(self.dataset, Nanos::max)
    }
}

/// The erased time of a dataset, by its id.
#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum ErasedRanges {
    Ranges(Stretches),
    /// Earlier versions recorded only an instant, before which everything was erased.
    Until(Nanos),
}

impl Document for ErasedRanges {
    const KIND: DocumentKind = DocumentKind::ErasedRanges;
}

fn erased(definitions: &Definitions) -> Result<BTreeMap<DatasetId, Stretches>, StoreError> {
    let read = |Kept { name, body, .. }: Kept<ErasedRanges>| {
        let stretches = match body {
            ErasedRanges::Ranges(stretches) => stretches,
            ErasedRanges::Until(until) => vec![Dropped { span: (Nanos::MIN, until), points: (Nanos::MIN, until) }],
        };
        let dataset = name.parse().map_err(|error| definitions.damaged(ErasedRanges::KIND, &name, &error))?;
        Ok((DatasetId(dataset), stretches))
    };
    definitions.documents()?.into_iter().map(read).collect()
}

/// Records on stable storage that points are erased.
pub fn note_erased(definitions: &Definitions, dataset: DatasetId, dropped: Dropped) -> Result<(), StoreError> {
    let known = erased(definitions)?.remove(&dataset).unwrap_or_default();
    let mut stretches = known.clone();
    add(&mut stretches, dropped);
    if stretches == known {
        return Ok(());
    }
    definitions.put_document(&dataset.0.to_string(), &ErasedRanges::Ranges(stretches), 0)
}

impl RetainedFrom {
    /// Reads the erased ranges. Those in the bin, or lost, are set by [`Self::set_missing`].
    pub fn open(definitions: &Definitions) -> Result<Self, StoreError> {
        let floors = Self::default();
        *floors.erased.write() = erased(definitions)?;
        Ok(floors)
    }

    /// First instant from which all points of a dataset are kept.
    pub fn of_dataset(&self, dataset: DatasetId) -> Nanos {
        let of = |map: &RwLock<BTreeMap<DatasetId, Stretches>>| map.read().get(&dataset).and_then(|known| known.last()).map(|last| last.span.1);
        of(&self.erased).max(of(&self.missing)).unwrap_or(Nanos::MIN)
    }

    /// Time ranges of a metric whose points are not all kept, in order and disjoint.
    pub fn dropped(&self, trims: &Trims, dataset: DatasetId, metric: MetricId) -> Vec<TimeRange> {
        let mut all = self.erased.read().get(&dataset).cloned().unwrap_or_default();
        self.missing.read().get(&dataset).into_iter().flatten().for_each(|dropped| add(&mut all, *dropped));
        let trimmed = trims.floor(dataset, metric);
        if trimmed > Nanos::MIN {
            add(&mut all, Dropped { span: (Nanos::MIN, trimmed), points: (Nanos::MIN, trimmed) });
        }
        all.into_iter().map(|dropped| TimeRange { start: dropped.points.0, end: dropped.points.1 }).collect()
    }

    /// The same for a metric, which may have been trimmed.
    pub fn of(&self, trims: &Trims, dataset: DatasetId, metric: MetricId) -> Nanos {
        self.of_dataset(dataset).max(trims.floor(dataset, metric))
    }

    /// The same for every series of a dataset.
    pub fn of_series(&self, trims: &Trims, catalogue: &SharedCatalogue, dataset: DatasetId) -> SeriesRetainedFrom {
        let own = trims.metrics(dataset).into_iter();
        let own = own.map(|metric| (series_of(catalogue, dataset, metric), self.of(trims, dataset, metric))).collect();
        SeriesRetainedFrom { dataset: self.of_dataset(dataset), own }
    }

    /// Records that points were erased.
    pub fn erase(&self, definitions: &Definitions, dataset: DatasetId, dropped: Dropped) -> Result<(), StoreError> {
        let mut erased = self.erased.write();
        note_erased(definitions, dataset, dropped)?;
        add(erased.entry(dataset).or_default(), dropped);
        Ok(())
    }

    /// Replaces the ranges that are in the bin, or lost.
    pub fn set_missing(&self, missing: impl IntoIterator<Item = (DatasetId, Dropped)>) {
        let mut all: BTreeMap<DatasetId, Stretches> = BTreeMap::new();
        for (dataset, dropped) in missing {
            add(all.entry(dataset).or_default(), dropped);
        }
        *self.missing.write() = all;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn adjacent_stretches_merge_and_end_with_their_points() {
        let dropped = |start: Nanos, end: Nanos| Dropped { span: (start, end), points: (start + 1, end - 1) };
        let mut stretches = Stretches::new();
        for one in [dropped(20, 30), dropped(0, 10), dropped(40, 50), dropped(10, 20), dropped(0, 10)] {
            add(&mut stretches, one);
        }
        assert_eq!(stretches, [Dropped { span: (0, 30), points: (1, 29) }, dropped(40, 50)]);
    }
}
