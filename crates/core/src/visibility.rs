//! The visible part of a catalogue. Queries, completions and lists look up names here, so that an invisible name behaves like a missing one.

use std::{collections::BTreeMap, sync::LazyLock};

use crate::{
    catalogue::{Catalogue, Dataset, Metric, TagUse},
    model::{DatasetId, MetricId},
    pattern::NamePattern,
};

/// Which datasets and metrics may be seen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Visibility {
    /// A dataset is visible if its name or a former name matches one of these.
    pub datasets: Vec<NamePattern>,
    /// A metric is visible if its name matches one of these (default: all).
    pub metrics: Vec<NamePattern>,
}

impl Visibility {
    /// Everything may be seen.
    pub fn everything() -> Self {
        Self { datasets: vec![NamePattern::any()], metrics: Vec::new() }
    }

    /// Whether every dataset may be seen, and all that is in it.
    pub fn is_everything(&self) -> bool {
        self.has_all_datasets() && self.metrics.is_empty()
    }

    /// Whether every dataset may be seen.
    pub fn has_all_datasets(&self) -> bool {
        self.datasets.iter().any(NamePattern::is_any)
    }

    /// Whether a metric of a visible dataset may be seen, by its name.
    pub fn has_metric(&self, name: &str) -> bool {
        self.metrics.is_empty() || self.metrics.iter().any(|pattern| pattern.fits(name))
    }

    fn has_dataset(&self, catalogue: &Catalogue, dataset: &Dataset) -> bool {
        let fits = |name: &str| self.datasets.iter().any(|pattern| pattern.fits(name));
        fits(&dataset.name) || catalogue.old_names().any(|(old, name)| *name == *dataset.name && fits(old))
    }
}

static EVERYTHING: LazyLock<Visibility> = LazyLock::new(Visibility::everything);

/// A catalogue as a caller sees it.
#[derive(Clone, Copy)]
pub struct VisibleCatalogue<'a> {
    catalogue: &'a Catalogue,
    visibility: &'a Visibility,
}

impl<'a> From<&'a Catalogue> for VisibleCatalogue<'a> {
    fn from(catalogue: &'a Catalogue) -> Self {
        Self { catalogue, visibility: &EVERYTHING }
    }
}

impl<'a> VisibleCatalogue<'a> {
    /// A part of a catalogue.
    pub fn new(catalogue: &'a Catalogue, visibility: &'a Visibility) -> Self {
        Self { catalogue, visibility }
    }

    /// Whether a dataset is visible.
    pub fn has(self, dataset: &Dataset) -> bool {
        self.visibility.has_dataset(self.catalogue, dataset)
    }

