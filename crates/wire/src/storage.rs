//! Storage use.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::retention::{PlaceInfo, VolumeInfo};

/// The store on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StorageInfo {
    /// Its directory.
    pub path: String,
    /// Total bytes.
    pub bytes: u64,
    /// Bytes of the catalogue, tokens and the record of changes.
    pub catalogue_bytes: u64,
    /// Bytes of the journal.
    pub journal_bytes: u64,
    /// Bytes of the bin.
    pub bin_bytes: u64,
    /// Points in the journal and in memory that are not packed into blocks yet.
    pub waiting_points: u64,
    /// The volume of the store, if it is known.
    #[schema(required)]
    pub volume: Option<VolumeInfo>,
    /// The store and its datasets, with limits and forecast.
    pub places: Vec<PlaceInfo>,
    /// Limits that are nearly reached or exceeded, files that need attention, and the state of the clock.
    pub warnings: Vec<String>,
    /// Files known to be damaged or lost.
    pub faults: Vec<FileFault>,
    /// Datasets, by name.
    pub datasets: Vec<DatasetStorage>,
}

/// A dataset on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DatasetStorage {
    /// Its name.
    pub name: String,
    /// Bytes of its partitions.
    pub bytes: u64,
    /// Points in its partitions.
    pub points: u64,
    /// Bytes of its rollups.
    pub rollup_bytes: u64,
    /// The same by level.
    #[serde(default)]
    #[schema(required)]
    pub levels: Vec<LevelStorage>,
    /// Bytes of its items in the bin.
    pub bin_bytes: u64,
    /// Packed today.
    pub written_1d: WrittenInfo,
    /// Packed per day over the last 7 days.
    pub written_7d: WrittenInfo,
    /// Packed per day over the last 30 days.
    pub written_30d: WrittenInfo,
    /// Its earliest point in a partition.
    #[schema(required)]
    pub oldest: Option<String>,
    /// Its partitions, oldest first.
    pub partitions: Vec<PartitionStorage>,
}

/// A partition on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PartitionStorage {
    /// The file.
    pub path: String,
    /// First instant of its span.
    pub start: String,
    /// Last instant of its span.
    pub last: String,
    /// Bytes of the file.
    pub bytes: u64,
    /// Points in it.
    pub points: u64,
    /// Blocks in it.
    pub blocks: u64,
}

/// A level of a rollup policy on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LevelStorage {
    /// Its policy.
    pub policy: String,
    /// Width of its windows.
    pub width: String,
    /// Bytes of its files.
    pub bytes: u64,
    /// Bytes for a day of points.
    #[serde(default)]
    #[schema(required)]
    pub bytes_a_day: f64,
    /// Its files, the oldest first.
    #[serde(default)]
    #[schema(required)]
    pub files: Vec<String>,
}

/// Packed data over some days.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct WrittenInfo {
    /// Points per day.
    pub points_a_day: f64,
    /// Bytes of blocks per day.
    pub bytes_a_day: f64,
}

/// Storage use of one metric.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricStorage {
    /// Its dataset.
    pub dataset: String,
    /// The metric; none for series without a metric, such as those of a metric in the bin.
    #[schema(required)]
    pub metric: Option<String>,
    /// Its series.
    pub series: u64,
    /// Its points.
    pub points: u64,
    /// Its share of the files.
    pub bytes: u64,
    /// Its earliest point.
    #[schema(required)]
    pub oldest: Option<String>,
}

/// A file to verify or compact.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FileOrder {
    /// A partition as listed by `storage`; to verify, also a rollup file.
    pub path: String,
}

/// Result of verifying a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerifiedFile {
    /// Blocks, or rows of windows, that were checked.
    pub blocks: u64,
    /// Points in them; for windows, points they were compared with.
    pub points: u64,
    /// Windows in them.
    #[serde(default)]
    #[schema(required)]
    pub windows: u64,
    /// Blocks or windows that are damaged, or do not match their points.
    pub faulty: u64,
    /// The first hundred faults, one sentence each.
    pub faults: Vec<String>,
}

/// Effect of a compaction.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CompactedPartition {
    /// Bytes before.
    pub before: u64,
    /// Bytes after.
    pub after: u64,
}

/// A damaged or lost file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileFault {
    /// The file.
    pub path: String,
    /// What is wrong, and the remedy.
    pub fault: String,
}

/// A dataset whose partitions are merged.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TidyOrder {
    /// Its name.
    pub dataset: String,
}

/// How many partitions a dataset has.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TidiedDataset {
    /// Before.
    pub before: u64,
    /// After.
    pub after: u64,
}
