//! Acknowledged points that are not packed yet, in memory, and consistent views of them.
//!
//! The head is a row of generations. Points are appended to the last one; those before it are being packed. A generation's number is
//! that of its journal file, and of the blocks that it becomes.
//!
//! A [`Snapshot`] holds the generations of its moment. The last one still grows, so each buffer notes how long it was when it first
//! grew after a snapshot, and a reader looks no further than that. What a query sees is thus one moment over all of its series.

use std::{
    collections::{BTreeMap, BTreeSet, VecDeque},
    sync::Arc,
};

use fenetre_core::{
    block::{Columns, Points},
    evaluate::End,
    model::{DatasetId, SeriesId},
    rollup::Level,
    summary::Sample,
    time::{Nanos, TimeRange},
};
use hashbrown::HashMap;
use parking_lot::{Mutex, RwLock};

use crate::{
    journal::entry::Journaled,
    partition::merge::{in_order, merge},
    span::Span,
};

/// Bytes that a buffer takes beside its points, the map's share included.
const BUFFER_BYTES: usize = 192;

/// Points of one series in order of arrival.
#[derive(Debug)]
struct Buffer {
    dataset: DatasetId,
    columns: Columns,
    /// Whether times only ascend, so that a range can be found by halving.
    ascending: bool,
    /// The latest instant.
    latest: Nanos,
    /// Numbers of snapshots, each with how many points there were when the buffer first grew after it.
    marks: Vec<(u64, usize)>,
}

/// The buffers of one generation.
#[derive(Debug, Default)]
pub struct Buffers {
    by_series: HashMap<SeriesId, Buffer>,
    points: usize,
    bytes: usize,
    weeks: BTreeSet<Span>,
}

/// Points that came between two rotations of the journal.
#[derive(Debug)]
pub struct Generation {
    /// That of its journal file.
    pub number: u64,
    pub buffers: RwLock<Buffers>,
}

impl Generation {
    pub fn new(number: u64) -> Arc<Self> {
        Arc::new(Self { number, buffers: RwLock::default() })
    }
}

impl Buffers {
    pub fn points(&self) -> usize {
        self.points
    }

    /// Bytes of memory that they take, about.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// How many points a series has in a week, on an average over all series and weeks that have any: about as many as its blocks would.
    pub fn points_a_piece(&self) -> usize {
        self.points / (self.by_series.len() * self.weeks.len()).max(1)
    }

    /// Appends a batch. `snapshot` is the number of the last snapshot that anybody may still look at, if there is one.
    pub fn append(&mut self, journaled: &Journaled, snapshot: Option<u64>) {
        let Journaled { dataset, entry } = journaled;
        let mut week: Option<Span> = None;
        for time in &entry.columns.times {
            if !week.is_some_and(|week| week.start <= *time && *time <= week.last()) {
                self.weeks.insert(*week.insert(Span::week_of(*time)));
            }
        }
        for (series, points) in entry.series() {
            let buffer = self.by_series.entry(series).or_insert_with(|| {
                self.bytes += BUFFER_BYTES;
                Buffer { dataset: *dataset, columns: Columns::default(), ascending: true, latest: Nanos::MIN, marks: Vec::new() }
            });
            let before = buffer.bytes();
            buffer.append(points, snapshot);
            self.points += points.len();
            self.bytes += buffer.bytes().saturating_sub(before);
        }
    }

    /// The outermost point of a series inside a range, as it was at a snapshot.
    fn outermost(&self, series: SeriesId, range: TimeRange, snapshot: u64, end: End) -> Option<Sample> {
        self.by_series.get(&series)?.outermost(range, snapshot, end)
    }

    /// The points of a series inside a range, in order, as they were at a snapshot.
    fn columns(&self, series: SeriesId, range: TimeRange, snapshot: u64) -> Columns {
        self.by_series.get(&series).map_or_else(Columns::default, |buffer| buffer.columns(range, snapshot))
    }

    /// How many points a series has inside a range, those that came twice counted twice.
    fn count(&self, series: SeriesId, range: TimeRange, snapshot: u64) -> usize {
        let Some(buffer) = self.by_series.get(&series) else { return 0 };
        let points = buffer.seen_at(snapshot);
        if buffer.ascending { points.places_in(range).len() } else { points.times.iter().filter(|at| range.contains(**at)).count() }
    }

    fn touched(&self, series: SeriesId, range: TimeRange, snapshot: u64, level: &Level) -> Vec<TimeRange> {
        let Some(buffer) = self.by_series.get(&series) else { return Vec::new() };
        let points = buffer.seen_at(snapshot);
        if buffer.ascending {
            return level.runs(&points.times[points.places_in(range)]);
        }
        let mut inside: Vec<Nanos> = points.times.iter().copied().filter(|at| range.contains(*at)).collect();
        inside.sort_unstable();
        level.runs(&inside)
    }

