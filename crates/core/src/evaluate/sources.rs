//! Which part of a leaf's time is read from points and which from a level, and points beyond the ends of that time.

use super::{AskedWindows, Context, End, EvaluateError, Run, SourceError};
use crate::{
    answer::ReadPart,
    model::SeriesId,
    plan::Leaf,
    query::ReadFrom,
    rollup::{Covered, Rules, Segment, Segments, Wants, segments},
    summary::Sample,
    time::{Nanos, SECOND, TimeRange, Windows, format_in_zone},
};

/// How a leaf's time is read.
pub struct Sources {
    /// Of each of the leaf's levels, the stretch that it stands for.
    covered: Vec<Option<TimeRange>>,
    raw_from: Nanos,
    segments: Vec<Segment>,
}

/// What takes runs, with the segment that they are of.
type Each<'v> = &'v mut dyn FnMut(usize, TimeRange, Run<'_>) -> Result<(), SourceError>;

impl Sources {
    /// Decides for a leaf; says in `notes` what is no longer there.
    pub fn of(context: &Context<'_>, leaf: &Leaf, windows: &Windows, notes: &mut Vec<String>) -> Self {
        let coverage = context.source.covered(leaf.dataset, leaf.metric, &leaf.from.levels);
        let mut sources = Self { covered: coverage.levels, raw_from: coverage.raw_from, segments: Vec::new() };
        let bounds = windows.bounds();
        let mut found = sources.cut(leaf, windows.range(), bounds.get(1..bounds.len().saturating_sub(1)).unwrap_or_default());
        // People read them to the second.
        let told = |at: Nanos| format_in_zone(at.saturating_sub(at.rem_euclid(SECOND)), &context.plan.zone);
        if let Some(ReadFrom::Level(width)) = &leaf.from.forced {
            let left_out = found.parts.iter().any(|part| part.level.is_none());
            found.parts.retain(|part| part.level.is_some());
            if left_out {
                let there = match (found.parts.first(), found.parts.last()) {
                    (Some(first), Some(last)) => format!("from {} to {}", told(first.range.start), told(last.range.end)),
                    _ => "nowhere in this time".to_owned(),
                };
                notes.push(format!("{}: the rollup of {width} stands for points {there}; what lies outside was left out", leaf.text));
            }
        } else if let Some(gone) = found.gone {
            notes.push(format!(
                "{}: points from {} to {} are no longer all kept, and no rollup stands for them here",
                leaf.text,
                told(gone.start.max(windows.range().start)),
                told(gone.end)
            ));
        }
        sources.segments = found.parts;
        sources.tell(context, leaf);
        sources
    }

    fn levels(&self, leaf: &Leaf) -> Vec<Covered> {
        let nowhere = TimeRange { start: 0, end: 0 };
        let all = leaf.from.levels.iter().zip(&self.covered);
        all.map(|(level, range)| Covered { level: level.level.clone(), range: range.unwrap_or(nowhere) }).collect()
    }

    fn cut(&self, leaf: &Leaf, range: TimeRange, bounds: &[Nanos]) -> Segments {
        let is_forced = matches!(leaf.from.forced, Some(ReadFrom::Level(_)));
        let is_sketched = leaf.from.by_windows.is_some_and(|by| by.is_sketched);
        segments(range, bounds, &self.levels(leaf), self.raw_from, is_sketched && !is_forced)
    }

    /// Notes what answers for which part of time, where there are levels at all.
    fn tell(&self, context: &Context<'_>, leaf: &Leaf) {
        let is_plain = leaf.from.levels.is_empty() && leaf.from.forced.is_none() && leaf.from.why_not.is_none();
        let Ok(mut parts) = context.parts.lock() else { return };
        for segment in self.segments.iter().filter(|_| !is_plain) {
            let level = segment.level.map(|level| leaf.from.levels[level].level.width());
            let why = if level.is_some() {
                None
            } else if let Some(why) = leaf.from.why_not {
                Some(why)
            } else if leaf.from.forced == Some(ReadFrom::Raw) {
                Some("the query says so")
            } else if leaf.from.by_windows.is_some_and(|by| by.is_sketched) {
                Some("points are exact, a rollup within 1%")
            } else if self.covered.iter().flatten().any(|covered| covered.start < segment.range.end && segment.range.start < covered.end) {
                Some("windows that are cut finer, or elsewhere, than a rollup's")
            } else {
                Some("no rollup reaches here")
            };
            parts.push(ReadPart { what: leaf.text.clone(), range: segment.range, level, why });
        }
    }

    fn asked<'l>(leaf: &'l Leaf, level: usize, is_part: bool, wants: Wants) -> AskedWindows<'l> {
        let joins = leaf.from.by_windows.is_some_and(|by| by.joins);
        let mark = joins.then(|| Rules::of(&leaf.facts, is_part).mark());
        AskedWindows { dataset: leaf.dataset, metric: leaf.metric, level: &leaf.from.levels[level], wants, mark }
    }

    /// Visits the runs of some series in order of time, each with the segment that it counts in: what of it lies outside belongs to others.
    pub fn scan(&self, context: &Context<'_>, leaf: &Leaf, series: &[SeriesId], is_part: bool, each: Each<'_>) -> Result<(), EvaluateError> {
        for segment in &self.segments {
            let visit = &mut |place: usize, run: Run<'_>| each(place, segment.range, run);
            match (segment.level, leaf.from.by_windows) {
                (Some(level), Some(by)) => context.scan_windows(&Self::asked(leaf, level, is_part, by.wants), series, segment.range, visit)?,
                _ => context.scan(leaf.dataset, series, segment.range, visit)?,
            }
        }
        Ok(())
    }

    /// The outermost point of each series inside a range beyond the leaf's time: where points are no longer kept, from the borders of windows.
    pub fn outermost(
        &self,
        context: &Context<'_>,
        leaf: &Leaf,
        series: &[SeriesId],
        is_part: bool,
        range: TimeRange,
        end: End,
    ) -> Result<Vec<Option<Sample>>, EvaluateError> {
        let is_kept = self.raw_from <= range.start || leaf.from.levels.is_empty() || self.covered.iter().all(Option::is_none);
        if is_kept {
            return context.outermost(leaf.dataset, series, range, end);
        }
        // A window that reaches over the far end tells its outermost point all the same.
        let coarsest = &leaf.from.levels[0].level;
        let wider = match end {
            End::Latest => TimeRange { start: coarsest.floor(range.start), ..range },
            End::Earliest => TimeRange { end: coarsest.ceil(range.end), ..range },
        };
        let mut parts = segments(wider, &[], &self.levels(leaf), self.raw_from, true).parts;
        if end == End::Latest {
            parts.reverse();
        }
        let mut found: Vec<Option<Sample>> = vec![None; series.len()];
        for part in parts {
            let open: Vec<usize> = (0..series.len()).filter(|at| found[*at].is_none()).collect();
            if open.is_empty() {
                break;
            }
            let ids: Vec<SeriesId> = open.iter().map(|at| series[*at]).collect();
            let Some(level) = part.level else {
                let inside = TimeRange { start: part.range.start.max(range.start), end: part.range.end.min(range.end) };
                for (at, sample) in open.into_iter().zip(context.outermost(leaf.dataset, &ids, inside, end)?) {
                    found[at] = sample;
                }
                continue;
            };
            let mut note = |place: usize, sample: Sample| {
                let known = &mut found[open[place]];
                let is_further = known.is_none_or(|known| if end == End::Latest { sample.time > known.time } else { sample.time < known.time });
                if is_further && range.contains(sample.time) {
                    *known = Some(sample);
                }
            };
            let asked = Self::asked(leaf, level, is_part, Wants { ends: true, ..Wants::default() });
            context.scan_windows(&asked, &ids, part.range, &mut |place, run| {
                let ends = |first: Sample, last: Sample| if end == End::Latest { last } else { first };
                match run {
                    Run::Windows(windows, places) => {
                        places.map(|at| windows.view(at).summary).for_each(|summary| note(place, ends(summary.first, summary.last)));
                    }
                    Run::Block(block) => {
                        let mut columns = crate::block::Columns::default();
                        block.decode(&mut columns)?;
                        each_end(columns.points(), part.range, &mut |first, last| note(place, ends(first, last)));
                    }
                    Run::Points(points) => each_end(points, part.range, &mut |first, last| note(place, ends(first, last))),
                }
                Ok(())
            })?;
        }
        Ok(found)
    }
}

/// Gives the first and the last of the points inside a range.
fn each_end(points: crate::block::Points<'_>, range: TimeRange, give: &mut dyn FnMut(Sample, Sample)) {
    let inside = points.places_in(range);
    let sample = |at: usize| Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) };
    if !inside.is_empty() {
        give(sample(inside.start), sample(inside.end - 1));
    }
}
