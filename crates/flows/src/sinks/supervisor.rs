//! Running sinks: a job for each. A change restarts only the changed sink.

use std::{collections::BTreeMap, path::PathBuf, sync::Arc, time::SystemTime};

use fenetre_core::{
    model::{Kind, check_dataset_name},
    time::{Nanos, SECOND, TimeRange, format_utc},
    units::Conversion,
};
use fenetre_jobs::{Backoff, Figures, Handle, Jobs, Phase};
use fenetre_store::{Document, Gap, Store};
use fenetre_wire::{
    flows::FlowDifference,
    sinks::{SinkBehind, SinkDifference, SinkState, SinkTrial, SinkVerification},
};
use parking_lot::Mutex;

use super::{
    aside::Aside,
    definition::SinkDefinition,
    delivery::{Delivery, Shared, SinkFigures},
    destination::{Inquiry, WindowSums},
    kinds::destination_of,
    scan::latest,
    selection::Selection,
    step::Work,
    sums::own_sums,
    windows::{Content, WindowWorker},
    worker::Worker,
};
use crate::{
    error::FlowError,
    events::Event,
    named::{Named, compare, stop},
};

/// Retries of a sink whose destination takes nothing: at first after a second, at most after a minute.
const BACKOFF: Backoff = Backoff { first: std::time::Duration::from_secs(1), most: std::time::Duration::from_secs(60) };
/// How long a stop waits for answers of destinations.
const LAST_ANSWERS: std::time::Duration = std::time::Duration::from_secs(5);
/// A sink is behind if points have waited for this time longer than for the rest of their batch.
const PATIENCE: Nanos = 10 * SECOND;
/// Maximum number of differences that are listed.
const MAX_DIFFERENCES: usize = 100;
/// Largest relative difference of two sums of the same values, which are added in different orders.
const ROUNDING: f64 = 1e-9;
/// Number of series that a trial shows.
const TRIED: usize = 20;

/// The sinks of a store.
pub struct Sinks {
    store: Arc<Store>,
    jobs: Jobs,
    clock: fn() -> Nanos,
    aside: Aside,
    running: Named<Running>,
}

/// One sink.
struct Running {
    definition: SinkDefinition,
    shared: Arc<Shared>,
    job: Mutex<Option<Handle>>,
}

/// The current state of a sink.
#[derive(Clone, Debug)]
pub struct SinkStatus {
    /// Its name.
    pub name: String,
    /// What it is made of.
    pub definition: SinkDefinition,
    /// What it does.
    pub state: SinkState,
    /// Time of its next attempt, if the latest one failed.
    pub next: Option<SystemTime>,
    /// Its figures.
    pub figures: SinkFigures,
    /// How far it is behind.
    pub behind: SinkBehind,
    /// Time ranges that are still to be read from partitions.
    pub gaps: Vec<Gap>,
    /// Number of set-aside batches.
    pub set_aside: u64,
}

/// Checks the name of a sink.
///
/// # Errors
/// [`FlowError::Definition`].
pub fn check_sink_name(name: &str) -> Result<(), FlowError> {
    // The rules are the same.
    check_dataset_name(name).map_err(|error| FlowError::Definition(format!("invalid sink name `{name}`: it {error}")))
}

impl Sinks {
    /// The sinks of a store; none runs yet. Refused batches are kept in a folder.
    pub fn new(store: Arc<Store>, aside: PathBuf, clock: fn() -> Nanos) -> Self {
        Self { store, jobs: Jobs::default(), clock, aside: Aside::new(aside), running: Named::new("sink") }
    }

    /// Starts all that are defined.
    ///
    /// # Errors
    /// If a definition cannot be read, or there can be no more threads.
    pub fn start(&self) -> Result<(), FlowError> {
        for name in self.store.documents().names(SinkDefinition::KIND)? {
            if let Some(kept) = self.store.documents().get::<SinkDefinition>(&name)? {
                self.run(&name, kept.body)?;
            }
        }
        Ok(())
    }

    /// Stops all, and waits a little for the answers to batches under way. A batch whose answer comes too late is sent again at the next start.
    pub fn end(&self) {
        self.jobs.end_within(LAST_ANSWERS);
    }

