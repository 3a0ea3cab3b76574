//! Sources: defined, tried, watched and controlled.

use actix_web::{HttpResponse, delete, get, post, put, web};
use fenetre_access::change::Act;
use fenetre_core::{
    catalogue::Catalogue,
    time::{Nanos, format_utc},
};
use fenetre_flows::{
    arrivals::sender::{Sender, Sent},
    definition::{Definition, examples},
    supervisor::{SourceStatus, is_late},
};
use fenetre_wire::{
    flows::{DefinedFlow, FlowEvent, FlowExample},
    sources::{PushingCaller, SourceInfo, SourceSeries, SourceTrial, Trouble, TroubledSeries},
};

use super::flows::{DefineHow, change, define, definition_of, events, examples as listed, may_see, seen};
use crate::{
    api::Body,
    clock::now,
    permission::{Access, AdminGrant, ReadAllGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking, blocking_long},
    views::names::text_tags,
};

/// Points that a trial shows.
const SHOWN: usize = 20;

/// Lists the sources with their state.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", responses((status = 200, body = [SourceInfo])))]
#[get("/api/v1/sources")]
pub(crate) async fn list(caller: Access<ReadAllGrant>, state: AppState) -> Result<web::Json<Vec<SourceInfo>>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let now = now();
        let all = state.sources.all().into_iter().filter(|status| may_see(state, &caller, status.definition.dataset()));
        all.map(|status| info(state, status, now)).collect()
    };
    blocking(&state, work).await.map(web::Json)
}

/// Lists the callers that have pushed points since the start of the service.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", responses((status = 200, body = [PushingCaller])))]
#[get("/api/v1/pushing-callers")]
pub(crate) async fn list_callers(caller: Access<ReadAllGrant>, state: AppState) -> web::Json<Vec<PushingCaller>> {
    let now = now();
    let pushing = state.intake.arrivals.senders().into_iter().filter(|(key, _)| matches!(key.1, Sender::Push(_) | Sender::Otlp(_)));
    let seen = pushing.filter(|((dataset, _), _)| may_see(&state, &caller, dataset));
    let info = |((dataset, sender), sent): ((String, Sender), Sent)| PushingCaller {
        kind: sender.source().to_owned(),
        token: sender.token().map(str::to_owned),
        dataset,
        points: sent.accepted,
        points_per_second: sent.rate(now),
        rejected: sent.rejected,
        last_points: sent.last().map(format_utc),
    };
    web::Json(seen.map(info).collect())
}

/// Lists a definition of each kind, to start from.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", responses((status = 200, body = [FlowExample])))]
#[get("/api/v1/source-examples")]
pub(crate) async fn list_examples(_: Access<ReadAllGrant>) -> web::Json<Vec<FlowExample>> {
    web::Json(listed(examples::all()))
}

/// Returns a source.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", params(("source" = String, Path)), responses((status = 200, body = SourceInfo), (status = 404, body = Problem)))]
#[get("/api/v1/sources/{source}")]
pub(crate) async fn show(caller: Access<ReadAllGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<SourceInfo>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        seen::<Definition>(state, &caller, &name)?;
        info(state, state.sources.status(&name)?, now())
    };
    blocking(&state, work).await.map(web::Json)
}

/// Lists the latest events of a source.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", params(("source" = String, Path)), responses((status = 200, body = [FlowEvent]), (status = 404, body = Problem)))]
#[get("/api/v1/sources/{source}/events")]
pub(crate) async fn list_events(
    caller: Access<ReadAllGrant>,
    state: AppState,
    name: web::Path<String>,
) -> Result<web::Json<Vec<FlowEvent>>, ApiError> {
    seen::<Definition>(&state, &caller, &name)?;
    Ok(web::Json(events(state.sources.events(&name, usize::MAX)?)))
}

/// Defines a source in JSON or TOML, and starts it. If the definition has not changed, the source keeps running.
///
/// A source connects from the machine of the service and reads its files, so this needs the grant of an administrator.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path), DefineHow), request_body(content((Value = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = DefinedFlow), (status = 400, body = Problem), (status = 404, body = Problem)))]
#[put("/api/v1/sources/{source}")]
pub(crate) async fn put(
    caller: Access<AdminGrant>,
    state: AppState,
    name: web::Path<String>,
    how: web::Query<DefineHow>,
    body: Body,
) -> Result<web::Json<DefinedFlow>, ApiError> {
    let (definition, caller) = (definition_of::<Definition>(&body)?, caller.into_caller());
    blocking(&state, move |state| define(state, &caller, &name, *how, definition)).await.map(web::Json)
}

