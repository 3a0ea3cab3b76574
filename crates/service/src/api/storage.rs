//! Storage use, as the file system counts it.

use actix_web::{HttpResponse, get, post, web};
use fenetre_core::time::format_utc;
use fenetre_store::{MetricSize, Verified};
use fenetre_wire::storage::{CompactedPartition, FileOrder, MetricStorage, StorageInfo, TidiedDataset, TidyOrder, VerifiedFile};

use crate::{
    api::{Body, read_json},
    clock::now,
    http::access::{Access, DefineGrant, ReadGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking_long},
    views::storage::storage_info,
};

/// Returns the storage use of the store.
#[utoipa::path(tag = "keeping", responses((status = 200, body = StorageInfo), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage")]
pub(crate) async fn storage(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<StorageInfo>, ApiError> {
    blocking_long(&state, |state| storage_info(state, now())).await.map(web::Json)
}

/// Lists the storage use of each metric, the largest first.
#[utoipa::path(tag = "keeping", responses((status = 200, body = [MetricStorage]), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage/top")]
pub(crate) async fn top(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Vec<MetricStorage>>, ApiError> {
    let work = |state: &State| {
        let of = |size: MetricSize| MetricStorage {
            dataset: size.dataset,
            metric: size.metric,
            series: size.series,
            points: size.points,
            bytes: size.bytes,
            oldest: size.first.map(format_utc),
        };
        Ok(state.store.inspect().metrics()?.into_iter().map(of).collect())
    };
    blocking_long(&state, work).await.map(web::Json)
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
pub(crate) async fn verify(_: Access<ReadGrant>, state: AppState, body: Body) -> Result<web::Json<VerifiedFile>, ApiError> {
    let order: FileOrder = read_json(&body)?;
    let work = move |state: &State| {
        let Verified { blocks, points, windows, faults, faulty } = state.store.inspect().verify(&file_of(state, &order))?;
        Ok(VerifiedFile { blocks, points, windows, faulty, faults })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Merges small and overlapping blocks of one partition, and frees their space.
#[utoipa::path(tag = "keeping", request_body = FileOrder,
    responses((status = 200, body = CompactedPartition), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/compact")]
pub(crate) async fn compact(_: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<CompactedPartition>, ApiError> {
    let order: FileOrder = read_json(&body)?;
    let work = move |state: &State| {
        let (before, after) = state.store.inspect().compact(&file_of(state, &order))?;
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
pub(crate) async fn tidy(_: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<TidiedDataset>, ApiError> {
    let order: TidyOrder = read_json(&body)?;
    let work = move |state: &State| {
        let (before, after) = state.store.inspect().tidy(&order.dataset)?;
        Ok(TidiedDataset { before: before as u64, after: after as u64 })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Accepts the loss of a file. The warning ends, and the file's time range counts as no longer kept.
#[utoipa::path(tag = "keeping", request_body = FileOrder,
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/storage/accept-loss")]
pub(crate) async fn accept_loss(_: Access<DefineGrant>, state: AppState, body: Body) -> Result<HttpResponse, ApiError> {
    let order: FileOrder = read_json(&body)?;
    blocking_long(&state, move |state| Ok(state.store.inspect().accept_loss(&file_of(state, &order))?))
        .await
        .map(|()| HttpResponse::NoContent().finish())
}
