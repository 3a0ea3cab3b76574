//! What the catalogue learns: definitions that people give, and series, metrics and words that arrive. Each is on stable storage before
//! memory knows it, and before any point refers to it.

use std::collections::{BTreeMap, HashMap};

use fenetre_core::{
    catalogue::{Catalogue, series_key},
    model::{DatasetId, Kind, MetricDefinition, SeriesId, check_dataset_name, check_name},
    time::{Nanos, zone},
};
use parking_lot::Mutex;

use crate::{
    batch::{Batch, NewSeries, Row, RowSeries, RowValue, SharedCatalogue},
    error::StoreError,
    records::Records,
};

/// The records on disk and the index of them in memory, changed together, one change at a time.
pub struct Definitions {
    records: Mutex<Records>,
    catalogue: SharedCatalogue,
}

impl Definitions {
    pub fn new(records: Records, catalogue: SharedCatalogue) -> Self {
        Self { records: Mutex::new(records), catalogue }
    }

    /// Gives every row its series' id and its number, after the catalogue has what is new.
    pub fn settle(&self, batch: Batch) -> Result<Vec<(SeriesId, Nanos, f64)>, StoreError> {
        let Batch { dataset_name, rows, new_metrics, new_series, words, .. } = batch;
        let has_words = rows.iter().any(|row| matches!(row.value, RowValue::Word(_)));
        if new_series.is_empty() && !has_words {
            let number = |row: &Row| match (row.series, row.value) {
                (RowSeries::Known(id), RowValue::Number(number)) => Some((id, row.time, number)),
                _ => None,
            };
            return Ok(rows.iter().filter_map(number).collect());
        }
        // From here on one at a time, so that two batches with the same new series agree on its id.
        let mut records = self.records.lock();
        let ids = self.add_series(&mut records, &dataset_name, &new_metrics, &new_series)?;
        let id = |row: &Row| match row.series {
            RowSeries::Known(id) => id,
            RowSeries::New(index) => ids[index as usize],
        };
        let codes = self.add_words(&mut records, &dataset_name, &words, &rows, id)?;
        let settled = |row: &Row| {
            let series = id(row);
            let number = match row.value {
                RowValue::Number(number) => number,
                RowValue::Word(word) => codes.get(&(series, word)).copied().unwrap_or_default() as f64,
            };
            (series, row.time, number)
        };
        Ok(rows.iter().map(settled).collect())
    }

    fn add_series(
        &self,
        records: &mut Records,
        dataset: &str,
        new_metrics: &BTreeMap<String, Kind>,
        new_series: &[NewSeries],
    ) -> Result<Vec<SeriesId>, StoreError> {
        let missing = |catalogue: &Catalogue| -> Option<(DatasetId, Vec<String>)> {
            let dataset = catalogue.dataset(dataset)?;
            Some((dataset.id, new_metrics.keys().filter(|name| dataset.metric(name).is_none()).cloned().collect()))
        };
        let (dataset_id, metrics) = missing(&self.catalogue.read()).ok_or_else(|| StoreError::no_dataset(&self.catalogue.read(), dataset))?;
        let definition = |name: &String| MetricDefinition { kind: new_metrics.get(name).copied().unwrap_or_default(), ..MetricDefinition::default() };
        // Another batch may have added the same metric with another kind since this one was read.
        self.check_kinds(dataset, new_metrics)?;
        let added = records.change(|changes| {
            let metrics: rusqlite::Result<Vec<_>> =
                metrics.iter().map(|name| Ok((name.clone(), changes.put_metric(dataset_id, name, &definition(name))?))).collect();
            let metrics: HashMap<String, _> = metrics?.into_iter().collect();
            let mut ids = Vec::with_capacity(new_series.len());
            let catalogue = self.catalogue.read();
            let known = catalogue.dataset(dataset);
            for NewSeries { metric, tags } in new_series {
                let known_metric = known.and_then(|dataset| dataset.metric(metric)).map(|metric| metric.id);
                let Some(metric_id) = known_metric.or_else(|| metrics.get(metric).copied()) else { continue };
                let mut key = Vec::new();
                series_key(&mut key, metric_id, tags.iter().map(|(key, value)| (key.as_str(), value.as_str())));
                ids.push(match known.and_then(|dataset| dataset.find(&key)) {
                    Some(id) => (id, false),
                    None => (changes.add_series(metric_id, tags)?, true),
                });
            }
            Ok((metrics, ids))
        });
        let (metrics, ids) = added?;
        let mut catalogue = self.catalogue.write();
        if let Some(dataset) = catalogue.dataset_mut(dataset) {
            for (name, id) in metrics {
                let definition = definition(&name);
                dataset.put_metric(id, &name, definition);
            }
            for ((id, is_new), NewSeries { metric, tags }) in ids.iter().zip(new_series) {
                if *is_new {
                    dataset.put_series(*id, metric, tags.iter().map(|(key, value)| (key.as_str(), value.as_str())), Vec::new());
                }
            }
        }
        Ok(ids.into_iter().map(|(id, _)| id).collect())
    }

