//! The store as the rest of Fenetre sees it.

use std::{
    collections::BTreeMap,
    fs::File,
    path::Path,
    sync::{
        Arc,
        mpsc::{RecvTimeoutError, SyncSender, sync_channel},
    },
    thread::JoinHandle,
    time::Duration,
};

use fenetre_core::{
    catalogue::{Catalogue, Series},
    keeping::{Expiry, LimitSettings, Limits, PartitionHolding, Policies, Scope, Volume},
    model::{DatasetDefinition, DatasetId, MetricDefinition, MetricId, MetricTraits, RollupPolicy, SeriesId, TagDefinition},
    rollup::Rules,
    time::{Nanos, TimeRange},
};
use parking_lot::{Mutex, RwLock, RwLockReadGuard};

use crate::{
    backup::{self, BackupProgress, BackupReport},
    bin::{self, BinItem, DataSize, Selection},
    catalogue::{
        definitions::Definitions,
        documents::{Document, DocumentKind, Kept},
        records::Records,
    },
    compact::{compactor, respan},
    disk::{
        files::{Files, bytes_on_disk},
        sqlite::Use,
    },
    engine::{Engine, losses},
    error::{Context, StoreError},
    head::{Generation, Head},
    ingest::{
        batch::Batch,
        committer::{self, Job, Request},
        replaced,
    },
    inspect::{
        sizes::{self, MetricSize, StorageReport},
        verify::{self, Verified},
    },
    journal::{self, Journal, Replayed, entry::Journaled},
    levels::{self, LevelLoss},
    limits::horizons::Horizons,
    missing::{dropped, inventory},
    options::{Durability, FileRetention, Options},
    partition::{
        Partition,
        counts::SeriesCount,
        origin::{Highest, origin_of},
    },
    read::{
        census::{self, Latest},
        source::StoreSource,
    },
    retention::expiry,
    rollup::{self, LevelState},
    startup::{identity, migrate::migrate},
};

/// An open store. Dropping it ends its threads in order; what was acknowledged is in the journal or in partitions.
pub struct Store {
    shared: Arc<Engine>,
    requests: Option<SyncSender<Request>>,
    threads: Vec<JoinHandle<()>>,
    expiring: Mutex<()>,
    _lock: File,
}

/// Longest wait for packing.
const PACKING: Duration = Duration::from_secs(120);
/// The dataset that a fresh store has.
const FIRST_DATASET: &str = "main";

impl Store {
    /// Opens the store in a directory, which is made where it is missing, and reads back what the journal holds.
    ///
    /// # Errors
    /// Where another process has it, its files cannot be used or are damaged, or a later version wrote them.
    pub fn open(root: &Path, options: Options) -> Result<Self, StoreError> {
        let files = Files::create(root)?;
        let lock = files.lock()?;
        files.check_catalogue()?;
        migrate(&files)?;
        let mut records = Records::open(files.catalogue())?;
        let mut catalogue = records.load()?;
        if catalogue.datasets().next().is_none() {
            let definition = DatasetDefinition::default();
            let (id, folder) = records.change(|changes| changes.put_dataset(FIRST_DATASET, &definition))?;
            catalogue.put_dataset(id, FIRST_DATASET, &folder, definition);
        }
        let is_synced = options.durability == Durability::Each;
        let (head, current, replayed) = read_back(&files, &records, is_synced)?;
        if records.store()? == 0 {
            found(&files, &mut records, &replayed)?;
        }
        identity::check(&files, &records, &replayed)?;
        let store = records.store()?;
        records.change(|changes| changes.set_generation(current))?;
        let journal = Journal::append_to(&files.journals(), current, is_synced, store)?;
        let catalogue = Arc::new(RwLock::new(catalogue));
        let definitions = Definitions::new(records, Arc::clone(&catalogue))?;
        let explained = dropped::files_on_their_way(&definitions)?.into_iter().chain(respan::files_on_their_way(&definitions)?).collect();
        bin::partitions::finish(&files, &definitions)?;
        let folders: Vec<String> = catalogue.read().datasets().map(|dataset| dataset.folder.to_string()).collect();
        respan::finish(&files, &definitions, folders.into_iter())?;
        let shared = Arc::new(Engine::open(files, options, definitions, catalogue, head)?);
        // Nothing below prevents a start.
        losses::check_journals(&shared, &replayed)?;
        inventory::note_journal(&shared.definitions, current, 0)?;
        losses::check(&shared, &explained, current)?;
        let has_faults = replayed.values().any(|found| !found.faults.is_empty());
        let (requests, received) = committer::channel();
        let committer = committer::start(Arc::clone(&shared), journal, received).at("start a thread for", root)?;
        let compactor = compactor::start(Arc::clone(&shared)).at("start a thread for", root)?;
        let roller = rollup::start(Arc::clone(&shared)).at("start a thread for", root)?;
        if has_faults {
            // Move the readable batches out of the damaged file.
            requests.send(Request::PackAll(sync_channel(1).0)).map_err(|_| closed())?;
        }
        Ok(Self { shared, requests: Some(requests), threads: vec![committer, compactor, roller], expiring: Mutex::new(()), _lock: lock })
    }

