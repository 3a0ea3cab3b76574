//! Points of each series: counts, and the latest.

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    block::Columns,
    catalogue::{Codes, Metric, Series},
    evaluate::{End, Source},
    model::{DatasetId, SeriesId, Value},
    summary::Sample,
    time::{Nanos, TimeRange},
};

use crate::{
    engine::Engine,
    error::StoreError,
    head::Snapshot,
    partition::{
        Partition, Reading,
        counts::{SeriesCount, SeriesCounts},
        merge::shared,
    },
    read::source::{StoreSource, count_once, overlapping},
};

/// The latest point of a series.
#[derive(Clone, Debug, PartialEq)]
pub struct Latest {
    /// When.
    pub time: Nanos,
    /// What.
    pub value: Value,
}

/// Points of every series of a dataset that has any.
pub fn counts(store: &Engine, dataset: DatasetId) -> Result<BTreeMap<SeriesId, SeriesCount>, StoreError> {
    let snapshot = store.snapshot();
    let in_memory = snapshot.series_of(dataset).into_iter().filter(|series| series.is_whole());
    let fresh: Vec<(SeriesId, Columns)> = in_memory.map(|series| (series, snapshot.columns(series, TimeRange::ALL))).collect();
    let mut counts: BTreeMap<SeriesId, SeriesCount> = BTreeMap::new();
    let mut add = |series: SeriesId, count: &SeriesCount| {
        counts.entry(series).and_modify(|known| known.add(count)).or_insert(*count);
    };
    let mut stored_already = vec![0; fresh.len()];
    for partition in store.partitions_of(dataset, TimeRange::ALL).iter() {
        let Some(packed) = store.unless_damaged(partition, packed_counts(partition, &snapshot))? else { continue };
        packed.iter().filter(|(series, _)| series.is_whole()).for_each(|(series, count)| add(*series, count));
        let near: Vec<usize> = (0..fresh.len()).filter(|at| reaches(&fresh[*at].1, partition)).collect();
        if !near.is_empty() {
            let counted = partition.read(|reading| {
                near.iter().map(|at| Ok((*at, count_shared(reading, &snapshot, &fresh[*at])?))).collect::<Result<Vec<_>, StoreError>>()
            });
            store.unless_damaged(partition, counted)?.into_iter().flatten().for_each(|(at, twice)| stored_already[at] += twice);
        }
    }
    for ((series, columns), twice) in fresh.iter().zip(stored_already) {
        let (Some(&first), Some(&last)) = (columns.times.first(), columns.times.last()) else { continue };
        add(*series, &SeriesCount { points: (columns.len() - twice) as u64, blocks: 0, first, last });
    }
    Ok(counts)
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
pub fn packed_counts(partition: &Partition, snapshot: &Snapshot) -> Result<Arc<SeriesCounts>, StoreError> {
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

/// The latest point of a series up to `now`, if there is one. Later points come from a wrong clock.
pub fn latest(store: &Engine, dataset: DatasetId, series: &Series, now: Nanos) -> Result<Option<Latest>, StoreError> {
    let source = StoreSource::new(store, store.snapshot());
    let range = TimeRange { start: Nanos::MIN, end: now.saturating_add(1) };
    let found = source.outermost(dataset, &[series.id], range, End::Latest);
    let found = found.map_err(|error| error.downcast::<StoreError>().map_or_else(|other| StoreError::Closed(other.to_string()), |error| *error))?;
    let Some(Sample { time, value: number, rest }) = found.into_iter().next().flatten() else { return Ok(None) };
    let value = match series.codes.as_deref() {
        None => Value::of_number(number, rest),
        Some(Codes::Words(words)) => words.get(number as usize).map_or(Value::Number(number), |word| Value::Word(Arc::clone(word))),
        Some(Codes::Layouts(layouts)) => match layouts.get(number as usize) {
            Some(layout) => {
                let part = |id| value_at(store, &source.snapshot, dataset, id, time);
                Value::Histogram(Arc::new(layout.histogram(&layout.parts().map(part).collect::<Result<Vec<_>, _>>()?)))
            }
            None => Value::Number(number),
        },
    };
    Ok(Some(Latest { time, value }))
}

/// What a series says at an instant at which it has a point.
fn value_at(store: &Engine, snapshot: &Snapshot, dataset: DatasetId, series: SeriesId, time: Nanos) -> Result<(f64, i16), StoreError> {
    let range = TimeRange { start: time, end: time.saturating_add(1) };
    let mut columns = snapshot.columns(series, range);
    for partition in store.partitions_of(dataset, range).iter() {
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

/// Names of the metrics that have points in the partitions of a range.
pub fn metrics_in(store: &Engine, dataset: DatasetId, range: TimeRange) -> Result<Vec<String>, StoreError> {
    let mut there = roaring::RoaringBitmap::new();
    let snapshot = store.snapshot();
    for partition in store.partitions_of(dataset, range).iter() {
        let packed = store.unless_damaged(partition, packed_counts(partition, &snapshot))?;
        there.extend(packed.iter().flat_map(|packed| packed.iter().map(|(series, _)| series.0)));
    }
    let catalogue = store.catalogue.read();
    let Some(dataset) = catalogue.dataset_by_id(dataset) else { return Ok(Vec::new()) };
    let has_any = |metric: &&Metric| metric.series().any(|series| there.contains(series.0));
    Ok(dataset.metrics().filter(has_any).map(|metric| format!("{}::{}", dataset.name, metric.name)).collect())
}
