//! Rollups on the disk: the levels of each policy, the time each level covers, and the windows that are out of date because points arrived late, were
//! deleted or restored.
//!
//! ```text
//! rollup/DATASET/progress.db                    stretches, members, changes
//! rollup/DATASET/POLICY/1h/2026-01-01.db        windows of one level, a year of them
//! ```
//!
//! Windows are computed from packed points. If points are packed later into the time that a level covers, a change is noted first (`changes`), on stable storage.
//! While a window has changed, or its points are not packed, queries read the points. So an answer from windows is never older than one from points.

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
    changes::{Change, ChangeLog},
    disk::{files::folder_bytes, pool::Pool},
    error::StoreError,
    head::Sorted,
};

use files::DROPPED_TOGETHER;
pub use files::LevelFiles;
use records::Progress;
pub use records::records_of;

/// Policy and width of a level.
pub type LevelKey = (String, String);

/// State of a dataset's rollups, the same in memory as on the disk.
#[derive(Clone, Debug, Default)]
pub struct State {
    /// The time that each level covers.
    pub levels: BTreeMap<LevelKey, TimeRange>,
    /// First instant from which a level covers a metric completely: earlier points had expired when the metric was included.
    pub whole_from: BTreeMap<LevelKey, BTreeMap<MetricId, Nanos>>,
    /// Metrics of each policy.
    pub members: BTreeMap<String, Vec<MetricId>>,
    /// Windows that are out of date.
    pub changes: ChangeLog,
    /// End of the windows that are being computed.
    pub making: BTreeMap<LevelKey, Nanos>,
    /// The current generation when a level was created: earlier ones may have been packed without changes for it.
    pub begun: BTreeMap<LevelKey, u64>,
}

/// Size of a level on the disk.
#[derive(Clone, Debug)]
pub struct LevelSize {
    /// Of which policy.
    pub policy: String,
    /// Width of its windows.
    pub width: String,
    /// Bytes of its files, as the file system counts them.
    pub bytes: u64,
    /// Bytes per day of points; 0 if it covers less than an hour.
    pub bytes_a_day: f64,
    /// Days that are stored once it no longer grows, because several weeks expire at once; none without a limit.
    pub held_days: Option<f64>,
    /// Its files, the oldest first.
    pub files: Vec<PathBuf>,
}

/// A level to be deleted whose windows cannot all be computed again.
#[derive(Clone, Debug)]
pub struct LevelLoss {
    /// Width of its windows.
    pub width: String,
    /// Where its first window begins.
    pub from: Nanos,
    /// Points before this have expired.
    pub points_from: Nanos,
}

/// Whether the windows of a policy cannot be used under another, because its series or its days differ.
pub fn makes_anew(before: &RollupPolicy, after: &RollupPolicy) -> bool {
    (&before.condition, &before.zone) != (&after.condition, &after.zone)
}

/// Progress of a dataset's rollups.
#[derive(Clone, Debug, Default)]
pub struct RollupStatus {
    /// Windows computed since the start, including rebuilt ones.
    pub made: u64,
    /// Rebuilt windows.
    pub made_again: u64,
    /// Whether backfilling is stopped.
    pub fill_stopped: bool,
    /// Why the last run failed, if it did.
    pub failure: Option<String>,
    /// When changes were last checked.
    pub changes_at: Option<Instant>,
    /// When a failed run is retried.
    pub retry_at: Option<Instant>,
}

/// The rollups of a dataset.
pub struct DatasetRollups {
    dataset: DatasetId,
    catalogue: SharedCatalogue,
    pool: Arc<Pool>,
    /// Held while windows are written or removed.
    pub working: Mutex<()>,
    /// Number of callers that wait for [`Self::working`].
    pub waiting: AtomicUsize,
    /// Held while the records change: by a run, by packing, by deletions.
    pub turn: Mutex<Progress>,
    pub state: RwLock<State>,
    files: RwLock<BTreeMap<LevelKey, Arc<LevelFiles>>>,
    pub folder: PathBuf,
    pub status: Mutex<RollupStatus>,
}

/// The rollups of all datasets, opened on first use.
#[derive(Default)]
pub struct Rollups(pub RwLock<HashMap<DatasetId, Arc<DatasetRollups>>>);

/// One level of a policy.
#[derive(Clone)]
pub struct LevelOf {
    pub key: LevelKey,
    pub level: Level,
    pub keep_for: Option<Span>,
}

/// A policy with its series, each with the rules for its windows.
pub struct ResolvedPolicy {
    pub name: String,
    pub policy: RollupPolicy,
    pub levels: Vec<LevelOf>,
    pub series: Vec<(SeriesId, Rules)>,
    pub metrics: Vec<MetricId>,
}

