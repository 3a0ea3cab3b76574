//! Running sources: a job for each, with its state, figures and log. A change restarts only the changed source.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use fenetre_core::{
    catalogue::{Catalogue, Dataset},
    model::{SeriesId, check_dataset_name},
    time::Nanos,
};
use fenetre_jobs::{Backoff, Figures, Handle, Jobs, Next, Phase};
use fenetre_store::Document;
use fenetre_wire::{
    flows::FlowDifference,
    sources::{SourcePart, SourceState},
};
use parking_lot::Mutex;

use crate::{
    arrivals::sender::Sender,
    definition::Definition,
    error::FlowError,
    events::{Event, Events},
    intake::Intake,
    named::{Named, compare, stop},
    progress::Progress,
    rejects::Rejects,
    sources::{Outcome, Round, source_of},
    watch::{KeptSeries, SeriesWatch, Troubled, WatchedSeries},
};

/// Retries of a source that fails: at first after a second, at most after a minute.
const BACKOFF: Backoff = Backoff { first: Duration::from_secs(1), most: Duration::from_secs(60) };

/// The sources of a store.
pub struct Sources {
    intake: Arc<Intake>,
    jobs: Jobs,
    clock: fn() -> Nanos,
    running: Named<Running>,
}

/// One source.
struct Running {
    definition: Definition,
    figures: Mutex<SourceFigures>,
    events: Arc<Events>,
    watch: SeriesWatch,
    job: Mutex<Option<Handle>>,
}

/// Figures of a source, since the service started or the source was changed.
#[derive(Clone, Debug, Default)]
pub struct SourceFigures {
    /// Rounds that were taken, those that failed among them.
    pub rounds: u64,
    /// Points that were stored.
    pub points: u64,
    /// What was rejected, by reason.
    pub rejects: Rejects,
    /// What was sent in the latest round, such as a SQL statement.
    pub sent: Option<String>,
    /// Bytes that were read.
    pub bytes: u64,
    /// When points came last.
    pub last_points: Option<Nanos>,
    /// Seconds that the latest round took.
    pub round_seconds: f64,
    /// What became of each part in the latest round.
    pub parts: Vec<SourcePart>,
    /// Whether a round has ended.
    pub has_begun: bool,
    /// Why the latest round failed, and since when rounds fail.
    pub failing: Option<(String, Nanos)>,
}

/// The current state of a source.
#[derive(Clone, Debug)]
pub struct SourceStatus {
    /// Its name.
    pub name: String,
    /// What it is made of.
    pub definition: Definition,
    /// What it does.
    pub state: SourceState,
    /// Time of its next round, if it waits for one.
    pub next: Option<std::time::SystemTime>,
    /// Its figures.
    pub figures: SourceFigures,
}

/// Checks the name of a source.
///
/// # Errors
/// [`FlowError::Definition`].
pub fn check_source_name(name: &str) -> Result<(), FlowError> {
    if Sender::RESERVED.contains(&name) {
        return Err(FlowError::Definition(format!("the name `{name}` is reserved for points from other senders: choose another name")));
    }
    // The rules are the same.
    check_dataset_name(name).map_err(|error| FlowError::Definition(format!("invalid source name `{name}`: it {error}")))
}

impl Sources {
    /// The sources of a store; none runs yet.
    pub fn new(intake: Arc<Intake>, clock: fn() -> Nanos) -> Self {
        Self { intake, jobs: Jobs::default(), clock, running: Named::new("source") }
    }

    /// Starts all that are defined.
    ///
    /// # Errors
    /// If a definition cannot be read, or there can be no more threads.
    pub fn start(&self) -> Result<(), FlowError> {
        for name in self.intake.store.documents().names(Definition::KIND)? {
            if let Some(kept) = self.intake.store.documents().get::<Definition>(&name)? {
                self.run(&name, kept.body)?;
            }
        }
        Ok(())
    }

    /// Stops all, and waits until the rounds under way have ended.
    pub fn end(&self) {
        self.jobs.end();
        for (name, running) in self.running.all() {
            if let Err(error) = running.watch.save(&self.intake.store, &name, (self.clock)(), true) {
                tracing::warn!(source = name, %error, "the list of series could not be written");
            }
        }
    }

    /// What a definition would change.
    ///
    /// # Errors
    /// If the name is none of a source, or the kept definition cannot be read.
    pub fn compare(&self, name: &str, definition: &Definition) -> Result<FlowDifference, FlowError> {
        check_source_name(name)?;
        compare(&self.intake.store, name, definition)
    }

    /// Defines a source and starts it. If the definition has not changed, the source keeps running.
    ///
    /// # Errors
    /// If the definition cannot be kept, or its dataset does not exist.
    pub fn put(&self, name: &str, definition: Definition) -> Result<FlowDifference, FlowError> {
        let difference = self.compare(name, &definition)?;
        source_of(&definition)?;
        self.intake.begin(definition.dataset(), (self.clock)())?;
        if difference != FlowDifference::None {
            self.intake.store.documents().put(name, &definition, (self.clock)())?;
            self.run(name, definition)?;
        }
        Ok(difference)
    }

