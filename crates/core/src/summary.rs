//! The mergeable form behind every reducer.
//!
//! A summary holds what a set of points contributes. `of(A ++ B) == of(A).merge(of(B))` for any split, so the header of a block,
//! a window, a group of series and a partition are all the same thing. `count`, `min`, `max`, `first` and `last` are exact;
//! `sum` and what follows from it are sums of doubles, whose last digits depend on the order of addition.

use crate::{
    block::{
        BlockError, Points,
        bits::{Reader, put_double, put_varint},
    },
    model::Value,
    time::Nanos,
};

/// One point, for the borders of a summary.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    /// When.
    pub time: Nanos,
    /// How much.
    pub value: f64,
    /// What is missing from the value to the integer that it stands for.
    pub rest: i16,
}

impl Sample {
    /// The value, as it leaves.
    pub fn to_value(self) -> Value {
        Value::of_number(self.value, self.rest)
    }

    /// How much a counter grew from here to a later sample: after a reset, all that it then showed.
    pub fn growth_to(self, later: Self) -> f64 {
        let step = (later.value - self.value) + (f64::from(later.rest) - f64::from(self.rest));
        if step >= 0.0 { step } else { later.value + f64::from(later.rest) }
    }
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
    /// How much a counter grew between these points, with resets recognised; `None` where it was not counted, or points of several series are in here.
    pub growth: Option<f64>,
}

const VERSION: u8 = 2;
const OLD_VERSION: u8 = 1;
const OLD_BYTES: usize = 1 + 8 * 8;
const HAS_GROWTH: u8 = 1;
const HAS_RESTS: u8 = 2;

/// Stored bytes that are no summary of a known version.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a stored summary cannot be read: {0}")]
pub struct BadSummary(String);

impl From<BlockError> for BadSummary {
    fn from(error: BlockError) -> Self {
        Self(error.to_string())
    }
}

impl Summary {
    /// Of one point.
    pub fn of_point(time: Nanos, value: f64) -> Self {
        let sample = Sample { time, value, rest: 0 };
        Self { count: 1, sum: value, min: value, max: value, first: sample, last: sample, growth: None }
    }

    /// Of points in order of time; `None` where there are none.
    pub fn of(points: Points<'_>) -> Option<Self> {
        let values = points.values;
        let (&first, &last) = (values.first()?, values.last()?);
        let sample = |at: usize, value: f64| Sample { time: points.times[at], value, rest: points.rest(at) };
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
        Some(Self { count: values.len() as u64, sum, min, max, first: sample(0, first), last: sample(values.len() - 1, last), growth: None })
    }

