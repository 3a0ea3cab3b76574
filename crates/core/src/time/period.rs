//! Periods of the calendar that have a name of their own: `2026`, `2026-Q2`, `2026-05`, `2026-W18`, `2026-05-01`.

use jiff::{
    civil::{Date, ISOWeekDate, Weekday, date},
    tz::TimeZone,
};

use super::{Nanos, TimeError, TimeRange, instant::nanos};

/// A year, a quarter, a month, a week from Monday on (ISO 8601) or a day.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Period {
    first: Date,
    /// The day after the last one.
    next: Date,
}

impl Period {
    /// Reads the name of one; none for every other text, and for periods that there are not, such as `2026-13`.
    pub fn parse(text: &str) -> Option<Self> {
        let (year_text, part) = text.split_once('-').map_or((text, None), |(year, part)| (year, Some(part)));
        let number = |text: &str, digits: usize| {
            let is_number = text.len() == digits && text.bytes().all(|byte| byte.is_ascii_digit());
            text.parse::<i8>().ok().filter(|_| is_number)
        };
        let is_year = year_text.len() == 4 && year_text.bytes().all(|byte| byte.is_ascii_digit());
        let year: i16 = year_text.parse().ok().filter(|_| is_year)?;
        let of_months = |first: Date, months: i32| first.checked_add(jiff::Span::new().months(months)).ok().map(|next| Self { first, next });
        let Some(part) = part else { return of_months(date(year, 1, 1), 12) };
        if let Some(quarter) = part.strip_prefix('Q') {
            let quarter = number(quarter, 1).filter(|quarter| (1..=4).contains(quarter))?;
            return of_months(date(year, quarter * 3 - 2, 1), 3);
        }
        if let Some(week) = part.strip_prefix('W') {
            let first = ISOWeekDate::new(year, number(week, 2)?, Weekday::Monday).ok()?.date();
            return Some(Self { first, next: first.checked_add(jiff::Span::new().days(7)).ok()? });
        }
        if part.len() == 2 {
            return of_months(Date::new(year, number(part, 2)?, 1).ok()?, 1);
        }
        let first: Date = text.parse().ok().filter(|_| part.len() == 5)?;
        Some(Self { first, next: first.tomorrow().ok()? })
    }

    /// Its first instant.
    ///
    /// # Errors
    /// [`TimeError::OutOfRange`].
    pub fn start(self, zone: &TimeZone) -> Result<Nanos, TimeError> {
        start_of(self.first, zone)
    }

    /// From its first instant to that of the next one.
    ///
    /// # Errors
    /// [`TimeError::OutOfRange`].
    pub fn range(self, zone: &TimeZone) -> Result<TimeRange, TimeError> {
        Ok(TimeRange { start: start_of(self.first, zone)?, end: start_of(self.next, zone)? })
    }
}

/// A day begins at its first instant, whichever wall time a clock change gives it.
fn start_of(day: Date, zone: &TimeZone) -> Result<Nanos, TimeError> {
    let out_of_range = || TimeError::OutOfRange { text: day.to_string() };
    let start = day.to_zoned_datetime(zone.clone()).and_then(|z| z.start_of_day()).map_err(|_| out_of_range())?;
    nanos(start.timestamp(), &day.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::{format_in_zone, zone};

    #[test]
    fn a_period_ends_where_the_next_begins() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let line = |text: &str| {
            let range = Period::parse(text).unwrap().range(&lisbon).unwrap();
            format!("{text}: {} to {}\n", format_in_zone(range.start, &lisbon), format_in_zone(range.end, &lisbon))
        };
        let names = ["2013", "2013-Q1", "2026-Q4", "2026-05", "2026-12", "2026-W05", "2026-W53", "2020-W01", "2026-03-29", "2024-02-29"];
        insta::assert_snapshot!(names.map(line).concat());
    }

    #[test]
    fn invalid_periods_are_none() {
        let texts = [
            "",
            "201",
            "20133",
            "2013-",
            "2013-Q0",
            "2013-Q5",
            "2013-Q",
            "2013-Q01",
            "2026-W00",
            "2025-W53",
            "2026-W5",
            "2026-13",
            "2026-00",
            "2026-1",
            "2026-02-30",
            "2026-05-1",
            "2026-05-01T09",
            "-2013",
            "2013-W+1",
            "+201-Q1",
            "now",
        ];
        for text in texts {
            assert_eq!(Period::parse(text), None, "{text}");
        }
        assert_eq!(Period::parse("1500").unwrap().start(&TimeZone::UTC).unwrap_err().to_string(), "`1500-01-01` is outside the years 1677 to 2262");
    }
}
