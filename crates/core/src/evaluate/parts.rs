//! What the points of a cell contribute to a reducer: forms that merge, so that cells make windows and series make groups.

use std::{collections::HashSet, ops::Range};

use super::ways::Ways;
use crate::{
    block::Points,
    query::Reducer,
    rollup::{Sketch, View, WindowColumns},
    summary::Summary,
    time::{Nanos, SECOND},
};

/// A mergeable form of some points.
pub trait Part: Clone + Send + Sync {
    /// Of points of one series in one cell; not empty.
    fn of(points: Points<'_>, origin: Nanos) -> Self;

    /// Of a block that lies in one cell whole, where its summary is enough.
    fn of_summary(summary: &Summary) -> Option<Self>;

    /// Of a window that stands for its points; none where that does not hold what is needed, which the plan rules out.
    fn of_window(window: &View<'_>, origin: Nanos) -> Option<Self>;

    /// Takes in windows, each into the cell that `ways` leads to, if any.
    fn add_windows(cells: &mut [Option<Self>], windows: &WindowColumns, places: Range<usize>, origin: Nanos, mut ways: Ways<'_>) {
        for at in places {
            if let Some(cell) = ways.cell(windows.starts()[at]) {
                let part = Self::of_window(&ways.translated(windows.view(at)), origin);
                merge_parts(&mut cells[cell], &part);
            }
        }
    }

    /// Takes in what other points contribute.
    fn merge(&mut self, other: &Self);

    /// Whether it holds values one by one, of which there are not to be too many.
    const HOLDS: bool = false;

    /// Takes in more points of one series.
    fn add(cell: &mut Option<Self>, points: Points<'_>, origin: Nanos) {
        let more = Self::of(points, origin);
        match cell {
            Some(known) => known.merge(&more),
            None => *cell = Some(more),
        }
    }

    /// Its first and last point, where it knows them.
    fn edges(&self) -> Option<&Summary> {
        None
    }

    /// What a reducer makes of it.
    fn value(&mut self, reducer: &Reducer) -> f64;
}

/// Takes one part into another.
pub fn merge_parts<P: Part>(into: &mut Option<P>, other: &Option<P>) {
    match (into.as_mut(), other) {
        (Some(into), Some(other)) => into.merge(other),
        (None, Some(other)) => *into = Some(other.clone()),
        (_, None) => {}
    }
}

/// Of a [`Summary`] what asks for neither the first nor the last point: most questions, over most points.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Totals {
    count: u64,
    sum: f64,
    min: f64,
    max: f64,
}

impl From<&Summary> for Totals {
    fn from(summary: &Summary) -> Self {
        Self { count: summary.count, sum: summary.sum, min: summary.min, max: summary.max }
    }
}

impl Part for Totals {
    fn of(points: Points<'_>, origin: Nanos) -> Self {
        Self::from(&<Summary as Part>::of(points, origin))
    }

    fn of_summary(summary: &Summary) -> Option<Self> {
        Some(Self::from(summary))
    }

    fn of_window(window: &View<'_>, _: Nanos) -> Option<Self> {
        Some(Self::from(&window.summary))
    }

    fn add_windows(cells: &mut [Option<Self>], windows: &WindowColumns, places: Range<usize>, _: Nanos, mut ways: Ways<'_>) {
        for at in places {
            let Some(cell) = ways.cell(windows.starts()[at]) else { continue };
            let [count, sum, min, max] = windows.totals(at);
            let totals = Self { count: count as u64, sum, min, max };
            match &mut cells[cell] {
                Some(known) => known.merge(&totals),
                empty => *empty = Some(totals),
            }
        }
    }

    fn merge(&mut self, other: &Self) {
        self.count += other.count;
        self.sum += other.sum;
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
    }

    fn value(&mut self, reducer: &Reducer) -> f64 {
        match reducer {
            Reducer::Count => self.count as f64,
            Reducer::Sum => self.sum,
            Reducer::Mean => self.sum / self.count as f64,
            Reducer::Min => self.min,
            Reducer::Max => self.max,
            Reducer::Spread => self.max - self.min,
            _ => f64::NAN,
        }
    }
}

impl Part for Summary {
    fn of(points: Points<'_>, _: Nanos) -> Self {
        // A cell's points are at least one.
        Self::of(points).unwrap_or_else(|| Self::of_point(0, f64::NAN))
    }

