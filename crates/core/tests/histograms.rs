//! Histograms against loops over their observations: how many there were, their mean, and quantiles that lie in the bucket where they must,
//! for deltas and for counts that go on growing and begin anew.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use fenetre_core::{
    block::Columns,
    catalogue::{Codes, Layout},
    model::{Kind, MetricDefinition, SeriesId, Temporality},
    time::{Nanos, SECOND, Span},
};
use proptest::prelude::*;
use support::{NOW, World};

const BOUNDS: [&[f64]; 2] = [&[10.0, 20.0, 50.0], &[5.0, 20.0, 40.0, 80.0]];

/// What a station tells in one minute: durations of lockages.
type Minute = Vec<f64>;

#[derive(Clone, Debug)]
struct Station {
    layout: usize,
    minutes: Vec<Minute>,
    /// Minutes at which its counts begin anew, where these go on growing.
    resets: Vec<usize>,
}

fn a_station() -> impl Strategy<Value = Station> {
    let minute = prop::collection::vec((1u32..400).prop_map(|tenths| f64::from(tenths) / 4.0), 0..5);
    (0usize..2, prop::collection::vec(minute, 1..30), prop::collection::vec(0usize..30, 0..3)).prop_map(|(layout, minutes, resets)| Station {
        layout,
        minutes,
        resets,
    })
}

fn bucket(bounds: &[f64], value: f64) -> usize {
    bounds.partition_point(|bound| *bound < value)
}

fn minute_at(minute: usize) -> Nanos {
    NOW - 3_600 * SECOND + minute as i64 * 60 * SECOND
}

fn world(stations: &[Station], temporality: Temporality) -> World {
    let mut world = World::new("UTC");
    world.metric("lockage", MetricDefinition { kind: Kind::Histogram, unit: Some("s".into()), temporality: Some(temporality), ..Default::default() });
    for (at, station) in stations.iter().enumerate() {
        let first_part = 1_000 + at as u32 * 100;
        let bounds = BOUNDS[station.layout];
        let codes = Codes::Layouts(vec![Layout { bounds: bounds.into(), first_part: SeriesId(first_part) }]);
        let (mut main, mut parts) = (Columns::default(), vec![Columns::default(); bounds.len() + 2]);
        let mut counts = vec![0.0; bounds.len() + 2];
        for (minute, observations) in station.minutes.iter().enumerate() {
            if temporality == Temporality::Delta || station.resets.contains(&minute) {
                counts.fill(0.0);
            }
            for value in observations {
                counts[bucket(bounds, *value)] += 1.0;
                counts[bounds.len() + 1] += value;
            }
            main.push(minute_at(minute), 0.0, 0);
            parts.iter_mut().zip(&counts).for_each(|(part, count)| part.push(minute_at(minute), *count, 0));
        }
        world.series(at as u32, "lockage", &[("lock", &format!("lock-{at}"))], Some(codes), main);
        for (part, columns) in parts.into_iter().enumerate() {
            world.points.insert(SeriesId(first_part + part as u32), columns);
        }
    }
    world
}

/// All observations of a span of minutes.
fn observed(stations: &[Station], minutes: std::ops::Range<usize>) -> Vec<f64> {
    stations.iter().flat_map(|station| station.minutes.iter().take(minutes.end).skip(minutes.start).flatten().copied()).collect()
}