    fn earliest_from(&self, dataset: DatasetId, at: Nanos) -> Option<Nanos> {
        let of = |buffer: &Buffer| {
            let times = &buffer.columns.times;
            if buffer.ascending {
                times.get(times.partition_point(|time| *time < at)).copied()
            } else {
                times.iter().filter(|time| **time >= at).min().copied()
            }
        };
        self.by_series.values().filter(|buffer| buffer.dataset == dataset && buffer.latest >= at).filter_map(of).min()
    }

    /// Those of some instants, in order, at which a series has points here.
    pub fn shared(&self, series: SeriesId, times: &[Nanos]) -> Vec<Nanos> {
        let Some(buffer) = self.by_series.get(&series) else { return Vec::new() };
        let (Some(first), Some(last)) = (times.first(), times.last()) else { return Vec::new() };
        // The usual batch is newer than everything before it.
        if buffer.latest < *first {
            return Vec::new();
        }
        let here = &buffer.columns.times;
        let near = if buffer.ascending { &here[here.partition_point(|at| at < first)..here.partition_point(|at| at <= last)] } else { here };
        near.iter().filter(|at| times.binary_search(at).is_ok()).copied().collect()
    }

    /// The series that have points here, by dataset and id.
    pub fn series(&self) -> Vec<(DatasetId, SeriesId)> {
        let mut series: Vec<_> = self.by_series.iter().map(|(series, buffer)| (buffer.dataset, *series)).collect();
        series.sort_unstable();
        series
    }

    /// All points of a series in order: as they are where they came so, else sorted.
    pub fn sorted(&self, series: SeriesId) -> Option<Sorted<'_>> {
        let buffer = self.by_series.get(&series)?;
        Some(if buffer.ascending { Sorted::AsTheyCame(buffer.columns.points()) } else { Sorted::Anew(in_order(buffer.columns.points())) })
    }
}

/// Points in order of time.
pub enum Sorted<'b> {
    AsTheyCame(Points<'b>),
    Anew(Columns),
}

impl Sorted<'_> {
    pub fn points(&self) -> Points<'_> {
        match self {
            Self::AsTheyCame(points) => *points,
            Self::Anew(columns) => columns.points(),
        }
    }
}

impl Buffer {
    fn bytes(&self) -> usize {
        self.columns.times.capacity() * 16 + self.columns.rests.capacity() * 2 + self.marks.capacity() * 16
    }

    fn append(&mut self, points: Points<'_>, snapshot: Option<u64>) {
        match snapshot {
            Some(number) if self.marks.last().is_none_or(|(marked, _)| *marked < number) => self.marks.push((number, self.columns.len())),
            Some(_) => {}
            None => self.marks.clear(),
        }
        let mut last = self.columns.times.last().copied();
        for time in points.times {
            self.ascending &= last.is_none_or(|last| last < *time);
            last = Some(*time);
            self.latest = self.latest.max(*time);
        }
        self.columns.extend(points);
    }

    /// What was there at a snapshot, in order of arrival.
    fn seen_at(&self, snapshot: u64) -> Points<'_> {
        let first_after = self.marks.partition_point(|(number, _)| *number < snapshot);
        let length = self.marks.get(first_after).map_or(self.columns.len(), |(_, length)| *length);
        self.columns.points().slice(0..length)
    }

    /// The outermost point inside a range; of one instant the later arrival.
    fn outermost(&self, range: TimeRange, snapshot: u64, end: End) -> Option<Sample> {
        let points = self.seen_at(snapshot);
        let places = if self.ascending { points.places_in(range) } else { 0..points.len() };
        let at = match (self.ascending, end) {
            (true, End::Latest) => places.last()?,
            (true, End::Earliest) => places.into_iter().next()?,
            (false, End::Latest) => places.filter(|at| range.contains(points.times[*at])).max_by_key(|at| (points.times[*at], *at))?,
            (false, End::Earliest) => {
                places.filter(|at| range.contains(points.times[*at])).min_by_key(|at| (points.times[*at], std::cmp::Reverse(*at)))?
            }
        };
        Some(Sample { time: points.times[at], value: points.values[at], rest: points.rest(at) })
    }

    fn columns(&self, range: TimeRange, snapshot: u64) -> Columns {
        let points = self.seen_at(snapshot);
        if self.ascending {
            return points.slice(points.places_in(range)).to_columns();
        }
        let mut inside = Columns::default();
        let places = (0..points.len()).filter(|at| range.contains(points.times[*at]));
        places.for_each(|at| inside.push(points.times[at], points.values[at], points.rest(at)));
        in_order(inside.points())
    }
}

