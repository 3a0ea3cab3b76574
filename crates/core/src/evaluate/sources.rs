//! Which part of a leaf's time is read from points and which from a level, and the nearest points beyond the ends of a stretch.
//!
//! A stretch whose points were dropped and that no level answers is a gap in knowledge: nothing is joined across it. Its ends may still be known: a
//! level's windows hold their first and last points, also where a query cuts through them.

use jiff::tz::TimeZone;

use super::{AskedWindows, Context, End, EvaluateError, Run, SourceError};
use crate::{
    answer::{ReadPart, ReadSource},
    block::Columns,
    model::SeriesId,
    plan::{Leaf, Take},
    query::ReadFrom,
    rollup::{Answers, Covered, Level, Rules, Segment, Wants, segments},
    summary::Sample,
    time::{Nanos, SECOND, TimeRange, Windows, format_in_zone},
};

/// How many windows of a level are searched at first for the nearest point; if there is none, eight times as many are next.
const NEAR_WINDOWS: Nanos = 64;
/// Stretches that one note names.
const MAX_NAMED: usize = 3;

/// How a leaf's time is read.
pub struct Sources {
    /// The time that each of the leaf's levels covers.
    covered: Vec<Option<TimeRange>>,
    /// Stretches whose points are not all kept, in order.
    dropped: Vec<TimeRange>,
    segments: Vec<Segment>,
    /// A level was forced: points are not read, whether they are kept or not.
    is_level_forced: bool,
}

/// The point of a series that is nearest to an instant, on one side of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Neighbour {
    /// It is this one, or there is none.
    Known(Option<Sample>),
    /// It may have been in this stretch, whose points were dropped.
    Dropped(TimeRange),
}

impl Neighbour {
    /// The stretch of dropped points, if it may have been in one.
    pub fn dropped(self) -> Option<TimeRange> {
        match self {
            Self::Known(_) => None,
            Self::Dropped(range) => Some(range),
        }
    }

    /// The same with another sample.
    pub fn map(self, change: impl FnOnce(Sample) -> Sample) -> Self {
        match self {
            Self::Known(sample) => Self::Known(sample.map(change)),
            dropped => dropped,
        }
    }
}

/// What takes runs, with the segment that they are of.
type Each<'v> = &'v mut dyn FnMut(usize, TimeRange, Run<'_>) -> Result<(), SourceError>;

/// Some series of a leaf.
#[derive(Clone, Copy)]
pub struct Wanted<'a> {
    pub context: &'a Context<'a>,
    pub leaf: &'a Leaf,
    pub series: &'a [SeriesId],
    /// They are the parts of a histogram.
    pub is_part: bool,
}

impl Sources {
    /// Decides for a leaf; notes what is no longer kept.
    pub fn of(context: &Context<'_>, leaf: &Leaf, windows: &Windows, notes: &mut Vec<String>) -> Self {
        let bounds = windows.bounds();
        Self::over(context, leaf, windows.range(), bounds.get(1..bounds.len().saturating_sub(1)).unwrap_or_default(), notes)
    }

    /// Decides for a leaf over a range; `bounds` are the borders between its cells.
    pub fn over(context: &Context<'_>, leaf: &Leaf, range: TimeRange, bounds: &[Nanos], notes: &mut Vec<String>) -> Self {
        let mut sources = Self::anywhere(context, leaf);
        sources.segments = sources.cut(leaf, range, bounds);
        sources.note(context, leaf, notes);
        sources.list(context, leaf);
        sources
    }

    /// For lookups of single points of a leaf.
    pub fn anywhere(context: &Context<'_>, leaf: &Leaf) -> Self {
        let coverage = context.source.covered(leaf.dataset, leaf.metric, &leaf.from.levels);
        let is_level_forced = matches!(leaf.from.forced, Some(ReadFrom::Level(_)));
        Self { covered: coverage.levels, dropped: coverage.dropped, segments: Vec::new(), is_level_forced }
    }

    fn levels(&self, leaf: &Leaf) -> Vec<Covered> {
        let nowhere = TimeRange { start: 0, end: 0 };
        let all = leaf.from.levels.iter().zip(&self.covered);
        all.map(|(level, range)| Covered { level: level.level.clone(), range: range.unwrap_or(nowhere) }).collect()
    }

    fn cut(&self, leaf: &Leaf, range: TimeRange, bounds: &[Nanos]) -> Vec<Segment> {
        let is_sketched = leaf.from.by_windows.is_some_and(|by| by.is_sketched);
        let dropped: &[TimeRange] = if self.is_level_forced { &[TimeRange::ALL] } else { &self.dropped };
        segments(range, bounds, &self.levels(leaf), dropped, is_sketched && !self.is_level_forced)
    }

