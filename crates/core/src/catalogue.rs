//! Which datasets, metrics, tags and series there are, and who matches a condition.
//!
//! The store keeps these records in SQLite and this index of them in memory. A series is found by one look-up on borrowed bytes
//! ([`Dataset::find`]); a condition is answered from the inverted index, a bitmap of series for each value of each tag.

use std::{
    collections::BTreeMap,
    hash::{BuildHasher, Hasher},
    sync::Arc,
};

use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use roaring::RoaringBitmap;

use crate::{
    model::{
        DatasetDefinition, DatasetId, Histogram, Kind, MetricDefinition, MetricId, MetricTraits, RollupPolicy, SeriesId, TagDefinition, Tags,
        Temporality,
    },
    query::{Condition, TagMatch, TagTest},
};

/// Every dataset of a store, by name.
#[derive(Debug, Default)]
pub struct Catalogue {
    datasets: BTreeMap<Arc<str>, Dataset>,
    /// Names that datasets had, with the names that they have.
    old_names: BTreeMap<String, Arc<str>>,
}

/// A named container of metrics.
#[derive(Debug)]
pub struct Dataset {
    /// Erased permanently.
    pub id: DatasetId,
    /// Its name.
    pub name: Arc<str>,
    /// Its definition.
    pub definition: DatasetDefinition,
    /// The folder of its partitions: the name under which it was made.
    pub folder: Arc<str>,
    metrics: BTreeMap<Arc<str>, Metric>,
    /// Definitions of its tags, by key.
    pub tag_definitions: BTreeMap<String, TagDefinition>,
    /// Which of its metrics are rolled up, by the names of the policies.
    pub rollups: BTreeMap<String, RollupPolicy>,
    /// Names that metrics and tags had, with the names that they have.
    old_metrics: BTreeMap<String, Arc<str>>,
    old_tags: BTreeMap<String, Arc<str>>,
    /// In order of their ids.
    series: Vec<Series>,
    /// Places in `series`, by the hash of the key.
    by_key: HashTable<u32>,
    hashing: DefaultHashBuilder,
    postings: BTreeMap<Arc<str>, HashMap<Arc<str>, Posting>>,
}

/// The series of one value of a tag. Often it tells a single series apart, and then is kept as such: a bitmap would take ten times as much.
#[derive(Debug)]
enum Posting {
    One(SeriesId),
    Many(RoaringBitmap),
}

impl Posting {
    fn insert(&mut self, id: SeriesId) {
        match self {
            Self::One(only) => *self = Self::Many([only.0, id.0].into_iter().collect()),
            Self::Many(series) => {
                series.insert(id.0);
            }
        }
    }

    fn add_to(&self, all: &mut RoaringBitmap) {
        match self {
            Self::One(only) => {
                all.insert(only.0);
            }
            Self::Many(series) => *all |= series,
        }
    }

    /// How many there are, of one metric if one is given.
    fn count(&self, metric: Option<&Metric>) -> u64 {
        match (self, metric) {
            (Self::One(only), Some(metric)) => metric.series.contains(only.0).into(),
            (Self::One(_), None) => 1,
            (Self::Many(series), Some(metric)) => series.intersection_len(&metric.series),
            (Self::Many(series), None) => series.len(),
        }
    }
}

