//! The overview: arrivals, counts, size.

use std::collections::BTreeSet;

use actix_web::{get, web};
use fenetre_core::{
    catalogue::Metric,
    model::{DatasetId, SeriesId},
    time::{SECOND, format_utc},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_flows::arrivals::Second;
use fenetre_wire::overview::{ArrivalStep, Overview};

use crate::{
    clock::now,
    permission::{Access, ReadGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking},
    views::{storage::storage_info, stored::stored},
};

/// Seconds of one step of arrivals.
const STEP_SECONDS: i64 = 10;

/// Returns an overview of the store.
#[utoipa::path(security(("token" = ["read"])), tag = "store", responses((status = 200, body = Overview), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/overview")]
pub(crate) async fn overview(caller: Access<ReadGrant>, state: AppState) -> Result<web::Json<Overview>, ApiError> {
    let visibility = caller.visibility();
    blocking(&state, move |state| look(state, &visibility)).await.map(web::Json)
}

fn look(state: &State, visibility: &Visibility) -> Result<Overview, ApiError> {
    let now = now();
    let mut found: Vec<(DatasetId, String, BTreeSet<SeriesId>)> = Vec::new();
    let (mut metrics, mut series, mut counts) = (0, 0, Vec::new());
    // Hold no lock while files are read.
    state.store.with_catalogue(|catalogue| {
        let visible = VisibleCatalogue::new(catalogue, visibility);
        for dataset in visible.datasets() {
            metrics += visible.metrics(dataset).count() as u64;
            series += visible.metrics(dataset).map(Metric::series_count).sum::<u64>();
            // Without a limit to some metrics, all series count.
            let seen = if visibility.metrics.is_empty() { BTreeSet::new() } else { visible.metrics(dataset).flat_map(Metric::series).collect() };
            found.push((dataset.id, dataset.name.to_string(), seen));
        }
    });
    for (id, _, seen) in &found {
        let all = state.store.inspect().counts(*id)?.into_iter();
        counts.extend(all.filter(|(series, _)| visibility.metrics.is_empty() || seen.contains(series)).map(|(_, count)| count));
    }
    // Rates and sizes are those of whole datasets.
    let nothing = Visibility::default();
    let of_datasets = if visibility.metrics.is_empty() { visibility } else { &nothing };
    let names: Vec<&str> = found.iter().filter(|_| visibility.metrics.is_empty()).map(|(_, name, _)| name.as_str()).collect();
    let step = |step: &Second| ArrivalStep { start: format_utc(step.second * SECOND), accepted: step.accepted, rejected: step.rejected };
    Ok(Overview {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        started: format_utc(state.started),
        now: format_utc(now),
        points_per_second: state.intake.arrivals.rate(&names, now, STEP_SECONDS),
        arrivals: state.intake.arrivals.steps(&names, now, STEP_SECONDS).iter().map(step).collect(),
        datasets: found.len() as u64,
        metrics,
        series,
        stored: stored(&counts),
        storage: storage_info(state, of_datasets, now)?,
    })
}
