//! What readers, the committer, the packer and the compactor share: the catalogue, the head, and the partitions that are there.

use std::{
    collections::{BTreeMap, HashMap},
    fs,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use fenetre_core::{
    catalogue::{Catalogue, Metric},
    model::{DatasetId, Kind, MetricId, SeriesId, Temporality, Thinning},
    time::{Nanos, TimeRange},
};
use parking_lot::RwLock;

use crate::{
    batch::SharedCatalogue,
    definitions::Definitions,
    error::{Context, StoreError},
    files::Files,
    head::{Head, Snapshot},
    options::Options,
    partition::Partition,
    pool::Pool,
    span::{Rate, Span},
};

/// The page size of a file that is there already is its own; this one is for one that a crash left empty.
const DEFAULT_PAGES: u32 = 16_384;

type Partitions = BTreeMap<(DatasetId, Nanos), Arc<Partition>>;

/// What the threads of a store share.
pub struct Shared {
    pub files: Files,
    pub options: Options,
    pub catalogue: SharedCatalogue,
    pub definitions: Definitions,
    pub head: RwLock<Head>,
    pub pool: Arc<Pool>,
    partitions: RwLock<Partitions>,
    stopping: AtomicBool,
}

impl Shared {
    /// Finds the partitions that are there, without opening them.
    pub fn open(files: Files, options: Options, definitions: Definitions, catalogue: SharedCatalogue, head: Head) -> Result<Self, StoreError> {
        let pool = Arc::new(Pool::new(options.open_partitions));
        let partitions = find_partitions(&files, &catalogue.read(), &pool)?;
        let (head, partitions) = (RwLock::new(head), RwLock::new(partitions));
        Ok(Self { files, options, catalogue, definitions, head, pool, partitions, stopping: AtomicBool::new(false) })
    }

    /// The points of this moment.
    pub fn snapshot(&self) -> Snapshot {
        self.head.write().snapshot()
    }

    /// Asks work in the background to end soon.
    pub fn stop(&self) {
        self.stopping.store(true, Ordering::Relaxed);
    }

    /// Whether work in the background should end.
    pub fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::Relaxed)
    }

    /// The partitions of a dataset that meet a range, oldest first.
    pub fn partitions_of(&self, dataset: DatasetId, range: TimeRange) -> Vec<Arc<Partition>> {
        let partitions = self.partitions.read();
        // No partition before the week that holds the range's start reaches into it.
        let from = Span::week_of(range.start).start;
        let near = partitions.range((dataset, from)..=(dataset, range.end)).map(|(_, partition)| partition);
        near.filter(|partition| partition.span.meets(range)).map(Arc::clone).collect()
    }

    /// All partitions, by dataset, oldest first.
    pub fn all_partitions(&self) -> Vec<(DatasetId, Arc<Partition>)> {
        self.partitions.read().iter().map(|((dataset, _), partition)| (*dataset, Arc::clone(partition))).collect()
    }

    /// The span of the partition that holds an instant, or would: for a new one, `rate` says how fast points come in that week.
    pub fn span_for(&self, dataset: DatasetId, at: Nanos, rate: impl FnOnce(Span) -> Rate) -> Span {
        let week = Span::week_of(at);
        let partitions = self.partitions.read();
        let mut same_week = partitions.range((dataset, week.start)..=(dataset, week.last())).map(|(_, partition)| partition.span);
        match same_week.next() {
            Some(span) if span == week => week,
            // A week that has days stays one of days.
            Some(_) => Span::day_of(at),
            None => Span::for_rate(at, rate(week)),
        }
    }

    /// The partition of a span, new where there was none; its file comes with the first points.
    pub fn partition(&self, dataset: DatasetId, span: Span, rate: impl FnOnce(Span) -> Rate) -> Result<Arc<Partition>, StoreError> {
        if let Some(partition) = self.partitions.read().get(&(dataset, span.start)) {
            return Ok(Arc::clone(partition));
        }
        let name = self.catalogue.read().datasets().find(|known| known.id == dataset).map(|dataset| dataset.folder.to_string());
        let name = name.ok_or_else(|| StoreError::Damaged {
            path: self.files.catalogue(),
            what: format!("it lacks dataset {}, to which points in the journal belong", dataset.0),
        })?;
        let folder = self.files.dataset(&name);
        fs::create_dir_all(&folder).at("create the folder", folder)?;
        let path = self.files.partition(&name, span);
        let partition = Arc::new(Partition::new(span, path, span.page_size(rate(span)), Arc::clone(&self.pool)));
        Ok(Arc::clone(self.partitions.write().entry((dataset, span.start)).or_insert(partition)))
    }

    /// Which of a dataset's series are counters whose values grow.
    pub fn counters(&self, dataset: DatasetId) -> impl Fn(SeriesId) -> bool + use<> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.datasets().find(|known| known.id == dataset);
        let is_counter =
            |metric: &&Metric| metric.definition.kind == Kind::Counter && metric.definition.temporality() == Some(Temporality::Cumulative);
        let counters = dataset.into_iter().flat_map(|dataset| dataset.metrics()).filter(is_counter);
        let series: roaring::RoaringBitmap = counters.flat_map(|metric| metric.series().map(|series| series.0)).collect();
        move |id| series.contains(id.0)
    }
}

impl Shared {
    /// How the series of a dataset are thinned, those that are.
    pub fn thinnings(&self, dataset: DatasetId) -> HashMap<SeriesId, (MetricId, Thinning)> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.datasets().find(|known| known.id == dataset);
        let thinned = dataset.into_iter().flat_map(|dataset| dataset.metrics()).filter_map(|metric| Some((metric, metric.definition.thinning?)));
        thinned.flat_map(|(metric, thinning)| metric.series().map(move |series| (series, (metric.id, thinning)))).collect()
    }
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
