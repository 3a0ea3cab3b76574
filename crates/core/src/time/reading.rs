//! Times as tables and devices write them: RFC 3339, local times of a stated zone, patterns, and epoch numbers.

use jiff::{civil, fmt::strtime, tz::TimeZone};
use serde::{Deserialize, Serialize};

use super::{Nanos, SECOND, TimeError, instant, parse_rfc3339};

/// How times are written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum TimeFormat {
    /// RFC 3339, a local ISO time where a zone is known, or an epoch number whose unit its size shows.
    #[default]
    Guess,
    /// RFC 3339, or a local ISO time where a zone is known.
    Iso,
    /// A number since 1970-01-01T00:00:00Z.
    Epoch(EpochUnit),
    /// A pattern with `%` and a letter for each part, as POSIX `strptime` has them; `%.f` is a fraction of a second, after a point or a comma.
    Pattern(String),
    /// A number of days since 1899-12-30, as spreadsheets have them.
    Serial,
}

/// What an epoch number counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EpochUnit {
    /// Seconds, with or without a fraction.
    Seconds,
    /// Milliseconds.
    Milliseconds,
    /// Microseconds.
    Microseconds,
    /// Nanoseconds.
    Nanoseconds,
}

impl EpochUnit {
    const ALL: [Self; 4] = [Self::Seconds, Self::Milliseconds, Self::Microseconds, Self::Nanoseconds];

    /// `s`, `ms`, `us` or `ns`.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Seconds => "s",
            Self::Milliseconds => "ms",
            Self::Microseconds => "us",
            Self::Nanoseconds => "ns",
        }
    }

    /// Digits of nanoseconds in one.
    fn digits(self) -> u32 {
        match self {
            Self::Seconds => 9,
            Self::Milliseconds => 6,
            Self::Microseconds => 3,
            Self::Nanoseconds => 0,
        }
    }

    /// The unit in which a number lies nearest to our days: seconds up to the year 5138, and so on.
    pub fn guess(number: f64) -> Self {
        match number.abs() {
            ..1e11 => Self::Seconds,
            ..1e14 => Self::Milliseconds,
            ..1e17 => Self::Microseconds,
            _ => Self::Nanoseconds,
        }
    }
}

impl TimeFormat {
    /// Reads `guess`, `iso`, `s`, `ms`, `us`, `ns`, `serial`, or a pattern.
    ///
    /// # Errors
    /// What there is, in a sentence.
    pub fn parse(text: &str) -> Result<Self, String> {
        match text {
            "guess" => Ok(Self::Guess),
            "iso" => Ok(Self::Iso),
            "serial" => Ok(Self::Serial),
            pattern if pattern.contains('%') => Ok(Self::Pattern(pattern.to_owned())),
            unit => EpochUnit::ALL.into_iter().find(|known| known.as_str() == unit).map(Self::Epoch).ok_or_else(|| {
                format!("unknown time format `{text}`: use iso, s, ms, us, ns, serial, guess, and patterns such as \"%d.%m.%Y %H:%M\"")
            }),
        }
    }
}

/// What to do with a local time that a clock change leaves out or brings twice.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ClockChange {
    /// It is an error that names both readings.
    #[default]
    Reject,
    /// The earlier of both readings.
    Earlier,
    /// The later one.
    Later,
}

/// How a column of times is read.
#[derive(Clone, Debug, Default)]
pub struct TimeRule {
    /// How they are written.
    pub format: TimeFormat,
    /// Where the clock hangs whose times have no offset.
    pub zone: Option<TimeZone>,
    /// What its changes mean.
    pub clock_change: ClockChange,
}

impl TimeRule {
    /// The instant of a local time, given as nanoseconds since 1970-01-01T00:00:00 by the clock of the zone.
    ///
    /// # Errors
    /// [`TimeError`]: without a zone, and where a clock change leaves the time out or brings it twice.
    pub fn local_instant(&self, wall: Nanos) -> Result<Nanos, TimeError> {
        let as_if_utc = instant::zoned(wall, &TimeZone::UTC).datetime();
        match &self.zone {
            Some(zone) => self.local(&as_if_utc.to_string(), as_if_utc, zone),
            None => Err(TimeError::NoZone { text: as_if_utc.to_string() }),
        }
    }

