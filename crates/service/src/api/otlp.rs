//! OTLP metrics over HTTP, at the standard's path: `/v1/metrics`, below the root for the dataset that the header `Fenetre-Dataset` names (`main`
//! without one), and below `/api/v1/datasets/{dataset}/otlp` for a dataset by its address.

use std::collections::BTreeMap;

use actix_web::{
    HttpRequest, HttpResponse,
    http::{StatusCode, header},
    post, web,
};
use fenetre_access::grant::Action;
use fenetre_flows::{arrivals::sender::Sender, intake::Order};
use fenetre_formats::{Format, otlp};

use super::points::{collect_body, decompress, encoding_of, when_late};
use crate::{
    access::caller::Caller,
    clock::now,
    permission::{Access, WriteGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, in_lane},
};

const DEFAULT_DATASET: &str = "main";
const PROTOBUF: &str = "application/x-protobuf";

/// Stores an export of OTLP metrics (protobuf or JSON).
///
/// The header `Fenetre-Dataset` names the dataset (default: `main`). Rejected points are reported as the standard's partial success.
#[utoipa::path(security(("token" = ["write"])), tag = "points", request_body(description = "ExportMetricsServiceRequest", content((Vec<u8> = "application/x-protobuf"), (serde_json::Value = "application/json"))),
    responses((status = 200, description = "ExportMetricsServiceResponse"), (status = 400, description = "google.rpc.Status"), (status = 404, description = "likewise"),
        (status = 413, description = "likewise"), (status = 415, body = Problem), (status = 429, description = "likewise"), (status = 503, description = "likewise")))]
#[post("/v1/metrics")]
pub(crate) async fn export(
    caller: Access<WriteGrant>,
    state: AppState,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    let named = request.headers().get("fenetre-dataset").and_then(|name| name.to_str().ok()).unwrap_or(DEFAULT_DATASET).to_owned();
    state.store.with_catalogue(|catalogue| caller.require(Action::Write, catalogue, &named).map(|_| ()))?;
    take(state, caller.into_caller(), named, request, payload).await
}

/// Stores an export of OTLP metrics in the dataset of the path.
///
/// The endpoint of an exporter is `http://ADDRESS/api/v1/datasets/DATASET/otlp`.
#[utoipa::path(security(("token" = ["write"])), tag = "points", params(("dataset" = String, Path)),
    request_body(description = "ExportMetricsServiceRequest", content((Vec<u8> = "application/x-protobuf"), (serde_json::Value = "application/json"))),
    responses((status = 200, description = "ExportMetricsServiceResponse"), (status = 400, description = "google.rpc.Status"), (status = 404, description = "likewise"),
        (status = 413, description = "likewise"), (status = 415, body = Problem), (status = 429, description = "likewise"), (status = 503, description = "likewise")))]
#[post("/api/v1/datasets/{dataset}/otlp/v1/metrics")]
pub(crate) async fn export_into(
    caller: Access<WriteGrant>,
    state: AppState,
    dataset: web::Path<String>,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    take(state, caller.into_caller(), dataset.into_inner(), request, payload).await
}

async fn take(state: AppState, caller: Caller, dataset: String, request: HttpRequest, payload: web::Payload) -> Result<HttpResponse, ApiError> {
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let form = match kind.split(';').next().unwrap_or_default().trim() {
        PROTOBUF => otlp::Export::Protobuf,
        "application/json" => otlp::Export::Json,
        other => {
            let text = format!("unsupported content type `{other}`: an export is {PROTOBUF} or application/json");
            return Err(ApiError::new(ProblemKind::MediaType, text));
        }
    };
    let may_read_log = caller.is_machine();
    let taken = async {
        caller.check_point_rate()?;
        let encoding = encoding_of(&request)?;
        state.store.begin(&dataset)?;
        let mut body = collect_body(&state, &request, payload).await?;
        let lane = state.lanes.of_body(body.bytes.len());
        let stop = when_late();
        in_lane(&state, lane, move |state| {
            let bytes = decompress(encoding, std::mem::take(&mut body.bytes), &state.limits, &mut body.share)?;
            let format = if form == otlp::Export::Protobuf { Format::OtlpProtobuf } else { Format::OtlpJson };
            let now = now();
            let metrics = caller.rights().map_or(&[][..], |rights| &rights.metrics);
            let order = Order { dataset: &dataset, format, mapping: None, metrics, tags: &BTreeMap::new(), shown: 0, stop: &stop };
            let report = state.intake.read(order, bytes, now)?.keep(&state.intake, &dataset, &Sender::Otlp(caller.token_name()), now)?;
            caller.count_points(report.tally.accepted);
            Ok::<_, ApiError>(report)
        })
        .await
    };
    let content_type = if form == otlp::Export::Protobuf { PROTOBUF } else { "application/json" };
    match taken.await {
        Ok(report) => {
            let first = report.tally.rejects.first().map_or(String::new(), |reject| format!("point {}: {}", reject.line, reject.reason));
            let mut answer = HttpResponse::Ok();
            answer.insert_header(("Fenetre-Durability", state.store.options().durability.to_string()));
            Ok(answer.content_type(content_type).body(otlp::answer(form, report.tally.rejected, &first)))
        }
        Err(problem) => {
            if problem.status == 500 {
                tracing::error!(error = problem.detail, "an export failed");
            }
            let detail = if problem.status == 500 && !may_read_log { "the service failed: its log has the reason" } else { &problem.detail };
            let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
            let mut answer = HttpResponse::build(status);
            if [StatusCode::SERVICE_UNAVAILABLE, StatusCode::TOO_MANY_REQUESTS].contains(&status) {
                answer.insert_header(("Retry-After", "1"));
            }
            Ok(answer.content_type(content_type).body(otlp::failure(form, code_of(status), detail)))
        }
    }
}

/// The code of google.rpc.Code that says what a status says.
fn code_of(status: StatusCode) -> i32 {
    match status.as_u16() {
        400 | 413 | 422 => 3,
        403 => 7,
        404 => 5,
        409 => 9,
        429 => 8,
        503 => 14,
        507 => 8,
        _ => 13,
    }
}
