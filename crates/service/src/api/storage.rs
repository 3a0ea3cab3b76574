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
    /// Bytes of everything.
    pub bytes: u64,
    /// Bytes of the catalogue.
    pub catalogue_bytes: u64,
    /// Bytes of the journal.
    pub journal_bytes: u64,
    /// Bytes of what is in the bin.
    pub bin_bytes: u64,
    /// Points in the journal and in memory that are not packed into blocks yet.
    pub waiting_points: u64,
    /// The volume of the store, where that can be told.
    pub volume: Option<VolumeInfo>,
    /// The store and its datasets with their limits, and what will be there.
    pub places: Vec<PlaceInfo>,
    /// Limits that are nearly reached, or passed.
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
    /// Bytes of what is in the bin of it.
    pub bin_bytes: u64,
    /// What was packed today.
    pub written_1d: WrittenInfo,
    /// What was packed over the last 7 days.
    pub written_7d: WrittenInfo,
    /// What was packed over the last 30 days.
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
    /// Of which policy.
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

/// What was packed over some days.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct WrittenInfo {
    /// Points a day.
    pub points_a_day: f64,
    /// Bytes of blocks a day.
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

/// What the store weighs.
#[utoipa::path(tag = "keeping", responses((status = 200, body = StorageInfo), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage")]
pub(crate) async fn storage(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<StorageInfo>, Problem> {
    blocking_long(&state, |state| StorageInfo::of(state, now())).await.map(web::Json)
}

/// What one metric takes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricStorage {
    /// Of which dataset.
    pub dataset: String,
    /// Which; none for series that no metric has any more, such as those of one in the bin.
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

/// What each metric takes of the partitions, the most first.
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

/// One file to look at or to work on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FileOrder {
    /// A partition, or to be looked at also a file of a level, as `storage` tells it.
    pub path: String,
}

/// What a look at every block found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerifiedFile {
    /// Blocks that were looked at, or rows of windows.
    pub blocks: u64,
    /// Points in them; of windows, points that they were compared with.
    pub points: u64,
    /// Windows in them.
    #[serde(default)]
    pub windows: u64,
    /// Blocks that are damaged or whose summaries are not those of their points; likewise windows.
    pub faulty: u64,
    /// What is wrong, a sentence each; the first hundred.
    pub faults: Vec<String>,
}

/// What compaction gave back.
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

/// Which dataset's partitions are put in order.
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

/// Checks every block's checksum in one partition, and that its summary is that of its points; or in a file of a level every row's, and that windows
/// whose points are all there are those of these. Repairs nothing.
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

/// Merges what can be merged in one partition now, and gives back the room that this leaves.
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

/// Packs what waits in memory, and gives the partitions of a dataset the spans that are right for their points: few points of a long time become one
/// file. Compaction in the background does the same, a while after the last points have come.
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
