//! A batch being gathered: points resolved to series as they are read, with what they bring that is new.

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    catalogue::series_key,
    model::{DatasetId, Kind, MOST_TAGS, MetricId, PointRef, PointSink, Refusal, SeriesId, ValueRef, check_name, check_tag_value},
    time::Nanos,
};
use hashbrown::HashMap;
use parking_lot::RwLock;

use crate::records::TagMap;

/// The catalogue, shared.
pub type SharedCatalogue = Arc<RwLock<fenetre_core::catalogue::Catalogue>>;

/// Points of one dataset that will be kept together. Nothing of it is kept until it is written.
pub struct Batch {
    pub(crate) dataset: DatasetId,
    pub(crate) dataset_name: String,
    pub(crate) rows: Vec<Row>,
    pub(crate) new_metrics: BTreeMap<String, Kind>,
    pub(crate) new_series: Vec<NewSeries>,
    pub(crate) words: Vec<String>,
    catalogue: SharedCatalogue,
    metrics: HashMap<String, KnownMetric>,
    /// Series that the batch has met: the points after the first find theirs without a look into the shared catalogue.
    met: HashMap<Vec<u8>, RowSeries>,
    words_by_text: HashMap<String, u32>,
    key: Vec<u8>,
    order: Vec<usize>,
}

/// A series that the catalogue did not have when the batch met it.
pub(crate) struct NewSeries {
    pub metric: String,
    pub tags: TagMap,
}

/// Which series a row is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum RowSeries {
    Known(SeriesId),
    /// Index into the batch's new series.
    New(u32),
}

/// What a row says.
#[derive(Clone, Copy, Debug)]
pub(crate) enum RowValue {
    Number(f64),
    /// Index into the batch's words.
    Word(u32),
}

#[derive(Clone, Copy, Debug)]
pub(crate) struct Row {
    pub series: RowSeries,
    pub time: Nanos,
    pub value: RowValue,
}

#[derive(Clone, Copy)]
struct KnownMetric {
    kind: Kind,
    /// None for one that the batch brings.
    id: Option<MetricId>,
}

impl Batch {
    pub(crate) fn new(catalogue: SharedCatalogue, dataset: DatasetId, dataset_name: String) -> Self {
        Self {
            dataset,
            dataset_name,
            rows: Vec::new(),
            new_metrics: BTreeMap::new(),
            new_series: Vec::new(),
            words: Vec::new(),
            catalogue,
            metrics: HashMap::new(),
            met: HashMap::new(),
            words_by_text: HashMap::new(),
            key: Vec::new(),
            order: Vec::new(),
        }
    }

    /// How many points it holds.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Metrics that it would add.
    pub fn new_metrics(&self) -> impl Iterator<Item = &str> {
        self.new_metrics.keys().map(String::as_str)
    }

    /// How many series it would add.
    pub fn new_series(&self) -> usize {
        self.new_series.len()
    }

    /// The metric of that name; one that nobody knows is of the kind that the value shows.
    fn metric(&mut self, name: &str, value: ValueRef<'_>) -> Result<KnownMetric, Refusal> {
        if let Some(known) = self.metrics.get(name) {
            return Ok(*known);
        }
        check_name(name).map_err(|error| Refusal::of("metric", format!("the name {error}")))?;
        let known = self.catalogue.read().dataset(&self.dataset_name).and_then(|dataset| {
            let metric = dataset.metric(name)?;
            Some(KnownMetric { kind: metric.definition.kind, id: Some(metric.id) })
        });
        let metric = known.unwrap_or_else(|| {
            let kind = if matches!(value, ValueRef::Word(_)) { Kind::State } else { Kind::Gauge };
            self.new_metrics.insert(name.to_owned(), kind);
            KnownMetric { kind, id: None }
        });
        self.metrics.insert(name.to_owned(), metric);
        Ok(metric)
    }

    fn series(&mut self, name: &str, metric: KnownMetric, tags: &[(&str, &str)]) -> Result<RowSeries, Refusal> {
        self.order.clear();
        self.order.extend(0..tags.len());
        self.order.sort_by_key(|i| tags[*i].0);
        let sorted = || self.order.iter().map(|i| tags[*i]);
        self.key.clear();
        match metric.id {
            Some(id) => series_key(&mut self.key, id, sorted()),
            None => {
                // A metric without an id yet is told apart by its name; the zero byte cannot be part of one.
                self.key.extend_from_slice(name.as_bytes());
                self.key.push(0);
                series_key(&mut self.key, MetricId(u32::MAX), sorted());
            }
        }
        if let Some(series) = self.met.get(self.key.as_slice()) {
            return Ok(*series);
        }
        let known = metric.id.and_then(|_| self.catalogue.read().dataset(&self.dataset_name)?.find(&self.key));
        if let Some(id) = known {
            self.met.insert(self.key.clone(), RowSeries::Known(id));
            return Ok(RowSeries::Known(id));
        }
        check_tags(tags)?;
        let index = self.new_series.len() as u32;
        let tags = sorted().map(|(key, value)| (key.to_owned(), value.to_owned())).collect();
        self.new_series.push(NewSeries { metric: name.to_owned(), tags });
        self.met.insert(self.key.clone(), RowSeries::New(index));
        Ok(RowSeries::New(index))
    }

    fn value(&mut self, name: &str, kind: Kind, value: ValueRef<'_>) -> Result<RowValue, Refusal> {
        match (kind, value) {
            (Kind::State, ValueRef::Word(word)) => {
                check_tag_value(word).map_err(|error| Refusal::of(name, format!("the word {error}")))?;
                if let Some(index) = self.words_by_text.get(word) {
                    return Ok(RowValue::Word(*index));
                }
                let index = self.words.len() as u32;
                self.words.push(word.to_owned());
                self.words_by_text.insert(word.to_owned(), index);
                Ok(RowValue::Word(index))
            }
            (Kind::State, ValueRef::Number(number)) => Err(Refusal::of(
                name,
                format!("is a state, whose values are words: {number} is a number (write \"{number}\" if it is meant as a word)"),
            )),
            (_, ValueRef::Number(number)) if number.is_finite() => Ok(RowValue::Number(number)),
            (_, ValueRef::Number(number)) if number.is_nan() => {
                Err(Refusal::of(name, "is not a number (NaN): leave the point out where nothing was measured"))
            }
            (_, ValueRef::Number(_)) => Err(Refusal::of(name, "is infinite, or beyond the range of 64-bit floats")),
            (kind, ValueRef::Word(word)) => Err(Refusal::of(name, format!("is a {kind}, whose values are numbers: \"{word}\" is a text"))),
        }
    }
}

/// Rules that a series must keep, checked once when it is new.
fn check_tags(tags: &[(&str, &str)]) -> Result<(), Refusal> {
    if tags.len() > MOST_TAGS {
        return Err(Refusal::of("tags", format!("there are {} tags, the limit is {MOST_TAGS}", tags.len())));
    }
    for (i, (key, value)) in tags.iter().enumerate() {
        check_name(key).map_err(|error| Refusal::of("tags", format!("a tag's key {error}")))?;
        check_tag_value(value).map_err(|error| Refusal::of(*key, format!("the tag's value {error}")))?;
        if tags[..i].iter().any(|(other, _)| other == key) {
            return Err(Refusal::of(*key, "the tag is given twice"));
        }
    }
    Ok(())
}

impl PointSink for Batch {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        let metric = self.metric(point.metric, point.value)?;
        let value = self.value(point.metric, metric.kind, point.value)?;
        let series = self.series(point.metric, metric, point.tags)?;
        self.rows.push(Row { series, time: point.time, value });
        Ok(())
    }
}