    /// Of points of one counter in order of time, with its growth.
    pub fn of_counter(points: Points<'_>) -> Option<Self> {
        let sample = |at: usize| Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) };
        let growth = (1..points.len()).map(|at| sample(at - 1).growth_to(sample(at))).sum();
        Some(Self { growth: Some(growth), ..Self::of(points)? })
    }

    /// Takes in what later points of the same series contribute.
    pub fn append(&mut self, later: &Self) {
        let grown = |(before, after): (f64, f64)| before + self.last.growth_to(later.first) + after;
        let growth = self.growth.zip(later.growth).map(grown);
        self.merge(later);
        self.growth = growth;
    }

    /// Takes in what other points contribute, whichever time they are of.
    pub fn merge(&mut self, other: &Self) {
        // Of several series it would be a sum, of one series it depends on the order: the caller that needs it appends.
        self.growth = None;
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

    /// The form at rest beside a block, whose row says how many points there are, from when to when:
    ///
    /// ```text
    /// byte 0   version, 2
    /// byte 1   flags: 1 has growth, 2 has rests
    /// doubles  sum, least, greatest, first, last; growth where there is one: each an exponent byte `e` and a signed varint `n`
    ///          for n / 10^e, or the byte 255 and eight bytes
    /// varints  zigzag rests of the first and the last, where there are any
    /// ```
    pub fn to_bytes(&self) -> Vec<u8> {
        let has_rests = self.first.rest != 0 || self.last.rest != 0;
        let mut bytes = vec![VERSION, u8::from(self.growth.is_some()) * HAS_GROWTH + u8::from(has_rests) * HAS_RESTS];
        let fields = [self.sum, self.min, self.max, self.first.value, self.last.value];
        fields.into_iter().chain(self.growth).for_each(|field| put_double(&mut bytes, field));
        if has_rests {
            let zigzag = |rest: i16| u64::from(((rest << 1) ^ (rest >> 15)).cast_unsigned());
            [self.first.rest, self.last.rest].into_iter().for_each(|rest| put_varint(&mut bytes, zigzag(rest)));
        }
        bytes
    }

    /// Reads the form at rest of a block with so many points, from `start` to `end`.
    ///
    /// # Errors
    /// [`BadSummary`] for other lengths, versions or flags.
    pub fn from_bytes(bytes: &[u8], count: u64, start: Nanos, end: Nanos) -> Result<Self, BadSummary> {
        match bytes {
            [VERSION, flags, rest @ ..] if *flags <= HAS_GROWTH + HAS_RESTS => {
                let mut reader = Reader::new(rest);
                let mut next = || reader.double("summary");
                let (sum, min, max, first, last) = (next()?, next()?, next()?, next()?, next()?);
                let growth = if flags & HAS_GROWTH == 0 { None } else { Some(next()?) };
                let mut rests = [0; 2];
                if flags & HAS_RESTS != 0 {
                    for rest in &mut rests {
                        *rest = i16::try_from(reader.signed("summary")?).map_err(|_| BlockError::Bounds("summary"))?;
                    }
                }
                if !reader.is_empty() {
                    return Err(BadSummary("it has bytes left over".to_owned()));
                }
                let first = Sample { time: start, value: first, rest: rests[0] };
                let last = Sample { time: end, value: last, rest: rests[1] };
                Ok(Self { count, sum, min, max, first, last, growth })
            }
            [OLD_VERSION, words @ ..] if bytes.len() == OLD_BYTES => {
                // Version 1: count, sum, least, greatest, first time and value, last time and value, eight bytes each.
                let word = |at: usize| words.as_chunks::<8>().0.get(at).copied().unwrap_or_default();
                let double = |at: usize| f64::from_le_bytes(word(at));
                let first = Sample { time: start, value: double(5), rest: 0 };
                let last = Sample { time: end, value: double(7), rest: 0 };
                Ok(Self { count, sum: double(1), min: double(2), max: double(3), first, last, growth: None })
            }
            _ => {
                Err(BadSummary(format!("it has {} bytes and version {:?}, which this version of Fenetre does not know", bytes.len(), bytes.first())))
            }
        }
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
    use crate::model::split_integer;

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
            let of = |part: &[(i64, f64)]| { let (t, v) = columns(part); Summary::of(Points::of(&t, &v)).unwrap() };
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
        fn counter_growth_is_the_same_in_parts_and_as_a_whole(steps in prop::collection::vec((0u32..1_000, 0u8..20), 2..200), cut in 1usize..199, wide in any::<bool>()) {
            let mut columns = crate::block::Columns::default();
            let start = if wide { 1i128 << 60 } else { 0 };
            let (mut counter, mut grown) = (start, 0i128);
            for (at, (step, reset)) in steps.iter().enumerate() {
                let before = counter;
                counter = if *reset == 0 { i128::from(*step) } else { counter + i128::from(*step) };
                if at > 0 { grown += if counter >= before { counter - before } else { counter }; }
                let (value, rest) = split_integer(counter);
                columns.push(at as i64, value, rest);
            }
            let cut = cut.min(columns.len() - 1);
            let mut summary = Summary::of_counter(columns.points().slice(0..cut)).unwrap();
            summary.append(&Summary::of_counter(columns.points().slice(cut..columns.len())).unwrap());
            prop_assert_eq!(summary.growth, Some(grown as f64));
            prop_assert_eq!(summary.last.to_value(), columns.points().value(columns.len() - 1));
            let back = Summary::from_bytes(&summary.to_bytes(), summary.count, summary.first.time, summary.last.time).unwrap();
            prop_assert_eq!(back, summary);
        }

        #[test]
        fn the_stored_form_round_trips(time in any::<i64>(), value in any::<f64>(), count in any::<u64>(), rest in any::<i16>()) {
            let mut summary = Summary::of_point(time, value);
            (summary.count, summary.last.rest) = (count, rest);
            let bytes = summary.to_bytes();
            prop_assert_eq!(Summary::from_bytes(&bytes, count, time, time).unwrap().to_bytes(), bytes.clone());
            prop_assert!((0..bytes.len()).all(|cut| Summary::from_bytes(&bytes[..cut], count, time, time).is_err()));
        }
    }

    #[test]
    fn an_empty_block_has_no_summary() {
        assert_eq!(Summary::of(Points::default()), None);
    }

    #[test]
    fn foreign_bytes_are_refused() {
        assert!(Summary::from_bytes(&[], 1, 0, 0).is_err());
        assert!(Summary::from_bytes(&[9; OLD_BYTES], 1, 0, 0).is_err());
        let left_over = [Summary::of_point(0, 1.0).to_bytes(), vec![0]].concat();
        assert!(Summary::from_bytes(&left_over, 1, 0, 0).is_err());
    }
}
