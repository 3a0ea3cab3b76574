//! Points in order of arrival.

use std::{cmp::Reverse, collections::BinaryHeap};

use fenetre_core::time::{Nanos, SECOND};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::{
    behaviour::{Moment, Reading},
    waterway::{SeriesPlan, series},
};

/// A point of the waterway.
pub struct DemoPoint<'g> {
    /// When it arrives.
    pub arrival: Nanos,
    /// When it was read.
    pub time: Nanos,
    /// Of which series.
    pub series: &'g SeriesPlan,
    /// What was read; never a silence.
    pub reading: Reading,
}

/// Makes the points of a waterway that began at an instant, from a seed.
pub struct Generator {
    origin: Nanos,
    series: Vec<SeriesPlan>,
    random: Vec<ChaCha8Rng>,
    /// Next arrival of each series, with the time of its reading.
    next: BinaryHeap<Reverse<(Nanos, usize, Nanos)>>,
}

impl Generator {
    /// A waterway that begins at `origin`, which should be the start of an hour.
    pub fn new(seed: u64, origin: Nanos) -> Self {
        let series = series();
        let random = (0..series.len() as u64).map(|index| ChaCha8Rng::seed_from_u64(seed.wrapping_mul(1_000_003) ^ index)).collect();
        let count = series.len() as i64;
        // Readings of one step are spread over it, so that something arrives every second.
        let first = |(index, plan): (usize, &SeriesPlan)| {
            let time = origin + (index as i64 * 7 % count) * (plan.step / SECOND) / count * SECOND;
            Reverse((time + plan.delay, index, time))
        };
        let next = series.iter().enumerate().map(first).collect();
        Self { origin, series, random, next }
    }

    /// The next point that arrives before `until`, silences left out.
    pub fn next_before(&mut self, until: Nanos) -> Option<DemoPoint<'_>> {
        loop {
            let Reverse((arrival, index, time)) = *self.next.peek()?;
            if arrival >= until {
                return None;
            }
            self.next.pop();
            let plan = &mut self.series[index];
            let (step, delay, jitter) = (plan.step, plan.delay, plan.jitter);
            self.next.push(Reverse((time + step + delay, index, time + step)));
            let random = &mut self.random[index];
            let wavered = if jitter > 0 { time + random.random_range(0..=2 * jitter) / 1_000_000 * 1_000_000 } else { time };
            let hour = (time.rem_euclid(86_400 * SECOND)) as f64 / (3_600 * SECOND) as f64;
            let moment = Moment { lock: plan.lock, series: index, second: (time - self.origin) as f64 / SECOND as f64, hour };
            let reading = plan.behaviour.read(&moment, random);
            if reading == Reading::Silence {
                continue;
            }
            return Some(DemoPoint { arrival, time: wavered, series: &self.series[index], reading });
        }
    }
}

/// The start of the hour that holds an instant.
pub fn hour_of(at: Nanos) -> Nanos {
    at - at.rem_euclid(3_600 * SECOND)
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use super::*;

    const ORIGIN: Nanos = 1_789_999_200 * SECOND;

    fn drawn(seed: u64, days: i64) -> Vec<(Nanos, String, Reading)> {
        let mut generator = Generator::new(seed, ORIGIN);
        let mut points = Vec::new();
        while let Some(point) = generator.next_before(ORIGIN + days * 86_400 * SECOND) {
            points.push((point.time, format!("{} {:?}", point.series.metric, point.series.tags), point.reading));
        }
        points
    }

    #[test]
    fn a_fortnight_has_two_million_points_in_180_series_with_every_anomaly() {
        let points = drawn(7, 14);
        let series: BTreeSet<&String> = points.iter().map(|point| &point.1).collect();
        assert!(points.len() >= 2_000_000, "{}", points.len());
        assert_eq!(series.len(), 180);
        let mut by_series: BTreeMap<&String, Vec<(Nanos, f64)>> = BTreeMap::new();
        for (time, name, value) in &points {
            if let Reading::Number(number) = value {
                by_series.entry(name).or_default().push((*time, *number));
            }
        }
        let pump = &by_series
            [&series.iter().find(|name| name.contains("pump_energy") && name.contains("harrow") && name.contains("p1")).unwrap().to_string()];
        assert_eq!(pump.windows(2).filter(|pair| pair[1].1 < pair[0].1).count(), 1, "one meter change");
        let quiet = &by_series[&series.iter().find(|name| name.contains("flow") && name.contains("marl")).unwrap().to_string()];
        assert!(quiet.windows(2).any(|pair| pair[1].0 - pair[0].0 > 5 * 3_600 * SECOND), "an outage");
        assert!(points.iter().any(|point| point.2 == Reading::Word("jammed")));
        assert!(points.windows(2).any(|pair| pair[1].0 < pair[0].0 - 600 * SECOND), "late points");
    }

    #[test]
    fn a_seed_always_generates_the_same_points() {
        let whole = drawn(7, 1);
        assert_eq!(whole, drawn(7, 1));
        assert_ne!(whole, drawn(8, 1));
        let mut generator = Generator::new(7, ORIGIN);
        let mut pieces = 0;
        for hour in 1..=24 {
            while generator.next_before(ORIGIN + hour * 3_600 * SECOND).is_some() {
                pieces += 1;
            }
        }
        assert_eq!(pieces, whole.len());
    }

    #[test]
    fn demo_points_arrive_every_few_seconds() {
        let mut seconds: Vec<i64> = drawn(7, 1).iter().map(|point| point.0 / SECOND).collect();
        seconds.sort_unstable();
        assert!(seconds.windows(2).all(|pair| pair[1] - pair[0] <= 2), "{:?}", seconds.windows(2).map(|pair| pair[1] - pair[0]).max());
    }
}