const HOUR: &str = "over now - 1h to now";

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn deltas_are_counted_summed_and_ranked(stations in prop::collection::vec(a_station(), 1..4), share in 1u32..100) {
        let world = world(&stations, Temporality::Delta);
        let windows = 12;
        let growth = world.numbers(&format!("show growth of lockage overall {HOUR} per 5m"));
        let means = world.numbers(&format!("show mean of lockage overall {HOUR} per 5m"));
        let sums = world.numbers(&format!("show sum of lockage overall {HOUR} per 5m"));
        let rates = world.numbers(&format!("show rate of lockage overall {HOUR} per 5m"));
        let quantiles = world.numbers(&format!("show p{share} of lockage overall {HOUR} per 5m"));
        // The grid begins at a round five minutes, not at the hour's first.
        let first = (NOW - 3_600 * SECOND).rem_euclid(300 * SECOND) / (60 * SECOND);
        for window in 0..windows {
            let from = (window as i64 * 5 - first).max(0) as usize;
            let to = ((window as i64 + 1) * 5 - first).max(0) as usize;
            let all = observed(&stations, from..to);
            let rendered = stations.iter().any(|station| station.minutes.len() > from && from < to);
            prop_assert_eq!(growth[window], rendered.then_some(all.len() as f64));
            let sum: f64 = all.iter().sum();
            prop_assert!(!rendered || (sums[window].unwrap() - sum).abs() < 1e-6);
            prop_assert!(!rendered || (0.0..=1.0).contains(&rates[window].unwrap()));
            match means[window] {
                Some(mean) => prop_assert!((mean - sum / all.len() as f64).abs() < 1e-6),
                None => prop_assert!(all.is_empty()),
            }
            // No estimate is further away than the bucket of the true value is wide.
            let Some(found) = quantiles[window] else { prop_assert!(all.is_empty()); continue };
            let mut sorted = all.clone();
            sorted.sort_by(f64::total_cmp);
            let rank = ((f64::from(share) / 100.0 * sorted.len() as f64).ceil() as usize).clamp(1, sorted.len());
            let truth = sorted[rank - 1];
            let edges = |bounds: &[f64]| {
                let at = bucket(bounds, truth);
                (if at == 0 { 0.0 } else { bounds[at - 1] }, bounds.get(at).copied().unwrap_or(80.0))
            };
            let reach = stations.iter().map(|station| edges(BOUNDS[station.layout])).fold((f64::MAX, f64::MIN), |(low, high), (from, to)| (low.min(from), high.max(to)));
            prop_assert!(reach.0 - 1e-9 <= found && found <= reach.1 + 1e-9, "{} of {:?}: {} beside {:?}", share, sorted, found, reach);
        }
    }

    #[test]
    fn cumulative_and_delta_counts_agree(mut station in a_station(), silence in 2usize..40) {
        station.resets.clear();
        // Nothing is known of what the meter had counted before its first point.
        station.minutes.insert(0, Vec::new());
        let (deltas, growing) = (world(&[station.clone()], Temporality::Delta), world(&[station.clone()], Temporality::Cumulative));
        for reducer in ["growth", "sum", "mean", "p90", "rate"] {
            let text = format!("show {reducer} of lockage overall {HOUR}");
            let (one, other) = (deltas.numbers(&text)[0], growing.numbers(&text)[0]);
            let close = match (one, other) { (Some(a), Some(b)) => (a - b).abs() < 1e-6 * a.abs().max(1.0), (one, None) => one.is_none_or(|_| station.minutes.len() < 2), (None, Some(_)) => false };
            prop_assert!(close, "{}: {:?} {:?}", reducer, one, other);
        }
        // Windows add up, however the hour is cut.
        let whole = growing.numbers(&format!("show growth of lockage overall {HOUR}"))[0].unwrap_or(0.0);
        let parts: f64 = growing.numbers(&format!("show growth of lockage overall {HOUR} per {silence}m")).into_iter().flatten().sum();
        prop_assert!((whole - parts).abs() < 1e-6);
    }
}

#[test]
fn a_reset_counts_the_new_reading() {
    let minutes = vec![vec![], vec![4.0, 15.0], vec![15.0], vec![30.0]];
    let station = Station { layout: 0, minutes, resets: vec![3] };
    let world = world(&[station], Temporality::Cumulative);
    assert_eq!(world.numbers("show growth of lockage overall over now - 1h to now"), [Some(4.0)]);
}

#[test]
fn gaps_are_not_joined() {
    let mut world = World::new("UTC");
    let definition = MetricDefinition { kind: Kind::Counter, stale_after: Some(Span::exact(120 * SECOND)), ..Default::default() };
    world.metric("boats", definition);
    let mut points = Columns::default();
    for (minute, count) in [(0, 1.0), (1, 3.0), (30, 50.0), (31, 51.0)] {
        points.push(minute_at(minute), count, 0);
    }
    world.series(0, "boats", &[], None, points);
    // What came in the half hour of silence is not known: 2 before it, 1 after.
    assert_eq!(world.numbers("show growth of boats over now - 1h to now"), [Some(3.0)]);
    assert_eq!(world.numbers("show growth of boats over now - 1h to now per 30m").into_iter().flatten().sum::<f64>(), 3.0);
}