    /// What a definition would change.
    ///
    /// # Errors
    /// If the name is none of a sink, or the kept definition cannot be read.
    pub fn compare(&self, name: &str, definition: &SinkDefinition) -> Result<FlowDifference, FlowError> {
        check_sink_name(name)?;
        compare(&self.store, name, definition)
    }

    /// Defines a sink and starts it. If the definition has not changed, the sink keeps running.
    ///
    /// # Errors
    /// If the definition cannot be kept, or its dataset does not exist.
    pub fn put(&self, name: &str, definition: SinkDefinition) -> Result<FlowDifference, FlowError> {
        let difference = self.compare(name, &definition)?;
        self.store.begin(definition.dataset())?;
        if difference != FlowDifference::None {
            let now = (self.clock)();
            let had_history = self.running.find(name).is_ok_and(|running| running.definition.sends_history());
            // First the place in the feed, so that no point comes before it; then the past, which may overlap it.
            self.store.feed().follow(name, now)?;
            if definition.sends_history() && !had_history {
                self.add_past(name, &definition)?;
            }
            self.store.documents().put(name, &definition, now)?;
            self.run(name, definition)?;
        }
        Ok(difference)
    }

    /// Adds all stored points of its dataset to what it sends.
    fn add_past(&self, name: &str, definition: &SinkDefinition) -> Result<(), FlowError> {
        let dataset = self.store.with_catalogue(|catalogue| catalogue.dataset_by_any_name(definition.dataset()).map(|dataset| dataset.id));
        let Some(dataset) = dataset else { return Ok(()) };
        let counts = self.store.inspect().counts(dataset)?;
        let (first, last) = (counts.values().map(|count| count.first).min(), counts.values().map(|count| count.last).max());
        if let (Some(first), Some(last)) = (first, last) {
            self.store.feed().add_gap(name, Gap { dataset: dataset.0, first, last }, (self.clock)())?;
        }
        Ok(())
    }

    /// Removes a sink. The points that it has sent stay.
    ///
    /// # Errors
    /// If there is none of that name, or batches of it are set aside.
    pub fn remove(&self, name: &str) -> Result<(), FlowError> {
        let running = self.running.find(name)?;
        let waiting = self.aside.count(name)?;
        if waiting > 0 {
            return Err(FlowError::Definition(format!(
                "the sink `{name}` has set-aside batches ({waiting}): send them with `fenetre sink resend {name}`, or remove them with `fenetre sink discard {name}`"
            )));
        }
        self.store.documents().remove::<SinkDefinition>(name)?;
        self.running.remove(name);
        stop(&running.job);
        self.store.feed().unfollow(name)?;
        self.aside.remove_all(name)
    }

