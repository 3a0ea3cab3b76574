//! Arithmetic, functions, lines reduced to fewer: all of it window by window, on numbers.

use super::{
    parts::{Scatter, quantile},
    table::{Row, Table, either},
};
use crate::{
    plan::Node,
    query::{Function, Operator, Reducer},
    units::Conversion,
};

/// Windows that arithmetic left empty.
#[derive(Debug, Default)]
pub struct Empties {
    one_side: u64,
    by_zero: u64,
    beyond: u64,
}

impl Empties {
    /// What a reader must know of them.
    pub fn notes(&self, label: &str) -> Vec<String> {
        let mut notes = Vec::new();
        let mut tell = |count: u64, what: &str| {
            if count > 0 {
                let (windows, are) = if count == 1 { ("value", "is") } else { ("values", "are") };
                notes.push(format!("{label}: {count} {windows} {are} empty, {what}"));
            }
        };
        tell(self.one_side, "since one side of the arithmetic is");
        tell(self.by_zero, "since they divide by zero");
        tell(self.beyond, "since they have no finite result");
        notes
    }
}

/// Computes a node over the tables of its leaves.
pub fn compute(node: &Node, leaves: &[Table], columns: usize, empties: &mut Empties) -> Table {
    match node {
        Node::Number(number) => Table { rows: vec![Row::of(vec![*number; columns])] },
        Node::Leaf(at) => leaves[*at].clone(),
        Node::Scaled { of, factor, offset } => {
            let mut table = compute(of, leaves, columns, empties);
            let conversion = Conversion { factor: *factor, offset: *offset };
            table.rows.iter_mut().for_each(|row| {
                row.exact = None;
                row.numbers.iter_mut().for_each(|number| *number = conversion.apply(*number));
            });
            table
        }
        Node::Binary { operator, left, right, pairs } => {
            let (left_table, right_table) = (compute(left, leaves, columns, empties), compute(right, leaves, columns, empties));
            let rows = match pairs {
                Some(pairs) => {
                    pairs.iter().map(|(one, other)| joined(*operator, &left_table.rows[*one], &right_table.rows[*other], empties)).collect()
                }
                // One side is a number, whose one line stands beside each of the other's.
                None => {
                    let sides = |row| if is_number(right) { (row, &right_table.rows[0]) } else { (&left_table.rows[0], row) };
                    let rows = if is_number(right) { &left_table.rows } else { &right_table.rows };
                    let known = empties.one_side;
                    let rows = rows.iter().map(|row| joined(*operator, sides(row).0, sides(row).1, empties)).collect();
                    // That nothing times two is nothing goes without saying.
                    empties.one_side = known;
                    rows
                }
            };
            Table { rows }
        }
        Node::Call { function, of, arguments } => {
            let mut table = compute(of, leaves, columns, empties);
            apply(*function, arguments, &mut table, columns, empties);
            table
        }
        Node::Stacked { of, lines } => {
            let tables: Vec<Table> = of.iter().map(|node| compute(node, leaves, columns, empties)).collect();
            Table { rows: lines.iter().map(|(node, row)| tables[*node].rows[*row].clone()).collect() }
        }
        Node::Reduced { reducer, of, groups } => {
            let table = compute(of, leaves, columns, empties);
            let row = |group: &Vec<usize>| {
                let mut scratch = Vec::with_capacity(group.len());
                let numbers = (0..columns).map(|column| {
                    scratch.clear();
                    scratch.extend(group.iter().map(|row| table.rows[*row].numbers[column]).filter(|number| !number.is_nan()));
                    reduced(reducer, &mut scratch)
                });
                let numbers: Vec<f64> = numbers.collect();
                let marks = |of: fn(&Row) -> Option<&[bool]>| group.iter().map(|row| of(&table.rows[*row])).fold(None, either);
                let (filled, partial) = (marks(|row| row.filled.as_deref()), marks(|row| row.partial.as_deref()));
                Row { numbers, filled, partial, ..Row::default() }
            };
            Table { rows: groups.iter().map(row).collect() }
        }
    }
}

/// Whether a node is a number, whatever it is computed from.
fn is_number(node: &Node) -> bool {
    match node {
        Node::Number(_) => true,
        Node::Leaf(_) | Node::Stacked { .. } | Node::Reduced { .. } => false,
        Node::Scaled { of, .. } | Node::Call { of, .. } => is_number(of),
        Node::Binary { left, right, .. } => is_number(left) && is_number(right),
    }
}

fn joined(operator: Operator, left: &Row, right: &Row, empties: &mut Empties) -> Row {
    let numbers = left.numbers.iter().zip(&right.numbers).map(|(left, right)| {
        if left.is_nan() || right.is_nan() {
            empties.one_side += u64::from(left.is_nan() != right.is_nan());
            return f64::NAN;
        }
        let result = match operator {
            Operator::Add => left + right,
            Operator::Subtract => left - right,
            Operator::Multiply => left * right,
            Operator::Divide if *right == 0.0 => {
                empties.by_zero += 1;
                return f64::NAN;
            }
            Operator::Divide => left / right,
        };
        finite(result, empties)
    });
    let numbers = numbers.collect();
    let filled = either(left.filled.clone(), right.filled.as_deref());
    let partial = either(left.partial.clone(), right.partial.as_deref());
    Row { numbers, filled, partial, ..Row::default() }
}

