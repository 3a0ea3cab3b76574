//! Points in: a body of any format. Its valid rows are stored, or all or none of it, and each reject is reported.

use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

use actix_web::{HttpRequest, HttpResponse, http::header, post, web};
use fenetre_access::grant::Action;
use fenetre_core::suggest::{closest, listing};
use fenetre_flows::{arrivals::sender::Sender, intake::Order};
use fenetre_formats::{
    Format, FormatError,
    mapping::{Column, Mapping, Role},
    unpack::{Encoding, unpack},
};
use fenetre_wire::push::PushReport;

use crate::{
    access::caller::Caller,
    clock::now,
    config::CallLimits,
    http::budget::Share,
    permission::{Access, WriteGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking, in_lane},
};

/// How a body is taken.
#[derive(Debug, Default)]
pub(crate) struct PushOptions {
    pub dry_run: bool,
    pub all_or_nothing: bool,
    /// The name of a stored mapping.
    pub named: Option<String>,
    /// What the other parameters state; it overrides the mapping.
    pub own: Mapping,
}

const PARAMETERS: [&str; 13] =
    ["mapping", "time", "time_of_day", "time_format", "zone", "tag", "value", "state", "const", "missing", "encoding", "all_or_nothing", "dry_run"];

impl PushOptions {
    /// Reads the query string, in which `tag`, `value`, `state`, `const` and `missing` may come several times.
    pub fn parse(query: &str) -> Result<Self, ApiError> {
        let mut options = Self::default();
        for (name, value) in form_urlencoded::parse(query.as_bytes()) {
            let truth = || match &*value {
                "true" | "" => Ok(true),
                "false" => Ok(false),
                other => Err(ApiError::new(ProblemKind::Request, format!("the parameter {name} is `{other}`: write true or false"))),
            };
            match &*name {
                "mapping" => options.named = Some(value.into_owned()),
                "time" => options.own.time.column = Some(value.into_owned()),
                "time_of_day" => options.own.time.time_of_day = Some(value.into_owned()),
                "encoding" => options.own.table.encoding = Some(value.into_owned()),
                "time_format" => options.own.time.format = Some(value.into_owned()),
                "zone" => options.own.time.zone = Some(value.into_owned()),
                "tag" => options.own.columns.push(Column::parse(&value, Role::Tag)),
                "value" => options.own.columns.push(Column::parse(&value, Role::Value)),
                "state" => options.own.columns.push(Column::parse(&value, Role::State)),
                "missing" => options.own.missing.push(value.into_owned()),
                "const" => match value.split_once('=') {
                    Some((key, value)) => {
                        options.own.tags.insert(key.to_owned(), value.to_owned());
                    }
                    None => return Err(ApiError::new(ProblemKind::Request, format!("the parameter const is `{value}`: write const=KEY=VALUE"))),
                },
                "all_or_nothing" => options.all_or_nothing = truth()?,
                "dry_run" => options.dry_run = truth()?,
                other => {
                    let hint = closest(other, PARAMETERS).map_or_else(|| listing(PARAMETERS, 12), |known| format!("did you mean `{known}`?"));
                    return Err(ApiError::new(ProblemKind::Request, format!("unknown parameter `{other}`: {hint}")));
                }
            }
        }
        Ok(options)
    }

    /// The mapping that a body of some format is read by, if any is.
    fn mapping(&self, state: &State, caller: &Caller, format: Format) -> Result<Option<Mapping>, ApiError> {
        let own = (self.own != Mapping::default()).then(|| self.own.clone());
        let mapping = match &self.named {
            None => own,
            Some(name) => {
                let mut kept = crate::views::mappings::find(state, caller.may_everywhere(Action::Read), name)?;
                if let Some(own) = own {
                    kept.merge(own);
                }
                Some(kept)
            }
        };
        if let Some(mapping) = &mapping {
            mapping.check().map_err(|error| ApiError::new(ProblemKind::Request, error))?;
            if !format.takes_mapping() {
                let text = format!("{} needs no mapping and no column parameters: these are for tables and JSON objects", format.name());
                return Err(ApiError::new(ProblemKind::Request, text));
            }
        }
        let needs_one = matches!(format, Format::Csv | Format::Tsv);
        Ok(if needs_one { Some(mapping.unwrap_or_default()) } else { mapping })
    }
}

