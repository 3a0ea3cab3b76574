//! What is there and what it weighs.

use std::{collections::BTreeMap, path::PathBuf, sync::Arc};

use fenetre_core::{
    block::Columns,
    catalogue::{Codes, Dataset, FIRST_PART, Metric},
    keeping::Growth,
    model::{DatasetId, SeriesId, Value},
    summary::Summary,
    time::{Nanos, SECOND, TimeRange, format_utc},
};

use crate::{
    bin::{self, Noun},
    counts::{SeriesCount, SeriesCounts, SeriesSizes},
    error::StoreError,
    files::{bytes_on_disk, folder_bytes},
    head::Snapshot,
    journal,
    merge::shared,
    partition::{Partition, Reading},
    reading::{count_once, overlapping},
    shared::Shared,
};

/// The latest point of a series.
#[derive(Clone, Debug, PartialEq)]
pub struct Latest {
    /// When.
    pub time: Nanos,
    /// What.
    pub value: Value,
}

/// What the store takes on the disk, as the file system counts it.
#[derive(Clone, Debug)]
pub struct StorageReport {
    /// The store's directory.
    pub root: PathBuf,
    /// Bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// Acknowledged batches that are not packed yet.
    pub journal: JournalSize,
    /// Bytes of what is in the bin.
    pub bin_bytes: u64,
    /// Datasets, by name.
    pub datasets: Vec<DatasetSize>,
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

/// Points of every series of a dataset that has any.
pub fn counts(store: &Shared, dataset: DatasetId) -> Result<BTreeMap<SeriesId, SeriesCount>, StoreError> {
    let snapshot = store.snapshot();
    let in_memory = snapshot.series_of(dataset).into_iter().filter(is_whole_value);
    let fresh: Vec<(SeriesId, Columns)> = in_memory.map(|series| (series, snapshot.columns(series, TimeRange::ALL))).collect();
    let mut counts: BTreeMap<SeriesId, SeriesCount> = BTreeMap::new();
    let mut add = |series: SeriesId, count: &SeriesCount| {
        counts.entry(series).and_modify(|known| known.add(count)).or_insert(*count);
    };
    let mut stored_already = vec![0; fresh.len()];
    for partition in store.partitions_of(dataset, TimeRange::ALL) {
        packed_counts(&partition, &snapshot)?.iter().filter(|(series, _)| is_whole_value(series)).for_each(|(series, count)| add(*series, count));
        let near: Vec<usize> = (0..fresh.len()).filter(|at| reaches(&fresh[*at].1, &partition)).collect();
        if !near.is_empty() {
            partition.read(|reading| {
                for at in near {
                    stored_already[at] += count_shared(reading, &snapshot, &fresh[at])?;
                }
                Ok(())
            })?;
        }
    }
    for ((series, columns), twice) in fresh.iter().zip(stored_already) {
        let (Some(&first), Some(&last)) = (columns.times.first(), columns.times.last()) else { continue };
        add(*series, &SeriesCount { points: (columns.len() - twice) as u64, blocks: 0, first, last });
    }
    Ok(counts)
}

/// Whether a series is one that people know, whose points are counted, and no part of a histogram.
fn is_whole_value(series: &SeriesId) -> bool {
    series.0 < FIRST_PART
}

fn reaches(fresh: &Columns, partition: &Partition) -> bool {
    let ends = fresh.times.first().zip(fresh.times.last());
    ends.is_some_and(|(first, last)| *first <= partition.span.last() && partition.span.start <= *last)
}

/// How many instants of a series in memory are in a partition too.
fn count_shared(reading: &Reading<'_>, snapshot: &Snapshot, (series, fresh): &(SeriesId, Columns)) -> Result<usize, StoreError> {
    let (Some(&start), Some(&last)) = (fresh.times.first(), fresh.times.last()) else { return Ok(0) };
    let range = TimeRange { start, end: last.saturating_add(1) };
    let mut instants = Columns::default();
    for place in reading.places(*series, range, snapshot.visible_before)? {
        reading.decode(*series, &place, &mut instants)?;
    }
    // Blocks that overlap may hold an instant twice.
    instants.times.sort_unstable();
    instants.times.dedup();
    Ok(shared(&fresh.times, &instants.times))
}

/// Counts of a partition's series, kept until it changes.
fn packed_counts(partition: &Partition, snapshot: &Snapshot) -> Result<Arc<SeriesCounts>, StoreError> {
    let version = partition.version();
    if let Some((known, counts)) = &*partition.counts.lock()
        && *known == version
    {
        return Ok(Arc::clone(counts));
    }
    let (counts, is_whole) = partition.read(|reading| {
        let mut counts = SeriesCounts::new();
        reading.all_places(snapshot.visible_before, |series, places| {
            let points = overlapping(places).map(|group| count_once(reading, series, group)).sum::<Result<u64, _>>()?;
            let (first, last) = places.iter().fold((Nanos::MAX, Nanos::MIN), |(first, last), place| (first.min(place.start), last.max(place.end)));
            counts.push((series, SeriesCount { points, blocks: places.len() as u64, first, last }));
            Ok(())
        })?;
        Ok((Arc::new(counts), reading.progress()?.packed < snapshot.visible_before))
    })?;
    // What was committed while it was counted, or cannot be seen yet, would be missing the next time.
    if is_whole && partition.version() == version {
        *partition.counts.lock() = Some((version, Arc::clone(&counts)));
    }
    Ok(counts)
}

/// Bytes of a partition's series, kept until it changes.
pub fn sizes(partition: &Partition) -> Result<Arc<SeriesSizes>, StoreError> {
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

/// The latest point of a series, if it has any.
pub fn latest(store: &Shared, dataset: &Dataset, series: SeriesId) -> Result<Option<Latest>, StoreError> {
    let snapshot = store.snapshot();
    let fresh = snapshot.columns(series, TimeRange::ALL);
    let mut found = fresh.times.last().map(|time| (*time, fresh.values[fresh.len() - 1], fresh.points().rest(fresh.len() - 1)));
    for partition in store.partitions_of(dataset.id, TimeRange::ALL).iter().rev() {
        if found.is_some_and(|(time, _, _)| time > partition.span.last()) {
            break;
        }
        let last = partition.read(|reading| {
            let places = reading.places(series, TimeRange::ALL, snapshot.visible_before)?;
            let last = places.iter().max_by_key(|place| (place.end, place.generation, place.id));
            last.map(|place| reading.summary(place)).transpose()
        })?;
        if let Some(summary) = last {
            if found.is_none_or(|(time, _, _)| time < summary.last.time) {
                found = Some((summary.last.time, summary.last.value, summary.last.rest));
            }
            break;
        }
    }
    let Some(((time, number, rest), series)) = found.zip(dataset.series(series)) else { return Ok(None) };
    let value = match series.codes.as_deref() {
        None => Value::of_number(number, rest),
        Some(Codes::Words(words)) => words.get(number as usize).map_or(Value::Number(number), |word| Value::Word(Arc::clone(word))),
        Some(Codes::Layouts(layouts)) => match layouts.get(number as usize) {
            Some(layout) => {
                let part = |id| value_at(store, &snapshot, dataset.id, id, time);
                Value::Histogram(Arc::new(layout.histogram(&layout.parts().map(part).collect::<Result<Vec<_>, _>>()?)))
            }
            None => Value::Number(number),
        },
    };
    Ok(Some(Latest { time, value }))
}

/// What a series says at an instant at which it has a point.
fn value_at(store: &Shared, snapshot: &Snapshot, dataset: DatasetId, series: SeriesId, time: Nanos) -> Result<(f64, i16), StoreError> {
    let range = TimeRange { start: time, end: time.saturating_add(1) };
    let mut columns = snapshot.columns(series, range);
    for partition in store.partitions_of(dataset, range) {
        if !columns.is_empty() {
            break;
        }
        partition.read(|reading| {
            // The latest generation last.
            let mut places = reading.places(series, range, snapshot.visible_before)?;
            places.sort_by_key(|place| place.generation);
            for place in places.iter().rev() {
                let mut block = Columns::default();
                reading.decode(series, place, &mut block)?;
                let points = block.points();
                columns = points.slice(points.places_in(range)).to_columns();
                if !columns.is_empty() {
                    break;
                }
            }
            Ok(())
        })?;
    }
    Ok(columns.values.first().map_or((0.0, 0), |value| (*value, columns.points().rest(0))))
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
    // Less than an hour says nothing of a day.
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
pub fn metrics(store: &Shared) -> Result<Vec<MetricSize>, StoreError> {
    let snapshot = store.snapshot();
    let mut all = Vec::new();
    let datasets: Vec<DatasetId> = store.catalogue.read().datasets().map(|dataset| dataset.id).collect();
    for id in datasets {
        let mut of_series: BTreeMap<SeriesId, (u64, u64, Nanos)> = BTreeMap::new();
        for partition in store.partitions_of(id, TimeRange::ALL) {
            let (sizes, counts) = (sizes(&partition)?, packed_counts(&partition, &snapshot)?);
            let blocks: u64 = sizes.iter().map(|(_, bytes, _)| bytes).sum();
            // Pages have ends that nothing fits into: each has its share of them.
            let scale = bytes_on_disk(partition.path()) as f64 / blocks.max(1) as f64;
            for (series, bytes, first) in sizes.iter() {
                let known = of_series.entry(*series).or_insert((0, 0, *first));
                *known = (known.0 + (*bytes as f64 * scale) as u64, known.1, known.2.min(*first));
            }
            for (series, count) in counts.iter() {
                of_series.entry(*series).or_insert((0, 0, count.first)).1 += count.points;
            }
        }
        let catalogue = store.catalogue.read();
        let Some(dataset) = catalogue.datasets().find(|dataset| dataset.id == id) else { continue };
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
            for series in crate::expiry::with_parts(dataset, metric) {
                if let Some((bytes, points, first)) = of_series.remove(&series) {
                    size.bytes += bytes;
                    size.points += if is_whole_value(&series) { points } else { 0 };
                    size.first = Some(size.first.map_or(first, |known: Nanos| known.min(first)));
                }
            }
            all.push(size);
        }
        if !of_series.is_empty() {
            let bytes = of_series.values().map(|(bytes, ..)| bytes).sum();
            let points = of_series.iter().filter(|(series, _)| is_whole_value(series)).map(|(_, (_, points, _))| points).sum();
            all.push(MetricSize { dataset: name, metric: None, series: of_series.len() as u64, points, bytes, first: None });
        }
    }
    all.sort_by_key(|size| std::cmp::Reverse(size.bytes));
    Ok(all)
}

/// Names of the metrics that have points in the partitions of a range.
pub fn metrics_in(store: &Shared, dataset: DatasetId, range: TimeRange) -> Result<Vec<String>, StoreError> {
    let mut there = roaring::RoaringBitmap::new();
    let snapshot = store.snapshot();
    for partition in store.partitions_of(dataset, range) {
        there.extend(packed_counts(&partition, &snapshot)?.iter().map(|(series, _)| series.0));
    }
    let catalogue = store.catalogue.read();
    let Some(dataset) = catalogue.datasets().find(|known| known.id == dataset) else { return Ok(Vec::new()) };
    let has_any = |metric: &&Metric| metric.series().any(|series| there.contains(series.0));
    Ok(dataset.metrics().filter(has_any).map(|metric| format!("{}::{}", dataset.name, metric.name)).collect())
}

/// What a look at every block of a partition found.
#[derive(Clone, Debug, Default)]
pub struct Verified {
    /// Blocks that were looked at.
    pub blocks: u64,
    /// Points in them.
    pub points: u64,
    /// What is wrong, a sentence each; the first hundred.
    pub faults: Vec<String>,
    /// How many there are.
    pub faulty: u64,
}

const TOLD_FAULTS: usize = 100;

/// Decodes every block of a partition, and compares what its summary and its row say with its points.
pub fn verify(store: &Shared, dataset: DatasetId, partition: &Partition) -> Result<Verified, StoreError> {
    let is_counter = store.counters(dataset);
    let mut found = Verified::default();
    let name = partition.path().display();
    partition.read(|reading| {
        reading.all_places(u64::MAX >> 1, |series, places| {
            for place in places {
                let mut points = Columns::default();
                found.blocks += 1;
                let fault = match (reading.decode(series, place, &mut points), reading.summary(place)) {
                    (Err(error), _) | (_, Err(error)) => Some(error.to_string()),
                    (Ok(()), Ok(told)) => {
                        found.points += points.len() as u64;
                        let made = if is_counter(series) && told.growth.is_some() {
                            Summary::of_counter(points.points())
                        } else {
                            Summary::of(points.points())
                        };
                        let agrees = made.is_some_and(|made| agree(&made, &told)) && place.count == points.len() as u64;
                        (!agrees).then(|| {
                            format!(
                                "{name}: the block of series {} from {}: its summary is not that of its points",
                                series.0,
                                format_utc(place.start)
                            )
                        })
                    }
                };
                if let Some(fault) = fault {
                    found.faulty += 1;
                    if found.faults.len() < TOLD_FAULTS {
                        found.faults.push(fault);
                    }
                }
            }
            Ok(())
        })
    })?;
    Ok(found)
}

/// Whether two summaries say the same, but for the last digits of sums.
fn agree(a: &Summary, b: &Summary) -> bool {
    let close = |a: f64, b: f64| a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0);
    let growth = match (a.growth, b.growth) {
        (Some(a), Some(b)) => close(a, b),
        (_, None) => true,
        (None, Some(_)) => true,
    };
    let same = |a: f64, b: f64| a == b || (a.is_nan() && b.is_nan());
    close(a.sum, b.sum)
        && growth
        && a.count == b.count
        && same(a.min, b.min)
        && same(a.max, b.max)
        && a.first.time == b.first.time
        && a.last.time == b.last.time
        && same(a.first.value, b.first.value)
        && same(a.last.value, b.last.value)
}

/// Sizes of everything.
pub fn report(store: &Shared, now: Nanos) -> Result<StorageReport, StoreError> {
    let journals = journal::files(&store.files.journals())?;
    let of = |dataset: &Dataset| (dataset.id, dataset.name.to_string(), dataset.folder.to_string());
    let names: Vec<(DatasetId, String, String)> = store.catalogue.read().datasets().map(of).collect();
    let snapshot = store.snapshot();
    let mut datasets = Vec::with_capacity(names.len());
    for (id, name, folder) in names {
        let mut partitions = Vec::new();
        for partition in store.partitions_of(id, TimeRange::ALL) {
            let counts = packed_counts(&partition, &snapshot)?;
            partitions.push(PartitionSize {
                path: partition.path().to_owned(),
                start: partition.span.start,
                last: partition.span.last(),
                bytes: bytes_on_disk(partition.path()),
                points: counts.iter().filter(|(series, _)| is_whole_value(series)).map(|(_, count)| count.points).sum(),
                blocks: counts.iter().map(|(_, count)| count.blocks).sum(),
                held: counts.iter().map(|(_, count)| (count.first, count.last)).reduce(|(a, b), (first, last)| (a.min(first), b.max(last))),
            });
        }
        let binned = bin::list(store)?;
        let in_bin = binned.iter().filter(|item| item.dataset_id == id && item.noun != Noun::Metric);
        let [day, week, month] = [1, 7, 30].map(|days| store.definitions.written(id, days));
        datasets.push(DatasetSize {
            rollup_bytes: folder_bytes(&store.files.rollups(&folder)),
            bin_bytes: in_bin.map(|item| bin::bytes(store, &item.id)).sum(),
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
        catalogue_bytes: bytes_on_disk(&store.files.catalogue()),
        bin_bytes: folder_bytes(&store.files.root().join("bin")),
        journal: JournalSize { bytes: journals.iter().map(|(_, path)| bytes_on_disk(path)).sum(), points: store.head.read().points() as u64 },
        datasets,
    })
}
