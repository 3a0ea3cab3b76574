//! Series and their latest points, a page at a time.

use actix_web::{get, web};
use fenetre_core::{
    catalogue::{Dataset, Metric, Series},
    time::format_utc,
    visibility::VisibleCatalogue,
};
use fenetre_wire::series::{LatestPoint, Page, SeriesInfo};
use serde::{Deserialize, Deserializer, de::Error as _};
use utoipa::IntoParams;

use crate::{
    clock::now,
    permission::{Access, ReadGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking},
    views::{
        names::{find, find_metric, text_tags},
        stored::stored,
    },
};

/// Series that one page holds at the most.
const MAX_PAGE: usize = 10_000;

/// Which series.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct SeriesFilter {
    /// Only this metric.
    metric: Option<String>,
    /// Only series whose metric, tags or tag values contain this text (case-insensitive).
    search: Option<String>,
    /// Number of rows to skip (default: 0).
    #[serde(default, deserialize_with = "whole")]
    offset: Option<usize>,
    /// Maximum number of rows (default: 1,000; at most 10,000).
    #[serde(default, deserialize_with = "whole")]
    limit: Option<usize>,
}

/// A whole number; an error quotes what was written.
fn whole<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<usize>, D::Error> {
    let text = String::deserialize(deserializer)?;
    text.parse().map(Some).map_err(|_| D::Error::custom(format!("`{text}` is not a whole number")))
}

/// The series that fulfil a filter, ordered by metric and tags: how many, and the page that was asked for.
fn page<'d>(visible: VisibleCatalogue<'d>, dataset: &'d Dataset, filter: &SeriesFilter) -> Result<(u64, Vec<&'d Series>), ApiError> {
    let metric = find_metric(visible, dataset, filter.metric.as_deref())?;
    let wanted = filter.search.as_ref().map(|text| text.to_lowercase());
    let holds = |series: &&Series| {
        let Some(wanted) = &wanted else { return true };
        let has = |text: &str| text.to_lowercase().contains(wanted);
        has(&series.metric) || series.tags.iter().any(|(key, value)| has(key) || has(value))
    };
    let mut series: Vec<&Series> = match metric {
        Some(metric) => metric.series().filter_map(|id| dataset.series(id)).filter(holds).collect(),
        None => visible.metrics(dataset).flat_map(Metric::series).filter_map(|id| dataset.series(id)).filter(holds).collect(),
    };
    series.sort_by(|a, b| (&a.metric, &a.tags).cmp(&(&b.metric, &b.tags)));
    let total = series.len() as u64;
    let limit = filter.limit.unwrap_or(1_000).min(MAX_PAGE);
    Ok((total, series.into_iter().skip(filter.offset.unwrap_or(0)).take(limit).collect()))
}

/// Lists the series of a dataset.
#[utoipa::path(security(("token" = ["read"])), tag = "catalogue", params(("dataset" = String, Path), SeriesFilter),
    responses((status = 200, body = Page<SeriesInfo>), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/series")]
pub(crate) async fn list(
    caller: Access<ReadGrant>,
    state: AppState,
    name: web::Path<String>,
    filter: web::Query<SeriesFilter>,
) -> Result<web::Json<Page<SeriesInfo>>, ApiError> {
    let visibility = caller.visibility();
    let work = move |state: &State| {
        let id = state.store.with_catalogue(|catalogue| find(catalogue, &name).map(|dataset| dataset.id))?;
        let counts = state.store.inspect().counts(id)?;
        state.store.with_catalogue(|catalogue| {
            let dataset = find(catalogue, &name)?;
            let (total, series) = page(VisibleCatalogue::new(catalogue, &visibility), dataset, &filter)?;
            let troubled = state.sources.troubled(dataset, catalogue);
            let info = |series: &Series| SeriesInfo {
                metric: series.metric.to_string(),
                tags: text_tags(&series.tags),
                stored: stored(counts.get(&series.id)),
                trouble: troubled.get(&series.id).map(|(source, troubled)| troubled.described(source)),
            };
            Ok(Page { total, items: series.into_iter().map(info).collect() })
        })
    };
    blocking(&state, work).await.map(web::Json)
}

/// Lists the latest point of each series of a dataset.
#[utoipa::path(security(("token" = ["read"])), tag = "catalogue", params(("dataset" = String, Path), SeriesFilter),
    responses((status = 200, body = Page<LatestPoint>), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/latest")]
pub(crate) async fn latest(
    caller: Access<ReadGrant>,
    state: AppState,
    name: web::Path<String>,
    filter: web::Query<SeriesFilter>,
) -> Result<web::Json<Page<LatestPoint>>, ApiError> {
    let visibility = caller.visibility();
    let work = move |state: &State| {
        let (dataset, total, series, troubled) = state.store.with_catalogue(|catalogue| {
            let dataset = find(catalogue, &name)?;
            let (total, series) = page(VisibleCatalogue::new(catalogue, &visibility), dataset, &filter)?;
            let unit = |series: &Series| dataset.metric(&series.metric).and_then(|metric| metric.definition.unit.clone());
            let series = series.into_iter().map(|series| (series.clone(), unit(series))).collect::<Vec<_>>();
            Ok::<_, ApiError>((dataset.id, total, series, state.sources.troubled(dataset, catalogue)))
        })?;
        let now = now();
        let point = |(series, unit): (Series, Option<String>)| -> Result<LatestPoint, ApiError> {
            let latest = state.store.inspect().latest(dataset, &series, now)?;
            Ok(LatestPoint {
                metric: series.metric.to_string(),
                tags: text_tags(&series.tags),
                time: latest.as_ref().map(|latest| format_utc(latest.time)),
                value: latest.map(|latest| latest.value),
                unit,
                trouble: troubled.get(&series.id).map(|(source, troubled)| troubled.described(source)),
            })
        };
        Ok(Page { total, items: series.into_iter().map(point).collect::<Result<_, _>>()? })
    };
    blocking(&state, work).await.map(web::Json)
}