/// Stores points.
///
/// The content type gives the format: `application/json` (an object or an array), `application/x-ndjson` (one object per line), `text/csv` and
/// `text/tab-separated-values` (a mapping or the parameters describe the columns), `application/senml+json`, `application/senml+cbor`,
/// `application/openmetrics-text`, `application/vnd.apache.arrow.stream` or `application/vnd.apache.parquet`. `Content-Encoding` may be gzip or zstd.
///
/// An object has `metric` and `value`, or `values` with several metrics of one instant; and optionally `tags` and `time` (RFC 3339; default: now).
/// Points that break a rule are rejected with line and field; all others are stored. The answer comes when they are on stable storage.
#[utoipa::path(security(("token" = ["write"])), tag = "points",
    params(("dataset" = String, Path),
        ("mapping" = Option<String>, Query, description = "Tables and objects: name of a stored mapping"),
        ("time" = Option<String>, Query, description = "Tables and objects: column of the time"),
        ("time_of_day" = Option<String>, Query, description = "Tables and objects: column of the time of day, if `time` names that of the date"),
        ("time_format" = Option<String>, Query, description = "Tables and objects: format of times: iso, s, ms, us, ns, serial, or a pattern such as %d.%m.%Y %H:%M"),
        ("zone" = Option<String>, Query, description = "Tables and objects: time zone of times without an offset"),
        ("tag" = Option<Vec<String>>, Query, description = "Tables and objects: columns that are tags, each as COLUMN or COLUMN=KEY"),
        ("value" = Option<Vec<String>>, Query, description = "Tables and objects: columns of numbers, each as COLUMN or COLUMN=METRIC"),
        ("state" = Option<Vec<String>>, Query, description = "Tables and objects: columns of states, each as COLUMN or COLUMN=METRIC"),
        ("const" = Option<Vec<String>>, Query, description = "Tables and objects: tags of every row, each as KEY=VALUE"),
        ("missing" = Option<Vec<String>>, Query, description = "Tables and objects: marks of missing values"),
        ("encoding" = Option<String>, Query, description = "Tables: character encoding, such as windows-1252 (default: UTF-8, or that of the byte order mark)"),
        ("all_or_nothing" = Option<bool>, Query, description = "Store nothing if any row is rejected"),
        ("dry_run" = Option<bool>, Query, description = "Read everything, store nothing")),
    request_body(description = "points", content(
        (serde_json::Value = "application/json"), (String = "application/x-ndjson"), (String = "text/csv"), (String = "text/tab-separated-values"),
        (serde_json::Value = "application/senml+json"), (Vec<u8> = "application/senml+cbor"), (String = "application/openmetrics-text"),
        (Vec<u8> = "application/vnd.apache.arrow.stream"), (Vec<u8> = "application/vnd.apache.parquet"))),
    responses((status = 200, body = PushReport), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 408, body = Problem), (status = 413, body = Problem), (status = 415, body = Problem), (status = 422, body = Problem, description = "no point was kept"),
        (status = 429, body = Problem, description = "the service is behind"), (status = 500, body = Problem), (status = 503, body = Problem), (status = 507, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/points")]
pub(crate) async fn push(
    caller: Access<WriteGrant>,
    state: AppState,
    dataset: web::Path<String>,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    caller.check_point_rate()?;
    let caller = caller.into_caller();
    let options = PushOptions::parse(request.query_string())?;
    let format = format_of(&request)?;
    let encoding = encoding_of(&request)?;
    // A wrong dataset or mapping is reported before the body is waited for.
    state.store.begin(&dataset)?;
    let (options, mapping) = if options.named.is_none() {
        let mapping = options.mapping(&state, &caller, format)?;
        (options, mapping)
    } else {
        let caller = caller.clone();
        let look_up = move |state: &State| options.mapping(state, &caller, format).map(|mapping| (options, mapping));
        blocking(&state, look_up).await?
    };
    let body = collect_body(&state, &request, payload).await?;
    let durability = state.store.options().durability;
    let lane = state.lanes.of_body(body.bytes.len());
    let stop = when_late();
    let report = in_lane(&state, lane, move |state| take(state, (&caller, &dataset), (format, mapping), encoding, body, &options, &stop)).await?;
    let mut answer = HttpResponse::Ok();
    if !report.dry_run {
        answer.insert_header(("Fenetre-Durability", durability.to_string()));
    }
    Ok(answer.json(report))
}

/// Time limit for reading a body.
const READING: Duration = Duration::from_secs(60);

/// A check whether the time limit for reading a body, which starts now, has passed.
pub(crate) fn when_late() -> impl Fn() -> bool + Send + 'static {
    let end = Instant::now() + READING;
    move || Instant::now() > end
}

/// Bytes of a body for which room is made before they come.
const BELIEVED: usize = 8 << 20;

/// A body, and the memory that it may take.
pub(crate) struct Body {
    pub bytes: Vec<u8>,
    pub share: Share,
}

fn behind() -> ApiError {
    ApiError::new(ProblemKind::Behind, "request memory is full. Retry in a moment")
}

/// Collects a body within the limits of one and of all.
pub(crate) async fn collect_body(state: &State, request: &HttpRequest, payload: web::Payload) -> Result<Body, ApiError> {
    let mut share = state.bodies.share();
    let limit = state.limits.max_body_bytes.min(state.limits.max_total_body_bytes);
    let announced = request.headers().get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
    let bytes = collect(payload, announced.unwrap_or(0), limit, &mut share).await?;
    Ok(Body { bytes, share })
}

fn format_of(request: &HttpRequest) -> Result<Format, ApiError> {
    let header = request.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let essence = header.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    Format::of_type(&essence).ok_or_else(|| {
        let found = if essence.is_empty() { "the request has no content type".to_owned() } else { format!("the type `{essence}` is not read") };
        let known = Format::types().collect::<Vec<_>>().join(", ");
        ApiError::new(ProblemKind::MediaType, format!("{found}: set it with -H 'Content-Type: application/json' or another of {known}"))
    })
}