/// What is measured.
#[derive(Debug)]
pub struct Metric {
    /// Erased permanently.
    pub id: MetricId,
    /// Its name.
    pub name: Arc<str>,
    /// Its definition, by a person or from its first arrival.
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

impl MetricTraits {
    /// What evaluation must know of a metric.
    pub fn of(metric: &Metric) -> Self {
        let definition = &metric.definition;
        const DAY: i64 = 86_400 * crate::time::SECOND;
        let nanos = |span: Option<crate::time::Span>| {
            span.map(|span| span.nanos.saturating_add(i64::from(span.days) * DAY + i64::from(span.months) * 30 * DAY))
        };
        Self {
            metric: metric.name.clone(),
            kind: definition.kind,
            shape: definition.shape,
            temporality: definition.temporality.unwrap_or(if definition.kind == Kind::Histogram {
                Temporality::Delta
            } else {
                Temporality::Cumulative
            }),
            stale_after: nanos(definition.stale_after),
            interval: nanos(definition.interval),
        }
    }
}

/// One metric with one set of tags.
#[derive(Clone, Debug)]
pub struct Series {
    /// Erased permanently.
    pub id: SeriesId,
    /// The metric.
    pub metric: Arc<str>,
    metric_id: MetricId,
    /// Its tags.
    pub tags: Tags,
    /// What the stored numbers of a state or a histogram stand for.
    pub codes: Option<Box<Codes>>,
}

/// What the stored numbers of a series stand for, by number.
#[derive(Clone, Debug, PartialEq)]
pub enum Codes {
    /// The words of a state.
    Words(Vec<Arc<str>>),
    /// The layouts of a histogram.
    Layouts(Vec<Layout>),
}

/// Bounds that histograms of one series share. Their counts are kept apart, as series of their own beside the one that says which
/// layout holds at an instant: so they pack like counters do.
#[derive(Clone, Debug, PartialEq)]
pub struct Layout {
    /// Upper bounds of all buckets but the last.
    pub bounds: Arc<[f64]>,
    /// The series of the first bucket's counts; those of the others follow, then that of the sums.
    pub first_part: SeriesId,
}

impl Layout {
    /// The series of the buckets' counts, in order, and last that of the sums.
    pub fn parts(&self) -> impl ExactSizeIterator<Item = SeriesId> + use<> {
        let first = self.first_part.0;
        (0..self.bounds.len() as u32 + 2).map(move |i| SeriesId(first + i))
    }

    /// The histogram of its stored parts, in their order.
    pub fn histogram(&self, parts: &[(f64, i16)]) -> Histogram {
        let (sum, counts) = parts.split_last().map_or((0.0, parts), |((sum, _), counts)| (*sum, counts));
        let count = |(double, rest): &(f64, i16)| (*double as i128 + i128::from(*rest)).clamp(0, u64::MAX.into()) as u64;
        Histogram { bounds: self.bounds.to_vec(), counts: counts.iter().map(count).collect(), sum }
    }
}

/// Ids from here on are parts of histograms, which no index holds.
pub const FIRST_PART: u32 = 1 << 31;

impl SeriesId {
    /// Whether it is a series that people know, whose points are counted, and not a part of a histogram.
    pub fn is_whole(self) -> bool {
        self.0 < FIRST_PART
    }
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
    /// Adds a dataset, or replaces its definition.
    pub fn put_dataset(&mut self, id: DatasetId, name: &str, folder: &str, definition: DatasetDefinition) {
        let dataset = self.datasets.entry(name.into()).or_insert_with(|| Dataset {
            id,
            name: name.into(),
            definition: DatasetDefinition::default(),
            folder: folder.into(),
            metrics: BTreeMap::new(),
            tag_definitions: BTreeMap::new(),
            rollups: BTreeMap::new(),
            old_metrics: BTreeMap::new(),
            old_tags: BTreeMap::new(),
            series: Vec::new(),
            by_key: HashTable::new(),
            hashing: DefaultHashBuilder::default(),
            postings: BTreeMap::new(),
        });
        dataset.definition = definition;
    }

    /// Notes a name that a dataset had.
    pub fn put_old_name(&mut self, old: &str, name: &str) {
        self.old_names.insert(old.to_owned(), name.into());
    }

    /// The dataset that has a name, or had it.
    pub fn dataset_by_any_name(&self, name: &str) -> Option<&Dataset> {
        self.dataset(name).or_else(|| self.dataset(self.old_names.get(name)?))
    }

    /// Old names of datasets, with the names that they have.
    pub fn old_names(&self) -> impl Iterator<Item = (&str, &str)> {
        self.old_names.iter().map(|(old, name)| (old.as_str(), &**name))
    }

    /// The dataset of that name.
    pub fn dataset(&self, name: &str) -> Option<&Dataset> {
        self.datasets.get(name)
    }

    /// The dataset of that name, to add to.
    pub fn dataset_mut(&mut self, name: &str) -> Option<&mut Dataset> {
        self.datasets.get_mut(name)
    }

