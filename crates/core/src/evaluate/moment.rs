//! Values at instants: the points about each looked up, one look a series.

use std::sync::Arc;

use rayon::prelude::*;

use super::{
    Context, End, EvaluateError, points,
    sources::{Neighbour, Sources, Wanted, stretches},
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

const SERIES_PER_STEP: usize = 64;

/// The value of each of a leaf's series at each of the plan's moments.
pub fn read(context: &Context<'_>, leaf: &Leaf, cost: &mut Cost, notes: &mut Vec<String>) -> Result<Table, EvaluateError> {
    let PlannedTime::Moments(moments) = &context.plan.time else { return Ok(Table::default()) };
    // Each series is a line here.
    let series: Vec<&PlannedSeries> = leaf.lines.iter().filter_map(|line| line.series.first()).collect();
    cost.series += series.len() as u64;
    let sources = Sources::anywhere(context, leaf);
    let tasks: Vec<&[&PlannedSeries]> = series.chunks(SERIES_PER_STEP).collect();
    // Of each series what was found at each moment.
    let run = |task: &&[&PlannedSeries]| -> Result<Vec<Vec<Found>>, EvaluateError> {
        let mut found: Vec<Vec<Found>> = task.iter().map(|_| Vec::with_capacity(moments.len())).collect();
        for moment in moments {
            let values = values(context, leaf, &sources, *moment, task)?;
            found.iter_mut().zip(values).for_each(|(found, value)| found.push(value));
        }
        Ok(found)
    };
    let found: Vec<Vec<Vec<Found>>> = match tasks.as_slice() {
        [alone] => vec![run(alone)?],
        several => several.par_iter().map(run).collect::<Result<_, _>>()?,
    };
    let found: Vec<Vec<Found>> = found.into_iter().flatten().collect();
    note(context, leaf, &sources, &found, notes);
    let row = |found: Vec<Found>| {
        let partial = found.iter().map(|found| found.dropped.is_some()).collect();
        let (times, values) = found.into_iter().map(|found| found.value.unzip()).unzip();
        Row { times: Some(times), partial: Some(partial), ..Row::of_values(values) }
    };
    Ok(Table { rows: found.into_iter().map(row).collect() })
}

/// What was found of a series at a moment.
struct Found {
    value: Option<(Nanos, Value)>,
    /// The stretch of dropped points that the value may have been in.
    dropped: Option<TimeRange>,
}

fn note(context: &Context<'_>, leaf: &Leaf, sources: &Sources, found: &[Vec<Found>], notes: &mut Vec<String>) {
    let has_several = found.first().is_some_and(|series| series.len() > 1);
    let (one, many) = if has_several { ("1 value has", "values have") } else { ("1 series has", "series have") };
    let count = |count: usize| if count == 1 { one.to_owned() } else { format!("{count} {many}") };
    let mut dropped: Vec<TimeRange> = found.iter().flatten().filter_map(|found| found.dropped).map(|part| sources.dropped_around(part)).collect();
    let lost = dropped.len();
    let empty = found.iter().flatten().filter(|found| found.value.is_none() && found.dropped.is_none()).count();
    if empty > 0 {
        let moment = if has_several { "its moment" } else { "that moment" };
        notes.push(format!("{}: {} no point near enough to {moment}", leaf.text, count(empty)));
    }
    if lost > 0 {
        dropped.sort_unstable_by_key(|range| (range.start, range.end));
        dropped.dedup();
        let stretches = stretches(&dropped, &context.plan.zone);
        let what = if has_several { "are missing" } else { "no value at that instant" };
        let lost = if has_several { format!("{lost} values") } else { count(lost) };
        notes.push(format!("{}: {lost} {what}: points {stretches} are no longer kept", leaf.text));
    }
}

fn values(context: &Context<'_>, leaf: &Leaf, sources: &Sources, moment: Moment, task: &[&PlannedSeries]) -> Result<Vec<Found>, EvaluateError> {
    let at = match leaf.earlier {
        Some(span) => span.before(moment.at, &context.plan.zone),
        None => moment.at,
    };
    let is_linear = leaf.facts.kind == Kind::Gauge && leaf.facts.shape == Shape::Linear;
    let near = moment.within.or(leaf.facts.stale_after);
    let ids: Vec<SeriesId> = task.iter().map(|series| series.id).collect();
    let (start, last) = near.map_or((Nanos::MIN, Nanos::MAX - 1), |near| (at.saturating_sub(near), at.saturating_add(near).min(Nanos::MAX - 1)));
    let wanted = Wanted { context, leaf, series: &ids, is_part: false };
    let look = |range: TimeRange, end: End| sources.outermost(wanted, range, end);
    let none = || Ok(vec![Neighbour::Known(None); ids.len()]);
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
        let sample = match choose(moment.taking, at, before, after) {
            Neighbour::Known(Some(sample)) => sample,
            Neighbour::Known(None) => return Ok(Found { value: None, dropped: None }),
            Neighbour::Dropped(range) => return Ok(Found { value: None, dropped: Some(range) }),
        };
        let value = value(context, leaf, series, sample)?;
        Ok(Found { value: value.map(|value| (sample.time, value)), dropped: None })
    });
    chosen.collect()
}

/// The sample that answers; dropped, if it depends on points that are no longer kept.
fn choose(taking: Taking, at: Nanos, before: Neighbour, after: Neighbour) -> Neighbour {
    use Neighbour::{Dropped, Known};
    let on_line = |before: Sample, after: Sample| {
        if before.time == after.time {
            return before;
        }
        let part = (at - before.time) as f64 / (after.time - before.time) as f64;
        Sample { time: at, value: before.value + (after.value - before.value) * part, rest: 0 }
    };
    match (taking, before, after) {
        (Taking::Before | Taking::Exact, before, _) => before,
        (Taking::After, _, after) => after,
        // A point at the moment itself needs no other.
        (_, Known(Some(before)), _) if before.time == at => Known(Some(before)),
        (Taking::Line | Taking::Natural, Known(Some(before)), Known(Some(after))) => Known(Some(on_line(before, after))),
        (Taking::Natural, before @ Known(_), Known(None)) => before,
        (Taking::Line, Known(_), Known(_)) | (Taking::Natural, Known(None), _) => Known(None),
        (Taking::Nearest, Known(Some(before)), Known(Some(after))) => Known(Some(if at - before.time <= after.time - at { before } else { after })),
        (Taking::Nearest, Known(one), Known(other)) => Known(one.or(other)),
        // What was dropped lay at or beyond the near end of its stretch.
        (Taking::Nearest, Known(Some(before)), Dropped(range)) if at - before.time <= range.start.saturating_sub(at) => Known(Some(before)),
        (Taking::Nearest, Dropped(range), Known(Some(after))) if after.time - at <= at.saturating_sub(range.end) => Known(Some(after)),
        (_, Dropped(range), _) | (_, _, Dropped(range)) => Dropped(range),
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
