//! Which datasets, metrics, tags and series there are, and who matches a condition.
//!
//! The store keeps these records in SQLite and this index of them in memory. A series is found by one look-up on borrowed bytes
//! ([`Dataset::find`]); a condition is answered from the inverted index, a bitmap of series for each value of each tag.

use std::{collections::BTreeMap, sync::Arc};

use hashbrown::HashMap;
use roaring::RoaringBitmap;

use crate::{
    model::{DatasetId, Kind, MetricDefinition, MetricId, SeriesId, Tags},
    query::{Comparison, Condition},
};

/// Every dataset of a store, by name.
#[derive(Debug, Default)]
pub struct Catalogue {
    datasets: BTreeMap<Arc<str>, Dataset>,
}

/// A named container of metrics.
#[derive(Debug)]
pub struct Dataset {
    /// For good.
    pub id: DatasetId,
    /// Its name.
    pub name: Arc<str>,
    /// IANA name of the zone that its calendar follows.
    pub zone: String,
    /// One sentence.
    pub description: String,
    metrics: BTreeMap<Arc<str>, Metric>,
    series: BTreeMap<SeriesId, Series>,
    by_key: HashMap<Box<[u8]>, SeriesId>,
    postings: BTreeMap<Arc<str>, BTreeMap<Arc<str>, RoaringBitmap>>,
}

/// What is measured.
#[derive(Debug)]
pub struct Metric {
    /// For good.
    pub id: MetricId,
    /// Its name.
    pub name: Arc<str>,
    /// What a person said of it, or what was seen when it first came.
    pub definition: MetricDefinition,
    series: RoaringBitmap,
}

impl Metric {
    /// Its series, by id.
    pub fn series(&self) -> impl Iterator<Item = SeriesId> + '_ {
        self.series.iter().map(SeriesId)
    }

    /// How many series it has.
    pub fn series_count(&self) -> u64 {
        self.series.len()
    }
}

/// One metric with one set of tags.
#[derive(Clone, Debug)]
pub struct Series {
    /// For good.
    pub id: SeriesId,
    /// Of which metric.
    pub metric: Arc<str>,
    /// What tells it apart.
    pub tags: Tags,
    /// The words of a state, by code.
    pub words: Vec<Arc<str>>,
}

/// A tag key with its values.
#[derive(Debug)]
pub struct TagUse<'a> {
    /// The key.
    pub key: &'a str,
    /// Each value, with the number of its series.
    pub values: Vec<(&'a str, u64)>,
}

/// Appends the key under which a series is found: the metric's id, then keys and values in the order of the keys, each ended by a
/// zero byte (which names cannot hold).
pub fn series_key<'a>(key: &mut Vec<u8>, metric: MetricId, tags: impl Iterator<Item = (&'a str, &'a str)>) {
    key.extend_from_slice(&metric.0.to_le_bytes());
    for (tag, value) in tags {
        for part in [tag, value] {
            key.extend_from_slice(part.as_bytes());
            key.push(0);
        }
    }
}

impl Catalogue {
    /// Adds a dataset, or replaces what is said of one.
    pub fn put_dataset(&mut self, id: DatasetId, name: &str, zone: &str, description: &str) {
        let dataset = self.datasets.entry(name.into()).or_insert_with(|| Dataset {
            id,
            name: name.into(),
            zone: String::new(),
            description: String::new(),
            metrics: BTreeMap::new(),
            series: BTreeMap::new(),
            by_key: HashMap::new(),
            postings: BTreeMap::new(),
        });
        dataset.zone = zone.to_owned();
        dataset.description = description.to_owned();
    }

    /// The dataset of that name.
    pub fn dataset(&self, name: &str) -> Option<&Dataset> {
        self.datasets.get(name)
    }

    /// The dataset of that name, to add to.
    pub fn dataset_mut(&mut self, name: &str) -> Option<&mut Dataset> {
        self.datasets.get_mut(name)
    }

    /// All datasets, by name.
    pub fn datasets(&self) -> impl Iterator<Item = &Dataset> {
        self.datasets.values()
    }
}

impl Dataset {
    /// Adds a metric, or replaces what is said of one.
    pub fn put_metric(&mut self, id: MetricId, name: &str, definition: MetricDefinition) {
        let metric = self.metrics.entry(name.into()).or_insert_with(|| Metric {
            id,
            name: name.into(),
            definition: MetricDefinition::default(),
            series: RoaringBitmap::new(),
        });
        metric.definition = definition;
    }

