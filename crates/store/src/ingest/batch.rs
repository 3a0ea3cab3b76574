//! A batch being gathered: points resolved to series as they are read, with what they bring that is new.

use std::{
    collections::{BTreeMap, HashMap as StdMap, HashSet},
    hash::{BuildHasher, Hasher},
    sync::Arc,
};

use fenetre_core::{
    catalogue::{Dataset, series_key},
    model::{
        About, Cause, DatasetId, Described, Histogram, Kind, KnownSeries, MAX_TAGS, MetricDefinition, MetricId, PointRef, PointSink, Refusal,
        SeriesId, Status, ValueRef, WhenPaused, check_name, check_tag_value, split_integer,
    },
    suggest::{closest, listing},
    time::{Nanos, format_utc},
};
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};

use crate::{
    catalogue::{definitions::SharedCatalogue, records::TagMap},
    ingest::claims::{self, Claims, RuleId},
    limits::horizons::Horizons,
};

/// Points of one dataset that will be kept together. Nothing of it is kept until it is written.
pub struct Batch {
    pub(crate) dataset: DatasetId,
    pub(crate) dataset_name: String,
    pub(crate) rows: Rows,
    /// The series that it has met.
    pub(crate) slots: Vec<Slot>,
    pub(crate) new_metrics: BTreeMap<String, MetricDefinition>,
    /// What it says of metrics of which nobody has said it yet.
    pub(crate) learned: BTreeMap<String, MetricDefinition>,
    /// New metrics that are described without a kind: their first points decide it.
    undecided: HashSet<String>,
    pub(crate) new_series: Vec<NewSeries>,
    pub(crate) words: Vec<String>,
    pub(crate) histograms: Vec<Histogram>,
    catalogue: SharedCatalogue,
    metrics: HashMap<String, KnownMetric>,
    last_metric: Option<(String, KnownMetric)>,
    met: SlotIndex,
    words_by_text: HashMap<String, u32>,
    key: Vec<u8>,
    /// Keys of the last point's tags, the keys that these have today, and their places in the order of those.
    keys: Vec<String>,
    keys_today: Vec<String>,
    order: Vec<usize>,
    /// Points after this are refused.
    latest: Nanos,
    /// Points before these are no longer kept.
    horizons: Horizons,
    last_slot: Option<u32>,
    dropped: u64,
    notes: Vec<String>,
    pub(crate) claims: Claims,
    /// New series of each metric, and new values of each tag, which count towards limits.
    new_of_metric: StdMap<String, u32>,
    new_values: HashSet<(String, String)>,
    patterns: StdMap<String, Option<regex::Regex>>,
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
    /// First instant that is kept of its metric.
    pub earliest: Nanos,
    /// How its values are taken.
    pub rule: RuleId,
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

#[derive(Clone)]
struct KnownMetric {
    kind: Kind,
    /// None for one that the batch brings.
    id: Option<MetricId>,
    /// First instant that is kept of it.
    earliest: Nanos,
    /// How its values are taken.
    rule: RuleId,
    /// What happens to its points, where they are not taken.
    refused: Option<(Status, WhenPaused)>,
    /// The name that it has today, where the point has another.
    renamed: Option<Arc<str>>,
}

/// The slot of each series that the batch has met, by key: the points after the first find theirs without a look into the shared
/// catalogue, and without taking memory.
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

impl Batch {
    pub(crate) fn new(catalogue: SharedCatalogue, dataset: DatasetId, dataset_name: String) -> Self {
        Self {
            dataset,
            dataset_name,
            rows: Rows::default(),
            slots: Vec::new(),
            new_metrics: BTreeMap::new(),
            learned: BTreeMap::new(),
            undecided: HashSet::new(),
            new_series: Vec::new(),
            words: Vec::new(),
            histograms: Vec::new(),
            catalogue,
            metrics: HashMap::new(),
            last_metric: None,
            met: SlotIndex::default(),
            words_by_text: HashMap::new(),
            key: Vec::new(),
            keys: Vec::new(),
            keys_today: Vec::new(),
            order: Vec::new(),
            latest: Nanos::MAX,
            horizons: Horizons::default(),
            last_slot: None,
            dropped: 0,
            notes: Vec::new(),
            claims: Claims::default(),
            new_of_metric: StdMap::new(),
            new_values: HashSet::new(),
            patterns: StdMap::new(),
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

    /// The new series, each by a number that tells it apart from the others.
    pub fn new_series_numbers(&self) -> impl Iterator<Item = u64> + '_ {
        // Keyed alike in every batch, so that the same series has the same number.
        let hashing = std::hash::BuildHasherDefault::<std::collections::hash_map::DefaultHasher>::default();
        self.new_series.iter().map(move |series| hashing.hash_one((&series.metric, &series.tags)))
    }

    /// Keys of tags that no series had before.
    pub fn new_tags(&self) -> Vec<String> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.dataset(&self.dataset_name);
        let mut keys: Vec<String> = self
            .new_series
            .iter()
            .flat_map(|series| series.tags.keys())
            .filter(|key| dataset.is_none_or(|dataset| !dataset.knows_tag(key)))
            .cloned()
            .collect();
        keys.sort_unstable();
        keys.dedup();
        keys
    }

