//! Intake of bodies in any format, shared by pushes, imports and sources.

use std::{collections::BTreeMap, sync::Arc};

use bytes::Bytes;
use fenetre_columnar::{ArrowRows, ParquetRows};
use fenetre_core::{
    model::{About, Cause, Described, Kind, KnownSeries, PointRef, PointSink, Refusal, ValueRef},
    pattern::NamePattern,
    time::{Nanos, format_utc},
};
use fenetre_formats::{Format, Output, Tally, mapping::Mapping, read};
use fenetre_store::{Batch, Store};
use fenetre_wire::{
    arrivals::{TailPoint, TailReport, TailValue},
    push::PushReport,
};

use self::duplicates::note_duplicates;
use crate::{
    arrivals::{Arrivals, sender::Sender, tail::Tail},
    error::FlowError,
    watch::SeriesWatch,
};

pub mod duplicates;

/// A body that was read, before it is kept.
pub struct ParsedBody {
    /// Its points.
    pub batch: Batch,
    /// What became of its rows.
    pub tally: Tally,
    /// The first points, if they were requested.
    pub sample: Vec<TailPoint>,
}

/// How many points of a batch a live tail shows.
const TAIL_POINTS: usize = 20;

/// The way into the store.
pub struct Intake {
    /// The store.
    pub store: Arc<Store>,
    /// Counts of recent arrivals.
    pub arrivals: Arrivals,
    /// Subscribers of the live tail.
    pub tail: Tail,
    /// Points further ahead of the clock are rejected, in nanoseconds.
    pub max_future: Nanos,
}

/// How a body is read.
pub struct Order<'a> {
    /// The dataset.
    pub dataset: &'a str,
    /// The format.
    pub format: Format,
    /// Roles of columns or keys, where the format needs them.
    pub mapping: Option<Mapping>,
    /// The metrics that are accepted (default: all).
    pub metrics: &'a [NamePattern],
    /// Default tags of every point.
    pub tags: &'a BTreeMap<String, String>,
    /// Points that the caller wants to see.
    pub shown: usize,
    /// Whether to stop; asked now and then.
    pub stop: &'a dyn Fn() -> bool,
}

impl Intake {
    /// Reads a body as a whole.
    ///
    /// # Errors
    /// If the body cannot be read at all, or the order says that it takes too long.
    pub fn read(&self, order: Order<'_>, body: Vec<u8>, now: Nanos) -> Result<ParsedBody, FlowError> {
        let mut parsed = self.empty(order.dataset, now)?;
        let tally = self.read_into(&mut parsed, order, body, now)?;
        parsed.tally = tally;
        Ok(parsed)
    }

    /// A body without points, to which others can be added.
    ///
    /// # Errors
    /// If there is no such dataset.
    pub fn empty(&self, dataset: &str, now: Nanos) -> Result<ParsedBody, FlowError> {
        Ok(ParsedBody { batch: self.begin(dataset, now)?, tally: Tally::default(), sample: Vec::new() })
    }

    /// Reads a body as a whole, adds its points to those of others, and returns its own counts.
    ///
    /// # Errors
    /// If the body cannot be read at all, or the order says that it takes too long. Points before the error remain.
    pub fn read_into(&self, parsed: &mut ParsedBody, order: Order<'_>, body: Vec<u8>, now: Nanos) -> Result<Tally, FlowError> {
        let Order { dataset, format, mapping, metrics, tags, shown, stop } = order;
        let mapping = self.in_zone(dataset, format, mapping);
        let mut tap = SamplingSink { stop, metrics, ..parsed.sink(self, tags, shown) };
        let tally = match format {
            Format::ArrowStream => {
                let (mut rows, mut tally) = (ArrowRows::new(&body[..], mapping.as_ref())?, Tally::default());
                while rows.read(&mut Output { now, sink: &mut tap, tally: &mut tally })? {}
                tally
            }
            Format::Parquet => {
                let (mut rows, mut tally) = (ParquetRows::new(Bytes::from(body), mapping.as_ref())?, Tally::default());
                while rows.read(&mut Output { now, sink: &mut tap, tally: &mut tally })? > 0 {}
                tally
            }
            _ => read(format, mapping, &body, now, &mut tap)?,
        };
        if tap.is_stopped {
            return Err(FlowError::TooSlow);
        }
        Ok(tally)
    }

    /// A mapping with the dataset's zone for times of typed tables that have no offset, unless it states one.
    pub fn in_zone(&self, dataset: &str, format: Format, mapping: Option<Mapping>) -> Option<Mapping> {
        if !matches!(format, Format::ArrowStream | Format::Parquet) {
            return mapping;
        }
        Some(self.with_zone(dataset, mapping.unwrap_or_default()))
    }

    /// A mapping with the dataset's zone for times without an offset, unless it states one.
    pub fn with_zone(&self, dataset: &str, mut mapping: Mapping) -> Mapping {
        let of_dataset =
            || self.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(dataset).map(|dataset| dataset.definition.zone.clone()));
        mapping.time.zone = mapping.time.zone.or_else(of_dataset);
        mapping
    }

    /// A batch that rejects points too far in the future, or past retention.
    ///
    /// # Errors
    /// If there is no such dataset.
    pub fn begin(&self, dataset: &str, now: Nanos) -> Result<Batch, FlowError> {
        let mut batch = self.store.begin(dataset)?;
        batch.refuse_after(now.saturating_add(self.max_future));
        batch.refuse_before(self.store.retention().horizons(batch.dataset(), now));
        Ok(batch)
    }
}

