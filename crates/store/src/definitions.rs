//! What the catalogue learns: definitions that people give, and series, metrics, words and layouts that arrive. Each is on stable
//! storage before memory knows it, and before any point refers to it.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    ops::Range,
};

use fenetre_core::{
    block::Columns,
    catalogue::{Catalogue, Layout, Metric, series_key},
    model::{
        DatasetDefinition, DatasetId, Histogram, Kind, MetricDefinition, MetricId, SeriesId, TagDefinition, check_dataset_name, check_name,
        split_integer,
    },
    rollup::RollupPolicy,
    suggest::closest,
    time::{Nanos, zone},
};
use parking_lot::Mutex;
use serde::de::DeserializeOwned;

use crate::{
    batch::{Batch, NewSeries, Rows, SharedCatalogue, Slot, SlotSeries},
    convert::Change,
    entry::Entry,
    error::StoreError,
    packer::{Savings, Written},
    records::{BinnedMetric, Document, ROLLUP, Records},
};

/// The sort of documents that say what thinning saved, by the metric's id.
const SAVINGS: &str = "thinning";
/// The sort of documents that say what was written, by day and dataset.
const WRITTEN: &str = "written";
/// The sort of documents that say how often a partition was edited, by its file.
const EDITS: &str = "edited-partition";

/// Points that are there must stay what they are: of a kind like the new one, and in its unit.
fn check_points_fit(name: &str, metric: &Metric, wanted: &MetricDefinition, relabels: bool) -> Result<(), StoreError> {
    let series = metric.series_count();
    match Change::between(&metric.definition, wanted) {
        Change::Nothing => Ok(()),
        Change::Unit { .. } if relabels => Ok(()),
        Change::Unit { from, to } => {
            let to = to.unwrap_or_else(|| "no unit".to_owned());
            Err(StoreError::Definition(format!(
                "`{name}` has points in {from}, in {series} series: they do not become {to} by a definition. Convert them (`fenetre metrics define {name} … --convert`), or, if their values were in {to} all along, keep the values (`--relabel`)"
            )))
        }
        Change::Kind { from, to } => Err(StoreError::Definition(format!(
            "`{name}` is a {from} and has {series} series: their points do not become those of a {to} by a definition. Convert them: `fenetre metrics define {name} --kind {to} --convert`"
        ))),
    }
}

/// The records on disk and the index of them in memory, changed together, one change at a time.
pub struct Definitions {
    records: Mutex<Records>,
    catalogue: SharedCatalogue,
    store: i64,
}

impl Definitions {
    pub fn new(records: Records, catalogue: SharedCatalogue) -> Result<Self, StoreError> {
        Ok(Self { store: records.store()?, records: Mutex::new(records), catalogue })
    }

    /// The number of this store, which its files carry.
    pub fn store(&self) -> i64 {
        self.store
    }

    /// SQLite's own check of the catalogue's file: faults, one sentence each.
    pub fn check_integrity(&self) -> Result<Vec<String>, StoreError> {
        self.records.lock().check_integrity()
    }

    /// Notes that the head has begun a generation.
    pub fn set_generation(&self, number: u64) -> Result<(), StoreError> {
        self.records.lock().change(|changes| changes.set_generation(number))
    }

