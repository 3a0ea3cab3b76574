//! How long and how much is kept: limits in force and where each comes from, what a changed one would drop, and expiry by hand.

use std::collections::BTreeMap;

use actix_web::{get, post, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::{
    keeping::{Expiry, LimitSettings, Policies, Scope, Step},
    time::{Nanos, TimeRange, format_day, format_utc},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_store::{PartitionSize, StorageReport};
use fenetre_wire::retention::{ExpiryItem, ExpiryOrder, ExpiryPreview, RetentionChange, RetentionInfo, RetentionOrder, WrittenFile};
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

use crate::{
    api::{Body, read_json},
    changes::Recorded,
    clock::now,
    config::file,
    permission::{Access, AdminGrant, DefineGrant, DefineStoreGrant, ReadAllGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking_long},
    views::{
        names::{name_of, place_named, shown_name},
        retention::{Survey, info, place_info, warn_of_difference},
    },
};

/// Which places are asked for.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct Asked {
    /// Only this dataset.
    dataset: Option<String>,
    /// Include metrics, which reads the row of every block (default: `true`).
    metrics: Option<bool>,
}

/// Returns the limits in force, their sources, the current use and a forecast.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "keeping", params(Asked), responses((status = 200, body = RetentionInfo), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/retention")]
pub(crate) async fn show(caller: Access<ReadAllGrant>, state: AppState, asked: web::Query<Asked>) -> Result<web::Json<RetentionInfo>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        if let Some(dataset) = &asked.dataset {
            state.store.with_catalogue(|catalogue| caller.require(Action::Read, catalogue, dataset).map(|_| ()))?;
        }
        info(state, &caller.visibility(), asked.dataset.as_deref(), asked.metrics.unwrap_or(true))
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Sets the runtime limits of a place.
///
/// With `preview`, returns the effect and changes nothing.
#[utoipa::path(security(("token" = ["define"])), tag = "keeping", request_body = RetentionOrder,
    responses((status = 200, body = RetentionChange), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/retention")]
pub(crate) async fn set(caller: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<RetentionChange>, ApiError> {
    let order: RetentionOrder = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let now = now();
        let dataset = order.place.split("::").next().filter(|name| !name.is_empty()).map(str::to_owned);
        match &dataset {
            Some(dataset) => state.store.with_catalogue(|catalogue| caller.require(Action::Define, catalogue, dataset).map(|_| ()))?,
            None => caller.require_everywhere(Action::Define)?,
        }
        let place = state.store.with_catalogue(|catalogue| place_named(catalogue, &order.place))?;
        let before = state.store.retention().policies();
        let known = if order.reset { LimitSettings::default() } else { state.store.retention().runtime_limits(place) };
        let limits = order.limits.or(known);
        let mut after = before.clone();
        after.live.insert(place, limits);
        let survey = Survey::take(state, now, true)?;
        let expires = expiry_preview(state, &caller.visibility(), &state.store.retention().plan(&after, now)?, &survey.report)?;
        if !order.preview {
            let look = |state: &State| {
                serde_json::to_value(state.store.retention().runtime_limits(place)).map(Some).map_err(|error| ApiError::internal(&error))
            };
            let recorded = Recorded::new(&caller, Subject::Retention, Act::Set, shown_name(order.place.clone()));
            let recorded = if let Some(dataset) = dataset { recorded.of(dataset) } else { recorded };
            recorded.around(state, look, |state| Ok(state.store.retention().set_limits(place, limits, now)?))?;
            let at = if order.place.is_empty() { "the store".to_owned() } else { order.place.clone() };
            let describe =
                |limit: Option<Option<String>>| limit.map_or_else(|| "nothing".to_owned(), |limit| limit.unwrap_or_else(|| "no limit".to_owned()));
            let keep_for = describe(limits.keep_for.map(|limit| limit.map(|limit| limit.to_string())));
            let keep_under = describe(limits.keep_under.map(|limit| limit.map(|limit| limit.to_string())));
            tracing::info!(place = at, keep_for, keep_under, "a runtime retention setting changed");
            if after.differing().contains(&place) && state.config_file.is_some() {
                warn_of_difference(&at);
            }
            state.upkeep_is_due();
        }
        let of = |policies: &Policies| place_info(state, &survey, policies, place);
        Ok(RetentionChange { before: of(&before)?, after: of(&after)?, expires })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Writes runtime settings to the configuration file.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "keeping", responses((status = 200, body = WrittenFile), (status = 403, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/retention/write-file")]
pub(crate) async fn write_file(caller: Access<AdminGrant>, state: AppState) -> Result<web::Json<WrittenFile>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let fault = |text: String| ApiError::new(ProblemKind::Definition, text);
        let Some(file) = &state.config_file else {
            return Err(fault("the service was started without a configuration file: start it with --config FILE".to_owned()));
        };
        let live: BTreeMap<String, LimitSettings> = {
            let policies = state.store.retention().policies();
            state.store.with_catalogue(|catalogue| policies.live.iter().map(|(place, limits)| (name_of(catalogue, *place), *limits)).collect())
        };
        let places: Vec<Scope> = state.store.retention().policies().live.keys().copied().collect();
        let written = file::write_retention(file, &live).map_err(fault)?;
        // The file's word first, so that there is no moment without a limit.
        state.store.retention().set_file(written);
        places.into_iter().try_for_each(|place| state.store.retention().set_limits(place, LimitSettings::default(), now()))?;
        let limits = serde_json::to_value(&live).map_err(|error| ApiError::internal(&error))?;
        Recorded::new(&caller, Subject::Configuration, Act::Written, file.display().to_string()).write(state, None, Some(limits))?;
        Ok(WrittenFile { file: file.display().to_string(), places: live.into_keys().map(shown_name).collect() })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Applies retention now, instead of at the next check.
///
/// With `dry_run`, returns what would expire.
#[utoipa::path(security(("token" = ["define, all datasets"])), tag = "keeping", request_body = Option<ExpiryOrder>, responses((status = 200, body = ExpiryPreview), (status = 403, body = Problem), (status = 409, body = Problem, description = "the clock has leapt")))]
#[post("/api/v1/expire")]
pub(crate) async fn expire(caller: Access<DefineStoreGrant>, state: AppState, body: Body) -> Result<web::Json<ExpiryPreview>, ApiError> {
    let order: ExpiryOrder = if body.is_empty() { ExpiryOrder::default() } else { read_json(&body)? };
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let now = now();
        let report = state.store.inspect().report(now)?;
        let planned = expiry_preview(state, &caller.visibility(), &state.store.retention().plan(&state.store.retention().policies(), now)?, &report)?;
        if order.dry_run {
            return Ok(planned);
        }
        if order.accept_clock {
            state.clock.accept();
        }
        state.clock.check(&state.store)?;
        let done = state.store.retention().expire(now)?;
        let what = json!({ "points": planned.points, "bytes": planned.bytes });
        Recorded::new(&caller, Subject::Retention, Act::Erased, "what has expired").write(state, Some(what), None)?;
        Ok(ExpiryPreview { done: true, is_full: done.is_full, ..planned })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// What a plan would drop of what may be seen, by names and numbers.
fn expiry_preview(state: &State, visibility: &Visibility, plan: &Expiry, report: &StorageReport) -> Result<ExpiryPreview, ApiError> {
    let sees_store = visibility.is_everything();
    let is_seen = |step: &&Step| match step {
        // Which dataset an item of the bin was of is not in the plan.
        Step::EmptyBin { .. } => sees_store,
        Step::Drop { dataset, .. } | Step::Trim { dataset, .. } => {
            state.store.with_catalogue(|catalogue| VisibleCatalogue::new(catalogue, visibility).dataset_by_id(*dataset).is_some())
        }
    };
    let catalogue_name = |place: Scope| state.store.with_catalogue(|catalogue| name_of(catalogue, place));
    let waiting = if sees_store { plan.waiting as u64 } else { 0 };
    let mut departure = ExpiryPreview { is_full: plan.is_full, waiting, ..ExpiryPreview::default() };
    let mut span: Option<(Nanos, Nanos)> = None;
    let mut widen = |first: Nanos, last: Nanos| span = Some(span.map_or((first, last), |(start, end)| (start.min(first), end.max(last))));
    for step in plan.steps.iter().filter(is_seen) {
        let (what, why, bytes, for_good) = match step {
            Step::EmptyBin { id, bytes, why } => (format!("{id} of the bin"), why, *bytes, true),
            Step::Drop { dataset, partition, why, for_good } => {
                let of = report.datasets.iter().find(|size| size.id == *dataset);
                let range = TimeRange { start: partition.start, end: partition.last.saturating_add(1) };
                let is_whole = |size: &&PartitionSize| (size.start, size.last) == (partition.start, partition.last);
                let (points, held) = match of.and_then(|size| size.partitions.iter().find(is_whole)) {
                    Some(size) => (size.points, size.held),
                    // Part of a partition whose span is longer than the limit.
                    None => state.store.bin().held_in(*dataset, range).map(|weight| (weight.points, weight.span))?,
                };
                departure.points += points;
                if let Some((first, last)) = held {
                    widen(first, last);
                }
                departure.metrics.extend(state.store.inspect().metrics_in(*dataset, range)?);
                (format!("{} / {}", catalogue_name(Scope::Dataset(*dataset)), format_day(partition.start)), why, partition.bytes, *for_good)
            }
            Step::Trim { dataset, metric, before, bytes, why } => {
                let name = catalogue_name(Scope::Metric(*dataset, *metric));
                departure.metrics.push(name.clone());
                let weight = state.store.bin().measure_trim(*dataset, *metric, *before)?;
                departure.points += weight.points;
                if let Some((first, last)) = weight.span {
                    widen(first, last);
                }
                (format!("{name} before {}", format_utc(*before)), why, *bytes, *why != fenetre_core::keeping::Why::Age)
            }
        };
        departure.bytes += bytes;
        departure.parts.push(ExpiryItem { what, why: why.describe().to_owned(), bytes, for_good });
    }
    departure.metrics.sort_unstable();
    departure.metrics.dedup();
    departure.span = span.map(|(first, last)| (format_utc(first), format_utc(last)));
    Ok(departure)
}
