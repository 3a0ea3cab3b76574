//! Rollup policies of a dataset, and how far their levels are.

use actix_web::{HttpResponse, delete, get, post, put, web};
use fenetre_access::change::{Act, Subject};
use fenetre_core::{
    model::{DatasetId, RollupLevel, RollupPolicy},
    time::{Nanos, SECOND, format_utc},
};
use fenetre_store::{DatasetSize, LevelLoss, LevelState};
use fenetre_wire::{
    datasets::Defined,
    rollups::{FillOrder, LevelInfo, LevelPreview, PolicyInfo, PolicyNamed, RollupPreview, RollupsInfo},
};
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::IntoParams;

use crate::{
    api::{Body, read_json, rollup_figures as figures},
    changes::Recorded,
    clock::now,
    permission::{Access, DefineGrant, ReadAllGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking_long},
    views::names::find,
};

/// Whether levels are held against points.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct Measure {
    /// Run one query on each level and on points, and compare the times.
    measure: bool,
}

/// Whether something may be lost.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub struct Losing {
    /// Permit the loss of rollups whose points have expired.
    pub accept_loss: bool,
}

/// Lists rollup policies and the state of each level.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "keeping", params(("dataset" = String, Path), Measure),
    responses((status = 200, body = RollupsInfo), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/rollups")]
pub(crate) async fn show(
    _: Access<ReadAllGrant>,
    state: AppState,
    dataset: web::Path<String>,
    asked: web::Query<Measure>,
) -> Result<web::Json<RollupsInfo>, ApiError> {
    blocking_long(&state, move |state| info(state, &dataset, asked.measure)).await.map(web::Json)
}

/// Sets a rollup policy: its metrics, its levels, and how long each level is kept.
///
/// Existing points are backfilled, the newest first. If rollups of expired points would be lost, the call is refused unless `accept_loss=true`.
#[utoipa::path(security(("token" = ["define"])), tag = "keeping", params(("dataset" = String, Path), ("policy" = String, Path), Losing), request_body = RollupPolicy,
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[put("/api/v1/datasets/{dataset}/rollups/{policy}")]
pub(crate) async fn set(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    asked: web::Query<Losing>,
    body: Body,
) -> Result<web::Json<Defined>, ApiError> {
    let policy: RollupPolicy = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        refuse_losses(state, &path, Some(&policy), asked.accept_loss)?;
        let define = |state: &State| Ok(Defined { created: state.store.rollups().put(&path.0, &path.1, &policy)? });
        Recorded::new(&caller, Subject::Rollup, Act::Set, &path.1).of(&path.0).around(state, |state| json_of(state, &path), define)
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Previews a policy: its series and its approximate size.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "keeping", params(("dataset" = String, Path), PolicyNamed), request_body = RollupPolicy,
    responses((status = 200, body = RollupPreview), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/rollups/preview")]
pub(crate) async fn preview(
    _: Access<ReadAllGrant>,
    state: AppState,
    dataset: web::Path<String>,
    asked: web::Query<PolicyNamed>,
    body: Body,
) -> Result<web::Json<RollupPreview>, ApiError> {
    let policy: RollupPolicy = read_json(&body)?;
    blocking_long(&state, move |state| look_ahead(state, &dataset, asked.name.as_deref().unwrap_or("default"), &policy)).await.map(web::Json)
}

/// Resumes or stops backfilling.
#[utoipa::path(security(("token" = ["define"])), tag = "keeping", params(("dataset" = String, Path)), request_body = Option<FillOrder>,
    responses((status = 200, body = RollupsInfo), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/rollups/fill")]
pub(crate) async fn fill(
    caller: Access<DefineGrant>,
    state: AppState,
    dataset: web::Path<String>,
    body: Body,
) -> Result<web::Json<RollupsInfo>, ApiError> {
    let order: FillOrder = if body.is_empty() { FillOrder::default() } else { read_json(&body)? };
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let id = state.store.with_catalogue(|catalogue| find(catalogue, &dataset).map(|dataset| dataset.id))?;
        state.store.rollups().fill(id, !order.stop)?;
        let act = if order.stop { Act::Stopped } else { Act::Filled };
        Recorded::new(&caller, Subject::Rollup, act, &*dataset).of(&*dataset).write(state, None, None)?;
        info(state, &dataset, false)
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Deletes a policy and its rollups.
///
/// Points stay. If rollups of expired points would be lost, the call is refused unless `accept_loss=true`.
#[utoipa::path(security(("token" = ["define"])), tag = "keeping", params(("dataset" = String, Path), ("policy" = String, Path), Losing),
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/api/v1/datasets/{dataset}/rollups/{policy}")]
pub(crate) async fn remove(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    asked: web::Query<Losing>,
) -> Result<HttpResponse, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        refuse_losses(state, &path, None, asked.accept_loss)?;
        let remove = |state: &State| Ok(state.store.rollups().remove(&path.0, &path.1)?);
        Recorded::new(&caller, Subject::Rollup, Act::Removed, &path.1).of(&path.0).around(state, |state| json_of(state, &path), remove)
    };
    blocking_long(&state, work).await.map(|()| HttpResponse::NoContent().finish())
}

/// A policy as JSON, for the record of changes.
fn json_of(state: &State, (dataset, name): &(String, String)) -> Result<Option<Value>, ApiError> {
    let policy = state.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(dataset)?.rollups.get(name).cloned());
    policy.map(serde_json::to_value).transpose().map_err(|error| ApiError::internal(&error))
}

/// A change that would lose windows of expired points needs consent.
fn refuse_losses(state: &State, (dataset, name): &(String, String), after: Option<&RollupPolicy>, accept_loss: bool) -> Result<(), ApiError> {
    let losses = if accept_loss { Vec::new() } else { losses(state, dataset, name, after)? };
    let text = || format!("{}. Add `accept_loss=true` to let that go, or make a policy of another name", losses.join("; "));
    if losses.is_empty() { Ok(()) } else { Err(ApiError::new(ProblemKind::Definition, text())) }
}

fn info(state: &State, dataset: &str, measure: bool) -> Result<RollupsInfo, ApiError> {
    let now = now();
    let (id, name, policies) = {
        state.store.with_catalogue(|catalogue| {
            let dataset = find(catalogue, dataset)?;
            let metrics = |policy: &RollupPolicy| {
                dataset.metrics().filter(|metric| policy.takes(metric)).map(|metric| metric.name.to_string()).collect::<Vec<_>>()
            };
            let policies: Vec<(String, RollupPolicy, Vec<String>)> =
                dataset.rollups.iter().map(|(name, policy)| (name.clone(), policy.clone(), metrics(policy))).collect();
            Ok::<_, ApiError>((dataset.id, dataset.name.to_string(), policies))
        })?
    };
    let (status, levels) = state.store.rollups().state(id)?;
    let size = dataset_size(state, id, &name)?;
    let mut infos = Vec::with_capacity(policies.len());
    for (policy_name, policy, metrics) in policies {
        let (mut of, pace) = (Vec::new(), figures::pace(state, &size, &policy)?);
        for level in levels.iter().filter(|level| level.policy == policy_name) {
            let mut one = level_info(level, now);
            one.smaller = figures::level_size(&size.levels, level).filter(|_| pace.bytes > 0.0).map(|size| pace.bytes / size.bytes_a_day);
            if measure {
                (one.faster, one.measured) = figures::measure(state, &name, level, &metrics, now).unzip();
            }
            of.push(one);
        }
        let losses = losses(state, &name, &policy_name, None)?;
        infos.push(PolicyInfo { name: policy_name, policy, metrics, levels: of, losses });
    }
    Ok(RollupsInfo {
        policies: infos,
        windows_made: status.made,
        made_again: status.made_again,
        fill_stopped: status.fill_stopped,
        failure: status.failure,
    })
}

fn dataset_size(state: &State, id: DatasetId, name: &str) -> Result<DatasetSize, ApiError> {
    let found = state.store.inspect().report(now())?.datasets.into_iter().find(|size| size.id == id);
    // It was deleted meanwhile.
    found.ok_or_else(|| ApiError::new(ProblemKind::NoDataset, format!("there is no dataset `{name}`")))
}

fn level_info(level: &LevelState, now: Nanos) -> LevelInfo {
    let covered = level.covered.filter(|covered| !covered.is_empty());
    let first = level.first.unwrap_or(now);
    let kept = level.keep_for.map_or(Nanos::MIN, |span| span.before(now, &TimeZone::UTC));
    let all = now.saturating_sub(first.max(kept)).max(1) as f64;
    let filled = covered.map_or(0.0, |covered| covered.end.saturating_sub(covered.start.max(first)).max(0) as f64 / all);
    LevelInfo {
        width: level.width.to_string(),
        keep_for: level.keep_for.map(|span| span.to_string()),
        from: covered.map(|covered| covered.start).filter(|start| *start != Nanos::MIN).map(format_utc),
        until: covered.map(|covered| format_utc(covered.end)),
        // A window that is not closed yet is not missing.
        filled: if filled > 0.0 && covered.is_some_and(|covered| covered.start <= first.max(kept)) { 1.0 } else { filled.min(1.0) },
        waiting_points: level.waiting,
        lag_seconds: covered.map_or(0.0, |covered| now.saturating_sub(covered.end).max(0) as f64 / SECOND as f64),
        out_of_date: level.out_of_date,
        series: level.series,
        windows: level.windows,
        bytes: level.bytes,
        smaller: None,
        faster: None,
        measured: None,
    }
}

fn losses(state: &State, dataset: &str, name: &str, after: Option<&RollupPolicy>) -> Result<Vec<String>, ApiError> {
    let describe = |loss: LevelLoss| {
        let (from, points_from) = (format_utc(loss.from), format_utc(loss.points_from));
        format!("the level {} of {name} would be lost for good: it covers the time from {from}, but points only go back to {points_from}", loss.width)
    };
    Ok(state.store.rollups().losses(dataset, name, after)?.into_iter().map(describe).collect())
}

fn look_ahead(state: &State, dataset_name: &str, name: &str, policy: &RollupPolicy) -> Result<RollupPreview, ApiError> {
    policy.check().map_err(|error| ApiError::new(ProblemKind::Request, error.to_string()))?;
    let (id, metrics, series) = {
        state.store.with_catalogue(|catalogue| {
            let dataset = find(catalogue, dataset_name)?;
            let taken: Vec<_> = dataset.metrics().filter(|metric| policy.takes(metric)).collect();
            let series = taken.iter().map(|metric| policy.members(dataset, metric).len()).sum::<u64>();
            Ok::<_, ApiError>((dataset.id, taken.iter().map(|metric| metric.name.to_string()).collect(), series))
        })?
    };
    let (_, known) = state.store.rollups().state(id)?;
    let size = dataset_size(state, id, dataset_name)?;
    let pace = figures::pace(state, &size, policy)?;
    let level = |level: &RollupLevel| {
        // A window without points is not written down.
        let windows_a_day = (series as f64 / figures::days(level.width)).min(if pace.points > 0.0 { pace.points } else { f64::INFINITY });
        let bytes_a_day = windows_a_day * figures::bytes_of_window(level.width, &known, &size.levels);
        LevelPreview {
            width: level.width.to_string(),
            keep_for: level.keep_for.map(|span| span.to_string()),
            windows_a_day: windows_a_day.round() as u64,
            points_each: (pace.points > 0.0).then_some(pace.points / windows_a_day),
            smaller: (pace.bytes > 0.0).then_some(pace.bytes / bytes_a_day),
            bytes_a_day: bytes_a_day as u64,
            at_rest: (bytes_a_day * level.keep_for.map_or(365.0, figures::days)) as u64,
        }
    };
    Ok(RollupPreview { metrics, series, levels: policy.levels.iter().map(level).collect(), losses: losses(state, dataset_name, name, Some(policy))? })
}