    /// Stretches that cannot be read, in order.
    pub fn unreadable(&self) -> impl Iterator<Item = TimeRange> {
        self.segments.iter().filter(|segment| segment.answers == Answers::Nothing).map(|segment| segment.range)
    }

    /// The whole of the stretch of dropped points that a part is of.
    pub fn dropped_around(&self, part: TimeRange) -> TimeRange {
        self.dropped.iter().copied().find(|dropped| dropped.start <= part.start && part.end <= dropped.end).unwrap_or(part)
    }

    /// Which windows lack a part of their time: those that an unreadable stretch touches. Nothing if all of it can be read.
    pub fn cut_windows(&self, windows: &Windows, now: Nanos) -> Option<Vec<bool>> {
        let unreadable: Vec<TimeRange> = self.unreadable().collect();
        let is_cut = |at: usize| {
            let passed = windows.passed(at, now);
            unreadable.iter().any(|range| range.start.max(passed.start) < range.end.min(passed.end))
        };
        (!unreadable.is_empty()).then(|| (0..windows.len()).map(is_cut).collect())
    }

    fn note(&self, context: &Context<'_>, leaf: &Leaf, notes: &mut Vec<String>) {
        let unreadable: Vec<TimeRange> = self.unreadable().collect();
        if unreadable.is_empty() {
            return;
        }
        let zone = &context.plan.zone;
        let text = &leaf.text;
        notes.push(match leaf.from.forced {
            Some(ReadFrom::Level(width)) => {
                let read = self.segments.iter().filter(|segment| segment.answers != Answers::Nothing).map(|segment| segment.range).collect();
                let read = joined(read);
                if read.is_empty() {
                    format!("{text}: the {width} rollup has no window in this range, so nothing was read")
                } else {
                    format!("{text}: the {width} rollup answers {}; the rest of the range was not read", stretches(&read, zone))
                }
            }
            _ => format!("{text}: points {} are no longer kept, and no rollup answers there", stretches(&joined(unreadable), zone)),
        });
    }

    /// Lists what answers for which part of time, where there are levels at all, and where nothing does.
    fn list(&self, context: &Context<'_>, leaf: &Leaf) {
        let has_no_choice = leaf.from.levels.is_empty() && leaf.from.forced.is_none() && leaf.from.why_not.is_none();
        let is_plain = has_no_choice || leaf.take == Take::Points;
        if is_plain && self.unreadable().next().is_none() {
            return;
        }
        let Ok(mut parts) = context.parts.lock() else { return };
        for segment in &self.segments {
            let (source, why) = match segment.answers {
                Answers::Level(level) => (ReadSource::Level(leaf.from.levels[level].level.width()), None),
                Answers::Nothing if self.is_level_forced => (ReadSource::Nothing, Some("this rollup has no window here")),
                Answers::Nothing => (ReadSource::Nothing, Some("points are no longer kept")),
                Answers::Points => (ReadSource::Points, self.why_points(leaf, segment.range)),
            };
            parts.push(ReadPart { what: leaf.text.clone(), range: segment.range, source, why });
        }
    }

