//! Which part of a query's time is answered by which level: the coarsest that answers exactly what was asked for, then finer ones, then points.

use super::level::Level;
use crate::time::{Nanos, TimeRange};

/// A level and the stretch of time that it stands for.
#[derive(Clone, Debug, PartialEq)]
pub struct Covered {
    /// Where its windows lie.
    pub level: Level,
    /// Every window in here was made, or is known to be out of date. On borders of the level.
    pub range: TimeRange,
}

/// A stretch of time and what answers for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Segment {
    /// The stretch.
    pub range: TimeRange,
    /// Place of the level; none for points.
    pub level: Option<usize>,
}

/// How a range is answered, in order of time.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Segments {
    /// They tile the range.
    pub parts: Vec<Segment>,
    /// From when to when points are asked for that are no longer kept.
    pub gone: Option<TimeRange>,
}

/// Cuts a range. `levels` are the coarsest first; `bounds` are the borders of the cells that must not be blurred; points before `raw_from`
/// are no longer kept. With `only_gone`, levels answer for nothing else: points are better where they are.
pub fn segments(range: TimeRange, bounds: &[Nanos], levels: &[Covered], raw_from: Nanos, only_gone: bool) -> Segments {
    let mut found = Segments::default();
    if range.is_empty() {
        return found;
    }
    cover(range, bounds, levels, 0, raw_from, only_gone, &mut found.parts);
    let gone = |segment: &&Segment| segment.level.is_none() && segment.range.start < raw_from;
    let starts = found.parts.iter().filter(gone).map(|segment| segment.range.start).min();
    let ends = found.parts.iter().filter(gone).map(|segment| segment.range.end.min(raw_from)).max();
    found.gone = starts.zip(ends).map(|(start, end)| TimeRange { start, end });
    found
}

fn cover(range: TimeRange, bounds: &[Nanos], levels: &[Covered], from: usize, raw_from: Nanos, only_gone: bool, out: &mut Vec<Segment>) {
    if range.is_empty() {
        return;
    }
    for (at, Covered { level, range: covered }) in levels.iter().enumerate().skip(from) {
        let end = if only_gone { covered.end.min(level.ceil(raw_from.min(covered.end))) } else { covered.end };
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
        cover(TimeRange { start: range.start, end: inside.start }, bounds, levels, at + 1, raw_from, only_gone, out);
        out.push(Segment { range: inside, level: Some(at) });
        // What comes after is covered no better by this level, but perhaps by finer ones.
        cover(TimeRange { start: inside.end, end: range.end }, bounds, levels, at + 1, raw_from, only_gone, out);
        return;
    }
    out.push(Segment { range, level: None });
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

    fn told(range: (Nanos, Nanos), bounds: &[Nanos], levels: &[Covered], raw_from: Nanos, only_gone: bool) -> String {
        let found = segments(TimeRange { start: range.0, end: range.1 }, bounds, levels, raw_from, only_gone);
        assert!(found.parts.windows(2).all(|pair| pair[0].range.end == pair[1].range.start), "{found:?}");
        let minutes = |at: Nanos| at / SECOND / 60;
        let part = |segment: &Segment| {
            let name = segment.level.map_or("points".to_owned(), |level| levels[level].level.width().to_string());
            format!("{name} {}-{}", minutes(segment.range.start), minutes(segment.range.end))
        };
        let gone = found.gone.map_or(String::new(), |gone| format!(", gone {}-{}", minutes(gone.start), minutes(gone.end)));
        found.parts.iter().map(part).collect::<Vec<_>>().join(", ") + &gone
    }

    #[test]
    fn the_coarsest_that_fits_comes_first_and_finer_ones_fill_its_ends() {
        let levels = [covered(60, 0..10), covered(5, 0..11)];
        let hours: Vec<Nanos> = (0..13).map(|hour| hour * HOUR).collect();
        let (from, to) = (HOUR / 2 + 7 * 60 * SECOND, 12 * HOUR);
        assert_eq!(told((from, to), &hours, &levels, 0, false), "points 37-40, 5m 40-60, 1h 60-600, 5m 600-660, points 660-720");
        // Windows of a quarter of an hour are blurred by hours.
        let quarters: Vec<Nanos> = (0..50).map(|quarter| quarter * HOUR / 4).collect();
        assert_eq!(told((0, to), &quarters, &levels, 0, false), "5m 0-660, points 660-720");
        let odd: Vec<Nanos> = (0..100).map(|step| step * 7 * 60 * SECOND).collect();
        assert_eq!(told((0, HOUR), &odd, &levels, 0, false), "points 0-60");
    }

    #[test]
    fn what_is_in_nothing_any_more_is_told() {
        let levels = [covered(60, 5..10)];
        let hours: Vec<Nanos> = (0..13).map(|hour| hour * HOUR).collect();
        assert_eq!(told((0, 12 * HOUR), &hours, &levels, 8 * HOUR, false), "points 0-300, 1h 300-600, points 600-720, gone 0-300");
        assert_eq!(told((0, 12 * HOUR), &hours, &[], 8 * HOUR, false), "points 0-720, gone 0-480");
    }

    #[test]
    fn sketches_answer_only_for_what_is_gone() {
        let levels = [covered(60, 0..10)];
        let hours: Vec<Nanos> = (0..13).map(|hour| hour * HOUR).collect();
        assert_eq!(told((0, 12 * HOUR), &hours, &levels, 4 * HOUR + 1, true), "1h 0-300, points 300-720");
        assert_eq!(told((0, 12 * HOUR), &hours, &levels, 0, true), "points 0-720");
    }
}