    /// Turns a batch into an entry of the journal, after the catalogue has what is new in it.
    pub fn settle(&self, batch: Batch) -> Result<Entry, StoreError> {
        let Batch { dataset_name, rows, slots, new_metrics, learned, new_series, words, histograms, claims, .. } = batch;
        let is_plain = |slot: &Slot| matches!((slot.series, slot.kind), (SlotSeries::Known(_), Kind::Gauge | Kind::Counter));
        if learned.is_empty() && slots.iter().all(is_plain) {
            self.check_units(&dataset_name, &claims.assumed)?;
            let id = |slot: &Slot| if let SlotSeries::Known(id) = slot.series { id } else { SeriesId(u32::MAX) };
            return Ok(gather(&rows, &slots, id));
        }
        // From here on one at a time, so that two batches with the same new series agree on its id.
        let mut records = self.records.lock();
        self.check_units(&dataset_name, &claims.assumed)?;
        self.learn(&mut records, &dataset_name, learned)?;
        let ids = self.add_series(&mut records, &dataset_name, &new_metrics, &new_series)?;
        let id = |slot: &Slot| match slot.series {
            SlotSeries::Known(id) => id,
            SlotSeries::New(index) => ids[index],
        };
        let mut entry = gather(&rows, &slots, id);
        let of_kind = |wanted: Kind| -> Vec<(SeriesId, Range<usize>)> {
            let series: HashSet<SeriesId> = slots.iter().filter(|slot| slot.kind == wanted).map(id).collect();
            entry.stretches.iter().filter(|(id, _)| series.contains(id)).cloned().collect()
        };
        let (states, distributions) = (of_kind(Kind::State), of_kind(Kind::Histogram));
        self.settle_words(&mut records, &dataset_name, &words, &states, &mut entry.columns)?;
        self.settle_histograms(&mut records, &dataset_name, &histograms, &distributions, &mut entry)?;
        Ok(entry)
    }

    fn add_series(
        &self,
        records: &mut Records,
        dataset: &str,
        new_metrics: &BTreeMap<String, MetricDefinition>,
        new_series: &[NewSeries],
    ) -> Result<Vec<SeriesId>, StoreError> {
        if new_series.is_empty() {
            return Ok(Vec::new());
        }
        let missing = |catalogue: &Catalogue| -> Option<(DatasetId, Vec<String>)> {
            let dataset = catalogue.dataset(dataset)?;
            Some((dataset.id, new_metrics.keys().filter(|name| dataset.metric(name).is_none()).cloned().collect()))
        };
        let (dataset_id, metrics) = {
            let catalogue = self.catalogue.read();
            missing(&catalogue).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?
        };
        let definition = |name: &String| new_metrics.get(name).cloned().unwrap_or_default();
        // Another batch may have added the same metric with another kind since this one was read.
        self.check_kinds(dataset, new_metrics)?;
        let added = records.change(|changes| {
            let metrics: rusqlite::Result<Vec<_>> =
                metrics.iter().map(|name| Ok((name.clone(), changes.put_metric(dataset_id, name, &definition(name))?))).collect();
            let metrics: HashMap<String, _> = metrics?.into_iter().collect();
            let mut gone = None;
            let mut ids = Vec::with_capacity(new_series.len());
            let catalogue = self.catalogue.read();
            let known = catalogue.dataset(dataset);
            let mut key = Vec::new();
            for NewSeries { metric, tags } in new_series {
                let known_metric = known.and_then(|dataset| dataset.metric_by_any_name(metric)).map(|metric| metric.id);
                let Some(metric_id) = known_metric.or_else(|| metrics.get(metric).copied()) else {
                    gone = Some(metric.clone());
                    break;
                };
                key.clear();
                series_key(&mut key, metric_id, tags.iter().map(|(key, value)| (key.as_str(), value.as_str())));
                ids.push(match known.and_then(|dataset| dataset.find(&key)) {
                    Some(id) => (id, false),
                    None => (changes.add_series(metric_id, tags)?, true),
                });
            }
            Ok((metrics, ids, gone))
        });
        let (metrics, ids, gone) = added?;
        let mut catalogue = self.catalogue.write();
        if let Some(dataset) = catalogue.dataset_mut(dataset) {
            for (name, id) in metrics {
                let definition = definition(&name);
                dataset.put_metric(id, &name, definition);
            }
            for ((id, is_new), NewSeries { metric, tags }) in ids.iter().zip(new_series) {
                if *is_new {
                    let metric =
                        dataset.metric_by_any_name(metric).map_or_else(|| metric.as_str().into(), |metric| std::sync::Arc::clone(&metric.name));
                    dataset.put_series(*id, &metric, tags.iter().map(|(key, value)| (key.as_str(), value.as_str())), None);
                }
            }
        }
        match gone {
            Some(metric) => Err(StoreError::Definition(format!("`{metric}` has just been deleted: send the batch again to see what fits"))),
            None => Ok(ids.into_iter().map(|(id, _)| id).collect()),
        }
    }

