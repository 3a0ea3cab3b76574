//! The series of a source: when each had a point last, and which of them are in trouble.
//!
//! A series is *stale* if it had no point for some time, *stuck* if its value stays the same while others change, and its *clock is off* if its
//! latest point is far from the time at which it arrived. What is expected of a source is in its definition.

use std::{collections::HashMap, mem};

use fenetre_core::{
    catalogue::Dataset,
    model::{Kind, SeriesId},
    time::{Nanos, SECOND},
};
use fenetre_store::{Document, DocumentKind, Store, StoreError, Stretch};
use fenetre_wire::sources::Trouble;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

/// Series of one source that are watched.
const MAX_SERIES: usize = 100_000;
/// A stale series is forgotten after this time.
const FORGOTTEN: Nanos = 7 * 24 * 3_600 * SECOND;
/// New series are kept in the store at most this often.
const BETWEEN_SAVES: Nanos = 60 * SECOND;

/// What is expected of the series of a source, in nanoseconds. Where nothing is set, nothing is expected.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Expected {
    /// A point at least this often.
    pub point_every: Option<Nanos>,
    /// Another value at least this often, if others change.
    pub change_every: Option<Nanos>,
    /// Time of the latest point and time of its arrival are at most so far apart.
    pub clock_within: Option<Nanos>,
}

/// The watched series of a source.
#[derive(Debug)]
pub struct SeriesWatch {
    expected: Expected,
    seen: Mutex<Seen>,
}

#[derive(Debug, Default)]
struct Seen {
    series: HashMap<SeriesId, Latest>,
    /// Series beyond the bound.
    is_full: bool,
    /// Whether there are series that are not in the store, and when they were last stored.
    has_new: bool,
    saved: Nanos,
}

/// The latest of a series.
#[derive(Clone, Copy, Debug)]
struct Latest {
    arrival: Nanos,
    time: Nanos,
    value: f64,
    /// Arrival of the first point with this value; none before the second point.
    changed: Option<Nanos>,
}

/// A series in trouble.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Troubled {
    /// The series.
    pub series: SeriesId,
    /// What is wrong.
    pub trouble: Trouble,
    /// Of a stale series the arrival of its last point, of a stuck one the arrival of its last change, otherwise the time of its latest point.
    pub since: Nanos,
}

impl SeriesWatch {
    /// Nothing was seen yet.
    pub fn new(expected: Expected) -> Self {
        Self { expected, seen: Mutex::default() }
    }

    /// Notes what arrived of a series.
    pub fn note(&self, now: Nanos, stretch: &Stretch<'_>) {
        let Some(latest) = stretch.times.iter().zip(stretch.values).max_by_key(|(time, _)| **time) else { return };
        let mut seen = self.seen.lock();
        let is_full = seen.series.len() >= MAX_SERIES;
        match seen.series.get_mut(&stretch.series) {
            Some(known) => {
                let is_same = stretch.values.iter().all(|value| value.to_bits() == known.value.to_bits());
                let changed = if is_same { known.changed } else { Some(now) };
                *known = Latest { arrival: now, time: known.time.max(*latest.0), value: *latest.1, changed: changed.or(Some(now)) };
            }
            None if is_full => seen.is_full = true,
            None => {
                seen.has_new = true;
                seen.series.insert(stretch.series, Latest { arrival: now, time: *latest.0, value: *latest.1, changed: Some(now) });
            }
        }
    }

    /// How many series are watched, and whether there are more.
    pub fn size(&self) -> (usize, bool) {
        let seen = self.seen.lock();
        (seen.series.len(), seen.is_full)
    }

    /// The series in trouble, in order. `dataset` says which of them are gauges: others may stay as they are.
    pub fn troubled(&self, now: Nanos, dataset: &Dataset) -> Vec<Troubled> {
        let Expected { point_every, change_every, clock_within } = self.expected;
        let mut seen = self.seen.lock();
        seen.series.retain(|_, latest| now - latest.arrival < FORGOTTEN);
        let is_over = |since: Nanos, limit: Option<Nanos>| limit.is_some_and(|limit| now - since > limit);
        let is_stale = |latest: &Latest| is_over(latest.arrival, point_every);
        let others_change = seen.series.values().any(|latest| latest.changed.is_some_and(|changed| !is_over(changed, change_every)));
        let is_gauge = |series: SeriesId| {
            let metric = dataset.series(series).and_then(|series| dataset.metric(&series.metric));
            metric.is_some_and(|metric| metric.definition.kind == Kind::Gauge)
        };
        let of = |(series, latest): (&SeriesId, &Latest)| {
            let is_stuck = || latest.changed.filter(|changed| others_change && is_over(*changed, change_every) && is_gauge(*series));
            let is_off = clock_within.is_some_and(|limit| (latest.arrival - latest.time).abs() > limit);
            let (trouble, since) = if is_stale(latest) {
                (Trouble::Stale, latest.arrival)
            } else if let Some(changed) = is_stuck() {
                (Trouble::Stuck, changed)
            } else if is_off {
                (Trouble::ClockOff, latest.time)
            } else {
                return None;
            };
            Some(Troubled { series: *series, trouble, since })
        };
        let mut troubled: Vec<Troubled> = seen.series.iter().filter_map(of).collect();
        troubled.sort_unstable_by_key(|troubled| (troubled.trouble, troubled.series));
        troubled
    }

    /// Continues with the series of the same source before a restart. From now on each has its time again.
    ///
    /// # Errors
    /// If they cannot be read.
    pub fn load(&self, store: &Store, source: &str, now: Nanos) -> Result<(), StoreError> {
        let Some(kept) = store.documents().get::<KeptSeries>(source)? else { return Ok(()) };
        let mut seen = self.seen.lock();
        for series in kept.body.series.into_iter().take(MAX_SERIES) {
            let latest = Latest { arrival: now, time: now, value: f64::NAN, changed: None };
            seen.series.entry(SeriesId(series)).or_insert(latest);
        }
        Ok(())
    }