    /// The dataset of that id.
    pub fn dataset_by_id(&self, id: DatasetId) -> Option<&Dataset> {
        self.datasets.values().find(|dataset| dataset.id == id)
    }

    /// All datasets, by name.
    pub fn datasets(&self) -> impl Iterator<Item = &Dataset> {
        self.datasets.values()
    }
}

impl Dataset {
    /// Adds a metric, or replaces its definition.
    pub fn put_metric(&mut self, id: MetricId, name: &str, definition: MetricDefinition) {
        let metric = self.metrics.entry(name.into()).or_insert_with(|| Metric {
            id,
            name: name.into(),
            definition: MetricDefinition::default(),
            series: RoaringBitmap::new(),
        });
        metric.definition = definition;
    }

    /// Adds a series to a metric that is there, its tags in order of their keys; of an unknown metric nothing is added.
    pub fn put_series<'a>(&mut self, id: SeriesId, metric: &str, tags: impl Iterator<Item = (&'a str, &'a str)>, codes: Option<Codes>) {
        let Some(owner) = self.metrics.get_mut(metric) else { return };
        owner.series.insert(id.0);
        let mut kept = Vec::new();
        for (key, value) in tags {
            let key = interned(&mut self.postings, key);
            let values = self.postings.entry(Arc::clone(&key)).or_default();
            let value = match values.get_key_value_mut(value) {
                Some((known, posting)) => {
                    posting.insert(id);
                    Arc::clone(known)
                }
                None => {
                    let value: Arc<str> = value.into();
                    values.insert(Arc::clone(&value), Posting::One(id));
                    value
                }
            };
            kept.push((key, value));
        }
        let series = Series { id, metric: Arc::clone(&owner.name), metric_id: owner.id, tags: Tags::new(kept), codes: codes.map(Box::new) };
        let place = match self.series.last() {
            Some(last) if last.id >= id => {
                // Ids grow, so an insertion in the middle is rare.
                let place = self.series.partition_point(|known| known.id < id);
                self.by_key.iter_mut().filter(|known| **known as usize >= place).for_each(|known| *known += 1);
                place
            }
            _ => self.series.len(),
        };
        let hash = series.key_hash(&self.hashing);
        self.series.insert(place, series);
        let (all, hashing) = (&self.series, &self.hashing);
        self.by_key.insert_unique(hash, place as u32, |place| all[*place as usize].key_hash(hashing));
    }

    /// Adds a word to a state's series, under the next code.
    pub fn put_word(&mut self, series: SeriesId, word: &str) {
        let Some(series) = self.series_mut(series) else { return };
        match series.codes.as_deref_mut() {
            Some(Codes::Words(words)) => words.push(word.into()),
            _ => series.codes = Some(Box::new(Codes::Words(vec![word.into()]))),
        }
    }

    /// Adds a layout to a histogram's series, under the next code.
    pub fn put_layout(&mut self, series: SeriesId, layout: Layout) {
        let Some(series) = self.series_mut(series) else { return };
        match series.codes.as_deref_mut() {
            Some(Codes::Layouts(layouts)) => layouts.push(layout),
            _ => series.codes = Some(Box::new(Codes::Layouts(vec![layout]))),
        }
    }

    fn series_mut(&mut self, id: SeriesId) -> Option<&mut Series> {
        let place = self.place(id)?;
        self.series.get_mut(place)
    }

    fn place(&self, id: SeriesId) -> Option<usize> {
        // Where there is one dataset, ids have no gaps, and the first guess is right.
        let guess = id.0.checked_sub(self.series.first()?.id.0)? as usize;
        let is_right = self.series.get(guess).is_some_and(|series| series.id == id);
        if is_right { Some(guess) } else { self.series.binary_search_by_key(&id, |series| series.id).ok() }
    }

    /// Notes a name that a metric had.
    pub fn put_old_metric(&mut self, old: &str, name: &str) {
        self.old_metrics.insert(old.to_owned(), name.into());
    }

    /// Notes a key that a tag had.
    pub fn put_old_tag(&mut self, old: &str, key: &str) {
        self.old_tags.insert(old.to_owned(), key.into());
    }