    /// Adds a series to a metric that is there; of an unknown metric nothing is added.
    pub fn put_series<'a>(&mut self, id: SeriesId, metric: &str, tags: impl Iterator<Item = (&'a str, &'a str)>, words: Vec<Arc<str>>) {
        let Some(owner) = self.metrics.get_mut(metric) else { return };
        owner.series.insert(id.0);
        let mut kept = BTreeMap::new();
        for (key, value) in tags {
            let key = interned(&mut self.postings, key);
            let values = self.postings.entry(Arc::clone(&key)).or_default();
            let value = interned(values, value);
            values.entry(Arc::clone(&value)).or_default().insert(id.0);
            kept.insert(key, value);
        }
        let mut found_by = Vec::new();
        series_key(&mut found_by, owner.id, kept.iter().map(|(key, value)| (&**key, &**value)));
        self.by_key.insert(found_by.into_boxed_slice(), id);
        self.series.insert(id, Series { id, metric: Arc::clone(&owner.name), tags: Arc::new(kept), words });
    }

    /// Adds a word to a state's series, under the next code.
    pub fn put_word(&mut self, series: SeriesId, word: &str) {
        if let Some(series) = self.series.get_mut(&series) {
            series.words.push(word.into());
        }
    }

    /// The metric of that name.
    pub fn metric(&self, name: &str) -> Option<&Metric> {
        self.metrics.get(name)
    }

    /// All metrics, by name.
    pub fn metrics(&self) -> impl Iterator<Item = &Metric> {
        self.metrics.values()
    }

    /// The series of that key, as [`series_key`] makes it.
    pub fn find(&self, key: &[u8]) -> Option<SeriesId> {
        self.by_key.get(key).copied()
    }

    /// The series of that id.
    pub fn series(&self, id: SeriesId) -> Option<&Series> {
        self.series.get(&id)
    }

    /// All series, by id.
    pub fn all_series(&self) -> impl Iterator<Item = &Series> {
        self.series.values()
    }

    /// How many series there are.
    pub fn series_count(&self) -> usize {
        self.series.len()
    }

    /// Tag keys with their values, those of one metric's series if one is given.
    pub fn tags(&self, metric: Option<&Metric>) -> Vec<TagUse<'_>> {
        let counted = |series: &RoaringBitmap| metric.map_or(series.len(), |metric| series.intersection_len(&metric.series));
        let uses = self.postings.iter().map(|(key, values)| TagUse {
            key,
            values: values.iter().map(|(value, series)| (&**value, counted(series))).filter(|(_, count)| *count > 0).collect(),
        });
        uses.filter(|tag| !tag.values.is_empty()).collect()
    }

    /// The metric's series that fulfil a condition, in order of their tags.
    pub fn matching(&self, metric: &Metric, condition: Option<&Condition>) -> Vec<&Series> {
        let mut matched = metric.series.clone();
        if let Some(condition) = condition {
            self.narrow(&mut matched, condition);
        }
        let mut series: Vec<&Series> = matched.iter().filter_map(|id| self.series.get(&SeriesId(id))).collect();
        series.sort_by(|a, b| a.tags.cmp(&b.tags));
        series
    }

    fn narrow(&self, matched: &mut RoaringBitmap, condition: &Condition) {
        match condition {
            Condition::All(parts) => parts.iter().for_each(|part| self.narrow(matched, part)),
            Condition::Is(Comparison { tag, texts, negated, .. }) => {
                let values = self.postings.get(&*tag.value);
                let mut named = RoaringBitmap::new();
                texts.iter().filter_map(|text| values?.get(&*text.value)).for_each(|series| named |= series);
                if *negated {
                    *matched -= named;
                } else {
                    *matched &= named;
                }
            }
        }
    }
}

impl Series {
    /// What a stored number stands for.
    pub fn word(&self, code: f64) -> Option<&Arc<str>> {
        self.words.get(code as usize)
    }

    /// Whether its values are words.
    pub fn is_state(&self, dataset: &Dataset) -> bool {
        dataset.metric(&self.metric).is_some_and(|metric| metric.definition.kind == Kind::State)
    }
}

