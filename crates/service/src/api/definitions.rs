//! Definitions of many metrics at once, as JSON or as a table: the differences first, then all or none.

use std::collections::{BTreeMap, BTreeSet};

use actix_web::{HttpResponse, get, post, web};
use fenetre_access::change::{Act, Subject};
use fenetre_core::{catalogue::Dataset, model::MetricDefinition, suggest::listing, visibility::VisibleCatalogue};
use fenetre_formats::definitions;
use fenetre_wire::definitions::{Change, Differences, MetricDefinitions};
use serde::Deserialize;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    api::read_json,
    changes::Recorded,
    permission::{Access, DefineGrant, ReadGrant},
    problem::{ApiError, Problem},
    state::{AppState, State, blocking},
    views::names::find,
};

/// Whether to change anything.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct DryRun {
    /// Return the changes, and change nothing.
    dry_run: bool,
}

/// Defines many metrics: all or none.
///
/// Metrics that are not named stay as they are.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", params(("dataset" = String, Path)), request_body = MetricDefinitions,
    responses((status = 200, body = Differences), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/metrics")]
pub(crate) async fn put_many(
    caller: Access<DefineGrant>,
    state: AppState,
    name: web::Path<String>,
    mut payload: web::Payload,
) -> Result<web::Json<Differences>, ApiError> {
    let body = crate::http::body::read_all(&mut payload, MAX_DEFINITION_BYTES).await?;
    let MetricDefinitions { metrics, dry_run } = read_json(&body)?;
    let caller = caller.into_caller();
    blocking(&state, move |state| apply(state, &caller, &name, metrics, dry_run)).await.map(web::Json)
}

/// Returns the definitions of all metrics as CSV, one row per metric.
#[utoipa::path(security(("token" = ["read"])), tag = "catalogue", params(("dataset" = String, Path)),
    responses((status = 200, body = String, content_type = "text/csv"), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/definitions.csv")]
pub(crate) async fn table(caller: Access<ReadGrant>, state: AppState, name: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let visibility = caller.visibility();
    let work = move |state: &State| {
        state.store.with_catalogue(|catalogue| {
            let dataset = find(catalogue, &name)?;
            let metrics = VisibleCatalogue::new(catalogue, &visibility).metrics(dataset);
            let mut table = Vec::new();
            definitions::write(metrics.map(|metric| (&*metric.name, &metric.definition)), &mut table).map_err(|error| ApiError::internal(&error))?;
            Ok((table, format!("attachment; filename=\"{}.csv\"", name.replace(|letter: char| !letter.is_ascii_alphanumeric(), "_"))))
        })
    };
    let (table, file) = blocking(&state, work).await?;
    Ok(HttpResponse::Ok().content_type("text/csv; charset=utf-8").insert_header(("Content-Disposition", file)).body(table))
}

/// Defines many metrics from CSV, one row per metric: all or none.
///
/// Omitted columns stay as they are.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", params(("dataset" = String, Path), DryRun), request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = Differences), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/definitions.csv")]
pub(crate) async fn put_table(
    caller: Access<DefineGrant>,
    state: AppState,
    name: web::Path<String>,
    how: web::Query<DryRun>,
    mut payload: web::Payload,
) -> Result<web::Json<Differences>, ApiError> {
    let body = crate::http::body::read_all(&mut payload, MAX_DEFINITION_BYTES).await?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let metrics = {
            state.store.with_catalogue(|catalogue| {
                let dataset = find(catalogue, &name)?;
                Ok::<_, ApiError>(definitions::read(&body[..], |metric| dataset.metric(metric).map(|known| &known.definition))?)
            })?
        };
        apply(state, &caller, &name, metrics, how.dry_run)
    };
    blocking(&state, work).await.map(web::Json)
}

fn apply(state: &State, caller: &Caller, name: &str, metrics: BTreeMap<String, MetricDefinition>, dry_run: bool) -> Result<Differences, ApiError> {
    let mut differences = state.store.with_catalogue(|catalogue| differences(find(catalogue, name)?, &metrics))?;
    let differing: BTreeSet<String> = differences.new.iter().cloned().chain(differences.changed.iter().map(|change| change.metric.clone())).collect();
    let metrics = metrics.into_iter().filter(|(metric, _)| differing.contains(metric)).collect::<Vec<_>>();
    if dry_run {
        state.store.definitions().check_metrics(name, &metrics)?;
    } else {
        state.store.definitions().put_metrics(name, metrics, false)?;
        differences.applied = true;
        let values = |side: fn(&Change) -> &String| {
            let named = differences.changed.iter().map(|change| (format!("{}.{}", change.metric, change.field), side(change).as_str().into()));
            Some(serde_json::Value::Object(named.collect()))
        };
        if !differing.is_empty() {
            let object = listing(differing.iter().map(String::as_str), 5).replace('`', "");
            let (before, after) = (values(|change| &change.before), values(|change| &change.after));
            Recorded::new(caller, Subject::Metric, Act::Defined, object).of(name).write(state, before, after)?;
        }
    }
    Ok(differences)
}

/// Bytes of a body of definitions: 50,000 of them take a fifth.
const MAX_DEFINITION_BYTES: usize = 64 << 20;

fn differences(dataset: &Dataset, metrics: &BTreeMap<String, MetricDefinition>) -> Result<Differences, ApiError> {
    let mut found = Differences::default();
    for (name, wanted) in metrics {
        let Some(known) = dataset.metric(name) else {
            found.new.push(name.clone());
            continue;
        };
        if known.definition == *wanted {
            found.same += 1;
            continue;
        }
        let fields = |definition: &MetricDefinition| match serde_json::to_value(definition) {
            Ok(serde_json::Value::Object(fields)) => Ok(fields),
            Ok(_) => Ok(serde_json::Map::new()),
            Err(error) => Err(ApiError::internal(&error)),
        };
        let (before, after) = (fields(&known.definition)?, fields(wanted)?);
        let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
        let text_of = |value: Option<&serde_json::Value>| match value {
            None => String::new(),
            Some(serde_json::Value::String(text)) => text.clone(),
            Some(other) => other.to_string(),
        };
        let changes = names.into_iter().filter(|name| before.get(*name) != after.get(*name));
        found.changed.extend(changes.map(|changed| Change {
            metric: name.clone(),
            field: changed.clone(),
            before: text_of(before.get(changed)),
            after: text_of(after.get(changed)),
        }));
    }
    Ok(found)
}