    fn why_points(&self, leaf: &Leaf, range: TimeRange) -> Option<&'static str> {
        let is_covered = || self.covered.iter().flatten().any(|covered| covered.start < range.end && range.start < covered.end);
        Some(match leaf.from.why_not {
            Some(why) => why,
            None if leaf.from.forced == Some(ReadFrom::Raw) => "the query says so",
            None if leaf.from.by_windows.is_some_and(|by| by.is_sketched) => "a rollup is only within 1%",
            None if is_covered() => "no whole rollup window",
            None => "no rollup here yet",
        })
    }

    fn asked<'l>(leaf: &'l Leaf, level: usize, is_part: bool, wants: Wants) -> AskedWindows<'l> {
        let joins = leaf.from.by_windows.is_some_and(|by| by.joins);
        let mark = joins.then(|| Rules::of(&leaf.facts, is_part).mark());
        AskedWindows { dataset: leaf.dataset, metric: leaf.metric, level: &leaf.from.levels[level], wants, mark }
    }

    /// The stretches that a leaf's time is made of, in order.
    pub fn segments(&self) -> &[Segment] {
        &self.segments
    }

    /// Visits the runs of some series in order of time, each with the segment that it counts in: what of it lies outside belongs to others.
    pub fn scan(&self, wanted: Wanted<'_>, each: Each<'_>) -> Result<(), EvaluateError> {
        self.segments.iter().try_for_each(|segment| self.scan_segment(wanted, segment, each))
    }

    /// The same of one segment. Of a stretch that nothing answers, these are the points that came after the others had been dropped.
    pub fn scan_segment(&self, wanted: Wanted<'_>, segment: &Segment, each: Each<'_>) -> Result<(), EvaluateError> {
        let Wanted { context, leaf, series, is_part } = wanted;
        let visit = &mut |place: usize, run: Run<'_>| each(place, segment.range, run);
        match (segment.answers, leaf.from.by_windows) {
            (Answers::Level(level), Some(by)) => context.scan_windows(&Self::asked(leaf, level, is_part, by.wants), series, segment.range, visit),
            (Answers::Nothing, _) if self.is_level_forced => Ok(()),
            _ => context.scan(leaf.dataset, series, segment.range, visit),
        }
    }

    /// The latest or the earliest point of each series inside a range beyond the leaf's time; where points are no longer kept, from windows.
    pub fn outermost(&self, wanted: Wanted<'_>, range: TimeRange, end: End) -> Result<Vec<Neighbour>, EvaluateError> {
        let Wanted { context, leaf, series, .. } = wanted;
        if !self.dropped.iter().any(|dropped| dropped.start < range.end && range.start < dropped.end) {
            let found = context.outermost(leaf.dataset, series, range, end)?;
            return Ok(found.into_iter().map(Neighbour::Known).collect());
        }
        let mut parts = segments(range, &[], &self.levels(leaf), &self.dropped, true);
        if end == End::Latest {
            parts.reverse();
        }
        let mut found: Vec<Option<Neighbour>> = vec![None; series.len()];
        for part in parts {
            let open: Vec<usize> = (0..series.len()).filter(|at| found[*at].is_none()).collect();
            if open.is_empty() {
                break;
            }
            let ids: Vec<SeriesId> = open.iter().map(|at| series[*at]).collect();
            let wanted = Wanted { series: &ids, ..wanted };
            let nearest = match part.answers {
                Answers::Points => context.outermost(leaf.dataset, &ids, part.range, end)?.into_iter().map(Neighbour::Known).collect(),
                Answers::Level(level) => self.outermost_of_windows(wanted, level, part.range, end)?,
                Answers::Nothing => self.edge(wanted, part.range, end)?,
            };
            for (at, neighbour) in open.into_iter().zip(nearest) {
                found[at] = (neighbour != Neighbour::Known(None)).then_some(neighbour);
            }
        }
        Ok(found.into_iter().map(|neighbour| neighbour.unwrap_or(Neighbour::Known(None))).collect())
    }

    /// The latest or earliest points inside a stretch on a level's borders, which it covers.
    fn outermost_of_windows(&self, wanted: Wanted<'_>, level: usize, range: TimeRange, end: End) -> Result<Vec<Neighbour>, EvaluateError> {
        let mut found: Vec<Option<Sample>> = vec![None; wanted.series.len()];
        let (mut left, mut windows) = (range, NEAR_WINDOWS);
        while !left.is_empty() && found.iter().any(Option::is_none) {
            let near = nearest_windows(&wanted.leaf.from.levels[level].level, left, windows, end);
            self.each_window(wanted, level, near, &mut |place, first, last| {
                let sample = if end == End::Latest { last } else { first };
                if found[place].is_none_or(|known| is_nearer(sample, known, end)) {
                    found[place] = Some(sample);
                }
            })?;
            match end {
                End::Latest => left.end = near.start,
                End::Earliest => left.start = near.end,
            }
            windows = windows.saturating_mul(8);
        }
        Ok(found.into_iter().map(Neighbour::Known).collect())
    }

    /// The latest or earliest points of a stretch whose points were dropped, as far as windows that reach into it say.
    pub fn edge(&self, wanted: Wanted<'_>, dropped: TimeRange, end: End) -> Result<Vec<Neighbour>, EvaluateError> {
        let unknown = || vec![Neighbour::Dropped(dropped); wanted.series.len()];
        let border = if end == End::Latest { dropped.end } else { dropped.start };
        // The instant beside the border, inside the stretch.
        let beside = if end == End::Latest { border.saturating_sub(1) } else { border };
        // The finest level says most.
        let levels = wanted.leaf.from.levels.iter().zip(&self.covered).enumerate().rev();
        let mut covering = levels.filter_map(|(at, (level, covered))| Some((at, &level.level, (*covered).filter(|range| range.contains(beside))?)));
        let Some((at, level, covered)) = covering.next() else { return Ok(unknown()) };
        let wide = TimeRange { start: level.floor(dropped.start).max(covered.start), end: level.ceil(dropped.end).min(covered.end) };
        let looked = nearest_windows(level, wide, NEAR_WINDOWS, end);
        let is_whole = looked.start <= dropped.start && dropped.end <= looked.end;
        let mut found: Vec<Option<Sample>> = vec![None; wanted.series.len()];
        let mut is_blurred = vec![false; wanted.series.len()];
        self.each_window(wanted, at, looked, &mut |place, first, last| {
            let (inner, outer) = if end == End::Latest { (last, first) } else { (first, last) };
            let lies_inside = |sample: Sample| if end == End::Latest { sample.time < border } else { sample.time >= border };
            if lies_inside(inner) {
                let is_better = found[place].is_none_or(|known| is_nearer(inner, known, end));
                found[place] = if is_better { Some(inner) } else { found[place] };
            } else if lies_inside(outer) {
                // A window over the border: it does not say which of its points was the last before it.
                is_blurred[place] = true;
            }
        })?;
        let neighbour = |(sample, is_blurred): (Option<Sample>, bool)| match sample.filter(|sample| dropped.contains(sample.time)) {
            _ if is_blurred => Neighbour::Dropped(dropped),
            None if !is_whole => Neighbour::Dropped(dropped),
            inside => Neighbour::Known(inside),
        };
        Ok(found.into_iter().zip(is_blurred).map(neighbour).collect())
    }

    /// Gives the first and the last point of each window of a level inside a range on its borders.
    fn each_window(
        &self,
        wanted: Wanted<'_>,
        level: usize,
        range: TimeRange,
        give: &mut dyn FnMut(usize, Sample, Sample),
    ) -> Result<(), EvaluateError> {
        let asked = Self::asked(wanted.leaf, level, wanted.is_part, Wants { ends: true, ..Wants::default() });
        let mut columns = Columns::default();
        wanted.context.scan_windows(&asked, wanted.series, range, &mut |place, run| {
            let points = match run {
                Run::Windows(windows, places) => {
                    places.map(|at| windows.view(at).summary).for_each(|summary| give(place, summary.first, summary.last));
                    return Ok(());
                }
                Run::Block(block) => {
                    columns.clear();
                    block.decode(&mut columns)?;
                    columns.points()
                }
                Run::Points(points) => points,
            };
            // Windows that are out of date come as points, each of which is known.
            for at in points.places_in(range) {
                let sample = Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) };
                give(place, sample, sample);
            }
            Ok(())
        })
    }
}

