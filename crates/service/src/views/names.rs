//! Names of datasets, metrics and places, looked up, and tags as JSON has them.

use std::collections::BTreeMap;

use fenetre_core::{
    catalogue::{Catalogue, Dataset, Metric},
    keeping::Scope,
    model::{DatasetId, MetricId, Tags},
    suggest::hint,
    visibility::VisibleCatalogue,
};

use crate::problem::{ApiError, ProblemKind};

/// The dataset that has a name, or had it.
pub fn find<'c>(catalogue: &'c Catalogue, name: &str) -> Result<&'c Dataset, ApiError> {
    catalogue.dataset_by_any_name(name).ok_or_else(|| {
        let hint = hint(name, catalogue.datasets().map(|dataset| &*dataset.name), 10);
        ApiError::new(ProblemKind::NoDataset, format!("there is no dataset `{name}`: {hint}"))
    })
}

/// The visible metric of that name, if one is asked for.
pub fn find_metric<'d>(visible: VisibleCatalogue<'d>, dataset: &'d Dataset, name: Option<&str>) -> Result<Option<&'d Metric>, ApiError> {
    let Some(name) = name else { return Ok(None) };
    let names = || visible.metrics(dataset).map(|metric| &*metric.name);
    visible.metric_by_any_name(dataset, name).map(Some).ok_or_else(|| {
        let hint = hint(name, names(), 12);
        ApiError::new(ProblemKind::NotFound, format!("the dataset `{}` has no metric `{name}`: {hint}", dataset.name))
    })
}

/// The place of that name.
pub fn place_named(catalogue: &Catalogue, name: &str) -> Result<Scope, ApiError> {
    if name.is_empty() {
        return Ok(Scope::Store);
    }
    let (dataset, metric) = name.split_once("::").map_or((name, None), |(dataset, metric)| (dataset, Some(metric)));
    let home = find(catalogue, dataset)?;
    Ok(find_metric(catalogue.into(), home, metric)?.map_or(Scope::Dataset(home.id), |metric| Scope::Metric(home.id, metric.id)))
}

/// The name of a place; empty for the store.
pub fn name_of(catalogue: &Catalogue, place: Scope) -> String {
    let dataset = |id: DatasetId| catalogue.dataset_by_id(id);
    let named = |id: DatasetId| dataset(id).map_or_else(|| "?".to_owned(), |dataset| dataset.name.to_string());
    let metric = |id: DatasetId, metric: MetricId| dataset(id)?.metric_by_id(metric).map(|metric| metric.name.to_string());
    match place {
        Scope::Store => String::new(),
        Scope::Dataset(id) => named(id),
        Scope::Metric(id, of) => format!("{}::{}", named(id), metric(id, of).unwrap_or_else(|| "?".to_owned())),
    }
}

/// The same, for people.
pub fn shown_name(name: String) -> String {
    if name.is_empty() { "the store".to_owned() } else { name }
}

/// Tags as JSON has them.
pub fn text_tags(tags: &Tags) -> BTreeMap<String, String> {
    tags.iter().map(|(key, value)| (key.to_owned(), value.to_owned())).collect()
}
