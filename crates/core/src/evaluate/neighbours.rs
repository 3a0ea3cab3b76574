//! What follows from two points that follow each other: growth, area, time in a state.
//!
//! Two neighbours further apart than `stale_after` are not joined: what lies between them is not known. So what is counted here is a sum over
//! pairs of neighbours, and over the time between them: windows, however cut, add up. What a pair says of change belongs to the window of the
//! later point; what it says of the time between is cut at the windows' borders. Time before the first point has no value, nor, of a
//! linear metric, after the last; a stepped one holds its last value until it is stale, or until now.
//!
//! Neighbours are not joined across a stretch whose points were dropped either. Cells that lack a pair for that reason are marked as cut.

use super::{
    cells::{Cursor, Grid},
    parts::Ratio,
    sources::Neighbour,
};
use crate::{
    block::Points,
    model::Shape,
    rollup::View,
    summary::{Sample, Summary},
    time::{Nanos, SECOND},
};

/// What is made of pairs of neighbours.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Pairs {
    /// How much a counter grew.
    Growth,
    /// How far a value moved.
    Delta,
    /// How often it changed.
    Changes,
    /// Integral over time, and seconds covered.
    Area(Shape),
    /// Seconds in the state of that code, and seconds covered.
    TimeIn(f64),
    /// Seconds between neighbours that are no further apart than the limit.
    Coverage,
    /// The sum of what each point says: of counts since the point before.
    Sum,
    /// Change by second between the last two points: growth, or what a delta says.
    Spot {
        /// Whether a value is what came since the one before.
        is_delta: bool,
    },
}

impl Pairs {
    /// Whether the time between neighbours counts, and so the point after the range may.
    fn is_of_time(self) -> bool {
        matches!(self, Self::Area(_) | Self::TimeIn(_) | Self::Coverage)
    }

    /// Whether the point after the range says something of the time before it.
    pub fn looks_ahead(self) -> bool {
        matches!(self, Self::Area(Shape::Linear) | Self::Coverage)
    }
}

/// One series on its way through time.
#[derive(Clone)]
pub struct Neighbours {
    pairs: Pairs,
    /// The longest time between two points that are joined.
    limit: Option<Nanos>,
    last: Option<Sample>,
    /// From where on what the last point says counts: it may have been found inside a stretch whose points were dropped.
    since: Nanos,
    /// The end of a stretch whose points were dropped, until the next point.
    lost: Option<Nanos>,
    cursor: Cursor,
    /// What the last two points say so far, and for which cell.
    spot: Option<(usize, f64)>,
}

fn seconds(nanos: Nanos) -> f64 {
    nanos as f64 / SECOND as f64
}

impl Neighbours {
    /// Before the first point of a range that begins at `start`.
    pub fn new(pairs: Pairs, limit: Option<Nanos>, start: Nanos, carried_in: Neighbour) -> Self {
        let mut walk = Self { pairs, limit, last: None, since: start, lost: None, cursor: Cursor::default(), spot: None };
        walk.resume(start, carried_in);
        walk
    }

    /// Stops where a stretch begins whose points were dropped; `next` is the first of these, if it is known all the same.
    pub fn pause(&mut self, grid: Grid<'_>, at: Nanos, next: Neighbour, into: &mut [Ratio]) {
        if self.pairs.is_of_time() {
            self.arrive(grid, at, into);
            match next {
                Neighbour::Known(Some(next)) => self.stretch_to(grid, next.time, Some(next), at, into),
                _ => self.stretch_into_the_unknown(grid, at, into),
            }
        }
        self.emit_spot(into);
        (self.last, self.lost) = (None, None);
    }

    /// Goes on after such a stretch; `before` is the last of its points, if it is known all the same.
    pub fn resume(&mut self, at: Nanos, before: Neighbour) {
        (self.last, self.lost) = match before {
            Neighbour::Known(sample) => (sample, None),
            Neighbour::Dropped(_) => (None, Some(at)),
        };
        self.since = at;
    }

    /// What the last point says of the time until points were dropped. A linear metric may have been joined with one of these.
    fn stretch_into_the_unknown(&mut self, grid: Grid<'_>, until: Nanos, into: &mut [Ratio]) {
        let is_linear = !matches!(self.pairs, Pairs::Area(Shape::Stepped) | Pairs::TimeIn(_));
        match self.last {
            Some(last) if is_linear && self.joins(last.time, until) => self.cut(grid, last.time.max(self.since), until, into),
            _ => self.stretch_to(grid, until, None, until, into),
        }
    }

