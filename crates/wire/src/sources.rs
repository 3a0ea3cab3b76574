//! Sources, which fetch points automatically.

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
    /// Rejected points and rows since it was started.
    pub rejected: u64,
    /// Rejects by reason.
    pub rejects: Vec<SourceReject>,
    /// Bytes that were read since it was started.
    pub bytes: u64,
    /// Time of the latest points.
    #[schema(required)]
    pub last_points: Option<String>,
    /// Whether it polls, and points are overdue: none for three periods, and at least a minute.
    pub is_late: bool,
    /// What it sent in the latest round, such as a SQL statement.
    #[schema(required)]
    pub sent: Option<String>,
    /// Targets, devices or files of the latest round.
    pub parts: Vec<SourcePart>,
    /// Its definition.
    pub definition: serde_json::Value,
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
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourcePart {
    /// Its address or name.
    pub name: String,
    /// Why it failed.
    #[schema(required)]
    pub error: Option<String>,
    /// Stored points.
    pub points: u64,
    /// Duration in seconds.
    pub seconds: f64,
}

/// Result of defining a source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DefinedSource {
    /// How the definition differs from the one before.
    pub difference: SourceDifference,
    /// The one before.
    #[schema(required)]
    pub before: Option<serde_json::Value>,
    /// The new definition, with defaults.
    pub after: serde_json::Value,
}

/// How the definition of a source differs from the one before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum SourceDifference {
    /// There was none of that name.
    New,
    /// It is another one.
    Changed,
    /// It is the same.
    None,
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

/// A definition to start from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceExample {
    /// Its kind.
    pub kind: String,
    /// The definition, as TOML.
    pub definition: String,
}

/// An event in the log of a source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceEvent {
    /// Time of the first.
    pub first: String,
    /// Time of the latest.
    pub last: String,
    /// How often in a row.
    pub count: u64,
    /// Whether it is a failure.
    pub is_failure: bool,
    /// What happened.
    pub text: String,
}