pub(crate) fn encoding_of(request: &HttpRequest) -> Result<Encoding, ApiError> {
    let header = request.headers().get(header::CONTENT_ENCODING).map_or("", |value| value.to_str().unwrap_or("?"));
    Encoding::from_header(header)
        .ok_or_else(|| ApiError::new(ProblemKind::MediaType, format!("unsupported content encoding `{header}`: use gzip or zstd")))
}

async fn collect(mut payload: web::Payload, announced: usize, limit: usize, share: &mut Share) -> Result<Vec<u8>, ApiError> {
    // An announced length is trusted up to a few megabytes; memory for more is reserved as it arrives.
    let mut body = Vec::with_capacity(announced.min(limit).min(BELIEVED));
    let mut arrival = crate::http::body::Arrival::new();
    while let Some(chunk) = crate::http::body::next_chunk(&mut payload, &mut arrival).await? {
        if body.len() + chunk.len() > limit {
            let text = format!("the body is larger than {limit} bytes: send it in smaller parts, or compressed");
            return Err(ApiError::new(ProblemKind::TooLarge, text));
        }
        if !share.grow(chunk.len()) {
            return Err(behind());
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

fn take(
    state: &State,
    (caller, dataset): (&Caller, &str),
    form: (Format, Option<Mapping>),
    encoding: Encoding,
    body: Body,
    options: &PushOptions,
    stop: &dyn Fn() -> bool,
) -> Result<PushReport, ApiError> {
    let Body { bytes, mut share } = body;
    let body = decompress(encoding, bytes, &state.limits, &mut share)?;
    let now = now();
    let (format, mapping) = form;
    let metrics = caller.rights().map_or(&[][..], |rights| &rights.metrics);
    let order = Order { dataset, format, mapping, metrics, tags: &BTreeMap::new(), shown: 0, stop };
    let read = state.intake.read(order, body, now)?;
    if options.dry_run {
        return Ok(read.report(true));
    }
    let sender = Sender::Push(caller.token_name());
    let report = read.report(false);
    if report.tally.rejected > 0 && (options.all_or_nothing || report.tally.accepted + report.dropped == 0) {
        let mut nothing = report.tally;
        nothing.accepted = 0;
        state.intake.arrivals.count(now, dataset, &sender, &nothing);
        return Err(rejected(PushReport { tally: nothing, ..PushReport::default() }, options.all_or_nothing));
    }
    let report = read.keep(&state.intake, dataset, &sender, now)?;
    caller.count_points(report.tally.accepted);
    Ok(report)
}

/// Decompresses a body, within its own limit and that of all bodies.
pub(crate) fn decompress(encoding: Encoding, body: Vec<u8>, limits: &CallLimits, share: &mut Share) -> Result<Vec<u8>, ApiError> {
    if encoding == Encoding::Identity {
        return Ok(unpack(encoding, body, limits.max_decompressed_bytes)?);
    }
    // A body that would not fit even alone is too large; waiting does not help.
    let limit = limits.max_decompressed_bytes.min(limits.max_total_body_bytes.saturating_sub(body.len()));
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

fn rejected(report: PushReport, all_or_nothing: bool) -> ApiError {
    let first = report.tally.rejects.first().map_or(String::new(), |reject| format!(": {}: {}", reject.place(), reject.reason));
    let rejected = report.tally.rejected;
    let detail = match all_or_nothing {
        true => format!("{rejected} rejected, and all_or_nothing was asked for, so nothing was stored{first}"),
        false => format!("all {rejected} rejected{first}"),
    };
    ApiError::new(ProblemKind::Rejected, detail).with_report(report)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parameters_make_a_mapping() {
        let options = PushOptions::parse("mapping=keepers&time=at&time_format=ms&zone=UTC&tag=lock&tag=s%3Dside&value=level_cm%3Dlevel&state=gate&const=reach%3Dupper&missing=NA&dry_run").unwrap();
        assert_eq!((options.named.as_deref(), options.dry_run, options.all_or_nothing), (Some("keepers"), true, false));
        let own = options.own;
        assert_eq!((own.time.column.as_deref(), own.time.format.as_deref(), own.time.zone.as_deref()), (Some("at"), Some("ms"), Some("UTC")));
        let columns: Vec<(&str, &str, Role)> = own.columns.iter().map(|column| (column.column.as_str(), column.target(), column.role)).collect();
        assert_eq!(
            columns,
            [("lock", "lock", Role::Tag), ("s", "side", Role::Tag), ("level_cm", "level", Role::Value), ("gate", "gate", Role::State)]
        );
        assert_eq!((own.tags["reach"].as_str(), own.missing.join(" ")), ("upper", "NA".to_owned()));
    }

    #[test]
    fn unknown_parameters_are_refused() {
        let detail = |query: &str| PushOptions::parse(query).unwrap_err().into_problem().detail;
        assert!(detail("valeu=x").contains("did you mean `value`?"));
        assert!(detail("const=reach").contains("const=KEY=VALUE"));
        assert!(detail("dry_run=maybe").contains("true or false"));
    }
}
