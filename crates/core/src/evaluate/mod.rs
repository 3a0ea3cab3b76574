//! A plan run over an abstract source of points.
//!
//! A source gives each series as runs in order of time that do not overlap. A run that lies inside one cell of the windows' grid is not
//! decoded where its summary is enough; the others are decoded straight into the windows, by all cores, a few series at a time.
//!
//! | file | subject |
//! |---|---|
//! | `cells` | which cell of the grid an instant lies in |
//! | `parts` | what points of a cell contribute, mergeable |
//! | `neighbours` | what follows from two points that follow each other: growth, area, time in a state |
//! | `leaves` | each reducer with the parts, or the neighbours, that it is made of |
//! | `reading` | series of a leaf read side by side, their parts merged in one order |
//! | `ways` | how windows find their cells, and states their words |
//! | `sources` | which part of a leaf's time is read from which level, and neighbours beyond its ends |
//! | `histograms` | distributions: growth and quantiles inside buckets |
//! | `moment` | values at an instant |
//! | `points` | the points themselves |
//! | `table` | lines of values as they pass from step to step |
//! | `nodes` | arithmetic, functions, lines reduced to fewer |
//! | `shaping` | gaps filled, lines kept and ranked |

mod cells;
mod histograms;
mod leaves;
mod moment;
mod neighbours;
mod nodes;
mod parts;
mod points;
mod reading;
mod shaping;
mod sources;
mod table;
mod ways;

use std::sync::{
    Mutex,
    atomic::{AtomicUsize, Ordering},
};

use sources::Sources;
use table::Table;

use crate::{
    answer::{Answer, AnswerTime, Cost, Lines, PointLine, ReadPart, ShowAnswer},
    block::{Columns, Points},
    model::{DatasetId, MetricId, SeriesId},
    plan::{Leaf, LevelPlan, Node, Plan, PlannedTime, Take},
    rollup::{Wants, WindowColumns},
    summary::{Sample, Summary},
    time::TimeRange,
};

/// A source's failure, in its own words.
pub type SourceError = Box<dyn std::error::Error + Send + Sync>;

/// What a scan hands its runs to, with the place of their series among those asked for; its failure ends the scan.
pub type Visit<'v> = &'v mut dyn FnMut(usize, Run<'_>) -> Result<(), SourceError>;

/// From which end of a range.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// The latest point inside.
    Latest,
    /// The earliest point inside.
    Earliest,
}

/// Where points come from.
pub trait Source: Sync {
    /// Visits the runs of some series that have points in `range`: those of each series in order of time, without overlap; the series in any
    /// order, and among each other. A run may reach over the range.
    ///
    /// # Errors
    /// The source's own, or what `visit` returned.
    fn scan(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), SourceError>;

    /// The outermost point of each series inside a range, where it has any.
    ///
    /// # Errors
    /// The source's own.
    fn outermost(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, end: End) -> Result<Vec<Option<Sample>>, SourceError>;

    /// The time that each of some levels covers for a metric; and from when on all points are kept.
    fn covered(&self, _dataset: DatasetId, _metric: MetricId, levels: &[LevelPlan]) -> Coverage {
        Coverage { levels: vec![None; levels.len()], dropped: Vec::new() }
    }

    /// As [`Source::scan`], from the windows of a level inside a range on its borders that it covers. Where windows are out of date, or were made by
    /// other rules, the points themselves are visited.
    ///
    /// # Errors
    /// As for [`Source::scan`].
    fn scan_windows(&self, asked: &AskedWindows<'_>, _series: &[SeriesId], _range: TimeRange, _visit: Visit<'_>) -> Result<(), SourceError> {
        Err(format!("there is no level of {} here", asked.level.level.width()).into())
    }

    /// What was read so far beyond what visitors saw: blocks that scans passed over, and what looks for outermost points took.
    fn unseen(&self) -> Cost {
        Cost::default()
    }
}

/// How far levels reach.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Coverage {
    /// The time that each level covers, on its borders.
    pub levels: Vec<Option<TimeRange>>,
    /// Stretches whose points were dropped, in order and disjoint. Some points may have come since.
    pub dropped: Vec<TimeRange>,
}

/// Windows that are asked for.
#[derive(Clone, Copy, Debug)]
pub struct AskedWindows<'a> {
    /// Its dataset.
    pub dataset: DatasetId,
    /// The metric.
    pub metric: MetricId,
    /// Of which level.
    pub level: &'a LevelPlan,
    /// What of them.
    pub wants: Wants,
    /// The mark of the rules that they must have been made by, where neighbours count.
    pub mark: Option<u32>,
}

/// A stretch of points of one series.
pub enum Run<'a> {
    /// Windows that stand for their points, in order: those at some places.
    Windows(&'a WindowColumns, std::ops::Range<usize>),
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
    /// If the bytes cannot be read or are damaged.
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
    /// More decoded than allowed.
    #[error("the query has decoded more than {limit} points: ask for a shorter time or fewer series")]
    TooManyDecoded {
        /// The most that are decoded.
        limit: usize,
    },
    /// More held at once than allowed.
    #[error("quantiles and `distinct` hold their points in memory, and these are more than {limit}: ask for fewer series or a shorter time")]
    TooManyHeld {
        /// The most that are held.
        limit: usize,
    },
    /// It was stopped: its time was up, or nobody waits any more.
    #[error("the query was stopped before it was done")]
    Stopped,
}

