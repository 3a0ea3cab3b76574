//! Bytes of any format into a batch: what pushes, exports and imports share.

use bytes::Bytes;
use fenetre_columnar::{ArrowRows, ParquetRows};
use fenetre_core::{
    model::{About, Cause, Described, Kind, KnownSeries, PointRef, PointSink, Refusal, ValueRef},
    pattern::NamePattern,
    time::{Nanos, format_utc},
};
use fenetre_formats::{Format, Output, Tally, mapping::Mapping, read};
use fenetre_store::Batch;
use fenetre_wire::{
    arrivals::{TailPoint, TailReport, TailValue},
    push::PushReport,
};

use self::duplicates::note_duplicates;
use crate::{
    access::caller::Caller,
    problem::{ApiError, ProblemKind},
    state::State,
};

pub mod duplicates;

/// A body that was read, before it is kept.
pub struct ParsedBody {
    pub batch: Batch,
    pub tally: Tally,
    sample: Vec<TailPoint>,
}

/// How many points of a batch a live tail shows.
const TAIL_POINTS: usize = 20;

/// Reads a body as a whole.
///
/// # Errors
/// If the body cannot be read at all, or `stop` says that it takes too long.
pub fn read_body(
    state: &State,
    caller: &Caller,
    dataset: &str,
    (format, mapping): (Format, Option<Mapping>),
    body: Vec<u8>,
    now: Nanos,
    stop: &dyn Fn() -> bool,
) -> Result<ParsedBody, ApiError> {
    let mapping = in_zone(state, dataset, format, mapping);
    let mut batch = begin(state, dataset, now)?;
    let mut sample = Vec::new();
    let most = if state.tail.is_watched() { TAIL_POINTS } else { 0 };
    let metrics = caller.rights().map_or(&[][..], |rights| &rights.metrics);
    let mut tap = SamplingSink { metrics, batch: &mut batch, sample: &mut sample, most, taken: 0, stop, is_stopped: false };
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
        return Err(ApiError::new(ProblemKind::Busy, "reading the body took too long, so nothing was stored: send it in smaller parts"));
    }
    Ok(ParsedBody { batch, tally, sample })
}

/// A mapping with the dataset's zone for times of typed tables that have no offset, unless it states one.
pub fn in_zone(state: &State, dataset: &str, format: Format, mapping: Option<Mapping>) -> Option<Mapping> {
    if !matches!(format, Format::ArrowStream | Format::Parquet) {
        return mapping;
    }
    let mut mapping = mapping.unwrap_or_default();
    let of_dataset = || state.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(dataset).map(|dataset| dataset.definition.zone.clone()));
    mapping.time.zone = mapping.time.zone.or_else(of_dataset);
    Some(mapping)
}

/// A batch that rejects points too far in the future, or past retention.
pub fn begin(state: &State, dataset: &str, now: Nanos) -> Result<Batch, ApiError> {
    let mut batch = state.store.begin(dataset)?;
    batch.refuse_after(now.saturating_add(state.limits.max_future));
    batch.refuse_before(state.store.retention().horizons(batch.dataset(), now));
    Ok(batch)
}

impl ParsedBody {
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
    pub fn keep(self, state: &State, dataset: &str, now: Nanos) -> Result<PushReport, ApiError> {
        let mut report = self.report(false);
        report.replaced = state.store.write(self.batch)?;
        state.arrivals.count(now, dataset, report.tally.accepted, report.tally.rejected);
        state.arrivals.refused(now, dataset, &report.tally);
        if state.tail.is_watched() {
            state.tail.report(TailReport {
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
struct SamplingSink<'t> {
    /// Only these are accepted; all where there are none.
    metrics: &'t [NamePattern],
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
