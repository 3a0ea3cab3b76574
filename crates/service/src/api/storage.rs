//! What the store weighs on the disk, as the file system counts it.

use actix_web::{HttpResponse, get, post, web};
use fenetre_core::time::{Nanos, format_utc};
use fenetre_store::{LevelSize, MetricSize, PartitionSize, Verified};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{
    api::{Body, read_json},
    clock::now,
    http::access::{Access, DefineGrant, ReadGrant},
    problem::Problem,
    state::{AppState, State, blocking_long},
    views::{
        retention::{PlaceInfo, info},
        volume::VolumeInfo,
    },
};

/// The store on the disk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StorageInfo {
    /// Its directory.
    pub path: String,
    /// Total bytes.
    pub bytes: u64,
    /// Bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// Bytes of the journal.
    pub journal_bytes: u64,
    /// Bytes of the bin.
    pub bin_bytes: u64,
    /// Points in the journal and in memory that are not packed into blocks yet.
    pub waiting_points: u64,
    /// The volume of the store, where that can be told.
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
    pub bytes_a_day: f64,
    /// Its files, the oldest first.
    #[serde(default)]
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

impl StorageInfo {
    /// What a store weighs now.
    pub(crate) fn of(state: &State, now: Nanos) -> Result<Self, Problem> {
        let report = state.store.storage(now)?;
        let partition = |size: PartitionSize| PartitionStorage {
            path: size.path.display().to_string(),
            start: format_utc(size.start),
            last: format_utc(size.last),
            bytes: size.bytes,
            points: size.points,
            blocks: size.blocks,
        };
        let level = |size: LevelSize| LevelStorage {
            policy: size.policy,
            width: size.width,
            bytes: size.bytes,
            bytes_a_day: size.bytes_a_day,
            files: size.files.iter().map(|path| path.display().to_string()).collect(),
        };
        let written = |(points, bytes): (u64, u64), days: f64| WrittenInfo { points_a_day: points as f64 / days, bytes_a_day: bytes as f64 / days };
        let mut datasets: Vec<DatasetStorage> = Vec::with_capacity(report.datasets.len());
        for dataset in report.datasets {
            let [day, week, month] = dataset.written;
            datasets.push(DatasetStorage {
                bytes: dataset.partitions.iter().map(|size| size.bytes).sum(),
                points: dataset.partitions.iter().map(|size| size.points).sum(),
                rollup_bytes: dataset.rollup_bytes,
                levels: dataset.levels.into_iter().map(level).collect(),
                bin_bytes: dataset.bin_bytes,
                written_1d: written(day, 1.0),
                written_7d: written(week, 7.0),
                written_30d: written(month, 30.0),
                oldest: dataset.oldest.map(format_utc),
                name: dataset.name,
                partitions: dataset.partitions.into_iter().map(partition).collect(),
            });
        }
        let (catalogue_bytes, journal_bytes, bin_bytes) = (report.catalogue_bytes, report.journal.bytes, report.bin_bytes);
        let bytes = catalogue_bytes + journal_bytes + bin_bytes + datasets.iter().map(|dataset| dataset.bytes + dataset.rollup_bytes).sum::<u64>();
        let retention = info(state, None, false)?;
        Ok(Self {
            path: report.root.display().to_string(),
            bytes,
            catalogue_bytes,
            journal_bytes,
            bin_bytes,
            waiting_points: report.journal.points,
            volume: retention.volume,
            places: retention.places,
            warnings: retention.warnings,
            faults: report.faults.into_iter().map(|(path, fault)| FileFault { path: path.display().to_string(), fault }).collect(),
            datasets,
        })
    }
}

/// Returns the storage use of the store.
#[utoipa::path(tag = "keeping", responses((status = 200, body = StorageInfo), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage")]
pub(crate) async fn storage(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<StorageInfo>, Problem> {
    blocking_long(&state, |state| StorageInfo::of(state, now())).await.map(web::Json)
}

/// Storage use of one metric.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricStorage {
    /// Its dataset.
    pub dataset: String,
    /// The metric; none for series without a metric, such as those of a metric in the bin.
    pub metric: Option<String>,
    /// Its series.
    pub series: u64,
    /// Its points.
    pub points: u64,
    /// Its share of the files.
    pub bytes: u64,
    /// Its earliest point.
    pub oldest: Option<String>,
}

/// Lists the storage use of each metric, the largest first.
#[utoipa::path(tag = "keeping", responses((status = 200, body = [MetricStorage]), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage/top")]
pub(crate) async fn top(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Vec<MetricStorage>>, Problem> {
    let work = |state: &State| {
        let of = |size: MetricSize| MetricStorage {
            dataset: size.dataset,
            metric: size.metric,
            series: size.series,
            points: size.points,
            bytes: size.bytes,
            oldest: size.first.map(format_utc),
        };
        Ok(state.store.metric_sizes()?.into_iter().map(of).collect())
    };
    blocking_long(&state, work).await.map(web::Json)
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

/// The file of an order, below the store's directory.
fn file_of(state: &State, order: &FileOrder) -> String {
    let root = format!("{}/", state.store.root().display());
    order.path.strip_prefix(&root).unwrap_or(&order.path).to_owned()
}

/// Verifies one file; repairs nothing.
///
/// In a partition: the checksum of every block, and its summary against its points. In a rollup file: every row, and its windows against their points
/// if all of them are kept.
#[utoipa::path(tag = "keeping", request_body = FileOrder,
    responses((status = 200, body = VerifiedFile), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/verify")]
pub(crate) async fn verify(_: Access<ReadGrant>, state: AppState, body: Body) -> Result<web::Json<VerifiedFile>, Problem> {
    let order: FileOrder = read_json(&body)?;
    let work = move |state: &State| {
        let Verified { blocks, points, windows, faults, faulty } = state.store.verify(&file_of(state, &order))?;
        Ok(VerifiedFile { blocks, points, windows, faulty, faults })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Merges small and overlapping blocks of one partition, and frees their space.
#[utoipa::path(tag = "keeping", request_body = FileOrder,
    responses((status = 200, body = CompactedPartition), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/compact")]
pub(crate) async fn compact(_: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<CompactedPartition>, Problem> {
    let order: FileOrder = read_json(&body)?;
    let work = move |state: &State| {
        let (before, after) = state.store.compact_one(&file_of(state, &order))?;
        Ok(CompactedPartition { before, after })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Packs waiting points, and merges sparse partitions of a dataset.
///
/// Few points over a long time become one file. Compaction does the same in the background, some time after the last points.
#[utoipa::path(tag = "keeping", request_body = TidyOrder,
    responses((status = 200, body = TidiedDataset), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/tidy")]
pub(crate) async fn tidy(_: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<TidiedDataset>, Problem> {
    let order: TidyOrder = read_json(&body)?;
    let work = move |state: &State| {
        let (before, after) = state.store.tidy(&order.dataset)?;
        Ok(TidiedDataset { before: before as u64, after: after as u64 })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Accepts the loss of a file. The warning ends, and the file's time range counts as no longer kept.
#[utoipa::path(tag = "keeping", request_body = FileOrder,
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/storage/accept-loss")]
pub(crate) async fn accept_loss(_: Access<DefineGrant>, state: AppState, body: Body) -> Result<HttpResponse, Problem> {
    let order: FileOrder = read_json(&body)?;
    blocking_long(&state, move |state| Ok(state.store.accept_loss(&file_of(state, &order))?)).await.map(|()| HttpResponse::NoContent().finish())
}
