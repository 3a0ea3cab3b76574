//! Which part of a query's time is answered by which level: the coarsest that answers exactly what was asked for, then finer ones, then points.

use super::level::Level;
use crate::time::{Nanos, TimeRange};

/// A level and the time that it covers.
#[derive(Clone, Debug, PartialEq)]
pub struct Covered {
    /// Where its windows lie.
    pub level: Level,
    /// Every window in here was made, or is known to be out of date. On borders of the level.
    pub range: TimeRange,
}

/// What answers for a stretch of time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answers {
    /// The windows of the level at this place.
    Level(usize),
    /// Points, all of which are kept.
    Points,
    /// Nothing does: points were dropped, and no level answers the question here.
    Nothing,
}

/// A stretch of time and what answers for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Segment {
    /// The stretch.
    pub range: TimeRange,
    /// What answers for it.
    pub answers: Answers,
}

/// Cuts a range into segments that tile it, in order of time. `levels` are the coarsest first; `bounds` are the borders of the cells that must
/// not be blurred; points inside `dropped` (disjoint stretches, in order) are not all kept. With `only_dropped`, levels answer for nothing that
/// ends after the last of these: points are better where they are.
pub fn segments(range: TimeRange, bounds: &[Nanos], levels: &[Covered], dropped: &[TimeRange], only_dropped: bool) -> Vec<Segment> {
    let mut found = Vec::new();
    if !range.is_empty() {
        let until = if only_dropped { dropped.last().map_or(Nanos::MIN, |last| last.end) } else { Nanos::MAX };
        cover(range, bounds, levels, 0, until, &mut found);
    }
    let mut parts = Vec::with_capacity(found.len());
    for segment in found {
        match segment.answers {
            Answers::Points => split(segment.range, dropped, &mut parts),
            _ => parts.push(segment),
        }
    }
    parts
}

/// Cuts a stretch that no level answers for into what is kept and what was dropped.
fn split(range: TimeRange, dropped: &[TimeRange], out: &mut Vec<Segment>) {
    let mut at = range.start;
    for gone in dropped {
        let gone = TimeRange { start: gone.start.max(at), end: gone.end.min(range.end) };
        if gone.is_empty() {
            continue;
        }
        if at < gone.start {
            out.push(Segment { range: TimeRange { start: at, end: gone.start }, answers: Answers::Points });
        }
        out.push(Segment { range: gone, answers: Answers::Nothing });
        at = gone.end;
    }
    if at < range.end {
        out.push(Segment { range: TimeRange { start: at, end: range.end }, answers: Answers::Points });
    }
}

