//! Datasets, and what is defined in them: metrics and tags.

use actix_web::{get, put, web};
use fenetre_core::{
    catalogue::{Catalogue, Dataset},
    model::{Kind, MetricDefinition, Shape},
    suggest::listing,
    time::{Nanos, format_utc},
};
use fenetre_store::SeriesCount;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::read_json;
use crate::{
    access::{Access, Define, Read},
    problem::{Problem, Sort},
    state::{Shared, blocking},
};

/// A dataset and what it holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DatasetInfo {
    /// Its name.
    pub name: String,
    /// IANA name of the zone that its calendar follows.
    pub zone: String,
    /// One sentence.
    pub description: String,
    /// Metrics.
    pub metrics: u64,
    /// Series.
    pub series: u64,
    /// Points and when they begin and end.
    #[serde(flatten)]
    pub held: Held,
}

/// Points, counted.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Held {
    /// How many.
    pub points: u64,
    /// Time of the earliest.
    pub first: Option<String>,
    /// Time of the latest.
    pub last: Option<String>,
}

impl Held {
    /// The sum of some series.
    pub fn of<'a>(counts: impl IntoIterator<Item = &'a SeriesCount>) -> Self {
        let (mut points, mut span): (u64, Option<(Nanos, Nanos)>) = (0, None);
        for count in counts {
            points += count.points;
            let (first, last) = span.unwrap_or((count.first, count.last));
            span = Some((first.min(count.first), last.max(count.last)));
        }
        Self { points, first: span.map(|(first, _)| format_utc(first)), last: span.map(|(_, last)| format_utc(last)) }
    }
}

/// What is said of a dataset.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct DatasetDefinition {
    /// IANA name of a zone; `UTC` where it is left out.
    pub zone: String,
    /// One sentence.
    pub description: String,
}

impl Default for DatasetDefinition {
    fn default() -> Self {
        Self { zone: "UTC".to_owned(), description: String::new() }
    }
}

/// What came of a definition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Defined {
    /// Whether it is new.
    pub created: bool,
}

/// A metric and what it holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricInfo {
    /// Its name.
    pub name: String,
    /// `gauge`, `counter` or `state`.
    #[schema(value_type = String)]
    pub kind: Kind,
    /// UCUM code of its unit.
    pub unit: Option<String>,
    /// `linear` or `stepped`.
    #[schema(value_type = String)]
    pub shape: Shape,
    /// One sentence.
    pub description: String,
    /// Keys of the tags that its series carry.
    pub tags: Vec<String>,
    /// Series.
    pub series: u64,
    /// Points and when they begin and end.
    #[serde(flatten)]
    pub held: Held,
}

/// A tag key and its values.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagInfo {
    /// The key.
    pub key: String,
    /// Values, in order.
    pub values: Vec<TagValue>,
}

/// A value of a tag.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagValue {
    /// The value.
    pub value: String,
    /// Series that carry it.
    pub series: u64,
}

/// Which metric's.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct MetricFilter {
    /// Only of this metric.
    metric: Option<String>,
}

/// The dataset of that name.
pub(crate) fn find<'c>(catalogue: &'c Catalogue, name: &str) -> Result<&'c Dataset, Problem> {
    catalogue.dataset(name).ok_or_else(|| {
        let known = listing(catalogue.datasets().map(|dataset| &*dataset.name), 10);
        Problem::new(Sort::NotFound, format!("there is no dataset `{name}`: there are {known}"))
    })
}

/// The metric of that name, if one is asked for.
pub(crate) fn find_metric<'d>(dataset: &'d Dataset, name: Option<&str>) -> Result<Option<&'d fenetre_core::catalogue::Metric>, Problem> {
    let Some(name) = name else { return Ok(None) };
    let names = || dataset.metrics().map(|metric| &*metric.name);
    dataset.metric(name).map(Some).ok_or_else(|| {
        let hint = match fenetre_core::suggest::closest(name, names()) {
            Some(known) => format!("did you mean `{known}`?"),
            None if names().next().is_none() => "it has no metrics yet".to_owned(),
            None => format!("it has {}", listing(names(), 12)),
        };
        Problem::new(Sort::NotFound, format!("the dataset `{}` has no metric `{name}`: {hint}", dataset.name))
    })
}

