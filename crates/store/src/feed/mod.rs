//! Batches in order of arrival, for sinks.
//!
//! A reader has a name and a cursor, which is stored in the catalogue. Recent batches are in memory; older ones are read from the journal. After
//! packing, a journal file is held until every reader has passed it. If the held files exceed their limit, the oldest one is deleted; the cursors
//! then record its time ranges as gaps, which are read from partitions.

mod cursor;
mod ring;

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    block::Points,
    model::{DatasetId, SeriesId},
};
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};

pub use self::cursor::{Cursor, Gap};
pub(crate) use self::ring::{Extent, Ring};
use crate::journal::entry::Journaled;

/// Points of one series in a batch, in order of arrival.
#[derive(Clone, Copy, Debug)]
pub struct Stretch<'b> {
    /// The series.
    pub series: SeriesId,
    /// The points: of a state with codes of words, of a histogram with codes of layouts, whose counts are in series of their own.
    pub points: Points<'b>,
}

/// A position in the order of arrival: after a batch of a journal file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Position {
    /// Generation, which is the number of the journal file.
    pub generation: u64,
    /// Number of the batch in the file, from 1; 0 before the first batch.
    pub batch: u64,
}

/// A batch that has arrived.
#[derive(Clone)]
pub struct Arrived {
    /// The position after it.
    pub position: Position,
    pub(crate) batch: Arc<Journaled>,
}

impl Arrived {
    /// The dataset of its points.
    pub fn dataset(&self) -> DatasetId {
        self.batch.dataset
    }

    /// Number of points.
    pub fn points(&self) -> usize {
        self.batch.entry.points()
    }

    /// Its points by series.
    pub fn series(&self) -> impl Iterator<Item = Stretch<'_>> {
        self.batch.entry.series().map(|(series, points)| Stretch { series, points })
    }
}

/// The readers of a store.
#[derive(Default)]
pub(crate) struct Readers {
    /// Cursors by name. Locked while files are moved or deleted, so that no reader begins to need one of them.
    pub cursors: Mutex<BTreeMap<String, Cursor>>,
    /// Read lock: opens journal files. Write lock: moves them. Between the two steps of a move, a file looks empty.
    pub moving: RwLock<()>,
}