    /// Marks what cells lack since the point before this one was dropped.
    fn arrive(&mut self, grid: Grid<'_>, first: Nanos, into: &mut [Ratio]) {
        let Some(lost) = self.lost.take() else { return };
        match self.pairs {
            // The value from before may have been held until it was stale.
            Pairs::Area(Shape::Stepped) | Pairs::TimeIn(_) => self.cut(grid, lost, self.held(lost, first), into),
            _ if !self.joins(lost, first) => {}
            Pairs::Area(Shape::Linear) | Pairs::Coverage => self.cut(grid, lost, first, into),
            Pairs::Growth | Pairs::Delta | Pairs::Changes | Pairs::Spot { .. } => self.cut(grid, first, first.saturating_add(1), into),
            Pairs::Sum => {}
        }
    }

    fn cut(&mut self, grid: Grid<'_>, from: Nanos, until: Nanos, into: &mut [Ratio]) {
        // Points may follow in the same cells: they have a cursor of their own.
        let mut cursor = self.cursor;
        cursor.stretch(grid, from, until, |cell, _, _| into[cell].is_cut = true);
    }

    fn joins(&self, before: Nanos, after: Nanos) -> bool {
        self.limit.is_none_or(|limit| after.saturating_sub(before) <= limit)
    }

    /// Takes a block for what its summary says, if that is enough; otherwise it wants to be decoded.
    pub fn take_summary(&mut self, grid: Grid<'_>, summary: &Summary, into: &mut [Ratio]) -> bool {
        if self.pairs == Pairs::Sum {
            let cell = self.cursor.whole(grid, summary.first.time, summary.last.time);
            return cell.is_some_and(|cell| {
                into[cell].add(summary.sum, 0.0);
                true
            });
        }
        // Of gaps inside a block its summary says nothing.
        if self.limit.is_some() || self.pairs.is_of_time() || matches!(self.pairs, Pairs::Spot { .. }) {
            return false;
        }
        let inside = match self.pairs {
            Pairs::Growth => summary.growth,
            Pairs::Delta => Some((summary.last.value - summary.first.value) + f64::from(summary.last.rest) - f64::from(summary.first.rest)),
            _ => (summary.min == summary.max).then_some(0.0),
        };
        let Some((inside, cell)) = inside.zip(self.cursor.whole(grid, summary.first.time, summary.last.time)) else { return false };
        self.arrive(grid, summary.first.time, into);
        self.join(summary.first, &mut into[cell]);
        if summary.count > 1 {
            into[cell].add(inside, 0.0);
        }
        self.last = Some(summary.last);
        true
    }

    /// Takes a window for what its points say.
    pub fn take_window(&mut self, grid: Grid<'_>, window: &View<'_>, into: &mut [Ratio]) {
        let (first, last) = (window.summary.first, window.summary.last);
        // On the way there the walk over stretches has a cursor of its own, as for points.
        let mut cursor = self.cursor;
        let Some(cell) = cursor.whole(grid, first.time, last.time) else { return };
        if self.pairs == Pairs::Sum {
            return into[cell].add(window.summary.sum, 0.0);
        }
        self.arrive(grid, first.time, into);
        if self.pairs.is_of_time() {
            self.stretch_to(grid, first.time, Some(first), first.time, into);
        } else {
            self.join(first, &mut into[cell]);
            self.cursor = cursor;
        }
        let (steps, joined) = (&window.steps, window.joined() > 0.0);
        let several = window.summary.count > 1;
        let held = window.length() - steps.unheld;
        let moved = (last.value - first.value) + (f64::from(last.rest) - f64::from(first.rest));
        match self.pairs {
            Pairs::Growth if joined => into[cell].add(steps.growth, 0.0),
            Pairs::Delta if joined => into[cell].add(moved - steps.gap_delta, 0.0),
            Pairs::Changes if joined => into[cell].add(steps.changes, 0.0),
            Pairs::Area(Shape::Linear) if joined => into[cell].add(steps.area, held),
            Pairs::Area(Shape::Stepped) if several => into[cell].add(steps.area, held),
            Pairs::TimeIn(state) if several => {
                let in_it = window.states.iter().filter(|(code, _)| f64::from(*code) == state).map(|(_, held)| held).sum();
                into[cell].add(in_it, held);
            }
            Pairs::Coverage if several && window.length() > steps.uncovered => into[cell].add(window.length() - steps.uncovered, 0.0),
            _ => {}
        }
        self.last = Some(last);
    }

