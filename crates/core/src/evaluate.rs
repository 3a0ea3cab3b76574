//! A plan run over an abstract source of points.
//!
//! A source gives each series as runs in order of time that do not overlap. A run that lies inside one window is not decoded
//! where its summary is enough; the others are decoded straight into the windows.

use std::{collections::HashMap, sync::Arc};

use crate::{
    answer::{Answer, Cost, Lines, PointLine, ShowAnswer, WindowLine},
    block::{Columns, Points},
    catalogue::{Codes, Layout},
    model::{DatasetId, SeriesId, Value},
    plan::{LinePlan, Plan, PlannedSeries, ShowPlan},
    query::Reducer,
    summary::{Summary, merge_into},
    time::{Nanos, TimeRange, Windows},
};

/// A source's failure, in its own words.
pub type SourceError = Box<dyn std::error::Error + Send + Sync>;

/// What a scan hands its runs to; its failure ends the scan.
pub type Visit<'v> = &'v mut dyn FnMut(Run<'_>) -> Result<(), SourceError>;

/// Where points come from.
pub trait Source {
    /// Visits the runs of a series that have points in `range`, in order of time, without overlap. A run may reach over the range.
    ///
    /// # Errors
    /// The source's own, or what `visit` returned.
    fn scan(&self, dataset: DatasetId, series: SeriesId, range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError>;
}

/// A stretch of points of one series.
pub enum Run<'a> {
    /// Compressed, with its summary.
    Block(&'a dyn StoredBlock),
    /// As they are, in order of time, each instant once.
    Points(Points<'a>),
}

/// A block that need not be decoded.
pub trait StoredBlock {
    /// What its points contribute.
    fn summary(&self) -> &Summary;

    /// Appends its points.
    ///
    /// # Errors
    /// Where the bytes cannot be read or are damaged.
    fn decode(&self, out: &mut Columns) -> Result<(), SourceError>;
}

/// Why a plan could not be run to its end. Partial work is never given out.
#[derive(Debug, thiserror::Error)]
pub enum EvaluateError {
    /// The source failed.
    #[error("{0}")]
    Source(SourceError),
    /// More points than allowed.
    #[error("the query gives more than {limit} points: ask for a shorter time or fewer series, or reduce them to windows")]
    TooManyPoints {
        /// The most that are given.
        limit: usize,
    },
    /// It was told to stop: its time was up, or nobody waits any more.
    #[error("the query was stopped before it was done")]
    Stopped,
}

/// Runs a plan. `stop` is asked between runs of points.
///
/// # Errors
/// [`EvaluateError`].
pub fn evaluate(plan: Plan, source: &dyn Source, stop: &dyn Fn() -> bool) -> Result<Answer, EvaluateError> {
    let mut run = Evaluation {
        source: Stoppable { source, stop },
        windows: &plan.windows,
        cost: Cost::default(),
        scratch: Columns::default(),
        points_left: plan.most_points,
        overflowed: false,
    };
    let mut shows = Vec::with_capacity(plan.shows.len());
    let mut notes = plan.notes;
    for show in &plan.shows {
        let lines = match show.reducer {
            Some(reducer) => Lines::Windows(run.reduce(show, reducer)?),
            None => Lines::Points(run.points(show, plan.most_points)?),
        };
        if std::mem::take(&mut run.overflowed) {
            notes.push(format!("{}: a sum left the range of 64-bit floats; those windows are empty", show.label));
        }
        shows.push(ShowAnswer { label: show.label.clone(), unit: show.unit.clone(), lines });
    }
    let cost = run.cost;
    Ok(Answer { now: plan.now, zone: plan.zone, windows: plan.windows, shows, notes, cost })
}

/// A source that is left as soon as its reader is told to stop.
struct Stoppable<'a> {
    source: &'a dyn Source,
    stop: &'a dyn Fn() -> bool,
}

impl Stoppable<'_> {
    /// As [`Source::scan`], asking before the series and before each of its runs whether to stop.
    fn scan(&self, dataset: DatasetId, series: SeriesId, range: TimeRange, visit: Visit<'_>) -> Result<(), EvaluateError> {
        let mut stopped = (self.stop)();
        if stopped {
            return Err(EvaluateError::Stopped);
        }
        let scanned = self.source.scan(dataset, series, range, &mut |run| {
            stopped = (self.stop)();
            if stopped { Err("stopped".into()) } else { visit(run) }
        });
        scanned.map_err(|error| if stopped { EvaluateError::Stopped } else { EvaluateError::Source(error) })
    }
}

struct Evaluation<'a> {
    source: Stoppable<'a>,
    windows: &'a Windows,
    cost: Cost,
    scratch: Columns,
    points_left: usize,
    overflowed: bool,
}

