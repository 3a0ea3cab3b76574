//! Quantiles that merge: counts in buckets whose bounds grow by a constant factor, so that any quantile is known within one percent of itself.
//!
//! Masson, Rim and Lee: DDSketch, a fast and fully-mergeable quantile sketch with relative-error guarantees, VLDB 2019. Negative values have
//! buckets of their own, and zero one.

use super::bit_codes::{BitReader, BitWriter};
use crate::block::{BlockError, bits::Reader};

/// The greatest relative error of a value.
const ERROR: f64 = 0.01;
const FACTOR: f64 = (1.0 + ERROR) / (1.0 - ERROR);
/// Above the place of every bucket that a double can fall into, so that places of positive values are positive.
const OFFSET: i32 = 40_000;
/// Values over so many buckets are counted bucket by bucket; others are sorted.
const MAX_COUNTED: usize = 64;
/// A value so near to a bound of buckets is looked at once more, since bounds are rounded.
const NEAR_BOUND: f64 = 1e-12;

/// Values of some points, as counts by bucket.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sketch {
    /// Buckets that hold any, in order of their values, and how many.
    buckets: Vec<(i32, u64)>,
}

fn bucket_of(value: f64) -> i32 {
    let place = |magnitude: f64| ((magnitude.ln() / FACTOR.ln()).ceil() as i32).saturating_add(OFFSET);
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
        if values.is_empty() {
            return Self::EMPTY;
        }
        let (low, high) = values.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(*value), high.max(*value)));
        let counted = if low > 0.0 {
            Self::counted(values, low, high)
        } else if high < 0.0 {
            // The buckets of negative values are those of their magnitudes, the other way round.
            let magnitudes: Vec<f64> = values.iter().map(|value| -value).collect();
            Self::counted(&magnitudes, -high, -low)
                .map(|sketch| Self { buckets: sketch.buckets.iter().rev().map(|(place, count)| (-place, *count)).collect() })
        } else {
            None
        };
        counted.unwrap_or_else(|| Self::sorted(values))
    }

    /// Of positive values that lie in few buckets: each is counted where the bounds of these say.
    fn counted(values: &[f64], low: f64, high: f64) -> Option<Self> {
        let (first, last) = (bucket_of(low), bucket_of(high));
        let more = usize::try_from(last.checked_sub(first)?).ok().filter(|more| *more < MAX_COUNTED)?;
        let mut bounds = [f64::INFINITY; MAX_COUNTED];
        let mut bound = (f64::from(first - OFFSET) * FACTOR.ln()).exp();
        for upper in &mut bounds[..more] {
            *upper = bound;
            bound *= FACTOR;
        }
        let mut counts = [0u64; MAX_COUNTED];
        let mut at = 0;
        for value in values {
            // Sensors say much the same again: the bucket is near the one before.
            while *value > bounds[at] {
                at += 1;
            }
            while at > 0 && *value <= bounds[at - 1] {
                at -= 1;
            }
            let is_near = |bound: f64| (value - bound).abs() <= bound * NEAR_BOUND;
            let place = if is_near(bounds[at]) || (at > 0 && is_near(bounds[at - 1])) { (bucket_of(*value) - first) as usize } else { at };
            *counts.get_mut(place)? += 1;
        }
        let held = counts.iter().enumerate().filter(|(_, count)| **count > 0);
        Some(Self { buckets: held.map(|(place, count)| (first + place as i32, *count)).collect() })
    }

    fn sorted(values: &[f64]) -> Self {
        let mut places: Vec<i32> = values.iter().map(|value| bucket_of(*value)).collect();
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

    /// The form at rest: how many buckets, the first one as the step from that of the least value, which is known beside it; then the steps from
    /// bucket to bucket, and the counts of all but the last, which follows from the count of all, known as well.
    pub(super) fn put(&self, least: f64, out: &mut BitWriter<'_>) {
        out.gamma(self.buckets.len() as u64 + 1);
        let Some((first, _)) = self.buckets.first() else { return };
        let step = i64::from(*first) - i64::from(bucket_of(least));
        out.gamma(((step << 1) ^ (step >> 63)).cast_unsigned() + 1);
        for pair in self.buckets.windows(2) {
            out.gamma(i64::from(pair[1].0 - pair[0].0).cast_unsigned());
        }
        let mut left = self.count();
        for (at, (_, count)) in self.buckets[..self.buckets.len() - 1].iter().enumerate() {
            out.scaled(count - 1, power_for(left, self.buckets.len() - at));
            left -= count;
        }
    }

    /// Reads what [`Sketch::put`] wrote of `total` values.
    pub(super) fn take(least: f64, total: u64, reader: &mut BitReader<'_>) -> Result<Self, BlockError> {
        let length = reader.gamma(PART)? - 1;
        // Each bucket but the first has two bits at least.
        if length > reader.len() as u64 || length > total {
            return Err(BlockError::Bounds(PART));
        }
        let length = length as usize;
        let mut buckets = Vec::with_capacity(length);
        let mut place = i64::from(bucket_of(least));
        for at in 0..length {
            let step = reader.gamma(PART)?;
            let step = if at == 0 { ((step - 1) >> 1).cast_signed() ^ -((step - 1) & 1).cast_signed() } else { step.cast_signed() };
            place = place.checked_add(step).ok_or(BlockError::Bounds(PART))?;
            buckets.push((checked_place(place)?, 0));
        }
        let mut left = total;
        for (at, (_, count)) in buckets.iter_mut().enumerate() {
            let others = (length - at - 1) as u64;
            *count = if others == 0 { left } else { reader.scaled(power_for(left, length - at), PART)?.saturating_add(1) };
            left = left.checked_sub(*count).filter(|left| *left >= others).ok_or(BlockError::Bounds(PART))?;
        }
        Ok(Self { buckets })
    }

    /// The form that it had in rows of version 1: how many buckets, then of each the step from the place before and its count.
    pub(super) fn take_of_version_1(reader: &mut Reader<'_>) -> Result<Self, BlockError> {
        let length = reader.varint(PART)?;
        // Each bucket has two bytes at least.
        if length > reader.len() as u64 / 2 {
            return Err(BlockError::Short(PART));
        }
        let (mut buckets, mut place, mut total) = (Vec::with_capacity(length as usize), 0i64, 0u64);
        for at in 0..length {
            let step = reader.signed(PART)?;
            place = place.checked_add(step).filter(|_| at == 0 || step > 0).ok_or(BlockError::Bounds(PART))?;
            let count = reader.varint(PART)?;
            total = total.checked_add(count).ok_or(BlockError::Bounds(PART))?;
            buckets.push((checked_place(place)?, count));
        }
        Ok(Self { buckets })
    }
}

