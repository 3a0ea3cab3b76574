//! Which cell of the windows' grid an instant lies in.

use crate::{
    block::Points,
    time::{Nanos, TimeRange, Windows},
};

/// Cells of a grid, and the part of time that counts.
#[derive(Clone, Copy)]
pub struct Grid<'a> {
    bounds: &'a [Nanos],
    range: TimeRange,
}

impl<'a> Grid<'a> {
    pub fn of(windows: &'a Windows) -> Self {
        Self { bounds: windows.bounds(), range: windows.range() }
    }

    /// How many cells there are.
    pub fn len(&self) -> usize {
        self.bounds.len() - 1
    }

    /// The part of time that counts.
    pub fn range(&self) -> TimeRange {
        self.range
    }

    /// First instant after a cell.
    fn end(&self, cell: usize) -> Nanos {
        self.bounds[cell + 1].min(self.range.end)
    }
}

/// Walks through the cells beside points in order of time.
#[derive(Clone, Copy, Default)]
pub struct Cursor {
    at: usize,
}

impl Cursor {
    /// Moves to the cell of an instant inside the range, not before the last one asked for.
    pub fn seek(&mut self, grid: Grid<'_>, time: Nanos) -> usize {
        if time >= grid.end(self.at) {
            let ahead = &grid.bounds[self.at + 1..];
            // The next cell is the usual one. The last border lies at or after the end of the range, so an instant inside always has a cell.
            self.at += if ahead.get(1).is_some_and(|border| time < *border) { 1 } else { ahead.partition_point(|border| *border <= time) };
        }
        self.at
    }

    /// The cell of an instant, if it lies inside the range; not before the last one asked for.
    #[inline]
    pub fn cell(&mut self, grid: Grid<'_>, time: Nanos) -> Option<usize> {
        grid.range.contains(time).then(|| self.seek(grid, time))
    }

    /// The cell that holds all instants from `first` to `last`, if one does.
    pub fn whole(&mut self, grid: Grid<'_>, first: Nanos, last: Nanos) -> Option<usize> {
        if !grid.range.contains(first) || !grid.range.contains(last) {
            return None;
        }
        let cell = self.seek(grid, first);
        (last < grid.end(cell)).then_some(cell)
    }

    /// Gives the points inside the range cell by cell.
    pub fn split<'p>(&mut self, grid: Grid<'_>, points: Points<'p>, mut each: impl FnMut(usize, Points<'p>)) {
        let mut rest = points.places_in(grid.range);
        while !rest.is_empty() {
            let cell = self.seek(grid, points.times[rest.start]);
            let end = grid.end(cell);
            let ahead = &points.times[rest.clone()];
            // Cells are often narrow: look near before far.
            let near = ahead.len().min(16);
            let length = if ahead[near - 1] >= end { ahead[..near].partition_point(|at| *at < end) } else { ahead.partition_point(|at| *at < end) };
            each(cell, points.slice(rest.start..rest.start + length));
            rest.start += length;
        }
    }

    /// Gives the parts of the time from `from` to `to` that lie inside the range, cell by cell.
    pub fn stretch(&mut self, grid: Grid<'_>, from: Nanos, to: Nanos, mut each: impl FnMut(usize, Nanos, Nanos)) {
        let (mut from, to) = (from.max(grid.range.start), to.min(grid.range.end));
        while from < to {
            let cell = self.seek(grid, from);
            let end = grid.end(cell).min(to);
            each(cell, from, end);
            from = end;
        }
    }
}