/// All generations, oldest first; the last one grows.
#[derive(Debug)]
pub struct Head {
    generations: VecDeque<Arc<Generation>>,
    growing: Arc<Generation>,
    snapshots: u64,
    live: Arc<Live>,
}

/// Which blocks the snapshots that are still held can see.
#[derive(Debug, Default)]
pub struct Live(Mutex<BTreeMap<u64, usize>>);

impl Live {
    /// Blocks of generations before this one may be merged with each other: every snapshot sees them all.
    pub fn settled_before(&self, newest: u64) -> u64 {
        self.0.lock().keys().next().copied().map_or(newest, |oldest| oldest.min(newest))
    }
}

/// The points of one moment.
#[derive(Debug)]
pub struct Snapshot {
    number: u64,
    generations: Vec<Arc<Generation>>,
    /// Blocks of this generation and later ones are not of this moment: their points are in `generations`, or came later.
    pub visible_before: u64,
    live: Arc<Live>,
}

impl Head {
    /// A head with generations that were read back, and one that grows.
    pub fn new(recovered: Vec<Arc<Generation>>, growing: Arc<Generation>) -> Self {
        Self { generations: recovered.into(), growing, snapshots: 0, live: Arc::default() }
    }

    pub fn points(&self) -> usize {
        self.all().map(|generation| generation.buffers.read().points()).sum()
    }

    /// Bytes of memory of all generations, about.
    pub fn bytes(&self) -> usize {
        self.all().map(|generation| generation.buffers.read().bytes()).sum()
    }

    pub fn live(&self) -> Arc<Live> {
        Arc::clone(&self.live)
    }

    /// The generation that grows.
    pub fn growing(&self) -> &Arc<Generation> {
        &self.growing
    }

    /// The oldest generation that waits to be packed.
    pub fn oldest_frozen(&self) -> Option<&Arc<Generation>> {
        self.generations.front()
    }

    fn all(&self) -> impl Iterator<Item = &Arc<Generation>> {
        self.generations.iter().chain([&self.growing])
    }

    /// Appends batches; a later snapshot sees all of them, an earlier one none.
    pub fn append<'j>(&mut self, batches: impl Iterator<Item = &'j Journaled>) {
        let held = !self.live.0.lock().is_empty();
        let mut buffers = self.growing.buffers.write();
        batches.for_each(|journaled| buffers.append(journaled, held.then_some(self.snapshots)));
    }

    /// Sets the growing generation aside, to be packed, and begins the next.
    pub fn freeze(&mut self, next: u64) {
        self.generations.push_back(std::mem::replace(&mut self.growing, Generation::new(next)));
    }

    /// Forgets the oldest frozen generation, which is packed.
    pub fn forget_oldest(&mut self) {
        self.generations.pop_front();
    }

    /// All generations of this moment, which go on changing.
    pub fn generations(&self) -> Vec<Arc<Generation>> {
        self.all().map(Arc::clone).collect()
    }

    /// The points of this moment.
    pub fn snapshot(&mut self) -> Snapshot {
        self.snapshots += 1;
        let generations: Vec<_> = self.all().map(Arc::clone).collect();
        let visible_before = generations.first().map_or(0, |oldest| oldest.number);
        *self.live.0.lock().entry(visible_before).or_default() += 1;
        Snapshot { number: self.snapshots, generations, visible_before, live: Arc::clone(&self.live) }
    }
}

impl Head {
    /// The packed points of this moment, and nothing that waits to be packed.
    pub fn packed(&mut self) -> Snapshot {
        let whole = self.snapshot();
        let packed = Snapshot { number: whole.number, generations: Vec::new(), visible_before: whole.visible_before, live: Arc::clone(&whole.live) };
        *self.live.0.lock().entry(packed.visible_before).or_default() += 1;
        packed
    }

    /// The earliest point of a dataset at or after an instant that waits to be packed.
    pub fn earliest_from(&self, dataset: DatasetId, at: Nanos) -> Option<Nanos> {
        self.all().filter_map(|generation| generation.buffers.read().earliest_from(dataset, at)).min()
    }
}

impl Snapshot {
    /// The points of a series inside a range that are in memory, in order, the later arrival winning.
    pub fn columns(&self, series: SeriesId, range: TimeRange) -> Columns {
        let mut all = Columns::default();
        for generation in &self.generations {
            let columns = generation.buffers.read().columns(series, range, self.number);
            if all.is_empty() {
                all = columns;
            } else if !columns.is_empty() {
                all = merge(all.points(), columns.points());
            }
        }
        all
    }

    /// How many points of a series inside a range are in memory, those that came twice counted twice.
    pub fn count(&self, series: SeriesId, range: TimeRange) -> usize {
        self.generations.iter().map(|generation| generation.buffers.read().count(series, range, self.number)).sum()
    }

