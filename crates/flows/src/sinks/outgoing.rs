//! Points on their way to a destination: named, shaped, and in order of time by series.

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    model::{MetricDefinition, SeriesId, Value},
    time::{Nanos, format_utc},
};
use serde::{Deserialize, Serialize};

/// A series as the destination sees it.
#[derive(Clone, Debug, PartialEq)]
pub struct OutgoingSeries {
    /// Name of the metric.
    pub metric: Arc<str>,
    /// Keys and values of its tags, by key.
    pub tags: Vec<(Arc<str>, Arc<str>)>,
    /// UCUM code of its unit.
    pub unit: Option<Arc<str>>,
    /// The definition of its metric, with that unit.
    pub definition: Arc<MetricDefinition>,
}

/// Values of points.
#[derive(Clone, Debug, PartialEq)]
pub enum Values {
    /// Numbers.
    Numbers(Vec<f64>),
    /// Values that are no doubles: words, histograms, and integers that no double holds, perhaps beside numbers.
    Other(Vec<Value>),
}

/// Points of one series, in order of time, each instant once.
#[derive(Clone, Debug, PartialEq)]
pub struct OutgoingStretch {
    /// The series in the store.
    pub id: SeriesId,
    /// The series at the destination.
    pub series: Arc<OutgoingSeries>,
    /// Times.
    pub times: Vec<Nanos>,
    /// Values, beside them.
    pub values: Values,
}

/// A batch of points.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Outgoing {
    /// The points by series.
    pub stretches: Vec<OutgoingStretch>,
    /// The start of the batch in the order of arrival, or its place in a gap. It stays the same if the batch is made again after a restart.
    pub id: String,
}

/// A point in a line of JSON.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OutgoingPoint {
    /// Name of the metric.
    pub metric: Arc<str>,
    /// Tags.
    pub tags: BTreeMap<Arc<str>, Arc<str>>,
    /// Time, in RFC 3339.
    pub time: String,
    /// Value.
    pub value: Value,
    /// UCUM code of the unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<Arc<str>>,
}

impl Values {
    /// One of them.
    pub fn at(&self, at: usize) -> Value {
        match self {
            Self::Numbers(numbers) => Value::Number(numbers[at]),
            Self::Other(values) => values[at].clone(),
        }
    }

    fn split_off(&mut self, at: usize) -> Self {
        match self {
            Self::Numbers(numbers) => Self::Numbers(numbers.split_off(at)),
            Self::Other(values) => Self::Other(values.split_off(at)),
        }
    }
}

impl Outgoing {
    /// Number of points.
    pub fn points(&self) -> usize {
        self.stretches.iter().map(|stretch| stretch.times.len()).sum()
    }

    /// First and last time; none if there are no points.
    pub fn span(&self) -> Option<(Nanos, Nanos)> {
        let first = self.stretches.iter().filter_map(|stretch| stretch.times.first()).min()?;
        let last = self.stretches.iter().filter_map(|stretch| stretch.times.last()).max()?;
        Some((*first, *last))
    }

    /// Both halves of it, by points; none if it has fewer than two.
    pub fn halves(mut self) -> Option<[Self; 2]> {
        let half = self.points() / 2;
        if half == 0 {
            return None;
        }
        let mut before = 0;
        let at = self.stretches.iter().position(|stretch| {
            before += stretch.times.len();
            before > half
        })?;
        let within = self.stretches[at].times.len() - (before - half);
        let mut rest = self.stretches.split_off(at);
        if within > 0 {
            let cut = &mut rest[0];
            let (times, values) = (cut.times.split_off(within), cut.values.split_off(within));
            let tail = OutgoingStretch { id: cut.id, series: Arc::clone(&cut.series), times, values };
            self.stretches.push(std::mem::replace(cut, tail));
        }
        let other = Self { stretches: rest, id: format!("{}b", self.id) };
        self.id.push('a');
        Some([self, other])
    }

    /// Each point, by series.
    pub fn each(&self) -> impl Iterator<Item = (&OutgoingSeries, Nanos, Value)> {
        self.stretches
            .iter()
            .flat_map(|stretch| stretch.times.iter().enumerate().map(move |(at, time)| (&*stretch.series, *time, stretch.values.at(at))))
    }

    /// Each point for a line of JSON.
    pub fn lines(&self) -> impl Iterator<Item = OutgoingPoint> {
        self.each().map(|(series, time, value)| OutgoingPoint {
            metric: Arc::clone(&series.metric),
            tags: series.tags.iter().cloned().collect(),
            time: format_utc(time),
            value,
            unit: series.unit.clone(),
        })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn batch(lengths: &[usize]) -> Outgoing {
        let stretch = |(at, length): (usize, &usize)| OutgoingStretch {
            id: SeriesId(at as u32),
            series: Arc::new(OutgoingSeries { metric: format!("m{at}").into(), tags: Vec::new(), unit: None, definition: Arc::default() }),
            times: (0..*length as Nanos).collect(),
            values: Values::Numbers((0..*length).map(|value| value as f64).collect()),
        };
        Outgoing { stretches: lengths.iter().enumerate().map(stretch).collect(), id: "7-3".to_owned() }
    }

    proptest! {
        #[test]
        fn halves_have_the_same_points(lengths in prop::collection::vec(1usize..9, 0..8)) {
            let whole = batch(&lengths);
            let points: Vec<(Arc<str>, Nanos)> = whole.each().map(|(series, time, _)| (Arc::clone(&series.metric), time)).collect();
            match whole.halves() {
                None => prop_assert!(points.len() < 2),
                Some([one, other]) => {
                    prop_assert!(one.points().abs_diff(other.points()) <= 1 && one.points() > 0);
                    let both: Vec<(Arc<str>, Nanos)> = one.each().chain(other.each()).map(|(series, time, _)| (Arc::clone(&series.metric), time)).collect();
                    prop_assert_eq!(both, points);
                    prop_assert_eq!((one.id.as_str(), other.id.as_str()), ("7-3a", "7-3b"));
                }
            }
        }
    }
}
