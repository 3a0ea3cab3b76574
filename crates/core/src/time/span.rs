//! Spans of time: exact ones (`90s`, `24h`) and those of the calendar (`1d`, `2w`, `1mo`).

use std::fmt;

use jiff::tz::TimeZone;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

use super::{Nanos, SECOND, instant::instant_of, zoned};

/// A span as the language writes it: months and days follow the calendar of a zone, the rest is exact.
///
/// Not negative. `1y` is 12 months, `1q` is 3, `1w` is 7 days.
#[derive(Clone, Copy, Debug, Default)]
pub struct Span {
    /// Calendar months.
    pub months: u32,
    /// Calendar days.
    pub days: u32,
    /// Exact nanoseconds.
    pub nanos: Nanos,
    /// Whether the days were written as weeks: no longer for it, but windows of weeks begin on Mondays.
    pub in_weeks: bool,
}

impl PartialEq for Span {
    fn eq(&self, other: &Self) -> bool {
        (self.months, self.days, self.nanos) == (other.months, other.days, other.nanos)
    }
}

impl Eq for Span {}

/// Why a text is no span.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SpanError {
    /// No number and unit.
    #[error("`{0}` is not a span: write a number and a unit, such as 15m, 24h, 7d or 1h30m")]
    NotASpan(String),
    /// A unit that there is not.
    #[error("unknown time unit `{unit}`: use ms, s, m, h, d, w, mo, q or y")]
    Unit {
        /// What was found.
        unit: String,
    },
    /// Nothing at all.
    #[error("a span must be longer than zero")]
    Zero,
    /// Too long to be held.
    #[error("`{0}` is longer than 290 years")]
    TooLong(String),
}

const MILLISECOND: Nanos = 1_000_000;
const MINUTE: Nanos = 60 * SECOND;
const HOUR: Nanos = 60 * MINUTE;
const MAX_DAYS: u32 = 290 * 365;

impl Span {
    /// A span of exact nanoseconds.
    pub const fn exact(nanos: Nanos) -> Self {
        Self { months: 0, days: 0, nanos, in_weeks: false }
    }

    /// A span of whole weeks.
    pub const fn weeks(weeks: u32) -> Self {
        Self { months: 0, days: weeks.saturating_mul(7), nanos: 0, in_weeks: true }
    }

    /// Reads `250ms`, `1h30m`, `2w`, or ISO 8601 (`PT15M`, `P1DT12H`).
    ///
    /// # Errors
    /// [`SpanError`].
    pub fn parse(text: &str) -> Result<Self, SpanError> {
        let span = match text.strip_prefix('P') {
            Some(rest) => Self::parse_iso(rest, text)?,
            None => Self::parse_parts(text, text, |unit| unit.to_owned())?,
        };
        if span == Self::default() {
            return Err(SpanError::Zero);
        }
        Ok(span)
    }

    fn parse_iso(rest: &str, whole: &str) -> Result<Self, SpanError> {
        let (date, clock) = rest.split_once('T').unwrap_or((rest, ""));
        let unit_of_date = |unit: &str| match unit {
            "M" => "mo".to_owned(),
            other => other.to_lowercase(),
        };
        let mut span = Self::default();
        if !date.is_empty() {
            span = Self::parse_parts(date, whole, unit_of_date)?;
        }
        if !clock.is_empty() {
            let exact = Self::parse_parts(clock, whole, str::to_lowercase)?;
            span.nanos = exact.nanos;
        }
        Ok(span)
    }

    fn parse_parts(text: &str, whole: &str, unit_name: impl Fn(&str) -> String) -> Result<Self, SpanError> {
        let mut span = Self::default();
        let mut rest = text;
        if rest.is_empty() {
            return Err(SpanError::NotASpan(whole.to_owned()));
        }
        while !rest.is_empty() {
            let digits = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_digit()).len();
            let (number, after) = rest.split_at(digits);
            let letters = after.len() - after.trim_start_matches(|c: char| c.is_alphabetic()).len();
            let (unit, after) = after.split_at(letters);
            if number.is_empty() || unit.is_empty() {
                return Err(SpanError::NotASpan(whole.to_owned()));
            }
            let number: i64 = number.parse().map_err(|_| SpanError::TooLong(whole.to_owned()))?;
            span.add(number, &unit_name(unit), unit, whole)?;
            rest = after;
        }
        Ok(span)
    }

    fn add(&mut self, number: i64, unit: &str, written: &str, whole: &str) -> Result<(), SpanError> {
        let too_long = || SpanError::TooLong(whole.to_owned());
        let nanos = |unit: Nanos| number.checked_mul(unit).ok_or_else(too_long);
        let days = |unit: i64| number.checked_mul(unit).and_then(|n| u32::try_from(n).ok()).filter(|n| *n <= MAX_DAYS).ok_or_else(too_long);
        let exact = match unit {
            "ms" => nanos(MILLISECOND)?,
            "s" => nanos(SECOND)?,
            "m" => nanos(MINUTE)?,
            "h" => nanos(HOUR)?,
            "d" | "w" => {
                let more = days(if unit == "w" { 7 } else { 1 })?;
                self.in_weeks = unit == "w" && (self.days == 0 || self.in_weeks);
                self.days = self.days.checked_add(more).filter(|n| *n <= MAX_DAYS).ok_or_else(too_long)?;
                0
            }
            "mo" | "q" | "y" => {
                let more = days(if unit == "y" { 12 } else { 1 + 2 * i64::from(unit == "q") })?;
                self.months = self.months.checked_add(more).filter(|n| *n <= 290 * 12).ok_or_else(too_long)?;
                0
            }
            _ => return Err(SpanError::Unit { unit: written.to_owned() }),
        };
        self.nanos = self.nanos.checked_add(exact).ok_or_else(too_long)?;
        Ok(())
    }

    /// Whether it needs a calendar to know how long it is.
    pub fn is_calendar(self) -> bool {
        self.months > 0 || self.days > 0
    }

    /// So many of it; the longest there is where that is too long.
    #[must_use]
    pub fn times(self, count: u32) -> Self {
        let Self { months, days, nanos, in_weeks } = self;
        Self { months: months.saturating_mul(count), days: days.saturating_mul(count), nanos: nanos.saturating_mul(count.into()), in_weeks }
    }

    /// The instant that lies this span before `at`, by the calendar of `zone`; the earliest instant where there is none.
    pub fn before(self, at: Nanos, zone: &TimeZone) -> Nanos {
        let exact = at.saturating_sub(self.nanos);
        if !self.is_calendar() {
            return exact;
        }
        let back = self.of_calendar().and_then(|back| zoned(exact, zone).checked_sub(back));
        back.ok().and_then(|then| instant_of(&then)).unwrap_or(Nanos::MIN)
    }

    /// The instant that lies this span after `at`, by the calendar of `zone`; the latest instant where there is none.
    pub fn after(self, at: Nanos, zone: &TimeZone) -> Nanos {
        let then = if self.is_calendar() {
            let on = self.of_calendar().and_then(|on| zoned(at, zone).checked_add(on));
            on.ok().and_then(|then| instant_of(&then)).unwrap_or(Nanos::MAX)
        } else {
            at
        };
        then.saturating_add(self.nanos)
    }

    fn of_calendar(self) -> Result<jiff::Span, jiff::Error> {
        jiff::Span::new().try_months(self.months).and_then(|span| span.try_days(self.days))
    }
}