/// The key as the map already holds it, so that a text that many series share is kept once.
fn interned<T>(map: &mut BTreeMap<Arc<str>, T>, text: &str) -> Arc<str> {
    map.get_key_value(text).map_or_else(|| text.into(), |(kept, _)| Arc::clone(kept))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::query::{Expr, parse};

    fn waterway() -> Catalogue {
        let mut catalogue = Catalogue::default();
        catalogue.put_dataset(DatasetId(1), "velmar", "UTC", "");
        let dataset = catalogue.dataset_mut("velmar").unwrap();
        dataset.put_metric(MetricId(1), "level", MetricDefinition::default());
        for (id, (lock, side)) in [("osier", "up"), ("osier", "down"), ("marl", "up")].into_iter().enumerate() {
            dataset.put_series(SeriesId(id as u32), "level", [("lock", lock), ("side", side)].into_iter(), vec![]);
        }
        dataset.put_series(SeriesId(9), "level", [("lock", "wick")].into_iter(), vec![]);
        catalogue
    }

    fn matching(condition: &str) -> Vec<u32> {
        let catalogue = waterway();
        let dataset = catalogue.dataset("velmar").unwrap();
        let query = parse(&format!("show count of level where {condition}")).unwrap();
        let Expr::Reduction(reduction) = &query.shows[0].expr else { panic!() };
        let series = dataset.matching(dataset.metric("level").unwrap(), reduction.selection.condition.as_ref());
        series.iter().map(|series| series.id.0).collect()
    }

    #[test]
    fn conditions_narrow() {
        assert_eq!(matching(r#"lock = "osier""#), [1, 0]);
        assert_eq!(matching(r#"lock = "osier" and side = "up""#), [0]);
        assert_eq!(matching(r#"lock in ("marl", "wick", "nowhere")"#), [2, 9]);
        assert_eq!(matching(r#"lock not in ("osier")"#), [2, 9]);
        assert_eq!(matching(r#"lock = "nowhere""#), [0u32; 0]);
    }

    #[test]
    fn a_series_without_the_tag_has_none_of_its_values() {
        assert_eq!(matching(r#"side != "down""#), [2, 0, 9]);
    }

    #[test]
    fn a_series_is_found_by_its_key() {
        let catalogue = waterway();
        let dataset = catalogue.dataset("velmar").unwrap();
        let key = |tags: &[(&'static str, &'static str)]| {
            let mut key = Vec::new();
            series_key(&mut key, MetricId(1), tags.iter().copied());
            key
        };
        assert_eq!(dataset.find(&key(&[("lock", "osier"), ("side", "down")])), Some(SeriesId(1)));
        assert_eq!(dataset.find(&key(&[("lock", "osier")])), None);
        // No two sets of tags share a key, wherever a value ends.
        assert_ne!(key(&[("a", "b"), ("c", "d")]), key(&[("a", "bc"), ("", "d")]));
    }

    #[test]
    fn tags_are_counted_by_metric() {
        let catalogue = waterway();
        let dataset = catalogue.dataset("velmar").unwrap();
        let tags = dataset.tags(dataset.metric("level"));
        assert_eq!(tags[0].values, [("marl", 1), ("osier", 2), ("wick", 1)]);
        assert_eq!(tags[1].key, "side");
    }

    proptest! {
        #[test]
        fn the_inverted_index_agrees_with_a_look_at_every_series(
            series in prop::collection::vec(prop::collection::btree_map("[ab]", "[xyz]", 0..3), 0..20),
            leaves in prop::collection::vec(("[ab]", prop::collection::vec("[xyz]", 1..3), any::<bool>()), 1..4),
        ) {
            let mut catalogue = Catalogue::default();
            catalogue.put_dataset(DatasetId(1), "velmar", "UTC", "");
            let dataset = catalogue.dataset_mut("velmar").unwrap();
            dataset.put_metric(MetricId(1), "level", MetricDefinition::default());
            for (id, tags) in series.iter().enumerate() {
                dataset.put_series(SeriesId(id as u32), "level", tags.iter().map(|(key, value)| (key.as_str(), value.as_str())), vec![]);
            }
            let written: Vec<String> = leaves.iter().map(|(tag, texts, negated)| {
                let texts: Vec<String> = texts.iter().map(|text| format!("\"{text}\"")).collect();
                format!("{tag} {}in ({})", if *negated { "not " } else { "" }, texts.join(", "))
            }).collect();
            let query = parse(&format!("show count of level where {}", written.join(" and "))).unwrap();
            let condition = query.shows[0].expr.selection().condition.as_ref();
            let mut found: Vec<u32> = dataset.matching(dataset.metric("level").unwrap(), condition).iter().map(|series| series.id.0).collect();
            found.sort_unstable();
            let fulfils = |tags: &BTreeMap<String, String>| leaves.iter().all(|(tag, texts, negated)| tags.get(tag).is_some_and(|value| texts.contains(value)) != *negated);
            let wanted: Vec<u32> = (0..series.len()).filter(|id| fulfils(&series[*id])).map(|id| id as u32).collect();
            prop_assert_eq!(found, wanted);
        }
    }
}
