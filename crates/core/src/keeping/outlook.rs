//! Forecast: sizes of points and levels in steady state and after some time, and when a limit is reached.

use crate::time::Nanos;

const DAY: f64 = 86_400e9;

/// How fast it grows.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Growth {
    /// Points per day.
    pub points_a_day: f64,
    /// Bytes per day, packed.
    pub bytes_a_day: f64,
    /// How many days that was measured over.
    pub over_days: f64,
}

/// What comes at one pace and is kept for one time: points, or the windows of a level.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Stream {
    /// Bytes per day, packed.
    pub bytes_a_day: f64,
    /// How many days of it are there at rest; none where it is kept for ever.
    pub held_days: Option<f64>,
    /// Bytes that are there now.
    pub held: f64,
}

impl Stream {
    /// How many days until as much goes as comes; none where nothing comes, or nothing goes.
    fn days_to_rest(&self) -> Option<f64> {
        let held = self.held_days.filter(|_| self.bytes_a_day > 0.0)?;
        Some((held - self.held / self.bytes_a_day).max(0.0))
    }
}

/// What will be there.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Outlook {
    /// Bytes a day of everything.
    pub bytes_a_day: f64,
    /// Bytes at rest, when as much goes as comes, of what is not kept for ever; none where points are.
    pub at_rest: Option<f64>,
    /// Time at which it stops growing; none if it never does, or has already.
    pub at_rest_from: Option<Nanos>,
    /// Bytes a day that come on top of this, of levels that are kept for ever.
    pub beside_a_day: f64,
    /// Bytes in 30 days.
    pub in_30_days: f64,
    /// When the limit by size is reached; none where it never is, or not in a hundred years.
    pub reached: Option<Nanos>,
    /// Days that fit under the size limit.
    pub days_that_fit: Option<f64>,
    /// A limit by size that would not be met under the limit by age: a fifth more than at rest, and a year of what is kept for ever.
    pub recommended: Option<f64>,
}

/// How many days are held beyond a limit by age, since whole partitions go.
pub const PARTITION_DAYS: f64 = 7.0;
const FAR_DAYS: f64 = 36_500.0;

