//! Windows of one series as they come from the disk: a column for each thing that is held of them, of which a query fills the few that it needs.

use super::{
    moments::Moments,
    sketch::Sketch,
    window::{Steps, View, Window},
};
use crate::{
    block::Columns,
    summary::{Sample, Summary},
    time::Nanos,
};

/// Columns of doubles: counts first, then as [`View`] has them.
pub(super) const NUMBERS: usize = 15;
pub(super) const COUNT: usize = 0;
pub(super) const SUM: usize = 1;
pub(super) const MIN: usize = 2;
pub(super) const MAX: usize = 3;
pub(super) const SQUARES: usize = 4;
pub(super) const TIMES: usize = 5;
pub(super) const TIME_SQUARES: usize = 6;
pub(super) const GROWTH: usize = 8;
pub(super) const CHANGES: usize = 9;
pub(super) const AREA: usize = 12;

/// Windows of one series. A column that was not read, or of zeros from some place on, is shorter.
#[derive(Clone, Debug, Default)]
pub struct WindowColumns {
    pub(super) starts: Vec<Nanos>,
    pub(super) firsts: Columns,
    pub(super) lasts: Columns,
    pub(super) numbers: [Vec<f64>; NUMBERS],
    pub(super) states: Vec<Vec<(u32, f64)>>,
    pub(super) sketches: Vec<Sketch>,
}

/// What a window's column of doubles holds, in the order of the columns.
pub(super) fn numbers_of(window: &View<'_>) -> [f64; NUMBERS] {
    let View { summary, moments, steps, .. } = window;
    [
        summary.count as f64,
        summary.sum,
        summary.min,
        summary.max,
        moments.squares,
        moments.times,
        moments.time_squares,
        moments.products,
        steps.growth,
        steps.changes,
        steps.gaps,
        steps.gap_delta,
        steps.area,
        steps.unheld,
        steps.uncovered,
    ]
}

fn sample(columns: &Columns, at: usize) -> Sample {
    let time = columns.times.get(at).copied().unwrap_or(0);
    let value = columns.values.get(at).copied().unwrap_or(0.0);
    Sample { time, value, rest: columns.rests.get(at).copied().unwrap_or(0) }
}

impl WindowColumns {
    /// How many windows.
    pub fn len(&self) -> usize {
        self.starts.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.starts.is_empty()
    }

    /// First instants of the windows.
    pub fn starts(&self) -> &[Nanos] {
        &self.starts
    }

    /// Forgets the windows and keeps the memory.
    pub fn clear(&mut self) {
        self.starts.clear();
        self.firsts.clear();
        self.lasts.clear();
        self.numbers.iter_mut().for_each(Vec::clear);
        self.states.clear();
        self.sketches.clear();
    }

    /// One window; what was not read of it is zero.
    #[inline]
    pub fn view(&self, at: usize) -> View<'_> {
        // Places as `numbers_of` has them.
        let number = |column: usize| self.numbers[column].get(at).copied().unwrap_or(0.0);
        View {
            start: self.starts[at],
            summary: Summary {
                count: number(COUNT) as u64,
                sum: number(SUM),
                min: number(MIN),
                max: number(MAX),
                first: sample(&self.firsts, at),
                last: sample(&self.lasts, at),
                growth: None,
            },
            moments: Moments { squares: number(SQUARES), times: number(TIMES), time_squares: number(TIME_SQUARES), products: number(7) },
            steps: Steps {
                growth: number(GROWTH),
                changes: number(CHANGES),
                gaps: number(10),
                gap_delta: number(11),
                area: number(AREA),
                unheld: number(13),
                uncovered: number(14),
            },
            states: self.states.get(at).map_or(&[], Vec::as_slice),
            sketch: self.sketches.get(at).unwrap_or(const { &Sketch::EMPTY }),
        }
    }

    /// Count, sum, least and greatest of one window; what was not read of it is zero.
    #[inline]
    pub fn totals(&self, at: usize) -> [f64; 4] {
        let number = |column: &Vec<f64>| column.get(at).copied().unwrap_or(0.0);
        [number(&self.numbers[COUNT]), number(&self.numbers[SUM]), number(&self.numbers[MIN]), number(&self.numbers[MAX])]
    }

    /// Count, sum and squares ([`Moments::squares`]) of one window; what was not read of it is zero.
    #[inline]
    pub fn scatter(&self, at: usize) -> [f64; 3] {
        let number = |column: &Vec<f64>| column.get(at).copied().unwrap_or(0.0);
        [number(&self.numbers[COUNT]), number(&self.numbers[SUM]), number(&self.numbers[SQUARES])]
    }

    /// Adds a window at the end.
    pub fn push(&mut self, window: &View<'_>) {
        let before = self.len();
        self.starts.push(window.start);
        for (column, value) in self.numbers.iter_mut().zip(numbers_of(window)) {
            column.resize(before, 0.0);
            column.push(value);
        }
        for (columns, Sample { time, value, rest }) in [(&mut self.firsts, window.summary.first), (&mut self.lasts, window.summary.last)] {
            pad(columns, before);
            columns.push(time, value, rest);
        }
        self.states.resize(before, Vec::new());
        self.states.push(window.states.to_vec());
        self.sketches.resize(before, Sketch::EMPTY);
        self.sketches.push(window.sketch.clone());
    }

    /// Puts windows in order.
    pub fn sort(&mut self) {
        if self.starts.is_sorted() {
            return;
        }
        let mut order: Vec<usize> = (0..self.len()).collect();
        order.sort_by_key(|at| self.starts[*at]);
        let mut sorted = Self::default();
        order.into_iter().for_each(|at| sorted.push(&self.view(at)));
        *self = sorted;
    }

    /// The windows one by one.
    pub fn to_windows(&self) -> Vec<Window> {
        (0..self.len()).map(|at| self.view(at).to_window()).collect()
    }
}

fn pad(columns: &mut Columns, length: usize) {
    columns.times.resize(length, 0);
    columns.values.resize(length, 0.0);
    if !columns.rests.is_empty() {
        columns.rests.resize(length, 0);
    }
}