    fn check_kinds(&self, dataset: &str, kinds: &BTreeMap<String, Kind>) -> Result<(), StoreError> {
        let catalogue = self.catalogue.read();
        let Some(dataset) = catalogue.dataset(dataset) else { return Ok(()) };
        let clash = |(name, kind): (&String, &Kind)| {
            let known = dataset.metric(name)?.definition.kind;
            let differs = (known == Kind::State) != (*kind == Kind::State);
            differs
                .then(|| StoreError::Definition(format!("`{name}` has just become a {known}: send the batch again to see which of its values fit")))
        };
        kinds.iter().find_map(clash).map_or(Ok(()), Err)
    }

    /// The code of each word of each series that the rows use, new ones added.
    fn add_words(
        &self,
        records: &mut Records,
        dataset: &str,
        words: &[String],
        rows: &[Row],
        id: impl Fn(&Row) -> SeriesId,
    ) -> Result<HashMap<(SeriesId, u32), usize>, StoreError> {
        let mut codes: HashMap<(SeriesId, u32), usize> = HashMap::new();
        let mut added: Vec<(SeriesId, usize, &str)> = Vec::new();
        {
            let catalogue = self.catalogue.read();
            let dataset = catalogue.dataset(dataset);
            let mut next: HashMap<SeriesId, usize> = HashMap::new();
            for row in rows {
                let RowValue::Word(index) = row.value else { continue };
                let series = id(row);
                if codes.contains_key(&(series, index)) {
                    continue;
                }
                let word = words[index as usize].as_str();
                let known = dataset.and_then(|dataset| dataset.series(series)).map_or(&[][..], |series| &series.words);
                let code = known.iter().position(|known| **known == *word).unwrap_or_else(|| {
                    let next = next.entry(series).or_insert(known.len());
                    added.push((series, *next, word));
                    *next += 1;
                    *next - 1
                });
                codes.insert((series, index), code);
            }
        }
        if !added.is_empty() {
            records.change(|changes| added.iter().try_for_each(|(series, code, word)| changes.add_word(*series, *code, word)))?;
            if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
                added.iter().for_each(|(series, _, word)| dataset.put_word(*series, word));
            }
        }
        Ok(codes)
    }

    /// Adds a dataset, or changes what is said of one. Says whether it is new.
    pub fn put_dataset(&self, name: &str, zone_name: &str, description: &str) -> Result<bool, StoreError> {
        check_dataset_name(name).map_err(|error| StoreError::Definition(format!("the name `{name}` {error}")))?;
        zone(zone_name).map_err(|error| StoreError::Definition(error.to_string()))?;
        let mut records = self.records.lock();
        let is_new = self.catalogue.read().dataset(name).is_none();
        let id = records.change(|changes| changes.put_dataset(name, zone_name, description))?;
        self.catalogue.write().put_dataset(id, name, zone_name, description);
        Ok(is_new)
    }

    /// Says what a metric is, before or after its first point. Says whether it is new.
    pub fn put_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        check_name(name).map_err(|error| StoreError::Definition(format!("the metric's name {error}")))?;
        let mut records = self.records.lock();
        let known = self.catalogue.read().dataset(dataset).map(|found| {
            let metric = found.metric(name);
            (found.id, metric.map(|metric| (metric.definition.kind, metric.series_count())))
        });
        let (id, known) = known.ok_or_else(|| StoreError::no_dataset(&self.catalogue.read(), dataset))?;
        if let Some((kind, series)) = known
            && series > 0
            && (kind == Kind::State) != (definition.kind == Kind::State)
        {
            let text =
                format!("`{name}` is a {kind} and has {series} series: it cannot become a {}, whose values are of another sort", definition.kind);
            return Err(StoreError::Definition(text));
        }
        let metric = records.change(|changes| changes.put_metric(id, name, &definition))?;
        if let Some(dataset) = self.catalogue.write().dataset_mut(dataset) {
            dataset.put_metric(metric, name, definition);
        }
        Ok(known.is_none())
    }
}
