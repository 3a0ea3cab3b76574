//! Columns of points put in order of time, each instant once, the later arrival winning.

use fenetre_core::{
    block::{Columns, Points},
    time::Nanos,
};

/// Sorts points by time; of several at one instant the last in the order of arrival stays.
pub fn in_order(points: Points<'_>) -> Columns {
    // Instants beside their places, so that comparing two does not look elsewhere in memory.
    let mut order: Vec<(Nanos, u32)> = points.times.iter().copied().zip(0..).collect();
    order.sort_unstable();
    let mut out = Columns::default();
    out.reserve(points.len());
    for at in order.into_iter().map(|(_, at)| at as usize) {
        if out.times.last() == Some(&points.times[at]) {
            out.truncate(out.len() - 1);
        }
        out.push(points.times[at], points.values[at], points.rest(at));
    }
    out
}

/// Merges two runs that are each in order; at one instant `newer` wins.
pub fn merge(older: Points<'_>, newer: Points<'_>) -> Columns {
    let mut sweep = Sweep::default();
    sweep.add(older, 0);
    sweep.add(newer, 1);
    sweep.columns
}

/// How many instants two runs in order share.
pub fn shared(a: &[Nanos], b: &[Nanos]) -> usize {
    a.iter().filter(|at| b.binary_search(at).is_ok()).count()
}

/// Runs of one series that overlap, merged on the way through time: runs are added in order of their starts, and what lies before the
/// next start can be taken out. So memory is bounded by how many runs lie over each other, not by how many there are.
#[derive(Default)]
pub struct Sweep {
    columns: Columns,
    /// How late each point arrived.
    ranks: Vec<u64>,
}

impl Sweep {
    /// Adds a run in order of time; at one instant the greater rank wins, and of equal ones the later added.
    pub fn add(&mut self, run: Points<'_>, rank: u64) {
        let Some(&first) = run.times.first() else { return };
        let keep = self.columns.times.partition_point(|at| *at < first);
        if keep == self.columns.len() {
            self.columns.extend(run);
            self.ranks.resize(self.columns.len(), rank);
            return;
        }
        let old = self.columns.points().slice(keep..self.columns.len()).to_columns();
        let (old, old_ranks) = (old.points(), self.ranks.split_off(keep));
        self.columns.truncate(keep);
        let mut push = |points: &Points<'_>, at: usize, rank: u64| {
            self.columns.push(points.times[at], points.values[at], points.rest(at));
            self.ranks.push(rank);
        };
        let (mut a, mut b) = (0, 0);
        while a < old.len() && b < run.len() {
            let (old_time, new_time) = (old.times[a], run.times[b]);
            if old_time < new_time || (old_time == new_time && old_ranks[a] > rank) {
                push(&old, a, old_ranks[a]);
                b += usize::from(old_time == new_time);
                a += 1;
            } else {
                push(&run, b, rank);
                a += usize::from(old_time == new_time);
                b += 1;
            }
        }
        (a..old.len()).for_each(|at| push(&old, at, old_ranks[at]));
        (b..run.len()).for_each(|at| push(&run, at, rank));
    }

    /// Takes out the points before an instant.
    pub fn take_before(&mut self, time: Nanos) -> Columns {
        let end = self.columns.times.partition_point(|at| *at < time);
        let taken = self.columns.points().slice(0..end).to_columns();
        let rest = self.columns.points().slice(end..self.columns.len()).to_columns();
        self.columns = rest;
        self.ranks.drain(..end);
        taken
    }

    /// Takes out everything.
    pub fn take(&mut self) -> Columns {
        self.ranks.clear();
        std::mem::take(&mut self.columns)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    fn columns(points: impl IntoIterator<Item = (i64, f64)>) -> Columns {
        let mut columns = Columns::default();
        points.into_iter().for_each(|(at, value)| columns.push(at, value, (at % 3 == 0) as i16));
        columns
    }

    proptest! {
        #[test]
        fn the_later_arrival_wins(points in prop::collection::vec((0i64..30, 0f64..9.0), 0..60), cut in 0usize..60) {
            let wanted = columns(points.iter().copied().collect::<BTreeMap<_, _>>());
            let sorted = in_order(columns(points.iter().copied()).points());
            prop_assert_eq!((&sorted.times, &sorted.values), (&wanted.times, &wanted.values));
            let (older, newer) = points.split_at(cut.min(points.len()));
            let part = |points: &[(i64, f64)]| columns(points.iter().copied().collect::<BTreeMap<_, _>>());
            let merged = merge(part(older).points(), part(newer).points());
            prop_assert_eq!((merged.times, merged.values), (wanted.times, wanted.values));
        }

        #[test]
        fn merging_runs_in_any_order_equals_a_map(
            runs in prop::collection::vec(prop::collection::btree_map(0i64..60, 0f64..9.0, 1..20), 1..8),
        ) {
            let mut map = BTreeMap::new();
            runs.iter().for_each(|run| map.extend(run.iter().map(|(at, value)| (*at, *value))));
            let mut in_time: Vec<usize> = (0..runs.len()).collect();
            in_time.sort_by_key(|run| runs[*run].keys().next().copied());
            let (mut sweep, mut found) = (Sweep::default(), Columns::default());
            for run in in_time {
                let points = columns(runs[run].clone());
                found.extend(sweep.take_before(points.times[0]).points());
                sweep.add(points.points(), run as u64);
            }
            found.extend(sweep.take().points());
            prop_assert!(sweep.take().is_empty());
            let wanted = columns(map);
            prop_assert_eq!((&found.times, &found.values), (&wanted.times, &wanted.values));
            prop_assert!((0..found.len()).all(|at| found.points().value(at) == wanted.points().value(at)));
        }
    }
}
