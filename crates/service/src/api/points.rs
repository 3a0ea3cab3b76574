//! Points in: a body of JSON, JSON Lines or CSV, kept as a whole or in its good rows, with each reject told.

use crate::{
    access::{Access, Write},
    budget::Share,
    config::CallLimits,
    problem::{Problem, Sort},
    report::PushReport,
    state::{Shared, State, blocking, now},
};
use actix_web::{HttpRequest, HttpResponse, http::header, post, web};
use fenetre_core::suggest::{closest, listing};
use fenetre_formats::{
    Format, FormatError, Tally,
    csv::{Mapping, ValueColumn},
    read,
    unpack::{Encoding, unpack},
};
use futures_util::StreamExt;

/// How a body is taken.
#[derive(Debug, Default)]
struct PushOptions {
    dry_run: bool,
    all_or_nothing: bool,
    mapping: Mapping,
}

const PARAMETERS: [&str; 7] = ["time", "tag", "value", "state", "const", "all_or_nothing", "dry_run"];

impl PushOptions {
    /// Reads the query string, in which `tag`, `value`, `state` and `const` may come several times.
    fn parse(query: &str) -> Result<Self, Problem> {
        let mut options = Self::default();
        for (name, value) in form_urlencoded::parse(query.as_bytes()) {
            let truth = || match &*value {
                "true" | "" => Ok(true),
                "false" => Ok(false),
                other => Err(Problem::new(Sort::Request, format!("the parameter {name} is `{other}`: write true or false"))),
            };
            match &*name {
                "time" => options.mapping.time = Some(value.into_owned()),
                "tag" => options.mapping.tags.push(value.into_owned()),
                "value" => options.mapping.values.push(ValueColumn::parse(&value, false)),
                "state" => options.mapping.values.push(ValueColumn::parse(&value, true)),
                "const" => match value.split_once('=') {
                    Some((key, value)) => options.mapping.constants.push((key.to_owned(), value.to_owned())),
                    None => return Err(Problem::new(Sort::Request, format!("the parameter const is `{value}`: write const=KEY=VALUE"))),
                },
                "all_or_nothing" => options.all_or_nothing = truth()?,
                "dry_run" => options.dry_run = truth()?,
                other => {
                    let hint = closest(other, PARAMETERS).map_or_else(|| listing(PARAMETERS, 10), |known| format!("did you mean `{known}`?"));
                    return Err(Problem::new(Sort::Request, format!("there is no parameter `{other}`: {hint}")));
                }
            }
        }
        Ok(options)
    }
}