    /// Pauses or resumes a sink. This survives a restart.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn set_paused(&self, name: &str, paused: bool) -> Result<(), FlowError> {
        let mut definition = self.running.find(name)?.definition.clone();
        definition.set_paused(paused);
        self.put(name, definition).map(|_| ())
    }

    /// Sends the points of a time range again.
    ///
    /// # Errors
    /// If there is no sink of that name, or no dataset.
    pub fn replay(&self, name: &str, range: TimeRange) -> Result<(), FlowError> {
        let running = self.running.find(name)?;
        let dataset = self.store.begin(running.definition.dataset())?.dataset();
        let gap = Gap { dataset: dataset.0, first: range.start, last: range.end.saturating_sub(1) };
        self.store.feed().add_gap(name, gap, (self.clock)())?;
        running.shared.events.add(
            (self.clock)(),
            false,
            format!("sends the points from {} to {} again", format_utc(range.start), format_utc(range.end)),
        );
        running.wake();
        Ok(())
    }

    /// Sends all set-aside batches again.
    ///
    /// # Errors
    /// If there is no sink of that name.
    pub fn resend(&self, name: &str) -> Result<(), FlowError> {
        let running = self.running.find(name)?;
        running.shared.resent.lock().extend(self.aside.ids(name)?);
        running.wake();
        Ok(())
    }

    /// The set-aside batches of a sink.
    ///
    /// # Errors
    /// If there is no sink of that name.
    pub fn aside(&self, name: &str) -> Result<&Aside, FlowError> {
        self.running.find(name).map(|_| &self.aside)
    }

    /// All sinks, by name.
    ///
    /// # Errors
    /// If the store cannot be read.
    pub fn all(&self) -> Result<Vec<SinkStatus>, FlowError> {
        self.running.all().into_iter().map(|(name, running)| self.status_of(&name, &running)).collect()
    }

    /// One sink.
    ///
    /// # Errors
    /// If there is none of that name, or the store cannot be read.
    pub fn status(&self, name: &str) -> Result<SinkStatus, FlowError> {
        let running = self.running.find(name)?;
        self.status_of(name, &running)
    }

    /// The definition of a sink.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn definition(&self, name: &str) -> Result<SinkDefinition, FlowError> {
        self.running.find(name).map(|running| running.definition.clone())
    }

    /// The latest events of a sink, the latest first.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn events(&self, name: &str, most: usize) -> Result<Vec<Event>, FlowError> {
        self.running.find(name).map(|running| running.shared.events.latest(most))
    }

    /// Shows the latest points of a definition as they would be sent.
    ///
    /// # Errors
    /// If its dataset does not exist, or the destination does not answer.
    pub fn attempt(&self, definition: &SinkDefinition) -> Result<SinkTrial, FlowError> {
        let dataset = self.store.begin(definition.dataset())?.dataset();
        let (series, batch) = match definition.query() {
            None => latest(&self.store, &mut Selection::new(definition)?, dataset, TRIED)?,
            Some(query) => {
                let batch = Content::new(definition, query)?.latest(&self.store, dataset, (self.clock)())?;
                (batch.stretches.len(), batch)
            }
        };
        let mut destination = destination_of("trial", definition)?;
        let rows = destination.preview(&batch)?;
        let answer = if batch.points() == 0 {
            let nothing = if definition.query().is_some() {
                "the query has no values in the latest windows"
            } else {
                "no stored point fulfils `metrics` and `where`"
            };
            Some(nothing.to_owned())
        } else {
            destination.attempt(&batch, self.store.secrets())?
        };
        Ok(SinkTrial { series: series as u64, rows, answer })
    }

    /// Compares counts and sums of windows with the destination.
    ///
    /// # Errors
    /// If there is no sink of that name, the destination cannot be read, or it does not answer.
    pub fn verify(&self, name: &str, range: TimeRange, width: Nanos) -> Result<SinkVerification, FlowError> {
        let running = self.running.find(name)?;
        let definition = &running.definition;
        if definition.query().is_some() {
            return Err(FlowError::Definition(format!(
                "the sink `{name}` sends the windows of a query, which are not compared: ask the destination instead"
            )));
        }
        let selection = Selection::new(definition)?;
        let metrics = self.store.with_catalogue(|catalogue| -> Result<Vec<(String, Kind, Conversion)>, FlowError> {
            let Some(dataset) = selection.dataset(catalogue) else { return Ok(Vec::new()) };
            let sent = selection.metrics(dataset).filter(|metric| !selection.series_of(dataset, metric).is_empty());
            sent.map(|metric| Ok((metric.name.to_string(), metric.definition.kind, selection.conversion_of(metric)?))).collect()
        })?;
        let mut destination = destination_of(name, definition)?;
        let mut result =
            SinkVerification { metrics: metrics.len() as u64, windows: 0, points: 0, differences: Vec::new(), differing: 0, notes: Vec::new() };
        for (metric, kind, conversion) in metrics {
            let there = selection.name_there(&metric).to_owned();
            let inquiry = Inquiry {
                metric: &metric,
                tags: selection.constant_tags(),
                is_number: kind == Kind::Gauge,
                start: range.start,
                end: range.end,
                width,
            };
            let here = match own_sums(&self.store, definition.dataset(), &inquiry, definition.condition().unwrap_or_default(), (self.clock)()) {
                Ok(here) => here,
                // The condition names a tag that no series of the metric has, which is an error in a query.
                Err(FlowError::Definition(reason)) => {
                    result.notes.push(format!("{metric} was not compared: {reason}"));
                    continue;
                }
                Err(error) => return Err(error),
            };
            let asked = Inquiry { metric: &there, ..inquiry.clone() };
            let Some(found) = destination.sums(&asked, self.store.secrets())? else {
                return Err(FlowError::Definition(format!(
                    "a destination of the kind `{}` cannot be read, so it cannot be compared",
                    definition.kind()
                )));
            };
            let here = here.into_iter().map(|(start, sums)| {
                let sum = sums.sum.map(|sum| conversion.apply_to_sum(sum, sums.count));
                (start, WindowSums { sum, ..sums })
            });
            add_differences(&metric, width, here.collect(), found.into_iter().collect(), &mut result);
        }
        let status = self.status_of(name, &running)?;
        if result.differing > 0 && (status.behind.points > 0 || !status.gaps.is_empty()) {
            result.notes.push("the sink has not sent everything yet, so the latest windows may differ".to_owned());
        }
        if result.differing > 0 && selection.constant_tags().is_empty() {
            result.notes.push("the sink adds no constant tag, so points from elsewhere count at the destination".to_owned());
        }
        Ok(result)
    }

    /// Figures of the jobs of all sinks.
    pub fn jobs(&self) -> Vec<Figures> {
        self.jobs.figures()
    }

    /// Names of the store's secrets that a sink refers to, with its name.
    pub fn kept_secrets(&self) -> Vec<(String, std::collections::BTreeSet<String>)> {
        self.running.all().into_iter().map(|(name, running)| (name, running.definition.kept_secrets())).collect()
    }

    /// Starts a sink, and replaces a running one of the same name.
    fn run(&self, name: &str, definition: SinkDefinition) -> Result<(), FlowError> {
        let now = (self.clock)();
        // The log and the figures continue.
        let shared = self.running.find(name).map(|running| Arc::clone(&running.shared)).unwrap_or_default();
        let own = Arc::new(Running { definition, shared: Arc::clone(&shared), job: Mutex::default() });
        let before = self.running.put(name, Arc::clone(&own));
        // Two jobs of one sink must not run at once.
        before.iter().for_each(|before| stop(&before.job));
        shared.figures.lock().failing = None;
        let cursor = self.store.feed().follow(name, now)?;
        if own.definition.is_paused() {
            shared.events.add(now, false, "paused");
            return Ok(());
        }
        shared.events.add(now, false, "started");
        let work = destination_of(name, &own.definition).and_then(|destination| {
            let delivery = Delivery {
                name: name.to_owned(),
                store: Arc::clone(&self.store),
                clock: self.clock,
                aside: self.aside.clone(),
                destination,
                shared: Arc::clone(&shared),
            };
            Ok(match own.definition.query() {
                None => Box::new(Worker::new(&own.definition, cursor.position, delivery)?) as Box<dyn Work>,
                Some(query) => {
                    let content = Content::new(&own.definition, query)?;
                    Box::new(WindowWorker::new(&own.definition, content, cursor.position, delivery))
                }
            })
        });
        let mut worker = match work {
            Ok(worker) => worker,
            // Another version or build may have stored it. The other sinks run.
            Err(error) => {
                shared.events.add(now, true, error.to_string());
                shared.figures.lock().failing = Some((error.to_string(), now));
                return Ok(());
            }
        };
        let job = self.jobs.repeat(&format!("sink {name}"), BACKOFF, move |job| worker.step(job)).map_err(|error| FlowError::File {
            action: "start the sink",
            path: name.to_owned(),
            reason: error.to_string(),
        })?;
        *own.job.lock() = Some(job);
        Ok(())
    }

    fn status_of(&self, name: &str, running: &Running) -> Result<SinkStatus, FlowError> {
        let job = running.job.lock().as_ref().map(Handle::figures);
        let figures = running.shared.figures.lock().clone();
        let cursor = self.store.feed().cursor(name).unwrap_or_default();
        let mut gaps: Vec<Gap> = cursor.under_way.into_iter().chain(cursor.gaps).collect();
        if running.definition.query().is_some() {
            // Windows that are still open are not missing.
            let closed = figures.closed_before.unwrap_or(Nanos::MIN);
            gaps.retain(|gap| gap.first < closed);
            gaps.iter_mut().for_each(|gap| gap.last = gap.last.min(closed - 1));
        }
        let points = self.store.feed().points_after(cursor.position.max(figures.sent_to))?;
        let is_behind = points > 0 || !gaps.is_empty();
        let age = if is_behind { (self.clock)().saturating_sub(figures.caught_up).max(0) } else { 0 };
        let behind = SinkBehind { points, seconds: (age / SECOND).unsigned_abs(), caught_up_in: catch_up(&figures) };
        let patience = running.definition.batch_after().saturating_add(PATIENCE);
        let state = match job.as_ref().map(|job| job.phase) {
            None if figures.failing.is_some() => SinkState::Failing,
            None => SinkState::Paused,
            Some(Phase::Ended) => SinkState::Stopped,
            Some(_) if figures.failing.is_some() => SinkState::Failing,
            Some(_) if age > patience || !gaps.is_empty() => SinkState::Behind,
            Some(_) => SinkState::Healthy,
        };
        let next = job.filter(|job| job.phase == Phase::Retrying).and_then(|job| job.next);
        let set_aside = self.aside.count(name)?;
        Ok(SinkStatus { name: name.to_owned(), definition: running.definition.clone(), state, next, figures, behind, gaps, set_aside })
    }
}