/// Takes one round of a definition, and stores nothing.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", request_body(content((Value = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = SourceTrial), (status = 400, body = Problem), (status = 409, body = Problem, description = "the round failed")))]
#[post("/api/v1/sources/try")]
pub(crate) async fn attempt(_: Access<AdminGrant>, state: AppState, body: Body) -> Result<web::Json<SourceTrial>, ApiError> {
    let definition = definition_of::<Definition>(&body)?;
    let work = move |state: &State| {
        let (outcome, _) = state.sources.attempt(&definition, SHOWN)?;
        let fenetre_flows::sources::Outcome { points, rejects, sample, parts, sent, .. } = outcome;
        Ok(SourceTrial { points, rejected: rejects.count(), rejects: rejects.list(), sample, parts, sent })
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Removes a source. Its points stay.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/v1/sources/{source}")]
pub(crate) async fn remove(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<Definition>(caller.into_caller(), &state, name.into_inner(), Act::Removed, |state, name| state.sources.remove(name)).await
}

/// Pauses a source until it is resumed.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sources/{source}/pause")]
pub(crate) async fn pause(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<Definition>(caller.into_caller(), &state, name.into_inner(), Act::Suspended, |state, name| state.sources.set_paused(name, true)).await
}

/// Resumes a paused source.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sources/{source}/resume")]
pub(crate) async fn resume(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<Definition>(caller.into_caller(), &state, name.into_inner(), Act::Resumed, |state, name| state.sources.set_paused(name, false)).await
}

/// Begins the next round of a source at once.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sources/{source}/run")]
pub(crate) async fn run(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<Definition>(caller.into_caller(), &state, name.into_inner(), Act::Started, |state, name| state.sources.run_now(name)).await
}

fn info(state: &State, status: SourceStatus, now: Nanos) -> Result<SourceInfo, ApiError> {
    let is_late = is_late(&status, now);
    let sent = state.intake.arrivals.sent(status.definition.dataset(), &Sender::Source(status.name.clone()));
    let series = state.store.with_catalogue(|catalogue| series_of(state, catalogue, &status.name, status.definition.dataset()))?;
    let SourceStatus { name, definition, state, next, figures } = status;
    let (error, failing_since) = figures.failing.map(|(error, since)| (error, format_utc(since))).unzip();
    Ok(SourceInfo {
        name,
        kind: definition.kind().to_owned(),
        dataset: definition.dataset().to_owned(),
        state,
        error,
        failing_since,
        next: next.map(super::jobs::text),
        rounds: figures.rounds,
        round_seconds: figures.round_seconds,
        points: figures.points,
        points_per_second: sent.rate(now),
        rejected: figures.rejects.count(),
        rejects: figures.rejects.list(),
        bytes: figures.bytes,
        last_points: figures.last_points.map(format_utc),
        series,
        is_late,
        sent: figures.sent,
        parts: figures.parts,
        definition: serde_json::to_value(&definition).map_err(|error| ApiError::internal(&error))?,
    })
}

/// Maximum number of listed series for each kind of trouble.
const MAX_LISTED: usize = 20;

/// The series of a source, and those in trouble.
fn series_of(state: &State, catalogue: &Catalogue, source: &str, dataset: &str) -> Result<SourceSeries, ApiError> {
    let watched = state.sources.series(source, catalogue)?;
    let dataset = catalogue.dataset_by_any_name(dataset);
    let listed = [Trouble::Stale, Trouble::Stuck, Trouble::ClockOff].into_iter().flat_map(|trouble| {
        let of_kind = watched.troubled.iter().filter(move |troubled| troubled.trouble == trouble);
        of_kind.take(MAX_LISTED).filter_map(|troubled| {
            let series = dataset?.series(troubled.series)?;
            Some(TroubledSeries { metric: series.metric.to_string(), tags: text_tags(&series.tags), trouble: troubled.described(source) })
        })
    });
    let count = |trouble: Trouble| watched.count_of(trouble) as u64;
    Ok(SourceSeries {
        watched: watched.count as u64,
        is_full: watched.is_full,
        stale: count(Trouble::Stale),
        stuck: count(Trouble::Stuck),
        clock_off: count(Trouble::ClockOff),
        troubled: listed.collect(),
    })
}