/// Takes points. The content type says how the body is read: `application/json` (one object, or an array), `application/x-ndjson`
/// (an object a line) or `text/csv` (with a header; the parameters say what its columns are). `Content-Encoding` may be gzip or zstd.
///
/// An object has `metric`, `value`, and where wanted `tags` and `time` (RFC 3339; now where it is left out); or `values` with several
/// metrics of one instant. Points that break a rule are told with line and field, and the others are kept. The answer comes when what
/// was kept is on stable storage.
#[utoipa::path(tag = "points",
    params(("dataset" = String, Path),
        ("time" = Option<String>, Query, description = "CSV: column of the time"),
        ("tag" = Option<Vec<String>>, Query, description = "CSV: columns that are tags"),
        ("value" = Option<Vec<String>>, Query, description = "CSV: columns of numbers, each as COLUMN or COLUMN=METRIC"),
        ("state" = Option<Vec<String>>, Query, description = "CSV: columns of words, each as COLUMN or COLUMN=METRIC"),
        ("const" = Option<Vec<String>>, Query, description = "CSV: tags that every row has, each as KEY=VALUE"),
        ("all_or_nothing" = Option<bool>, Query, description = "keep nothing where anything is rejected"),
        ("dry_run" = Option<bool>, Query, description = "read everything, keep nothing")),
    request_body(description = "points", content(
        (serde_json::Value = "application/json"), (String = "application/x-ndjson"), (String = "text/csv"))),
    responses((status = 200, body = PushReport), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 413, body = Problem), (status = 415, body = Problem), (status = 422, body = Problem, description = "no point was kept"),
        (status = 429, body = Problem, description = "more than the service can keep up with"), (status = 500, body = Problem), (status = 503, body = Problem), (status = 507, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/points")]
pub(crate) async fn push(
    _: Access<Write>,
    state: Shared,
    dataset: web::Path<String>,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, Problem> {
    let options = PushOptions::parse(request.query_string())?;
    let format = format_of(&request, &options)?;
    let encoding = encoding_of(&request)?;
    // A wrong dataset is told before the body is waited for.
    state.store.begin(&dataset)?;
    let mut share = state.bodies.share();
    let limit = state.limits.body_bytes.min(state.limits.all_bodies_bytes);
    let announced = request.headers().get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
    let body = collect(payload, announced.unwrap_or(0), limit, &mut share).await?;
    let durability = state.store.options().durability;
    let report = blocking(&state, move |state| take(state, &dataset, &format, encoding, Body { bytes: body, share }, &options)).await?;
    let mut answer = HttpResponse::Ok();
    if !report.dry_run {
        answer.insert_header(("Fenetre-Durability", durability.to_string()));
    }
    Ok(answer.json(report))
}

/// Bytes of a body for which room is made before they come.
const BELIEVED: usize = 8 << 20;

/// A body, and the memory that it may take.
struct Body {
    bytes: Vec<u8>,
    share: Share,
}

fn behind() -> Problem {
    Problem::new(Sort::Behind, "the bodies that are being taken fill the memory that is there for them. Send again in a moment")
}

fn format_of(request: &HttpRequest, options: &PushOptions) -> Result<Format, Problem> {
    let header = request.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let essence = header.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    match essence.as_str() {
        "application/json" => Ok(Format::Json),
        "application/x-ndjson" | "application/ndjson" | "application/jsonl" | "application/x-jsonlines" => Ok(Format::JsonLines),
        "text/csv" => Ok(Format::Csv(options.mapping.clone())),
        _ => {
            let found = if essence.is_empty() {
                "the call does not say of which type its body is".to_owned()
            } else {
                format!("the type `{essence}` is not read")
            };
            let known = "-H 'Content-Type: application/json' for an object, application/x-ndjson for an object a line, text/csv for a table";
            Err(Problem::new(Sort::MediaType, format!("{found}: say it with {known}")))
        }
    }
}

fn encoding_of(request: &HttpRequest) -> Result<Encoding, Problem> {
    let header = request.headers().get(header::CONTENT_ENCODING).map_or("", |value| value.to_str().unwrap_or("?"));
    Encoding::from_header(header)
        .ok_or_else(|| Problem::new(Sort::MediaType, format!("the content encoding `{header}` is not read: there are gzip and zstd")))
}

async fn collect(mut payload: web::Payload, announced: usize, limit: usize, share: &mut Share) -> Result<Vec<u8>, Problem> {
    // What is announced is believed up to a few megabytes: whoever announces more must send it first.
    let mut body = Vec::with_capacity(announced.min(limit).min(BELIEVED));
    while let Some(chunk) = payload.next().await {
        let chunk = chunk.map_err(|error| Problem::new(Sort::Request, format!("the body did not arrive whole: {error}")))?;
        if body.len() + chunk.len() > limit {
            let text = format!("the body is larger than {limit} bytes: send it in smaller parts, or compressed");
            return Err(Problem::new(Sort::TooLarge, text));
        }
        if !share.grow(chunk.len()) {
            return Err(behind());
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

fn take(state: &State, dataset: &str, format: &Format, encoding: Encoding, body: Body, options: &PushOptions) -> Result<PushReport, Problem> {
    let Body { bytes: body, mut share } = body;
    let body = unfold(encoding, body, &state.limits, &mut share)?;
    let mut batch = state.store.begin(dataset)?;
    let tally = read(format, &body, now(), &mut batch)?;
    drop(body);
    let mut report = PushReport {
        new_metrics: batch.new_metrics().map(str::to_owned).collect(),
        new_series: batch.new_series() as u64,
        dry_run: options.dry_run,
        tally,
    };
    let refused = report.tally.rejected > 0 && (options.all_or_nothing || report.tally.accepted == 0);
    if options.dry_run {
        return Ok(report);
    }
    if refused {
        let nothing = Tally { accepted: 0, ..report.tally };
        state.arrivals.count(now(), 0, nothing.rejected);
        report = PushReport { tally: nothing, new_metrics: Vec::new(), new_series: 0, dry_run: false };
        return Err(rejected(report, options.all_or_nothing));
    }
    state.store.write(batch)?;
    state.arrivals.count(now(), report.tally.accepted, report.tally.rejected);
    Ok(report)
}

/// Unfolds a body, within its own limit and within what is left for all bodies.
fn unfold(encoding: Encoding, body: Vec<u8>, limits: &CallLimits, share: &mut Share) -> Result<Vec<u8>, Problem> {
    if encoding == Encoding::Identity {
        return Ok(unpack(encoding, body, limits.unpacked_bytes)?);
    }
    // What would not fit even if it were the only one is too large, and not early.
    let limit = limits.unpacked_bytes.min(limits.all_bodies_bytes.saturating_sub(body.len()));
    let granted = share.grow_up_to(limit);
    match unpack(encoding, body, granted) {
        Err(FormatError::TooLarge { .. }) if granted < limit => Err(behind()),
        unpacked => {
            let body = unpacked?;
            share.shrink_to(body.len());
            Ok(body)
        }
    }
}

fn rejected(report: PushReport, all_or_nothing: bool) -> Problem {
    let first = report.tally.rejects.first().map_or(String::new(), |reject| {
        let field = reject.field.as_ref().map_or(String::new(), |field| format!(", {field}"));
        format!(": line {}{field}: {}", reject.line, reject.reason)
    });
    let rejected = report.tally.rejected;
    let detail = match all_or_nothing {
        true => format!("{rejected} rejected, and all_or_nothing was asked for, so nothing was kept{first}"),
        false => format!("all {rejected} rejected{first}"),
    };
    Problem { report: Some(Box::new(report)), ..Problem::new(Sort::Rejected, detail) }
}
