//! Sizes on disk, and their growth.

use std::{collections::BTreeMap, path::PathBuf, sync::Arc};

use fenetre_core::{
    catalogue::Dataset,
    keeping::Growth,
    model::{DatasetId, SeriesId},
    time::{Nanos, SECOND, TimeRange},
};

use crate::{
    bin::{self, BinItemKind},
    disk::files::{bytes_on_disk, folder_bytes},
    engine::Engine,
    error::StoreError,
    ingest::held,
    journal,
    levels::LevelSize,
    partition::{Partition, counts::SeriesSizes},
    read::census::packed_counts,
};

/// What the store takes on the disk, as the file system counts it.
#[derive(Clone, Debug)]
pub struct StorageReport {
    /// The store's directory.
    pub root: PathBuf,
    /// Bytes of the catalogue, tokens and the record of changes.
    pub catalogue_bytes: u64,
    /// Acknowledged batches that are not packed yet.
    pub journal: JournalSize,
    /// Bytes of what is in the bin.
    pub bin_bytes: u64,
    /// Datasets, by name.
    pub datasets: Vec<DatasetSize>,
    /// Files that could not be read since the start, each with the error. Of these partitions nothing is counted.
    pub faults: Vec<(PathBuf, String)>,
}

/// The journal and what it holds.
#[derive(Clone, Copy, Debug)]
pub struct JournalSize {
    /// Bytes of its files.
    pub bytes: u64,
    /// Points that wait in memory to be packed.
    pub points: u64,
}

/// One dataset on the disk.
#[derive(Clone, Debug)]
pub struct DatasetSize {
    /// Its name.
    pub name: String,
    /// Its id.
    pub id: DatasetId,
    /// Its partitions, oldest first.
    pub partitions: Vec<PartitionSize>,
    /// Bytes of its rollups.
    pub rollup_bytes: u64,
    /// The same by level.
    pub levels: Vec<LevelSize>,
    /// Bytes of what is in the bin of it.
    pub bin_bytes: u64,
    /// Points and bytes of blocks that were packed in the last 1, 7 and 30 days.
    pub written: [(u64, u64); 3],
    /// How fast it grows, by the instants of its points.
    pub growth: Growth,
    /// Its earliest point in a partition.
    pub oldest: Option<Nanos>,
}

impl DatasetSize {
    /// Bytes of everything that is stored of it.
    pub fn bytes(&self) -> u64 {
        self.partitions.iter().map(|partition| partition.bytes).sum::<u64>() + self.rollup_bytes + self.bin_bytes
    }
}

/// One partition on the disk.
#[derive(Clone, Debug)]
pub struct PartitionSize {
    /// The file.
    pub path: PathBuf,
    /// First instant of its span.
    pub start: Nanos,
    /// Last instant of its span.
    pub last: Nanos,
    /// Bytes of the file.
    pub bytes: u64,
    /// Points in it; a histogram is one.
    pub points: u64,
    /// Blocks in it, those of histograms' parts too.
    pub blocks: u64,
    /// Its first and last point.
    pub held: Option<(Nanos, Nanos)>,
}

/// Sizes of files. Reading them opens no file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StoredBytes {
    /// Catalogue and records.
    pub catalogue: u64,
    /// Journal files, with those that are held for readers of the feed.
    pub journal: u64,
    /// Each dataset.
    pub datasets: Vec<DatasetBytes>,
}

/// Bytes of a dataset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatasetBytes {
    /// Its id.
    pub id: DatasetId,
    /// Its name.
    pub name: String,
    /// Packed points.
    pub points: u64,
    /// Rollups.
    pub rollups: u64,
    /// Deleted data.
    pub bin: u64,
}