    /// The metric that has a name, or had it.
    pub fn metric_by_any_name(&self, name: &str) -> Option<&Metric> {
        self.metric(name).or_else(|| self.metric(self.old_metrics.get(name)?))
    }

    /// The key that a tag has which had another one.
    pub fn renamed_tag(&self, old: &str) -> Option<&str> {
        self.old_tags.get(old).map(|key| &**key)
    }

    /// Whether any tag had another key.
    pub fn has_renamed_tags(&self) -> bool {
        !self.old_tags.is_empty()
    }

    /// Old names of metrics, with the names that they have.
    pub fn old_metrics(&self) -> impl Iterator<Item = (&str, &str)> {
        self.old_metrics.iter().map(|(old, name)| (old.as_str(), &**name))
    }

    /// Old keys of tags, with the keys that they have.
    pub fn old_tags(&self) -> impl Iterator<Item = (&str, &str)> {
        self.old_tags.iter().map(|(old, key)| (old.as_str(), &**key))
    }

    /// How many values a tag has.
    pub fn values_of(&self, key: &str) -> usize {
        self.postings.get(key).map_or(0, HashMap::len)
    }

    /// Whether some series has that value of a tag.
    pub fn has_value(&self, key: &str, value: &str) -> bool {
        self.postings.get(key).is_some_and(|values| values.contains_key(value))
    }

    /// Whether some series has that tag, or somebody has defined it.
    pub fn knows_tag(&self, key: &str) -> bool {
        self.postings.contains_key(key) || self.tag_definitions.contains_key(key)
    }

    /// Keys of all tags that series have or that somebody has defined.
    pub fn tag_keys(&self) -> impl Iterator<Item = &str> {
        let defined = self.tag_definitions.keys().map(String::as_str).filter(|key| !self.postings.contains_key(*key));
        self.postings.keys().map(|key| &**key).chain(defined)
    }

    /// The metric of that name.
    pub fn metric(&self, name: &str) -> Option<&Metric> {
        self.metrics.get(name)
    }

    /// All metrics, by name.
    pub fn metrics(&self) -> impl Iterator<Item = &Metric> {
        self.metrics.values()
    }

    /// The metric of that id.
    pub fn metric_by_id(&self, id: MetricId) -> Option<&Metric> {
        self.metrics.values().find(|metric| metric.id == id)
    }

    /// Ids of a metric's series and of their parts, in order.
    pub fn series_with_parts(&self, metric: &Metric) -> Vec<SeriesId> {
        let series = metric.series().filter_map(|id| self.series(id));
        let mut all: Vec<SeriesId> =
            series.flat_map(|one| std::iter::once(one.id).chain(one.layouts().iter().flat_map(|layout| layout.parts()))).collect();
        all.sort_unstable();
        all
    }

    /// The series of that key, as [`series_key`] makes it.
    pub fn find(&self, key: &[u8]) -> Option<SeriesId> {
        let mut hasher = self.hashing.build_hasher();
        hasher.write(key);
        let place = self.by_key.find(hasher.finish(), |place| self.series[*place as usize].has_key(key))?;
        Some(self.series[*place as usize].id)
    }

    /// The series of that id.
    pub fn series(&self, id: SeriesId) -> Option<&Series> {
        self.place(id).map(|place| &self.series[place])
    }

    /// All series, by id.
    pub fn all_series(&self) -> impl Iterator<Item = &Series> {
        self.series.iter()
    }

    /// How many series there are.
    pub fn series_count(&self) -> usize {
        self.series.len()
    }

