//! One turn of the work on a dataset's rollups: windows that are out of date are made again, windows that have closed are made, levels are filled
//! backwards, and windows past a level's limit are removed. Each step begins where the one before ended.

use std::{
    sync::{Arc, atomic::Ordering},
    time::{Duration, Instant},
};

use fenetre_core::{
    evaluate::{Run, Source},
    model::{DatasetId, MetricId, SeriesId},
    rollup::{Roller, Rules, Window},
    time::{Nanos, TimeRange},
};
use jiff::tz::TimeZone;

use fenetre_jobs::{Backoff, Handle, Next};

use crate::{
    changes::Change,
    engine::Engine,
    error::StoreError,
    levels::{DatasetRollups, LevelOf, ResolvedPolicy, files::ROW_WINDOWS, resolve_policies},
    read::{
        source::StoreSource,
        windows::{Members, Side, first_point, whole_windows},
    },
};

const TICK: Duration = Duration::from_millis(500);
const MAX_REST: Duration = Duration::from_secs(20);
/// Windows of each series that one step makes at the most.
const STEP_WINDOWS: Nanos = 2_048;
/// Marks gather for so long before windows are made again: a row is opened once for many of them.
const MARKS_WAIT: Duration = Duration::from_secs(5);
/// Series of one step.
const SERIES_PER_STEP: usize = 64;
/// About so much is filled backwards before anything else is looked at,
const FILL_DAYS: i64 = 7;
/// and never more than this.
const FURTHEST_FILL_DAYS: i64 = 64;
const DAY: Nanos = 86_400_000_000_000;
/// Queries are waited for so long before files go; then the next turn does it.
const NEXT_TURN_WAIT: Duration = Duration::from_millis(200);
const RETRY: Duration = Duration::from_secs(30);

/// Starts the job.
pub fn start(shared: &Arc<Engine>) -> std::io::Result<Handle> {
    let own = Arc::clone(shared);
    shared.jobs.repeat("roller", Backoff { first: TICK, most: RETRY }, move |_| {
        let datasets: Vec<DatasetId> =
            own.catalogue.read().datasets().filter(|dataset| !dataset.rollups.is_empty()).map(|dataset| dataset.id).collect();
        let (mut worked, mut failure, began) = (false, None, Instant::now());
        for dataset in datasets {
            match turn(&own, dataset, own.now(), false) {
                Ok(did) => worked |= did,
                Err(error) => failure = Some(error),
            }
        }
        // With very many series a check takes longer: it is limited to a small part of the time.
        let rest = TICK.max(began.elapsed() * 20).min(MAX_REST);
        failure.map_or(Ok(if worked { Next::Again } else { Next::Rest(rest) }), Err)
    })
}

/// One turn; returns whether there is more to do. With `at_once`, changes are read without waiting for more of them.
pub fn turn(shared: &Engine, dataset: DatasetId, now: Nanos, at_once: bool) -> Result<bool, StoreError> {
    let Some(rollups) = shared.rollups.of(shared, dataset)? else { return Ok(false) };
    if !at_once && rollups.status.lock().retry_at.is_some_and(|at| Instant::now() < at) {
        return Ok(false);
    }
    let _alone = rollups.working.lock();
    let done = match (Turn { shared, dataset, rollups: &rollups, now }).run(at_once) {
        // Somebody waits to be let in; what was begun is begun again.
        Err(StoreError::Stopped) => Ok(!shared.is_stopping()),
        done => done,
    };
    let mut status = rollups.status.lock();
    status.failure = done.as_ref().err().map(ToString::to_string);
    status.retry_at = done.is_err().then(|| Instant::now() + RETRY);
    done
}

/// Points before this may be dropped, because rollups cover them; none without policies, or while backfilling is stopped.
pub fn rolled_before(shared: &Engine, dataset: DatasetId, now: Nanos) -> Result<Option<Nanos>, StoreError> {
    let Some(rollups) = shared.rollups.of(shared, dataset)? else { return Ok(None) };
    if rollups.status.lock().fill_stopped {
        return Ok(None);
    }
    let policies = resolve_policies(&shared.catalogue.read(), dataset);
    let state = rollups.state.read();
    let first = first_point(shared, dataset)?.unwrap_or(Nanos::MAX);
    let mut before = Nanos::MAX;
    for policy in &policies {
        for (at, level) in policy.levels.iter().enumerate() {
            let Some(covered) = state.levels.get(&level.key) else { return Ok(Some(Nanos::MIN)) };
            let kept = level.keep_for.map_or(Nanos::MIN, |span| span.before(now, &TimeZone::UTC));
            if covered.start > first.max(kept) {
                return Ok(Some(Nanos::MIN));
            }
            // Coarser levels are made from the finest.
            if at == 0 {
                before = before.min(covered.end);
            }
        }
    }
    let marked = state.changes.all().map(|change| change.range.start).min();
    Ok(Some(marked.map_or(before, |marked| before.min(marked))))
}

