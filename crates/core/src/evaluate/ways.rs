//! How windows find their cells, and the codes that all series of a state share.

use super::cells::{Cursor, Grid};
use crate::{rollup::View, summary::Summary, time::Nanos};

/// The way of one series' windows, in order of time.
pub struct Ways<'w> {
    pub grid: Grid<'w>,
    pub cursor: &'w mut Cursor,
    /// What the series' own codes are among those that all share, where it has any.
    pub codes: Option<&'w [f64]>,
    /// Memory for states of one window.
    pub states: &'w mut Vec<(u32, f64)>,
}

impl Ways<'_> {
    /// The cell of a window, if it lies inside the range: levels answer only where their windows lie inside cells.
    #[inline]
    pub fn cell(&mut self, start: Nanos) -> Option<usize> {
        self.cursor.cell(self.grid, start)
    }

    /// A window with the codes that all series share.
    pub fn translated<'s>(&'s mut self, window: View<'s>) -> View<'s> {
        translated_window(window, self.codes, self.states)
    }
}

/// A summary with the codes that all series share.
pub fn translated(summary: &Summary, codes: Option<&[f64]>) -> Summary {
    let mut summary = *summary;
    if let Some(codes) = codes {
        let shared = |value: f64| codes.get(value as usize).copied().unwrap_or(f64::NAN);
        // Of the least and the greatest code only matters whether they are one.
        let is_one = summary.min == summary.max;
        (summary.first.value, summary.last.value) = (shared(summary.first.value), shared(summary.last.value));
        (summary.min, summary.max) = if is_one { (shared(summary.min), shared(summary.min)) } else { (f64::NEG_INFINITY, f64::INFINITY) };
    }
    summary
}

/// A window with the codes that all series share.
pub fn translated_window<'w>(mut window: View<'w>, codes: Option<&[f64]>, states: &'w mut Vec<(u32, f64)>) -> View<'w> {
    let Some(codes) = codes else { return window };
    let shared = |code: u32| codes.get(code as usize).map(|code| *code as u32);
    states.clear();
    states.extend(window.states.iter().filter_map(|(code, held)| Some((shared(*code)?, *held))));
    window.summary = translated(&window.summary, Some(codes));
    window.states = states;
    window
}
