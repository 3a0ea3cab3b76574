//! How many points of a batch take the place of others: of the same series and instant, in the batch itself, in memory or in partitions.
//!
//! The usual batch is newer than all before it, which the latest instants of its series in each partition show at once. For one that goes back,
//! the overlapping blocks are read, unless these are too many: then no count is reported, rather than a wrong one.

use std::sync::Arc;

use fenetre_core::{
    block::Columns,
    catalogue::FIRST_PART,
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};

use hashbrown::HashMap;

use crate::{engine::Engine, error::StoreError, journal::entry::Entry};

/// The most series and partitions that are looked at together for one batch.
const MAX_LOOKS: usize = 2_000;

/// Blocks of all generations: what is packed and still in memory is found twice, and counts once.
const EVERY_GENERATION: u64 = u64::MAX >> 1;

/// Series of the batch, with their instants in order, each once.
type Instants = Vec<(SeriesId, Vec<Nanos>)>;

/// Counts; none where that is too much to look for.
pub fn count(shared: &Engine, dataset: DatasetId, entry: &Entry) -> Result<Option<u64>, StoreError> {
    let (mut replaced, instants) = within(entry);
    let Some((first, last)) = ends(&instants) else { return Ok(Some(replaced)) };
    let mut older = Vec::new();
    let places: HashMap<SeriesId, usize> = instants.iter().enumerate().map(|(place, (series, _))| (*series, place)).collect();
    for partition in shared.partitions_of(dataset, TimeRange { start: first, end: last.saturating_add(1) }).iter() {
        let inside = instants.iter().filter(|(_, times)| times.last().is_some_and(|last| *last >= partition.span.start));
        let reaching = partition.reaching(inside.filter_map(|(series, times)| Some((*series, *times.first()?))))?;
        older.extend(reaching.into_iter().filter_map(|series| Some((*places.get(&series)?, Arc::clone(partition)))));
        if older.len() > MAX_LOOKS {
            return Ok(None);
        }
    }
    // Instants that are there already, by the place of their series. No snapshot is taken: it would make every buffer note its length.
    let mut found: Vec<Vec<Nanos>> = vec![Vec::new(); instants.len()];
    let generations = shared.head.read().generations();
    for generation in generations {
        let buffers = generation.buffers.read();
        instants.iter().zip(&mut found).for_each(|((series, times), found)| found.extend(buffers.shared(*series, times)));
    }
    for (place, partition) in older {
        let (series, times) = &instants[place];
        let range = TimeRange { start: times[0], end: times[times.len() - 1].saturating_add(1) };
        partition.read(|reading| {
            for block in reading.places(*series, range, EVERY_GENERATION)? {
                let near = times.partition_point(|at| *at < block.start);
                if times.get(near).is_some_and(|at| *at <= block.end) {
                    let mut columns = Columns::default();
                    reading.decode(*series, &block, &mut columns)?;
                    found[place].extend(shared_with(times, &columns.times));
                }
            }
            Ok(())
        })?;
    }
    for mut times in found {
        times.sort_unstable();
        times.dedup();
        replaced += times.len() as u64;
    }
    Ok(Some(replaced))
}

/// How many points the batch itself brings twice, and its instants.
fn within(entry: &Entry) -> (u64, Instants) {
    let mut twice = 0;
    let mut instants = Vec::with_capacity(entry.stretches.len());
    for (series, points) in entry.series().filter(|(series, points)| series.0 < FIRST_PART && !points.is_empty()) {
        let mut times = points.times.to_vec();
        if !times.is_sorted_by(|a, b| a < b) {
            times.sort_unstable();
            times.dedup();
        }
        twice += (points.len() - times.len()) as u64;
        instants.push((series, times));
    }
    (twice, instants)
}

fn ends(instants: &Instants) -> Option<(Nanos, Nanos)> {
    let first = instants.iter().filter_map(|(_, times)| times.first()).min()?;
    let last = instants.iter().filter_map(|(_, times)| times.last()).max()?;
    Some((*first, *last))
}

/// Instants of two lists in order that are in both.
fn shared_with(a: &[Nanos], b: &[Nanos]) -> Vec<Nanos> {
    let mut at = 0;
    let is_in = |time: &&Nanos| {
        at += b[at..].partition_point(|other| other < time);
        b.get(at) == Some(time)
    };
    a.iter().filter(is_in).copied().collect()
}
