//! Rollups at rest: for each dataset, its policies and their levels, files of windows; which stretch each level stands for; and which windows are out
//! of date since points came late, went, or came back.
//!
//! ```text
//! rollup/DATASET/progress.db                    stretches, members, marks
//! rollup/DATASET/POLICY/1h/2026-01-01.db        windows of one level, a year of them
//! ```
//!
//! Windows are made from what is packed. Whatever is packed later into a stretch that a level stands for leaves a mark, on stable storage before the points
//! are; a query takes the points themselves where there is a mark, or where points still wait in memory, until the windows were made again. So an answer from
//! windows is never older than one from points.
//!
//! | file | subject |
//! |---|---|
//! | `progress` | what is told of levels on the disk |
//! | `files` | windows on the disk |
//! | `work` | one turn: windows made again, made new, filled backwards, dropped |
//! | `scan` | windows for queries |
//! | `verify` | whether windows on the disk are those of their points |

mod files;
mod levels;
mod progress;
mod recover;
mod scan;
mod verify;
mod work;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};

use fenetre_core::{
    catalogue::{Catalogue, Dataset},
    model::{DatasetId, MetricId, SeriesId},
    plan::Facts,
    rollup::{Level, RollupPolicy, Rules},
    time::{Nanos, Span, TimeRange},
};
use parking_lot::{Mutex, MutexGuard, RwLock};

use crate::{error::StoreError, files::folder_bytes, head::Sorted, shared::Shared};

use files::DROPPED_TOGETHER;
pub use files::LevelFiles;
pub use levels::{LevelState, level_states};
use progress::Progress;
pub use progress::records_of;
pub use scan::first_point;
pub use verify::verify;
pub use work::{Told, rolled_before, start, turn};

/// A mark: windows of a series that meet this range are out of date.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mark {
    pub range: TimeRange,
    /// The generation that was being packed; 0 where points went or came back.
    pub generation: u64,
    /// By which it is told from others of the same range.
    pub id: i64,
}

/// Which level of which policy.
pub type LevelKey = (String, String);

/// What is known of a dataset's rollups, in memory as on the disk.
#[derive(Clone, Debug, Default)]
pub struct State {
    /// The stretch that each level stands for.
    pub levels: BTreeMap<LevelKey, TimeRange>,
    /// From when on levels have all of some metrics: points before had gone when they were taken.
    pub whole_from: BTreeMap<LevelKey, BTreeMap<MetricId, Nanos>>,
    /// Metrics that each policy takes.
    pub members: BTreeMap<String, Vec<MetricId>>,
    /// Marks of each series.
    pub marks: HashMap<SeriesId, Vec<Mark>>,
    /// Up to where windows of a level are being made.
    pub making: BTreeMap<LevelKey, Nanos>,
    /// The generation that grew when a level was begun: those before it may have been packed without a look at it.
    pub begun: BTreeMap<LevelKey, u64>,
}

/// What a level takes on the disk.
#[derive(Clone, Debug)]
pub struct LevelSize {
    /// Of which policy.
    pub policy: String,
    /// Width of its windows.
    pub width: String,
    /// Bytes of its files, as the file system counts them.
    pub bytes: u64,
    /// Bytes for a day of points; none where it tells of less than an hour.
    pub bytes_a_day: f64,
    /// How many days of it are there at rest, since several weeks go at once; none where it is kept for ever.
    pub held_days: Option<f64>,
    /// Its files, the oldest first.
    pub files: Vec<PathBuf>,
}

/// A level that would be forgotten, and of which something could not be made again.
#[derive(Clone, Debug)]
pub struct LevelLoss {
    /// Width of its windows.
    pub width: String,
    /// Where its first window begins.
    pub from: Nanos,
    /// Points before this have gone.
    pub points_from: Nanos,
}

/// Whether windows that were made for a policy are of no use under another: other series, or other days.
pub fn makes_anew(before: &RollupPolicy, after: &RollupPolicy) -> bool {
    (&before.condition, &before.zone) != (&after.condition, &after.zone)
}

