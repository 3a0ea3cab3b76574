//! The front door of the store: opens and closes it, and hands out its parts.

use std::{collections::BTreeMap, fs::File, path::Path, sync::Arc};

use fenetre_core::{catalogue::Catalogue, keeping::Volume, model::DatasetDefinition};
use fenetre_jobs::{DurationCounts, Figures, Handle};
use parking_lot::RwLock;

use crate::{
    backup::{self, BackupChoice, BackupProgress, BackupReport},
    bin,
    catalogue::{definitions::Definitions, records::Records},
    compact::{compactor, respan},
    disk::files::Files,
    engine::{Engine, losses},
    error::{Context, StoreError},
    feed::{Extent, Position, Stretch},
    head::{Generation, Head},
    ingest::{batch::Batch, committer, held, replaced, requests::Requests},
    journal::{self, Journal, Replayed, entry::Journaled},
    missing::{dropped, inventory},
    options::{Durability, Options},
    partition::origin::{Highest, origin_of},
    parts::{bin::Bin, definitions::CatalogueChanges, documents::Documents, feed::Feed, inspect::Inspection, retention::Retention, rollups::Rollups},
    read::source::StoreSource,
    rollup,
    secrets::Secrets,
    startup::{identity, migrate::migrate},
};

/// An open store. Dropping it ends its threads in order; what was acknowledged is in the journal or in partitions.
pub struct Store {
    shared: Arc<Engine>,
    requests: Requests,
    /// The jobs that it needs to accept points.
    workers: [Handle; 3],
    _lock: File,
}

/// The dataset that a fresh store has.
const FIRST_DATASET: &str = "main";

impl Store {
    /// Opens the store in a directory, which is made where it is missing, and reads back what the journal holds.
    ///
    /// # Errors
    /// If another process has it, its files cannot be used or are damaged, or a later version wrote them.
    pub fn open(root: &Path, options: Options) -> Result<Self, StoreError> {
        let files = Files::create(root)?;
        let lock = files.lock()?;
        held::finish(&files)?;
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
        held::open(&shared)?;
        let last = journal.last()?;
        shared.ring.begin(Position { generation: current, batch: last });
        let points = replayed.get(&current).map_or(0, |found| found.points);
        shared.ring.set_extent(current, Extent { batches: last, points });
        // Nothing below prevents a start.
        losses::check_journals(&shared, &replayed)?;
        inventory::note_journal(&shared.definitions, current, 0)?;
        losses::check(&shared, &explained, current)?;
        let has_faults = replayed.values().any(|found| !found.faults.is_empty());
        let (requests, received) = Requests::channel();
        let committer = committer::start(&shared, journal, received).at("start a thread for", root)?;
        let compactor = compactor::start(&shared).at("start a thread for", root)?;
        let roller = rollup::start(&shared).at("start a thread for", root)?;
        if has_faults {
            // Move the readable batches out of the damaged file.
            requests.pack_soon()?;
        }
        Ok(Self { shared, requests, workers: [committer, compactor, roller], _lock: lock })
    }

    /// What it may take and how it keeps its promises.
    pub fn options(&self) -> &Options {
        &self.shared.options
    }

    /// Reads the datasets, metrics, tags and series. Batches with new series wait meanwhile, so `look` should be brief: it must read no files, and
    /// not call this again.
    pub fn with_catalogue<T>(&self, look: impl FnOnce(&Catalogue) -> T) -> T {
        look(&self.shared.catalogue.read())
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
        let catalogue = self.shared.catalogue.read();
        let found = catalogue.dataset_by_any_name(dataset).ok_or_else(|| StoreError::no_dataset(&catalogue, dataset))?;
        let mut batch = Batch::new(Arc::clone(&self.shared.catalogue), found.id, found.name.to_string());
        if *found.name != *dataset {
            batch.note(format!("the dataset `{dataset}` is called `{}` now", found.name));
        }
        Ok(batch)
    }

    /// Keeps a batch. When this returns, all of its points can be asked for, and are kept as the store's durability says; where it fails,
    /// none is. Blocks until then. Returns how many of its points took the place of others of the same series and instant, where that is not
    /// too much to look for.
    ///
    /// # Errors
    /// If the disk is full, the store is behind, or its files fail.
    pub fn write(&self, batch: Batch) -> Result<Option<u64>, StoreError> {
        self.write_watched(batch, |_| {})
    }

