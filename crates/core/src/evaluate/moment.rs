//! Values at an instant: the points about it looked up, one look a series.

use std::sync::Arc;

use rayon::prelude::*;

use super::{
    Context, End, EvaluateError, points,
    table::{Row, Table},
};
use crate::{
    answer::Cost,
    catalogue::Codes,
    model::{Kind, SeriesId, Shape, Value},
    plan::{Leaf, Moment, PlannedSeries, PlannedTime},
    query::Taking,
    summary::Sample,
    time::{Nanos, TimeRange},
};

const TOGETHER: usize = 64;

/// The value of each of a leaf's series at the plan's moment.
pub fn read(context: &Context<'_>, leaf: &Leaf, cost: &mut Cost, notes: &mut Vec<String>) -> Result<Table, EvaluateError> {
    let PlannedTime::Moment(moment) = context.plan.time else { return Ok(Table::default()) };
    // Each series is a line here.
    let series: Vec<&PlannedSeries> = leaf.lines.iter().filter_map(|line| line.series.first()).collect();
    cost.series += series.len() as u64;
    let tasks: Vec<&[&PlannedSeries]> = series.chunks(TOGETHER).collect();
    let run = |task: &&[&PlannedSeries]| values(context, leaf, moment, task);
    let found: Vec<Vec<Option<(Nanos, Value)>>> = match tasks.as_slice() {
        [alone] => vec![run(alone)?],
        several => several.par_iter().map(run).collect::<Result<_, _>>()?,
    };
    let row = |found: Option<(Nanos, Value)>| {
        let (time, value) = found.unzip();
        Row { times: Some(vec![time]), ..Row::of_values(vec![value]) }
    };
    let rows: Vec<Row> = found.into_iter().flatten().map(row).collect();
    let empty = rows.iter().filter(|row| row.is_empty(0)).count();
    if empty > 0 {
        let (series, have) = if empty == 1 { ("series has", "no") } else { ("series have", "no") };
        notes.push(format!("{}: {empty} {series} {have} point near enough to that moment", leaf.text));
    }
    Ok(Table { rows })
}

fn values(context: &Context<'_>, leaf: &Leaf, moment: Moment, task: &[&PlannedSeries]) -> Result<Vec<Option<(Nanos, Value)>>, EvaluateError> {
    let at = match leaf.earlier {
        Some(span) => span.before(moment.at, &context.plan.zone),
        None => moment.at,
    };
    let is_linear = leaf.facts.kind == Kind::Gauge && leaf.facts.shape == Shape::Linear;
    let near = moment.within.or(leaf.facts.stale_after);
    let ids: Vec<SeriesId> = task.iter().map(|series| series.id).collect();
    let (start, last) = near.map_or((Nanos::MIN, Nanos::MAX - 1), |near| (at.saturating_sub(near), at.saturating_add(near).min(Nanos::MAX - 1)));
    let look = |range: TimeRange, end: End| context.outermost(leaf.dataset, &ids, range, end);
    let none = || Ok(vec![None; ids.len()]);
    let takes_before = !matches!(moment.taking, Taking::After | Taking::Exact);
    let takes_after = match moment.taking {
        // Nothing has come after now, and what is not linear has no line.
        Taking::Natural => is_linear && at < context.plan.now,
        Taking::Before | Taking::Exact => false,
        Taking::After | Taking::Nearest | Taking::Line => true,
    };
    let upto = if moment.taking == Taking::Exact { at } else { start };
    let before = if takes_before || moment.taking == Taking::Exact {
        look(TimeRange { start: upto, end: at.saturating_add(1) }, End::Latest)
    } else {
        none()
    }?;
    let after = if takes_after { look(TimeRange { start: at, end: last + 1 }, End::Earliest) } else { none() }?;
    let chosen = before.into_iter().zip(after).zip(task).map(|((before, after), series)| {
        let Some(sample) = choose(moment.taking, at, before, after) else { return Ok(None) };
        let value = value(context, leaf, series, sample)?;
        Ok(value.map(|value| (sample.time, value)))
    });
    chosen.collect()
}

fn choose(taking: Taking, at: Nanos, before: Option<Sample>, after: Option<Sample>) -> Option<Sample> {
    let on_line = |before: Sample, after: Sample| {
        if before.time == after.time {
            return before;
        }
        let part = (at - before.time) as f64 / (after.time - before.time) as f64;
        Sample { time: at, value: before.value + (after.value - before.value) * part, rest: 0 }
    };
    match taking {
        Taking::Before | Taking::Exact => before,
        Taking::After => after,
        Taking::Line => before.zip(after).map(|(before, after)| on_line(before, after)),
        Taking::Natural => match (before, after) {
            (Some(before), Some(after)) => Some(on_line(before, after)),
            (before, _) => before,
        },
        Taking::Nearest => match (before, after) {
            (Some(before), Some(after)) => Some(if at - before.time <= after.time - at { before } else { after }),
            (one, other) => one.or(other),
        },
    }
}

fn value(context: &Context<'_>, leaf: &Leaf, series: &PlannedSeries, sample: Sample) -> Result<Option<Value>, EvaluateError> {
    Ok(match &series.codes {
        None => sample.value.is_finite().then(|| sample.to_value()),
        Some(Codes::Words(words)) => words.get(sample.value as usize).map(|word| Value::Word(Arc::clone(word))),
        Some(Codes::Layouts(layouts)) => {
            let range = TimeRange { start: sample.time, end: sample.time.saturating_add(1) };
            let mut left = context.plan.limits.points;
            let code = crate::block::Points { times: &[sample.time], values: &[sample.value], rests: &[] };
            points::histograms(context, leaf.dataset, code, layouts, range, &mut left, &mut Cost::default())?.pop()
        }
    })
}
