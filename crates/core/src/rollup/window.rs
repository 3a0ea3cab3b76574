//! What is held of the points of one series in one window.

use super::{
    decimals,
    moments::{Mass, Moments},
    sketch::Sketch,
};
use crate::{
    block::Points,
    model::{Kind, MetricTraits, Shape, Temporality},
    summary::{Sample, Summary},
    time::{Nanos, SECOND},
};

/// What the numbers of a series are, which decides what is held of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Contents {
    /// Numbers that go up and down.
    Gauge,
    /// Numbers that grow.
    Counter,
    /// Codes of words.
    State,
    /// Codes of layouts; the counts are series of their own.
    Histogram,
    /// Counts of a bucket, or sums of observations, beside a histogram.
    Part,
}

impl Contents {
    /// Whether they can be computed with.
    pub fn are_numbers(self) -> bool {
        matches!(self, Self::Gauge | Self::Counter)
    }
}

/// By which rules neighbours are joined.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rules {
    /// What the numbers are.
    pub contents: Contents,
    /// Course of a metric between two points.
    pub shape: Shape,
    /// The longest time between two points that are joined.
    pub stale_after: Option<Nanos>,
    /// The longest time between two points that come as often as they should.
    pub covered_within: Option<Nanos>,
}

impl Rules {
    /// Those of a metric; `is_part` for the series beside a histogram.
    pub fn of(facts: &MetricTraits, is_part: bool) -> Self {
        let contents = match facts.kind {
            _ if is_part => Contents::Part,
            Kind::Gauge => Contents::Gauge,
            Kind::Counter if facts.temporality == Temporality::Delta => Contents::Gauge,
            Kind::Counter => Contents::Counter,
            Kind::State => Contents::State,
            Kind::Histogram => Contents::Histogram,
        };
        let covered_within = facts.interval.map(|interval| interval.saturating_add(interval / 2));
        Self { contents, shape: facts.shape, stale_after: facts.stale_after, covered_within }
    }

    /// A number that tells these rules from others: windows that were made under others say nothing of neighbours.
    pub fn mark(&self) -> u32 {
        let mut bytes = vec![self.contents as u8, self.shape as u8];
        for limit in [self.stale_after, self.covered_within] {
            bytes.extend_from_slice(&limit.unwrap_or(-1).to_le_bytes());
        }
        crc32fast::hash(&bytes)
    }

    /// As windows at rest tell it.
    pub fn made(&self) -> Made {
        Made { contents: self.contents, mark: self.mark() }
    }

    fn joins(&self, dt: Nanos) -> bool {
        self.stale_after.is_none_or(|limit| dt <= limit)
    }
}

/// Under which rules windows were made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Made {
    /// What the numbers are.
    pub contents: Contents,
    /// [`Rules::mark`].
    pub mark: u32,
}

/// What neighbours inside a window say, summed.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Steps {
    /// How much a counter grew, over neighbours that are joined.
    pub growth: f64,
    /// How often the value changed, over neighbours that are joined.
    pub changes: f64,
    /// Neighbours that are not joined.
    pub gaps: f64,
    /// How far the value moved over these.
    pub gap_delta: f64,
    /// Integral over time.
    pub area: f64,
    /// Seconds between the first and the last point of which nothing is known.
    pub unheld: f64,
    /// Seconds between neighbours that are too far apart to count as covered.
    pub uncovered: f64,
}

/// The points of one series in one window.
#[derive(Clone, Debug, PartialEq)]
pub struct Window {
    /// First instant of the window.
    pub start: Nanos,
    /// Count, sum, least, greatest, first and last.
    pub summary: Summary,
    /// Of numbers.
    pub moments: Moments,
    /// Of neighbours.
    pub steps: Steps,
    /// Of states: each code that came, and the seconds in it between the first and the last point.
    pub states: Vec<(u32, f64)>,
    /// Of numbers.
    pub sketch: Sketch,
}

fn close(a: f64, b: f64) -> bool {
    a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0)
}

impl Window {
    /// Whether two windows say the same, but for the last digits of sums.
    pub fn agrees(&self, other: &Self) -> bool {
        let exact = |w: &Self| (w.start, w.summary.count, w.summary.first, w.summary.last, w.steps.gaps, w.steps.changes);
        let sums = |w: &Self| {
            let Self { summary, steps, .. } = w;
            let of_points = [summary.sum, summary.min, summary.max];
            let of_steps = [steps.growth, steps.area, steps.unheld, steps.uncovered, steps.gap_delta];
            of_points.into_iter().chain(of_steps)
        };
        let greatest = self.summary.min.abs().max(self.summary.max.abs());
        let held = |(code, held): &(u32, f64)| other.states.iter().any(|(known, sum)| code == known && close(*held, *sum));
        exact(self) == exact(other)
            && sums(self).zip(sums(other)).all(|(a, b)| close(a, b))
            && self.moments.agree(&other.moments, self.summary.count as f64, greatest)
            && self.states.len() == other.states.len()
            && self.states.iter().all(held)
            && self.sketch == other.sketch
    }
}

fn seconds(nanos: Nanos) -> f64 {
    nanos as f64 / SECOND as f64
}

