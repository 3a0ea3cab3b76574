//! Limits by age and by size. One can be set for the store, a dataset or a metric; in the configuration file, or live. What is set live
//! for a scope overrides the file; for each limit, the narrowest scope that sets it applies.

use std::{collections::BTreeMap, fmt, str::FromStr};

use jiff::tz::TimeZone;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

use crate::{
    model::{DatasetId, MetricId},
    time::{Nanos, Span},
};

/// Bytes, as people write them: `20GB`, `1.5 TB`, `512MiB`. Units of ten unless there is an `i`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ByteSize(pub u64);

/// Why a text is no size.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a size: write a number and a unit, such as 500MB, 20GB, 1.5TB or 8GiB")]
pub struct SizeError(String);

const UNITS: [(&str, u64); 10] = [
    ("KiB", 1 << 10),
    ("MiB", 1 << 20),
    ("GiB", 1 << 30),
    ("TiB", 1 << 40),
    ("kB", 1_000),
    ("KB", 1_000),
    ("MB", 1_000_000),
    ("GB", 1_000_000_000),
    ("TB", 1_000_000_000_000),
    ("B", 1),
];

impl ByteSize {
    /// For people: `3.4 MB`, in powers of ten, three digits.
    pub fn words(self) -> String {
        let units = ["B", "kB", "MB", "GB", "TB"];
        let mut amount = self.0 as f64;
        let mut unit = 0;
        while amount >= 1_000.0 && unit + 1 < units.len() {
            amount /= 1_000.0;
            unit += 1;
        }
        match unit {
            0 => format!("{} B", self.0),
            _ if amount < 10.0 => format!("{amount:.2} {}", units[unit]),
            _ if amount < 100.0 => format!("{amount:.1} {}", units[unit]),
            _ => format!("{amount:.0} {}", units[unit]),
        }
    }
}

impl FromStr for ByteSize {
    type Err = SizeError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fault = || SizeError(text.to_owned());
        let (number, unit) = UNITS.iter().find_map(|(name, unit)| Some((text.strip_suffix(name)?, *unit))).ok_or_else(fault)?;
        let number: f64 = number.trim().parse().map_err(|_| fault())?;
        let bytes = number * unit as f64;
        if (1.0..1e18).contains(&bytes) { Ok(Self(bytes.round() as u64)) } else { Err(fault()) }
    }
}

impl fmt::Display for ByteSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let units = [("TB", 1_000_000_000_000), ("GB", 1_000_000_000), ("MB", 1_000_000), ("kB", 1_000)];
        // A size parses back unchanged: a larger unit is used only if two decimals are enough.
        let fits = |unit: &&(&str, u64)| self.0 >= unit.1 && self.0.is_multiple_of(unit.1 / 100);
        let whole = |unit: &&(&str, u64)| unit.0.contains('i') && self.0.is_multiple_of(unit.1);
        match (units.iter().find(fits), UNITS.iter().rev().find(whole)) {
            (Some((name, unit)), _) | (None, Some((name, unit))) => write!(f, "{}{name}", self.0 as f64 / *unit as f64),
            (None, None) => write!(f, "{}B", self.0),
        }
    }
}

impl Serialize for ByteSize {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for ByteSize {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

/// Free space of the volume that is never taken.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Reserve {
    /// A share of the volume.
    Share(f64),
    /// So many bytes.
    Bytes(ByteSize),
}

impl Reserve {
    /// A share of a large disk is more than any store needs to breathe.
    const MAX_BY_DEFAULT: u64 = 2_000_000_000;

    /// The reserve if none is configured, in bytes: a twentieth of the volume, at most 2 GB.
    pub fn default_bytes(total: u64) -> u64 {
        (total / 20).min(Self::MAX_BY_DEFAULT)
    }

    /// In bytes, on a volume of so many.
    pub fn bytes(self, total: u64) -> u64 {
        match self {
            Self::Share(share) => (total as f64 * share) as u64,
            Self::Bytes(bytes) => bytes.0,
        }
    }
}

impl FromStr for Reserve {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let Some(percent) = text.strip_suffix('%') else {
            return text
                .parse()
                .map(Self::Bytes)
                .map_err(|_| format!("invalid reserve `{text}`: use a share of the volume or a size, such as 10% or 5GB"));
        };
        let percent: f64 = percent.trim().parse().map_err(|_| format!("invalid share `{text}`: use a percentage, such as 10%"))?;
        if (0.0..=90.0).contains(&percent) {
            Ok(Self::Share(percent / 100.0))
        } else {
            Err(format!("`{text}`: a reserve is 0% to 90% of the volume"))
        }
    }
}

