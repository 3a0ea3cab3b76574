//! Quantiles that merge: counts in buckets whose bounds grow by a constant factor, so that any quantile is known within one percent of itself.
//!
//! Masson, Rim and Lee: DDSketch, a fast and fully-mergeable quantile sketch with relative-error guarantees, VLDB 2019. Negative values have
//! buckets of their own, and zero one.

use crate::block::{
    BlockError,
    bits::{Reader, put_signed, put_varint},
};

/// The greatest relative error of a value.
const ERROR: f64 = 0.01;
const FACTOR: f64 = (1.0 + ERROR) / (1.0 - ERROR);
/// Above the place of every bucket that a double can fall into, so that places of positive values are positive.
const OFFSET: i32 = 40_000;

/// Values of some points, as counts by bucket.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sketch {
    /// Buckets that hold any, in order of their values, and how many.
    buckets: Vec<(i32, u64)>,
}

fn bucket_of(value: f64) -> i32 {
    let place = |magnitude: f64| (magnitude.ln() / FACTOR.ln()).ceil() as i32 + OFFSET;
    if value > 0.0 {
        place(value)
    } else if value < 0.0 {
        -place(-value)
    } else {
        0
    }
}

/// The value that stands for a bucket: no value in it is further away than the error.
fn value_of(bucket: i32) -> f64 {
    if bucket == 0 {
        return 0.0;
    }
    let magnitude = (FACTOR.powi(bucket.abs() - OFFSET - 1) * (2.0 * FACTOR / (FACTOR + 1.0))).min(f64::MAX);
    magnitude.copysign(f64::from(bucket))
}

impl Sketch {
    /// Of nothing.
    pub const EMPTY: Self = Self { buckets: Vec::new() };

    /// Of some values, none of which is infinite or not a number.
    pub fn of(values: &[f64]) -> Self {
        let (mut places, mut last, mut bucket) = (Vec::with_capacity(values.len()), f64::NAN, 0);
        for value in values {
            // Sensors often say the same again.
            if *value != last {
                (last, bucket) = (*value, bucket_of(*value));
            }
            places.push(bucket);
        }
        places.sort_unstable();
        Self { buckets: places.chunk_by(|a, b| a == b).map(|same| (same[0], same.len() as u64)).collect() }
    }

    /// How many values.
    pub fn count(&self) -> u64 {
        self.buckets.iter().map(|(_, count)| count).sum()
    }

    /// Takes in other values.
    pub fn merge(&mut self, other: &Self) {
        if other.buckets.is_empty() {
            return;
        }
        let mut merged = Vec::with_capacity(self.buckets.len() + other.buckets.len());
        let (mut ours, mut theirs) = (self.buckets.iter().peekable(), other.buckets.iter().peekable());
        loop {
            merged.push(match (ours.peek(), theirs.peek()) {
                (Some(a), Some(b)) if a.0 == b.0 => (a.0, a.1 + b.1),
                (Some(a), Some(b)) if a.0 < b.0 => **a,
                (Some(a), None) => **a,
                (_, Some(b)) => **b,
                (None, None) => break,
            });
            let place = merged.last().map_or(0, |(place, _)| *place);
            ours.next_if(|(known, _)| *known == place);
            theirs.next_if(|(known, _)| *known == place);
        }
        self.buckets = merged;
    }

    /// The value that stands for the one of a rank, from 0.
    fn at_rank(&self, rank: u64) -> f64 {
        let mut below = 0;
        for (bucket, count) in &self.buckets {
            below += count;
            if below > rank {
                return value_of(*bucket);
            }
        }
        self.buckets.last().map_or(f64::NAN, |(bucket, _)| value_of(*bucket))
    }

    /// The value at `share` of the way from the least to the greatest, linear between closest ranks.
    pub fn quantile(&self, share: f64) -> f64 {
        let count = self.count();
        if count == 0 {
            return f64::NAN;
        }
        let rank = (count - 1) as f64 * share;
        let (low, part) = (self.at_rank(rank.floor() as u64), rank - rank.floor());
        if part == 0.0 { low } else { low + (self.at_rank(rank.floor() as u64 + 1) - low) * part }
    }

    /// The form at rest: how many buckets, then of each the step from the place before and its count.
    pub(super) fn put(&self, out: &mut Vec<u8>) {
        put_varint(out, self.buckets.len() as u64);
        let mut before = 0;
        for (bucket, count) in &self.buckets {
            put_signed(out, i64::from(bucket - before));
            put_varint(out, *count);
            before = *bucket;
        }
    }

    pub(super) fn take(reader: &mut Reader<'_>) -> Result<Self, BlockError> {
        const PART: &str = "sketch";
        let length = reader.varint(PART)?;
        // Each bucket has two bytes at least.
        if length > reader.len() as u64 / 2 {
            return Err(BlockError::Short(PART));
        }
        let (mut buckets, mut place) = (Vec::with_capacity(length as usize), 0i64);
        for at in 0..length {
            let step = reader.signed(PART)?;
            place = place.checked_add(step).ok_or(BlockError::Bounds(PART))?;
            let bucket = i32::try_from(place).ok().filter(|bucket| bucket.abs() < 2 * OFFSET && (at == 0 || step > 0));
            buckets.push((bucket.ok_or(BlockError::Bounds(PART))?, reader.varint(PART)?));
        }
        Ok(Self { buckets })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_quantile_is_within_a_percent(values in prop::collection::vec(prop_oneof![0.001f64..1e6, -1e6f64..-0.001, Just(0.0)], 1..200), share in 0.0f64..=1.0) {
            let sketch = Sketch::of(&values);
            let mut sorted = values.clone();
            sorted.sort_by(f64::total_cmp);
            let rank = (values.len() - 1) as f64 * share;
            let (low, high) = (sorted[rank.floor() as usize], sorted[rank.ceil() as usize]);
            let exact = low + (high - low) * rank.fract();
            // Between two ranks of different signs the error is one of theirs.
            let bound = ERROR * if low * high >= 0.0 { exact.abs() } else { low.abs().max(high.abs()) };
            prop_assert!((sketch.quantile(share) - exact).abs() <= bound * (1.0 + 1e-9) + 1e-12, "{} {}", sketch.quantile(share), exact);
        }

        #[test]
        fn parts_merge_to_the_whole_and_come_back(values in prop::collection::vec(-1e3f64..1e9, 0..100), cut in any::<prop::sample::Index>()) {
            let cut = cut.index(values.len() + 1);
            let mut merged = Sketch::of(&values[..cut]);
            merged.merge(&Sketch::of(&values[cut..]));
            prop_assert_eq!(&merged, &Sketch::of(&values));
            let mut bytes = Vec::new();
            merged.put(&mut bytes);
            prop_assert_eq!(Sketch::take(&mut Reader::new(&bytes)).unwrap(), merged);
            for cut in 0..bytes.len() { prop_assert!(Sketch::take(&mut Reader::new(&bytes[..cut])).is_err()); }
        }

        #[test]
        fn junk_never_panics(bytes in prop::collection::vec(any::<u8>(), 0..60)) {
            let _ = Sketch::take(&mut Reader::new(&bytes));
        }
    }

    #[test]
    fn the_ends_of_doubles_have_buckets() {
        for value in [f64::MAX, f64::MIN_POSITIVE, 5e-324, -f64::MAX, -5e-324, 0.0, -0.0] {
            let told = Sketch::of(&[value]).quantile(0.5);
            assert!((told - value).abs() <= ERROR * value.abs() * 1.001 || value.abs() < 1e-300, "{value} {told}");
        }
        assert!(Sketch::default().quantile(0.5).is_nan());
    }
}
