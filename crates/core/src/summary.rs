//! The mergeable form behind every reducer.
//!
//! A summary holds what a set of points contributes. `of(A ++ B) == of(A).merge(of(B))` for any split, so the header of a block,
//! a window, a group of series and a partition are all the same thing. `count`, `min`, `max`, `first` and `last` are exact;
//! `sum` and what follows from it are sums of doubles, whose last digits depend on the order of addition.

use crate::time::Nanos;

/// One point, for the borders of a summary.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    /// When.
    pub time: Nanos,
    /// How much.
    pub value: f64,
}

/// What a non-empty set of points contributes to a reducer.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Summary {
    /// How many points.
    pub count: u64,
    /// Sum of the values.
    pub sum: f64,
    /// Least value.
    pub min: f64,
    /// Greatest value.
    pub max: f64,
    /// Earliest point.
    pub first: Sample,
    /// Latest point.
    pub last: Sample,
}

/// Bytes of a stored summary.
pub const STORED_BYTES: usize = 1 + 8 * 8;
const VERSION: u8 = 1;

/// Stored bytes that are no summary of a known version.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a stored summary has {length} bytes and version {version:?}: {STORED_BYTES} bytes of version {VERSION} were expected")]
pub struct BadSummary {
    length: usize,
    version: Option<u8>,
}

impl Summary {
    /// Of one point.
    pub fn of_point(time: Nanos, value: f64) -> Self {
        let sample = Sample { time, value };
        Self { count: 1, sum: value, min: value, max: value, first: sample, last: sample }
    }

    /// Of points in order of time; `None` where there are none.
    pub fn of(times: &[Nanos], values: &[f64]) -> Option<Self> {
        let (&first_time, &last_time) = (times.first()?, times.last()?);
        let (&first, &last) = (values.first()?, values.last()?);
        // Four lanes, so that the compiler can use vector instructions; the order of addition is part of the stored result.
        let (mut sums, mut least, mut greatest) = ([0.0; 4], [first; 4], [first; 4]);
        let (chunks, rest) = values.as_chunks::<4>();
        for chunk in chunks {
            for lane in 0..4 {
                sums[lane] += chunk[lane];
                least[lane] = if chunk[lane] < least[lane] { chunk[lane] } else { least[lane] };
                greatest[lane] = if chunk[lane] > greatest[lane] { chunk[lane] } else { greatest[lane] };
            }
        }
        let mut sum = (sums[0] + sums[1]) + (sums[2] + sums[3]);
        let mut min = least[0].min(least[1]).min(least[2].min(least[3]));
        let mut max = greatest[0].max(greatest[1]).max(greatest[2].max(greatest[3]));
        for &value in rest {
            sum += value;
            min = min.min(value);
            max = max.max(value);
        }
        Some(Self {
            count: values.len() as u64,
            sum,
            min,
            max,
            first: Sample { time: first_time, value: first },
            last: Sample { time: last_time, value: last },
        })
    }

    /// Takes in what other points contribute, whichever time they are of.
    pub fn merge(&mut self, other: &Self) {
        self.count += other.count;
        self.sum += other.sum;
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
        // Series of one group may have points at the same instant: the value decides, so that merging has no order.
        let earlier = |a: Sample, b: Sample| a.time.cmp(&b.time).then(a.value.total_cmp(&b.value)).is_le();
        if !earlier(self.first, other.first) {
            self.first = other.first;
        }
        if earlier(self.last, other.last) {
            self.last = other.last;
        }
    }

    /// Arithmetic mean.
    pub fn mean(&self) -> f64 {
        self.sum / self.count as f64
    }

