//! A metric that has points gets another unit or kind: its points are converted into a metric of the same name, and the old metric goes to the bin,
//! from where it can be restored under another name. After a kill before the exchange, the next conversion removes the unfinished metric.

use std::collections::BTreeMap;

use fenetre_core::{
    block::Columns,
    catalogue::{Catalogue, Codes},
    evaluate::{Run, Source},
    model::{Cause, DatasetId, Kind, MetricDefinition, PointRef, PointSink, Refusal, SeriesId, Status, ValueRef},
    time::{Nanos, TimeRange},
    units::{Conversion as UnitConversion, Fit, fit},
};

use crate::{catalogue::change::Change, error::StoreError, store::Store};

/// Points of a metric that are converted at most.
pub const MAX_CONVERTED: usize = 1_000_000;
/// Points of one batch.
const BATCH_POINTS: usize = 50_000;
/// Values that cannot be converted, of which an example is given.
const MAX_EXAMPLES: usize = 3;
/// Behind the name of the metric that a conversion fills.
const UNFINISHED: &str = " (being converted)";

/// What a conversion does, or would do.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Conversion {
    /// Points that the metric has.
    pub points: u64,
    /// Points that have no counterpart, and stay with the old metric alone.
    pub unfit: u64,
    /// Some of their values.
    pub examples: Vec<String>,
}

/// How values become values of the new definition.
enum Rule {
    Unit(UnitConversion),
    WordsToNumbers,
    NumbersToWords,
}

impl Rule {
    fn of(name: &str, known: &MetricDefinition, wanted: &MetricDefinition) -> Result<Self, StoreError> {
        let fault = |text: String| Err(StoreError::Definition(format!("`{name}`: {text}")));
        let is_number = |kind: Kind| matches!(kind, Kind::Gauge | Kind::Counter);
        match Change::between(known, wanted) {
            Change::Nothing => fault("there is nothing to convert".to_owned()),
            Change::Unit { .. } if known.kind == Kind::Histogram => fault("points of histograms cannot be converted to another unit".to_owned()),
            Change::Unit { from, to: None } => fault(format!("points in {from} cannot be converted to no unit")),
            Change::Unit { from, to: Some(to) } => match fit(&from, &to) {
                Fit::Same => Ok(Self::Unit(UnitConversion::NONE)),
                Fit::Converted(conversion) if known.kind != Kind::Counter || conversion.offset == 0.0 => Ok(Self::Unit(conversion)),
                _ => fault(format!("points in {from} cannot be converted to {to}")),
            },
            Change::Kind { from: Kind::State, to } if is_number(to) => Ok(Self::WordsToNumbers),
            Change::Kind { from, to: Kind::State } if is_number(from) => Ok(Self::NumbersToWords),
            Change::Kind { from, to } => fault(format!("points of a {from} cannot become those of a {to}")),
        }
    }
}

/// Points of a metric as they are stored: of each series its tags, its words and its columns.
type Stored = BTreeMap<SeriesId, (Vec<(String, String)>, Vec<String>, Columns)>;

impl Store {
    /// Gives a metric another unit or kind, and converts its points; with `dry_run`, counts what that would do. The old metric goes to the bin.
    ///
    /// # Errors
    /// [`StoreError::Definition`] if the conversion is impossible, or if there are too many points.
    pub fn convert_metric(
        &self,
        dataset: &str,
        name: &str,
        definition: &MetricDefinition,
        dry_run: bool,
        now: Nanos,
    ) -> Result<Conversion, StoreError> {
        convert(self, dataset, name, definition, dry_run, now)
    }
}

/// Converts the points of a metric; with `dry_run`, only counts them.
fn convert(store: &Store, dataset: &str, name: &str, wanted: &MetricDefinition, dry_run: bool, now: Nanos) -> Result<Conversion, StoreError> {
    let fault = |text: String| StoreError::Definition(format!("`{name}`: {text}"));
    wanted.check().map_err(fault)?;
    let known = store.with_catalogue(|catalogue| {
        let found = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(catalogue, dataset))?;
        let metric = found.metric(name).map(|metric| metric.definition.clone());
        metric.ok_or_else(|| StoreError::Missing(format!("the dataset `{dataset}` has no metric `{name}`")))
    })?;
    let rule = Rule::of(name, &known, wanted)?;
    let (home, mut stored) = store.with_catalogue(|catalogue| series_of(catalogue, dataset, name))?;
    read(store, home, &mut stored, name)?;
    let mut report = Conversion::default();
    if dry_run {
        for (_, words, columns) in stored.values() {
            each_value(&rule, words, columns, &mut |value, at| report.count(value.is_some(), words, columns, at));
        }
        return Ok(report);
    }
    let unfinished = format!("{name}{UNFINISHED}");
    if store.with_catalogue(|catalogue| catalogue.dataset(dataset).is_some_and(|dataset| dataset.metric(&unfinished).is_some())) {
        store.bin().delete_metric(dataset, &unfinished, now)?;
    }
    // A metric that is paused takes no points, and one that is thinned not all of them.
    let filled = MetricDefinition { status: Status::Active, thinning: None, ..wanted.clone() };
    store.definitions().put_metric(dataset, &unfinished, filled)?;
    write(store, dataset, &unfinished, &rule, &stored, &BTreeMap::new(), &mut report)?;
    // Thinning is for points that are packed from now on.
    store.pack()?;
    store.definitions().exchange_metric(dataset, name, &unfinished, wanted, now)?;
    // Points that were acknowledged meanwhile are those of the old metric.
    store.pack()?;
    let before: BTreeMap<SeriesId, Columns> = stored.iter_mut().map(|(id, (_, _, columns))| (*id, std::mem::take(columns))).collect();
    read(store, home, &mut stored, name)?;
    let mut again = Conversion::default();
    write(store, dataset, name, &rule, &stored, &before, &mut again)?;
    report.points += again.points;
    report.unfit += again.unfit;
    Ok(report)
}

