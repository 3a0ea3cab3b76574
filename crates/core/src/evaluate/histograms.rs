//! Histograms: how many observations there were, and quantiles inside buckets.
//!
//! The counts of each bucket are stored as a series of their own beside the histogram's, and so is the sum of the observations: what grew in a
//! window is found of each by itself. Histograms with other bounds are merged by what they say of each value: the share of observations below.

use std::sync::Arc;

use super::{
    EvaluateError,
    neighbours::Pairs,
    parts::Ratio,
    reading::{Lines, Piece, Read, Reading},
    table::Row,
};
use crate::{
    answer::Cost,
    catalogue::{Codes, Layout},
    model::{Kind, SeriesId, Temporality},
    plan::Leaf,
    query::Reducer,
};

/// Whether a reducer looks at the observations of a leaf's histograms, not at its points.
pub fn takes_of(leaf: &Leaf, reducer: &Reducer) -> bool {
    let of_observations = matches!(reducer, Reducer::Growth | Reducer::Rate | Reducer::Sum | Reducer::Mean | Reducer::Quantile(_));
    leaf.facts.kind == Kind::Histogram && of_observations
}

/// Observations of one cell.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Bins {
    /// Bounds, and how many observations fell into each bucket, one more than there are bounds.
    layouts: Vec<(Arc<[f64]>, Vec<f64>)>,
    sum: f64,
    is_known: bool,
    /// Whether something is missing that can no longer be read.
    is_cut: bool,
}

impl Bins {
    fn merge(&mut self, other: &Self) {
        for (bounds, counts) in &other.layouts {
            self.add(bounds, counts.iter().copied());
        }
        self.sum += other.sum;
        self.is_known |= other.is_known;
        self.is_cut |= other.is_cut;
    }

    fn add(&mut self, bounds: &Arc<[f64]>, counts: impl Iterator<Item = f64>) {
        match self.layouts.iter_mut().find(|(known, _)| known == bounds) {
            Some((_, known)) => known.iter_mut().zip(counts).for_each(|(into, count)| *into += count),
            None => self.layouts.push((Arc::clone(bounds), counts.collect())),
        }
    }

    fn total(&self) -> f64 {
        self.layouts.iter().flat_map(|(_, counts)| counts).sum()
    }

    /// The value that such a share of the observations does not exceed: linear inside a bucket, from 0 (or the first bound, if that is not
    /// above it) in the first; of the last bucket, which has no end, its beginning.
    fn quantile(&self, share: f64) -> f64 {
        let wanted = share * self.total();
        if self.total() <= 0.0 {
            return f64::NAN;
        }
        let mut edges: Vec<f64> = self.layouts.iter().flat_map(|(bounds, _)| bounds.iter().copied()).collect();
        edges.extend(self.layouts.iter().filter_map(|(bounds, _)| lowest(bounds)));
        edges.sort_by(f64::total_cmp);
        edges.dedup();
        let (mut below, mut from) = (0.0, None);
        for edge in edges.iter().copied() {
            let here = self.layouts.iter().map(|(bounds, counts)| observations_to(bounds, counts, edge)).sum::<f64>();
            if here >= wanted && here > 0.0 {
                return match from {
                    Some(from) if here > below => from + (edge - from) * (wanted - below) / (here - below),
                    _ => edge,
                };
            }
            (below, from) = (here, Some(edge));
        }
        edges.last().copied().unwrap_or(f64::NAN)
    }
}

/// Where the first bucket begins.
fn lowest(bounds: &[f64]) -> Option<f64> {
    bounds.first().map(|first| first.min(0.0))
}

/// How many observations did not exceed a value.
fn observations_to(bounds: &[f64], counts: &[f64], value: f64) -> f64 {
    let mut from = lowest(bounds).unwrap_or(f64::NAN);
    let mut sum = 0.0;
    for (bound, count) in bounds.iter().zip(counts) {
        if value >= *bound {
            sum += count;
        } else {
            if value > from {
                sum += count * (value - from) / (bound - from);
            }
            return sum;
        }
        from = *bound;
    }
    sum
}

/// A value a window for each line of a histogram's leaf.
pub fn reduce(reading: &Reading<'_>, reducer: &Reducer, cost: &mut Cost) -> Result<Vec<Row>, EvaluateError> {
    let pairs = if reading.leaf.facts.temporality == Temporality::Delta { Pairs::Sum } else { Pairs::Growth };
    reading.in_tasks(cost, |task, cost| read(reading, pairs, task, cost), Bins::merge, |_, cells| finish(reading, reducer, &cells))
}

