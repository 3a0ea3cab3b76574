//! Datasets with their metrics and tags.

use std::collections::BTreeMap;

use actix_web::{get, post, put, web};
use fenetre_access::{
    change::{Act, Subject},
    grant::Action,
};
use fenetre_core::{
    catalogue::{Catalogue, Metric},
    model::{DatasetDefinition, MetricDefinition, TagDefinition},
    units,
    visibility::VisibleCatalogue,
};
use fenetre_store::{Conversion, StoreError};
use fenetre_wire::datasets::{
    ConvertedPoints, DatasetInfo, Defined, DefinedMetric, MetricInfo, OldName, Rename, Renamed, TagInfo, TagValue, Thinned,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::IntoParams;

use crate::{
    access::caller::Caller,
    api::{Body, read_json},
    changes::Recorded,
    clock::now,
    permission::{Access, AdminDatasetGrant, AnyGrant, DefineGrant, ReadGrant},
    problem::{ApiError, Problem, ProblemKind},
    state::{AppState, State, blocking},
    views::{
        self,
        names::{find, find_metric},
        references::ReferenceTarget,
        stored::stored,
    },
};

/// Which metric's.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct MetricFilter {
    /// Only this metric.
    metric: Option<String>,
}

/// Lists the datasets.
#[utoipa::path(security(("token" = ["read"])), tag = "catalogue", responses((status = 200, body = [DatasetInfo]), (status = 403, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/datasets")]
pub(crate) async fn list(caller: Access<ReadGrant>, state: AppState) -> Result<web::Json<Vec<DatasetInfo>>, ApiError> {
    let visibility = caller.visibility();
    let work = move |state: &State| {
        let mut infos: Vec<DatasetInfo> = Vec::new();
        for id in state
            .store
            .with_catalogue(|catalogue| VisibleCatalogue::new(catalogue, &visibility).datasets().map(|dataset| dataset.id).collect::<Vec<_>>())
        {
            let counts = state.store.inspect().counts(id)?;
            let info = |catalogue: &Catalogue| {
                let visible = VisibleCatalogue::new(catalogue, &visibility);
                let dataset = visible.dataset_by_id(id)?;
                let series = || visible.metrics(dataset).flat_map(Metric::series);
                Some(DatasetInfo {
                    name: dataset.name.to_string(),
                    definition: dataset.definition.clone(),
                    old_names: catalogue.old_names().filter(|(_, name)| **name == *dataset.name).map(|(old, _)| old.to_owned()).collect(),
                    metrics: visible.metrics(dataset).count() as u64,
                    unreviewed: visible.metrics(dataset).filter(|metric| metric.definition.unreviewed).count() as u64,
                    series: series().count() as u64,
                    stored: stored(series().filter_map(|series| counts.get(&series))),
                })
            };
            infos.extend(state.store.with_catalogue(info));
        }
        Ok(infos)
    };
    blocking(&state, work).await.map(web::Json)
}

/// Creates a dataset, or changes its definition.
#[utoipa::path(security(("token" = [])), tag = "catalogue", request_body = DatasetDefinition, params(("dataset" = String, Path)),
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem), (status = 409, body = Problem)))]
#[put("/api/v1/datasets/{dataset}")]
pub(crate) async fn put(caller: Access<AnyGrant>, state: AppState, name: web::Path<String>, body: Body) -> Result<web::Json<Defined>, ApiError> {
    require_definition(&caller, &state, &name)?;
    let definition: DatasetDefinition = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let look = |state: &State| json_of(state, |catalogue| Some(catalogue.dataset_by_any_name(&name)?.definition.clone()));
        let define = |state: &State| Ok(state.store.definitions().put_dataset(&name, &definition)?);
        Recorded::new(&caller, Subject::Dataset, Act::Defined, &*name).of(&*name).around(state, look, define)
    };
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// A dataset that exists is defined by who may define it, a new one by an administrator. A caller cannot distinguish the two cases for a dataset that it may not see.
fn require_definition(caller: &Caller, state: &State, name: &str) -> Result<(), ApiError> {
    state.store.with_catalogue(|catalogue| match catalogue.dataset_by_any_name(name) {
        Some(dataset) if caller.may(Action::Define, catalogue, dataset) => caller.require_all_metrics(),
        None if caller.may_as_new(Action::Admin, name) => Ok(()),
        _ => Err(caller.lacks(&format!("define:{name} (or admin:{name}, if the dataset is new)"))),
    })
}