/// The rollups of a dataset.
pub struct DatasetRollups {
    /// Whoever makes or removes windows holds it.
    working: Mutex<()>,
    /// How many wait for the work to let them in.
    waiting: AtomicUsize,
    /// Whoever changes what is told on the disk holds it: a turn of the work, packing, deleting.
    turn: Mutex<Progress>,
    state: RwLock<State>,
    files: RwLock<BTreeMap<LevelKey, Arc<LevelFiles>>>,
    folder: PathBuf,
    told: Mutex<Told>,
}

/// The rollups of all datasets, opened when they are first asked for.
#[derive(Default)]
pub struct Rollups(RwLock<HashMap<DatasetId, Arc<DatasetRollups>>>);

impl Rollups {
    /// Those of a dataset, where it has policies.
    pub fn of(&self, shared: &Shared, id: DatasetId) -> Result<Option<Arc<DatasetRollups>>, StoreError> {
        if let Some(known) = self.0.read().get(&id) {
            return Ok(Some(Arc::clone(known)));
        }
        let folder = {
            let catalogue = shared.catalogue.read();
            let found = catalogue.datasets().find(|dataset| dataset.id == id).filter(|dataset| !dataset.rollups.is_empty());
            found.map(|dataset| shared.files.rollups(&dataset.folder))
        };
        let Some(folder) = folder else { return Ok(None) };
        let mut all = self.0.write();
        if let Some(known) = all.get(&id) {
            return Ok(Some(Arc::clone(known)));
        }
        let recover::Opened { progress, state, lost } = recover::open(&folder)?;
        let opened = Arc::new(DatasetRollups::new(folder, progress, state));
        if let Some(fault) = lost {
            recover::adopt(&opened, shared, id)?;
            shared.note_fault(progress::records_of(&opened.folder), fault);
        }
        opened.look_for_files(shared, id)?;
        all.insert(id, Arc::clone(&opened));
        Ok(Some(opened))
    }
}

/// One level of a policy, as the work knows it.
#[derive(Clone)]
pub struct LevelOf {
    pub key: LevelKey,
    pub level: Level,
    pub keep_for: Option<Span>,
}

/// A policy, and the series that it takes with the rules that theirs are made by.
pub struct Taken {
    pub name: String,
    pub policy: RollupPolicy,
    pub levels: Vec<LevelOf>,
    pub series: Vec<(SeriesId, Rules)>,
    pub metrics: Vec<MetricId>,
}

/// What the policies of a dataset take, as the catalogue stands now.
pub fn taken(catalogue: &Catalogue, id: DatasetId) -> Vec<Taken> {
    let Some(dataset) = catalogue.datasets().find(|dataset| dataset.id == id) else { return Vec::new() };
    dataset.rollups.iter().map(|(name, policy)| taken_by(dataset, name, policy)).collect()
}

fn taken_by(dataset: &Dataset, name: &str, policy: &RollupPolicy) -> Taken {
    let (mut series, mut metrics) = (Vec::new(), Vec::new());
    for metric in dataset.metrics().filter(|metric| policy.takes(metric)) {
        metrics.push(metric.id);
        let facts = Facts::of(metric);
        let (whole, part) = (Rules::of(&facts, false), Rules::of(&facts, true));
        for id in policy.members(dataset, metric) {
            series.push((SeriesId(id), whole));
            let parts = dataset.series(SeriesId(id)).into_iter().flat_map(|one| one.layouts().iter().flat_map(|layout| layout.parts()));
            series.extend(parts.map(|id| (id, part)));
        }
    }
    series.sort_unstable_by_key(|(id, _)| *id);
    let level = |(level, keep_for): (Level, Option<Span>)| LevelOf { key: (name.to_owned(), level.width().to_string()), level, keep_for };
    let levels = policy.levels(dataset).into_iter().map(level).collect();
    Taken { name: name.to_owned(), policy: policy.clone(), levels, series, metrics }
}

/// So many stretches of one series are told apart; more lie close together, or are taken for one.
const MOST_MARKS: usize = 64;

