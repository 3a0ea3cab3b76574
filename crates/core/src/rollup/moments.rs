//! What scatter and slope need of the points of a window, beside their count and sum.
//!
//! A sum of squared distances from a mean is a full double even where all values are decimals. Times the count it is a decimal again, since
//! n Σ(v − v̄)² = n Σv² − (Σv)²; so that is what is held, and packs into a third of the room.

use super::decimals::shortest_within;
use crate::{
    block::Points,
    time::{Nanos, SECOND},
};

/// Moments of values and times; times in seconds from the window's start.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Moments {
    /// Sum of the times.
    pub times: f64,
    /// Count times the sum of squared distances of the values from their mean.
    pub squares: f64,
    /// Count times the sum of squared distances of the times from their mean.
    pub time_squares: f64,
    /// Count times the sum of products of both distances.
    pub products: f64,
}

/// How many points there are, and where their values lie.
#[derive(Clone, Copy, Debug)]
pub(super) struct Mass {
    pub count: f64,
    pub mean: f64,
}

/// A difference that is known but for some error.
#[derive(Clone, Copy)]
struct Known {
    value: f64,
    error: f64,
}

fn seconds(nanos: Nanos) -> f64 {
    nanos as f64 / SECOND as f64
}

impl Moments {
    /// Of points in order of time, of which there is at least one.
    pub(super) fn of(points: Points<'_>, start: Nanos) -> Self {
        let count = points.len() as f64;
        // Distances from the first value lose less than the values would.
        let origin = points.values[0];
        let (mut times, mut offs) = (0.0, 0.0);
        let (mut is_whole, mut greatest, mut furthest) = (true, 0.0f64, 0.0f64);
        for (at, value) in points.times.iter().zip(points.values) {
            times += seconds(at - start);
            offs += value - origin;
            is_whole &= value.trunc() == *value;
            greatest = greatest.max(value.abs());
            furthest = furthest.max((value - origin).abs());
        }
        let (time, off) = (times / count, offs / count);
        let (mut squares, mut time_squares, mut products) = (0.0, 0.0, 0.0);
        for (at, value) in points.times.iter().zip(points.values) {
            let (apart, off) = (seconds(at - start) - time, (value - origin) - off);
            squares += off * off;
            time_squares += apart * apart;
            products += apart * off;
        }
        // Whole numbers are doubles as they are; a decimal is the double that is nearest to it.
        let value_error = f64::EPSILON * if is_whole && greatest < 9e15 { furthest } else { greatest };
        let time_error = f64::EPSILON * seconds(points.times[points.len() - 1] - start);
        let (spread, stretch) = ((count * squares).sqrt(), (count * time_squares).sqrt());
        let rounding = (4.0 + count.sqrt()) * f64::EPSILON;
        Self {
            times: shortest_within(times, count * time_error),
            squares: shortest_within(count * squares, count * (2.0 * spread * value_error + rounding * squares)),
            time_squares: shortest_within(count * time_squares, count * (2.0 * stretch * time_error + rounding * time_squares)),
            products: shortest_within(count * products, count * (stretch * value_error + spread * time_error) + rounding * stretch * spread),
        }
    }

    /// Takes in the points of a window that begins `later` seconds after this one: the pairwise update of Chan, Golub and LeVeque (Updating formulae and
    /// a pairwise algorithm for computing sample variances, 1979), of both coordinates.
    pub(super) fn append(&mut self, mass: Mass, next: &Self, of_next: Mass, later: f64) {
        let (count, more) = (mass.count, of_next.count);
        let sum = count + more;
        let next_times = next.times + later * more;
        let (time, next_time) = (self.times / count, next_times / more);
        let apart = Known { value: next_time - time, error: f64::EPSILON * (next_time.abs() + time.abs()) };
        let off = Known { value: of_next.mean - mass.mean, error: f64::EPSILON * (of_next.mean.abs() + mass.mean.abs()) };
        // Both sides as sums of distances, and what lies between their means; then by the count of both.
        let joined = |ours: f64, theirs: f64, a: Known, b: Known| {
            let weight = count * more;
            let merged = sum * (ours / count + theirs / more) + weight * a.value * b.value;
            let error = weight * (a.value.abs() * b.error + b.value.abs() * a.error) + 8.0 * f64::EPSILON * merged.abs();
            shortest_within(merged, error)
        };
        *self = Self {
            times: shortest_within(self.times + next_times, 4.0 * f64::EPSILON * (self.times.abs() + next_times.abs())),
            squares: joined(self.squares, next.squares, off, off),
            time_squares: joined(self.time_squares, next.time_squares, apart, apart),
            products: joined(self.products, next.products, apart, off),
        };
    }