    /// Fills what the batch says of metrics that are there and of which nobody has said it.
    fn learn(&self, records: &mut Records, dataset: &str, learned: BTreeMap<String, MetricDefinition>) -> Result<(), StoreError> {
        let known: Vec<(DatasetId, String, MetricDefinition)> = {
            let catalogue = self.catalogue.read();
            let Some(dataset) = catalogue.dataset(dataset) else { return Ok(()) };
            // Somebody may have changed the definition since the batch was read.
            let filled = |(name, said): (String, MetricDefinition)| {
                let metric = dataset.metric_by_any_name(&name)?;
                let mut definition = metric.definition.clone();
                definition.unit = definition.unit.or(said.unit);
                if definition.description.is_empty() {
                    definition.description = said.description;
                }
                if definition.unreviewed {
                    definition.temporality = definition.temporality.or(said.temporality);
                }
                (definition != metric.definition).then(|| (dataset.id, metric.name.to_string(), definition))
            };
            learned.into_iter().filter_map(filled).collect()
        };
        if known.is_empty() {
            return Ok(());
        }
        let ids = records.change(|changes| {
            known.iter().map(|(dataset, name, definition)| changes.put_metric(*dataset, name, definition)).collect::<rusqlite::Result<Vec<_>>>()
        })?;
        if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
            known.into_iter().zip(ids).for_each(|((_, name, definition), id)| dataset.put_metric(id, &name, definition));
        }
        Ok(())
    }

    /// Values were converted to the units that the catalogue had when the batch was read.
    fn check_units(&self, dataset: &str, assumed: &BTreeMap<String, String>) -> Result<(), StoreError> {
        if assumed.is_empty() {
            return Ok(());
        }
        let catalogue = self.catalogue.read();
        let Some(dataset) = catalogue.dataset(dataset) else { return Ok(()) };
        let clash = |(name, assumed): (&String, &String)| {
            let unit = dataset.metric_by_any_name(name)?.definition.unit.as_ref()?;
            (unit != assumed).then(|| {
                StoreError::Definition(format!("the unit of `{name}` has just become {unit}: send the batch again to have its values converted"))
            })
        };
        assumed.iter().find_map(clash).map_or(Ok(()), Err)
    }

    fn check_kinds(&self, dataset: &str, new: &BTreeMap<String, MetricDefinition>) -> Result<(), StoreError> {
        let catalogue = self.catalogue.read();
        let Some(dataset) = catalogue.dataset(dataset) else { return Ok(()) };
        let clash = |(name, new): (&String, &MetricDefinition)| {
            let known = dataset.metric(name)?.definition.kind;
            (!known.is_like(new.kind))
                .then(|| StoreError::Definition(format!("`{name}` has just become a {known}: send the batch again to see which of its values fit")))
        };
        new.iter().find_map(clash).map_or(Ok(()), Err)
    }

    /// Replaces places in the batch's words by the codes of each series' own words, new ones added.
    fn settle_words(
        &self,
        records: &mut Records,
        dataset: &str,
        words: &[String],
        states: &[(SeriesId, Range<usize>)],
        columns: &mut Columns,
    ) -> Result<(), StoreError> {
        let mut added: Vec<(SeriesId, usize, &str)> = Vec::new();
        {
            let catalogue = self.catalogue.read();
            let dataset = catalogue.dataset(dataset);
            for (series, places) in states {
                let known = dataset.and_then(|dataset| dataset.series(*series)).map_or(&[][..], |series| series.words());
                let mut codes: HashMap<usize, usize> = HashMap::new();
                let mut next = known.len();
                for value in &mut columns.values[places.clone()] {
                    let index = *value as usize;
                    *value = *codes.entry(index).or_insert_with(|| {
                        let word = words[index].as_str();
                        known.iter().position(|known| **known == *word).unwrap_or_else(|| {
                            added.push((*series, next, word));
                            next += 1;
                            next - 1
                        })
                    }) as f64;
                }
            }
        }
        if !added.is_empty() {
            records.change(|changes| added.iter().try_for_each(|(series, code, word)| changes.add_word(*series, *code, word)))?;
            if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
                added.iter().for_each(|(series, _, word)| dataset.put_word(*series, word));
            }
        }
        Ok(())
    }

    /// Replaces places in the batch's histograms by the codes of their layouts, new ones added, and adds the points of their parts.
    fn settle_histograms(
        &self,
        records: &mut Records,
        dataset: &str,
        histograms: &[Histogram],
        distributions: &[(SeriesId, Range<usize>)],
        entry: &mut Entry,
    ) -> Result<(), StoreError> {
        let mut parts: BTreeMap<SeriesId, Columns> = BTreeMap::new();
        for (series, places) in distributions {
            let mut layouts: Vec<Layout> = {
                let catalogue = self.catalogue.read();
                let series = catalogue.dataset(dataset).and_then(|dataset| dataset.series(*series));
                series.map_or_else(Vec::new, |series| series.layouts().to_vec())
            };
            for place in places.clone() {
                let (time, histogram) = (entry.columns.times[place], &histograms[entry.columns.values[place] as usize]);
                let code = match layouts.iter().position(|layout| *layout.bounds == *histogram.bounds) {
                    Some(code) => code,
                    None => {
                        let layout = records.change(|changes| changes.add_layout(*series, layouts.len(), &histogram.bounds))?;
                        if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
                            dataset.put_layout(*series, layout.clone());
                        }
                        layouts.push(layout);
                        layouts.len() - 1
                    }
                };
                entry.columns.values[place] = code as f64;
                let stored = histogram.counts.iter().map(|count| split_integer(i128::from(*count))).chain([(histogram.sum, 0)]);
                for (part, (value, rest)) in layouts[code].parts().zip(stored) {
                    parts.entry(part).or_default().push(time, value, rest);
                }
            }
        }
        // Parts have ids above those of all series, so the stretches stay in order.
        for (part, columns) in parts {
            let start = entry.columns.len();
            entry.columns.extend(columns.points());
            entry.stretches.push((part, start..entry.columns.len()));
        }
        Ok(())
    }

    /// Adds a dataset, or changes what is said of one. Says whether it is new.
    pub fn put_dataset(&self, name: &str, definition: &DatasetDefinition) -> Result<bool, StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the name `{name}` {error}")))?;
        zone(&definition.zone).map_err(|error| StoreError::Definition(error.to_string()))?;
        let mut records = self.records.lock();
        let is_new = self.catalogue.read().dataset(name).is_none();
        let (id, folder) = records.change(|changes| {
            if is_new {
                changes.forget_old_name("dataset", DatasetId(0), name)?;
            }
            changes.put_dataset(name, definition)
        })?;
        self.catalogue.write().put_dataset(id, name, &folder, definition.clone());
        Ok(is_new)
    }

    /// Whether metrics may become what definitions say; see [`Self::put_metrics`]. Gives the dataset, and which of them are known.
    pub fn check_metrics(&self, dataset: &str, metrics: &[(String, MetricDefinition)], relabels: bool) -> Result<(DatasetId, Vec<bool>), StoreError> {
        let catalogue = self.catalogue.read();
        let found = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
        let mut known = Vec::with_capacity(metrics.len());
        for (name, definition) in metrics {
            let fault = |reason: String| StoreError::Definition(format!("the metric `{name}`: {reason}"));
            check_name(name).map_err(|error| fault(format!("the name {error}")))?;
            definition.check().map_err(fault)?;
            let metric = found.metric(name);
            if let Some(metric) = metric.filter(|metric| metric.series_count() > 0) {
                check_points_fit(name, metric, definition, relabels)?;
            }
            known.push(metric.is_some());
        }
        Ok((found.id, known))
    }

    /// Says what metrics are, before or after their first points: all of them or none. Says which are new. With `relabels`, units of points that are
    /// there may change without their values.
    pub fn put_metrics(&self, dataset: &str, metrics: Vec<(String, MetricDefinition)>, relabels: bool) -> Result<Vec<bool>, StoreError> {
        let mut records = self.records.lock();
        let (id, known) = self.check_metrics(dataset, &metrics, relabels)?;
        let ids = records.change(|changes| {
            let put = |((name, definition), is_known): (&(String, MetricDefinition), &bool)| {
                if !is_known {
                    changes.forget_old_name("metric", id, name)?;
                }
                changes.put_metric(id, name, definition)
            };
            metrics.iter().zip(&known).map(put).collect::<rusqlite::Result<Vec<_>>>()
        })?;
        if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
            metrics.into_iter().zip(ids).for_each(|((name, definition), id)| dataset.put_metric(id, &name, definition));
        }
        Ok(known.into_iter().map(|known| !known).collect())
    }

    /// Keeps a rollup policy of a dataset under its name; none takes it away. Says which there was.
    pub fn put_rollup(&self, dataset: &str, name: &str, policy: Option<&RollupPolicy>) -> Result<(DatasetId, Option<RollupPolicy>), StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the policy's name {error}")))?;
        let mut records = self.records.lock();
        let id = self.dataset_id(dataset)?;
        let document = format!("{}.{name}", id.0);
        records.change(|changes| match policy {
            Some(policy) => {
                let body = serde_json::to_string(policy).unwrap_or_default();
                changes.put_document(ROLLUP, &Document { name: document, body, changed: 0 })
            }
            None => changes.remove_document(ROLLUP, &document).map(|_| ()),
        })?;
        let mut catalogue = self.catalogue.write();
        let Some(found) = catalogue.dataset_mut(dataset) else { return Ok((id, None)) };
        let before = match policy {
            Some(policy) => found.rollups.insert(name.to_owned(), policy.clone()),
            None => found.rollups.remove(name),
        };
        Ok((id, before))
    }

    /// Says what a tag is, before or after the first series that carries it. Says whether anything was said of it before.
    pub fn put_tag(&self, dataset: &str, key: &str, definition: TagDefinition) -> Result<bool, StoreError> {
        check_name(key).map_err(|error| StoreError::Definition(format!("the tag's key {error}")))?;
        definition.check().map_err(StoreError::Definition)?;
        let mut records = self.records.lock();
        let id = self.dataset_id(dataset)?;
        records.change(|changes| changes.put_tag(id, key, &definition))?;
        let mut catalogue = self.catalogue.write();
        let known = catalogue.dataset_mut(dataset).and_then(|dataset| dataset.tag_definitions.insert(key.to_owned(), definition));
        Ok(known.is_none())
    }

    fn dataset_id(&self, name: &str) -> Result<DatasetId, StoreError> {
        let catalogue = self.catalogue.read();
        catalogue.dataset(name).map(|dataset| dataset.id).ok_or_else(|| StoreError::no_dataset(&catalogue, name))
    }

    fn metric_id(&self, dataset: &str, name: &str) -> Result<(DatasetId, MetricId), StoreError> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
        let metric = dataset.metric(name).ok_or_else(|| {
            let hint =
                closest(name, dataset.metrics().map(|metric| &*metric.name)).map_or(String::new(), |known| format!(": did you mean `{known}`?"));
            StoreError::Missing(format!("the dataset `{}` has no metric `{name}`{hint}", dataset.name))
        })?;
        Ok((dataset.id, metric.id))
    }

    /// Reads the index in memory anew, after a change that touches more of it than can be told apart.
    fn reload(&self, records: &Records) -> Result<(), StoreError> {
        let fresh = records.load()?;
        *self.catalogue.write() = fresh;
        Ok(())
    }

    /// Gives a dataset another name.
    pub fn rename_dataset(&self, old: &str, name: &str) -> Result<(), StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the name `{name}` {error}")))?;
        let mut records = self.records.lock();
        let id = self.dataset_id(old)?;
        if self.catalogue.read().dataset(name).is_some() {
            return Err(StoreError::Definition(format!("there is a dataset `{name}` already")));
        }
        records.change(|changes| changes.rename_dataset(id, old, name))?;
        self.reload(&records)
    }

    /// Gives a metric another name.
    pub fn rename_metric(&self, dataset: &str, old: &str, name: &str) -> Result<(), StoreError> {
        check_name(name).map_err(|error| StoreError::Definition(format!("the metric's name {error}")))?;
        let mut records = self.records.lock();
        let (home, id) = self.metric_id(dataset, old)?;
        if self.catalogue.read().dataset(dataset).is_some_and(|dataset| dataset.metric(name).is_some()) {
            return Err(StoreError::Definition(format!("the dataset `{dataset}` has a metric `{name}` already")));
        }
        records.change(|changes| changes.rename_metric(home, id, old, name))?;
        self.reload(&records)
    }

    /// Gives a tag another key, in all series of a dataset.
    pub fn rename_tag(&self, dataset: &str, old: &str, key: &str) -> Result<(), StoreError> {
        check_name(key).map_err(|error| StoreError::Definition(format!("the tag's key {error}")))?;
        let mut records = self.records.lock();
        let id = self.dataset_id(dataset)?;
        {
            let catalogue = self.catalogue.read();
            let found = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
            if !found.knows_tag(old) {
                return Err(StoreError::Missing(format!("the dataset `{dataset}` has no tag `{old}`")));
            }
            if found.knows_tag(key) {
                return Err(StoreError::Definition(format!("the dataset `{dataset}` has a tag `{key}` already: two keys cannot become one")));
            }
        }
        records.change(|changes| changes.rename_tag(id, old, key))?;
        self.reload(&records)
    }

    /// Lets an old name answer no more: of a dataset where `dataset` is none, else of a metric or tag of it. Says whether it did.
    pub fn forget_old_name(&self, noun: &str, dataset: Option<&str>, name: &str) -> Result<bool, StoreError> {
        let mut records = self.records.lock();
        let home = dataset.map_or(Ok(DatasetId(0)), |dataset| self.dataset_id(dataset))?;
        let did = records.change(|changes| changes.forget_old_name(noun, home, name))?;
        self.reload(&records)?;
        Ok(did)
    }

    /// Puts a metric into the bin, and gives its name, its old names and a definition to another one.
    pub fn exchange_metric(&self, dataset: &str, name: &str, other: &str, definition: &MetricDefinition, now: Nanos) -> Result<(), StoreError> {
        let mut records = self.records.lock();
        let ((home, old), (_, new)) = (self.metric_id(dataset, name)?, self.metric_id(dataset, other)?);
        records.change(|changes| {
            changes.bin_metric(old, name, now)?;
            changes.hand_over_old_names(old, new)?;
            changes.rename_metric(home, new, other, name)?;
            changes.forget_old_name("metric", home, other)?;
            changes.put_metric(home, name, definition)
        })?;
        self.reload(&records)
    }

    /// Puts a metric into the bin: nobody sees it or its points any more.
    pub fn bin_metric(&self, dataset: &str, name: &str, now: Nanos) -> Result<(), StoreError> {
        let mut records = self.records.lock();
        let (_, id) = self.metric_id(dataset, name)?;
        records.change(|changes| changes.bin_metric(id, name, now))?;
        self.reload(&records)
    }

    /// Metrics in the bin, the oldest first.
    pub fn binned_metrics(&self) -> Result<Vec<BinnedMetric>, StoreError> {
        self.records.lock().binned_metrics()
    }

    /// Brings a metric back from the bin, under its name or another one.
    pub fn restore_metric(&self, metric: &BinnedMetric, name: &str) -> Result<(), StoreError> {
        check_name(name).map_err(|error| StoreError::Definition(format!("the metric's name {error}")))?;
        let mut records = self.records.lock();
        let is_taken = self.catalogue.read().datasets().any(|dataset| dataset.id == metric.dataset && dataset.metric(name).is_some());
        if is_taken {
            return Err(StoreError::Definition(format!("there is another metric `{name}` by now: bring it back under another name")));
        }
        records.change(|changes| changes.unbin_metric(metric.id, name))?;
        self.reload(&records)
    }

    /// Series of a metric in the bin, and ids of their parts.
    pub fn series_of(&self, metric: &BinnedMetric) -> Result<Vec<SeriesId>, StoreError> {
        self.records.lock().series_of(metric.id)
    }

    /// Forgets a metric of the bin for good; its points are gone by now.
    pub fn erase_metric(&self, metric: &BinnedMetric) -> Result<(), StoreError> {
        self.records.lock().change(|changes| changes.erase_metric(metric.id))
    }

    /// The error that says that a document cannot be read.
    pub fn damaged(&self, sort: &str, name: &str, error: &dyn std::fmt::Display) -> StoreError {
        StoreError::Record {
            path: self.records.lock().path().to_owned(),
            record: format!("`{name}` of the sort `{sort}`"),
            reason: error.to_string(),
        }
    }

    /// Removes documents that are names and nothing else, and adds others, in one commit.
    pub fn replace_names<'n>(
        &self,
        sort: &str,
        gone: impl Iterator<Item = &'n String>,
        new: impl Iterator<Item = &'n String>,
    ) -> Result<(), StoreError> {
        self.records.lock().change(|changes| {
            for name in gone {
                changes.remove_document(sort, name)?;
            }
            for name in new {
                changes.put_document(sort, &Document { name: name.clone(), body: "{}".to_owned(), changed: 0 })?;
            }
            Ok(())
        })
    }

    /// Documents of a sort as what they hold, by name, each with when it was put there.
    ///
    /// # Errors
    /// [`StoreError::Record`] for one that cannot be read.
    pub fn read_documents<T: DeserializeOwned>(&self, sort: &str) -> Result<Vec<(String, T, Nanos)>, StoreError> {
        let read = |document: Document| {
            let held = serde_json::from_str(&document.body).map_err(|error| self.damaged(sort, &document.name, &error))?;
            Ok((document.name, held, document.changed))
        };
        self.documents(sort)?.into_iter().map(read).collect()
    }

    /// Documents of a sort, by name.
    pub fn documents(&self, sort: &str) -> Result<Vec<Document>, StoreError> {
        self.records.lock().documents(sort)
    }

    /// Keeps a document under its name.
    pub fn put_document(&self, sort: &str, document: &Document) -> Result<(), StoreError> {
        self.records.lock().change(|changes| changes.put_document(sort, document))
    }

    /// Removes a document; says whether there was one.
    pub fn remove_document(&self, sort: &str, name: &str) -> Result<bool, StoreError> {
        self.records.lock().change(|changes| changes.remove_document(sort, name))
    }

    /// Adds to what thinning has saved, in documents of each metric.
    pub fn add_savings(&self, savings: &Savings) -> Result<(), StoreError> {
        if savings.is_empty() {
            return Ok(());
        }
        let known: HashMap<String, (u64, u64)> = self.read_documents(SAVINGS)?.into_iter().map(|(name, pair, _)| (name, pair)).collect();
        self.records.lock().change(|changes| {
            savings.iter().try_for_each(|(metric, (came, stayed))| {
                let name = metric.0.to_string();
                let (before, kept) = known.get(&name).copied().unwrap_or_default();
                changes.put_document(SAVINGS, &Document { name, body: format!("[{},{}]", before + came, kept + stayed), changed: 0 })
            })
        })
    }

    /// Adds to what was written today, in a document for each day and dataset; days long past go.
    pub fn add_written(&self, written: &Written) -> Result<(), StoreError> {
        if written.is_empty() {
            return Ok(());
        }
        let today = today();
        let known: Vec<(String, (u64, u64), Nanos)> = self.read_documents(WRITTEN)?;
        self.records.lock().change(|changes| {
            for (dataset, (points, bytes)) in written {
                let name = format!("{today}.{}", dataset.0);
                let before = known.iter().find(|(known, ..)| *known == name).map_or((0, 0), |(_, pair, _)| *pair);
                let body = format!("[{},{}]", before.0 + points, before.1 + bytes);
                changes.put_document(WRITTEN, &Document { name, body, changed: 0 })?;
            }
            let is_old = |name: &&String| day_of(name).is_none_or(|day| day + WRITTEN_DAYS < today);
            for name in known.iter().map(|(name, ..)| name).filter(is_old) {
                changes.remove_document(WRITTEN, name)?;
            }
            Ok(())
        })
    }

    /// Points and bytes of a dataset that were packed in the last so many days, today among them.
    pub fn written(&self, dataset: DatasetId, days: i64) -> Result<(u64, u64), StoreError> {
        let today = today();
        let is_asked = |name: &str| {
            let of = name.split_once('.').and_then(|(_, id)| id.parse().ok());
            of == Some(dataset.0) && day_of(name).is_some_and(|day| day + days > today)
        };
        let documents: Vec<(String, (u64, u64), Nanos)> = self.read_documents(WRITTEN)?;
        let pairs = documents.iter().filter(|(name, ..)| is_asked(name)).map(|(_, pair, _)| pair);
        Ok(pairs.fold((0, 0), |sum, pair| (sum.0 + pair.0, sum.1 + pair.1)))
    }

    /// Notes that points are about to be taken out of a partition, or put back: backups that hold it as it was are no longer of it.
    pub fn note_edit(&self, partition: &str) -> Result<(), StoreError> {
        self.put_document(EDITS, &self.edit(partition)?)
    }

    fn edit(&self, partition: &str) -> Result<Document, StoreError> {
        let edits = self.edits()?.get(partition).copied().unwrap_or(0) + 1;
        Ok(Document { name: partition.to_owned(), body: edits.to_string(), changed: 0 })
    }

    /// The same, and keeps a document in the same commit.
    pub fn note_edit_with(&self, partition: &str, sort: &str, document: &Document) -> Result<(), StoreError> {
        let edit = self.edit(partition)?;
        self.records.lock().change(|changes| {
            changes.put_document(EDITS, &edit)?;
            changes.put_document(sort, document)
        })
    }

    /// How often points were taken out of partitions or put back, by their files below the store's directory.
    pub fn edits(&self) -> Result<HashMap<String, u64>, StoreError> {
        Ok(self.read_documents(EDITS)?.into_iter().map(|(name, edits, _)| (name, edits)).collect())
    }

    /// Points of each metric that thinning has seen, and those of them that stayed.
    pub fn savings(&self) -> Result<Savings, StoreError> {
        let of = |(name, pair, _): (String, (u64, u64), Nanos)| {
            let metric = name.parse().map_err(|error| self.damaged(SAVINGS, &name, &error))?;
            Ok((MetricId(metric), pair))
        };
        self.read_documents(SAVINGS)?.into_iter().map(of).collect()
    }

    /// Copies the records into a new file, as they are at this moment.
    pub fn copy_to(&self, path: &std::path::Path) -> Result<(), StoreError> {
        self.records.lock().copy_to(path)
    }
}

