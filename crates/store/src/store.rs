//! The store as the rest of Fenetre sees it.

use std::{
    collections::BTreeMap,
    fs::File,
    path::Path,
    sync::{
        Arc,
        mpsc::{SyncSender, sync_channel},
    },
    thread::JoinHandle,
};

use fenetre_core::{
    catalogue::{Catalogue, Dataset},
    model::{DatasetId, MetricDefinition, SeriesId},
    time::Nanos,
};
use parking_lot::{RwLock, RwLockReadGuard};

use crate::{
    batch::Batch,
    census::{self, Latest, StorageReport},
    committer::{self, Job},
    definitions::Definitions,
    error::{Context, StoreError},
    files::Files,
    head::{Head, Stretch},
    journal::{Entry, Journal},
    partition::SeriesCount,
    reading::StoreSource,
    records::Records,
    shared::{Options, Shared},
};

/// An open store. Dropping it ends its threads in order; what was acknowledged is in the journal or in partitions.
pub struct Store {
    shared: Arc<Shared>,
    definitions: Definitions,
    jobs: Option<SyncSender<Job>>,
    committer: Option<JoinHandle<()>>,
    _lock: File,
}

/// The dataset that a fresh store has.
const FIRST_DATASET: &str = "main";

impl Store {
    /// Opens the store in a directory, which is made where it is missing, and reads back what the journal holds.
    ///
    /// # Errors
    /// Where another process has it, its files cannot be used or are damaged, or a later version wrote them.
    pub fn open(root: &Path, options: Options) -> Result<Self, StoreError> {
        let files = Files::create(root)?;
        let lock = files.lock()?;
        let mut records = Records::open(files.catalogue())?;
        let mut catalogue = records.load()?;
        if catalogue.datasets().next().is_none() {
            let id = records.change(|changes| changes.put_dataset(FIRST_DATASET, "UTC", ""))?;
            catalogue.put_dataset(id, FIRST_DATASET, "UTC", "");
        }
        let mut head = Head::default();
        let mut journals = Journal::files(&files.journals())?;
        for (_, path) in &journals {
            Journal::replay(path, |entry| entry.stretches.iter().for_each(|stretch| head.active.append(entry.dataset, stretch)))?;
        }
        if head.points() > 0 {
            tracing::info!(points = head.points(), "read back from the journal");
        }
        let current = journals.pop().map_or(1, |(number, _)| number);
        let journal = Journal::append_to(&files.journals(), current)?;
        let older = journals.into_iter().map(|(_, path)| path).collect();
        let catalogue = Arc::new(RwLock::new(catalogue));
        let shared = Arc::new(Shared::open(files, options, Arc::clone(&catalogue), head)?);
        let (jobs, received) = committer::channel();
        let committer = committer::start(Arc::clone(&shared), journal, older, received).at("start a thread for", root)?;
        Ok(Self { shared, definitions: Definitions::new(records, catalogue), jobs: Some(jobs), committer: Some(committer), _lock: lock })
    }

    /// What there is. Hold it briefly, since batches with new series wait for it, and drop it before calling [`Store::storage`], which
    /// looks at it too.
    pub fn catalogue(&self) -> RwLockReadGuard<'_, Catalogue> {
        self.shared.catalogue.read()
    }

    /// The store as a source of points.
    pub fn source(&self) -> StoreSource<'_> {
        StoreSource(&self.shared)
    }

    /// Begins a batch for a dataset.
    ///
    /// # Errors
    /// [`StoreError::NoDataset`].
    pub fn begin(&self, dataset: &str) -> Result<Batch, StoreError> {
        let found = self.catalogue().dataset(dataset).map(|dataset| dataset.id);
        let id = found.ok_or_else(|| StoreError::no_dataset(&self.catalogue(), dataset))?;
        Ok(Batch::new(Arc::clone(&self.shared.catalogue), id, dataset.to_owned()))
    }

    /// Keeps a batch. When this returns, all of its points are on stable storage and can be asked for; where it fails, none is kept.
    /// Blocks until then.
    ///
    /// # Errors
    /// Where the disk is full, the store is behind, or its files fail.
    pub fn write(&self, batch: Batch) -> Result<(), StoreError> {
        if batch.is_empty() {
            return Ok(());
        }
        let dataset = batch.dataset;
        let entry = Entry { dataset, stretches: stretches(self.definitions.settle(batch)?) };
        let (answer, answered) = sync_channel(1);
        let closed = || StoreError::Closed("it is stopping".to_owned());
        let jobs = self.jobs.as_ref().ok_or_else(closed)?;
        jobs.send(Job { entry, answer }).map_err(|_| closed())?;
        answered.recv().map_err(|_| closed())?
    }

    /// Adds a dataset, or changes what is said of one. Says whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name or zone.
    pub fn put_dataset(&self, name: &str, zone: &str, description: &str) -> Result<bool, StoreError> {
        self.definitions.put_dataset(name, zone, description)
    }

    /// Says what a metric is, before or after its first point. Says whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name, or where words would become numbers or numbers words.
    pub fn put_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        self.definitions.put_metric(dataset, name, definition)
    }

    /// Points of every series of a dataset that has any.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn counts(&self, dataset: DatasetId) -> Result<BTreeMap<SeriesId, SeriesCount>, StoreError> {
        census::counts(&self.shared, dataset)
    }

    /// The latest point of a series, if it has any.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn latest(&self, dataset: &Dataset, series: SeriesId) -> Result<Option<Latest>, StoreError> {
        census::latest(&self.shared, dataset, series)
    }

    /// Sizes of everything.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn storage(&self) -> Result<StorageReport, StoreError> {
        census::report(&self.shared)
    }
}

impl Drop for Store {
    fn drop(&mut self) {
        self.jobs = None;
        if let Some(committer) = self.committer.take() {
            let _ = committer.join();
        }
    }
}

/// Rows as stretches, one a series; of one series the order of arrival stays.
fn stretches(mut rows: Vec<(SeriesId, Nanos, f64)>) -> Vec<Stretch> {
    rows.sort_by_key(|(series, _, _)| *series);
    let stretch = |rows: &[(SeriesId, Nanos, f64)]| Stretch {
        series: rows[0].0,
        times: rows.iter().map(|row| row.1).collect(),
        values: rows.iter().map(|row| row.2).collect(),
    };
    rows.chunk_by(|a, b| a.0 == b.0).map(stretch).collect()
}