    /// The form at rest: a version byte, then count, sum, min, max, first and last, each of 8 bytes, least significant first.
    pub fn to_bytes(&self) -> [u8; STORED_BYTES] {
        let fields = [
            self.count,
            self.sum.to_bits(),
            self.min.to_bits(),
            self.max.to_bits(),
            self.first.time.cast_unsigned(),
            self.first.value.to_bits(),
            self.last.time.cast_unsigned(),
            self.last.value.to_bits(),
        ];
        let mut bytes = [VERSION; STORED_BYTES];
        for (slot, field) in bytes[1..].chunks_exact_mut(8).zip(fields) {
            slot.copy_from_slice(&field.to_le_bytes());
        }
        bytes
    }

    /// Reads the form at rest.
    ///
    /// # Errors
    /// [`BadSummary`] for another length or version.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, BadSummary> {
        if bytes.len() != STORED_BYTES || bytes[0] != VERSION {
            return Err(BadSummary { length: bytes.len(), version: bytes.first().copied() });
        }
        let mut fields = [0u64; 8];
        for (field, slot) in fields.iter_mut().zip(bytes[1..].chunks_exact(8)) {
            let mut word = [0; 8];
            word.copy_from_slice(slot);
            *field = u64::from_le_bytes(word);
        }
        let sample = |time: u64, value: u64| Sample { time: time.cast_signed(), value: f64::from_bits(value) };
        Ok(Self {
            count: fields[0],
            sum: f64::from_bits(fields[1]),
            min: f64::from_bits(fields[2]),
            max: f64::from_bits(fields[3]),
            first: sample(fields[4], fields[5]),
            last: sample(fields[6], fields[7]),
        })
    }
}

/// Adds what `more` contributes to a window that may have been empty so far.
pub fn merge_into(window: &mut Option<Summary>, more: &Summary) {
    match window {
        Some(summary) => summary.merge(more),
        None => *window = Some(*more),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn close(a: f64, b: f64) -> bool {
        (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0)
    }

    fn same(a: &Summary, b: &Summary) -> bool {
        close(a.sum, b.sum) && Summary { sum: 0.0, ..*a } == Summary { sum: 0.0, ..*b }
    }

    fn columns(points: &[(i64, f64)]) -> (Vec<i64>, Vec<f64>) {
        points.iter().copied().unzip()
    }

    proptest! {
        #[test]
        fn a_summary_of_parts_is_the_summary_of_the_whole(
            mut points in prop::collection::vec((0i64..1_000, -1e6f64..1e6), 2..200), cut in 1usize..199,
        ) {
            points.sort_by(|a, b| a.partial_cmp(b).unwrap());
            let cut = cut.min(points.len() - 1);
            let of = |part: &[(i64, f64)]| { let (t, v) = columns(part); Summary::of(&t, &v).unwrap() };
            let mut merged = of(&points[..cut]);
            merged.merge(&of(&points[cut..]));
            prop_assert!(same(&merged, &of(&points)), "{merged:?} {:?}", of(&points));
        }

        #[test]
        fn merging_has_no_order(points in prop::collection::vec((0i64..10, -10f64..10.0), 2..20)) {
            let merge = |points: &mut dyn Iterator<Item = &(i64, f64)>| {
                let mut merged = None;
                for (time, value) in points { merge_into(&mut merged, &Summary::of_point(*time, *value)); }
                merged.unwrap()
            };
            prop_assert!(same(&merge(&mut points.iter()), &merge(&mut points.iter().rev())));
        }

        #[test]
        fn the_form_at_rest_comes_back_bit_for_bit(time in any::<i64>(), value in any::<f64>(), count in any::<u64>()) {
            let mut summary = Summary::of_point(time, value);
            summary.count = count;
            prop_assert_eq!(Summary::from_bytes(&summary.to_bytes()).unwrap().to_bytes(), summary.to_bytes());
        }
    }

    #[test]
    fn nothing_has_no_summary() {
        assert_eq!(Summary::of(&[], &[]), None);
    }

    #[test]
    fn foreign_bytes_are_refused() {
        assert!(Summary::from_bytes(&[]).is_err());
        assert!(Summary::from_bytes(&[9; STORED_BYTES]).is_err());
    }
}
