//! Instants as text, by RFC 3339 and in a zone of the IANA database.

use jiff::{Timestamp, ZonedDateTime, civil, tz::TimeZone};

use super::{Nanos, Period};

/// Why a text is no instant.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TimeError {
    /// Not a date and time at all.
    #[error("`{text}` is not a time: write RFC 3339, such as 2026-05-01T09:00:00Z")]
    NotATime {
        /// What was found.
        text: String,
    },
    /// A local time without an offset, where an offset is needed.
    #[error("`{text}` has no offset from UTC: end it with Z, or with an offset such as +01:00")]
    NoOffset {
        /// What was found.
        text: String,
    },
    /// Outside what 64 bits of nanoseconds hold.
    #[error("`{text}` is outside the years 1677 to 2262")]
    OutOfRange {
        /// What was found.
        text: String,
    },
    /// A local time that a clock change leaves out or brings twice.
    #[error("`{text}` {problem} in {zone}: write {earlier} or {later}")]
    ClockChange {
        /// What was found.
        text: String,
        /// `does not exist` or `exists twice`.
        problem: &'static str,
        /// The zone.
        zone: String,
        /// The earlier reading.
        earlier: String,
        /// The later reading.
        later: String,
    },
    /// A local time, and no zone that it could be of.
    #[error("`{text}` has no offset from UTC: end it with Z or an offset such as +01:00, or set the time zone")]
    NoZone {
        /// What was found.
        text: String,
    },
    /// A second of 60 where the clocks had none.
    #[error("`{text}` is not a time: there was no leap second then")]
    NoLeapSecond {
        /// What was found.
        text: String,
    },
    /// Not a serial date.
    #[error("`{text}` is not a serial date of a spreadsheet, such as 46143.375")]
    NotSerial {
        /// What was found.
        text: String,
    },
    /// Not as the pattern has it.
    #[error("`{text}` is not a time of the form \"{pattern}\"")]
    Pattern {
        /// What was found.
        text: String,
        /// What was wanted.
        pattern: String,
    },
    /// No number of that unit.
    #[error("`{text}` is not a number of {unit} since 1970-01-01T00:00:00Z")]
    NotEpoch {
        /// What was found.
        text: String,
        /// `s`, `ms`, `us` or `ns`.
        unit: &'static str,
    },
    /// A zone that the IANA database does not know.
    #[error("unknown time zone `{name}`: use an IANA name, such as Europe/Lisbon or UTC")]
    UnknownZone {
        /// What was asked for.
        name: String,
    },
}

/// The zone of that IANA name.
///
/// # Errors
/// [`TimeError::UnknownZone`].
pub fn zone(name: &str) -> Result<TimeZone, TimeError> {
    TimeZone::get(name).map_err(|_| TimeError::UnknownZone { name: name.to_owned() })
}

/// Reads an RFC 3339 time, which has an offset from UTC.
///
/// # Errors
/// [`TimeError`] if the text is not an instant, lacks the offset or is out of range.
pub fn parse_rfc3339(text: &str) -> Result<Nanos, TimeError> {
    if let Some(time) = parse_plain(text.as_bytes()) {
        return Ok(time);
    }
    match text.parse::<Timestamp>() {
        Ok(stamp) => nanos(stamp, text).and_then(|at| checked_leap(at, text)),
        Err(_) if text.parse::<civil::DateTime>().is_ok() => Err(TimeError::NoOffset { text: text.to_owned() }),
        Err(_) => Err(TimeError::NotATime { text: text.to_owned() }),
    }
}