/// Looks ahead from `held` bytes of points and levels, under a limit by size.
pub fn outlook(now: Nanos, held: u64, points: Stream, levels: &[Stream], keep_under: Option<u64>) -> Outlook {
    let held = held as f64;
    let all = || levels.iter().chain([&points]);
    let bytes_a_day: f64 = all().map(|stream| stream.bytes_a_day).sum();
    // An empty sum would be a negative zero, by which it is divided below.
    let beside = levels.iter().filter(|level| level.held_days.is_none()).fold(0.0, |sum, level| sum + level.bytes_a_day);
    let by_age = points.held_days.map(|_| all().filter_map(|stream| Some(stream.held_days? * stream.bytes_a_day)).sum::<f64>());
    let by_size = keep_under.map(|bytes| bytes as f64);
    let at_rest = match (by_age, by_size) {
        (Some(age), Some(size)) => Some(age.min(size)),
        (one, other) => one.or(other),
    };
    // Under a limit by age it does not grow beyond its rest, unless it is beyond that already; under one by size, not beyond that at all.
    let after = |days: f64| {
        let grown = held + bytes_a_day * days;
        let aged = by_age.map_or(grown, |rest| grown.min(rest.max(held) + beside * days));
        by_size.map_or(aged, |size| aged.min(size.max(held)))
    };
    let reached = by_size.and_then(|size| {
        let direct = (size - held) / bytes_a_day;
        let days = match by_age {
            _ if size <= held => 0.0,
            Some(rest) if rest.max(held) < size => ((size - rest.max(held)) / beside).max(direct),
            _ => direct,
        };
        (days <= FAR_DAYS && bytes_a_day > 0.0).then(|| now.saturating_add((days * DAY) as Nanos))
    });
    let at_rest_from = match (by_age, by_size) {
        (Some(age), size) if size.is_none_or(|size| age <= size) => {
            let days = all().filter_map(Stream::days_to_rest).fold(0.0, f64::max);
            Some(now.saturating_add((days * DAY) as Nanos))
        }
        _ => reached,
    };
    Outlook {
        bytes_a_day,
        at_rest,
        // What is less than a day ahead is there.
        at_rest_from: at_rest_from.filter(|from| from.saturating_sub(now) as f64 >= DAY),
        beside_a_day: if by_size.is_some() { 0.0 } else { beside },
        in_30_days: after(30.0),
        reached,
        days_that_fit: by_size.filter(|_| bytes_a_day > 0.0).map(|size| size / bytes_a_day),
        recommended: by_age.map(|rest| rest * 1.2 + beside * 365.0),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Nanos = 1_790_000_000_000_000_000;

    fn stream(bytes_a_day: f64, held_days: Option<f64>) -> Stream {
        Stream { bytes_a_day, held_days, held: 0.0 }
    }

    #[test]
    fn growth_stops_when_that_of_its_last_part_does() {
        let of = |held: f64, held_days: f64| Stream { held, ..stream(1e6, Some(held_days)) };
        let days = |ahead: Outlook| ahead.at_rest_from.map(|from| (from - NOW) / 86_400_000_000_000);
        // Ninety days of points are to come, and a year of windows.
        assert_eq!(days(outlook(NOW, 10_000_000, of(10e6, 100.0), &[], None)), Some(90));
        assert_eq!(days(outlook(NOW, 10_000_000, of(10e6, 100.0), &[of(5e6, 370.0)], None)), Some(365));
        assert_eq!(days(outlook(NOW, 10_000_000, of(10e6, 100.0), &[stream(1e6, None)], None)), Some(90), "beside what grows for ever");
        assert_eq!(days(outlook(NOW, 99_500_000, of(99.5e6, 100.0), &[], None)), None, "there already");
        assert_eq!(days(outlook(NOW, 900_000_000, of(900e6, 100.0), &[], None)), None, "there once the rest has gone");
        // The limit by size comes first, or there is no other.
        assert_eq!(days(outlook(NOW, 10_000_000, of(10e6, 100.0), &[], Some(40_000_000))), Some(30));
        assert_eq!(days(outlook(NOW, 10_000_000, stream(1e6, None), &[], Some(40_000_000))), Some(30));
        assert_eq!(days(outlook(NOW, 10_000_000, stream(1e6, None), &[], None)), None);
    }

    #[test]
    fn in_steady_state_expiry_equals_arrival() {
        let (kept, forever) = (stream(1e6, Some(100.0)), stream(1e6, None));
        let by_age = outlook(NOW, 5_000_000, kept, &[], None);
        assert_eq!((by_age.at_rest, by_age.in_30_days, by_age.reached), (Some(100e6), 35e6, None));
        assert_eq!(by_age.recommended.map(f64::round), Some(120e6));
        let both = outlook(NOW, 5_000_000, kept, &[], Some(20_000_000));
        assert_eq!((both.at_rest, both.in_30_days, both.days_that_fit), (Some(20e6), 20e6, Some(20.0)));
        assert_eq!(both.reached, Some(NOW + 15 * 86_400_000_000_000));
        let never = outlook(NOW, 5_000_000, forever, &[], None);
        assert_eq!((never.at_rest, never.in_30_days, never.reached), (None, 35e6, None));
    }

    #[test]
    fn each_level_is_estimated_by_its_own_limit() {
        let (points, hours, days) = (stream(1e6, Some(100.0)), stream(1e5, Some(1_000.0)), stream(1e4, None));
        let ahead = outlook(NOW, 0, points, &[hours, days], None);
        assert_eq!((ahead.bytes_a_day, ahead.at_rest, ahead.beside_a_day), (1.11e6, Some(200e6), 1e4));
        assert_eq!((ahead.in_30_days.round(), ahead.recommended.map(f64::round)), (33.3e6, Some(243_650_000.0)));
        // Long at rest, only what is kept for ever still grows, until the limit by size is there.
        let rest = outlook(NOW, 200_000_000, points, &[hours, days], Some(201_000_000));
        assert_eq!((rest.in_30_days.round(), rest.reached), (200.3e6, Some(NOW + 100 * 86_400_000_000_000)));
        assert_eq!(outlook(NOW, 200_000_000, points, &[hours], Some(201_000_000)).reached, None);
    }

    #[test]
    fn without_growth_no_limit_is_reached() {
        let still = outlook(NOW, 5_000_000, Stream::default(), &[], Some(20_000_000));
        assert_eq!((still.reached, still.days_that_fit, still.in_30_days), (None, None, 5e6));
        // Beyond its limit it is there already.
        assert_eq!(outlook(NOW, 30_000_000, stream(1e6, None), &[], Some(20_000_000)).reached, Some(NOW));
    }
}
