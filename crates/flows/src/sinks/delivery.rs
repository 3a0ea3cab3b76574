//! Sends batches to a destination, counts them, and sets aside those that it refuses.

use std::{
    collections::{BTreeSet, VecDeque},
    sync::Arc,
};

use fenetre_core::time::{Nanos, SECOND};
use fenetre_jobs::Job;
use fenetre_store::{Position, Store};
use parking_lot::Mutex;

use super::{
    aside::Aside,
    destination::{Destination, Receipt, Undelivered},
    outgoing::Outgoing,
};
use crate::{arrivals::Seconds, error::FlowError, events::Events};

/// Number of rejects that are kept as samples.
const MAX_SAMPLES: usize = 5;
/// Minimum time between two measurements of how far a sink is behind.
const BETWEEN_MEASUREMENTS: Nanos = 5 * SECOND;
/// Period over which the speed of catching up is measured.
const TREND: Nanos = 60 * SECOND;

/// Figures of a sink since it was started.
#[derive(Clone, Debug, Default)]
pub struct SinkFigures {
    /// Points that were sent.
    pub points: u64,
    /// Batches that were sent.
    pub batches: u64,
    /// Bytes that were sent.
    pub bytes: u64,
    /// Points that the destination rejected.
    pub rejected: u64,
    /// The latest reasons.
    pub samples: VecDeque<String>,
    /// Time of the latest batch.
    pub last_sent: Option<Nanos>,
    /// Why the latest batch could not be sent, and since when.
    pub failing: Option<(String, Nanos)>,
    /// The latest time at which everything had been sent.
    pub caught_up: Nanos,
    /// Before this place in the feed everything has been sent.
    pub sent_to: Position,
    /// The instant before which all windows are closed, of a sink with a query.
    pub closed_before: Option<Nanos>,
    /// Points per second.
    pub per_second: Seconds<60>,
    /// How many points it was behind at some times of the last minute.
    pub trend: VecDeque<(Nanos, u64)>,
}

/// What the work of a sink shares with others.
#[derive(Default)]
pub struct Shared {
    /// Figures.
    pub figures: Mutex<SinkFigures>,
    /// The log.
    pub events: Events,
    /// Set-aside batches that are to be sent again.
    pub resent: Mutex<BTreeSet<u64>>,
}

/// The way of a sink to its destination.
pub struct Delivery {
    /// Name of the sink.
    pub name: String,
    /// The store.
    pub store: Arc<Store>,
    /// The wall clock.
    pub clock: fn() -> Nanos,
    /// Set-aside batches.
    pub aside: Aside,
    /// What it shares with others.
    pub shared: Arc<Shared>,
    /// The destination.
    pub destination: Box<dyn Destination>,
}

impl Delivery {
    /// Sends a batch, in halves if it is too large. A refused batch is set aside.
    ///
    /// # Errors
    /// If the destination accepts nothing at the moment, no more batches can be set aside, or the job is stopping.
    pub fn deliver(&mut self, batch: &Outgoing, job: &Job) -> Result<(), FlowError> {
        // A batch can have many halves, and a job that lingered would send old values after those of its successor.
        if job.is_stopping() {
            return Err(FlowError::Stopped);
        }
        if batch.points() == 0 {
            return Ok(());
        }
        let reason = match self.destination.send(batch, self.store.secrets()) {
            Ok(receipt) => {
                self.note(batch, receipt);
                return Ok(());
            }
            Err(Undelivered::Failed(error)) => return Err(error),
            Err(Undelivered::Refused(reason)) => reason,
            Err(Undelivered::TooLarge(reason)) => match batch.clone().halves() {
                Some([one, other]) => {
                    self.deliver(&one, job)?;
                    return self.deliver(&other, job);
                }
                None => reason,
            },
        };
        self.aside.add(&self.name, (self.clock)(), &reason, batch)?;
        self.event(true, format!("set aside {} points: {reason}", batch.points()));
        Ok(())
    }

    /// Begins the figures of a sink that is started at a place in the feed.
    pub fn begin(&self, from: Position) {
        let mut figures = self.shared.figures.lock();
        (figures.caught_up, figures.sent_to) = ((self.clock)(), from);
    }

    /// Measures every few seconds how far the sink is behind.
    ///
    /// # Errors
    /// If a journal file cannot be read.
    pub fn measure(&self) -> Result<(), FlowError> {
        let now = (self.clock)();
        let is_due = |figures: &SinkFigures| figures.trend.back().is_none_or(|(at, _)| now.saturating_sub(*at) >= BETWEEN_MEASUREMENTS);
        let sent_to = Some(self.shared.figures.lock()).filter(|figures| is_due(figures)).map(|figures| figures.sent_to);
        if let Some(sent_to) = sent_to {
            // Files may be read, without the lock.
            let behind = self.store.feed().points_after(sent_to)?;
            let mut figures = self.shared.figures.lock();
            figures.trend.push_back((now, behind));
            while figures.trend.front().is_some_and(|(at, _)| now.saturating_sub(*at) > TREND) {
                figures.trend.pop_front();
            }
        }
        Ok(())
    }

    /// Adds an event to the log.
    pub fn event(&self, is_failure: bool, text: String) {
        self.shared.events.add((self.clock)(), is_failure, text);
    }

    fn note(&self, batch: &Outgoing, receipt: Receipt) {
        let now = (self.clock)();
        let Receipt { bytes, rejected, samples, notes } = receipt;
        notes.into_iter().for_each(|note| self.event(false, note));
        let mut figures = self.shared.figures.lock();
        if figures.failing.take().is_some() {
            self.event(false, "works again".to_owned());
        }
        let points = (batch.points() as u64).saturating_sub(rejected);
        figures.points += points;
        figures.per_second.count(now, points, rejected);
        figures.batches += 1;
        figures.bytes += bytes;
        figures.rejected += rejected;
        figures.last_sent = Some(now);
        for sample in samples {
            self.event(true, format!("rejected by the destination: {sample}"));
            figures.samples.push_front(sample);
        }
        figures.samples.truncate(MAX_SAMPLES);
    }

    /// Notes that the latest batch could not be sent.
    pub fn note_failure(&self, error: &FlowError) {
        let (text, now) = (error.to_string(), (self.clock)());
        self.event(true, text.clone());
        let mut figures = self.shared.figures.lock();
        let since = figures.failing.as_ref().map_or(now, |(_, since)| *since);
        figures.failing = Some((text, since));
    }
}
