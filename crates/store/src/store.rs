//! The store as the rest of Fenetre sees it.

use std::{
    collections::{BTreeMap, HashMap},
    fs::{self, File},
    path::{Path, PathBuf},
    sync::{
        Arc,
        mpsc::{SyncSender, sync_channel},
    },
    thread::JoinHandle,
    time::Duration,
};

use fenetre_core::{
    catalogue::{Catalogue, Dataset, series_key},
    model::{DatasetId, Kind, MetricDefinition, SeriesId, check_dataset_name, check_name},
    suggest::listing,
    time::{Nanos, parse_rfc3339, zone},
};
use parking_lot::{Mutex, RwLock, RwLockReadGuard};

use crate::{
    batch::{Batch, NewSeries, Row, RowSeries, RowValue, SharedCatalogue},
    census::{self, Latest, SeriesCount, StorageReport},
    committer::{self, Job},
    error::{Context, StoreError},
    files::{Files, partition_start},
    head::{Head, Stretch},
    journal::{Entry, Journal},
    partition::Partition,
    reading::StoreSource,
    records::Records,
};

/// When points are packed, and how many may wait for it. A point in memory takes 16 bytes.
#[derive(Clone, Debug)]
pub struct Options {
    /// So many points in memory are packed.
    pub pack_points: usize,
    /// Points are packed after so long at the latest.
    pub pack_after: Duration,
    /// So many points in memory, and batches are refused until some are packed.
    pub most_points: usize,
}

impl Default for Options {
    fn default() -> Self {
        Self { pack_points: 1_000_000, pack_after: Duration::from_secs(3_600), most_points: 4_000_000 }
    }
}

/// What readers, the committer and the packer share.
pub struct Shared {
    pub files: Files,
    pub options: Options,
    pub catalogue: SharedCatalogue,
    pub head: RwLock<Head>,
    partitions: RwLock<BTreeMap<(DatasetId, Nanos), Arc<Partition>>>,
}

impl Shared {
    /// The partitions of a dataset, oldest first.
    pub fn partitions_of(&self, dataset: DatasetId) -> Vec<Arc<Partition>> {
        let partitions = self.partitions.read();
        partitions.range((dataset, Nanos::MIN)..=(dataset, Nanos::MAX)).map(|(_, partition)| Arc::clone(partition)).collect()
    }

    /// The partition that begins at `start`, made where it is new.
    pub fn partition(&self, dataset: &str, start: Nanos) -> Result<Arc<Partition>, StoreError> {
        let id = self.catalogue.read().dataset(dataset).map(|dataset| dataset.id);
        let id = id.ok_or_else(|| self.no_dataset(dataset))?;
        if let Some(partition) = self.partitions.read().get(&(id, start)) {
            return Ok(Arc::clone(partition));
        }
        let path = self.files.partition(dataset, start);
        let folder = self.files.dataset(dataset);
        fs::create_dir_all(&folder).at("create the folder", folder)?;
        let partition = Arc::new(Partition::new(start, path));
        partition.open()?;
        Ok(Arc::clone(self.partitions.write().entry((id, start)).or_insert(partition)))
    }

    fn no_dataset(&self, name: &str) -> StoreError {
        let catalogue = self.catalogue.read();
        StoreError::NoDataset { name: name.to_owned(), known: listing(catalogue.datasets().map(|dataset| &*dataset.name), 10) }
    }
}

