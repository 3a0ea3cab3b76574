//! Imports: a file is uploaded, looked at, tried and run, each by a call of its own.

use std::{io::Write, path::Path};

use actix_web::{HttpRequest, HttpResponse, delete, get, http::header, post, web};
use fenetre_core::{model::check_name, time::format_utc};
use fenetre_formats::{
    Format, Reject,
    mapping::{Mapping, Others, guess::guess, is_long},
};
use fenetre_wire::imports::{ImportLook, ImportOrder, ImportRecord, ImportStage, LookOrder};
use serde::Deserialize;
use utoipa::IntoParams;

use crate::{
    clock::now,
    http::{
        access::{Access, ReadGrant, WriteGrant as MayWrite},
        body::{Arrival, next_chunk},
    },
    imports::look,
    jobs::import::mapping_of,
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
    views::names::find,
};

use super::{Body, read_json};

/// Parameters of an upload.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Upload {
    /// Name of the file; its extension gives the format.
    file: String,
    /// Format, if the name does not give it: json, json-lines, csv, tsv, senml-json, senml-cbor, open-metrics, arrow-stream or parquet.
    format: Option<String>,
}

/// Whether a table that no mapping describes says itself what its columns are: found out before the import begins.
fn check_columns(state: &State, id: &str, format: Format, mapping: &Mapping) -> Result<(), ApiError> {
    if !matches!(format, Format::Csv | Format::Tsv) || !mapping.columns.is_empty() || mapping.others != Others::Skip {
        return Ok(());
    }
    let names = look(&state.imports.file(id), format, mapping, 1)?.names;
    if is_long(&names.iter().map(String::as_str).collect::<Vec<_>>()) {
        return Ok(());
    }
    let columns = names.join(", ");
    Err(ApiError::new(
        ProblemKind::Request,
        format!("a mapping is needed to read these columns: name a stored one, or let one be guessed. The columns are {columns}"),
    ))
}

/// Uploads a file to be imported.
///
/// It is streamed to the disk as it comes. gzip and zstd are recognised by their first bytes.
#[utoipa::path(tag = "imports", params(("dataset" = String, Path), Upload), request_body(content = Vec<u8>, description = "the file", content_type = "application/octet-stream"),
    responses((status = 201, body = ImportRecord), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 413, body = Problem), (status = 507, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/imports")]
pub(crate) async fn upload(
    _: Access<MayWrite>,
    state: AppState,
    dataset: web::Path<String>,
    upload: web::Query<Upload>,
    request: HttpRequest,
    mut payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    let fault = |text: String| ApiError::new(ProblemKind::Request, text);
    let name = state.store.with_catalogue(|catalogue| find(catalogue, &dataset).map(|dataset| dataset.name.to_string()))?;
    check_name(&upload.file).map_err(|error| fault(format!("the file's name {error}")))?;
    let format = match &upload.format {
        Some(word) => serde_json::from_value(serde_json::Value::String(word.clone())).map_err(|_| {
            fault(format!("unknown format `{word}`: use json, json-lines, csv, tsv, senml-json, senml-cbor, open-metrics, arrow-stream or parquet"))
        })?,
        None => Format::of_name(&upload.file).ok_or_else(|| {
            fault(format!(
                "cannot tell the format of `{}` from its name: use a known extension, such as .csv, .json or .ndjson, or set `format`",
                upload.file
            ))
        })?,
    };
    let announced: Option<u64> = request.headers().get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
    let limit = state.limits.max_import_bytes;
    let too_large = || {
        ApiError::new(ProblemKind::TooLarge, format!("the file is larger than {limit} bytes: import it in parts, or raise [limits] max_import_bytes"))
    };
    if announced.is_some_and(|bytes| bytes > limit) {
        return Err(too_large());
    }
    let uploaded = now();
    let id = format!("{:x}", uploaded / 1_000);
    let path = state.imports.file(&id);
    let written = spool(&path, &mut payload, limit).await;
    let bytes = match written {
        Ok(Some(bytes)) if bytes > 0 => bytes,
        other => {
            let _ = std::fs::remove_file(&path);
            return Err(match other {
                Ok(Some(_)) => fault(format!("{} is empty", upload.file)),
                Ok(None) => too_large(),
                Err(problem) => problem,
            });
        }
    };
    let record = ImportRecord {
        id,
        dataset: name,
        file: upload.into_inner().file,
        format: Some(format),
        bytes,
        uploaded: format_utc(uploaded),
        replaced: Some(0),
        ..ImportRecord::default()
    };
    let kept = record.clone();
    blocking(&state, move |state| state.imports.tidy(&state.store, uploaded).and_then(|()| state.imports.keep(&state.store, &kept))).await?;
    Ok(HttpResponse::Created().json(record))
}

/// Bytes that are written at once.
const CHUNK: usize = 1 << 20;

/// Writes a body to a file; none if it is larger than the limit.
async fn spool(path: &Path, payload: &mut web::Payload, limit: u64) -> Result<Option<u64>, ApiError> {
    let failed = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => {
            ApiError::new(ProblemKind::Full, "the disk is full: the file does not fit. Free some space and send it again")
        }
        _ => ApiError::internal(&error),
    };
    let mut file = std::fs::File::create(path).map_err(failed)?;
    let (mut waiting, mut bytes) = (Vec::with_capacity(CHUNK), 0);
    let mut arrival = Arrival::new();
    loop {
        let chunk = next_chunk(payload, &mut arrival).await?;
        let is_last = chunk.is_none();
        if let Some(chunk) = chunk {
            bytes += chunk.len() as u64;
            if bytes > limit {
                return Ok(None);
            }
            waiting.extend_from_slice(&chunk);
        }
        if waiting.len() >= CHUNK || is_last {
            let part = std::mem::replace(&mut waiting, Vec::with_capacity(CHUNK));
            file = web::block(move || file.write_all(&part).map(|()| file)).await.map_err(|error| ApiError::internal(&error))?.map_err(failed)?;
        }
        if is_last {
            web::block(move || file.sync_all()).await.map_err(|error| ApiError::internal(&error))?.map_err(failed)?;
            return Ok(Some(bytes));
        }
    }
}