fn finite(result: f64, empties: &mut Empties) -> f64 {
    if result.is_finite() {
        result
    } else {
        empties.beyond += 1;
        f64::NAN
    }
}

/// A reducer over the values of one window.
pub fn reduced(reducer: &Reducer, values: &mut [f64]) -> f64 {
    if values.is_empty() {
        return f64::NAN;
    }
    let least = |values: &[f64]| values.iter().copied().fold(f64::INFINITY, f64::min);
    let greatest = |values: &[f64]| values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    match reducer {
        Reducer::Count => values.len() as f64,
        Reducer::Sum => values.iter().sum(),
        Reducer::Mean => values.iter().sum::<f64>() / values.len() as f64,
        Reducer::Min => least(values),
        Reducer::Max => greatest(values),
        Reducer::Spread => greatest(values) - least(values),
        Reducer::First => values[0],
        Reducer::Last => values[values.len() - 1],
        Reducer::Variance => Scatter::of_values(values).variance(),
        Reducer::Stddev => Scatter::of_values(values).variance().sqrt(),
        Reducer::Quantile(share) => quantile(values, *share),
        Reducer::Distinct => {
            values.sort_unstable_by(f64::total_cmp);
            1.0 + values.windows(2).filter(|pair| pair[0] != pair[1]).count() as f64
        }
        // The plan lets no other through.
        _ => f64::NAN,
    }
}

fn apply(function: Function, arguments: &[f64], table: &mut Table, columns: usize, empties: &mut Empties) {
    if function == Function::Share {
        // A share is of all lines.
        let partial = table.rows.iter().map(|row| row.partial.as_deref()).fold(None, either);
        table.rows.iter_mut().for_each(|row| row.partial.clone_from(&partial));
        let total = |column: usize| table.rows.iter().map(|row| row.numbers[column]).filter(|number| !number.is_nan()).sum::<f64>();
        let totals: Vec<f64> = (0..columns).map(total).collect();
        for row in &mut table.rows {
            for (number, total) in row.numbers.iter_mut().zip(&totals).filter(|(number, _)| !number.is_nan()) {
                empties.by_zero += u64::from(*total == 0.0);
                *number = if *total == 0.0 { f64::NAN } else { *number / total };
            }
        }
    }
    for row in &mut table.rows {
        row.exact = None;
        let numbers = &mut row.numbers;
        match function {
            Function::Share => {}
            Function::Smooth => {
                let windows = arguments.first().map_or(1, |windows| *windows as usize);
                *numbers = smoothed(numbers, windows);
                spread_marks(&mut row.partial, windows);
            }
            Function::Running => {
                let mut sum = 0.0;
                numbers.iter_mut().filter(|number| !number.is_nan()).for_each(|number| {
                    sum += *number;
                    *number = sum;
                });
                spread_marks(&mut row.partial, columns);
            }
            Function::Change => {
                let mut before = f64::NAN;
                for number in numbers.iter_mut() {
                    (before, *number) = (*number, *number - before);
                }
                spread_marks(&mut row.partial, 2);
            }
            _ => {
                for number in numbers.iter_mut().filter(|number| !number.is_nan()) {
                    *number = finite(of_number(function, arguments, *number), empties);
                }
            }
        }
    }
}

/// Marks each window that is computed from so many windows up to itself, if one of these is marked.
fn spread_marks(marks: &mut Option<Vec<bool>>, windows: usize) {
    let Some(marks) = marks else { return };
    let mut left = 0;
    for mark in marks {
        left = if *mark { windows } else { left };
        *mark = left > 0;
        left = left.saturating_sub(1);
    }
}

fn of_number(function: Function, arguments: &[f64], number: f64) -> f64 {
    match function {
        Function::Abs => number.abs(),
        Function::Sqrt => number.sqrt(),
        Function::Ln => number.ln(),
        Function::Log10 => number.log10(),
        Function::Exp => number.exp(),
        Function::Round => number.round(),
        Function::Floor => number.floor(),
        Function::Ceil => number.ceil(),
        Function::Clamp => match arguments {
            [least, most] => number.max(*least).min(*most),
            _ => number,
        },
        Function::Smooth | Function::Running | Function::Change | Function::Share => number,
    }
}

/// The mean of so many windows up to each, of those that are not empty; an empty one stays empty.
fn smoothed(numbers: &[f64], windows: usize) -> Vec<f64> {
    let mut out = Vec::with_capacity(numbers.len());
    for (at, number) in numbers.iter().enumerate() {
        let part = &numbers[(at + 1).saturating_sub(windows)..=at];
        let (sum, count) = part.iter().filter(|number| !number.is_nan()).fold((0.0, 0.0), |(sum, count), number| (sum + number, count + 1.0));
        out.push(if number.is_nan() { f64::NAN } else { sum / count });
    }
    out
}