impl Evaluation<'_> {
    fn reduce(&mut self, show: &ShowPlan, reducer: Reducer) -> Result<Vec<WindowLine>, EvaluateError> {
        show.lines.iter().map(|line| self.reduce_line(show.dataset, line, reducer)).collect()
    }

    fn reduce_line(&mut self, dataset: DatasetId, line: &LinePlan, reducer: Reducer) -> Result<WindowLine, EvaluateError> {
        let mut merged: Vec<Option<Summary>> = vec![None; self.windows.len()];
        let mut words = Words::default();
        for series in &line.series {
            let mut own = vec![None; if series.codes.is_some() { merged.len() } else { 0 }];
            // Words have codes of their own in every series: these are translated before they meet.
            let target = if series.codes.is_some() { &mut own } else { &mut merged };
            self.summarise(dataset, series.id, target)?;
            for (into, summary) in merged.iter_mut().zip(&own) {
                if let Some(summary) = summary {
                    merge_into(into, &words.translate(summary, series));
                }
            }
        }
        let is_state = line.series.iter().any(|series| series.codes.is_some());
        let mut value = |summary: &Summary| {
            let value = reduced(summary, reducer);
            let number = value.number().unwrap_or(f64::NAN);
            if is_state && reducer != Reducer::Count {
                return words.word(number).map(Value::Word);
            }
            self.overflowed |= !number.is_finite();
            number.is_finite().then_some(value)
        };
        let values = merged.iter().map(|window| window.as_ref().and_then(&mut value)).collect();
        Ok(WindowLine { tags: line.tags.clone(), values })
    }

    /// Merges a series' points into their windows.
    fn summarise(&mut self, dataset: DatasetId, series: SeriesId, into: &mut [Option<Summary>]) -> Result<(), EvaluateError> {
        let Self { source, windows, cost, scratch, .. } = self;
        let range = windows.range();
        let mut cursor = Cursor { windows, at: 0 };
        cost.series += 1;
        source.scan(dataset, series, range, &mut |run| {
            match run {
                Run::Block(block) => {
                    let summary = block.summary();
                    if range.contains(summary.first.time) && range.contains(summary.last.time) {
                        cursor.seek(summary.first.time);
                        if cursor.end() > summary.last.time {
                            cost.blocks_summarised += 1;
                            merge_into(&mut into[cursor.at], summary);
                            return Ok(());
                        }
                    }
                    scratch.clear();
                    block.decode(scratch)?;
                    cost.blocks_decoded += 1;
                    cost.points_read += scratch.len() as u64;
                    cursor.add(scratch.points(), into);
                }
                Run::Points(points) => {
                    cost.points_read += points.len() as u64;
                    cursor.add(points, into);
                }
            }
            Ok(())
        })
    }

    fn points(&mut self, show: &ShowPlan, limit: usize) -> Result<Vec<PointLine>, EvaluateError> {
        let mut lines = Vec::with_capacity(show.lines.len());
        for line in &show.lines {
            for series in &line.series {
                self.cost.series += 1;
                let columns = self.series_points(show.dataset, series.id, limit)?;
                let points = columns.points();
                let values = match series.codes.as_ref() {
                    None => (0..points.len()).map(|at| points.value(at)).collect(),
                    Some(Codes::Words(words)) => {
                        let word = |number: &f64| words.get(*number as usize).map_or(Value::Number(*number), |word| Value::Word(Arc::clone(word)));
                        columns.values.iter().map(word).collect()
                    }
                    Some(Codes::Layouts(layouts)) => self.histograms(show.dataset, points, layouts, limit)?,
                };
                lines.push(PointLine { tags: line.tags.clone(), times: columns.times, values });
            }
        }
        Ok(lines)
    }

    /// The histograms whose layouts' codes are in `points`.
    fn histograms(&mut self, dataset: DatasetId, points: Points<'_>, layouts: &[Layout], limit: usize) -> Result<Vec<Value>, EvaluateError> {
        let mut values: Vec<Value> = points.values.iter().map(|code| Value::Number(*code)).collect();
        for (code, layout) in layouts.iter().enumerate() {
            let places: Vec<usize> = (0..points.len()).filter(|at| points.values[*at] as usize == code).collect();
            if places.is_empty() {
                continue;
            }
            let mut parts = vec![vec![(0.0, 0); layout.parts().len()]; places.len()];
            for (part, id) in layout.parts().enumerate() {
                let stored = self.series_points(dataset, id, limit)?;
                for (histogram, place) in parts.iter_mut().zip(&places) {
                    // A part without that instant would be damage; it then counts as nothing.
                    if let Ok(at) = stored.times.binary_search(&points.times[*place]) {
                        histogram[part] = (stored.values[at], stored.points().rest(at));
                    }
                }
            }
            for (histogram, place) in parts.iter().zip(places) {
                values[place] = Value::Histogram(Arc::new(layout.histogram(histogram)));
            }
        }
        Ok(values)
    }

    fn series_points(&mut self, dataset: DatasetId, series: SeriesId, limit: usize) -> Result<Columns, EvaluateError> {
        let Self { source, windows, cost, scratch, points_left, .. } = self;
        let range = windows.range();
        let mut out = Columns::default();
        let mut refused = None;
        let mut take = |points: Points<'_>, cost: &mut Cost| {
            let inside = points.places_in(range);
            if inside.len() > *points_left {
                refused = Some(EvaluateError::TooManyPoints { limit });
                return Err("too many points".into());
            }
            *points_left -= inside.len();
            cost.points_read += inside.len() as u64;
            out.extend(points.slice(inside));
            Ok(())
        };
        let scanned = source.scan(dataset, series, range, &mut |run| match run {
            Run::Points(points) => take(points, cost),
            Run::Block(block) => {
                scratch.clear();
                block.decode(scratch)?;
                cost.blocks_decoded += 1;
                take(scratch.points(), cost)
            }
        });
        match scanned {
            Ok(()) => Ok(out),
            Err(error) => Err(refused.unwrap_or(error)),
        }
    }
}