fn read(reading: &Reading<'_>, pairs: Pairs, task: &[Piece], cost: &mut Cost) -> Result<Read<Bins>, EvaluateError> {
    let mut lines = Lines::<Bins>::new(task, reading.grid().len());
    for piece in task {
        let Some(Codes::Layouts(layouts)) = &reading.leaf.lines[piece.line].series[piece.at].codes else { continue };
        for layout in layouts {
            let parts = read_parts(reading, pairs, layout, cost)?;
            // The last part is that of the sums.
            let Some((sums, buckets)) = parts.split_last() else { continue };
            for (at, bins) in lines.of(piece.line).iter_mut().enumerate() {
                bins.is_cut |= buckets.iter().any(|bucket| bucket[at].is_cut);
                if buckets.iter().any(|bucket| bucket[at].is_known) {
                    bins.add(&layout.bounds, buckets.iter().map(|bucket| bucket[at].amount));
                    bins.sum += sums[at].amount;
                    bins.is_known = true;
                }
            }
        }
    }
    Ok(lines.0)
}

/// What each part of a layout grew in each cell.
fn read_parts(reading: &Reading<'_>, pairs: Pairs, layout: &Layout, cost: &mut Cost) -> Result<Vec<Vec<Ratio>>, EvaluateError> {
    let ids: Vec<SeriesId> = layout.parts().collect();
    let mut parts = vec![vec![Ratio::default(); reading.grid().len()]; ids.len()];
    reading.walk(pairs, &ids, true, |_| None, cost, &mut |place, work| work(&mut parts[place]))?;
    Ok(parts)
}

fn finish(reading: &Reading<'_>, reducer: &Reducer, cells: &[Bins]) -> Row {
    let value = |at: usize, bins: &Bins| {
        let passed = reading.passed_seconds(at);
        match reducer {
            _ if !bins.is_known => f64::NAN,
            Reducer::Growth => bins.total(),
            Reducer::Rate if passed > 0.0 => bins.total() / passed,
            Reducer::Sum => bins.sum,
            Reducer::Mean if bins.total() > 0.0 => bins.sum / bins.total(),
            Reducer::Quantile(share) => bins.quantile(*share),
            _ => f64::NAN,
        }
    };
    reading.row_of_windows(cells, Bins::merge, |at, bins| (value(at, &bins), bins.is_cut))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bins(layouts: &[(&[f64], &[f64])]) -> Bins {
        let mut bins = Bins { is_known: true, ..Bins::default() };
        layouts.iter().for_each(|(bounds, counts)| bins.add(&Arc::from(*bounds), counts.iter().copied()));
        bins
    }

    #[test]
    fn quantiles_are_linear_inside_a_bucket() {
        let one = bins(&[(&[10.0, 20.0, 40.0], &[2.0, 4.0, 2.0, 0.0])]);
        assert_eq!([one.quantile(0.125), one.quantile(0.25), one.quantile(0.5), one.quantile(0.875)], [5.0, 10.0, 15.0, 30.0]);
        // What lies above all bounds is only known to be there.
        assert_eq!(bins(&[(&[10.0], &[1.0, 9.0])]).quantile(0.9), 10.0);
        assert!(bins(&[(&[10.0], &[0.0, 0.0])]).quantile(0.5).is_nan());
        assert_eq!(bins(&[(&[-5.0, 5.0], &[0.0, 4.0, 0.0])]).quantile(0.5), 0.0);
    }

    #[test]
    fn differing_bounds_merge_cumulatively() {
        let both = bins(&[(&[10.0, 20.0], &[4.0, 0.0, 0.0]), (&[5.0, 20.0], &[0.0, 4.0, 0.0])]);
        // 4 of the 8 lie up to 10 by the first; of the second a third of 4 by then.
        let half = both.quantile(0.5);
        assert!((5.0..10.0).contains(&half), "{half}");
        let mut merged = bins(&[(&[10.0, 20.0], &[4.0, 0.0, 0.0])]);
        merged.merge(&bins(&[(&[5.0, 20.0], &[0.0, 4.0, 0.0])]));
        assert_eq!(merged.quantile(0.5), half);
    }
}