    /// Reads a time; says the unit of an epoch number where that was guessed.
    ///
    /// # Errors
    /// [`TimeError`].
    pub fn read(&self, text: &str) -> Result<(Nanos, Option<EpochUnit>), TimeError> {
        match &self.format {
            TimeFormat::Epoch(unit) => epoch(text, *unit).map(|at| (at, None)),
            TimeFormat::Iso => self.iso(text).map(|at| (at, None)),
            TimeFormat::Pattern(pattern) => self.pattern(text, pattern).map(|at| (at, None)),
            TimeFormat::Serial => self.serial(text).map(|at| (at, None)),
            // Most are RFC 3339, and a number is none.
            TimeFormat::Guess => match parse_rfc3339(text) {
                Ok(at) => Ok((at, None)),
                Err(_) => self.number_or_iso(text),
            },
        }
    }

    fn number_or_iso(&self, text: &str) -> Result<(Nanos, Option<EpochUnit>), TimeError> {
        match text.parse::<f64>() {
            Ok(number) if number.is_finite() && !text.contains(['e', 'E']) => {
                let unit = EpochUnit::guess(number);
                epoch(text, unit).map(|at| (at, Some(unit)))
            }
            _ => self.iso(text).map(|at| (at, None)),
        }
    }

    fn iso(&self, text: &str) -> Result<Nanos, TimeError> {
        match (parse_rfc3339(text), &self.zone) {
            (Err(TimeError::NoOffset { .. } | TimeError::NotATime { .. }), Some(zone)) => {
                let local: civil::DateTime = text.parse().map_err(|_| TimeError::NotATime { text: text.to_owned() })?;
                self.local(text, local, zone).and_then(|at| instant::checked_leap(at, text))
            }
            (Err(TimeError::NoOffset { text }), None) => Err(TimeError::NoZone { text }),
            (read, _) => read,
        }
    }

    fn pattern(&self, text: &str, pattern: &str) -> Result<Nanos, TimeError> {
        let unfit = || TimeError::Pattern { text: text.to_owned(), pattern: pattern.to_owned() };
        let parts = match strtime::parse(pattern, text) {
            // A comma may come before the fraction of a second, as a point may.
            Err(_) if pattern.contains("%.f") && !pattern.contains(',') => strtime::parse(pattern, text.replacen(',', ".", 1)),
            parsed => parsed,
        };
        let parts = parts.map_err(|_| unfit())?;
        if parts.offset().is_some() || pattern.contains("%s") {
            return parts.to_timestamp().map_err(|_| unfit()).and_then(|stamp| instant::nanos(stamp, text));
        }
        let local = parts.to_datetime().or_else(|_| parts.to_date().map(|date| date.to_datetime(civil::Time::midnight())));
        let local = local.map_err(|_| unfit())?;
        match &self.zone {
            Some(zone) => self.local(text, local, zone).and_then(|at| instant::checked_leap(at, text)),
            None => Err(TimeError::NoZone { text: text.to_owned() }),
        }
    }

    /// A serial date: whole days and a fraction, to the millisecond, by the clock of the zone.
    fn serial(&self, text: &str) -> Result<Nanos, TimeError> {
        let bad = || TimeError::NotSerial { text: text.to_owned() };
        let number: f64 = text.replacen(',', ".", 1).parse().map_err(|_| bad())?;
        // Before March 1900 spreadsheets do not agree; after 9999 they end.
        if !(61.0..2_958_466.0).contains(&number) {
            return Err(bad());
        }
        let zone = self.zone.as_ref().ok_or_else(|| TimeError::NoZone { text: text.to_owned() })?;
        let millis = (number * 86_400_000.0).round() as i64;
        let local = civil::date(1899, 12, 30).to_datetime(civil::Time::midnight()).checked_add(jiff::SignedDuration::from_millis(millis));
        self.local(text, local.map_err(|_| bad())?, zone)
    }

    fn local(&self, text: &str, local: civil::DateTime, zone: &TimeZone) -> Result<Nanos, TimeError> {
        let reading = zone.to_ambiguous_timestamp(local);
        let chosen = match self.clock_change {
            ClockChange::Earlier => reading.earlier(),
            ClockChange::Later => reading.later(),
            ClockChange::Reject if reading.is_ambiguous() => return Err(instant::clock_change(text, reading, zone)),
            ClockChange::Reject => reading.compatible(),
        };
        chosen.map_err(|_| TimeError::OutOfRange { text: text.to_owned() }).and_then(|stamp| instant::nanos(stamp, text))
    }
}