    /// Windows of a level that points of a series in memory fall into, as ranges in any order.
    pub fn touched(&self, series: SeriesId, range: TimeRange, level: &Level) -> Vec<TimeRange> {
        let of = |generation: &Arc<Generation>| generation.buffers.read().touched(series, range, self.number, level);
        self.generations.iter().flat_map(of).collect()
    }

    /// The outermost point of a series inside a range that is in memory; of one instant the later arrival.
    pub fn outermost(&self, series: SeriesId, range: TimeRange, end: End) -> Option<Sample> {
        let of = |generation: &Arc<Generation>| generation.buffers.read().outermost(series, range, self.number, end);
        // Generations are in order of arrival, and the last of several greatest counts, and the first of several least.
        match end {
            End::Latest => self.generations.iter().filter_map(of).max_by_key(|sample| sample.time),
            End::Earliest => self.generations.iter().rev().filter_map(of).min_by_key(|sample| sample.time),
        }
    }

    /// The series of a dataset that have points in memory.
    pub fn series_of(&self, dataset: DatasetId) -> Vec<SeriesId> {
        let of = |generation: &Arc<Generation>| generation.buffers.read().series();
        let all = self.generations.iter().flat_map(of).filter(|(of, _)| *of == dataset);
        let mut series: Vec<SeriesId> = all.map(|(_, series)| series).collect();
        series.sort_unstable();
        series.dedup();
        series
    }
}

impl Drop for Snapshot {
    fn drop(&mut self) {
        let mut live = self.live.0.lock();
        if let Some(count) = live.get_mut(&self.visible_before) {
            *count -= 1;
            if *count == 0 {
                live.remove(&self.visible_before);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::journal::entry::tests::entry;

    const DATASET: DatasetId = DatasetId(1);

    fn batch(series: u32, points: &[(Nanos, f64)]) -> Journaled {
        let points: Vec<(Nanos, f64, i16)> = points.iter().map(|(at, value)| (*at, *value, 0)).collect();
        Journaled { dataset: DATASET, entry: entry(&[(series, &points)]) }
    }

    fn read(snapshot: &Snapshot, series: u32, range: TimeRange) -> Vec<(Nanos, f64)> {
        let columns = snapshot.columns(SeriesId(series), range);
        columns.times.into_iter().zip(columns.values).collect()
    }

    proptest! {
        #[test]
        fn every_snapshot_equals_the_map_of_its_instant(
            batches in prop::collection::vec((0u32..2, prop::collection::vec((0i64..40, 0f64..9.0), 1..10)), 1..12), freeze_at in 0usize..12, start in 0i64..40, length in 0i64..40,
        ) {
            let mut head = Head::new(Vec::new(), Generation::new(1));
            let mut map: BTreeMap<(u32, Nanos), f64> = BTreeMap::new();
            let mut moments = vec![(head.snapshot(), map.clone())];
            for (i, (series, points)) in batches.iter().enumerate() {
                if i == freeze_at {
                    head.freeze(2);
                }
                head.append([&batch(*series, points)].into_iter());
                points.iter().for_each(|(at, value)| { map.insert((*series, *at), *value); });
                moments.push((head.snapshot(), map.clone()));
                // Some are given up on the way, so that those after them do not depend on them.
                if i % 3 == 1 { moments.remove(moments.len() / 2); }
            }
            let range = TimeRange { start, end: start + length };
            for (snapshot, map) in &moments {
                for series in 0..2 {
                    let wanted: Vec<(Nanos, f64)> = map.iter().filter(|((s, at), _)| *s == series && range.contains(*at)).map(|((_, at), value)| (*at, *value)).collect();
                    let count = snapshot.count(SeriesId(series), range);
                    prop_assert!(count >= wanted.len() && (count == 0) == wanted.is_empty());
                    prop_assert_eq!(read(snapshot, series, range), wanted);
                }
            }
            prop_assert_eq!(head.points(), batches.iter().map(|(_, points)| points.len()).sum::<usize>());
            prop_assert!(head.bytes() >= head.points() * 16);
        }
    }

    #[test]
    fn snapshots_keep_packed_points() {
        let mut head = Head::new(Vec::new(), Generation::new(7));
        head.append([&batch(1, &[(1, 1.0)])].into_iter());
        let before = head.snapshot();
        head.freeze(8);
        assert_eq!(head.live().settled_before(8), 7);
        head.forget_oldest();
        let after = head.snapshot();
        assert_eq!((read(&before, 1, TimeRange::ALL).len(), before.visible_before), (1, 7));
        assert_eq!((read(&after, 1, TimeRange::ALL).len(), after.visible_before), (0, 8));
        assert_eq!(before.series_of(DATASET), [SeriesId(1)]);
        drop(before);
        assert_eq!(head.live().settled_before(9), 8);
        drop(after);
        assert_eq!(head.live().settled_before(9), 9);
    }
}