fn cover(range: TimeRange, bounds: &[Nanos], levels: &[Covered], from: usize, until: Nanos, out: &mut Vec<Segment>) {
    if range.is_empty() {
        return;
    }
    for (at, Covered { level, range: covered }) in levels.iter().enumerate().skip(from) {
        let end = covered.end.min(level.ceil(until.min(covered.end)));
        let asked = TimeRange { start: range.start.max(covered.start), end: range.end.min(end) };
        if asked.is_empty() {
            continue;
        }
        let inside = level.inside(asked);
        let first = bounds.partition_point(|border| *border <= inside.start);
        let last = bounds.partition_point(|border| *border < inside.end);
        if inside.is_empty() || !bounds[first..last.max(first)].iter().all(|border| level.is_border(*border)) {
            continue;
        }
        cover(TimeRange { start: range.start, end: inside.start }, bounds, levels, at + 1, until, out);
        out.push(Segment { range: inside, answers: Answers::Level(at) });
        // What comes after is covered no better by this level, but perhaps by finer ones.
        cover(TimeRange { start: inside.end, end: range.end }, bounds, levels, at + 1, until, out);
        return;
    }
    out.push(Segment { range, answers: Answers::Points });
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use super::*;
    use crate::time::{SECOND, Span};

    const HOUR: Nanos = 3_600 * SECOND;

    fn covered(minutes: i64, hours: std::ops::Range<i64>) -> Covered {
        let level = Level::new(Span::exact(minutes * 60 * SECOND), TimeZone::UTC).unwrap();
        Covered { level, range: TimeRange { start: hours.start * HOUR, end: hours.end * HOUR } }
    }

    fn rendered(range: (Nanos, Nanos), bounds: &[Nanos], levels: &[Covered], dropped: &[(Nanos, Nanos)], only_dropped: bool) -> String {
        let dropped: Vec<TimeRange> = dropped.iter().map(|(start, end)| TimeRange { start: *start, end: *end }).collect();
        let found = segments(TimeRange { start: range.0, end: range.1 }, bounds, levels, &dropped, only_dropped);
        assert!(found.windows(2).all(|pair| pair[0].range.end == pair[1].range.start), "{found:?}");
        let minutes = |at: Nanos| at / SECOND / 60;
        let part = |segment: &Segment| {
            let name = match segment.answers {
                Answers::Level(level) => levels[level].level.width().to_string(),
                Answers::Points => "points".to_owned(),
                Answers::Nothing => "nothing".to_owned(),
            };
            format!("{name} {}-{}", minutes(segment.range.start), minutes(segment.range.end))
        };
        found.iter().map(part).collect::<Vec<_>>().join(", ")
    }

    #[test]
    fn the_coarsest_that_fits_comes_first_and_finer_ones_fill_its_ends() {
        let levels = [covered(60, 0..10), covered(5, 0..11)];
        let hours: Vec<Nanos> = (0..13).map(|hour| hour * HOUR).collect();
        let (from, to) = (HOUR / 2 + 7 * 60 * SECOND, 12 * HOUR);
        assert_eq!(rendered((from, to), &hours, &levels, &[], false), "points 37-40, 5m 40-60, 1h 60-600, 5m 600-660, points 660-720");
        // Windows of a quarter of an hour are blurred by hours.
        let quarters: Vec<Nanos> = (0..50).map(|quarter| quarter * HOUR / 4).collect();
        assert_eq!(rendered((0, to), &quarters, &levels, &[], false), "5m 0-660, points 660-720");
        let odd: Vec<Nanos> = (0..100).map(|step| step * 7 * 60 * SECOND).collect();
        assert_eq!(rendered((0, HOUR), &odd, &levels, &[], false), "points 0-60");
    }

    #[test]
    fn dropped_points_without_a_level_leave_an_unanswered_segment() {
        let levels = [covered(60, 5..10)];
        let hours: Vec<Nanos> = (0..13).map(|hour| hour * HOUR).collect();
        let all = (0, 12 * HOUR);
        assert_eq!(rendered(all, &hours, &levels, &[(Nanos::MIN, 8 * HOUR)], false), "nothing 0-300, 1h 300-600, points 600-720");
        assert_eq!(rendered(all, &hours, &[], &[(Nanos::MIN, 8 * HOUR)], false), "nothing 0-480, points 480-720");
        // What was restored, or came before the first stretch that was dropped, is whole.
        let holes = [(HOUR, 2 * HOUR), (6 * HOUR, 7 * HOUR), (11 * HOUR, 20 * HOUR)];
        assert_eq!(
            rendered(all, &hours, &levels, &holes, false),
            "points 0-60, nothing 60-120, points 120-300, 1h 300-600, points 600-660, nothing 660-720"
        );
    }

    #[test]
    fn a_level_cannot_answer_the_first_partial_window() {
        let levels = [covered(60, 0..24)];
        let (from, to) = (12 * HOUR + HOUR / 12, 16 * HOUR);
        let hours: Vec<Nanos> = (13..16).map(|hour| hour * HOUR).collect();
        assert_eq!(rendered((from, to), &hours, &levels, &[(0, 24 * HOUR)], false), "nothing 725-780, 1h 780-960");
    }

    #[test]
    fn sketches_answer_only_for_what_was_dropped() {
        let levels = [covered(60, 0..10)];
        let hours: Vec<Nanos> = (0..13).map(|hour| hour * HOUR).collect();
        assert_eq!(rendered((0, 12 * HOUR), &hours, &levels, &[(0, 4 * HOUR + 1)], true), "1h 0-300, points 300-720");
        assert_eq!(rendered((0, 12 * HOUR), &hours, &levels, &[], true), "points 0-720");
    }
}
