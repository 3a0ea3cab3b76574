//! How long pieces of work took, as a histogram.

use std::{
    sync::atomic::{AtomicU64, Ordering},
    time::Duration,
};

/// Upper bounds of the buckets, in milliseconds. One more bucket takes what is longer.
const BOUNDS: [u64; 14] = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000, 30_000];

/// Counts by duration since the start of the process.
#[derive(Debug, Default)]
pub struct Durations {
    counts: [AtomicU64; BOUNDS.len() + 1],
    micros: AtomicU64,
}

/// The counts of a moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DurationCounts {
    /// Upper bounds of the buckets, and how many were at most as long: cumulative.
    pub buckets: Vec<(Duration, u64)>,
    /// How many there were.
    pub count: u64,
    /// Their sum.
    pub sum: Duration,
}

impl Durations {
    /// Counts one.
    pub fn count(&self, took: Duration) {
        let bucket = BOUNDS.iter().position(|bound| took <= Duration::from_millis(*bound)).unwrap_or(BOUNDS.len());
        self.counts[bucket].fetch_add(1, Ordering::Relaxed);
        self.micros.fetch_add(u64::try_from(took.as_micros()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    /// Runs some work, and counts it.
    pub fn measured<T>(&self, work: impl FnOnce() -> T) -> T {
        let begun = std::time::Instant::now();
        let done = work();
        self.count(begun.elapsed());
        done
    }

    /// The counts of this moment.
    pub fn counts(&self) -> DurationCounts {
        let mut count = 0;
        let mut up_to = |counted: &AtomicU64| {
            count += counted.load(Ordering::Relaxed);
            count
        };
        let buckets = BOUNDS.iter().zip(&self.counts).map(|(bound, counted)| (Duration::from_millis(*bound), up_to(counted))).collect();
        let count = up_to(&self.counts[BOUNDS.len()]);
        DurationCounts { buckets, count, sum: Duration::from_micros(self.micros.load(Ordering::Relaxed)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buckets_are_cumulative_and_their_bounds_belong_to_them() {
        let durations = Durations::default();
        for millis in [1, 2, 3, 30_000, 31_000] {
            durations.count(Duration::from_millis(millis));
        }
        let DurationCounts { buckets, count, sum } = durations.counts();
        let up_to = |millis| buckets.iter().find(|(bound, _)| *bound == Duration::from_millis(millis)).map(|(_, count)| *count);
        assert_eq!((up_to(1), up_to(2), up_to(5), up_to(10_000), up_to(30_000)), (Some(1), Some(2), Some(3), Some(3), Some(4)));
        assert_eq!((count, sum), (5, Duration::from_millis(61_006)));
    }
}
