//! Sources, which fetch points automatically.

use std::collections::BTreeMap;

use fenetre_core::model::Cause;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::arrivals::TailPoint;

/// A source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceInfo {
    /// Its name.
    pub name: String,
    /// Its kind: `poll`, `mqtt`, `modbus`, `opcua`, `sql` or `folder`.
    pub kind: String,
    /// Dataset of its points.
    pub dataset: String,
    /// State of it.
    pub state: SourceState,
    /// Why it fails.
    #[schema(required)]
    pub error: Option<String>,
    /// Start of the failures.
    #[schema(required)]
    pub failing_since: Option<String>,
    /// Time of the next round or attempt.
    #[schema(required)]
    pub next: Option<String>,
    /// Rounds since it was started.
    pub rounds: u64,
    /// Duration of the latest round in seconds.
    pub round_seconds: f64,
    /// Stored points since it was started.
    pub points: u64,
    /// Stored points per second over the last minute.
    pub points_per_second: f64,
    /// Rejected points and rows since it was started.
    pub rejected: u64,
    /// Rejects by reason.
    pub rejects: Vec<SourceReject>,
    /// Bytes that were read since it was started.
    pub bytes: u64,
    /// Time of the latest points.
    #[schema(required)]
    pub last_points: Option<String>,
    /// Its series, and those in trouble.
    pub series: SourceSeries,
    /// Whether its points are overdue: none for `stale_after`.
    pub is_late: bool,
    /// What it sent in the latest round, such as a SQL statement.
    #[schema(required)]
    pub sent: Option<String>,
    /// Targets, devices or files of the latest round.
    pub parts: Vec<SourcePart>,
    /// Its definition.
    pub definition: serde_json::Value,
}

/// Series of a source.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SourceSeries {
    /// Number of watched series.
    pub watched: u64,
    /// Whether there are more, which are not watched.
    pub is_full: bool,
    /// Series without a point for `stale_after`.
    pub stale: u64,
    /// Gauges with the same value for `stuck_after`, while other series change.
    pub stuck: u64,
    /// Series for which the time of the latest point differs from the time of arrival by more than `clock_off_after`.
    pub clock_off: u64,
    /// Series in trouble: at most 20 of each kind.
    pub troubled: Vec<TroubledSeries>,
}

/// A series in trouble.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TroubledSeries {
    /// Its metric.
    pub metric: String,
    /// Its tags.
    pub tags: BTreeMap<String, String>,
    /// Kind, source and start of the trouble.
    #[serde(flatten)]
    pub trouble: SeriesTrouble,
}

/// Trouble with a series.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SeriesTrouble {
    /// Source of the series.
    pub source: String,
    /// The kind of trouble.
    pub trouble: Trouble,
    /// Arrival of the last point if it is stale; arrival of the last change if it is stuck; otherwise the time of its latest point.
    pub since: String,
}

/// Kinds of trouble with a series.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Trouble {
    /// It has had no point for `stale_after`.
    Stale,
    /// It has had the same value for `stuck_after`, while other series changed.
    Stuck,
    /// The time of its latest point differs from the time of arrival by more than `clock_off_after`.
    ClockOff,
}

impl Trouble {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Stale => "stale",
            Self::Stuck => "stuck",
            Self::ClockOff => "clock off",
        }
    }
}

/// Rejects of one reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SourceReject {
    /// The reason.
    pub cause: Cause,
    /// The reason in words.
    pub text: String,
    /// Number of rejected points and rows.
    pub count: u64,
    /// The latest of them, each in a sentence: up to five.
    pub samples: Vec<String>,
}

/// State of a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SourceState {
    /// It takes its first round.
    Starting,
    /// A round is under way.
    Running,
    /// It waits for the next round.
    Waiting,
    /// The latest round failed; it tries again.
    Failing,
    /// It rests until it is resumed.
    Paused,
    /// It has ended.
    Stopped,
}

impl SourceState {
    /// Its name in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Starting => "starting",
            Self::Running => "running",
            Self::Waiting => "waiting",
            Self::Failing => "failing",
            Self::Paused => "paused",
            Self::Stopped => "stopped",
        }
    }
}

/// A target, a device or a file.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SourcePart {
    /// Its address or name.
    pub name: String,
    /// Why it failed.
    #[schema(required)]
    pub error: Option<String>,
    /// Stored points.
    pub points: u64,
    /// Number of rows that were read, if it is a table.
    #[schema(required)]
    pub rows: Option<u64>,
    /// Number of nodes that were found, if it is a node or a pattern of nodes.
    #[schema(required)]
    pub nodes: Option<u64>,
    /// Duration in seconds.
    pub seconds: f64,
}

/// What one round of a definition would store.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceTrial {
    /// Points that would be stored.
    pub points: u64,
    /// Points and rows that would be rejected.
    pub rejected: u64,
    /// Rejects by reason.
    pub rejects: Vec<SourceReject>,
    /// What the source sent, such as a SQL statement.
    #[schema(required)]
    pub sent: Option<String>,
    /// The first points.
    pub sample: Vec<TailPoint>,
    /// Targets, devices or files.
    pub parts: Vec<SourcePart>,
}

/// A caller that pushes points.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PushingCaller {
    /// Protocol: `push` or `otlp`.
    pub kind: String,
    /// Name of its token; null if it needs none, on the machine of the service.
    #[schema(required)]
    pub token: Option<String>,
    /// Dataset of its points.
    pub dataset: String,
    /// Accepted points since the start of the service.
    pub points: u64,
    /// Accepted points per second over the last minute.
    pub points_per_second: f64,
    /// Rejected points and rows since the start of the service.
    pub rejected: u64,
    /// Time of its latest points.
    #[schema(required)]
    pub last_points: Option<String>,
}
