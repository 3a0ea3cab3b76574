//! Sinks, which send points continuously.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// A sink.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SinkInfo {
    /// Its name.
    pub name: String,
    /// Its kind: `forward`, `http` or `files`.
    pub kind: String,
    /// Dataset whose points are sent.
    pub dataset: String,
    /// Where they are sent.
    pub destination: String,
    /// State of it.
    pub state: SinkState,
    /// Why it fails.
    #[schema(required)]
    pub error: Option<String>,
    /// Start of the failures.
    #[schema(required)]
    pub failing_since: Option<String>,
    /// Time of the next attempt.
    #[schema(required)]
    pub next: Option<String>,
    /// Points sent since it was started.
    pub points: u64,
    /// Points per second over the last minute.
    pub points_per_second: f64,
    /// Batches sent since it was started.
    pub batches: u64,
    /// Bytes sent since it was started.
    pub bytes: u64,
    /// Points that the destination rejected.
    pub rejected: u64,
    /// The latest reasons of them, each in a sentence: up to five.
    pub rejects: Vec<String>,
    /// Time of the latest batch.
    #[schema(required)]
    pub last_sent: Option<String>,
    /// How far it is behind.
    pub behind: SinkBehind,
    /// Time ranges that are still to be read from partitions.
    pub gaps: Vec<SinkGap>,
    /// Batches that were set aside.
    pub set_aside: u64,
    /// Its definition.
    pub definition: Value,
}

/// How far a sink is behind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SinkBehind {
    /// About how many points have arrived since the latest one that was sent. Points of series that the sink does not send count too.
    pub points: u64,
    /// Seconds since it had sent everything; 0 if it has.
    pub seconds: u64,
    /// Seconds until it will have caught up, at the speed of the last minute.
    #[schema(required)]
    pub caught_up_in: Option<u64>,
}

/// A time range.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SinkGap {
    /// First instant.
    pub from: String,
    /// First instant after it.
    pub to: String,
}

/// State of a sink.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SinkState {
    /// It has sent everything, apart from what waits for the rest of its batch.
    Healthy,
    /// Points have arrived that it has not sent yet.
    Behind,
    /// The latest batch could not be sent; it is sent again.
    Failing,
    /// It rests until it is resumed.
    Paused,
    /// It has ended.
    Stopped,
}

impl SinkState {
    /// Its name in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Healthy => "healthy",
            Self::Behind => "behind",
            Self::Failing => "failing",
            Self::Paused => "paused",
            Self::Stopped => "stopped",
        }
    }
}

/// What a sink would send.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SinkTrial {
    /// Number of series that would be sent.
    pub series: u64,
    /// The latest points of some of them, as they would be sent.
    pub rows: String,
    /// The destination's verdict on them, if it can give one without storing them.
    #[schema(required)]
    pub answer: Option<String>,
}

/// A batch that was set aside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AsideBatch {
    /// Its number.
    pub id: u64,
    /// Time at which it was set aside.
    pub time: String,
    /// Why the destination refused it.
    pub reason: String,
    /// Number of points.
    pub points: u64,
    /// Time of its first point.
    pub first: String,
    /// Time of its last point.
    pub last: String,
}

/// A time range of a dataset, in the words of a query.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SinkRange {
    /// The range, such as `last 1d` or `2026-05-01 to 2026-05-02`.
    pub over: String,
}

/// Comparison of a destination with the store.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SinkVerification {
    /// Metrics that were compared.
    pub metrics: u64,
    /// Windows with points that were compared.
    pub windows: u64,
    /// Points in the store.
    pub points: u64,
    /// Windows that differ, the first of them.
    pub differences: Vec<SinkDifference>,
    /// How many windows differ.
    pub differing: u64,
    /// Notes about the result.
    pub notes: Vec<String>,
}

/// A window that differs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SinkDifference {
    /// The metric.
    pub metric: String,
    /// First instant of the window.
    pub from: String,
    /// First instant after it.
    pub to: String,
    /// Points in the store.
    pub points_here: u64,
    /// Points at the destination.
    pub points_there: u64,
    /// Sum of the values in the store.
    #[schema(required)]
    pub sum_here: Option<f64>,
    /// Sum of the values at the destination.
    #[schema(required)]
    pub sum_there: Option<f64>,
}