    /// What it may take and how it keeps its promises.
    pub fn options(&self) -> &Options {
        &self.shared.options
    }

    /// What there is. Hold it briefly, since batches with new series wait for it, and drop it before calling [`Store::storage`], which
    /// looks at it too.
    pub fn catalogue(&self) -> RwLockReadGuard<'_, Catalogue> {
        self.shared.catalogue.read()
    }

    /// The store of this moment as a source of points: later batches are not in it, however long it is read.
    pub fn source(&self) -> StoreSource<'_> {
        // The partitions after the points: what is dropped in between is seen neither here nor there.
        let snapshot = self.shared.snapshot();
        StoreSource::new(&self.shared, snapshot)
    }

    /// Begins a batch for a dataset.
    ///
    /// # Errors
    /// [`StoreError::NoDataset`].
    pub fn begin(&self, dataset: &str) -> Result<Batch, StoreError> {
        let catalogue = self.catalogue();
        let found = catalogue.dataset_by_any_name(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
        let mut batch = Batch::new(Arc::clone(&self.shared.catalogue), found.id, found.name.to_string());
        if *found.name != *dataset {
            batch.note(format!("the dataset `{dataset}` is called `{}` now", found.name));
        }
        Ok(batch)
    }

    /// Keeps a batch. When this returns, all of its points can be asked for, and are kept as the store's durability says; where it fails,
    /// none is. Blocks until then. Says how many of its points took the place of others of the same series and instant, where that is not
    /// too much to look for.
    ///
    /// # Errors
    /// Where the disk is full, the store is behind, or its files fail.
    pub fn write(&self, batch: Batch) -> Result<Option<u64>, StoreError> {
        let dataset = batch.dataset;
        let entry = self.shared.definitions.settle(batch)?;
        if entry.points() == 0 {
            return Ok(Some(0));
        }
        let replaced = replaced::count(&self.shared, dataset, &entry)?;
        let body = entry.to_bytes();
        let (answer, answered) = sync_channel(1);
        self.request(Request::Commit(Job { journaled: Journaled { dataset, entry }, body, answer }))?;
        answered.recv().map_err(|_| closed())??;
        Ok(replaced)
    }

    /// Whether the store accepts points. Reads no file.
    ///
    /// # Errors
    /// [`StoreError::Closed`] where it takes none until the service starts again.
    pub fn check_ready(&self) -> Result<(), StoreError> {
        match self.shared.closed() {
            Some(reason) => Err(StoreError::Closed(reason.to_owned())),
            None if self.threads.iter().any(JoinHandle::is_finished) => Err(closed()),
            None => Ok(()),
        }
    }

    /// Whether so many points wait to be packed that batches are refused.
    pub fn is_behind(&self) -> bool {
        self.shared.head.read().bytes() >= self.shared.options.most_bytes()
    }

    /// Packs everything that was acknowledged so far. Blocks until that is done, but not for ever.
    ///
    /// # Errors
    /// [`StoreError::Unpacked`] where packing fails, [`StoreError::Packing`] where it takes too long, [`StoreError::Closed`] where the store stops before.
    pub fn pack(&self) -> Result<(), StoreError> {
        let (answer, answered) = sync_channel(1);
        self.request(Request::PackAll(answer))?;
        answered.recv_timeout(PACKING).map_err(|error| match error {
            RecvTimeoutError::Timeout => StoreError::Packing { seconds: PACKING.as_secs() },
            RecvTimeoutError::Disconnected => closed(),
        })?
    }

    /// Packs everything that was acknowledged so far, and gives the partitions of a dataset the spans that are right for their points: few points of a
    /// long time become one file. Says how many partitions there were, and are.
    ///
    /// # Errors
    /// [`StoreError::NoDataset`], or where files fail or are damaged.
    pub fn tidy(&self, dataset: &str) -> Result<(usize, usize), StoreError> {
        let id = {
            let catalogue = self.catalogue();
            catalogue.dataset(dataset).map(|dataset| dataset.id).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?
        };
        self.pack()?;
        let partitions = || self.shared.partitions_of(id, TimeRange::ALL).len();
        let before = partitions();
        respan::tidy(&self.shared, id)?;
        respan::remove_replaced(&self.shared)?;
        Ok((before, partitions()))
    }

    /// Compacts every partition now, as far as snapshots allow. Blocks until that is done.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn compact(&self) -> Result<(), StoreError> {
        for (dataset, partition) in self.shared.all_partitions() {
            compactor::compact(&self.shared, &partition, &self.shared.counters(dataset))?;
        }
        let datasets: Vec<DatasetId> = self.shared.catalogue.read().datasets().map(|dataset| dataset.id).collect();
        datasets.into_iter().try_for_each(|dataset| respan::tidy(&self.shared, dataset))?;
        respan::remove_replaced(&self.shared)
    }

    fn request(&self, request: Request) -> Result<(), StoreError> {
        self.requests.as_ref().and_then(|requests| requests.send(request).ok()).ok_or_else(closed)
    }

    /// Copies everything that was acknowledged so far into a folder, while the store goes on; see [`crate::backup`]. `since` is an
    /// earlier backup whose unchanged partitions need not be copied again. `told` hears how far it is, and says whether to go on.
    ///
    /// # Errors
    /// Where the folder cannot be used, files fail, or `told` said to stop.
    pub fn backup(&self, to: &Path, since: Option<&Path>, told: &mut dyn FnMut(BackupProgress) -> bool) -> Result<BackupReport, StoreError> {
        backup::check_place(self.root(), to, since)?;
        self.pack()?;
        backup::write(&self.shared, to, since, told)
    }

    /// Adds a dataset, or changes what is said of one. Says whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name or zone.
    pub fn put_dataset(&self, name: &str, definition: &DatasetDefinition) -> Result<bool, StoreError> {
        self.shared.definitions.put_dataset(name, definition)
    }

    /// Says what a metric is, before or after its first point. Says whether it is new.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad name, or where its values would become of another sort.
    pub fn put_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        Ok(self.put_metrics(dataset, vec![(name.to_owned(), definition)], false)?.contains(&true))
    }

    /// The same, with another unit for points whose values stay: they were in that unit all along.
    ///
    /// # Errors
    /// As for [`Store::put_metric`].
    pub fn relabel_metric(&self, dataset: &str, name: &str, definition: MetricDefinition) -> Result<bool, StoreError> {
        Ok(self.put_metrics(dataset, vec![(name.to_owned(), definition)], true)?.contains(&true))
    }

    /// Puts a metric into the bin, and gives its name and a definition to another one.
    pub(crate) fn exchange_metric(
        &self,
        dataset: &str,
        name: &str,
        other: &str,
        definition: &MetricDefinition,
        now: Nanos,
    ) -> Result<(), StoreError> {
        self.shared.definitions.exchange_metric(dataset, name, other, definition, now)
    }

    /// Whether metrics may become what definitions say.
    ///
    /// # Errors
    /// As for [`Store::put_metrics`].
    pub fn check_metrics(&self, dataset: &str, metrics: &[(String, MetricDefinition)]) -> Result<(), StoreError> {
        self.shared.definitions.check_metrics(dataset, metrics, false).map(drop)
    }

    /// Says what metrics are, all of them or none. Says which are new.
    ///
    /// # Errors
    /// As for one; nothing is changed then.
    pub fn put_metrics(&self, dataset: &str, metrics: Vec<(String, MetricDefinition)>, relabels: bool) -> Result<Vec<bool>, StoreError> {
        let names: Vec<String> = metrics.iter().map(|(name, _)| name.clone()).collect();
        let rules = |store: &Self| -> Vec<Option<MetricTraits>> {
            let catalogue = store.catalogue();
            let found = catalogue.dataset(dataset);
            names.iter().map(|name| found.and_then(|dataset| dataset.metric(name)).map(MetricTraits::of)).collect()
        };
        let before = rules(self);
        let done = self.shared.definitions.put_metrics(dataset, metrics, relabels)?;
        let after = rules(self);
        for (name, (before, after)) in names.iter().zip(before.into_iter().zip(after)) {
            if let (Some(before), Some(after)) = (before, after)
                && Rules::of(&before, false) != Rules::of(&after, false)
            {
                self.remake(dataset, name)?;
            }
        }
        Ok(done)
    }

    /// Windows of a metric were made by other rules than it has now.
    fn remake(&self, dataset: &str, metric: &str) -> Result<(), StoreError> {
        let found = {
            let catalogue = self.catalogue();
            catalogue.dataset(dataset).and_then(|dataset| Some((dataset.id, dataset.metric(metric)?.id)))
        };
        let Some((dataset, metric)) = found else { return Ok(()) };
        match self.shared.rollups.of(&self.shared, dataset)? {
            Some(rollups) => rollups.mark(self.shared.series_of(dataset, metric).into_iter(), TimeRange::ALL),
            None => Ok(()),
        }
    }

    /// Says which metrics of a dataset are rolled up, and into which levels. A policy that takes others than before begins anew.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for one that makes no sense.
    pub fn put_rollup(&self, dataset: &str, name: &str, policy: &RollupPolicy) -> Result<bool, StoreError> {
        policy.check().map_err(|error| StoreError::Definition(error.to_string()))?;
        let (id, before) = self.shared.definitions.put_rollup(dataset, name, Some(policy))?;
        if let (Some(before), Some(rollups)) = (&before, self.shared.rollups.of(&self.shared, id)?) {
            if levels::makes_anew(before, policy) {
                rollups.forget(name, || self.shared.wait_for_readers())?;
            } else {
                let widths: Vec<String> = policy.levels.iter().map(|level| level.width.to_string()).collect();
                rollups.keep_levels(name, &widths, || self.shared.wait_for_readers())?;
            }
        }
        // Windows are made of what is packed: nobody waits for it here.
        self.request(Request::PackAll(sync_channel(1).0))?;
        self.nudge();
        Ok(before.is_none())
    }

    /// What would be lost for good if a rollup policy became another, or none, since the points have gone.
    ///
    /// # Errors
    /// Where files fail.
    pub fn rollup_losses(&self, dataset: &str, name: &str, after: Option<&RollupPolicy>) -> Result<Vec<LevelLoss>, StoreError> {
        let Some(id) = self.catalogue().dataset(dataset).map(|dataset| dataset.id) else { return Ok(Vec::new()) };
        self.shared
            .rollups
            .of(&self.shared, id)?
            .map_or(Ok(Vec::new()), |rollups| rollups.losses(name, after, |metric| self.shared.floors.of(&self.shared.trims, id, metric)))
    }

    /// Forgets a rollup policy with everything that was made for it.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn drop_rollup(&self, dataset: &str, name: &str) -> Result<(), StoreError> {
        let opened = {
            let id = self.catalogue().dataset(dataset).map(|dataset| dataset.id);
            id.map(|id| self.shared.rollups.of(&self.shared, id)).transpose()?.flatten()
        };
        let (_, before) = self.shared.definitions.put_rollup(dataset, name, None)?;
        if before.is_none() {
            return Err(StoreError::Missing(format!("the dataset `{dataset}` has no rollup policy `{name}`")));
        }
        opened.map_or(Ok(()), |rollups| rollups.forget(name, || self.shared.wait_for_readers()))
    }

    /// Lets a dataset's levels go on being filled backwards, or stops that.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where it has no policies.
    pub fn fill_rollups(&self, dataset: DatasetId, go_on: bool) -> Result<(), StoreError> {
        let rollups = self.shared.rollups.of(&self.shared, dataset)?;
        let rollups =
            rollups.ok_or_else(|| StoreError::Missing("the dataset has no rollup policies: make one with `fenetre rollup set`".to_owned()))?;
        rollups.stop_filling(!go_on);
        self.nudge();
        Ok(())
    }

    /// Works on a dataset's rollups until there is nothing more to do as things stand at an instant. Everything that was acknowledged is packed first.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn roll_up(&self, dataset: DatasetId, now: Nanos) -> Result<(), StoreError> {
        self.pack()?;
        while rollup::turn(&self.shared, dataset, now, true)? {}
        Ok(())
    }

    /// Progress of a dataset's rollups, and the state of each level.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn rollup_state(&self, dataset: DatasetId) -> Result<(levels::RollupStatus, Vec<LevelState>), StoreError> {
        rollup::level_states(&self.shared, dataset)
    }

    fn nudge(&self) {
        self.threads.iter().for_each(|thread| thread.thread().unpark());
    }

    /// Says what a tag is. Says whether it is the first time.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a bad key or pattern.
    pub fn put_tag(&self, dataset: &str, key: &str, definition: TagDefinition) -> Result<bool, StoreError> {
        self.shared.definitions.put_tag(dataset, key, definition)
    }

    /// Gives a dataset another name; ids and points stay, and the old name goes on answering.
    ///
    /// # Errors
    /// [`StoreError::Definition`] for a name that is bad or taken.
    pub fn rename_dataset(&self, old: &str, name: &str) -> Result<(), StoreError> {
        self.shared.definitions.rename_dataset(old, name)
    }

    /// Gives a metric another name, likewise.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::Definition`].
    pub fn rename_metric(&self, dataset: &str, old: &str, name: &str) -> Result<(), StoreError> {
        self.shared.definitions.rename_metric(dataset, old, name)
    }

    /// Gives a tag of all series of a dataset another key, likewise.
    ///
    /// # Errors
    /// [`StoreError::Missing`], [`StoreError::Definition`].
    pub fn rename_tag(&self, dataset: &str, old: &str, key: &str) -> Result<(), StoreError> {
        self.shared.definitions.rename_tag(dataset, old, key)
    }

    /// Lets an old name answer no more: `noun` is `dataset`, `metric` or `tag`, and `dataset` is none for the first of them. Says whether it
    /// did answer.
    ///
    /// # Errors
    /// [`StoreError::NoDataset`].
    pub fn forget_old_name(&self, noun: &str, dataset: Option<&str>, name: &str) -> Result<bool, StoreError> {
        self.shared.definitions.forget_old_name(noun, dataset, name)
    }

    /// Documents of a kind, by name.
    ///
    /// # Errors
    /// [`StoreError::Record`] for one that cannot be read.
    pub fn documents<D: Document>(&self) -> Result<Vec<Kept<D>>, StoreError> {
        self.shared.definitions.documents()
    }

    /// Names of the documents of a kind, whether they can be read or not.
    ///
    /// # Errors
    /// If the catalogue cannot be read.
    pub fn document_names(&self, kind: DocumentKind) -> Result<Vec<String>, StoreError> {
        self.shared.definitions.document_names(kind)
    }

    /// A document by its name.
    ///
    /// # Errors
    /// [`StoreError::Record`] if it cannot be read.
    pub fn document<D: Document>(&self, name: &str) -> Result<Option<Kept<D>>, StoreError> {
        self.shared.definitions.document(name)
    }

    /// Keeps a document under its name.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn put_document<D: Document>(&self, name: &str, body: &D, changed: Nanos) -> Result<(), StoreError> {
        self.shared.definitions.put_document(name, body, changed)
    }

    /// Removes a document; says whether there was one.
    ///
    /// # Errors
    /// If the catalogue cannot be written.
    pub fn remove_document<D: Document>(&self, name: &str) -> Result<bool, StoreError> {
        self.shared.definitions.remove_document::<D>(name)
    }

    /// Puts a metric with all its series and points into the bin.
    ///
    /// # Errors
    /// [`StoreError::Missing`].
    pub fn delete_metric(&self, dataset: &str, name: &str, now: Nanos) -> Result<(), StoreError> {
        self.shared.definitions.bin_metric(dataset, name, now)
    }

    /// Counts the points of some series in a range, as [`Store::delete_points`] would move them, points in memory included. Packs nothing.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn weigh(&self, selection: &Selection) -> Result<DataSize, StoreError> {
        let source = self.source();
        let waits = |series: &SeriesId| source.snapshot.count(*series, selection.range) > 0;
        let (waiting, packed): (Vec<SeriesId>, Vec<SeriesId>) = selection.series.iter().copied().partition(waits);
        let of_packed = bin::weigh(&self.shared, &Selection { series: packed, ..selection.clone() })?;
        let (points, span) = source.count(selection.dataset, &waiting, selection.range)?;
        // Points in memory have no bytes yet; instants that are in both are counted once.
        let bytes = bin::weigh(&self.shared, &Selection { series: waiting, ..selection.clone() })?.bytes;
        let mut weight = of_packed;
        weight.take(points, bytes, span);
        Ok(weight)
    }

    /// Weighs the points of some series in a range as they lie: those in memory have no bytes yet, and points that came twice count twice.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn weigh_about(&self, selection: &Selection) -> Result<DataSize, StoreError> {
        let snapshot = self.shared.snapshot();
        let waiting: usize = selection.series.iter().map(|series| snapshot.count(*series, selection.range)).sum();
        let packed = bin::weigh(&self.shared, selection)?;
        Ok(DataSize { points: packed.points + waiting as u64, ..packed })
    }

    /// Weighs what a trim of a metric would take, of what is packed.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn weigh_trim(&self, dataset: DatasetId, metric: MetricId, before: Nanos) -> Result<DataSize, StoreError> {
        let range = TimeRange { start: Nanos::MIN, end: before };
        bin::weigh(&self.shared, &Selection { dataset, series: self.shared.series_of(dataset, metric), range })
    }

    /// Moves the points of some series in a range into the bin.
    ///
    /// # Errors
    /// Where files fail or are damaged; what was moved until then is in the bin.
    pub fn delete_points(&self, selection: &Selection, what: &str, now: Nanos) -> Result<BinItem, StoreError> {
        self.pack()?;
        bin::delete_points(&self.shared, bin::free_id(&self.shared, now)?, selection, what, false, now)
    }

    /// First instants that are kept of a dataset, for [`Batch::refuse_before`].
    pub fn horizons(&self, dataset: DatasetId, now: Nanos) -> Horizons {
        self.shared.horizons(dataset, now)
    }

    /// What is said of keeping, by the configuration file and live.
    pub fn policies(&self) -> Policies {
        self.shared.policies()
    }

    /// What was said live of a place.
    pub fn runtime_limits(&self, place: Scope) -> LimitSettings {
        self.shared.policies.live(place)
    }

    /// Says live how long and how much is kept at a place, in place of what was said live of it before; nothing, for the file's word to hold.
    ///
    /// # Errors
    /// Where the catalogue cannot be written.
    pub fn set_limits(&self, place: Scope, said: LimitSettings, now: Nanos) -> Result<(), StoreError> {
        self.shared.policies.set(&self.shared.definitions, place, said, now)
    }

    /// Takes over what the configuration file says now.
    pub fn set_file_retention(&self, file: FileRetention) {
        self.shared.policies.set_file(file);
    }

    /// What of a dataset's partitions can be dropped by itself under some limits; parts of a partition that is longer than its points are kept.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn pieces(&self, dataset: DatasetId, limits: &Limits, now: Nanos) -> Result<Vec<PartitionHolding>, StoreError> {
        expiry::pieces_of(&self.shared, dataset, limits, now)
    }

    /// How many packed points of a dataset lie in a range, and the first and last of them.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn held_in(&self, dataset: DatasetId, range: TimeRange) -> Result<DataSize, StoreError> {
        let series = {
            let catalogue = self.catalogue();
            let found = catalogue.dataset_by_id(dataset);
            found.map_or_else(Vec::new, |dataset| dataset.all_series().map(|series| series.id).collect())
        };
        bin::weigh(&self.shared, &Selection { dataset, series, range })
    }

    /// What would go now under some policies.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn plan_expiry(&self, policies: &Policies, now: Nanos) -> Result<Expiry, StoreError> {
        expiry::plan(&self.shared, policies, now)
    }

    /// Lets go of what must go now; says what that was.
    ///
    /// # Errors
    /// Where files fail or are damaged; what has gone until then has, the rest goes the next time.
    pub fn expire(&self, now: Nanos) -> Result<Expiry, StoreError> {
        let _one_at_a_time = self.expiring.lock();
        expiry::expire(&self.shared, now, || self.pack())
    }

    /// The volume that the store lies on, where that can be told.
    pub fn volume(&self) -> Option<Volume> {
        self.shared.volume()
    }

    /// Whether what is in the bin would go again at once if it came back now: why.
    ///
    /// # Errors
    /// Where the catalogue cannot be read.
    pub fn goes_again(&self, id: &str, now: Nanos) -> Result<Option<String>, StoreError> {
        expiry::goes_again(&self.shared, id, now)
    }

    /// What is in the bin, the oldest first.
    ///
    /// # Errors
    /// Where the catalogue cannot be read.
    pub fn bin(&self) -> Result<Vec<BinItem>, StoreError> {
        bin::list(&self.shared)
    }

    /// Brings something back from the bin; a metric under another name where one is given.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or [`StoreError::Definition`] where the name is taken by now.
    pub fn restore_binned(&self, id: &str, name: Option<&str>) -> Result<(), StoreError> {
        bin::restore(&self.shared, id, name)
    }

    /// Removes something of the bin for good.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or where files fail.
    pub fn erase_binned(&self, id: &str) -> Result<(), StoreError> {
        self.pack()?;
        bin::erase(&self.shared, id)
    }

    /// Points of each metric that its thinning has seen, and those of them that stayed.
    ///
    /// # Errors
    /// Where the catalogue cannot be read.
    pub fn savings(&self) -> Result<BTreeMap<MetricId, (u64, u64)>, StoreError> {
        self.shared.definitions.savings()
    }

    /// The store's directory.
    pub fn root(&self) -> &Path {
        self.shared.files.root()
    }

    /// Points of every series of a dataset that has any; a histogram is one point.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn counts(&self, dataset: DatasetId) -> Result<BTreeMap<SeriesId, SeriesCount>, StoreError> {
        census::counts(&self.shared, dataset)
    }

    /// The latest point of a series that is not after `now`, if it has any.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn latest(&self, dataset: DatasetId, series: &Series, now: Nanos) -> Result<Option<Latest>, StoreError> {
        census::latest(&self.shared, dataset, series, now)
    }

    /// Sizes of everything.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn storage(&self, now: Nanos) -> Result<StorageReport, StoreError> {
        sizes::report(&self.shared, now)
    }

    /// What each metric takes, the most first.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn metric_sizes(&self) -> Result<Vec<MetricSize>, StoreError> {
        sizes::metrics(&self.shared)
    }

    /// Names of the metrics that have points in the partitions that meet a range.
    ///
    /// # Errors
    /// Where files fail or are damaged.
    pub fn metrics_in(&self, dataset: DatasetId, range: TimeRange) -> Result<Vec<String>, StoreError> {
        census::metrics_in(&self.shared, dataset, range)
    }

    /// Whether no more points are taken, since the reserve of the volume is touched.
    pub fn is_full(&self) -> bool {
        self.shared.is_full()
    }

    /// Checks a file, given by its path below the store's directory: a partition, a file of a rollup level, or the catalogue together with the records of
    /// rollups. Repairs nothing.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or where the store is closed.
    pub fn verify(&self, file: &str) -> Result<Verified, StoreError> {
        let path = self.shared.files.root().join(file);
        if path == self.shared.files.catalogue() {
            return verify::verify_records(&self.shared);
        }
        let looked = match rollup::verify(&self.shared, &path) {
            Ok(None) => self.partition_of(file).and_then(|(dataset, partition)| verify::verify(&self.shared, dataset, &partition)),
            Ok(Some(found)) => Ok(found),
            Err(error) => Err(error),
        };
        let looked = looked.map(|mut found| {
            verify::check_integrity(&path, Use::Blocks { page_size: 4_096 }, &mut found);
            found
        });
        match looked {
            // A file that cannot be read at all is what was looked for.
            Err(error @ (StoreError::Damaged { .. } | StoreError::Sqlite { .. })) => {
                Ok(Verified { faulty: 1, faults: vec![error.to_string()], ..Verified::default() })
            }
            looked => looked,
        }
    }

    /// Accepts the loss of a file, given its path relative to the store's directory.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where it is not lost.
    pub fn accept_loss(&self, file: &str) -> Result<(), StoreError> {
        losses::accept_loss(&self.shared, file)
    }

    /// Compacts one partition, told by its file. Says how many bytes it took before and takes now.
    ///
    /// # Errors
    /// [`StoreError::Missing`], or where files fail or are damaged.
    pub fn compact_one(&self, file: &str) -> Result<(u64, u64), StoreError> {
        let (dataset, partition) = self.partition_of(file)?;
        let before = bytes_on_disk(partition.path());
        compactor::compact(&self.shared, &partition, &self.shared.counters(dataset))?;
        partition.writer().shrink()?;
        Ok((before, bytes_on_disk(partition.path())))
    }

    fn partition_of(&self, file: &str) -> Result<(DatasetId, Arc<Partition>), StoreError> {
        let all = self.shared.all_partitions();
        let found = all.into_iter().find(|(_, partition)| self.shared.files.name_of(partition.path()) == file);
        found.ok_or_else(|| StoreError::Missing(format!("there is no partition {file}")))
    }
}

