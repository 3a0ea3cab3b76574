//! Which series a sink sends, and how their points change on their way.

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};

use fenetre_core::{
    block::{Columns, Points},
    catalogue::{Catalogue, Codes, Dataset, Layout, Metric, Series},
    model::{DatasetId, Histogram, MetricDefinition, MetricId, SeriesId, Tags, Value},
    query::{Condition, parse_condition},
    selection::with_keys_of_today,
    units::{Conversion, conversion},
};
use fenetre_store::{Store, Stretch};

use super::{
    definition::{Shape, SinkDefinition},
    outgoing::{Outgoing, OutgoingSeries, OutgoingStretch, Values},
};
use crate::error::FlowError;

/// Maximum number of series that are remembered. Beyond it, all are looked up again.
const MAX_KNOWN: usize = 200_000;

/// The series that a sink sends. What was decided about a series is remembered until the catalogue changes it.
pub struct Selection {
    definition: SinkDefinition,
    shape: Shape,
    condition: Option<Condition>,
    metrics: HashMap<MetricId, Arc<KnownMetric>>,
    known: HashMap<SeriesId, Known>,
}

/// A metric that was met.
struct KnownMetric {
    /// Its definition when it was met.
    here: MetricDefinition,
    /// The definition at the destination.
    there: Arc<MetricDefinition>,
    conversion: Conversion,
}

/// A series that was met, as the catalogue had it.
struct Known {
    name: Arc<str>,
    tags: Tags,
    metric: Arc<KnownMetric>,
    /// How it is sent; none if it is not.
    sent: Option<Arc<OutgoingSeries>>,
}

/// Points that have been collected for a batch, by series, in order of arrival.
#[derive(Default)]
pub struct Gathered {
    series: HashMap<SeriesId, Columns>,
    /// Number of points of selected series.
    pub points: usize,
}

impl Gathered {
    /// Adds other points: of other series, or of later times.
    pub fn absorb(&mut self, other: Self) {
        for (id, columns) in other.series {
            self.series.entry(id).or_default().extend(columns.points());
        }
        self.points += other.points;
    }
}

impl Selection {
    /// The selection of a definition.
    ///
    /// # Errors
    /// [`FlowError::Definition`] for a condition that cannot be read.
    pub fn new(definition: &SinkDefinition) -> Result<Self, FlowError> {
        let condition = definition.condition().map(parse_condition).transpose();
        let condition = condition.map_err(|error| FlowError::Definition(format!("where: {error}")))?;
        Ok(Self { definition: definition.clone(), shape: definition.shape(), condition, metrics: HashMap::new(), known: HashMap::new() })
    }

