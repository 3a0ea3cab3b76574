//! What will be there: at rest under a limit, in a while, and when a limit is reached.

use crate::time::Nanos;

const DAY: f64 = 86_400e9;

/// How fast it grows.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Growth {
    /// Points a day.
    pub points_a_day: f64,
    /// Bytes a day, as they lie at rest.
    pub bytes_a_day: f64,
    /// How many days that was measured over.
    pub over_days: f64,
}

/// What will be there.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Outlook {
    /// Bytes at rest, when as much goes as comes; none where it grows for ever.
    pub at_rest: Option<f64>,
    /// Bytes in 30 days.
    pub in_30_days: f64,
    /// When the limit by size is reached; none where it never is.
    pub reached: Option<Nanos>,
    /// How many days fit under the limit by size.
    pub days_that_fit: Option<f64>,
    /// A limit by size that would never be met under the limit by age: a fifth more than at rest.
    pub recommended: Option<f64>,
}

/// How many days are held beyond a limit by age, since whole partitions go.
pub const PARTITION_DAYS: f64 = 7.0;

/// Looks ahead from `held` bytes. `kept_days` and `keep_under` are the limits in force.
pub fn outlook(now: Nanos, held: u64, growth: Growth, kept_days: Option<f64>, keep_under: Option<u64>) -> Outlook {
    let held = held as f64;
    let by_age = kept_days.map(|days| (days + PARTITION_DAYS) * growth.bytes_a_day);
    let by_size = keep_under.map(|bytes| bytes as f64);
    let at_rest = match (by_age, by_size) {
        (Some(age), Some(size)) => Some(age.min(size)),
        (one, other) => one.or(other),
    };
    let grown = held + growth.bytes_a_day * 30.0;
    // Under a limit by age it does not grow beyond its rest, unless it is beyond that already.
    let in_30_days = at_rest.map_or(grown, |rest| grown.min(rest.max(held)));
    let reaches = by_size.filter(|size| growth.bytes_a_day > 0.0 && by_age.is_none_or(|age| age > *size));
    let reached = reaches.map(|size| {
        let days = ((size - held) / growth.bytes_a_day).clamp(0.0, 36_500.0);
        now.saturating_add((days * DAY) as Nanos)
    });
    let days_that_fit = by_size.filter(|_| growth.bytes_a_day > 0.0).map(|size| size / growth.bytes_a_day);
    Outlook { at_rest, in_30_days, reached, days_that_fit, recommended: by_age.map(|bytes| bytes * 1.2) }
}

#[cfg(test)]
mod tests {
    use super::*;

    const GROWTH: Growth = Growth { points_a_day: 1e6, bytes_a_day: 1e6, over_days: 30.0 };
    const NOW: Nanos = 1_790_000_000_000_000_000;

    #[test]
    fn at_rest_as_much_goes_as_comes() {
        let by_age = outlook(NOW, 5_000_000, GROWTH, Some(93.0), None);
        assert_eq!((by_age.at_rest, by_age.in_30_days, by_age.reached), (Some(100e6), 35e6, None));
        assert_eq!(by_age.recommended.map(f64::round), Some(120e6));
        let both = outlook(NOW, 5_000_000, GROWTH, Some(93.0), Some(20_000_000));
        assert_eq!((both.at_rest, both.in_30_days, both.days_that_fit), (Some(20e6), 20e6, Some(20.0)));
        assert_eq!(both.reached, Some(NOW + 15 * 86_400_000_000_000));
        let never = outlook(NOW, 5_000_000, GROWTH, None, None);
        assert_eq!((never.at_rest, never.in_30_days, never.reached), (None, 35e6, None));
    }

    #[test]
    fn what_does_not_grow_reaches_nothing() {
        let still = outlook(NOW, 5_000_000, Growth::default(), None, Some(20_000_000));
        assert_eq!((still.reached, still.days_that_fit, still.in_30_days), (None, None, 5e6));
        // Beyond its limit it is there already.
        assert_eq!(outlook(NOW, 30_000_000, GROWTH, None, Some(20_000_000)).reached, Some(NOW));
    }
}