    /// Takes points in order of time.
    pub fn take(&mut self, grid: Grid<'_>, points: Points<'_>, into: &mut [Ratio]) {
        let mut cursor = self.cursor;
        cursor.split(grid, points, |cell, part| {
            let sample = |at: usize| Sample { time: part.times[at], value: part.values[at], rest: part.rest(at) };
            if part.len() == 1 || !matches!(self.pairs, Pairs::Spot { .. }) {
                self.arrive(grid, part.times[0], into);
            }
            if let Pairs::Spot { is_delta } = self.pairs {
                self.lost = None;
                let to = sample(part.len() - 1);
                let from = if part.len() > 1 { Some(sample(part.len() - 2)) } else { self.last };
                self.note_spot(cell, from, to, is_delta, into);
                self.last = Some(to);
                return;
            }
            if self.pairs == Pairs::Sum {
                return into[cell].add(part.values.iter().sum(), 0.0);
            }
            let first = sample(0);
            if self.pairs.is_of_time() {
                self.stretch_to(grid, first.time, Some(first), first.time, into);
            } else {
                self.join(first, &mut into[cell]);
            }
            if part.len() > 1 {
                self.within(part, &mut into[cell]);
            }
            self.last = Some(sample(part.len() - 1));
        });
        // The walk over stretches has its own cursor, which is never ahead of this one.
        if !self.pairs.is_of_time() {
            self.cursor = cursor;
        }
    }

    /// After the last point: `next` is the point after the range, where somebody looked for it; `now` ends what is known.
    pub fn end(&mut self, grid: Grid<'_>, next: Neighbour, now: Nanos, into: &mut [Ratio]) {
        if self.pairs.is_of_time() {
            let reaches_now = self.pairs != Pairs::Area(Shape::Linear);
            match next {
                Neighbour::Known(Some(next)) => {
                    self.arrive(grid, next.time, into);
                    self.stretch_to(grid, next.time, Some(next), next.time, into);
                }
                Neighbour::Known(None) => {
                    // What came before points were dropped may count until now.
                    if reaches_now {
                        self.arrive(grid, now, into);
                    }
                    self.stretch_to(grid, now, None, now, into);
                }
                Neighbour::Dropped(_) => {
                    self.arrive(grid, grid.range().end, into);
                    self.stretch_into_the_unknown(grid, grid.range().end, into);
                }
            }
        }
        self.emit_spot(into);
    }

    fn note_spot(&mut self, cell: usize, from: Option<Sample>, to: Sample, is_delta: bool, into: &mut [Ratio]) {
        if self.spot.is_some_and(|(before, _)| before != cell) {
            self.emit_spot(into);
        }
        let rate = |from: Sample| {
            let grown = if is_delta { to.value + f64::from(to.rest) } else { from.growth_to(to) };
            (cell, grown / seconds(to.time - from.time))
        };
        self.spot = from.filter(|from| self.joins(from.time, to.time)).map(rate);
    }

    fn emit_spot(&mut self, into: &mut [Ratio]) {
        if let Some((cell, rate)) = self.spot.take() {
            into[cell].add(rate, 0.0);
        }
    }

    /// What the pair of the last point and this one says of change.
    fn join(&self, to: Sample, into: &mut Ratio) {
        let Some(from) = self.last.filter(|from| self.joins(from.time, to.time)) else { return };
        into.add(self.change(from, to), 0.0);
    }

    fn change(&self, from: Sample, to: Sample) -> f64 {
        match self.pairs {
            Pairs::Growth => from.growth_to(to),
            Pairs::Delta => (to.value - from.value) + (f64::from(to.rest) - f64::from(from.rest)),
            _ => f64::from(u8::from(from.value != to.value || from.rest != to.rest)),
        }
    }

