//! Sinks: defined, tried, watched and controlled.

use std::io::Read;

use actix_web::{HttpResponse, delete, get, post, put, web};
use fenetre_access::change::Act;
use fenetre_core::{
    plan,
    time::{Nanos, SECOND, TimeRange, format_utc},
};
use fenetre_flows::{
    FlowError,
    sinks::{
        definition::{SinkDefinition, examples},
        supervisor::SinkStatus,
    },
};
use fenetre_wire::{
    flows::{DefinedFlow, FlowEvent, FlowExample},
    sinks::{AsideBatch, SinkGap, SinkInfo, SinkRange, SinkTrial, SinkVerification},
};

use super::flows::{DefineHow, change, define, definition_of, events, examples as listed, may_see, missing, seen};
use crate::{
    api::{Body, read_json},
    clock::now,
    permission::{Access, AdminGrant, ReadAllGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking, blocking_long},
};

/// Lists the sinks with their state.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sinks", responses((status = 200, body = [SinkInfo])))]
#[get("/api/v1/sinks")]
pub(crate) async fn list(caller: Access<ReadAllGrant>, state: AppState) -> Result<web::Json<Vec<SinkInfo>>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let now = now();
        let seen = state.sinks.all()?.into_iter().filter(|status| may_see(state, &caller, status.definition.dataset()));
        seen.map(|status| info(status, now)).collect()
    };
    blocking(&state, work).await.map(web::Json)
}

/// Lists a definition of each kind, to start from.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sinks", responses((status = 200, body = [FlowExample])))]
#[get("/api/v1/sink-examples")]
pub(crate) async fn list_examples(_: Access<ReadAllGrant>) -> web::Json<Vec<FlowExample>> {
    web::Json(listed(examples::all()))
}

/// Returns a sink.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 200, body = SinkInfo), (status = 404, body = Problem)))]
#[get("/api/v1/sinks/{sink}")]
pub(crate) async fn show(caller: Access<ReadAllGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<SinkInfo>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        seen::<SinkDefinition>(state, &caller, &name)?;
        info(state.sinks.status(&name)?, now())
    };
    blocking(&state, work).await.map(web::Json)
}

/// Lists the latest events of a sink.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 200, body = [FlowEvent]), (status = 404, body = Problem)))]
#[get("/api/v1/sinks/{sink}/events")]
pub(crate) async fn list_events(
    caller: Access<ReadAllGrant>,
    state: AppState,
    name: web::Path<String>,
) -> Result<web::Json<Vec<FlowEvent>>, ApiError> {
    seen::<SinkDefinition>(&state, &caller, &name)?;
    Ok(web::Json(events(state.sinks.events(&name, usize::MAX)?)))
}

/// Defines a sink in JSON or TOML, and starts it. If the definition has not changed, the sink keeps running.
///
/// A sink connects from the machine of the service and writes its files, so this needs the grant of an administrator.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path), DefineHow), request_body(content((Value = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = DefinedFlow), (status = 400, body = Problem), (status = 404, body = Problem)))]
#[put("/api/v1/sinks/{sink}")]
pub(crate) async fn put(
    caller: Access<AdminGrant>,
    state: AppState,
    name: web::Path<String>,
    how: web::Query<DefineHow>,
    body: Body,
) -> Result<web::Json<DefinedFlow>, ApiError> {
    let (definition, caller) = (definition_of::<SinkDefinition>(&body)?, caller.into_caller());
    blocking_long(&state, move |state| define(state, &caller, &name, *how, definition)).await.map(web::Json)
}

/// Shows the latest points of a definition as they would be sent, and sends nothing.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", request_body(content((Value = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = SinkTrial), (status = 400, body = Problem), (status = 409, body = Problem, description = "the destination does not answer")))]
#[post("/api/v1/sinks/try")]
pub(crate) async fn attempt(_: Access<AdminGrant>, state: AppState, body: Body) -> Result<web::Json<SinkTrial>, ApiError> {
    let definition = definition_of::<SinkDefinition>(&body)?;
    blocking_long(&state, move |state| Ok(state.sinks.attempt(&definition)?)).await.map(web::Json)
}

/// Removes a sink. The points that it has sent stay.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 204), (status = 400, body = Problem, description = "batches are set aside"), (status = 404, body = Problem)))]
#[delete("/api/v1/sinks/{sink}")]
pub(crate) async fn remove(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<SinkDefinition>(caller.into_caller(), &state, name.into_inner(), Act::Removed, |state, name| state.sinks.remove(name)).await
}

/// Pauses a sink until it is resumed. Points that arrive in between are sent then.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sinks/{sink}/pause")]
pub(crate) async fn pause(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<SinkDefinition>(caller.into_caller(), &state, name.into_inner(), Act::Suspended, |state, name| state.sinks.set_paused(name, true)).await
}

/// Resumes a paused sink.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sinks/{sink}/resume")]
pub(crate) async fn resume(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<SinkDefinition>(caller.into_caller(), &state, name.into_inner(), Act::Resumed, |state, name| state.sinks.set_paused(name, false)).await
}

/// Sends the points of a time range again.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path)), request_body = SinkRange,
    responses((status = 204), (status = 400, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/sinks/{sink}/replay")]
pub(crate) async fn replay(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>, body: Body) -> Result<HttpResponse, ApiError> {
    let SinkRange { over } = read_json(&body)?;
    let work = move |state: &State, name: &str| {
        let range = range_of(state, name, &over)?;
        state.sinks.replay(name, range)
    };
    change::<SinkDefinition>(caller.into_caller(), &state, name.into_inner(), Act::Started, work).await
}

/// Compares counts and sums per window with those of the destination.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path)), request_body = SinkRange,
    responses((status = 200, body = SinkVerification), (status = 400, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem, description = "the destination does not answer")))]
