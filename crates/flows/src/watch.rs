//! Detects series of a source that are in trouble.
//!
//! A series is *stale* if it has had no point for some time, and *stuck* if its value stays the same while other series change. Its *clock is off*
//! if the time of its latest point differs too much from the time of arrival. The limits come from the definition of the source.

use std::{collections::HashMap, mem};

use fenetre_core::{
    catalogue::Dataset,
    model::{Kind, SeriesId},
    time::{Nanos, SECOND, format_utc},
};
use fenetre_store::{Document, DocumentKind, Store, StoreError, Stretch};
use fenetre_wire::sources::{SeriesTrouble, Trouble};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

/// Maximum number of watched series of one source.
const MAX_SERIES: usize = 100_000;
/// A series that has been stale for this long is removed.
const FORGOTTEN: Nanos = 7 * 24 * 3_600 * SECOND;
/// Minimum time between two writes of the list of series.
const BETWEEN_SAVES: Nanos = 60 * SECOND;

/// Limits of the series of a source, in nanoseconds; without a limit, that trouble is not reported.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Expected {
    /// Maximum time between two points.
    pub point_every: Option<Nanos>,
    /// Maximum time without a change of the value, if other series change.
    pub change_every: Option<Nanos>,
    /// Maximum difference between the time of the latest point and the time of its arrival.
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
    /// Whether there are more series than the maximum.
    is_full: bool,
    /// Whether the list of series differs from the one in the store.
    has_changed: bool,
    /// Time of the latest write of the list.
    saved: Nanos,
}

/// The latest point of a series.
#[derive(Clone, Copy, Debug)]
struct Latest {
    arrival: Nanos,
    time: Nanos,
    value: f64,
    /// Arrival of the first point with this value.
    changed: Nanos,
}

/// A series in trouble.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Troubled {
    /// The series.
    pub series: SeriesId,
    /// The kind of trouble.
    pub trouble: Trouble,
    /// Arrival of the last point if it is stale; arrival of the last change if it is stuck; otherwise the time of its latest point.
    pub since: Nanos,
}

/// The series of a source at one moment.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WatchedSeries {
    /// Number of watched series.
    pub count: usize,
    /// Whether there are more, which are not watched.
    pub is_full: bool,
    /// The series in trouble, by kind of trouble.
    pub troubled: Vec<Troubled>,
}

impl WatchedSeries {
    /// Number of series with a kind of trouble.
    pub fn count_of(&self, trouble: Trouble) -> usize {
        self.troubled.iter().filter(|troubled| troubled.trouble == trouble).count()
    }
}

impl Troubled {
    /// The trouble as the API returns it.
    pub fn described(self, source: &str) -> SeriesTrouble {
        SeriesTrouble { source: source.to_owned(), trouble: self.trouble, since: format_utc(self.since) }
    }
}

impl SeriesWatch {
    /// A watch without series.
    pub fn new(expected: Expected) -> Self {
        Self { expected, seen: Mutex::default() }
    }

    /// Records points of a series that have arrived.
    pub fn note(&self, now: Nanos, stretch: &Stretch<'_>) {
        let Some(latest) = stretch.points.times.iter().zip(stretch.points.values).max_by_key(|(time, _)| **time) else { return };
        let mut seen = self.seen.lock();
        let is_full = seen.series.len() >= MAX_SERIES;
        match seen.series.get_mut(&stretch.series) {
            Some(known) => {
                let is_same = stretch.points.values.iter().all(|value| value.to_bits() == known.value.to_bits());
                let changed = if is_same { known.changed } else { now };
                *known = Latest { arrival: now, time: known.time.max(*latest.0), value: *latest.1, changed };
            }
            None if is_full => seen.is_full = true,
            None => {
                seen.has_changed = true;
                seen.series.insert(stretch.series, Latest { arrival: now, time: *latest.0, value: *latest.1, changed: now });
            }
        }
    }

    /// The series, and the series in trouble. Only gauges of `dataset` can be stuck: other values stay the same for good reasons.
    pub fn look(&self, now: Nanos, dataset: &Dataset) -> WatchedSeries {
        let Expected { point_every, change_every, clock_within } = self.expected;
        let mut seen = self.seen.lock();
        let before = seen.series.len();
        seen.series.retain(|_, latest| now - latest.arrival < FORGOTTEN.saturating_add(point_every.unwrap_or(0)));
        seen.has_changed |= seen.series.len() < before;
        let is_over = |since: Nanos, limit: Option<Nanos>| limit.is_some_and(|limit| now - since > limit);
        let is_stale = |latest: &Latest| is_over(latest.arrival, point_every);
        let others_change = seen.series.values().any(|latest| !is_over(latest.changed, change_every));
        let is_gauge = |series: SeriesId| {
            let metric = dataset.series(series).and_then(|series| dataset.metric(&series.metric));
            metric.is_some_and(|metric| metric.definition.kind == Kind::Gauge)
        };
        let of = |(series, latest): (&SeriesId, &Latest)| {
            let is_stuck = || others_change && is_over(latest.changed, change_every) && is_gauge(*series);
            let is_off = clock_within.is_some_and(|limit| (latest.arrival - latest.time).abs() > limit);
            let (trouble, since) = if is_stale(latest) {
                (Trouble::Stale, latest.arrival)
            } else if is_stuck() {
                (Trouble::Stuck, latest.changed)
            } else if is_off {
                (Trouble::ClockOff, latest.time)
            } else {
                return None;
            };
            Some(Troubled { series: *series, trouble, since })
        };
        let mut troubled: Vec<Troubled> = seen.series.iter().filter_map(of).collect();
        troubled.sort_unstable_by_key(|troubled| (troubled.trouble, troubled.series));
        WatchedSeries { count: seen.series.len(), is_full: seen.is_full, troubled }
    }