impl DatasetRollups {
    fn new(folder: PathBuf, progress: Progress, state: State) -> Self {
        Self {
            working: Mutex::new(()),
            waiting: AtomicUsize::new(0),
            turn: Mutex::new(progress),
            state: RwLock::new(state),
            files: RwLock::default(),
            folder,
            told: Mutex::default(),
        }
    }

    /// Marks the windows of missing or empty files as out of date: queries use points until the windows are rebuilt.
    fn look_for_files(&self, shared: &Shared, dataset: DatasetId) -> Result<(), StoreError> {
        let known = self.turn.lock().files()?;
        let policies = taken(&shared.catalogue.read(), dataset);
        for policy in &policies {
            for level in &policy.levels {
                let files = self.level_files(shared, level)?;
                for (_, start) in known.iter().filter(|(key, _)| *key == level.key) {
                    let (range, is_filled) = files.file_at(*start);
                    if !is_filled {
                        let from = fenetre_core::time::format_utc(*start);
                        tracing::error!(
                            policy = policy.name,
                            width = level.key.1,
                            from,
                            "a rollup file is missing or empty; queries use points until its windows are rebuilt"
                        );
                        self.mark(policy.series.iter().map(|(id, _)| *id), range)?;
                        self.forget_lost(shared, dataset, (level, &policy.metrics), range)?;
                    }
                }
            }
        }
        self.note_files(shared, &policies)
    }

    /// A level does not cover windows that were in a lost file and whose points are no longer kept: they cannot be made again, and without them the level would
    /// answer as if there had been no points.
    fn forget_lost(&self, shared: &Shared, dataset: DatasetId, (level, metrics): (&LevelOf, &[MetricId]), file: TimeRange) -> Result<(), StoreError> {
        let of_dataset = shared.floors.of_dataset(dataset);
        // Metrics that are kept for less long than the dataset.
        let own = metrics.iter().map(|metric| (*metric, shared.floors.of(shared, dataset, *metric).min(file.end)));
        let own: Vec<(MetricId, Nanos)> = own.filter(|(_, until)| *until > of_dataset.max(file.start)).collect();
        if !own.is_empty() {
            self.turn.lock().set_whole_from(&level.key, &own)?;
            self.state.write().whole_from.entry(level.key.clone()).or_default().extend(own);
        }
        let lost_until = level.level.ceil(file.end.min(of_dataset));
        let covered = self.state.read().levels.get(&level.key).copied();
        let Some(covered) = covered.filter(|covered| covered.start < lost_until && file.start < lost_until) else { return Ok(()) };
        let left = TimeRange { start: lost_until, end: covered.end.max(lost_until) };
        self.turn.lock().set_level(&level.key, left)?;
        self.state.write().levels.insert(level.key.clone(), left);
        let until = fenetre_core::time::format_utc(lost_until);
        shared.note_fault(
            self.level_folder(&level.key),
            format!(
                "{}: a file is missing or empty. Its windows before {until} are lost, because their points are no longer kept: this level covers the time from then on. Restore a backup to get them back",
                self.level_folder(&level.key).display()
            ),
        );
        Ok(())
    }