    fn of_summary(summary: &Summary) -> Option<Self> {
        Some(*summary)
    }

    fn of_window(window: &View<'_>, _: Nanos) -> Option<Self> {
        Some(window.summary)
    }

    fn merge(&mut self, other: &Self) {
        Summary::merge(self, other);
    }

    fn edges(&self) -> Option<&Summary> {
        Some(self)
    }

    fn value(&mut self, reducer: &Reducer) -> f64 {
        match reducer {
            Reducer::First => self.first.value,
            Reducer::Last => self.last.value,
            _ => Totals::from(&*self).value(reducer),
        }
    }
}

/// A sum in eight lanes, so that no addition waits for the one before.
fn sum_of(values: &[f64], of: impl Fn(f64) -> f64) -> f64 {
    let mut lanes = [0.0; 8];
    let (chunks, rest) = values.as_chunks::<8>();
    for chunk in chunks {
        for lane in 0..8 {
            lanes[lane] += of(chunk[lane]);
        }
    }
    lanes.iter().sum::<f64>() + rest.iter().map(|value| of(*value)).sum::<f64>()
}

/// Count, mean and squared distances from it, merged pairwise.
///
/// Chan, Golub and LeVeque: Updating formulae and a pairwise algorithm for computing sample variances, 1979.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Scatter {
    count: f64,
    mean: f64,
    squares: f64,
}

impl Scatter {
    pub fn of_values(values: &[f64]) -> Self {
        let count = values.len() as f64;
        let mean = sum_of(values, |value| value) / count;
        Self { count, mean, squares: sum_of(values, |value| (value - mean) * (value - mean)) }
    }

    /// Of a window's count, sum and squares.
    fn of_sums([count, sum, squares]: [f64; 3]) -> Self {
        Self { count, mean: sum / count, squares: squares / count }
    }

    /// Sample variance; none of fewer than two points.
    pub fn variance(&self) -> f64 {
        if self.count < 2.0 { f64::NAN } else { self.squares / (self.count - 1.0) }
    }
}

impl Part for Scatter {
    fn of(points: Points<'_>, _: Nanos) -> Self {
        Self::of_values(points.values)
    }

    fn of_summary(summary: &Summary) -> Option<Self> {
        // Points that are all the same do not scatter.
        (summary.min == summary.max).then_some(Self { count: summary.count as f64, mean: summary.min, squares: 0.0 })
    }

    fn of_window(window: &View<'_>, _: Nanos) -> Option<Self> {
        Some(Self::of_sums([window.summary.count as f64, window.summary.sum, window.moments.squares]))
    }

    fn add_windows(cells: &mut [Option<Self>], windows: &WindowColumns, places: Range<usize>, _: Nanos, mut ways: Ways<'_>) {
        for at in places {
            if let Some(cell) = ways.cell(windows.starts()[at]) {
                merge_parts(&mut cells[cell], &Some(Self::of_sums(windows.scatter(at))));
            }
        }
    }

    fn merge(&mut self, other: &Self) {
        let count = self.count + other.count;
        let apart = other.mean - self.mean;
        self.squares += other.squares + apart * apart * self.count * other.count / count;
        self.mean += apart * other.count / count;
        self.count = count;
    }

    fn value(&mut self, reducer: &Reducer) -> f64 {
        match reducer {
            Reducer::Stddev => self.variance().sqrt(),
            _ => self.variance(),
        }
    }
}

/// What a line of least squares needs, merged pairwise as [`Scatter`] is; times in seconds from the origin.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Trend {
    count: f64,
    time: f64,
    value: f64,
    squares: f64,
    products: f64,
}

impl Part for Trend {
    fn of(points: Points<'_>, origin: Nanos) -> Self {
        let count = points.len() as f64;
        let seconds = |at: Nanos| at.wrapping_sub(origin) as f64 / SECOND as f64;
        let time = points.times.iter().map(|at| seconds(*at)).sum::<f64>() / count;
        let value = points.values.iter().sum::<f64>() / count;
        let (mut squares, mut products) = (0.0, 0.0);
        for (at, one) in points.times.iter().zip(points.values) {
            let apart = seconds(*at) - time;
            squares += apart * apart;
            products += apart * (one - value);
        }
        Self { count, time, value, squares, products }
    }