    /// Tag keys with their values, those of one metric's series if one is given.
    pub fn tags(&self, metric: Option<&Metric>) -> Vec<TagUse<'_>> {
        let uses = self.postings.iter().map(|(key, values)| {
            let counted = values.iter().map(|(value, series)| (&**value, series.count(metric)));
            let mut values: Vec<(&str, u64)> = counted.filter(|(_, count)| *count > 0).collect();
            values.sort_unstable();
            TagUse { key, values }
        });
        uses.filter(|tag| !tag.values.is_empty()).collect()
    }

    /// Whether some series of a metric has a tag.
    pub fn has_tag(&self, key: &str, metric: &Metric) -> bool {
        self.postings.get(key).is_some_and(|values| values.values().any(|series| series.count(Some(metric)) > 0))
    }

    /// Keys of the tags that each metric's series carry, of all metrics at once.
    pub fn tag_keys_by_metric(&self) -> BTreeMap<MetricId, std::collections::BTreeSet<&str>> {
        let mut keys: BTreeMap<MetricId, std::collections::BTreeSet<&str>> = BTreeMap::new();
        for series in &self.series {
            let known = keys.entry(series.metric_id).or_default();
            series.tags.iter().for_each(|(key, _)| {
                known.insert(key);
            });
        }
        keys
    }

    /// The metric's series that fulfil a condition, in order of their tags.
    pub fn matching(&self, metric: &Metric, condition: Option<&Condition>) -> Vec<&Series> {
        let mut series = self.matching_by_id(metric, condition);
        series.sort_by(|a, b| a.tags.cmp(&b.tags));
        series
    }

    /// The metric's series that fulfil a condition, in order of their ids.
    pub fn matching_by_id(&self, metric: &Metric, condition: Option<&Condition>) -> Vec<&Series> {
        let matched = condition.map(|condition| self.fulfilling(&metric.series, condition));
        matched.as_ref().unwrap_or(&metric.series).iter().filter_map(|id| self.series(SeriesId(id))).collect()
    }

    /// Those of `all` that fulfil a condition on tags; conditions on values hold for all of them.
    fn fulfilling(&self, all: &RoaringBitmap, condition: &Condition) -> RoaringBitmap {
        let with_values = |tag: &str, wanted: &dyn Fn(&str) -> bool| {
            let mut named = RoaringBitmap::new();
            let values = self.postings.get(tag).into_iter().flatten();
            values.filter(|(value, _)| wanted(value)).for_each(|(_, series)| series.add_to(&mut named));
            named
        };
        let chosen = |named: RoaringBitmap, negated: bool| if negated { all - named } else { all & named };
        match condition {
            Condition::All(parts) => parts.iter().fold(all.clone(), |left, part| self.fulfilling(&left, part)),
            Condition::Any(parts) => parts.iter().fold(RoaringBitmap::new(), |found, part| found | self.fulfilling(all, part)),
            Condition::Not(inner) => all - self.fulfilling(all, inner),
            Condition::Has(tag) => chosen(with_values(&tag.value, &|_| true), false),
            Condition::Lacks(tag) => chosen(with_values(&tag.value, &|_| true), true),
            Condition::Value(_) => all.clone(),
            Condition::Matches(TagMatch { tag, pattern, negated }) => {
                // The plan has looked at the pattern before; one that cannot be read matches nothing.
                let Ok(pattern) = whole_pattern(&pattern.value) else { return chosen(RoaringBitmap::new(), *negated) };
                chosen(with_values(&tag.value, &|value| pattern.is_match(value)), *negated)
            }
            Condition::Is(TagTest { tag, texts, negated, .. }) => {
                let values = self.postings.get(&*tag.value);
                let mut named = RoaringBitmap::new();
                texts.iter().filter_map(|text| values?.get(&*text.value)).for_each(|series| series.add_to(&mut named));
                chosen(named, *negated)
            }
        }
    }

    /// Values of one tag, with the number of series of each, those of one metric's series if one is given.
    pub fn values_with_counts(&self, key: &str, metric: Option<&Metric>) -> Vec<(&str, u64)> {
        let values = self.postings.get(key).into_iter().flatten();
        values.map(|(value, series)| (&**value, series.count(metric))).filter(|(_, count)| *count > 0).collect()
    }
}

/// The largest regular expression, compiled, in bytes.
const LARGEST_PATTERN: usize = 1 << 20;

/// The regular expression that a whole value of a tag matches.
///
/// # Errors
/// If it is none, or too large.
pub fn whole_pattern(pattern: &str) -> Result<regex::Regex, regex::Error> {
    regex::RegexBuilder::new(&format!("^(?:{pattern})$")).size_limit(LARGEST_PATTERN).build()
}

impl Series {
    /// The words of a state.
    pub fn words(&self) -> &[Arc<str>] {
        match self.codes.as_deref() {
            Some(Codes::Words(words)) => words,
            _ => &[],
        }
    }

