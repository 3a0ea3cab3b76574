//! Is it well: arrivals, counts, size.

use actix_web::{get, web};
use fenetre_core::time::{SECOND, format_utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{datasets::Stored, storage::StorageInfo};
use crate::{
    arrivals::Second,
    clock::now,
    http::access::{Access, ReadGrant},
    problem::Problem,
    state::{AppState, State, blocking},
};

/// Seconds of one step of arrivals.
const STEP_SECONDS: i64 = 10;

/// Overview of the store.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// Version of the service.
    pub version: String,
    /// Since when it runs.
    pub started: String,
    /// What the clock of the service says.
    pub now: String,
    /// Points a second over the last ten whole seconds.
    pub points_per_second: f64,
    /// What came in over the last ten minutes, in steps of ten seconds, oldest first.
    pub arrivals: Vec<ArrivalStep>,
    /// Datasets.
    pub datasets: u64,
    /// Metrics of all datasets.
    pub metrics: u64,
    /// Series of all datasets.
    pub series: u64,
    /// Points of all datasets and when they begin and end.
    #[serde(flatten)]
    pub stored: Stored,
    /// What it weighs.
    pub storage: StorageInfo,
}

/// Arrivals of ten seconds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArrivalStep {
    /// First instant.
    pub start: String,
    /// Accepted points.
    pub accepted: u64,
    /// Rejected points and rows.
    pub rejected: u64,
}

/// Returns an overview of the store.
#[utoipa::path(tag = "store", responses((status = 200, body = Overview), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/overview")]
pub(crate) async fn overview(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Overview>, Problem> {
    blocking(&state, look).await.map(web::Json)
}

fn look(state: &State) -> Result<Overview, Problem> {
    let now = now();
    let (mut ids, mut metrics, mut series, mut counts) = (Vec::new(), 0, 0, Vec::new());
    // Hold no lock while files are read.
    {
        let catalogue = state.store.catalogue();
        for dataset in catalogue.datasets() {
            ids.push(dataset.id);
            metrics += dataset.metrics().count() as u64;
            series += dataset.series_count() as u64;
        }
    }
    for id in &ids {
        counts.extend(state.store.counts(*id)?.into_values());
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
        stored: Stored::of(&counts),
        storage: StorageInfo::of(state, now)?,
    })
}
