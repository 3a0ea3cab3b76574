//! The points themselves.

use std::sync::Arc;

use super::{Context, Ended, EvaluateError, Run, sources::Sources};
use crate::{
    answer::{Cost, PointLine},
    block::{Columns, Points},
    catalogue::{Codes, Layout},
    model::{DatasetId, SeriesId, Value},
    plan::{Leaf, PlannedTime},
    time::TimeRange,
};

/// The points of each of a leaf's series, those that fulfil its tests.
pub fn read(context: &Context<'_>, leaf: &Leaf, left: &mut usize, cost: &mut Cost, notes: &mut Vec<String>) -> Result<Vec<PointLine>, EvaluateError> {
    let PlannedTime::Windows(windows, _) = &context.plan.time else { return Ok(Vec::new()) };
    let range = windows.range();
    // Points that are no longer kept are noted.
    Sources::over(context, leaf, range, &[], notes);
    let mut lines = Vec::with_capacity(leaf.lines.len());
    for line in &leaf.lines {
        for series in &line.series {
            cost.series += 1;
            let mut columns = series_points(context, leaf.dataset, series.id, range, left, cost)?;
            if !leaf.tests.is_empty() {
                let mut chosen = Columns::default();
                for at in 0..columns.len() {
                    if leaf.tests.iter().all(|test| test.comparison.value.holds(columns.values[at], test.number)) {
                        chosen.push(columns.times[at], columns.values[at], columns.points().rest(at));
                    }
                }
                *left += columns.len() - chosen.len();
                columns = chosen;
            }
            let points = columns.points();
            let values = match series.codes.as_ref() {
                None => (0..points.len()).map(|at| points.value(at)).collect(),
                Some(Codes::Words(words)) => {
                    let word = |number: &f64| words.get(*number as usize).map_or(Value::Number(*number), |word| Value::Word(Arc::clone(word)));
                    columns.values.iter().map(word).collect()
                }
                Some(Codes::Layouts(layouts)) => histograms(context, leaf.dataset, points, layouts, range, left, cost)?,
            };
            lines.push(PointLine {
                metric: Arc::clone(&leaf.facts.metric),
                unit: leaf.unit.clone(),
                tags: line.tags.clone(),
                times: columns.times,
                values,
            });
        }
    }
    Ok(lines)
}

/// The histograms whose layouts' codes are in `points`.
pub fn histograms(
    context: &Context<'_>,
    dataset: DatasetId,
    points: Points<'_>,
    layouts: &[Layout],
    range: TimeRange,
    left: &mut usize,
    cost: &mut Cost,
) -> Result<Vec<Value>, EvaluateError> {
    let mut values: Vec<Value> = points.values.iter().map(|code| Value::Number(*code)).collect();
    for (code, layout) in layouts.iter().enumerate() {
        let places: Vec<usize> = (0..points.len()).filter(|at| points.values[*at] as usize == code).collect();
        if places.is_empty() {
            continue;
        }
        let mut parts = vec![vec![(0.0, 0); layout.parts().len()]; places.len()];
        for (part, id) in layout.parts().enumerate() {
            let stored = series_points(context, dataset, id, range, left, cost)?;
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

fn series_points(
    context: &Context<'_>,
    dataset: DatasetId,
    series: SeriesId,
    range: TimeRange,
    left: &mut usize,
    cost: &mut Cost,
) -> Result<Columns, EvaluateError> {
    let (mut out, mut scratch) = (Columns::default(), Columns::default());
    context.scan(dataset, &[series], range, &mut |_, run| {
        let points = match run {
            Run::Points(points) => points,
            // Points were asked for, and windows are none.
            Run::Windows(..) => return Ok(()),
            Run::Block(block) => {
                scratch.clear();
                block.decode(&mut scratch)?;
                cost.blocks_decoded += 1;
                scratch.points()
            }
        };
        let inside = points.places_in(range);
        context.count_decoded(inside.len(), cost)?;
        if inside.len() > *left {
            return Err(Ended::Points.into());
        }
        *left -= inside.len();
        out.extend(points.slice(inside));
        Ok(())
    })?;
    Ok(out)
}
