//! Small messages on their way into one batch: they share a commit.

use std::{collections::BTreeMap, mem};

use fenetre_core::{
    model::{About, PointRef, PointSink, Refusal},
    time::Nanos,
};
use fenetre_formats::{Format, Tally, mapping::Mapping};

use super::{Outcome, Round};
use crate::{
    error::FlowError,
    intake::{Order, ParsedBody},
    rejects::Rejects,
};

/// Messages that are stored together.
pub struct Gather<'a> {
    round: &'a Round<'a>,
    dataset: &'a str,
    /// Default tags of every point.
    tags: &'a BTreeMap<String, String>,
    parsed: ParsedBody,
    rejects: Rejects,
    bytes: u64,
}

impl<'a> Gather<'a> {
    /// Nothing yet.
    ///
    /// # Errors
    /// If there is no such dataset.
    pub fn new(round: &'a Round<'a>, dataset: &'a str, tags: &'a BTreeMap<String, String>) -> Result<Self, FlowError> {
        let parsed = round.intake.empty(dataset, (round.clock)())?;
        Ok(Self { round, dataset, tags, parsed, rejects: Rejects::default(), bytes: 0 })
    }

    /// Counts bytes that were read.
    pub fn read(&mut self, bytes: usize) {
        self.bytes += bytes as u64;
    }

    /// Adds a point, or a reject. `place` says where it is from.
    pub fn point(&mut self, point: PointRef<'_>, place: impl FnOnce() -> String) {
        let taken = self.sink(|sink| sink.accept(point));
        match taken {
            Ok(()) => self.parsed.tally.accepted += 1,
            Err(refusal) => self.refuse(refusal, place),
        }
    }

    /// Counts a reject.
    pub fn refuse(&mut self, refusal: Refusal, place: impl FnOnce() -> String) {
        let Refusal { field, reason, cause } = &refusal;
        self.rejects.add(*cause, || match field {
            Some(field) => format!("{}, {field}: {reason}", place()),
            None => format!("{}: {reason}", place()),
        });
        self.parsed.tally.refuse(0, refusal);
    }

    /// Adds a message with a format, whose points have further tags.
    pub fn body(&mut self, (format, mapping): (Format, Option<Mapping>), tags: &BTreeMap<String, String>, bytes: Vec<u8>, now: Nanos, place: &str) {
        let Self { round, dataset, parsed, .. } = self;
        // Also if the source is to stop: a message that was read in part would be acknowledged as a whole.
        let order = Order { dataset, format, mapping, metrics: &[], tags, shown: round.shown.unwrap_or(0), stop: &|| false };
        match round.intake.read_into(parsed, order, bytes, now) {
            Ok(tally) => {
                self.rejects.absorb(Rejects::of_body(&tally, Some(place)));
                self.parsed.tally.absorb(tally);
            }
            Err(error) => self.refuse(Refusal { field: None, reason: error.to_string(), cause: Default::default() }, || place.to_owned()),
        }
    }

    /// What is known of a metric, beside its points.
    pub fn describe(&mut self, metric: &str, about: About<'_>) {
        self.sink(|sink| sink.describe(metric, about));
    }

    /// Gives access to the batch.
    pub fn sink<T>(&mut self, work: impl FnOnce(&mut dyn PointSink) -> T) -> T {
        work(&mut self.parsed.sink(self.round.intake, self.tags, self.round.shown.unwrap_or(0)))
    }

    /// Adds the counts of rows that were put into the sink.
    pub fn absorb(&mut self, tally: Tally) {
        self.rejects.absorb(Rejects::of_body(&tally, None));
        self.parsed.tally.absorb(tally);
    }

    /// Number of series that are new.
    pub fn new_series(&self) -> u64 {
        self.parsed.batch.new_series() as u64
    }

    /// Stores them, or, in a trial, shows the first ones.
    ///
    /// # Errors
    /// If the store does not take them.
    pub fn keep(self) -> Result<Outcome, FlowError> {
        let Self { round, dataset, mut parsed, rejects, bytes, .. } = self;
        let sample = if round.shown.is_some() { mem::take(&mut parsed.sample) } else { Vec::new() };
        let report = if round.shown.is_some() {
            parsed.report(true)
        } else {
            parsed.keep_watched(round.intake, dataset, &round.sender(), (round.clock)(), round.watch)?
        };
        Ok(Outcome { points: report.tally.accepted, rejects, bytes, sample, ..Outcome::default() })
    }
}
