//! A point that several lines make together: a histogram or a set of states.

use fenetre_core::{
    model::{Cause, Histogram, Refusal, ValueRef},
    time::Nanos,
};

use super::line::Sample;

/// Lines of one point.
pub struct Group {
    pub tags: Vec<(String, String)>,
    pub time: Nanos,
    /// Of its first line.
    pub line: u64,
    pub parts: Vec<Part>,
}

/// What one line adds.
pub enum Part {
    /// Observations up to a bound.
    Bucket(f64, u64),
    Count(u64),
    Sum(f64),
    /// A state, and whether it is on.
    State(String, bool),
}

/// A value that is owned.
pub enum Gathered {
    Histogram(Histogram),
    Word(String),
}

impl Gathered {
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Self::Histogram(histogram) => ValueRef::Histogram(histogram),
            Self::Word(word) => ValueRef::Word(word),
        }
    }
}

impl Part {
    /// A line of a histogram.
    pub fn of_histogram(suffix: &str, sample: &Sample<'_>) -> Result<Self, Refusal> {
        let whole = |value: f64| {
            // Counts are whole numbers; what is above 2^53 is as near as a double comes.
            let is_count = value >= 0.0 && value.fract() == 0.0 && value < 1.8e19;
            if is_count { Ok(value as u64) } else { Err(Refusal::of(Cause::Value, "value", format!("{value} is no count"))) }
        };
        match suffix {
            "_bucket" => {
                let bound = sample.label("le").and_then(|le| if le == "+Inf" { Some(f64::INFINITY) } else { le.parse().ok() });
                let bound =
                    bound.ok_or_else(|| Refusal::of(Cause::Value, "le", "a bucket has a label le with its upper bound, the last one \"+Inf\""))?;
                Ok(Self::Bucket(bound, whole(sample.value)?))
            }
            "_sum" | "_gsum" => Ok(Self::Sum(sample.value)),
            _ => whole(sample.value).map(Self::Count),
        }
    }
}

impl Group {
    pub fn new(tags: Vec<(String, String)>, time: Nanos, line: u64) -> Self {
        Self { tags, time, line, parts: Vec::new() }
    }

    /// Whether it is a histogram of which nobody said the sum.
    pub fn lacks_sum(&self) -> bool {
        !self.parts.iter().any(|part| matches!(part, Part::Sum(_) | Part::State(..)))
    }

    /// The point's value.
    pub fn value(&self) -> Result<Gathered, Refusal> {
        if let Some(Part::State(..)) = self.parts.first() {
            let on: Vec<&str> =
                self.parts.iter().filter_map(|part| if let Part::State(state, true) = part { Some(state.as_str()) } else { None }).collect();
            return Ok(Gathered::Word(if on.is_empty() { "none".to_owned() } else { on.join("+") }));
        }
        let refuse = |reason: String| Err(Refusal::of(Cause::Value, "histogram", reason));
        let (mut bounds, mut counts, mut below, mut sum) = (Vec::new(), Vec::new(), 0u64, 0.0);
        let mut whole = None;
        for part in &self.parts {
            match part {
                Part::Bucket(bound, count) => {
                    if *count < below || bounds.last().is_some_and(|last| last >= bound) {
                        return refuse(format!("its buckets must ascend, and le=\"{bound}\" with {count} does not"));
                    }
                    counts.push(count - below);
                    bounds.push(*bound);
                    below = *count;
                }
                Part::Count(count) => whole = Some(*count),
                Part::Sum(found) => sum = *found,
                Part::State(..) => {}
            }
        }
        if bounds.pop() != Some(f64::INFINITY) {
            return refuse("it has no bucket with le=\"+Inf\"".to_owned());
        }
        match whole.filter(|whole| *whole != below) {
            Some(whole) => refuse(format!("its count is {whole}, but its buckets hold {below}")),
            None => Ok(Gathered::Histogram(Histogram { bounds, counts, sum })),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(parts: Vec<Part>) -> Group {
        Group { parts, ..Group::new(Vec::new(), 0, 1) }
    }

    fn told(parts: Vec<Part>) -> String {
        match group(parts).value() {
            Ok(Gathered::Histogram(histogram)) => format!("{:?} {:?} {}", histogram.bounds, histogram.counts, histogram.sum),
            Ok(Gathered::Word(word)) => word,
            Err(refusal) => refusal.reason,
        }
    }

    #[test]
    fn lines_make_one_value() {
        assert_eq!(told(vec![Part::Bucket(1.0, 2), Part::Bucket(f64::INFINITY, 5), Part::Sum(9.5), Part::Count(5)]), "[1.0] [2, 3] 9.5");
        assert_eq!(told(vec![Part::State("open".into(), true), Part::State("late".into(), true), Part::State("x".into(), false)]), "open+late");
        assert_eq!(told(vec![Part::State("open".into(), false)]), "none");
    }

    #[test]
    fn what_does_not_fit_together_is_told() {
        assert!(told(vec![Part::Bucket(1.0, 2)]).contains("+Inf"));
        assert!(told(vec![Part::Bucket(2.0, 2), Part::Bucket(1.0, 3), Part::Bucket(f64::INFINITY, 3)]).contains("ascend"));
        assert!(told(vec![Part::Bucket(f64::INFINITY, 3), Part::Count(4)]).contains("its count is 4"));
        assert!(group(vec![Part::Count(1)]).lacks_sum() && !group(vec![Part::Sum(1.0)]).lacks_sum());
    }
}