    /// The dataset, if it exists.
    pub fn dataset<'c>(&self, catalogue: &'c Catalogue) -> Option<&'c Dataset> {
        catalogue.dataset_by_any_name(self.definition.dataset())
    }

    /// The metrics that are sent, at least in part.
    pub fn metrics<'c>(&self, dataset: &'c Dataset) -> impl Iterator<Item = &'c Metric> {
        dataset.metrics().filter(|metric| self.sends_metric(&metric.name))
    }

    /// The condition on its series.
    pub fn condition(&self) -> Option<&Condition> {
        self.condition.as_ref()
    }

    /// Name of a metric at the destination.
    pub fn name_there<'s>(&'s self, metric: &'s str) -> &'s str {
        self.shape.rename.get(metric).map_or(metric, String::as_str)
    }

    /// Constant tags at the destination.
    pub fn constant_tags(&self) -> &std::collections::BTreeMap<String, String> {
        &self.shape.tags
    }

    fn sends_metric(&self, name: &str) -> bool {
        let metrics = self.definition.metrics();
        metrics.is_empty() || metrics.iter().any(|pattern| pattern.fits(name))
    }

    /// Series of a metric that are sent. A tag that no series of the metric has yet is no error, unlike in a query: such series may come.
    pub fn series_of(&self, dataset: &Dataset, metric: &Metric) -> Vec<SeriesId> {
        let Some(condition) = self.condition.clone() else { return metric.series().collect() };
        let condition = with_keys_of_today(condition, dataset, metric, &mut Vec::new());
        dataset.matching_by_id(metric, Some(&condition)).iter().map(|series| series.id).collect()
    }

    /// Conversion of the values of a metric.
    ///
    /// # Errors
    /// [`FlowError::Definition`] if its unit cannot be converted.
    pub fn conversion_of(&self, metric: &Metric) -> Result<Conversion, FlowError> {
        let Some(wanted) = self.shape.units.get(&*metric.name) else { return Ok(Conversion::NONE) };
        let unit = metric.definition.unit.as_deref();
        unit.and_then(|unit| conversion(unit, wanted)).ok_or_else(|| {
            let of = unit.map_or_else(|| "no unit".to_owned(), |unit| format!("the unit `{unit}`"));
            FlowError::Definition(format!("units.{0}: `{0}` has {of}, which cannot be converted to `{wanted}`", metric.name))
        })
    }

    /// Adds the points of selected series to a batch, and the parts of their histograms.
    ///
    /// # Errors
    /// As for [`Selection::conversion_of`].
    pub fn gather<'b>(
        &mut self,
        store: &Store,
        of: DatasetId,
        stretches: impl Iterator<Item = Stretch<'b>>,
        into: &mut Gathered,
    ) -> Result<(), FlowError> {
        store.with_catalogue(|catalogue| {
            let Some(dataset) = self.dataset(catalogue).filter(|dataset| dataset.id == of) else { return Ok(()) };
            let mut fulfilling = HashMap::new();
            for Stretch { series, points } in stretches {
                if series.is_whole() {
                    if self.sent(dataset, series, &mut fulfilling)?.is_none() {
                        continue;
                    }
                    into.points += points.len();
                }
                let columns = into.series.entry(series).or_default();
                (0..points.len()).for_each(|at| columns.push(points.times[at], points.values[at], points.rest(at)));
            }
            Ok(())
        })
    }

    /// How a series is sent. `fulfilling` keeps the series that fulfil the condition, by metric.
    fn sent(
        &mut self,
        dataset: &Dataset,
        id: SeriesId,
        fulfilling: &mut HashMap<MetricId, HashSet<SeriesId>>,
    ) -> Result<Option<(Arc<OutgoingSeries>, Conversion)>, FlowError> {
        // A series that has since been deleted is not sent.
        let Some(series) = dataset.series(id) else { return Ok(None) };
        let Some(metric) = dataset.metric(&series.metric) else { return Ok(None) };
        let of_metric = self.known_metric(metric)?;
        let is_same =
            |known: &&Known| Arc::ptr_eq(&known.name, &series.metric) && known.tags == series.tags && Arc::ptr_eq(&known.metric, &of_metric);
        if let Some(known) = self.known.get(&id).filter(is_same) {
            return Ok(known.sent.clone().map(|sent| (sent, of_metric.conversion)));
        }
        let is_chosen = self.sends_metric(&series.metric)
            && (self.condition.is_none()
                || fulfilling.entry(metric.id).or_insert_with(|| self.series_of(dataset, metric).into_iter().collect()).contains(&id));
        let sent = is_chosen.then(|| Arc::new(self.shaped(&of_metric, series)));
        if self.known.len() >= MAX_KNOWN {
            self.known.clear();
        }
        let known = Known { name: Arc::clone(&series.metric), tags: series.tags.clone(), metric: Arc::clone(&of_metric), sent: sent.clone() };
        self.known.insert(id, known);
        Ok(sent.map(|sent| (sent, of_metric.conversion)))
    }

    /// A metric as remembered; if its definition has changed, it is read again.
    fn known_metric(&mut self, metric: &Metric) -> Result<Arc<KnownMetric>, FlowError> {
        if let Some(known) = self.metrics.get(&metric.id).filter(|known| known.here == metric.definition) {
            return Ok(Arc::clone(known));
        }
        let conversion = if self.sends_metric(&metric.name) { self.conversion_of(metric)? } else { Conversion::NONE };
        let unit = self.shape.units.get(&*metric.name).or(metric.definition.unit.as_ref()).cloned();
        let there = Arc::new(MetricDefinition { unit, ..metric.definition.clone() });
        let known = Arc::new(KnownMetric { here: metric.definition.clone(), there, conversion });
        self.metrics.insert(metric.id, Arc::clone(&known));
        Ok(known)
    }

    /// A series as the destination sees it.
    fn shaped(&self, metric: &KnownMetric, series: &Series) -> OutgoingSeries {
        let tags = shaped_tags(&self.shape, series.tags.iter());
        let there = self.shape.rename.get(&*series.metric).map_or(&*series.metric, String::as_str);
        let unit = metric.there.unit.as_deref().map(Into::into);
        OutgoingSeries { metric: there.into(), tags, unit, definition: Arc::clone(&metric.there) }
    }

    /// Makes a batch of gathered points.
    ///
    /// # Errors
    /// As for [`Selection::conversion_of`].
    pub fn outgoing(&mut self, store: &Store, gathered: Gathered, id: String) -> Result<Outgoing, FlowError> {
        let sorted: HashMap<SeriesId, Columns> = gathered.series.into_iter().map(|(id, columns)| (id, in_order(columns))).collect();
        store.with_catalogue(|catalogue| {
            let Some(dataset) = self.dataset(catalogue) else { return Ok(Outgoing::default()) };
            let mut ids: Vec<SeriesId> = sorted.keys().copied().filter(|id| id.is_whole()).collect();
            ids.sort_unstable();
            let mut fulfilling = HashMap::new();
            let mut stretches = Vec::with_capacity(ids.len());
            for id in ids {
                let Some((series, conversion)) = self.sent(dataset, id, &mut fulfilling)? else { continue };
                let (columns, codes) = (&sorted[&id], dataset.series(id).and_then(|series| series.codes.as_deref()));
                let values = values_of(columns.points(), codes, conversion, &sorted);
                stretches.push(OutgoingStretch { id, series, times: columns.times.clone(), values });
            }
            Ok(Outgoing { stretches, id })
        })
    }
}