/// Sizes of files, without opening one.
pub fn bytes(store: &Engine) -> Result<StoredBytes, StoreError> {
    let of = |dataset: &Dataset| (dataset.id, dataset.name.to_string(), dataset.folder.to_string());
    let names: Vec<(DatasetId, String, String)> = store.catalogue.read().datasets().map(of).collect();
    let binned = bin::list(store)?;
    let of_dataset = |(id, name, folder): (DatasetId, String, String)| DatasetBytes {
        id,
        name,
        points: store.partitions_of(id, TimeRange::ALL).iter().map(|partition| bytes_on_disk(partition.path())).sum(),
        rollups: folder_bytes(&store.files.rollups(&folder)),
        bin: binned.iter().filter(|item| item.dataset_id == id && item.kind != BinItemKind::Metric).map(|item| bin::bytes(store, &item.id)).sum(),
    };
    Ok(StoredBytes {
        catalogue: bytes_on_disk(&store.files.catalogue()) + bytes_on_disk(&store.files.access()),
        journal: journal::files(&store.files.journals())?.iter().map(|(_, path)| bytes_on_disk(path)).sum::<u64>() + held::bytes(store)?,
        datasets: names.into_iter().map(of_dataset).collect(),
    })
}

/// Sizes of everything.
pub fn report(store: &Engine, now: Nanos) -> Result<StorageReport, StoreError> {
    let all = bytes(store)?;
    let snapshot = store.snapshot();
    let mut datasets = Vec::with_capacity(all.datasets.len());
    for DatasetBytes { id, name, rollups, bin, .. } in all.datasets {
        let mut partitions = Vec::new();
        for partition in store.partitions_of(id, TimeRange::ALL).iter() {
            let counts = store.unless_damaged(partition, packed_counts(partition, &snapshot))?.unwrap_or_default();
            partitions.push(PartitionSize {
                path: partition.path().to_owned(),
                start: partition.span.start,
                last: partition.span.last(),
                bytes: bytes_on_disk(partition.path()),
                points: counts.iter().filter(|(series, _)| series.is_whole()).map(|(_, count)| count.points).sum(),
                blocks: counts.iter().map(|(_, count)| count.blocks).sum(),
                held: counts.iter().map(|(_, count)| (count.first, count.last)).reduce(|(a, b), (first, last)| (a.min(first), b.max(last))),
            });
        }
        let [day, week, month] = [1, 7, 30].map(|days| store.definitions.written(id, days));
        datasets.push(DatasetSize {
            levels: store.rollups.of(store, id)?.map_or(Ok(Vec::new()), |rollups| rollups.sizes(store.now()))?,
            rollup_bytes: rollups,
            bin_bytes: bin,
            written: [day?, week?, month?],
            growth: growth(&partitions, now),
            oldest: partitions.iter().filter_map(|partition| partition.held).map(|(first, _)| first).min(),
            name,
            id,
            partitions,
        });
    }
    Ok(StorageReport {
        root: store.files.root().to_owned(),
        catalogue_bytes: all.catalogue,
        bin_bytes: folder_bytes(&store.files.root().join("bin")),
        journal: JournalSize { bytes: all.journal, points: store.head.read().points() as u64 },
        datasets,
        faults: store.faults().into_iter().chain(store.inventory.describe(&store.files)).collect(),
    })
}

/// Bytes of a partition's series, kept until it changes.
fn sizes(partition: &Partition) -> Result<Arc<SeriesSizes>, StoreError> {
    let version = partition.version();
    if let Some((known, sizes)) = &*partition.sizes.lock()
        && *known == version
    {
        return Ok(Arc::clone(sizes));
    }
    let sizes = Arc::new(partition.read(|reading| reading.sizes())?);
    if partition.version() == version {
        *partition.sizes.lock() = Some((version, Arc::clone(&sizes)));
    }
    Ok(sizes)
}

/// What each series takes of a partition's file, and its first instant. Pages have ends that nothing fits into: each has its share of them.
pub fn shares(partition: &Partition) -> Result<Vec<(SeriesId, u64, Nanos)>, StoreError> {
    let sizes = sizes(partition)?;
    let blocks: u64 = sizes.iter().map(|(_, bytes, _)| bytes).sum();
    let scale = bytes_on_disk(partition.path()) as f64 / blocks.max(1) as f64;
    Ok(sizes.iter().map(|(series, bytes, first)| (*series, (*bytes as f64 * scale) as u64, *first)).collect())
}

const DAY: Nanos = 86_400 * SECOND;
/// Growth is measured over so many days of points.
const GROWTH_DAYS: i64 = 30;

