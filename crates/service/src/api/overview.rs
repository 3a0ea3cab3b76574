//! The overview: arrivals, counts, size.

use actix_web::{get, web};
use fenetre_core::time::{SECOND, format_utc};
use fenetre_wire::overview::{ArrivalStep, Overview};

use crate::{
    arrivals::Second,
    clock::now,
    http::access::{Access, ReadGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking},
    views::{storage::storage_info, stored::stored},
};

/// Seconds of one step of arrivals.
const STEP_SECONDS: i64 = 10;

/// Returns an overview of the store.
#[utoipa::path(tag = "store", responses((status = 200, body = Overview), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/overview")]
pub(crate) async fn overview(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Overview>, ApiError> {
    blocking(&state, look).await.map(web::Json)
}

fn look(state: &State) -> Result<Overview, ApiError> {
    let now = now();
    let (mut ids, mut metrics, mut series, mut counts) = (Vec::new(), 0, 0, Vec::new());
    // Hold no lock while files are read.
    {
        state.store.with_catalogue(|catalogue| {
            for dataset in catalogue.datasets() {
                ids.push(dataset.id);
                metrics += dataset.metrics().count() as u64;
                series += dataset.series_count() as u64;
            }
        });
    }
    for id in &ids {
        counts.extend(state.store.inspect().counts(*id)?.into_values());
    }
    let step = |step: &Second| ArrivalStep { start: format_utc(step.second * SECOND), accepted: step.accepted, rejected: step.rejected };
    Ok(Overview {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        started: format_utc(state.started),
        now: format_utc(now),
        points_per_second: state.arrivals.rate(now, STEP_SECONDS),
        arrivals: state.arrivals.steps(now, STEP_SECONDS).iter().map(step).collect(),
        datasets: ids.len() as u64,
        metrics,
        series,
        stored: stored(&counts),
        storage: storage_info(state, now)?,
    })
}
