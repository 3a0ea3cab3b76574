//! What sinks read: committed batches in the order in which they came, from a place on.
//!
//! A reader has a name and a cursor, which the catalogue keeps. Recent batches are in memory; older ones are read from their journal file. A
//! packed file is held aside until every reader is past it. What is held has a limit: beyond it, the oldest file goes, and the reader's cursor
//! notes which time ranges of which datasets it held, to be read from partitions.

mod cursor;
mod ring;

use std::{collections::BTreeMap, sync::Arc};

use fenetre_core::{
    model::{DatasetId, SeriesId},
    time::Nanos,
};
use parking_lot::{Mutex, RwLock};
use serde::{Deserialize, Serialize};

pub use self::cursor::{Cursor, Gap};
pub(crate) use self::ring::Ring;
use crate::journal::entry::Journaled;

/// Points of one series that a batch held, in the order in which they came.
#[derive(Clone, Copy, Debug)]
pub struct Stretch<'b> {
    /// The series.
    pub series: SeriesId,
    /// Their times.
    pub times: &'b [Nanos],
    /// Their values: of a state codes of words, of a histogram places of its rows.
    pub values: &'b [f64],
}

/// A place in the order of arrival: after the batch of that number, in the journal file of that generation.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Position {
    /// Number of the journal file.
    pub generation: u64,
    /// Number of the batch in it; 0 before the first.
    pub batch: u64,
}

/// A batch that came.
#[derive(Clone)]
pub struct Arrived {
    /// The place after it.
    pub position: Position,
    pub(crate) batch: Arc<Journaled>,
}

impl Arrived {
    /// The dataset of its points.
    pub fn dataset(&self) -> DatasetId {
        self.batch.dataset
    }

    /// How many points it has.
    pub fn points(&self) -> usize {
        self.batch.entry.points()
    }

    /// Its points, series by series.
    pub fn series(&self) -> impl Iterator<Item = Stretch<'_>> {
        self.batch.entry.series().map(|(series, points)| Stretch { series, times: points.times, values: points.values })
    }
}

/// The readers of a store.
#[derive(Default)]
pub(crate) struct Readers {
    /// Where each is, by name. Locked while files are moved or removed: a cursor must not come to need one of them meanwhile.
    pub cursors: Mutex<BTreeMap<String, Cursor>>,
    /// Read lock: opens journal files. Write lock: moves them, in two steps between which a file looks empty.
    pub moving: RwLock<()>,
}