/// How fast a dataset grew over the last thirty days of its points, or over as many as there are.
fn growth(partitions: &[PartitionSize], now: Nanos) -> Growth {
    let last = partitions.iter().filter_map(|partition| partition.held).map(|(_, last)| last.min(now)).max();
    let Some(last) = last else { return Growth::default() };
    let from = last.saturating_sub(GROWTH_DAYS * DAY);
    let (mut bytes, mut points, mut covered) = (0.0, 0.0, None);
    for partition in partitions {
        let Some((first, end)) = partition.held.map(|(first, end)| (first, end.min(last))).filter(|(first, end)| *end >= from && first <= end) else {
            continue;
        };
        let share = (end.saturating_sub(first.max(from)).max(1)) as f64 / (end.saturating_sub(first).max(1)) as f64;
        bytes += partition.bytes as f64 * share;
        points += partition.points as f64 * share;
        covered = Some(covered.map_or(first.max(from), |known: Nanos| known.min(first.max(from))));
    }
    // Less than an hour is too little to estimate a day.
    let over_days = covered.map_or(0.0, |first| last.saturating_sub(first).max(3_600 * SECOND) as f64 / DAY as f64);
    if over_days == 0.0 { Growth::default() } else { Growth { points_a_day: points / over_days, bytes_a_day: bytes / over_days, over_days } }
}

/// What takes how much.
#[derive(Clone, Debug)]
pub struct MetricSize {
    /// Of which dataset.
    pub dataset: String,
    /// Which; none for series that no metric has any more, such as those of one in the bin.
    pub metric: Option<String>,
    /// How many series.
    pub series: u64,
    /// Its points.
    pub points: u64,
    /// Its share of its partitions' files.
    pub bytes: u64,
    /// Its earliest point.
    pub first: Option<Nanos>,
}

/// What each metric takes of the partitions, the most first.
pub fn metrics(store: &Engine) -> Result<Vec<MetricSize>, StoreError> {
    let snapshot = store.snapshot();
    let mut all = Vec::new();
    let datasets: Vec<DatasetId> = store.catalogue.read().datasets().map(|dataset| dataset.id).collect();
    for id in datasets {
        let mut of_series: BTreeMap<SeriesId, (u64, u64, Nanos)> = BTreeMap::new();
        for partition in store.partitions_of(id, TimeRange::ALL).iter() {
            let read = packed_counts(partition, &snapshot).and_then(|counts| Ok((counts, shares(partition)?)));
            let Some((counts, shares)) = store.unless_damaged(partition, read)? else { continue };
            for (series, bytes, first) in shares {
                let known = of_series.entry(series).or_insert((0, 0, first));
                *known = (known.0 + bytes, known.1, known.2.min(first));
            }
            for (series, count) in counts.iter() {
                of_series.entry(*series).or_insert((0, 0, count.first)).1 += count.points;
            }
        }
        let catalogue = store.catalogue.read();
        let Some(dataset) = catalogue.dataset_by_id(id) else { continue };
        let name = dataset.name.to_string();
        for metric in dataset.metrics() {
            let mut size = MetricSize {
                dataset: name.clone(),
                metric: Some(metric.name.to_string()),
                series: metric.series_count(),
                points: 0,
                bytes: 0,
                first: None,
            };
            for series in dataset.series_with_parts(metric) {
                if let Some((bytes, points, first)) = of_series.remove(&series) {
                    size.bytes += bytes;
                    size.points += if series.is_whole() { points } else { 0 };
                    size.first = Some(size.first.map_or(first, |known: Nanos| known.min(first)));
                }
            }
            all.push(size);
        }
        if !of_series.is_empty() {
            let bytes = of_series.values().map(|(bytes, ..)| bytes).sum();
            let points = of_series.iter().filter(|(series, _)| series.is_whole()).map(|(_, (_, points, _))| points).sum();
            all.push(MetricSize { dataset: name, metric: None, series: of_series.len() as u64, points, bytes, first: None });
        }
    }
    all.sort_by_key(|size| std::cmp::Reverse(size.bytes));
    Ok(all)
}