    fn of_summary(_: &Summary) -> Option<Self> {
        None
    }

    fn of_window(window: &View<'_>, origin: Nanos) -> Option<Self> {
        let (count, moments) = (window.summary.count as f64, &window.moments);
        Some(Self {
            count,
            time: window.start.wrapping_sub(origin) as f64 / SECOND as f64 + moments.times / count,
            value: window.summary.mean(),
            squares: moments.time_squares / count,
            products: moments.products / count,
        })
    }

    fn merge(&mut self, other: &Self) {
        let count = self.count + other.count;
        let (time, value) = (other.time - self.time, other.value - self.value);
        let weight = self.count * other.count / count;
        self.squares += other.squares + time * time * weight;
        self.products += other.products + time * value * weight;
        self.time += time * other.count / count;
        self.value += value * other.count / count;
        self.count = count;
    }

    fn value(&mut self, _: &Reducer) -> f64 {
        if self.squares > 0.0 { self.products / self.squares } else { f64::NAN }
    }
}

/// For quantiles: the values themselves, and sketches of those of which only windows are left.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Values {
    values: Vec<f64>,
    sketch: Sketch,
    /// The least and the greatest that was sketched.
    ends: Option<(f64, f64)>,
}

impl Part for Values {
    fn of(points: Points<'_>, _: Nanos) -> Self {
        Self { values: points.values.to_vec(), ..Self::default() }
    }

    fn of_summary(_: &Summary) -> Option<Self> {
        None
    }

    const HOLDS: bool = true;

    fn add(cell: &mut Option<Self>, points: Points<'_>, _: Nanos) {
        cell.get_or_insert_default().values.extend_from_slice(points.values);
    }

    fn of_window(window: &View<'_>, _: Nanos) -> Option<Self> {
        let ends = Some((window.summary.min, window.summary.max));
        Some(Self { values: Vec::new(), sketch: window.sketch.clone(), ends })
    }

    fn merge(&mut self, other: &Self) {
        self.values.extend_from_slice(&other.values);
        self.sketch.merge(&other.sketch);
        self.ends = match (self.ends, other.ends) {
            (Some((low, high)), Some((other_low, other_high))) => Some((low.min(other_low), high.max(other_high))),
            (one, other) => one.or(other),
        };
    }

    fn value(&mut self, reducer: &Reducer) -> f64 {
        match (reducer, self.ends) {
            (Reducer::Quantile(share), None) => quantile(&mut self.values, *share),
            (Reducer::Quantile(share), Some((low, high))) => {
                let mut all = self.sketch.clone();
                all.merge(&Sketch::of(&self.values));
                let (low, high) = self.values.iter().fold((low, high), |(low, high), value| (low.min(*value), high.max(*value)));
                all.quantile(*share).clamp(low, high)
            }
            _ => f64::NAN,
        }
    }
}

/// The value at `share` of the way from the least to the greatest, linear between closest ranks (definition 7 of Hyndman and Fan: Sample
/// quantiles in statistical packages, 1996). Reorders the values.
pub fn quantile(values: &mut [f64], share: f64) -> f64 {
    if values.is_empty() {
        return f64::NAN;
    }
    let rank = (values.len() - 1) as f64 * share;
    let below = rank.floor() as usize;
    let (_, low, rest) = values.select_nth_unstable_by(below, f64::total_cmp);
    let low = *low;
    let part = rank - rank.floor();
    if part == 0.0 || rest.is_empty() {
        return low;
    }
    let high = rest.iter().copied().fold(f64::INFINITY, f64::min);
    // Equal infinities have no difference.
    if high == low { low } else { low + (high - low) * part }
}

/// Which values there were.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Kinds(HashSet<u64>);

impl Kinds {
    fn insert(&mut self, value: f64) {
        // Both zeros are the same value.
        self.0.insert((value + 0.0).to_bits());
    }
}

impl Part for Kinds {
    fn of(points: Points<'_>, _: Nanos) -> Self {
        let mut kinds = Self::default();
        let mut last = f64::NAN;
        for value in points.values {
            if *value != last {
                kinds.insert(*value);
                last = *value;
            }
        }
        kinds
    }