    /// Removes a source. Its points stay.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn remove(&self, name: &str) -> Result<(), FlowError> {
        let running = self.running.find(name)?;
        self.intake.store.documents().remove::<Definition>(name)?;
        self.running.remove(name);
        // A round under way may still write the other two.
        stop(&running.job);
        self.intake.store.documents().remove::<Progress>(name)?;
        self.intake.store.documents().remove::<KeptSeries>(name)?;
        Ok(())
    }

    /// Pauses or resumes a source. This survives a restart.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn set_paused(&self, name: &str, paused: bool) -> Result<(), FlowError> {
        let mut definition = self.running.find(name)?.definition.clone();
        definition.set_paused(paused);
        self.put(name, definition).map(|_| ())
    }

    /// Begins the next round at once.
    ///
    /// # Errors
    /// If there is none of that name, or it is paused.
    pub fn run_now(&self, name: &str) -> Result<(), FlowError> {
        let running = self.running.find(name)?;
        let job = running.job.lock().clone();
        let job = job.ok_or_else(|| match &running.figures.lock().failing {
            Some((reason, _)) => FlowError::Definition(reason.clone()),
            None => FlowError::Definition(format!("the source `{name}` is paused: resume it first")),
        })?;
        job.wake();
        Ok(())
    }

    /// All sources, by name.
    pub fn all(&self) -> Vec<SourceStatus> {
        self.running.all().iter().map(|(name, running)| running.status(name)).collect()
    }

    /// One source.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn status(&self, name: &str) -> Result<SourceStatus, FlowError> {
        self.running.find(name).map(|running| running.status(name))
    }

    /// The series of a source, and its series in trouble: none while it is paused.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn series(&self, name: &str, catalogue: &Catalogue) -> Result<WatchedSeries, FlowError> {
        Ok(self.running.find(name)?.series((self.clock)(), catalogue))
    }

    /// Series of a dataset that are in trouble, each with its source.
    pub fn troubled(&self, dataset: &Dataset, catalogue: &Catalogue) -> HashMap<SeriesId, (String, Troubled)> {
        let running = self.running.all();
        let of_dataset = |running: &Running| catalogue.dataset_by_any_name(running.definition.dataset()).is_some_and(|of| of.id == dataset.id);
        let all = running.iter().filter(|(_, running)| of_dataset(running));
        let of_source = |(name, running): &(String, Arc<Running>)| {
            let name = name.clone();
            running.series((self.clock)(), catalogue).troubled.into_iter().map(move |troubled| (troubled.series, (name.clone(), troubled)))
        };
        all.flat_map(of_source).collect()
    }

    /// The latest events of a source, the latest first.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn events(&self, name: &str, most: usize) -> Result<Vec<Event>, FlowError> {
        self.running.find(name).map(|running| running.events.latest(most))
    }

    /// Runs one round of a definition without storing its points, and returns the first points.
    ///
    /// # Errors
    /// If the round fails.
    pub fn attempt(&self, definition: &Definition, shown: usize) -> Result<(Outcome, Vec<Event>), FlowError> {
        self.intake.begin(definition.dataset(), (self.clock)())?;
        let events = Events::default();
        let round = Round { name: None, intake: &self.intake, clock: self.clock, stop: &|| false, shown: Some(shown), events: &events, watch: None };
        let outcome = source_of(definition)?.round(&round)?;
        if let Some(failure) = outcome.failure {
            return Err(FlowError::Peer(failure));
        }
        Ok((outcome, events.latest(usize::MAX)))
    }

    /// Starts a source, and replaces a running one of the same name.
    fn run(&self, name: &str, definition: Definition) -> Result<(), FlowError> {
        // The log continues; the figures start again with each definition.
        let events = self.running.find(name).map(|running| Arc::clone(&running.events)).unwrap_or_default();
        let watch = SeriesWatch::new(definition.expected());
        let own = Arc::new(Running { definition, figures: Mutex::default(), events, watch, job: Mutex::default() });
        let before = self.running.put(name, Arc::clone(&own));
        match before {
            Some(before) => {
                // Two rounds of one source must not run at once.
                stop(&before.job);
                if own.definition.brings_the_same(&before.definition) {
                    own.watch.take_over(&before.watch, (self.clock)());
                } else {
                    self.intake.store.documents().remove::<KeptSeries>(name)?;
                }
            }
            None => own.watch.load(&self.intake.store, name, (self.clock)())?,
        }
        if own.definition.is_paused() {
            own.events.add((self.clock)(), false, "paused");
            return Ok(());
        }
        own.events.add((self.clock)(), false, "started");
        let (intake, clock, running, own_name) = (Arc::clone(&self.intake), self.clock, Arc::clone(&own), name.to_owned());
        let mut source = match source_of(&own.definition) {
            Ok(source) => source,
            // A store of another build may define it. The other sources run.
            Err(error) => {
                own.note(Err(error), (self.clock)(), Duration::ZERO).ok();
                return Ok(());
            }
        };
        let is_continuous = own.definition.is_continuous();
        let every = Duration::from_nanos(own.definition.every().unsigned_abs());
        let step = move |job: &fenetre_jobs::Job| {
            let begun = Instant::now();
            let stopped = AtomicBool::new(false);
            let stop = || {
                stopped.fetch_or(job.is_stopping(), Ordering::Relaxed);
                stopped.load(Ordering::Relaxed)
            };
            let round = Round {
                name: Some(&own_name),
                intake: &intake,
                clock,
                stop: &stop,
                shown: None,
                events: &running.events,
                watch: Some(&running.watch),
            };
            let outcome = source.round(&round);
            if let Err(FlowError::Stopped) = outcome {
                return Ok(Next::End);
            }
            running.note(outcome, clock(), begun.elapsed())?;
            running.watch.save(&intake.store, &own_name, clock(), false)?;
            Ok::<_, FlowError>(if is_continuous { Next::Again } else { Next::Rest(every.saturating_sub(begun.elapsed())) })
        };
        let job = self.jobs.repeat(&format!("source {name}"), BACKOFF, step).map_err(|error| FlowError::File {
            action: "start the source",
            path: name.to_owned(),
            reason: error.to_string(),
        })?;
        *own.job.lock() = Some(job);
        Ok(())
    }

    /// Figures of the jobs of all sources.
    pub fn jobs(&self) -> Vec<Figures> {
        self.jobs.figures()
    }
}

