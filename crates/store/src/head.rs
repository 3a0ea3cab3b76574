//! Acknowledged points that are not packed yet, in memory: an append buffer a series.

use std::{collections::HashMap, sync::Arc};

use fenetre_core::{
    block::Columns,
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};

use crate::merge::{in_order, merge};

/// A stretch of points of one series, as it travels from a batch through the journal to the head.
#[derive(Clone, Debug, PartialEq)]
pub struct Stretch {
    pub series: SeriesId,
    pub times: Vec<Nanos>,
    pub values: Vec<f64>,
}

/// Buffers of one generation.
#[derive(Debug, Default)]
pub struct Buffers {
    by_series: HashMap<SeriesId, Buffer>,
    points: usize,
}

#[derive(Debug)]
struct Buffer {
    dataset: DatasetId,
    times: Vec<Nanos>,
    values: Vec<f64>,
    /// Whether times only ascend, so that a range can be found by halving.
    ascending: bool,
}

impl Buffers {
    pub fn points(&self) -> usize {
        self.points
    }

    pub fn append(&mut self, dataset: DatasetId, stretch: &Stretch) {
        let buffer =
            self.by_series.entry(stretch.series).or_insert_with(|| Buffer { dataset, times: Vec::new(), values: Vec::new(), ascending: true });
        let mut last = buffer.times.last().copied();
        for time in &stretch.times {
            buffer.ascending &= last.is_none_or(|last| last < *time);
            last = Some(*time);
        }
        buffer.times.extend_from_slice(&stretch.times);
        buffer.values.extend_from_slice(&stretch.values);
        self.points += stretch.times.len();
    }

    /// The points of a series inside a range, in order.
    pub fn columns(&self, series: SeriesId, range: TimeRange) -> Columns {
        self.by_series.get(&series).map_or_else(Columns::default, |buffer| buffer.columns(range))
    }

    /// Each series with all its points in order, by dataset and series.
    pub fn all(&self) -> Vec<(DatasetId, SeriesId, Columns)> {
        let mut all: Vec<_> =
            self.by_series.iter().map(|(series, buffer)| (buffer.dataset, *series, in_order(&buffer.times, &buffer.values))).collect();
        all.sort_by_key(|(dataset, series, _)| (*dataset, *series));
        all
    }

    fn series_of(&self, dataset: DatasetId) -> impl Iterator<Item = SeriesId> + '_ {
        self.by_series.iter().filter(move |(_, buffer)| buffer.dataset == dataset).map(|(series, _)| *series)
    }
}

impl Buffer {
    fn columns(&self, range: TimeRange) -> Columns {
        if self.ascending {
            let start = self.times.partition_point(|at| *at < range.start);
            let end = self.times.partition_point(|at| *at < range.end).max(start);
            return Columns { times: self.times[start..end].to_vec(), values: self.values[start..end].to_vec() };
        }
        let inside = self.times.iter().zip(&self.values).filter(|(at, _)| range.contains(**at));
        let (times, values): (Vec<Nanos>, Vec<f64>) = inside.map(|(at, value)| (*at, *value)).unzip();
        in_order(&times, &values)
    }
}

/// The buffers that grow, and those that are being packed.
#[derive(Debug, Default)]
pub struct Head {
    pub active: Buffers,
    pub frozen: Option<Arc<Buffers>>,
}

impl Head {
    /// Points in memory.
    pub fn points(&self) -> usize {
        self.active.points() + self.frozen.as_ref().map_or(0, |frozen| frozen.points())
    }

    /// The points of a series inside a range, in order, the later arrival winning.
    pub fn columns(&self, series: SeriesId, range: TimeRange) -> Columns {
        let active = self.active.columns(series, range);
        match &self.frozen {
            Some(frozen) => merge(&frozen.columns(series, range), &active),
            None => active,
        }
    }

    /// The series of a dataset that have points here.
    pub fn series_of(&self, dataset: DatasetId) -> Vec<SeriesId> {
        let frozen = self.frozen.iter().flat_map(|frozen| frozen.series_of(dataset));
        let mut series: Vec<SeriesId> = self.active.series_of(dataset).chain(frozen).collect();
        series.sort_unstable();
        series.dedup();
        series
    }

    /// Sets the growing buffers aside, to be packed.
    pub fn freeze(&mut self) -> Arc<Buffers> {
        let frozen = Arc::new(std::mem::take(&mut self.active));
        self.frozen = Some(Arc::clone(&frozen));
        frozen
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    const DATASET: DatasetId = DatasetId(1);

    fn stretch(series: u32, points: &[(Nanos, f64)]) -> Stretch {
        let (times, values) = points.iter().copied().unzip();
        Stretch { series: SeriesId(series), times, values }
    }

    fn points(columns: Columns) -> Vec<(Nanos, f64)> {
        columns.times.into_iter().zip(columns.values).collect()
    }

    proptest! {
        #[test]
        fn the_head_reads_as_a_map_whenever_it_is_frozen(
            stretches in prop::collection::vec((0u32..2, prop::collection::vec((0i64..40, 0f64..9.0), 1..10)), 1..12), freeze_at in 0usize..12, start in 0i64..40, length in 0i64..40,
        ) {
            let mut head = Head::default();
            let mut map: BTreeMap<(u32, Nanos), f64> = BTreeMap::new();
            for (i, (series, points)) in stretches.iter().enumerate() {
                if i == freeze_at {
                    head.freeze();
                }
                head.active.append(DATASET, &stretch(*series, points));
                map.extend(points.iter().map(|(at, value)| ((*series, *at), *value)));
            }
            let range = TimeRange { start, end: start + length };
            for series in 0..2 {
                let wanted: Vec<(Nanos, f64)> = map.iter().filter(|((of, at), _)| *of == series && range.contains(*at)).map(|((_, at), value)| (*at, *value)).collect();
                prop_assert_eq!(points(head.columns(SeriesId(series), range)), wanted);
            }
            let all: usize = stretches.iter().map(|(_, points)| points.len()).sum();
            prop_assert_eq!(head.points(), all);
        }
    }

    #[test]
    fn frozen_points_are_given_by_dataset_and_series_in_order() {
        let mut buffers = Buffers::default();
        buffers.append(DatasetId(2), &stretch(7, &[(3, 1.0), (1, 2.0)]));
        buffers.append(DATASET, &stretch(9, &[(5, 1.0)]));
        buffers.append(DATASET, &stretch(8, &[(5, 1.0), (5, 2.0)]));
        let all: Vec<_> = buffers.all().into_iter().map(|(dataset, series, columns)| (dataset.0, series.0, points(columns))).collect();
        assert_eq!(all, [(1, 8, vec![(5, 2.0)]), (1, 9, vec![(5, 1.0)]), (2, 7, vec![(1, 2.0), (3, 1.0)])]);
        let head = Head { active: buffers, frozen: None };
        assert_eq!(head.series_of(DATASET), [SeriesId(8), SeriesId(9)]);
    }
}
