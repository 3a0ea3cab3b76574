//! The series of a leaf, read side by side a few at a time, and their parts merged in the order of the lines, whichever core was first.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex},
};

use rayon::prelude::*;

use super::{
    Context, End, EvaluateError, Run, SourceError, StoredBlock,
    cells::{Cursor, Grid},
    neighbours::{Neighbours, Pairs},
    parts::{Part, Ratio, Totals, merge_parts},
    sources::{Neighbour, Sources, Wanted},
    table::{Row, Table},
    ways::{Ways, translated, translated_window},
};
use crate::{
    answer::Cost,
    block::{Columns, Points},
    catalogue::Codes,
    model::{Kind, SeriesId, Value},
    plan::Leaf,
    query::{Reducer, ValueTest},
    rollup::{Answers, Segment},
    summary::{Sample, Summary},
    time::{Nanos, SECOND, TimeRange, Windows},
};

/// Series that one task reads: enough that a partition's file is worth opening for them, few enough that all cores have some.
const MAX_TOGETHER: usize = 64;
const MIN_TASKS: usize = 16;
/// Tasks whose results wait at once for being merged.
const WAVE: usize = 16;

/// A leaf and the windows that it is reduced to.
pub struct Reading<'a> {
    pub context: &'a Context<'a>,
    pub leaf: &'a Leaf,
    pub windows: &'a Windows,
    pub words: Words,
    pub sources: Sources,
    /// Windows that lack a part of their time, if any does.
    pub cut: Option<Vec<bool>>,
    /// Stretches of dropped points beyond the range, in which neighbours were looked for.
    pub lost: Mutex<Vec<TimeRange>>,
}

/// A series on the way to its line.
#[derive(Clone, Copy)]
pub struct Piece {
    pub line: usize,
    /// Among the series of its line.
    pub at: usize,
}

/// Lines that one task has read, in order.
pub type Read<T> = Vec<(usize, Vec<T>)>;

