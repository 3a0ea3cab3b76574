//! Recent batches in memory, for readers that keep up.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use parking_lot::{Condvar, Mutex};

use super::{Arrived, Position};
use crate::journal::entry::Journaled;

/// Bytes of points in memory.
const MAX_BYTES: usize = 32 << 20;
/// Bytes of a point: instant, value, and its share of the rest.
const POINT: usize = 18;

/// The latest batches, in order.
#[derive(Default)]
pub struct Ring {
    recent: Mutex<Recent>,
    grown: Condvar,
}

#[derive(Default)]
struct Recent {
    batches: VecDeque<Arrived>,
    bytes: usize,
    /// The place after the latest batch.
    end: Position,
    /// The place before the oldest batch here.
    start: Position,
    /// Whether anybody reads.
    is_followed: bool,
}

impl Ring {
    /// Sets the place after the latest batch, at a start or when a journal file begins.
    pub fn begin(&self, at: Position) {
        let mut recent = self.recent.lock();
        if recent.batches.is_empty() {
            recent.start = at;
        }
        recent.end = at;
    }

    /// Whether anybody reads: if nobody does, nothing is kept here.
    pub fn set_followed(&self, is_followed: bool) {
        let mut recent = self.recent.lock();
        recent.is_followed = is_followed;
        if !is_followed {
            (recent.batches, recent.bytes) = (VecDeque::new(), 0);
            recent.start = recent.end;
        }
    }

    /// Adds batches that were committed together; the last one has that number.
    pub fn add(&self, generation: u64, last: u64, batches: impl ExactSizeIterator<Item = Arc<Journaled>>) {
        let mut recent = self.recent.lock();
        let first = last + 1 - batches.len() as u64;
        recent.end = Position { generation, batch: last };
        if !recent.is_followed {
            recent.start = recent.end;
            return;
        }
        for (batch, number) in batches.zip(first..) {
            recent.bytes += batch.entry.points() * POINT;
            recent.batches.push_back(Arrived { position: Position { generation, batch: number }, batch });
        }
        while recent.bytes > MAX_BYTES
            && let Some(oldest) = recent.batches.pop_front()
        {
            recent.bytes -= oldest.points() * POINT;
            recent.start = oldest.position;
        }
        drop(recent);
        self.grown.notify_all();
    }

    /// The place after the latest batch.
    pub fn end(&self) -> Position {
        self.recent.lock().end
    }

    /// The batches after a place; none if some of them are no longer here.
    pub fn after(&self, after: Position, points: usize) -> Option<Vec<Arrived>> {
        let recent = self.recent.lock();
        if after >= recent.end {
            return Some(Vec::new());
        }
        if after < recent.start {
            return None;
        }
        let from = recent.batches.partition_point(|arrived| arrived.position <= after);
        let mut left = points;
        let mut wanted = Vec::new();
        for arrived in recent.batches.range(from..) {
            wanted.push(arrived.clone());
            left = left.saturating_sub(arrived.points());
            if left == 0 {
                break;
            }
        }
        Some(wanted)
    }

    /// Waits until there is something after a place, or a time has passed.
    pub fn wait(&self, after: Position, most: Duration) {
        let mut recent = self.recent.lock();
        if recent.end <= after {
            self.grown.wait_for(&mut recent, most);
        }
    }
}