    /// The layouts of a histogram.
    pub fn layouts(&self) -> &[Layout] {
        match self.codes.as_deref() {
            Some(Codes::Layouts(layouts)) => layouts,
            _ => &[],
        }
    }

    /// The key under which it is found, part by part.
    fn key_parts(&self) -> impl Iterator<Item = &[u8]> {
        let tags = self.tags.iter().flat_map(|(key, value)| [key, value]);
        tags.flat_map(|text| [text.as_bytes(), &[0]])
    }

    fn has_key(&self, key: &[u8]) -> bool {
        let mut rest = key.strip_prefix(&self.metric_id.0.to_le_bytes());
        for part in self.key_parts() {
            rest = rest.and_then(|rest| rest.strip_prefix(part));
        }
        rest.is_some_and(<[u8]>::is_empty)
    }

    fn key_hash(&self, hashing: &DefaultHashBuilder) -> u64 {
        let mut key = Vec::with_capacity(128);
        series_key(&mut key, self.metric_id, self.tags.iter());
        let mut hasher = hashing.build_hasher();
        hasher.write(&key);
        hasher.finish()
    }

    /// What kind of values it has.
    pub fn kind(&self, dataset: &Dataset) -> Kind {
        dataset.metric(&self.metric).map_or(Kind::default(), |metric| metric.definition.kind)
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
    use crate::query::{Expr, Of, parse};

    fn waterway() -> Catalogue {
        let mut catalogue = Catalogue::default();
        catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition::default());
        let dataset = catalogue.dataset_mut("velmar").unwrap();
        dataset.put_metric(MetricId(1), "level", MetricDefinition::default());
        for (id, (lock, side)) in [("osier", "up"), ("osier", "down"), ("marl", "up")].into_iter().enumerate() {
            dataset.put_series(SeriesId(id as u32), "level", [("lock", lock), ("side", side)].into_iter(), None);
        }
        dataset.put_series(SeriesId(9), "level", [("lock", "wick")].into_iter(), None);
        catalogue
    }

    fn matching(condition: &str) -> Vec<u32> {
        let catalogue = waterway();
        let dataset = catalogue.dataset("velmar").unwrap();
        let query = parse(&format!("show count of level where {condition}")).unwrap();
        let Expr::Reduction(reduction) = &query.shows[0].expr else { panic!() };
        let Of::Selection(selection) = &reduction.of else { panic!() };
        let series = dataset.matching(dataset.metric("level").unwrap(), selection.condition.as_ref());
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
            catalogue.put_dataset(DatasetId(1), "velmar", "velmar", DatasetDefinition::default());
            let dataset = catalogue.dataset_mut("velmar").unwrap();
            dataset.put_metric(MetricId(1), "level", MetricDefinition::default());
            for (id, tags) in series.iter().enumerate() {
                dataset.put_series(SeriesId(id as u32), "level", tags.iter().map(|(key, value)| (key.as_str(), value.as_str())), None);
            }
            let written: Vec<String> = leaves.iter().map(|(tag, texts, negated)| {
                let texts: Vec<String> = texts.iter().map(|text| format!("\"{text}\"")).collect();
                format!("{tag} {}in ({})", if *negated { "not " } else { "" }, texts.join(", "))
            }).collect();
            let query = parse(&format!("show count of level where {}", written.join(" and "))).unwrap();
            let crate::query::Expr::Reduction(reduction) = &query.shows[0].expr else { unreachable!() };
            let crate::query::Of::Selection(selection) = &reduction.of else { unreachable!() };
            let condition = selection.condition.as_ref();
            let mut found: Vec<u32> = dataset.matching(dataset.metric("level").unwrap(), condition).iter().map(|series| series.id.0).collect();
            found.sort_unstable();
            let fulfils = |tags: &BTreeMap<String, String>| leaves.iter().all(|(tag, texts, negated)| tags.get(tag).is_some_and(|value| texts.contains(value)) != *negated);
            let wanted: Vec<u32> = (0..series.len()).filter(|id| fulfils(&series[*id])).map(|id| id as u32).collect();
            prop_assert_eq!(found, wanted);
        }
    }
}
