//! A point that several lines make together: a histogram or a set of states.

use std::collections::{HashMap, VecDeque};

use fenetre_core::{
    model::{Cause, Histogram, PointRef, Refusal, ValueRef},
    time::Nanos,
};

use super::line::Sample;
use crate::Output;

/// Points of which not all lines have come.
#[derive(Default)]
pub struct Groups {
    /// In the order of their first lines.
    open: VecDeque<Group>,
    places: HashMap<(String, Tags, Nanos), usize>,
    /// How many were given before the first of them.
    given: usize,
    /// Families whose next point may lack a line that could not be read.
    spoils_next: HashMap<String, u64>,
}

/// Labels of a point, in order, without the one that tells its parts apart.
type Tags = Vec<(String, String)>;

/// Points that are held at most; past it, the oldest half is given.
const MAX_OPEN: usize = 8_192;

/// Lines of one point.
pub struct Group {
    family: String,
    tags: Tags,
    time: Nanos,
    /// Of its first line.
    line: u64,
    parts: Vec<Part>,
    /// A line of it that could not be read.
    spoiled_by: Option<u64>,
}

/// Which point a line is a part of.
#[derive(Clone, Copy)]
pub struct LineOf<'l> {
    pub family: &'l str,
    /// The label that tells the parts of a point apart.
    pub own: &'l str,
    pub labels: &'l [(&'l str, &'l str)],
    pub time: Nanos,
    pub line: u64,
}

impl Groups {
    fn group(&mut self, of: LineOf<'_>) -> &mut Group {
        let LineOf { family, own, labels, time, line } = of;
        let tags: Tags = labels.iter().filter(|(key, _)| *key != own).map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect();
        let Self { open, places, given, spoils_next } = self;
        let place = *places.entry((family.to_owned(), tags.clone(), time)).or_insert_with(|| {
            let spoiled_by = spoils_next.remove(family);
            open.push_back(Group { family: family.to_owned(), tags, time, line, parts: Vec::new(), spoiled_by });
            *given + open.len() - 1
        });
        &mut self.open[place - self.given]
    }

    /// Adds a line to its point.
    pub fn add(&mut self, of: LineOf<'_>, part: Part, out: &mut Output<'_>) {
        self.group(of).parts.push(part);
        if self.open.len() > MAX_OPEN {
            self.emit(MAX_OPEN / 2, out);
        }
    }

    /// A line of a point cannot be read: the point would be wrong without it.
    pub fn spoil(&mut self, of: LineOf<'_>) {
        self.group(of).spoiled_by.get_or_insert(of.line);
    }

    /// A line of some point of a family cannot be read: one that has begun, or the next.
    pub fn spoil_family(&mut self, family: &str, line: u64) {
        self.spoils_next.insert(family.to_owned(), line);
        self.open.iter_mut().filter(|group| group.family == family).for_each(|group| {
            group.spoiled_by.get_or_insert(line);
        });
    }

    /// Gives all points.
    pub fn emit_all(&mut self, out: &mut Output<'_>) {
        self.emit(self.open.len(), out);
    }

    fn emit(&mut self, count: usize, out: &mut Output<'_>) {
        for group in self.open.drain(..count) {
            self.places.remove(&(group.family.clone(), group.tags.clone(), group.time));
            group.emit(out);
        }
        self.given += count;
    }
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
enum Gathered {
    Histogram(Histogram),
    Word(String),
}

impl Gathered {
    fn as_ref(&self) -> ValueRef<'_> {
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
            if is_count { Ok(value as u64) } else { Err(Refusal::of(Cause::Value, "value", format!("{value} is not a count"))) }
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

impl Part {
    /// A line of a stateset.
    pub fn of_state(family: &str, sample: &Sample<'_>) -> Result<Self, Refusal> {
        let missing =
            || Refusal::of(Cause::Value, family, format!("a sample of the stateset `{family}` has a label `{family}` with the state's name"));
        sample.label(family).map(|state| Self::State(state.to_owned(), sample.value != 0.0)).ok_or_else(missing)
    }
}

impl Group {
    fn emit(&self, out: &mut Output<'_>) {
        let tags: Vec<(&str, &str)> = self.tags.iter().map(|(key, value)| (key.as_str(), value.as_str())).collect();
        if let Some(line) = self.spoiled_by {
            let reason = format!("the whole point is rejected, because line {line} cannot be read and may be a part of it");
            return out.tally.refuse(self.line, Refusal::of(Cause::Value, &self.family, reason));
        }
        match self.value() {
            Ok(value) => {
                let point = PointRef { metric: &self.family, tags: &tags, time: self.time, value: value.as_ref() };
                out.tally.count(|| self.line, out.sink.accept(point));
            }
            Err(refusal) => return out.tally.refuse(self.line, refusal),
        }
        if self.lacks_sum() {
            out.tally.note(format!("the histogram `{}` has no `_sum`: it is stored as 0", self.family));
        }
    }

    /// Whether it is a histogram without a sum.
    fn lacks_sum(&self) -> bool {
        !self.parts.iter().any(|part| matches!(part, Part::Sum(_) | Part::State(..)))
    }

    /// The point's value.
    fn value(&self) -> Result<Gathered, Refusal> {
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
        Group { family: "wait".to_owned(), tags: Vec::new(), time: 0, line: 1, parts, spoiled_by: None }
    }

    fn assembled(parts: Vec<Part>) -> String {
        match group(parts).value() {
            Ok(Gathered::Histogram(histogram)) => format!("{:?} {:?} {}", histogram.bounds, histogram.counts, histogram.sum),
            Ok(Gathered::Word(word)) => word,
            Err(refusal) => refusal.reason,
        }
    }

    #[test]
    fn lines_make_one_value() {
        assert_eq!(assembled(vec![Part::Bucket(1.0, 2), Part::Bucket(f64::INFINITY, 5), Part::Sum(9.5), Part::Count(5)]), "[1.0] [2, 3] 9.5");
        assert_eq!(assembled(vec![Part::State("open".into(), true), Part::State("late".into(), true), Part::State("x".into(), false)]), "open+late");
        assert_eq!(assembled(vec![Part::State("open".into(), false)]), "none");
    }

    #[test]
    fn incomplete_and_inconsistent_points_are_rejected() {
        assert!(assembled(vec![Part::Bucket(1.0, 2)]).contains("+Inf"));
        assert!(assembled(vec![Part::Bucket(2.0, 2), Part::Bucket(1.0, 3), Part::Bucket(f64::INFINITY, 3)]).contains("ascend"));
        assert!(assembled(vec![Part::Bucket(f64::INFINITY, 3), Part::Count(4)]).contains("its count is 4"));
        assert!(group(vec![Part::Count(1)]).lacks_sum() && !group(vec![Part::Sum(1.0)]).lacks_sum());
    }
}
