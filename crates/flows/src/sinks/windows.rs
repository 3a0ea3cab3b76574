//! The work of a sink whose content is a query. It sends windows when they are closed, and again if late points change them.
//!
//! Windows that points have touched are gaps of the cursor, so they survive a kill. A window is evaluated when it is closed: what arrives later
//! touches it again.

use std::{
    collections::BTreeSet,
    mem,
    sync::Arc,
    time::{Duration, Instant},
};

use fenetre_core::{
    answer::{Answer, AnswerTime, Lines, WindowLine},
    evaluate::{EvaluateError, read},
    model::{DatasetId, Kind, MetricDefinition, SeriesId, Value},
    plan::{Limits, PlanError, plan},
    query::{Frame, parse_frame},
    time::{Nanos, TimeRange, TimeZone, Windows, format_utc, zone},
    units::{Conversion, conversion},
    visibility::{Visibility, VisibleCatalogue},
};
use fenetre_jobs::Job;
use fenetre_store::{Gap, Position, Store};

use super::{
    definition::{Shape, SinkDefinition, WindowQuery},
    delivery::Delivery,
    outgoing::{Outgoing, OutgoingSeries, OutgoingStretch, Values},
    selection::shaped_tags,
    step::Work,
};
use crate::error::FlowError;

/// Points that are read from the feed at once.
const READ: usize = 100_000;
/// Maximum number of starts of windows in memory.
const MAX_TOUCHED: usize = 10_000;
/// Minimum time between two notes of a place in the feed before which no window was touched.
const BETWEEN_NOTES: Duration = Duration::from_secs(10);
/// Windows that are evaluated at once, unless they are more than a query may compute.
const MANY: usize = 1_000;
/// Windows that a trial shows.
const TRIED: usize = 5;

/// A query, and how its results are sent.
pub struct Content {
    query: WindowQuery,
    shape: Shape,
    dataset: String,
    metrics: BTreeSet<String>,
    settle: Nanos,
}

impl Content {
    /// Of a definition with a query.
    ///
    /// # Errors
    /// [`FlowError::Definition`] if the query cannot be read.
    pub fn new(definition: &SinkDefinition, query: &str) -> Result<Self, FlowError> {
        let query = WindowQuery::parse(query).map_err(|error| FlowError::Definition(format!("query: {error}")))?;
        let metrics = query.query.selections().into_iter().map(|selection| selection.metric.value.metric.clone()).collect();
        Ok(Self { query, shape: definition.shape(), dataset: definition.dataset().to_owned(), metrics, settle: definition.settle() })
    }