/// Lends the cells of a series' line, by the index of the series among those read, to the code that updates them.
pub type Into<'i> = &'i mut dyn FnMut(usize, Adding<'_>);
/// What adds to cells.
pub type Adding<'a> = &'a mut dyn FnMut(&mut [Ratio]);

impl<'a> Reading<'a> {
    pub fn grid(&self) -> Grid<'a> {
        Grid::of(self.windows)
    }

    fn wanted<'s>(&'s self, series: &'s [SeriesId], is_part: bool) -> Wanted<'s> {
        Wanted { context: self.context, leaf: self.leaf, series, is_part }
    }

    fn id(&self, piece: Piece) -> SeriesId {
        self.leaf.lines[piece.line].series[piece.at].id
    }

    /// Reads all series in tasks of some, and hands what they read, in the order of the lines, to `finish` as soon as a line is whole.
    pub fn in_tasks<T: Send, R>(
        &self,
        cost: &mut Cost,
        read: impl Fn(&[Piece], &mut Cost) -> Result<Read<T>, EvaluateError> + Sync,
        merge: impl Fn(&mut T, &T) + Sync,
        finish: impl Fn(usize, Vec<T>) -> R + Sync,
    ) -> Result<Vec<R>, EvaluateError> {
        let lines = &self.leaf.lines;
        let pieces: Vec<Piece> = lines.iter().enumerate().flat_map(|(line, of)| (0..of.series.len()).map(move |at| Piece { line, at })).collect();
        // Depends on the series alone, so that sums come out the same however many cores there are.
        let together = pieces.len().div_ceil(MIN_TASKS).clamp(1, MAX_TOGETHER);
        let tasks: Vec<&[Piece]> = pieces.chunks(together).collect();
        let run = |task: &&[Piece]| {
            let mut cost = Cost::default();
            read(task, &mut cost).map(|read| (read, cost))
        };
        let mut rows = Vec::with_capacity(lines.len());
        let mut open: Option<(usize, Vec<T>)> = None;
        for wave in tasks.chunks(WAVE) {
            let done: Vec<(Read<T>, Cost)> = match wave {
                [alone] => vec![run(alone)?],
                several => several.par_iter().map(run).collect::<Result<_, _>>()?,
            };
            for (read, its_cost) in done {
                cost.add(&its_cost);
                for (line, cells) in read {
                    match &mut open {
                        Some((known, so_far)) if *known == line => so_far.iter_mut().zip(&cells).for_each(|(into, cell)| merge(into, cell)),
                        _ => rows.extend(open.replace((line, cells)).map(|(line, cells)| finish(line, cells))),
                    }
                }
            }
        }
        rows.extend(open.map(|(line, cells)| finish(line, cells)));
        Ok(rows)
    }

    /// Points merged whichever series they are of.
    pub fn merged<P: Part>(&self, reducer: &Reducer, cost: &mut Cost) -> Result<Vec<Row>, EvaluateError> {
        self.in_tasks(cost, |task, cost| self.read_parts::<P>(task, cost), merge_parts, |_, mut cells| self.finish_parts(&mut cells, reducer))
    }

    /// The same points for several reducers that every summary answers, read once; a table each.
    pub fn summarised(&self, reducers: &[&Reducer], cost: &mut Cost) -> Result<Vec<Table>, EvaluateError> {
        let ask_for_ends = reducers.iter().any(|reducer| matches!(reducer, Reducer::First | Reducer::Last));
        if ask_for_ends { self.merged_for::<Summary>(reducers, cost) } else { self.merged_for::<Totals>(reducers, cost) }
    }

    fn merged_for<P: Part>(&self, reducers: &[&Reducer], cost: &mut Cost) -> Result<Vec<Table>, EvaluateError> {
        let finish = |_, mut cells: Vec<Option<P>>| reducers.iter().map(|reducer| self.finish_parts(&mut cells, reducer)).collect::<Vec<Row>>();
        let lines = self.in_tasks(cost, |task, cost| self.read_parts::<P>(task, cost), merge_parts, finish)?;
        let mut tables = vec![Table::default(); reducers.len()];
        for line in lines {
            tables.iter_mut().zip(line).for_each(|(table, row)| table.rows.push(row));
        }
        Ok(tables)
    }

    fn read_parts<P: Part>(&self, task: &[Piece], cost: &mut Cost) -> Result<Read<Option<P>>, EvaluateError> {
        let grid = self.grid();
        let origin = grid.range().start;
        let mut lines = Lines::new(task, grid.len());
        let mut cursors = vec![Cursor::default(); task.len()];
        let (mut scratch, mut chosen, mut states) = (Columns::default(), Columns::default(), Vec::new());
        let ids: Vec<SeriesId> = task.iter().map(|piece| self.id(*piece)).collect();
        self.sources.scan(self.wanted(&ids, false), &mut |place, within, run| {
            let (piece, cursor) = (task[place], &mut cursors[place]);
            let cells: &mut Vec<Option<P>> = lines.of(piece.line);
            let codes = self.words.of(piece);
            if let Run::Windows(windows, places) = &run {
                cost.windows_read += places.len() as u64;
                P::add_windows(cells, windows, places.clone(), origin, Ways { grid, cursor, codes, states: &mut states });
                return Ok(());
            }
            if let Run::Block(block) = &run {
                let summary = block.summary();
                if within.contains(summary.first.time)
                    && within.contains(summary.last.time)
                    && let Some(cell) = cursor.whole(grid, summary.first.time, summary.last.time)
                    && let Some(is_in) = whole_block(&self.leaf.tests, summary)
                {
                    let part = if is_in { P::of_summary(&translated(summary, codes)) } else { None };
                    if let Some(part) = &part {
                        match &mut cells[cell] {
                            Some(known) => known.merge(part),
                            empty => *empty = Some(part.clone()),
                        }
                    }
                    if part.is_some() || !is_in {
                        cost.blocks_summarised += 1;
                        return Ok(());
                    }
                }
            }
            let points = self.points_of(&run, &mut scratch, cost)?;
            let points = points.slice(points.places_in(within));
            let points = chosen_points(points, &self.leaf.tests, codes, &mut chosen);
            if P::HOLDS {
                self.context.count_held(points.len())?;
            }
            cursor.split(grid, points, |cell, part| P::add(&mut cells[cell], part, origin));
            Ok(())
        })?;
        Ok(lines.0)
    }

    /// The points of a run, decoded where they must be.
    pub fn points_of<'r>(&self, run: &Run<'r>, scratch: &'r mut Columns, cost: &mut Cost) -> Result<Points<'r>, SourceError> {
        let points = match run {
            Run::Points(points) => *points,
            Run::Windows(..) => Points::default(),
            Run::Block(block) => {
                scratch.clear();
                StoredBlock::decode(*block, scratch)?;
                cost.blocks_decoded += 1;
                scratch.points()
            }
        };
        self.context.count_decoded(points.len(), cost)?;
        Ok(points)
    }

    /// A window of several cells.
    fn window<P: Part>(&self, cells: &[Option<P>], at: usize) -> Option<P> {
        let mut parts = cells[at..at + self.windows.cells_each()].iter().flatten();
        let mut merged = parts.next()?.clone();
        parts.for_each(|part| merged.merge(part));
        Some(merged)
    }

    fn finish_parts<P: Part>(&self, cells: &mut [Option<P>], reducer: &Reducer) -> Row {
        let steps = self.windows.cells_each() > 1;
        if matches!(reducer, Reducer::First | Reducer::Last) {
            let value = |at: usize| self.outer_value(self.window(cells, at)?.edges()?, reducer);
            return Row::of_values((0..self.windows.len()).map(value).collect());
        }
        let value = |part: Option<&mut P>| part.map_or(f64::NAN, |part| part.value(reducer));
        // Windows that overlap are made one at a time: together they would hold each value as often as they overlap.
        let of_window = |at: usize| value(self.window(cells, at).as_mut());
        // To choose a quantile takes longer than to read the points.
        Row::of(match (steps, P::HOLDS) {
            (true, true) => (0..self.windows.len()).into_par_iter().map(of_window).collect(),
            (true, false) => (0..self.windows.len()).map(of_window).collect(),
            (false, true) => cells.par_iter_mut().map(|cell| value(cell.as_mut())).collect(),
            (false, false) => cells.iter_mut().map(|cell| value(cell.as_mut())).collect(),
        })
    }

    fn outer_value(&self, summary: &Summary, reducer: &Reducer) -> Option<Value> {
        let sample = if *reducer == Reducer::First { summary.first } else { summary.last };
        match self.leaf.facts.kind {
            Kind::State => self.words.word(sample.value).map(Value::Word),
            _ => Some(sample.to_value()),
        }
    }

    /// Neighbours of each series first, then summed.
    pub fn paired(&self, pairs: Pairs, reducer: &Reducer, cost: &mut Cost) -> Result<Vec<Row>, EvaluateError> {
        self.in_tasks(
            cost,
            |task, cost| {
                let mut lines = Lines::new(task, self.grid().len());
                let series: Vec<SeriesId> = task.iter().map(|piece| self.id(*piece)).collect();
                let codes = |place: usize| self.words.of(task[place]);
                self.walk(pairs, &series, false, codes, cost, &mut |place, work| work(lines.of(task[place].line)))?;
                Ok(lines.0)
            },
            Ratio::merge,
            |line, cells| self.finish_ratios(line, cells, reducer),
        )
    }

    /// Leads some series through time, their neighbours from before and after the range with them.
    pub fn walk<'w>(
        &self,
        pairs: Pairs,
        series: &[SeriesId],
        is_part: bool,
        codes: impl Fn(usize) -> Option<&'w [f64]>,
        cost: &mut Cost,
        into: Into<'_>,
    ) -> Result<(), EvaluateError> {
        let (grid, now, facts) = (self.grid(), self.context.plan.now, &self.leaf.facts);
        let range = grid.range();
        let limit = match pairs {
            // A point that comes half an interval late still comes as often as it should.
            Pairs::Coverage => facts.interval.map(|interval| interval.saturating_add(interval / 2)),
            _ => facts.stale_after,
        };
        let before = TimeRange { start: limit.map_or(Nanos::MIN, |limit| range.start.saturating_sub(limit)), end: range.start };
        let wanted = self.wanted(series, is_part);
        let nothing = || vec![Neighbour::Known(None); series.len()];
        let translate = |place: usize, neighbour: Neighbour| match codes(place) {
            Some(codes) => neighbour.map(|sample| Sample { value: codes.get(sample.value as usize).copied().unwrap_or(f64::NAN), ..sample }),
            None => neighbour,
        };
        let carried = match pairs {
            Pairs::Sum => nothing(),
            _ if before.is_empty() => nothing(),
            _ => self.sources.outermost(wanted, before, End::Latest)?,
        };
        self.note_lost(&carried);
        let start = |(place, carried): (usize, &Neighbour)| Neighbours::new(pairs, limit, range.start, translate(place, *carried));
        let mut walks: Vec<Neighbours> = carried.iter().enumerate().map(start).collect();
        for segment in self.sources.segments() {
            if segment.answers != Answers::Nothing || pairs == Pairs::Sum {
                self.walk_segment(wanted, segment, &codes, cost, &mut walks, into)?;
                continue;
            }
            // The last and the first of the points that were dropped, if they are known all the same.
            let lasts = self.sources.edge(wanted, segment.range, End::Latest)?;
            let firsts = if pairs.looks_ahead() { self.sources.edge(wanted, segment.range, End::Earliest)? } else { nothing() };
            // Of some series it is known that none of the points were theirs: they go on as if all were there.
            let lost: Vec<usize> = (0..series.len()).filter(|place| lasts[*place] != Neighbour::Known(None)).collect();
            for place in lost.iter().copied() {
                into(place, &mut |cells| walks[place].pause(grid, segment.range.start, firsts[place], cells));
            }
            self.walk_segment(wanted, segment, &codes, cost, &mut walks, into)?;
            lost.into_iter().for_each(|place| walks[place].resume(segment.range.end, translate(place, lasts[place])));
        }
        let nexts = if pairs.looks_ahead() && range.end < now {
            let after = TimeRange { start: range.end, end: limit.map_or(Nanos::MAX, |limit| range.end.saturating_add(limit).saturating_add(1)) };
            self.sources.outermost(wanted, after, End::Earliest)?
        } else {
            nothing()
        };
        self.note_lost(&nexts);
        for (place, (walk, next)) in walks.iter_mut().zip(nexts).enumerate() {
            into(place, &mut |cells| walk.end(grid, next, now, cells));
        }
        Ok(())
    }

    fn note_lost(&self, neighbours: &[Neighbour]) {
        let mut lost: Vec<TimeRange> = neighbours.iter().filter_map(|neighbour| neighbour.dropped()).collect();
        lost.dedup();
        if let (false, Ok(mut known)) = (lost.is_empty(), self.lost.lock()) {
            lost.retain(|range| !known.contains(range));
            known.append(&mut lost);
        }
    }

    /// Leads some series through one stretch of time.
    fn walk_segment<'w>(
        &self,
        wanted: Wanted<'_>,
        segment: &Segment,
        codes: &impl Fn(usize) -> Option<&'w [f64]>,
        cost: &mut Cost,
        walks: &mut [Neighbours],
        into: Into<'_>,
    ) -> Result<(), EvaluateError> {
        let grid = self.grid();
        let (mut scratch, mut chosen, mut states) = (Columns::default(), Columns::default(), Vec::new());
        self.sources.scan_segment(wanted, segment, &mut |place, within, run| {
            let walk = &mut walks[place];
            if let Run::Windows(windows, places) = &run {
                cost.windows_read += places.len() as u64;
                into(place, &mut |cells| {
                    for at in places.clone() {
                        walk.take_window(grid, &translated_window(windows.view(at), codes(place), &mut states), cells);
                    }
                });
                return Ok(());
            }
            if let Run::Block(block) = &run
                && within.contains(block.summary().first.time)
                && within.contains(block.summary().last.time)
            {
                let mut taken = false;
                let summary = block.summary();
                into(place, &mut |cells| taken = walk.take_summary(grid, &translated(summary, codes(place)), cells));
                if taken {
                    cost.blocks_summarised += 1;
                    return Ok(());
                }
            }
            let points = self.points_of(&run, &mut scratch, cost)?;
            let points = points.slice(points.places_in(within));
            let points = chosen_points(points, &[], codes(place), &mut chosen);
            into(place, &mut |cells| walk.take(grid, points, cells));
            Ok(())
        })
    }

    fn finish_ratios(&self, line: usize, cells: Vec<Ratio>, reducer: &Reducer) -> Row {
        let series = self.leaf.lines[line].series.len() as f64;
        let value = |at: usize, sum: Ratio| {
            let passed = self.passed_seconds(at);
            match reducer {
                // That nothing was covered is not known of a window that cannot be read.
                Reducer::Coverage if !sum.is_known && self.is_cut(at) => f64::NAN,
                Reducer::Coverage if passed > 0.0 => (sum.amount / (series * passed)).min(1.0),
                _ if !sum.is_known => f64::NAN,
                Reducer::Rate if passed > 0.0 => sum.amount / passed,
                Reducer::TimeMean(_) | Reducer::ShareIn(_) if sum.seconds > 0.0 => sum.amount / sum.seconds,
                Reducer::Rate | Reducer::TimeMean(_) | Reducer::ShareIn(_) | Reducer::Coverage => f64::NAN,
                _ => sum.amount,
            }
        };
        self.row_of_windows(&cells, Ratio::merge, |at, sum| (value(at, sum), sum.is_cut))
    }

    /// A row of what the cells of each window hold together: a value, and whether something is missing that can no longer be read.
    pub fn row_of_windows<T: Clone>(&self, cells: &[T], merge: impl Fn(&mut T, &T), value: impl Fn(usize, T) -> (f64, bool)) -> Row {
        let of_window = |at: usize| {
            let mut merged = cells[at].clone();
            cells[at + 1..at + self.windows.cells_each()].iter().for_each(|cell| merge(&mut merged, cell));
            value(at, merged)
        };
        let (numbers, cut): (Vec<f64>, Vec<bool>) = (0..self.windows.len()).map(of_window).unzip();
        let mut row = Row::of(numbers);
        if cut.contains(&true) {
            row.mark_partial(&cut);
        }
        row
    }

    /// Whether a window lacks a part of its time.
    fn is_cut(&self, window: usize) -> bool {
        self.cut.as_ref().is_some_and(|cut| cut[window])
    }

    pub fn passed_seconds(&self, window: usize) -> f64 {
        let passed = self.windows.passed(window, self.context.plan.now);
        passed.end.saturating_sub(passed.start) as f64 / SECOND as f64
    }

    pub fn by_second(&self, row: &mut Row) {
        row.exact = None;
        for (window, number) in row.numbers.iter_mut().enumerate() {
            let passed = self.passed_seconds(window);
            *number = if passed > 0.0 { *number / passed } else { f64::NAN };
        }
    }
}