struct Turn<'s> {
    shared: &'s Engine,
    dataset: DatasetId,
    rollups: &'s DatasetRollups,
    now: Nanos,
}

/// What is rolled up in one step: of some series, windows in some ranges.
type Made = Vec<(SeriesId, Rules, Vec<TimeRange>, Vec<Window>)>;

impl Turn<'_> {
    fn run(&self, at_once: bool) -> Result<bool, StoreError> {
        let policies = resolve_policies(&self.shared.catalogue.read(), self.dataset);
        self.note_members(&policies)?;
        let mut more = false;
        let is_due = at_once || self.rollups.status.lock().changes_at.is_none_or(|at| at.elapsed() >= MARKS_WAIT);
        if is_due {
            self.make_again(&policies)?;
            self.rollups.status.lock().changes_at = Some(Instant::now());
        }
        for policy in &policies {
            self.start_levels(policy)?;
            more |= self.extend(policy)?;
            if !self.rollups.status.lock().fill_stopped {
                more |= self.backfill(policy)?;
            }
            self.expire(policy)?;
        }
        self.rollups.note_files(&policies)?;
        Ok(more)
    }

    /// For metrics that joined a policy, all covered time counts as changed: it has no windows of them.
    fn note_members(&self, policies: &[ResolvedPolicy]) -> Result<(), StoreError> {
        for policy in policies {
            let known = self.rollups.state.read().members.get(&policy.name).cloned().unwrap_or_default();
            let reach = self.reach(policy);
            for metric in policy.metrics.iter().filter(|metric| !known.contains(metric)) {
                if let Some(range) = reach {
                    let series = self.shared.series_of(self.dataset, *metric);
                    self.rollups.mark(series.into_iter(), range)?;
                }
                for level in policy.levels.iter().filter(|level| self.covered(level).is_some()) {
                    self.note_whole(level, &[*metric], None)?;
                }
                self.rollups.turn.lock().add_member(&policy.name, *metric)?;
                self.rollups.state.write().members.entry(policy.name.clone()).or_default().push(*metric);
            }
            for metric in known.iter().filter(|metric| !policy.metrics.contains(metric)) {
                self.rollups.turn.lock().remove_member(&policy.name, *metric)?;
                let mut state = self.rollups.state.write();
                state.members.entry(policy.name.clone()).or_default().retain(|known| known != metric);
                state.whole_from.iter_mut().filter(|((of, _), _)| *of == policy.name).for_each(|(_, metrics)| {
                    metrics.remove(metric);
                });
            }
        }
        Ok(())
    }

    /// Keeps from when on a level has all of metrics that are kept for less long than the dataset: where windows were made of finer ones, also what these
    /// have.
    fn note_whole(&self, level: &LevelOf, metrics: &[MetricId], finer: Option<&LevelOf>) -> Result<(), StoreError> {
        let floors = &self.shared.floors;
        let from = |metric: &MetricId| {
            let floor = floors.of(&self.shared.trims, self.dataset, *metric);
            let below = finer.and_then(|finer| {
                let whole = self.rollups.state.read().whole_from.get(&finer.key).and_then(|metrics| metrics.get(metric)).copied();
                Some(self.covered(finer)?.start.max(whole.unwrap_or(Nanos::MIN)))
            });
            let from = below.map_or(floor, |below| below.min(floor));
            (floor > floors.of_dataset(self.dataset) && from > Nanos::MIN).then_some((*metric, from))
        };
        let found: Vec<(MetricId, Nanos)> = metrics.iter().filter_map(from).collect();
        if found.is_empty() {
            return Ok(());
        }
        let mut turn = self.rollups.turn.lock();
        turn.set_whole_from(&level.key, &found)?;
        self.rollups.state.write().whole_from.entry(level.key.clone()).or_default().extend(found);
        Ok(())
    }

    /// The time that any level of a policy covers.
    fn reach(&self, policy: &ResolvedPolicy) -> Option<TimeRange> {
        let state = self.rollups.state.read();
        let ranges: Vec<TimeRange> =
            policy.levels.iter().filter_map(|level| state.levels.get(&level.key).copied()).filter(|range| !range.is_empty()).collect();
        let (start, end) = (ranges.iter().map(|range| range.start).min()?, ranges.iter().map(|range| range.end).max()?);
        Some(TimeRange { start, end })
    }

    /// The series of a policy, as a level of it is made of them.
    fn members<'p>(&'p self, policy: &'p ResolvedPolicy, at: usize) -> Result<Members<'p>, StoreError> {
        let finer = at.checked_sub(1).map(|finer| self.rollups.level_files(&policy.levels[finer])).transpose()?;
        Ok(Members { shared: self.shared, dataset: self.dataset, series: &policy.series, finer })
    }

    /// First instant with points, or with finer windows of points that are no longer kept.
    fn first(&self, policy: &ResolvedPolicy, at: usize, first: Nanos) -> Result<Nanos, StoreError> {
        let Some(finer) = at.checked_sub(1).map(|finer| &policy.levels[finer]) else { return Ok(first) };
        Ok(match self.covered(finer).filter(|covered| !covered.is_empty()) {
            None => first,
            Some(covered) if covered.start > Nanos::MIN => first.min(covered.start),
            Some(_) => self.rollups.level_files(finer)?.first()?.map_or(first, |made| first.min(made)),
        })
    }

    fn covered(&self, level: &LevelOf) -> Option<TimeRange> {
        self.rollups.state.read().levels.get(&level.key).copied()
    }

    fn set_covered(&self, level: &LevelOf, range: TimeRange) -> Result<(), StoreError> {
        let mut turn = self.rollups.turn.lock();
        turn.set_level(&level.key, range)?;
        self.rollups.state.write().levels.insert(level.key.clone(), range);
        Ok(())
    }

    /// A new level covers an empty range at the end of the closed windows.
    fn start_levels(&self, policy: &ResolvedPolicy) -> Result<(), StoreError> {
        for (place, level) in policy.levels.iter().enumerate().filter(|(_, level)| self.covered(level).is_none()) {
            self.note_whole(level, &policy.metrics, place.checked_sub(1).map(|finer| &policy.levels[finer]))?;
            let at = level.level.floor(self.now.saturating_sub(policy.policy.lateness_nanos()));
            self.set_covered(level, TimeRange { start: at, end: at })?;
            let growing = self.shared.head.read().growing().number;
            self.rollups.state.write().begun.insert(level.key.clone(), growing);
        }
        Ok(())
    }

    /// First instant of which points are all there.
    fn raw_from(&self) -> Nanos {
        self.shared.floors.of_dataset(self.dataset)
    }

    /// Makes windows that have closed, from the finest level on.
    fn extend(&self, policy: &ResolvedPolicy) -> Result<bool, StoreError> {
        let mut more = false;
        for (at, level) in policy.levels.iter().enumerate() {
            let Some(covered) = self.covered(level) else { continue };
            if self.is_blocked(level) {
                break;
            }
            let closed = self.now.saturating_sub(policy.policy.lateness_nanos());
            // Packing from here on knows up to where windows are made; earlier points are still in memory, and read from there.
            let noting = self.rollups.turn.lock();
            let mut until = match at.checked_sub(1).and_then(|finer| self.covered(&policy.levels[finer])) {
                Some(finer) if finer.end > covered.end => level.level.floor(finer.end),
                Some(_) => covered.end,
                None => {
                    if level.level.floor(closed) <= covered.end {
                        continue;
                    }
                    // What waits in memory is packed soon: windows that it falls into would have to be made again.
                    let waiting = self.shared.head.read().earliest_from(self.dataset, covered.end);
                    level.level.floor(waiting.map_or(closed, |waiting| closed.min(waiting)))
                }
            };
            self.rollups.state.write().making.insert(level.key.clone(), until);
            drop(noting);
            if until > covered.end {
                let all = TimeRange { start: covered.end, end: until };
                let range = self.members(policy, at)?.part(&level.level, all, STEP_WINDOWS, Side::Start)?;
                (more, until) = (more | (range != all), range.end);
                let generation = self.make(policy, at, range)?;
                self.finish(level, range, TimeRange { end: until, ..covered })?;
                tracing::debug!(level = level.key.1, generation, "rolled up");
            }
        }
        Ok(more)
    }

    /// What was made is brought to stable storage, then it counts.
    fn finish(&self, level: &LevelOf, made: TimeRange, covered: TimeRange) -> Result<(), StoreError> {
        self.rollups.level_files(level)?.sync(made)?;
        self.set_covered(level, covered)
    }

    /// Fills levels backwards, the newest first; returns whether there is more.
    fn backfill(&self, policy: &ResolvedPolicy) -> Result<bool, StoreError> {
        let Some(first_point) = first_point(self.shared, self.dataset)? else { return Ok(false) };
        let raw_from = self.raw_from();
        let mut more = false;
        // First instant that the finer level covers, while it is backfilled itself.
        let mut finer: Option<Nanos> = None;
        for (at, level) in policy.levels.iter().enumerate() {
            let Some(covered) = self.covered(level) else { continue };
            if covered.start == Nanos::MIN || self.is_blocked(level) {
                continue;
            }
            let kept = level.keep_for.map_or(Nanos::MIN, |span| span.before(self.now, &TimeZone::UTC));
            let first = self.first(policy, at, first_point)?;
            let oldest = level.level.floor(first).max(level.level.ceil(raw_from)).max(level.level.floor(kept));
            if covered.start <= oldest {
                // Before the first point of all there is nothing, which needs no windows.
                if raw_from == Nanos::MIN && kept < first {
                    self.set_covered(level, TimeRange { start: Nanos::MIN, ..covered })?;
                }
                finer = None;
                continue;
            }
            more = true;
            let all = TimeRange { start: oldest, end: covered.start };
            let range = self.members(policy, at)?.part(&level.level, all, fill_step(level), Side::End)?;
            let start = range.start;
            // Windows are made of finer ones, a whole row at once, as soon as there are so many.
            if finer.is_some_and(|finer| finer > start) {
                finer = Some(covered.start);
                continue;
            }
            self.make(policy, at, range)?;
            self.finish(level, range, TimeRange { start, ..covered })?;
            finer = (start > oldest).then_some(start);
        }
        Ok(more)
    }

    /// Makes the windows of a level in a range; says from which generations before one.
    fn make(&self, policy: &ResolvedPolicy, at: usize, range: TimeRange) -> Result<u64, StoreError> {
        let mut generation = 0;
        for few in policy.series.chunks(SERIES_PER_STEP) {
            self.continue_or_stop()?;
            let began = Instant::now();
            let of: Vec<(SeriesId, Rules, Vec<TimeRange>)> = few.iter().map(|(id, rules)| (*id, *rules, vec![range])).collect();
            generation = self.step(policy, at, &of)?;
            // Half of the time is left to writes and queries.
            std::thread::park_timeout(began.elapsed().min(Duration::from_millis(200)));
        }
        Ok(generation)
    }

    /// Ends the turn where the store stops, or somebody waits to be let in.
    fn continue_or_stop(&self) -> Result<(), StoreError> {
        let is_wanted = self.shared.is_stopping() || self.rollups.waiting.load(Ordering::Relaxed) > 0;
        if is_wanted { Err(StoreError::Stopped) } else { Ok(()) }
    }

    /// Makes windows of some series in some ranges, from the finer level where it stands for them, else from points.
    fn step(&self, policy: &ResolvedPolicy, at: usize, of: &[(SeriesId, Rules, Vec<TimeRange>)]) -> Result<u64, StoreError> {
        let level = &policy.levels[at];
        let files = self.rollups.level_files(level)?;
        let source = packed(self.shared);
        let generation = source.snapshot.visible_before;
        let finer = at.checked_sub(1).map(|finer| &policy.levels[finer]);
        let finer_covers = |range: &TimeRange| {
            finer.filter(|finer| {
                self.covered(finer).is_some_and(|covered| covered.start <= range.start && range.end <= covered.end && nests(level, finer, *range))
            })
        };
        let mut made: Made = Vec::with_capacity(of.len());
        let is_shared = of.windows(2).all(|pair| pair[0].2 == pair[1].2);
        match of.first().filter(|_| is_shared).map(|(_, _, ranges)| ranges.as_slice()) {
            // Series that are rolled up over the same range are read together: a partition is opened once for all of them.
            Some([range]) if finer_covers(range).is_none() => {
                let mut rollers: Vec<Roller<'_>> = of.iter().map(|(_, rules, _)| Roller::new(&level.level, *rules)).collect();
                let ids: Vec<SeriesId> = of.iter().map(|(id, ..)| *id).collect();
                roll_points(&source, self.dataset, &ids, *range, &mut rollers)?;
                for ((id, rules, ranges), roller) in of.iter().zip(rollers) {
                    made.push((*id, *rules, ranges.clone(), roller.finish()));
                }
            }
            _ => {
                for (id, rules, ranges) in of {
                    let mut windows = Vec::new();
                    for range in ranges {
                        let mut roller = Roller::new(&level.level, *rules);
                        match finer_covers(range) {
                            Some(finer) => self.rollups.level_files(finer)?.windows(*id, *range)?.iter().for_each(|window| roller.add_window(window)),
                            None => roll_points(&source, self.dataset, &[*id], *range, std::slice::from_mut(&mut roller))?,
                        }
                        windows.extend(roller.finish());
                    }
                    made.push((*id, *rules, ranges.clone(), windows));
                }
            }
        }
        let count: usize = made.iter().map(|(.., windows)| windows.len()).sum();
        files.replace(&made, generation)?;
        self.rollups.status.lock().made += count as u64;
        Ok(generation)
    }

    /// Points that were being packed when a level was created leave no changes: wait for them.
    fn is_blocked(&self, level: &LevelOf) -> bool {
        let packed = self.packed_before();
        self.rollups.state.read().begun.get(&level.key).is_some_and(|begun| packed < *begun)
    }

    /// Generations before this are packed.
    fn packed_before(&self) -> u64 {
        let head = self.shared.head.read();
        head.oldest_frozen().unwrap_or(head.growing()).number
    }

    /// Rebuilds windows that are out of date. Changes that are not packed yet stay.
    fn make_again(&self, policies: &[ResolvedPolicy]) -> Result<(), StoreError> {
        let before = self.packed_before();
        let due = self.rollups.state.read().changes.due_before(before);
        let floors = self.shared.floors.of_series(&self.shared.trims, &self.shared.catalogue, self.dataset);
        for few in due.chunks(SERIES_PER_STEP) {
            self.continue_or_stop()?;
            for policy in policies {
                for (at, level) in policy.levels.iter().enumerate() {
                    let Some(covered) = self.covered(level).filter(|covered| !covered.is_empty()) else { continue };
                    let ranges = |(id, changes): &(SeriesId, Vec<Change>)| {
                        let place = policy.series.binary_search_by_key(id, |(known, _)| *known).ok()?;
                        // Windows whose points are no longer all there stay as they are.
                        let within = TimeRange { start: covered.start.max(level.level.ceil(floors.of(*id))), end: covered.end };
                        let whole = whole_windows(&level.level, self.bounded(changes), within);
                        (!whole.is_empty()).then(|| (*id, policy.series[place].1, whole))
                    };
                    let of: Vec<(SeriesId, Rules, Vec<TimeRange>)> = few.iter().filter_map(ranges).collect();
                    let all = || of.iter().flat_map(|(_, _, ranges)| ranges);
                    let Some((start, end)) = all().map(|range| range.start).min().zip(all().map(|range| range.end).max()) else { continue };
                    let marked: Vec<(SeriesId, Rules)> = of.iter().map(|(id, rules, _)| (*id, *rules)).collect();
                    let members = Members { series: &marked, ..self.members(policy, at)? };
                    let mut left = TimeRange { start, end };
                    while !left.is_empty() {
                        let slice = members.part(&level.level, left, STEP_WINDOWS, Side::Start)?;
                        left.start = slice.end;
                        let here = |(id, rules, ranges): &(SeriesId, Rules, Vec<TimeRange>)| {
                            let cut = |range: &TimeRange| TimeRange { start: range.start.max(slice.start), end: range.end.min(slice.end) };
                            let ranges: Vec<TimeRange> = ranges.iter().map(cut).filter(|range| !range.is_empty()).collect();
                            (!ranges.is_empty()).then_some((*id, *rules, ranges))
                        };
                        let here: Vec<_> = of.iter().filter_map(here).collect();
                        if !here.is_empty() {
                            self.step(policy, at, &here)?;
                        }
                    }
                    self.rollups.level_files(level)?.sync(TimeRange { start, end })?;
                }
            }
            self.clear(few)?;
        }
        let is_clean = !due.is_empty() && self.rollups.state.read().changes.is_empty();
        if is_clean { self.rollups.turn.lock().shrink() } else { Ok(()) }
    }

    /// A change over all of time starts at the first partition.
    fn bounded(&self, changes: &[Change]) -> Vec<TimeRange> {
        let partitions = self.shared.partitions_of(self.dataset, TimeRange::ALL);
        let first = partitions.first().map_or(Nanos::MAX, |partition| partition.span.start);
        changes
            .iter()
            .map(|change| TimeRange { start: change.range.start.max(first), end: change.range.end })
            .filter(|range| !range.is_empty())
            .collect()
    }

    fn clear(&self, done: &[(SeriesId, Vec<Change>)]) -> Result<(), StoreError> {
        let ids: Vec<i64> = done.iter().flat_map(|(_, changes)| changes).map(|change| change.id).collect();
        let mut turn = self.rollups.turn.lock();
        turn.clear_changes(&ids)?;
        self.rollups.state.write().changes.clear(done);
        self.rollups.status.lock().made_again += ids.len() as u64;
        Ok(())
    }

    /// Drops expired windows: first the level no longer covers their time, and when earlier queries have ended, their files go.
    fn expire(&self, policy: &ResolvedPolicy) -> Result<(), StoreError> {
        for level in &policy.levels {
            let Some(keep_for) = level.keep_for else { continue };
            let horizon = keep_for.before(self.now, &TimeZone::UTC);
            let files = self.rollups.level_files(level)?;
            let Some(end) = files.due_before(horizon) else { continue };
            if let Some(covered) = self.covered(level).filter(|covered| covered.start < level.level.ceil(end)) {
                let start = level.level.ceil(end);
                self.set_covered(level, TimeRange { start: start.min(covered.end), ..covered })?;
            }
            if self.shared.wait_for_earlier(NEXT_TURN_WAIT) {
                // Only windows that the level no longer covers.
                files.drop_before(end)?;
                tracing::info!(policy = policy.name, level = level.key.1, "dropped expired windows of rollups");
            }
        }
        Ok(())
    }
}