/// Reads `2026-05-01T09:00:00Z`, with or without a fraction, in the years 1678 to 2261; `None` for every other form, right or wrong. This is
/// the form in which nearly all points arrive, and it is read at a tenth of the cost.
fn parse_plain(text: &[u8]) -> Option<Nanos> {
    let (seconds, fraction) = text.split_at_checked(19)?;
    let number = |places: std::ops::Range<usize>| {
        seconds[places].iter().try_fold(0i64, |number, byte| byte.is_ascii_digit().then(|| number * 10 + i64::from(byte - b'0')))
    };
    let marks = [(4, b'-'), (7, b'-'), (10, b'T'), (13, b':'), (16, b':')];
    if marks.iter().any(|(place, mark)| seconds[*place] != *mark) {
        return None;
    }
    let (year, month, day) = (number(0..4)?, number(5..7)?, number(8..10)?);
    let (hour, minute, second) = (number(11..13)?, number(14..16)?, number(17..19)?);
    let is_leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let month_days = [31, if is_leap { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let last_day = *month_days.get(usize::try_from(month - 1).ok()?)?;
    if !(1678..=2261).contains(&year) || !(1..=last_day).contains(&day) || hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    let nanos = match fraction {
        b"Z" => 0,
        [b'.', digits @ .., b'Z'] if (1..=9).contains(&digits.len()) => {
            let number = digits.iter().try_fold(0i64, |number, byte| byte.is_ascii_digit().then(|| number * 10 + i64::from(byte - b'0')))?;
            number * 10i64.pow(9 - digits.len() as u32)
        }
        _ => return None,
    };
    // Days since the epoch, with years that begin in March, so that the leap day is the last of them.
    let (march_year, march_month) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let days = march_year * 365 + march_year / 4 - march_year / 100 + march_year / 400 + (march_month * 153 + 2) / 5 + day - 719_469;
    Some((((days * 24 + hour) * 60 + minute) * 60 + second) * super::SECOND + nanos)
}

/// Reads an instant as the query language writes it: RFC 3339, or a local date, date and time or period ([`Period`]), which is its first instant, in `zone`.
///
/// # Errors
/// [`TimeError`]; a local time that a clock change leaves out or repeats is an error that says both readings.
pub fn parse_instant(text: &str, zone: &TimeZone) -> Result<Nanos, TimeError> {
    if let Ok(stamp) = text.parse::<Timestamp>() {
        return nanos(stamp, text).and_then(|at| checked_leap(at, text));
    }
    let bad = || TimeError::NotATime { text: text.to_owned() };
    if !text.contains('T') {
        return Period::parse(text).ok_or_else(bad)?.start(zone);
    }
    let local: civil::DateTime = text.parse().map_err(|_| bad())?;
    let ambiguous = zone.to_ambiguous_timestamp(local);
    if !ambiguous.is_ambiguous() {
        return nanos(ambiguous.compatible().map_err(|_| bad())?, text).and_then(|at| checked_leap(at, text));
    }
    Err(clock_change(text, ambiguous, zone))
}

/// A local time that a clock change leaves out or brings twice, with both readings.
pub(super) fn clock_change(text: &str, reading: jiff::tz::AmbiguousTimestamp, zone: &TimeZone) -> TimeError {
    let problem = match reading.offset() {
        jiff::tz::AmbiguousOffset::Gap { .. } => "does not exist",
        _ => "exists twice",
    };
    let resolved = |stamp: Result<Timestamp, jiff::Error>| match stamp.map(|stamp| nanos(stamp, text)) {
        Ok(Ok(at)) => format_in_zone(at, zone),
        _ => "?".to_owned(),
    };
    TimeError::ClockChange {
        text: text.to_owned(),
        problem,
        zone: zone.iana_name().unwrap_or("this zone").to_owned(),
        earlier: resolved(reading.earlier()),
        later: resolved(reading.later()),
    }
}

/// Days that ended with a leap second, as days since 1970-01-01 (Bulletin C of the IERS; none is planned after these).
const LEAP_DAYS: [i64; 27] = [
    911, 1_095, 1_460, 1_825, 2_190, 2_556, 2_921, 3_286, 3_651, 4_198, 4_563, 4_928, 5_659, 6_573, 7_304, 7_669, 8_216, 8_581, 8_946, 9_495, 10_042,
    10_591, 13_148, 14_244, 15_521, 16_616, 17_166,
];

/// An instant whose text has a second of 60 is the second before, if the clocks had it.
pub(super) fn checked_leap(at: Nanos, text: &str) -> Result<Nanos, TimeError> {
    if !text.contains(":60") {
        return Ok(at);
    }
    let (day, second) = (at.div_euclid(86_400 * super::SECOND), at.rem_euclid(86_400 * super::SECOND) / super::SECOND);
    if second == 86_399 && LEAP_DAYS.contains(&day) { Ok(at) } else { Err(TimeError::NoLeapSecond { text: text.to_owned() }) }
}

pub(super) fn nanos(stamp: Timestamp, text: &str) -> Result<Nanos, TimeError> {
    Nanos::try_from(stamp.as_nanosecond()).map_err(|_| TimeError::OutOfRange { text: text.to_owned() })
}

/// The instant of a time by a calendar; none where it is beyond what 64 bits of nanoseconds tell.
pub(super) fn instant_of(time: &ZonedDateTime) -> Option<Nanos> {
    Nanos::try_from(time.timestamp().as_nanosecond()).ok()
}

/// The instant in a zone, for calendars and words.
pub fn zoned(at: Nanos, zone: &TimeZone) -> ZonedDateTime {
    // Every i64 of nanoseconds lies within the range of a timestamp, which reaches from year -9999 to 9999.
    Timestamp::from_nanosecond(i128::from(at)).unwrap_or(Timestamp::UNIX_EPOCH).to_zoned_datetime(zone.clone())
}

/// RFC 3339 in UTC, with as many digits of a second as the instant has: `2026-05-01T09:00:00Z`.
pub fn format_utc(at: Nanos) -> String {
    zoned(at, &TimeZone::UTC).timestamp().to_string()
}

/// The day in UTC: `2026-05-01`.
pub fn format_day(at: Nanos) -> String {
    zoned(at, &TimeZone::UTC).strftime("%F").to_string()
}

/// RFC 3339 with the zone's offset at that instant: `2026-05-01T10:00:00+01:00`.
pub fn format_in_zone(at: Nanos, zone: &TimeZone) -> String {
    let local = zoned(at, zone);
    if zone.iana_name() == Some("UTC") {
        return format_utc(at);
    }
    local.timestamp().display_with_offset(local.offset()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn the_plain_form_is_read_as_any_other(nanos in proptest::prelude::any::<i64>(), digits in 0u32..10, spoil in 0usize..30, byte in proptest::prelude::any::<u8>()) {
            let unit = 10i64.pow(9 - digits);
            let text = format_utc(nanos / unit * unit);
            let library = |text: &str| text.parse::<Timestamp>().ok().and_then(|stamp| Nanos::try_from(stamp.as_nanosecond()).ok());
            proptest::prop_assert_eq!(parse_rfc3339(&text).ok(), library(&text));
            // Whatever is read at all is read as the library reads it.
            let mut spoilt = text.into_bytes();
            let place = spoil % spoilt.len();
            spoilt[place] = byte;
            if let Ok(text) = std::str::from_utf8(&spoilt) {
                proptest::prop_assert!(parse_plain(&spoilt).is_none_or(|time| library(text) == Some(time)), "{}", text);
            }
        }
    }

    #[test]
    fn rfc3339_goes_both_ways() {
        for text in ["2026-05-01T09:00:00Z", "1969-12-31T23:59:59.999999999Z", "2262-04-11T23:47:16Z"] {
            assert_eq!(format_utc(parse_rfc3339(text).unwrap()), text);
        }
        assert_eq!(parse_rfc3339("2026-05-01T10:00:00+01:00"), parse_rfc3339("2026-05-01T09:00:00Z"));
    }

    #[test]
    fn an_invalid_time_is_explained() {
        assert!(matches!(parse_rfc3339("2026-05-01T09:00:00"), Err(TimeError::NoOffset { .. })));
        assert!(matches!(parse_rfc3339("2300-05-01T09:00:00Z"), Err(TimeError::OutOfRange { .. })));
        assert!(matches!(parse_rfc3339("yesterday"), Err(TimeError::NotATime { .. })));
        assert!(matches!(parse_rfc3339(""), Err(TimeError::NotATime { .. })));
    }

    #[test]
    fn local_times_are_read_in_the_zone() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        assert_eq!(format_utc(parse_instant("2026-05-01T09:00", &lisbon).unwrap()), "2026-05-01T08:00:00Z");
        assert_eq!(format_utc(parse_instant("2026-05-01", &lisbon).unwrap()), "2026-04-30T23:00:00Z");
        assert_eq!(format_utc(parse_instant("2026-05", &lisbon).unwrap()), "2026-04-30T23:00:00Z");
        assert_eq!(format_in_zone(parse_instant("2026-05-01T09:00", &lisbon).unwrap(), &lisbon), "2026-05-01T09:00:00+01:00");
    }

    #[test]
    fn a_local_time_at_a_clock_change_names_both_readings() {
        let lisbon = zone("Europe/Lisbon").unwrap();
        let gap = parse_instant("2026-03-29T01:30", &lisbon).unwrap_err().to_string();
        assert!(gap.contains("does not exist") && gap.contains("Europe/Lisbon"), "{gap}");
        let fold = parse_instant("2026-10-25T01:30", &lisbon).unwrap_err().to_string();
        assert!(fold.contains("2026-10-25T01:30:00+01:00") && fold.contains("2026-10-25T01:30:00+00:00"), "{fold}");
    }

    #[test]
    fn an_unknown_zone_is_named() {
        assert!(zone("Atlantis/Lost").unwrap_err().to_string().contains("Atlantis/Lost"));
    }
}
