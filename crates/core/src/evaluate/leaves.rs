//! What is read for a leaf: each reducer with the parts, or the neighbours, that it is made of.

use std::sync::Mutex;

use super::{
    Context, EvaluateError, histograms,
    neighbours::Pairs,
    parts::{Kinds, Scatter, Totals, Trend, Values},
    reading::{Reading, Words},
    sources::{Sources, stretches},
    table::{Row, Table},
};
use crate::{
    answer::Cost,
    model::Temporality,
    plan::{Leaf, PlannedTime, Take},
    query::Reducer,
    time::TimeRange,
};

/// Whether a reducer is answered by what every summary holds.
fn is_summarised(reducer: &Reducer) -> bool {
    use Reducer::*;
    matches!(reducer, Count | Sum | Mean | Min | Max | Spread | First | Last)
}

/// Whether two leaves are answered by the same walk over the same points.
pub fn walk_together(one: &Leaf, other: &Leaf) -> bool {
    let by_summary = |leaf: &Leaf| matches!(&leaf.take, Take::Reduced(reducer) if is_summarised(reducer) && !histograms::takes_of(leaf, reducer));
    let selected = |leaf: &Leaf| {
        (
            leaf.dataset,
            leaf.facts.clone(),
            leaf.earlier,
            leaf.tests.clone(),
            leaf.from.levels.clone(),
            leaf.from.by_windows.filter(|_| !leaf.from.levels.is_empty()),
        )
    };
    by_summary(one) && by_summary(other) && selected(one) == selected(other) && one.lines == other.lines
}

/// A value a window for each line of leaves that walk together; or of one.
pub fn reduce(context: &Context<'_>, leaves: &[&Leaf], cost: &mut Cost, notes: &mut Vec<String>) -> Result<Vec<Table>, EvaluateError> {
    let (PlannedTime::Windows(windows, _), Some(leaf)) = (&context.plan.time, leaves.first()) else { return Ok(Vec::new()) };
    let earlier = leaf.earlier.map(|span| windows.earlier(span, &context.plan.zone));
    let windows = earlier.as_ref().unwrap_or(windows);
    let sources = Sources::of(context, leaf, windows, notes);
    let cut = sources.cut_windows(windows, context.plan.now);
    let reading = Reading { context, leaf, windows, words: Words::shared_by(leaf), sources, cut, lost: Mutex::default() };
    cost.series += leaf.lines.iter().map(|line| line.series.len() as u64).sum::<u64>();
    let reducers: Vec<&Reducer> = leaves.iter().filter_map(|leaf| leaf.take.reducer()).collect();
    let mut tables = match reducers.as_slice() {
        [alone] if !is_summarised(alone) || histograms::takes_of(leaf, alone) => vec![Table { rows: rows(&reading, alone, cost)? }],
        several => reading.summarised(several, cost)?,
    };
    note_lost(&reading, &tables, notes);
    if let Some(cut) = &reading.cut {
        tables.iter_mut().flat_map(|table| &mut table.rows).for_each(|row| row.mark_partial(cut));
    }
    for (leaf, table) in leaves.iter().zip(&mut tables) {
        let mut overflowed = false;
        for number in table.rows.iter_mut().flat_map(|row| &mut row.numbers).filter(|number| number.is_infinite()) {
            overflowed = true;
            *number = f64::NAN;
        }
        if overflowed {
            notes.push(format!("{}: a result left the range of 64-bit floats; those windows are empty", leaf.text));
        }
    }
    Ok(tables)
}

/// Notes that neighbours of points were dropped, which lie beyond the range.
fn note_lost(reading: &Reading<'_>, tables: &[Table], notes: &mut Vec<String>) {
    let is_partial = tables.iter().flat_map(|table| &table.rows).any(|row| row.partial.is_some());
    let mut lost: Vec<TimeRange> = match reading.lost.lock() {
        Ok(lost) if is_partial => lost.iter().map(|part| reading.sources.dropped_around(*part)).collect(),
        _ => return,
    };
    // What the range itself lacks was noted already.
    lost.retain(|lost| !reading.sources.unreadable().any(|part| lost.start <= part.start && part.end <= lost.end));
    lost.sort_unstable_by_key(|range| (range.start, range.end));
    lost.dedup();
    if !lost.is_empty() {
        let stretches = stretches(&lost, &reading.context.plan.zone);
        notes.push(format!("{}: points {stretches} are no longer kept, and values beside them are partial", reading.leaf.text));
    }
}

/// A value a window for each line, by one reducer that not every summary answers.
fn rows(reading: &Reading<'_>, reducer: &Reducer, cost: &mut Cost) -> Result<Vec<Row>, EvaluateError> {
    let facts = &reading.leaf.facts;
    match reducer {
        _ if histograms::takes_of(reading.leaf, reducer) => histograms::reduce(reading, reducer, cost),
        Reducer::Growth | Reducer::Rate if facts.temporality == Temporality::Delta => {
            let mut rows = reading.merged::<Totals>(&Reducer::Sum, cost)?;
            if *reducer == Reducer::Rate {
                rows.iter_mut().for_each(|row| reading.by_second(row));
            }
            Ok(rows)
        }
        Reducer::Stddev | Reducer::Variance => reading.merged::<Scatter>(reducer, cost),
        Reducer::Slope => reading.merged::<Trend>(reducer, cost),
        Reducer::Quantile(_) => reading.merged::<Values>(reducer, cost),
        Reducer::Distinct => reading.merged::<Kinds>(reducer, cost),
        Reducer::Delta => reading.paired(Pairs::Delta, reducer, cost),
        Reducer::Growth | Reducer::Rate => reading.paired(Pairs::Growth, reducer, cost),
        Reducer::SpotRate => reading.paired(Pairs::Spot { is_delta: facts.temporality == Temporality::Delta }, reducer, cost),
        Reducer::Changes => reading.paired(Pairs::Changes, reducer, cost),
        Reducer::Area(shape) | Reducer::TimeMean(shape) => reading.paired(Pairs::Area(shape.unwrap_or(facts.shape)), reducer, cost),
        // Without a state, the plan has a leaf for each.
        Reducer::TimeIn(Some(state)) | Reducer::ShareIn(Some(state)) => reading.paired(Pairs::TimeIn(reading.words.code(state)), reducer, cost),
        _ => reading.paired(Pairs::Coverage, reducer, cost),
    }
}
