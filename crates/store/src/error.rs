//! Errors of the store.

use std::{io, path::PathBuf};

use fenetre_core::{block::BlockError, catalogue::Catalogue, suggest::hint};

/// A failure of the store.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// A file or folder cannot be used.
    #[error("cannot {action} {}: {source}", path.display())]
    Io {
        /// What was tried.
        action: &'static str,
        /// On what.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// SQLite failed.
    #[error("cannot {action} {}: {source}", path.display())]
    Sqlite {
        /// What was tried.
        action: &'static str,
        /// On what.
        path: PathBuf,
        /// Why not.
        source: rusqlite::Error,
    },
    /// No space left on the volume.
    #[error("the disk is full: {} could not be written, and nothing of this batch was stored. Free some space and send it again", path.display())]
    Full {
        /// What could not be written.
        path: PathBuf,
    },
    /// The reserve of the volume is touched.
    #[error(
        "the volume of the store has {free_mb} MB left, and {reserve_mb} MB of it are kept free: nothing of this batch was stored. Free some space, keep less (`fenetre retention set`), or set `reserve` under [retention]"
    )]
    Reserve {
        /// Free, in megabytes.
        free_mb: u64,
        /// Kept free, in megabytes.
        reserve_mb: u64,
    },
    /// Another process has it.
    #[error("the store {} is in use by process {pid}: stop that process, or choose another store", path.display())]
    InUse {
        /// The store.
        path: PathBuf,
        /// The owner's process id, as far as it wrote it down.
        pid: String,
    },
    /// Written by a later version.
    #[error(
        "{} is of format {found}, written by a later version of Fenetre: this one, {}, knows formats up to {known}. Use that version",
        path.display(),
        env!("CARGO_PKG_VERSION")
    )]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The latest format that is known here.
        known: i64,
    },
    /// Written by an earlier version, and not to be changed.
    #[error("{} is of format {found}, this version uses format {known}. Start the service once, which updates the store, then try again", path.display())]
    OlderFormat {
        /// The file.
        path: PathBuf,
        /// Its format.
        found: i64,
        /// The format of this version.
        known: i64,
    },
    /// It lies on a file system that cannot be written.
    #[error("{} cannot be written: the file system is read-only. Make it writable, or choose another store", path.display())]
    ReadOnly {
        /// What could not be written.
        path: PathBuf,
    },
    /// Not what was written.
    #[error("{} is damaged: {what}. {}", path.display(), way_out(path))]
    Damaged {
        /// The file.
        path: PathBuf,
        /// Where and how.
        what: String,
    },
    /// There are points, and no catalogue that says what they are.
    #[error(
        "{} is missing or empty, but there are point files beside it ({}). Without the catalogue their contents are unknown, and new points would be mixed up with them. Restore the store from a backup (`fenetre restore`), keep the points and take only the catalogue from it (`fenetre storage repair --from`), or use an empty folder",
        path.display(),
        found.display()
    )]
    NoCatalogue {
        /// The catalogue.
        path: PathBuf,
        /// A file of points.
        found: PathBuf,
    },
    /// A file of points of another store.
    #[error(
        "{} belongs to another store: its series are not those of this catalogue. Run `fenetre storage repair {}` to see what can be done",
        file.display(),
        root.display()
    )]
    Foreign {
        /// The file.
        file: PathBuf,
        /// The store's directory.
        root: PathBuf,
    },
    /// Points refer to series that the catalogue never had.
    #[error(
        "{} is older than the points: {} refers to series {found}, but the catalogue has given ids only up to {known}. New series would be mixed up with old points. Put the newer catalogue back, or run `fenetre storage repair {}` to see what can be done",
        path.display(),
        file.display(),
        root.display()
    )]
    OlderCatalogue {
        /// The catalogue.
        path: PathBuf,
        /// A file of points.
        file: PathBuf,
        /// The highest id in it.
        found: u32,
        /// The highest id in the catalogue.
        known: u32,
        /// The store's directory.
        root: PathBuf,
    },
    /// A record of the catalogue that is not what was written, or that this version does not know.
    #[error(
        "{}: the record of {record} cannot be read: {reason}. Nothing was changed. If a later version of Fenetre wrote it, use that version; if it is damaged, restore the store from a backup",
        path.display()
    )]
    Record {
        /// The catalogue.
        path: PathBuf,
        /// Which record.
        record: String,
        /// What is wrong with it.
        reason: String,
    },
    /// There is no such dataset.
    #[error("there is no dataset `{name}`: {known}")]
    NoDataset {
        /// What was asked for.
        name: String,
        /// What there is.
        known: String,
    },
    /// Something else that is not there.
    #[error("{0}")]
    Missing(String),
    /// A definition that contradicts existing points.
    #[error("{0}")]
    Definition(String),
    /// More points wait to be packed than memory is allowed for them.
    #[error("the store is behind with packing: {} MB of points are waiting in memory, which is the maximum. Try again in a moment", bytes / 1_000_000)]
    Busy {
        /// Bytes of memory that points take.
        bytes: usize,
    },
    /// Points could not be packed.
    #[error(
        "points in the journal cannot be packed: {0}. They are safe and can be queried. Packing is retried every 10 s; the requested operation was not started"
    )]
    Unpacked(String),
    /// Packing took too long to wait for.
    #[error("packing is still running after {seconds} s: try again later. The requested operation was not started")]
    Packing {
        /// How long was waited.
        seconds: u64,
    },
    /// A backup that is not what it should be, or a place where one cannot go.
    #[error("{0}")]
    Backup(String),
    /// It was stopped.
    #[error("stopped before it was complete; run the same command to continue")]
    Stopped,
    /// It has stopped, or a failure made further writes unsafe.
    #[error("the store accepts no more points: {0}")]
    Closed(String),
}

