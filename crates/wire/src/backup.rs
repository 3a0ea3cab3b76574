//! Backups.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A backup to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BackupOrder {
    /// Absolute path of a folder on the machine of the service: empty, missing, or with an unfinished backup.
    pub to: String,
    /// An earlier backup: unchanged partitions are not copied again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Whether the backup contains the secrets of the store.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub with_secrets: bool,
}

/// State of the latest backup.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BackupState {
    /// Its folder.
    pub to: String,
    /// State of it.
    pub stage: BackupStage,
    /// Finished files: partitions and the catalogue while it runs, all files once it is done.
    pub done: u64,
    /// Total number of these; 0 until it is known.
    pub files: u64,
    /// Files that were not copied, because this or the earlier backup has them.
    pub kept: u64,
    /// Copied bytes.
    pub bytes: u64,
    /// Points in it, once it is done.
    pub points: u64,
    /// Damaged partitions, which the backup does not contain.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub damaged: Vec<String>,
    /// Why it failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// State of a backup.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum BackupStage {
    /// It is running.
    Running,
    /// It is complete.
    Done,
    /// It was stopped.
    Stopped,
    /// It failed.
    Failed,
}
