//! Deleting and restoring: metrics, spans of points, and the bin.

use actix_web::{HttpResponse, delete, get, post, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::{
    catalogue::{Catalogue, Series},
    model::SeriesId,
    query::parse_condition,
    selection::selected_series,
    time::{TimeRange, format_utc, parse_instant, zone},
};
use fenetre_store::{BinItem, BinItemKind, DataSize, Selection, StoreError};
use fenetre_wire::{
    bin::{BinItemInfo, Deletion, PointsOrder, Restore},
    datasets::Stored,
};
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    api::{Body, read_json},
    changes::Recorded,
    clock::now,
    permission::{Access, DefineGrant, ReadAllGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking, blocking_long},
    views::{
        self,
        names::{find, find_metric},
        references::ReferenceTarget,
    },
};

/// Options of applying retention.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Asked {
    /// Return what would be moved, and change nothing.
    #[serde(default)]
    dry_run: bool,
}

/// Ids of series, and of the parts of those that are histograms.
fn with_parts<'s>(series: impl Iterator<Item = &'s Series>) -> Vec<SeriesId> {
    series.flat_map(|series| std::iter::once(series.id).chain(series.layouts().iter().flat_map(|layout| layout.parts()))).collect()
}

fn stored(weight: &DataSize) -> Stored {
    Stored { points: weight.points, first: weight.span.map(|(first, _)| format_utc(first)), last: weight.span.map(|(_, last)| format_utc(last)) }
}