/// Cells of the lines that a task's series belong to; these come in the order of the lines.
pub struct Lines<T>(pub Read<T>);

impl<T: Default + Clone> Lines<T> {
    pub fn new(task: &[Piece], cells: usize) -> Self {
        let mut lines: Vec<usize> = task.iter().map(|piece| piece.line).collect();
        lines.dedup();
        Self(lines.into_iter().map(|line| (line, vec![T::default(); cells])).collect())
    }

    pub fn of(&mut self, line: usize) -> &mut Vec<T> {
        let first = self.0[0].0;
        // A task's lines follow each other without gaps but for lines without series, of which there are none.
        &mut self.0[line - first].1
    }
}

/// Whether all points of a block fulfil the tests, or none does; nothing where some may.
fn whole_block(tests: &[ValueTest], summary: &Summary) -> Option<bool> {
    use crate::query::Comparison::*;
    let mut all = true;
    for ValueTest { comparison, number } in tests {
        let (low, high) = (summary.min, summary.max);
        let (every, none) = match comparison.value {
            Less => (high < *number, low >= *number),
            AtMost => (high <= *number, low > *number),
            Greater => (low > *number, high <= *number),
            AtLeast => (low >= *number, high < *number),
            Equal => (low == *number && high == *number, *number < low || *number > high),
            Unequal => (*number < low || *number > high, low == *number && high == *number),
        };
        if none {
            return Some(false);
        }
        all &= every;
    }
    all.then_some(true)
}