/// The policies of a dataset with their current series.
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
    /// Rollups with the records of a folder.
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
            status: Mutex::default(),
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

    /// Gives the caller exclusive access to windows. A run in progress ends early, and continues afterwards.
    pub fn alone(&self) -> MutexGuard<'_, ()> {
        self.waiting.fetch_add(1, Ordering::Relaxed);
        let guard = self.working.lock();
        self.waiting.fetch_sub(1, Ordering::Relaxed);
        guard
    }

    /// Progress of the work.
    pub fn status(&self) -> RollupStatus {
        self.status.lock().clone()
    }

    /// Stops or resumes backfilling.
    pub fn stop_filling(&self, is_stopped: bool) {
        self.status.lock().fill_stopped = is_stopped;
    }

    /// Windows in a level's files.
    pub fn windows_of(&self, level: &LevelOf) -> Result<u64, StoreError> {
        self.level_files(level)?.count()
    }

    /// A copy of the current state.
    pub fn state(&self) -> State {
        self.state.read().clone()
    }

    /// The files of a level, opened on first use.
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

    /// Folder of a level.
    pub fn level_folder(&self, key: &LevelKey) -> PathBuf {
        self.folder.join(&key.0).join(&key.1)
    }

    /// Size of each level on the disk.
    pub fn sizes(&self, now: Nanos) -> Result<Vec<LevelSize>, StoreError> {
        let policies = resolve_policies(&self.catalogue.read(), self.dataset);
        policies.iter().flat_map(|policy| &policy.levels).map(|level| self.size(level, now)).collect()
    }

    fn size(&self, level: &LevelOf, now: Nanos) -> Result<LevelSize, StoreError> {
        const DAY: f64 = 86_400e9;
        let files = self.level_files(level)?;
        let bytes = self.level_bytes(&level.key);
        let end = self.state.read().levels.get(&level.key).map_or(Nanos::MIN, |covered| covered.end);
        // An unreadable file is reported when it is read; its size is still known.
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

    /// Notes changes for covered windows that points to be packed fall into. They are on stable storage when this returns.
    pub fn note_packing(&self, taken: &[ResolvedPolicy], all: &[(SeriesId, Sorted<'_>)], generation: u64) -> Result<(), StoreError> {
        let mut turn = self.turn.lock();
        let mut changes: Vec<(SeriesId, Change)> = Vec::new();
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
                    changes.extend(ranges.into_iter().map(|range| (*series, Change::new(range, generation))));
                }
            }
        }
        self.note_changes(&mut turn, changes)
    }

    /// Notes that points of some series in a range have changed.
    pub fn mark(&self, series: impl Iterator<Item = SeriesId>, range: TimeRange) -> Result<(), StoreError> {
        let mut turn = self.turn.lock();
        let changes = series.map(|series| (series, Change::new(range, 0))).collect();
        self.note_changes(&mut turn, changes)
    }

    fn note_changes(&self, turn: &mut Progress, mut changes: Vec<(SeriesId, Change)>) -> Result<(), StoreError> {
        if changes.is_empty() {
            return Ok(());
        }
        turn.add_changes(&mut changes)?;
        self.state.write().changes.add(changes);
        Ok(())
    }

    /// Copies all windows into a folder, and returns the copies. `go_on` is called before each file. The caller prevents changes meanwhile.
    pub fn copy_windows(&self, folder: &Path, go_on: &mut dyn FnMut() -> bool) -> Result<Vec<PathBuf>, StoreError> {
        let policies = resolve_policies(&self.catalogue.read(), self.dataset);
        let mut copies = Vec::new();
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            let folder = folder.join(&level.key.0).join(&level.key.1);
            copies.extend(self.level_files(level)?.copy_to(&folder, go_on)?);
        }
        Ok(copies)
    }

    /// Pauses the change log, and with it packing, while the result is held.
    pub fn quiet(&self) -> ChangesPaused<'_> {
        ChangesPaused(self.turn.lock())
    }

    /// Removes the windows of some series permanently.
    pub fn erase(&self, series: &[SeriesId]) -> Result<(), StoreError> {
        let _alone = self.alone();
        let policies = resolve_policies(&self.catalogue.read(), self.dataset);
        for level in policies.iter().flat_map(|policy| &policy.levels) {
            self.level_files(level)?.remove(series)?;
        }
        let mut turn = self.turn.lock();
        let removed = self.state.write().changes.remove(series);
        turn.clear_changes(&removed)
    }

    /// Levels that would be lost if a policy were changed or deleted: those that cover expired points, unless a finer level stays. `floor` returns
    /// the first instant from which all points of a metric are kept.
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

    /// Deletes a policy and its windows. `wait` waits for queries that still read them.
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

    /// Deletes levels that a policy no longer has.
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

    /// Removes the files of levels that no new query reads. Running queries have a while to finish; later they get an error.
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

/// Pauses the change log while it is held.
pub struct ChangesPaused<'r>(MutexGuard<'r, Progress>);

impl ChangesPaused<'_> {
    /// Copies the records into a folder, and returns the copy.
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