/// Tags at the destination: dropped, renamed, and with the constant ones.
pub fn shaped_tags<'t>(shape: &Shape, own: impl Iterator<Item = (&'t str, &'t str)>) -> Vec<(Arc<str>, Arc<str>)> {
    let Shape { rename_tags, drop_tags, tags: constant, .. } = shape;
    let own = own.filter(|(key, _)| !drop_tags.iter().any(|dropped| dropped == key) && !constant.contains_key(*key));
    let mut tags: Vec<(Arc<str>, Arc<str>)> =
        own.map(|(key, value)| (rename_tags.get(key).map_or(key, String::as_str).into(), value.into())).collect();
    tags.extend(constant.iter().map(|(key, value)| (key.as_str().into(), value.as_str().into())));
    tags.sort();
    tags.dedup_by(|next, one| next.0 == one.0);
    tags
}

/// Points in order of time; of several points of one instant, the latest arrival.
fn in_order(columns: Columns) -> Columns {
    if columns.times.is_sorted_by(|one, next| one < next) {
        return columns;
    }
    let mut order: Vec<usize> = (0..columns.len()).collect();
    order.sort_by_key(|at| columns.times[*at]);
    let mut sorted = Columns::default();
    let points = columns.points();
    for (place, at) in order.iter().enumerate() {
        let is_replaced = order.get(place + 1).is_some_and(|next| points.times[*next] == points.times[*at]);
        if !is_replaced {
            sorted.push(points.times[*at], points.values[*at], points.rest(*at));
        }
    }
    sorted
}

fn values_of(points: Points<'_>, codes: Option<&Codes>, conversion: Conversion, all: &HashMap<SeriesId, Columns>) -> Values {
    match codes {
        Some(Codes::Words(words)) => {
            let word = |code: &f64| words.get(*code as usize).map_or(Value::Number(*code), |word| Value::Word(Arc::clone(word)));
            Values::Other(points.values.iter().map(word).collect())
        }
        Some(Codes::Layouts(layouts)) => {
            let histogram = |at: usize| converted(histogram(points.times[at], points.values[at], layouts, all), conversion);
            Values::Other((0..points.len()).map(histogram).collect())
        }
        None if conversion != Conversion::NONE => Values::Numbers(points.values.iter().map(|value| conversion.apply(*value)).collect()),
        None => {
            let exact = |at: usize| points.value(at);
            let is_plain = points.rests.is_empty() && (0..points.len()).all(|at| matches!(exact(at), Value::Number(_)));
            if is_plain { Values::Numbers(points.values.to_vec()) } else { Values::Other((0..points.len()).map(exact).collect()) }
        }
    }
}

/// The histogram of an instant, from its parts.
fn histogram(time: i64, code: f64, layouts: &[Layout], all: &HashMap<SeriesId, Columns>) -> Value {
    let Some(layout) = layouts.get(code as usize) else { return Value::Number(code) };
    let part = |id: SeriesId| {
        let columns = all.get(&id)?;
        let at = columns.times.binary_search(&time).ok()?;
        Some((columns.values[at], columns.points().rest(at)))
    };
    // A part without that instant would be damage; it then counts as nothing.
    let parts: Vec<(f64, i16)> = layout.parts().map(|id| part(id).unwrap_or_default()).collect();
    Value::Histogram(Arc::new(layout.histogram(&parts)))
}

/// A histogram with bounds and sum in another unit.
fn converted(value: Value, conversion: Conversion) -> Value {
    match value {
        Value::Histogram(histogram) if conversion != Conversion::NONE => {
            let Histogram { bounds, counts, .. } = &*histogram;
            let sum = conversion.apply_to_sum(histogram.sum, histogram.count());
            let bounds = bounds.iter().map(|bound| conversion.apply(*bound)).collect();
            Value::Histogram(Arc::new(Histogram { bounds, counts: counts.clone(), sum }))
        }
        other => other,
    }
}