    /// The same; once the batch is kept, `watch` is shown what it held of each series.
    ///
    /// # Errors
    /// As of [`Store::write`].
    pub fn write_watched(&self, batch: Batch, mut watch: impl FnMut(Stretch<'_>)) -> Result<Option<u64>, StoreError> {
        let dataset = batch.dataset;
        let entry = self.shared.definitions.settle(batch)?;
        if entry.points() == 0 {
            return Ok(Some(0));
        }
        let replaced = replaced::count(&self.shared, dataset, &entry)?;
        let body = entry.to_bytes();
        let journaled = Arc::new(Journaled { dataset, entry });
        self.requests.commit(Arc::clone(&journaled), body)?;
        journaled.entry.series().for_each(|(series, points)| watch(Stretch { series, points }));
        Ok(replaced)
    }

    /// Whether the store accepts points. Reads no file.
    ///
    /// # Errors
    /// [`StoreError::Closed`] if it accepts none until the service restarts.
    pub fn check_ready(&self) -> Result<(), StoreError> {
        match self.shared.closed() {
            Some(reason) => Err(StoreError::Closed(reason.to_owned())),
            None if self.workers.iter().any(Handle::is_finished) => Err(StoreError::stopping()),
            None => Ok(()),
        }
    }

    /// Figures of its work in the background.
    pub fn jobs(&self) -> Vec<Figures> {
        self.shared.jobs.figures()
    }

    /// How long commits took since the start.
    pub fn commits(&self) -> DurationCounts {
        self.shared.commits.counts()
    }

    /// Whether so many points wait to be packed that batches are refused.
    pub fn is_behind(&self) -> bool {
        self.shared.head.read().bytes() >= self.shared.options.most_bytes()
    }

    /// Packs everything that was acknowledged so far. Blocks until that is done, up to a limit.
    ///
    /// # Errors
    /// [`StoreError::Unpacked`] if packing fails, [`StoreError::Packing`] if it takes too long, [`StoreError::Closed`] if the store stops before.
    pub fn pack(&self) -> Result<(), StoreError> {
        self.requests.pack()
    }

    /// Copies everything that was acknowledged so far into a folder, while the store runs on; see [`crate::backup`]. `progressed` is called with the progress, and returns whether to continue.
    ///
    /// # Errors
    /// If the folder cannot be used, files fail, or `progressed` stops it.
    pub fn backup<'p>(
        &self,
        to: &Path,
        choice: impl Into<BackupChoice<'p>>,
        progressed: &mut dyn FnMut(BackupProgress) -> bool,
    ) -> Result<BackupReport, StoreError> {
        let choice = choice.into();
        backup::check_place(self.root(), to, choice.since)?;
        self.pack()?;
        backup::write(&self.shared, to, choice, progressed)
    }

    /// Batches in the order in which they came.
    pub fn feed(&self) -> Feed<'_> {
        Feed { engine: &self.shared, requests: &self.requests }
    }

    /// Secrets by name.
    pub fn secrets(&self) -> &Secrets {
        &self.shared.secrets
    }

    /// The volume of the store, if it is known.
    pub fn volume(&self) -> Option<Volume> {
        self.shared.volume()
    }

    /// The store's directory.
    pub fn root(&self) -> &Path {
        self.shared.files.root()
    }

    /// Whether points are refused, because the reserve of the volume is used.
    pub fn is_full(&self) -> bool {
        self.shared.is_full()
    }

    /// The bin, and what goes there: metrics, points, partitions.
    pub fn bin(&self) -> Bin<'_> {
        Bin { engine: &self.shared, requests: &self.requests }
    }

    /// Limits of age and size, and expiry.
    pub fn retention(&self) -> Retention<'_> {
        Retention { engine: &self.shared, requests: &self.requests }
    }

    /// Rollup policies of datasets, and their levels.
    pub fn rollups(&self) -> Rollups<'_> {
        Rollups { engine: &self.shared, requests: &self.requests }
    }

    /// Changes of the catalogue: datasets, metrics, tags and their names.
    pub fn definitions(&self) -> CatalogueChanges<'_> {
        CatalogueChanges { engine: &self.shared, requests: &self.requests }
    }

    /// Documents of the catalogue.
    pub fn documents(&self) -> Documents<'_> {
        Documents { engine: &self.shared }
    }

    /// Sizes, points and files of the store, and their verification.
    pub fn inspect(&self) -> Inspection<'_> {
        Inspection { engine: &self.shared, requests: &self.requests }
    }
}

impl Drop for Store {
    fn drop(&mut self) {
        self.shared.jobs.stop();
        // The committer ends with the last request.
        self.requests.close();
        self.shared.jobs.end();
    }
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
