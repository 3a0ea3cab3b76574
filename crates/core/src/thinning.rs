//! Thinning: which points of a run are needed, so that the rest can be left out.
//!
//! Two rules, both of which keep points as they were measured and invent none:
//!
//! - A *dead band* keeps a point that lies further than the band from the last one kept.
//! - A *line tolerance* keeps the points whose joining line passes all others within the tolerance. It is the swinging door of
//!   E. H. Bristol, "Swinging door trending: adaptive trend recording?", ISA National Conference Proceedings, 1990, with the doors hung at the
//!   last point kept, as the swing filter of H. Elmeleegy et al., "Online piece-wise linear approximation of numerical streams with
//!   precision guarantees", VLDB 2009, has them: so the tolerance is a promise, and not only an aim.
//!
//! The first and the last point of a run are always kept, so runs that are thinned one by one keep the promise across their borders too.

use crate::{block::Points, model::Thinning, time::Nanos};

impl Thinning {
    /// Places of the points that are kept, ascending; points are in order of time.
    pub fn kept(&self, points: Points<'_>) -> Vec<usize> {
        let silence = self.max_silence.map_or(Nanos::MAX, |span| span.nanos);
        match (self.dead_band, self.line_tolerance) {
            (Some(band), _) => kept_by_band(points, band, silence),
            (None, Some(tolerance)) => kept_by_line(points, tolerance, silence),
            (None, None) => (0..points.len()).collect(),
        }
    }
}

fn kept_by_band(points: Points<'_>, band: f64, silence: Nanos) -> Vec<usize> {
    let Some(end) = points.len().checked_sub(1) else { return Vec::new() };
    let mut kept = vec![0];
    for at in 1..=end {
        let last = kept[kept.len() - 1];
        let is_far = (points.values[at] - points.values[last]).abs() > band;
        if is_far || is_silent(points, last, at, silence) || at == end {
            kept.push(at);
        }
    }
    kept
}

/// The point before is the last that still can be reached, so it is kept when this one cannot.
fn kept_by_line(points: Points<'_>, tolerance: f64, silence: Nanos) -> Vec<usize> {
    let Some(end) = points.len().checked_sub(1) else { return Vec::new() };
    let mut kept = vec![0];
    let mut door = Door::OPEN;
    for at in 1..=end {
        let last = kept[kept.len() - 1];
        if at - last > 1 && (!door.admits(slope(points, last, at, 0.0)) || is_silent(points, last, at, silence)) {
            kept.push(at - 1);
            door = Door::OPEN;
        }
        let hinge = kept[kept.len() - 1];
        door.close(slope(points, hinge, at, -tolerance), slope(points, hinge, at, tolerance));
    }
    if end > 0 {
        kept.push(end);
    }
    kept
}

/// Whether keeping neither `at` nor what lies before it would be silent for too long.
fn is_silent(points: Points<'_>, last: usize, at: usize, silence: Nanos) -> bool {
    points.times[at].saturating_sub(points.times[last]) >= silence
}

/// Of the line from one point to what lies `above` another one, in units a nanosecond.
fn slope(points: Points<'_>, from: usize, to: usize, above: f64) -> f64 {
    (points.values[to] + above - points.values[from]) / (points.times[to].saturating_sub(points.times[from])) as f64
}

/// The slopes at which a line from the last point kept passes all points since.
#[derive(Clone, Copy)]
struct Door {
    least: f64,
    most: f64,
}

impl Door {
    const OPEN: Self = Self { least: f64::NEG_INFINITY, most: f64::INFINITY };

    fn admits(self, slope: f64) -> bool {
        self.least <= slope && slope <= self.most
    }

    fn close(&mut self, least: f64, most: f64) {
        self.least = self.least.max(least);
        self.most = self.most.min(most);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::{
        block::Columns,
        time::{SECOND, Span},
    };

    fn columns(points: &[(i64, f64)]) -> Columns {
        let mut columns = Columns::default();
        points.iter().for_each(|(second, value)| columns.push(second * SECOND, *value, 0));
        columns
    }

    fn line(tolerance: f64) -> Thinning {
        Thinning { line_tolerance: Some(tolerance), ..Default::default() }
    }

    #[test]
    fn a_straight_line_is_its_ends() {
        let points: Vec<(i64, f64)> = (0..1_000).map(|i| (i, i as f64 * 0.5)).collect();
        assert_eq!(line(0.01).kept(columns(&points).points()), [0, 999]);
        assert_eq!(line(0.01).kept(columns(&[]).points()), [0usize; 0]);
        assert_eq!(line(0.01).kept(columns(&[(1, 1.0)]).points()), [0]);
    }

    #[test]
    fn a_step_keeps_both_of_its_edges() {
        let points: Vec<(i64, f64)> = (0..10).map(|i| (i, if i < 5 { 1.0 } else { 2.0 })).collect();
        assert_eq!(line(0.1).kept(columns(&points).points()), [0, 4, 5, 9]);
    }

    #[test]
    fn a_dead_band_keeps_changes_and_a_heartbeat() {
        let points: Vec<(i64, f64)> = (0..100).map(|i| (i, if i == 40 { 9.0 } else { 1.0 })).collect();
        let band = Thinning { dead_band: Some(0.5), max_silence: Some(Span::exact(30 * SECOND)), ..Default::default() };
        assert_eq!(band.kept(columns(&points).points()), [0, 30, 40, 41, 71, 99]);
    }

    #[test]
    fn invalid_thinning_is_refused() {
        assert!(Thinning::default().check().is_err());
        assert!(Thinning { dead_band: Some(1.0), ..Default::default() }.check().unwrap_err().contains("max_silence"));
        assert!(line(f64::NAN).check().is_err());
        assert!(line(0.5).check().is_ok());
    }

    proptest! {
        #[test]
        fn the_line_between_kept_points_stays_within_the_tolerance(
            steps in prop::collection::vec((1i64..100, -5.0f64..5.0), 1..300), tolerance in 0.0f64..4.0, silence in prop::option::of(50i64..500),
        ) {
            let (mut second, mut value) = (0, 0.0);
            let points: Vec<(i64, f64)> = steps.iter().map(|(ahead, up)| { second += ahead; value += up; (second, value) }).collect();
            let columns = columns(&points);
            let thinning = Thinning { line_tolerance: Some(tolerance), max_silence: silence.map(|s| Span::exact(s * SECOND)), ..Default::default() };
            let kept = thinning.kept(columns.points());
            prop_assert!(kept.is_sorted_by(|a, b| a < b) && kept[0] == 0 && kept[kept.len() - 1] == points.len() - 1);
            for pair in kept.windows(2) {
                let ((from, low), (to, high)) = (points[pair[0]], points[pair[1]]);
                for (at, value) in &points[pair[0]..=pair[1]] {
                    let on_line = low + (high - low) * (at - from) as f64 / (to - from) as f64;
                    prop_assert!((on_line - value).abs() <= tolerance + 1e-9, "{on_line} and {value}");
                }
                // A silence is no longer than allowed, unless nothing was measured in it.
                prop_assert!(pair[1] - pair[0] == 1 || silence.is_none_or(|silence| to - from <= silence));
            }
        }
    }
}
