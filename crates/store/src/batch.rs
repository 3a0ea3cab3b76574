//! A batch being gathered: points resolved to series as they are read, with what they bring that is new.

use std::{
    collections::BTreeMap,
    hash::{BuildHasher, Hasher},
    sync::Arc,
};

use fenetre_core::{
    catalogue::series_key,
    model::{
        DatasetId, Histogram, Kind, MOST_TAGS, MetricId, PointRef, PointSink, Refusal, SeriesId, ValueRef, check_name, check_tag_value, split_integer,
    },
    time::Nanos,
};
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use parking_lot::RwLock;

use crate::records::TagMap;

/// The catalogue, shared.
pub type SharedCatalogue = Arc<RwLock<fenetre_core::catalogue::Catalogue>>;

/// Points of one dataset that will be kept together. Nothing of it is kept until it is written.
pub struct Batch {
    pub(crate) dataset: DatasetId,
    pub(crate) dataset_name: String,
    pub(crate) rows: Rows,
    /// The series that it has met.
    pub(crate) slots: Vec<Slot>,
    pub(crate) new_metrics: BTreeMap<String, Kind>,
    pub(crate) new_series: Vec<NewSeries>,
    pub(crate) words: Vec<String>,
    pub(crate) histograms: Vec<Histogram>,
    catalogue: SharedCatalogue,
    metrics: HashMap<String, KnownMetric>,
    last_metric: Option<(String, KnownMetric)>,
    met: Met,
    words_by_text: HashMap<String, u32>,
    key: Vec<u8>,
    /// Keys of the last point's tags, and their places in the order of the keys.
    keys: Vec<String>,
    order: Vec<usize>,
}

/// Points as they came.
#[derive(Default)]
pub(crate) struct Rows {
    /// Which slot each is of.
    pub slots: Vec<u32>,
    pub times: Vec<Nanos>,
    /// Numbers; of a state, places in the batch's words; of a histogram, places in its histograms.
    pub values: Vec<f64>,
    /// Rests of integers that no double holds, by row.
    pub rests: Vec<(usize, i16)>,
}

/// A series of the batch.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Slot {
    pub series: SlotSeries,
    pub kind: Kind,
    pub points: usize,
}

#[derive(Clone, Copy, Debug)]
pub(crate) enum SlotSeries {
    Known(SeriesId),
    /// Index into the batch's new series.
    New(usize),
}

/// A series that the catalogue did not have when the batch met it.
pub(crate) struct NewSeries {
    pub metric: String,
    pub tags: TagMap,
}

#[derive(Clone, Copy)]
struct KnownMetric {
    kind: Kind,
    /// None for one that the batch brings.
    id: Option<MetricId>,
}

/// The slot of each series that the batch has met, by key: the points after the first find theirs without a look into the shared
/// catalogue, and without taking memory.
#[derive(Default)]
struct Met {
    table: HashTable<(usize, usize, u32)>,
    keys: Vec<u8>,
    hashing: DefaultHashBuilder,
}

impl Met {
    fn hash(&self, key: &[u8]) -> u64 {
        let mut hasher = self.hashing.build_hasher();
        hasher.write(key);
        hasher.finish()
    }

    fn find(&self, hash: u64, key: &[u8]) -> Option<u32> {
        self.table.find(hash, |(start, end, _)| self.keys[*start..*end] == *key).map(|(_, _, slot)| *slot)
    }

    fn add(&mut self, hash: u64, key: &[u8], slot: u32) {
        let start = self.keys.len();
        self.keys.extend_from_slice(key);
        let Self { table, keys, hashing } = self;
        table.insert_unique(hash, (start, keys.len(), slot), |(start, end, _)| {
            let mut hasher = hashing.build_hasher();
            hasher.write(&keys[*start..*end]);
            hasher.finish()
        });
    }
}

impl Batch {
    pub(crate) fn new(catalogue: SharedCatalogue, dataset: DatasetId, dataset_name: String) -> Self {
        Self {
            dataset,
            dataset_name,
            rows: Rows::default(),
            slots: Vec::new(),
            new_metrics: BTreeMap::new(),
            new_series: Vec::new(),
            words: Vec::new(),
            histograms: Vec::new(),
            catalogue,
            metrics: HashMap::new(),
            last_metric: None,
            met: Met::default(),
            words_by_text: HashMap::new(),
            key: Vec::new(),
            keys: Vec::new(),
            order: Vec::new(),
        }
    }