/// Ways to turn a failure with its place into a [`StoreError`].
pub(crate) trait Context<T> {
    fn at(self, action: &'static str, path: impl Into<PathBuf>) -> Result<T, StoreError>;
}

impl<T> Context<T> for io::Result<T> {
    fn at(self, action: &'static str, path: impl Into<PathBuf>) -> Result<T, StoreError> {
        self.map_err(|source| match source.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => StoreError::Full { path: path.into() },
            io::ErrorKind::ReadOnlyFilesystem => StoreError::ReadOnly { path: path.into() },
            _ => StoreError::Io { action, path: path.into(), source },
        })
    }
}

impl<T> Context<T> for rusqlite::Result<T> {
    fn at(self, action: &'static str, path: impl Into<PathBuf>) -> Result<T, StoreError> {
        self.map_err(|source| match source.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DiskFull) => StoreError::Full { path: path.into() },
            // SQLite takes a file for read-only too whose header says that a later version must write it.
            Some(rusqlite::ErrorCode::ReadOnly) => {
                let path: PathBuf = path.into();
                match std::fs::File::options().append(true).open(&path) {
                    Ok(_) => {
                        StoreError::Damaged { path, what: "its header marks it as not writable, although the file system allows writing".to_owned() }
                    }
                    Err(_) => StoreError::ReadOnly { path },
                }
            }
            None if let rusqlite::Error::FromSqlConversionFailure(_, _, fault) = &source
                && let Some(RecordFault { record, reason }) = fault.downcast_ref() =>
            {
                StoreError::Record { path: path.into(), record: record.clone(), reason: reason.clone() }
            }
            Some(rusqlite::ErrorCode::NotADatabase | rusqlite::ErrorCode::DatabaseCorrupt) => {
                StoreError::Damaged { path: path.into(), what: source.to_string() }
            }
            _ => StoreError::Sqlite { action, path: path.into(), source },
        })
    }
}

/// What to do about a damaged file.
fn way_out(path: &std::path::Path) -> &'static str {
    match path.file_name().and_then(|name| name.to_str()) {
        Some("catalogue.db") => {
            "Restore the store from a backup (`fenetre restore`), or keep the points and take only the catalogue from it (`fenetre storage repair --from`). Do not move this file away: without it, the points cannot be identified"
        }
        _ if path.components().any(|part| part.as_os_str() == "rollup") => {
            "Stop the service and run `fenetre storage repair`: the windows are made again from points"
        }
        _ => "Restore the file from a backup, or stop the service and run `fenetre storage repair`: it shows first what can be saved",
    }
}

/// What is wrong with a record, on its way through SQLite's errors.
#[derive(Debug, thiserror::Error)]
#[error("the record of {record} cannot be read: {reason}")]
pub(crate) struct RecordFault {
    /// Which record.
    pub record: String,
    /// What is wrong with it.
    pub reason: String,
}

impl From<RecordFault> for rusqlite::Error {
    fn from(fault: RecordFault) -> Self {
        Self::FromSqlConversionFailure(0, rusqlite::types::Type::Text, Box::new(fault))
    }
}

impl StoreError {
    /// What is wrong with a damaged file, without its name and without advice.
    pub(crate) fn reason(&self) -> String {
        match self {
            Self::Damaged { what, .. } => what.clone(),
            other => other.to_string(),
        }
    }

    /// There is no such dataset; what there is instead.
    /// The store accepts nothing more.
    pub(crate) fn stopping() -> Self {
        Self::Closed("it is stopping, or its journal failed".to_owned())
    }

    pub(crate) fn no_dataset(catalogue: &Catalogue, name: &str) -> Self {
        Self::NoDataset { name: name.to_owned(), known: hint(name, catalogue.datasets().map(|dataset| &*dataset.name), 10) }
    }

    /// Bytes of a block that cannot be decoded.
    pub(crate) fn bad_block(path: impl Into<PathBuf>, series: u32, start: i64, error: &BlockError) -> Self {
        let start = fenetre_core::time::format_utc(start);
        Self::Damaged { path: path.into(), what: format!("the block of series {series} from {start}: {error}") }
    }
}
