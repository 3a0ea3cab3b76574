//! Numbers, sizes, times and names as people read them.

use fenetre_core::{
    keeping::ByteSize,
    model::Value,
    time::{Nanos, parse_rfc3339, zone, zoned},
};
use jiff::tz::TimeZone;

/// `1,234,567`
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// `3.4 MB`, in powers of ten.
pub fn bytes(count: u64) -> String {
    ByteSize(count).words()
}

/// A number of seconds: `45 s`, `12 min`, `3.5 h`, `2.1 d`.
pub fn duration(seconds: u64) -> String {
    match seconds {
        0..120 => format!("{seconds} s"),
        120..7_200 => format!("{} min", seconds / 60),
        7_200..172_800 => format!("{:.1} h", seconds as f64 / 3_600.0),
        _ => format!("{:.1} d", seconds as f64 / 86_400.0),
    }
}

/// `1 series` or `3 series`; `1 point` or `3 points`.
pub fn count_of(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// Decimals that these numbers deserve when they stand under each other: as many as they have, and about five digits in all.
pub fn decimals(numbers: impl Iterator<Item = f64>) -> usize {
    let (mut largest, mut needed) = (0.0f64, 0);
    for number in numbers {
        largest = largest.max(number.abs());
        needed = needed.max((0..MAX_DECIMALS).find(|places| is_round(number, *places)).unwrap_or(MAX_DECIMALS));
    }
    let room = if largest >= 10_000.0 {
        1
    } else if largest >= 100.0 {
        2
    } else if largest >= 1.0 || largest == 0.0 {
        3
    } else {
        // Four digits behind the zeros.
        (3.0 - largest.log10().floor()) as usize
    };
    needed.min(room)
}

const MAX_DECIMALS: usize = 12;

fn is_round(number: f64, places: usize) -> bool {
    let scaled = number * 10f64.powi(places as i32);
    (scaled - scaled.round()).abs() < 1e-9 * scaled.abs().max(1e-3)
}

/// A value with so many decimals.
pub fn value(value: Option<&Value>, decimals: usize) -> String {
    match value {
        None => "–".to_owned(),
        Some(other @ (Value::Word(_) | Value::Integer(_) | Value::Histogram(_))) => other.to_string(),
        Some(Value::Number(number)) if number.abs() >= 1e15 => format!("{number:e}"),
        Some(Value::Number(number)) => format!("{number:.decimals$}"),
    }
}

/// The precision that distinguishes the times.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Precision {
    /// `Mon 23 Nov 2026`
    Day,
    /// `Mon 23 Nov 06:15`
    Minute,
    /// `Mon 23 Nov 06:15:30`
    Second,
    /// `Mon 23 Nov 06:15:30.250`
    Millisecond,
}

/// Times in the words of one zone.
pub struct Clock {
    zone: TimeZone,
    precision: Precision,
    year: bool,
}

impl Clock {
    /// A clock with the precision that distinguishes these times, and with the year if it is not this one.
    pub fn of(zone_name: &str, now: Nanos, times: &[Nanos]) -> Self {
        let zone = zone(zone_name).unwrap_or(TimeZone::UTC);
        let this_year = zoned(now, &zone).year();
        let local = || times.iter().map(|at| zoned(*at, &zone));
        let precision = if local().all(|at| at.time() == jiff::civil::Time::midnight()) {
            Precision::Day
        } else if local().all(|at| at.second() == 0 && at.subsec_nanosecond() == 0) {
            Precision::Minute
        } else if local().all(|at| at.subsec_nanosecond() == 0) {
            Precision::Second
        } else {
            Precision::Millisecond
        };
        let year = local().any(|at| at.year() != this_year);
        Self { zone, precision, year }
    }

    /// The same clock, to the minute at most.
    pub fn in_minutes(mut self) -> Self {
        if self.precision != Precision::Day {
            self.precision = Precision::Minute;
        }
        self
    }

    /// The same clock, to the second at most.
    pub fn in_seconds(mut self) -> Self {
        if self.precision == Precision::Millisecond {
            self.precision = Precision::Second;
        }
        self
    }

    /// A time in words.
    pub fn format(&self, at: Nanos) -> String {
        let date = if self.year { "%a %d %b %Y" } else { "%a %d %b" };
        let format = match self.precision {
            Precision::Day => "%a %d %b %Y".to_owned(),
            Precision::Minute => format!("{date} %H:%M"),
            Precision::Second => format!("{date} %H:%M:%S"),
            Precision::Millisecond => format!("{date} %H:%M:%S.%3f"),
        };
        zoned(at, &self.zone).strftime(&format).to_string()
    }
}

/// A time of the service, which always sends RFC 3339.
pub fn instant(text: &str) -> Nanos {
    parse_rfc3339(text).unwrap_or_default()
}

/// The day of a time in UTC.
pub fn day(text: &str) -> &str {
    text.split('T').next().unwrap_or_default()
}

/// A time to the minute in UTC, for lists.
pub fn minute(text: Option<&String>) -> String {
    text.map_or_else(|| "–".to_owned(), |text| zoned(instant(text), &TimeZone::UTC).strftime("%Y-%m-%d %H:%M").to_string())
}

/// A time to the second in UTC.
pub fn utc(text: Option<&String>) -> String {
    text.map_or_else(|| "–".to_owned(), |text| zoned(instant(text), &TimeZone::UTC).strftime("%Y-%m-%d %H:%M:%S").to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_the_digits_they_deserve() {
        assert_eq!(grouped(1_234_567), "1,234,567");
        assert_eq!(grouped(12), "12");
        assert_eq!([999, 1_500, 34_000_000].map(bytes), ["999 B", "1.50 kB", "34.0 MB"]);
        assert_eq!(decimals([312.5, 300.0].into_iter()), 1);
        assert_eq!(decimals([312.123_456].into_iter()), 2);
        assert_eq!(decimals([4.0, 5.0].into_iter()), 0);
        assert_eq!(decimals([0.001_25].into_iter()), 5);
        assert_eq!(decimals([0.016_388_888].into_iter()), 5);
        assert_eq!(decimals([0.1 + 0.2, 0.5].into_iter()), 1);
        assert_eq!(value(Some(&Value::Number(1.0 / 3.0)), 3), "0.333");
        assert_eq!(value(None, 3), "–");
    }

    #[test]
    fn times_show_the_precision_that_tells_them_apart() {
        let at = |text: &str| parse_rfc3339(text).unwrap();
        let now = at("2026-11-23T06:00:00Z");
        let format = |times: &[&str]| {
            let times: Vec<Nanos> = times.iter().map(|text| at(text)).collect();
            Clock::of("Europe/Lisbon", now, &times).format(times[0])
        };
        assert_eq!(format(&["2026-11-22T00:00:00Z", "2026-11-23T00:00:00Z"]), "Sun 22 Nov 2026");
        assert_eq!(format(&["2026-11-22T00:15:00Z"]), "Sun 22 Nov 00:15");
        assert_eq!(format(&["2026-07-22T00:15:01Z"]), "Wed 22 Jul 01:15:01");
        assert_eq!(format(&["2025-07-22T00:15:01.5Z"]), "Tue 22 Jul 2025 01:15:01.500");
    }
}
