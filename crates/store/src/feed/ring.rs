//! Recent batches in memory, for readers that are not behind.

use std::{
    collections::{BTreeMap, VecDeque},
    sync::Arc,
    time::Duration,
};

use parking_lot::{Condvar, Mutex};

use super::{Arrived, Position};
use crate::journal::entry::Journaled;

/// Maximum size of the batches in memory, in bytes.
const MAX_BYTES: usize = 32 << 20;
/// Size of a point in bytes: time, value, and a share of the rest.
const POINT: usize = 18;

/// The latest batches, in order.
#[derive(Default)]
pub struct Ring {
    recent: Mutex<Recent>,
    grown: Condvar,
}

/// Batches of a journal file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Extent {
    /// Number of the last batch.
    pub batches: u64,
    /// Number of points.
    pub points: u64,
}

#[derive(Default)]
struct Recent {
    /// What has been added since the start, by generation.
    extents: BTreeMap<u64, Extent>,
    batches: VecDeque<Arrived>,
    bytes: usize,
    /// The position after the latest batch.
    end: Position,
    /// The position before the oldest batch in memory.
    start: Position,
    /// Whether there is a reader.
    is_followed: bool,
}

impl Ring {
    /// Sets the position after the latest batch, at the start of the store or of a journal file.
    pub fn begin(&self, at: Position) {
        let mut recent = self.recent.lock();
        if recent.batches.is_empty() {
            recent.start = at;
        }
        recent.end = at;
        recent.extents.entry(at.generation).or_insert(Extent { batches: at.batch, points: 0 });
    }

    /// Sets whether there is a reader. Without one, no batch is kept in memory.
    pub fn set_followed(&self, is_followed: bool) {
        let mut recent = self.recent.lock();
        recent.is_followed = is_followed;
        if !is_followed {
            (recent.batches, recent.bytes) = (VecDeque::new(), 0);
            recent.start = recent.end;
        }
    }

    /// Adds batches that were committed together; `last` is the number of the last one.
    pub fn add(&self, generation: u64, last: u64, batches: Vec<Arc<Journaled>>) {
        let mut recent = self.recent.lock();
        let first = last + 1 - batches.len() as u64;
        recent.end = Position { generation, batch: last };
        let points = batches.iter().map(|batch| batch.entry.points() as u64).sum::<u64>();
        let extent = recent.extents.entry(generation).or_default();
        (extent.batches, extent.points) = (last, extent.points + points);
        if !recent.is_followed {
            recent.start = recent.end;
            return;
        }
        for (batch, number) in batches.into_iter().zip(first..) {
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

    /// What a generation holds, if it has been written since the start.
    pub fn extent(&self, generation: u64) -> Option<Extent> {
        self.recent.lock().extents.get(&generation).copied()
    }

    /// Sets what a generation from before the start holds.
    pub fn set_extent(&self, generation: u64, extent: Extent) {
        self.recent.lock().extents.insert(generation, extent);
    }

    /// Forgets the generations before one.
    pub fn forget_before(&self, generation: u64) {
        let mut recent = self.recent.lock();
        recent.extents = recent.extents.split_off(&generation);
    }

    /// The position after the latest batch.
    pub fn end(&self) -> Position {
        self.recent.lock().end
    }

    /// The batches after a position; none if some of them are no longer in memory.
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

    /// Number of points after a position; none if some of them are no longer in memory.
    pub fn points_after(&self, after: Position) -> Option<u64> {
        let recent = self.recent.lock();
        if after >= recent.end {
            return Some(0);
        }
        let from = recent.batches.partition_point(|arrived| arrived.position <= after);
        (after >= recent.start).then(|| recent.batches.range(from..).map(|arrived| arrived.points() as u64).sum())
    }

    /// Waits until there is a batch after a position, at most for `most`.
    pub fn wait(&self, after: Position, most: Duration) {
        let mut recent = self.recent.lock();
        if recent.end <= after {
            self.grown.wait_for(&mut recent, most);
        }
    }
}
