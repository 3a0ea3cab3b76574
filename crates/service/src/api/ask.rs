//! Answers to queries, and what is wrong with one.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use actix_web::{HttpRequest, HttpResponse, get, http::header, post, web};
use fenetre_core::{
    evaluate::evaluate,
    plan::{Plan, plan},
    query::{self, Frame},
};
use fenetre_formats::{
    document::AnswerDocument,
    tables::{write_csv, write_json_lines},
};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::read_json;
use crate::{
    access::{Access, Read},
    problem::{Problem, Sort},
    state::{Shared, State, blocking, now},
};

/// A query and the frame that it does not have itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// The query's text.
    pub query: String,
    /// Clauses of a frame (`over … per … zone …`) for what the text leaves out.
    #[serde(default)]
    pub frame: String,
}

/// What is found in a query's text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Checked {
    /// The text in its canonical layout, if it can be read.
    pub canonical: Option<String>,
    /// What is wrong with it, if anything is.
    pub problem: Option<Problem>,
}

/// Answers a query: as JSON, or by `Accept` as `text/csv` or `application/x-ndjson`.
#[utoipa::path(tag = "ask", params(("dataset" = String, Path), Question),
    responses((status = 200, body = AnswerDocument), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 500, body = Problem), (status = 504, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/ask")]
pub(crate) async fn get(
    _: Access<Read>,
    state: Shared,
    dataset: web::Path<String>,
    question: web::Query<Question>,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    answer(&state, dataset.into_inner(), question.into_inner(), &request).await
}

/// Answers a query: as JSON, or by `Accept` as `text/csv` or `application/x-ndjson`.
#[utoipa::path(tag = "ask", params(("dataset" = String, Path)), request_body = Question,
    responses((status = 200, body = AnswerDocument), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 500, body = Problem), (status = 504, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/ask")]
pub(crate) async fn post(
    _: Access<Read>,
    state: Shared,
    dataset: web::Path<String>,
    body: web::Bytes,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    answer(&state, dataset.into_inner(), read_json(&body)?, &request).await
}

/// Looks at a query without running it: for editors, which call this while somebody types.
#[utoipa::path(tag = "ask", params(("dataset" = String, Path)), request_body = Question,
    responses((status = 200, body = Checked), (status = 400, body = Problem), (status = 403, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/ask/check")]
pub(crate) async fn check(_: Access<Read>, state: Shared, dataset: web::Path<String>, body: web::Bytes) -> Result<web::Json<Checked>, Problem> {
    let question: Question = read_json(&body)?;
    let canonical = query::parse(&question.query).ok().map(|query| query::format(&query));
    let problem = prepare(&state, &dataset, &question).err();
    Ok(web::Json(Checked { canonical, problem }))
}

async fn answer(state: &Shared, dataset: String, question: Question, request: &HttpRequest) -> Result<HttpResponse, Problem> {
    let kind = AnswerKind::wanted(request)?;
    let given_up = GivenUp::default();
    let watch = Arc::clone(&given_up.0);
    let document = blocking(state, move |state| run(state, &dataset, &question, &watch)).await?;
    kind.respond(&document)
}

/// Raised when nobody waits for the answer any more: the caller has gone, and with it the future that holds this.
#[derive(Default)]
struct GivenUp(Arc<AtomicBool>);

impl Drop for GivenUp {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

fn run(state: &State, dataset: &str, question: &Question, given_up: &AtomicBool) -> Result<AnswerDocument, Problem> {
    let start = Instant::now();
    let deadline = start + Duration::from_secs(state.limits.query_seconds);
    let plan = prepare(state, dataset, question)?;
    let answer = evaluate(plan, &state.store.source(), &|| given_up.load(Ordering::Relaxed) || Instant::now() > deadline)?;
    let mut document = AnswerDocument::of(answer, 0.0);
    document.cost.milliseconds = (start.elapsed().as_secs_f64() * 1e5).round() / 100.0;
    Ok(document)
}

fn prepare(state: &State, dataset: &str, question: &Question) -> Result<Plan, Problem> {
    let Question { query: text, frame: frame_text } = question;
    let parsed = query::parse(text).map_err(|error| Problem::of_query(&error, "query", text))?;
    let frame: Frame = query::parse_frame(frame_text).map_err(|error| Problem::of_query(&error, "frame", frame_text))?;
    let catalogue = state.store.catalogue();
    plan(&parsed, &frame, &catalogue, dataset, now(), &state.limits.query).map_err(|error| Problem::of_plan(&error, text, frame_text))
}

/// In which form an answer leaves.
#[derive(Clone, Copy)]
enum AnswerKind {
    Json,
    Csv,
    JsonLines,
}

impl AnswerKind {
    fn wanted(request: &HttpRequest) -> Result<Self, Problem> {
        let accept = request.headers().get(header::ACCEPT).and_then(|value| value.to_str().ok()).unwrap_or("*/*");
        let wanted = accept.split(',').find_map(|part| match part.split(';').next().unwrap_or_default().trim() {
            "*/*" | "application/*" | "application/json" => Some(Self::Json),
            "text/csv" | "text/*" => Some(Self::Csv),
            "application/x-ndjson" | "application/ndjson" | "application/jsonl" => Some(Self::JsonLines),
            _ => None,
        });
        wanted.ok_or_else(|| {
            Problem::new(
                Sort::Request,
                format!("an answer cannot be given as `{accept}`: there are application/json, text/csv and application/x-ndjson"),
            )
        })
    }

    fn respond(self, document: &AnswerDocument) -> Result<HttpResponse, Problem> {
        let mut body = Vec::new();
        let (written, kind) = match self {
            Self::Json => return Ok(HttpResponse::Ok().json(document)),
            Self::Csv => (write_csv(document, &mut body), "text/csv; charset=utf-8"),
            Self::JsonLines => (write_json_lines(document, &mut body), "application/x-ndjson"),
        };
        written.map_err(|error| Problem::internal(&error))?;
        Ok(HttpResponse::Ok().content_type(kind).body(body))
    }
}