impl Running {
    fn series(&self, now: Nanos, catalogue: &Catalogue) -> WatchedSeries {
        let dataset = catalogue.dataset_by_any_name(self.definition.dataset());
        let mut watched = dataset.map_or_else(WatchedSeries::default, |dataset| self.watch.look(now, dataset));
        if self.definition.is_paused() {
            watched.troubled.clear();
        }
        watched
    }

    fn note(&self, outcome: Result<Outcome, FlowError>, now: Nanos, took: Duration) -> Result<(), FlowError> {
        let mut figures = self.figures.lock();
        figures.has_begun = true;
        if !matches!(&outcome, Ok(outcome) if outcome.is_idle) {
            figures.rounds += 1;
            figures.round_seconds = took.as_secs_f64();
        }
        match outcome {
            Ok(outcome) => {
                match outcome.failure {
                    Some(failure) => {
                        if figures.failing.as_ref().is_none_or(|(known, _)| *known != failure) {
                            self.events.add(now, true, failure.clone());
                        }
                        let since = figures.failing.as_ref().map_or(now, |(_, since)| *since);
                        figures.failing = Some((failure, since));
                    }
                    None if figures.failing.take().is_some() => self.events.add(now, false, "works again"),
                    None => {}
                }
                figures.points += outcome.points;
                figures.bytes += outcome.bytes;
                figures.last_points = if outcome.points > 0 { Some(now) } else { figures.last_points };
                if let Some(reject) = outcome.rejects.sample() {
                    self.events.add(now, true, format!("rejected: {reject}"));
                }
                figures.rejects.absorb(outcome.rejects);
                figures.sent = outcome.sent.or(figures.sent.take());
                if !outcome.parts.is_empty() || !outcome.is_idle {
                    figures.parts = outcome.parts;
                }
                Ok(())
            }
            Err(error) => {
                let text = error.to_string();
                self.events.add(now, true, text.clone());
                let since = figures.failing.as_ref().map_or(now, |(_, since)| *since);
                figures.failing = Some((text, since));
                Err(error)
            }
        }
    }

    fn status(&self, name: &str) -> SourceStatus {
        let job = self.job.lock().as_ref().map(Handle::figures);
        let figures = self.figures.lock().clone();
        let state = match job.as_ref().map(|job| job.phase) {
            _ if figures.failing.is_some() => SourceState::Failing,
            None => SourceState::Paused,
            Some(Phase::Ended) => SourceState::Stopped,
            Some(Phase::Working) if !figures.has_begun => SourceState::Starting,
            Some(Phase::Working) => SourceState::Running,
            Some(Phase::Resting | Phase::Retrying) => SourceState::Waiting,
        };
        SourceStatus { name: name.to_owned(), definition: self.definition.clone(), state, next: job.and_then(|job| job.next), figures }
    }
}

/// Whether points of a source are overdue, by the limit that applies to its series.
pub fn is_late(status: &SourceStatus, now: Nanos) -> bool {
    let limit = status.definition.expected().point_every;
    let is_over = |last: Nanos| limit.is_some_and(|limit| now - last > limit);
    status.state != SourceState::Paused && status.figures.last_points.is_some_and(is_over)
}