    /// What the neighbours inside one cell say.
    fn within(&self, part: Points<'_>, into: &mut Ratio) {
        let joined = |pair: &[Nanos]| self.joins(pair[0], pair[1]);
        let pairs = || part.times.windows(2).zip(part.values.windows(2));
        match self.pairs {
            Pairs::Growth | Pairs::Delta | Pairs::Changes if !part.rests.is_empty() => {
                let sample = |at: usize| Sample { time: part.times[at], value: part.values[at], rest: part.rest(at) };
                for at in 1..part.len() {
                    if self.joins(part.times[at - 1], part.times[at]) {
                        into.add(self.change(sample(at - 1), sample(at)), 0.0);
                    }
                }
            }
            Pairs::Growth | Pairs::Delta | Pairs::Changes => {
                let (mut amount, mut known) = (0.0, 0usize);
                let is_growth = self.pairs == Pairs::Growth;
                let is_delta = self.pairs == Pairs::Delta;
                let limit = self.limit.unwrap_or(Nanos::MAX);
                for (times, values) in pairs() {
                    let step = values[1] - values[0];
                    let change = if is_growth {
                        if step >= 0.0 { step } else { values[1] }
                    } else if is_delta {
                        step
                    } else {
                        f64::from(u8::from(values[0] != values[1]))
                    };
                    let is_joined = times[1].saturating_sub(times[0]) <= limit;
                    amount += if is_joined { change } else { 0.0 };
                    known += usize::from(is_joined);
                }
                if known > 0 {
                    into.add(amount, 0.0);
                }
            }
            Pairs::Area(Shape::Linear) => {
                for (times, values) in pairs().filter(|(times, _)| joined(times)) {
                    let covered = seconds(times[1] - times[0]);
                    into.add((values[0] + values[1]) / 2.0 * covered, covered);
                }
            }
            Pairs::Area(Shape::Stepped) => {
                for (times, values) in pairs() {
                    let covered = seconds(self.held(times[0], times[1]) - times[0]);
                    into.add(values[0] * covered, covered);
                }
            }
            Pairs::TimeIn(state) => {
                for (times, values) in pairs() {
                    let covered = seconds(self.held(times[0], times[1]) - times[0]);
                    into.add(if values[0] == state { covered } else { 0.0 }, covered);
                }
            }
            // These do not look inside.
            Pairs::Spot { .. } | Pairs::Sum => {}
            Pairs::Coverage => {
                for (times, _) in pairs().filter(|(times, _)| joined(times)) {
                    into.add(seconds(times[1] - times[0]), 0.0);
                }
            }
        }
    }

    /// Until when a value that came at `from` holds, if the next comes at `to`.
    fn held(&self, from: Nanos, to: Nanos) -> Nanos {
        self.limit.map_or(to, |limit| to.min(from.saturating_add(limit)))
    }

    /// What the time from the last point to another says, as far as it lies before `end`, cut at the cells' borders; `to` is missing where
    /// nothing came until then.
    fn stretch_to(&mut self, grid: Grid<'_>, until: Nanos, to: Option<Sample>, end: Nanos, into: &mut [Ratio]) {
        let Some(from) = self.last.filter(|from| from.time < until) else { return };
        let is_joined = self.joins(from.time, until);
        let held = self.held(from.time, until).min(end);
        let (since, until) = (from.time.max(self.since), until.min(end));
        let mut cursor = self.cursor;
        match (self.pairs, to) {
            (Pairs::Area(Shape::Linear), Some(to)) if is_joined => {
                let slope = (to.value - from.value) / (to.time - from.time) as f64;
                let at = |time: Nanos| from.value + slope * (time - from.time) as f64;
                cursor.stretch(grid, since, until, |cell, start, end| {
                    let covered = seconds(end - start);
                    into[cell].add((at(start) + at(end)) / 2.0 * covered, covered);
                });
            }
            (Pairs::Area(Shape::Stepped), _) => {
                cursor.stretch(grid, since, held, |cell, start, end| into[cell].add(from.value * seconds(end - start), seconds(end - start)));
            }
            (Pairs::TimeIn(state), _) => {
                let share = f64::from(u8::from(from.value == state));
                cursor.stretch(grid, since, held, |cell, start, end| into[cell].add(share * seconds(end - start), seconds(end - start)));
            }
            (Pairs::Coverage, _) if is_joined => {
                cursor.stretch(grid, since, until, |cell, start, end| into[cell].add(seconds(end - start), 0.0));
            }
            _ => {}
        }
        self.cursor = cursor;
    }
}