/// The points that fulfil the tests, their words in the codes that all series share.
fn chosen_points<'p>(points: Points<'p>, tests: &[ValueTest], codes: Option<&[f64]>, chosen: &'p mut Columns) -> Points<'p> {
    if tests.is_empty() && codes.is_none() {
        return points;
    }
    chosen.clear();
    for at in 0..points.len() {
        let value = points.values[at];
        if tests.iter().all(|test| test.comparison.value.holds(value, test.number)) {
            let value = codes.map_or(value, |codes| codes.get(value as usize).copied().unwrap_or(f64::NAN));
            chosen.push(points.times[at], value, points.rest(at));
        }
    }
    chosen.points()
}

/// A dictionary that all series of a state share; each series has learnt its words in an order of its own.
pub struct Words {
    words: Vec<Arc<str>>,
    /// For each line's series: what their own codes are here.
    codes: Vec<Vec<Option<Vec<f64>>>>,
}

impl Words {
    pub fn shared_by(leaf: &Leaf) -> Self {
        let mut words: Vec<Arc<str>> = Vec::new();
        let mut known: HashMap<Arc<str>, usize> = HashMap::new();
        if leaf.facts.kind != Kind::State {
            return Self { words, codes: Vec::new() };
        }
        let mut code = |word: &Arc<str>| {
            let next = known.len();
            let code = *known.entry(Arc::clone(word)).or_insert(next);
            if code == next {
                words.push(Arc::clone(word));
            }
            code as f64
        };
        let mut of_series = |codes: &Option<Codes>| match codes {
            Some(Codes::Words(own)) => Some(own.iter().map(&mut code).collect()),
            _ => None,
        };
        let codes = leaf.lines.iter().map(|line| line.series.iter().map(|series| of_series(&series.codes)).collect()).collect();
        Self { words, codes }
    }

    fn of(&self, piece: Piece) -> Option<&[f64]> {
        self.codes.get(piece.line)?.get(piece.at)?.as_deref()
    }

    /// The code of a word; of one that no series has, none that any has.
    pub fn code(&self, word: &str) -> f64 {
        self.words.iter().position(|known| **known == *word).map_or(-1.0, |code| code as f64)
    }

    fn word(&self, code: f64) -> Option<Arc<str>> {
        if code.is_nan() { None } else { self.words.get(code as usize).cloned() }
    }
}
