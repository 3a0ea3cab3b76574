//! How many points of a batch take the place of others: of the same series and instant, in the batch itself, in memory or in partitions.
//!
//! The usual batch is newer than all before it, which the latest instants of buffers and partitions show at once. For one that goes back,
//! the blocks that it meets are looked at, unless these are too many: then nothing is said, rather than something wrong.

use fenetre_core::{
    block::Columns,
    catalogue::FIRST_PART,
    model::{DatasetId, SeriesId},
    time::{Nanos, TimeRange},
};

use crate::{entry::Entry, error::StoreError, shared::Shared};

/// The most series and partitions that are looked at together for one batch.
const MOST_LOOKS: usize = 2_000;

/// Series of the batch, with their instants in order, each once.
type Instants = Vec<(SeriesId, Vec<Nanos>)>;

/// Counts; none where that is too much to look for.
pub fn count(shared: &Shared, dataset: DatasetId, entry: &Entry) -> Result<Option<u64>, StoreError> {
    let (mut replaced, instants) = within(entry);
    let Some((first, last)) = ends(&instants) else { return Ok(Some(replaced)) };
    let snapshot = shared.snapshot();
    let mut older = Vec::new();
    for partition in shared.partitions_of(dataset, TimeRange { start: first, end: last.saturating_add(1) }) {
        let latest = partition.latest()?;
        let meets = |times: &Vec<Nanos>| {
            times.first().is_some_and(|first| *first <= latest) && times.last().is_some_and(|last| *last >= partition.span.start)
        };
        older.extend(instants.iter().enumerate().filter(|(_, (_, times))| meets(times)).map(|(place, _)| (place, std::sync::Arc::clone(&partition))));
        if older.len() > MOST_LOOKS {
            return Ok(None);
        }
    }
    // Instants that are there already, by the place of their series.
    let mut found: Vec<Vec<Nanos>> = vec![Vec::new(); instants.len()];
    for (place, (series, times)) in instants.iter().enumerate() {
        let range = TimeRange { start: times[0], end: times[times.len() - 1].saturating_add(1) };
        found[place] = shared_with(times, &snapshot.columns(*series, range).times);
    }
    for (place, partition) in older {
        let (series, times) = &instants[place];
        let range = TimeRange { start: times[0], end: times[times.len() - 1].saturating_add(1) };
        partition.read(|reading| {
            for block in reading.places(*series, range, snapshot.visible_before)? {
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