    /// The earliest and the latest instant.
    pub fn span(&self) -> Option<(Nanos, Nanos)> {
        let times = &self.rows.times;
        Some((*times.iter().min()?, *times.iter().max()?))
    }

    /// Points after an instant are refused from here on.
    pub fn refuse_after(&mut self, latest: Nanos) {
        self.latest = latest;
    }

    /// Points that a later one of the batch replaces, since both have the same series and instant.
    pub fn duplicates(&self) -> u64 {
        let Rows { slots, times, .. } = &self.rows;
        let mut last = vec![Nanos::MIN; self.slots.len()];
        let rises = |(slot, time): (&u32, &Nanos)| {
            let before = std::mem::replace(&mut last[*slot as usize], *time);
            before < *time || before == Nanos::MIN
        };
        // Most batches bring each series in order of time.
        if slots.iter().zip(times).all(rises) {
            return 0;
        }
        let mut points: Vec<(u32, Nanos)> = slots.iter().copied().zip(times.iter().copied()).collect();
        points.sort_unstable();
        points.windows(2).filter(|pair| pair[0] == pair[1]).count() as u64
    }

    /// Of which dataset.
    pub fn dataset(&self) -> DatasetId {
        self.dataset
    }

    /// Refuses points that are older than is kept: they would be dropped as soon as they are there.
    pub fn refuse_before(&mut self, horizons: Horizons) {
        self.horizons = horizons;
    }

    /// Points that were passed over, since their metric is paused so.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// What its sender should know.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    pub(crate) fn note(&mut self, note: String) {
        if self.notes.len() < MAX_NOTES && !self.notes.contains(&note) {
            self.notes.push(note);
        }
    }

    /// The metric of that name; one that nobody knows is of the kind that the value shows.
    fn metric(&mut self, name: &str, value: ValueRef<'_>) -> Result<KnownMetric, Refusal> {
        // Most points are of the same metric as the one before them.
        if let Some((last, known)) = &self.last_metric
            && last == name
        {
            return Ok(known.clone());
        }
        if let Some(known) = self.metrics.get(name) {
            match &mut self.last_metric {
                // The text's memory is used again: metrics may take turns point by point.
                Some((last, last_known)) => {
                    last.clear();
                    last.push_str(name);
                    last_known.clone_from(known);
                }
                none => *none = Some((name.to_owned(), known.clone())),
            }
            return Ok(known.clone());
        }
        let metric = match self.known_metric(name) {
            Some(known) => known,
            None => {
                check_name(name).map_err(|error| Refusal::of(Cause::Tag, "metric", format!("the name {error}")))?;
                self.check_open(name)?;
                let kind = match value {
                    // Many senders write numbers as texts; a state made of them would be one for good.
                    ValueRef::Word(word) if word.trim().parse::<f64>().is_ok_and(f64::is_finite) && self.is_undecided(name) => {
                        self.note(format!(
                            "`{name}` became a gauge, since its first value, the text \"{word}\", is a number (if it is a state, define it first)"
                        ));
                        Kind::Gauge
                    }
                    ValueRef::Word(_) => Kind::State,
                    ValueRef::Histogram(_) => Kind::Histogram,
                    ValueRef::Number(_) | ValueRef::Integer(_) => Kind::Gauge,
                };
                let mut said = self.learned.remove(name).unwrap_or(MetricDefinition { kind, ..MetricDefinition::default() });
                if self.undecided.remove(name) {
                    said.kind = kind;
                    if let Some(unit) = said.unit.take_if(|_| kind == Kind::State) {
                        self.claims.assumed.remove(name);
                        self.note(format!("`{name}` is a state, which has no unit: \"{unit}\" was ignored"));
                    }
                }
                let kind = said.kind;
                self.new_metrics.insert(name.to_owned(), MetricDefinition { unreviewed: true, ..said });
                let rule = self.claims.rule_of(name);
                KnownMetric { kind, id: None, earliest: self.horizons.of_dataset(), rule, refused: None, renamed: None }
            }
        };
        if let Some(today) = &metric.renamed {
            self.note(format!("the metric `{name}` is called `{today}` now: its points went there"));
        }
        self.metrics.insert(name.to_owned(), metric.clone());
        Ok(metric)
    }