    /// Records the files that must exist from now on.
    pub fn note_files(&self, shared: &Shared, policies: &[Taken]) -> Result<(), StoreError> {
        let mut there = BTreeSet::new();
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            there.extend(self.level_files(shared, level)?.starts().into_iter().map(|start| (level.key.clone(), start)));
        }
        self.turn.lock().set_files(&there)
    }

    /// Lets nobody else make or remove windows; the work ends early for it, and goes on afterwards.
    pub fn alone(&self) -> MutexGuard<'_, ()> {
        self.waiting.fetch_add(1, Ordering::Relaxed);
        let guard = self.working.lock();
        self.waiting.fetch_sub(1, Ordering::Relaxed);
        guard
    }

    /// How the work goes.
    pub fn told(&self) -> Told {
        self.told.lock().clone()
    }

    /// Stops filling backwards, or lets it go on.
    pub fn stop_filling(&self, is_stopped: bool) {
        self.told.lock().fill_stopped = is_stopped;
    }

    /// Windows in a level's files.
    pub fn windows_of(&self, shared: &Shared, level: &LevelOf) -> Result<u64, StoreError> {
        self.level_files(shared, level)?.count()
    }

    /// What is known now.
    pub fn state(&self) -> State {
        self.state.read().clone()
    }

    fn level_files(&self, shared: &Shared, level: &LevelOf) -> Result<Arc<LevelFiles>, StoreError> {
        if let Some(files) = self.files.read().get(&level.key) {
            return Ok(Arc::clone(files));
        }
        let mut all = self.files.write();
        if let Some(files) = all.get(&level.key) {
            return Ok(Arc::clone(files));
        }
        let files = Arc::new(LevelFiles::open(self.level_folder(&level.key), level.level.clone(), Arc::clone(&shared.pool))?);
        all.insert(level.key.clone(), Arc::clone(&files));
        Ok(files)
    }

    /// Bytes of a level's files.
    pub fn level_bytes(&self, key: &LevelKey) -> u64 {
        folder_bytes(&self.level_folder(key))
    }

    fn level_folder(&self, key: &LevelKey) -> PathBuf {
        self.folder.join(&key.0).join(&key.1)
    }

    /// What each level takes on the disk.
    pub fn sizes(&self, shared: &Shared, dataset: DatasetId) -> Result<Vec<LevelSize>, StoreError> {
        let policies = taken(&shared.catalogue.read(), dataset);
        policies.iter().flat_map(|policy| &policy.levels).map(|level| self.size(shared, level)).collect()
    }

    fn size(&self, shared: &Shared, level: &LevelOf) -> Result<LevelSize, StoreError> {
        const DAY: f64 = 86_400e9;
        let files = self.level_files(shared, level)?;
        let bytes = self.level_bytes(&level.key);
        let end = self.state.read().levels.get(&level.key).map_or(Nanos::MIN, |covered| covered.end);
        // That a file cannot be read is told by whoever reads it, and keeps nobody from seeing what it weighs.
        let days = files.first().unwrap_or_default().map_or(0.0, |first| end.saturating_sub(first) as f64 / DAY);
        let now = shared.now();
        let kept = level.keep_for.map(|span| now.saturating_sub(span.before(now, &jiff::tz::TimeZone::UTC)) as f64 / DAY);
        Ok(LevelSize {
            bytes,
            bytes_a_day: if days * 24.0 >= 1.0 { bytes as f64 / days } else { 0.0 },
            held_days: kept.map(|days| days + DROPPED_TOGETHER as f64 / DAY),
            policy: level.key.0.clone(),
            width: level.key.1.clone(),
            files: files.paths(),
        })
    }

    /// Puts marks where points that are about to be packed fall into what levels stand for. On stable storage when this returns.
    pub fn note_packing(&self, taken: &[Taken], all: &[(SeriesId, Sorted<'_>)], generation: u64) -> Result<(), StoreError> {
        let mut turn = self.turn.lock();
        let mut marks: Vec<(SeriesId, Mark)> = Vec::new();
        {
            let state = self.state.read();
            for policy in taken {
                let Some(finest) = policy.levels.first() else { continue };
                let made = policy.levels.iter().filter_map(|level| state.levels.get(&level.key)).map(|range| range.end);
                let making = policy.levels.iter().filter_map(|level| state.making.get(&level.key)).copied();
                let reach = made.chain(making).max();
                let Some(end) = reach else { continue };
                for (series, points) in all {
                    let times = points.points().times;
                    let late = times.partition_point(|at| *at < end);
                    if late == 0 || policy.series.binary_search_by_key(series, |(id, _)| *id).is_err() {
                        continue;
                    }
                    let ranges = runs(&finest.level, &times[..late]);
                    marks.extend(ranges.into_iter().map(|range| (*series, Mark { range, generation, id: 0 })));
                }
            }
        }
        self.put_marks(&mut turn, marks)
    }

    /// Marks ranges of some series, whatever made them so.
    pub fn mark(&self, series: impl Iterator<Item = SeriesId>, range: TimeRange) -> Result<(), StoreError> {
        let mut turn = self.turn.lock();
        let marks = series.map(|series| (series, Mark { range, generation: 0, id: 0 })).collect();
        self.put_marks(&mut turn, marks)
    }

    fn put_marks(&self, turn: &mut Progress, mut marks: Vec<(SeriesId, Mark)>) -> Result<(), StoreError> {
        if marks.is_empty() {
            return Ok(());
        }
        turn.add_marks(&mut marks)?;
        let mut state = self.state.write();
        for (series, mark) in marks {
            state.marks.entry(series).or_default().push(mark);
        }
        Ok(())
    }

    /// Copies all windows below another folder; gives the copies. `go_on` is asked before each file. Nobody is to make or remove any meanwhile.
    pub fn copy_windows(
        &self,
        shared: &Shared,
        dataset: DatasetId,
        folder: &Path,
        go_on: &mut dyn FnMut() -> bool,
    ) -> Result<Vec<PathBuf>, StoreError> {
        let policies = taken(&shared.catalogue.read(), dataset);
        let mut copies = Vec::new();
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            let folder = folder.join(&level.key.0).join(&level.key.1);
            copies.extend(self.level_files(shared, level)?.copy_to(&folder, go_on)?);
        }
        Ok(copies)
    }

    /// Keeps marks from being put, and with them points from being packed, as long as it is held.
    pub fn quiet(&self) -> Quiet<'_> {
        Quiet(self.turn.lock())
    }

    /// Removes all that was made of some series, for good.
    pub fn erase(&self, shared: &Shared, dataset: DatasetId, series: &[SeriesId]) -> Result<(), StoreError> {
        let _alone = self.alone();
        let policies = taken(&shared.catalogue.read(), dataset);
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            self.level_files(shared, level)?.remove(series)?;
        }
        let mut turn = self.turn.lock();
        let mut state = self.state.write();
        let marks: Vec<i64> = series.iter().filter_map(|id| state.marks.remove(id)).flatten().map(|mark| mark.id).collect();
        turn.clear_marks(&marks)
    }

    /// What would be lost for good if a policy were changed, or dropped: levels that go, that tell of points that have gone, and that no finer level stays for.
    pub fn losses(&self, shared: &Shared, dataset: DatasetId, name: &str, after: Option<&RollupPolicy>) -> Result<Vec<LevelLoss>, StoreError> {
        let Some(policy) = taken(&shared.catalogue.read(), dataset).into_iter().find(|policy| policy.name == name) else { return Ok(Vec::new()) };
        let after = after.filter(|after| !makes_anew(&policy.policy, after));
        let stays = |level: &LevelOf| after.is_some_and(|after| after.levels.iter().any(|kept| kept.width.to_string() == level.key.1));
        let members = self.state.read().members.get(name).cloned().unwrap_or_default();
        let points_from = members.iter().map(|metric| shared.floors.of(shared, dataset, *metric)).max().unwrap_or(Nanos::MIN);
        let (mut losses, mut kept_from) = (Vec::new(), None::<Nanos>);
        for level in &policy.levels {
            let Some(from) = self.level_files(shared, level)?.first()? else { continue };
            if stays(level) {
                kept_from = Some(kept_from.map_or(from, |known| known.min(from)));
            } else if from < points_from && kept_from.is_none_or(|kept| from < level.level.floor(kept)) {
                losses.push(LevelLoss { width: level.key.1.clone(), from, points_from });
            }
        }
        Ok(losses)
    }

    /// Forgets a policy with all that was made for it.
    pub fn forget(&self, shared: &Shared, policy: &str) -> Result<(), StoreError> {
        let _alone = self.alone();
        {
            let mut turn = self.turn.lock();
            turn.forget(policy)?;
            let mut state = self.state.write();
            state.levels.retain(|(of, _), _| of != policy);
            state.whole_from.retain(|(of, _), _| of != policy);
            state.members.remove(policy);
        }
        self.remove(shared, |(of, _)| of == policy)?;
        remove_folder(&self.folder.join(policy))
    }

    /// Forgets levels that a policy has no more.
    pub fn keep_levels(&self, shared: &Shared, policy: &str, widths: &[String]) -> Result<(), StoreError> {
        let is_gone = |(of, width): &LevelKey| of == policy && !widths.contains(width);
        let _alone = self.alone();
        {
            let mut turn = self.turn.lock();
            let mut state = self.state.write();
            let gone: Vec<LevelKey> = state.levels.keys().filter(|key| is_gone(key)).cloned().collect();
            for key in &gone {
                turn.forget_level(key)?;
                state.levels.remove(key);
                state.whole_from.remove(key);
            }
            if gone.is_empty() {
                return Ok(());
            }
        }
        self.remove(shared, is_gone)
    }

    /// Removes the files of levels that no new query asks. Those that ask them still are waited for a while; whoever takes longer is told.
    fn remove(&self, shared: &Shared, is_gone: impl Fn(&LevelKey) -> bool) -> Result<(), StoreError> {
        shared.wait_for_earlier(PATIENCE);
        let gone: Vec<(LevelKey, Arc<LevelFiles>)> = self.files.write().extract_if(.., |key, _| is_gone(key)).collect();
        for (key, files) in gone {
            files.close();
            remove_folder(&self.level_folder(&key))?;
        }
        Ok(())
    }
}