/// Something of the catalogue as JSON, for the record of changes.
fn json_of<T: Serialize>(state: &State, look: impl FnOnce(&Catalogue) -> Option<T>) -> Result<Option<Value>, ApiError> {
    state.store.with_catalogue(look).map(serde_json::to_value).transpose().map_err(|error| ApiError::internal(&error))
}

/// Renames a dataset.
///
/// Points and ids stay. Queries and pushes may still use the old name.
#[utoipa::path(security(("token" = ["admin"])), tag = "catalogue", request_body = Rename, params(("dataset" = String, Path)),
    responses((status = 200, body = Renamed), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/rename")]
pub(crate) async fn rename(
    caller: Access<AdminDatasetGrant>,
    state: AppState,
    name: web::Path<String>,
    body: Body,
) -> Result<web::Json<Renamed>, ApiError> {
    let name = name.into_inner();
    let Rename { to } = read_json(&body)?;
    // Grants on a pattern could come to hold, or cease to.
    if !caller.may_as_new(Action::Admin, &to) {
        return Err(caller.lacks(&format!("admin:{to}")));
    }
    let change = |state: &State, old: &str, to: &str| state.store.definitions().rename_dataset(old, to);
    renamed(&state, caller.into_caller(), (None, name), to, ReferenceTarget::Dataset, change).await
}

/// Carries out a rename, and returns what still refers to the old name.
async fn renamed(
    state: &AppState,
    caller: Caller,
    (dataset, old): (Option<String>, String),
    to: String,
    target: ReferenceTarget,
    change: impl FnOnce(&State, &str, &str) -> Result<(), StoreError> + Send + 'static,
) -> Result<web::Json<Renamed>, ApiError> {
    let work = move |state: &State| {
        let references = views::references::of(state, &caller, target, &old)?;
        change(state, &old, &to)?;
        let subject = match target {
            ReferenceTarget::Dataset => Subject::Dataset,
            ReferenceTarget::Metric => Subject::Metric,
            ReferenceTarget::Tag => Subject::Tag,
        };
        let of = dataset.unwrap_or_else(|| to.clone());
        Recorded::new(&caller, subject, Act::Renamed, &to).of(of).write(state, Some(old.into()), Some(to.as_str().into()))?;
        Ok(Renamed { references })
    };
    blocking(state, work).await.map(web::Json)
}

/// Lists the metrics of a dataset.
#[utoipa::path(security(("token" = ["read"])), tag = "catalogue", params(("dataset" = String, Path)),
    responses((status = 200, body = [MetricInfo]), (status = 403, body = Problem), (status = 404, body = Problem), (status = 500, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/metrics")]
pub(crate) async fn list_metrics(
    caller: Access<ReadGrant>,
    state: AppState,
    name: web::Path<String>,
) -> Result<web::Json<Vec<MetricInfo>>, ApiError> {
    let visibility = caller.visibility();
    let work = move |state: &State| {
        let savings = state.store.definitions().savings()?;
        let id = state.store.with_catalogue(|catalogue| find(catalogue, &name).map(|dataset| dataset.id))?;
        let counts = state.store.inspect().counts(id)?;
        state.store.with_catalogue(|catalogue| {
            let dataset = find(catalogue, &name)?;
            let tags = dataset.tag_keys_by_metric();
            let mut old: BTreeMap<&str, Vec<String>> = BTreeMap::new();
            dataset.old_metrics().for_each(|(before, name)| old.entry(name).or_default().push(before.to_owned()));
            let info = |metric: &fenetre_core::catalogue::Metric| MetricInfo {
                name: metric.name.to_string(),
                id: metric.id.0,
                definition: metric.definition.clone(),
                old_names: old.get(&*metric.name).cloned().unwrap_or_default(),
                tags: tags.get(&metric.id).map(|keys| keys.iter().map(|key| (*key).to_owned()).collect()).unwrap_or_default(),
                series: metric.series_count(),
                thinned: savings.get(&metric.id).map(|(came, stayed)| Thinned { came: *came, left_out: came - stayed }),
                stored: stored(metric.series().filter_map(|series| counts.get(&series))),
            };
            Ok(VisibleCatalogue::new(catalogue, &visibility).metrics(dataset).map(info).collect())
        })
    };
    blocking(&state, work).await.map(web::Json)
}

/// Defines a metric, before or after its first point.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue",
    request_body = MetricDefinition,
    params(("dataset" = String, Path), ("metric" = String, Path), PointsHow),
    responses((status = 200, body = DefinedMetric), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[put("/api/v1/datasets/{dataset}/metrics/{metric}")]
pub(crate) async fn put_metric(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    how: web::Query<PointsHow>,
    body: Body,
) -> Result<web::Json<DefinedMetric>, ApiError> {
    let definition: MetricDefinition = read_json(&body)?;
    let PointsHow { convert, relabel, dry_run } = how.into_inner();
    if dry_run && !convert {
        return Err(ApiError::new(ProblemKind::Request, "dry_run needs convert=true"));
    }
    if convert && relabel {
        return Err(ApiError::new(ProblemKind::Request, "use either convert or relabel, not both"));
    }
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let (dataset, metric) = (&path.0, &path.1);
        let define = |state: &State| {
            let converted = if convert { Some(state.store.convert_metric(dataset, metric, &definition, dry_run, now())?) } else { None };
            let created = match (converted.is_some(), relabel) {
                (true, _) => false,
                (_, true) => state.store.definitions().relabel_metric(dataset, metric, definition.clone())?,
                (_, false) => state.store.definitions().put_metric(dataset, metric, definition.clone())?,
            };
            Ok((converted, created))
        };
        let look =
            |state: &State| json_of(state, |catalogue| Some(catalogue.dataset_by_any_name(dataset)?.metric_by_any_name(metric)?.definition.clone()));
        let (converted, created) = match dry_run {
            true => define(state)?,
            false => Recorded::new(&caller, Subject::Metric, Act::Defined, metric).of(dataset).around(state, look, define)?,
        };
        let note = definition.unit.as_deref().and_then(units::describe_unknown);
        Ok(DefinedMetric {
            created,
            converted: converted.map(|Conversion { points, unfit, examples }| ConvertedPoints { points, unfit, examples }),
            note,
        })
    };
    blocking(&state, work).await.map(web::Json)
}

/// What happens to stored points if a metric gets another unit or kind.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct PointsHow {
    /// Convert existing points to the new unit, or between words and numbers. The old metric is moved to the bin.
    convert: bool,
    /// Keep the values of existing points: they were in the new unit already.
    relabel: bool,
    /// With `convert`: return the effect, and change nothing.
    dry_run: bool,
}

/// Renames a metric.
///
/// Points and ids stay. Queries and pushes may still use the old name.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", request_body = Rename, params(("dataset" = String, Path), ("metric" = String, Path)),
    responses((status = 200, body = Renamed), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/metrics/{metric}/rename")]
pub(crate) async fn rename_metric(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    body: Body,
) -> Result<web::Json<Renamed>, ApiError> {
    let (dataset, old) = path.into_inner();
    let Rename { to } = read_json(&body)?;
    let of = dataset.clone();
    let change = move |state: &State, old: &str, to: &str| state.store.definitions().rename_metric(&dataset, old, to);
    renamed(&state, caller.into_caller(), (Some(of), old), to, ReferenceTarget::Metric, change).await
}

/// Lists the tags of a dataset with their values.
#[utoipa::path(security(("token" = ["read"])), tag = "catalogue", params(("dataset" = String, Path), MetricFilter),
    responses((status = 200, body = [TagInfo]), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[get("/api/v1/datasets/{dataset}/tags")]
pub(crate) async fn list_tags(
    caller: Access<ReadGrant>,
    state: AppState,
    name: web::Path<String>,
    filter: web::Query<MetricFilter>,
) -> Result<web::Json<Vec<TagInfo>>, ApiError> {
    let visibility = caller.visibility();
    state.store.with_catalogue(|catalogue| {
        let dataset = find(catalogue, &name)?;
        let visible = VisibleCatalogue::new(catalogue, &visibility);
        let metric = find_metric(visible, dataset, filter.metric.as_deref())?;
        let old = |key: &str| dataset.old_tags().filter(|(_, now)| *now == key).map(|(old, _)| old.to_owned()).collect();
        let info = |key: &str, values: Vec<TagValue>| TagInfo {
            key: key.to_owned(),
            definition: dataset.tag_definitions.get(key).cloned(),
            old_keys: old(key),
            values,
        };
        let value = |(value, series): &(&str, u64)| TagValue { value: (*value).to_owned(), series: *series };
        let mut tags: Vec<TagInfo> =
            visible.tags(dataset, metric).into_iter().map(|tag| info(tag.key, tag.values.iter().map(value).collect())).collect();
        if metric.is_none() && visibility.metrics.is_empty() {
            let defined = dataset.tag_definitions.keys().filter(|key| dataset.values_of(key) == 0);
            tags.extend(defined.map(|key| info(key, Vec::new())).collect::<Vec<_>>());
        }
        Ok(web::Json(tags))
    })
}

/// Defines a tag, before or after the first series that has it.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", params(("dataset" = String, Path), ("key" = String, Path)),
    request_body = TagDefinition,
    responses((status = 200, body = Defined), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[put("/api/v1/datasets/{dataset}/tags/{key}")]
pub(crate) async fn put_tag(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    body: Body,
) -> Result<web::Json<Defined>, ApiError> {
    let definition: TagDefinition = read_json(&body)?;
    let caller = caller.into_caller();
    let work = move |state: &State| {
        let (dataset, key) = (&path.0, &path.1);
        let look = |state: &State| json_of(state, |catalogue| catalogue.dataset_by_any_name(dataset)?.tag_definitions.get(key.as_str()).cloned());
        let define = |state: &State| Ok(state.store.definitions().put_tag(dataset, key, definition)?);
        Recorded::new(&caller, Subject::Tag, Act::Defined, key).of(dataset).around(state, look, define)
    };
    blocking(&state, work).await.map(|created| web::Json(Defined { created }))
}

/// Renames a tag in all series of the dataset.
///
/// Queries and pushes may still use the old key.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", request_body = Rename, params(("dataset" = String, Path), ("key" = String, Path)),
    responses((status = 200, body = Renamed), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/v1/datasets/{dataset}/tags/{key}/rename")]
pub(crate) async fn rename_tag(
    caller: Access<DefineGrant>,
    state: AppState,
    path: web::Path<(String, String)>,
    body: Body,
) -> Result<web::Json<Renamed>, ApiError> {
    let (dataset, old) = path.into_inner();
    let Rename { to } = read_json(&body)?;
    let of = dataset.clone();
    let change = move |state: &State, old: &str, to: &str| state.store.definitions().rename_tag(&dataset, old, to);
    renamed(&state, caller.into_caller(), (Some(of), old), to, ReferenceTarget::Tag, change).await
}

/// Removes an old name: queries and pushes may no longer use it.
#[utoipa::path(security(("token" = ["define"])), tag = "catalogue", request_body = OldName,
    responses((status = 200, body = Defined, description = "`created` is false; a name that did not answer is not found"), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
#[post("/api/v1/forget-name")]
pub(crate) async fn forget_name(caller: Access<DefineGrant>, state: AppState, body: Body) -> Result<web::Json<Defined>, ApiError> {
    let OldName { kind, dataset, name } = read_json(&body)?;
    if !["dataset", "metric", "tag"].contains(&kind.as_str()) || (kind == "dataset") == dataset.is_some() {
        return Err(ApiError::new(ProblemKind::Request, "`kind` must be dataset, metric or tag; `dataset` is needed for the last two"));
    }
    state.store.with_catalogue(|catalogue| match &dataset {
        Some(dataset) => caller.require(Action::Define, catalogue, dataset).map(|_| ()),
        None => caller.require(Action::Admin, catalogue, &name).map(|_| ()),
    })?;
    let caller = caller.into_caller();
    let work = move |state: &State| match state.store.definitions().forget_old_name(&kind, dataset.as_deref(), &name)? {
        true => {
            let subject = match kind.as_str() {
                "dataset" => Subject::Dataset,
                "metric" => Subject::Metric,
                _ => Subject::Tag,
            };
            let of = dataset.as_deref().unwrap_or(&name);
            Recorded::new(&caller, subject, Act::Forgotten, &name).of(of).write(state, Some(name.as_str().into()), None)?;
            Ok(Defined { created: false })
        }
        false => Err(ApiError::new(ProblemKind::NotFound, format!("`{name}` is not a former name of a {kind}"))),
    };
    blocking(&state, work).await.map(web::Json)
}