/// Lists imports, the latest first.
#[utoipa::path(tag = "imports", responses((status = 200, body = [ImportRecord]), (status = 403, body = Problem)))]
#[get("/api/v1/imports")]
pub(crate) async fn list(_: Access<ReadGrant>, state: AppState) -> Result<web::Json<Vec<ImportRecord>>, ApiError> {
    blocking(&state, |state| state.imports.all(&state.store)).await.map(web::Json)
}

/// Returns the record of an import.
#[utoipa::path(tag = "imports", params(("id" = String, Path)), responses((status = 200, body = ImportRecord), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/imports/{id}")]
pub(crate) async fn show(_: Access<ReadGrant>, state: AppState, id: web::Path<String>) -> Result<web::Json<ImportRecord>, ApiError> {
    blocking(&state, move |state| state.imports.find(&state.store, &id)).await.map(web::Json)
}

/// Returns the first rows of an uploaded file, and a mapping guessed from them.
#[utoipa::path(tag = "imports", params(("id" = String, Path)), request_body = Option<LookOrder>,
    responses((status = 200, body = ImportLook), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/imports/{id}/look")]
pub(crate) async fn look_at(_: Access<ReadGrant>, state: AppState, id: web::Path<String>, body: Body) -> Result<web::Json<ImportLook>, ApiError> {
    let order: LookOrder = if body.is_empty() { LookOrder::default() } else { read_json(&body)? };
    let work = move |state: &State| {
        let record = state.imports.find(&state.store, &id)?;
        let format = record.format.unwrap_or(Format::Csv);
        let mapping = order.mapping.unwrap_or_default();
        mapping.check().map_err(|error| ApiError::new(ProblemKind::Request, error))?;
        let seen = look(&state.imports.file(&id), format, &mapping, order.rows.unwrap_or(100).clamp(1, 200))?;
        let own_zone = mapping.time.zone.clone();
        let zone = own_zone.map_or_else(
            || state.store.with_catalogue(|catalogue| find(catalogue, &record.dataset).map(|dataset| dataset.definition.zone.clone())),
            Ok,
        )?;
        let guess = guess(&seen, &zone, &mapping);
        Ok(ImportLook { names: seen.names, rows: seen.rows, guess, notes: seen.notes })
    };
    blocking(&state, work).await.map(web::Json)
}

/// Runs an import, or resumes one that was stopped.
///
/// With `dry_run`, reads everything and stores nothing.
#[utoipa::path(tag = "imports", params(("id" = String, Path)), request_body = Option<ImportOrder>,
    responses((status = 202, body = ImportRecord), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem, description = "it is running, or done"), (status = 503, body = Problem)))]
