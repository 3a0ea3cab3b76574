//! The work of a sink that sends points: it reads the feed and gaps, makes batches, and sends them.

use std::{
    mem,
    sync::Arc,
    time::{Duration, Instant},
};

use fenetre_core::time::{Nanos, SECOND};
use fenetre_jobs::Job;
use fenetre_store::Position;

use super::{
    definition::SinkDefinition,
    delivery::Delivery,
    outgoing::Outgoing,
    scan::{current, each_batch},
    selection::{Gathered, Selection},
    step::Work,
};
use crate::error::FlowError;

/// Minimum time between two notes of a place in the feed before which nothing was to be sent.
const BETWEEN_NOTES: Duration = Duration::from_secs(10);
/// The part of a gap that is read at first, and at most.
const FIRST_PART: Nanos = 3_600 * SECOND;
const LONGEST_PART: Nanos = 365 * 24 * FIRST_PART;
const SHORTEST_PART: Nanos = 60 * SECOND;

/// The work of a sink that sends points.
pub struct Worker {
    delivery: Delivery,
    selection: Selection,
    batch_points: usize,
    batch_after: Duration,
    /// The place in the feed that was noted as handled.
    noted: Position,
    noted_at: Instant,
    /// The place up to which the feed was read.
    read_to: Position,
    gathered: Gathered,
    /// Arrival of the oldest gathered point.
    since: Option<Instant>,
    /// A batch that is to be sent, and the place in the feed after it.
    pending: Option<(Outgoing, Position)>,
    /// The part of a gap that is read at once.
    part: Nanos,
}

impl Worker {
    /// The work of a sink from a place in the feed.
    ///
    /// # Errors
    /// If its condition cannot be read.
    pub fn new(definition: &SinkDefinition, from: Position, delivery: Delivery) -> Result<Self, FlowError> {
        delivery.begin(from);
        Ok(Self {
            selection: Selection::new(definition)?,
            batch_points: definition.batch_points(),
            batch_after: Duration::from_nanos(definition.batch_after().unsigned_abs()),
            delivery,
            noted: from,
            noted_at: Instant::now(),
            read_to: from,
            gathered: Gathered::default(),
            since: None,
            pending: None,
            part: FIRST_PART,
        })
    }

    /// Drops batches that were read, but have become gaps because the hold was exceeded: the gaps have later values of their points.
    fn follow_cursor(&mut self) {
        let cursor = self.delivery.store.feed().cursor(&self.delivery.name).unwrap_or_default();
        if cursor.position > self.noted {
            self.noted = cursor.position;
            if self.read_to < cursor.position {
                (self.gathered, self.since, self.pending) = (Gathered::default(), None, None);
                self.read_to = cursor.position;
            }
        }
    }

    /// Sends points that have arrived.
    fn send_arrived(&mut self, job: &Job) -> Result<bool, FlowError> {
        if self.pending.is_none() {
            self.gather()?;
        }
        let Some((batch, to)) = self.pending.take() else { return Ok(false) };
        match self.delivery.deliver(&batch, job) {
            Ok(()) => {
                self.advance(to)?;
                Ok(true)
            }
            Err(error) => {
                self.pending = Some((batch, to));
                Err(error)
            }
        }
    }

    /// Reads the feed, and makes a batch if it is due.
    fn gather(&mut self) -> Result<(), FlowError> {
        let feed = self.delivery.store.feed();
        let room = self.batch_points.saturating_sub(self.gathered.points).max(1);
        let (arrived, next) = feed.read(self.read_to, room)?;
        for batch in &arrived {
            self.selection.gather(&self.delivery.store, batch.dataset(), batch.series(), &mut self.gathered)?;
        }
        self.read_to = next;
        if self.gathered.points == 0 {
            let mut figures = self.delivery.shared.figures.lock();
            figures.sent_to = next;
            if arrived.is_empty() {
                figures.caught_up = (self.delivery.clock)();
            }
            drop(figures);
            // Others' points are passed without a write for each of them.
            if next != self.noted && (self.noted_at.elapsed() > BETWEEN_NOTES || next.generation != self.noted.generation) {
                self.advance(next)?;
            }
            return Ok(());
        }
        let since = *self.since.get_or_insert_with(Instant::now);
        if self.gathered.points >= self.batch_points || since.elapsed() >= self.batch_after { self.make_batch() } else { Ok(()) }
    }

    /// Makes a batch of the gathered points.
    fn make_batch(&mut self) -> Result<(), FlowError> {
        let id = format!("{:08}-{:08}", self.noted.generation, self.noted.batch);
        let batch = self.selection.outgoing(&self.delivery.store, mem::take(&mut self.gathered), id)?;
        self.since = None;
        self.pending = Some((batch, self.read_to));
        Ok(())
    }

    fn advance(&mut self, to: Position) -> Result<(), FlowError> {
        self.delivery.store.feed().advance(&self.delivery.name, to, (self.delivery.clock)())?;
        (self.noted, self.noted_at) = (to, Instant::now());
        self.delivery.shared.figures.lock().sent_to = to;
        Ok(())
    }

    /// Sends a part of a gap.
    fn send_gap(&mut self, job: &Job) -> Result<bool, FlowError> {
        let Some(gap) = self.delivery.store.feed().take_gap(&self.delivery.name, self.part, Nanos::MAX, (self.delivery.clock)())? else {
            return Ok(false);
        };
        if self.gathered.points > 0 {
            // The gap may have later values of these points.
            self.make_batch()?;
            self.send_arrived(job)?;
        }
        let (mut points, store, most) = (0, Arc::clone(&self.delivery.store), self.batch_points);
        each_batch(&store, &mut self.selection, gap, most, &mut |batch| {
            points += batch.points();
            self.delivery.deliver(&batch, job)
        })?;
        self.delivery.store.feed().finish_gap(&self.delivery.name, (self.delivery.clock)())?;
        if points < most / 4 {
            self.part = self.part.saturating_mul(4).min(LONGEST_PART);
        } else if points > most.saturating_mul(8) {
            self.part = (self.part / 2).max(SHORTEST_PART);
        }
        Ok(true)
    }

    /// Sends batches again that were set aside.
    fn resend(&mut self, job: &Job) -> Result<bool, FlowError> {
        let Some(id) = self.delivery.shared.resent.lock().first().copied() else { return Ok(false) };
        let points_of = match self.delivery.aside.points_of(&self.delivery.name, id) {
            Ok(points_of) => points_of,
            // It has been removed, or is damaged; the others are still sent.
            Err(error) => {
                self.delivery.event(true, error.to_string());
                self.delivery.shared.resent.lock().remove(&id);
                return Ok(true);
            }
        };
        let batch = current(&self.delivery.store, &mut self.selection, &points_of, format!("aside-{id:06}"))?;
        // If it is refused again, it is set aside under another number.
        self.delivery.deliver(&batch, job)?;
        self.delivery.aside.remove(&self.delivery.name, id)?;
        self.delivery.shared.resent.lock().remove(&id);
        Ok(true)
    }
}

impl Work for Worker {
    fn work(&mut self, job: &Job) -> Result<bool, FlowError> {
        self.follow_cursor();
        let resent = self.resend(job)?;
        let sent = self.send_arrived(job)?;
        let filled = self.send_gap(job)?;
        Ok(resent || sent || filled)
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