    /// The visible datasets, by name.
    pub fn datasets(self) -> impl Iterator<Item = &'a Dataset> {
        self.catalogue.datasets().filter(move |dataset| self.has(dataset))
    }

    /// The visible dataset that has a name, or had it.
    pub fn dataset_by_any_name(self, name: &str) -> Option<&'a Dataset> {
        self.catalogue.dataset_by_any_name(name).filter(|dataset| self.has(dataset))
    }

    /// The visible dataset of an id.
    pub fn dataset_by_id(self, id: DatasetId) -> Option<&'a Dataset> {
        self.catalogue.dataset_by_id(id).filter(|dataset| self.has(dataset))
    }

    /// Old names of visible datasets, with the names that they have.
    pub fn old_names(self) -> impl Iterator<Item = (&'a str, &'a str)> {
        self.catalogue.old_names().filter(move |(_, name)| self.catalogue.dataset(name).is_some_and(|dataset| self.has(dataset)))
    }

    /// The visible metrics of a dataset, by name.
    pub fn metrics(self, dataset: &'a Dataset) -> impl Iterator<Item = &'a Metric> {
        dataset.metrics().filter(move |metric| self.visibility.has_metric(&metric.name))
    }

    /// The visible metric that has a name, or had it.
    pub fn metric_by_any_name(self, dataset: &'a Dataset, name: &str) -> Option<&'a Metric> {
        dataset.metric_by_any_name(name).filter(|metric| self.visibility.has_metric(&metric.name))
    }

    /// The visible metric of an id.
    pub fn metric_by_id(self, dataset: &'a Dataset, id: MetricId) -> Option<&'a Metric> {
        dataset.metric_by_id(id).filter(|metric| self.visibility.has_metric(&metric.name))
    }

    /// Keys of tags of visible series.
    pub fn tag_keys(self, dataset: &'a Dataset) -> Vec<&'a str> {
        if self.visibility.metrics.is_empty() {
            return dataset.tag_keys().collect();
        }
        self.tags(dataset, None).into_iter().map(|tag| tag.key).collect()
    }

    /// Values of one tag with the number of visible series of each, those of one metric's series if one is given.
    pub fn values_with_counts(self, dataset: &'a Dataset, key: &str, metric: Option<&Metric>) -> Vec<(&'a str, u64)> {
        if metric.is_some() || self.visibility.metrics.is_empty() {
            return dataset.values_with_counts(key, metric);
        }
        self.tags(dataset, None).into_iter().find(|tag| tag.key == key).map(|tag| tag.values).unwrap_or_default()
    }

    /// Tag keys and values of a metric's series, or of all visible series.
    pub fn tags(self, dataset: &'a Dataset, metric: Option<&Metric>) -> Vec<TagUse<'a>> {
        if metric.is_some() || self.visibility.metrics.is_empty() {
            return dataset.tags(metric);
        }
        let mut sums: BTreeMap<&str, BTreeMap<&str, u64>> = BTreeMap::new();
        for metric in self.metrics(dataset) {
            for TagUse { key, values } in dataset.tags(Some(metric)) {
                let sum = sums.entry(key).or_default();
                values.into_iter().for_each(|(value, series)| *sum.entry(value).or_default() += series);
            }
        }
        sums.into_iter().map(|(key, values)| TagUse { key, values: values.into_iter().collect() }).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{DatasetDefinition, MetricDefinition, SeriesId};

    fn catalogue() -> Catalogue {
        let mut catalogue = Catalogue::default();
        for (id, name) in [(1, "velmar"), (2, "plant-east"), (3, "plant-west")] {
            catalogue.put_dataset(DatasetId(id), name, name, DatasetDefinition::default());
            let dataset = catalogue.dataset_mut(name).unwrap();
            for (at, metric) in ["flow", "level"].into_iter().enumerate() {
                dataset.put_metric(MetricId(at as u32 + 1), metric, MetricDefinition::default());
                let tags = [("lock", "osier"), (if metric == "flow" { "pipe" } else { "side" }, "1")];
                dataset.put_series(SeriesId(id * 10 + at as u32), metric, tags.into_iter(), None);
            }
        }
        catalogue.put_old_name("plant-north", "velmar");
        catalogue
    }

    fn names(datasets: &[&str], metrics: &[&str]) -> (Vec<String>, Vec<String>, Vec<String>) {
        let patterns = |names: &[&str]| names.iter().map(|name| NamePattern::new(*name)).collect();
        let (catalogue, visibility) = (catalogue(), Visibility { datasets: patterns(datasets), metrics: patterns(metrics) });
        let visible = VisibleCatalogue::new(&catalogue, &visibility);
        let datasets: Vec<String> = visible.datasets().map(|dataset| dataset.name.to_string()).collect();
        let Some(first) = visible.datasets().next() else { return (datasets, vec![], vec![]) };
        let metrics = visible.metrics(first).map(|metric| metric.name.to_string()).collect();
        (datasets, metrics, visible.tags(first, None).iter().map(|tag| tag.key.to_owned()).collect())
    }

    #[test]
    fn only_visible_names_are_listed() {
        let owned = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        assert_eq!(names(&["*"], &[]).0, owned(&["plant-east", "plant-west", "velmar"]));
        assert_eq!(names(&["plant-e*"], &["lev*"]), (owned(&["plant-east"]), owned(&["level"]), owned(&["lock", "side"])));
        assert_eq!(names(&[], &[]).0, owned(&[]));
        // A dataset answers to the names that it had, so that a grant outlives a rename.
        assert_eq!(names(&["plant-north"], &["flow"]), (owned(&["velmar"]), owned(&["flow"]), owned(&["lock", "pipe"])));
    }

    #[test]
    fn hidden_names_are_not_found() {
        let (catalogue, visibility) =
            (catalogue(), Visibility { datasets: vec![NamePattern::new("velmar")], metrics: vec![NamePattern::new("flow")] });
        let visible = VisibleCatalogue::new(&catalogue, &visibility);
        assert!(visible.dataset_by_any_name("plant-east").is_none() && visible.dataset_by_id(DatasetId(2)).is_none());
        let velmar = visible.dataset_by_any_name("plant-north").unwrap();
        assert!(visible.metric_by_any_name(velmar, "level").is_none() && visible.metric_by_id(velmar, MetricId(2)).is_none());
        assert!(visible.metric_by_any_name(velmar, "flow").is_some());
        assert_eq!(visible.old_names().count(), 1);
    }
}
