//! A batch being gathered: points resolved to series as they are read, with what they bring that is new.

use std::{hash::BuildHasher, sync::Arc};

use fenetre_core::{
    model::{About, Cause, DatasetId, Described, Kind, KnownSeries, MetricDefinition, PointRef, PointSink, Refusal, Status, ValueRef, WhenPaused},
    time::Nanos,
};

use super::{
    additions::{Additions, NewSeries},
    admission::Admission,
    claims::{self, Claims},
    contents::{Contents, Slot, SlotSeries},
    series_index::{KnownMetric, MetricIndex, SeriesIndex},
};
use crate::{catalogue::definitions::SharedCatalogue, limits::horizons::Horizons};

/// Points of one dataset that will be kept together. Nothing of it is kept until it is written.
pub struct Batch {
    pub(crate) dataset: DatasetId,
    pub(crate) dataset_name: String,
    pub(crate) contents: Contents,
    pub(crate) additions: Additions,
    pub(crate) claims: Claims,
    catalogue: SharedCatalogue,
    metrics: MetricIndex,
    series: SeriesIndex,
    admission: Admission,
    last_slot: Option<u32>,
    dropped: u64,
    notes: Vec<String>,
}

impl Batch {
    pub(crate) fn new(catalogue: SharedCatalogue, dataset: DatasetId, dataset_name: String) -> Self {
        Self {
            dataset,
            dataset_name,
            contents: Contents::default(),
            additions: Additions::default(),
            claims: Claims::default(),
            catalogue,
            metrics: MetricIndex::default(),
            series: SeriesIndex::default(),
            admission: Admission::default(),
            last_slot: None,
            dropped: 0,
            notes: Vec::new(),
        }
    }

    /// How many points it holds.
    pub fn len(&self) -> usize {
        self.contents.rows.times.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.contents.rows.times.is_empty()
    }

    /// Metrics that it would add.
    pub fn new_metrics(&self) -> impl Iterator<Item = &str> {
        self.additions.metrics.keys().map(String::as_str)
    }

    /// How many series it would add.
    pub fn new_series(&self) -> usize {
        self.additions.series.len()
    }