#[post("/api/v1/imports/{id}/run")]
pub(crate) async fn run(_: Access<MayWrite>, state: AppState, id: web::Path<String>, body: Body) -> Result<HttpResponse, ApiError> {
    let order: Option<ImportOrder> = if body.is_empty() { None } else { Some(read_json(&body)?) };
    let shared = state.clone().into_inner();
    let work = move |state: &State| {
        let record = state.imports.find(&state.store, &id)?;
        let record = match (record.stage, order) {
            (ImportStage::Done, _) => {
                return Err(ApiError::new(ProblemKind::Definition, format!("the import `{id}` is done: upload the file again to import it again")));
            }
            // A resumed import keeps its first order.
            (ImportStage::Stopped | ImportStage::Failed, None) => record,
            (ImportStage::Stopped | ImportStage::Failed, Some(order)) if same(&order, &record.order) => record,
            (_, order) => {
                let order = order.unwrap_or_default();
                let format = record.format.unwrap_or(Format::Csv);
                if let Some(mapping) = mapping_of(state, &order, format)? {
                    check_columns(state, &id, format, &mapping)?;
                }
                ImportRecord { order, begun: Some(format_utc(now())), ..record.reset() }
            }
        };
        state.imports.begin(&shared, record)
    };
    blocking(&state, work).await.map(|record| HttpResponse::Accepted().json(record))
}

fn same(a: &ImportOrder, b: &ImportOrder) -> bool {
    serde_json::to_value(a).ok() == serde_json::to_value(b).ok()
}

/// Stops an import after its current part.
///
/// `run` resumes it.
#[utoipa::path(tag = "imports", params(("id" = String, Path)), responses((status = 200, body = ImportRecord), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/imports/{id}/stop")]
pub(crate) async fn stop(_: Access<MayWrite>, state: AppState, id: web::Path<String>) -> Result<web::Json<ImportRecord>, ApiError> {
    let work = move |state: &State| {
        let record = state.imports.find(&state.store, &id)?;
        if !state.imports.stop(&id) {
            return Err(ApiError::new(ProblemKind::Definition, format!("the import `{id}` is not running: it is {}", record.stage.as_str())));
        }
        Ok(record)
    };
    blocking(&state, work).await.map(web::Json)
}

/// Removes an import, its file and its rejects.
///
/// Its points stay.
#[utoipa::path(tag = "imports", params(("id" = String, Path)), responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/api/v1/imports/{id}")]
pub(crate) async fn forget(_: Access<MayWrite>, state: AppState, id: web::Path<String>) -> Result<HttpResponse, ApiError> {
    blocking(&state, move |state| state.imports.forget(&state.store, &id)).await.map(|()| HttpResponse::NoContent().finish())
}

/// Returns the rejects of an import as CSV: line, field, cause and reason.
#[utoipa::path(tag = "imports", params(("id" = String, Path)),
    responses((status = 200, description = "CSV", content_type = "text/csv"), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/imports/{id}/rejects")]
pub(crate) async fn rejects(_: Access<ReadGrant>, state: AppState, id: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let name = format!("rejects-{id}.csv");
    let (path, record) = blocking(&state, move |state| Ok((state.imports.rejects(&id), state.imports.find(&state.store, &id)?))).await?;
    let lines: Box<dyn Iterator<Item = std::io::Result<String>> + Send> = if record.rejects_bytes == 0 {
        Box::new(std::iter::empty())
    } else {
        let file = std::fs::File::open(&path).map_err(|error| ApiError::internal(&error))?;
        Box::new(std::io::BufRead::lines(std::io::BufReader::new(std::io::Read::take(file, record.rejects_bytes))))
    };
    let header = std::iter::once(Ok("line,element,field,cause,reason\n".to_owned()));
    let rows = lines.map(|line| line.map(|line| serde_json::from_str::<Reject>(&line).map_or(String::new(), |reject| row(&reject))));
    let chunks = futures_util::stream::iter(header.chain(rows).map(|row| row.map(web::Bytes::from)));
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(("Content-Disposition", format!("attachment; filename=\"{name}\"")))
        .streaming(chunks))
}

fn row(reject: &Reject) -> String {
    let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    let field = reject.field.as_deref().unwrap_or_default();
    let element = reject.index.map_or(String::new(), |index| index.to_string());
    format!("{},{element},{},{},{}\n", reject.line, quoted(field), quoted(reject.cause.describe()), quoted(&reject.reason))
}
