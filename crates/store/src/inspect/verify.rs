//! Whether files are as they were written: SQLite's own check of each file, the checksum of each block, and each summary against its points. Repairs nothing.

use std::path::Path;

use fenetre_core::{block::Columns, model::DatasetId, summary::Summary, time::format_utc};

use crate::{
    disk::sqlite::{self, Use},
    engine::Engine,
    error::{Context, StoreError},
    levels,
    partition::Partition,
};

/// What a look at every block of a partition found.
#[derive(Clone, Debug, Default)]
pub struct Verified {
    /// Blocks that were looked at, or rows of windows.
    pub blocks: u64,
    /// Points in them; of windows, those that were found to agree with them.
    pub points: u64,
    /// Windows in them.
    pub windows: u64,
    /// What is wrong, a sentence each; the first hundred.
    pub faults: Vec<String>,
    /// How many there are.
    pub faulty: u64,
}

const MAX_FAULTS: usize = 100;

impl Verified {
    pub(crate) fn add_fault(&mut self, fault: String) {
        self.faulty += 1;
        if self.faults.len() < MAX_FAULTS {
            self.faults.push(fault);
        }
    }
}

/// Checks the catalogue, and the records of each dataset's rollups.
pub fn verify_records(store: &Engine) -> Result<Verified, StoreError> {
    let mut found = Verified::default();
    let catalogue = store.files.catalogue();
    store.definitions.check_integrity()?.into_iter().for_each(|fault| found.add_fault(format!("{}: {fault}", catalogue.display())));
    let folders: Vec<String> = store.catalogue.read().datasets().map(|dataset| dataset.folder.to_string()).collect();
    for path in folders.iter().map(|folder| levels::records_of(&store.files.rollups(folder))).filter(|path| path.exists()) {
        check_integrity(&path, Use::Records, &mut found);
    }
    Ok(found)
}

/// Runs SQLite's own check of a file, which also compares its indexes with its tables.
pub fn check_integrity(path: &Path, file_use: Use, found: &mut Verified) {
    let faults = sqlite::open(path, file_use).and_then(|connection| sqlite::check_integrity(&connection).at("read", path));
    match faults {
        Ok(faults) => faults.into_iter().for_each(|fault| found.add_fault(format!("{}: {fault}", path.display()))),
        Err(error) => found.add_fault(error.to_string()),
    }
}

/// Decodes every block of a partition, and compares what its summary and its row say with its points.
pub fn verify(store: &Engine, dataset: DatasetId, partition: &Partition) -> Result<Verified, StoreError> {
    let is_counter = store.counters(dataset);
    let mut found = Verified::default();
    let name = partition.path().display();
    partition.read(|reading| {
        reading.all_places(u64::MAX >> 1, |series, places| {
            for place in places {
                let mut points = Columns::default();
                found.blocks += 1;
                let fault = match (reading.decode(series, place, &mut points), reading.summary(place)) {
                    (Err(error), _) | (_, Err(error)) => Some(error.to_string()),
                    (Ok(()), Ok(stored)) => {
                        found.points += points.len() as u64;
                        let made = if is_counter(series) && stored.growth.is_some() {
                            Summary::of_counter(points.points())
                        } else {
                            Summary::of(points.points())
                        };
                        let agrees = made.is_some_and(|made| agree(&made, &stored)) && place.count == points.len() as u64;
                        (!agrees).then(|| {
                            format!(
                                "{name}: the block of series {} from {}: its summary is not that of its points",
                                series.0,
                                format_utc(place.start)
                            )
                        })
                    }
                };
                fault.into_iter().for_each(|fault| found.add_fault(fault));
            }
            Ok(())
        })
    })?;
    Ok(found)
}

/// Whether two summaries say the same, but for the last digits of sums.
fn agree(a: &Summary, b: &Summary) -> bool {
    let close = |a: f64, b: f64| a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-9 * a.abs().max(b.abs()).max(1.0);
    let growth = match (a.growth, b.growth) {
        (Some(a), Some(b)) => close(a, b),
        (_, None) => true,
        (None, Some(_)) => true,
    };
    let same = |a: f64, b: f64| a == b || (a.is_nan() && b.is_nan());
    close(a.sum, b.sum)
        && growth
        && a.count == b.count
        && same(a.min, b.min)
        && same(a.max, b.max)
        && a.first.time == b.first.time
        && a.last.time == b.last.time
        && same(a.first.value, b.first.value)
        && same(a.last.value, b.last.value)
}