    /// Adds the series that the source had before a restart of the service. Their limits count from now.
    ///
    /// # Errors
    /// If they cannot be read.
    pub fn load(&self, store: &Store, source: &str, now: Nanos) -> Result<(), StoreError> {
        let Some(kept) = store.documents().get::<KeptSeries>(source)? else { return Ok(()) };
        let mut seen = self.seen.lock();
        for series in kept.body.series.into_iter().take(MAX_SERIES) {
            // No value is equal to it, so the first point is a change.
            seen.series.entry(SeriesId(series)).or_insert(Latest { arrival: now, time: now, value: f64::NAN, changed: now });
        }
        Ok(())
    }

    /// Writes the list of series if it has changed. Unless the source ends, it is written once per minute at most.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn save(&self, store: &Store, source: &str, now: Nanos, is_end: bool) -> Result<(), StoreError> {
        let kept = {
            let mut seen = self.seen.lock();
            if !seen.has_changed || !(is_end || now - seen.saved > BETWEEN_SAVES) {
                return Ok(());
            }
            (seen.has_changed, seen.saved) = (false, now);
            let mut series: Vec<u32> = seen.series.keys().map(|series| series.0).collect();
            series.sort_unstable();
            KeptSeries { series }
        };
        store.documents().put(source, &kept, now)
    }

    /// Takes over the series of another watch. Their limits count from now: a source that was paused had no points.
    pub fn take_over(&self, before: &Self, now: Nanos) {
        let mut seen = mem::take(&mut *before.seen.lock());
        seen.series.values_mut().for_each(|latest| (latest.arrival, latest.changed) = (now, now));
        *self.seen.lock() = seen;
    }
}

/// The list of series of a source, as a document of the store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeptSeries {
    /// Their ids, in ascending order.
    pub series: Vec<u32>,
}

impl Document for KeptSeries {
    const KIND: DocumentKind = DocumentKind::SourceSeries;
}

#[cfg(test)]
mod tests {
    use fenetre_core::{
        block::Points,
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
        watch.note(arrival * SECOND, &Stretch { series: SeriesId(series), points: Points { times: &[time * SECOND], values: &[value], rests: &[] } });
    }

    fn troubled(watch: &SeriesWatch, second: i64) -> Vec<(u32, &'static str, i64)> {
        let catalogue = catalogue();
        let watched = watch.look(second * SECOND, catalogue.dataset("velmar").unwrap());
        watched.troubled.into_iter().map(|troubled| (troubled.series.0, troubled.trouble.words(), troubled.since / SECOND)).collect()
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
        assert_eq!(troubled(&watch, 8 * 86_400), [], "a series that has been stale for a week is removed");
        assert!(watch.seen.lock().series.is_empty() && watch.seen.lock().has_changed, "from the list in the store, too");
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
        watch.note(
            201 * SECOND,
            &Stretch { series: SeriesId(2), points: Points { times: &[200 * SECOND, 201 * SECOND], values: &[8.0, 9.0], rests: &[] } },
        );
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

    #[test]
    fn a_long_limit_is_waited_for() {
        let month = 30 * 86_400;
        let watch = SeriesWatch::new(Expected { point_every: Some(month * SECOND), ..Expected::default() });
        point(&watch, 1, 0, 310.0);
        assert_eq!(troubled(&watch, month), []);
        assert_eq!(troubled(&watch, month + 86_400), [(1, "stale", 0)]);
    }

    #[test]
    fn limits_count_anew_after_a_pause() {
        let expected = Expected { point_every: Some(60 * SECOND), ..Expected::default() };
        let (before, after) = (SeriesWatch::new(expected), SeriesWatch::new(expected));
        point(&before, 1, 0, 310.0);
        after.take_over(&before, 3_600 * SECOND);
        assert_eq!(troubled(&after, 3_660), []);
        assert_eq!(troubled(&after, 3_661), [(1, "stale", 3_600)]);
    }
}
