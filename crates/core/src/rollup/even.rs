//! What follows from the first and the last point of a window, its count and its sum, where points come at even steps: as they mostly do, this need not
//! be written down.

use super::{decimals::agree, window::Window};
use crate::{
    summary::Summary,
    time::{Nanos, SECOND},
};

/// Moments of the times and area of evenly spaced points.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Even {
    pub times: f64,
    pub time_squares: f64,
    /// Area under lines from point to point.
    pub linear_area: f64,
    /// Area under steps.
    pub stepped_area: f64,
}

impl Even {
    /// Of a window that begins at `start`. The same bits wherever it is computed.
    pub fn of(start: Nanos, summary: &Summary) -> Self {
        let seconds = |at: Nanos| at.wrapping_sub(start) as f64 / SECOND as f64;
        let (first, last, count) = (seconds(summary.first.time), seconds(summary.last.time), summary.count as f64);
        let step = if summary.count > 1 { (last - first) / (count - 1.0) } else { 0.0 };
        Self {
            times: count * (first + last) / 2.0,
            time_squares: count * count * (count + 1.0) * (count - 1.0) / 12.0 * (step * step),
            linear_area: step * (summary.sum - (summary.first.value + summary.last.value) / 2.0),
            stepped_area: step * (summary.sum - summary.last.value),
        }
    }
}

impl Window {
    /// Takes what evenly spaced points would give for what it holds, where that differs by no more than rounding.
    pub(super) fn settle(&mut self) {
        let even = Even::of(self.start, &self.summary);
        let settle = |held: &mut f64, even: f64, size: f64| {
            if agree(*held, even, size) {
                *held = even;
            }
        };
        settle(&mut self.moments.times, even.times, even.times);
        settle(&mut self.moments.time_squares, even.time_squares, even.time_squares);
        // Values on both sides of zero cancel: rounding is that of the area that they would have on one side.
        let greatest = self.summary.min.abs().max(self.summary.max.abs());
        let size = greatest * (self.summary.last.time.wrapping_sub(self.summary.first.time)) as f64 / SECOND as f64;
        let area = &mut self.steps.area;
        // What was not integrated is zero, and stays it.
        if *area != 0.0 {
            settle(area, even.linear_area, size);
            settle(area, even.stepped_area, size);
        }
    }
}