/// How long queries are waited for before what they ask is removed.
const PATIENCE: Duration = Duration::from_secs(5);

/// Keeps marks from being put.
pub struct Quiet<'r>(MutexGuard<'r, Progress>);

impl Quiet<'_> {
    /// Copies what is told of levels into a folder; gives the copy.
    pub fn copy_to(&self, folder: &Path) -> Result<PathBuf, StoreError> {
        use crate::error::Context;
        std::fs::create_dir_all(folder).at("create the folder", folder)?;
        let progress = folder.join("progress.db");
        crate::files::remove_file(&progress)?;
        self.0.copy_to(&progress)?;
        Ok(progress)
    }
}

fn remove_folder(folder: &Path) -> Result<(), StoreError> {
    use crate::error::Context;
    match std::fs::remove_dir_all(folder) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", folder),
        _ => Ok(()),
    }
}

/// Windows that some instants, in order, fall into, neighbours as one range; where these are very many, the nearest are joined.
pub fn runs(level: &Level, times: &[Nanos]) -> Vec<TimeRange> {
    let mut ranges: Vec<TimeRange> = Vec::new();
    let mut at = 0;
    while at < times.len() {
        let start = level.floor(times[at]);
        let end = level.after(start);
        match ranges.last_mut() {
            Some(last) if last.end >= start => last.end = end,
            _ => ranges.push(TimeRange { start, end }),
        }
        at += times[at..].partition_point(|time| *time < end).max(1);
    }
    let mut apart = level.nominal();
    while ranges.len() > MOST_MARKS {
        apart = apart.saturating_mul(2);
        ranges = ranges.into_iter().fold(Vec::new(), |mut joined: Vec<TimeRange>, range| {
            match joined.last_mut() {
                Some(last) if range.start.saturating_sub(last.end) <= apart => last.end = range.end,
                _ => joined.push(range),
            }
            joined
        });
    }
    ranges
}

#[cfg(test)]
mod tests {
    use fenetre_core::time::SECOND;

    use super::*;

    #[test]
    fn instants_become_few_ranges_of_whole_windows() {
        let level = Level::new(Span::exact(60 * SECOND), jiff::tz::TimeZone::UTC).unwrap();
        let minute = |from: i64, to: i64| TimeRange { start: from * 60 * SECOND, end: to * 60 * SECOND };
        assert_eq!(runs(&level, &[1, 61 * SECOND, 62 * SECOND, 300 * SECOND]), [minute(0, 2), minute(5, 6)]);
        let scattered: Vec<Nanos> = (0..10_000).map(|at| at * 7_200 * SECOND).collect();
        let ranges = runs(&level, &scattered);
        assert!(ranges.len() <= MOST_MARKS && scattered.iter().all(|at| ranges.iter().any(|range| range.contains(*at))));
    }
}
