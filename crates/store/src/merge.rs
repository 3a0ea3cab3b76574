//! Columns of points put in order of time, each instant once, the later arrival winning.

use fenetre_core::{block::Columns, time::Nanos};

/// Sorts points by time; of several at one instant the last in the order of arrival stays.
pub fn in_order(times: &[Nanos], values: &[f64]) -> Columns {
    let mut order: Vec<usize> = (0..times.len()).collect();
    order.sort_by_key(|i| times[*i]);
    let mut out = Columns::default();
    for i in order {
        if out.times.last() == Some(&times[i]) {
            out.times.pop();
            out.values.pop();
        }
        out.push(times[i], values[i]);
    }
    out
}

/// Merges two runs that are each in order; at one instant `newer` wins.
pub fn merge(older: &Columns, newer: &Columns) -> Columns {
    let mut out = Columns { times: Vec::with_capacity(older.len() + newer.len()), values: Vec::with_capacity(older.len() + newer.len()) };
    let (mut a, mut b) = (0, 0);
    while a < older.len() && b < newer.len() {
        let (old, new) = (older.times[a], newer.times[b]);
        if old < new {
            out.push(old, older.values[a]);
            a += 1;
        } else {
            out.push(new, newer.values[b]);
            a += usize::from(old == new);
            b += 1;
        }
    }
    out.times.extend_from_slice(&older.times[a..]);
    out.values.extend_from_slice(&older.values[a..]);
    out.times.extend_from_slice(&newer.times[b..]);
    out.values.extend_from_slice(&newer.values[b..]);
    out
}

/// How many instants two runs in order share.
pub fn shared(a: &[Nanos], b: &[Nanos]) -> usize {
    a.iter().filter(|at| b.binary_search(at).is_ok()).count()
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    fn columns(map: BTreeMap<i64, f64>) -> Columns {
        Columns { times: map.keys().copied().collect(), values: map.values().copied().collect() }
    }

    proptest! {
        #[test]
        fn the_later_arrival_wins(points in prop::collection::vec((0i64..30, 0f64..9.0), 0..60), cut in 0usize..60) {
            let (times, values): (Vec<i64>, Vec<f64>) = points.iter().copied().unzip();
            let wanted = columns(points.iter().copied().collect());
            prop_assert_eq!(&in_order(&times, &values), &wanted);
            let (older, newer) = points.split_at(cut.min(points.len()));
            let part = |points: &[(i64, f64)]| columns(points.iter().copied().collect());
            prop_assert_eq!(merge(&part(older), &part(newer)), wanted);
        }
    }
}