fn is_nearer(sample: Sample, known: Sample, end: End) -> bool {
    if end == End::Latest { sample.time > known.time } else { sample.time < known.time }
}

/// About so many windows of a range on a level's borders, at its end or its beginning.
fn nearest_windows(level: &Level, range: TimeRange, windows: Nanos, end: End) -> TimeRange {
    let length = level.nominal().saturating_mul(windows);
    match end {
        End::Latest => TimeRange { start: level.floor(range.end.saturating_sub(length)).max(range.start), ..range },
        End::Earliest => TimeRange { end: level.ceil(range.start.saturating_add(length)).min(range.end), ..range },
    }
}

/// Ranges in order, those that touch made one.
fn joined(ranges: Vec<TimeRange>) -> Vec<TimeRange> {
    let mut out: Vec<TimeRange> = Vec::new();
    for range in ranges {
        match out.last_mut() {
            Some(last) if last.end >= range.start => last.end = last.end.max(range.end),
            _ => out.push(range),
        }
    }
    out
}

/// Stretches of time in words, to the second.
pub fn stretches(ranges: &[TimeRange], zone: &TimeZone) -> String {
    let time = |at: Nanos| format_in_zone(at.saturating_sub(at.rem_euclid(SECOND)), zone);
    let stretch = |range: &TimeRange| match (range.start, range.end) {
        (Nanos::MIN, end) => format!("before {}", time(end)),
        (start, end) => format!("from {} to {}", time(start), time(end)),
    };
    let named: Vec<String> = ranges.iter().take(MAX_NAMED).map(stretch).collect();
    let more = ranges.len().saturating_sub(MAX_NAMED);
    let tail = if more > 0 { format!(" and in {more} more stretches") } else { String::new() };
    format!("{}{tail}", named.join(", "))
}