#[post("/api/v1/sinks/{sink}/verify")]
pub(crate) async fn verify(
    caller: Access<AdminGrant>,
    state: AppState,
    name: web::Path<String>,
    body: Body,
) -> Result<web::Json<SinkVerification>, ApiError> {
    let SinkRange { over } = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        seen::<SinkDefinition>(state, &caller, &name)?;
        let range = range_of(state, &name, &over)?;
        let range = TimeRange { end: range.end.min(now()), ..range };
        Ok(state.sinks.verify(&name, range, window_for(range))?)
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Sends the batches of a sink again that were set aside.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sinks/{sink}/resend")]
pub(crate) async fn resend(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change::<SinkDefinition>(caller.into_caller(), &state, name.into_inner(), Act::Started, |state, name| state.sinks.resend(name)).await
}

/// Lists the batches of a sink that were set aside.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sinks", params(("sink" = String, Path)), responses((status = 200, body = [AsideBatch]), (status = 404, body = Problem)))]
#[get("/api/v1/sinks/{sink}/aside")]
pub(crate) async fn list_aside(
    caller: Access<ReadAllGrant>,
    state: AppState,
    name: web::Path<String>,
) -> Result<web::Json<Vec<AsideBatch>>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        seen::<SinkDefinition>(state, &caller, &name)?;
        Ok(state.sinks.aside(&name)?.list(&name)?)
    };
    blocking_long(&state, work).await.map(web::Json)
}

/// Returns the points of a batch that was set aside, an object per line.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sinks", params(("sink" = String, Path), ("batch" = u64, Path)),
    responses((status = 200, body = String, content_type = "application/x-ndjson"), (status = 404, body = Problem)))]
#[get("/api/v1/sinks/{sink}/aside/{batch}")]
pub(crate) async fn show_aside(caller: Access<ReadAllGrant>, state: AppState, path: web::Path<(String, u64)>) -> Result<HttpResponse, ApiError> {
    let ((name, id), caller) = (path.into_inner(), caller.into_caller());
    let work = move |state: &State| {
        seen::<SinkDefinition>(state, &caller, &name)?;
        let mut lines = state.sinks.aside(&name)?.lines(&name, id).map_err(|error| missing(&error))?;
        let mut text = Vec::new();
        lines.read_to_end(&mut text).map_err(|error| ApiError::internal(&error))?;
        Ok(text)
    };
    let text = blocking_long(&state, work).await?;
    Ok(HttpResponse::Ok().content_type("application/x-ndjson").body(text))
}

/// Removes a batch that was set aside. Its points are not sent.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sinks", params(("sink" = String, Path), ("batch" = u64, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/v1/sinks/{sink}/aside/{batch}")]
pub(crate) async fn remove_aside(caller: Access<AdminGrant>, state: AppState, path: web::Path<(String, u64)>) -> Result<HttpResponse, ApiError> {
    let (name, id) = path.into_inner();
    let work = move |state: &State, name: &str| state.sinks.aside(name)?.remove(name, id);
    change::<SinkDefinition>(caller.into_caller(), &state, name, Act::Erased, work).await
}

/// The range that a text names, in the zone of the dataset.
fn range_of(state: &State, name: &str, over: &str) -> Result<TimeRange, FlowError> {
    let dataset = state.sinks.definition(name)?.dataset().to_owned();
    let zone = state.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(&dataset).map(|dataset| dataset.definition.zone.clone()));
    let fault = |error| FlowError::Definition(format!("over `{over}`: {error}"));
    plan::range_of(over, zone.as_deref().unwrap_or("UTC"), now()).map_err(fault)
}

/// The width of windows that divide a range into at most some thousand parts.
fn window_for(range: TimeRange) -> Nanos {
    let length = range.end.saturating_sub(range.start);
    [60, 600, 3_600, 86_400].into_iter().map(|seconds| seconds * SECOND).find(|width| length / width <= MAX_WINDOWS).unwrap_or(7 * 86_400 * SECOND)
}

/// Number of windows of a comparison.
const MAX_WINDOWS: i64 = 1_500;

fn info(status: SinkStatus, now: Nanos) -> Result<SinkInfo, ApiError> {
    let SinkStatus { name, definition, state, next, figures, behind, gaps, set_aside } = status;
    let (error, failing_since) = figures.failing.map(|(error, since)| (error, format_utc(since))).unzip();
    let second = now.div_euclid(SECOND);
    let sent: u64 = figures.per_second.of(second - 60..second).map(|counted| counted.accepted).sum();
    Ok(SinkInfo {
        name,
        kind: definition.kind().to_owned(),
        dataset: definition.dataset().to_owned(),
        destination: definition.destination(),
        state,
        error,
        failing_since,
        next: next.map(super::jobs::text),
        points: figures.points,
        points_per_second: sent as f64 / 60.0,
        batches: figures.batches,
        bytes: figures.bytes,
        rejected: figures.rejected,
        rejects: figures.samples.into(),
        last_sent: figures.last_sent.map(format_utc),
        behind,
        gaps: gaps.into_iter().map(|gap| SinkGap { from: format_utc(gap.range().start), to: format_utc(gap.range().end) }).collect(),
        set_aside,
        definition: serde_json::to_value(&definition).map_err(|error| ApiError::internal(&error))?,
    })
}