/// Every dataset.
#[utoipa::path(tag = "catalogue", responses((status = 200, body = [DatasetInfo]), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/datasets")]
pub(crate) async fn list(_: Access<Read>, state: Shared) -> Result<web::Json<Vec<DatasetInfo>>, Problem> {
    let work = |state: &crate::state::State| {
        let catalogue = state.store.catalogue();
        let info = |dataset: &Dataset| -> Result<DatasetInfo, Problem> {
            Ok(DatasetInfo {
                name: dataset.name.to_string(),
                zone: dataset.zone.clone(),
                description: dataset.description.clone(),
                metrics: dataset.metrics().count() as u64,
                series: dataset.series_count() as u64,
                held: Held::of(state.store.counts(dataset.id)?.values()),
            })
        };
        catalogue.datasets().map(info).collect()
    };
    blocking(&state, work).await.map(web::Json)
}

/// Adds a dataset, or changes what is said of one.
#[utoipa::path(tag = "catalogue", request_body = DatasetDefinition, params(("dataset" = String, Path)),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem), (status = 409, body = Problem)))]
#[put("/api/v1/datasets/{dataset}")]
pub(crate) async fn put(_: Access<Define>, state: Shared, name: web::Path<String>, body: web::Bytes) -> Result<web::Json<Defined>, Problem> {
    let definition: DatasetDefinition = if body.is_empty() { DatasetDefinition::default() } else { read_json(&body)? };
    let work = move |state: &crate::state::State| Ok(state.store.put_dataset(&name, &definition.zone, &definition.description)?);
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// The metrics of a dataset.
#[utoipa::path(tag = "catalogue", params(("dataset" = String, Path)),
    responses((status = 200, body = [MetricInfo]), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/metrics")]
pub(crate) async fn list_metrics(_: Access<Read>, state: Shared, name: web::Path<String>) -> Result<web::Json<Vec<MetricInfo>>, Problem> {
    let work = move |state: &crate::state::State| {
        let catalogue = state.store.catalogue();
        let dataset = find(&catalogue, &name)?;
        let counts = state.store.counts(dataset.id)?;
        let info = |metric: &fenetre_core::catalogue::Metric| MetricInfo {
            name: metric.name.to_string(),
            kind: metric.definition.kind,
            unit: metric.definition.unit.clone(),
            shape: metric.definition.shape,
            description: metric.definition.description.clone(),
            tags: dataset.tags(Some(metric)).into_iter().map(|tag| tag.key.to_owned()).collect(),
            series: metric.series_count(),
            held: Held::of(metric.series().filter_map(|series| counts.get(&series))),
        };
        Ok(dataset.metrics().map(info).collect())
    };
    blocking(&state, work).await.map(web::Json)
}

/// Says what a metric is, before or after its first point.
#[utoipa::path(tag = "catalogue", params(("dataset" = String, Path), ("metric" = String, Path)),
    request_body(content = serde_json::Value, description = "`kind` (gauge, counter, state), `unit` (UCUM), `shape` (linear, stepped), `description`"),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[put("/api/v1/datasets/{dataset}/metrics/{metric}")]
pub(crate) async fn put_metric(
    _: Access<Define>,
    state: Shared,
    path: web::Path<(String, String)>,
    body: web::Bytes,
) -> Result<web::Json<Defined>, Problem> {
    let definition: MetricDefinition = read_json(&body)?;
    let work = move |state: &crate::state::State| Ok(state.store.put_metric(&path.0, &path.1, definition)?);
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// The tags of a dataset's series, with their values.
#[utoipa::path(tag = "catalogue", params(("dataset" = String, Path), MetricFilter),
    responses((status = 200, body = [TagInfo]), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/tags")]
pub(crate) async fn list_tags(
    _: Access<Read>,
    state: Shared,
    name: web::Path<String>,
    filter: web::Query<MetricFilter>,
) -> Result<web::Json<Vec<TagInfo>>, Problem> {
    let catalogue = state.store.catalogue();
    let dataset = find(&catalogue, &name)?;
    let metric = find_metric(dataset, filter.metric.as_deref())?;
    let value = |(value, series): &(&str, u64)| TagValue { value: (*value).to_owned(), series: *series };
    let tags = dataset.tags(metric).into_iter().map(|tag| TagInfo { key: tag.key.to_owned(), values: tag.values.iter().map(value).collect() });
    Ok(web::Json(tags.collect()))
}