    fn of_summary(summary: &Summary) -> Option<Self> {
        (summary.min == summary.max).then(|| {
            let mut kinds = Self::default();
            kinds.insert(summary.min);
            kinds
        })
    }

    fn of_window(window: &View<'_>, _: Nanos) -> Option<Self> {
        let mut kinds = Self::default();
        window.states.iter().for_each(|(code, _)| kinds.insert(f64::from(*code)));
        Some(kinds)
    }

    const HOLDS: bool = true;

    fn merge(&mut self, other: &Self) {
        self.0.extend(&other.0);
    }

    fn value(&mut self, _: &Reducer) -> f64 {
        self.0.len() as f64
    }
}

/// What a value is of, and by what it is divided: both are sums over series and time.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Ratio {
    /// Growth, area, seconds in a state, changes.
    pub amount: f64,
    /// Seconds covered.
    pub seconds: f64,
    /// Whether anything is known: nothing is not zero.
    pub is_known: bool,
    /// Whether something is missing that can no longer be read.
    pub is_cut: bool,
}

impl Ratio {
    pub fn add(&mut self, amount: f64, seconds: f64) {
        self.amount += amount;
        self.seconds += seconds;
        self.is_known = true;
    }

    pub fn merge(&mut self, other: &Self) {
        self.amount += other.amount;
        self.seconds += other.seconds;
        self.is_known |= other.is_known;
        self.is_cut |= other.is_cut;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn points(values: &[f64]) -> (Vec<i64>, Vec<f64>) {
        ((0..values.len() as i64).map(|at| at * 7 * SECOND).collect(), values.to_vec())
    }

    /// What comes of points as they are, and of them split in two and merged, from either side.
    fn split<P: Part>(values: &[f64], at: usize, reducer: &Reducer) -> [f64; 3] {
        let (times, values) = points(values);
        let of = |part: std::ops::Range<usize>| P::of(Points::of(&times[part.clone()], &values[part]), 0);
        let (before, after) = (of(0..at), of(at..times.len()));
        let (mut forward, mut backward) = (before.clone(), after.clone());
        forward.merge(&after);
        backward.merge(&before);
        [of(0..times.len()).value(reducer), forward.value(reducer), backward.value(reducer)]
    }

    proptest! {
        #[test]
        fn any_split_merges_to_the_whole(values in prop::collection::vec(-1e6f64..1e6, 2..40), cut in any::<prop::sample::Index>()) {
            let at = 1 + cut.index(values.len() - 1);
            let cases = [
                split::<Summary>(&values, at, &Reducer::Sum),
                split::<Totals>(&values, at, &Reducer::Spread),
                split::<Scatter>(&values, at, &Reducer::Variance),
                split::<Trend>(&values, at, &Reducer::Slope),
                split::<Values>(&values, at, &Reducer::Quantile(0.37)),
                split::<Kinds>(&values, at, &Reducer::Distinct),
            ];
            for [whole, forward, backward] in cases {
                prop_assert!((whole - forward).abs() <= 1e-9 * whole.abs().max(1e-3), "{} {}", whole, forward);
                prop_assert!((whole - backward).abs() <= 1e-9 * whole.abs().max(1e-3), "{} {}", whole, backward);
            }
        }

        #[test]
        fn a_quantile_lies_between_its_ranks(mut values in prop::collection::vec(-1e3f64..1e3, 1..30), share in 0.001f64..0.999) {
            let found = quantile(&mut values, share);
            values.sort_by(f64::total_cmp);
            let rank = (values.len() - 1) as f64 * share;
            let (low, high) = (values[rank.floor() as usize], values[rank.ceil() as usize]);
            prop_assert!((found - (low + (high - low) * rank.fract())).abs() < 1e-9);
        }
    }

    #[test]
    fn undefined_values_are_nan() {
        assert!(Scatter::of_values(&[1.0]).variance().is_nan());
        assert!(quantile(&mut [], 0.5).is_nan());
        assert_eq!(quantile(&mut [f64::INFINITY, f64::INFINITY], 0.5), f64::INFINITY);
        assert_eq!(Scatter::of_values(&[2.0, 4.0]).variance(), 2.0);
    }
}
