//! Imports: a file is uploaded, looked at, tried and run, each by a call of its own.

use std::{io::Write, path::Path};

use actix_web::{HttpRequest, HttpResponse, delete, get, http::header, post, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::{model::check_name, time::format_utc};
use fenetre_formats::{
    Format, Reject,
    mapping::{Mapping, Others, guess::guess, is_long},
};
use fenetre_wire::imports::{ImportLook, ImportOrder, ImportRecord, ImportStage, LookOrder};
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    changes::Recorded,
    clock::now,
    http::body::{Arrival, next_chunk},
    imports::{Imports, look},
    jobs::import::mapping_of,
    permission::{Access, AnyGrant, ImportGrant},
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
#[utoipa::path(security(("token" = ["write, all metrics"])), tag = "imports", params(("dataset" = String, Path), Upload), request_body(content = Vec<u8>, description = "the file", content_type = "application/octet-stream"),
    responses((status = 201, body = ImportRecord), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 413, body = Problem), (status = 507, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/imports")]
pub(crate) async fn upload(
    caller: Access<ImportGrant>,
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
        by: caller.who().token_id().map(str::to_owned),
        ..ImportRecord::default()
    };
    let (kept, caller) = (record.clone(), caller.into_caller());
    let keep = move |state: &State| {
        state.imports.tidy(&state.store, uploaded)?;
        state.imports.keep(&state.store, &kept)?;
        let after = json!({ "file": kept.file, "bytes": kept.bytes });
        Recorded::new(&caller, Subject::Import, Act::Created, &kept.id).of(&kept.dataset).write(state, None, Some(after))
    };
    blocking(&state, keep).await?;
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

/// Whether a caller may see an import: of a dataset that it may read, or its own.
fn may_see(state: &State, caller: &Caller, record: &ImportRecord) -> bool {
    let may = |action: Action| {
        state
            .store
            .with_catalogue(|catalogue| catalogue.dataset_by_any_name(&record.dataset).is_some_and(|dataset| caller.may(action, catalogue, dataset)))
    };
    let is_own = || record.by.as_deref().is_some_and(|by| caller.who().token_id() == Some(by));
    caller.require_all_metrics().is_ok() && (may(Action::Read) || may(Action::Write) && is_own())
}

/// The import of an id, if the caller may see it.
fn find_visible(state: &State, caller: &Caller, id: &str) -> Result<ImportRecord, ApiError> {
    let found = state.imports.find(&state.store, id);
    match found {
        Ok(record) if !may_see(state, caller, &record) => Err(Imports::unknown(id)),
        found => found,
    }
}

/// The same, to be changed.
fn find_writable(state: &State, caller: &Caller, id: &str) -> Result<ImportRecord, ApiError> {
    let record = find_visible(state, caller, id)?;
    state.store.with_catalogue(|catalogue| caller.require(Action::Write, catalogue, &record.dataset).map(|_| ()))?;
    Ok(record)
}

/// Lists imports, the latest first.
#[utoipa::path(security(("token" = [])), tag = "imports", responses((status = 200, body = [ImportRecord]), (status = 403, body = Problem)))]
#[get("/api/v1/imports")]
pub(crate) async fn list(caller: Access<AnyGrant>, state: AppState) -> Result<web::Json<Vec<ImportRecord>>, ApiError> {
    let caller = caller.into_caller();
    let seen = move |state: &State| Ok(state.imports.all(&state.store)?.into_iter().filter(|record| may_see(state, &caller, record)).collect());
    blocking(&state, seen).await.map(web::Json)
}

/// Returns the record of an import.
#[utoipa::path(security(("token" = [])), tag = "imports", params(("id" = String, Path)), responses((status = 200, body = ImportRecord), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/imports/{id}")]
pub(crate) async fn show(caller: Access<AnyGrant>, state: AppState, id: web::Path<String>) -> Result<web::Json<ImportRecord>, ApiError> {
    let caller = caller.into_caller();
    blocking(&state, move |state| find_visible(state, &caller, &id)).await.map(web::Json)
}

/// Returns the first rows of an uploaded file, and a mapping guessed from them.
#[utoipa::path(security(("token" = [])), tag = "imports", params(("id" = String, Path)), request_body = Option<LookOrder>,
    responses((status = 200, body = ImportLook), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/imports/{id}/look")]
pub(crate) async fn look_at(caller: Access<AnyGrant>, state: AppState, id: web::Path<String>, body: Body) -> Result<web::Json<ImportLook>, ApiError> {
    let order: LookOrder = if body.is_empty() { LookOrder::default() } else { read_json(&body)? };
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let record = find_visible(state, &caller, &id)?;
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
#[utoipa::path(security(("token" = [])), tag = "imports", params(("id" = String, Path)), request_body = Option<ImportOrder>,
    responses((status = 202, body = ImportRecord), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem, description = "it is running, or done"), (status = 503, body = Problem)))]
#[post("/api/v1/imports/{id}/run")]
pub(crate) async fn run(caller: Access<AnyGrant>, state: AppState, id: web::Path<String>, body: Body) -> Result<HttpResponse, ApiError> {
    let order: Option<ImportOrder> = if body.is_empty() { None } else { Some(read_json(&body)?) };
    let shared = state.clone().into_inner();
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let record = find_writable(state, &caller, &id)?;
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
                if let Some(mapping) = mapping_of(state, caller.may_everywhere(Action::Read), &order, format)? {
                    check_columns(state, &id, format, &mapping)?;
                }
                ImportRecord { order, begun: Some(format_utc(now())), ..record.reset() }
            }
        };
        let dry_run = record.order.dry_run;
        let begun = state.imports.begin(&shared, record)?;
        if !dry_run {
            let after = json!({ "file": begun.file });
            Recorded::new(&caller, Subject::Import, Act::Started, &begun.id).of(&begun.dataset).write(state, None, Some(after))?;
        }
        Ok(begun)
    };
    blocking(&state, work).await.map(|record| HttpResponse::Accepted().json(record))
}

