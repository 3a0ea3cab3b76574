//! Polling: addresses are asked over HTTP, several at a time. One that is slow, large or wrong does not delay the others.

mod fetch;
mod targets;

use std::{
    collections::HashMap,
    sync::atomic::{AtomicUsize, Ordering},
    thread,
    time::{Duration, Instant},
};

use fenetre_wire::sources::SourcePart;
use parking_lot::Mutex;

use self::fetch::{Answer, Fetcher, Validators};
use super::{Body, Outcome, Round, Source, take};
use crate::{
    definition::{Poll, Target},
    error::FlowError,
};

/// Targets that are asked at once.
const MAX_AT_ONCE: usize = 16;
/// Longest rest of a target that does not answer in time.
const MAX_REST: Duration = Duration::from_secs(60);

/// A source that polls.
pub struct PollSource {
    fetcher: Fetcher,
    every: Duration,
    known: HashMap<Target, Known>,
}

/// What is known of a target from earlier rounds.
#[derive(Clone, Debug, Default)]
struct Known {
    validators: Validators,
    /// Number of consecutive rounds in which it did not answer in time.
    silent: u32,
    /// End of its pause, and its latest error.
    rest: Option<(Instant, String)>,
}

/// What became of one target.
struct Asked {
    target: Target,
    outcome: Result<Outcome, FlowError>,
    known: Known,
    seconds: f64,
    /// Whether it rested, so that nothing new is known.
    is_resting: bool,
}

impl PollSource {
    /// A source of a definition that was checked; `every` is its period in nanoseconds.
    pub fn new(poll: Poll, every: i64) -> Self {
        Self { fetcher: Fetcher::new(poll), every: Duration::from_nanos(every.unsigned_abs()), known: HashMap::new() }
    }

    /// Polls one target and stores its answer.
    fn ask(&self, target: Target, mut known: Known, round: &Round<'_>) -> Asked {
        let begun = Instant::now();
        if let Some((_, reason)) = known.rest.as_ref().filter(|(until, _)| *until > begun) {
            let outcome = Err(FlowError::Peer(reason.clone()));
            return Asked { target, outcome, known, seconds: 0.0, is_resting: true };
        }
        let poll = &self.fetcher.poll;
        let outcome = self.fetcher.fetch(&target, &known.validators).and_then(|answer| match answer {
            Answer::Unchanged => Ok(Outcome::default()),
            Answer::Points { format, bytes, validators } => {
                let tags = target.tags.iter().chain(&poll.tags).map(|(key, value)| (key.clone(), value.clone())).rev().collect();
                let body = Body { dataset: &poll.dataset, format, mapping: poll.mapping.clone(), tags: &tags, bytes, at: Some(&target.url) };
                let outcome = take(round, body)?;
                // Only a stored answer may be skipped next time.
                known.validators = validators;
                Ok(outcome)
            }
        });
        if let Err(error @ FlowError::Silent(_)) = &outcome {
            known.silent += 1;
            let rest = self.every.saturating_mul(1 << known.silent.min(16)).min(MAX_REST);
            known.rest = Some((Instant::now() + rest, error.to_string()));
        } else {
            (known.silent, known.rest) = (0, None);
        }
        Asked { target, outcome, known, seconds: begun.elapsed().as_secs_f64(), is_resting: false }
    }
}

impl Source for PollSource {
    fn round(&mut self, round: &Round<'_>) -> Result<Outcome, FlowError> {
        let targets = targets::all(&self.fetcher.poll)?;
        self.fetcher.prepare(round.intake.store.secrets())?;
        let mut orders: Vec<(Target, Known)> =
            targets.into_iter().map(|target| (target.clone(), self.known.get(&target).cloned().unwrap_or_default())).collect();
        // Those that answer are not kept waiting by those that do not.
        orders.sort_by_key(|(_, known)| known.silent);
        let (next, done) = (AtomicUsize::new(0), Mutex::new(Vec::new()));
        thread::scope(|scope| {
            for _ in 0..orders.len().min(MAX_AT_ONCE) {
                scope.spawn(|| {
                    while let Some((target, known)) = orders.get(next.fetch_add(1, Ordering::Relaxed)).filter(|_| !(round.stop)()) {
                        let asked = self.ask(target.clone(), known.clone(), round);
                        done.lock().push(asked);
                    }
                });
            }
        });
        let mut all = Outcome::default();
        let mut first_error = None;
        self.known.clear();
        for Asked { target, outcome, known, seconds, is_resting } in done.into_inner() {
            let (error, points) = match outcome {
                Ok(outcome) => {
                    let points = outcome.points;
                    all.add(outcome, round.shown);
                    (None, points)
                }
                Err(error) => {
                    if !is_resting {
                        round.events.add((round.clock)(), true, error.to_string());
                    }
                    let text = error.to_string();
                    first_error.get_or_insert(error);
                    (Some(text), 0)
                }
            };
            all.parts.push(SourcePart { name: target.url.clone(), error, points, seconds, ..SourcePart::default() });
            self.known.insert(target, known);
        }
        all.parts.sort_by(|a, b| a.name.cmp(&b.name));
        match first_error {
            Some(error) if all.parts.iter().all(|part| part.error.is_some()) => Err(error),
            _ => Ok(all),
        }
    }
}