impl fmt::Display for Reserve {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Share(share) => write!(f, "{}%", (share * 1e4).round() / 100.0),
            Self::Bytes(bytes) => bytes.fmt(f),
        }
    }
}

/// Limits set at one place. An omitted limit is not the same as `null`, which means no limit and overrides the configuration file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(default, deny_unknown_fields)]
pub struct LimitSettings {
    /// Maximum age of points; `null` for no limit.
    #[cfg_attr(feature = "schema", schema(value_type = Option<Span>))]
    #[serde(deserialize_with = "explicit", skip_serializing_if = "Option::is_none")]
    pub keep_for: Option<Option<Span>>,
    /// Maximum size; `null` for no limit.
    #[cfg_attr(feature = "schema", schema(value_type = Option<ByteSize>))]
    #[serde(deserialize_with = "explicit", skip_serializing_if = "Option::is_none")]
    pub keep_under: Option<Option<ByteSize>>,
}

/// A key that is present was set, also to `null`.
fn explicit<'de, T: Deserialize<'de>, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Option<T>>, D::Error> {
    Option::<T>::deserialize(deserializer).map(Some)
}

impl LimitSettings {
    /// Whether nothing is set.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    /// This, and of what it does not say, what the other says.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self { keep_for: self.keep_for.or(other.keep_for), keep_under: self.keep_under.or(other.keep_under) }
    }
}

/// Where limits are set.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// The whole store.
    Store,
    /// A dataset.
    Dataset(DatasetId),
    /// A metric.
    Metric(DatasetId, MetricId),
}

impl Scope {
    /// The places whose limits hold here, the widest first.
    pub fn chain(self) -> Vec<Self> {
        match self {
            Self::Store => vec![self],
            Self::Dataset(_) => vec![Self::Store, self],
            Self::Metric(dataset, _) => vec![Self::Store, Self::Dataset(dataset), self],
        }
    }
}

/// Where it was set.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Source {
    /// The configuration file.
    File,
    /// A call, while the service ran.
    Live,
}

/// A limit in force.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InForce<T> {
    /// The limit.
    pub limit: T,
    /// The scope it is set for.
    pub place: Scope,
    /// By whom.
    pub source: Source,
}

/// The limits in force at a place.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// By age.
    pub keep_for: Option<InForce<Span>>,
    /// By size. Of a wider place it counts everything there, not this place alone.
    pub keep_under: Option<InForce<ByteSize>>,
}

/// All settings, of the file and live.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Policies {
    /// By the configuration file.
    pub file: BTreeMap<Scope, LimitSettings>,
    /// Live.
    pub live: BTreeMap<Scope, LimitSettings>,
}

impl Policies {
    /// The limits set at one place itself, and their source.
    pub fn at(&self, place: Scope) -> Limits {
        let (file, live) = (self.file.get(&place).copied().unwrap_or_default(), self.live.get(&place).copied().unwrap_or_default());
        fn first<T: Copy>(place: Scope, live: Option<Option<T>>, file: Option<Option<T>>) -> Option<InForce<T>> {
            match (live, file) {
                (Some(live), _) => live.map(|limit| InForce { limit, place, source: Source::Live }),
                (None, file) => file.flatten().map(|limit| InForce { limit, place, source: Source::File }),
            }
        }
        Limits { keep_for: first(place, live.keep_for, file.keep_for), keep_under: first(place, live.keep_under, file.keep_under) }
    }

    /// What is in force at a place: of all that holds there, the narrowest, for each limit by itself. Of equal ones the wider place's.
    pub fn in_force(&self, place: Scope, now: Nanos, zone: &TimeZone) -> Limits {
        let all: Vec<Limits> = place.chain().into_iter().map(|place| self.at(place)).collect();
        let horizon = |found: &InForce<Span>| std::cmp::Reverse(found.limit.before(now, zone));
        Limits {
            keep_for: all.iter().filter_map(|limits| limits.keep_for).min_by_key(horizon),
            keep_under: all.iter().filter_map(|limits| limits.keep_under).min_by_key(|found| found.limit),
        }
    }

