//! Queries: answers, checks, plans and completions.

use std::{
    hash::{BuildHasher, BuildHasherDefault, DefaultHasher},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

use actix_web::{HttpRequest, HttpResponse, get, http::header, post, web};
use fenetre_columnar::{write_arrow, write_parquet};
use fenetre_core::{
    completion,
    evaluate::{EvaluateError, read, sources},
    plan::{Plan, Take, plan},
    query::{self, Frame, Query},
    time::TimeRange,
    visibility::VisibleCatalogue,
};
use fenetre_formats::{
    document::{AnswerDocument, StagesDocument, milliseconds},
    plan_document::PlanDocument,
    tables::{csv_parts, json_line_parts},
};
use fenetre_store::Selection;
use fenetre_wire::ask::{Checked, Completions, Question, Typing};
use serde::Deserialize;

use super::{Body, read_json};
use crate::{
    access::caller::Caller,
    clock::now,
    http::connection::{CancelOnDrop, while_there},
    permission::{Access, ReadGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking, in_lane, in_turn},
};

/// The text of a question: its own, or that of its tree.
fn query_text(question: &Question) -> Result<String, ApiError> {
    let Some(tree) = &question.tree else { return Ok(question.query.clone()) };
    if !question.query.is_empty() {
        return Err(ApiError::new(ProblemKind::Request, "a question has a `query` or a `tree`, not both"));
    }
    let tree = Query::deserialize(tree).map_err(|error| ApiError::new(ProblemKind::Request, format!("tree: {error}")))?;
    Ok(query::format(&tree))
}

/// Answers a query.
///
/// `Accept` selects the format: JSON (default), `text/csv`, `application/x-ndjson`, `application/vnd.apache.arrow.stream` or
/// `application/vnd.apache.parquet`.
#[utoipa::path(security(("token" = ["read"])), tag = "ask", params(("dataset" = String, Path), Question),
    responses((status = 200, body = AnswerDocument), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 500, body = Problem), (status = 503, body = Problem), (status = 504, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/ask")]
pub(crate) async fn get(
    caller: Access<ReadGrant>,
    state: AppState,
    dataset: web::Path<String>,
    question: web::Query<Question>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    answer(&state, caller.into_caller(), dataset.into_inner(), question.into_inner(), &request).await
}

/// Answers a query.
///
/// `Accept` selects the format: JSON (default), `text/csv`, `application/x-ndjson`, `application/vnd.apache.arrow.stream` or
/// `application/vnd.apache.parquet`.
#[utoipa::path(security(("token" = ["read"])), tag = "ask", params(("dataset" = String, Path)), request_body = Question,
    responses((status = 200, body = AnswerDocument), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 500, body = Problem), (status = 503, body = Problem), (status = 504, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/ask")]
pub(crate) async fn post(
    caller: Access<ReadGrant>,
    state: AppState,
    dataset: web::Path<String>,
    body: Body,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    answer(&state, caller.into_caller(), dataset.into_inner(), read_json(&body)?, &request).await
}

/// Checks a query without running it.
///
/// For editors, which call this while somebody types. A text is returned as a tree, a tree as a text.
#[utoipa::path(security(("token" = ["read"])), tag = "ask", params(("dataset" = String, Path)), request_body = Question,
    responses((status = 200, body = Checked), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/ask/check")]
pub(crate) async fn check(
    caller: Access<ReadGrant>,
    state: AppState,
    dataset: web::Path<String>,
    body: Body,
) -> Result<web::Json<Checked>, ApiError> {
    let question: Question = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let parsed = query::parse(&query_text(&question)?).ok();
        let tree = parsed.as_ref().map(serde_json::to_value).transpose().map_err(|error| ApiError::internal(&error))?;
        let problem = prepare(state, &caller, &dataset, &question).err().map(ApiError::into_problem);
        Ok(Checked { canonical: parsed.as_ref().map(query::format), tree, problem })
    };
    blocking(&state, work).await.map(web::Json)
}

/// Explains what a query would read and compute, without running it.
#[utoipa::path(security(("token" = ["read"])), tag = "ask", params(("dataset" = String, Path)), request_body = Question,
    responses((status = 200, body = PlanDocument), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/ask/explain")]
pub(crate) async fn explain(
    caller: Access<ReadGrant>,
    state: AppState,
    dataset: web::Path<String>,
    body: Body,
) -> Result<web::Json<PlanDocument>, ApiError> {
    let question: Question = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let (plan, text) = prepare(state, &caller, &dataset, &question)?;
        let canonical = query::parse(&text).map_or_else(|_| text.clone(), |query| query::format(&query));
        let parts = sources(&plan, &state.store.source());
        let mut document = PlanDocument::of(&plan, canonical, &parts);
        for (leaf, read) in plan.leaves.iter().zip(&mut document.reads) {
            if let Some(range) = range_of(&plan, leaf.take == Take::Moment) {
                let series = leaf.lines.iter().flat_map(|line| &line.series).map(|series| series.id).collect();
                // To look must change nothing: what waits in memory stays there.
                let weight = state.store.bin().estimate(&Selection { dataset: leaf.dataset, series, range })?;
                (read.points, read.bytes) = (Some(weight.points), Some(weight.bytes));
            }
        }
        Ok(document)
    };
    in_lane(&state, &state.lanes.queries, work).await.map(web::Json)
}

fn range_of(plan: &Plan, is_moment: bool) -> Option<TimeRange> {
    match &plan.time {
        fenetre_core::plan::PlannedTime::Windows(windows, _) if !is_moment => Some(windows.range()),
        _ => None,
    }
}

/// Lists completions at a position in the text of a query, for editors.
#[utoipa::path(security(("token" = ["read"])), tag = "ask", params(("dataset" = String, Path)), request_body = Typing,
    responses((status = 200, body = Completions), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/ask/complete")]
pub(crate) async fn complete(caller: Access<ReadGrant>, state: AppState, dataset: web::Path<String>, body: Body) -> Result<HttpResponse, ApiError> {
    let typing: Typing = read_json(&body)?;
    let visibility = caller.visibility();
    let work = move |state: &State| {
        let cursor = typing.cursor.unwrap_or(typing.query.len());
        Ok(state
            .store
            .with_catalogue(|catalogue| completion::complete(&typing.query, cursor, VisibleCatalogue::new(catalogue, &visibility), &dataset)))
    };
    blocking(&state, work).await.map(|completion| HttpResponse::Ok().json(completion))
}

async fn answer(state: &AppState, caller: Caller, dataset: String, question: Question, request: &HttpRequest) -> Result<HttpResponse, ApiError> {
    caller.count_query()?;
    let kind = AnswerKind::wanted(request)?;
    while_there(request, compute(state, caller, dataset, question, kind)).await.unwrap_or_else(|| {
        // Most callers have disconnected; one that only closed its sending side reads this.
        Err(ApiError::new(
            ProblemKind::Request,
            "the client closed its side of the connection, so the query was cancelled: keep the connection open until the answer arrives",
        ))
    })
}

async fn compute(state: &AppState, caller: Caller, dataset: String, question: Question, kind: AnswerKind) -> Result<HttpResponse, ApiError> {
    let (given_up, arrived) = (CancelOnDrop::default(), Instant::now());
    // Waiting counts.
    let deadline = arrived + Duration::from_secs(caller.limits(&state.limits).max_query_seconds);
    let asked = Arc::new((dataset, question, caller));
    let attempt = |haste: Haste| {
        let (asked, given_up) = (Arc::clone(&asked), given_up.flag());
        move |state: &State| {
            let stop = Stop { given_up, deadline, haste, runs: AtomicUsize::new(0), began: Instant::now() };
            let pool = if haste == Haste::Quick { &state.lanes.quick } else { &state.lanes.long };
            let document = pool.install(|| run(state, &asked.2, &asked.0, &asked.1, &stop))?;
            document.map(|document| kind.encoded(document)).transpose()
        }
    };
    let hash = BuildHasherDefault::<DefaultHasher>::default().hash_one((&asked.0, &asked.1.query, &asked.1.frame, format!("{:?}", asked.1.tree)));
    if !state.lanes.is_known_long(hash) {
        let turn = state.lanes.queries.enter(deadline).await?;
        if let Some(body) = in_turn(state, turn, attempt(Haste::Quick)).await? {
            state.lanes.quick_times.count(arrived.elapsed());
            return Ok(kind.respond(body));
        }
        state.lanes.remember(hash, true);
    }
    let turn = state.lanes.long_queries.enter(deadline).await?;
    let began = Instant::now();
    let body = in_turn(state, turn, attempt(Haste::None)).await?;
    state.lanes.long_times.count(arrived.elapsed());
    if began.elapsed() < QUICK {
        state.lanes.remember(hash, false);
    }
    body.map_or_else(|| Err(EvaluateError::Stopped.into()), |body| Ok(kind.respond(body)))
}

/// Which bounds a query runs under.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Haste {
    /// Those of a quick query.
    Quick,
    /// The deadline alone.
    None,
}

/// Blocks, or parts of points in memory, that a quick query may read.
const QUICK_RUNS: usize = 2_000;
/// Longest run time of a quick query. Its work is bounded by the other two bounds; this one is for slow disks. It is wall time, so it is generous: beside long
/// queries a thread may wait for a core.
const QUICK: Duration = Duration::from_millis(250);
/// Windows times lines that a quick query may compute.
const QUICK_CELLS: usize = 100_000;

/// Conditions that stop a query before it is answered.
struct Stop {
    given_up: Arc<AtomicBool>,
    deadline: Instant,
    haste: Haste,
    runs: AtomicUsize,
    began: Instant,
}

impl Stop {
    /// Whether the caller disconnected, or the deadline has passed.
    fn is_over(&self) -> bool {
        self.given_up.load(Ordering::Relaxed) || Instant::now() > self.deadline
    }

    /// Whether it exceeds the bounds of a quick query.
    fn is_long(&self) -> bool {
        self.haste == Haste::Quick && (self.runs.load(Ordering::Relaxed) > QUICK_RUNS || self.began.elapsed() > QUICK)
    }

    /// Whether to stop; called before each block or part.
    fn now(&self) -> bool {
        self.runs.fetch_add(1, Ordering::Relaxed);
        self.is_long() || self.is_over()
    }
}

/// The answer to a query; none if it exceeds the bounds of a quick query.
fn run(state: &State, caller: &Caller, dataset: &str, question: &Question, stop: &Stop) -> Result<Option<AnswerDocument>, ApiError> {
    let start = Instant::now();
    let (plan, _) = prepare(state, caller, dataset, question)?;
    if stop.haste == Haste::Quick && plan.cells > QUICK_CELLS {
        return Ok(None);
    }
    let planned = start.elapsed();
    let gathered = match read(plan, &state.store.source(), &|| stop.now()) {
        Err(EvaluateError::Stopped) if stop.is_long() && !stop.is_over() => return Ok(None),
        gathered => gathered?,
    };
    let gathered_after = start.elapsed();
    let answer = gathered.answer();
    let computed = start.elapsed();
    let mut document = AnswerDocument::of(answer);
    let all = start.elapsed();
    document.cost.stages = StagesDocument {
        planning: milliseconds(planned),
        reading: milliseconds(gathered_after.saturating_sub(planned)),
        computing: milliseconds(computed.saturating_sub(gathered_after)),
        writing: milliseconds(all.saturating_sub(computed)),
    };
    document.cost.milliseconds = milliseconds(all);
    Ok(Some(document))
}

fn prepare(state: &State, caller: &Caller, dataset: &str, question: &Question) -> Result<(Plan, String), ApiError> {
    let (text, frame_text) = (query_text(question)?, &question.frame);
    let parsed = query::parse(&text).map_err(|error| ApiError::of_query(&error, "query", &text))?;
    let frame: Frame = query::parse_frame(frame_text).map_err(|error| ApiError::of_query(&error, "frame", frame_text))?;
    let (visibility, limits) = (caller.visibility(), caller.limits(&state.limits));
    state.store.with_catalogue(|catalogue| {
        let visible = VisibleCatalogue::new(catalogue, &visibility);
        let plan = plan(&parsed, &frame, visible, dataset, now(), &limits.query).map_err(|error| ApiError::of_plan(&error, &text, frame_text))?;
        Ok((plan, text))
    })
}

/// In which form an answer leaves.
#[derive(Clone, Copy)]
enum AnswerKind {
    Json,
    Csv,
    JsonLines,
    Arrow,
    Parquet,
}

impl AnswerKind {
    fn wanted(request: &HttpRequest) -> Result<Self, ApiError> {
        let accept = request.headers().get(header::ACCEPT).and_then(|value| value.to_str().ok()).unwrap_or("*/*");
        let wanted = accept.split(',').find_map(|part| match part.split(';').next().unwrap_or_default().trim() {
            "*/*" | "application/*" | "application/json" => Some(Self::Json),
            "text/csv" | "text/*" => Some(Self::Csv),
            "application/x-ndjson" | "application/ndjson" | "application/jsonl" => Some(Self::JsonLines),
            "application/vnd.apache.arrow.stream" => Some(Self::Arrow),
            "application/vnd.apache.parquet" => Some(Self::Parquet),
            _ => None,
        });
        wanted.ok_or_else(|| {
            let known = "application/json, text/csv, application/x-ndjson, application/vnd.apache.arrow.stream and application/vnd.apache.parquet";
            ApiError::new(ProblemKind::Request, format!("unsupported format `{accept}`: use {known}"))
        })
    }

    /// The whole body; of tables the document, which leaves in parts.
    fn encoded(self, document: AnswerDocument) -> Result<Encoded, ApiError> {
        let mut body = Vec::new();
        match self {
            Self::Csv | Self::JsonLines => return Ok(Encoded::Parts(Box::new(document))),
            Self::Json => serde_json::to_writer(&mut body, &document).map_err(|error| ApiError::internal(&error))?,
            Self::Arrow => write_arrow(&document, &mut body).map_err(|error| ApiError::internal(&error))?,
            Self::Parquet => write_parquet(&document, &mut body).map_err(|error| ApiError::internal(&error))?,
        }
        Ok(Encoded::Whole(body))
    }

    fn content_type(self) -> &'static str {
        match self {
            Self::Json => "application/json",
            Self::Csv => "text/csv; charset=utf-8",
            Self::JsonLines => "application/x-ndjson",
            Self::Arrow => "application/vnd.apache.arrow.stream",
            Self::Parquet => "application/vnd.apache.parquet",
        }
    }

    fn respond(self, body: Encoded) -> HttpResponse {
        let mut response = HttpResponse::Ok();
        response.content_type(self.content_type());
        match body {
            Encoded::Whole(body) => response.body(body),
            Encoded::Parts(document) if matches!(self, Self::Csv) => response.streaming(in_parts(csv_parts(*document))),
            Encoded::Parts(document) => response.streaming(in_parts(json_line_parts(*document))),
        }
    }
}

/// A finished body, or one that is streamed.
enum Encoded {
    Whole(Vec<u8>),
    Parts(Box<AnswerDocument>),
}

/// Tables leave in parts, a line of the answer each, so that no more than one is held as text. Each is made on a blocking thread when the one before has left.
fn in_parts(parts: impl Iterator<Item = std::io::Result<Vec<u8>>> + Send + 'static) -> impl futures_util::Stream<Item = std::io::Result<web::Bytes>> {
    futures_util::stream::unfold(parts, |mut parts| async move {
        let (part, parts) = web::block(move || (parts.next(), parts)).await.ok()?;
        part.map(|part| (part.map(web::Bytes::from), parts))
    })
}
