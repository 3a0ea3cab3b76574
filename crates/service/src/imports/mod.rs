//! Imports: files that are uploaded once, looked at, tried, and read into the store part by part, by the service itself.
//!
//! ```text
//!  upload ──► STORE/imports/ID.file ──► input (parts) ──► run ──► store
//!                                                          ├──► record (document "import" in the catalogue): after each part
//!                                                          └──► STORE/imports/ID.rejects
//! ```
//!
//! A file of any length takes the memory of a part. An import that was stopped, or killed with the service, resumes after the last part that
//! is in its record; a part that was kept and not recorded is kept again, which changes nothing.

pub mod input;

use std::{
    collections::HashMap,
    fs,
    path::{Path, PathBuf},
    sync::Arc,
};

use fenetre_core::time::Nanos;
use fenetre_jobs::Handle;
use fenetre_store::{Document, DocumentKind, Store, StoreError};
use fenetre_wire::imports::{ImportRecord, ImportStage};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

pub use input::look;

use crate::problem::{ApiError, ProblemKind};

/// The record of an import as a document of the catalogue.
#[derive(Serialize, Deserialize)]
#[serde(transparent)]
struct StoredImport(ImportRecord);

impl Document for StoredImport {
    const KIND: DocumentKind = DocumentKind::Import;
}

/// So many run at once.
pub const MAX_RUNNING: usize = 4;
/// Records that are kept; the oldest that are done with go first.
const MAX_RECORDS: usize = 1_000;
/// Files that nobody ran, or went on with, are forgotten after this.
const UNUSED: Nanos = 7 * 24 * 3_600 * 1_000_000_000;

/// The imports of a store.
pub struct Imports {
    folder: PathBuf,
    /// Those that run.
    pub running: Mutex<HashMap<String, Arc<Running>>>,
}

/// One that runs.
pub struct Running {
    /// Its record.
    pub record: Mutex<ImportRecord>,
    /// The job that reads it.
    pub job: Mutex<Option<Handle>>,
}

impl Imports {
    /// Makes the folder.
    ///
    /// # Errors
    /// If that cannot be done.
    pub fn open(store: &Path) -> std::io::Result<Self> {
        let folder = store.join("imports");
        fs::create_dir_all(&folder)?;
        Ok(Self { folder, running: Mutex::default() })
    }

    /// The file of an import.
    pub fn file(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.file"))
    }

    /// Its rejects, one JSON object per line.
    pub fn rejects(&self, id: &str) -> PathBuf {
        self.folder.join(format!("{id}.rejects"))
    }

    /// The current record of an import.
    pub fn find(&self, store: &Store, id: &str) -> Result<ImportRecord, ApiError> {
        let found = self.all(store)?.into_iter().find(|record| record.id == id);
        found.ok_or_else(|| Self::unknown(id))
    }

    /// There is no import of an id.
    pub fn unknown(id: &str) -> ApiError {
        ApiError::new(ProblemKind::NotFound, format!("there is no import `{id}`: `fenetre imports` lists them"))
    }

    /// Lists imports, the latest first.
    pub fn all(&self, store: &Store) -> Result<Vec<ImportRecord>, ApiError> {
        let running = self.running.lock();
        let current = |record: ImportRecord| running.get(&record.id).map_or(record.clone(), |running| running.record.lock().clone());
        let ids = store.documents().names(StoredImport::KIND)?;
        let read = |id: &String| match store.documents().get::<StoredImport>(id) {
            Ok(kept) => Ok(kept.map(|kept| current(kept.body.0))),
            Err(StoreError::Record { reason, .. }) => Err(ApiError::internal(&format!(
                "the record of the import `{id}` cannot be read ({reason}): a later version wrote it, or it is damaged. Remove it with `fenetre imports forget {id}`; its points stay"
            ))),
            Err(error) => Err(error.into()),
        };
        let mut records: Vec<ImportRecord> = ids.iter().filter_map(|id| read(id).transpose()).collect::<Result<_, _>>()?;
        records.sort_by(|a, b| b.uploaded.cmp(&a.uploaded).then_with(|| b.id.cmp(&a.id)));
        Ok(records)
    }

    /// Keeps a record.
    pub fn keep(&self, store: &Store, record: &ImportRecord) -> Result<(), ApiError> {
        Ok(store.documents().put(&record.id, &StoredImport(record.clone()), record.uploaded_at())?)
    }

    /// Asks a running import to stop after the part that it is at.
    pub fn stop(&self, id: &str) -> bool {
        let running = self.running.lock();
        running.get(id).inspect(|run| run.job.lock().iter().for_each(Handle::stop)).is_some()
    }

    /// Forgets an import: its file, its rejects and its record; its points stay.
    pub fn forget(&self, store: &Store, id: &str) -> Result<(), ApiError> {
        if self.running.lock().contains_key(id) {
            return Err(ApiError::new(ProblemKind::Definition, format!("the import `{id}` is running: stop it first")));
        }
        // Its record need not be readable for that.
        if !store.documents().names(StoredImport::KIND)?.iter().any(|known| known == id) {
            self.find(store, id)?;
        }
        self.remove_files(id);
        store.documents().remove::<StoredImport>(id)?;
        Ok(())
    }

    fn remove_files(&self, id: &str) {
        for path in [self.file(id), self.rejects(id)] {
            if let Err(error) = fs::remove_file(&path)
                && error.kind() != std::io::ErrorKind::NotFound
            {
                tracing::warn!(%error, path = %path.display(), "a file of an import could not be removed");
            }
        }
    }

    /// Forgets files that nobody used for long, and records beyond the most that are kept.
    pub fn tidy(&self, store: &Store, now: Nanos) -> Result<(), ApiError> {
        let is_unused = |record: &ImportRecord| record.stage == ImportStage::Waiting && now.saturating_sub(record.uploaded_at()) > UNUSED;
        let records = self.all(store)?;
        let old = records.iter().enumerate().filter(|(at, record)| (*at >= MAX_RECORDS && record.stage != ImportStage::Running) || is_unused(record));
        for (_, record) in old {
            self.forget(store, &record.id)?;
        }
        Ok(())
    }
}