/// An open store. Dropping it ends its threads in order; what was acknowledged is in the journal or in partitions.
pub struct Store {
    shared: Arc<Shared>,
    records: Mutex<Records>,
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
        let partitions = find_partitions(&files, &catalogue)?;
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
        let shared = Arc::new(Shared { files, options, catalogue, head: RwLock::new(head), partitions: RwLock::new(partitions) });
        let (jobs, received) = committer::channel();
        let committer = committer::start(Arc::clone(&shared), journal, older, received).at("start a thread for", root)?;
        Ok(Self { shared, records: Mutex::new(records), jobs: Some(jobs), committer: Some(committer), _lock: lock })
    }

    /// What there is. Hold it briefly: batches with new series wait for it.
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
        let id = found.ok_or_else(|| self.shared.no_dataset(dataset))?;
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
        let entry = Entry { dataset, stretches: stretches(self.settle(batch)?) };
        let (answer, answered) = sync_channel(1);
        let closed = || StoreError::Closed("it is stopping".to_owned());
        let jobs = self.jobs.as_ref().ok_or_else(closed)?;
        jobs.send(Job { entry, answer }).map_err(|_| closed())?;
        answered.recv().map_err(|_| closed())?
    }

    /// Gives every row its series' id and its number, after the catalogue has what is new.
    fn settle(&self, batch: Batch) -> Result<Vec<(SeriesId, Nanos, f64)>, StoreError> {
        let Batch { dataset_name, rows, new_metrics, new_series, words, .. } = batch;
        let has_words = rows.iter().any(|row| matches!(row.value, RowValue::Word(_)));
        if new_series.is_empty() && !has_words {
            let number = |row: &Row| match (row.series, row.value) {
                (RowSeries::Known(id), RowValue::Number(number)) => Some((id, row.time, number)),
                _ => None,
            };
            return Ok(rows.iter().filter_map(number).collect());
        }
        // From here on one at a time, so that two batches with the same new series agree on its id.
        let mut records = self.records.lock();
        let ids = self.add_series(&mut records, &dataset_name, &new_metrics, &new_series)?;
        let id = |row: &Row| match row.series {
            RowSeries::Known(id) => id,
            RowSeries::New(index) => ids[index as usize],
        };
        let codes = self.add_words(&mut records, &dataset_name, &words, &rows, id)?;
        let settled = |row: &Row| {
            let series = id(row);
            let number = match row.value {
                RowValue::Number(number) => number,
                RowValue::Word(word) => codes.get(&(series, word)).copied().unwrap_or_default() as f64,
            };
            (series, row.time, number)
        };
        Ok(rows.iter().map(settled).collect())
    }

    fn add_series(
        &self,
        records: &mut Records,
        dataset: &str,
        new_metrics: &BTreeMap<String, Kind>,
        new_series: &[NewSeries],
    ) -> Result<Vec<SeriesId>, StoreError> {
        let missing = |catalogue: &Catalogue| -> Option<(DatasetId, Vec<String>)> {
            let dataset = catalogue.dataset(dataset)?;
            Some((dataset.id, new_metrics.keys().filter(|name| dataset.metric(name).is_none()).cloned().collect()))
        };
        let (dataset_id, metrics) = missing(&self.catalogue()).ok_or_else(|| self.shared.no_dataset(dataset))?;
        let definition = |name: &String| MetricDefinition { kind: new_metrics.get(name).copied().unwrap_or_default(), ..MetricDefinition::default() };
        // Another batch may have added the same metric with another kind since this one was read.
        self.check_kinds(dataset, new_metrics)?;
        let added = records.change(|changes| {
            let metrics: rusqlite::Result<Vec<_>> =
                metrics.iter().map(|name| Ok((name.clone(), changes.put_metric(dataset_id, name, &definition(name))?))).collect();
            let metrics: HashMap<String, _> = metrics?.into_iter().collect();
            let mut ids = Vec::with_capacity(new_series.len());
            let catalogue = self.catalogue();
            let known = catalogue.dataset(dataset);
            for NewSeries { metric, tags } in new_series {
                let known_metric = known.and_then(|dataset| dataset.metric(metric)).map(|metric| metric.id);
                let Some(metric_id) = known_metric.or_else(|| metrics.get(metric).copied()) else { continue };
                let mut key = Vec::new();
                series_key(&mut key, metric_id, tags.iter().map(|(key, value)| (key.as_str(), value.as_str())));
                ids.push(match known.and_then(|dataset| dataset.find(&key)) {
                    Some(id) => (id, false),
                    None => (changes.add_series(metric_id, tags)?, true),
                });
            }
            Ok((metrics, ids))
        });
        let (metrics, ids) = added?;
        let mut catalogue = self.shared.catalogue.write();
        if let Some(dataset) = catalogue.dataset_mut(dataset) {
            for (name, id) in metrics {
                let definition = definition(&name);
                dataset.put_metric(id, &name, definition);
            }
            for ((id, is_new), NewSeries { metric, tags }) in ids.iter().zip(new_series) {
                if *is_new {
                    dataset.put_series(*id, metric, tags.iter().map(|(key, value)| (key.as_str(), value.as_str())), Vec::new());
                }
            }
        }
        Ok(ids.into_iter().map(|(id, _)| id).collect())
    }

    fn check_kinds(&self, dataset: &str, kinds: &BTreeMap<String, Kind>) -> Result<(), StoreError> {
        let catalogue = self.catalogue();
        let Some(dataset) = catalogue.dataset(dataset) else { return Ok(()) };
        let clash = |(name, kind): (&String, &Kind)| {
            let known = dataset.metric(name)?.definition.kind;
            let differs = (known == Kind::State) != (*kind == Kind::State);
            differs
                .then(|| StoreError::Definition(format!("`{name}` has just become a {known}: send the batch again to see which of its values fit")))
        };
        kinds.iter().find_map(clash).map_or(Ok(()), Err)
    }

    /// The code of each word of each series that the rows use, new ones added.
    fn add_words(
        &self,
        records: &mut Records,
        dataset: &str,
        words: &[String],
        rows: &[Row],
        id: impl Fn(&Row) -> SeriesId,
    ) -> Result<HashMap<(SeriesId, u32), usize>, StoreError> {
        let mut codes: HashMap<(SeriesId, u32), usize> = HashMap::new();
        let mut added: Vec<(SeriesId, usize, &str)> = Vec::new();
        {
            let catalogue = self.catalogue();
            let dataset = catalogue.dataset(dataset);
            let mut next: HashMap<SeriesId, usize> = HashMap::new();
            for row in rows {
                let RowValue::Word(index) = row.value else { continue };
                let series = id(row);
                if codes.contains_key(&(series, index)) {
                    continue;
                }
                let word = words[index as usize].as_str();
                let known = dataset.and_then(|dataset| dataset.series(series)).map_or(&[][..], |series| &series.words);
                let code = known.iter().position(|known| **known == *word).unwrap_or_else(|| {
                    let next = next.entry(series).or_insert(known.len());
                    added.push((series, *next, word));
                    *next += 1;
                    *next - 1
                });
                codes.insert((series, index), code);
            }
        }
        if !added.is_empty() {
            records.change(|changes| added.iter().try_for_each(|(series, code, word)| changes.add_word(*series, *code, word)))?;
            if let Some(dataset) = self.shared.catalogue.write().dataset_mut(dataset) {
                added.iter().for_each(|(series, _, word)| dataset.put_word(*series, word));
            }
        }
        Ok(codes)
    }

    /// Adds a dataset, or changes what is said of one. Says whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name or zone.
    pub fn put_dataset(&self, name: &str, zone_name: &str, description: &str) -> Result<bool, StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the name `{name}` {error}")))?;
        zone(zone_name).map_err(|error| StoreError::Definition(error.to_string()))?;
        let mut records = self.records.lock();
        let is_new = self.catalogue().dataset(name).is_none();
        let id = records.change(|changes| changes.put_dataset(name, zone_name, description))?;
        self.shared.catalogue.write().put_dataset(id, name, zone_name, description);
        Ok(is_new)
    }

    /// Says what a metric is, before or after its first point. Says whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name, or where words would become numbers or numbers words.
    pub fn put_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        check_name(name).map_err(|error| StoreError::Definition(format!("the metric's name {error}")))?;
        let mut records = self.records.lock();
        let known = self.catalogue().dataset(dataset).map(|found| {
            let metric = found.metric(name);
            (found.id, metric.map(|metric| (metric.definition.kind, metric.series_count())))
        });
        let (id, known) = known.ok_or_else(|| self.shared.no_dataset(dataset))?;
        if let Some((kind, series)) = known
            && series > 0
            && (kind == Kind::State) != (definition.kind == Kind::State)
        {
            let text =
                format!("`{name}` is a {kind} and has {series} series: it cannot become a {}, whose values are of another sort", definition.kind);
            return Err(StoreError::Definition(text));
        }
        let metric = records.change(|changes| changes.put_metric(id, name, &definition))?;
        if let Some(dataset) = self.shared.catalogue.write().dataset_mut(dataset) {
            dataset.put_metric(metric, name, definition);
        }
        Ok(known.is_none())
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

/// The partition files that are there, by the date in their names.
fn find_partitions(files: &Files, catalogue: &Catalogue) -> Result<BTreeMap<(DatasetId, Nanos), Arc<Partition>>, StoreError> {
    let mut partitions = BTreeMap::new();
    for dataset in catalogue.datasets() {
        let folder = files.dataset(&dataset.name);
        if !folder.exists() {
            continue;
        }
        for entry in fs::read_dir(&folder).at("read the folder", &folder)? {
            let path: PathBuf = entry.at("read the folder", &folder)?.path();
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            let Some((date, "7d.db")) = name.split_once('_') else { continue };
            // The first partition of all begins within its first day, where the range of instants does.
            let start = parse_rfc3339(&format!("{date}T00:00:00Z")).map_or(Nanos::MIN, partition_start);
            partitions.insert((dataset.id, start), Arc::new(Partition::new(start, path)));
        }
    }
    Ok(partitions)
}
