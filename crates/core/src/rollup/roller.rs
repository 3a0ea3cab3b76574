//! Points into windows, windows into longer ones. What comes in is of one series and in order of time.

use super::{
    level::Level,
    window::{Rules, Window},
};
use crate::{block::Points, time::Nanos};

/// Rolls up one series into the windows of a level.
pub struct Roller<'l> {
    level: &'l Level,
    rules: Rules,
    /// The window that is being filled, and its end.
    open: Option<(Window, Nanos)>,
    done: Vec<Window>,
}

impl<'l> Roller<'l> {
    /// A roller that nothing was put into.
    pub fn new(level: &'l Level, rules: Rules) -> Self {
        Self { level, rules, open: None, done: Vec::new() }
    }

    /// The border after an instant: that of the open window, where it lies there.
    fn end_for(&self, at: Nanos) -> Nanos {
        match &self.open {
            Some((_, end)) if at < *end => *end,
            _ => self.level.after(self.level.floor(at)),
        }
    }

    fn put(&mut self, window: Window, end: Nanos) {
        match &mut self.open {
            Some((open, known)) if *known == end => open.append(&window, &self.rules),
            _ => self.done.extend(self.open.replace((window, end)).map(|(window, _)| window)),
        }
    }

    /// Adds points.
    pub fn add_points(&mut self, points: Points<'_>) {
        let mut from = 0;
        while from < points.len() {
            let at = points.times[from];
            let end = self.end_for(at);
            let length = points.times[from..].partition_point(|time| *time < end);
            let start = match &self.open {
                Some((open, known)) if *known == end => open.start,
                _ => self.level.floor(at),
            };
            if let Some(window) = Window::of(points.slice(from..from + length.max(1)), start, &self.rules) {
                self.put(window, end);
            }
            from += length.max(1);
        }
    }

    /// Adds a window of a finer level, whose windows nest in this one's.
    pub fn add_window(&mut self, window: &Window) {
        let end = self.end_for(window.start);
        let start = match &self.open {
            Some((open, known)) if *known == end => open.start,
            _ => self.level.floor(window.start),
        };
        let window = window.clone().starting(start, &self.rules);
        self.put(window, end);
    }

    /// All windows, in order.
    pub fn finish(mut self) -> Vec<Window> {
        self.done.extend(self.open.take().map(|(window, _)| window));
        self.done
    }
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    use super::*;
    use crate::{
        block::Columns,
        model::Shape,
        rollup::Contents,
        time::{SECOND, Span},
    };

    proptest! {
        #[test]
        fn windows_of_windows_are_windows_of_points(
            contents in prop::sample::select(vec![Contents::Gauge, Contents::Counter, Contents::State, Contents::Part]),
            linear in any::<bool>(), stale in prop::option::of(5i64..400), steps in prop::collection::vec((1i64..200, -50i32..50), 1..120), cuts in prop::collection::vec(1usize..20, 1..8),
        ) {
            let shape = if linear { Shape::Linear } else { Shape::Stepped };
            let rules = Rules { contents, shape, stale_after: stale.map(|stale| stale * SECOND), covered_within: Some(45 * SECOND) };
            let (mut at, mut columns) = (1_790_000_000 * SECOND, Columns::default());
            for (step, value) in steps {
                at += step * SECOND;
                let value = f64::from(value) / 4.0;
                columns.push(at, if contents == Contents::State { (value.abs() % 3.0).floor() } else { value }, 0);
            }
            let level = |seconds: i64| Level::new(Span::exact(seconds * SECOND), TimeZone::UTC).unwrap();
            let (fine, coarse) = (level(60), level(600));
            let of_points = |level: &Level, cuts: &[usize]| {
                let mut roller = Roller::new(level, rules);
                let (mut rest, mut lengths) = (columns.points(), cuts.iter().cycle());
                while !rest.is_empty() {
                    let length = (*lengths.next().unwrap()).min(rest.len());
                    roller.add_points(rest.slice(0..length));
                    rest = rest.slice(length..rest.len());
                }
                roller.finish()
            };
            let whole = of_points(&coarse, &[usize::MAX]);
            let in_parts = of_points(&coarse, &cuts);
            let mut roller = Roller::new(&coarse, rules);
            of_points(&fine, &cuts).iter().for_each(|window| roller.add_window(window));
            let from_fine = roller.finish();
            prop_assert_eq!(whole.len(), in_parts.len());
            prop_assert_eq!(whole.len(), from_fine.len());
            for ((whole, parts), fine) in whole.iter().zip(&in_parts).zip(&from_fine) {
                prop_assert!(whole.agrees(parts), "{:?}\n{:?}", whole, parts);
                prop_assert!(whole.agrees(fine), "{:?}\n{:?}", whole, fine);
            }
        }
    }
}