/// Runs a plan. `stop` is asked between runs of points, from several threads.
///
/// # Errors
/// [`EvaluateError`].
pub fn evaluate(plan: Plan, source: &dyn Source, stop: &(dyn Fn() -> bool + Sync)) -> Result<Answer, EvaluateError> {
    read(plan, source, stop).map(ReadResults::answer)
}

/// What was read for a plan, reduced to windows.
pub struct ReadResults {
    plan: Plan,
    /// Of each leaf that is reduced, or asked for at a moment.
    tables: Vec<Table>,
    /// Of each leaf whose points are shown.
    points: Vec<Option<Vec<PointLine>>>,
    notes: Vec<String>,
    parts: Vec<ReadPart>,
    cost: Cost,
}

/// The first half of [`evaluate`]: reads all points that a plan needs. What is left is arithmetic.
///
/// # Errors
/// [`EvaluateError`].
pub fn read(plan: Plan, source: &dyn Source, stop: &(dyn Fn() -> bool + Sync)) -> Result<ReadResults, EvaluateError> {
    let context = Context { plan: &plan, source, stop, decoded: AtomicUsize::new(0), held: AtomicUsize::new(0), parts: Mutex::default() };
    let mut cost = Cost::default();
    let mut notes = plan.notes.clone();
    let mut points_left = plan.limits.points;
    let mut tables = vec![Table::default(); plan.leaves.len()];
    let mut points = vec![None; plan.leaves.len()];
    let mut is_read = vec![false; plan.leaves.len()];
    for (at, leaf) in plan.leaves.iter().enumerate() {
        // What the leaf before held was let go with it.
        context.held.store(0, Ordering::Relaxed);
        match &leaf.take {
            _ if is_read[at] => {}
            Take::Points => points[at] = Some(points::read(&context, leaf, &mut points_left, &mut cost, &mut notes)?),
            Take::Moment => tables[at] = moment::read(&context, leaf, &mut cost, &mut notes)?,
            Take::Reduced(_) => {
                let mates = (at + 1..plan.leaves.len()).filter(|other| leaves::walk_together(leaf, &plan.leaves[*other]));
                let places: Vec<usize> = std::iter::once(at).chain(mates).collect();
                let leaves: Vec<&Leaf> = places.iter().map(|place| &plan.leaves[*place]).collect();
                for (place, mut table) in places.into_iter().zip(leaves::reduce(&context, &leaves, &mut cost, &mut notes)?) {
                    if let PlannedTime::Windows(windows, gaps) = &plan.time {
                        shaping::fill(&mut table, *gaps, windows, plan.now);
                    }
                    tables[place] = table;
                    is_read[place] = true;
                }
            }
        }
    }
    cost.add(&source.unseen());
    let mut parts = context.parts.into_inner().unwrap_or_default();
    // Leaves of one reducer, a state each, say the same.
    keep_first(&mut notes);
    keep_first(&mut parts);
    Ok(ReadResults { plan, tables, points, notes, parts, cost })
}

/// Drops what was there before.
fn keep_first<T: PartialEq>(all: &mut Vec<T>) {
    for at in (1..all.len()).rev() {
        if all[..at].contains(&all[at]) {
            all.remove(at);
        }
    }
}

/// What would answer for which part of time, without reading any of it.
pub fn sources(plan: &Plan, source: &dyn Source) -> Vec<ReadPart> {
    let stop = || false;
    let context = Context { plan, source, stop: &stop, decoded: AtomicUsize::new(0), held: AtomicUsize::new(0), parts: Mutex::default() };
    if let PlannedTime::Windows(windows, _) = &plan.time {
        for leaf in &plan.leaves {
            let earlier = leaf.earlier.map(|span| windows.earlier(span, &plan.zone));
            let windows = earlier.as_ref().unwrap_or(windows);
            match leaf.take {
                Take::Reduced(_) => drop(Sources::of(&context, leaf, windows, &mut Vec::new())),
                Take::Points => drop(Sources::over(&context, leaf, windows.range(), &[], &mut Vec::new())),
                Take::Moment => {}
            }
        }
    }
    context.parts.into_inner().unwrap_or_default()
}