impl Window {
    /// Of points in order of time that lie in the window from `start` on; none where there are none.
    pub fn of(points: Points<'_>, start: Nanos, rules: &Rules) -> Option<Self> {
        let mut summary = Summary::of(points)?;
        summary.sum = decimals::of_sum(summary.sum);
        let mut window = Self { start, summary, moments: Moments::default(), steps: Steps::default(), states: Vec::new(), sketch: Sketch::default() };
        if rules.contents.are_numbers() {
            window.sketch = Sketch::of(points.values);
            window.moments = Moments::of(points, start);
        }
        window.take_steps(points, rules);
        window.settle();
        Some(window)
    }

    fn take_steps(&mut self, points: Points<'_>, rules: &Rules) {
        let sample = |at: usize| Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) };
        if rules.contents == Contents::State {
            self.note_state(points.values[0], 0.0);
        }
        let mut before = sample(0);
        for at in 1..points.len() {
            let next = sample(at);
            self.step(before, next, rules);
            if rules.contents == Contents::State {
                self.note_state(next.value, 0.0);
            }
            before = next;
        }
        self.steps.area = decimals::of_sum(self.steps.area);
    }

    /// Takes in what two neighbours say.
    fn step(&mut self, before: Sample, next: Sample, rules: &Rules) {
        let dt = next.time - before.time;
        let moved = (next.value - before.value) + (f64::from(next.rest) - f64::from(before.rest));
        let steps = &mut self.steps;
        if rules.joins(dt) {
            steps.changes += f64::from(u8::from(before.value != next.value || before.rest != next.rest));
            if matches!(rules.contents, Contents::Counter | Contents::Part) {
                steps.growth += before.growth_to(next);
            }
        } else {
            steps.gaps += 1.0;
            steps.gap_delta += moved;
        }
        if rules.covered_within.is_some_and(|limit| dt > limit) {
            steps.uncovered += seconds(dt);
        }
        let held = seconds(rules.stale_after.map_or(dt, |limit| dt.min(limit)));
        match (rules.contents, rules.shape) {
            (Contents::State, _) => {
                steps.unheld += seconds(dt) - held;
                self.note_state(before.value, held);
            }
            (Contents::Gauge | Contents::Counter, Shape::Stepped) => {
                steps.area += before.value * held;
                steps.unheld += seconds(dt) - held;
            }
            (Contents::Gauge | Contents::Counter, Shape::Linear) if rules.joins(dt) => steps.area += (before.value + next.value) / 2.0 * seconds(dt),
            (Contents::Gauge | Contents::Counter, Shape::Linear) => steps.unheld += seconds(dt),
            (Contents::Histogram | Contents::Part, _) => {}
        }
    }

    fn note_state(&mut self, code: f64, held: f64) {
        match self.states.iter_mut().find(|(known, _)| f64::from(*known) == code) {
            Some((_, sum)) => *sum += held,
            None => self.states.push((code as u32, held)),
        }
    }

    /// Takes in the window that follows this one, however much time lies between. Both then are one window, from this one's start on.
    pub fn append(&mut self, next: &Self, rules: &Rules) {
        let (last, first) = (self.summary.last, next.summary.first);
        if rules.contents.are_numbers() {
            self.moments.append(self.mass(), &next.moments, next.mass(), seconds(next.start - self.start));
        }
        self.summary.merge(&next.summary);
        self.summary.sum = decimals::of_sum(self.summary.sum);
        self.step(last, first, rules);
        let (steps, of) = (&mut self.steps, &next.steps);
        steps.growth += of.growth;
        steps.changes += of.changes;
        steps.gaps += of.gaps;
        steps.gap_delta += of.gap_delta;
        steps.area = decimals::of_sum(steps.area + of.area);
        steps.unheld += of.unheld;
        steps.uncovered += of.uncovered;
        for (code, held) in &next.states {
            self.note_state(f64::from(*code), *held);
        }
        self.sketch.merge(&next.sketch);
        self.settle();
    }

    fn mass(&self) -> Mass {
        Mass { count: self.summary.count as f64, mean: self.summary.mean() }
    }

    /// The same points as those of a longer window that begins earlier.
    #[must_use]
    pub fn starting(mut self, start: Nanos, rules: &Rules) -> Self {
        if rules.contents.are_numbers() {
            self.moments.start_earlier(self.summary.count as f64, seconds(self.start - start));
        }
        self.start = start;
        self.settle();
        self
    }

    /// Borrowed.
    pub fn view(&self) -> View<'_> {
        let Self { start, summary, moments, steps, states, sketch } = self;
        View { start: *start, summary: *summary, moments: *moments, steps: *steps, states, sketch }
    }
}

/// A [`Window`] that is borrowed from wherever it lies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct View<'a> {
    /// As in [`Window`].
    pub start: Nanos,
    /// As in [`Window`].
    pub summary: Summary,
    /// As in [`Window`].
    pub moments: Moments,
    /// As in [`Window`].
    pub steps: Steps,
    /// As in [`Window`].
    pub states: &'a [(u32, f64)],
    /// As in [`Window`].
    pub sketch: &'a Sketch,
}

impl View<'_> {
    /// Owned.
    pub fn to_window(self) -> Window {
        let Self { start, summary, moments, steps, states, sketch } = self;
        Window { start, summary, moments, steps, states: states.to_vec(), sketch: sketch.clone() }
    }

    /// Neighbours inside that are joined.
    pub fn joined(&self) -> f64 {
        self.summary.count as f64 - 1.0 - self.steps.gaps
    }

    /// Seconds from the first point to the last.
    pub fn length(&self) -> f64 {
        seconds(self.summary.last.time - self.summary.first.time)
    }
}
