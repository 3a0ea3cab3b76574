//! Storage use, as the file system counts it.

use actix_web::{HttpResponse, get, post, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::{time::format_utc, visibility::VisibleCatalogue};
use fenetre_store::{MetricSize, Verified};
use fenetre_wire::storage::{CompactedPartition, FileOrder, MetricStorage, StorageInfo, TidiedDataset, TidyOrder, VerifiedFile};

use crate::{
    api::{Body, read_json},
    changes::Recorded,
    clock::now,
    permission::{Access, AdminGrant, DefineGrant, ReadAllGrant, ReadGrant, ReadStoreGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking_long},
    views::storage::storage_info,
};

/// Returns the storage use of the store.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "keeping", responses((status = 200, body = StorageInfo), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage")]
pub(crate) async fn storage(caller: Access<ReadAllGrant>, state: AppState) -> Result<web::Json<StorageInfo>, ApiError> {
    let visibility = caller.visibility();
    blocking_long(&state, move |state| storage_info(state, &visibility, now())).await.map(web::Json)
}

/// Lists the storage use of each metric, the largest first.
#[utoipa::path(security(("token" = ["read"])), tag = "keeping", responses((status = 200, body = [MetricStorage]), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/storage/top")]
pub(crate) async fn top(caller: Access<ReadGrant>, state: AppState) -> Result<web::Json<Vec<MetricStorage>>, ApiError> {
    let visibility = caller.visibility();
    let work = move |state: &State| {
        let of = |size: MetricSize| MetricStorage {
            dataset: size.dataset,
            metric: size.metric,
            series: size.series,
            points: size.points,
            bytes: size.bytes,
            oldest: size.first.map(format_utc),
        };
        let all = state.store.inspect().metrics()?;
        let seen = state.store.with_catalogue(|catalogue| {
            let visible = VisibleCatalogue::new(catalogue, &visibility);
            let is_seen = |size: &MetricSize| {
                // Metrics that are no more have no name by which a token could be limited to them.
                visible.dataset_by_any_name(&size.dataset).is_some()
                    && size.metric.as_ref().map_or(visibility.metrics.is_empty(), |metric| visibility.has_metric(metric))
            };
            all.into_iter().filter(is_seen).collect::<Vec<_>>()
        });
        Ok(seen.into_iter().map(of).collect())
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
#[utoipa::path(security(("token" = ["read, all datasets"])), tag = "keeping", request_body = FileOrder,
    responses((status = 200, body = VerifiedFile), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/verify")]
pub(crate) async fn verify(_: Access<ReadStoreGrant>, state: AppState, body: Body) -> Result<web::Json<VerifiedFile>, ApiError> {
    let order: FileOrder = read_json(&body)?;
    let work = move |state: &State| {
        let Verified { blocks, points, windows, faults, faulty } = state.store.inspect().verify(&file_of(state, &order))?;
        Ok(VerifiedFile { blocks, points, windows, faulty, faults })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Merges small and overlapping blocks of one partition, and frees their space.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "keeping", request_body = FileOrder,
    responses((status = 200, body = CompactedPartition), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/compact")]
pub(crate) async fn compact(caller: Access<AdminGrant>, state: AppState, body: Body) -> Result<web::Json<CompactedPartition>, ApiError> {
    let order: FileOrder = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let file = file_of(state, &order);
        let (before, after) = state.store.inspect().compact(&file)?;
        Recorded::new(&caller, Subject::Storage, Act::Compacted, file).write(state, Some(before.into()), Some(after.into()))?;
        Ok(CompactedPartition { before, after })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Packs waiting points, and merges sparse partitions of a dataset.
///
/// Few points over a long time become one file. Compaction does the same in the background, some time after the last points.
#[utoipa::path(security(("token" = ["define"])), tag = "keeping", request_body = TidyOrder,
    responses((status = 200, body = TidiedDataset), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[post("/api/v1/storage/tidy")]
pub(crate) async fn tidy(caller: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<TidiedDataset>, ApiError> {
    let order: TidyOrder = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        state.store.with_catalogue(|catalogue| caller.require(Action::Define, catalogue, &order.dataset).map(|_| ()))?;
        let (before, after) = state.store.inspect().tidy(&order.dataset)?;
        let recorded = Recorded::new(&caller, Subject::Storage, Act::Compacted, &order.dataset).of(&order.dataset);
        recorded.write(state, Some(before.into()), Some(after.into()))?;
        Ok(TidiedDataset { before: before as u64, after: after as u64 })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Accepts the loss of a file. The warning ends, and the file's time range counts as no longer kept.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "keeping", request_body = FileOrder,
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/storage/accept-loss")]
pub(crate) async fn accept_loss(caller: Access<AdminGrant>, state: AppState, body: Body) -> Result<HttpResponse, ApiError> {
    let order: FileOrder = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let file = file_of(state, &order);
        state.store.inspect().accept_loss(&file)?;
        Recorded::new(&caller, Subject::Storage, Act::Accepted, file).write(state, None, None)
    };
    blocking_long(&state, work).await.map(|()| HttpResponse::NoContent().finish())
}