    /// Whether the first point of a new metric decides its kind.
    fn is_undecided(&self, name: &str) -> bool {
        self.undecided.contains(name) || !self.learned.contains_key(name)
    }

    fn known_metric(&self, name: &str) -> Option<KnownMetric> {
        let catalogue = self.catalogue.read();
        let metric = catalogue.dataset(&self.dataset_name)?.metric_by_any_name(name)?;
        let status = metric.definition.status;
        Some(KnownMetric {
            kind: metric.definition.kind,
            id: Some(metric.id),
            earliest: self.horizons.of(metric.id),
            rule: self.claims.rule_of(name),
            refused: (status != Status::Active).then_some((status, metric.definition.when_paused)),
            renamed: (*metric.name != *name).then(|| Arc::clone(&metric.name)),
        })
    }

    /// Whether metrics that nobody has defined may come.
    fn check_open(&self, name: &str) -> Result<(), Refusal> {
        let catalogue = self.catalogue.read();
        let Some(dataset) = catalogue.dataset(&self.dataset_name).filter(|dataset| dataset.definition.closed) else { return Ok(()) };
        let known = || dataset.metrics().map(|metric| &*metric.name);
        let hint = closest(name, known()).map_or_else(|| format!("it has {}", listing(known(), 8)), |known| format!("did you mean `{known}`?"));
        let text = format!("the dataset `{}` is closed and has no metric `{name}`: {hint} (define it first, or open the dataset)", dataset.name);
        Err(Refusal::of(Cause::Unknown, "metric", text))
    }

