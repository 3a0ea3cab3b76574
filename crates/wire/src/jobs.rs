//! Work in the background.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A job that runs in the background.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobInfo {
    /// Its name.
    pub name: String,
    /// State of it.
    pub phase: JobPhase,
    /// Start of this state (RFC 3339).
    pub since: String,
    /// Finished steps.
    pub steps: u64,
    /// Time that these took, in seconds.
    pub worked_seconds: f64,
    /// Failures in a row.
    pub failures: u32,
    /// Its last error; it stays after a success.
    #[schema(required)]
    pub last_error: Option<String>,
    /// Time of that error.
    #[schema(required)]
    pub last_error_at: Option<String>,
    /// Time of its next turn, if it waits for one.
    #[schema(required)]
    pub next: Option<String>,
}

/// State of a job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum JobPhase {
    /// It works.
    Working,
    /// It waits for its next turn, or for something to do.
    Resting,
    /// It failed, and waits to try again.
    Retrying,
    /// It has ended.
    Ended,
}

impl JobPhase {
    /// Its name in JSON.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Working => "working",
            Self::Resting => "resting",
            Self::Retrying => "retrying",
            Self::Ended => "ended",
        }
    }
}
