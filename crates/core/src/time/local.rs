//! A time of the day, whichever day.

use std::fmt;

use jiff::{civil, tz::TimeZone};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

use super::Nanos;

/// Hours and minutes of a day in some zone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LocalTime {
    minutes: u16,
}

impl LocalTime {
    /// Reads `06:00`.
    pub fn parse(text: &str) -> Option<Self> {
        let (hours, minutes) = text.split_once(':')?;
        let number = |part: &str| if part.len() == 2 && part.bytes().all(|b| b.is_ascii_digit()) { part.parse::<u16>().ok() } else { None };
        let (hours, minutes) = (number(hours)?, number(minutes)?);
        (hours < 24 && minutes < 60).then_some(Self { minutes: hours * 60 + minutes })
    }

    /// Minutes since midnight, by the clock on the wall.
    pub fn minutes(self) -> u16 {
        self.minutes
    }
}

/// The instant at which the clocks of a zone show so many minutes after a day's midnight. Where they leave that out, as long after the change
/// as it would have been; where they show it twice, the first.
pub(super) fn wall_instant(date: civil::Date, minutes: u16, zone: &TimeZone) -> Option<Nanos> {
    let time = civil::Time::new((minutes / 60) as i8, (minutes % 60) as i8, 0, 0).ok()?;
    let stamp = zone.to_ambiguous_timestamp(date.to_datetime(time)).compatible().ok()?;
    Nanos::try_from(stamp.as_nanosecond()).ok()
}

impl fmt::Display for LocalTime {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}", self.minutes / 60, self.minutes % 60)
    }
}

impl Serialize for LocalTime {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for LocalTime {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::parse(&text).ok_or_else(|| D::Error::custom(format!("`{text}` is not a time of the day, such as 06:00")))
    }
}