    /// Zone of its calendar.
    fn zone(&self, store: &Store) -> TimeZone {
        let of_dataset =
            || store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(&self.dataset).map(|dataset| dataset.definition.zone.clone()));
        self.query.zone.clone().or_else(of_dataset).and_then(|name| zone(&name).ok()).unwrap_or(TimeZone::UTC)
    }

    /// All windows that a range meets, from the first to the last.
    fn windows(&self, range: TimeRange, store: &Store) -> Result<Windows, FlowError> {
        let windows = Windows::cut(range, self.query.grid, &self.zone(store), usize::MAX);
        windows.map_err(|error| FlowError::Definition(format!("query: {error}")))
    }

    /// The instant before which all windows are closed.
    fn closed_before(&self, store: &Store, now: Nanos) -> Result<Nanos, FlowError> {
        let end = now.saturating_sub(self.settle);
        Ok(self.windows(TimeRange { start: end, end: end.saturating_add(1) }, store)?.start(0))
    }

    /// The points of windows, which end where others begin.
    fn evaluate(&self, store: &Store, range: TimeRange, now: Nanos, id: String, job: Option<&Job>) -> Result<Outgoing, Unanswered> {
        let frame = format!("over {} to {}", format_utc(range.start), format_utc(range.end));
        let outer: Frame = parse_frame(&frame).map_err(|error| FlowError::Definition(error.to_string()))?;
        let planned = store.with_catalogue(|catalogue| {
            let visibility = Visibility::everything();
            plan(&self.query.query, &outer, VisibleCatalogue::new(catalogue, &visibility), &self.dataset, now, &Limits::default())
        });
        let planned = match planned {
            Ok(planned) => planned,
            Err(PlanError::Bound(reason)) => return Err(Unanswered::TooMany(FlowError::Definition(format!("query: {reason}")))),
            Err(error) => return Err(FlowError::Definition(format!("query: {error}")).into()),
        };
        let is_stopping = || job.is_some_and(Job::is_stopping);
        let results = read(planned, &store.source(), &is_stopping).map_err(|error| match error {
            EvaluateError::Stopped => Unanswered::Failed(FlowError::Stopped),
            EvaluateError::TooManyPoints { .. } | EvaluateError::TooManyDecoded { .. } | EvaluateError::TooManyHeld { .. } => {
                Unanswered::TooMany(FlowError::Definition(format!("query: {error}")))
            }
            error => Unanswered::Failed(FlowError::Peer(format!("query: {error}"))),
        })?;
        Ok(self.outgoing(results.answer(), id)?)
    }

    /// The points of an answer: one for each window with a value, at its start.
    fn outgoing(&self, answer: Answer, id: String) -> Result<Outgoing, FlowError> {
        let AnswerTime::Windows(windows) = &answer.time else { return Ok(Outgoing::default()) };
        let mut stretches = Vec::new();
        for (show, name) in answer.shows.into_iter().zip(&self.query.names) {
            let Lines::Windows(lines) = show.lines else { continue };
            let (unit, conversion) = self.unit(name, show.unit)?;
            let metric: Arc<str> = self.shape.rename.get(name).unwrap_or(name).as_str().into();
            for line in lines {
                let (times, values) = values_of(&line, windows, conversion);
                if times.is_empty() {
                    continue;
                }
                let kind = if values.iter().any(|value| matches!(value, Value::Word(_))) { Kind::State } else { Kind::Gauge };
                let description = format!("{} per {}", show.label, self.query.width);
                let definition = MetricDefinition { kind, unit: unit.clone(), description, ..MetricDefinition::default() };
                let series = OutgoingSeries {
                    metric: Arc::clone(&metric),
                    tags: shaped_tags(&self.shape, line.tags.iter().map(|(key, value)| (&**key, &**value))),
                    unit: unit.as_deref().map(Into::into),
                    definition: Arc::new(definition),
                };
                // No series of the store has this id: a refused batch is sent again by its span.
                stretches.push(OutgoingStretch { id: SeriesId(0), series: Arc::new(series), times, values: Values::Other(values) });
            }
        }
        Ok(Outgoing { stretches, id })
    }

    /// Unit of a result at the destination.
    fn unit(&self, name: &str, unit: Option<String>) -> Result<(Option<String>, Conversion), FlowError> {
        let Some(wanted) = self.shape.units.get(name) else { return Ok((unit, Conversion::NONE)) };
        let found = unit.as_deref().and_then(|unit| conversion(unit, wanted));
        found.map(|conversion| (Some(wanted.clone()), conversion)).ok_or_else(|| {
            let of = unit.map_or_else(|| "no unit".to_owned(), |unit| format!("the unit `{unit}`"));
            FlowError::Definition(format!("units.{name}: `{name}` has {of}, which cannot be converted to `{wanted}`"))
        })
    }

    /// The latest closed windows with points.
    ///
    /// # Errors
    /// If the query cannot be answered.
    pub fn latest(&self, store: &Store, dataset: DatasetId, now: Nanos) -> Result<Outgoing, FlowError> {
        let Some(last) = store.inspect().counts(dataset)?.values().map(|count| count.last).max() else { return Ok(Outgoing::default()) };
        let mut end = self.windows(TimeRange { start: last, end: last.saturating_add(1) }, store)?.end(0).min(self.closed_before(store, now)?);
        let mut start = end;
        for _ in 0..TRIED {
            let before = self.windows(TimeRange { start: start.saturating_sub(1), end: start }, store)?;
            start = before.start(0);
        }
        end = end.max(start.saturating_add(1));
        self.evaluate(store, TimeRange { start, end }, now, "trial".to_owned(), None).map_err(Unanswered::into_error)
    }
}

/// Why windows have no points.
enum Unanswered {
    /// They are too many for one query.
    TooMany(FlowError),
    /// The query failed.
    Failed(FlowError),
}