    fn slot(&mut self, name: &str, metric: &KnownMetric, tags: &[(&str, &str)]) -> Result<u32, Refusal> {
        // Most points have the same keys as the one before them, in the same order.
        if !tags.iter().map(|(key, _)| *key).eq(self.keys.iter().map(String::as_str)) {
            self.learn_keys(tags);
        }
        let sorted = || self.order.iter().map(|i| (self.keys_today[*i].as_str(), tags[*i].1));
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
                let name = metric.renamed.as_deref().unwrap_or(name);
                let sorted: Vec<(String, String)> = sorted().map(|(key, value)| (key.to_owned(), value.to_owned())).collect();
                self.check_new_series(name, &sorted)?;
                self.new_series.push(NewSeries { metric: name.to_owned(), tags: sorted.into_iter().collect() });
                SlotSeries::New(self.new_series.len() - 1)
            }
        };
        let slot = self.slots.len() as u32;
        self.slots.push(Slot { series, kind: metric.kind, points: 0, earliest: metric.earliest, rule: metric.rule });
        self.met.add(hash, &self.key, slot);
        Ok(slot)
    }

    /// Notes the keys of a point's tags, and which of them are called otherwise today.
    fn learn_keys(&mut self, tags: &[(&str, &str)]) {
        self.keys = tags.iter().map(|(key, _)| (*key).to_owned()).collect();
        self.keys_today.clone_from(&self.keys);
        let mut renamed = Vec::new();
        if let Some(dataset) = self.catalogue.read().dataset(&self.dataset_name).filter(|dataset| dataset.has_renamed_tags()) {
            for key in &mut self.keys_today {
                if let Some(today) = dataset.renamed_tag(key) {
                    renamed.push(format!("the tag `{key}` is called `{today}` now, and was stored under that key"));
                    *key = today.to_owned();
                }
            }
        }
        renamed.into_iter().for_each(|note| self.note(note));
        self.order = (0..tags.len()).collect();
        self.order.sort_by(|a, b| self.keys_today[*a].cmp(&self.keys_today[*b]));
    }

    /// Rules that a series must keep, checked once when it is new.
    fn check_new_series(&mut self, metric: &str, tags: &[(String, String)]) -> Result<(), Refusal> {
        check_tags(tags)?;
        let catalogue = Arc::clone(&self.catalogue);
        let catalogue = catalogue.read();
        let Some(dataset) = catalogue.dataset(&self.dataset_name) else { return Ok(()) };
        self.check_limits(dataset, metric)?;
        let rules = &dataset.definition;
        if let Some(most) = rules.max_tags.filter(|most| tags.len() > *most as usize) {
            return Err(Refusal::of(Cause::Tag, "tags", format!("there are {} tags, the dataset allows {most}", tags.len())));
        }
        for (key, value) in tags {
            let refuse = |cause: Cause, reason: String| Err(Refusal::of(cause, key, reason));
            if let Some(longest) = rules.max_tag_value_bytes.filter(|longest| value.len() > *longest as usize) {
                return refuse(Cause::Tag, format!("the tag's value is {} bytes long, the dataset allows {longest}", value.len()));
            }
            if rules.closed && !dataset.knows_tag(key) {
                let hint = closest(key, dataset.tag_keys())
                    .map_or_else(|| format!("it has {}", listing(dataset.tag_keys(), 8)), |known| format!("did you mean `{known}`?"));
                return refuse(Cause::Unknown, format!("the dataset `{}` is closed and has no tag `{key}`: {hint}", dataset.name));
            }
            let Some(tag) = dataset.tag_definitions.get(key) else { continue };
            if !tag.allowed.is_empty() && !tag.allowed.contains(value) {
                let known = || tag.allowed.iter().map(String::as_str);
                let hint =
                    closest(value, known()).map_or_else(|| format!("there are {}", listing(known(), 8)), |known| format!("did you mean `{known}`?"));
                return refuse(Cause::Tag, format!("`{value}` is not one of the tag's values: {hint}"));
            }
            if let Some(pattern) = &tag.pattern {
                let compiled = self.patterns.entry(key.clone()).or_insert_with(|| tag.pattern().ok().flatten());
                if compiled.as_ref().is_some_and(|compiled| !compiled.is_match(value)) {
                    return refuse(Cause::Tag, format!("`{value}` does not match the tag's pattern `{pattern}`"));
                }
            }
            if let Some(most) = tag.max_values
                && !dataset.has_value(key, value)
                && !self.new_values.contains(&(key.clone(), value.clone()))
            {
                let new = self.new_values.iter().filter(|(of, _)| of == key).count();
                if dataset.values_of(key) + new >= most as usize {
                    return refuse(Cause::Limit, format!("the tag has {most} values, which is its maximum, and `{value}` is a new one"));
                }
                self.new_values.insert((key.clone(), value.clone()));
            }
        }
        let lacking = dataset.tag_definitions.iter().find(|(key, tag)| tag.required && !tags.iter().any(|(known, _)| known == *key));
        if let Some((key, _)) = lacking {
            return Err(Refusal::of(Cause::Tag, key, format!("the tag `{key}` is missing, which every series of `{}` must carry", dataset.name)));
        }
        *self.new_of_metric.entry(metric.to_owned()).or_default() += 1;
        Ok(())
    }

    fn check_limits(&self, dataset: &Dataset, metric: &str) -> Result<(), Refusal> {
        let rules = &dataset.definition;
        if let Some(most) = rules.max_series.filter(|most| dataset.series_count() + self.new_series.len() >= *most as usize) {
            let text = format!(
                "the dataset `{}` has {most} series, which is its maximum. Existing series still accept points (raise `max_series` or remove a tag)",
                dataset.name
            );
            return Err(Refusal::of(Cause::Limit, "tags", text));
        }
        let known = dataset.metric(metric);
        let most = known.and_then(|known| known.definition.max_series).or(rules.max_series_per_metric);
        let there = known.map_or(0, |known| known.series_count()) + u64::from(self.new_of_metric.get(metric).copied().unwrap_or(0));
        match most.filter(|most| there >= u64::from(*most)) {
            Some(most) => {
                let text = format!(
                    "`{metric}` has {most} series, which is its maximum. Existing series still accept points (raise `max_series` or remove a tag)"
                );
                Err(Refusal::of(Cause::Limit, "tags", text))
            }
            None => Ok(()),
        }
    }

    fn check_time(&self, metric: &str, time: Nanos, earliest: Nanos) -> Result<(), Refusal> {
        if time < earliest {
            let (time, earliest, dataset) = (format_utc(time), format_utc(earliest), &self.dataset_name);
            let text = format!(
                "{time} is before the retention limit: `{metric}` keeps points from {earliest} (see `fenetre retention show {dataset}`, change it with `fenetre retention set`)"
            );
            return Err(Refusal::of(Cause::Past, "time", text));
        }
        if time <= self.latest {
            return Ok(());
        }
        let (time, latest) = (format_utc(time), format_utc(self.latest));
        let text = format!(
            "{time} is too far in the future: points after {latest} are rejected (wrong time unit? the limit is `max_future` under [limits])"
        );
        Err(Refusal::of(Cause::Future, "time", text))
    }

    fn push(&mut self, slot: u32, time: Nanos, value: f64, rest: i16) {
        if rest != 0 {
            self.rows.rests.push((self.rows.times.len(), rest));
        }
        self.rows.slots.push(slot);
        self.rows.times.push(time);
        self.rows.values.push(value);
        self.slots[slot as usize].points += 1;
    }

    /// The value as the rows hold it: a double, and what is missing to the integer that it stands for.
    fn value(&mut self, name: &str, kind: Kind, rule: RuleId, value: ValueRef<'_>) -> Result<(f64, i16), Refusal> {
        let sort = match value {
            ValueRef::Number(_) | ValueRef::Integer(_) => "a number",
            ValueRef::Word(_) => "a text",
            ValueRef::Histogram(_) => "a histogram",
        };
        match (kind, value) {
            (Kind::State, ValueRef::Word(word)) => {
                check_tag_value(word).map_err(|error| Refusal::of(Cause::Value, name, format!("the word {error}")))?;
                if let Some(index) = self.words_by_text.get(word) {
                    return Ok((f64::from(*index), 0));
                }
                let index = self.words.len() as u32;
                self.words.push(word.to_owned());
                self.words_by_text.insert(word.to_owned(), index);
                Ok((f64::from(index), 0))
            }
            (Kind::State, ValueRef::Number(number)) => Err(Refusal::of(
                Cause::Value,
                name,
                format!("is a state, whose values are words: {number} is a number (write \"{number}\" if it is meant as a word)"),
            )),
            (Kind::State, _) => Err(Refusal::of(Cause::Value, name, format!("is a state, whose values are words, and this is {sort}"))),
            (Kind::Histogram, ValueRef::Histogram(histogram)) => {
                histogram.check().map_err(|fault| Refusal::of(Cause::Value, name, format!("the histogram {fault}")))?;
                self.histograms.push(self.claims.histogram(rule, name, histogram)?);
                Ok(((self.histograms.len() - 1) as f64, 0))
            }
            (Kind::Histogram, _) => Err(Refusal::of(
                Cause::Value,
                name,
                format!("is a histogram, and this is {sort}: write {{\"bounds\": [300, 600], \"counts\": [4, 2, 0], \"sum\": 1800}}"),
            )),
            (_, ValueRef::Number(number)) if number.is_finite() => self.claims.number(rule, name, (number, 0)),
            (_, ValueRef::Integer(integer)) => self.claims.number(rule, name, split_integer(integer)),
            (_, ValueRef::Number(number)) if number.is_nan() => {
                Err(Refusal::of(Cause::NotFinite, name, "is not a number (NaN): leave the point out where nothing was measured"))
            }
            (_, ValueRef::Number(_)) => Err(Refusal::of(Cause::NotFinite, name, "is infinite, or beyond the range of 64-bit floats")),
            (kind, ValueRef::Word(word)) if word.trim().parse::<f64>().is_ok() => {
                // Many senders write numbers as texts.
                let number = word.trim().parse().unwrap_or(f64::NAN);
                self.value(name, kind, rule, ValueRef::Number(number))
            }
            (kind, ValueRef::Word(word)) => {
                Err(Refusal::of(Cause::Value, name, format!("is a {kind}, whose values are numbers: \"{word}\" is a text")))
            }
            (kind, ValueRef::Histogram(_)) => {
                Err(Refusal::of(Cause::Value, name, format!("is a {kind}, whose values are numbers, and this is a histogram")))
            }
        }
    }
}