impl Serialize for Span {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Span {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Self::parse(&String::deserialize(deserializer)?).map_err(D::Error::custom)
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut part = |number: i64, unit: &str| if number > 0 { write!(f, "{number}{unit}") } else { Ok(()) };
        part(i64::from(self.months / 12), "y")?;
        part(i64::from(self.months % 12), "mo")?;
        if self.in_weeks {
            part(i64::from(self.days / 7), "w")?;
        } else {
            part(i64::from(self.days), "d")?;
        }
        // Hours are never turned into days, which follow a calendar.
        part(self.nanos / HOUR, "h")?;
        part(self.nanos % HOUR / MINUTE, "m")?;
        part(self.nanos % MINUTE / SECOND, "s")?;
        part(self.nanos % SECOND / MILLISECOND, "ms")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::{format_utc, parse_rfc3339, zone};

    #[test]
    fn spans_are_read_and_written_canonically() {
        let cases = [
            ("250ms", "250ms"),
            ("90m", "1h30m"),
            ("24h", "24h"),
            ("14d", "14d"),
            ("2w", "2w"),
            ("1w3d", "10d"),
            ("P2W", "2w"),
            ("2q", "6mo"),
            ("4q", "1y"),
            ("10d", "10d"),
            ("12mo", "1y"),
            ("PT15M", "15m"),
            ("P1M", "1mo"),
            ("P1DT12H", "1d12h"),
            ("1h30m", "1h30m"),
        ];
        for (text, canonical) in cases {
            let span = Span::parse(text).unwrap();
            assert_eq!(span.to_string(), canonical);
            assert_eq!(Span::parse(canonical).unwrap(), span);
        }
    }

    #[test]
    fn invalid_spans_are_explained() {
        assert!(matches!(Span::parse("15"), Err(SpanError::NotASpan(_))));
        assert!(matches!(Span::parse(""), Err(SpanError::NotASpan(_))));
        assert!(matches!(Span::parse("P"), Err(SpanError::Zero)));
        assert!(matches!(Span::parse("15min"), Err(SpanError::Unit { .. })));
        assert!(matches!(Span::parse("0s"), Err(SpanError::Zero)));
        assert!(matches!(Span::parse("9999999999h"), Err(SpanError::TooLong(_))));
        assert!(matches!(Span::parse("99999999999999999999s"), Err(SpanError::TooLong(_))));
        assert!(matches!(Span::parse("400y"), Err(SpanError::TooLong(_))));
    }

    #[test]
    fn subtracting_a_day_over_a_clock_change_keeps_the_local_time() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let at = parse_rfc3339("2026-03-29T12:00:00+01:00").unwrap();
        assert_eq!(format_utc(Span::parse("1d").unwrap().before(at, &lisbon)), "2026-03-28T12:00:00Z");
        assert_eq!(format_utc(Span::parse("24h").unwrap().before(at, &lisbon)), "2026-03-28T11:00:00Z");
    }

    #[test]
    fn after_continues_where_before_stopped() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let at = parse_rfc3339("2026-03-28T12:00:00Z").unwrap();
        for (span, then) in [("1d", "2026-03-29T11:00:00Z"), ("24h", "2026-03-29T12:00:00Z"), ("1mo12h", "2026-04-28T23:00:00Z")] {
            let span = Span::parse(span).unwrap();
            assert_eq!(format_utc(span.after(at, &lisbon)), then);
            assert_eq!(span.before(span.after(at, &lisbon), &lisbon), at, "{span}");
        }
        assert_eq!(Span::parse("200y").unwrap().after(Nanos::MAX - 5, &TimeZone::UTC), Nanos::MAX);
    }
}
