//! Sizes, counts and files of the store, and their verification.

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    catalogue::Series,
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};

use crate::{
    compact::{compactor, respan},
    disk::{files::bytes_on_disk, sqlite::Use},
    engine::{Engine, losses},
    error::StoreError,
    ingest::requests::Requests,
    inspect::{
        sizes::{self, MetricSize, StorageReport, StoredBytes},
        verify::{self, Verified},
    },
    partition::{Partition, counts::SeriesCount},
    read::census::{self, Latest},
    rollup,
};

/// Sizes, points and files of the store, and their verification.
#[derive(Clone, Copy)]
pub struct Inspection<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) requests: &'s Requests,
}

impl Inspection<'_> {
    /// Random number that identifies the store.
    pub fn number(&self) -> i64 {
        self.engine.definitions.store()
    }

    /// Points of every series of a dataset that has any; a histogram is one point.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn counts(&self, dataset: DatasetId) -> Result<BTreeMap<SeriesId, SeriesCount>, StoreError> {
        census::counts(self.engine, dataset)
    }

    /// The latest point of a series that is not after `now`, if it has any.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn latest(&self, dataset: DatasetId, series: &Series, now: Nanos) -> Result<Option<Latest>, StoreError> {
        census::latest(self.engine, dataset, series, now)
    }

    /// Sizes of everything.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn report(&self, now: Nanos) -> Result<StorageReport, StoreError> {
        sizes::report(self.engine, now)
    }

    /// Bytes on the disk, without a look into the files.
    ///
    /// # Errors
    /// If folders or the catalogue fail.
    pub fn bytes(&self) -> Result<StoredBytes, StoreError> {
        sizes::bytes(self.engine)
    }

    /// Number of points that are not packed yet.
    pub fn waiting_points(&self) -> u64 {
        self.engine.head.read().points() as u64
    }

    /// Size of each metric, the largest first.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn metrics(&self) -> Result<Vec<MetricSize>, StoreError> {
        sizes::metrics(self.engine)
    }

    /// Names of the metrics that have points in the partitions that meet a range.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn metrics_in(&self, dataset: DatasetId, range: TimeRange) -> Result<Vec<String>, StoreError> {
        census::metrics_in(self.engine, dataset, range)
    }

    /// Checks a file, given by its path below the store's directory: a partition, a file of a rollup level, or the catalogue together with the records of
    /// rollups. Repairs nothing.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or if the store is closed.
    pub fn verify(&self, file: &str) -> Result<Verified, StoreError> {
        let path = self.engine.files.root().join(file);
        if path == self.engine.files.catalogue() {
            return verify::verify_records(self.engine);
        }
        let looked = match rollup::verify(self.engine, &path) {
            Ok(None) => self.partition_of(file).and_then(|(dataset, partition)| verify::verify(self.engine, dataset, &partition)),
            Ok(Some(found)) => Ok(found),
            Err(error) => Err(error),
        };
        let looked = looked.map(|mut found| {
            verify::check_integrity(&path, Use::Blocks { page_size: 4_096 }, &mut found);
            found
        });
        match looked {
            // An unreadable file is a finding.
            Err(error @ (StoreError::Damaged { .. } | StoreError::Sqlite { .. })) => {
                Ok(Verified { faulty: 1, faults: vec![error.to_string()], ..Verified::default() })
            }
            looked => looked,
        }
    }

    /// Accepts the loss of a file, given its path relative to the store's directory.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if it is not lost.
    pub fn accept_loss(&self, file: &str) -> Result<(), StoreError> {
        losses::accept_loss(self.engine, file)
    }

    /// Compacts the partition of a file. Returns its bytes before and after.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or if files fail or are damaged.
    pub fn compact(&self, file: &str) -> Result<(u64, u64), StoreError> {
        let (dataset, partition) = self.partition_of(file)?;
        let before = bytes_on_disk(partition.path());
        compactor::compact(self.engine, &partition, &self.engine.counters(dataset))?;
        partition.writer().shrink()?;
        Ok((before, bytes_on_disk(partition.path())))
    }

    fn partition_of(&self, file: &str) -> Result<(DatasetId, Arc<Partition>), StoreError> {
        let all = self.engine.all_partitions();
        let found = all.into_iter().find(|(_, partition)| self.engine.files.name_of(partition.path()) == file);
        found.ok_or_else(|| StoreError::Missing(format!("there is no partition {file}")))
    }

    /// Packs everything that was acknowledged so far, and gives the partitions of a dataset the spans that suit their points: few points over a
    /// long time become one file. Returns how many partitions there were, and are.
    ///
    /// # Errors
    /// [`StoreError::NoDataset`], or if files fail or are damaged.
    pub fn tidy(&self, dataset: &str) -> Result<(usize, usize), StoreError> {
        let id = {
            let catalogue = self.engine.catalogue.read();
            catalogue.dataset(dataset).map(|dataset| dataset.id).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?
        };
        self.requests.pack()?;
        let partitions = || self.engine.partitions_of(id, TimeRange::ALL).len();
        let before = partitions();
        respan::tidy(self.engine, id)?;
        respan::remove_replaced(self.engine)?;
        Ok((before, partitions()))
    }

    /// Compacts every partition now, as far as snapshots allow. Blocks until that is done.
    ///
    /// # Errors
    /// If files fail or are damaged.
    pub fn compact_all(&self) -> Result<(), StoreError> {
        for (dataset, partition) in self.engine.all_partitions() {
            compactor::compact(self.engine, &partition, &self.engine.counters(dataset))?;
        }
        let datasets: Vec<DatasetId> = self.engine.catalogue.read().datasets().map(|dataset| dataset.id).collect();
        datasets.into_iter().try_for_each(|dataset| respan::tidy(self.engine, dataset))?;
        respan::remove_replaced(self.engine)
    }
}