/// Rules that a series must keep, checked once when it is new.
fn check_tags(tags: &[(String, String)]) -> Result<(), Refusal> {
    if tags.len() > MAX_TAGS {
        return Err(Refusal::of(Cause::Tag, "tags", format!("there are {} tags, the limit is {MAX_TAGS}", tags.len())));
    }
    for (i, (key, value)) in tags.iter().enumerate() {
        check_name(key).map_err(|error| Refusal::of(Cause::Tag, "tags", format!("a tag's key {error}")))?;
        check_tag_value(value).map_err(|error| Refusal::of(Cause::Tag, key, format!("the tag's value {error}")))?;
        if tags[..i].iter().any(|(other, _)| other == key) {
            return Err(Refusal::of(Cause::Tag, key, "the tag is given twice"));
        }
    }
    Ok(())
}

/// The most notes that a batch keeps.
const MAX_NOTES: usize = 20;

impl PointSink for Batch {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        self.last_slot = None;
        let metric = self.metric(point.metric, point.value)?;
        if let Some((status, when)) = metric.refused {
            return match when {
                WhenPaused::Drop => {
                    self.dropped += 1;
                    Ok(())
                }
                WhenPaused::Refuse => Err(Refusal::of(Cause::Paused, point.metric, format!("is {}, and takes no points", status.as_str()))),
            };
        }
        self.check_time(point.metric, point.time, metric.earliest)?;
        let (value, rest) = self.value(point.metric, metric.kind, metric.rule, point.value)?;
        let slot = self.slot(point.metric, &metric, point.tags)?;
        self.push(slot, point.time, value, rest);
        self.last_slot = Some(slot);
        Ok(())
    }

    fn last_series(&self) -> Option<KnownSeries> {
        self.last_slot.map(KnownSeries)
    }

    fn accept_again(&mut self, series: KnownSeries, metric: &str, time: Nanos, value: ValueRef<'_>) -> Result<(), Refusal> {
        let Some((kind, earliest, rule)) = self.slots.get(series.0 as usize).map(|slot| (slot.kind, slot.earliest, slot.rule)) else {
            return Err(Refusal::of(Cause::Unreadable, metric, "its series is not of this batch"));
        };
        self.check_time(metric, time, earliest)?;
        let (value, rest) = self.value(metric, kind, rule, value)?;
        self.push(series.0, time, value, rest);
        Ok(())
    }

    fn describe(&mut self, metric: &str, about: About<'_>) -> Described {
        if self.claims.is_repeated(metric, about.unit) {
            return Described { note: None, is_unfit: self.claims.is_unfit(metric) };
        }
        let known = self.learned.get(metric).or_else(|| self.new_metrics.get(metric)).cloned();
        let in_catalogue = || {
            let catalogue = self.catalogue.read();
            let found = catalogue.dataset(&self.dataset_name).and_then(|dataset| dataset.metric_by_any_name(metric));
            found.map(|found| found.definition.clone())
        };
        let is_first = self.claims.is_first(metric);
        let stored = if is_first || known.is_none() { in_catalogue() } else { None };
        let is_new = stored.is_none();
        let before = known.or(stored);
        if about.kind.is_some() {
            self.undecided.remove(metric);
        } else if before.is_none() {
            self.undecided.insert(metric.to_owned());
        }
        let definition = before.clone().unwrap_or(MetricDefinition { kind: about.kind.unwrap_or_default(), ..MetricDefinition::default() });
        let mut verdict =
            if is_first { claims::judge(definition, about, is_new) } else { claims::Verdict { definition, ..claims::Verdict::default() } };
        self.claims.take_unit(metric, about.unit, is_new, &mut verdict);
        // Points of the metric that come after this are taken by the new rule.
        if let Some(known) = self.metrics.get_mut(metric) {
            known.rule = self.claims.rule_of(metric);
            self.last_metric = None;
        }
        let claims::Verdict { definition, mut notes, contradictions } = verdict;
        if before.as_ref() != Some(&definition) && definition.check().is_ok() {
            match self.new_metrics.get_mut(metric) {
                Some(new) => *new = definition,
                None => {
                    self.learned.insert(metric.to_owned(), definition);
                }
            }
        }
        if !contradictions.is_empty() {
            notes.push(format!("`{metric}`: {}; the catalogue is used", contradictions.join("; ")));
        }
        Described { note: (!notes.is_empty()).then(|| notes.join("; ")), is_unfit: self.claims.is_unfit(metric) }
    }

    fn kind_of(&self, metric: &str) -> Option<Kind> {
        let learned = self.learned.get(metric).filter(|_| !self.undecided.contains(metric));
        let learned = || learned.or_else(|| self.new_metrics.get(metric)).map(|definition| definition.kind);
        self.metrics.get(metric).map(|known| known.kind).or_else(learned).or_else(|| self.known_metric(metric).map(|known| known.kind))
    }
}