/// So many days of what was written are remembered.
const WRITTEN_DAYS: i64 = 60;

/// Days since 1970, in UTC.
fn today() -> i64 {
    let passed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    (passed.as_secs() / 86_400).cast_signed()
}

fn day_of(name: &str) -> Option<i64> {
    name.split_once('.')?.0.parse().ok()
}

/// Rows as stretches, one a series, by id; of one series the order of arrival stays. Counted and put into place: sorting would cost more
/// than all the rest of a batch.
fn gather(rows: &Rows, slots: &[Slot], id: impl Fn(&Slot) -> SeriesId) -> Entry {
    let mut by_id: Vec<(SeriesId, usize)> = slots.iter().enumerate().map(|(slot, of)| (id(of), slot)).collect();
    by_id.sort_unstable();
    let mut next = vec![0; slots.len()];
    let mut stretches: Vec<(SeriesId, Range<usize>)> = Vec::with_capacity(slots.len());
    let mut start = 0;
    for (id, slot) in by_id {
        let end = start + slots[slot].points;
        next[slot] = start;
        stretches.push((id, start..end));
        start = end;
    }
    let count = rows.times.len();
    let mut columns = Columns { times: vec![0; count], values: vec![0.0; count], rests: Vec::new() };
    columns.rests.resize(if rows.rests.is_empty() { 0 } else { count }, 0);
    let mut rests = rows.rests.iter().peekable();
    for (row, slot) in rows.slots.iter().enumerate() {
        let place = &mut next[*slot as usize];
        columns.times[*place] = rows.times[row];
        columns.values[*place] = rows.values[row];
        if let Some((_, rest)) = rests.next_if(|(at, _)| *at == row) {
            columns.rests[*place] = *rest;
        }
        *place += 1;
    }
    Entry { columns, stretches }
}