    /// Scopes whose live settings differ from those of the file.
    pub fn differing(&self) -> Vec<Scope> {
        let differs = |(place, live): &(&Scope, &LimitSettings)| {
            let file = self.file.get(place).copied().unwrap_or_default();
            live.keep_for.is_some_and(|live| live != file.keep_for.flatten()) || live.keep_under.is_some_and(|live| live != file.keep_under.flatten())
        };
        self.live.iter().filter(differs).map(|(place, _)| *place).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn days(days: u32) -> Span {
        Span { days, ..Span::default() }
    }

    #[test]
    fn sizes_round_trip() {
        for (text, bytes, shown) in [
            ("20GB", 20_000_000_000, "20GB"),
            ("1.5 TB", 1_500_000_000_000, "1.5TB"),
            ("8GiB", 8 << 30, "8GiB"),
            ("512 MiB", 512 << 20, "512MiB"),
            ("1kB", 1_000, "1kB"),
            ("999B", 999, "999B"),
            ("1250MB", 1_250_000_000, "1.25GB"),
        ] {
            let size: ByteSize = text.parse().unwrap();
            assert_eq!((size.0, size.to_string().as_str()), (bytes, shown), "{text}");
            assert_eq!(size.to_string().parse(), Ok(size));
        }
        for text in ["", "GB", "20", "20 gigabytes", "-1GB", "0B", "1e30TB", "NaNGB"] {
            assert!(text.parse::<ByteSize>().is_err(), "{text}");
        }
    }

    #[test]
    fn a_reserve_is_a_share_or_a_size() {
        assert_eq!("10%".parse::<Reserve>().unwrap().bytes(1_000), 100);
        assert_eq!("5GB".parse::<Reserve>().unwrap().bytes(1), 5_000_000_000);
        assert_eq!("12.5%".parse::<Reserve>().unwrap().to_string(), "12.5%");
        assert_eq!([Reserve::default_bytes(20_000_000_000), Reserve::default_bytes(1 << 50)], [1_000_000_000, 2_000_000_000]);
        assert!(["95%", "ten", "%", "-1%"].iter().all(|text| text.parse::<Reserve>().is_err()));
    }

    #[test]
    fn the_narrowest_scope_wins_and_live_overrides_the_file() {
        let (dataset, metric) = (Scope::Dataset(DatasetId(1)), Scope::Metric(DatasetId(1), MetricId(7)));
        let settings = |keep_for: Option<Option<Span>>| LimitSettings { keep_for, keep_under: None };
        let mut policies = Policies::default();
        policies.file.insert(Scope::Store, LimitSettings { keep_for: Some(Some(days(400))), keep_under: Some(Some(ByteSize(500))) });
        policies.file.insert(dataset, settings(Some(Some(days(90)))));
        policies.live.insert(metric, settings(Some(Some(days(14)))));
        let at = |policies: &Policies, place| policies.in_force(place, 1_790_000_000_000_000_000, &TimeZone::UTC);
        let found = at(&policies, metric);
        assert_eq!(found.keep_for, Some(InForce { limit: days(14), place: metric, source: Source::Live }));
        assert_eq!(found.keep_under, Some(InForce { limit: ByteSize(500), place: Scope::Store, source: Source::File }));
        assert_eq!(at(&policies, dataset).keep_for.unwrap().limit, days(90));
        // A wider limit at a narrower place is none.
        policies.live.insert(metric, settings(Some(Some(days(1_000)))));
        assert_eq!(at(&policies, metric).keep_for.unwrap().place, dataset);
        // A runtime setting of `none`: the file's limit of this place no longer applies, that of the store does.
        policies.live.insert(dataset, settings(Some(None)));
        assert_eq!(at(&policies, dataset).keep_for.unwrap().place, Scope::Store);
        assert_eq!(policies.differing(), [dataset, metric]);
        policies.live.insert(dataset, settings(Some(Some(days(90)))));
        assert_eq!(policies.differing(), [metric], "the same as the file says");
    }

    #[test]
    fn an_explicit_none_differs_from_unset() {
        let none: LimitSettings = serde_json::from_str(r#"{"keep_for":null}"#).unwrap();
        assert_eq!((none.keep_for, none.keep_under), (Some(None), None));
        assert_eq!(serde_json::to_string(&none).unwrap(), r#"{"keep_for":null}"#);
        let both: LimitSettings = serde_json::from_str(r#"{"keep_for":"30d","keep_under":"20GB"}"#).unwrap();
        assert_eq!(both.or(none), both);
        assert_eq!(none.or(both), LimitSettings { keep_for: Some(None), ..both });
        assert!(LimitSettings::default().is_nothing() && !none.is_nothing());
    }
}