const PART: &str = "sketch";

/// A bucket that a double can fall into.
fn checked_place(place: i64) -> Result<i32, BlockError> {
    i32::try_from(place).ok().filter(|place| place.unsigned_abs() < 2 * OFFSET.unsigned_abs()).ok_or(BlockError::Bounds(PART))
}

/// About how large the next count is, as a power of two, where so many values are left for so many buckets.
fn power_for(left: u64, buckets: usize) -> u32 {
    (left / buckets as u64).max(1).ilog2()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn a_quantile_is_accurate_within_one_percent(values in prop::collection::vec(prop_oneof![0.001f64..1e6, -1e6f64..-0.001, Just(0.0)], 1..200), share in 0.0f64..=1.0) {
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
        }

        #[test]
        fn sketches_round_trip_with_minimum_and_count(values in prop::collection::vec(prop_oneof![-1e3f64..1e3, 12.0f64..12.5, Just(0.0)], 0..200), off in 0.97f64..1.03) {
            let sketch = Sketch::of(&values);
            // Another machine may see the least value in the bucket beside.
            let least = values.iter().copied().fold(f64::INFINITY, f64::min) * off;
            let mut bytes = Vec::new();
            let mut writer = BitWriter::new(&mut bytes);
            sketch.put(least, &mut writer);
            writer.finish();
            let take = |bytes: &[u8], total: u64| Sketch::take(least, total, &mut BitReader::new(bytes));
            prop_assert_eq!(take(&bytes, values.len() as u64), Ok(sketch.clone()));
            if sketch.buckets.len() > 1 { prop_assert!(take(&bytes, sketch.buckets.len() as u64 - 1).is_err()); }
        }

        #[test]
        fn values_are_counted_where_each_belongs(values in prop::collection::vec(prop_oneof![1.0f64..1.5, 2.0f64..2.001], 1..100), sign in prop_oneof![Just(1.0), Just(-1.0)], scale in -300i32..300) {
            let values: Vec<f64> = values.into_iter().map(|value| sign * value * 10f64.powi(scale)).collect();
            prop_assert_eq!(Sketch::of(&values), Sketch::sorted(&values));
        }

        #[test]
        fn junk_never_panics(bytes in prop::collection::vec(any::<u8>(), 0..60), total in any::<u64>(), least in any::<f64>()) {
            let _ = Sketch::take_of_version_1(&mut Reader::new(&bytes));
            let _ = Sketch::take(least, total, &mut BitReader::new(&bytes));
        }
    }

    #[test]
    fn values_on_the_bounds_of_buckets_are_counted_where_they_belong() {
        for power in -50..50 {
            let bound = FACTOR.powi(power);
            let values = [bound * 0.999, bound.next_down(), bound, bound.next_up(), bound * (1.0 - 1e-12), bound * (1.0 + 1e-12), bound * 1.05];
            assert_eq!(Sketch::of(&values), Sketch::sorted(&values), "{bound}");
        }
    }

    #[test]
    fn a_narrow_window_takes_a_few_bits() {
        let narrow: Vec<f64> = (0..44).map(|at| 3.0 + f64::from(at % 3) / 1_000.0).collect();
        let mut bytes = Vec::new();
        let mut writer = BitWriter::new(&mut bytes);
        (0..64).for_each(|_| Sketch::of(&narrow).put(3.0, &mut writer));
        writer.finish();
        assert_eq!(bytes.len(), 64 * 4 / 8);
    }

    #[test]
    fn extreme_doubles_have_buckets() {
        for value in [f64::MAX, f64::MIN_POSITIVE, 5e-324, -f64::MAX, -5e-324, 0.0, -0.0] {
            let estimate = Sketch::of(&[value]).quantile(0.5);
            assert!((estimate - value).abs() <= ERROR * value.abs() * 1.001 || value.abs() < 1e-300, "{value} {estimate}");
        }
        assert!(Sketch::default().quantile(0.5).is_nan());
    }
}