fn same(a: &ImportOrder, b: &ImportOrder) -> bool {
    serde_json::to_value(a).ok() == serde_json::to_value(b).ok()
}

/// Stops an import after its current part.
///
/// `run` resumes it.
#[utoipa::path(security(("token" = [])), tag = "imports", params(("id" = String, Path)), responses((status = 200, body = ImportRecord), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/imports/{id}/stop")]
pub(crate) async fn stop(caller: Access<AnyGrant>, state: AppState, id: web::Path<String>) -> Result<web::Json<ImportRecord>, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let record = find_writable(state, &caller, &id)?;
        if !state.imports.stop(&id) {
            return Err(ApiError::new(ProblemKind::Definition, format!("the import `{id}` is not running: it is {}", record.stage.as_str())));
        }
        Recorded::new(&caller, Subject::Import, Act::Stopped, &*id).of(&record.dataset).write(state, None, None)?;
        Ok(record)
    };
    blocking(&state, work).await.map(web::Json)
}

/// Removes an import, its file and its rejects.
///
/// Its points stay.
#[utoipa::path(security(("token" = [])), tag = "imports", params(("id" = String, Path)), responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/api/v1/imports/{id}")]
pub(crate) async fn forget(caller: Access<AnyGrant>, state: AppState, id: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let caller = caller.into_caller();
    let work = move |state: &State| {
        // An unreadable record has no known dataset. A caller that may write to all datasets can still remove it.
        let dataset = match find_writable(state, &caller, &id) {
            Ok(record) => Some(record.dataset),
            Err(error) if error.status != 500 || !caller.may_everywhere(Action::Write) => return Err(error),
            Err(_) => None,
        };
        state.imports.forget(&state.store, &id)?;
        let recorded = Recorded::new(&caller, Subject::Import, Act::Removed, &*id);
        if let Some(dataset) = dataset { recorded.of(dataset) } else { recorded }.write(state, None, None)
    };
    blocking(&state, work).await.map(|()| HttpResponse::NoContent().finish())
}

/// Returns the rejects of an import as CSV: line, field, cause and reason.
#[utoipa::path(security(("token" = [])), tag = "imports", params(("id" = String, Path)),
    responses((status = 200, description = "CSV", content_type = "text/csv"), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/imports/{id}/rejects")]
pub(crate) async fn rejects(caller: Access<AnyGrant>, state: AppState, id: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let name = format!("rejects-{id}.csv");
    let caller = caller.into_caller();
    let (path, record) = blocking(&state, move |state| Ok((state.imports.rejects(&id), find_visible(state, &caller, &id)?))).await?;
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