impl Running {
    fn wake(&self) {
        self.job.lock().iter().for_each(Handle::wake);
    }
}

/// Seconds until a sink has caught up, at the speed of the last minute; none if it falls further behind, or without enough measurements.
fn catch_up(figures: &SinkFigures) -> Option<u64> {
    let ((from, before), (to, now)) = (figures.trend.front()?, figures.trend.back()?);
    let seconds = to.saturating_sub(*from) as f64 / SECOND as f64;
    let per_second = (*before as f64 - *now as f64) / seconds;
    (seconds > 0.0 && per_second > 0.0 && *now > 0).then(|| (*now as f64 / per_second).ceil() as u64)
}

/// Adds the windows that differ to a result.
fn add_differences(
    metric: &str,
    width: Nanos,
    here: BTreeMap<Nanos, WindowSums>,
    mut there: BTreeMap<Nanos, WindowSums>,
    result: &mut SinkVerification,
) {
    let both = here.into_iter().map(|(start, sums)| (start, sums, there.remove(&start).unwrap_or_default())).collect::<Vec<_>>();
    let only_there = there.into_iter().map(|(start, sums)| (start, WindowSums::default(), sums));
    for (start, here, there) in both.into_iter().chain(only_there) {
        result.windows += 1;
        result.points += here.count;
        let is_near = |one: f64, other: f64| (one - other).abs() <= ROUNDING * one.abs().max(other.abs());
        let has_same_sum = match (here.sum, there.sum) {
            (Some(one), Some(other)) => is_near(one, other),
            // Counts decide for values that are no numbers.
            _ => true,
        };
        if here.count == there.count && has_same_sum {
            continue;
        }
        result.differing += 1;
        if result.differences.len() < MAX_DIFFERENCES {
            result.differences.push(SinkDifference {
                metric: metric.to_owned(),
                from: format_utc(start),
                to: format_utc(start.saturating_add(width)),
                points_here: here.count,
                points_there: there.count,
                sum_here: here.sum,
                sum_there: there.sum,
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windows_that_differ_are_listed() {
        let sums = |count, sum| WindowSums { count, sum };
        let here = BTreeMap::from([(0, sums(2, Some(3.0))), (60, sums(1, Some(0.1 + 0.2))), (120, sums(4, None))]);
        let there = BTreeMap::from([(60, sums(1, Some(0.3))), (120, sums(3, None)), (180, sums(1, Some(1.0)))]);
        let mut result = SinkVerification { metrics: 1, windows: 0, points: 0, differences: Vec::new(), differing: 0, notes: Vec::new() };
        add_differences("level", 60, here, there, &mut result);
        assert_eq!((result.windows, result.points, result.differing), (4, 7, 3));
        let found: Vec<(u64, u64)> = result.differences.iter().map(|one| (one.points_here, one.points_there)).collect();
        assert_eq!(found, [(2, 0), (4, 3), (0, 1)]);
    }

    #[test]
    fn the_time_of_catching_up_follows_from_the_last_minute() {
        let mut figures = SinkFigures::default();
        assert_eq!(catch_up(&figures), None);
        figures.trend = [(0, 1_000), (10 * SECOND, 500)].into();
        assert_eq!(catch_up(&figures), Some(10));
        figures.trend.push_back((20 * SECOND, 2_000));
        assert_eq!(catch_up(&figures), None);
    }
}
