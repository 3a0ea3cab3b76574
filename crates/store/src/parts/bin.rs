//! The bin, and what goes there: metrics, points, partitions.

use fenetre_core::{
    model::{DatasetId, MetricId, SeriesId},
    time::{Nanos, TimeRange},
};

use crate::{
    bin::{self, BinItem, DataSize, Selection},
    engine::Engine,
    error::StoreError,
    ingest::requests::Requests,
    read::source::StoreSource,
    retention::expiry,
};

/// The bin, and what goes there: metrics, points, partitions.
#[derive(Clone, Copy)]
pub struct Bin<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) requests: &'s Requests,
}

impl Bin<'_> {
    /// What is in the bin, the oldest first.
    ///
    /// # Errors
    /// If the catalogue cannot be read.
    pub fn list(&self) -> Result<Vec<BinItem>, StoreError> {
        bin::list(self.engine)
    }

    /// Moves a metric with all its series and points to the bin.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn delete_metric(&self, dataset: &str, name: &str, now: Nanos) -> Result<(), StoreError> {
        self.engine.definitions.bin_metric(dataset, name, now)
    }

    /// Moves points of some series in a range to the bin.
    ///
    /// # Errors
    /// If files fail or are damaged; what was moved until then is in the bin.
    pub fn delete_points(&self, selection: &Selection, what: &str, now: Nanos) -> Result<BinItem, StoreError> {
        self.requests.pack()?;
        bin::delete_points(self.engine, bin::free_id(self.engine, now)?, selection, what, false, now)
    }

    /// Counts the points of some series in a range, as [`Self::delete_points`] would move them, points in memory included. Packs nothing.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn measure(&self, selection: &Selection) -> Result<DataSize, StoreError> {
        let source = StoreSource::new(self.engine, self.engine.snapshot());
        let waits = |series: &SeriesId| source.snapshot.count(*series, selection.range) > 0;
        let (waiting, packed): (Vec<SeriesId>, Vec<SeriesId>) = selection.series.iter().copied().partition(waits);
        let of_packed = bin::measure(self.engine, &Selection { series: packed, ..selection.clone() })?;
        let (points, span) = source.count(selection.dataset, &waiting, selection.range)?;
        // Points in memory have no bytes yet; instants that are in both are counted once.
        let bytes = bin::measure(self.engine, &Selection { series: waiting, ..selection.clone() })?.bytes;
        let mut weight = of_packed;
        weight.take(points, bytes, span);
        Ok(weight)
    }

    /// Estimates the points of some series in a range: unpacked ones have no bytes yet, and points that arrived twice count twice.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn estimate(&self, selection: &Selection) -> Result<DataSize, StoreError> {
        let snapshot = self.engine.snapshot();
        let waiting: usize = selection.series.iter().map(|series| snapshot.count(*series, selection.range)).sum();
        let packed = bin::measure(self.engine, selection)?;
        Ok(DataSize { points: packed.points + waiting as u64, ..packed })
    }

    /// Measures the packed points that a trim of a metric would remove.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn measure_trim(&self, dataset: DatasetId, metric: MetricId, before: Nanos) -> Result<DataSize, StoreError> {
        let range = TimeRange { start: Nanos::MIN, end: before };
        bin::measure(self.engine, &Selection { dataset, series: self.engine.series_of(dataset, metric), range })
    }

    /// Measures the packed points of a dataset in a range.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn held_in(&self, dataset: DatasetId, range: TimeRange) -> Result<DataSize, StoreError> {
        let series = {
            let catalogue = self.engine.catalogue.read();
            let found = catalogue.dataset_by_id(dataset);
            found.map_or_else(Vec::new, |dataset| dataset.all_series().map(|series| series.id).collect())
        };
        bin::measure(self.engine, &Selection { dataset, series, range })
    }

    /// Restores an item from the bin; a metric under another name if one is given.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or [`StoreError::Definition`] if the name is in use now.
    pub fn restore(&self, id: &str, name: Option<&str>) -> Result<(), StoreError> {
        bin::restore(self.engine, id, name)
    }

    /// Erases an item of the bin permanently.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or if files fail.
    pub fn erase(&self, id: &str) -> Result<(), StoreError> {
        self.requests.pack()?;
        bin::erase(self.engine, id)
    }

    /// Why an item would expire again at once if it were restored now; none if it would not.
    ///
    /// # Errors
    /// If the catalogue cannot be read.
    pub fn expires_again(&self, id: &str, now: Nanos) -> Result<Option<String>, StoreError> {
        expiry::expires_again(self.engine, id, now)
    }
}