impl ParsedBody {
    /// Where further points go. They have these tags by default; the first `shown` of all are sampled.
    pub fn sink<'t>(&'t mut self, intake: &Intake, tags: &'t BTreeMap<String, String>, shown: usize) -> SamplingSink<'t> {
        let most = shown.max(if intake.tail.is_watched() { TAIL_POINTS } else { 0 });
        let Self { batch, sample, .. } = self;
        SamplingSink { metrics: &[], tags, batch, sample, most, taken: 0, stop: &|| false, is_stopped: false }
    }

    /// Notes on the batch, before it is stored.
    pub fn report(&self, dry_run: bool) -> PushReport {
        let Self { batch, tally, .. } = self;
        let mut tally = tally.clone();
        batch.notes().iter().for_each(|note| tally.note(note.clone()));
        let dropped = batch.dropped();
        tally.accepted -= dropped.min(tally.accepted);
        let duplicates = batch.duplicates();
        if let Some(note) = note_duplicates(duplicates, tally.accepted, &[]) {
            tally.note(note);
        }
        PushReport {
            duplicates,
            new_metrics: batch.new_metrics().map(str::to_owned).collect(),
            new_series: batch.new_series() as u64,
            dropped,
            replaced: None,
            dry_run,
            tally,
        }
    }

    /// Stores it, and reports it to watchers.
    ///
    /// # Errors
    /// If the store does not take it.
    pub fn keep(self, intake: &Intake, dataset: &str, sender: &Sender, now: Nanos) -> Result<PushReport, FlowError> {
        self.keep_watched(intake, dataset, sender, now, None)
    }

    /// The same; the series are noted by the watch of a source.
    ///
    /// # Errors
    /// If the store does not take it.
    pub fn keep_watched(
        self,
        intake: &Intake,
        dataset: &str,
        sender: &Sender,
        now: Nanos,
        watch: Option<&SeriesWatch>,
    ) -> Result<PushReport, FlowError> {
        let mut report = self.report(false);
        report.replaced = intake.store.write_watched(self.batch, |stretch| watch.iter().for_each(|watch| watch.note(now, &stretch)))?;
        intake.arrivals.count(now, dataset, sender, &report.tally);
        if intake.tail.is_watched() {
            intake.tail.report(TailReport {
                dataset: dataset.to_owned(),
                time: format_utc(now),
                accepted: report.tally.accepted,
                rejected: report.tally.rejected,
                points: self.sample,
            });
        }
        Ok(report)
    }
}

/// A batch that samples its first points for watchers.
pub struct SamplingSink<'t> {
    /// The metrics that are accepted (default: all).
    metrics: &'t [NamePattern],
    tags: &'t BTreeMap<String, String>,
    batch: &'t mut Batch,
    sample: &'t mut Vec<TailPoint>,
    most: usize,
    taken: usize,
    stop: &'t dyn Fn() -> bool,
    is_stopped: bool,
}

/// Points between two checks whether to stop.
const BETWEEN_STOPS: usize = 1_024;

impl PointSink for SamplingSink<'_> {
    fn accept(&mut self, point: PointRef<'_>) -> Result<(), Refusal> {
        self.check_stop()?;
        if !self.may(point.metric) {
            return Err(Refusal::of(Cause::Access, "metric", format!("the token may not write the metric `{}`", point.metric)));
        }
        if self.tags.is_empty() {
            self.batch.accept(point)?;
            self.note(point);
            return Ok(());
        }
        // A tag that the point has itself counts.
        let more = self.tags.iter().filter(|(key, _)| !point.tags.iter().any(|(own, _)| own == key));
        let tags: Vec<(&str, &str)> = point.tags.iter().copied().chain(more.map(|(key, value)| (key.as_str(), value.as_str()))).collect();
        let point = PointRef { tags: &tags, ..point };
        self.batch.accept(point)?;
        self.note(point);
        Ok(())
    }

    fn last_series(&self) -> Option<KnownSeries> {
        // Watchers see points with their names.
        if self.sample.len() < self.most { None } else { self.batch.last_series() }
    }

    fn accept_again(&mut self, series: KnownSeries, metric: &str, time: Nanos, value: ValueRef<'_>) -> Result<(), Refusal> {
        self.check_stop()?;
        self.batch.accept_again(series, metric, time, value)
    }

    fn describe(&mut self, metric: &str, about: About<'_>) -> Described {
        if !self.may(metric) {
            return Described::default();
        }
        self.batch.describe(metric, about)
    }

    fn kind_of(&self, metric: &str) -> Option<Kind> {
        self.batch.kind_of(metric)
    }
}

impl SamplingSink<'_> {
    fn may(&self, metric: &str) -> bool {
        self.metrics.is_empty() || self.metrics.iter().any(|pattern| pattern.fits(metric))
    }

    fn check_stop(&mut self) -> Result<(), Refusal> {
        self.taken += 1;
        self.is_stopped |= self.taken.is_multiple_of(BETWEEN_STOPS) && (self.stop)();
        // These refusals are reported once, for the whole body.
        if self.is_stopped { Err(Refusal::of(Cause::Unreadable, "", "reading was stopped")) } else { Ok(()) }
    }

    fn note(&mut self, point: PointRef<'_>) {
        if self.sample.len() < self.most {
            let value = match point.value {
                ValueRef::Number(number) if number.is_finite() => TailValue::Number(number),
                ValueRef::Number(number) => TailValue::Text(number.to_string()),
                ValueRef::Integer(integer) => TailValue::Text(integer.to_string()),
                ValueRef::Word(word) => TailValue::Text(word.to_owned()),
                ValueRef::Histogram(histogram) => TailValue::Text(histogram.to_string()),
            };
            let tags = point.tags.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect();
            self.sample.push(TailPoint { metric: point.metric.to_owned(), tags, time: format_utc(point.time), value });
        }
    }
}
