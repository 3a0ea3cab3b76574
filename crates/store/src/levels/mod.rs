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

pub mod files;
pub mod records;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Instant,
};

use fenetre_core::{
    catalogue::{Catalogue, Dataset},
    model::{DatasetId, MetricId, MetricTraits, RollupPolicy, SeriesId},
    rollup::{Level, Rules},
    time::{Nanos, Span, TimeRange},
};
use parking_lot::{Mutex, MutexGuard, RwLock};

use crate::{
    catalogue::definitions::SharedCatalogue,
    disk::{files::folder_bytes, pool::Pool},
    error::StoreError,
    head::Sorted,
};

use files::DROPPED_TOGETHER;
pub use files::LevelFiles;
use records::Progress;
pub use records::records_of;

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

/// How the work on a dataset goes.
#[derive(Clone, Debug, Default)]
pub struct RollupStatus {
    /// Windows that were made since the start, those that were made again among them.
    pub made: u64,
    /// Windows that were made again.
    pub made_again: u64,
    /// Filling backwards was told to stop.
    pub fill_stopped: bool,
    /// Why the last turn failed, if it did.
    pub failure: Option<String>,
    /// When marks were last looked at.
    pub marks_at: Option<Instant>,
    /// When a failed turn is tried again.
    pub retry_at: Option<Instant>,
}

/// The rollups of a dataset.
pub struct DatasetRollups {
    dataset: DatasetId,
    catalogue: SharedCatalogue,
    pool: Arc<Pool>,
    /// Whoever makes or removes windows holds it.
    pub working: Mutex<()>,
    /// How many wait for the work to let them in.
    pub waiting: AtomicUsize,
    /// Whoever changes what is told on the disk holds it: a turn of the work, packing, deleting.
    pub turn: Mutex<Progress>,
    pub state: RwLock<State>,
    files: RwLock<BTreeMap<LevelKey, Arc<LevelFiles>>>,
    pub folder: PathBuf,
    pub told: Mutex<RollupStatus>,
}

/// The rollups of all datasets, opened when they are first asked for.
#[derive(Default)]
pub struct Rollups(pub RwLock<HashMap<DatasetId, Arc<DatasetRollups>>>);

/// One level of a policy, as the work knows it.
#[derive(Clone)]
pub struct LevelOf {
    pub key: LevelKey,
    pub level: Level,
    pub keep_for: Option<Span>,
}

/// A policy, and the series that it takes with the rules that theirs are made by.
pub struct ResolvedPolicy {
    pub name: String,
    pub policy: RollupPolicy,
    pub levels: Vec<LevelOf>,
    pub series: Vec<(SeriesId, Rules)>,
    pub metrics: Vec<MetricId>,
}

/// What the policies of a dataset take, as the catalogue stands now.
pub fn resolve_policies(catalogue: &Catalogue, id: DatasetId) -> Vec<ResolvedPolicy> {
    let Some(dataset) = catalogue.dataset_by_id(id) else { return Vec::new() };
    dataset.rollups.iter().map(|(name, policy)| resolve_policy(dataset, name, policy)).collect()
}