/// How many windows of a level are filled at once: whole rows, since one that grows is written anew; a few days of points at least, and not so many that
/// nothing else is looked at for long.
fn fill_step(level: &LevelOf) -> Nanos {
    let nominal = level.level.nominal();
    let row = nominal.saturating_mul(ROW_WINDOWS as Nanos);
    let rows = (FILL_DAYS * DAY / row).clamp(1, STEP_WINDOWS / ROW_WINDOWS as Nanos);
    row.saturating_mul(rows).min(FURTHEST_FILL_DAYS * DAY).max(nominal) / nominal
}

/// Whether the borders of a level inside a range are borders of a finer one; in zones off by half an hour, days are not made of hours.
fn nests(level: &LevelOf, finer: &LevelOf, range: TimeRange) -> bool {
    let bounds = level.level.bounds(range);
    bounds.iter().all(|border| finer.level.is_border(*border))
}

/// Everything that is packed, and nothing that waits.
pub(super) fn packed(shared: &Engine) -> StoreSource<'_> {
    let snapshot = shared.head.write().packed();
    StoreSource::new(shared, snapshot)
}

/// Feeds the points of some series inside a range to their rollers.
pub(super) fn roll_points(
    source: &StoreSource<'_>,
    dataset: DatasetId,
    ids: &[SeriesId],
    range: TimeRange,
    rollers: &mut [Roller<'_>],
) -> Result<(), StoreError> {
    let mut scratch = fenetre_core::block::Columns::default();
    let scanned = source.scan(dataset, ids, range, &mut |place, run| {
        let points = match run {
            Run::Points(points) => points,
            Run::Windows(..) => return Ok(()),
            Run::Block(block) => {
                scratch.clear();
                block.decode(&mut scratch)?;
                scratch.points()
            }
        };
        rollers[place].add_points(points.slice(points.places_in(range)));
        Ok(())
    });
    scanned.map_err(|error| match error.downcast::<StoreError>() {
        Ok(error) => *error,
        Err(error) => StoreError::Closed(error.to_string()),
    })
}