impl Unanswered {
    fn into_error(self) -> FlowError {
        match self {
            Self::TooMany(error) | Self::Failed(error) => error,
        }
    }
}

impl From<FlowError> for Unanswered {
    fn from(error: FlowError) -> Self {
        Self::Failed(error)
    }
}

/// Starts of the windows that have a value of points, and these values.
fn values_of(line: &WindowLine, windows: &Windows, conversion: Conversion) -> (Vec<Nanos>, Vec<Value>) {
    let convert = |value: &Value| match value {
        Value::Number(number) if conversion != Conversion::NONE => Value::Number(conversion.apply(*number)),
        other => other.clone(),
    };
    let with_value = line.values.iter().enumerate().filter(|(at, _)| !line.filled.contains(at));
    with_value.filter_map(|(at, value)| value.as_ref().map(|value| (windows.start(at), convert(value)))).unzip()
}

/// The work of a sink with a query.
pub struct WindowWorker {
    delivery: Delivery,
    content: Content,
    batch_points: usize,
    batch_after: Duration,
    /// The place up to which the feed was read.
    read_to: Position,
    /// The place that was noted as handled.
    noted: Position,
    noted_at: Instant,
    /// Starts of touched windows that are not noted yet.
    touched: BTreeSet<Nanos>,
    since: Option<Instant>,
    /// Windows that are evaluated at once.
    many: usize,
}

impl WindowWorker {
    /// The work of a sink from a place in the feed.
    pub fn new(definition: &SinkDefinition, content: Content, from: Position, delivery: Delivery) -> Self {
        delivery.begin(from);
        Self {
            content,
            batch_points: definition.batch_points(),
            batch_after: Duration::from_nanos(definition.batch_after().unsigned_abs()),
            delivery,
            read_to: from,
            noted: from,
            noted_at: Instant::now(),
            touched: BTreeSet::new(),
            since: None,
            many: MANY,
        }
    }

