//! Sources: defined, tried, watched and controlled.

use actix_web::{HttpResponse, delete, get, post, put, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::{
    catalogue::Catalogue,
    time::{Nanos, format_utc},
};
use fenetre_flows::{
    arrivals::sender::{Sender, Sent},
    definition::{Definition, examples},
    events::Event,
    supervisor::{SourceStatus, is_late},
};
use fenetre_wire::{
    flows::{DefinedFlow, FlowDifference, FlowEvent, FlowExample},
    sources::{PushingCaller, SourceInfo, SourceSeries, SourceTrial, Trouble, TroubledSeries},
};
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    api::Body,
    changes::Recorded,
    clock::now,
    permission::{Access, AdminGrant, ReadAllGrant},
    problem::{ApiError, Problem, ProblemKind},
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
    web::Json(examples::all().map(|(kind, definition)| FlowExample { kind: kind.to_owned(), definition: definition.to_owned() }).collect())
}

/// Returns a source.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", params(("source" = String, Path)), responses((status = 200, body = SourceInfo), (status = 404, body = Problem)))]
#[get("/api/v1/sources/{source}")]
pub(crate) async fn show(caller: Access<ReadAllGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<SourceInfo>, ApiError> {
    let caller = caller.into_caller();
    blocking(&state, move |state| find(state, &caller, &name).and_then(|status| info(state, status, now()))).await.map(web::Json)
}

/// Lists the latest events of a source.
#[utoipa::path(security(("token" = ["read, all metrics"])), tag = "sources", params(("source" = String, Path)), responses((status = 200, body = [FlowEvent]), (status = 404, body = Problem)))]
#[get("/api/v1/sources/{source}/events")]
pub(crate) async fn events(caller: Access<ReadAllGrant>, state: AppState, name: web::Path<String>) -> Result<web::Json<Vec<FlowEvent>>, ApiError> {
    find(&state, &caller, &name)?;
    let events = state.sources.events(&name, usize::MAX).map_err(|error| missing(&error))?;
    Ok(web::Json(events.into_iter().map(event).collect()))
}

/// How to define a source or a sink.
#[derive(Clone, Copy, Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct DefineHow {
    /// Return the differences, and change nothing.
    #[serde(default)]
    pub dry_run: bool,
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
    let definition = definition_of(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let difference = state.sources.compare(&name, &definition)?;
        let before = json_of(state, &name)?;
        let after = serde_json::to_value(&definition).map_err(|error| ApiError::internal(&error))?;
        if !how.dry_run && difference != FlowDifference::None {
            let dataset = definition.dataset().to_owned();
            state.sources.put(&name, definition)?;
            let recorded = Recorded::new(&caller, Subject::Source, Act::Defined, &*name).of(dataset);
            recorded.write(state, before.clone(), json_of(state, &name)?)?;
        }
        Ok(DefinedFlow { difference, before, after })
    };
    blocking(&state, work).await.map(web::Json)
}

/// Takes one round of a definition, and stores nothing.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", request_body(content((Value = "application/json"), (String = "application/toml"))),
    responses((status = 200, body = SourceTrial), (status = 400, body = Problem), (status = 409, body = Problem, description = "the round failed")))]
#[post("/api/v1/sources/try")]
pub(crate) async fn attempt(_: Access<AdminGrant>, state: AppState, body: Body) -> Result<web::Json<SourceTrial>, ApiError> {
    let definition = definition_of(&body)?;
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
    change(caller.into_caller(), &state, name.into_inner(), Act::Removed, |state, name| state.sources.remove(name)).await
}

/// Pauses a source until it is resumed.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sources/{source}/pause")]
pub(crate) async fn pause(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change(caller.into_caller(), &state, name.into_inner(), Act::Suspended, |state, name| state.sources.set_paused(name, true)).await
}

/// Resumes a paused source.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sources/{source}/resume")]
pub(crate) async fn resume(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change(caller.into_caller(), &state, name.into_inner(), Act::Resumed, |state, name| state.sources.set_paused(name, false)).await
}

/// Begins the next round of a source at once.
#[utoipa::path(security(("token" = ["admin, all datasets"])), tag = "sources", params(("source" = String, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/v1/sources/{source}/run")]
pub(crate) async fn run(caller: Access<AdminGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    change(caller.into_caller(), &state, name.into_inner(), Act::Started, |state, name| state.sources.run_now(name)).await
}

async fn change(
    caller: Caller,
    state: &AppState,
    name: String,
    act: Act,
    work: impl FnOnce(&State, &str) -> Result<(), fenetre_flows::FlowError> + Send + 'static,
) -> Result<HttpResponse, ApiError> {
    let work = move |state: &State| {
        let status = state.sources.status(&name).map_err(|error| missing(&error))?;
        let dataset = status.definition.dataset().to_owned();
        let recorded = Recorded::new(&caller, Subject::Source, act, &name).of(dataset);
        recorded.around(state, |state| json_of(state, &name), |state| Ok(work(state, &name)?))
    };
    blocking(state, work).await.map(|()| HttpResponse::NoContent().finish())
}

fn definition_of(body: &[u8]) -> Result<Definition, ApiError> {
    let text = std::str::from_utf8(body).map_err(|_| ApiError::new(ProblemKind::Request, "the definition is not UTF-8"))?;
    Ok(Definition::parse(text, "definition")?)
}

/// A definition as JSON, for the record of changes.
fn json_of(state: &State, name: &str) -> Result<Option<Value>, ApiError> {
    let definition = state.sources.status(name).ok().map(|status| status.definition);
    definition.map(serde_json::to_value).transpose().map_err(|error| ApiError::internal(&error))
}

fn missing(error: &fenetre_flows::FlowError) -> ApiError {
    ApiError::new(ProblemKind::NotFound, error.to_string())
}

/// Whether a caller may see a source or a sink of a dataset.
pub(crate) fn may_see(state: &State, caller: &Caller, dataset: &str) -> bool {
    state.store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset_by_any_name(dataset);
        // If the dataset has been removed, only callers that may read all datasets see its source.
        dataset.map_or_else(|| caller.may_everywhere(Action::Read), |dataset| caller.may(Action::Read, catalogue, dataset))
    })
}

fn find(state: &State, caller: &Caller, name: &str) -> Result<SourceStatus, ApiError> {
    let status = state.sources.status(name).ok().filter(|status| may_see(state, caller, status.definition.dataset()));
    status.ok_or_else(|| ApiError::new(ProblemKind::NotFound, format!("there is no source `{name}`: `fenetre source list` shows them")))
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

pub(crate) fn event(event: Event) -> FlowEvent {
    let Event { first, last, count, is_failure, text } = event;
    FlowEvent { first: format_utc(first), last: format_utc(last), count, is_failure, text }
}
