//! State that readers, the committer, the packer and the compactor share: the catalogue, the head, and the partitions.

mod levels;
pub mod losses;

use std::{
    collections::{BTreeMap, HashMap},
    convert::Infallible,
    fs,
    path::PathBuf,
    sync::{
        Arc, OnceLock, Weak,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use fenetre_core::{
    catalogue::{Catalogue, Metric},
    keeping::{Policies, Volume},
    model::{DatasetId, Kind, MetricId, SeriesId, Temporality, Thinning},
    time::{Nanos, TimeRange},
};
use fenetre_jobs::{Durations, Jobs};
use parking_lot::{Mutex, RwLock};

use crate::{
    catalogue::definitions::{Definitions, SharedCatalogue, series_of},
    disk::{files::Files, pool::Pool},
    error::{Context, StoreError},
    feed::{Readers, Ring},
    head::{Head, Snapshot},
    levels::Rollups,
    limits::{horizons::Horizons, settings::RetentionSettings},
    missing::{
        dropped,
        floors::RetainedFrom,
        inventory::Inventory,
        trims::{TrimRecords, Trims},
    },
    options::Options,
    partition::Partition,
    secrets::Secrets,
    span::{Rate, Span},
};

/// The page size of a file that is there already is its own; this one is for one that a crash left empty.
const DEFAULT_PAGES: u32 = 16_384;

/// The partitions that are there, by dataset and first instant. A snapshot holds the map of its moment.
pub type Partitions = BTreeMap<(DatasetId, Nanos), Arc<Partition>>;

/// Those of a dataset that meet a range, oldest first.
pub fn partitions_in(partitions: &Partitions, dataset: DatasetId, range: TimeRange) -> Vec<Arc<Partition>> {
    // Of those that begin before the range, only the last can reach into it.
    let before = partitions.range((dataset, Nanos::MIN)..(dataset, range.start)).next_back();
    let inside = partitions.range((dataset, range.start)..=(dataset, range.end.max(range.start)));
    before.into_iter().chain(inside).map(|(_, partition)| partition).filter(|partition| partition.span.meets(range)).map(Arc::clone).collect()
}

/// Partitions that were there at a moment: as long as somebody holds them, their files stay.
pub struct Found {
    list: Vec<Arc<Partition>>,
    _of: Arc<Partitions>,
}

impl std::ops::Deref for Found {
    type Target = [Arc<Partition>];

    fn deref(&self) -> &Self::Target {
        &self.list
    }
}

/// Spans that are taken, by their first instants.
pub type Spans = BTreeMap<Nanos, Span>;

/// Queries that began before some moment: they hold a map of partitions from before it.
#[derive(Clone)]
pub struct OlderReaders(Vec<Weak<Partitions>>);

impl OlderReaders {
    /// Whether all of them have ended.
    pub fn have_ended(&self) -> bool {
        self.0.iter().all(|map| map.strong_count() == 0)
    }
}

/// A partition that was taken out, and the queries that may still ask it.
pub struct RetiringPartition {
    pub partition: Arc<Partition>,
    pub earlier: OlderReaders,
}

/// Partitions that others have replaced.
pub struct Replaced {
    /// The record of it.
    pub record: String,
    pub old: Vec<Arc<Partition>>,
    pub earlier: OlderReaders,
}

/// What the threads of a store share.
pub struct Engine {
    pub files: Files,
    pub options: Options,
    pub catalogue: SharedCatalogue,
    pub definitions: Definitions,
    pub head: RwLock<Head>,
    pub pool: Arc<Pool>,
    pub policies: RetentionSettings,
    pub rollups: Rollups,
    pub floors: RetainedFrom,
    pub inventory: Inventory,
    pub trims: Trims,
    partitions: RwLock<Versions>,
    /// Partitions that were dropped, until their files are moved.
    pub retiring: Mutex<BTreeMap<(DatasetId, Nanos), RetiringPartition>>,
    /// Partitions whose points are in others by now, until their files are removed.
    pub replaced: Mutex<Vec<Replaced>>,
    /// Read lock: changes points of existing partitions. Write lock: replaces partitions.
    pub spans: RwLock<()>,
    /// The reserve of the volume is touched, and nothing is left that could go.
    is_full: AtomicBool,
    /// Work in the background.
    pub jobs: Jobs,
    /// How long commits took.
    pub commits: Durations,
    pub secrets: Secrets,
    /// Recent batches, for readers that keep up.
    pub ring: Ring,
    /// Readers of batches.
    pub readers: Readers,
    /// Held while data expires.
    pub expiring: Mutex<()>,
    /// Why points are refused until the next start.
    closed: OnceLock<String>,
    /// Files that could not be read since the start, each with the error.
    faults: Mutex<BTreeMap<PathBuf, String>>,
}

/// The map of now, and those from before that somebody may still hold.
#[derive(Default)]
struct Versions {
    now: Arc<Partitions>,
    before: Vec<Weak<Partitions>>,
}

impl Versions {
    fn change<T>(&mut self, work: impl FnOnce(&mut Partitions) -> T) -> T {
        self.before.retain(|map| map.strong_count() > 0);
        if Arc::strong_count(&self.now) > 1 {
            self.before.push(Arc::downgrade(&self.now));
        }
        let mut changed = Partitions::clone(&self.now);
        let done = work(&mut changed);
        self.now = Arc::new(changed);
        done
    }
}

impl Engine {
    /// Finds the partitions that are there, without opening them.
    pub fn open(files: Files, options: Options, definitions: Definitions, catalogue: SharedCatalogue, head: Head) -> Result<Self, StoreError> {
        let pool = Arc::new(Pool::new(options.max_open_partitions.min(most_open())));
        let partitions = find_partitions(&files, &catalogue.read(), &pool)?;
        let trims = Trims::open(&definitions, &catalogue.read())?;
        let (head, partitions) = (RwLock::new(head), RwLock::new(Versions { now: Arc::new(partitions), before: Vec::new() }));
        let policies = RetentionSettings::open(&definitions, options.retention.clone())?;
        let (rollups, floors, inventory) = (Rollups::default(), RetainedFrom::open(&definitions)?, Inventory::open(&definitions)?);
        let (retiring, replaced, spans) = (Mutex::default(), Mutex::default(), RwLock::default());
        let (is_full, jobs, closed) = (AtomicBool::new(false), Jobs::default(), OnceLock::new());
        let secrets = Secrets::new(files.secrets());
        let shared = Self {
            files,
            options,
            catalogue,
            definitions,
            head,
            pool,
            policies,
            rollups,
            floors,
            inventory,
            trims,
            partitions,
            retiring,
            replaced,
            spans,
            is_full,
            jobs,
            commits: Durations::default(),
            secrets,
            ring: Ring::default(),
            readers: Readers::default(),
            expiring: Mutex::default(),
            closed,
            faults: Mutex::default(),
        };
        shared.reload_floors()?;
        Ok(shared)
    }

    /// Ids of a metric's series and of their parts.
    pub fn series_of(&self, dataset: DatasetId, metric: MetricId) -> Vec<SeriesId> {
        series_of(&self.catalogue, dataset, metric)
    }

    /// The volume that the store lies on.
    pub fn volume(&self) -> Option<Volume> {
        let found = rustix::fs::statvfs(self.files.root()).ok()?;
        let (total, free) = (found.f_blocks * found.f_frsize, found.f_bavail * found.f_frsize);
        Some(Volume { total, free, reserve: self.options.reserve_bytes(total) })
    }

    /// Limits by file and live.
    pub fn policies(&self) -> Policies {
        self.policies.policies(&self.catalogue)
    }

    /// First instants that are kept of a dataset and of its metrics.
    pub fn horizons(&self, dataset: DatasetId, now: Nanos) -> Horizons {
        self.policies.horizons(&self.catalogue, dataset, now)
    }

    /// Where trims are recorded.
    pub fn trim_records(&self) -> TrimRecords<'_> {
        TrimRecords { definitions: &self.definitions, catalogue: &self.catalogue, now: self.now() }
    }

    /// What is in the bin, or lost, has changed.
    pub fn reload_floors(&self) -> Result<(), StoreError> {
        self.floors.set_missing(dropped::missing(&self.definitions)?.into_iter().chain(self.inventory.losses()));
        Ok(())
    }

    /// The clock on the wall.
    pub fn now(&self) -> Nanos {
        let passed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        Nanos::try_from(passed.as_nanos()).unwrap_or(Nanos::MAX)
    }

    /// The points of this moment.
    pub fn snapshot(&self) -> Snapshot {
        self.head.write().snapshot()
    }

    /// Whether work in the background should end.
    pub fn is_stopping(&self) -> bool {
        self.jobs.is_stopping()
    }

    /// The result of reading a partition, or none if its file is damaged. The fault is recorded. For operations over all partitions, which must not fail because of one.
    pub fn unless_damaged<T>(&self, partition: &Partition, read: Result<T, StoreError>) -> Result<Option<T>, StoreError> {
        match read {
            Err(error @ (StoreError::Damaged { .. } | StoreError::Sqlite { .. } | StoreError::Io { .. })) => {
                let mut faults = self.faults.lock();
                if faults.insert(partition.path().to_owned(), error.to_string()).is_none() {
                    tracing::error!(%error, "a file is damaged; operations over all files skip it");
                }
                Ok(None)
            }
            read => read.map(Some),
        }
    }

    /// Records that a file was found lost or damaged.
    pub fn note_fault(&self, path: PathBuf, fault: String) {
        tracing::error!("{fault}");
        self.faults.lock().insert(path, fault);
    }

    /// Files that could not be read since the start, each with the error.
    pub fn faults(&self) -> Vec<(PathBuf, String)> {
        self.faults.lock().iter().map(|(path, fault)| (path.clone(), fault.clone())).collect()
    }

    /// Refuses points until the next start, for a reason. Only the first reason is kept.
    pub fn close(&self, reason: String) {
        let _ = self.closed.set(reason);
    }

    /// Why points are refused until the next start, if they are.
    pub fn closed(&self) -> Option<&str> {
        self.closed.get().map(String::as_str)
    }

    /// Whether no more points can be taken, since the volume's reserve is touched.
    pub fn is_full(&self) -> bool {
        self.is_full.load(Ordering::Relaxed)
    }

    /// Notes whether it is.
    pub fn set_full(&self, is_full: bool) {
        self.is_full.store(is_full, Ordering::Relaxed);
    }

    /// The partitions of this moment.
    pub fn partitions(&self) -> Arc<Partitions> {
        Arc::clone(&self.partitions.read().now)
    }

    /// The partitions of a dataset that meet a range, oldest first.
    pub fn partitions_of(&self, dataset: DatasetId, range: TimeRange) -> Found {
        let of = self.partitions();
        Found { list: partitions_in(&of, dataset, range), _of: of }
    }

    /// Puts partitions into the place of others of their time: no new query sees the old ones. Their files must stay until those that began before
    /// have ended.
    pub fn exchange(&self, dataset: DatasetId, old: &[Arc<Partition>], new: impl IntoIterator<Item = Arc<Partition>>) -> OlderReaders {
        let mut partitions = self.partitions.write();
        partitions.change(|map| {
            old.iter().for_each(|partition| drop(map.remove(&(dataset, partition.span.start))));
            map.extend(new.into_iter().map(|partition| ((dataset, partition.span.start), partition)));
        });
        OlderReaders(partitions.before.clone())
    }

    /// Takes a partition out: from here on no new query sees it. Its file stays until those from before have ended.
    pub fn take_out(&self, dataset: DatasetId, start: Nanos) -> Option<Arc<Partition>> {
        let key = (dataset, start);
        let mut retiring = self.retiring.lock();
        let mut partitions = self.partitions.write();
        let partition = partitions.change(|map| map.remove(&key))?;
        retiring.insert(key, RetiringPartition { partition: Arc::clone(&partition), earlier: OlderReaders(partitions.before.clone()) });
        Some(partition)
    }

    /// Waits until the queries that began before now have ended; returns whether they ended in time.
    pub fn wait_for_earlier(&self, longest: Duration) -> bool {
        let earlier = {
            let mut partitions = self.partitions.write();
            partitions.change(|_| ());
            OlderReaders(partitions.before.clone())
        };
        self.wait_until(Instant::now() + longest, || Ok::<_, Infallible>(earlier.have_ended())).unwrap_or(false)
    }

    /// Waits for queries that began before now, before what they read is removed. Those that take longer get an error.
    pub fn wait_for_readers(&self) {
        const READER_WAIT: Duration = Duration::from_secs(5);
        self.wait_for_earlier(READER_WAIT);
    }

    /// Waits until a condition holds, a deadline passes, or the store stops; returns whether the condition holds.
    pub fn wait_until<E>(&self, end: Instant, mut holds: impl FnMut() -> Result<bool, E>) -> Result<bool, E> {
        loop {
            if holds()? {
                return Ok(true);
            }
            if Instant::now() > end || self.is_stopping() {
                return Ok(false);
            }
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    /// Adds a partition whose file was restored; returns whether its span was free.
    pub fn put_back(&self, dataset: DatasetId, span: Span, path: PathBuf) -> bool {
        let mut partitions = self.partitions.write();
        if !partitions_in(&partitions.now, dataset, span.range()).is_empty() {
            return false;
        }
        let partition = Arc::new(Partition::new(span, path, DEFAULT_PAGES, Arc::clone(&self.pool)));
        partitions.change(|map| map.insert((dataset, span.start), partition));
        true
    }

    /// All partitions, by dataset, oldest first.
    pub fn all_partitions(&self) -> Vec<(DatasetId, Arc<Partition>)> {
        self.partitions.read().now.iter().map(|((dataset, _), partition)| (*dataset, Arc::clone(partition))).collect()
    }

    /// The span of the partition that holds an instant, or would: a new one crosses none that is there, nor any of `chosen`, and is not longer than
    /// `longest` days. `rate` says how fast points come in a span.
    pub fn span_for(&self, dataset: DatasetId, at: Nanos, (chosen, longest): (&Spans, i64), rate: impl Fn(Span) -> Rate) -> Span {
        let partitions = self.partitions();
        let there = |range: TimeRange| partitions_in(&partitions, dataset, range).first().map(|partition| partition.span);
        let to_come = |range: TimeRange| {
            let before = chosen.range(..range.start).next_back();
            before.into_iter().chain(chosen.range(range.start..range.end)).map(|(_, span)| *span).find(|span| span.meets(range))
        };
        let taken = |range: TimeRange| there(range).or_else(|| to_come(range));
        if let Some(span) = taken(TimeRange { start: at, end: at.saturating_add(1) }) {
            return span;
        }
        let week = Span::week_of(at);
        // A week that has days stays one of days.
        if taken(week.range()).is_some() {
            return Span::day_of(at);
        }
        let mut long = Span::long_of(at, longest);
        let few = long.find(|span| taken(span.range()).is_none() && rate(*span).is_few(*span));
        few.unwrap_or_else(|| Span::for_rate(at, rate(week)))
    }

    /// The partition of a span, new where there was none; its file comes with the first points.
    pub fn partition(&self, dataset: DatasetId, span: Span, rate: impl FnOnce(Span) -> Rate) -> Result<Arc<Partition>, StoreError> {
        if let Some(partition) = self.partitions.read().now.get(&(dataset, span.start)) {
            return Ok(Arc::clone(partition));
        }
        // Of a batch that was on its way while its partition was dropped: packing tries again when the file has gone.
        if self.retiring.lock().contains_key(&(dataset, span.start)) {
            return Err(StoreError::Missing(format!("the partition {} is being dropped", span.file_name())));
        }
        let name = self.catalogue.read().dataset_by_id(dataset).map(|dataset| dataset.folder.to_string());
        let name = name.ok_or_else(|| StoreError::Damaged {
            path: self.files.catalogue(),
            what: format!("it lacks dataset {}, to which points in the journal belong", dataset.0),
        })?;
        let folder = self.files.dataset(&name);
        fs::create_dir_all(&folder).at("create the folder", folder)?;
        let path = self.files.partition(&name, span);
        let partition = Arc::new(Partition::new(span, path, span.page_size(rate(span)), Arc::clone(&self.pool)));
        Ok(self.partitions.write().change(|map| Arc::clone(map.entry((dataset, span.start)).or_insert(partition))))
    }

    /// Which of a dataset's series are counters whose values grow.
    pub fn counters(&self, dataset: DatasetId) -> impl Fn(SeriesId) -> bool + use<> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.dataset_by_id(dataset);
        let is_counter =
            |metric: &&Metric| metric.definition.kind == Kind::Counter && metric.definition.temporality() == Some(Temporality::Cumulative);
        let counters = dataset.into_iter().flat_map(|dataset| dataset.metrics()).filter(is_counter);
        let series: roaring::RoaringBitmap = counters.flat_map(|metric| metric.series().map(|series| series.0)).collect();
        move |id| series.contains(id.0)
    }
}

impl Engine {
    /// How the series of a dataset are thinned, those that are.
    pub fn thinnings(&self, dataset: DatasetId) -> HashMap<SeriesId, (MetricId, Thinning)> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.dataset_by_id(dataset);
        let thinned = dataset.into_iter().flat_map(|dataset| dataset.metrics()).filter_map(|metric| Some((metric, metric.definition.thinning?)));
        thinned.flat_map(|(metric, thinning)| metric.series().map(move |series| (series, (metric.id, thinning)))).collect()
    }
}

/// File descriptors reserved for the catalogue, the journal and connections.
const OTHER_DESCRIPTORS: u64 = 40;

/// Partitions that may stay open within the process's limit of file descriptors: each takes three, and as many again are opened for a short time.
fn most_open() -> usize {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current.unwrap_or(u64::MAX);
    usize::try_from(limit.saturating_sub(OTHER_DESCRIPTORS) / 6).unwrap_or(usize::MAX).max(2)
}

/// The partition files that are there, by the date in their names.
fn find_partitions(files: &Files, catalogue: &Catalogue, pool: &Arc<Pool>) -> Result<Partitions, StoreError> {
    let mut partitions = BTreeMap::new();
    for dataset in catalogue.datasets() {
        for (span, path) in files.partitions(&dataset.folder)? {
            partitions.insert((dataset.id, span.start), Arc::new(Partition::new(span, path, DEFAULT_PAGES, Arc::clone(pool))));
        }
    }
    Ok(partitions)
}