fn resolve_policy(dataset: &Dataset, name: &str, policy: &RollupPolicy) -> ResolvedPolicy {
    let (mut series, mut metrics) = (Vec::new(), Vec::new());
    for metric in dataset.metrics().filter(|metric| policy.takes(metric)) {
        metrics.push(metric.id);
        let facts = MetricTraits::of(metric);
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
    ResolvedPolicy { name: name.to_owned(), policy: policy.clone(), levels, series, metrics }
}

impl DatasetRollups {
    /// Those whose records were read from a folder.
    pub fn new(dataset: DatasetId, catalogue: SharedCatalogue, pool: Arc<Pool>, folder: PathBuf, progress: Progress, state: State) -> Self {
        Self {
            dataset,
            catalogue,
            pool,
            working: Mutex::new(()),
            waiting: AtomicUsize::new(0),
            turn: Mutex::new(progress),
            state: RwLock::new(state),
            files: RwLock::default(),
            folder,
            told: Mutex::default(),
        }
    }

    /// Records the files that must exist from now on.
    pub fn note_files(&self, policies: &[ResolvedPolicy]) -> Result<(), StoreError> {
        let mut there = BTreeSet::new();
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            there.extend(self.level_files(level)?.starts().into_iter().map(|start| (level.key.clone(), start)));
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
    pub fn told(&self) -> RollupStatus {
        self.told.lock().clone()
    }

    /// Stops filling backwards, or lets it go on.
    pub fn stop_filling(&self, is_stopped: bool) {
        self.told.lock().fill_stopped = is_stopped;
    }

    /// Windows in a level's files.
    pub fn windows_of(&self, level: &LevelOf) -> Result<u64, StoreError> {
        self.level_files(level)?.count()
    }

    /// What is known now.
    pub fn state(&self) -> State {
        self.state.read().clone()
    }

    /// The files of a level, opened once.
    pub fn level_files(&self, level: &LevelOf) -> Result<Arc<LevelFiles>, StoreError> {
        if let Some(files) = self.files.read().get(&level.key) {
            return Ok(Arc::clone(files));
        }
        let mut all = self.files.write();
        if let Some(files) = all.get(&level.key) {
            return Ok(Arc::clone(files));
        }
        let files = Arc::new(LevelFiles::open(self.level_folder(&level.key), level.level.clone(), Arc::clone(&self.pool))?);
        all.insert(level.key.clone(), Arc::clone(&files));
        Ok(files)
    }

    /// Bytes of a level's files.
    pub fn level_bytes(&self, key: &LevelKey) -> u64 {
        folder_bytes(&self.level_folder(key))
    }

    /// Where the files of a level are.
    pub fn level_folder(&self, key: &LevelKey) -> PathBuf {
        self.folder.join(&key.0).join(&key.1)
    }

    /// What each level takes on the disk.
    pub fn sizes(&self, now: Nanos) -> Result<Vec<LevelSize>, StoreError> {
        let policies = resolve_policies(&self.catalogue.read(), self.dataset);
        policies.iter().flat_map(|policy| &policy.levels).map(|level| self.size(level, now)).collect()
    }

    fn size(&self, level: &LevelOf, now: Nanos) -> Result<LevelSize, StoreError> {
        const DAY: f64 = 86_400e9;
        let files = self.level_files(level)?;
        let bytes = self.level_bytes(&level.key);
        let end = self.state.read().levels.get(&level.key).map_or(Nanos::MIN, |covered| covered.end);
        // That a file cannot be read is told by whoever reads it, and keeps nobody from seeing what it weighs.
        let days = files.first().unwrap_or_default().map_or(0.0, |first| end.saturating_sub(first) as f64 / DAY);
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
    pub fn note_packing(&self, taken: &[ResolvedPolicy], all: &[(SeriesId, Sorted<'_>)], generation: u64) -> Result<(), StoreError> {
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
                    let ranges = finest.level.runs(&times[..late]);
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
    pub fn copy_windows(&self, folder: &Path, go_on: &mut dyn FnMut() -> bool) -> Result<Vec<PathBuf>, StoreError> {
        let policies = resolve_policies(&self.catalogue.read(), self.dataset);
        let mut copies = Vec::new();
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            let folder = folder.join(&level.key.0).join(&level.key.1);
            copies.extend(self.level_files(level)?.copy_to(&folder, go_on)?);
        }
        Ok(copies)
    }

    /// Keeps marks from being put, and with them points from being packed, as long as it is held.
    pub fn quiet(&self) -> MarksPaused<'_> {
        MarksPaused(self.turn.lock())
    }

    /// Removes all that was made of some series, for good.
    pub fn erase(&self, series: &[SeriesId]) -> Result<(), StoreError> {
        let _alone = self.alone();
        let policies = resolve_policies(&self.catalogue.read(), self.dataset);
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            self.level_files(level)?.remove(series)?;
        }
        let mut turn = self.turn.lock();
        let mut state = self.state.write();
        let marks: Vec<i64> = series.iter().filter_map(|id| state.marks.remove(id)).flatten().map(|mark| mark.id).collect();
        turn.clear_marks(&marks)
    }

    /// What would be lost for good if a policy were changed, or dropped: levels that go, that tell of points that have gone, and that no finer level stays for.
    /// `floor` says from when on the points of a metric are all there.
    pub fn losses(&self, name: &str, after: Option<&RollupPolicy>, floor: impl Fn(MetricId) -> Nanos) -> Result<Vec<LevelLoss>, StoreError> {
        let Some(policy) = resolve_policies(&self.catalogue.read(), self.dataset).into_iter().find(|policy| policy.name == name) else {
            return Ok(Vec::new());
        };
        let after = after.filter(|after| !makes_anew(&policy.policy, after));
        let stays = |level: &LevelOf| after.is_some_and(|after| after.levels.iter().any(|kept| kept.width.to_string() == level.key.1));
        let members = self.state.read().members.get(name).cloned().unwrap_or_default();
        let points_from = members.iter().map(|metric| floor(*metric)).max().unwrap_or(Nanos::MIN);
        let (mut losses, mut kept_from) = (Vec::new(), None::<Nanos>);
        for level in &policy.levels {
            let Some(from) = self.level_files(level)?.first()? else { continue };
            if stays(level) {
                kept_from = Some(kept_from.map_or(from, |known| known.min(from)));
            } else if from < points_from && kept_from.is_none_or(|kept| from < level.level.floor(kept)) {
                losses.push(LevelLoss { width: level.key.1.clone(), from, points_from });
            }
        }
        Ok(losses)
    }

    /// Forgets a policy with all that was made for it.
    /// `wait` waits for queries from before.
    pub fn forget(&self, policy: &str, wait: impl Fn()) -> Result<(), StoreError> {
        let _alone = self.alone();
        {
            let mut turn = self.turn.lock();
            turn.forget(policy)?;
            let mut state = self.state.write();
            state.levels.retain(|(of, _), _| of != policy);
            state.whole_from.retain(|(of, _), _| of != policy);
            state.members.remove(policy);
        }
        self.remove(wait, |(of, _)| of == policy)?;
        remove_folder(&self.folder.join(policy))
    }

    /// Forgets levels that a policy has no more.
    pub fn keep_levels(&self, policy: &str, widths: &[String], wait: impl Fn()) -> Result<(), StoreError> {
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
        self.remove(wait, is_gone)
    }

    /// Removes the files of levels that no new query asks. Those that ask them still are waited for a while; whoever takes longer is told.
    fn remove(&self, wait: impl Fn(), is_gone: impl Fn(&LevelKey) -> bool) -> Result<(), StoreError> {
        wait();
        let gone: Vec<(LevelKey, Arc<LevelFiles>)> = self.files.write().extract_if(.., |key, _| is_gone(key)).collect();
        for (key, files) in gone {
            files.close();
            remove_folder(&self.level_folder(&key))?;
        }
        Ok(())
    }
}

/// Keeps marks from being put.
pub struct MarksPaused<'r>(MutexGuard<'r, Progress>);

impl MarksPaused<'_> {
    /// Copies what is told of levels into a folder; gives the copy.
    pub fn copy_to(&self, folder: &Path) -> Result<PathBuf, StoreError> {
        use crate::error::Context;
        std::fs::create_dir_all(folder).at("create the folder", folder)?;
        let progress = folder.join("progress.db");
        crate::disk::files::remove_file(&progress)?;
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