impl ReadResults {
    /// The second half of [`evaluate`]: arithmetic, and the lines that stay.
    pub fn answer(self) -> Answer {
        let Self { plan, tables, points, mut notes, parts, cost } = self;
        let mut shows = Vec::with_capacity(plan.shows.len());
        for show in &plan.shows {
            let given = points_of(&show.node, &points);
            let lines = given.map_or_else(
                || {
                    let mut empties = nodes::Empties::default();
                    let table = nodes::compute(&show.node, &tables, plan.time.columns(), &mut empties);
                    notes.extend(empties.notes(&show.label));
                    let lines = shaping::shape(table, show);
                    match plan.time {
                        PlannedTime::Windows(..) => Lines::Windows(lines),
                        PlannedTime::Moments(_) => Lines::Moments(lines),
                    }
                },
                Lines::Points,
            );
            shows.push(ShowAnswer { label: show.label.clone(), unit: show.unit.clone(), lines });
        }
        let time = match plan.time {
            PlannedTime::Windows(windows, _) => AnswerTime::Windows(windows),
            PlannedTime::Moments(moments) => AnswerTime::Moments(moments.iter().map(|moment| moment.at).collect()),
        };
        Answer { now: plan.now, zone: plan.zone, time, shows, notes, parts, cost }
    }
}

/// The points that a node shows, if it shows any.
fn points_of(node: &Node, points: &[Option<Vec<PointLine>>]) -> Option<Vec<PointLine>> {
    match node {
        // Two shows of the same points are one leaf.
        Node::Leaf(at) => points.get(*at).cloned().flatten(),
        Node::Stacked { of, .. } => {
            of.iter().map(|node| points_of(node, points)).collect::<Option<Vec<_>>>().filter(|of| !of.is_empty()).map(|of| of.concat())
        }
        _ => None,
    }
}

/// What every reader needs: the plan, the source, and what may still be taken.
struct Context<'a> {
    plan: &'a Plan,
    source: &'a dyn Source,
    stop: &'a (dyn Fn() -> bool + Sync),
    decoded: AtomicUsize,
    held: AtomicUsize,
    /// What answered for which part of time.
    parts: Mutex<Vec<ReadPart>>,
}

/// Points between two checks whether to stop.
const MAX_AT_ONCE: usize = 1_024;

/// Ends a scan from within; its caller translates it into an error.
#[derive(Debug, thiserror::Error)]
enum Ended {
    #[error("stopped")]
    Stopped,
    #[error("too many points decoded")]
    Decoded,
    #[error("too many values held")]
    Held,
    #[error("too many points")]
    Points,
}

impl Context<'_> {
    /// As [`Source::scan`], asking before each run whether to stop.
    fn scan(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), EvaluateError> {
        if (self.stop)() {
            return Err(EvaluateError::Stopped);
        }
        let scanned = self.source.scan(dataset, series, range, &mut |place, run| {
            let mut visit = |run: Run<'_>| if (self.stop)() { Err(Ended::Stopped.into()) } else { visit(place, run) };
            match run {
                Run::Points(points) if points.len() > MAX_AT_ONCE => (0..points.len())
                    .step_by(MAX_AT_ONCE)
                    .try_for_each(|start| visit(Run::Points(points.slice(start..(start + MAX_AT_ONCE).min(points.len()))))),
                run => visit(run),
            }
        });
        scanned.map_err(|error| self.error_of(error))
    }

    /// As [`Source::scan_windows`], likewise.
    fn scan_windows(&self, asked: &AskedWindows<'_>, series: &[SeriesId], range: TimeRange, visit: Visit<'_>) -> Result<(), EvaluateError> {
        let scanned = self.source.scan_windows(asked, series, range, &mut |place, run| {
            if (self.stop)() { Err(Ended::Stopped.into()) } else { visit(place, run) }
        });
        scanned.map_err(|error| self.error_of(error))
    }

    fn outermost(&self, dataset: DatasetId, series: &[SeriesId], range: TimeRange, end: End) -> Result<Vec<Option<Sample>>, EvaluateError> {
        if (self.stop)() {
            return Err(EvaluateError::Stopped);
        }
        if range.is_empty() {
            return Ok(vec![None; series.len()]);
        }
        self.source.outermost(dataset, series, range, end).map_err(|error| self.error_of(error))
    }

    fn error_of(&self, error: SourceError) -> EvaluateError {
        let limits = &self.plan.limits;
        match error.downcast_ref::<Ended>() {
            None => EvaluateError::Source(error),
            Some(Ended::Stopped) => EvaluateError::Stopped,
            Some(Ended::Decoded) => EvaluateError::TooManyDecoded { limit: limits.decoded },
            Some(Ended::Held) => EvaluateError::TooManyHeld { limit: limits.held },
            Some(Ended::Points) => EvaluateError::TooManyPoints { limit: limits.points },
        }
    }

    /// Counts points that are looked at one by one.
    fn count_decoded(&self, points: usize, cost: &mut Cost) -> Result<(), SourceError> {
        cost.points_read += points as u64;
        let all = self.decoded.fetch_add(points, Ordering::Relaxed) + points;
        if all > self.plan.limits.decoded { Err(Ended::Decoded.into()) } else { Ok(()) }
    }

    /// Counts values that are held.
    fn count_held(&self, values: usize) -> Result<(), SourceError> {
        let all = self.held.fetch_add(values, Ordering::Relaxed) + values;
        if all > self.plan.limits.held { Err(Ended::Held.into()) } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests;