impl Drop for Store {
    fn drop(&mut self) {
        self.shared.stop();
        self.requests = None;
        for thread in self.threads.drain(..) {
            thread.thread().unpark();
            let _ = thread.join();
        }
    }
}

fn closed() -> StoreError {
    StoreError::Closed("it is stopping, or its journal failed".to_owned())
}

/// The head as the journal holds it, and the number of the file to go on with.
/// Gives a store that is new, or of an earlier version, its number. No id that its points have is given again.
fn found(files: &Files, records: &mut Records, replayed: &BTreeMap<u64, Replayed>) -> Result<(), StoreError> {
    let mut bytes = [0; 8];
    getrandom::fill(&mut bytes).map_err(|error| StoreError::Closed(format!("the system gives no random numbers: {error}")))?;
    let mut highest = replayed.values().fold(Highest::default(), |highest, replayed| highest.max(replayed.origin.highest));
    for path in identity::partition_files(files)? {
        // A damaged file is reported when it is used.
        highest = highest.max(origin_of(&path).unwrap_or_default().highest);
    }
    records.change(|changes| {
        changes.set_highest(highest)?;
        changes.found_store(i64::from_le_bytes(bytes))
    })
}

fn read_back(files: &Files, records: &Records, is_synced: bool) -> Result<(Head, u64, BTreeMap<u64, Replayed>), StoreError> {
    let (mut generations, mut replayed) = (Vec::new(), BTreeMap::new());
    for (number, path) in journal::files(&files.journals())? {
        let generation = Generation::new(number);
        let mut buffers = generation.buffers.write();
        replayed.insert(number, journal::replay(&path, is_synced, |journaled| buffers.append(&journaled, None))?);
        drop(buffers);
        generations.push(generation);
    }
    let points: usize = generations.iter().map(|generation| generation.buffers.read().points()).sum();
    if points > 0 {
        tracing::info!(points, files = generations.len(), "read back from the journal");
    }
    // Numbers never come again, even where somebody removed journal files.
    let growing = match generations.pop() {
        Some(last) if last.number >= records.generation()? => last,
        other => {
            generations.extend(other);
            Generation::new(records.generation()? + 1)
        }
    };
    let current = growing.number;
    Ok((Head::new(generations, growing), current, replayed))
}