fn reduced(summary: &Summary, reducer: Reducer) -> Value {
    Value::Number(match reducer {
        Reducer::Count => summary.count as f64,
        Reducer::Sum => summary.sum,
        Reducer::Mean => summary.mean(),
        Reducer::Min => summary.min,
        Reducer::Max => summary.max,
        Reducer::First => return summary.first.to_value(),
        Reducer::Last => return summary.last.to_value(),
    })
}

/// Walks through the windows beside points in order of time.
struct Cursor<'a> {
    windows: &'a Windows,
    at: usize,
}

impl Cursor<'_> {
    fn end(&self) -> Nanos {
        self.windows.bounds()[self.at + 1].min(self.windows.range().end)
    }

    /// Moves to the window that holds an instant inside the range.
    fn seek(&mut self, time: Nanos) {
        if time >= self.end() {
            let ahead = &self.windows.bounds()[self.at + 1..];
            // The last border lies at or after the end of the range, so an instant inside always has a window.
            self.at += ahead.partition_point(|border| *border <= time);
        }
    }

    fn add(&mut self, points: Points<'_>, into: &mut [Option<Summary>]) {
        let mut rest = points.places_in(self.windows.range());
        while !rest.is_empty() {
            self.seek(points.times[rest.start]);
            let end = self.end();
            let length = points.times[rest.clone()].partition_point(|at| *at < end);
            let part = rest.start..rest.start + length;
            if let Some(summary) = Summary::of(points.slice(part.clone())) {
                merge_into(&mut into[self.at], &summary);
            }
            rest.start = part.end;
        }
    }
}

/// A dictionary that several series of a state share.
#[derive(Default)]
struct Words {
    codes: HashMap<Arc<str>, usize>,
    words: Vec<Arc<str>>,
}

impl Words {
    fn translate(&mut self, summary: &Summary, series: &PlannedSeries) -> Summary {
        let mut summary = *summary;
        for sample in [&mut summary.first, &mut summary.last] {
            // A series' dictionary is written before its points, so each code has its word.
            sample.value = match series.codes.as_ref() {
                Some(Codes::Words(words)) => words.get(sample.value as usize).map_or(f64::NAN, |word| self.code(word) as f64),
                _ => f64::NAN,
            };
        }
        summary
    }

    fn code(&mut self, word: &Arc<str>) -> usize {
        *self.codes.entry(Arc::clone(word)).or_insert_with(|| {
            self.words.push(Arc::clone(word));
            self.words.len() - 1
        })
    }

    fn word(&self, code: f64) -> Option<Arc<str>> {
        if code.is_nan() { None } else { self.words.get(code as usize).cloned() }
    }
}

#[cfg(test)]
mod tests;