/// Moves a metric with all its series and points to the bin.
///
/// With `dry_run`, returns what would be moved.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", params(("dataset" = String, Path), ("metric" = String, Path), Asked),
    responses((status = 200, body = Deletion), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/datasets/{dataset}/metrics/{metric}")]
pub(crate) async fn delete_metric(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    asked: web::Query<Asked>,
) -> Result<web::Json<Deletion>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let (dataset, metric) = (&path.0, &path.1);
        let (selection, name, series) = {
            state.store.with_catalogue(|catalogue| {
                let dataset = find(catalogue, dataset)?;
                let Some(found) = find_metric(catalogue.into(), dataset, Some(metric))? else {
                    return Err(ApiError::new(ProblemKind::NotFound, "no metric was named"));
                };
                let series = with_parts(found.series().filter_map(|id| dataset.series(id)));
                Ok((Selection { dataset: dataset.id, series, range: TimeRange::ALL }, found.name.to_string(), found.series_count()))
            })?
        };
        let weight = state.store.bin().measure(&selection)?;
        let references = views::references::of(state, &caller, ReferenceTarget::Metric, &name)?;
        let now = now();
        let mut deletion =
            Deletion { id: None, what: name.clone(), series, stored: stored(&weight), bytes: weight.bytes, references, recoverable_until: None };
        if !asked.dry_run {
            state.store.bin().delete_metric(dataset, &name, now)?;
            let binned = state
                .store
                .bin()
                .list()?
                .into_iter()
                .rfind(|binned| binned.kind == BinItemKind::Metric && binned.what == name && binned.deleted == now);
            deletion.id = binned.map(|binned| binned.id);
            deletion.recoverable_until = Some(format_utc(now.saturating_add(state.limits.bin_retention)));
            let before = json!({ "series": series, "points": weight.points });
            Recorded::new(&caller, Subject::Metric, Act::Deleted, name).of(dataset).write(state, Some(before), None)?;
        }
        Ok(deletion)
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Moves the points of a time range to the bin.
///
/// With `dry_run`, returns what would be moved.
#[utoipa::path(security(("token" = ["define"])), tag = "points", params(("dataset" = String, Path)), request_body = PointsOrder,
    responses((status = 200, body = Deletion), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/points/delete")]
pub(crate) async fn delete_points(
    caller: Access<DefineGrant>,
    state: AppState,
    dataset: web::Path<String>,
    body: Body,
) -> Result<web::Json<Deletion>, ApiError> {
    let caller = caller.into_caller();
    let order: PointsOrder = read_json(&body)?;
    let work = move |state: &State| {
        let (selection, what, series) = state.store.with_catalogue(|catalogue| select(catalogue, &dataset, &order))?;
        let now = now();
        if order.dry_run {
            let weight = state.store.bin().measure(&selection)?;
            return Ok(Deletion { what, series, stored: stored(&weight), bytes: weight.bytes, ..Deletion::default() });
        }
        let binned = state.store.bin().delete_points(&selection, &what, now)?;
        let weight = binned.points.unwrap_or_default();
        let before = json!({ "series": series, "points": weight.points });
        Recorded::new(&caller, Subject::Points, Act::Deleted, &what).of(&*dataset).write(state, Some(before), None)?;
        let recoverable_until = Some(format_utc(now.saturating_add(state.limits.bin_retention)));
        Ok(Deletion { id: Some(binned.id), what, series, stored: stored(&weight), bytes: weight.bytes, recoverable_until, references: Vec::new() })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// The points that an order means: the query language says which series a condition is about.
fn select(catalogue: &Catalogue, dataset: &str, order: &PointsOrder) -> Result<(Selection, String, u64), ApiError> {
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    let home = find(catalogue, dataset)?;
    let Some(metric) = find_metric(catalogue.into(), home, Some(&order.metric))? else { return Err(fault("no metric was named".to_owned())) };
    let tz = zone(&home.definition.zone).map_err(|error| fault(error.to_string()))?;
    let at = |name: &str, text: &str| parse_instant(text, &tz).map_err(|error| fault(format!("{name}: {error}")));
    let range = TimeRange { start: at("from", &order.from)?, end: at("to", &order.to)? };
    if range.is_empty() {
        return Err(fault("`to` must be after `from` (points at `to` itself are kept)".to_owned()));
    }
    let text = order.condition.as_deref();
    let parsed = text.map(|text| parse_condition(text).map_err(|error| ApiError::of_query(&error, "condition", text))).transpose()?;
    let ids = selected_series(parsed.as_ref(), home, metric).map_err(|error| ApiError::of_query(&error, "condition", text.unwrap_or_default()))?;
    let series: Vec<&Series> = ids.into_iter().filter_map(|id| home.series(id)).collect();
    let condition = text.map_or(String::new(), |text| format!(" where {text}"));
    let what = format!("{}{condition} from {} to {}", metric.name, format_utc(range.start), format_utc(range.end));
    let count = series.len() as u64;
    Ok((Selection { dataset: home.id, series: with_parts(series.into_iter()), range }, what, count))
}

/// Lists the items in the bin, the oldest first.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "catalogue", responses((status = 200, body = [BinItemInfo]), (status = 403, body = Problem)))]
#[get("/api/v1/bin")]
pub(crate) async fn list(caller: Access<ReadAllGrant>, state: AppState) -> Result<web::Json<Vec<BinItemInfo>>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let item = |binned: BinItem| BinItemInfo {
            id: binned.id,
            dataset: binned.dataset,
            what: binned.what,
            kind: binned.kind.as_str().to_owned(),
            deleted: format_utc(binned.deleted),
            erased: format_utc(binned.deleted.saturating_add(state.limits.bin_retention)),
            series: binned.series,
            points: binned.points.map(|weight| weight.points),
            bytes: binned.points.map(|weight| weight.bytes),
        };
        let all = state.store.bin().list()?;
        let seen = state
            .store
            .with_catalogue(|catalogue| all.into_iter().filter(|binned| may(&caller, Action::Read, catalogue, binned)).collect::<Vec<_>>());
        Ok(seen.into_iter().map(item).collect())
    };
    blocking(&state, work).await.map(web::Json)
}

/// Whether a caller may do something to an item of the bin.
fn may(caller: &Caller, action: Action, catalogue: &Catalogue, binned: &BinItem) -> bool {
    catalogue.dataset_by_id(binned.dataset_id).is_some_and(|dataset| caller.may(action, catalogue, dataset))
}

/// The item of an id, if the caller may change its dataset. For an item that may not be seen, the store's own answer to an unknown id follows.
fn item_for(state: &State, caller: &Caller, id: &str) -> Result<Option<BinItem>, ApiError> {
    let Some(binned) = state.store.bin().list()?.into_iter().find(|binned| binned.id == id) else { return Ok(None) };
    state.store.with_catalogue(|catalogue| {
        if !may(caller, Action::Read, catalogue, &binned) {
            return Err(ApiError::from(StoreError::Missing(format!("the bin has no `{id}`"))));
        }
        caller.require(Action::Define, catalogue, &binned.dataset).map(|_| ())
    })?;
    Ok(Some(binned))
}

/// Restores an item from the bin.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", params(("id" = String, Path)), request_body = Option<Restore>,
    responses((status = 204), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/bin/{id}/restore")]
pub(crate) async fn restore(caller: Access<DefineGrant>, state: AppState, id: web::Path<String>, body: Body) -> Result<HttpResponse, ApiError> {
    let Restore { name } = if body.is_empty() { Restore::default() } else { read_json(&body)? };
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let binned = item_for(state, &caller, &id)?;
        if let Some(why) = state.store.bin().expires_again(&id, now())? {
            return Err(ApiError::new(ProblemKind::Definition, why));
        }
        state.store.bin().restore(&id, name.as_deref())?;
        recorded(state, &caller, Act::Restored, binned)
    };
    blocking_long(&state, work).await.map(|()| HttpResponse::NoContent().finish())
}

fn recorded(state: &State, caller: &Caller, act: Act, binned: Option<BinItem>) -> Result<(), ApiError> {
    binned.map_or(Ok(()), |binned| Recorded::new(caller, Subject::Bin, act, binned.what).of(binned.dataset).write(state, None, None))
}

/// Erases an item of the bin permanently.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", params(("id" = String, Path)), responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[delete("/api/v1/bin/{id}")]
pub(crate) async fn erase(caller: Access<DefineGrant>, state: AppState, id: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let binned = item_for(state, &caller, &id)?;
        state.store.bin().erase(&id)?;
        recorded(state, &caller, Act::Erased, binned)
    };
    blocking_long(&state, work).await.map(|()| HttpResponse::NoContent().finish())
}