    /// Reads the feed, and notes the windows that its points touch.
    fn note_touched(&mut self) -> Result<bool, FlowError> {
        let (feed, now) = (self.delivery.store.feed(), (self.delivery.clock)());
        let cursor = feed.cursor(&self.delivery.name).unwrap_or_default();
        // Held files were dropped, and are gaps now.
        self.read_to = self.read_to.max(cursor.position);
        let dataset = self.delivery.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(&self.content.dataset).map(|dataset| dataset.id));
        let (arrived, next) = feed.read(self.read_to, READ)?;
        for batch in arrived.iter().filter(|batch| Some(batch.dataset()) == dataset) {
            self.touch(batch.dataset(), batch);
        }
        self.read_to = next;
        if self.touched.is_empty() {
            self.delivery.shared.figures.lock().sent_to = next;
            if next != self.noted && (self.noted_at.elapsed() > BETWEEN_NOTES || next.generation != self.noted.generation) {
                self.note(&[], now)?;
            }
            return Ok(!arrived.is_empty());
        }
        let since = *self.since.get_or_insert_with(Instant::now);
        if let Some(dataset) = dataset.filter(|_| since.elapsed() >= self.batch_after || self.touched.len() > MAX_TOUCHED) {
            let gaps = gaps_of(&mem::take(&mut self.touched), dataset, self.content.query.reach());
            self.since = None;
            self.note(&gaps, now)?;
        }
        Ok(!arrived.is_empty())
    }

    fn touch(&mut self, dataset: DatasetId, batch: &fenetre_store::Arrived) {
        let Self { delivery, content, touched, .. } = self;
        let quantum = content.query.quantum();
        delivery.store.with_catalogue(|catalogue| {
            let Some(dataset) = catalogue.dataset_by_any_name(&content.dataset).filter(|known| known.id == dataset) else { return };
            for stretch in batch.series().filter(|stretch| stretch.series.is_whole()) {
                if dataset.series(stretch.series).is_some_and(|series| content.metrics.contains(&*series.metric)) {
                    let mut before = None;
                    for time in stretch.points.times {
                        let start = time.div_euclid(quantum).saturating_mul(quantum);
                        if before.replace(start) != Some(start) {
                            touched.insert(start);
                        }
                    }
                }
            }
        });
    }

    fn note(&mut self, gaps: &[Gap], now: Nanos) -> Result<(), FlowError> {
        self.delivery.store.feed().advance_with_gaps(&self.delivery.name, self.read_to, gaps, now)?;
        (self.noted, self.noted_at) = (self.read_to, Instant::now());
        self.delivery.shared.figures.lock().sent_to = self.read_to;
        Ok(())
    }

    /// Sends closed windows of a gap.
    fn send_closed(&mut self, job: &Job) -> Result<bool, FlowError> {
        let (store, now) = (Arc::clone(&self.delivery.store), (self.delivery.clock)());
        let closed = self.content.closed_before(&store, now)?;
        self.delivery.shared.figures.lock().closed_before = Some(closed);
        let most = self.content.query.quantum().saturating_mul(MANY as i64);
        let Some(gap) = store.feed().take_gap(&self.delivery.name, most, closed, now)? else {
            if self.touched.is_empty() {
                self.delivery.shared.figures.lock().caught_up = now;
            }
            return Ok(false);
        };
        let windows = self.content.windows(gap.range(), &store)?;
        let mut at = 0;
        while at < windows.len() {
            let until = (at + self.many).min(windows.len());
            let range = TimeRange { start: windows.start(at), end: windows.end(until - 1) };
            let Position { generation, batch } = self.noted;
            let [start, end] = [range.start, range.end].map(|time| format_utc(time).replace([':', '-'], ""));
            // A window that is sent again is in another file.
            let id = format!("windows-{start}-{end}-{generation:08}-{batch:08}");
            match self.content.evaluate(&store, range, now, id, Some(job)) {
                Ok(outgoing) => {
                    self.deliver(outgoing, job)?;
                    at = until;
                }
                Err(Unanswered::TooMany(_)) if self.many > 1 => self.many /= 2,
                Err(error) => return Err(error.into_error()),
            }
        }
        store.feed().finish_gap(&self.delivery.name, (self.delivery.clock)())?;
        Ok(true)
    }

    /// Delivers points in batches.
    fn deliver(&mut self, outgoing: Outgoing, job: &Job) -> Result<(), FlowError> {
        if outgoing.points() <= self.batch_points {
            return self.delivery.deliver(&outgoing, job);
        }
        match outgoing.halves() {
            Some(halves) => halves.into_iter().try_for_each(|half| self.deliver(half, job)),
            None => Ok(()),
        }
    }

    /// Evaluates the windows of a batch again that was set aside.
    fn resend(&mut self) -> Result<bool, FlowError> {
        let Some(id) = self.delivery.shared.resent.lock().first().copied() else { return Ok(false) };
        let (name, now) = (&self.delivery.name, (self.delivery.clock)());
        let dataset = self.delivery.store.begin(&self.content.dataset)?.dataset();
        match self.delivery.aside.span_of(name, id) {
            Ok((first, last)) => {
                self.delivery.store.feed().add_gap(name, Gap { dataset: dataset.0, first, last }, now)?;
                self.delivery.aside.remove(name, id)?;
            }
            Err(error) => self.delivery.event(true, error.to_string()),
        }
        self.delivery.shared.resent.lock().remove(&id);
        Ok(true)
    }
}

impl Work for WindowWorker {
    fn work(&mut self, job: &Job) -> Result<bool, FlowError> {
        let resent = self.resend()?;
        let read = self.note_touched()?;
        let sent = self.send_closed(job)?;
        Ok(resent || read || sent)
    }

    fn delivery(&self) -> &Delivery {
        &self.delivery
    }

    fn read_to(&self) -> Position {
        self.read_to
    }

    fn batch_after(&self) -> Duration {
        self.batch_after
    }
}

/// Gaps of touched windows: each, and the next one, because some results compare points over the border of their window. The next one begins at most
/// `reach` after an instant.
fn gaps_of(touched: &BTreeSet<Nanos>, dataset: DatasetId, reach: Nanos) -> Vec<Gap> {
    let mut gaps: Vec<Gap> = Vec::new();
    for start in touched {
        let last = start.saturating_add(reach - 1);
        match gaps.last_mut().filter(|gap| gap.last.saturating_add(1) >= *start) {
            Some(gap) => gap.last = last,
            None => gaps.push(Gap { dataset: dataset.0, first: *start, last }),
        }
    }
    gaps
}