    /// The new series, each by a number that tells it apart from the others.
    pub fn new_series_numbers(&self) -> impl Iterator<Item = u64> + '_ {
        // Keyed alike in every batch, so that the same series has the same number.
        let hashing = std::hash::BuildHasherDefault::<std::collections::hash_map::DefaultHasher>::default();
        self.additions.series.iter().map(move |series| hashing.hash_one((&series.metric, &series.tags)))
    }

    /// Keys of tags that no series had before.
    pub fn new_tags(&self) -> Vec<String> {
        let catalogue = self.catalogue.read();
        let dataset = catalogue.dataset(&self.dataset_name);
        let mut keys: Vec<String> = self
            .additions
            .series
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
        let times = &self.contents.rows.times;
        Some((*times.iter().min()?, *times.iter().max()?))
    }

    /// Points after an instant are refused from here on.
    pub fn refuse_after(&mut self, latest: Nanos) {
        self.admission.latest = latest;
    }

    /// Points that a later one of the batch replaces, since both have the same series and instant.
    pub fn duplicates(&self) -> u64 {
        self.contents.duplicates()
    }

    /// Of which dataset.
    pub fn dataset(&self) -> DatasetId {
        self.dataset
    }

    /// Refuses points that are older than is kept: they would be dropped as soon as they are there.
    pub fn refuse_before(&mut self, horizons: Horizons) {
        self.admission.horizons = horizons;
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
        if let Some(known) = self.metrics.find(name) {
            return Ok(known);
        }
        let metric = match self.known_metric(name) {
            Some(known) => known,
            None => {
                if let Some(dataset) = self.catalogue.read().dataset(&self.dataset_name) {
                    Admission::check_metric(dataset, name)?;
                }
                let kind = match value {
                    // Many senders write numbers as texts; a state made of them would be one for good.
                    ValueRef::Word(word) if word.trim().parse::<f64>().is_ok_and(f64::is_finite) && self.additions.is_undecided(name) => {
                        self.note(format!(
                            "`{name}` became a gauge, since its first value, the text \"{word}\", is a number (if it is a state, define it first)"
                        ));
                        Kind::Gauge
                    }
                    ValueRef::Word(_) => Kind::State,
                    ValueRef::Histogram(_) => Kind::Histogram,
                    ValueRef::Number(_) | ValueRef::Integer(_) => Kind::Gauge,
                };
                let mut metadata = self.additions.learned.remove(name).unwrap_or(MetricDefinition { kind, ..MetricDefinition::default() });
                if self.additions.undecided.remove(name) {
                    metadata.kind = kind;
                    if let Some(unit) = metadata.unit.take_if(|_| kind == Kind::State) {
                        self.claims.assumed.remove(name);
                        self.note(format!("`{name}` is a state, which has no unit: \"{unit}\" was ignored"));
                    }
                }
                let kind = metadata.kind;
                self.additions.metrics.insert(name.to_owned(), MetricDefinition { unreviewed: true, ..metadata });
                let rule = self.claims.rule_of(name);
                KnownMetric { kind, id: None, earliest: self.admission.horizons.of_dataset(), rule, refused: None, renamed: None }
            }
        };
        if let Some(today) = &metric.renamed {
            self.note(format!("the metric `{name}` is called `{today}` now: its points went there"));
        }
        self.metrics.add(name, metric.clone());
        Ok(metric)
    }

    fn known_metric(&self, name: &str) -> Option<KnownMetric> {
        let catalogue = self.catalogue.read();
        let metric = catalogue.dataset(&self.dataset_name)?.metric_by_any_name(name)?;
        let status = metric.definition.status;
        Some(KnownMetric {
            kind: metric.definition.kind,
            id: Some(metric.id),
            earliest: self.admission.horizons.of(metric.id),
            rule: self.claims.rule_of(name),
            refused: (status != Status::Active).then_some((status, metric.definition.when_paused)),
            renamed: (*metric.name != *name).then(|| Arc::clone(&metric.name)),
        })
    }

    /// The slot of a point's series, which is new if neither the batch nor the catalogue has it.
    fn slot(&mut self, name: &str, metric: &KnownMetric, tags: &[(&str, &str)]) -> Result<u32, Refusal> {
        if !self.series.has_keys(tags) {
            let renamed = self.series.learn_keys(self.catalogue.read().dataset(&self.dataset_name), tags);
            for (key, today) in renamed {
                self.note(format!("the tag `{key}` is called `{today}` now, and was stored under that key"));
            }
        }
        if let Some(slot) = self.series.find(name, metric.id, tags) {
            return Ok(slot);
        }
        let known = metric.id.and_then(|_| self.catalogue.read().dataset(&self.dataset_name)?.find(self.series.key()));
        let series = match known {
            Some(id) => SlotSeries::Known(id),
            None => {
                let name = metric.renamed.as_deref().unwrap_or(name);
                let sorted: Vec<(String, String)> = self.series.sorted(tags).map(|(key, value)| (key.to_owned(), value.to_owned())).collect();
                if let Some(dataset) = self.catalogue.read().dataset(&self.dataset_name) {
                    self.admission.check_series(dataset, name, &sorted)?;
                }
                self.additions.series.push(NewSeries { metric: name.to_owned(), tags: sorted.into_iter().collect() });
                SlotSeries::New(self.additions.series.len() - 1)
            }
        };
        let slot = self.contents.add_slot(Slot { series, kind: metric.kind, points: 0, earliest: metric.earliest, rule: metric.rule });
        self.series.add(slot);
        Ok(slot)
    }
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
        self.admission.check_time(&self.dataset_name, point.metric, point.time, metric.earliest)?;
        let (value, rest) = self.contents.value(&self.claims, point.metric, (metric.kind, metric.rule), point.value)?;
        let slot = self.slot(point.metric, &metric, point.tags)?;
        self.contents.push(slot, point.time, value, rest);
        self.last_slot = Some(slot);
        Ok(())
    }

    fn last_series(&self) -> Option<KnownSeries> {
        self.last_slot.map(KnownSeries)
    }

    fn accept_again(&mut self, series: KnownSeries, metric: &str, time: Nanos, value: ValueRef<'_>) -> Result<(), Refusal> {
        let Some((kind, earliest, rule)) = self.contents.slots.get(series.0 as usize).map(|slot| (slot.kind, slot.earliest, slot.rule)) else {
            return Err(Refusal::of(Cause::Unreadable, metric, "its series is not of this batch"));
        };
        self.admission.check_time(&self.dataset_name, metric, time, earliest)?;
        let (value, rest) = self.contents.value(&self.claims, metric, (kind, rule), value)?;
        self.contents.push(series.0, time, value, rest);
        Ok(())
    }

    fn describe(&mut self, metric: &str, about: About<'_>) -> Described {
        if self.claims.is_repeated(metric, about.unit) {
            return Described { note: None, is_unfit: self.claims.is_unfit(metric) };
        }
        let known = self.additions.definition(metric).cloned();
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
            self.additions.undecided.remove(metric);
        } else if before.is_none() {
            self.additions.undecided.insert(metric.to_owned());
        }
        let definition = before.clone().unwrap_or(MetricDefinition { kind: about.kind.unwrap_or_default(), ..MetricDefinition::default() });
        let mut verdict =
            if is_first { claims::judge(definition, about, is_new) } else { claims::Verdict { definition, ..claims::Verdict::default() } };
        self.claims.take_unit(metric, about.unit, is_new, &mut verdict);
        self.metrics.set_rule(metric, self.claims.rule_of(metric));
        let claims::Verdict { definition, mut notes, contradictions } = verdict;
        if before.as_ref() != Some(&definition) && definition.check().is_ok() {
            self.additions.learn(metric, definition);
        }
        if !contradictions.is_empty() {
            notes.push(format!("`{metric}`: {}; the catalogue is used", contradictions.join("; ")));
        }
        Described { note: (!notes.is_empty()).then(|| notes.join("; ")), is_unfit: self.claims.is_unfit(metric) }
    }

    fn kind_of(&self, metric: &str) -> Option<Kind> {
        let decided = || self.additions.definition(metric).filter(|_| !self.additions.undecided.contains(metric));
        let kind = || decided().map(|definition| definition.kind);
        self.metrics.kind(metric).or_else(kind).or_else(|| self.known_metric(metric).map(|known| known.kind))
    }
}
