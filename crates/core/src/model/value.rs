//! Values as they leave, and the two sorts of them that a double alone cannot hold.

use std::{fmt, sync::Arc};

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A value as it leaves.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// Of a gauge or a counter.
    Number(f64),
    /// Of a gauge or a counter: an integer from 2^53 on, of 64 bits; doubles do not hold all of these.
    Integer(i128),
    /// Of a state.
    Word(Arc<str>),
    /// Of a histogram.
    Histogram(Arc<Histogram>),
}

const MIN_WIDE: f64 = 9_007_199_254_740_992.0;
const LARGEST: f64 = 18_446_744_073_709_551_616.0;

impl Value {
    /// The number, if it is one; of an integer that no double holds, the nearest.
    pub fn number(&self) -> Option<f64> {
        match self {
            Self::Number(number) => Some(*number),
            Self::Integer(integer) => Some(*integer as f64),
            Self::Word(_) | Self::Histogram(_) => None,
        }
    }

    /// The number that a double and its rest stand for, as [`split_integer`] made them.
    pub fn of_number(double: f64, rest: i16) -> Self {
        // Every double from 2^53 on is an integer, and its shortest decimal form is not that integer's own.
        let is_wide = (MIN_WIDE..LARGEST).contains(&double.abs());
        if is_wide || rest != 0 { Self::Integer(double as i128 + i128::from(rest)) } else { Self::Number(double) }
    }
}

/// An integer of 64 bits as the nearest double and what is missing to it; nothing is, up to 2^53.
pub fn split_integer(integer: i128) -> (f64, i16) {
    let double = integer as f64;
    // Doubles below 2^64 lie at most 2^11 apart, so what is missing is at most half of that.
    (double, (integer - double as i128) as i16)
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => number.fmt(f),
            Self::Integer(integer) => integer.fmt(f),
            Self::Word(word) => f.pad(word),
            Self::Histogram(histogram) => f.pad(&histogram.to_string()),
        }
    }
}

impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Number(number) => number.serialize(serializer),
            Self::Integer(integer) => match (i64::try_from(*integer), u64::try_from(*integer)) {
                (Ok(integer), _) => integer.serialize(serializer),
                (_, Ok(integer)) => integer.serialize(serializer),
                _ => (*integer as f64).serialize(serializer),
            },
            Self::Word(word) => word.serialize(serializer),
            Self::Histogram(histogram) => histogram.serialize(serializer),
        }
    }
}

/// As JSON: an integer beyond 2^53 keeps all its digits.
#[derive(Deserialize)]
#[serde(untagged)]
enum Plain {
    Signed(i64),
    Unsigned(u64),
    Number(f64),
    Word(Arc<str>),
    Histogram(Histogram),
}

impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let of_integer = |integer: i128| {
            let (double, rest) = split_integer(integer);
            Self::of_number(double, rest)
        };
        Ok(match Plain::deserialize(deserializer)? {
            Plain::Signed(integer) => of_integer(integer.into()),
            Plain::Unsigned(integer) => of_integer(integer.into()),
            Plain::Number(number) => Self::Number(number),
            Plain::Word(word) => Self::Word(word),
            Plain::Histogram(histogram) => Self::Histogram(Arc::new(histogram)),
        })
    }
}

/// A distribution: how many observations fell between each two bounds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Histogram {
    /// Upper bounds of all buckets but the last, ascending; a bucket contains values above the bound before it, up to and including its own.
    pub bounds: Vec<f64>,
    /// Observations in each bucket; one more than bounds, since the last bucket is for values above all bounds.
    pub counts: Vec<u64>,
    /// Sum of all observations.
    pub sum: f64,
}

/// The most buckets of a histogram.
pub const MAX_BUCKETS: usize = 512;

impl Histogram {
    /// Observations in all buckets.
    pub fn count(&self) -> u64 {
        self.counts.iter().fold(0, |sum, count| sum.saturating_add(*count))
    }

    /// Checks whether bounds and counts make sense together.
    ///
    /// # Errors
    /// What is wrong, in words that follow "the histogram".
    pub fn check(&self) -> Result<(), String> {
        if self.counts.len() != self.bounds.len() + 1 {
            let (counts, bounds) = (self.counts.len(), self.bounds.len());
            return Err(format!(
                "has {counts} counts and {bounds} bounds: there must be one more count than bounds; the last is for values above all of them"
            ));
        }
        if self.counts.len() > MAX_BUCKETS {
            return Err(format!("has {} buckets, the limit is {MAX_BUCKETS}", self.counts.len()));
        }
        if let Some(bound) = self.bounds.iter().find(|bound| !bound.is_finite()) {
            return Err(format!("has the bound {bound}: bounds are finite, and the last bucket has none"));
        }
        if let Some(pair) = self.bounds.windows(2).find(|pair| pair[0] >= pair[1]) {
            return Err(format!("has the bound {} before {}: bounds must ascend", pair[0], pair[1]));
        }
        if self.sum.is_finite() { Ok(()) } else { Err(format!("has the sum {}: it must be finite", self.sum)) }
    }
}

/// For people: how many, their mean, and the buckets that hold any.
impl fmt::Display for Histogram {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "n={}", self.count())?;
        if self.count() > 0 {
            // Four digits, wherever the point stands.
            let mean = self.sum / self.count() as f64;
            let places = (3.0 - mean.abs().max(1e-9).log10().floor()).clamp(0.0, 9.0) as usize;
            write!(f, " mean={mean:.places$}")?;
        }
        for (i, count) in self.counts.iter().enumerate().filter(|(_, count)| **count > 0) {
            match (self.bounds.get(i), i.checked_sub(1).and_then(|before| self.bounds.get(before))) {
                (Some(bound), _) => write!(f, " ≤{bound}:{count}")?,
                (None, Some(last)) => write!(f, " >{last}:{count}")?,
                (None, None) => write!(f, " all:{count}")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_64_bit_integer_round_trips(signed in any::<i64>(), unsigned in any::<u64>(), near in -3i64..3) {
            for integer in [i128::from(signed), i128::from(unsigned), i128::from((1i64 << 53) + near), i128::from(u64::MAX), i128::from(i64::MIN)] {
                let (double, rest) = split_integer(integer);
                let value = Value::of_number(double, rest);
                prop_assert_eq!(value.to_string(), integer.to_string());
                let text = serde_json::to_string(&value).unwrap();
                prop_assert_eq!(serde_json::from_str::<Value>(&text).unwrap(), value);
            }
        }
    }

    #[test]
    fn a_histogram_is_validated_and_displayed() {
        let shown = |bounds: &[f64], counts: &[u64], sum: f64| {
            let histogram = Histogram { bounds: bounds.to_vec(), counts: counts.to_vec(), sum };
            histogram.check().map_or_else(|fault| fault, |()| histogram.to_string())
        };
        assert_eq!(shown(&[5.0, 10.0], &[1, 0, 2], 31.0), "n=3 mean=10.33 ≤5:1 >10:2");
        assert_eq!(shown(&[], &[0], 0.0), "n=0");
        assert!(shown(&[5.0], &[1], 0.0).contains("1 counts and 1 bounds"));
        assert!(shown(&[5.0, 5.0], &[1, 1, 1], 0.0).contains("bounds must ascend"));
        assert!(shown(&[f64::INFINITY], &[1, 1], 0.0).contains("finite"));
        assert!(shown(&[1.0], &[1, 1], f64::NAN).contains("sum"));
    }
}