/// An epoch number in decimal digits, exactly: `1777626000`, `-1.5`.
fn epoch(text: &str, unit: EpochUnit) -> Result<Nanos, TimeError> {
    let bad = || TimeError::NotEpoch { text: text.to_owned(), unit: unit.as_str() };
    let (sign, digits) = match text.strip_prefix('-') {
        Some(digits) => (-1, digits),
        None => (1, text.strip_prefix('+').unwrap_or(text)),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let places = unit.digits() as usize;
    if whole.is_empty() || whole.len() > 25 || !whole.bytes().chain(fraction.bytes()).all(|byte| byte.is_ascii_digit()) {
        return Err(bad());
    }
    // Digits below a nanosecond are more than an instant holds.
    let fraction = &fraction[..fraction.len().min(places)];
    let padded = format!("{whole}{fraction:0<places$}");
    let nanos: i128 = padded.parse().map_err(|_| bad())?;
    Nanos::try_from(sign * nanos).map_err(|_| TimeError::OutOfRange { text: text.to_owned() })
}

/// An instant from a number of some unit since the epoch, by its shortest decimal form: what was meant by 0.1 is not what a double holds.
///
/// # Errors
/// [`TimeError`] for what is not finite or lies out of range.
pub fn from_epoch(number: f64, unit: EpochUnit) -> Result<Nanos, TimeError> {
    // Whole numbers up to 2^53 need no detour.
    if number.fract() == 0.0 && number.abs() < 9e15 {
        let scale = 10i128.pow(unit.digits());
        return Nanos::try_from(number as i128 * scale).map_err(|_| TimeError::OutOfRange { text: number.to_string() });
    }
    if number.abs() >= 1e20 {
        return Err(TimeError::OutOfRange { text: format!("{number:e}") });
    }
    epoch(&number.to_string(), unit)
}

/// Seconds in a span of nanoseconds.
pub fn seconds(nanos: Nanos) -> f64 {
    nanos as f64 / SECOND as f64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::{format_utc, zone};

    fn rule(format: &str, zone_name: Option<&str>) -> TimeRule {
        let zone = zone_name.map(|name| zone(name).unwrap());
        TimeRule { format: TimeFormat::parse(format).unwrap(), zone, clock_change: ClockChange::Reject }
    }

    fn read(rule: &TimeRule, text: &str) -> String {
        rule.read(text).map_or_else(|error| error.to_string(), |(at, _)| format_utc(at))
    }

    #[test]
    fn every_notation_of_an_instant_parses() {
        let lisbon = Some("Europe/Lisbon");
        let same = [
            (rule("guess", None), "2026-05-01T09:00:00.5Z"),
            (rule("guess", None), "1777626000.5"),
            (rule("guess", None), "1777626000500"),
            (rule("guess", None), "1777626000500000"),
            (rule("guess", None), "1777626000500000000"),
            (rule("s", None), "1777626000.5"),
            (rule("ms", None), "1777626000500"),
            (rule("us", None), "1777626000500000.0"),
            (rule("ns", None), "1777626000500000000.123456"),
            (rule("iso", lisbon), "2026-05-01 10:00:00.5"),
            (rule("iso", lisbon), "2026-05-01T09:00:00.5Z"),
            (rule("%d.%m.%Y %H:%M:%S%.f", lisbon), "01.05.2026 10:00:00.5"),
            (rule("%Y%m%d %H%M%S%.f %z", None), "20260501 110000.5 +0200"),
            (rule("%d.%m.%Y %H:%M:%S%.f", lisbon), "01.05.2026 10:00:00,5"),
            (rule("%m/%d/%Y %I:%M:%S%.f %p", lisbon), "5/1/2026 10:00:00.5 AM"),
            (rule("guess", None), "2026-05-01T09:00:00,5Z"),
            (rule("serial", lisbon), "46143.4166724537"),
            (rule("serial", lisbon), "46143,4166724537"),
        ];
        for (rule, text) in same {
            assert_eq!(read(&rule, text), "2026-05-01T09:00:00.5Z", "{rule:?} {text}");
        }
        assert_eq!(read(&rule("%d/%m/%Y", lisbon), "01/05/2026"), "2026-04-30T23:00:00Z");
        assert_eq!(read(&rule("s", None), "-1.25"), "1969-12-31T23:59:58.75Z");
        assert_eq!(rule("guess", None).read("1777626000500").unwrap().1, Some(EpochUnit::Milliseconds));
    }

    #[test]
    fn invalid_times_are_explained() {
        insta::assert_snapshot!(
            [
                read(&rule("iso", None), "2026-05-01T10:00:00"),
                read(&rule("iso", None), "yesterday"),
                read(&rule("s", None), "1e9"),
                read(&rule("s", None), "99999999999999"),
                read(&rule("guess", None), "NaN"),
                read(&rule("%d.%m.%Y %H:%M", Some("UTC")), "05/01/2026 10:00"),
                read(&rule("%d.%m.%Y %H:%M", None), "01.05.2026 10:00"),
                read(&rule("iso", Some("Europe/Lisbon")), "2026-03-29T01:30:00"),
                read(&rule("iso", Some("Europe/Lisbon")), "2026-10-25T01:30:00"),
                read(&rule("serial", Some("UTC")), "1777626000"),
                read(&rule("serial", None), "46143.5"),
                read(&rule("guess", None), "2026-05-01T23:59:60Z"),
                read(&rule("%d.%m.%Y %H:%M:%S", Some("UTC")), "30.06.2016 23:59:60"),
                TimeFormat::parse("minutes").unwrap_err(),
            ]
            .join("\n")
        );
    }

    #[test]
    fn only_real_leap_seconds_are_accepted() {
        for text in ["2016-12-31T23:59:60Z", "1972-06-30T23:59:60.5Z", "2017-01-01T00:59:60+01:00", "2015-06-30 23:59:60Z"] {
            assert!(rule("guess", None).read(text).is_ok(), "{text}");
        }
        assert_eq!(read(&rule("iso", Some("Europe/Lisbon")), "2016-12-31 23:59:60"), "2016-12-31T23:59:59Z");
        for text in ["2016-12-31T22:59:60Z", "2017-12-31T23:59:60Z", "2016-12-30T23:59:60Z"] {
            assert!(read(&rule("guess", None), text).contains("no leap second"), "{text}");
        }
        let days = |text: &str| parse_rfc3339(text).unwrap() / (86_400 * SECOND);
        assert_eq!([days("1972-06-30T00:00:00Z"), days("1999-01-01T00:00:00Z") - 1, days("2016-12-31T00:00:00Z")], [911, 10_591, 17_166]);
    }

    #[test]
    fn ambiguous_local_times_resolve_as_configured() {
        let with = |clock_change| TimeRule { clock_change, ..rule("iso", Some("Europe/Lisbon")) };
        assert_eq!(read(&with(ClockChange::Earlier), "2026-10-25 01:30"), "2026-10-25T00:30:00Z");
        assert_eq!(read(&with(ClockChange::Later), "2026-10-25 01:30"), "2026-10-25T01:30:00Z");
        assert_eq!(read(&with(ClockChange::Earlier), "2026-03-29 01:30"), "2026-03-29T00:30:00Z");
        assert_eq!(read(&with(ClockChange::Later), "2026-03-29 01:30"), "2026-03-29T01:30:00Z");
    }

    #[test]
    fn epoch_numbers_mean_their_decimal_form() {
        assert_eq!(format_utc(from_epoch(1_777_626_000.123, EpochUnit::Seconds).unwrap()), "2026-05-01T09:00:00.123Z");
        assert_eq!(format_utc(from_epoch(-0.5, EpochUnit::Seconds).unwrap()), "1969-12-31T23:59:59.5Z");
        assert_eq!(format_utc(from_epoch(1_777_626_000_000.0, EpochUnit::Milliseconds).unwrap()), "2026-05-01T09:00:00Z");
        assert!(from_epoch(f64::NAN, EpochUnit::Seconds).is_err());
        assert!(from_epoch(1e300, EpochUnit::Seconds).is_err());
    }
}
