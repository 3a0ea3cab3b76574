//! How a batch finds the series of a point: by the metric's name and the tags, without the shared catalogue after the first point.

use std::{
    hash::{BuildHasher, Hasher},
    sync::Arc,
};

use fenetre_core::{
    catalogue::{Dataset, series_key},
    model::{Kind, MetricId, Status, WhenPaused},
    time::Nanos,
};
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};

use super::claims::RuleId;

/// A metric, as a batch needs it to admit points.
#[derive(Clone)]
pub struct KnownMetric {
    pub kind: Kind,
    /// None if it is new with this batch.
    pub id: Option<MetricId>,
    /// The first instant that is kept.
    pub earliest: Nanos,
    /// How its values are taken.
    pub rule: RuleId,
    /// Why its points are not accepted, if so.
    pub refused: Option<(Status, WhenPaused)>,
    /// Its current name, if the point uses an old one.
    pub renamed: Option<Arc<str>>,
}

/// Metrics that a batch has seen, by the names in its points.
#[derive(Default)]
pub struct MetricIndex {
    by_name: HashMap<String, KnownMetric>,
    /// Most points are of the same metric as the one before them.
    last: Option<(String, KnownMetric)>,
}

impl MetricIndex {
    /// The metric with a name, if it was seen before.
    pub fn find(&mut self, name: &str) -> Option<KnownMetric> {
        if let Some((last, known)) = &self.last
            && last == name
        {
            return Some(known.clone());
        }
        let known = self.by_name.get(name)?;
        match &mut self.last {
            // The text's memory is reused: metrics may alternate point by point.
            Some((last, last_known)) => {
                last.clear();
                last.push_str(name);
                last_known.clone_from(known);
            }
            none => *none = Some((name.to_owned(), known.clone())),
        }
        Some(known.clone())
    }

    /// Adds a metric.
    pub fn add(&mut self, name: &str, metric: KnownMetric) {
        self.by_name.insert(name.to_owned(), metric);
    }

    /// The kind of a metric, if it was seen before.
    pub fn kind(&self, name: &str) -> Option<Kind> {
        self.by_name.get(name).map(|known| known.kind)
    }

    /// Sets the rule for later points of a metric.
    pub fn set_rule(&mut self, name: &str, rule: RuleId) {
        if let Some(known) = self.by_name.get_mut(name) {
            known.rule = rule;
            self.last = None;
        }
    }
}

/// The slot of each series that the batch has seen, by key: later points find it without the shared catalogue, and without
/// allocating.
#[derive(Default)]
struct SlotIndex {
    table: HashTable<(usize, usize, u32)>,
    keys: Vec<u8>,
    hashing: DefaultHashBuilder,
}

impl SlotIndex {
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

/// The keys of the last point's tags, and the key of its series: most points have the same keys as the one before them, in the same order.
#[derive(Default)]
struct LastTags {
    keys: Vec<String>,
    /// Their current names.
    today: Vec<String>,
    /// Their positions in the order of current names.
    order: Vec<usize>,
}

/// Series that a batch has seen, by metric and tags.
#[derive(Default)]
pub struct SeriesIndex {
    slots: SlotIndex,
    tags: LastTags,
    key: Vec<u8>,
    hash: u64,
}

impl SeriesIndex {
    /// Whether the keys of a point's tags are those of the point before.
    pub fn has_keys(&self, tags: &[(&str, &str)]) -> bool {
        tags.iter().map(|(key, _)| *key).eq(self.tags.keys.iter().map(String::as_str))
    }

    /// Takes over the keys of a point's tags; returns the renamed ones, each with its current name.
    pub fn learn_keys(&mut self, dataset: Option<&Dataset>, tags: &[(&str, &str)]) -> Vec<(String, String)> {
        let LastTags { keys, today, order } = &mut self.tags;
        *keys = tags.iter().map(|(key, _)| (*key).to_owned()).collect();
        today.clone_from(keys);
        let mut renamed = Vec::new();
        if let Some(dataset) = dataset.filter(|dataset| dataset.has_renamed_tags()) {
            for key in today.iter_mut() {
                if let Some(name) = dataset.renamed_tag(key) {
                    renamed.push((std::mem::replace(key, name.to_owned()), name.to_owned()));
                }
            }
        }
        *order = (0..tags.len()).collect();
        order.sort_by(|a, b| today[*a].cmp(&today[*b]));
        renamed
    }

    /// A point's tags under current keys, in order. The keys must be those of [`Self::learn_keys`].
    pub fn sorted<'t>(&'t self, tags: &'t [(&str, &str)]) -> impl Iterator<Item = (&'t str, &'t str)> + Clone {
        self.tags.order.iter().map(|place| (self.tags.today[*place].as_str(), tags[*place].1))
    }

    /// The slot of a series, if it was seen before. Otherwise its key is kept for [`Self::add`].
    pub fn find(&mut self, metric: &str, id: Option<MetricId>, tags: &[(&str, &str)]) -> Option<u32> {
        let Self { slots, tags: LastTags { today, order, .. }, key, hash } = self;
        let sorted = order.iter().map(|place| (today[*place].as_str(), tags[*place].1));
        key.clear();
        match id {
            Some(id) => series_key(key, id, sorted),
            None => {
                // A metric without an id yet is identified by its name; the zero byte cannot be part of one.
                key.extend_from_slice(metric.as_bytes());
                key.push(0);
                series_key(key, MetricId(u32::MAX), sorted);
            }
        }
        *hash = slots.hash(key);
        slots.find(*hash, key)
    }

    /// The key of the last series searched for.
    pub fn key(&self) -> &[u8] {
        &self.key
    }

    /// Assigns a slot to the last series searched for.
    pub fn add(&mut self, slot: u32) {
        self.slots.add(self.hash, &self.key, slot);
    }
}
