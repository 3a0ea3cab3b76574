//! A batch becomes an entry of the journal: new metrics, series, words and layouts go into the catalogue first.

use std::{
    collections::{BTreeMap, HashMap, HashSet},
    ops::Range,
};

use fenetre_core::{
    block::Columns,
    catalogue::{Catalogue, Layout, series_key},
    model::{DatasetId, Histogram, Kind, MetricDefinition, SeriesId, split_integer},
};

use crate::{
    catalogue::{definitions::Definitions, records::Records},
    error::StoreError,
    ingest::{
        additions::{Additions, NewSeries},
        batch::Batch,
        contents::{Contents, Rows, Slot, SlotSeries},
    },
    journal::entry::Entry,
};

impl Definitions {
    /// Turns a batch into an entry of the journal, after the catalogue has what is new in it.
    pub fn settle(&self, batch: Batch) -> Result<Entry, StoreError> {
        let Batch { dataset_name, contents, additions, claims, .. } = batch;
        let Contents { rows, slots, words, histograms, .. } = contents;
        let Additions { metrics: new_metrics, learned, series: new_series, .. } = additions;
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
            Some(metric) => Err(StoreError::Definition(format!("`{metric}` has just been deleted: send the batch again"))),
            None => Ok(ids.into_iter().map(|(id, _)| id).collect()),
        }
    }

    /// Fills unset fields of existing metrics from the metadata of the batch.
    fn learn(&self, records: &mut Records, dataset: &str, learned: BTreeMap<String, MetricDefinition>) -> Result<(), StoreError> {
        let known: Vec<(DatasetId, String, MetricDefinition)> = {
            let catalogue = self.catalogue.read();
            let Some(dataset) = catalogue.dataset(dataset) else { return Ok(()) };
            // Somebody may have changed the definition since the batch was read.
            let filled = |(name, metadata): (String, MetricDefinition)| {
                let metric = dataset.metric_by_any_name(&name)?;
                let mut definition = metric.definition.clone();
                definition.unit = definition.unit.or(metadata.unit);
                if definition.description.is_empty() {
                    definition.description = metadata.description;
                }
                if definition.unreviewed {
                    definition.temporality = definition.temporality.or(metadata.temporality);
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