    /// Whether two say the same of as many points, but for the last digits of values up to `greatest`.
    pub(super) fn agree(&self, other: &Self, count: f64, greatest: f64) -> bool {
        let near = |a: f64, b: f64, size: f64| a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-9 * size.max(1.0);
        // Distances from the mean have the last digits of what they are taken of.
        let (spread, stretch) = (self.squares.sqrt() + count * greatest * 1e-6, self.time_squares.sqrt());
        near(self.times, other.times, self.times.abs())
            && near(self.squares, other.squares, spread * spread)
            && near(self.time_squares, other.time_squares, stretch * stretch)
            && near(self.products, other.products, spread * stretch)
    }

    /// The same points, seen from a start that many seconds earlier.
    pub(super) fn start_earlier(&mut self, count: f64, seconds: f64) {
        self.times += count * seconds;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Of whole milliseconds and hundredths, as integers: what the moments are, without any rounding.
    fn exact(points: &[(i64, i64)]) -> [f64; 4] {
        let count = points.len() as i128;
        let sum = |of: &dyn Fn(i128, i128) -> i128| points.iter().map(|(at, value)| of(i128::from(*at), i128::from(*value))).sum::<i128>();
        let (times, values) = (sum(&|at, _| at), sum(&|_, value| value));
        let squares = count * sum(&|_, value| value * value) - values * values;
        let time_squares = count * sum(&|at, _| at * at) - times * times;
        let products = count * sum(&|at, value| at * value) - times * values;
        [times as f64 / 1e3, squares as f64 / 1e4, time_squares as f64 / 1e6, products as f64 / 1e5]
    }

    fn of(points: &[(i64, i64)]) -> Moments {
        let (times, values): (Vec<i64>, Vec<f64>) = points.iter().map(|(at, value)| (at * 1_000_000, *value as f64 / 100.0)).unzip();
        Moments::of(Points::of(&times, &values), 0)
    }

    fn mass(points: &[(i64, i64)]) -> Mass {
        let count = points.len() as f64;
        Mass { count, mean: points.iter().map(|(_, value)| *value).sum::<i64>() as f64 / 100.0 / count }
    }

    fn near(found: Moments, wanted: [f64; 4], scale: f64) -> bool {
        let found = [found.times, found.squares, found.time_squares, found.products];
        found.iter().zip(wanted).all(|(found, wanted)| (found - wanted).abs() <= 1e-12 * (wanted.abs() + scale))
    }

    /// Points that come about every second.
    fn points() -> impl Strategy<Value = Vec<(i64, i64)>> {
        prop::collection::vec((1i64..2_000, -5_000i64..5_000), 2..80).prop_map(|steps| {
            let mut at = 0;
            let mut point = |(step, value)| {
                at += step;
                (at, 30_000 + value)
            };
            steps.into_iter().map(&mut point).collect()
        })
    }

    proptest! {
        #[test]
        fn moments_keep_decimals_exact(points in points()) {
            let (found, wanted) = (of(&points), exact(&points));
            prop_assert!(near(found, wanted, 0.0), "{:?} {:?}", found, wanted);
            // Of values they are found bit for bit: that is what makes them small.
            prop_assert_eq!(found.squares, wanted[1]);
        }

        #[test]
        fn halves_merge_to_the_whole(points in points(), cut in any::<prop::sample::Index>(), start in 0i64..60) {
            let cut = 1 + cut.index(points.len() - 1);
            let (before, after) = points.split_at(cut.min(points.len() - 1));
            // The second window begins a little before its first point.
            let begins = after[0].0 - start.min(after[0].0 - before[before.len() - 1].0 - 1).max(0);
            let moved: Vec<(i64, i64)> = after.iter().map(|(at, value)| (at - begins, *value)).collect();
            let mut merged = of(before);
            merged.append(mass(before), &of(&moved), mass(after), begins as f64 / 1e3);
            let wanted = exact(&points);
            let scale = (wanted[1] * wanted[2]).sqrt();
            prop_assert!(near(merged, wanted, scale), "{:?} {:?}", merged, wanted);
            let mut earlier = of(&moved);
            earlier.start_earlier(after.len() as f64, begins as f64 / 1e3);
            prop_assert!((earlier.times - exact(after)[0]).abs() <= 1e-9);
        }
    }

    #[test]
    fn single_points_and_nan_are_handled() {
        assert_eq!(of(&[(500, 12)]), Moments { times: 0.5, ..Moments::default() });
        assert!(Moments::of(Points::of(&[0, 1], &[f64::NAN, 1.0]), 0).squares.is_nan());
        let far = Moments::of(Points::of(&[0, 1_000_000_000], &[1e300, -1e300]), 0);
        assert_eq!(far.squares, f64::INFINITY);
    }
}