fn series_of(catalogue: &Catalogue, dataset: &str, name: &str) -> Result<(DatasetId, Stored), StoreError> {
    let found = catalogue.dataset(dataset).ok_or_else(|| StoreError::no_dataset(catalogue, dataset))?;
    let of = |id: SeriesId| {
        let series = found.series(id)?;
        let tags = series.tags.iter().map(|(key, value)| (key.to_string(), value.to_string())).collect();
        let words = match series.codes.as_deref() {
            Some(Codes::Words(words)) => words.iter().map(ToString::to_string).collect(),
            _ => Vec::new(),
        };
        Some((id, (tags, words, Columns::default())))
    };
    let stored = found.metric(name).into_iter().flat_map(|metric| metric.series()).filter_map(of).collect();
    Ok((found.id, stored))
}

fn read(store: &Store, dataset: DatasetId, stored: &mut Stored, name: &str) -> Result<(), StoreError> {
    let source = store.source();
    let mut points = 0;
    for (id, (_, _, columns)) in stored {
        let failed = |error: fenetre_core::evaluate::SourceError| match error.downcast::<StoreError>() {
            Ok(error) => *error,
            Err(other) => StoreError::Definition(other.to_string()),
        };
        let scanned = source.scan(dataset, &[*id], TimeRange::ALL, &mut |_, run| {
            match run {
                Run::Block(block) => block.decode(columns)?,
                Run::Points(found) => columns.extend(found),
                Run::Windows(..) => {}
            }
            Ok(())
        });
        scanned.map_err(failed)?;
        points += columns.len();
        if points > MAX_CONVERTED {
            let text =
                format!("`{name}` has more than {MAX_CONVERTED} points, too many to convert: define a metric of another name, and import into that");
            return Err(StoreError::Definition(text));
        }
    }
    Ok(())
}

/// A value of the new definition.
enum Converted {
    Number(f64),
    Word(String),
}

fn each_value(rule: &Rule, words: &[String], columns: &Columns, each: &mut dyn FnMut(Option<Converted>, usize)) {
    for at in 0..columns.len() {
        let value = columns.points().value(at);
        let number = columns.values[at];
        let converted = match rule {
            Rule::Unit(conversion) => Some(Converted::Number(conversion.apply(number + f64::from(columns.points().rest(at))))),
            Rule::NumbersToWords => Some(Converted::Word(value.to_string())),
            Rule::WordsToNumbers => {
                let word = words.get(number as usize).map(|word| word.trim());
                word.and_then(|word| word.parse::<f64>().ok()).filter(|number| number.is_finite()).map(Converted::Number)
            }
        };
        each(converted, at);
    }
}

impl Conversion {
    fn count(&mut self, fits: bool, words: &[String], columns: &Columns, at: usize) {
        self.points += 1;
        if !fits {
            self.unfit += 1;
            let word = words.get(columns.values[at] as usize).cloned().unwrap_or_default();
            if self.examples.len() < MAX_EXAMPLES && !self.examples.contains(&word) {
                self.examples.push(word);
            }
        }
    }
}

/// Writes converted points into a metric, but for those that were written before.
fn write(
    store: &Store,
    dataset: &str,
    name: &str,
    rule: &Rule,
    stored: &Stored,
    before: &BTreeMap<SeriesId, Columns>,
    report: &mut Conversion,
) -> Result<(), StoreError> {
    let mut batch = store.begin(dataset)?;
    let refused = |refusal: Refusal| match refusal.cause {
        Cause::Limit => StoreError::Definition(format!("`{name}`: {} (the old and the new series count together)", refusal.reason)),
        _ => StoreError::Definition(format!("`{name}`: {}", refusal.reason)),
    };
    for (id, (tags, words, columns)) in stored {
        let tags: Vec<(&str, &str)> = tags.iter().map(|(key, value)| (key.as_str(), value.as_str())).collect();
        let known = before.get(id);
        let is_known = |at: usize| {
            let place = known.and_then(|known| Some((known, known.times.binary_search(&columns.times[at]).ok()?)));
            place.is_some_and(|(known, place)| known.values[place].to_bits() == columns.values[at].to_bits())
        };
        let mut values = Vec::new();
        each_value(rule, words, columns, &mut |value, at| {
            if !is_known(at) {
                report.count(value.is_some(), words, columns, at);
                values.extend(value.map(|value| (columns.times[at], value)));
            }
        });
        for (time, value) in values {
            let value = match &value {
                Converted::Number(number) => ValueRef::Number(*number),
                Converted::Word(word) => ValueRef::Word(word),
            };
            batch.accept(PointRef { metric: name, tags: &tags, time, value }).map_err(refused)?;
            if batch.len() >= BATCH_POINTS {
                store.write(std::mem::replace(&mut batch, store.begin(dataset)?))?;
            }
        }
    }
    store.write(batch).map(|_| ())
}