    /// How many points it holds.
    pub fn len(&self) -> usize {
        self.rows.times.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.rows.times.is_empty()
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
        // Most points are of the same metric as the one before them.
        if let Some((last, known)) = &self.last_metric
            && last == name
        {
            return Ok(*known);
        }
        if let Some(known) = self.metrics.get(name).copied() {
            self.last_metric = Some((name.to_owned(), known));
            return Ok(known);
        }
        check_name(name).map_err(|error| Refusal::of("metric", format!("the name {error}")))?;
        let known = self.catalogue.read().dataset(&self.dataset_name).and_then(|dataset| {
            let metric = dataset.metric(name)?;
            Some(KnownMetric { kind: metric.definition.kind, id: Some(metric.id) })
        });
        let metric = known.unwrap_or_else(|| {
            let kind = match value {
                ValueRef::Word(_) => Kind::State,
                ValueRef::Histogram(_) => Kind::Histogram,
                ValueRef::Number(_) | ValueRef::Integer(_) => Kind::Gauge,
            };
            self.new_metrics.insert(name.to_owned(), kind);
            KnownMetric { kind, id: None }
        });
        self.metrics.insert(name.to_owned(), metric);
        Ok(metric)
    }

    fn slot(&mut self, name: &str, metric: KnownMetric, tags: &[(&str, &str)]) -> Result<u32, Refusal> {
        // Most points have the same keys as the one before them, in the same order.
        if !tags.iter().map(|(key, _)| *key).eq(self.keys.iter().map(String::as_str)) {
            self.keys = tags.iter().map(|(key, _)| (*key).to_owned()).collect();
            self.order = (0..tags.len()).collect();
            self.order.sort_by_key(|i| tags[*i].0);
        }
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
        let hash = self.met.hash(&self.key);
        if let Some(slot) = self.met.find(hash, &self.key) {
            return Ok(slot);
        }
        let known = metric.id.and_then(|_| self.catalogue.read().dataset(&self.dataset_name)?.find(&self.key));
        let series = match known {
            Some(id) => SlotSeries::Known(id),
            None => {
                check_tags(tags)?;
                let tags = sorted().map(|(key, value)| (key.to_owned(), value.to_owned())).collect();
                self.new_series.push(NewSeries { metric: name.to_owned(), tags });
                SlotSeries::New(self.new_series.len() - 1)
            }
        };
        let slot = self.slots.len() as u32;
        self.slots.push(Slot { series, kind: metric.kind, points: 0 });
        self.met.add(hash, &self.key, slot);
        Ok(slot)
    }

    /// The value as the rows hold it: a double, and what is missing to the integer that it stands for.
    fn value(&mut self, name: &str, kind: Kind, value: ValueRef<'_>) -> Result<(f64, i16), Refusal> {
        let sort = match value {
            ValueRef::Number(_) | ValueRef::Integer(_) => "a number",
            ValueRef::Word(_) => "a text",
            ValueRef::Histogram(_) => "a histogram",
        };
        match (kind, value) {
            (Kind::State, ValueRef::Word(word)) => {
                check_tag_value(word).map_err(|error| Refusal::of(name, format!("the word {error}")))?;
                if let Some(index) = self.words_by_text.get(word) {
                    return Ok((f64::from(*index), 0));
                }
                let index = self.words.len() as u32;
                self.words.push(word.to_owned());
                self.words_by_text.insert(word.to_owned(), index);
                Ok((f64::from(index), 0))
            }
            (Kind::State, ValueRef::Number(number)) => Err(Refusal::of(
                name,
                format!("is a state, whose values are words: {number} is a number (write \"{number}\" if it is meant as a word)"),
            )),
            (Kind::State, _) => Err(Refusal::of(name, format!("is a state, whose values are words, and this is {sort}"))),
            (Kind::Histogram, ValueRef::Histogram(histogram)) => {
                histogram.check().map_err(|fault| Refusal::of(name, format!("the histogram {fault}")))?;
                self.histograms.push(histogram.clone());
                Ok(((self.histograms.len() - 1) as f64, 0))
            }
            (Kind::Histogram, _) => Err(Refusal::of(
                name,
                format!("is a histogram, and this is {sort}: write {{\"bounds\": [300, 600], \"counts\": [4, 2, 0], \"sum\": 1800}}"),
            )),
            (_, ValueRef::Number(number)) if number.is_finite() => Ok((number, 0)),
            (_, ValueRef::Integer(integer)) => Ok(split_integer(integer)),
            (_, ValueRef::Number(number)) if number.is_nan() => {
                Err(Refusal::of(name, "is not a number (NaN): leave the point out where nothing was measured"))
            }
            (_, ValueRef::Number(_)) => Err(Refusal::of(name, "is infinite, or beyond the range of 64-bit floats")),
            (kind, ValueRef::Word(word)) => Err(Refusal::of(name, format!("is a {kind}, whose values are numbers: \"{word}\" is a text"))),
            (kind, ValueRef::Histogram(_)) => Err(Refusal::of(name, format!("is a {kind}, whose values are numbers, and this is a histogram"))),
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
        let (value, rest) = self.value(point.metric, metric.kind, point.value)?;
        let slot = self.slot(point.metric, metric, point.tags)?;
        if rest != 0 {
            self.rows.rests.push((self.rows.times.len(), rest));
        }
        self.rows.slots.push(slot);
        self.rows.times.push(point.time);
        self.rows.values.push(value);
        self.slots[slot as usize].points += 1;
        Ok(())
    }
}
