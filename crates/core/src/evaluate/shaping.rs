//! Gaps filled, lines kept and ranked, and the values made ready to leave.

use super::{
    nodes::reduced,
    table::{Row, Table},
};
use crate::{
    answer::WindowLine,
    model::Value,
    plan::ShowPlan,
    query::{Gaps, RankEnd, Reducer},
    time::{Nanos, Windows},
};

/// Puts values into empty windows, but for those that have not begun, and those whose points are no longer kept: nothing is held or drawn across
/// these either.
pub fn fill(table: &mut Table, gaps: Gaps, windows: &Windows, now: Nanos) {
    if gaps == Gaps::Empty {
        return;
    }
    let begun = (0..windows.len()).take_while(|at| windows.start(*at) < now).count();
    for row in &mut table.rows {
        let (given, empty): (Vec<usize>, Vec<usize>) = (0..begun).partition(|at| !row.is_empty(*at));
        let (lost, empty): (Vec<usize>, Vec<usize>) = empty.into_iter().partition(|at| row.is_partial(*at));
        if empty.is_empty() {
            continue;
        }
        let mut filled = vec![false; windows.len()];
        for at in empty {
            let next = given.partition_point(|place| *place < at);
            let is_lost_between = |from: usize, to: usize| lost.get(lost.partition_point(|place| *place < from)).is_some_and(|place| *place < to);
            let before = next.checked_sub(1).map(|place| given[place]).filter(|before| !is_lost_between(*before, at));
            let after = given.get(next).copied().filter(|after| !is_lost_between(at, *after));
            let time = |window: usize| windows.start(window);
            filled[at] = match gaps {
                Gaps::Empty => false,
                Gaps::Number(number) => put(row, at, number),
                Gaps::Hold => before.is_some_and(|before| hold(row, before, at)),
                Gaps::Line => before.zip(after).is_some_and(|beside| line(row, beside, at, time)),
            };
        }
        row.filled = Some(filled);
    }
}

fn put(row: &mut Row, at: usize, number: f64) -> bool {
    row.numbers[at] = number;
    if let Some(exact) = &mut row.exact {
        exact[at] = Some(Value::Number(number));
    }
    true
}

fn hold(row: &mut Row, before: usize, at: usize) -> bool {
    row.numbers[at] = row.numbers[before];
    if let Some(exact) = &mut row.exact {
        exact[at] = exact[before].clone();
    }
    true
}

/// A value on the line between two windows, by the time at which each begins: those of the calendar are not all of one length.
fn line(row: &mut Row, (before, after): (usize, usize), at: usize, time: impl Fn(usize) -> Nanos) -> bool {
    let (low, high) = (row.numbers[before], row.numbers[after]);
    let part = (time(at) - time(before)) as f64 / (time(after) - time(before)) as f64;
    // Words have no line between them.
    !(low.is_nan() || high.is_nan()) && put(row, at, low + (high - low) * part)
}

/// What of a show's lines leaves, and in which order.
pub fn shape(table: Table, show: &ShowPlan) -> Vec<WindowLine> {
    let mut lines: Vec<_> = show.lines.iter().cloned().zip(table.rows).collect();
    if let Some(keeping) = &show.keeping {
        for (_, row) in &mut lines {
            row.exact = None;
            row.numbers.iter_mut().filter(|number| !keeping.comparison.holds(**number, keeping.number)).for_each(|number| *number = f64::NAN);
        }
        lines.retain(|(_, row)| row.numbers.iter().any(|number| !number.is_nan()));
    }
    if let Some(rank) = &show.rank {
        let by = rank.by.as_ref().map_or(&Reducer::Mean, |by| &by.value);
        let weight = |row: &Row| {
            let mut values: Vec<f64> = row.numbers.iter().copied().filter(|number| !number.is_nan()).collect();
            reduced(by, &mut values)
        };
        let mut weighed: Vec<(f64, _)> = lines.into_iter().map(|line| (weight(&line.1), line)).filter(|(weight, _)| !weight.is_nan()).collect();
        // Equal ones keep the order of their tags.
        weighed.sort_by(|a, b| match rank.end {
            RankEnd::Top => b.0.total_cmp(&a.0),
            RankEnd::Bottom => a.0.total_cmp(&b.0),
        });
        weighed.truncate(rank.count);
        lines = weighed.into_iter().map(|(_, line)| line).collect();
    }
    let line = |(tags, mut row): (_, Row)| {
        let filled = row.filled.take().map(|filled| (0..filled.len()).filter(|at| filled[*at] && !row.is_empty(*at)).collect()).unwrap_or_default();
        let partial = row.partial.take().map(|partial| (0..partial.len()).filter(|at| partial[*at]).collect()).unwrap_or_default();
        let times = row.times.take();
        WindowLine { tags, filled, partial, times, values: row.into_values() }
    };
    lines.into_iter().map(line).collect()
}