    /// Stores which series there are, if some are new and it was some time ago. `now` at the end: at once.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn save(&self, store: &Store, source: &str, now: Nanos, is_end: bool) -> Result<(), StoreError> {
        let kept = {
            let mut seen = self.seen.lock();
            if !seen.has_new || !(is_end || now - seen.saved > BETWEEN_SAVES) {
                return Ok(());
            }
            (seen.has_new, seen.saved) = (false, now);
            let mut series: Vec<u32> = seen.series.keys().map(|series| series.0).collect();
            series.sort_unstable();
            KeptSeries { series }
        };
        store.documents().put(source, &kept, now)
    }

    /// Takes over what another watch has seen.
    pub fn take_over(&self, before: &Self) {
        *self.seen.lock() = mem::take(&mut *before.seen.lock());
    }
}

/// The series of a source, as the store has them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeptSeries {
    /// Their numbers, in order.
    pub series: Vec<u32>,
}

impl Document for KeptSeries {
    const KIND: DocumentKind = DocumentKind::SourceSeries;
}

#[cfg(test)]
mod tests {
    use fenetre_core::{
        catalogue::Catalogue,
        model::{DatasetDefinition, DatasetId, MetricDefinition, MetricId},
    };

    use super::*;

    /// A dataset with three series of a gauge, and one of a counter.
    fn catalogue() -> Catalogue {
        let mut catalogue = Catalogue::default();
        catalogue.put_dataset(DatasetId(1), "velmar", "d1", DatasetDefinition::default());
        let dataset = catalogue.dataset_mut("velmar").unwrap();
        for (id, (name, kind)) in (1..).zip([("level", Kind::Gauge), ("boats", Kind::Counter)]) {
            dataset.put_metric(MetricId(id), name, MetricDefinition { kind, ..MetricDefinition::default() });
        }
        for (id, (metric, lock)) in (1..).zip([("level", "osier"), ("level", "tansy"), ("level", "fallow"), ("boats", "osier")]) {
            dataset.put_series(SeriesId(id), metric, [("lock", lock)].into_iter(), None);
        }
        catalogue
    }

    fn point(watch: &SeriesWatch, series: u32, second: i64, value: f64) {
        point_of(watch, series, (second, second), value);
    }

    fn point_of(watch: &SeriesWatch, series: u32, (arrival, time): (i64, i64), value: f64) {
        watch.note(arrival * SECOND, &Stretch { series: SeriesId(series), times: &[time * SECOND], values: &[value] });
    }

    fn troubled(watch: &SeriesWatch, second: i64) -> Vec<(u32, &'static str, i64)> {
        let catalogue = catalogue();
        let troubled = watch.troubled(second * SECOND, catalogue.dataset("velmar").unwrap());
        troubled.into_iter().map(|troubled| (troubled.series.0, troubled.trouble.words(), troubled.since / SECOND)).collect()
    }

    #[test]
    fn a_series_without_points_is_stale_until_the_next_one() {
        let watch = SeriesWatch::new(Expected { point_every: Some(60 * SECOND), ..Expected::default() });
        point(&watch, 1, 0, 310.0);
        point(&watch, 2, 50, 310.0);
        assert_eq!(troubled(&watch, 60), []);
        assert_eq!(troubled(&watch, 61), [(1, "stale", 0)]);
        point(&watch, 1, 100, 310.0);
        assert_eq!(troubled(&watch, 120), [(2, "stale", 50)]);
        assert_eq!(troubled(&watch, 8 * 86_400), [], "what is gone for a week is forgotten");
        assert_eq!(watch.size(), (0, false));
    }

    #[test]
    fn a_gauge_is_stuck_only_while_others_change() {
        let watch = SeriesWatch::new(Expected { change_every: Some(30 * SECOND), ..Expected::default() });
        for second in 0..100 {
            point(&watch, 1, second, f64::from(u8::try_from(second).unwrap()));
            point(&watch, 2, second, if second < 10 { second as f64 } else { 9.0 });
            // A counter may rest.
            point(&watch, 4, second, 7.0);
        }
        assert_eq!(troubled(&watch, 100), [(2, "stuck", 9)]);
        // Without a change anywhere, the plant rests.
        (100..200).for_each(|second| (1..=2).for_each(|series| point(&watch, series, second, 9.0)));
        assert_eq!(troubled(&watch, 200), []);
        // A change within one batch counts, also if it ends with the same value.
        point(&watch, 1, 200, 8.0);
        watch.note(201 * SECOND, &Stretch { series: SeriesId(2), times: &[200 * SECOND, 201 * SECOND], values: &[8.0, 9.0] });
        assert_eq!(troubled(&watch, 202), []);
    }

    #[test]
    fn a_clock_is_judged_by_the_latest_point() {
        let watch = SeriesWatch::new(Expected { clock_within: Some(300 * SECOND), ..Expected::default() });
        point_of(&watch, 1, (10_000, 9_000), 1.0);
        point_of(&watch, 2, (10_000, 10_400), 1.0);
        point_of(&watch, 3, (10_000, 9_700), 1.0);
        assert_eq!(troubled(&watch, 10_000), [(1, "clock off", 9_000), (2, "clock off", 10_400)]);
        // After an outage points come late; the latest of them is on time.
        point_of(&watch, 1, (10_001, 10_000), 1.0);
        assert_eq!(troubled(&watch, 10_001), [(2, "clock off", 10_400)]);
    }
}
